//! The views, drawn into cells in memory: no terminal, but real runs on a real database.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::path::Path;

use crossterm::event::{KeyCode, KeyModifiers};
use jaunty_seam::profile::Guard;
use jaunty_tui::action::ACTIONS;
use jaunty_tui::theme::{Depth, Name, Theme};
use ratatui::layout::{Position, Rect};
use ratatui::style::{Color, Modifier};
use support::Stage;

fn stage(text: &str) -> Stage {
    Stage::with(text, (120, 16), Guard::Open)
}

const KINDS: &str =
    "-- Kinds of values\nselect 7 as n, 'text' as t, null as nil, '' as empty, x'00ff' as raw, 1.5 as r;\n";

#[test]
fn rows_stand_under_their_names() {
    let stage = stage(KINDS).runs();
    let text = stage.text();
    // How long it took is not always the same.
    let lines = text.lines().map(|line| match line.split_once('│') {
        Some((left, right)) if left.contains("1 row · ") => {
            format!("{:<59}│{right}", "    1 row · (so long) · just now")
        }
        _ => line.to_owned(),
    });
    insta::assert_snapshot!(lines.collect::<Vec<_>>().join("\n"));
}

#[test]
fn null_looks_like_nothing_else() {
    let stage = stage(KINDS).runs();
    let (cells, _) = stage.drawn();
    let look = |text: &str| cells[stage.find(text)].style();
    let (null, text) = (look("∅"), look("text  ∅"));
    assert_ne!(null.fg, text.fg);
    assert!(null.add_modifier.contains(Modifier::ITALIC) && !text.add_modifier.contains(Modifier::ITALIC));
    assert_ne!(look("''").fg, text.fg, "empty text is not plain text");
}

#[test]
fn the_cursor_stands_where_a_person_writes() {
    let stage =
        stage("select 1;\n\tx 名é").key(KeyCode::Down, KeyModifiers::NONE).key(KeyCode::End, KeyModifiers::NONE);
    // A tab of four, a letter, a blank, a wide character, a letter.
    assert_eq!(stage.drawn().1, Some(Position::new(4 + 4 + 1 + 1 + 2 + 1, 2)));
    let stage = stage.control('t');
    assert_eq!(stage.drawn().1, None, "not while the result has the focus");
}

#[test]
fn every_outcome_has_a_shape_of_its_own() {
    let stage = stage("select 1;\n\nselect nmae;\n\nselect 3;\n").runs();
    let stage = stage.control('n').runs();
    let text = stage.text();
    for line in [" ●  select 1;", " ✗▎ select nmae;", " ◦  select 3;"] {
        assert!(text.contains(line), "{line} in\n{text}");
    }
    assert!(text.contains("3 | select nmae") && text.contains("  |        ^"), "{text}");
}

#[test]
fn guards_differ_in_word_and_shape() {
    let line = |guard| Stage::with("select 1", (120, 16), guard).text().lines().next().unwrap().to_owned();
    let [open, ask, read_only] = Guard::ALL.map(line);
    assert!(open.starts_with(" ferry open  sqlite"), "{open}");
    assert!(ask.starts_with(" ferry  ?? ASKS FIRST ??   sqlite"), "{ask}");
    assert!(read_only.starts_with(" ferry  ## READ-ONLY ##   sqlite"), "{read_only}");
}

#[test]
fn both_themes_paint_every_cell() {
    let mut stage = stage(KINDS).runs();
    for name in Name::ALL {
        stage.app.theme = Theme::new(name, Depth::Full);
        let (cells, _) = stage.drawn();
        assert!(cells.content.iter().all(|cell| cell.bg != Color::Reset && cell.fg != Color::Reset), "{}", name.word());
    }
    stage.app.theme = Theme::new(Name::Lamplight, Depth::None);
    let (cells, _) = stage.drawn();
    assert!(cells.content.iter().all(|cell| cell.bg == Color::Reset && cell.fg == Color::Reset));
}

#[test]
fn columns_scroll_and_the_first_can_be_kept() {
    let columns: Vec<_> = (1..=30).map(|n| format!("'value {n}' as column_{n}")).collect();
    let stage = stage(&format!("select {}", columns.join(", "))).runs().control('t');
    let stage = stage.key(KeyCode::End, KeyModifiers::NONE);
    let text = stage.text();
    assert!(text.contains("column_30") && !text.contains("column_1 "), "{text}");
    let stage = stage.types("k");
    assert!(stage.told().starts_with("too wide to freeze"), "{}", stage.told());
    let stage = stage.key(KeyCode::Home, KeyModifiers::NONE).types("k").key(KeyCode::End, KeyModifiers::NONE);
    let text = stage.text();
    assert!(text.contains("column_30") && text.contains("column_1 "), "{text}");
}

#[test]
fn a_cut_cell_says_so() {
    let stage = stage("select replace(hex(zeroblob(100)), '00', 'wave ') as a, 'b' as b").runs();
    let text = stage.text();
    let row = text.lines().find(|line| line.contains("wave wave")).unwrap();
    let cell = &row[row.find("wave wave").unwrap()..];
    let (shown, after) = cell.split_once('…').unwrap();
    assert_eq!(shown, &"wave ".repeat(100)[..shown.len()]);
    assert_eq!(after.trim(), "b", "the next column is in its place: {row}");
}

