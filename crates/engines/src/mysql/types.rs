//! From the server's values, which come as text, to columns.
//!
//! Dates of zeros, which no calendar has, make their column one of text from there on.

use jaunty_mysql::column::flag;
use jaunty_mysql::{Column, ColumnType};
use jaunty_seam::rows::cell::hex;
use jaunty_seam::rows::columns::{Cells, Columns, Typed};
use jaunty_seam::rows::form::{self, TextForm};
use jaunty_seam::rows::origin::Origin;
use jaunty_seam::rows::shape;

/// The number of the collation of bytes (`binary`).
const BINARY: u16 = 63;

/// The count of decimals of floating-point numbers that have no fixed one.
const NOT_FIXED: u8 = 31;

/// How a column's values are read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reader {
    /// Whole numbers, into a type with room for them.
    I16,
    /// See [`Reader::I16`].
    I32,
    /// See [`Reader::I16`].
    I64,
    /// Whole numbers without a sign.
    U64,
    /// `float`.
    F32,
    /// `double`.
    F64,
    /// `decimal` with this many digits behind the point.
    Decimal(i8),
    /// `bit`, as a number.
    Bits,
    /// `date`.
    Date,
    /// `datetime` and `timestamp`.
    Timestamp,
    /// Bytes.
    Bytes,
    /// Points, lines and areas.
    Shape,
    /// Text, and all that travels as text.
    Text,
}

/// What a result's columns are, and how each is read.
pub fn plan(columns: &[Column]) -> (Vec<Reader>, Columns) {
    let typed: Vec<(Reader, Typed)> = columns.iter().map(column).collect();
    let (readers, typed) = typed.into_iter().unzip();
    (readers, Columns::new(typed))
}

/// Whether text comes in another character set than UTF-8, by the numbers of MariaDB's and MySQL's collations
/// (`information_schema.collations`): ASCII, those of both kinds of UTF-8, and bytes are taken.
pub fn is_foreign(columns: &[Column]) -> bool {
    let known = |number: u16| {
        matches!(number, 0 | 11 | 33 | 45 | 46 | BINARY | 65 | 76 | 83 | 192..=215 | 223..=247 | 254..=323)
            || matches!(number, 576..=610 | 1057 | 1069..=1070 | 1216..=1248 | 2048..)
    };
    columns.iter().any(|column| !known(column.collation))
}

fn column(column: &Column) -> (Reader, Typed) {
    let unsigned = column.has(flag::UNSIGNED);
    let decimals = column.decimals;
    let (mut reader, name) = match column.kind {
        ColumnType::TinyInt => (Reader::I16, "tinyint".to_owned()),
        ColumnType::SmallInt => (if unsigned { Reader::I32 } else { Reader::I16 }, "smallint".to_owned()),
        ColumnType::MediumInt => (Reader::I32, "mediumint".to_owned()),
        ColumnType::Int => (if unsigned { Reader::I64 } else { Reader::I32 }, "int".to_owned()),
        ColumnType::BigInt => (if unsigned { Reader::U64 } else { Reader::I64 }, "bigint".to_owned()),
        // A year of zeros is written with four of them.
        ColumnType::Year => (Reader::Text, "year".to_owned()),
        ColumnType::Float => (Reader::F32, "float".to_owned()),
        ColumnType::Double => (Reader::F64, "double".to_owned()),
        ColumnType::Decimal => (Reader::Decimal(decimals as i8), format!("decimal({},{decimals})", precision(column))),
        ColumnType::Bit => (Reader::Bits, format!("bit({})", column.length)),
        ColumnType::Date => (Reader::Date, "date".to_owned()),
        ColumnType::DateTime => (Reader::Timestamp, "datetime".to_owned()),
        ColumnType::Timestamp => (Reader::Timestamp, "timestamp".to_owned()),
        ColumnType::Time => (Reader::Text, "time".to_owned()),
        ColumnType::Json => (Reader::Text, "json".to_owned()),
        ColumnType::Null => (Reader::Text, String::new()),
        ColumnType::Geometry => (Reader::Shape, "geometry".to_owned()),
        // Columns of tables travel as text, and say so beside it.
        ColumnType::Enum => (Reader::Text, "enum".to_owned()),
        ColumnType::Set => (Reader::Text, "set".to_owned()),
        _ if column.has(flag::ENUM) => (Reader::Text, "enum".to_owned()),
        _ if column.has(flag::SET) => (Reader::Text, "set".to_owned()),
        kind => {
            let binary = column.collation == BINARY;
            let name = match (kind, binary) {
                (ColumnType::Blob, true) => "blob",
                (ColumnType::Blob, false) => "text",
                (ColumnType::Fixed, true) => "binary",
                (ColumnType::Fixed, false) => "char",
                (_, true) => "varbinary",
                (_, false) => "varchar",
            };
            (if binary { Reader::Bytes } else { Reader::Text }, name.to_owned())
        }
    };
    let name = if column.type_name.is_empty() { name } else { column.type_name.clone() };
    let mut form = match reader {
        Reader::F32 | Reader::F64 | Reader::Date => TextForm::Bare(0),
        Reader::Timestamp => TextForm::Bare(decimals.min(6)),
        Reader::Text if name == "year" => TextForm::Number,
        Reader::Text if name == "time" => TextForm::Span,
        _ => TextForm::Plain,
    };
    // Numbers that are written with zeros which no number type keeps.
    let zeros = column.has(flag::ZEROFILL) && name != "year";
    let fixed = matches!(reader, Reader::F32 | Reader::F64) && decimals != NOT_FIXED;
    let large = matches!(reader, Reader::Decimal(_)) && precision(column) > 38;
    if zeros || fixed || large {
        (reader, form) = (Reader::Text, TextForm::Number);
    }
    let cells = match reader {
        Reader::I16 => Cells::I16(Default::default()),
        Reader::I32 => Cells::I32(Default::default()),
        Reader::I64 => Cells::I64(Default::default()),
        Reader::U64 | Reader::Bits => Cells::U64(Default::default()),
        Reader::F32 => Cells::F32(Default::default()),
        Reader::F64 => Cells::F64(Default::default()),
        Reader::Decimal(scale) => Cells::decimal(precision(column), scale),
        Reader::Date => Cells::Date(Default::default()),
        Reader::Timestamp => Cells::timestamp(None),
        Reader::Bytes => Cells::Bytes(Default::default()),
        Reader::Text | Reader::Shape => Cells::text(),
    };
    let integer = matches!(reader, Reader::I16 | Reader::I32 | Reader::I64 | Reader::U64);
    let db_type = if unsigned && (integer || zeros) && !name.is_empty() { format!("{name} unsigned") } else { name };
    (reader, Typed { name: column.name.clone(), db_type, origin: origin(column), form, cells })
}

