//! The text and the cursor, looked at once: what is being typed, in which clause of which query,
//! and what can stand there. Every completer is a short function of this.

use std::ops::Range;

use super::parse::{Clause, Shape, Word, words};
use super::scope::{Scope, Sighted};
use super::snippets::Snippet;
use crate::catalog::{Catalog, Written};
use crate::text::dialect::Dialect;
use crate::text::lexer::TokenKind;

/// What is known of the surroundings of a statement.
#[derive(Clone, Copy)]
pub struct Surroundings<'a> {
    /// What the database holds; an empty one where that is not known.
    pub catalog: &'a Catalog,
    /// The dialect.
    pub dialect: &'static Dialect,
    /// Snippets that a person may use.
    pub snippets: &'a [Snippet],
    /// The text around the statement, for names and values that were written before.
    pub nearby: &'a str,
}

/// What can stand at the cursor.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// A statement begins.
    Start,
    /// A table, a view, or another source of rows.
    Source,
    /// Behind a source: its other name, a join, the next clause.
    AfterSource,
    /// An expression.
    Operand,
    /// Behind an expression: an operator, or the next clause.
    AfterOperand,
    /// One of the columns of the table that is written to, or that a rule is about.
    Column,
    /// Behind the table of an `INSERT`.
    AfterTarget,
    /// A type.
    Type,
    /// A word of a definition.
    Definition,
    /// A procedure.
    Procedure,
    /// A text in quotes that is being written.
    Text,
    /// A name of a person's own: a new table, an alias.
    NewName,
    /// Nothing to be helped with: a comment, a number.
    Nothing,
}

/// A cursor in a statement.
pub struct Context<'a> {
    /// What is around.
    pub around: Surroundings<'a>,
    /// What has been typed of the word at the cursor, without quotes.
    pub typed: String,
    /// Whether it stands in quotes of a name.
    pub quoted: bool,
    /// The bytes that a proposal takes the place of.
    pub replace: Range<usize>,
    /// The names and dots before it: `ops.berths.`.
    pub qualifier: Vec<Written>,
    /// The statement, without the word at the cursor.
    pub shape: Shape,
    /// The token that stands for the word at the cursor.
    pub at: usize,
    /// The token behind which the word at the cursor, with its qualifier, begins.
    pub begins: usize,
    /// The query that the cursor stands in.
    pub query: usize,
    /// Its clause, and where that begins.
    pub clause: (Clause, usize),
    /// The innermost parenthesis around the cursor within the query.
    pub open: Option<usize>,
    /// What can stand there.
    pub place: Place,
    /// Whether a letter of a keyword in the statement is a capital, as it is written so far.
    pub capitals: bool,
}

/// The furthest that a statement is looked at, from the cursor.
const FURTHEST: usize = 128 << 10;

