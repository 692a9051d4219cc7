//! Running statements: those of the buffer, and those that are put there.

use jaunty_core::logbook::Outcome;
use jaunty_core::reveal::depends::depends;
use jaunty_core::reveal::rules::{meanwhile, new_rules};
use jaunty_core::run::connection_worker::Why;
use jaunty_core::run::execute::kept_instead;
use jaunty_core::run::prepare::{Meant, Prepared, Unready, noted, prepare};
use jaunty_core::run::{Job, Run};
use jaunty_language::dialect::TransactionWords;
use jaunty_language::edit::document::Motion;
use jaunty_language::edit::snippet::unfilled;
use jaunty_language::outline::StatementId;
use jaunty_language::statement::parameters;
use jaunty_language::text::clean;
use jaunty_seam::profile::Guard;

use super::before::COUNTING;
use super::{Answered, App, Overlay, Question};
use crate::action::Scope;
use crate::work::{Done, Kind};
use jaunty_core::words;

/// So many statements are got ready between two frames; more of them beside the screen.
const AT_ONCE: usize = 100;

impl App {
    /// Runs the statement at the cursor, or those that are selected.
    pub fn run_statement(&mut self) {
        let document = &self.buffer.document;
        let meant = match document.selection() {
            Some(selection) => {
                let within = document.outline().within(selection.clone());
                // A part of one statement is run as it is selected.
                if within.len() == 1 {
                    return self.run_selected(selection);
                }
                Meant::All(within)
            }
            None => document.current().map_or(Meant::All(0..0), Meant::One),
        };
        self.run_meant(meant);
    }

    fn run_selected(&mut self, selection: std::ops::Range<usize>) {
        let document = &self.buffer.document;
        let text = document.rope().byte_slice(selection.clone()).to_string();
        let statement = text.trim().trim_end_matches(';').trim_end().to_owned();
        let whole = document.statement();
        let title = whole.and_then(|s| s.title_text(document.rope(), document.outline().dialect()));
        if statement.is_empty() {
            return self.tell("no statement in the selection");
        }
        if let Some(place) = unfilled(&statement, document.outline().dialect()) {
            let start = selection.start + text.find(&statement).unwrap_or(0);
            return self.fill_in_first(start + place.start..start + place.end);
        }
        let kept = kept_instead(&statement, document.outline().dialect());
        let buffer = Some(self.buffer.path.clone());
        let (rope, dialect) = (document.rope(), document.outline().dialect());
        let names = parameters::names(&statement, dialect);
        let code = self.buffer.code.as_ref();
        let values = noted(&names, (rope, code), whole.map_or(selection.start, |whole| whole.start), dialect);
        let start = selection.start + text.find(&statement).unwrap_or(0);
        let bytes = start..start + statement.len();
        let exact = match code.map_or(Ok(None), |code| code.exact(bytes, dialect)) {
            Ok(exact) => exact,
            Err(escape) => return self.run_prepared(Err(Unready::Escaped(escape))),
        };
        self.ask_for_values(vec![Job { statement, exact, kept, title, buffer, values, ..Job::default() }], vec![names]);
    }

    /// Runs every statement of the buffer.
    pub fn run_all(&mut self) {
        if self.runs_as_script() {
            return;
        }
        self.run_meant(Meant::All(0..self.buffer.document.outline().statements().len()));
    }

    fn run_meant(&mut self, meant: Meant) {
        let range = meant.range();
        self.aside = None;
        // What is run now is what is wanted, and not the script that ran before.
        if self.rows.run().is_some_and(|run| run.script().is_some()) {
            self.rows.hold(None);
        }
        if self.buffer.document.awaits_outline() {
            return self.tell("still finding the statements of this buffer; run it when that is done");
        }
        if range.is_empty() {
            return self.tell("no statement here");
        }
        let (rope, outline) = (self.buffer.document.rope(), self.buffer.document.outline());
        if range.len() <= AT_ONCE {
            let prepared = prepare((rope, self.buffer.code.as_ref()), outline, meant, Some(&self.buffer.path), || true);
            return self.run_prepared(prepared);
        }
        let (rope, outline, code) = (rope.clone(), outline.clone(), self.buffer.code.clone());
        let (path, revision) = (self.buffer.path.clone(), self.buffer.document.revision());
        let connection = self.connection.number;
        let what = format!("preparing {}", words::count(range.len() as u64, "statement"));
        self.begin_work(Kind::Prepare, what, move |progress| {
            progress.expect(range.len() as u64);
            let prepared =
                prepare((&rope, code.as_ref()), &outline, meant, Some(&path), || progress.advance(1).is_ok());
            Done::Prepared(path, revision, connection, prepared)
        });
    }

