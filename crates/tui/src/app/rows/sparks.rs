//! Sparklines above the columns: how the values of each go along the rows that are shown.

use std::path::PathBuf;

use jaunty_core::arrange::pick::Part;
use jaunty_core::chart::gather::PartError;
use jaunty_core::chart::sparks::{Spark, sparks};
use jaunty_core::logbook::Outcome;
use ratatui::layout::Rect;

use super::{HEAD, Rows};
use crate::app::App;
use crate::work::{Done, Kind};

/// Lines that they take.
pub const LINES: u16 = 2;
/// A pane of fewer lines has no room for them.
const LEAST: u16 = 9;

/// What lines are of: an archive, the number of its arrangement, and how many of its rows.
pub type Of = (PathBuf, u64, u64);

/// Sparklines that were gathered: for which pane, of what, and one for each column.
pub type Sparked = (u8, Of, Result<Vec<Option<Spark>>, PartError>);

/// The sparklines of a pane.
#[derive(Debug, Default)]
pub struct Sparklines {
    wanted: bool,
    asked: Option<Of>,
    found: Option<(Of, Vec<Option<Spark>>)>,
    /// Whether a person has just asked for them, and is told if there are none.
    told: bool,
}

impl Rows {
    /// The lines above the rows.
    pub fn head(&self, area: Rect) -> u16 {
        let are_none = || self.sparks().is_some_and(|sparks| sparks.iter().all(Option::is_none));
        if self.sparklines.wanted && area.height >= LEAST && !are_none() { HEAD + LINES } else { HEAD }
    }

    /// The sparkline of a column, if they are shown and it has one.
    pub fn spark(&self, column: usize) -> Option<&Spark> {
        self.sparks()?.get(column)?.as_ref()
    }

    /// Those of the rows that are shown: of another order they would tell of other rows.
    fn sparks(&self) -> Option<&[Option<Spark>]> {
        let found = self.sparklines.found.as_ref().filter(|_| self.sparklines.wanted);
        let ((path, stamp, _), sparks) = found?;
        let kept = self.kept.as_ref().filter(|kept| kept.path() == path)?;
        let shown = self.views.get(kept.path()).map_or(0, |view| view.arranged.stamp);
        (shown == *stamp).then_some(sparks)
    }

    /// What has to be gathered, if what is shown has not been. While rows come it is done again whenever they have
    /// become twice as many.
    fn unsparked(&self) -> Option<Of> {
        let kept = self.kept.as_ref().filter(|_| self.sparklines.wanted)?;
        let stamp = self.views.get(kept.path()).map_or(0, |view| view.arranged.stamp);
        let of = (kept.path().to_owned(), stamp, self.total());
        if of.2 == 0 {
            return None;
        }
        let is_over = self.run.as_ref().is_none_or(|run| run.outcome() != Outcome::Running || run.is_held());
        let is_known = |known: &Of| {
            let same = (&known.0, known.1) == (&of.0, of.1);
            same && (known.2 == of.2 || (!is_over && of.2 < known.2 * 2))
        };
        (!self.sparklines.asked.as_ref().is_some_and(is_known)).then_some(of)
    }
}

impl App {
    fn pane_mut(&mut self, pane: u8) -> Option<&mut Rows> {
        [Some(&mut self.rows), self.other.as_mut()].into_iter().flatten().find(|rows| rows.pane == pane)
    }

    /// Shows sparklines above the columns, or not.
    pub fn toggle_sparklines(&mut self) {
        if self.rows.kept().is_none() {
            return self.tell("no rows here");
        }
        let wanted = !self.rows.sparklines.wanted;
        self.rows.sparklines = Sparklines { wanted, told: true, ..Sparklines::default() };
        if wanted && self.rows.area.height < LEAST {
            self.tell("the pane is too low for sparklines");
        }
    }

    /// Has the sparklines of what is shown gathered.
    pub(in crate::app) fn follow_sparklines(&mut self) {
        let panes = [Some(&self.rows), self.other.as_ref()].into_iter().flatten();
        let missing: Vec<_> = panes.filter_map(|rows| Some((rows.pane, rows.unsparked()?))).collect();
        for (pane, of) in missing {
            let Some(rows) = self.pane_mut(pane) else { continue };
            rows.sparklines.asked = Some(of.clone());
            let Some(kept) = rows.kept.clone() else { continue };
            let arrangement = rows.view().arrangement();
            self.begin_work(Kind::Sparklines, "sparklines".into(), move |progress| {
                let gather = || {
                    let part = Part { arrangement, rows: 0..of.2, ..Part::whole(kept.archive()?) };
                    sparks(&part, progress)
                };
                Done::Sparked((pane, of.clone(), gather()))
            });
        }
    }

    pub(in crate::app) fn take_sparklines(&mut self, (pane, of, found): Sparked) {
        let Some(rows) = self.pane_mut(pane) else { return };
        // Another order, or other rows, were asked for meanwhile.
        if rows.sparklines.asked.as_ref() != Some(&of) {
            return;
        }
        match found {
            Ok(sparks) => {
                let are_none = sparks.iter().all(Option::is_none);
                let is_asked = std::mem::take(&mut rows.sparklines.told);
                rows.sparklines.found = Some((of, sparks));
                // Whoever only passes by such rows has them again at the next.
                if are_none && is_asked {
                    self.tell("no sparklines: no column of numbers or times has values here");
                }
            }
            Err(PartError::Stopped) => rows.sparklines.wanted = false,
            Err(error) => {
                rows.sparklines.wanted = false;
                self.tell_wrong(error.to_string());
            }
        }
    }
}
