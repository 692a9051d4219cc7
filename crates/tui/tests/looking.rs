//! Looking at rows and values closely: one value alone, its search, every form of copying, columns wider and
//! kept, and a hand on results that stand side by side.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use crossterm::event::{KeyCode, KeyModifiers, MouseButton, MouseEventKind};
use jaunty_seam::profile::Guard;
use jaunty_tui::action::Scope;
use jaunty_tui::app::{App, Overlay, RowDetail};
use support::Stage;

const NONE: KeyModifiers = KeyModifiers::NONE;

/// A result of one row with a value of every shape, in hand.
fn shapes() -> Stage {
    let text = "select 7 as id, 'first line' || char(10) || 'the harbour master' as remark, x'00ff10' as photo, null as none, '' as empty, '{\"deck\": {\"cars\": 12, \"open\": true}, \"ports\": [\"Saltmarsh\", \"Gullhaven\"]}' as notes";
    Stage::with(text, (120, 30), Guard::Open).runs().control('t')
}

fn whole(app: &App) -> Option<&RowDetail> {
    match &app.overlay {
        Some(Overlay::RowDetail(whole)) => Some(whole),
        _ => None,
    }
}

impl Stage {
    fn goes_to_column(self, name: &str) -> Stage {
        self.types("j").types(name).enter()
    }

    fn until_there(self) -> Stage {
        self.until("the row", |app| whole(app).is_some_and(|whole| !whole.fields.is_empty()))
    }

    fn settles(self) -> Stage {
        self.until("the work", |app| app.work().is_none() && !app.expects_rows() && app.rows.page().is_some())
    }

    /// Copies the cell in hand in a format, and tells what is in the clipboard.
    fn copies_as(mut self, format: &str) -> (Stage, String) {
        self.app.clipboard = None;
        let stage = self.types("y").types(format).enter().until("the copy", |app| app.clipboard.is_some());
        let text = stage.app.clipboard.clone().unwrap();
        (stage, text)
    }
}

#[test]
fn every_shape_of_value_is_shown_as_what_it_is() {
    let text = shapes().enter().until_there().text();
    for expected in
        ["row 1 of 1", "first line", "the harbour master", "00 ff 10", "∅", "(no characters)", "\"cars\": 12"]
    {
        assert!(text.contains(expected), "no {expected} in\n{text}");
    }
    // Of the field in hand it is told what it is.
    let stage = shapes().goes_to_column("photo").types("v").until_there();
    assert!(stage.text().contains("3 bytes"), "{}", stage.text());
    let stage = stage.esc().goes_to_column("none").types("v").until_there();
    assert!(stage.text().contains("› ∅"), "{}", stage.text());
}

#[test]
fn a_value_alone_is_searched_and_folded() {
    let stage = shapes().goes_to_column("notes").types("v").until_there();
    let chosen = |stage: &Stage| whole(&stage.app).map(|whole| whole.lines[whole.chosen].text.trim().to_owned());
    assert!(stage.text().contains("\"Gullhaven\""), "{}", stage.text());
    // While it is written, the first line that holds it is in hand; what is written can be mended.
    let stage = stage.types("/gallhaven");
    assert_eq!(whole(&stage.app).unwrap().found(), 0);
    let stage = stage.key(KeyCode::Home, NONE).key(KeyCode::Right, NONE).key(KeyCode::Delete, NONE).types("u");
    assert_eq!(chosen(&stage).as_deref(), Some("\"Gullhaven\""));
    let stage = stage.enter().types("/a").enter();
    assert!(stage.text().contains("4 places"), "cars, Saltmarsh twice, Gullhaven:\n{}", stage.text());
    let first = chosen(&stage);
    let stage = stage.types("n");
    assert_ne!(chosen(&stage), first);
    let stage = stage.types("p");
    assert_eq!(chosen(&stage), first);
    // A paste is looked for too.
    let stage = stage.types("/").paste("Saltmarsh").enter();
    assert_eq!(chosen(&stage).as_deref(), Some("\"Saltmarsh\","));
    assert!(stage.esc().app.overlay.is_none());
}

#[test]
fn nothing_empty_text_and_blanks_are_told_apart() {
    let text = "select null as a, '' as b, '  ' as c, 'quay  ' as d, '  quay' as e, x'' as f, 'q'";
    let stage = Stage::with(text, (160, 24), Guard::Open).runs();
    let area = stage.app.areas().result;
    let screen = stage.text();
    let line: String = screen.lines().nth(usize::from(area.y) + 3).unwrap().chars().skip(usize::from(area.x)).collect();
    assert_eq!(line.split_whitespace().collect::<Vec<_>>(), ["1", "∅", "''", "␣␣", "quay␣", "quay", "x''", "q"]);
    assert!(line.contains("  quay"), "blanks before it are in their place: {line}");
}

