//! Commands that read documents.

use std::sync::Arc;
use std::sync::atomic::Ordering;

use super::super::cursor::{Cursor, FIRST, Scan, Source};
use super::super::failure::Failure;
use super::super::geo::Near;
use super::super::matching::{self, fits};
use super::super::scope::{Documents, Scope};
use super::super::session::Call;
use super::super::stages::{self, SCORE};
use super::super::store::Collection;
use super::super::text;
use super::super::value::{Document, Value, document, field, set};
use super::{document_of, target, whole_of};
use crate::held;

/// Puts the first batch of documents into a reply, and keeps the rest.
pub fn opened(
    mut documents: Source,
    collection: &str,
    batch: Option<i64>,
    call: &Call<'_>,
) -> Result<Document, Failure> {
    let store = call.store();
    let scope = call.scope(&store, None);
    let most = batch.map_or(FIRST, |batch| usize::try_from(batch).unwrap_or(0));
    let (first, over) = documents.batch(most, &scope)?;
    let shared = &call.session.shared;
    let id = if over { 0 } else { shared.next_cursor.fetch_add(7, Ordering::Relaxed) };
    if !over {
        let cursor = Cursor { database: call.database.clone(), collection: collection.to_owned(), documents };
        held(&shared.cursors).insert(id, cursor);
    }
    let cursor = document([
        ("firstBatch", Value::Array(first)),
        ("id", Value::Long(id)),
        ("ns", Value::Text(call.namespace(collection))),
    ]);
    Ok(document([("cursor", Value::Document(cursor))]))
}

/// What a filter asks by distance, if it does: the path, and how near.
fn near_of(filter: &Document, collection: &Collection) -> Result<Option<(String, Near)>, Failure> {
    for (path, wanted) in filter {
        let Value::Document(operators) = wanted else { continue };
        let Some(argument) = field(operators, "$near").or(field(operators, "$nearSphere")) else { continue };
        if !collection.paths_of(&["2dsphere", "2d"]).contains(path) {
            let what = "error processing query: planner returned error :: caused by :: unable to find index for $geoNear query";
            return Err(Failure::new(291, "NoQueryExecutionPlans", what));
        }
        return Ok(Some((path.clone(), Near::read(argument, operators)?)));
    }
    Ok(None)
}

/// Looks a filter over before it meets a document: so mistakes in it come to light without documents too.
fn check(filter: &Document, scope: &Scope<'_>) -> Result<(), Failure> {
    fits(filter, &[], scope).map(drop)
}

pub fn find(command: &Document, call: &mut Call<'_>) -> Result<Document, Failure> {
    let name = target(command)?;
    let (filter, projection) = (document_of(command, "filter"), document_of(command, "projection"));
    let keys = document_of(command, "sort");
    let skip = usize::try_from(whole_of(command, "skip")?.unwrap_or(0))
        .map_err(|_| Failure::bad("skip value must be non-negative"))?;
    let limit = whole_of(command, "limit")?.unwrap_or(0).unsigned_abs() as usize;
    let limit = if limit == 0 { usize::MAX } else { limit };
    let batch = whole_of(command, "batchSize")?;
    let single = field(command, "singleBatch").is_some_and(Value::holds);
    let batch = if single { Some(limit.min(1 << 30) as i64) } else { batch };
    if call.session.shared.options.endless.as_ref() == Some(&name) {
        return opened(Source::Endless(0), &name, batch, call);
    }
    let store = call.store();
    let Some(collection) = store.shared(&call.database, &name) else {
        check(&filter, &call.scope(&store, None))?;
        return opened(Source::Ready(Vec::new().into_iter()), &name, batch, call);
    };
    let scope = call.scope(&store, Some(&collection));
    check(&filter, &scope)?;
    let near = near_of(&filter, &collection)?;
    let scored = field(&filter, "$text");
    if keys.is_empty() && near.is_none() && scored.is_none() && collection.view().is_none() {
        hinted(command, &collection)?;
        let numbers = collection.plan(&filter).numbers.into_iter();
        let variables = variables(command, &scope)?;
        let scan = Scan { store: Arc::clone(&store), collection, numbers, filter, projection, skip, limit, variables };
        return opened(Source::Scan(Box::new(scan)), &name, batch, call);
    }
    let order = stages::order(&keys)?;
    let mut found = of_filter(&name, &collection, &filter, &scope)?;
    if let Some((path, near)) = near {
        let distance = |one: &Arc<Document>| {
            let ends = matching::at(one, &path).into_iter().flatten();
            ends.filter_map(|value| near.distance(value)).fold(f64::MAX, f64::min)
        };
        found.sort_by(|left, right| distance(left).total_cmp(&distance(right)));
    }
    if let Some(wanted) = scored {
        for one in &mut found {
            let score = text::score(wanted, one, &scope)?;
            set(Arc::make_mut(one), SCORE, Value::Double(score));
        }
    }
    if !order.is_empty() {
        found.sort_by(|left, right| stages::compared(&order, left, right));
    }
    let mut shown = Documents::new();
    for one in found.into_iter().skip(skip).take(limit) {
        shown.push(match projection.is_empty() {
            true => one,
            false => {
                let score = field(&one, SCORE).cloned().unwrap_or(Value::Double(0.0));
                let scope = scope.with(vec![("SEARCH_SCORE".to_owned(), score)]);
                Arc::new(stages::project(&projection, &one, &scope)?)
            }
        });
    }
    opened(Source::Ready(shown.into_iter()), &name, batch, call)
}

