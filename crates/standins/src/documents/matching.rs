//! Whether a document fits a filter ("Query Predicates").

use regex::{Regex, RegexBuilder};

use super::expression;
use super::failure::Failure;
use super::geo;
use super::scope::Scope;
use super::text;
use super::value::{Document, Value, field};

/// What stands at the ends of a path: several values where lists lie on the way.
pub fn ends<'a>(value: &'a Value, parts: &[&str], found: &mut Vec<Option<&'a Value>>) {
    let Some((first, rest)) = parts.split_first() else {
        found.push(Some(value));
        return;
    };
    match value {
        Value::Document(inside) => of_document(inside, parts, found),
        Value::Array(values) => {
            if let Some(value) = first.parse::<usize>().ok().and_then(|number| values.get(number)) {
                ends(value, rest, found);
            }
            for value in values.iter().filter(|value| value.as_document().is_some()) {
                ends(value, parts, found);
            }
        }
        _ => found.push(None),
    }
}

fn of_document<'a>(document: &'a [(String, Value)], parts: &[&str], found: &mut Vec<Option<&'a Value>>) {
    let Some((first, rest)) = parts.split_first() else { return };
    match field(document, first) {
        Some(value) => ends(value, rest, found),
        None => found.push(None),
    }
}

/// What stands at the ends of a path of a document.
pub fn at<'a>(document: &'a [(String, Value)], path: &str) -> Vec<Option<&'a Value>> {
    let parts: Vec<&str> = path.split('.').collect();
    let mut found = Vec::new();
    of_document(document, &parts, &mut found);
    found
}

/// Whether a document fits a filter.
pub fn fits(filter: &[(String, Value)], document: &[(String, Value)], scope: &Scope<'_>) -> Result<bool, Failure> {
    for (name, wanted) in filter {
        let fits = match name.as_str() {
            "$and" | "$or" | "$nor" => joined(name, wanted, document, scope)?,
            "$expr" => expression::value(wanted, &scope.of(document))?.is_some_and(|value| value.holds()),
            "$text" => text::score(wanted, document, scope)? > 0.0,
            "$jsonSchema" => super::schema::fits(wanted, document)?,
            "$comment" | "$alwaysTrue" => true,
            "$alwaysFalse" => false,
            name if name.starts_with('$') => {
                return Err(Failure::bad(format!(
                    "unknown top level operator: {name}. If you have a field name that starts with a '$' symbol, consider using $getField or $setField."
                )));
            }
            path => condition(wanted, &at(document, path), scope)?,
        };
        if !fits {
            return Ok(false);
        }
    }
    Ok(true)
}

fn joined(name: &str, all: &Value, document: &[(String, Value)], scope: &Scope<'_>) -> Result<bool, Failure> {
    let all = all.as_array().filter(|all| !all.is_empty());
    let all = all.ok_or_else(|| Failure::bad(format!("{name} must be a nonempty array")))?;
    let mut any = false;
    for one in all {
        let one = one.as_document();
        let one = one.ok_or_else(|| Failure::bad(format!("{name} argument's entries must be objects")))?;
        let fits = fits(one, document, scope)?;
        if name == "$and" && !fits {
            return Ok(false);
        }
        any |= fits;
    }
    Ok(match name {
        "$and" => true,
        "$or" => any,
        _ => !any,
    })
}

/// Whether a document of a condition has operators.
pub fn has_operators(condition: &[(String, Value)]) -> bool {
    condition.first().is_some_and(|(name, _)| name.starts_with('$') && name != "$ref" && name != "$id")
}

/// The values, and those in lists among them.
fn opened<'a>(found: &[Option<&'a Value>]) -> Vec<&'a Value> {
    let mut all = Vec::new();
    for value in found.iter().flatten() {
        all.push(*value);
        if let Value::Array(inside) = value {
            all.extend(inside);
        }
    }
    all
}

fn condition(wanted: &Value, found: &[Option<&Value>], scope: &Scope<'_>) -> Result<bool, Failure> {
    match wanted {
        Value::Document(operators) if has_operators(operators) => {
            for (name, argument) in operators {
                if !operator(name, argument, operators, found, scope)? {
                    return Ok(false);
                }
            }
            Ok(true)
        }
        Value::Regex(pattern, options) => Ok(is_like(&pattern_of(pattern, options)?, found)),
        wanted => Ok(equals(wanted, found)),
    }
}

fn equals(wanted: &Value, found: &[Option<&Value>]) -> bool {
    if let Value::Null = wanted {
        return found.is_empty() || found.iter().any(Option::is_none) || opened(found).contains(&wanted);
    }
    opened(found).into_iter().any(|value| value == wanted)
}

/// A regular expression by its pattern and options.
pub fn pattern_of(pattern: &str, options: &str) -> Result<Regex, Failure> {
    let has = |option: char| options.contains(option);
    RegexBuilder::new(pattern)
        .case_insensitive(has('i'))
        .multi_line(has('m'))
        .dot_matches_new_line(has('s'))
        .ignore_whitespace(has('x'))
        .build()
        .map_err(|error| Failure::new(51091, "Location51091", format!("Regular expression is invalid: {error}")))
}

