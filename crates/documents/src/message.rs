//! Commands and replies in their frames, OP_MSG, and the same made smaller, OP_COMPRESSED
//! (<https://github.com/mongodb/specifications/blob/master/source/message/OP_MSG.md>).

use std::io::{Read as _, Write as _};

use crate::Malformed;
use crate::bson::{Bson, encoded};
use crate::raw::RawDocument;

/// How many bytes stand before each message: its length, its number, that of what it answers, and its kind.
pub const HEADER: usize = 16;

/// The kind of messages that are spoken here.
const OP_MSG: u32 = 2013;

/// The kind of a message that holds another, made smaller.
const OP_COMPRESSED: u32 = 2012;

/// What stands before what was made smaller: its kind, its length, and the compressor.
const COMPRESSED_HEAD: usize = 9;

/// How messages are made smaller; the numbers are those of the specification.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Compressor {
    /// `snappy`.
    Snappy = 1,
    /// `zlib`.
    Zlib = 2,
}

impl Compressor {
    /// That of a name.
    pub fn named(name: &str) -> Option<Compressor> {
        [Compressor::Snappy, Compressor::Zlib].into_iter().find(|own| own.name() == name)
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Compressor::Snappy => "snappy",
            Compressor::Zlib => "zlib",
        }
    }
}

/// A message of [`command`], made smaller.
pub fn compressed(message: &[u8], compressor: Compressor) -> Result<Vec<u8>, Malformed> {
    const FAILED: Malformed = Malformed("a command that cannot be compressed");
    let (head, body) = message.split_at_checked(HEADER).ok_or(FAILED)?;
    let small = match compressor {
        Compressor::Snappy => snap::raw::Encoder::new().compress_vec(body).map_err(|_| FAILED)?,
        Compressor::Zlib => {
            let mut encoder = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::fast());
            encoder.write_all(body).and_then(|()| encoder.finish()).map_err(|_| FAILED)?
        }
    };
    let mut made = Vec::with_capacity(HEADER + COMPRESSED_HEAD + small.len());
    made.extend(((HEADER + COMPRESSED_HEAD + small.len()) as u32).to_le_bytes());
    made.extend(head.get(4..12).unwrap_or_default());
    made.extend(OP_COMPRESSED.to_le_bytes());
    made.extend(OP_MSG.to_le_bytes());
    made.extend((body.len() as u32).to_le_bytes());
    made.push(compressor as u8);
    made.extend(small);
    Ok(made)
}

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
        if !matches!(header.kind, OP_MSG | OP_COMPRESSED) || header.length < HEADER + 5 {
            return Err(Malformed("a message of another protocol"));
        }
        Ok(header)
    }

    /// What stands after the head of its message, in full size; at most so many bytes.
    pub fn opened(self, body: Vec<u8>, most: u64) -> Result<Vec<u8>, Malformed> {
        if self.kind != OP_COMPRESSED {
            return Ok(body);
        }
        const BROKEN: Malformed = Malformed("a compressed message that cannot be read");
        let (head, small) = body.split_first_chunk::<COMPRESSED_HEAD>().ok_or(BROKEN)?;
        let number = |at: usize| u32::from_le_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
        let length = number(4);
        if number(0) != OP_MSG || u64::from(length) > most {
            return Err(BROKEN);
        }
        let opened = match head[8] {
            0 => small.to_vec(),
            1 => {
                // Its own word for its length, before memory is taken for it.
                if snap::raw::decompress_len(small).ok() != Some(length as usize) {
                    return Err(BROKEN);
                }
                snap::raw::Decoder::new().decompress_vec(small).map_err(|_| BROKEN)?
            }
            2 => {
                let mut opened = Vec::new();
                let reader = flate2::read::ZlibDecoder::new(small);
                reader.take(u64::from(length) + 1).read_to_end(&mut opened).map_err(|_| BROKEN)?;
                opened
            }
            _ => return Err(Malformed("a compressor that was not offered")),
        };
        if opened.len() == length as usize { Ok(opened) } else { Err(BROKEN) }
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
    fn what_was_made_smaller_is_the_same_again() {
        let message = command(7, &[("find".to_owned(), Bson::text("quay ".repeat(500)))]);
        for compressor in [Compressor::Snappy, Compressor::Zlib] {
            let small = compressed(&message, compressor).unwrap();
            assert!(small.len() < message.len() / 4);
            let (head, body) = small.split_first_chunk::<HEADER>().unwrap();
            let header = Header::read(*head).unwrap();
            assert_eq!(header.opened(body.to_vec(), 1 << 20).unwrap(), message[HEADER..]);
            assert!(header.opened(body.to_vec(), 100).is_err(), "more than is taken");
            for at in 0..body.len() {
                let mut broken = body.to_vec();
                broken[at] ^= 0x15;
                let _ = header.opened(broken, 1 << 20);
                assert!(header.opened(body[..at].to_vec(), 1 << 20).is_err());
            }
        }
    }

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
