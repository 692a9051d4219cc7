//! Changes of documents ("Update Operators").

use super::expression::plus;
use super::failure::Failure;
use super::matching;
use super::scope::Scope;
use super::stages::{self, unset_path};
use super::value::{Document, Value, field, set};

/// What is at a path of a document, made where it is not there.
fn place<'a>(document: &'a mut Document, path: &str) -> Result<&'a mut Value, Failure> {
    let (first, rest) = path.split_once('.').map_or((path, None), |(first, rest)| (first, Some(rest)));
    if !document.iter().any(|(name, _)| name == first) {
        let empty = if rest.is_some() { Value::Document(Document::new()) } else { Value::Null };
        document.push((first.to_owned(), empty));
    }
    let at = document.iter().position(|(name, _)| name == first).unwrap_or(0);
    descend(&mut document[at].1, path, rest)
}

fn descend<'a>(value: &'a mut Value, path: &str, rest: Option<&str>) -> Result<&'a mut Value, Failure> {
    let Some(rest) = rest else { return Ok(value) };
    match value {
        Value::Document(inside) => place(inside, rest),
        Value::Array(values) => {
            let (first, rest) = rest.split_once('.').map_or((rest, None), |(first, rest)| (first, Some(rest)));
            let at = first.parse::<usize>().ok().filter(|at| *at < 10_000);
            let at = at.ok_or_else(|| not_viable(path, "an array"))?;
            if values.len() <= at {
                values.resize(at + 1, Value::Null);
            }
            descend(&mut values[at], path, rest)
        }
        other => Err(not_viable(path, other.kind())),
    }
}

fn not_viable(path: &str, kind: &str) -> Failure {
    Failure::new(28, "PathNotViable", format!("Cannot create field '{path}' in element of {kind}"))
}

fn existing<'a>(document: &'a mut Document, path: &str) -> Option<&'a mut Value> {
    matching::at(document, path).first().copied().flatten()?;
    place(document, path).ok()
}

fn list<'a>(document: &'a mut Document, path: &str) -> Result<&'a mut Vec<Value>, Failure> {
    let found = place(document, path)?;
    if let Value::Null = found {
        *found = Value::Array(Vec::new());
    }
    let kind = found.kind();
    match found {
        Value::Array(values) => Ok(values),
        _ => Err(Failure::bad(format!("The field '{path}' must be an array but is of type {kind}"))),
    }
}

/// Applies a change to a document; `is_new` where it was just made.
pub fn apply(change: &Value, document: &Document, is_new: bool, scope: &Scope<'_>) -> Result<Document, Failure> {
    let id = field(document, "_id").cloned();
    let made = match change {
        Value::Array(pipeline) => {
            let made = stages::run(pipeline, vec![std::sync::Arc::new(document.clone())], scope)?;
            made.first().map_or_else(Document::new, |one| (**one).clone())
        }
        Value::Document(operators) if matching::has_operators(operators) => {
            let mut made = document.clone();
            for (name, fields) in operators {
                let fields = fields.as_document();
                let fields = fields.ok_or_else(|| {
                    Failure::parse(format!("Modifiers operate on fields but we found a value in {name}"))
                })?;
                for (path, argument) in fields {
                    operator(name, path, argument, &mut made, is_new, scope)?;
                }
            }
            made
        }
        Value::Document(replacement) => {
            let mut made = replacement.clone();
            if let (Some(id), None) = (&id, field(&made, "_id")) {
                made.insert(0, ("_id".to_owned(), id.clone()));
            }
            made
        }
        _ => return Err(Failure::parse("Update argument must be either an object or an array")),
    };
    if id.is_some() && field(&made, "_id") != id.as_ref() {
        let what = "Performing an update on the path '_id' would modify the immutable field '_id'";
        return Err(Failure::new(66, "ImmutableField", what));
    }
    Ok(made)
}

