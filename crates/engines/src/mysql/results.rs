//! Carrying statements out: from tokens to events, in the order in which they come.

use std::borrow::Cow;

use jaunty_language::dialect::{Kind, MYSQL};
use jaunty_language::split;
use jaunty_mysql::fields::Fields;
use jaunty_mysql::row::{Value, Values};
use jaunty_mysql::{Client, Column, ColumnType, Done, Pace, Parameter, Token};
use jaunty_seam::engine::{Flow, Progress};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::columns::Arrived;

use super::connect::Way;
use super::{errors, types};
use crate::net::feed::{Feed, LONG, local};
use crate::net::work::{self, Patience, with_cancel};

/// What is carried out.
pub enum What<'a> {
    /// A statement as text.
    Text,
    /// The same, prepared, with the values that it takes.
    Prepared(&'a [Parameter]),
}

/// Carries a statement out and hands on what comes; returns how many warnings there are. `cancel` tells the server to end
/// it.
pub async fn carry_out<C: Future<Output = ()>>(
    client: &mut Client<Way>,
    statement: &str,
    what: What<'_>,
    patience: &Patience,
    cancel: impl Fn() -> C,
    feed: &mut Feed,
) -> Result<u16, EngineError> {
    let failed = |error: jaunty_mysql::Error| errors::statement(&error, statement);
    let mut run = Run { client, statement, patience, cancel, feed, is_prepared: false };
    let What::Prepared(values) = what else {
        run.wait(async |client| client.query(statement).await).await?;
        return run.take().await;
    };
    run.wait(async |client| client.prepare(statement).await).await?;
    let (id, takes) = loop {
        match run.client.token().map_err(failed)? {
            Pace::Wait => run.wait(async |client| client.fill().await).await?,
            Pace::Token(Token::Prepared { id, parameters }) => break (id, usize::from(parameters)),
            Pace::Token(Token::Error(error)) => return Err(errors::of_statement(&error, statement)),
            Pace::Token(_) => return Err(failed(jaunty_mysql::Error::Broken("an answer to another question"))),
        }
    };
    let outcome = if takes == values.len() {
        run.is_prepared = true;
        run.wait(async |client| client.execute(id, values).await).await?;
        run.take().await
    } else {
        let what = format!("the server counts {takes} values in this statement, and {} are given", values.len());
        Err(EngineError::new(ErrorKind::Refused, what))
    };
    if !matches!(&outcome, Err(error) if error.kind == ErrorKind::Lost) {
        // What came of the statement counts: whether the connection is gone is seen by who uses it next.
        if let Err(error) = run.client.close(id).await {
            tracing::debug!(%error, "a prepared statement was not let go");
        }
    }
    outcome
}

/// A statement that is carried out.
struct Run<'a, F> {
    client: &'a mut Client<Way>,
    statement: &'a str,
    patience: &'a Patience,
    cancel: F,
    feed: &'a mut Feed,
    /// Its rows are of values, and not of texts.
    is_prepared: bool,
}

