//! Stages that look into other collections.

use std::sync::Arc;

use super::{run, set_path};
use crate::documents::expression;
use crate::documents::failure::Failure;
use crate::documents::matching;
use crate::documents::scope::{Documents, Scope};
use crate::documents::value::{Document, Value, at_path, field, set};

/// The documents of another collection, those of a view too.
pub fn of_collection(name: &str, scope: &Scope<'_>) -> Result<Documents, Failure> {
    let Some(collection) = scope.store.collection(scope.database, name) else { return Ok(Documents::new()) };
    match collection.view() {
        Some((on, pipeline)) => run(&pipeline, of_collection(&on, scope)?, scope),
        None => Ok(collection.all().cloned().collect()),
    }
}

fn as_value(documents: Documents) -> Value {
    Value::Array(documents.into_iter().map(|one| Value::Document((*one).clone())).collect())
}

/// `$lookup`: by equal fields, by a pipeline, or by both.
pub fn lookup(wanted: &Document, documents: &Documents, scope: &Scope<'_>) -> Result<Documents, Failure> {
    let text = |name: &str| field(wanted, name).and_then(Value::as_text);
    let into = text("as").ok_or_else(|| Failure::parse("must specify 'as' field for a $lookup"))?;
    let others = match text("from") {
        Some(from) => of_collection(from, scope)?,
        None => Documents::new(),
    };
    let pipeline = field(wanted, "pipeline").and_then(Value::as_array);
    let own = Vec::new();
    let variables = field(wanted, "let").and_then(Value::as_document).unwrap_or(&own);
    let mut made = Documents::new();
    for one in documents {
        scope.go_on()?;
        let mut found = match (text("localField"), text("foreignField")) {
            (Some(local), Some(foreign)) => {
                let local = at_path(one, local).unwrap_or(Value::Null);
                let wanted: Vec<&Value> = match &local {
                    Value::Array(values) => values.iter().collect(),
                    one => vec![one],
                };
                let fits = |other: &&Arc<Document>| match at_path(other, foreign).unwrap_or(Value::Null) {
                    Value::Array(values) => values.iter().any(|value| wanted.contains(&value)),
                    value => wanted.contains(&&value),
                };
                others.iter().filter(fits).cloned().collect()
            }
            _ if pipeline.is_some() => others.clone(),
            _ => return Err(Failure::parse("$lookup requires both or neither of 'localField' and 'foreignField'")),
        };
        if let Some(pipeline) = pipeline {
            let mut known = Vec::new();
            for (name, how) in variables {
                known.push((name.clone(), expression::value(how, &scope.of(one))?.unwrap_or(Value::Null)));
            }
            found = run(pipeline, found, &scope.with(known))?;
        }
        let mut joined = (**one).clone();
        set_path(&mut joined, into, as_value(found));
        made.push(Arc::new(joined));
    }
    Ok(made)
}

/// `$unionWith`.
pub fn union(argument: &Value, mut documents: Documents, scope: &Scope<'_>) -> Result<Documents, Failure> {
    let parts = argument.as_document();
    let name = argument.as_text().or_else(|| field(parts?, "coll")?.as_text());
    let more = name.map_or(Ok(Documents::new()), |name| of_collection(name, scope))?;
    let pipeline = parts.and_then(|parts| field(parts, "pipeline")?.as_array()).unwrap_or_default();
    documents.extend(run(pipeline, more, scope)?);
    Ok(documents)
}

/// `$graphLookup`.
pub fn graph(wanted: &Document, documents: &Documents, scope: &Scope<'_>) -> Result<Documents, Failure> {
    let text = |name: &str| {
        let found = field(wanted, name).and_then(Value::as_text);
        found.ok_or_else(|| Failure::parse(format!("$graphLookup needs {name}")))
    };
    let others = of_collection(text("from")?, scope)?;
    let (from, to, into) = (text("connectFromField")?, text("connectToField")?, text("as")?);
    let start = field(wanted, "startWith").unwrap_or(&Value::Null);
    let deepest = field(wanted, "maxDepth").and_then(Value::as_i64).unwrap_or(i64::MAX);
    let depth_into = field(wanted, "depthField").and_then(Value::as_text);
    let only = field(wanted, "restrictSearchWithMatch").and_then(Value::as_document);
    let flat = |value: Value| if let Value::Array(values) = value { values } else { vec![value] };
    let mut made = Documents::new();
    for one in documents {
        let mut frontier = expression::value(start, &scope.of(one))?.map_or_else(Vec::new, flat);
        let (mut found, mut seen, mut depth) = (Vec::new(), Vec::new(), 0);
        while !frontier.is_empty() && depth <= deepest {
            let mut next = Vec::new();
            for (number, other) in others.iter().enumerate() {
                scope.go_on()?;
                let reached =
                    at_path(other, to).map_or_else(Vec::new, flat).iter().any(|value| frontier.contains(value));
                if !reached
                    || seen.contains(&number)
                    || !only.map_or(Ok(true), |only| matching::fits(only, other, scope))?
                {
                    continue;
                }
                seen.push(number);
                next.extend(at_path(other, from).map_or_else(Vec::new, flat));
                let mut kept = (**other).clone();
                if let Some(name) = depth_into {
                    set(&mut kept, name, Value::Long(depth));
                }
                found.push(Value::Document(kept));
            }
            (frontier, depth) = (next, depth + 1);
        }
        let mut joined = (**one).clone();
        set_path(&mut joined, into, Value::Array(found));
        made.push(Arc::new(joined));
    }
    Ok(made)
}
