//! BSON to and from bytes (the specification of BSON 1.1).

use super::decimal::Decimal;
use super::value::{Document, Value};

/// The bytes are not BSON.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NotBson;

/// How deep documents may be in each other.
const DEEPEST: usize = 200;

/// Bytes that are read from the front.
struct Bytes<'a>(&'a [u8]);

impl<'a> Bytes<'a> {
    fn take(&mut self, count: usize) -> Result<&'a [u8], NotBson> {
        let (taken, rest) = self.0.split_at_checked(count).ok_or(NotBson)?;
        self.0 = rest;
        Ok(taken)
    }

    fn fixed<const N: usize>(&mut self) -> Result<[u8; N], NotBson> {
        self.take(N)?.try_into().map_err(|_| NotBson)
    }

    fn length(&mut self) -> Result<usize, NotBson> {
        usize::try_from(i32::from_le_bytes(self.fixed()?)).map_err(|_| NotBson)
    }

    fn name(&mut self) -> Result<String, NotBson> {
        let end = self.0.iter().position(|byte| *byte == 0).ok_or(NotBson)?;
        let name = String::from_utf8(self.take(end)?.to_vec()).map_err(|_| NotBson)?;
        self.take(1)?;
        Ok(name)
    }

    fn text(&mut self) -> Result<String, NotBson> {
        let length = self.length()?.checked_sub(1).ok_or(NotBson)?;
        let text = String::from_utf8(self.take(length)?.to_vec()).map_err(|_| NotBson)?;
        self.take(1)?;
        Ok(text)
    }

    fn document(&mut self, depth: usize) -> Result<Document, NotBson> {
        let length = self.length()?.checked_sub(4).ok_or(NotBson)?;
        let mut inside = Bytes(self.take(length)?);
        if depth > DEEPEST {
            return Err(NotBson);
        }
        let mut document = Document::new();
        loop {
            let [kind] = inside.fixed()?;
            if kind == 0 {
                return if inside.0.is_empty() { Ok(document) } else { Err(NotBson) };
            }
            let name = inside.name()?;
            document.push((name, inside.value(kind, depth)?));
        }
    }

    fn value(&mut self, kind: u8, depth: usize) -> Result<Value, NotBson> {
        Ok(match kind {
            0x01 => Value::Double(f64::from_le_bytes(self.fixed()?)),
            0x02 | 0x0E => Value::Text(self.text()?),
            0x03 => Value::Document(self.document(depth + 1)?),
            0x04 => Value::Array(self.document(depth + 1)?.into_iter().map(|(_, value)| value).collect()),
            0x05 => {
                let length = self.length()?;
                let [kind] = self.fixed()?;
                Value::Binary(kind, self.take(length)?.to_vec())
            }
            0x06 | 0x0A => Value::Null,
            0x07 => Value::ObjectId(self.fixed()?),
            0x08 => Value::Bool(self.fixed::<1>()? != [0]),
            0x09 => Value::Date(i64::from_le_bytes(self.fixed()?)),
            0x0B => Value::Regex(self.name()?, self.name()?),
            0x0D => Value::Code(self.text()?),
            0x10 => Value::Int(i32::from_le_bytes(self.fixed()?)),
            0x11 => {
                let both = u64::from_le_bytes(self.fixed()?);
                Value::Timestamp((both >> 32) as u32, both as u32)
            }
            0x12 => Value::Long(i64::from_le_bytes(self.fixed()?)),
            0x13 => Value::Decimal(Decimal::read(self.fixed()?)),
            0xFF => Value::MinKey,
            0x7F => Value::MaxKey,
            _ => return Err(NotBson),
        })
    }
}

/// Reads a document from the front of bytes; what comes after it.
pub fn read(bytes: &[u8]) -> Result<(Document, &[u8]), NotBson> {
    let mut bytes = Bytes(bytes);
    let document = bytes.document(0)?;
    Ok((document, bytes.0))
}

fn write_text(text: &str, into: &mut Vec<u8>) {
    into.extend((text.len() as i32 + 1).to_le_bytes());
    into.extend(text.as_bytes());
    into.push(0);
}

fn write_name(name: &str, into: &mut Vec<u8>) {
    // A zero would end the name.
    into.extend(name.bytes().filter(|byte| *byte != 0));
    into.push(0);
}

fn framed(into: &mut Vec<u8>, write: impl FnOnce(&mut Vec<u8>)) {
    let start = into.len();
    into.extend([0; 4]);
    write(into);
    into.push(0);
    let length = (into.len() - start) as i32;
    into[start..start + 4].copy_from_slice(&length.to_le_bytes());
}

/// Adds the bytes of a document.
pub fn write(document: &[(String, Value)], into: &mut Vec<u8>) {
    framed(into, |into| {
        for (name, value) in document {
            write_element(name, value, into);
        }
    });
}

fn write_element(name: &str, value: &Value, into: &mut Vec<u8>) {
    into.push(match value {
        Value::Double(_) => 0x01,
        Value::Text(_) => 0x02,
        Value::Document(_) => 0x03,
        Value::Array(_) => 0x04,
        Value::Binary(..) => 0x05,
        Value::ObjectId(_) => 0x07,
        Value::Bool(_) => 0x08,
        Value::Date(_) => 0x09,
        Value::Null => 0x0A,
        Value::Regex(..) => 0x0B,
        Value::Code(_) => 0x0D,
        Value::Int(_) => 0x10,
        Value::Timestamp(..) => 0x11,
        Value::Long(_) => 0x12,
        Value::Decimal(_) => 0x13,
        Value::MinKey => 0xFF,
        Value::MaxKey => 0x7F,
    });
    write_name(name, into);
    match value {
        Value::Double(value) => into.extend(value.to_le_bytes()),
        Value::Text(text) | Value::Code(text) => write_text(text, into),
        Value::Document(document) => write(document, into),
        Value::Array(values) => framed(into, |into| {
            for (number, value) in values.iter().enumerate() {
                write_element(&number.to_string(), value, into);
            }
        }),
        Value::Binary(kind, bytes) => {
            into.extend((bytes.len() as i32).to_le_bytes());
            into.push(*kind);
            into.extend(bytes);
        }
        Value::ObjectId(id) => into.extend(id),
        Value::Bool(value) => into.push(u8::from(*value)),
        Value::Date(value) | Value::Long(value) => into.extend(value.to_le_bytes()),
        Value::Regex(pattern, options) => {
            write_name(pattern, into);
            write_name(options, into);
        }
        Value::Int(value) => into.extend(value.to_le_bytes()),
        Value::Timestamp(seconds, number) => {
            into.extend(number.to_le_bytes());
            into.extend(seconds.to_le_bytes());
        }
        Value::Decimal(value) => into.extend(value.bytes()),
        Value::Null | Value::MinKey | Value::MaxKey => {}
    }
}
