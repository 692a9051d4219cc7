//! Operators of lists.

use super::{Found, arguments, exactly, holds, is_nothing, part, value};
use crate::documents::failure::Failure;
use crate::documents::scope::Frame;
use crate::documents::stages;
use crate::documents::value::{Document, Value, document, field};

fn list_of(name: &str, found: Found) -> Result<Option<Vec<Value>>, Failure> {
    match found {
        None | Some(Value::Null) => Ok(None),
        Some(Value::Array(values)) => Ok(Some(values)),
        Some(other) => {
            let what = format!("The argument to {name} must be an array, but was of type: {}", other.kind());
            Err(Failure::new(17124, "Location17124", what))
        }
    }
}

/// The value of an operator, if it is one of these.
pub fn operator(name: &str, argument: &Value, frame: &Frame<'_, '_>) -> Result<Option<Found>, Failure> {
    let nothing = Ok(Some(Some(Value::Null)));
    let one_list = || -> Result<Option<Vec<Value>>, Failure> {
        let [one] = exactly(name, argument, frame)?;
        list_of(name, one)
    };
    let made = match name {
        "$size" => {
            let Some(values) = one_list()? else { return list_of(name, Some(Value::Int(0))).map(|_| None) };
            Value::whole(values.len() as i64)
        }
        "$isArray" => {
            let [one] = exactly(name, argument, frame)?;
            Value::Bool(matches!(one, Some(Value::Array(_))))
        }
        "$arrayElemAt" => {
            let [list, at] = exactly(name, argument, frame)?;
            let (Some(values), Some(at)) = (list_of(name, list)?, at.and_then(|at| at.as_i64())) else {
                return nothing;
            };
            let at = if at < 0 { at + values.len() as i64 } else { at };
            return Ok(Some(usize::try_from(at).ok().and_then(|at| values.into_iter().nth(at))));
        }
        "$first" | "$last" => {
            let Some(mut values) = one_list()? else { return nothing };
            if name == "$last" {
                values.reverse();
            }
            return Ok(Some(values.into_iter().next()));
        }
        "$reverseArray" => {
            let Some(mut values) = one_list()? else { return nothing };
            values.reverse();
            Value::Array(values)
        }
        "$in" => {
            let [wanted, list] = exactly(name, argument, frame)?;
            let values = list_of(name, list)?.unwrap_or_default();
            Value::Bool(wanted.is_some_and(|wanted| values.contains(&wanted)))
        }
        "$indexOfArray" => {
            let [list, wanted] = exactly(name, argument, frame)?;
            let Some(values) = list_of(name, list)? else { return nothing };
            let at = wanted.and_then(|wanted| values.iter().position(|value| *value == wanted));
            Value::whole(at.map_or(-1, |at| at as i64))
        }
        "$concatArrays" | "$setUnion" => {
            let mut all = Vec::new();
            for one in arguments(argument, frame)? {
                let Some(values) = list_of(name, one)? else { return nothing };
                all.extend(values);
            }
            if name == "$setUnion" {
                all.sort();
                all.dedup();
            }
            Value::Array(all)
        }
        "$setIntersection" | "$setDifference" | "$setIsSubset" => {
            let [left, right] = exactly(name, argument, frame)?;
            let (Some(mut left), Some(right)) = (list_of(name, left)?, list_of(name, right)?) else { return nothing };
            match name {
                "$setIsSubset" => Value::Bool(left.iter().all(|value| right.contains(value))),
                _ => {
                    left.retain(|value| right.contains(value) == (name == "$setIntersection"));
                    left.sort();
                    left.dedup();
                    Value::Array(left)
                }
            }
        }
        "$slice" => {
            let all = arguments(argument, frame)?;
            let whole = |at: usize| all.get(at).cloned().flatten().and_then(|value| value.as_i64());
            let Some(values) = list_of(name, all.first().cloned().flatten())? else { return nothing };
            let length = values.len() as i64;
            let (from, count) = match (whole(1), whole(2)) {
                (Some(count), None) if count < 0 => ((length + count).max(0), -count),
                (Some(count), None) => (0, count),
                (Some(from), Some(count)) => (if from < 0 { (length + from).max(0) } else { from }, count),
                _ => return nothing,
            };
            Value::Array(values.into_iter().skip(from.max(0) as usize).take(count.max(0) as usize).collect())
        }
        "$range" => {
            let all: Vec<i64> =
                arguments(argument, frame)?.into_iter().flatten().filter_map(|one| one.as_i64()).collect();
            let (from, to, step) = match all[..] {
                [from, to] => (from, to, 1),
                [from, to, step] if step != 0 => (from, to, step),
                _ => return Err(Failure::bad("$range needs two or three whole numbers")),
            };
            let mut made = Vec::new();
            let mut at = from;
            while (step > 0 && at < to) || (step < 0 && at > to) {
                made.push(Value::whole(at));
                frame.scope.go_on()?;
                at += step;
            }
            Value::Array(made)
        }
        "$filter" | "$map" => {
            let Some(values) = list_of(name, part(name, argument, "input", frame)?)? else { return nothing };
            let parts = argument.as_document().cloned().unwrap_or_default();
            let variable = field(&parts, "as").and_then(Value::as_text).unwrap_or("this");
            let body = field(&parts, if name == "$map" { "in" } else { "cond" }).cloned().unwrap_or(Value::Null);
            let limit = part(name, argument, "limit", frame)?.and_then(|limit| limit.as_i64()).unwrap_or(i64::MAX);
            let mut made = Vec::new();
            for one in values {
                if made.len() as i64 >= limit {
                    break;
                }
                let found = value(&body, &frame.with(variable, one.clone()))?;
                match name {
                    "$map" => made.push(found.unwrap_or(Value::Null)),
                    _ if holds(&found) => made.push(one),
                    _ => {}
                }
            }
            Value::Array(made)
        }
        "$reduce" => {
            let Some(values) = list_of(name, part(name, argument, "input", frame)?)? else { return nothing };
            let parts = argument.as_document().cloned().unwrap_or_default();
            let body = field(&parts, "in").cloned().unwrap_or(Value::Null);
            let mut made = part(name, argument, "initialValue", frame)?.unwrap_or(Value::Null);
            for one in values {
                made = value(&body, &frame.with("this", one).with("value", made))?.unwrap_or(Value::Null);
            }
            made
        }
        "$sortArray" => {
            let Some(mut values) = list_of(name, part(name, argument, "input", frame)?)? else { return nothing };
            match part(name, argument, "sortBy", frame)? {
                Some(Value::Document(keys)) => {
                    let keys = stages::order(&keys)?;
                    let empty = Document::new();
                    values.sort_by(|left, right| {
                        let (left, right) = (left.as_document(), right.as_document());
                        stages::compared(&keys, left.unwrap_or(&empty), right.unwrap_or(&empty))
                    });
                }
                Some(direction) => {
                    values.sort();
                    if direction.as_i64() == Some(-1) {
                        values.reverse();
                    }
                }
                None => return Err(Failure::bad("$sortArray needs sortBy")),
            }
            Value::Array(values)
        }
        "$objectToArray" => {
            let [one] = exactly(name, argument, frame)?;
            let Some(Value::Document(fields)) = one else { return nothing };
            let pairs = fields
                .into_iter()
                .map(|(name, value)| Value::Document(document([("k", Value::Text(name)), ("v", value)])));
            Value::Array(pairs.collect())
        }
        "$arrayToObject" => {
            let Some(values) = one_list()? else { return nothing };
            let mut made = Document::new();
            for one in values {
                let pair = match &one {
                    Value::Document(pair) => (field(pair, "k").cloned(), field(pair, "v").cloned()),
                    Value::Array(pair) => (pair.first().cloned(), pair.get(1).cloned()),
                    _ => (None, None),
                };
                let (Some(Value::Text(name)), Some(value)) = pair else {
                    return Err(Failure::bad("$arrayToObject needs pairs of a name and a value"));
                };
                crate::documents::value::set(&mut made, &name, value);
            }
            Value::Document(made)
        }
        "$allElementsTrue" | "$anyElementTrue" => {
            let values = one_list()?.unwrap_or_default();
            Value::Bool(if name == "$allElementsTrue" {
                values.iter().all(Value::holds)
            } else {
                values.iter().any(Value::holds)
            })
        }
        "$zip" => {
            let inputs =
                argument.as_document().and_then(|parts| field(parts, "inputs")?.as_array()).unwrap_or_default();
            let mut lists = Vec::new();
            for one in inputs {
                let found = value(one, frame)?;
                if is_nothing(&found) {
                    return nothing;
                }
                lists.push(list_of(name, found)?.unwrap_or_default());
            }
            let shortest = lists.iter().map(Vec::len).min().unwrap_or(0);
            let row = |at: usize| Value::Array(lists.iter().filter_map(|list| list.get(at)).cloned().collect());
            Value::Array((0..shortest).map(row).collect())
        }
        _ => return Ok(None),
    };
    Ok(Some(Some(made)))
}
