//! Document databases against a server that nobody here wrote: connecting, commands, writes, guards, shapes.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::sync::LazyLock;

use jaunty_core::export::file::write_batches;
use jaunty_core::export::{Format, Options};
use jaunty_engines::by_name;
use jaunty_language::dialect::DOCUMENTS;
use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::{
    Attempt, CatalogPart, Effect, NoPrompt, Request, Session, Stop, Switch, SwitchKind, Touches, Transaction, Verdict,
};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Guard, Profile, Secret, Setting};
use jaunty_standins::{Tls, documents};
use jaunty_testservers::{Certificates, Documents, PASSWORD};
use support::{refused, run};

static SERVER: LazyLock<Documents> = LazyLock::new(|| {
    let server = Documents::start();
    server.script(
        "d = c.ferry\n\
         d.ports.insert_many([{'_id': i, 'name': f'port {i}', 'berths': i % 5, 'place': {'type': 'Point', 'coordinates': [i / 10, 51]}} for i in range(100)])\n\
         d.sailings.insert_many([{'_id': i, 'port': {'code': f'P{i % 10}'}, 'delay': i % 90, 'tags': ['a', 'b'][: i % 3]} for i in range(5000)])\n",
    );
    server
});
static GUARDED: LazyLock<Documents> = LazyLock::new(Documents::guarded);

fn profile(port: u16) -> Profile {
    let mut profile = Profile::new("pier", "mongodb").with("host", "127.0.0.1").with("database", "ferry");
    profile.settings.insert("port".into(), Setting::Number(port.into()));
    profile
}

fn connect(profile: &Profile, secret: Option<&Secret>) -> Result<Box<dyn Session>, EngineError> {
    let attempt = Attempt { profile, secret, prompt: &NoPrompt, stop: Stop::default() };
    by_name("mongodb").unwrap().connect(&attempt)
}

fn session() -> Box<dyn Session> {
    connect(&profile(SERVER.port), None).unwrap()
}

fn rows(session: &mut dyn Session, statement: &str) -> Vec<Vec<String>> {
    run(session, statement).unwrap_or_else(|error| panic!("{statement}: {error}")).rows()
}

#[test]
fn documents_are_found_and_put_together() {
    let mut session = session();
    assert_eq!(rows(session.as_mut(), "ports { _id: { $lt: 2 } }").len(), 2);
    assert_eq!(rows(session.as_mut(), "sailings").len(), 5000, "all batches come");
    let grouped = "sailings { delay: { $gt: 60 } }\n| group { _id: '$port.code', late: { $sum: 1 } }\n| sort { _id: 1 } // by port\n| limit 2";
    assert_eq!(rows(session.as_mut(), grouped), [["P0", "110"], ["P1", "165"]]);
    assert_eq!(rows(session.as_mut(), "sailings count { 'port.code': 'P3' }"), [["500"]]);
    assert_eq!(rows(session.as_mut(), "ports distinct berths").len(), 5);
    assert_eq!(rows(session.as_mut(), "{ ping: 1 }").len(), 0);
    // The columns of the first documents are known when the first row comes.
    let found = run(session.as_mut(), "ports | limit 3").unwrap();
    assert_eq!(found.seen.lock().unwrap().names, ["_id", "name", "berths", "place"]);
    assert_eq!(
        run(session.as_mut(), "ports { _id: -1 }").unwrap().seen.lock().unwrap().results,
        1,
        "even without rows"
    );
    assert_eq!(rows(session.as_mut(), "sailings { _id: 2 } | project { tags: 1 }"), [["2", "[\"a\", \"b\"]"]]);
}