#[test]
fn a_list_narrows_while_typing() {
    let stage = stage("select 1").control('l').types("go row");
    let text = stage.text();
    assert!(text.contains("alt-j") && text.contains("Go to a row by number"), "{text}");
    let cursor = stage.drawn().1.unwrap();
    assert_eq!(cursor.y, 15, "a person writes in the last line");
}

#[test]
fn a_result_of_nothing_says_so() {
    let text = stage("select 1 as a where 0").runs().text();
    assert!(text.contains("0 rows"), "{text}");
    let text = stage("create table t(a)").runs().text();
    assert!(text.contains("done · "), "{text}");
}

#[test]
fn any_size_is_drawn() {
    let mut stage = stage(KINDS).runs();
    for (width, height) in [(1, 1), (3, 3), (10, 5), (79, 23), (80, 24), (120, 30), (400, 100)] {
        stage.app.resize(Rect::new(0, 0, width, height));
        for key in ['l', 'l'] {
            stage.drawn();
            stage = stage.control(key);
        }
    }
}

/// Opening a buffer that is not there yet begins one.
#[test]
fn a_buffer_is_made_when_it_is_saved() {
    let stage = stage("").types("select 1").control('s');
    assert_eq!(std::fs::read_to_string(Path::new(&stage.app.buffer.path)).unwrap(), "select 1");
    assert!(stage.text().contains("saved a.sql"));
}

#[test]
fn a_note_that_does_not_fit_stands_below() {
    let long = format!("select '{}' as a", "x".repeat(80));
    let below = stage(&format!("{long};\n\nselect 2;\n")).runs().text();
    let lines: Vec<_> = below.lines().collect();
    assert!(lines[1].contains("select 'xxx") && lines[1].contains('…'), "{below}");
    assert!(lines[2].starts_with("    1 row · "), "{below}");
    let taken = stage(&format!("{long};\nselect 2;\n")).runs().text();
    assert!(taken.lines().nth(2).unwrap().contains("select 2;"), "text is never covered\n{taken}");
    let same_line = stage("select 1; select 2;").runs().text();
    let wide = "1".repeat(60);
    let sent = Stage::with(&format!("select {wide} as a\n--> a.csv\n-- next\n"), (120, 16), Guard::Open).runs().text();
    let note = sent.lines().nth(2).unwrap();
    assert!(note.contains("--> a.csv  1 row"), "behind the out-line, where there is room: {note}");
    let note = same_line.lines().nth(1).unwrap();
    assert!(!note.contains("1 row"), "the first of two on a line has no place for it: {note}");
}

#[test]
fn an_open_transaction_is_in_the_first_line() {
    let stage =
        stage("begin").runs().until("the place", |app| app.connection.location.as_ref().unwrap().in_transaction());
    assert!(stage.text().lines().next().unwrap().contains("[transaction open "));
}

#[test]
fn hints_that_do_not_fit_are_left_out_whole() {
    for width in [30, 60, 80, 120, 200] {
        let stage = Stage::with("select 1", (width, 12), Guard::Open);
        let text = stage.text();
        let hints = text.lines().last().unwrap();
        assert!(hints.starts_with(" ctrl-g Run statement"), "{hints}");
        let last = hints.rsplit("   ").next().unwrap().trim();
        let titles =
            ["Run all", "statement", "pane", "page", "Catalog", "Logbook", "word", "Save", "actions", "Help", "Quit"];
        assert!(titles.iter().any(|title| last.ends_with(title)), "{width}: {hints}");
    }
}

#[test]
fn a_selection_over_lines_is_shown() {
    let stage = stage("select 1;\nselect 2;").control('a');
    let (cells, _) = stage.drawn();
    let selected = cells[stage.find("select 1")].style().bg;
    assert_eq!(cells[stage.find("select 2")].style().bg, selected);
    assert_eq!(cells[Position::new(4 + 9, 1)].style().bg, selected, "the line's end is selected too");
    assert_ne!(cells[Position::new(4 + 12, 1)].style().bg, selected);
}

#[test]
fn kept_rows_that_are_gone_are_told() {
    let stage = stage("select 1 as a").runs();
    let path = stage.app.rows.page().unwrap().path.clone();
    std::fs::remove_file(path).unwrap();
    // Rows that are on the screen stay there; the file is still open.
    assert!(stage.control('d').text().contains("rows 1–1 of 1"));
}

#[test]
fn as_many_columns_as_sqlite_has() {
    let columns: Vec<_> = (1..=1900).map(|n| format!("{n} as c{n}")).collect();
    let stage =
        stage(&format!("select {}", columns.join(", "))).runs().control('t').key(KeyCode::End, KeyModifiers::NONE);
    assert!(stage.text().contains("c1900"), "{}", stage.text());
}

#[test]
fn the_help_says_how_to_reach_every_action() {
    let mut stage = Stage::with("select 1", (120, 40), Guard::Open).f(2);
    let mut seen = String::new();
    for _ in 0..40 {
        seen.push_str(&stage.text());
        stage = stage.key(KeyCode::PageDown, KeyModifiers::NONE);
    }
    for action in ACTIONS {
        let how = if action.keys.is_empty() { format!("ctrl-l {}", action.title) } else { action.keys.join(", ") };
        let help: String = action.help.chars().take(60).collect();
        let told = seen.lines().any(|line| line.trim_start().starts_with(&how) && line.contains(&help));
        assert!(told, "{how}: {help}");
    }
}
