//! What a column holds: how many values, how many different ones, the least and the greatest, the
//! mean, the most frequent, and how they are spread.
//!
//! All of it is exact, whatever the column holds: it is read off the column's sorted rows.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Decimal128Type, Float32Type, Float64Type, Int16Type, Int32Type, Int64Type, Time64MicrosecondType,
    TimestampMicrosecondType, UInt32Type, UInt64Type,
};
use arrow_array::{Array, ArrayRef};
use arrow_schema::{DataType, Field, TimeUnit};

use super::pick::Part;
use super::sort::{Order, sorted};
use super::{ArrangeError, Arrangement, Progress};
use crate::archive::Archive;
use jaunty_seam::rows::assemble::Value;
use jaunty_seam::rows::cell::{Cell, CellKind, ColumnReader};
use jaunty_seam::rows::form::TextForm;
use jaunty_seam::rows::moment::instant;
use jaunty_seam::rows::span;
use jaunty_seam::rows::widen::{is_mixed, mixed_value};

/// Values that come most often are told up to this many.
const FREQUENT: usize = 10;
/// Into so many parts the values between the least and the greatest are divided.
pub const BINS: usize = 24;

/// What a column holds.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ColumnStats {
    /// Its name.
    pub name: String,
    /// Rows that were looked at.
    pub rows: u64,
    /// Rows without a value.
    pub nulls: u64,
    /// Different values.
    pub distinct: u64,
    /// The least value and the greatest, as text.
    pub ends: Option<(String, String)>,
    /// Of numbers.
    pub numbers: Option<Numbers>,
    /// The values that come most often, and how often. Values that come once are not told.
    pub frequent: Vec<(String, u64)>,
    /// How many values lie in each of equal parts between the least and the greatest.
    pub spread: Option<[u64; BINS]>,
}

/// What numbers amount to.
#[derive(Debug, Clone, PartialEq)]
pub struct Numbers {
    /// How many there are.
    pub count: u64,
    /// Their sum.
    pub sum: String,
    /// Their mean.
    pub mean: f64,
    /// Whether they are spans of time: the mean is in microseconds then.
    pub spans: bool,
}

/// Looks at a column of a result, or of the rows of an arrangement.
pub fn facts(
    archive: &Arc<Archive>,
    arrangement: Option<&Arrangement>,
    column: usize,
    progress: &Progress,
) -> Result<ColumnStats, ArrangeError> {
    let schema = archive.schema();
    let Some(field) = schema.fields().get(column) else { return Ok(ColumnStats::default()) };
    let of = archive.rows();
    progress.expect(of * 2);
    let rows = arrangement.map(|arrangement| arrangement.rows.clone());
    let (rows, ties, nulls) = sorted(archive, of, rows, &[Order { column, descending: false }], progress)?;
    let there = rows.len() - nulls;
    let mut facts = ColumnStats {
        name: field.name().clone(),
        rows: rows.len() as u64,
        nulls: nulls as u64,
        ..ColumnStats::default()
    };
    let mut ties: Vec<_> = ties.into_iter().filter(|tie| (tie.start as usize) < there).collect();
    facts.distinct = there as u64 - ties.iter().map(|tie| tie.len() as u64 - 1).sum::<u64>();
    let text_of = |at: usize| -> Result<String, ArrangeError> {
        let row = rows.get(at).copied().unwrap_or(0);
        let batch = archive.gather(&[row], Some(&[column]))?;
        let reader = ColumnReader::of(batch.column(0), batch.schema_ref().field(0));
        Ok(if batch.num_rows() == 0 { String::new() } else { reader.get(0).text.into_owned() })
    };
    if there > 0 {
        facts.ends = Some((text_of(0)?, text_of(there - 1)?));
    }
    ties.sort_by_key(|tie| (std::cmp::Reverse(tie.len()), tie.start));
    for tie in ties.iter().take(FREQUENT) {
        facts.frequent.push((text_of(tie.start as usize)?, tie.len() as u64));
    }
    // Databases without a type for it keep time as text.
    let is_time = facts
        .ends
        .as_ref()
        .is_some_and(|(least, most)| [least, most].into_iter().all(|end| instant(end, None).is_some()));
    if there > 0 && (measured(field) || (*field.data_type() == DataType::Utf8 && is_time)) {
        measure(archive, &rows, there, column, &mut facts, progress)?;
    }
    Ok(facts)
}

/// Whether a column's values lie on a line.
fn measured(field: &Field) -> bool {
    let kind = field.data_type();
    kind.is_numeric()
        || kind.is_temporal()
        || matches!(TextForm::of(field), TextForm::Number | TextForm::Span)
        || is_mixed(kind)
}

