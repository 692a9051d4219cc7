//! Writing, drawn into cells in memory: proposals, the catalog, explanations, problems, lines.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use crossterm::event::{KeyCode, KeyModifiers};
use jaunty_language::edit::document::Motion;
use jaunty_seam::profile::Guard;
use jaunty_tui::action::by_name;
use jaunty_tui::app::Overlay;
use jaunty_tui::theme::{Depth, Name, Theme};
use ratatui::layout::Rect;
use ratatui::style::Modifier;
use support::Stage;

const NONE: KeyModifiers = KeyModifiers::NONE;
const SHIFT: KeyModifiers = KeyModifiers::SHIFT;
const ALT: KeyModifiers = KeyModifiers::ALT;

/// A small company in memory, and then this text in the buffer.
fn ferry_in(text: &str, size: (u16, u16)) -> Stage {
    let made = "create table ports(id integer primary key, name text not null, berths integer, state text check (state in ('open', 'shut')));\n\
                create table sailings(id integer primary key, port_id integer references ports, departs text);\n\
                create view busy as select name from ports where berths > 3;\n\
                insert into ports(name, berths, state) values ('Saltmarsh', 6, 'open'), ('Gullhaven', null, 'shut');\n";
    let stage = Stage::with(made, size, Guard::Open);
    let stage = stage.alt('g').until("the definitions", |app| app.connection.is_busy());
    let stage = stage.until("their end", |app| !app.connection.is_busy());
    let known = |app: &jaunty_tui::app::App| app.connection.catalog.as_ref().is_some_and(|c| c.objects().len() == 3);
    let mut stage = stage.until("the catalog", known);
    stage.app.buffer.document.select_all();
    stage.app.buffer.document.insert(text);
    stage.key(KeyCode::End, NONE)
}

fn ferry(text: &str) -> Stage {
    ferry_in(text, (120, 24))
}

fn act(mut stage: Stage, name: &str) -> Stage {
    (by_name(name).unwrap().act)(&mut stage.app);
    stage
}

/// The labels that are proposed.
fn proposed(stage: &Stage) -> Vec<&str> {
    stage.app.offer.iter().flat_map(|offer| &offer.proposals).map(|proposal| proposal.label.as_str()).collect()
}

#[test]
fn what_is_typed_and_taken() {
    for (typed, buffer) in [
        ("sel\t", "select "),
        ("select * from po\t", "select * from ports "),
        // A sign takes the place of the blank that was put in.
        ("select * from po\t, sai\t;", "select * from ports, sailings;"),
        ("select coun\tid\t from ports", "select count(id) from ports"),
        ("select * from ports p where p.na\t", "select * from ports p where p.name"),
        ("select * from ports p join sai\t", "select * from ports p join sailings s on s.port_id = p.id "),
        ("select * from ports where state = 'o\t", "select * from ports where state = 'open'"),
        (
            "insert into ports \t",
            "insert into ports (id, name, berths, state) values (‹id›, ‹name›, ‹berths›, ‹state›)",
        ),
        ("select max\tberths) + 1 from ports", "select max(berths) + 1 from ports"),
        ("select (max\tberths)) from ports", "select (max(berths)) from ports"),
        // Where nothing is proposed tab puts nothing in.
        ("select 'a text\t", "select 'a text"),
        ("\tselect", "  select"),
    ] {
        let mut stage = ferry("");
        for c in typed.chars() {
            stage = if c == '\t' { stage.key(KeyCode::Tab, NONE) } else { stage.types(&c.to_string()) };
        }
        assert_eq!(stage.buffer(), buffer, "{typed:?}");
    }
}

#[test]
fn a_colon_that_came_with_a_proposal_is_not_written_twice() {
    for (typed, buffer) in [
        ("tides { depth: { $g\t7", "tides { depth: { $gt: 7"),
        ("tides { depth: { $g\t: 7", "tides { depth: { $gt: 7"),
        ("tides { depth: { $g\t:7", "tides { depth: { $gt: 7"),
        ("tides { depth: { $g\t:'a", "tides { depth: { $gt: 'a"),
        ("tides { depth: { $g\t 7", "tides { depth: { $gt: 7"),
        ("tides { depth: { $g\t  7", "tides { depth: { $gt:  7"),
        ("tides { depth: { $g\t:least", "tides { depth: { $gt: :least"),
    ] {
        let mut stage = Stage::among("", &[("b.documents", "")]).esc().control('b').shows("b.documents");
        stage = stage.types("b.doc").enter().esc();
        for c in typed.chars() {
            stage = if c == '\t' { stage.key(KeyCode::Tab, NONE) } else { stage.types(&c.to_string()) };
        }
        assert_eq!(stage.buffer(), buffer, "{typed:?} {}", stage.text());
    }
}

