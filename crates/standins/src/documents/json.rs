//! Documents from files: Extended JSON v2, one a line.

use std::fmt;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde::de::{Deserialize, Deserializer, Error, MapAccess, SeqAccess, Visitor};

use super::decimal::Decimal;
use super::value::{Document, Value, field};

/// Reads the documents of a text.
pub fn documents(text: &str) -> Result<Vec<Document>, String> {
    let mut all = Vec::new();
    for (number, line) in text.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
        match serde_json::from_str::<Value>(line) {
            Ok(Value::Document(document)) => all.push(document),
            Ok(_) => return Err(format!("line {}: a document is in braces", number + 1)),
            Err(error) => return Err(format!("line {}: {error}", number + 1)),
        }
    }
    Ok(all)
}

struct Any;

impl<'de> Deserialize<'de> for Value {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Value, D::Error> {
        from.deserialize_any(Any)
    }
}

impl<'de> Visitor<'de> for Any {
    type Value = Value;

    fn expecting(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("a value of Extended JSON")
    }

    fn visit_bool<E: Error>(self, value: bool) -> Result<Value, E> {
        Ok(Value::Bool(value))
    }

    fn visit_i64<E: Error>(self, value: i64) -> Result<Value, E> {
        Ok(Value::whole(value))
    }

    fn visit_u64<E: Error>(self, value: u64) -> Result<Value, E> {
        Ok(i64::try_from(value).map_or(Value::Double(value as f64), Value::whole))
    }

    fn visit_f64<E: Error>(self, value: f64) -> Result<Value, E> {
        Ok(Value::Double(value))
    }

    fn visit_str<E: Error>(self, value: &str) -> Result<Value, E> {
        Ok(Value::text(value))
    }

    fn visit_unit<E: Error>(self) -> Result<Value, E> {
        Ok(Value::Null)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Value, A::Error> {
        let mut values = Vec::new();
        while let Some(value) = list.next_element()? {
            values.push(value);
        }
        Ok(Value::Array(values))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Value, A::Error> {
        let mut pairs = Document::new();
        while let Some(pair) = map.next_entry()? {
            pairs.push(pair);
        }
        typed(&pairs).transpose().map_or(Ok(Value::Document(pairs)), |value| value.map_err(A::Error::custom))
    }
}

/// The value that a document with a name such as `$date` stands for.
fn typed(pairs: &Document) -> Result<Option<Value>, String> {
    let [(name, value)] = pairs.as_slice() else { return Ok(None) };
    let text = value.as_text();
    let value = match name.as_str() {
        "$oid" => text.and_then(hex).and_then(|bytes| bytes.try_into().ok()).map(Value::ObjectId),
        "$date" => match text {
            Some(text) => chrono::DateTime::parse_from_rfc3339(text).ok().map(|at| Value::Date(at.timestamp_millis())),
            None => value.as_i64().map(Value::Date),
        },
        "$numberDecimal" => text.and_then(Decimal::parse).map(Value::Decimal),
        "$numberLong" => text.and_then(|text| text.parse().ok()).map(Value::Long),
        "$numberInt" => text.and_then(|text| text.parse().ok()).map(Value::Int),
        "$numberDouble" => text.and_then(|text| text.parse().ok()).map(Value::Double),
        "$uuid" => text.and_then(|text| hex(&text.replace('-', ""))).map(|bytes| Value::Binary(4, bytes)),
        "$binary" => value.as_document().and_then(|parts| {
            let bytes = STANDARD.decode(field(parts, "base64")?.as_text()?).ok()?;
            let kind = u8::from_str_radix(field(parts, "subType")?.as_text()?, 16).ok()?;
            Some(Value::Binary(kind, bytes))
        }),
        "$regularExpression" => value.as_document().and_then(|parts| {
            let part = |name: &str| Some(field(parts, name)?.as_text()?.to_owned());
            Some(Value::Regex(part("pattern")?, part("options")?))
        }),
        "$minKey" => Some(Value::MinKey),
        "$maxKey" => Some(Value::MaxKey),
        _ => return Ok(None),
    };
    value.map(Some).ok_or_else(|| format!("what {name} holds cannot be read"))
}

fn hex(text: &str) -> Option<Vec<u8>> {
    let digits = text.as_bytes();
    if !digits.len().is_multiple_of(2) {
        return None;
    }
    let byte = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    digits.chunks(2).map(byte).collect()
}
