//! Real database servers for tests and measurements: private ones, in temporary folders, on free
//! ports of the loopback address. They stop when they are dropped.
//!
//! `scripts/test` installs what they need. Where a server is missing the test that wants it fails
//! and names the package: a test that skips itself would look green.
//!
//! Everything here panics when it cannot go on, as tests do.

#![allow(clippy::expect_used, clippy::unwrap_used)]

mod documents;
mod mariadb;
mod postgres;
mod process;
mod redis;
mod redis_cluster;
pub mod runner;
mod sshd;

pub use documents::Documents;
pub use mariadb::Mariadb;
pub use postgres::Postgres;
pub use process::Certificates;
pub use redis::{Redis, Sentinel};
pub use redis_cluster::RedisCluster;
pub use sshd::{Agent, Sshd};

/// The password of all users of these servers.
pub const PASSWORD: &str = "tide-table-9";
