//! Two results beside each other. One of them is in hand: it is what keys, sorting and exports are
//! about; going to the other exchanges them. Linked, the other scrolls along.

use std::path::PathBuf;

use super::Rows;
use crate::action::Scope;
use crate::app::App;
use crate::layout::Side;

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

impl App {
    /// Places the result in hand to the left, held, and another one beside it that follows the cursor; or
    /// goes back to one.
    pub fn place_beside(&mut self) {
        if self.other.take().is_some() {
            (self.panes.other, self.linked) = (None, None);
            return self.tell("one result again; what was held is in the strip");
        }
        let Some(run) = self.rows.run().cloned() else {
            return self.tell("there is no result to place beside another");
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
        self.tell("this result stays to the left; the other one follows the cursor, and both scroll together");
    }

    /// Lets the two results scroll together, from where they are, or each for itself.
    pub fn link(&mut self) {
        let Some(other) = &self.other else {
            return self.tell("there is one result; placing another beside it comes first");
        };
        let ahead = self.rows.view().row as i64 - other.view().row as i64;
        let said = match (self.linked.take(), ahead) {
            (Some(_), _) => "each result scrolls for itself".to_owned(),
            (None, 0) => "both results scroll together".to_owned(),
            (None, rows) => {
                let rows = crate::words::count(rows.unsigned_abs(), "row");
                format!("both results scroll together, {rows} apart as they are")
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
