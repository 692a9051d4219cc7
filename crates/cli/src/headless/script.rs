//! `jaunty run` of a file that is large: its statements run while it is read, and memory does not grow with it.
//!
//! The logbook has one run for all of it. What is looked at before anything runs in a small file (that no quote stays open,
//! that no place is to be filled in) is looked at statement by statement here.

use std::fs::File;
use std::io::IsTerminal;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use jaunty_core::logbook::{Ended, KeptResult, Outcome};
use jaunty_core::run::Job;
use jaunty_core::run::reading::{self, Read};
use jaunty_core::run::script::{PIECE, Script};
use jaunty_core::words;
use jaunty_language::text::clean::{clean, clean_lines};
use jaunty_seam::engine::load::Nothing;
use jaunty_seam::engine::{Event, Flow, Request, Session, Sink, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::Guard;

use super::progress;
use super::run::With;
use crate::failure::Failure;

/// From this size on a file is run while it is read.
pub const LARGE: u64 = 8 << 20;

/// What is quicker than this shows no progress, and how often it is told.
const QUIET: Duration = Duration::from_millis(300);
const EVERY: Duration = Duration::from_millis(200);

/// What is run.
pub struct Large<'a> {
    /// The file.
    pub path: &'a Path,
    /// Its size in bytes.
    pub size: u64,
    /// Only statements at this line or after it.
    pub from: u64,
    /// Whether all of it is one transaction.
    pub single_transaction: bool,
}

/// Whether a file is run while it is read, and what it is: it is large, all of it is wanted, and its language ends statements
/// by a sign.
pub fn large<'a>(path: &'a Path, with: &With, from: Option<usize>, single_transaction: bool) -> Option<Large<'a>> {
    let size = std::fs::metadata(path).ok().filter(std::fs::Metadata::is_file)?.len();
    let asks = with.profile.guard != Guard::Open && !with.yes;
    let ends = with.dialect.batch_word.is_none() && !with.dialect.ends_with_line;
    (size >= LARGE && !asks && ends && with.output.lock().takes_rows_as_they_come()).then(|| Large {
        path,
        size,
        from: from.map_or(1, |line| line as u64),
        single_transaction,
    })
}

/// What was done.
#[derive(Debug, Clone, Copy, Default)]
struct Done {
    statements: u64,
    failed: u64,
    affected: u64,
}

/// Runs it.
pub fn run(session: &mut dyn Session, large: &Large, with: &With) -> Result<(), Failure> {
    let file = File::open(large.path)
        .map_err(|error| Failure::Usage(format!("{} cannot be read: {error}", large.path.display())))?;
    let buffer = std::path::absolute(large.path).ok();
    let number = begin(session, large, with);
    let since = Instant::now();
    let mut done = Done::default();
    let outcome = all(session, (file, buffer), large, with, &mut done);
    let (how, error) = match &outcome {
        Ok(()) if done.failed == 0 => (Outcome::Done, None),
        Ok(()) => (Outcome::Failed, None),
        Err(Failure::Stopped(_) | Failure::Closed) => (Outcome::Stopped, None),
        Err(error) => (Outcome::Failed, Some(error.to_string())),
    };
    if let Some(number) = number {
        let affected = KeptResult::Affected(Some(done.affected));
        with.keeping.note(|logbook| logbook.result(number, 0, &affected));
        let duration_ms = since.elapsed().as_millis() as i64;
        let ended = Ended { first_row_ms: None, duration_ms, rows: 0, bytes: 0, error };
        with.keeping.note(|logbook| logbook.end(number, how, &ended));
    }
    if !with.quiet {
        let statements = words::count(done.statements, "statement");
        let affected = words::count(done.affected, "row");
        eprintln!("{statements} run, {affected} changed in {}", words::duration(since.elapsed()));
    }
    outcome?;
    match done.failed {
        0 => Ok(()),
        failed => Err(Failure::Database(format!(
            "{} of {} failed",
            words::number(failed),
            words::count(done.statements, "statement")
        ))),
    }
}

/// Notes it in the logbook, as one run.
fn begin(session: &dyn Session, large: &Large, with: &With) -> Option<i64> {
    let location = session.location();
    let name = large.path.display();
    let statement = match large.from {
        1 => format!("-- the statements of {name}"),
        line => format!("-- the statements of {name} from line {line} on"),
    };
    with.keeping.begin((with.profile, &location), &format!("run {name}"), &statement)
}

