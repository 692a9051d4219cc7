//! How the state answers to what a person does: keys, mouse, paste, questions.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use crossterm::event::{KeyCode, KeyModifiers, MouseButton, MouseEventKind};
use jaunty_seam::profile::Guard;
use jaunty_tui::action::Scope;
use jaunty_tui::app::Overlay;
use ratatui::layout::Rect;
use support::Stage;

const NONE: KeyModifiers = KeyModifiers::NONE;
const SHIFT: KeyModifiers = KeyModifiers::SHIFT;

fn stage(text: &str) -> Stage {
    Stage::with(text, (140, 30), Guard::Open)
}

const HUNDRED: &str =
    "with recursive n(i) as (select 1 union all select i + 1 from n where i < 100) select i, i * i as square from n";

#[test]
fn a_line_begins_as_the_one_before() {
    let stage = stage("").types("select").key(KeyCode::Enter, NONE).types("  a,").key(KeyCode::Enter, NONE).types("b");
    assert_eq!(stage.buffer(), "select\n  a,\n  b");
    let stage = stage.key(KeyCode::Enter, NONE).key(KeyCode::Tab, NONE).types("c");
    assert_eq!(stage.buffer(), "select\n  a,\n  b\n    c");
}

#[test]
fn deleting_takes_characters_words_and_selections() {
    let stage = stage("select née, two").key(KeyCode::End, NONE);
    let stage = stage.key(KeyCode::Backspace, KeyModifiers::ALT);
    assert_eq!(stage.buffer(), "select née, ");
    let stage = stage.key(KeyCode::Backspace, NONE).key(KeyCode::Backspace, NONE).key(KeyCode::Backspace, NONE);
    assert_eq!(stage.buffer(), "select né");
    let stage =
        stage.key(KeyCode::Home, NONE).key(KeyCode::Right, SHIFT).key(KeyCode::Right, SHIFT).key(KeyCode::Delete, NONE);
    assert_eq!(stage.buffer(), "lect né");
    let stage = stage.key(KeyCode::Delete, KeyModifiers::CONTROL);
    assert_eq!(stage.buffer(), " né");
}

#[test]
fn cut_copy_and_paste_go_to_the_desktop_too() {
    let mut stage = stage("one\ntwo\n").control('x');
    assert_eq!((stage.buffer().as_str(), stage.app.clipboard.take().as_deref()), ("two\n", Some("one\n")));
    let mut stage = stage.control('v').control('c');
    assert_eq!((stage.buffer().as_str(), stage.app.clipboard.take().as_deref()), ("one\ntwo\n", Some("two\n")));
    assert_eq!(stage.told(), "copied");
}

#[test]
fn nothing_to_take_back_is_said() {
    let stage = stage("").control('z');
    assert_eq!(stage.told(), "nothing to undo");
    assert_eq!(stage.control('y').told(), "nothing to redo");
}

#[test]
fn a_hand_places_the_cursor_and_selects() {
    // The margin is four cells; the first line is the context.
    let stage = stage("select 1;\n\nselect 22;\n").click(4 + 7, 3);
    assert_eq!(stage.app.buffer.document.cursor(), 11 + 7);
    let down = MouseEventKind::Down(MouseButton::Left);
    let stage = stage.mouse(down, 4, 1).mouse(MouseEventKind::Drag(MouseButton::Left), 4 + 6, 1);
    assert_eq!(stage.app.buffer.document.selected_text().as_deref(), Some("select"));
    let stage = stage.mouse(MouseEventKind::Up(MouseButton::Left), 10, 1).click(139, 20);
    assert_eq!(stage.app.panes.focus, Scope::Result, "a click into the result takes the focus there");
}

