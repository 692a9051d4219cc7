//! From the server's values to columns.
//!
//! The common types come in the protocol's binary form and are read here. A result with a column of
//! any other type is asked for as text instead, so that each value stands as the server itself
//! writes it; its common columns are then read from text into the same Arrow types.

use super::origins::Origins;
use jaunty_language::dialect::POSTGRES;
use jaunty_seam::rows::columns::{Cells, Columns, Typed};
use jaunty_seam::rows::form::{self, TextForm};
use jaunty_seam::rows::shape::{self, is_shape};
use tokio_postgres::Column;
use tokio_postgres::types::{FromSql, Kind, Type};

/// Days from 1970-01-01 to 2000-01-01, from where the server counts.
const EPOCH_DAYS: i32 = 10_957;
/// The same in microseconds.
const EPOCH_MICROS: i64 = 946_684_800_000_000;

/// How a column's values are read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reader {
    /// `boolean`.
    Bool,
    /// `smallint`.
    I16,
    /// `integer`.
    I32,
    /// `bigint`.
    I64,
    /// `oid`.
    Oid,
    /// `real`.
    F32,
    /// `double precision`.
    F64,
    /// `numeric` with this many digits behind the point at most, and few enough in all.
    Decimal(i8),
    /// Any other `numeric`.
    Numeric,
    /// Text of any kind.
    Text,
    /// `jsonb`.
    Jsonb,
    /// `uuid`.
    Uuid,
    /// `bytea`.
    Bytes,
    /// `date`.
    Date,
    /// `time`.
    Time,
    /// `timestamp`, with a time zone or without.
    Timestamp,
    /// Points, lines and areas of the extension for places, which come as digits of their bytes.
    Shape,
    /// Any type that only the server writes.
    Server,
}

impl Reader {
    fn of(column: &Column, iso_dates: bool) -> Reader {
        if let Kind::Enum(_) = column.type_().kind() {
            return Reader::Text;
        }
        match *column.type_() {
            Type::BOOL => Reader::Bool,
            Type::INT2 => Reader::I16,
            Type::INT4 => Reader::I32,
            Type::INT8 => Reader::I64,
            Type::OID => Reader::Oid,
            Type::FLOAT4 => Reader::F32,
            Type::FLOAT8 => Reader::F64,
            Type::NUMERIC => match numeric_digits(column.type_modifier()) {
                Some((precision, scale)) if precision <= 38 && scale >= 0 && scale <= precision => {
                    Reader::Decimal(scale as i8)
                }
                _ => Reader::Numeric,
            },
            Type::TEXT | Type::VARCHAR | Type::BPCHAR | Type::NAME | Type::JSON | Type::XML => Reader::Text,
            Type::JSONB => Reader::Jsonb,
            Type::UUID => Reader::Uuid,
            Type::BYTEA => Reader::Bytes,
            // In another style than ISO's only the server writes them.
            Type::DATE | Type::TIMESTAMP | Type::TIMESTAMPTZ if !iso_dates => Reader::Server,
            Type::DATE => Reader::Date,
            Type::TIME => Reader::Time,
            Type::TIMESTAMP | Type::TIMESTAMPTZ => Reader::Timestamp,
            // By their names: their numbers are other ones in each database.
            _ if *column.type_().kind() == Kind::Simple && is_shape(column.type_().name(), &POSTGRES) => Reader::Shape,
            _ => Reader::Server,
        }
    }
}

/// The precision and scale of `numeric(p, s)`, from the type's modifier.
fn numeric_digits(modifier: i32) -> Option<(i32, i32)> {
    let packed = modifier.checked_sub(4).filter(|packed| *packed >= 0)?;
    // The scale is a number of eleven bits with a sign.
    Some((packed >> 16, (packed & 0x7ff) - ((packed & 0x400) << 1)))
}

