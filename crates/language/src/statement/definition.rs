//! What stands in a statement that makes something, for servers that keep the statement and tell
//! no more.

use std::ops::Range;

use ropey::Rope;

use super::shape::{Word, words};
use crate::dialect::Dialect;
use crate::lexer::{Bytes, Lexer, Token, TokenKind};

/// What a table's definition says beside its columns' types.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Table {
    /// Checks: their name, which may be empty, and the expression.
    pub checks: Vec<(String, String)>,
    /// Columns that are computed, and from what.
    pub generated: Vec<(String, String)>,
}

/// Reads a `CREATE TABLE`.
pub fn of_table(text: &str, dialect: &'static Dialect) -> Table {
    let rope = Rope::from_str(text);
    let tokens: Vec<_> = Lexer::new(&rope, dialect, 0).filter(|token| !token.kind.is_trivia()).collect();
    let mut bytes = Bytes::new(&rope);
    let mut table = Table::default();
    let mut depth = 0;
    let (mut column, mut begins) = (String::new(), false);
    let mut at = 0;
    while let Some(token) = tokens.get(at) {
        match token.kind {
            TokenKind::Punctuation(b'(') => {
                depth += 1;
                begins = depth == 1;
                at += 1;
                continue;
            }
            TokenKind::Punctuation(b')') => depth -= 1,
            TokenKind::Punctuation(b',') if depth == 1 => {
                begins = true;
                at += 1;
                continue;
            }
            TokenKind::Word | TokenKind::QuotedName if depth == 1 => {
                let opens = tokens.get(at + 1).is_some_and(|next| next.kind == TokenKind::Punctuation(b'('));
                if bytes.is_word(token, "CHECK") && opens {
                    let (inside, end) = within(&tokens, at + 1);
                    table.checks.push((name_before(&rope, &tokens, at), text.get(inside).unwrap_or_default().into()));
                    at = end;
                    begins = false;
                    continue;
                }
                if bytes.is_word(token, "AS") && opens {
                    let (inside, end) = within(&tokens, at + 1);
                    table.generated.push((column.clone(), text.get(inside).unwrap_or_default().into()));
                    at = end;
                    continue;
                }
                if begins {
                    column = unquoted(&rope.byte_slice(token.range()).to_string());
                }
            }
            _ => {}
        }
        begins = false;
        at += 1;
    }
    table
}

/// What a part of a table's definition is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum PartKind {
    /// A column.
    Column,
    /// The primary key.
    Primary,
    /// What keeps rows different.
    Unique,
    /// A reference to another table.
    Reference,
    /// A check.
    Check,
    /// An index.
    Index,
}

/// A part of a table's definition, between two commas.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TablePart {
    /// What it is about.
    pub kind: PartKind,
    /// The name that it has there, not quoted; may be empty.
    pub name: String,
    /// All of it.
    pub text: String,
    /// Where what follows its name begins, in bytes of the text.
    pub after_name: usize,
}

/// The parts of a `CREATE TABLE`, the bytes of its name, and what follows its parts; none where there are no parts, as in
/// one that takes them from elsewhere.
pub fn parts_of_table(text: &str, dialect: &'static Dialect) -> Option<(Vec<TablePart>, Range<usize>, String)> {
    let all = words(text, dialect, 0);
    let mut at = all.iter().position(|word| word.is("TABLE"))? + 1;
    while all.get(at).is_some_and(|word| word.is_one_of(&["IF", "NOT", "EXISTS"])) {
        at += 1;
    }
    // The name, with what it is in.
    let mut name = all.get(at)?.range.clone();
    at += 1;
    while all.get(at).is_some_and(|word| word.sign(b'.')) {
        name.end = all.get(at + 1)?.range.end;
        at += 2;
    }
    if !all.get(at)?.sign(b'(') {
        return None;
    }
    let (mut parts, mut depth, mut from) = (Vec::new(), 0, at + 1);
    for (place, word) in all.iter().enumerate().skip(at) {
        match word.kind {
            TokenKind::Punctuation(b'(') => depth += 1,
            TokenKind::Punctuation(b')') => depth -= 1,
            _ => {}
        }
        let is_end = depth == 0;
        if is_end || depth == 1 && word.sign(b',') {
            parts.extend(all.get(from..place).filter(|words| !words.is_empty()).map(|words| part_of(text, words)));
            from = place + 1;
        }
        if is_end {
            let tail = text.get(word.range.end..).unwrap_or_default().trim().to_owned();
            return Some((parts, name, tail));
        }
    }
    None
}

