//! Comparing rows and structures: on the command line, and on the screen.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use rusqlite::Connection;
use support::{Home, Screen};

const LEFT: &str = "create table ports (id integer primary key, name text, berths integer);
    insert into ports values (1, 'Saltmarsh', 4), (2, 'Gull''s Rest', 2), (3, 'Old Quay', null), (5, 'Tern Sound', 6);
    create table wrecks (id integer primary key);
    create view busy as select name from ports where berths > 3;";

const RIGHT: &str =
    "create table ports (id integer primary key, name text not null default '-', berths integer, opened text);
    insert into ports values (1, 'Saltmarsh', 5, '2031'), (2, 'Gull''s Rest', 2, null), (4, 'New Quay', 7, null), (5, 'TERN SOUND', 6, null);
    create view busy as select name from ports where berths > 5;
    create view later as select * from busy;";

fn two() -> Home {
    Home::new()
        .database("quay.db", LEFT)
        .database("office.db", RIGHT)
        .file("ports.sql", "-- Ports\nselect id, name, berths from ports order by id;\n")
        .file(
            ".jaunty/connections.toml",
            "[quay]\nengine = \"sqlite\"\npath = \"../quay.db\"\n
             [office]\nengine = \"sqlite\"\npath = \"../office.db\"\nguard = \"read-only\"\n",
        )
}

/// Compares with more arguments, and gives what is written.
fn compare(home: &Home, code: i32, arguments: &[&str]) -> [String; 2] {
    let (out, told) = home.call(&[&["compare"], arguments].concat()).exits(code);
    [out, told]
}

const SIDES: [&str; 4] = ["--left", "quay", "--right", "office"];

fn rows(home: &Home, code: i32, arguments: &[&str]) -> [String; 2] {
    compare(home, code, &[&["rows"], &SIDES[..], arguments].concat())
}

#[test]
fn rows_are_compared_and_made_alike() {
    let home = two();
    let [told, _] = rows(&home, 0, &["--table", "ports"]);
    assert_eq!(
        told,
        "≠ id 1  berths: 4 → 5\n◂ id 3  name 'Old Quay' · berths NULL\n▸ id 4  name 'New Quay' · berths 7\n\
         ≠ id 5  name: 'Tern Sound' → 'TERN SOUND'\n2 changed · 1 only left · 1 only right · 1 row the same\n\
         compared by id\nnot compared, as only the right has them: opened\n"
    );
    let [told, _] = rows(&home, 3, &["--table", "ports", "--json", "--exit-code"]);
    let lines: Vec<serde_json::Value> = told.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines[0]["columns"], serde_json::json!(["berths"]));
    assert_eq!((&lines[1]["right"], &lines[2]["left"]), (&serde_json::Value::Null, &serde_json::Value::Null));
    // Both sides may be named in order.
    let [in_order, _] = compare(&home, 0, &["rows", "quay", "office", "--table", "ports"]);
    assert_eq!(in_order, rows(&home, 0, &["--table", "ports"])[0]);
    // The statements do what they say.
    let [script, _] = rows(&home, 0, &["--table", "ports", "--statements"]);
    assert!(!script.contains("returning") && script.starts_with("begin"), "{script}");
    std::fs::write(home.path("project/alike.sql"), script).unwrap();
    home.call(&["run", "alike.sql", "-c", "quay"]).exits(0);
    let [told, _] = rows(&home, 0, &["--table", "ports", "--exit-code"]);
    assert!(told.starts_with("4 rows the same; nothing differs\n"), "{told}");
    // Both runs are in the logbook, and kept rows are compared without a connection.
    let log = home.call(&["log"]).gives();
    assert!(log.contains("compare"), "{log}");
    let [told, _] = compare(&home, 0, &["rows", "--left-run", "1", "--right-run", "2", "--key", "id"]);
    assert!(told.contains("2 changed · 1 only left · 1 only right · 1 row the same"), "{told}");
}

#[test]
fn rows_that_cannot_be_compared_say_why() {
    let home = two();
    for (arguments, expected) in [
        (&["--table", "prts"][..], "there is no table or view prts"),
        (
            &["--table", "ports", "--key", "opened"],
            "the left one has no column \"opened\": it cannot be part of the key",
        ),
        (&["--statement", "delete from ports"], "only a statement that reads gives rows to compare"),
        (&[], "name the rows: --table, --statement, or a run for each side"),
        (&["--statement", "select 1 as a", "--right-statement", "select 2 as b"], "no column of the same name"),
        (&["--table", "ports", "--key", "name", "--statements"], "ports is told apart by id: compare by that"),
        (&["--table", "busy", "--statements"], "busy is a view: change the table that it reads from"),
    ] {
        let [out, told] = rows(&home, 2, arguments);
        assert!(told.contains(expected) && out.is_empty(), "{arguments:?}: {told}{out}");
    }
    let [_, told] = compare(&home, 2, &["rows", "--table", "ports"]);
    assert!(told.contains("name the left side: --left, or --left-run"), "{told}");
    // Without a key rows are the same, or not.
    let [told, _] = rows(&home, 0, &["--table", "busy"]);
    assert!(told.contains("compared as whole rows: no key is known (--key names one)"), "{told}");
}