#[test]
fn a_long_value_is_read_to_its_end() {
    let text = "select replace(printf('%.3000c', 'x'), 'x', 'saltmarsh quay ') || 'the-end' as remark";
    let stage = Stage::with(text, (100, 24), Guard::Open).runs().control('t').types("v").until_there();
    let lines = whole(&stage.app).unwrap().lines.len();
    assert!(lines > 400, "{lines}");
    assert!(stage.text().contains(&format!("line 1 of {lines}")), "{}", stage.text());
    let stage = stage.key(KeyCode::End, NONE);
    assert!(stage.text().contains("the-end") && stage.text().contains(&format!("line {lines} of {lines}")));
    // The wheel goes back three lines, and up and down one.
    let stage = stage.mouse(MouseEventKind::ScrollUp, 10, 10).key(KeyCode::Up, NONE);
    assert_eq!(whole(&stage.app).unwrap().chosen, lines - 5);
    // It is found across the end of a line, and again where the screen is narrower.
    let stage = stage.types("/quay the-end").enter();
    assert_eq!(whole(&stage.app).unwrap().found(), 1);
    let stage = stage.resized((40, 12)).until("it anew", move |app| whole(app).is_some_and(|w| w.lines.len() > lines));
    let narrow = whole(&stage.app).unwrap();
    assert_eq!(narrow.found(), 1);
    assert!(narrow.lines.iter().all(|line| line.text.trim_end().len() < 40));
}

#[test]
fn a_cell_goes_to_the_clipboard_in_every_format() {
    let mut stage = shapes();
    let mut copied = Vec::new();
    let cases = [
        ("remark", "tsv", "remark\n\"first line\nthe harbour master\"\n"),
        ("remark", "csv", "remark\n\"first line\nthe harbour master\"\n"),
        ("id", "jsonl", "{\"id\":7}\n"),
        ("none", "jsonl", "{\"none\":null}\n"),
        ("empty", "csv", "empty\n\"\"\n"),
        ("id", "in", "(7)\n"),
        ("empty", "in", "('')\n"),
        ("photo", "insert", "insert into kept (photo) values\n  (x'00ff10');\n"),
        ("none", "markdown", "| none |\n| ---- |\n| ∅    |\n"),
    ];
    for (column, format, _) in cases {
        let (next, text) = stage.goes_to_column(column).types("m").copies_as(format);
        stage = next.esc();
        copied.push((column, format, text));
    }
    assert_eq!(copied, cases.map(|(column, format, text)| (column, format, text.to_owned())));
}

#[test]
fn columns_are_made_wider_and_kept() {
    let many = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 3) select i as id, printf('%0100d', i) as long, i * 2 as twice, i * 3 as thrice from n";
    let stage = Stage::with(many, (120, 24), Guard::Open).runs().control('t');
    let begins = |stage: &Stage, name: &str| stage.find(&format!(" {name}")).x;
    let stage = stage.key(KeyCode::Right, NONE);
    let before = stage.text();
    let narrower = stage.types("----------");
    assert!(narrower.text().contains("twice"), "there is room now:\n{}", narrower.text());
    let at = begins(&narrower, "twice");
    let stage = narrower.types("+");
    assert!(begins(&stage, "twice") > at, "{}", stage.text());
    let stage = stage.types("H");
    assert_eq!(stage.text(), before, "as it was");
    // The first column stays while others move.
    let stage = stage.key(KeyCode::Home, NONE).types("k").key(KeyCode::End, NONE);
    let text = stage.text();
    assert!(text.contains(" id ") && text.contains("thrice"), "{text}");
    let stage = stage.types("k");
    let kept = stage.app.rows.view();
    assert_eq!(kept.column_in_hand(), 3);
}

/// Two results of many rows, side by side, the one in hand to the right.
fn beside() -> Stage {
    let hundred = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 300) select i as";
    let text = format!("-- Left\n{hundred} one from n;\n-- Right\n{hundred} two from n;\n");
    let stage = Stage::with(&text, (140, 30), Guard::Open).alt('g');
    let stage = stage.until("the end", |app| !app.connection.is_busy() && app.strip().len() == 2);
    let stage = stage.control('t').types("t.");
    stage.until("both", |app| app.rows.page().is_some() && app.other.as_ref().is_some_and(|o| o.page().is_some()))
}

