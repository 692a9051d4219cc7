//! Languages of commands: a word and its arguments, each command by itself.

mod redis;

pub use redis::{REDIS, arguments, filling};

use super::Dialect;

/// The languages of commands, in the order in which they are offered.
pub(super) static ALL: &[&Dialect] = &[&REDIS];
