//! From SQLite's rows to the sink's batches.
//!
//! Rows must not wait while SQLite searches for the next, which can take minutes inside one call.
//! SQLite calls a progress handler now and then from inside that call, on the thread that made it,
//! and the handler pushes what is waiting. So the rows not yet pushed lie where both find them: in
//! the thread, which runs one statement at a time. A lock would do too, at the price of a few
//! percent of all rows.

use std::cell::RefCell;
use std::time::Instant;

use arrow_schema::ArrowError;
use jaunty_seam::engine::{Event, Flow, Sink, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::BATCH_DELAY;
use jaunty_seam::rows::assemble::{Announced, Assembler, Place, Value};
use rusqlite::Row;

use rusqlite::types::ValueRef;

use crate::net::feed::held;

/// Instructions of SQLite's machine between two calls of the progress handler: some 20 µs.
pub(super) const PROGRESS_EVERY: i32 = 2000;

/// Rows on their way, and the sink they go to.
pub(super) struct Pump {
    sink: Box<dyn Sink>,
    stop: Stop,
    assembler: Option<Assembler>,
    pushed: Instant,
    flow: Flow,
    failed: Option<EngineError>,
    /// How many rows until the clock is looked at again: reading it costs as much as a short row.
    until_clock: u32,
    stride: u32,
}

thread_local! {
    /// The pump of the statement that this thread runs.
    static PUMP: RefCell<Option<Pump>> = const { RefCell::new(None) };
}

/// Sets the pump up for a statement.
pub(super) fn begin(sink: Box<dyn Sink>, stop: &Stop) {
    PUMP.set(Some(Pump::new(sink, stop.clone())));
}

/// Uses the pump of the statement that runs. Without one nothing is wanted.
#[inline]
pub(super) fn with<T>(act: impl FnOnce(&mut Pump) -> T) -> Option<T> {
    PUMP.with_borrow_mut(|pump| pump.as_mut().map(act))
}

/// Pushes what is left and tells how the statement ended, as far as the pump knows. The sink is
/// gone when this returns.
pub(super) fn end() -> Result<(), EngineError> {
    PUMP.take().map_or(Ok(()), |mut pump| pump.end())
}

impl Pump {
    fn new(sink: Box<dyn Sink>, stop: Stop) -> Pump {
        Pump {
            sink,
            stop,
            assembler: None,
            pushed: Instant::now(),
            flow: Flow::Continue,
            failed: None,
            until_clock: 0,
            stride: 1,
        }
    }

    pub(super) fn columns(&mut self, columns: Vec<Announced>) -> Flow {
        let assembler = Assembler::new(columns);
        self.send(Event::Begins { schema: assembler.schema(), name: None });
        self.assembler = Some(assembler);
        self.pushed = Instant::now();
        self.flow
    }

    /// The result is whole, or there is none.
    pub(super) fn ends(&mut self, affected: Option<u64>) {
        self.push();
        self.send(Event::Ends { affected });
    }

    /// Adds a row.
    #[inline]
    pub(super) fn row(&mut self, row: &Row<'_>) -> Flow {
        let Some(assembler) = &mut self.assembler else { return self.flow };
        match assembler.push_row_by(|column, place| put(row, column, place)) {
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
        // An interrupt that comes before SQLite has begun is not remembered.
        if self.stop.is_wished() {
            self.flow = Flow::Stop;
        }
        if self.pushed.elapsed() >= BATCH_DELAY {
            if self.assembler.as_ref().is_some_and(|a| a.rows() > 0) {
                self.push();
            } else {
                self.pushed = Instant::now();
            }
            if self.flow == Flow::Continue {
                self.flow = self.sink.wanted();
            }
        }
        self.flow == Flow::Stop
    }

    /// Pushes the rows that are waiting.
    pub(super) fn push(&mut self) -> Flow {
        let Some(assembler) = self.assembler.as_mut().filter(|a| a.rows() > 0) else { return self.flow };
        match assembler.take() {
            Ok(batch) => self.send(Event::Rows(batch)),
            Err(error) => {
                self.fail(EngineError::new(ErrorKind::Local, error.to_string()));
            }
        }
        self.pushed = Instant::now();
        self.flow
    }

    fn send(&mut self, event: Event) {
        if self.flow == Flow::Continue {
            self.flow = held(self.sink.as_mut(), event);
        }
    }

    fn fail(&mut self, error: EngineError) -> Flow {
        self.failed = Some(error);
        self.flow = Flow::Stop;
        self.flow
    }

    fn end(&mut self) -> Result<(), EngineError> {
        self.push();
        match (self.failed.take(), self.flow) {
            (Some(error), _) => Err(error),
            (None, Flow::Stop) => Err(EngineError::stopped()),
            (None, Flow::Continue | Flow::Hold) => Ok(()),
        }
    }
}

#[inline]
fn put(row: &Row<'_>, column: usize, place: Place<'_>) -> Result<(), ArrowError> {
    match row.get_ref(column) {
        Ok(ValueRef::Integer(value)) => place.int(value),
        Ok(ValueRef::Real(value)) => place.real(value),
        Ok(ValueRef::Text(value)) => place.raw_text(value),
        Ok(ValueRef::Blob(value)) => place.value(Value::Bytes(value)),
        Ok(ValueRef::Null) | Err(_) => place.value(Value::Null),
    }
}
