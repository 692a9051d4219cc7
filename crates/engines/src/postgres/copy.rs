//! `COPY … TO STDOUT` and `COPY … FROM STDIN`: a conversation of its own in the protocol.

use std::io::{self, Read};
use std::pin::pin;
use std::sync::PoisonError;

use bytes::Bytes;
use futures_util::SinkExt;
use jaunty_language::statement::copy::Direction;
use jaunty_seam::engine::Rows;
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::columns::{Cells, Columns, Typed};
use jaunty_seam::rows::form::TextForm;

use super::errors;
use super::session::PostgresSession;
use crate::net::feed::{Feed, local};

/// How much is sent at a time, in bytes.
const PIECE: u64 = 1 << 18;

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
    (statement, rows): (&str, Option<&Rows>),
    direction: Direction,
    feed: &mut Feed,
) -> Result<(), EngineError> {
    match (direction, rows) {
        (Direction::Out, _) => out(session, statement, feed).await,
        (Direction::In(below), None) => {
            let below = below.unwrap_or(statement.len());
            let rows = statement.get(below..).unwrap_or_default();
            let mut rows = rows.strip_suffix("\\.").unwrap_or(rows).as_bytes();
            let command = statement.get(..below).unwrap_or(statement);
            into(session, command, &mut |piece| (&mut rows).take(PIECE).read_to_end(piece), feed).await
        }
        (Direction::In(_), Some(rows)) => {
            let mut next = |piece: &mut Vec<u8>| {
                let mut rows = rows.lock().unwrap_or_else(PoisonError::into_inner);
                (&mut *rows).take(PIECE).read_to_end(piece)
            };
            into(session, statement, &mut next, feed).await
        }
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

/// Sends rows piece by piece, however many there are; `next` gives a piece, and an empty one at their end.
async fn into(
    session: &PostgresSession,
    command: &str,
    next: &mut dyn FnMut(&mut Vec<u8>) -> io::Result<usize>,
    feed: &mut Feed,
) -> Result<(), EngineError> {
    let failed = |error: tokio_postgres::Error| errors::statement(&error, command);
    let text = command.trim_end().trim_end_matches(';');
    let sink = session.wait(feed, session.link.client.copy_in::<_, Bytes>(text)).await?;
    let mut sink = pin!(sink.map_err(failed)?);
    loop {
        let mut piece = Vec::new();
        // What is not sent to its end is given up by the server as a whole.
        let unread =
            |error| EngineError::new(ErrorKind::Local, format!("the rows of the COPY cannot be read: {error}"));
        if next(&mut piece).map_err(unread)? == 0 {
            break;
        }
        session.wait(feed, sink.send(Bytes::from(piece))).await?.map_err(failed)?;
    }
    let taken = session.wait(feed, sink.finish()).await?.map_err(failed)?;
    feed.ends(Some(taken));
    Ok(())
}
