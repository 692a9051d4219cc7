//! What columns are ([MS-TDS] 2.2.5.4 and 2.2.7.4).

use crate::Error;
use crate::text::{CodePage, from_utf16};

/// A kind of values.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Kind {
    /// Nothing but NULL.
    Null,
    /// `tinyint`, `smallint`, `int`, `bigint`, by the count of their bytes.
    Int,
    /// `bit`.
    Bit,
    /// `real` and `float`.
    Float,
    /// `money` and `smallmoney`.
    Money,
    /// `datetime` and `smalldatetime`.
    DateTime,
    /// `decimal` and `numeric`.
    Decimal,
    /// `uniqueidentifier`.
    Guid,
    /// `date`.
    Date,
    /// `time`.
    Time,
    /// `datetime2`.
    DateTime2,
    /// `datetimeoffset`.
    DateTimeOffset,
    /// `char`, `varchar` and `text`, in the code page of the column.
    Char,
    /// `nchar`, `nvarchar` and `ntext`.
    NChar,
    /// `binary`, `varbinary` and `image`.
    Binary,
    /// `xml`.
    Xml,
    /// `json`.
    Json,
    /// A value of a class: `geography`, `geometry`, `hierarchyid`, and those of users.
    Class,
    /// `sql_variant`.
    Variant,
}

/// How the bytes of a value are counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Length {
    /// Always so many.
    Fixed(u8),
    /// By a byte before them; 0 is NULL.
    Byte,
    /// By a byte before them; 255 is NULL.
    ByteOr255,
    /// By two bytes before them; 65535 is NULL.
    Short,
    /// In parts, each with its count.
    Parts,
    /// By four bytes, behind a pointer to them and a time.
    Pointer,
    /// By four bytes before them; 0 is NULL.
    Long,
}

/// The type of a column.
#[derive(Debug, Clone, PartialEq)]
pub struct TypeInfo {
    /// What its values are.
    pub kind: Kind,
    /// How their bytes are counted.
    pub length: Length,
    /// The most bytes of a value, as far as that is told.
    pub size: u32,
    /// The digits of decimals.
    pub precision: u8,
    /// The digits behind the point, of decimals and of seconds.
    pub scale: u8,
    /// The encoding of text that is not UTF-16.
    pub code_page: Option<CodePage>,
    /// The class.
    pub class: String,
    /// It has a fixed length, as `char` has; the other kinds of a name count by it.
    pub fixed: bool,
    /// It is one of the old large types, `text`, `ntext` and `image`.
    pub old: bool,
}

/// A column of a result.
#[derive(Debug, Clone, PartialEq)]
pub struct Column {
    /// Its name; may be empty.
    pub name: String,
    /// Its type.
    pub info: TypeInfo,
    /// Whether it may be NULL.
    pub nullable: bool,
    /// Whether the server numbers it.
    pub identity: bool,
    /// The number that tells aliases of types apart: 80 is `timestamp`, which is also called `rowversion`.
    pub user_type: u32,
}

/// A reader over bytes that may end too early.
pub(crate) struct Reader<'a> {
    pub bytes: &'a [u8],
    pub at: usize,
}

impl<'a> Reader<'a> {
    pub fn new(bytes: &'a [u8], at: usize) -> Reader<'a> {
        Reader { bytes, at }
    }

    pub fn take(&mut self, count: usize) -> Option<&'a [u8]> {
        let taken = self.bytes.get(self.at..self.at.checked_add(count)?)?;
        self.at += count;
        Some(taken)
    }

    pub fn u8(&mut self) -> Option<u8> {
        self.take(1).map(|b| b[0])
    }

    pub fn u16(&mut self) -> Option<u16> {
        self.take(2).map(|b| u16::from_le_bytes([b[0], b[1]]))
    }

    pub fn u32(&mut self) -> Option<u32> {
        self.take(4).map(|b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]))
    }

    pub fn u64(&mut self) -> Option<u64> {
        self.take(8)?.try_into().ok().map(u64::from_le_bytes)
    }

    /// A text with the count of its characters in one byte.
    pub fn short_text(&mut self) -> Option<String> {
        let count = usize::from(self.u8()?);
        Some(from_utf16(self.take(count * 2)?))
    }

    /// A text with the count of its characters in two bytes.
    pub fn text(&mut self) -> Option<String> {
        let count = usize::from(self.u16()?);
        Some(from_utf16(self.take(count * 2)?))
    }
}

impl TypeInfo {
    pub(crate) fn new(kind: Kind, length: Length, size: u32) -> TypeInfo {
        TypeInfo {
            kind,
            length,
            size,
            precision: 0,
            scale: 0,
            code_page: None,
            class: String::new(),
            fixed: false,
            old: false,
        }
    }

