//! An open connection: running commands and telling where it is.

use std::borrow::Cow;
use std::time::Instant;

use jaunty_documents::bson::field;
use jaunty_documents::message::reply;
use jaunty_documents::raw::{Element, RawDocument};
use jaunty_documents::{Bson, Document, bson};
use jaunty_language::dialect::documents::read::Mistake;
use jaunty_language::dialect::documents::statement::{self, Command};
use jaunty_language::statement::parameters::Value as Given;
use jaunty_seam::catalog::{Catalog, Object};
use jaunty_seam::engine::load::{Load, NextRows};
use jaunty_seam::engine::{
    Abilities, CatalogPart, Effect, Flow, Location, Request, Session, Sink, Stop, Switch, SwitchKind, Transaction,
    Verdict,
};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Guard, Profile};

use super::connect::{Again, Link, flag};
use super::members::Wish;
use super::rows::Rows;
use super::transactions::{Transactions, Word};
use super::wire::WireError;
use super::{catalog, effect, errors, load, value};
use crate::net::work::{Patience, with_cancel};

/// What a command wrote.
pub(super) struct Written {
    /// How many documents.
    pub count: u64,
    /// What was refused, by its place among them.
    pub errors: Vec<(usize, EngineError)>,
}

/// A session on a server.
pub struct DocumentSession {
    link: Link,
    patience: Patience,
    location: Location,
    /// The connection is gone, for this reason.
    lost: Option<EngineError>,
    read_only: bool,
    /// Which members may answer, as commands say it.
    reads_from: Option<&'static str>,
    /// How many documents a shape is told from.
    pub(super) sample: i64,
    transactions: Transactions,
}

/// A pair of a name and a value.
pub(super) fn pair(name: &str, value: Bson) -> (String, Bson) {
    (name.to_owned(), value)
}

impl DocumentSession {
    /// Sets a new connection up.
    pub fn begin(link: Link, profile: &Profile, limit: Instant, stop: &Stop) -> Result<DocumentSession, EngineError> {
        let location = Location {
            transport: link.transport.clone(),
            session: format!("connection {}", link.number),
            database: profile.text("database").unwrap_or("test").to_owned(),
            user: profile.text("user").unwrap_or_default().to_owned(),
            ..Location::default()
        };
        let mut session = DocumentSession {
            link,
            patience: Patience::of(profile, limit, stop),
            location,
            lost: None,
            // A server that is alone, or was asked for by itself, is to answer whatever it is.
            reads_from: Wish::of(profile).mode().or(flag(profile, "direct").then_some("primaryPreferred")),
            read_only: profile.guard == Guard::ReadOnly,
            sample: profile.number("sample").unwrap_or(200),
            transactions: Transactions::default(),
        };
        let failed = |error: EngineError| EngineError { step: Some(Step::Session), kind: ErrorKind::Connect, ..error };
        let info = session.ask(vec![pair("buildInfo", Bson::Int32(1))]).map_err(failed)?;
        let version = field(&info, "version").and_then(Bson::as_str).unwrap_or_default();
        session.location.server = match &session.link.role {
            Some(role) => format!("mongodb {version}, {role}"),
            None => format!("mongodb {version}"),
        };
        session.patience.is_connected();
        Ok(session)
    }

    fn refuse_if_lost(&self) -> Result<(), EngineError> {
        self.lost.clone().map_or(Ok(()), Err)
    }

    fn lose(&mut self, error: EngineError) -> EngineError {
        if error.kind == ErrorKind::Lost {
            self.lost = Some(EngineError::new(ErrorKind::Lost, error.message.clone()));
        }
        error
    }

    /// Sends a command, whose reply is to be waited for.
    fn post(&mut self, command: &[(String, Bson)]) -> Result<(), EngineError> {
        let Link { runtime, wire, .. } = &mut self.link;
        let most = wire.largest;
        let mut command = Cow::Borrowed(command);
        if let Some(mode) = self.reads_from
            && field(&command, "$readPreference").is_none()
        {
            let mode = Bson::Document(vec![pair("mode", Bson::text(mode))]);
            command.to_mut().push(pair("$readPreference", mode));
        }
        let sent = runtime.block_on(wire.send(&command)).map_err(|error| errors::broken(&error, most));
        sent.map_err(|error| self.lose(error))
    }

