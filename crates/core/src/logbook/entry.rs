//! A run, as the logbook has it.

use std::path::{Path, PathBuf};

use jaunty_language::statement::parameters::Value;
use jaunty_seam::engine::Message;

/// How a run ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// It has not.
    Running,
    /// To its end.
    Done,
    /// With an error.
    Failed,
    /// A person stopped it.
    Stopped,
    /// The program or the connection ended first.
    CutShort,
}

impl Outcome {
    /// All outcomes.
    pub const ALL: [Outcome; 5] =
        [Outcome::Running, Outcome::Done, Outcome::Failed, Outcome::Stopped, Outcome::CutShort];

    /// The outcome with this word.
    pub fn from_word(word: &str) -> Option<Outcome> {
        Outcome::ALL.into_iter().find(|outcome| outcome.word() == word)
    }

    /// Its word, on the screen and in the file.
    pub fn word(self) -> &'static str {
        match self {
            Outcome::Running => "running",
            Outcome::Done => "done",
            Outcome::Failed => "failed",
            Outcome::Stopped => "stopped",
            Outcome::CutShort => "cut short",
        }
    }
}

/// What is known when a run begins.
#[derive(Debug, Clone, Default)]
pub struct Begun<'a> {
    /// The profile's name.
    pub connection: &'a str,
    /// The engine's name.
    pub engine: &'a str,
    /// The database it ran in.
    pub database: &'a str,
    /// The buffer it came from.
    pub buffer: Option<&'a Path>,
    /// The statement's title.
    pub title: Option<&'a str>,
    /// The statement.
    pub statement: &'a str,
    /// The values of its parameters.
    pub values: &'a [Value],
    /// The server's own number of the session; empty if there is none.
    pub session: &'a str,
    /// Milliseconds since 1970.
    pub started_ms: i64,
}

/// What is known when it has ended.
#[derive(Debug, Clone, Default)]
pub struct Ended {
    /// Milliseconds until the first row, where there was one.
    pub first_row_ms: Option<i64>,
    /// Milliseconds until the end.
    pub duration_ms: i64,
    /// Rows that were fetched.
    pub rows: u64,
    /// Bytes of its archives.
    pub bytes: u64,
    /// The error, explained.
    pub error: Option<String>,
}

/// One result of a run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KeptResult {
    /// Rows, in this archive.
    Rows(PathBuf),
    /// A number of rows touched.
    Affected(Option<u64>),
}

/// A run as the logbook has it.
#[derive(Debug, Clone)]
pub struct Entry {
    /// Its number.
    pub number: i64,
    /// The profile that it ran on.
    pub connection: String,
    /// The engine's name.
    pub engine: String,
    /// The database.
    pub database: String,
    /// The statement's title.
    pub title: Option<String>,
    /// The statement.
    pub statement: String,
    /// The values of its parameters.
    pub values: Vec<Value>,
    /// The server's own number of the session; empty if there is none.
    pub session: String,
    /// Milliseconds since 1970.
    pub started_ms: i64,
    /// Whether its rows stay, however old they get.
    pub pinned: bool,
    /// Whether what it changed is gone, since its transaction was rolled back.
    pub rolled_back: bool,
    /// How it ended.
    pub outcome: Outcome,
    /// What was known at its end.
    pub ended: Ended,
    /// Its results.
    pub results: Vec<KeptResult>,
    /// What the server said, where that was asked for with the entry.
    pub messages: Vec<Message>,
    /// How many messages came after those, and were not kept.
    pub left_out: u64,
}

impl Entry {
    /// The archives of its results with rows, in order.
    pub fn archives(&self) -> Vec<&Path> {
        let rows = self.results.iter().filter_map(|result| match result {
            KeptResult::Rows(path) => Some(path.as_path()),
            KeptResult::Affected(_) => None,
        });
        rows.collect()
    }

    /// When it began, as the clock on the wall showed it: `2031-03-05 07:30:00`.
    pub fn moment(&self) -> String {
        let began = chrono::DateTime::from_timestamp_millis(self.started_ms);
        began.map_or_else(String::new, |began| began.with_timezone(&chrono::Local).format("%F %T").to_string())
    }
}
