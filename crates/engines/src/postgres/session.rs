//! An open connection: running statements and telling where it is.

use std::pin::pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::task::Poll;

use futures_util::{Stream, StreamExt};
use jaunty_core::catalog::{Catalog, Object};
use jaunty_core::connection::Profile;
use jaunty_core::engine::{
    Abilities, Canceller, Effect, EngineError, ErrorKind, Flow, Place, Session, Sink, Step, Switch, SwitchKind,
    Touches, Transaction,
};
use jaunty_core::rows::columns::Columns;
use jaunty_core::run::parameters::{self, Value, value_of};
use jaunty_core::text::dialect::{Kind, POSTGRES};
use jaunty_core::text::{client_line, split, touched};
use tokio_postgres::types::ToSql;
use tokio_postgres::{AsyncMessage, Column, SimpleQueryMessage, SimpleQueryRow};

use super::cancel::cancel;
use super::connect::Link;
use super::origins::Origins;
use super::types::{self, Misfit, Plan, Raw};
use super::{catalog, copy, errors};
use crate::net::feed::{Feed, local};
use crate::net::work::{self, StopFlag, watched};

/// A session on a server.
pub struct PostgresSession {
    pub(super) link: Link,
    pub(super) stop: StopFlag,
    place: Place,
    origins: Origins,
    /// How many statements were prepared in SQL.
    prepared: AtomicU64,
}

/// A driver's error, as the seam has it.
pub(super) type Outcome<T> = Result<T, EngineError>;

/// How long the server is given to look at a statement.
const CHECK: std::time::Duration = std::time::Duration::from_secs(2);

impl PostgresSession {
    /// Sets a new connection up.
    pub fn begin(link: Link, profile: &Profile) -> Outcome<PostgresSession> {
        let mut session = PostgresSession {
            link,
            stop: StopFlag::default(),
            place: Place::default(),
            origins: Origins::default(),
            prepared: AtomicU64::new(0),
        };
        let failed = |error: EngineError| EngineError { step: Some(Step::Session), kind: ErrorKind::Connect, ..error };
        // What is written as text is read by its ISO form.
        let mut setup = vec!["set datestyle = iso".to_owned(), "set bytea_output = hex".to_owned()];
        if let Some(schema) = profile.text("schema") {
            let path: Vec<_> = schema.split(',').map(|name| quoted(name.trim())).collect();
            setup.push(format!("set search_path to {}", path.join(", ")));
        }
        if let Some(role) = profile.text("role") {
            setup.push(format!("set role {}", quoted(role)));
        }
        setup.push("select version from pg_stat_ssl where pid = pg_backend_pid()".to_owned());
        let rows = session.ask(&setup.join("; ")).map_err(failed)?;
        let version = rows.first().and_then(|row| row.get(0)).filter(|version| !version.is_empty());
        let way = match &session.link.route.address {
            crate::net::reach::Address::Socket(_) => "socket".to_owned(),
            _ => session.link.security.in_words(version),
        };
        session.place.way = match &session.link.route.tunnel {
            Some(tunnel) => format!("{way}, through {}", tunnel.name()),
            None => way,
        };
        session.place.server = format!("postgres {}", session.link.version.split(' ').next().unwrap_or_default());
        tracing::debug!(way = session.place.way, "connected");
        Ok(session)
    }

    /// Asks the server something of our own, all of it at once, as text.
    pub(super) fn ask(&mut self, statement: &str) -> Outcome<Vec<SimpleQueryRow>> {
        self.stop.clear();
        let (link, stop) = (&self.link, &self.stop);
        let look = || if stop.is_set() { Flow::Stop } else { Flow::GoOn };
        let asked =
            link.runtime.block_on(async { watched(link.client.simple_query(statement), look, cancel(link)).await })?;
        let messages = asked.map_err(|error| errors::statement(&error, statement))?;
        Ok(messages
            .into_iter()
            .filter_map(|message| if let SimpleQueryMessage::Row(row) = message { Some(row) } else { None })
            .collect())
    }

    /// Runs a statement, whatever it is.
    fn carry_out(&self, statement: &str, values: &[Value], feed: &mut Feed) -> Outcome<()> {
        if values.is_empty() {
            return self.carry_out_with(statement, &[], feed);
        }
        let numbered = parameters::numbered(statement, &POSTGRES);
        let given: Vec<AsText> = numbered.names.iter().map(|name| AsText(value_of(values, name).text())).collect();
        self.carry_out_with(&numbered.text, &given, feed).map_err(|error| numbered.error(error))
    }

