//! Packets: a header of four bytes, three for the length and one for the place in the exchange, and what is in them
//! (MySQL Source Code Documentation, "MySQL Packets"). What is longer than a packet may be comes in several.

use std::ops::Range;
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};

use crate::Error;

/// How many bytes the header of a packet has.
const HEADER: usize = 4;

/// The length of a packet that is not the last of what it belongs to.
pub const FULL: usize = 0xFF_FFFF;

/// How much is asked of the stream at once.
const READ: usize = 128 << 10;

/// A buffer that one long value has made larger than this is let go.
const KEPT: usize = 8 << 20;

/// The first byte of an error, which may come out of turn: when the server ends.
const ERROR: u8 = 0xFF;

/// Packets to and from a server.
#[derive(Debug)]
pub struct Packets<S> {
    stream: S,
    raw: Vec<u8>,
    /// Where the next header is.
    at: usize,
    /// Where the payload of a message begins whose first packets are there, without their headers between them.
    begun: Option<usize>,
    /// How many bytes are missing of the packet that is next, as far as is known.
    missing: usize,
    /// The place of the next packet in the exchange.
    sequence: u8,
    /// The most bytes of a message.
    largest: u64,
}

impl<S: AsyncRead + AsyncWrite + Unpin> Packets<S> {
    /// Over a stream, in the middle of an exchange. Messages may have so many bytes.
    pub fn new(stream: S, sequence: u8, largest: u64) -> Packets<S> {
        Packets { stream, raw: Vec::new(), at: 0, begun: None, missing: 0, sequence, largest }
    }

    /// A new exchange begins.
    pub fn begin(&mut self) {
        self.sequence = 0;
    }

    /// The next message, as far as its bytes are there: where [`Packets::bytes`] has it.
    pub fn take(&mut self) -> Result<Option<Range<usize>>, Error> {
        loop {
            let Some((head, rest)) = self.raw.get(self.at..).and_then(|rest| rest.split_first_chunk::<HEADER>()) else {
                return Ok(None);
            };
            let length = u32::from_le_bytes([head[0], head[1], head[2], 0]) as usize;
            let before = self.begun.map_or(0, |begun| self.at - begun);
            if (before + length) as u64 > self.largest {
                return Err(Error::TooLong(self.largest));
            }
            if rest.len() < length {
                self.missing = length - rest.len();
                return Ok(None);
            }
            if head[3] != self.sequence && rest.first() != Some(&ERROR) {
                return Err(Error::Broken("a packet out of order"));
            }
            self.missing = 0;
            self.sequence = head[3].wrapping_add(1);
            let begun = match self.begun {
                None => self.at + HEADER,
                Some(begun) => {
                    self.raw.drain(self.at..self.at + HEADER);
                    self.at -= HEADER;
                    begun
                }
            };
            self.at += HEADER + length;
            if length == FULL {
                self.begun = Some(begun);
                continue;
            }
            self.begun = None;
            return Ok(Some(begun..self.at));
        }
    }

    /// Bytes of a message, until the next call of [`Packets::take`] or [`Packets::fill`].
    #[inline]
    pub fn bytes(&self, range: Range<usize>) -> &[u8] {
        self.raw.get(range).unwrap_or_default()
    }

    /// Gives the message that was taken last away, without copying it: bytes, and where it is in them.
    pub fn detach(&mut self, range: Range<usize>) -> (Vec<u8>, Range<usize>) {
        let after = self.raw.split_off(range.end.min(self.raw.len()));
        self.at = 0;
        (std::mem::replace(&mut self.raw, after), range)
    }

    /// Waits for more bytes. Giving it up loses nothing.
    pub async fn fill(&mut self) -> Result<(), Error> {
        let read = self.begun.unwrap_or(self.at);
        if read == self.raw.len() {
            self.raw.clear();
            if self.raw.capacity() > KEPT {
                self.raw = Vec::new();
            }
        } else {
            self.raw.drain(..read);
        }
        self.at -= read;
        self.begun = self.begun.map(|_| 0);
        self.raw.reserve(self.missing.max(READ));
        if self.stream.read_buf(&mut self.raw).await? == 0 {
            return Err(Error::Closed);
        }
        Ok(())
    }

    /// The next message, waited for: while logging in.
    pub async fn message(&mut self) -> Result<Vec<u8>, Error> {
        loop {
            if let Some(range) = self.take()? {
                return Ok(self.bytes(range).to_vec());
            }
            self.fill().await?;
        }
    }

