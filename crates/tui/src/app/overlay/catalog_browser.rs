//! A walk through what the database holds: columns side by side from the schema to the object to its
//! shape, with its first rows below.

use std::sync::Arc;

use jaunty_core::catalog::templates;
use jaunty_core::complete::about::only_table;
use jaunty_core::complete::rank::fit;
use jaunty_core::drawing::Chosen;
use jaunty_core::dump::Wanted;
use jaunty_core::reveal::shape::{Line, lines};
use jaunty_core::run::Order;
use jaunty_core::run::sample::Sample;
use jaunty_language::dialect::Dialect;
use jaunty_language::edit::document::Motion;
use jaunty_seam::catalog::{Catalog, Name, Object, ObjectKind};
use jaunty_seam::error::EngineError;

use super::{After, Item, Layer, List, Overlay, Pick};
use crate::action::Scope;
use crate::app::App;
use crate::line::{LineEdit, LinePlace};

/// What came of asking for an object's first rows.
pub type Preview = Result<Sample, EngineError>;

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
    /// The places of the objects that fit: of the chosen schema, or of others where none does.
    pub objects: Vec<usize>,
    /// The lines of the shape that fit.
    pub shape: Vec<Line>,
    /// The chosen one of each column.
    pub chosen: [usize; 3],
    /// The first rows of an object.
    pub sample: Option<(Name, Preview)>,
    /// The statement that makes an object.
    pub definition: Option<(Name, String)>,
    asked: Option<Name>,
    /// Objects that were looked at before, and after going back.
    before: Vec<Name>,
    after: Vec<Name>,
}

