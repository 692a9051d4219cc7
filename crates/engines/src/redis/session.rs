//! An open connection: running commands and telling where it is.

use std::time::{Duration, Instant};

use arrow_array::RecordBatch;
use jaunty_seam::catalog::{Catalog, Object};
use jaunty_seam::engine::load::{Load, NextRows};
use jaunty_seam::engine::{
    Abilities, CatalogPart, Effect, Event, Flow, Location, Message, Remade, Request, Session, Sink, Statements, Stop,
    Switch, SwitchKind, Touches, Transaction, refuse_values,
};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Guard, Profile};
use redis::{Cmd, PushInfo, RedisError, Value};

use super::connect::{Door, Link};
use super::reads::ONLY_READS;
use super::shaped::{Table, shaped};
use super::{arguments, catalog, copy, load, preview, reply};
use crate::net::feed::{held, local};
use crate::net::work::{self, Beside, Patience, unless_stopped, with_cancel};

/// How long a command may take to end after it was asked to. Most commands cannot be ended at all;
/// then the connection is let go, and a new one takes its place.
const GRACE: Duration = Duration::from_millis(500);

/// How long a script that goes on is asked to end.
const SCRIPT_PATIENCE: Duration = Duration::from_secs(30);

/// A session on a server.
pub struct RedisSession {
    runtime: Beside,
    door: Door,
    link: Link,
    patience: Patience,
    location: Location,
    guard: Guard,
    /// The connection was let go in the middle of a command.
    let_go: bool,
}

impl RedisSession {
    /// Sets a new connection up.
    pub fn begin(
        runtime: Beside,
        door: Door,
        link: Link,
        profile: &Profile,
        limit: Instant,
        stop: &Stop,
    ) -> Result<RedisSession, EngineError> {
        let location = Location { transport: link.transport.clone(), ..Location::default() };
        let patience = Patience::of(profile, limit, stop);
        let mut session = RedisSession { runtime, door, link, patience, location, guard: profile.guard, let_go: false };
        let failed = |error: EngineError| match error.code.as_deref() {
            Some("NOAUTH") => EngineError { kind: ErrorKind::Connect, step: Some(Step::Secret), ..error },
            _ => EngineError { kind: ErrorKind::Connect, step: Some(Step::Session), ..error },
        };
        let info = reply::text(&session.ask(&["info", "server"]).map_err(failed)?);
        let version = info.lines().find_map(|line| line.strip_prefix("redis_version:")).unwrap_or_default();
        session.location.server = format!("redis {version}");
        session.ask_where().map_err(failed)?;
        session.patience.is_connected();
        Ok(session)
    }

    /// Asks where the session is. In a transaction the server would only note the question down.
    fn ask_where(&mut self) -> Result<(), EngineError> {
        if self.let_go {
            return Err(EngineError::new(ErrorKind::Lost, "the connection was closed"));
        }
        if self.location.transaction.is_none() {
            let info = reply::text(&self.ask(&["client", "info"])?);
            let field =
                |name: &str| info.split_whitespace().find_map(|part| part.strip_prefix(name)).unwrap_or_default();
            self.location.database = format!("db{}", field("db="));
            self.location.user = field("user=").to_owned();
            self.location.session = format!("client {}", field("id="));
            self.location.uncertain = false;
        }
        Ok(())
    }

    /// Asks the server something of our own.
    pub(super) fn ask(&mut self, words: &[&str]) -> Result<Value, EngineError> {
        let command: Vec<_> = words.iter().map(|word| word.as_bytes().to_vec()).collect();
        let patience = self.patience.clone();
        self.send(&command, || patience.look()).map_err(|error| match self.patience.is_overdue() {
            true => self.door.route.silent_after(),
            false => error,
        })
    }

