//! Running the statements of a script, one after the other, while it is read.
//!
//! What is looked at before anything runs where all statements are at hand (that no quote stays open, that no place is to be
//! filled in) is looked at statement by statement here.

use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex, PoisonError};

use super::{Meter, Piece, Script, ScriptError};
use crate::run::reading::{self, Read};
use jaunty_language::dialect::TransactionWords;
use jaunty_seam::engine::load::Nothing;
use jaunty_seam::engine::{Event, Flow, Request, Session, Sink, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};

/// What is wanted of a script.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Wanted {
    /// Only statements at this line or after it.
    pub from: u64,
    /// All of it is one transaction.
    pub single_transaction: bool,
    /// The others run after one that failed.
    pub keep_going: bool,
    /// A person goes on with the session: a transaction that the script itself left open is theirs.
    pub session_goes_on: bool,
}

impl Default for Wanted {
    fn default() -> Self {
        Wanted { from: 1, single_transaction: false, keep_going: false, session_goes_on: false }
    }
}

/// What was done.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Done {
    /// Statements that ran, those that failed among them.
    pub statements: u64,
    /// Statements that failed.
    pub failed: u64,
    /// The rows that all of them changed, as far as the server told.
    pub affected: u64,
}

/// Why a script ended before its end.
#[derive(Debug, thiserror::Error)]
pub enum Unfinished {
    /// A person stopped it.
    #[error("cancelled {}", match .within { true => format!("in the statement at line {line}"), false => format!("before the statement at line {line}") })]
    Stopped {
        /// The line.
        line: u64,
        /// Whether the statement there had begun.
        within: bool,
    },
    /// It cannot be read.
    #[error(transparent)]
    Script(ScriptError),
    /// A statement may end in two places.
    #[error("the statement at line {0} may end in two places; put a semicolon where it ends")]
    TwoReadings(u64),
    /// A statement failed.
    #[error("{0}")]
    Statement(Box<FailedStatement>),
    /// The transaction around it could not be begun or ended.
    #[error("{0}")]
    Transaction(Box<EngineError>),
    /// Everything ran, but for some that failed.
    #[error("{} of {} statement{} failed", .0.failed, .0.statements, if .0.statements == 1 { "" } else { "s" })]
    SomeFailed(Done),
}

/// A statement that failed.
#[derive(Debug, Clone)]
pub struct FailedStatement {
    /// Which one of those that ran, from 1.
    pub number: u64,
    /// The line that it begins at.
    pub line: u64,
    /// Why, with its place in the statement.
    pub explained: String,
    /// The error.
    pub error: EngineError,
}

impl std::fmt::Display for FailedStatement {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "statement {} at line {}: {}", self.number, self.line, self.explained)
    }
}

/// Who is told meanwhile.
pub trait Watcher {
    /// Receives what the next statement gives.
    fn sink(&mut self) -> Box<dyn Sink>;

    /// A statement failed, and the others run after it.
    fn failed(&mut self, failed: &FailedStatement);

    /// Something that has to be known: about the transaction, or what was left out.
    fn note(&mut self, note: &str);
}

/// Runs a script. What was done is told whatever the end. A transaction around all of it that did not get to its end is
/// rolled back, and one that the script left open, unless the session goes on. One that was open before is a person's own,
/// and no other is begun in it.
pub fn carry_out(
    session: &mut dyn Session,
    script: &mut Script,
    wanted: Wanted,
    watcher: &mut dyn Watcher,
    (meter, stop): (&Meter, &Stop),
) -> (Done, Result<(), Unfinished>) {
    let words = &script.dialect.transaction;
    let was_open = session.location().in_transaction();
    if wanted.single_transaction
        && !was_open
        && let Err(error) = plain(session, words.begin)
    {
        return (Done::default(), Err(Unfinished::Transaction(Box::new(error))));
    }
    let mut done = Done::default();
    let ran = each(session, script, wanted, watcher, &mut done, (meter, stop));
    let outcome = match was_open || wanted.session_goes_on && !wanted.single_transaction {
        true => ran,
        false => end(session, words, wanted, watcher, ran),
    };
    let outcome = match outcome {
        Ok(()) if done.failed > 0 => Err(Unfinished::SomeFailed(done)),
        outcome => outcome,
    };
    (done, outcome)
}

/// Sends words about the transaction.
fn plain(session: &mut dyn Session, text: &str) -> Result<(), EngineError> {
    session.run(&Request::new(text), Box::new(Nothing))
}

