//! Running statements from the editor: commands, progress, guards, and what is told when something ends.

use std::sync::Arc;
use std::thread;
use std::time::SystemTime;

use jaunty_core::arrange::Progress;
use jaunty_core::arrange::pick::Part;
use jaunty_core::drawing::plan::asked_about;
use jaunty_core::export::file::save;
use jaunty_core::export::{Format, Options};
use jaunty_core::logbook::Outcome;
use jaunty_core::run::connection_worker::Why;
use jaunty_core::run::prepare::{Meant, Prepared, Unready, prepare};
use jaunty_core::run::{Job, Report, Run};
use jaunty_core::words;
use jaunty_language::outline::StatementId;
use jaunty_language::plan::asked;
use jaunty_language::statement::parameters::ParameterValue;
use jaunty_language::text::clean::clean;
use jaunty_seam::profile::Guard;
use serde_json::{Value, json};

use crate::client::{Asked, Weight};
use crate::place::Position;
use crate::rows::{PAGE, first_line};
use crate::state::{Server, Unanswered};
use crate::text::Text;
use crate::wire::Refusal;

/// The answers to a guard's question.
const YES: &str = "Run it";
const NO: &str = "Do not run it";

/// A command, and what carries it out with the arguments of the editor: the document's URI, a place in it, and more.
pub(crate) type Command = (&'static str, fn(&mut Server, &Given<'_>) -> Result<Value, Refusal>);

/// The commands of `workspace/executeCommand`.
pub(crate) const COMMANDS: &[Command] = &[
    ("jaunty.run", |server, given| server.run_statements(given, false)),
    ("jaunty.runToHere", |server, given| server.run_statements(given, true)),
    ("jaunty.runInPane", |server, given| server.run_in_pane(given)),
    ("jaunty.plan", |server, given| server.ask_for_plan(given)),
    ("jaunty.stop", |server, given| server.stop(given)),
    ("jaunty.rows", |server, given| server.rows_of(given, 0)),
    ("jaunty.nextRows", |server, given| server.turn_page(given, true)),
    ("jaunty.previousRows", |server, given| server.turn_page(given, false)),
    ("jaunty.csv", |server, given| server.all_rows(given, Format::Csv)),
    ("jaunty.json", |server, given| server.all_rows(given, Format::JsonLines)),
    ("jaunty.readCatalog", |server, given| server.read_catalog(given)),
    ("jaunty.allow", |server, given| server.allow(given.uri, given.values.as_str().unwrap_or_default())),
];

/// The arguments of a command.
pub(crate) struct Given<'a> {
    uri: &'a str,
    position: Option<Position>,
    values: &'a Value,
}

impl Server {
    pub(crate) fn execute(&mut self, params: &Value) -> Result<Value, Refusal> {
        let name = params["command"].as_str().unwrap_or_default();
        let Some((_, carry_out)) = COMMANDS.iter().find(|(known, _)| *known == name) else {
            return Err(Refusal::params(format!("the command {name} is not known")));
        };
        let arguments = &params["arguments"];
        let uri = arguments[0].as_str().ok_or_else(|| Refusal::params("the first argument is the document's URI"))?;
        if !self.texts.contains_key(uri) {
            return Err(Refusal::params(format!("{uri} is not open")));
        }
        carry_out(self, &Given { uri, position: Position::of(&arguments[1]), values: &arguments[2] })
    }

    fn given_text(&self, given: &Given<'_>) -> Result<&Text, Refusal> {
        self.texts.get(given.uri).ok_or_else(|| Refusal::params("the document is not open"))
    }

    fn run_statements(&mut self, given: &Given<'_>, to_here: bool) -> Result<Value, Refusal> {
        // The connections file may have been changed since.
        self.connect(given.uri);
        let text = self.given_text(given)?;
        let link = linked(text)?;
        let at = given.position.map(|position| text.byte(position));
        let meant = match at {
            Some(at) => {
                let (index, _) = text.statement_at(at).ok_or_else(|| Refusal::failed("no statement here"))?;
                if to_here { Meant::All(0..index + 1) } else { Meant::One(index) }
            }
            None => Meant::All(0..text.outline.statements().len()),
        };
        let jobs = self.jobs_of(text, meant, given.values)?;
        self.begin(link, given.uri, jobs);
        Ok(Value::Null)
    }

