//! `jaunty plan` and `jaunty schema`: what the screen shows and draws, as text and as files.

use std::io::IsTerminal;
use std::path::Path;
use std::sync::Arc;

use jaunty_engines::by_name;
use jaunty_language::dialect::Dialect;
use jaunty_language::statement::parameters;
use jaunty_language::text::clean::{clean, clean_lines};
use jaunty_language::text::numbers;
use jaunty_seam::engine::Engine;
use jaunty_serve::service::Service;
use jaunty_serve::socket::Tell;
use jaunty_serve::wire::{INVALID_PARAMS, Refusal};
use serde_json::{Map, Value, json};

use super::serve::service;
use super::tasks::{
    Task, connection_and, connection_of, file_and_line, give_values, statements_of, tasks_in, tasks_of, without_value,
};
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

/// The interface, and the name by which it knows a connection: one of a connections file, or a database file or a URL.
fn service_of(connection: &str) -> Result<(Service, String), Failure> {
    let profile = crate::open::profile(connection, &crate::open::connections(&crate::open::folders()?))?;
    let name = profile.name.clone();
    let service = service()?.asking(Arc::new(crate::open::Terminal));
    Ok((if profile.file.is_none() { service.knowing(profile) } else { service }, name))
}

/// Prints the plan of a statement, and draws it where that is asked for.
pub fn plan(args: &Plan) -> Result<(), Failure> {
    let connection = connection_of(args.connection.as_deref(), args.place.as_deref())?;
    let dialect = dialect_of(&connection)?;
    let mut tasks = match (&args.statement, &args.place) {
        (Some(statement), _) => tasks_of(statement, dialect, None, None)?,
        (None, Some(place)) => tasks_at(place, dialect)?,
        (None, None) => return Err(Failure::Usage("name a statement, or a file and a line".to_owned())),
    };
    give_values(&mut tasks, &args.parameters, dialect)?;
    let [Task { job, .. }] = tasks.as_slice() else {
        return Err(Failure::Usage(format!("a plan is of one statement, and these are {}", tasks.len())));
    };
    let names = parameters::names(&job.sent(), dialect);
    if let Some(name) = names.iter().find(|name| !job.values.iter().any(|(given, _)| given == *name)) {
        return Err(Failure::Usage(without_value(name)));
    }
    let values: Map<_, _> = job.values.iter().map(|(name, value)| (name.clone(), json!(value.written()))).collect();
    let mut params = json!({"statement": job.sent(), "measured": args.measured, "values": values});
    if let Some(path) = &args.output {
        params["path"] = json!(absolute(path)?);
    }
    let (service, connection) = service_of(&connection)?;
    params["connection"] = json!(connection);
    let tell: Tell = Arc::new(|_| true);
    let plan = service.answer("plan", &params, &tell).map_err(failure)?;
    match args.json {
        true => super::print(&format!("{plan}\n")),
        false => super::print(plan["text"].as_str().unwrap_or_default()),
    }
}

/// The language of a connection.
fn dialect_of(connection: &str) -> Result<&'static Dialect, Failure> {
    let connections = crate::open::connections(&crate::open::folders()?);
    let profile = crate::open::profile(connection, &connections)?;
    let engine = by_name(&profile.engine);
    engine.map(Engine::dialect).ok_or_else(|| Failure::Usage(format!("unknown engine {}", profile.engine)))
}

/// The statement at a line of a file.
fn tasks_at(place: &str, dialect: &'static Dialect) -> Result<Vec<Task>, Failure> {
    let (path, line) = file_and_line(place);
    let line = match line {
        Some(line) => line,
        // A statement is easily given where a file is meant.
        None if !path.exists() && place.trim().contains(' ') => {
            return Err(Failure::Usage(
                "a statement is given with --statement, a file with a line: statements.sql:12".into(),
            ));
        }
        None => return Err(Failure::Usage("name the line, as in statements.sql:12".into())),
    };
    let statements = statements_of(&path, Some(line), (None, dialect))?;
    tasks_in(&statements, dialect, Some(line), None)
}

