//! Rows of a result as those of a file are: of a statement on another connection while they come, or kept ones.

use std::sync::Arc;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use arrow_array::RecordBatch;
use jaunty_core::arrange::pick::Part;
use jaunty_core::import::Source;
use jaunty_engines::by_name;
use jaunty_language::dialect::Dialect;
use jaunty_language::statement::acts::{Acts, acts};
use jaunty_seam::engine::{Event, Flow, Request, Session, Sink, Stop};
use jaunty_seam::error::EngineError;
use jaunty_seam::rows::BATCH_ROWS;

use super::rows::kept;
use crate::failure::Failure;

/// Blocks that wait for whoever takes them: the server waits then, too.
const AHEAD: usize = 4;

type Handed = Result<RecordBatch, String>;

/// What a thread hands on: none at the end, so that one that is gone is not taken for it.
type Message = Result<Option<RecordBatch>, String>;

/// The kept rows of a run.
pub fn of_run(run: &str) -> Result<Source, Failure> {
    let (archive, _) = kept(run, 1)?;
    let language = by_name(&super::rows::entry(run)?.engine).map(|engine| engine.dialect());
    let (archive, mut from) = (Arc::new(archive), 0);
    let mut ready = std::collections::VecDeque::new();
    let next = move || {
        if ready.is_empty() && from < archive.rows() {
            let to = (from + BATCH_ROWS as u64).min(archive.rows());
            let part = Part { rows: from..to, ..Part::whole(Arc::clone(&archive)) };
            ready.extend(part.batches().map(|batch| batch.map_err(|error| error.to_string())).collect::<Vec<Handed>>());
            from = to;
        }
        ready.pop_front()
    };
    Source::of_batches(&format!("run {run}"), language, Box::new(std::iter::from_fn(next)))
        .map_err(|e| Failure::Usage(e.to_string()))
}

/// The rows of a statement, which runs on a thread of its own with its session. One that may write is refused.
pub fn of_statement(
    name: &str,
    statement: &str,
    dialect: &'static Dialect,
    mut session: Box<dyn Session>,
    stop: &Stop,
) -> Result<Source, Failure> {
    if acts(statement, dialect) != Acts::Reads {
        return Err(Failure::Usage("--statement: only one that reads can give rows for a table elsewhere".into()));
    }
    let (sender, receiver) = sync_channel::<Message>(AHEAD);
    let (text, stop) = (statement.trim().trim_end_matches(';').to_owned(), stop.clone());
    let run = move || {
        let sink = HandOn { sender: sender.clone(), stop: stop.clone(), results: 0 };
        let request = Request::new(&text).until(&stop).exactly();
        let outcome: Result<(), EngineError> = session.run(&request, Box::new(sink));
        // Whoever took the rows may be gone.
        let _ = sender.send(outcome.map(|()| None).map_err(|error| error.to_string()));
    };
    let thread = std::thread::Builder::new().name("rows".into()).spawn(run);
    thread.map_err(|error| Failure::Usage(format!("a thread could not be started: {error}")))?;
    Source::of_batches(name, Some(dialect), Box::new(Handing(receiver).fuse()))
        .map_err(|error| Failure::Database(error.to_string()))
}

struct Handing(Receiver<Message>);

impl Iterator for Handing {
    type Item = Handed;

    fn next(&mut self) -> Option<Handed> {
        let ended = || Err("the thread of the statement has ended early".to_owned());
        self.0.recv().unwrap_or_else(|_| ended()).transpose()
    }
}

/// Hands rows on.
struct HandOn {
    sender: SyncSender<Message>,
    stop: Stop,
    /// How many results have begun.
    results: u32,
}

impl Sink for HandOn {
    fn wanted(&self) -> Flow {
        if self.stop.is_wished() { Flow::Stop } else { Flow::Continue }
    }

    fn take(&mut self, event: Event) -> Flow {
        let batch = match event {
            Event::Rows(batch) => batch,
            // A result without rows has columns all the same.
            Event::Begins { schema, .. } => {
                self.results += 1;
                if self.results > 1 {
                    let what = "the statement gives several results; a table takes the rows of one";
                    let _ = self.sender.send(Err(what.to_owned()));
                    return Flow::Stop;
                }
                RecordBatch::new_empty(schema)
            }
            _ => return self.wanted(),
        };
        if self.sender.send(Ok(Some(batch))).is_err() { Flow::Stop } else { self.wanted() }
    }
}
