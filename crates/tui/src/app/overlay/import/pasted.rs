//! Rows that are in no file: pasted, or in the desktop's clipboard.

use std::sync::Arc;

use super::ImportView;
use crate::app::App;
use crate::desktop;
use crate::line::Line;
use crate::work::{Done, Kind};

/// What stands in the place of a file's name where rows were pasted.
pub(super) const PASTED: &str = "(pasted rows)";

impl ImportView {
    /// Takes a text as rows.
    pub(super) fn take_rows(&mut self, text: &str) {
        let ending = if text.contains('\t') { ".tsv" } else { ".txt" };
        let file = tempfile::Builder::new().prefix("pasted-").suffix(ending).tempfile();
        match file.and_then(|file| std::fs::write(file.path(), text).map(|()| file)) {
            Ok(file) => {
                self.pasted = Some(Arc::new(file));
                self.fields[0].line = Line::from(PASTED);
                // Another paste is other rows.
                self.made_of.clear();
                (self.ended, self.asks, self.goes_on) = (None, false, false);
                self.chosen = 1;
            }
            Err(error) => self.fail(format!("the pasted rows cannot be kept: {error}")),
        }
    }

    /// Takes what is in the desktop's clipboard as rows: where a terminal pastes nothing, or asks about so much.
    pub(crate) fn take_clipboard(&mut self, app: &mut App) {
        if self.loading.is_none() {
            app.begin_work(Kind::Import, "reading the clipboard".into(), |_| Done::Clipboard(desktop::text()));
        }
    }
}

impl App {
    pub(in crate::app) fn take_clipboard(&mut self, text: Result<String, String>) {
        let Some(view) = self.overlaid::<ImportView>() else { return };
        match text {
            Ok(text) => view.take_rows(&text),
            Err(error) => view.fail(error),
        }
    }
}
