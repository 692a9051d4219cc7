//! A sink that keeps what comes, and does what a case wants of it.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use arrow_array::RecordBatch;
use jaunty_seam::engine::{Event, Flow, Sink};
use jaunty_seam::rows::cell::ColumnReader;

/// What came.
#[derive(Debug, Default)]
pub struct Seen {
    /// All events, in order.
    pub events: Vec<Event>,
    /// How often the sink was waited for.
    pub waits: usize,
    dropped: bool,
}

impl Seen {
    /// The batches.
    pub fn batches(&self) -> impl Iterator<Item = &RecordBatch> {
        self.events.iter().filter_map(|event| if let Event::Rows(batch) = event { Some(batch) } else { None })
    }

    /// How many rows came.
    pub fn count(&self) -> usize {
        self.batches().map(RecordBatch::num_rows).sum()
    }

    /// The rows as text.
    pub fn rows(&self) -> Vec<Vec<String>> {
        let mut rows = Vec::new();
        for batch in self.batches() {
            let readers = ColumnReader::all(batch);
            rows.extend(
                (0..batch.num_rows())
                    .map(|row| readers.iter().map(|reader| reader.get(row).text.into_owned()).collect::<Vec<_>>()),
            );
        }
        rows
    }

    /// Events by kind, one letter each: begins, rows (once for several batches), ends, message, output, progress, id.
    pub fn order(&self) -> String {
        let mut letters: Vec<char> = self.events.iter().map(letter).collect();
        letters.dedup_by(|a, b| a == b && *a == 'r');
        letters.into_iter().collect()
    }
}

fn letter(event: &Event) -> char {
    match event {
        Event::Begins { .. } => 'b',
        Event::Rows(_) => 'r',
        Event::Ends { .. } => 'e',
        Event::Message(_) => 'm',
        Event::Output(_) => 'o',
        Event::Progress(_) => 'p',
        Event::QueryId(_) => 'i',
    }
}

/// What a sink does when rows come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Does {
    TakesAll,
    StopsAfter(usize),
    /// Holds after the first rows, so often, and then goes on as this says.
    Holds(usize, Flow),
}

/// A sink, and whoever looks at what it has.
#[derive(Clone)]
pub struct Watch {
    seen: Arc<Mutex<Seen>>,
    does: Does,
}

impl Watch {
    /// Takes all there is.
    pub fn all() -> Watch {
        Watch { seen: Arc::default(), does: Does::TakesAll }
    }

    /// Wants no more after so many rows.
    pub fn stops_after(rows: usize) -> Watch {
        Watch { does: Does::StopsAfter(rows), ..Watch::all() }
    }

    /// Holds after the first rows until it was waited for so often, and then answers this.
    pub fn holds(times: usize, then: Flow) -> Watch {
        Watch { does: Does::Holds(times, then), ..Watch::all() }
    }

    /// It as a sink.
    pub fn sink(&self) -> Box<dyn Sink> {
        Box::new(Held(self.clone()))
    }

    /// What came so far.
    pub fn seen(&self) -> MutexGuard<'_, Seen> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether the session has let go of it.
    pub fn is_dropped(&self) -> bool {
        self.seen().dropped
    }
}

/// What a session owns of it.
struct Held(Watch);

impl Drop for Held {
    fn drop(&mut self) {
        self.0.seen().dropped = true;
    }
}

impl Sink for Held {
    fn wanted(&self) -> Flow {
        match self.0.does {
            Does::StopsAfter(most) if self.0.seen().count() >= most => Flow::Stop,
            Does::Holds(times, Flow::Stop) if self.0.seen().waits >= times => Flow::Stop,
            _ => Flow::Continue,
        }
    }

    fn take(&mut self, event: Event) -> Flow {
        let rows = matches!(event, Event::Rows(_));
        let mut seen = self.0.seen();
        // A statement without an end must not fill the memory.
        assert!(seen.count() < 20_000_000, "nothing stopped it");
        seen.events.push(event);
        let holds = matches!(self.0.does, Does::Holds(times, _) if rows && seen.waits < times);
        drop(seen);
        if holds { Flow::Hold } else { self.wanted() }
    }

    fn wait(&mut self, _: Duration) -> Flow {
        let Does::Holds(times, then) = self.0.does else { return Flow::Continue };
        let mut seen = self.0.seen();
        seen.waits += 1;
        if seen.waits < times { Flow::Hold } else { then }
    }
}
