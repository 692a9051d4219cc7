//! A column of objects or lists opened into a column for each of their parts, and closed again; and a document, to be edited.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use jaunty_core::archive::PARTS;
use jaunty_core::arrange::parts::{self, OpenError, Opened};
use jaunty_core::export::extended;
use jaunty_core::run::kept::KeptRows;
use jaunty_core::words;
use jaunty_language::dialect::Family;
use jaunty_language::dialect::documents::change::of_document;

use super::Rows;
use crate::app::App;
use crate::work::{Done, Kind, wait_for_rest};

/// Rows with an opened column, in the place of others.
#[derive(Debug)]
pub(super) struct OpenedRows {
    kept: Arc<KeptRows>,
    /// Where its first part stands, and how many there are.
    at: usize,
    parts: usize,
}

impl Drop for OpenedRows {
    fn drop(&mut self) {
        // They can be made again from the rows that they are of.
        if let Err(error) = std::fs::remove_file(self.kept.path()) {
            tracing::debug!(%error, "the rows of an opened column were not removed");
        }
    }
}

impl Rows {
    /// What is shown in the place of rows: those with the column that was opened last.
    pub(super) fn opened_of(&self, own: &Arc<KeptRows>) -> Arc<KeptRows> {
        let last = self.opened.get(own.path()).and_then(|stack| stack.last());
        last.map_or_else(|| Arc::clone(own), |opened| Arc::clone(&opened.kept))
    }

    /// The rows of the run that are shown, or that those are made of.
    pub fn base(&self) -> Option<PathBuf> {
        let kept = self.kept.as_ref()?;
        let of = self.opened.iter().find(|(_, stack)| stack.iter().any(|opened| opened.kept.path() == kept.path()));
        Some(of.map_or_else(|| kept.path().to_owned(), |(base, _)| base.clone()))
    }

    /// The rows of the run that are shown, whatever is opened in them.
    pub fn own(&self) -> Option<Arc<KeptRows>> {
        let base = self.base()?;
        self.run.as_ref()?.all_rows().into_iter().find(|own| own.path() == base)
    }

    /// Whether what is shown has an opened column.
    pub fn is_opened(&self) -> bool {
        self.base().is_some_and(|base| self.kept.as_ref().is_some_and(|kept| kept.path() != base))
    }
}

impl App {
    /// Opens the column in hand into its parts; on a part that has none itself, closes it.
    pub fn open_column(&mut self) {
        let (Some(kept), Some(base)) = (self.rows.kept().cloned(), self.rows.base()) else { return };
        let column = self.rows.view().column_in_hand();
        let (run, of_parts) = (self.rows.run().cloned(), self.is_part(column));
        self.parts_opened += 1;
        let mut into = base.clone();
        let stem = base.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        into.set_file_name(format!("{stem}-{}-{}.{PARTS}", std::process::id(), self.parts_opened));
        self.begin_work(Kind::Parts, "opening the column".into(), move |progress| {
            if let Some(run) = run {
                wait_for_rest(&run, progress);
            }
            let found = kept.archive().map_err(OpenError::from);
            let found = found.and_then(|archive| parts::open(&archive, column, &into, progress));
            if found.is_err() {
                // What was written so far is of no use.
                drop(std::fs::remove_file(&into));
            }
            Done::Parts { base, of: kept.path().to_owned(), of_parts, found }
        });
    }

    /// Whether a column is a part of the one that was opened last.
    fn is_part(&self, column: usize) -> bool {
        let stack = self.rows.base().and_then(|base| self.rows.opened.get(&base));
        let last = stack.and_then(|stack| stack.last());
        last.is_some_and(|opened| (opened.at..opened.at + opened.parts).contains(&column))
    }

    pub(in crate::app) fn take_parts(
        &mut self,
        base: PathBuf,
        of: &Path,
        of_parts: bool,
        found: Result<Opened, OpenError>,
    ) {
        // The rows in hand may be others by now.
        if self.rows.kept().is_none_or(|kept| kept.path() != of) {
            if let Ok(opened) = found {
                drop(std::fs::remove_file(opened.archive.path()));
            }
            return;
        }
        match found {
            Ok(Opened { archive, at, parts, left_out }) => {
                let kept = Arc::new(KeptRows::open(archive));
                self.rows.opened.entry(base).or_default().push(OpenedRows { kept, at, parts });
                self.rows.reopened(Some(at));
                let more = match left_out {
                    0 => String::new(),
                    more => format!("; {} more are not shown", words::number(more as u64)),
                };
                self.tell(format!("opened into {}{more} · X closes it", words::count(parts as u64, "column")));
            }
            Err(OpenError::NoParts(_)) if of_parts => self.close_column(),
            Err(error) => self.tell_wrong(error.to_string()),
        }
    }

    /// Closes the column that was opened last.
    pub fn close_column(&mut self) {
        let Some(base) = self.rows.base() else { return };
        let last = self.rows.opened.get_mut(&base).and_then(Vec::pop);
        match last {
            Some(opened) => self.rows.reopened(Some(opened.at)),
            None => self.tell("no column is open; x opens one that holds objects or lists"),
        }
    }
}

impl App {
    /// Writes the statement that changes the document in hand into the buffer.
    pub fn edit_document(&mut self) {
        let (Some(run), Some(kept)) = (self.rows.run().cloned(), self.rows.kept().cloned()) else { return };
        if self.buffer.document.outline().dialect().family != Family::Documents {
            let key = self.key_of("change-value").unwrap_or_default();
            return self.tell(format!("only documents are edited this way; {key} changes a value here"));
        }
        if self.rows.is_opened() {
            return self.tell("close the opened column first (X)");
        }
        if self.refuses_from_elsewhere() {
            return;
        }
        let view = self.rows.view();
        let row = view.row_of(view.row);
        self.begin_work(Kind::Value, "reading the document".into(), move |_| {
            let document = || -> Result<String, String> {
                let page =
                    kept.archive().and_then(|archive| archive.page(row, 1)).map_err(|error| error.to_string())?;
                let batch = page.batches.first().ok_or("no document here")?;
                let document = extended::document(batch, 0, false).map_err(|error| error.to_string())?;
                of_document(&run.statement, &document)
            };
            Done::Statement(document())
        });
    }
}

impl Rows {
    /// Goes over to the rows that are shown now, with this column in hand.
    fn reopened(&mut self, column: Option<usize>) {
        let before = self.view();
        let run = self.run.clone();
        if let Some(run) = &run {
            self.charts.retain(|(id, _), _| *id != run.id);
        }
        self.show(run);
        if let Some(view) = self.view_mut() {
            // The same row, as far as the order is its own.
            if before.arranged.arrangement.is_none() && view.arranged.arrangement.is_none() {
                (view.row, view.top) = (before.row, before.top);
            }
            if let Some(column) = column {
                view.column = column;
            }
        }
    }
}
