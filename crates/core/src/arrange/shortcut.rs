//! Shortcuts where a column needs no sorting: its rows are in order already, as what a server sends often
//! is, or it has few different values. Both give up as soon as they see that they do not apply.

use std::cmp::Ordering;
use std::collections::HashMap;
use std::ops::Range;

use super::key::{Comparable, Keys};
use super::{ArrangeError, Progress};
use crate::archive::Archive;

/// Rows in order, where some of them are equal, and how many at the end have no value.
#[derive(Debug)]
pub(super) struct Ordered {
    pub(super) rows: Vec<u32>,
    pub(super) equal: Vec<Range<u32>>,
    pub(super) nulls: usize,
}

impl Ordered {
    /// Puts the rows without a value at the end.
    fn with_nulls(mut self, nulls: &[u32]) -> Ordered {
        let from = self.rows.len() as u32;
        self.rows.extend_from_slice(nulls);
        self.nulls = nulls.len();
        if nulls.len() > 1 {
            self.equal.push(from..self.rows.len() as u32);
        }
        self
    }
}

/// A value that outlives its batch.
#[derive(Default)]
struct Kept {
    number: u64,
    bytes: Vec<u8>,
}

impl Kept {
    fn cmp(&self, value: Comparable<'_>) -> Ordering {
        match value {
            Comparable::Number(number) => self.number.cmp(&number),
            Comparable::Bytes(bytes) => self.bytes.as_slice().cmp(bytes),
        }
    }

    fn set(&mut self, value: Comparable<'_>) {
        match value {
            Comparable::Number(number) => self.number = number,
            Comparable::Bytes(bytes) => {
                self.bytes.clear();
                self.bytes.extend_from_slice(bytes);
            }
        }
    }
}

/// All rows in the order of a column, if they rise or fall from the first to the last.
pub(super) fn in_order(
    archive: &Archive,
    of: u64,
    (column, descending): (usize, bool),
    progress: &Progress,
) -> Result<Option<Ordered>, ArrangeError> {
    let (mut rising, mut falling) = (true, true);
    let mut rows: Vec<u32> = Vec::with_capacity(of as usize);
    let (mut equal, mut nulls) = (Vec::new(), Vec::new());
    let (mut last, mut begun) = (Kept::default(), 0);
    for batch in archive.scan(Some(&[column]), 0..of) {
        let (first, batch) = batch?;
        let keys = Keys::of(batch.column(0), batch.schema_ref().field(0));
        keys.each(|row, value| {
            let row = first as u32 + row as u32;
            let Some(value) = value else { return nulls.push(row) };
            let here = rows.len() as u32;
            match if here == 0 { Ordering::Equal } else { last.cmp(value) } {
                Ordering::Equal => {}
                differs => {
                    rising &= differs == Ordering::Less;
                    falling &= differs == Ordering::Greater;
                    if here - begun > 1 {
                        equal.push(begun..here);
                    }
                    begun = here;
                }
            }
            if here == begun {
                last.set(value);
            }
            rows.push(row);
        });
        if progress.is_stopped() {
            return Err(ArrangeError::Stopped);
        }
        if !rising && !falling {
            return Ok(None);
        }
    }
    let all = rows.len() as u32;
    if all - begun > 1 {
        equal.push(begun..all);
    }
    progress.advance(of as usize)?;
    if if descending { !falling } else { !rising } {
        // From the last to the first, but rows that are equal keep their order.
        rows.reverse();
        equal = equal.into_iter().rev().map(|tie| all - tie.end..all - tie.start).collect();
        for tie in &equal {
            rows[tie.start as usize..tie.end as usize].reverse();
        }
    }
    Ok(Some(Ordered { rows, equal, nulls: 0 }.with_nulls(&nulls)))
}

/// The number of the row's value that stands for none.
const NONE: u8 = u8::MAX;

