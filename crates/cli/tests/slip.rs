//! Changing rows from a result: drafted, seen as SQL, sent in one transaction, and taken back.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::path::Path;
use std::thread;
use std::time::Duration;

use jaunty_testservers::{PASSWORD, Postgres};
use rusqlite::Connection;
use support::{Home, Screen};

const BERTHS: &str = "
    create table berths (
        id integer primary key,
        code text not null unique,
        depth numeric,
        note text,
        beside integer references berths (id)
    );
    insert into berths values
        (1, 'N1', 4.5, 'by the crane', null), (2, 'N2', 6, '', 1), (3, 'N3', 7.25, null, 1), (4, 'S1', 3, 'mud', null);
    create table loose (code text, depth numeric);
    insert into loose values ('A', 1), ('A', 1), ('B', 2);
    create view deep as select * from berths where depth > 5;";

fn quay() -> Home {
    Home::new()
        .database("quay.db", BERTHS)
        .file("berths.sql", "select * from berths;\nselect * from deep;\nselect * from loose;\n")
        .file(
            ".jaunty/connections.toml",
            "[quay]\nengine = \"sqlite\"\npath = \"../quay.db\"\n
             [guarded]\nengine = \"sqlite\"\npath = \"../quay.db\"\nguard = \"ask\"\nlabel = \"production\"\n
             [passing]\nengine = \"sqlite\"\npath = \"../quay.db\"\nkeep = false\n
             [locked]\nengine = \"sqlite\"\npath = \"../quay.db\"\nguard = \"read-only\"\n",
        )
}

fn open_on(home: &Home, connection: &str) -> Screen {
    let screen = home.screen(&["berths.sql", "-c", connection]);
    screen.shows("quay.db · main").press(&["C-g"]).shows("1–4 of 4").press(&["C-t"]);
    screen
}

fn open(home: &Home) -> Screen {
    open_on(home, "quay")
}

fn one(home: &Home, query: &str) -> String {
    let connection = Connection::open(home.path("project/quay.db")).unwrap();
    connection.busy_timeout(Duration::from_secs(20)).unwrap();
    connection.query_row(query, [], |row| row.get::<_, Option<String>>(0)).unwrap().unwrap_or_else(|| "NULL".into())
}

fn all(home: &Home) -> String {
    one(
        home,
        "select group_concat(quote(id) || quote(code) || quote(depth) || quote(note) || quote(beside), ';') from (select * from berths order by id)",
    )
}

#[test]
fn a_value_is_changed_sent_and_taken_back() {
    let home = quay();
    let before = all(&home);
    let screen = open(&home);
    screen.press(&["Right", "a"]).shows("code · TEXT · not NULL").shows("was N1");
    screen.types("W1").press(&["Enter"]).shows("1 value drafted").shows("slip: 1 changed");
    assert_eq!(all(&home), before, "nothing is sent yet");
    // NULL and an empty text are told apart.
    screen.press(&["Right", "Right", "a"]).shows("was by the crane").press(&["C-n", "Enter"]).shows("∅");
    screen.press(&["Down", "a"]).shows("was ''").types("deep").press(&["C-u", "Enter"]).loses("was ''");
    screen.press(&["M-u"]).shows("slip · berths on quay · 1 changed");
    screen.shows("id 1: code: N1 → W1, note: by the crane → NULL");
    screen.shows("update main.berths set code = 'W1', note = null where id = 1;");
    screen.press(&["C-g"]).shows("sent: 1 changed in berths").shows("W1");
    assert_eq!(one(&home, "select code || coalesce(note, 'NULL') from berths where id = 1"), "W1NULL");
    screen.press(&["T"]).shows("take back · berths").shows("code: W1 → N1, note: NULL → by the crane");
    screen.press(&["C-g"]).shows("taken back: 1 changed").shows("by the crane");
    assert_eq!(all(&home), before);
    // What was taken back can be done again, and everything stands in the logbook.
    screen
        .press(&["T"])
        .shows("code: N1 → W1")
        .press(&["Escape"])
        .press(&["M-l"])
        .shows("taken back: 1 changed · berths");
}

