//! Two results beside each other. One of them is in hand: it is what keys, sorting and exports are
//! about; going to the other exchanges them. Linked, the other scrolls along.

use std::path::{Path, PathBuf};

use jaunty_core::arrange::ArrangeError;
use jaunty_core::arrange::differ::{self, Difference};
use jaunty_core::logbook::Outcome;

use super::Rows;
use crate::action::Scope;
use crate::app::App;
use crate::layout::Side;
use crate::pager::{Page, Shown};
use crate::work::{Done, Kind, wait_for_rest};

/// How two results move together.
#[derive(Debug, Clone, Default)]
pub struct Linked {
    /// How many rows the one in hand is ahead of the other.
    ahead: i64,
    /// Where the one in hand was when the other went along last.
    seen: Option<Place>,
}

/// Where a pane is in which archive: the row in hand, the first one, the column in hand, the first one.
type Place = (PathBuf, [u64; 2], [usize; 2]);

impl Rows {
    fn place(&self) -> Option<Place> {
        let view = self.view();
        Some((self.kept.as_ref()?.path().to_owned(), [view.row, view.top], [view.column, view.left]))
    }

    /// Goes where the other pane is, so many rows before it, with the same column at the left.
    fn go_along(&mut self, with: &Rows, ahead: i64) {
        let theirs = with.view();
        let height = self.height() as u64;
        let last = self.total().saturating_sub(1);
        let place = |at: u64| at.saturating_add_signed(-ahead).min(last);
        // Columns are the same ones if they have the same name.
        let name = |rows: &Rows, column: usize| {
            rows.page.as_ref().and_then(|page| page.columns.get(column)).map(|head| head.name.clone())
        };
        let named = |of: &Rows, position: usize| name(of, *of.view().columns.get(position)?);
        let (left, column) = (named(with, theirs.left), named(with, theirs.column));
        let find = |wanted: Option<String>| {
            let columns = self.view().columns;
            columns.iter().position(|column| wanted.is_some() && name(self, *column) == wanted)
        };
        let (left, column) = (find(left), find(column));
        let Some(view) = self.view_mut() else { return };
        view.row = place(theirs.row);
        view.top = place(theirs.top).min((last + 1).saturating_sub(height));
        view.left = left.unwrap_or(view.left);
        view.column = column.unwrap_or(view.column);
    }
}

/// The rows in the other pane that stand beside those of a pane.
pub struct Opposite<'a> {
    page: &'a Page,
    /// How many rows the other pane is behind.
    behind: i64,
    /// How many rows there are; not known while more may come.
    total: Option<u64>,
}

impl Opposite<'_> {
    /// Whether a value is another one there, as far as values are shown; not known of rows that are not
    /// on the screen. A row that has none beside it differs as a whole.
    pub fn differs(&self, row: u64, column: usize, cell: &Shown) -> bool {
        let is_there = |row: &u64| self.total.is_none_or(|total| *row < total);
        let Some(row) = row.checked_add_signed(-self.behind).filter(is_there) else { return true };
        let at = row.checked_sub(self.page.from).and_then(|at| usize::try_from(at).ok());
        let there = at.and_then(|at| self.page.rows.get(at)?.get(column));
        there.is_some_and(|there| (there.kind, &there.text, there.cut) != (cell.kind, &cell.text, cell.cut))
    }
}