/// The name of a column's type as a person writes it.
fn type_name(column: &Column) -> String {
    let modifier = column.type_modifier();
    match *column.type_() {
        Type::BPCHAR if modifier >= 4 => format!("char({})", modifier - 4),
        Type::VARCHAR if modifier >= 4 => format!("varchar({})", modifier - 4),
        Type::NUMERIC => match numeric_digits(modifier) {
            Some((precision, scale)) => format!("numeric({precision},{scale})"),
            None => "numeric".to_owned(),
        },
        Type::BPCHAR => "char".to_owned(),
        Type::INT2 => "smallint".to_owned(),
        Type::INT4 => "integer".to_owned(),
        Type::INT8 => "bigint".to_owned(),
        Type::FLOAT4 => "real".to_owned(),
        Type::FLOAT8 => "double precision".to_owned(),
        Type::BOOL => "boolean".to_owned(),
        _ => match column.type_().kind() {
            Kind::Array(of) => format!("{}[]", of.name()),
            _ => column.type_().name().to_owned(),
        },
    }
}

/// What a result's columns are, and how each is read.
pub struct Plan {
    /// One a column.
    pub readers: Vec<Reader>,
}

impl Plan {
    /// For these columns; `iso_dates` is whether the session's `DateStyle` is ISO.
    pub fn of(columns: &[Column], iso_dates: bool) -> Plan {
        Plan { readers: columns.iter().map(|column| Reader::of(column, iso_dates)).collect() }
    }

    /// Whether every column can be read in binary form.
    pub fn is_binary(&self) -> bool {
        !self.readers.iter().any(|reader| matches!(reader, Reader::Server | Reader::Shape))
    }

    /// Empty columns for the result.
    pub fn columns(&self, columns: &[Column], origins: &Origins, zone: &str) -> Columns {
        let typed = columns.iter().zip(&self.readers).map(|(column, reader)| Typed {
            name: column.name().to_owned(),
            db_type: type_name(column),
            origin: origins.of(column),
            form: match reader {
                Reader::F32 | Reader::F64 | Reader::Bytes | Reader::Date | Reader::Time | Reader::Timestamp => {
                    TextForm::Padded
                }
                Reader::Numeric => TextForm::Number,
                Reader::Server if *column.type_() == Type::INTERVAL => TextForm::Span,
                _ => TextForm::Plain,
            },
            cells: match reader {
                Reader::Bool => Cells::Bool(Default::default()),
                Reader::I16 => Cells::I16(Default::default()),
                Reader::I32 => Cells::I32(Default::default()),
                Reader::I64 => Cells::I64(Default::default()),
                Reader::Oid => Cells::U32(Default::default()),
                Reader::F32 => Cells::F32(Default::default()),
                Reader::F64 => Cells::F64(Default::default()),
                Reader::Decimal(scale) => {
                    let precision = numeric_digits(column.type_modifier()).map_or(38, |(precision, _)| precision as u8);
                    Cells::decimal(precision, *scale)
                }
                Reader::Bytes => Cells::Bytes(Default::default()),
                Reader::Date => Cells::Date(Default::default()),
                Reader::Time => Cells::Time(Default::default()),
                Reader::Timestamp => Cells::timestamp((*column.type_() == Type::TIMESTAMPTZ).then_some(zone)),
                Reader::Numeric | Reader::Text | Reader::Jsonb | Reader::Uuid | Reader::Server | Reader::Shape => {
                    Cells::text()
                }
            },
        });
        Columns::new(typed.collect())
    }
}

/// A value as it came.
pub struct Raw<'a>(pub &'a [u8]);

impl<'a> FromSql<'a> for Raw<'a> {
    fn from_sql(_: &Type, raw: &'a [u8]) -> Result<Self, Box<dyn std::error::Error + Sync + Send>> {
        Ok(Raw(raw))
    }

    fn accepts(_: &Type) -> bool {
        true
    }
}

/// Why a value could not be read.
#[derive(Debug)]
pub enum Misfit {
    /// It is fine, but its column's type has no room for it: this is its text.
    Text(String),
    /// It is text in an encoding that was not asked for.
    Encoding,
    /// It is not what the protocol says.
    Broken,
}

