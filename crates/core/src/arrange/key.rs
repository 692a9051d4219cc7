//! Order keys: numbers and bytes that compare as the values of a column do.
//!
//! Numbers, days and points in time become one `u64`. All else becomes bytes that compare from left
//! to right: text by code point, which needs no locale; decimals and numbers that are text by their
//! value; values of several types with numbers first, then text, then bytes, as SQLite has it.

use std::cmp::Ordering;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Decimal128Type, DurationMicrosecondType, DurationMillisecondType, DurationNanosecondType,
    DurationSecondType, Float32Type, Float64Type, Int16Type, Int32Type, Int64Type, Time64MicrosecondType,
    TimestampMicrosecondType, TimestampMillisecondType, TimestampNanosecondType, TimestampSecondType, UInt32Type,
    UInt64Type,
};
use arrow_array::{Array, ArrayRef, ArrowPrimitiveType, UnionArray};
use arrow_buffer::NullBuffer;
use arrow_schema::{DataType, Field, TimeUnit};

use jaunty_seam::rows::assemble::Value;
use jaunty_seam::rows::cell::{CellKind, ColumnReader};
use jaunty_seam::rows::form::TextForm;
use jaunty_seam::rows::moment::{day, instant, time_of_day};
use jaunty_seam::rows::span;
use jaunty_seam::rows::widen::{is_mixed, mixed_value};

const SIGN: u64 = 1 << 63;

/// The order keys of a column.
pub(super) struct Keys<'a> {
    values: Values<'a>,
    nulls: Option<NullBuffer>,
}

enum Values<'a> {
    /// Each value is one number.
    Numbers(Vec<u64>),
    /// Each value is its own bytes: where they begin and end, and all bytes.
    Bytes(&'a [i32], &'a [u8]),
    /// Bytes are made of each value.
    Made(&'a ArrayRef, Made<'a>),
}

/// A value in the form in which values compare; those of a column are all numbers, or all bytes.
#[derive(Debug, Clone, Copy)]
pub(super) enum Comparable<'a> {
    Number(u64),
    Bytes(&'a [u8]),
}

/// How bytes are made of a value.
enum Made<'a> {
    /// A decimal of 128 bits, of which so many bytes are ever used.
    Decimal(usize),
    /// Text that is a number.
    Number,
    /// Text that is a span of time.
    Span,
    /// A value of any type.
    Mixed(&'a UnionArray),
    /// Its text form.
    Shown(ColumnReader<'a>),
}

/// A whole number as one that compares without a sign.
pub(super) fn whole(value: i64) -> u64 {
    value as u64 ^ SIGN
}

/// A floating-point number in the total order of IEEE 754, but with one zero and one NaN, which is
/// greater than all numbers.
pub(super) fn real(value: f64) -> u64 {
    let value = if value.is_nan() { f64::NAN } else { value + 0.0 };
    let bits = value.to_bits();
    if bits & SIGN == 0 { bits | SIGN } else { !bits }
}

/// How decimals of 128 bits compare.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Decimals {
    /// As whole numbers: those of their precision fit into 64 bits.
    Numbers,
    /// By so many bytes.
    Bytes(usize),
}

impl Decimals {
    /// Those of so many digits.
    fn of(precision: u8) -> Decimals {
        match precision {
            0..=18 => Decimals::Numbers,
            // A sign, and so many bits for a digit.
            digits => Decimals::Bytes(((f64::from(digits) * 10_f64.log2() + 1.0) / 8.0).ceil().min(16.0) as usize),
        }
    }
}

/// A decimal that fits into 64 bits. One that does not is beyond all that do.
fn short_decimal(value: i128) -> u64 {
    whole(i64::try_from(value).unwrap_or(if value < 0 { i64::MIN } else { i64::MAX }))
}

/// The bytes of a decimal by which it compares with others of the same width. One that does not fit is
/// beyond all that do.
fn write_decimal(value: i128, width: usize, out: &mut Vec<u8>) {
    let bits = 8 * width as u32;
    let most = i128::MAX >> (128 - bits.min(128));
    // Counted from the least, so that there is no sign.
    let key = value.clamp(-most - 1, most) as u128 ^ 1 << (bits - 1);
    out.extend_from_slice(key.to_be_bytes().get(16 - width..).unwrap_or_default());
}

/// The values of a column of numbers, each as its key.
fn numbers<T: ArrowPrimitiveType>(column: &ArrayRef, key: impl Fn(T::Native) -> u64) -> Values<'_> {
    Values::Numbers(column.as_primitive::<T>().values().iter().map(|value| key(*value)).collect())
}

