//! Carrying out one run: from the session into the archive and the logbook.

use std::borrow::Cow;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::UNIX_EPOCH;

use ropey::Rope;

use super::archive_writer::Failure;
use super::keeping::Keeping;
use super::out_line::out_lines;
use super::recording::RecordingSink;
use super::state::Run;
use crate::export::target::Target;
use crate::logbook::{Begun, Ended, Outcome};
use jaunty_language::dialect::Dialect;
use jaunty_language::host::{self, Exact};
use jaunty_language::outline::{MOST_PARTS, Outline};
use jaunty_language::split::Statement;
use jaunty_language::statement::batch;
use jaunty_language::statement::client_line::client_line;
use jaunty_language::statement::habits::habit_refused;
use jaunty_language::statement::parameters::Value;
use jaunty_language::statement::shape::words;
use jaunty_language::statement::touched::touches_everything;
use jaunty_language::statement::veil;
use jaunty_seam::engine::{Location, Request, Session, Sink, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Profile, Setting};

/// Longer statements are not read for what may be wrong with them.
const LONGEST: usize = 64 << 10;

/// A statement to be run.
#[derive(Debug, Clone, Default)]
pub struct Job {
    /// The statement, without its semicolon.
    pub statement: String,
    /// It as a program sends it in whose code it stands, where that is not as it stands.
    pub exact: Option<Exact>,
    /// The language that it is written in, where that is known.
    pub language: Option<&'static Dialect>,
    /// What is sent before it: what it needs of its batch ([`jaunty_language::statement::batch`]).
    pub before: String,
    /// How often both are carried out; 0 is once.
    pub times: u32,
    /// The statement as the logbook gets it, where that is not as it stands: without a password in it.
    pub kept: Option<String>,
    /// Its title.
    pub title: Option<String>,
    /// The buffer it stands in.
    pub buffer: Option<PathBuf>,
    /// Whether a person has said yes to it.
    pub confirmed: bool,
    /// Where its rows go beside the archive: its out-lines.
    pub out: Vec<Target>,
    /// Values for its parameters.
    pub values: Vec<Value>,
    /// The same with what follows it, where its end was told without a semicolon: the shortest first.
    pub longer: Vec<Job>,
    /// Where in those the next statement would begin, in bytes.
    pub next_at: usize,
}

impl Job {
    /// What it is called where something is named after it: its title, or else its first line.
    pub fn name(&self) -> &str {
        self.title.as_deref().unwrap_or_else(|| self.statement.lines().next().unwrap_or_default())
    }

