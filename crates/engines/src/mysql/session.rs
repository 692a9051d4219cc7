//! An open connection: running statements and telling where it is.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use crate::client_line;
use jaunty_language::dialect::{Kind, MYSQL};
use jaunty_language::statement::acts::{self, Acts};
use jaunty_language::statement::made::made_in;
use jaunty_language::statement::parameters::{self, ParameterValue, with_literals};
use jaunty_language::statement::touched;
use jaunty_mysql::client::status;
use jaunty_mysql::fields::Fields;
use jaunty_mysql::{Client, Error, Pace, Parameter, ServerError, Token};
use jaunty_seam::catalog::{Catalog, Object};
use jaunty_seam::engine::load::{Load, NextRows};
use jaunty_seam::engine::{
    Abilities, CatalogPart, Effect, Flow, Location, Message, Reading, Request, Session, Sink, Stop, Switch, SwitchKind,
    Touches, Transaction, Verdict,
};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Guard, Profile};

use super::connect::{self, Again, Link, Way};
use super::results::{What, carry_out, kind};
use super::{catalog, errors};
use crate::net::feed::Feed;
use crate::net::servers::{self, Bearing};
use crate::net::work::{PATIENCE, Patience, given_up, with_cancel};

/// Functions of sequences that go on with them.
const SEQUENCES: &[&str] = &["nextval", "setval"];

/// Words of functions that write.
const WRITE: &[&str] = &[
    "INSERT", "UPDATE", "DELETE", "REPLACE", "TRUNCATE", "CREATE", "ALTER", "DROP", "LOAD", "CALL", "EXECUTE",
    "NEXTVAL", "SETVAL",
];

/// A session on a server.
pub struct MysqlSession {
    pub(super) link: Link,
    pub(super) patience: Patience,
    location: Location,
    /// The server was told to refuse writes.
    read_only: bool,
    /// It knows roles, as far as is known.
    has_roles: bool,
    /// An answer is still owed by the server that nobody waits for any more: it would meet what is asked next.
    given_up: bool,
    /// Names of temporary tables that were made, in lower case: the server does not list them.
    pub(super) temporary: BTreeSet<String>,
}

impl MysqlSession {
    /// Sets a new connection up.
    ///
    /// It is given up where the server is not what `target` asks for.
    pub fn begin(
        link: Link,
        (profile, target): (&Profile, &str),
        limit: Instant,
        stop: &Stop,
    ) -> Result<MysqlSession, EngineError> {
        let location = Location { transport: link.transport.clone(), ..Location::default() };
        let read_only = profile.guard == Guard::ReadOnly;
        let mut session = MysqlSession {
            link,
            patience: Patience::of(profile, limit, stop),
            location,
            read_only,
            has_roles: true,
            given_up: false,
            temporary: BTreeSet::new(),
        };
        let failed = |error: EngineError| EngineError { step: Some(Step::Session), kind: ErrorKind::Connect, ..error };
        for statement in connect::setup(profile, session.link.client.version().contains("MariaDB")) {
            session.ask(statement).map_err(failed)?;
        }
        let version = session.ask("select version()").map_err(failed)?;
        let version = version.first().map(|row| field(row, 0)).unwrap_or_default();
        let name = if version.contains("MariaDB") { "mariadb" } else { "mysql" };
        // Behind the number stand the distribution and its build.
        let at = servers::are_several(profile).then(|| format!(" at {}", session.link.again.route.address));
        let number = version.split('-').next().unwrap_or_default();
        session.location.server = format!("{name} {number}{}", at.unwrap_or_default());
        if target != "any" {
            // Those that follow another one are set so: MySQL Reference Manual, "read_only".
            let asked = session.ask("select @@global.read_only").map_err(failed)?;
            let read_only = asked.first().is_some_and(|row| !matches!(field(row, 0).as_str(), "0" | "OFF"));
            let kind = if read_only { "read-only" } else { "a primary" };
            Bearing { standby: read_only, read_only, kind }.is(target, &session.link.again.route.address)?;
        }
        session.ask_where().map_err(failed)?;
        session.patience.is_connected();
        Ok(session)
    }

