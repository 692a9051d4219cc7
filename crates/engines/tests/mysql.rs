//! MariaDB, against a real server of its own, through the seam only.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, channel};
use std::sync::{Arc, LazyLock};

use arrow_schema::{DataType, TimeUnit};
use jaunty_core::connection::open;
use jaunty_engines::by_name;
use jaunty_seam::engine::{
    CatalogPart, Effect, Event, Flow, Reading, Request, Session, Sink, Stop, Switch, SwitchKind, Touches, Transaction,
};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Guard, Profile, Secret, Setting};
use jaunty_seam::rows::DB_TYPE;
use jaunty_testservers::{Mariadb, PASSWORD};
use support::{Collect, comes_true, origins, refused, rows_with, run, stopped, told};

/// One server for all tests that do not harm it.
static SERVER: LazyLock<Mariadb> = LazyLock::new(|| {
    let server = Mariadb::start();
    server.sql(
        "create table ports(id int primary key, name varchar(40) not null, opened date);
         insert into ports select seq, concat('port ', seq), '2000-01-01' from seq_1_to_1000;
         create view busy as select * from ports where id < 10; create sequence numbers;
         create database fares; create table fares.prices(route varchar(9), price decimal(8,2), primary key (route))",
    );
    server
});

fn profile(server: &Mariadb) -> Profile {
    let mut profile = Profile::new("bookings", "mysql").with("host", "127.0.0.1").with("user", "clerk");
    profile.settings.insert("port".into(), Setting::Number(i64::from(server.port)));
    // However busy this machine is, a stop is what is waited for.
    profile.settings.insert("stop_seconds".into(), Setting::Number(600));
    profile.with("database", "bookings")
}

fn secret() -> Secret {
    Secret::new(PASSWORD.into())
}

fn try_to_connect(profile: &Profile, secret: Option<&Secret>) -> Result<Box<dyn Session>, EngineError> {
    open(by_name("mysql").unwrap(), profile, secret)
}

fn connect() -> Box<dyn Session> {
    try_to_connect(&profile(&SERVER), Some(&secret())).unwrap()
}

fn one(session: &mut dyn Session, statement: &str) -> String {
    let rows = run(session, statement).unwrap_or_else(|error| panic!("{statement}: {error}")).rows();
    assert_eq!((rows.len(), rows[0].len()), (1, 1), "{statement}");
    rows[0][0].clone()
}

/// Of several servers the first is taken that can be reached, and that is what is asked for.
#[test]
fn a_server_of_several_is_chosen() {
    let [primary, follows] = [Mariadb::start(), Mariadb::start()];
    follows.sql("set global read_only = 1");
    let at = |first: u16, other: u16, target: &str| {
        let mut profile = profile(&primary).with("others", format!("127.0.0.1:{other}")).with("target", target);
        profile.settings.insert("port".into(), Setting::Number(i64::from(first)));
        profile
    };
    let reached = |profile: &Profile| -> Result<u16, String> {
        let mut session = try_to_connect(profile, Some(&secret())).map_err(|error| error.message)?;
        Ok(one(session.as_mut(), "select @@port").parse().unwrap())
    };
    let (one, other) = (primary.port, follows.port);
    for (target, wanted) in [
        ("any", other),
        ("primary", one),
        ("read-write", one),
        ("standby", other),
        ("read-only", other),
        ("prefer-standby", other),
    ] {
        assert_eq!(reached(&at(other, one, target)), Ok(wanted), "{target}");
        let reads = Profile { guard: Guard::ReadOnly, ..at(other, one, target) };
        assert_eq!(reached(&reads), Ok(wanted), "{target}, where the profile only reads");
    }
    let none = reached(&at(other, other, "primary")).unwrap_err();
    let each = format!("127.0.0.1:{other} is read-only, and target is primary");
    assert_eq!(none, format!("none of 2 servers takes the connection: {each}; {each}"));
    drop(follows);
    assert_eq!(reached(&at(other, one, "prefer-standby")), Ok(one), "the primary, where no other is there");
}

