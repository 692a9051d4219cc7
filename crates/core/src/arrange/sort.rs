//! Sorting the rows of an archive by any of its columns, in memory that only the count of rows
//! decides: some twenty-five bytes a row at the most, however long the values are.
//!
//! A column is scanned once for a key of eight bytes a row. Where that leaves rows that cannot be
//! told apart yet, it is scanned again for the next bytes, or the next column is.

use std::ops::Range;

use super::key::{Keys, goes_on};
use super::{ArrangeError, Progress, shortcut};
use crate::archive::Archive;

/// A column to sort by. NULL comes last either way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Order {
    /// The column.
    pub column: usize,
    /// Whether the greatest comes first.
    pub descending: bool,
}

/// Rows that are not told apart yet, as a range of the sorted list.
type Tie = Range<u32>;

/// Rows in order; where some of them are equal in every column; and how many at the end have no value
/// in the column that counts most.
type Sorted = (Vec<u32>, Vec<Tie>, usize);

/// Sorts `rows`, or all. Rows that are equal keep their order.
pub(super) fn sorted(
    archive: &Archive,
    of: u64,
    rows: Option<Vec<u32>>,
    order: &[Order],
    progress: &Progress,
) -> Result<Sorted, ArrangeError> {
    let all = u32::try_from(of).map_err(|_| ArrangeError::TooMany(of))?;
    let mut untouched = rows.is_none();
    let mut rows = rows.unwrap_or_default();
    let mut ties: Vec<Tie> = Vec::new();
    ties.push(0..if untouched { all } else { rows.len() as u32 });
    let mut without = None;
    for Order { column, descending } in order {
        if archive.schema().fields().len() <= *column {
            continue;
        }
        // Those that the column leaves equal, for the next one to tell apart.
        let mut equal = Vec::new();
        for round in 0.. {
            ties.retain(|tie| tie.len() > 1 || without.is_none());
            if ties.is_empty() {
                break;
            }
            if round > 0 {
                let (_, expected) = progress.so_far();
                progress.expect(expected + of);
            }
            let step = (*column, *descending, round);
            let lists = (&mut rows, &mut ties, &mut equal);
            let (more, nulls) = match std::mem::take(&mut untouched) {
                true => begin(archive, of, step, lists, progress)?,
                false => refine(archive, of, step, lists, progress)?,
            };
            without.get_or_insert(nulls);
            if !more {
                break;
            }
        }
        equal.append(&mut ties);
        equal.sort_unstable_by_key(|tie| tie.start);
        ties = equal;
    }
    if untouched {
        rows = (0..all).collect();
    }
    Ok((rows, ties, without.unwrap_or(0)))
}

/// From so many rows on it is worth looking whether they have few different values.
const MANY: u64 = 4096;

/// A column, whether the greatest comes first, and which part of its values counts.
type Step = (usize, bool, usize);

/// The sorted rows, what is not told apart yet, and what cannot be.
type Lists<'a> = (&'a mut Vec<u32>, &'a mut Vec<Tie>, &'a mut Vec<Tie>);

/// Sorts all rows by the first part of a column's values: what [`refine`] does, without a list of keys.
fn begin(
    archive: &Archive,
    of: u64,
    (column, descending, round): Step,
    (rows, ties, equal): Lists<'_>,
    progress: &Progress,
) -> Result<(bool, usize), ArrangeError> {
    let by = (column, descending);
    let short = match shortcut::in_order(archive, of, by, progress)? {
        None if of >= MANY => shortcut::few(archive, of, by, progress)?,
        ordered => ordered,
    };
    if let Some(ordered) = short {
        *rows = ordered.rows;
        ties.clear();
        equal.extend(ordered.equal);
        return Ok((false, ordered.nulls));
    }
    let flip = if descending { u64::MAX } else { 0 };
    let mut pairs: Vec<(u64, u32)> = Vec::with_capacity(of as usize);
    let mut nulls = Vec::new();
    let mut more = false;
    for batch in archive.scan(Some(&[column]), 0..of) {
        let (first, batch) = batch?;
        let first = first as u32;
        let keys = Keys::of(batch.column(0), batch.schema_ref().field(0));
        more |= keys.each_part(round, |row, key| match key {
            Some(key) => pairs.push((key ^ flip, first + row as u32)),
            None => nulls.push(first + row as u32),
        });
        progress.advance(batch.num_rows())?;
    }
    sort_pairs(&mut pairs);
    rows.clear();
    rows.extend(pairs.iter().map(|(_, row)| *row).chain(nulls.iter().copied()));
    ties.clear();
    tell_ties(&pairs, 0, more, flip, (ties, equal));
    if nulls.len() > 1 {
        equal.push(pairs.len() as u32..rows.len() as u32);
    }
    Ok((more, nulls.len()))
}

