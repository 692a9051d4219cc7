//! Rows of files into tables.
//!
//! [`Source`] opens a file, finds out what it is ([`Found`]) and gives its rows in blocks. [`Matching`] says which of its
//! columns goes into which of a table, or what a new table would be; [`load()`] puts the rows there, in one transaction or
//! in parts, and writes those that do not fit to a file with the reason.

pub mod csv;
mod fit;
mod found;
mod load;
mod matching;
mod numbers;
pub mod preview;
mod refused;
mod source;

use std::path::PathBuf;

pub use found::{Dates, Found, FoundColumn, Shape};
pub use load::{Loaded, Options, Parts, load};
pub use matching::{Matching, NewColumns, Target};
pub use numbers::Numbers;
pub use refused::{Bad, Refused};
pub use source::{Block, Choices, Format, Source};

use jaunty_seam::error::EngineError;

/// Why rows were not loaded.
#[derive(Debug, thiserror::Error)]
pub enum ImportError {
    /// A file could not be read or written.
    #[error("{path} cannot be {act}: {source}")]
    File {
        /// The file.
        path: PathBuf,
        /// What was tried.
        act: &'static str,
        /// Why.
        source: std::io::Error,
    },
    /// A file is not what it was taken for.
    #[error("{0}")]
    Malformed(String),
    /// Something that was asked for does not fit the file or the table.
    #[error("{0}")]
    Mistake(String),
    /// A row does not fit, and nobody said where to write it.
    #[error("line {line}: {reason}")]
    Row {
        /// The line, or the number of the row.
        line: u64,
        /// Why.
        reason: String,
        /// How many rows stay, of parts that were committed before.
        kept: u64,
    },
    /// The server refused.
    #[error("{error}")]
    Server {
        /// What it says.
        error: EngineError,
        /// How many rows stay, of parts that were committed before.
        kept: u64,
        /// Whether it was about rows, and not about a statement around them.
        of_rows: bool,
    },
    /// Somebody wanted it to end.
    #[error("cancelled")]
    Stopped {
        /// How many rows stay, of parts that were committed before.
        kept: u64,
    },
}
