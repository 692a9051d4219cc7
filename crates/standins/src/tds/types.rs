//! How values travel: types by their names, and values of SQLite as bytes of them ([MS-TDS] 2.2.5.4 and 2.2.5.5).

use rusqlite::types::ValueRef;

use super::dates;
use super::lex::Token;
use super::say::{COLLATION, utf16};

/// A type of a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Type {
    Bit,
    /// So many bytes.
    Int(u8),
    /// So many bytes.
    Float(u8),
    /// So many bytes.
    Money(u8),
    Decimal(u8, u8),
    Date,
    Time(u8),
    DateTime,
    SmallDateTime,
    DateTime2(u8),
    DateTimeOffset(u8),
    Guid,
    /// So many characters; none for as many as there are.
    VarChar(Option<u16>),
    Char(u16),
    NVarChar(Option<u16>),
    NChar(u16),
    VarBinary(Option<u16>),
    Binary(u16),
    RowVersion,
    Xml,
    Variant,
    /// The old large types.
    Text,
    NText,
    Image,
    /// A value of a class: its name.
    Class(&'static str),
}

impl Type {
    /// A type by its words, as `decimal(10, 2)`; `None` where there is none of that name.
    pub fn named(words: &str) -> Option<Type> {
        let lower = words.trim().to_ascii_lowercase();
        let (name, arguments) = lower.split_once('(').map_or((lower.as_str(), ""), |(name, rest)| (name.trim(), rest));
        let name = name.split_whitespace().next().unwrap_or_default();
        let mut numbers = arguments.trim_end_matches(')').split(',').map(|part| part.trim().parse::<u16>().ok());
        let first = numbers.next().flatten();
        let second = numbers.next().flatten();
        // A table of SQLite has a number in the place of the word.
        let is_max = arguments.starts_with("max") || first == Some(u16::MAX);
        let sized = |usual: u16| if is_max { None } else { Some(first.unwrap_or(usual)) };
        let scale = |usual: u8| first.map_or(usual, |scale| scale.min(7) as u8);
        Some(match name {
            "bit" | "boolean" => Type::Bit,
            "tinyint" => Type::Int(1),
            "smallint" => Type::Int(2),
            "int" => Type::Int(4),
            "bigint" | "integer" => Type::Int(8),
            "real" if arguments.is_empty() && words.contains("REAL4") => Type::Float(4),
            "real" => Type::Float(4),
            "float" | "double" => Type::Float(8),
            "smallmoney" => Type::Money(4),
            "money" => Type::Money(8),
            "decimal" | "numeric" | "dec" => {
                Type::Decimal(first.unwrap_or(18).clamp(1, 38) as u8, second.unwrap_or(0).min(38) as u8)
            }
            "date" => Type::Date,
            "time" => Type::Time(scale(7)),
            "datetime" => Type::DateTime,
            "smalldatetime" => Type::SmallDateTime,
            "datetime2" | "timestamp_text" => Type::DateTime2(scale(7)),
            "datetimeoffset" => Type::DateTimeOffset(scale(7)),
            "uniqueidentifier" => Type::Guid,
            "varchar" => Type::VarChar(sized(1)),
            "char" => Type::Char(first.unwrap_or(1)),
            "nvarchar" => Type::NVarChar(sized(1)),
            "sysname" => Type::NVarChar(Some(128)),
            "nchar" => Type::NChar(first.unwrap_or(1)),
            "varbinary" => Type::VarBinary(sized(1)),
            "binary" => Type::Binary(first.unwrap_or(1)),
            "blob" => Type::VarBinary(None),
            "rowversion" | "timestamp" => Type::RowVersion,
            "xml" => Type::Xml,
            "sql_variant" => Type::Variant,
            "text_old" => Type::Text,
            "ntext" => Type::NText,
            "image" => Type::Image,
            "hierarchyid" => Type::Class("hierarchyid"),
            "geography" => Type::Class("geography"),
            "geometry" => Type::Class("geometry"),
            _ => return None,
        })
    }

    /// A type as a table of SQLite declares it, whose words may be its own.
    pub fn declared(words: &str) -> Option<Type> {
        match words.trim().to_ascii_lowercase().as_str() {
            // What SQLite calls so has eight bytes, and its texts have no limit.
            "real" => Some(Type::Float(8)),
            "text" => Some(Type::NVarChar(None)),
            words => Type::named(words),
        }
    }