fn is_like(pattern: &Regex, found: &[Option<&Value>]) -> bool {
    opened(found).into_iter().filter_map(Value::as_text).any(|text| pattern.is_match(text))
}

fn list<'a>(name: &str, argument: &'a Value) -> Result<&'a [Value], Failure> {
    argument.as_array().ok_or_else(|| Failure::bad(format!("{name} needs an array")))
}

fn operator(
    name: &str,
    argument: &Value,
    beside: &Document,
    found: &[Option<&Value>],
    scope: &Scope<'_>,
) -> Result<bool, Failure> {
    let compared =
        |fits: &dyn Fn(&Value) -> bool| opened(found).into_iter().any(|value| value.is_like(argument) && fits(value));
    Ok(match name {
        "$eq" => equals(argument, found),
        "$ne" => !equals(argument, found),
        "$gt" => compared(&|value| value > argument),
        "$gte" => compared(&|value| value >= argument) || matches!(argument, Value::Null) && equals(argument, found),
        "$lt" => compared(&|value| value < argument),
        "$lte" => compared(&|value| value <= argument) || matches!(argument, Value::Null) && equals(argument, found),
        "$in" | "$nin" => {
            let mut any = false;
            for wanted in list(name, argument)? {
                any |= match wanted {
                    Value::Regex(pattern, options) => is_like(&pattern_of(pattern, options)?, found),
                    wanted => equals(wanted, found),
                };
            }
            any == (name == "$in")
        }
        "$exists" => found.iter().any(Option::is_some) == argument.holds(),
        "$type" => {
            let wanted = argument.as_array().unwrap_or(std::slice::from_ref(argument));
            opened(found).into_iter().any(|value| wanted.iter().any(|wanted| value.is_of(wanted)))
        }
        "$regex" => {
            let (pattern, own) = match argument {
                Value::Regex(pattern, options) => (pattern, options.as_str()),
                Value::Text(pattern) => (pattern, ""),
                _ => return Err(Failure::bad("$regex has to be a string")),
            };
            is_like(&pattern_of(pattern, field(beside, "$options").and_then(Value::as_text).unwrap_or(own))?, found)
        }
        "$options" if field(beside, "$regex").is_some() => true,
        "$options" => return Err(Failure::bad("$options needs a $regex")),
        "$not" => match argument {
            Value::Document(_) | Value::Regex(..) => !condition(argument, found, scope)?,
            _ => return Err(Failure::bad("$not needs a regex or a document")),
        },
        "$size" => {
            let wanted = argument.as_i64().filter(|size| *size >= 0);
            let wanted = wanted.ok_or_else(|| Failure::bad("Failed to parse $size. Expected a non-negative number"))?;
            found.iter().flatten().any(|value| value.as_array().is_some_and(|list| list.len() as i64 == wanted))
        }
        "$all" => {
            let mut all = !list(name, argument)?.is_empty();
            for wanted in list(name, argument)? {
                all &= condition(wanted, found, scope)?;
            }
            all
        }
        "$elemMatch" => {
            let wanted = argument.as_document().ok_or_else(|| Failure::bad("$elemMatch needs an Object"))?;
            let of_values = has_operators(wanted) && !matches!(wanted[0].0.as_str(), "$and" | "$or" | "$nor");
            let mut any = false;
            for value in found.iter().flatten().filter_map(|value| value.as_array()).flatten() {
                any |= match value {
                    _ if of_values => condition(argument, &[Some(value)], scope)?,
                    Value::Document(inside) => fits(wanted, inside, scope)?,
                    _ => false,
                };
            }
            any
        }
        "$mod" => {
            let numbers: Vec<i64> = list(name, argument)?.iter().filter_map(Value::as_i64).collect();
            let [divisor, rest] = numbers[..] else { return Err(Failure::bad("malformed mod, not enough elements")) };
            if divisor == 0 {
                return Err(Failure::bad("divisor cannot be 0"));
            }
            // Of a number with a fraction the whole part counts.
            let whole = |value: &Value| value.as_f64().filter(|value| value.is_finite()).map(|value| value as i64);
            opened(found)
                .into_iter()
                .filter_map(|value| value.as_i64().or_else(|| whole(value)))
                .any(|value| value % divisor == rest)
        }
        "$geoWithin" | "$geoIntersects" => {
            let shape = geo::Shape::read(argument)?;
            found.iter().flatten().any(|value| shape.holds(value))
        }
        "$near" | "$nearSphere" => {
            let near = geo::Near::read(argument, beside)?;
            found.iter().flatten().any(|value| near.distance(value).is_some())
        }
        "$maxDistance" | "$minDistance" if field(beside, "$near").or(field(beside, "$nearSphere")).is_some() => true,
        "$comment" => true,
        other => return Err(Failure::bad(format!("unknown operator: {other}"))),
    })
}
