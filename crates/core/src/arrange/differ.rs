//! The first row in which two results differ, as their rows stand beside each other.

use arrow_array::{Array, ArrayRef, RecordBatch};
use arrow_schema::Field;

use super::pick::Part;
use super::{ArrangeError, Progress};
use crate::archive::ArchiveError;
use jaunty_seam::rows::cell::ColumnReader;

/// Where two results differ.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Difference {
    /// The row, counted from the first of both parts.
    pub row: u64,
    /// The first column of the part with another value; none if only one of the parts has such a row.
    pub column: Option<usize>,
}

/// Finds the first row in which two parts differ. Columns are compared by their place; those that only
/// one of the parts has are not. Values of the same type are compared as they are kept, others as they
/// are shown.
pub fn first(left: &Part, right: &Part, progress: &Progress) -> Result<Option<Difference>, ArrangeError> {
    progress.expect(left.len().min(right.len()));
    let mut sides = [Side::new(left), Side::new(right)];
    let mut row = 0;
    loop {
        let [left, right] = &mut sides;
        let (left, right) = match (left.rest()?, right.rest()?) {
            (Some(left), Some(right)) => (left, right),
            (None, None) => return Ok(None),
            _ => return Ok(Some(Difference { row, column: None })),
        };
        let rows = left.num_rows().min(right.num_rows());
        if let Some((at, column)) = first_of(&left.slice(0, rows), &right.slice(0, rows)) {
            return Ok(Some(Difference { row: row + at as u64, column: Some(column) }));
        }
        sides.iter_mut().for_each(|side| side.taken += rows);
        row += rows as u64;
        progress.advance(rows)?;
    }
}

/// The batches of a part, which are not as long as those of the other one.
struct Side<'a> {
    batches: Box<dyn Iterator<Item = Result<RecordBatch, ArchiveError>> + 'a>,
    batch: Option<RecordBatch>,
    /// How many rows of the batch were compared already.
    taken: usize,
}

impl<'a> Side<'a> {
    fn new(part: &'a Part) -> Side<'a> {
        Side { batches: part.batches(), batch: None, taken: 0 }
    }

    /// The rows of the batch in hand that were not compared yet; none at the end.
    fn rest(&mut self) -> Result<Option<RecordBatch>, ArchiveError> {
        loop {
            match &self.batch {
                Some(batch) if self.taken < batch.num_rows() => {
                    return Ok(Some(batch.slice(self.taken, batch.num_rows() - self.taken)));
                }
                _ => self.taken = 0,
            }
            self.batch = self.batches.next().transpose()?;
            if self.batch.is_none() {
                return Ok(None);
            }
        }
    }
}

/// The first row in which batches of as many rows differ, and the first column there.
fn first_of(left: &RecordBatch, right: &RecordBatch) -> Option<(usize, usize)> {
    let columns = left.columns().iter().zip(left.schema_ref().fields());
    let others = right.columns().iter().zip(right.schema_ref().fields());
    let mut found: Option<(usize, usize)> = None;
    for (at, (here, there)) in columns.zip(others).enumerate() {
        // What comes behind a row that is found already does not count.
        let rows = found.map_or(left.num_rows(), |(row, _)| row);
        let column = |(values, field): (&ArrayRef, _)| (values.slice(0, rows), field);
        if let Some(row) = first_in(column(here), column(there)) {
            found = Some((row, at));
        }
    }
    found
}

type Column<'a> = (ArrayRef, &'a std::sync::Arc<Field>);

fn first_in((left, field): Column, (right, other): Column) -> Option<usize> {
    if left.data_type() != right.data_type() {
        let readers = [ColumnReader::of(&left, field), ColumnReader::of(&right, other)];
        let [mut here, mut there] = [String::new(), String::new()];
        return (0..left.len()).find(|row| {
            here.clear();
            there.clear();
            let [left, right] = &readers;
            left.put(*row, &mut here) != right.put(*row, &mut there) || here != there
        });
    }
    let same = |from: usize, rows: usize| left.slice(from, rows) == right.slice(from, rows);
    if same(0, left.len()) {
        return None;
    }
    // Halved until one row is left: comparing whole ranges is what the kernels are quick at.
    let (mut from, mut rows) = (0, left.len());
    while rows > 1 {
        let half = rows / 2;
        (from, rows) = if same(from, half) { (from + half, rows - half) } else { (from, half) };
    }
    Some(from)
}
