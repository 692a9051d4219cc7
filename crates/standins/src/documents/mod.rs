//! A small server of the open wire protocol of document databases, written from its published specification and the
//! documentation of commands; its documents are in memory.
//!
//! [`wire`] carries messages, [`login`] says who somebody is, [`session`] answers. [`value`] and [`bson`] are values and
//! their bytes, [`json`] reads them from files. [`store`] holds collections and indexes, [`matching`] are filters,
//! [`expression`] and [`stages`] pipelines, [`update`] changes; [`commands`] puts them together.

mod bson;
mod commands;
mod cursor;
mod decimal;
mod expression;
mod failure;
mod geo;
mod json;
mod login;
mod matching;
mod schema;
mod scope;
mod session;
mod stages;
mod store;
mod text;
mod update;
mod value;
mod wire;

use std::collections::{BTreeMap, HashMap};
use std::net::{Ipv4Addr, Shutdown, TcpListener, TcpStream};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicI32, AtomicI64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Instant;

use rustls::ServerConfig;

use crate::held;
use crate::tls::{StartError, Tls, config};
use cursor::Cursor;
use store::Store;
use value::{Document, Value, field};

/// How a server is to be.
#[derive(Debug, Clone)]
pub struct Options {
    /// The folder with its documents: a file of JSON lines for each collection, `NAME.jsonl`. A file
    /// `NAME.indexes.jsonl` beside it has the indexes, as `createIndexes` takes them.
    pub data: Option<PathBuf>,
    /// The database that they are in.
    pub database: String,
    /// Its port on 127.0.0.1; 0 for a free one. Further members of a replica set have free ones.
    pub port: u16,
    /// The one user and the password, of the database `admin`; without, everybody is let in.
    pub login: Option<(String, String)>,
    /// The ways to log in that are offered.
    pub mechanisms: Vec<String>,
    /// Its certificate: with one, nobody comes in without TLS.
    pub tls: Option<Tls>,
    /// Clients may show a certificate of this authority, a PEM file, and are let in with it.
    pub client_ca: Option<PathBuf>,
    /// The name of its replica set, and how many members that has.
    pub replica_set: Option<(String, usize)>,
    /// The compressors that it takes.
    pub compressors: Vec<String>,
    /// The name of a collection whose documents never end.
    pub endless: Option<String>,
}

impl Default for Options {
    fn default() -> Options {
        Options {
            data: None,
            database: "ferry".into(),
            port: 0,
            login: None,
            mechanisms: vec!["SCRAM-SHA-256".into(), "SCRAM-SHA-1".into()],
            tls: None,
            client_ca: None,
            replica_set: None,
            compressors: vec!["snappy".into(), "zlib".into()],
            endless: None,
        }
    }
}

/// A server that runs until it is dropped.
pub struct Server {
    shared: Arc<Shared>,
}

/// A member of a replica set, or the server itself.
struct Member {
    port: u16,
    is_up: AtomicBool,
}

/// What runs.
struct Operation {
    connection: i32,
    command: Document,
    database: String,
    since: Instant,
    ended: Arc<AtomicBool>,
}

/// An open transaction: what it began with, and what it has made of it.
struct Transaction {
    number: i64,
    base: Arc<Store>,
    own: Arc<Store>,
}

/// Commands that are to fail, or to be slow ("Fail Points").
struct FailPoint {
    commands: Vec<String>,
    left: Option<i64>,
    data: Document,
}

/// What the sessions of a server share.
struct Shared {
    options: Options,
    tls: Option<Arc<ServerConfig>>,
    members: Vec<Member>,
    primary: AtomicUsize,
    store: Mutex<Arc<Store>>,
    cursors: Mutex<HashMap<i64, Cursor>>,
    next_cursor: AtomicI64,
    operations: Mutex<BTreeMap<i32, Operation>>,
    next_operation: AtomicI32,
    streams: Mutex<HashMap<i32, (usize, TcpStream)>>,
    next_connection: AtomicI32,
    /// How many messages each connection has sent.
    asked: Mutex<HashMap<i32, u64>>,
    fail_point: Mutex<Option<FailPoint>>,
    /// The open transactions, by the session of each.
    transactions: Mutex<HashMap<Vec<u8>, Transaction>>,
    /// How many messages came compressed.
    compressed: AtomicI64,
    since: Instant,
    ends: AtomicBool,
}

