//! Order and choice, as they are status: what is in sight of them, what takes them back, and where they cannot be had.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use crossterm::event::{KeyCode, KeyModifiers};
use jaunty_seam::profile::Guard;
use jaunty_tui::app::{App, Overlay};
use support::Stage;

const NONE: KeyModifiers = KeyModifiers::NONE;

/// Readings with a name, a number that may be missing, and a time.
const READINGS: &str = "-- Readings of all engines of the fleet, with those that were never taken\nwith recursive n(i) as (select 1 union all select i + 1 from n where i < 240)
select i as id, 'engine ' || (i % 4) as engine, case when i % 3 = 0 then null else i % 50 end as rpm, datetime('2031-03-01', '+' || i || ' hours') as at from n";

fn readings(size: (u16, u16)) -> Stage {
    Stage::with(READINGS, size, Guard::Open).runs().control('t')
}

impl Stage {
    fn settles(self) -> Stage {
        self.until("the work", |app| app.work().is_none() && !app.expects_rows() && app.rows.page().is_some())
    }

    fn at_column(self, name: &str) -> Stage {
        self.types("j").types(name).enter()
    }

    fn narrows(self, column: &str, condition: &str) -> Stage {
        self.at_column(column).types("n").types(condition).enter().settles()
    }

    /// The line above the names of the columns.
    fn title(&self) -> String {
        let area = self.app.areas().result;
        let text = self.text();
        let line = text.lines().nth(usize::from(area.y)).unwrap_or_default();
        line.chars().skip(usize::from(area.x)).collect()
    }

    fn numbers(&self, most: usize) -> Vec<String> {
        let page = self.app.rows.page().unwrap();
        page.rows.iter().take(most).map(|row| row[0].text.clone()).collect()
    }
}

#[test]
fn which_rows_these_are_stays_in_sight_beside_a_long_title() {
    let stage = readings((120, 24));
    assert!(stage.title().contains("› Readings of all engines"), "{}", stage.title());
    let stage = stage.narrows("engine", "= engine 1");
    assert!(stage.title().contains(" · engine = engine 1"), "{}", stage.title());
    assert!(stage.title().contains("of 60"), "{}", stage.title());
    let stage = stage.at_column("rpm").types("s").settles();
    assert!(stage.title().contains("engine = engine 1 · by rpm"), "{}", stage.title());
    // On a narrow screen the title has given way, and then the end of the rest.
    let stage = stage.resized((50, 30)).settles();
    assert!(stage.title().starts_with(" › Reading… · engine = engine 1"), "{}", stage.title());
    // Where there is room for everything, everything is there.
    let stage = stage.resized((250, 30)).settles();
    let title = stage.title();
    for expected in ["never taken · engine = engine 1 · by rpm", "of 60, all 240"] {
        assert!(title.contains(expected), "no {expected} in {title}");
    }
}

#[test]
fn each_step_is_taken_back_by_itself() {
    let stage = readings((120, 24)).narrows("engine", "engine 2").narrows("rpm", "not null").types("s").settles();
    let counts = |stage: &Stage| (stage.app.rows.total(), stage.app.rows.view().arranged.wanted.order.len());
    assert_eq!(counts(&stage), (40, 1));
    let stage = stage.types("u").settles();
    assert_eq!(counts(&stage), (40, 0));
    let stage = stage.types("u").settles();
    assert_eq!(counts(&stage), (60, 0));
    let stage = stage.types("u");
    assert_eq!(counts(&stage), (240, 0), "their own order is there at once");
    let stage = stage.types("u");
    assert_eq!(stage.told(), "the rows are in their original order");
    // The same condition twice is one.
    let stage = stage.narrows("engine", "engine 2").narrows("engine", "engine 2");
    assert_eq!(stage.app.rows.view().arranged.wanted.conditions.len(), 1);
    let stage = stage.types("o");
    assert_eq!(counts(&stage), (240, 0));
    let stage = stage.types("u").settles();
    assert_eq!(counts(&stage), (60, 0), "that is a step, too");
}

#[test]
fn the_value_in_hand_may_be_missing() {
    let stage = readings((120, 24)).at_column("rpm").key(KeyCode::Down, NONE).key(KeyCode::Down, NONE);
    let stage = stage.types("=").settles();
    assert_eq!((stage.app.rows.total(), stage.numbers(2)), (80, vec!["3".to_owned(), "6".into()]));
    let stage = stage.types("o!").settles();
    assert_eq!(stage.app.rows.total(), 157, "NULL is no other value");
    let stage = stage.types("o").key(KeyCode::Down, NONE).key(KeyCode::Down, NONE).types("!").settles();
    assert_eq!(stage.app.rows.total(), 160);
}

#[test]
fn sorting_keeps_the_place_only_where_rows_stay() {
    let stage = readings((120, 24)).alt('j').types("200").enter();
    assert_eq!(stage.app.rows.view().row, 199);
    let stage = stage.at_column("rpm").types("s").settles();
    assert_eq!(stage.app.rows.view().row, 0, "another order begins at its beginning");
    let stage = stage.types(">").settles();
    let page = stage.app.rows.page().unwrap();
    assert_eq!(page.rows.last().unwrap()[2].text, "∅");
    assert!(stage.text().contains("rpm ↑"), "{}", stage.text());
    // Further columns say which of several they are.
    let stage = stage.at_column("engine").types("S").settles();
    assert!(stage.text().contains("rpm ↑1") && stage.text().contains("engine ↑2"), "{}", stage.text());
    let stage = stage.types("S").settles();
    assert!(stage.text().contains("engine ↓2"), "{}", stage.text());
    let stage = stage.types("S").settles();
    assert!(!stage.text().contains("↓2") && stage.text().contains("rpm ↑"), "{}", stage.text());
}

