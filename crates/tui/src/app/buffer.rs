//! The text in hand: its file, its journal, and where in it the screen is.

use std::cell::RefCell;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jaunty_core::buffers::journal::{Journal, Recovery};
use jaunty_core::buffers::{self, difference};
use jaunty_core::files;
use jaunty_language::dialect;
use jaunty_language::edit::document::{Document, Motion};
use jaunty_language::outline::StatementId;
use jaunty_language::split::Statement;
use jaunty_language::statement::batch;
use jaunty_language::text::clean;
use jaunty_language::text::motion;
use ratatui::layout::{Position, Rect};

use super::{Answered, App, Connection, Message, Overlay, Question};
use crate::work::{Kind, Work};

/// Columns of the margin.
pub const MARGIN: u16 = 4;

/// What is said where something is asked for that only the editor can do.
const OF_EDITOR: &str = "the text is the editor's; save, rename and remove it there";

/// Why the screen could not be opened.
#[derive(Debug, thiserror::Error)]
pub enum OpenError {
    /// The buffer's file.
    #[error("{path} cannot be opened: {source}. Check the path and its permissions.")]
    Buffer {
        /// The file.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// It is not text.
    #[error("{path} is not UTF-8 text; a buffer must be.")]
    NotText {
        /// The file.
        path: PathBuf,
    },
    /// No thread could be started.
    #[error("a thread could not be started: {0}")]
    Thread(std::io::Error),
}

/// Identities of statements by their first and last byte.
type Ids = HashMap<(usize, usize), StatementId>;

/// A buffer on the screen.
#[derive(Debug)]
pub struct Buffer {
    /// The text.
    pub document: Document,
    /// Its file.
    pub path: PathBuf,
    /// The first line on the screen.
    pub top: usize,
    /// The first column on the screen.
    pub left: usize,
    /// The connection that its statements run on.
    pub connection: Option<String>,
    /// What was brought back from a crash, as a sentence.
    pub recovered: Option<String>,
    /// None for a text that is an editor's.
    journal: Option<Journal>,
    /// Its statements are being found.
    pub(super) outlining: bool,
    /// The file's text when it was read or written last; none if there was no file.
    on_disk: Option<String>,
    pub(super) cut: String,
    /// The identities of statements in sight, as of a revision: a long one takes a while to digest.
    ids: RefCell<(u64, Ids)>,
    /// Where the cursor was when it was last brought into sight, so that scrolling can leave it.
    seen: Option<(u64, usize, Rect)>,
    /// The version of a text that is an editor's, and not ours to write.
    version: Option<i64>,
}

fn read(path: &Path) -> Result<Option<String>, OpenError> {
    match std::fs::read(path) {
        Ok(bytes) => String::from_utf8(bytes).map(Some).map_err(|_| OpenError::NotText { path: path.to_owned() }),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(source) => Err(OpenError::Buffer { path: path.to_owned(), source }),
    }
}

impl Buffer {
    /// Opens a file, or begins one that is not there yet. Text that a crash left in a journal is
    /// brought back as one change, which can be undone.
    pub fn open(path: &Path, journals: &Path) -> Result<Buffer, OpenError> {
        let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        let mut on_disk = read(&path)?;
        let crashed = Recovery::find(journals, &path).unwrap_or_else(|error| {
            tracing::warn!(%error, "journals could not be read");
            None
        });
        let (crashed, settled) = match crashed {
            // It was saved, and only its journal was left.
            Some(found) if Some(&found.text) == on_disk.as_ref() => (None, Some(found)),
            crashed => (crashed, None),
        };
        // The text was typed into this, whatever the file holds now: where they differ, saving asks.
        if let Some(found) = crashed.as_ref().filter(|found| !(found.base.is_empty() && on_disk.is_none())) {
            on_disk = Some(found.base.clone());
        }
        let text = on_disk.clone().unwrap_or_default();
        let extension = path.extension().unwrap_or_default().to_string_lossy();
        let mut document = Document::new(&text, dialect::by_extension(&extension).unwrap_or(dialect::FALLBACK));
        let journal = Journal::new(journals, &path, text);
        let mut recovered = None;
        if let Some(found) = crashed {
            document.select_all();
            document.insert(&found.text);
            document.go(Motion::Top, false);
            let mut told = format!(
                "recovered {} unsaved changes from before a crash; save keeps them, undo drops them",
                found.edits
            );
            if found.others > 0 {
                told.push_str(&format!(
                    "; {} more such text{} of this buffer will come up at the next start",
                    found.others,
                    if found.others == 1 { "" } else { "s" }
                ));
            }
            recovered = Some(told);
            journal.record(document.take_edits());
            journal.sync();
            if journal.trouble().is_none()
                && let Err(error) = found.discard()
            {
                tracing::warn!(%error, "an old journal could not be removed");
            }
        }
        if let Some(Err(error)) = settled.map(Recovery::discard) {
            tracing::warn!(%error, "an old journal could not be removed");
        }
        Ok(Buffer {
            document,
            path,
            top: 0,
            left: 0,
            connection: None,
            recovered,
            journal: Some(journal),
            outlining: false,
            on_disk,
            cut: String::new(),
            ids: RefCell::default(),
            seen: None,
            version: None,
        })
    }