impl<'a> Keys<'a> {
    pub(super) fn of(column: &'a ArrayRef, field: &Field) -> Keys<'a> {
        let nulls = match column.data_type() {
            DataType::Null => column.logical_nulls(),
            _ => column.nulls().cloned(),
        };
        let values = match column.data_type() {
            DataType::Null => Values::Numbers(vec![0; column.len()]),
            DataType::Boolean => Values::Numbers(column.as_boolean().values().iter().map(u64::from).collect()),
            DataType::Int16 => numbers::<Int16Type>(column, |v| whole(i64::from(v))),
            DataType::Int32 => numbers::<Int32Type>(column, |v| whole(i64::from(v))),
            DataType::Int64 => numbers::<Int64Type>(column, whole),
            DataType::UInt32 => numbers::<UInt32Type>(column, u64::from),
            DataType::UInt64 => numbers::<UInt64Type>(column, |v| v),
            DataType::Float32 => numbers::<Float32Type>(column, |v| real(f64::from(v))),
            DataType::Float64 => numbers::<Float64Type>(column, real),
            DataType::Date32 => numbers::<Date32Type>(column, |v| whole(i64::from(v))),
            DataType::Time64(TimeUnit::Microsecond) => numbers::<Time64MicrosecondType>(column, whole),
            DataType::Timestamp(TimeUnit::Microsecond, _) => numbers::<TimestampMicrosecondType>(column, whole),
            DataType::Utf8 if TextForm::of(field) == TextForm::Number => Values::Made(column, Made::Number),
            DataType::Utf8 if TextForm::of(field) == TextForm::Span => Values::Made(column, Made::Span),
            DataType::Utf8 => {
                let texts = column.as_string::<i32>();
                Values::Bytes(texts.value_offsets(), texts.value_data())
            }
            DataType::Binary => {
                let values = column.as_binary::<i32>();
                Values::Bytes(values.value_offsets(), values.value_data())
            }
            DataType::Decimal128(precision, _) => match Decimals::of(*precision) {
                Decimals::Numbers => numbers::<Decimal128Type>(column, short_decimal),
                Decimals::Bytes(width) => Values::Made(column, Made::Decimal(width)),
            },
            DataType::Timestamp(TimeUnit::Second, _) => numbers::<TimestampSecondType>(column, whole),
            DataType::Timestamp(TimeUnit::Millisecond, _) => numbers::<TimestampMillisecondType>(column, whole),
            DataType::Timestamp(TimeUnit::Nanosecond, _) => numbers::<TimestampNanosecondType>(column, whole),
            DataType::Duration(TimeUnit::Nanosecond) => numbers::<DurationNanosecondType>(column, whole),
            DataType::Duration(TimeUnit::Microsecond) => numbers::<DurationMicrosecondType>(column, whole),
            DataType::Duration(TimeUnit::Millisecond) => numbers::<DurationMillisecondType>(column, whole),
            DataType::Duration(TimeUnit::Second) => numbers::<DurationSecondType>(column, whole),
            kind if is_mixed(kind) => Values::Made(column, Made::Mixed(column.as_union())),
            _ => Values::Made(column, Made::Shown(ColumnReader::of(column, field))),
        };
        Keys { values, nulls }
    }

    fn is_null(&self, row: usize) -> bool {
        self.nulls.as_ref().is_some_and(|nulls| nulls.is_null(row))
    }

    /// Gives each value to `take`, none for NULL.
    pub(super) fn each(&self, mut take: impl FnMut(usize, Option<Comparable<'_>>)) {
        match &self.values {
            Values::Numbers(numbers) => {
                for (row, number) in numbers.iter().enumerate() {
                    take(row, (!self.is_null(row)).then_some(Comparable::Number(*number)));
                }
            }
            Values::Bytes(ends, bytes) => {
                for (row, ends) in ends.windows(2).enumerate() {
                    take(row, (!self.is_null(row)).then(|| Comparable::Bytes(between(bytes, ends))));
                }
            }
            Values::Made(column, made) => {
                let mut space = Vec::new();
                for row in 0..column.len() {
                    space.clear();
                    let is_there = made.write(column, row, &mut space);
                    take(row, is_there.then_some(Comparable::Bytes(&space)));
                }
            }
        }
    }

    /// Gives each value's key to `take`, none for NULL: a number, or the part of its bytes that
    /// counts in this round with how much of the value is left. Returns whether another round is
    /// needed to tell some apart.
    pub(super) fn each_part(&self, round: usize, mut take: impl FnMut(usize, Option<u64>)) -> bool {
        let mut more = false;
        self.each(|row, value| {
            let key = value.map(|value| match value {
                Comparable::Number(number) => number,
                Comparable::Bytes(bytes) => {
                    let part = part(bytes, round);
                    more |= goes_on(part);
                    part
                }
            });
            take(row, key);
        });
        more
    }

    /// The value of a row; none for NULL.
    fn value<'s>(&'s self, row: usize, space: &'s mut Vec<u8>) -> Option<Comparable<'s>> {
        if self.is_null(row) {
            return None;
        }
        Some(match &self.values {
            Values::Numbers(numbers) => Comparable::Number(*numbers.get(row)?),
            Values::Bytes(ends, bytes) => Comparable::Bytes(between(bytes, ends.get(row..row + 2)?)),
            Values::Made(column, made) => {
                space.clear();
                made.write(column, row, space).then_some(Comparable::Bytes(space))?
            }
        })
    }

    /// Compares a value with one that [`Sought`] holds; none for NULL.
    pub(super) fn compare(&self, row: usize, sought: &Sought, space: &mut Vec<u8>) -> Option<Ordering> {
        match (self.value(row, space)?, sought) {
            (Comparable::Number(value), Sought::Number(sought)) => Some(value.cmp(sought)),
            (Comparable::Bytes(value), Sought::Bytes(sought)) => Some(value.cmp(sought)),
            _ => None,
        }
    }
}

/// The bytes from one end to the other.
fn between<'a>(bytes: &'a [u8], ends: &[i32]) -> &'a [u8] {
    match ends {
        [from, to] => bytes.get(*from as usize..*to as usize).unwrap_or_default(),
        _ => &[],
    }
}

