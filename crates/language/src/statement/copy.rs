//! `COPY` between a client and its server: which way its rows go, and where they stand.

use ropey::Rope;

use crate::dialect::Dialect;
use crate::lexer::{Lexer, TokenKind};

/// Which way the rows go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Direction {
    /// From the server, each line a row.
    Out,
    /// To the server: they stand in the text from this byte on, the line after the semicolon; none where no semicolon ends
    /// the statement.
    In(Option<usize>),
}

/// The direction of a statement that is a `COPY` between a client and its server. Its text may go on below it.
pub fn direction(statement: &Rope, dialect: &'static Dialect) -> Option<Direction> {
    if !dialect.copy_data {
        return None;
    }
    let mut words = Lexer::new(statement, dialect, 0).filter(|token| !token.kind.is_trivia());
    let is = |range: std::ops::Range<usize>, word: &str| {
        range.len() == word.len() && statement.byte_slice(range).to_string().eq_ignore_ascii_case(word)
    };
    if !words.next().is_some_and(|first| is(first.range(), "copy")) {
        return None;
    }
    let mut depth = 0_u32;
    let mut before = 0..0;
    for token in words {
        match token.kind {
            TokenKind::Punctuation(b'(') => depth += 1,
            TokenKind::Punctuation(b')') => depth = depth.saturating_sub(1),
            TokenKind::Semicolon if depth == 0 => return None,
            TokenKind::Word if depth == 0 && is(before.clone(), "to") && is(token.range(), "stdout") => {
                return Some(Direction::Out);
            }
            TokenKind::Word if depth == 0 && is(before.clone(), "from") && is(token.range(), "stdin") => {
                return Some(Direction::In(below(statement, dialect, token.end)));
            }
            _ => {}
        }
        before = token.range();
    }
    None
}

/// The line after the semicolon, which the options of a `COPY` may hide in a literal before it stands.
fn below(statement: &Rope, dialect: &'static Dialect, from: usize) -> Option<usize> {
    let semicolon = Lexer::new(statement, dialect, from).find(|token| token.kind == TokenKind::Semicolon)?;
    Some(match statement.byte_to_line(semicolon.end) + 1 {
        line if line < statement.len_lines() => statement.line_to_byte(line),
        _ => statement.len_bytes(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::{POSTGRES, SQLITE};
    use crate::text::rope;

    #[test]
    fn only_a_copy_between_us_and_the_server_is_one() {
        for (statement, expected) in [
            ("copy ports to stdout", Some(Direction::Out)),
            ("COPY (select 1 as to, 2 as stdout) TO STDOUT with (format csv)", Some(Direction::Out)),
            ("copy ports from stdin", Some(Direction::In(None))),
            ("copy ports from stdin;", Some(Direction::In(Some(22)))),
            ("copy ports (id) from stdin;\n1\n\\.", Some(Direction::In(Some(28)))),
            ("copy ports from stdin (delimiter ';', null 'a\nb');\n1;2\n\\.", Some(Direction::In(Some(51)))),
            ("copy ports from stdin (null 'a\n", Some(Direction::In(None))),
            ("copy ports to '/tmp/x'", None),
            ("copy ports to program 'x'; select a from stdin", None),
            ("select 'copy to stdout'", None),
        ] {
            assert_eq!(direction(&rope(statement), &POSTGRES), expected, "{statement}");
        }
        assert_eq!(direction(&rope("copy ports from stdin"), &SQLITE), None);
    }
}
