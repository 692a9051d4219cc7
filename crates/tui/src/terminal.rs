//! The terminal: taken over at the start, given back at the end, also after a panic.

use std::fs::File;
use std::io::{self, Stdout, Write, stdout};
use std::os::fd::OwnedFd;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};

use base64::Engine as _;
use crossterm::event::{DisableBracketedPaste, DisableMouseCapture, EnableBracketedPaste, EnableMouseCapture};
use crossterm::terminal::{EnterAlternateScreen, LeaveAlternateScreen, SetTitle, disable_raw_mode, enable_raw_mode};
use crossterm::{execute, queue};
use ratatui::backend::{Backend, ClearType, CrosstermBackend, WindowSize};
use ratatui::buffer::Cell;
use ratatui::layout::{Position, Size};
use ratatui::style::Color;

/// A backend that tells the terminal the place again after every character that is not ASCII.
///
/// Terminals do not agree on the width of many characters. One that takes another width than we
/// counted would shift the rest of its line; so it only spoils its own cell.
pub struct Resynced<B>(pub B);

impl<B: Backend> Backend for Resynced<B> {
    type Error = B::Error;

    fn draw<'a, I>(&mut self, content: I) -> Result<(), B::Error>
    where
        I: Iterator<Item = (u16, u16, &'a Cell)>,
    {
        let mut run: Vec<(u16, u16, &Cell)> = Vec::new();
        for (x, y, cell) in content {
            run.push((x, y, cell));
            // Drawing begins by telling the place.
            if !cell.symbol().is_ascii() && !is_plain(cell.symbol()) {
                self.0.draw(run.drain(..))?;
            }
        }
        if run.is_empty() { Ok(()) } else { self.0.draw(run.into_iter()) }
    }

    fn hide_cursor(&mut self) -> Result<(), B::Error> {
        self.0.hide_cursor()
    }

    fn show_cursor(&mut self) -> Result<(), B::Error> {
        self.0.show_cursor()
    }

    fn get_cursor_position(&mut self) -> Result<Position, B::Error> {
        self.0.get_cursor_position()
    }

    fn set_cursor_position<P: Into<Position>>(&mut self, position: P) -> Result<(), B::Error> {
        self.0.set_cursor_position(position)
    }

    fn clear(&mut self) -> Result<(), B::Error> {
        self.0.clear()
    }

    fn clear_region(&mut self, kind: ClearType) -> Result<(), B::Error> {
        self.0.clear_region(kind)
    }

    fn size(&self) -> Result<Size, B::Error> {
        self.0.size()
    }

    fn window_size(&mut self) -> Result<WindowSize, B::Error> {
        self.0.window_size()
    }

    fn flush(&mut self) -> Result<(), B::Error> {
        self.0.flush()
    }
}

/// Symbols of our own drawing, which every terminal takes as one cell.
fn is_plain(symbol: &str) -> bool {
    matches!(symbol, "─" | "│" | "·" | "…" | "▎" | "∅")
}

/// The terminal that the program draws on.
pub type Terminal = ratatui::Terminal<Resynced<CrosstermBackend<Stdout>>>;

/// Where the standard error goes while the screen is drawn, and where it went before.
struct Errors {
    ours: OwnedFd,
    before: OwnedFd,
}

static ERRORS: OnceLock<Errors> = OnceLock::new();

/// Takes the terminal over. What libraries write to the standard error goes into `log` meanwhile, since it would
/// be painted over the screen; so does what is said of a panic on another thread.
pub fn take(log: Option<File>) -> io::Result<Terminal> {
    if let (Some(log), Ok(before)) = (log, rustix::io::dup(rustix::stdio::stderr())) {
        let _ = ERRORS.set(Errors { ours: log.into(), before });
    }
    let (before, screen) = (std::panic::take_hook(), std::thread::current().id());
    std::panic::set_hook(Box::new(move |panic| {
        tracing::error!("{panic}");
        // Any other thread reports what became of its work; the screen goes on.
        if std::thread::current().id() == screen {
            give_back();
            before(panic);
        }
    }));
    enter()?;
    fresh()
}

/// Sends the standard error into the log, or to where it went before.
fn keep_errors_off(screen: bool) {
    if let Some(errors) = ERRORS.get() {
        let to = if screen { &errors.ours } else { &errors.before };
        let _ = rustix::stdio::dup2_stderr(to);
    }
}

/// The terminal as one on which nothing is drawn yet: after another program has had it.
pub fn fresh() -> io::Result<Terminal> {
    ratatui::Terminal::new(Resynced(CrosstermBackend::new(stdout())))
}

/// Puts it into the state that the screen needs.
pub fn enter() -> io::Result<()> {
    enable_raw_mode()?;
    keep_errors_off(true);
    execute!(stdout(), EnterAlternateScreen, EnableBracketedPaste, EnableMouseCapture, SetTitle("Jaunty Quill"))
}

/// Whether the cursor has a colour of ours.
static COLOURED: AtomicBool = AtomicBool::new(false);

/// Gives the cursor a colour, so that it is seen on the ground of a theme that is not the terminal's (OSC 12 of
/// xterm's control sequences). Terminals that do not know it pass over it.
pub fn colour_cursor(colour: Option<Color>) -> io::Result<()> {
    if let Some(Color::Rgb(red, green, blue)) = colour {
        COLOURED.store(true, Ordering::Relaxed);
        execute!(stdout(), crossterm::style::Print(format!("\x1b]12;#{red:02x}{green:02x}{blue:02x}\x07")))?;
    }
    Ok(())
}

/// Gives it back as it was. What fails is left: the program is ending.
pub fn give_back() {
    if COLOURED.load(Ordering::Relaxed) {
        let _ = execute!(stdout(), crossterm::style::Print("\x1b]112\x07"));
    }
    let _ =
        execute!(stdout(), DisableMouseCapture, DisableBracketedPaste, LeaveAlternateScreen, crossterm::cursor::Show);
    let _ = disable_raw_mode();
    keep_errors_off(false);
}

/// Puts text into the clipboard of the person's desktop, through the terminal (OSC 52).
pub fn copy(text: &str) -> io::Result<()> {
    let encoded = base64::engine::general_purpose::STANDARD.encode(text);
    let mut out = stdout();
    queue!(out, crossterm::style::Print(format!("\x1b]52;c;{encoded}\x07")))?;
    out.flush()
}

#[cfg(test)]
mod tests {
    use std::cell::RefCell;
    use std::rc::Rc;