/// Adds up numbers, and counts how they are spread.
fn measure(
    archive: &Archive,
    rows: &[u32],
    there: usize,
    column: usize,
    facts: &mut ColumnStats,
    progress: &Progress,
) -> Result<(), ArrangeError> {
    let of = archive.rows();
    let mut wanted = vec![0_u64; (of as usize).div_ceil(64)];
    for row in rows.iter().take(there) {
        if let Some(word) = wanted.get_mut(*row as usize / 64) {
            *word |= 1 << (row % 64);
        }
    }
    let value_at = |at: usize| -> Result<Option<f64>, ArrangeError> {
        let batch = archive.gather(&[rows.get(at).copied().unwrap_or(0)], Some(&[column]))?;
        Ok(number(batch.column(0), batch.schema_ref().field(0), 0))
    };
    let ends = value_at(0)?.zip(value_at(there - 1)?).filter(|(low, high)| (high - low).is_finite());
    let mut spread = [0; BINS];
    let mut sum = Sum::default();
    let (mut numeric, mut misfit) = (false, false);
    for batch in archive.scan(Some(&[column]), 0..of) {
        let (first, batch) = batch?;
        let (values, field) = (batch.column(0), batch.schema_ref().field(0));
        let is_time = values.data_type().is_temporal() || (is_text(field) && !is_span(field));
        numeric = !is_time;
        for row in 0..batch.num_rows() {
            let at = first as usize + row;
            if wanted.get(at / 64).is_none_or(|word| word >> (at % 64) & 1 == 0) {
                continue;
            }
            let Some(value) = number(values, field, row) else {
                misfit |= is_text(field);
                continue;
            };
            if numeric {
                sum.add(values, field, row, value);
            }
            if let Some((low, high)) = ends.filter(|_| !value.is_nan()) {
                let place = if high > low { (value - low) / (high - low) * BINS as f64 } else { 0.0 };
                if let Some(bin) = spread.get_mut((place as usize).min(BINS - 1)) {
                    *bin += 1;
                }
            }
        }
        progress.advance(batch.num_rows())?;
    }
    if numeric && sum.count > 0 {
        facts.numbers = Some(sum.told(is_span(archive.schema().field(column))));
    }
    // One text that is no time means that the others are times by accident.
    facts.spread = ends.filter(|(low, high)| low < high && !misfit).map(|_| spread);
    Ok(())
}

/// A sum: exact as long as whole numbers and decimals fit, and beside that as a floating-point number.
#[derive(Default)]
struct Sum {
    count: u64,
    exact: Option<i128>,
    scale: i8,
    inexact: bool,
    /// Whether one of them is not a number (NaN).
    has_nan: bool,
    about: f64,
    /// What rounding lost so far (Kahan's summation).
    lost: f64,
}

impl Sum {
    fn add(&mut self, values: &ArrayRef, field: &Field, row: usize, value: f64) {
        self.count += 1;
        if value.is_nan() {
            // As on servers, what it is added to is not a number either.
            self.has_nan = true;
            return;
        }
        let corrected = value - self.lost;
        let next = self.about + corrected;
        self.lost = (next - self.about) - corrected;
        self.about = next;
        match exact(values, field, row) {
            Some((value, scale)) if !self.inexact => {
                self.exact = self.with(value, scale);
                self.scale = self.scale.max(scale);
                self.inexact = self.exact.is_none();
            }
            _ => self.inexact = true,
        }
    }

    /// The sum and a value with so many digits behind the point, with as many as the longer of both has.
    fn with(&self, value: i128, scale: i8) -> Option<i128> {
        let longer = |number: i128, by: i8| number.checked_mul(10_i128.checked_pow(u32::try_from(by).ok()?)?);
        let most = self.scale.max(scale);
        longer(self.exact.unwrap_or(0), most - self.scale)?.checked_add(longer(value, most - scale)?)
    }

    fn told(&self, spans: bool) -> Numbers {
        if self.has_nan {
            return Numbers { count: self.count, sum: "NaN".to_owned(), mean: f64::NAN, spans };
        }
        let sum = match self.exact.filter(|_| !self.inexact) {
            Some(micros) if spans => span::written(micros),
            Some(sum) if self.scale > 0 => {
                let (sign, digits) = (if sum < 0 { "-" } else { "" }, sum.unsigned_abs().to_string());
                let scale = self.scale.unsigned_abs() as usize;
                let digits = format!("{digits:0>width$}", width = scale + 1);
                let (whole, part) = digits.split_at(digits.len() - scale);
                format!("{sign}{whole}.{part}")
            }
            Some(sum) => sum.to_string(),
            None => rounded(self.about),
        };
        Numbers { count: self.count, sum, mean: self.about / self.count as f64, spans }
    }
}

impl Numbers {
    /// Their mean as a person reads it.
    pub fn mean(&self) -> String {
        if self.spans { span::written(self.mean.round() as i128) } else { rounded(self.mean) }
    }
}

/// A number without the digits that are only noise.
pub(super) fn rounded(value: f64) -> String {
    // Of large ones more digits are written out than are known.
    if value.abs() >= 1e15 {
        return ryu::Buffer::new().format(value).to_owned();
    }
    let text = format!("{value:.6}");
    let text = if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.') } else { &text };
    if value != 0.0 && text.trim_start_matches('-') == "0" { format!("{value:.3e}") } else { text.to_owned() }
}

