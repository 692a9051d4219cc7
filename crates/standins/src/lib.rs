//! Small simulated servers for databases that cannot be installed where the tests run, nor with the demonstration.
//!
//! Each speaks its database's public wire protocol on a loopback port and holds its part of the ferry company's world, which
//! lies in a SQLite file. None shares protocol code with `jaunty-engines` or with the crates of protocols: a mistake made
//! twice would cancel out. Their own tests let clients of others speak to them.
//!
//! - [`tds`]: the protocol and a part of the language of SQL Server.

pub mod tds;