#[test]
fn a_proposal_is_chosen_by_moving_and_the_keys_are_free_again_after_it() {
    let stage = ferry("").types("select * from ports where ").key(KeyCode::Char(' '), KeyModifiers::CONTROL);
    assert!(proposed(&stage).starts_with(&["id", "name", "berths", "state"]), "{:?}", proposed(&stage));
    let stage = stage.key(KeyCode::Down, NONE).key(KeyCode::Down, NONE).key(KeyCode::Enter, NONE);
    assert_eq!(stage.buffer(), "select * from ports where berths");
    // Enter without a move begins a line, and up and down move the cursor.
    let stage = stage.types(" an").key(KeyCode::Enter, NONE);
    assert!(stage.app.offer.is_none() && stage.buffer().ends_with("an\n"), "{:?}", stage.buffer());
    let stage = stage.types("na").key(KeyCode::Esc, NONE).key(KeyCode::Up, NONE);
    assert_eq!(stage.app.buffer.place().0, 0);
}

#[test]
fn proposals_stay_on_the_screen_wherever_the_cursor_is() {
    for size in [(80, 24), (60, 10), (140, 42), (30, 6)] {
        for lines in [0, 1, 3, 30] {
            for blanks in [0, 40, 200] {
                let stage = ferry_in(&format!("{}{}", "\n".repeat(lines), " ".repeat(blanks)), size);
                let mut stage = stage.key(KeyCode::End, NONE);
                stage.app.buffer.document.go(Motion::Bottom, false);
                let stage = stage.types("sel");
                assert_eq!(proposed(&stage)[0], "select");
                let text = stage.text();
                assert!(text.contains("› select") || size.0 < 40, "{size:?}, {lines}, {blanks}:\n{text}");
                assert!(text.lines().count() <= usize::from(size.1));
            }
        }
    }
}

#[test]
fn the_chosen_proposal_is_told_by_more_than_colour() {
    for theme in [Name::Lamplight, Name::Foolscap] {
        let mut stage = ferry("").types("select * from ports where ").key(KeyCode::Char(' '), KeyModifiers::CONTROL);
        stage.app.theme = Theme::new(theme, Depth::None);
        let chosen = |stage: &Stage| {
            let text = stage.text();
            text.lines().find(|line| line.contains('›')).map(|line| line.split('›').nth(1).unwrap().trim().to_owned())
        };
        assert!(chosen(&stage).unwrap().starts_with("id"));
        let stage = stage.key(KeyCode::Down, NONE);
        assert!(chosen(&stage).unwrap().starts_with("name"), "{}", stage.text());
    }
}

#[test]
fn the_catalog_shows_schemas_objects_shape_and_rows() {
    let stage = act(ferry(""), "catalog").types("ports");
    let stage = stage
        .until("its rows", |app| matches!(&app.overlay, Some(Overlay::CatalogBrowser(walk)) if walk.sample.is_some()));
    let stage = stage.until("its definition", |app| {
        matches!(&app.overlay, Some(Overlay::CatalogBrowser(walk)) if walk.definition.as_ref().is_some_and(|(name, _)| name.name == "ports"))
    });
    let text = stage.text();
    // When it was read is not always the same.
    let text: Vec<_> =
        text.lines().map(|line| if line.contains("catalog of") { "(title)" } else { line.trim_end() }).collect();
    insta::assert_snapshot!(text.join("\n"));
}

#[test]
fn the_catalog_finds_names_of_other_schemas() {
    let stage = ferry("create temp table zeppelins(at text);").runs();
    let known = |app: &jaunty_tui::app::App| app.connection.catalog.as_ref().is_some_and(|c| c.objects().len() == 4);
    let stage = act(stage.until("the catalog", known), "catalog").types("zepp");
    assert!(stage.text().contains("temp.zeppelins"), "{}", stage.text());
    let stage = stage.key(KeyCode::Backspace, NONE).types("x");
    assert!(stage.text().contains("no match"), "{}", stage.text());
    // What the chosen schema has comes alone.
    let stage = (0..4).fold(stage, |stage, _| stage.key(KeyCode::Backspace, NONE)).types("p");
    assert!(stage.text().contains("ports") && !stage.text().contains("temp."), "{}", stage.text());
}