    fn carry_out_with(&self, statement: &str, given: &[AsText], feed: &mut Feed) -> Outcome<()> {
        let link = &self.link;
        link.runtime.block_on(async {
            if let Some(direction) = copy::direction(statement) {
                return copy::carry_out(self, statement, direction, feed).await;
            }
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
            let plan = Plan::of(prepared.columns());
            if !plan.is_binary() {
                let columns = plan.columns(prepared.columns(), &self.origins, &link.zone);
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
                feed.affected(touched);
                return Ok(());
            }
            feed.begin(plan.columns(prepared.columns(), &self.origins, &link.zone));
            while let Some(row) = self.next(feed, rows.as_mut()).await? {
                let row = row.map_err(|error| errors::statement(&error, statement))?;
                let mut bytes = 0;
                for (column, reader) in plan.readers.iter().enumerate() {
                    let raw = row
                        .try_get::<_, Option<Raw<'_>>>(column)
                        .map_err(|error| errors::statement(&error, statement))?;
                    match raw {
                        None => feed.columns().cells(column).null(),
                        Some(Raw(raw)) => {
                            bytes += raw.len();
                            let taken = types::binary(*reader, raw, feed.columns().cells(column));
                            taken.or_else(|misfit| fit(feed.columns(), column, misfit))?;
                        }
                    }
                }
                feed.end_row(bytes);
            }
            Ok(())
        })
    }

