//! Writing rows for others to read: one module per format, all fed with batches as they come.

mod csv;
mod json;
mod table;

use std::io::{self, Write};

use arrow_array::RecordBatch;
use arrow_schema::{ArrowError, Schema};

/// Formats, and how each is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// Columns under their names, for reading.
    Table,
    /// Comma-separated values, RFC 4180. NULL is an empty field, empty text is `""`.
    Csv,
    /// One JSON array of objects.
    Json,
    /// One JSON object a line.
    JsonLines,
    /// A Markdown table.
    Markdown,
}

impl Format {
    /// All formats with the word for each.
    pub const ALL: [(Format, &'static str); 5] = [
        (Format::Table, "table"),
        (Format::Csv, "csv"),
        (Format::Json, "json"),
        (Format::JsonLines, "jsonl"),
        (Format::Markdown, "markdown"),
    ];

    /// The format with this word, or with this as the usual ending of its files.
    pub fn from_word(word: &str) -> Option<Format> {
        let word = if word == "md" { "markdown" } else { word };
        Format::ALL.iter().find(|(_, name)| *name == word).map(|(format, _)| *format)
    }

    /// A writer of this format.
    pub fn exporter(self) -> Box<dyn Exporter> {
        match self {
            Format::Table => Box::new(table::Table::plain()),
            Format::Markdown => Box::new(table::Table::markdown()),
            Format::Csv => Box::new(csv::Csv),
            Format::Json => Box::new(json::Json::array()),
            Format::JsonLines => Box::new(json::Json::lines()),
        }
    }
}

/// Writes one result after another. Each begins with [`Exporter::columns`].
pub trait Exporter: Send {
    /// A result begins.
    fn columns(&mut self, schema: &Schema, out: &mut dyn Write) -> Result<(), ExportError>;
    /// Rows of it.
    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError>;
    /// It ends.
    fn finish(&mut self, out: &mut dyn Write) -> Result<(), ExportError>;
}

/// Why rows could not be written.
#[derive(Debug, thiserror::Error)]
pub enum ExportError {
    /// The output refused.
    #[error("{0}")]
    Output(#[from] io::Error),
    /// The rows could not be read.
    #[error("{0}")]
    Rows(#[from] ArrowError),
}

/// Lets text through to a terminal, but nothing that would act on it.
pub struct Cleaned<W>(pub W);

impl<W: Write> Write for Cleaned<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        // Exporters write whole pieces of text; what is not UTF-8 is shown as such.
        let text = String::from_utf8_lossy(bytes);
        let mut shown = String::with_capacity(text.len());
        for line in text.split_inclusive('\n') {
            let bare = line.strip_suffix('\n').unwrap_or(line);
            shown.push_str(&crate::text::clean::clean(bare.strip_suffix('\r').unwrap_or(bare)));
            shown.push_str(&line[bare.len()..]);
        }
        self.0.write_all(shown.as_bytes())?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

#[cfg(test)]
mod tests;