impl Server {
    /// Starts one, on threads of its own.
    pub fn start(options: Options) -> Result<Server, StartError> {
        let count = options.replica_set.as_ref().map_or(1, |(_, count)| (*count).max(1));
        let mut listeners = Vec::new();
        for number in 0..count {
            listeners.push(TcpListener::bind((Ipv4Addr::LOCALHOST, if number == 0 { options.port } else { 0 }))?);
        }
        let tls = options.tls.as_ref();
        let tls = tls.map(|tls| config(tls, rustls::DEFAULT_VERSIONS, None, options.client_ca.as_deref()));
        let tls = tls.transpose().map_err(StartError::Certificate)?;
        let mut members = Vec::new();
        for listener in &listeners {
            members.push(Member { port: listener.local_addr()?.port(), is_up: AtomicBool::new(true) });
        }
        let store = loaded(&options).map_err(StartError::Data)?;
        let shared = Arc::new(Shared {
            options,
            tls,
            members,
            primary: AtomicUsize::new(0),
            store: Mutex::new(Arc::new(store)),
            cursors: Mutex::default(),
            next_cursor: AtomicI64::new(1 << 40),
            operations: Mutex::default(),
            next_operation: AtomicI32::new(1),
            streams: Mutex::default(),
            next_connection: AtomicI32::new(1),
            asked: Mutex::default(),
            fail_point: Mutex::default(),
            transactions: Mutex::default(),
            compressed: AtomicI64::new(0),
            since: Instant::now(),
            ends: AtomicBool::new(false),
        });
        for (member, listener) in listeners.into_iter().enumerate() {
            let shared = Arc::clone(&shared);
            let thread = std::thread::Builder::new().name("standin documents".into());
            thread.spawn(move || listen(&listener, member, &shared))?;
        }
        Ok(Server { shared })
    }

    /// Its port; of a replica set that of the first member.
    pub fn port(&self) -> u16 {
        self.ports()[0]
    }

    /// The ports of all members.
    pub fn ports(&self) -> Vec<u16> {
        self.shared.members.iter().map(|member| member.port).collect()
    }

    /// How many messages came compressed so far.
    pub fn compressed(&self) -> i64 {
        self.shared.compressed.load(Ordering::Relaxed)
    }

    /// How many messages a connection has sent.
    pub fn asked(&self, connection: i32) -> u64 {
        held(&self.shared.asked).get(&connection).copied().unwrap_or(0)
    }

    /// Whether a command of this name is being carried out.
    pub fn is_running(&self, command: &str) -> bool {
        held(&self.shared.operations).values().any(|one| one.command.first().is_some_and(|(name, _)| name == command))
    }

    /// Ends a connection.
    pub fn end_connection(&self, connection: i32) {
        if let Some((_, stream)) = held(&self.shared.streams).remove(&connection) {
            let _ = stream.shutdown(Shutdown::Both);
        }
    }

    /// Ends all connections, as a network that breaks does.
    pub fn cut(&self) {
        for (_, (_, stream)) in held(&self.shared.streams).drain() {
            let _ = stream.shutdown(Shutdown::Both);
        }
    }

    /// The primary goes down: its connections end, and the next member is the primary.
    pub fn fail_over(&self) {
        let shared = &self.shared;
        let primary = shared.primary.load(Ordering::SeqCst);
        shared.members[primary].is_up.store(false, Ordering::SeqCst);
        let next = (1..shared.members.len()).map(|step| (primary + step) % shared.members.len());
        if let Some(next) = next.into_iter().find(|next| shared.members[*next].is_up.load(Ordering::SeqCst)) {
            shared.primary.store(next, Ordering::SeqCst);
        }
        held(&shared.streams).retain(|_, (member, stream)| {
            let stays = *member != primary;
            if !stays {
                let _ = stream.shutdown(Shutdown::Both);
            }
            stays
        });
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.shared.ends.store(true, Ordering::SeqCst);
        for operation in held(&self.shared.operations).values() {
            operation.ended.store(true, Ordering::SeqCst);
        }
        self.cut();
        // Wakes the threads that listen.
        for member in &self.shared.members {
            let _ = TcpStream::connect((Ipv4Addr::LOCALHOST, member.port));
        }
    }
}

