//! Commands and replies in their frames: OP_MSG
//! (<https://github.com/mongodb/specifications/blob/master/source/message/OP_MSG.md>).

use crate::Malformed;
use crate::bson::{Bson, encoded};
use crate::raw::RawDocument;

/// How many bytes stand before each message: its length, its number, that of what it answers, and its kind.
pub const HEADER: usize = 16;

/// The kind of messages that are spoken here.
const OP_MSG: u32 = 2013;

/// The bits of a message that have to be known.
const KNOWN_FLAGS: u32 = 0b11;

/// A command as a message with this number.
pub fn command(number: u32, command: &[(String, Bson)]) -> Vec<u8> {
    let body = encoded(command);
    let mut message = Vec::with_capacity(HEADER + 5 + body.len());
    message.extend(((HEADER + 5 + body.len()) as u32).to_le_bytes());
    message.extend(number.to_le_bytes());
    message.extend(0_u32.to_le_bytes());
    message.extend(OP_MSG.to_le_bytes());
    message.extend(0_u32.to_le_bytes());
    message.push(0);
    message.extend(body);
    message
}

/// The head of a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Header {
    /// How many bytes it has with its head.
    pub length: usize,
    /// Which message it answers.
    pub answers: u32,
    kind: u32,
}

impl Header {
    /// Reads one.
    pub fn read(bytes: [u8; HEADER]) -> Result<Header, Malformed> {
        let number = |at: usize| u32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]);
        let header = Header { length: number(0) as usize, answers: number(8), kind: number(12) };
        if header.kind != OP_MSG || header.length < HEADER + 5 {
            return Err(Malformed("a message of another protocol"));
        }
        Ok(header)
    }
}

/// The document of a reply, out of what stands behind its head.
pub fn reply(body: &[u8]) -> Result<RawDocument<'_>, Malformed> {
    let (flags, rest) = body.split_first_chunk::<4>().ok_or(Malformed("a message without its flags"))?;
    let flags = u32::from_le_bytes(*flags);
    if flags & 0xFFFF & !KNOWN_FLAGS != 0 {
        return Err(Malformed("a message with flags that are not known"));
    }
    match rest.split_first() {
        Some((0, document)) => RawDocument::new(document),
        _ => Err(Malformed("a message without a document")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_command_is_framed_and_read() {
        let message = command(7, &[("ping".to_owned(), Bson::Int32(1))]);
        let (head, body) = message.split_first_chunk::<HEADER>().unwrap();
        let header = Header::read(*head).unwrap();
        assert_eq!((header.length, header.answers), (message.len(), 0));
        assert!(reply(body).unwrap().get("ping").is_some());
        assert!(Header::read([0; HEADER]).is_err());
        for wrong in [&[][..], &[0, 0, 0, 0], &[0, 0, 0, 0, 1], &[16, 0, 0, 0, 0, 5, 0, 0, 0, 0]] {
            assert!(reply(wrong).is_err());
        }
    }
}
