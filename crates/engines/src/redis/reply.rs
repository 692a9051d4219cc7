//! From replies to rows. Every value stands beside its type in the protocol.
//!
//! A scalar is one row, a list or a set a row an element, a map a row an entry, and so is a list of pairs,
//! as that of the members of a sorted set with their scores. What lies deeper is one value of JSON.

use arrow_array::RecordBatch;
use arrow_schema::ArrowError;
use jaunty_seam::rows::assemble::{Announced, Assembler, Value as Cell};
use redis::Value;
use serde_json::Value as Json;

/// The protocol's name of a value's type; of a bulk string whether it is text: keys that hold strings are called so, too.
pub fn type_name(value: &Value) -> &'static str {
    match value {
        Value::Nil => "null",
        Value::Int(_) => "integer",
        Value::BulkString(bytes) if std::str::from_utf8(bytes).is_err() => "bytes",
        Value::BulkString(_) => "text",
        Value::SimpleString(_) | Value::Okay => "status",
        Value::Array(_) => "list",
        Value::Map(_) => "map",
        Value::Attribute { .. } => "attribute",
        Value::Set(_) => "set",
        Value::Double(_) => "double",
        Value::Boolean(_) => "boolean",
        Value::VerbatimString { .. } => "verbatim text",
        Value::BigNumber(_) => "big number",
        Value::Push { .. } => "push",
        Value::ServerError(_) => "error",
        _ => "unknown",
    }
}

/// What a part of a scan found, and where the next one begins, in a sentence; any other reply as it is. A part is its cursor
/// and a list, of a hash and a sorted set one of a name and a value in turn: of the documentation of Redis, "SCAN".
pub fn scanned(command: &[Vec<u8>], reply: Value) -> (Option<String>, Value) {
    let is = |word: &Vec<u8>, names: &[&str]| names.iter().any(|name| word.eq_ignore_ascii_case(name.as_bytes()));
    let first = |names: &[&str]| command.first().is_some_and(|word| is(word, names));
    let of_pairs = first(&["hscan", "zscan"]) && !command.iter().any(|word| is(word, &["novalues"]));
    if !first(&["scan", "sscan", "hscan", "zscan"]) {
        return (None, reply);
    }
    let Value::Array(mut parts) = reply else { return (None, reply) };
    let (Some(Value::Array(_)), 2) = (parts.last(), parts.len()) else { return (None, Value::Array(parts)) };
    let (found, cursor) = (parts.pop().unwrap_or(Value::Nil), text(&parts[0]));
    let told = match cursor.as_str() {
        "0" => "0: the scan is complete".to_owned(),
        next => format!("{next}: the cursor for the next SCAN"),
    };
    let found = match found {
        Value::Array(flat) if of_pairs && flat.len().is_multiple_of(2) && deep_ones(&flat) == 0 => {
            let pairs = flat.chunks(2).map(|pair| Value::Array(pair.to_vec()));
            Value::Array(pairs.collect())
        }
        found => found,
    };
    (Some(told), found)
}

fn deep_ones(values: &[Value]) -> usize {
    values.iter().filter(|value| deep(value).is_some()).count()
}

/// The rows of a reply, in batches. The first tells the columns even if there are no rows.
pub fn rows(reply: &Value, mut push: impl FnMut(RecordBatch) -> bool) -> Result<(), ArrowError> {
    let pairs = pairs(reply);
    let has_keys = pairs.is_some() || matches!(reply, Value::Map(_));
    let columns: &[&str] = if has_keys { &["key", "value", "type"] } else { &["value", "type"] };
    let announced = columns.iter().map(|name| Announced {
        name: (*name).to_owned(),
        db_type: String::new(),
        ..Announced::default()
    });
    let mut assembler = Assembler::new(announced.collect());
    let mut row = |key: Option<&Value>, value: &Value| -> Result<bool, ArrowError> {
        let deep = deep(value);
        let deep_key = key.and_then(self::deep);
        let full = assembler.push_row(|column| match (columns[column], key) {
            ("key", Some(key)) => deep_key.as_deref().map_or_else(|| cell(key), Cell::Text),
            ("value", _) => deep.as_deref().map_or_else(|| cell(value), Cell::Text),
            _ => Cell::Text(type_name(value)),
        })?;
        Ok(!full || push(assembler.take()?))
    };
    if let Some(pairs) = pairs {
        for (key, value) in pairs {
            if !row(Some(key), value)? {
                return Ok(());
            }
        }
        push(assembler.take()?);
        return Ok(());
    }
    match reply {
        Value::Array(values) | Value::Set(values) => {
            for value in values {
                if !row(None, value)? {
                    return Ok(());
                }
            }
        }
        Value::Map(entries) => {
            for (key, value) in entries {
                if !row(Some(key), value)? {
                    return Ok(());
                }
            }
        }
        Value::Attribute { data, .. } => return rows(data, push),
        value => drop(row(None, value)?),
    }
    push(assembler.take()?);
    Ok(())
}

