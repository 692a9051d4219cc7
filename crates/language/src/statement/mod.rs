//! One statement: its [`shape`] (queries, sources, clauses), its [`parameters`], what it [`acts`] upon, the object
//! of its [`definition`], the rows that stand below a [`copy`], how much is [`touched`] by it, the passwords that are left out of it ([`veil`]), how a value of a change is
//! sent beside it; and the names that a text
//! has [`made`]; what it needs of its [`batch`]; and words of other languages ([`habits`]) and of clients ([`client_line`]) in it.

pub mod acts;
pub mod batch;
pub mod clause;
pub mod client_line;
pub mod copy;
mod datum;
pub mod definition;
pub mod habits;
pub mod made;
mod name;
pub mod parameters;
pub mod shape;
pub mod touched;
pub mod veil;

pub use name::Written;
