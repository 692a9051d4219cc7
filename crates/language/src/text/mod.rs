//! Text in no language: made harmless for a terminal ([`clean`]), measured and wrapped ([`wrap`]), moved through
//! ([`motion`]), searched ([`search`]) and cut into words ([`words`]).

pub mod clean;
pub mod motion;
pub mod moved;
pub mod numbers;
pub mod search;
pub mod words;
pub mod wrap;

/// A text as the rope that lexers and splitters read.
pub fn rope(text: &str) -> ropey::Rope {
    ropey::Rope::from_str(text)
}
