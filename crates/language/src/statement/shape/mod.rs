//! The shape of a statement, also of one that is not finished: its queries, where their rows come
//! from, what they select, and which clause begins where.
//!
//! This is no parser of the language. It knows parentheses, the words that begin clauses, and what
//! may stand in a `FROM`; everything else is passed over, so that it works in the middle of a broken
//! statement and for what a server adds to the language.

use std::ops::Range;

use ropey::Rope;

use crate::dialect::Dialect;
use crate::lexer::{Lexer, TokenKind};
use crate::statement::Written;
pub use crate::statement::clause::Clause;
use crate::statement::clause::{Beginning, clause_of};
use crate::statement::definition::unquoted;

/// A token that the server reads.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Word {
    /// What it is.
    pub kind: TokenKind,
    /// Its bytes in the statement.
    pub range: Range<usize>,
    /// Its text; of a plain word in upper case.
    pub text: String,
    /// Whether it is closed, for a quote.
    pub closed: bool,
}

impl Word {
    /// Whether it is this word, given in upper case.
    pub fn is(&self, word: &str) -> bool {
        self.kind == TokenKind::Word && self.text == word
    }

    /// Whether it is one of these.
    pub fn is_one_of(&self, words: &[&str]) -> bool {
        self.kind == TokenKind::Word && words.contains(&self.text.as_str())
    }

    /// Whether it is this sign.
    pub fn sign(&self, sign: u8) -> bool {
        self.kind == TokenKind::Punctuation(sign)
    }
}

/// Cuts a text into the tokens that the server reads, from a byte on.
pub fn words(text: &str, dialect: &'static Dialect, from: usize) -> Vec<Word> {
    let rope = Rope::from_str(text);
    let tokens = Lexer::new(&rope, dialect, from).filter(|token| !token.kind.is_trivia());
    let word = |token: crate::lexer::Token| {
        let slice = text.get(token.range()).unwrap_or_default();
        let text = if token.kind == TokenKind::Word { slice.to_uppercase() } else { slice.to_owned() };
        Word { kind: token.kind, range: token.range(), text, closed: token.closed }
    };
    tokens.map(word).collect()
}

/// Where rows come from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Source {
    /// Its name in the query, if it was given one.
    pub alias: Option<Written>,
    /// Names for its columns, if they were given.
    pub columns: Vec<String>,
    /// What it is.
    pub origin: Origin,
    /// Its first token.
    pub at: usize,
    /// The token of its own name, behind those of its schema and database; its first token where it has no name.
    pub name_at: usize,
    /// The token behind it.
    pub end: usize,
}

/// What a source is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Origin {
    /// A table, a view or a common table expression: its name, with the schema and the database before it. A part that
    /// is left out between two dots (`archive..tickets`) is empty.
    Named(Vec<Written>),
    /// Another query of the statement, by its number.
    Query(usize),
    /// What a function gives.
    Function(String),
}

/// A common table expression.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cte {
    /// Its name.
    pub name: Written,
    /// Names for its columns, if they were given.
    pub columns: Vec<String>,
    /// Whether a clause behind it adds columns: `SEARCH` or `CYCLE` of the SQL standard.
    pub adds: bool,
    /// Its query.
    pub query: Option<usize>,
}

/// One query of a statement, or the statement itself.
#[derive(Debug, Clone, Default)]
pub struct Query {
    /// The query around it.
    pub around: Option<usize>,
    /// The query before it in a `UNION`, whose common table expressions it sees.
    pub before: Option<usize>,
    /// Its tokens.
    pub words: Range<usize>,
    /// Common table expressions.
    pub ctes: Vec<Cte>,
    /// Where rows come from.
    pub sources: Vec<Source>,
    /// Which clause begins at which token.
    pub clauses: Vec<(Clause, usize)>,
    /// The selected expressions: ranges of tokens.
    pub items: Vec<Range<usize>>,
    /// The number of the source that is written to.
    pub target: Option<usize>,
}

