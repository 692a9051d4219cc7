//! Work that takes a while: sorting, looking, exporting. Each has a thread of its own, says how far it
//! has come and ends when it is told to, so that neither the screen nor its pages wait.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use jaunty_core::arrange::condition::Test;
use jaunty_core::arrange::differ::Difference;
use jaunty_core::arrange::facts::{ColumnStats, Sums};
use jaunty_core::arrange::parts::{OpenError, Opened};
use jaunty_core::arrange::{ArrangeError, Arrangement, Progress};
use jaunty_core::buffers::Hit;
use jaunty_core::export::Format;
use jaunty_core::files::parts::Held;
use jaunty_core::import::preview::Preview;
use jaunty_core::logbook::{Entry, Outcome, Searchable};
use jaunty_core::run::Run;
use jaunty_core::run::connection_worker::ScriptOrder;
use jaunty_core::run::prepare::{Prepared, Unready};
use jaunty_core::slip::Slip;
use jaunty_language::outline::Outline;
use jaunty_seam::engine::Stop;
use jaunty_seam::profile::Profile;

use jaunty_language::plan::Plan;

use crate::app::{
    Answered, Buffer, Compared, Drafting, Earlier, Gathered, Kept, LookedFor, Message, Post, ProblemAt, Recalled,
    Sparked, Structures,
};
use jaunty_core::words;

/// Something that is being done.
#[derive(Debug)]
pub struct Work {
    /// Its number.
    pub number: u64,
    /// What it is, as `sorting`.
    pub what: String,
    /// What of it there is one at a time.
    pub kind: Kind,
    progress: Arc<Progress>,
    began: Instant,
    thread: JoinHandle<()>,
}

/// Kinds of work; of some only the latest counts, of orders the latest of a result.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Another order.
    Arrange,
    /// A column, to be opened into its parts.
    Parts,
    /// What a column holds.
    ColumnStats,
    /// A chart.
    Chart,
    /// Sparklines of a result's columns.
    Sparklines,
    /// A plan.
    Plan,
    /// Rows, to be changed.
    Slip,
    /// The whole value in hand.
    Value,
    /// What differs between two results.
    Differ,
    /// Values of rows that differ.
    DifferingRows,
    /// What differs between two structures.
    Structures,
    /// A file, looked at before it is loaded.
    Import,
    /// A script, looked at before it is run.
    Script,
    /// Rows of a file on their way into a table.
    Load,
    /// A copy of tables.
    Copy,
    /// How many rows are in the way of a new rule.
    Rules,
    /// What a selection adds up to.
    Sums,
    /// The runs of the logbook.
    Logbook,
    /// Files of buffers.
    Files,
    /// Lines of buffers.
    Find,
    /// What the logbook remembers of a buffer.
    Recall,
    /// A note in the logbook.
    Note,
    /// The statements of a large buffer.
    Outline,
    /// A large file, to be a buffer.
    Open,
    /// Many statements, to be run.
    Prepare,
    /// What is wrong in many statements.
    Problems,
    /// Rows for a file, the clipboard or the buffer.
    Write,
    /// Rows from the clipboard.
    Clipboard,
}

