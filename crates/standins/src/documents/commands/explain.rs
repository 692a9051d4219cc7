//! Plans ("Explain Results").

use std::time::Instant;

use super::super::failure::Failure;
use super::super::matching;
use super::super::session::Call;
use super::super::stages;
use super::super::store::Collection;
use super::super::value::{Document, Value, document, field};
use super::{document_of, target};

pub fn explain(command: &Document, call: &mut Call<'_>) -> Result<Document, Failure> {
    let inner = document_of(command, "explain");
    let verbosity = field(command, "verbosity").and_then(Value::as_text).unwrap_or("allPlansExecution");
    let measured = (verbosity != "queryPlanner").then_some(verbosity);
    let (name, _) = inner.first().cloned().ok_or_else(|| Failure::bad("explain command requires a nested object"))?;
    let collection = target(&inner)?;
    match name.as_str() {
        "find" => of_filter(&collection, &document_of(&inner, "filter"), &inner, measured, call),
        "count" | "distinct" => of_filter(&collection, &document_of(&inner, "query"), &inner, measured, call),
        "aggregate" => {
            let pipeline = field(&inner, "pipeline").and_then(Value::as_array).unwrap_or_default().to_vec();
            of_pipeline(&collection, &pipeline, measured, call)
        }
        "update" | "delete" => {
            let list = if name == "update" { "updates" } else { "deletes" };
            let first =
                field(&inner, list).and_then(Value::as_array).and_then(<[Value]>::first).and_then(Value::as_document);
            let filter = first.map_or_else(Document::new, |first| document_of(first, "q"));
            of_filter(&collection, &filter, &Document::new(), measured, call)
        }
        other => Err(Failure::new(59, "CommandNotFound", format!("Explain failed due to unknown command: {other}"))),
    }
}

/// A stage of a plan around another.
fn around(name: &str, more: Document, inner: Document) -> Document {
    let mut stage = document([("stage", Value::text(name))]);
    stage.extend(more);
    stage.push(("inputStage".to_owned(), Value::Document(inner)));
    stage
}

/// What a search reads.
struct Read {
    plan: Document,
    keys: u64,
    documents: u64,
    found: u64,
}

fn read(collection: Option<&Collection>, filter: &Document, measured: bool, call: &Call<'_>) -> Result<Read, Failure> {
    let Some(collection) = collection else {
        return Ok(Read { plan: document([("stage", Value::text("EOF"))]), keys: 0, documents: 0, found: 0 });
    };
    let (store, found) = (call.store(), collection.plan(filter));
    let scope = call.scope(&store, Some(collection));
    let mut read =
        Read { plan: Document::new(), keys: found.keys_examined, documents: found.numbers.len() as u64, found: 0 };
    // Mistakes in it come to light without a document too.
    matching::fits(filter, &[], &scope)?;
    let is_view = collection.view().is_some();
    if measured && !is_view {
        for number in &found.numbers {
            scope.go_on()?;
            let fits = collection.at(*number).map_or(Ok(false), |one| matching::fits(filter, one, &scope))?;
            read.found += u64::from(fits);
        }
    }
    let near = filter.iter().find(|(_, wanted)| {
        wanted.as_document().is_some_and(|wanted| field(wanted, "$near").or(field(wanted, "$nearSphere")).is_some())
    });
    read.plan = match (found.index, near) {
        (_, Some((path, _))) => {
            let index = collection
                .indexes
                .iter()
                .find(|index| field(&index.keys, path).is_some_and(|way| way.as_text() == Some("2dsphere")));
            let index = index.ok_or_else(|| Failure::new(291, "NoQueryExecutionPlans", "error processing query: planner returned error :: caused by :: unable to find index for $geoNear query"))?;
            document([
                ("stage", Value::text("GEO_NEAR_2DSPHERE")),
                ("keyPattern", Value::Document(index.keys.clone())),
                ("indexName", Value::text(&*index.name)),
            ])
        }
        (Some((index, keys, wanted)), _) => {
            let path = keys.first().map_or("", |(path, _)| path.as_str()).to_owned();
            let scan = document([
                ("stage", Value::text("IXSCAN")),
                ("keyPattern", Value::Document(keys)),
                ("indexName", Value::Text(index)),
                ("direction", Value::text("forward")),
                ("indexBounds", Value::Document(vec![(path, wanted)])),
            ]);
            around("FETCH", document([("filter", Value::Document(filter.clone()))]), scan)
        }
        (None, _) => {
            let mut scan = document([("stage", Value::text("COLLSCAN"))]);
            if !filter.is_empty() {
                scan.push(("filter".to_owned(), Value::Document(filter.clone())));
            }
            scan.push(("direction".to_owned(), Value::text("forward")));
            scan
        }
    };
    Ok(read)
}

