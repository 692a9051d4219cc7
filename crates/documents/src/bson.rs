//! Values and their bytes ([BSON 1.1](https://bsonspec.org/spec.html)).

use crate::Malformed;
use crate::raw::{Element, RawDocument};
use crate::tag;

/// A document: its fields in order. A name may stand in it twice, as the format allows.
pub type Document = Vec<(String, Bson)>;

/// A value.
#[derive(Debug, Clone, PartialEq)]
pub enum Bson {
    /// A floating-point number.
    Double(f64),
    /// Text.
    Text(String),
    /// A document.
    Document(Document),
    /// An array.
    Array(Vec<Bson>),
    /// Bytes, and what kind they are of.
    Binary(u8, Vec<u8>),
    /// A value that older servers had for none.
    Undefined,
    /// An object's own number.
    ObjectId([u8; 12]),
    /// True or false.
    Bool(bool),
    /// Milliseconds since 1970.
    DateTime(i64),
    /// No value.
    Null,
    /// A regular expression, and its options.
    Regex(String, String),
    /// Code, perhaps with variables.
    Code(String, Option<Document>),
    /// A word of older servers.
    Symbol(String),
    /// A reference of older servers.
    Pointer(String, [u8; 12]),
    /// A whole number of 32 bits.
    Int32(i32),
    /// The server's own count of time: seconds, and a number within them.
    Timestamp(u32, u32),
    /// A whole number of 64 bits.
    Int64(i64),
    /// A decimal number of 128 bits, as it travels.
    Decimal([u8; 16]),
    /// Less than every other.
    MinKey,
    /// More than every other.
    MaxKey,
}

/// How deep documents may lie within each other: what a server takes.
pub(crate) const DEEPEST: usize = 200;

impl Bson {
    /// Text.
    pub fn text(text: impl Into<String>) -> Bson {
        Bson::Text(text.into())
    }

    /// The number that stands for its type.
    fn tag(&self) -> u8 {
        match self {
            Bson::Double(_) => tag::DOUBLE,
            Bson::Text(_) => tag::TEXT,
            Bson::Document(_) => tag::DOCUMENT,
            Bson::Array(_) => tag::ARRAY,
            Bson::Binary(..) => tag::BINARY,
            Bson::Undefined => tag::UNDEFINED,
            Bson::ObjectId(_) => tag::OBJECT_ID,
            Bson::Bool(_) => tag::BOOL,
            Bson::DateTime(_) => tag::DATE_TIME,
            Bson::Null => tag::NULL,
            Bson::Regex(..) => tag::REGEX,
            Bson::Code(_, None) => tag::CODE,
            Bson::Code(_, Some(_)) => tag::CODE_WITH_SCOPE,
            Bson::Symbol(_) => tag::SYMBOL,
            Bson::Pointer(..) => tag::POINTER,
            Bson::Int32(_) => tag::INT32,
            Bson::Timestamp(..) => tag::TIMESTAMP,
            Bson::Int64(_) => tag::INT64,
            Bson::Decimal(_) => tag::DECIMAL,
            Bson::MinKey => tag::MIN_KEY,
            Bson::MaxKey => tag::MAX_KEY,
        }
    }

    fn put(&self, out: &mut Vec<u8>) {
        let cstring = |text: &str, out: &mut Vec<u8>| {
            // A zero would end it.
            out.extend(text.bytes().filter(|byte| *byte != 0));
            out.push(0);
        };
        let text = |text: &str, out: &mut Vec<u8>| {
            out.extend((text.len() as u32 + 1).to_le_bytes());
            out.extend(text.as_bytes());
            out.push(0);
        };
        match self {
            Bson::Double(value) => out.extend(value.to_le_bytes()),
            Bson::Text(value) | Bson::Code(value, None) | Bson::Symbol(value) => text(value, out),
            Bson::Document(fields) => put_document(fields, out),
            Bson::Array(values) => {
                let start = open(out);
                for (at, value) in values.iter().enumerate() {
                    out.push(value.tag());
                    out.extend(at.to_string().as_bytes());
                    out.push(0);
                    value.put(out);
                }
                close(start, out);
            }
            Bson::Binary(kind, bytes) => {
                out.extend((bytes.len() as u32).to_le_bytes());
                out.push(*kind);
                out.extend(bytes);
            }
            Bson::ObjectId(bytes) => out.extend(bytes),
            Bson::Bool(value) => out.push(u8::from(*value)),
            Bson::DateTime(value) | Bson::Int64(value) => out.extend(value.to_le_bytes()),
            Bson::Regex(expression, options) => {
                cstring(expression, out);
                cstring(options, out);
            }
            Bson::Code(code, Some(scope)) => {
                let start = out.len();
                out.extend([0; 4]);
                text(code, out);
                put_document(scope, out);
                set_length(start, out);
            }
            Bson::Pointer(name, id) => {
                text(name, out);
                out.extend(id);
            }
            Bson::Int32(value) => out.extend(value.to_le_bytes()),
            Bson::Timestamp(seconds, number) => {
                out.extend(number.to_le_bytes());
                out.extend(seconds.to_le_bytes());
            }
            Bson::Decimal(bytes) => out.extend(bytes),
            Bson::Null | Bson::Undefined | Bson::MinKey | Bson::MaxKey => {}
        }
    }

