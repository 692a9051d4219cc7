//! Rows that are arranged here, and the statement that asks the server for the same: both give the same rows.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::path::Path;
use std::sync::Arc;

use jaunty_core::archive::{Archive, Writer};
use jaunty_core::arrange::condition::{Condition, Test};
use jaunty_core::arrange::pick::Part;
use jaunty_core::arrange::statement::statement;
use jaunty_core::arrange::{Order, Progress, Wanted, arrange};
use jaunty_core::connection::open;
use jaunty_engines::by_name;
use jaunty_language::dialect::{Dialect, MYSQL, POSTGRES, SQLITE};
use jaunty_seam::engine::Session;
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_seam::rows::cell::ColumnReader;
use jaunty_testservers::{Mariadb, PASSWORD, Postgres};
use support::run;

/// A number, a name, a fare, a day, a time, bytes, a real number, a word out of three and a span of time; the
/// columns of each table below in that order.
const COLUMNS: [&str; 9] = ["id", "name", "fare", "day", "at", "pennant", "draught", "status", "waits"];

/// The same rows everywhere, as `INSERT` takes them, with `BYTES` before bytes.
const ROWS: &str = r"
    (1, 'Saltmarsh Quay', 12.50, '2031-03-05', '2031-03-05 07:30:00', BYTES'00ff', 1.5, 'late', '01:30:00'),
    (2, 'saltmarsh quay', -3.00, '2031-03-04', '2031-03-05 07:29:59', BYTES'ab', -0.25, 'early', '-25:00:01'),
    (3, 'SALT', 0.00, null, null, null, null, null, null),
    (4, '', 100.00, '1999-12-31', '1999-12-31 23:59:59', BYTES'', 2.0, 'held', '100:00:00'),
    (5, null, null, '2031-03-05', '2031-03-06 00:00:00', BYTES'5c', 1e10, 'late', '00:00:00'),
    (6, '50% off', 9.99, '2031-03-06', '2031-03-05 12:00:00', BYTES'61', 0.1, 'late', '09:00:00'),
    (7, 'a_b', 12.50, '2031-03-07', '2031-03-05 13:00:00', BYTES'6162', 3.0, 'early', '10:00:00'),
    (8, 'axb', 12.51, '2031-03-08', '2031-03-05 14:00:00', BYTES'6163', 3.5, 'held', '838:59:59'),
    (9, 'back\slash', 1.00, '2031-03-09', '2031-03-05 15:00:00', BYTES'ff', 4.0, 'late', '-00:00:01'),
    (10, 'it''s', 2.00, '2031-03-10', '2031-03-05 16:00:00', BYTES'fe', 4.5, 'early', '24:00:00'),
    (11, '[a]*?', 3.00, '2031-03-11', '2031-03-05 17:00:00', BYTES'01', 5.0, 'held', '00:09:59'),
    (12, 'Zoë', 4.00, '2031-03-12', '2031-03-05 18:00:00', BYTES'02', 5.5, 'late', '99:59:59'),
    (13, 'zebra', 5.00, '2031-03-13', '2031-03-05 19:00:00', BYTES'03', 6.0, 'early', '01:29:59'),
    (14, 'Émigré', 6.00, '2031-03-14', '2031-03-05 20:00:00', BYTES'04', 6.5, 'held', '01:30:01'),
    (15, '名', 7.00, '2031-03-15', '2031-03-05 21:00:00', BYTES'05', 7.0, 'late', '00:00:59'),
    (16, 'null', 8.00, '2031-03-16', '2031-03-05 22:00:00', BYTES'06', 7.5, 'early', null)";

