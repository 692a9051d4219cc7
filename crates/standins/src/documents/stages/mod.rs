//! Pipelines ("Aggregation Stages").

mod groups;
mod joins;

use std::cmp::Ordering;
use std::sync::Arc;

use super::expression;
use super::failure::Failure;
use super::geo;
use super::matching::{self, has_operators};
use super::scope::{Documents, Scope};
use super::value::{Document, Value, at_path, document, field, set};

/// A sort: paths, and whether each ascends.
pub type Order = Vec<(String, bool)>;

/// Reads the document of a sort.
pub fn order(keys: &[(String, Value)]) -> Result<Order, Failure> {
    let one = |(path, way): &(String, Value)| match way.as_i64() {
        Some(1) => Ok((path.clone(), true)),
        Some(-1) => Ok((path.clone(), false)),
        _ if way.as_document().is_some_and(|way| field(way, "$meta").is_some()) => Ok((SCORE.to_owned(), false)),
        _ => Err(Failure::bad("$sort key ordering must be 1 (for ascending) or -1 (for descending)")),
    };
    keys.iter().map(one).collect()
}

/// Where the score of a search for words stands, in documents on their way.
pub const SCORE: &str = "\0score";

/// The order of two documents. Of a list its least value counts, or its greatest where it descends.
pub fn compared(order: &Order, left: &[(String, Value)], right: &[(String, Value)]) -> Ordering {
    let key = |document: &[(String, Value)], path: &str, ascends: bool| match at_path(document, path) {
        Some(Value::Array(values)) => {
            let found = if ascends { values.into_iter().min() } else { values.into_iter().max() };
            found.unwrap_or(Value::Null)
        }
        found => found.unwrap_or(Value::Null),
    };
    for (path, ascends) in order {
        let way = key(left, path, *ascends).cmp(&key(right, path, *ascends));
        if way.is_ne() {
            return if *ascends { way } else { way.reverse() };
        }
    }
    Ordering::Equal
}

/// What a projection or `$set` makes of a document, path by path.
fn set_path(into: &mut Document, path: &str, value: Value) {
    let Some((first, rest)) = path.split_once('.') else { return set(into, path, value) };
    match into.iter_mut().find(|(name, _)| name == first) {
        Some((_, Value::Document(inside))) => set_path(inside, rest, value),
        Some((_, Value::Array(values))) => {
            for one in values.iter_mut() {
                match one {
                    Value::Document(inside) => set_path(inside, rest, value.clone()),
                    other => {
                        let mut inside = Document::new();
                        set_path(&mut inside, rest, value.clone());
                        *other = Value::Document(inside);
                    }
                }
            }
        }
        _ => {
            let mut inside = Document::new();
            set_path(&mut inside, rest, value);
            set(into, first, Value::Document(inside));
        }
    }
}

/// Removes what is at a path.
pub fn unset_path(from: &mut Document, path: &str) {
    let Some((first, rest)) = path.split_once('.') else {
        from.retain(|(name, _)| name != path);
        return;
    };
    match from.iter_mut().find(|(name, _)| name == first) {
        Some((_, Value::Document(inside))) => unset_path(inside, rest),
        Some((_, Value::Array(values))) => {
            for one in values {
                if let Value::Document(inside) = one {
                    unset_path(inside, rest);
                }
            }
        }
        _ => {}
    }
}

/// Only these paths of a document, in the document's order.
fn only(document: &[(String, Value)], paths: &[&str]) -> Document {
    let mut kept = Document::new();
    for (name, value) in document {
        if paths.contains(&name.as_str()) {
            kept.push((name.clone(), value.clone()));
            continue;
        }
        let rests: Vec<&str> =
            paths.iter().filter_map(|path| path.strip_prefix(name.as_str())?.strip_prefix('.')).collect();
        if rests.is_empty() {
            continue;
        }
        match value {
            Value::Document(inside) => kept.push((name.clone(), Value::Document(only(inside, &rests)))),
            Value::Array(values) => {
                let inside = values.iter().filter_map(Value::as_document).map(|one| Value::Document(only(one, &rests)));
                kept.push((name.clone(), Value::Array(inside.collect())));
            }
            _ => {}
        }
    }
    kept
}