    /// Runs statements of the buffer in hand that are ready, or says why they are not.
    pub(super) fn run_prepared(&mut self, prepared: Result<Prepared, Unready>) {
        let line = |app: &App, at: usize| app.buffer.document.rope().byte_to_line(at) + 1;
        match prepared {
            Ok(Prepared { mut jobs, names, noted, ids, .. }) => {
                if ids.len() > 1 {
                    self.connection.run_together(ids);
                }
                jobs.iter_mut().zip(noted).for_each(|(job, noted)| job.values = noted);
                self.ask_for_values(jobs, names);
            }
            Err(Unready::NeverCloses(at)) => self.tell_wrong(format!(
                "the statement at line {} has a quote or comment that never closes; close it and run it again",
                line(self, at)
            )),
            Err(Unready::Unfilled(place)) => self.fill_in_first(place),
            Err(Unready::Escaped(escape)) => {
                let code = self.buffer.code.as_ref();
                let written =
                    code.map(|code| code.written().byte_slice(escape.clone()).to_string()).unwrap_or_default();
                self.tell_wrong(format!("line {}: {}", line(self, escape.start), words::escaped(&written)));
            }
            Err(Unready::OutLine(at, message)) => {
                self.go(Motion::To(at), false);
                self.tell_wrong(format!("line {}: {message}; nothing was run", line(self, at)));
            }
            Err(Unready::NeedsBatch(at, above, why)) => {
                let message = format!(
                    "the statement at line {} needs line {} of its batch, and {why}; select both and what is between, and run that",
                    line(self, at),
                    line(self, above)
                );
                self.tell_wrong(message);
            }
            Err(Unready::Stopped) => {}
        }
    }

    /// Runs a statement around a transaction, which does not have to stand in the buffer.
    pub fn run_transaction_words(&mut self, of: fn(&TransactionWords) -> &'static str) {
        let statement = of(&self.buffer.document.outline().dialect().transaction);
        if statement.is_empty() {
            return self.tell(format!("{} has no savepoints", self.connection.name()));
        }
        let buffer = Some(self.buffer.path.clone());
        self.order(vec![Job { statement: statement.to_owned(), buffer, ..Job::default() }]);
    }

    /// Goes to a place that has to be filled in before its statement can run.
    fn fill_in_first(&mut self, place: std::ops::Range<usize>) {
        let name = self.buffer.document.rope().byte_slice(place.clone()).to_string();
        self.go(Motion::To(place.start), false);
        self.go(Motion::To(place.end), true);
        self.tell_wrong(format!("fill in {} first; nothing was run", clean::clean(&name)));
    }

    pub(super) fn order(&mut self, jobs: Vec<Job>) {
        if !self.connection.has_worker() {
            return self.list_connections();
        }
        self.status = None;
        let before = self.connection.running().cloned();
        if let Some(run) = &before {
            let title = run.title.as_deref().unwrap_or("the statement that runs");
            let title = clean::clean(title).into_owned();
            self.tell(match self.key_of("other-session") {
                Some(key) if !run.is_held() => {
                    format!("runs after {title} · {key} runs beside it, in a second session")
                }
                _ => format!("runs after {title}"),
            });
            // One that waits for readers makes room for one that does not.
            if run.is_held() {
                run.stop();
            }
        }
        self.connection.begin(jobs);
    }

    /// Shows an object's rows. The buffer stays as it is.
    pub(super) fn look_at_object(&mut self, schema: &str, name: &str) {
        let profile = self.connection.profile.as_ref();
        let engine = profile.and_then(|p| self.engines.iter().find(|engine| engine.name() == p.engine));
        let Some(engine) = engine else { return };
        let here = self.connection.location.as_ref().map_or("", |location| location.schema.as_str());
        let statement = engine.preview_statement(schema, name, here);
        self.go_along(&statement);
    }

    /// Puts a statement at the end of the buffer, and runs it. One that stands there already is used
    /// again.
    pub(super) fn put_and_run(&mut self, statement: &str) {
        self.put_statement(statement);
        self.run_statement();
    }

    /// Puts a statement at the end of the buffer, or goes to it where it stands already.
    pub(super) fn put_statement(&mut self, statement: &str) {
        let end = self.buffer.document.outline().dialect().terminator();
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
        let height = usize::from(self.areas().buffer.height);
        self.buffer.show_statement(height);
    }

