//! Running a statement: with values or without, in the server's binary form or as text.

use std::pin::pin;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::task::Poll;

use bytes::Bytes;
use futures_util::{Stream, StreamExt};
use jaunty_language::dialect::{Kind, POSTGRES};
use jaunty_language::statement::copy::direction;
use jaunty_language::statement::parameters::{self, value_of};
use jaunty_language::text::rope;
use jaunty_seam::engine::{Flow, Request};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::columns::{Arrived, Columns};
use tokio_postgres::types::ToSql;
use tokio_postgres::{Column, Row, SimpleQueryMessage, SimpleQueryRow};

use super::cancel::cancel;
use super::session::{Outcome, PostgresSession, kind, tell_notices};
use super::types::{self, Misfit, Plan, Raw, Reader};
use super::{copy, errors};
use crate::net::feed::{Feed, LONG, local};
use crate::net::work::{self, with_cancel};

impl PostgresSession {
    /// Runs a statement, whatever it is.
    pub(super) fn carry_out(&self, request: &Request<'_>, feed: &mut Feed) -> Outcome<()> {
        let (statement, values) = (request.text, request.values);
        if let Some(direction) = direction(&rope(statement), &POSTGRES) {
            return self.link.runtime.block_on(copy::carry_out(self, (statement, request.rows), direction, feed));
        }
        if values.is_empty() {
            return self.carry_out_with(statement, &[], feed);
        }
        let numbered = parameters::numbered(statement, &POSTGRES);
        let given: Vec<AsText> = numbered.names.iter().map(|name| AsText(value_of(values, name).text())).collect();
        self.carry_out_with(&numbered.text, &given, feed).map_err(|error| error.as_written(&numbered))
    }

    fn carry_out_with(&self, statement: &str, given: &[AsText], feed: &mut Feed) -> Outcome<()> {
        let link = &self.link;
        link.runtime.block_on(async {
            let prepared = self.wait(feed, link.client.prepare(statement)).await?;
            let prepared = match prepared {
                Ok(prepared) => prepared,
                // Several statements at once, as a selection may be: only the plain protocol takes them.
                Err(error) if is_several(&error) => return self.plain(statement, statement, None, feed).await,
                Err(error) => return Err(errors::statement(&error, statement)),
            };
            if given.is_empty() {
                no_parameters(&prepared)?;
            }
            self.learn_origins(prepared.columns(), feed).await?;
            let plan = Plan::of(prepared.columns(), link.overheard.iso_dates());
            if !plan.is_binary() {
                let columns = plan.columns(prepared.columns(), &self.origins, &link.overheard.zone());
                return match given {
                    [] => self.plain(statement, statement, Some((plan, columns)), feed).await,
                    given => self.plain_with(statement, given, (plan, columns), feed).await,
                };
            }
            let rows = self.wait(feed, link.client.query_raw(&prepared, given)).await?;
            let mut rows = pin!(rows.map_err(|error| errors::statement(&error, statement))?);
            if prepared.columns().is_empty() {
                // Nothing comes but the end, and how many rows were touched.
                while let Some(row) = self.next(feed, rows.as_mut()).await? {
                    row.map_err(|error| errors::statement(&error, statement))?;
                }
                let touched = rows.rows_affected().filter(|_| counts_rows(statement));
                feed.ends(touched);
                return Ok(());
            }
            feed.begin(plan.columns(prepared.columns(), &self.origins, &link.overheard.zone()));
            while let Some(row) = self.next(feed, rows.as_mut()).await? {
                let row = row.map_err(|error| errors::statement(&error, statement))?;
                if row.raw_size_bytes() < LONG {
                    append(&plan.readers, &row, None, feed)?;
                } else {
                    let row = Arc::new(row);
                    feed.alone(|feed| append(&plan.readers, &row, Some(&row), feed))?;
                }
            }
            feed.ends(rows.rows_affected().filter(|_| kind(statement) == Kind::Change));
            Ok(())
        })
    }

    /// Asks which tables these columns are of. Not inside a transaction, which a question that fails would
    /// end.
    async fn learn_origins(&self, columns: &[Column], feed: &mut Feed) -> Outcome<()> {
        if let Some(question) = self.origins.question(columns).filter(|_| self.link.overheard.transaction().is_none()) {
            match self.wait(feed, self.link.client.simple_query(&question)).await? {
                Ok(answer) => self.origins.learn(&answer),
                Err(error) => tracing::debug!(%error, "where columns come from is not known"),
            }
        }
        Ok(())
    }