    /// Sends a command and waits for its reply, looking every now and then whether it is wanted.
    fn send(&mut self, command: &[Vec<u8>], look: impl FnMut() -> Flow) -> Result<Value, EngineError> {
        let mut packed = Cmd::new();
        for argument in command {
            packed.arg(argument.as_slice());
        }
        let (door, mut connection) = (self.door.clone(), self.link.connection.clone());
        let number = self.location.session.trim_start_matches("client ").parse().unwrap_or_default();
        let sent = self.runtime.block_on(async {
            let number = Some(number).filter(|_| may_wait(command));
            let work = async { connection.send_packed_command(&packed).await };
            with_cancel(work, look, unblock(door, number), GRACE).await
        });
        match sent {
            Ok(Ok(reply)) => refusal(&reply).map_or(Ok(reply), Err),
            Ok(Err(error)) => Err(self.door.bound.exceeded().unwrap_or_else(|| failed(&error))),
            Err(_) => {
                self.let_go = true;
                let name = command.first().map(|word| String::from_utf8_lossy(word).to_uppercase()).unwrap_or_default();
                if ["EVAL", "EVALSHA", "FCALL", "EVAL_RO", "EVALSHA_RO", "FCALL_RO"].contains(&name.as_str()) {
                    end_script(self.door.clone());
                }
                Err(EngineError::stopped())
            }
        }
    }

    /// Sends commands one after the other without waiting between them, and returns their replies: an error of one is its reply.
    pub(super) fn send_all(&mut self, commands: &[Vec<Vec<u8>>]) -> Result<Vec<Value>, EngineError> {
        // The driver takes nothing for a mistake.
        if commands.is_empty() {
            return Ok(Vec::new());
        }
        let mut all = redis::Pipeline::with_capacity(commands.len());
        for command in commands {
            let mut packed = Cmd::new();
            for argument in command {
                packed.arg(argument.as_slice());
            }
            all.add_command(packed);
        }
        let (mut connection, patience) = (self.link.connection.clone(), self.patience.clone());
        let sent = self.runtime.block_on(async {
            let work = async { connection.send_packed_commands(&all, 0, commands.len()).await };
            with_cancel(work, || patience.look(), std::future::ready(()), GRACE).await
        });
        match sent {
            Ok(replies) => replies.map_err(|error| self.door.bound.exceeded().unwrap_or_else(|| failed(&error))),
            Err(_) => {
                self.let_go = true;
                Err(EngineError::stopped())
            }
        }
    }

    /// What the server says of a command: its flags.
    fn flags(&mut self, command: &[Vec<u8>]) -> Result<Vec<String>, EngineError> {
        let name =
            |at: usize| command.get(at).map(|word| String::from_utf8_lossy(word).to_lowercase()).unwrap_or_default();
        let both = format!("{}|{}", name(0), name(1));
        // In a transaction the server would only note the question down.
        let wish = self.patience.wish();
        let found = self.runtime.block_on(unless_stopped(&wish, async {
            let link = self.door.enter_beside().await?;
            let mut connection = link.connection;
            let mut command = Cmd::new();
            command.arg("command").arg("info").arg(name(0)).arg(&both);
            connection.send_packed_command(&command).await.map_err(|error| failed(&error))
        }))?;
        let Value::Array(known) = found else { return Ok(Vec::new()) };
        // The third field holds the flags, the seventh the categories, which begin with an @.
        let flags_of = |info: &Value| match info {
            Value::Array(fields) => [2, 6]
                .iter()
                .filter_map(|at| fields.get(*at))
                .flat_map(
                    |field| if let Value::Array(flags) | Value::Set(flags) = field { flags.as_slice() } else { &[] },
                )
                .map(reply::text)
                .collect(),
            _ => Vec::new(),
        };
        // A subcommand's flags say more than those of the command that holds it.
        Ok(known.iter().rev().map(flags_of).find(|flags: &Vec<String>| !flags.is_empty()).unwrap_or_default())
    }

    fn refuse_writes(&mut self, command: &[Vec<u8>]) -> Result<(), EngineError> {
        if self.guard != Guard::ReadOnly {
            return Ok(());
        }
        let flags = self.flags(command)?;
        let Some(flag) = may_write(&flags) else { return Ok(()) };
        let name = command.first().map(|word| String::from_utf8_lossy(word).to_uppercase()).unwrap_or_default();
        let what = format!("the server marks {name} with {flag}");
        Err(EngineError::new(ErrorKind::Refused, what)
            .code("READONLY")
            .remedy("The profile's guard is read-only: only commands that the server does not mark as writing run."))
    }

