//! The text in hand: its file, its journal, and where in it the screen is.

use std::cell::RefCell;
use std::collections::HashMap;
use std::path::{Path, PathBuf};

use jaunty_core::buffers::form::{NoSuchCharacter, TextForm};
use jaunty_core::buffers::journal::{Journal, Recovery};
use jaunty_core::connection::comment;
use jaunty_core::{files, words};
use jaunty_language::dialect;
use jaunty_language::edit::document::{Document, Motion};
use jaunty_language::host::Code;
use jaunty_language::outline::StatementId;
use jaunty_language::split::Statement;
use jaunty_language::statement::batch;
use jaunty_language::text::clean;
use jaunty_language::text::motion;
use ratatui::layout::{Position, Rect};

/// What is said where something is asked for that only the editor can do.
pub(super) const OF_EDITOR: &str = "the text is the editor's; save, rename and remove it there";

/// Columns of the margin.
pub const MARGIN: u16 = 4;

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
    #[error("{path} is not UTF-8 text, and not text in UTF-16 or a western encoding; a buffer must be.")]
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
    /// What is to be known of the file, as a sentence.
    pub(super) notice: Option<String>,
    /// None for a text that is an editor's.
    pub(super) journal: Option<Journal>,
    /// Its statements are being found.
    pub(super) outlining: bool,
    /// The file's text when it was read or written last; none if there was no file.
    on_disk: Option<String>,
    /// How the file keeps it.
    form: TextForm,
    /// Whether a person said so.
    is_form_told: bool,
    pub(super) cut: String,
    /// The identities of statements in sight, as of a revision: a long one takes a while to digest.
    ids: RefCell<(u64, Ids)>,
    /// Where the cursor was when it was last brought into sight, so that scrolling can leave it.
    seen: Option<(u64, usize, Rect)>,
    /// The version of a text that is an editor's, and not ours to write.
    pub(super) version: Option<i64>,
    /// The program code in which its statements stand, where they do.
    pub(super) code: Option<Code>,
}

/// The text of a file, and how it keeps it: as was `told`, if it can be read so. None where there is no file.
fn read(path: &Path, told: Option<TextForm>) -> Result<Option<(String, TextForm)>, OpenError> {
    match std::fs::read(path) {
        Ok(bytes) => {
            let read = match told.map(|form| form.read_as(&bytes)) {
                Some(Ok(read)) => Ok(read),
                Some(Err(_)) | None => TextForm::read(bytes),
            };
            read.map(Some).map_err(|_| OpenError::NotText { path: path.to_owned() })
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(source) => Err(OpenError::Buffer { path: path.to_owned(), source }),
    }
}

impl Buffer {
    /// The connection that a comment in its first lines names.
    pub(super) fn connection_line(&self) -> Option<String> {
        let lines = self.document.rope().lines().map(|line| line.to_string());
        comment::named(lines, comment::marks(&self.path))
    }

    /// Opens a file, or begins one that is not there yet. Text that a crash left in a journal is
    /// brought back as one change, which can be undone.
    pub fn open(path: &Path, journals: &Path) -> Result<Buffer, OpenError> {
        let path = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        let (mut on_disk, form) = read(&path, None)?.unzip();
        let form = form.unwrap_or_default();
        let notice = form
            .is_guess()
            .then(|| format!("read as {form} and saved so; `encoding` in the list of actions takes another one"));
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
            document.replace_all(&found.text);
            document.go(Motion::Top, false);
            let changes = words::count(found.edits as u64, "unsaved change");
            let mut told =
                format!("recovered {changes} from before a crash: saving keeps what was typed, undoing drops it");
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
            notice,
            journal: Some(journal),
            outlining: false,
            on_disk,
            form,
            is_form_told: false,
            cut: String::new(),
            ids: RefCell::default(),
            seen: None,
            version: None,
            code: None,
        })
    }

    /// A text that is an editor's.
    pub(super) fn unwritten(path: &Path, document: Document, (version, code): (i64, Option<Code>)) -> Buffer {
        Buffer {
            document,
            path: path.to_owned(),
            top: 0,
            left: 0,
            connection: None,
            recovered: None,
            notice: None,
            journal: None,
            outlining: false,
            on_disk: None,
            form: TextForm::default(),
            is_form_told: false,
            cut: String::new(),
            ids: RefCell::default(),
            seen: None,
            version: Some(version),
            code,
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
        match self.read() {
            Ok(Some((text, form))) => self.on_disk.as_ref() != Some(&text) || form != self.form,
            Ok(None) => self.on_disk.is_some(),
            Err(_) => true,
        }
    }

    /// The file's text as it is now, and how it keeps it.
    pub(super) fn read(&self) -> Result<Option<(String, TextForm)>, OpenError> {
        read(&self.path, self.is_form_told.then_some(self.form))
    }

    /// How the file keeps the text.
    pub fn form(&self) -> TextForm {
        self.form
    }

    /// Has the text written in this form from now on.
    pub(super) fn keep_as(&mut self, form: TextForm) {
        (self.form, self.is_form_told) = (form, true);
    }

    /// Reads the file in this form, as one change that can be taken back. False if it cannot be read so.
    pub(super) fn read_as(&mut self, form: TextForm) -> bool {
        let Ok(Ok((text, form))) = std::fs::read(&self.path).map(|bytes| form.read_as(&bytes)) else { return false };
        self.keep_as(form);
        self.take(text);
        true
    }

    /// Why a file in this form could not have the text.
    pub(super) fn cannot_keep_as(&self, form: TextForm) -> Option<NoSuchCharacter> {
        if form.is_usual() {
            return None;
        }
        form.write(&self.document.rope().to_string()).err()
    }

    pub(super) fn write(&mut self) -> std::io::Result<()> {
        // Whoever asks for it: the file of an editor's text is the editor's to write.
        if self.version.is_some() {
            return Err(std::io::Error::other(OF_EDITOR));
        }
        if let Some(folder) = self.path.parent().filter(|folder| !folder.exists()) {
            std::fs::create_dir_all(folder)?;
        }
        let text = self.document.rope().to_string();
        match self.form.is_usual() {
            true => files::replace(&self.path, text.as_bytes())?,
            false => files::replace(&self.path, &self.form.write(&text).map_err(std::io::Error::other)?)?,
        }
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
        (self.form, self.is_form_told) = (TextForm::default(), false);
    }

    /// Takes the file's text in the place of this one, as one change that can be taken back. False if
    /// it is the same, or cannot be read.
    pub(super) fn take_from_disk(&mut self) -> bool {
        let Ok(Some((text, form))) = self.read() else { return false };
        if self.on_disk.as_ref() == Some(&text) && self.form == form {
            return false;
        }
        self.form = form;
        self.take(text);
        true
    }

    fn take(&mut self, text: String) {
        let cursor = self.document.cursor();
        if self.document.rope() != text.as_str() {
            self.document.replace_all(&text);
            let boundary = (0..=cursor.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
            self.document.go(Motion::To(boundary), false);
        }
        self.document.mark_saved();
        self.journal_edits();
        self.begin_journal(text.clone());
        self.on_disk = Some(text);
    }

    /// Forgets unsaved text, because a person said so.
    pub(super) fn forget(&mut self) {
        self.begin_journal(String::new());
        self.settle();
    }

    fn begin_journal(&self, text: String) {
        if let Some(journal) = &self.journal {
            journal.begin(text);
        }
    }

    /// Waits until everything written is in the journal.
    pub(super) fn settle(&self) {
        if let Some(journal) = &self.journal {
            journal.sync();
        }
    }
}
