//! The engine of SQL Server against its stand-in: connecting, values, messages, errors, guards, plans.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::sync::LazyLock;

use jaunty_engines::by_name;
use jaunty_language::dialect::SQLSERVER;
use jaunty_seam::catalog::{Catalog, ObjectKind, Rule};
use jaunty_seam::engine::{
    Attempt, CatalogPart, Effect, Event, Flow, NoPrompt, Request, Session, Sink, Stop, Switch, SwitchKind, Touches,
    Transaction,
};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Guard, Profile, Secret, Setting};
use jaunty_standins::tds::{Options, Server, Tls};
use jaunty_testservers::Certificates;
use support::{refused, run};

struct Secured {
    server: Server,
    certificates: Certificates,
    _folder: tempfile::TempDir,
}

fn secured(requires_tls: bool) -> Secured {
    let folder = tempfile::tempdir().unwrap();
    let certificates = Certificates::make(folder.path(), "root");
    let tls = Some(Tls { cert: certificates.cert.clone(), key: certificates.key.clone() });
    let server = Server::start(Options { tls, requires_tls, ..Options::default() }).unwrap();
    Secured { server, certificates, _folder: folder }
}

/// A server with TLS, and one without.
static SECURED: LazyLock<Secured> = LazyLock::new(|| secured(false));
static PLAIN: LazyLock<Server> = LazyLock::new(|| Server::start(Options::default()).unwrap());

fn profile(port: u16) -> Profile {
    let mut profile = Profile::new("office", "sqlserver").with("host", "127.0.0.1").with("user", "clerk");
    profile.settings.insert("port".into(), Setting::Number(port.into()));
    // However busy the machine is: a session is given up where the server does not hear in time.
    profile.settings.insert("stop_seconds".into(), Setting::Number(600));
    profile.with("database", "ferry")
}

fn flag(mut profile: Profile, key: &str) -> Profile {
    profile.settings.insert(key.into(), Setting::Flag(true));
    profile
}

fn secret() -> Secret {
    Secret::new(Options::default().password)
}

fn connect(profile: &Profile, secret: Option<&Secret>) -> Result<Box<dyn Session>, EngineError> {
    let attempt = Attempt { profile, secret, prompt: &NoPrompt, stop: Stop::default() };
    by_name("sqlserver").unwrap().connect(&attempt)
}

fn session() -> Box<dyn Session> {
    connect(&profile(PLAIN.port()), Some(&secret())).unwrap()
}

fn one(session: &mut dyn Session, statement: &str) -> String {
    run(session, statement).unwrap_or_else(|error| panic!("{statement}: {error}")).rows()[0][0].clone()
}

#[test]
fn every_way_in() {
    let secured = &*SECURED;
    let ca = secured.certificates.ca.to_string_lossy().into_owned();
    let at = || profile(secured.server.port());
    for (profile, way) in [
        (profile(PLAIN.port()), "not encrypted"),
        (at(), "TLSv1.2, not verified"),
        (at().with("tls", "off"), "not encrypted"),
        (at().with("tls", "require"), "TLSv1.2, not verified"),
        (at().with("tls", "verify-full").with("tls_ca", &*ca), "TLSv1.2, verified"),
        (at().with("host", "localhost").with("tls_ca", &*ca), "TLSv1.2, verified"),
        (flag(at().with("tls_ca", &*ca), "tls_first"), "TLSv1.3, verified"),
        (at().with("login", "token"), "TLSv1.2, not verified"),
        (at().with("host", "127.0.0.1\\PIER"), "TLSv1.2, not verified"),
    ] {
        let mut session = connect(&profile, Some(&secret())).unwrap_or_else(|error| panic!("{profile:?}: {error}"));
        let location = session.location();
        assert_eq!((location.transport.as_str(), location.database.as_str()), (way, "ferry"), "{profile:?}");
        assert!(location.server.starts_with("sqlserver 16.0.") && location.schema == "dbo", "{location:?}");
        assert_eq!(one(session.as_mut(), "select 1"), "1");
    }
}

