//! Rows of two results beside each other, by a key: which only one of them has, and which values differ.
//!
//! Each side is read once, in its own order; of a row is kept what a fingerprint takes, 24 bytes, whatever the row holds.
//! Rows are then found by their fingerprints, and only those that differ are read again.

use std::borrow::Cow;
use std::hash::{BuildHasher, Hasher, RandomState};
use std::sync::Arc;

use arrow_array::RecordBatch;

use super::Difference;
use crate::archive::{Archive, ArchiveError};
use crate::arrange::pick::Part;
use crate::arrange::{ArrangeError, Progress};
use crate::slip::{Datum, datum};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};

/// A column that both sides have.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pair {
    /// Its name, as the left one has it.
    pub name: String,
    /// Its place on the left and on the right.
    pub at: [usize; 2],
    /// Whether it is part of the key.
    pub key: bool,
}

/// Which columns are compared.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Columns {
    /// Those that both have, in the order of the left.
    pub pairs: Vec<Pair>,
    /// The names of those that only one has.
    pub only: [Vec<String>; 2],
}

/// Why rows cannot be compared.
#[derive(Debug, thiserror::Error)]
pub enum CompareError {
    /// A column of the key is not there.
    #[error("the {1} has no column \"{0}\": it cannot be part of the key")]
    NoKey(String, &'static str),
    /// They have no column of the same name.
    #[error("the two have no column of the same name")]
    NothingInCommon,
    /// Reading failed, or a person stopped it.
    #[error(transparent)]
    Reading(#[from] ArrangeError),
}

impl From<ArchiveError> for CompareError {
    fn from(error: ArchiveError) -> CompareError {
        CompareError::Reading(error.into())
    }
}

impl Columns {
    /// Matches columns by their names, first as they stand and then in any case. The key is given by names; without one
    /// all columns that both have are it, and rows are the same or not.
    pub fn matched(left: &[String], right: &[String], key: &[String]) -> Result<Columns, CompareError> {
        let mut taken = vec![false; right.len()];
        let mut partner = vec![None; left.len()];
        for same in [|a: &str, b: &str| a == b, |a: &str, b: &str| a.to_lowercase() == b.to_lowercase()] {
            for (at, name) in left.iter().enumerate().filter(|(at, _)| partner[*at].is_none()).collect::<Vec<_>>() {
                let found = (0..right.len()).find(|other| !taken[*other] && same(name, &right[*other]));
                if let Some(other) = found {
                    (taken[other], partner[at]) = (true, Some(other));
                }
            }
        }
        let both = left.iter().zip(&partner).enumerate();
        let mut pairs: Vec<Pair> = both
            .filter_map(|(at, (name, other))| {
                Some(Pair { name: name.clone(), at: [at, (*other)?], key: key.is_empty() })
            })
            .collect();
        if pairs.is_empty() {
            return Err(CompareError::NothingInCommon);
        }
        for name in key {
            let means = |pair: &Pair| pair.name.to_lowercase() == name.to_lowercase();
            let found = pairs.iter().position(|pair| pair.name == *name).or_else(|| pairs.iter().position(means));
            match found {
                Some(at) => pairs[at].key = true,
                None => {
                    let is_left = left.iter().any(|known| known.to_lowercase() == name.to_lowercase());
                    return Err(CompareError::NoKey(name.clone(), if is_left { "right one" } else { "left one" }));
                }
            }
        }
        let alone = |names: &[String], has: &dyn Fn(usize) -> bool| {
            names.iter().enumerate().filter(|(at, _)| !has(*at)).map(|(_, name)| name.clone()).collect::<Vec<_>>()
        };
        let only = [alone(left, &|at| partner[at].is_some()), alone(right, &|at| taken[at])];
        Ok(Columns { pairs, only })
    }

    /// The names of the key, for a sentence; all columns are none.
    pub fn key(&self) -> Vec<&str> {
        match self.pairs.iter().all(|pair| pair.key) {
            true => Vec::new(),
            false => self.pairs.iter().filter(|pair| pair.key).map(|pair| pair.name.as_str()).collect(),
        }
    }
}

/// A row that differs: its number in the archives. One that both have is there twice.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Differing {
    /// The row on the left.
    pub left: Option<u32>,
    /// The row on the right.
    pub right: Option<u32>,
}

impl Differing {
    /// How it differs.
    pub fn what(&self) -> Difference {
        match (self.left, self.right) {
            (Some(_), Some(_)) => Difference::Changed,
            (Some(_), None) => Difference::OnlyLeft,
            _ => Difference::OnlyRight,
        }
    }
}

/// Two results that were compared. It holds both archives, so that they are there as long as it is.
#[derive(Debug, Clone)]
pub struct Comparison {
    /// Which columns were compared.
    pub columns: Columns,
    /// The rows of both sides.
    pub sides: [Arc<Archive>; 2],
    /// The rows that differ, in the order of the left; one that only the right has stands before the one that it is
    /// followed by there.
    pub rows: Vec<Differing>,
    /// How many rows are the same.
    pub same: u64,
    /// How many rows of each side have a key that a row before them has. They are put together in the order in which they
    /// stand.
    pub repeated: [u64; 2],
}

/// A row that differs, with its values.
#[derive(Debug, Clone, PartialEq)]
pub struct Shown {
    /// How it differs.
    pub what: Difference,
    /// Left and right for each pair of columns.
    pub cells: Vec<[Option<Datum>; 2]>,
    /// Which of these are not the same.
    pub differs: Vec<bool>,
}

/// What stands for a row: hashes with keys of this run of the program, so that nobody can make two rows meet. That two
/// different rows of the same key are taken for the same has a chance of 2⁻⁶⁴.
struct Print {
    key: u64,
    values: u64,
    row: u32,
}

/// Puts the rows of two results beside each other.
pub fn compare(left: &Part, right: &Part, columns: Columns, progress: &Progress) -> Result<Comparison, CompareError> {
    progress.expect(left.len() + right.len());
    let hash = RandomState::new();
    let mut left_prints = prints((left, 0), &columns, &hash, progress)?;
    let mut right_prints = prints((right, 1), &columns, &hash, progress)?;
    let order = |print: &Print| (print.key, print.row);
    let shown = |part: &Part, prints: &[Print]| part.arrangement.as_ref().map(|_| places(prints));
    // Where a side is arranged its own order counts, and not that of the archive.
    let shown = [shown(left, &left_prints), shown(right, &right_prints)];
    left_prints.sort_unstable_by_key(order);
    right_prints.sort_unstable_by_key(order);
    let (mut rows, mut same) = (Vec::new(), 0);
    // The row on the left of each row on the right.
    let mut partner: Vec<(u32, Option<u32>)> = Vec::with_capacity(right_prints.len());
    let (mut at, mut with) = (0, 0);
    while let Some(print) = left_prints.get(at) {
        match right_prints.get(with) {
            Some(other) if other.key < print.key => {
                rows.push(Differing { left: None, right: Some(other.row) });
                partner.push((other.row, None));
                with += 1;
            }
            Some(other) if other.key == print.key => {
                partner.push((other.row, Some(print.row)));
                match other.values == print.values {
                    true => same += 1,
                    false => rows.push(Differing { left: Some(print.row), right: Some(other.row) }),
                }
                (at, with) = (at + 1, with + 1);
            }
            _ => {
                rows.push(Differing { left: Some(print.row), right: None });
                at += 1;
            }
        }
    }
    for other in right_prints.get(with..).unwrap_or_default() {
        rows.push(Differing { left: None, right: Some(other.row) });
        partner.push((other.row, None));
    }
    let again = |prints: &[Print]| prints.windows(2).filter(|two| two[0].key == two[1].key).count() as u64;
    let repeated = [again(&left_prints), again(&right_prints)];
    drop((left_prints, right_prints));
    let shown_at = |side: usize, row: u32| match &shown[side] {
        Some(places) => places.get(&row).copied().unwrap_or(row),
        None => row,
    };
    partner.sort_unstable_by_key(|(right, _)| shown_at(1, *right));
    let mut place = u32::MAX;
    let mut before = std::collections::HashMap::new();
    for (right, left) in partner.into_iter().rev() {
        match left {
            Some(left) => place = shown_at(0, left),
            None => drop(before.insert(right, place)),
        }
    }
    rows.sort_by_key(|row| match (row.left, row.right) {
        (None, Some(right)) => (before.get(&right).copied().unwrap_or(u32::MAX), 0, shown_at(1, right)),
        (Some(left), _) => (shown_at(0, left), 1, 0),
        (None, None) => (0, 0, 0),
    });
    let sides = [Arc::clone(&left.archive), Arc::clone(&right.archive)];
    Ok(Comparison { columns, sides, rows, same, repeated })
}

/// Where each row is shown.
fn places(prints: &[Print]) -> std::collections::HashMap<u32, u32> {
    prints.iter().zip(0..).map(|(print, place)| (print.row, place)).collect()
}

fn prints(
    (part, side): (&Part, usize),
    columns: &Columns,
    hash: &RandomState,
    progress: &Progress,
) -> Result<Vec<Print>, CompareError> {
    let many = part.rows.start + part.len();
    u32::try_from(many).map_err(|_| ArrangeError::TooMany(many))?;
    // All columns, by their place in the archive.
    let part = &Part { columns: None, ..part.clone() };
    let mut all = Vec::with_capacity(part.len() as usize);
    let (mut text, mut at) = (String::new(), part.rows.start);
    for batch in part.batches() {
        let batch = batch?;
        let readers = ColumnReader::all(&batch);
        for row in 0..batch.num_rows() {
            let (mut key, mut values) = (hash.build_hasher(), hash.build_hasher());
            values.write_u8(1);
            for pair in &columns.pairs {
                let Some(reader) = readers.get(pair.at[side]) else { continue };
                text.clear();
                let kind = reader.put(row, &mut text);
                let (tag, value) = plain(kind, moment(reader, &text));
                let hasher = if pair.key { &mut key } else { &mut values };
                hasher.write_u8(tag);
                hasher.write(value.as_bytes());
                hasher.write_u8(0xff);
            }
            let number = part.arrangement.as_ref().and_then(|arrangement| arrangement.row(at)).unwrap_or(at);
            all.push(Print { key: key.finish(), values: values.finish(), row: number as u32 });
            at += 1;
        }
        progress.advance(batch.num_rows())?;
    }
    Ok(all)
}

/// A value as it is compared, with what tells values of different kinds apart: two databases may have the same value in
/// different types. Numbers are told without zeros that say nothing; true and false are 1 and 0, as they are where there
/// is no type for them; a number that stands in a text is that text.
fn plain(kind: CellKind, text: &str) -> (u8, Cow<'_, str>) {
    match kind {
        CellKind::Null => (0, "".into()),
        // Some servers write a sign before the digits.
        CellKind::Binary => (2, text.trim_start_matches("\\x").into()),
        CellKind::Boolean => (1, if text == "true" { "1" } else { "0" }.into()),
        CellKind::Number => (1, number(text)),
        CellKind::Text => (1, text.into()),
    }
}

/// The digits of a number, without those that say nothing after the point; with an exponent as this program writes it.
fn number(text: &str) -> Cow<'_, str> {
    if text.contains(['e', 'E']) {
        let value = text.parse::<f64>().ok().filter(|value| value.is_finite());
        return value.map_or(text.into(), |value| ryu::Buffer::new().format_finite(value).to_owned().into());
    }
    match text.contains('.') {
        true => text.trim_end_matches('0').trim_end_matches('.'),
        false => text,
    }
    .into()
}