fn array<const N: usize>(raw: &[u8]) -> Result<[u8; N], Misfit> {
    raw.try_into().map_err(|_| Misfit::Broken)
}

fn utf8(raw: &[u8]) -> Result<&str, Misfit> {
    std::str::from_utf8(raw).map_err(|_| Misfit::Encoding)
}

/// Appends a value in the protocol's binary form.
#[inline]
pub fn binary(reader: Reader, raw: &[u8], cells: &mut Cells) -> Result<(), Misfit> {
    match (reader, cells) {
        (Reader::Bool, Cells::Bool(b)) => b.append_value(array::<1>(raw)?[0] != 0),
        (Reader::I16, Cells::I16(b)) => b.append_value(i16::from_be_bytes(array(raw)?)),
        (Reader::I32, Cells::I32(b)) => b.append_value(i32::from_be_bytes(array(raw)?)),
        (Reader::I64, Cells::I64(b)) => b.append_value(i64::from_be_bytes(array(raw)?)),
        (Reader::Oid, Cells::U32(b)) => b.append_value(u32::from_be_bytes(array(raw)?)),
        (Reader::F32, Cells::F32(b)) => b.append_value(f32::from_be_bytes(array(raw)?)),
        (Reader::F64, Cells::F64(b)) => b.append_value(f64::from_be_bytes(array(raw)?)),
        (Reader::Decimal(scale), Cells::Decimal(b, ..)) => match Digits::read(raw)?.as_decimal(scale) {
            Some(value) => b.append_value(value),
            None => return Err(Misfit::Text(Digits::read(raw)?.to_string())),
        },
        (Reader::Text, Cells::Text(b)) => b.append_value(utf8(raw)?),
        (Reader::Bytes, Cells::Bytes(b)) => b.append_value(raw),
        (Reader::Date, Cells::Date(b)) => b.append_value(match i32::from_be_bytes(array(raw)?) {
            endless @ (i32::MAX | i32::MIN) => endless,
            days => days + EPOCH_DAYS,
        }),
        (Reader::Time, Cells::Time(b)) => b.append_value(i64::from_be_bytes(array(raw)?)),
        (Reader::Timestamp, Cells::Timestamp(b, zone)) => match i64::from_be_bytes(array(raw)?) {
            endless @ (i64::MAX | i64::MIN) => b.append_value(endless),
            // The last years that the server knows are beyond 64 bits when counted from 1970.
            micros => match micros.checked_add(EPOCH_MICROS).filter(|micros| *micros != i64::MAX) {
                Some(micros) => b.append_value(micros),
                None => return Err(Misfit::Text(late(micros, zone.is_some()))),
            },
        },
        (Reader::Jsonb, Cells::Text(b)) => match raw.split_first() {
            Some((1, text)) => b.append_value(utf8(text)?),
            _ => return Err(Misfit::Broken),
        },
        (Reader::Uuid, Cells::Text(b)) => b.append_value(uuid(array(raw)?)),
        (Reader::Numeric, Cells::Text(b)) => b.append_value(Digits::read(raw)?.to_string()),
        // The column has become text: the value's own text follows.
        (reader, Cells::Text(b)) => b.append_value(binary_as_text(reader, raw)?),
        _ => return Err(Misfit::Broken),
    }
    Ok(())
}

/// The part of a value in binary form that is kept as it is, if it is.
pub fn as_kept(reader: Reader, raw: &[u8]) -> Option<&[u8]> {
    match reader {
        Reader::Text | Reader::Bytes => Some(raw),
        Reader::Jsonb => raw.strip_prefix(&[1]),
        _ => None,
    }
}

