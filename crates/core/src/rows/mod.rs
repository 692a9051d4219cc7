//! Rows: from values to Arrow record batches, and from batches to what a person reads.
//!
//! [`assemble`] builds batches from a database that types every value on its own, [`widen`] keeps
//! a column whole when its values turn out to be of several types, [`cell`] reads one value back, [`span`] reads spans of time
//! that are kept as text, and [`unfold`] lays a long one out.

pub mod assemble;
pub mod cell;
pub mod columns;
pub mod form;
pub mod laid;
pub(crate) mod moment;
pub mod origin;
pub mod span;
pub mod unfold;
pub mod widen;
