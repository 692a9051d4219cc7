//! The client's side of the open wire protocol of document databases, from its published specifications (BSON 1.1,
//! "OP_MSG", "Authentication", "Extended JSON v2", "Connection String").
//!
//! - [`bson`] is what values are, and their bytes; [`raw`] reads bytes of documents without building them.
//! - [`json`] writes values as Extended JSON; [`decimal`] numbers of 128 bits.
//! - [`message`] frames commands and replies; [`scram`] proves a password without sending it; [`address`] reads
//!   connection strings.

pub mod address;
pub mod bson;
pub mod decimal;
pub mod json;
pub mod message;
pub mod raw;
pub mod scram;
mod tag;

pub use bson::{Bson, Document};

/// Bytes that are not what the specification says.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct Malformed(pub &'static str);
