//! Which column of a file goes into which of a table.

mod elements;
mod table;

use jaunty_seam::catalog::Column;
use jaunty_seam::rows::nested::Nested;

use super::{Dates, Numbers};
use crate::slip::Kind;

/// What a person says of the columns of a table that is made, by the names of the file.
#[derive(Debug, Clone, Copy, Default)]
pub struct NewColumns<'a> {
    /// Those of the key.
    pub key: &'a [String],
    /// Other names; an empty one leaves a column out.
    pub pairs: &'a [(String, String)],
    /// Types other than what the values look like.
    pub types: &'a [(String, String)],
}

/// A column of a table, and the one of the file that goes there.
#[derive(Debug, Clone)]
pub struct Target {
    /// The column.
    pub column: Column,
    /// What its values are.
    pub kind: Kind,
    /// The place of the file's column.
    pub from: usize,
    /// The order in which the file writes days.
    pub dates: Dates,
    /// How it writes numbers.
    pub numbers: Numbers,
    /// The lists that its values are, where they become JSON.
    pub lists: Option<Nested>,
    /// What its values lose on their way, if they do.
    pub loses: Option<&'static str>,
}

/// Where the rows of a file go.
#[derive(Debug, Clone)]
pub struct Matching {
    /// The table, as it stands in statements.
    pub table: String,
    /// Its columns that get values.
    pub targets: Vec<Target>,
    /// The columns of its key.
    pub key: Vec<String>,
    /// Columns of the file that go nowhere, and why.
    pub left_out: Vec<(String, &'static str)>,
    /// The statement that makes the table, where it is new.
    pub definition: Option<String>,
}
