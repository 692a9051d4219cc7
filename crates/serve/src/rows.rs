//! Rows as documents: a page as an aligned table, which the editor shows beside the text.
//!
//! There is one document for each text, and it is written again, not added to. An editor that announces `showDocument`
//! reads it from a file of ours; one that only announces edits is sent it as one, and nothing is written then: what lies
//! on disk and what an editor changes must not meet. Where neither is there, the first rows come as a message.

use std::hash::{DefaultHasher, Hash, Hasher};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use jaunty_core::arrange::Progress;
use jaunty_core::arrange::pick::Part;
use jaunty_core::drawing::plan::{asked_about, of_rows, text as plan_text};
use jaunty_core::export::file::write;
use jaunty_core::export::{Format, Options};
use jaunty_core::files::{private_folder, replace};
use jaunty_core::run::execute::{keeps, kept_instead};
use jaunty_core::run::{Run, RunResult};
use jaunty_core::words;
use jaunty_language::dialect::Dialect;
use jaunty_language::text::clean::clean;
use serde_json::{Value, json};

use crate::client::{Asked, Weight};
use crate::state::{Server, Shown};
use crate::text::uri_of;
use crate::wire::Refusal;

/// Rows of a page.
pub(crate) const PAGE: u64 = 200;

/// How long documents stay that nobody was shown since.
const KEPT_FOR: Duration = Duration::from_secs(7 * 24 * 60 * 60);

/// More rows are not put into an editor at once.
const MOST_AT_ONCE: u64 = 50_000;

/// So many messages of the server stand above the rows.
const MESSAGES: usize = 40;

/// Rows that a message or help has.
const FEW: u64 = 10;

/// The first rows of a run as an aligned table, for help.
pub(crate) fn few_rows(run: &Run) -> Option<String> {
    table(run, 0, FEW).ok()
}

/// Rows of the first result of a run as an aligned table.
fn table(run: &Run, from: u64, count: u64) -> Result<String, String> {
    let kept = run.kept_rows().ok_or("the statement returned no rows")?;
    let archive = kept.archive().map_err(|error| error.to_string())?;
    let rows = from..from.saturating_add(count).min(archive.rows());
    written(&Part { rows, ..Part::whole(archive) }, Format::Table)
}

/// Rows in a format that is text.
fn written(part: &Part, format: Format) -> Result<String, String> {
    let mut out = Vec::new();
    write(part, format, &Options::default(), &mut out, &Progress::default()).map_err(|error| error.to_string())?;
    Ok(String::from_utf8_lossy(&out).into_owned())
}

/// The tree of a plan, where that is what a run asked for.
fn plan_of(run: &Run, dialect: Option<&'static Dialect>) -> Option<String> {
    let plans = dialect?.plans?;
    asked_about(&run.statement, plans)?;
    let archive = run.all_rows().last()?.archive().ok()?;
    Some(plan_text(&of_rows(&archive, plans).ok()?))
}

/// How a statement begins, without a password that stands in it.
pub(crate) fn first_line(statement: &str, dialect: Option<&'static Dialect>) -> String {
    let veiled = dialect.and_then(|dialect| kept_instead(statement, dialect));
    let text = veiled.as_deref().unwrap_or(statement);
    clean(text.lines().next().unwrap_or_default()).into_owned()
}

