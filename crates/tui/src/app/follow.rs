//! From a row along its keys, and back; and from a column to its table.

use std::sync::Arc;

use jaunty_core::reveal::follow::{self, Origin, Road, Value};
use jaunty_core::run::{Job, Run};
use jaunty_language::outline::StatementId;

use super::{App, Item, List, Overlay, Pick};
use crate::action::Scope;

impl App {
    /// Where the columns of the result on the screen come from.
    pub(super) fn origins(&self) -> Option<Vec<Origin>> {
        let catalog = self.connection.catalog.as_ref()?;
        let (run, page) = (self.rows.run()?, self.rows.page()?);
        // The catalog is that of the buffer's connection.
        if self.elsewhere(run).is_some() {
            return None;
        }
        let names: Vec<String> = page.columns.iter().map(|head| head.name.clone()).collect();
        Some(follow::origins(&run.statement, &names, catalog, self.buffer.document.outline().dialect()))
    }

    /// The table that the column in hand comes from.
    pub(super) fn table_of_column(&self) -> Option<jaunty_seam::catalog::Name> {
        let origins = self.origins()?;
        origins.into_iter().nth(self.rows.view().column_in_hand())?.map(|(table, _)| table)
    }

    /// Goes from the row in hand to the row that the column in hand points at, or to those that point
    /// at it.
    pub fn follow_row(&mut self) {
        if self.refuses_from_elsewhere() {
            return;
        }
        let roads = self.roads();
        match roads.as_slice() {
            [] => self.tell("no key to follow: this column is not part of a key or a reference"),
            [one] => {
                let statement = one.statement.clone();
                self.go_along(&statement);
            }
            _ => {
                let item = |road: Road| Item {
                    label: road.label,
                    key: String::new(),
                    help: road.statement.clone(),
                    pick: Pick::Road(road.statement),
                };
                let items = roads.into_iter().map(item).collect();
                self.overlay = Some(Overlay::List(List::new("references", items)));
            }
        }
    }

    fn roads(&self) -> Vec<Road> {
        let (Some(origins), Some(page), Some(catalog)) = (self.origins(), self.rows.page(), &self.connection.catalog)
        else {
            return Vec::new();
        };
        let view = self.rows.view();
        let place = view.row.checked_sub(page.from).and_then(|at| usize::try_from(at).ok());
        let Some(cells) = place.and_then(|at| page.rows.get(at)) else { return Vec::new() };
        // A value that is cut on the screen is not known as a whole.
        let value = |cell: &crate::pager::Shown| -> Value { (!cell.cut).then(|| (cell.kind, cell.text.clone())) };
        let row: Vec<Value> = cells.iter().map(value).collect();
        follow::roads((&origins, &row), view.column_in_hand(), catalog, self.buffer.document.outline().dialect())
    }

    /// Runs a statement that a person did not write, and shows its rows; the buffer stays as it is.
    pub(super) fn go_along(&mut self, statement: &str) {
        let jobs =
            vec![Job { statement: statement.to_owned(), buffer: Some(self.buffer.path.clone()), ..Job::default() }];
        if !self.connection.has_worker() {
            return self.list_connections();
        }
        self.trail.push(self.rows.held().cloned());
        self.aside = Some(StatementId::of(statement));
        self.order(jobs);
        self.panes.focus = Scope::Result;
    }

    /// Shows the result of a statement beside the buffer, if it is the one that was asked for.
    pub(super) fn show_aside(&mut self, run: &Arc<Run>) {
        if self.aside == Some(run.id) {
            self.aside = None;
            self.rows.hold(Some(Arc::clone(run)));
        }
    }

    /// Whether there are rows to go back to.
    pub fn followed(&self) -> bool {
        !self.trail.is_empty()
    }

    /// Goes back to the rows from which the last road began.
    pub fn follow_back(&mut self) {
        match self.trail.pop() {
            Some(before) => self.rows.hold(before),
            None => self.tell("nothing to go back to"),
        }
    }
}
