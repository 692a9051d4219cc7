//! Redis, against a real server of its own, through the seam only.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::sync::LazyLock;
use std::time::{Duration, Instant};

use jaunty_core::connection::open;
use jaunty_engines::by_name;
use jaunty_seam::engine::{Effect, Request, Session, Stop, Switch, SwitchKind, Touches, Transaction};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Guard, Profile, Secret, Setting};
use jaunty_testservers::{PASSWORD, Redis};
use support::{Collect, comes_true, refused, run, stopped, told};

/// One server for all tests that do not harm it.
static SERVER: LazyLock<Redis> = LazyLock::new(|| {
    let server = Redis::start();
    server.command(&["mset", "port:1", "Saltmarsh", "port:2", "Gullhaven", "tide", "high"]);
    server
});

fn at(port: u16) -> Profile {
    let mut profile = Profile::new("cache", "redis").with("host", "127.0.0.1");
    profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
    profile.settings.insert("connect_seconds".into(), Setting::Number(60));
    profile
}

fn secret() -> Secret {
    Secret::new(PASSWORD.into())
}

fn try_to_connect(profile: &Profile, secret: Option<&Secret>) -> Result<Box<dyn Session>, EngineError> {
    open(by_name("redis").unwrap(), profile, secret)
}

fn connect() -> Box<dyn Session> {
    try_to_connect(&at(SERVER.port).with("database", "3"), Some(&secret())).unwrap()
}

fn shown(session: &mut dyn Session, command: &str) -> Vec<String> {
    let found = run(session, command).unwrap_or_else(|error| panic!("{command}: {error}"));
    found.rows().iter().map(|row| row.join(" | ")).collect()
}

/// The names of the columns.
fn names(found: &Collect) -> Vec<String> {
    let seen = found.seen.lock().unwrap();
    seen.batches[0].schema().fields().iter().map(|field| field.name().clone()).collect()
}

#[test]
fn replies_with_columns_of_their_own() {
    let mut session = connect();
    let session = session.as_mut();
    for id in ["1-0", "2-0"] {
        shown(session, &format!("xadd r:stream {id} port Saltmarsh berth 3"));
    }
    assert_eq!(shown(session, "xrange r:stream - +"), ["1-0 | Saltmarsh | 3", "2-0 | Saltmarsh | 3"]);
    assert_eq!(shown(session, "xread count 1 streams r:stream 1-0"), ["r:stream | 2-0 | Saltmarsh | 3"]);
    assert!(shown(session, "info memory").iter().any(|row| row.starts_with("Memory | used_memory | ")));
    let found = run(session, "client list").unwrap();
    assert_eq!(names(&found)[..2], ["id", "addr"]);
    assert!(!found.rows().is_empty() && found.rows().iter().all(|row| row[1].starts_with("127.0.0.1:")));
    shown(session, "config set slowlog-log-slower-than 0");
    shown(session, "get r:none");
    let found = run(session, "slowlog get 9").unwrap();
    assert_eq!(names(&found)[..4], ["id", "at", "microseconds", "command"]);
    assert!(found.rows().iter().any(|row| row[3] == "get r:none"), "{:?}", found.rows());
    shown(session, "config set slowlog-log-slower-than 10000");
    // What waits for the end of a transaction has none of these shapes.
    assert_eq!(shown(session, "multi"), ["OK | status"]);
    assert_eq!(shown(session, "info memory"), ["QUEUED | status"]);
    shown(session, "discard");
}

