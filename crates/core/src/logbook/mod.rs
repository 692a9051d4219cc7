//! All runs, across restarts: what ran where, when, how long, how it ended, and where its rows are.
//!
//! The logbook is a SQLite file in the state folder. Several instances of the program write to it
//! at once. An instance that dies leaves its runs marked as running; the next one to open the
//! logbook finds that the instance's lock is free and marks them as cut short.

mod entry;
mod find;
mod query;
mod schema;

use std::collections::HashMap;
use std::fs::{File, OpenOptions};
use std::path::{Path, PathBuf};

use rusqlite::{Connection, OptionalExtension, Row, params};

pub use entry::{Begun, Ended, Entry, KeptResult, Outcome};
pub use query::{Query, Searchable};

use crate::archive::Archive;
use jaunty_language::outline::StatementId;
use jaunty_language::statement::parameters::{ParameterValue, Value};
use jaunty_seam::engine::Message;

/// Why the logbook could not be used.
#[derive(Debug, thiserror::Error)]
pub enum LogbookError {
    /// SQLite refused.
    #[error("the logbook {path}: {source}")]
    Database {
        /// The logbook's file.
        path: PathBuf,
        /// What SQLite says.
        source: rusqlite::Error,
    },
    /// The folder could not be made or the instance's lock not be taken.
    #[error("the logbook's folder {path}: {source}")]
    Folder {
        /// The folder.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// A newer version of the program wrote it.
    #[error(
        "the logbook {path} was written by a newer version of jaunty (format {found}); use that version, or move the file away"
    )]
    Newer {
        /// The logbook's file.
        path: PathBuf,
        /// Its format.
        found: i64,
    },
}

/// The open logbook.
pub struct Logbook {
    connection: Connection,
    path: PathBuf,
    archives: PathBuf,
    /// None where it is only read.
    instance: Option<Instance>,
    _copy: Option<tempfile::TempDir>,
}

/// A lock that lives as long as this instance of the program.
struct Instance {
    name: String,
    path: PathBuf,
    _lock: File,
}

impl Drop for Instance {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.path);
    }
}

impl Logbook {
    /// Opens or makes the logbook and marks what a crash cut short.
    pub fn open(path: &Path, archives: &Path) -> Result<Logbook, LogbookError> {
        let folder = path.parent().unwrap_or(Path::new("."));
        let folder_error = |source| LogbookError::Folder { path: folder.to_owned(), source };
        crate::files::private_folder(folder).map_err(folder_error)?;
        let options = || crate::files::private(OpenOptions::new().write(true).create(true).truncate(false)).open(path);
        drop(options().map_err(folder_error)?);
        let instance = Instance::begin(&folder.join("instances")).map_err(folder_error)?;
        let database = |source| LogbookError::Database { path: path.to_owned(), source };
        let mut connection = Connection::open(path).map_err(database)?;
        let format = schema::prepare(&mut connection).map_err(database)?;
        if format > schema::FORMAT {
            return Err(LogbookError::Newer { path: path.to_owned(), found: format });
        }
        let (path, archives) = (path.to_owned(), archives.to_owned());
        let logbook = Logbook { connection, path, archives, instance: Some(instance), _copy: None };
        logbook.mend()?;
        Ok(logbook)
    }

