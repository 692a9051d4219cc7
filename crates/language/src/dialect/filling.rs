//! What rows that are loaded become where there are no tables, and a name alone does not say it.

use super::Takes;

/// What each row becomes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Filling {
    /// Where the rows go, as the engine is told ([`super::Elements::filling`] reads it again as the same).
    pub written: String,
    /// What a row is there, in a word of the language's own: `hash`, `member with a score`.
    pub element: &'static str,
    /// How many columns of the key have a place in the name.
    pub places: usize,
    /// Columns that have a meaning of their own by their name.
    pub own: &'static [Own],
    /// Whether all that remains is one value, and not any number of fields.
    pub one_value: bool,
    /// Whether one that is there already can be left as it is, or be replaced: others are always new.
    pub meets: bool,
}

/// A column that has a meaning of its own.
#[derive(Debug, PartialEq, Eq)]
pub struct Own {
    /// Its name.
    pub name: &'static str,
    /// What its values are.
    pub takes: Takes,
    /// Whether nothing goes without it.
    pub is_needed: bool,
}
