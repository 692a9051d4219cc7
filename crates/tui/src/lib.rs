//! The screen of Jaunty Quill.
//!
//! How the parts compose: [`run`] takes the terminal and loops. Threads post [`app::Message`]s
//! (keys, reports of runs, pages of rows) into one channel; the loop gives each to
//! [`app::App::update`], and when none is left it lets [`view::draw`] paint the state. Nothing in
//! this crate touches a database, and only the pages' thread touches archives.

pub mod action;
pub mod app;
pub mod appearance;
mod desktop;
pub mod input;
pub mod keys;
pub mod layout;
pub mod line;
mod opening;
pub mod pager;
pub mod paint;
pub mod row;
pub mod terminal;
pub mod theme;
pub mod view;
pub mod work;

use std::sync::Arc;
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::{Duration, Instant, SystemTime};

use jaunty_core::run::Keeping;
use ratatui::layout::Rect;

use crate::desktop::Desktop;

use app::{App, Message, OpenError, Options};
use input::Input;
use opening::Opened;

/// How long a frame waits for rows that are about to come, so that it need not be painted twice.
const FRAME_WAITS: Duration = Duration::from_millis(6);

/// What nobody typed is painted so often at most.
const FRAME: Duration = Duration::from_millis(16);

/// Why the screen ended.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// It could not be opened.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The terminal failed.
    #[error("the terminal cannot be used: {0}")]
    Terminal(#[from] std::io::Error),
}

/// Opens the screen and returns when a person leaves.
pub fn run(options: Options) -> Result<(), Error> {
    let keeping = options.keeping.clone();
    // Where there is no log, what would be in it is lost, and not painted over the screen.
    let log = std::fs::OpenOptions::new().append(true).open(options.folders.log());
    let log = log.or_else(|_| std::fs::OpenOptions::new().append(true).open("/dev/null")).ok();
    let (post, inbox) = channel();
    let sender = post.clone();
    let theirs: app::Post = Arc::new(move |message| drop(sender.send(message)));
    if !opening::is_large(&options.buffer) {
        let mut app = App::open(options, None, theirs)?;
        let mut terminal = terminal::take(log)?;
        let outcome = Input::start(post).and_then(|input| interact(&mut app, &mut terminal, &inbox, &input));
        return close(&mut app, &keeping, outcome);
    }
    let mut terminal = terminal::take(log)?;
    let opened = Input::start(post).and_then(|input| Ok((opening::read(&options, &mut terminal, &inbox)?, input)));
    let opened = match opened {
        Ok((Opened::Buffer(buffer, meanwhile), input)) => {
            App::open(options, Some(*buffer), theirs).map(|app| Some((app, meanwhile, input))).map_err(Error::from)
        }
        Ok((Opened::Not(error), _)) => Err(error.into()),
        Ok((Opened::Left, _)) => Ok(None),
        Err(error) => Err(error.into()),
    };
    let Some((mut app, meanwhile, input)) = opened.inspect_err(|_| terminal::give_back())? else {
        terminal::give_back();
        return Ok(());
    };
    meanwhile.into_iter().for_each(|message| app.update(message));
    let outcome = interact(&mut app, &mut terminal, &inbox, &input);
    close(&mut app, &keeping, outcome)
}

/// Gives the terminal back, and waits for what has to be written.
fn close(app: &mut App, keeping: &Keeping, outcome: std::io::Result<()>) -> Result<(), Error> {
    terminal::give_back();
    app.settle();
    keeping.clear_unremembered();
    Ok(outcome?)
}

fn interact(
    app: &mut App,
    terminal: &mut terminal::Terminal,
    inbox: &Receiver<Message>,
    input: &Input,
) -> std::io::Result<()> {
    let mut desktop = Desktop::default();
    let mut cursor = None;
    while !app.leaving {
        paint(app, terminal)?;
        let painted = Instant::now();
        let colour = app.theme.style(theme::Role::Text).fg;
        if cursor != colour {
            terminal::colour_cursor(colour)?;
            cursor = colour;
        }
        match inbox.recv_timeout(app.rests_for()) {
            Ok(message) => {
                let mut typed = matches!(message, Message::Input(_));
                app.update(message);
                // What others tell by the thousand is painted once a frame; what a person does, at once.
                while !typed && let Some(left) = FRAME.checked_sub(painted.elapsed()) {
                    let Ok(message) = inbox.recv_timeout(left) else { break };
                    typed = matches!(message, Message::Input(_));
                    app.update(message);
                }
            }
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => break,
        }
        take_all(app, inbox);
        app.tick(SystemTime::now());
        if let Some(text) = app.clipboard.take() {
            terminal::copy(&text)?;
            desktop.put(text);
        }
        if let Some(mut editor) = app.editor.take() {
            let outcome = input.lend(&mut editor);
            *terminal = terminal::fresh()?;
            cursor = None;
            app.back_from_editor(outcome);
        }
    }
    Ok(())
}

/// Takes every message that is there, and waits a little for rows that are about to come.
fn take_all(app: &mut App, inbox: &Receiver<Message>) {
    let since = Instant::now();
    loop {
        while let Ok(message) = inbox.try_recv() {
            app.update(message);
        }
        let left = FRAME_WAITS.saturating_sub(since.elapsed());
        if left.is_zero() || !app.expects_rows() {
            return;
        }
        match inbox.recv_timeout(left) {
            Ok(message) => app.update(message),
            Err(_) => return,
        }
    }
}

fn paint(app: &mut App, terminal: &mut terminal::Terminal) -> std::io::Result<()> {
    let size = terminal.size()?;
    let screen = Rect::new(0, 0, size.width, size.height);
    app.resize(screen);
    terminal.draw(|frame| {
        if let Some(cursor) = view::draw(app, frame.buffer_mut()) {
            frame.set_cursor_position(cursor);
        }
    })?;
    Ok(())
}
