//! Slips of what has no tables, on real servers: documents, and what keys hold. A random slip does what the same edits do to
//! a model, taken back everything is what it was, and what somebody else changed is found.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::thread;

use arrow_array::{ArrayRef, Int64Array, RecordBatch};
use jaunty_core::connection::open;
use jaunty_core::slip::statements::script;
use jaunty_core::slip::{Datum, Ground, Keep, Row, Sent, Slip, Unsent, What, element_of, send};
use jaunty_engines::by_name;
use jaunty_language::dialect::Dialect;
use jaunty_seam::catalog::Column;
use jaunty_seam::engine::load::{Load, Meeting};
use jaunty_seam::engine::{Session, Stop};
use jaunty_seam::error::ErrorKind;
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_seam::rows::cell::type_name;
use jaunty_standins::documents::{Options, Server};
use jaunty_testservers::{Documents, PASSWORD, Redis};
use support::{Random, run};

/// Where elements are changed.
#[derive(Clone, Copy)]
struct Pier {
    engine: &'static str,
    port: u16,
}

/// Values that commands could be broken with.
const VALUES: &[&str] = &[
    "",
    " ",
    "'",
    "\"",
    "\\",
    "a b",
    "line\nend",
    "# no remark",
    "7",
    "007",
    "nil",
    "é名🛳",
    "\u{0}\u{7f}\u{9b}",
    "; del a",
    "{ $gt: 1 }",
    "//",
];

impl Pier {
    fn connect(&self) -> Box<dyn Session> {
        let mut profile = Profile::new("pier", self.engine).with("host", "127.0.0.1");
        profile.settings.insert("port".into(), Setting::Number(self.port.into()));
        // However busy the machine is: a session is given up where the server does not hear in time.
        profile.settings.insert("stop_seconds".into(), Setting::Number(600));
        let profile = if self.engine == "mongodb" { profile.with("database", "ferry") } else { profile };
        let secret = (self.engine == "redis").then(|| Secret::new(PASSWORD.into()));
        open(by_name(self.engine).unwrap(), &profile, secret.as_ref()).unwrap()
    }

    fn dialect(&self) -> &'static Dialect {
        by_name(self.engine).unwrap().dialect()
    }

    /// What a statement gives, as the rows of a slip.
    fn read(&self, session: &mut dyn Session, statement: &str) -> (Slip, Vec<Row>) {
        let found = run(session, statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
        let seen = found.seen.lock().unwrap();
        let mut rows = Vec::new();
        let mut ground = None;
        for batch in &seen.batches {
            let columns =
                batch.schema().fields().iter().map(|of| (of.name().clone(), type_name(of))).collect::<Vec<_>>();
            let ground =
                ground.get_or_insert_with(|| Ground::of_elements(statement, &columns, self.dialect()).unwrap());
            for at in 0..batch.num_rows() {
                rows.push(element_of(ground, self.dialect(), batch, (at, rows.len() as u64)).unwrap());
            }
        }
        let slip = Slip { statement: statement.into(), ground: ground.unwrap_or_default(), ..Slip::default() };
        (slip, rows)
    }

    fn send(&self, session: &mut dyn Session, slip: &Slip) -> Result<Sent, Unsent> {
        send(slip, self.dialect(), session, &Stop::default(), |_| {})
    }

    /// Sends a slip and takes it back; what `look` sees in between is given.
    fn there_and_back<T: PartialEq + std::fmt::Debug>(
        &self,
        session: &mut dyn Session,
        slip: &Slip,
        mut look: impl FnMut(&mut dyn Session) -> T,
    ) -> T {
        let before = look(session);
        let text = script(slip, self.dialect(), false);
        let sent = self.send(session, slip).unwrap_or_else(|error| panic!("{error}\n{text}"));
        let between = look(session);
        let back = sent.opposite(slip, self.dialect(), None).unwrap_or_else(|| panic!("no way back\n{text}"));
        let back_text = script(&back, self.dialect(), false);
        let sent = self.send(session, &back).unwrap_or_else(|error| panic!("{error}\n{text}\nback:\n{back_text}"));
        assert_eq!(look(session), before, "{text}\nback:\n{back_text}");
        // And there again.
        let again = sent.opposite(&back, self.dialect(), None).unwrap();
        self.send(session, &again)
            .unwrap_or_else(|error| panic!("{error}\nagain: {}", script(&again, self.dialect(), false)));
        assert_eq!(look(session), between, "{text}");
        between
    }
}

fn text(text: &str) -> Datum {
    Datum::Text(text.into())
}

fn all(session: &mut dyn Session, statement: &str) -> Vec<Vec<String>> {
    run(session, statement).unwrap_or_else(|error| panic!("{statement}: {error}")).rows()
}

