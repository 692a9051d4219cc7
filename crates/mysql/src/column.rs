//! What a column of a result is (MySQL Source Code Documentation, "Column Definition Packet").

use crate::fields::Fields;
use crate::text;

/// The type of a column's values, by the number that it travels with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[allow(missing_docs)] // They are called as in SQL.
pub enum Kind {
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

impl Kind {
    fn of(number: u8) -> Kind {
        match number {
            0 | 246 => Kind::Decimal,
            1 => Kind::TinyInt,
            2 => Kind::SmallInt,
            3 => Kind::Int,
            4 => Kind::Float,
            5 => Kind::Double,
            6 => Kind::Null,
            7 | 17 => Kind::Timestamp,
            8 => Kind::BigInt,
            9 => Kind::MediumInt,
            10 | 14 => Kind::Date,
            11 | 19 => Kind::Time,
            12 | 18 => Kind::DateTime,
            13 => Kind::Year,
            16 => Kind::Bit,
            245 => Kind::Json,
            247 => Kind::Enum,
            248 => Kind::Set,
            249..=252 => Kind::Blob,
            254 => Kind::Fixed,
            255 => Kind::Geometry,
            _ => Kind::Varying,
        }
    }
}

/// What is said of a column beside its type.
pub mod is {
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
    pub kind: Kind,
    /// What is said of it: [`is`].
    pub flags: u16,
    /// Digits behind the point; 31 is any number of them.
    pub decimals: u8,
}

impl Column {
    /// Reads one; `None` where it ends too early.
    pub fn read(payload: &[u8]) -> Option<Column> {
        let mut fields = Fields::of(payload);
        fields.bytes()?;
        let schema = text(fields.bytes()?);
        fields.bytes()?;
        let table = text(fields.bytes()?);
        let name = text(fields.bytes()?);
        let origin = text(fields.bytes()?);
        fields.number()?;
        Some(Column {
            schema,
            table,
            name,
            origin,
            collation: fields.u16()?,
            length: fields.u32()?,
            kind: Kind::of(fields.u8()?),
            flags: fields.u16()?,
            decimals: fields.u8()?,
        })
    }

    /// Whether one of the marks of [`is`] stands at it.
    pub fn has(&self, mark: u16) -> bool {
        self.flags & mark != 0
    }
}
