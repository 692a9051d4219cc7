//! A connection: its greeting, its login, and the commands one after another.

use std::cell::RefCell;
use std::io;
use std::net::TcpStream;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use super::failure::Failure;
use super::login::{self, Conversation};
use super::value::{Document, Value, document, field, set};
use super::wire::{Compressor, MOST, Wire};
use super::{Operation, Shared, Transaction, commands};
use crate::held;

/// What is known of a connection.
pub struct Session {
    pub shared: Arc<Shared>,
    pub number: i32,
    pub member: usize,
    pub user: Option<String>,
    conversation: Option<Conversation>,
    certificate: bool,
}

/// A command that runs.
pub struct Call<'a> {
    pub session: &'a mut Session,
    pub database: String,
    pub ended: Arc<AtomicBool>,
    /// The transaction that it is a part of.
    pub transaction: Option<RefCell<Transaction>>,
}

/// Commands that nobody has to be known for.
const OPEN: &[&str] = &[
    "hello",
    "isMaster",
    "ismaster",
    "ping",
    "buildInfo",
    "buildinfo",
    "saslStart",
    "saslContinue",
    "authenticate",
    "endSessions",
    "logout",
    "connectionStatus",
    "configureFailPoint",
    "whatsmyuri",
];

/// Answers a client until it goes.
pub fn serve(stream: TcpStream, number: i32, member: usize, shared: &Arc<Shared>) -> io::Result<()> {
    let mut wire = Wire::new(stream, shared.tls.clone())?;
    let mut session = Session {
        shared: Arc::clone(shared),
        number,
        member,
        user: None,
        conversation: None,
        certificate: wire.certificate,
    };
    loop {
        let asked = wire.message()?;
        *held(&shared.asked).entry(number).or_default() += 1;
        shared.compressed.fetch_add(std::mem::take(&mut wire.compressed) as i64, Ordering::Relaxed);
        let name = asked.command.first().map(|(name, _)| name.clone()).unwrap_or_default();
        let data = shared.fails(&name);
        if data.as_ref().is_some_and(|data| field(data, "closeConnection").is_some_and(Value::holds)) {
            return Ok(());
        }
        let mut reply = match session.carry_out(&name, &asked.command, data.as_ref()) {
            Ok(reply) => reply,
            Err(failure) => failure.reply(),
        };
        if field(&reply, "ok").is_none() {
            set(&mut reply, "ok", Value::Double(1.0));
        }
        if !asked.silent {
            wire.answer(&asked, &reply)?;
        }
    }
}

impl Session {
    fn carry_out(&mut self, name: &str, command: &Document, fails: Option<&Document>) -> Result<Document, Failure> {
        let database = field(command, "$db").and_then(Value::as_text).unwrap_or("admin").to_owned();
        if self.shared.options.login.is_some() && self.user.is_none() && !OPEN.contains(&name) {
            return Err(Failure::new(13, "Unauthorized", format!("Command {name} requires authentication")));
        }
        let ended = Arc::new(AtomicBool::new(false));
        let id = self.shared.next_operation.fetch_add(1, Ordering::Relaxed);
        let operation = Operation {
            connection: self.number,
            command: command.clone(),
            database: database.clone(),
            since: Instant::now(),
            ended: Arc::clone(&ended),
        };
        held(&self.shared.operations).insert(id, operation);
        let outcome = match fails.map_or(Ok(()), |data| fail(data, &ended)) {
            Ok(()) => self.answered(name, command, database, &ended),
            Err(failure) => Err(failure),
        };
        held(&self.shared.operations).remove(&id);
        outcome
    }