    /// A type by its tokens.
    pub fn of(tokens: &[Token]) -> Option<Type> {
        Type::named(&tokens.iter().map(|token| token.text.as_str()).collect::<String>())
    }

    /// A type in which a value of SQLite fits.
    pub fn for_value(value: ValueRef<'_>) -> Type {
        match value {
            ValueRef::Integer(number) if i32::try_from(number).is_ok() => Type::Int(4),
            ValueRef::Integer(_) => Type::Int(8),
            ValueRef::Real(_) => Type::Float(8),
            ValueRef::Text(text) if text.len() <= 2000 => Type::NVarChar(Some(4000)),
            ValueRef::Text(_) => Type::NVarChar(None),
            ValueRef::Blob(_) => Type::VarBinary(None),
            ValueRef::Null => Type::Int(4),
        }
    }

    /// What stands in a description of columns for it, and for a parameter.
    pub fn described(self) -> Vec<u8> {
        let with_size = |token: u8, size: u16| {
            let mut bytes = vec![token];
            bytes.extend(size.to_le_bytes());
            bytes
        };
        let collated = |mut bytes: Vec<u8>| {
            bytes.extend(COLLATION);
            bytes
        };
        match self {
            Type::Bit => vec![0x68, 1],
            Type::Int(size) => vec![0x26, size],
            Type::Float(size) => vec![0x6D, size],
            Type::Money(size) => vec![0x6E, size],
            Type::Decimal(precision, scale) => vec![0x6A, bytes_of(precision), precision, scale],
            Type::Date => vec![0x28],
            Type::Time(scale) => vec![0x29, scale],
            Type::DateTime => vec![0x6F, 8],
            Type::SmallDateTime => vec![0x6F, 4],
            Type::DateTime2(scale) => vec![0x2A, scale],
            Type::DateTimeOffset(scale) => vec![0x2B, scale],
            Type::Guid => vec![0x24, 16],
            Type::VarChar(size) => collated(with_size(0xA7, size.unwrap_or(u16::MAX))),
            Type::Char(size) => collated(with_size(0xAF, size)),
            Type::NVarChar(size) => collated(with_size(0xE7, size.map_or(u16::MAX, |size| size.min(4000) * 2))),
            Type::NChar(size) => collated(with_size(0xEF, size * 2)),
            Type::VarBinary(size) => with_size(0xA5, size.unwrap_or(u16::MAX)),
            Type::Binary(size) => with_size(0xAD, size),
            Type::RowVersion => with_size(0xAD, 8),
            Type::Xml => vec![0xF1, 0],
            Type::Variant => {
                let mut bytes = vec![0x62];
                bytes.extend(8009_u32.to_le_bytes());
                bytes
            }
            Type::Text | Type::NText | Type::Image => {
                let token = match self {
                    Type::Text => 0x23,
                    Type::NText => 0x63,
                    _ => 0x22,
                };
                let mut bytes = vec![token];
                bytes.extend(0x7FFF_FFFF_u32.to_le_bytes());
                if token == 0x22 { bytes } else { collated(bytes) }
            }
            Type::Class(name) => {
                let mut bytes = with_size(0xF0, u16::MAX);
                for text in ["ferry", "sys", name] {
                    bytes.extend(super::say::short(text));
                }
                bytes.extend(super::say::long("Types, Version=16.0.0.0"));
                bytes
            }
        }
    }

    /// Whether the name of a table stands behind its description.
    pub fn is_old(self) -> bool {
        matches!(self, Type::Text | Type::NText | Type::Image)
    }