#[test]
fn rows_are_added_copied_and_deleted() {
    let home = quay();
    let before = all(&home);
    let screen = open(&home);
    screen.press(&["A"]).shows("numbered by the server").shows("needs a value");
    screen.press(&["Enter"]).shows("code · TEXT").types("E1").press(&["Enter"]);
    // The next field is in hand already.
    screen.press(&["Enter"]).shows("depth · numeric").types("9.5").press(&["Enter"]).shows("values ('E1', 9.5)");
    screen.press(&["Escape"]).shows("+ added    code E1, depth 9.5").press(&["Escape"]);
    screen
        .press(&["Down", "Down", "Down", "C"])
        .shows("S1")
        .shows("insert into main.berths (code, depth, note, beside)");
    screen.press(&["Enter"]).shows("code · TEXT").types("S2").press(&["Enter", "Escape", "Escape"]);
    screen.press(&["Up", "DC"]).shows("1 row marked to be deleted").shows("slip: 2 added, 1 deleted");
    screen.press(&["M-u"]).shows("− deleted  id 3").press(&["C-g"]).shows("sent: 2 added, 1 deleted in berths");
    assert_eq!(
        one(&home, "select group_concat(code || depth, ' ') from (select * from berths order by id)"),
        "N14.5 N26 S13 E19.5 S23"
    );
    screen.press(&["T"]).shows("take back · berths").press(&["C-g"]).shows("taken back:");
    assert_eq!(all(&home), before);
}

#[test]
fn a_row_that_somebody_else_changed_is_shown_beside_ours() {
    let home = quay();
    let screen = open(&home);
    let change =
        |statement: &str| Connection::open(home.path("project/quay.db")).unwrap().execute_batch(statement).unwrap();
    screen.press(&["Right", "a"]).shows("was N1").types("W1").press(&["Enter"]).shows("1 value drafted");
    change("update berths set note = 'theirs' where id = 1");
    screen.press(&["M-u"]).shows("code: N1 → W1").press(&["C-g"]);
    screen.shows("a row was changed by somebody else").shows("as it was read").shows("by the crane").shows("theirs");
    screen.press(&["C-g"]).shows("choose first whose values to keep").press(&["3"]).shows("settled");
    screen.press(&["C-g"]).shows("sent: 1 changed");
    assert_eq!(one(&home, "select code || note from berths where id = 1"), "W1theirs");
    // Ours makes the row as it was read; theirs drops the draft.
    for (key, told, expected) in [("2", "sent: 1 changed", "W2first2"), ("1", "what they changed stays", "X1other")] {
        change(&format!("update berths set code = 'W1', note = 'first{key}' where id = 1"));
        screen
            .press(&["C-t", "C-g"])
            .shows(&format!("first{key}"))
            .press(&["C-t", "Home", "Right", "a"])
            .shows("was W1")
            .types("W2")
            .press(&["Enter"]);
        screen.shows("slip: 1 changed");
        change(if key == "1" {
            "update berths set code = 'X1', note = 'other' where id = 1"
        } else {
            "update berths set note = 'other' where id = 1"
        });
        screen.press(&["M-u"]).shows("code: W1 → W2").press(&["C-g"]).shows("as it was read");
        screen.press(&[key]);
        if key == "2" {
            screen.shows("note: other → first2").press(&["C-g"]);
        }
        screen.shows(told);
        assert_eq!(one(&home, "select code || note from berths where id = 1"), expected);
    }
    // One that is gone can be added again.
    screen
        .press(&["C-t", "C-g"])
        .shows("X1")
        .press(&["C-t", "Home", "Right", "a"])
        .shows("was X1")
        .types("Y1")
        .press(&["Enter"])
        .shows("slip:");
    change("pragma foreign_keys = off; delete from berths where id = 1");
    screen.press(&["M-u"]).shows("X1 → Y1").press(&["C-g"]).shows("The row is gone").press(&["2"]).shows("+ added");
    screen.press(&["C-g"]).shows("sent: 1 added");
    assert_eq!(one(&home, "select code || note from berths where id = 1"), "Y1other");
}

