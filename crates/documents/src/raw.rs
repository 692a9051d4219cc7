//! Documents as they travel, read field by field: nothing is copied and nothing built.

use crate::Malformed;
use crate::tag;

/// A document in its bytes.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RawDocument<'a> {
    /// The fields, without the length before and the zero behind.
    fields: &'a [u8],
    bytes: &'a [u8],
}

/// The value of a field.
#[derive(Debug, Clone, PartialEq)]
pub enum Element<'a> {
    /// See [`crate::Bson::Double`], and so on for the others.
    Double(f64),
    /// Text.
    Text(&'a str),
    /// A document.
    Document(RawDocument<'a>),
    /// An array: a document whose names are numbers.
    Array(RawDocument<'a>),
    /// Bytes of a kind.
    Binary(u8, &'a [u8]),
    /// No value, of older servers.
    Undefined,
    /// An object's own number.
    ObjectId([u8; 12]),
    /// True or false.
    Bool(bool),
    /// Milliseconds since 1970.
    DateTime(i64),
    /// No value.
    Null,
    /// A regular expression and its options.
    Regex(&'a str, &'a str),
    /// Code, perhaps with variables.
    Code(&'a str, Option<RawDocument<'a>>),
    /// A word.
    Symbol(&'a str),
    /// A reference.
    Pointer(&'a str, [u8; 12]),
    /// A whole number of 32 bits.
    Int32(i32),
    /// Seconds, and a number within them.
    Timestamp(u32, u32),
    /// A whole number of 64 bits.
    Int64(i64),
    /// A decimal number of 128 bits.
    Decimal([u8; 16]),
    /// Less than every other.
    MinKey,
    /// More than every other.
    MaxKey,
}

impl<'a> RawDocument<'a> {
    /// A document that these bytes begin with; its own length says where it ends.
    pub fn new(bytes: &'a [u8]) -> Result<RawDocument<'a>, Malformed> {
        let too_short = Malformed("a document is shorter than it says");
        let length = bytes.first_chunk::<4>().ok_or(too_short.clone())?;
        let length = u32::from_le_bytes(*length) as usize;
        let whole = bytes.get(..length).ok_or(too_short)?;
        match whole.get(4..) {
            Some([fields @ .., 0]) => Ok(RawDocument { fields, bytes: whole }),
            _ => Err(Malformed("a document does not end")),
        }
    }

    /// All its bytes.
    pub fn as_bytes(&self) -> &'a [u8] {
        self.bytes
    }

    /// Whether it has no fields.
    pub fn is_empty(&self) -> bool {
        self.fields.is_empty()
    }

    /// Its fields, in order. Behind one that is malformed there is none.
    pub fn iter(&self) -> Fields<'a> {
        Fields { rest: self.fields }
    }

    /// The field of this name.
    pub fn get(&self, name: &str) -> Option<Element<'a>> {
        self.iter().flatten().find(|(known, _)| *known == name).map(|(_, value)| value)
    }
}

/// The fields of a document.
#[derive(Debug, Clone)]
pub struct Fields<'a> {
    rest: &'a [u8],
}

impl<'a> Iterator for Fields<'a> {
    type Item = Result<(&'a str, Element<'a>), Malformed>;

    #[inline]
    fn next(&mut self) -> Option<Self::Item> {
        let (kind, rest) = self.rest.split_first()?;
        let mut reader = Reader { rest };
        let field = reader.cstring().and_then(|name| Ok((name, reader.value(*kind)?)));
        self.rest = if field.is_ok() { reader.rest } else { &[] };
        Some(field)
    }
}

struct Reader<'a> {
    rest: &'a [u8],
}

impl<'a> Reader<'a> {
    fn take(&mut self, count: usize) -> Result<&'a [u8], Malformed> {
        let (taken, rest) = self.rest.split_at_checked(count).ok_or(Malformed("a value is shorter than it says"))?;
        self.rest = rest;
        Ok(taken)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], Malformed> {
        let (taken, rest) = self.rest.split_first_chunk::<N>().ok_or(Malformed("a value is shorter than it says"))?;
        self.rest = rest;
        Ok(*taken)
    }

    fn utf8(bytes: &'a [u8]) -> Result<&'a str, Malformed> {
        std::str::from_utf8(bytes).map_err(|_| Malformed("a text is not UTF-8"))
    }

    fn cstring(&mut self) -> Result<&'a str, Malformed> {
        let end = self.rest.iter().position(|byte| *byte == 0).ok_or(Malformed("a name does not end"))?;
        let text = self.take(end)?;
        self.take(1)?;
        Reader::utf8(text)
    }

    fn text(&mut self) -> Result<&'a str, Malformed> {
        let length = u32::from_le_bytes(self.array()?) as usize;
        match self.take(length)? {
            [text @ .., 0] => Reader::utf8(text),
            _ => Err(Malformed("a text does not end")),
        }
    }

    fn document(&mut self) -> Result<RawDocument<'a>, Malformed> {
        let document = RawDocument::new(self.rest)?;
        self.take(document.bytes.len())?;
        Ok(document)
    }

    #[inline]
    fn value(&mut self, kind: u8) -> Result<Element<'a>, Malformed> {
        Ok(match kind {
            tag::DOUBLE => Element::Double(f64::from_le_bytes(self.array()?)),
            tag::TEXT => Element::Text(self.text()?),
            tag::DOCUMENT => Element::Document(self.document()?),
            tag::ARRAY => Element::Array(self.document()?),
            tag::BINARY => {
                let length = u32::from_le_bytes(self.array()?) as usize;
                let [kind] = self.array()?;
                let bytes = self.take(length)?;
                // The oldest kind says its length once more.
                match (kind, bytes.get(4..)) {
                    (2, Some(inside)) => Element::Binary(2, inside),
                    _ => Element::Binary(kind, bytes),
                }
            }
            tag::UNDEFINED => Element::Undefined,
            tag::OBJECT_ID => Element::ObjectId(self.array()?),
            tag::BOOL => Element::Bool(self.array::<1>()? != [0]),
            tag::DATE_TIME => Element::DateTime(i64::from_le_bytes(self.array()?)),
            tag::NULL => Element::Null,
            tag::REGEX => Element::Regex(self.cstring()?, self.cstring()?),
            tag::POINTER => Element::Pointer(self.text()?, self.array()?),
            tag::CODE => Element::Code(self.text()?, None),
            tag::SYMBOL => Element::Symbol(self.text()?),
            tag::CODE_WITH_SCOPE => {
                self.take(4)?;
                Element::Code(self.text()?, Some(self.document()?))
            }
            tag::INT32 => Element::Int32(i32::from_le_bytes(self.array()?)),
            tag::TIMESTAMP => {
                let number = u32::from_le_bytes(self.array()?);
                Element::Timestamp(u32::from_le_bytes(self.array()?), number)
            }
            tag::INT64 => Element::Int64(i64::from_le_bytes(self.array()?)),
            tag::DECIMAL => Element::Decimal(self.array()?),
            tag::MIN_KEY => Element::MinKey,
            tag::MAX_KEY => Element::MaxKey,
            _ => return Err(Malformed("a value of a type that is not known")),
        })
    }
}