    /// Asks the server something of our own, all of it at once.
    pub(super) fn ask(&mut self, statement: &str) -> Result<Vec<Row>, EngineError> {
        self.ask_all(statement).map(|(_, rows)| rows)
    }

    /// The same with the names of the columns.
    fn ask_all(&mut self, statement: &str) -> Result<(Vec<String>, Vec<Row>), EngineError> {
        let asked = self.within(async |client| answer(client, statement).await, None)?;
        asked.map_err(|error| errors::statement(&error, statement))
    }

    /// Waits for something of the connection. When it is no longer wanted, or this much time has gone by, the server is
    /// told to end what runs: the answer is waited for all the same, since it would be taken for that to the next
    /// question.
    pub(super) fn within<T>(
        &mut self,
        work: impl AsyncFnOnce(&mut Client<Way>) -> Result<T, Error>,
        limit: Option<Duration>,
    ) -> Result<Result<T, Error>, EngineError> {
        self.refuse_if_given_up()?;
        let until = limit.map(|limit| Instant::now() + limit);
        let is_late = || until.is_some_and(|until| Instant::now() >= until);
        let (Link { runtime, client, again, .. }, patience) = (&mut self.link, &self.patience);
        let cancel = cancel(again.clone(), client.id());
        let look = || if is_late() { Flow::Stop } else { patience.look() };
        let done = runtime.block_on(async { with_cancel(work(client), look, cancel, patience.within).await });
        // After any other error than one of the server's, what comes next may belong to this question.
        self.given_up |= !matches!(&done, Ok(Ok(_) | Err(Error::Server(_))));
        done.map_err(|error| if patience.is_overdue() { again.route.silent_after() } else { error })
    }

    /// Asks where the session is.
    fn ask_where(&mut self) -> Result<(), EngineError> {
        // Servers from before there were roles (MySQL 5.7), and others that speak the protocol, do not know the function.
        let mut asked = Err(EngineError::new(ErrorKind::Refused, ""));
        if self.has_roles {
            asked = self.ask("select database(), current_user(), coalesce(current_role(), '')");
        }
        if matches!(&asked, Err(error) if error.kind == ErrorKind::Refused) {
            asked = self.ask("select database(), current_user(), ''");
            self.has_roles &= asked.is_err();
        }
        let rows = asked?;
        let row = rows.first();
        let text = |at| row.map(|row| field(row, at)).unwrap_or_default();
        let (user, role) = (text(1), text(2));
        self.location = Location {
            database: text(0),
            session: format!("connection {}", self.link.client.id()),
            user: if role.is_empty() || role == "NONE" { user } else { format!("{user} as {role}") },
            transaction: self.told_of_transaction().unwrap_or(self.location.transaction),
            uncertain: false,
            ..self.location.clone()
        };
        if self.read_only {
            self.keep_guard();
        }
        Ok(())
    }

    /// The open transaction by the flags of the last answer; none of them comes with an error.
    fn told_of_transaction(&self) -> Option<Option<Transaction>> {
        let told = self.link.client.status()?;
        Some((told & status::IN_TRANSACTION != 0).then_some(Transaction::Open))
    }

    /// Asks the server to prepare a text, and lets what it made go; for so long.
    fn prepare(&mut self, text: &str, limit: Duration) -> Result<Result<(), Error>, EngineError> {
        self.within(async |client| prepared(client, text).await, Some(limit))
    }

    /// Whoever was given up on is not asked again.
    fn refuse_if_given_up(&self) -> Result<(), EngineError> {
        if self.given_up { Err(given_up()) } else { Ok(()) }
    }