#[test]
fn changes_tell_how_many_they_touched() {
    let mut session = session();
    run(session.as_mut(), "notes drop").ok();
    let affected = |session: &mut dyn Session, statement: &str| {
        let collect = run(session, statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
        collect.seen.lock().unwrap().affected.clone()
    };
    assert_eq!(
        affected(session.as_mut(), "notes insert { _id: 1, n: 1 } { _id: 2, n: 1 } { _id: 3, n: 5 }"),
        [Some(3)]
    );
    assert_eq!(affected(session.as_mut(), "notes update { n: 1 } { $inc: { n: 1 } }"), [Some(1)]);
    assert_eq!(affected(session.as_mut(), "notes update all {} { $set: { seen: true } }"), [Some(3)]);
    assert_eq!(
        affected(session.as_mut(), "notes replace { _id: 3 } { n: 7, at: { $date: '2031-03-05T12:00:00Z' } }"),
        [Some(1)]
    );
    assert_eq!(rows(session.as_mut(), "notes { _id: 3 }"), [["3", "7", "2031-03-05T12:00:00Z"]]);
    assert_eq!(affected(session.as_mut(), "notes delete { n: 1 }"), [Some(1)]);
    let error = refused(session.as_mut(), "notes insert { _id: 3 }");
    assert!(error.code.as_deref().unwrap_or_default().starts_with("11000"), "{error}");
    run(session.as_mut(), "notes index { n: -1 } { unique: true }").unwrap();
    let names: Vec<_> = rows(session.as_mut(), "notes indexes").into_iter().map(|row| row[2].clone()).collect();
    assert_eq!(names, ["_id_", "n_-1"]);
    run(session.as_mut(), "notes drop index n_-1").unwrap();
    // What lies near a point, with the index that this takes.
    run(session.as_mut(), "ports index { place: '2dsphere' }").unwrap();
    let near = "ports { place: { $near: { $geometry: { type: 'Point', coordinates: [2, 51] }, $maxDistance: 8000 } } }";
    let found = rows(session.as_mut(), near);
    assert!(found.iter().any(|row| row[1] == "port 20"), "{found:?}");
}

#[test]
fn a_mistake_has_its_place_and_a_refusal_its_code() {
    let mut session = session();
    let statement = "sailings { a: 1 b: 2 }";
    let error = refused(session.as_mut(), statement);
    assert_eq!((error.kind, error.at), (ErrorKind::Refused, statement.find("b:")));
    let error = refused(session.as_mut(), "sailings | nonsense {}");
    assert_eq!(error.kind, ErrorKind::Refused);
    assert!(error.code.is_some(), "{error}");
    assert_eq!(rows(session.as_mut(), "ports count"), [["100"]]);
}

#[test]
fn a_read_only_profile_writes_nothing_and_ask_counts() {
    let mut open = session();
    run(open.as_mut(), "kept drop").ok();
    run(open.as_mut(), "kept insert { _id: 1, n: 1 } { _id: 2, n: 1 }").unwrap();
    let mut guarded = connect(&profile(SERVER.port).guarded(Guard::ReadOnly), None).unwrap();
    for statement in [
        "kept insert { n: 1 }",
        "kept update {} { $set: { n: 2 } }",
        "kept update all {} { $set: { n: 2 } }",
        "kept replace { _id: 1 } { n: 2 }",
        "kept delete { _id: 1 }",
        "kept delete all {}",
        "kept drop",
        "kept create {}",
        "kept index { n: 1 }",
        "kept drop index n_1",
        "kept | out 'more'",
        "kept | merge { into: 'kept' }",
        "kept aggregate [{ $out: 'more' }]",
        "{ insert: 'kept', documents: [{ n: 1 }] }",
        "{ DELETE: 'kept', deletes: [{ q: {}, limit: 0 }] }",
        "{ aggregate: 'kept', pipeline: [], pipeline: [{ $out: 'more' }], cursor: {} }",
        "{ validate: 'kept', repair: true }",
        "{ findAndModify: 'kept', query: {}, remove: true }",
        "{ aggregate: 'kept', pipeline: [{ $merge: 'more' }], cursor: {} }",
        "{ explain: { delete: 'kept', deletes: [{ q: {}, limit: 0 }] }, verbosity: 'executionStats' }",
        "{ dropDatabase: 1 }",
        "{ shutdown: 1 }",
        "{ setParameter: 1, logLevel: 1 }",
        "{ mapReduce: 'kept', map: '', reduce: '', out: 'more' }",
        "{ bulkWrite: 1, ops: [], nsInfo: [] }",
        "{ eval: 'db.kept.drop()' }",
    ] {
        let error = refused(guarded.as_mut(), statement);
        assert_eq!(error.kind, ErrorKind::Refused, "{statement}: {error}");
        assert_eq!(rows(open.as_mut(), "kept count { n: 1 }"), [["2"]], "{statement}");
    }
    assert_eq!(rows(guarded.as_mut(), "kept count"), [["2"]]);
    let touches = |rows, everything| Effect::Writes(Touches { rows: Some(rows), counted: true, everything });
    for (statement, effect) in [
        ("kept", Effect::Reads),
        ("kept delete all { n: 1 }", touches(2, false)),
        ("kept delete all {}", touches(2, true)),
        ("kept update { n: 1 } { $set: { n: 2 } }", touches(1, false)),
        ("kept insert { n: 1 }", touches(1, false)),
        ("{ shutdown: 1 }", Effect::Unknown),
    ] {
        assert_eq!(open.effect(&Request::new(statement)), Ok(effect), "{statement}");
    }
}

#[test]
fn the_shape_of_a_collection_is_told_from_a_sample() {
    let mut session = session();
    let (mut catalog, mut part) = (Catalog::default(), 0);
    while session.catalog(&CatalogPart::number(part), &mut catalog).unwrap() {
        part += 1;
    }
    catalog.complete();
    let sailings = catalog.objects().iter().find(|object| object.name == "sailings").unwrap();
    let paths: Vec<_> = sailings.columns.iter().map(|column| format!("{} {}", column.name, column.db_type)).collect();
    assert_eq!(paths, ["_id int", "port object", "port.code string", "delay int", "tags array"]);
    assert_eq!((sailings.rows, sailings.comment.as_str()), (Some(5000), "shape of a sample of 200 documents"));
    assert_eq!(sailings.indexes[0].name, "_id_");
    let definition = session.definition(sailings, &Stop::default()).unwrap().unwrap();
    assert!(definition.starts_with("sailings create"), "{definition}");
}

#[test]
fn it_goes_to_other_databases() {
    let mut session = session();
    let choices = session.choices(SwitchKind::DATABASE, &Stop::default()).unwrap();
    assert!(choices.contains(&"ferry".to_owned()), "{choices:?}");
    let to = Switch { kind: SwitchKind::DATABASE, to: "elsewhere".into() };
    assert_eq!(session.switch(&to, &Stop::default()), Ok(true));
    assert_eq!(rows(session.as_mut(), "ports count"), [["0"]]);
}

#[test]
fn logins_and_certificates() {
    let server = &*GUARDED;
    let certificates = server.certificates.as_ref().unwrap();
    let ca = certificates.ca.to_string_lossy().into_owned();
    let at = || {
        let mut profile = profile(server.port).with("user", "clerk");
        profile.settings.insert("connect_seconds".into(), Setting::Number(60));
        profile
    };
    let right = Secret::new(PASSWORD.into());
    for (profile, way) in [
        (at().with("tls", "require"), "TLSv1.3, not verified"),
        (at().with("tls_ca", &*ca), "TLSv1.3, verified"),
        (
            at().with("host", "localhost").with("tls_ca", &*ca).with("auth_mechanism", "scram-sha-256"),
            "TLSv1.3, verified",
        ),
    ] {
        let mut session = connect(&profile, Some(&right)).unwrap_or_else(|error| panic!("{profile:?}: {error}"));
        assert_eq!((session.location().transport.as_str(), session.location().user.as_str()), (way, "clerk"));
        run(session.as_mut(), "{ ping: 1 }").unwrap();
    }
    let stranger = tempfile::tempdir().unwrap();
    let other = Certificates::make(stranger.path(), "root");
    let wrong = Secret::new("low-water".into());
    let nobody = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let mut elsewhere = at();
    elsewhere.settings.insert("port".into(), Setting::Number(nobody.into()));
    let mut all = String::new();
    for (name, profile, secret) in [
        ("wrong password", at().with("tls_ca", &*ca), Some(&wrong)),
        ("no password", at().with("tls_ca", &*ca), None),
        ("no TLS", at().with("tls", "off"), Some(&right)),
        ("not trusted", at().with("tls_ca", other.ca.to_string_lossy()), Some(&right)),
        ("another database of users", at().with("tls_ca", &*ca).with("auth_source", "ferry"), Some(&right)),
        ("nobody listens", elsewhere.with("tls", "require"), Some(&right)),
        ("name", at().with("host", "quay.invalid"), Some(&right)),
        ("a server without TLS", profile(SERVER.port).with("tls", "require"), None),
    ] {
        let Err(error) = connect(&profile, secret) else { panic!("{name}: connected") };
        assert_eq!(error.kind, ErrorKind::Connect, "{name}: {error}");
        let step = error.step.map(|step| step.word()).unwrap_or_default();
        let text = error
            .explain("", 1)
            .replace(&server.port.to_string(), "PORT")
            .replace(&nobody.to_string(), "FREE")
            .replace(&SERVER.port.to_string(), "OPEN");
        assert!(!text.contains("low-water") && !text.contains(PASSWORD), "{name}");
        all.push_str(&format!("{name}: {step}: {text}\n\n"));
    }
    insta::assert_snapshot!(all);
}

#[test]
fn servers_are_found_by_their_records() {
    use jaunty_documents::address::{Wanted, question};
    let names = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    let at = names.local_addr().unwrap().to_string();
    let port = SERVER.port;
    std::thread::spawn(move || {
        let mut asked = [0; 512];
        while let Ok((length, who)) = names.recv_from(&mut asked) {
            let mut answer = asked[..length].to_vec();
            (answer[2], answer[7]) = (0x81, 1);
            let servers = answer[length - 3] == 33;
            assert!(servers || answer[length - 3] == 16);
            answer.extend([0xC0, 12, 0, if servers { 33 } else { 16 }, 0, 1, 0, 0, 0, 60]);
            let mut data = Vec::new();
            if servers {
                data.extend([0, 0, 0, 0]);
                data.extend(port.to_be_bytes());
                // The same way as a question writes a name.
                let named = question(0, "127.0.0.1", Wanted::Servers);
                data.extend(&named[12..named.len() - 4]);
            } else {
                data.extend([14]);
                data.extend(b"authSource=far");
            }
            answer.extend((data.len() as u16).to_be_bytes());
            answer.extend(data);
            let _ = names.send_to(&answer, who);
        }
    });
    let mut profile = profile(1).with("host", "quay.0.0.1").with("name_server", at).with("tls", "off");
    profile.settings.insert("srv".into(), Setting::Flag(true));
    let mut session = connect(&profile, None).unwrap_or_else(|error| panic!("{error}"));
    assert_eq!(rows(session.as_mut(), "ports count"), [["100"]]);
}

#[test]
fn a_server_that_sends_anything_at_all_breaks_nothing() {
    use jaunty_documents::message::command;
    use jaunty_documents::{Bson, Document};
    use std::io::{Read as _, Write as _};

    let pair = |name: &str, value: Bson| (name.to_owned(), value);
    let rows = |n: i32| -> Bson {
        let row = |i: i32| {
            let inside: Document = vec![pair("code", Bson::text("P1")), pair("at", Bson::DateTime(i64::from(i)))];
            Bson::Document(vec![
                pair("_id", Bson::Int32(i)),
                pair("port", Bson::Document(inside)),
                pair("x", Bson::Double(0.5)),
            ])
        };
        Bson::Array((0..n).map(row).collect())
    };
    let cursor = vec![pair("id", Bson::Int64(7)), pair("ns", Bson::text("ferry.ports")), pair("firstBatch", rows(4))];
    let more = vec![pair("id", Bson::Int64(0)), pair("ns", Bson::text("ferry.ports")), pair("nextBatch", rows(3))];
    let replies: Vec<Document> = vec![
        vec![
            pair("isWritablePrimary", Bson::Bool(true)),
            pair("connectionId", Bson::Int32(3)),
            pair("ok", Bson::Int32(1)),
        ],
        vec![pair("version", Bson::text("9")), pair("ok", Bson::Int32(1))],
        vec![pair("cursor", Bson::Document(cursor)), pair("ok", Bson::Int32(1))],
        vec![pair("cursor", Bson::Document(more)), pair("ok", Bson::Int32(1))],
    ];
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for (round, stream) in listener.incoming().enumerate() {
            let (Ok(mut stream), replies) = (stream, replies.clone()) else { return };
            std::thread::spawn(move || {
                let mut random = round as u64 * 2_654_435_761 + 1;
                let mut next = move |below: usize| {
                    random = random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
                    (random >> 33) as usize % below.max(1)
                };
                let mut asked = vec![0; 64 << 10];
                // The first round is as it should be; in the others one reply is damaged.
                let damaged = if round == 0 { usize::MAX } else { round % 4 };
                for (number, reply) in replies.iter().enumerate() {
                    let Ok(16..) = stream.read(&mut asked) else { return };
                    let mut message = command(1, reply);
                    message[8..12].copy_from_slice(&(number as u32 + 1).to_le_bytes());
                    if number == damaged {
                        for _ in 0..1 + next(3) {
                            let at = next(message.len());
                            message[at] = match next(3) {
                                0 => 0xFF,
                                1 => 0,
                                _ => next(256) as u8,
                            };
                        }
                        if next(4) == 0 {
                            message.truncate(next(message.len()));
                        }
                    }
                    if stream.write_all(&message).is_err() {
                        return;
                    }
                }
            });
        }
    });
    let profile = profile(port).with("tls", "off");
    let once = |seconds: i64| -> Option<Result<usize, EngineError>> {
        let mut profile = profile.clone();
        for key in ["connect_seconds", "stop_seconds"] {
            profile.settings.insert(key.into(), Setting::Number(seconds));
        }
        let mut session = connect(&profile, None).ok()?;
        // A reply that is announced and never comes is waited for: until somebody stops it.
        let stop = Stop::default();
        let wish = stop.clone();
        let (end, over) = std::sync::mpsc::channel::<()>();
        let waiting = std::thread::spawn(move || {
            if over.recv_timeout(std::time::Duration::from_secs(seconds.unsigned_abs())).is_err() {
                wish.wish();
            }
        });
        let collect = support::Collect::up_to(usize::MAX);
        let outcome = session.run(&Request::new("ports").until(&stop), Box::new(collect.clone()));
        let _ = end.send(());
        waiting.join().unwrap();
        Some(outcome.map(|()| collect.count()))
    };
    // As it should be, once, however slow the machine is.
    assert_eq!(once(120), Some(Ok(7)));
    // Damaged ones are mostly waited for: many at once.
    let outcomes: Vec<_> = std::thread::scope(|scope| {
        let once = &once;
        let threads: Vec<_> =
            (0..20).map(|_| scope.spawn(move || (0..12).map(|_| once(1)).collect::<Vec<_>>())).collect();
        threads.into_iter().flat_map(|thread| thread.join().expect("nothing panics")).collect()
    });
    let refused = outcomes.iter().filter(|outcome| matches!(outcome, Some(Err(_)))).count();
    let not_connected = outcomes.iter().filter(|outcome| outcome.is_none()).count();
    assert!(refused > 20 && not_connected > 20, "{refused} refused, {not_connected} not connected");
}