    /// Runs a statement by the plain protocol, with values. The protocol itself has none: the statement is
    /// prepared in SQL, and the values are the arguments of its execution.
    async fn plain_with(
        &self,
        statement: &str,
        given: &[AsText],
        plan: (Plan, Columns),
        feed: &mut Feed,
    ) -> Outcome<()> {
        let name = format!("jaunty_{}", self.prepared.fetch_add(1, Ordering::Relaxed));
        // A comment at its end must not take in what follows.
        let prepare = format!("prepare {name} as {statement}\n");
        let made = self.wait(feed, self.link.client.simple_query(&prepare)).await?;
        made.map_err(|error| {
            let error = errors::statement(&error, &prepare);
            let at = error.at.and_then(|at| at.checked_sub(prepare.len() - 1 - statement.len()));
            error.at(at)
        })?;
        let arguments: Vec<String> = given.iter().map(AsText::literal).collect();
        let execute = format!("execute {name}({})", arguments.join(", "));
        let outcome = self.plain(&execute, statement, Some(plan), feed).await;
        // In a transaction that failed it is not possible, and the end of the session does it too. A server that
        // does not answer any more is not waited for once again.
        if !matches!(&outcome, Err(error) if error.kind == ErrorKind::Lost) {
            let deallocate = format!("deallocate {name}");
            let gone = tokio::time::timeout(work::PATIENCE, self.link.client.simple_query(&deallocate)).await;
            if !matches!(gone, Ok(Ok(_))) {
                tracing::debug!(name, "a prepared statement stays");
            }
        }
        outcome
    }

