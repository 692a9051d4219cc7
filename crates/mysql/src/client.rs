//! A connection: sending requests, and reading what comes (MySQL Source Code Documentation, "Command Phase").

use std::ops::Range;

use tokio::io::{AsyncRead, AsyncWrite};

use crate::column::Column;
use crate::fields::{Fields, put_bytes};
use crate::handshake::capability;
use crate::packet::{FULL, Packets};
use crate::{Error, Handshake, ServerError, text};

/// Commands ("Command Phase").
mod command {
    pub const QUIT: u8 = 0x01;
    pub const QUERY: u8 = 0x03;
    pub const PING: u8 = 0x0E;
    pub const PREPARE: u8 = 0x16;
    pub const EXECUTE: u8 = 0x17;
    pub const CLOSE: u8 = 0x19;
}

/// Status flags of an OK packet.
pub mod status {
    /// A transaction is open.
    pub const IN_TRANSACTION: u16 = 1;
    /// Another result follows.
    pub const MORE: u16 = 1 << 3;
}

/// The error code that marks a progress report.
const PROGRESS: u16 = 0xFFFF;

/// The first byte of the end of columns or rows; also of a row whose first value is of 16 MiB.
const EOF: u8 = 0xFE;

/// The most columns that a result may have: servers have fewer.
const MOST_COLUMNS: u64 = 1 << 16;

/// The end of a result, or of a statement without one.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Done {
    /// How many rows were touched.
    pub affected: u64,
    /// How many warnings there are.
    pub warnings: u16,
    /// The state of the session: [`status`].
    pub status: u16,
    /// Whether it is the end of a result with columns.
    pub had_columns: bool,
}

/// The body of an OK or EOF packet.
#[derive(Debug, Clone, Copy)]
pub(crate) struct OkPacket {
    affected: u64,
    status: u16,
    warnings: u16,
}

impl OkPacket {
    /// Reads what follows the header byte of an OK packet.
    pub(crate) fn read(rest: &[u8]) -> Option<OkPacket> {
        let mut fields = Fields::of(rest);
        let affected = fields.number()?;
        fields.number()?;
        Some(OkPacket { affected, status: fields.u16()?, warnings: fields.u16()? })
    }

    /// Reads what follows the header byte of an EOF packet, which has warnings before status.
    fn read_eof(rest: &[u8]) -> Option<OkPacket> {
        let mut fields = Fields::of(rest);
        let warnings = fields.u16()?;
        Some(OkPacket { affected: 0, status: fields.u16()?, warnings })
    }
}

/// How far a statement is (MariaDB).
#[derive(Debug, Clone, PartialEq)]
pub struct Progress {
    /// The stage it is at, from 1.
    pub stage: u8,
    /// How many stages there are.
    pub stages: u8,
    /// The part of the stage that is done, from 0 to 1.
    pub done: f32,
    /// What it does.
    pub what: String,
}

impl Progress {
    fn read(payload: &[u8]) -> Option<Progress> {
        let mut fields = Fields::of(payload.get(3..)?);
        fields.u8()?;
        let (stage, stages, thousandths) = (fields.u8()?, fields.u8()?, fields.u24()?);
        let done = (thousandths as f32 / 100_000.0).clamp(0.0, 1.0);
        Some(Progress { stage, stages, done, what: text(fields.bytes()?) })
    }

    /// The part of the whole that is done, from 0 to 1, if each stage is as long as another.
    pub fn whole(&self) -> f32 {
        let (stage, stages) = (f32::from(self.stage.max(1)), f32::from(self.stages.max(1)));
        ((stage - 1.0 + self.done) / stages).clamp(0.0, 1.0)
    }
}

/// What a server sends.
#[derive(Debug, Clone, PartialEq)]
pub enum Token {
    /// A result with these columns begins.
    Columns(Vec<Column>),
    /// A row of it: [`Client::bytes`].
    Row(Range<usize>),
    /// A result is whole.
    Done(Done),
    /// A statement was prepared.
    Prepared {
        /// Its number.
        id: u32,
        /// How many values it takes.
        parameters: u16,
    },
    /// The server wants a file by a name: [`Client::send_part`] and [`Client::end_parts`].
    File(String),
    /// How far it is.
    Progress(Progress),
    /// The server says no: nothing follows.
    Error(ServerError),
    /// Nothing follows.
    End,
}

/// What [`Client::token`] has.
#[derive(Debug, PartialEq)]
pub enum Pace {
    /// A token.
    Token(Token),
    /// Nothing until more is there: [`Client::fill`].
    Wait,
}

/// A value beside a statement.
#[derive(Debug, Clone, PartialEq)]
pub enum Parameter {
    /// NULL.
    Null,
    /// `bigint`.
    Int(i64),
    /// `double`.
    Double(f64),
    /// Text or bytes.
    Bytes(Vec<u8>),
}