    /// Puts an out-line below the statement of a run, where that stands in the buffer.
    pub(super) fn put_out_line(&mut self, run: &Run, target: &str) {
        let Some(start) = self.place_of(run) else {
            return self.tell_wrong("the statement of this result is not in the buffer; save the chart with an export");
        };
        let document = &mut self.buffer.document;
        let dialect = document.outline().dialect();
        let comments = dialect.line_comments;
        let mark = match comments.first() {
            Some(open) if !comments.contains(&"--") => format!("{open} -->"),
            _ => "-->".to_owned(),
        };
        let Some(end) = document.outline().statements().iter().find(|s| s.start == start).map(|s| s.end) else {
            return;
        };
        // Behind those that are there already.
        let rope = document.rope();
        let mut line = rope.byte_to_line(end);
        while line + 1 < rope.len_lines()
            && jaunty_language::split::out_mark::behind_mark(rope.line(line + 1).to_string().trim_end(), dialect)
                .is_some()
        {
            line += 1;
        }
        let last = rope.line(line).to_string();
        let at = rope.line_to_byte(line) + last.trim_end_matches(['\n', '\r']).len();
        document.go(Motion::To(at), false);
        document.insert(&format!("\n{mark} {target}"));
        self.panes.focus = Scope::Buffer;
    }

    /// After several statements: says where it ended if it did not get to the end.
    pub(super) fn after_runs(&mut self, left_out: usize, several: bool) {
        let Some(run) = self.connection.newest_run().filter(|run| run.outcome() != Outcome::Done).cloned() else {
            return;
        };
        let document = &self.buffer.document;
        let at = document.outline().statements().iter().find(|s| StatementId::of(&s.text(document.rope())) == run.id);
        let line = at.map(|s| (s.start, document.rope().byte_to_line(s.start) + 1));
        // The one at the cursor is in sight already.
        let here = document.statement().map(|statement| statement.start);
        if let Some((start, line)) = line.filter(|(start, _)| left_out > 0 || several && here != Some(*start)) {
            self.go(Motion::To(start), false);
            let left = match left_out {
                0 => String::new(),
                left => format!("; {} after it not run", words::count(left as u64, "statement")),
            };
            self.tell_wrong(format!("{} at line {line}{left}", run.outcome().word()));
        }
    }

    pub(super) fn ask_first(&mut self, jobs: Vec<Job>, why: Why) {
        let Some(job) = jobs.first() else { return };
        let writes = matches!(why, Why::Writes(_));
        let name = self.connection.name();
        let guard = self.connection.profile.as_ref().map_or(Guard::Ask, |profile| profile.guard);
        let (text, mut about) = match why {
            Why::TransactionLost => (
                format!("The connection to {name} was lost with a transaction open; the server rolled it back."),
                vec!["This runs on a new connection, outside that transaction.".to_owned()],
            ),
            Why::Writes(effect) => (format!("{name} {}", words::asks(guard)), words::effect(effect)),
            Why::MayBePart => {
                (format!("{}.", words::MAY_BE_PART), vec![format!("It would run on {name} as it stands.")])
            }
            Why::TwoReadings(shorter) => (
                "Is this one statement? It has no semicolon, and the server could not be asked.".to_owned(),
                vec![format!(
                    "yes runs all of it; a semicolon after \"{}\" makes two of it",
                    clean::clean(shorter.lines().last().unwrap_or_default().trim())
                )],
            ),
        };
        let mut rules = Vec::new();
        if let Some(catalog) = &self.connection.catalog {
            let dialect = self.buffer.document.outline().dialect();
            let lines = depends(&job.statement, catalog, dialect);
            about.extend(lines.into_iter().map(|line| clean::clean(&line).into_owned()));
            if writes {
                about.extend(meanwhile(&job.statement, dialect).map(str::to_owned));
                rules = new_rules(&job.statement, catalog, dialect);
            }
        }
        if !rules.is_empty() && self.count_in_the_way(&job.statement, rules) {
            about.push(COUNTING.to_owned());
        }
        about.extend(job.statement.lines().take(4).map(|line| format!("  {}", clean::clean(line))));
        if job.statement.lines().count() > 4 {
            about.push("  …".to_owned());
        }
        let mut answers = vec![('y', "yes, run it", Answered::Run), ('n', "no", Answered::Nothing)];
        if writes && self.endangered(&jobs).is_some() {
            answers
                .insert(1, ('k', "keep a copy first (definition and rows, as SQL), then run it", Answered::KeepAndRun));
        }
        self.overlay = Some(Overlay::Question(Question { jobs, about, ..Question::new(text, &answers) }));
    }

    /// Runs what a person has said yes to.
    pub(super) fn run_confirmed(&mut self, mut jobs: Vec<Job>) {
        if let Some(first) = jobs.first_mut() {
            first.confirmed = true;
        }
        self.order(jobs);
    }
}
