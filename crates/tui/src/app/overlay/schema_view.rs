//! The drawing of a schema: tables to walk through along their keys.

use std::sync::Arc;

use jaunty_core::drawing::layout::{Layout, layout};
use jaunty_core::drawing::paint::Cells;
use jaunty_core::drawing::{Chosen, Table, tables};
use jaunty_seam::catalog::Catalog;

use super::{After, Layer, Overlay};
use crate::action::Scope;
use crate::app::App;
use crate::app::drawings::Drawing;

/// A drawing of a schema.
#[derive(Debug)]
pub struct SchemaView {
    /// Which tables are drawn.
    pub which: Chosen,
    /// The tables.
    pub tables: Vec<Table>,
    /// Where they stand.
    pub layout: Layout,
    /// The drawing in cells.
    pub cells: Cells,
    /// The table in hand.
    pub chosen: usize,
    /// The cell of the drawing in the upper left corner of the screen.
    pub corner: (i32, i32),
    catalog: Arc<Catalog>,
    /// The table that was gone on from last, so that keys are gone through one after the other.
    followed: Option<(usize, usize)>,
}

impl SchemaView {
    fn new(catalog: Arc<Catalog>, which: Chosen) -> SchemaView {
        let tables = tables(&catalog, &which);
        let layout = layout(&tables);
        let cells = Cells::paint(&tables, &layout);
        let chosen = match &which {
            Chosen::Around(name, _) => tables.iter().position(|table| table.name == *name).unwrap_or(0),
            Chosen::Schema(_) => 0,
        };
        SchemaView { which, tables, layout, cells, chosen, corner: (0, 0), catalog, followed: None }
    }

    /// What stands above it.
    pub fn title(&self) -> String {
        match &self.which {
            Chosen::Schema(schema) if schema.is_empty() => "schema".to_owned(),
            Chosen::Schema(schema) => format!("schema {schema}"),
            Chosen::Around(name, 1) => format!("around {}", name.name),
            Chosen::Around(name, depth) => format!("around {}, up to {depth} keys away", name.name),
        }
    }

    /// Goes to the nearest table of the next column, or of the one before.
    pub(crate) fn column_by(&mut self, by: isize) {
        let Some(here) = self.layout.boxes.get(self.chosen).copied() else { return };
        let Some(column) = here.column.checked_add_signed(by) else { return };
        let middle = here.y + here.height / 2;
        let others = self.layout.boxes.iter().enumerate().filter(|(_, other)| other.column == column);
        if let Some((at, _)) = others.min_by_key(|(_, other)| (other.y + other.height / 2 - middle).abs()) {
            self.chosen = at;
        }
    }

    /// Goes along the next key of the table in hand, to what it references and then to what references it. From there
    /// it leads back.
    pub(crate) fn follow(&mut self) {
        let here = self.chosen;
        let away = self.layout.roads.iter().filter(|road| road.from == here && road.to != here).map(|road| road.to);
        let towards =
            self.layout.roads.iter().filter(|road| road.to == here && road.from != here).map(|road| road.from);
        let mut connected: Vec<usize> = away.chain(towards).collect();
        let mut seen = Vec::new();
        connected.retain(|at| {
            let is_new = !seen.contains(at);
            seen.push(*at);
            is_new
        });
        let Some(first) = connected.first().copied() else { return };
        // Back where one came from, and along the next one after that.
        let next = match self.followed {
            Some((from, to)) if from == here => {
                let at = connected.iter().position(|other| *other == to).map_or(0, |at| (at + 1) % connected.len());
                connected[at]
            }
            Some((from, to)) if to == here && connected.contains(&from) => {
                self.chosen = from;
                return;
            }
            _ => first,
        };
        self.followed = Some((here, next));
        self.chosen = next;
    }

