//! Comma-separated values by RFC 4180, in UTF-8. A NULL is an empty field, or the text set for it, and
//! a value that reads the same is quoted, so that the two can be told apart.

use std::io::Write;

use arrow_array::RecordBatch;
use arrow_schema::Schema;

use super::long::Long;
use super::{ExportError, Exporter, Options};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};

/// About how many bytes are written at once.
const PIECE: usize = 64 << 10;

pub(super) struct Csv {
    separator: u8,
    quote: u8,
    header: bool,
    line_end: &'static str,
    null: String,
    formula_safe: bool,
    /// What is not written yet.
    text: String,
    /// The bytes for which a field is quoted.
    special: [bool; 256],
}

impl Csv {
    pub(super) fn new(options: &Options, separator: u8) -> Self {
        let mut special = [false; 256];
        for byte in [separator, options.quote, b'\n', b'\r'] {
            special[usize::from(byte)] = true;
        }
        Csv {
            special,
            separator,
            quote: options.quote,
            header: options.header,
            line_end: if options.crlf { "\r\n" } else { "\n" },
            null: options.null.clone(),
            formula_safe: options.formula_safe,
            text: String::new(),
        }
    }

    /// Closes the field that began at `from`: quotes it where it has to be.
    fn close(&mut self, from: usize, kind: CellKind) {
        if self.formula_safe && kind == CellKind::Text && begins_formula(self.text.as_bytes().get(from)) {
            self.text.insert(from, '\'');
        }
        let field = self.text.as_bytes().get(from..).unwrap_or_default();
        if !self.needs_quotes(field) {
            return;
        }
        let quote = char::from(self.quote);
        let field = self.text.split_off(from);
        self.text.push(quote);
        if field.contains(quote) {
            self.text.push_str(&field.replace(quote, &format!("{quote}{quote}")));
        } else {
            self.text.push_str(&field);
        }
        self.text.push(quote);
    }

    /// Writes what there is, and a long field behind it.
    fn put_long(&mut self, long: Long<'_>, out: &mut dyn Write) -> Result<(), ExportError> {
        let first = long.pieces().next().unwrap_or_default();
        let quoted = match long {
            Long::Text(text) => self.needs_quotes(text.as_bytes()),
            Long::Bytes(..) => self.needs_quotes(first.as_bytes()),
        };
        let quote = char::from(self.quote).to_string();
        if quoted {
            self.text.push_str(&quote);
        }
        if self.formula_safe && long.kind() == CellKind::Text && begins_formula(first.as_bytes().first()) {
            self.text.push('\'');
        }
        out.write_all(self.text.as_bytes())?;
        self.text.clear();
        for piece in long.pieces() {
            match quoted && piece.contains(&quote) {
                true => out.write_all(piece.replace(&quote, &quote.repeat(2)).as_bytes())?,
                false => out.write_all(piece.as_bytes())?,
            }
        }
        if quoted {
            self.text.push_str(&quote);
        }
        Ok(())
    }

    fn needs_quotes(&self, field: &[u8]) -> bool {
        let ends = |byte: Option<&u8>| matches!(byte, None | Some(b' ' | b'\t'));
        ends(field.first())
            || ends(field.last())
            || field == self.null.as_bytes()
            || field.iter().any(|byte| self.special[usize::from(*byte)])
    }
}

/// What a spreadsheet would carry out instead of showing it.
fn begins_formula(byte: Option<&u8>) -> bool {
    matches!(byte, Some(b'=' | b'+' | b'-' | b'@' | b'\t' | b'\r'))
}

impl Exporter for Csv {
    fn columns(&mut self, schema: &Schema, out: &mut dyn Write) -> Result<(), ExportError> {
        if !self.header {
            return Ok(());
        }
        self.text.clear();
        for (index, field) in schema.fields().iter().enumerate() {
            if index > 0 {
                self.text.push(char::from(self.separator));
            }
            let from = self.text.len();
            self.text.push_str(field.name());
            self.close(from, CellKind::Text);
        }
        self.text.push_str(self.line_end);
        Ok(out.write_all(self.text.as_bytes())?)
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        let columns = ColumnReader::all(batch);
        self.text.clear();
        for row in 0..batch.num_rows() {
            for (index, column) in columns.iter().enumerate() {
                if index > 0 {
                    self.text.push(char::from(self.separator));
                }
                if let Some(long) = Long::of(column, row) {
                    self.put_long(long, out)?;
                    continue;
                }
                let from = self.text.len();
                match column.put(row, &mut self.text) {
                    CellKind::Null => self.text.push_str(&self.null),
                    // No digit is a separator, a quote or a blank.
                    CellKind::Number if self.null.is_empty() && self.separator.is_ascii_punctuation() => {}
                    kind => self.close(from, kind),
                }
            }
            self.text.push_str(self.line_end);
            if self.text.len() >= PIECE {
                out.write_all(self.text.as_bytes())?;
                self.text.clear();
            }
        }
        Ok(out.write_all(self.text.as_bytes())?)
    }

    fn finish(&mut self, _: &mut dyn Write) -> Result<(), ExportError> {
        Ok(())
    }
}
