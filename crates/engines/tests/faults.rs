//! Networks that fail in the middle of rows, on every engine with a server: a person who stops is free again, and
//! what is said names a lost connection.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use arrow_array::{ArrayRef, RecordBatch, StringArray};
use arrow_schema::{DataType, Field, Schema};
use jaunty_core::connection::open;
use jaunty_engines::by_name;
use jaunty_seam::catalog::Column;
use jaunty_seam::engine::load::{Load, Meeting};
use jaunty_seam::engine::{Request, Session, Stop};
use jaunty_seam::error::ErrorKind;
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_standins::tds::{Options, Server};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres, Redis};
use support::Collect;

/// What becomes of what the server sends, once the fault is switched on.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Fault {
    /// Nothing comes any more.
    Stall,
    /// A byte a millisecond.
    Trickle,
    /// A hundred milliseconds before each piece.
    Delay,
    /// Bytes are others.
    Garble,
    /// It ends in the middle.
    Cut,
    /// Nothing that a client sends arrives.
    Deaf,
    /// Nothing comes after a login of PostgreSQL.
    SilentAfterLogin,
}

const FAULTS: [Fault; 5] = [Fault::Stall, Fault::Trickle, Fault::Delay, Fault::Garble, Fault::Cut];

/// A proxy in front of a server. All connections suffer the fault, also the one that a wish to stop goes by.
struct Proxy {
    port: u16,
    on: Arc<AtomicBool>,
}

impl Proxy {
    fn start(server: u16, fault: Fault) -> Proxy {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let on = Arc::new(AtomicBool::new(false));
        let shared = Arc::clone(&on);
        std::thread::spawn(move || {
            for client in listener.incoming().flatten() {
                let Ok(there) = TcpStream::connect(("127.0.0.1", server)) else { return };
                let (from, to) = (client.try_clone().unwrap(), there.try_clone().unwrap());
                let deaf = Arc::clone(&shared);
                std::thread::spawn(move || {
                    copy(from, to, |_| {
                        while fault == Fault::Deaf && deaf.load(Ordering::Relaxed) {
                            std::thread::park_timeout(Duration::from_secs(1));
                        }
                        true
                    });
                });
                let on = Arc::clone(&shared);
                std::thread::spawn(move || carry(there, client, &on, fault));
            }
        });
        Proxy { port, on }
    }
}

fn copy(mut from: TcpStream, mut to: TcpStream, goes_on: impl Fn(&mut [u8]) -> bool) {
    let mut bytes = [0; 4096];
    while let Ok(count @ 1..) = from.read(&mut bytes) {
        if !goes_on(&mut bytes[..count]) || to.write_all(&bytes[..count]).is_err() {
            break;
        }
    }
    let _ = (from.shutdown(Shutdown::Both), to.shutdown(Shutdown::Both));
}

fn carry(from: TcpStream, to: TcpStream, on: &AtomicBool, fault: Fault) {
    let (slow, quiet) = (to.try_clone().unwrap(), std::cell::Cell::new(false));
    copy(from, to, |bytes| {
        if !on.load(Ordering::Relaxed) {
            return true;
        }
        match fault {
            Fault::Stall => loop {
                std::thread::park_timeout(Duration::from_secs(1));
            },
            Fault::Trickle => bytes.iter().all(|byte| {
                std::thread::park_timeout(Duration::from_millis(1));
                (&slow).write_all(&[*byte]).is_ok()
            }),
            Fault::Delay => {
                std::thread::park_timeout(Duration::from_millis(100));
                true
            }
            Fault::Garble => {
                bytes.iter_mut().step_by(97).for_each(|byte| *byte ^= 0x5a);
                true
            }
            Fault::Cut => false,
            Fault::Deaf => true,
            Fault::SilentAfterLogin => {
                if quiet.get() {
                    loop {
                        std::thread::park_timeout(Duration::from_secs(1));
                    }
                }
                // "Ready for query", PostgreSQL's documentation, section 55.7.
                quiet.set(bytes.windows(6).any(|window| window == b"Z\0\0\0\x05I"));
                true
            }
        }
    });
}