/// Many pairs are sorted by two threads, each a half; a stable sort then finds two runs to merge.
fn sort_pairs(pairs: &mut [(u64, u32)]) {
    if pairs.len() < 1 << 16 {
        return pairs.sort_unstable();
    }
    let (left, right) = pairs.split_at_mut(pairs.len() / 2);
    std::thread::scope(|scope| {
        scope.spawn(|| left.sort_unstable());
        right.sort_unstable();
    });
    pairs.sort();
}

/// Where sorted pairs have the same key, from a place on: undecided as long as there is more to compare.
fn tell_ties(
    pairs: &[(u64, u32)],
    from: u32,
    more: bool,
    flip: u64,
    (open, equal): (&mut Vec<Tie>, &mut Vec<Tie>),
) -> u32 {
    let mut at = from;
    for same in pairs.chunk_by(|a, b| a.0 == b.0) {
        let range = at..at + same.len() as u32;
        at = range.end;
        if same.len() > 1 {
            let undecided = more && same.first().is_some_and(|(key, _)| goes_on(key ^ flip));
            if undecided { open.push(range) } else { equal.push(range) }
        }
    }
    at
}

/// Sorts within each tie by a part of a column's values. What is left in `ties` needs another round;
/// what no round can tell apart goes to `equal`. Returns whether there is more of some values, and how
/// many rows have none.
fn refine(
    archive: &Archive,
    of: u64,
    (column, descending, round): Step,
    (rows, ties, equal): Lists<'_>,
    progress: &Progress,
) -> Result<(bool, usize), ArrangeError> {
    // NULL is no key, so it is kept apart; a row with any key is marked.
    let mut keys = vec![0_u64; of as usize];
    let mut present = vec![0_u64; (of as usize).div_ceil(64)];
    let flip = if descending { u64::MAX } else { 0 };
    let mut more = false;
    for batch in archive.scan(Some(&[column]), 0..of) {
        let (first, batch) = batch?;
        let first = first as usize;
        more |= Keys::of(batch.column(0), batch.schema_ref().field(0)).each_part(round, |row, key| {
            if let (Some(key), Some(slot)) = (key, keys.get_mut(first + row)) {
                *slot = key ^ flip;
                if let Some(word) = present.get_mut((first + row) / 64) {
                    *word |= 1 << ((first + row) % 64);
                }
            }
        });
        progress.advance(batch.num_rows())?;
    }
    let is_present = |row: u32| present.get(row as usize / 64).is_some_and(|word| word >> (row % 64) & 1 == 1);
    let mut open = Vec::new();
    let mut pairs: Vec<(u64, u32)> = Vec::new();
    let mut nulls = Vec::new();
    let mut without = 0;
    for tie in ties.drain(..) {
        let Some(part) = rows.get_mut(tie.start as usize..tie.end as usize) else { continue };
        pairs.clear();
        nulls.clear();
        for row in part.iter() {
            if is_present(*row) {
                pairs.push((keys.get(*row as usize).copied().unwrap_or(0), *row));
            } else {
                nulls.push(*row);
            }
        }
        sort_pairs(&mut pairs);
        let sorted = pairs.iter().map(|(_, row)| *row).chain(nulls.iter().copied());
        part.iter_mut().zip(sorted).for_each(|(to, row)| *to = row);
        let at = tell_ties(&pairs, tie.start, more, flip, (&mut open, equal));
        without += nulls.len();
        if nulls.len() > 1 {
            equal.push(at..tie.end);
        }
        if progress.is_stopped() {
            return Err(ArrangeError::Stopped);
        }
    }
    *ties = open;
    Ok((more, without))
}
