//! Expressions ("Aggregation Operators"): `"$path"`, `"$$variable"`, `{ $operator: … }` and documents of them.

mod dates;
mod lists;
mod numbers;
mod texts;

use std::cmp::Ordering;

use super::decimal::Decimal;
use super::failure::Failure;
use super::scope::Frame;
use super::value::{Document, Value, at_path, field};

pub use numbers::{chance, of_all, plus};

/// A value, or nothing where a field is missing.
pub type Found = Option<Value>;

/// The value of an expression.
pub fn value(expression: &Value, frame: &Frame<'_, '_>) -> Result<Found, Failure> {
    match expression {
        Value::Text(text) => match (text.strip_prefix("$$"), text.strip_prefix('$')) {
            (Some(variable), _) => {
                let (name, path) = variable.split_once('.').map_or((variable, None), |(name, path)| (name, Some(path)));
                let found = frame.variable(name)?;
                Ok(match (path, found) {
                    (None, found) => found,
                    (Some(path), Some(found)) => inside(&found, path),
                    (Some(_), None) => None,
                })
            }
            (None, Some(path)) => Ok(at_path(frame.root, path)),
            _ => Ok(Some(expression.clone())),
        },
        Value::Array(all) => {
            let all: Result<Vec<_>, _> = all.iter().map(|one| Ok(value(one, frame)?.unwrap_or(Value::Null))).collect();
            Ok(Some(Value::Array(all?)))
        }
        Value::Document(fields) => match fields.as_slice() {
            [(name, argument)] if name.starts_with('$') => operator(name, argument, frame),
            [(name, _), ..] if name.starts_with('$') => Err(Failure::new(
                15983,
                "Location15983",
                format!("An object representing an expression must have exactly one field: {name}"),
            )),
            fields => {
                let mut made = Document::new();
                for (name, one) in fields {
                    if let Some(value) = value(one, frame)? {
                        made.push((name.clone(), value));
                    }
                }
                Ok(Some(Value::Document(made)))
            }
        },
        other => Ok(Some(other.clone())),
    }
}

/// What is at a path of a value, through lists.
fn inside(value: &Value, path: &str) -> Found {
    match value {
        Value::Document(document) => at_path(document, path),
        Value::Array(values) => Some(Value::Array(values.iter().filter_map(|value| inside(value, path)).collect())),
        _ => None,
    }
}

/// The arguments of an operator: a list, or one by itself.
fn arguments(argument: &Value, frame: &Frame<'_, '_>) -> Result<Vec<Found>, Failure> {
    match argument {
        Value::Array(all) => all.iter().map(|one| value(one, frame)).collect(),
        one => Ok(vec![value(one, frame)?]),
    }
}

/// The arguments of an operator that has so many.
fn exactly<const N: usize>(name: &str, argument: &Value, frame: &Frame<'_, '_>) -> Result<[Found; N], Failure> {
    let all = arguments(argument, frame)?;
    let count = all.len();
    all.try_into().map_err(|_| {
        let what = format!("Expression {name} takes exactly {N} arguments. {count} were passed in.");
        Failure::new(16020, "Location16020", what)
    })
}

/// A named part of an operator's argument.
fn part(name: &str, argument: &Value, wanted: &str, frame: &Frame<'_, '_>) -> Result<Found, Failure> {
    let parts = argument.as_document();
    let parts = parts.ok_or_else(|| Failure::parse(format!("{name} only supports an object as its argument")))?;
    field(parts, wanted).map_or(Ok(None), |part| value(part, frame))
}

fn is_nothing(value: &Found) -> bool {
    matches!(value, None | Some(Value::Null))
}

fn holds(value: &Found) -> bool {
    value.as_ref().is_some_and(Value::holds)
}

fn compared(left: &Found, right: &Found) -> Ordering {
    // What is missing comes before all else.
    left.cmp(right)
}

