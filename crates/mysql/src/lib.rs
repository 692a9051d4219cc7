//! The client's side of the protocol that MySQL and MariaDB speak, from its published description (MySQL Source Code
//! Documentation, "Client/Server Protocol"; MariaDB Server Documentation, "Clients & Utilities: Client/Server
//! Protocol").
//!
//! It knows bytes and packets and nothing of connections' profiles, of rows as others keep them, or of a person. The
//! caller owns the stream, encrypted or not, and calls [`Client::token`] for one token after the other and
//! [`Client::fill`] where it needs more bytes; between the two it may do as it likes, and what it does not read holds
//! the server back. A row is not copied: its fields are read where they arrived.
//!
//! - [`fields`] reads numbers and texts, [`packet`] frames.
//! - [`handshake`] is what comes first and what is answered to it, [`auth`] has the authentication plugins, [`login`]
//!   goes through all of it.
//! - [`column`] describes columns, [`row`] reads rows of both kinds.
//! - [`client`] puts them together.

pub mod auth;
pub mod client;
pub mod column;
pub mod fields;
pub mod handshake;
mod login;
pub mod packet;
pub mod row;

pub use client::{Client, Done, Pace, Parameter, Progress, Token};
pub use column::{Column, ColumnType};
pub use handshake::{Handshake, Login};

/// Why a connection cannot be gone on with, or what a server refuses.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The stream failed.
    #[error(transparent)]
    Io(std::io::Error),
    /// The server closed the stream.
    #[error("the server closed the connection")]
    Closed,
    /// What came is not what the protocol allows.
    #[error("the server sent what its protocol does not allow: {0}")]
    Broken(&'static str),
    /// One row or message is longer than is taken.
    #[error("the server sent a message of more than {0} bytes")]
    TooLong(u64),
    /// The server says no.
    #[error("{}", .0.message)]
    Server(ServerError),
    /// The server asks for an authentication plugin that is not known here.
    #[error("the server asks for the authentication plugin {0}, which is not supported")]
    UnknownPlugin(String),
    /// The server wants the password as it is, where others could read it.
    #[error("the server asks for the password as plain text, and others could read it on this connection")]
    ClearPassword,
}

impl From<std::io::Error> for Error {
    fn from(error: std::io::Error) -> Error {
        match error.kind() {
            std::io::ErrorKind::UnexpectedEof => Error::Closed,
            _ => Error::Io(error),
        }
    }
}

/// An error as the server tells it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ServerError {
    /// Its number, as the server's reference lists them.
    pub code: u16,
    /// The five characters of the SQL standard; empty before the login.
    pub state: String,
    /// What it says.
    pub message: String,
}

impl ServerError {
    /// Reads a packet that begins with 0xFF. Before the login it has no state.
    fn read(payload: &[u8]) -> Option<ServerError> {
        let mut fields = fields::Fields::of(payload.get(1..)?);
        let code = fields.u16()?;
        let (state, message) = match fields.rest() {
            [b'#', a, b, c, d, e, message @ ..] => (text(&[*a, *b, *c, *d, *e]), message),
            message => (String::new(), message),
        };
        Some(ServerError { code, state, message: text(message) })
    }
}

/// Text from a server, as far as it is text.
fn text(raw: &[u8]) -> String {
    String::from_utf8_lossy(raw).into_owned()
}