#[test]
fn it_says_what_cannot_be_changed_and_why() {
    let home = quay();
    let screen = open(&home);
    screen.press(&["C-t", "Down", "C-g"]).shows("1–2 of 2").press(&["C-t", "a"]);
    screen.shows("deep is a view: change the table that it reads from");
    // Without a key all columns tell a row apart, if they do.
    screen
        .press(&["C-t", "Down", "C-g"])
        .shows("3 rows")
        .press(&["C-t", "a"])
        .shows("was A")
        .types("C")
        .press(&["Enter"]);
    screen.shows("slip: 1 changed").press(&["M-u"]).shows("where code = 'A' and").press(&["C-g"]);
    screen.shows("2 rows have these values of code, depth: nothing was sent").press(&["d"]).shows("the slip is empty");
    screen
        .press(&["Down", "Down", "a"])
        .shows("was B")
        .types("C")
        .press(&["Enter", "M-u"])
        .shows("code: B → C")
        .press(&["C-g"]);
    screen.shows("sent: 1 changed");
    assert_eq!(one(&home, "select group_concat(code, '') from (select code from loose order by rowid)"), "AAC");
}

#[test]
fn guards_count() {
    let home = quay();
    let before = all(&home);
    let screen = home.screen(&["--connection", "locked", "berths.sql"]);
    screen
        .shows("locked")
        .press(&["C-g"])
        .shows("4 rows")
        .press(&["C-t", "a"])
        .shows("locked is read-only: its rows cannot be changed here");
    screen.press(&["C-q"]).ends();
    let screen = open_on(&home, "guarded");
    screen.press(&["Right", "a"]).shows("was N1");
    screen.types("W1").press(&["Enter", "M-u"]).shows("N1 → W1").press(&["C-g"]);
    screen.shows("!! guarded (production) asks before anything that writes: ctrl-g again sends it");
    assert_eq!(all(&home), before);
    screen.press(&["C-g"]).shows("sent: 1 changed");
    assert_ne!(all(&home), before);
}

#[test]
fn marked_cells_and_blocks_are_filled() {
    let home = quay();
    let screen = open(&home);
    // Three cells get one value.
    screen
        .press(&["Right", "Right", "m", "Down", "Down", "a"])
        .shows("3 rows")
        .types("5")
        .press(&["Enter"])
        .shows("3 values drafted");
    // A block of two rows and two columns, from the cell in hand on.
    screen.press(&["Left"]).pastes("P1\t1.5\nP2\t2.5\n").shows("4 cells drafted").shows("P2");
    // One that does not fit is left out as a whole.
    screen.pastes("a\tb\nc\td\ne\tf\n").shows("Nothing was drafted");
    screen
        .press(&["M-u"])
        .shows("4 changed")
        .shows("id 3: code: N3 → P1, depth: 7.25 → 1.5")
        .press(&["C-g"])
        .shows("sent: 4 changed");
    assert_eq!(
        one(&home, "select group_concat(code || depth, ' ') from (select * from berths order by id)"),
        "N15 N25 P11.5 P22.5"
    );
}

#[test]
fn drafts_of_a_connection_that_keeps_nothing_are_in_memory_only() {
    let home = quay();
    let screen = open_on(&home, "passing");
    screen.press(&["Right", "a"]).shows("was N1").types("W1").press(&["Enter"]).shows("slip: 1 changed");
    assert_eq!(drafted(&home), 0);
    screen
        .press(&["M-u"])
        .shows("N1 → W1")
        .press(&["C-g"])
        .shows("sent: 1 changed")
        .shows("it cannot be taken back here");
    assert_eq!((one(&home, "select code from berths where id = 1"), drafted(&home)), ("W1".into(), 0));
}

/// The files of drafts that were on disk.
fn drafted(home: &Home) -> usize {
    let state = Path::new(&home.environment().into_iter().find(|(name, _)| name == "XDG_STATE_HOME").unwrap().1)
        .join("jaunty/slips");
    // What is being written has another name until it is whole.
    let files = std::fs::read_dir(state).into_iter().flatten().flatten().map(|entry| entry.path());
    files.filter(|path| path.extension().is_some_and(|ending| ending == "json")).count()
}

