//! What lies over the screen until it is answered: a list to choose from, a question, a prompt, the help.

use jaunty_core::complete::about::About;
use jaunty_language::edit::document::Motion;
use jaunty_seam::engine::Switch;
use ratatui::layout::Position;

use super::list::{Item, List, Pick};
use super::prompt::{Answered, Asked, Prompt, Question};
use super::{App, CatalogBrowser, FactsView, Form, LogbookView, RowDetail};
use crate::action::{ACTIONS, Scope};
use crate::keys::Key;
use crate::line::{Edit, Line};

/// What lies over the screen.
#[derive(Debug)]
pub enum Overlay {
    /// A list to choose from by typing.
    List(List),
    /// All keys; the first line that is shown.
    Help(usize),
    /// A line to fill in.
    Prompt(Prompt),
    /// A question to answer with one key.
    Question(Question),
    /// A profile that is being written.
    Form(Box<Form>),
    /// A walk through what the database holds.
    CatalogBrowser(Box<CatalogBrowser>),
    /// What is known of something; the first line that is shown.
    About(About, usize),
    /// A row, or a value of it.
    RowDetail(Box<RowDetail>),
    /// The logbook.
    LogbookView(Box<LogbookView>),
    /// What a column holds.
    ColumnStats(FactsView),
}

impl Overlay {
    /// Whether it is the list with this title.
    pub(super) fn is_list_of(&self, title: &str) -> bool {
        matches!(self, Overlay::List(list) if list.title == title)
    }

    /// Where a person writes in it.
    fn line(&mut self) -> Option<&mut Line> {
        match self {
            Overlay::List(list) => Some(&mut list.query),
            Overlay::Prompt(prompt) => Some(&mut prompt.line),
            Overlay::Form(form) => form.line(),
            Overlay::LogbookView(past) => Some(&mut past.query),
            Overlay::RowDetail(whole) => whole.line(),
            Overlay::Help(_)
            | Overlay::Question(_)
            | Overlay::CatalogBrowser(_)
            | Overlay::About(..)
            | Overlay::ColumnStats(_) => None,
        }
    }

    /// Does what follows when its line is another.
    fn line_changed(&mut self) {
        match self {
            Overlay::List(list) => list.search(),
            Overlay::LogbookView(past) => past.search_anew(),
            Overlay::RowDetail(whole) => whole.search_anew(),
            _ => {}
        }
    }

    /// Writes into it.
    pub(super) fn type_text(&mut self, text: &str) {
        match self {
            Overlay::Form(form) => form.type_text(text),
            Overlay::CatalogBrowser(walk) => walk.type_text(text),
            _ => {
                if let Some(line) = self.line() {
                    line.insert(text);
                    self.line_changed();
                }
            }
        }
    }

    /// A key that means nothing else: it edits the line, if there is one. False if it is none of those.
    fn edit(&mut self, key: Key) -> bool {
        let edit = self.line().map_or(Edit::Not, |line| line.key(key));
        if edit == Edit::Changed {
            self.line_changed();
        }
        edit != Edit::Not
    }

    pub(super) fn move_by(&mut self, by: isize) {
        match self {
            Overlay::List(list) => list.choose_by(by),
            Overlay::Help(top) => *top = top.saturating_add_signed(by).min(ACTIONS.len()),
            Overlay::Form(form) => form.move_by(by),
            Overlay::LogbookView(past) => past.move_by(by),
            Overlay::About(about, top) => {
                *top = top.saturating_add_signed(by).min(about.lines.len().saturating_sub(1));
            }
            Overlay::Prompt(_)
            | Overlay::Question(_)
            | Overlay::CatalogBrowser(_)
            | Overlay::RowDetail(_)
            | Overlay::ColumnStats(_) => {}
        }
    }
}

impl App {
    /// Lists all actions.
    pub fn list_actions(&mut self) {
        let items = ACTIONS.iter().filter(|action| action.group != "Typing").map(|action| Item {
            label: action.title.to_owned(),
            key: self.keymap.first(action),
            help: action.help.to_owned(),
            pick: Pick::Action(action),
        });
        self.overlay = Some(Overlay::List(List::new("actions", items.collect())));
    }

