//! Many rows at once: what the bulk way of a server stores is what it stores of the same texts in an `INSERT`.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::path::Path;
use std::sync::Arc;

use arrow_array::{ArrayRef, BooleanArray, RecordBatch, StringArray};
use arrow_schema::{DataType, Field, Schema};
use jaunty_core::connection::open;
use jaunty_engines::by_name;
use jaunty_seam::catalog::Column;
use jaunty_seam::engine::load::{Load, Meeting};
use jaunty_seam::engine::{Session, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Guard, Profile, Secret, Setting};
use jaunty_standins::tds::{Options, Server};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres};
use support::run;

type Texts<'a> = &'a [(&'a str, &'a [&'a str])];

/// Values of any type that breaks lines, quotes and escapes.
const TEXTS: &[&str] = &["", " a ", "it's", "\\", "\\N", "\\.", "a\tb", "a\nb\r\n", "\"q\"", "é名🛳", "null", "NULL"];

fn of_server(engine: &'static str, port: u16, user: &str, secret: &str, database: &str) -> Box<dyn Session> {
    let mut profile = Profile::new("quay", engine).with("host", "127.0.0.1").with("tls", "off").with("user", user);
    profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
    // However busy the machine is: a session is given up where the server does not hear in time.
    profile.settings.insert("stop_seconds".into(), Setting::Number(600));
    open(by_name(engine).unwrap(), &profile.with("database", database), Some(&Secret::new(secret.into()))).unwrap()
}

fn columns(of: Texts<'_>) -> Vec<Column> {
    let column = |(at, (db_type, _)): (usize, &(&str, &[&str]))| Column {
        name: format!("c{at}"),
        db_type: (*db_type).to_owned(),
        nullable: true,
        ..Column::default()
    };
    of.iter().enumerate().map(column).collect()
}

/// Rows of texts, NULL last in every column.
fn rows(of: Texts<'_>) -> RecordBatch {
    let count = of.iter().map(|(_, values)| values.len()).max().unwrap_or(0) + 1;
    let array = |values: &&[&str]| -> ArrayRef {
        let values =
            (0..count).map(|row| if row + 1 == count { None } else { values.get(row % values.len()).copied() });
        Arc::new(StringArray::from_iter(values))
    };
    let arrays: Vec<_> = of.iter().map(|(_, values)| array(values)).collect();
    let fields: Vec<_> = (0..of.len()).map(|at| Field::new(format!("c{at}"), DataType::Utf8, true)).collect();
    RecordBatch::try_new(Arc::new(Schema::new(fields)), arrays).unwrap()
}

fn load(
    session: &mut dyn Session,
    engine: &str,
    (table, columns, key): (&str, &[Column], &[String]),
    meeting: Meeting,
    batch: RecordBatch,
) -> Result<u64, EngineError> {
    let dialect = by_name(engine).unwrap().dialect();
    let load = Load { table, columns, key, meeting, dialect, stop: Stop::default() };
    let mut once = Some(batch);
    session.load(&load, &mut || Ok(once.take()))
}

/// Loads the values into one table and inserts them into another: both hold the same.
fn same_as_inserted(session: &mut dyn Session, engine: &str, of: Texts<'_>) {
    let dialect = by_name(engine).unwrap().dialect();
    let types: Vec<_> = of.iter().enumerate().map(|(at, (db_type, _))| format!("c{at} {db_type}")).collect();
    let of_columns = columns(of);
    for table in ["loaded", "inserted"] {
        run(session, &format!("create table {table} ({})", types.join(", "))).unwrap();
    }
    let batch = rows(of);
    let count = batch.num_rows() as u64;
    assert_eq!(load(session, engine, ("loaded", &of_columns, &[]), Meeting::Refuse, batch.clone()).unwrap(), count);
    for row in 0..batch.num_rows() {
        let value = |at: usize| {
            let texts = batch.column(at).as_any().downcast_ref::<StringArray>().unwrap();
            match jaunty_seam::engine::load::holds_bytes(of[at].0, dialect) {
                _ if arrow_array::Array::is_null(texts, row) => "null".to_owned(),
                true => dialect.bytes_as_written(texts.value(row).trim_start_matches("\\x")),
                false if engine == "mysql" && of[at].0.starts_with("bool") => texts.value(row).to_owned(),
                false => dialect.text_as_written(texts.value(row)),
            }
        };
        let values: Vec<_> = (0..of.len()).map(value).collect();
        run(session, &format!("insert into inserted values ({})", values.join(", "))).unwrap();
    }
    let all = |session: &mut dyn Session, table: &str| {
        let mut rows = run(session, &format!("select * from {table}")).unwrap().rows();
        rows.sort();
        rows
    };
    assert_eq!(all(session, "loaded"), all(session, "inserted"));
    run(session, "drop table loaded").unwrap();
    run(session, "drop table inserted").unwrap();
}

/// What becomes of rows that are there already, and of a row that is refused.
fn meetings(session: &mut dyn Session, engine: &str, replaces: bool) {
    let of: Texts<'_> = &[("integer", &["1", "2", "3"]), ("varchar(10)", &["a", "b", "c"])];
    let columns = columns(of);
    let batch = rows(of).slice(0, 3);
    let key = ["c0".to_owned()];
    run(session, "create table met (c0 integer primary key, c1 varchar(10))").unwrap();
    run(session, "insert into met values (2, 'there')").unwrap();
    let all =
        |session: &mut dyn Session| run(session, "select * from met order by c0").unwrap().rows().concat().join(" ");
    let refused = load(session, engine, ("met", &columns, &key), Meeting::Refuse, batch.clone()).unwrap_err();
    assert_ne!(refused.kind, ErrorKind::Lost, "{refused}");
    run(session, "delete from met where c0 <> 2").unwrap();
    if !replaces {
        return;
    }
    let taken = load(session, engine, ("met", &columns, &key), Meeting::Skip, batch.clone()).unwrap();
    assert_eq!((taken, all(session)), (2, "1 a 2 there 3 c".into()), "{engine}");
    load(session, engine, ("met", &columns, &key), Meeting::Replace, batch).unwrap();
    assert_eq!(all(session), "1 a 2 b 3 c");
    run(session, "drop table met").unwrap();
}

#[test]
fn rows_are_loaded_into_sqlite() {
    let profile = Profile::new("quay", "sqlite").with("path", ":memory:");
    let mut session = open(by_name("sqlite").unwrap(), &profile, None).unwrap();
    same_as_inserted(
        session.as_mut(),
        "sqlite",
        &[
            ("integer", &["1", "-5", "007", "x", "9223372036854775807", "1.0"]),
            ("numeric", &["1.50", "1e3", "0x10", "", "12345678901234567890"]),
            ("real", &["1", "0.1", "-2e-3"]),
            ("text", TEXTS),
            ("blob", &["", "00ff", "\\x27"]),
            ("date", &["2031-03-05", "soon"]),
        ],
    );
    meetings(session.as_mut(), "sqlite", true);
}

#[test]
fn rows_are_loaded_into_postgres() {
    let server = Postgres::start();
    let mut session = of_server("postgres", server.port, "clerk", PASSWORD, "bookings");
    let session = session.as_mut();
    let binary: &[(&str, &[&str])] = &[
        ("smallint", &["1", "-32768", " 7 "]),
        ("integer", &["2147483647", "0"]),
        ("bigint", &["-9223372036854775808", "12"]),
        ("real", &["0.1", "-3.4e38"]),
        ("double precision", &["0.1", "1e300", "-0"]),
        ("boolean", &["true", "f", "1"]),
        ("text", TEXTS),
        ("varchar(12)", TEXTS),
        ("char(12)", &["a", "é"]),
        ("json", &["{\"a\":  1}", "null"]),
        ("jsonb", &["{\"a\":  [1, null]}", "\"it's\""]),
        ("bytea", &["\\x", "\\x00ff27"]),
        ("date", &["2031-03-05", "0001-01-01", "1999-12-31"]),
        ("timestamp", &["2031-03-05 07:30:00", "1999-12-31 23:59:59.999999", "2031-03-05"]),
        ("numeric", &["0", "-12345.678", "100000000000000000000.00000001", "0.00"]),
        ("numeric(10,2)", &["12.345", "-0.005", "7"]),
        ("uuid", &["2f1d7c9e-0000-4000-8000-00000000abcd", "2F1D7C9E00004000800000000000ABCD"]),
    ];
    same_as_inserted(session, "postgres", binary);
    // A value without a binary form here is read by the server, with the rows after it.
    same_as_inserted(
        session,
        "postgres",
        &[
            ("numeric", &["1", "1e5", "NaN", "2.5"]),
            ("date", &["2031-03-05", "infinity", "5 March 2031", "2031-03-06"]),
            ("double precision", &["1", "inf", "NaN", "3"]),
            ("timestamp", &["2031-03-05 07:30:00", "-infinity", "2031-03-05 24:00:00", "2031-03-07 01:00:00"]),
        ],
    );
    same_as_inserted(
        session,
        "postgres",
        &[
            ("timestamptz", &["2031-03-05 07:30:00+02", "2031-03-05 07:30:00"]),
            ("text", TEXTS),
            ("integer[]", &["{1,2}", "{}"]),
            ("inet", &["10.0.0.1"]),
            ("interval", &["1 day 02:00:00"]),
            ("bytea", &["\\x00ff"]),
        ],
    );
    meetings(session, "postgres", true);
    // What the server refuses in the middle of a stream leaves a session that can be used.
    run(session, "create table checked (c0 integer check (c0 < 3))").unwrap();
    let of: Texts<'_> = &[("integer", &["1", "2", "3"])];
    let error = load(session, "postgres", ("checked", &columns(of), &[]), Meeting::Refuse, rows(of)).unwrap_err();
    assert!(error.message.contains("checked_c0_check"), "{error}");
    assert_eq!(run(session, "select count(*) from checked").unwrap().rows(), [["0"]]);
}

#[test]
fn rows_are_loaded_into_mariadb() {
    let server = Mariadb::start();
    let mut session = of_server("mysql", server.port, "clerk", PASSWORD, "bookings");
    let session = session.as_mut();
    let of: &[(&str, &[&str])] = &[
        ("int", &["1", "-5"]),
        ("bigint unsigned", &["18446744073709551615", "0"]),
        ("decimal(30,8)", &["1.5", "-12345678901234567890.12345678"]),
        ("double", &["0.1", "-2e-3"]),
        ("varchar(20) character set utf8mb4", TEXTS),
        ("longtext character set utf8mb4", TEXTS),
        ("longblob", &["\\x", "\\x00ff27"]),
        ("date", &["2031-03-05"]),
        ("datetime(6)", &["2031-03-05 07:30:00.123456"]),
        ("time", &["07:30:00", "-120:00:01"]),
        ("boolean", &["true", "false", "1"]),
        ("enum('due','gone')", &["due"]),
        ("json", &["{\"a\":  1}"]),
    ];
    same_as_inserted(session, "mysql", of);
    meetings(session, "mysql", true);
    // The server would change these and only warn.
    for (db_type, value) in [("tinyint", "300"), ("int", "seven"), ("varchar(3)", "gulls"), ("date", "2031-02-30")] {
        run(session, &format!("create table changed (c0 {db_type})")).unwrap();
        let values = [value];
        let of: Texts<'_> = &[(db_type, &values)];
        let error = load(session, "mysql", ("changed", &columns(of), &[]), Meeting::Refuse, rows(of)).unwrap_err();
        assert_eq!(error.kind, ErrorKind::Refused, "{db_type}: {error}");
        run(session, "drop table changed").unwrap();
    }
    // Where the server takes no files the rows go by statements.
    server.sql("set global local_infile = 0");
    same_as_inserted(session, "mysql", &of[..7]);
    meetings(session, "mysql", true);
}

/// A server that commits a definition at once has nothing left of a load that failed, and goes on in a transaction.
#[test]
fn a_new_table_of_mariadb_goes_with_a_load_that_fails() {
    use jaunty_core::import::{Choices, ImportError, Matching, NewColumns, Options, Parts, Refused, Source, load};
    let server = Mariadb::start();
    let mut session = of_server("mysql", server.port, "clerk", PASSWORD, "bookings");
    let folder = tempfile::tempdir().unwrap();
    let (file, bad) = (folder.path().join("a.csv"), folder.path().join("bad.csv"));
    std::fs::write(&file, "code,n\nA,1\nB,2\nA,3\nC,4\n").unwrap();
    let dialect = by_name("mysql").unwrap().dialect();
    let loaded = |session: &mut dyn Session, refused: Option<Refused>| {
        let source = Source::open(&file, &Choices::default()).unwrap();
        let catalog = jaunty_seam::catalog::Catalog::default();
        let matching = Matching::into_new(
            &source.found,
            "ports",
            &NewColumns { key: &["code".to_owned()], ..NewColumns::default() },
            &catalog,
            dialect,
        )
        .unwrap();
        let (parts, stop) = (Parts::One, Stop::default());
        let options = Options { parts, meeting: Meeting::Refuse, refused, stop, told: &mut |_, _| {} };
        load(source, &matching, session, dialect, options)
    };
    let error = loaded(session.as_mut(), None).unwrap_err();
    assert!(matches!(error, ImportError::Server { kept: 0, .. }), "{error}");
    assert!(run(session.as_mut(), "select * from ports").is_err(), "the table is gone");
    let refused = Refused::new(&bad, vec!["code".into(), "n".into()], Path::new("-")).unwrap();
    let told = loaded(session.as_mut(), Some(refused)).unwrap();
    assert_eq!((told.rows, told.refused), (3, 1));
    assert_eq!(session.location().transaction, None);
    assert!(std::fs::read_to_string(&bad).unwrap().contains("A,3"));
}

#[test]
fn rows_are_loaded_into_the_stand_in_for_sql_server() {
    let server = Server::start(Options::default()).unwrap();
    let secret = Options::default().password;
    let mut session = of_server("sqlserver", server.port(), "clerk", &secret, "ferry");
    same_as_inserted(
        session.as_mut(),
        "sqlserver",
        &[
            ("int", &["1", "-5"]),
            ("nvarchar(max)", TEXTS),
            ("nvarchar(12)", TEXTS),
            ("varchar(20)", &["a", "it's", ""]),
            ("varbinary(max)", &["00ff", "27"]),
            ("varbinary(4)", &["00ff", ""]),
            ("date", &["2031-03-05"]),
            ("datetime2(3)", &["2031-03-05 07:30:00.125"]),
            ("decimal(12,2)", &["1.25", "-3", "0.5"]),
            ("bigint", &["9007199254740993", "-9223372036854775808"]),
            ("float", &["1.5", "1e10", "-2.25e-3"]),
            ("bit", &["1", "0"]),
            ("uniqueidentifier", &["00112233-4455-6677-8899-AABBCCDDEEFF"]),
        ],
    );
    // One that is not sent in bulk has all of them sent by statements.
    same_as_inserted(
        session.as_mut(),
        "sqlserver",
        &[("int", &["1", "-5"]), ("nvarchar(12)", TEXTS), ("xml", &["<a/>"])],
    );
    meetings(session.as_mut(), "sqlserver", false);
}

/// A session on the stand-in, its number there, and a table that holds two columns.
fn bulk(server: &Server, table: &str) -> (Box<dyn Session>, u16) {
    let secret = Options::default().password;
    let mut session = of_server("sqlserver", server.port(), "clerk", &secret, "ferry");
    run(session.as_mut(), table).unwrap();
    let number = run(session.as_mut(), "select @@spid").unwrap().rows().concat().concat().parse().unwrap();
    (session, number)
}

#[test]
fn rows_go_in_bulk_and_by_a_literal_where_only_that_has_their_form() {
    let server = Server::start(Options::default()).unwrap();
    let table = "create table tides (c0 int not null primary key check (c0 > 0), c1 nvarchar(20) default 'low')";
    let (mut session, number) = bulk(&server, table);
    let of: Texts<'_> = &[("int", &["1", "2", "3"]), ("nvarchar(20)", &["a", "b"])];
    let columns = columns(of);
    let many = |from: usize, count: usize| {
        let numbers = StringArray::from_iter_values((from..from + count).map(|n| n.to_string()));
        let names = StringArray::from_iter((from..from + count).map(|n| (n % 7 != 0).then(|| format!("tide {n}"))));
        let fields = ["c0", "c1"].map(|name| Field::new(name, DataType::Utf8, true));
        let arrays: Vec<ArrayRef> = vec![Arc::new(numbers), Arc::new(names)];
        RecordBatch::try_new(Arc::new(Schema::new(fields.to_vec())), arrays).unwrap()
    };
    let of_texts = |values: &[(&str, &str)]| {
        let column = |take: fn(&(&str, &str)) -> String| -> ArrayRef {
            Arc::new(StringArray::from_iter_values(values.iter().map(take)))
        };
        let fields = ["c0", "c1"].map(|name| Field::new(name, DataType::Utf8, true));
        let arrays = vec![column(|pair| pair.0.to_owned()), column(|pair| pair.1.to_owned())];
        RecordBatch::try_new(Arc::new(Schema::new(fields.to_vec())), arrays).unwrap()
    };
    let count =
        |session: &mut dyn Session| run(session, "select count(*) from tides").unwrap().rows().concat().concat();
    let take =
        |session: &mut dyn Session, batch| load(session, "sqlserver", ("tides", &columns, &[]), Meeting::Refuse, batch);
    let before = server.asked(number);
    assert_eq!(take(session.as_mut(), many(1, 20_000)).unwrap(), 20_000);
    assert_eq!(server.asked(number) - before, 2, "the announcement and the rows");
    // NULL stays NULL where the column has a default.
    let nulls = "select count(*) from tides where c1 is null";
    assert_eq!(run(session.as_mut(), nulls).unwrap().rows().concat().concat(), "2857");
    // In the middle of a batch a value that only a literal can be: the rest of the batch goes so.
    let mixed = of_texts(&[("20001", "x"), ("2.1e4", "y"), ("20003", "z")]);
    assert_eq!(take(session.as_mut(), mixed).unwrap(), 3);
    assert_eq!(count(session.as_mut()), "20003");
    // What the server refuses: a key that is there, a rule, a text that is too long, one that is no number.
    for (values, said) in [
        (&[("30001", "x"), ("1", "again")][..], "duplicate key"),
        (&[("-1", "x")], "constraint"),
        (&[("30001", "x"), ("1-1", "y")], "type mismatch"),
        (&[("30001", "x"), ("", "y")], "an empty text cannot be a value of c0 (int)"),
    ] {
        let error = take(session.as_mut(), of_texts(values)).unwrap_err();
        assert_eq!(error.kind, ErrorKind::Refused, "{error}");
        assert!(error.message.contains(said), "{said}: {error}");
        assert_eq!(count(session.as_mut()), "20003", "{said}");
    }
    let long = "x".repeat(21);
    assert!(take(session.as_mut(), of_texts(&[("30001", &long)])).is_ok(), "SQLite takes what the server would not");
    run(session.as_mut(), "delete from tides where c0 > 30000").unwrap();
    // A mistake of who gives the rows, in the middle.
    let dialect = by_name("sqlserver").unwrap().dialect();
    let stop = Stop::default();
    let load = Load { table: "tides", columns: &columns, key: &[], meeting: Meeting::Refuse, dialect, stop };
    let mut given = vec![Err(EngineError::new(ErrorKind::Local, "the file ends")), Ok(Some(many(40_000, 5)))];
    let error = session.load(&load, &mut || given.pop().unwrap_or(Ok(None))).unwrap_err();
    assert_eq!((error.kind, error.message.as_str()), (ErrorKind::Local, "the file ends"));
    run(session.as_mut(), "delete from tides where c0 >= 40000").unwrap();
    assert_eq!(count(session.as_mut()), "20003");
    // A table that is not there is told as by any statement.
    let nowhere = Load { table: "nowhere", ..load };
    let mut once = Some(many(1, 1));
    let error = session.load(&nowhere, &mut || Ok(once.take())).unwrap_err();
    assert!(error.message.contains("Invalid object name 'nowhere'"), "{error}");
    // A table of the session, and one of another database.
    run(session.as_mut(), "create table #tides (c0 int, c1 nvarchar(20)); create database archive").unwrap();
    run(session.as_mut(), "create table archive.dbo.tides (c0 int, c1 nvarchar(20))").unwrap();
    for table in ["#tides", "archive.dbo.tides", "archive..tides"] {
        let elsewhere = Load { table, ..nowhere.clone() };
        let mut once = Some(many(1, 3));
        assert_eq!(session.load(&elsewhere, &mut || Ok(once.take())).unwrap(), 3, "{table}");
    }
    let all = "select (select count(*) from #tides), (select count(*) from archive..tides)";
    assert_eq!(run(session.as_mut(), all).unwrap().rows(), [["3", "6"]]);
}

#[test]
fn without_a_bulk_load_rows_go_by_statements() {
    let server = Server::start(Options { lacks_bulk: true, ..Options::default() }).unwrap();
    let of: Texts<'_> = &[("int", &["1", "2", "3"]), ("nvarchar(20)", &["a", "b", "c"])];
    // Also where some went by statements before.
    for (table, first) in [("plain", "1"), ("mixed", "1e0")] {
        let (mut session, _) = bulk(&server, &format!("create table {table} (c0 int, c1 nvarchar(20))"));
        let texts: Texts<'_> = &[("int", &[first, "2", "3"]), ("nvarchar(20)", &["a", "b", "c"])];
        let (columns, dialect) = (columns(of), by_name("sqlserver").unwrap().dialect());
        let load =
            Load { table, columns: &columns, key: &[], meeting: Meeting::Refuse, dialect, stop: Stop::default() };
        let mut given = vec![rows(of).slice(0, 3), rows(texts).slice(0, 3)];
        assert_eq!(session.load(&load, &mut || Ok(given.pop())).unwrap(), 6);
        let count = run(session.as_mut(), &format!("select count(*), sum(c0) from {table}")).unwrap().rows();
        assert_eq!(count, [["6", "12"]], "{table}");
    }
}

#[test]
fn truth_is_loaded_where_a_language_has_no_word_for_it() {
    let server = Server::start(Options::default()).unwrap();
    let (mut session, _) = bulk(&server, "create table seen (c0 bit, c1 xml)");
    let bits: ArrayRef = Arc::new(BooleanArray::from(vec![Some(true), Some(false), None]));
    let notes: ArrayRef = Arc::new(StringArray::from(vec!["<a/>", "<b/>", "<c/>"]));
    let schema = |names: &[(&str, DataType)]| {
        let fields: Vec<Field> = names.iter().map(|(name, of)| Field::new(*name, of.clone(), true)).collect();
        Arc::new(Schema::new(fields))
    };
    let both: Texts<'_> = &[("bit", &[]), ("xml", &[])];
    let whole = RecordBatch::try_new(
        schema(&[("c0", DataType::Boolean), ("c1", DataType::Utf8)]),
        vec![Arc::clone(&bits), notes],
    );
    load(session.as_mut(), "sqlserver", ("seen", &columns(both), &[]), Meeting::Refuse, whole.unwrap()).unwrap();
    let alone = RecordBatch::try_new(schema(&[("c0", DataType::Boolean)]), vec![bits]).unwrap();
    load(session.as_mut(), "sqlserver", ("seen", &columns(&both[..1]), &[]), Meeting::Refuse, alone).unwrap();
    let all = run(session.as_mut(), "select c0, c1 from seen").unwrap().rows();
    let bits: Vec<&str> = all.iter().map(|row| row[0].as_str()).collect();
    assert_eq!(bits, ["1", "0", "∅", "1", "0", "∅"]);
}

#[test]
fn a_guard_refuses_rows_in_bulk() {
    let server = Server::start(Options::default()).unwrap();
    let (mut open, _) = bulk(&server, "create table tides (c0 int)");
    let mut session = support::office(&server, Guard::ReadOnly);
    let of: Texts<'_> = &[("int", &["1"])];
    let error =
        load(session.as_mut(), "sqlserver", ("tides", &columns(of), &[]), Meeting::Refuse, rows(of)).unwrap_err();
    assert!(error.message.contains("read-only"), "{error}");
    assert_eq!(run(open.as_mut(), "select count(*) from tides").unwrap().rows(), [["0"]]);
}

#[test]
fn a_load_is_stopped_and_leaves_a_session_that_can_be_used() {
    let server = Postgres::start();
    let maria = Mariadb::start();
    let office = Server::start(Options::default()).unwrap();
    let secret = Options::default().password;
    let memory = Profile::new("quay", "sqlite").with("path", ":memory:");
    let mut sessions = [
        ("sqlserver", of_server("sqlserver", office.port(), "clerk", &secret, "ferry")),
        ("postgres", of_server("postgres", server.port, "clerk", PASSWORD, "bookings")),
        ("mysql", of_server("mysql", maria.port, "clerk", PASSWORD, "bookings")),
        ("sqlite", open(by_name("sqlite").unwrap(), &memory, None).unwrap()),
    ];
    for (engine, session) in &mut sessions {
        run(session.as_mut(), "create table endless (c0 integer, c1 varchar(20))").unwrap();
        run(session.as_mut(), by_name(engine).unwrap().dialect().changing.unwrap().begin).unwrap();
        let of: Texts<'_> = &[("integer", &["1", "2", "3"]), ("varchar(20)", &["a", "b", "c"])];
        let (columns, batch, stop) = (columns(of), rows(of), Stop::default());
        let dialect = by_name(engine).unwrap().dialect();
        let load = Load {
            table: "endless",
            columns: &columns,
            key: &[],
            meeting: Meeting::Refuse,
            dialect,
            stop: stop.clone(),
        };
        let mut given = 0;
        let error = session
            .load(&load, &mut || {
                given += 1;
                if given == 200 {
                    stop.wish();
                }
                Ok(Some(batch.clone()))
            })
            .unwrap_err();
        assert_eq!(error.kind, ErrorKind::Stopped, "{engine}: {error}");
        run(session.as_mut(), "rollback").unwrap();
        assert_eq!(run(session.as_mut(), "select count(*) from endless").unwrap().rows(), [["0"]], "{engine}");
    }
}
