//! Drawings that are saved: schemas, and plans.

use std::path::Path;
use std::sync::Arc;

use jaunty_core::drawing::layout::layout;
use jaunty_core::drawing::save::{Paper, save};
use jaunty_core::drawing::{Chosen, paint, plan, tables};
use jaunty_core::export::target::name_of;
use jaunty_core::words;
use jaunty_language::plan::Plan;
use jaunty_seam::catalog::Catalog;
use jaunty_seam::profile::path;

use super::App;
use super::overlay::prompt::Asked;
use super::overlay::{Answered, Overlay, Prompt};
use crate::work::{Done, Kind};

/// What is drawn.
#[derive(Debug, Clone)]
pub(in crate::app) enum Drawing {
    /// These tables of the catalog that was looked at.
    Schema(Arc<Catalog>, Chosen),
    /// A plan, with its statement.
    Plan(Box<Plan>, String),
}

impl App {
    /// Asks where a drawing is to be saved.
    pub(in crate::app) fn ask_for_drawing(&mut self, drawing: Drawing, name: &str) {
        self.drawing = Some(drawing);
        let title = "save the drawing; .svg or .pdf".to_owned();
        let name = format!("{}.svg", name_of(name));
        self.overlay = Some(Overlay::Prompt(Prompt::with(title, Asked::Drawing, name)));
    }

    /// Saves the drawing that was asked about last. A file that is there already is only replaced if that is said.
    pub(in crate::app) fn save_drawing(&mut self, text: &str, over: bool) {
        let file = Path::new(text.trim());
        let Some(paper) = Paper::of(file) else {
            return self.tell_wrong("name a file that ends in .svg or .pdf");
        };
        let Some(drawing) = self.drawing.clone() else { return };
        let file = path::written(file, &self.folder_for_rows());
        let connection = self.connection.name().to_owned();
        let careful = (!over).then(|| text.to_owned());
        self.begin_work(Kind::Write, "drawing".into(), move |_| {
            if let Some(text) = careful.filter(|_| file.exists()) {
                return Done::IsThere(file, text, Answered::Drawing);
            }
            let (scene, what) = match &drawing {
                Drawing::Schema(catalog, which) => {
                    let tables = tables(catalog, which);
                    let scene = paint::scene(&tables, &layout(&tables), &connection);
                    (scene, words::count(tables.len() as u64, "table"))
                }
                Drawing::Plan(plan, statement) => (plan::scene(plan, statement, &connection), "the plan".to_owned()),
            };
            let wrong = |error: std::io::Error| format!("{} cannot be written: {error}", file.display());
            Done::Saved(save(scene, &file, paper).map(|()| format!("{what} in {}", file.display())).map_err(wrong))
        });
    }
}