    /// Runs a statement by the plain protocol, in which every value is text. `sent` is what carries it out,
    /// `plan` says what its columns are; without it they are text.
    async fn plain(&self, sent: &str, statement: &str, plan: Option<(Plan, Columns)>, feed: &mut Feed) -> Outcome<()> {
        let failed = |error: tokio_postgres::Error| {
            let error = errors::statement(&error, sent);
            let at = error.at.filter(|_| sent == statement);
            error.at(at)
        };
        let messages = self.wait(feed, self.link.client.simple_query_raw(sent)).await?;
        let mut messages = pin!(messages.map_err(failed)?);
        let mut plan = plan;
        let mut readers = None;
        while let Some(message) = self.next(feed, messages.as_mut()).await? {
            let message = message.map_err(failed)?;
            // What was said before a result stands before it.
            if !matches!(message, SimpleQueryMessage::Row(_)) {
                tell_notices(&self.link, feed);
            }
            match message {
                SimpleQueryMessage::RowDescription(names) => match plan.take() {
                    Some((plan, columns)) => {
                        feed.begin(columns);
                        readers = Some(plan.readers);
                    }
                    None => {
                        feed.begin(copy::text_columns(names.iter().map(|column| column.name())));
                        readers = Some(vec![Reader::Server; names.len()]);
                    }
                },
                SimpleQueryMessage::Row(row) => {
                    let expected = readers.as_ref().map_or(0, Vec::len);
                    if row.len() != expected {
                        return Err(broken(row.len(), expected));
                    }
                    let mut bytes = 0;
                    for (column, reader) in readers.iter().flatten().enumerate() {
                        match row.try_get(column).map_err(|_| not_utf8())? {
                            None => feed.columns().cells(column).null(),
                            Some(text) => {
                                bytes += text.len();
                                let taken = types::text(*reader, text, feed.columns().cells(column));
                                taken.or_else(|misfit| fit(feed.columns(), column, misfit))?;
                            }
                        }
                    }
                    feed.end_row(bytes);
                }
                SimpleQueryMessage::CommandComplete(rows) => {
                    let told = match readers.take() {
                        Some(_) => kind(statement) == Kind::Change,
                        None => rows > 0 || counts_rows(statement),
                    };
                    feed.ends(Some(rows).filter(|_| told));
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Waits for the driver while the feed is looked after.
    pub(super) async fn wait<T>(&self, feed: &mut Feed, work: impl Future<Output = T>) -> Outcome<T> {
        let link = &self.link;
        let look = || {
            tell_notices(link, feed);
            if self.patience.is_over() { Flow::Stop } else { feed.look() }
        };
        with_cancel(work, look, cancel(link), self.patience.within).await
    }

    /// The next item of a stream: one that is there already costs no waiting. Once nothing more is
    /// wanted the statement is cancelled, and what is still on its way is passed over.
    pub(super) async fn next<T, S>(&self, feed: &mut Feed, mut stream: S) -> Outcome<Option<S::Item>>
    where
        S: Stream<Item = Result<T, tokio_postgres::Error>> + Unpin,
    {
        if self.patience.is_over() {
            feed.stop();
        }
        if feed.flow() == Flow::Continue {
            let there = std::future::poll_fn(|cx| Poll::Ready(stream.poll_next_unpin(cx))).await;
            return match there {
                Poll::Ready(item) => Ok(item),
                Poll::Pending => self.wait(feed, stream.next()).await,
            };
        }
        // The error of having been cancelled is the last.
        work::end(cancel(&self.link), async || matches!(stream.next().await, Some(Ok(_))), self.patience.within)
            .await?;
        Err(EngineError::stopped())
    }
}

/// A value of a row that the driver made: its bytes live as long as it does.
struct ValueOf {
    row: Arc<Row>,
    column: usize,
}

impl AsRef<[u8]> for ValueOf {
    fn as_ref(&self) -> &[u8] {
        // NULL has no bytes, and `Raw` takes every type.
        self.row.try_get::<_, Option<Raw<'_>>>(self.column).ok().flatten().map_or(&[], |Raw(raw)| raw)
    }
}

/// Appends a row in binary form. Where it is `shared`, what is long in it is not copied.
fn append(readers: &[Reader], row: &Row, shared: Option<&Arc<Row>>, feed: &mut Feed) -> Outcome<()> {
    if row.len() != readers.len() {
        return Err(broken(row.len(), readers.len()));
    }
    let mut bytes = 0;
    for (column, reader) in readers.iter().enumerate() {
        let raw = row.try_get::<_, Option<Raw<'_>>>(column).map_err(|error| errors::statement(&error, ""))?;
        let columns = feed.columns();
        let Some(Raw(raw)) = raw else {
            columns.cells(column).null();
            continue;
        };
        bytes += raw.len();
        if shared.is_some_and(|row| raw.len() >= LONG && hold(columns, column, *reader, row)) {
            continue;
        }
        let taken = types::binary(*reader, raw, columns.cells(column));
        taken.or_else(|misfit| fit(columns, column, misfit))?;
    }
    feed.end_row(bytes);
    Ok(())
}

/// Has a value where it lies in its row. `false` where its bytes are not what is kept of it.
fn hold(columns: &mut Columns, column: usize, reader: Reader, row: &Arc<Row>) -> bool {
    let arrived = Arrived::of(Bytes::from_owner(ValueOf { row: Arc::clone(row), column }));
    types::as_kept(reader, arrived.bytes()).is_some_and(|value| columns.hold(column, &arrived, value))
}

/// The error of a row that is none of its result.
fn broken(values: usize, columns: usize) -> EngineError {
    let message = format!("the server's answer is malformed: a row of {values} values for {columns} columns");
    EngineError::new(ErrorKind::Lost, message)
        .remedy("Something on the network changes what the server sends, or the server breaks the protocol. The connection was closed; the next run reconnects.")
}

/// A field of a row of text; none where it is NULL, or no text that can be read.
pub(super) fn said(row: &SimpleQueryRow, at: usize) -> Option<&str> {
    row.try_get(at).ok().flatten()
}

/// The error of a value that a changed `client_encoding` makes unreadable.
fn not_utf8() -> EngineError {
    let message = "the server sent text that is not UTF-8: client_encoding was changed in this session";
    EngineError::new(ErrorKind::Refused, message).remedy("Run: reset client_encoding")
}

/// Puts a value that its column has no room for where it has.
fn fit(columns: &mut Columns, column: usize, misfit: Misfit) -> Outcome<()> {
    match misfit {
        Misfit::Text(text) => {
            columns.become_text(column).map_err(|error| local(&error))?.append_value(text);
            Ok(())
        }
        Misfit::Encoding => Err(not_utf8()),
        Misfit::Broken => {
            Err(EngineError::new(ErrorKind::Lost, "the server sent a value that its protocol does not allow"))
        }
    }
}

/// Whether the server says that the text holds several statements.
fn is_several(error: &tokio_postgres::Error) -> bool {
    let said = error.as_db_error();
    said.is_some_and(|db| db.code().code() == "42601" && db.routine() == Some("exec_parse_message"))
}

/// A value that the server reads as the type that it wants.
#[derive(Debug)]
struct AsText(Option<String>);

impl AsText {
    /// It as a literal, whatever the server's settings of strings are. The type is that of where it stands.
    fn literal(&self) -> String {
        match &self.0 {
            Some(text) => format!("E'{}'", text.replace('\\', "\\\\").replace('\'', "''")),
            None => "null".to_owned(),
        }
    }
}

impl ToSql for AsText {
    fn to_sql(
        &self,
        _: &tokio_postgres::types::Type,
        out: &mut bytes::BytesMut,
    ) -> Result<tokio_postgres::types::IsNull, Box<dyn std::error::Error + Sync + Send>> {
        Ok(match &self.0 {
            Some(text) => {
                out.extend_from_slice(text.as_bytes());
                tokio_postgres::types::IsNull::No
            }
            None => tokio_postgres::types::IsNull::Yes,
        })
    }

    fn accepts(_: &tokio_postgres::types::Type) -> bool {
        true
    }

    fn encode_format(&self, _: &tokio_postgres::types::Type) -> tokio_postgres::types::Format {
        tokio_postgres::types::Format::Text
    }

    tokio_postgres::types::to_sql_checked!();
}

fn no_parameters(prepared: &tokio_postgres::Statement) -> Outcome<()> {
    if prepared.params().is_empty() {
        return Ok(());
    }
    let what = "no value for the parameter $1";
    Err(EngineError::new(ErrorKind::Refused, what)
        .remedy("Give one with --parameter, or write the value into the statement."))
}

/// Whether "no rows" is worth telling.
fn counts_rows(statement: &str) -> bool {
    matches!(kind(statement), Kind::Change | Kind::Query)
}
