//! Many rows for a table in a message of their own ([MS-TDS] 2.2.6.1, "Bulk Load BCP"), behind a statement
//! `INSERT BULK` that says what their columns are.
//!
//! Values are sent as text or bytes: the server makes of them what its columns hold, as it does with a literal.

use crate::text::push_units;

/// How the values of a column are sent.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sent {
    /// `nvarchar(4000)`.
    Text,
    /// `nvarchar(max)`.
    LongText,
    /// `varbinary(8000)`.
    Bytes,
    /// `varbinary(max)`.
    LongBytes,
}

/// The most bytes of a value that is not sent in parts.
const SHORT: usize = 8000;

/// That a value comes in parts, and how long it is will be seen: servers do not take its length here.
const IN_PARTS: u64 = u64::MAX - 1;
/// That a value which would come in parts is NULL.
const NO_PARTS: u64 = u64::MAX;

/// The collation of text that travels: the usual one, which the server turns into that of its column.
const COLLATION: [u8; 5] = [9, 4, 0xD0, 0, 52];

impl Sent {
    /// The type, as the statement before the rows declares it.
    pub fn declared(self) -> &'static str {
        match self {
            Sent::Text => "nvarchar(4000)",
            Sent::LongText => "nvarchar(max)",
            Sent::Bytes => "varbinary(8000)",
            Sent::LongBytes => "varbinary(max)",
        }
    }

    fn info(self, out: &mut Vec<u8>) {
        let (token, size) = match self {
            Sent::Text => (0xE7, SHORT as u16),
            Sent::LongText => (0xE7, u16::MAX),
            Sent::Bytes => (0xA5, SHORT as u16),
            Sent::LongBytes => (0xA5, u16::MAX),
        };
        out.push(token);
        out.extend(size.to_le_bytes());
        if token == 0xE7 {
            out.extend(COLLATION);
        }
    }

    /// Adds NULL.
    pub fn put_null(self, out: &mut Vec<u8>) {
        match self {
            Sent::Text | Sent::Bytes => out.extend(u16::MAX.to_le_bytes()),
            Sent::LongText | Sent::LongBytes => out.extend(NO_PARTS.to_le_bytes()),
        }
    }

    /// Adds a value: text, which goes as UTF-16, or bytes. False, and nothing added, where it is too long to be sent so.
    pub fn put(self, value: &[u8], out: &mut Vec<u8>) -> bool {
        let begins = out.len();
        let counted = match self {
            Sent::Text | Sent::Bytes => 2,
            Sent::LongText | Sent::LongBytes => {
                out.extend(IN_PARTS.to_le_bytes());
                4
            }
        };
        let count_at = out.len();
        out.extend(std::iter::repeat_n(0, counted));
        match (self, std::str::from_utf8(value)) {
            (Sent::Text | Sent::LongText, Ok(text)) => push_units(text, out),
            _ => out.extend(value),
        }
        let count = out.len() - count_at - counted;
        let Some(place) = out.get_mut(count_at..count_at + counted) else { return false };
        match counted {
            2 if count <= SHORT => place.copy_from_slice(&(count as u16).to_le_bytes()),
            4 if u32::try_from(count).is_ok() => {
                place.copy_from_slice(&(count as u32).to_le_bytes());
                // One part, and the end of them; of nothing the end alone.
                if count > 0 {
                    out.extend(0_u32.to_le_bytes());
                }
            }
            _ => {
                out.truncate(begins);
                return false;
            }
        }
        true
    }
}

/// What stands before the rows: their columns ([MS-TDS] 2.2.7.4).
pub fn head(columns: &[(String, Sent)]) -> Vec<u8> {
    let mut out = vec![0x81];
    out.extend((columns.len() as u16).to_le_bytes());
    for (name, sent) in columns {
        out.extend(0_u32.to_le_bytes());
        // It may be NULL: whether its column takes that is the server's to say.
        out.extend(1_u16.to_le_bytes());
        sent.info(&mut out);
        let count = out.len();
        out.push(0);
        push_units(name, &mut out);
        let units = (out.len() - count - 1) / 2;
        if let Some(place) = out.get_mut(count) {
            *place = u8::try_from(units).unwrap_or(u8::MAX);
        }
    }
    out
}

/// What stands before each row.
pub const ROW: u8 = 0xD1;

/// What stands behind the last one ([MS-TDS] 2.2.7.6).
pub const TAIL: [u8; 13] = [0xFD, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_counted_or_come_in_parts() {
        let put = |sent: Sent, value: Option<&[u8]>| {
            let mut out = Vec::new();
            match value {
                Some(value) => assert!(sent.put(value, &mut out)),
                None => sent.put_null(&mut out),
            }
            out
        };
        assert_eq!(put(Sent::Text, Some("é".as_bytes())), [2, 0, 0xE9, 0]);
        assert_eq!(put(Sent::Text, Some(b"")), [0, 0]);
        assert_eq!(put(Sent::Text, None), [0xFF, 0xFF]);
        assert_eq!(put(Sent::Bytes, Some(&[0xE9, 0])), [2, 0, 0xE9, 0]);
        let parts = |rest: &[u8]| [&[0xFE, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF][..], rest].concat();
        assert_eq!(put(Sent::LongText, Some(b"a")), parts(&[2, 0, 0, 0, b'a', 0, 0, 0, 0, 0]));
        assert_eq!(put(Sent::LongBytes, Some(b"a")), parts(&[1, 0, 0, 0, b'a', 0, 0, 0, 0]));
        assert_eq!(put(Sent::LongBytes, Some(b"")), parts(&[0, 0, 0, 0]));
        assert_eq!(put(Sent::LongText, None), [0xFF; 8]);
        let mut out = vec![7];
        assert!(!Sent::Text.put("a".repeat(4001).as_bytes(), &mut out) && out == [7]);
        assert!(Sent::Text.put("a".repeat(4000).as_bytes(), &mut out));
    }
}
