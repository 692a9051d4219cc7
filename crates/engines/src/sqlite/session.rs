//! An open database: running statements and telling where it is.

use std::path::Path;
use std::sync::Arc;

use jaunty_language::dialect::{Kind, SQLITE};
use jaunty_language::split;
use jaunty_language::statement::acts::{self, Acts};
use jaunty_language::statement::parameters::{ParameterValue, Value, value_of, with_literals};
use jaunty_language::statement::touched;
use jaunty_seam::catalog::{Catalog, Object};
use jaunty_seam::engine::load::{Load, NextRows};
use jaunty_seam::engine::{
    Abilities, Armed, CatalogPart, Effect, Flow, Location, Reading, Request, Session, Sink, Stop, Touches, Transaction,
    Verdict,
};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::assemble::Announced;
use jaunty_seam::rows::origin::Origin;
use rusqlite::{ColumnMetadata, Connection, InterruptHandle, Statement};

use super::open::Opened;
use super::pump::{self, PROGRESS_EVERY};
use super::{backup, catalog, errors, load};

pub(super) struct SqliteSession {
    opened: Opened,
    interrupt: Arc<InterruptHandle>,
}

impl SqliteSession {
    pub(super) fn new(opened: Opened) -> Result<Self, EngineError> {
        let interrupt = Arc::new(opened.connection.get_interrupt_handle());
        Ok(SqliteSession { opened, interrupt })
    }

    /// While what is returned lives, the wish interrupts what SQLite does. One that is there already is an error: an
    /// interrupt means nothing to what has not begun.
    fn armed(&mut self, stop: &Stop) -> Result<Armed, EngineError> {
        if stop.is_wished() {
            return Err(EngineError::stopped());
        }
        // An interrupt that comes before SQLite has begun is not remembered, and is looked for by the way.
        let wish = stop.clone();
        let handler = move || wish.is_wished();
        self.opened.connection.progress_handler(PROGRESS_EVERY, Some(handler)).map_err(|e| self.error(&e))?;
        let interrupt = Arc::clone(&self.interrupt);
        Ok(stop.arm(move || interrupt.interrupt()))
    }

    fn error(&self, error: &rusqlite::Error) -> EngineError {
        errors::statement(error, self.opened.path.as_deref())
    }

    fn carry_out(&self, statement: &str, values: &[Value]) -> Result<(), EngineError> {
        let connection = &self.opened.connection;
        let mut prepared = connection.prepare(statement).map_err(|e| self.error(&e))?;
        if values.is_empty() {
            no_parameters(&prepared)?;
        }
        for index in 1..=prepared.parameter_count() {
            let name = prepared.parameter_name(index).map_or_else(|| format!("?{index}"), str::to_owned);
            let bound = match value_of(values, &name) {
                ParameterValue::Null => prepared.raw_bind_parameter(index, rusqlite::types::Null),
                ParameterValue::Bool(value) => prepared.raw_bind_parameter(index, value),
                ParameterValue::Int(value) => prepared.raw_bind_parameter(index, value),
                ParameterValue::Number(text) => {
                    prepared.raw_bind_parameter(index, text.parse::<f64>().unwrap_or(f64::NAN))
                }
                ParameterValue::Text(text) => prepared.raw_bind_parameter(index, text),
                ParameterValue::Bytes(bytes) => prepared.raw_bind_parameter(index, bytes),
            };
            bound.map_err(|e| self.error(&e))?;
        }
        if prepared.column_count() == 0 {
            let before = connection.total_changes();
            prepared.raw_execute().map_err(|e| self.error(&e))?;
            let changed = connection.total_changes() != before;
            // The count is of the last statement that changes rows, so it must not be told of others; what a definition
            // changes are rows of its own tables (those of a virtual table).
            let rows = is_change(statement).then(|| if changed { connection.changes() } else { 0 });
            pump::with(|pump| pump.ends(rows));
            return Ok(());
        }
        if pump::with(|pump| pump.columns(announced(connection, &prepared))) != Some(Flow::Continue) {
            return Ok(());
        }
        let mut rows = prepared.raw_query();
        loop {
            match rows.next() {
                Ok(Some(row)) => {
                    if pump::with(|pump| pump.row(row)) != Some(Flow::Continue) {
                        return Ok(());
                    }
                }
                Ok(None) => {
                    pump::with(|pump| pump.ends(None));
                    return Ok(());
                }
                Err(error) => return Err(self.error(&error)),
            }
        }
    }
}

