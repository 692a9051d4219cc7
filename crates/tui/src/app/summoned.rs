//! What lies over the screen until it is answered: a list to choose from, a question, a prompt, the help.

use std::path::PathBuf;

use jaunty_core::complete::about::About;
use jaunty_core::connection::Profile;
use jaunty_core::engine::{Switch, SwitchKind};
use jaunty_core::export::Format;
use jaunty_core::logbook::Entry;
use jaunty_core::run::Job;
use jaunty_core::text::document::Motion;
use nucleo_matcher::pattern::{AtomKind, CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher, Utf32Str};
use ratatui::layout::Position;
use zeroize::Zeroize;

use super::{App, FactsView, Form, Past, Walk, Whole};
use crate::action::{ACTIONS, Action, Scope};
use crate::keys::Key;

/// What lies over the screen.
#[derive(Debug)]
pub enum Summoned {
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
    Walk(Box<Walk>),
    /// What is known of something; the first line that is shown.
    About(About, usize),
    /// A row, or a value of it.
    Whole(Box<Whole>),
    /// The logbook.
    Past(Box<Past>),
    /// What a column holds.
    Facts(FactsView),
}

/// A list to choose from.
#[derive(Debug)]
pub struct List {
    /// What it lists.
    pub title: &'static str,
    /// What was typed.
    pub query: String,
    /// All items.
    pub items: Vec<Item>,
    /// The items that match, best first, by index.
    pub found: Vec<usize>,
    /// The chosen one among those.
    pub chosen: usize,
}

/// One line of a list.
#[derive(Debug, Clone)]
pub struct Item {
    /// What is chosen.
    pub label: String,
    /// A key, a kind: something short.
    pub key: String,
    /// A line about it.
    pub help: String,
    /// What choosing it means.
    pub pick: Pick,
}