    /// The value of a field that was read.
    pub fn of(element: &Element<'_>) -> Result<Bson, Malformed> {
        Bson::within(element, 0)
    }

    fn within(element: &Element<'_>, depth: usize) -> Result<Bson, Malformed> {
        if depth > DEEPEST {
            return Err(Malformed("documents are nested too deeply"));
        }
        let fields = |raw: &RawDocument<'_>| {
            raw.iter()
                .map(|field| field.and_then(|(name, value)| Ok((name.to_owned(), Bson::within(&value, depth + 1)?))))
                .collect()
        };
        Ok(match element {
            Element::Double(value) => Bson::Double(*value),
            Element::Text(value) => Bson::Text((*value).to_owned()),
            Element::Document(raw) => Bson::Document(fields(raw)?),
            Element::Array(raw) => {
                let values: Result<Vec<_>, _> =
                    raw.iter().map(|field| field.and_then(|(_, value)| Bson::within(&value, depth + 1))).collect();
                Bson::Array(values?)
            }
            Element::Binary(kind, bytes) => Bson::Binary(*kind, bytes.to_vec()),
            Element::Undefined => Bson::Undefined,
            Element::ObjectId(id) => Bson::ObjectId(*id),
            Element::Bool(value) => Bson::Bool(*value),
            Element::DateTime(value) => Bson::DateTime(*value),
            Element::Null => Bson::Null,
            Element::Regex(expression, options) => Bson::Regex((*expression).to_owned(), (*options).to_owned()),
            Element::Code(code, scope) => Bson::Code((*code).to_owned(), scope.as_ref().map(fields).transpose()?),
            Element::Symbol(value) => Bson::Symbol((*value).to_owned()),
            Element::Pointer(name, id) => Bson::Pointer((*name).to_owned(), *id),
            Element::Int32(value) => Bson::Int32(*value),
            Element::Timestamp(seconds, number) => Bson::Timestamp(*seconds, *number),
            Element::Int64(value) => Bson::Int64(*value),
            Element::Decimal(bytes) => Bson::Decimal(*bytes),
            Element::MinKey => Bson::MinKey,
            Element::MaxKey => Bson::MaxKey,
        })
    }

    /// The whole number that it is, also where it travels as a floating-point one.
    pub fn as_i64(&self) -> Option<i64> {
        match self {
            Bson::Int32(value) => Some((*value).into()),
            Bson::Int64(value) => Some(*value),
            Bson::Double(value) if value.fract() == 0.0 && value.abs() < 9e15 => Some(*value as i64),
            _ => None,
        }
    }

    /// Its text.
    pub fn as_str(&self) -> Option<&str> {
        match self {
            Bson::Text(text) => Some(text),
            _ => None,
        }
    }

    /// Its fields.
    pub fn as_document(&self) -> Option<&Document> {
        match self {
            Bson::Document(fields) => Some(fields),
            _ => None,
        }
    }
}

/// The field of this name.
pub fn field<'a>(document: &'a [(String, Bson)], name: &str) -> Option<&'a Bson> {
    document.iter().find(|(known, _)| known == name).map(|(_, value)| value)
}

fn open(out: &mut Vec<u8>) -> usize {
    let start = out.len();
    out.extend([0; 4]);
    start
}