fn quoted(text: &str) -> String {
    jaunty_language::dialect::commands::arguments::written(text.as_bytes())
}

#[test]
fn random_slips_of_lists() {
    let server = Redis::start();
    let pier = Pier { engine: "redis", port: server.port };
    let mut session = pier.connect();
    let session = session.as_mut();
    let mut random = Random(20_310_305);
    for round in 0..150 {
        run(session, "del tides").unwrap();
        let mut model: Vec<Option<String>> = Vec::new();
        for _ in 0..1 + random.below(9) {
            let value = random.of(VALUES);
            run(session, &format!("rpush tides {}", quoted(value))).unwrap();
            model.push(Some(value.to_owned()));
        }
        let from = random.below(model.len());
        let (mut slip, rows) = pier.read(session, &format!("lrange tides {from} -1"));
        let mut new = Vec::new();
        for _ in 0..1 + random.below(5) {
            let at = random.below(rows.len());
            let row = || (at as u64, rows[at].clone());
            let value = random.of(VALUES);
            match random.below(3) {
                0 if slip.of_row(at as u64).is_none() => {
                    assert!(slip.delete(row()).unwrap());
                    model[from + at] = None;
                }
                1 if model[from + at].is_some() => {
                    slip.change(row(), 1, text(value)).unwrap();
                    model[from + at] = Some(value.to_owned());
                }
                2 => {
                    slip.add(BTreeMap::from([(1, text(value))]));
                    new.push(value.to_owned());
                }
                _ => {}
            }
        }
        if slip.is_empty() {
            continue;
        }
        let expected: Vec<String> = model.into_iter().flatten().chain(new).collect();
        let look = |session: &mut dyn Session| -> Vec<String> {
            all(session, "lrange tides 0 -1").into_iter().map(|mut row| row.swap_remove(0)).collect()
        };
        assert_eq!(pier.there_and_back(session, &slip, look), expected, "round {round}");
    }
}

#[test]
fn random_slips_of_hashes_sets_and_values() {
    let server = Redis::start();
    let pier = Pier { engine: "redis", port: server.port };
    let mut session = pier.connect();
    let session = session.as_mut();
    let mut random = Random(77);
    for (statement, has_value) in [
        ("hgetall \"the berths\"", true),
        ("smembers \"the berths\"", false),
        ("zrange \"the berths\" 0 -1 withscores", true),
    ] {
        let sorted = statement.starts_with('z');
        let value = |random: &mut Random| match sorted {
            true => Datum::Number(random.of(&["1", "-2.5", "4096.5", "inf", "0"]).to_owned()),
            false => text(random.of(VALUES)),
        };
        let shown = |value: &Datum| value.text().to_owned();
        for round in 0..80 {
            run(session, "del \"the berths\"").unwrap();
            let mut model: BTreeMap<String, String> = BTreeMap::new();
            for _ in 0..1 + random.below(6) {
                let (name, value) = (random.of(VALUES), value(&mut random));
                let (written, given) = (quoted(name), quoted(value.text()));
                let added = match statement.as_bytes()[0] {
                    b'h' => format!("hset \"the berths\" {written} {given}"),
                    b's' => format!("sadd \"the berths\" {written}"),
                    _ => format!("zadd \"the berths\" {given} {written}"),
                };
                run(session, &added).unwrap();
                model.insert(name.to_owned(), if has_value { shown(&value) } else { String::new() });
            }
            let (mut slip, rows) = pier.read(session, statement);
            let taken: Vec<String> = model.keys().cloned().collect();
            let mut fresh = VALUES.iter().filter(|name| !taken.contains(&(**name).to_owned()));
            for _ in 0..1 + random.below(5) {
                let at = random.below(rows.len());
                let name = rows[at][0].as_ref().unwrap().text().to_owned();
                let is_free = slip.of_row(at as u64).is_none();
                let row = (at as u64, rows[at].clone());
                match random.below(4) {
                    0 if is_free => {
                        assert!(slip.delete(row).unwrap());
                        model.remove(&name);
                    }
                    1 if is_free && has_value => {
                        let value = value(&mut random);
                        slip.change(row, 1, value.clone()).unwrap();
                        model.insert(name, shown(&value));
                    }
                    2 if is_free => {
                        let Some(other) = fresh.next() else { continue };
                        slip.change(row, 0, text(other)).unwrap();
                        let value = model.remove(&name).unwrap();
                        model.insert((*other).to_owned(), value);
                    }
                    3 => {
                        let Some(other) = fresh.next() else { continue };
                        let value = value(&mut random);
                        let mut new = BTreeMap::from([(0, text(other))]);
                        if has_value {
                            new.insert(1, value.clone());
                        }
                        slip.add(new);
                        model.insert((*other).to_owned(), if has_value { shown(&value) } else { String::new() });
                    }
                    _ => {}
                }
            }
            if slip.is_empty() {
                continue;
            }
            let look = |session: &mut dyn Session| -> BTreeMap<String, String> {
                let pair =
                    |mut row: Vec<String>| (row.remove(0), if has_value { row.remove(0) } else { String::new() });
                all(session, statement).into_iter().map(pair).collect()
            };
            let seen = pier.there_and_back(session, &slip, look);
            assert_eq!(seen, model, "{statement}, round {round}: {}", script(&slip, pier.dialect(), false));
        }
    }
}