/// A stand-in, and the profile of it.
fn simulated(options: documents::Options) -> (documents::Server, Profile) {
    let server = documents::Server::start(options).unwrap();
    let profile = profile(server.port());
    (server, profile)
}

#[test]
fn a_check_asks_for_a_plan_and_changes_nothing() {
    let (_server, profile) = simulated(documents::Options::default());
    let mut session = connect(&profile, None).unwrap();
    run(session.as_mut(), "notes insert { _id: 1 }").unwrap();
    for (statement, told) in [
        ("notes { n: { $gt: 1 } }", Ok(Verdict::Accepted)),
        ("notes delete all {}", Ok(Verdict::Accepted)),
        ("notes update all {} { $set: { n: 1 } }", Ok(Verdict::Accepted)),
        ("notes | group { _id: 1 } | out 'more'", Ok(Verdict::Accepted)),
        ("notes insert { n: 1 }", Ok(Verdict::Unknown)),
        ("notes { n: { $gtt: 1 } }", Err("$gtt")),
        ("notes\n| match {}\n| nonsense {}", Err("nonsense")),
        ("notes | group { _id: 1, n: { $summ: 1 } }", Err("$summ")),
    ] {
        let found = session.check(&Request::new(statement));
        let found = found.map_err(|error| error.at);
        assert_eq!(found, told.map_err(|at| statement.find(at)), "{statement}");
    }
    assert_eq!(rows(session.as_mut(), "notes"), [["1"]]);
}