/// A page with what it is of above it, and where it lies below.
fn page(run: &Run, from: u64, dialect: Option<&'static Dialect>) -> String {
    let title = run.title.clone().unwrap_or_else(|| first_line(&run.statement, dialect));
    let place = [run.connection.as_str(), run.database.as_str()].join(" ");
    let head = format!("{} · {} · {}", clean(&title), clean(place.trim()), clean(&words::note(run, SystemTime::now())));
    let mut text = format!("{head}\n");
    let (messages, all) =
        run.said(|said| (said.kept().iter().take(MESSAGES).map(words::message).collect::<Vec<_>>(), said.count()));
    messages.iter().for_each(|message| text.push_str(&format!("{message}\n")));
    if all > messages.len() as u64 {
        text.push_str(&format!("… {} more\n", words::count(all - messages.len() as u64, "message")));
    }
    text.push('\n');
    if let Some(plan) = plan_of(run, dialect) {
        text.push_str(&plan);
        return text;
    }
    let results = run.results();
    let count = results.len();
    match table(run, from, PAGE) {
        Ok(rows) => text.push_str(&rows),
        Err(why) => {
            let affected = results.iter().find_map(|result| match result {
                RunResult::Affected(affected) => *affected,
                RunResult::Rows(_) => None,
            });
            let changed = affected.map(|rows| format!("{} changed\n", words::count(rows, "row")));
            text.push_str(&changed.unwrap_or_else(|| format!("{why}\n")));
        }
    }
    // Of several results the others follow, each with its first rows.
    for (number, result) in results.iter().enumerate().skip(1) {
        text.push_str(&format!("\nresult {} of {count}\n\n", number + 1));
        match result {
            RunResult::Rows(kept) => {
                let rows = kept.archive().map_err(|error| error.to_string()).and_then(|archive| {
                    written(&Part { rows: 0..PAGE.min(archive.rows()), ..Part::whole(archive) }, Format::Table)
                });
                text.push_str(&rows.unwrap_or_else(|why| format!("{why}\n")));
            }
            RunResult::Affected(rows) => {
                text.push_str(&format!("{} changed\n", words::count(rows.unwrap_or_default(), "row")));
            }
        }
    }
    let all = run.rows();
    if let Some(kept) = run.kept_rows().and_then(|kept| kept.rows()).filter(|kept| *kept > 0) {
        let to = from.saturating_add(PAGE).min(kept);
        let more = if to < kept { " · the next page is a code action of the statement" } else { "" };
        text.push_str(&format!(
            "\nrows {} to {} of {}{more}\n",
            words::number(from + 1),
            words::number(to),
            words::number(kept.max(all.min(kept)))
        ));
    }
    text
}

impl Server {
    /// Shows a page of a run beside a document.
    pub(crate) fn show_rows(&mut self, uri: &str, run: &Arc<Run>, from: u64) {
        self.show_rows_quietly(uri, run, from, false);
    }

    /// The same; quietly where it is in sight already.
    pub(crate) fn show_rows_quietly(&mut self, uri: &str, run: &Arc<Run>, from: u64, quietly: bool) {
        let rows = run.kept_rows().and_then(|kept| kept.archive().ok()).map_or(0, |archive| archive.rows());
        let from = if from >= rows { 0 } else { from };
        self.pages.insert(uri.to_owned(), Shown { run: Arc::clone(run), from });
        let few = few_rows(run).unwrap_or_default();
        let dialect = self.texts.get(uri).map(|text| text.dialect());
        self.show_document(uri, "rows.txt", &page(run, from, dialect), &few, quietly);
    }

    /// All rows of a run in a format that is text, as a document.
    pub(crate) fn show_all(&mut self, uri: &str, run: &Run, format: Format) -> Result<Value, Refusal> {
        let kept = run.kept_rows().ok_or_else(|| Refusal::failed("the statement returned no rows"))?;
        let archive = kept.archive().map_err(|error| Refusal::failed(error.to_string()))?;
        if archive.rows() > MOST_AT_ONCE {
            let most = words::number(MOST_AT_ONCE);
            return Err(Refusal::failed(format!(
                "more than {most} rows: send them to a file with an out-line, as --> rows.csv"
            )));
        }
        let text = written(&Part::whole(archive), format).map_err(Refusal::failed)?;
        self.show_document(uri, &format!("rows.{}", format.ending()), &text, "", false);
        Ok(Value::Null)
    }

    /// The file of a document that belongs to a text.
    pub(crate) fn shown_path(&self, uri: &str, kind: &str) -> PathBuf {
        let mut hasher = DefaultHasher::new();
        uri.hash(&mut hasher);
        let path = crate::text::path_of(uri);
        let stem = path.as_deref().and_then(|path| path.file_stem()).and_then(|stem| stem.to_str()).unwrap_or("text");
        self.shown_folder().join(format!("{:016x}", hasher.finish())).join(format!("{stem}.{kind}"))
    }