#[test]
fn the_port_of_an_instance_is_asked_for() {
    let browser = std::net::UdpSocket::bind("127.0.0.1:0").unwrap();
    let at = browser.local_addr().unwrap().port();
    let answering = std::thread::spawn(move || {
        let mut question = [0; 100];
        let (length, who) = browser.recv_from(&mut question).unwrap();
        assert_eq!(&question[..length], b"\x04pier\0");
        let told = format!("ServerName;QUAY;InstanceName;PIER;IsClustered;No;Version;16.0.1;tcp;{};;", PLAIN.port());
        let mut answer = vec![5];
        answer.extend((told.len() as u16).to_le_bytes());
        answer.extend(told.as_bytes());
        browser.send_to(&answer, who).unwrap();
    });
    let mut profile = profile(1).with("host", "127.0.0.1\\pier");
    profile.settings.remove("port");
    profile.settings.insert("browser_port".into(), Setting::Number(at.into()));
    let mut session = connect(&profile, Some(&secret())).unwrap_or_else(|error| panic!("{error}"));
    answering.join().unwrap();
    assert_eq!(one(session.as_mut(), "select db_name()"), "ferry");
}

#[test]
fn a_login_that_only_reads_is_sent_to_another_server() {
    let reading = Server::start(Options::default()).unwrap();
    let first = Server::start(Options { reading_port: Some(reading.port()), ..Options::default() }).unwrap();
    let guarded = profile(first.port()).guarded(Guard::ReadOnly);
    let mut session = connect(&guarded, Some(&secret())).unwrap_or_else(|error| panic!("{error}"));
    drop(first);
    assert_eq!(one(session.as_mut(), "select 1"), "1");
}

#[test]
fn each_step_of_connecting_has_its_own_error() {
    let secured = &*SECURED;
    let at = |port: u16| {
        let mut profile = profile(port);
        profile.settings.insert("connect_seconds".into(), Setting::Number(60));
        profile
    };
    // Where nothing is said that would be waited for.
    let brief = |mut profile: Profile| {
        profile.settings.insert("connect_seconds".into(), Setting::Number(1));
        profile
    };
    let (plain, safe) = (PLAIN.port(), secured.server.port());
    let required = secured_by_need();
    let silent = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let silent_port = silent.local_addr().unwrap().port();
    let rude = rude_server();
    let nobody = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let stranger = tempfile::tempdir().unwrap();
    let other = Certificates::make(stranger.path(), "root");
    let mut instance = brief(at(1)).with("host", "127.0.0.1\\gull");
    instance.settings.remove("port");
    instance.settings.insert("browser_port".into(), Setting::Number(nobody.into()));
    let mut through = instance.clone().with("ssh", "clerk@127.0.0.1");
    through.settings.remove("browser_port");
    let (right, wrong) = (secret(), Secret::new("low-water".into()));
    let mut all = String::new();
    for (name, profile, secret) in [
        ("name", at(plain).with("host", "quay.invalid"), Some(&right)),
        ("nobody listens", at(nobody), Some(&right)),
        ("instance not found", instance, Some(&right)),
        ("instance through ssh", through, Some(&right)),
        ("another instance", brief(at(plain)).with("host", "127.0.0.1\\gull"), None),
        ("says nothing", brief(at(silent_port)), Some(&right)),
        ("says something else", brief(at(rude)), Some(&right)),
        ("no TLS", at(plain).with("tls", "require"), Some(&right)),
        ("TLS is required", at(required.server.port()).with("tls", "off"), Some(&right)),
        ("TLS first, and none is there", flag(at(plain).with("tls", "require"), "tls_first"), Some(&right)),
        ("TLS first, and off", flag(at(plain).with("tls", "off"), "tls_first"), Some(&right)),
        ("not trusted", at(safe).with("tls_ca", other.ca.to_string_lossy()), Some(&right)),
        ("no password", at(plain), None),
        ("wrong password", at(plain), Some(&wrong)),
        ("no such database", at(plain).with("database", "fery"), Some(&right)),
    ] {
        let Err(error) = connect(&profile, secret) else { panic!("{name}: connected") };
        assert_eq!(error.kind, ErrorKind::Connect, "{name}: {error}");
        let text = error.explain("", 1);
        assert!(!text.contains("low-water") && !text.contains("salt and fog"), "{name}");
        let step = error.step.map(Step::word).unwrap_or_default();
        let mut text = format!("{name}: {step}: {text}");
        for (port, name) in [
            (plain, "PLAIN"),
            (safe, "SAFE"),
            (required.server.port(), "SAFE"),
            (silent_port, "SILENT"),
            (rude, "RUDE"),
            (nobody, "FREE"),
        ] {
            text = text.replace(&port.to_string(), name);
        }
        all.push_str(&format!("{text}\n\n"));
    }
    insta::assert_snapshot!(all);
}

