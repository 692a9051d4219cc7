//! A slip of what differs between two results: sent, it makes the rows of the left as those of the right are.

use std::collections::BTreeMap;

use super::Difference;
use super::rows::{Comparison, Differing, Shown};
use crate::arrange::Progress;
use crate::slip::{Datum, Draft, Ground, Kind, Row, What};
use jaunty_language::dialect::Dialect;
use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::shape::words;

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

/// The word by which a statement takes only some of the rows that it is about, where its result may have been cut by it: a
/// row that is missing then may be there all the same. None where there is none, or where `rows`, which it gave, are fewer
/// than the number that it names.
pub fn cut_by(statement: &str, rows: u64, dialect: &'static Dialect) -> Option<&'static str> {
    let all = words(statement, dialect, 0);
    let at = |word: &str| all.iter().position(|found| found.is(word));
    if let Some(place) = at("LIMIT") {
        let most = all
            .get(place + 1)
            .filter(|word| word.kind == TokenKind::Number)
            .and_then(|word| word.text.parse::<u64>().ok());
        // Another number after a comma, or after `OFFSET`, leaves rows out at the beginning.
        let only = all.iter().filter(|word| word.is("LIMIT")).count() == 1
            && at("OFFSET").is_none()
            && !all.get(place + 2).is_some_and(|word| word.sign(b','));
        return (!only || most.is_none_or(|most| rows >= most)).then_some("limit");
    }
    let others = [
        ("TOP", "top"),
        ("FETCH", "fetch"),
        ("OFFSET", "offset"),
        ("TABLESAMPLE", "tablesample"),
        ("ROWNUM", "rownum"),
    ];
    others.into_iter().find(|(word, _)| at(word).is_some()).map(|(_, said)| said)
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
        (Datum::Bool(value), Kind::Integer(..) | Kind::Decimal(_) | Kind::Real | Kind::Bits(_) | Kind::Flag) => {
            Datum::Number(u8::from(*value).to_string())
        }
        (Datum::Number(text), Kind::Boolean) if matches!(text.as_str(), "0" | "1") => Datum::Bool(text == "1"),
        (Datum::Number(text), Kind::Text(_)) => Datum::Text(text.clone()),
        (value, _) => value.clone(),
    }
}
