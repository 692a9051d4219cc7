//! What a statement would do, told without carrying it out: how much it would touch, and whether the server would take it.

use jaunty_documents::Bson;
use jaunty_documents::bson::field;
use jaunty_language::dialect::documents::read::Value;
use jaunty_language::dialect::documents::statement::{self, Command};
use jaunty_seam::engine::{Effect, Request, Touches, Verdict};
use jaunty_seam::error::{EngineError, ErrorKind};

use super::session::{DocumentSession, command, pair};
use super::transactions::Word;
use super::{errors, value};

/// How many documents a write would touch: asked by counting with its filters.
fn filters(command: &Command) -> Option<(String, Vec<(Value, bool)>)> {
    let (name, collection) = command.first()?;
    let Value::Text(collection) = collection else { return None };
    let list = match name.as_str() {
        "update" => "updates",
        "delete" => "deletes",
        _ => return None,
    };
    let (_, Value::Array(each)) = command.iter().find(|(key, _)| key == list)? else { return None };
    let filters = each.iter().filter_map(|one| match one {
        Value::Object(fields) => {
            let find = |wanted: &str| fields.iter().find(|(key, _)| key == wanted).map(|(_, value)| value.clone());
            let all = find("multi") == Some(Value::Bool(true)) || find("limit") == Some(Value::Number("0".into()));
            Some((find("q")?, all))
        }
        _ => None,
    });
    Some((collection.clone(), filters.collect()))
}

/// What a statement would do: of changes and removals, how many documents their filters fit.
pub fn of(session: &mut DocumentSession, request: &Request<'_>) -> Result<Effect, EngineError> {
    if Word::of(request.text).is_some() {
        return Ok(Effect::Reads);
    }
    let command = command(request.text)?;
    if statement::reads(&command) {
        return Ok(Effect::Reads);
    }
    if let Some((collection, filters)) = filters(&command) {
        let (mut rows, mut everything) = (0, false);
        for (filter, all) in filters {
            everything |= all && filter == Value::Object(Vec::new());
            let query =
                value::bson(&filter, request.values).map_err(|what| EngineError::new(ErrorKind::Refused, what))?;
            let count = session.ask(vec![pair("count", Bson::text(collection.clone())), pair("query", query)])?;
            let fits = field(&count, "n").and_then(Bson::as_i64).unwrap_or(0).unsigned_abs();
            rows += if all { fits } else { fits.min(1) };
        }
        return Ok(Effect::Writes(Touches { rows: Some(rows), counted: true, everything }));
    }
    if command.first().is_some_and(|(name, _)| name == "insert")
        && let Some((_, Value::Array(documents))) = command.iter().find(|(key, _)| key == "documents")
    {
        let rows = Some(documents.len() as u64);
        return Ok(Effect::Writes(Touches { rows, counted: true, everything: false }));
    }
    const WRITES: &[&str] = &[
        "create",
        "createIndexes",
        "drop",
        "dropIndexes",
        "dropDatabase",
        "aggregate",
        "findAndModify",
        "collMod",
        "renameCollection",
    ];
    let known = command.first().is_some_and(|(name, _)| WRITES.contains(&name.as_str()));
    Ok(if known { Effect::Writes(Touches::default()) } else { Effect::Unknown })
}

/// Commands that a server plans without carrying them out.
const PLANNED: &[&str] = &["find", "aggregate", "count", "distinct", "update", "delete", "findAndModify"];

/// The longest that it may take over that, in milliseconds.
const CHECK: i32 = 1000;

/// Whether the server would take a statement: it is asked for its plan.
pub fn check(session: &mut DocumentSession, request: &Request<'_>) -> Result<Verdict, EngineError> {
    let Ok(command) = statement::command(request.text) else { return Ok(Verdict::Unknown) };
    let name = command.first().map_or("", |(name, _)| name);
    if !PLANNED.contains(&name) {
        return Ok(Verdict::Unknown);
    }
    let Ok(planned) = value::document(&command, request.values) else { return Ok(Verdict::Unknown) };
    let explain = vec![
        pair("explain", Bson::Document(planned)),
        pair("verbosity", Bson::text("queryPlanner")),
        pair("maxTimeMS", Bson::Int32(CHECK)),
    ];
    match session.ask(explain) {
        Ok(_) => Ok(Verdict::Accepted),
        Err(error) if error.kind == ErrorKind::Refused && !errors::is_of_asking(&error) => {
            let at = errors::place(&error.message, request.text);
            // The way out stands with it: there is room for one sentence where it is told.
            let message = match &error.remedy {
                Some(remedy) => format!("{}: {remedy}", error.message),
                None => error.message.clone(),
            };
            Err(EngineError { message, ..error }.at(at))
        }
        Err(error) if error.kind == ErrorKind::Lost => Err(error),
        Err(_) => Ok(Verdict::Unknown),
    }
}