    /// Listens until a person has had enough: each message is a row.
    fn listen(&mut self, mut sink: Box<dyn Sink>) -> Result<(), EngineError> {
        let mut begun = false;
        loop {
            let patience = self.patience.clone();
            let look = || if patience.is_over() { Flow::Stop } else { sink.wanted() };
            let pushed = &mut self.link.pushed;
            let next = self.runtime.block_on(with_cancel(pushed.recv(), look, std::future::ready(()), GRACE));
            let message = match next {
                Ok(Some(message)) => message,
                Ok(None) => return Err(EngineError::new(ErrorKind::Lost, "the server closed the connection")),
                Err(_) => {
                    // Other commands are refused while it listens: the next one takes a new connection.
                    self.let_go = true;
                    return Err(EngineError::stopped());
                }
            };
            let PushInfo { kind, data } = message;
            let mut row = vec![Value::SimpleString(kind.to_string())];
            row.extend(data);
            let flow = push(&Value::Array(vec![Value::Array(row)]), None, sink.as_mut(), &mut begun)?;
            if flow == Flow::Stop {
                self.let_go = true;
                return Err(EngineError::stopped());
            }
        }
    }
}

/// The flag by which the server says that a command may write. What a script does is not known
/// beforehand, unless it is called by a command that only reads.
fn may_write(flags: &[String]) -> Option<&str> {
    let reads = flags.iter().any(|flag| flag == "readonly");
    let marks = |flag: &&str| matches!(*flag, "write" | "may_replicate" | "admin") || (*flag == "@scripting" && !reads);
    flags.iter().map(String::as_str).find(marks)
}

/// What is to be said of a transaction of which some commands failed: the others were carried out all the same. Of the
/// documentation of Redis: "Transactions", "Errors inside a transaction".
fn failed_within(command: &str, reply: &Value) -> Option<String> {
    let Value::Array(replies) = reply else { return None };
    let failed = replies.iter().filter(|reply| matches!(reply, Value::ServerError(_))).count();
    (command == "EXEC" && failed > 0)
        .then(|| format!("{failed} of {} commands failed; what the others did stays", replies.len()))
}

/// Pushes the rows of a reply; the columns come with the first.
fn push(reply: &Value, shaped: Option<&Table>, sink: &mut dyn Sink, begun: &mut bool) -> Result<Flow, EngineError> {
    let mut flow = Flow::Continue;
    let take = |batch: RecordBatch| {
        if !std::mem::replace(begun, true) {
            flow = held(sink, Event::Begins { schema: batch.schema(), name: None });
        }
        if flow == Flow::Continue && batch.num_rows() > 0 {
            flow = held(sink, Event::Rows(batch));
        }
        flow == Flow::Continue
    };
    let pushed = match shaped {
        Some(table) => table.rows(take),
        None => reply::rows(reply, take),
    };
    pushed.map_err(|error| local(&error))?;
    if let Value::Attribute { attributes, .. } = reply {
        let facts = attributes.iter().map(|(key, value)| format!("{} {}", reply::text(key), reply::text(value)));
        sink.take(Event::Message(Message::new("attribute", facts.collect::<Vec<_>>().join(", "))));
    }
    Ok(flow)
}

/// Whether a command may wait without an end.
fn may_wait(command: &[Vec<u8>]) -> bool {
    const WAIT: &[&str] = &[
        "BLPOP",
        "BRPOP",
        "BLMOVE",
        "BRPOPLPUSH",
        "BLMPOP",
        "BZPOPMIN",
        "BZPOPMAX",
        "BZMPOP",
        "XREAD",
        "XREADGROUP",
        "WAIT",
    ];
    let name = command.first().map(|word| String::from_utf8_lossy(word).to_uppercase());
    name.is_some_and(|name| WAIT.contains(&name.as_str()))
}

/// Asks the server, on a connection of its own, to end what runs: a command that waits, or a script.
async fn unblock(door: Door, number: Option<i64>) {
    let asked = async {
        let Ok(link) = door.enter_beside().await else { return };
        let mut connection = link.connection;
        let mut command = Cmd::new();
        command.arg("client").arg("unblock").arg(number.unwrap_or_default()).arg("error");
        if number.is_some() {
            let _ = connection.send_packed_command(&command).await;
        }
    };
    let _ = tokio::time::timeout(GRACE, asked).await;
}

