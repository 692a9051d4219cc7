//! Rows in another order, and only some of them, without asking the server again.
//!
//! An [`Arrangement`] is a list of row numbers of an archive: four bytes a row, whatever the rows
//! hold. It is made by scanning columns batch by batch ([`condition`] and [`search`] say which rows
//! stay, [`sort`] in which order), so memory does not grow with what the values are. [`statement`] writes what asks the
//! server for the same; [`facts`] tells what a column holds, in the same way; [`pick`] reads the rows of an
//! arrangement, or a part of them, [`parts`] opens a column into others, and [`differ`] finds where two of them differ.

pub mod condition;
pub mod differ;
pub mod facts;
mod key;
pub mod parts;
pub mod pick;
pub mod search;
mod shortcut;
mod sort;
pub mod statement;

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

pub use condition::Condition;
pub use sort::Order;

use crate::archive::{Archive, ArchiveError};

/// How a person wants to see the rows of a result.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Wanted {
    /// By which columns, the first counts most.
    pub order: Vec<Order>,
    /// What rows must fulfil, all of it.
    pub conditions: Vec<Condition>,
    /// What one of the values of a row must hold, unless it is empty.
    pub search: String,
}

impl Wanted {
    /// Whether it is the rows as they came.
    pub fn is_plain(&self) -> bool {
        self.order.is_empty() && self.conditions.is_empty() && self.search.is_empty()
    }

    /// It in words, as `by price, latest first · status = held`.
    pub fn words(&self, names: &[String]) -> String {
        let name = |column: usize| names.get(column).map_or("?", String::as_str);
        let mut parts = Vec::new();
        if !self.search.is_empty() {
            parts.push(format!("with \"{}\"", self.search));
        }
        parts.extend(self.conditions.iter().map(|c| format!("{} {}", name(c.column), c.test)));
        if !self.order.is_empty() {
            let by: Vec<String> = self
                .order
                .iter()
                .map(|order| format!("{}{}", name(order.column), if order.descending { " down" } else { "" }))
                .collect();
            parts.push(format!("by {}", by.join(", ")));
        }
        parts.join(" · ")
    }
}

/// How far work has come, for others to see, and whether it is still wanted.
#[derive(Debug, Default)]
pub struct Progress {
    done: AtomicU64,
    of: AtomicU64,
    stop: AtomicBool,
}

impl Progress {
    /// Asks for an end.
    pub fn stop(&self) {
        self.stop.store(true, Ordering::Relaxed);
    }

    /// Whether an end was asked for.
    pub fn is_stopped(&self) -> bool {
        self.stop.load(Ordering::Relaxed)
    }

    /// Rows done, and of how many.
    pub fn so_far(&self) -> (u64, u64) {
        (self.done.load(Ordering::Relaxed), self.of.load(Ordering::Relaxed))
    }

    /// Says how much there is to do.
    pub fn expect(&self, of: u64) {
        self.of.store(of, Ordering::Relaxed);
    }

    /// Adds rows done; an error if no more is wanted.
    pub fn advance(&self, rows: usize) -> Result<(), ArrangeError> {
        self.done.fetch_add(rows as u64, Ordering::Relaxed);
        if self.is_stopped() { Err(ArrangeError::Stopped) } else { Ok(()) }
    }
}

/// Why rows could not be arranged.
#[derive(Debug, thiserror::Error)]
pub enum ArrangeError {
    /// A person did not want it any more.
    #[error("stopped")]
    Stopped,
    /// The archive could not be read.
    #[error(transparent)]
    Archive(#[from] ArchiveError),
    /// More rows than can be arranged.
    #[error("{0} rows are more than can be sorted or narrowed here; ask the server to do it")]
    TooMany(u64),
}

/// Row numbers of an archive, in the order in which they are shown.
#[derive(Debug, Default)]
pub struct Arrangement {
    rows: Vec<u32>,
    of: u64,
}

impl Arrangement {
    /// How many rows are shown.
    pub fn len(&self) -> u64 {
        self.rows.len() as u64
    }

    /// Whether no row is left.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// How many rows the archive had when it was made.
    pub fn of(&self) -> u64 {
        self.of
    }

    /// The archive's row that is shown at a place.
    pub fn row(&self, at: u64) -> Option<u64> {
        self.rows.get(usize::try_from(at).ok()?).map(|row| u64::from(*row))
    }

    /// The archive's rows from a place on.
    pub fn rows(&self, from: u64, count: usize) -> &[u32] {
        let from = usize::try_from(from).unwrap_or(usize::MAX).min(self.rows.len());
        let to = from.saturating_add(count).min(self.rows.len());
        self.rows.get(from..to).unwrap_or_default()
    }
}

/// Arranges the rows that an archive holds now.
pub fn arrange(archive: &Archive, wanted: &Wanted, progress: &Progress) -> Result<Arrangement, ArrangeError> {
    let of = archive.rows();
    if of > u64::from(u32::MAX) {
        return Err(ArrangeError::TooMany(of));
    }
    let narrows = !wanted.conditions.is_empty() || !wanted.search.is_empty();
    let rounds = usize::from(narrows) + wanted.order.len();
    progress.expect(of * rounds as u64);
    let kept = if narrows { Some(kept(archive, of, wanted, progress)?) } else { None };
    let rows = match (kept, wanted.order.is_empty()) {
        (Some(rows), true) => rows,
        (kept, _) => sort::sorted(archive, of, kept, &wanted.order, progress)?.0,
    };
    Ok(Arrangement { rows, of })
}

/// The rows that fulfil what is wanted, in the order of the archive.
fn kept(archive: &Archive, of: u64, wanted: &Wanted, progress: &Progress) -> Result<Vec<u32>, ArrangeError> {
    let schema = archive.schema();
    let search = search::Search::new(&wanted.search);
    let mut columns: Vec<usize> = match &search {
        Some(_) => (0..schema.fields().len()).collect(),
        None => wanted.conditions.iter().map(|condition| condition.column).collect(),
    };
    columns.retain(|column| *column < schema.fields().len());
    columns.sort_unstable();
    columns.dedup();
    let mut rows = Vec::new();
    let mut stay = Vec::new();
    for batch in archive.scan(Some(&columns), 0..of) {
        let (first, batch) = batch?;
        stay.clear();
        stay.resize(batch.num_rows(), true);
        for condition in &wanted.conditions {
            if let Ok(at) = columns.binary_search(&condition.column) {
                condition.test.narrow(batch.column(at), batch.schema_ref().field(at), &mut stay);
            }
        }
        if let Some(search) = &search {
            search.narrow(&batch, &mut stay);
        }
        let first = u32::try_from(first).unwrap_or(u32::MAX);
        rows.extend((first..).zip(&stay).filter(|(_, stays)| **stays).map(|(row, _)| row));
        progress.advance(batch.num_rows())?;
    }
    Ok(rows)
}

#[cfg(test)]
mod tests;
