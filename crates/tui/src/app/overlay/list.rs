//! A list to choose from by typing, and what choosing means.

use std::path::PathBuf;

use jaunty_core::chart::Spec;
use jaunty_core::export::Format;
use jaunty_core::slip::Slip;
use jaunty_language::edit::document::Motion;
use jaunty_seam::engine::{Switch, SwitchKind};
use jaunty_seam::profile::Profile;
use nucleo_matcher::pattern::{AtomKind, CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher, Utf32Str};

use super::{After, Layer, Overlay};
use crate::action::{ACTIONS, Action, Scope, synonyms};
use crate::app::App;
use crate::line::Line;

/// A list to choose from.
#[derive(Debug)]
pub struct List {
    /// What it lists.
    pub title: &'static str,
    /// What was typed.
    pub query: Line,
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
    /// Open this file in a text editor, at this line.
    Outside(PathBuf, usize),
    /// Write a new profile.
    NewConnection,
    /// Write a new profile for the engine with this name.
    NewWith(&'static str),
    /// Compare the structure in hand with that of this profile; within it, one schema with the other.
    CompareWith(Box<Profile>, Option<(String, String)>),
    /// Go there.
    Switch(Switch),
    /// What is to be switched.
    SwitchKind(SwitchKind),
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
    /// Draw this of the result.
    Chart(Box<Spec>),
    /// Put rows into the buffer in this format.
    PutAs(Format),
    /// Show this slip.
    Slip(Box<Slip>),
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
    pub(in crate::app) fn new(title: &'static str, items: Vec<Item>) -> List {
        let found = (0..items.len()).collect();
        List { title, query: Line::default(), items, found, chosen: 0 }
    }

    /// Finds what matches what was typed.
    pub(in crate::app) fn search(&mut self) {
        let query = self.query.text();
        // Parts of the label in any place; words of the line about it only as they are.
        let pattern = Pattern::parse(query, CaseMatching::Ignore, Normalization::Smart);
        let words = Pattern::new(query, CaseMatching::Ignore, Normalization::Smart, AtomKind::Substring);
        let mut matcher = Matcher::new(Config::DEFAULT);
        let mut space = Vec::new();
        let mut scored: Vec<(u32, usize)> = Vec::new();
        for (index, item) in self.items.iter().enumerate() {
            // Letters that are scattered over a label are no better than a word of the line about it.
            let whole = words.score(Utf32Str::new(&item.label, &mut space), &mut matcher).map(|score| score * 2);
            let label = pattern.score(Utf32Str::new(&item.label, &mut space), &mut matcher).max(whole);
            // What was written out is meant.
            let label = label.map(|score| score + u32::from(item.label.eq_ignore_ascii_case(query)));
            // An action is found by other words for it, too.
            let also = if let Pick::Action(action) = &item.pick { synonyms(action.name) } else { "" };
            let about = format!("{} {} {also}", item.label, item.help);
            let about = words.score(Utf32Str::new(&about, &mut space), &mut matcher).map(|score| score + 1);
            if let Some(score) = label.max(about) {
                scored.push((score, index));
            }
        }
        scored.sort_by(|a, b| b.0.cmp(&a.0).then(a.1.cmp(&b.1)));
        self.found = scored.into_iter().map(|(_, index)| index).collect();
        self.chosen = 0;
    }

    /// Takes other items; what was typed and what is chosen stay.
    pub(in crate::app) fn renew(&mut self, items: Vec<Item>) {
        let chosen = self.chosen;
        self.items = items;
        self.search();
        if self.query.is_empty() {
            self.found = (0..self.items.len()).collect();
        }
        self.chosen = chosen.min(self.found.len().saturating_sub(1));
    }

    pub(in crate::app) fn picked(&self) -> Option<&Pick> {
        self.found.get(self.chosen).and_then(|index| self.items.get(*index)).map(|item| &item.pick)
    }
}

impl Layer for List {
    fn scope(&self) -> Option<Scope> {
        matches!(self.picked(), Some(Pick::Connection(_))).then_some(Scope::ConnectionList)
    }

    fn takes_text(&self) -> bool {
        true
    }

    fn line(&mut self) -> Option<&mut Line> {
        Some(&mut self.query)
    }

    fn line_changed(&mut self) {
        self.search();
    }

    fn move_by(&mut self, by: isize) {
        self.chosen = self.chosen.saturating_add_signed(by).min(self.found.len().saturating_sub(1));
    }

    fn accept(&mut self, app: &mut App) -> After {
        // Where nothing fits what was typed, that is not the end of it.
        let Some(pick) = self.picked().cloned() else { return After::Stay };
        match pick {
            Pick::Action(action) => app.act(action),
            Pick::Connection(profile) => app.connect_as_chosen(*profile),
            Pick::CompareWith(profile, schemas) => app.compare_structure_with(*profile, schemas),
            Pick::Outside(file, line) => app.edit_file_outside(&file, line),
            Pick::NewConnection => app.ask_for_url(),
            Pick::NewWith(engine) => app.new_profile(engine),
            Pick::Switch(to) => app.switch(to),
            Pick::SwitchKind(kind) => app.ask_for_choices(kind),
            Pick::Buffer(path) => app.take_up_buffer(&path),
            Pick::Road(statement) => app.go_along(&statement),
            Pick::PlaceIn(path, at) => app.take_up_buffer_at(&path, Some(at)),
            Pick::Place(at) => app.go(Motion::To(at), false),
            Pick::Column(column) => app.go_to_column(column),
            Pick::CopyAs(format) => app.copy_as(format, true),
            Pick::PutAs(format) => app.put_as(format),
            Pick::Slip(slip) => app.show_slip(&slip),
            Pick::Chart(spec) => app.open_chart_of(*spec),
            Pick::Text { written, alone } => app.put_text(&written, alone),
            Pick::Object { schema, name } => app.look_at_object(&schema, &name),
        }
        After::Close
    }
}

impl App {
    /// Lists all actions but those of typing and of what lies over the screen.
    pub fn list_actions(&mut self) {
        let listed = ACTIONS.iter().filter(|action| action.group != "Typing" && !action.scope.is_overlaid());
        let items = listed.map(|action| Item {
            label: action.title.to_owned(),
            key: self.keymap.first(action),
            help: action.help.to_owned(),
            pick: Pick::Action(action),
        });
        self.overlay = Some(Overlay::List(List::new("actions", items.collect())));
    }

    /// The list with this title, if it is open.
    pub(in crate::app) fn list_of(&mut self, title: &str) -> Option<&mut List> {
        self.overlaid::<List>().filter(|list| list.title == title)
    }
}