    /// What is sent: the statement, behind what it needs.
    pub fn sent(&self) -> Cow<'_, str> {
        let repeated = if self.times > 1 { format!("\ngo {}", self.times) } else { String::new() };
        match self.before.is_empty() && repeated.is_empty() {
            true => Cow::Borrowed(self.text()),
            false => Cow::Owned(format!("{}{}{repeated}", self.head(), self.text())),
        }
    }

    /// The statement as it is sent.
    fn text(&self) -> &str {
        self.exact.as_ref().map_or(&self.statement, |exact| &exact.text)
    }

    /// Whether it may be the beginning of a statement only, and would do harm as it stands: in program code a condition may be
    /// added to it somewhere else, and this one changes or removes all rows.
    pub fn may_be_part(&self) -> bool {
        let ending = self.buffer.as_deref().and_then(Path::extension).and_then(|ending| ending.to_str());
        ending.is_some_and(|ending| host::by_ending(ending).is_some())
            && self.language.is_some_and(|dialect| touches_everything(&self.statement, dialect))
    }

    /// What stands before the statement in what is sent.
    fn head(&self) -> String {
        if self.before.is_empty() { String::new() } else { format!("{}\n", self.before) }
    }

    /// An error of what was sent, as one of the statement.
    fn of_statement(&self, error: EngineError) -> EngineError {
        let head = self.head().len();
        match error.at {
            Some(at) if at < head => {
                let what = format!("{} (in what this statement needs of its batch)", error.message);
                EngineError { message: what, ..error }.at(None)
            }
            at => {
                let written = |at: usize| self.exact.as_ref().map_or(at, |exact| exact.masked(at));
                error.at(at.map(|at| written(at - head)))
            }
        }
    }

    /// The error of a statement that a server refused; where a word of another language stands in it, what this one says.
    fn with_habit(&self, error: EngineError) -> EngineError {
        let known = self.language.filter(|_| error.kind == ErrorKind::Refused && self.statement.len() <= LONGEST);
        let text = self.statement.as_str();
        if let Some(line) = client_line(text, true).filter(|_| error.remedy.is_none()) {
            return error.remedy(format!("{}. {}", line.sentence(), line.way));
        }
        let habit = known
            .and_then(|dialect| habit_refused(text, &words(text, dialect, 0), dialect, (&error.message, error.at)));
        let Some(habit) = habit else { return error };
        // A server that quotes a word and tells no place means the one after what it does not know, not the first alike.
        let after = habit.range.end + text[habit.range.end..].len() - text[habit.range.end..].trim_start().len();
        let word = |at: usize| text.get(at..)?.split(|c: char| c.is_whitespace() || c == ';').next();
        let error = match error.at {
            Some(at) if at < habit.range.start && word(at).is_some() && word(at) == word(after) => {
                error.at(Some(after))
            }
            _ => error,
        };
        let before = error.remedy.as_deref().map(|remedy| format!(" {remedy}")).unwrap_or_default();
        let remedy = format!("{}.{before}", habit.sentence());
        error.remedy(remedy)
    }

    /// The job of a statement in a text.
    pub fn of(statement: &Statement, rope: &Rope, dialect: &'static Dialect, buffer: Option<&Path>) -> Job {
        let text = statement.text(rope);
        Job {
            kept: kept_instead(&text, dialect),
            statement: text,
            exact: None,
            language: Some(dialect),
            before: String::new(),
            times: 0,
            title: statement.title_text(rope, dialect),
            buffer: buffer.map(Path::to_owned),
            confirmed: false,
            values: Vec::new(),
            longer: Vec::new(),
            next_at: 0,
            out: out_lines(statement, rope, dialect).into_iter().filter_map(|line| line.target.ok()).collect(),
        }
    }
}

/// The job of a statement in a buffer, with the longer ones that a server may read in its place
/// ([`super::reading`]).
pub fn job_at(outline: &Outline, index: usize, rope: &Rope, buffer: Option<&Path>) -> Option<Job> {
    let (all, dialect) = (outline.statements(), outline.dialect());
    let statement = all.get(index)?;
    let mut job = Job::of(statement, rope, dialect, buffer);
    let open = |s: &Statement| {
        let text = rope.byte_slice(s.start..s.body_end);
        // Lines of a client end where they end, and so do the rows of a `COPY`.
        s.body_end == s.end
            && s.ends_by_semicolon()
            && text.bytes().next() != Some(b'\\')
            && !text.to_string().ends_with("\\.")
    };
    let needs = batch::needs(outline, index, rope);
    let texts = needs.statements.iter().filter_map(|at| all.get(*at)).map(|s| s.text(rope));
    job.before = texts.collect::<Vec<_>>().join("\n");
    // What follows in a batch is another statement, with a semicolon between or without; so is what follows a blank line
    // where that ends one.
    let ends_for_sure = dialect.ends_with_line || dialect.ends_with_blank || dialect.batch_word.is_some();
    if ends_for_sure || !open(statement) {
        return Some(job);
    }
    job.next_at = all.get(index + 1).map_or(0, |next| next.start - statement.start);
    for last in all.iter().skip(index + 1).take(MOST_PARTS) {
        if rope.get_byte(last.start) == Some(b'\\') {
            break;
        }
        let whole = Statement { body_end: last.body_end, end: last.end, ..*statement };
        job.longer.push(Job::of(&whole, rope, dialect, buffer));
        if !open(last) {
            break;
        }
    }
    Some(job)
}