    /// Opens a logbook that cannot be written to, as on a disk that is read-only: a copy of it is read, and
    /// nothing is noted. Runs that a crash cut short are told as running.
    pub fn open_to_read(path: &Path, archives: &Path) -> Result<Logbook, LogbookError> {
        let failed = |source| LogbookError::Folder { path: path.to_owned(), source };
        let copy = tempfile::tempdir().map_err(failed)?;
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let target = copy.path().join(&name);
        std::fs::copy(path, &target).map_err(failed)?;
        // What was written last may stand beside it.
        match std::fs::copy(path.with_file_name(format!("{name}-wal")), copy.path().join(format!("{name}-wal"))) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(failed(error)),
            _ => {}
        }
        let database = |source| LogbookError::Database { path: path.to_owned(), source };
        let mut connection = Connection::open(&target).map_err(database)?;
        let found = schema::prepare(&mut connection).map_err(database)?;
        if found > schema::FORMAT {
            return Err(LogbookError::Newer { path: path.to_owned(), found });
        }
        let (path, archives) = (path.to_owned(), archives.to_owned());
        Ok(Logbook { connection, path, archives, instance: None, _copy: Some(copy) })
    }

    /// Whether what is noted stays.
    pub fn keeps(&self) -> bool {
        self.instance.is_some()
    }

    fn error(&self, source: rusqlite::Error) -> LogbookError {
        LogbookError::Database { path: self.path.clone(), source }
    }

    /// Notes that a run begins; returns its number.
    pub fn begin(&self, run: &Begun<'_>) -> Result<i64, LogbookError> {
        let insert = "insert into runs(number, instance, connection, engine, database, buffer, title, statement, statement_id, started_ms, outcome, session, parameters)
             values (?13, ?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12)";
        let next = || -> rusqlite::Result<i64> {
            self.connection
                .prepare_cached("update numbers set last = last + 1 returning last")?
                .query_row([], |row| row.get(0))
        };
        let number = next().map_err(|e| self.error(e))?;
        let values = params![
            self.instance.as_ref().map_or("", |instance| &instance.name),
            run.connection,
            run.engine,
            run.database,
            run.buffer.map(|path| path.to_string_lossy()),
            run.title,
            run.statement,
            StatementId::of(run.statement).hex(),
            run.started_ms,
            Outcome::Running.word(),
            Some(run.session).filter(|session| !session.is_empty()),
            written(run.values),
            number,
        ];
        self.connection.prepare_cached(insert).and_then(|mut s| s.insert(values)).map_err(|e| self.error(e))
    }

    /// Notes a result of a run.
    pub fn result(&self, run: i64, position: usize, result: &KeptResult) -> Result<(), LogbookError> {
        let (archive, affected) = match result {
            KeptResult::Rows(path) => (path.file_name().map(|name| name.to_string_lossy().into_owned()), None),
            KeptResult::Affected(rows) => (None, rows.map(|n| n as i64)),
        };
        let insert = "insert into results(run, position, archive, affected) values (?1, ?2, ?3, ?4)";
        let values = params![run, position as i64, archive, affected];
        self.connection.prepare_cached(insert).and_then(|mut s| s.execute(values)).map_err(|e| self.error(e))?;
        Ok(())
    }

    /// Notes what the server said, and how many messages it sent after those; of very many the first.
    pub fn messages(&self, run: i64, (messages, more): (&[Message], u64)) -> Result<(), LogbookError> {
        let note = || -> rusqlite::Result<()> {
            let all = self.connection.unchecked_transaction()?;
            let mut bytes = 0;
            let fits = |message: &&Message| {
                bytes += message.text.len();
                bytes <= MESSAGE_BYTES
            };
            let kept = messages.iter().take(MESSAGES).take_while(fits).enumerate();
            let mut insert = all.prepare_cached(
                "insert into messages(run, position, severity, code, line, text) values (?1, ?2, ?3, ?4, ?5, ?6)",
            )?;
            let mut noted = 0;
            for (position, Message { severity, code, line, text }) in kept {
                insert.execute(params![run, position as i64, severity, code, line, text])?;
                noted += 1;
            }
            drop(insert);
            let left_out = more as i64 + messages.len() as i64 - noted;
            all.execute("update runs set messages_left_out = ?2 where number = ?1", params![run, left_out])?;
            all.commit()
        };
        note().map_err(|e| self.error(e))
    }

    /// Reads the messages of these runs, of the latest first, until there are too many to be held.
    pub(super) fn add_messages(&self, entries: &mut [Entry]) -> rusqlite::Result<()> {
        let mut statement = self
            .connection
            .prepare_cached("select severity, code, line, text from messages where run = ?1 order by position")?;
        let mut latest: Vec<&mut Entry> = entries.iter_mut().collect();
        latest.sort_by_key(|entry| std::cmp::Reverse(entry.number));
        let mut bytes = 0;
        for entry in latest {
            if bytes > HELD_BYTES {
                break;
            }
            let message = |row: &Row<'_>| {
                Ok(Message { severity: row.get(0)?, code: row.get(1)?, line: row.get(2)?, text: row.get(3)? })
            };
            entry.messages = statement.query_map([entry.number], message)?.collect::<rusqlite::Result<_>>()?;
            bytes += entry.messages.iter().map(|message| message.text.len()).sum::<usize>();
        }
        Ok(())
    }

    /// Keeps the slip that takes a run back, as JSON.
    pub fn keep_slip(&self, run: i64, back: &str) -> Result<(), LogbookError> {
        let insert = "insert or replace into slips(run, back) values (?1, ?2)";
        self.connection.execute(insert, params![run, back]).map_err(|e| self.error(e))?;
        Ok(())
    }

    /// The slip that takes a run back, if it was one that sent a slip.
    pub fn slip_of(&self, run: i64) -> Result<Option<String>, LogbookError> {
        let query = "select back from slips where run = ?1";
        self.connection.query_row(query, [run], |row| row.get(0)).optional().map_err(|e| self.error(e))
    }

    /// The last run on a connection that can be taken back.
    pub fn last_slip(&self, connection: &str) -> Result<Option<i64>, LogbookError> {
        let query = "select max(run) from slips join runs on number = run where connection = ?1 and rolled_back = 0";
        self.connection.query_row(query, [connection], |row| row.get(0)).map_err(|e| self.error(e))
    }

    /// Forgets that a run can be taken back: it was.
    pub fn taken_back(&self, run: i64) -> Result<(), LogbookError> {
        self.connection.execute("delete from slips where run = ?1", [run]).map_err(|e| self.error(e))?;
        Ok(())
    }

    /// Notes that a run has ended. Only one that still runs does, or one of which another instance believed that
    /// it was cut short.
    pub fn end(&self, run: i64, outcome: Outcome, ended: &Ended) -> Result<(), LogbookError> {
        self.end_where("outcome in ('running', 'cut short')", run, outcome, ended)
    }

    fn end_where(&self, which: &str, run: i64, outcome: Outcome, ended: &Ended) -> Result<(), LogbookError> {
        let update = &format!(
            "update runs set outcome = ?2, first_row_ms = ?3, duration_ms = ?4, row_count = ?5, error = ?6, bytes = ?7 where number = ?1 and {which}"
        );
        let values = params![
            run,
            outcome.word(),
            ended.first_row_ms,
            ended.duration_ms,
            ended.rows as i64,
            ended.error,
            ended.bytes as i64
        ];
        self.connection.prepare_cached(update).and_then(|mut s| s.execute(values)).map_err(|e| self.error(e))?;
        Ok(())
    }

    fn entries(&self, select: &str, values: impl rusqlite::Params) -> Result<Vec<Entry>, LogbookError> {
        let read = || -> rusqlite::Result<Vec<Entry>> {
            let mut statement = self.connection.prepare_cached(select)?;
            let mut entries = statement.query_map(values, read_entry)?.collect::<rusqlite::Result<Vec<_>>>()?;
            self.add_results(&mut entries)?;
            Ok(entries)
        };
        read().map_err(|e| self.error(e))
    }

    /// Reads the results of all these runs at once.
    fn add_results(&self, entries: &mut [Entry]) -> rusqlite::Result<()> {
        let numbers = || entries.iter().map(|entry| entry.number);
        let Some((first, last)) = numbers().min().zip(numbers().max()) else { return Ok(()) };
        let select = "select run, archive, affected from results where run between ?1 and ?2 order by run, position";
        let mut statement = self.connection.prepare_cached(select)?;
        let found = statement.query_map([first, last], |row| {
            let archive: Option<String> = row.get(1)?;
            let affected: Option<i64> = row.get(2)?;
            let result = match archive {
                Some(name) => KeptResult::Rows(self.archives.join(name)),
                None => KeptResult::Affected(affected.and_then(|n| u64::try_from(n).ok())),
            };
            Ok((row.get::<_, i64>(0)?, result))
        })?;
        let places: HashMap<i64, usize> = entries.iter().enumerate().map(|(at, entry)| (entry.number, at)).collect();
        for result in found {
            let (run, result) = result?;
            if let Some(entry) = places.get(&run).and_then(|at| entries.get_mut(*at)) {
                entry.results.push(result);
            }
        }
        Ok(())
    }

    /// Marks the runs of instances that are gone as cut short, with the rows that their archives hold.
    fn mend(&self) -> Result<(), LogbookError> {
        let running = format!("select {ENTRY} from runs where outcome = 'running'");
        for entry in self.entries(&running, [])? {
            let instance: Option<String> = self
                .connection
                .query_row("select instance from runs where number = ?1", [entry.number], |row| row.get(0))
                .optional()
                .map_err(|e| self.error(e))?;
            // A run under this instance's own name is of one that had the same process number.
            let Some(mine) = &self.instance else { continue };
            if instance.is_some_and(|name| name != mine.name && mine.lives(&name)) {
                continue;
            }
            let archives = entry.results.iter().filter_map(|result| match result {
                KeptResult::Rows(path) => Archive::open(path).ok(),
                KeptResult::Affected(_) => None,
            });
            let ended = Ended { rows: archives.map(|archive| archive.rows()).sum(), ..Ended::default() };
            // It may have ended since it was read here.
            self.end_where("outcome = 'running'", entry.number, Outcome::CutShort, &ended)?;
        }
        Ok(())
    }
}