    fn carry_out(&mut self, statement: &str, what: What<'_>, feed: &mut Feed) -> Result<u16, EngineError> {
        let Link { runtime, client, again, .. } = &mut self.link;
        let (again, id) = (again.clone(), client.id());
        let cancel = || cancel(again.clone(), id);
        let outcome = runtime.block_on(carry_out(client, statement, what, &self.patience, cancel, feed));
        self.given_up |= matches!(&outcome, Err(error) if error.kind == ErrorKind::Lost);
        outcome
    }

    /// Sees whether the server still refuses writes, and tells it to where something that ran has told it not to.
    fn keep_guard(&mut self) {
        // Each has it under its own name, and some versions under both.
        let mut names = ["tx_read_only", "transaction_read_only"];
        if !self.location.server.starts_with("mariadb") {
            names.reverse();
        }
        let on = |session: &mut MysqlSession| {
            let told = names.iter().find_map(|name| session.ask(&format!("select @@session.{name}")).ok());
            told.is_some_and(|rows| rows.first().is_some_and(|row| field(row, 0) == "1"))
        };
        if !on(self) {
            tracing::warn!("a read-only session was told to let writes through; it is set back");
            let set = self.ask("set session transaction read only");
            self.location.guard_lifted = set.is_err() || !on(self);
        } else {
            self.location.guard_lifted = false;
        }
    }

    /// Whether one of these functions may write, by what the server knows of it.
    fn function_writes(&mut self, names: &[String]) -> Result<bool, EngineError> {
        if names.iter().any(|name| SEQUENCES.iter().any(|known| name.eq_ignore_ascii_case(known))) {
            return Ok(true);
        }
        let list: Vec<_> = names.iter().map(|name| MYSQL.text_as_written(name)).collect();
        let rows = self.ask(&format!(
            "select sql_data_access, routine_definition from information_schema.routines \
             where routine_type = 'FUNCTION' and routine_name in ({})",
            list.join(", ")
        ))?;
        Ok(rows.iter().any(|row| match field(row, 0).as_str() {
            "READS SQL DATA" | "NO SQL" => false,
            // It says nothing of that: its text does, where one may see it.
            "CONTAINS SQL" => field(row, 1).is_empty() || acts::holds_word(&field(row, 1), &MYSQL, WRITE),
            _ => true,
        }))
    }

    fn tell_warnings(&mut self, count: u16, feed: &mut Feed) {
        if count == 0 {
            return;
        }
        let told = self.ask("show warnings").unwrap_or_default();
        for row in &told {
            let code = Some(field(row, 1)).filter(|code| !code.is_empty());
            feed.message(Message { code, ..Message::new(field(row, 0).to_lowercase(), field(row, 2)) });
        }
        let more = usize::from(count).saturating_sub(told.len());
        if more > 0 {
            let text = format!("the server counted {more} more and keeps no more of them than max_error_count says");
            feed.message(Message::new("note", text));
        }
    }
}

/// A row of an answer to something of our own.
pub(super) type Row = Vec<Option<Vec<u8>>>;

/// All of an answer: the names of the columns, and the rows.
async fn answer(client: &mut Client<Way>, statement: &str) -> Result<(Vec<String>, Vec<Row>), Error> {
    let (mut names, mut rows) = (Vec::new(), Vec::new());
    client.query(statement).await?;
    loop {
        match client.token()? {
            Pace::Wait => client.fill().await?,
            Pace::Token(Token::Columns(columns)) => names = columns.into_iter().map(|column| column.name).collect(),
            Pace::Token(Token::Row(row)) => {
                let mut fields = Fields::of(client.bytes(row));
                let row: Option<Row> = names.iter().map(|_| Some(fields.nullable()?.map(<[u8]>::to_vec))).collect();
                rows.push(row.ok_or(Error::Broken("a row that ends in the middle"))?);
            }
            Pace::Token(Token::File(_)) => client.end_parts().await?,
            Pace::Token(Token::Error(error)) => return Err(Error::Server(error)),
            Pace::Token(Token::End) => return Ok((names, rows)),
            Pace::Token(_) => {}
        }
    }
}