/// The elements of a list of pairs: of a text and a single value each. An empty list is none.
fn pairs(reply: &Value) -> Option<Vec<(&Value, &Value)>> {
    let Value::Array(values) = reply else { return None };
    let mut pairs = Vec::with_capacity(values.len());
    for value in values {
        let Value::Array(parts) = value else { return None };
        match parts.as_slice() {
            [key @ Value::BulkString(_), value] if deep(value).is_none() => pairs.push((key, value)),
            _ => return None,
        }
    }
    Some(pairs).filter(|pairs| !pairs.is_empty())
}

/// A double that is a whole number, as long as each of those has its own.
fn whole(number: f64) -> Option<i64> {
    (number.fract() == 0.0 && number.abs() < 9e15 && !(number == 0.0 && number.is_sign_negative()))
        .then_some(number as i64)
}

/// A single value as a cell; what is none, and what lies deeper, is NULL.
pub fn cell(value: &Value) -> Cell<'_> {
    match value {
        Value::Int(number) => Cell::Int(*number),
        // As the server writes it: a whole score has no point.
        Value::Double(number) => whole(*number).map_or(Cell::Real(*number), Cell::Int),
        Value::BulkString(bytes) | Value::BigNumber(bytes) => Cell::RawText(bytes),
        Value::SimpleString(text) | Value::VerbatimString { text, .. } => Cell::Text(text),
        Value::Okay => Cell::Text("OK"),
        Value::Boolean(true) => Cell::Text("true"),
        Value::Boolean(false) => Cell::Text("false"),
        _ => Cell::Null,
    }
}

/// A value that is no single one, as text.
pub fn deep(value: &Value) -> Option<String> {
    match value {
        Value::Array(_) | Value::Set(_) | Value::Map(_) | Value::Attribute { .. } | Value::Push { .. } => {
            Some(json(value).to_string())
        }
        Value::ServerError(error) => Some(format!("{} {}", error.code(), error.details().unwrap_or_default())),
        _ => None,
    }
}

fn json(value: &Value) -> Json {
    match value {
        Value::Nil => Json::Null,
        Value::Int(number) => (*number).into(),
        Value::Double(number) => whole(*number).map_or_else(|| (*number).into(), Into::into),
        Value::Boolean(flag) => (*flag).into(),
        Value::Array(values) | Value::Set(values) => values.iter().map(json).collect(),
        // A map's keys may be anything; JSON's are text.
        Value::Map(entries) => Json::Object(entries.iter().map(|(key, value)| (text(key), json(value))).collect()),
        Value::Attribute { data, .. } => json(data),
        Value::Push { data, .. } => data.iter().map(json).collect(),
        other => Json::String(text(other)),
    }
}

/// A value as text; bytes that are none are written in escapes.
pub fn text(value: &Value) -> String {
    match value {
        Value::BulkString(bytes) | Value::BigNumber(bytes) => match std::str::from_utf8(bytes) {
            Ok(text) => text.to_owned(),
            Err(_) => bytes.escape_ascii().to_string(),
        },
        Value::SimpleString(text) | Value::VerbatimString { text, .. } => text.clone(),
        Value::Okay => "OK".to_owned(),
        Value::Int(number) => number.to_string(),
        Value::Double(number) => number.to_string(),
        Value::ServerError(error) => error.code().to_owned(),
        other => json(other).to_string(),
    }
}

