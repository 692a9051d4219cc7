//! SQLite, in this process.
//!
//! [`open`] opens a file and says what is wrong with it, [`session`] runs statements, [`pump`]
//! carries their rows to the sink, [`backup`] copies a database as a whole, [`catalog`] lists objects, [`errors`] turns result codes into
//! sentences.

mod backup;
mod catalog;
mod errors;
mod functions;
mod load;
mod open;
mod pump;
mod session;

use jaunty_language::dialect::{Dialect, SQLITE};
use jaunty_seam::engine::{Attempt, Engine, Key, Session, Takes};
use jaunty_seam::error::EngineError;
use jaunty_seam::profile::Profile;

use crate::net::keys::{CHECK, KEEP};

/// The engine. It has no state of its own.
pub struct Sqlite;

impl Engine for Sqlite {
    fn name(&self) -> &'static str {
        "sqlite"
    }

    fn title(&self) -> &'static str {
        "SQLite"
    }

    fn schemes(&self) -> &'static [&'static str] {
        &["sqlite", "file"]
    }

    fn dialect(&self) -> &'static Dialect {
        &SQLITE
    }

    fn keys(&self) -> &'static [Key] {
        static KEYS: &[Key] = &[
            Key::needed("path", Takes::Path, "the database's file, or \":memory:\""),
            Key::common("create", Takes::Flag, "false", "whether to create the file if it is missing"),
            CHECK,
            KEEP,
        ];
        KEYS
    }

    fn sniff(&self, head: &[u8]) -> bool {
        // <https://www.sqlite.org/fileformat.html>, section 1.3.1.
        head.starts_with(b"SQLite format 3\0")
    }

    fn is_private(&self, profile: &Profile) -> bool {
        profile.text("path") == Some(":memory:")
    }

    fn ending_of_copies(&self) -> Option<&'static str> {
        Some("db")
    }

    fn connect(&self, attempt: &Attempt<'_>) -> Result<Box<dyn Session>, EngineError> {
        Ok(Box::new(session::SqliteSession::new(open::open(attempt.profile)?)?))
    }
}
