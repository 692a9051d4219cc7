//! `$jsonSchema` as validators have it: types, required fields, bounds, lists of values, and parts.

use super::failure::Failure;
use super::matching::pattern_of;
use super::value::{Value, field};

/// Whether a document is as a schema wants it.
pub fn fits(schema: &Value, document: &[(String, Value)]) -> Result<bool, Failure> {
    is_valid(schema, &Value::Document(document.to_vec()))
}

fn is_valid(schema: &Value, value: &Value) -> Result<bool, Failure> {
    let schema = schema.as_document().ok_or_else(|| Failure::type_of("$jsonSchema must be an object"))?;
    for (name, wanted) in schema {
        let number = |fits: &dyn Fn(f64, f64) -> bool| match (value.as_f64(), wanted.as_f64()) {
            (Some(own), Some(wanted)) => fits(own, wanted),
            _ => true,
        };
        let length = |fits: &dyn Fn(i64, i64) -> bool| match (value, wanted.as_i64()) {
            (Value::Text(own), Some(wanted)) => fits(own.chars().count() as i64, wanted),
            _ => true,
        };
        let valid = match name.as_str() {
            "bsonType" | "type" => {
                let wanted = wanted.as_array().unwrap_or(std::slice::from_ref(wanted));
                wanted.iter().any(|wanted| match wanted.as_text() {
                    Some("boolean") => matches!(value, Value::Bool(_)),
                    _ => value.is_of(wanted),
                })
            }
            "required" => match value.as_document() {
                Some(inside) => {
                    let names = wanted.as_array().unwrap_or_default();
                    names.iter().filter_map(Value::as_text).all(|name| field(inside, name).is_some())
                }
                None => true,
            },
            "properties" => {
                let (Some(inside), Some(all)) = (value.as_document(), wanted.as_document()) else { continue };
                let mut valid = true;
                for (name, schema) in all {
                    valid &= field(inside, name).map_or(Ok(true), |value| is_valid(schema, value))?;
                }
                valid
            }
            "additionalProperties" if *wanted == Value::Bool(false) => {
                let known = field(schema, "properties").and_then(Value::as_document);
                value.as_document().is_none_or(|inside| {
                    inside.iter().all(|(name, _)| known.is_some_and(|known| field(known, name).is_some()))
                })
            }
            "items" => {
                let mut valid = true;
                for value in value.as_array().unwrap_or_default() {
                    valid &= is_valid(wanted, value)?;
                }
                valid
            }
            "enum" => wanted.as_array().is_some_and(|all| all.contains(value)),
            "minimum" => number(&|own, wanted| own >= wanted),
            "maximum" => number(&|own, wanted| own <= wanted),
            "minLength" => length(&|own, wanted| own >= wanted),
            "maxLength" => length(&|own, wanted| own <= wanted),
            "pattern" => match (value.as_text(), wanted.as_text()) {
                (Some(own), Some(pattern)) => pattern_of(pattern, "")?.is_match(own),
                _ => true,
            },
            "title" | "description" | "additionalProperties" => true,
            other => return Err(Failure::parse(format!("Unknown $jsonSchema keyword: {other}"))),
        };
        if !valid {
            return Ok(false);
        }
    }
    Ok(true)
}
