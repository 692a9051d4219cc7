//! One value of a column, as a person or another program reads it.

use std::borrow::Cow;

use arrow_array::cast::AsArray;
use arrow_array::timezone::Tz;
use arrow_array::types::{Float64Type, Int64Type};
use arrow_array::{
    Array, ArrayRef, BinaryArray, BooleanArray, Date32Array, Decimal128Array, Float32Array, Float64Array, Int16Array,
    Int32Array, Int64Array, RecordBatch, StringArray, Time64MicrosecondArray, TimestampMicrosecondArray, UInt32Array,
    UInt64Array, UnionArray,
};
use arrow_schema::{DataType, Field, TimeUnit};

use crate::rows::assemble::Value;
use crate::rows::form::{self, TextForm};
use crate::rows::other;
use crate::rows::widen::mixed_value;
use crate::rows::{DB_TYPE, OF_DOCUMENTS};

/// What a value is, apart from its text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CellKind {
    /// No value.
    Null,
    /// A number.
    Number,
    /// Text, also dates and everything else that is read from left to right.
    Text,
    /// Bytes, as hexadecimal digits.
    Binary,
    /// True or false.
    Boolean,
}

/// One value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cell<'a> {
    /// What it is.
    pub kind: CellKind,
    /// Its text as it came, not cleaned; `∅` for NULL, which is told from text by its kind.
    pub text: Cow<'a, str>,
}

/// How NULL is written where a person reads.
pub const NULL_TEXT: &str = "∅";

