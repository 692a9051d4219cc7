//! What a server sends ([MS-TDS] 2.2.7).

use std::ops::Range;

use crate::Error;
use crate::types::{Column, Reader, TypeInfo};
use crate::value::{self, Measured};

/// One thing that a server sends.
#[derive(Debug, Clone, PartialEq)]
pub enum Token {
    /// A result with these columns begins; without any, none does.
    Columns(Vec<Column>),
    /// A row: its bytes are these of [`crate::Client::bytes`], until the next call.
    Row(Row),
    /// Something ended.
    Done(Done),
    /// Something failed.
    Error(Message),
    /// Something that the server says.
    Info(Message),
    /// Something of the session changed.
    Environment(Environment),
    /// What a procedure returned.
    Status(i32),
    /// An output value of a call.
    Output {
        /// The parameter's name.
        name: String,
        /// Its type.
        info: TypeInfo,
        /// Its bytes; `None` for NULL.
        value: Option<Vec<u8>>,
    },
    /// The login was taken: the server's name of itself and its version.
    LoggedIn {
        /// Its name.
        program: String,
        /// Its version: major, minor, build.
        version: (u8, u8, u16),
    },
    /// The answer is whole.
    End,
}

/// Where the bytes of a row stand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// The bits of columns that are NULL and not sent.
    pub nulls: Option<Range<usize>>,
    /// The values.
    pub values: Range<usize>,
}

/// The end of a result, of a statement, or of all.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Done {
    /// How many rows were sent or touched, where that is told.
    pub rows: Option<u64>,
    /// Whether more follows.
    pub more: bool,
    /// Whether it failed.
    pub failed: bool,
    /// Whether it ended because somebody wished so.
    pub stopped: bool,
    /// Whether it is the end of a procedure, which has none of its own.
    pub procedure: bool,
    /// What ended, by the server's number of it.
    pub command: u16,
}

/// A message of the server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// Its number.
    pub number: i32,
    /// Which of the places with this number it is.
    pub state: u8,
    /// How grave it is, 0 to 25: an error from 11 on.
    pub class: u8,
    /// What it says.
    pub text: String,
    /// The procedure that it comes from; empty for the batch itself.
    pub procedure: String,
    /// The line of the batch or the procedure, from 1; 0 where there is none.
    pub line: u32,
}

/// A change of the session.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Environment {
    /// It is in this database now.
    Database(String),
    /// Packets may be so large.
    Packet(usize),
    /// A transaction began.
    Began(u64),
    /// The transaction ended, and was kept if this is true.
    Ended(bool),
    /// Go to this server instead.
    Route {
        /// Its name.
        host: String,
        /// Its port.
        port: u16,
    },
    /// Another one.
    Other,
}

/// What a reader of tokens knows between two of them.
#[derive(Debug, Default)]
pub(crate) struct State {
    pub columns: Vec<Column>,
    /// A row that is being measured.
    pub measured: Option<Measured>,
}

/// Reads the token at `at`. `Ok(None)` where more bytes are needed; otherwise the token, or none of interest, and the
/// byte behind it.
pub(crate) fn read(
    bytes: &[u8],
    at: usize,
    state: &mut State,
    largest: u64,
) -> Result<Option<(Option<Token>, usize)>, Error> {
    let mut from = Reader::new(bytes, at);
    let Some(kind) = from.u8() else { return Ok(None) };
    match kind {
        ROW | ROW_WITH_NULLS => return row(bytes, from.at, kind == ROW_WITH_NULLS, state, largest),
        COLUMNS => {
            return Ok(Column::read_all(&mut from)?.map(|columns| {
                state.columns.clone_from(&columns);
                (Some(Token::Columns(columns)), from.at)
            }));
        }
        OUTPUT => return output(&mut from, largest),
        _ => {}
    }
    let whole = match kind {
        DONE | DONE_PROCEDURE | DONE_IN_PROCEDURE => done(kind, &mut from).map(Some),
        STATUS => from.u32().map(|status| Some(Token::Status(status as i32))),
        FEATURES => features(&mut from).map(|()| None),
        // A place in the statement, from versions before.
        OFFSET => from.u32().map(|_| None),
        ERROR | INFO | LOGGED_IN | ENVIRONMENT | ORDER | TABLES | TABLE_COLUMNS | SSPI => counted(kind, &mut from)?,
        SESSION_STATE | DIRECTORY => from.u32().and_then(|length| from.take(length as usize)).map(|_| None),
        _ => return Err(Error::Broken("a token that is not known")),
    };
    Ok(whole.map(|token| (token, from.at)))
}

const OFFSET: u8 = 0x78;
const STATUS: u8 = 0x79;
const COLUMNS: u8 = 0x81;
const TABLES: u8 = 0xA4;
const TABLE_COLUMNS: u8 = 0xA5;
const ORDER: u8 = 0xA9;
const ERROR: u8 = 0xAA;
const INFO: u8 = 0xAB;
const OUTPUT: u8 = 0xAC;
const LOGGED_IN: u8 = 0xAD;
const FEATURES: u8 = 0xAE;
const ROW: u8 = 0xD1;
const ROW_WITH_NULLS: u8 = 0xD2;
const ENVIRONMENT: u8 = 0xE3;
const SESSION_STATE: u8 = 0xE4;
const SSPI: u8 = 0xED;
const DIRECTORY: u8 = 0xEE;
const DONE: u8 = 0xFD;
const DONE_PROCEDURE: u8 = 0xFE;
const DONE_IN_PROCEDURE: u8 = 0xFF;