    fn answered(
        &mut self,
        name: &str,
        command: &Document,
        database: String,
        ended: &Arc<AtomicBool>,
    ) -> Result<Document, Failure> {
        match name {
            "hello" | "isMaster" | "ismaster" => Ok(self.greeting(name, command)),
            "saslStart" => self.begin_login(command, &database),
            "saslContinue" => self.go_on_with_login(command),
            "authenticate" => match (self.certificate, field(command, "mechanism").and_then(Value::as_text)) {
                (true, Some("MONGODB-X509")) => {
                    self.user = Some("by certificate".to_owned());
                    Ok(Document::new())
                }
                _ => Err(Failure::new(18, "AuthenticationFailed", "No verified subject name available from client")),
            },
            "logout" => {
                self.user = None;
                Ok(Document::new())
            }
            "connectionStatus" => {
                let user = |name: &String| {
                    Value::Document(document([("user", Value::text(name)), ("db", Value::text("admin"))]))
                };
                let users = Value::Array(self.user.iter().map(user).collect());
                Ok(document([("authInfo", Value::Document(document([("authenticatedUsers", users)])))]))
            }
            _ if field(command, "autocommit") == Some(&Value::Bool(false)) => {
                self.in_transaction(name, command, database, ended)
            }
            _ => {
                let ended = Arc::clone(ended);
                commands::run(name, command, &mut Call { session: self, database, ended, transaction: None })
            }
        }
    }

    /// Carries out a command of a transaction ("Driver Transactions Specification").
    fn in_transaction(
        &mut self,
        name: &str,
        command: &Document,
        database: String,
        ended: &Arc<AtomicBool>,
    ) -> Result<Document, Failure> {
        let shared = Arc::clone(&self.shared);
        if shared.options.replica_set.is_none() {
            let what = "Transaction numbers are only allowed on a replica set member or mongos";
            return Err(Failure::new(20, "IllegalOperation", what));
        }
        let session = field(command, "lsid").and_then(Value::as_document).and_then(|lsid| field(lsid, "id"));
        let (Some(Value::Binary(_, session)), Some(number)) =
            (session, field(command, "txnNumber").and_then(Value::as_i64))
        else {
            return Err(Failure::bad("a transaction needs lsid and txnNumber"));
        };
        if field(command, "startTransaction").is_some_and(Value::holds) {
            let base = Arc::clone(&held(&shared.store));
            let own = Arc::clone(&base);
            held(&shared.transactions).insert(session.clone(), Transaction { number, base, own });
        }
        let open = held(&shared.transactions).remove(session).filter(|open| open.number == number);
        let open = open.ok_or_else(|| {
            let what = format!("Given transaction number {number} does not match any in-progress transactions.");
            Failure::new(251, "NoSuchTransaction", what)
        })?;
        match name {
            "commitTransaction" => {
                let mut store = held(&shared.store);
                open.own.commit(&open.base, Arc::make_mut(&mut store))?;
                return Ok(Document::new());
            }
            "abortTransaction" => return Ok(Document::new()),
            "count" | "create" | "createIndexes" | "drop" | "dropIndexes" | "explain" => {
                let what = format!("Cannot run '{name}' in a multi-document transaction.");
                return Err(Failure::new(263, "OperationNotSupportedInTransaction", what));
            }
            _ => {}
        }
        let transaction = Some(RefCell::new(open));
        let mut call = Call { session: self, database, ended: Arc::clone(ended), transaction };
        // What fails ends it.
        let reply = commands::run(name, command, &mut call)?;
        let failed = field(&reply, "writeErrors").is_some();
        if let Some(open) = call.transaction.take().filter(|_| !failed) {
            held(&shared.transactions).insert(session.clone(), open.into_inner());
        }
        Ok(reply)
    }