fn close(start: usize, out: &mut Vec<u8>) {
    out.push(0);
    set_length(start, out);
}

fn set_length(start: usize, out: &mut [u8]) {
    let length = ((out.len() - start) as u32).to_le_bytes();
    if let Some(place) = out.get_mut(start..start + 4) {
        place.copy_from_slice(&length);
    }
}

fn put_document(fields: &[(String, Bson)], out: &mut Vec<u8>) {
    let start = open(out);
    for (name, value) in fields {
        out.push(value.tag());
        out.extend(name.bytes().filter(|byte| *byte != 0));
        out.push(0);
        value.put(out);
    }
    close(start, out);
}

/// The bytes of a document.
pub fn encoded(fields: &[(String, Bson)]) -> Vec<u8> {
    let mut out = Vec::new();
    put_document(fields, &mut out);
    out
}

/// A document out of its bytes.
pub fn decoded(bytes: &[u8]) -> Result<Document, Malformed> {
    let raw = RawDocument::new(bytes)?;
    raw.iter().map(|field| field.and_then(|(name, value)| Ok((name.to_owned(), Bson::of(&value)?)))).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use proptest::prelude::*;

    use super::*;

    pub fn any_value() -> impl Strategy<Value = Bson> {
        let leaf = prop_oneof![
            any::<f64>().prop_filter("one that is equal to itself", |value| !value.is_nan()).prop_map(Bson::Double),
            "\\PC{0,8}".prop_map(Bson::Text),
            (any::<u8>(), proptest::collection::vec(any::<u8>(), 0..9))
                .prop_filter("of a kind of today", |(kind, _)| *kind != 2)
                .prop_map(|(kind, bytes)| Bson::Binary(kind, bytes)),
            any::<[u8; 12]>().prop_map(Bson::ObjectId),
            any::<bool>().prop_map(Bson::Bool),
            any::<i64>().prop_map(Bson::DateTime),
            Just(Bson::Null),
            ("[a-z.*]{0,6}", "[imsx]{0,2}").prop_map(|(expression, options)| Bson::Regex(expression, options)),
            any::<i32>().prop_map(Bson::Int32),
            any::<(u32, u32)>().prop_map(|(seconds, number)| Bson::Timestamp(seconds, number)),
            any::<i64>().prop_map(Bson::Int64),
            Just(Bson::MinKey),
            Just(Bson::MaxKey),
            "[a-z]{0,6}".prop_map(|code| Bson::Code(code, None)),
        ];
        leaf.prop_recursive(4, 24, 6, |inner| {
            prop_oneof![
                proptest::collection::vec(inner.clone(), 0..5).prop_map(Bson::Array),
                proptest::collection::vec(("[a-z.$ é]{0,6}", inner), 0..5).prop_map(Bson::Document),
            ]
        })
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(value in any_value()) {
            let document = vec![("a".to_owned(), value)];
            prop_assert_eq!(decoded(&encoded(&document)).unwrap(), document);
        }

        #[test]
        fn bytes_of_any_kind_are_read_or_refused(bytes in proptest::collection::vec(any::<u8>(), 0..60)) {
            let _ = decoded(&bytes);
            // With a length that fits it goes further.
            let mut bytes = bytes;
            if let Some(place) = bytes.get(..4).map(<[u8]>::len) {
                let length = (bytes.len() as u32).to_le_bytes();
                bytes[..place].copy_from_slice(&length);
                let _ = decoded(&bytes);
            }
        }
    }

    #[test]
    fn the_examples_of_the_specification() {
        let hello = b"\x16\x00\x00\x00\x02hello\x00\x06\x00\x00\x00world\x00\x00";
        assert_eq!(decoded(hello).unwrap(), vec![("hello".to_owned(), Bson::text("world"))]);
        let awesome = b"1\x00\x00\x00\x04BSON\x00&\x00\x00\x00\x020\x00\x08\x00\x00\x00awesome\x00\x011\x00333333\x14@\x102\x00\xc2\x07\x00\x00\x00\x00";
        let values = Bson::Array(vec![Bson::text("awesome"), Bson::Double(5.05), Bson::Int32(1986)]);
        assert_eq!(decoded(awesome).unwrap(), vec![("BSON".to_owned(), values.clone())]);
        assert_eq!(encoded(&[("BSON".to_owned(), values)]), awesome);
    }
}
