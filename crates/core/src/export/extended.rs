//! Fields of documents as Extended JSON v2, relaxed, so that their types come back
//! (<https://github.com/mongodb/specifications/blob/master/source/extended-json/extended-json.md>).

use std::io::Write as _;

use arrow_array::RecordBatch;
use arrow_schema::{DataType, Field};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use jaunty_seam::rows::assemble::Value;
use jaunty_seam::rows::cell::{CellKind, ColumnReader};
use jaunty_seam::rows::widen::{mixed_value, typed_as};
use jaunty_seam::rows::{DB_TYPE, OF_DOCUMENTS, WHOLE_AS, moment};
use serde_json::value::RawValue;

use super::file::write_batches;
use super::{ExportError, Format, Options};
use crate::arrange::parts::parts_in_order;

/// The type of a column's values where it is a field of documents.
pub(super) fn kind_of(field: &Field) -> Option<String> {
    let metadata = field.metadata();
    // Of mixed values each says its own, but for whole numbers.
    if let Some(kind) = metadata.get(WHOLE_AS) {
        return Some(kind.clone());
    }
    metadata.contains_key(OF_DOCUMENTS).then(|| match (typed_as(field), field.data_type()) {
        (Some(kind), _) => kind.to_owned(),
        (None, DataType::Utf8) => "string".to_owned(),
        (None, _) => metadata.get(DB_TYPE).cloned().unwrap_or_default(),
    })
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

/// A row as one document, relaxed, or canonical: with the type of every number beside it. What is not a field of documents is
/// written as JSON has it.
pub fn document(batch: &RecordBatch, row: usize, canonical: bool) -> Result<String, ExportError> {
    let mut out = Vec::new();
    let options = Options { nested: true, ..Options::default() };
    write_batches(&batch.schema(), &[batch.slice(row, 1)], (Format::JsonLines, &options), &mut out)?;
    let text = String::from_utf8_lossy(&out).trim_end().to_owned();
    Ok(if canonical { canonical_of(&text) } else { text })
}

/// Relaxed Extended JSON as canonical.
fn canonical_of(text: &str) -> String {
    let Ok(value) = serde_json::from_str::<&RawValue>(text) else { return text.to_owned() };
    let mut out = Vec::with_capacity(text.len() * 2);
    canonical(value.get(), &mut out);
    String::from_utf8_lossy(&out).into_owned()
}

fn canonical(text: &str, out: &mut Vec<u8>) {
    match text.as_bytes().first() {
        Some(b'{') => {
            let Some(fields) = parts_in_order(text) else {
                return out.extend_from_slice(text.as_bytes());
            };
            if let [(name, value)] = fields.as_slice() {
                match &**name {
                    "$date" => return canonical_date(value.get(), out),
                    // Their own parts are not values.
                    "$binary" | "$timestamp" | "$regularExpression" | "$minKey" | "$maxKey" => {
                        return out.extend_from_slice(text.as_bytes());
                    }
                    _ => {}
                }
            }
            out.push(b'{');
            for (number, (name, value)) in fields.iter().enumerate() {
                if number > 0 {
                    out.push(b',');
                }
                quoted(name, out);
                out.push(b':');
                canonical(value.get(), out);
            }
            out.push(b'}');
        }
        Some(b'[') => {
            let Some(values) = parts_in_order(text) else { return out.extend_from_slice(text.as_bytes()) };
            out.push(b'[');
            for (number, (_, value)) in values.iter().enumerate() {
                if number > 0 {
                    out.push(b',');
                }
                canonical(value.get(), out);
            }
            out.push(b']');
        }
        Some(b'-' | b'0'..=b'9') => match text.parse::<i64>() {
            Ok(value) if i32::try_from(value).is_ok() => wrapped("$numberInt", text, out),
            Ok(_) => wrapped("$numberLong", text, out),
            Err(_) => wrapped("$numberDouble", text, out),
        },
        _ => out.extend_from_slice(text.as_bytes()),
    }
}

fn canonical_date(value: &str, out: &mut Vec<u8>) {
    let text: Option<String> = serde_json::from_str(value).ok();
    match text.and_then(|text| moment::instant(&text, None)) {
        Some(micros) => {
            let _ = write!(out, "{{\"$date\":{{\"$numberLong\":\"{}\"}}}}", micros.div_euclid(1000));
        }
        None => {
            let _ = write!(out, "{{\"$date\":{value}}}");
        }
    }
}

/// Adds a value of a column of this type, which is not NULL; `text` is room for what it is as text.
pub(super) fn put(column: &ColumnReader<'_>, row: usize, kind: &str, text: &mut String, out: &mut Vec<u8>) {
    match column {
        ColumnReader::Int(values) => whole(values.value(row), kind == "long", out),
        ColumnReader::Real(values) => real(values.value(row), out),
        ColumnReader::Bytes(values) => bytes(values.value(row), out),
        ColumnReader::Mixed(values) => match mixed_value(values, row) {
            Value::Null => out.extend_from_slice(b"null"),
            Value::Int(value) => whole(value, kind == "long", out),
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

#[cfg(test)]
mod tests {
    use jaunty_seam::rows::assemble::{Announced, Assembler};

    use super::*;

    #[test]
    fn a_document_with_the_type_of_every_number() {
        for (relaxed, canonical) in [
            (
                r#"{"a":1,"b":-7.0,"c":5000000000}"#,
                r#"{"a":{"$numberInt":"1"},"b":{"$numberDouble":"-7.0"},"c":{"$numberLong":"5000000000"}}"#,
            ),
            (r#"{"z":[1,{"y":true}],"a":"1"}"#, r#"{"z":[{"$numberInt":"1"},{"y":true}],"a":"1"}"#),
            (r#"{"at":{"$date":"2031-03-05T00:00:00.001Z"}}"#, r#"{"at":{"$date":{"$numberLong":"1930435200001"}}}"#),
            (r#"{"t":{"$timestamp":{"t":5,"i":6}}}"#, r#"{"t":{"$timestamp":{"t":5,"i":6}}}"#),
            (
                r#"{"l":{"$numberLong":"7"},"d":{"$numberDecimal":"1.0"}}"#,
                r#"{"l":{"$numberLong":"7"},"d":{"$numberDecimal":"1.0"}}"#,
            ),
        ] {
            assert_eq!(canonical_of(relaxed), canonical);
            assert_eq!(canonical_of(canonical), canonical, "it stays what it is");
        }
    }

    #[test]
    fn types_stand_beside_values() {
        let field = |name: &str| Announced { name: name.into(), of_documents: true, ..Announced::default() };
        let mut assembler = Assembler::new(["a", "b"].map(field).to_vec());
        let rows = [
            [Value::Text("7"), Value::Int(1)],
            [Value::Text("{}"), Value::Typed("objectId", "65f0")],
            [Value::Null, Value::Real(7.0)],
            [Value::Text("x"), Value::Typed("object", "{\"a\": 1}")],
            [Value::Text("x"), Value::Bytes(&[0xCA])],
            [Value::Text("x"), Value::Real(f64::NEG_INFINITY)],
        ];
        for row in rows {
            assembler.push_row(|column| row[column]).unwrap();
        }
        let batch = assembler.take().unwrap();
        let mut out = Vec::new();
        write_batches(&batch.schema(), &[batch], (Format::JsonLines, &Options::default()), &mut out).unwrap();
        assert_eq!(
            String::from_utf8(out).unwrap(),
            concat!(
                "{\"a\":\"7\",\"b\":1}\n",
                "{\"a\":\"{}\",\"b\":{\"$oid\":\"65f0\"}}\n",
                "{\"b\":7.0}\n",
                "{\"a\":\"x\",\"b\":{\"a\": 1}}\n",
                "{\"a\":\"x\",\"b\":{\"$binary\":{\"base64\":\"yg==\",\"subType\":\"00\"}}}\n",
                "{\"a\":\"x\",\"b\":{\"$numberDouble\":\"-Infinity\"}}\n",
            )
        );
    }
}