    /// Sends a message. Given up in the middle, the connection cannot be gone on with.
    pub async fn send(&mut self, payload: &[u8]) -> Result<(), Error> {
        for chunk in chunks(payload) {
            let mut packet = Vec::with_capacity(HEADER + chunk.len());
            packet.extend(&(chunk.len() as u32).to_le_bytes()[..3]);
            packet.push(self.sequence);
            packet.extend(chunk);
            self.stream.write_all(&packet).await?;
            self.sequence = self.sequence.wrapping_add(1);
        }
        self.stream.flush().await?;
        Ok(())
    }

    /// Whether the other side has closed the stream, as far as that can be told without waiting; what it says unasked
    /// is kept.
    pub async fn is_closed(&mut self) -> bool {
        let read = tokio::time::timeout(Duration::ZERO, self.stream.read_buf(&mut self.raw)).await;
        matches!(read, Ok(Ok(0) | Err(_)))
    }
}

/// The parts of a message that are a packet each. One that fills its packets ends with an empty one.
fn chunks(payload: &[u8]) -> impl Iterator<Item = &[u8]> {
    let ends_full = payload.len().is_multiple_of(FULL);
    payload.chunks(FULL).chain(ends_full.then_some(&[][..]))
}

/// Reads one message from a stream and not a byte more, for the stream may become another one after it: its place in the
/// exchange and its payload.
pub async fn single<S: AsyncRead + Unpin>(stream: &mut S, most: usize) -> Result<(u8, Vec<u8>), Error> {
    let mut head = [0; HEADER];
    stream.read_exact(&mut head).await?;
    let length = u32::from_le_bytes([head[0], head[1], head[2], 0]) as usize;
    if length > most {
        return Err(Error::Broken("a first message of that length"));
    }
    let mut payload = vec![0; length];
    stream.read_exact(&mut payload).await?;
    Ok((head[3], payload))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn runtime() -> tokio::runtime::Runtime {
        tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap()
    }

    #[test]
    fn messages_of_every_length_arrive() {
        runtime().block_on(async {
            for length in [0, 1, 250, 70_000, FULL - 1, FULL, FULL + 1, 2 * FULL, 2 * FULL + 7] {
                let (here, there) = tokio::io::duplex(100_000);
                let message: Vec<u8> = (0..length).map(|at| (at % 251) as u8).collect();
                let mut sender = Packets::new(here, 0, u64::MAX);
                let mut receiver = Packets::new(there, 0, u64::MAX);
                let sending = async {
                    sender.send(&message).await.unwrap();
                    sender.send(b"next").await.unwrap();
                };
                let receiving = async {
                    let first = receiver.message().await.unwrap();
                    (first, receiver.message().await.unwrap())
                };
                let ((), (first, second)) = tokio::join!(sending, receiving);
                assert!(first == message, "{length}");
                assert_eq!(second, b"next");
            }
        });
    }

    #[test]
    fn a_message_is_given_away_and_the_next_is_there() {
        runtime().block_on(async {
            let (here, there) = tokio::io::duplex(1 << 10);
            let mut sender = Packets::new(here, 0, 100);
            let mut receiver = Packets::new(there, 0, 100);
            for text in ["first", "second", "third"] {
                sender.send(text.as_bytes()).await.unwrap();
            }
            receiver.fill().await.unwrap();
            assert!(receiver.take().unwrap().is_some());
            let second = receiver.take().unwrap().unwrap();
            let (bytes, at) = receiver.detach(second);
            assert_eq!(&bytes[at], b"second");
            assert_eq!(receiver.message().await.unwrap(), b"third");
        });
    }

    #[test]
    fn what_is_too_long_is_refused_before_it_is_read() {
        runtime().block_on(async {
            let (mut here, there) = tokio::io::duplex(1 << 10);
            here.write_all(&[0xE9, 3, 0, 0, 1]).await.unwrap();
            let mut receiver = Packets::new(there, 0, 1000);
            assert!(matches!(receiver.message().await, Err(Error::TooLong(1000))));
        });
    }

    #[test]
    fn packets_come_in_order_but_for_errors() {
        runtime().block_on(async {
            let (mut here, there) = tokio::io::duplex(1 << 10);
            here.write_all(&[1, 0, 0, 9, 0xFF, 1, 0, 0, 9, 7]).await.unwrap();
            let mut receiver = Packets::new(there, 0, 1000);
            assert_eq!(receiver.message().await.unwrap(), [0xFF]);
            receiver.begin();
            assert!(matches!(receiver.message().await, Err(Error::Broken(_))));
        });
    }
}
