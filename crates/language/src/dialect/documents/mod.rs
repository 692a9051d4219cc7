//! The language of document databases: commands as JSON, and a short form for what is done all day. Its grammar stands in
//! `docs/documents.md`.
//!
//! [`read`] reads JSON as people write it; [`statement`] makes the command of a statement, in either form; [`operators`]
//! lists the names that have a meaning; [`plan`] reads plans; [`change`] writes the statement
//! that changes a document, [`elements`] what a slip of documents sends, [`turn`] turns a statement into its other form.

pub mod change;
mod elements;
mod expressions;
pub mod operators;
mod parts;
mod plan;
pub mod read;
pub mod statement;
pub mod turn;

use super::{Dialect, Family, PLAIN, Quote, QuoteKind, TransactionWords};

const TEXT: Quote =
    Quote { prefix: None, open: b'"', close: b'"', doubled: false, backslash: true, kind: QuoteKind::Text };

/// The languages of documents, in the order in which they are offered.
pub(super) static ALL: &[&Dialect] = &[&DOCUMENTS];

/// Commands and documents. A statement ends with a semicolon, or with a blank line outside brackets.
pub static DOCUMENTS: Dialect = Dialect {
    name: "documents",
    extension: "documents",
    family: Family::Documents,
    quotes: &[TEXT, Quote { open: b'\'', close: b'\'', ..TEXT }],
    line_comments: &["//"],
    block_comment: Some(super::BlockComment { open: "/*", close: "*/", nests: false }),
    ends_with_blank: true,
    first_rows: "TABLE | limit COUNT",
    keywords: &[
        "AGGREGATE",
        "ALL",
        "BEGIN",
        "COMMIT",
        "COUNT",
        "CREATE",
        "DELETE",
        "DISTINCT",
        "DROP",
        "EXPLAIN",
        "FALSE",
        "FIND",
        "INDEX",
        "INSERT",
        "MEASURED",
        "NULL",
        "OPTION",
        "REPLACE",
        "ROLLBACK",
        "TRUE",
        "UPDATE",
        "UPSERT",
    ],
    plans: Some(&plan::PLANS),
    elements: Some(&elements::Documents),
    transaction: TransactionWords {
        begin: "begin",
        commit: "commit",
        roll_back: "rollback",
        savepoint: "",
        back_to_savepoint: "",
    },
    ..PLAIN
};
