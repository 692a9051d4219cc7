//! The screen as the guest of a text editor: the text is the editor's, and what the cursor there is on is shown here.
//!
//! What the editor says comes as [`Remote`] wishes. The buffer has the editor's text and is neither shown, changed nor
//! saved: what an action would put into it goes to the clipboard.

use std::fmt;
use std::path::{Path, PathBuf};

use jaunty_core::logbook::Outcome;
use jaunty_language::dialect;
use jaunty_language::edit::document::{Document, Motion};
use jaunty_language::host::Code;
use jaunty_language::outline::StatementId;

use super::{App, Buffer};
use crate::action::{ACTIONS, Scope, by_name};

/// A text of an editor, and where its cursor is.
#[derive(Debug, Clone, Default)]
pub struct Place {
    /// The file.
    pub path: PathBuf,
    /// The version of the text, as the editor counts them.
    pub version: i64,
    /// The text; none where this screen was given that version before.
    pub text: Option<String>,
    /// The program code that this text is, read; none where it is statements.
    pub code: Option<Code>,
    /// The position of the cursor, in bytes.
    pub at: usize,
    /// The connection that the text runs on.
    pub connection: Option<String>,
}

/// What is wished from outside.
pub enum Wish {
    /// Show what this place is on.
    Follow(Place),
    /// The same, and run it.
    Run(Place),
    /// Do an action, by its name in settings.
    Act(String),
    /// Say how things stand.
    State,
    /// Say it, and again whenever that has changed.
    Watch(Watcher),
}

impl fmt::Debug for Wish {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Wish::Follow(place) => f.debug_tuple("Follow").field(place).finish(),
            Wish::Run(place) => f.debug_tuple("Run").field(place).finish(),
            Wish::Act(name) => f.debug_tuple("Act").field(name).finish(),
            Wish::State => f.write_str("State"),
            Wish::Watch(_) => f.write_str("Watch"),
        }
    }
}

/// Is told how things stand whenever that has changed; false when nobody wants it any more. It must not wait.
pub type Watcher = Box<dyn Fn(&Standing) -> bool + Send>;

/// So many may watch at once: each has a thread of its own.
const WATCHERS: usize = 64;

/// Who is told how things stand, and what was told last.
#[derive(Default)]
pub(super) struct Watchers {
    all: Vec<Watcher>,
    told: Standing,
}

/// How things stand on the screen, for others.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Standing {
    /// Whether it is the guest of an editor.
    pub guest: bool,
    /// The connection's name.
    pub connection: Option<String>,
    /// The database.
    pub database: Option<String>,
    /// The file of the text.
    pub path: PathBuf,
    /// The statement that the cursor is on.
    pub statement: Option<String>,
    /// The number of the run that is shown, its rows and its outcome.
    pub run: Option<(Option<i64>, u64, Outcome)>,
    /// What the last line says.
    pub told: Option<String>,
}

/// Why a wish is not done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotDone {
    /// The text of that version is not here: it has to come with the wish.
    TextWanted,
    /// Something else, as a sentence.
    Refused(String),
}

/// Gives an answer to whoever wished.
pub type Reply = Box<dyn FnOnce(Result<Standing, NotDone>) + Send>;

/// A wish, and the way of its answer.
pub struct Remote {
    /// The wish.
    pub wish: Wish,
    /// The way back.
    pub reply: Reply,
}

impl fmt::Debug for Remote {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Remote").field(&self.wish).finish()
    }
}

impl Buffer {
    /// The text of an editor: nothing of it is written by us, to its file or to a journal.
    pub fn of_editor(path: &Path, version: i64, text: &str, code: Option<Code>) -> Buffer {
        let ending = path.extension().unwrap_or_default().to_string_lossy();
        let dialect = dialect::by_extension(&ending).unwrap_or(dialect::FALLBACK);
        let document = match &code {
            Some(code) => Document::new(&code.masked().to_string(), dialect),
            None => Document::new(text, dialect),
        };
        Buffer::unwritten(path, document, (version, code))
    }
}

