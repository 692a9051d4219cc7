//! `jaunty run` of a file that is large: its statements run while it is read, and memory does not grow with it.
//!
//! The logbook has one run for all of it.

use std::fs::File;
use std::io::{IsTerminal, Read};
use std::path::Path;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use jaunty_core::files::encoding::marked;
use jaunty_core::run::script::carry_out::{FailedStatement, Unfinished, Wanted, Watcher, carry_out};
use jaunty_core::run::script::{Meter, Noted, Script};
use jaunty_core::words;
use jaunty_language::text::clean::clean_lines;
use jaunty_seam::engine::{Session, Sink, Stop};
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

/// Whether a file is run while it is read, and what it is: it is large, and all of it is wanted.
pub fn large<'a>(path: &'a Path, with: &With, from: Option<usize>, single_transaction: bool) -> Option<Large<'a>> {
    let size = std::fs::metadata(path).ok().filter(std::fs::Metadata::is_file)?.len();
    // Another encoding is read whole.
    let mut head = [0; 4];
    let read = File::open(path).and_then(|mut file| file.read(&mut head)).unwrap_or_default();
    if marked(head.get(..read).unwrap_or_default()).is_some() {
        return None;
    }
    let asks = with.profile.guard != Guard::Open && !with.yes;
    (size >= LARGE && !asks && with.output.lock().takes_rows_as_they_come()).then(|| Large {
        path,
        size,
        from: from.map_or(1, |line| line as u64),
        single_transaction,
    })
}

/// Runs it.
pub fn run(session: &mut dyn Session, large: &Large, with: &With) -> Result<(), Failure> {
    let file = File::open(large.path)
        .map_err(|error| Failure::Usage(format!("{} cannot be read: {error}", large.path.display())))?;
    let buffer = std::path::absolute(large.path).ok();
    let wanted = Wanted {
        from: large.from,
        single_transaction: large.single_transaction,
        keep_going: with.keep_going,
        session_goes_on: false,
    };
    let name = large.path.display().to_string();
    let noted = Noted::begin(with.keeping, (with.profile, &session.location()), &name, wanted);
    let since = Instant::now();
    let (meter, stop) = (Arc::new(Meter::default()), Stop::default());
    let mut script = Script::new(file, with.dialect, buffer, &meter).until(&stop);
    let shows = with.output.lock().shows_progress() && std::io::stderr().is_terminal();
    let progress = shows.then(|| Ticker::begin(&meter, large.size));
    let mut watcher = Headless { with, progress };
    let wish = stop.clone();
    let (done, outcome) = with
        .interrupt
        .around(move || wish.wish(), || carry_out(session, &mut script, wanted, &mut watcher, (&meter, &stop)));
    drop(watcher);
    noted.end(with.keeping, done, outcome.as_ref().err(), since.elapsed());
    if !with.quiet {
        let statements = words::count(done.statements, "statement");
        let affected = words::count(done.affected, "row");
        eprintln!("{statements} run, {affected} changed in {}", words::duration(since.elapsed()));
    }
    outcome.map_err(|unfinished| match unfinished {
        Unfinished::Stopped { .. } => Failure::Stopped(unfinished.to_string()),
        Unfinished::Script(_) | Unfinished::TwoReadings(_) => Failure::Usage(unfinished.to_string()),
        Unfinished::Statement(_) | Unfinished::Transaction(_) | Unfinished::SomeFailed(_) => {
            Failure::Database(unfinished.to_string())
        }
    })
}

/// Rows go where the output goes, and what went wrong to standard error.
struct Headless<'a> {
    with: &'a With<'a>,
    progress: Option<Ticker>,
}

impl Headless<'_> {
    fn tell(&self, text: &str) {
        let _line = self.progress.as_ref().map(Ticker::pause);
        eprintln!("jaunty: {}", clean_lines(text));
    }
}

impl Watcher for Headless<'_> {
    fn sink(&mut self) -> Box<dyn Sink> {
        Box::new(self.with.output.clone())
    }

    fn failed(&mut self, failed: &FailedStatement) {
        self.tell(&failed.to_string());
    }

    fn note(&mut self, note: &str) {
        self.tell(note);
    }
}

/// The thread that shows how far it is, also while one statement takes long.
struct Ticker {
    ended: Arc<(Mutex<bool>, Condvar)>,
    thread: Option<JoinHandle<()>>,
}

impl Ticker {
    fn begin(meter: &Arc<Meter>, size: u64) -> Ticker {
        let ended = Arc::new((Mutex::new(false), Condvar::new()));
        let (meter, state, since) = (Arc::clone(meter), Arc::clone(&ended), Instant::now());
        let show = move || {
            let (ended, waits) = &*state;
            let mut ended = ended.lock().unwrap_or_else(PoisonError::into_inner);
            while !*ended {
                ended = waits.wait_timeout(ended, EVERY).unwrap_or_else(PoisonError::into_inner).0;
                if !*ended && since.elapsed() > QUIET {
                    eprint!("\r{} · {}\x1b[K", words::script(&meter, size), words::clock(since.elapsed()));
                }
            }
        };
        let thread = std::thread::Builder::new().name("progress".into()).spawn(show);
        Ticker { ended, thread: thread.inspect_err(|error| tracing::warn!(%error, "no progress is shown")).ok() }
    }

    /// Clears the line; it is shown again once what this gives is dropped.
    fn pause(&self) -> MutexGuard<'_, bool> {
        let guard = self.ended.0.lock().unwrap_or_else(PoisonError::into_inner);
        progress::clear();
        guard
    }
}

impl Drop for Ticker {
    fn drop(&mut self) {
        *self.pause() = true;
        self.ended.1.notify_all();
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}