fn is_flag(value: &Value) -> bool {
    matches!(value, Value::Bool(_) | Value::Int(_) | Value::Long(_) | Value::Double(_))
}

/// The paths of a document of a projection, nested ones with dots.
fn spread(of: &[(String, Value)], before: &str, into: &mut Document) {
    for (name, value) in of {
        let path = format!("{before}{name}");
        match value {
            Value::Document(inside) if !has_operators(inside) && !inside.is_empty() => {
                spread(inside, &format!("{path}."), into);
            }
            value => into.push((path, value.clone())),
        }
    }
}

/// A projection, of `find` and of `$project`.
pub fn project(
    wanted: &[(String, Value)],
    document: &[(String, Value)],
    scope: &Scope<'_>,
) -> Result<Document, Failure> {
    let mut all = Document::new();
    spread(wanted, "", &mut all);
    let excludes = |(path, value): &&(String, Value)| is_flag(value) && !value.holds() && path != "_id";
    let includes = |(path, value): &&(String, Value)| path != "_id" && (!is_flag(value) || value.holds());
    let no_id = field(&all, "_id").is_some_and(|value| is_flag(value) && !value.holds());
    if let (Some(_), Some((path, _))) = (all.iter().find(excludes), all.iter().find(includes)) {
        let what = format!("Cannot do inclusion on field {path} in exclusion projection");
        return Err(Failure::new(31253, "Location31253", what));
    }
    if !all.iter().any(|pair| includes(&pair)) && (no_id || all.iter().any(|pair| excludes(&pair))) {
        let mut kept = document.to_vec();
        for (path, _) in all.iter().filter(|(_, value)| !value.holds()) {
            unset_path(&mut kept, path);
        }
        return Ok(kept);
    }
    let mut paths: Vec<&str> =
        all.iter().filter(|(_, value)| is_flag(value) && value.holds()).map(|(path, _)| path.as_str()).collect();
    if !no_id {
        paths.push("_id");
    }
    let mut made = only(document, &paths);
    for (path, one) in all.iter().filter(|(_, value)| !is_flag(value)) {
        let sliced = one.as_document().and_then(|one| field(one, "$slice"));
        let matched = one.as_document().and_then(|one| field(one, "$elemMatch"));
        let value = match (sliced, matched) {
            (Some(Value::Int(count)), _) => {
                let list = Value::Array(vec![Value::text(format!("${path}")), Value::Int(*count)]);
                expression::value(&Value::Document(super::value::document([("$slice", list)])), &scope.of(document))?
            }
            (_, Some(Value::Document(wanted))) => {
                let Some(Value::Array(values)) = at_path(document, path) else { continue };
                let mut found = None;
                for value in values {
                    if found.is_none()
                        && value.as_document().map_or(Ok(false), |one| matching::fits(wanted, one, scope))?
                    {
                        found = Some(Value::Array(vec![value]));
                    }
                }
                found
            }
            _ => expression::value(one, &scope.of(document))?,
        };
        if let Some(value) = value {
            set_path(&mut made, path, value);
        }
    }
    Ok(made)
}

/// `$set`, of a pipeline and of a change.
fn add_fields(wanted: &[(String, Value)], document: &Document, scope: &Scope<'_>) -> Result<Document, Failure> {
    let mut all = Document::new();
    spread(wanted, "", &mut all);
    let mut made = document.clone();
    for (path, one) in &all {
        match expression::value(one, &scope.of(document))? {
            Some(value) => set_path(&mut made, path, value),
            None => unset_path(&mut made, path),
        }
    }
    Ok(made)
}