/// The text of a value whose column had to become text.
fn binary_as_text(reader: Reader, raw: &[u8]) -> Result<String, Misfit> {
    match reader {
        Reader::Decimal(_) => Ok(Digits::read(raw)?.to_string()),
        Reader::Timestamp => Ok(match i64::from_be_bytes(array(raw)?) {
            i64::MAX => "infinity".to_owned(),
            i64::MIN => "-infinity".to_owned(),
            micros => late(micros, false),
        }),
        _ => Err(Misfit::Broken),
    }
}

/// The text of a moment that is counted from 2000, as far as the server goes; in UTC where it is one in a time zone.
fn late(micros: i64, zoned: bool) -> String {
    const DAY: i64 = 86_400_000_000;
    let mut text = String::new();
    form::date(i32::try_from(micros.div_euclid(DAY)).unwrap_or(i32::MAX - 1) + EPOCH_DAYS, &mut text);
    text.push(' ');
    form::time(micros.rem_euclid(DAY), None, &mut text);
    if zoned {
        text.push_str("+00");
    }
    text
}

fn uuid(bytes: [u8; 16]) -> String {
    let hex = jaunty_seam::rows::cell::hex(&bytes);
    format!("{}-{}-{}-{}-{}", &hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..])
}

/// Appends a value in the server's text form.
pub fn text(reader: Reader, text: &str, cells: &mut Cells) -> Result<(), Misfit> {
    let misfit = || Misfit::Text(text.to_owned());
    match (reader, cells) {
        (Reader::Shape, Cells::Text(b)) => match shape::text_of_digits(text) {
            Some(shape) => b.append_value(shape),
            None => b.append_value(text),
        },
        (_, Cells::Text(b)) => b.append_value(text),
        (Reader::Bool, Cells::Bool(b)) => b.append_value(text == "t"),
        (Reader::I16, Cells::I16(b)) => b.append_value(text.parse().map_err(|_| misfit())?),
        (Reader::I32, Cells::I32(b)) => b.append_value(text.parse().map_err(|_| misfit())?),
        (Reader::I64, Cells::I64(b)) => b.append_value(text.parse().map_err(|_| misfit())?),
        (Reader::Oid, Cells::U32(b)) => b.append_value(text.parse().map_err(|_| misfit())?),
        (Reader::F32, Cells::F32(b)) => b.append_value(text.parse().map_err(|_| misfit())?),
        (Reader::F64, Cells::F64(b)) => b.append_value(text.parse().map_err(|_| misfit())?),
        (Reader::Decimal(scale), Cells::Decimal(b, ..)) => {
            let digits = decimal_of(text, scale).ok_or_else(misfit)?;
            b.append_value(digits);
        }
        (Reader::Bytes, Cells::Bytes(b)) => b.append_value(bytes_of(text).ok_or_else(misfit)?),
        (Reader::Date, Cells::Date(b)) => b.append_value(date_of(text).ok_or_else(misfit)?),
        (Reader::Time, Cells::Time(b)) => b.append_value(time_of(text).ok_or_else(misfit)?),
        (Reader::Timestamp, Cells::Timestamp(b, _)) => b.append_value(timestamp_of(text).ok_or_else(misfit)?),
        _ => return Err(Misfit::Broken),
    }
    Ok(())
}

/// The digits of a decimal number without its point, if exactly `scale` stand behind it.
fn decimal_of(text: &str, scale: i8) -> Option<i128> {
    let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
    (fraction.len() == scale as usize).then(|| format!("{whole}{fraction}").parse().ok()).flatten()
}

fn bytes_of(text: &str) -> Option<Vec<u8>> {
    let digits = text.strip_prefix("\\x")?;
    let byte = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    digits.as_bytes().chunks(2).map(byte).collect()
}

fn date_of(text: &str) -> Option<i32> {
    match text {
        "infinity" => return Some(i32::MAX),
        "-infinity" => return Some(i32::MIN),
        _ => {}
    }
    let (text, bc) = text.strip_suffix(" BC").map_or((text, false), |text| (text, true));
    let mut parts = text.split('-');
    let (year, month, day) =
        (parts.next()?.parse::<i64>().ok()?, parts.next()?.parse().ok()?, parts.next()?.parse().ok()?);
    form::days(if bc { 1 - year } else { year }, month, day)?.try_into().ok()
}