fn connect(engine: &str, port: u16) -> Box<dyn Session> {
    let mut profile = Profile::new("faulty", engine).with("host", "127.0.0.1").with("tls", "off");
    profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
    let (database, secret) = match engine {
        "sqlserver" => ("ferry", Options::default().password),
        _ => ("bookings", PASSWORD.to_owned()),
    };
    if engine != "redis" {
        profile = profile.with("user", "clerk").with("database", database);
    }
    open(by_name(engine).unwrap(), &profile, Some(&Secret::new(secret))).unwrap()
}

/// Runs an endless statement through each fault, and stops it in the middle.
fn suffers(engine: &str, server: u16, statement: &str) {
    for fault in FAULTS {
        let proxy = Proxy::start(server, fault);
        let mut session = connect(engine, proxy.port);
        let stop = Stop::default();
        let collect = Collect::up_to(usize::MAX);
        let rows = collect.clone();
        let (outcome, took) = std::thread::scope(|scope| {
            let worker = scope.spawn(|| session.run(&Request::new(statement).until(&stop), Box::new(collect.clone())));
            while rows.count() == 0 && !worker.is_finished() && engine != "redis" {
                std::thread::yield_now();
            }
            proxy.on.store(true, Ordering::Relaxed);
            // So long that what was on its way has come. (A thread that ended may have left a wish to wake up.)
            let since = Instant::now();
            while since.elapsed() < Duration::from_millis(300) {
                std::thread::park_timeout(Duration::from_millis(50));
            }
            let since = Instant::now();
            stop.wish();
            (worker.join().unwrap(), since.elapsed())
        });
        eprintln!("{engine} {fault:?}: {took:?} {:?}", outcome.as_ref().map_err(ToString::to_string));
        let error = outcome.expect_err("it has no end");
        let told = matches!(error.kind, ErrorKind::Lost | ErrorKind::Stopped);
        // Garbled bytes may look like something that the server refuses.
        assert!(told || fault == Fault::Garble, "{engine} {fault:?}: {:?} {error}", error.kind);
        for riddle in ["Incompatible type", "all columns in a record batch", "a row cannot be kept"] {
            assert!(!error.to_string().contains(riddle), "{engine} {fault:?}: {error}");
        }
        // Nobody waits after what was given up: the server may still be busy with it.
        if error.kind == ErrorKind::Lost {
            assert!(!session.is_alive(), "{engine} {fault:?}: {error}");
            let again = session.run(&Request::new(statement), Box::new(Collect::up_to(usize::MAX)));
            assert_eq!(again.map_err(|error| error.kind), Err(ErrorKind::Lost), "{engine} {fault:?}");
        }
    }
}

#[test]
fn postgres() {
    let server = Postgres::start();
    suffers("postgres", server.port, "select generate_series(1, 100000000) as i, repeat('x', 100) as name");
}

#[test]
fn mariadb() {
    let server = Mariadb::start();
    suffers("mysql", server.port, "select seq, repeat('x', 100) as name from seq_1_to_100000000");
}

#[test]
fn redis() {
    let server = Redis::start();
    let mut session = connect("redis", server.port);
    support::run(session.as_mut(), "eval \"local t = {} for i = 1, 5000 do t[i] = string.rep('x', 100) end for i = 1, 20 do redis.call('rpush', 'l', unpack(t)) end return 1\" 0").unwrap();
    // Ten megabytes in one reply.
    suffers("redis", server.port, "lrange l 0 -1");
}

#[test]
fn sql_server() {
    let server = Server::start(Options::default()).unwrap();
    let rows = "with n (i) as (select 1 union all select i + 1 from n where i < 100000000) select i, replicate('x', 100) as name from n option (maxrecursion 0)";
    suffers("sqlserver", server.port(), rows);
}