#[test]
fn values_of_keys_and_how_long_they_live() {
    let server = Redis::start();
    let pier = Pier { engine: "redis", port: server.port };
    let mut session = pier.connect();
    let session = session.as_mut();
    run(session, "set fare 12.50 ex 1000").unwrap();
    run(session, "set note \"\\xff\\x00\"").unwrap();
    let life = |session: &mut dyn Session, key: &str| all(session, &format!("ttl {key}"))[0][0].parse::<i64>().unwrap();
    // Several keys at once; each keeps the time that it has.
    let (mut slip, rows) = pier.read(session, "mget fare note lost");
    assert_eq!(rows[1][1], Some(Datum::Bytes("ff00".into())));
    slip.change((0, rows[0].clone()), 1, text("13")).unwrap();
    slip.change((1, rows[1].clone()), 1, Datum::Bytes("00ff".into())).unwrap();
    let error = slip.change((2, rows[2].clone()), 1, text("x")).unwrap_err();
    assert_eq!(error.to_string(), "nothing to change: lost does not exist");
    let seen = pier.there_and_back(session, &slip, |session| all(session, "mget fare note"));
    assert_eq!((seen[0][0].as_str(), seen[1][0].as_str()), ("13", "00ff"));
    assert!((900..=1000).contains(&life(session, "fare")) && life(session, "note") == -1);
    // The time alone, with a value, and taken away.
    for (new, expected) in [
        (vec![(2, Datum::Number("50".into()))], 40..=50),
        (vec![(1, text("7")), (2, Datum::Number("60".into()))], 55..=60),
        (vec![(2, Datum::Null)], -1..=-1),
        (vec![(1, text("8")), (2, Datum::Null)], -1..=-1),
        (vec![(1, text("9"))], 900..=1000),
    ] {
        run(session, "set fare 12.50 ex 1000").unwrap();
        let (mut slip, rows) = pier.read(session, "get fare");
        for (part, value) in new {
            slip.change((0, rows[0].clone()), part, value).unwrap();
        }
        let sent = pier.send(session, &slip).unwrap();
        assert!(expected.contains(&life(session, "fare")), "{}", script(&slip, pier.dialect(), false));
        pier.send(session, &sent.opposite(&slip, pier.dialect(), None).unwrap()).unwrap();
        assert_eq!(all(session, "get fare")[0][0], "12.50");
        assert!((900..=1000).contains(&life(session, "fare")), "{}", script(&slip, pier.dialect(), false));
    }
    for (statement, key, value, expected) in
        [("ttl fare", "fare", "70", 65..=70), ("pttl note", "note", "80000", 75..=80)]
    {
        let (mut slip, rows) = pier.read(session, statement);
        slip.change((0, rows[0].clone()), 1, Datum::Number(value.into())).unwrap();
        pier.send(session, &slip).unwrap();
        assert!(expected.contains(&life(session, key)), "{statement}");
    }
    let (mut slip, rows) = pier.read(session, "ttl fare");
    slip.change((0, rows[0].clone()), 1, Datum::Null).unwrap();
    pier.send(session, &slip).unwrap();
    assert_eq!(life(session, "fare"), -1);
    // A key that goes, and comes back.
    let (mut slip, rows) = pier.read(session, "get fare");
    assert!(slip.delete((0, rows[0].clone())).unwrap());
    let gone = pier.there_and_back(session, &slip, |session| all(session, "exists fare"));
    assert_eq!(gone[0][0], "0");
}