    /// A text that is an editor's.
    pub(super) fn unwritten(path: &Path, document: Document, version: i64) -> Buffer {
        Buffer {
            document,
            path: path.to_owned(),
            top: 0,
            left: 0,
            connection: None,
            recovered: None,
            journal: None,
            outlining: false,
            on_disk: None,
            cut: String::new(),
            ids: RefCell::default(),
            seen: None,
            version: Some(version),
        }
    }

    /// The version of a text that is an editor's.
    pub fn version(&self) -> Option<i64> {
        self.version
    }

    /// The file's name.
    pub fn name(&self) -> String {
        let name = self.path.file_name().unwrap_or_default().to_string_lossy();
        clean::clean(&name).into_owned()
    }

    /// Writes what changed to the journal.
    pub fn journal_edits(&mut self) {
        if let Some(journal) = &self.journal {
            journal.record(self.document.take_edits());
        }
    }

    /// The identity of a statement of this buffer.
    pub fn id_of(&self, statement: &Statement) -> StatementId {
        let (revision, ids) = &mut *self.ids.borrow_mut();
        if *revision != self.document.revision() {
            *revision = self.document.revision();
            ids.clear();
        }
        let of = || StatementId::of(&statement.text(self.document.rope()));
        *ids.entry((statement.start, statement.body_end)).or_insert_with(of)
    }

    /// The places of the statements that the one at the cursor is sent with, as it needs them of its batch.
    pub fn needed_by_current(&self) -> Vec<(usize, usize)> {
        let (document, outline) = (&self.document, self.document.outline());
        let Some(index) = document.current() else { return Vec::new() };
        let needs = batch::needs(outline, index, document.rope());
        let places = needs.statements.iter().filter_map(|at| outline.statements().get(*at));
        places.map(|statement| (statement.start, statement.body_end)).collect()
    }

    /// Moves the screen so that the cursor is on it, unless only the screen was moved.
    pub fn keep_cursor_in_sight(&mut self, area: Rect) {
        let now = (self.document.revision(), self.document.cursor(), area);
        if area.is_empty() || self.seen == Some(now) {
            return;
        }
        self.seen = Some(now);
        let (line, column) = self.place();
        let height = usize::from(area.height);
        self.top = self.top.clamp((line + 1).saturating_sub(height), line);
        let width = usize::from(area.width.saturating_sub(MARGIN + 1)).max(1);
        self.left = self.left.clamp((column + 1).saturating_sub(width), column);
        // Back to the edge as soon as the cursor allows it.
        if column < width {
            self.left = 0;
        }
    }