#[test]
fn drafts_survive_a_kill() {
    for round in 0..12_u64 {
        let home = quay();
        let screen = open(&home);
        screen.press(&["Right", "a"]).shows("was N1");
        screen.types("KILLED").press(&["Enter"]);
        // Sometimes before it is on disk, sometimes long after.
        thread::sleep(Duration::from_millis(round * 9));
        screen.kill();
        let was_drafted = drafted(&home) > 0;
        let screen = home.screen(&["berths.sql", "-c", "quay"]);
        screen.shows("quay.db · main");
        if was_drafted {
            screen
                .shows("1 change drafted earlier and not sent · alt-u lists them")
                .press(&["M-u"])
                .shows("code: N1 → KILLED")
                .press(&["d"])
                .shows("the slip is empty");
        } else {
            screen.press(&["M-u"]).shows("nothing is drafted");
        }
        screen.press(&["C-q"]).ends();
    }
}

#[test]
fn a_kill_while_it_is_sent_leaves_all_or_nothing() {
    let (mut kept, mut sent) = (0, 0);
    for round in 0..14_u64 {
        let home = quay();
        Connection::open(home.path("project/quay.db")).unwrap().execute_batch("update berths set depth = 1").unwrap();
        let screen = open(&home);
        screen.press(&["Right", "Right", "m", "Down", "Down", "Down", "a"]).shows("4 rows").types("2");
        screen.press(&["Enter"]).shows("4 values drafted").press(&["M-u"]).shows("4 changed").press(&["C-g"]);
        thread::sleep(Duration::from_millis(round * 3));
        screen.kill();
        let depths = one(&home, "select group_concat(distinct depth) from berths");
        assert!(depths == "1" || depths == "2", "round {round}: {depths}");
        let left = drafted(&home) > 0;
        assert!(left || depths == "2", "round {round}: what was not sent is still drafted");
        kept += usize::from(left);
        sent += usize::from(depths == "2");
        if left {
            let screen = home.screen(&["berths.sql", "-c", "quay"]);
            screen.shows("4 changes drafted earlier").press(&["M-u"]).shows("berths on quay · 4 changed");
            for _ in 0..4 {
                screen.press(&["d"]);
            }
            screen.shows("the slip is empty").press(&["C-q"]).ends();
        }
    }
    assert!(kept + sent >= 14, "{kept} kept, {sent} sent");
}

#[test]
fn a_copy_is_kept_before_a_statement_that_may_lose_something() {
    let home = quay().file("gone.sql", "drop table loose;\ndelete from berths where id > 2;\n");
    let screen = home.screen(&["gone.sql", "-c", "guarded"]);
    screen.shows("quay.db · main").press(&["C-g"]).shows("keep a copy first (definition and rows, as SQL)");
    screen.press(&["k"]).shows("3 rows kept in ").shows("jaunty run brings them back");
    let copy = || {
        let folder = std::fs::read_dir(home.path("project")).unwrap();
        let mut found: Vec<_> = folder.map(|entry| entry.unwrap().path()).collect();
        found.retain(|path| path.file_name().unwrap().to_str().unwrap().starts_with("copy-of-"));
        found.sort();
        found
    };
    assert_eq!(copy().len(), 1);
    let tables = "select group_concat(name, ' ') from sqlite_schema where type = 'table'";
    // The statement runs after its copy is on the disk.
    screen.until("the table is gone", |_| one(&home, tables) == "berths");
    // It brings them back.
    home.call(&["run", copy()[0].to_str().unwrap(), "-c", "quay"]).exits(0);
    assert_eq!(one(&home, "select group_concat(code || depth, ' ') from loose"), "A1 A1 B2");
    // Rows count, too; and where no copy can be kept nothing is run.
    screen.press(&["C-n", "C-g"]).shows("keep a copy first").press(&["n"]).loses("keep a copy first");
    assert_eq!(one(&home, "select count(*) || '' from berths"), "4");
    screen.press(&["C-g"]).shows("keep a copy first").press(&["k"]).shows("4 rows kept in ");
    screen.until("the rows are gone", |_| one(&home, "select count(*) || '' from berths") == "2");
    assert!(copy().iter().any(|path| path.to_str().unwrap().contains("copy-of-berths-")));
    // On request, in the catalog.
    screen
        .press(&["C-o"])
        .shows("catalog of")
        .press(&["F5"])
        .shows(" loose")
        .types("loose")
        .press(&["C-k"])
        .shows("3 rows kept in ");
}