    /// Adds a value to a row. One that cannot be of this type is NULL.
    pub fn put(self, value: ValueRef<'_>, row: &mut Vec<u8>) {
        let Some(raw) = (match value {
            ValueRef::Null => None,
            value => self.bytes(value),
        }) else {
            match self {
                Type::VarChar(Some(_)) | Type::Char(_) | Type::NVarChar(Some(_)) | Type::NChar(_) => {
                    row.extend([0xFF; 2])
                }
                Type::VarBinary(Some(_)) | Type::Binary(_) | Type::RowVersion => row.extend([0xFF; 2]),
                Type::VarChar(None) | Type::NVarChar(None) | Type::VarBinary(None) | Type::Xml | Type::Class(_) => {
                    row.extend([0xFF; 8]);
                }
                Type::Variant => row.extend([0; 4]),
                _ => row.push(0),
            }
            return;
        };
        match self {
            Type::VarChar(Some(_))
            | Type::Char(_)
            | Type::NVarChar(Some(_))
            | Type::NChar(_)
            | Type::VarBinary(Some(_))
            | Type::Binary(_)
            | Type::RowVersion => row.extend((raw.len() as u16).to_le_bytes()),
            Type::VarChar(None) | Type::NVarChar(None) | Type::VarBinary(None) | Type::Xml | Type::Class(_) => {
                row.extend((raw.len() as u64).to_le_bytes());
                // Parts of a size that is an odd one, so that readers put them together.
                for part in raw.chunks(8191) {
                    row.extend((part.len() as u32).to_le_bytes());
                    row.extend(part);
                }
                row.extend([0; 4]);
                return;
            }
            Type::Variant => row.extend((raw.len() as u32).to_le_bytes()),
            Type::Text | Type::NText | Type::Image => {
                row.push(16);
                row.extend([7; 24]);
                row.extend((raw.len() as u32).to_le_bytes());
            }
            _ => row.push(raw.len() as u8),
        }
        row.extend(raw);
    }

    /// The bytes of a value.
    fn bytes(self, value: ValueRef<'_>) -> Option<Vec<u8>> {
        let text = || text_of(value);
        let moment = || dates::read(&text());
        let clock = |ticks: i64, scale: u8| {
            let size = [3, 3, 3, 4, 4, 5, 5, 5][usize::from(scale.min(7))];
            let units = ticks / 10_i64.pow(7 - u32::from(scale.min(7)));
            units.to_le_bytes().get(..size).map(<[u8]>::to_vec)
        };
        let day = |day: i64| day.to_le_bytes().get(..3).map(<[u8]>::to_vec);
        Some(match self {
            Type::Bit => vec![u8::from(number(value)? != 0)],
            Type::Int(size) => number(value)?.to_le_bytes().get(..usize::from(size))?.to_vec(),
            Type::Float(4) => (real(value)? as f32).to_le_bytes().to_vec(),
            Type::Float(_) => real(value)?.to_le_bytes().to_vec(),
            Type::Money(size) => {
                let amount = i64::try_from(scaled(&text(), 4)?).ok()?;
                if size == 4 {
                    i32::try_from(amount).ok()?.to_le_bytes().to_vec()
                } else {
                    let bytes = amount.to_le_bytes();
                    [&bytes[4..], &bytes[..4]].concat()
                }
            }
            Type::Decimal(precision, scale) => {
                let value = scaled(&text(), scale)?;
                let mut bytes = vec![u8::from(value >= 0)];
                bytes.extend(value.unsigned_abs().to_le_bytes().get(..usize::from(bytes_of(precision)) - 1)?);
                bytes
            }
            Type::Date => day(moment()?.day)?,
            Type::Time(scale) => clock(moment()?.ticks, scale)?,
            Type::DateTime => {
                let moment = moment()?;
                let parts = (moment.ticks * 300 + 5_000_000) / 10_000_000;
                let mut bytes = ((moment.day - 693_595) as i32).to_le_bytes().to_vec();
                bytes.extend((parts as u32).to_le_bytes());
                bytes
            }
            Type::SmallDateTime => {
                let moment = moment()?;
                let mut bytes = ((moment.day - 693_595) as u16).to_le_bytes().to_vec();
                bytes.extend(((moment.ticks / 600_000_000) as u16).to_le_bytes());
                bytes
            }
            Type::DateTime2(scale) => {
                let moment = moment()?;
                [clock(moment.ticks, scale)?, day(moment.day)?].concat()
            }
            Type::DateTimeOffset(scale) => {
                let moment = moment()?;
                let a_day = 864_000_000_000;
                let there = moment.ticks - moment.east * 600_000_000;
                let date = moment.day + there.div_euclid(a_day);
                let east = (moment.east as i16).to_le_bytes().to_vec();
                [clock(there.rem_euclid(a_day), scale)?, day(date)?, east].concat()
            }
            Type::Guid => {
                let digits: String = text().chars().filter(char::is_ascii_hexdigit).collect();
                let raw = unhex(&digits)?;
                let order = [3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15];
                order.iter().map(|at| raw.get(*at).copied()).collect::<Option<Vec<_>>>()?
            }
            Type::Char(size) => padded(latin(&text()), usize::from(size), b" "),
            Type::VarChar(_) | Type::Text => latin(&text()),
            Type::NChar(size) => padded(utf16(&text()), usize::from(size) * 2, b" \0"),
            Type::NVarChar(_) | Type::NText | Type::Xml => utf16(&text()),
            Type::Binary(size) => padded(bytes(value), usize::from(size), b"\0"),
            Type::VarBinary(_) | Type::RowVersion | Type::Image | Type::Class(_) => bytes(value),
            Type::Variant => variant(value),
        })
    }
}

