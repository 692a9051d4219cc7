//! A walk through what the database holds: columns side by side from the schema to the object to its
//! shape, with its first rows below.

use std::sync::Arc;

use jaunty_core::catalog::templates;
use jaunty_core::complete::about::only_table;
use jaunty_core::complete::rank::fit;
use jaunty_core::reveal::shape::{Line, lines};
use jaunty_core::run::Order;
use jaunty_core::run::sample::Sample;
use jaunty_language::dialect::Dialect;
use jaunty_language::edit::document::Motion;
use jaunty_seam::catalog::{Catalog, Name, Object, ObjectKind};
use jaunty_seam::error::EngineError;

use super::list::Item;
use super::{App, List, Overlay, Pick};
use crate::keys::Key;

/// What came of asking for an object's first rows.
pub type Tasted = Result<Sample, EngineError>;

/// The walk.
#[derive(Debug)]
pub struct CatalogBrowser {
    /// What is walked through.
    pub catalog: Arc<Catalog>,
    /// How its names are written.
    dialect: &'static Dialect,
    /// The column in hand: 0 schemas, 1 objects, 2 the shape of the chosen object.
    pub column: usize,
    /// What was typed in each column.
    pub typed: [String; 3],
    /// The schemas that fit; the first, empty, stands for all of the search path.
    pub schemas: Vec<String>,
    /// The places of the objects that fit.
    pub objects: Vec<usize>,
    /// The lines of the shape that fit.
    pub shape: Vec<Line>,
    /// The chosen one of each column.
    pub chosen: [usize; 3],
    /// The first rows of an object.
    pub sample: Option<(Name, Tasted)>,
    /// The statement that makes an object.
    pub definition: Option<(Name, String)>,
    asked: Option<Name>,
    /// Objects that were looked at before, and after going back.
    before: Vec<Name>,
    after: Vec<Name>,
}

impl CatalogBrowser {
    fn begin(catalog: Arc<Catalog>, dialect: &'static Dialect) -> CatalogBrowser {
        let mut walk = CatalogBrowser {
            catalog,
            dialect,
            column: 1,
            typed: Default::default(),
            schemas: Vec::new(),
            objects: Vec::new(),
            shape: Vec::new(),
            chosen: [0; 3],
            sample: None,
            definition: None,
            asked: None,
            before: Vec::new(),
            after: Vec::new(),
        };
        walk.find(0);
        walk
    }

    /// The chosen object.
    pub fn object(&self) -> Option<&Object> {
        self.objects.get(self.chosen[1]).and_then(|at| self.catalog.objects().get(*at))
    }

    /// Finds again what fits in a column and those behind it.
    fn find(&mut self, from: usize) {
        if from == 0 {
            let all = self.catalog.schemas();
            let all = if all.is_empty() { vec![""] } else { all };
            self.schemas = fitting(all, |schema| fit(&self.typed[0], schema)).into_iter().map(str::to_owned).collect();
            self.chosen[0] = self.chosen[0].min(self.schemas.len().saturating_sub(1));
        }
        if from <= 1 {
            let schema = self.schemas.get(self.chosen[0]).map_or("", String::as_str);
            let objects = self.catalog.objects();
            let here = (0..objects.len()).filter(|at| objects.get(*at).is_some_and(|o| o.schema == schema));
            let mut here: Vec<usize> = here.collect();
            here.sort_by_key(|at| objects.get(*at).map(|o| (rank_of(o.kind), &o.name)));
            let fits = |at: &usize| objects.get(*at).and_then(|o| fit(&self.typed[1], &o.name));
            self.objects = fitting(here, fits);
            self.chosen[1] = if from < 1 { 0 } else { self.chosen[1].min(self.objects.len().saturating_sub(1)) };
        }
        let all = self.object().map(|object| lines(object, &self.catalog, self.dialect)).unwrap_or_default();
        let definition =
            self.definition.as_ref().filter(|(name, _)| self.object().is_some_and(|o| o.to_name() == *name));
        let made = definition.map(|(_, text)| text.lines().map(str::to_owned).collect::<Vec<_>>()).unwrap_or_default();
        let made = made.into_iter().map(|text| Line { section: "definition", text, leads_to: None });
        let all: Vec<Line> = all.into_iter().chain(made).collect();
        let typed = self.typed[2].to_lowercase();
        self.shape = all.into_iter().filter(|line| line.text.to_lowercase().contains(&typed)).collect();
        self.chosen[2] = if from < 2 { 0 } else { self.chosen[2].min(self.shape.len().saturating_sub(1)) };
    }