/// A value in the form in which a column's values compare.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Sought {
    Number(u64),
    Bytes(Vec<u8>),
}

impl Sought {
    /// What a person wrote, as a value of a column; none if it is no value of its type.
    pub(super) fn read(text: &str, field: &Field) -> Option<Sought> {
        let number = Sought::Number;
        Some(match field.data_type() {
            DataType::Boolean => number(match text.to_ascii_lowercase().as_str() {
                "true" | "t" | "yes" | "1" => 1,
                "false" | "f" | "no" | "0" => 0,
                _ => return None,
            }),
            DataType::Int16 | DataType::Int32 | DataType::Int64 => number(whole(text.parse().ok()?)),
            DataType::UInt32 | DataType::UInt64 => number(text.parse().ok()?),
            DataType::Float32 => number(real(f64::from(text.parse::<f32>().ok()?))),
            DataType::Float64 => number(real(text.parse().ok()?)),
            DataType::Date32 => number(whole(day(text)?)),
            DataType::Time64(TimeUnit::Microsecond) => number(whole(time_of_day(text)?)),
            DataType::Timestamp(TimeUnit::Microsecond, zone) => number(whole(instant(text, zone.as_deref())?)),
            DataType::Utf8 if TextForm::of(field) == TextForm::Number => Sought::Bytes(decimal(text)?),
            DataType::Utf8 if TextForm::of(field) == TextForm::Span => Sought::Bytes(span_key(span::micros(text)?)),
            DataType::Decimal128(precision, scale) => {
                let value = scaled(text, *scale)?;
                match Decimals::of(*precision) {
                    Decimals::Numbers => number(short_decimal(value)),
                    Decimals::Bytes(width) => {
                        let mut bytes = Vec::new();
                        write_decimal(value, width, &mut bytes);
                        Sought::Bytes(bytes)
                    }
                }
            }
            DataType::Binary => {
                let digits = text.trim_start_matches("\\x").trim_start_matches("0x");
                let bytes = (0..digits.len()).step_by(2).map(|at| u8::from_str_radix(digits.get(at..at + 2)?, 16).ok());
                Sought::Bytes(bytes.collect::<Option<_>>()?)
            }
            kind if is_mixed(kind) => {
                let mut bytes = Vec::new();
                match text.parse::<f64>() {
                    Ok(value) => write_number(value, text.parse().ok(), &mut bytes),
                    Err(_) => {
                        bytes.push(CLASS_TEXT);
                        bytes.extend_from_slice(text.as_bytes());
                    }
                }
                Sought::Bytes(bytes)
            }
            _ => Sought::Bytes(text.as_bytes().to_vec()),
        })
    }
}

const CLASS_NUMBER: u8 = 1;
const CLASS_TEXT: u8 = 2;
const CLASS_BYTES: u8 = 3;