fn operator(name: &str, argument: &Value, frame: &Frame<'_, '_>) -> Result<Found, Failure> {
    let comparison = |fits: fn(Ordering) -> bool| -> Result<Found, Failure> {
        let [left, right] = exactly(name, argument, frame)?;
        Ok(Some(Value::Bool(fits(compared(&left, &right)))))
    };
    match name {
        "$literal" => Ok(Some(argument.clone())),
        "$eq" => comparison(Ordering::is_eq),
        "$ne" => comparison(Ordering::is_ne),
        "$gt" => comparison(Ordering::is_gt),
        "$gte" => comparison(Ordering::is_ge),
        "$lt" => comparison(Ordering::is_lt),
        "$lte" => comparison(Ordering::is_le),
        "$cmp" => {
            let [left, right] = exactly(name, argument, frame)?;
            Ok(Some(Value::Int(compared(&left, &right) as i32)))
        }
        "$and" => Ok(Some(Value::Bool(arguments(argument, frame)?.iter().all(holds)))),
        "$or" => Ok(Some(Value::Bool(arguments(argument, frame)?.iter().any(holds)))),
        "$not" => {
            let [one] = exactly(name, argument, frame)?;
            Ok(Some(Value::Bool(!holds(&one))))
        }
        "$cond" => match argument {
            Value::Array(all) => match all.as_slice() {
                [condition, then, other] => value(if holds(&value(condition, frame)?) { then } else { other }, frame),
                _ => exactly::<3>(name, argument, frame).map(|_| None),
            },
            _ if holds(&part(name, argument, "if", frame)?) => part(name, argument, "then", frame),
            _ => part(name, argument, "else", frame),
        },
        "$ifNull" => {
            let all = arguments(argument, frame)?;
            let last = all.last().cloned().flatten();
            Ok(all.into_iter().find(|one| !is_nothing(one)).unwrap_or(last))
        }
        "$switch" => {
            let branches = argument.as_document().and_then(|parts| field(parts, "branches")?.as_array());
            for branch in branches.unwrap_or_default() {
                if holds(&part(name, branch, "case", frame)?) {
                    return part(name, branch, "then", frame);
                }
            }
            part(name, argument, "default", frame)
        }
        "$let" => {
            let parts = argument.as_document().ok_or_else(|| Failure::parse("$let only supports an object"))?;
            let mut inner = frame.with("", Value::Null);
            for (name, one) in field(parts, "vars").and_then(Value::as_document).unwrap_or(&Vec::new()) {
                inner = inner.with_found(name, value(one, frame)?);
            }
            field(parts, "in").map_or(Ok(None), |body| value(body, &inner))
        }
        "$mergeObjects" => {
            let mut made = Document::new();
            let all = arguments(argument, frame)?.into_iter().flatten();
            for one in all.flat_map(|one| if let Value::Array(all) = one { all } else { vec![one] }) {
                for (name, value) in one.as_document().unwrap_or(&Vec::new()) {
                    super::value::set(&mut made, name, value.clone());
                }
            }
            Ok(Some(Value::Document(made)))
        }
        "$getField" => {
            let (wanted, from) = match argument.as_document() {
                Some(_) => (part(name, argument, "field", frame)?, part(name, argument, "input", frame)?),
                None => (value(argument, frame)?, Some(Value::Document(frame.root.to_vec()))),
            };
            let (Some(Value::Text(wanted)), Some(Value::Document(from))) = (wanted, from) else { return Ok(None) };
            Ok(field(&from, &wanted).cloned())
        }
        "$type" => {
            let [one] = exactly(name, argument, frame)?;
            Ok(Some(Value::text(one.map_or("missing", |one| one.kind()))))
        }
        "$meta" => match argument.as_text() {
            Some("textScore") => Ok(frame.variable("SEARCH_SCORE").unwrap_or(Some(Value::Double(0.0)))),
            _ => Err(Failure::bad("this server has only the meta value textScore")),
        },
        "$convert" => {
            let (input, to) = (part(name, argument, "input", frame)?, part(name, argument, "to", frame)?);
            match (is_nothing(&input), to) {
                (true, _) => part(name, argument, "onNull", frame),
                (_, Some(Value::Text(to))) => match converted(input, &to) {
                    Ok(found) => Ok(found),
                    Err(failure) => match part(name, argument, "onError", frame)? {
                        None => Err(failure),
                        found => Ok(found),
                    },
                },
                _ => Err(Failure::parse("$convert needs a 'to'")),
            }
        }
        "$toString" | "$toInt" | "$toLong" | "$toDouble" | "$toDecimal" | "$toDate" | "$toBool" | "$toObjectId" => {
            let [one] = exactly(name, argument, frame)?;
            let to = match name {
                "$toString" => "string",
                "$toInt" => "int",
                "$toLong" => "long",
                "$toDouble" => "double",
                "$toDecimal" => "decimal",
                "$toDate" => "date",
                "$toObjectId" => "objectId",
                _ => "bool",
            };
            converted(one, to)
        }
        _ => {
            for part in [numbers::operator, texts::operator, lists::operator, dates::operator] {
                if let Some(found) = part(name, argument, frame)? {
                    return Ok(found);
                }
            }
            let what = format!("Unrecognized expression '{name}'");
            Err(Failure::new(168, "InvalidPipelineOperator", what))
        }
    }
}

