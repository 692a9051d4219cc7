//! Languages of document databases. No server is spoken to in one yet: [`DOCUMENTS`] is what such a language begins
//! with, and what the scripted engine of the tests uses.

use super::{Dialect, Family, PLAIN, Quote, QuoteKind, TransactionWords};

const TEXT: Quote =
    Quote { prefix: None, open: b'"', close: b'"', doubled: false, backslash: true, kind: QuoteKind::Text };

/// Calls on collections, whose arguments are documents; a semicolon ends each.
pub static DOCUMENTS: Dialect = Dialect {
    name: "documents",
    extension: "documents",
    family: Family::Documents,
    quotes: &[TEXT, Quote { open: b'\'', close: b'\'', ..TEXT }],
    line_comments: &["//"],
    block_comment: Some(super::BlockComment { open: "/*", close: "*/", nests: false }),
    transaction: TransactionWords { begin: "begin", commit: "commit", roll_back: "rollback", ..PLAIN.transaction },
    ..PLAIN
};
