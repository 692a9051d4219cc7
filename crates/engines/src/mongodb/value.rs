//! From what a person writes to values: numbers by their form, and documents that stand for other types.

use jaunty_documents::json::typed;
use jaunty_documents::{Bson, Document};
use jaunty_language::dialect::documents::read::Value;

/// A value. A number without a point is a whole one, of 32 bits where it fits.
pub fn bson(value: &Value) -> Result<Bson, String> {
    Ok(match value {
        Value::Null => Bson::Null,
        Value::Bool(value) => Bson::Bool(*value),
        Value::Number(text) => number(text)?,
        Value::Text(text) => Bson::Text(text.clone()),
        Value::Array(values) => Bson::Array(values.iter().map(bson).collect::<Result<_, _>>()?),
        Value::Object(fields) => {
            let fields = document(fields)?;
            typed(&fields)?.unwrap_or(Bson::Document(fields))
        }
    })
}

/// A document.
pub fn document(fields: &[(String, Value)]) -> Result<Document, String> {
    fields.iter().map(|(name, value)| Ok((name.clone(), bson(value)?))).collect()
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
