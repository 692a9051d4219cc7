//! The thread that writes a result's rows, so that fetching goes on meanwhile.

use std::io;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, SyncSender, sync_channel};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use arrow_array::RecordBatch;
use arrow_schema::ArrowError;

use super::execute::Tell;
use super::keeping::Keeping;
use super::state::Run;
use crate::archive::{ArchiveError, Writer};
use jaunty_seam::engine::{Event, Flow, Sink};
use jaunty_seam::error::{EngineError, ErrorKind};

/// How often a growing run is told of.
const TELL_EVERY: Duration = Duration::from_millis(50);

/// Why rows could not be kept, if so.
#[derive(Clone, Default)]
pub struct Failure(Arc<Mutex<Option<EngineError>>>);

impl Failure {
    /// Takes it out.
    pub fn take(&self) -> Option<EngineError> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take()
    }

    /// Whether there is one.
    pub fn is_there(&self) -> bool {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).is_some()
    }

    /// Notes why; nothing more is wanted.
    pub fn set(&self, error: &ArchiveError) -> Flow {
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
pub struct ArchiveWriter {
    batches: SyncSender<RecordBatch>,
    ahead: Arc<Ahead>,
    thread: JoinHandle<()>,
    /// Whoever receives the rows as they come wants no more.
    full: Arc<AtomicBool>,
}

/// Who receives the same rows as the archive, after it has them.
pub type Tap = Option<Arc<Mutex<Box<dyn Sink>>>>;

impl ArchiveWriter {
    /// Starts the thread.
    pub fn begin(
        mut writer: Writer,
        run: &Arc<Run>,
        keeping: &Keeping,
        tap: Tap,
        (tell, failure): (&Tell, &Failure),
    ) -> io::Result<ArchiveWriter> {
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
                    && tap.lock().unwrap_or_else(PoisonError::into_inner).take(Event::Rows(batch.clone())) == Flow::Stop
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
        Ok(ArchiveWriter { batches, ahead, thread, full })
    }

    /// Hands a batch of so many bytes on; false if the thread has ended, which has said why.
    pub fn send(&self, batch: RecordBatch, bytes: u64) -> bool {
        self.ahead.change(|ahead| Some(ahead + bytes));
        let sent = self.batches.send(batch).is_ok();
        if sent {
            self.ahead.wait_for_room();
        }
        sent
    }

    /// Whether whoever receives the rows as they come wants no more.
    pub fn is_full(&self) -> bool {
        self.full.load(Ordering::Relaxed)
    }

    /// Waits until every row is written, and the file has its footer.
    pub fn finish(self) {
        let ArchiveWriter { batches, thread, .. } = self;
        drop(batches);
        if thread.join().is_err() {
            tracing::error!("the thread of an archive panicked");
        }
    }
}
