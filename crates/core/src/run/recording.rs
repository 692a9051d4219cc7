//! The sink of a run: rows go to the archive, facts to the logbook and the screen.

use std::sync::{Arc, PoisonError};
use std::time::{Duration, Instant};

use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;

use super::archive_writer::{ArchiveWriter, Failure, Tap};
use super::execute::Tell;
use super::keeping::Keeping;
use super::kept::{KeptRows, RESULT_NAME, RunResult};
use super::state::Run;
use crate::archive::{ArchiveError, Writer};
use crate::logbook::KeptResult;
use jaunty_seam::engine::{Event, Flow, Sink};

/// Keeps what comes. However the statement ends, what was fetched is written when this is dropped.
pub struct RecordingSink {
    run: Arc<Run>,
    keeping: Keeping,
    writer: Option<ArchiveWriter>,
    /// Rows and bytes of all results so far.
    fetched: (u64, u64),
    failure: Failure,
    tap: Tap,
    tell: Tell,
    /// Values beside a result that is not whole yet.
    output: Vec<RecordBatch>,
    /// When a message was told of last.
    told: Option<Instant>,
}

/// How often messages are told of.
const TELL_EVERY: Duration = Duration::from_millis(50);

impl RecordingSink {
    /// Keeps the results of this run, and hands them on to `tap` as well.
    pub fn new(run: &Arc<Run>, keeping: &Keeping, failure: Failure, tap: Tap, tell: &Tell) -> RecordingSink {
        RecordingSink {
            run: Arc::clone(run),
            keeping: keeping.clone(),
            writer: None,
            fetched: (0, 0),
            failure,
            tap,
            tell: Arc::clone(tell),
            output: Vec::new(),
            told: None,
        }
    }

    /// Waits until every row of the last result is written.
    fn finish_archive(&mut self) {
        if let Some(writer) = self.writer.take() {
            writer.finish();
        }
    }

    /// A new archive, which is a result of the run from now on.
    fn new_archive(&self, schema: &SchemaRef, name: Option<String>) -> Result<Writer, ArchiveError> {
        let path = self.keeping.archive_path(self.run.number, self.run.results().len());
        let named = name.map(|name| {
            let mut metadata = schema.metadata().clone();
            metadata.insert(RESULT_NAME.to_owned(), name);
            Arc::new(schema.as_ref().clone().with_metadata(metadata))
        });
        let writer = Writer::create(&path, named.as_ref().unwrap_or(schema))?;
        self.add_result(RunResult::Rows(Arc::new(KeptRows::open(Arc::clone(writer.archive())))));
        Ok(writer)
    }

    fn begin_archive(&mut self, schema: &SchemaRef, name: Option<String>) -> Result<(), ArchiveError> {
        self.finish_archive();
        let writer = self.new_archive(schema, name)?;
        let (path, tap) = (writer.archive().path().to_owned(), self.tap.clone());
        let writer = ArchiveWriter::begin(writer, &self.run, &self.keeping, tap, (&self.tell, &self.failure));
        self.writer = Some(writer.map_err(|source| ArchiveError::File { path, act: "written", source })?);
        Ok(())
    }

    fn add_result(&self, result: RunResult) {
        let kept = match &result {
            RunResult::Rows(rows) => KeptResult::Rows(rows.path().to_owned()),
            RunResult::Affected(rows) => KeptResult::Affected(*rows),
        };
        let position = self.run.add_result(result);
        if let Some(number) = self.run.number {
            self.keeping.note(|logbook| logbook.result(number, position, &kept));
        }
    }

    fn rows(&mut self, batch: RecordBatch) -> Flow {
        self.fetched.0 += batch.num_rows() as u64;
        let bytes = batch.get_array_memory_size() as u64;
        self.fetched.1 += bytes;
        if self.writer.as_ref().is_some_and(|writer| !writer.send(batch, bytes)) {
            return Flow::Stop;
        }
        if self.writer.as_ref().is_some_and(ArchiveWriter::is_full) {
            return Flow::Stop;
        }
        if self.run.holds(self.fetched.0, self.fetched.1) {
            (self.tell)(&self.run);
            return Flow::Hold;
        }
        self.wanted()
    }

    /// Keeps values beside the results as a result of one row. They are not among the rows of the statement: neither
    /// counted nor handed on with them.
    fn output(&mut self) -> Result<(), ArchiveError> {
        for row in std::mem::take(&mut self.output) {
            let mut writer = self.new_archive(&row.schema(), Some("output values".to_owned()))?;
            writer.write(&row)?;
            writer.finish()?;
        }
        Ok(())
    }

    /// Hands an event on. What is handed on has to be kept first, which [`ArchiveWriter`] sees to for rows.
    fn tap(&self, event: Event) -> Flow {
        match &self.tap {
            Some(tap) => tap.lock().unwrap_or_else(PoisonError::into_inner).take(event),
            None => Flow::Continue,
        }
    }

    fn keep(&mut self, event: Event) -> Result<Flow, ArchiveError> {
        match event {
            Event::Begins { schema, name } => {
                self.begin_archive(&schema, name.clone())?;
                Ok(self.tap(Event::Begins { schema, name }))
            }
            Event::Rows(batch) => Ok(self.rows(batch)),
            Event::Ends { affected } => {
                if self.writer.is_some() {
                    self.finish_archive();
                    self.run.set_affected(affected);
                } else {
                    self.add_result(RunResult::Affected(affected));
                }
                let flow = self.tap(Event::Ends { affected });
                self.output()?;
                Ok(flow)
            }
            Event::Output(row) => {
                self.output.push(row);
                if self.writer.is_none() {
                    self.output()?;
                }
                Ok(self.wanted())
            }
            Event::Message(message) => {
                self.run.add_message(message.clone());
                // It is shown at once, but not each of thousands.
                if self.told.is_none_or(|told| told.elapsed() >= TELL_EVERY) {
                    self.told = Some(Instant::now());
                    (self.tell)(&self.run);
                }
                Ok(self.tap(Event::Message(message)))
            }
            Event::Progress(progress) => {
                self.run.set_progress(progress);
                (self.tell)(&self.run);
                Ok(self.wanted())
            }
            Event::QueryId(id) => {
                self.run.set_query_id(id);
                Ok(self.wanted())
            }
        }
    }
}

impl Sink for RecordingSink {
    fn wanted(&self) -> Flow {
        if self.run.is_stopped() || self.failure.is_there() {
            return Flow::Stop;
        }
        self.tap.as_ref().map_or(Flow::Continue, |tap| tap.lock().unwrap_or_else(PoisonError::into_inner).wanted())
    }

    fn take(&mut self, event: Event) -> Flow {
        self.keep(event).unwrap_or_else(|error| self.failure.set(&error))
    }

    fn wait(&mut self, at_most: Duration) -> Flow {
        if self.run.wait_for_room(self.fetched.0, self.fetched.1, at_most) {
            return Flow::Hold;
        }
        (self.tell)(&self.run);
        self.wanted()
    }
}

impl Drop for RecordingSink {
    fn drop(&mut self) {
        self.finish_archive();
        if let Err(error) = self.output() {
            self.failure.set(&error);
        }
    }
}
