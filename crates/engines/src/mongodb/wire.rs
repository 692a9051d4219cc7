//! Commands and replies over a stream.

use std::io;

use jaunty_documents::message::{Compressor, HEADER, Header, command, compressed};
use jaunty_documents::{Bson, Malformed};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};

use crate::net::reach;

/// How much is asked of the stream at once.
const READ: usize = 64 << 10;

/// Commands that are never compressed: they carry what has to do with passwords ("OP_COMPRESSED").
const NEVER: &[&str] = &["hello", "saslStart", "saslContinue", "authenticate", "createUser", "updateUser"];

/// Why a connection cannot be gone on with.
#[derive(Debug, thiserror::Error)]
pub enum WireError {
    /// The stream failed.
    #[error(transparent)]
    Io(#[from] io::Error),
    /// The server closed it.
    #[error("the server closed the connection")]
    Closed,
    /// What came is not what the protocol allows.
    #[error("the server sent what its protocol does not allow: {0}")]
    Broken(#[from] Malformed),
    /// A reply is longer than is taken.
    #[error("the server sent a message of {0} bytes")]
    TooLong(u64),
}

/// A connection. It does one thing at a time.
pub struct Wire {
    stream: Box<dyn reach::Carried>,
    number: u32,
    raw: Vec<u8>,
    /// The most bytes of a reply.
    pub largest: u64,
    /// How commands are made smaller.
    pub compressor: Option<Compressor>,
}

impl Wire {
    pub fn new(stream: Box<dyn reach::Carried>, largest: u64) -> Wire {
        Wire { stream, number: 0, raw: Vec::new(), largest, compressor: None }
    }

    /// Sends a command.
    pub async fn send(&mut self, fields: &[(String, Bson)]) -> Result<(), WireError> {
        self.number = self.number.wrapping_add(1);
        let mut message = command(self.number, fields);
        if let Some(compressor) =
            self.compressor.filter(|_| !fields.first().is_some_and(|(name, _)| NEVER.contains(&&**name)))
        {
            message = compressed(&message, compressor)?;
        }
        self.stream.write_all(&message).await?;
        self.stream.flush().await?;
        Ok(())
    }

    /// The reply to the last command: what stands behind the head of its message. Giving the wait up loses nothing.
    pub async fn receive(&mut self) -> Result<Vec<u8>, WireError> {
        loop {
            if let Some((head, _)) = self.raw.split_first_chunk::<HEADER>() {
                let header = Header::read(*head)?;
                if header.length as u64 > self.largest {
                    return Err(WireError::TooLong(header.length as u64));
                }
                if self.raw.len() >= header.length {
                    let body = self.raw.get(HEADER..header.length).unwrap_or_default().to_vec();
                    self.raw.drain(..header.length);
                    // A reply to what nobody waits for any more.
                    if header.answers == self.number {
                        return Ok(header.opened(body, self.largest)?);
                    }
                    continue;
                }
            }
            // Not for all that is announced: what comes may be less.
            self.raw.reserve(READ);
            if self.stream.read_buf(&mut self.raw).await? == 0 {
                return Err(WireError::Closed);
            }
        }
    }

    /// A command and its reply.
    pub async fn ask(&mut self, fields: &[(String, Bson)]) -> Result<Vec<u8>, WireError> {
        self.send(fields).await?;
        self.receive().await
    }

    /// Whether the other side has closed the stream, as far as that can be told without waiting.
    pub async fn is_closed(&mut self) -> bool {
        let read = tokio::time::timeout(std::time::Duration::ZERO, self.stream.read_buf(&mut self.raw)).await;
        matches!(read, Ok(Ok(0) | Err(_)))
    }
}