    use ratatui::buffer::Buffer;
    use ratatui::layout::Rect;

    use super::*;

    /// Keeps what is sent.
    #[derive(Clone, Default)]
    struct Sent(Rc<RefCell<Vec<u8>>>);

    impl Write for Sent {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            self.0.borrow_mut().extend_from_slice(bytes);
            Ok(bytes.len())
        }
        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    /// What is sent to the terminal for a line of text.
    fn sent(text: &str) -> String {
        let mut cells = Buffer::empty(Rect::new(0, 0, 20, 1));
        crate::paint::put(&mut cells, 0, 0, 20, text, ratatui::style::Style::new());
        let empty = Buffer::empty(cells.area);
        let sent = Sent::default();
        let mut backend = Resynced(CrosstermBackend::new(sent.clone()));
        backend.draw(empty.diff(&cells).into_iter()).unwrap();
        String::from_utf8(sent.0.take()).unwrap()
    }

    #[test]
    fn a_line_of_ascii_is_sent_in_one_piece() {
        let sent = sent("harbour");
        assert!(sent.contains("harbour"), "{sent:?}");
        assert_eq!(sent.matches('H').count(), 1, "the place is told once: {sent:?}");
    }

    #[test]
    fn the_place_is_told_again_after_a_character_of_doubtful_width() {
        let sent = sent("a名b");
        let after = &sent[sent.find('名').unwrap()..];
        assert!(after.contains("\x1b[1;4H"), "the column of b, whatever the terminal made of 名: {sent:?}");
    }

    #[test]
    fn nothing_but_our_own_sequences_is_sent() {
        let sent = sent("\x1b]0;x\x07\u{202e}");
        assert!(!sent.contains("\x1b]") && !sent.contains('\x07') && !sent.contains('\u{202e}'), "{sent:?}");
    }
}
