//! Small simulated servers for databases that cannot be installed where the tests run, nor with the demonstration.
//!
//! Each speaks its database's public wire protocol on a loopback port and holds its part of the ferry company's world. None
//! shares protocol code with `jaunty-engines` or with the crates of protocols: a mistake made twice would cancel out. Their
//! own tests let clients of others speak to them.
//!
//! - [`tds`]: the protocol and a part of the language of SQL Server, over a SQLite file.
//! - [`documents`]: the open wire protocol of document databases, its documents in memory.

pub mod documents;
pub mod tds;
mod tls;

use std::sync::{Mutex, MutexGuard, PoisonError};

pub use tls::{StartError, Tls};

/// What a mutex holds, also after a panic of another thread.
pub(crate) fn held<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
