//! Running statements: those of the buffer, and those that are put there.

use jaunty_core::connection::Guard;
use jaunty_core::logbook::Outcome;
use jaunty_core::run::Job;
use jaunty_core::run::desk::{Why, jobs};
use jaunty_core::run::execute::kept_instead;
use jaunty_core::run::out_line::out_lines;
use jaunty_core::text::clean;
use jaunty_core::text::document::Motion;
use jaunty_core::text::outline::StatementId;
use jaunty_core::text::snippet::unfilled;
use jaunty_core::text::split::Statement;

use super::{Answered, App, Question, Summoned};
use crate::words;

impl App {
    /// Runs the statement at the cursor, or those that are selected.
    pub fn run_statement(&mut self) {
        let document = &self.buffer.document;
        let range = match document.selection() {
            Some(selection) => {
                let within = document.outline().within(selection.clone());
                // A part of one statement is run as it is selected.
                if within.len() == 1 {
                    return self.run_selected(selection);
                }
                within
            }
            None => document.current().map_or(0..0, |at| at..at + 1),
        };
        self.run_range(range);
    }

    fn run_selected(&mut self, selection: std::ops::Range<usize>) {
        let document = &self.buffer.document;
        let text = document.rope().byte_slice(selection.clone()).to_string();
        let statement = text.trim().trim_end_matches(';').trim_end().to_owned();
        let whole = document.statement();
        let title = whole.and_then(|s| s.title_text(document.rope(), document.outline().dialect()));
        if statement.is_empty() {
            return self.tell("there is no statement in the selection");
        }
        if let Some(place) = unfilled(&statement, document.outline().dialect()) {
            let start = selection.start + text.find(&statement).unwrap_or(0);
            return self.fill_in_first(start + place.start..start + place.end);
        }
        let kept = kept_instead(&statement, document.outline().dialect());
        let buffer = Some(self.buffer.path.clone());
        self.ask_for_values(vec![Job { statement, kept, title, buffer, ..Job::default() }]);
    }

    /// Runs every statement of the buffer.
    pub fn run_all(&mut self) {
        self.run_range(0..self.buffer.document.outline().statements().len());
    }

    fn run_range(&mut self, range: std::ops::Range<usize>) {
        let statements = self.buffer.document.outline().statements().get(range.clone()).unwrap_or_default();
        if self.buffer.document.awaits_outline() {
            return self.tell("the statements of this buffer are still being found; run it when they are");
        }
        if statements.is_empty() {
            return self.tell("there is no statement here");
        }
        if let Some(open) = statements.iter().find(|s| !s.closed) {
            let line = self.buffer.document.rope().byte_to_line(open.start) + 1;
            return self.tell_wrong(format!(
                "the statement at line {line} has a quote or comment that never closes; close it and run it again"
            ));
        }
        let (rope, dialect) = (self.buffer.document.rope(), self.buffer.document.outline().dialect());
        let unfilled = |s: &Statement| {
            let place = unfilled(&s.text(rope), dialect)?;
            Some(s.start + place.start..s.start + place.end)
        };
        if let Some(place) = statements.iter().find_map(unfilled) {
            return self.fill_in_first(place);
        }
        let wrong = statements.iter().flat_map(|s| out_lines(s, rope, dialect)).find_map(|line| line.target.err());
        if let Some(error) = wrong {
            let line = rope.byte_to_line(error.range.start) + 1;
            self.go(Motion::To(error.range.start), false);
            return self.tell_wrong(format!("line {line}: {}; nothing was run", error.message));
        }
        if let [_, _, ..] = statements {
            self.connection.run_together(statements.iter().map(|s| self.buffer.id_of(s)).collect());
        }
        let jobs = jobs(&self.buffer.document, range, Some(&self.buffer.path));
        self.ask_for_values(jobs);
    }

    /// Goes to a place that has to be filled in before its statement can run.
    fn fill_in_first(&mut self, place: std::ops::Range<usize>) {
        let name = self.buffer.document.rope().byte_slice(place.clone()).to_string();
        self.go(Motion::To(place.start), false);
        self.go(Motion::To(place.end), true);
        self.tell_wrong(format!("fill in {} first; nothing was run", clean::clean(&name)));
    }