/// A statement, taken apart.
#[derive(Debug, Default)]
pub struct Shape {
    /// Its tokens.
    pub words: Vec<Word>,
    /// Its queries; the first is the whole.
    pub queries: Vec<Query>,
}

/// How deep queries may stand in each other: a hostile text must not use up the stack.
const DEEPEST: usize = 60;

impl Shape {
    /// Takes tokens apart.
    pub fn of(words: Vec<Word>) -> Shape {
        let end = words.len();
        let mut shape = Shape { words, queries: Vec::new() };
        shape.query(0..end, None, None, 0);
        shape
    }

    /// The innermost query around a place between two tokens.
    pub fn query_at(&self, at: usize) -> usize {
        let around = |query: &&(usize, &Query)| query.1.words.start <= at && at <= query.1.words.end;
        let all: Vec<_> = self.queries.iter().enumerate().collect();
        all.iter().filter(around).min_by_key(|(_, query)| query.words.len()).map_or(0, |(number, _)| *number)
    }

    /// The clause that a place between two tokens belongs to, and its first token.
    pub fn clause_at(&self, query: usize, at: usize) -> (Clause, usize) {
        let clauses = self.queries.get(query).map(|query| query.clauses.as_slice()).unwrap_or_default();
        clauses.iter().rev().find(|(_, from)| *from < at).copied().unwrap_or((Clause::Start, 0))
    }

    fn word(&self, at: usize) -> Option<&Word> {
        self.words.get(at)
    }

    pub(super) fn is(&self, at: usize, word: &str) -> bool {
        self.word(at).is_some_and(|w| w.is(word))
    }

    pub(super) fn sign(&self, at: usize, sign: u8) -> bool {
        self.word(at).is_some_and(|w| w.sign(sign))
    }

    /// The token behind the parenthesis that closes the one at `open`, or the end.
    pub fn closing(&self, open: usize, end: usize) -> usize {
        let mut depth = 0;
        for at in open..end {
            if self.sign(at, b'(') {
                depth += 1;
            } else if self.sign(at, b')') {
                depth -= 1;
                if depth == 0 {
                    return at;
                }
            }
        }
        end
    }

    /// Whether nothing stands between a token and the one before it.
    fn adjoins(&self, at: usize) -> bool {
        let ends = at.checked_sub(1).and_then(|before| self.word(before)).map(|w| w.range.end);
        ends == self.word(at).map(|w| w.range.start)
    }

    /// Whether a `WITH` is followed by the name of a common table expression, and not by words of its own.
    pub(super) fn with_begins_ctes(&self, at: usize) -> bool {
        let at = at + 1 + usize::from(self.is(at + 1, "RECURSIVE"));
        let after = if self.sign(at + 1, b'(') { self.closing(at + 1, self.words.len()) + 1 } else { at + 1 };
        self.is(after, "AS")
    }

    fn begins_query(&self, at: usize) -> bool {
        self.word(at).is_some_and(|w| w.is_one_of(&["SELECT", "WITH", "VALUES"]))
    }

    /// A name at a token, without its quotes.
    pub fn name_at(&self, at: usize) -> Option<Written> {
        let word = self.word(at)?;
        match word.kind {
            TokenKind::Word => Some(Written { text: word.text.to_lowercase(), quoted: false }),
            TokenKind::QuotedName => Some(Written { text: unquoted(&word.text), quoted: true }),
            _ => None,
        }
    }

    /// The name that begins at a token with what it lies in, from the outermost, and the token behind it. A part that
    /// is left out between two dots is empty.
    pub fn path_from(&self, mut at: usize) -> (Vec<Written>, usize) {
        let mut path = Vec::new();
        while let Some(name) = self.name_at(at) {
            path.push(name);
            at += 1;
            if !self.sign(at, b'.') {
                break;
            }
            at += 1;
            while self.sign(at, b'.') {
                path.push(Written::plain(""));
                at += 1;
            }
        }
        (path, at)
    }

