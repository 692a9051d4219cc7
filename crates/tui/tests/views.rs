//! The views, drawn into cells in memory: no terminal, but real runs on a real database.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};
use jaunty_core::archive::Retention;
use jaunty_core::connection::{Connections, Guard, Profile};
use jaunty_core::files::Folders;
use jaunty_core::run::Keeping;
use jaunty_engines::ENGINES;
use jaunty_tui::app::{App, Message, Options, Shows};
use jaunty_tui::settings::Settings;
use jaunty_tui::theme::{Depth, Name, Theme};
use jaunty_tui::view::draw;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::{Color, Modifier};

/// The screen, and the messages that come to it.
struct Stage {
    app: App,
    inbox: Receiver<Message>,
    _folder: tempfile::TempDir,
}

impl Stage {
    fn with(text: &str, (width, height): (u16, u16), guard: Guard) -> Stage {
        let folder = tempfile::tempdir().unwrap();
        let buffer = folder.path().join("a.sql");
        std::fs::write(&buffer, text).unwrap();
        let folders = Folders::below(folder.path());
        let profile = Profile::new("ferry", "sqlite").with("path", ":memory:").guarded(guard);
        let keeping = Keeping::open(&folders, Retention::default());
        let connections = Connections { profiles: vec![profile.clone()], ..Connections::default() };
        let options = Options {
            folders,
            engines: ENGINES,
            connections,
            profile: Some(profile),
            buffer,
            keeping,
            settings: Settings::default(),
            depth: Depth::Full,
        };
        let (post, inbox) = channel();
        let app = App::open(options, Arc::new(move |message| drop(post.send(message)))).unwrap();
        let mut stage = Stage { app, inbox, _folder: folder };
        stage.app.resize(Rect::new(0, 0, width, height));
        stage.until("the connection", |app| app.connection.place.is_some())
    }

    fn until(mut self, what: &str, is: impl Fn(&App) -> bool) -> Stage {
        while !is(&self.app) {
            let message = self.inbox.recv_timeout(Duration::from_secs(60));
            self.app.update(message.unwrap_or_else(|_| panic!("waited for {what}")));
        }
        self
    }

    fn key(mut self, code: KeyCode, modifiers: KeyModifiers) -> Stage {
        self.app.update(Message::Input(Event::Key(KeyEvent::new(code, modifiers))));
        self
    }

    fn control(self, letter: char) -> Stage {
        self.key(KeyCode::Char(letter), KeyModifiers::CONTROL)
    }

    fn types(mut self, text: &str) -> Stage {
        for c in text.chars() {
            self = self.key(KeyCode::Char(c), KeyModifiers::NONE);
        }
        self
    }

    /// Runs the statement at the cursor, and waits for its end and its page.
    fn runs(self) -> Stage {
        let stage = self.control('r').until("the run to begin", |app| app.connection.is_busy());
        let stage = stage.until("the run's end", |app| !app.connection.is_busy());
        stage.until("the page", |app| {
            app.rows.shows() != Shows::Rows || app.rows.page().is_some_and(|page| page.of == app.rows.total())
        })
    }

    fn drawn(&self) -> (Buffer, Option<Position>) {
        let mut cells = Buffer::empty(self.app.screen());
        let cursor = draw(&self.app, &mut cells);
        (cells, cursor)
    }

    fn text(&self) -> String {
        let (cells, _) = self.drawn();
        let line = |y| (0..cells.area.width).map(|x| cells[(x, y)].symbol()).collect::<String>().trim_end().to_owned();
        (0..cells.area.height).map(line).collect::<Vec<_>>().join("\n")
    }

    /// Where a text stands on the screen.
    fn find(&self, text: &str) -> Position {
        let screen = self.text();
        let y = screen.lines().position(|line| line.contains(text)).unwrap_or_else(|| panic!("no {text} in\n{screen}"));
        let line = screen.lines().nth(y).unwrap();
        let x = line[..line.find(text).unwrap()].chars().count();
        Position::new(x as u16, y as u16)
    }
}

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
    let text = stage.types("k").text();
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
    assert!(text.contains("ctrl-g") && text.contains("Go to a row by its number"), "{text}");
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
