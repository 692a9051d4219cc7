//! From what a person writes to values: numbers by their form, and documents that stand for other types.

use jaunty_documents::json::typed;
use jaunty_documents::{Bson, Document};
use jaunty_language::dialect::documents::read::Value;
use jaunty_language::statement::parameters::{ParameterValue, Value as Given};

/// A value. A number without a point is a whole one, of 32 bits where it fits. Parameters have the values that are `given`.
pub fn bson(value: &Value, given: &[Given]) -> Result<Bson, String> {
    Ok(match value {
        Value::Parameter(name) => match given.iter().find(|(own, _)| own == name) {
            Some((_, value)) => parameter(value)?,
            None => return Err(format!("{name} has no value")),
        },
        Value::Null => Bson::Null,
        Value::Bool(value) => Bson::Bool(*value),
        Value::Number(text) => number(text)?,
        Value::Text(text) => Bson::Text(text.clone()),
        Value::Array(values) => Bson::Array(values.iter().map(|value| bson(value, given)).collect::<Result<_, _>>()?),
        Value::Object(fields) => {
            let fields = document(fields, given)?;
            typed(&fields)?.unwrap_or(Bson::Document(fields))
        }
    })
}

/// A document.
pub fn document(fields: &[(String, Value)], given: &[Given]) -> Result<Document, String> {
    fields.iter().map(|(name, value)| Ok((name.clone(), bson(value, given)?))).collect()
}

/// A value that a person gave for a parameter.
fn parameter(value: &ParameterValue) -> Result<Bson, String> {
    Ok(match value {
        ParameterValue::Null => Bson::Null,
        ParameterValue::Bool(value) => Bson::Bool(*value),
        ParameterValue::Int(value) => i32::try_from(*value).map_or(Bson::Int64(*value), Bson::Int32),
        ParameterValue::Number(text) => number(text)?,
        ParameterValue::Text(text) => Bson::Text(text.clone()),
        ParameterValue::Bytes(bytes) => Bson::Binary(0, bytes.clone()),
    })
}

fn number(text: &str) -> Result<Bson, String> {
    if text.contains(['.', 'e', 'E']) {
        let number: f64 = text.parse().map_err(|_| format!("{text} is not a number"))?;
        // What is too large would be infinite.
        return if number.is_finite() {
            Ok(Bson::Double(number))
        } else {
            Err(format!("{text} is too large for a number"))
        };
    }
    match text.parse::<i64>() {
        Ok(value) => Ok(i32::try_from(value).map_or(Bson::Int64(value), Bson::Int32)),
        Err(_) => Err(format!("{text} is too large for a whole number; write it as {{ $numberDecimal: \"{text}\" }}")),
    }
}
