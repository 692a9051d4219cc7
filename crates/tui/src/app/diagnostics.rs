//! What is wrong with statements while they are written: by their signs and the catalog at once, and
//! by the server a moment after the last key.

use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;
use std::time::{Duration, Instant};

use jaunty_core::complete::Surroundings;
use jaunty_core::logbook::Outcome;
use jaunty_core::problems::{Problem, may_be_checked, problems_at, that_count};
use jaunty_core::run::{Order, Run};
use jaunty_core::words;
use jaunty_language::dialect::Family;
use jaunty_language::edit::document::Motion;
use jaunty_language::outline::{Outline, StatementId};
use jaunty_language::split::Statement;
use jaunty_seam::catalog::Catalog;
use jaunty_seam::error::{EngineError, ErrorKind};
use ropey::Rope;

use super::{App, Item, Link, List, Overlay, Pick};
use crate::work::{Done, Kind};

/// How long nothing is typed before the server is asked.
const REST: Duration = Duration::from_millis(600);

/// Statements that are larger are not looked at.
const LARGEST: usize = 64 << 10;

/// So many statements are looked at between two frames; more of them beside the screen.
const AT_ONCE: usize = 100;

/// So many statements of a buffer are looked at for a list.
const MOST_LISTED: usize = 20_000;

/// The most statements whose problems are kept.
const MOST: usize = 4096;

/// What is known of statements' problems.
#[derive(Debug, Default)]
pub struct Diagnostics {
    found: HashMap<StatementId, Arc<Vec<Problem>>>,
    checked: HashMap<StatementId, Option<Problem>>,
    /// The catalog that was looked at.
    by: Option<(u64, usize)>,
    /// When the text was changed last, and whether the server is still to be asked about it.
    changed: Option<Instant>,
    revision: u64,
}

impl Diagnostics {
    /// What is known to be wrong with a statement. What the server takes is right, whatever the
    /// catalog says; of what it refuses, ours comes first, since it says more and where.
    pub fn of(&self, id: StatementId) -> Vec<Problem> {
        let found = self.found.get(&id).map(|found| found.as_slice()).unwrap_or_default();
        that_count(found, self.checked.get(&id).cloned())
    }

    /// Whether a problem is the one that the server stumbled over when the statement ran.
    pub fn is_meant(&self, id: StatementId, problem: &Problem, error: &EngineError) -> bool {
        let is_said = self.checked.get(&id).is_some_and(|said| said.as_ref() == Some(problem));
        is_said || problem.is_meant_by(error)
    }

    /// How long until the server is to be asked.
    pub(super) fn rests_for(&self) -> Option<Duration> {
        self.changed.map(|then| REST.saturating_sub(then.elapsed()).max(Duration::from_millis(10)))
    }
}

impl App {
    /// Looks at the statements in sight, as far as they were not looked at.
    pub(super) fn look_for_trouble(&mut self) {
        let catalog = self.connection.catalog.clone();
        let by = catalog.as_ref().map(|catalog| (catalog.read_ms, catalog.others.len()));
        if self.troubles.by != by {
            self.troubles = Diagnostics {
                by,
                changed: self.troubles.changed,
                revision: self.troubles.revision,
                ..Diagnostics::default()
            };
        }
        if self.troubles.found.len() > MOST {
            self.troubles.found.clear();
            self.troubles.checked.clear();
        }
        let document = &self.buffer.document;
        if self.troubles.revision != document.revision() {
            self.troubles.revision = document.revision();
            self.troubles.changed = Some(Instant::now());
        }
        let (rope, outline) = (document.rope(), document.outline());
        let height = usize::from(self.areas().buffer.height);
        let lines = self.buffer.top..(self.buffer.top + height).min(rope.len_lines());
        let bytes = rope.line_to_byte(lines.start.min(rope.len_lines()))..rope.line_to_byte(lines.end);
        let statements = outline.statements();
        let from = statements.partition_point(|s| s.end < bytes.start);
        let none = Catalog::default();
        let catalog = catalog.as_deref().unwrap_or(&none);
        for statement in statements.get(from..).unwrap_or_default().iter().take_while(|s| s.start < bytes.end) {
            if statement.body_end - statement.start > LARGEST {
                continue;
            }
            let id = self.buffer.id_of(statement);
            if self.troubles.found.contains_key(&id) {
                continue;
            }
            let text = statement.text(rope);
            let around = Surroundings { catalog, dialect: outline.dialect(), snippets: &[], nearby: "" };
            let found = problems_at(rope, statement.start, &text, around);
            self.troubles.found.insert(id, Arc::new(found));
        }
    }