/// What is not there because it was not fetched, or is not shown, is nothing to delete.
#[test]
fn no_statements_are_made_of_rows_that_are_not_all_there() {
    let home = two()
        .file("endless.sql", "with recursive n(id) as (select 1 union all select id + 1 from n) select id from n;\n");
    home.call(&["run", "endless.sql", "-c", "quay"]).begins().until_it_writes().interrupted().exits(130);
    let arguments = ["rows", "--left", "quay", "--table", "ports", "--right-run", "last", "--key", "id"];
    let [_, told] = compare(&home, 0, &arguments);
    assert!(told.contains("the rows of the right run are not all there: stopped"), "{told}");
    // That was a run, too.
    let arguments = arguments.map(|word| if word == "last" { "1" } else { word });
    let [out, told] = compare(&home, 2, &[&arguments[..], &["--statements"]].concat());
    assert!(told.contains("no statements are made of them") && out.is_empty(), "{told}{out}");
    for (limit, code, expected) in
        [(4, 2, "the statement of the left takes only some of the rows (limit)"), (50, 0, "")]
    {
        let statement = format!("select id, name, berths from ports limit {limit}");
        let [_, told] = rows(&home, code, &["--statement", &statement, "--key", "id", "--statements"]);
        assert!(told.contains(expected), "{limit}: {told}");
    }
    // On the screen: one is narrowed to one row.
    let screen = home.screen(&["ports.sql", "-c", "office"]);
    screen.shows("office.db · main").press(&["C-g"]).shows("1–4 of 4").press(&["C-t", "t"]).shows("pinned left");
    screen.press(&["C-t", "C-g"]).shows("held · Ports").press(&["C-t"]).press(&["="]).shows("of 1, all 4");
    screen.press(&["K"]).shows("▸ 3 only right").shows("!! it is narrowed to some of its rows");
    for key in ["d", "p", "c"] {
        screen.press(&[key]).shows("no statements are made of the left result: it is narrowed");
    }
    // The third and last row of three may be there all the same.
    let home = two().file("ports.sql", "-- Ports\nselect id, name, berths from ports order by id limit 3;\n");
    let screen = home.screen(&["ports.sql", "-c", "office"]);
    screen.shows("office.db · main").press(&["C-g"]).shows("1–3 of 3").press(&["C-t", "t"]).shows("pinned left");
    screen.press(&["C-t", "C-g"]).shows("held · Ports").press(&["C-t", "K"]).shows("rows that differ");
    screen.shows("!! its statement takes only some of the rows (limit)");
    screen.press(&["d"]).shows("no statements are made of the left result: its statement takes only some");
}

#[test]
fn structures_are_compared_and_made_alike() {
    let home = two();
    let arguments = [&["structure"], &SIDES[..]].concat();
    let [told, _] = compare(&home, 0, &arguments);
    assert!(told.starts_with("≠ table ports\n    ≠ column name  text  →  text not null default '-'\n"), "{told}");
    assert!(told.ends_with("2 changed · 1 only left · 1 only right · 0 objects the same\n"), "{told}");
    let [told, _] = compare(&home, 3, &[&arguments[..], &["--json", "--exit-code"]].concat());
    let first: serde_json::Value = serde_json::from_str(told.lines().next().unwrap()).unwrap();
    assert_eq!((first["name"].as_str(), first["parts"][0]["part"].as_str()), (Some("ports"), Some("column")));
    let [script, told] = compare(&home, 0, &[&arguments[..], &["--statements"]].concat());
    assert!(told.contains("delete rows or values"), "{told}");
    std::fs::write(home.path("project/alike.sql"), script).unwrap();
    home.call(&["run", "alike.sql", "-c", "quay"]).exits(0);
    let [told, _] = compare(&home, 0, &[&arguments[..], &["--exit-code"]].concat());
    assert_eq!(told, "3 objects the same; nothing differs\n");
    let [_, told] = compare(&home, 2, &["structure", "quay", "nowhere"]);
    assert!(told.contains("no connection named \"nowhere\""), "{told}");
    let [_, told] = compare(&home, 1, &[&arguments[..], &["--schema", "odd"]].concat());
    assert!(told.contains("there is no schema odd, or nothing in it"), "{told}");
}

