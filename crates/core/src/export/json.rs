//! JSON: numbers as numbers, NULL as null, bytes as hexadecimal text.

use std::io::Write;

use arrow_array::RecordBatch;
use arrow_schema::{Fields, Schema};

use super::{ExportError, Exporter};
use crate::rows::cell::{Cell, CellKind, ColumnReader};

pub(super) struct Json {
    lines: bool,
    rows: u64,
    keys: Vec<String>,
}

impl Json {
    pub(super) fn array() -> Self {
        Json { lines: false, rows: 0, keys: Vec::new() }
    }

    pub(super) fn lines() -> Self {
        Json { lines: true, ..Json::array() }
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

fn value(cell: &Cell<'_>) -> String {
    match cell.kind {
        CellKind::Null => "null".into(),
        CellKind::Boolean => cell.text.to_string(),
        // JSON has no infinities.
        CellKind::Number if !cell.text.ends_with(['f', 'N']) => cell.text.to_string(),
        _ => quoted(&cell.text),
    }
}

impl Exporter for Json {
    fn columns(&mut self, schema: &Schema, out: &mut dyn Write) -> Result<(), ExportError> {
        self.keys = keys(schema.fields());
        self.rows = 0;
        if !self.lines {
            out.write_all(b"[")?;
        }
        Ok(())
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        let columns = ColumnReader::all(batch);
        for row in 0..batch.num_rows() {
            let mut object = String::from(match (self.lines, self.rows) {
                (true, _) => "{",
                (false, 0) => "\n  {",
                (false, _) => ",\n  {",
            });
            for (index, (key, column)) in self.keys.iter().zip(&columns).enumerate() {
                if index > 0 {
                    object.push(',');
                }
                object.push_str(key);
                object.push(':');
                object.push_str(&value(&column.get(row)));
            }
            object.push_str(if self.lines { "}\n" } else { "}" });
            out.write_all(object.as_bytes())?;
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
