//! The first rows of something, looked at and kept nowhere.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use arrow_array::RecordBatch;

use jaunty_seam::engine::{Event, Flow, Sink};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::cell::{CellKind, ColumnReader, NULL_TEXT};

/// Rows as text, not cleaned.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Sample {
    /// The names of the columns.
    pub names: Vec<String>,
    /// The rows: of each column what the value is, and its text.
    pub rows: Vec<Vec<(CellKind, String)>>,
}

/// How many rows a sample has at most: one more than the statements for it ask for, so that none is
/// stopped that would have ended by itself.
pub const ROWS: usize = 101;

/// The most of a value that a sample holds, in characters.
const WIDEST: usize = 200;

/// Takes the first rows that `give` pushes, as long as they are wanted.
pub fn take(
    wanted: impl Fn() -> bool + Send + 'static,
    give: impl FnOnce(Box<dyn Sink>) -> Result<(), EngineError>,
) -> Result<Sample, EngineError> {
    let sample = Arc::<Mutex<Sample>>::default();
    let preview = Preview { sample: Arc::clone(&sample), wanted: Box::new(wanted) };
    match give(Box::new(preview)) {
        Err(error) if error.kind != ErrorKind::Stopped => Err(error),
        // It is stopped once there are enough.
        _ => Ok(std::mem::take(&mut *sample.lock().unwrap_or_else(PoisonError::into_inner))),
    }
}

struct Preview {
    sample: Arc<Mutex<Sample>>,
    wanted: Box<dyn Fn() -> bool + Send>,
}

impl Preview {
    fn rows(&self, batch: &RecordBatch) {
        let readers = ColumnReader::all(batch);
        let mut sample = self.sample();
        // Columns may turn up with the rows.
        let late = batch.schema_ref().fields().iter().skip(sample.names.len());
        let late: Vec<_> = late.map(|field| field.name().clone()).collect();
        sample.names.extend(late);
        let columns = sample.names.len();
        for row in &mut sample.rows {
            row.resize(columns, (CellKind::Null, NULL_TEXT.to_owned()));
        }
        let room = ROWS.saturating_sub(sample.rows.len());
        for row in 0..batch.num_rows().min(room) {
            let cell = |reader: &ColumnReader<'_>| {
                let cell = reader.get(row);
                (cell.kind, cell.text.chars().take(WIDEST).collect())
            };
            sample.rows.push(readers.iter().map(cell).collect());
        }
    }

    fn sample(&self) -> MutexGuard<'_, Sample> {
        self.sample.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Sink for Preview {
    fn wanted(&self) -> Flow {
        if (self.wanted)() && self.sample().rows.len() < ROWS { Flow::Continue } else { Flow::Stop }
    }

    fn take(&mut self, event: Event) -> Flow {
        match event {
            Event::Begins { schema, .. } => {
                let names = schema.fields().iter().map(|field| field.name().clone()).collect();
                *self.sample() = Sample { names, rows: Vec::new() };
            }
            Event::Rows(batch) => self.rows(&batch),
            _ => return Flow::Continue,
        }
        self.wanted()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::{Int64Array, RecordBatch};
    use arrow_schema::{DataType, Field, Schema};

    fn batch(names: &[&str]) -> RecordBatch {
        let fields: Vec<_> = names.iter().map(|name| Field::new(*name, DataType::Int64, true)).collect();
        let columns = names.iter().map(|_| Arc::new(Int64Array::from(vec![7])) as _).collect();
        RecordBatch::try_new(Arc::new(Schema::new(fields)), columns).unwrap()
    }

    #[test]
    fn columns_that_turn_up_with_later_rows_are_in_it() {
        let sample = take(
            || true,
            |mut sink| {
                let first = batch(&["id"]);
                sink.take(Event::Begins { schema: first.schema(), name: None });
                sink.take(Event::Rows(first));
                sink.take(Event::Rows(batch(&["id", "note"])));
                Ok(())
            },
        );
        let sample = sample.unwrap();
        let texts: Vec<Vec<&str>> =
            sample.rows.iter().map(|row| row.iter().map(|(_, text)| text.as_str()).collect()).collect();
        assert_eq!(
            (sample.names, texts),
            (vec!["id".into(), "note".into()], vec![vec!["7", NULL_TEXT], vec!["7", "7"]])
        );
    }
}