/// The documents of a folder.
fn loaded(options: &Options) -> Result<Store, String> {
    let mut store = Store::default();
    let Some(folder) = &options.data else { return Ok(store) };
    let mut files: Vec<PathBuf> = Vec::new();
    for entry in std::fs::read_dir(folder).map_err(|error| format!("{}: {error}", folder.display()))? {
        files.push(entry.map_err(|error| error.to_string())?.path());
    }
    // Documents before their indexes.
    files.sort_by_key(|file| (file.to_string_lossy().contains(".indexes."), file.clone()));
    let ended = AtomicBool::new(false);
    for file in files.iter().filter(|file| file.extension().is_some_and(|ending| ending == "jsonl")) {
        let wrong = |what: String| format!("{}: {what}", file.display());
        let text = std::fs::read_to_string(file).map_err(|error| wrong(error.to_string()))?;
        let stem = file.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let empty = Store::default();
        let scope = scope::Scope::bare(&empty, &options.database, &ended);
        for one in json::documents(&text).map_err(wrong)? {
            match stem.strip_suffix(".indexes") {
                Some(name) => {
                    let index = commands::index_of(&one).map_err(|failure| wrong(failure.message))?;
                    let namespace = format!("{}.{name}", options.database);
                    let added = store.make(&options.database, name).add_index(index, &namespace);
                    added.map_err(|failure| wrong(failure.message))?;
                }
                None => {
                    let namespace = format!("{}.{stem}", options.database);
                    let added = store.make(&options.database, &stem).insert(one, &namespace, &scope);
                    added.map_err(|failure| wrong(failure.message))?;
                }
            }
        }
    }
    Ok(store)
}

fn listen(listener: &TcpListener, member: usize, shared: &Arc<Shared>) {
    for stream in listener.incoming() {
        if shared.ends.load(Ordering::SeqCst) {
            return;
        }
        let Ok(stream) = stream else { continue };
        if !shared.members[member].is_up.load(Ordering::SeqCst) {
            let _ = stream.shutdown(Shutdown::Both);
            continue;
        }
        let shared = Arc::clone(shared);
        let number = shared.next_connection.fetch_add(1, Ordering::Relaxed);
        let _ = stream.set_nodelay(true);
        let serving = std::thread::Builder::new().name(format!("standin connection {number}"));
        let served = serving.spawn(move || {
            if let Ok(copy) = stream.try_clone() {
                held(&shared.streams).insert(number, (member, copy));
            }
            // A client that goes away is not a mistake of ours.
            let _ = session::serve(stream, number, member, &shared);
            if let Some((_, stream)) = held(&shared.streams).remove(&number) {
                let _ = stream.shutdown(Shutdown::Both);
            }
        });
        drop(served);
    }
}

impl Shared {
    /// What a fail point does to a command, once.
    fn fails(&self, command: &str) -> Option<Document> {
        let mut point = held(&self.fail_point);
        let own = point.as_mut()?;
        if !own.commands.iter().any(|own| own == command) || own.left == Some(0) {
            return None;
        }
        own.left = own.left.map(|left| left - 1);
        Some(own.data.clone())
    }

    fn set_fail_point(&self, command: &Document) {
        let data = field(command, "data").and_then(Value::as_document).cloned().unwrap_or_default();
        let commands = field(&data, "failCommands").and_then(Value::as_array).unwrap_or_default();
        let commands = commands.iter().filter_map(Value::as_text).map(str::to_owned).collect();
        let left = match field(command, "mode") {
            Some(Value::Text(mode)) if mode == "off" => Some(0),
            Some(Value::Document(mode)) => field(mode, "times").and_then(Value::as_i64),
            _ => None,
        };
        *held(&self.fail_point) = Some(FailPoint { commands, left, data });
    }
}
