//! Result codes as sentences that say what to do.
//! The codes: <https://www.sqlite.org/rescode.html>.

use std::path::Path;

use jaunty_seam::error::{EngineError, ErrorKind};
use rusqlite::Error;
use rusqlite::ffi::{self, ErrorCode};

/// The error of opening the database `name`.
pub(super) fn connecting(error: &Error, name: &str, path: Option<&Path>) -> EngineError {
    let mut told = statement(error, path);
    if told.kind == ErrorKind::Refused || told.kind == ErrorKind::Local {
        told.kind = ErrorKind::Connect;
    }
    told.message = format!("{name} cannot be opened: {}", told.message);
    told
}

/// The error of running a statement on the database at `path`.
pub(super) fn statement(error: &Error, path: Option<&Path>) -> EngineError {
    let (code, message, at) = match error {
        Error::SqlInputError { error, msg, offset, .. } => (Some(error), msg.clone(), usize::try_from(*offset).ok()),
        Error::SqliteFailure(error, message) => {
            (Some(error), message.clone().unwrap_or_else(|| ffi::code_to_str(error.extended_code).to_owned()), None)
        }
        other => (None, other.to_string(), None),
    };
    let Some(code) = code else { return EngineError::new(ErrorKind::Refused, message) };
    let (kind, remedy) = meaning(code, &message, path);
    EngineError { remedy, ..EngineError::new(kind, message) }.at(at).code(name(code.extended_code))
}

fn meaning(code: &ffi::Error, message: &str, path: Option<&Path>) -> (ErrorKind, Option<String>) {
    let folder = || path.and_then(Path::parent).map_or_else(String::new, |f| format!(" {}", f.display()));
    let waited = super::open::LOCK_WAIT.as_secs();
    match code.code {
        ErrorCode::OperationInterrupted => (ErrorKind::Stopped, None),
        ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked => (
            ErrorKind::Locked,
            Some(format!("Another program holds a lock on it; this waited {waited} s. Try again after that transaction ends.")),
        ),
        ErrorCode::NotADatabase => {
            (ErrorKind::Damaged, Some("It is another kind of file, or encrypted, or its header is damaged.".into()))
        }
        ErrorCode::DatabaseCorrupt => (
            ErrorKind::Damaged,
            Some("The file is damaged. Copy it before anything else; PRAGMA integrity_check shows where, and rows read so far are kept.".into()),
        ),
        ErrorCode::DiskFull => (ErrorKind::Refused, Some("The disk is full: nothing was changed. Free some space and run it again.".into())),
        ErrorCode::ReadOnly if code.extended_code == ffi::SQLITE_READONLY_DIRECTORY => (
            ErrorKind::Refused,
            Some(format!("The folder{} cannot be written to, and SQLite keeps its journal there.", folder())),
        ),
        ErrorCode::ReadOnly => {
            (ErrorKind::Refused, Some("The connection is read-only, by its guard or by the file's permissions.".into()))
        }
        ErrorCode::CannotOpen => (
            ErrorKind::Refused,
            Some(format!(
                "Check the file and the folder{}: SQLite keeps its journal beside the file, so the folder must be writable too.",
                folder()
            )),
        ),
        ErrorCode::PermissionDenied => (ErrorKind::Refused, Some("Check the file's permissions.".into())),
        ErrorCode::SystemIoFailure => (ErrorKind::Local, Some("The disk could not be read or written.".into())),
        _ if message.starts_with("no such table") => {
            (ErrorKind::Refused, Some("The action \"Tables\", or jaunty schema, lists all tables.".into()))
        }
        _ => (ErrorKind::Refused, None),
    }
}

/// The name of a result code, or its number.
fn name(extended: i32) -> String {
    let primary = match extended & 0xff {
        ffi::SQLITE_ERROR => "SQLITE_ERROR",
        ffi::SQLITE_PERM => "SQLITE_PERM",
        ffi::SQLITE_BUSY => "SQLITE_BUSY",
        ffi::SQLITE_LOCKED => "SQLITE_LOCKED",
        ffi::SQLITE_NOMEM => "SQLITE_NOMEM",
        ffi::SQLITE_READONLY => "SQLITE_READONLY",
        ffi::SQLITE_INTERRUPT => "SQLITE_INTERRUPT",
        ffi::SQLITE_IOERR => "SQLITE_IOERR",
        ffi::SQLITE_CORRUPT => "SQLITE_CORRUPT",
        ffi::SQLITE_FULL => "SQLITE_FULL",
        ffi::SQLITE_CANTOPEN => "SQLITE_CANTOPEN",
        ffi::SQLITE_CONSTRAINT => "SQLITE_CONSTRAINT",
        ffi::SQLITE_MISMATCH => "SQLITE_MISMATCH",
        ffi::SQLITE_NOTADB => "SQLITE_NOTADB",
        ffi::SQLITE_TOOBIG => "SQLITE_TOOBIG",
        ffi::SQLITE_AUTH => "SQLITE_AUTH",
        other => return format!("SQLite code {other}"),
    };
    if extended > 0xff { format!("{primary} {extended}") } else { primary.to_owned() }
}
