//! Small simulated servers for databases that cannot be installed where the tests run.
//!
//! Each speaks its database's public wire protocol on a loopback port and holds its part of the
//! ferry company's world. None shares protocol code with `jaunty-engines`: a mistake made twice
//! would cancel out. The engine of today, SQLite, needs none, so this crate is empty.
