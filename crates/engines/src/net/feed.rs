//! From a driver's rows to the sink's batches: when to push.

use std::time::Instant;

use arrow_schema::ArrowError;
use jaunty_seam::engine::{Flow, Notice, Sink};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::BATCH_DELAY;
use jaunty_seam::rows::columns::Columns;

/// The most rows of the first batch: about what fits on a screen, so that it is there at once.
const FIRST_BATCH: usize = 128;

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
            flow: Flow::GoOn,
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
        self.note(|sink| sink.columns(schema))
    }

    /// Where the values of the next row go; [`Feed::end_row`] follows.
    #[inline]
    pub fn columns(&mut self) -> &mut Columns {
        &mut self.columns
    }

    /// Ends a row that took so many bytes.
    #[inline]
    pub fn end_row(&mut self, bytes: usize) -> Flow {
        if self.columns.end_row(bytes) || (self.first && self.columns.rows() >= FIRST_BATCH) {
            return self.push();
        }
        self.flow
    }

    /// Called while the server lets us wait: pushes what has waited long enough, and tells whether
    /// anything is still wanted.
    pub fn look(&mut self) -> Flow {
        if self.columns.rows() > 0 && (self.first || self.pushed.elapsed() >= BATCH_DELAY) {
            self.push();
        }
        self.note(|sink| sink.wanted())
    }

    /// A result without columns.
    pub fn affected(&mut self, rows: Option<u64>) -> Flow {
        self.push();
        self.note(|sink| sink.affected(rows))
    }

    /// Something that the server says.
    pub fn notice(&mut self, severity: impl Into<String>, text: impl Into<String>) {
        self.sink.notice(Notice { severity: severity.into(), text: text.into() });
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
            Ok(batch) => self.note(|sink| sink.batch(batch)),
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
            (None, Flow::GoOn, outcome) => outcome,
        }
    }

    fn note(&mut self, act: impl FnOnce(&mut dyn Sink) -> Flow) -> Flow {
        if self.flow == Flow::GoOn {
            self.flow = act(self.sink.as_mut());
        }
        self.flow
    }
}

/// The error of rows that cannot be put together.
pub fn local(error: &ArrowError) -> EngineError {
    EngineError::new(ErrorKind::Local, format!("a row cannot be kept: {error}"))
}
