//! Redis as several servers that hold the keys together, against real ones.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::sync::{Arc, LazyLock};

use arrow_array::{ArrayRef, RecordBatch, StringArray};
use arrow_schema::{DataType, Field, Schema};
use jaunty_core::connection::open;
use jaunty_engines::by_name;
use jaunty_language::dialect::REDIS;
use jaunty_seam::catalog::{Catalog, Column, Object};
use jaunty_seam::engine::load::{Load, Meeting};
use jaunty_seam::engine::{CatalogPart, Request, Session, Stop, Switch, SwitchKind, Transaction};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Guard, Profile, Secret, Setting};
use jaunty_testservers::{PASSWORD, Redis, RedisCluster, Sentinel};
use support::{Collect, comes_true, refused, run, stopped};

/// One for all tests that do not harm it. Each has keys that begin with a text of its own.
static CLUSTER: LazyLock<RedisCluster> = LazyLock::new(RedisCluster::start);

fn at(port: u16) -> Profile {
    let mut profile = Profile::new("cache", "redis").with("host", "127.0.0.1");
    profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
    profile.settings.insert("connect_seconds".into(), Setting::Number(60));
    profile
}

fn enter(profile: &Profile) -> Box<dyn Session> {
    open(by_name("redis").unwrap(), profile, Some(&Secret::new(PASSWORD.into()))).unwrap()
}

fn connect() -> Box<dyn Session> {
    enter(&at(CLUSTER.ports[0]))
}

/// The values of a reply, without their types.
fn shown(session: &mut dyn Session, command: &str) -> String {
    let found = run(session, command).unwrap_or_else(|error| panic!("{command}: {error}"));
    found.rows().iter().map(|row| row[0].as_str()).collect::<Vec<_>>().join(" ")
}

fn messages(session: &mut dyn Session, command: &str) -> Vec<String> {
    run(session, command).unwrap().seen.lock().unwrap().messages.clone()
}

/// The keys of a pattern that each server has, as the server itself says.
fn held(cluster: &RedisCluster, pattern: &str) -> [Vec<String>; 3] {
    [0, 1, 2].map(|at| {
        let mut keys: Vec<String> = cluster.command(at, &["keys", pattern]).lines().map(str::to_owned).collect();
        keys.retain(|key| !key.is_empty());
        keys.sort();
        keys
    })
}

#[test]
fn each_command_finds_the_server_of_its_key() {
    let mut session = connect();
    let session = session.as_mut();
    let place = session.location();
    assert!(place.server.ends_with(", cluster"), "{}", place.server);
    assert_eq!(place.node, format!("127.0.0.1:{}", CLUSTER.ports[0]));
    for n in 0..60 {
        assert_eq!(shown(session, &format!("set find:{n} {n}")), "OK");
    }
    let there = held(&CLUSTER, "find:*");
    assert!(there.iter().all(|keys| !keys.is_empty()), "{there:?}");
    assert_eq!(there.iter().map(Vec::len).sum::<usize>(), 60);
    for n in 0..60 {
        assert_eq!(shown(session, &format!("get find:{n}")), n.to_string());
    }
    // A key that is not the first argument; several of one slot, and of several.
    assert_eq!(shown(session, "eval \"return redis.call('get', KEYS[1])\" 1 find:7"), "7");
    assert_eq!(shown(session, "mset {find:a}.x 1 {find:a}.y 2"), "OK");
    assert_eq!(shown(session, "mget {find:a}.x {find:a}.y"), "1 2");
    let error = refused(session, "mget find:1 find:2 find:3");
    assert_eq!(error.code.as_deref(), Some("CROSSSLOT"));
    assert!(error.remedy.unwrap().contains("{port:7}"));
    // The guard is asked for wherever a key leads.
    let mut guarded = enter(&Profile { guard: Guard::ReadOnly, ..at(CLUSTER.ports[2]) });
    for n in 0..9 {
        assert_eq!(shown(guarded.as_mut(), &format!("get find:{n}")), n.to_string());
        assert_eq!(refused(guarded.as_mut(), &format!("del find:{n}")).code.as_deref(), Some("READONLY"));
    }
    assert_eq!(held(&CLUSTER, "find:*"), there);
}

