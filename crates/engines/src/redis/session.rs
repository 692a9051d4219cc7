//! An open connection: running commands and telling where it is.

use std::time::Instant;

use arrow_array::RecordBatch;
use jaunty_seam::catalog::{Catalog, Object};
use jaunty_seam::engine::load::{Load, NextRows};
use jaunty_seam::engine::{
    Abilities, CatalogPart, Effect, Event, Flow, Location, Message, Remade, Request, Session, Sink, Statements, Stop,
    Switch, SwitchKind, Touches, Transaction, refuse_values,
};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Guard, Profile};
use redis::{PushInfo, Value};

use super::connect::{Door, Link};
use super::reads::ONLY_READS;
use super::shaped::{Table, shaped};
use super::wire::{Place, Wire, Words, name};
use super::{arguments, catalog, copy, load, preview, reply};
use crate::net::feed::{held, local};
use crate::net::work::{Beside, Patience};

/// A session on a server.
pub struct RedisSession {
    wire: Wire,
    patience: Patience,
    location: Location,
    guard: Guard,
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
        let (patience, wire) = (Patience::of(profile, limit, stop), Wire::new(runtime, door, link));
        let mut session = RedisSession { wire, patience, location, guard: profile.guard };
        let failed = |error: EngineError| match error.code.as_deref() {
            Some("NOAUTH") => EngineError { kind: ErrorKind::Connect, step: Some(Step::Secret), ..error },
            _ => EngineError { kind: ErrorKind::Connect, step: Some(Step::Session), ..error },
        };
        let info = reply::text(&session.ask(&["info", "server"]).map_err(failed)?);
        let fact = |name: &str| info.lines().find_map(|line| line.strip_prefix(name)).unwrap_or_default().trim();
        session.location.server = format!("redis {}", fact("redis_version:"));
        if fact("redis_mode:") == "cluster" {
            session.location.server.push_str(", cluster");
            session.know_cluster().map_err(failed)?;
        }
        session.ask_where().map_err(failed)?;
        session.patience.is_connected();
        Ok(session)
    }

    /// Asks which servers hold what. A user who may not ask is led there by the servers.
    fn know_cluster(&mut self) -> Result<(), EngineError> {
        let slots = match self.ask(&["cluster", "slots"]) {
            Err(error) if error.kind != ErrorKind::Refused => return Err(error),
            told => told.unwrap_or(Value::Nil),
        };
        let own = self.ask(&["cluster", "myid"]).map(|own| reply::text(&own));
        self.wire.know(&slots, &own.unwrap_or_default());
        Ok(())
    }

    /// Asks where the session is. In a transaction the server would only note the question down.
    fn ask_where(&mut self) -> Result<(), EngineError> {
        if self.wire.is_let_go() {
            return Err(EngineError::new(ErrorKind::Lost, "the connection was closed"));
        }
        if self.location.transaction.is_none() {
            let info = reply::text(&self.ask(&["client", "info"])?);
            let field =
                |name: &str| info.split_whitespace().find_map(|part| part.strip_prefix(name)).unwrap_or_default();
            self.location.database = format!("db{}", field("db="));
            self.location.user = field("user=").to_owned();
            self.location.session = format!("client {}", field("id="));
            self.wire.is_numbered(field("id=").parse().ok());
            let at = self.wire.is_cluster().then(|| self.wire.home_address().to_string());
            self.location.node = at.unwrap_or_default();
            self.location.uncertain = false;
        }
        Ok(())
    }

    /// Asks the server something of our own.
    pub(super) fn ask(&mut self, words: &[&str]) -> Result<Value, EngineError> {
        let command: Vec<_> = words.iter().map(|word| word.as_bytes().to_vec()).collect();
        let (patience, wish) = (self.patience.clone(), self.patience.wish());
        let answer = self.wire.send(&command, &wish, || patience.look());
        answer.map(|(reply, _)| reply).map_err(|error| self.too_late(error))
    }

    /// Asks one server of a cluster.
    pub(super) fn ask_at(&mut self, at: Place, command: &Words) -> Result<Value, EngineError> {
        let patience = self.patience.clone();
        self.wire.send_to(at, command, false, || patience.look()).map_err(|error| self.too_late(error))
    }

    fn too_late(&self, error: EngineError) -> EngineError {
        if self.patience.is_overdue() { self.wire.door().route.silent_after() } else { error }
    }

    /// All servers that hold keys.
    pub(super) fn all(&mut self) -> Result<Vec<Place>, EngineError> {
        let wish = self.patience.wish();
        self.wire.all(&wish)
    }

    /// Whether keys are held by several servers.
    pub(super) fn is_cluster(&self) -> bool {
        self.wire.is_cluster()
    }

    /// Sends commands one after the other without waiting between them, and returns their replies: an error of one is its reply.
    pub(super) fn send_all(&mut self, commands: &[Vec<Vec<u8>>]) -> Result<Vec<Value>, EngineError> {
        let (patience, wish) = (self.patience.clone(), self.patience.wish());
        self.wire.send_all(commands, &wish, || patience.look())
    }

    /// What the server says of a command: its flags.
    fn flags(&mut self, command: &[Vec<u8>]) -> Result<Vec<String>, EngineError> {
        let name =
            |at: usize| command.get(at).map(|word| String::from_utf8_lossy(word).to_lowercase()).unwrap_or_default();
        let both = format!("{}|{}", name(0), name(1));
        let question = ["command", "info", &name(0), &both].map(|word| word.as_bytes().to_vec());
        let found = self.wire.ask_beside(&question, &self.patience.wish())?;
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

    /// What is to be said of a command that one server of a cluster answers for itself alone.
    fn of_one_server(&self, command: &Words) -> Option<String> {
        let second = command.get(1).map(|word| String::from_utf8_lossy(word).to_uppercase()).unwrap_or_default();
        let of_one = OF_ONE_SERVER
            .iter()
            .any(|(name, then)| *name == self::name(command) && (then.is_empty() || then.contains(&second.as_str())));
        let many = self.wire.holders().len();
        (of_one && many > 1).then(|| {
            let here = self.wire.home_address();
            format!("this is of {here} alone, one of {many} servers of the cluster; switch to another for the rest")
        })
    }

    fn refuse_writes(&mut self, command: &[Vec<u8>]) -> Result<(), EngineError> {
        if self.guard != Guard::ReadOnly {
            return Ok(());
        }
        let flags = self.flags(command)?;
        let Some(flag) = may_write(&flags) else { return Ok(()) };
        let what = format!("the server marks {} with {flag}", name(command));
        Err(EngineError::new(ErrorKind::Refused, what)
            .code("READONLY")
            .remedy("The profile's guard is read-only: only commands that the server does not mark as writing run."))
    }

    /// Listens until a person has had enough: each message is a row.
    fn listen(&mut self, at: Place, mut sink: Box<dyn Sink>) -> Result<(), EngineError> {
        let mut begun = false;
        loop {
            let patience = self.patience.clone();
            let look = || if patience.is_over() { Flow::Stop } else { sink.wanted() };
            let Some(message) = self.wire.pushed(at, look)? else {
                return Err(EngineError::new(ErrorKind::Lost, "the server closed the connection"));
            };
            let PushInfo { kind, data } = message;
            let mut row = vec![Value::SimpleString(kind.to_string())];
            row.extend(data);
            let flow = push(&Value::Array(vec![Value::Array(row)]), None, sink.as_mut(), &mut begun)?;
            if flow == Flow::Stop {
                self.wire.let_go();
                return Err(EngineError::stopped());
            }
        }
    }
}

