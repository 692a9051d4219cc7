//! The rows in another order, and only some of them: what a person wants, and how it comes about.

use std::path::Path;
use std::sync::Arc;

use arrow_schema::Schema;
use jaunty_core::arrange::condition::{Condition, Test};
use jaunty_core::arrange::statement::statement;
use jaunty_core::arrange::{ArrangeError, Arrangement, Order, Wanted, arrange};
use jaunty_core::logbook::Outcome;
use jaunty_seam::rows::cell::ColumnReader;

use super::View;
use crate::app::overlay::prompt::Asked;
use crate::app::{App, Overlay, Prompt};
use crate::work::{Done, Kind, wait_for_rest};
use jaunty_core::words;

/// How the rows of a result are arranged.
#[derive(Debug, Clone, Default)]
pub struct Arranged {
    /// What a person wants.
    pub wanted: Wanted,
    /// What was wanted before, for undo.
    before: Vec<Wanted>,
    /// What was wanted when the rows on the screen were arranged, with what was wanted before that: what
    /// comes back if the work for another order does not get to its end.
    settled: (Wanted, Vec<Wanted>),
    /// The number of the work for that order.
    work: u64,
    /// How many rows there were when it began: without more of them it is not begun anew.
    tried: u64,
    /// The rows in that order; their own until it is found, and where nothing is wanted.
    pub arrangement: Option<Arc<Arrangement>>,
    /// The number of the work that found it, so that pages are told apart; 0 is the rows' own order.
    pub stamp: u64,
}

/// The longest value that others are compared with, in bytes.
const LONGEST: usize = 4096;

impl Arranged {
    /// Takes on what was wanted.
    fn settle(&mut self, arrangement: Option<Arc<Arrangement>>, stamp: u64) {
        (self.arrangement, self.stamp) = (arrangement, stamp);
        self.settled = (self.wanted.clone(), self.before.clone());
    }

    /// The number of the work that finds out another order.
    pub(super) fn work(&self) -> u64 {
        self.work
    }

    /// Goes back to what the rows on the screen are.
    pub(super) fn fall_back(&mut self) {
        (self.wanted, self.before) = self.settled.clone();
        self.work = 0;
    }
}

impl App {
    /// Sorts by the column in hand: up, down, and not at all.
    pub fn sort(&mut self) {
        self.sort_by(false);
    }

    /// Sorts by the column in hand where what is sorted by already leaves rows equal.
    pub fn sort_further(&mut self) {
        self.sort_by(true);
    }

    fn sort_by(&mut self, further: bool) {
        let view = self.rows.view();
        let column = view.column_in_hand();
        let mut wanted = view.arranged.wanted;
        let now = wanted.order.iter().position(|order| order.column == column);
        let next = match now.and_then(|at| wanted.order.get(at)) {
            None => Some(Order { column, descending: false }),
            Some(order) if !order.descending => Some(Order { column, descending: true }),
            Some(_) => None,
        };
        match (further, now, next) {
            (false, _, next) => wanted.order = next.into_iter().collect(),
            (true, Some(at), Some(next)) => wanted.order[at] = next,
            (true, Some(at), None) => drop(wanted.order.remove(at)),
            (true, None, next) => wanted.order.extend(next),
        }
        self.want(wanted);
    }

    /// Asks for a condition on the column in hand.
    pub fn ask_for_condition(&mut self) {
        let name = self.column_name(self.rows.view().column_in_hand());
        let title =
            format!("only rows whose {name} is (> 5, between 1 and 9, in a, b, has text, begins …, not …, null)");
        self.overlay = Some(Overlay::Prompt(Prompt::new(title, Asked::Condition)));
    }

    pub(in crate::app) fn narrow(&mut self, text: &str) {
        let column = self.rows.view().column_in_hand();
        let Some(schema) = self.schema() else { return };
        let Some(field) = schema.fields().get(column) else { return };
        match Test::read(text, field) {
            Ok(test) => self.narrow_by(Condition { column, test }),
            Err(error) => self.tell_wrong(error.to_string()),
        }
    }

    /// Keeps the rows that fulfil all of these too.
    pub(in crate::app) fn narrow_by_all(&mut self, conditions: Vec<Condition>) {
        let mut wanted = self.rows.view().arranged.wanted;
        let new: Vec<Condition> = conditions.into_iter().filter(|one| !wanted.conditions.contains(one)).collect();
        wanted.conditions.extend(new);
        self.want(wanted);
    }

    fn narrow_by(&mut self, condition: Condition) {
        let mut wanted = self.rows.view().arranged.wanted;
        if !wanted.conditions.contains(&condition) {
            wanted.conditions.push(condition);
        }
        self.want(wanted);
    }

    /// Keeps the rows that have the value in hand, or those that have another.
    pub fn narrow_to_value(&mut self, not: bool) {
        let view = self.rows.view();
        let column = view.column_in_hand();
        let row = view.row_of(view.row);
        let Some(kept) = self.rows.kept().cloned() else { return };
        self.begin_work(Kind::Value, "reading the value".into(), move |_| {
            let read = || -> Result<Test, String> {
                let page = kept.archive().and_then(|archive| archive.glimpse(row, 1, LONGEST as u64 + 1));
                let page = page.map_err(|error| error.to_string())?;
                let value = page
                    .batches
                    .first()
                    .and_then(|batch| Some((batch.columns().get(column)?, page.schema.fields().get(column)?)));
                let (values, field) = value.ok_or("no value here")?;
                let cell = ColumnReader::of(values, field).get(0);
                if cell.text.len() > LONGEST {
                    return Err("this value is too long to compare with; filter by a part of it".into());
                }
                Test::equal((cell.kind, &cell.text), field, not).map_err(|error| error.to_string())
            };
            Done::Equal(kept.path().to_owned(), column, read())
        });
    }