/// What is told while it is read again.
pub(in crate::app) const RELOADING: &str = "reloading the catalog";

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
            let of = |is: &dyn Fn(&str) -> bool| {
                let found = (0..objects.len()).filter(|at| objects.get(*at).is_some_and(|o| is(&o.schema)));
                let mut found: Vec<usize> = found.collect();
                found.sort_by_key(|at| objects.get(*at).map(|o| (rank_of(o.kind), &o.name)));
                fitting(found, |at| objects.get(*at).and_then(|o| fit(&self.typed[1], &o.name)))
            };
            self.objects = of(&|other| other == schema);
            // A name that this schema has not may be one of another.
            if self.objects.is_empty() && !self.typed[1].is_empty() {
                self.objects = of(&|other| other != schema);
            }
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

    /// Takes a catalog that was read again. What is in hand stays so, if it is still there.
    pub(in crate::app) fn renew(&mut self, catalog: Arc<Catalog>) {
        let schema = self.schemas.get(self.chosen[0]).cloned();
        let (object, line) = (self.object().map(Object::to_name), self.chosen[2]);
        self.catalog = catalog;
        // What was read of it may be another now.
        (self.sample, self.definition, self.asked) = (None, None, None);
        self.find(0);
        self.chosen[0] = self.schemas.iter().position(|known| Some(known) == schema.as_ref()).unwrap_or(0);
        self.find(1);
        let objects = self.catalog.objects();
        let same = |at: &usize| objects.get(*at).map(Object::to_name) == object;
        self.chosen[1] = self.objects.iter().position(same).unwrap_or(0);
        self.find(2);
        self.chosen[2] = line.min(self.shape.len().saturating_sub(1));
    }

    /// Goes to a schema, if it is there: the one where new objects go need not be the first of those where names are found.
    fn go_to_schema(&mut self, schema: &str) {
        if let Some(at) = self.schemas.iter().position(|known| known == schema) {
            self.chosen[0] = at;
            self.find(1);
        }
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

    /// Goes to the column to the right, or to the left.
    pub(crate) fn column_by(&mut self, by: isize) {
        self.column = self.column.saturating_add_signed(by).min(2);
    }

    fn step(&mut self, name: &Name) {
        let from = self.object().map(Object::to_name);
        if self.go_to(name) {
            self.before.extend(from);
            self.after.clear();
        }
    }

    /// Goes back to the object that was looked at before.
    pub(crate) fn back(&mut self) {
        let here = self.object().map(Object::to_name);
        if let Some(name) = self.before.pop() {
            self.go_to(&name);
            self.after.extend(here);
        }
    }

    /// Goes forward again after going back.
    pub(crate) fn forth(&mut self) {
        let here = self.object().map(Object::to_name);
        if let Some(name) = self.after.pop() {
            self.go_to(&name);
            self.before.extend(here);
        }
    }

    /// Lists what can be put into the buffer of the chosen object.
    fn templates(&self) -> Option<List> {
        let dialect = self.dialect;
        let object = self.object()?;
        let definition = self.definition.clone().filter(|(name, _)| *name == object.to_name());
        let mut items = Vec::new();
        for template in templates::of(dialect) {
            let made = match (template.title, &definition) {
                ("definition", Some((_, text))) => Some(jaunty_language::edit::snippet::escaped(text)),
                _ => (template.make)(object, &self.catalog, dialect),
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
        Some(List::new("statements to write", items))
    }

    /// Runs the statement for the rows of the chosen object.
    pub(crate) fn run_rows(&mut self, app: &mut App) -> After {
        let Some(object) = self.object().filter(|o| o.kind.has_rows() || o.kind == ObjectKind::Keys) else {
            return After::Stay;
        };
        app.look_at_object(&object.schema.clone(), &object.name.clone());
        After::Close
    }

    /// Draws the chosen schema, or the chosen table and its neighbours.
    pub(crate) fn draw(&mut self, app: &mut App) -> After {
        let schema = self.schemas.get(self.chosen[0]).cloned().unwrap_or_default();
        let which = match self.object().filter(|_| self.column > 0) {
            Some(object) => Chosen::Around(object.to_name(), 1),
            None => Chosen::Schema(schema),
        };
        app.open_drawing(Arc::clone(&self.catalog), which);
        After::Stay
    }

    /// Keeps a copy of the chosen table, or of the chosen schema where those are not databases.
    pub(crate) fn keep_copy(&mut self, app: &mut App) {
        let copying = self.dialect.changing.and_then(|changing| changing.copying);
        if self.column == 0 && copying.is_some_and(|copying| !copying.schemas_are_databases) {
            let schema = self.schemas.get(self.chosen[0]).filter(|schema| !schema.is_empty());
            let schemas = schema.cloned().into_iter().collect();
            return app.keep_copy(Wanted { schemas, ..Wanted::default() }, Vec::new());
        }
        let has_copies = |object: &&Object| matches!(object.kind, ObjectKind::Table | ObjectKind::Keys);
        match self.object().filter(has_copies).map(Object::to_name) {
            Some(name) => app.keep_copy(Wanted { names: vec![name], ..Wanted::default() }, Vec::new()),
            None => app.tell_wrong("only tables and keys can be copied"),
        }
    }

    /// Reads the catalog again.
    pub(crate) fn reload(&mut self, app: &mut App) {
        app.connection.ask_for_person(Order::Catalog);
        let stops = app.key_of("close-overlay").unwrap_or_default();
        app.tell(format!("{RELOADING}; {stops} stops"));
    }

    /// Asks for the first rows and the definition of the chosen object, if they are not there.
    fn ask_for_preview(&mut self, app: &mut App) {
        // What waits or runs comes first.
        if app.connection.is_busy() {
            return;
        }
        let Some(object) = self.object().cloned() else { return };
        let name = object.to_name();
        if self.asked.as_ref() == Some(&name) || self.sample.as_ref().is_some_and(|(of, _)| *of == name) {
            return;
        }
        let rows = templates::of(self.dialect)
            .iter()
            .find(|t| t.title == "rows")
            .and_then(|t| (t.make)(&object, &self.catalog, self.dialect))
            .map(|written| jaunty_language::edit::snippet::Snippet::plain(&written));
        if self.asked.replace(name).is_some() {
            // A person has moved on.
            app.connection.end_preview();
        }
        let kind = object.kind;
        app.connection.ask(Order::Definition(Box::new(object.clone())));
        if let Some(rows) = rows.filter(|_| kind.has_rows() || kind == ObjectKind::Keys) {
            app.connection.ask(Order::Sample(Box::new(object), rows));
        }
    }
}

impl Layer for CatalogBrowser {
    fn scope(&self) -> Option<Scope> {
        Some(Scope::CatalogBrowser)
    }

    fn takes_text(&self) -> bool {
        true
    }

    fn type_text(&mut self, text: &str) {
        if let Some(typed) = self.typed.get_mut(self.column) {
            typed.push_str(text);
        }
        if let Some(chosen) = self.chosen.get_mut(self.column) {
            *chosen = 0;
        }
        self.find(self.column);
    }

    fn edit(&mut self, edit: LineEdit) {
        if edit == LineEdit::Delete(LinePlace::Left) {
            if let Some(typed) = self.typed.get_mut(self.column) {
                typed.pop();
            }
            self.find(self.column);
        }
    }

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

    fn accept(&mut self, app: &mut App) -> After {
        let leads_to = self.shape.get(self.chosen[2]).and_then(|line| line.leads_to.clone());
        match (self.column, leads_to) {
            (0, _) => self.column = 1,
            (2, Some(name)) => self.step(&name),
            _ => app.overlay = self.templates().map(Overlay::List),
        }
        After::Stay
    }

    fn close(&mut self, app: &mut App) -> After {
        if app.connection.asks() {
            app.connection.stop();
            return After::Stay;
        }
        app.connection.end_preview();
        After::Close
    }

    fn after_key(&mut self, app: &mut App) {
        self.ask_for_preview(app);
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
                let mut walk = CatalogBrowser::begin(catalog, self.buffer.document.outline().dialect());
                if let Some(location) = &self.connection.location {
                    walk.go_to_schema(&location.schema);
                }
                self.overlay = Some(Overlay::CatalogBrowser(Box::new(walk)));
                self.preview_object();
            }
            None => self.list_objects(),
        }
    }

    /// Opens the catalog at the table that the cursor stands on.
    pub fn reveal(&mut self) {
        let Some(catalog) = self.connection.catalog.clone() else { return self.list_objects() };
        let in_result = self.panes.focus == Scope::Result;
        if in_result && self.refuses_from_elsewhere() {
            return;
        }
        let name = match self.panes.focus {
            Scope::Result => self.table_of_column(),
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
                self.preview_object();
            }
            _ => match self.about_at_cursor().and_then(|about| about.elsewhere) {
                Some(database) => self.tell(format!("this is in the database {database}: go there to see all of it")),
                None => self.tell("no table of the catalog here"),
            },
        }
    }

    /// Opens the catalog at an object.
    pub(in crate::app) fn reveal_object(&mut self, name: &Name) {
        let Some(catalog) = self.connection.catalog.clone() else { return };
        let mut walk = CatalogBrowser::begin(catalog, self.buffer.document.outline().dialect());
        if walk.go_to(name) {
            walk.column = 2;
            self.overlay = Some(Overlay::CatalogBrowser(Box::new(walk)));
            self.preview_object();
        }
    }

    /// Asks for what the catalog shows of the chosen object.
    pub(in crate::app) fn preview_object(&mut self) {
        self.on(CatalogBrowser::ask_for_preview);
    }

    pub(in crate::app) fn previewed(&mut self, name: Name, sample: Preview) {
        if let Some(walk) = self.overlaid::<CatalogBrowser>() {
            walk.asked = walk.asked.take().filter(|asked| *asked != name);
            walk.sample = Some((name, sample));
        }
        self.preview_object();
    }

    pub(in crate::app) fn defined(&mut self, object: &Object, definition: Result<Option<String>, EngineError>) {
        let dialect = self.buffer.document.outline().dialect();
        let Some(walk) = self.overlaid::<CatalogBrowser>() else { return };
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

    /// Puts a text with places into the buffer: at the cursor, or as a statement of its own at the end.
    pub(in crate::app) fn put_text(&mut self, written: &str, alone: bool) {
        let end = self.buffer.document.outline().dialect().terminator();
        if alone {
            self.begin_statement_at_end();
        }
        let cursor = self.buffer.document.cursor();
        let end = if alone { end } else { "" };
        self.put_snippet(cursor..cursor, &format!("{written}{end}"));
        self.panes.focus = Scope::Buffer;
    }

    /// Makes room for a statement at the end of the buffer and goes there.
    pub(in crate::app) fn begin_statement_at_end(&mut self) {
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