/// Whether the server answers.
async fn ping(client: &mut Client<Way>) -> Result<(), Error> {
    client.ping().await?;
    loop {
        match client.token()? {
            Pace::Wait => client.fill().await?,
            Pace::Token(Token::End) => return Ok(()),
            Pace::Token(Token::Error(error)) => return Err(Error::Server(error)),
            Pace::Token(_) => {}
        }
    }
}

/// Whether a statement can be prepared.
async fn prepared(client: &mut Client<Way>, statement: &str) -> Result<(), Error> {
    client.prepare(statement).await?;
    loop {
        match client.token()? {
            Pace::Wait => client.fill().await?,
            Pace::Token(Token::Prepared { id, .. }) => return client.close(id).await,
            Pace::Token(Token::Error(error)) => return Err(Error::Server(error)),
            Pace::Token(_) => return Err(Error::Broken("an answer to another question")),
        }
    }
}

/// A value as it is sent.
fn sent(given: ParameterValue) -> Parameter {
    match given {
        ParameterValue::Null => Parameter::Null,
        ParameterValue::Bool(value) => Parameter::Int(i64::from(value)),
        ParameterValue::Int(value) => Parameter::Int(value),
        ParameterValue::Number(text) => {
            text.parse().map_or_else(|_| Parameter::Bytes(text.clone().into_bytes()), Parameter::Double)
        }
        ParameterValue::Text(text) => Parameter::Bytes(text.into_bytes()),
        ParameterValue::Bytes(bytes) => Parameter::Bytes(bytes),
    }
}

/// A field as text; NULL is empty.
pub(super) fn field(row: &Row, at: usize) -> String {
    row.get(at).and_then(Option::as_deref).map(|raw| String::from_utf8_lossy(raw).into_owned()).unwrap_or_default()
}

/// Asks the server, on a connection of its own, to end what runs on this one.
pub(super) async fn cancel(again: Again, id: u32) {
    let killed = async {
        let (mut client, _route) = again.connect().await?;
        let statement = format!("kill query {id}");
        answer(&mut client, &statement).await.map_err(|error| errors::statement(&error, &statement))?;
        client.quit().await.map_err(|error| errors::statement(&error, &statement))
    };
    if let Err(error) = killed.await {
        tracing::warn!(%error, "a statement could not be cancelled");
    }
}

impl Drop for MysqlSession {
    /// Tells the server, which counts connections that end without a word as aborted.
    fn drop(&mut self) {
        let Link { runtime, client, .. } = &mut self.link;
        if !self.given_up {
            let said = runtime.block_on(async { tokio::time::timeout(GOODBYE, client.quit()).await });
            tracing::debug!(?said, "quit");
        }
    }
}

/// How long saying goodbye may take.
const GOODBYE: Duration = Duration::from_millis(200);

impl Session for MysqlSession {
    fn abilities(&self) -> Abilities {
        Abilities { cancel: true, transactions: true, read_only: true, effect: true, several_results: true }
    }

    fn location(&self) -> Location {
        self.location.clone()
    }

    fn locate(&mut self, stop: &Stop) -> Result<Location, EngineError> {
        self.patience.follow(stop);
        self.ask_where()?;
        Ok(self.location())
    }