#[test]
fn what_stands_in_the_way_of_a_key_is_told_and_nothing_is_sent() {
    let server = Redis::start();
    let pier = Pier { engine: "redis", port: server.port };
    let (mut session, mut other) = (pier.connect(), pier.connect());
    let (session, other) = (session.as_mut(), other.as_mut());
    run(session, "hset berth:7 vessel Gull length 40").unwrap();
    let (head, rows) = pier.read(session, "hgetall berth:7");
    let change = |part: usize, value: Datum| {
        let mut slip = Slip { drafts: Vec::new(), ..head.clone() };
        slip.change((0, rows[0].clone()), part, value).unwrap();
        slip
    };
    // Somebody else was there: theirs, ours.
    run(other, "hset berth:7 vessel Tern").unwrap();
    let mut slip = change(1, text("Skua"));
    let Err(Unsent::Conflict(conflict)) = pier.send(session, &slip) else { panic!("no conflict") };
    assert_eq!(conflict.theirs, Some(vec![Some(text("vessel")), Some(text("Tern"))]));
    slip.settle(&conflict, Keep::Ours);
    pier.send(session, &slip).unwrap();
    assert_eq!(all(session, "hget berth:7 vessel")[0][0], "Skua");
    // Another field of the key is no conflict.
    run(other, "hset berth:7 length 41").unwrap();
    let (mut slip, rows) = pier.read(session, "hget berth:7 vessel");
    run(other, "hset berth:7 length 42").unwrap();
    slip.change((0, rows[0].clone()), 1, text("Gull")).unwrap();
    pier.send(session, &slip).unwrap();
    // A name that is taken, one that is not given, another type, an open transaction.
    let (mut slip, rows) = pier.read(session, "hgetall berth:7");
    let vessel = rows.iter().position(|row| row[0] == Some(text("vessel"))).unwrap();
    slip.change((vessel as u64, rows[vessel].clone()), 0, text("length")).unwrap();
    assert_eq!(pier.send(session, &slip).unwrap_err().to_string(), "length already exists: nothing was sent");
    let mut slip = Slip { drafts: Vec::new(), ..slip };
    slip.add(BTreeMap::from([(1, text("x"))]));
    assert_eq!(pier.send(session, &slip).unwrap_err().to_string(), "the field is missing: nothing was sent");
    let mut slip = Slip { drafts: Vec::new(), ..slip };
    slip.change((vessel as u64, rows[vessel].clone()), 1, text("Skua")).unwrap();
    run(session, "multi").unwrap();
    assert!(matches!(pier.send(session, &slip), Err(Unsent::Noting)));
    run(session, "discard").unwrap();
    run(other, "del berth:7").unwrap();
    let Err(Unsent::Conflict(conflict)) = pier.send(session, &slip) else { panic!("no conflict") };
    assert_eq!(conflict.theirs, None);
    run(other, "set berth:7 x").unwrap();
    let Err(Unsent::Refused { draft: Some(0), error, rolled_back: true }) = pier.send(session, &slip) else {
        panic!("not refused")
    };
    assert_eq!(error.code.as_deref(), Some("WRONGTYPE"));
    assert_eq!(all(session, "get berth:7")[0][0], "x");
    // The server refuses to note a command down: all is given up, and the session goes on.
    run(other, "del berth:7").unwrap();
    run(other, "hset berth:7 vessel Gull").unwrap();
    run(other, "acl setuser default -hset").unwrap();
    let (mut slip, rows) = pier.read(session, "hgetall berth:7");
    slip.change((0, rows[0].clone()), 1, text("Skua")).unwrap();
    let Err(Unsent::Refused { draft: Some(0), rolled_back: true, error }) = pier.send(session, &slip) else {
        panic!("not refused")
    };
    assert_eq!(error.code.as_deref(), Some("NOPERM"));
    run(other, "acl setuser default +hset").unwrap();
    assert_eq!(session.location().transaction, None);
    pier.send(session, &slip).unwrap();
    assert_eq!(all(session, "hget berth:7 vessel")[0][0], "Skua");
}

#[test]
fn rows_that_are_not_what_a_key_holds_say_so() {
    let dialect = by_name("redis").unwrap().dialect();
    let why = |statement: &str, columns: &[&str]| {
        let columns: Vec<_> = columns.iter().map(|name| ((*name).to_owned(), String::new())).collect();
        Ground::of_elements(statement, &columns, dialect).unwrap_err().to_string()
    };
    for (statement, expected) in [
        (
            "scan 0",
            "these are key names: read one (get, hgetall, lrange …) to change what it holds; \"delete\" among the formats to put into the buffer removes them",
        ),
        ("xrange log - +", "stream entries cannot be changed; xadd adds one, xdel removes one"),
        ("lrange tides -5 -1", "negative positions shift with each change: use a start of 0 or more"),
        ("zrange late 0 -1", "add withscores to change members and their scores"),
        ("get \"open", "a quote never closes"),
    ] {
        assert_eq!(why(statement, &["value", "type"]), expected);
    }
    assert!(why("info server", &["value", "type"]).starts_with("the reply of info cannot be changed"));
}

