//! Connections: reading and changing the plain-text files that hold profiles ([`load`], [`edit`]), profiles as URLs
//! ([`url`]), what lies [`nearby`], the [`comment`] that names one, the [`consent`] that some need, and [`open()`], the one way from a profile to a session.

pub mod comment;
pub mod consent;
pub mod edit;
mod file;
mod guarded;
pub mod nearby;
mod open;
mod tried;
pub mod url;

pub(crate) use file::nearest;
pub use file::{Connections, Problem, connections_files, load, parse};
pub use open::{open, open_asking};
pub use tried::Tried;