/// The left and the right result beside each other, the left connection in hand.
fn beside(home: &Home) -> Screen {
    let screen = home.screen(&["ports.sql", "-c", "office"]);
    screen.shows("office.db · main").press(&["C-g"]).shows("1–4 of 4").press(&["C-t", "t"]).shows("pinned left");
    screen.press(&["C-t", "F3"]).shows("connections").types("quay").press(&["Enter"]).shows("quay.db · main");
    screen.press(&["C-g"]).shows("held from office").shows("Old Quay").press(&["C-t", "K"]);
    screen.shows("rows that differ · by id");
    screen
}

#[test]
fn what_differs_is_seen_drafted_and_sent() {
    let home = two();
    let screen = beside(&home);
    screen.shows("left  Ports on office").shows("≠ 2 changed   ◂ 1 only left   ▸ 1 only right   1 row the same");
    screen.shows("id 1  berths: 5 → 4");
    // What is on a connection that is not in hand is not run by mistake.
    screen.press(&["p"]).shows("the statements are for office, and the buffer runs on quay");
    screen.press(&["x"]).shows("left  Ports on quay").shows("id 1  berths: 4 → 5");
    screen.press(&["n"]).loses("only left  id").press(&["n"]).shows("◂ only left  id 3").loses("≠ changed ");
    screen.press(&["n", "n"]).shows("≠ changed    id 1");
    screen.press(&["k"]).shows("the columns that tell rows apart").types("name").press(&["Enter"]);
    screen.shows("rows that differ · by name").shows("▸ 2 only right");
    screen.press(&["d"]).shows("ports is told apart by id: compare by that");
    screen.press(&["k"]).types("nme").press(&["Enter"]).shows("the left one has no column \"nme\"");
    screen.press(&["k"]).types("id").press(&["Enter"]).shows("by id").shows("≠ 2 changed").press(&["d"]);
    screen.shows("slip · ports on quay · 2 changed, 1 added, 1 deleted").shows("4 changes drafted; nothing was sent");
    // A change is dropped by itself. What is drafted already is not drafted twice, and what a person drafted stays.
    screen
        .press(&["d"])
        .shows("1 changed, 1 added, 1 deleted")
        .press(&["Escape"])
        .loses("slip · ports on quay")
        .press(&["K"]);
    screen.shows("rows that differ").press(&["x"]).shows("left  Ports on quay").press(&["d"]);
    screen.shows("1 change drafted; nothing was sent · 3 rows drafted before, which stay");
    screen.shows("2 changed, 1 added, 1 deleted");
    screen.press(&["C-g"]).shows("sent: 2 changed, 1 added, 1 deleted in ports");
    let connection = Connection::open(home.path("project/quay.db")).unwrap();
    let query = "select group_concat(id || name || berths) from (select * from ports order by id)";
    let rows: String = connection.query_row(query, [], |row| row.get(0)).unwrap();
    assert_eq!(rows, "1Saltmarsh5,2Gull's Rest2,4New Quay7,5TERN SOUND6");
}

#[test]
fn structures_are_compared_on_the_screen() {
    let home = two();
    let screen = home.screen(&["ports.sql", "-c", "quay"]);
    screen.shows("quay.db · main").press(&["M-y"]).shows("to compare the structure with").types("office");
    screen.press(&["Enter"]).shows("structure · left quay · right office");
    screen.shows("≠ 2 changed   ◂ 1 only left   ▸ 1 only right   0 objects the same");
    screen.shows("column opened").press(&["s"]).shows("insert into main.\"ports as it will be\"");
    screen.press(&["s", "n", "n"]).loses("≠ changed ").shows("◂ only left  table wrecks").shows("right: not there");
    screen.press(&["x"]).shows("structure · left office · right quay").shows("the same").press(&["p"]);
    screen.shows("the statements are for office, and the buffer runs on quay");
    screen
        .press(&["x"])
        .shows("left quay")
        .shows("the same")
        .press(&["p"])
        .shows("the statements are in the buffer; nothing was run");
    screen.shows("drop table main.wrecks;");
    // Nothing was: that is for a person to do.
    let connection = Connection::open(home.path("project/quay.db")).unwrap();
    assert!(connection.prepare("select * from wrecks").is_ok());
    screen.press(&["C-t"]);
    // Without another result there is nothing to compare rows with.
    screen.press(&["K"]).shows("open two results side by side first (t), then compare them");
}
