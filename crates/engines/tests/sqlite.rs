//! The SQLite engine against real files, through the seam only.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::path::{Path, PathBuf};
use std::time::Duration;

use jaunty_core::connection::open;
use jaunty_engines::Sqlite;
use jaunty_language::statement::parameters::ParameterValue;
use jaunty_seam::engine::{Effect, Reading, Request, Session, Stop, Touches};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Guard, Profile};
use rusqlite::Connection;
use support::{Collect, origins, rows_with, run};

fn connect(path: &Path) -> Result<Box<dyn Session>, EngineError> {
    open(&Sqlite, &Profile::new("test", "sqlite").with("path", path.to_string_lossy()), None)
}

fn memory() -> Box<dyn Session> {
    connect(Path::new(":memory:")).unwrap()
}

/// A file with a table of so many rows.
fn database(folder: &Path, rows: i64) -> PathBuf {
    let path = folder.join("ferry.db");
    let db = Connection::open(&path).unwrap();
    db.execute_batch("create table ports(id integer primary key, name text)").unwrap();
    db.execute("insert into ports with recursive n(i) as (select 1 union all select i + 1 from n where i < ?1) select i, 'port ' || i from n", [rows]).unwrap();
    path
}

#[test]
fn values_keep_their_types() {
    let mut session = memory();
    let select = "select 1 as a, 1.5 as b, 'é名' as c, x'00ff' as d, null as e, 9223372036854775807 as f
                  union all select 'x', 2, null, 3.0, x'', -1";
    let found = run(session.as_mut(), select).unwrap();
    assert_eq!(found.seen.lock().unwrap().names, ["a", "b", "c", "d", "e", "f"]);
    let rows = found.rows();
    assert_eq!(rows[0], ["1", "1.5", "é名", "00ff", "∅", "9223372036854775807"]);
    assert_eq!(rows[1], ["x", "2", "∅", "3.0", "", "-1"]);
}

#[test]
fn text_that_is_no_text_stays_bytes() {
    let found = run(memory().as_mut(), "select cast(x'ff41' as text)").unwrap();
    assert_eq!(found.rows(), [["ff41"]]);
}

#[test]
fn rows_touched_are_told() {
    let mut session = memory();
    let told = |session: &mut dyn Session, sql: &str| run(session, sql).unwrap().seen.lock().unwrap().affected.clone();
    assert_eq!(told(session.as_mut(), "create table t(a)"), [None]);
    assert_eq!(told(session.as_mut(), "insert into t values (1), (2), (3)"), [Some(3)]);
    assert_eq!(told(session.as_mut(), "update t set a = 0 where a > 1"), [Some(2)]);
    assert_eq!(told(session.as_mut(), "delete from t where a = 99"), [Some(0)]);
    assert_eq!(told(session.as_mut(), "create index i on t(a)"), [None]);
    assert_eq!(run(session.as_mut(), "insert into t values (7) returning a, a + 1").unwrap().rows(), [["7", "8"]]);
}

#[test]
fn an_error_names_the_place() {
    let mut session = memory();
    let Err(error) = run(session.as_mut(), "select 1,\n  nmae from sqlite_schema") else { panic!("it ran") };
    assert_eq!((error.kind, error.at), (ErrorKind::Refused, Some(12)));
    assert_eq!(
        error.explain("select 1,\n  nmae from sqlite_schema", 5),
        "no such column: nmae [SQLITE_ERROR]\n  6 |   nmae from sqlite_schema\n    |   ^"
    );
    assert!(run(session.as_mut(), "select 1").is_ok(), "the session can still be used");
}

#[test]
fn a_parameter_without_a_value_is_refused() {
    let Err(error) = run(memory().as_mut(), "select :when") else { panic!("it ran") };
    assert_eq!(error.message, "no value for the parameter :when");
}

#[test]
fn it_tells_where_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let mut session = connect(&database(folder.path(), 3)).unwrap();
    let place = session.location();
    assert_eq!((place.database.as_str(), place.schema.as_str(), place.in_transaction()), ("ferry.db", "main", false));
    run(session.as_mut(), "begin").unwrap();
    assert!(session.location().in_transaction());
}

