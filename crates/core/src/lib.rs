//! The computation of Jaunty Quill, without an interface: what is done with statements and rows.
//!
//! Statements and languages are in `jaunty_language`, and what an engine sees in `jaunty_seam`; both lie below. A
//! statement's way goes through these modules: [`connection`] finds the profile and opens a session, [`run`] sends
//! the statement, [`archive`] keeps its rows, [`logbook`] remembers the run, [`arrange`] sorts and filters what is
//! kept, [`chart`] draws it, [`layout`] lays a value out for a screen, and [`export`] writes rows for others to read. Beside it,
//! [`catalog`], [`complete`], [`problems`] and [`reveal`] help to write one.

pub mod archive;
pub mod arrange;
pub mod buffers;
pub mod catalog;
pub mod chart;
pub mod compare;
pub mod complete;
pub mod connection;
pub mod drawing;
pub mod dump;
pub mod export;
pub mod files;
pub mod import;
pub mod layout;
pub mod logbook;
pub mod problems;
pub mod reveal;
pub mod run;
pub mod settings;
pub mod slip;
pub mod words;
