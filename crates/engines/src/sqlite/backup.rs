//! A copy of a database as a whole, page by page, while others read and write it
//! (<https://www.sqlite.org/backup.html>).

use std::path::Path;
use std::time::Duration;

use jaunty_seam::engine::Stop;
use jaunty_seam::error::{EngineError, ErrorKind};
use rusqlite::backup::{Backup, StepResult};
use rusqlite::{Connection, ErrorCode, OpenFlags};

/// So many pages are copied before somebody else may write, and before the wish to stop is looked for.
const PAGES: i32 = 128;

/// How long it waits for somebody who writes.
const PAUSE: Duration = Duration::from_millis(20);

/// So often it begins again before others have to wait.
const AGAIN: u32 = 3;

/// Copies the main database into a file, as it is at one moment.
///
/// Where others can write beside a reader (`journal_mode = wal`), they go on, and it copies what it saw first. Else a write of
/// theirs makes it begin again; after some times it keeps them waiting.
pub(super) fn copy(
    from: &Connection,
    path: &Path,
    told: &mut dyn FnMut(u64, u64),
    stop: &Stop,
    failed: impl Fn(&rusqlite::Error) -> EngineError,
) -> Result<(), EngineError> {
    let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let unwritten =
        |error: &rusqlite::Error| EngineError::new(ErrorKind::Refused, format!("the copy cannot be written: {error}"));
    let mut to = Connection::open_with_flags(path, flags).map_err(|error| unwritten(&error))?;
    let mode: String = from.query_row("pragma journal_mode", [], |row| row.get(0)).map_err(|error| failed(&error))?;
    let mut reading = match mode.as_str() {
        "wal" => Some(Reading::begin(from).map_err(|error| failed(&error))?),
        _ => None,
    };
    let backup = Backup::new(from, &mut to).map_err(|error| failed(&error))?;
    let (mut before, mut again) = (0, 0);
    loop {
        if stop.is_wished() {
            return Err(EngineError::stopped());
        }
        let step = backup.step(PAGES).map_err(|error| failed(&error))?;
        let progress = backup.progress();
        let pages = |count: i32| u64::try_from(count).unwrap_or(0);
        let (all, left) = (pages(progress.pagecount), pages(progress.remaining));
        let done = all.saturating_sub(left);
        told(done, all);
        if done <= before && step != StepResult::Done {
            again += 1;
        }
        before = done;
        if again >= AGAIN && reading.is_none() {
            reading = match Reading::begin(from) {
                Ok(reading) => Some(reading),
                // Somebody writes just now: it is tried again after the next pages.
                Err(error) if error.sqlite_error_code() == Some(ErrorCode::DatabaseBusy) => None,
                Err(error) => return Err(failed(&error)),
            };
        }
        match step {
            StepResult::Done => return Ok(()),
            StepResult::More => {}
            _ => std::thread::sleep(PAUSE),
        }
    }
}

/// A transaction that only reads, and sees one state of the database.
struct Reading<'a>(&'a Connection);

impl Reading<'_> {
    fn begin(connection: &Connection) -> rusqlite::Result<Reading<'_>> {
        connection.execute_batch("begin")?;
        // Dropped, it is ended, also where nothing could be read.
        let reading = Reading(connection);
        // It begins with the first that it reads.
        connection.query_row("select count(*) from sqlite_schema", [], |row| row.get::<_, i64>(0))?;
        Ok(reading)
    }
}

impl Drop for Reading<'_> {
    fn drop(&mut self) {
        if let Err(error) = self.0.execute_batch("commit") {
            tracing::warn!(%error, "a transaction that only reads was not ended");
        }
    }
}
