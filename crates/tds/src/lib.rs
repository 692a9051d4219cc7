//! The client's side of TDS 7.4 and 8.0, from the published specification ([MS-TDS], "Tabular Data Stream Protocol";
//! [MC-SQLR] for finding instances; [MS-SSCLRT] for values of the server's own classes).
//!
//! It knows bytes and tokens and nothing of connections' profiles, of rows as others keep them, or of a person. The
//! caller owns the stream, encrypted or not, and calls [`Client::token`] for one token after the other and
//! [`Client::fill`] where it needs more bytes; between the two it may do as it likes, and what it does not read holds
//! the server back.
//!
//! - [`packet`] frames; [`carried`] carries TLS inside packets, as TDS 7 does; [`prelogin`] and [`login`] are the first
//!   messages; [`browser`] asks a machine for its instances.
//! - [`types`] describes columns, [`token`] reads what the server sends, [`value`] turns bytes into values, [`clr`]
//!   those of classes.
//! - [`bulk`] writes rows for a table.
//! - [`client`] puts them together.

pub mod browser;
pub mod bulk;
pub mod carried;
pub mod client;
pub mod clr;
mod codepage;
pub mod login;
pub mod packet;
pub mod prelogin;
pub mod text;
pub mod token;
pub mod types;
pub mod value;

pub use client::{Client, Pace, Parameter};
pub use token::{Done, Environment, Message, Token};
pub use types::{Column, Kind, TypeInfo};

/// Why a connection cannot be gone on with.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The stream failed.
    #[error(transparent)]
    Io(#[from] std::io::Error),
    /// The server closed the stream.
    #[error("the server closed the connection")]
    Closed,
    /// What came is not what the specification allows.
    #[error("the server sent what its protocol does not allow: {0}")]
    Broken(&'static str),
    /// One row or message is longer than is taken.
    #[error("the server sent a message of more than {0} bytes")]
    TooLong(u64),
}
