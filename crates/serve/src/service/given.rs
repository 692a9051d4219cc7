//! The parameters of a call, once they were held to the table of methods.

use jaunty_core::run::Job;
use jaunty_core::run::execute::kept_instead;
use jaunty_language::dialect::Dialect;
use jaunty_language::edit::snippet::unfilled;
use jaunty_language::outline::Outline;
use jaunty_language::statement::parameters::{self, ParameterValue};
use ropey::Rope;
use serde_json::{Map, Value};

use crate::wire::Refusal;

/// Parameters by their names.
pub(super) type Given = Map<String, Value>;

/// A text parameter.
pub(super) fn text<'a>(given: &'a Given, name: &str) -> &'a str {
    given.get(name).and_then(Value::as_str).unwrap_or_default()
}

pub(super) fn number(given: &Given, name: &str) -> Option<u64> {
    given.get(name).and_then(Value::as_u64)
}

pub(super) fn flag(given: &Given, name: &str) -> bool {
    given.get(name).and_then(Value::as_bool).unwrap_or_default()
}

pub(super) fn failed(error: impl std::fmt::Display) -> Refusal {
    Refusal::failed(error.to_string())
}

/// The one statement that is given, ready to run, with its values.
pub(super) fn job_of(given: &Given, dialect: &'static Dialect) -> Result<Job, Refusal> {
    let rope = Rope::from_str(text(given, "statement"));
    let outline = Outline::new(&rope, dialect);
    let [statement] = outline.statements() else {
        let count = outline.statements().len();
        return Err(Refusal::params(format!("statement has to be one statement, and is {count}")));
    };
    if !statement.closed {
        return Err(Refusal::params("the statement has a quote or comment that never closes"));
    }
    let mut job = Job::of(statement, &rope, dialect, None);
    job.kept = kept_instead(&job.statement, dialect);
    if let Some(place) = unfilled(&job.statement, dialect) {
        let name = job.statement.get(place).unwrap_or_default();
        return Err(Refusal::params(format!("{name} was not filled in; nothing was run")));
    }
    let values = given.get("values").and_then(Value::as_object).cloned().unwrap_or_default();
    let names = parameters::names(&job.sent(), dialect);
    for name in &names {
        let given = values.iter().find(|(given, _)| parameters::means(given, name));
        let value = given.and_then(|(_, value)| value.as_str());
        let value = value.ok_or_else(|| Refusal::params(format!("{name} has no value; give it in values")))?;
        job.values.push((name.clone(), ParameterValue::read(value)));
    }
    match values.keys().find(|given| !names.iter().any(|name| parameters::means(given, name))) {
        Some(extra) => Err(Refusal::params(format!("the statement has no parameter {extra}"))),
        None => Ok(job),
    }
}