#[test]
fn a_search_counts_and_can_be_written_anew() {
    let stage = readings((120, 24)).types("/").types("ENGINE 3").enter().settles();
    assert_eq!(stage.app.rows.total(), 0, "a capital letter counts");
    let stage = stage.types("/");
    assert!(stage.text().contains("› ENGINE 3"), "what was sought stands there:\n{}", stage.text());
    let stage = (0..8).fold(stage, |stage, _| stage.key(KeyCode::Backspace, NONE));
    let stage = stage.types("engine 3").enter().settles();
    assert_eq!(stage.told(), "60 rows of 240 · u undoes it");
    // Nothing sought shows all.
    let stage = stage.types("/");
    let stage = (0..8).fold(stage, |stage, _| stage.key(KeyCode::Backspace, NONE)).enter().settles();
    assert_eq!(stage.app.rows.total(), 240);
}

#[test]
fn only_a_query_can_be_asked_for_in_part() {
    let ran = |text: &str| Stage::with(text, (120, 24), Guard::Open).runs().control('t');
    let stage = ran("pragma table_list").types("s").settles().types("w");
    assert_eq!(stage.told(), "only a query can be asked for in part; this is none");
    let stage = ran("select 1 as a, 2 as a").types("s").settles().types("w");
    assert!(stage.told().starts_with("two columns are named \"a\""), "{}", stage.told());
    let stage = ran("select 1 as a").types("w");
    assert_eq!(stage.told(), "nothing to write: sort or filter the rows first");
    assert_eq!(stage.buffer(), "select 1 as a");
    // What can be asked gives the same rows.
    let stage = ran(READINGS).narrows("engine", "ends 3").narrows("rpm", "between 10 and 20").types("s").settles();
    let here = stage.numbers(100);
    let stage = stage.types("w").runs();
    let wanted = "where engine like '%3' escape '\\'\n  and rpm between 10 and 20\norder by rpm nulls last;\n";
    assert!(stage.buffer().ends_with(wanted), "{}", stage.buffer());
    let mut both = [here, stage.numbers(100)];
    both.iter_mut().for_each(|numbers| numbers.sort());
    assert_eq!(both[0], both[1]);
    assert!(!both[0].is_empty());
}

#[test]
fn the_last_line_says_what_can_be_done_now() {
    let hints = |stage: &Stage| stage.text().lines().last().unwrap_or_default().to_owned();
    let stage = readings((160, 24));
    assert!(hints(&stage).contains("s Sort") && !hints(&stage).contains("Undo"), "{}", hints(&stage));
    // What was told steps back with the next key that says nothing.
    let mut stage = stage.at_column("rpm").types("s").settles();
    stage.app.status = None;
    assert!(
        hints(&stage).contains("u Undo sort or filter") && hints(&stage).contains("o Clear sort and filters"),
        "{}",
        hints(&stage)
    );
    let mut stage = stage.types("m");
    stage.app.status = None;
    assert!(hints(&stage).contains("ctrl-c Copy") && hints(&stage).contains("alt-x Export"), "{}", hints(&stage));
    let mut held = readings((160, 24)).alt('h');
    held.app.status = None;
    assert!(hints(&held).contains("alt-h Release result"), "{}", hints(&held));
    held = held.types("t");
    held.app.status = None;
    assert!(hints(&held).contains("t One result"), "{}", hints(&held));
    let stage = Stage::with("select nmae", (160, 24), Guard::Open).runs().control('t');
    assert!(hints(&stage).contains("g Go to statement") && !hints(&stage).contains("Sort"), "{}", hints(&stage));
}

#[test]
fn facts_are_of_the_rows_that_are_shown() {
    let facts = |app: &App| match &app.overlay {
        Some(Overlay::ColumnStats(view)) => view.facts.as_deref().cloned(),
        _ => None,
    };
    let told = |stage: Stage| stage.types("i").until("the facts", move |app| facts(app).is_some());
    let stage = told(readings((120, 40)).at_column("rpm"));
    let all = facts(&stage.app).unwrap();
    assert_eq!((all.rows, all.nulls), (240, 80));
    let stage = told(stage.esc().narrows("engine", "engine 0").at_column("rpm"));
    let some = facts(&stage.app).unwrap();
    assert_eq!((some.rows, some.nulls), (60, 20));
    assert!(stage.text().contains("of the rows shown") && stage.text().contains("20 (33 %)"), "{}", stage.text());
    // Time that is kept as text is spread, too, from its beginning to its end.
    let stage = told(stage.esc().types("o").at_column("at"));
    let text = stage.text();
    assert!(facts(&stage.app).unwrap().spread.is_some() && text.contains("2031-03-11 00:00:00"), "{text}");
    assert!(!text.contains("mean"), "times do not add up:\n{text}");
}