    /// Reads one. `Ok(None)` where more bytes are needed.
    pub(crate) fn read(from: &mut Reader<'_>) -> Result<Option<TypeInfo>, Error> {
        let Some(token) = from.u8() else { return Ok(None) };
        let fixed = |kind, size: u8| TypeInfo { fixed: true, ..TypeInfo::new(kind, Length::Fixed(size), size.into()) };
        let known = match token {
            0x1F => Some(fixed(Kind::Null, 0)),
            0x30 => Some(fixed(Kind::Int, 1)),
            0x32 => Some(fixed(Kind::Bit, 1)),
            0x34 => Some(fixed(Kind::Int, 2)),
            0x38 => Some(fixed(Kind::Int, 4)),
            0x7F => Some(fixed(Kind::Int, 8)),
            0x3A => Some(fixed(Kind::DateTime, 4)),
            0x3D => Some(fixed(Kind::DateTime, 8)),
            0x3B => Some(fixed(Kind::Float, 4)),
            0x3E => Some(fixed(Kind::Float, 8)),
            0x7A => Some(fixed(Kind::Money, 4)),
            0x3C => Some(fixed(Kind::Money, 8)),
            _ => None,
        };
        if known.is_some() {
            return Ok(known);
        }
        match token {
            0x24 | 0x25 | 0x26 | 0x27 | 0x28..=0x2B | 0x2D | 0x2F | 0x37 | 0x3F | 0x68 | 0x6A | 0x6C..=0x6F => {}
            0x22 | 0x23 | 0x62 | 0x63 | 0xA5 | 0xA7 | 0xAD | 0xAF | 0xE7 | 0xEF | 0xF0 | 0xF1 | 0xF4 | 0xF5 => {}
            _ => return Err(Error::Broken("a type that is not known")),
        }
        Ok(TypeInfo::read_behind(token, from))
    }

    /// What stands behind the byte that says which type it is.
    fn read_behind(token: u8, from: &mut Reader<'_>) -> Option<TypeInfo> {
        let byte = |kind, from: &mut Reader<'_>| Some(TypeInfo::new(kind, Length::Byte, from.u8()?.into()));
        Some(match token {
            0x24 => byte(Kind::Guid, from)?,
            0x26 => byte(Kind::Int, from)?,
            0x68 => byte(Kind::Bit, from)?,
            0x6D => byte(Kind::Float, from)?,
            0x6E => byte(Kind::Money, from)?,
            0x6F => byte(Kind::DateTime, from)?,
            0x37 | 0x3F | 0x6A | 0x6C => {
                let info = byte(Kind::Decimal, from)?;
                TypeInfo { precision: from.u8()?, scale: from.u8()?, ..info }
            }
            0x28 => TypeInfo::new(Kind::Date, Length::Byte, 3),
            0x29..=0x2B => {
                let kind = match token {
                    0x29 => Kind::Time,
                    0x2A => Kind::DateTime2,
                    _ => Kind::DateTimeOffset,
                };
                TypeInfo { scale: from.u8()?.min(7), ..TypeInfo::new(kind, Length::Byte, 0) }
            }
            // From before there were collations.
            0x27 | 0x2F => TypeInfo {
                code_page: Some(CodePage::of([0; 5])),
                fixed: token == 0x2F,
                length: Length::ByteOr255,
                ..byte(Kind::Char, from)?
            },
            0x25 | 0x2D => TypeInfo { fixed: token == 0x2D, length: Length::ByteOr255, ..byte(Kind::Binary, from)? },
            0xA5 | 0xAD | 0xF5 => TypeInfo::counted(Kind::Binary, from.u16()?, token == 0xAD, from, token == 0xF5)?,
            0xA7 | 0xAF => {
                let info = TypeInfo::counted(Kind::Char, from.u16()?, token == 0xAF, from, false)?;
                TypeInfo { code_page: Some(CodePage::of(collation(from)?)), ..info }
            }
            0xE7 | 0xEF => {
                let info = TypeInfo::counted(Kind::NChar, from.u16()?, token == 0xEF, from, false)?;
                collation(from)?;
                info
            }
            0x22 => TypeInfo { old: true, ..TypeInfo::new(Kind::Binary, Length::Pointer, from.u32()?) },
            0x23 => {
                let info = TypeInfo { old: true, ..TypeInfo::new(Kind::Char, Length::Pointer, from.u32()?) };
                TypeInfo { code_page: Some(CodePage::of(collation(from)?)), ..info }
            }
            0x63 => {
                let info = TypeInfo { old: true, ..TypeInfo::new(Kind::NChar, Length::Pointer, from.u32()?) };
                collation(from)?;
                info
            }
            0x62 => TypeInfo::new(Kind::Variant, Length::Long, from.u32()?),
            0xF1 => {
                if from.u8()? != 0 {
                    from.short_text()?;
                    from.short_text()?;
                    from.text()?;
                }
                TypeInfo::new(Kind::Xml, Length::Parts, u32::MAX)
            }
            0xF4 => TypeInfo::new(Kind::Json, Length::Parts, u32::MAX),
            0xF0 => {
                let size = from.u16()?;
                from.short_text()?;
                from.short_text()?;
                let class = from.short_text()?;
                from.text()?;
                TypeInfo { class, ..TypeInfo::new(Kind::Class, Length::Parts, size.into()) }
            }
            _ => return None,
        })
    }

