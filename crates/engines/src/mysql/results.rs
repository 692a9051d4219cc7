//! Taking in the results of a statement.

use std::pin::pin;
use std::task::Poll;

use jaunty_language::dialect::{Kind, MYSQL};
use jaunty_language::split;
use jaunty_seam::engine::Flow;
use jaunty_seam::error::{EngineError, ErrorKind};
use mysql_async::consts::ColumnType;
use mysql_async::prelude::Protocol;
use mysql_async::{QueryResult, Row, Value};

use super::{errors, types};
use crate::net::feed::{Feed, local};
use crate::net::work::{self, Patience, there, with_cancel};

/// Takes in all results of a statement, by either protocol; returns how many warnings there are.
pub(super) async fn take<P, C>(
    mut result: QueryResult<'_, '_, P>,
    statement: &str,
    patience: &Patience,
    cancel: impl Fn() -> C,
    feed: &mut Feed,
) -> Result<u16, EngineError>
where
    P: Protocol,
    C: Future<Output = ()>,
{
    let failed = |error: mysql_async::Error| errors::statement(&error, statement);
    let look = |feed: &mut Feed| if patience.is_over() { Flow::Stop } else { feed.look() };
    loop {
        let columns = result.columns().filter(|columns| !columns.is_empty());
        if let Some(columns) = &columns {
            if types::is_foreign(columns) {
                work::end(cancel(), async || matches!(result.next().await, Ok(Some(_))), patience.within).await?;
                return Err(not_utf8());
            }
            let (readers, columns) = types::plan(columns);
            feed.begin(columns);
            loop {
                if patience.is_over() {
                    feed.stop();
                }
                if feed.flow() == Flow::Stop {
                    // The error of having been interrupted is the last.
                    work::end(cancel(), async || matches!(result.next().await, Ok(Some(_))), patience.within).await?;
                    return Err(EngineError::stopped());
                }
                let mut next = pin!(result.next());
                // What is there already is taken without anything being set up for waiting.
                let row = match there(next.as_mut()).await {
                    Poll::Ready(row) => row,
                    Poll::Pending => with_cancel(next, || look(feed), cancel(), patience.within).await?,
                };
                let Some(row) = row.map_err(failed)? else { break };
                append(&readers, &row, feed)?;
            }
            feed.ends(Some(result.affected_rows()).filter(|rows| *rows > 0 && counts_rows(statement)));
        } else {
            let touched = Some(result.affected_rows()).filter(|rows| *rows > 0 || counts_rows(statement));
            feed.ends(touched);
            with_cancel(result.next(), || look(feed), cancel(), patience.within).await?.map_err(failed)?;
        }
        let warnings = result.warnings();
        if result.is_empty() {
            // The error of a procedure that came after a result is kept by the driver until it is asked.
            result.next().await.map_err(failed)?;
            return Ok(warnings);
        }
        // The end of a procedure is a result of its own, which says nothing.
        if kind(statement) == Kind::Other
            && result.columns().is_none_or(|columns| columns.is_empty())
            && columns.is_some()
        {
            result.next().await.map_err(failed)?;
            return Ok(result.warnings());
        }
    }
}

/// A value of the protocol of prepared statements as the plain protocol writes it.
fn plain(value: &Value, column: &mysql_async::Column) -> Option<Vec<u8>> {
    let date = |year: u16, month: u8, day: u8| format!("{year:04}-{month:02}-{day:02}");
    let places = usize::from(column.decimals()).min(6);
    let micros = |micros: u32| match places {
        0 => String::new(),
        places => format!(".{}", format!("{micros:06}").get(..places).unwrap_or_default()),
    };
    Some(match value {
        Value::NULL => return None,
        Value::Bytes(raw) => raw.clone(),
        Value::Int(value) => value.to_string().into_bytes(),
        Value::UInt(value) => value.to_string().into_bytes(),
        Value::Float(value) => value.to_string().into_bytes(),
        Value::Double(value) => value.to_string().into_bytes(),
        Value::Date(year, month, day, ..) if column.column_type() == ColumnType::MYSQL_TYPE_DATE => {
            date(*year, *month, *day).into_bytes()
        }
        Value::Date(year, month, day, hour, minute, second, rest) => {
            format!("{} {hour:02}:{minute:02}:{second:02}{}", date(*year, *month, *day), micros(*rest)).into_bytes()
        }
        Value::Time(negative, days, hours, minutes, seconds, rest) => {
            let hours = days * 24 + u32::from(*hours);
            let sign = if *negative { "-" } else { "" };
            format!("{sign}{hours:02}:{minutes:02}:{seconds:02}{}", micros(*rest)).into_bytes()
        }
    })
}

/// The error of text that a changed character set makes unreadable.
fn not_utf8() -> EngineError {
    let message = "the server sends text that is not UTF-8: character_set_results was changed in this session";
    EngineError::new(ErrorKind::Refused, message).remedy("Run: set names utf8mb4")
}

fn append(readers: &[types::Reader], row: &Row, feed: &mut Feed) -> Result<(), EngineError> {
    let mut bytes = 0;
    for (column, reader) in readers.iter().enumerate() {
        let columns = feed.columns();
        match row.as_ref(column) {
            None | Some(Value::NULL) => columns.cells(column).null(),
            Some(value) => {
                let written;
                let raw = match (value, row.columns_ref().get(column)) {
                    (Value::Bytes(raw), _) => raw,
                    (value, Some(about)) => {
                        written = plain(value, about).unwrap_or_default();
                        &written
                    }
                    (_, None) => continue,
                };
                bytes += raw.len();
                if types::append(*reader, raw, columns.cells(column)).is_err() {
                    let value = std::str::from_utf8(raw).map_err(|_| not_utf8())?;
                    columns.become_text(column).map_err(|error| local(&error))?.append_value(value);
                }
            }
        }
    }
    feed.end_row(bytes);
    Ok(())
}

/// What a statement is, by its first word.
pub(super) fn kind(statement: &str) -> Kind {
    split::kind(statement, &MYSQL).unwrap_or(Kind::Other)
}

/// Whether "no rows" is worth telling.
fn counts_rows(statement: &str) -> bool {
    kind(statement) == Kind::Change
}