impl App {
    /// What stands beside the rows of a pane, if two results of the same columns scroll together.
    pub fn opposite(&self, rows: &Rows) -> Option<Opposite<'_>> {
        let (linked, other) = (self.linked.as_ref()?, self.other.as_ref()?);
        let in_hand = std::ptr::eq(rows, &self.rows);
        let (other, behind) = if in_hand { (other, linked.ahead) } else { (&self.rows, -linked.ahead) };
        let page = other.page()?;
        let names = |page: &Page| page.columns.iter().map(|head| head.name.clone()).collect::<Vec<_>>();
        let same = names(page) == names(rows.page()?);
        let ended = other.run().is_none_or(|run| run.outcome() != Outcome::Running);
        same.then(|| Opposite { page, behind, total: ended.then(|| other.total()) })
    }

    /// Places the result in hand to the left, held, and another one beside it that follows the cursor; or
    /// goes back to one.
    pub fn place_beside(&mut self) {
        if self.other.take().is_some() {
            (self.panes.other, self.linked) = (None, None);
            return self.tell("back to one result; held results are in the list above");
        }
        let Some(run) = self.rows.run().cloned() else {
            return self.tell("no result to place beside another");
        };
        self.keep_in_sight(run);
        let number = self.rows.pane + 1;
        let left = std::mem::replace(&mut self.rows, Rows::numbered(number % 2));
        // Where one was, one goes on.
        self.rows.views.clone_from(&left.views);
        self.rows.picked.clone_from(&left.picked);
        self.rows.latest.clone_from(&left.latest);
        // Another order that is being found out is the other pane's.
        for view in
            self.rows.views.values_mut().filter(|view| self.works.iter().any(|w| w.number == view.arranged.work()))
        {
            view.arranged.fall_back();
        }
        self.other = Some(left);
        self.panes.other = Some(Side::First);
        self.linked = Some(Linked::default());
        self.panes.focus = Scope::Result;
        self.tell("pinned left; the right pane follows the cursor; differences are underlined");
    }

    /// Goes to the next row that differs from the one beside it.
    pub fn next_difference(&mut self) {
        let ahead = self.linked.as_ref().filter(|_| self.opposite(&self.rows).is_some()).map(|linked| linked.ahead);
        let (Some(ahead), Some(other)) = (ahead, &self.other) else {
            return self.tell("open two results with the same columns side by side first (t), then press D");
        };
        let (from, columns) = (self.rows.view().row + 1, self.rows.view().columns);
        let Some((path, here)) =
            self.rows.kept().map(|kept| kept.path().to_owned()).zip(self.rows.rows_from(from, &columns))
        else {
            return;
        };
        // Before the first row there are none.
        let Some(there) = from.checked_add_signed(-ahead).and_then(|row| other.rows_from(row, &columns)) else {
            return self.take_difference(&path, from, Ok(Some(Difference { row: 0, column: None })));
        };
        let runs = [self.rows.run().cloned(), other.run().cloned()];
        self.begin_work(Kind::Differ, "comparing rows".into(), move |progress| {
            runs.iter().flatten().for_each(|run| wait_for_rest(run, progress));
            let found = here().and_then(|here| Ok((here, there()?))).map_err(ArrangeError::from);
            Done::Differs(path, from, found.and_then(|(here, there)| differ::first(&here, &there, progress)))
        });
    }

    pub(in crate::app) fn take_difference(
        &mut self,
        path: &Path,
        from: u64,
        found: Result<Option<Difference>, ArrangeError>,
    ) {
        if self.rows.kept().is_none_or(|kept| kept.path() != path) {
            return;
        }
        match found {
            Ok(Some(found)) => {
                let last = self.rows.total().saturating_sub(1);
                self.rows.go_to(from + found.row);
                if let (Some(column), Some(view)) = (found.column, self.rows.view_mut()) {
                    view.column = column;
                }
                if from + found.row > last {
                    self.tell("from here on there are rows only in the other result");
                }
            }
            Ok(None) => self.tell("no more differences"),
            Err(ArrangeError::Stopped) => {}
            Err(error) => self.tell_wrong(error.to_string()),
        }
    }

    /// Lets the two results scroll together, from where they are, or each for itself.
    pub fn link(&mut self) {
        let Some(other) = &self.other else {
            return self.tell("only one result is open; press t to place another beside it");
        };
        let ahead = self.rows.view().row as i64 - other.view().row as i64;
        let said = match (self.linked.take(), ahead) {
            (Some(_), _) => "each result scrolls on its own".to_owned(),
            (None, 0) => "both results scroll together".to_owned(),
            (None, rows) => {
                let rows = jaunty_core::words::count(rows.unsigned_abs(), "row");
                format!("both results scroll together, {rows} apart")
            }
        };
        if !said.starts_with("each") {
            self.linked = Some(Linked { ahead, seen: self.rows.place() });
        }
        self.tell(said);
    }

    /// Whether two results scroll together.
    pub fn is_linked(&self) -> bool {
        self.linked.is_some()
    }

    /// Takes the other result in hand.
    pub(in crate::app) fn take_other(&mut self) {
        if let (Some(other), Some(side)) = (&mut self.other, self.panes.other) {
            std::mem::swap(&mut self.rows, other);
            self.panes.other = Some(side.opposite());
            if let Some(linked) = &mut self.linked {
                // Nothing moves where one only looks from one to the other.
                (linked.ahead, linked.seen) = (-linked.ahead, self.rows.place());
            }
            // What is marked there has sums of its own.
            self.rows.added = None;
        }
    }

    /// Moves the other result along, if both are linked.
    pub(in crate::app) fn scroll_along(&mut self) {
        let (Some(other), Some(linked), now) = (&mut self.other, &mut self.linked, self.rows.place()) else { return };
        let moved = linked.seen.as_ref().zip(now.as_ref()).is_some_and(|(seen, now)| seen.0 == now.0 && seen != now);
        linked.seen = now;
        if moved {
            other.go_along(&self.rows, linked.ahead);
        }
    }
}