/// Whether a statement changes rows of tables, so that their number is worth telling, also where it is none.
fn is_change(statement: &str) -> bool {
    split::kind(statement, &SQLITE) == Some(Kind::Change)
}

/// A parameter without a value would silently be NULL.
fn no_parameters(statement: &Statement<'_>) -> Result<(), EngineError> {
    if statement.parameter_count() == 0 {
        return Ok(());
    }
    let name = statement.parameter_name(1).unwrap_or("?");
    let message = format!("no value for the parameter {name}");
    Err(EngineError::new(ErrorKind::Refused, message)
        .remedy("Give one with --parameter, or write the value into the statement."))
}

fn announced(connection: &Connection, statement: &Statement<'_>) -> Vec<Announced> {
    let columns = statement.columns().zip(statement.columns_with_metadata());
    let announced = columns.map(|(column, from)| Announced {
        name: column.name().to_owned(),
        db_type: column.decl_type().unwrap_or_default().to_owned(),
        origin: origin(connection, &from),
        of_documents: false,
    });
    announced.collect()
}

/// The column of a table that it comes from.
fn origin(connection: &Connection, from: &ColumnMetadata<'_>) -> Option<Origin> {
    let (schema, table, column) = (from.database_name(), from.table_name()?, from.origin_name()?);
    let known = connection.column_metadata(schema, table, column);
    Some(Origin {
        schema: schema.unwrap_or_default().to_owned(),
        table: table.to_owned(),
        column: column.to_owned(),
        required: known.is_ok_and(|(_, _, not_null, ..)| not_null),
    })
}

impl Session for SqliteSession {
    fn abilities(&self) -> Abilities {
        Abilities { cancel: true, transactions: true, read_only: true, effect: true, several_results: false }
    }

    fn location(&self) -> Location {
        let path = self.opened.path.as_ref();
        let name = path.and_then(|path| path.file_name()).map(|name| name.to_string_lossy().into_owned());
        Location {
            server: format!("sqlite {}", rusqlite::version()),
            database: name.unwrap_or_else(|| ":memory:".to_owned()),
            schema: "main".to_owned(),
            transaction: (!self.opened.connection.is_autocommit()).then_some(Transaction::Open),
            ..Location::default()
        }
    }

    fn locate(&mut self, _: &Stop) -> Result<Location, EngineError> {
        Ok(self.location())
    }

    fn effect(&mut self, request: &Request<'_>) -> Result<Effect, EngineError> {
        let (statement, values) = (request.text, request.values);
        let _armed = self.armed(&request.stop)?;
        // Some pragmas act when they are prepared, and what is given one may be written to the file.
        let pragma = statement.trim_start().get(..6).is_some_and(|word| word.eq_ignore_ascii_case("pragma"));
        let sets = pragma && statement.contains('=');
        if sets {
            return Ok(Effect::Unknown);
        }
        let prepared = self.opened.connection.prepare(statement).map_err(|e| self.error(&e))?;
        if matches!(acts::acts(statement, &SQLITE), Acts::Hidden | Acts::Outside(_)) {
            return Ok(Effect::Unknown);
        }
        if prepared.readonly() {
            return Ok(Effect::Reads);
        }
        drop(prepared);
        let whole = with_literals(statement, &SQLITE, values);
        let rows = match touched::counting(&whole, &SQLITE) {
            // It may take long, and ends when a person wants to stop.
            Some(count) => match self.opened.connection.query_row(&count, [], |row| row.get::<_, i64>(0)) {
                Err(error) if self.error(&error).kind == ErrorKind::Stopped => return Err(EngineError::stopped()),
                counted => counted.ok(),
            },
            None => None,
        };
        let everything = touched::touches_everything(statement, &SQLITE);
        Ok(Effect::Writes(Touches { rows: rows.map(i64::unsigned_abs), counted: true, everything }))
    }

