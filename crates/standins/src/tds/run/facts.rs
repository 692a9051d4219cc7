//! What functions tell of the session: `@@rowcount`, `db_name()`, the error that is being handled.

use std::sync::Arc;

use rusqlite::Connection;
use rusqlite::functions::FunctionFlags;
use rusqlite::types::Value;

use super::{Facts, Session};
use crate::tds::{held, say};

impl Session {
    pub(super) fn fact(&self, name: &str, value: Value) {
        held(&self.facts).insert(name.to_owned(), value);
    }

    pub(super) fn tell_facts(&self) {
        let text = |text: &str| Value::Text(text.to_owned());
        let session = held(&self.wire).session;
        let error = self.handled.clone();
        let mut facts = held(&self.facts);
        let mut put = |name: &str, value: Value| {
            facts.insert(name.to_owned(), value);
        };
        put("@@spid", Value::Integer(session.into()));
        put("@@trancount", Value::Integer(self.open));
        put("@@version", text("SQL Server, a stand-in over SQLite"));
        put("@@servername", text(say::NAME));
        put("db_name", text(&self.database));
        put("schema_name", text("dbo"));
        put("suser_sname", text(&self.guest.user));
        put("original_login", text(&self.guest.user));
        put("user_name", text("dbo"));
        put("app_name", text(&self.guest.program));
        put("host_name", text(&self.guest.machine));
        put("xact_state", Value::Integer(i64::from(self.open > 0)));
        let number = |number: Option<i64>| number.map_or(Value::Null, Value::Integer);
        put("error_number", number(error.as_ref().map(|line| line.number.into())));
        put("error_line", number(error.as_ref().map(|line| line.line.into())));
        put("error_severity", number(error.as_ref().map(|line| line.class.into())));
        put("error_state", number(error.as_ref().map(|line| line.state.into())));
        put("error_message", error.as_ref().map_or(Value::Null, |line| text(&line.text)));
        put(
            "error_procedure",
            error.as_ref().filter(|line| !line.procedure.is_empty()).map_or(Value::Null, |line| text(&line.procedure)),
        );
    }
}

/// Functions that tell what the session knows.
pub(super) fn add_facts(db: &Connection, facts: &Facts) -> rusqlite::Result<()> {
    let plain = FunctionFlags::SQLITE_UTF8;
    let names = [
        "db_name",
        "schema_name",
        "suser_sname",
        "original_login",
        "user_name",
        "app_name",
        "host_name",
        "xact_state",
        "scope_identity",
        "error_number",
        "error_line",
        "error_severity",
        "error_state",
        "error_message",
        "error_procedure",
    ];
    for name in names {
        let facts = Arc::clone(facts);
        db.create_scalar_function(name, -1, plain, move |_| {
            Ok(held(&facts).get(name).cloned().unwrap_or(Value::Null))
        })?;
    }
    let known = Arc::clone(facts);
    db.create_scalar_function("server_variable", 1, plain, move |context| {
        let name: String = context.get(0)?;
        Ok(held(&known).get(&name).cloned().unwrap_or(Value::Integer(0)))
    })?;
    db.create_scalar_function("serverproperty", 1, plain, |context| {
        let name: String = context.get(0)?;
        Ok(match name.to_ascii_lowercase().as_str() {
            "productversion" => Value::Text("16.0.4100.0".into()),
            "edition" => Value::Text("Stand-in".into()),
            "collation" => Value::Text("Latin1_General_CI_AS".into()),
            _ => Value::Null,
        })
    })
}