/// A value that adds up exactly, with its digits behind the point.
fn exact(values: &ArrayRef, field: &Field, row: usize) -> Option<(i128, i8)> {
    Some(match field.data_type() {
        DataType::Int16 => (i128::from(values.as_primitive::<Int16Type>().value(row)), 0),
        DataType::Int32 => (i128::from(values.as_primitive::<Int32Type>().value(row)), 0),
        DataType::Int64 => (i128::from(values.as_primitive::<Int64Type>().value(row)), 0),
        DataType::UInt32 => (i128::from(values.as_primitive::<UInt32Type>().value(row)), 0),
        DataType::UInt64 => (i128::from(values.as_primitive::<UInt64Type>().value(row)), 0),
        DataType::Decimal128(_, scale) => (values.as_primitive::<Decimal128Type>().value(row), *scale),
        kind if is_mixed(kind) => match mixed_value(values.as_union(), row) {
            Value::Int(value) => (i128::from(value), 0),
            _ => return None,
        },
        DataType::Utf8 if is_span(field) => (span::micros(values.as_string::<i32>().value(row))?, 0),
        DataType::Utf8 => digits(values.as_string::<i32>().value(row))?,
        _ => return None,
    })
}

/// A decimal of any length, as long as its digits fit.
fn digits(text: &str) -> Option<(i128, i8)> {
    let (whole, part) = text.split_once('.').unwrap_or((text, ""));
    Some((format!("{whole}{part}").parse().ok()?, i8::try_from(part.len()).ok()?))
}

/// Whether a column is of spans of time.
fn is_span(field: &Field) -> bool {
    TextForm::of(field) == TextForm::Span
}

/// Whether a column is text that is no number.
fn is_text(field: &Field) -> bool {
    *field.data_type() == DataType::Utf8 && TextForm::of(field) != TextForm::Number
}

/// A value as a place on a line; of text only what is a time has one.
fn number(values: &ArrayRef, field: &Field, row: usize) -> Option<f64> {
    if values.is_null(row) {
        return None;
    }
    Some(match field.data_type() {
        DataType::Float32 => f64::from(values.as_primitive::<Float32Type>().value(row)),
        DataType::Float64 => values.as_primitive::<Float64Type>().value(row),
        DataType::Date32 => f64::from(values.as_primitive::<Date32Type>().value(row)),
        DataType::Time64(TimeUnit::Microsecond) => values.as_primitive::<Time64MicrosecondType>().value(row) as f64,
        DataType::Timestamp(TimeUnit::Microsecond, _) => {
            values.as_primitive::<TimestampMicrosecondType>().value(row) as f64
        }
        DataType::Utf8 if is_span(field) => span::micros(values.as_string::<i32>().value(row))? as f64,
        DataType::Utf8 if is_text(field) => instant(values.as_string::<i32>().value(row), None)? as f64,
        DataType::Utf8 => values.as_string::<i32>().value(row).parse().ok()?,
        kind if is_mixed(kind) => match mixed_value(values.as_union(), row) {
            Value::Int(value) => value as f64,
            Value::Real(value) => value,
            Value::Typed("decimal" | "int" | "long", text) => text.parse().unwrap_or(f64::NAN),
            _ => return None,
        },
        _ => {
            let (value, scale) = exact(values, field, row)?;
            value as f64 / 10_f64.powi(i32::from(scale))
        }
    })
}

/// What the values of a block of cells amount to.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Sums {
    /// Cells.
    pub cells: u64,
    /// Cells without a value.
    pub nulls: u64,
    /// Of the numbers among them, if there are any.
    pub numbers: Option<Numbers>,
}

/// Adds up a part of a result.
pub fn sums(part: &Part, progress: &Progress) -> Result<Sums, ArrangeError> {
    progress.expect(part.len());
    let (mut sums, mut sum, mut spans) = (Sums::default(), Sum::default(), Sum::default());
    for batch in part.batches() {
        let batch = batch?;
        for (values, field) in batch.columns().iter().zip(batch.schema_ref().fields()) {
            let reader = ColumnReader::of(values, field);
            let is_span = is_span(field);
            let counts = !field.data_type().is_temporal() && (is_span || !is_text(field));
            for row in 0..batch.num_rows() {
                sums.cells += 1;
                sums.nulls += u64::from(reader.is_null(row));
                let is_number = || is_span || matches!(reader.get(row), Cell { kind: CellKind::Number, .. });
                if counts
                    && is_number()
                    && let Some(value) = number(values, field, row)
                {
                    if is_span { &mut spans } else { &mut sum }.add(values, field, row, value);
                }
            }
        }
        progress.advance(batch.num_rows())?;
    }
    // Time and numbers do not add up together.
    sums.numbers = match (sum.count, spans.count) {
        (0, 0) => None,
        (0, _) => Some(spans.told(true)),
        (_, 0) => Some(sum.told(false)),
        _ => None,
    };
    Ok(sums)
}
