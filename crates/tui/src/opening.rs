//! Reading a large file before the screen opens on it: its first frame comes at once, and says what it waits for.

use std::io;
use std::path::Path;
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
use std::time::{Duration, Instant};

use crossterm::event::{Event, KeyCode};
use jaunty_language::text::clean;

use crate::action::Scope;
use crate::app::{Buffer, Message, OpenError, Options};
use crate::keys::{Key, Keymap};
use crate::terminal::Terminal;
use crate::theme::{Role, Theme};
use jaunty_core::words;

/// Files of more bytes than this are read beside the screen: that takes more than a frame.
pub const LARGE: u64 = 8 << 20;

/// Whether a file takes a while to read.
pub fn is_large(path: &Path) -> bool {
    std::fs::metadata(path).is_ok_and(|file| file.len() > LARGE)
}

/// What came of waiting for a file.
pub enum Opened {
    /// The buffer, and what a person did meanwhile.
    Buffer(Box<Buffer>, Vec<Message>),
    /// It cannot be opened.
    Not(OpenError),
    /// A person did not want to wait.
    Left,
}

/// Reads the file of the buffer that the screen is to open on, and says so on the screen.
pub fn read(options: &Options, terminal: &mut Terminal, inbox: &Receiver<Message>) -> io::Result<Opened> {
    let (done, wait) = sync_channel(1);
    let (path, journals) = (options.buffer.clone(), options.folders.journals());
    let work = move || drop(done.send(Buffer::open(&path, &journals)));
    std::thread::Builder::new().name("open".into()).spawn(work)?;
    let size = std::fs::metadata(&options.buffer).map_or(0, |file| file.len());
    let name = options.buffer.file_name().unwrap_or_default().to_string_lossy();
    let what = format!("reading {} · {}", clean::clean(&name), words::bytes(size));
    let (theme, keymap) = (Theme::new(options.appearance.theme, options.depth), Keymap::new(&options.appearance.keys));
    let (since, mut meanwhile) = (Instant::now(), Vec::new());
    loop {
        terminal.draw(|frame| {
            let (area, cells) = (frame.area(), frame.buffer_mut());
            crate::paint::fill(cells, area, theme.style(Role::Text));
            let text = format!("{what} · {} · esc leaves", words::clock(since.elapsed()));
            crate::paint::put(cells, 1, area.height / 2, area.right(), &text, theme.style(Role::Text));
        })?;
        match wait.recv_timeout(Duration::from_millis(100)) {
            Ok(Ok(buffer)) => return Ok(Opened::Buffer(Box::new(buffer), meanwhile)),
            Ok(Err(error)) => return Ok(Opened::Not(error)),
            Err(RecvTimeoutError::Disconnected) => {
                return Err(io::Error::other("the thread that reads the buffer has failed"));
            }
            Err(RecvTimeoutError::Timeout) => {}
        }
        while let Ok(message) = inbox.try_recv() {
            let leaves = match &message {
                Message::Input(Event::Key(key)) => {
                    let action = keymap.action(Key::of(key), Scope::Buffer);
                    key.code == KeyCode::Esc || action.is_some_and(|action| action.name == "quit")
                }
                _ => false,
            };
            if leaves {
                return Ok(Opened::Left);
            }
            meanwhile.push(message);
        }
    }
}