fn all(
    session: &mut dyn Session,
    (file, buffer): (File, Option<PathBuf>),
    large: &Large,
    with: &With,
    done: &mut Done,
) -> Result<(), Failure> {
    let words = &with.dialect.transaction;
    let plain = |session: &mut dyn Session, text: &str| {
        let stop = Stop::default();
        session.run(&Request::new(text).until(&stop), Box::new(Nothing)).map_err(|e| Failure::Database(e.to_string()))
    };
    if large.single_transaction {
        plain(session, words.begin)?;
    }
    let mut script = Script::new(file, with.dialect, buffer, PIECE);
    let mut outcome = each(session, &mut script, large, with, done);
    progress_is_over(with);
    if large.single_transaction && outcome.is_ok() {
        if session.location().in_transaction() {
            outcome = plain(session, words.commit);
        } else {
            eprintln!("jaunty: the transaction ended before the last statement: one of them ended it");
        }
    }
    if session.location().in_transaction() {
        let rolled_back = plain(session, words.roll_back);
        let what = if large.single_transaction { "everything" } else { "a transaction was open at the end; it" };
        match &rolled_back {
            Ok(()) => eprintln!("jaunty: {what} was rolled back"),
            // Where the connection is lost the server does; what went wrong before is more to the point.
            Err(error) => eprintln!("jaunty: rolling back: {error}"),
        }
        if outcome.is_ok() {
            return rolled_back;
        }
    }
    outcome
}

fn shows(with: &With) -> bool {
    with.output.lock().shows_progress() && std::io::stderr().is_terminal()
}

fn progress_is_over(with: &With) {
    if shows(with) {
        progress::clear();
    }
}

fn each(
    session: &mut dyn Session,
    script: &mut Script<File>,
    large: &Large,
    with: &With,
    done: &mut Done,
) -> Result<(), Failure> {
    let (shows, since) = (shows(with), Instant::now());
    let (mut told, mut taken) = (Instant::now(), 0);
    // Checked now and then: asking the clock for each would be most of the work.
    let mut next_look = 0_u64;
    while let Some(piece) = script.next() {
        let piece = piece.map_err(|error| Failure::Usage(error.to_string()))?;
        if piece.line < large.from {
            continue;
        }
        // A part of the one before.
        if taken > 0 {
            taken -= 1;
            continue;
        }
        if with.interrupt.was_asked() {
            return Err(Failure::Stopped(format!("cancelled before the statement at line {}", piece.line)));
        }
        let job = match reading::read(session, &piece.job, &Stop::default()) {
            Read::AsItStands => piece.job,
            Read::Longer(job, more) => {
                taken = more;
                *job
            }
            Read::Ask(..) => {
                return Err(Failure::Usage(format!(
                    "the statement at line {} may end in two places; put a semicolon where it ends",
                    piece.line
                )));
            }
        };
        done.statements += 1;
        let outcome = one(session, &job, with);
        if let Err(error) = outcome.map(|affected| done.affected += affected) {
            progress_is_over(with);
            if with.interrupt.was_asked() || error.kind == ErrorKind::Stopped {
                return Err(Failure::Stopped(format!("cancelled in the statement at line {}", piece.line)));
            }
            let explained = error.explain(&job.statement, piece.line as usize);
            let number = words::number(done.statements);
            let explained = format!("statement {number} at line {}: {explained}", words::number(piece.line));
            let lost = error.kind == ErrorKind::Lost;
            if !with.keep_going || lost {
                return Err(Failure::Database(explained));
            }
            eprintln!("jaunty: {}", clean_lines(&explained));
            done.failed += 1;
        }
        if shows && done.statements >= next_look {
            next_look = done.statements + 64;
            if since.elapsed() > QUIET && told.elapsed() > EVERY {
                told = Instant::now();
                let percent = script.read().min(large.size) * 100 / large.size.max(1);
                let at = format!("statement {} · line {}", words::number(done.statements), words::number(piece.line));
                eprint!("\r{percent} % · {} · {}\x1b[K", clean(&at), words::clock(since.elapsed()));
            }
        }
    }
    Ok(())
}

/// Runs one statement; gives how many rows it changed.
fn one(session: &mut dyn Session, job: &Job, with: &With) -> Result<u64, EngineError> {
    let stop = Stop::default();
    let wish = stop.clone();
    let affected = Arc::new(Mutex::new(0));
    let sink = Counting { affected: Arc::clone(&affected), output: Box::new(with.output.clone()) };
    let sent = job.sent();
    let request = Request::new(&sent).until(&stop);
    let outcome = with.interrupt.around(move || wish.wish(), || session.run(&request, Box::new(sink)));
    outcome?;
    let affected = *affected.lock().unwrap_or_else(PoisonError::into_inner);
    Ok(affected)
}

/// Counts the rows that a statement changed; its own rows go on.
struct Counting {
    affected: Arc<Mutex<u64>>,
    output: Box<dyn Sink>,
}

impl Sink for Counting {
    fn wanted(&self) -> Flow {
        self.output.wanted()
    }

    fn take(&mut self, event: Event) -> Flow {
        if let Event::Ends { affected: Some(rows) } = &event {
            *self.affected.lock().unwrap_or_else(PoisonError::into_inner) += rows;
        }
        self.output.take(event)
    }
}