#[test]
fn a_transaction_goes_where_its_keys_are() {
    let mut session = connect();
    let session = session.as_mut();
    for tag in ["a", "b", "c", "d", "e"] {
        assert_eq!(shown(session, "multi"), "OK");
        assert_eq!(session.location().transaction, Some(Transaction::Open));
        assert_eq!(shown(session, &format!("set {{at:{tag}}}.x 1")), "QUEUED");
        assert_eq!(shown(session, &format!("incr {{at:{tag}}}.x")), "QUEUED");
        assert_eq!(shown(session, "exec"), "OK 2");
        assert_eq!(session.location().transaction, None);
    }
    let there = held(&CLUSTER, "{at:*");
    assert!(there.iter().filter(|keys| !keys.is_empty()).count() > 1, "{there:?}");
    // Two servers: neither has anything of it.
    let of = |at: usize| there[at].first().cloned().unwrap_or_default();
    let places: Vec<usize> = (0..3).filter(|at| !there[*at].is_empty()).collect();
    let (one, other) = (of(places[0]), of(places[1]));
    shown(session, "multi");
    shown(session, &format!("set {one} 7"));
    let error = refused(session, &format!("set {other} 7"));
    assert!(error.message.starts_with(&format!("{other} is on 127.0.0.1:")), "{error}");
    assert_eq!(refused(session, "exec").code.as_deref(), Some("EXECABORT"));
    assert_eq!(
        (shown(session, &format!("get {one}")), shown(session, &format!("get {other}"))),
        ("2".into(), "2".into())
    );
    // What is watched elsewhere counts.
    for (key, number) in [(&one, 1), (&other, 2)] {
        shown(session, &format!("watch {key}"));
        let at = places[number - 1];
        CLUSTER.command(u16::try_from(at).unwrap(), &["set", key, "9"]);
        shown(session, "multi");
        shown(session, &format!("set {key} 8"));
        assert_eq!(run(session, "exec").unwrap().rows()[0][0], "∅", "{key}");
        assert_eq!(shown(session, &format!("get {key}")), "9");
        shown(session, &format!("watch {key}"));
        shown(session, "unwatch");
    }
    shown(session, &format!("watch {one}"));
    assert_eq!(refused(session, &format!("watch {other}")).code.as_deref(), Some("CROSSSLOT"));
    shown(session, "unwatch");
    assert_eq!(shown(session, &format!("get {other}")), "9");
}

#[test]
fn what_one_server_answers_for_itself_says_so() {
    let mut session = connect();
    let session = session.as_mut();
    for n in 0..30 {
        run(session, &format!("set alone:{n} {n}")).unwrap();
    }
    let here = |number: usize| format!("127.0.0.1:{}", CLUSTER.ports[number]);
    let said = |number: usize| {
        let here = here(number);
        format!("this is of {here} alone, one of 3 servers of the cluster; switch to another for the rest")
    };
    assert!(messages(session, "dbsize").concat().contains(&said(0)));
    assert!(messages(session, "config get maxmemory").is_empty());
    let servers = session.choices(SwitchKind::SERVER, &Stop::default()).unwrap();
    assert_eq!(servers, [here(0), here(1), here(2)]);
    assert_eq!(session.switches(), [SwitchKind::SERVER]);
    for (number, keys) in held(&CLUSTER, "alone:*").iter().enumerate() {
        let to = Switch { kind: SwitchKind::SERVER, to: here(number) };
        assert!(session.switch(&to, &Stop::default()).unwrap());
        assert_eq!(session.location().node, here(number));
        let mut found: Vec<String> =
            run(session, "keys alone:*").unwrap().rows().iter().map(|r| r[0].clone()).collect();
        found.sort();
        assert_eq!(&found, keys);
        assert!(messages(session, "scan 0").concat().contains(&said(number)));
    }
    let to = Switch { kind: SwitchKind::SERVER, to: "127.0.0.1:1".into() };
    let error = session.switch(&to, &Stop::default()).unwrap_err();
    assert_eq!(error.message, "127.0.0.1:1 holds nothing of this cluster");
}

#[test]
fn a_stop_ends_what_waits_on_another_server() {
    let mut session = connect();
    let session = session.as_mut();
    for list in ["wait:1", "wait:2", "wait:3", "wait:4"] {
        let waits = |line: &str| line.contains(" flags=b ") && line.contains(" cmd=blpop ");
        let is_waiting = || (0..3).any(|at| CLUSTER.command(at, &["client", "list"]).lines().any(waits));
        stopped(session, &format!("blpop {list} 0"), is_waiting);
        assert!(session.is_alive(), "{list}");
        assert!(comes_true(|| !is_waiting()));
    }
    // Messages of a channel that one server has.
    for channel in ["tides", "winds", "fog"] {
        let mut session = connect();
        let collect = Collect::up_to(2);
        let seen = collect.clone();
        let text = format!("ssubscribe {channel}");
        let listener = std::thread::spawn(move || session.run(&Request::new(&text), Box::new(seen)));
        assert!(comes_true(|| collect.count() == 1));
        // Only the server of the channel takes it.
        let taken = |at: u16| CLUSTER.command(at, &["spublish", channel, "high at noon"]).trim() == "1";
        assert!((0..3).any(taken), "{channel}");
        assert_eq!(listener.join().unwrap().unwrap_err().kind, ErrorKind::Stopped);
        assert!(collect.rows()[1][0].contains("high at noon"));
    }
}