    /// Moves the choice in the column in hand.
    fn move_by(&mut self, by: isize) {
        let count = [self.schemas.len(), self.objects.len(), self.shape.len()];
        let (Some(chosen), Some(count)) = (self.chosen.get_mut(self.column), count.get(self.column)) else { return };
        *chosen = chosen.saturating_add_signed(by).min(count.saturating_sub(1));
        if self.column < 2 {
            if let Some(typed) = self.typed.get_mut(2) {
                typed.clear();
            }
            if self.column == 0 {
                self.typed[1].clear();
            }
            self.find(self.column + 1);
            if self.column == 0 {
                self.chosen[1] = 0;
                self.find(2);
            }
        }
    }

    pub(super) fn type_text(&mut self, text: &str) {
        if let Some(typed) = self.typed.get_mut(self.column) {
            typed.push_str(text);
        }
        if let Some(chosen) = self.chosen.get_mut(self.column) {
            *chosen = 0;
        }
        self.find(self.column);
    }

    fn rub_out(&mut self) {
        if let Some(typed) = self.typed.get_mut(self.column) {
            typed.pop();
        }
        self.find(self.column);
    }

    /// Goes to an object, wherever it is.
    fn go_to(&mut self, name: &Name) -> bool {
        let objects = self.catalog.objects();
        let there = objects.iter().position(|o| o.to_name() == *name);
        let Some(there) = there else { return false };
        self.typed = Default::default();
        self.find(0);
        self.chosen[0] = self.schemas.iter().position(|schema| *schema == name.schema).unwrap_or(0);
        self.find(1);
        self.chosen[1] = self.objects.iter().position(|at| *at == there).unwrap_or(0);
        self.find(2);
        true
    }

    fn step(&mut self, name: &Name) {
        let from = self.object().map(Object::to_name);
        if self.go_to(name) {
            self.before.extend(from);
            self.after.clear();
        }
    }

    fn back(&mut self) {
        let here = self.object().map(Object::to_name);
        if let Some(name) = self.before.pop() {
            self.go_to(&name);
            self.after.extend(here);
        }
    }

    fn forth(&mut self) {
        let here = self.object().map(Object::to_name);
        if let Some(name) = self.after.pop() {
            self.go_to(&name);
            self.before.extend(here);
        }
    }
}

/// Tables first, then what else has rows, then the rest.
fn rank_of(kind: ObjectKind) -> u8 {
    match kind {
        ObjectKind::Table | ObjectKind::Keys => 0,
        kind if kind.has_rows() => 1,
        _ => 2,
    }
}

/// Those that fit what was typed, the best first; all in their order where nothing was.
fn fitting<T>(all: Vec<T>, fits: impl Fn(&T) -> Option<i32>) -> Vec<T> {
    let mut found: Vec<(i32, T)> = all.into_iter().filter_map(|item| fits(&item).map(|fit| (fit, item))).collect();
    found.sort_by_key(|(fit, _)| -fit);
    found.into_iter().map(|(_, item)| item).collect()
}

impl App {
    /// Opens the catalog.
    pub fn walk_catalog(&mut self) {
        match self.connection.catalog.clone() {
            Some(catalog) => {
                self.overlay = Some(Overlay::CatalogBrowser(Box::new(CatalogBrowser::begin(
                    catalog,
                    self.buffer.document.outline().dialect(),
                ))));
                self.appearance();
            }
            None => self.list_objects(),
        }
    }

