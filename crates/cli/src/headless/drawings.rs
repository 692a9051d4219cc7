//! `jaunty plan` and `jaunty schema`: what the screen draws, as text and as files.

use std::io::IsTerminal;
use std::path::Path;
use std::sync::Arc;

use jaunty_engines::by_name;
use jaunty_serve::socket::Tell;
use jaunty_serve::wire::{INVALID_PARAMS, Refusal};
use serde_json::{Map, Value, json};

use super::run::{file_and_line, tasks_of};
use super::serve::service;
use crate::args::{Plan, Schema};
use crate::failure::Failure;

/// A refusal of the interface as what the program ends with.
fn failure(refusal: Refusal) -> Failure {
    if refusal.code == INVALID_PARAMS { Failure::Usage(refusal.message) } else { Failure::Database(refusal.message) }
}

fn absolute(path: &Path) -> Result<String, Failure> {
    let path = std::path::absolute(path).map_err(|error| Failure::Usage(error.to_string()))?;
    Ok(path.to_string_lossy().into_owned())
}

/// Prints the plan of a statement, and draws it where that is asked for.
pub fn plan(args: &Plan) -> Result<(), Failure> {
    let statement = match (&args.statement, &args.place) {
        (Some(statement), _) => statement.clone(),
        (None, Some(place)) => statement_at(args, place)?,
        (None, None) => return Err(Failure::Usage("name a statement, or a file and a line".to_owned())),
    };
    let mut values = Map::new();
    for given in &args.parameters {
        let (name, value) = given
            .split_once('=')
            .ok_or_else(|| Failure::Usage(format!("--parameter takes NAME=VALUE, and \"{given}\" has no =")))?;
        values.insert(name.to_owned(), json!(value));
    }
    let mut params = json!({
        "connection": args.connection, "statement": statement, "measured": args.measured, "values": values,
    });
    if let Some(path) = &args.output {
        params["path"] = json!(absolute(path)?);
    }
    let tell: Tell = Arc::new(|_| true);
    let plan = service()?.answer("plan", &params, &tell).map_err(failure)?;
    match args.json {
        true => super::print(&format!("{plan}\n")),
        false => super::print(plan["text"].as_str().unwrap_or_default()),
    }
}

/// The statement at a line of a file, in the language of the connection.
fn statement_at(args: &Plan, place: &str) -> Result<String, Failure> {
    let (path, line) = file_and_line(place);
    let line = line.ok_or_else(|| Failure::Usage("name the line, as in statements.sql:12".to_owned()))?;
    let connections = crate::open::connections(&crate::open::folders()?);
    let profile = crate::open::profile(&args.connection, &connections)?;
    let engine =
        by_name(&profile.engine).ok_or_else(|| Failure::Usage(format!("unknown engine {}", profile.engine)))?;
    let tasks = tasks_of(&super::read(&path)?, engine.dialect(), Some(line), None)?;
    let first = tasks.into_iter().next().ok_or_else(|| Failure::Usage("no statement there".to_owned()))?;
    Ok(first.job.sent().into_owned())
}

/// Draws tables to a file.
pub fn schema(args: &Schema) -> Result<(), Failure> {
    let mut params = json!({"connection": args.connection, "path": absolute(&args.output)?, "depth": args.depth});
    for (name, value) in [("table", &args.table), ("schema", &args.schema)] {
        if let Some(value) = value {
            params[name] = json!(value);
        }
    }
    let tell: Tell = Arc::new(|_| true);
    let drawn: Value = service()?.answer("catalog.draw", &params, &tell).map_err(failure)?;
    if std::io::stderr().is_terminal() {
        let tables = jaunty_core::words::count(drawn["tables"].as_u64().unwrap_or_default(), "table");
        eprintln!("{tables} in {}", args.output.display());
    }
    Ok(())
}