#[test]
fn an_export_as_json_keeps_types() {
    // One of each type alone in its column, and the same in a column of several, and nested.
    SERVER.script(
        "from bson.decimal128 import Decimal128; from bson.datetime_ms import DatetimeMS; from bson.codec_options import DatetimeConversion; from bson.binary import UuidRepresentation\n\
         kinds = [1, Int64(7), Int64(1 << 40), 1.5, 7.0, 'ebb', True, ObjectId('65f0c0ffee65f0c0ffee65f0'), Decimal128('12.50'), \
         DatetimeMS(1930480200001), b'\\xca\\xfe', Binary(bytes(16), 4), Regex('^q', 'i'), Timestamp(5, 6), MinKey(), MaxKey(), \
         {'a': [Int64(1), {'b': Decimal128('1.0')}]}, [ObjectId('65f0c0ffee65f0c0ffee65f1')], float('inf'), '2031-03-05']\n\
         c.ferry.alone.insert_one({'_id': 0, **{f'k{i}': kind for i, kind in enumerate(kinds)}})\n\
         c.ferry.together.insert_many([{'_id': i, 'any': kind} for i, kind in enumerate(kinds)])\n\
         c.ferry.gaps.insert_many([{'_id': 1, 'a': 1}, {'_id': 2, 'b': ObjectId('65f0c0ffee65f0c0ffee65f0')}])\n",
    );
    let mut session = session();
    let folder = tempfile::tempdir().unwrap();
    for collection in ["alone", "together", "gaps"] {
        let batches = run(session.as_mut(), collection).unwrap().seen.lock().unwrap().batches.clone();
        for (format, ending) in [(Format::Json, "json"), (Format::JsonLines, "jsonl")] {
            let mut text = Vec::new();
            write_batches(&batches[0].schema(), &batches, (format, &Options::default()), &mut text).unwrap();
            std::fs::write(folder.path().join(format!("{collection}.{ending}")), text).unwrap();
        }
    }
    // Another reader's word for it.
    let said = SERVER.script(&format!(
        "import bson.json_util as j; from bson.codec_options import DatetimeConversion; from bson.binary import UuidRepresentation\n\
         how = j.JSONOptions(json_mode=j.JSONMode.RELAXED, datetime_conversion=DatetimeConversion.DATETIME_MS, uuid_representation=UuidRepresentation.UNSPECIFIED)\n\
         own = c.get_database('ferry', codec_options=how)\n\
         typed = lambda value: [(k, typed(v)) for k, v in value.items()] if isinstance(value, dict) else [typed(v) for v in value] if isinstance(value, list) else ('regex', value.pattern, int(value.flags)) if isinstance(value, Regex) else ('Int64', int(value)) if isinstance(value, int) and abs(value) >> 31 else (type(value).__name__, getattr(value, 'subtype', None), str(value))\n\
         for name in ('alone', 'together', 'gaps'):\n\
         \x20   there = [typed(one) for one in own[name].find()]\n\
         \x20   read = j.loads(open('{0}/' + name + '.json').read(), json_options=how)\n\
         \x20   lines = [j.loads(line, json_options=how) for line in open('{0}/' + name + '.jsonl')]\n\
         \x20   print(name, len(there), [typed(one) for one in read] == there, [typed(one) for one in lines] == there)\n\
         \x20   if [typed(one) for one in read] != there: print([pair for pair in zip(there, [typed(one) for one in read]) if pair[0] != pair[1]])\n",
        folder.path().display()
    ));
    assert_eq!(said, "alone 1 True True\ntogether 20 True True\ngaps 2 True True\n");
}

