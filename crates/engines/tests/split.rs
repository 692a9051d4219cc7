//! Where statements end, by our splitter and by SQLite itself.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

use jaunty_language::dialect::SQLITE;
use jaunty_language::split;
use jaunty_language::text::rope;
use proptest::prelude::*;
use rusqlite::Connection;

/// Where every statement ends in a semicolon, our split is the one that SQLite makes: each piece,
/// given to SQLite, is one statement, and SQLite stops reading where we do.
#[test]
fn the_split_is_sqlites_own() {
    let script = include_str!("script.sql");
    let text = rope(script);
    let db = Connection::open_in_memory().unwrap();
    let mut at = 0;
    let mut count = 0;
    for statement in split::statements(&text, &SQLITE, 0) {
        let (ours, tail) = (statement.end, sqlite_tail(&db, &script[at..]));
        assert_eq!(at + tail, ours, "after {:?}", &script[statement.start..ours]);
        db.execute_batch(&script[statement.start..statement.end]).unwrap();
        at = ours;
        count += 1;
    }
    assert_eq!(count, 28);
}

/// How many bytes SQLite takes for the first statement of a text.
#[allow(unsafe_code)] // the tail is not to be had otherwise
fn sqlite_tail(db: &Connection, text: &str) -> usize {
    use rusqlite::ffi;
    let mut statement = std::ptr::null_mut();
    let mut tail = std::ptr::null();
    // SAFETY: the text outlives the call and its length is given; the statement is finalized.
    unsafe {
        let code =
            ffi::sqlite3_prepare_v2(db.handle(), text.as_ptr().cast(), text.len() as i32, &mut statement, &mut tail);
        assert_eq!(code, ffi::SQLITE_OK, "{:?}", text.lines().take(3).collect::<Vec<_>>());
        ffi::sqlite3_finalize(statement);
        tail.cast::<u8>().offset_from(text.as_ptr()) as usize
    }
}

/// Statements that SQLite takes over the tables of [`tables`]. A blank is any gap; `~` is a blank
/// inside a token and stays one.
const STATEMENTS: &[&str] = &[
    "select a , b from t where b in ( select d from u ) order by a",
    "select ';~--~x' , \";\" , `;` , [;] from ( select 1 as [;] )",
    "insert into t ( a , b ) select d , d from u union all select 1 , 2",
    "insert or replace into t values ( 1 , 'it''s;' ) on conflict ( a ) do update set b = 2",
    "insert into t default values",
    "with x as ( select 1 as n ) , y as ( values ( 2 ) ) delete from t where a in ( select n from x )",
    "with x ( n ) as ( select 1 union select 2 ) insert into t select n , n from x",
    "with x as ( select 1 as n ) update t set b = ( select n from x )",
    "create trigger g after update of b on t begin insert into u values ( 1 ) ; delete from u ; end",
    "create temp trigger h before delete on t when old.a is not null begin select case when 1 then 2 end ; end",
    "create view v as with x as ( select 1 as n ) select case when n then 1 else 2 end from x",
    "create table c ( a int references t ( a ) on delete cascade on update set null , b text )",
    "create table w ( a integer primary key , b ) without rowid",
    "alter table t drop column b",
    "alter table t rename to s",
    "drop table if exists nothing_there",
    "explain query plan select 1",
    "explain insert into t values ( 1 , 2 )",
    "begin immediate",
    "commit",
    "rollback to savepoint s",
    "release savepoint s",
    "savepoint s",
    "pragma foreign_keys = on",
    "vacuum",
    "analyze t",
    "reindex",
    "select 1 as begin",
    "select a as replace , b as release from t",
    "values ( 1 ) , ( 2 ) union all values ( 3 )",
    "replace into t values ( 1 , x'3b' )",
    "update t set b = replace ( 'a;b' , ';' , '' ) where a = 1 returning a , b",
];

fn tables() -> Connection {
    let db = Connection::open_in_memory().unwrap();
    db.execute_batch("create table t (a integer unique, b text); create table u (d);").unwrap();
    db
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// Whatever blank lines, titles and comments stand inside statements that end in semicolons,
    /// the split is SQLite's.
    #[test]
    fn the_split_is_sqlites_whatever_stands_between(
        chosen in proptest::collection::vec(0..STATEMENTS.len(), 1..6),
        gaps in proptest::collection::vec(0..9_usize, 250),
    ) {
        const GAPS: [&str; 9] =
            [" ", "\n", "\n\n", "\n\n-- a title\n", " /* ; */ ", "\n/* a title\n over two lines; */\n", "\t", "\r\n\r\n", " -- ;\n\n"];
        let mut gap = gaps.iter().map(|i| GAPS[*i]).cycle();
        let mut script = String::new();
        for index in &chosen {
            for word in STATEMENTS[*index].split(' ') {
                script.push_str(gap.next().unwrap_or(" "));
                script.push_str(&word.replace('~', " "));
            }
            script.push(';');
        }
        let text = rope(&script);
        let db = tables();
        let mut at = 0;
        for statement in split::statements(&text, &SQLITE, 0) {
            let tail = sqlite_tail(&db, &script[at..]);
            prop_assert_eq!(at + tail, statement.end, "{:?} in {}", &script[statement.start..statement.end], script);
            at = statement.end;
        }
        prop_assert_eq!(at, script.len());
    }

    /// The same statements without their semicolons, each under a title: every one is found.
    #[test]
    fn titles_find_statements_without_semicolons(chosen in proptest::collection::vec(0..STATEMENTS.len(), 1..8)) {
        // What begins with a query goes on as one behind an `INSERT INTO t` or `EXPLAIN` that wants it; none here does.
        let mut script = String::new();
        for (number, index) in chosen.iter().enumerate() {
            script.push_str(&format!("-- Number {number}\n{}\n\n", STATEMENTS[*index].replace('~', " ")));
        }
        let text = rope(&script);
        let titles: Vec<_> = split::statements(&text, &SQLITE, 0).map(|s| s.title_text(&text, &SQLITE)).collect();
        let expected: Vec<_> = (0..chosen.len()).map(|number| Some(format!("Number {number}"))).collect();
        prop_assert_eq!(titles, expected, "{}", script);
    }
}
