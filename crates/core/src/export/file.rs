//! A file that is written as rows come and gets its name when it is whole: never half a file under
//! the name that a person gave.

use std::io::{self, Write};
use std::path::{Path, PathBuf};

use arrow_array::RecordBatch;
use arrow_schema::Schema;

use super::{ExportError, Exporter, Format, Options};
use crate::archive::ArchiveError;
use crate::arrange::pick::Part;
use crate::arrange::{ArrangeError, Progress};
use crate::files::part_file::PartFile;

/// The file of one of several results, counted from 0: `late.csv`, `late-2.csv`.
pub fn of_result(path: &Path, result: usize) -> PathBuf {
    if result == 0 {
        return path.to_owned();
    }
    let stem = path.file_stem().unwrap_or_default().to_string_lossy();
    let ending = path.extension().map_or_else(String::new, |ending| format!(".{}", ending.to_string_lossy()));
    path.with_file_name(format!("{stem}-{}{ending}", result + 1))
}

/// Why a part of a result could not be written.
#[derive(Debug, thiserror::Error)]
pub enum SaveError {
    /// A person stopped it.
    #[error("cancelled; nothing was written to {0}")]
    Stopped(PathBuf),
    /// The file.
    #[error("{path} cannot be written: {source}. {}", remedy(.source))]
    File {
        /// Where.
        path: PathBuf,
        /// Why.
        source: ExportError,
    },
    /// The rows.
    #[error("the rows cannot be read: {0}")]
    Rows(#[from] ArchiveError),
}

/// What to do about it, and what became of the file.
pub fn remedy(error: &ExportError) -> &'static str {
    use io::ErrorKind::{FileTooLarge, NotFound, PermissionDenied, QuotaExceeded, StorageFull};
    match error {
        ExportError::Output(error) => match error.kind() {
            StorageFull | QuotaExceeded | FileTooLarge => {
                "The disk is full: free some space and export again; no partial file is left."
            }
            NotFound => "The folder does not exist: create it first, or name another.",
            PermissionDenied => "Name a folder that you may write to.",
            _ => "No partial file is left.",
        },
        ExportError::Rows(_) | ExportError::Format(_) => "No partial file is left.",
    }
}

/// Writes a part of a result to a file; returns how many rows it has.
pub fn save(
    part: &Part,
    path: &Path,
    format: Format,
    options: &Options,
    progress: &Progress,
) -> Result<u64, SaveError> {
    let wrong = |source: ExportError| SaveError::File { path: path.to_owned(), source };
    let mut file = PartFile::create(path).map_err(|source| wrong(source.into()))?;
    let rows = write(part, format, options, &mut file, progress).map_err(|error| match error {
        WriteError::Stopped => SaveError::Stopped(path.to_owned()),
        WriteError::Rows(error) => SaveError::Rows(error),
        WriteError::Output(source) => wrong(source),
    })?;
    file.finish().map_err(|source| wrong(source.into()))?;
    Ok(rows)
}

/// Why [`write`] ended.
#[derive(Debug, thiserror::Error)]
pub enum WriteError {
    /// A person stopped it.
    #[error("stopped")]
    Stopped,
    /// The rows.
    #[error("{0}")]
    Rows(#[from] ArchiveError),
    /// What is written to, or the format.
    #[error("{0}")]
    Output(#[from] ExportError),
}

/// Writes a part of a result; returns how many rows it has.
pub fn write(
    part: &Part,
    format: Format,
    options: &Options,
    out: &mut dyn Write,
    progress: &Progress,
) -> Result<u64, WriteError> {
    // It may have been stopped while it waited for rows, of which there may be none.
    if progress.is_stopped() {
        return Err(WriteError::Stopped);
    }
    progress.expect(part.len());
    let mut exporter = format.exporter(options);
    exporter.columns(&part.schema(), out)?;
    let mut rows = 0;
    for batch in part.batches() {
        let batch = batch?;
        exporter.batch(&batch, out)?;
        rows += batch.num_rows() as u64;
        match progress.advance(batch.num_rows()) {
            Err(ArrangeError::Stopped) => return Err(WriteError::Stopped),
            Err(ArrangeError::Archive(error)) => return Err(error.into()),
            Err(ArrangeError::TooMany(_)) | Ok(()) => {}
        }
    }
    exporter.finish(out)?;
    exporter.close(out)?;
    Ok(rows)
}

/// Batches that are in memory, in a format; for the clipboard and for tests.
pub fn write_batches(
    schema: &Schema,
    batches: &[RecordBatch],
    (format, options): (Format, &Options),
    out: &mut dyn Write,
) -> Result<(), ExportError> {
    let mut exporter: Box<dyn Exporter> = format.exporter(options);
    exporter.columns(schema, out)?;
    for batch in batches {
        exporter.batch(batch, out)?;
    }
    exporter.finish(out)?;
    exporter.close(out)
}