/// The column of a table that it comes from.
fn origin(column: &Column) -> Option<Origin> {
    let origin = Origin {
        schema: column.schema.clone(),
        table: column.table.clone(),
        column: column.origin.clone(),
        required: column.has(flag::REQUIRED),
    };
    Some(origin).filter(|origin| !origin.table.is_empty() && !origin.column.is_empty())
}

/// The digits of a decimal: its length without the sign and the point.
fn precision(column: &Column) -> u8 {
    let extra = u32::from(!column.has(flag::UNSIGNED)) + u32::from(column.decimals > 0);
    column.length.saturating_sub(extra).clamp(1, 255) as u8
}

/// A value that its column's type has no room for.
#[derive(Debug)]
pub struct Misfit;

fn number<T: std::str::FromStr>(raw: &[u8]) -> Result<T, Misfit> {
    std::str::from_utf8(raw).ok().and_then(|text| text.parse().ok()).ok_or(Misfit)
}

/// A whole number. The usual ones are read digit by digit, which costs a third of what reading any text as a number does.
fn integer<T: TryFrom<i64> + std::str::FromStr>(raw: &[u8]) -> Result<T, Misfit> {
    let (negative, unsigned) = raw.strip_prefix(b"-").map_or((false, raw), |unsigned| (true, unsigned));
    match digits(unsigned).filter(|_| (1..=MOST_DIGITS).contains(&unsigned.len())) {
        Some(value) => T::try_from(if negative { -value } else { value }).map_err(|_| Misfit),
        None => number(raw),
    }
}

/// Appends a value.
#[inline]
pub fn append(reader: Reader, raw: &[u8], cells: &mut Cells) -> Result<(), Misfit> {
    match (reader, cells) {
        (Reader::Bits, Cells::U64(b)) => b.append_value(raw.iter().fold(0, |bits, byte| bits << 8 | u64::from(*byte))),
        // What is not one stays as its bytes are written.
        (Reader::Shape, Cells::Text(b)) => b.append_value(shape::numbered_text(raw).unwrap_or_else(|| hex(raw))),
        (_, Cells::Text(b)) => b.append_value(std::str::from_utf8(raw).map_err(|_| Misfit)?),
        (_, Cells::Bytes(b)) => b.append_value(raw),
        (_, Cells::I16(b)) => b.append_value(integer(raw)?),
        (_, Cells::I32(b)) => b.append_value(integer(raw)?),
        (_, Cells::I64(b)) => b.append_value(integer(raw)?),
        (_, Cells::U64(b)) => b.append_value(integer(raw)?),
        (_, Cells::F32(b)) => b.append_value(number(raw)?),
        (_, Cells::F64(b)) => b.append_value(number(raw)?),
        (Reader::Decimal(scale), Cells::Decimal(b, ..)) => b.append_value(decimal(raw, scale).ok_or(Misfit)?),
        (_, Cells::Date(b)) => b.append_value(date(raw).ok_or(Misfit)?),
        (_, Cells::Timestamp(b, _)) => b.append_value(timestamp(raw).ok_or(Misfit)?),
        _ => return Err(Misfit),
    }
    Ok(())
}