/// The text of a value, without zeros at the end of a second's fraction where it is a point in time: columns keep more of
/// them or fewer.
fn moment<'a>(reader: &ColumnReader<'_>, text: &'a str) -> &'a str {
    let plain = reader.is_moment() && text.contains('.') && text.ends_with(|last: char| last.is_ascii_digit());
    let zoned = || text.get(10..).is_some_and(|clock| clock.contains(['+', '-', 'Z']));
    if plain && !zoned() { text.trim_end_matches('0').trim_end_matches('.') } else { text }
}

/// Whether two values are the same, by the rule that rows are compared by.
pub fn same(left: &Datum, right: &Datum) -> bool {
    let plain = |datum: &Datum| {
        let (kind, text) = match datum {
            Datum::Null | Datum::Default | Datum::Absent => (CellKind::Null, ""),
            Datum::Number(text) => (CellKind::Number, text.as_str()),
            Datum::Text(text) | Datum::Written(text) => (CellKind::Text, text.as_str()),
            Datum::Bytes(text) => (CellKind::Binary, text.as_str()),
            Datum::Bool(value) => (CellKind::Boolean, if *value { "true" } else { "false" }),
        };
        let (tag, text) = plain(kind, text);
        (tag, text.into_owned())
    };
    plain(left) == plain(right)
}