    fn check(&mut self, request: &Request<'_>) -> Result<Verdict, EngineError> {
        let statement = request.text;
        // Some pragmas act when they are prepared.
        let first = statement.split_whitespace().next().unwrap_or_default();
        if SQLITE.starter(first).is_none_or(|s| !matches!(s.kind, Kind::Query | Kind::Change)) {
            return Ok(Verdict::Unknown);
        }
        let _armed = self.armed(&request.stop)?;
        self.opened.connection.prepare(statement).map(|_| Verdict::Accepted).map_err(|e| self.error(&e))
    }

    fn reading(&mut self, request: &Request<'_>, next: usize) -> Reading {
        let text = request.text;
        let Ok(_armed) = self.armed(&request.stop) else { return Reading::Unknown };
        // Some pragmas act when they are prepared, and none is longer than a line.
        if text.get(..6).is_some_and(|word| word.eq_ignore_ascii_case("pragma")) {
            return Reading::Shorter;
        }
        let connection = &self.opened.connection;
        let Err(error) = connection.prepare(text) else { return Reading::One };
        let error = self.error(&error);
        if error.message.contains("syntax error") || error.message.contains("incomplete input") {
            return Reading::stopped_at(error.at, next);
        }
        // Names are looked up when all is read, but in definitions where they stand: there the mistake says
        // nothing of what comes after, and nothing will run.
        let definition = split::kind(text, &SQLITE) == Some(Kind::Definition);
        let first = text.get(..next).filter(|_| definition).map(|first| connection.prepare(first));
        match first {
            Some(Err(same)) if self.error(&same).message == error.message => Reading::Shorter,
            _ => Reading::One,
        }
    }

    fn load(&mut self, load: &Load<'_>, next: &mut NextRows<'_>) -> Result<u64, EngineError> {
        let armed = self.armed(&load.stop)?;
        let taken = load::rows(&self.opened.connection, load, next, |error| self.error(error));
        drop(armed);
        match taken {
            Err(_) if load.stop.is_wished() => Err(EngineError::stopped()),
            taken => taken,
        }
    }

    fn copy_into(&mut self, path: &Path, told: &mut dyn FnMut(u64, u64), stop: &Stop) -> Result<(), EngineError> {
        if self.location().transaction.is_some() {
            let what = "a transaction is open, and a copy has only what is committed";
            return Err(EngineError::new(ErrorKind::Refused, what).remedy("Commit it, or roll it back."));
        }
        backup::copy(&self.opened.connection, path, told, stop, |error| self.error(error))
    }

    fn run(&mut self, request: &Request<'_>, sink: Box<dyn Sink>) -> Result<(), EngineError> {
        let _armed = self.armed(&request.stop)?;
        // Set before the statement is prepared: SQLite takes it up then.
        let handler = || pump::with(|pump| pump.progress()).unwrap_or(false);
        self.opened.connection.progress_handler(PROGRESS_EVERY, Some(handler)).map_err(|e| self.error(&e))?;
        pump::begin(sink, &request.stop);
        let outcome = self.carry_out(request.text, request.values);
        let ended = pump::end();
        match outcome {
            // SQLite says that it was interrupted; the pump knows why.
            Err(error) if error.kind == ErrorKind::Stopped => ended.and(Err(error)),
            Err(error) => Err(error),
            Ok(()) => ended,
        }
    }

    fn catalog(&mut self, part: &CatalogPart<'_>, catalog: &mut Catalog) -> Result<bool, EngineError> {
        let _armed = self.armed(&part.stop)?;
        catalog::read(&self.opened.connection, part.number, catalog).map_err(|e| self.error(&e))
    }

    fn definition(&mut self, of: &Object, _: &Stop) -> Result<Option<String>, EngineError> {
        Ok(Some(of.definition.clone()).filter(|text| !text.is_empty()))
    }
}
