//! The strip: the results that there are to choose from. Those that are held come first, then those of
//! the statement at the cursor, or of all statements that ran together with it.

use std::borrow::Cow;
use std::sync::Arc;

use jaunty_core::run::Run;
use jaunty_language::edit::document::Motion;
use jaunty_language::outline::StatementId;
use jaunty_language::text::clean;

use super::Rows;
use crate::action::Scope;
use crate::app::App;

/// A result of the strip.
#[derive(Debug, Clone)]
pub struct Slot {
    /// Its run.
    pub run: Arc<Run>,
    /// Which of the run's results with rows, from 0.
    pub which: usize,
    /// Whether it is held.
    pub held: bool,
}

impl Slot {
    /// What it is called: the title of its statement, or the beginning of that.
    pub fn title(&self) -> String {
        let first_line = self.run.statement.lines().next().unwrap_or_default();
        let title = clean::clean(self.run.title.as_deref().unwrap_or(first_line)).into_owned();
        if self.which > 0 { format!("{title} ({})", self.which + 1) } else { title }
    }

    fn all_of(run: &Arc<Run>, held: bool) -> Vec<Slot> {
        let count = run.all_rows().len().max(1);
        (0..count).map(|which| Slot { run: Arc::clone(run), which, held }).collect()
    }
}

impl Rows {
    /// Holds a run, whatever the cursor does; none lets the pane follow the cursor.
    pub(in crate::app) fn hold(&mut self, run: Option<Arc<Run>>) {
        self.held = run;
    }

    pub(in crate::app) fn held(&self) -> Option<&Arc<Run>> {
        self.held.as_ref()
    }

    /// Whether it shows this result.
    pub fn shows_slot(&self, slot: &Slot) -> bool {
        let same = self.run.as_ref().is_some_and(|run| Arc::ptr_eq(run, &slot.run));
        same && self.results().0 == slot.which && self.holds() == slot.held
    }
}

impl App {
    /// The results to choose from.
    pub fn strip(&self) -> Vec<Slot> {
        let here = self.buffer.document.statement().and_then(|statement| self.run_of(statement));
        let together = here.map_or(&[][..], |run| self.connection.ran_together(run.id));
        let runs: Vec<&Arc<Run>> = match together {
            [] => here.into_iter().collect(),
            ids => ids.iter().filter_map(|id| self.connection.run_of(*id)).collect(),
        };
        let held = self.kept_in_sight.iter().flat_map(|run| Slot::all_of(run, true));
        held.chain(runs.into_iter().flat_map(|run| Slot::all_of(run, false))).collect()
    }

    /// Goes to the next result of the strip, or to the one before.
    pub fn other_result(&mut self, by: isize) {
        let strip = self.strip();
        let now = strip.iter().position(|slot| self.rows.shows_slot(slot));
        let next = match (now, by < 0) {
            (Some(now), _) => (now + strip.len()).saturating_add_signed(by) % strip.len(),
            (None, true) => strip.len().saturating_sub(1),
            (None, false) => 0,
        };
        match strip.get(next).filter(|_| now != Some(next)) {
            Some(slot) => self.choose_slot(slot),
            None => self.tell("no other result"),
        }
    }

    /// Shows a result of the strip. One that is not held is shown by going to its statement.
    pub(in crate::app) fn choose_slot(&mut self, slot: &Slot) {
        if let Some(first) = slot.run.all_rows().first() {
            self.rows.picked.insert(first.path().to_owned(), slot.which);
        }
        let there = if slot.held { None } else { self.place_of(&slot.run) };
        match there {
            Some(start) => {
                self.rows.hold(None);
                self.go(Motion::To(start), false);
            }
            None => self.rows.hold(Some(Arc::clone(&slot.run))),
        }
        self.panes.focus = Scope::Result;
    }

    /// Where the statement of a run begins in the buffer.
    pub(in crate::app) fn place_of(&self, run: &Run) -> Option<usize> {
        let document = &self.buffer.document;
        let length = StatementId::essence(&run.statement).len();
        let there = document.outline().statements().iter().find(|s| {
            // A semicolon of another delimiter may be part of it.
            s.body_end - s.start >= length && self.buffer.id_of(s) == run.id
        });
        there.map(|s| s.start)
    }

    /// Where a result comes from, if that is not where the buffer's statements run: another connection, or
    /// another database of it. What ran where no database was chosen comes from no other one.
    pub fn elsewhere<'a>(&self, run: &'a Run) -> Option<Cow<'a, str>> {
        let here = self.connection.location.as_ref();
        if run.connection != self.connection.name() {
            Some(clean::clean(&run.connection))
        } else if here.is_some_and(|place| place.database != run.database && !run.database.is_empty()) {
            Some(clean::clean(&run.database))
        } else {
            None
        }
    }

    /// What stands before the title of a result: whether it is held, and where it comes from, if not from here.
    pub fn mark_of(&self, run: &Run, held: bool) -> String {
        let held = if held { "held" } else { "" };
        match self.elsewhere(run) {
            Some(place) => format!("{held} from {place} · ").trim_start().to_owned(),
            None if held.is_empty() => String::new(),
            None => format!("{held} · "),
        }
    }

    /// Tells why something cannot be done with rows that come from elsewhere; false if they come from here.
    pub(in crate::app) fn refuses_from_elsewhere(&mut self) -> bool {
        let place = self.rows.run().and_then(|run| self.elsewhere(run)).map(Cow::into_owned);
        if let Some(place) = &place {
            self.tell_wrong(format!(
                "these rows come from {place}; switch to it first (f3, f4): a statement would run here"
            ));
        }
        place.is_some()
    }

    /// Holds the result in the pane while the cursor goes elsewhere, or lets it go.
    pub fn hold(&mut self) {
        match (self.rows.held().cloned(), self.rows.run().cloned()) {
            (Some(held), _) => {
                self.let_result_go(&held);
                self.tell("the result follows the cursor");
            }
            (None, Some(run)) => {
                self.keep_in_sight(run);
                self.tell("result held while the cursor moves on");
            }
            (None, None) => self.tell("no result to hold"),
        }
    }

    /// Holds a run in the pane, and in the strip.
    pub(in crate::app) fn keep_in_sight(&mut self, run: Arc<Run>) {
        if !self.kept_in_sight.iter().any(|kept| Arc::ptr_eq(kept, &run)) {
            self.kept_in_sight.push(Arc::clone(&run));
        }
        self.rows.hold(Some(run));
    }

    fn let_result_go(&mut self, run: &Arc<Run>) {
        self.kept_in_sight.retain(|kept| !Arc::ptr_eq(kept, run));
        for rows in [Some(&mut self.rows), self.other.as_mut()].into_iter().flatten() {
            if rows.held().is_some_and(|held| Arc::ptr_eq(held, run)) {
                rows.hold(None);
            }
        }
    }

    /// Follows the cursor again; what was held stays in the strip. False if it did so already.
    pub(in crate::app) fn follow_cursor_again(&mut self) -> bool {
        let held = self.rows.holds();
        self.rows.hold(None);
        held
    }
}