    /// Asks the server about the statement at the cursor, once nothing is typed for a moment.
    pub(super) fn ask_about_trouble(&mut self) {
        if self.troubles.changed.is_none_or(|then| then.elapsed() < REST) {
            return;
        }
        self.troubles.changed = None;
        let profile = self.connection.profile.as_ref();
        let allowed = profile.is_some_and(may_be_checked);
        if !allowed || self.connection.is_busy() || !matches!(self.connection.link, Link::Open) {
            return;
        }
        let document = &self.buffer.document;
        let statement = document.statement();
        // Of documents the brackets tell whether one is whole.
        let whole = |s: &&Statement| s.closed || document.outline().dialect().family == Family::Documents;
        let Some(statement) = statement.filter(|s| whole(s) && s.body_end - s.start <= LARGEST) else { return };
        let text = statement.text(document.rope());
        let id = self.buffer.id_of(statement);
        if !self.troubles.checked.contains_key(&id) {
            self.connection.ask(Order::Check(id, text));
        }
    }

    pub(super) fn checked(&mut self, id: StatementId, error: Option<EngineError>) {
        let said = error.as_ref().map(|error| self.refused(id, error));
        self.troubles.checked.insert(id, said);
    }

    /// What the server says of a statement that it refuses.
    fn refused(&self, id: StatementId, error: &EngineError) -> Problem {
        let document = &self.buffer.document;
        let is_it = |statement: &&Statement| self.buffer.id_of(statement) == id;
        let statement = document.statement().filter(is_it);
        let (Some(statement), Some(catalog)) = (statement, &self.connection.catalog) else {
            return Problem::of_server(error);
        };
        let dialect = document.outline().dialect();
        Problem::refused(
            error,
            &statement.text(document.rope()),
            Surroundings { catalog, dialect, snippets: &[], nearby: "" },
        )
    }

    /// Marks a statement whose run has failed, where the catalog knows the name that was meant; one that was done is right.
    pub(super) fn mark_failed(&mut self, run: &Run) {
        if run.outcome() == Outcome::Done && self.troubles.checked.get(&run.id).is_some_and(Option::is_some) {
            self.troubles.checked.remove(&run.id);
        }
        let Some(error) = run.end().and_then(|end| end.error.clone()).filter(|error| error.kind == ErrorKind::Refused)
        else {
            return;
        };
        let said = self.refused(run.id, &error);
        if !said.near.is_empty() {
            self.troubles.checked.insert(run.id, Some(said));
        }
    }

    /// The problems of a statement, by their bytes in the buffer.
    pub fn problems_of(&self, statement: &Statement) -> Vec<(Range<usize>, Problem)> {
        let rope = self.buffer.document.rope();
        let cursor = self.buffer.document.cursor();
        let typing = self.troubles.changed.is_some();
        if statement.body_end - statement.start > LARGEST {
            return Vec::new();
        }
        let all = self.troubles.of(self.buffer.id_of(statement));
        let placed =
            all.into_iter().map(|problem| (problem.bytes_in(rope, statement.start, statement.body_end), problem));
        // The word that is just being written is not finished.
        placed.filter(|(range, _)| !(typing && (range.end == cursor || range.is_empty()))).collect()
    }

    /// What is wrong at the cursor, or else in its statement; within a call only what is wrong with a word at the cursor: what
    /// the argument is that comes next says more than that a sign is missing or one too many.
    pub fn problem_at_cursor(&self) -> Option<String> {
        let document = &self.buffer.document;
        let statement = document.statement()?;
        let all = self.problems_of(statement);
        let cursor = document.cursor();
        let in_call = self.call().is_some();
        let is_word = |range: &Range<usize>| {
            document.rope().get_byte_slice(range.clone()).is_some_and(|part| part.chars().any(char::is_alphanumeric))
        };
        let here =
            all.iter().find(|(range, _)| range.start <= cursor && cursor <= range.end && (!in_call || is_word(range)));
        // Elsewhere in the statement it can wait until nothing is typed.
        let first = all.first().filter(|_| self.troubles.changed.is_none() && !in_call);
        here.or(first).map(|(_, problem)| problem.sentence())
    }