/// Two that count one up, by slips: each one counts.
fn races(pier: Pier, statement: &'static str, rounds: usize, next: impl Fn(&Datum) -> Datum + Copy + Send) -> usize {
    let count = move || {
        let mut session = pier.connect();
        let (mut sent, mut met) = (0, 0);
        while sent < rounds {
            let (mut slip, rows) = pier.read(session.as_mut(), statement);
            let part = rows[0].iter().position(|value| value.as_ref().is_some_and(|v| next(v) != *v)).unwrap();
            let value = next(rows[0][part].as_ref().unwrap());
            slip.change((0, rows[0].clone()), part, value).unwrap();
            match pier.send(session.as_mut(), &slip) {
                Ok(_) => sent += 1,
                Err(Unsent::Conflict(_)) => met += 1,
                // Two transactions of documents met, and the server chose one.
                Err(Unsent::Refused { rolled_back: true, .. }) if pier.engine == "mongodb" => met += 1,
                Err(unsent) => panic!("{unsent}"),
            }
        }
        met
    };
    thread::scope(|scope| {
        let others: Vec<_> = (0..2).map(|_| scope.spawn(count)).collect();
        others.into_iter().map(|other| other.join().unwrap()).sum()
    })
}

#[test]
fn two_who_change_a_key_at_once_are_both_counted() {
    let server = Redis::start();
    let pier = Pier { engine: "redis", port: server.port };
    let mut session = pier.connect();
    run(session.as_mut(), "hset berth:7 calls 0").unwrap();
    let up = |value: &Datum| match value.text().parse::<u64>() {
        Ok(calls) => text(&(calls + 1).to_string()),
        Err(_) => value.clone(),
    };
    let met = races(pier, "hget berth:7 calls", 500, up);
    assert!(met > 0, "some met");
    assert_eq!(all(session.as_mut(), "hget berth:7 calls")[0][0], "1000");
}

/// Documents with values of every kind, as statements have them.
const FIELDS: &[&str] = &[
    "7",
    "7.5",
    "{ $numberLong: \"7\" }",
    "{ $numberDecimal: \"12.50\" }",
    "\"it's\"",
    "\"\"",
    "true",
    "null",
    "{ $date: \"2031-03-05T12:00:00Z\" }",
    "{ $oid: \"65f0c0ffee65f0c0ffee65f0\" }",
    "{ $binary: { base64: \"AAEC\", subType: \"00\" } }",
    "[1, \"two\", [3]]",
    "{ code: \"GUL\", place: { x: 1, y: [2] } }",
    "{}",
    "[]",
];

fn written(of: &str) -> Datum {
    match of {
        "null" => Datum::Null,
        of => Datum::Written(of.to_owned()),
    }
}

/// Random slips of documents, and back.
fn random_documents(pier: Pier, rounds: usize) {
    let mut session = pier.connect();
    let session = session.as_mut();
    let mut random = Random(4_711);
    let name = ["a", "b", "odd name", "d"];
    for round in 0..rounds {
        if round > 0 {
            run(session, "berths delete all {}").unwrap();
        }
        let count = 1 + random.below(4);
        for id in 0..count {
            let mut fields = vec![format!("_id: {id}")];
            for name in name {
                if random.below(3) > 0 {
                    fields.push(format!("\"{name}\": {}", random.of(FIELDS)));
                }
            }
            run(session, &format!("berths insert {{ {} }}", fields.join(", "))).unwrap();
        }
        let (mut slip, rows) = pier.read(session, "berths | sort { _id: 1 }");
        let parts = slip.ground.fields.len();
        for _ in 0..1 + random.below(5) {
            let at = random.below(rows.len());
            let row = (at as u64, rows[at].clone());
            let part = random.below(parts - 1);
            let lasts = slip.ground.part(part).unwrap().lasting;
            match random.below(5) {
                0 if slip.of_row(at as u64).is_none() => assert!(slip.delete(row).unwrap()),
                1 => drop(slip.add(BTreeMap::from([(
                    parts - 1,
                    Datum::Written(format!("{{ _id: \"n{}\", a: {} }}", slip.drafts.len(), random.of(FIELDS))),
                )]))),
                2 if !lasts && slip.of_row(at as u64).is_none_or(|at| slip.drafts[at].what == What::Change) => {
                    slip.change(row, part, Datum::Absent).unwrap();
                }
                _ if !lasts && slip.of_row(at as u64).is_none_or(|at| slip.drafts[at].what == What::Change) => {
                    slip.change(row, part, written(random.of(FIELDS))).unwrap();
                }
                _ => {}
            }
        }
        if slip.is_empty() {
            continue;
        }
        let elements = pier.dialect().elements.unwrap();
        let place = slip.ground.place.clone().unwrap();
        let taken_apart = |documents: &[String]| -> BTreeMap<String, Row> {
            let row = |text: &String| elements.of_document(&place, text, true).unwrap();
            documents.iter().map(row).map(|row| (row[0].as_ref().unwrap().text().to_owned(), row)).collect()
        };
        let look = |session: &mut dyn Session| -> Vec<String> {
            let whole = "berths | sort { _id: 1 } | project { _id: 0, document: \"$$ROOT\" }";
            all(session, whole).into_iter().map(|mut row| row.swap_remove(0)).collect()
        };
        let mut model = taken_apart(&look(session));
        for draft in &slip.drafts {
            let id = draft.was(0).map(|id| id.text().to_owned());
            match (draft.what, id) {
                (What::Delete, Some(id)) => drop(model.remove(&id)),
                (What::Change, Some(id)) => {
                    let row = model.get_mut(&id).unwrap();
                    for (part, value) in &draft.new {
                        row[*part] = Some(value.clone());
                    }
                }
                _ => {
                    let added = taken_apart(&[draft.new[&(parts - 1)].text().to_owned()]);
                    model.extend(added);
                }
            }
        }
        let without_whole = |rows: BTreeMap<String, Row>| -> BTreeMap<String, Row> {
            rows.into_iter().map(|(id, row)| (id, row[..parts - 1].to_vec())).collect()
        };
        let seen = pier.there_and_back(session, &slip, look);
        let text = script(&slip, pier.dialect(), false);
        assert_eq!(without_whole(taken_apart(&seen)), without_whole(model), "round {round}: {text}");
    }
}

