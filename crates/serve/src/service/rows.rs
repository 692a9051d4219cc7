//! Kept rows: by page, and into files. And the runs that they are of.

use std::path::Path;
use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use chrono::Local;
use jaunty_core::archive::Archive;
use jaunty_core::arrange::Progress;
use jaunty_core::arrange::pick::Part;
use jaunty_core::export::file::{save, write};
use jaunty_core::export::{Format, Options as Written};
use jaunty_core::logbook::{Entry, Query};
use jaunty_core::run::Run;
use jaunty_core::words;
use serde_json::{Value, json};

use super::given::{Given, failed, flag, number, text};
use super::told::{columns, entry_json};
use super::{Outcome, Service};
use crate::wire::Refusal;

/// Rows of a page where nobody says how many.
const PAGE: u64 = 100;

/// The most rows of a page.
const MOST_ROWS: u64 = 10_000;

impl Service {
    fn entry(&self, given: &Given) -> Result<Entry, Refusal> {
        let run = number(given, "run").and_then(|run| i64::try_from(run).ok()).unwrap_or_default();
        let logbook = self.options.keeping.logbook().ok_or_else(|| Refusal::failed("there is no logbook"))?;
        let entry = logbook.entry(run).map_err(failed)?;
        entry.ok_or_else(|| Refusal::failed(format!("no run {run} is in the logbook")))
    }

    fn kept(&self, given: &Given) -> Result<(Archive, Entry), Refusal> {
        let entry = self.entry(given)?;
        let with_rows = entry.archives();
        let result = number(given, "result").unwrap_or(1);
        let at = usize::try_from(result).ok().and_then(|result| result.checked_sub(1));
        let path = at.and_then(|at| with_rows.get(at)).ok_or_else(|| {
            let count = words::count(with_rows.len() as u64, "result");
            Refusal::failed(format!("run {} has {count} with rows, and no number {result}", entry.number))
        })?;
        let archive = Archive::open(path).map_err(failed)?;
        Ok((archive, entry))
    }

    pub(super) fn rows_page(&self, given: &Given) -> Outcome {
        let (archive, _) = self.kept(given)?;
        let of = archive.rows();
        let from = number(given, "from").unwrap_or_default().min(of);
        let count = number(given, "count").unwrap_or(PAGE).min(MOST_ROWS);
        let columns = columns(&archive.schema());
        let part = Part { rows: from..from.saturating_add(count).min(of), ..Part::whole(Arc::new(archive)) };
        let word = given.get("format").and_then(Value::as_str).unwrap_or("json");
        let format = Format::from_word(word).filter(|format| format.is_text() || *format == Format::Arrow);
        let format = format.ok_or_else(|| Refusal::params(format!("{word} is not a format of a page")))?;
        let mut out = Vec::new();
        write(&part, format, &Written::default(), &mut out, &Progress::default()).map_err(failed)?;
        let mut page = json!({"from": from, "of": of, "columns": columns});
        match format {
            Format::Json => page["rows"] = serde_json::from_slice(&out).map_err(failed)?,
            Format::Arrow => page["content"] = json!(STANDARD.encode(&out)),
            _ => page["content"] = json!(String::from_utf8_lossy(&out)),
        }
        Ok(page)
    }

    pub(super) fn rows_export(&self, given: &Given) -> Outcome {
        let (archive, entry) = self.kept(given)?;
        let path = Path::new(text(given, "path"));
        let ending = || path.extension()?.to_str().and_then(Format::from_ending);
        let format = match given.get("format").and_then(Value::as_str) {
            Some(word) => Format::from_word(word),
            None => ending(),
        };
        let format =
            format.ok_or_else(|| Refusal::params("neither the ending of path nor format says which format"))?;
        let mut options = Written { texts: Run::remembered(entry).texts(), ..Written::default() };
        for (key, value) in given.get("options").and_then(Value::as_object).into_iter().flatten() {
            let word = format!("{key}={}", value.as_str().unwrap_or_default());
            options.take(format, &word).map_err(Refusal::params)?;
        }
        if path.exists() && !flag(given, "replace") {
            return Err(Refusal::failed(format!("{} is there already; replace: true replaces it", path.display())));
        }
        let part = Part::whole(Arc::new(archive));
        let rows = save(&part, path, format, &options, &Progress::default()).map_err(failed)?;
        Ok(json!({"rows": rows}))
    }

    pub(super) fn logbook_find(&self, given: &Given) -> Outcome {
        let written = text(given, "query");
        if let Some(mistake) = Query::mistake(written) {
            return Err(Refusal::params(mistake));
        }
        let query = Query::read(written, Local::now().date_naive());
        let count = usize::try_from(number(given, "count").unwrap_or(50)).unwrap_or(usize::MAX);
        let logbook = self.options.keeping.logbook().ok_or_else(|| Refusal::failed("there is no logbook"))?;
        let entries = logbook.find(&query, count).map_err(failed)?;
        Ok(entries.iter().map(entry_json).collect())
    }
}