/// A column of each type with values at its ends: what the server's own client prints is what reads
/// back here.
#[test]
fn every_type_reads_back_as_the_server_writes_it() {
    let timestamp = || DataType::Timestamp(TimeUnit::Microsecond, None);
    let text = || DataType::Utf8;
    let cases: Vec<(&str, &[&str], DataType)> = vec![
        ("tinyint", &["-128", "127"], DataType::Int16),
        ("tinyint unsigned", &["255"], DataType::Int16),
        ("smallint unsigned", &["65535"], DataType::Int32),
        ("mediumint", &["-8388608"], DataType::Int32),
        ("int unsigned", &["4294967295"], DataType::Int64),
        ("bigint", &["-9223372036854775808"], DataType::Int64),
        ("bigint unsigned", &["18446744073709551615"], DataType::UInt64),
        ("int(8) zerofill", &["42"], text()),
        ("float", &["0.1", "1e20", "3.14159"], DataType::Float32),
        ("double", &["0.1", "1e15", "1e14", "1.5e-300", "123456.789", "0.00001"], DataType::Float64),
        ("double(10,2)", &["1.5"], text()),
        ("decimal(10,2)", &["-12.5", "0", "12345678.99"], DataType::Decimal128(10, 2)),
        ("decimal(38,10)", &["-1234567890123456789012345678.0123456789"], DataType::Decimal128(38, 10)),
        ("decimal(65,30)", &["12345678901234567890123456789012345.123456789012345678901234567890"], text()),
        ("bit(1)", &["1"], DataType::UInt64),
        ("date", &["'2024-02-29'", "'1000-01-01'", "'9999-12-31'"], DataType::Date32),
        ("date", &["'2024-02-29'", "'0000-00-00'", "'2024-00-10'"], text()),
        ("datetime", &["'2024-02-29 23:59:59'"], timestamp()),
        ("datetime", &["'0000-00-00 00:00:00'"], text()),
        ("datetime(3)", &["'2024-02-29 23:59:59.5'"], timestamp()),
        ("timestamp(6) null", &["'2024-06-01 12:00:00.000001'"], timestamp()),
        ("time", &["'-838:59:59'", "'12:00:00'"], text()),
        ("year", &["'2024'", "'0000'"], text()),
        ("char(4)", &["'a'"], text()),
        ("varchar(20)", &["'tide; é 名'", "''"], text()),
        ("text", &["'long'"], text()),
        ("enum('low','high')", &["'high'"], text()),
        ("set('a','b','c')", &["'a,c'"], text()),
        ("json", &["'{\"a\": [1, null]}'"], text()),
        ("uuid", &["'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'"], text()),
        ("inet6", &["'::1'"], text()),
        ("inet4", &["'10.1.2.3'"], text()),
    ];
    let mut session = connect();
    run(session.as_mut(), "set sql_mode = ''").unwrap();
    for (index, (db_type, values, data_type)) in cases.iter().enumerate() {
        let table = format!("kinds_{index}");
        run(session.as_mut(), &format!("create table {table} (n int auto_increment primary key, v {db_type})"))
            .unwrap();
        for value in *values {
            run(session.as_mut(), &format!("insert into {table} (v) values ({value})")).unwrap();
        }
        run(session.as_mut(), &format!("insert into {table} (v) values (null)")).unwrap();
        let select = format!("select v from {table} order by n");
        let found = run(session.as_mut(), &select).unwrap();
        let mut written: Vec<_> = SERVER.sql(&select).lines().map(str::to_owned).collect();
        if *db_type == "bit(1)" {
            written = vec!["1".into(), "NULL".into()];
        }
        let rows: Vec<_> = found.rows().iter().map(|row| row[0].replace('∅', "NULL")).collect();
        assert_eq!(rows, written, "{db_type}");
        let seen = found.seen.lock().unwrap();
        let field = seen.batches.last().unwrap().schema().field(0).clone();
        assert_eq!(field.data_type(), data_type, "{db_type} {values:?}");
        // The header names the type, without the lengths and values that a definition has.
        let of = &field.metadata()[DB_TYPE];
        let whole: String = db_type.split('(').next().unwrap().replace(" null", "").replace("json", "text");
        assert_eq!(of.split('(').next().unwrap().replace(" unsigned", ""), whole.replace(" unsigned", ""), "{db_type}");
    }
    // The server tells what each shape is called, too.
    run(session.as_mut(), "create table places (p point, l linestring, g geometry)").unwrap();
    run(session.as_mut(), "insert into places (p) values (point(1, 2))").unwrap();
    let found = run(session.as_mut(), "select p, l, g from places").unwrap();
    let seen = found.seen.lock().unwrap();
    let schema = seen.batches.last().unwrap().schema();
    let types: Vec<_> = schema.fields().iter().map(|field| field.metadata()[DB_TYPE].as_str()).collect();
    assert_eq!(types, ["point", "linestring", "geometry"]);
    drop(seen);
    run(session.as_mut(), "create table raw (v varbinary(9), w blob)").unwrap();
    run(session.as_mut(), "insert into raw values (x'00ff', x'')").unwrap();
    assert_eq!(run(session.as_mut(), "select * from raw").unwrap().rows(), [["00ff", ""]]);
}