impl<'a> Context<'a> {
    /// Looks at a statement with the cursor at a byte.
    pub fn of(text: &str, cursor: usize, around: Surroundings<'a>) -> Context<'a> {
        let dialect = around.dialect;
        let (head, tail) = text.split_at_checked(cursor).unwrap_or((text, ""));
        let tail = tail.get(..floor(tail, FURTHEST)).unwrap_or(tail);
        let mut before = words(head, dialect, 0);
        let comment = ends_in_comment(head, dialect);
        let mut typed = String::new();
        let (mut quoted, mut replace) = (false, cursor..cursor);
        let (mut in_text, mut nothing) = (false, comment);
        if let Some(last) = before.last().filter(|last| last.range.end == cursor && !comment) {
            match last.kind {
                TokenKind::Word => {
                    typed = head.get(last.range.clone()).unwrap_or_default().to_owned();
                    replace = last.range.start..cursor + word_end(tail);
                }
                TokenKind::QuotedName if !last.closed => {
                    typed = last.text.get(1..).unwrap_or_default().to_owned();
                    quoted = true;
                    replace = last.range.start..cursor + quote_end(tail, &last.text);
                }
                TokenKind::Text if !last.closed => {
                    let open = last.text.find('\'').map_or(0, |at| at + 1);
                    typed = last.text.get(open..).unwrap_or_default().to_owned();
                    in_text = true;
                    replace = last.range.start..cursor + quote_end(tail, "'");
                }
                TokenKind::Number | TokenKind::Parameter | TokenKind::Binary | TokenKind::Code => nothing = true,
                TokenKind::Text if last.closed => nothing = true,
                _ => {}
            }
        }
        if replace.start < cursor {
            before.pop();
        }
        let at = before.len();
        let rest = tail.get(replace.end - cursor..).unwrap_or_default();
        let behind = words(rest, dialect, 0)
            .into_iter()
            .map(|word| Word { range: word.range.start + replace.end..word.range.end + replace.end, ..word });
        // A name that is not there yet: what is around is read as it will be.
        let hole = Word { kind: TokenKind::QuotedName, range: replace.clone(), text: "\"\"".into(), closed: true };
        before.push(hole);
        before.extend(behind);
        let capitals =
            capitals(&before, text, dialect) || (typed.len() > 1 && typed.bytes().all(|b| b.is_ascii_uppercase()));
        let mut shape = Shape::of(before);
        let mut qualifier = Vec::new();
        let mut begins = at;
        while begins >= 2 && shape.words.get(begins - 1).is_some_and(|w| w.sign(b'.')) {
            let Some(name) = shape.name_at(begins - 2) else { break };
            qualifier.insert(0, name);
            begins -= 2;
        }
        for query in &mut shape.queries {
            let before = query.target.and_then(|target| query.sources.get(target)).map(|source| source.at);
            query.sources.retain(|source| source.at != begins);
            // Numbers have changed if one went away.
            query.target = before.and_then(|at| query.sources.iter().position(|source| source.at == at));
            for source in &mut query.sources {
                if source.alias.as_ref().is_some_and(|alias| alias.text.is_empty()) {
                    (source.alias, source.end) = (None, source.end.min(begins));
                }
            }
        }
        let query = shape.query_at(at);
        let clause = shape.clause_at(query, begins);
        let from = shape.queries.get(query).map_or(0, |query| query.words.start);
        let open = innermost(&shape, from, begins);
        let mut context = Context {
            around,
            typed,
            quoted,
            replace,
            qualifier,
            shape,
            at,
            begins,
            query,
            clause,
            open,
            place: Place::Nothing,
            capitals,
        };
        context.place = match (nothing, in_text) {
            (true, _) => Place::Nothing,
            (_, true) => Place::Text,
            _ => context.find_place(),
        };
        context
    }

    /// The scope of the statement.
    pub fn scope(&self) -> Scope<'_> {
        Scope { shape: &self.shape, catalog: self.around.catalog, dialect: self.around.dialect }
    }

    /// What can be seen from the cursor.
    pub fn visible(&self) -> Vec<Sighted> {
        self.scope().visible(self.query, self.clause.0)
    }

    /// A token counted back from the word at the cursor, from 1.
    pub fn back(&self, by: usize) -> Option<&Word> {
        self.begins.checked_sub(by).and_then(|at| self.shape.words.get(at))
    }

    /// The token behind the cursor.
    pub fn next(&self) -> Option<&Word> {
        self.shape.words.get(self.at + 1)
    }

    fn find_place(&self) -> Place {
        let Some(previous) = self.back(1) else { return Place::Start };
        let first = self.shape.queries.get(self.query).map_or(0, |query| query.words.start);
        let (clause, from) = self.clause;
        if self.begins == first {
            // At the beginning of a query in parentheses.
            return if self.begins == 0 || previous.sign(b';') { Place::Start } else { Place::Operand };
        }
        let in_list = self.open.is_some_and(|open| open > from);
        let lists = previous.sign(b'(') || previous.sign(b',');
        match clause {
            Clause::Start if previous.is_one_of(self.around.dialect.prefixes) => Place::Start,
            Clause::Start | Clause::Other => Place::Definition,
            Clause::With if previous.is("AS") || previous.sign(b')') => Place::AfterTarget,
            Clause::With => Place::NewName,
            Clause::From if !in_list => {
                if previous.sign(b',')
                    || previous.is_one_of(&["FROM", "JOIN", "STRAIGHT_JOIN", "LATERAL", "ONLY", "USING"])
                {
                    Place::Source
                } else if previous.is("AS") {
                    Place::NewName
                } else {
                    Place::AfterSource
                }
            }
            Clause::Target if !in_list => {
                let opens = previous.is_one_of(&["INTO", "UPDATE", "FROM", "TABLE", "ONLY", "IGNORE"]);
                if opens { Place::Source } else { Place::AfterTarget }
            }
            // The list of columns behind the table.
            Clause::Target => {
                if lists {
                    Place::Column
                } else {
                    Place::AfterOperand
                }
            }
            Clause::Using if in_list => Place::Column,
            Clause::Conflict if in_list && lists => Place::Column,
            Clause::Set if previous.is("SET") || (previous.sign(b',') && !in_list) => Place::Column,
            Clause::Define => self.place_in_definition(previous),
            Clause::Call if !in_list && (previous.is_one_of(&["CALL", "EXEC", "EXECUTE"])) => Place::Procedure,
            _ if self.is_cast(previous) => Place::Type,
            Clause::Select | Clause::Returning if previous.is("AS") => Place::NewName,
            Clause::Conflict if previous.is("UPDATE") || (previous.sign(b',') && !in_list) => Place::Column,
            _ if expects_operand(previous, self.back(2), self.around.dialect) => Place::Operand,
            _ => Place::AfterOperand,
        }
    }