fn time_of(text: &str) -> Option<i64> {
    let (clock, fraction) = text.split_once('.').unwrap_or((text, ""));
    let mut parts = clock.split(':').map(|part| part.parse::<i64>().ok());
    let seconds = parts.next()?? * 3600 + parts.next()?? * 60 + parts.next()??;
    let micros = format!("{fraction:0<6}").get(..6)?.parse::<i64>().ok()?;
    Some(seconds * 1_000_000 + micros)
}

fn timestamp_of(text: &str) -> Option<i64> {
    match text {
        "infinity" => return Some(i64::MAX),
        "-infinity" => return Some(i64::MIN),
        _ => {}
    }
    let (text, bc) = text.strip_suffix(" BC").map_or((text, ""), |text| (text, " BC"));
    let (date, rest) = text.split_once(' ')?;
    let sign = rest.find(['+', '-']).unwrap_or(rest.len());
    let (time, offset) = rest.split_at(sign);
    let east = match offset.split_at_checked(1) {
        None => 0,
        Some((sign, clock)) => {
            let clock: Vec<i64> = clock.split(':').map(|part| part.parse().ok()).collect::<Option<_>>()?;
            let seconds = clock.iter().zip([3600, 60, 1]).map(|(part, unit)| part * unit).sum::<i64>();
            if sign == "-" { -seconds } else { seconds }
        }
    };
    let days = i64::from(date_of(&format!("{date}{bc}"))?);
    days.checked_mul(86_400_000_000)?.checked_add(time_of(time)? - east * 1_000_000)
}

/// A `numeric` of the binary form: groups of four decimal digits.
struct Digits<'a> {
    groups: &'a [u8],
    /// The power of 10,000 of the first group.
    weight: i16,
    sign: u16,
    /// Digits behind the point that are written.
    scale: u16,
}

const NEGATIVE: u16 = 0x4000;

