//! What waits, what is rolled back, a second session, and what another program writes into connections files. On a
//! screen in memory.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_seam::profile::Guard;
use support::Stage;

/// Counts for ever, as far as a test is concerned.
const SLOW: &str =
    "-- Slow\nwith recursive n(i) as (select 1 union all select i + 1 from n) select max(i) as slow from n;\n";

fn stage(text: &str) -> Stage {
    Stage::with(text, (120, 24), Guard::Open)
}

fn idle(stage: Stage) -> Stage {
    stage.until("the end of all runs", |app| !app.connection.is_busy())
}

/// All of a text has run that makes a table of ports, and the catalog has it.
fn with_ports(text: &str) -> Stage {
    idle(stage(text).alt('g')).until("the catalog", |app| {
        app.connection.catalog.as_ref().is_some_and(|catalog| catalog.objects().iter().any(|o| o.name == "ports"))
    })
}

/// The sign in the margin of the line that holds a text.
fn sign(stage: &Stage, text: &str) -> String {
    let screen = stage.text();
    let line = screen.lines().find(|line| line.contains(text)).unwrap_or_else(|| panic!("no {text} in\n{screen}"));
    line.chars().nth(1).unwrap().to_string()
}

#[test]
fn a_statement_that_waits_says_for_what() {
    let stage = stage(&format!("{SLOW}\nselect 2 as two;\n"));
    let stage = stage.control('g').until("the run", |app| app.connection.is_running());
    assert_eq!(sign(&stage, "with recursive"), "»");
    let stage = stage.control('n').control('g');
    assert_eq!(sign(&stage, "select 2"), "⋯", "{}", stage.text());
    assert!(stage.text().contains("waits for Slow"), "{}", stage.text());
    assert!(stage.told().contains("alt-s runs beside it"), "{}", stage.told());
    let stage = idle(stage.esc());
    assert_eq!(sign(&stage, "select 2"), "◦", "what waited was stopped with it:\n{}", stage.text());
    // Several at once wait for each other.
    let stage = stage.alt('g').until("the run", |app| app.connection.is_running());
    assert_eq!(sign(&stage, "select 2"), "⋯");
    idle(stage.esc());
}

#[test]
fn a_second_session_runs_beside_the_first() {
    let stage = stage(&format!("{SLOW}\nselect 2 as two;\n"));
    let stage = stage.control('g').until("the run", |app| app.connection.is_running());
    let stage = stage.alt('s').until("the second", |app| app.connection.location.is_some());
    assert!(stage.text().contains("session 2, 1 is running"), "{}", stage.text());
    let stage = stage.control('n').runs();
    assert!(stage.text().contains("rows 1–1 of 1"), "{}", stage.text());
    assert_eq!(sign(&stage, "with recursive"), "»", "what runs on the first is in sight:\n{}", stage.text());
    // Back on the first, what ran on the second is there, and stopping means what runs here.
    let stage = stage.alt('s');
    assert!(stage.text().contains("session 1") && stage.app.connection.is_busy(), "{}", stage.text());
    assert!(stage.text().contains("1 row · "), "{}", stage.text());
    let stage = idle(stage.esc());
    assert!(stage.text().contains("stopped"), "{}", stage.text());
    assert_eq!(stage.app.background.len(), 1, "there are two, however often one goes to and fro");
}

#[test]
fn what_waits_goes_along_into_the_second_session() {
    let stage = stage(&format!("{SLOW}\nselect 2 as two;\n"));
    let stage = stage.control('g').until("the run", |app| app.connection.is_running());
    let stage = stage.control('n').control('g').alt('s').until("the row", |app| app.rows.page().is_some());
    let stage = stage.shows("1 row · ");
    assert!(stage.text().contains("session 2, 1 is running"), "{}", stage.text());
    let stage = idle(stage.alt('s').esc());
    let begun = stage.alt('l').shows("select 2");
    assert!(begun.text().contains("logbook · 2 of 2 runs"), "it ran once:\n{}", begun.text());
}

#[test]
fn what_waits_inside_a_transaction_stays_there() {
    let stage = idle(stage(&format!("{SLOW}\nselect 2 as two;\n")).does("begin transaction"));
    let stage = stage.control('g').until("the run", |app| app.connection.is_running());
    let stage = stage.control('n').control('g').alt('s').until("the second", |app| app.connection.location.is_some());
    assert!(!stage.app.connection.is_busy());
    let stage = stage.alt('s');
    assert_eq!(sign(&stage, "select 2"), "⋯", "{}", stage.text());
    idle(stage.esc());
}

