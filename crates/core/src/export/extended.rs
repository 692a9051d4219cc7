//! Fields of documents as Extended JSON v2, relaxed, so that their types come back
//! (<https://github.com/mongodb/specifications/blob/master/source/extended-json/extended-json.md>).

use std::io::Write as _;

use arrow_schema::Field;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use jaunty_seam::rows::assemble::Value;
use jaunty_seam::rows::cell::{CellKind, ColumnReader};
use jaunty_seam::rows::widen::mixed_value;
use jaunty_seam::rows::{DB_TYPE, OF_DOCUMENTS};

/// The type of a column's values where it is a field of documents.
pub(super) fn kind_of(field: &Field) -> Option<String> {
    let metadata = field.metadata();
    metadata.contains_key(OF_DOCUMENTS).then(|| metadata.get(DB_TYPE).cloned().unwrap_or_default())
}

fn quoted(text: &str, out: &mut Vec<u8>) {
    // Nothing keeps memory from being written to.
    drop(serde_json::to_writer(out, text));
}

fn wrapped(key: &str, text: &str, out: &mut Vec<u8>) {
    let _ = write!(out, "{{\"{key}\":");
    quoted(text, out);
    out.push(b'}');
}

/// A value of a type that JSON has not, from the text that a cell has.
fn typed(kind: &str, text: &str, out: &mut Vec<u8>) {
    match kind {
        "bool" => out.extend_from_slice(text.as_bytes()),
        "objectId" => wrapped("$oid", text, out),
        "decimal" => wrapped("$numberDecimal", text, out),
        "date" => wrapped("$date", text, out),
        "int" => out.extend_from_slice(text.as_bytes()),
        "long" => wrapped("$numberLong", text, out),
        "string" => quoted(text, out),
        // Documents, lists and the rest are Extended JSON themselves.
        _ if serde_json::from_str::<serde::de::IgnoredAny>(text).is_ok() => out.extend_from_slice(text.as_bytes()),
        _ => quoted(text, out),
    }
}

fn whole(value: i64, is_long: bool, out: &mut Vec<u8>) {
    match is_long && i32::try_from(value).is_ok() {
        true => wrapped("$numberLong", &value.to_string(), out),
        false => out.extend_from_slice(value.to_string().as_bytes()),
    }
}

fn real(value: f64, out: &mut Vec<u8>) {
    match value {
        value if value.is_finite() => out.extend_from_slice(format!("{value:?}").as_bytes()),
        value if value.is_nan() => wrapped("$numberDouble", "NaN", out),
        value => wrapped("$numberDouble", if value > 0.0 { "Infinity" } else { "-Infinity" }, out),
    }
}

fn bytes(value: &[u8], out: &mut Vec<u8>) {
    let _ = write!(out, "{{\"$binary\":{{\"base64\":\"{}\",\"subType\":\"00\"}}}}", STANDARD.encode(value));
}

/// Adds a value of a column of this type, which is not NULL; `text` is room for what it is as text.
pub(super) fn put(column: &ColumnReader<'_>, row: usize, kind: &str, text: &mut String, out: &mut Vec<u8>) {
    match column {
        ColumnReader::Int(values) => whole(values.value(row), kind == "long", out),
        ColumnReader::Real(values) => real(values.value(row), out),
        ColumnReader::Bytes(values) => bytes(values.value(row), out),
        ColumnReader::Mixed(values) => match mixed_value(values, row) {
            Value::Null => out.extend_from_slice(b"null"),
            Value::Int(value) => whole(value, false, out),
            Value::Real(value) => real(value, out),
            Value::Text(value) => quoted(value, out),
            Value::Bytes(value) | Value::RawText(value) => bytes(value, out),
            Value::Typed(kind, value) => typed(kind, value, out),
        },
        other => {
            text.clear();
            match other.put(row, text) {
                CellKind::Null => out.extend_from_slice(b"null"),
                _ => typed(kind, text, out),
            }
        }
    }
}
