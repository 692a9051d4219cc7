//! Runs and columns as programs are told of them.

use std::sync::Arc;
use std::time::UNIX_EPOCH;

use arrow_schema::SchemaRef;
use jaunty_core::logbook::{Entry, KeptResult};
use jaunty_core::run::{Run, RunResult};
use jaunty_core::words;
use serde_json::{Map, Value, json};

/// The columns of a result.
pub(super) fn columns(schema: &SchemaRef) -> Value {
    let one = |field: &Arc<arrow_schema::Field>| {
        let db_type = field.metadata().get(jaunty_seam::rows::DB_TYPE).cloned().unwrap_or_default();
        json!({"name": field.name(), "type": db_type, "nullable": field.is_nullable()})
    };
    schema.fields().iter().map(one).collect()
}

/// A run that has ended, for programs.
pub(super) fn run_json(run: &Run) -> Value {
    let results: Value = run
        .results()
        .iter()
        .map(|result| match result {
            RunResult::Rows(kept) => match kept.archive() {
                Ok(archive) => json!({"rows": archive.rows(), "columns": columns(&archive.schema())}),
                Err(error) => json!({"error": error.to_string()}),
            },
            RunResult::Affected(rows) => json!({"changed": rows}),
        })
        .collect();
    let error = run.end().and_then(|end| end.error.as_ref());
    let error = error
        .map(|error| json!({"message": error.message, "code": error.code, "at": error.at, "remedy": error.remedy}));
    json!({
        "run": run.number,
        "outcome": run.outcome().word(),
        "rows": run.rows(),
        "changed": run.affected(),
        "started_ms": run.started.duration_since(UNIX_EPOCH).map_or(0, |since| since.as_millis() as u64),
        "duration_ms": run.duration().as_millis() as u64,
        "error": error,
        "messages": run.messages().iter().map(words::message).collect::<Vec<_>>(),
        "results": results,
    })
}

/// A run of the logbook, for programs.
pub fn entry_json(entry: &Entry) -> Value {
    let results: Vec<_> = entry
        .results
        .iter()
        .map(|result| match result {
            KeptResult::Rows(path) => json!({ "rows": path }),
            KeptResult::Affected(rows) => json!({ "changed": rows }),
        })
        .collect();
    json!({
        "run": entry.number,
        "connection": entry.connection,
        "engine": entry.engine,
        "database": entry.database,
        "title": entry.title,
        "statement": entry.statement,
        "parameters": entry.values.iter().map(|(name, value)| (name.clone(), value.written().into())).collect::<Map<_, _>>(),
        "session": entry.session,
        "started_ms": entry.started_ms,
        "first_row_ms": entry.ended.first_row_ms,
        "duration_ms": entry.ended.duration_ms,
        "rows": entry.ended.rows,
        "bytes": entry.ended.bytes,
        "outcome": entry.outcome.word(),
        "error": entry.ended.error,
        "pinned": entry.pinned,
        "rolled_back": entry.rolled_back,
        "results": results,
    })
}