    /// What stands with dots before the name at a token, from the outermost, and where that begins.
    pub fn path_before(&self, at: usize) -> (Vec<Written>, usize) {
        let (mut path, mut begins) = (Vec::new(), at);
        while begins >= 2 && self.sign(begins - 1, b'.') {
            // Of two dots the part between is left out.
            let left_out = self.sign(begins - 2, b'.');
            let back = if left_out { 1 } else { 2 };
            let Some(name) = (if left_out { Some(Written::plain("")) } else { self.name_at(begins - 2) }) else {
                break;
            };
            path.insert(0, name);
            begins -= back;
        }
        (path, begins)
    }

    /// Takes the tokens of a range apart as a query. Returns its number.
    fn query(&mut self, words: Range<usize>, around: Option<usize>, before: Option<usize>, depth: usize) -> usize {
        let number = self.queries.len();
        self.queries.push(Query { around, before, words: words.clone(), ..Query::default() });
        let mut at = words.start;
        if depth > DEEPEST {
            return number;
        }
        let mut clause = Clause::Start;
        while at < words.end {
            let Some(word) = self.word(at) else { break };
            if word.sign(b'(') {
                at = self.parenthesis(at, words.end, number, depth);
                continue;
            }
            // `from a join b on a.x = b.x, c`: the condition ends at the comma.
            if word.sign(b',') && matches!(clause, Clause::On | Clause::Using) {
                clause = Clause::From;
                if let Some(query) = self.queries.get_mut(number) {
                    query.clauses.push((clause, at));
                }
                at = self.sources(at + 1, words.end, number, clause, depth);
                continue;
            }
            if word.kind != TokenKind::Word {
                at += 1;
                continue;
            }
            // `p.` that is still being written, with the next clause behind it, is no name.
            let after_dot = at > words.start && self.sign(at - 1, b'.') && self.adjoins(at);
            let next = if after_dot { None } else { clause_of(&word.text, clause, self, at) };
            match next {
                Some(Beginning::SetOperation) => {
                    let mut from = at + 1;
                    while self.word(from).is_some_and(|w| w.is_one_of(&["ALL", "DISTINCT"])) {
                        from += 1;
                    }
                    if let Some(query) = self.queries.get_mut(number) {
                        query.words.end = at;
                    }
                    self.query(from..words.end, around, Some(number), depth + 1);
                    self.items(number);
                    return number;
                }
                Some(Beginning::Clause(begun)) => {
                    // The main word after WITH or EXPLAIN begins anew; what came before stays known.
                    clause = begun;
                    if let Some(query) = self.queries.get_mut(number) {
                        query.clauses.push((begun, at));
                    }
                    at += 1;
                    at = match begun {
                        Clause::With => self.ctes(at, words.end, number, depth),
                        Clause::From | Clause::Target => self.sources(at, words.end, number, begun, depth),
                        _ => at,
                    };
                }
                None => at += 1,
            }
        }
        self.items(number);
        number
    }

    /// What stands in parentheses: a query of its own, or something that may hold some.
    fn parenthesis(&mut self, open: usize, end: usize, number: usize, depth: usize) -> usize {
        let close = self.closing(open, end);
        // `((select …) union select …)` is one as well.
        let first = (open + 1..close).find(|at| !self.sign(*at, b'('));
        if self.begins_query(open + 1) || (depth <= DEEPEST && first.is_some_and(|at| self.begins_query(at))) {
            self.query(open + 1..close, Some(number), None, depth + 1);
        } else {
            let mut at = open + 1;
            while at < close && depth <= DEEPEST {
                at = if self.sign(at, b'(') { self.parenthesis(at, close, number, depth + 1) } else { at + 1 };
            }
        }
        (close + 1).min(end)
    }

