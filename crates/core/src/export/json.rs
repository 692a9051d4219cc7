//! JSON: numbers as numbers, NULL as null, bytes as hexadecimal text, and JSON as what it is.

use std::io::Write;

use arrow_array::RecordBatch;
use arrow_schema::{FieldRef, Fields, Schema};

use super::nested::Nested;
use super::{ExportError, Exporter, Options};
use crate::rows::cell::{Cell, CellKind, ColumnReader, type_name};

pub(super) struct Json {
    lines: bool,
    rows: u64,
    keys: Vec<String>,
    /// Whether values that have parts are written as JSON.
    nests: bool,
    nested: Vec<Option<Nested>>,
}

impl Json {
    pub(super) fn array(options: &Options) -> Self {
        Json { lines: false, rows: 0, keys: Vec::new(), nests: options.nested, nested: Vec::new() }
    }

    pub(super) fn lines(options: &Options) -> Self {
        Json { lines: true, ..Json::array(options) }
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

fn value(cell: &Cell<'_>, nested: Option<Nested>) -> String {
    if let Some(json) = nested.filter(|_| cell.kind == CellKind::Text).and_then(|nested| nested.json(&cell.text)) {
        return json;
    }
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
        let nested = |field: &FieldRef| if self.nests { Nested::of(&type_name(field)) } else { None };
        self.nested = schema.fields().iter().map(nested).collect();
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
            for (index, ((key, column), nested)) in self.keys.iter().zip(&columns).zip(&self.nested).enumerate() {
                if index > 0 {
                    object.push(',');
                }
                object.push_str(key);
                object.push(':');
                object.push_str(&value(&column.get(row), *nested));
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