impl<C: Future<Output = ()>, F: Fn() -> C> Run<'_, F> {
    fn failed(&self, error: &jaunty_mysql::Error) -> EngineError {
        errors::statement(error, self.statement)
    }

    /// Waits for something of the connection.
    async fn wait(
        &mut self,
        what: impl AsyncFnOnce(&mut Client<Way>) -> Result<(), jaunty_mysql::Error>,
    ) -> Result<(), EngineError> {
        let look = || if self.patience.is_over() { Flow::Stop } else { self.feed.look() };
        let waited = with_cancel(what(self.client), look, (self.cancel)(), self.patience.within).await?;
        waited.map_err(|error| self.failed(&error))
    }

    /// Takes in all results.
    async fn take(&mut self) -> Result<u16, EngineError> {
        let (mut columns, mut readers) = (Vec::new(), Vec::new());
        let (mut warnings, mut results, mut asked_for) = (0, 0_u32, None);
        loop {
            if self.patience.is_over() {
                self.feed.stop();
            }
            let token = match self.client.token().map_err(|error| self.failed(&error))? {
                Pace::Token(token) => token,
                Pace::Wait => {
                    // Also where bytes trickle, what is there is shown, and a wish to stop is heard.
                    if self.feed.look() == Flow::Stop {
                        return Err(self.end(EngineError::stopped()).await?);
                    }
                    self.wait(async |client| client.fill().await).await?;
                    continue;
                }
            };
            match token {
                Token::Row(row) => {
                    if self.feed.flow() == Flow::Stop {
                        return Err(self.end(EngineError::stopped()).await?);
                    }
                    let prepared = self.is_prepared.then_some(columns.as_slice());
                    let appended = if row.len() < LONG {
                        append(&readers, prepared, self.client.bytes(row), None, self.feed)
                    } else {
                        let (bytes, row) = self.client.detach(row);
                        let arrived = Arrived::of(bytes);
                        let row = arrived.bytes().get(row).unwrap_or_default();
                        self.feed.alone(|feed| append(&readers, prepared, row, Some(&arrived), feed))
                    };
                    if let Err(error) = appended {
                        return Err(self.end(error).await?);
                    }
                }
                Token::Columns(found) => {
                    if types::is_foreign(&found) {
                        return Err(self.end(not_utf8()).await?);
                    }
                    let (plan, typed) = types::plan(&found);
                    (columns, readers) = (found, plan);
                    self.feed.begin(typed);
                }
                Token::Done(done) => {
                    warnings = done.warnings;
                    // The end of a procedure is a result of its own, which says nothing.
                    if !(kind(self.statement) == Kind::Other && results > 0 && !done.had_columns) {
                        self.feed.ends(self.affected(&done));
                    }
                    results += 1;
                }
                Token::Progress(progress) => {
                    let done = Some(progress.whole());
                    self.feed.progress(Progress { done, ..Progress::default() });
                }
                Token::File(name) => {
                    // It gets an empty one: the files of this machine are not the server's.
                    asked_for = Some(name);
                    self.wait(async |client| client.end_parts().await).await?;
                }
                Token::Error(error) => return Err(errors::of_statement(&error, self.statement)),
                Token::End => break,
                Token::Prepared { .. } => return Err(self.failed(&jaunty_mysql::Error::Broken("another answer"))),
            }
        }
        match asked_for {
            Some(name) => Err(errors::asks_for_file(&name)),
            None => Ok(warnings),
        }
    }

    /// How many rows were touched, where that is worth telling.
    fn affected(&self, done: &Done) -> Option<u64> {
        let counts = kind(self.statement) == Kind::Change;
        Some(done.affected).filter(|rows| if done.had_columns { *rows > 0 && counts } else { *rows > 0 || counts })
    }

    /// Tells the server to end, and passes over what is still on its way: the error of having been interrupted is the
    /// last. Gives back `why`.
    async fn end(&mut self, why: EngineError) -> Result<EngineError, EngineError> {
        let client = &mut *self.client;
        let mut broken = None;
        let next = async || match client.token() {
            Ok(Pace::Token(Token::End | Token::Error(_))) => false,
            Ok(Pace::Token(Token::File(_))) => client.end_parts().await.is_ok(),
            Ok(Pace::Token(_)) => true,
            Ok(Pace::Wait) => match client.fill().await {
                Ok(()) => true,
                Err(error) => {
                    broken = Some(error);
                    false
                }
            },
            Err(error) => {
                broken = Some(error);
                false
            }
        };
        work::end((self.cancel)(), next, self.patience.within).await?;
        match broken {
            Some(error) => Err(self.failed(&error)),
            None => Ok(why),
        }
    }
}