/// Ends a script that goes on after its connection was let go. The server listens to nobody until
/// the script has run for some seconds; from then on it takes the wish to end it, and nothing else.
fn end_script(door: Door) {
    let end = move || {
        let Ok(runtime) = work::runtime() else { return };
        // Choosing a database is refused meanwhile, and not needed.
        let door = door.with_database(0);
        let asked = async {
            loop {
                if let Ok(Link { mut connection, .. }) = door.enter_beside().await {
                    for kind in ["script", "function"] {
                        let mut command = Cmd::new();
                        command.arg(kind).arg("kill");
                        let answer = connection.send_packed_command(&command).await;
                        tracing::debug!(?answer, kind, "a script was to end");
                    }
                    return;
                }
                tokio::time::sleep(GRACE).await;
            }
        };
        let _ = runtime.block_on(async { tokio::time::timeout(SCRIPT_PATIENCE, asked).await });
    };
    if let Err(error) = std::thread::Builder::new().name("end script".into()).spawn(end) {
        tracing::warn!(%error, "a script goes on");
    }
}

/// What the server says against a command, if that is its reply.
pub(super) fn refusal(reply: &Value) -> Option<EngineError> {
    match reply {
        Value::ServerError(error) => Some(refused(error.code(), error.details().unwrap_or_default())),
        _ => None,
    }
}

fn refused(code: &str, said: &str) -> EngineError {
    let kind = match code {
        "UNBLOCKED" => ErrorKind::Stopped,
        _ if said.contains("SCRIPT KILL") || said.contains("killed by user") => ErrorKind::Stopped,
        _ => ErrorKind::Refused,
    };
    let remedy = match code {
        "WRONGTYPE" => Some("Ask for the key's type: type name."),
        "NOPERM" => Some("The user lacks this permission; see acl whoami and acl getuser."),
        "EXECABORT" => Some("A command of the transaction was refused; none of it was run."),
        "READONLY" => Some("This server is a replica: writes go to its primary."),
        "OOM" => Some("The server's memory is full."),
        "BUSY" => Some("Another client's script runs; script kill ends it."),
        _ => None,
    };
    let text = if said.is_empty() { code.to_owned() } else { said.to_owned() };
    let error = EngineError::new(kind, text).code(code);
    match remedy {
        Some(remedy) => error.remedy(remedy),
        None => error,
    }
}

fn failed(error: &RedisError) -> EngineError {
    if error.is_io_error() || error.is_connection_dropped() {
        return EngineError::new(ErrorKind::Lost, "the server closed the connection");
    }
    // A reply that was cut in the middle, or is no reply at all.
    if matches!(error.kind(), redis::ErrorKind::Parse) {
        return EngineError::new(
            ErrorKind::Lost,
            "the connection was cut in the middle of a reply, or what came is not a Redis reply",
        )
        .remedy("The connection was closed; the next command reconnects.");
    }
    match error.code() {
        Some(code) => refused(code, error.detail().unwrap_or_default()),
        None => EngineError::new(ErrorKind::Refused, error.to_string()),
    }
}

impl Session for RedisSession {
    fn abilities(&self) -> Abilities {
        Abilities { cancel: true, transactions: true, read_only: true, effect: true, several_results: false }
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
        let statement = request.text;
        self.patience.follow(&request.stop);
        let flags = self.flags(&arguments::split(statement)?)?;
        let word = statement.split_whitespace().next().unwrap_or_default();
        let everything = ["flushall", "flushdb"].iter().any(|flush| word.eq_ignore_ascii_case(flush));
        Ok(match may_write(&flags) {
            Some("write") => Effect::Writes(Touches { everything, ..Touches::default() }),
            Some(_) => Effect::Unknown,
            None => Effect::Reads,
        })
    }