    /// Moves a screen of this height so that all of the statement at the cursor is on it, with its title; its
    /// beginning, where there is no room for all of it.
    pub fn show_statement(&mut self, height: usize) {
        let Some(statement) = self.document.statement() else { return };
        let line = |at: usize| self.document.rope().byte_to_line(at);
        let (first, last) = (line(statement.top()), line(statement.body_end));
        self.top = self.top.max((last + 1).saturating_sub(height)).min(first);
    }

    /// The cursor's line and screen column, from 0.
    pub fn place(&self) -> (usize, usize) {
        let rope = self.document.rope();
        let line = rope.byte_to_line(self.document.cursor());
        let text = motion::line_text(rope, line);
        (line, motion::column_of(&text, self.document.cursor() - rope.line_to_byte(line)))
    }

    /// Moves the screen over the text.
    pub fn scroll(&mut self, lines: isize, area: Rect) {
        let last = self.document.rope().len_lines().saturating_sub(usize::from(area.height.min(3)));
        self.top = self.top.saturating_add_signed(lines).min(last);
    }

    /// Puts the cursor where a hand points.
    pub fn click(&mut self, at: Position, area: Rect, extend: bool) {
        let rope = self.document.rope();
        let below = usize::from(at.y.saturating_sub(area.y).min(area.height.saturating_sub(1)));
        let line = (self.top + below).min(rope.len_lines() - 1);
        let column = self.left + usize::from(at.x.saturating_sub(area.x + MARGIN));
        let text = motion::line_text(rope, line);
        let byte = rope.line_to_byte(line) + motion::byte_at_column(&text, column);
        self.document.go(Motion::To(byte), extend);
    }

    /// Whether the file is not what it was when it was read or written last.
    pub(super) fn changed_outside(&self) -> bool {
        !matches!(read(&self.path), Ok(now) if now == self.on_disk)
    }

    fn write(&mut self) -> std::io::Result<()> {
        // Whoever asks for it: the file of an editor's text is the editor's to write.
        if self.version.is_some() {
            return Err(std::io::Error::other(OF_EDITOR));
        }
        if let Some(folder) = self.path.parent().filter(|folder| !folder.exists()) {
            std::fs::create_dir_all(folder)?;
        }
        let text = self.document.rope().to_string();
        files::replace(&self.path, text.as_bytes())?;
        self.document.mark_saved();
        self.journal_edits();
        self.begin_journal(text.clone());
        self.on_disk = Some(text);
        Ok(())
    }

    /// Goes on in another file: writes the text there.
    pub(super) fn move_to(&mut self, path: &Path, journals: &Path) -> std::io::Result<()> {
        let before = (std::mem::replace(&mut self.path, path.to_owned()), self.on_disk.take());
        match self.write() {
            Ok(()) => {
                // The journal of the old name has nothing left to tell.
                self.forget();
                self.journal = Some(Journal::new(journals, path, self.document.rope().to_string()));
                Ok(())
            }
            Err(error) => {
                (self.path, self.on_disk) = before;
                Err(error)
            }
        }
    }

    /// Begins anew with an empty text in the same place.
    pub(super) fn begin_anew(&mut self, journals: &Path) {
        self.forget();
        let dialect = self.document.outline().dialect();
        self.document = Document::new("", dialect);
        self.journal = Some(Journal::new(journals, &self.path, String::new()));
        self.on_disk = None;
    }