fn reply(
    namespace: String,
    filter: &Document,
    plan: Document,
    read: &Read,
    returned: u64,
    since: Instant,
    measured: Option<&str>,
) -> Document {
    let planner = document([
        ("namespace", Value::Text(namespace)),
        ("parsedQuery", Value::Document(filter.clone())),
        ("winningPlan", Value::Document(plan.clone())),
        ("rejectedPlans", Value::Array(Vec::new())),
    ]);
    let mut made = document([("explainVersion", Value::text("1")), ("queryPlanner", Value::Document(planner))]);
    if measured.is_some() {
        let mut stages = plan;
        stages.push(("nReturned".to_owned(), Value::whole(returned as i64)));
        stages.push(("docsExamined".to_owned(), Value::whole(read.documents as i64)));
        let measures = document([
            ("executionSuccess", Value::Bool(true)),
            ("nReturned", Value::whole(returned as i64)),
            ("executionTimeMillis", Value::whole(since.elapsed().as_millis() as i64)),
            ("totalKeysExamined", Value::whole(read.keys as i64)),
            ("totalDocsExamined", Value::whole(read.documents as i64)),
            ("executionStages", Value::Document(stages)),
        ]);
        made.push(("executionStats".to_owned(), Value::Document(measures)));
    }
    made
}

fn of_filter(
    name: &str,
    filter: &Document,
    command: &Document,
    measured: Option<&str>,
    call: &Call<'_>,
) -> Result<Document, Failure> {
    let (since, store) = (Instant::now(), call.store());
    let read = read(store.collection(&call.database, name), filter, measured.is_some(), call)?;
    let mut plan = read.plan.clone();
    let (sort, limit) = (document_of(command, "sort"), field(command, "limit").and_then(Value::as_i64).unwrap_or(0));
    if !sort.is_empty() {
        plan = around("SORT", document([("sortPattern", Value::Document(sort))]), plan);
    }
    let mut returned = read.found;
    if limit > 0 {
        plan = around("LIMIT", document([("limitAmount", Value::whole(limit))]), plan);
        returned = returned.min(limit.unsigned_abs());
    }
    let projection = document_of(command, "projection");
    if !projection.is_empty() {
        plan = around("PROJECTION_SIMPLE", document([("transformBy", Value::Document(projection))]), plan);
    }
    Ok(reply(call.namespace(name), filter, plan, &read, returned, since, measured))
}

pub fn of_pipeline(
    name: &str,
    pipeline: &[Value],
    measured: Option<&str>,
    call: &Call<'_>,
) -> Result<Document, Failure> {
    let since = Instant::now();
    let first = pipeline.first().and_then(Value::as_document).and_then(|stage| field(stage, "$match"));
    let filter = first.and_then(Value::as_document).cloned().unwrap_or_default();
    let rest = if first.is_some() { &pipeline[1..] } else { pipeline };
    let store = call.store();
    let collection = store.collection(&call.database, name);
    let read = read(collection, &filter, measured.is_some(), call)?;
    let inner = reply(call.namespace(name), &filter, read.plan.clone(), &read, read.found, since, measured);
    if rest.is_empty() {
        return Ok(inner);
    }
    let mut all = vec![Value::Document(document([("$cursor", Value::Document(inner))]))];
    let scope = call.scope(&store, collection);
    let mut documents = match collection.filter(|_| measured.is_some()) {
        Some(own) => super::read::of_filter(name, own, &filter, &scope)?,
        None => Vec::new(),
    };
    if measured.is_none() {
        stages::run(rest, Vec::new(), &scope)?;
    }
    for stage in rest {
        let mut shown = stage.as_document().cloned().unwrap_or_default();
        if measured.is_some() {
            documents = stages::run(std::slice::from_ref(stage), documents, &scope)?;
            shown.push(("nReturned".to_owned(), Value::Long(documents.len() as i64)));
            shown.push(("executionTimeMillisEstimate".to_owned(), Value::Long(since.elapsed().as_millis() as i64)));
        }
        all.push(Value::Document(shown));
    }
    Ok(document([("explainVersion", Value::text("1")), ("stages", Value::Array(all))]))
}