    pub(super) fn order(&mut self, jobs: Vec<Job>) {
        if !self.connection.has_desk() {
            return self.list_connections();
        }
        self.told = None;
        let before = self.connection.running().cloned();
        if let Some(run) = &before {
            let title = run.title.as_deref().unwrap_or("the statement that runs");
            self.tell(format!("runs after {title}"));
            // One that waits for readers makes room for one that does not.
            if run.is_held() {
                run.stop();
            }
        }
        self.connection.begin(jobs);
    }

    /// Puts a statement that shows an object's rows at the end of the buffer, and runs it. One that
    /// stands there already is used again.
    pub(super) fn look_at_object(&mut self, schema: &str, name: &str) {
        let profile = self.connection.profile.as_ref();
        let engine = profile.and_then(|p| self.engines.iter().find(|engine| engine.name() == p.engine));
        let Some(engine) = engine else { return };
        let here = self.connection.place.as_ref().map_or("", |place| place.schema.as_str());
        let statement = engine.look_at(schema, name, here);
        self.put_and_run(&statement);
    }

    /// Puts a statement at the end of the buffer, and runs it. One that stands there already is used
    /// again.
    pub(super) fn put_and_run(&mut self, statement: &str) {
        self.put_statement(statement);
        self.run_statement();
    }

    /// Puts a statement at the end of the buffer, or goes to it where it stands already.
    pub(super) fn put_statement(&mut self, statement: &str) {
        let end = if self.buffer.document.outline().dialect().lines { "" } else { ";" };
        let id = StatementId::of(statement);
        let document = &mut self.buffer.document;
        let there = document.outline().statements().iter().find(|s| StatementId::of(&s.text(document.rope())) == id);
        match there.map(|s| s.start) {
            Some(start) => document.go(Motion::To(start), false),
            None => {
                self.begin_statement_at_end();
                let document = &mut self.buffer.document;
                document.insert(&format!("{statement}{end}\n"));
                document.go(Motion::PreviousStatement, false);
            }
        }
    }

    /// After several statements: says where it ended if it did not get to the end.
    pub(super) fn after_runs(&mut self, left_out: usize) {
        if left_out == 0 {
            return;
        }
        let Some(run) = self.connection.newest_run().filter(|run| run.outcome() != Outcome::Done).cloned() else {
            return;
        };
        let document = &self.buffer.document;
        let at = document.outline().statements().iter().find(|s| StatementId::of(&s.text(document.rope())) == run.id);
        let line = at.map(|s| (s.start, document.rope().byte_to_line(s.start) + 1));
        if let Some((start, line)) = line {
            self.go(Motion::To(start), false);
            let left = words::count(left_out as u64, "statement");
            self.tell_wrong(format!("{} at line {line}; {left} after it not run", run.outcome().word()));
        }
    }

    pub(super) fn ask_first(&mut self, jobs: Vec<Job>, why: Why) {
        let Some(job) = jobs.first() else { return };
        let name = self.connection.name();
        let guard = self.connection.profile.as_ref().map_or(Guard::Ask, |profile| profile.guard);
        let (text, mut about) = match why {
            Why::TransactionLost => (
                format!("The connection of {name} was lost with a transaction open: nothing of it was kept."),
                vec!["What runs now runs on a new connection, outside that transaction.".to_owned()],
            ),
            Why::Writes(effect) => (format!("{name} {}", words::asks(guard)), words::effect(effect)),
            Why::TwoReadings(shorter) => (
                "Is this one statement? No semicolon says where it ends, and the server could not be asked.".to_owned(),
                vec![format!(
                    "yes runs all of it; a semicolon after \"{}\" makes two of it",
                    clean::clean(shorter.lines().last().unwrap_or_default().trim())
                )],
            ),
        };
        about.extend(job.statement.lines().take(4).map(|line| format!("  {}", clean::clean(line))));
        if job.statement.lines().count() > 4 {
            about.push("  …".to_owned());
        }
        let answers = &[('y', "yes, run it", Answered::Run), ('n', "no", Answered::Nothing)];
        self.summoned = Some(Summoned::Question(Question { jobs, about, ..Question::new(text, answers) }));
    }
}
