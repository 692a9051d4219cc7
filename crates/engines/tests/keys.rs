//! Rows that become keys, and keys that become commands again, against a real Redis of their own.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, LazyLock};

use arrow_array::{ArrayRef, BinaryArray, RecordBatch, StringArray};
use arrow_schema::{DataType, Field, Schema};
use jaunty_core::connection::open;
use jaunty_engines::by_name;
use jaunty_language::dialect::REDIS;
use jaunty_language::dialect::commands::arguments::written;
use jaunty_seam::catalog::Column;
use jaunty_seam::engine::load::{Load, Meeting};
use jaunty_seam::engine::{Session, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Guard, Profile, Secret, Setting};
use jaunty_testservers::{PASSWORD, Redis};
use proptest::prelude::*;
use support::run;

fn at(server: &Redis, database: u8) -> Profile {
    let mut profile = Profile::new("cache", "redis").with("host", "127.0.0.1").with("database", database.to_string());
    profile.settings.insert("port".into(), Setting::Number(i64::from(server.port)));
    profile
}

fn connect(profile: &Profile) -> Box<dyn Session> {
    open(by_name("redis").unwrap(), profile, Some(&Secret::new(PASSWORD.into()))).unwrap()
}

/// Columns of texts; a dash is NULL.
fn batch(columns: &[(&str, &[&str])]) -> RecordBatch {
    let array = |values: &[&str]| -> ArrayRef {
        Arc::new(StringArray::from_iter(values.iter().map(|value| (*value != "-").then_some(*value))))
    };
    let fields: Vec<_> = columns.iter().map(|(name, _)| Field::new(*name, DataType::Utf8, true)).collect();
    let arrays = columns.iter().map(|(_, values)| array(values)).collect();
    RecordBatch::try_new(Arc::new(Schema::new(fields)), arrays).unwrap()
}

fn load(
    session: &mut dyn Session,
    (target, key): (&str, &[&str]),
    meeting: Meeting,
    batch: &RecordBatch,
) -> Result<u64, EngineError> {
    let column = |field: &Arc<Field>| Column { name: field.name().clone(), ..Column::default() };
    let columns: Vec<Column> = batch.schema().fields().iter().map(column).collect();
    let key: Vec<String> = key.iter().map(|name| (*name).to_owned()).collect();
    let stop = Stop::default();
    let load = Load { table: target, columns: &columns, key: &key, meeting, dialect: &REDIS, stop };
    let mut once = Some(batch.clone());
    session.load(&load, &mut || Ok(once.take()))
}

fn shown(session: &mut dyn Session, command: &str) -> String {
    let found = run(session, command).unwrap_or_else(|error| panic!("{command}: {error}"));
    let column = if command.contains("hgetall") || command.contains("withscores") { 2 } else { 1 };
    found.rows().iter().map(|row| row[..column].join("=")).collect::<Vec<_>>().join(" ")
}

