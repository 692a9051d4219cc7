//! What ran, found again: on the screen, in another session, and without a screen.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use support::{Home, Screen};

const BUFFER: &str = "-- Every port\nselect name, berths from ports order by id;\n
-- Free berths\nselect sum(berths) as free from ports;\n
-- Not there\nselect nmae from ports;\n";

/// The three statements have run on two connections: all on one, the first two on the other.
fn ran() -> Home {
    let home = Home::ferry().file("a.sql", BUFFER);
    let screen = home.screen(&["a.sql", "-c", "ferry"]);
    screen.shows("ferry.db · main").press(&["C-g"]).shows("3 rows");
    screen.press(&["C-n", "C-g"]).shows("1 row ·").press(&["C-n", "C-g"]).shows("no such column");
    screen.press(&["C-q"]).ends();
    for statement in ["select name, berths from ports order by id", "select sum(berths) as free from ports"] {
        home.call(&["run", "-c", "museum", "-s", statement]).gives();
    }
    home
}

/// The logbook over the screen of another session.
fn logbook(home: &Home) -> Screen {
    let screen = home.screen(&["a.sql", "-c", "ferry"]);
    screen.shows("ferry.db · main").press(&["M-l"]).shows("logbook · 5 of 5 runs");
    screen
}

impl Screen {
    /// Looks for something else.
    fn finds(&self, query: &str) -> &Screen {
        self.press(&["Escape", "M-l"]).shows("5 of 5 runs").types(query)
    }
}

#[test]
fn runs_are_found_by_keys_and_words_in_another_session() {
    let home = ran();
    let screen = logbook(&home);
    screen.finds("outcome=failed").shows("1 of 5 runs").shows("Not there").shows("no such column: nmae");
    screen.finds("connection=museum").shows("2 of 5 runs").loses("Not there");
    screen.finds("conn=ferry berths").shows("2 of 5 runs").shows("Every port").shows("Free berths");
    screen.finds("day=today outcome=done").shows("4 of 5 runs");
    screen.finds("before=2020").shows("0 of 5 runs");
    // Its rows, without the database.
    std::fs::rename(home.path("project/ferry.db"), home.path("project/elsewhere.db")).unwrap();
    screen
        .finds("every conn=ferry")
        .shows("1 of 5 runs")
        .press(&["Enter"])
        .shows("held · Every port")
        .shows("Emberwick");
    screen.shows("kept rows, not run again").press(&["C-q"]).ends();
}

#[test]
fn what_a_statement_took_is_compared_over_time() {
    let home = ran();
    let screen = home.screen(&["a.sql", "-c", "ferry"]);
    screen.shows("ferry.db · main");
    for run in 6..=8 {
        // That of the one before looks the same on the screen.
        let ended = || home.call(&["log", "--json"]).gives().lines().filter(|line| !line.contains("running")).count();
        screen.press(&["C-g"]).until("its end", |_| ended() == run);
    }
    screen.press(&["M-l"]).shows("8 of 8 runs").types("every").shows("4 times").press(&["Escape"]);
    // Put back where it does not stand any more, and run from there.
    screen.press(&["C-a", "DC", "M-l"]).types("free conn=ferry").shows("1 of 8 runs").press(&["Tab"]);
    screen
        .shows("select sum(berths) as free from ports;")
        .press(&["M-l"])
        .types("conn=museum sum")
        .shows("1 of 8 runs");
    screen.press(&["C-g"]).shows("this ran on museum; switch to it first").press(&["Tab", "C-g"]).shows("1 row ·");
    screen.press(&["C-q"]).shows("drop the text").types("d").ends();
}

#[test]
fn runs_are_kept_and_forgotten_and_their_rows_with_them() {
    let home = ran();
    let archives = || std::fs::read_dir(home.path("state/jaunty/archives")).unwrap().count();
    let before = archives();
    let screen = logbook(&home);
    screen.finds("order conn=museum").shows("1 of 5 runs").press(&["C-k"]).shows("◆");
    screen.finds("kept").shows("1 of 5 runs");
    // One, and then all that are listed; nothing without an answer.
    screen.finds("free conn=museum").shows("1 of 5 runs").press(&["C-x"]).shows("Forget 1 run").press(&["Escape"]);
    screen.finds("free conn=museum").press(&["C-x"]).shows("Forget 1 run").types("f").shows("1 run forgotten");
    screen.press(&["M-l"]).shows("4 of 4 runs").types("conn=ferry").shows("3 of 4 runs").press(&["C-w"]);
    screen.shows("Forget 3 runs").types("f").shows("3 runs forgotten");
    screen.press(&["M-l"]).shows("1 of 1 run").shows("◆").press(&["Escape", "C-q"]).ends();
    assert_eq!(archives(), before - 3, "one of those that are forgotten had no rows");
}