    /// Whether a type follows: behind `::`, and behind `AS` in a cast.
    fn is_cast(&self, previous: &Word) -> bool {
        let cast = |open: usize| {
            open.checked_sub(1)
                .and_then(|at| self.shape.words.get(at))
                .is_some_and(|w| w.is_one_of(&["CAST", "TRY_CAST"]))
        };
        (previous.sign(b':') && self.back(2).is_some_and(|w| w.sign(b':')))
            || (previous.is("AS") && self.open.is_some_and(cast))
    }

    fn place_in_definition(&self, previous: &Word) -> Place {
        const OBJECTS: &[&str] = &[
            "TABLE",
            "VIEW",
            "REFERENCES",
            "TRUNCATE",
            "ANALYZE",
            "VACUUM",
            "DESCRIBE",
            "DESC",
            "REINDEX",
            "LIKE",
            "CLUSTER",
        ];
        let creates = self.shape.words.first().is_some_and(|w| w.is("CREATE"));
        let table = self.shape.words.iter().take(5).any(|w| w.is("TABLE"));
        if previous.is_one_of(OBJECTS) {
            return if creates && previous.is_one_of(&["TABLE", "VIEW"]) { Place::NewName } else { Place::Source };
        }
        let makes = |word: &str| self.shape.words.iter().take(4).any(|w| w.is(word));
        if previous.is("ON") && (makes("INDEX") || makes("TRIGGER") || makes("GRANT") || makes("REVOKE")) {
            return Place::Source;
        }
        if previous.is("EXISTS") && !creates {
            return Place::Source;
        }
        if previous.is("COLUMN") && self.shape.words.first().is_some_and(|w| w.is("COMMENT")) {
            return Place::Source;
        }
        let open = self.open;
        let before_open =
            |by: usize| open.and_then(|open| open.checked_sub(by)).and_then(|at| self.shape.words.get(at));
        let lists = previous.sign(b'(') || previous.sign(b',');
        if open.is_some() {
            let keys = before_open(1).is_some_and(|w| w.is_one_of(&["KEY", "UNIQUE", "INDEX", "INCLUDE"]));
            let references = before_open(2).is_some_and(|w| w.is("REFERENCES"));
            let index = makes("INDEX") && !table;
            if lists && (keys || references || index) {
                return Place::Column;
            }
            if before_open(1).is_some_and(|w| w.is("CHECK")) || index {
                return if expects_operand(previous, self.back(2), self.around.dialect) {
                    Place::Operand
                } else {
                    Place::AfterOperand
                };
            }
            if creates && table {
                let named = self.back(2).is_none_or(|w| w.sign(b'(') || w.sign(b','));
                return match (lists, named && previous.kind != TokenKind::Punctuation(b')')) {
                    (true, _) => Place::NewName,
                    (_, true) => Place::Type,
                    _ => Place::Definition,
                };
            }
        }
        let alters = self.shape.words.first().is_some_and(|w| w.is("ALTER"));
        if alters && previous.is_one_of(&["COLUMN", "RENAME"]) {
            let adds = self.back(2).is_some_and(|w| w.is("ADD"));
            return if adds { Place::NewName } else { Place::Column };
        }
        if alters && previous.is("TYPE") {
            return Place::Type;
        }
        if alters && self.back(2).is_some_and(|w| w.is_one_of(&["COLUMN", "ADD"])) && !previous.is("COLUMN") {
            return if self.back(2).is_some_and(|w| w.is("ADD")) || self.back(3).is_some_and(|w| w.is("ADD")) {
                Place::Type
            } else {
                Place::Definition
            };
        }
        Place::Definition
    }

    /// The path of the table that a definition is about, or that is written to.
    pub fn table_in_hand(&self) -> Option<Vec<Written>> {
        let query = self.shape.queries.get(self.query)?;
        if let Some(source) = query.target.and_then(|target| query.sources.get(target))
            && let super::parse::Origin::Named(path) = &source.origin
        {
            return Some(path.clone());
        }
        // Behind REFERENCES, ON or TABLE, the nearest before the cursor.
        let mark = |w: &Word| w.is_one_of(&["REFERENCES", "ON", "TABLE", "COLUMN"]);
        let mut at = (0..self.begins).rev().find(|at| self.shape.words.get(*at).is_some_and(mark))?;
        if self.shape.words.get(at).is_some_and(|w| w.is("COLUMN")) {
            at = (0..at).rev().find(|at| self.shape.words.get(*at).is_some_and(|w| w.is("TABLE")))?;
        }
        at += 1;
        while self.shape.words.get(at).is_some_and(|w| w.is_one_of(&["IF", "NOT", "EXISTS", "ONLY"])) {
            at += 1;
        }
        let mut path = vec![self.shape.name_at(at)?];
        while self.shape.words.get(at + 1).is_some_and(|w| w.sign(b'.')) {
            at += 2;
            path.push(self.shape.name_at(at)?);
        }
        Some(path)
    }
}