#[test]
fn effects_are_told_without_running() {
    let mut session = memory();
    run(session.as_mut(), "create table t(a)").unwrap();
    assert_eq!(session.effect(&Request::new("select * from t")), Ok(Effect::Reads));
    assert_eq!(
        session.effect(&Request::new("insert into t values (1)")),
        Ok(Effect::Writes(Touches { rows: None, counted: true, everything: false }))
    );
    assert_eq!(
        session.effect(&Request::new("with x as (select 1) delete from t")),
        Ok(Effect::Writes(Touches { rows: None, counted: true, everything: true }))
    );
    run(session.as_mut(), "insert into t values (1), (2), (3)").unwrap();
    let two = Touches { rows: Some(2), counted: true, everything: false };
    assert_eq!(session.effect(&Request::new("update t set a = 0 where a > 1")), Ok(Effect::Writes(two)));
    assert!(session.effect(&Request::new("selct")).is_err());
    assert_eq!(run(session.as_mut(), "select count(*) from t").unwrap().rows(), [["3"]]);
}

#[test]
fn the_server_refuses_writes_when_read_only() {
    let folder = tempfile::tempdir().unwrap();
    let file = database(folder.path(), 3);
    for path in [file.to_string_lossy().as_ref(), ":memory:"] {
        let profile = Profile::new("guarded", "sqlite").with("path", path).guarded(Guard::ReadOnly);
        let mut session = open(&Sqlite, &profile, None).unwrap();
        let Err(error) = run(session.as_mut(), "create table t(a)") else { panic!("{path} was written") };
        assert_eq!(error.code.as_deref(), Some("SQLITE_READONLY"), "{error}");
    }
}

/// What is wrong with a file is told in a sentence, at once.
#[test]
fn files_that_cannot_be_opened() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    std::fs::write(path("letter.txt"), "Dear passengers, the tide is late today.").unwrap();
    let mut corrupt = std::fs::read(database(folder.path(), 3)).unwrap();
    corrupt[18..24].fill(0xff);
    std::fs::write(path("corrupt.db"), corrupt).unwrap();
    for (name, message) in [
        ("missing.db", "no such file: HERE/missing.db"),
        ("letter.txt", "HERE/letter.txt is not a SQLite database"),
        (".", "HERE/. is a folder"),
        ("corrupt.db", "HERE/corrupt.db cannot be opened: file is not a database"),
    ] {
        let Err(error) = connect(&path(name)) else { panic!("{name} was opened") };
        assert_eq!(error.message.replace(&folder.path().display().to_string(), "HERE"), message);
        assert!(error.remedy.is_some(), "{name}");
    }
    assert!(!path("missing.db").exists(), "nothing was made");
    std::fs::write(path("empty.db"), "").unwrap();
    assert!(connect(&path("empty.db")).is_ok(), "an empty file is an empty database");
    let create = Profile::new("new", "sqlite").with("path", path("new.db").to_string_lossy());
    let create = Profile {
        settings: create
            .settings
            .into_iter()
            .chain([("create".into(), jaunty_seam::profile::Setting::Flag(true))])
            .collect(),
        ..Profile::new("new", "sqlite")
    };
    assert!(open(&Sqlite, &create, None).is_ok());
}

#[test]
fn damage_in_the_middle_keeps_the_rows_before_it() {
    let folder = tempfile::tempdir().unwrap();
    let path = database(folder.path(), 20_000);
    let mut bytes = std::fs::read(&path).unwrap();
    let middle = bytes.len() / 2 / 4096 * 4096;
    bytes[middle..middle + 4096 * 8].fill(0xa5);
    std::fs::write(&path, bytes).unwrap();
    let collect = Collect::up_to(usize::MAX);
    let Err(error) = connect(&path).unwrap().run(&Request::new("select * from ports"), Box::new(collect.clone()))
    else {
        panic!("it read")
    };
    assert_eq!(error.kind, ErrorKind::Damaged, "{error}");
    assert!(collect.count() > 1000, "{} rows", collect.count());
}

#[test]
fn a_lock_is_told_and_nothing_is_lost() {
    let folder = tempfile::tempdir().unwrap();
    let path = database(folder.path(), 3);
    let other = Connection::open(&path).unwrap();
    other.execute_batch("begin exclusive").unwrap();
    let Err(error) = connect(&path) else { panic!("it was opened") };
    assert!(error.message.ends_with("cannot be opened: database is locked"), "{}", error.message);
    assert_eq!(error.kind, ErrorKind::Locked);
    other.execute_batch("commit").unwrap();
    assert!(connect(&path).is_ok());
}