#[test]
fn what_is_there_already_is_refused_left_or_replaced() {
    let server = Redis::start();
    let mut session = connect(&at(&server, 0));
    let session = session.as_mut();
    let ports = batch(&[("code", &["SMQ", "GUL"]), ("name", &["Saltmarsh", "-"]), ("berths", &["6", "4"])]);
    let target = ("hset port:* ex 900", &["code"][..]);
    assert_eq!(load(session, target, Meeting::Refuse, &ports).unwrap(), 2);
    assert_eq!(shown(session, "hgetall port:SMQ"), "name=Saltmarsh berths=6");
    assert_eq!(shown(session, "hgetall port:GUL"), "berths=4", "what is NULL is left out");
    assert!((800..=900).contains(&shown(session, "ttl port:GUL").parse::<i64>().unwrap()));
    // One of two is there: none is written, and nothing is watched after it.
    let more = batch(&[("code", &["FOG", "GUL"]), ("name", &["Fogwick", "Gullhaven"])]);
    let error = load(session, target, Meeting::Refuse, &more).unwrap_err();
    assert_eq!((error.kind, error.message.as_str()), (ErrorKind::Refused, "port:GUL is there already"));
    assert_eq!(shown(session, "exists port:FOG"), "0");
    assert_eq!(load(session, target, Meeting::Skip, &more).unwrap(), 1);
    assert_eq!(shown(session, "hgetall port:GUL"), "berths=4");
    assert_eq!(load(session, ("port:*", &["code"]), Meeting::Replace, &more).unwrap(), 2);
    assert_eq!(shown(session, "hgetall port:GUL"), "name=Gullhaven", "no field of before stays");
    assert_eq!(shown(session, "ttl port:GUL"), "-1", "and it lives as the new one is to");
    // The same key twice in a block counts as there.
    let twice = batch(&[("code", &["a", "a"]), ("name", &["1", "2"])]);
    let error = load(session, ("set t:*", &["code"]), Meeting::Refuse, &twice).unwrap_err();
    assert_eq!(error.message, "t:a is there already");
    assert_eq!(load(session, ("set t:*", &["code"]), Meeting::Skip, &twice).unwrap(), 1);
    assert_eq!(shown(session, "get t:a"), "1");
    // Members of a set are there or not; those of a sorted set have a score that would be lost.
    let names = batch(&[("value", &["a", "b", "a"])]);
    assert_eq!(load(session, ("sadd names", &[]), Meeting::Refuse, &names).unwrap(), 2);
    let depths = |scores: [&'static str; 2]| batch(&[("score", &scores), ("port", &["a", "b"])]);
    assert_eq!(load(session, ("zadd depths", &[]), Meeting::Refuse, &depths(["1", "2.5"])).unwrap(), 2);
    let error = load(session, ("zadd depths", &[]), Meeting::Refuse, &depths(["3", "4"])).unwrap_err();
    assert_eq!(error.message, "a of depths is there already");
    assert_eq!(load(session, ("zadd depths", &[]), Meeting::Skip, &depths(["3", "4"])).unwrap(), 0);
    assert_eq!(shown(session, "zrange depths 0 -1 withscores"), "a=1 b=2.5");
    load(session, ("zadd depths", &[]), Meeting::Replace, &depths(["3", "-inf"])).unwrap();
    assert_eq!(shown(session, "zrange depths 0 -1 withscores"), "b=-inf a=3");
    // Lists and streams keep their order, and take each row.
    let queue = batch(&[("route", &["n", "s", "n"]), ("value", &["1", "2", "3"])]);
    assert_eq!(load(session, ("rpush q:*", &["route"]), Meeting::Refuse, &queue).unwrap(), 3);
    assert_eq!(load(session, ("lpush q:*", &["route"]), Meeting::Refuse, &queue).unwrap(), 3);
    assert_eq!(shown(session, "lrange q:n 0 -1"), "3 1 1 3");
    assert_eq!(load(session, ("xadd seen ex 60", &[]), Meeting::Refuse, &queue).unwrap(), 3);
    assert_eq!(shown(session, "xlen seen"), "3");
    let error = load(session, ("rpush names", &[]), Meeting::Refuse, &names).unwrap_err();
    assert_eq!(error.message, "names is there already, as a set and not a list");
    // Two columns of the key go in their places in its order.
    let fares = batch(&[("to", &["GUL"]), ("fare", &["12.50"]), ("from", &["SMQ"])]);
    load(session, ("set fare:*:*", &["from", "to"]), Meeting::Refuse, &fares).unwrap();
    assert_eq!(shown(session, "get fare:SMQ:GUL"), "12.50");
    let without = batch(&[("to", &["-"]), ("fare", &["1"])]);
    let error = load(session, ("set fare:*", &["to"]), Meeting::Refuse, &without).unwrap_err();
    assert_eq!(error.message, "to: NULL cannot be part of a key");
    let mut guarded = connect(&Profile { guard: Guard::ReadOnly, ..at(&server, 0) });
    let error = load(guarded.as_mut(), ("set g:*", &["to"]), Meeting::Refuse, &fares).unwrap_err();
    assert!(error.message.contains("read-only"), "{error}");
}

#[test]
fn values_are_the_bytes_that_they_were() {
    let server = Redis::start();
    let mut session = connect(&at(&server, 0));
    let session = session.as_mut();
    let bytes: [&[u8]; 3] = [b"\x00\xff\r\n\"'\\", b"", "é🛳".as_bytes()];
    let columns: Vec<ArrayRef> =
        vec![Arc::new(StringArray::from(vec!["a b", "*", "\"q\"\n"])), Arc::new(BinaryArray::from_iter_values(bytes))];
    let fields = vec![Field::new("key", DataType::Utf8, true), Field::new("raw", DataType::Binary, true)];
    let rows = RecordBatch::try_new(Arc::new(Schema::new(fields)), columns).unwrap();
    assert_eq!(load(session, ("set raw:*", &["key"]), Meeting::Refuse, &rows).unwrap(), 3);
    assert_eq!(server.command(&["--raw", "strlen", "raw:a b"]).trim(), "7");
    assert_eq!(shown(session, "get \"raw:a b\""), "00ff0d0a22275c");
    assert_eq!(shown(session, "get \"raw:*\""), "");
    assert_eq!(shown(session, "get \"raw:\\\"q\\\"\\n\""), "é🛳");
}

/// Somebody else makes the same keys at the same time: each is there once, from the one or the other, and the counts agree.
#[test]
fn a_key_that_somebody_else_makes_meanwhile_counts_as_there() {
    let server = Redis::start();
    let keys: Vec<String> = (0..3000).map(|n| n.to_string()).collect();
    let all: Vec<&str> = keys.iter().map(String::as_str).collect();
    let ours: Vec<&str> = vec!["ours"; all.len()];
    let goes_on = AtomicBool::new(true);
    let (mut taken, mut theirs) = (0, 0);
    std::thread::scope(|scope| {
        let other = scope.spawn(|| {
            let mut session = connect(&at(&server, 0));
            let mut made = 0;
            for key in all.iter().rev() {
                if !goes_on.load(Ordering::Relaxed) {
                    break;
                }
                made += u32::from(shown(session.as_mut(), &format!("setnx k:{key} theirs")) == "1");
            }
            made
        });
        let mut session = connect(&at(&server, 0));
        for at in (0..all.len()).step_by(100) {
            let rows = batch(&[("key", &all[at..at + 100]), ("value", &ours[at..at + 100])]);
            taken += load(session.as_mut(), ("set k:*", &["key"]), Meeting::Skip, &rows).unwrap();
        }
        goes_on.store(false, Ordering::Relaxed);
        theirs = other.join().unwrap();
    });
    let mut session = connect(&at(&server, 0));
    let lua = "eval \"local n = 0 for _, k in ipairs(redis.call('keys', 'k:*')) do if redis.call('get', k) == ARGV[1] then n = n + 1 end end return n\" 0";
    assert_eq!(shown(session.as_mut(), &format!("{lua} ours")), taken.to_string());
    assert_eq!(shown(session.as_mut(), &format!("{lua} theirs")), theirs.to_string());
    assert_eq!(taken + u64::from(theirs), 3000);
}

/// All that a database holds, told by the server itself: its keys with `DUMP`'s own check of what they hold.
fn digest(session: &mut dyn Session) -> String {
    shown(session, "debug digest")
}

/// Writes the keys of one database, and runs what was written in another.
fn copied(from: &mut dyn Session, to: &mut dyn Session, pattern: &str) -> (u64, Vec<String>, Vec<String>) {
    let mut lines = Vec::new();
    let remade = from.remake(pattern, &Stop::default(), &mut |line, _| {
        lines.push(line.to_owned());
        Ok(())
    });
    let remade = remade.unwrap();
    for line in &lines {
        run(to, line).unwrap_or_else(|error| panic!("{line}: {error}"));
    }
    (remade.elements, remade.left_out, lines)
}

#[test]
fn keys_of_every_type_are_made_again() {
    let server = Redis::start();
    let (mut from, other) = (connect(&at(&server, 0)), Redis::start());
    let from = from.as_mut();
    for command in [
        "set text \"two\\nlines \\\"q\\\" \\\\ é🛳\"",
        "set raw \"\\x00\\xff\\r\"",
        "set empty \"\"",
        "set \"key with blanks\" 1",
        "rpush list a b a \"\"",
        "sadd set a b \"c d\"",
        "hset hash f v \"g h\" \"\"",
        "zadd scored 1 a 0.1 b -inf c 1e300 d",
        "xadd stream 5-1 a 1 a 2",
        "xadd stream 5-2 b \"\\xff\"",
        "xadd shorter 1-1 a 1",
        "xadd shorter 9-9 a 1",
        "xdel shorter 9-9",
        "xadd read 1-1 a 1",
        "xgroup create read crew 0",
        "xreadgroup group crew mate streams read >",
        "xgroup create none crew $ mkstream",
        "pfadd counted a b c",
        "setbit bits 77 1",
        "geoadd places 13.3 38.1 quay",
        "function load \"#!lua name=tides\\nredis.register_function('tide', function() return 'high' end)\"",
    ] {
        run(from, command).unwrap_or_else(|error| panic!("{command}: {error}"));
    }
    // Larger than what is read in one go.
    let many: Vec<String> = (0..2000).map(|n| format!("e{n}")).collect();
    for (verb, key) in [("rpush", "long:list"), ("sadd", "long:set")] {
        run(from, &format!("{verb} {key} {}", many.join(" "))).unwrap();
    }
    let pairs = |verb: &str, key: &str| {
        let each = (0..2000).map(|n| if verb == "zadd" { format!("{n}.25 e{n}") } else { format!("f{n} v{n}") });
        format!("{verb} {key} {}", each.collect::<Vec<_>>().join(" "))
    };
    run(from, &pairs("hset", "long:hash")).unwrap();
    run(from, &pairs("zadd", "long:scored")).unwrap();
    run(from, "eval \"for i = 1, 2000 do redis.call('xadd', 'long:stream', i .. '-1', 'n', i) end\" 0").unwrap();
    run(from, &format!("set long:text {}", "salt ".repeat(80_000).replace(' ', "_"))).unwrap();
    let mut to = connect(&at(&other, 0));
    // What is there of the same name is replaced.
    run(to.as_mut(), "rpush hash x y").unwrap();
    run(to.as_mut(), "rpush list x y").unwrap();
    let (keys, left_out, lines) = copied(from, to.as_mut(), "");
    assert_eq!((keys, left_out), (21, Vec::<String>::new()));
    assert!(lines.iter().all(|line| line.len() < 600_000 && !line.contains('\n')));
    assert_eq!(digest(from), digest(to.as_mut()));
    assert_eq!(shown(to.as_mut(), "fcall tide 0"), "high");
    // The number of an entry that was removed is not given again.
    let error = run(to.as_mut(), "xadd shorter 9-9 a 1").err().unwrap();
    assert!(error.message.contains("equal or smaller"), "{error}");
    assert_eq!(shown(to.as_mut(), "xpending read crew"), shown(from, "xpending read crew"));
    // Some keys by their names and patterns; how long they live is what was left.
    run(from, "expire text 1000").unwrap();
    let (keys, left_out, lines) = copied(from, to.as_mut(), "te*");
    assert_eq!((keys, left_out.len(), lines.len()), (1, 0, 2));
    assert!((900..=1000).contains(&shown(to.as_mut(), "ttl text").parse::<i64>().unwrap()));
    assert_eq!(copied(from, to.as_mut(), "key with blanks").0, 1);
    assert_eq!(copied(from, to.as_mut(), "nothing").0, 0);
    // What the user may not read is told.
    run(from, "acl setuser mate on >fog ~* +@all -function -dump").unwrap();
    let profile = at(&server, 0).with("user", "mate");
    let mut mate = open(by_name("redis").unwrap(), &profile, Some(&Secret::new("fog".into()))).unwrap();
    let (keys, left_out, _) = copied(mate.as_mut(), to.as_mut(), "");
    assert_eq!((keys, left_out.len()), (19, 3), "{left_out:?}");
    assert!(left_out[0].starts_with("functions: ") && left_out.iter().any(|told| told.starts_with("read: ")));
}

/// A command of arguments.
fn line(words: &[&[u8]]) -> String {
    words.iter().map(|word| written(word)).collect::<Vec<_>>().join(" ")
}

static SERVERS: LazyLock<[Redis; 2]> = LazyLock::new(|| [Redis::start(), Redis::start()]);

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    #[test]
    fn any_keys_are_made_again(
        keys in proptest::collection::vec(
            (0..5_usize, proptest::collection::vec(any::<u8>(), 0..6),
             proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..40), 1..300)),
            0..6,
        ),
    ) {
        let mut sessions = SERVERS.each_ref().map(|server| connect(&at(server, 0)));
        for session in &mut sessions {
            run(session.as_mut(), "flushall").unwrap();
        }
        let [from, to] = &mut sessions;
        for (kind, key, elements) in &keys {
            run(from.as_mut(), &line(&[b"unlink", key])).unwrap();
            let verb: &[u8] = [&b"set"[..], b"rpush", b"sadd", b"hset", b"zadd"][*kind];
            let (mut words, whole): (Vec<&[u8]>, _) = (vec![verb, key], elements.concat());
            for element in elements {
                match kind {
                    0 => words.truncate(2),
                    4 => words.push(b"0.5"),
                    _ => {}
                }
                words.push(if *kind == 0 { &whole } else { element });
                words.extend((*kind == 3).then_some(&b"\xff"[..]));
            }
            run(from.as_mut(), &line(&words)).unwrap();
        }
        copied(from.as_mut(), to.as_mut(), "");
        prop_assert_eq!(digest(from.as_mut()), digest(to.as_mut()));
    }
}