/// What a schema holds is told before it is dropped, and it is copied whole; so it is from the catalog, and without a screen.
#[test]
fn a_copy_of_a_schema_is_kept() {
    let server = Postgres::start();
    server.sql(
        "create schema \"Empty\"; create schema tolls; create table tolls.rates (id int primary key, pence int); create table loose (id int);
         insert into tolls.rates values (1, 250), (2, 120); create view tolls.dear as select * from tolls.rates",
    );
    let home = Home::new()
        .database("other.db", "create table a (n)")
        .file("gone.sql", "drop schema tolls, \"Empty\" cascade;\n")
        .file(
            ".jaunty/connections.toml",
            &format!(
                "[bookings]\nurl = \"postgresql://clerk@127.0.0.1:{}/bookings\"\nguard = \"ask\"\n\
             secret_command = \"echo {PASSWORD}\"\n",
                server.port
            ),
        );
    let screen = home.screen(&["gone.sql", "-c", "bookings"]);
    screen.shows("bookings").press(&["C-o"]).shows("catalog of").shows("tolls").press(&["Left", "Left"]).types("tolls");
    screen.press(&["C-k"]).shows("2 rows kept in ").shows("copy-of-tolls-").press(&["Escape"]).loses("catalog of");
    screen.press(&["C-g"]).shows("tolls has 1 table, 1 view").shows("keep a copy first");
    screen.press(&["k"]).loses("keep a copy first");
    let there = "select count(*) from information_schema.schemata where schema_name in ('tolls', 'Empty')";
    screen.until("the schemas are gone", |_| server.sql(there).trim() == "0");
    let folder = std::fs::read_dir(home.path("project")).unwrap().map(|entry| entry.unwrap().path());
    let mut copies: Vec<_> = folder.filter(|path| path.to_string_lossy().contains("copy-of-tolls-")).collect();
    assert_eq!(copies.len(), 2);
    copies.sort_unstable_by_key(|path| path.metadata().unwrap().modified().unwrap());
    home.call(&["run", copies.last().unwrap().to_str().unwrap(), "-c", "bookings", "--yes"]).exits(0);
    assert_eq!(server.sql("select count(*), max(pence) from tolls.dear").trim(), "2|250");
    assert_eq!(server.sql(there).trim(), "2");
    let (out, _) = home.call(&["dump", "bookings", "--schema", "tolls"]).exits(0);
    assert!(out.contains("tolls.rates") && !out.contains("loose"), "{out}");
    for (arguments, expected) in [
        (&["bookings", "--schema", "toll"][..], "there is no schema toll; there are public, tolls"),
        (&["bookings", "loose", "--schema", "tolls"], "writes all that is in it; leave loose out"),
        (&["other.db", "--schema", "main"], "has no schemas within a database"),
    ] {
        let (_, told) = home.call(&[&["dump"], arguments].concat()).exits(2);
        assert!(told.contains(expected), "{told}");
    }
}

#[test]
fn rows_that_a_new_rule_would_refuse_are_counted_before_it_is_made() {
    let home = quay().file(
        "rules.sql",
        "create unique index one on loose (code);\nalter table berths drop column note;\ncreate unique index two on berths (code);\n",
    );
    let screen = home.screen(&["rules.sql", "-c", "guarded"]);
    screen.shows("quay.db · main").press(&["C-g"]).shows("guarded asks before anything that writes");
    screen.shows("The server will refuse it: values of code that come several times: 1.").press(&["n"]);
    screen.press(&["C-n", "C-g"]).shows("The table is rewritten; nobody else writes to the database").press(&["n"]);
    screen.press(&["C-n", "C-g"]).shows("There are no values of code that come several times.").press(&["Escape"]);
    screen.loses("There are no values");
}