const ENTRY: &str = "number, title, statement, started_ms, outcome, first_row_ms, duration_ms, row_count, error, \
     connection, database, bytes, pinned, session, parameters, rolled_back, messages_left_out, engine";

/// So many messages of a run are noted, and so many bytes of them.
const MESSAGES: usize = 1_000;
const MESSAGE_BYTES: usize = 256 << 10;

/// Of all runs that are read at once so many bytes of messages are held.
const HELD_BYTES: usize = 8 << 20;

/// Values as they are kept; none where there are none.
fn written(values: &[Value]) -> Option<String> {
    let pairs: Vec<_> = values.iter().map(|(name, value)| (name, value.written())).collect();
    // Two texts always are JSON.
    (!pairs.is_empty()).then(|| serde_json::to_string(&pairs).unwrap_or_default())
}

/// Values that were kept. What is damaged is none.
fn read(kept: Option<String>) -> Vec<Value> {
    let pairs: Vec<(String, String)> = kept.and_then(|kept| serde_json::from_str(&kept).ok()).unwrap_or_default();
    pairs.into_iter().map(|(name, text)| (name, ParameterValue::read(&text))).collect()
}

fn read_entry(row: &Row<'_>) -> rusqlite::Result<Entry> {
    let word: String = row.get(4)?;
    let count = |value: Option<i64>| value.and_then(|n| u64::try_from(n).ok()).unwrap_or(0);
    Ok(Entry {
        number: row.get(0)?,
        connection: row.get(9)?,
        engine: row.get(17)?,
        database: row.get(10)?,
        pinned: row.get(12)?,
        rolled_back: row.get(15)?,
        session: row.get::<_, Option<String>>(13)?.unwrap_or_default(),
        values: read(row.get(14)?),
        title: row.get(1)?,
        statement: row.get(2)?,
        started_ms: row.get(3)?,
        outcome: Outcome::from_word(&word).unwrap_or(Outcome::CutShort),
        ended: Ended {
            first_row_ms: row.get(5)?,
            duration_ms: row.get::<_, Option<i64>>(6)?.unwrap_or(0),
            rows: count(row.get(7)?),
            bytes: count(row.get(11)?),
            error: row.get(8)?,
        },
        results: Vec::new(),
        messages: Vec::new(),
        left_out: count(row.get(16)?),
    })
}