#[test]
fn each_session_has_a_transaction_of_its_own() {
    let stage = idle(stage("select 1;\n").does("begin transaction")).shows("[transaction open");
    let stage = stage.alt('s').until("the second", |app| app.connection.location.is_some());
    assert!(stage.text().contains("session 2, 1 has a transaction open"), "{}", stage.text());
    let stage = stage.alt('s').shows("session 1 ").shows("[transaction open");
    let stage = stage.control('q');
    assert!(stage.text().contains("quitting rolls it back"), "{}", stage.text());
}

#[test]
fn what_was_rolled_back_says_so() {
    let text = "create table t(x);\nbegin;\ninsert into t values (1), (2);\nselect count(*) from t;\nrollback;\n";
    let stage = idle(Stage::with(text, (180, 24), Guard::Open).alt('g'));
    assert_eq!(sign(&stage, "changed · rolled back"), "↺", "{}", stage.text());
    assert!(stage.text().contains("2 rows changed · rolled back"), "{}", stage.text());
    assert_eq!(stage.text().matches("rolled back").count(), 1, "{}", stage.text());
    let stage = stage.alt('l').shows("insert into t");
    assert!(stage.text().lines().any(|line| line.contains("insert into t") && line.contains("rolled back")));
}

#[test]
fn what_was_changed_since_a_savepoint_says_so() {
    let text = "create table t(x);\nbegin;\ninsert into t values (1);\nsavepoint s;\ninsert into t values (2);\nrollback to s;\ncommit;\n";
    let stage = idle(Stage::with(text, (180, 24), Guard::Open).alt('g'));
    let gone = |value: &str| {
        stage.text().lines().any(|line| line.contains(&format!("values ({value})")) && line.contains("rolled back"))
    };
    assert!(gone("2") && !gone("1"), "{}", stage.text());
}

const NORTH: &str = "[north]\nengine = \"sqlite\"\npath = \":memory:\"\n";

#[test]
fn what_another_program_writes_into_the_connections_file_is_taken_in() {
    let stage = Stage::among(NORTH, &[("a.sql", "select 1;\n")]).shows("2 of 2 connections").types("north").enter();
    let stage = stage.until("the connection", |app| app.connection.location.is_some());
    let file = stage.path("config/connections.toml");
    assert!(file.is_file(), "{}", file.display());
    std::fs::write(&file, format!("{NORTH}\n[south]\nengine = \"sqlite\"\npath = \":memory:\"\n")).unwrap();
    let stage = stage.shows("connections reloaded").f(3).shows("south").esc();
    // One that is broken says where, and is in the list with its line.
    std::fs::write(&file, format!("{NORTH}\n[south]\nengine = \"sqlight\"\n")).unwrap();
    let stage = stage.shows("line 6").f(3).shows("line 6").esc();
    // One that is in hand goes on as it was.
    std::fs::write(&file, NORTH.replace("[north]", "[north]\nguard = \"read-only\"")).unwrap();
    let stage = stage.shows("north asks before it writes from now on: it has changed in its file");
    assert!(!stage.text().contains("READ-ONLY"), "{}", stage.text());
    let stage = stage.f(3).types("north").enter().shows("READ-ONLY");
    // The guard is in the first line from the choice on, the place only once it is connected.
    let stage = stage.until("the connection", |app| app.connection.location.is_some());
    // A remark takes no new connection.
    let parked = stage.app.background.len();
    std::fs::write(&file, NORTH.replace("[north]", "# ours\n[north]\nnote = \"the old pier\"\nguard = \"read-only\""))
        .unwrap();
    let stage = stage.shows("connections reloaded").f(3).types("north").enter();
    assert!(stage.app.connection.location.is_some(), "it is still the one that was open");
    assert_eq!(stage.app.background.len(), parked);
}

/// Whoever writes a stricter guard into the file does not mean the day after.
#[test]
fn a_stricter_guard_holds_on_a_connection_that_is_open() {
    let stage = Stage::among(
        NORTH,
        &[(
            "a.sql",
            "create table t(x);
",
        )],
    )
    .shows("connections")
    .types("north")
    .enter();
    let stage = stage.until("the connection", |app| app.connection.location.is_some());
    let file = stage.path("config/connections.toml");
    let with = |guard: &str| {
        std::fs::write(&file, NORTH.replace("[north]", &format!("[north]\nguard = \"{guard}\""))).unwrap()
    };
    with("ask");
    let stage = stage.shows("north asks before it writes from now on, as its file says").shows("ASKS FIRST");
    let stage = stage.control('g').shows("north asks before anything that writes").esc();
    assert!(stage.app.rows.run().is_none(), "nothing ran");
    // One that is not as strict holds once it is chosen.
    with("open");
    let stage = stage.shows("north has changed in its file").shows("ASKS FIRST");
    stage.control('g').shows("north asks before anything that writes").esc();
}

