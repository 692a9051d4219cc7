//! Connections: profiles in plain-text files, and the secrets that are not in them.

pub mod edit;
mod file;
mod guard;
mod guarded;
mod keyring;
pub mod nearby;
mod open;
mod profile;
mod secret;
pub mod source;
pub mod url;

pub(crate) use file::nearest;
pub use file::{Connections, Problem, connections_files, load, parse};
pub use guard::Guard;
pub use open::open;
pub use profile::{Profile, Setting};
pub use secret::Secret;