    /// Goes to the next problem of the buffer.
    pub fn next_problem(&mut self) {
        self.look_through(LookedFor::Next);
    }

    /// Lists the problems of the buffer.
    pub fn list_problems(&mut self) {
        self.look_through(LookedFor::List);
    }

    /// Looks at all statements of the buffer, beside the screen where they are many.
    fn look_through(&mut self, meant: LookedFor) {
        let document = &self.buffer.document;
        let (rope, outline) = (document.rope().clone(), document.outline().clone());
        let catalog = self.connection.catalog.clone().unwrap_or_default();
        let known: HashMap<StatementId, Vec<Problem>> = self
            .troubles
            .found
            .keys()
            .chain(self.troubles.checked.keys())
            .map(|id| (*id, self.troubles.of(*id)))
            .collect();
        let count = outline.statements().len().min(MOST_LISTED);
        if count <= AT_ONCE {
            let found = all_problems(&rope, &outline, &catalog, &known, || true);
            return self.take_problems(meant, &found.unwrap_or_default());
        }
        let (path, revision) = (self.buffer.path.clone(), document.revision());
        let what = format!("looking at {}", words::count(count as u64, "statement"));
        self.begin_work(Kind::Problems, what, move |progress| {
            progress.expect(count as u64);
            let found = all_problems(&rope, &outline, &catalog, &known, || progress.advance(1).is_ok());
            Done::Problems(path, revision, meant, found)
        });
    }

    /// Does what was meant with the problems of the buffer in hand.
    pub(super) fn take_problems(&mut self, meant: LookedFor, all: &[ProblemAt]) {
        if all.is_empty() {
            return self.tell("no problems in this buffer");
        }
        match meant {
            LookedFor::Next => {
                let cursor = self.buffer.document.cursor();
                let next = all.iter().find(|placed| placed.at > cursor).or_else(|| all.first());
                if let Some(ProblemAt { at, problem, .. }) = next {
                    self.buffer.document.go(Motion::To(*at), false);
                    self.tell(problem.sentence());
                }
            }
            LookedFor::List => {
                let item = |ProblemAt { at, line, problem }: &ProblemAt| Item {
                    label: problem.sentence(),
                    key: format!("line {line}"),
                    help: String::new(),
                    pick: Pick::Place(*at),
                };
                self.overlay = Some(Overlay::List(List::new("problems", all.iter().map(item).collect())));
            }
        }
    }
}

/// What the problems of a buffer are wanted for.
#[derive(Debug, Clone, Copy)]
pub enum LookedFor {
    /// To go to the next one.
    Next,
    /// To be listed.
    List,
}

/// A problem, the byte of the buffer where it stands, and its line, from 1.
#[derive(Debug)]
pub struct ProblemAt {
    at: usize,
    line: usize,
    problem: Problem,
}

/// The problems of all statements of a text: `go_on` is asked before each statement. None where it was stopped.
fn all_problems(
    rope: &Rope,
    outline: &Outline,
    catalog: &Catalog,
    known: &HashMap<StatementId, Vec<Problem>>,
    mut go_on: impl FnMut() -> bool,
) -> Option<Vec<ProblemAt>> {
    let around = Surroundings { catalog, dialect: outline.dialect(), snippets: &[], nearby: "" };
    let mut all = Vec::new();
    for statement in outline.statements().iter().take(MOST_LISTED) {
        if !go_on() {
            return None;
        }
        let text = statement.text(rope);
        let found = match known.get(&StatementId::of(&text)) {
            Some(known) => known.clone(),
            None if text.len() > LARGEST => continue,
            None => problems_at(rope, statement.start, &text, around),
        };
        all.extend(found.into_iter().map(|problem| {
            let at = statement.start + problem.range.start;
            ProblemAt { at, line: rope.byte_to_line(at) + 1, problem }
        }));
    }
    Some(all)
}