fn unwind(argument: &Value, documents: &Documents) -> Result<Documents, Failure> {
    let parts = argument.as_document();
    let part = |name: &str| parts.and_then(|parts| field(parts, name));
    let path = argument.as_text().or(part("path").and_then(Value::as_text));
    let path = path.and_then(|path| path.strip_prefix('$')).ok_or_else(|| {
        Failure::new(28818, "Location28818", "path option to $unwind stage should be prefixed with a '$'")
    })?;
    let keeps = part("preserveNullAndEmptyArrays").is_some_and(Value::holds);
    let number = part("includeArrayIndex").and_then(Value::as_text);
    let mut made = Documents::new();
    for one in documents {
        match at_path(one, path) {
            Some(Value::Array(values)) => {
                if values.is_empty() && keeps {
                    let mut kept = (**one).clone();
                    unset_path(&mut kept, path);
                    made.push(Arc::new(kept));
                }
                for (at, value) in values.into_iter().enumerate() {
                    let mut opened = (**one).clone();
                    set_path(&mut opened, path, value);
                    if let Some(number) = number {
                        set_path(&mut opened, number, Value::Long(at as i64));
                    }
                    made.push(Arc::new(opened));
                }
            }
            None | Some(Value::Null) if !keeps => {}
            _ => made.push(Arc::clone(one)),
        }
    }
    Ok(made)
}

/// The distance of each document from a point, the nearest first.
fn geo_near(argument: &Value, documents: &Documents, scope: &Scope<'_>) -> Result<Documents, Failure> {
    let parts = argument.as_document().ok_or_else(|| Failure::parse("$geoNear needs an object"))?;
    let mut limits = document([("$geometry", field(parts, "near").cloned().unwrap_or(Value::Null))]);
    for (own, name) in [("maxDistance", "$maxDistance"), ("minDistance", "$minDistance")] {
        limits.extend(field(parts, own).map(|limit| (name.to_owned(), limit.clone())));
    }
    let near = geo::Near::read(&Value::Document(limits), &Document::new())?;
    let key = field(parts, "key").and_then(Value::as_text).map(str::to_owned);
    let key = key.or_else(|| scope.places.first().cloned()).ok_or_else(|| {
        Failure::new(27, "IndexNotFound", "$geoNear requires a 2d or 2dsphere index, but none were found")
    })?;
    let query = field(parts, "query").and_then(Value::as_document);
    let into = field(parts, "distanceField").and_then(Value::as_text);
    let times = field(parts, "distanceMultiplier").and_then(Value::as_f64).unwrap_or(1.0);
    let mut found = Vec::new();
    for one in documents {
        scope.go_on()?;
        let Some(distance) = at_path(one, &key).and_then(|at| near.distance(&at)) else { continue };
        if query.map_or(Ok(true), |query| matching::fits(query, one, scope))? {
            found.push((distance, one));
        }
    }
    found.sort_by(|left, right| left.0.total_cmp(&right.0));
    let with = |(distance, one): (f64, &Arc<Document>)| match into {
        None => Arc::clone(one),
        Some(into) => {
            let mut made = (**one).clone();
            set_path(&mut made, into, Value::Double(distance * times));
            Arc::new(made)
        }
    };
    Ok(found.into_iter().map(with).collect())
}

fn count_of(name: &str, argument: &Value) -> Result<usize, Failure> {
    let count = argument.as_i64().and_then(|count| usize::try_from(count).ok());
    count.ok_or_else(|| Failure::new(15957, "Location15957", format!("{name} must be a non-negative number")))
}

/// What a pipeline makes of documents. `$out` and `$merge` are the command's.
pub fn run(pipeline: &[Value], mut documents: Documents, scope: &Scope<'_>) -> Result<Documents, Failure> {
    for stage in pipeline {
        scope.go_on()?;
        let Some([(name, argument)]) = stage.as_document().map(Vec::as_slice) else {
            let what = "A pipeline stage specification object must contain exactly one field.";
            return Err(Failure::new(40323, "Location40323", what));
        };
        documents = stage_of(name, argument, documents, scope)?;
    }
    Ok(documents)
}

