//! `jaunty run` of a script that is larger than memory should be.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use rusqlite::Connection;
use support::Home;

/// A script of more than eight megabytes: a line of text between statements, so that few of them are enough.
fn large(statements: &[&str]) -> String {
    let between = format!("-- {}\n", "the tide comes in; and goes out ".repeat(64 << 10));
    let mut text = String::from("create table tides(id integer primary key, height real);\n");
    for part in 0..5 {
        text.push_str(&between);
        text.push_str(&format!("insert into tides values ({part}, {part}.5);\n"));
    }
    statements.iter().for_each(|statement| text.push_str(statement));
    assert!(text.len() > 8 << 20);
    text
}

fn quay(script: &str) -> Home {
    Home::new().database("quay.db", "create table ports (id integer)").file("large.sql", script).file(
        ".jaunty/connections.toml",
        "[quay]\nengine = \"sqlite\"\npath = \"../quay.db\"\n
         [guarded]\nengine = \"sqlite\"\npath = \"../quay.db\"\nguard = \"ask\"\n",
    )
}

fn rows(home: &Home) -> i64 {
    let connection = Connection::open(home.path("project/quay.db")).unwrap();
    connection.query_row("select count(*) from tides", [], |row| row.get(0)).unwrap_or(-1)
}

fn run(home: &Home, code: i32, arguments: &[&str]) -> [String; 2] {
    let (out, told) = home.call(&[&["run", "large.sql"], arguments].concat()).exits(code);
    [out, told]
}

#[test]
fn it_runs_while_it_is_read() {
    let home =
        quay(&large(&["select sum(height) as all_of_it from tides;\n", "update tides set height = 0 where id > 2"]));
    let [out, told] = run(&home, 0, &["-c", "quay", "--format", "csv"]);
    assert_eq!(out, "all_of_it\n12.5\n");
    assert!(told.starts_with("8 statements run, 7 rows changed in "), "{told}");
    assert_eq!(rows(&home), 5);
    // It is one run of the logbook.
    let log = home.call(&["log"]).gives();
    assert!(log.lines().count() == 1 && log.contains("run large.sql"), "{log}");
    // From a line on.
    let [_, told] = run(&home, 0, &["-c", "quay", "--from", "12"]);
    assert!(told.starts_with("2 statements run, 2 rows changed in "), "{told}");
}

#[test]
fn the_first_that_fails_ends_it_unless_it_goes_on() {
    let script = large(&[
        "insert into tides values (1, 0);\ninsert into nowhere values (1);\n",
        "insert into tides values (9, 9);\n",
    ]);
    let home = quay(&script);
    let [_, told] = run(&home, 1, &["-c", "quay"]);
    assert!(told.contains("5 rows changed") && told.contains("statement 7 at line 12: "), "{told}");
    assert_eq!(rows(&home), 5);
    let home = quay(&script);
    let [_, told] = run(&home, 1, &["-c", "quay", "--keep-going"]);
    assert!(told.contains("UNIQUE constraint failed") && told.contains("no such table: nowhere"), "{told}");
    assert!(told.contains("2 of 9 statements failed"), "{told}");
    assert_eq!(rows(&home), 6);
    // All of it, or nothing.
    let home = quay(&script);
    let [_, told] = run(&home, 1, &["-c", "quay", "--single-transaction"]);
    assert!(told.contains("everything was rolled back"), "{told}");
    assert_eq!(rows(&home), -1);
    let home = quay(&large(&[]));
    run(&home, 0, &["-c", "quay", "--single-transaction", "--quiet"]);
    assert_eq!(rows(&home), 5);
}

#[test]
fn what_is_broken_is_told_with_its_line() {
    let home = quay(&large(&["select 'open;\n"]));
    let [_, told] = run(&home, 2, &["-c", "quay"]);
    assert!(told.contains("line 12: a quote or comment of the statement never closes"), "{told}");
    let home = quay(&large(&["begin;\ninsert into tides values (7, 7);\n"]));
    let [_, told] = run(&home, 0, &["-c", "quay"]);
    assert!(told.contains("a transaction was open at the end; it was rolled back"), "{told}");
    assert_eq!(rows(&home), 5);
    // A connection that asks first is not run on by mistake.
    let home = quay(&large(&[]));
    let [_, told] = run(&home, 2, &["-c", "guarded"]);
    assert!(told.contains("add --yes to run: create table tides"), "{told}");
    assert_eq!(rows(&home), -1);
    run(&home, 0, &["-c", "guarded", "--yes"]);
    assert_eq!(rows(&home), 5);
}

#[test]
fn a_person_stops_it() {
    let endless = "with recursive n(i) as (select 1 union all select i + 1 from n) select count(*) from n;\n";
    let home = quay(&large(&[endless]));
    let there = || rows(&home) == 5;
    let going = home.call(&["run", "large.sql", "-c", "quay"]).begins().until("rows are there", there);
    let (_, told) = going.interrupted().exits(130);
    assert!(told.contains("cancelled in the statement at line 12"), "{told}");
    assert!(home.call(&["log"]).gives().contains("stopped"));
}