    /// Shows a document beside a text, by the best of the ways that the editor announces. Quietly, what is in sight is
    /// only written again.
    pub(crate) fn show_document(&mut self, uri: &str, kind: &str, text: &str, few: &str, quietly: bool) {
        let path = self.shown_path(uri, kind);
        let link = self.texts.get(uri).and_then(|text| self.link_of(text));
        if let Some(folder) = path.parent().filter(|_| link.is_some_and(|link| !keeps(&link.profile))) {
            self.passing.insert(folder.to_owned());
        }
        let shown = uri_of(&path);
        let can = self.client.can.clone();
        if can.shows_documents {
            match self.write_document(&path, text) {
                Ok(()) if quietly => {}
                Ok(()) => {
                    let wanted = json!({"uri": shown, "external": false, "takeFocus": false});
                    let instead = format!("the rows are in {}", path.display());
                    self.client.ask("window/showDocument", wanted, Asked::Shown(instead));
                }
                Err(error) => self.client.tell(Weight::Error, &error),
            }
        } else if can.edits {
            let edit = json!({"range": {"start": {"line": 0, "character": 0}, "end": {"line": i32::MAX, "character": 0}}, "newText": text});
            let edit = match (can.versioned, can.creates) {
                (true, true) => json!({"documentChanges": [
                    {"kind": "create", "uri": shown, "options": {"ignoreIfExists": true}},
                    {"textDocument": {"uri": shown, "version": null}, "edits": [edit]},
                ]}),
                (true, false) => {
                    json!({"documentChanges": [{"textDocument": {"uri": shown, "version": null}, "edits": [edit]}]})
                }
                (false, _) => json!({"changes": {shown.clone(): [edit]}}),
            };
            // Its folder has to be there for an editor that keeps it.
            if let Some(folder) = path.parent() {
                let _ = private_folder(folder);
            }
            self.client.ask("workspace/applyEdit", json!({"label": "rows", "edit": edit}), Asked::Nothing);
        } else if !few.is_empty() && !quietly {
            self.client.tell(Weight::Info, few);
        }
    }

    /// Removes what was shown of connections that keep nothing. For the end of the program.
    pub(crate) fn clear_documents(&self) {
        for folder in &self.passing {
            let _ = std::fs::remove_dir_all(folder);
        }
    }

    /// Removes documents that nobody was shown for a week: rows are in the archives, within their limit.
    pub(crate) fn sweep_documents(&self) {
        let old = |entry: &std::fs::DirEntry| {
            let changed = entry.metadata().and_then(|data| data.modified()).ok()?;
            Some(changed.elapsed().ok()? > KEPT_FOR)
        };
        let folders = std::fs::read_dir(self.shown_folder()).into_iter().flatten().flatten();
        for folder in folders {
            let files: Vec<_> = std::fs::read_dir(folder.path()).into_iter().flatten().flatten().collect();
            if files.iter().all(|file| file.path().is_file() && old(file).unwrap_or_default()) {
                let _ = std::fs::remove_dir_all(folder.path());
            }
        }
    }

    /// Writes a file that an editor is shown.
    pub(crate) fn write_document(&self, path: &std::path::Path, text: &str) -> Result<(), String> {
        let write = || {
            if let Some(folder) = path.parent() {
                private_folder(folder)?;
            }
            replace(path, text.as_bytes())
        };
        write().map_err(|error| format!("{} cannot be written: {error}", path.display()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect;

    #[test]
    fn a_statement_begins_without_its_password() {
        let postgres = dialect::by_name("postgresql").or_else(|| dialect::by_name("postgres"));
        assert!(postgres.is_some());
        let line = first_line("alter role clerk password 'salt and fog'\nvalid until 'tide'", postgres);
        assert!(line.starts_with("alter role clerk") && !line.contains("salt"), "{line}");
        assert_eq!(first_line("select \u{1b}[2J 1\nfrom x", None), clean("select \u{1b}[2J 1"));
    }
}
