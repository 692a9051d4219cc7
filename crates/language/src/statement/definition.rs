//! What stands in a statement that makes something, for servers that keep the statement and tell
//! no more.

use ropey::Rope;

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

/// The bytes between the parenthesis at `open` and the one that closes it, and the token behind that.
fn within(tokens: &[Token], open: usize) -> (std::ops::Range<usize>, usize) {
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
    use crate::dialect::SQLITE;

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