fn row(
    bytes: &[u8],
    start: usize,
    with_nulls: bool,
    state: &mut State,
    largest: u64,
) -> Result<Option<(Option<Token>, usize)>, Error> {
    if state.columns.is_empty() {
        return Err(Error::Broken("a row without columns"));
    }
    let bits = if with_nulls { state.columns.len().div_ceil(8) } else { 0 };
    let Some(nulls) = bytes.get(start..start + bits) else { return Ok(None) };
    let values = start + bits;
    let mut measured = state.measured.take().unwrap_or_default();
    let columns = state.columns.iter().enumerate();
    let lengths = columns.map(|(at, column)| {
        let null = nulls.get(at / 8).is_some_and(|byte| byte >> (at % 8) & 1 != 0);
        (null, column.info.length)
    });
    let rest = bytes.get(values..).unwrap_or_default();
    if measured.go_on(rest, lengths) {
        let end = values + measured.at;
        let nulls = with_nulls.then_some(start..values);
        return Ok(Some((Some(Token::Row(Row { nulls, values: values..end })), end)));
    }
    if rest.len() as u64 > largest {
        return Err(Error::TooLong(largest));
    }
    state.measured = Some(measured);
    Ok(None)
}

fn output(from: &mut Reader<'_>, largest: u64) -> Result<Option<(Option<Token>, usize)>, Error> {
    let start = from.at;
    let head = |from: &mut Reader<'_>| {
        from.u16()?;
        let name = from.short_text()?;
        from.take(7)?;
        Some(name)
    };
    let Some(name) = head(from) else { return Ok(None) };
    let Some(info) = TypeInfo::read(from)? else { return Ok(None) };
    let mut measured = Measured::default();
    let rest = from.bytes.get(from.at..).unwrap_or_default();
    if !measured.go_on(rest, std::iter::once((false, info.length))) {
        return if (from.bytes.len() - start) as u64 > largest { Err(Error::TooLong(largest)) } else { Ok(None) };
    }
    let mut at = 0;
    let value = value::take(rest, &mut at, info.length).map(std::borrow::Cow::into_owned);
    Ok(Some((Some(Token::Output { name, info, value }), from.at + measured.at)))
}

fn done(kind: u8, from: &mut Reader<'_>) -> Option<Token> {
    let (status, command, rows) = (from.u16()?, from.u16()?, from.u64()?);
    Some(Token::Done(Done {
        rows: (status & 0x10 != 0).then_some(rows),
        more: status & 1 != 0,
        failed: status & 0x102 != 0,
        stopped: status & 0x20 != 0,
        procedure: kind == DONE_PROCEDURE,
        command,
    }))
}

/// Features that the server acknowledges: nothing of them has to be known.
fn features(from: &mut Reader<'_>) -> Option<()> {
    while from.u8()? != 0xFF {
        let length = from.u32()?;
        from.take(length as usize)?;
    }
    Some(())
}

/// Tokens with their length before them. `Ok(None)` where more bytes are needed.
fn counted(kind: u8, from: &mut Reader<'_>) -> Result<Option<Option<Token>>, Error> {
    let Some(length) = from.u16() else { return Ok(None) };
    let Some(inside) = from.take(length.into()) else { return Ok(None) };
    let mut inside = Reader::new(inside, 0);
    let broken = Error::Broken("a message that is shorter than it says");
    Ok(Some(match kind {
        ERROR | INFO => {
            let message = message(&mut inside).ok_or(broken)?;
            Some(if kind == ERROR { Token::Error(message) } else { Token::Info(message) })
        }
        LOGGED_IN => Some(logged_in(&mut inside).ok_or(broken)?),
        ENVIRONMENT => Some(Token::Environment(environment(&mut inside).unwrap_or(Environment::Other))),
        _ => None,
    }))
}

fn message(from: &mut Reader<'_>) -> Option<Message> {
    let (number, state, class) = (from.u32()? as i32, from.u8()?, from.u8()?);
    let text = from.text()?;
    from.short_text()?;
    let procedure = from.short_text()?;
    Some(Message { number, state, class, text, procedure, line: from.u32()? })
}

fn logged_in(from: &mut Reader<'_>) -> Option<Token> {
    from.take(5)?;
    let program = from.short_text()?;
    let version = from.take(4)?;
    let version = (version[0], version[1], u16::from_be_bytes([version[2], version[3]]));
    Some(Token::LoggedIn { program: program.trim_end_matches('\0').to_owned(), version })
}

fn environment(from: &mut Reader<'_>) -> Option<Environment> {
    Some(match from.u8()? {
        1 => Environment::Database(from.short_text()?),
        4 => Environment::Packet(from.short_text()?.parse().ok()?),
        8 => {
            let length = from.u8()?;
            Environment::Began(from.take(length.into())?.try_into().ok().map(u64::from_le_bytes)?)
        }
        9 => Environment::Ended(true),
        // Rolled back, by whoever, or ended by being given away.
        10 | 12 | 17 => Environment::Ended(false),
        20 => {
            from.u16()?;
            // The one protocol that there is.
            from.u8()?;
            let port = from.u16()?;
            Environment::Route { host: from.text()?, port }
        }
        _ => Environment::Other,
    })
}
