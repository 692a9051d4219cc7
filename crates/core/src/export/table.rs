//! Tables for reading: aligned columns, or Markdown.
//!
//! Widths come from the first rows. A later value that is wider pushes its line out; nothing is cut.

use std::io::Write;

use arrow_array::RecordBatch;
use arrow_schema::Schema;

use super::{ExportError, Exporter};
use jaunty_language::text::clean::{clean, width};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};

/// Rows that are held back to measure columns by.
const MEASURED: usize = 500;
/// Wider than this a column is not made for the sake of a single value.
const WIDEST: usize = 60;

pub(super) struct Table {
    markdown: bool,
    null: String,
    names: Vec<String>,
    right: Vec<bool>,
    widths: Vec<usize>,
    /// Rows not yet written, until the widths are known.
    waiting: Vec<Vec<String>>,
    begun: bool,
}

impl Table {
    /// Aligned columns; `null` stands for NULL.
    pub(super) fn plain(null: &str) -> Self {
        Table {
            markdown: false,
            null: null.to_owned(),
            names: Vec::new(),
            right: Vec::new(),
            widths: Vec::new(),
            waiting: Vec::new(),
            begun: false,
        }
    }

    pub(super) fn markdown(null: &str) -> Self {
        Table { markdown: true, ..Table::plain(null) }
    }

    fn text(&self, text: &str) -> String {
        let text = clean(text);
        if self.markdown { text.replace('\\', "\\\\").replace('|', "\\|") } else { text.into_owned() }
    }

    fn line(&self, cells: &[String], out: &mut dyn Write) -> Result<(), ExportError> {
        // A result without columns, as of no documents, has nothing to stand on a line.
        if cells.is_empty() {
            return Ok(());
        }
        let mut line = String::from(if self.markdown { "| " } else { "" });
        let last = cells.len().saturating_sub(1);
        for (i, cell) in cells.iter().enumerate() {
            let pad = " ".repeat(self.widths[i].saturating_sub(width(cell)));
            let trail = self.markdown || i < last;
            match self.right[i] {
                true => line.extend([pad.as_str(), cell]),
                false => line.extend([cell.as_str(), if trail { &pad } else { "" }]),
            }
            line.push_str(match (self.markdown, i < last) {
                (true, true) => " | ",
                (true, false) => " |",
                (false, true) => "  ",
                (false, false) => "",
            });
        }
        line.push('\n');
        Ok(out.write_all(line.as_bytes())?)
    }

    fn begin(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        if std::mem::replace(&mut self.begun, true) {
            return Ok(());
        }
        for (i, name) in self.names.iter().enumerate() {
            let cells = self.waiting.iter().map(|row| width(&row[i]));
            let widest = cells.max().unwrap_or(0).min(WIDEST).max(width(name));
            self.widths[i] = if self.markdown { widest.max(3) } else { widest };
        }
        self.line(&self.names, out)?;
        let rules = self.widths.iter().zip(&self.right).map(|(width, right)| match (self.markdown, right) {
            (true, true) => format!("{}:", "-".repeat(width - 1)),
            (true, false) => "-".repeat(*width),
            (false, _) => "─".repeat(*width),
        });
        self.line(&rules.collect::<Vec<_>>(), out)?;
        for row in std::mem::take(&mut self.waiting) {
            self.line(&row, out)?;
        }
        Ok(())
    }
}

impl Exporter for Table {
    fn columns(&mut self, schema: &Schema, _: &mut dyn Write) -> Result<(), ExportError> {
        self.names = schema.fields().iter().map(|field| self.text(field.name())).collect();
        self.right = vec![false; self.names.len()];
        self.widths = vec![0; self.names.len()];
        self.begun = false;
        Ok(())
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        let columns = ColumnReader::all(batch);
        for row in 0..batch.num_rows() {
            let mut cells = Vec::with_capacity(columns.len());
            for (i, column) in columns.iter().enumerate() {
                let cell = column.get(row);
                self.right[i] |= !self.begun && cell.kind == CellKind::Number;
                cells.push(self.text(if cell.kind == CellKind::Null { &self.null } else { &cell.text }));
            }
            if self.begun {
                self.line(&cells, out)?;
            } else {
                self.waiting.push(cells);
                if self.waiting.len() >= MEASURED {
                    self.begin(out)?;
                }
            }
        }
        Ok(())
    }

    fn finish(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        self.begin(out)
    }
}
