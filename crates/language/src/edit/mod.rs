//! A buffer and the changes that a person asks for: [`document`] with its undo history, [`lines`] (comment, move,
//! indent), [`format`] and [`snippet`] (texts with places to fill in).

pub mod document;
pub mod format;
pub mod lines;
pub mod snippet;