    fn ctes(&mut self, mut at: usize, end: usize, number: usize, depth: usize) -> usize {
        if self.is(at, "RECURSIVE") {
            at += 1;
        }
        while let Some(name) = self.name_at(at).filter(|_| at < end && !self.begins_query(at)) {
            at += 1;
            let mut columns = Vec::new();
            if self.sign(at, b'(') {
                let close = self.closing(at, end);
                columns = self.names(at + 1..close);
                at = (close + 1).min(end);
            }
            if !self.is(at, "AS") {
                break;
            }
            at += 1;
            while self.word(at).is_some_and(|w| w.is_one_of(&["NOT", "MATERIALIZED"])) {
                at += 1;
            }
            // Known before its query is read: it may be recursive.
            let cte = self.queries.get(number).map_or(0, |query| query.ctes.len());
            let behind = self.closing(at, end) + 1;
            let adds = self.sign(at, b'(') && self.word(behind).is_some_and(|w| w.is_one_of(&["SEARCH", "CYCLE"]));
            if let Some(query) = self.queries.get_mut(number) {
                query.ctes.push(Cte { name, columns, adds, query: None });
            }
            if !self.sign(at, b'(') {
                break;
            }
            let close = self.closing(at, end);
            let inner = self.query(at + 1..close, Some(number), None, depth + 1);
            if let Some(cte) = self.queries.get_mut(number).and_then(|query| query.ctes.get_mut(cte)) {
                cte.query = Some(inner);
            }
            at = (close + 1).min(end);
            // `search … set a`, `cycle a, b set c to d default e using f`: a name comes last.
            for (clause, last) in [("SEARCH", "SET"), ("CYCLE", "USING")] {
                if self.is(at, clause) {
                    at = (at..end).find(|at| self.is(*at, last)).map_or(end, |at| (at + 2).min(end));
                }
            }
            if !self.sign(at, b',') {
                break;
            }
            at += 1;
        }
        at
    }

    fn names(&self, range: Range<usize>) -> Vec<String> {
        range.filter_map(|at| self.name_at(at)).map(|name| name.text).collect()
    }

    /// The sources after `FROM`, `JOIN`, a comma, `UPDATE` or `INTO`.
    fn sources(&mut self, mut at: usize, end: usize, number: usize, clause: Clause, depth: usize) -> usize {
        loop {
            while self.word(at).is_some_and(|w| w.is_one_of(&["ONLY", "LATERAL", "TABLE", "LOW_PRIORITY", "IGNORE"])) {
                at += 1;
            }
            let first = at;
            let mut name_at = first;
            let rows_from = self.is(at, "ROWS") && self.is(at + 1, "FROM") && self.sign(at + 2, b'(');
            let origin = if rows_from {
                at = self.parenthesis(at + 2, end, number, depth);
                Origin::Function(String::new())
            } else if self.sign(at, b'(') {
                let close = self.closing(at, end);
                if self.begins_query(at + 1) {
                    let inner = self.query(at + 1..close, Some(number), None, depth + 1);
                    at = (close + 1).min(end);
                    Origin::Query(inner)
                } else {
                    // Joins in parentheses: their sources are ours.
                    if depth <= DEEPEST {
                        self.sources_within(at + 1, close, number, depth + 1);
                    }
                    at = (close + 1).min(end);
                    let named = at + usize::from(self.is(at, "AS"));
                    if named >= end || self.ends_sources(named) || self.name_at(named).is_none() {
                        return at;
                    }
                    // With a name of its own it is one table, of which nothing is known.
                    Origin::Function(String::new())
                }
            } else {
                let Some(name) = self.name_at(at).filter(|_| at < end && !self.ends_sources(at)) else { return at };
                let mut path = vec![name];
                at += 1;
                while self.sign(at, b'.') && at < end {
                    at += 1;
                    if self.sign(at, b'.') && self.adjoins(at) {
                        path.push(Written::plain(""));
                        continue;
                    }
                    let Some(name) =
                        self.name_at(at).filter(|_| at < end && (self.adjoins(at) || !self.ends_sources(at)))
                    else {
                        break;
                    };
                    path.push(name);
                    name_at = at;
                    at += 1;
                }
                if self.sign(at, b'(') && clause != Clause::Target && at < end {
                    at = self.parenthesis(at, end, number, depth);
                    Origin::Function(path.last().map(|name| name.text.clone()).unwrap_or_default())
                } else {
                    Origin::Named(path)
                }
            };
            // Some of its partitions.
            if self.is(at, "PARTITION") && self.sign(at + 1, b'(') && at < end {
                at = (self.closing(at + 1, end) + 1).min(end);
            }
            let mut source = Source { alias: None, columns: Vec::new(), origin, at: first, name_at, end: at };
            let said_as = self.is(at, "AS");
            let alias = at + usize::from(said_as);
            if alias < end && !self.ends_sources(alias) {
                source.alias = self.name_at(alias);
            }
            if source.alias.is_some() {
                at = alias + 1;
                if self.sign(at, b'(') && clause != Clause::Target && at < end {
                    let close = self.closing(at, end);
                    source.columns = self.names(at + 1..close);
                    at = (close + 1).min(end);
                }
            } else if said_as {
                at = alias;
            }
            source.end = at;
            if let Some(query) = self.queries.get_mut(number) {
                if clause == Clause::Target {
                    query.target = Some(query.sources.len());
                }
                query.sources.push(source);
            }
            if !(self.sign(at, b',') && at < end && clause == Clause::From) {
                return at;
            }
            at += 1;
        }
    }