/// Draws tables to a file; without a file, lists what there is, or describes one object.
pub fn schema(args: &Schema) -> Result<(), Failure> {
    let (connection, words) = connection_and(args.connection.as_deref(), &args.words)?;
    let mut table = match words {
        [] => None,
        [table] => Some(table),
        [_, more, ..] => return Err(Failure::Usage(format!("one table at a time: what is {}?", clean(more)))),
    };
    let (service, connection) = service_of(connection)?;
    let mut params = json!({"connection": connection, "refresh": true});
    if let Some(schema) = &args.schema {
        params["schema"] = json!(schema);
    }
    let tell: Tell = Arc::new(|_| true);
    let ask = |method: &str, params: &Value| service.answer(method, params, &tell).map_err(failure);
    // A schema may be named in its place, where no object is called so.
    if let Some(name) = table.filter(|_| args.schema.is_none()) {
        let of_schema = ask("catalog.objects", &json!({"connection": connection, "schema": name, "refresh": true}))?;
        params["refresh"] = json!(false);
        let object = || ask("catalog.object", &json!({"connection": connection, "name": name}));
        if of_schema.as_array().is_some_and(|objects| !objects.is_empty()) && object().is_err() {
            (params["schema"], table) = (json!(name), None);
        }
    }
    if let Some(file) = &args.output {
        (params["path"], params["depth"]) = (json!(absolute(file)?), json!(args.depth));
        if let Some(table) = table {
            params["table"] = json!(table);
        }
        let drawn = ask("catalog.draw", &params)?;
        if std::io::stderr().is_terminal() {
            let tables = jaunty_core::words::count(drawn["tables"].as_u64().unwrap_or_default(), "table");
            eprintln!("{tables} in {}", file.display());
        }
        return Ok(());
    }
    let told = match table {
        Some(table) => {
            params["name"] = json!(table);
            ask("catalog.object", &params)?
        }
        None => ask("catalog.objects", &params)?,
    };
    match (args.json, table) {
        (true, _) => super::print(&format!("{told:#}\n")),
        (false, Some(_)) => super::print(&described(&told)),
        (false, None) => super::print(&listed(&told)),
    }
}

fn text<'v>(value: &'v Value, key: &str) -> &'v str {
    value[key].as_str().unwrap_or_default()
}

/// All objects, a line each: kind, name, rows and size as estimated, comment.
fn listed(objects: &Value) -> String {
    let objects: Vec<&Value> = objects.as_array().into_iter().flatten().collect();
    if objects.is_empty() {
        return "Nothing here.\n".to_owned();
    }
    let several = objects.iter().any(|object| object["schema"] != objects[0]["schema"]);
    let head = ["kind", "name", "rows", "size", "comment"].map(str::to_owned);
    let rows = objects.iter().map(|object| {
        let schema = text(object, "schema");
        let name = text(object, "name");
        let counted = |key: &str, show: fn(u64) -> String| object[key].as_u64().map(show).unwrap_or_default();
        [
            text(object, "kind").to_owned(),
            if several && !schema.is_empty() { format!("{schema}.{name}") } else { name.to_owned() },
            counted("rows", |rows| format!("~{}", numbers::grouped(rows))),
            counted("bytes", numbers::bytes),
            // A comment of several lines would be several objects.
            text(object, "comment").split_whitespace().collect::<Vec<_>>().join(" "),
        ]
    });
    super::aligned(&[head].into_iter().chain(rows).collect::<Vec<_>>())
}

/// One object, section by section, and the statement that makes it where that says more.
fn described(object: &Value) -> String {
    let schema = Some(text(object, "schema")).filter(|schema| !schema.is_empty());
    let of = schema.map(|schema| format!(" · {schema}")).unwrap_or_default();
    let mut told = format!("{} {}{of}\n", text(object, "kind"), text(object, "name"));
    let mut section = "";
    for line in object["shape"].as_array().into_iter().flatten() {
        if text(line, "section") != section {
            section = text(line, "section");
            told.push_str(&format!("\n{section}\n"));
        }
        told.push_str(&format!("  {}\n", text(line, "text")));
    }
    // Of a table it would say the same again.
    let says_more = object["columns"].as_array().is_none_or(Vec::is_empty) || text(object, "kind").ends_with("view");
    if says_more && !text(object, "definition").is_empty() {
        told.push_str(&format!("\n{}\n", text(object, "definition")));
    }
    clean_lines(&told) + "\n"
}
