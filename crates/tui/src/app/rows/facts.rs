//! What the column in hand holds.

use jaunty_core::arrange::ArrangeError;
use jaunty_core::arrange::facts::{ColumnStats, facts};

use crate::app::{App, Overlay};
use crate::work::{Done, Kind, wait_for_rest};

/// ColumnStats of a column, as they come.
#[derive(Debug)]
pub struct FactsView {
    /// The column's name and type.
    pub title: String,
    /// What is known; none while it is being found out.
    pub facts: Option<Box<ColumnStats>>,
}

impl App {
    /// Tells what the column in hand holds, in the rows that are shown.
    pub fn column_facts(&mut self) {
        let view = self.rows.view();
        let column = view.column_in_hand();
        let (Some(kept), Some(page)) = (self.rows.kept().cloned(), self.rows.page()) else { return };
        let Some(head) = page.columns.get(column) else { return };
        let title = format!("{} {}", head.name, head.type_name);
        self.overlay = Some(Overlay::ColumnStats(FactsView { title, facts: None }));
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
        match (found, &mut self.overlay) {
            (Ok(facts), Some(Overlay::ColumnStats(view))) => view.facts = Some(facts),
            (Err(error), Some(Overlay::ColumnStats(_))) => {
                self.overlay = None;
                self.tell_wrong(error.to_string());
            }
            _ => {}
        }
    }
}
