//! Rows for a table in a message of their own ([MS-TDS] 2.2.6.1), behind `INSERT BULK`.

use rusqlite::params_from_iter;
use rusqlite::types::Value;

use super::{COUNTED, Fault, Outcome, Session, syntax};

use crate::tds::lex::Token;
use crate::tds::parse::parted;
use crate::tds::say::Line;
use crate::tds::sent::{Reader, Sent};
use crate::tds::sqlite;
use crate::tds::types::Type;

/// What `INSERT BULK` announced.
#[derive(Debug, Clone)]
pub(super) struct Bulk {
    /// The table, as SQLite knows it.
    table: Vec<Token>,
    columns: Vec<String>,
    checks: bool,
    keeps_nulls: bool,
}

impl Session {
    /// `INSERT BULK table (column type, …) WITH (…)`: rows follow in the next message.
    pub(super) fn announce(&mut self, tokens: &[Token], line: u32) -> Option<Outcome> {
        if !(tokens.first()?.is("insert") && tokens.get(1)?.is("bulk")) {
            return None;
        }
        let wrong =
            |near: &str| Some(Err(Fault::Raised(syntax(format!("Incorrect syntax near '{near}'."), line), true)));
        if self.shared.options.lacks_bulk {
            return wrong("bulk");
        }
        let rest = tokens.get(2..)?;
        let Some(open) = rest.iter().position(|token| token.is("(")) else { return wrong("bulk") };
        let mut depth = 0_i32;
        let close = rest.iter().enumerate().skip(open).find_map(|(at, token)| {
            depth += i32::from(token.is("(")) - i32::from(token.is(")"));
            (depth == 0).then_some(at)
        });
        let Some(close) = close else { return wrong("(") };
        let columns = parted(rest.get(open + 1..close)?);
        let columns: Vec<String> = columns.iter().filter_map(|part| Some(part.first()?.text.clone())).collect();
        let has = |word: &str| rest.get(close..).is_some_and(|rest| rest.iter().any(|token| token.is(word)));
        let (table, _) = self.reached(rest.get(..open)?);
        let bulk = Bulk { table, columns, checks: has("check_constraints"), keeps_nulls: has("keep_nulls") };
        // What is not there is told before any row is sent.
        let asked = format!("select {} from {}", listed(&bulk.columns), sqlite::written(&bulk.table));
        let found = self.db.prepare(&asked).map(drop).map_err(|error| self.fault(&error, tokens, line));
        Some(found.and_then(|()| {
            self.bulk = Some(bulk);
            self.done(0, 0, 0)
        }))
    }

    /// The rows that were announced.
    pub(super) fn rows(&mut self, message: &[u8]) -> Outcome {
        let Some(bulk) = self.bulk.take() else {
            return Err(Fault::Raised(syntax("Rows came that nothing announced.".into(), 1), true));
        };
        let broken = || self.plain(4804, "The description of the rows could not be read.", 1);
        let mut from = Reader { bytes: message, at: 0 };
        if from.u8() != Some(0x81) {
            return Err(broken());
        }
        let count = from.u16().ok_or_else(broken)?;
        let mut columns: Vec<Sent> = Vec::new();
        for _ in 0..count {
            from.take(6).ok_or_else(broken)?;
            columns.push(from.sent().ok_or_else(broken)?);
            let length = from.u8().ok_or_else(broken)?;
            from.text(length.into()).ok_or_else(broken)?;
        }
        if columns.len() != bulk.columns.len() {
            return Err(broken());
        }
        self.db.execute_batch("savepoint bulk").map_err(|error| self.fault(&error, &[], 1))?;
        if !bulk.checks {
            let _ = self.db.execute_batch("pragma ignore_check_constraints = on");
        }
        let taken = self.take_rows(&bulk, &columns, &mut from);
        let end = if taken.is_ok() { "release bulk" } else { "rollback to bulk; release bulk" };
        let ended = self.db.execute_batch(end);
        let _ = self.db.execute_batch("pragma ignore_check_constraints = off");
        let taken = taken?;
        ended.map_err(|error| self.fault(&error, &[], 1))?;
        self.done(COUNTED, 0xF0, taken)
    }

