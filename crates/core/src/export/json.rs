//! JSON: numbers as numbers, NULL as null, bytes as hexadecimal text, and JSON as what it is.

use std::io::Write;

use arrow_array::RecordBatch;
use arrow_schema::{FieldRef, Fields, Schema};

use super::extended;
use super::long::Long;
use super::{ExportError, Exporter, Options};
use jaunty_seam::rows::cell::{CellKind, ColumnReader, type_name};
use jaunty_seam::rows::nested::Nested;
use jaunty_seam::rows::{moment, other};

pub(super) struct Json {
    lines: bool,
    rows: u64,
    keys: Vec<String>,
    /// Whether values that have parts are written as JSON.
    nests: bool,
    nested: Vec<Option<Nested>>,
    /// The types of columns that are fields of documents.
    kinds: Vec<Option<String>>,
}

impl Json {
    pub(super) fn array(options: &Options) -> Self {
        Json { lines: false, rows: 0, keys: Vec::new(), nests: options.nested, nested: Vec::new(), kinds: Vec::new() }
    }

    pub(super) fn lines(options: &Options) -> Self {
        Json { lines: true, ..Json::array(options) }
    }

    fn learn(&mut self, schema: &Schema) {
        self.keys = keys(schema.fields());
        let nested = |field: &FieldRef| match self.nests {
            true if other::is_nested(field.data_type()) => Some(Nested::Json),
            true => Nested::of(&type_name(field)),
            false => None,
        };
        self.nested = schema.fields().iter().map(nested).collect();
        self.kinds = schema.fields().iter().map(|field| extended::kind_of(field)).collect();
    }
}

/// The keys of an object: column names, numbered where one comes again, since an object's keys
/// should be unique (RFC 8259, section 4).
fn keys(fields: &Fields) -> Vec<String> {
    unique_names(fields).iter().map(|key| quoted(key)).collect()
}

/// The names of columns, numbered where one comes again.
pub(super) fn unique_names(fields: &Fields) -> Vec<String> {
    let mut keys: Vec<String> = Vec::new();
    for field in fields {
        let mut name = field.name().clone();
        let mut number = 2;
        while keys.contains(&name) {
            name = format!("{}_{number}", field.name());
            number += 1;
        }
        keys.push(name);
    }
    keys
}

fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}

/// Whether a text is a number of JSON (RFC 8259, section 6).
pub(super) fn is_number(text: &str) -> bool {
    let digits = |text: &str| text.len() - text.trim_start_matches(|c: char| c.is_ascii_digit()).len();
    let rest = text.strip_prefix('-').unwrap_or(text);
    let whole = digits(rest);
    if whole == 0 || (whole > 1 && rest.starts_with('0')) {
        return false;
    }
    let mut rest = &rest[whole..];
    if let Some(part) = rest.strip_prefix('.') {
        let count = digits(part);
        if count == 0 {
            return false;
        }
        rest = &part[count..];
    }
    if let Some(power) = rest.strip_prefix(['e', 'E']) {
        let power = power.strip_prefix(['+', '-']).unwrap_or(power);
        return digits(power) > 0 && digits(power) == power.len();
    }
    rest.is_empty()
}

/// Adds a value; `text` is room for what it is as text.
fn put_value(column: &ColumnReader<'_>, row: usize, nested: Option<Nested>, text: &mut String, out: &mut Vec<u8>) {
    text.clear();
    let kind = column.put(row, text);
    let json = nested.filter(|_| kind == CellKind::Text).and_then(|nested| nested.json(text));
    match (kind, json) {
        (_, Some(json)) => out.extend_from_slice(json.as_bytes()),
        (CellKind::Null, _) => out.extend_from_slice(b"null"),
        (CellKind::Boolean, _) => out.extend_from_slice(text.as_bytes()),
        // Many readers take it for a whole number otherwise, which has no sign.
        (CellKind::Number, _) if text == "-0" => out.extend_from_slice(b"-0.0"),
        // JSON has no infinities, and no zeros in front.
        (CellKind::Number, _) if is_number(text) => out.extend_from_slice(text.as_bytes()),
        // Nothing keeps memory from being written to.
        _ => {
            let moment = if column.is_moment() { moment::iso_8601(text) } else { None };
            drop(serde_json::to_writer(out, moment.as_deref().unwrap_or(text)));
        }
    }
}