/// Rows that are sent without end: whether the server does not answer, does not listen or goes away, a person who stops is
/// free, and nothing of them stays.
#[test]
fn rows_on_their_way_to_a_server() {
    let server = Server::start(Options::default()).unwrap();
    let mut direct = connect("sqlserver", server.port());
    support::run(direct.as_mut(), "create table tides (id int, name nvarchar(100))").unwrap();
    for fault in [Fault::Stall, Fault::Delay, Fault::Cut, Fault::Deaf] {
        let proxy = Proxy::start(server.port(), fault);
        let mut session = connect("sqlserver", proxy.port);
        support::run(session.as_mut(), "begin transaction").unwrap();
        let fields = vec![Field::new("id", DataType::Utf8, true), Field::new("name", DataType::Utf8, true)];
        let texts = |text: &str| Arc::new(StringArray::from(vec![text; 1000])) as ArrayRef;
        let batch = RecordBatch::try_new(Arc::new(Schema::new(fields)), vec![texts("7"), texts(&"x".repeat(100))]);
        let (batch, stop) = (batch.unwrap(), Stop::default());
        let column =
            |name: &str, db_type: &str| Column { name: name.into(), db_type: db_type.into(), ..Column::default() };
        let columns = [column("id", "int"), column("name", "nvarchar(100)")];
        let dialect = by_name("sqlserver").unwrap().dialect();
        let load =
            Load { table: "tides", columns: &columns, key: &[], meeting: Meeting::Refuse, dialect, stop: stop.clone() };
        let given = AtomicUsize::new(0);
        let outcome = std::thread::scope(|scope| {
            let worker = scope.spawn(|| {
                session.load(&load, &mut || {
                    given.fetch_add(1, Ordering::Relaxed);
                    Ok(Some(batch.clone()))
                })
            });
            while given.load(Ordering::Relaxed) < 30 && !worker.is_finished() {
                std::thread::yield_now();
            }
            proxy.on.store(true, Ordering::Relaxed);
            // Until nothing is taken any more, or the loss was found.
            let mut before = 0;
            while before != given.load(Ordering::Relaxed) && fault != Fault::Delay && !worker.is_finished() {
                before = given.load(Ordering::Relaxed);
                std::thread::park_timeout(Duration::from_millis(300));
            }
            stop.wish();
            worker.join().unwrap()
        });
        let error = outcome.expect_err("it has no end");
        assert!(matches!(error.kind, ErrorKind::Lost | ErrorKind::Stopped), "{fault:?}: {:?} {error}", error.kind);
        drop((session, proxy));
    }
    // What was begun is rolled back as soon as the server sees that nobody is there.
    let count = |session: &mut dyn Session| {
        support::run(session, "select count(*) from tides").unwrap().rows().concat().concat()
    };
    let since = Instant::now();
    while count(direct.as_mut()) != "0" && since.elapsed() < Duration::from_secs(60) {
        std::thread::yield_now();
    }
    assert_eq!(count(direct.as_mut()), "0");
}

/// A server that lets us in and then says nothing: the time for connecting is that of all of it.
#[test]
fn first_questions_belong_to_connecting() {
    let server = Postgres::start();
    let proxy = Proxy::start(server.port, Fault::SilentAfterLogin);
    proxy.on.store(true, Ordering::Relaxed);
    let mut profile = Profile::new("silent", "postgres").with("host", "127.0.0.1").with("tls", "off");
    profile = profile.with("user", "clerk").with("database", "bookings");
    profile.settings.insert("port".into(), Setting::Number(i64::from(proxy.port)));
    profile.settings.insert("connect_seconds".into(), Setting::Number(2));
    let connected = open(by_name("postgres").unwrap(), &profile, Some(&Secret::new(PASSWORD.into())));
    let error = connected.err().expect("it says nothing");
    assert!(error.to_string().contains("did not answer the first queries within 2 seconds"), "{error}");
}
