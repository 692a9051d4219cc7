//! What is shown of an object from wherever its name stands: its [`shape`] in lines, and the rows that a row leads
//! to ([`follow`]).

pub mod depends;
pub mod follow;
pub mod model;
pub mod rules;
pub mod shape;