/// Writes a long value as a string; `piece` is room for a part of it, and is left empty but for the last quote.
fn put_long(long: Long<'_>, piece: &mut Vec<u8>, out: &mut dyn Write) -> Result<(), ExportError> {
    out.write_all(b"\"")?;
    for text in long.pieces() {
        piece.clear();
        serde_json::to_writer(&mut *piece, text.as_ref()).map_err(std::io::Error::from)?;
        // Without the quotes of each piece.
        out.write_all(piece.get(1..piece.len() - 1).unwrap_or_default())?;
    }
    piece.clear();
    piece.push(b'"');
    Ok(())
}

impl Exporter for Json {
    fn columns(&mut self, schema: &Schema, out: &mut dyn Write) -> Result<(), ExportError> {
        self.learn(schema);
        self.rows = 0;
        if !self.lines {
            out.write_all(b"[")?;
        }
        Ok(())
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        // Each object says what it has, so that columns may turn up late.
        let late = batch.num_columns() > self.keys.len();
        // Of documents the types may be others than before.
        if late || self.kinds.iter().any(Option::is_some) {
            self.learn(&batch.schema());
        }
        let columns = ColumnReader::all(batch);
        let (mut text, mut object) = (String::new(), Vec::new());
        for row in 0..batch.num_rows() {
            object.clear();
            object.extend_from_slice(match (self.lines, self.rows) {
                (true, _) => b"{",
                (false, 0) => b"\n  {",
                (false, _) => b",\n  {",
            });
            let mut is_first = true;
            for (((key, column), nested), kind) in self.keys.iter().zip(&columns).zip(&self.nested).zip(&self.kinds) {
                // A document has no field where a row has no value.
                if kind.is_some() && column.is_null(row) {
                    continue;
                }
                if !std::mem::take(&mut is_first) {
                    object.push(b',');
                }
                object.extend_from_slice(key.as_bytes());
                object.push(b':');
                if let Some(kind) = kind {
                    extended::put(column, row, kind, &mut text, &mut object);
                    continue;
                }
                // What is JSON itself is looked at as a whole.
                if let Some(long) = Long::of(column, row).filter(|_| nested.is_none()) {
                    out.write_all(&object)?;
                    object.clear();
                    put_long(long, &mut object, out)?;
                    continue;
                }
                put_value(column, row, *nested, &mut text, &mut object);
            }
            object.extend_from_slice(if self.lines { b"}\n" } else { b"}" });
            out.write_all(&object)?;
            self.rows += 1;
        }
        Ok(())
    }

    fn finish(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        match (self.lines, self.rows) {
            (true, _) => {}
            (false, 0) => out.write_all(b"]\n")?,
            (false, _) => out.write_all(b"\n]\n")?,
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_those_of_json() {
        let texts = [
            "0",
            "-0",
            "7",
            "-12.50",
            "1e300",
            "1E-7",
            "1.5e+20",
            "00042",
            "-01",
            "1.",
            ".5",
            "+1",
            "1e",
            "1e+",
            "1e5x",
            "",
            "-",
            "inf",
            "-Infinity",
            "NaN",
            "0x1f",
            "1 ",
            "12345678901234567890123.40",
        ];
        for text in texts {
            // Another reader's word for it; it knows numbers of any size, since it does not keep them.
            let theirs = !text.ends_with(' ') && serde_json::from_str::<serde::de::IgnoredAny>(text).is_ok();
            assert_eq!(is_number(text), theirs, "{text:?}");
        }
    }
}
