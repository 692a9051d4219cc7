//! Connections: profiles in plain-text files, and the secrets that are not in them.

pub mod edit;
mod file;
mod guard;
mod profile;
mod secret;

pub use file::{Connections, Problem, connections_files, load, parse};
pub use guard::Guard;
pub use profile::{Profile, Setting};
pub use secret::Secret;
