//! Carrying out one run: from the session into the archive and the logbook.

use std::borrow::Cow;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, SyncSender, sync_channel};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant, UNIX_EPOCH};

use arrow_array::RecordBatch;
use arrow_schema::{ArrowError, SchemaRef};
use ropey::Rope;

use super::keeping::Keeping;
use super::out_line::out_lines;
use super::state::{KeptRows, Run, RunResult};
use crate::archive::{ArchiveError, Writer};
use crate::export::target::Target;
use crate::logbook::{Begun, Ended, KeptResult, Outcome};
use jaunty_language::dialect::Dialect;
use jaunty_language::outline::{MOST_PARTS, Outline};
use jaunty_language::split::Statement;
use jaunty_language::statement::parameters::Value;
use jaunty_language::statement::veil;
use jaunty_seam::engine::{Flow, Notice, Place, Session, Sink};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Profile, Setting};

/// How often a growing run is told of.
const TELL_EVERY: Duration = Duration::from_millis(50);

/// A statement to be run.
#[derive(Debug, Clone, Default)]
pub struct Job {
    /// The statement, without its semicolon.
    pub statement: String,
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
    /// The job of a statement in a text.
    pub fn of(statement: &Statement, rope: &Rope, dialect: &'static Dialect, buffer: Option<&Path>) -> Job {
        let text = statement.text(rope);
        Job {
            kept: kept_instead(&text, dialect),
            statement: text,
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
    if dialect.lines || !open(statement) {
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
fn keeps(profile: &Profile) -> bool {
    profile.settings.get("keep") != Some(&Setting::Flag(false))
}

/// Is called when a run has begun, has grown and has ended, with the run.
pub type Tell = Arc<dyn Fn(&Arc<Run>) + Send + Sync>;

/// Runs one statement to its end. `tap` receives the same results as the archive, as they come.
///
/// Whatever happens, rows that were fetched are in the archive, and the logbook says how it ended.
pub fn execute(
    session: &mut dyn Session,
    (profile, place): (&Profile, &Place),
    job: &Job,
    keeping: &Keeping,
    tap: Option<Box<dyn Sink>>,
    tell: &Tell,
) -> Arc<Run> {
    // What is too much now may be gone by the time that rows come.
    keeping.make_room_now_and_then();
    let started = std::time::SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    let begun = Begun {
        connection: &profile.name,
        engine: &profile.engine,
        database: &place.database,
        buffer: job.buffer.as_deref(),
        title: job.title.as_deref(),
        statement: job.kept.as_deref().unwrap_or(&job.statement),
        values: &job.values,
        session: &place.session,
        started_ms: i64::try_from(started.as_millis()).unwrap_or(i64::MAX),
    };
    let number = if keeps(profile) { keeping.note(|logbook| logbook.begin(&begun)) } else { None };
    let run = Run::begin(job.statement.clone(), job.title.clone(), number);
    let run = run.at(&profile.name, &place.database).sent_to(&job.out, job.buffer.as_deref());
    // What goes elsewhere is wanted whole.
    let run = if tap.is_none() && job.out.is_empty() { run.ahead(keeping.reads_ahead()) } else { run };
    let run = Arc::new(run);
    tell(&run);
    let failure = Failure::default();
    let keeper = Keeper {
        run: Arc::clone(&run),
        keeping: keeping.clone(),
        lane: None,
        fetched: (0, 0),
        failure: failure.clone(),
        tap: tap.map(|tap| Arc::new(Mutex::new(tap))),
        tell: Arc::clone(tell),
    };
    let outcome = session.run_with(&job.statement, &job.values, Box::new(keeper));
    let (outcome, error) = match (failure.take(), outcome) {
        (Some(error), _) => (Outcome::Failed, Some(error)),
        (None, Ok(())) => (Outcome::Done, None),
        (None, Err(error)) => match error.kind {
            ErrorKind::Stopped => (Outcome::Stopped, None),
            ErrorKind::Lost => (Outcome::CutShort, Some(error)),
            _ => (Outcome::Failed, Some(error)),
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
        keeping.note(|logbook| logbook.end(number, outcome, &ended));
    }
    tell(&run);
    run
}

/// Why rows could not be kept, if so.
#[derive(Clone, Default)]
struct Failure(Arc<Mutex<Option<EngineError>>>);

impl Failure {
    fn take(&self) -> Option<EngineError> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take()
    }

    fn is_there(&self) -> bool {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).is_some()
    }

    fn set(&self, error: &ArchiveError) -> Flow {
        let source = match error {
            ArchiveError::File { source, .. } | ArchiveError::Rows(ArrowError::IoError(_, source)) => {
                Some(source.kind())
            }
            _ => None,
        };
        use io::ErrorKind::{FileTooLarge, QuotaExceeded, StorageFull};
        let remedy = match (error, source) {
            (ArchiveError::Full(_), _) => {
                "The rows so far are kept. Raise limit_gib below [archives] in settings.toml, or release kept rows in the logbook (ctrl-k), then run it again."
            }
            (_, Some(StorageFull | QuotaExceeded | FileTooLarge)) => {
                "The disk is full: free some space and run it again. The rows so far are kept."
            }
            _ => "The rows so far are kept; look at the state folder and run it again.",
        };
        let error = EngineError::new(ErrorKind::Local, format!("the rows cannot be stored: {error}")).remedy(remedy);
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
        Flow::Stop
    }
}

/// Batches on their way to the archive. Fetching goes on while they are written, but not further
/// ahead than this, so that memory stays bounded.
const BATCHES_AHEAD: usize = 3;

/// The bytes of them, beyond which fetching waits until they are written: of values of hundreds of mebibytes there
/// is one in memory, not four.
const BYTES_AHEAD: u64 = 32 << 20;

/// The bytes of batches that are on their way; none is told any more when the thread that writes has ended.
struct Ahead {
    bytes: Mutex<Option<u64>>,
    written: Condvar,
}

impl Ahead {
    fn change(&self, change: impl FnOnce(u64) -> Option<u64>) {
        let mut bytes = self.bytes.lock().unwrap_or_else(PoisonError::into_inner);
        *bytes = bytes.and_then(change);
        self.written.notify_all();
    }

    /// Waits until few enough are on their way.
    fn wait_for_room(&self) {
        let bytes = self.bytes.lock().unwrap_or_else(PoisonError::into_inner);
        let full = |bytes: &mut Option<u64>| bytes.is_some_and(|bytes| bytes > BYTES_AHEAD);
        drop(self.written.wait_while(bytes, full).unwrap_or_else(PoisonError::into_inner));
    }
}

/// Lets whoever waits go on, however the thread that writes ends.
struct Ends(Arc<Ahead>);

impl Drop for Ends {
    fn drop(&mut self) {
        self.0.change(|_| None);
    }
}

/// The thread that writes one result's rows.
struct Lane {
    batches: SyncSender<RecordBatch>,
    ahead: Arc<Ahead>,
    thread: JoinHandle<()>,
    /// Whoever receives the rows as they come wants no more.
    full: Arc<AtomicBool>,
}

/// Who receives the same rows as the archive, after it has them.
type Tap = Option<Arc<Mutex<Box<dyn Sink>>>>;

impl Lane {
    fn begin(
        mut writer: Writer,
        run: &Arc<Run>,
        keeping: &Keeping,
        tap: Tap,
        (tell, failure): (&Tell, &Failure),
    ) -> io::Result<Lane> {
        let full = Arc::new(AtomicBool::new(false));
        let is_full = Arc::clone(&full);
        let (batches, inbox) = sync_channel::<RecordBatch>(BATCHES_AHEAD);
        let ahead = Arc::new(Ahead { bytes: Mutex::new(Some(0)), written: Condvar::new() });
        let ends = Ends(Arc::clone(&ahead));
        let (run, keeping) = (Arc::clone(run), keeping.clone());
        let (tell, failure) = (Arc::clone(tell), failure.clone());
        let write = move || {
            let mut told: Option<Instant> = None;
            let mut next = inbox.recv().ok();
            let mut unlooked = 0;
            while let Some(batch) = next.take() {
                if let Err(error) = writer.write(&batch) {
                    failure.set(&error);
                    return;
                }
                run.add_rows(batch.num_rows());
                // What is printed is in the archive before, so that a crash takes nothing that was seen.
                if let Some(tap) = &tap
                    && tap.lock().unwrap_or_else(PoisonError::into_inner).batch(batch.clone()) == Flow::Stop
                {
                    is_full.store(true, Ordering::Relaxed);
                }
                let bytes = batch.get_array_memory_size() as u64;
                drop(batch);
                ends.0.change(|ahead| Some(ahead.saturating_sub(bytes)));
                unlooked += bytes;
                if unlooked >= keeping.looks_every() {
                    unlooked = 0;
                    if let Err(error) = keeping.make_room(&run.archives()) {
                        failure.set(&error);
                        // What came is kept; nothing else is taken.
                        break;
                    }
                }
                if told.is_none_or(|told| told.elapsed() >= TELL_EVERY) {
                    told = Some(Instant::now());
                    tell(&run);
                }
                next = match inbox.recv_timeout(TELL_EVERY) {
                    Err(RecvTimeoutError::Timeout) => {
                        // No more comes for now, so what was not told yet is.
                        tell(&run);
                        inbox.recv().ok()
                    }
                    received => received.ok(),
                };
            }
            if let Err(error) = writer.finish() {
                failure.set(&error);
            }
        };
        let thread = std::thread::Builder::new().name("archive".into()).spawn(write)?;
        Ok(Lane { batches, ahead, thread, full })
    }

    /// Hands a batch of so many bytes on; false if the thread has ended, which has said why.
    fn send(&self, batch: RecordBatch, bytes: u64) -> bool {
        self.ahead.change(|ahead| Some(ahead + bytes));
        let sent = self.batches.send(batch).is_ok();
        if sent {
            self.ahead.wait_for_room();
        }
        sent
    }
}

/// The sink of a run: rows go to the archive, facts to the logbook and the screen.
struct Keeper {
    run: Arc<Run>,
    keeping: Keeping,
    lane: Option<Lane>,
    /// Rows and bytes of all results so far.
    fetched: (u64, u64),
    failure: Failure,
    tap: Tap,
    tell: Tell,
}

impl Keeper {
    /// Waits until every row of the last result is written.
    fn finish_archive(&mut self) {
        if let Some(Lane { batches, thread, .. }) = self.lane.take() {
            drop(batches);
            if thread.join().is_err() {
                tracing::error!("the thread of an archive panicked");
            }
        }
    }

    fn begin_archive(&mut self, schema: &SchemaRef) -> Result<(), ArchiveError> {
        let path = self.keeping.archive_path(self.run.number, self.run.results().len());
        let writer = Writer::create(&path, schema)?;
        self.add_result(RunResult::Rows(Arc::new(KeptRows::open(Arc::clone(writer.archive())))));
        let lane = Lane::begin(writer, &self.run, &self.keeping, self.tap.clone(), (&self.tell, &self.failure));
        self.lane = Some(lane.map_err(|source| ArchiveError::File { path, act: "written", source })?);
        Ok(())
    }

    fn add_result(&self, result: RunResult) {
        let kept = match &result {
            RunResult::Rows(rows) => KeptResult::Rows(rows.path().to_owned()),
            RunResult::Affected(rows) => KeptResult::Affected(*rows),
        };
        let position = self.run.add_result(result);
        if let Some(number) = self.run.number {
            self.keeping.note(|logbook| logbook.result(number, position, &kept));
        }
    }

    fn tap(&self, act: impl FnOnce(&mut dyn Sink) -> Flow) -> Flow {
        match &self.tap {
            Some(tap) => act(tap.lock().unwrap_or_else(PoisonError::into_inner).as_mut()),
            None => Flow::GoOn,
        }
    }
}

impl Sink for Keeper {
    fn wanted(&self) -> Flow {
        if self.run.is_stopped() || self.failure.is_there() {
            return Flow::Stop;
        }
        self.tap.as_ref().map_or(Flow::GoOn, |tap| tap.lock().unwrap_or_else(PoisonError::into_inner).wanted())
    }

    fn columns(&mut self, schema: SchemaRef) -> Flow {
        self.finish_archive();
        if let Err(error) = self.begin_archive(&schema) {
            return self.failure.set(&error);
        }
        self.tap(|tap| tap.columns(schema))
    }

    fn batch(&mut self, batch: RecordBatch) -> Flow {
        self.fetched.0 += batch.num_rows() as u64;
        let bytes = batch.get_array_memory_size() as u64;
        self.fetched.1 += bytes;
        if self.lane.as_ref().is_some_and(|lane| !lane.send(batch, bytes)) {
            return Flow::Stop;
        }
        let (run, tell) = (&self.run, &self.tell);
        run.wait_for_room(self.fetched.0, self.fetched.1, || tell(run));
        let full = self.lane.as_ref().is_some_and(|lane| lane.full.load(Ordering::Relaxed));
        if full { Flow::Stop } else { self.wanted() }
    }

    fn affected(&mut self, rows: Option<u64>) -> Flow {
        self.finish_archive();
        self.add_result(RunResult::Affected(rows));
        self.tap(|tap| tap.affected(rows))
    }

    fn notice(&mut self, notice: Notice) {
        if let Some(tap) = &self.tap {
            tap.lock().unwrap_or_else(PoisonError::into_inner).notice(notice.clone());
        }
        self.run.add_notice(notice);
    }
}

impl Drop for Keeper {
    /// However the statement ended, what was fetched is written and gets its footer.
    fn drop(&mut self) {
        self.finish_archive();
    }
}

#[cfg(test)]
mod tests;