fn secured_by_need() -> Secured {
    secured(true)
}

/// A server of another kind.
fn rude_server() -> u16 {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            use std::io::Write;
            let _ = (&stream).write_all(b"220 quay.example ESMTP ready\r\n");
            std::mem::forget(stream);
        }
    });
    port
}

/// What came, in the order in which it came.
#[derive(Clone, Default)]
struct InOrder(std::sync::Arc<std::sync::Mutex<Vec<String>>>);

impl Sink for InOrder {
    fn wanted(&self) -> Flow {
        Flow::Continue
    }
    fn take(&mut self, event: Event) -> Flow {
        let told = match event {
            Event::Begins { schema, .. } => {
                format!("begins {}", schema.fields().iter().map(|f| f.name().as_str()).collect::<Vec<_>>().join(","))
            }
            Event::Rows(batch) => format!("rows {}", batch.num_rows()),
            Event::Ends { affected } => format!("ends {affected:?}"),
            Event::Message(message) => {
                format!("{} {:?} {:?}: {}", message.severity, message.code, message.line, message.text)
            }
            Event::Output(row) => format!("output {:?}", row.schema().field(0).name()),
            Event::Progress(_) | Event::QueryId(_) => return Flow::Continue,
        };
        let mut all = self.0.lock().unwrap();
        // Rows that come one by one are rows of one result: how they arrive is the machine's affair.
        let rows = |told: &str| told.strip_prefix("rows ").and_then(|rows| rows.parse::<usize>().ok());
        match (all.last().and_then(|last| rows(last)), rows(&told)) {
            (Some(before), Some(more)) => *all.last_mut().unwrap() = format!("rows {}", before + more),
            _ => all.push(told),
        }
        Flow::Continue
    }
}

fn in_order(session: &mut dyn Session, statement: &str) -> (Vec<String>, Result<(), EngineError>) {
    let sink = InOrder::default();
    let outcome = session.run(&Request::new(statement), Box::new(sink.clone()));
    let told = sink.0.lock().unwrap().clone();
    (told, outcome)
}