impl<'a> Digits<'a> {
    fn read(raw: &'a [u8]) -> Result<Digits<'a>, Misfit> {
        let head: [u8; 8] = array(raw.get(..8).ok_or(Misfit::Broken)?)?;
        let field = |at: usize| u16::from_be_bytes([head[at], head[at + 1]]);
        let groups = &raw[8..];
        if groups.len() != usize::from(field(0)) * 2 {
            return Err(Misfit::Broken);
        }
        Ok(Digits { groups, weight: field(2) as i16, sign: field(4), scale: field(6) })
    }

    fn group(&self, index: i32) -> u16 {
        let at = usize::try_from(index).map(|index| index * 2).ok();
        at.and_then(|at| self.groups.get(at..at + 2)).map_or(0, |pair| u16::from_be_bytes([pair[0], pair[1]]))
    }

    /// The number times ten to the power of `scale`, where that is whole and fits.
    fn as_decimal(&self, scale: i8) -> Option<i128> {
        if self.sign != 0 && self.sign != NEGATIVE {
            return None;
        }
        let mut value: i128 = 0;
        // The groups down to the one that holds the last digit.
        let behind = (i32::from(scale) + 3) / 4;
        let last = i32::from(self.weight) + behind;
        for index in 0..=last {
            // Of the last group only so many digits belong to it; all of it may not fit any more.
            let beyond = if index == last { 10_i128.pow((behind * 4 - i32::from(scale)) as u32) } else { 1 };
            value = value.checked_mul(10_000 / beyond)?.checked_add(i128::from(self.group(index)) / beyond)?;
        }
        Some(if self.sign == NEGATIVE { -value } else { value })
    }
}

impl std::fmt::Display for Digits<'_> {
    /// As the server writes it: `numeric_out` of its sources.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self.sign {
            0 => {}
            NEGATIVE => f.write_str("-")?,
            0xD000 => return f.write_str("Infinity"),
            0xF000 => return f.write_str("-Infinity"),
            _ => return f.write_str("NaN"),
        }
        let weight = i32::from(self.weight);
        if weight < 0 {
            f.write_str("0")?;
        }
        for index in 0..=weight {
            match index {
                0 => write!(f, "{}", self.group(index))?,
                _ => write!(f, "{:04}", self.group(index))?,
            }
        }
        if self.scale > 0 {
            let mut fraction = String::with_capacity(usize::from(self.scale) + 4);
            let mut index = weight + 1;
            while fraction.len() < usize::from(self.scale) {
                fraction.push_str(&format!("{:04}", self.group(index)));
                index += 1;
            }
            write!(f, ".{}", &fraction[..usize::from(self.scale)])?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn numeric(groups: &[u16], weight: i16, sign: u16, scale: u16) -> Vec<u8> {
        let mut raw = (groups.len() as u16).to_be_bytes().to_vec();
        raw.extend(weight.to_be_bytes());
        raw.extend(sign.to_be_bytes());
        raw.extend(scale.to_be_bytes());
        raw.extend(groups.iter().flat_map(|group| group.to_be_bytes()));
        raw
    }

    #[test]
    fn numerics_of_any_size() {
        for (raw, text, decimal) in [
            (numeric(&[1, 2345, 6700], 1, 0, 2), "12345.67", Some(1_234_567)),
            (numeric(&[], 0, 0, 2), "0.00", Some(0)),
            (numeric(&[500], -1, NEGATIVE, 2), "-0.05", Some(-5)),
            (numeric(&[1], -2, 0, 8), "0.00000001", Some(0)),
            (numeric(&[1], 3, 0, 0), "1000000000000", Some(100_000_000_000_000)),
            (numeric(&[], 0, 0xC000, 0), "NaN", None),
            (numeric(&[], 0, 0xF000, 0), "-Infinity", None),
        ] {
            let digits = Digits::read(&raw).unwrap();
            assert_eq!((digits.to_string().as_str(), digits.as_decimal(2)), (text, decimal));
        }
        // As many digits as fit, with those of the last group that are not among them.
        let whole = numeric(&[1234, 5678, 9012, 3456, 7890, 1234, 5678, 9012, 3456, 7800], 6, NEGATIVE, 10);
        let digits = Digits::read(&whole).unwrap();
        assert_eq!(digits.to_string(), "-1234567890123456789012345678.9012345678");
        assert_eq!(digits.as_decimal(10), Some(-12_345_678_901_234_567_890_123_456_789_012_345_678));
        assert!(Digits::read(&[0, 9, 0, 0, 0, 0, 0, 0, 1]).is_err(), "cut short");
    }

    #[test]
    fn text_is_read_into_the_same_values() {
        assert_eq!(decimal_of("-0.05", 2), Some(-5));
        assert_eq!(decimal_of("NaN", 2), None);
        assert_eq!(bytes_of("\\x00ff"), Some(vec![0, 255]));
        assert_eq!((date_of("2000-01-01"), date_of("0001-12-31 BC")), (Some(EPOCH_DAYS), Some(-719_163)));
        assert_eq!(time_of("24:00:00"), Some(86_400_000_000));
        assert_eq!(timestamp_of("1970-01-01 01:00:00.5+01"), Some(500_000));
        assert_eq!(timestamp_of("1969-12-31 20:30:00-03:30"), Some(0));
        assert_eq!(timestamp_of("2000-01-01 00:00:00"), Some(EPOCH_MICROS));
        assert_eq!(timestamp_of("infinity"), Some(i64::MAX));
    }

    #[test]
    fn the_modifier_of_a_numeric() {
        assert_eq!(numeric_digits(-1), None);
        assert_eq!(numeric_digits((10 << 16 | 2) + 4), Some((10, 2)));
        assert_eq!(numeric_digits((3 << 16 | (2048 - 3)) + 4), Some((3, -3)));
    }
}