/// Large keys that somebody else changes all the while are what they were at one moment: of a list that has its
/// elements in order none is missing and none is there twice.
#[test]
fn a_key_that_changes_meanwhile_is_of_one_moment() {
    let server = Redis::start();
    let mut session = connect(&at(&server, 0));
    let many: Vec<String> = (0..3000).map(|n| n.to_string()).collect();
    run(session.as_mut(), &format!("rpush long {}", many.join(" "))).unwrap();
    let (goes_on, mut copies) = (AtomicBool::new(true), Vec::new());
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut other = connect(&at(&server, 0));
            let mut next = 3000;
            while goes_on.load(Ordering::Relaxed) {
                run(other.as_mut(), &format!("rpush long {next}")).unwrap();
                run(other.as_mut(), "lpop long").unwrap();
                next += 1;
            }
        });
        for _ in 0..5 {
            let mut found: Vec<u64> = Vec::new();
            let remade = session.remake("long", &Stop::default(), &mut |line, _| {
                match line.strip_prefix("rpush long ") {
                    Some(elements) => found.extend(elements.split(' ').filter_map(|n| n.parse::<u64>().ok())),
                    None => found.clear(),
                }
                Ok(())
            });
            copies.push((remade, found));
        }
        goes_on.store(false, Ordering::Relaxed);
    });
    for (remade, found) in copies {
        assert_eq!(remade.map(|remade| remade.elements), Ok(1));
        assert!((3000..=3001).contains(&found.len()), "{} elements", found.len());
        assert!(found.iter().zip(found[0]..).all(|(found, wanted)| *found == wanted), "one is missing or there twice");
    }
}