fn load(session: &mut dyn Session, meeting: Meeting, batch: &RecordBatch) -> Result<u64, EngineError> {
    let column = |field: &Arc<Field>| Column { name: field.name().clone(), ..Column::default() };
    let columns: Vec<Column> = batch.schema().fields().iter().map(column).collect();
    let (key, stop) = (["code".to_owned()], Stop::default());
    let load = Load { table: "hset port:*", columns: &columns, key: &key, meeting, dialect: &REDIS, stop };
    let mut once = Some(batch.clone());
    session.load(&load, &mut || Ok(once.take()))
}

/// Keys of all servers: their patterns, their values, as commands, and from rows.
#[test]
fn keys_are_walked_copied_and_loaded_on_all_servers() {
    let cluster = RedisCluster::start();
    let mut session = enter(&at(cluster.ports[1]));
    let session = session.as_mut();
    let texts =
        |text: &str| -> ArrayRef { Arc::new(StringArray::from_iter_values((0..200).map(|n| format!("{text}{n}")))) };
    let fields = ["code", "name"].map(|name| Field::new(name, DataType::Utf8, true));
    let rows = RecordBatch::try_new(Arc::new(Schema::new(fields.to_vec())), vec![texts("c"), texts("Quay ")]).unwrap();
    assert_eq!(load(session, Meeting::Refuse, &rows).unwrap(), 200);
    assert_eq!(load(session, Meeting::Skip, &rows).unwrap(), 0);
    assert_eq!(load(session, Meeting::Replace, &rows).unwrap(), 200);
    assert!(load(session, Meeting::Refuse, &rows).unwrap_err().message.ends_with(" is there already"));
    let there = held(&cluster, "port:*");
    assert!(there.iter().all(|keys| keys.len() > 20), "{:?}", there.each_ref().map(Vec::len));
    assert_eq!(shown(session, "hget port:c77 name"), "Quay 77");
    for command in
        ["rpush queue a b", "zadd depths 2.5 a", "xadd seen 1-1 wind 7", "sadd names a", "set tide high ex 900"]
    {
        run(session, command).unwrap();
    }
    // More than is read whole.
    run(session, "eval \"for i = 1, 2000 do redis.call('rpush', KEYS[1], i) end\" 1 long").unwrap();

    let mut catalog = Catalog::default();
    let mut number = 0;
    while session
        .catalog(&CatalogPart { number, schema: None, database: None, stop: Stop::default() }, &mut catalog)
        .unwrap()
    {
        number += 1;
    }
    let ports = catalog.objects().iter().find(|object| object.name == "port:*").unwrap();
    assert_eq!((ports.rows, ports.signature.as_str()), (Some(200), "hash"));
    let names: Vec<&str> = catalog.objects().iter().map(|object| object.name.as_str()).collect();
    assert!(["queue", "depths", "seen", "names", "tide", "long"].iter().all(|name| names.contains(name)), "{names:?}");
    let collect = Collect::up_to(usize::MAX);
    let object = Object { name: "port:*".into(), ..Object::default() };
    session.first_rows(&object, &Request::new(""), Box::new(collect.clone())).unwrap();
    assert_eq!(collect.rows().len(), 20);
    assert!(collect.rows().iter().all(|row| row[3].contains("Quay ")));

    // Into a server that is alone, and from there into another cluster: it is the same.
    let copy = |session: &mut dyn Session, pattern: &str| {
        let mut statements = Vec::new();
        let made = session.remake(pattern, &Stop::default(), &mut |text, _| {
            statements.push(text.to_owned());
            Ok(())
        });
        (made.unwrap().elements, statements)
    };
    let (elements, statements) = copy(session, "");
    assert_eq!(elements, 206);
    let (alone, second) = (Redis::start(), RedisCluster::start());
    let mut single = enter(&at(alone.port));
    statements
        .iter()
        .for_each(|text| drop(run(single.as_mut(), text).unwrap_or_else(|error| panic!("{text}: {error}"))));
    assert_eq!(alone.command(&["dbsize"]).trim(), "206");
    let mut target = enter(&at(second.ports[2]));
    let (_, statements) = copy(single.as_mut(), "");
    statements
        .iter()
        .for_each(|text| drop(run(target.as_mut(), text).unwrap_or_else(|error| panic!("{text}: {error}"))));
    for at in 0..3 {
        assert_eq!(cluster.command(at, &["debug", "digest"]), second.command(at, &["debug", "digest"]), "{at}");
    }
    assert_eq!(copy(target.as_mut(), "port:c7*").0, 11);
    assert_eq!(copy(target.as_mut(), "tide").0, 1);
}

