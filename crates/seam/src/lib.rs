//! The seam between the program and databases: all that the author of an engine sees.
//!
//! Read in this order: [`error`] (what can go wrong, by kind and step), [`profile`] (one connection's entry in a
//! connections file, and its secret), [`rows`] (values on their way to Arrow batches, and back to text),
//! [`catalog`] (the model of what a database holds) and [`engine`] (the two traits, with their contracts).

pub mod catalog;
pub mod engine;
pub mod error;
pub mod profile;
pub mod rows;
