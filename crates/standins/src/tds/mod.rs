//! A small server of TDS 7.4 and 8.0 over a SQLite file, written from the published specification ([MS-TDS]).
//!
//! [`wire`] carries bytes, with TLS or without; [`hello`] is what comes before the first statement; [`say`] writes what a
//! server sends. [`lex`] and [`parse`] read a part of T-SQL, [`run`] carries it out: variables, conditions, procedures and
//! transactions itself, and queries as [`sqlite`] turns them into SQLite's language. [`table`] the text of a table in its parts. [`types`] knows how values travel,
//! [`catalog`] answers for the schema `sys`, [`plan`] for plans.

mod catalog;
mod dates;
mod hello;
mod lex;
mod parse;
mod plan;
mod run;
mod say;
mod sent;
mod sqlite;
mod table;
mod types;
mod wire;

use std::collections::{BTreeMap, HashMap};
use std::net::{Ipv4Addr, TcpListener, TcpStream};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU16, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};

use rustls::ServerConfig;

pub(crate) use crate::held;
pub use crate::tls::{StartError, Tls};

/// How a server is to be.
#[derive(Debug, Clone)]
pub struct Options {
    /// The SQLite file that holds its data; without one, an empty database that is gone with the server.
    pub data: Option<PathBuf>,
    /// Its port on 127.0.0.1; 0 for a free one.
    pub port: u16,
    /// The one login.
    pub user: String,
    /// Its password.
    pub password: String,
    /// The name of its database.
    pub database: String,
    /// Other databases: their names and files.
    pub others: Vec<(String, PathBuf)>,
    /// Its certificate: without one there is no TLS.
    pub tls: Option<Tls>,
    /// It takes no connection without TLS.
    pub requires_tls: bool,
    /// Logins that only read are sent to this port.
    pub reading_port: Option<u16>,
    /// It knows no `INSERT BULK`.
    pub lacks_bulk: bool,
}

impl Default for Options {
    fn default() -> Options {
        Options {
            data: None,
            port: 0,
            user: "clerk".into(),
            password: "salt and fog".into(),
            database: "ferry".into(),
            others: Vec::new(),
            tls: None,
            requires_tls: false,
            reading_port: None,
            lacks_bulk: false,
        }
    }
}

/// A server that runs until it is dropped.
pub struct Server {
    shared: Arc<Shared>,
    port: u16,
}

/// What the sessions of a server share.
pub(crate) struct Shared {
    pub options: Options,
    pub configs: Option<[Arc<ServerConfig>; 2]>,
    /// The file, also where it is one of its own.
    pub data: PathBuf,
    /// Goes with the server.
    temporary: Option<PathBuf>,
    /// The file of each other database by its name, and whether it was made here: then it is gone with the server.
    pub databases: Mutex<BTreeMap<String, (PathBuf, bool)>>,
    /// Procedures, views and functions that were made here, by their names in lower case.
    pub modules: Mutex<HashMap<String, parse::Module>>,
    /// What was said of tables and their columns (which are empty for the table itself).
    pub descriptions: Mutex<BTreeMap<(String, String), String>>,
    /// Rules by their names in lower case that rows need not keep, and whether they are off.
    pub lenient: Mutex<BTreeMap<String, bool>>,
    pub sessions: Mutex<HashMap<u16, TcpStream>>,
    /// How many requests each session has sent.
    pub asked: Mutex<HashMap<u16, Arc<AtomicU64>>>,
    next: AtomicU16,
    ends: AtomicBool,
}

/// The first number of a session of a person; those below are the server's own.
const FIRST_SESSION: u16 = 51;

impl Server {
    /// Starts one, on threads of its own.
    pub fn start(options: Options) -> Result<Server, StartError> {
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, options.port))?;
        let port = listener.local_addr()?.port();
        let configs = options.tls.as_ref().map(wire::configs).transpose().map_err(StartError::Certificate)?;
        let (data, temporary) = match &options.data {
            Some(data) => (data.clone(), None),
            None => {
                remove_those_of_dead_servers();
                let file = std::env::temp_dir().join(format!("{FILES}{}-{port}.db", std::process::id()));
                let _ = std::fs::remove_file(&file);
                (file.clone(), Some(file))
            }
        };
        let others = options.others.clone().into_iter().map(|(name, file)| (name, (file, false)));
        let shared = Arc::new(Shared {
            options,
            configs,
            data,
            temporary,
            databases: Mutex::new(others.collect()),
            modules: Mutex::default(),
            descriptions: Mutex::default(),
            lenient: Mutex::default(),
            sessions: Mutex::default(),
            asked: Mutex::default(),
            next: AtomicU16::new(FIRST_SESSION),
            ends: AtomicBool::new(false),
        });
        let for_thread = Arc::clone(&shared);
        std::thread::Builder::new().name("standin tds".into()).spawn(move || listen(&listener, &for_thread))?;
        Ok(Server { shared, port })
    }

    /// Its port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Ends a session.
    pub fn end_session(&self, number: u16) {
        if let Some(stream) = held(&self.shared.sessions).remove(&number) {
            let _ = stream.shutdown(std::net::Shutdown::Both);
        }
    }

    /// How many requests a session has sent.
    pub fn asked(&self, number: u16) -> u64 {
        held(&self.shared.asked).get(&number).map_or(0, |count| count.load(Ordering::Relaxed))
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.shared.ends.store(true, Ordering::SeqCst);
        for (_, stream) in held(&self.shared.sessions).drain() {
            let _ = stream.shutdown(std::net::Shutdown::Both);
        }
        self.shared.clean_up();
        // Wakes the thread that listens.
        let _ = TcpStream::connect((Ipv4Addr::LOCALHOST, self.port));
    }
}

