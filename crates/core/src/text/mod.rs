//! Text: buffers, the statements in them, and what a terminal may safely show.
//!
//! Read in this order:
//! [`dialect`] is the data, [`lexer`] cuts a rope into tokens, [`split`] finds one statement,
//! [`outline`] keeps all statements of a buffer while it is edited, [`document`] is the buffer
//! itself with its cursor and its undo history, [`journal`] brings unsaved keystrokes back after a
//! crash, and [`clean`] makes any text harmless to a terminal.

pub mod acts;
pub mod clean;
mod client_line;
pub mod definition;
pub mod dialect;
pub mod document;
pub mod format;
pub mod journal;
pub mod lexer;
pub mod lines;
pub mod motion;
pub mod outline;
pub mod search;
pub mod snippet;
pub mod split;
pub mod touched;
pub mod veil;
pub mod words;
pub mod wrap;

pub use client_line::client_line;

/// A text as the rope that lexers and splitters read.
pub fn rope(text: &str) -> ropey::Rope {
    ropey::Rope::from_str(text)
}
