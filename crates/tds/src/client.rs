//! A connection: sending requests, and reading what comes.

use std::ops::Range;

use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};

use crate::Error;
use crate::bulk::{self, Sent};
use crate::packet::{FIRST_SIZE, Framing, HEADER, Header, Kind, framed};
use crate::text::utf16;
use crate::token::{Environment, Row, State, Token, read};

/// How much is asked of the stream at once.
const READ: usize = 64 << 10;

/// A connection over a stream. It does one thing at a time.
#[derive(Debug)]
pub struct Client<S> {
    stream: S,
    /// What was read and is no whole packet yet.
    raw: Vec<u8>,
    /// The messages of packets, put together.
    message: Vec<u8>,
    at: usize,
    /// The last packet of the answer has come.
    last: bool,
    state: State,
    /// How large packets may be that we send.
    packet: usize,
    /// The number of the open transaction, by which requests belong to it.
    transaction: u64,
    /// The most bytes of a row.
    largest: u64,
    /// A wish to end was sent, and has not been heard of.
    attention: bool,
}

/// What [`Client::token`] has.
#[derive(Debug)]
pub enum Pace {
    /// A token.
    Token(Token),
    /// Nothing until more is there: [`Client::fill`].
    Wait,
}

/// A value beside a statement.
#[derive(Debug, Clone, PartialEq)]
pub enum Parameter {
    /// NULL, as text.
    Null,
    /// `bit`.
    Bit(bool),
    /// `bigint`.
    Int(i64),
    /// `float`.
    Float(f64),
    /// `nvarchar(max)`, or `nvarchar(4000)` where it fits.
    Text(String),
    /// `varbinary(max)`.
    Bytes(Vec<u8>),
}

impl<S: AsyncRead + AsyncWrite + Unpin> Client<S> {
    /// Over a stream on which a prelogin was agreed on. Rows may have so many bytes.
    pub fn new(stream: S, largest: u64) -> Client<S> {
        Client {
            stream,
            raw: Vec::new(),
            message: Vec::new(),
            at: 0,
            last: true,
            state: State::default(),
            packet: FIRST_SIZE,
            transaction: 0,
            largest,
            attention: false,
        }
    }

    /// The stream.
    pub fn stream(&self) -> &S {
        &self.stream
    }

    /// Sends a message and reads what comes from its beginning.
    pub async fn send(&mut self, kind: Kind, message: &[u8]) -> Result<(), Error> {
        self.expect_answer();
        let framed = framed(kind, message, self.packet);
        self.stream.write_all(&framed).await?;
        self.stream.flush().await?;
        Ok(())
    }

    fn expect_answer(&mut self) {
        self.message.clear();
        self.at = 0;
        self.last = false;
        self.state = State::default();
    }

    /// Begins to send rows of these columns; the statement `INSERT BULK` before them was taken. Each row is
    /// [`bulk::ROW`] and its values. The answer comes once they have ended.
    pub async fn begin_rows(&mut self, columns: &[(String, Sent)]) -> Result<Framing, Error> {
        let mut framing = Framing::new(Kind::Rows, self.packet);
        self.go_on_rows(&mut framing, &bulk::head(columns)).await?;
        Ok(framing)
    }

    /// Sends some of the rows. Given up in the middle, the connection cannot be gone on with.
    pub async fn go_on_rows(&mut self, framing: &mut Framing, rows: &[u8]) -> Result<(), Error> {
        let packets = framing.add(rows);
        if !packets.is_empty() {
            self.stream.write_all(&packets).await?;
        }
        Ok(())
    }

    /// Ends the rows; what comes is read from its beginning.
    pub async fn end_rows(&mut self, mut framing: Framing) -> Result<(), Error> {
        self.expect_answer();
        self.go_on_rows(&mut framing, &bulk::TAIL).await?;
        self.stream.write_all(&framing.end()).await?;
        self.stream.flush().await?;
        Ok(())
    }