    /// Asks which tables these columns are of. Not inside a transaction, which a question that fails would
    /// end.
    async fn learn_origins(&self, columns: &[Column], feed: &mut Feed) -> Outcome<()> {
        if let Some(question) = self.origins.question(columns).filter(|_| !self.place.in_transaction()) {
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
        // In a transaction that failed it is not possible, and the end of the session does it too.
        if let Err(error) = self.link.client.simple_query(&format!("deallocate {name}")).await {
            tracing::debug!(%error, "a prepared statement stays");
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
            match message.map_err(failed)? {
                SimpleQueryMessage::RowDescription(names) => match plan.take() {
                    Some((plan, columns)) => {
                        feed.begin(columns);
                        readers = Some(plan.readers);
                    }
                    None => {
                        feed.begin(copy::text_columns(names.iter().map(|column| column.name())));
                        readers = Some(vec![types::Reader::Server; names.len()]);
                    }
                },
                SimpleQueryMessage::Row(row) => {
                    let mut bytes = 0;
                    for (column, reader) in readers.iter().flatten().enumerate() {
                        match row.get(column) {
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
                // The end of a result with columns says nothing new.
                SimpleQueryMessage::CommandComplete(rows) if readers.take().is_none() => {
                    feed.affected(Some(rows).filter(|_| rows > 0 || counts_rows(statement)));
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
            if self.stop.is_set() { Flow::Stop } else { feed.look() }
        };
        watched(work, look, cancel(link)).await
    }

    /// The next item of a stream: one that is there already costs no waiting. Once nothing more is
    /// wanted the statement is cancelled, and what is still on its way is passed over.
    pub(super) async fn next<T, S>(&self, feed: &mut Feed, mut stream: S) -> Outcome<Option<S::Item>>
    where
        S: Stream<Item = Result<T, tokio_postgres::Error>> + Unpin,
    {
        if self.stop.is_set() {
            feed.stop();
        }
        if feed.flow() == Flow::GoOn {
            let there = std::future::poll_fn(|cx| Poll::Ready(stream.poll_next_unpin(cx))).await;
            return match there {
                Poll::Ready(item) => Ok(item),
                Poll::Pending => self.wait(feed, stream.next()).await,
            };
        }
        // The wish first: while nobody takes rows the server waits, and the wish has the way to itself.
        let told = tokio::time::timeout(work::PATIENCE, cancel(&self.link)).await;
        // The error of having been cancelled is the last.
        work::pass_over(async || matches!(stream.next().await, Some(Ok(_)))).await?;
        told.map_err(|_| work::deaf())?;
        Err(EngineError::stopped())
    }
}

/// Puts a value that its column has no room for where it has.
fn fit(columns: &mut Columns, column: usize, misfit: Misfit) -> Outcome<()> {
    match misfit {
        Misfit::Text(text) => {
            columns.become_text(column).map_err(|error| local(&error))?.append_value(text);
            Ok(())
        }
        Misfit::Broken => {
            Err(EngineError::new(ErrorKind::Lost, "the server sent a value that its own protocol does not know"))
        }
    }
}

fn tell_notices(link: &Link, feed: &mut Feed) {
    for message in link.said.try_iter() {
        match message {
            AsyncMessage::Notice(notice) => {
                let detail = notice.detail().map_or(String::new(), |detail| format!(" ({detail})"));
                feed.notice(notice.severity().to_lowercase(), format!("{}{detail}", notice.message()));
            }
            AsyncMessage::Notification(heard) => {
                feed.notice("notification", format!("{}: {}", heard.channel(), heard.payload()));
            }
            _ => {}
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
    let what = "the statement has a parameter, $1, and no value for it";
    Err(EngineError::new(ErrorKind::Refused, what)
        .remedy("Give it one with --parameter, or write the value in its place."))
}

/// What a statement is, by its first word.
pub(super) fn kind(statement: &str) -> Kind {
    split::kind(statement, &POSTGRES).unwrap_or(Kind::Other)
}

/// Whether "no rows" is worth telling.
fn counts_rows(statement: &str) -> bool {
    matches!(kind(statement), Kind::Change | Kind::Query)
}

/// A name in quotes.
pub(super) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

impl Session for PostgresSession {
    fn abilities(&self) -> Abilities {
        Abilities { cancel: true, transactions: true, read_only: true, effect: true, several_results: true }
    }

    fn place(&mut self) -> Outcome<Place> {
        // In a transaction the clock of its beginning stands still, and that of the statement does not.
        let asked = self.ask(
            "select current_database(), coalesce(current_schema(), ''), current_user, now() = statement_timestamp(), current_setting('TimeZone'), pg_backend_pid()",
        );
        match asked {
            Ok(rows) => {
                let row = rows.first();
                let field = |at: usize| row.and_then(|row| row.get(at)).unwrap_or_default().to_owned();
                let open = field(3) == "f";
                self.link.zone = field(4);
                self.place = Place {
                    database: field(0),
                    schema: field(1),
                    user: field(2),
                    session: format!("process {}", field(5)),
                    transaction: open.then_some(Transaction::Open),
                    ..self.place.clone()
                };
            }
            Err(error) if error.code.as_deref() == Some("25P02") => self.place.transaction = Some(Transaction::Failed),
            Err(error) => return Err(error),
        }
        Ok(self.place.clone())
    }

    fn effect(&mut self, statement: &str) -> Outcome<Effect> {
        client_line(statement, &POSTGRES)?;
        let touches =
            |rows| Touches { rows, counted: false, everything: touched::touches_everything(statement, &POSTGRES) };
        match kind(statement) {
            Kind::Setting | Kind::Transaction => Ok(Effect::Reads),
            Kind::Definition => Ok(Effect::Writes(touches(None))),
            // It cannot be explained, and asking would break an open transaction.
            Kind::Change if touched::is_truncate(statement) => Ok(Effect::Writes(touches(None))),
            Kind::Query | Kind::Change => {
                let explained = self.ask(&format!("explain (format json) {statement}"))?;
                let text: String = explained.iter().filter_map(|row| row.get(0)).collect();
                match rows_modified(&text) {
                    Some(rows) => Ok(Effect::Writes(touches(rows))),
                    None if kind(statement) == Kind::Change => Ok(Effect::Writes(touches(None))),
                    None => Ok(Effect::Reads),
                }
            }
            Kind::Plan => {
                // An explanation with ANALYZE carries the statement out.
                let runs = statement.to_ascii_lowercase().contains("analyze");
                Ok(if runs { Effect::Unknown } else { Effect::Reads })
            }
            Kind::Other => Ok(Effect::Unknown),
        }
    }

    fn check(&mut self, statement: &str) -> Outcome<()> {
        if client_line(statement, &POSTGRES).is_err() || !matches!(kind(statement), Kind::Query | Kind::Change) {
            return Ok(());
        }
        let link = &self.link;
        let numbered = parameters::numbered(statement, &POSTGRES);
        let prepared =
            link.runtime.block_on(async { tokio::time::timeout(CHECK, link.client.prepare(&numbered.text)).await });
        match prepared {
            Ok(Err(error)) => Err(numbered.error(errors::statement(&error, &numbered.text))),
            // A server that takes long is busy with something else.
            Ok(Ok(_)) | Err(_) => Ok(()),
        }
    }

    fn run(&mut self, statement: &str, sink: Box<dyn Sink>) -> Outcome<()> {
        self.run_with(statement, &[], sink)
    }

    fn run_with(&mut self, statement: &str, values: &[Value], sink: Box<dyn Sink>) -> Outcome<()> {
        client_line(statement, &POSTGRES)?;
        self.stop.clear();
        if kind(statement) == Kind::Definition {
            self.origins.forget();
        }
        let mut feed = Feed::new(sink);
        let outcome = self.carry_out(statement, values, &mut feed);
        // Notices of the end are there when the end is.
        self.link.runtime.block_on(tokio::task::yield_now());
        tell_notices(&self.link, &mut feed);
        feed.end(outcome)
    }

    fn stands(&mut self) -> bool {
        // What the server sent at rest, its end among it, is taken in now.
        self.link.runtime.block_on(async {
            for _ in 0..3 {
                tokio::time::sleep(std::time::Duration::from_millis(1)).await;
            }
        });
        !self.link.client.is_closed()
    }

    fn switch(&mut self, to: &Switch) -> Outcome<bool> {
        let statement = match to.kind {
            SwitchKind::Database => return Ok(false),
            SwitchKind::Schema => format!("set search_path to {}", quoted(&to.to)),
            SwitchKind::Role => format!("set role {}", quoted(&to.to)),
        };
        // A schema that is not there would be taken in silence.
        if to.kind == SwitchKind::Schema && !self.choices(SwitchKind::Schema)?.contains(&to.to) {
            let what = format!("there is no schema \"{}\" that you may use", to.to);
            return Err(EngineError::new(ErrorKind::Refused, what));
        }
        self.ask(&statement).map(|_| true)
    }

    fn choices(&mut self, of: SwitchKind) -> Outcome<Vec<String>> {
        let rows = self.ask(match of {
            SwitchKind::Database => {
                "select datname from pg_database where datallowconn and not datistemplate and has_database_privilege(oid, 'connect') order by 1"
            }
            SwitchKind::Schema => {
                "select nspname from pg_namespace where nspname !~ '^pg_(toast|temp)' and has_schema_privilege(oid, 'usage') order by nspname ~ '^pg_' or nspname = 'information_schema', 1"
            }
            SwitchKind::Role => "select rolname from pg_roles where pg_has_role(session_user, oid, 'member') order by 1",
        })?;
        Ok(rows.iter().filter_map(|row| row.get(0)).map(str::to_owned).collect())
    }

    fn catalog(&mut self, part: usize, catalog: &mut Catalog) -> Result<bool, EngineError> {
        catalog::read(self, part, catalog)
    }

    fn definition(&mut self, of: &Object) -> Result<Option<String>, EngineError> {
        catalog::definition(self, of)
    }

    fn canceller(&self) -> Arc<dyn Canceller> {
        Arc::new(self.stop.clone())
    }
}

/// How many rows the server thinks a plan would change: `None` if it changes none at all.
#[allow(clippy::option_option)] // Outside: whether it writes. Inside: whether the server says how much.
fn rows_modified(plan: &str) -> Option<Option<u64>> {
    let plan: serde_json::Value = serde_json::from_str(plan).ok()?;
    let mut nodes = vec![&plan[0]["Plan"]];
    while let Some(node) = nodes.pop() {
        let below = node["Plans"].as_array();
        if node["Node Type"] == "ModifyTable" {
            let rows = below.into_iter().flatten().filter_map(|node| node["Plan Rows"].as_f64()).sum::<f64>();
            return Some(Some(rows as u64));
        }
        nodes.extend(below.into_iter().flatten());
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plan_tells_whether_it_writes() {
        let plan = |node: &str| {
            format!(
                "[{{\"Plan\": {{\"Node Type\": \"{node}\", \"Plans\": [{{\"Node Type\": \"Seq Scan\", \"Plan Rows\": 12}}]}}}}]"
            )
        };
        assert_eq!(rows_modified(&plan("ModifyTable")), Some(Some(12)));
        assert_eq!(rows_modified(&plan("Sort")), None);
    }

    #[test]
    fn kinds_are_told_by_the_first_word() {
        assert_eq!(kind("with a as (select 1) delete from t"), Kind::Change);
        assert_eq!(kind("explain (analyze) delete from t"), Kind::Plan);
        assert_eq!(kind("show search_path"), Kind::Setting);
    }
}