#[test]
fn replies_of_every_shape_become_rows() {
    let mut session = connect();
    let session = session.as_mut();
    for (command, rows) in [
        ("set r:text \"two\\nlines \\xff\"", &["OK | status"][..]),
        ("get r:text", &["74776f0a6c696e657320ff | bytes"]),
        ("get r:none", &["∅ | null"]),
        ("incrby r:count 41", &["41 | integer"]),
        ("rpush r:list a 'b c' 3", &["3 | integer"]),
        ("lrange r:list 0 -1", &["a | text", "b c | text", "3 | text"]),
        ("lrange r:none 0 -1", &[]),
        ("hset r:hash name Saltmarsh berths 4", &["2 | integer"]),
        ("hgetall r:hash", &["name | Saltmarsh | text", "berths | 4 | text"]),
        ("sadd r:set x", &["1 | integer"]),
        ("smembers r:set", &["x | text"]),
        ("zadd r:sorted 1.5 low", &["1 | integer"]),
        ("zscore r:sorted low", &["1.5 | double"]),
        ("zrange r:sorted 0 -1 withscores", &["low | 1.5 | double"]),
        ("eval \"return {1, 'a', {2, false}}\" 0", &["1 | integer", "a | text", "[2,null] | list"]),
        ("eval \"redis.setresp(3) return {double=3.25}\" 0", &["3.25 | double"]),
        ("eval \"redis.setresp(3) return true\" 0", &["true | boolean"]),
    ] {
        assert_eq!(shown(session, command), rows, "{command}");
    }
    // Of a scan the rows are what was found, and where it goes on is told.
    for (command, rows) in [
        ("scan 0 match r:hash count 10000", &["r:hash | text"][..]),
        ("SSCAN r:set 0", &["x | text"]),
        ("hscan r:hash 0", &["name | Saltmarsh | text", "berths | 4 | text"]),
        ("zscan r:sorted 0", &["low | 1.5 | text"]),
        ("hscan r:none 0", &[]),
    ] {
        let found = run(session, command).unwrap();
        let shown: Vec<_> = found.rows().iter().map(|row| row.join(" | ")).collect();
        assert_eq!(shown, rows, "{command}");
        assert_eq!(found.seen.lock().unwrap().messages, ["cursor: 0: the scan is complete"], "{command}");
    }
    assert_eq!(shown(session, "ping"), ["PONG | status"]);
    let names = run(session, "hgetall r:hash").unwrap().seen.lock().unwrap().names.clone();
    assert_eq!(names, ["key", "value", "type"]);
}

