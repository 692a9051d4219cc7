//! Rows: from values to Arrow record batches, and from a value back to text.
//!
//! [`assemble`] builds batches from a database that types every value on its own, [`columns`] from one that types
//! columns; [`widen`] keeps a column whole when its values turn out to be of several types, [`origin`] says where a
//! column comes from, [`cell`], [`form`] and [`other`] read one value back, [`nested`] the parts of one, [`moment`] and [`span`]
//! points and spans of time that are kept as text, [`shape`] points, lines and areas.
//!
//! What Arrow has no type for travels as text or JSON, and every field tells the database's own type name in its
//! metadata ([`DB_TYPE`]).

pub mod assemble;
pub mod cell;
pub mod columns;
pub mod form;
pub mod moment;
pub mod nested;
pub mod origin;
pub mod other;
pub mod shape;
pub mod span;
pub mod widen;

/// The key of a field's metadata under which the database's own type name stands.
pub const DB_TYPE: &str = "db_type";

/// The key of a field's metadata under which the type of the database stands whose texts the column holds.
pub const TYPED_AS: &str = "typed_as";

/// The key of a field's metadata that says that the column is of documents: their types have a meaning when they are
/// written as Extended JSON, and what is NULL is not there.
pub const OF_DOCUMENTS: &str = "of_documents";

/// The metadata key of the type that whole numbers have in a column of mixed values of documents, where it is not the usual one.
pub const WHOLE_AS: &str = "whole_as";

/// The most rows in one batch.
pub const BATCH_ROWS: usize = 8192;

/// About the most bytes in one batch. A single row may be larger.
pub const BATCH_BYTES: usize = 4 << 20;

/// The longest that rows wait for others to fill a batch.
pub const BATCH_DELAY: std::time::Duration = std::time::Duration::from_millis(40);
