//! Carrying out one run: from the session into the archive and the logbook.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{RecvTimeoutError, SyncSender, sync_channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant, UNIX_EPOCH};

use arrow_array::RecordBatch;
use arrow_schema::{ArrowError, SchemaRef};
use ropey::Rope;

use super::out_line::out_lines;
use super::parameters::Value;
use super::state::{Ahead, KeptRows, Run, RunResult};
use crate::archive::{ArchiveError, Retention, Writer, keep_within};
use crate::connection::{Profile, Setting};
use crate::engine::{EngineError, ErrorKind, Flow, Notice, Place, Session, Sink};
use crate::export::target::Target;
use crate::files::Folders;
use crate::logbook::{Begun, Ended, KeptResult, Logbook, Outcome};
use crate::text::dialect::Dialect;
use crate::text::split::Statement;

/// How often a growing run is told of.
const TELL_EVERY: Duration = Duration::from_millis(50);

/// A statement to be run.
#[derive(Debug, Clone, Default)]
pub struct Job {
    /// The statement, without its semicolon.
    pub statement: String,
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
}

impl Job {
    /// The job of a statement in a text.
    pub fn of(statement: &Statement, rope: &Rope, dialect: &'static Dialect, buffer: Option<&Path>) -> Job {
        Job {
            statement: statement.text(rope),
            title: statement.title_text(rope, dialect),
            buffer: buffer.map(Path::to_owned),
            confirmed: false,
            values: Vec::new(),
            out: out_lines(statement, rope, dialect).into_iter().filter_map(|line| line.target.ok()).collect(),
        }
    }
}

/// Where runs are kept. Clones share the logbook.
#[derive(Clone)]
pub struct Keeping {
    logbook: Option<Arc<Mutex<Logbook>>>,
    archives: PathBuf,
    catalogs: PathBuf,
    retention: Retention,
    ahead: Ahead,
    /// Archives of runs that have no number.
    unnumbered: Arc<AtomicU64>,
    /// Those that are removed when the program ends.
    passing: Arc<Mutex<Vec<PathBuf>>>,
    trouble: Option<String>,
}

impl Keeping {
    /// Opens the logbook. If it cannot be used, rows go to the folder for temporary files, and
    /// [`Keeping::trouble`] says why.
    pub fn open(folders: &Folders, retention: Retention) -> Keeping {
        let (logbook, archives, trouble) = match Logbook::open(&folders.logbook(), &folders.archives()) {
            Ok(logbook) => (Some(Arc::new(Mutex::new(logbook))), folders.archives(), None),
            Err(error) => {
                let archives = std::env::temp_dir().join(format!("jaunty-{}", std::process::id()));
                (None, archives, Some(format!("runs are not remembered: {error}")))
            }
        };
        clear_passing(&archives);
        let catalogs = folders.catalogs();
        Keeping {
            logbook,
            archives,
            catalogs,
            retention,
            ahead: Ahead::ALL,
            passing: Arc::default(),
            unnumbered: Arc::default(),
            trouble,
        }
    }

    /// With a limit to how far runs fetch ahead of whoever reads.
    pub fn ahead(self, ahead: Ahead) -> Keeping {
        Keeping { ahead, ..self }
    }

    /// Where catalogs are kept.
    pub fn catalogs(&self) -> &Path {
        &self.catalogs
    }

    /// Why nothing is remembered, if so.
    pub fn trouble(&self) -> Option<&str> {
        self.trouble.as_deref()
    }

    /// The logbook, if it can be used.
    pub fn logbook(&self) -> Option<MutexGuard<'_, Logbook>> {
        self.logbook.as_ref().map(|logbook| logbook.lock().unwrap_or_else(PoisonError::into_inner))
    }

    fn archive_path(&self, number: Option<i64>, position: usize) -> PathBuf {
        let name = match number {
            Some(number) => format!("{number}-{position}.arrow"),
            None => {
                let count = self.unnumbered.fetch_add(1, Ordering::Relaxed);
                let path = self.archives.join(format!("{PASSING}{}-{count}.arrow", std::process::id()));
                self.passing.lock().unwrap_or_else(PoisonError::into_inner).push(path.clone());
                return path;
            }
        };
        self.archives.join(name)
    }

    /// Makes room for what comes.
    fn tidy(&self) {
        let pinned = self.note(|logbook| logbook.pinned()).unwrap_or_default();
        if let Err(error) = keep_within(&self.archives, self.retention, &pinned.into_iter().collect()) {
            tracing::warn!(%error, "old archives could not be removed");
        }
    }

    /// Writes to the logbook. A logbook that fails does not keep a statement from running.
    fn note<T>(&self, act: impl FnOnce(&Logbook) -> Result<T, crate::logbook::LogbookError>) -> Option<T> {
        act(&*self.logbook()?).inspect_err(|error| tracing::warn!(%error, "a run could not be noted")).ok()
    }

    /// Removes archives that nobody could find again. For the end of the program.
    pub fn clear_unremembered(&self) {
        for path in self.passing.lock().unwrap_or_else(PoisonError::into_inner).drain(..) {
            let _ = std::fs::remove_file(path);
        }
        if self.logbook.is_none() {
            let _ = std::fs::remove_dir_all(&self.archives);
        }
    }
}

