//! Stages that put documents together.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::{compared, order};
use crate::documents::expression::{self, of_all};
use crate::documents::failure::Failure;
use crate::documents::scope::{Documents, Scope};
use crate::documents::value::{Document, Value, document, field};

/// What is gathered of a group for one of its fields: the operator's argument, worked out for each document.
fn accumulated(name: &str, argument: &Value, of: &[&Arc<Document>], scope: &Scope<'_>) -> Result<Value, Failure> {
    let part = |wanted: &str| argument.as_document().and_then(|parts| field(parts, wanted));
    let each = |expression: &Value| -> Result<Vec<Option<Value>>, Failure> {
        of.iter().map(|one| expression::value(expression, &scope.of(one))).collect()
    };
    let known =
        |expression: &Value| -> Result<Vec<Value>, Failure> { Ok(each(expression)?.into_iter().flatten().collect()) };
    let null = |found: Option<Option<Value>>| found.flatten().unwrap_or(Value::Null);
    Ok(match name {
        "$sum" | "$avg" | "$min" | "$max" => of_all(name, known(argument)?.iter()),
        "$count" => Value::whole(of.len() as i64),
        "$first" => null(each(argument)?.into_iter().next()),
        "$last" => null(each(argument)?.into_iter().next_back()),
        "$push" => Value::Array(known(argument)?),
        "$addToSet" => {
            let mut all = known(argument)?;
            all.sort();
            all.dedup();
            Value::Array(all)
        }
        "$mergeObjects" => {
            let mut made = Document::new();
            for one in known(argument)? {
                for (name, value) in one.as_document().unwrap_or(&Vec::new()) {
                    crate::documents::value::set(&mut made, name, value.clone());
                }
            }
            Value::Document(made)
        }
        "$stdDevPop" | "$stdDevSamp" => {
            let all: Vec<f64> = known(argument)?.iter().filter_map(Value::as_f64).collect();
            let divisor = if name == "$stdDevPop" { all.len() } else { all.len().saturating_sub(1) };
            if divisor == 0 {
                return Ok(Value::Null);
            }
            let mean = all.iter().sum::<f64>() / all.len() as f64;
            Value::Double((all.iter().map(|value| (value - mean).powi(2)).sum::<f64>() / divisor as f64).sqrt())
        }
        "$median" | "$percentile" => {
            let input = part("input").ok_or_else(|| Failure::bad(format!("{name} needs input")))?;
            let mut all: Vec<f64> = known(input)?.iter().filter_map(Value::as_f64).collect();
            all.sort_by(f64::total_cmp);
            let at = |share: f64| {
                let place = ((all.len() as f64 * share).ceil() as usize).clamp(1, all.len().max(1)) - 1;
                all.get(place).map_or(Value::Null, |value| Value::Double(*value))
            };
            match part("p").and_then(Value::as_array) {
                Some(shares) => Value::Array(shares.iter().map(|share| at(share.as_f64().unwrap_or(0.5))).collect()),
                None => at(0.5),
            }
        }
        "$firstN" | "$lastN" | "$minN" | "$maxN" => {
            let mut all = known(part("input").unwrap_or(&Value::Null))?;
            match name {
                "$lastN" => all.reverse(),
                "$minN" => all.sort(),
                "$maxN" => all.sort_by(|left, right| right.cmp(left)),
                _ => {}
            }
            all.truncate(part("n").and_then(Value::as_i64).unwrap_or(1).max(1) as usize);
            if name == "$lastN" {
                all.reverse();
            }
            Value::Array(all)
        }
        "$top" | "$bottom" | "$topN" | "$bottomN" => {
            let keys = part("sortBy")
                .and_then(Value::as_document)
                .ok_or_else(|| Failure::bad("Missing value for 'sortBy'"))?;
            let keys = order(keys)?;
            let mut sorted = of.to_vec();
            sorted.sort_by(|left, right| compared(&keys, left, right));
            if name.starts_with("$bottom") {
                sorted.reverse();
            }
            let count =
                if name.ends_with('N') { part("n").and_then(Value::as_i64).unwrap_or(1).max(1) as usize } else { 1 };
            let output = part("output").unwrap_or(&Value::Null);
            let mut all = Vec::new();
            for one in sorted.into_iter().take(count) {
                all.push(expression::value(output, &scope.of(one))?.unwrap_or(Value::Null));
            }
            if name.ends_with('N') { Value::Array(all) } else { all.into_iter().next().unwrap_or(Value::Null) }
        }
        other => {
            return Err(Failure::new(15952, "Location15952", format!("unknown group operator '{other}'")));
        }
    })
}