#[test]
fn a_hand_moves_the_divider() {
    let stage = stage("select 1");
    let rule = stage.app.areas().rule;
    let stage = stage.mouse(MouseEventKind::Down(MouseButton::Left), rule.x, 5);
    let stage = stage.mouse(MouseEventKind::Drag(MouseButton::Left), 98, 5);
    assert_eq!(stage.app.panes.share, 70);
    let stage = stage.mouse(MouseEventKind::Drag(MouseButton::Left), 139, 5);
    assert_eq!(stage.app.panes.share, 80, "both panes stay in sight");
    let stage = stage.mouse(MouseEventKind::Up(MouseButton::Left), 139, 5).key(KeyCode::F(7), NONE);
    assert_eq!(stage.app.panes.share, 75);
}

#[test]
fn the_wheel_moves_what_it_is_over() {
    let stage = stage(&format!("{HUNDRED};\n{}", "\n".repeat(80))).runs();
    let stage = stage.mouse(MouseEventKind::ScrollDown, 100, 10);
    assert_eq!((stage.app.rows.view().top, stage.app.buffer.top), (3, 0));
    let stage = stage.mouse(MouseEventKind::ScrollDown, 10, 10);
    assert_eq!((stage.app.rows.view().top, stage.app.buffer.top), (3, 3), "the text moves, the cursor does not");
    assert_eq!(stage.app.buffer.document.cursor(), 0);
    let stage = stage.mouse(MouseEventKind::ScrollUp, 100, 10).mouse(MouseEventKind::ScrollUp, 100, 10);
    assert_eq!(stage.app.rows.view().top, 0);
}

#[test]
fn rows_are_gone_to_by_number() {
    let go = |stage: Stage, number: &str| stage.alt('j').types(number).key(KeyCode::Enter, NONE);
    let stage = go(stage(HUNDRED).runs(), "42");
    assert_eq!((stage.app.rows.view().row, stage.app.panes.focus), (41, Scope::Result));
    let stage = go(stage, "1_000");
    assert_eq!((stage.app.rows.view().row, stage.told()), (99, "only 100 rows fetched so far; this is the last"));
    for wrong in ["0", "x", ""] {
        let stage = go(self::stage(HUNDRED).runs(), wrong);
        assert_eq!(stage.told(), format!("\"{wrong}\" is not a row number; rows start at 1"));
    }
    let stage = self::stage("a\nb\nc").key(KeyCode::F(6), NONE).types("3").key(KeyCode::Enter, NONE);
    assert_eq!(stage.app.buffer.document.cursor(), 4);
}

#[test]
fn the_row_in_hand_stays_in_sight() {
    let mut stage = stage(HUNDRED).runs().control('t');
    let height = u64::from(stage.app.areas().result.height - 3);
    for _ in 0..30 {
        stage = stage.key(KeyCode::Down, NONE);
        let view = stage.app.rows.view();
        assert!((view.top..view.top + height).contains(&view.row));
    }
    assert_eq!(stage.app.rows.view().row, 30);
    stage = stage.types("<");
    assert_eq!((stage.app.rows.view().row, stage.app.rows.view().top), (0, 0));
    stage = stage.types(">");
    assert_eq!(stage.app.rows.view().row, 99);
    stage.app.resize(Rect::new(0, 0, 140, 12));
    let view = stage.app.rows.view();
    assert!(view.row < view.top + 7, "also when the screen becomes smaller");
}

#[test]
fn each_result_remembers_where_a_person_was() {
    let stage = stage(&format!("{HUNDRED};\nselect 1;\n")).runs().control('d').control('d');
    let there = stage.app.rows.view().row;
    assert!(there > 0);
    let stage = stage.control('n').runs();
    assert_eq!(stage.app.rows.view().row, 0);
    assert_eq!(stage.control('p').app.rows.view().row, there);
}

#[test]
fn a_paste_goes_where_a_person_writes() {
    let stage = stage("").paste("select 1;\r\nselect 2;\r\n");
    assert_eq!(stage.buffer(), "select 1;\nselect 2;\n");
    assert_eq!(stage.app.buffer.document.outline().statements().len(), 2);
    let stage = stage.control('l').paste("theme\nand more");
    let Some(Overlay::List(list)) = &stage.app.overlay else { panic!("the list went away") };
    assert_eq!(list.query.text(), "theme");
    let stage = stage.key(KeyCode::Backspace, NONE).key(KeyCode::Enter, NONE);
    assert_eq!(stage.app.theme.name.word(), "foolscap");
}