impl Made<'_> {
    /// Writes the bytes of a value; false for NULL.
    fn write(&self, column: &ArrayRef, row: usize, out: &mut Vec<u8>) -> bool {
        if let Made::Mixed(union) = self {
            match mixed_value(union, row) {
                Value::Null => return false,
                Value::Int(v) => write_number(v as f64, Some(v), out),
                Value::Real(v) => write_number(v, None, out),
                // Numbers too; of a decimal with more digits than a double has it is where it lies, nearly.
                Value::Typed("decimal" | "int" | "long", v) => {
                    write_number(v.parse().unwrap_or(f64::NAN), v.parse().ok(), out)
                }
                Value::Text(v) | Value::Typed(_, v) => {
                    out.push(CLASS_TEXT);
                    out.extend_from_slice(v.as_bytes());
                }
                Value::Bytes(v) | Value::RawText(v) => {
                    out.push(CLASS_BYTES);
                    out.extend_from_slice(v);
                }
            }
            return true;
        }
        if column.is_null(row) {
            return false;
        }
        match self {
            Made::Decimal(width) => write_decimal(column.as_primitive::<Decimal128Type>().value(row), *width, out),
            Made::Number => {
                let text = column.as_string::<i32>().value(row);
                // `NaN` and what else is no number stand behind all numbers.
                out.extend(decimal(text).unwrap_or_else(|| [&[u8::MAX], text.as_bytes()].concat()));
            }
            Made::Span => {
                let text = column.as_string::<i32>().value(row);
                // What is written in another way stands behind all that can be read.
                out.extend(span::micros(text).map_or_else(|| [&[u8::MAX], text.as_bytes()].concat(), span_key));
            }
            Made::Shown(reader) => {
                let cell = reader.get(row);
                match cell.kind {
                    CellKind::Null => return false,
                    CellKind::Number => {
                        out.extend(decimal(&cell.text).unwrap_or_else(|| cell.text.as_bytes().to_vec()))
                    }
                    _ => out.extend_from_slice(cell.text.as_bytes()),
                }
            }
            Made::Mixed(_) => {}
        }
        true
    }
}

/// A span of time as bytes that compare by its length.
fn span_key(micros: i128) -> Vec<u8> {
    let mut bytes = vec![0];
    write_decimal(micros, 16, &mut bytes);
    bytes
}

/// A number among values of other types: as a floating-point number, then exactly.
fn write_number(value: f64, exact: Option<i64>, out: &mut Vec<u8>) {
    out.push(CLASS_NUMBER);
    out.extend_from_slice(&real(value).to_be_bytes());
    // A real number stands for the whole number that it is.
    out.extend_from_slice(&whole(exact.unwrap_or(value as i64)).to_be_bytes());
}

/// A decimal number of any length, as bytes that compare by its value; none if it is no number.
fn decimal(text: &str) -> Option<Vec<u8>> {
    let (negative, digits) = match text.as_bytes().first()? {
        b'-' => (true, &text[1..]),
        b'+' => (false, &text[1..]),
        _ => (false, text),
    };
    let (digits, exponent) = match digits.split_once(['e', 'E']) {
        Some((digits, exponent)) => (digits, exponent.parse::<i32>().ok()?),
        None => (digits, 0),
    };
    let (before, behind) = digits.split_once('.').unwrap_or((digits, ""));
    if before.len() + behind.len() == 0 || !before.bytes().chain(behind.bytes()).all(|b| b.is_ascii_digit()) {
        return None;
    }
    let all = [before, behind].concat();
    let leading = all.len() - all.trim_start_matches('0').len();
    let significant = all[leading..].trim_end_matches('0');
    if significant.is_empty() {
        return Some(vec![ZERO]);
    }
    // Where the point stands from the first digit on.
    let point = i32::try_from(before.len()).ok()?.checked_sub(i32::try_from(leading).ok()?)?.checked_add(exponent)?;
    let mut bytes = vec![ZERO + 1];
    bytes.extend_from_slice(&(point as u32 ^ 1 << 31).to_be_bytes());
    bytes.extend_from_slice(significant.as_bytes());
    if negative {
        // Behind its digits comes the least of all, so that more digits are further below zero.
        bytes.push(0);
        bytes.iter_mut().skip(1).for_each(|byte| *byte = !*byte);
        if let Some(first) = bytes.first_mut() {
            *first = ZERO - 1;
        }
    }
    Some(bytes)
}

/// The first byte of zero: between what is below and what is above.
const ZERO: u8 = 2;