fn simulated(replica_set: bool) -> Server {
    let replica_set = replica_set.then(|| ("pier".to_owned(), 1));
    Server::start(Options { replica_set, ..Options::default() }).unwrap()
}

#[test]
fn random_slips_of_documents() {
    let (alone, member, others) = (simulated(false), simulated(true), Documents::start());
    for (number, port) in [alone.port(), member.port(), others.port].into_iter().enumerate() {
        println!("server {number}");
        random_documents(Pier { engine: "mongodb", port }, 60);
    }
}

#[test]
fn two_who_change_a_document_at_once_are_both_counted() {
    let (alone, member) = (simulated(false), simulated(true));
    for port in [alone.port(), member.port()] {
        let pier = Pier { engine: "mongodb", port };
        let mut session = pier.connect();
        run(session.as_mut(), "berths insert { _id: 7, calls: 0 }").unwrap();
        let up = |value: &Datum| match (value, value.text().parse::<u64>()) {
            (Datum::Written(_), Ok(calls)) if calls != 7 || value.text() != "7" => {
                Datum::Written((calls + 1).to_string())
            }
            _ => value.clone(),
        };
        run(session.as_mut(), "berths update { _id: 7 } { $set: { calls: 100 } }").unwrap();
        let met = races(pier, "berths { _id: 7 } | project { calls: 1 }", 500, up);
        assert!(met > 0, "some met");
        assert_eq!(all(session.as_mut(), "berths { _id: 7 }")[0][1], "1100");
    }
}

