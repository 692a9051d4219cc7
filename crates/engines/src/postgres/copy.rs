//! `COPY … TO STDOUT` and `COPY … FROM STDIN`: a conversation of its own in the protocol.

use std::io;
use std::pin::pin;

use futures_util::SinkExt;
use jaunty_language::dialect::POSTGRES;
use jaunty_language::lexer::{Lexer, TokenKind};
use jaunty_language::text::rope;
use jaunty_seam::error::EngineError;
use jaunty_seam::rows::columns::{Cells, Columns, Typed};
use jaunty_seam::rows::form::TextForm;

use super::errors;
use super::session::PostgresSession;
use crate::net::feed::{Feed, local};

/// Which way the rows go.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Direction {
    /// From the server, each line a row.
    Out,
    /// To the server: they stand in the statement from this byte on.
    In(usize),
}

/// The direction of a statement that is a `COPY` between us and the server.
pub fn direction(statement: &str) -> Option<Direction> {
    let rope = rope(statement);
    let mut words = Lexer::new(&rope, &POSTGRES, 0).filter(|token| !token.kind.is_trivia());
    let is = |range: std::ops::Range<usize>, word: &str| {
        statement.get(range).is_some_and(|text| text.eq_ignore_ascii_case(word))
    };
    if !words.next().is_some_and(|first| is(first.range(), "copy")) {
        return None;
    }
    let mut depth = 0;
    let mut before = 0..0;
    for token in words {
        match token.kind {
            TokenKind::Punctuation(b'(') => depth += 1,
            TokenKind::Punctuation(b')') => depth -= 1,
            TokenKind::Word if depth == 0 && is(before.clone(), "to") && is(token.range(), "stdout") => {
                return Some(Direction::Out);
            }
            TokenKind::Word if depth == 0 && is(before.clone(), "from") && is(token.range(), "stdin") => {
                // The rows begin on the line after the semicolon.
                let semicolon = statement[token.end..].find(';').map_or(statement.len(), |at| token.end + at);
                let line = statement[semicolon..].find('\n').map_or(statement.len(), |at| semicolon + at + 1);
                return Some(Direction::In(line));
            }
            _ => {}
        }
        before = token.range();
    }
    None
}

/// Columns of text with these names.
pub fn text_columns<'n>(names: impl Iterator<Item = &'n str>) -> Columns {
    let typed = names.map(|name| Typed {
        name: name.to_owned(),
        db_type: "text".to_owned(),
        origin: None,
        form: TextForm::Plain,
        cells: Cells::text(),
    });
    Columns::new(typed.collect())
}

/// Carries one out.
pub async fn carry_out(
    session: &PostgresSession,
    statement: &str,
    direction: Direction,
    feed: &mut Feed,
) -> Result<(), EngineError> {
    match direction {
        Direction::Out => out(session, statement, feed).await,
        Direction::In(rows) => into(session, statement, rows, feed).await,
    }
}

async fn out(session: &PostgresSession, statement: &str, feed: &mut Feed) -> Result<(), EngineError> {
    let failed = |error: tokio_postgres::Error| errors::statement(&error, statement);
    let lines = session.wait(feed, session.link.client.copy_out(statement)).await?;
    let mut lines = pin!(lines.map_err(failed)?);
    feed.begin(text_columns(std::iter::once("line")));
    let mut rest = Vec::new();
    while let Some(piece) = session.next(feed, lines.as_mut()).await? {
        rest.extend_from_slice(&piece.map_err(failed)?);
        while let Some(end) = rest.iter().position(|byte| *byte == b'\n') {
            row(feed, &rest[..end])?;
            rest.drain(..=end);
        }
    }
    if !rest.is_empty() {
        row(feed, &rest)?;
    }
    feed.ends(None);
    Ok(())
}

fn row(feed: &mut Feed, line: &[u8]) -> Result<(), EngineError> {
    let line = String::from_utf8_lossy(line);
    let columns = feed.columns();
    columns.become_text(0).map_err(|error| local(&error))?.append_value(&line);
    feed.end_row(line.len());
    Ok(())
}

async fn into(session: &PostgresSession, statement: &str, rows: usize, feed: &mut Feed) -> Result<(), EngineError> {
    let failed = |error: tokio_postgres::Error| errors::statement(&error, statement);
    let command = statement[..rows].trim_end().trim_end_matches(';');
    let data = statement.get(rows..).unwrap_or_default();
    let data = data.strip_suffix("\\.").unwrap_or(data).as_bytes().to_vec();
    let sink = session.wait(feed, session.link.client.copy_in::<_, io::Cursor<Vec<u8>>>(command)).await?;
    let mut sink = pin!(sink.map_err(failed)?);
    session.wait(feed, sink.send(io::Cursor::new(data))).await?.map_err(failed)?;
    let taken = session.wait(feed, sink.finish()).await?.map_err(failed)?;
    feed.ends(Some(taken));
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_copy_between_us_and_the_server_is_one() {
        for (statement, expected) in [
            ("copy ports to stdout", Some(Direction::Out)),
            ("COPY (select 1 as to, 2 as stdout) TO STDOUT with (format csv)", Some(Direction::Out)),
            ("copy ports from stdin", Some(Direction::In(21))),
            ("copy ports (id) from stdin;\n1\n\\.", Some(Direction::In(28))),
            ("copy ports to '/tmp/x'", None),
            ("select 'copy to stdout'", None),
        ] {
            assert_eq!(direction(statement), expected, "{statement}");
        }
    }
}