/// A value as another type.
fn converted(value: Found, to: &str) -> Result<Found, Failure> {
    let Some(value) = value.filter(|value| *value != Value::Null) else { return Ok(Some(Value::Null)) };
    let whole = || match &value {
        Value::Text(text) => text.parse::<i64>().ok(),
        Value::Bool(value) => Some(i64::from(*value)),
        Value::Date(at) => Some(*at),
        other => other.as_f64().map(|value| value as i64),
    };
    let made = match (to, &value) {
        ("bool", Value::Bool(_)) | ("objectId", Value::ObjectId(_)) | ("date", Value::Date(_)) => Some(value.clone()),
        ("bool", other) => Some(Value::Bool(other.holds())),
        ("int", _) => whole().and_then(|value| i32::try_from(value).ok()).map(Value::Int),
        ("long", _) => whole().map(Value::Long),
        ("double", Value::Text(text)) => text.parse().ok().map(Value::Double),
        ("double", Value::Date(at)) => Some(Value::Double(*at as f64)),
        ("double", other) => other.as_f64().or(whole().map(|value| value as f64)).map(Value::Double),
        ("decimal", Value::Decimal(_)) => Some(value.clone()),
        ("decimal", Value::Text(text)) => Decimal::parse(text).map(Value::Decimal),
        ("decimal", other) => other.as_f64().and_then(|value| Decimal::parse(&value.to_string())).map(Value::Decimal),
        ("date", Value::Text(text)) => dates::read(text).map(Value::Date),
        ("date", Value::ObjectId(id)) => {
            Some(Value::Date(i64::from(u32::from_be_bytes([id[0], id[1], id[2], id[3]])) * 1000))
        }
        ("date", _) => whole().map(Value::Date),
        ("string", Value::Text(_)) => Some(value.clone()),
        ("string", Value::Bool(value)) => Some(Value::text(value.to_string())),
        ("string", Value::Date(at)) => Some(Value::Text(dates::written(*at))),
        ("string", Value::ObjectId(id)) => Some(Value::Text(id.iter().map(|byte| format!("{byte:02x}")).collect())),
        ("string", Value::Decimal(value)) => Some(Value::text(value.to_string())),
        ("string", other) => other
            .as_i64()
            .map(|value| value.to_string())
            .or(other.as_f64().map(|value| value.to_string()))
            .map(Value::Text),
        ("objectId", Value::Text(text)) => {
            let byte = |at: usize| u8::from_str_radix(text.get(at..at + 2)?, 16).ok();
            let bytes: Option<Vec<u8>> = (0..text.len() / 2).map(|at| byte(at * 2)).collect();
            bytes.and_then(|bytes| bytes.try_into().ok()).map(Value::ObjectId)
        }
        _ => None,
    };
    made.map(Some).ok_or_else(|| {
        let what =
            format!("Failed to convert a value of type {} to {to} in $convert with no onError value", value.kind());
        Failure::new(241, "ConversionFailure", what)
    })
}