fn part_of(text: &str, words: &[Word]) -> TablePart {
    let range = words.first().map_or(0, |word| word.range.start)..words.last().map_or(0, |word| word.range.end);
    let (mut at, mut name) = (0, String::new());
    if words.first().is_some_and(|word| word.is("CONSTRAINT")) {
        // One without a name is written so, too.
        let named = words.get(1).filter(|word| !word.is_one_of(&["PRIMARY", "UNIQUE", "FOREIGN", "CHECK"]));
        name = named.map(|word| unquoted(text.get(word.range.clone()).unwrap_or_default())).unwrap_or_default();
        at = if named.is_some() { 2 } else { 1 };
    }
    let of_rule = |word: &Word| {
        Some(match word.text.as_str() {
            _ if word.kind != TokenKind::Word => return None,
            "PRIMARY" => PartKind::Primary,
            "UNIQUE" | "EXCLUDE" => PartKind::Unique,
            "FOREIGN" => PartKind::Reference,
            "CHECK" => PartKind::Check,
            "KEY" | "INDEX" | "FULLTEXT" | "SPATIAL" => PartKind::Index,
            _ => return None,
        })
    };
    let kind = words.get(at).and_then(of_rule).unwrap_or(PartKind::Column);
    let after = |at: usize| words.get(at).map_or(range.end, |word| word.range.start) - range.start;
    let after_name = match kind {
        PartKind::Column => {
            name = words
                .first()
                .map(|word| unquoted(text.get(word.range.clone()).unwrap_or_default()))
                .unwrap_or_default();
            after(1)
        }
        // The name of an index stands behind the words for it.
        PartKind::Index | PartKind::Unique if name.is_empty() => {
            let before = words.iter().take_while(|word| !word.sign(b'('));
            let named = before.into_iter().find(|word| word.kind == TokenKind::QuotedName);
            name = named.map(|word| unquoted(text.get(word.range.clone()).unwrap_or_default())).unwrap_or_default();
            0
        }
        _ => after(at),
    };
    TablePart { kind, name, text: text.get(range).unwrap_or_default().to_owned(), after_name }
}

/// A text as it is compared with another: its tokens, whatever their case, blanks and comments. Names count without their
/// quotes, and without the schema that they are in where it is this one; words that only say how something is made do
/// not count.
pub fn telling(text: &str, dialect: &'static Dialect, schema: &str) -> String {
    let all = words(text, dialect, 0);
    let name = |word: &Word| match word.kind {
        TokenKind::QuotedName => unquoted(&word.text).to_uppercase(),
        TokenKind::Text if !schema.is_empty() => word.text.replace(&format!("'{schema}."), "'"),
        _ => word.text.clone(),
    };
    let is_name = |word: &Word| matches!(word.kind, TokenKind::Word | TokenKind::QuotedName);
    let (mut told, mut at) = (String::new(), 0);
    let schema_told = schema.to_uppercase();
    while let Some(word) = all.get(at) {
        let next = |ahead: usize| all.get(at + ahead);
        let is_schema = !schema.is_empty() && is_name(word) && name(word) == schema_told;
        if is_schema && next(1).is_some_and(|dot| dot.sign(b'.')) {
            at += 2;
            continue;
        }
        if word.is("IF") && next(1).is_some_and(|word| word.is("NOT")) && next(2).is_some_and(|word| word.is("EXISTS"))
        {
            at += 3;
            continue;
        }
        if word.is("OR") && next(1).is_some_and(|word| word.is("REPLACE")) {
            at += 2;
            continue;
        }
        // Who made it, as `definer = name @ host`.
        if word.is("DEFINER") && next(1).is_some_and(|word| word.sign(b'=')) {
            at += 3;
            while next_is_at(&all, at) {
                at += 2;
            }
            continue;
        }
        if word.kind != TokenKind::Semicolon {
            told.push_str(&name(word));
            told.push(' ');
        }
        at += 1;
    }
    told
}

/// Whether a host follows a name.
fn next_is_at(all: &[Word], at: usize) -> bool {
    all.get(at).is_some_and(|word| word.sign(b'@'))
}

/// A text whose names in one schema are those of another.
pub fn moved(text: &str, dialect: &'static Dialect, from: &str, to: &str) -> String {
    if from == to || from.is_empty() {
        return text.to_owned();
    }
    let all = words(text, dialect, 0);
    let (mut moved, mut done) = (String::new(), 0);
    let to = dialect.name_as_written(to);
    // A sequence is named by a text.
    let in_text = [format!("'{from}."), format!("'{}.", dialect.name_as_written(from))];
    for (at, word) in all.iter().enumerate() {
        let own = text.get(word.range.clone()).unwrap_or_default();
        let after = text.get(word.range.end..).unwrap_or_default();
        let named = match word.kind {
            TokenKind::Word | TokenKind::QuotedName if all.get(at + 1).is_some_and(|dot| dot.sign(b'.')) => {
                unquoted(own).eq_ignore_ascii_case(from).then_some(word.range.clone())
            }
            TokenKind::Text if after.starts_with("::regclass") => {
                let prefix = in_text.iter().find(|prefix| own.starts_with(prefix.as_str()));
                prefix.map(|prefix| word.range.start + 1..word.range.start + prefix.len() - 1)
            }
            _ => None,
        };
        if let Some(range) = named {
            moved.push_str(text.get(done..range.start).unwrap_or_default());
            moved.push_str(&to);
            done = range.end;
        }
    }
    moved.push_str(text.get(done..).unwrap_or_default());
    moved
}