/// What is being read.
#[derive(Debug)]
enum State {
    Idle,
    /// The beginning of a result.
    Answer,
    /// Columns: so many are to come.
    Columns(u64, Vec<Column>),
    Rows,
    /// The beginning of what preparing gives.
    Preparing,
    /// So many packets that are passed over, and what is told then.
    Passing(u32, Token),
}

/// A connection over a stream. It does one thing at a time.
#[derive(Debug)]
pub struct Client<S> {
    packets: Packets<S>,
    state: State,
    no_eof: bool,
    extended_metadata: bool,
    id: u32,
    version: String,
    /// The state of the session by the last end; none comes with an error.
    status: Option<u16>,
}

impl<S: AsyncRead + AsyncWrite + Unpin> Client<S> {
    pub(crate) fn new(packets: Packets<S>, handshake: &Handshake, ok: OkPacket) -> Client<S> {
        Client {
            packets,
            state: State::Idle,
            no_eof: handshake.agreed() & capability::DEPRECATE_EOF != 0,
            extended_metadata: handshake.agreed_extended() & capability::EXTENDED_METADATA != 0,
            id: handshake.id,
            version: handshake.version.clone(),
            status: Some(ok.status),
        }
    }

    /// The number of the connection.
    pub fn id(&self) -> u32 {
        self.id
    }

    /// The server's version, as it writes it.
    pub fn version(&self) -> &str {
        &self.version
    }

    /// The state of the session by the last end, [`status`]; `None` after an error, with which none comes.
    pub fn status(&self) -> Option<u16> {
        self.status
    }

    async fn ask(&mut self, what: u8, body: &[u8], state: State) -> Result<(), Error> {
        self.packets.begin();
        self.state = state;
        let mut message = Vec::with_capacity(body.len() + 1);
        message.push(what);
        message.extend(body);
        self.packets.send(&message).await
    }

    /// Sends a statement as text; its rows are of texts.
    pub async fn query(&mut self, statement: &str) -> Result<(), Error> {
        self.ask(command::QUERY, statement.as_bytes(), State::Answer).await
    }

    /// Asks for an answer and nothing else.
    pub async fn ping(&mut self) -> Result<(), Error> {
        self.ask(command::PING, &[], State::Answer).await
    }

    /// Has a statement prepared: [`Token::Prepared`] has its number.
    pub async fn prepare(&mut self, statement: &str) -> Result<(), Error> {
        self.ask(command::PREPARE, statement.as_bytes(), State::Preparing).await
    }

    /// Carries out a statement that was prepared, with as many values as it takes; its rows are of values.
    pub async fn execute(&mut self, id: u32, values: &[Parameter]) -> Result<(), Error> {
        let mut body = Vec::new();
        body.extend(id.to_le_bytes());
        // No cursor, once.
        body.push(0);
        body.extend(1_u32.to_le_bytes());
        if !values.is_empty() {
            let mut nulls = vec![0_u8; values.len().div_ceil(8)];
            for (at, _) in values.iter().enumerate().filter(|(_, value)| **value == Parameter::Null) {
                if let Some(byte) = nulls.get_mut(at / 8) {
                    *byte |= 1 << (at % 8);
                }
            }
            body.extend(nulls);
            body.push(1);
            body.extend(values.iter().flat_map(|value| match value {
                Parameter::Null => [6, 0],
                Parameter::Int(_) => [8, 0],
                Parameter::Double(_) => [5, 0],
                Parameter::Bytes(_) => [253, 0],
            }));
            for value in values {
                match value {
                    Parameter::Null => {}
                    Parameter::Int(value) => body.extend(value.to_le_bytes()),
                    Parameter::Double(value) => body.extend(value.to_le_bytes()),
                    Parameter::Bytes(value) => put_bytes(value, &mut body),
                }
            }
        }
        self.ask(command::EXECUTE, &body, State::Answer).await
    }

    /// Lets a prepared statement go. Nothing is answered.
    pub async fn close(&mut self, id: u32) -> Result<(), Error> {
        self.ask(command::CLOSE, &id.to_le_bytes(), State::Idle).await
    }

    /// Says that this is the end. Nothing is answered.
    pub async fn quit(&mut self) -> Result<(), Error> {
        self.ask(command::QUIT, &[], State::Idle).await
    }

    /// Sends a part of the file that a server wants.
    pub async fn send_part(&mut self, part: &[u8]) -> Result<(), Error> {
        // What fills a packet would need another one behind it.
        for part in part.chunks(FULL - 1) {
            self.packets.send(part).await?;
        }
        Ok(())
    }

    /// Ends the file.
    pub async fn end_parts(&mut self) -> Result<(), Error> {
        self.packets.send(&[]).await
    }

