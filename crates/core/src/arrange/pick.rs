//! Reading a part of a result: as it came or arranged, all rows or some, all columns or some.

use std::ops::Range;
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_schema::{Schema, SchemaRef};

use super::Arrangement;
use crate::archive::{Archive, ArchiveError};
use jaunty_seam::rows::BATCH_ROWS;

/// About how many bytes are gathered at a time.
const GATHERED: u64 = 32 << 20;

/// A part of a result.
#[derive(Debug, Clone)]
pub struct Part {
    /// The result.
    pub archive: Arc<Archive>,
    /// The order of its rows, unless it is their own.
    pub arrangement: Option<Arc<Arrangement>>,
    /// Which rows, as they are shown.
    pub rows: Range<u64>,
    /// Which columns, in the order in which they are shown; all where it says none.
    pub columns: Option<Vec<usize>>,
}

impl Part {
    /// All of a result.
    pub fn whole(archive: Arc<Archive>) -> Part {
        let rows = 0..archive.rows();
        Part { archive, arrangement: None, rows, columns: None }
    }

    /// How many rows.
    pub fn len(&self) -> u64 {
        let of = self.arrangement.as_ref().map_or_else(|| self.archive.rows(), |arrangement| arrangement.len());
        self.rows.end.min(of).saturating_sub(self.rows.start)
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The columns.
    pub fn schema(&self) -> SchemaRef {
        let schema = self.archive.schema();
        let Some(columns) = &self.columns else { return schema };
        let fields: Vec<_> = columns.iter().filter_map(|column| schema.fields().get(*column).cloned()).collect();
        Arc::new(Schema::new_with_metadata(fields, schema.metadata().clone()))
    }

    /// The rows, batch by batch.
    pub fn batches(&self) -> Box<dyn Iterator<Item = Result<RecordBatch, ArchiveError>> + '_> {
        // The file has them in its own order.
        let mut read = self.columns.clone().unwrap_or_default();
        read.sort_unstable();
        read.dedup();
        let read = self.columns.is_some().then_some(read);
        let places: Option<Vec<usize>> = self
            .columns
            .as_ref()
            .zip(read.as_ref())
            .map(|(columns, read)| columns.iter().filter_map(|column| read.binary_search(column).ok()).collect());
        let shown = move |batch: RecordBatch| match &places {
            Some(places) => Ok(batch.project(places)?),
            None => Ok(batch),
        };
        let Some(arrangement) = self.arrangement.clone() else {
            let scanned = self.archive.scan(read.as_deref(), self.rows.clone());
            return Box::new(scanned.map(move |batch| shown(batch?.1)));
        };
        let (from, to) = (self.rows.start, self.rows.start + self.len());
        let at_once = self.at_once();
        let chunks = (from..to).step_by(at_once);
        let gathered = chunks.map(move |at| {
            let count = at_once.min((to - at) as usize);
            self.archive.gather(arrangement.rows(at, count), read.as_deref()).and_then(&shown)
        });
        Box::new(gathered.flat_map(|batch| match batch {
            Ok(batch) => {
                let starts = (0..batch.num_rows()).step_by(BATCH_ROWS);
                let slices: Vec<_> =
                    starts.map(|at| Ok(batch.slice(at, BATCH_ROWS.min(batch.num_rows() - at)))).collect();
                slices
            }
            Err(error) => vec![Err(error)],
        }))
    }

    /// How many rows are gathered at a time: rows that lie all over the file mean reading all of it.
    fn at_once(&self) -> usize {
        let size = std::fs::metadata(self.archive.path()).map_or(0, |data| data.len());
        let each = (size / self.archive.rows().max(1)).max(1);
        usize::try_from(GATHERED / each).unwrap_or(usize::MAX).clamp(256, 256 << 10)
    }
}