#[test]
fn plans_are_read() {
    let (_server, simulated) = simulated(documents::Options::default());
    let plans = DOCUMENTS.plans.unwrap();
    for profile in [profile(SERVER.port), simulated] {
        let mut session = connect(&profile, None).unwrap();
        let all: Vec<String> =
            (0..500).map(|i| format!("{{ _id: {i}, n: {}, port: {{ code: 'P{}' }} }}", i % 7, i % 3)).collect();
        run(session.as_mut(), "planned drop").ok();
        run(session.as_mut(), &format!("planned insert {}", all.join(" "))).unwrap();
        run(session.as_mut(), "planned index { n: 1 }").unwrap();
        for (statement, steps) in [
            ("planned { 'port.code': 'P1' }", &["collection scan"][..]),
            ("planned { n: 3 }", &["index scan"]),
            ("planned { n: { $gt: 3 } } | sort { _id: 1 } | limit 3", &["index scan"]),
            ("planned { n: 3 } | group { _id: '$port.code', n: { $sum: 1 } } | sort { n: -1 }", &["group", "sort"]),
            ("planned count { 'port.code': 'P1' }", &[]),
            ("{ find: 'planned', filter: { 'port.code': 'P1' } }", &["collection scan"]),
        ] {
            for prefix in [plans.estimated, plans.measured.unwrap()] {
                let text = jaunty_language::plan::asked(prefix, statement);
                let plan =
                    (plans.read)(&rows(session.as_mut(), &text)).unwrap_or_else(|error| panic!("{text}: {error}"));
                let told = plan.text();
                for step in steps {
                    assert!(told.contains(step), "{} {text}: {told}", session.location().server);
                }
            }
        }
    }
}