/// What the names of archives begin with that last no longer than the program, with its process number.
const PASSING: &str = "passing-";

/// Removes what programs that are gone left behind.
fn clear_passing(archives: &Path) {
    for entry in std::fs::read_dir(archives).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let process = name.strip_prefix(PASSING).and_then(|rest| rest.split('-').next());
        if process.is_some_and(|process| !Path::new("/proc").join(process).exists()) {
            let _ = std::fs::remove_file(entry.path());
        }
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
    keeping.tidy();
    let started = std::time::SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    let begun = Begun {
        connection: &profile.name,
        engine: &profile.engine,
        database: &place.database,
        buffer: job.buffer.as_deref(),
        title: job.title.as_deref(),
        statement: &job.statement,
        values: &job.values,
        session: &place.session,
        started_ms: i64::try_from(started.as_millis()).unwrap_or(i64::MAX),
    };
    let number = if keeps(profile) { keeping.note(|logbook| logbook.begin(&begun)) } else { None };
    let run = Run::begin(job.statement.clone(), job.title.clone(), number);
    let run = run.sent_to(&job.out, job.buffer.as_deref());
    // What goes elsewhere is wanted whole.
    let run = if tap.is_none() && job.out.is_empty() { run.ahead(keeping.ahead) } else { run };
    let run = Arc::new(run);
    tell(&run);
    let failure = Failure::default();
    let keeper = Keeper {
        run: Arc::clone(&run),
        keeping: keeping.clone(),
        lane: None,
        fetched: (0, 0),
        failure: failure.clone(),
        tap,
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
        let remedy = if matches!(source, Some(StorageFull | QuotaExceeded | FileTooLarge)) {
            "The disk is full: free some space and run it again. The rows so far are kept."
        } else {
            "The rows so far are kept; look at the state folder and run it again."
        };
        let error = EngineError::new(ErrorKind::Local, format!("the rows cannot be kept: {error}")).remedy(remedy);
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
        Flow::Stop
    }
}

/// Batches on their way to the archive. Fetching goes on while they are written, but not further
/// ahead than this, so that memory stays bounded.
const BATCHES_AHEAD: usize = 3;

/// The thread that writes one result's rows.
struct Lane {
    batches: SyncSender<RecordBatch>,
    thread: JoinHandle<()>,
}

impl Lane {
    fn begin(mut writer: Writer, run: &Arc<Run>, tell: &Tell, failure: &Failure) -> io::Result<Lane> {
        let (batches, inbox) = sync_channel::<RecordBatch>(BATCHES_AHEAD);
        let (run, tell, failure) = (Arc::clone(run), Arc::clone(tell), failure.clone());
        let write = move || {
            let mut told: Option<Instant> = None;
            let mut next = inbox.recv().ok();
            while let Some(batch) = next.take() {
                if let Err(error) = writer.write(&batch) {
                    failure.set(&error);
                    return;
                }
                run.add_rows(batch.num_rows());
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
        Ok(Lane { batches, thread })
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
    tap: Option<Box<dyn Sink>>,
    tell: Tell,
}

impl Keeper {
    /// Waits until every row of the last result is written.
    fn finish_archive(&mut self) {
        if let Some(Lane { batches, thread }) = self.lane.take() {
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
        let lane = Lane::begin(writer, &self.run, &self.tell, &self.failure);
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

    fn tap(&mut self, act: impl FnOnce(&mut dyn Sink) -> Flow) -> Flow {
        match &mut self.tap {
            Some(tap) => act(tap.as_mut()),
            None => Flow::GoOn,
        }
    }
}

impl Sink for Keeper {
    fn wanted(&self) -> Flow {
        if self.run.is_stopped() || self.failure.is_there() {
            return Flow::Stop;
        }
        self.tap.as_ref().map_or(Flow::GoOn, |tap| tap.wanted())
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
        self.fetched.1 += batch.get_array_memory_size() as u64;
        // A lane that has ended has said why.
        if self.lane.as_ref().is_some_and(|lane| lane.batches.send(batch.clone()).is_err()) {
            return Flow::Stop;
        }
        let (run, tell) = (&self.run, &self.tell);
        run.wait_for_room(self.fetched.0, self.fetched.1, || tell(run));
        match self.tap(|tap| tap.batch(batch)) {
            Flow::GoOn => self.wanted(),
            Flow::Stop => Flow::Stop,
        }
    }

    fn affected(&mut self, rows: Option<u64>) -> Flow {
        self.finish_archive();
        self.add_result(RunResult::Affected(rows));
        self.tap(|tap| tap.affected(rows))
    }

    fn notice(&mut self, notice: Notice) {
        if let Some(tap) = &mut self.tap {
            tap.notice(notice.clone());
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
