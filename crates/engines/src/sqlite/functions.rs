//! Functions that SQLite leaves to those who build it in.

use std::sync::Arc;

use regex::Regex;
use rusqlite::Connection;
use rusqlite::functions::FunctionFlags;
use rusqlite::types::ValueRef;

/// Adds `regexp(expression, text)`, which the operator `text regexp expression` calls, as SQLite's
/// documentation of expressions has it. A number is what it is shown as; NULL fits nothing.
pub(super) fn add(connection: &Connection) -> rusqlite::Result<()> {
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC | FunctionFlags::SQLITE_INNOCUOUS;
    connection.create_scalar_function("regexp", 2, flags, |context| {
        // SQLite keeps it from row to row where the expression is the same text.
        let expression: Arc<Regex> =
            context.get_or_create_aux(0, |value| -> Result<_, Failure> { Ok(Regex::new(value.as_str()?)?) })?;
        Ok(match context.get_raw(1) {
            ValueRef::Null => None,
            ValueRef::Integer(value) => Some(expression.is_match(&value.to_string())),
            ValueRef::Real(value) => Some(expression.is_match(&format!("{value:?}"))),
            ValueRef::Text(bytes) | ValueRef::Blob(bytes) => Some(expression.is_match(&String::from_utf8_lossy(bytes))),
        })
    })
}

type Failure = Box<dyn std::error::Error + Send + Sync>;