    /// Opens the catalog at the table that the cursor stands on.
    pub fn reveal(&mut self) {
        let Some(catalog) = self.connection.catalog.clone() else { return self.list_objects() };
        let in_result = self.panes.focus == crate::action::Scope::Result;
        if in_result && self.refuses_from_elsewhere() {
            return;
        }
        let name = match self.panes.focus {
            crate::action::Scope::Result => self.table_of_column(),
            _ => self.about_at_cursor().and_then(|about| about.table).or_else(|| {
                // Where the word says nothing, and the statement is about one table, that is meant.
                let document = &self.buffer.document;
                let text = document.statement()?.text(document.rope());
                only_table(&text, &catalog, document.outline().dialect())
            }),
        };
        let mut walk = CatalogBrowser::begin(catalog, self.buffer.document.outline().dialect());
        match name {
            Some(name) if walk.go_to(&name) => {
                walk.column = 2;
                self.overlay = Some(Overlay::CatalogBrowser(Box::new(walk)));
                self.appearance();
            }
            _ => self.tell("no table of the catalog here"),
        }
    }

    fn walk(&mut self) -> Option<&mut CatalogBrowser> {
        match &mut self.overlay {
            Some(Overlay::CatalogBrowser(walk)) => Some(walk),
            _ => None,
        }
    }

    /// Asks for the first rows and the definition of the chosen object, if they are not there.
    pub(super) fn appearance(&mut self) {
        let dialect = self.buffer.document.outline().dialect();
        // What waits or runs comes first.
        if self.connection.is_busy() {
            return;
        }
        let Some(walk) = self.walk() else { return };
        let Some(object) = walk.object() else { return };
        let name = object.to_name();
        if walk.asked.as_ref() == Some(&name) || walk.sample.as_ref().is_some_and(|(of, _)| *of == name) {
            return;
        }
        let rows = templates::TEMPLATES
            .iter()
            .find(|t| t.title == "rows")
            .and_then(|t| (t.make)(object, &walk.catalog, dialect));
        let object = object.clone();
        let before = walk.asked.replace(name.clone());
        if before.is_some() {
            // A person has moved on.
            self.connection.end_tasting();
        }
        let kind = object.kind;
        self.connection.ask(Order::Definition(Box::new(object.clone())));
        if let Some(rows) = rows.filter(|_| kind.has_rows() || kind == ObjectKind::Keys) {
            self.connection.ask(Order::Sample(Box::new(object), rows));
        }
    }

    pub(super) fn tasted(&mut self, name: Name, sample: Tasted) {
        if let Some(walk) = self.walk() {
            walk.asked = walk.asked.take().filter(|asked| *asked != name);
            walk.sample = Some((name, sample));
        }
        self.appearance();
    }

    pub(super) fn defined(&mut self, object: &Object, definition: Result<Option<String>, EngineError>) {
        let dialect = self.buffer.document.outline().dialect();
        let Some(walk) = self.walk() else { return };
        let own = definition.ok().flatten();
        let text = own.or_else(|| templates::definition(object, &walk.catalog, dialect));
        if let Some(text) = text {
            walk.definition = Some((object.to_name(), text));
            walk.find(2);
        }
        if !(object.kind.has_rows() || object.kind == ObjectKind::Keys) {
            walk.asked = None;
        }
    }

