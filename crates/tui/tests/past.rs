//! The logbook over the screen: finding runs, opening their rows, keeping and forgetting them.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use crossterm::event::{KeyCode, KeyModifiers};
use jaunty_seam::profile::Guard;
use jaunty_tui::app::{App, LogbookView, Overlay};
use jaunty_tui::pager::Page;
use support::Stage;

const THREE: &str = "-- Ports\nselect 'Saltmarsh' as port;\n-- Fares\nselect 12.5 as fare;\n-- Wrong\nselect nmae;\n";

fn past(app: &App) -> Option<&LogbookView> {
    match &app.overlay {
        Some(Overlay::LogbookView(past)) => Some(past),
        _ => None,
    }
}

impl Stage {
    /// Opens the logbook, and waits until it is read.
    fn opens_logbook(self) -> Stage {
        self.alt('l').until("the logbook", |app| past(app).is_some_and(|past| past.entries.is_some()))
    }

    /// The titles of the runs that are found.
    fn titles(&self) -> Vec<&str> {
        let past = past(&self.app).unwrap();
        let entries = past.entries.as_ref().unwrap();
        past.found.iter().map(|at| entries[*at].title.as_deref().unwrap_or_default()).collect()
    }

    /// Looks for something else.
    fn finds(self, query: &str) -> Stage {
        self.esc().opens_logbook().types(query)
    }
}

/// Three statements have run, the last of them without success.
fn ran() -> Stage {
    let stage = Stage::with(THREE, (120, 24), Guard::Open).runs().control('n').runs().control('n').runs();
    stage.opens_logbook()
}

#[test]
fn runs_are_found_by_words_outcomes_and_days() {
    let mut stage = ran();
    let today = chrono::Local::now().date_naive();
    let tomorrow = format!("before={}", today + chrono::Days::new(1));
    for (query, expected) in [
        ("", &["Wrong", "Fares", "Ports"][..]),
        ("saltmarsh", &["Ports"]),
        ("SALTMARSH port", &["Ports"]),
        ("saltmarsh fare", &[]),
        ("failed", &["Wrong"]),
        ("no such column", &["Wrong"]),
        ("done ferry", &["Fares", "Ports"]),
        ("today 12.5", &["Fares"]),
        ("yesterday", &[]),
        ("before=2020", &[]),
        (tomorrow.as_str(), &["Wrong", "Fares", "Ports"]),
        ("outcome=done", &["Fares", "Ports"]),
        ("outcome=failed connection=ferry day=today", &["Wrong"]),
        ("connection=harbour", &[]),
    ] {
        stage = stage.finds(query);
        assert_eq!(stage.titles(), expected, "{query}");
    }
    // What is written can be mended where it is wrong, and pasted.
    let stage = stage.finds("done frry").key(KeyCode::Left, KeyModifiers::CONTROL);
    let stage = stage.key(KeyCode::Right, KeyModifiers::NONE).types("e");
    assert_eq!((stage.titles(), past(&stage.app).unwrap().query.text()), (vec!["Fares", "Ports"], "done ferry"));
    let stage = stage.finds("").paste("no such column");
    assert_eq!(stage.titles(), ["Wrong"]);
}

#[test]
fn a_statement_is_put_back_and_run_again() {
    let stage = ran().finds("fares").key(KeyCode::Tab, KeyModifiers::NONE);
    assert_eq!(stage.buffer(), THREE, "it stands there already");
    assert_eq!(stage.app.buffer.place().0, 3);
    // Where it does not stand any more it is written again.
    let stage = stage.control('a').key(KeyCode::Delete, KeyModifiers::NONE).opens_logbook().finds("fares");
    let stage = stage.key(KeyCode::Tab, KeyModifiers::NONE);
    assert_eq!(stage.buffer(), "select 12.5 as fare;\n");
    let stage = stage.opens_logbook().finds("ports").control('g').its_rows();
    let first = |page: &Page| page.rows.first().map(|row| row[0].text.clone());
    assert_eq!(stage.app.rows.page().and_then(first).as_deref(), Some("Saltmarsh"));
    assert!(stage.buffer().ends_with("select 'Saltmarsh' as port;\n"), "{}", stage.buffer());
    let stage = stage.opens_logbook().finds("saltmarsh");
    assert_eq!(stage.titles().len(), 2);
    assert_eq!(past(&stage.app).unwrap().durations().len(), 2, "both times of the same statement");
}

#[test]
fn what_ran_elsewhere_is_not_run_here() {
    let two =
        "[north]\nengine = \"sqlite\"\npath = \":memory:\"\n\n[south]\nengine = \"sqlite\"\npath = \":memory:\"\n";
    let on = |stage: Stage, name: &'static str| {
        let stage = stage.f(3).types(name).enter();
        stage.until("the connection", move |app| app.connection.name() == name && app.connection.location.is_some())
    };
    let stage = Stage::among(two, &[("a.sql", "drop table if exists fares;\n")]).shows("3 of 3 connections").esc();
    let stage = on(on(stage, "north").runs(), "south").opens_logbook().control('g');
    assert!(stage.told().starts_with("this ran on north; switch to it first"), "{}", stage.told());
    assert!(past(&stage.app).is_some(), "the logbook stays open");
    let stage = stage.control('x').types("f").until("the end of it", |app| app.work().is_none());
    assert_eq!(stage.told(), "1 run forgotten");
}

#[test]
fn rows_are_kept_and_runs_forgotten() {
    let pinned = |app: &App| past(app).and_then(LogbookView::entry).is_some_and(|entry| entry.pinned);
    let stage = ran().finds("ports").control('k').until("it is kept", pinned);
    assert!(stage.text().contains(" ●◆ "), "{}", stage.text());
    let stage = stage.finds("kept");
    assert_eq!(stage.titles(), ["Ports"], "one of those that are kept");
    let stage = stage.control('k').until("it is kept no longer", move |app| !pinned(app));
    // All that are found are forgotten at once, after a question.
    let stage = stage.finds("done").control('w');
    assert!(stage.text().contains("Forget 2 runs"), "{}", stage.text());
    let stage = stage.esc().opens_logbook();
    assert_eq!(stage.titles().len(), 3, "nothing without an answer");
    let stage = stage.finds("done").control('w').types("f").until("the end of it", |app| app.work().is_none());
    assert_eq!(stage.told(), "2 runs forgotten");
    let stage = stage.opens_logbook();
    assert_eq!(stage.titles(), ["Wrong"]);
    let stage = stage.finds("nothing like it").control('x');
    assert!(past(&stage.app).is_some(), "there is nothing to forget");
}

#[test]
fn rows_that_are_gone_are_told() {
    let stage = ran().finds("ports");
    let archives: Vec<_> = std::fs::read_dir(stage.path("state/archives")).unwrap().flatten().collect();
    assert!(!archives.is_empty());
    archives.iter().for_each(|archive| std::fs::remove_file(archive.path()).unwrap());
    let stage = stage.enter().until("what became of them", |app| !app.expects_rows());
    assert!(stage.text().contains("kept"), "{}", stage.text());
    assert!(stage.app.rows.page().is_none() && !stage.text().contains("rows 1–1 of 1"), "{}", stage.text());
}
