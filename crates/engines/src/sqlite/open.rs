//! Opening a database file. SQLite itself opens a file lazily and reports what is wrong with it at
//! the first statement, in few words; here it is looked at first.

use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Guard, Profile};
use rusqlite::{Connection, OpenFlags};

use super::{errors, functions};

/// How long a statement waits for another program's lock.
pub(super) const LOCK_WAIT: Duration = Duration::from_secs(2);

/// An open database.
pub(super) struct Opened {
    pub(super) connection: Connection,
    /// Its file; none for one in memory.
    pub(super) path: Option<PathBuf>,
}

pub(super) fn open(profile: &Profile) -> Result<Opened, EngineError> {
    let in_memory = profile.text("path") == Some(":memory:");
    let path = profile.path("path").filter(|_| !in_memory);
    if let Some(path) = &path {
        look_at(path, profile.flag("create"))?;
    }
    let mut flags = OpenFlags::SQLITE_OPEN_NO_MUTEX;
    flags |= match profile.guard {
        Guard::ReadOnly => OpenFlags::SQLITE_OPEN_READ_ONLY,
        Guard::Open | Guard::Ask => OpenFlags::SQLITE_OPEN_READ_WRITE,
    };
    if profile.flag("create") && profile.guard != Guard::ReadOnly {
        flags |= OpenFlags::SQLITE_OPEN_CREATE;
    }
    let opened = match &path {
        Some(path) => Connection::open_with_flags(path, flags),
        None => Connection::open_in_memory(),
    };
    let name = path.as_deref().map_or_else(|| ":memory:".to_owned(), |path| path.display().to_string());
    let connect = |error| errors::connecting(&error, &name, path.as_deref());
    let connection = opened.map_err(connect)?;
    connection.busy_timeout(LOCK_WAIT).map_err(connect)?;
    functions::add(&connection).map_err(connect)?;
    // Reads the file's head, and its journal if a crash left one.
    connection.query_row("pragma schema_version", [], |row| row.get::<_, i64>(0)).map_err(connect)?;
    if in_memory && profile.guard == Guard::ReadOnly {
        connection.pragma_update(None, "query_only", true).map_err(connect)?;
    }
    Ok(Opened { connection, path })
}

/// Says in a sentence why a file cannot be a database before SQLite tries.
fn look_at(path: &Path, create: bool) -> Result<(), EngineError> {
    let refuse = |message: String, remedy: &str| Err(EngineError::new(ErrorKind::Connect, message).remedy(remedy));
    let shown = path.display();
    let data = match std::fs::metadata(path) {
        Ok(data) => data,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound && create => return Ok(()),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            let remedy = "Fix the path, or create an empty database: create = true in the profile, ?create=true after the file in a URL.";
            return refuse(format!("no such file: {shown}"), remedy);
        }
        Err(error) => {
            return refuse(format!("{shown} cannot be opened: {error}"), "Check the path and its permissions.");
        }
    };
    if data.is_dir() {
        return refuse(format!("{shown} is a folder"), "Name the database file in it.");
    }
    let mut head = Vec::new();
    let read = File::open(path).and_then(|file| file.take(16).read_to_end(&mut head));
    match read {
        Err(error) => refuse(format!("{shown} cannot be read: {error}"), "Check its permissions."),
        // An empty file is an empty database.
        Ok(0) => Ok(()),
        Ok(_) if head.starts_with(b"SQLite format 3\0") => Ok(()),
        Ok(_) => {
            let error = EngineError::new(ErrorKind::Damaged, format!("{shown} is not a SQLite database"));
            Err(error.remedy("Its first bytes are those of another kind of file, or it is encrypted. Check the path."))
        }
    }
}