    /// Waits for the reply to the last command; `look` is called now and then.
    fn reply(&mut self, look: impl FnMut() -> Flow) -> Result<Vec<u8>, EngineError> {
        let Link { runtime, wire, again, number, .. } = &mut self.link;
        let (again, number, most) = (again.clone(), *number, wire.largest);
        let within = self.patience.within;
        let came = runtime.block_on(async { with_cancel(wire.receive(), look, end(again, number), within).await });
        let came = came.and_then(|came| came.map_err(|error: WireError| errors::broken(&error, most)));
        came.map_err(|error| self.lose(error))
    }

    /// Sends a command and waits for its reply; `look` is called now and then.
    fn send(&mut self, command: &[(String, Bson)], look: impl FnMut() -> Flow) -> Result<Vec<u8>, EngineError> {
        self.post(command)?;
        self.reply(look)
    }

    /// Asks the server something of our own, of a database.
    pub(super) fn ask_of(&mut self, database: &str, mut command: Document) -> Result<Document, EngineError> {
        self.refuse_if_lost()?;
        command.push(pair("$db", Bson::text(database)));
        let patience = self.patience.clone();
        let body = self.send(&command, || patience.look())?;
        if self.patience.is_overdue() {
            return Err(self.link.again.route.silent_after());
        }
        let broken = |error: jaunty_documents::Malformed| errors::broken(&error.into(), 0);
        let raw = reply(&body).map_err(broken)?;
        match errors::refusal(&raw) {
            Some(_) if self.patience.is_over() => Err(EngineError::stopped()),
            Some(refusal) => Err(errors::refused(&refusal)),
            None => bson::decoded(raw.as_bytes()).map_err(broken),
        }
    }

    /// From here on nobody's wish ends what is asked: what was begun is put in order.
    pub(super) fn heed_nobody(&mut self) {
        self.patience.follow_none();
    }

    /// Sends a command that writes, and takes what of it was refused.
    pub(super) fn write(&mut self, mut command: Document) -> Result<Written, EngineError> {
        self.refuse_if_lost()?;
        let name = command.first().map(|(name, _)| name.clone()).unwrap_or_default();
        if self.read_only {
            return Err(EngineError::new(
                ErrorKind::Refused,
                format!("the profile's guard is read-only, and {name} writes"),
            ));
        }
        command.push(pair("$db", Bson::text(self.location.database.clone())));
        let patience = self.patience.clone();
        let body = self.send(&command, || patience.look())?;
        let raw = reply(&body).map_err(|error| errors::broken(&error.into(), 0))?;
        let (count, errors) = errors::of_writes(&raw);
        match errors::refusal(&raw) {
            Some(refusal) if errors.is_empty() => Err(errors::refused(&refusal)),
            _ => Ok(Written { count, errors }),
        }
    }

    /// Asks the server something of our own, of the database in hand.
    pub(super) fn ask(&mut self, command: Document) -> Result<Document, EngineError> {
        let database = self.location.database.clone();
        self.ask_of(&database, command)
    }

    /// The documents of a command of our own that gives a cursor, of its first reply.
    pub(super) fn first_of(&mut self, command: Document) -> Result<Vec<Document>, EngineError> {
        let answer = self.ask(command)?;
        let cursor = field(&answer, "cursor").and_then(Bson::as_document);
        let batch = cursor.and_then(|cursor| field(cursor, "firstBatch"));
        Ok(match batch {
            Some(Bson::Array(documents)) => documents.iter().filter_map(Bson::as_document).cloned().collect(),
            _ => Vec::new(),
        })
    }