    /// Shows all keys.
    pub fn show_help(&mut self) {
        self.overlay = Some(Overlay::Help(0));
    }

    pub(super) fn key_to_overlay(&mut self, key: Key) {
        let name = key.to_string();
        let Some(overlay) = &mut self.overlay else { return };
        if let Overlay::Question(question) = overlay {
            let answer = question.answers.iter().find(|(c, ..)| key.typed() == Some(*c)).map(|(.., answer)| *answer);
            match (answer, name.as_str()) {
                (Some(answer), _) => self.answer(answer),
                (None, "esc") => self.overlay = None,
                _ => {}
            }
            return;
        }
        if matches!(overlay, Overlay::Form(_)) && self.key_to_form(&name) {
            return;
        }
        let about = matches!(self.overlay, Some(Overlay::About(..)));
        if name == "f9" && about {
            self.overlay = None;
            return self.reveal();
        }
        if self.key_to_walk(&name, key) || self.key_to_whole(&name) || self.key_to_past(&name) {
            return;
        }
        let Some(overlay) = &mut self.overlay else { return };
        if let Overlay::List(list) = overlay
            && let Some(Pick::Connection(profile)) = list.picked()
            && self.key_to_profile(&name, &profile)
        {
            return;
        }
        let Some(overlay) = &mut self.overlay else { return };
        match name.as_str() {
            // The key that overlay it sends it away again.
            "esc" | "f2" | "ctrl-l" | "ctrl-q" | "ctrl-k" => {
                if matches!(overlay, Overlay::Prompt(prompt) if prompt.asked == Asked::Answer) {
                    self.answer_while_connecting(None);
                }
                self.overlay = None;
            }
            "enter" => self.accept(),
            "up" | "ctrl-p" => overlay.move_by(-1),
            "down" | "ctrl-n" => overlay.move_by(1),
            // In a line that is filled in it clears, as it does in a shell.
            "ctrl-u" if matches!(overlay, Overlay::Prompt(_)) => drop(overlay.edit(key)),
            "pageup" | "ctrl-u" => overlay.move_by(-10),
            "pagedown" | "ctrl-d" => overlay.move_by(10),
            _ => {
                if !overlay.edit(key)
                    && let Some(c) = key.typed()
                {
                    overlay.type_text(c.encode_utf8(&mut [0; 4]));
                }
            }
        }
    }

    /// Takes what is chosen or filled in.
    fn accept(&mut self) {
        match self.overlay.take() {
            Some(Overlay::List(list)) => match list.picked() {
                Some(Pick::Action(action)) => (action.act)(self),
                Some(Pick::Connection(profile)) => self.connect(*profile),
                Some(Pick::Outside(file, line)) => self.edit_file_outside(&file, line),
                Some(Pick::NewConnection) => self.ask_for_url(),
                Some(Pick::NewWith(engine)) => self.new_profile(engine),
                Some(Pick::Switch(to)) => self.switch(to),
                Some(Pick::SwitchKind(kind)) => self.ask_for_choices(kind),
                Some(Pick::Buffer(path)) => self.take_up_buffer(&path),
                Some(Pick::Road(statement)) => self.go_along(&statement),
                Some(Pick::PlaceIn(path, at)) => self.take_up_buffer_at(&path, Some(at)),
                Some(Pick::Place(at)) => self.go(Motion::To(at), false),
                Some(Pick::Column(column)) => self.go_to_column(column),
                Some(Pick::CopyAs(format)) => self.copy_as(format, true),
                Some(Pick::PutAs(format)) => self.put_as(format),
                Some(Pick::Text { written, alone }) => self.put_text(&written, alone),
                Some(Pick::Object { schema, name }) => self.look_at_object(&schema, &name),
                // Nothing fits what was typed: that is not the end of it.
                None => self.overlay = Some(Overlay::List(list)),
            },
            Some(Overlay::Prompt(prompt)) => {
                let again = prompt.again();
                self.told = None;
                self.fill_in(prompt);
                // A mistake keeps what was typed, to be put right.
                if self.overlay.is_none() && self.told.as_ref().is_some_and(|told| told.wrong) {
                    self.overlay = again.map(Overlay::Prompt);
                }
            }
            Some(form @ (Overlay::Form(_) | Overlay::CatalogBrowser(_))) => self.overlay = Some(form),
            Some(
                Overlay::Help(_)
                | Overlay::Question(_)
                | Overlay::About(..)
                | Overlay::RowDetail(_)
                | Overlay::LogbookView(_)
                | Overlay::ColumnStats(_),
            )
            | None => {}
        }
    }