#[test]
fn a_statement_stops_when_nobody_wants_more() {
    let endless = "with recursive n(i) as (select 1 union all select i + 1 from n) select i from n";
    let mut session = memory();
    let collect = Collect::up_to(100_000);
    let Err(error) = session.run(&Request::new(endless), Box::new(collect.clone())) else { panic!("it ended") };
    assert_eq!(error.kind, ErrorKind::Stopped);
    assert!(collect.count() >= 100_000);
    assert_eq!(run(session.as_mut(), "select 1").unwrap().rows(), [["1"]]);
}

#[test]
fn another_thread_ends_a_statement_without_rows() {
    let mut session = memory();
    let stop = Stop::default();
    let wish = stop.clone();
    let (begun, begins) = std::sync::mpsc::channel();
    let worker = std::thread::spawn(move || {
        let endless = "with recursive n(i) as (select 1 union all select i + 1 from n) select count(*) from n";
        begun.send(()).unwrap();
        session.run(&Request::new(endless).until(&wish), Box::new(Collect::up_to(9)))
    });
    begins.recv().unwrap();
    // Whether it has begun or not: a wish is not lost.
    stop.wish();
    assert_eq!(worker.join().unwrap().map_err(|e| e.kind), Err(ErrorKind::Stopped));
}

/// A row that was found does not wait for the next, which may be far.
#[test]
fn rows_do_not_wait_for_the_next() {
    let slow = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 3000000)
                select i from n where i in (1, 2, 3, 3000000)";
    let found = run(memory().as_mut(), slow).unwrap();
    let seen = found.seen.lock().unwrap();
    let rows: Vec<_> = seen.batches.iter().map(arrow_array::RecordBatch::num_rows).collect();
    assert_eq!(rows, [3, 1]);
    let between = seen.arrived[1] - seen.arrived[0];
    assert!(between > Duration::ZERO);
}

#[test]
fn values_are_sent_beside_the_statement() {
    let session = &mut *memory();
    let rows = rows_with(
        session,
        "select :a + 1, @b || '!', $c, ?, typeof(:a), typeof(@b), typeof($d)",
        &[(":a", "4"), ("@b", "it's"), ("$c", "null"), ("?4", "'5'"), ("$d", "2.5")],
    );
    assert_eq!(rows.unwrap(), [["5", "it's!", "∅", "5", "integer", "text", "real"]]);
}

#[test]
fn columns_tell_where_they_come_from() {
    let mut session = memory();
    run(session.as_mut(), "create table ports(code text not null, note text)").unwrap();
    run(session.as_mut(), "insert into ports values ('NQ', null)").unwrap();
    run(session.as_mut(), "create view board as select code as port from ports").unwrap();
    let statement = "select p.code as c, note, code || '', port from board, ports p";
    assert_eq!(origins(session.as_mut(), statement), ["main.ports.code!", "main.ports.note", "", "main.ports.code!"]);
}

#[test]
fn the_server_says_what_is_one_statement() {
    let mut session = memory();
    for (text, reading) in [
        ("select 1 as a¦select 2", Reading::Shorter),
        ("select 1¦limit 3", Reading::One),
        ("select id from nothing_there¦order by id", Reading::One),
        ("select 1¦order by", Reading::Further),
        ("select from from¦select 2", Reading::Shorter),
        ("create table a (b)¦without rowid", Reading::One),
        ("pragma user_version = 3¦select 1", Reading::Shorter),
    ] {
        let next = text.find('¦').unwrap() + 1;
        assert_eq!(session.reading(&Request::new(&text.replace('¦', "\n")), next), reading, "{text}");
    }
    assert_eq!(run(session.as_mut(), "pragma user_version").unwrap().rows(), [["0"]]);
}

