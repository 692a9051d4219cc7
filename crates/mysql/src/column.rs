//! What a column of a result is (MySQL Source Code Documentation, "Column Definition Packet"; for the
//! extended metadata, MariaDB Server Documentation, "Column Definition Packet").

use crate::fields::Fields;
use crate::text;

/// The type of a column's values, by the number that it travels with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)] // They are called as in SQL.
pub enum ColumnType {
    Decimal,
    TinyInt,
    SmallInt,
    Int,
    Float,
    Double,
    Null,
    Timestamp,
    BigInt,
    MediumInt,
    Date,
    Time,
    DateTime,
    Year,
    Bit,
    Json,
    Enum,
    Set,
    /// Of any length: text too.
    Blob,
    /// `char` and `binary`.
    Fixed,
    /// `varchar` and `varbinary`, and whatever has no number here: all values but numbers and times travel like it.
    Varying,
    Geometry,
}

impl ColumnType {
    fn of(number: u8) -> ColumnType {
        match number {
            0 | 246 => ColumnType::Decimal,
            1 => ColumnType::TinyInt,
            2 => ColumnType::SmallInt,
            3 => ColumnType::Int,
            4 => ColumnType::Float,
            5 => ColumnType::Double,
            6 => ColumnType::Null,
            7 | 17 => ColumnType::Timestamp,
            8 => ColumnType::BigInt,
            9 => ColumnType::MediumInt,
            10 | 14 => ColumnType::Date,
            11 | 19 => ColumnType::Time,
            12 | 18 => ColumnType::DateTime,
            13 => ColumnType::Year,
            16 => ColumnType::Bit,
            245 => ColumnType::Json,
            247 => ColumnType::Enum,
            248 => ColumnType::Set,
            249..=252 => ColumnType::Blob,
            254 => ColumnType::Fixed,
            255 => ColumnType::Geometry,
            _ => ColumnType::Varying,
        }
    }
}

/// What is said of a column beside its type.
pub mod flag {
    /// It has no NULL.
    pub const REQUIRED: u16 = 1;
    /// Its numbers have no sign.
    pub const UNSIGNED: u16 = 1 << 5;
    /// Its numbers are filled up with zeros.
    pub const ZEROFILL: u16 = 1 << 6;
    /// Its values are words of a list.
    pub const ENUM: u16 = 1 << 8;
    /// Its values are sets of words.
    pub const SET: u16 = 1 << 11;
}

/// A column of a result.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Column {
    /// The database of its table.
    pub schema: String,
    /// Its table, by its own name; empty where it has none.
    pub table: String,
    /// The name in the result.
    pub name: String,
    /// The name in its table.
    pub origin: String,
    /// The number of the collation of its text; 63 is that of bytes.
    pub collation: u16,
    /// The most bytes of a value.
    pub length: u32,
    /// Its type.
    pub kind: ColumnType,
    /// What is said of it: [`flag`].
    pub flags: u16,
    /// Digits behind the point; 31 is any number of them.
    pub decimals: u8,
    /// What MariaDB calls the type, where it has no number of its own (`uuid`, `inet6`, `point`); else empty.
    pub type_name: String,
}

/// The part of MariaDB's extended metadata that names a type. Another one says what a text is written in (`json`): that is
/// said of columns of text too.
const TYPE: u8 = 0;

impl Column {
    /// Reads one, with the extended metadata of MariaDB if that was agreed on; `None` where it ends too early.
    pub fn read(payload: &[u8], has_extended: bool) -> Option<Column> {
        let mut fields = Fields::of(payload);
        fields.bytes()?;
        let schema = text(fields.bytes()?);
        fields.bytes()?;
        let table = text(fields.bytes()?);
        let name = text(fields.bytes()?);
        let origin = text(fields.bytes()?);
        let mut type_name = String::new();
        let mut more = Fields::of(if has_extended { fields.bytes()? } else { &[] });
        while let Some(part) = more.u8() {
            let value = more.bytes()?;
            if part == TYPE {
                type_name = text(value);
            }
        }
        fields.number()?;
        Some(Column {
            schema,
            table,
            name,
            origin,
            collation: fields.u16()?,
            length: fields.u32()?,
            kind: ColumnType::of(fields.u8()?),
            flags: fields.u16()?,
            decimals: fields.u8()?,
            type_name,
        })
    }

    /// Whether one of the marks of [`flag`] stands at it.
    pub fn has(&self, mark: u16) -> bool {
        self.flags & mark != 0
    }
}