    fn run(&mut self, request: &Request<'_>, mut sink: Box<dyn Sink>) -> Result<(), EngineError> {
        refuse_values(request)?;
        self.patience.follow(&request.stop);
        let command = arguments::split(request.text)?;
        let is = |at: usize, word: &str| command.get(at).is_some_and(|c| c.eq_ignore_ascii_case(word.as_bytes()));
        if is(0, "client") && is(1, "reply") {
            let what = "without replies no result could be shown";
            return Err(EngineError::new(ErrorKind::Refused, what));
        }
        self.refuse_writes(&command)?;
        let patience = self.patience.clone();
        let name = command.first().map(|word| String::from_utf8_lossy(word).to_uppercase()).unwrap_or_default();
        let outcome = {
            let wanted = &sink;
            self.send(&command, || if patience.is_over() { Flow::Stop } else { wanted.wanted() })
        };
        match name.as_str() {
            "MULTI" if outcome.is_ok() => self.location.transaction = Some(Transaction::Open),
            // One that is refused is gone as well.
            "EXEC" | "DISCARD" | "RESET" => self.location.transaction = None,
            _ => {}
        }
        self.location.uncertain |= matches!(name.as_str(), "SELECT" | "AUTH" | "HELLO" | "RESET" | "EXEC");
        let reply = outcome?;
        if matches!(name.as_str(), "SUBSCRIBE" | "PSUBSCRIBE" | "SSUBSCRIBE") {
            return self.listen(sink);
        }
        let mut begun = false;
        // Of a part of a scan the rows are what was scanned.
        let reply = match reply::scanned(&command, reply) {
            (Some(cursor), found) => {
                sink.take(Event::Message(Message::new("cursor", cursor)));
                found
            }
            (None, reply) => reply,
        };
        let flow = push(&reply, shaped(&command, &reply).as_ref(), sink.as_mut(), &mut begun)?;
        if flow == Flow::Stop {
            return Err(EngineError::stopped());
        }
        if let Some(what) = failed_within(&name, &reply) {
            sink.take(Event::Message(Message::new("warning", what)));
        }
        sink.take(Event::Ends { affected: None });
        Ok(())
    }

    fn remake(&mut self, pattern: &str, stop: &Stop, take: &mut Statements<'_>) -> Result<Remade, EngineError> {
        self.patience.follow(stop);
        copy::remake(self, pattern, take)
    }

    fn load(&mut self, load: &Load<'_>, next: &mut NextRows<'_>) -> Result<u64, EngineError> {
        self.patience.follow(&load.stop);
        load::rows(self, load, next)
    }

    fn is_alive(&mut self) -> bool {
        if self.let_go {
            return false;
        }
        if self.location.transaction.is_some() {
            return true;
        }
        let (mut connection, mut ping) = (self.link.connection.clone(), Cmd::new());
        ping.arg("ping");
        let asked = self
            .runtime
            .block_on(async { tokio::time::timeout(work::PATIENCE, connection.send_packed_command(&ping)).await });
        matches!(asked, Ok(Ok(_)))
    }

    fn switches(&self) -> &'static [SwitchKind] {
        &[SwitchKind::DATABASE]
    }

    fn switch(&mut self, to: &Switch, stop: &Stop) -> Result<bool, EngineError> {
        self.patience.follow(stop);
        if to.kind != SwitchKind::DATABASE {
            return Err(EngineError::new(ErrorKind::Refused, format!("Redis has no {}s to switch to", to.kind.word())));
        }
        let number = to.to.trim_start_matches("db");
        self.ask(&["select", number])?;
        self.door = self.door.clone().with_database(number.parse().unwrap_or(0));
        self.ask_where()?;
        Ok(true)
    }

    fn choices(&mut self, of: SwitchKind, stop: &Stop) -> Result<Vec<String>, EngineError> {
        self.patience.follow(stop);
        if of != SwitchKind::DATABASE {
            return Ok(Vec::new());
        }
        let count = match self.ask(&["config", "get", "databases"]) {
            Ok(Value::Map(entries)) => entries.first().and_then(|(_, count)| reply::text(count).parse().ok()),
            _ => None,
        };
        Ok((0..count.unwrap_or(16)).map(|number| format!("db{number}")).collect())
    }

    fn changes_catalog(&self, statement: &str) -> bool {
        let word = statement.split_whitespace().next().unwrap_or_default().to_ascii_uppercase();
        !ONLY_READS.contains(&word.as_str())
    }

    fn first_rows(&mut self, of: &Object, request: &Request<'_>, mut sink: Box<dyn Sink>) -> Result<(), EngineError> {
        self.patience.follow(&request.stop);
        preview::push(self, &of.name, sink.as_mut())
    }

    fn catalog(&mut self, part: &CatalogPart<'_>, catalog: &mut Catalog) -> Result<bool, EngineError> {
        self.patience.follow(&part.stop);
        catalog::read(self, part.number, catalog)
    }
}