#[test]
fn rows_are_copied_as_the_statements_that_change_and_delete_them() {
    let text = "create table ports(id integer primary key, name text, berths int);\ninsert into ports values (1, 'Salt''s', 4), (2, 'Gull', null);\nselect berths, name, id from ports;\n";
    let stage = with_ports(text).control('n').control('n').control('t').shows("rows 1–2 of 2");
    // Only what is marked is set; the row is found by its key all the same.
    let stage = stage.types("mm").types("y").types("update").enter();
    let stage = stage.until("the copy", |app| app.clipboard.is_some());
    assert_eq!(stage.app.clipboard.as_deref(), Some("update ports set berths = 4, name = 'Salt''s' where id = 1;\n"));
    let mut stage = stage.types("mm");
    stage.app.clipboard = None;
    let stage = stage.types("m").key(crossterm::event::KeyCode::Down, crossterm::event::KeyModifiers::SHIFT);
    let stage = stage.types("y").types("update").enter().until("the copy", |app| app.clipboard.is_some());
    assert_eq!(
        stage.app.clipboard.as_deref(),
        Some("update ports set berths = 4 where id = 1;\nupdate ports set berths = null where id = 2;\n")
    );
    let mut stage = stage.esc();
    stage.app.clipboard = None;
    let stage = stage.types("y").types("delete").enter().until("the copy", |app| app.clipboard.is_some());
    assert_eq!(stage.app.clipboard.as_deref(), Some("delete from ports where id = 2;\n"));
}

#[test]
fn what_has_no_key_is_not_changed_by_one() {
    let text = "create table notes(body text);\ninsert into notes values ('a');\nselect * from notes;\n";
    let stage = idle(stage(text).alt('g')).until("the catalog", |app| {
        app.connection.catalog.as_ref().is_some_and(|catalog| catalog.objects().iter().any(|o| o.name == "notes"))
    });
    let stage = stage.control('n').control('n').control('t').shows("rows 1–1 of 1").types("y").types("delete").enter();
    let stage = stage.until("the answer", |app| app.status.as_ref().is_some_and(|told| told.wrong));
    assert!(stage.told().contains("the key of these rows is not known"), "{}", stage.told());
}

#[test]
fn a_line_that_has_scrolled_sideways_shows_it() {
    let long = format!("select 1 as one, {} as words;\n", "'many words' || ".repeat(12) + "'end'");
    let stage = stage(&format!("{long}\nselect 2;\n"))
        .key(crossterm::event::KeyCode::End, crossterm::event::KeyModifiers::NONE);
    let screen = stage.text();
    let line = screen.lines().find(|line| line.contains("as words;")).unwrap();
    assert_eq!(line.chars().position(|c| c == '…'), Some(4), "{screen}");
}

/// Rows that are read again after a slip may come in another order: the one in hand is still the same.
#[test]
fn the_row_in_hand_is_followed_when_its_slip_is_sent() {
    let text = "create table ports(id integer primary key, name text);\ninsert into ports values (1, 'Emberwick'), (2, 'Gullhaven'), (3, 'Saltmarsh');\nselect name, id from ports order by name;\n";
    let stage = with_ports(text).control('n').control('n').control('t').shows("rows 1–3 of 3");
    let stage = stage.types("a").shows("was Emberwick").types("Tidewater").enter().shows("1 value drafted");
    let stage = stage.alt('u').shows("ctrl-g sends").control('g').shows("sent: 1 changed in ports");
    let stage = idle(stage).until("the row", |app| app.rows.view().row == 2);
    // Its key may be what is changed.
    let stage = stage.key(crossterm::event::KeyCode::Right, crossterm::event::KeyModifiers::NONE);
    let stage = stage.types("a").shows("was 1").types("9").enter().shows("1 value drafted");
    let stage = stage.alt('u').shows("ctrl-g sends").control('g').shows("sent: 1 changed in ports");
    let stage = idle(stage)
        .until("the new key", |app| app.rows.page().is_some_and(|page| page.rows.iter().any(|row| row[1].text == "9")));
    assert_eq!(stage.app.rows.view().row, 2);
    // One that is gone leaves its number.
    let stage = stage.key(crossterm::event::KeyCode::Up, crossterm::event::KeyModifiers::NONE);
    let stage = stage.key(crossterm::event::KeyCode::Delete, crossterm::event::KeyModifiers::NONE);
    let stage = stage.alt('u').shows("ctrl-g sends").control('g').shows("sent: 1 deleted in ports");
    let stage = idle(stage).shows("rows 1–2 of 2");
    assert_eq!(stage.app.rows.view().row, 1);
}
