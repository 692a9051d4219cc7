//! What is wrong in documents, told to the editor a moment after the last change: by signs and the catalog, by the
//! server, and by how statements ended that ran.

use std::sync::Arc;
use std::time::{Duration, Instant};

use jaunty_core::complete::Surroundings;
use jaunty_core::logbook::Outcome;
use jaunty_core::problems::{Problem, problems_at, that_count};
use jaunty_core::run::out_line::out_lines;
use jaunty_language::outline::StatementId;
use jaunty_language::split::Statement;
use jaunty_language::text::clean::clean_lines;
use jaunty_seam::catalog::Catalog;
use jaunty_seam::error::EngineError;
use serde_json::{Value, json};

use crate::link::{Link, State};
use crate::state::Server;
use crate::text::{Text, Troubles};

/// How long nothing is typed before documents are looked over.
const REST: Duration = Duration::from_millis(150);

/// Statements that are larger are not looked at.
const LARGEST: usize = 64 << 10;

/// The most statements of a document that are looked at, and whose problems are kept.
const MOST: usize = 20_000;

/// How long statements are looked at before something else has its turn.
const TURN: Duration = Duration::from_millis(25);

/// The most problems of a document that are told.
const MOST_TOLD: usize = 500;

impl Troubles {
    /// How long until the document is to be looked over; none if it was.
    pub(crate) fn rests_for(&self) -> Option<Duration> {
        self.changed.map(|then| REST.saturating_sub(then.elapsed()))
    }
}

impl Server {
    /// Looks documents over that nobody has typed in for a moment.
    pub(crate) fn look_for_trouble(&mut self) {
        let rested = |text: &&Text| text.troubles.changed.is_some_and(|then| then.elapsed() >= REST);
        let due: Vec<String> = self.texts.values().filter(rested).map(|text| text.uri.clone()).collect();
        for uri in due {
            self.tell_troubles(&uri);
        }
    }

    /// The documents of a connection are to be looked over again.
    pub(crate) fn look_again(&mut self, link: u64) {
        for text in self.texts.values_mut().filter(|text| text.link == Some(link)) {
            text.troubles.changed = Some(Instant::now());
        }
    }

    fn tell_troubles(&mut self, uri: &str) {
        let Some(mut text) = self.texts.remove(uri) else { return };
        text.troubles.changed = None;
        let link = text.link.and_then(|link| self.link(link));
        let Some(all) = looked_over(&mut text, link) else {
            // The rest is looked at in the next turn.
            text.troubles.changed = Instant::now().checked_sub(REST).or(Some(Instant::now()));
            self.texts.insert(uri.to_owned(), text);
            return;
        };
        if let Some((touched, link)) = text.troubles.touched.take().zip(link)
            && let Some((_, statement)) = text.statement_at(touched)
            && statement.closed
            && !text.is_code()
            && statement.body_end - statement.start <= LARGEST
        {
            link.check(text.id_of(statement), statement.text(&text.rope));
        }
        let diagnostics = Value::Array(all);
        let none = diagnostics == json!([]) && !self.told.contains_key(uri);
        if !none && self.told.get(uri) != Some(&diagnostics) {
            let told = json!({"uri": uri, "version": text.version, "diagnostics": diagnostics});
            self.client.notify("textDocument/publishDiagnostics", told);
            self.told.insert(uri.to_owned(), diagnostics);
        }
        self.texts.insert(uri.to_owned(), text);
    }
}