#[test]
fn values_stand_beside_a_statement() {
    use jaunty_language::statement::parameters::ParameterValue;
    let (_server, profile) = simulated(documents::Options::default());
    let mut session = connect(&profile, None).unwrap();
    run(
        session.as_mut(),
        "notes insert { _id: 1, n: 5, at: { $date: '2031-03-05T00:00:00Z' } } { _id: 2, n: 9, t: '{ $gt: 1 }' }",
    )
    .unwrap();
    let found = |session: &mut dyn Session, statement: &str, values: &[(&str, ParameterValue)]| {
        let values: Vec<_> = values.iter().map(|(name, value)| ((*name).to_owned(), value.clone())).collect();
        let collect = support::Collect::up_to(usize::MAX);
        let outcome = session.run(&Request::new(statement).with(&values), Box::new(collect.clone()));
        outcome.map(|()| collect.rows().into_iter().map(|row| row[0].clone()).collect::<Vec<_>>())
    };
    let text = |text: &str| ParameterValue::Text(text.to_owned());
    for (statement, value, ids) in [
        ("notes { n: { $gt: :x } }", ParameterValue::Int(5), &["2"][..]),
        ("notes { n: :x }", ParameterValue::Number("5.0".into()), &["1"]),
        ("notes { at: { $gte: { $date: :x } } }", text("2031-01-01"), &["1"]),
        ("notes { t: :x }", ParameterValue::Null, &["1"]),
        // It stays a text, whatever is in it.
        ("notes { t: :x }", text("{ $gt: 1 }"), &["2"]),
        ("{ find: 'notes', filter: { t: :x } }", text("', $where: '1"), &[]),
    ] {
        assert_eq!(found(session.as_mut(), statement, &[(":x", value)]).unwrap(), ids, "{statement}");
    }
    let error = found(session.as_mut(), "notes { n: :x }", &[]).unwrap_err();
    assert_eq!((error.kind, error.message.as_str()), (ErrorKind::Refused, ":x has no value"));
    // What would be touched is counted with them.
    let values = [(":x".to_owned(), ParameterValue::Int(9))];
    let effect = session.effect(&Request::new("notes delete all { n: :x }").with(&values)).unwrap();
    assert_eq!(effect, Effect::Writes(Touches { rows: Some(1), counted: true, everything: false }));
}

#[test]
fn every_way_to_log_in() {
    let folder = tempfile::tempdir().unwrap();
    let certificates = Certificates::make(folder.path(), "root");
    let ca = certificates.ca.to_string_lossy().into_owned();
    let tls = Some(Tls { cert: certificates.cert.clone(), key: certificates.key.clone() });
    let offering = |mechanism: &str| documents::Options {
        tls: tls.clone(),
        client_ca: Some(certificates.ca.clone()),
        login: Some(("clerk".into(), PASSWORD.into())),
        mechanisms: vec![mechanism.into()],
        ..documents::Options::default()
    };
    let (right, wrong) = (Secret::new(PASSWORD.into()), Secret::new("low-water".into()));
    for (offered, wanted) in
        [("SCRAM-SHA-1", None), ("SCRAM-SHA-1", Some("scram-sha-1")), ("SCRAM-SHA-256", None), ("PLAIN", Some("plain"))]
    {
        let (_server, profile) = simulated(offering(offered));
        let mut profile = profile.with("user", "clerk").with("tls_ca", &*ca);
        if let Some(wanted) = wanted {
            profile = profile.with("auth_mechanism", wanted);
        }
        let mut session =
            connect(&profile, Some(&right)).unwrap_or_else(|error| panic!("{offered} {wanted:?}: {error}"));
        assert_eq!(rows(session.as_mut(), "ports count"), [["0"]]);
        let error = connect(&profile, Some(&wrong)).err().unwrap();
        assert_eq!(error.step, Some(Step::Secret), "{offered}: {error}");
    }
    // A certificate of its own is enough.
    let (_server, profile) = simulated(offering("SCRAM-SHA-256"));
    let profile = profile
        .with("tls_ca", &*ca)
        .with("auth_mechanism", "x509")
        .with("tls_cert", certificates.cert.to_string_lossy())
        .with("tls_key", certificates.key.to_string_lossy());
    let mut session = connect(&profile, None).unwrap_or_else(|error| panic!("{error}"));
    assert_eq!(rows(session.as_mut(), "ports count"), [["0"]]);
}

#[test]
fn messages_are_made_smaller() {
    for compressor in ["snappy", "zlib"] {
        let (server, profile) = simulated(documents::Options::default());
        let mut session = connect(&profile.with("compressor", compressor), None).unwrap();
        let many: Vec<String> = (0..2000).map(|i| format!("{{ _id: {i}, text: 'ebb and flow {i}' }}")).collect();
        run(session.as_mut(), &format!("notes insert {}", many.join(" "))).unwrap();
        let found = rows(session.as_mut(), "notes");
        assert_eq!((found.len(), found[1999][1].as_str()), (2000, "ebb and flow 1999"));
        assert!(server.compressed() > 3, "{compressor}: {}", server.compressed());
    }
    // What is on this machine is not worth it, unless somebody says so.
    let (server, profile) = simulated(documents::Options::default());
    rows(connect(&profile, None).unwrap().as_mut(), "notes");
    assert_eq!(server.compressed(), 0);
}

