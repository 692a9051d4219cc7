//! Rows that are in no file: pasted, or in the desktop's clipboard.

use std::sync::Arc;

use jaunty_core::files::parts::{self, Held};

use super::ImportView;
use crate::app::App;
use crate::desktop;
use crate::line::Line;
use crate::work::{Done, Kind};

/// What stands in the place of a file's name where rows were pasted.
pub(super) const PASTED: &str = "(pasted rows)";

fn held(text: &str) -> Result<Arc<Held>, String> {
    let ending = if text.contains('\t') { ".tsv" } else { ".txt" };
    parts::hold(text, ending).map(Arc::new).map_err(|error| format!("the pasted rows cannot be kept: {error}"))
}

impl ImportView {
    /// Takes a text as rows.
    pub(super) fn take_rows(&mut self, text: &str) {
        self.take_held(held(text));
    }

    fn take_held(&mut self, held: Result<Arc<Held>, String>) {
        match held {
            Ok(file) => {
                self.pasted = Some(file);
                self.fields[0].line = Line::from(PASTED);
                // Another paste is other rows.
                self.made_of.clear();
                (self.ended, self.asks, self.goes_on) = (None, false, false);
                self.chosen = 1;
            }
            Err(error) => self.fail(error),
        }
    }

    /// Takes what is in the desktop's clipboard as rows: where a terminal pastes nothing, or asks about so much.
    pub(crate) fn take_clipboard(&mut self, app: &mut App) {
        if self.loading.is_none() {
            let read = |_: &_| Done::Clipboard(desktop::text().and_then(|text| held(&text)));
            app.begin_work(Kind::Clipboard, "reading the clipboard".into(), read);
        }
    }
}

impl App {
    pub(in crate::app) fn take_clipboard(&mut self, held: Result<Arc<Held>, String>) {
        if let Some(view) = self.overlaid::<ImportView>() {
            view.take_held(held);
        }
    }
}
