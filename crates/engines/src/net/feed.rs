//! From a driver's rows to the sink's batches: when to push.

use std::time::{Duration, Instant};

use arrow_array::RecordBatch;
use arrow_schema::ArrowError;
use jaunty_seam::engine::{Event, Flow, Message, Progress, Sink};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::BATCH_DELAY;
use jaunty_seam::rows::columns::Columns;

/// The most rows of the first batch: about what fits on a screen, so that it is there at once.
const FIRST_BATCH: usize = 128;

/// After so many rows the clock is looked at.
const OFTEN: usize = 64;

/// A row of so many bytes is a batch of its own, and what is long in it is not copied where it can be held as it arrived.
pub const LONG: usize = 1 << 20;

/// How long at most a sink is left to itself while a cursor is held.
const HELD: Duration = Duration::from_secs(1);

/// Rows on their way, and the sink they go to.
pub struct Feed {
    sink: Box<dyn Sink>,
    columns: Columns,
    pushed: Instant,
    flow: Flow,
    first: bool,
    failed: Option<EngineError>,
}

impl Feed {
    /// For a statement whose results go to this sink.
    pub fn new(sink: Box<dyn Sink>) -> Feed {
        Feed {
            sink,
            columns: Columns::new(Vec::new()),
            pushed: Instant::now(),
            flow: Flow::Continue,
            first: true,
            failed: None,
        }
    }

    /// A result with these columns begins.
    pub fn begin(&mut self, columns: Columns) -> Flow {
        self.push();
        self.first = true;
        self.columns = columns;
        let schema = self.columns.schema();
        self.send(Event::Begins { schema, name: None })
    }

    /// Where the values of the next row go; [`Feed::end_row`] follows.
    #[inline]
    pub fn columns(&mut self) -> &mut Columns {
        &mut self.columns
    }

    /// Ends a row that took so many bytes.
    #[inline]
    pub fn end_row(&mut self, bytes: usize) -> Flow {
        let is_full = self.columns.end_row(bytes) || (self.first && self.columns.rows() >= FIRST_BATCH);
        // A server that always has a little more never lets us wait: the clock is looked at all the same.
        let is_late = || self.columns.rows().is_multiple_of(OFTEN) && self.pushed.elapsed() >= BATCH_DELAY;
        if is_full || is_late() { self.push() } else { self.flow }
    }

    /// Appends a row that is [`LONG`], as the only one of its batch.
    pub fn alone(&mut self, row: impl FnOnce(&mut Feed) -> Result<(), EngineError>) -> Result<(), EngineError> {
        self.push();
        row(self)?;
        self.push();
        Ok(())
    }

    /// Called while the server lets us wait: pushes what has waited long enough, and tells whether
    /// anything is still wanted.
    pub fn look(&mut self) -> Flow {
        if self.columns.rows() > 0 && (self.first || self.pushed.elapsed() >= BATCH_DELAY) {
            self.push();
        }
        if self.flow == Flow::Continue {
            self.flow = self.sink.wanted();
        }
        self.flow
    }

    /// The result that began last is whole, or one without columns.
    pub fn ends(&mut self, affected: Option<u64>) -> Flow {
        self.push();
        self.send(Event::Ends { affected })
    }

    /// Values that are given back beside results.
    pub fn output(&mut self, values: RecordBatch) -> Flow {
        self.push();
        self.send(Event::Output(values))
    }

    /// How far the server is.
    pub fn progress(&mut self, progress: Progress) -> Flow {
        self.send(Event::Progress(progress))
    }

    /// Something that the server says: told also when nothing else is wanted.
    pub fn message(&mut self, message: Message) {
        self.sink.take(Event::Message(message));
    }

    /// Whether anything is still wanted, as far as is known.
    pub fn flow(&self) -> Flow {
        self.flow
    }

    /// Nothing more is wanted.
    pub fn stop(&mut self) {
        self.flow = Flow::Stop;
    }

    /// A row could not be taken: nothing more is.
    pub fn fail(&mut self, error: EngineError) -> Flow {
        self.failed.get_or_insert(error);
        self.flow = Flow::Stop;
        self.flow
    }

    /// Pushes the rows that are waiting.
    pub fn push(&mut self) -> Flow {
        self.pushed = Instant::now();
        if self.columns.rows() == 0 {
            return self.flow;
        }
        self.first = false;
        match self.columns.take() {
            Ok(batch) => self.send(Event::Rows(batch)),
            Err(error) => self.fail(local(&error)),
        }
    }

    /// How the statement ended, as far as the feed knows; `outcome` is what the server says.
    pub fn end(mut self, outcome: Result<(), EngineError>) -> Result<(), EngineError> {
        self.push();
        match (self.failed, self.flow, outcome) {
            (Some(error), ..) => Err(error),
            (None, _, Err(error)) if error.kind == ErrorKind::Lost => Err(error),
            (None, Flow::Stop, _) => Err(EngineError::stopped()),
            (None, Flow::Continue | Flow::Hold, outcome) => outcome,
        }
    }

    fn send(&mut self, event: Event) -> Flow {
        if self.flow == Flow::Continue {
            self.flow = held(self.sink.as_mut(), event);
        }
        self.flow
    }
}

/// Hands an event on, and waits while nobody reads so far. The connection is alive by itself meanwhile: these servers
/// wait as long as their own settings say.
pub fn held(sink: &mut dyn Sink, event: Event) -> Flow {
    let mut flow = sink.take(event);
    while flow == Flow::Hold {
        flow = sink.wait(HELD);
    }
    flow
}

/// The error of rows that cannot be put together.
pub fn local(error: &ArrowError) -> EngineError {
    EngineError::new(ErrorKind::Local, format!("a row cannot be kept: {error}"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_seam::rows::columns::{Cells, Typed};
    use jaunty_seam::rows::form::TextForm;
    use std::sync::mpsc::{Sender, channel};

    struct Batches(Sender<usize>);

    impl Sink for Batches {
        fn wanted(&self) -> Flow {
            Flow::Continue
        }

        fn take(&mut self, event: Event) -> Flow {
            if let Event::Rows(batch) = event {
                self.0.send(batch.num_rows()).unwrap();
            }
            Flow::Continue
        }
    }

    /// Nobody waits here, and yet what has come so far is shown.
    #[test]
    fn rows_that_trickle_are_pushed_all_the_same() {
        let (sender, pushed) = channel();
        let mut feed = Feed::new(Box::new(Batches(sender)));
        let typed = Typed {
            name: "n".into(),
            db_type: String::new(),
            origin: None,
            form: TextForm::Plain,
            cells: Cells::text(),
        };
        feed.begin(Columns::new(vec![typed]));
        for row in 1..=FIRST_BATCH + 2 * OFTEN {
            if row == FIRST_BATCH + OFTEN {
                feed.pushed = feed.pushed.checked_sub(BATCH_DELAY).unwrap();
            }
            feed.columns().cells(0).null();
            feed.end_row(1);
        }
        assert_eq!(pushed.try_iter().take(2).collect::<Vec<_>>(), [FIRST_BATCH, OFTEN]);
    }
}