impl Shared {
    /// The name of a database as it is kept, in whatever letters it was written.
    pub fn database(&self, name: &str) -> Option<String> {
        let own = [self.options.database.as_str(), hello::MASTER].map(str::to_owned);
        let made = held(&self.databases);
        own.into_iter().chain(made.keys().cloned()).find(|known| known.eq_ignore_ascii_case(name))
    }

    /// The file of a database, by the name that it is kept under.
    pub fn file_of(&self, database: &str) -> PathBuf {
        held(&self.databases).get(database).map_or(&self.data, |(file, _)| file).clone()
    }

    /// Makes a database; its file is beside the others that are gone with the server.
    pub fn make_database(&self, name: &str) {
        let mut made = held(&self.databases);
        let number = made.len();
        let file = format!("{FILES}{}-{:p}-{number}.db", std::process::id(), self);
        let file = std::env::temp_dir().join(file);
        remove(&file);
        made.insert(name.to_owned(), (file, true));
    }

    /// Takes a database away.
    pub fn drop_database(&self, name: &str) {
        if let Some((file, true)) = held(&self.databases).remove(name) {
            remove(&file);
        }
    }
}

/// What the names of our temporary files begin with; after it comes the number of the process.
const FILES: &str = "jaunty-standin-";

/// Removes what servers left that were killed. Where processes are not to be looked up it stays.
fn remove_those_of_dead_servers() {
    let processes = std::path::Path::new("/proc");
    if !processes.join("self").exists() {
        return;
    }
    for entry in std::fs::read_dir(std::env::temp_dir()).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let process = name.strip_prefix(FILES).and_then(|rest| rest.split('-').next()?.parse::<u32>().ok());
        if process.is_some_and(|process| !processes.join(process.to_string()).exists()) {
            let _ = std::fs::remove_file(entry.path());
        }
    }
}

/// Removes the files of a database.
fn remove(file: &std::path::Path) {
    for ending in ["", "-wal", "-shm", "-journal"] {
        let mut name = file.to_owned().into_os_string();
        name.push(ending);
        let _ = std::fs::remove_file(PathBuf::from(name));
    }
}

impl Shared {
    /// Removes the files that go with the server. Sessions that still end have theirs open.
    fn clean_up(&self) {
        self.temporary.iter().for_each(|file| remove(file));
        held(&self.databases).values().filter(|(_, made)| *made).for_each(|(file, _)| remove(file));
    }
}

fn listen(listener: &TcpListener, shared: &Arc<Shared>) {
    for stream in listener.incoming() {
        if shared.ends.load(Ordering::SeqCst) {
            return;
        }
        let Ok(stream) = stream else { continue };
        let shared = Arc::clone(shared);
        let number = shared.next.fetch_add(1, Ordering::Relaxed);
        let _ = stream.set_nodelay(true);
        let serving = std::thread::Builder::new().name(format!("standin session {number}"));
        let served = serving.spawn(move || {
            if let Ok(copy) = stream.try_clone() {
                held(&shared.sessions).insert(number, copy);
            }
            // A client that goes away is no mistake of ours.
            let _ = run::serve(stream, number, &shared);
            if let Some(stream) = held(&shared.sessions).remove(&number) {
                let _ = stream.shutdown(std::net::Shutdown::Both);
            }
        });
        drop(served);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_killed_server_left_is_removed_by_the_next_one() {
        // No process has such a number.
        let left = std::env::temp_dir().join(format!("{FILES}{}-{:p}.db-wal", u32::MAX, &FILES));
        let own = std::env::temp_dir().join(format!("{FILES}{}-{:p}.db-wal", std::process::id(), &FILES));
        std::fs::write(&left, "half").unwrap();
        std::fs::write(&own, "in use").unwrap();
        let server = Server::start(Options::default()).unwrap();
        assert!(!left.exists() && own.exists());
        drop(server);
        std::fs::remove_file(own).unwrap();
    }
}