    /// Statements that are ready to run, with the values of their parameters.
    fn jobs_of(&self, text: &Text, meant: Meant, values: &Value) -> Result<Vec<Job>, Refusal> {
        let path = text.path();
        let prepared = prepare((&text.rope, text.code()), &text.outline, meant, path.as_deref(), || true);
        let Prepared { mut jobs, names, noted, starts, .. } = prepared.map_err(|unready| refused(text, &unready))?;
        if jobs.is_empty() {
            return Err(Refusal::failed("no statement to run"));
        }
        let wanted = names.iter().any(|names| !names.is_empty());
        let before = wanted.then(|| self.options.keeping.logbook()?.last_values(path.as_deref()?).ok()).flatten();
        for (((job, names), above), start) in jobs.iter_mut().zip(&names).zip(&noted).zip(&starts) {
            for name in names {
                let written = values[name].as_str().map(ParameterValue::read);
                let noted = || above.iter().find(|(known, _)| known == name).map(|(_, value)| value.clone());
                let last = || before.as_ref()?.get(name).cloned();
                let value = written.or_else(noted).or_else(last).ok_or_else(|| {
                    let mark = text.comments().first().copied().unwrap_or("--");
                    let line = text.line_below_comments(*start) + 1;
                    let what = if text.is_code() { "" } else { "the statement at " };
                    Refusal::failed(format!(
                        "{name} has no value; give it in a comment above {what}line {line}: {mark} {name} = …"
                    ))
                })?;
                job.values.push((name.clone(), value));
            }
        }
        Ok(jobs)
    }

    fn begin(&mut self, link: u64, uri: &str, jobs: Vec<Job>) {
        let token = format!("jaunty-run-{}", self.number());
        let first = jobs.first();
        let dialect = self.texts.get(uri).map(Text::dialect);
        let title = first.map(|job| job.title.clone().unwrap_or_else(|| first_line(&job.statement, dialect)));
        let title = clean(&title.unwrap_or_default()).into_owned();
        self.client.begin_progress(&token, &format!("jaunty: {title}"));
        if let Some(link) = self.link_mut(link) {
            link.run(jobs, uri, token);
        }
    }

    /// Runs the statement on a screen that stands beside the editor.
    fn run_in_pane(&mut self, given: &Given<'_>) -> Result<Value, Refusal> {
        let text = self.given_text(given)?;
        let at = given.position.map_or(0, |position| text.byte(position));
        self.tell_panes(text, at, true);
        Ok(Value::Null)
    }

    /// Asks how the server would carry the statement out; its answer is shown as a tree.
    fn ask_for_plan(&mut self, given: &Given<'_>) -> Result<Value, Refusal> {
        let text = self.given_text(given)?;
        let link = linked(text)?;
        let plans = text.dialect().plans.ok_or_else(|| Refusal::failed("there are no plans in this language"))?;
        let at = given.position.map_or(0, |position| text.byte(position));
        let (index, _) = text.statement_at(at).ok_or_else(|| Refusal::failed("no statement here"))?;
        let mut jobs = self.jobs_of(text, Meant::One(index), given.values)?;
        for job in &mut jobs {
            let sent = job.exact.take().map_or_else(|| job.statement.clone(), |exact| exact.text);
            job.statement = asked(plans.estimated, asked_about(&sent, plans).unwrap_or(&sent));
            // Its rows are not those of the statement, and go nowhere else.
            (job.longer, job.out) = (Vec::new(), Vec::new());
        }
        self.begin(link, given.uri, jobs);
        Ok(Value::Null)
    }

    fn stop(&mut self, given: &Given<'_>) -> Result<Value, Refusal> {
        let link = self.given_text(given)?.link;
        if let Some(link) = link.and_then(|link| self.link(link)) {
            link.stop();
        }
        Ok(Value::Null)
    }