/// What came of it.
#[derive(Debug)]
pub enum Done {
    /// Rows in another order.
    Arranged(Result<Arrangement, ArrangeError>),
    /// Rows are in a file; what to say about it.
    Saved(Result<String, String>),
    /// This file is there already; what asked for it, and what the answer to replace it is.
    IsThere(PathBuf, String, Answered),
    /// A script, or what a person wrote and why that is not one.
    Script(Result<Box<ScriptOrder>, (String, String)>),
    /// A condition that a value of this archive makes, on this column.
    Equal(PathBuf, usize, Result<Test, String>),
    /// Text for the clipboard, and what to say.
    Copied(Result<(String, String), String>),
    /// The statements of a buffer, as it was then; none if it is not wanted any more.
    Outlined(PathBuf, Option<Box<Outline>>),
    /// Statements of a buffer as it was at this revision, for the connection with this number: ready to run, or why
    /// they are not.
    Prepared(PathBuf, u64, u64, Result<Prepared, Unready>),
    /// What is wrong in a buffer as it was at this revision, and what for; none where it was stopped.
    Problems(PathBuf, u64, LookedFor, Option<Vec<ProblemAt>>),
    /// A buffer, and the place in it to go to.
    Opened(Result<Box<Buffer>, String>, Option<usize>),
    /// Rows for the buffer, as text in this format.
    Written(Result<(String, Format), String>),
    /// What a column holds.
    ColumnStats(Result<Box<ColumnStats>, ArrangeError>),
    /// What is drawn of a result.
    Charted(Box<Gathered>),
    /// Sparklines of a result's columns.
    Sparked(Sparked),
    /// The plan of a statement, and the one that it had before.
    Planned(Box<Result<(Plan, Option<Earlier>), String>>),
    /// Files of buffers.
    Files(Vec<PathBuf>),
    /// Lines that were looked for in all buffers, or why there are none.
    Found(Result<Vec<Hit>, String>),
    /// What the logbook remembers of a buffer, and the connection that it has if that does not name one.
    Recalled(PathBuf, Recalled, Option<Profile>),
    /// Whether the rows of the run with this number are kept however old they get.
    Pinned(i64, Result<bool, String>),
    /// Runs of the logbook, with what of each is searched.
    Logbook(Result<Vec<(Entry, Searchable)>, String>),
    /// What the cells that are marked add up to.
    Sums(Option<Sums>),
    /// Rows that were read to be changed.
    Drafting(Result<Box<Drafting>, String>),
    /// The slip that takes the last one of a connection back.
    Opposite(Option<Box<Slip>>),
    /// A statement for the buffer.
    Statement(Result<String, String>),
    /// What came of comparing two results by a key.
    Compared(Compared),
    /// What came of comparing two structures.
    Structures(Result<Box<Structures>, String>),
    /// How many rows are in the way of the rules that this statement makes, in lines.
    InTheWay(String, Vec<String>),
    /// A copy that was kept, and what is to follow.
    Kept(Box<Kept>),
    /// What a file holds and where its columns would go.
    Previewed(Result<Box<Preview>, String>),
    /// What is in the desktop's clipboard, in a file, or why that cannot be read.
    Clipboard(Result<Arc<Held>, String>),
    /// How many rows were loaded, in words, or why none.
    Loaded(Result<String, String>),
    /// The first difference of two results from a row of this archive on.
    Differs(PathBuf, u64, Result<Option<Difference>, ArrangeError>),
    /// A column opened into its parts.
    Parts {
        /// The archive that the rows of the run are in.
        base: PathBuf,
        /// The one whose column it was.
        of: PathBuf,
        /// Whether the column was a part of the one that was opened last.
        of_parts: bool,
        /// What came of it.
        found: Result<Opened, OpenError>,
    },
}

/// Waits until a run has fetched all its rows; what it fetched so far is what there is if it fails.
pub fn wait_for_rest(run: &Run, progress: &Progress) {
    run.fetch_rest();
    while run.outcome() == Outcome::Running && !progress.is_stopped() {
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// Does work that a token stops, for as long as it is wanted: whoever stops the work stops what waits for a server, too.
pub fn stopping<T>(progress: &Progress, stop: &Stop, act: impl FnOnce() -> T) -> T {
    const EVERY: Duration = Duration::from_millis(20);
    let over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            while !over.load(Ordering::Relaxed) && !stop.is_wished() {
                if progress.is_stopped() {
                    stop.wish();
                }
                std::thread::sleep(EVERY);
            }
        });
        let done = act();
        over.store(true, Ordering::Relaxed);
        done
    })
}

impl Work {
    /// Begins work on a thread of its own. What comes of it is posted under its number.
    pub fn begin(
        number: u64,
        (kind, what): (Kind, String),
        post: &Post,
        act: impl FnOnce(&Progress) -> Done + Send + 'static,
    ) -> std::io::Result<Work> {
        let progress = Arc::new(Progress::default());
        let (theirs, post) = (Arc::clone(&progress), Arc::clone(post));
        let work = move || post(Message::Worked(number, act(&theirs)));
        let thread = std::thread::Builder::new().name("work".into()).spawn(work)?;
        Ok(Work { number, what, kind, progress, began: Instant::now(), thread })
    }

    /// Whether a person is told of it. What comes at once as a rule would only flicker.
    pub fn is_told(&self) -> bool {
        const AT_ONCE: Duration = Duration::from_millis(300);
        match self.kind {
            Kind::Sums | Kind::Logbook | Kind::DifferingRows => false,
            Kind::Recall | Kind::Note | Kind::Files | Kind::Outline => self.began.elapsed() > AT_ONCE,
            _ => true,
        }
    }

    /// Asks it to end, and waits until it has, but not for long: what it began to write is removed then.
    pub fn end(self) {
        const NOT_LONGER: Duration = Duration::from_secs(2);
        self.stop();
        let since = Instant::now();
        while !self.thread.is_finished() && since.elapsed() < NOT_LONGER {
            std::thread::sleep(Duration::from_millis(2));
        }
    }

    /// Asks it to end.
    pub fn stop(&self) {
        self.progress.stop();
    }

    /// What it is, how far, and for how long.
    pub fn words(&self) -> String {
        let (done, of) = self.progress.so_far();
        if of == 0 {
            return format!("{} · waiting for rows · {}", self.what, words::clock(self.began.elapsed()));
        }
        let percent = (done.min(of) * 100).checked_div(of).unwrap_or(0);
        format!("{} · {percent} % · {}", self.what, words::clock(self.began.elapsed()))
    }
}