#[test]
fn a_replica_set_is_followed() {
    let set = Some(("fleet".to_owned(), 3));
    let (server, mut profile) = simulated(documents::Options { replica_set: set, ..documents::Options::default() });
    let ports = server.ports();
    // From any member to the primary.
    profile.settings.insert("port".into(), Setting::Number(ports[2].into()));
    let mut session = connect(&profile, None).unwrap();
    assert_eq!(session.location().server, "mongodb 8.0.0, primary of fleet");
    run(session.as_mut(), "kept insert { _id: 1 }").unwrap();
    // A secondary is read from, and takes nothing.
    let mut reading = connect(&profile.clone().with("read_preference", "secondary"), None).unwrap();
    assert_eq!(reading.location().server, "mongodb 8.0.0, secondary of fleet");
    assert_eq!(rows(reading.as_mut(), "kept"), [["1"]]);
    assert!(refused(reading.as_mut(), "kept insert { _id: 2 }").code.unwrap().starts_with("10107"));
    let mut alone = profile.clone();
    alone.settings.insert("direct".into(), Setting::Flag(true));
    assert_eq!(rows(connect(&alone, None).unwrap().as_mut(), "kept"), [["1"]]);
    for wish in ["secondary-preferred", "primary-preferred", "nearest"] {
        assert_eq!(
            rows(connect(&profile.clone().with("read_preference", wish), None).unwrap().as_mut(), "kept"),
            [["1"]]
        );
    }
    // The primary goes: the connection is lost, and the next one finds the new primary.
    server.fail_over();
    assert_eq!(refused(session.as_mut(), "kept").kind, ErrorKind::Lost);
    assert!(!session.is_alive());
    profile.settings.insert("port".into(), Setting::Number(ports[0].into()));
    let others = format!("127.0.0.1:{}, 127.0.0.1:{}", ports[1], ports[2]);
    let mut session = connect(&profile.clone().with("others", others), None).unwrap_or_else(|error| panic!("{error}"));
    run(session.as_mut(), "kept insert { _id: 3 }").unwrap();
    assert_eq!(rows(session.as_mut(), "kept count"), [["2"]]);
    // Another profile of the same address knows nothing of them.
    let stranger = Profile { name: "other pier".into(), ..profile.clone() };
    assert_eq!(connect(&stranger, None).err().unwrap().step, Some(Step::Login));
    // The members that were named once are asked too, where the one of the profile is gone.
    let mut session = connect(&profile, None).unwrap_or_else(|error| panic!("{error}"));
    assert_eq!(rows(session.as_mut(), "kept count"), [["2"]]);
    // One of another set that took over the address of a member is left out.
    let (foreign, _) =
        simulated(documents::Options { replica_set: Some(("tide".to_owned(), 1)), ..documents::Options::default() });
    let mut led = profile.clone().with("others", format!("127.0.0.1:{}", foreign.port()));
    led.name = "pier".into();
    let mut session = connect(&led, None).unwrap_or_else(|error| panic!("{error}"));
    assert_eq!(session.location().server, "mongodb 8.0.0, primary of fleet");
    assert_eq!(rows(session.as_mut(), "kept count"), [["2"]]);
}

#[test]
fn what_is_slow_ends_when_somebody_wishes() {
    let (server, mut profile) = simulated(documents::Options::default());
    // However busy the machine is: a session is given up where the server does not hear in time.
    profile.settings.insert("stop_seconds".into(), Setting::Number(600));
    let mut session = connect(&profile, None).unwrap();
    run(session.as_mut(), "notes insert { _id: 1 }").unwrap();
    let blocks = |command: &str| {
        format!(
            "{{ configureFailPoint: 'failCommand', mode: {{ times: 1 }}, data: {{ failCommands: ['{command}'], blockConnection: true, blockTimeMS: 60000 }}, $db: 'admin' }}"
        )
    };
    for (statement, command) in [("notes", "find"), ("notes | match {}", "aggregate"), ("notes count {}", "count")] {
        run(session.as_mut(), &blocks(command)).unwrap();
        let stop = Stop::default();
        let wish = stop.clone();
        let begun = std::time::Instant::now();
        let collect = support::Collect::up_to(usize::MAX);
        let error = std::thread::scope(|scope| {
            scope.spawn(|| {
                while !server.is_running(command) {
                    std::thread::yield_now();
                }
                wish.wish();
            });
            session.run(&Request::new(statement).until(&stop), Box::new(collect)).unwrap_err()
        });
        assert_eq!(error.kind, ErrorKind::Stopped, "{statement}: {error}");
        assert!(begun.elapsed() < std::time::Duration::from_secs(30), "the operation was ended, not waited for");
        assert_eq!(rows(session.as_mut(), "notes"), [["1"]], "the connection goes on");
    }
    // Between two batches: the cursor is let go.
    let many: Vec<String> = (10..3000).map(|i| format!("{{ _id: {i} }}")).collect();
    run(session.as_mut(), &format!("notes insert {}", many.join(" "))).unwrap();
    run(session.as_mut(), &blocks("getMore")).unwrap();
    let stop = Stop::default();
    let wish = stop.clone();
    let collect = support::Collect::up_to(usize::MAX);
    let error = std::thread::scope(|scope| {
        scope.spawn(|| {
            while !(server.is_running("getMore") && collect.count() == 101) {
                std::thread::yield_now();
            }
            wish.wish();
        });
        session.run(&Request::new("notes").until(&stop), Box::new(collect.clone())).unwrap_err()
    });
    assert_eq!((error.kind, collect.count()), (ErrorKind::Stopped, 101), "what came before stays");
    assert_eq!(rows(session.as_mut(), "notes count"), [["2991"]]);
    server.cut();
    assert_eq!(refused(session.as_mut(), "notes").kind, ErrorKind::Lost);
}

