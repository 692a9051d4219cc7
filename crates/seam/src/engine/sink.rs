//! Where the results of a statement go.

use std::time::Duration;

use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;

/// What a server sends, in the order in which it does.
///
/// A result with columns is `Begins`, any number of `Rows`, `Ends`; one without is `Ends` alone. The others come at
/// any time.
#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// A result with columns begins.
    Begins {
        /// The columns. A later batch may carry a schema in which they are wider, or which has more of them
        /// ([`crate::rows::widen`]); names and order of those that are there never change.
        schema: SchemaRef,
        /// The result's name, where the server gives it one.
        name: Option<String>,
    },
    /// Rows of the result that began last.
    Rows(RecordBatch),
    /// The result that began last is whole; or a result without columns, where none is open.
    Ends {
        /// How many rows were touched, where the server tells.
        affected: Option<u64>,
    },
    /// Values that the statement gives back beside its results (output parameters, a return value): a row, whose
    /// columns have the names.
    Output(RecordBatch),
    /// Something the server says. Of several errors of one statement all but the last are messages.
    Message(Message),
    /// How far the server is.
    Progress(Progress),
    /// The server's own id of what runs, by which its log and its console know it.
    QueryId(String),
}

/// A message from the server. Its text is cleaned where it is shown.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Message {
    /// How grave the server says it is, in its own word.
    pub severity: String,
    /// Its code, as `01000`.
    pub code: Option<String>,
    /// The line of the statement that it is about, from 1.
    pub line: Option<u32>,
    /// What it says.
    pub text: String,
}

impl Message {
    /// A message with neither code nor line.
    pub fn new(severity: impl Into<String>, text: impl Into<String>) -> Message {
        Message { severity: severity.into(), text: text.into(), ..Message::default() }
    }
}

/// How far a server is with a statement, by its own word.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Progress {
    /// The part that is done, from 0 to 1.
    pub done: Option<f32>,
    /// How many rows it has read.
    pub rows: Option<u64>,
    /// How many bytes it has read.
    pub bytes: Option<u64>,
}

/// What receives the results of a statement. The session owns it while the statement runs and drops it before it
/// returns.
pub trait Sink: Send {
    /// Whether anything is still wanted. An engine asks while the server keeps it waiting, so that a statement stops
    /// even when no row comes.
    fn wanted(&self) -> Flow;

    /// Takes what the server sent. It may take as long as it likes, which holds the server back.
    fn take(&mut self, event: Event) -> Flow;

    /// Waits until more is wanted, but no longer than this: called again and again after [`Flow::Hold`].
    fn wait(&mut self, _at_most: Duration) -> Flow {
        self.wanted()
    }
}

/// Whether to go on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Flow {
    /// More, please.
    Continue,
    /// Not now: nobody reads so far. Ask [`Sink::wait`], and keep the connection alive meanwhile.
    Hold,
    /// End the statement.
    Stop,
}
