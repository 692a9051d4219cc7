//! Texts with places to be filled in, in the notation of the Language Server Protocol:
//! `${1:default}`, `$2`, and `$0` for where the cursor ends
//! (<https://microsoft.github.io/language-server-protocol/specifications/lsp/3.17/specification/#snippet_syntax>).
//! Choices, variables and places inside of places are not read.

use std::ops::Range;

use crate::dialect::Dialect;
use crate::lexer::{Lexer, TokenKind};

/// A text and its places.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Snippet {
    /// The text, with the defaults in it.
    pub text: String,
    /// Where the places are, in the order in which they are gone through; several with one number
    /// stand beside each other.
    pub places: Vec<(u32, Range<usize>)>,
}

impl Snippet {
    /// Reads one. What is no place stands for itself.
    pub fn read(written: &str) -> Snippet {
        let mut snippet = Snippet::default();
        let mut rest = written;
        while let Some(at) = rest.find(['$', '\\']) {
            let (before, from) = rest.split_at(at);
            snippet.text.push_str(before);
            if let Some(escaped) = from.strip_prefix('\\') {
                let c = escaped.chars().next().filter(|c| matches!(c, '$' | '}' | '\\'));
                snippet.text.push(c.unwrap_or('\\'));
                rest = escaped.get(c.map_or(0, char::len_utf8)..).unwrap_or_default();
                continue;
            }
            let start = snippet.text.len();
            match place(from.get(1..).unwrap_or_default()) {
                Some((number, default, length)) => {
                    snippet.text.push_str(&default);
                    snippet.places.push((number, start..snippet.text.len()));
                    rest = from.get(1 + length..).unwrap_or_default();
                }
                None => {
                    snippet.text.push('$');
                    rest = from.get(1..).unwrap_or_default();
                }
            }
        }
        snippet.text.push_str(rest);
        // The last place is number 0, wherever it stands.
        snippet.places.sort_by_key(|(number, _)| if *number == 0 { u32::MAX } else { *number });
        snippet
    }

    /// The text alone.
    pub fn plain(written: &str) -> String {
        Snippet::read(written).text
    }
}

/// What stands around the name of a place that has to be filled in: signs that no server takes.
const UNFILLED: (&str, &str) = ("‹", "›");

/// A place in the notation of snippets that has to be filled in before its statement can run.
pub fn unfilled_place(number: usize, name: &str) -> String {
    format!("${{{number}:{}{}{}}}", UNFILLED.0, escaped(name), UNFILLED.1)
}

/// The first place of a statement that was not filled in, in bytes. In quotes and comments the signs stand
/// for themselves.
pub fn unfilled(statement: &str, dialect: &'static Dialect) -> Option<Range<usize>> {
    if !statement.contains(UNFILLED.0) {
        return None;
    }
    let rope = crate::text::rope(statement);
    // A name has the signs in it, since both are letters for a lexer.
    let mut words = Lexer::new(&rope, dialect, 0).filter(|token| token.kind == TokenKind::Word);
    words.find_map(|word| {
        let start = word.start + statement.get(word.range())?.find(UNFILLED.0)?;
        let length = statement.get(start..)?.find(UNFILLED.1)?;
        Some(start..start + length + UNFILLED.1.len())
    })
}

/// A text as it has to be written to stand for itself.
pub fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('$', "\\$").replace('}', "\\}")
}

/// A place behind its sign: its number, its default, and how many bytes it takes.
fn place(text: &str) -> Option<(u32, String, usize)> {
    let digits = |text: &str| text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    if let Some(inside) = text.strip_prefix('{') {
        let end = digits(inside);
        let number = inside.get(..end)?.parse().ok()?;
        let rest = inside.get(end..)?;
        if rest.starts_with('}') {
            return Some((number, String::new(), end + 2));
        }
        let written = rest.strip_prefix(':')?;
        let mut default = String::new();
        let mut escaped = false;
        for (at, c) in written.char_indices() {
            match c {
                '\\' if !escaped => {
                    escaped = true;
                    continue;
                }
                '}' if !escaped => return Some((number, default, end + 3 + at)),
                _ => default.push(c),
            }
            escaped = false;
        }
        return None;
    }
    let end = digits(text);
    Some((text.get(..end)?.parse().ok()?, String::new(), end))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::SQLITE;

    #[test]
    fn places_that_were_not_filled_in_are_found() {
        for (statement, place) in [
            ("delete from ports where id = ‹id›", Some("‹id›")),
            ("call tides(‹port integer›, 3)", Some("‹port integer›")),
            ("select 'x‹id›', \"‹id›\" -- ‹id›", None),
            ("select 1 where‹id›", Some("‹id›")),
            ("select a ‹ b", None),
        ] {
            let found = unfilled(statement, &SQLITE).map(|range| &statement[range]);
            assert_eq!(found, place, "{statement}");
        }
        assert_eq!(Snippet::read(&unfilled_place(1, "a}b")).text, "‹a}b›");
    }

    #[test]
    fn places_are_read_in_their_order() {
        let read = |text: &str| {
            let snippet = Snippet::read(text);
            let places: Vec<_> =
                snippet.places.iter().map(|(n, range)| format!("{n}={}", &snippet.text[range.clone()])).collect();
            (snippet.text, places.join(" "))
        };
        for (written, text, places) in [
            ("select ${2:*} from ${1:table}$0;", "select * from table;", "1=table 2=* 0="),
            ("count($1)", "count()", "1="),
            ("costs \\$5 \\} \\\\ \\n", "costs $5 } \\ \\n", ""),
            ("${1:a\\}b}", "a}b", "1=a}b"),
            ("a $x ${y} ${1:open", "a $x ${y} ${1:open", ""),
            ("${1:id} and ${1:id}", "id and id", "1=id 1=id"),
        ] {
            assert_eq!(read(written), (text.to_owned(), places.to_owned()), "{written}");
        }
    }
}
