//! Rows: of texts, as plain statements give them, and of values, as prepared ones do (MySQL Source Code Documentation,
//! "Text Resultset Row" and "Binary Protocol Resultset Row").

use crate::column::{Column, ColumnType, flag};
use crate::fields::Fields;

/// A value of a prepared statement's row.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Value<'a> {
    /// NULL.
    Null,
    /// A whole number.
    Int(i64),
    /// A whole number without a sign.
    UInt(u64),
    /// `float`.
    Float(f32),
    /// `double`.
    Double(f64),
    /// A day.
    Date(u16, u8, u8),
    /// A point in time: year, month, day, hour, minute, second, microseconds.
    DateTime(u16, u8, u8, u8, u8, u8, u32),
    /// A span: negative, hours, minutes, seconds, microseconds.
    Time(bool, u32, u8, u8, u32),
    /// All else: as it stands.
    Bytes(&'a [u8]),
}

/// The values of a row of a prepared statement, one after the other.
#[derive(Debug)]
pub struct Values<'a> {
    nulls: &'a [u8],
    fields: Fields<'a>,
    at: usize,
}

impl<'a> Values<'a> {
    /// Those of a row with so many columns. `None` where it ends too early.
    pub fn of(payload: &'a [u8], columns: usize) -> Option<Values<'a>> {
        let mut fields = Fields::of(payload.get(1..)?);
        // The first two bits are not used.
        let nulls = fields.take((columns + 9) / 8)?;
        Some(Values { nulls, fields, at: 0 })
    }

    /// The next one, which is in this column. `None` where the row ends too early.
    pub fn next(&mut self, column: &Column) -> Option<Value<'a>> {
        let bit = self.at + 2;
        self.at += 1;
        if self.nulls.get(bit / 8)? & (1 << (bit % 8)) != 0 {
            return Some(Value::Null);
        }
        let fields = &mut self.fields;
        let whole = |unsigned: u64, signed: i64| match column.has(flag::UNSIGNED) {
            true => Value::UInt(unsigned),
            false => Value::Int(signed),
        };
        Some(match column.kind {
            ColumnType::TinyInt => fields.u8().map(|value| whole(value.into(), (value as i8).into()))?,
            ColumnType::SmallInt | ColumnType::Year => {
                fields.u16().map(|value| whole(value.into(), (value as i16).into()))?
            }
            ColumnType::Int | ColumnType::MediumInt => {
                fields.u32().map(|value| whole(value.into(), (value as i32).into()))?
            }
            ColumnType::BigInt => fields.u64().map(|value| whole(value, value as i64))?,
            ColumnType::Float => Value::Float(f32::from_bits(fields.u32()?)),
            ColumnType::Double => Value::Double(f64::from_bits(fields.u64()?)),
            ColumnType::Null => Value::Null,
            ColumnType::Date | ColumnType::DateTime | ColumnType::Timestamp => {
                moment(fields, column.kind == ColumnType::Date)?
            }
            ColumnType::Time => span(fields)?,
            _ => Value::Bytes(fields.bytes()?),
        })
    }
}

/// A point in time, of which zeros at the end are left out.
fn moment<'a>(fields: &mut Fields<'_>, is_date: bool) -> Option<Value<'a>> {
    let length = fields.u8()?;
    let (year, month, day) = if length >= 4 { (fields.u16()?, fields.u8()?, fields.u8()?) } else { (0, 0, 0) };
    let (hour, minute, second) = if length >= 7 { (fields.u8()?, fields.u8()?, fields.u8()?) } else { (0, 0, 0) };
    let micros = if length >= 11 { fields.u32()? } else { 0 };
    Some(match is_date {
        true => Value::Date(year, month, day),
        false => Value::DateTime(year, month, day, hour, minute, second, micros),
    })
}

/// A span, of which zeros at the end are left out.
fn span<'a>(fields: &mut Fields<'_>) -> Option<Value<'a>> {
    let length = fields.u8()?;
    if length < 8 {
        return Some(Value::Time(false, 0, 0, 0, 0));
    }
    let (negative, days, hours) = (fields.u8()? != 0, fields.u32()?, fields.u8()?);
    let (minutes, seconds) = (fields.u8()?, fields.u8()?);
    let micros = if length >= 12 { fields.u32()? } else { 0 };
    Some(Value::Time(negative, days.checked_mul(24)?.checked_add(hours.into())?, minutes, seconds, micros))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    pub fn column(kind: ColumnType, flags: u16) -> Column {
        Column {
            schema: String::new(),
            table: String::new(),
            name: "c".into(),
            origin: String::new(),
            collation: 45,
            length: 11,
            kind,
            flags,
            decimals: 0,
            type_name: String::new(),
        }
    }

    #[test]
    fn values_are_read_by_their_columns() {
        let columns = [
            (ColumnType::TinyInt, 0),
            (ColumnType::TinyInt, flag::UNSIGNED),
            (ColumnType::Int, 0),
            (ColumnType::Varying, 0),
            (ColumnType::Double, 0),
            (ColumnType::DateTime, 0),
            (ColumnType::Time, 0),
            (ColumnType::Date, 0),
        ];
        // The fourth is NULL.
        let mut row = vec![0, 0b0010_0000, 0];
        row.extend([0xFF, 0xFF]);
        row.extend((-7_i32).to_le_bytes());
        row.extend(1.5_f64.to_le_bytes());
        row.extend([7, 0xE8, 7, 2, 29, 23, 59, 1]);
        row.extend([8, 1, 1, 0, 0, 0, 2, 3, 4]);
        row.extend([0]);
        let mut values = Values::of(&row, columns.len()).unwrap();
        let read: Vec<_> = columns.map(|(kind, flags)| values.next(&column(kind, flags)).unwrap()).into();
        let expected = [
            Value::Int(-1),
            Value::UInt(255),
            Value::Int(-7),
            Value::Null,
            Value::Double(1.5),
            Value::DateTime(2024, 2, 29, 23, 59, 1, 0),
            Value::Time(true, 26, 3, 4, 0),
            Value::Date(0, 0, 0),
        ];
        assert_eq!(read, expected);
    }

    proptest! {
        #[test]
        fn hostile_rows_are_read_as_far_as_they_go(bytes: Vec<u8>, kinds in proptest::collection::vec(any::<u8>(), 0..20)) {
            let Some(mut values) = Values::of(&bytes, kinds.len()) else { return Ok(()) };
            for kind in kinds {
                let mut described = vec![0, 0, 0, 0, 0, 0, 12];
                described.extend([45, 0, 0, 0, 0, 0, kind, 0, 0, 0]);
                if values.next(&Column::read(&described, false).unwrap()).is_none() {
                    break;
                }
            }
        }

        #[test]
        fn hostile_columns_are_read_as_far_as_they_go(bytes: Vec<u8>, has_extended: bool) {
            Column::read(&bytes, has_extended);
        }
    }
}
