//! A slip of what differs between two results: sent, it makes the rows of the left as those of the right are.

use std::collections::BTreeMap;

use super::Difference;
use super::rows::{Comparison, Differing, Shown};
use crate::arrange::Progress;
use crate::slip::{Datum, Draft, Ground, Kind, Row, What};

/// Rows that are read at a time.
const AT_ONCE: usize = 1024;

/// Why there is no slip of what differs.
#[derive(Debug, thiserror::Error)]
pub enum Undrawn {
    /// The columns by which rows were compared are not the table's key.
    #[error("{table} is told apart by {key}: compare by that, and the statements are known")]
    OtherKey {
        /// The table.
        table: String,
        /// Its key.
        key: String,
    },
    /// The table has no key.
    #[error("{0} has no key: no statement would be sure to touch the one row that is meant")]
    NoKey(String),
    /// A key comes several times.
    #[error("the key comes several times ({0} rows): it is not known which row is which")]
    Repeated(u64),
    /// Reading failed, or a person stopped it.
    #[error(transparent)]
    Reading(#[from] super::rows::CompareError),
}

/// Drafts that make the rows of `ground`, which is that of the left, as those of the right are.
///
/// Columns that the right does not have stay as they are, and are left to the table's defaults in rows that are added.
pub fn drafts(comparison: &Comparison, ground: &Ground, progress: &Progress) -> Result<Vec<Draft>, Undrawn> {
    if ground.key.is_empty() {
        return Err(Undrawn::NoKey(ground.table.name.clone()));
    }
    let at_place = |place: usize| ground.field_at(place);
    let compared: Vec<Option<usize>> = comparison.columns.pairs.iter().map(|pair| at_place(pair.at[0])).collect();
    let keys = comparison.columns.pairs.iter().zip(&compared).filter(|(pair, _)| pair.key);
    let mut keys: Vec<usize> = keys.filter_map(|(_, field)| *field).collect();
    keys.sort_unstable();
    let mut key = ground.key.clone();
    key.sort_unstable();
    if keys != key {
        return Err(Undrawn::OtherKey { table: ground.table.name.clone(), key: ground.names(&ground.key) });
    }
    let repeated: u64 = comparison.repeated.iter().sum();
    if repeated > 0 {
        return Err(Undrawn::Repeated(repeated));
    }
    progress.expect(comparison.rows.len() as u64);
    let mut drafts = Vec::with_capacity(comparison.rows.len());
    for part in comparison.rows.chunks(AT_ONCE) {
        let shown = comparison.shown(part)?;
        drafts.extend(part.iter().zip(&shown).filter_map(|(row, shown)| draft(row, shown, ground, &compared)));
        progress.advance(part.len()).map_err(super::rows::CompareError::from)?;
    }
    Ok(drafts)
}

/// The draft of one row; none where nothing of it can be changed.
fn draft(row: &Differing, shown: &Shown, ground: &Ground, compared: &[Option<usize>]) -> Option<Draft> {
    let cells = || compared.iter().zip(&shown.cells).zip(&shown.differs);
    let mut old: Row = vec![None; ground.fields.len()];
    if row.left.is_some() {
        for ((field, [left, _]), _) in cells() {
            if let Some(field) = field {
                old[*field].clone_from(left);
            }
        }
    }
    let is_added = shown.what == Difference::OnlyRight;
    let mut new = BTreeMap::new();
    if shown.what != Difference::OnlyLeft {
        for ((field, [_, right]), differs) in cells() {
            let Some((field, value)) = field.zip(right.as_ref()) else { continue };
            let of = &ground.fields[field];
            if of.is_given() && (*differs || is_added) {
                new.insert(field, fitted(value, &of.kind));
            }
        }
    }
    let (what, old) = match shown.what {
        Difference::Changed => (What::Change, old),
        Difference::OnlyLeft => (What::Delete, old),
        Difference::OnlyRight => (What::Add, Row::new()),
    };
    let nothing = what != What::Delete && new.is_empty();
    (!nothing).then_some(Draft { what, row: row.left.map(u64::from), old, new })
}

/// A value of the other side as one of a column here.
fn fitted(value: &Datum, kind: &Kind) -> Datum {
    match (value, kind) {
        (Datum::Bool(value), Kind::Integer(..) | Kind::Decimal(_) | Kind::Real) => {
            Datum::Number(u8::from(*value).to_string())
        }
        (Datum::Number(text), Kind::Boolean) if matches!(text.as_str(), "0" | "1") => Datum::Bool(text == "1"),
        (Datum::Number(text), Kind::Text(_)) => Datum::Text(text.clone()),
        (value, _) => value.clone(),
    }
}