#[test]
fn results_affected_rows_and_warnings_come_in_order() {
    let mut session = connect();
    for (statement, affected) in [
        ("create temporary table t(a tinyint)", None),
        ("insert into t values (1), (2), (3)", Some(3)),
        ("update t set a = 4 where a > 9", Some(0)),
        ("delete from t where a = 1", Some(1)),
    ] {
        let found = run(session.as_mut(), statement).unwrap();
        assert_eq!(found.seen.lock().unwrap().affected, [affected], "{statement}");
    }
    run(session.as_mut(), "set sql_mode = ''").unwrap();
    let found = run(session.as_mut(), "insert into t values (1000)").unwrap();
    assert_eq!(found.seen.lock().unwrap().messages, ["warning: Out of range value for column 'a' at row 1 [1264]"]);
    run(session.as_mut(), "create procedure two() begin select 1 as a; select 2, 'x'; end").unwrap();
    let found = run(session.as_mut(), "call two()").unwrap();
    let seen = found.seen.lock().unwrap();
    assert_eq!((seen.results, seen.affected.len()), (2, 0), "the results of a procedure");
    drop(seen);
    assert_eq!(one(session.as_mut(), "select 3"), "3", "the session goes on");
}

#[test]
fn errors_point_at_the_place() {
    let mut session = connect();
    let statement = "select id,\n  nmae frm ports";
    let error = refused(session.as_mut(), statement);
    insta::assert_snapshot!(error.explain(statement, 4), @r"
    You have an error in your SQL syntax; check the manual that corresponds to your MariaDB server version for the right syntax to use near 'ports' at line 2 [1064]
      5 |   nmae frm ports
        |            ^
    ");
    let error = refused(session.as_mut(), "\\. file.sql");
    assert!(error.message.contains("command-line client"), "{error}");
}

#[test]
fn a_stop_ends_what_runs_on_the_server_at_once() {
    for statement in ["select sleep(600)", "select seq, repeat('x', 1000) from seq_1_to_100000000"] {
        let mut session = connect();
        let text = statement.replace('\'', "''");
        let count = format!("select count(*) from information_schema.processlist where info = '{text}'");
        stopped(session.as_mut(), statement, || SERVER.sql(&count).trim() == "1");
        assert_eq!(one(session.as_mut(), "select 1"), "1", "the session goes on after {statement}");
    }
    let collect = Collect::up_to(1000);
    let outcome = connect().run(&Request::new("select seq from seq_1_to_100000000"), Box::new(collect.clone()));
    assert_eq!(outcome.unwrap_err().kind, ErrorKind::Stopped);
    assert!(collect.count() >= 1000);
}

#[test]
fn every_way_in() {
    let server = &*SERVER;
    let ca = server.certificates.ca.to_string_lossy().into_owned();
    let socket = server.socket().to_string_lossy().into_owned();
    for (profile, way) in [
        (profile(server), "TLSv1.3, not verified"),
        (profile(server).with("tls", "off"), "not encrypted"),
        (profile(server).with("tls", "require"), "TLSv1.3, not verified"),
        (profile(server).with("tls", "verify-full").with("tls_ca", &*ca), "TLSv1.3, verified"),
        (profile(server).with("host", "localhost").with("tls_ca", &*ca), "TLSv1.3, verified"),
        (profile(server).with("host", socket), "socket"),
    ] {
        let mut session = open(by_name("mysql").unwrap(), &profile, Some(&secret()))
            .unwrap_or_else(|error| panic!("{profile:?}: {}", told(&error, &[])));
        let location = session.location();
        assert_eq!((location.transport.as_str(), location.database.as_str()), (way, "bookings"));
        assert!(location.server.starts_with("mariadb ") && location.user.starts_with("clerk@"), "{location:?}");
        assert_eq!(one(session.as_mut(), "select 1"), "1");
    }
}

#[test]
fn a_certificate_of_our_own_is_shown() {
    let server = &*SERVER;
    server.sql(
        "create user purser@'127.0.0.1' identified by 'x' require x509; grant all on bookings.* to purser@'127.0.0.1'",
    );
    let (x, file) = (Secret::new("x".into()), |path: &std::path::Path| path.to_string_lossy().into_owned());
    let purser = profile(server).with("user", "purser");
    assert_eq!(try_to_connect(&purser, Some(&x)).err().unwrap().step, Some(Step::Secret));
    let shown = purser.with("tls_cert", file(&server.certificates.client));
    let shown = shown.with("tls_key", file(&server.certificates.client_key));
    let mut session = try_to_connect(&shown, Some(&x)).unwrap_or_else(|error| panic!("{}", told(&error, &[])));
    assert_eq!(one(session.as_mut(), "select current_user()"), "purser@127.0.0.1");
}

#[test]
fn each_step_of_connecting_has_its_own_error() {
    let server = &*SERVER;
    server.sql("create user deckhand@'127.0.0.1' identified by 'x'; grant all on bookings.* to deckhand@'127.0.0.1'; alter user deckhand@'127.0.0.1' password expire");
    let port = server.port.to_string();
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let silent = (silent.local_addr().unwrap().port(), silent);
    let nobody = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let at = |port: u16| {
        let mut profile = profile(server);
        profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
        profile.settings.insert("connect_seconds".into(), Setting::Number(1));
        profile
    };
    let stranger = tempfile::tempdir().unwrap();
    let other = jaunty_testservers::Certificates::make(stranger.path(), "root");
    let (right, wrong, x) = (secret(), Secret::new("low-water".into()), Secret::new("x".into()));
    let mut all = String::new();
    for (name, profile, secret) in [
        ("name", profile(server).with("host", "quay.invalid"), Some(&right)),
        ("nobody listens", at(nobody), Some(&right)),
        ("no socket", profile(server).with("host", "/nowhere/at/all"), None),
        ("says nothing", at(silent.0), Some(&right)),
        ("not trusted", profile(server).with("tls_ca", other.ca.to_string_lossy()), Some(&right)),
        ("no password", profile(server), None),
        ("wrong password", profile(server), Some(&wrong)),
        ("expired password", profile(server).with("user", "deckhand"), Some(&x)),
        ("no such database", profile(server).with("database", "bokings"), Some(&right)),
    ] {
        let Err(error) = try_to_connect(&profile, secret) else { panic!("{name}: connected") };
        assert_eq!(error.kind, ErrorKind::Connect, "{name}");
        let text = told(&error, &[(&port, "PORT"), (&silent.0.to_string(), "SILENT"), (&nobody.to_string(), "FREE")]);
        assert!(!text.contains("low-water") && !text.contains(PASSWORD), "{name}");
        all.push_str(&format!("{name}: {text}\n\n"));
    }
    insta::assert_snapshot!(all);
}

#[test]
fn a_read_only_profile_is_refused_writes_by_the_server() {
    let mut session = try_to_connect(&profile(&SERVER).guarded(Guard::ReadOnly), Some(&secret())).unwrap();
    for statement in ["insert into ports values (-1, 'x', null)", "delete from ports", "create table never(a int)"] {
        let error = refused(session.as_mut(), statement);
        assert_eq!(error.code.as_deref(), Some("1792"), "{statement}: {error}");
    }
    assert_eq!(one(session.as_mut(), "select count(*) from ports"), "1000");
}

#[test]
fn effects_are_told_by_the_server_without_running() {
    let mut session = connect();
    let touches = |rows, everything| Effect::Writes(Touches { rows, counted: false, everything });
    for (statement, effect) in [
        ("select * from ports", Effect::Reads),
        ("show tables", Effect::Reads),
        ("update ports set name = 'x' where id <= 10", touches(Some(10), false)),
        ("truncate ports", touches(None, true)),
        ("drop table ports", touches(None, false)),
        ("call two()", Effect::Unknown),
    ] {
        assert_eq!(session.effect(&Request::new(statement)), Ok(effect), "{statement}");
    }
    let Ok(Effect::Writes(all)) = session.effect(&Request::new("delete from ports")) else { panic!("it writes") };
    assert!(all.everything && all.rows.is_some_and(|rows| rows > 500), "{all:?}");
    assert!(session.effect(&Request::new("select nmae from ports")).is_err());
    assert_eq!(one(session.as_mut(), "select count(*) from ports"), "1000");
}

#[test]
fn it_tells_where_it_is_and_goes_elsewhere() {
    let mut session = connect();
    run(session.as_mut(), "start transaction").unwrap();
    let place = session.location();
    assert_eq!(place.transaction, Some(Transaction::Open));
    assert_eq!(place.session, format!("connection {}", one(session.as_mut(), "select connection_id()")));
    run(session.as_mut(), "rollback").unwrap();
    assert_eq!(session.location().transaction, None);
    assert_eq!(session.switch(&Switch { kind: SwitchKind::DATABASE, to: "fares".into() }, &Stop::default()), Ok(true));
    assert_eq!(session.location().database, "fares");
    assert!(session.switch(&Switch { kind: SwitchKind::DATABASE, to: "nowhere".into() }, &Stop::default()).is_err());
    assert!(session.choices(SwitchKind::DATABASE, &Stop::default()).unwrap().contains(&"bookings".to_owned()));
}

#[test]
fn a_server_that_is_killed_in_the_middle_of_rows() {
    let mut server = Mariadb::start();
    let mut session = try_to_connect(&profile(&server), Some(&secret())).unwrap();
    let collect = Collect::up_to(usize::MAX);
    let seen = collect.clone();
    let worker = std::thread::spawn(move || {
        let endless = "select seq, repeat('x', 100) from seq_1_to_1000000000";
        (session.run(&Request::new(endless), Box::new(seen)), session)
    });
    while collect.count() < 1000 {
        std::thread::yield_now();
    }
    server.kill();
    let (outcome, mut session) = worker.join().unwrap();
    assert_eq!(outcome.unwrap_err().kind, ErrorKind::Lost);
    assert!(collect.count() >= 1000, "rows that came stay");
    assert!(!session.is_alive());
    server.start_again();
    let mut session = try_to_connect(&profile(&server), Some(&secret())).unwrap();
    assert_eq!(one(session.as_mut(), "select 1"), "1");
}

#[test]
fn values_are_sent_beside_the_statement() {
    let session = &mut *connect();
    let rows = rows_with(
        session,
        "select ? + 1 as a, concat(:name, '!') as b, :none as c, ? * 2 as d, :name = 'it''s; drop' as e",
        &[("?1", "4"), (":name", "it's; drop"), (":none", "null"), ("?2", "1.25")],
    );
    assert_eq!(rows.unwrap(), [["5", "it's; drop!", "∅", "2.5", "1"]]);
    // What comes by the protocol of prepared statements reads as by the plain one.
    let all = "select cast(1.50 as decimal(6,2)), date '2031-03-05', timestamp '2031-03-05 01:02:03.25', time '-25:00:01', x'00ff', 18446744073709551615, 0.1e0, cast(null as date), year('2031-01-01')";
    let plain = run(session, all).unwrap().rows();
    assert_eq!(rows_with(session, &format!("{all} from dual where 1 = :one"), &[(":one", "1")]).unwrap(), plain);
    let found = rows_with(session, "select name from ports where id = :id", &[(":id", "7")]).unwrap();
    assert_eq!(found, [["port 7"]]);
    assert!(session.check(&Request::new("select name from ports where id = :id")).is_ok());
    // A mistake has its place in what was written, whatever stands before it.
    let statement = "select :a_rather_long_name frm where from ports";
    let wrong = rows_with(session, statement, &[(":a_rather_long_name", "1")]).unwrap_err();
    assert_eq!(wrong.at, statement.find("from"), "{wrong}");
    assert_eq!(session.check(&Request::new(statement)).unwrap_err().at, statement.find("from"));
}

#[test]
fn columns_tell_where_they_come_from() {
    let mut session = connect();
    let statement =
        "select p.name as harbour, opened, id + 1, price from ports p left join fares.prices on true limit 1";
    let expected = ["bookings.ports.name!", "bookings.ports.opened", "", "fares.prices.price"];
    assert_eq!(origins(session.as_mut(), statement), expected);
}

#[test]
fn the_server_says_what_is_one_statement() {
    let mut session = connect();
    for (text, reading) in [
        ("select 1 as a¦select 2", Reading::Shorter),
        ("select 1¦limit 3", Reading::One),
        ("select id from nothing_there¦order by id", Reading::One),
        ("select 1¦order by", Reading::Further),
        ("select from from¦select 2", Reading::Shorter),
        ("create table a (b int)¦select 1 as b", Reading::One),
        ("create table a (b int)¦select :one as b", Reading::One),
        ("drop table nothing_there¦drop table ports", Reading::Shorter),
    ] {
        let next = text.find('¦').unwrap() + 1;
        assert_eq!(session.reading(&Request::new(&text.replace('¦', "\n")), next), reading, "{text}");
    }
    assert_eq!(one(session.as_mut(), "select count(*) from ports"), "1000");
}

/// Letters in another character set are an error with a way out, and not other letters.
#[test]
fn text_in_another_character_set_is_refused_with_a_way_out() {
    let mut session = connect();
    run(session.as_mut(), "set names latin1").unwrap();
    for statement in ["select _utf8mb4 x'c3a9' as letter", "select 'a'"] {
        let error = refused(session.as_mut(), statement);
        assert_eq!(error.remedy.as_deref(), Some("Run: set names utf8mb4"), "{error}");
    }
    assert_eq!(one(session.as_mut(), "select 7"), "7", "what is no text can be read");
    for names in ["utf8mb4", "utf8mb3", "utf8mb4 collate utf8mb4_unicode_ci"] {
        run(session.as_mut(), &format!("set names {names}")).unwrap();
        assert_eq!(one(session.as_mut(), "select _utf8mb4 x'c3a9' as letter"), "é", "{names}");
    }
}

/// A sink that takes the first rows, and the others when it is allowed to.
struct Held {
    rows: Arc<AtomicUsize>,
    more: Receiver<()>,
}

impl Sink for Held {
    fn wanted(&self) -> Flow {
        Flow::Continue
    }
    fn take(&mut self, event: Event) -> Flow {
        let Event::Rows(batch) = event else { return Flow::Continue };
        let before = self.rows.fetch_add(batch.num_rows(), Ordering::SeqCst);
        if before == 0 {
            self.more.recv().unwrap();
        }
        Flow::Continue
    }
}

/// Rows that are held stay, also where the server would wait a second only for somebody who does not read.
#[test]
fn rows_that_are_held_outlast_the_patience_of_the_server() {
    let server = Mariadb::start();
    let at = || try_to_connect(&profile(&server), Some(&secret())).unwrap();
    let mut beside = at();
    run(beside.as_mut(), "set global net_write_timeout = 1").unwrap();
    let mut session = at();
    let id = session.location().session.replace("connection ", "");
    let (go_on, more) = channel();
    let rows = Arc::<AtomicUsize>::default();
    let held = Held { rows: Arc::clone(&rows), more };
    std::thread::scope(|scope| {
        // Gone if something is wrong here, so that nobody waits for it.
        let go_on = go_on;
        // More than the buffers between both hold.
        let running = scope.spawn(|| {
            session.run(&Request::new("select seq, repeat('x', 1000) as wide from seq_1_to_100000"), Box::new(held))
        });
        // By the server's own clock.
        let waits = format!("select count(*) from information_schema.processlist where id = {id} and time_ms > 3000");
        assert!(comes_true(|| one(beside.as_mut(), &waits) == "1"), "it does not wait");
        go_on.send(()).unwrap();
        running.join().unwrap().unwrap();
    });
    assert_eq!(rows.load(Ordering::SeqCst), 100_000);
}

/// A table of this session only, which the server does not list, hides one of the same name: nothing is said of it.
#[test]
fn what_only_this_session_has_is_not_known() {
    use jaunty_core::complete::Surroundings;
    use jaunty_core::problems::problems;
    use jaunty_language::dialect::MYSQL;
    let mut session = connect();
    let said = |session: &mut dyn Session, statement: &str| {
        let mut catalog = jaunty_seam::catalog::Catalog::default();
        let mut part = 0;
        while session.catalog(&CatalogPart::number(part), &mut catalog).unwrap() {
            part += 1;
        }
        catalog.complete();
        let around = Surroundings { catalog: &catalog, dialect: &MYSQL, snippets: &[], nearby: "" };
        problems(statement, around, &Default::default()).len()
    };
    for statement in ["select depth from ports", "select nothing from ports where id = 1", "select * from soundings"] {
        assert_eq!(said(session.as_mut(), statement), 1, "{statement}");
    }
    run(session.as_mut(), "create temporary table ports (depth int)").unwrap();
    run(session.as_mut(), "CREATE OR REPLACE TEMPORARY TABLE bookings.Soundings (at date)").unwrap();
    for statement in ["select depth from ports", "select at from soundings", "select 1 from bookings.soundings"] {
        assert_eq!(said(session.as_mut(), statement), 0, "{statement}");
    }
    run(session.as_mut(), "use information_schema").unwrap();
    assert_eq!(said(session.as_mut(), "select table_name from tables"), 0);
}