    /// Runs a command and hands on what it gives.
    fn carry_out(&mut self, command: &Command, given: &[Given], rows: &mut Rows) -> Result<(), EngineError> {
        let refused = |what: String| EngineError::new(ErrorKind::Refused, what);
        let name = command.first().map_or("", |(name, _)| name);
        let mut sent = value::document(command, given).map_err(refused)?;
        if field(&sent, "$db").is_none() {
            sent.push(pair("$db", Bson::text(self.location.database.clone())));
        }
        let database = field(&sent, "$db").and_then(Bson::as_str).unwrap_or_default().to_owned();
        self.transactions.put_into(&mut sent);
        self.post(&sent)?;
        loop {
            let patience = self.patience.clone();
            let body = self.reply(|| if patience.is_over() { Flow::Stop } else { rows.look() })?;
            let next = next_of(&body).map_err(|error| errors::broken(&error.into(), 0))?;
            // The server gets the next batch ready while this one is taken in, and no more than that.
            if let Some((cursor, collection)) = &next {
                let mut more = vec![
                    pair("getMore", Bson::Int64(*cursor)),
                    pair("collection", Bson::text(&**collection)),
                    pair("$db", Bson::text(&*database)),
                ];
                self.transactions.put_into(&mut more);
                self.post(&more)?;
            }
            self.take(name, &body, rows)?;
            let Some((cursor, collection)) = next else { return Ok(()) };
            rows.came();
            if self.patience.is_over() || rows.flow() == Flow::Stop {
                rows.stop();
                // What is on its way is ended and taken in, whatever it is.
                if let Err(error) = self.reply(|| Flow::Stop)
                    && error.kind == ErrorKind::Lost
                {
                    return Err(error);
                }
                self.forget(cursor, &collection, &database);
                return Err(EngineError::stopped());
            }
        }
    }

    /// Begins a transaction, or ends it. The server hears of one with its first command.
    fn turn_transaction(&mut self, word: Word) -> Result<(), EngineError> {
        let refused = |what: &str, remedy: &str| Err(EngineError::new(ErrorKind::Refused, what).remedy(remedy));
        match (word, self.transactions.state()) {
            (Word::Begin, _) if self.link.role.is_none() => refused(
                "this server has no transactions: it is not a member of a replica set",
                "A change of one document is whole by itself.",
            ),
            (Word::Begin, Some(_)) => refused("a transaction is open already", "End it with commit or rollback."),
            (Word::Begin, None) => self.transactions.begin(),
            (_, None) => refused("no transaction is open", "begin opens one."),
            (Word::Commit, Some(Transaction::Failed)) => {
                self.transactions.end();
                refused("the transaction had failed: the server has rolled it back", "Run what was in it again.")
            }
            (word, Some(_)) => {
                let name = if word == Word::Commit { "commitTransaction" } else { "abortTransaction" };
                let mut command = vec![pair(name, Bson::Int32(1))];
                let told = self.transactions.put_into_last(&mut command);
                let failed = self.transactions.state() == Some(Transaction::Failed);
                self.transactions.end();
                // One that nothing ran in is not known to the server, and one that failed perhaps not any more.
                match told {
                    true => match self.ask_of("admin", command) {
                        Err(error) if !(failed && error.kind == ErrorKind::Refused) => Err(error),
                        _ => Ok(()),
                    },
                    false => Ok(()),
                }
            }
        }
    }

    /// Lets a cursor go.
    fn forget(&mut self, cursor: i64, collection: &str, database: &str) {
        self.patience.follow_none();
        let command =
            vec![pair("killCursors", Bson::text(collection)), pair("cursors", Bson::Array(vec![Bson::Int64(cursor)]))];
        if let Err(error) = self.ask_of(database, command) {
            tracing::debug!(%error, "a cursor was not let go");
        }
    }

    /// Takes a reply in: a batch of a cursor, or a document of its own.
    fn take(&self, name: &str, body: &[u8], rows: &mut Rows) -> Result<(), EngineError> {
        let broken = |error: jaunty_documents::Malformed| errors::broken(&error.into(), 0);
        let raw = reply(body).map_err(broken)?;
        if let Some(refusal) = errors::refusal(&raw) {
            if self.patience.is_over() {
                return Err(EngineError::stopped());
            }
            return Err(errors::refused(&refusal));
        }
        let Some(Element::Document(cursor)) = raw.get("cursor") else {
            return answered(name, &raw, rows).map_err(broken);
        };
        rows.begin();
        let batch = cursor.get("firstBatch").or_else(|| cursor.get("nextBatch"));
        if let Some(Element::Array(batch)) = batch {
            for field in batch.iter() {
                let (_, element) = field.map_err(broken)?;
                if self.patience.is_over() {
                    rows.stop();
                }
                if rows.flow() == Flow::Stop {
                    break;
                }
                if let Element::Document(document) = element {
                    rows.document(&document).map_err(broken)?;
                }
            }
        }
        if cursor_of(&cursor) == 0 {
            rows.ends(None);
        }
        Ok(())
    }
}