    fn effect(&mut self, request: &Request<'_>) -> Result<Effect, EngineError> {
        let (statement, values) = (request.text, request.values);
        self.patience.follow(&request.stop);
        client_line::refuse(statement, &MYSQL)?;
        let everything = touched::touches_everything(statement, &MYSQL);
        let touches = |rows| Effect::Writes(Touches { rows, counted: false, everything });
        match acts::acts(statement, &MYSQL) {
            Acts::Hidden | Acts::Outside(_) => return Ok(Effect::Unknown),
            Acts::Reads => {
                let functions = acts::called(statement, &MYSQL);
                if acts::holds_word(statement, &MYSQL, &["NEXT"])
                    || (!functions.is_empty() && self.function_writes(&functions)?)
                {
                    return Ok(Effect::Unknown);
                }
                // A mistake is told before it is run.
                if kind(statement) == Kind::Query {
                    self.ask(&format!("explain {}", with_literals(statement, &MYSQL, values)))?;
                }
                return Ok(Effect::Reads);
            }
            Acts::Writes => {}
        }
        match kind(statement) {
            // The server takes the word after `explain` for a table's name if it is none of these.
            Kind::Change if touched::is_truncate(statement) => Ok(touches(None)),
            Kind::Change => match self.ask_all(&format!("explain {}", with_literals(statement, &MYSQL, values))) {
                Ok((names, rows)) => Ok(touches(rows.first().and_then(|row| estimate(&names, row)))),
                Err(error) if error.code.as_deref() == Some("1064") => Ok(touches(None)),
                Err(error) => Err(error),
            },
            // An analysis carries the statement out.
            Kind::Plan => Ok(Effect::Unknown),
            _ => Ok(touches(None)),
        }
    }

    fn check(&mut self, request: &Request<'_>) -> Result<Verdict, EngineError> {
        let statement = request.text;
        if client_line::refuse(statement, &MYSQL).is_err() || !matches!(kind(statement), Kind::Query | Kind::Change) {
            return Ok(Verdict::Unknown);
        }
        self.patience.follow(&request.stop);
        let numbered = parameters::numbered(statement, &MYSQL);
        match self.prepare(&numbered.text, CHECK)? {
            Ok(()) => Ok(Verdict::Accepted),
            Err(Error::Server(error)) if UNTOLD.contains(&error.code) => Ok(Verdict::Unknown),
            Err(error) => Err(errors::statement(&error, &numbered.text).as_written(&numbered)),
        }
    }

    fn reading(&mut self, request: &Request<'_>, next: usize) -> Reading {
        let text = request.text;
        self.patience.follow(&request.stop);
        let numbered = parameters::numbered(text, &MYSQL);
        match self.prepare(&numbered.text, PATIENCE) {
            Ok(Ok(())) => Reading::One,
            Ok(Err(Error::Server(ServerError { code: INTERRUPTED, .. }))) => Reading::Unknown,
            Ok(Err(Error::Server(server))) => match server.code {
                // A mistake of syntax.
                1064 | 1149 => {
                    let error = errors::of_statement(&server, &numbered.text);
                    Reading::stopped_at(error.as_written(&numbered).at, next)
                }
                // All of it was read, and something it names is not there.
                _ => Reading::One,
            },
            Ok(Err(_)) | Err(_) => Reading::Unknown,
        }
    }

    fn load(&mut self, load: &Load<'_>, next: &mut NextRows<'_>) -> Result<u64, EngineError> {
        self.load_rows(load, next)
    }