/// How many bytes a decimal of so many digits has, its sign among them.
fn bytes_of(precision: u8) -> u8 {
    match precision {
        0..=9 => 5,
        10..=19 => 9,
        20..=28 => 13,
        _ => 17,
    }
}

fn padded(mut bytes: Vec<u8>, size: usize, with: &[u8]) -> Vec<u8> {
    while bytes.len() < size {
        bytes.extend(with);
    }
    bytes.truncate(size);
    bytes
}

/// Text in the code page of the collation: Latin letters, others become question marks.
fn latin(text: &str) -> Vec<u8> {
    text.chars().map(|c| u8::try_from(u32::from(c)).unwrap_or(b'?')).collect()
}

fn unhex(digits: &str) -> Option<Vec<u8>> {
    digits.as_bytes().chunks(2).map(|two| u8::from_str_radix(std::str::from_utf8(two).ok()?, 16).ok()).collect()
}

/// A value as text.
pub fn text_of(value: ValueRef<'_>) -> String {
    match value {
        ValueRef::Null => String::new(),
        ValueRef::Integer(number) => number.to_string(),
        ValueRef::Real(number) => number.to_string(),
        ValueRef::Text(text) => String::from_utf8_lossy(text).into_owned(),
        ValueRef::Blob(bytes) => bytes.iter().map(|byte| format!("{byte:02X}")).collect(),
    }
}

fn bytes(value: ValueRef<'_>) -> Vec<u8> {
    match value {
        ValueRef::Blob(bytes) => bytes.to_vec(),
        ValueRef::Text(text) => text
            .strip_prefix(b"0x")
            .and_then(|digits| unhex(std::str::from_utf8(digits).ok()?))
            .unwrap_or_else(|| text.to_vec()),
        ValueRef::Integer(number) => number.to_be_bytes().to_vec(),
        other => text_of(other).into_bytes(),
    }
}

fn number(value: ValueRef<'_>) -> Option<i64> {
    match value {
        ValueRef::Integer(number) => Some(number),
        ValueRef::Real(number) => Some(number as i64),
        other => text_of(other).trim().parse().ok(),
    }
}

fn real(value: ValueRef<'_>) -> Option<f64> {
    match value {
        ValueRef::Integer(number) => Some(number as f64),
        ValueRef::Real(number) => Some(number),
        other => text_of(other).trim().parse().ok(),
    }
}

/// A number in units of its smallest part.
fn scaled(text: &str, scale: u8) -> Option<i128> {
    let text = text.trim();
    let (negative, digits) = text.strip_prefix('-').map_or((false, text), |digits| (true, digits));
    if digits.contains(['e', 'E']) {
        let value = digits.parse::<f64>().ok()? * 10_f64.powi(i32::from(scale));
        return Some(if negative { -(value.round() as i128) } else { value.round() as i128 });
    }
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    let scale = usize::from(scale);
    let kept: String = format!("{fraction:0<scale$}").chars().take(scale).collect();
    let mut value: i128 = format!("0{whole}{kept}").parse().ok()?;
    // What is cut off rounds.
    value += i128::from(fraction.as_bytes().get(scale).is_some_and(|digit| *digit >= b'5'));
    Some(if negative { -value } else { value })
}

/// A value with its type before it.
fn variant(value: ValueRef<'_>) -> Vec<u8> {
    match value {
        ValueRef::Integer(number) => match i32::try_from(number) {
            Ok(number) => [&[0x38, 0][..], &number.to_le_bytes()].concat(),
            Err(_) => [&[0x7F, 0][..], &number.to_le_bytes()].concat(),
        },
        ValueRef::Real(number) => [&[0x3E, 0][..], &number.to_le_bytes()].concat(),
        ValueRef::Blob(bytes) => [&[0xA5, 2, 0x40, 0x1F][..], bytes].concat(),
        other => {
            let mut bytes = vec![0xE7, 7];
            bytes.extend(COLLATION);
            bytes.extend(8000_u16.to_le_bytes());
            bytes.extend(utf16(&text_of(other)));
            bytes
        }
    }
}