    fn take_rows(&self, bulk: &Bulk, columns: &[Sent], from: &mut Reader<'_>) -> Outcome<u64> {
        let types = self.types_of(bulk);
        let mut taken = 0;
        loop {
            match from.u8() {
                Some(0xD1) => {}
                Some(0xFD) if from.take(12).is_some() => return Ok(taken),
                // Not every client says that it has done.
                None => return Ok(taken),
                _ => return Err(self.plain(4804, "The rows end in the middle.", 1)),
            }
            taken += 1;
            let mut values = Vec::with_capacity(columns.len());
            for (at, sent) in columns.iter().enumerate() {
                let value = from.value_of(*sent).ok_or_else(|| self.plain(4804, "A value could not be read.", 1))?;
                let of = types.get(at).copied().flatten();
                let name = bulk.columns.get(at).map_or("", String::as_str);
                values.push(self.fitting(value, of, (taken, at + 1, name))?);
            }
            self.put_row(bulk, values)?;
        }
    }

    fn put_row(&self, bulk: &Bulk, values: Vec<Value>) -> Outcome {
        // Where NULLs are not kept a column that has a default gets that.
        let given = |value: &Value| bulk.keeps_nulls || *value != Value::Null;
        let named = bulk.columns.iter().zip(values).filter(|(_, value)| given(value));
        let (names, values): (Vec<String>, Vec<Value>) = named.map(|(name, value)| (name.clone(), value)).unzip();
        let table = sqlite::written(&bulk.table);
        let text = match names.len() {
            0 => format!("insert into {table} default values"),
            count => format!("insert into {table} ({}) values ({})", listed(&names), vec!["?"; count].join(", ")),
        };
        let put = self.db.prepare_cached(&text).and_then(|mut put| put.execute(params_from_iter(values)));
        put.map(drop).map_err(|error| self.fault(&error, &bulk.table, 1))
    }

    /// A value as its column holds it, or the server's word on why it does not.
    fn fitting(&self, value: Value, of: Option<Type>, (row, at, name): (u64, usize, &str)) -> Outcome<Value> {
        let refused = |number: i32, why: &str| {
            let text = format!("Bulk load data conversion error ({why}) for row {row}, column {at} ({name}).");
            Fault::Raised(Line { class: 16, ..Line { number, ..syntax(text, 1) } }, true)
        };
        let Value::Text(text) = &value else { return Ok(value) };
        let number = |text: &str| text.trim().parse::<f64>().is_ok_and(f64::is_finite);
        match of {
            Some(Type::Int(_)) if text.trim().parse::<i64>().is_err() => Err(refused(4864, "type mismatch")),
            Some(Type::Decimal(..) | Type::Money(_) | Type::Float(_)) if !number(text) => {
                Err(refused(4864, "type mismatch"))
            }
            Some(Type::Bit) => match text.trim().to_ascii_lowercase().as_str() {
                "true" | "1" => Ok(Value::Integer(1)),
                "false" | "0" => Ok(Value::Integer(0)),
                _ => Err(refused(4864, "type mismatch")),
            },
            Some(Type::NVarChar(Some(most)) | Type::VarChar(Some(most)) | Type::NChar(most) | Type::Char(most))
                if text.encode_utf16().count() > most.into() =>
            {
                Err(refused(4863, "truncation"))
            }
            _ => Ok(value),
        }
    }

    /// The types of the columns that were announced.
    fn types_of(&self, bulk: &Bulk) -> Vec<Option<Type>> {
        let asked = format!("select {} from {}", listed(&bulk.columns), sqlite::written(&bulk.table));
        let Ok(prepared) = self.db.prepare(&asked) else { return Vec::new() };
        prepared.columns().map(|column| column.decl_type().and_then(Type::declared)).collect()
    }
}

fn listed(names: &[String]) -> String {
    let quoted: Vec<String> = names.iter().map(|name| format!("\"{}\"", name.replace('"', "\"\""))).collect();
    quoted.join(", ")
}