/// The bytes between the parenthesis at `open` and the one that closes it, and the token behind that.
fn within(tokens: &[Token], open: usize) -> (Range<usize>, usize) {
    let mut depth = 0;
    let start = tokens.get(open).map_or(0, |token| token.end);
    for (at, token) in tokens.iter().enumerate().skip(open) {
        match token.kind {
            TokenKind::Punctuation(b'(') => depth += 1,
            TokenKind::Punctuation(b')') => depth -= 1,
            _ => {}
        }
        if depth == 0 {
            return (start..token.start, at + 1);
        }
    }
    (start..start, tokens.len())
}

/// The name in `CONSTRAINT name` before a token, if it stands there.
fn name_before(rope: &Rope, tokens: &[Token], at: usize) -> String {
    let mut bytes = Bytes::new(rope);
    let before = |back: usize| at.checked_sub(back).and_then(|at| tokens.get(at));
    match (before(2), before(1)) {
        (Some(word), Some(name)) if bytes.is_word(word, "CONSTRAINT") => {
            unquoted(&rope.byte_slice(name.range()).to_string())
        }
        _ => String::new(),
    }
}

/// A name without its quotes.
pub fn unquoted(name: &str) -> String {
    let inside = |open: char, close: char| name.strip_prefix(open).and_then(|rest| rest.strip_suffix(close));
    for quote in ['"', '`'] {
        if let Some(inside) = inside(quote, quote) {
            return inside.replace(&format!("{quote}{quote}"), &quote.to_string());
        }
    }
    inside('[', ']').unwrap_or(name).to_owned()
}

/// When a trigger acts, as `after insert`: the words between its name and `ON`.
pub fn event_of_trigger(text: &str, dialect: &'static Dialect) -> String {
    let rope = Rope::from_str(text);
    let tokens = Lexer::new(&rope, dialect, 0).filter(|token| !token.kind.is_trivia());
    let words: Vec<String> = tokens
        .take_while(|token| matches!(token.kind, TokenKind::Word | TokenKind::QuotedName | TokenKind::Punctuation(_)))
        .map(|token| rope.byte_slice(token.range()).to_string())
        .take_while(|word| !word.eq_ignore_ascii_case("on"))
        .collect();
    let begins = |word: &String| {
        ["before", "after", "instead", "insert", "update", "delete"].iter().any(|w| word.eq_ignore_ascii_case(w))
    };
    let from = words.iter().skip(3).position(begins).map_or(words.len(), |at| at + 3);
    let event = words.get(from..).unwrap_or_default().join(" ").to_lowercase().replace(" ,", ",");
    // Where nothing is said it acts before.
    if event.starts_with(['i', 'u', 'd']) && !event.starts_with("instead") { format!("before {event}") } else { event }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{POSTGRES, SQLITE};

    #[test]
    fn names_of_a_schema_become_those_of_another() {
        for (text, wanted) in [
            ("id int default nextval('one.ids'::regclass)", "id int default nextval('two.ids'::regclass)"),
            ("references ONE.ports(one)", "references two.ports(one)"),
            (
                "check (note <> 'one.ids' and \"one\".f('one.x'::text))",
                "check (note <> 'one.ids' and two.f('one.x'::text))",
            ),
            ("select ones.a from other.one", "select ones.a from other.one"),
        ] {
            assert_eq!(moved(text, &POSTGRES, "one", "two"), wanted);
        }
        assert_eq!(
            moved("nextval('\"Odd one\".ids'::regclass)", &POSTGRES, "Odd one", "The other"),
            "nextval('\"The other\".ids'::regclass)"
        );
    }

    #[test]
    fn checks_and_computed_columns_are_read_from_the_definition() {
        let text = "CREATE TABLE \"fares\" (price REAL CHECK (price > 0 AND f(1, 2)), -- a check (not one)
            \"with tax\" AS (price * 1.2) STORED, note TEXT DEFAULT 'CHECK (no)',
            gross real generated always as (price + (1)), CONSTRAINT cheap CHECK(price < 1000))";
        let table = of_table(text, &SQLITE);
        let pair = |a: &str, b: &str| (a.to_owned(), b.to_owned());
        assert_eq!(table.checks, [pair("", "price > 0 AND f(1, 2)"), pair("cheap", "price < 1000")]);
        assert_eq!(table.generated, [pair("with tax", "price * 1.2"), pair("gross", "price + (1)")]);
    }

    #[test]
    fn when_a_trigger_acts() {
        for (text, when) in [
            ("create trigger t after insert on ports begin select 1; end", "after insert"),
            (
                "CREATE TEMP TRIGGER if not exists \"t\" INSTEAD OF UPDATE OF a, b ON v BEGIN END",
                "instead of update of a, b",
            ),
            ("create trigger after delete on ports begin end", "before delete"),
        ] {
            assert_eq!(event_of_trigger(text, &SQLITE), when, "{text}");
        }
    }
}