#[test]
fn a_list_is_walked_by_keys_and_by_hand() {
    let stage = stage("select 1").control('l').key(KeyCode::Down, NONE).key(KeyCode::Down, NONE).key(KeyCode::Up, NONE);
    let Some(Overlay::List(list)) = &stage.app.overlay else { panic!("the list went away") };
    assert_eq!((list.chosen, list.found.len()), (1, list.items.len()));
    let line = stage.find("fill the screen").y;
    let stage = stage.click(20, line);
    assert!(stage.app.panes.filled, "a click takes an item");
    let stage = stage.control('l').click(20, 0);
    assert!(stage.app.overlay.is_none(), "a click beside it sends it away");
}

#[test]
fn a_hint_is_a_button() {
    let stage = stage("select 'pressed' as a");
    let at = stage.find("ctrl-t Other pane");
    let stage = stage.click(at.x + 2, at.y);
    assert_eq!(stage.app.panes.focus, Scope::Result);
}

#[test]
fn what_is_told_steps_back_after_a_while_but_not_what_is_wrong() {
    let mut stage = stage("").control('z');
    assert!(!stage.told().is_empty());
    stage.app.tick(std::time::SystemTime::now());
    assert!(!stage.told().is_empty(), "not at once");
    let stage = stage.control('g');
    assert_eq!(stage.told(), "no statement here");
    let mut stage = self::stage("select 'open").control('g');
    assert!(stage.told().starts_with("the statement at line 1 has a quote or comment that never closes"));
    stage.app.tick(std::time::SystemTime::now());
    assert!(stage.app.status.as_ref().is_some_and(|told| told.wrong));
    assert_eq!(stage.types("'").told(), "", "it is gone with the next key");
}

#[test]
fn a_part_of_a_statement_runs_as_selected() {
    let stage = stage("select 1 as a union select 2").key(KeyCode::Right, NONE).key(KeyCode::Left, NONE);
    let mut stage = stage;
    for _ in 0.."select 1 as a".len() {
        stage = stage.key(KeyCode::Right, SHIFT);
    }
    let stage = stage.control('g').until("the run", |app| !app.connection.is_busy() && app.rows.run().is_none());
    let id = jaunty_language::outline::StatementId::of("select 1 as a");
    let stage = stage.until("its end", |app| app.connection.run_of(id).is_some_and(|run| run.end().is_some()));
    assert_eq!(stage.app.connection.run_of(id).unwrap().rows(), 1);
}

#[test]
fn asking_first_runs_only_after_a_yes() {
    let stage = Stage::with("create table t(a);\nselect 1;", (140, 30), Guard::Ask).control('g');
    let stage = stage.until("the question", |app| matches!(app.overlay, Some(Overlay::Question(_))));
    assert!(stage.text().contains("ferry asks before anything that writes"));
    let stage = stage.types("n");
    assert!(stage.app.overlay.is_none() && stage.app.rows.run().is_none(), "no is no");
    let stage = stage.until("rest", |app| !app.connection.is_busy()).control('g');
    let stage = stage.until("the question", |app| matches!(app.overlay, Some(Overlay::Question(_))));
    let stage = stage.until("rest", |app| !app.connection.is_busy()).types("y");
    let stage = stage.until("the end", |app| app.rows.run().is_some_and(|run| run.end().is_some()));
    assert!(stage.text().contains("done · "));
}

#[test]
fn leaving_is_at_once_when_nothing_would_be_lost() {
    assert!(stage("select 1").control('q').app.leaving);
    let stage = stage("select 1").types("x").control('q');
    assert!(!stage.app.leaving && stage.text().contains("a.sql has unsaved text."));
    let stage = stage.key(KeyCode::Esc, NONE).control('z').control('q');
    assert!(stage.app.leaving, "what was taken back is saved text");
}