#[test]
fn a_document_is_changed_only_where_it_differs() {
    let server = simulated(false);
    let pier = Pier { engine: "mongodb", port: server.port() };
    let (mut session, mut other) = (pier.connect(), pier.connect());
    let (session, other) = (session.as_mut(), other.as_mut());
    let gullhaven = "ports insert { _id: \"GUL\", name: \"Gullhaven\", place: { x: 1, y: { z: 2 }, tags: [1, 2] }, \"a.b\": 3, like: { $regularExpression: { pattern: \"^G\", options: \"i\" } } }";
    run(session, gullhaven).unwrap();
    let statement = "ports";
    let (slip, rows) = pier.read(session, statement);
    let at = |name: &str| slip.ground.fields.iter().position(|field| field.column.name == name).unwrap();
    let of = |part: usize, value: Datum| {
        let mut slip = slip.clone();
        slip.change((0, rows[0].clone()), part, value).unwrap();
        let texts = script(&slip, pier.dialect(), false);
        (slip, texts.lines().find(|line| line.contains(" update ")).unwrap_or_default().to_owned())
    };
    let (nested, shown) = of(at("place"), Datum::Written("{ x: 1, y: { z: 5, new: true }, tags: [1, 2] }".into()));
    assert!(shown.ends_with("{ $set: { \"place.y.z\": 5, \"place.y.new\": true } };"), "{shown}");
    let (_, shown) = of(at("place"), Datum::Written("{ x: 1, tags: [2] }".into()));
    assert!(shown.ends_with("{ $set: { \"place.tags\": [2] }, $unset: { \"place.y\": \"\" } };"), "{shown}");
    let (_, shown) = of(at("name"), Datum::Absent);
    assert!(shown.ends_with("{ $unset: { name: \"\" } };"), "{shown}");
    // The whole of it as text: a field more, one less, one that cannot be named.
    let whole = at("(document)");
    let (_, shown) = of(whole, Datum::Written("{ _id: \"GUL\", berths: 4, place: { x: 1, y: { z: 2 }, tags: [1, 2] }, \"a.b\": 3, like: { $regularExpression: { pattern: \"^G\", options: \"i\" } } }".into()));
    assert!(shown.ends_with("{ $set: { berths: 4 }, $unset: { name: \"\" } };"), "{shown}");
    // A field that is given by itself counts before it: no path stands twice.
    let (mut both, _) = of(whole, Datum::Written("{ _id: \"GUL\", name: \"x\", berths: 4, place: { x: 1, y: { z: 2 }, tags: [1, 2] }, \"a.b\": 3, like: { $regularExpression: { pattern: \"^G\", options: \"i\" } } }".into()));
    both.change((0, rows[0].clone()), at("name"), Datum::Written("\"Gulls\"".into())).unwrap();
    let texts = script(&both, pier.dialect(), false);
    assert!(texts.contains("{ $set: { berths: 4, name: \"Gulls\" } };"), "{texts}");
    let (refused, _) = of(whole, Datum::Written("{ _id: \"GUL\" }".into()));
    assert_eq!(
        pier.send(session, &refused).unwrap_err().to_string(),
        "\"a.b\" cannot be named in a change: its name has a dot, or begins with a $: nothing was sent"
    );
    let (refused, _) = of(whole, Datum::Written("{ _id: \"TRN\" }".into()));
    assert!(pier.send(session, &refused).unwrap_err().to_string().starts_with("_id cannot be changed"));
    let mut lasting = slip.clone();
    let error = lasting.change((0, rows[0].clone()), 0, Datum::Written("\"TRN\"".into())).unwrap_err();
    assert!(error.to_string().starts_with("\"_id\" cannot be changed"), "{error}");
    // Fields that the statement did not read stay, also when the document is deleted and put back.
    let look = |session: &mut dyn Session| all(session, "ports | project { _id: 0, document: \"$$ROOT\" }");
    pier.there_and_back(session, &nested, look);
    let (mut part, rows_of_part) = pier.read(session, "ports | project { name: 1 }");
    assert!(part.delete((0, rows_of_part[0].clone())).unwrap());
    pier.there_and_back(session, &part, look);
    run(session, gullhaven).unwrap();
    // Somebody else changed a field within a field.
    run(other, "ports update { _id: \"GUL\" } { $set: { \"place.y.z\": 9 } }").unwrap();
    let Err(Unsent::Conflict(conflict)) = pier.send(session, &nested) else { panic!("no conflict") };
    assert_eq!(
        conflict.theirs.unwrap()[at("place")],
        Some(Datum::Written("{ x: 1, y: { z: 9 }, tags: [1, 2] }".into()))
    );
    // And took the document away.
    run(other, "ports delete { _id: \"GUL\" }").unwrap();
    let Err(Unsent::Conflict(conflict)) = pier.send(session, &nested) else { panic!("no conflict") };
    assert_eq!(conflict.theirs, None);
}

#[test]
fn what_is_kept_after_a_conflict_of_documents() {
    let server = simulated(true);
    let pier = Pier { engine: "mongodb", port: server.port() };
    let mut session = pier.connect();
    let session = session.as_mut();
    for (keep, expected) in [
        (Keep::Ours, "{\"_id\": 1, \"a\": 5, \"b\": 2}"),
        (Keep::Both, "{\"_id\": 1, \"a\": 5, \"b\": 9}"),
        (Keep::Theirs, "{\"_id\": 1, \"a\": 1, \"b\": 9}"),
    ] {
        run(session, "berths delete all {}").unwrap();
        run(session, "berths insert { _id: 1, a: 1, b: 2 } { _id: 2, note: \"x\" }").unwrap();
        let (mut slip, rows) = pier.read(session, "berths | sort { _id: 1 }");
        slip.change((0, rows[0].clone()), 1, Datum::Written("5".into())).unwrap();
        run(session, "berths update { _id: 1 } { $set: { b: 9 } }").unwrap();
        let Err(Unsent::Conflict(conflict)) = pier.send(session, &slip) else { panic!("no conflict") };
        slip.settle(&conflict, keep);
        assert_eq!(slip.is_empty(), keep == Keep::Theirs);
        if !slip.is_empty() {
            pier.send(session, &slip)
                .unwrap_or_else(|error| panic!("{error}\n{}", script(&slip, pier.dialect(), false)));
        }
        // A field that only others have is not made one that is NULL.
        let whole = "berths { _id: 1 } | project { _id: 0, document: \"$$ROOT\" }";
        assert_eq!(all(session, whole)[0][0], expected, "{keep:?}");
    }
}