#[test]
fn a_hand_moves_in_the_results_side_by_side() {
    let stage = beside();
    let areas = stage.app.areas();
    let title = |stage: &Stage| stage.app.rows.run().unwrap().title.clone().unwrap();
    let first = title(&stage);
    // Each for itself, the wheel moves what it is over.
    let stage = stage.types("l");
    let stage = stage.mouse(MouseEventKind::ScrollDown, areas.other.x + 4, areas.other.y + 4);
    assert_eq!((stage.app.rows.view().top, stage.app.other.as_ref().unwrap().view().top), (0, 3));
    // A click takes the other one in hand, at the row where it was.
    let stage = stage.click(areas.other.x + 4, areas.other.y + 5);
    assert_ne!(title(&stage), first, "{}", stage.text());
    assert_eq!(stage.app.panes.focus, Scope::Result);
    assert!(stage.app.rows.view().row >= 3, "{}", stage.app.rows.view().row);
    // Linked they go together.
    let stage = stage.types("l");
    let apart = |stage: &Stage| stage.app.rows.view().row as i64 - stage.app.other.as_ref().unwrap().view().row as i64;
    let before = apart(&stage);
    let here = stage.app.areas().result;
    let stage = (0..5).fold(stage, |stage, _| stage.mouse(MouseEventKind::ScrollDown, here.x + 4, here.y + 4));
    assert!(stage.app.other.as_ref().unwrap().view().top > 0, "both went on");
    let now = apart(&stage);
    assert_eq!((now, before != 0), (before, true), "as far apart as they were");
    // The strip is clicked, too.
    let there = stage.find(&format!(" {first} · 300"));
    let stage = stage.click(there.x + 2, there.y).settles();
    assert_eq!(title(&stage), first);
}

#[test]
fn a_hand_sorts_marks_and_looks_at_what_it_points_at() {
    let text = "with recursive n(i) as (select 1 union all select i + 1 from n where i < 30) select i as id, i % 3 as three, 'quay ' || i as name from n";
    let stage = Stage::with(text, (140, 30), Guard::Open).runs();
    let area = stage.app.areas().result;
    let name = stage.find("three");
    // The first click takes the column in hand, and each further one on its name sorts by it.
    let stage = stage.click(name.x, name.y);
    assert_eq!((stage.app.rows.view().column, stage.app.panes.focus), (1, Scope::Result));
    let stage = stage.click(name.x, name.y).settles();
    assert!(stage.text().contains("three ↑"), "{}", stage.text());
    let stage = stage.click(name.x, name.y).settles();
    assert!(stage.text().contains("three ↓"), "{}", stage.text());
    let stage = stage.click(name.x, name.y).settles();
    // A hand that is drawn over cells marks them; a click drops that.
    let (left, top) = (stage.find("quay 1").x, area.y + 3);
    let button = MouseButton::Left;
    let stage = stage.mouse(MouseEventKind::Down(button), left, top + 1);
    let stage =
        stage.mouse(MouseEventKind::Drag(button), name.x, top + 3).mouse(MouseEventKind::Up(button), name.x, top + 3);
    let stage = stage.until("the sum", |app| app.rows.sums().is_some());
    assert_eq!(stage.app.rows.sums(), Some("6 cells · sum 3 · mean 1"));
    let stage = stage.click(left, top + 5);
    assert!(stage.app.rows.view().marked.is_none());
    // The wheel goes sideways, too.
    let stage = stage.mouse(MouseEventKind::ScrollLeft, left, top);
    assert_eq!(stage.app.rows.view().column, 1);
    // Twice on a cell shows it alone.
    let stage = stage.click(left, top + 2).click(left, top + 2).until_there();
    assert!(stage.text().contains("name · row 3"), "{}", stage.text());
}

#[test]
fn a_hand_opens_what_lies_over_the_screen_and_sends_it_away() {
    let stage = shapes();
    let context = stage.app.areas().context;
    let stage = stage.mouse(MouseEventKind::Down(MouseButton::Left), context.x + 2, context.y);
    assert!(stage.text().contains("connections"), "{}", stage.text());
    let stage = stage.mouse(MouseEventKind::ScrollDown, 20, 28);
    assert!(matches!(&stage.app.overlay, Some(Overlay::List(list)) if list.chosen == 1));
    let stage = stage.mouse(MouseEventKind::ScrollUp, 20, 28);
    assert!(matches!(&stage.app.overlay, Some(Overlay::List(list)) if list.chosen == 0));
    let stage = stage.click(3, 3);
    assert!(stage.app.overlay.is_none());
}