fn hinted(command: &Document, collection: &Collection) -> Result<(), Failure> {
    let there = |hint: &Value| match hint {
        Value::Text(name) => collection.indexes.iter().any(|index| index.name == *name),
        Value::Document(keys) => {
            field(keys, "$natural").is_some()
                || collection.indexes.iter().any(|index| Value::Document(index.keys.clone()) == *hint)
        }
        _ => false,
    };
    match field(command, "hint") {
        Some(hint) if !there(hint) => Err(Failure::bad(
            "error processing query: planner returned error :: caused by :: hint provided does not correspond to an existing index",
        )),
        _ => Ok(()),
    }
}

/// `let` of a command.
fn variables(command: &Document, scope: &Scope<'_>) -> Result<Vec<(String, Value)>, Failure> {
    let mut all = Vec::new();
    for (name, how) in document_of(command, "let") {
        all.push((name, super::super::expression::value(&how, &scope.of(&[]))?.unwrap_or(Value::Null)));
    }
    Ok(all)
}

/// The documents of a collection, or of a view, that fit a filter.
pub fn of_filter(
    name: &str,
    collection: &Collection,
    filter: &Document,
    scope: &Scope<'_>,
) -> Result<Documents, Failure> {
    let mut found = Documents::new();
    if let Some((on, pipeline)) = collection.view() {
        let base = scope.store.collection(scope.database, &on).filter(|_| on != name);
        let base = base.map_or(Ok(Documents::new()), |base| of_filter(&on, base, &Document::new(), scope))?;
        for one in stages::run(&pipeline, base, scope)? {
            if fits(filter, &one, scope)? {
                found.push(one);
            }
        }
        return Ok(found);
    }
    for number in collection.plan(filter).numbers {
        scope.go_on()?;
        let Some(one) = collection.at(number) else { continue };
        if fits(filter, one, scope)? {
            found.push(Arc::clone(one));
        }
    }
    Ok(found)
}

pub fn get_more(command: &Document, call: &mut Call<'_>) -> Result<Document, Failure> {
    let id = whole_of(command, "getMore")?.unwrap_or(0);
    let gone = || Failure::new(43, "CursorNotFound", format!("cursor id {id} not found"));
    let mut cursor = held(&call.session.shared.cursors).remove(&id).ok_or_else(gone)?;
    let most = whole_of(command, "batchSize")?.and_then(|most| usize::try_from(most).ok()).filter(|most| *most > 0);
    let store = call.store();
    let (batch, over) = cursor.documents.batch(most.unwrap_or(usize::MAX), &call.scope(&store, None))?;
    let namespace = format!("{}.{}", cursor.database, cursor.collection);
    if !over {
        held(&call.session.shared.cursors).insert(id, cursor);
    }
    let cursor = document([
        ("nextBatch", Value::Array(batch)),
        ("id", Value::Long(if over { 0 } else { id })),
        ("ns", Value::Text(namespace)),
    ]);
    Ok(document([("cursor", Value::Document(cursor))]))
}