impl App {
    /// Does what is wished from outside.
    pub(super) fn wished(&mut self, remote: Remote) {
        let Remote { wish, reply } = remote;
        let done = match wish {
            Wish::Follow(place) => self.go_with_editor(place),
            Wish::Run(place) => self.go_with_editor(place).map(|()| self.run_statement()),
            Wish::Act(name) => match by_name(&name) {
                Some(action) => {
                    (action.act)(self);
                    Ok(())
                }
                None => {
                    let near = ACTIONS.iter().find(|action| action.name.contains(&name));
                    let near = near.map(|action| format!("; there is {}", action.name)).unwrap_or_default();
                    Err(NotDone::Refused(format!("no action is named {name}{near}")))
                }
            },
            Wish::State => Ok(()),
            Wish::Watch(_) if self.watchers.all.len() >= WATCHERS => {
                Err(NotDone::Refused(format!("{WATCHERS} programs watch this screen already")))
            }
            Wish::Watch(watcher) => {
                self.watchers.all.push(watcher);
                Ok(())
            }
        };
        // What an action changed is seen in the answer.
        self.follow();
        reply(done.map(|()| self.standing()));
    }

    /// Tells whoever watches how things stand, where that has changed.
    pub(super) fn tell_watchers(&mut self) {
        if self.watchers.all.is_empty() {
            return;
        }
        let now = self.standing();
        if now != self.watchers.told {
            self.watchers.all.retain(|watcher| watcher(&now));
            self.watchers.told = now;
        }
    }

    fn standing(&self) -> Standing {
        let document = &self.buffer.document;
        Standing {
            guest: self.guest,
            connection: self.connection.profile.as_ref().map(|profile| profile.name.clone()),
            database: self.connection.location.as_ref().map(|location| location.database.clone()),
            path: self.buffer.path.clone(),
            statement: document.statement().map(|statement| statement.text(document.rope())),
            run: self.rows.run().map(|run| (run.number, run.rows(), run.outcome())),
            told: self.status.as_ref().map(|status| status.text.clone()),
        }
    }

    /// Goes to the place that an editor's cursor is at.
    fn go_with_editor(&mut self, place: Place) -> Result<(), NotDone> {
        if !self.panes.bare {
            return self.look_with_editor(&place);
        }
        let known = self.buffer.path == place.path && self.buffer.version() == Some(place.version);
        match place.text {
            Some(text) if !known => {
                let dialect = self.buffer.document.outline().dialect();
                let same = self.buffer.path == place.path;
                self.buffer = Buffer::of_editor(&place.path, place.version, &text, place.code);
                if same {
                    self.buffer.document.set_dialect(dialect);
                }
            }
            None if !known => return Err(NotDone::TextWanted),
            _ => {}
        }
        if let Some(profile) = place.connection.as_ref().and_then(|name| self.profile_named(name)).cloned() {
            self.connect(profile);
        } else if let Some(name) = place.connection {
            return Err(NotDone::Refused(format!("no connection named \"{name}\" is known here")));
        }
        let document = &mut self.buffer.document;
        let at = place.at.min(document.rope().len_bytes());
        let at = document.rope().char_to_byte(document.rope().byte_to_char(at));
        let before = document.statement().map(|statement| statement.start);
        document.go(Motion::To(at), false);
        // As when the cursor moves here: what was held stays, what was followed is left.
        if before != self.buffer.document.statement().map(|statement| statement.start) {
            self.trail.clear();
        }
        Ok(())
    }

    /// A screen with a text of its own shows the rows of the editor's statement, if it ran here, and leaves its text be.
    fn look_with_editor(&mut self, place: &Place) -> Result<(), NotDone> {
        let Some(text) = &place.text else { return Err(NotDone::TextWanted) };
        let mut editors = Buffer::of_editor(&place.path, place.version, text, place.code.clone());
        editors.document.set_dialect(self.buffer.document.outline().dialect());
        editors.document.go(Motion::To(place.at.min(text.len())), false);
        let statement = editors.document.statement().map(|statement| statement.text(editors.document.rope()));
        let run = statement.and_then(|text| self.connection.run_of(StatementId::of(&text)).cloned());
        match run {
            Some(run) => {
                self.rows.hold(Some(run));
                Ok(())
            }
            None => Err(NotDone::Refused("this statement did not run here; `jaunty --pane` follows an editor".into())),
        }
    }

    /// The editor's text stays as it is: what would have been put into it goes to the clipboard.
    pub(super) fn keep_editors_text(&mut self) {
        if !self.guest {
            return;
        }
        // A person may have gone to a buffer of ours meanwhile, and may come back.
        self.panes.bare = self.buffer.version().is_some();
        if !self.panes.bare {
            return;
        }
        self.panes.focus = Scope::Result;
        let put: String = self.buffer.document.take_edits().into_iter().map(|edit| edit.inserted).collect();
        while self.buffer.document.undo() {}
        self.buffer.document.take_edits();
        self.buffer.document.mark_saved();
        if !put.trim().is_empty() {
            self.clipboard = Some(put.trim().to_owned());
            self.tell("copied: the text is the editor's; paste it there");
        }
    }
}