    /// The last run of the statement at a place.
    pub(crate) fn run_at(&self, text: &Text, at: usize) -> Option<Arc<Run>> {
        let (_, statement) = text.statement_at(at)?;
        self.link_of(text)?.runs.get(&text.id_of(statement)).cloned()
    }

    fn run_given(&self, given: &Given<'_>) -> Result<Arc<Run>, Refusal> {
        let text = self.given_text(given)?;
        let at = given.position.map_or(0, |position| text.byte(position));
        self.run_at(text, at).ok_or_else(|| Refusal::failed("the statement here has not run"))
    }

    fn rows_of(&mut self, given: &Given<'_>, from: u64) -> Result<Value, Refusal> {
        let run = self.run_given(given)?;
        self.show_rows(given.uri, &run, from);
        Ok(Value::Null)
    }

    fn turn_page(&mut self, given: &Given<'_>, on: bool) -> Result<Value, Refusal> {
        let shown = self.pages.get(given.uri).cloned();
        let run = self.run_given(given).ok();
        let (run, from) = match (run, shown) {
            // Of another statement than the one that is shown it is the first page.
            (Some(run), Some(shown)) if !Arc::ptr_eq(&run, &shown.run) => (run, 0),
            (_, Some(shown)) if on => (shown.run, shown.from + PAGE),
            (_, Some(shown)) => (shown.run, shown.from.saturating_sub(PAGE)),
            (Some(run), None) => (run, 0),
            (None, None) => return Err(Refusal::failed("the statement here has not run")),
        };
        if run.is_held() && from + PAGE > run.rows() {
            run.fetch_more();
        }
        self.show_rows(given.uri, &run, from);
        Ok(Value::Null)
    }

    fn all_rows(&mut self, given: &Given<'_>, format: Format) -> Result<Value, Refusal> {
        let run = self.run_given(given)?;
        self.show_all(given.uri, &run, format)
    }

    fn read_catalog(&mut self, given: &Given<'_>) -> Result<Value, Refusal> {
        let link = linked(self.given_text(given)?)?;
        if let Some(link) = self.link(link) {
            link.read_catalog();
        }
        Ok(Value::Null)
    }

    /// Takes in what a connection tells.
    pub(crate) fn reported(&mut self, number: u64, report: Report) {
        let Some(link) = self.link_mut(number) else { return };
        link.take_in(&report);
        let name = link.profile.name.clone();
        match report {
            Report::Connected(..) | Report::Catalog(_) | Report::Checked(..) => self.look_again(number),
            Report::Remembered(_) => self.client.refresh(),
            Report::NotConnected(error) => {
                let message = format!("{name}: {}{}", error.step_words(), error.explain("", 1));
                self.end_all(number, "not connected");
                self.client.tell(Weight::Error, &message);
                self.look_again(number);
            }
            Report::WantsSecret(error) => {
                let remedy = "An editor cannot ask for a password: name a source for it in the profile (secret_command, keyring, env:NAME).";
                self.end_all(number, "not connected");
                self.client.tell(Weight::Error, &format!("{name}: {error}. {remedy}"));
                self.look_again(number);
            }
            Report::Question(question) => {
                link.give_up();
                let text = clean(&question.text).into_owned();
                self.client.tell(
                    Weight::Error,
                    &format!("{name} asks \"{text}\", which an editor cannot answer; connect once with jaunty itself"),
                );
            }
            Report::Lost { transaction: true } => {
                let message =
                    format!("the connection to {name} was lost with a transaction open; the server rolled it back");
                self.client.tell(Weight::Warning, &message);
            }
            Report::Run(run) => self.ran(number, &run),
            Report::Asks(jobs, why) => self.ask_first(number, jobs, why),
            Report::Idle { left_out } => self.idle(number, left_out),
            Report::NoCatalog(error) => self.client.tell(Weight::Warning, &format!("{name}: {error}")),
            _ => {}
        }
    }

