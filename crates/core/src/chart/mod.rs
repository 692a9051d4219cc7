//! Charts of rows: what is drawn ([`spec`], [`choose`]), the rows put together for it in one pass ([`gather`]), and the
//! picture ([`plot`]), for paper and for a terminal; and a line of a few cells for each column ([`sparks`]).

pub mod choose;
mod column;
pub mod gather;
pub mod plot;
pub mod scale;
pub mod sparks;
pub mod spec;
mod steps;

pub use choose::Plan;
pub use gather::{Data, Gather};
pub use spec::{Aggregate, Kind, Spec, Stack, Step};

/// Why there is no chart.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ChartError {
    /// There is no such column.
    #[error("no column \"{name}\" in this result{}The columns are {all}", near.as_ref().map(|near| format!(" · did you mean \"{near}\"? ")).unwrap_or_else(|| ". ".to_owned()))]
    NoColumn {
        /// What was asked for.
        name: String,
        /// What may be meant.
        near: Option<String>,
        /// The names of all columns.
        all: String,
    },
    /// The columns are not those that the kind needs.
    #[error("{0}")]
    Needs(String),
    /// There is more than can be drawn.
    #[error("{0}")]
    TooMany(String),
    /// There are no rows, or none with values.
    #[error("no rows to draw")]
    NothingToDraw,
}

#[cfg(test)]
mod tests;