/// What the logbook gets instead of a statement with a password in it.
pub fn kept_instead(statement: &str, dialect: &'static Dialect) -> Option<String> {
    match veil::veiled(statement, dialect) {
        Cow::Owned(veiled) => Some(veiled),
        Cow::Borrowed(_) => None,
    }
}

/// Whether the runs of a profile are kept.
pub fn keeps(profile: &Profile) -> bool {
    profile.settings.get("keep") != Some(&Setting::Flag(false))
}

/// Is called when a run has begun, has grown and has ended, with the run.
pub type Tell = Arc<dyn Fn(&Arc<Run>) + Send + Sync>;

/// Runs one statement to its end, or until `stop`. `tap` receives the same events as the archive, as they come.
///
/// Whatever happens, rows that were fetched are in the archive, and the logbook says how it ended.
pub fn execute(
    session: &mut dyn Session,
    (profile, location): (&Profile, &Location),
    job: &Job,
    keeping: &Keeping,
    tap: Option<Box<dyn Sink>>,
    (tell, stop): (&Tell, &Stop),
) -> Arc<Run> {
    // What is too much now may be gone by the time that rows come.
    keeping.make_room_now_and_then();
    let started = std::time::SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    let begun = Begun {
        connection: &profile.name,
        engine: &profile.engine,
        database: &location.database,
        buffer: job.buffer.as_deref(),
        title: job.title.as_deref(),
        statement: job.kept.as_deref().unwrap_or(job.text()),
        values: &job.values,
        session: &location.session,
        started_ms: i64::try_from(started.as_millis()).unwrap_or(i64::MAX),
    };
    let number = if keeps(profile) { keeping.note(|logbook| logbook.begin(&begun)) } else { None };
    let run = Run::begin(job.statement.clone(), job.title.clone(), number);
    let run = run.until(stop).at(&profile.name, &location.database).sent_to(&job.out, job.buffer.as_deref());
    let run = run.behind(&job.before);
    // What goes elsewhere is wanted whole.
    let run = if tap.is_none() && job.out.is_empty() { run.ahead(keeping.reads_ahead()) } else { run };
    let run = Arc::new(run);
    tell(&run);
    let failure = Failure::default();
    let tap = tap.map(|tap| Arc::new(Mutex::new(tap)));
    let sink = RecordingSink::new(&run, keeping, failure.clone(), tap, tell);
    let sent = job.sent();
    let request = Request::new(&sent).with(&job.values).until(stop);
    let outcome = session.run(&request, Box::new(sink)).map_err(|error| job.of_statement(error));
    let (outcome, error) = match (failure.take(), outcome) {
        (Some(error), _) => (Outcome::Failed, Some(error)),
        (None, Ok(())) => (Outcome::Done, None),
        (None, Err(error)) => match error.kind {
            ErrorKind::Stopped => (Outcome::Stopped, None),
            ErrorKind::Lost => (Outcome::CutShort, Some(error)),
            _ => (Outcome::Failed, Some(job.with_habit(error))),
        },
    };
    run.set_end(outcome, error);
    let ended = Ended {
        first_row_ms: run.first_row().map(|d| d.as_millis() as i64),
        duration_ms: run.duration().as_millis() as i64,
        rows: run.rows(),
        bytes: run.bytes(),
        error: run.end().and_then(|end| end.error.as_ref()).map(ToString::to_string),
    };
    if let Some(number) = number {
        note_messages(&run, number, keeping);
        keeping.note(|logbook| logbook.end(number, outcome, &ended));
    }
    tell(&run);
    run
}

/// Notes what the server said while a run was carried out.
pub(super) fn note_messages(run: &Run, number: i64, keeping: &Keeping) {
    let (messages, more) = run.said(|said| (said.kept().to_vec(), said.left_out()));
    if !messages.is_empty() {
        keeping.note(|logbook| logbook.messages(number, (&messages, more)));
    }
}

#[cfg(test)]
mod tests;