/// A number with so many digits behind the point as a whole number of the smallest part. Digits that
/// there is no room for make it none.
fn scaled(text: &str, scale: i8) -> Option<i128> {
    let (negative, digits) = text.strip_prefix('-').map_or((false, text), |digits| (true, digits));
    let (before, behind) = digits.split_once('.').unwrap_or((digits, ""));
    let behind = behind.trim_end_matches('0');
    let scale = usize::try_from(scale).ok()?;
    if behind.len() > scale || !before.bytes().chain(behind.bytes()).all(|b| b.is_ascii_digit()) {
        return None;
    }
    let value: i128 = format!("{before}{behind}{}", "0".repeat(scale - behind.len())).parse().ok()?;
    Some(if negative { -value } else { value })
}

/// How many bytes of a value count in one round.
const PART: usize = 7;

/// Seven bytes of a value, and how many of them there are; eight if there are more behind them.
/// Compared as numbers, parts compare as the bytes do, and a value that ends comes before one that
/// goes on.
fn part(bytes: &[u8], round: usize) -> u64 {
    let rest = bytes.get(round * PART..).unwrap_or_default();
    let mut key = [0; 8];
    let length = rest.len().min(PART);
    if let (Some(to), Some(from)) = (key.get_mut(..length), rest.get(..length)) {
        to.copy_from_slice(from);
    }
    key[PART] = rest.len().min(PART + 1) as u8;
    u64::from_be_bytes(key)
}

/// Whether a part has more behind it.
pub(super) fn goes_on(part: u64) -> bool {
    part as u8 as usize > PART
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn numbers_of_any_length_compare_by_value() {
        let ordered = [
            "-1e400",
            "-1000",
            "-10.5",
            "-10.25",
            "-10.2",
            "-10",
            "-9.99",
            "-0.5",
            "-0.05",
            "0.00",
            "0.00001",
            "0.5",
            "0.50001",
            "1",
            "9",
            "9.5",
            "10",
            "10.25",
            "1e3",
            "123456789012345678901234567890",
            "1E400",
        ];
        for pair in ordered.windows(2) {
            assert!(decimal(pair[0]).unwrap() < decimal(pair[1]).unwrap(), "{pair:?}");
        }
        assert_eq!(decimal("007.50"), decimal("7.5"));
        assert_eq!(decimal("-0"), decimal("0.0"));
        assert!(["", "-", ".", "NaN", "1.2.3", "12a"].iter().all(|text| decimal(text).is_none()));
    }

    #[test]
    fn decimals_are_read_at_their_scale() {
        assert_eq!(scaled("12.5", 2), Some(1250));
        assert_eq!(scaled("-0.05", 2), Some(-5));
        assert_eq!((scaled("0.001", 2), scaled("x", 2), scaled("1e3", 0)), (None, None, None));
    }

    proptest! {
        #[test]
        fn decimals_keep_their_order(
            (precision, a, b) in (1..=38_u8).prop_flat_map(|precision| {
                let most = 10_i128.pow(u32::from(precision)) - 1;
                let value = || prop_oneof![-most..=most, -10..=10_i128, Just(most), Just(-most)].prop_map(move |v| v.clamp(-most, most));
                (Just(precision), value(), value())
            }),
        ) {
            let ordering = match Decimals::of(precision) {
                Decimals::Numbers => short_decimal(a).cmp(&short_decimal(b)),
                Decimals::Bytes(width) => {
                    let [a, b] = [a, b].map(|value| {
                        let mut bytes = Vec::new();
                        write_decimal(value, width, &mut bytes);
                        bytes
                    });
                    prop_assert_eq!((a.len(), b.len()), (width, width));
                    a.cmp(&b)
                }
            };
            prop_assert_eq!(ordering, a.cmp(&b));
        }

        #[test]
        fn reals_keep_their_order(a in any::<f64>(), b in any::<f64>()) {
            let expected = match (a.is_nan(), b.is_nan()) {
                (false, false) => a.partial_cmp(&b).unwrap(),
                (a, b) => a.cmp(&b),
            };
            prop_assert_eq!(real(a).cmp(&real(b)), expected);
        }

        #[test]
        fn whole_numbers_keep_their_order(a in any::<i64>(), b in any::<i64>()) {
            prop_assert_eq!(whole(a).cmp(&whole(b)), a.cmp(&b));
        }

        #[test]
        fn parts_compare_as_bytes_do(a in "[ab\\x00]{0,20}", b in "[ab\\x00]{0,20}") {
            let by_parts = (0..).map(|round| (part(a.as_bytes(), round), part(b.as_bytes(), round)))
                .find(|(x, y)| x != y || !goes_on(*x)).unwrap();
            prop_assert_eq!(by_parts.0.cmp(&by_parts.1), a.as_bytes().cmp(b.as_bytes()));
        }
    }
}