/// Whether an open file is the one that stands at a path.
fn is_at(file: &File, path: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    let (here, there) = (file.metadata(), std::fs::metadata(path));
    here.is_ok_and(|here| there.is_ok_and(|there| (here.dev(), here.ino()) == (there.dev(), there.ino())))
}

impl Instance {
    fn begin(folder: &Path) -> std::io::Result<Instance> {
        crate::files::private_folder(folder)?;
        let mut number = 0_u32;
        loop {
            let name = format!("{}-{number}", std::process::id());
            let path = folder.join(&name);
            let file =
                crate::files::private(OpenOptions::new().write(true).create(true).truncate(false)).open(&path)?;
            // Another one may have taken it for left behind, and removed it, before it was locked.
            if file.try_lock().is_ok() && is_at(&file, &path) {
                return Ok(Instance { name, path, _lock: file });
            }
            number += 1;
        }
    }

    fn lives(&self, name: &str) -> bool {
        let path = self.path.with_file_name(name);
        match File::open(&path) {
            Ok(file) if file.try_lock().is_ok() => {
                let _ = std::fs::remove_file(path);
                false
            }
            Ok(_) => true,
            Err(_) => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn open(folder: &Path) -> Logbook {
        Logbook::open(&folder.join("logbook.db"), &folder.join("archives")).unwrap()
    }

    fn begun(statement: &str) -> Begun<'_> {
        Begun {
            connection: "ferry",
            engine: "sqlite",
            database: "saltmarsh.db",
            buffer: Some(Path::new("/harbour/tour.sql")),
            title: Some("Ports"),
            statement,
            values: &[],
            session: "process 4711",
            started_ms: 1_000,
        }
    }

    #[test]
    fn values_of_parameters_are_remembered_for_a_buffer() {
        let folder = tempfile::tempdir().unwrap();
        let logbook = open(folder.path());
        let text = |text: &str| ParameterValue::Text(text.into());
        let runs: [(&str, &[Value]); 3] = [
            ("/harbour/tour.sql", &[(":port".into(), text("North")), (":day".into(), ParameterValue::Int(3))]),
            ("/harbour/tour.sql", &[(":port".into(), text("'007'"))]),
            ("/harbour/other.sql", &[(":port".into(), ParameterValue::Null)]),
        ];
        for (buffer, values) in runs {
            logbook.begin(&Begun { buffer: Some(Path::new(buffer)), values, ..begun("select :port, :day") }).unwrap();
        }
        logbook.begin(&begun("select 1")).unwrap();
        let last = logbook.last_values(Path::new("/harbour/tour.sql")).unwrap();
        assert_eq!(last, HashMap::from([(":port".into(), text("'007'")), (":day".into(), ParameterValue::Int(3))]));
        let entry = logbook.entry(1).unwrap().unwrap();
        assert_eq!((entry.values.as_slice(), entry.session.as_str()), (runs[0].1, "process 4711"));
        assert!(logbook.entry(4).unwrap().unwrap().values.is_empty());
    }

    #[test]
    fn a_run_is_remembered_across_restarts() {
        let folder = tempfile::tempdir().unwrap();
        let number = {
            let logbook = open(folder.path());
            logbook.begin(&begun("select 1")).unwrap();
            let number = logbook.begin(&begun("select 1;")).unwrap();
            let rows = KeptResult::Rows(folder.path().join("archives").join("7-0.arrow"));
            logbook.result(number, 0, &rows).unwrap();
            logbook.result(number, 1, &KeptResult::Affected(Some(3))).unwrap();
            let ended = Ended { first_row_ms: Some(2), duration_ms: 38, rows: 412, bytes: 9_000, error: None };
            logbook.end(number, Outcome::Done, &ended).unwrap();
            number
        };
        let latest = open(folder.path()).latest("ferry").unwrap();
        assert_eq!(latest.len(), 1, "one entry a statement");
        let entry = &latest[0];
        assert_eq!((entry.number, entry.outcome, entry.ended.rows), (number, Outcome::Done, 412));
        assert_eq!((entry.connection.as_str(), entry.ended.bytes, entry.pinned), ("ferry", 9_000, false));
        assert_eq!(entry.results.len(), 2);
        assert!(open(folder.path()).latest("other").unwrap().is_empty());
    }

    #[test]
    fn what_the_server_said_is_remembered_and_goes_with_its_run() {
        let folder = tempfile::tempdir().unwrap();
        let logbook = open(folder.path());
        let run = logbook.begin(&begun("do")).unwrap();
        let fog = Message { code: Some("01000".into()), line: Some(3), ..Message::new("warning", "fog\nand more") };
        let many: Vec<_> = (0..MESSAGES + 7).map(|n| Message::new("notice", format!("tide {n}"))).collect();
        logbook.messages(run, (&[std::slice::from_ref(&fog), &many].concat(), 2)).unwrap();
        logbook.end(run, Outcome::Done, &Ended::default()).unwrap();
        let other = logbook.begin(&begun("select 1")).unwrap();
        logbook.messages(other, (&[Message::new("notice", "x".repeat(MESSAGE_BYTES + 1))], 0)).unwrap();
        logbook.end(other, Outcome::Done, &Ended::default()).unwrap();
        let again = open(folder.path());
        let latest = again.latest("ferry").unwrap();
        let entry = latest.iter().find(|entry| entry.number == run).unwrap();
        assert_eq!((&entry.messages[0], entry.messages.len(), entry.left_out), (&fog, MESSAGES, 10));
        let entry = again.entry(other).unwrap().unwrap();
        assert_eq!((entry.messages.len(), entry.left_out), (0, 1), "one that is too long is counted");
        again.remove(&entry).unwrap();
        let left: i64 = again
            .connection
            .query_row("select count(*) from messages where run = ?1", [other], |row| row.get(0))
            .unwrap();
        assert_eq!(left, 0);
    }

    #[test]
    fn what_a_crash_left_running_is_cut_short() {
        let folder = tempfile::tempdir().unwrap();
        let crashed = open(folder.path());
        let number = crashed.begin(&begun("select 1")).unwrap();
        let beside = open(folder.path());
        assert_eq!(beside.entry(number).unwrap().unwrap().outcome, Outcome::Running, "its instance lives");
        drop(crashed);
        let after = open(folder.path());
        assert_eq!(after.entry(number).unwrap().unwrap().outcome, Outcome::CutShort);
    }

    /// Of many that start at once, each finds or makes the tables, and a run that has ended stays as it ended.
    #[test]
    fn many_at_once_do_not_harm_each_other() {
        let folder = tempfile::tempdir().unwrap();
        let many = |each: fn(&Path, usize)| {
            let started = std::sync::Barrier::new(24);
            std::thread::scope(|scope| {
                for number in 0..24 {
                    let (folder, started) = (folder.path(), &started);
                    scope.spawn(move || {
                        started.wait();
                        each(folder, number);
                    });
                }
            });
        };
        many(|folder, number| {
            for _ in 0..4 {
                let logbook = open(folder);
                let run = logbook.begin(&begun(&format!("select {number}"))).unwrap();
                logbook.end(run, Outcome::Done, &Ended::default()).unwrap();
            }
        });
        let all = open(folder.path()).find(&Query::default(), 1000).unwrap();
        assert_eq!(all.len(), 96);
        assert!(all.iter().all(|entry| entry.outcome == Outcome::Done), "{all:?}");
    }

    #[test]
    fn only_what_runs_is_cut_short_and_who_ran_it_knows_better() {
        let folder = tempfile::tempdir().unwrap();
        let logbook = open(folder.path());
        let run = logbook.begin(&begun("select 1")).unwrap();
        logbook.end(run, Outcome::Done, &Ended { rows: 3, ..Ended::default() }).unwrap();
        // As if it had been read as running a moment before.
        logbook.end_where("outcome = 'running'", run, Outcome::CutShort, &Ended::default()).unwrap();
        assert_eq!(logbook.entry(run).unwrap().unwrap().outcome, Outcome::Done);
        let other = logbook.begin(&begun("select 2")).unwrap();
        logbook.end_where("outcome = 'running'", other, Outcome::CutShort, &Ended::default()).unwrap();
        logbook.end(other, Outcome::Done, &Ended::default()).unwrap();
        assert_eq!(logbook.entry(other).unwrap().unwrap().outcome, Outcome::Done);
    }

    #[test]
    fn a_number_is_not_given_twice() {
        let folder = tempfile::tempdir().unwrap();
        let logbook = open(folder.path());
        let run = || {
            let run = logbook.begin(&begun("select 1")).unwrap();
            logbook.end(run, Outcome::Done, &Ended::default()).unwrap();
            run
        };
        let first = run();
        logbook.remove(&logbook.entry(first).unwrap().unwrap()).unwrap();
        assert!(run() > first);
    }

    #[test]
    fn a_logbook_that_cannot_be_written_to_is_read() {
        let folder = tempfile::tempdir().unwrap();
        let logbook = open(folder.path());
        let run = logbook.begin(&begun("select 1")).unwrap();
        logbook.end(run, Outcome::Done, &Ended::default()).unwrap();
        // What was written last still stands beside the file.
        let read = Logbook::open_to_read(&folder.path().join("logbook.db"), folder.path()).unwrap();
        assert_eq!(read.last().unwrap().unwrap().number, run);
        assert!(logbook.keeps() && !read.keeps());
    }

    #[test]
    fn a_newer_format_is_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        open(folder.path()).connection.pragma_update(None, "user_version", 99).unwrap();
        let again = Logbook::open(&folder.path().join("logbook.db"), folder.path());
        assert!(matches!(again, Err(LogbookError::Newer { found: 99, .. })));
    }
}