/// Numbers for different values, at most [`NONE`] of them.
#[derive(Default)]
struct Different {
    numbers: Vec<u64>,
    bytes: Vec<Vec<u8>>,
    places: HashMap<Vec<u8>, u8>,
    /// Where each number was seen: a table of hashes, of which most places are free.
    table: Vec<u8>,
}

impl Different {
    /// The number of a value; none if there are too many.
    fn number_of(&mut self, value: Comparable<'_>) -> Option<u8> {
        match value {
            Comparable::Number(number) => self.of_number(number),
            Comparable::Bytes(bytes) => match self.places.get(bytes) {
                Some(place) => Some(*place),
                None => {
                    let place = u8::try_from(self.bytes.len()).ok().filter(|place| *place < NONE)?;
                    self.bytes.push(bytes.to_vec());
                    self.places.insert(bytes.to_vec(), place);
                    Some(place)
                }
            },
        }
    }

    fn of_number(&mut self, number: u64) -> Option<u8> {
        const PLACES: usize = 1024;
        if self.table.is_empty() {
            self.table.resize(PLACES, NONE);
        }
        // The upper bits of a product with an odd number without a pattern.
        let mut at = (number.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 54) as usize % PLACES;
        while let Some(place) = self.table.get(at).copied().filter(|place| *place != NONE) {
            if self.numbers.get(usize::from(place)) == Some(&number) {
                return Some(place);
            }
            at = (at + 1) % PLACES;
        }
        let place = u8::try_from(self.numbers.len()).ok().filter(|place| *place < NONE)?;
        self.numbers.push(number);
        self.table[at] = place;
        Some(place)
    }

    /// The numbers in the order of their values.
    fn in_order(&self, descending: bool) -> Vec<u8> {
        let mut order: Vec<u8> = (0..NONE).take(self.numbers.len().max(self.bytes.len())).collect();
        let compare = |a: &u8, b: &u8| {
            let (a, b) = (usize::from(*a), usize::from(*b));
            self.numbers.get(a).cmp(&self.numbers.get(b)).then_with(|| self.bytes.get(a).cmp(&self.bytes.get(b)))
        };
        order.sort_by(|a, b| if descending { compare(b, a) } else { compare(a, b) });
        order
    }
}

/// All rows in the order of a column that has few different values.
pub(super) fn few(
    archive: &Archive,
    of: u64,
    (column, descending): (usize, bool),
    progress: &Progress,
) -> Result<Option<Ordered>, ArrangeError> {
    let mut different = Different::default();
    let mut values: Vec<u8> = Vec::with_capacity(of as usize);
    let mut too_many = false;
    for batch in archive.scan(Some(&[column]), 0..of) {
        let (_, batch) = batch?;
        let keys = Keys::of(batch.column(0), batch.schema_ref().field(0));
        keys.each(|_, value| {
            let number = match value {
                None => Some(NONE),
                Some(_) if too_many => None,
                Some(value) => different.number_of(value),
            };
            too_many |= number.is_none();
            values.push(number.unwrap_or(NONE));
        });
        if progress.is_stopped() {
            return Err(ArrangeError::Stopped);
        }
        if too_many {
            return Ok(None);
        }
    }
    let mut counts = [0_u32; 256];
    for value in &values {
        counts[usize::from(*value)] += 1;
    }
    let mut places = [0_u32; 256];
    let mut equal = Vec::new();
    let mut from = 0;
    for value in different.in_order(descending).into_iter().chain([NONE]) {
        places[usize::from(value)] = from;
        let end = from + counts[usize::from(value)];
        if end - from > 1 {
            equal.push(from..end);
        }
        from = end;
    }
    let mut rows = vec![0_u32; values.len()];
    for (row, value) in (0..).zip(&values) {
        let place = &mut places[usize::from(*value)];
        rows[*place as usize] = row;
        *place += 1;
    }
    progress.advance(of as usize)?;
    Ok(Some(Ordered { rows, equal, nulls: counts[usize::from(NONE)] as usize }))
}