    /// Keys of the walk. True if the key was for it.
    pub(super) fn key_to_walk(&mut self, name: &str, key: Key) -> bool {
        if name == "esc" && self.connection.asks() && self.walk().is_some() {
            self.connection.stop();
            return true;
        }
        let Some(walk) = self.walk() else { return false };
        match name {
            "right" | "tab" => walk.column = (walk.column + 1).min(2),
            "left" | "backtab" => walk.column = walk.column.saturating_sub(1),
            "up" | "ctrl-p" => walk.move_by(-1),
            "down" | "ctrl-n" => walk.move_by(1),
            "pageup" | "ctrl-u" => walk.move_by(-10),
            "pagedown" | "ctrl-d" => walk.move_by(10),
            "home" => walk.move_by(isize::MIN),
            "end" => walk.move_by(isize::MAX),
            "backspace" | "ctrl-h" => walk.rub_out(),
            "alt-left" | "ctrl-b" => walk.back(),
            "alt-right" | "ctrl-f" => walk.forth(),
            "ctrl-g" => {
                let Some(object) = walk.object().filter(|o| o.kind.has_rows() || o.kind == ObjectKind::Keys) else {
                    return true;
                };
                let (schema, name) = (object.schema.clone(), object.name.clone());
                self.overlay = None;
                self.look_at_object(&schema, &name);
                return true;
            }
            "f5" => {
                self.connection.ask_for_person(Order::Catalog);
                self.tell("reloading the catalog; esc stops");
            }
            "enter" => {
                let leads_to = walk.shape.get(walk.chosen[2]).and_then(|line| line.leads_to.clone());
                match (walk.column, leads_to) {
                    (0, _) => walk.column = 1,
                    (2, Some(name)) => walk.step(&name),
                    _ => self.list_templates(),
                }
            }
            "esc" | "ctrl-o" | "ctrl-q" => {
                self.connection.end_tasting();
                self.overlay = None;
            }
            _ => match key.typed() {
                Some(c) => walk.type_text(c.encode_utf8(&mut [0; 4])),
                None => return true,
            },
        }
        self.appearance();
        true
    }

    /// Lists what can be put into the buffer of the chosen object.
    fn list_templates(&mut self) {
        let dialect = self.buffer.document.outline().dialect();
        let Some(walk) = self.walk() else { return };
        let Some(object) = walk.object() else { return };
        let definition = walk.definition.clone().filter(|(name, _)| *name == object.to_name());
        let mut items = Vec::new();
        for template in templates::TEMPLATES {
            let made = match (template.title, &definition) {
                ("definition", Some((_, text))) => Some(jaunty_language::edit::snippet::escaped(text)),
                _ => (template.make)(object, &walk.catalog, dialect),
            };
            let Some(written) = made else { continue };
            items.push(Item {
                label: template.title.to_owned(),
                key: String::new(),
                help: jaunty_language::edit::snippet::Snippet::plain(&written).replace('\n', " "),
                pick: Pick::Text { written, alone: !matches!(template.title, "name" | "columns") },
            });
        }
        let tables = ["new table", "new table, every clause"].into_iter().zip(dialect.new_table);
        for (label, written) in tables.filter(|(_, written)| !written.is_empty()) {
            items.push(Item {
                label: label.to_owned(),
                key: String::new(),
                help: jaunty_language::edit::snippet::Snippet::plain(written).replace('\n', " "),
                pick: Pick::Text { written: written.to_owned(), alone: true },
            });
        }
        self.overlay = Some(Overlay::List(List::new("statements to write", items)));
    }

    /// Puts a text with places into the buffer: at the cursor, or as a statement of its own at the end.
    pub(super) fn put_text(&mut self, written: &str, alone: bool) {
        let end = self.buffer.document.outline().dialect().terminator();
        if alone {
            self.begin_statement_at_end();
        }
        let cursor = self.buffer.document.cursor();
        let end = if alone { end } else { "" };
        self.put_snippet(cursor..cursor, &format!("{written}{end}"));
        self.panes.focus = crate::action::Scope::Buffer;
    }

    /// Makes room for a statement at the end of the buffer and goes there.
    pub(super) fn begin_statement_at_end(&mut self) {
        let document = &mut self.buffer.document;
        let outline = document.outline();
        let last = outline.statements().last().map(|s| (s.body_end, s.end == s.body_end));
        if let Some((end, true)) = last.filter(|_| !outline.dialect().ends_with_line) {
            // The one before was the last and needed none.
            document.go(Motion::To(end), false);
            document.insert(";");
        }
        document.go(Motion::Bottom, false);
        let text = document.rope().to_string();
        let gap = match text.trim_end() {
            "" => "",
            trimmed if trimmed.len() + 2 <= text.len() => "",
            trimmed if trimmed.len() < text.len() => "\n",
            _ => "\n\n",
        };
        document.insert(gap);
    }
}