#[test]
fn a_proposal_taken_in_a_place_leaves_those_that_follow() {
    let update = || {
        let stage = act(ferry(""), "catalog").types("ports").key(KeyCode::Enter, NONE).types("update by");
        stage.key(KeyCode::Enter, NONE)
    };
    let written = |stage: &Stage| stage.app.buffer.document.rope().to_string();
    // A name, and what comes with places of its own.
    let stage = update().types("nam").key(KeyCode::Tab, NONE);
    assert!(written(&stage).contains("set name = name,"), "{}", written(&stage));
    let stage = stage.types(" || 1").key(KeyCode::Tab, NONE).types("5").key(KeyCode::Tab, NONE).types("7");
    assert!(
        written(&stage).contains("set name = name || 1, berths = 5, state = 7\nwhere id = ‹id›"),
        "{}",
        written(&stage)
    );
    // First behind the parenthesis, then on.
    let stage = update().types("uppe").key(KeyCode::Tab, NONE).types("'x'").key(KeyCode::Tab, NONE);
    let stage = stage.key(KeyCode::Tab, NONE);
    let stage = stage.types("5").key(KeyCode::Tab, NONE).types("7");
    assert!(written(&stage).contains("upper('x'), berths = 5, state = 7\nwhere id = ‹id›"), "{}", written(&stage));
    // Who goes on behind them is not brought back.
    let mut stage = update();
    stage.app.buffer.document.go(Motion::Bottom, false);
    let stage = stage.types("\n").key(KeyCode::Tab, NONE);
    assert!(stage.app.buffer.document.selection().is_none());
    assert_eq!(stage.app.buffer.document.cursor(), written(&stage).len(), "{}", written(&stage));
}

#[test]
fn hostile_names_are_only_shown() {
    let stage = ferry("create table \"a\u{1b}[2Jb\u{202e}\"(\"c\u{7}d\" text);").runs();
    let known = |app: &jaunty_tui::app::App| app.connection.catalog.as_ref().is_some_and(|c| c.objects().len() == 4);
    let stage = stage.until("the catalog", known);
    let stage = act(stage, "catalog").key(KeyCode::Down, NONE).key(KeyCode::Up, NONE);
    let bad = |text: &str| text.chars().any(|c| (c.is_control() && c != '\n') || c == '\u{202e}');
    assert!(!bad(&stage.text()), "{:?}", stage.text());
    let mut stage = stage.key(KeyCode::Esc, NONE);
    stage.app.buffer.document.select_all();
    let stage = stage.types("select * from a");
    assert!(proposed(&stage).iter().any(|label| label.contains('\u{1b}')), "it is proposed as it is");
    assert!(!bad(&stage.text()), "and shown cleaned");
}

#[test]
fn the_word_at_the_cursor_is_explained() {
    for (text, motions, title) in [
        ("select name from ports", 0, "SELECT [DISTINCT]"),
        ("select name from ports", 8, "name  TEXT · not null"),
        ("select name from ports", 18, "table ports · 2 rows (estimate)"),
        ("select upper(name) from ports", 9, "upper(text) -> text"),
    ] {
        let mut stage = ferry(text);
        stage.app.buffer.document.go(Motion::To(motions), false);
        let stage = act(stage, "explain");
        assert!(stage.text().contains(title), "{text} at {motions}:\n{}", stage.text());
        let stage = stage.key(KeyCode::Esc, NONE);
        assert!(stage.app.overlay.is_none());
    }
    let stage = act(ferry("select 'a text'"), "explain");
    assert_eq!(stage.told(), "nothing known about this word");
}

#[test]
fn the_argument_in_hand_stands_out_in_the_last_line() {
    let mut stage = ferry("select round(berths, 1) from ports");
    stage.app.buffer.document.go(Motion::To(21), false);
    let stage = stage.key(KeyCode::Right, NONE).key(KeyCode::Left, NONE);
    let (cells, _) = stage.drawn();
    let at = stage.find("round(number, digits?) -> number");
    assert_eq!(at.y, 23);
    let accent = cells[(at.x + "round(number, ".len() as u16, at.y)].style().fg;
    assert_ne!(accent, cells[(at.x, at.y)].style().fg, "digits is what is being written");
}

#[test]
fn what_is_wrong_is_underlined_once_it_is_written() {
    let stage = ferry("").types("select nmae").types(" from ports");
    let (cells, _) = stage.drawn();
    let at = stage.find("nmae");
    assert!(cells[at].style().add_modifier.contains(Modifier::UNDERLINED));
    assert!(!cells[stage.find("from ports")].style().add_modifier.contains(Modifier::UNDERLINED));
    // The word that is being written is not finished.
    let underlined = |stage: &Stage| {
        let (cells, _) = stage.drawn();
        cells[stage.find("nm")].style().add_modifier.contains(Modifier::UNDERLINED)
    };
    let stage = ferry("").types("select name from ports where nm");
    assert!(!underlined(&stage), "{}", stage.text());
    let stage = stage.types(" ");
    assert!(underlined(&stage), "{}", stage.text());
    let stage = act(ferry("select nmae from ports;\nselect 1;"), "next-problem");
    assert_eq!(stage.told(), "no column nmae in the tables of this statement · did you mean \"name\"?");
    let stage = act(stage, "problems");
    assert!(stage.text().contains("1 of 1 problems"), "{}", stage.text());
    let stage = act(ferry("select 1"), "next-problem");
    assert_eq!(stage.told(), "no problems in this buffer");
}