fn operator(
    name: &str,
    path: &str,
    argument: &Value,
    made: &mut Document,
    is_new: bool,
    scope: &Scope<'_>,
) -> Result<(), Failure> {
    let part = |wanted: &str| argument.as_document().and_then(|parts| field(parts, wanted));
    match name {
        "$set" => *place(made, path)? = argument.clone(),
        "$setOnInsert" if is_new => *place(made, path)? = argument.clone(),
        "$setOnInsert" => {}
        "$unset" => unset_path(made, path),
        "$inc" | "$mul" => {
            if argument.as_f64().is_none() {
                return Err(Failure::type_of(format!("Cannot {} with non-numeric argument", &name[1..])));
            }
            let there = existing(made, path).map(|value| value.clone());
            let value = match there {
                None if name == "$inc" => argument.clone(),
                None => Value::Int(0),
                Some(own) if own.as_f64().is_none() => {
                    let what = format!("Cannot apply {name} to a value of non-numeric type {}", own.kind());
                    return Err(Failure::type_of(what));
                }
                Some(own) if name == "$inc" => {
                    plus(&own, argument).ok_or_else(|| Failure::bad("the sum has too many digits"))?
                }
                Some(own) => match (own.as_i64(), argument.as_i64()) {
                    (Some(left), Some(right))
                        if !matches!((&own, argument), (Value::Double(_), _) | (_, Value::Double(_))) =>
                    {
                        Value::whole(left.saturating_mul(right))
                    }
                    _ => Value::Double(own.as_f64().unwrap_or(0.0) * argument.as_f64().unwrap_or(0.0)),
                },
            };
            *place(made, path)? = value;
        }
        "$min" | "$max" => {
            let wins =
                existing(made, path).is_none_or(|own| if name == "$min" { argument < own } else { argument > own });
            if wins {
                *place(made, path)? = argument.clone();
            }
        }
        "$rename" => {
            let to = argument.as_text().ok_or_else(|| Failure::bad("The 'to' field for $rename must be a string"))?;
            if let Some(value) = existing(made, path).map(|value| value.clone()) {
                unset_path(made, path);
                *place(made, to)? = value;
            }
        }
        "$currentDate" => *place(made, path)? = Value::Date(scope.now),
        "$push" | "$addToSet" => {
            let more: Vec<Value> = match part("$each").and_then(Value::as_array) {
                Some(each) => each.to_vec(),
                None => vec![argument.clone()],
            };
            let at = part("$position").and_then(Value::as_i64);
            let (sort, slice) = (part("$sort").cloned(), part("$slice").and_then(Value::as_i64));
            let values = list(made, path)?;
            for (number, one) in more.into_iter().enumerate() {
                match at {
                    _ if name == "$addToSet" && values.contains(&one) => {}
                    Some(at) => {
                        let at = usize::try_from(at).unwrap_or(0).min(values.len());
                        values.insert((at + number).min(values.len()), one);
                    }
                    None => values.push(one),
                }
            }
            match sort {
                Some(Value::Document(keys)) => {
                    let (keys, empty) = (stages::order(&keys)?, Document::new());
                    values.sort_by(|left, right| {
                        stages::compared(
                            &keys,
                            left.as_document().unwrap_or(&empty),
                            right.as_document().unwrap_or(&empty),
                        )
                    });
                }
                Some(way) => {
                    values.sort();
                    if way.as_i64() == Some(-1) {
                        values.reverse();
                    }
                }
                None => {}
            }
            match slice {
                Some(count) if count >= 0 => values.truncate(count as usize),
                Some(count) => drop(values.drain(..values.len().saturating_sub(count.unsigned_abs() as usize))),
                None => {}
            }
        }
        "$pop" if existing(made, path).is_some() => {
            let values = list(made, path)?;
            if argument.as_i64() == Some(-1) {
                if !values.is_empty() {
                    values.remove(0);
                }
            } else {
                values.pop();
            }
        }
        "$pull" | "$pullAll" if existing(made, path).is_some() => {
            let values = list(made, path)?;
            let mut kept = Vec::new();
            for value in values.drain(..) {
                let goes = match (name, argument) {
                    ("$pullAll", all) => all.as_array().is_some_and(|all| all.contains(&value)),
                    (_, Value::Document(wanted)) if matching::has_operators(wanted) => {
                        let one = super::value::document([("it", value.clone())]);
                        matching::fits(&super::value::document([("it", argument.clone())]), &one, scope)?
                    }
                    (_, Value::Document(wanted)) => {
                        value.as_document().map_or(Ok(false), |one| matching::fits(wanted, one, scope))?
                    }
                    (_, wanted) => value == *wanted,
                };
                if !goes {
                    kept.push(value);
                }
            }
            *values = kept;
        }
        "$pop" | "$pull" | "$pullAll" => {}
        other => {
            return Err(Failure::parse(format!(
                "Unknown modifier: {other}. Expected a valid update modifier or pipeline-style update specified as an array"
            )));
        }
    }
    Ok(())
}

/// The document that an upsert begins with: what the filter says with equality.
pub fn seed(filter: &[(String, Value)]) -> Result<Document, Failure> {
    let mut made = Document::new();
    for (path, wanted) in filter {
        match (path.as_str(), wanted) {
            ("$and", Value::Array(all)) => {
                for (name, value) in all
                    .iter()
                    .filter_map(Value::as_document)
                    .map(|one| seed(one))
                    .collect::<Result<Vec<_>, _>>()?
                    .into_iter()
                    .flatten()
                {
                    set(&mut made, &name, value);
                }
            }
            (path, _) if path.starts_with('$') => {}
            (path, Value::Document(operators)) if matching::has_operators(operators) => {
                if let Some(value) = field(operators, "$eq") {
                    *place(&mut made, path)? = value.clone();
                }
            }
            (_, Value::Regex(..)) => {}
            (path, value) => *place(&mut made, path)? = value.clone(),
        }
    }
    Ok(made)
}
