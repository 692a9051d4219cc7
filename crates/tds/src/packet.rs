//! Packets: a header of eight bytes and a part of a message ([MS-TDS] 2.2.3).

use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};

use crate::Error;

/// How many bytes the header of a packet has.
pub const HEADER: usize = 8;

/// The size of packets until another is agreed on, and the largest that carries a handshake.
pub const FIRST_SIZE: usize = 4096;

/// What a message is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
pub enum Kind {
    /// Statements as text.
    Batch = 1,
    /// A call of a procedure.
    Call = 3,
    /// What a server answers.
    Answer = 4,
    /// The wish to end what runs.
    Attention = 6,
    /// Rows for a table.
    Rows = 7,
    /// The login.
    Login = 16,
    /// What comes before the login, and the handshake of TLS.
    Prelogin = 18,
}

/// The bit in the status of a packet that is the last of its message.
const LAST: u8 = 1;

/// Cuts a message into packets of at most `size` bytes, their headers among them, while it is being written.
#[derive(Debug)]
pub struct Framing {
    kind: Kind,
    room: usize,
    number: u8,
    /// What is no whole packet yet.
    rest: Vec<u8>,
}

impl Framing {
    /// Begins a message.
    pub fn new(kind: Kind, size: usize) -> Framing {
        Framing { kind, room: size.max(HEADER + 1) - HEADER, number: 1, rest: Vec::new() }
    }

    /// Adds a part of the message; gives back the packets that are full and not the last.
    pub fn add(&mut self, part: &[u8]) -> Vec<u8> {
        let mut framed = Vec::with_capacity(part.len() + (part.len() / self.room + 1) * HEADER);
        self.rest.extend(part);
        let rest = std::mem::take(&mut self.rest);
        let mut whole = rest.as_slice();
        // What fills a packet and no more may be the end.
        while whole.len() > self.room {
            let (packet, after) = whole.split_at(self.room);
            self.put(packet, 0, &mut framed);
            whole = after;
        }
        self.rest = whole.to_vec();
        framed
    }

    /// The last packet.
    pub fn end(mut self) -> Vec<u8> {
        let (mut framed, rest) = (Vec::new(), std::mem::take(&mut self.rest));
        self.put(&rest, LAST, &mut framed);
        framed
    }

    fn put(&mut self, part: &[u8], status: u8, framed: &mut Vec<u8>) {
        let length = u16::try_from(part.len() + HEADER).unwrap_or(u16::MAX).to_be_bytes();
        framed.extend([self.kind as u8, status, length[0], length[1], 0, 0, self.number, 0]);
        framed.extend(part);
        self.number = self.number.wrapping_add(1);
    }
}

/// A whole message in packets.
pub fn framed(kind: Kind, message: &[u8], size: usize) -> Vec<u8> {
    let mut framing = Framing::new(kind, size);
    let mut framed = framing.add(message);
    framed.extend(framing.end());
    framed
}

/// The header of a packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Header {
    /// What its message is.
    pub kind: u8,
    /// Whether it is the last of its message.
    pub last: bool,
    /// How many bytes follow the header.
    pub length: usize,
}

impl Header {
    /// Reads one; `None` where it is shorter than itself.
    pub fn read(bytes: [u8; HEADER]) -> Option<Header> {
        let length = usize::from(u16::from_be_bytes([bytes[2], bytes[3]])).checked_sub(HEADER)?;
        Some(Header { kind: bytes[0], last: bytes[1] & LAST != 0, length })
    }
}

/// The most bytes of a message before the login.
const MOST: usize = 1 << 16;

/// Sends a message and reads the one that answers it: for what comes before the login.
pub async fn exchange<S>(stream: &mut S, kind: Kind, message: &[u8]) -> Result<Vec<u8>, Error>
where
    S: AsyncRead + AsyncWrite + Unpin,
{
    stream.write_all(&framed(kind, message, FIRST_SIZE)).await?;
    stream.flush().await?;
    let mut answer = Vec::new();
    loop {
        let mut head = [0; HEADER];
        stream.read_exact(&mut head).await?;
        let header = Header::read(head).ok_or(Error::Broken("a packet that is shorter than its header"))?;
        if header.kind != Kind::Answer as u8 {
            return Err(Error::Broken("a packet of another kind"));
        }
        let before = answer.len();
        if before + header.length > MOST {
            return Err(Error::TooLong(MOST as u64));
        }
        answer.resize(before + header.length, 0);
        stream.read_exact(answer.get_mut(before..).unwrap_or_default()).await?;
        if header.last {
            return Ok(answer);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_message_is_cut_and_put_together() {
        for (length, size, packets) in [(0, 512, 1), (504, 512, 1), (505, 512, 2), (2000, 512, 4)] {
            let message: Vec<u8> = (0..length).map(|n| n as u8).collect();
            let framed = framed(Kind::Batch, &message, size);
            let (mut rest, mut together, mut count) = (framed.as_slice(), Vec::new(), 0);
            while let Some((head, after)) = rest.split_first_chunk::<HEADER>() {
                let header = Header::read(*head).unwrap();
                assert_eq!(header.kind, 1);
                let (part, next) = after.split_at(header.length);
                together.extend(part);
                assert_eq!(header.last, next.is_empty());
                (rest, count) = (next, count + 1);
            }
            assert_eq!((together, count), (message.clone(), packets));
            // In pieces it is the same.
            let mut framing = Framing::new(Kind::Batch, size);
            let mut pieces: Vec<u8> = message.chunks(7).flat_map(|piece| framing.add(piece)).collect();
            pieces.extend(framing.end());
            assert_eq!(pieces, framed);
        }
    }

    #[test]
    fn a_packet_that_is_shorter_than_its_header_is_none() {
        assert_eq!(Header::read([4, 1, 0, 7, 0, 0, 1, 0]), None);
    }
}