/// The digits of a decimal number without its point, if exactly `scale` stand behind it.
fn decimal(raw: &[u8], scale: i8) -> Option<i128> {
    let (negative, unsigned) = raw.strip_prefix(b"-").map_or((false, raw), |unsigned| (true, unsigned));
    let scale = usize::try_from(scale).ok()?;
    let (whole, fraction) = match scale {
        0 => (unsigned, &[][..]),
        _ => {
            let (whole, rest) = unsigned.split_at(unsigned.len().checked_sub(scale + 1)?);
            (whole, rest.strip_prefix(b".")?)
        }
    };
    let value = if unsigned.len() <= MOST_DIGITS {
        i128::from(digits(whole)? * 10_i64.pow(scale as u32) + digits(fraction)?)
    } else {
        read(whole)?.checked_mul(10_i128.checked_pow(scale as u32)?)?.checked_add(read(fraction)?)?
    };
    Some(if negative { -value } else { value })
}

/// So many digits fit into 64 bits, whatever they are.
const MOST_DIGITS: usize = 18;

/// A number of so many digits as fit.
fn read(raw: &[u8]) -> Option<i128> {
    let (first, rest) = raw.split_at(raw.len() % MOST_DIGITS);
    let parts = rest.chunks(MOST_DIGITS);
    parts.into_iter().try_fold(i128::from(digits(first)?), |value, part| {
        value.checked_mul(10_i128.pow(MOST_DIGITS as u32))?.checked_add(i128::from(digits(part)?))
    })
}

/// A number of at most [`MOST_DIGITS`] digits.
fn digits(raw: &[u8]) -> Option<i64> {
    let (mut value, mut are_digits) = (0_i64, true);
    for byte in raw {
        let digit = byte.wrapping_sub(b'0');
        are_digits &= digit <= 9;
        value = value.wrapping_mul(10).wrapping_add(i64::from(digit));
    }
    are_digits.then_some(value)
}

fn date(raw: &[u8]) -> Option<i32> {
    if raw.len() != 10 || raw[4] != b'-' || raw[7] != b'-' {
        return None;
    }
    let (year, month, day) = (digits(&raw[..4])?, digits(&raw[5..7])?, digits(&raw[8..])?);
    form::days(year, month as u8, day as u8)?.try_into().ok()
}

fn timestamp(raw: &[u8]) -> Option<i64> {
    let clock = raw.get(11..19)?;
    if clock[2] != b':' || clock[5] != b':' {
        return None;
    }
    let seconds = digits(&clock[..2])? * 3600 + digits(&clock[3..5])? * 60 + digits(&clock[6..])?;
    let fraction = match raw.get(19..) {
        None | Some([]) => 0,
        Some([b'.', fraction @ ..]) if fraction.len() <= 6 => digits(fraction)? * 10_i64.pow(6 - fraction.len() as u32),
        Some(_) => return None,
    };
    Some(i64::from(date(&raw[..10])?) * 86_400_000_000 + seconds * 1_000_000 + fraction)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_read_into_values() {
        assert_eq!((decimal(b"-12.50", 2), decimal(b"7", 0)), (Some(-1250), Some(7)));
        assert_eq!((decimal(b"12.5", 2), decimal(b"1e3", 0), decimal(b"1.234", 2)), (None, None, None));
        assert_eq!((decimal(b".50", 2), decimal(b"5", 2), decimal(b"x.50", 2)), (Some(50), None, None));
        let longest: i128 = "9".repeat(38).parse().unwrap();
        assert_eq!(decimal(b"-99999999999999999999.999999999999999999", 18), Some(-longest));
        assert_eq!(decimal("9".repeat(38).as_bytes(), 0), Some(longest));
        assert_eq!(decimal("9".repeat(40).as_bytes(), 0), None);
        assert_eq!((integer::<i16>(b"-32768").ok(), integer::<i16>(b"32768").ok()), (Some(i16::MIN), None));
        assert_eq!((integer::<u64>(b"18446744073709551615").ok(), integer::<u64>(b"-1").ok()), (Some(u64::MAX), None));
        assert_eq!((integer::<i64>(b"-9223372036854775808").ok(), integer::<i64>(b"").ok()), (Some(i64::MIN), None));
        assert_eq!((integer::<i32>(b"1x").ok(), integer::<i32>(b"-").ok()), (None, None));
        assert_eq!((date(b"1970-01-02"), date(b"0000-00-00"), date(b"2024-00-10")), (Some(1), None, None));
        assert_eq!(timestamp(b"1970-01-01 00:00:01.5"), Some(1_500_000));
        assert_eq!(timestamp(b"1970-01-01 00:00:01"), Some(1_000_000));
        assert_eq!(timestamp(b"0000-00-00 00:00:00"), None);
    }
}
