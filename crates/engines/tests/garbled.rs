//! One byte of what a server says is another, from its first word on: each ends in a sentence or goes unnoticed, and none
//! in a fault of ours, a wait without an end, or a password in an error.

#![allow(clippy::unwrap_used)] // A test fails by panicking.

mod support;

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::channel;
use std::time::Duration;

use jaunty_core::connection::open;
use jaunty_engines::by_name;
use jaunty_seam::engine::{Request, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_standins::{documents, tds};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres, Redis};
use support::Collect;

/// So many bytes of what a server says are others, one a connection.
const BYTES: usize = 300;

/// So many connections at once: most of their time is spent waiting for what was said to be longer than it is.
const WORKERS: usize = 16;

/// How long a server and a statement are waited for that say nothing, or nothing that ends.
#[derive(Clone, Copy)]
struct Patience {
    connect_seconds: i64,
    statement: Duration,
}

/// Where a byte is another: most of what was said to be longer than it is never comes.
const SHORT: Patience = Patience { connect_seconds: 1, statement: Duration::from_millis(300) };

/// Where all is as it was said: however slow the machine is.
const LONG: Patience = Patience { connect_seconds: 120, statement: Duration::from_secs(120) };

/// A way to a server on which this byte is another. Only the first connection suffers it; the one that stops something
/// does not.
fn proxy(server: u16, position: usize, over: u8) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for (number, client) in listener.incoming().flatten().enumerate().take(3) {
            let Ok(there) = TcpStream::connect(("127.0.0.1", server)) else { return };
            let (from, to) = (client.try_clone().unwrap(), there.try_clone().unwrap());
            std::thread::spawn(move || copy(from, to, |_, _| {}));
            std::thread::spawn(move || {
                copy(there, client, |at, bytes| {
                    if let Some(byte) = position.checked_sub(at).and_then(|at| bytes.get_mut(at))
                        && number == 0
                    {
                        *byte ^= over;
                    }
                });
            });
        }
    });
    port
}

fn copy(mut from: TcpStream, mut to: TcpStream, change: impl Fn(usize, &mut [u8])) {
    let (mut bytes, mut at) = ([0; 4096], 0);
    while let Ok(count @ 1..) = from.read(&mut bytes) {
        change(at, &mut bytes[..count]);
        at += count;
        if to.write_all(&bytes[..count]).is_err() {
            break;
        }
    }
    let _ = (from.shutdown(Shutdown::Both), to.shutdown(Shutdown::Both));
}

/// What comes of a connection on which this byte is another.
fn outcome(
    (profile, secret, statement): (&Profile, &str, &str),
    (position, over): (usize, u8),
    patience: Patience,
) -> Result<(), EngineError> {
    let server = u16::try_from(profile.number("port").unwrap()).unwrap();
    let mut profile = profile.clone();
    profile.settings.insert("port".into(), Setting::Number(proxy(server, position, over).into()));
    profile.settings.insert("connect_seconds".into(), Setting::Number(patience.connect_seconds));
    let secret = Some(secret).filter(|secret| !secret.is_empty()).map(|secret| Secret::new(secret.into()));
    let mut session = open(by_name(&profile.engine).unwrap(), &profile, secret.as_ref())?;
    let (stop, (done, over)) = (Stop::default(), channel::<()>());
    std::thread::scope(|scope| {
        let wish = stop.clone();
        scope.spawn(move || {
            if over.recv_timeout(patience.statement).is_err() {
                wish.wish();
            }
        });
        let request = Request::new(statement).until(&stop);
        let ran = session.run(&request, Box::new(Collect::up_to(1000)));
        done.send(()).ok();
        ran
    })
}

fn suffers(profile: &Profile, secret: &str, statement: &str) {
    let asked = (profile, secret, statement);
    outcome(asked, (usize::MAX, 0), LONG).unwrap();
    let (next, failed) = (AtomicUsize::new(0), AtomicUsize::new(0));
    std::thread::scope(|scope| {
        for _ in 0..WORKERS {
            scope.spawn(|| {
                loop {
                    let at = next.fetch_add(1, Ordering::Relaxed);
                    if at >= BYTES {
                        return;
                    }
                    // Lengths become larger and smaller, texts become other letters and none.
                    let over = [0x01, 0x5A, 0x80, 0xFF][at % 4];
                    let Err(error) = outcome(asked, (at, over), SHORT) else { continue };
                    failed.fetch_add(1, Ordering::Relaxed);
                    let text = error.to_string();
                    assert!(
                        !text.trim().is_empty() && (secret.is_empty() || !text.contains(secret)),
                        "{} {at}: {text}",
                        profile.engine
                    );
                    assert_ne!(error.kind, ErrorKind::Local, "{} {at}: {text}", profile.engine);
                }
            });
        }
    });
    // What is never noticed was never changed.
    assert!(failed.into_inner() > BYTES / 20);
}

fn at(engine: &str, port: u16) -> Profile {
    let mut profile = Profile::new("garbled", engine).with("host", "127.0.0.1").with("tls", "off");
    profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
    profile
}

#[test]
fn postgres() {
    let server = Postgres::start();
    let profile = at("postgres", server.port).with("user", "clerk").with("database", "bookings");
    suffers(&profile, PASSWORD, "select generate_series(1, 9) as i, 'tide' as name");
}

#[test]
fn mariadb() {
    let server = Mariadb::start();
    server.sql("set global max_connections = 2000, global max_connect_errors = 1000000");
    let profile = at("mysql", server.port).with("user", "clerk").with("database", "bookings");
    suffers(&profile, PASSWORD, "select seq, 'tide' as name from seq_1_to_9");
}

#[test]
fn redis() {
    let server = Redis::start();
    suffers(&at("redis", server.port), PASSWORD, "command docs get");
}

#[test]
fn sql_server() {
    let options = tds::Options::default();
    let (user, password) = (options.user.clone(), options.password.clone());
    let server = tds::Server::start(options).unwrap();
    let profile = at("sqlserver", server.port()).with("user", user).with("database", "ferry");
    suffers(&profile, &password, "select 1 as i, 'tide' as name");
}

#[test]
fn document_databases() {
    let options = documents::Options { endless: Some("tides".into()), ..documents::Options::default() };
    let server = documents::Server::start(options).unwrap();
    suffers(&at("mongodb", server.port()), "", "tides | limit 9");
}
