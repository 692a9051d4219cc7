//! The computation of Jaunty Quill, without an interface.
//!
//! A statement's way goes through these modules from top to bottom: [`connection`] finds the
//! profile, [`engine`] is the seam behind which databases are talked to, [`text`] finds the
//! statement, [`run`] sends it, [`rows`] are what comes back, [`archive`] keeps them, [`logbook`]
//! remembers the run, and [`export`] writes rows for others to read.

pub mod archive;
pub mod arrange;
pub mod buffers;
pub mod catalog;
pub mod complete;
pub mod connection;
pub mod engine;
pub mod export;
pub mod files;
pub mod help;
pub mod logbook;
pub mod problems;
pub mod rows;
pub mod run;
pub mod text;
