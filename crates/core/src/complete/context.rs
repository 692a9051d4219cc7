//! The text and the cursor, looked at once: what is being typed, in which clause of which query,
//! and what can stand there. Every completer is a short function of this.

use std::ops::Range;

pub use super::place::{Place, expects_operand};
use super::scope::{Scope, VisibleSource};
use super::snippets::Snippet;
use jaunty_language::dialect::Dialect;
use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::Written;
use jaunty_language::statement::shape::{Clause, Shape, Word, words};
use jaunty_seam::catalog::Catalog;

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
        let (qualifier, begins) = shape.path_before(at);
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
        Scope::new(&self.shape, self.around.catalog, self.around.dialect)
    }

    /// What can be seen from the cursor.
    pub fn visible(&self) -> Vec<VisibleSource> {
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

    /// The path of the table that a definition is about, or that is written to.
    pub fn table_in_hand(&self) -> Option<Vec<Written>> {
        let query = self.shape.queries.get(self.query)?;
        if let Some(source) = query.target.and_then(|target| query.sources.get(target))
            && let jaunty_language::statement::shape::Origin::Named(path) = &source.origin
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
        let (path, _) = self.shape.path_from(at);
        (!path.is_empty()).then_some(path)
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
    let last = jaunty_language::lexer::Lexer::new(&rope, dialect, 0).last();
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
