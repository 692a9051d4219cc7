//! Text, statements and languages. This crate knows no database, no connection and no rows: everything in it is
//! data, or a function of a text.
//!
//! Read in this order: [`text`] is text in no language, [`dialect`] is the data of each language, [`lexer`] cuts a
//! rope into tokens, [`split`] finds where a statement ends, [`outline`] keeps all statements of a buffer while it
//! is edited, [`statement`] says what one statement is made of and what it does, [`edit`] is a buffer and the
//! changes that a person asks for, and [`help`] explains words of a language.

pub mod dialect;
pub mod edit;
pub mod help;
pub mod host;
pub mod lexer;
pub mod outline;
pub mod plan;
pub mod split;
pub mod statement;
pub mod text;
