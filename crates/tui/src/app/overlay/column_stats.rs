//! What the column in hand holds.

use jaunty_core::arrange::ArrangeError;
use jaunty_core::arrange::facts::{ColumnStats, facts};

use super::{Layer, Overlay};
use crate::app::App;
use crate::work::{Done, Kind, wait_for_rest};

/// What a column holds, as it becomes known.
#[derive(Debug)]
pub struct ColumnStatsView {
    /// The column's name and type.
    pub title: String,
    /// What is known; none while it is being found out.
    pub facts: Option<Box<ColumnStats>>,
}

impl Layer for ColumnStatsView {}

impl App {
    /// Tells what the column in hand holds, in the rows that are shown.
    pub fn column_facts(&mut self) {
        let view = self.rows.view();
        let column = view.column_in_hand();
        let (Some(kept), Some(page)) = (self.rows.kept().cloned(), self.rows.page()) else { return };
        let Some(head) = page.columns.get(column) else { return };
        let title = format!("{} {}", head.name, head.type_name);
        self.overlay = Some(Overlay::ColumnStats(ColumnStatsView { title, facts: None }));
        let arrangement = view.arrangement();
        let run = self.rows.run().cloned();
        self.begin_work(Kind::ColumnStats, "counting".into(), move |progress| {
            if let Some(run) = run {
                wait_for_rest(&run, progress);
            }
            let archive = kept.archive().map_err(ArrangeError::from);
            let found = archive.and_then(|archive| facts(&archive, arrangement.as_deref(), column, progress));
            Done::ColumnStats(found.map(Box::new))
        });
    }

    pub(in crate::app) fn take_facts(&mut self, found: Result<Box<ColumnStats>, ArrangeError>) {
        match (found, self.overlaid::<ColumnStatsView>()) {
            (Ok(facts), Some(view)) => view.facts = Some(facts),
            (Err(error), Some(_)) => {
                self.overlay = None;
                self.tell_wrong(error.to_string());
            }
            _ => {}
        }
    }
}