    fn run(&mut self, request: &Request<'_>, sink: Box<dyn Sink>) -> Result<(), EngineError> {
        let (statement, values) = (request.text, request.values);
        client_line::refuse(statement, &MYSQL)?;
        self.refuse_if_given_up()?;
        self.patience.follow(&request.stop);
        if acts::holds_word(statement, &MYSQL, &["TEMPORARY"]) {
            self.temporary.extend(made_in(statement, &MYSQL));
        }
        let mut feed = Feed::new(sink);
        let outcome = match values {
            // The protocol of prepared statements has numbers as they are, and not as texts.
            [] if request.exact => match self.carry_out(statement, What::Prepared(&[]), &mut feed) {
                Err(error) if error.code.as_deref() == Some(UNPREPARED) => {
                    self.carry_out(statement, What::Text, &mut feed)
                }
                outcome => outcome,
            },
            [] => self.carry_out(statement, What::Text, &mut feed),
            _ => {
                let numbered = parameters::numbered(statement, &MYSQL);
                let given: Vec<_> =
                    numbered.names.iter().map(|name| sent(parameters::value_of(values, name))).collect();
                self.carry_out(&numbered.text, What::Prepared(&given), &mut feed)
                    .map_err(|error| error.as_written(&numbered))
            }
        };
        // Before anything else is asked: the flags are those of the last answer.
        match self.told_of_transaction() {
            Some(told) => self.location.transaction = told,
            // Few errors end a transaction; a deadlock does.
            None if matches!(&outcome, Err(error) if error.code.as_deref() == Some(DEADLOCK)) => {
                self.location.transaction = None;
            }
            None => self.location.uncertain = true,
        }
        if let Ok(warnings) = outcome {
            self.tell_warnings(warnings, &mut feed);
        }
        let outcome = feed.end(outcome.map(drop));
        self.location.uncertain |= may_move(statement);
        if self.read_only && !matches!(&outcome, Err(error) if error.kind == ErrorKind::Lost) {
            // The one thing that is asked after a statement: whether writes are still refused.
            self.patience.follow_none();
            self.keep_guard();
        }
        outcome
    }

    fn is_alive(&mut self) -> bool {
        if self.given_up {
            return false;
        }
        let Link { runtime, client, .. } = &mut self.link;
        let asked = runtime.block_on(async {
            // What has closed is seen without a question; what is silently gone is not.
            !client.is_closed().await && matches!(tokio::time::timeout(PATIENCE, ping(client)).await, Ok(Ok(())))
        });
        self.given_up |= !asked;
        asked
    }

    fn switches(&self) -> &'static [SwitchKind] {
        &[SwitchKind::DATABASE, SwitchKind::SCHEMA, SwitchKind::ROLE]
    }

    fn switch(&mut self, to: &Switch, stop: &Stop) -> Result<bool, EngineError> {
        self.patience.follow(stop);
        let name = MYSQL.name_as_written(&to.to);
        match to.kind {
            SwitchKind::ROLE => self.ask(&format!("set role {name}"))?,
            _ => self.ask(&format!("use {name}"))?,
        };
        self.ask_where()?;
        Ok(true)
    }

    fn choices(&mut self, of: SwitchKind, stop: &Stop) -> Result<Vec<String>, EngineError> {
        self.patience.follow(stop);
        let rows = self.ask(match of {
            SwitchKind::ROLE => "select role_name from information_schema.applicable_roles",
            _ => "show databases",
        })?;
        Ok(rows.iter().map(|row| field(row, 0)).collect())
    }

    fn catalog(&mut self, part: &CatalogPart<'_>, catalog: &mut Catalog) -> Result<bool, EngineError> {
        self.patience.follow(&part.stop);
        catalog::read(self, part.number, catalog)
    }

    fn definition(&mut self, of: &Object, stop: &Stop) -> Result<Option<String>, EngineError> {
        self.patience.follow(stop);
        catalog::definition(self, of)
    }
}

/// A statement that cannot be prepared: the server's number for it.
const UNPREPARED: &str = "1295";

/// The error of a transaction that the server has rolled back for another.
const DEADLOCK: &str = "1213";

/// How long the server is given to look at a statement.
const CHECK: Duration = Duration::from_secs(2);

/// The error of a statement that was told to end.
const INTERRUPTED: u16 = 1317;

/// Errors that say nothing of a statement that was to be prepared: the protocol cannot prepare everything that it can
/// run, and a server that takes long was told to end.
const UNTOLD: [u16; 2] = [1295, INTERRUPTED];

/// Whether a statement may lead the session to another database or role.
fn may_move(statement: &str) -> bool {
    matches!(kind(statement), Kind::Definition | Kind::Setting | Kind::Other)
}

/// How many rows the server thinks that a plan's first step looks at.
fn estimate(names: &[String], row: &Row) -> Option<u64> {
    let at = names.iter().position(|name| name == "rows")?;
    field(row, at).parse().ok()
}
