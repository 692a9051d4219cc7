//! Database engines, one module each, behind the seam of `jaunty_seam::engine`.
//!
//! [`ENGINES`] is the table of them. Adding one means writing its module and a line there.

mod client_line;
mod mongodb;
mod mysql;
mod net;
mod postgres;
mod redis;
mod sqlite;
mod sqlserver;

use jaunty_seam::engine::Engine;

pub use mongodb::Mongodb;
pub use mysql::Mysql;
pub use postgres::Postgres;
pub use redis::Redis;
pub use sqlite::Sqlite;
pub use sqlserver::SqlServer;

/// All engines.
pub static ENGINES: &[&dyn Engine] = &[&Sqlite, &Postgres, &Mysql, &Redis, &SqlServer, &Mongodb];

/// An engine by the name that profiles use.
pub fn by_name(name: &str) -> Option<&'static dyn Engine> {
    ENGINES.iter().copied().find(|engine| engine.name() == name)
}