    /// A run has begun, grown or ended.
    fn ran(&mut self, number: u64, run: &Arc<Run>) {
        let Some(asked) = self.link_mut(number).and_then(|link| link.asked.front_mut()) else { return };
        if asked.last.as_ref().is_none_or(|last| !Arc::ptr_eq(last, run)) {
            asked.last = Some(Arc::clone(run));
            (asked.shown, asked.ended) = (false, false);
        }
        // An end may be told more than once.
        if asked.ended {
            return;
        }
        // The run's thread goes on writing it: its end is looked at once.
        let end = run.end();
        let (uri, token) = (asked.uri.clone(), asked.token.clone());
        let (has_rows, was_shown) = (run.rows() > 0, asked.shown);
        // The first page is there before the last row is.
        let shows = (has_rows && !asked.shown) || end.is_some();
        asked.shown |= has_rows;
        asked.ended = end.is_some();
        // It waits until somebody wants more, which may be never: that is not progress.
        if run.is_held() && end.is_none() {
            asked.token.clear();
            let note = format!("{}; the next page fetches more", note(run));
            self.client.progress(&token, json!({"kind": "end", "message": note}));
        } else {
            self.client.progress(&token, json!({"kind": "report", "message": note(run)}));
        }
        if shows {
            let failed = run.outcome() == Outcome::Failed;
            let told = run.kept_rows().is_some() || !run.messages().is_empty() || run.affected().is_some();
            if !failed && told {
                // Once it is in sight it is only written again.
                self.show_rows_quietly(&uri, run, 0, was_shown);
            }
            self.client.refresh();
        }
        if let Some(end) = end {
            self.send_out(run);
            if let Some(error) = &end.error {
                let line = self.line_of(&uri, run.id);
                self.client.tell(Weight::Error, &error.explain(&run.statement, line));
            }
            self.look_again(number);
        }
    }

    /// Writes the rows of a run where its out-lines send them, beside everything else.
    fn send_out(&mut self, run: &Arc<Run>) {
        let targets = run.take_out();
        let Some((first, _)) = targets.first() else { return };
        if run.outcome() != Outcome::Done || run.all_rows().is_empty() {
            let why = match run.outcome() {
                Outcome::Done => "the statement returned no rows".to_owned(),
                other => format!("the run was {}", other.word()),
            };
            return self.client.tell(Weight::Warning, &format!("{} is unchanged: {why}", first.display()));
        }
        let (say, texts) = (self.sayer(), run.texts());
        let files = run.files_of(targets);
        let write = move || {
            for (path, target, kept) in files {
                let options = Options { texts: texts.clone(), ..target.options };
                let archive = kept.archive().map_err(|error| error.to_string());
                let saved = archive.and_then(|archive| {
                    save(&Part::whole(archive), &path, target.format, &options, &Progress::default())
                        .map_err(|error| error.to_string())
                });
                match saved {
                    Ok(rows) => say(Weight::Info, format!("{} in {}", words::count(rows, "row"), path.display())),
                    Err(error) => say(Weight::Error, error),
                }
            }
        };
        if let Err(error) = thread::Builder::new().name("out-lines".into()).spawn(write) {
            self.client.tell(Weight::Error, &format!("rows were not written: {error}"));
        }
    }

    /// The line of a statement in a document, from 1.
    fn line_of(&self, uri: &str, id: StatementId) -> usize {
        let Some(text) = self.texts.get(uri) else { return 1 };
        let here = text.outline.statements().iter().find(|statement| text.id_of(statement) == id);
        here.map_or(1, |statement| text.lines.line_of(statement.start) + 1)
    }

    /// Nothing is left of what was asked for first.
    fn idle(&mut self, number: u64, left_out: usize) {
        let Some(asked) = self.link_mut(number).and_then(|link| link.asked.pop_front()) else { return };
        let note = asked.last.as_ref().map(|run| note(run)).unwrap_or_default();
        let left = match left_out {
            0 => String::new(),
            left => format!(" · {} after it not run", words::count(left as u64, "statement")),
        };
        self.client.progress(&asked.token, json!({"kind": "end", "message": format!("{note}{left}")}));
        self.client.refresh();
    }

