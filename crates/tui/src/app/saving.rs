//! Writing buffers to their files: what is asked where a file is another, and leaving with nothing lost.

use std::sync::Arc;

use jaunty_core::buffers::form::TextForm;
use jaunty_core::buffers::{self, difference};
use jaunty_language::text::clean;

use super::buffer::OF_EDITOR;
use super::overlay::Prompt;
use super::overlay::prompt::Asked;
use super::{Answered, App, Buffer, Connection, Message, Overlay, Question};
use crate::work::{Kind, Work};

impl App {
    /// After a crash: says what was brought back, and asks where the file is another one by now. Says, from now
    /// on, where what is typed would not survive the next.
    pub(super) fn take_in_recovery(&mut self) {
        let post = Arc::clone(&self.post);
        if let Some(journal) = &self.buffer.journal {
            journal.on_trouble(move || post(Message::JournalChanged));
        }
        if let Some(notice) = self.buffer.notice.take() {
            self.tell(notice);
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
        let theirs = self.buffer.read().ok().flatten();
        let about = match theirs {
            Some((theirs, form)) => {
                let ours = self.buffer.document.rope().to_string();
                let mut lines = vec!["On disk (-) and here (+):".to_owned()];
                if form != self.buffer.form() {
                    lines.push(format!("- {form}"));
                    lines.push(format!("+ {}", self.buffer.form()));
                }
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

    /// Asks for the encoding that the file is to be read or written in.
    pub fn ask_for_encoding(&mut self) {
        if self.leaves_to_editor() {
            return;
        }
        let form = self.buffer.form();
        let title = format!("encoding of {}, which is in {form}: utf-8, utf-16le, windows-1252, …", self.buffer.name());
        self.overlay = Some(Overlay::Prompt(Prompt::with(title, Asked::Encoding, form.encoding())));
    }

    pub(super) fn take_encoding(&mut self, name: &str) {
        let Some(form) = TextForm::named(name) else {
            return self.tell_wrong(format!(
                "\"{}\" is not an encoding that is known here; utf-8, utf-16le, windows-1252 and others are",
                clean::clean(name)
            ));
        };
        let read = ('r', "read the file again, in this encoding", Answered::ReadAs(form));
        let save = ('s', "save the text in this encoding", Answered::SaveAs(form));
        let name = self.buffer.name();
        let (text, answers) = match self.buffer.document.is_unsaved() || !self.buffer.path.exists() {
            true => (format!("Save {name} as {form}? (Read as that it can be once it is saved.)"), vec![save]),
            false => (format!("Read {name} again as {form}, or save it as {form}?"), vec![read, save]),
        };
        self.overlay = Some(Overlay::Question(Question::new(text, &answers)));
    }

    pub(super) fn read_as(&mut self, form: TextForm) {
        match self.buffer.read_as(form) {
            true => self.tell(format!("read as {}", self.buffer.form())),
            false => self.tell_wrong(format!("{} is not text in {form}; it stays as it was read", self.buffer.name())),
        }
    }

    pub(super) fn save_as(&mut self, form: TextForm) {
        let before = self.buffer.form();
        if let Some(missing) = self.buffer.cannot_keep_as(form) {
            return self.tell_wrong(format!("{missing}; it stays in {before}"));
        }
        self.buffer.keep_as(form);
        if !self.save_anyway() {
            self.buffer.keep_as(before);
        }
    }

    pub(super) fn save_anyway(&mut self) -> bool {
        if let Some(missing) = self.buffer.cannot_keep_as(self.buffer.form()) {
            let text = format!("{} cannot be saved as it is: {missing}.", self.buffer.name());
            let answers = &[('u', "save it as UTF-8 from now on", Answered::SaveAs(TextForm::default()))];
            self.overlay = Some(Overlay::Question(Question::new(text, answers)));
            return false;
        }
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