/// Counting what a statement would change ends when somebody wants an end, and is told what its parameters are.
#[test]
fn the_count_before_a_change_can_be_stopped() {
    let mut session = memory();
    for statement in ["create table t(a)", "insert into t values (1), (2), (3)"] {
        run(session.as_mut(), statement).unwrap();
    }
    let given = [(":least".to_owned(), ParameterValue::Int(1))];
    let Ok(Effect::Writes(touches)) = session.effect(&Request::new("delete from t where a > :least").with(&given))
    else {
        panic!()
    };
    assert_eq!((touches.rows, touches.counted), (Some(2), true));
    let endless = "delete from t where a in (with recursive n(i) as (select 1 union all select i + 1 from n) select max(i) from n)";
    let stop = Stop::default();
    std::thread::scope(|scope| {
        let worker = scope.spawn(|| session.effect(&Request::new(endless).until(&stop)));
        stop.wish();
        assert_eq!(worker.join().unwrap().unwrap_err().kind, ErrorKind::Stopped);
    });
    assert_eq!(run(session.as_mut(), "select count(*) from t").unwrap().rows(), [["3"]]);
}

#[test]
fn a_database_is_copied_as_a_whole_while_others_write() {
    copied_while_others_write("wal");
    copied_while_others_write("delete");
}

fn copied_while_others_write(mode: &str) {
    let folder = tempfile::tempdir().unwrap();
    let path = database(folder.path(), 200_000);
    let db = Connection::open(&path).unwrap();
    db.execute_batch("create table moved(id integer primary key, name text)").unwrap();
    db.pragma_update(None, "journal_mode", mode).unwrap();
    drop(db);
    let done = std::sync::atomic::AtomicBool::new(false);
    let into = folder.path().join("copy.db");
    std::thread::scope(|scope| {
        // Each of its transactions keeps the sum of both tables.
        let writer = scope.spawn(|| {
            let db = Connection::open(&path).unwrap();
            db.busy_timeout(Duration::from_secs(60)).unwrap();
            let mut moves = 0;
            while !done.load(std::sync::atomic::Ordering::Relaxed) {
                db.execute_batch(
                    "begin immediate; insert into moved select * from ports order by id desc limit 1;
                     delete from ports where id = (select max(id) from ports); commit",
                )
                .unwrap();
                moves += 1;
            }
            moves
        });
        let mut session = connect(&path).unwrap();
        std::fs::File::create_new(&into).unwrap();
        let mut heard = Vec::new();
        let mut told = |pages: u64, of: u64| heard.push((pages, of));
        let copied = session.copy_into(&into, &mut told, &Stop::default());
        // Whatever comes: nobody waits for a thread without an end.
        done.store(true, std::sync::atomic::Ordering::Relaxed);
        assert!(writer.join().unwrap() > 0);
        copied.unwrap();
        assert!(heard.len() > 1 && heard.last().is_some_and(|(pages, of)| pages == of), "{heard:?}");
    });
    let copy = Connection::open(&into).unwrap();
    let sum = "select (select count(*) from ports) + (select count(*) from moved)";
    assert_eq!(copy.query_row(sum, [], |row| row.get::<_, i64>(0)).unwrap(), 200_000, "it is of one moment");
    assert_eq!(copy.query_row("pragma integrity_check", [], |row| row.get::<_, String>(0)).unwrap(), "ok");
}

#[test]
fn a_copy_is_stopped_and_refuses_an_open_transaction() {
    let folder = tempfile::tempdir().unwrap();
    let path = database(folder.path(), 100_000);
    let into = folder.path().join("copy.db");
    let mut session = connect(&path).unwrap();
    std::fs::File::create_new(&into).unwrap();
    let stop = Stop::default();
    let wish = stop.clone();
    let mut told = |_: u64, _: u64| wish.wish();
    assert_eq!(session.copy_into(&into, &mut told, &stop).unwrap_err().kind, ErrorKind::Stopped);
    run(session.as_mut(), "begin").unwrap();
    let refused = session.copy_into(&into, &mut |_, _| {}, &Stop::default()).unwrap_err();
    assert!(refused.message.contains("a transaction is open"), "{refused}");
    run(session.as_mut(), "rollback").unwrap();
    // Memory too can be kept.
    let mut memory = memory();
    run(memory.as_mut(), "create table tides as select 1 as high").unwrap();
    let kept = folder.path().join("kept.db");
    std::fs::File::create_new(&kept).unwrap();
    memory.copy_into(&kept, &mut |_, _| {}, &Stop::default()).unwrap();
    assert_eq!(run(connect(&kept).unwrap().as_mut(), "select * from tides").unwrap().rows(), [["1"]]);
    let error =
        memory.copy_into(&folder.path().join("no/such/folder.db"), &mut |_, _| {}, &Stop::default()).unwrap_err();
    assert!(error.message.starts_with("the copy cannot be written"), "{error}");
}