    /// Nothing runs any more of all that was asked for.
    fn end_all(&mut self, number: u64, why: &str) {
        let Some(link) = self.link_mut(number) else { return };
        let tokens: Vec<String> = link.asked.drain(..).map(|asked| asked.token).collect();
        for token in tokens {
            self.client.progress(&token, json!({"kind": "end", "message": why}));
        }
    }

    /// Asks whether statements may run, by the editor's own question.
    fn ask_first(&mut self, link: u64, jobs: Vec<Job>, why: Why) {
        let Some(asked) = self.link(link) else { return };
        let (name, guard) = (asked.profile.name.clone(), asked.profile.guard);
        let uri = asked.asked.front().map(|asked| asked.uri.clone()).unwrap_or_default();
        let (head, about) = match why {
            Why::Writes(effect) => (format!("{name} {}", words::asks(guard)), words::effect(effect)),
            Why::TransactionLost => (
                format!("The connection to {name} was lost with a transaction open; the server rolled it back."),
                vec!["This runs on a new connection, outside that transaction.".to_owned()],
            ),
            Why::MayBePart => {
                (format!("{}.", words::MAY_BE_PART), vec![format!("It would run on {name} as it stands.")])
            }
            Why::TwoReadings(_) => (
                "Is this one statement? It has no semicolon, and the server could not be asked.".to_owned(),
                vec!["If not, put a semicolon where it ends.".to_owned()],
            ),
        };
        let statement = jobs.first().map(|job| job.statement.clone()).unwrap_or_default();
        let shown: Vec<String> = statement.lines().take(8).map(|line| clean(line).into_owned()).collect();
        let message = [vec![head], about, shown].concat().join("\n");
        let number = self.number();
        self.unanswered.insert(number, Unanswered { link, uri, jobs });
        let weight = if guard == Guard::Open { Weight::Info } else { Weight::Warning };
        let question = json!({"type": weight as u8, "message": message, "actions": [{"title": YES}, {"title": NO}]});
        self.client.ask("window/showMessageRequest", question, Asked::MayRun(number));
    }

    /// Takes the answer to that. Anything but a yes is a no.
    pub(crate) fn may_run(&mut self, number: u64, answer: Option<&Value>) {
        let Some(Unanswered { link, uri, mut jobs }) = self.unanswered.remove(&number) else { return };
        if answer.is_some_and(|answer| answer["title"] == YES) {
            jobs.iter_mut().take(1).for_each(|job| job.confirmed = true);
            self.begin(link, &uri, jobs);
        }
    }
}

/// How a run is or was, in a line.
pub(crate) fn note(run: &Run) -> String {
    clean(&words::note(run, SystemTime::now())).into_owned()
}

/// The connection of a document, or why it has none.
fn linked(text: &Text) -> Result<u64, Refusal> {
    text.link.ok_or_else(|| Refusal::failed(text.troubles.held.as_deref().unwrap_or(NO_CONNECTION)))
}

/// What is said where a document is not connected to anything.
const NO_CONNECTION: &str =
    "this document has no connection; a code action puts a line with its name at the top (-- connection: NAME)";

/// Why statements of a document cannot run.
fn refused(text: &Text, unready: &Unready) -> Refusal {
    let line = |at: usize| text.lines.line_of(at) + 1;
    Refusal::failed(match unready {
        Unready::NeverCloses(at) => {
            format!("the statement at line {} has a quote or comment that never closes", line(*at))
        }
        Unready::Unfilled(place) => {
            let name = text.rope.byte_slice(place.clone()).to_string();
            format!("line {}: {} was not filled in; nothing was run", line(place.start), clean(&name))
        }
        Unready::OutLine(at, message) => format!("line {}: {message}; nothing was run", line(*at)),
        Unready::NeedsBatch(at, above, why) => {
            format!(
                "the statement at line {} needs line {} of its batch, and {why}; run to here",
                line(*at),
                line(*above)
            )
        }
        Unready::Escaped(escape) => {
            let written = text.written().byte_slice(escape.clone()).to_string();
            format!("line {}: {}", line(escape.start), words::escaped(&written))
        }
        Unready::Stopped => "stopped".to_owned(),
    })
}
