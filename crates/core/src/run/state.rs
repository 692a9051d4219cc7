//! What is known of a run. The screen reads it while the run's thread writes it.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use super::gate::{Ahead, Gate};
use super::kept::{KeptRows, RunResult};
use super::messages::Messages;
use super::out_line::file_of;
use super::script::Meter;
use crate::chart::plot::Texts;
use crate::chart::scale::number;
use crate::export::file::of_result;
use crate::export::target::Target;
use crate::logbook::{Entry, KeptResult, Outcome};
use jaunty_language::outline::StatementId;
use jaunty_seam::engine::{Message, Progress, Stop};
use jaunty_seam::error::EngineError;

/// One execution of one statement.
#[derive(Debug)]
pub struct Run {
    /// Its number in the logbook; none if it could not be written there.
    pub number: Option<i64>,
    /// The statement's identity.
    pub id: StatementId,
    /// The statement.
    pub statement: String,
    /// Its title.
    pub title: Option<String>,
    /// The name of the profile that it runs on.
    pub connection: String,
    /// The database there.
    pub database: String,
    /// How many lines were sent before the statement.
    lines_before: u32,
    /// When it began.
    pub started: SystemTime,
    clock: Instant,
    stop: Stop,
    rows: AtomicU64,
    /// Milliseconds until the first row, plus one; zero while there is none.
    first_row: AtomicU64,
    results: Mutex<Vec<RunResult>>,
    messages: Mutex<Messages>,
    /// How far it is, where it is a script, and the size of that in bytes.
    script: Option<(Arc<Meter>, u64)>,
    /// How many statements a script ran.
    statements: OnceLock<u64>,
    /// How far the server is, by its own word.
    progress: Mutex<Option<Progress>>,
    /// The server's own id of it.
    query_id: OnceLock<String>,
    /// How many rows were touched by what gave rows too.
    affected: Mutex<Option<u64>>,
    /// How far it may fetch ahead of whoever reads.
    gate: Gate,
    /// Where its rows are still to be sent.
    out: Mutex<Vec<(PathBuf, Target)>>,
    end: OnceLock<End>,
    rolled_back: AtomicBool,
}

/// How a run ended.
#[derive(Debug, Clone)]
pub struct End {
    /// How.
    pub outcome: Outcome,
    /// After how long.
    pub duration: Duration,
    /// The error, where there is one.
    pub error: Option<EngineError>,
}

impl Run {
    /// A run that begins now.
    pub fn begin(statement: String, title: Option<String>, number: Option<i64>) -> Run {
        Run {
            number,
            id: StatementId::of(&statement),
            statement,
            title,
            connection: String::new(),
            lines_before: 0,
            database: String::new(),
            started: SystemTime::now(),
            clock: Instant::now(),
            stop: Stop::default(),
            rows: AtomicU64::new(0),
            first_row: AtomicU64::new(0),
            results: Mutex::new(Vec::new()),
            messages: Mutex::default(),
            script: None,
            statements: OnceLock::new(),
            progress: Mutex::default(),
            query_id: OnceLock::new(),
            affected: Mutex::default(),
            gate: Gate::default(),
            out: Mutex::new(Vec::new()),
            end: OnceLock::new(),
            rolled_back: AtomicBool::new(false),
        }
    }

    /// Run behind what it needs of its batch; may be empty.
    pub fn behind(mut self, before: &str) -> Run {
        self.lines_before = if before.is_empty() { 0 } else { before.lines().count() as u32 };
        self
    }

    /// That of a script of so many bytes, which says how far it is.
    pub(super) fn of_script(mut self, meter: &Arc<Meter>, size: u64) -> Run {
        self.script = Some((Arc::clone(meter), size));
        self
    }

    /// How far a script is, and its size in bytes; none where it is not one.
    pub fn script(&self) -> Option<(&Meter, u64)> {
        self.script.as_ref().map(|(meter, size)| (meter.as_ref(), *size))
    }

    /// How many statements a script ran, when it has ended.
    pub fn statements(&self) -> Option<u64> {
        self.statements.get().copied()
    }