/// Commands that have no key, and mean what one server holds: with what follows the name, where that decides.
const OF_ONE_SERVER: [(&str, &[&str]); 11] = [
    ("ACL", &["DELUSER", "LOAD", "SETUSER"]),
    ("CONFIG", &["SET"]),
    ("DBSIZE", &[]),
    ("FLUSHALL", &[]),
    ("FLUSHDB", &[]),
    ("FUNCTION", &["DELETE", "FLUSH", "LOAD", "RESTORE"]),
    ("KEYS", &[]),
    ("RANDOMKEY", &[]),
    ("SCAN", &[]),
    ("SCRIPT", &["FLUSH", "LOAD"]),
    ("SLOWLOG", &[]),
];

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
        let (patience, wish, name) = (self.patience.clone(), self.patience.wish(), name(&command));
        let outcome = {
            let wanted = &sink;
            self.wire.send(&command, &wish, || if patience.is_over() { Flow::Stop } else { wanted.wanted() })
        };
        match name.as_str() {
            "MULTI" if outcome.is_ok() => self.location.transaction = Some(Transaction::Open),
            // One that is refused is gone as well.
            "EXEC" | "DISCARD" | "RESET" => self.location.transaction = None,
            _ => {}
        }
        self.location.uncertain |= matches!(name.as_str(), "SELECT" | "AUTH" | "HELLO" | "RESET" | "EXEC");
        let (reply, at) = outcome?;
        if matches!(name.as_str(), "SUBSCRIBE" | "PSUBSCRIBE" | "SSUBSCRIBE") {
            return self.listen(at, sink);
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
        let of_one = self.of_one_server(&command).map(|what| Message::new("notice", what));
        let failed = failed_within(&name, &reply).map(|what| Message::new("warning", what));
        for message in failed.into_iter().chain(of_one) {
            sink.take(Event::Message(message));
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
        if self.wire.is_let_go() {
            return false;
        }
        if self.location.transaction.is_some() {
            return true;
        }
        self.wire.answers()
    }

    fn switches(&self) -> &'static [SwitchKind] {
        if self.is_cluster() { &[SwitchKind::SERVER] } else { &[SwitchKind::DATABASE] }
    }

    fn switch(&mut self, to: &Switch, stop: &Stop) -> Result<bool, EngineError> {
        self.patience.follow(stop);
        if self.is_cluster() && to.kind == SwitchKind::SERVER {
            let server = self.wire.holders().into_iter().find(|address| address.to_string() == to.to);
            let unknown = || EngineError::new(ErrorKind::Refused, format!("{} holds nothing of this cluster", to.to));
            self.wire.move_home(server.ok_or_else(unknown)?, stop)?;
            self.ask_where()?;
            return Ok(true);
        }
        if to.kind != SwitchKind::DATABASE {
            return Err(EngineError::new(ErrorKind::Refused, format!("Redis has no {}s to switch to", to.kind.word())));
        }
        let number = to.to.trim_start_matches("db");
        self.ask(&["select", number])?;
        self.wire.use_database(number.parse().unwrap_or(0));
        self.ask_where()?;
        Ok(true)
    }

    fn choices(&mut self, of: SwitchKind, stop: &Stop) -> Result<Vec<String>, EngineError> {
        self.patience.follow(stop);
        if self.is_cluster() && of == SwitchKind::SERVER {
            self.know_cluster()?;
            return Ok(self.wire.holders().iter().map(ToString::to_string).collect());
        }
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