#[test]
fn what_was_meant_stands_below_what_the_server_says() {
    for (text, meant, underlined) in [
        ("select name form ports", "Did you mean from?", "form"),
        ("selct name from ports", "Did you mean select?", "selct"),
        ("select name from prots p", "Did you mean ports?", "prots"),
    ] {
        let stage = ferry("").types(text).esc().runs().shows(meant);
        let (cells, _) = stage.drawn();
        assert!(cells[stage.find(underlined)].style().add_modifier.contains(Modifier::UNDERLINED), "{}", stage.text());
    }
    let stage = ferry("").types("select name from ports where (").esc().runs().shows("incomplete input");
    assert!(!stage.text().contains("Did you mean"), "{}", stage.text());
}

#[test]
fn lines_and_selections_are_changed_by_keys() {
    let stage = ferry("select 1;\nselect 2;").key(KeyCode::Char('c'), ALT);
    assert_eq!(stage.buffer(), "select 1;\n-- select 2;");
    let stage = stage.control('a').key(KeyCode::Tab, NONE);
    assert_eq!(stage.buffer(), "    select 1;\n    -- select 2;");
    let stage = stage.key(KeyCode::BackTab, NONE).key(KeyCode::Char('c'), ALT).control('z').control('z');
    assert_eq!(stage.buffer(), "    select 1;\n    -- select 2;", "each is one step to take back");
    let stage = ferry("one two").key(KeyCode::Left, SHIFT).key(KeyCode::Left, SHIFT).types("(").types("x");
    assert_eq!(stage.buffer(), "one t(x)", "what stood between the signs is still selected");
    let stage = ferry("a;\nb;").key(KeyCode::Up, ALT);
    assert_eq!(stage.buffer(), "b;\na;");
    let stage = stage.key(KeyCode::Down, ALT).key(KeyCode::Char('t'), ALT);
    assert_eq!(stage.buffer(), "a;\nb;\nb;");
    let stage = ferry("f(a, (b))").key(KeyCode::Char('m'), ALT);
    assert_eq!(stage.app.buffer.document.cursor(), 1);
}

#[test]
fn statements_are_listed_by_title_or_text() {
    let stage = act(ferry("-- First of all\nselect 1;\n\nselect\n  2;"), "outline");
    let text = stage.text();
    assert!(text.contains("2 of 2 statements") && text.contains("First of all") && text.contains("select 2"), "{text}");
    let stage = stage.types("first").key(KeyCode::Enter, NONE);
    assert_eq!(stage.app.buffer.place(), (1, 0));
}

#[test]
fn a_statement_is_formatted_as_one_change() {
    let before = "select name,berths from ports where id=1 and berths>2";
    let stage = act(ferry(before), "format");
    assert_eq!(stage.buffer(), "select name, berths\nfrom ports\nwhere id=1\n    and berths>2");
    assert_eq!(act(stage, "format").told(), "already formatted");
    assert_eq!(act(ferry(before), "format").control('z').buffer(), before);
}

#[test]
fn on_a_small_screen_everything_still_has_its_place() {
    for name in ["catalog", "explain", "problems", "outline", "help", "actions"] {
        for (width, height) in [(80, 24), (40, 8), (20, 3)] {
            let mut stage = act(ferry_in("select nmae from ports", (width, height)), name);
            stage.app.resize(Rect::new(0, 0, width, height));
            assert!(stage.text().lines().count() <= usize::from(height), "{name} at {width}×{height}");
        }
    }
}

#[test]
fn every_sign_that_is_typed_is_there() {
    for text in
        ["select 'ours';", "select \"a\", `b`, [c], (d);", "a.b;c,d)e (f", "select 'it''s' || 'x'; -- done", "{[()]}"]
    {
        let stage = ferry("").types(text);
        assert_eq!(stage.buffer(), text);
        let stage = ferry("select 1;\n").types(text);
        assert_eq!(stage.buffer(), format!("select 1;\n{text}"));
    }
}

#[test]
fn a_place_that_was_not_filled_in_never_runs() {
    let stage = ferry("select 1 as a;\n\ndelete from ports\nwhere id = ‹id›;\n");
    let stage = stage.control('n').control('g');
    assert_eq!(stage.told(), "fill in ‹id› first; nothing was run");
    assert_eq!(stage.app.buffer.document.selected_text().as_deref(), Some("‹id›"));
    // Nor does a selection, nor one of several.
    let stage = act(stage, "run-all");
    assert_eq!(stage.told(), "fill in ‹id› first; nothing was run");
    stage.types("3").control('g').shows("0 rows changed");
}