#[test]
fn what_is_looked_for_is_written_without_a_screen_as_on_it() {
    let home = ran();
    let numbers = |arguments: &[&str]| -> Vec<u64> {
        let lines = home.call(&[&["log", "--json"], arguments].concat()).gives();
        let number = |line: &str| serde_json::from_str::<serde_json::Value>(line).unwrap()["run"].as_u64().unwrap();
        lines.lines().map(number).collect()
    };
    assert_eq!(numbers(&[]), [5, 4, 3, 2, 1]);
    assert_eq!(numbers(&["outcome=failed"]), [3]);
    assert_eq!(numbers(&["berths", "outcome=done", "-n", "3"]), [5, 4, 2]);
    assert_eq!(numbers(&["order by", "connection=mus"]), [4]);
    assert_eq!(numbers(&["since=today", "no such"]), [3]);
    assert_eq!(numbers(&["before=2020"]), [] as [u64; 0]);
    // The option means one connection and no other, since what is listed can be removed.
    assert_eq!(numbers(&["-c", "mus"]), [] as [u64; 0]);
    assert_eq!(numbers(&["-c", "museum", "free"]), [5]);
    assert_eq!(home.call(&["log", "-c", "museum", "--remove"]).gives(), "2 runs removed\n");
    assert_eq!(numbers(&[]), [3, 2, 1]);
}

#[test]
fn what_takes_a_while_says_how_far_it_is() {
    let home = Home::ferry();
    let many = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 400000) select i, 'a remark on ' || i as remark from n";
    home.call(&["run", "-c", "ferry", "-s", many, "-f", "csv"]).gives();
    // Standard error is the terminal; the rows go elsewhere.
    home.screen(&["rows", "last", "-o", "many.xlsx"]).shows("many.xlsx · ").shows(" of 400,000 rows · ").ends();
    assert!(home.path("project/many.xlsx").metadata().unwrap().len() > 1_000_000);
    let screen = home.screen(&["run", "-c", "ferry", "-s", many, "-o", "many.parquet"]);
    screen.shows(" of 400,000 rows · ").ends();
    // Where it is no terminal there is not a word.
    let (_, err) = home.call(&["rows", "last", "-o", "again.csv"]).exits(0);
    assert_eq!(err, "");
}

/// Runs at once, and starts at once: each is in the logbook as it ended.
#[test]
fn many_programs_at_once_are_all_remembered() {
    let home = Home::ferry();
    let all: Vec<_> = (0..40)
        .map(|n| home.call(&["run", "-c", "ferry", "-s", &format!("select {n} as n"), "-f", "csv"]).begins())
        .collect();
    for going in all {
        going.exits(0);
    }
    let log = home.call(&["log", "--json", "--count", "100"]).gives();
    assert_eq!(log.lines().count(), 40);
    assert!(log.lines().all(|line| line.contains("\"outcome\":\"done\"")), "{log}");
}

#[test]
fn what_is_kept_can_be_read_where_nothing_can_be_written() {
    let home = Home::ferry();
    home.call(&["run", "-c", "ferry", "-s", "select name from ports", "-f", "csv"]).gives();
    // Not even this program's own lock: as on a disk that is read-only.
    let instances = home.path("state/jaunty/instances");
    std::fs::remove_dir_all(&instances).unwrap();
    std::fs::write(&instances, "in the way").unwrap();
    let (out, err) = home.call(&["log"]).exits(0);
    assert!(out.contains("select name from ports"), "{out}");
    assert!(err.contains("it is read only"), "{err}");
    assert_eq!(home.call(&["rows", "last", "-f", "csv"]).exits(0).0, "name\nSaltmarsh\nGullhaven\nEmberwick\n");
    home.call(&["log", "--remove", "select"]).exits(2);
}