/// A value of a prepared statement as the plain protocol writes it.
fn plain<'a>(value: Value<'a>, column: &Column) -> Option<Cow<'a, [u8]>> {
    let date = |year: u16, month: u8, day: u8| format!("{year:04}-{month:02}-{day:02}");
    let places = usize::from(column.decimals).min(6);
    let micros = |micros: u32| match places {
        0 => String::new(),
        places => format!(".{}", format!("{micros:06}").get(..places).unwrap_or_default()),
    };
    Some(Cow::Owned(match value {
        Value::Null => return None,
        Value::Bytes(raw) => return Some(Cow::Borrowed(raw)),
        // A year of zeros is written with four of them.
        Value::Int(value) if column.kind == ColumnType::Year => format!("{value:04}").into_bytes(),
        Value::UInt(value) if column.kind == ColumnType::Year => format!("{value:04}").into_bytes(),
        Value::Int(value) => value.to_string().into_bytes(),
        Value::UInt(value) => value.to_string().into_bytes(),
        Value::Float(value) => value.to_string().into_bytes(),
        Value::Double(value) => value.to_string().into_bytes(),
        Value::Date(year, month, day) => date(year, month, day).into_bytes(),
        Value::DateTime(year, month, day, hour, minute, second, rest) => {
            format!("{} {hour:02}:{minute:02}:{second:02}{}", date(year, month, day), micros(rest)).into_bytes()
        }
        Value::Time(negative, hours, minutes, seconds, rest) => {
            let sign = if negative { "-" } else { "" };
            format!("{sign}{hours:02}:{minutes:02}:{seconds:02}{}", micros(rest)).into_bytes()
        }
    }))
}

/// The error of text that a changed character set makes unreadable.
fn not_utf8() -> EngineError {
    let message = "the server sends text that is not UTF-8: character_set_results was changed in this session";
    EngineError::new(ErrorKind::Refused, message).remedy("Run: set names utf8mb4")
}

fn short() -> EngineError {
    errors::statement(&jaunty_mysql::Error::Broken("a row that ends in the middle"), "")
}

/// Appends a row: of texts, or of values where `prepared` says of which columns. Where it has `arrived`, what is long in
/// it is not copied.
fn append(
    readers: &[types::Reader],
    prepared: Option<&[Column]>,
    row: &[u8],
    arrived: Option<&Arrived>,
    feed: &mut Feed,
) -> Result<(), EngineError> {
    match prepared {
        None => {
            let mut fields = Fields::of(row);
            for (column, reader) in readers.iter().enumerate() {
                match fields.nullable().ok_or_else(short)? {
                    None => feed.columns().cells(column).null(),
                    Some(raw) => append_field(*reader, raw, column, arrived, feed)?,
                }
            }
        }
        Some(columns) => {
            let mut values = Values::of(row, columns.len()).ok_or_else(short)?;
            for (at, (reader, column)) in readers.iter().zip(columns).enumerate() {
                match plain(values.next(column).ok_or_else(short)?, column) {
                    None => feed.columns().cells(at).null(),
                    Some(raw) => append_field(*reader, &raw, at, arrived, feed)?,
                }
            }
        }
    }
    feed.end_row(row.len());
    Ok(())
}

#[inline]
fn append_field(
    reader: types::Reader,
    raw: &[u8],
    column: usize,
    arrived: Option<&Arrived>,
    feed: &mut Feed,
) -> Result<(), EngineError> {
    let columns = feed.columns();
    if arrived.is_some_and(|arrived| raw.len() >= LONG && columns.hold(column, arrived, raw)) {
        return Ok(());
    }
    if types::append(reader, raw, columns.cells(column)).is_err() {
        let value = std::str::from_utf8(raw).map_err(|_| not_utf8())?;
        columns.become_text(column).map_err(|error| local(&error))?.append_value(value);
    }
    Ok(())
}

/// What a statement is, by its first word.
pub(super) fn kind(statement: &str) -> Kind {
    split::kind(statement, &MYSQL).unwrap_or(Kind::Other)
}
