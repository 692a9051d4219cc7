//! A screen without a terminal: real runs on a real database, drawn into cells in memory.

#![allow(dead_code)]

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;

use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use jaunty_core::archive::Retention;
use jaunty_core::connection::{Connections, load};
use jaunty_core::files::Folders;
use jaunty_core::run::Keeping;
use jaunty_core::run::gate::Ahead;
use jaunty_core::settings::Settings;
use jaunty_engines::ENGINES;
use jaunty_seam::profile::{Guard, Profile};
use jaunty_tui::app::{App, Message, Options, Shows};
use jaunty_tui::appearance;
use jaunty_tui::pager::Page;
use jaunty_tui::theme::Depth;
use jaunty_tui::view::draw;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};

/// The screen, and the messages that come to it.
pub struct Stage {
    pub app: App,
    inbox: Receiver<Message>,
    folder: tempfile::TempDir,
    connected: Connected,
}

/// What it is connected with at the beginning.
#[derive(Clone, Copy)]
enum Connected {
    /// A database in memory.
    With(Guard),
    /// What the buffer ran on last, of the connections in the file.
    AsItRan,
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

    /// One of files that are there already, with the connections of this file and none in hand.
    pub fn among(connections: &str, buffers: &[(&str, &str)]) -> Stage {
        let folder = tempfile::tempdir().unwrap();
        let config = Folders::below(folder.path()).config;
        std::fs::create_dir_all(&config).unwrap();
        std::fs::write(config.join("connections.toml"), connections).unwrap();
        for (name, text) in buffers {
            std::fs::write(folder.path().join(name), text).unwrap();
        }
        Stage::begun(folder, (120, 24), Connected::AsItRan, Ahead::ALL)
    }

    /// The program left, and started again on the same files.
    pub fn again(self) -> Stage {
        let (size, connected) = (self.app.screen(), self.connected);
        drop(self.app);
        match connected {
            Connected::With(guard) => Stage::opened(self.folder, (size.width, size.height), guard, Ahead::ALL),
            connected => Stage::begun(self.folder, (size.width, size.height), connected, Ahead::ALL),
        }
    }

    fn opened(folder: tempfile::TempDir, size: (u16, u16), guard: Guard, ahead: Ahead) -> Stage {
        let stage = Stage::begun(folder, size, Connected::With(guard), ahead);
        stage.until("the connection", |app| app.connection.location.is_some())
    }

    fn begun(folder: tempfile::TempDir, (width, height): (u16, u16), connected: Connected, ahead: Ahead) -> Stage {
        let folders = Folders::below(folder.path());
        let keeping = Keeping::open(&folders, Retention::default()).ahead(ahead);
        let (connections, profile) = match connected {
            Connected::With(guard) => {
                let profile = Profile::new("ferry", "sqlite").with("path", ":memory:").guarded(guard);
                (Connections { profiles: vec![profile.clone()], ..Connections::default() }, Some(profile))
            }
            Connected::AsItRan => (load(&[folders.config.join("connections.toml")], ENGINES), None),
        };
        let options = Options {
            folders,
            engines: ENGINES,
            connections,
            profile,
            buffer: folder.path().join("a.sql"),
            rows: None,
            keeping,
            appearance: appearance::understood(&mut Settings::default()),
            settings: Settings::default(),
            depth: Depth::Full,
            guest: false,
            outside: None,
        };
        let (post, inbox) = channel();
        let app = App::open(options, None, Arc::new(move |message| drop(post.send(message)))).unwrap();
        let mut stage = Stage { app, inbox, folder, connected };
        stage.app.resize(Rect::new(0, 0, width, height));
        stage
    }

    /// A file of its folder.
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// What a file of its folder holds.
    pub fn file(&self, name: &str) -> String {
        std::fs::read_to_string(self.path(name)).unwrap_or_else(|error| panic!("{name}: {error}"))
    }

    /// Waits until the screen shows a text.
    pub fn shows(mut self, text: &str) -> Stage {
        while !self.text().contains(text) {
            match self.inbox.recv_timeout(Duration::from_secs(20)) {
                Ok(message) => self.app.update(message),
                Err(_) => panic!("waited for {text}:\n{}", self.text()),
            }
        }
        self
    }

    pub fn until(mut self, what: &str, is: impl Fn(&App) -> bool) -> Stage {
        while !is(&self.app) {
            let message = self.inbox.recv_timeout(Duration::from_secs(20));
            self.app.update(message.unwrap_or_else(|_| panic!("waited for {what}")));
        }
        self
    }

    /// Takes what has come so far, and waits for nothing.
    pub fn takes_what_came(&mut self) {
        while let Ok(message) = self.inbox.try_recv() {
            self.app.update(message);
        }
    }

    pub fn key(mut self, code: KeyCode, modifiers: KeyModifiers) -> Stage {
        self.app.update(Message::Input(Event::Key(KeyEvent::new(code, modifiers))));
        self
    }

    pub fn enter(self) -> Stage {
        self.key(KeyCode::Enter, KeyModifiers::NONE)
    }

    pub fn esc(self) -> Stage {
        self.key(KeyCode::Esc, KeyModifiers::NONE)
    }

    /// A function key.
    pub fn f(self, number: u8) -> Stage {
        self.key(KeyCode::F(number), KeyModifiers::NONE)
    }

    pub fn alt(self, letter: char) -> Stage {
        self.key(KeyCode::Char(letter), KeyModifiers::ALT)
    }

    /// Does what the list of actions has under this name.
    pub fn does(self, title: &str) -> Stage {
        self.control('l').types(title).enter()
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
        self.control('g').its_rows()
    }

    /// Waits for a run that was just asked for. Rows of an earlier run of the same statement are not its rows.
    pub fn its_rows(self) -> Stage {
        let stage = self.until("the run to begin", |app| app.connection.is_busy());
        let stage = stage.until("the run's end", |app| !app.connection.is_busy());
        stage.until("the page", |app| {
            let there = |page: &Page| !page.rows.is_empty() || app.rows.total() == 0;
            app.rows.shows() != Shows::Rows || (!app.expects_rows() && app.rows.page().is_some_and(there))
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

    /// A screen of another size.
    pub fn resized(mut self, (width, height): (u16, u16)) -> Stage {
        self.app.update(Message::Input(Event::Resize(width, height)));
        self
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
        self.app.status.as_ref().map_or("", |told| told.text.as_str())
    }
}