/// Conditions with their columns, columns to sort by, a search.
type Wish = (&'static [(&'static str, &'static str)], &'static [&'static str], &'static str);

/// What a person does with them: conditions, the columns to sort by (a minus before those that fall), a search.
const WISHES: &[Wish] = &[
    (&[], &["name", "id"], ""),
    (&[], &["-name", "id"], ""),
    (&[], &["fare", "-id"], ""),
    (&[], &["-fare", "id"], ""),
    (&[], &["day", "id"], ""),
    (&[], &["-at", "id"], ""),
    (&[], &["pennant", "id"], ""),
    (&[], &["-draught", "id"], ""),
    (&[], &["status", "-name", "id"], ""),
    (&[], &["-status", "id"], ""),
    (&[("name", "salt")], &["id"], ""),
    (&[("name", "Salt")], &["id"], ""),
    (&[("name", "not salt")], &["id"], ""),
    (&[("name", "SALT")], &["id"], ""),
    (&[("name", "begins salt")], &["id"], ""),
    (&[("name", "begins S")], &["id"], ""),
    (&[("name", "ends Quay")], &["id"], ""),
    (&[("name", "ends quay")], &["id"], ""),
    (&[("name", "%")], &["id"], ""),
    (&[("name", "_")], &["id"], ""),
    (&[("name", "has \\")], &["id"], ""),
    (&[("name", "it's")], &["id"], ""),
    (&[("name", "[a]")], &["id"], ""),
    (&[("name", "begins [")], &["id"], ""),
    (&[("name", "= Saltmarsh Quay")], &["id"], ""),
    (&[("name", "!= Saltmarsh Quay")], &["id"], ""),
    (&[("name", "in axb, SALT, 'it''s'")], &["id"], ""),
    (&[("name", "not in axb, 名")], &["id"], ""),
    (&[("name", "> a")], &["id"], ""),
    (&[("name", "not > a")], &["id"], ""),
    (&[("name", "between S and a~")], &["id"], ""),
    (&[("name", "null")], &["id"], ""),
    (&[("name", "not null")], &["id"], ""),
    (&[("name", "'null'")], &["id"], ""),
    (&[("name", "empty")], &["id"], ""),
    (&[("name", "not empty")], &["id"], ""),
    (&[("name", "~ ^a.b$")], &["id"], ""),
    (&[("name", "~ ^SA")], &["id"], ""),
    (&[("name", "not ~ a")], &["id"], ""),
    (&[("id", "> 12")], &["id"], ""),
    (&[("id", "has 1")], &["id"], ""),
    (&[("id", "ends 2")], &["id"], ""),
    (&[("fare", "12.5")], &["id"], ""),
    (&[("fare", "!= 12.5")], &["id"], ""),
    (&[("fare", "between -3 and 3")], &["id"], ""),
    (&[("fare", "has .5")], &["id"], ""),
    (&[("day", "2031-03-05")], &["id"], ""),
    (&[("day", "< 2031-03-05")], &["id"], ""),
    (&[("day", "has 03-1")], &["id"], ""),
    (&[("at", ">= 2031-03-05 20:00:00")], &["id"], ""),
    (&[("at", "in 2031-03-05 07:30:00, 1999-12-31 23:59:59")], &["id"], ""),
    (&[("pennant", "= ff")], &["id"], ""),
    (&[("pennant", "> 61")], &["id"], ""),
    (&[("pennant", "has f")], &["id"], ""),
    (&[("draught", "<= 0.1")], &["id"], ""),
    (&[("draught", "> 3"), ("status", "late")], &["-id"], ""),
    (&[("status", "= held")], &["id"], ""),
    (&[("status", "> early")], &["id"], ""),
    (&[("status", "not in late, held")], &["id"], ""),
    (&[], &["waits", "id"], ""),
    (&[], &["-waits", "-id"], ""),
    (&[("waits", "> 09:00")], &["id"], ""),
    (&[("waits", "<= 01:30:00")], &["-waits", "id"], ""),
    (&[("waits", "between -1 day and 90 min")], &["id"], ""),
    (&[("waits", "in 01:30:00, 100:00:00")], &["id"], ""),
    (&[("waits", "!= 01:30:00")], &["id"], ""),
    (&[("waits", "ends 59:59")], &["id"], ""),
    (&[], &["id"], "59:59"),
    (&[], &["id"], "salt"),
    (&[], &["id"], "12.5"),
    (&[], &["id"], "ate"),
    (&[], &["id"], "2031-03-05"),
    (&[], &["id"], "ff"),
    (&[], &["id"], "%"),
    (&[("fare", "> 5")], &["-name", "id"], "a"),
];

fn wanted(archive: &Archive, (conditions, order, search): Wish) -> Wanted {
    let schema = archive.schema();
    let column = |name: &str| COLUMNS.iter().position(|column| *column == name).unwrap();
    Wanted {
        conditions: conditions
            .iter()
            .map(|(name, text)| {
                let column = column(name);
                let test = Test::read(text, schema.field(column)).unwrap_or_else(|error| panic!("{text}: {error}"));
                Condition { column, test }
            })
            .collect(),
        order: order
            .iter()
            .map(|name| Order { column: column(name.trim_start_matches('-')), descending: name.starts_with('-') })
            .collect(),
        search: search.into(),
    }
}

/// The numbers of the rows that are shown, in order.
fn shown(archive: &Arc<Archive>, wanted: &Wanted) -> Vec<String> {
    let arrangement = Arc::new(arrange(archive, wanted, &Progress::default()).unwrap());
    let part = Part { arrangement: Some(arrangement), ..Part::whole(Arc::clone(archive)) };
    let mut numbers = Vec::new();
    for batch in part.batches() {
        let batch = batch.unwrap();
        let reader = ColumnReader::of(batch.column(0), batch.schema_ref().field(0));
        numbers.extend((0..batch.num_rows()).map(|row| reader.get(row).text.into_owned()));
    }
    numbers
}

/// Runs `inner`, arranges its rows, and asks the server for the same.
fn same_rows(session: &mut dyn Session, inner: &str, dialect: &'static Dialect, folder: &Path) {
    let found = run(session, inner).unwrap();
    let batches = found.seen.lock().unwrap().batches.clone();
    let mut writer = Writer::create(&folder.join("kept.arrow"), &batches[0].schema()).unwrap();
    batches.iter().for_each(|batch| writer.write(batch).unwrap());
    let archive = Arc::clone(writer.archive());
    writer.finish().unwrap();
    let mut empty = 0;
    for wish in WISHES {
        let wanted = wanted(&archive, *wish);
        let here = shown(&archive, &wanted);
        let asked = statement(&wanted, inner, &archive.schema(), dialect).unwrap();
        let there = run(session, &asked).unwrap_or_else(|error| panic!("{asked}\n{error}")).rows();
        let there: Vec<String> = there.into_iter().map(|row| row[0].clone()).collect();
        assert_eq!(here, there, "{asked}");
        empty += usize::from(here.is_empty());
    }
    assert!(empty < 3, "wishes that find nothing prove nothing");
}

#[test]
fn sqlite_gives_what_is_shown() {
    let folder = tempfile::tempdir().unwrap();
    let profile = Profile::new("ferry", "sqlite").with("path", ":memory:");
    let mut session = open(by_name("sqlite").unwrap(), &profile, None).unwrap();
    let table = "create table sailings(id integer primary key, name text, fare decimal(8,2), day date, at datetime, pennant blob, draught real, status text, waits text)";
    run(session.as_mut(), table).unwrap();
    run(session.as_mut(), &format!("insert into sailings values {}", ROWS.replace("BYTES", "x"))).unwrap();
    same_rows(session.as_mut(), "select * from sailings -- all of them", &SQLITE, folder.path());
}

#[test]
fn postgres_gives_what_is_shown() {
    let server = Postgres::start();
    let folder = tempfile::tempdir().unwrap();
    let mut profile = Profile::new("bookings", "postgres").with("host", "127.0.0.1").with("user", "clerk");
    profile.settings.insert("port".into(), Setting::Number(i64::from(server.port)));
    let profile = profile.with("database", "bookings");
    let mut session = open(by_name("postgres").unwrap(), &profile, Some(&Secret::new(PASSWORD.into()))).unwrap();
    for set_up in [
        "create type sailing_status as enum ('late', 'held', 'early')",
        // A time without a zone means the clocks of the session, which are not those of Greenwich.
        "set timezone = 'America/St_Johns'",
        "create table sailings(id int primary key, name text, fare numeric(8,2), day date, at timestamptz, pennant bytea, draught float8, status sailing_status, waits interval)",
    ] {
        run(session.as_mut(), set_up).unwrap();
    }
    // As after each run: here the zone is learned.
    session.location();
    run(session.as_mut(), &format!("insert into sailings values {}", ROWS.replace("BYTES'", r"'\x"))).unwrap();
    same_rows(session.as_mut(), "select * from sailings", &POSTGRES, folder.path());
}

#[test]
fn mariadb_gives_what_is_shown() {
    let server = Mariadb::start();
    let mut profile = Profile::new("bookings", "mysql").with("host", "127.0.0.1").with("user", "clerk");
    profile.settings.insert("port".into(), Setting::Number(i64::from(server.port)));
    let profile = profile.with("database", "bookings");
    let mut session = open(by_name("mysql").unwrap(), &profile, Some(&Secret::new(PASSWORD.into()))).unwrap();
    // The name in its encoding's usual collation, in one of a language, and in another encoding.
    for (table, kind) in [
        ("sailings", "varchar(40) character set utf8mb4"),
        ("swedish", "varchar(40) character set utf8mb4 collate utf8mb4_swedish_ci"),
        ("old", "varchar(40) character set utf16"),
    ] {
        let folder = tempfile::tempdir().unwrap();
        let create = format!(
            "create table {table}(id int primary key, name {kind}, fare decimal(8,2), day date, at datetime, pennant varbinary(9), draught double, status enum('late', 'held', 'early'), waits time)"
        );
        run(session.as_mut(), &create).unwrap();
        let rows = ROWS.replace("BYTES", "x").replace('\\', "\\\\");
        run(session.as_mut(), &format!("insert into {table} values {rows}")).unwrap();
        same_rows(session.as_mut(), &format!("select * from {table}"), &MYSQL, folder.path());
    }
}
