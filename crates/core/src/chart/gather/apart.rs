//! One line of very many rows, gathered in pieces beside each other.

use std::thread;

use super::{Body, Counts, Data, Gather, PartError, is_lines_alone, range_of};
use crate::arrange::Progress;
use crate::arrange::pick::Part as Rows;
use crate::chart::choose::Plan;
use crate::chart::column::numbers;
use crate::chart::spec::Spec;

/// Fewer rows are not worth a thread.
const MANY: u64 = 200_000;

/// Always so many, whatever the machine: the same rows are the same picture everywhere.
const PIECES: u64 = 4;

/// The pieces, and the range that lines begin with.
pub(super) struct Pieces {
    parts: Vec<Rows>,
    range: (f64, f64),
}

/// The pieces of a part, if it is drawn as lines of all its rows and has many of them.
pub(super) fn pieces(plan: &Plan, part: &Rows) -> Option<Pieces> {
    let (at, rows) = (plan.x?, part.len());
    if !is_lines_alone(plan) || rows < MANY {
        return None;
    }
    let first = Rows { rows: part.rows.start..part.rows.start + 1000, ..part.clone() };
    // What cannot be read is told by whoever reads all of it.
    let first = first.batches().next()?.ok()?;
    let mut xs = Vec::new();
    numbers(first.column(at), first.schema_ref().field(at), plan.x_nature, &mut xs);
    let range = range_of(&xs);
    if range.0 > range.1 {
        return None;
    }
    let each = rows.div_ceil(PIECES);
    let (start, end) = (part.rows.start, part.rows.start + rows);
    let piece = |n: u64| Rows { rows: start + n * each..(start + (n + 1) * each).min(end), ..part.clone() };
    Some(Pieces { parts: (0..PIECES).map(piece).collect(), range })
}

/// Gathers each piece on a thread of its own, and puts them together.
pub(super) fn gather(plan: &Plan, spec: &Spec, pieces: &Pieces, progress: &Progress) -> Result<Data, PartError> {
    let one = |part: &Rows| -> Result<Data, PartError> {
        let range = Some(pieces.range);
        let mut gather = Gather { plan: Some(plan.clone()), range, ..Gather::new(spec.clone(), part.schema()) };
        for batch in part.batches() {
            let batch = batch?;
            gather.take(&batch)?;
            progress.advance(batch.num_rows()).map_err(|_| PartError::Stopped)?;
        }
        Ok(gather.finish()?)
    };
    let gathered: Vec<Result<Data, PartError>> = thread::scope(|scope| {
        let threads: Vec<_> = pieces.parts.iter().map(|part| scope.spawn(|| one(part))).collect();
        let joined = threads.into_iter().map(|thread| thread.join());
        joined.map(|data| data.unwrap_or_else(|panic| std::panic::resume_unwind(panic))).collect()
    });
    let mut gathered = gathered.into_iter().collect::<Result<Vec<_>, _>>()?.into_iter();
    let first = gathered.next().ok_or(PartError::Stopped)?;
    Ok(gathered.fold(first, Data::and))
}

impl Data {
    /// With the lines of rows that come after these.
    fn and(mut self, after: Data) -> Data {
        for ((_, part), (_, part_after)) in self.parts.iter_mut().zip(after.parts) {
            if let (Body::Lines(lines), Body::Lines(lines_after)) = (&mut part.body, part_after.body) {
                let before = std::mem::take(lines);
                *lines = before.into_iter().zip(lines_after).map(|(line, after)| line.and(after)).collect();
            }
        }
        let (a, b) = (self.counts, after.counts);
        self.counts = Counts {
            rows: a.rows + b.rows,
            without_place: a.without_place + b.without_place,
            elsewhere: a.elsewhere + b.elsewhere,
        };
        self
    }
}