#[test]
fn results_counts_and_messages_come_in_order() {
    let mut session = session();
    let (told, outcome) = in_order(
        session.as_mut(),
        "create table #t (id int)\nprint 'ebb'\ninsert into #t values (1), (2)\nselect id from #t\nraiserror('flood', 10, 1)\nselect 5 as five",
    );
    outcome.unwrap();
    insta::assert_snapshot!(told.join("\n"), @r#"
    message None Some(2): ebb
    ends Some(2)
    begins id
    rows 2
    ends None
    message Some("50000") Some(5): flood
    begins five
    rows 1
    ends None
    "#);
}

#[test]
fn a_message_that_is_sent_at_once_arrives_while_the_batch_runs() {
    let mut session = session();
    let stop = Stop::default();
    let sink = InOrder::default();
    let told = sink.clone();
    let outcome = std::thread::scope(|scope| {
        let request = Request::new("raiserror('fog', 10, 1) with nowait waitfor delay '00:10:00'").until(&stop);
        let (session, sink) = (session.as_mut(), sink.clone());
        let worker = scope.spawn(move || session.run(&request, Box::new(sink)));
        while told.0.lock().unwrap().is_empty() {
            std::thread::yield_now();
        }
        stop.wish();
        worker.join().unwrap()
    });
    assert_eq!(outcome.unwrap_err().kind, ErrorKind::Stopped);
    assert_eq!(one(session.as_mut(), "select 1"), "1", "the session goes on");
}

#[test]
fn errors_are_put_where_they_are() {
    let mut session = session();
    run(session.as_mut(), "create or alter procedure broken as\nselect 1\n\nselect nmae from sys.objects").unwrap();
    let at =
        |error: &EngineError, statement: &str| error.at.map(|at| statement[at..].lines().next().unwrap().to_owned());
    let statement = "select 1\nselect nmae\nfrom sys.objects";
    let error = refused(session.as_mut(), statement);
    assert_eq!((error.code.as_deref(), at(&error, statement).as_deref()), (Some("207"), Some("nmae")), "{error}");
    let statement = "select 1\n  from dbo.prots";
    let error = refused(session.as_mut(), statement);
    assert_eq!((error.code.as_deref(), at(&error, statement).as_deref()), (Some("208"), Some("dbo.prots")), "{error}");
    // Other languages have their limit at the end.
    let error = refused(session.as_mut(), "select * from sys.objects limit 5");
    assert_eq!(error.code.as_deref(), Some("102"), "{error}");
    let error = refused(session.as_mut(), "exec broken");
    assert_eq!(error.to_string(), "Invalid column name 'nmae' (in broken, line 4) [207]");
    assert_eq!(error.at, None);
    // Of several errors the last is the error, and those before are told.
    let (told, outcome) = in_order(session.as_mut(), "raiserror('one', 16, 1)\nraiserror('two', 16, 1)");
    assert_eq!(
        (told.first().map(String::as_str), outcome.unwrap_err().to_string().as_str()),
        (Some("error Some(\"50000\") Some(1): one"), "two [50000]")
    );
    // In what follows a line with GO, lines are those of the whole.
    let statement = "select 1\ngo\nselect 2\nselect nope from sys.objects";
    let error = refused(session.as_mut(), statement);
    assert_eq!(at(&error, statement).as_deref(), Some("nope from sys.objects"));
}

#[test]
fn batches_are_sent_one_by_one_and_as_often_as_they_say() {
    let mut session = session();
    run(session.as_mut(), "drop table if exists tally; create table tally (id int)").unwrap();
    run(session.as_mut(), "insert into tally values (1)\ngo 5\ninsert into tally values (2)\nGO").unwrap();
    assert_eq!(one(session.as_mut(), "select count(*) from tally"), "6");
    // What is between quotes ends nothing.
    assert_eq!(one(session.as_mut(), "select 'a\ngo\nb'"), "a\ngo\nb");
}

#[test]
fn procedures_give_values_back() {
    let mut session = session();
    run(
        session.as_mut(),
        "create or alter procedure doubled @n int, @twice int output as begin set @twice = @n * 2; return 7 end",
    )
    .unwrap();
    assert_eq!(one(session.as_mut(), "declare @x int exec doubled @n = 21, @twice = @x output select @x"), "42");
    let (told, outcome) = in_order(session.as_mut(), "declare @x int exec doubled 1, @x output");
    outcome.unwrap();
    assert!(told.contains(&"output \"return value\"".to_owned()), "{told:?}");
    // As a parameter of the statement.
    let sink = InOrder::default();
    let values = [(":x".to_owned(), jaunty_language::statement::parameters::ParameterValue::Int(3))];
    let request = Request::new("set :x = 4 select :x output").with(&values);
    let _ = session.run(&request, Box::new(sink));
    assert_eq!(one(session.as_mut(), "select 1"), "1");
}

#[test]
fn values_of_every_type_are_as_the_server_writes_them() {
    let mut session = session();
    let wanted = [
        ("cast(255 as tinyint)", "255", "tinyint"),
        ("cast(-32768 as smallint)", "-32768", "smallint"),
        ("cast(1 as bit)", "1", "bit"),
        ("cast('922337203685477.5807' as money)", "922337203685477.5807", "money"),
        ("cast('-214748.3648' as smallmoney)", "-214748.3648", "smallmoney"),
        (
            "cast('99999999999999999999999999999999999999' as decimal(38,0))",
            "99999999999999999999999999999999999999",
            "decimal(38,0)",
        ),
        ("cast(0.25 as real)", "0.25", "real"),
        ("cast(1e300 as float)", "1e300", "float"),
        ("cast('0001-01-01' as date)", "0001-01-01", "date"),
        ("cast('23:59:59.9999999' as time(7))", "23:59:59.9999999", "time(7)"),
        ("cast('23:59:59' as time(0))", "23:59:59", "time(0)"),
        ("cast('1753-01-01' as datetime)", "1753-01-01 00:00:00.000", "datetime"),
        ("cast('2031-03-05 12:30' as smalldatetime)", "2031-03-05 12:30:00", "smalldatetime"),
        ("cast('9999-12-31 23:59:59.9999999' as datetime2)", "9999-12-31 23:59:59.9999999", "datetime2(7)"),
        ("cast('2031-03-05 12:30:00.123' as datetime2(3))", "2031-03-05 12:30:00.123", "datetime2(3)"),
        (
            "cast('2031-03-05 23:30:00 -11:30' as datetimeoffset(2))",
            "2031-03-05 23:30:00.00 -11:30",
            "datetimeoffset(2)",
        ),
        (
            "cast('00112233-4455-6677-8899-aabbccddeeff' as uniqueidentifier)",
            "00112233-4455-6677-8899-AABBCCDDEEFF",
            "uniqueidentifier",
        ),
        ("cast('é' as char(3))", "é  ", "char(3)"),
        ("cast(N'港é' as nvarchar(10))", "港é", "nvarchar(10)"),
        ("cast('é€' as varchar(10))", "é?", "varchar(10)"),
        ("cast(N'x' as nchar(2))", "x ", "nchar(2)"),
        ("cast(replicate('ab', 9000) as varchar(max))", "ab", "varchar(max)"),
        ("cast(0xcafe as varbinary(4))", "cafe", "varbinary(4)"),
        ("cast(0xcafe as binary(4))", "cafe0000", "binary(4)"),
        ("cast(0x0000000000000007 as rowversion)", "0000000000000007", "rowversion"),
        ("cast('<quay/>' as xml)", "<quay/>", "xml"),
        ("cast('old' as ntext)", "old", "ntext"),
        ("cast(0xcafe as image)", "cafe", "image"),
        ("cast(7 as sql_variant)", "7", "sql_variant"),
        ("cast(0x5ac0 as hierarchyid)", "/1/1/", "hierarchyid"),
        ("cast(0xE6100000010C0000000000C04940000000000000D0BF as geography)", "POINT (-0.25 51.5)", "geography"),
    ];
    for (expression, text, name) in wanted {
        let collect =
            run(session.as_mut(), &format!("select {expression} as v")).unwrap_or_else(|e| panic!("{expression}: {e}"));
        let row = collect.rows()[0][0].clone();
        let field = collect.seen.lock().unwrap().batches[0].schema().field(0).clone();
        let of = field.metadata().get(jaunty_seam::rows::DB_TYPE).cloned().unwrap_or_default();
        match name {
            "varchar(max)" => assert_eq!(row, "ab".repeat(9000)),
            _ => assert_eq!(row, text, "{expression}"),
        }
        assert_eq!(of, name, "{expression}");
        // NULL of the same type.
        let null = expression.replacen(|c: char| c != 'c', "c", 0);
        let (_, of) = null.rsplit_once(" as ").unwrap();
        assert_eq!(one(session.as_mut(), &format!("select cast(null as {of} as v")), "∅", "{of}");
    }
}

/// A row that is long is a batch of its own, and what is long in it becomes text and bytes where it lies.
#[test]
fn long_values_arrive_among_others() {
    let mut session = session();
    for (expression, text) in [
        ("cast(replicate('ab', 900000) as varchar(max))", "ab".repeat(900_000)),
        ("cast(replicate('é', 1500000) as varchar(max))", "é".repeat(1_500_000)),
        ("cast(replicate(N'é', 900000) as nvarchar(max))", "é".repeat(900_000)),
        // More bytes in UTF-8 than in UTF-16: there is no room where it lies.
        ("cast(replicate(N'港', 900000) as nvarchar(max))", "港".repeat(900_000)),
        ("cast(replicate('a', 1500000) as varbinary(max))", "61".repeat(1_500_000)),
        ("cast('<q>' + replicate('x', 900000) + '</q>' as xml)", format!("<q>{}</q>", "x".repeat(900_000))),
    ] {
        let statement = format!("select 1 as a, {expression} as v, cast(null as nvarchar(max)) as n, N'z' as z");
        let found = run(session.as_mut(), &statement).unwrap_or_else(|error| panic!("{expression}: {error}"));
        assert_eq!(found.batches(), [1], "{expression}");
        let row = &found.rows()[0];
        assert!(row[..] == ["1".to_owned(), text, "∅".to_owned(), "z".to_owned()], "{expression}");
        assert_eq!(one(session.as_mut(), "select 1"), "1");
    }
}

#[test]
fn the_session_knows_where_it_is() {
    let mut session = session();
    assert_eq!(session.location().user, "clerk");
    run(session.as_mut(), "begin transaction begin transaction").unwrap();
    assert_eq!(session.location().transaction, Some(Transaction::Open));
    run(session.as_mut(), "commit").unwrap();
    assert_eq!(session.location().transaction, Some(Transaction::Open), "the outer one is open");
    run(session.as_mut(), "rollback").unwrap();
    assert_eq!(session.location().transaction, None);
    run(session.as_mut(), "use master").unwrap();
    assert_eq!(session.location().database, "master");
    let choices = session.choices(SwitchKind::DATABASE, &Stop::default()).unwrap();
    assert_eq!(choices, ["ferry", "master"]);
    let to = |name: &str| Switch { kind: SwitchKind::DATABASE, to: name.into() };
    assert_eq!(session.switch(&to("ferry"), &Stop::default()), Ok(true));
    assert!(session.switch(&to("nowhere"), &Stop::default()).is_err());
    assert_eq!(session.location().database, "ferry");
}

#[test]
fn an_effect_is_told_by_the_plan() {
    let mut session = session();
    run(
        session.as_mut(),
        "drop table if exists effects; create table effects (id int); insert into effects values (1), (2), (3)",
    )
    .unwrap();
    run(session.as_mut(), "create or alter procedure sweeping as delete from effects").unwrap();
    run(session.as_mut(), "create or alter procedure looking as select * from effects").unwrap();
    let touches = |rows, everything| Effect::Writes(Touches { rows: Some(rows), counted: false, everything });
    for (statement, effect) in [
        ("select * from effects", Effect::Reads),
        ("declare @a int = 1 select @a", Effect::Reads),
        ("update effects set id = 5 where id > 1", touches(2, false)),
        ("delete from effects", touches(3, true)),
        ("exec sweeping", touches(3, false)),
        ("exec looking", Effect::Reads),
        ("exec ('delete from effects')", Effect::Unknown),
        ("set nocount on", Effect::Reads),
    ] {
        assert_eq!(session.effect(&Request::new(statement)), Ok(effect), "{statement}");
    }
    assert!(session.effect(&Request::new("select nmae from effects")).is_err());
    assert_eq!(one(session.as_mut(), "select count(*) from effects"), "3");
}

#[test]
fn a_read_only_profile_writes_nothing() {
    let mut open = session();
    run(open.as_mut(), "drop table if exists kept; create table kept (id int); insert into kept values (1)").unwrap();
    run(open.as_mut(), "create or alter procedure sneaky as delete from kept").unwrap();
    let guarded = profile(PLAIN.port()).guarded(Guard::ReadOnly);
    let engine = by_name("sqlserver").unwrap();
    let mut session = jaunty_core::connection::open(engine, &guarded, Some(&secret())).unwrap();
    for statement in [
        "insert into kept values (2)",
        "INSERT kept SELECT 2",
        "update kept set id = 2",
        "delete from kept",
        "delete kept",
        "truncate table kept",
        "drop table kept",
        "create table more (id int)",
        "alter table kept add note int",
        "select * into more from kept",
        "with a as (select 1 as id) insert into kept select id from a",
        "select 1 delete from kept",
        "select 1\ngo\ndelete from kept",
        "set nocount on delete from kept",
        "set nocount on\ngo\ndelete from kept",
        "declare @a int = 1 delete from kept",
        "begin transaction delete from kept commit",
        "if 1 = 1 delete from kept",
        "while 1 = 1 begin delete from kept break end",
        "begin try delete from kept end try begin catch end catch",
        "exec sneaky",
        "exec('delete from kept')",
        "exec sp_executesql N'delete from kept'",
        "execute ('delete' + ' from kept')",
        "declare @s nvarchar(100) = 'delete from kept' exec (@s)",
        "sneaky",
        "create or alter procedure more as select 1",
        "create view more as select 1 as a",
        "grant select on kept to clerk",
        "backup database ferry to disk = 'x'",
        "dbcc checkdb",
        "kill 51",
        "/* select */ delete from kept",
        "-- select\ndelete from kept",
        "print 'x' delete from kept",
        "waitfor delay '00:00:00' delete from kept",
        "use ferry delete from kept",
        "merge into kept using kept k on 1 = 1 when matched then delete;",
        "bulk insert kept from 'x'",
        "select * from openrowset('x', 'y', 'delete')",
    ] {
        assert!(run(session.as_mut(), statement).is_err(), "{statement}");
        assert_eq!(one(open.as_mut(), "select count(*) from kept"), "1", "{statement}");
    }
    for statement in [
        "select * from kept",
        "declare @a int = 1 select @a",
        "set nocount on",
        "begin transaction",
        "rollback",
        "print 'x'",
    ] {
        run(session.as_mut(), statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
    }
    assert_eq!(one(open.as_mut(), "select count(*) from sys.objects where name = 'more'"), "0");
}

#[test]
fn the_catalog_has_what_was_made() {
    let server = Server::start(Options::default()).unwrap();
    let mut session = connect(&profile(server.port()), Some(&secret())).unwrap();
    for statement in [
        "create table ports (id int identity primary key, code nchar(3) not null unique, name nvarchar(80) not null default 'quay')",
        "create table routes (id int primary key, from_port int not null references ports (id) on delete cascade, fare decimal(8,2))",
        "create unique index by_fare on routes (fare desc, id)",
        "create view cheap as select id, fare from routes where fare < 5",
        "create procedure raise_fares @by decimal(4,2), @count int output as update routes set fare = fare * @by",
    ] {
        run(session.as_mut(), statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
    }
    let (mut catalog, mut part) = (Catalog::along([session.location().schema]), 0);
    while session
        .catalog(&CatalogPart::number(part), &mut catalog)
        .unwrap_or_else(|error| panic!("part {part}: {error}"))
    {
        part += 1;
    }
    catalog.complete();
    let object = |name: &str| catalog.objects().iter().find(|object| object.name == name).unwrap();
    let ports = object("ports");
    let columns: Vec<_> =
        ports.columns.iter().map(|c| format!("{} {} {:?} {:?}", c.name, c.db_type, c.default, c.generated)).collect();
    assert_eq!(
        columns,
        ["id bigint None Some(\"identity\")", "code nchar(3) None None", "name nvarchar(80) Some(\"'quay'\") None"]
    );
    assert_eq!(ports.primary_key(), ["id"]);
    let routes = object("routes");
    let foreign = routes.constraints.iter().find_map(|c| match &c.rule {
        Rule::Foreign { to, columns, actions } => Some((to.name.as_str(), columns.clone(), actions.as_str())),
        _ => None,
    });
    assert_eq!(foreign, Some(("ports", vec!["id".to_owned()], "on delete cascade")));
    assert_eq!(routes.indexes[0].definition, "create unique index by_fare on dbo.routes (fare desc, id)");
    assert_eq!((object("cheap").kind, object("cheap").uses[0].name.as_str()), (ObjectKind::View, "routes"));
    assert_eq!(object("raise_fares").signature, "(@by decimal(4,2), @count int output)");
    assert!(
        session.definition(object("raise_fares"), &Stop::default()).unwrap().unwrap().starts_with("create procedure")
    );
    assert_eq!(session.definition(routes, &Stop::default()), Ok(None));
    // The views of the standard say the same.
    let mut told = |statement: &str| run(session.as_mut(), statement).unwrap_or_else(|e| panic!("{e}")).rows();
    let tables = told("select table_name, table_type from information_schema.tables order by table_name");
    assert_eq!(tables, [["cheap", "VIEW"], ["ports", "BASE TABLE"], ["routes", "BASE TABLE"]]);
    let columns = told(
        "select COLUMN_NAME, DATA_TYPE, CHARACTER_MAXIMUM_LENGTH, IS_NULLABLE from ferry.INFORMATION_SCHEMA.COLUMNS where TABLE_NAME = 'ports' and COLUMN_NAME <> 'id' order by ORDINAL_POSITION",
    );
    assert_eq!(columns, [["code", "nchar", "3", "NO"], ["name", "nvarchar", "80", "NO"]]);
    assert_eq!(told("select routine_name from information_schema.routines"), [["raise_fares"]]);
}

#[test]
fn a_plan_is_read_and_settings_for_it_are_taken_back() {
    let mut session = session();
    run(session.as_mut(), "drop table if exists planned; create table planned (id int primary key, n int)").unwrap();
    let plans = SQLSERVER.plans.unwrap();
    let text = jaunty_language::plan::asked(plans.estimated, "select * from planned where n = 4");
    let plan = (plans.read)(&run(session.as_mut(), &text).unwrap().rows()).unwrap();
    assert!(plan.steps.iter().any(|step| step.target == "planned" && step.action == "table scan"), "{plan:?}");
    let measured = jaunty_language::plan::asked(plans.measured.unwrap(), "select * from planned");
    run(session.as_mut(), &measured).unwrap();
    assert_eq!(one(session.as_mut(), "select count(*) from planned"), "0", "statements run again");
    // Also where the statement fails.
    let wrong = jaunty_language::plan::asked(plans.estimated, "select nope from planned");
    assert!(run(session.as_mut(), &wrong).is_err());
    assert_eq!(one(session.as_mut(), "select count(*) from planned"), "0");
}

#[test]
fn plans_end_whenever_somebody_stops() {
    let mut session = session();
    run(session.as_mut(), "create table #stopped (id int); insert into #stopped values (1), (2)").unwrap();
    for turns in 0..120 {
        let stop = Stop::default();
        let wish = stop.clone();
        std::thread::scope(|scope| {
            scope.spawn(move || {
                (0..turns * 40).for_each(|_| std::thread::yield_now());
                wish.wish();
            });
            let _ = session.effect(&Request::new("delete from #stopped where id in (1, 2)").until(&stop));
        });
        // Were plans still asked for, it would be one row: that of the plan.
        let found = run(session.as_mut(), "select id from #stopped").unwrap_or_else(|error| panic!("{error}"));
        assert_eq!(found.rows().len(), 2, "after {turns} turns");
    }
}

/// What another database holds, read part by part.
fn read_another(session: &mut dyn Session, database: &str) -> Result<Catalog, EngineError> {
    let (mut catalog, mut number) = (Catalog::of_database(database.to_owned()), 0);
    while session.catalog(&CatalogPart { database: Some(database), number, ..CatalogPart::default() }, &mut catalog)? {
        number += 1;
    }
    catalog.complete();
    Ok(catalog)
}

#[test]
fn names_reach_into_other_databases() {
    let server = Server::start(Options::default()).unwrap();
    let mut session = connect(&profile(server.port()), Some(&secret())).unwrap();
    for statement in [
        "create database archive",
        "create database [ledger 2025]",
        "create database [it's ]] sys.db_name()]",
        "create table tickets (id int primary key, port nvarchar(40))",
        "create table archive.dbo.tickets (id int primary key, fare decimal(8,2) not null)",
        "create table archive.dbo.refunds (id int primary key, ticket_id int not null references tickets (id))",
        "insert into archive..tickets values (1, 2.5), (2, 4)",
    ] {
        run(session.as_mut(), statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
    }
    assert_eq!(one(session.as_mut(), "select sum(fare) from archive.dbo.tickets"), "6.5");
    assert_eq!(one(session.as_mut(), "select count(*) from ferry.dbo.tickets"), "0");

    let mut own = Catalog::default();
    let mut part = 0;
    while session.catalog(&CatalogPart::number(part), &mut own).unwrap() {
        part += 1;
    }
    own.complete();
    assert_eq!((own.database.as_str(), own.objects().len()), ("ferry", 1));
    assert_eq!(own.databases, ["archive", "ferry", "it's ] sys.db_name()", "ledger 2025", "master"]);

    let archive = read_another(session.as_mut(), "archive").unwrap();
    let found: Vec<String> =
        archive.objects().iter().map(|o| format!("{}.{} {}", o.schema, o.name, o.columns.len())).collect();
    assert_eq!(found, ["dbo.refunds 2", "dbo.tickets 2"]);
    let refunds = &archive.objects()[0];
    assert_eq!((refunds.primary_key(), refunds.references().count()), (vec!["id"], 1));
    for empty in ["ledger 2025", "it's ] sys.db_name()"] {
        assert_eq!(read_another(session.as_mut(), empty).unwrap().objects().len(), 0, "{empty}");
    }
    // One that is not there, or that this login may not look into, is told so, and the session goes on.
    let error = read_another(session.as_mut(), "nowhere").unwrap_err();
    assert_eq!(error.kind, ErrorKind::Refused, "{error:?}");

    // From within, the first database is another one.
    run(session.as_mut(), "use archive").unwrap();
    assert_eq!(one(session.as_mut(), "select count(*) from tickets join ferry..tickets t on 1 = 0"), "0");
    assert_eq!(read_another(session.as_mut(), "ferry").unwrap().objects().len(), 1);
}