    /// What the server says of itself ("Server Discovery And Monitoring").
    fn greeting(&self, name: &str, command: &Document) -> Document {
        let (shared, is_primary) = (&self.shared, self.is_primary());
        let address = |member: usize| Value::Text(format!("127.0.0.1:{}", shared.members[member].port));
        let flag = if name == "hello" { "isWritablePrimary" } else { "ismaster" };
        let mut reply = document([(flag, Value::Bool(is_primary)), ("helloOk", Value::Bool(true))]);
        if let Some((set, _)) = &shared.options.replica_set {
            let hosts = (0..shared.members.len()).map(address).collect();
            reply.extend(document([
                ("setName", Value::text(set)),
                ("setVersion", Value::Int(1)),
                ("secondary", Value::Bool(!is_primary)),
                ("hosts", Value::Array(hosts)),
                ("primary", address(shared.primary.load(Ordering::SeqCst))),
                ("me", address(self.member)),
            ]));
        }
        reply.extend(document([
            ("maxBsonObjectSize", Value::Int(16 << 20)),
            ("maxMessageSizeBytes", Value::Int(MOST as i32)),
            ("maxWriteBatchSize", Value::Int(100_000)),
            ("localTime", Value::Date(chrono::Utc::now().timestamp_millis())),
            ("logicalSessionTimeoutMinutes", Value::Int(30)),
            ("connectionId", Value::Int(self.number)),
            ("minWireVersion", Value::Int(0)),
            ("maxWireVersion", Value::Int(25)),
            ("readOnly", Value::Bool(false)),
        ]));
        if let Some(Value::Array(wanted)) = field(command, "compression") {
            let taken = wanted.iter().filter_map(Value::as_text).filter_map(Compressor::named).map(Compressor::name);
            let taken = taken.filter(|name| shared.options.compressors.iter().any(|own| own == name)).map(Value::text);
            set(&mut reply, "compression", Value::Array(taken.collect()));
        }
        if let Some(Value::Text(wanted)) = field(command, "saslSupportedMechs")
            && let Some((user, _)) = &shared.options.login
            && *wanted == format!("admin.{user}")
        {
            let all = shared.options.mechanisms.iter().filter(|name| name.starts_with("SCRAM"));
            set(&mut reply, "saslSupportedMechs", Value::Array(all.map(Value::text).collect()));
        }
        reply
    }

    /// Whether writes are taken here.
    pub fn is_primary(&self) -> bool {
        self.member == self.shared.primary.load(Ordering::SeqCst)
    }

    fn begin_login(&mut self, command: &Document, database: &str) -> Result<Document, Failure> {
        let mechanism = field(command, "mechanism").and_then(Value::as_text).unwrap_or_default();
        let Some(Value::Binary(_, payload)) = field(command, "payload") else {
            return Err(Failure::bad("a payload is missing"));
        };
        let Some((user, password)) = self.shared.options.login.clone() else {
            return Err(Failure::new(18, "AuthenticationFailed", "Authentication failed."));
        };
        if !self.shared.options.mechanisms.iter().any(|own| own == mechanism) {
            let what = format!("Received authentication for mechanism {mechanism} which is not enabled");
            return Err(Failure::new(334, "MechanismUnavailable", what));
        }
        if mechanism == "PLAIN" {
            login::plain(payload, &user, &password)?;
            self.user = Some(user);
            return Ok(step(true, Vec::new()));
        }
        if database != "admin" {
            return Err(Failure::new(18, "AuthenticationFailed", "Authentication failed."));
        }
        let (conversation, answer) = login::begin(mechanism, payload)?;
        self.conversation = Some(conversation);
        Ok(step(false, answer))
    }

    fn go_on_with_login(&mut self, command: &Document) -> Result<Document, Failure> {
        let Some(Value::Binary(_, payload)) = field(command, "payload") else {
            return Err(Failure::bad("a payload is missing"));
        };
        if payload.is_empty() && self.user.is_some() {
            return Ok(step(true, Vec::new()));
        }
        let (Some(conversation), Some((user, password))) =
            (self.conversation.take(), self.shared.options.login.clone())
        else {
            return Err(Failure::new(17, "ProtocolError", "No SASL session state found"));
        };
        let answer = conversation.prove(payload, &user, &password)?;
        self.user = Some(user);
        Ok(step(true, answer))
    }
}

/// A step of a login.
fn step(done: bool, payload: Vec<u8>) -> Document {
    document([("conversationId", Value::Int(1)), ("done", Value::Bool(done)), ("payload", Value::Binary(0, payload))])
}

/// What a fail point does: it waits, and then perhaps refuses.
fn fail(data: &Document, ended: &AtomicBool) -> Result<(), Failure> {
    if field(data, "blockConnection").is_some_and(Value::holds) {
        let millis = field(data, "blockTimeMS").and_then(Value::as_i64).unwrap_or(0).unsigned_abs();
        let until = Instant::now() + Duration::from_millis(millis);
        while Instant::now() < until {
            if ended.load(Ordering::Relaxed) {
                return Err(Failure::ended());
            }
            std::thread::sleep(Duration::from_millis(2));
        }
    }
    match field(data, "errorCode").and_then(Value::as_i64) {
        Some(code) => Err(Failure::new(code as i32, "Injected", "Failing command via 'failCommand' failpoint")),
        None => Ok(()),
    }
}