    /// Takes the file's text in the place of this one, as one change that can be taken back. False if
    /// it is the same, or cannot be read.
    pub(super) fn take_from_disk(&mut self) -> bool {
        let Ok(Some(text)) = read(&self.path) else { return false };
        if self.on_disk.as_ref() == Some(&text) {
            return false;
        }
        let cursor = self.document.cursor();
        if self.document.rope() != text.as_str() {
            self.document.select_all();
            self.document.insert(&text);
            let boundary = (0..=cursor.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
            self.document.go(Motion::To(boundary), false);
        }
        self.document.mark_saved();
        self.journal_edits();
        self.begin_journal(text.clone());
        self.on_disk = Some(text);
        true
    }

    /// Forgets unsaved text, because a person said so.
    fn forget(&mut self) {
        self.begin_journal(String::new());
        self.settle();
    }

    fn begin_journal(&self, text: String) {
        if let Some(journal) = &self.journal {
            journal.begin(text);
        }
    }

    /// Waits until everything written is in the journal.
    fn settle(&self) {
        if let Some(journal) = &self.journal {
            journal.sync();
        }
    }
}

impl App {
    /// After a crash: says what was brought back, and asks where the file is another one by now. Says, from now
    /// on, where what is typed would not survive the next.
    pub(super) fn take_in_recovery(&mut self) {
        let post = Arc::clone(&self.post);
        if let Some(journal) = &self.buffer.journal {
            journal.on_trouble(move || post(Message::JournalChanged));
        }
        let Some(recovered) = self.buffer.recovered.take() else { return };
        self.tell(recovered);
        if self.buffer.changed_outside() {
            let name = self.buffer.name();
            self.ask_about_two_texts(format!(
                "{name} has unsaved text from before a crash, and was changed by another program since."
            ));
        }
    }

    /// Why what is typed here would not survive a crash.
    pub fn unprotected(&self) -> Option<String> {
        let unsaved =
            [&self.buffer].into_iter().chain(&self.background_buffers).filter(|buffer| buffer.document.is_unsaved());
        let why = unsaved.filter_map(|buffer| buffer.journal.as_ref()?.trouble()).next()?;
        Some(format!("unsaved text is not protected from a crash: {why}"))
    }

    /// Whether the text is an editor's, and what is asked for is the editor's to do: says so then.
    pub(super) fn leaves_to_editor(&mut self) -> bool {
        let is_editors = self.buffer.version.is_some();
        if is_editors {
            self.tell(OF_EDITOR);
        }
        is_editors
    }

    /// Saves, or asks if that would lose what another program wrote.
    pub fn save(&mut self) {
        if self.leaves_to_editor() {
            return;
        }
        if self.buffer.changed_outside() {
            let name = self.buffer.name();
            self.ask_about_two_texts(format!("{name} was changed by another program since it was read here."));
        } else {
            self.save_anyway();
        }
    }

    /// Shows the text of the file beside the one here, and asks which is meant.
    fn ask_about_two_texts(&mut self, text: String) {
        let answers = &[
            ('t', "take the file's text; undo brings this one back", Answered::Reload),
            ('o', "overwrite the file with this text", Answered::Overwrite),
            ('b', "save this text as another file", Answered::SaveBeside),
        ];
        let theirs = read(&self.buffer.path).ok().flatten();
        let about = match theirs {
            Some(theirs) => {
                let ours = self.buffer.document.rope().to_string();
                let mut lines = vec!["On disk (-) and here (+):".to_owned()];
                lines.extend(difference(&theirs, &ours, 10).iter().map(|line| clean::clean(line).into_owned()));
                lines
            }
            None => vec!["The file is gone.".to_owned()],
        };
        self.overlay = Some(Overlay::Question(Question { about, ..Question::new(text, answers) }));
    }

    /// Takes the text that another program wrote.
    pub(super) fn reload(&mut self) {
        if self.buffer.take_from_disk() {
            self.tell(format!("{} reloaded from disk; undo brings the previous text back", self.buffer.name()));
        }
    }

    pub(super) fn save_anyway(&mut self) -> bool {
        match self.buffer.write() {
            Ok(()) => {
                self.tell(format!("saved {}", self.buffer.name()));
                true
            }
            Err(error) => {
                let path = self.buffer.path.display();
                self.tell_wrong(format!(
                    "{path} cannot be saved: {error}. The text stays in a journal until it can be saved."
                ));
                false
            }
        }
    }