fn stage_of(name: &str, argument: &Value, documents: Documents, scope: &Scope<'_>) -> Result<Documents, Failure> {
    let object = || {
        let what = format!("the {name} stage specification must be an object");
        argument.as_document().ok_or_else(|| Failure::new(15959, "Location15959", what))
    };
    let each = |make: &dyn Fn(&Document) -> Result<Document, Failure>| -> Result<Documents, Failure> {
        let one = |one: &Arc<Document>| scope.go_on().and_then(|()| make(one)).map(Arc::new);
        documents.iter().map(one).collect()
    };
    Ok(match name {
        "$match" => {
            let filter = object()?;
            let mut kept = Documents::new();
            for one in documents {
                scope.go_on()?;
                if matching::fits(filter, &one, scope)? {
                    kept.push(one);
                }
            }
            kept
        }
        "$project" => {
            let wanted = object()?;
            each(&|one| project(wanted, one, scope))?
        }
        "$set" | "$addFields" => {
            let wanted = object()?;
            each(&|one| add_fields(wanted, one, scope))?
        }
        "$unset" => {
            let paths = argument.as_array().unwrap_or(std::slice::from_ref(argument));
            each(&|one| {
                let mut kept = one.clone();
                paths.iter().filter_map(Value::as_text).for_each(|path| unset_path(&mut kept, path));
                Ok(kept)
            })?
        }
        "$replaceRoot" | "$replaceWith" => {
            let wanted =
                if name == "$replaceWith" { argument } else { field(object()?, "newRoot").unwrap_or(argument) };
            each(&|one| match expression::value(wanted, &scope.of(one))? {
                Some(Value::Document(made)) => Ok(made),
                _ => Err(Failure::new(40228, "Location40228", "'newRoot' expression must evaluate to an object")),
            })?
        }
        "$sort" => {
            let (order, mut documents) = (order(object()?)?, documents);
            documents.sort_by(|left, right| compared(&order, left, right));
            documents
        }
        "$limit" => documents.into_iter().take(count_of("the limit", argument)?).collect(),
        "$skip" => documents.into_iter().skip(count_of("the number to skip", argument)?).collect(),
        "$sample" => {
            let size = count_of("size", field(object()?, "size").unwrap_or(&Value::Null))?;
            let mut documents = documents;
            for at in 0..size.min(documents.len()) {
                let left = documents.len() - at;
                documents.swap(at, at + (expression::chance() * left as f64) as usize % left);
            }
            documents.truncate(size);
            documents
        }
        "$unwind" => unwind(argument, &documents)?,
        "$count" => {
            let into = argument.as_text().filter(|name| !name.is_empty());
            let into =
                into.ok_or_else(|| Failure::new(40156, "Location40156", "the count field must be a non-empty string"))?;
            match documents.len() {
                0 => Documents::new(),
                count => vec![Arc::new(document([(into, Value::whole(count as i64))]))],
            }
        }
        "$facet" => {
            let mut made = Document::new();
            for (name, pipeline) in object()? {
                let found = run(pipeline.as_array().unwrap_or_default(), documents.clone(), scope)?;
                let found = found.into_iter().map(|one| Value::Document((*one).clone())).collect();
                made.push((name.clone(), Value::Array(found)));
            }
            vec![Arc::new(made)]
        }
        "$group" => groups::group(object()?, &documents, scope)?,
        "$sortByCount" => {
            let sum = Value::Document(document([("$sum", Value::Int(1))]));
            let mut made = groups::group(&document([("_id", argument.clone()), ("count", sum)]), &documents, scope)?;
            made.sort_by(|left, right| compared(&vec![("count".to_owned(), false)], left, right));
            made
        }
        "$bucket" => groups::bucket(object()?, &documents, scope)?,
        "$bucketAuto" => groups::bucket_auto(object()?, &documents, scope)?,
        "$lookup" => joins::lookup(object()?, &documents, scope)?,
        "$unionWith" => joins::union(argument, documents, scope)?,
        "$graphLookup" => joins::graph(object()?, &documents, scope)?,
        "$geoNear" => geo_near(argument, &documents, scope)?,
        "$documents" => {
            let made = expression::value(argument, &scope.of(&[]))?;
            let made = made.as_ref().and_then(Value::as_array).unwrap_or_default();
            made.iter().filter_map(Value::as_document).cloned().map(Arc::new).collect()
        }
        "$out" | "$merge" => documents,
        other => {
            let what = format!("Unrecognized pipeline stage name: '{other}'");
            return Err(Failure::new(40324, "Location40324", what));
        }
    })
}