#[test]
fn searches_that_lack_their_index_say_so() {
    let (_server, profile) = simulated(documents::Options::default());
    let mut session = connect(&profile, None).unwrap();
    run(
        session.as_mut(),
        "ports insert { _id: 1, name: 'Saltmarsh Quay', place: { type: 'Point', coordinates: [1, 51] } }",
    )
    .unwrap();
    for (statement, index) in [
        ("ports { $text: { $search: 'quay' } }", "ports index { name: 'text' }"),
        (
            "ports { place: { $near: { $geometry: { type: 'Point', coordinates: [1, 51] } } } }",
            "ports index { place: '2dsphere' }",
        ),
        (
            "ports | geoNear { near: { type: 'Point', coordinates: [1, 51] }, distanceField: 'm' }",
            "ports index { place: '2dsphere' }",
        ),
    ] {
        if index.contains("text") || rows(session.as_mut(), "ports indexes").len() < 3 {
            let error = refused(session.as_mut(), statement);
            assert!(error.remedy.unwrap_or_default().contains("index {"), "{statement}");
            // It is told before it runs, where it stands.
            let told = session.check(&Request::new(statement)).unwrap_err();
            assert_eq!((told.code, told.at.is_some()), (error.code, true), "{statement}");
            run(session.as_mut(), index).unwrap();
        }
        assert_eq!(rows(session.as_mut(), statement).len(), 1, "{statement}");
    }
}

#[test]
fn transactions_hold_together() {
    let set = || Some(("fleet".to_owned(), 1));
    let (_server, profile) = simulated(documents::Options { replica_set: set(), ..documents::Options::default() });
    let mut session = connect(&profile, None).unwrap();
    let mut other = connect(&profile, None).unwrap();
    run(session.as_mut(), "kept insert { _id: 1, n: 1 }").unwrap();
    // What is done is seen inside and nowhere else, until it is committed.
    for (end, left) in [("rollback", "1"), ("commit", "2")] {
        run(session.as_mut(), "begin").unwrap();
        assert_eq!(session.location().transaction, Some(Transaction::Open));
        run(session.as_mut(), "kept insert { _id: 2, n: 1 }").unwrap();
        assert_eq!(rows(session.as_mut(), "kept").len(), 2);
        assert_eq!(rows(other.as_mut(), "kept count"), [["1"]]);
        run(session.as_mut(), end).unwrap();
        assert_eq!(session.location().transaction, None);
        assert_eq!(rows(other.as_mut(), "kept count"), [[left]]);
    }
    // Several batches of one cursor are in it too.
    let many: Vec<String> = (10..500).map(|i| format!("{{ _id: {i} }}")).collect();
    run(session.as_mut(), "begin").unwrap();
    run(session.as_mut(), &format!("kept insert {}", many.join(" "))).unwrap();
    assert_eq!(rows(session.as_mut(), "kept").len(), 492);
    // What fails has ended it: only its end is left.
    refused(session.as_mut(), "kept insert { _id: 1 }");
    assert_eq!(session.location().transaction, Some(Transaction::Failed));
    let error = refused(session.as_mut(), "commit");
    assert!(error.message.contains("rolled it back"), "{error}");
    assert_eq!(
        (session.location().transaction, rows(session.as_mut(), "kept count")),
        (None, vec![vec!["2".to_owned()]])
    );
    // Somebody else was quicker.
    run(session.as_mut(), "begin").unwrap();
    run(session.as_mut(), "kept update { _id: 1 } { $set: { n: 2 } }").unwrap();
    run(other.as_mut(), "kept update { _id: 1 } { $set: { n: 3 } }").unwrap();
    assert_eq!(refused(session.as_mut(), "commit").kind, ErrorKind::Locked);
    assert_eq!(rows(session.as_mut(), "kept { _id: 1 }"), [["1", "3"]]);
    // Nothing ran in it; and ends without a beginning.
    run(session.as_mut(), "begin").unwrap();
    refused(session.as_mut(), "begin");
    run(session.as_mut(), "commit").unwrap();
    refused(session.as_mut(), "rollback");
    // Alone a server has none.
    let (_alone, profile) = simulated(documents::Options::default());
    let error = refused(connect(&profile, None).unwrap().as_mut(), "begin");
    assert!(error.message.contains("replica set"), "{error}");
}

#[test]
fn names_that_are_data_do_not_become_columns_without_an_end() {
    let (_server, profile) = simulated(documents::Options::default());
    let mut session = connect(&profile, None).unwrap();
    let all: Vec<String> = (0..1500).map(|i| format!("{{ _id: {i}, k{i}: {i}, 'z\"{i}': 'x' }}")).collect();
    run(session.as_mut(), &format!("tally insert {}", all.join(" "))).unwrap();
    let found = run(session.as_mut(), "tally | sort { _id: 1 }").unwrap();
    let batches = found.seen.lock().unwrap().batches.clone();
    let schema = batches.last().unwrap().schema();
    assert_eq!((schema.fields().len(), schema.fields().last().unwrap().name().as_str()), (1001, "(others)"));
    let rows = found.rows();
    assert_eq!((rows.len(), rows[400][801].as_str()), (1500, "400"));
    assert_eq!(rows[1499].last().unwrap(), "{\"k1499\": 1499, \"z\\\"1499\": \"x\"}");
}
