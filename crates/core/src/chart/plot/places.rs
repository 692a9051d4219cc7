//! Places of a chart that can be gone to, with what they show, and the rows that they are made of.

use crate::chart::choose::Plan;
use crate::chart::column::Nature;
use crate::chart::scale;
use crate::chart::steps;

/// A place.
#[derive(Debug, Clone, PartialEq)]
pub struct Place {
    /// Where it is in the picture: from side to side, and from top to bottom.
    pub at: (f32, f32),
    /// Whether it is one of several below each other, and not beside each other.
    pub lies: bool,
    /// The small chart that it is in.
    pub part: usize,
    /// What it is.
    pub name: String,
    /// What each series has there.
    pub values: Vec<(String, String)>,
    /// The rows that it is made of, where they can be told.
    pub rows: Option<Rows>,
}

/// Rows by a condition on a column for each.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rows {
    /// A column, and what its values fulfil, as a person writes it.
    pub conditions: Vec<(usize, String)>,
}

/// A word as it stands in a condition.
fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

impl Rows {
    /// Those whose value along the bottom is this word.
    pub fn named(plan: &Plan, name: &str) -> Option<Rows> {
        let condition = if name.is_empty() { "null".to_owned() } else { format!("= {}", quoted(name)) };
        Some(Rows { conditions: vec![(plan.x.or(plan.by)?, condition)] })
    }

    /// Those whose value in a column lies from the one up to the other, which belongs to them or not.
    pub fn between(column: usize, nature: Nature, from: f64, to: f64, closed: bool) -> Rows {
        let written = |value: f64| match nature {
            Nature::Time => quoted(&steps::written(value)),
            _ => format!("{value}"),
        };
        let upper = if closed { "<=" } else { "<" };
        Rows {
            conditions: vec![(column, format!(">= {}", written(from))), (column, format!("{upper} {}", written(to)))],
        }
    }
}

/// A value in words, with its unit where it has one.
pub(super) fn value(value: f64, share: bool) -> String {
    match share {
        true => format!("{} %", scale::number(value, 1)),
        false => scale::short(value),
    }
}