/// The number of a cursor in a reply, 0 where there is nothing more.
fn cursor_of(cursor: &RawDocument<'_>) -> i64 {
    match cursor.get("id") {
        Some(Element::Int64(id)) => id,
        Some(Element::Int32(id)) => id.into(),
        _ => 0,
    }
}

/// The cursor that has more, and its collection.
fn next_of(body: &[u8]) -> Result<Option<(i64, String)>, jaunty_documents::Malformed> {
    let Some(Element::Document(cursor)) = reply(body)?.get("cursor") else { return Ok(None) };
    let id = cursor_of(&cursor);
    let namespace = match cursor.get("ns") {
        Some(Element::Text(namespace)) => namespace,
        _ => "",
    };
    let collection = namespace.split_once('.').map_or(namespace, |(_, name)| name);
    Ok((id != 0).then(|| (id, collection.to_owned())))
}

/// Fields of replies that say nothing of what was asked.
const ASIDE: &[&str] = &["ok", "$clusterTime", "operationTime", "signature", "electionId", "opTime"];

/// A reply that is no cursor: the values of a list, how many documents were touched, or the reply itself as a row.
fn answered(name: &str, raw: &RawDocument<'_>, rows: &mut Rows) -> Result<(), jaunty_documents::Malformed> {
    if let Some(Element::Array(values)) = raw.get("values") {
        rows.begin();
        for field in values.iter() {
            let (_, element) = field?;
            let document = bson::encoded(&[pair("value", Bson::of(&element)?)]);
            rows.document(&RawDocument::new(&document)?)?;
        }
        rows.ends(None);
        return Ok(());
    }
    let fields: Vec<_> = raw.iter().flatten().filter(|(name, _)| !ASIDE.contains(name)).collect();
    let touches = matches!(name, "insert" | "update" | "delete");
    if let (true, Some(Element::Int32(n))) = (touches && !fields.is_empty(), raw.get("n")) {
        rows.ends(Some(n.unsigned_abs().into()));
        return Ok(());
    }
    if fields.is_empty() {
        rows.ends(None);
        return Ok(());
    }
    let own: Result<Document, _> = fields.iter().map(|(name, element)| Ok(pair(name, Bson::of(element)?))).collect();
    let document = bson::encoded(&own?);
    rows.begin();
    rows.document(&RawDocument::new(&document)?)?;
    rows.ends(None);
    Ok(())
}

/// Asks the server, on a connection of its own, to end what runs on this one.
async fn end(again: Again, number: i64) {
    let ended = async {
        let mut wire = again.beside().await.map_err(|error| error.to_string())?;
        let ask = vec![
            pair("currentOp", Bson::Int32(1)),
            pair("connectionId", Bson::Int64(number)),
            pair("$db", Bson::text("admin")),
        ];
        let body = wire.ask(&ask).await.map_err(|error| error.to_string())?;
        let running = reply(&body).and_then(|raw| bson::decoded(raw.as_bytes())).map_err(|error| error.to_string())?;
        let Some(Bson::Array(all)) = field(&running, "inprog") else { return Ok(()) };
        // Only what is of that connection: the one that asks is among the others.
        let own = |op: &&Document| field(op, "connectionId").and_then(Bson::as_i64) == Some(number);
        for operation in all.iter().filter_map(Bson::as_document).filter(own) {
            if let Some(id) = field(operation, "opid") {
                let kill =
                    vec![pair("killOp", Bson::Int32(1)), pair("op", id.clone()), pair("$db", Bson::text("admin"))];
                wire.ask(&kill).await.map_err(|error| error.to_string())?;
            }
        }
        Ok::<_, String>(())
    };
    if let Err(error) = ended.await {
        tracing::warn!(error, "a command could not be ended");
    }
}

/// The command of a statement.
pub(super) fn command(text: &str) -> Result<Command, EngineError> {
    statement::command(text).map_err(|Mistake { at, message }| {
        EngineError::new(ErrorKind::Refused, message)
            .at(Some(at))
            .remedy("The grammar stands in docs/documents.md: a command { … }, or collection verb { … } | stage …")
    })
}

impl Session for DocumentSession {
    fn abilities(&self) -> Abilities {
        Abilities { cancel: true, transactions: true, read_only: false, effect: true, several_results: false }
    }