    /// Sends statements as text.
    pub async fn batch(&mut self, text: &str) -> Result<(), Error> {
        let mut message = self.headers();
        message.extend(utf16(text));
        self.send(Kind::Batch, &message).await
    }

    /// Sends a statement with values beside it, through the procedure that the server has for that. `names` are those of
    /// the parameters, with their `@`, and whether they give a value back.
    pub async fn with_values(&mut self, text: &str, values: &[(&str, bool, Parameter)]) -> Result<(), Error> {
        let mut message = self.headers();
        // The procedure by its number: `sp_executesql`.
        message.extend(0xFFFF_u16.to_le_bytes());
        message.extend(10_u16.to_le_bytes());
        message.extend(0_u16.to_le_bytes());
        put(&mut message, "", false, &Parameter::Text(text.to_owned()));
        let declared: Vec<_> = values
            .iter()
            .map(|(name, out, value)| format!("{name} {}{}", value.declared(), if *out { " output" } else { "" }))
            .collect();
        put(&mut message, "", false, &Parameter::Text(declared.join(", ")));
        for (name, out, value) in values {
            put(&mut message, name, *out, value);
        }
        self.send(Kind::Call, &message).await
    }

    /// What stands before every request: the transaction that it belongs to ([MS-TDS] 2.2.5.3).
    fn headers(&self) -> Vec<u8> {
        let mut headers = Vec::new();
        headers.extend(22_u32.to_le_bytes());
        headers.extend(18_u32.to_le_bytes());
        headers.extend(2_u16.to_le_bytes());
        headers.extend(self.transaction.to_le_bytes());
        headers.extend(1_u32.to_le_bytes());
        headers
    }

    /// Asks the server to end what it does. What comes until it has heard is read as before: its end is a
    /// [`crate::Done`] that was stopped, perhaps in an answer of its own.
    pub async fn attention(&mut self) -> Result<(), Error> {
        if !self.attention {
            self.attention = true;
            self.stream.write_all(&framed(Kind::Attention, &[], self.packet)).await?;
            self.stream.flush().await?;
        }
        Ok(())
    }

    /// Whether a wish to end has not been heard of yet.
    pub fn is_stopping(&self) -> bool {
        self.attention
    }

    /// The next token, as far as the bytes are there.
    pub fn token(&mut self) -> Result<Pace, Error> {
        loop {
            if self.at == self.message.len() && self.last {
                if self.attention {
                    // The answer was whole before the wish arrived: its acknowledgement is another one.
                    self.last = false;
                    return Ok(Pace::Wait);
                }
                return Ok(Pace::Token(Token::End));
            }
            let Some((token, end)) = read(&self.message, self.at, &mut self.state, self.largest)? else {
                if self.last {
                    return Err(Error::Broken("an answer that ends in the middle"));
                }
                return Ok(Pace::Wait);
            };
            self.at = end;
            let Some(token) = token else { continue };
            match &token {
                Token::Done(done) if done.stopped => self.attention = false,
                Token::Environment(Environment::Packet(size)) => self.packet = (*size).clamp(512, 32_767),
                Token::Environment(Environment::Began(number)) => self.transaction = *number,
                Token::Environment(Environment::Ended(_)) => self.transaction = 0,
                _ => {}
            }
            return Ok(Pace::Token(token));
        }
    }

    /// Bytes that a token points at, until the next call of [`Client::token`] or [`Client::fill`].
    #[inline]
    pub fn bytes(&self, range: Range<usize>) -> &[u8] {
        self.message.get(range).unwrap_or_default()
    }

    /// Gives the row that came last away, without copying it: bytes, and where it is in them.
    pub fn detach(&mut self, row: Row) -> (Vec<u8>, Row) {
        let after = self.message.split_off(self.at.min(self.message.len()));
        self.at = 0;
        (std::mem::replace(&mut self.message, after), row)
    }