    /// A type whose length has two bytes; without a limit its values come in parts.
    fn counted(kind: Kind, size: u16, fixed: bool, from: &mut Reader<'_>, vector: bool) -> Option<TypeInfo> {
        if vector {
            // The kind of its numbers.
            from.u8()?;
        }
        let (length, size) = match size {
            u16::MAX => (Length::Parts, u32::MAX),
            size => (Length::Short, size.into()),
        };
        Some(TypeInfo { fixed, ..TypeInfo::new(kind, length, size) })
    }

    /// Its name, as the server writes it.
    pub fn name(&self) -> String {
        let sized = |name: &str, each: u32| match (self.old, self.size) {
            (_, u32::MAX) => format!("{name}(max)"),
            (_, size) => format!("{name}({})", size / each),
        };
        let var = if self.fixed { "" } else { "var" };
        match self.kind {
            Kind::Null => String::new(),
            Kind::Int => match self.size {
                1 => "tinyint",
                2 => "smallint",
                4 => "int",
                _ => "bigint",
            }
            .to_owned(),
            Kind::Bit => "bit".into(),
            Kind::Float => if self.size == 4 { "real" } else { "float" }.into(),
            Kind::Money => if self.size == 4 { "smallmoney" } else { "money" }.into(),
            Kind::DateTime => if self.size == 4 { "smalldatetime" } else { "datetime" }.into(),
            Kind::Decimal => format!("decimal({},{})", self.precision, self.scale),
            Kind::Guid => "uniqueidentifier".into(),
            Kind::Date => "date".into(),
            Kind::Time => format!("time({})", self.scale),
            Kind::DateTime2 => format!("datetime2({})", self.scale),
            Kind::DateTimeOffset => format!("datetimeoffset({})", self.scale),
            Kind::Char if self.old => "text".into(),
            Kind::NChar if self.old => "ntext".into(),
            Kind::Binary if self.old => "image".into(),
            Kind::Char => sized(&format!("{var}char"), 1),
            Kind::NChar => sized(&format!("n{var}char"), 2),
            Kind::Binary => sized(&format!("{var}binary"), 1),
            Kind::Xml => "xml".into(),
            Kind::Json => "json".into(),
            Kind::Class => self.class.clone(),
            Kind::Variant => "sql_variant".into(),
        }
    }
}

fn collation(from: &mut Reader<'_>) -> Option<[u8; 5]> {
    from.take(5)?.try_into().ok()
}

impl Column {
    /// Reads the columns of a result, as many as their count says. `Ok(None)` where more bytes are needed.
    pub(crate) fn read_all(from: &mut Reader<'_>) -> Result<Option<Vec<Column>>, Error> {
        let Some(count) = from.u16() else { return Ok(None) };
        if count == u16::MAX {
            return Ok(Some(Vec::new()));
        }
        let mut columns = Vec::with_capacity(count.into());
        for _ in 0..count {
            let (Some(user_type), Some(flags)) = (from.u32(), from.u16()) else { return Ok(None) };
            let Some(info) = TypeInfo::read(from)? else { return Ok(None) };
            if info.length == Length::Pointer {
                // The table, in as many parts as its name has.
                let Some(parts) = from.u8() else { return Ok(None) };
                for _ in 0..parts {
                    if from.text().is_none() {
                        return Ok(None);
                    }
                }
            }
            let Some(name) = from.short_text() else { return Ok(None) };
            columns.push(Column { name, info, nullable: flags & 1 != 0, identity: flags & 0x10 != 0, user_type });
        }
        Ok(Some(columns))
    }

    /// The name of its type, as the server writes it.
    pub fn type_name(&self) -> String {
        if self.user_type == 80 && self.info.kind == Kind::Binary { "rowversion".into() } else { self.info.name() }
    }
}