/// What choosing an item means.
#[derive(Debug, Clone)]
pub enum Pick {
    /// Do this.
    Action(&'static Action),
    /// Use this profile.
    Connection(Box<Profile>),
    /// Write a new profile.
    NewConnection,
    /// Write a new profile for the engine with this name.
    NewWith(&'static str),
    /// Go there.
    Switch(Switch),
    /// Take up this buffer.
    Buffer(PathBuf),
    /// Run this, on the way from row to row.
    Road(String),
    /// Go to this byte of another buffer.
    PlaceIn(PathBuf, usize),
    /// Go to this byte of the buffer.
    Place(usize),
    /// Go to this column of the result.
    Column(usize),
    /// Copy rows in this format.
    CopyAs(Format),
    /// Put rows into the buffer in this format.
    PutAs(Format),
    /// Put this into the buffer.
    Text {
        /// The text, with places.
        written: String,
        /// Whether it is a statement of its own.
        alone: bool,
    },
    /// Look at this table or view.
    Object {
        /// Its schema.
        schema: String,
        /// Its name.
        name: String,
    },
}

impl List {
    pub(super) fn new(title: &'static str, items: Vec<Item>) -> List {
        let found = (0..items.len()).collect();
        List { title, query: String::new(), items, found, chosen: 0 }
    }

    /// Finds what matches what was typed.
    fn search(&mut self) {
        // Parts of the label in any place; words of the line about it only as they are.
        let pattern = Pattern::parse(&self.query, CaseMatching::Ignore, Normalization::Smart);
        let words = Pattern::new(&self.query, CaseMatching::Ignore, Normalization::Smart, AtomKind::Substring);
        let mut matcher = Matcher::new(Config::DEFAULT);
        let mut space = Vec::new();
        let mut scored: Vec<(u32, usize)> = Vec::new();
        for (index, item) in self.items.iter().enumerate() {
            let label = pattern.score(Utf32Str::new(&item.label, &mut space), &mut matcher).map(|score| score * 2);
            // What was written out is meant.
            let label = label.map(|score| score + u32::from(item.label.eq_ignore_ascii_case(&self.query)));
            let about = format!("{} {}", item.label, item.help);
            let about = words.score(Utf32Str::new(&about, &mut space), &mut matcher);
            if let Some(score) = label.max(about) {
                scored.push((score, index));
            }
        }
        scored.sort_by(|a, b| b.0.cmp(&a.0).then(a.1.cmp(&b.1)));
        self.found = scored.into_iter().map(|(_, index)| index).collect();
        self.chosen = 0;
    }

    /// Takes other items; what was typed and what is chosen stay.
    pub(super) fn renew(&mut self, items: Vec<Item>) {
        let chosen = self.chosen;
        self.items = items;
        self.search();
        if self.query.is_empty() {
            self.found = (0..self.items.len()).collect();
        }
        self.chosen = chosen.min(self.found.len().saturating_sub(1));
    }

    /// Moves the choice.
    pub(super) fn choose_by(&mut self, by: isize) {
        self.chosen = self.chosen.saturating_add_signed(by).min(self.found.len().saturating_sub(1));
    }

    fn picked(&self) -> Option<Pick> {
        self.found.get(self.chosen).and_then(|index| self.items.get(*index)).map(|item| item.pick.clone())
    }
}

/// A line to fill in.
#[derive(Debug)]
pub struct Prompt {
    /// What is asked for.
    pub title: String,
    /// What was typed.
    pub text: String,
    /// Whether what is typed must not be seen.
    pub hidden: bool,
    asked: Asked,
}

impl Drop for Prompt {
    fn drop(&mut self) {
        if self.hidden {
            self.text.zeroize();
        }
    }
}

/// What a prompt asks for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Asked {
    Snippet,
    NewBuffer,
    Rename,
    CopyBuffer,
    SearchAll,
    /// What to find.
    Find,
    /// What to replace by what.
    Replace,
    Row,
    Line,
    /// The value of a parameter.
    Value,
    /// What the values of a column have to fulfil.
    Condition,
    /// What rows have to hold.
    RowSearch,
    /// Where rows are to be written.
    Export,
    Secret,
    Url,
    Switch(SwitchKind),
}

impl Prompt {
    pub(super) fn new(title: String, asked: Asked) -> Prompt {
        Prompt { title, text: String::new(), hidden: false, asked }
    }