/// Reads the values of one column.
pub enum ColumnReader<'a> {
    /// Whole numbers.
    Int(&'a Int64Array),
    /// Floating-point numbers.
    Real(&'a Float64Array),
    /// Text.
    Text(&'a StringArray),
    /// Bytes.
    Bytes(&'a BinaryArray),
    /// True or false.
    Boolean(&'a BooleanArray),
    /// Values of several types.
    Mixed(&'a UnionArray),
    /// Nothing but NULL.
    Nulls,
    /// Values that the database writes in a form of its own.
    Formed(Formed<'a>, TextForm),
    /// Numbers of other types.
    Number(Numbers<'a>),
    /// Values of types beside these.
    Other(&'a ArrayRef),
    /// A type that no engine makes, and that has no text form here.
    Unreadable(&'a DataType),
}

/// Columns of numbers that are written as they are.
pub enum Numbers<'a> {
    /// Of 16 bits.
    I16(&'a Int16Array),
    /// Of 32 bits.
    I32(&'a Int32Array),
    /// Of 32 bits without a sign.
    U32(&'a UInt32Array),
    /// Of 64 bits without a sign.
    U64(&'a UInt64Array),
    /// With a fixed count of digits behind the point.
    Decimal(&'a Decimal128Array),
}

impl<'a> Numbers<'a> {
    fn new(column: &'a ArrayRef) -> Option<Numbers<'a>> {
        Some(match column.data_type() {
            DataType::Int16 => Numbers::I16(column.as_primitive()),
            DataType::Int32 => Numbers::I32(column.as_primitive()),
            DataType::UInt32 => Numbers::U32(column.as_primitive()),
            DataType::UInt64 => Numbers::U64(column.as_primitive()),
            DataType::Decimal128(..) => Numbers::Decimal(column.as_primitive()),
            _ => return None,
        })
    }

    fn is_null(&self, row: usize) -> bool {
        match self {
            Numbers::I16(a) => a.is_null(row),
            Numbers::I32(a) => a.is_null(row),
            Numbers::U32(a) => a.is_null(row),
            Numbers::U64(a) => a.is_null(row),
            Numbers::Decimal(a) => a.is_null(row),
        }
    }

    fn write(&self, row: usize, out: &mut String) {
        let mut digits = itoa::Buffer::new();
        out.push_str(match self {
            Numbers::I16(a) => digits.format(a.value(row)),
            Numbers::I32(a) => digits.format(a.value(row)),
            Numbers::U32(a) => digits.format(a.value(row)),
            Numbers::U64(a) => digits.format(a.value(row)),
            Numbers::Decimal(a) => return form::decimal(a.value(row), a.scale(), out),
        });
    }
}

/// Columns of types whose text form differs between databases.
pub enum Formed<'a> {
    /// Floating-point numbers of 32 bits.
    Single(&'a Float32Array),
    /// Floating-point numbers of 64 bits.
    Double(&'a Float64Array),
    /// Text that is a number.
    Number(&'a StringArray),
    /// Bytes.
    Bytes(&'a BinaryArray),
    /// Days.
    Date(&'a Date32Array),
    /// Times of day.
    Time(&'a Time64MicrosecondArray),
    /// Points in time, in a time zone where there is one.
    Timestamp(&'a TimestampMicrosecondArray, Option<Tz>),
}

impl<'a> Formed<'a> {
    fn new(column: &'a ArrayRef, form: TextForm) -> Option<Formed<'a>> {
        Some(match (column.data_type(), form) {
            (DataType::Float64 | DataType::Binary, TextForm::Plain) => return None,
            (DataType::Utf8, TextForm::Number) => Formed::Number(column.as_string()),
            (_, TextForm::Number | TextForm::Span) => return None,
            (DataType::Float32, _) => Formed::Single(column.as_primitive()),
            (DataType::Float64, _) => Formed::Double(column.as_primitive()),
            (DataType::Binary, TextForm::Padded) => Formed::Bytes(column.as_binary()),
            (DataType::Date32, _) => Formed::Date(column.as_primitive()),
            (DataType::Time64(TimeUnit::Microsecond), _) => Formed::Time(column.as_primitive()),
            (DataType::Timestamp(TimeUnit::Microsecond, zone), _) => {
                let zone = zone.as_deref().map(zone_named);
                Formed::Timestamp(column.as_primitive(), zone)
            }
            _ => return None,
        })
    }

    fn is_null(&self, row: usize) -> bool {
        match self {
            Formed::Single(a) => a.is_null(row),
            Formed::Double(a) => a.is_null(row),
            Formed::Number(a) => a.is_null(row),
            Formed::Bytes(a) => a.is_null(row),
            Formed::Date(a) => a.is_null(row),
            Formed::Time(a) => a.is_null(row),
            Formed::Timestamp(a, _) => a.is_null(row),
        }
    }

    fn write(&self, row: usize, form: TextForm, text: &mut String) -> CellKind {
        let digits = if let TextForm::Bare(digits) = form { Some(digits) } else { None };
        match self {
            Formed::Single(a) => {
                form::real(f64::from(a.value(row)), true, form, text);
                CellKind::Number
            }
            Formed::Double(a) => {
                form::real(a.value(row), false, form, text);
                CellKind::Number
            }
            Formed::Number(a) => {
                text.push_str(a.value(row));
                CellKind::Number
            }
            Formed::Bytes(a) => {
                text.push_str("\\x");
                put_hex(a.value(row), text);
                CellKind::Binary
            }
            Formed::Date(a) => {
                form::date(a.value(row), text);
                CellKind::Text
            }
            Formed::Time(a) => {
                form::time(a.value(row), digits, text);
                CellKind::Text
            }
            Formed::Timestamp(a, zone) => {
                let micros = a.value(row);
                let offset = zone.as_ref().map(|zone| seconds_east(zone, micros));
                form::timestamp(micros, offset, digits, text);
                CellKind::Text
            }
        }
    }
}

/// A time zone by its name; one that is not known here is UTC.
pub(super) fn zone_named(name: &str) -> Tz {
    name.parse().unwrap_or_else(|_| utc())
}

fn utc() -> Tz {
    match "+00:00".parse() {
        Ok(zone) => zone,
        // Arrow knows every fixed offset.
        Err(error) => unreachable!("{error}"),
    }
}

/// How far east of Greenwich a zone's clocks are at a point in time. Beyond the reach of the zone's
/// rules they are as at its end.
pub(super) fn seconds_east(zone: &Tz, micros: i64) -> i32 {
    const END: i64 = 8_000_000_000_000_000_000;
    let utc = chrono::DateTime::from_timestamp_micros(micros.clamp(-END, END)).unwrap_or_default().naive_utc();
    chrono::Offset::fix(&chrono::TimeZone::offset_from_utc_datetime(zone, &utc)).local_minus_utc()
}

impl<'a> ColumnReader<'a> {
    /// Reads from this column, in the form that its field states.
    pub fn of(column: &'a ArrayRef, field: &Field) -> Self {
        Self::in_form(column, TextForm::of(field))
    }

    /// Reads from this column, in the program's own form.
    pub fn new(column: &'a ArrayRef) -> Self {
        Self::in_form(column, TextForm::Plain)
    }

    fn in_form(column: &'a ArrayRef, form: TextForm) -> Self {
        match Formed::new(column, form) {
            Some(formed) => ColumnReader::Formed(formed, form),
            None => ColumnReader::plain(column),
        }
    }

    /// Readers of all columns of a batch.
    pub fn all(batch: &'a RecordBatch) -> Vec<Self> {
        batch.columns().iter().zip(batch.schema_ref().fields()).map(|(column, field)| Self::of(column, field)).collect()
    }

    fn plain(column: &'a ArrayRef) -> Self {
        match column.data_type() {
            DataType::Int64 => ColumnReader::Int(column.as_primitive::<Int64Type>()),
            DataType::Float64 => ColumnReader::Real(column.as_primitive::<Float64Type>()),
            DataType::Utf8 => ColumnReader::Text(column.as_string()),
            DataType::Binary => ColumnReader::Bytes(column.as_binary()),
            DataType::Boolean => ColumnReader::Boolean(column.as_boolean()),
            DataType::Null => ColumnReader::Nulls,
            kind if super::widen::is_mixed(kind) => ColumnReader::Mixed(column.as_union()),
            known if other::is_known(known) => ColumnReader::Other(column),
            unknown => Numbers::new(column).map_or(ColumnReader::Unreadable(unknown), ColumnReader::Number),
        }
    }

    /// Whether its values are days or points in time.
    pub fn is_moment(&self) -> bool {
        matches!(self, ColumnReader::Formed(Formed::Date(_) | Formed::Timestamp(..), _))
    }

    /// Whether a row has no value.
    pub fn is_null(&self, row: usize) -> bool {
        match self {
            ColumnReader::Int(a) => a.is_null(row),
            ColumnReader::Real(a) => a.is_null(row),
            ColumnReader::Text(a) => a.is_null(row),
            ColumnReader::Bytes(a) => a.is_null(row),
            ColumnReader::Boolean(a) => a.is_null(row),
            ColumnReader::Mixed(a) => matches!(mixed_value(a, row), Value::Null),
            ColumnReader::Nulls => true,
            ColumnReader::Formed(formed, _) => formed.is_null(row),
            ColumnReader::Number(numbers) => numbers.is_null(row),
            ColumnReader::Other(column) => column.is_null(row),
            ColumnReader::Unreadable(_) => false,
        }
    }

    /// The value of a row.
    pub fn get(&self, row: usize) -> Cell<'a> {
        let cell = |kind, text| Cell { kind, text };
        let value = match self {
            ColumnReader::Int(a) if !a.is_null(row) => Value::Int(a.value(row)),
            ColumnReader::Real(a) if !a.is_null(row) => Value::Real(a.value(row)),
            ColumnReader::Text(a) if !a.is_null(row) => Value::Text(a.value(row)),
            ColumnReader::Bytes(a) if !a.is_null(row) => Value::Bytes(a.value(row)),
            ColumnReader::Mixed(a) => mixed_value(a, row),
            ColumnReader::Boolean(a) if !a.is_null(row) => {
                return cell(CellKind::Boolean, if a.value(row) { "true" } else { "false" }.into());
            }
            ColumnReader::Formed(Formed::Number(a), _) if !a.is_null(row) => {
                return cell(CellKind::Number, a.value(row).into());
            }
            ColumnReader::Formed(formed, form) if !formed.is_null(row) => {
                let mut text = String::new();
                let kind = formed.write(row, *form, &mut text);
                return cell(kind, text.into());
            }
            ColumnReader::Number(numbers) if !numbers.is_null(row) => {
                let mut text = String::new();
                numbers.write(row, &mut text);
                return cell(CellKind::Number, text.into());
            }
            ColumnReader::Other(column) if !column.is_null(row) => {
                let mut text = String::new();
                match other::write(column, row, &mut text) {
                    // The value of a dictionary may be NULL.
                    CellKind::Null => Value::Null,
                    kind => return cell(kind, text.into()),
                }
            }
            ColumnReader::Unreadable(data_type) => {
                return cell(CellKind::Text, format!("({data_type} has no text form)").into());
            }
            _ => Value::Null,
        };
        match value {
            Value::Null => cell(CellKind::Null, NULL_TEXT.into()),
            Value::Int(v) => cell(CellKind::Number, itoa::Buffer::new().format(v).to_owned().into()),
            Value::Real(v) => cell(CellKind::Number, real(v).into()),
            Value::Typed("decimal" | "int" | "long", v) => cell(CellKind::Number, v.into()),
            Value::Text(v) | Value::Typed(_, v) => cell(CellKind::Text, v.into()),
            Value::Bytes(v) | Value::RawText(v) => cell(CellKind::Binary, hex(v).into()),
        }
    }
}

impl ColumnReader<'_> {
    /// Adds a value's text to `out`, nothing for NULL: the same as [`ColumnReader::get`], without
    /// memory of its own for each value.
    pub fn put(&self, row: usize, out: &mut String) -> CellKind {
        match self {
            ColumnReader::Int(a) if !a.is_null(row) => {
                out.push_str(itoa::Buffer::new().format(a.value(row)));
                CellKind::Number
            }
            ColumnReader::Real(a) if !a.is_null(row) => {
                out.push_str(ryu::Buffer::new().format(a.value(row)));
                CellKind::Number
            }
            ColumnReader::Bytes(a) if !a.is_null(row) => {
                put_hex(a.value(row), out);
                CellKind::Binary
            }
            ColumnReader::Formed(formed, form) if !formed.is_null(row) => formed.write(row, *form, out),
            ColumnReader::Number(numbers) if !numbers.is_null(row) => {
                numbers.write(row, out);
                CellKind::Number
            }
            _ => {
                let cell = self.get(row);
                if cell.kind != CellKind::Null {
                    out.push_str(&cell.text);
                }
                cell.kind
            }
        }
    }
}

/// The shortest text that reads back as the same number.
fn real(value: f64) -> String {
    ryu::Buffer::new().format(value).to_owned()
}

/// Whether a text is the hexadecimal digits of bytes, at least of one.
pub fn is_hex(text: &str) -> bool {
    !text.is_empty() && text.len().is_multiple_of(2) && text.bytes().all(|byte| byte.is_ascii_hexdigit())
}

/// Hexadecimal digits, two a byte.
pub fn hex(bytes: &[u8]) -> String {
    let mut text = String::with_capacity(bytes.len() * 2);
    put_hex(bytes, &mut text);
    text
}

pub(super) fn put_hex(bytes: &[u8], out: &mut String) {
    let digit = |value: u8| char::from_digit(u32::from(value), 16).unwrap_or('0');
    out.extend(bytes.iter().flat_map(|byte| [digit(byte >> 4), digit(byte & 15)]));
}

/// The type of a column in the database's words, or else in Arrow's.
pub fn type_name(field: &Field) -> String {
    if let Some(declared) = field.metadata().get(DB_TYPE).filter(|name| !name.is_empty()) {
        return declared.to_lowercase();
    }
    let of_documents = field.metadata().contains_key(OF_DOCUMENTS);
    match field.data_type() {
        DataType::Null => String::new(),
        DataType::Int64 if of_documents => "int".into(),
        DataType::Float64 if of_documents => "double".into(),
        DataType::Utf8 if of_documents => "string".into(),
        DataType::Int64 => "integer".into(),
        DataType::Float64 => "real".into(),
        DataType::Utf8 => "text".into(),
        DataType::Binary => "blob".into(),
        mixed if super::widen::is_mixed(mixed) => "mixed".into(),
        other => other.to_string().to_lowercase(),
    }
}

/// All values of a column as text.
pub fn column_text(column: &ArrayRef) -> Vec<String> {
    let reader = ColumnReader::new(column);
    (0..column.len()).map(|row| reader.get(row).text.into_owned()).collect()
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::Decimal128Array;

    use super::*;

    #[test]
    fn every_type_has_a_text_form() {
        let columns: Vec<(ArrayRef, &str, CellKind)> = vec![
            (Arc::new(Int64Array::from(vec![i64::MIN])), "-9223372036854775808", CellKind::Number),
            (Arc::new(Float64Array::from(vec![0.1])), "0.1", CellKind::Number),
            (Arc::new(Float64Array::from(vec![1e300])), "1e300", CellKind::Number),
            (Arc::new(Float64Array::from(vec![None])), "∅", CellKind::Null),
            (Arc::new(StringArray::from(vec!["∅"])), "∅", CellKind::Text),
            (Arc::new(BinaryArray::from(vec![&[0_u8, 255][..]])), "00ff", CellKind::Binary),
            (Arc::new(BooleanArray::from(vec![true])), "true", CellKind::Boolean),
            (Arc::new(Date32Array::from(vec![0])), "1970-01-01", CellKind::Text),
            (Arc::new(TimestampMicrosecondArray::from(vec![1])), "1970-01-01 00:00:00.000001", CellKind::Text),
            (
                Arc::new(Decimal128Array::from(vec![12345]).with_precision_and_scale(9, 2).unwrap()),
                "123.45",
                CellKind::Number,
            ),
            (Arc::new(Int16Array::from(vec![-7])), "-7", CellKind::Number),
            (Arc::new(Int32Array::from(vec![None])), "∅", CellKind::Null),
            (Arc::new(UInt32Array::from(vec![u32::MAX])), "4294967295", CellKind::Number),
            (Arc::new(UInt64Array::from(vec![u64::MAX])), "18446744073709551615", CellKind::Number),
            (Arc::new(Float32Array::from(vec![0.1])), "0.1", CellKind::Number),
            (Arc::new(Time64MicrosecondArray::from(vec![1_500_000])), "00:00:01.5", CellKind::Text),
        ];
        for (column, text, kind) in columns {
            let cell = ColumnReader::new(&column).get(0);
            assert_eq!((cell.text.as_ref(), cell.kind), (text, kind), "{}", column.data_type());
            let mut put = String::new();
            assert_eq!(ColumnReader::new(&column).put(0, &mut put), kind);
            assert_eq!(put, if kind == CellKind::Null { "" } else { text });
        }
    }
}