    pub(super) fn save_beside(&mut self) {
        let extension = self.buffer.path.extension().unwrap_or_default().to_string_lossy().into_owned();
        let free =
            (1..).map(|n| self.buffer.path.with_extension(format!("{n}.{extension}"))).find(|path| !path.exists());
        if let Some(path) = free {
            let before = std::mem::replace(&mut self.buffer.path, path);
            if !self.save_anyway() {
                self.buffer.path = before;
            }
        }
    }

    /// Leaves, if nothing would be lost; else asks.
    pub fn ask_to_quit(&mut self) {
        let buffers = || [&self.buffer].into_iter().chain(&self.background_buffers);
        let unsaved: Vec<_> = buffers().filter(|b| b.document.is_unsaved()).map(Buffer::name).collect();
        let mut reasons = Vec::new();
        if !unsaved.is_empty() {
            let has = if unsaved.len() == 1 { "has" } else { "have" };
            reasons.push(format!("{} {has} unsaved text.", unsaved.join(", ")));
        }
        for connection in [&self.connection].into_iter().chain(&self.background) {
            let name = connection.name();
            if connection.is_running() {
                reasons.push(format!(
                    "A statement is running on {name}; quitting cancels it; the rows fetched so far are kept."
                ));
            }
            if connection.location.as_ref().is_some_and(|location| location.in_transaction()) {
                reasons.push(format!("A transaction is open on {name}; quitting rolls it back."));
            }
        }
        for work in self.works.iter().filter(|work| work.kind == Kind::Write) {
            reasons.push(format!(
                "{} is not finished; quitting cancels it, and no file is written.",
                clean::clean(&work.what)
            ));
        }
        let unsaved = !unsaved.is_empty();
        let answers: &[(char, &'static str, Answered)] = match (reasons.is_empty(), unsaved) {
            (true, _) => return self.leave(),
            (false, true) => &[
                ('s', "save and quit", Answered::SaveAndLeave),
                ('d', "drop the text and leave", Answered::DropAndLeave),
            ],
            (false, false) => &[('l', "leave", Answered::Leave)],
        };
        // Each on a line of its own, so that none is cut.
        let about = reasons.split_off(1);
        let question = Question::new(reasons.concat(), answers);
        self.overlay = Some(Overlay::Question(Question { about, ..question }));
    }

    pub(super) fn leave(&mut self) {
        self.connection.stop();
        self.background.iter().for_each(Connection::stop);
        self.leaving = true;
    }

    pub(super) fn drop_text(&mut self) {
        self.buffer.forget();
        self.background_buffers.iter_mut().for_each(Buffer::forget);
    }

    /// Saves the buffers that are not in hand. False if one of them could not be.
    pub(super) fn save_shelved(&mut self) -> bool {
        let unsaved = self.background_buffers.iter_mut().filter(|buffer| buffer.document.is_unsaved());
        let failed = unsaved.filter_map(|buffer| Some(format!("{}: {}", buffer.name(), buffer.write().err()?))).next();
        match failed {
            Some(failed) => {
                self.tell_wrong(format!("not saved: {failed}"));
                false
            }
            None => true,
        }
    }

    /// Waits until everything written is in the journals, and until files that are not whole are gone.
    pub fn settle(&mut self) {
        let connection = self.buffer.connection.as_deref();
        // What an editor has in hand is not ours to come back to.
        let kept = std::env::current_dir().and_then(|place| match self.buffer.version {
            None => buffers::Last::keep(&self.folders, &place, &self.buffer.path, connection),
            Some(_) => Ok(()),
        });
        if let Err(error) = kept {
            tracing::warn!(%error, "what was in hand cannot be noted");
        }
        let (writing, others): (Vec<_>, Vec<_>) =
            std::mem::take(&mut self.works).into_iter().partition(|work| work.kind == Kind::Write);
        others.iter().for_each(Work::stop);
        writing.iter().for_each(Work::stop);
        writing.into_iter().for_each(Work::end);
        [&self.buffer].into_iter().chain(&self.background_buffers).for_each(Buffer::settle);
    }
}