/// Ends the transaction that is open after the statements.
fn end(
    session: &mut dyn Session,
    words: &TransactionWords,
    wanted: Wanted,
    watcher: &mut dyn Watcher,
    ran: Result<(), Unfinished>,
) -> Result<(), Unfinished> {
    let mut outcome = ran;
    if wanted.single_transaction && outcome.is_ok() {
        if session.location().in_transaction() {
            outcome = plain(session, words.commit).map_err(|error| Unfinished::Transaction(Box::new(error)));
        } else {
            watcher.note("the transaction ended before the last statement: one of them ended it");
        }
    }
    if !session.location().in_transaction() {
        return outcome;
    }
    let what = if wanted.single_transaction { "everything" } else { "a transaction was open at the end; it" };
    match plain(session, words.roll_back) {
        Ok(()) => watcher.note(&format!("{what} was rolled back")),
        // Where the connection is lost the server does; what went wrong before is more to the point.
        Err(error) if outcome.is_ok() => outcome = Err(Unfinished::Transaction(Box::new(error))),
        Err(error) => watcher.note(&format!("rolling back: {error}")),
    }
    outcome
}

fn each(
    session: &mut dyn Session,
    script: &mut Script,
    wanted: Wanted,
    watcher: &mut dyn Watcher,
    done: &mut Done,
    (meter, stop): (&Meter, &Stop),
) -> Result<(), Unfinished> {
    let mut taken = 0;
    let mut told_of_out_lines = false;
    for piece in script {
        let piece = piece.map_err(|error| match error {
            ScriptError::Stopped(line) => Unfinished::Stopped { line, within: false },
            error => Unfinished::Script(error),
        });
        let Piece { job, line, rows, is_unended } = piece?;
        if line < wanted.from {
            continue;
        }
        // A part of the one before.
        if taken > 0 {
            taken -= 1;
            continue;
        }
        if stop.is_wished() {
            return Err(Unfinished::Stopped { line, within: false });
        }
        let job = match reading::read(session, &job, stop) {
            Read::AsItStands => job,
            Read::Longer(job, more) => {
                taken = more;
                *job
            }
            Read::Ask(..) => return Err(Unfinished::TwoReadings(line)),
        };
        if !job.out.is_empty() && !std::mem::replace(&mut told_of_out_lines, true) {
            watcher.note(&format!(
                "out-lines write nothing where a script runs while it is read; the first is at line {line}"
            ));
        }
        done.statements += 1;
        meter.statements.store(done.statements, Ordering::Relaxed);
        meter.line.store(line, Ordering::Relaxed);
        let affected = Arc::new(Mutex::new(0));
        let sink = Counting { affected: Arc::clone(&affected), other: watcher.sink() };
        let sent = job.sent();
        let request = Request::new(&sent).until(stop).taking(rows.as_deref());
        let outcome = session.run(&request, Box::new(sink));
        done.affected += *affected.lock().unwrap_or_else(PoisonError::into_inner);
        if is_unended.load(Ordering::Relaxed) {
            watcher.note(&format!(
                "the rows of the COPY at line {line} end with the file, and no line \\. ends them: it may be cut off"
            ));
        }
        let Err(error) = outcome else { continue };
        if stop.is_wished() || error.kind == ErrorKind::Stopped {
            return Err(Unfinished::Stopped { line, within: true });
        }
        // What shows the place in a statement shows its line, which stays in the logbook: not one with a password in it.
        let explained = match &job.kept {
            Some(_) => error.to_string(),
            None => error.explain(&job.statement, usize::try_from(line).unwrap_or(usize::MAX)),
        };
        let lost = error.kind == ErrorKind::Lost;
        let failed = FailedStatement { number: done.statements, line, explained, error };
        done.failed += 1;
        if !wanted.keep_going || lost {
            return Err(Unfinished::Statement(Box::new(failed)));
        }
        watcher.failed(&failed);
    }
    Ok(())
}

/// Counts the rows that a statement changed; its own rows go on.
struct Counting {
    affected: Arc<Mutex<u64>>,
    other: Box<dyn Sink>,
}

impl Sink for Counting {
    fn wanted(&self) -> Flow {
        self.other.wanted()
    }

    fn take(&mut self, event: Event) -> Flow {
        if let Event::Ends { affected: Some(rows) } = &event {
            *self.affected.lock().unwrap_or_else(PoisonError::into_inner) += rows;
        }
        self.other.take(event)
    }
}