    /// Waits for more. Giving it up loses nothing.
    pub async fn fill(&mut self) -> Result<(), Error> {
        // What was read is let go once it is most of what is kept.
        if self.at > self.message.len() / 2 && self.at > READ {
            self.message.drain(..self.at);
            self.at = 0;
        } else if self.at == self.message.len() {
            self.message.clear();
            self.at = 0;
        }
        let before = self.message.len();
        // An acknowledgement may have come with the end of the answer before it.
        self.unframe()?;
        while self.message.len() == before && !self.last {
            self.raw.reserve(READ);
            if self.stream.read_buf(&mut self.raw).await? == 0 {
                return Err(Error::Closed);
            }
            self.unframe()?;
        }
        Ok(())
    }

    /// Whether the other side has closed the stream, as far as that can be told without waiting; what it says unasked
    /// is kept.
    pub async fn is_closed(&mut self) -> bool {
        let read = tokio::time::timeout(std::time::Duration::ZERO, self.stream.read_buf(&mut self.raw)).await;
        matches!(read, Ok(Ok(0) | Err(_)))
    }

    fn unframe(&mut self) -> Result<(), Error> {
        let mut at = 0;
        while let Some((head, rest)) = self.raw.get(at..).and_then(|rest| rest.split_first_chunk::<HEADER>()) {
            let header = Header::read(*head).ok_or(Error::Broken("a packet that is shorter than its header"))?;
            if header.kind != Kind::Answer as u8 {
                return Err(Error::Broken("a packet of another kind"));
            }
            let Some(part) = rest.get(..header.length) else { break };
            self.message.extend(part);
            self.last = header.last;
            at += HEADER + header.length;
            // What comes behind the end is another answer.
            if header.last {
                break;
            }
        }
        self.raw.drain(..at);
        Ok(())
    }
}

impl Parameter {
    /// Its type, as it is declared.
    fn declared(&self) -> &'static str {
        match self {
            Parameter::Bit(_) => "bit",
            Parameter::Int(_) => "bigint",
            Parameter::Float(_) => "float",
            Parameter::Text(text) if text.len() > 4000 => "nvarchar(max)",
            Parameter::Null | Parameter::Text(_) => "nvarchar(4000)",
            Parameter::Bytes(_) => "varbinary(max)",
        }
    }
}

/// Adds a parameter of a call ([MS-TDS] 2.2.6.6).
fn put(message: &mut Vec<u8>, name: &str, out: bool, value: &Parameter) {
    let name = utf16(name);
    message.push((name.len() / 2) as u8);
    message.extend(name);
    message.push(u8::from(out));
    match value {
        Parameter::Bit(value) => message.extend([0x68, 1, 1, u8::from(*value)]),
        Parameter::Int(value) => {
            message.extend([0x26, 8, 8]);
            message.extend(value.to_le_bytes());
        }
        Parameter::Float(value) => {
            message.extend([0x6D, 8, 8]);
            message.extend(value.to_le_bytes());
        }
        Parameter::Null => {
            message.extend([0xE7, 0x40, 0x1F, 9, 4, 0xD0, 0, 52]);
            message.extend(u16::MAX.to_le_bytes());
        }
        Parameter::Text(text) => {
            let text = utf16(text);
            // Longer than a text with a limit may be: it goes in parts.
            if text.len() <= 8000 {
                message.extend([0xE7, 0x40, 0x1F, 9, 4, 0xD0, 0, 52]);
                message.extend((text.len() as u16).to_le_bytes());
                message.extend(text);
            } else {
                message.extend([0xE7, 0xFF, 0xFF, 9, 4, 0xD0, 0, 52]);
                put_in_parts(message, &text);
            }
        }
        Parameter::Bytes(bytes) => {
            message.extend([0xA5, 0xFF, 0xFF]);
            put_in_parts(message, bytes);
        }
    }
}

/// Adds a value without a limit, as one part and the end of them ([MS-TDS] 2.2.5.2.3).
fn put_in_parts(message: &mut Vec<u8>, value: &[u8]) {
    message.extend((value.len() as u64).to_le_bytes());
    if !value.is_empty() {
        message.extend((value.len() as u32).to_le_bytes());
        message.extend(value);
    }
    message.extend(0_u32.to_le_bytes());
}