pub fn kill_cursors(command: &Document, call: &mut Call<'_>) -> Result<Document, Failure> {
    let (mut killed, mut unknown) = (Vec::new(), Vec::new());
    for id in field(command, "cursors").and_then(Value::as_array).unwrap_or_default() {
        let gone = held(&call.session.shared.cursors).remove(&id.as_i64().unwrap_or(0)).is_none();
        if gone { unknown.push(id.clone()) } else { killed.push(id.clone()) }
    }
    let none = || Value::Array(Vec::new());
    Ok(document([
        ("cursorsKilled", Value::Array(killed)),
        ("cursorsNotFound", Value::Array(unknown)),
        ("cursorsAlive", none()),
        ("cursorsUnknown", none()),
    ]))
}

pub fn count(command: &Document, call: &mut Call<'_>) -> Result<Document, Failure> {
    let (name, store) = (target(command)?, call.store());
    let (skip, limit) = (whole_of(command, "skip")?.unwrap_or(0), whole_of(command, "limit")?.unwrap_or(0));
    let filter = document_of(command, "query");
    let found = match store.collection(&call.database, &name) {
        None => 0,
        Some(collection) if filter.is_empty() && collection.view().is_none() => collection.len(),
        Some(collection) => of_filter(&name, collection, &filter, &call.scope(&store, Some(collection)))?.len(),
    } as i64;
    let found = (found - skip).max(0);
    Ok(document([("n", Value::whole(if limit > 0 { found.min(limit) } else { found }))]))
}

pub fn distinct(command: &Document, call: &mut Call<'_>) -> Result<Document, Failure> {
    let (name, store) = (target(command)?, call.store());
    let key = field(command, "key").and_then(Value::as_text).ok_or_else(|| Failure::type_of("distinct needs a key"))?;
    let mut values = Vec::new();
    if let Some(collection) = store.collection(&call.database, &name) {
        let filter = document_of(command, "query");
        for one in of_filter(&name, collection, &filter, &call.scope(&store, Some(collection)))? {
            for value in matching::at(&one, key).into_iter().flatten() {
                match value {
                    Value::Array(inside) => values.extend(inside.iter().cloned()),
                    value => values.push(value.clone()),
                }
            }
        }
    }
    values.sort();
    values.dedup();
    Ok(document([("values", Value::Array(values))]))
}

pub fn aggregate(command: &Document, call: &mut Call<'_>) -> Result<Document, Failure> {
    let pipeline = field(command, "pipeline").and_then(Value::as_array);
    let pipeline =
        pipeline.ok_or_else(|| Failure::type_of("'pipeline' option must be specified as an array"))?.to_vec();
    let name = command.first().and_then(|(_, value)| value.as_text()).unwrap_or("$cmd.aggregate").to_owned();
    let batch = whole_of(&document_of(command, "cursor"), "batchSize")?;
    if field(command, "explain").is_some_and(Value::holds) {
        return super::explain::of_pipeline(&name, &pipeline, None, call);
    }
    if field(command, "cursor").is_none() {
        return Err(Failure::parse("The 'cursor' option is required, except for aggregate with the explain argument"));
    }
    if let Some(made) = super::admin::first_stage(&name, &pipeline, call)? {
        let store = call.store();
        let made = stages::run(pipeline.get(1..).unwrap_or_default(), made, &call.scope(&store, None))?;
        return opened(Source::Ready(made.into_iter()), &name, batch, call);
    }
    let store = call.store();
    let collection = store.collection(&call.database, &name);
    let scope = call.scope(&store, collection);
    let scope = scope.with(variables(command, &scope)?);
    let first = pipeline.first().and_then(Value::as_document).and_then(|stage| field(stage, "$match"));
    let (base, rest) = match (collection, first.and_then(Value::as_document)) {
        (None, _) => (Documents::new(), &pipeline[..]),
        // A filter at the front is a search.
        (Some(collection), Some(filter)) => (of_filter(&name, collection, filter, &scope)?, &pipeline[1..]),
        (Some(collection), None) => (of_filter(&name, collection, &Document::new(), &scope)?, &pipeline[..]),
    };
    let made = stages::run(rest, base, &scope)?;
    let last = pipeline.last().and_then(Value::as_document).and_then(|stage| stage.first());
    match last {
        Some((stage, argument)) if stage == "$out" || stage == "$merge" => {
            if !call.session.is_primary() {
                return Err(Failure::not_primary());
            }
            super::write::put_back(stage, argument, made, call)?;
            opened(Source::Ready(Vec::new().into_iter()), &name, batch, call)
        }
        _ => opened(Source::Ready(made.into_iter()), &name, batch, call),
    }
}