    fn location(&self) -> Location {
        Location { transaction: self.transactions.state(), ..self.location.clone() }
    }

    fn locate(&mut self, stop: &Stop) -> Result<Location, EngineError> {
        self.patience.follow(stop);
        self.ask(vec![pair("ping", Bson::Int32(1))])?;
        Ok(self.location())
    }

    fn effect(&mut self, request: &Request<'_>) -> Result<Effect, EngineError> {
        self.patience.follow(&request.stop);
        self.refuse_if_lost()?;
        effect::of(self, request)
    }

    fn check(&mut self, request: &Request<'_>) -> Result<Verdict, EngineError> {
        if self.lost.is_some() {
            return Ok(Verdict::Unknown);
        }
        self.patience.follow(&request.stop);
        effect::check(self, request)
    }

    fn run(&mut self, request: &Request<'_>, sink: Box<dyn Sink>) -> Result<(), EngineError> {
        self.refuse_if_lost()?;
        self.patience.follow(&request.stop);
        if let Some(word) = Word::of(request.text) {
            let mut rows = Rows::new(sink);
            let outcome = self.turn_transaction(word);
            if outcome.is_ok() {
                rows.ends(None);
            }
            return rows.end(outcome).map_err(|error| self.lose(error));
        }
        let command = command(request.text)?;
        if self.read_only && !statement::reads(&command) {
            let name = command.first().map_or("", |(name, _)| name);
            let what = format!("the profile's guard is read-only, and {name} is not known to read");
            return Err(EngineError::new(ErrorKind::Refused, what)
                .remedy("This server has no read-only sessions: what writes is refused here. Open a profile whose guard is ask or open."));
        }
        if self.patience.is_over() {
            return Err(EngineError::stopped());
        }
        let mut rows = Rows::new(sink);
        let outcome = self.carry_out(&command, request.values, &mut rows);
        let outcome = rows.end(outcome);
        if outcome.is_err() {
            // What fails in a transaction has ended it on the server.
            self.transactions.fail();
        }
        outcome.map_err(|error| {
            let at = error.at.or_else(|| errors::place(&error.message, request.text));
            self.lose(error.at(at))
        })
    }

    fn load(&mut self, load: &Load<'_>, next: &mut NextRows<'_>) -> Result<u64, EngineError> {
        self.patience.follow(&load.stop);
        load::rows(self, load, next)
    }

    fn is_alive(&mut self) -> bool {
        if self.lost.is_some() {
            return false;
        }
        let Link { runtime, wire, .. } = &mut self.link;
        let closed = runtime.block_on(wire.is_closed());
        if closed {
            self.lost = Some(errors::broken(&WireError::Closed, 0));
        }
        !closed
    }

    fn switches(&self) -> &'static [SwitchKind] {
        &[SwitchKind::DATABASE]
    }

    fn switch(&mut self, to: &Switch, stop: &Stop) -> Result<bool, EngineError> {
        self.patience.follow(stop);
        // A database is there as soon as something is in it.
        self.ask_of(&to.to, vec![pair("ping", Bson::Int32(1))])?;
        self.location.database.clone_from(&to.to);
        Ok(true)
    }

    fn choices(&mut self, _: SwitchKind, stop: &Stop) -> Result<Vec<String>, EngineError> {
        self.patience.follow(stop);
        let mut names = self.databases()?;
        if !names.contains(&self.location.database) {
            names.push(self.location.database.clone());
        }
        names.sort();
        Ok(names)
    }

    fn catalog(&mut self, part: &CatalogPart<'_>, catalog: &mut Catalog) -> Result<bool, EngineError> {
        self.refuse_if_lost()?;
        self.patience.follow(&part.stop);
        if self.patience.is_over() {
            return Err(EngineError::stopped());
        }
        catalog::read(self, part.number, catalog)
    }

    fn changes_catalog(&self, text: &str) -> bool {
        statement::command(text).is_ok_and(|command| {
            command.first().is_some_and(|(name, _)| {
                matches!(
                    name.as_str(),
                    "create" | "createIndexes" | "drop" | "dropIndexes" | "insert" | "collMod" | "renameCollection"
                )
            })
        })
    }

    fn definition(&mut self, of: &Object, _stop: &Stop) -> Result<Option<String>, EngineError> {
        Ok(Some(catalog::definition(of)))
    }
}
