//! What two results, or two structures, have that the other has not, and the statements that make one like the other.
//!
//! [`rows`] puts rows beside each other by a key and [`draft`] makes a slip of what differs. [`differences`] does the same
//! with what two databases hold (a [`structure`] each), and [`alter`] writes the statements.

pub mod alter;
pub mod differences;
pub mod draft;
pub mod rows;
pub mod structure;

/// How something on the left stands to what is on the right.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Difference {
    /// Both have it, and it is not the same.
    Changed,
    /// Only the left one has it.
    OnlyLeft,
    /// Only the right one has it.
    OnlyRight,
}

impl Difference {
    /// All of them.
    pub const ALL: [Difference; 3] = [Difference::Changed, Difference::OnlyLeft, Difference::OnlyRight];

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Difference::Changed => "changed",
            Difference::OnlyLeft => "only left",
            Difference::OnlyRight => "only right",
        }
    }

    /// Its sign, as it stands beside a row or a name.
    pub fn sign(self) -> char {
        match self {
            Difference::Changed => '≠',
            Difference::OnlyLeft => '◂',
            Difference::OnlyRight => '▸',
        }
    }
}

#[cfg(test)]
mod tests;