/// All that is wrong in a document, as the protocol has it; none while statements are left that were not looked at.
fn looked_over(text: &mut Text, link: Option<&Link>) -> Option<Vec<Value>> {
    let none = Catalog::default();
    let catalog = link.and_then(|link| link.catalog.as_deref()).unwrap_or(&none);
    let by = Some(catalog.read_ms).filter(|_| !catalog.objects().is_empty());
    if text.troubles.by != by || text.troubles.found.len() > MOST {
        text.troubles.by = by;
        text.troubles.found.clear();
    }
    let mut all = Vec::new();
    if let Some(held) = text.troubles.held.clone().filter(|_| link.is_none()) {
        all.push(diagnostic(text, 0..text.line(0).end, 2, &held, None));
    } else if let Some(name) = text.connection_line().filter(|_| link.is_none()) {
        let message = format!("no connection is named {name}; `jaunty connections` lists them");
        all.push(diagnostic(text, 0..text.line(0).end, 2, &message, None));
    }
    if let Some(State::Failed(error)) = link.map(|link| &link.state) {
        let message = format!("{}{}", error.step_words(), error.explain("", 1));
        all.push(diagnostic(text, 0..text.line(0).end, 2, &message, error.code.as_deref()));
    }
    let mut spent = Duration::ZERO;
    let statements: Vec<Statement> = text.outline.statements().iter().take(MOST).copied().collect();
    for statement in &statements {
        if all.len() >= MOST_TOLD {
            break;
        }
        for line in out_lines(statement, &text.rope, text.dialect()) {
            if let Err(error) = line.target {
                all.push(diagnostic(text, error.range, 1, &error.message, None));
            }
        }
        if statement.body_end - statement.start > LARGEST {
            continue;
        }
        let written = statement.text(&text.rope);
        let id = StatementId::of(&written);
        let found = match text.troubles.found.get(&id) {
            Some(found) => Arc::clone(found),
            None if spent > TURN => return None,
            None => {
                let begun = Instant::now();
                let found = find_in(text, statement, (id, &written), catalog);
                spent += begun.elapsed();
                found
            }
        };
        let said = link.and_then(|link| link.checked.get(&id));
        let failed = link.and_then(|link| failed(link, id));
        let around = Surroundings { catalog, dialect: text.dialect(), snippets: &[], nearby: "" };
        let refused = |error: &EngineError| Problem::refused(error, &written, around);
        for problem in that_count(&found, said.map(|said| said.as_ref().map(refused))) {
            let bytes = problem.bytes_in(&text.rope, statement.start, statement.body_end);
            let bytes = if bytes.is_empty() { statement.start..statement.body_end } else { bytes };
            all.push(diagnostic(text, bytes, if problem.taken { 2 } else { 1 }, &problem.sentence(), None));
        }
        if let Some(error) =
            failed.filter(|_| said.is_none_or(Option::is_none) && found.iter().all(|problem| problem.taken))
        {
            let problem = refused(error);
            let bytes = problem.bytes_in(&text.rope, statement.start, statement.body_end);
            let bytes = if bytes.is_empty() { statement.start..statement.body_end } else { bytes };
            let remedy = error.remedy.as_ref().map(|remedy| format!("\n{remedy}")).unwrap_or_default();
            all.push(diagnostic(text, bytes, 1, &format!("{}{remedy}", problem.sentence()), error.code.as_deref()));
        }
    }
    all.truncate(MOST_TOLD);
    Some(all)
}

/// The error that the last run of a statement ended with.
fn failed(link: &Link, id: StatementId) -> Option<&EngineError> {
    let run = link.runs.get(&id).filter(|run| run.outcome() == Outcome::Failed)?;
    run.end()?.error.as_ref()
}

/// What the server refused a statement for, when it was asked about it or when it ran, with what was meant.
pub(crate) fn refused(text: &Text, id: StatementId, written: &str, link: &Link) -> Option<Problem> {
    let error = link.checked.get(&id).and_then(Option::as_ref).or_else(|| failed(link, id))?;
    let none = Catalog::default();
    let catalog = link.catalog.as_deref().unwrap_or(&none);
    let around = Surroundings { catalog, dialect: text.dialect(), snippets: &[], nearby: "" };
    Some(Problem::refused(error, written, around))
}

/// Looks at a statement, by its signs and the catalog, and keeps what is found.
fn find_in(
    text: &mut Text,
    statement: &Statement,
    (id, written): (StatementId, &str),
    catalog: &Catalog,
) -> Arc<Vec<Problem>> {
    let around = Surroundings { catalog, dialect: text.dialect(), snippets: &[], nearby: "" };
    let mut found = problems_at(&text.rope, statement.start, written, around);
    // A program may put a statement together from several literals: only names that are not there are told then.
    if text.is_code() {
        found.retain(|problem| !problem.near.is_empty());
    }
    let found = Arc::new(found);
    text.troubles.found.insert(id, Arc::clone(&found));
    found
}

fn diagnostic(text: &Text, bytes: std::ops::Range<usize>, severity: u8, message: &str, code: Option<&str>) -> Value {
    let mut told = json!({
        "range": text.range(&bytes),
        "severity": severity,
        "source": "jaunty",
        "message": clean_lines(message),
    });
    if let Some(code) = code {
        told["code"] = json!(code);
    }
    told
}