    pub(super) fn set_statements(&self, statements: u64) {
        let _ = self.statements.set(statements);
    }

    /// How many lines were sent before the statement, as it needs them of its batch.
    pub fn lines_before(&self) -> u32 {
        self.lines_before
    }

    /// With the place where it runs: a profile's name, and a database.
    pub fn at(mut self, connection: &str, database: &str) -> Run {
        connection.clone_into(&mut self.connection);
        database.clone_into(&mut self.database);
        self
    }

    /// With the files that its rows are to be written to when it is done.
    pub fn sent_to(mut self, targets: &[Target], buffer: Option<&Path>) -> Run {
        let title = self.title.clone().unwrap_or_else(|| self.statement.lines().next().unwrap_or_default().to_owned());
        let named = |target: &Target| (file_of(target, &title, buffer), target.clone());
        self.out = Mutex::new(targets.iter().map(named).collect());
        self
    }

    /// The files that its rows are to be written to. Each call after the first gives none.
    pub fn take_out(&self) -> Vec<(PathBuf, Target)> {
        std::mem::take(&mut *self.out.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Each file to be written, with what it is to hold: the first result goes to the file that is named, and
    /// each that follows to one of its own.
    pub fn files_of(&self, targets: Vec<(PathBuf, Target)>) -> Vec<(PathBuf, Target, Arc<KeptRows>)> {
        let results = self.all_rows();
        let files = targets.iter().flat_map(|(path, target)| {
            let each = results.iter().enumerate();
            each.map(|(result, rows)| {
                let mut target = target.clone();
                target.options.texts = self.texts();
                (of_result(path, result), target, Arc::clone(rows))
            })
        });
        files.collect()
    }

    /// What stands above and below a picture of its rows.
    pub fn texts(&self) -> Texts {
        let first = self.statement.lines().find(|line| !line.trim().is_empty()).unwrap_or_default().trim();
        let title = self.title.clone().unwrap_or_else(|| first.chars().take(200).collect());
        let started = chrono::DateTime::<chrono::Local>::from(self.started).format("%Y-%m-%d %H:%M").to_string();
        let so_far = if self.outcome() == Outcome::Running { " so far" } else { "" };
        let rows = format!("{} row{}{so_far}", number(self.rows() as f64, 0), if self.rows() == 1 { "" } else { "s" });
        let parts = [self.connection.clone(), self.database.clone(), started, rows];
        let parts: Vec<String> = parts.into_iter().filter(|part| !part.is_empty()).collect();
        Texts { title, source: parts.join(" · ") }
    }

    /// A run of earlier, from the logbook.
    pub fn remembered(entry: Entry) -> Run {
        let run = Run::begin(entry.statement, entry.title, Some(entry.number));
        let mut run = run.at(&entry.connection, &entry.database);
        run.started = UNIX_EPOCH + Duration::from_millis(u64::try_from(entry.started_ms).unwrap_or(0));
        run.rows = AtomicU64::new(entry.ended.rows);
        run.first_row = AtomicU64::new(entry.ended.first_row_ms.map_or(0, |ms| ms as u64 + 1));
        let results = entry.results.into_iter().map(|result| match result {
            KeptResult::Rows(path) => RunResult::Rows(Arc::new(KeptRows::closed(path))),
            KeptResult::Affected(rows) => RunResult::Affected(rows),
        });
        run.results = Mutex::new(results.collect());
        let duration = Duration::from_millis(u64::try_from(entry.ended.duration_ms).unwrap_or(0));
        let error = entry.ended.error.map(|text| EngineError::new(jaunty_seam::error::ErrorKind::Refused, text));
        run.end = OnceLock::from(End { outcome: entry.outcome, duration, error });
        run.rolled_back = AtomicBool::new(entry.rolled_back);
        run.messages = Mutex::new(Messages::of(entry.messages, entry.left_out));
        run
    }

    /// Ended by this wish.
    pub fn until(self, stop: &Stop) -> Run {
        Run { stop: stop.clone(), ..self }
    }

    /// Asks it to stop.
    pub fn stop(&self) {
        self.stop.wish();
        self.gate.look();
    }

    /// With a limit to how far it fetches ahead of whoever reads.
    pub fn ahead(self, ahead: Ahead) -> Run {
        self.gate.set(ahead);
        self
    }

    /// Whether it waits, with its cursor held on the server, until somebody wants more rows.
    pub fn is_held(&self) -> bool {
        self.gate.is_held() && self.end.get().is_none()
    }

    /// Lets it fetch as much again.
    pub fn fetch_more(&self) {
        self.gate.open();
    }

    /// Lets it fetch all there is.
    pub fn fetch_rest(&self) {
        self.gate.remove();
    }

    /// Whether nobody wants more than these rows for now: it is held then, until [`Run::wait_for_room`] says
    /// otherwise.
    pub(super) fn holds(&self, rows: u64, bytes: u64) -> bool {
        self.gate.holds(rows, bytes, || self.is_stopped())
    }

    /// Waits until more rows than these are wanted, or none at all, but no longer than `at_most`. Returns whether it
    /// is held still.
    pub(super) fn wait_for_room(&self, rows: u64, bytes: u64, at_most: Duration) -> bool {
        self.gate.wait(rows, bytes, at_most, || self.is_stopped())
    }

    /// Whether it was asked to stop.
    pub fn is_stopped(&self) -> bool {
        self.stop.is_wished()
    }

    /// Rows fetched so far.
    pub fn rows(&self) -> u64 {
        self.rows.load(Ordering::Relaxed)
    }

    /// How long it has been running, or ran.
    pub fn duration(&self) -> Duration {
        self.end.get().map_or_else(|| self.clock.elapsed(), |end| end.duration)
    }

    /// How long the first row took.
    pub fn first_row(&self) -> Option<Duration> {
        self.first_row.load(Ordering::Relaxed).checked_sub(1).map(Duration::from_millis)
    }

    /// How it ended; none while it runs.
    pub fn end(&self) -> Option<&End> {
        self.end.get()
    }

    /// How it stands.
    pub fn outcome(&self) -> Outcome {
        self.end.get().map_or(Outcome::Running, |end| end.outcome)
    }

    /// Whether what it changed is gone, since its transaction was rolled back.
    pub fn is_rolled_back(&self) -> bool {
        self.rolled_back.load(Ordering::Relaxed)
    }

    pub(super) fn set_rolled_back(&self) {
        self.rolled_back.store(true, Ordering::Relaxed);
    }

    /// Its results so far.
    pub fn results(&self) -> Vec<RunResult> {
        self.results.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// The rows of its last result that has any.
    pub fn kept_rows(&self) -> Option<Arc<KeptRows>> {
        self.all_rows().pop()
    }

    /// The rows of each of its results that has any.
    pub fn all_rows(&self) -> Vec<Arc<KeptRows>> {
        let rows = |result| match result {
            RunResult::Rows(rows) => Some(rows),
            RunResult::Affected(_) => None,
        };
        self.results().into_iter().filter_map(rows).collect()
    }

    /// The files of its archives.
    pub(super) fn archives(&self) -> Vec<PathBuf> {
        self.all_rows().iter().map(|rows| rows.path().to_owned()).collect()
    }

    /// Bytes that the archives of its results take.
    pub fn bytes(&self) -> u64 {
        let size = |result: &RunResult| match result {
            RunResult::Rows(rows) => std::fs::metadata(rows.path()).map_or(0, |data| data.len()),
            RunResult::Affected(_) => 0,
        };
        self.results().iter().map(size).sum()
    }

    /// Rows touched by all its results that had no rows of their own.
    pub fn affected(&self) -> Option<u64> {
        let counts = self.results().into_iter().filter_map(|result| match result {
            RunResult::Affected(rows) => rows,
            RunResult::Rows(_) => None,
        });
        counts.reduce(|a, b| a + b)
    }

    /// What the server said, as much of it as is kept. Each text is as it came: cleaned where it is shown.
    pub fn messages(&self) -> Vec<Message> {
        self.messages_from(0)
    }

    /// The same from one of them on, for who has seen those before.
    pub fn messages_from(&self, first: usize) -> Vec<Message> {
        self.said(|messages| messages.kept().get(first..).unwrap_or_default().to_vec())
    }

    /// Looks at what the server said. Nothing else of the run may be asked meanwhile.
    pub fn said<T>(&self, look: impl FnOnce(&Messages) -> T) -> T {
        look(&self.messages.lock().unwrap_or_else(PoisonError::into_inner))
    }

    pub(super) fn add_rows(&self, rows: usize) {
        if self.rows.fetch_add(rows as u64, Ordering::Relaxed) == 0 {
            let ms = u64::try_from(self.clock.elapsed().as_millis()).unwrap_or(u64::MAX - 1);
            self.first_row.store(ms + 1, Ordering::Relaxed);
        }
    }

    /// Adds a result; returns its position.
    pub(super) fn add_result(&self, result: RunResult) -> usize {
        let mut results = self.results.lock().unwrap_or_else(PoisonError::into_inner);
        results.push(result);
        results.len() - 1
    }

    pub(super) fn add_message(&self, mut message: Message) {
        // The server counts from the first line that was sent.
        message.line = message.line.and_then(|line| line.checked_sub(self.lines_before)).filter(|line| *line > 0);
        self.messages.lock().unwrap_or_else(PoisonError::into_inner).add(message);
    }

    /// How far the server is, by its own word.
    pub fn progress(&self) -> Option<Progress> {
        *self.progress.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn set_progress(&self, progress: Progress) {
        *self.progress.lock().unwrap_or_else(PoisonError::into_inner) = Some(progress);
    }

    /// The server's own id of it, from the server: cleaned where it is shown.
    pub fn query_id(&self) -> Option<&str> {
        self.query_id.get().map(String::as_str)
    }

    pub(super) fn set_query_id(&self, id: String) {
        let _ = self.query_id.set(id);
    }

    /// How many rows were touched by its last result that has rows too, where the server tells.
    pub fn also_affected(&self) -> Option<u64> {
        *self.affected.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn set_affected(&self, rows: Option<u64>) {
        *self.affected.lock().unwrap_or_else(PoisonError::into_inner) = rows;
    }

    pub(super) fn set_end(&self, outcome: Outcome, error: Option<EngineError>) {
        let _ = self.end.set(End { outcome, duration: self.clock.elapsed(), error });
    }
}

#[cfg(test)]
mod tests {
    use std::sync::mpsc::{RecvTimeoutError, channel};

    use super::*;
    use crate::logbook::Ended;
    use jaunty_language::dialect::SQLITE;

    fn run() -> Run {
        Run::begin("select 1".into(), Some("One".into()), Some(7))
    }

    /// Fetches rows one by one up to `most`, as far as it may; tells of each, and of nothing once it is over.
    fn fetching(run: &Arc<Run>, most: u64) -> std::sync::mpsc::Receiver<u64> {
        let (tell, told) = channel();
        let run = Arc::clone(run);
        std::thread::spawn(move || {
            for rows in 1..=most {
                run.add_rows(1);
                let _ = tell.send(rows);
                if run.holds(rows, rows * 10) {
                    while run.wait_for_room(rows, rows * 10, Duration::from_secs(1)) {}
                }
                if run.is_stopped() {
                    break;
                }
            }
        });
        told
    }

    /// The rows that come until it waits, or is over.
    fn until_held(run: &Run, told: &std::sync::mpsc::Receiver<u64>) -> Vec<u64> {
        let mut rows = Vec::new();
        loop {
            match told.recv_timeout(Duration::from_millis(20)) {
                Ok(row) => rows.push(row),
                Err(RecvTimeoutError::Timeout) if run.is_held() => return rows,
                Err(RecvTimeoutError::Timeout) => {}
                Err(RecvTimeoutError::Disconnected) => return rows,
            }
        }
    }

    #[test]
    fn it_fetches_as_far_as_somebody_reads() {
        let run = Arc::new(run().ahead(Ahead { rows: 3, bytes: u64::MAX }));
        let told = fetching(&run, 12);
        assert_eq!(until_held(&run, &told), [1, 2, 3]);
        run.fetch_more();
        assert_eq!(until_held(&run, &told), [4, 5, 6]);
        run.fetch_rest();
        assert_eq!(until_held(&run, &told), [7, 8, 9, 10, 11, 12]);
        assert_eq!((run.rows(), run.is_held()), (12, false));
    }

    #[test]
    fn bytes_hold_it_as_rows_do_and_a_stop_ends_it() {
        let run = Arc::new(run().ahead(Ahead { rows: u64::MAX, bytes: 20 }));
        let told = fetching(&run, 12);
        assert_eq!(until_held(&run, &told), [1, 2]);
        run.stop();
        assert_eq!(until_held(&run, &told), [] as [u64; 0]);
        assert_eq!(run.rows(), 2, "those that came stay");
        // What is over is not held, whatever it waited for.
        run.set_end(Outcome::Stopped, None);
        assert!(!run.is_held());
        assert_eq!(run.outcome(), Outcome::Stopped);
    }

    #[test]
    fn wanting_more_of_what_does_not_wait_changes_nothing() {
        let run = Arc::new(run().ahead(Ahead { rows: 2, bytes: u64::MAX }));
        run.fetch_more();
        run.fetch_more();
        let told = fetching(&run, 9);
        assert_eq!(until_held(&run, &told), [1, 2]);
        run.stop();
    }

    #[test]
    fn files_are_named_by_the_title_or_the_statement_and_given_once() {
        let target = |text: &str| Target::read(text, &SQLITE).unwrap();
        let buffer = Path::new("/harbour/tour.sql");
        let files = |run: Run| -> Vec<PathBuf> {
            run.sent_to(&[target("json"), target("late.csv")], Some(buffer))
                .take_out()
                .into_iter()
                .map(|(path, _)| path)
                .collect()
        };
        assert_eq!(files(run()), [Path::new("/harbour/one.json"), Path::new("/harbour/late.csv")]);
        let bare = Run::begin("select 'it' -- all\nfrom ports".into(), None, None);
        assert_eq!(files(bare)[0], Path::new("/harbour/select-it-all.json"));
        let once = run().sent_to(&[target("json")], None);
        assert_eq!((once.take_out().len(), once.take_out().len()), (1, 0));
    }

    #[test]
    fn a_run_of_earlier_says_what_it_said_then() {
        let entry = Entry {
            messages: Vec::new(),
            left_out: 0,
            number: 9,
            connection: "ferry".into(),
            engine: "sqlite".into(),
            database: "saltmarsh".into(),
            title: None,
            statement: "select 1".into(),
            values: Vec::new(),
            session: String::new(),
            started_ms: 1_000,
            pinned: false,
            rolled_back: true,
            outcome: Outcome::Failed,
            ended: Ended {
                first_row_ms: Some(0),
                duration_ms: 38,
                rows: 4,
                bytes: 0,
                error: Some("no such table".into()),
            },
            results: vec![
                KeptResult::Affected(Some(2)),
                KeptResult::Rows("/nowhere/9-1.arrow".into()),
                KeptResult::Affected(None),
                KeptResult::Affected(Some(3)),
            ],
        };
        let run = Run::remembered(entry);
        assert_eq!((run.rows(), run.affected(), run.results().len()), (4, Some(5), 4));
        assert_eq!((run.duration(), run.first_row()), (Duration::from_millis(38), Some(Duration::ZERO)));
        assert!(run.is_rolled_back());
        assert_eq!(run.started, UNIX_EPOCH + Duration::from_secs(1));
        let end = run.end().unwrap();
        assert_eq!((end.outcome, end.error.as_ref().unwrap().message.as_str()), (Outcome::Failed, "no such table"));
        let kept = run.kept_rows().unwrap();
        assert_eq!((kept.rows(), run.bytes()), (None, 0), "it is not opened before somebody looks");
        assert!(kept.archive().is_err());
    }
}