#[test]
fn slots_that_move_are_followed_and_servers_that_are_gone_are_named() {
    let mut cluster = RedisCluster::start();
    let mut session = enter(&at(cluster.ports[0]));
    let session = session.as_mut();
    let key = "{moving}.1";
    for n in 1..=3 {
        run(session, &format!("set {{moving}}.{n} {n}")).unwrap();
    }
    let slot = cluster.command(0, &["cluster", "keyslot", key]).trim().to_owned();
    let from = (0..3).find(|at| !held(&cluster, "{moving}*")[usize::from(*at)].is_empty()).unwrap();
    let to = (from + 1) % 3;
    let (from_id, to_id) = (cluster.id(from), cluster.id(to));
    cluster.command(to, &["cluster", "setslot", &slot, "importing", &from_id]);
    cluster.command(from, &["cluster", "setslot", &slot, "migrating", &to_id]);
    let port = cluster.ports[usize::from(to)].to_string();
    cluster.command(from, &["migrate", "127.0.0.1", &port, key, "0", "5000", "auth", PASSWORD]);
    // One of them is there already, the others are not.
    for n in 1..=3 {
        assert_eq!(shown(session, &format!("get {{moving}}.{n}")), n.to_string());
    }
    assert_eq!(shown(session, "set {moving}.4 4"), "OK");
    let error = refused(session, "mget {moving}.1 {moving}.2");
    assert_eq!(error.code.as_deref(), Some("TRYAGAIN"));
    for n in 2..=3 {
        cluster
            .command(from, &["migrate", "127.0.0.1", &port, &format!("{{moving}}.{n}"), "0", "5000", "auth", PASSWORD]);
    }
    for at in 0..3 {
        cluster.command(at, &["cluster", "setslot", &slot, "node", &to_id]);
    }
    for n in 1..=4 {
        assert_eq!(shown(session, &format!("get {{moving}}.{n}")), n.to_string());
    }
    assert_eq!(shown(session, "mget {moving}.1 {moving}.4"), "1 4");

    let mut other = enter(&at(cluster.ports[usize::from(from)]));
    cluster.kill(to);
    // One that was not connected to is named; one that was is a connection that is lost, as any.
    let error = refused(other.as_mut(), "get {moving}.1");
    assert_eq!(error.kind, ErrorKind::Refused);
    assert!(
        error.message.starts_with(&format!("the cluster has it on 127.0.0.1:{port}: could not connect")),
        "{error}"
    );
    assert_eq!(refused(session, "get {moving}.1").kind, ErrorKind::Lost);
}

#[test]
fn a_server_by_another_name_is_one_of_the_cluster() {
    let cluster = RedisCluster::start();
    let mut session = enter(&at(cluster.ports[1]).with("host", "localhost"));
    let session = session.as_mut();
    assert_eq!(session.location().node, format!("127.0.0.1:{}", cluster.ports[1]));
    for n in 0..20 {
        run(session, &format!("set named:{n} {n}")).unwrap();
    }
    let ours =
        |at: u16| cluster.command(at, &["client", "list"]).lines().filter(|line| line.contains(" resp=3")).count();
    assert_eq!([ours(0), ours(1), ours(2)], [1; 3], "one connection to each");
}

#[test]
fn the_first_server_that_can_be_reached_is_taken_and_sentinels_are_asked() {
    let server = Redis::start();
    server.command(&["set", "tide", "high"]);
    // Nobody listens at the first.
    let mut session = enter(&at(1).with("others", format!("127.0.0.1:{}", server.port)));
    assert_eq!(shown(session.as_mut(), "get tide"), "high");
    for is_closed in [false, true] {
        let sentinel = Sentinel::start(&server, is_closed);
        let profile = at(1).with("others", format!("127.0.0.1:{}", sentinel.port)).with("sentinel", "harbour");
        assert_eq!(shown(enter(&profile).as_mut(), "get tide"), "high", "{is_closed}");
        let try_to = |profile: &Profile| {
            let error = open(by_name("redis").unwrap(), profile, Some(&Secret::new(PASSWORD.into()))).err().unwrap();
            assert_eq!(error.kind, ErrorKind::Connect);
            (error.message, error.remedy.unwrap_or_default())
        };
        let (what, remedy) = try_to(&at(sentinel.port).with("sentinel", "habour"));
        assert_eq!(what, format!("the sentinel at 127.0.0.1:{} watches no primary named \"habour\"", sentinel.port));
        assert_eq!(remedy, "It watches harbour.");
    }
    let profile = at(server.port).with("sentinel", "harbour");
    let error = open(by_name("redis").unwrap(), &profile, Some(&Secret::new(PASSWORD.into()))).err().unwrap();
    assert_eq!(error.message, format!("the server at 127.0.0.1:{} is not a sentinel", server.port));
}