    /// Narrows a result by what was read of it, if it is still the one in hand.
    pub(in crate::app) fn narrow_to(&mut self, path: &Path, column: usize, test: Test) {
        if self.rows.kept().is_some_and(|kept| kept.path() == path) {
            self.narrow_by(Condition { column, test });
        }
    }

    /// Asks for a text to look for in all values.
    pub fn ask_for_search(&mut self) {
        let title = "only rows that contain this, in any column".to_owned();
        let search = self.rows.view().arranged.wanted.search;
        self.overlay = Some(Overlay::Prompt(Prompt::with(title, Asked::RowSearch, search)));
    }

    pub(in crate::app) fn search_rows(&mut self, text: &str) {
        let wanted = Wanted { search: text.to_owned(), ..self.rows.view().arranged.wanted };
        self.want(wanted);
    }

    /// Takes the last sorting or narrowing back.
    pub fn undo_arranging(&mut self) {
        let before = self.rows.view_mut().and_then(|view| view.arranged.before.pop());
        match before {
            Some(wanted) => {
                self.take_on(wanted);
            }
            None => self.tell("the rows are in their original order"),
        }
    }

    /// Shows all rows in their own order.
    pub fn original_order(&mut self) {
        self.want(Wanted::default());
    }

    fn want(&mut self, wanted: Wanted) {
        let Some(view) = self.rows.view_mut() else { return };
        if view.arranged.wanted != wanted {
            let before = view.arranged.wanted.clone();
            view.arranged.before.push(before);
            self.take_on(wanted);
        }
    }

    /// Goes over to another arrangement. Their own order comes back at once.
    fn take_on(&mut self, wanted: Wanted) {
        let before = self.rows.view().arranged.work;
        self.stop_works(|work| work.number == before);
        let plain = wanted.is_plain();
        let Some(view) = self.rows.view_mut() else { return };
        view.marked = None;
        view.arranged.wanted = wanted;
        if plain {
            view.arranged.settle(None, 0);
            (view.row, view.top) = (0, 0);
        } else {
            self.begin_arranging();
        }
    }

    fn begin_arranging(&mut self) {
        let (Some(kept), wanted) = (self.rows.kept().cloned(), self.rows.view().arranged.wanted) else { return };
        let what = if wanted.order.is_empty() { "searching the rows" } else { "sorting" };
        let run = self.rows.run().cloned();
        let number = self.begin_work(Kind::Arrange, what.into(), move |progress| {
            if let Some(run) = run {
                wait_for_rest(&run, progress);
            }
            let archive = kept.archive().map_err(ArrangeError::from);
            let found = archive.and_then(|archive| arrange(&archive, &wanted, progress));
            Done::Arranged(found)
        });
        let all = self.rows.all();
        if let Some(view) = self.rows.view_mut() {
            (view.arranged.work, view.arranged.tried) = (number, all);
        }
    }

    fn view_of_work(&mut self, number: u64) -> Option<&mut View> {
        let panes = [Some(&mut self.rows), self.other.as_mut()].into_iter().flatten();
        panes.flat_map(|rows| rows.views.values_mut()).find(|view| view.arranged.work == number)
    }

    /// Takes what the work with this number found.
    pub(in crate::app) fn take_arrangement(&mut self, number: u64, found: Result<Arrangement, ArrangeError>) {
        let Some(view) = self.view_of_work(number) else { return };
        match found {
            Ok(arrangement) => {
                let (count, of) = (arrangement.len(), arrangement.of());
                // One that only took in more rows leaves a person where they are.
                if view.arranged.arrangement.is_none() || count == 0 {
                    (view.row, view.top) = (0, 0);
                }
                view.arranged.settle(Some(Arc::new(arrangement)), number);
                if count < of {
                    self.tell(format!("{} of {} · u undoes it", words::count(count, "row"), words::number(of)));
                }
            }
            Err(error) => {
                view.arranged.fall_back();
                match error {
                    ArrangeError::Stopped => self.tell("cancelled; the rows are unchanged"),
                    error => self.tell_wrong(error.to_string()),
                }
            }
        }
    }

    /// Takes in the rows that came after the rows were arranged, once all are there.
    pub(in crate::app) fn arrange_what_came(&mut self) {
        let view = self.rows.view();
        let ended = self.rows.run().is_some_and(|run| run.outcome() != Outcome::Running);
        let all = self.rows.all();
        let less = view.arranged.arrangement.as_ref().is_some_and(|arrangement| arrangement.of() < all);
        if ended && less && view.arranged.tried < all && !self.works_at(view.arranged.work) {
            self.begin_arranging();
        }
    }

    /// Puts the statement that asks the server for the rows as they are arranged into the buffer.
    pub fn write_arrangement(&mut self) {
        let (Some(run), Some(schema)) = (self.rows.run().cloned(), self.schema()) else { return };
        let wanted = self.rows.view().arranged.wanted;
        let dialect = self.buffer.document.outline().dialect();
        if wanted.is_plain() {
            return self.tell("nothing to write: sort or filter the rows first");
        }
        if self.refuses_from_elsewhere() {
            return;
        }
        match statement(&wanted, &run.statement, &schema, dialect) {
            Ok(statement) => self.put_statement(&statement),
            Err(error) => self.tell_wrong(error.to_string()),
        }
    }

    /// The same, for what lies over the screen.
    pub(in crate::app) fn rows_schema(&self) -> Option<Arc<Schema>> {
        self.schema()
    }

    /// The columns of the result on the screen. It is known once its archive was opened for a page.
    pub(super) fn schema(&self) -> Option<Arc<Schema>> {
        self.rows.page()?;
        Some(self.rows.kept()?.archive().ok()?.schema())
    }
}