#[cfg(test)]
mod tests {
    use jaunty_seam::rows::cell::ColumnReader;

    use super::*;

    fn shown(reply: Value) -> Vec<String> {
        let mut lines = Vec::new();
        rows(&reply, |batch| {
            let readers = ColumnReader::all(&batch);
            let line = |row| readers.iter().map(|r| r.get(row).text.into_owned()).collect::<Vec<_>>().join(" | ");
            lines.extend((0..batch.num_rows()).map(line));
            true
        })
        .unwrap();
        lines
    }

    #[test]
    fn every_shape_becomes_rows() {
        let text = |text: &str| Value::BulkString(text.as_bytes().to_vec());
        assert_eq!(shown(Value::Nil), ["∅ | null"]);
        assert_eq!(shown(Value::Okay), ["OK | status"]);
        assert_eq!(shown(Value::Boolean(true)), ["true | boolean"]);
        assert_eq!(shown(Value::Double(1.5)), ["1.5 | double"]);
        assert_eq!(shown(Value::BigNumber(b"123456789012345678901".to_vec())), ["123456789012345678901 | big number"]);
        assert_eq!(shown(Value::BulkString(vec![0xff, 0])), ["ff00 | bytes"]);
        assert_eq!(shown(Value::Array(vec![])), Vec::<String>::new());
        assert_eq!(
            shown(Value::Array(vec![Value::Int(1), text("a"), Value::Nil, Value::Set(vec![text("b"), Value::Int(2)])])),
            ["1 | integer", "a | text", "∅ | null", "[\"b\",2] | set"]
        );
        let pair = |key: Value, value: Value| Value::Array(vec![key, value]);
        assert_eq!(
            shown(Value::Array(vec![pair(text("early"), Value::Double(1.0)), pair(text("late"), Value::Double(2.5))])),
            ["early | 1 | double", "late | 2.5 | double"]
        );
        assert_eq!(
            shown(Value::Array(vec![pair(text("a"), text("b")), pair(text("c"), pair(text("d"), text("e")))])),
            ["[\"a\",\"b\"] | list", "[\"c\",[\"d\",\"e\"]] | list"],
            "not all of them are pairs of single values"
        );
        let inner = Value::Map(vec![(Value::Int(1), Value::Array(vec![Value::Nil]))]);
        assert_eq!(shown(Value::Map(vec![(text("k"), inner)])), ["k | {\"1\":[null]} | map"]);
    }

    #[test]
    fn a_part_of_a_scan_is_what_it_found() {
        let text = |text: &str| Value::BulkString(text.as_bytes().to_vec());
        let part = |cursor: &str, found: &[&str]| {
            Value::Array(vec![text(cursor), Value::Array(found.iter().map(|found| text(found)).collect())])
        };
        let told = |command: &str, reply: Value| {
            let words: Vec<Vec<u8>> = command.split(' ').map(|word| word.as_bytes().to_vec()).collect();
            let (cursor, found) = scanned(&words, reply);
            (cursor.unwrap_or_default(), shown(found))
        };
        let next = "7: the cursor for the next SCAN";
        assert_eq!(told("SCAN 0", part("7", &["a", "b"])), (next.into(), vec!["a | text".into(), "b | text".into()]));
        let (end, rows) = told("hscan k 7", part("0", &["a", "1"]));
        assert_eq!((end.as_str(), rows), ("0: the scan is complete", vec!["a | 1 | text".into()]));
        // Without their values there are no pairs.
        assert_eq!(told("hscan k 0 NoValues", part("0", &["a", "b"])).1, ["a | text", "b | text"]);
        let (cursor, rows) = told("mget a b", part("0", &["a"]));
        assert_eq!((cursor.as_str(), rows.len()), ("", 2));
        assert_eq!(told("scan 0", text("odd")).1, ["odd | text"]);
    }
}