#[test]
fn errors_are_the_servers_own() {
    let mut session = connect();
    shown(session.as_mut(), "set e:text a");
    let error = refused(session.as_mut(), "lpush e:text a");
    assert_eq!((error.code.as_deref(), error.kind), (Some("WRONGTYPE"), ErrorKind::Refused), "{error}");
    let statement = "set e:text \"open";
    insta::assert_snapshot!(refused(session.as_mut(), statement).explain(statement, 1), @r#"
    a quote never closes
      1 | set e:text "open
        |            ^
    Close it, or write a quote within quotes as \".
    "#);
    assert!(refused(session.as_mut(), "gett a").to_string().contains("unknown command"));
}

#[test]
fn a_transaction_is_seen_and_its_errors_stand_in_its_reply() {
    let mut session = connect();
    let s = session.as_mut();
    shown(s, "set t:text a");
    assert_eq!(shown(s, "multi"), ["OK | status"]);
    assert_eq!(s.location().transaction, Some(Transaction::Open));
    assert_eq!(shown(s, "set t:other b"), ["QUEUED | status"]);
    assert_eq!(shown(s, "exec"), ["OK | status"]);
    assert_eq!(s.location().transaction, None);
    // One that fails within it leaves what the others did.
    for command in ["multi", "incr t:text", "set t:third c"] {
        run(s, command).unwrap();
    }
    let found = run(s, "exec").unwrap();
    let rows: Vec<_> = found.rows().iter().map(|row| row[1].clone()).collect();
    assert_eq!(rows, ["error", "status"]);
    assert_eq!(found.seen.lock().unwrap().messages, ["warning: 1 of 2 commands failed; what the others did stays"]);
    assert_eq!(shown(s, "get t:third"), ["c | text"]);
}

#[test]
fn a_stop_ends_what_waits_and_what_computes() {
    for (command, stays) in
        [("blpop s:nothing 0", true), ("subscribe tides", false), ("eval \"while true do end\" 0", false)]
    {
        let server = Redis::start();
        let mut session = try_to_connect(&at(server.port).with("database", "3"), Some(&secret())).unwrap();
        // A server that computes says so after this time, in milliseconds.
        server.command(&["config", "set", "lua-time-limit", "50"]);
        let name = command.split(' ').next().unwrap_or_default();
        let took = stopped(session.as_mut(), command, || {
            let clients = server.command(&["client", "list"]);
            clients.contains("BUSY") || clients.contains(&format!("cmd={name} "))
        });
        assert!(took < Duration::from_secs(15), "{command}");
        assert_eq!(session.is_alive(), stays, "{command}");
        if !stays {
            // A script is ended too, as soon as the server listens to anybody.
            let since = Instant::now();
            session = loop {
                match try_to_connect(&at(server.port).with("database", "3"), Some(&secret())) {
                    Ok(session) => break session,
                    Err(error) => assert!(since.elapsed() < Duration::from_secs(60), "{command} goes on: {error}"),
                }
            };
        }
        assert_eq!(shown(session.as_mut(), "ping"), ["PONG | status"], "{command}");
    }
}

#[test]
fn messages_are_rows_as_they_come() {
    let mut session = connect();
    let collect = Collect::up_to(2);
    let seen = collect.clone();
    let listener = std::thread::spawn(move || session.run(&Request::new("subscribe tides"), Box::new(seen)));
    assert!(comes_true(|| collect.count() == 1));
    SERVER.command(&["publish", "tides", "high at noon"]);
    assert_eq!(listener.join().unwrap().unwrap_err().kind, ErrorKind::Stopped);
    assert_eq!(collect.rows()[1][0], "[\"message\",\"tides\",\"high at noon\"]");
}

#[test]
fn every_way_in() {
    let server = &*SERVER;
    let ca = server.certificates.ca.to_string_lossy().into_owned();
    server.command(&["acl", "setuser", "purser", "on", ">tide", "~*", "+@all"]);
    for (profile, secret, way, user) in [
        (at(server.port), PASSWORD, "not encrypted", "default"),
        (at(server.port).with("user", "purser"), "tide", "not encrypted", "purser"),
        (at(server.tls_port).with("tls", "require"), PASSWORD, "TLSv1.3, not verified", "default"),
        (at(server.tls_port).with("tls_ca", &*ca), PASSWORD, "TLSv1.3, verified", "default"),
        (at(0).with("host", server.socket().to_string_lossy()), PASSWORD, "socket", "default"),
    ] {
        let mut session = open(by_name("redis").unwrap(), &profile, Some(&Secret::new(secret.into())))
            .unwrap_or_else(|error| panic!("{profile:?}: {}", told(&error, &[])));
        let location = session.location();
        assert_eq!(
            (location.transport.as_str(), location.user.as_str(), location.database.as_str()),
            (way, user, "db0")
        );
        assert!(location.server.starts_with("redis 7"), "{}", location.server);
        assert_eq!(shown(session.as_mut(), "ping"), ["PONG | status"]);
    }
}

#[test]
fn a_certificate_of_our_own_is_shown() {
    let server = Redis::start();
    server.command(&["config", "set", "tls-auth-clients", "yes"]);
    let file = |path: &std::path::Path| path.to_string_lossy().into_owned();
    let bare = at(server.tls_port).with("tls", "require");
    assert_eq!(try_to_connect(&bare, Some(&secret())).err().unwrap().step, Some(Step::Tls));
    let shown = bare.with("tls_cert", file(&server.certificates.client));
    let shown = shown.with("tls_key", file(&server.certificates.client_key));
    let mut session = try_to_connect(&shown, Some(&secret())).unwrap_or_else(|error| panic!("{}", told(&error, &[])));
    let pong = run(session.as_mut(), "ping").unwrap();
    assert_eq!(pong.rows(), [["PONG", "status"]]);
}

#[test]
fn each_step_of_connecting_has_its_own_error() {
    let server = &*SERVER;
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let silent = (silent.local_addr().unwrap().port(), silent);
    let nobody = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let brief = |port: u16| {
        let mut profile = at(port);
        profile.settings.insert("connect_seconds".into(), Setting::Number(1));
        profile
    };
    let (right, wrong) = (secret(), Secret::new("low-water".into()));
    let mut all = String::new();
    for (name, profile, secret) in [
        ("name", at(1).with("host", "quay.invalid"), Some(&right)),
        ("nobody listens", at(nobody), Some(&right)),
        ("says nothing", brief(silent.0), Some(&right)),
        ("no TLS there", brief(server.port).with("tls", "require"), Some(&right)),
        ("only TLS there", at(server.tls_port), Some(&right)),
        ("no password", at(server.port), None),
        ("wrong password", at(server.port), Some(&wrong)),
        ("no such database", at(server.port).with("database", "99"), Some(&right)),
        ("no number", at(server.port).with("database", "bookings"), Some(&right)),
    ] {
        let Err(error) = try_to_connect(&profile, secret) else { panic!("{name}: connected") };
        assert_eq!(error.kind, ErrorKind::Connect, "{name}");
        let ports = [server.port, server.tls_port, silent.0, nobody].map(|port| port.to_string());
        let text = told(&error, &[(&ports[0], "PORT"), (&ports[1], "TLS"), (&ports[2], "SILENT"), (&ports[3], "FREE")]);
        assert!(!text.contains("low-water") && !text.contains(PASSWORD), "{name}");
        all.push_str(&format!("{name}: {text}\n\n"));
    }
    insta::assert_snapshot!(all);
}

#[test]
fn a_read_only_profile_is_refused_writes_by_the_servers_flags() {
    let mut session = try_to_connect(&at(SERVER.port).guarded(Guard::ReadOnly), Some(&secret())).unwrap();
    for command in
        ["set a b", "del port:1", "flushall", "eval 'return 1' 0", "config set maxmemory 0", "xgroup create a b 0"]
    {
        let error = refused(session.as_mut(), command);
        assert_eq!(error.code.as_deref(), Some("READONLY"), "{command}: {error}");
    }
    assert_eq!(shown(session.as_mut(), "get port:1"), ["Saltmarsh | text"]);
}

#[test]
fn effects_are_told_by_the_servers_flags() {
    let mut session = connect();
    for (command, effect) in [
        ("get port:1", Effect::Reads),
        ("ping", Effect::Reads),
        ("set a b", Effect::Writes(Touches::default())),
        ("flushdb", Effect::Writes(Touches { everything: true, ..Touches::default() })),
        ("eval 'return 1' 0", Effect::Unknown),
    ] {
        assert_eq!(session.effect(&Request::new(command)), Ok(effect), "{command}");
    }
}

#[test]
fn databases_and_keys() {
    let mut session = try_to_connect(&at(SERVER.port), Some(&secret())).unwrap();
    assert_eq!(by_name("redis").unwrap().preview_statement("", "port:*", ""), "scan 0 match port:* count 1000");
    assert_eq!(session.choices(SwitchKind::DATABASE, &Stop::default()).unwrap().len(), 16);
    assert_eq!(session.switch(&Switch { kind: SwitchKind::DATABASE, to: "db5".into() }, &Stop::default()), Ok(true));
    assert_eq!(session.location().database, "db5");
    assert!(session.switch(&Switch { kind: SwitchKind::DATABASE, to: "99".into() }, &Stop::default()).is_err());
}

#[test]
fn a_server_that_is_killed_and_started_again() {
    let mut server = Redis::start();
    let mut session = try_to_connect(&at(server.port), Some(&secret())).unwrap();
    server.kill();
    assert!(!session.is_alive());
    let error = refused(session.as_mut(), "get a");
    assert_eq!(error.kind, ErrorKind::Lost, "{error}");
    server.start_again();
    let mut session = try_to_connect(&at(server.port), Some(&secret())).unwrap();
    assert_eq!(shown(session.as_mut(), "ping"), ["PONG | status"]);
}

/// What a server sends as one reply has a limit, whether it is told beforehand or only comes.
#[test]
fn a_server_cannot_fill_the_memory() {
    let mut profile = at(SERVER.port);
    profile.settings.insert("largest_mib".into(), Setting::Number(1));
    for command in [
        "eval \"return string.rep('x', 3000000)\" 0",
        "eval \"local t = {} for i = 1, 7000 do t[i] = string.rep('x', 500) end return t\" 0",
        "eval \"local t = {} for i = 1, 7000 do t[i] = i end return {t, t, t, t, t, t, t}\" 0",
    ] {
        let mut session = try_to_connect(&profile, Some(&secret())).unwrap();
        assert_eq!(shown(session.as_mut(), "echo quay"), ["quay | text"]);
        let error = refused(session.as_mut(), command);
        assert_eq!(error.kind, ErrorKind::Lost, "{error}");
        assert!(error.message.ends_with("MiB, and at most 1 MiB are taken"), "{error}");
        assert!(error.remedy.unwrap().contains("largest_mib"));
    }
}

#[test]
fn the_catalog_shows_what_keys_hold_and_is_read_again_after_writes() {
    let mut session = connect();
    let session = session.as_mut();
    for command in [
        "set preview:1 hello",
        "rpush preview:2 a b",
        "hset preview:3 name Saltmarsh berths 4",
        "zadd preview:4 1 early 2.5 late",
        "sadd preview:5 only",
        "xadd preview:6 1-1 wind 7",
        "set preview:7 short ex 1000",
    ] {
        run(session, command).unwrap();
        assert!(session.changes_catalog(command), "{command}");
    }
    for command in ["get preview:1", "HGETALL preview:3", "scan 0"] {
        assert!(!session.changes_catalog(command), "{command}");
    }
    let object = jaunty_seam::catalog::Object { name: "preview:*".into(), ..Default::default() };
    let collect = Collect::up_to(usize::MAX);
    session.first_rows(&object, &Request::new(""), Box::new(collect.clone())).unwrap();
    let line = |row: &Vec<String>| {
        let lives = row[2].parse::<i64>().is_ok_and(|seconds| (1..=1000).contains(&seconds));
        [row[0].as_str(), &row[1], if lives { "some" } else { &row[2] }, &row[3]].join(" | ")
    };
    let rows: Vec<String> = collect.rows().iter().map(line).collect();
    insta::assert_snapshot!(rows.join("\n"), @r#"
    preview:1 | string | ∅ | hello
    preview:2 | list | ∅ | ["a","b"]
    preview:3 | hash | ∅ | {"berths":"4","name":"Saltmarsh"}
    preview:4 | zset | ∅ | [["early",1],["late",2.5]]
    preview:5 | set | ∅ | ["only"]
    preview:6 | stream | ∅ | [["1-1",["wind","7"]]]
    preview:7 | string | some | short
    "#);
    let of = |session: &mut dyn Session, name: &str| {
        let collect = Collect::up_to(usize::MAX);
        let object = jaunty_seam::catalog::Object { name: name.into(), ..Default::default() };
        session.first_rows(&object, &Request::new(""), Box::new(collect.clone())).unwrap();
        collect.rows().len()
    };
    assert_eq!(of(session, "nothing:*"), 0);
}

/// What a server lists is proposed and explained, but for what servers say to each other.
#[test]
fn every_command_of_the_server_has_help() {
    const BETWEEN_SERVERS: [&str; 13] = [
        "ASKING",
        "CLIENT CACHING",
        "CLIENT GETREDIR",
        "CLIENT REPLY",
        "CLUSTER BUMPEPOCH",
        "CLUSTER COUNT-FAILURE-REPORTS",
        "CLUSTER SAVECONFIG",
        "CLUSTER SET-CONFIG-EPOCH",
        "PFDEBUG",
        "PFSELFTEST",
        "PSYNC",
        "REPLCONF",
        "SYNC",
    ];
    // Names from before, which their successors are told for.
    const OLD: [&str; 9] = [
        "CLUSTER SLAVES",
        "COMMAND GETKEYSANDFLAGS",
        "DEBUG",
        "GEORADIUS",
        "GEORADIUSBYMEMBER",
        "GEORADIUSBYMEMBER_RO",
        "GEORADIUS_RO",
        "SLAVEOF",
        "SUBSTR",
    ];
    let mut session = connect();
    let rows = run(session.as_mut(), "command list").unwrap().rows();
    let names: Vec<String> = rows.iter().map(|row| row[0].to_uppercase().replace('|', " ")).collect();
    assert!(names.len() > 300, "{names:?}");
    let help = jaunty_language::help::of(&jaunty_language::dialect::REDIS);
    let contains = |name: &str| names.iter().any(|other| other.starts_with(&format!("{name} ")));
    let without: Vec<&String> = names
        .iter()
        .filter(|name| !name.ends_with(" HELP") && *name != "RESTORE-ASKING" && !contains(name))
        .filter(|name| !BETWEEN_SERVERS.contains(&name.as_str()) && !OLD.contains(&name.as_str()))
        .filter(|name| help.keyword(name).is_none())
        .collect();
    assert!(without.is_empty(), "{without:?}");
}
