//! The rows of a run, on disk.
//!
//! An archive is an Arrow IPC file of uncompressed batches, written as rows arrive. [`Writer`]
//! appends to it; [`Archive`] reads any page of it by row number, while it is being written, after
//! it is finished, and after a crash, which costs at most the batch that was being written.
//!
//! The footer of an Arrow file, which lists its batches, comes last. So the two share a list of
//! where each batch lies and which row it begins with; a file that is opened later is read from
//! message to message to make that list anew, whether it has a footer or not.
//!
//! The footer also holds a checksum of each message. A batch that is read whole, as each is that is shown or
//! exported, is compared with it; where single columns are scanned or long values read in part, and where a crash left
//! no footer, only lengths and offsets are looked at.
//!
//! Where columns turn up late, as in documents, another schema message stands between the batches, and what comes
//! before it is not written again: those rows are NULL there. Such a file has no footer, which can tell one schema
//! only, but an end of our own with the checksums ([`LATE`]); other programs refuse it, and exports are what they read.
//!
//! A batch with long values in it is not read whole to be looked at ([`Archive::glimpse`]): of each value only a part.
//!
//! Batches are read with positioned reads into memory of their own. Mapping the file would save a
//! copy, but a file that shrinks under a map kills the program, and touched pages of a map count as
//! the program's memory; a batch is a few hundred kilobytes, read in a fraction of a frame.

mod cut;
mod message;
mod reader;
mod retention;
mod writer;

use std::io;
use std::path::PathBuf;

use arrow_schema::ArrowError;

pub use cut::{Cut, Window};
pub use reader::{Archive, Page};
pub use retention::{PARTS, Retention, Swept, keep_within};
pub use writer::Writer;

/// Why an archive could not be written or read.
#[derive(Debug, thiserror::Error)]
pub enum ArchiveError {
    /// The file system refused.
    #[error("the archive {path} cannot be {act}: {source}")]
    File {
        /// The archive.
        path: PathBuf,
        /// What was tried.
        act: &'static str,
        /// Why it failed.
        source: io::Error,
    },
    /// What stands in the file is no archive.
    #[error("{path} is not an archive: {what}")]
    NotAnArchive {
        /// The file.
        path: PathBuf,
        /// What was found instead.
        what: String,
    },
    /// What stands in the file is not what was written.
    #[error("the archive {path} is damaged ({what}); run the statement again")]
    Damaged {
        /// The file.
        path: PathBuf,
        /// What is not as it was, and where.
        what: String,
    },
    /// All archives together have reached their limit, and none of them may be removed.
    #[error("the archives have reached their limit of {0}, and the others are pinned or being written")]
    Full(Retention),
    /// Rows that cannot be written or read.
    #[error("rows of the archive: {0}")]
    Rows(#[from] ArrowError),
}

/// The key of the footer's metadata under which the checksums of all messages stand, the schema's first: CRC-32
/// (IEEE 802.3), eight hexadecimal digits each.
const CHECKSUMS: &str = "crc32";

/// What a file ends with in which columns turned up late: before it stand the checksums, as in [`CHECKSUMS`], and
/// their length in bytes, 32 bits with the lowest byte first.
const LATE: &[u8; 8] = b"JQLATE1\n";

/// Where one batch lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Place {
    /// The first byte of its message.
    offset: u64,
    /// The length of the message's head, with its length prefix and padding.
    head: u32,
    /// The length of the message's body.
    body: u64,
    /// The number of its first row.
    first_row: u64,
    /// How many rows it has.
    rows: u64,
    /// The checksum of its message, where the file tells it.
    sum: Option<u32>,
    /// Which of the file's schemas it has.
    schema: u32,
}

#[cfg(test)]
mod tests;