    fn fill_in(&mut self, mut prompt: Prompt) {
        let text = prompt.line.text();
        match prompt.asked {
            Asked::Row => self.go_to_row_number(text.trim()),
            Asked::Line => self.go_to_line_number(text.trim()),
            Asked::Value => self.give_value(text),
            Asked::Condition => self.narrow(text),
            Asked::RowSearch => self.search_rows(text),
            Asked::Export => self.export(text, false),
            Asked::Secret => self.give_secret(prompt.line.take()),
            Asked::Answer => self.answer_while_connecting(Some(prompt.line.take())),
            Asked::Url => self.begin_profile(text),
            Asked::Snippet => self.make_snippet(text),
            Asked::NewBuffer => self.new_buffer(text),
            Asked::Rename => self.rename_buffer(text),
            Asked::CopyBuffer => self.copy_buffer(text),
            Asked::SearchAll => self.search_all(text),
            Asked::Find => self.find(text),
            Asked::Replace => self.replace_all(text),
            Asked::Switch(kind) => self.switch(Switch { kind, to: text.trim().to_owned() }),
        }
    }

    fn go_to_line_number(&mut self, text: &str) {
        let rope = self.buffer.document.rope();
        match text.parse::<usize>() {
            Ok(line) if line > 0 => {
                let start = rope.line_to_byte((line - 1).min(rope.len_lines() - 1));
                self.go(Motion::To(start), false);
                self.panes.focus = Scope::Buffer;
            }
            _ => self.tell_wrong(format!("\"{text}\" is not a line number; lines start at 1")),
        }
    }

    fn answer(&mut self, answer: Answered) {
        let Some(Overlay::Question(question)) = self.overlay.take() else { return };
        match answer {
            Answered::Leave => self.leave(),
            Answered::SaveAndLeave => {
                if self.buffer.changed_outside() {
                    self.save();
                } else if self.save_anyway() && self.save_shelved() {
                    self.leave();
                }
            }
            Answered::DropAndLeave => {
                self.drop_text();
                self.leave();
            }
            Answered::Overwrite => {
                self.save_anyway();
            }
            Answered::SaveBeside => self.save_beside(),
            Answered::Run => {
                let mut jobs = question.jobs;
                if let Some(first) = jobs.first_mut() {
                    first.confirmed = true;
                }
                self.order(jobs);
            }
            Answered::Remove => {
                if let Some(profile) = question.profile {
                    self.remove_profile(&profile);
                }
            }
            Answered::RemoveBuffer => self.remove_buffer(),
            Answered::Reload => self.reload(),
            Answered::Forget => self.forget_runs(question.forget),
            Answered::Export => self.export(&question.export, true),
            Answered::Nothing => {}
        }
    }

    pub(super) fn click_overlay(&mut self, at: Position) {
        let drawer = crate::view::overlay::drawer(self, self.screen);
        match &mut self.overlay {
            Some(Overlay::List(list)) if drawer.contains(at) && at.y > drawer.y => {
                let first = crate::view::overlay::first_shown(list, drawer);
                let row = first + usize::from(at.y - drawer.y - 1);
                if row < list.found.len() {
                    list.chosen = row;
                    self.accept();
                }
            }
            _ if drawer.contains(at) => {}
            _ => self.overlay = None,
        }
    }
}
