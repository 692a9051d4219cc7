//! From SQLite's rows to the sink's batches.
//!
//! Rows must not wait while SQLite searches for the next, which can take minutes inside one call.
//! SQLite calls a progress handler now and then from inside that call, and the handler pushes what
//! is waiting. So the rows not yet pushed are shared between the two, behind a lock that nobody
//! else ever wants.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use jaunty_core::engine::{BATCH_DELAY, EngineError, ErrorKind, Flow, Sink};
use jaunty_core::rows::assemble::{Announced, Assembler, Value};
use rusqlite::Row;
use rusqlite::types::ValueRef;

/// Instructions of SQLite's machine between two calls of the progress handler: some 20 µs.
pub(super) const PROGRESS_EVERY: i32 = 2000;

/// Rows on their way, and the sink they go to.
pub(super) struct Pump {
    sink: Box<dyn Sink>,
    assembler: Option<Assembler>,
    pushed: Instant,
    flow: Flow,
    failed: Option<EngineError>,
    /// How many rows until the clock is looked at again: reading it costs as much as a short row.
    until_clock: u32,
    stride: u32,
}

/// A pump that the progress handler shares.
pub(super) type Shared = Arc<Mutex<Pump>>;

/// The pump behind its lock.
pub(super) fn lock(pump: &Shared) -> MutexGuard<'_, Pump> {
    pump.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Pump {
    pub(super) fn new(sink: Box<dyn Sink>) -> Shared {
        Arc::new(Mutex::new(Pump {
            sink,
            assembler: None,
            pushed: Instant::now(),
            flow: Flow::GoOn,
            failed: None,
            until_clock: 0,
            stride: 1,
        }))
    }

    pub(super) fn columns(&mut self, columns: Vec<Announced>) -> Flow {
        let assembler = Assembler::new(columns);
        self.note(|sink| sink.columns(assembler.schema()));
        self.assembler = Some(assembler);
        self.pushed = Instant::now();
        self.flow
    }

    pub(super) fn affected(&mut self, rows: Option<u64>) {
        self.note(|sink| sink.affected(rows));
    }

    /// Adds a row.
    #[inline]
    pub(super) fn row(&mut self, row: &Row<'_>) -> Flow {
        let Some(assembler) = &mut self.assembler else { return self.flow };
        match assembler.push_row(|column| value(row, column)) {
            Ok(true) => return self.push(),
            Ok(false) => {}
            Err(error) => return self.fail(EngineError::new(ErrorKind::Local, error.to_string())),
        }
        if self.until_clock > 0 {
            self.until_clock -= 1;
            return self.flow;
        }
        self.look_at_clock()
    }

    /// Pushes what has waited long enough, and makes the strides longer while rows come fast.
    fn look_at_clock(&mut self) -> Flow {
        let waited = self.pushed.elapsed();
        if waited >= BATCH_DELAY {
            self.stride = 1;
            self.until_clock = 1;
            return self.push();
        }
        if waited < BATCH_DELAY / 4 {
            self.stride = (self.stride * 2).min(256);
        }
        self.until_clock = self.stride;
        self.flow
    }

    /// Called from inside SQLite while it works. True ends the statement.
    pub(super) fn progress(&mut self) -> bool {
        if self.pushed.elapsed() >= BATCH_DELAY {
            if self.assembler.as_ref().is_some_and(|a| a.rows() > 0) {
                self.push();
            } else {
                self.pushed = Instant::now();
            }
            self.note(|sink| sink.wanted());
        }
        self.flow == Flow::Stop
    }

    /// Pushes the rows that are waiting.
    pub(super) fn push(&mut self) -> Flow {
        let Some(assembler) = self.assembler.as_mut().filter(|a| a.rows() > 0) else { return self.flow };
        match assembler.take() {
            Ok(batch) => self.note(|sink| sink.batch(batch)),
            Err(error) => {
                self.fail(EngineError::new(ErrorKind::Local, error.to_string()));
            }
        }
        self.pushed = Instant::now();
        self.flow
    }

    fn note(&mut self, act: impl FnOnce(&mut dyn Sink) -> Flow) {
        if self.flow == Flow::GoOn {
            self.flow = act(self.sink.as_mut());
        }
    }

    fn fail(&mut self, error: EngineError) -> Flow {
        self.failed = Some(error);
        self.flow = Flow::Stop;
        self.flow
    }

    /// How the statement ended, as far as the pump knows.
    pub(super) fn end(&mut self) -> Result<(), EngineError> {
        self.push();
        match (self.failed.take(), self.flow) {
            (Some(error), _) => Err(error),
            (None, Flow::Stop) => Err(EngineError::stopped()),
            (None, Flow::GoOn) => Ok(()),
        }
    }
}

/// Text that is not UTF-8 stays what it is: bytes.
#[inline]
fn value<'r>(row: &'r Row<'_>, column: usize) -> Value<'r> {
    match row.get_ref(column) {
        Ok(ValueRef::Integer(v)) => Value::Int(v),
        Ok(ValueRef::Real(v)) => Value::Real(v),
        Ok(ValueRef::Text(v)) => std::str::from_utf8(v).map_or(Value::Bytes(v), Value::Text),
        Ok(ValueRef::Blob(v)) => Value::Bytes(v),
        Ok(ValueRef::Null) | Err(_) => Value::Null,
    }
}