fn floor(text: &str, most: usize) -> usize {
    if text.len() <= most {
        return text.len();
    }
    (0..=most).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0)
}

/// How many bytes of the word at the cursor stand behind it.
fn word_end(tail: &str) -> usize {
    tail.find(|c: char| !(c.is_alphanumeric() || c == '_' || c == '$')).unwrap_or(tail.len())
}

/// How many bytes behind the cursor belong to a quote that is open there: up to the quote that
/// closes it, if that stands before the next blank.
fn quote_end(tail: &str, opened: &str) -> usize {
    let close = match opened.chars().next() {
        Some('[') => ']',
        Some(quote) => quote,
        None => return 0,
    };
    let end = tail.find(|c: char| c == close || c.is_whitespace() || matches!(c, ',' | ')' | ';'));
    match end {
        Some(end) if tail.get(end..).is_some_and(|rest| rest.starts_with(close)) => end + close.len_utf8(),
        _ => 0,
    }
}

fn ends_in_comment(head: &str, dialect: &'static Dialect) -> bool {
    let rope = ropey::Rope::from_str(head);
    let last = crate::text::lexer::Lexer::new(&rope, dialect, 0).last();
    last.is_some_and(|last| {
        let line = !head.get(last.range()).unwrap_or_default().starts_with("/*");
        last.kind == TokenKind::Comment && (line || !last.closed)
    })
}

/// Whether keywords are written in capitals so far.
fn capitals(words: &[Word], text: &str, dialect: &Dialect) -> bool {
    let keywords = words.iter().filter(|w| w.kind == TokenKind::Word && dialect.is_keyword(&w.text));
    let mut count = 0_i32;
    for word in keywords.take(40) {
        let written = text.get(word.range.clone()).unwrap_or_default();
        count += if written.bytes().any(|b| b.is_ascii_lowercase()) { -1 } else { 1 };
    }
    count > 0
}

/// The innermost parenthesis that is open at a place.
fn innermost(shape: &Shape, from: usize, at: usize) -> Option<usize> {
    let mut open = Vec::new();
    for position in from..at {
        match shape.words.get(position) {
            Some(word) if word.sign(b'(') => open.push(position),
            Some(word) if word.sign(b')') => {
                open.pop();
            }
            _ => {}
        }
    }
    open.pop()
}

/// Words behind which an expression begins.
const BEFORE_OPERANDS: &[&str] = &[
    "SELECT",
    "DISTINCT",
    "ALL",
    "WHERE",
    "AND",
    "OR",
    "XOR",
    "NOT",
    "ON",
    "BY",
    "HAVING",
    "WHEN",
    "THEN",
    "ELSE",
    "CASE",
    "IN",
    "LIKE",
    "ILIKE",
    "BETWEEN",
    "RETURNING",
    "LIMIT",
    "OFFSET",
    "SIMILAR",
    "REGEXP",
    "RLIKE",
    "GLOB",
    "MATCH",
    "DIV",
    "MOD",
    "ANY",
    "SOME",
    "EXISTS",
    "VALUES",
    "FROM",
    "IS",
    "ESCAPE",
    "COLLATE",
    "CALL",
    "SET",
    "OVER",
    "FILTER",
    "USING",
    "INTERVAL",
];

/// Whether an expression begins behind a token.
pub fn expects_operand(previous: &Word, before: Option<&Word>, dialect: &Dialect) -> bool {
    match previous.kind {
        TokenKind::Punctuation(b')' | b']') => false,
        // A star is an operand where one could stand, and else a sign between two.
        TokenKind::Punctuation(b'*') => before.is_some_and(|before| {
            !(before.sign(b'(') || before.sign(b',') || before.sign(b'.') || before.is_one_of(BEFORE_OPERANDS))
        }),
        TokenKind::Punctuation(_) => true,
        TokenKind::Word => {
            let dotted = before.is_some_and(|before| before.sign(b'.') && before.range.end == previous.range.start);
            !dotted && previous.is_one_of(BEFORE_OPERANDS) && dialect.is_keyword(&previous.text)
        }
        _ => false,
    }
}