    /// The next token, as far as the bytes are there.
    #[inline]
    pub fn token(&mut self) -> Result<Pace, Error> {
        loop {
            if matches!(self.state, State::Idle) {
                return Ok(Pace::Token(Token::End));
            }
            let Some(range) = self.packets.take()? else { return Ok(Pace::Wait) };
            let payload = self.packets.bytes(range.clone());
            let Some((first, rest)) = payload.split_first() else { return Err(Error::Broken("an empty packet")) };
            // Most packets are rows.
            if matches!(self.state, State::Rows) && *first < EOF {
                return Ok(Pace::Token(Token::Row(range)));
            }
            if *first == 0xFF {
                return self.refused(range).map(Pace::Token);
            }
            let broken = Error::Broken("a packet that ends in the middle");
            match &mut self.state {
                State::Idle => {}
                State::Rows => {
                    let is_end = payload.len() < if self.no_eof { FULL } else { 9 };
                    if !is_end {
                        return Ok(Pace::Token(Token::Row(range)));
                    }
                    let ok = if self.no_eof { OkPacket::read(rest) } else { OkPacket::read_eof(rest) };
                    return Ok(Pace::Token(self.done(ok.ok_or(broken)?, true)));
                }
                State::Answer => match first {
                    0x00 => {
                        let ok = OkPacket::read(rest).ok_or(broken)?;
                        return Ok(Pace::Token(self.done(ok, false)));
                    }
                    0xFB => return Ok(Pace::Token(Token::File(text(rest)))),
                    _ => {
                        let count = Fields::of(payload).number().ok_or(broken)?;
                        if count > MOST_COLUMNS {
                            return Err(Error::Broken("more columns than a result may have"));
                        }
                        self.state = State::Columns(count, Vec::new());
                    }
                },
                State::Columns(left, columns) => {
                    if *left > 0 {
                        columns.push(Column::read(payload, self.extended_metadata).ok_or(broken)?);
                        *left -= 1;
                        if *left > 0 || !self.no_eof {
                            continue;
                        }
                    } else if *first != EOF {
                        return Err(Error::Broken("no end of the columns"));
                    }
                    let columns = std::mem::take(columns);
                    self.state = State::Rows;
                    return Ok(Pace::Token(Token::Columns(columns)));
                }
                State::Preparing if *first != 0 => return Err(Error::Broken("an answer to another question")),
                State::Preparing => {
                    let mut fields = Fields::of(rest);
                    let read = (|| Some((fields.u32()?, fields.u16()?, fields.u16()?)))();
                    let (id, columns, parameters) = read.ok_or(broken)?;
                    let eofs = if self.no_eof { 0 } else { u32::from(columns > 0) + u32::from(parameters > 0) };
                    let token = Token::Prepared { id, parameters };
                    let passed = u32::from(columns) + u32::from(parameters) + eofs;
                    if passed == 0 {
                        self.state = State::Idle;
                        return Ok(Pace::Token(token));
                    }
                    self.state = State::Passing(passed, token);
                }
                State::Passing(left, token) => {
                    *left -= 1;
                    if *left == 0 {
                        let token = token.clone();
                        self.state = State::Idle;
                        return Ok(Pace::Token(token));
                    }
                }
            }
        }
    }

    fn done(&mut self, ok: OkPacket, had_columns: bool) -> Token {
        self.status = Some(ok.status);
        self.state = if ok.status & status::MORE != 0 { State::Answer } else { State::Idle };
        Token::Done(Done { affected: ok.affected, warnings: ok.warnings, status: ok.status, had_columns })
    }

    /// What begins like an error.
    fn refused(&mut self, range: Range<usize>) -> Result<Token, Error> {
        let payload = self.packets.bytes(range);
        let error = ServerError::read(payload).ok_or(Error::Broken("an error that ends in the middle"))?;
        if error.code == PROGRESS {
            let progress = Progress::read(payload).ok_or(Error::Broken("a progress that ends in the middle"))?;
            return Ok(Token::Progress(progress));
        }
        self.state = State::Idle;
        self.status = None;
        Ok(Token::Error(error))
    }

    /// Bytes that a token points at, until the next call of [`Client::token`] or [`Client::fill`].
    #[inline]
    pub fn bytes(&self, range: Range<usize>) -> &[u8] {
        self.packets.bytes(range)
    }

    /// Gives the row that came last away, without copying it: bytes, and where it is in them.
    pub fn detach(&mut self, row: Range<usize>) -> (Vec<u8>, Range<usize>) {
        self.packets.detach(row)
    }

    /// Waits for more. Giving it up loses nothing.
    pub async fn fill(&mut self) -> Result<(), Error> {
        self.packets.fill().await
    }

    /// Whether the other side has closed the stream, as far as that can be told without waiting.
    pub async fn is_closed(&mut self) -> bool {
        self.packets.is_closed().await
    }
}
