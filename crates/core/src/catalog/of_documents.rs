//! Statements of collections, whose fields are known by a sample.

use jaunty_language::dialect::documents::statement::{key, name};
use jaunty_language::edit::snippet::{escaped, unfilled_place};
use jaunty_seam::catalog::Object;

/// How many documents there are.
pub(super) fn count(of: &Object) -> Option<String> {
    Some(format!("{} count", escaped(&name(&of.name))))
}

/// The fields of the outermost level: those inside others come with them.
fn fields(of: &Object) -> impl Iterator<Item = &str> {
    of.columns.iter().map(|column| column.name.as_str()).filter(|name| !name.contains('.'))
}

/// Documents with the fields that are known.
pub(super) fn rows_by_field(of: &Object) -> Option<String> {
    let all: Vec<_> = fields(of).map(|field| format!("{}: 1", escaped(&key(field)))).collect();
    (!all.is_empty()).then(|| format!("{}\n| project {{ {} }}", escaped(&name(&of.name)), all.join(", ")))
}

/// Each field with a place for its value, but for the key: from this number on.
fn places(of: &Object, from: usize) -> Vec<String> {
    let given = fields(of).filter(|field| *field != "_id");
    given
        .zip(from..)
        .map(|(field, number)| format!("{}: {}", escaped(&key(field)), unfilled_place(number, field)))
        .collect()
}

/// A new document.
pub(super) fn insert(of: &Object) -> Option<String> {
    let places = places(of, 1);
    (!places.is_empty()).then(|| format!("{} insert {{ {} }}", escaped(&name(&of.name)), places.join(", ")))
}

/// The change of one document.
pub(super) fn update(of: &Object) -> Option<String> {
    let places = places(of, 2);
    let by = unfilled_place(1, "_id");
    let set = places.join(", ");
    (!places.is_empty())
        .then(|| format!("{} update {{ _id: {by} }} {{ \\$set: {{ {set} }} }}", escaped(&name(&of.name))))
}

/// The removal of one document.
pub(super) fn delete(of: &Object) -> String {
    format!("{} delete {{ _id: {} }}", escaped(&name(&of.name)), unfilled_place(1, "_id"))
}

/// A new index.
pub(super) fn index(of: &Object) -> String {
    let field = fields(of).find(|field| *field != "_id").unwrap_or("field");
    format!("{} index {{ ${{1:{}}}: 1 }}", escaped(&name(&of.name)), escaped(&key(field)))
}