impl Comparison {
    /// How many rows differ in each way.
    pub fn counted(&self, what: Difference) -> u64 {
        self.rows.iter().filter(|row| row.what() == what).count() as u64
    }

    /// Whether the two are the same: in rows, and in the columns that both have.
    pub fn is_same(&self) -> bool {
        self.rows.is_empty()
    }

    /// Rows that differ, with their values. Rows whose archive no longer has them are left out.
    pub fn shown(&self, rows: &[Differing]) -> Result<Vec<Shown>, CompareError> {
        let read = |side: usize| -> Result<RecordBatch, CompareError> {
            let wanted = rows.iter().filter_map(|row| if side == 0 { row.left } else { row.right });
            Ok(self.sides[side].gather(&wanted.collect::<Vec<_>>(), None)?)
        };
        let batches = [read(0)?, read(1)?];
        let readers = [ColumnReader::all(&batches[0]), ColumnReader::all(&batches[1])];
        let mut at = [0, 0];
        let mut all = Vec::with_capacity(rows.len());
        for row in rows {
            let mut cells: Vec<[Option<Datum>; 2]> = vec![[None, None]; self.columns.pairs.len()];
            for (side, number) in [row.left, row.right].into_iter().enumerate() {
                if number.is_none() {
                    continue;
                }
                for (pair, cell) in self.columns.pairs.iter().zip(&mut cells) {
                    let reader = readers[side].get(pair.at[side]).filter(|_| at[side] < batches[side].num_rows());
                    cell[side] = reader.map(|reader| {
                        let read = reader.get(at[side]);
                        datum(read.kind, &read.text)
                    });
                }
                at[side] += 1;
            }
            let compared = |value: &Datum, side: usize, pair: &Pair| match (value, readers[side].get(pair.at[side])) {
                (Datum::Text(text), Some(reader)) => Datum::Text(moment(reader, text).to_owned()),
                (value, _) => value.clone(),
            };
            let differs = cells.iter().zip(&self.columns.pairs).map(|([left, right], pair)| match (left, right) {
                (Some(left), Some(right)) => !same(&compared(left, 0, pair), &compared(right, 1, pair)),
                _ => true,
            });
            let differs = differs.collect();
            all.push(Shown { what: row.what(), cells, differs });
        }
        Ok(all)
    }
}