    pub(super) fn hidden(title: String, asked: Asked) -> Prompt {
        Prompt { title, text: String::new(), hidden: true, asked }
    }
}

/// A question.
#[derive(Debug)]
pub struct Question {
    /// The question.
    pub text: String,
    /// Lines about it.
    pub about: Vec<String>,
    /// Its answers: a key, a line about it, and what it means.
    pub answers: Vec<(char, &'static str, Answered)>,
    /// What the question is about, where it is about statements.
    pub(super) jobs: Vec<Job>,
    /// What the question is about, where it is about a profile.
    pub(super) profile: Option<Profile>,
    /// What the question is about, where it is about a file to export to.
    pub(super) export: String,
    /// What the question is about, where it is about runs.
    pub(super) forget: Vec<Entry>,
}

/// What an answer means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Answered {
    /// Leave.
    Leave,
    /// Save and leave.
    SaveAndLeave,
    /// Leave and drop unsaved text.
    DropAndLeave,
    /// Save over what another program wrote.
    Overwrite,
    /// Save under another name.
    SaveBeside,
    /// Run the statements.
    Run,
    /// Take the profile out of its file.
    Remove,
    /// Move the buffer's file to the trash.
    RemoveBuffer,
    /// Take the text that another program wrote.
    Reload,
    /// Replace the file that rows are exported to.
    Export,
    /// Forget runs.
    Forget,
    /// Do nothing.
    Nothing,
}

impl Question {
    pub(super) fn new(text: String, answers: &[(char, &'static str, Answered)]) -> Question {
        Question {
            text,
            about: Vec::new(),
            answers: answers.to_vec(),
            jobs: Vec::new(),
            profile: None,
            export: String::new(),
            forget: Vec::new(),
        }
    }
}

impl Summoned {
    /// Types into it.
    pub(super) fn type_text(&mut self, text: &str) {
        match self {
            Summoned::List(list) => {
                list.query.push_str(text);
                list.search();
            }
            Summoned::Prompt(prompt) => prompt.text.push_str(text),
            Summoned::Form(form) => form.type_text(text),
            Summoned::Walk(walk) => walk.type_text(text),
            Summoned::Help(_)
            | Summoned::Question(_)
            | Summoned::About(..)
            | Summoned::Whole(_)
            | Summoned::Past(_)
            | Summoned::Facts(_) => {}
        }
    }

    fn rub_out(&mut self) {
        match self {
            Summoned::List(list) => {
                list.query.pop();
                list.search();
            }
            Summoned::Prompt(prompt) => {
                prompt.text.pop();
            }
            Summoned::Form(form) => form.rub_out(),
            Summoned::Help(_)
            | Summoned::Question(_)
            | Summoned::Walk(_)
            | Summoned::About(..)
            | Summoned::Whole(_)
            | Summoned::Past(_)
            | Summoned::Facts(_) => {}
        }
    }

    fn move_by(&mut self, by: isize) {
        match self {
            Summoned::List(list) => list.choose_by(by),
            Summoned::Help(top) => *top = top.saturating_add_signed(by).min(ACTIONS.len()),
            Summoned::Form(form) => form.move_by(by),
            Summoned::About(about, top) => {
                *top = top.saturating_add_signed(by).min(about.lines.len().saturating_sub(1));
            }
            Summoned::Prompt(_)
            | Summoned::Question(_)
            | Summoned::Walk(_)
            | Summoned::Whole(_)
            | Summoned::Past(_)
            | Summoned::Facts(_) => {}
        }
    }
}

impl App {
    /// Lists all actions.
    pub fn list_actions(&mut self) {
        let items = ACTIONS.iter().filter(|action| action.group != "Writing").map(|action| Item {
            label: action.title.to_owned(),
            key: self.keymap.first(action),
            help: action.help.to_owned(),
            pick: Pick::Action(action),
        });
        self.summoned = Some(Summoned::List(List::new("actions", items.collect())));
    }

    /// Shows all keys.
    pub fn show_help(&mut self) {
        self.summoned = Some(Summoned::Help(0));
    }

    pub(super) fn key_to_summoned(&mut self, key: Key) {
        let name = key.to_string();
        let Some(summoned) = &mut self.summoned else { return };
        if let Summoned::Question(question) = summoned {
            let answer = question.answers.iter().find(|(c, ..)| key.typed() == Some(*c)).map(|(.., answer)| *answer);
            match (answer, name.as_str()) {
                (Some(answer), _) => self.answer(answer),
                (None, "esc") => self.summoned = None,
                _ => {}
            }
            return;
        }
        if matches!(summoned, Summoned::Form(_)) && self.key_to_form(&name) {
            return;
        }
        let about = matches!(self.summoned, Some(Summoned::About(..)));
        if name == "f9" && about {
            self.summoned = None;
            return self.reveal();
        }
        if self.key_to_walk(&name, key) || self.key_to_whole(&name, key) || self.key_to_past(&name, key) {
            return;
        }
        let Some(summoned) = &mut self.summoned else { return };
        if let Summoned::List(list) = summoned
            && let Some(Pick::Connection(profile)) = list.picked()
            && self.key_to_profile(&name, &profile)
        {
            return;
        }
        let Some(summoned) = &mut self.summoned else { return };
        match name.as_str() {
            // The key that summoned it sends it away again.
            "esc" | "f2" | "ctrl-l" | "ctrl-q" | "ctrl-k" => self.summoned = None,
            "enter" => self.accept(),
            "up" | "ctrl-p" => summoned.move_by(-1),
            "down" | "ctrl-n" => summoned.move_by(1),
            "pageup" | "ctrl-u" => summoned.move_by(-10),
            "pagedown" | "ctrl-d" => summoned.move_by(10),
            "backspace" | "ctrl-h" => summoned.rub_out(),
            _ => {
                if let Some(c) = key.typed() {
                    summoned.type_text(c.encode_utf8(&mut [0; 4]));
                }
            }
        }
    }

    /// Takes what is chosen or filled in.
    fn accept(&mut self) {
        match self.summoned.take() {
            Some(Summoned::List(list)) => match list.picked() {
                Some(Pick::Action(action)) => (action.act)(self),
                Some(Pick::Connection(profile)) => self.connect(*profile),
                Some(Pick::NewConnection) => self.ask_for_url(),
                Some(Pick::NewWith(engine)) => self.new_profile(engine),
                Some(Pick::Switch(to)) => self.switch(to),
                Some(Pick::Buffer(path)) => self.take_up_buffer(&path),
                Some(Pick::Road(statement)) => self.go_along(&statement),
                Some(Pick::PlaceIn(path, at)) => {
                    self.take_up_buffer(&path);
                    self.go(Motion::To(at), false);
                }
                Some(Pick::Place(at)) => self.go(Motion::To(at), false),
                Some(Pick::Column(column)) => self.go_to_column(column),
                Some(Pick::CopyAs(format)) => self.copy_as(format, true),
                Some(Pick::PutAs(format)) => self.put_as(format),
                Some(Pick::Text { written, alone }) => self.put_text(&written, alone),
                Some(Pick::Object { schema, name }) => self.look_at_object(&schema, &name),
                None => {}
            },
            Some(Summoned::Prompt(mut prompt)) => match prompt.asked {
                Asked::Row => self.go_to_row_number(prompt.text.trim()),
                Asked::Line => self.go_to_line_number(prompt.text.trim()),
                Asked::Value => self.give_value(&prompt.text),
                Asked::Condition => self.narrow(&prompt.text),
                Asked::RowSearch => self.search_rows(&prompt.text),
                Asked::Export => self.export(&prompt.text, false),
                Asked::Secret => self.give_secret(std::mem::take(&mut prompt.text)),
                Asked::Url => self.begin_profile(&prompt.text),
                Asked::Snippet => self.make_snippet(&prompt.text),
                Asked::NewBuffer => self.new_buffer(&prompt.text),
                Asked::Rename => self.rename_buffer(&prompt.text),
                Asked::CopyBuffer => self.copy_buffer(&prompt.text),
                Asked::SearchAll => self.search_all(&prompt.text),
                Asked::Find => self.find(&prompt.text),
                Asked::Replace => self.replace_all(&prompt.text),
                Asked::Switch(kind) => self.switch(Switch { kind, to: prompt.text.trim().to_owned() }),
            },
            Some(form @ (Summoned::Form(_) | Summoned::Walk(_))) => self.summoned = Some(form),
            Some(
                Summoned::Help(_)
                | Summoned::Question(_)
                | Summoned::About(..)
                | Summoned::Whole(_)
                | Summoned::Past(_)
                | Summoned::Facts(_),
            )
            | None => {}
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
            _ => self.tell_wrong(format!("\"{text}\" is no line number; lines are counted from 1")),
        }
    }

    fn answer(&mut self, answer: Answered) {
        let Some(Summoned::Question(question)) = self.summoned.take() else { return };
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

    pub(super) fn click_summoned(&mut self, at: Position) {
        let drawer = crate::view::summoned::drawer(self, self.screen);
        match &mut self.summoned {
            Some(Summoned::List(list)) if drawer.contains(at) && at.y > drawer.y => {
                let first = crate::view::summoned::first_shown(list, drawer);
                let row = first + usize::from(at.y - drawer.y - 1);
                if row < list.found.len() {
                    list.chosen = row;
                    self.accept();
                }
            }
            _ if drawer.contains(at) => {}
            _ => self.summoned = None,
        }
    }
}