    fn sources_within(&mut self, mut at: usize, end: usize, number: usize, depth: usize) {
        at = self.sources(at, end, number, Clause::From, depth);
        while at < end {
            at = if self.is(at, "JOIN") { self.sources(at + 1, end, number, Clause::From, depth) } else { at + 1 };
        }
    }

    /// Whether a word cannot be an alias, or a table, since it goes on with the statement.
    fn ends_sources(&self, at: usize) -> bool {
        const ON: &[&str] = &[
            "JOIN",
            "INNER",
            "LEFT",
            "RIGHT",
            "FULL",
            "CROSS",
            "NATURAL",
            "STRAIGHT_JOIN",
            "ON",
            "USING",
            "WHERE",
            "GROUP",
            "HAVING",
            "ORDER",
            "LIMIT",
            "OFFSET",
            "FETCH",
            "WINDOW",
            "UNION",
            "EXCEPT",
            "INTERSECT",
            "SET",
            "VALUES",
            "SELECT",
            "RETURNING",
            "FOR",
            "DEFAULT",
            "OUTER",
            "INDEXED",
            "NOT",
            "TABLESAMPLE",
            "USE",
            "FORCE",
            "FROM",
            "INTO",
            "WHEN",
            "AS",
            "WITH",
            "DO",
        ];
        self.word(at).is_some_and(|w| w.is_one_of(ON))
    }

    /// Finds the selected expressions of a query.
    fn items(&mut self, number: usize) {
        let Some(query) = self.queries.get(number) else { return };
        let mut items = Vec::new();
        for (position, (clause, from)) in query.clauses.iter().enumerate() {
            if !matches!(clause, Clause::Select | Clause::Returning) {
                continue;
            }
            let end = query.clauses.get(position + 1).map_or(query.words.end, |(_, next)| *next);
            let mut start = from + 1;
            while self.word(start).is_some_and(|w| w.is_one_of(&["DISTINCT", "ALL", "SQL_CALC_FOUND_ROWS"])) {
                start += 1;
            }
            let mut depth = 0_usize;
            let first = start;
            for at in first..end {
                if self.sign(at, b'(') {
                    depth += 1;
                } else if self.sign(at, b')') {
                    depth = depth.saturating_sub(1);
                } else if self.sign(at, b',') && depth == 0 {
                    items.push(start..at);
                    start = at + 1;
                }
            }
            if start < end {
                items.push(start..end);
            }
        }
        if let Some(query) = self.queries.get_mut(number) {
            query.items = items;
        }
    }
}

#[cfg(test)]
mod tests;