/// A server without transactions refuses the second change: the first one is taken back. One with them rolls back.
#[test]
fn all_documents_are_changed_or_none() {
    for replica_set in [false, true] {
        let server = simulated(replica_set);
        let pier = Pier { engine: "mongodb", port: server.port() };
        let mut session = pier.connect();
        let session = session.as_mut();
        run(session, "berths insert { _id: 1, code: \"A\", was: 1 } { _id: 2, code: \"B\" } { _id: 3, code: \"C\" }")
            .unwrap();
        run(session, "berths index { code: 1 } { unique: true }").unwrap();
        let look = |session: &mut dyn Session| {
            all(session, "berths | sort { _id: 1 } | project { _id: 0, document: \"$$ROOT\" }")
        };
        let before = look(session);
        let (mut slip, rows) = pier.read(session, "berths | sort { _id: 1 }");
        let at = |name: &str| slip.ground.fields.iter().position(|field| field.column.name == name).unwrap();
        let (code, was) = (at("code"), at("was"));
        assert!(slip.delete((2, rows[2].clone())).unwrap());
        slip.change((0, rows[0].clone()), was, Datum::Absent).unwrap();
        slip.change((1, rows[1].clone()), code, Datum::Written("\"A\"".into())).unwrap();
        let Err(Unsent::Refused { draft: Some(2), rolled_back: true, error }) = pier.send(session, &slip) else {
            panic!("not refused, replica set: {replica_set}")
        };
        assert!(error.to_string().contains("duplicate"), "{error}");
        assert_eq!(look(session), before, "replica set: {replica_set}");
        // In a transaction that is open, where there are any, it is a part of that.
        if replica_set {
            run(session, "begin").unwrap();
            let mut slip = Slip { drafts: Vec::new(), ..slip };
            slip.change((1, rows[1].clone()), code, Datum::Written("\"D\"".into())).unwrap();
            assert!(pier.send(session, &slip).unwrap().uncommitted);
            run(session, "rollback").unwrap();
            assert_eq!(look(session), before);
        }
    }
}

#[test]
fn a_load_that_is_stopped_or_refused_leaves_no_document_of_its_block() {
    let (server, others) = (simulated(false), Documents::start());
    for port in [server.port(), others.port] {
        let pier = Pier { engine: "mongodb", port };
        let mut session = pier.connect();
        let session = session.as_mut();
        run(session, "berths insert { _id: 7, n: 0 }").unwrap();
        let columns = ["_id", "n"].map(|name| Column { name: name.into(), db_type: "int".into(), ..Column::default() });
        let batch = |from: i64| {
            let numbers = || Arc::new(Int64Array::from_iter_values(from..from + 1500)) as ArrayRef;
            RecordBatch::try_from_iter([("_id", numbers()), ("n", numbers())]).unwrap()
        };
        let count = |session: &mut dyn Session| all(session, "berths count")[0][0].clone();
        let stop = Stop::default();
        let load = |meeting, stop: &Stop| Load {
            table: "berths",
            columns: &columns,
            key: &[],
            meeting,
            dialect: pier.dialect(),
            stop: stop.clone(),
        };
        // The wish comes with the second batch.
        let mut given = 0;
        let mut next = || {
            given += 1;
            if given == 2 {
                stop.wish();
            }
            Ok(Some(batch(10_000 * given)))
        };
        let error = session.load(&load(Meeting::Refuse, &stop), &mut next).unwrap_err();
        assert_eq!((error.kind, count(session).as_str()), (ErrorKind::Stopped, "1"));
        // One in the second thousand is there already.
        let mut once = Some(batch(-1200));
        let error = session.load(&load(Meeting::Refuse, &Stop::default()), &mut || Ok(once.take())).unwrap_err();
        assert!(error.code.as_deref().is_some_and(|code| code.starts_with("11000")), "{error}");
        assert_eq!(count(session), "1", "what stood before it is removed again");
        let mut once = Some(batch(-1200));
        assert_eq!(session.load(&load(Meeting::Skip, &Stop::default()), &mut || Ok(once.take())).unwrap(), 1499);
        assert_eq!(all(session, "berths { _id: 7 }")[0][1], "0");
        let mut once = Some(batch(-1200));
        assert_eq!(session.load(&load(Meeting::Replace, &Stop::default()), &mut || Ok(once.take())).unwrap(), 1500);
        assert_eq!((all(session, "berths { _id: 7 }")[0][1].as_str(), count(session).as_str()), ("7", "1500"));
        run(session, "berths drop").unwrap();
    }
}
