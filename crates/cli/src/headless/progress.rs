//! How far work is, on standard error: for a person at a terminal, and only where it takes a while.

use std::sync::Arc;
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::{Duration, Instant};

use jaunty_core::arrange::Progress;
use jaunty_core::logbook::Outcome;
use jaunty_core::run::execute::Tell;
use jaunty_core::words;

use super::interrupt::Interrupt;

/// What is quicker than this shows no progress.
const QUIET: Duration = Duration::from_millis(300);
/// How often it is told.
const EVERY: Duration = Duration::from_millis(200);

/// Takes the line away that progress was shown in.
pub fn clear() {
    eprint!("\r\x1b[K");
}

/// Shows how far a run has come.
pub fn of_run(shows: bool) -> Tell {
    if !shows {
        return Arc::new(|_| {});
    }
    Arc::new(|run| {
        if run.outcome() == Outcome::Running && run.duration() > QUIET {
            let rows = words::count(run.rows(), "row");
            eprint!("\r{rows} · {}\x1b[K", words::clock(run.duration()));
        }
    })
}

/// Does work with rows that an interrupt stops, and shows meanwhile how many of them are done.
pub fn with_cancel<T: Send>(
    shows: bool,
    what: &str,
    interrupt: &Interrupt,
    act: impl FnOnce(&Progress) -> T + Send,
) -> T {
    let progress = Arc::new(Progress::default());
    let stopped = Arc::clone(&progress);
    interrupt.around(move || stopped.stop(), || if shows { shown(what, &progress, act) } else { act(&progress) })
}

fn shown<T: Send>(what: &str, progress: &Progress, act: impl FnOnce(&Progress) -> T + Send) -> T {
    let since = Instant::now();
    std::thread::scope(|scope| {
        let (done, over) = channel::<()>();
        scope.spawn(|| {
            // Nothing is ever sent; the work lets go of its end when it is over.
            let over = over;
            let mut wait = QUIET;
            while over.recv_timeout(wait) == Err(RecvTimeoutError::Timeout) {
                wait = EVERY;
                let (rows, of) = progress.so_far();
                let rows = format!("{} of {}", words::number(rows.min(of)), words::count(of, "row"));
                eprint!("\r{what} · {rows} · {}\x1b[K", words::clock(since.elapsed()));
            }
            if wait == EVERY {
                clear();
            }
        });
        let outcome = act(progress);
        drop(done);
        outcome
    })
}