    /// Draws tables that are further away, or fewer.
    pub(crate) fn deepen(&mut self, by: isize) {
        let Some(name) = self.tables.get(self.chosen).map(|table| table.name.clone()) else { return };
        let which = match (&self.which, by) {
            (Chosen::Around(name, depth), by) => Chosen::Around(name.clone(), depth.saturating_add_signed(by).min(20)),
            (Chosen::Schema(_), by) if by < 0 => Chosen::Around(name, 1),
            (Chosen::Schema(_), _) => return,
        };
        *self = SchemaView::new(Arc::clone(&self.catalog), which);
    }

    /// Shows the table in hand in the catalog.
    pub(crate) fn reveal(&mut self, app: &mut App) -> After {
        match self.tables.get(self.chosen) {
            Some(table) => {
                app.reveal_object(&table.name.clone());
                After::Close
            }
            None => After::Stay,
        }
    }

    /// Asks for a file to save it to.
    pub(crate) fn save(&mut self, app: &mut App) -> After {
        let name = match &self.which {
            Chosen::Schema(schema) if schema.is_empty() => "schema".to_owned(),
            Chosen::Schema(schema) => schema.clone(),
            Chosen::Around(name, _) => name.name.clone(),
        };
        app.ask_for_drawing(Drawing::Schema(Arc::clone(&self.catalog), self.which.clone()), &name);
        After::Close
    }

    /// Keeps the table in hand on a screen of so many cells.
    pub fn keep_in_sight(&mut self, (width, height): (i32, i32)) {
        let Some(placed) = self.layout.boxes.get(self.chosen) else { return };
        let within = |corner: i32, from: i32, size: i32, room: i32, whole: i32| {
            let corner = if size >= room { from } else { corner.clamp(from + size - room, from) };
            corner.clamp(0, (whole - room).max(0))
        };
        self.corner = (
            within(self.corner.0, placed.x - 2, placed.width + 4, width, self.layout.width),
            within(self.corner.1, placed.y - 1, placed.height + 2, height, self.layout.height),
        );
    }
}

impl Layer for SchemaView {
    fn scope(&self) -> Option<Scope> {
        Some(Scope::SchemaView)
    }

    /// To the next table of the column, or the one before.
    fn move_by(&mut self, by: isize) {
        let Some(here) = self.layout.boxes.get(self.chosen).copied() else { return };
        let mut column: Vec<usize> =
            (0..self.layout.boxes.len()).filter(|at| self.layout.boxes[*at].column == here.column).collect();
        column.sort_by_key(|at| self.layout.boxes[*at].y);
        let at = column.iter().position(|at| *at == self.chosen).unwrap_or(0);
        let next = at.saturating_add_signed(by).min(column.len().saturating_sub(1));
        self.chosen = column.get(next).copied().unwrap_or(self.chosen);
    }

    fn accept(&mut self, app: &mut App) -> After {
        self.reveal(app)
    }
}

impl App {
    /// Draws the table at the cursor with its neighbours, or else the schema that names are looked up in.
    pub fn draw_schema(&mut self) {
        let Some(catalog) = self.connection.catalog.clone() else {
            return self.tell("the catalog is not read yet");
        };
        let which = match self.about_at_cursor().and_then(|about| about.table) {
            Some(name) => Chosen::Around(name, 1),
            None => {
                let own = catalog.path.iter().find(|schema| catalog.objects().iter().any(|o| o.schema == **schema));
                let first = catalog.schemas().first().map(|schema| (*schema).to_owned());
                Chosen::Schema(own.cloned().or(first).unwrap_or_default())
            }
        };
        self.open_drawing(catalog, which);
    }

    pub(in crate::app) fn open_drawing(&mut self, catalog: Arc<Catalog>, which: Chosen) {
        let view = SchemaView::new(catalog, which);
        if view.tables.is_empty() {
            return self.tell("no tables here");
        }
        self.overlay = Some(Overlay::Schema(Box::new(view)));
    }

    /// Keeps the table in hand in sight.
    pub(in crate::app) fn follow_drawing(&mut self) {
        let drawer = crate::view::overlay::drawer(self, self.screen);
        let room = (i32::from(drawer.width), i32::from(drawer.height.saturating_sub(crate::view::schema_view::HEAD)));
        self.on(|view: &mut SchemaView, _| view.keep_in_sight(room));
    }
}
