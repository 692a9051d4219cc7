//! A screen without a terminal: real runs on a real database, drawn into cells in memory.

#![allow(dead_code)]

use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use jaunty_core::archive::Retention;
use jaunty_core::connection::{Connections, Guard, Profile};
use jaunty_core::files::Folders;
use jaunty_core::run::Keeping;
use jaunty_core::run::state::Ahead;
use jaunty_engines::ENGINES;
use jaunty_tui::app::{App, Message, Options, Shows};
use jaunty_tui::settings::Settings;
use jaunty_tui::theme::Depth;
use jaunty_tui::view::draw;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};

/// The screen, and the messages that come to it.
pub struct Stage {
    pub app: App,
    inbox: Receiver<Message>,
    folder: tempfile::TempDir,
}

impl Stage {
    pub fn with(text: &str, size: (u16, u16), guard: Guard) -> Stage {
        Stage::reading(text, size, guard, Ahead::ALL)
    }

    /// One whose runs fetch only so far ahead.
    pub fn reading(text: &str, size: (u16, u16), guard: Guard, ahead: Ahead) -> Stage {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("a.sql"), text).unwrap();
        Stage::opened(folder, size, guard, ahead)
    }

    /// The program left, and started again on the same files.
    pub fn again(self) -> Stage {
        let size = self.app.screen();
        drop(self.app);
        Stage::opened(self.folder, (size.width, size.height), Guard::Open, Ahead::ALL)
    }

    fn opened(folder: tempfile::TempDir, (width, height): (u16, u16), guard: Guard, ahead: Ahead) -> Stage {
        let buffer = folder.path().join("a.sql");
        let folders = Folders::below(folder.path());
        let profile = Profile::new("ferry", "sqlite").with("path", ":memory:").guarded(guard);
        let keeping = Keeping::open(&folders, Retention::default()).ahead(ahead);
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
        let mut stage = Stage { app, inbox, folder };
        stage.app.resize(Rect::new(0, 0, width, height));
        stage.until("the connection", |app| app.connection.place.is_some())
    }

    pub fn until(mut self, what: &str, is: impl Fn(&App) -> bool) -> Stage {
        while !is(&self.app) {
            let message = self.inbox.recv_timeout(Duration::from_secs(60));
            self.app.update(message.unwrap_or_else(|_| panic!("waited for {what}")));
        }
        self
    }

    pub fn key(mut self, code: KeyCode, modifiers: KeyModifiers) -> Stage {
        self.app.update(Message::Input(Event::Key(KeyEvent::new(code, modifiers))));
        self
    }

    pub fn control(self, letter: char) -> Stage {
        self.key(KeyCode::Char(letter), KeyModifiers::CONTROL)
    }

    pub fn types(mut self, text: &str) -> Stage {
        for c in text.chars() {
            self = self.key(KeyCode::Char(c), KeyModifiers::NONE);
        }
        self
    }

    /// Runs the statement at the cursor, and waits for its end and its page.
    pub fn runs(self) -> Stage {
        let stage = self.control('r').until("the run to begin", |app| app.connection.is_busy());
        let stage = stage.until("the run's end", |app| !app.connection.is_busy());
        stage.until("the page", |app| {
            app.rows.shows() != Shows::Rows || app.rows.page().is_some_and(|page| page.of == app.rows.total())
        })
    }

    pub fn drawn(&self) -> (Buffer, Option<Position>) {
        let mut cells = Buffer::empty(self.app.screen());
        let cursor = draw(&self.app, &mut cells);
        (cells, cursor)
    }

    pub fn text(&self) -> String {
        let (cells, _) = self.drawn();
        let line = |y| (0..cells.area.width).map(|x| cells[(x, y)].symbol()).collect::<String>().trim_end().to_owned();
        (0..cells.area.height).map(line).collect::<Vec<_>>().join("\n")
    }

    /// Where a text stands on the screen.
    pub fn find(&self, text: &str) -> Position {
        let screen = self.text();
        let y = screen.lines().position(|line| line.contains(text)).unwrap_or_else(|| panic!("no {text} in\n{screen}"));
        let line = screen.lines().nth(y).unwrap();
        let x = line[..line.find(text).unwrap()].chars().count();
        Position::new(x as u16, y as u16)
    }

    /// A hand on the mouse.
    pub fn mouse(mut self, kind: MouseEventKind, column: u16, row: u16) -> Stage {
        let event = MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE };
        self.app.update(Message::Input(Event::Mouse(event)));
        self
    }

    pub fn click(self, column: u16, row: u16) -> Stage {
        let button = MouseButton::Left;
        self.mouse(MouseEventKind::Down(button), column, row).mouse(MouseEventKind::Up(button), column, row)
    }

    pub fn paste(mut self, text: &str) -> Stage {
        self.app.update(Message::Input(Event::Paste(text.to_owned())));
        self
    }

    /// The text of the buffer.
    pub fn buffer(&self) -> String {
        self.app.buffer.document.rope().to_string()
    }

    /// What the last line says.
    pub fn told(&self) -> &str {
        self.app.told.as_ref().map_or("", |told| told.text.as_str())
    }
}