/// The fields of one group.
fn fields(
    wanted: &[(String, Value)],
    of: &[&Arc<Document>],
    scope: &Scope<'_>,
    into: &mut Document,
) -> Result<(), Failure> {
    for (name, how) in wanted.iter().filter(|(name, _)| name != "_id") {
        let Some([(operator, argument)]) = how.as_document().map(Vec::as_slice) else {
            let what = format!("The field '{name}' must be an accumulator object");
            return Err(Failure::new(40234, "Location40234", what));
        };
        into.push((name.clone(), accumulated(operator, argument, of, scope)?));
    }
    Ok(())
}

/// `$group`.
pub fn group(wanted: &Document, documents: &Documents, scope: &Scope<'_>) -> Result<Documents, Failure> {
    let key = field(wanted, "_id");
    let key = key.ok_or_else(|| Failure::new(15955, "Location15955", "a group specification must include an _id"))?;
    let mut groups: BTreeMap<Value, Vec<&Arc<Document>>> = BTreeMap::new();
    for one in documents {
        scope.go_on()?;
        groups.entry(expression::value(key, &scope.of(one))?.unwrap_or(Value::Null)).or_default().push(one);
    }
    // Its fields are worth a look also where there is not one document.
    fields(wanted, &[], scope, &mut Document::new())?;
    let mut made = Documents::new();
    for (key, of) in groups {
        let mut one = document([("_id", key)]);
        fields(wanted, &of, scope, &mut one)?;
        made.push(Arc::new(one));
    }
    Ok(made)
}

fn output(wanted: &Document) -> Document {
    let sum = Value::Document(document([("$sum", Value::Int(1))]));
    field(wanted, "output").and_then(Value::as_document).cloned().unwrap_or_else(|| document([("count", sum)]))
}

/// `$bucket`.
pub fn bucket(wanted: &Document, documents: &Documents, scope: &Scope<'_>) -> Result<Documents, Failure> {
    let by = field(wanted, "groupBy").unwrap_or(&Value::Null);
    let bounds = field(wanted, "boundaries").and_then(Value::as_array).unwrap_or_default();
    if bounds.len() < 2 || !bounds.is_sorted() {
        return Err(Failure::new(40194, "Location40194", "The 'boundaries' option to $bucket must be sorted"));
    }
    let other = field(wanted, "default");
    let mut buckets: BTreeMap<Value, Vec<&Arc<Document>>> = BTreeMap::new();
    for one in documents {
        scope.go_on()?;
        let value = expression::value(by, &scope.of(one))?.unwrap_or(Value::Null);
        let bound = bounds.windows(2).find(|pair| pair[0] <= value && value < pair[1]).map(|pair| &pair[0]);
        let key = bound.or(other).ok_or_else(|| {
            Failure::new(
                40066,
                "Location40066",
                "$switch could not find a matching branch for an input, and no default was specified.",
            )
        })?;
        buckets.entry(key.clone()).or_default().push(one);
    }
    let mut made = Documents::new();
    for (key, of) in buckets {
        let mut one = document([("_id", key)]);
        fields(&output(wanted), &of, scope, &mut one)?;
        made.push(Arc::new(one));
    }
    Ok(made)
}

/// `$bucketAuto`.
pub fn bucket_auto(wanted: &Document, documents: &Documents, scope: &Scope<'_>) -> Result<Documents, Failure> {
    let by = field(wanted, "groupBy").unwrap_or(&Value::Null);
    let count = field(wanted, "buckets").and_then(Value::as_i64).filter(|count| *count > 0);
    let count = count.ok_or_else(|| Failure::new(40241, "Location40241", "buckets must be greater than 0"))? as usize;
    let mut all = Vec::new();
    for one in documents {
        all.push((expression::value(by, &scope.of(one))?.unwrap_or(Value::Null), one));
    }
    all.sort_by(|left, right| left.0.cmp(&right.0));
    let size = all.len().div_ceil(count).max(1);
    let (mut made, mut at) = (Documents::new(), 0);
    while at < all.len() {
        let mut end = (at + size).min(all.len());
        // What is the same stays together.
        while end < all.len() && all[end].0 == all[end - 1].0 {
            end += 1;
        }
        let next = all.get(end).unwrap_or(&all[all.len() - 1]);
        let bounds = document([("min", all[at].0.clone()), ("max", next.0.clone())]);
        let mut one = document([("_id", Value::Document(bounds))]);
        let of: Vec<_> = all[at..end].iter().map(|(_, one)| *one).collect();
        fields(&output(wanted), &of, scope, &mut one)?;
        made.push(Arc::new(one));
        at = end;
    }
    Ok(made)
}
