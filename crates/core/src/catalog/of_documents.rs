//! Statements of collections, whose fields are known by a sample.

use jaunty_language::dialect::documents::statement::{key, name};
use jaunty_language::edit::snippet::{escaped, unfilled_place};
use jaunty_seam::catalog::Object;

use super::templates::{COLUMNS, DEFINITION, NAME, ROWS, Template};

/// In the order in which they are offered.
pub(super) static TEMPLATES: &[Template] = &[
    NAME,
    ROWS,
    Template { title: "count", make: |of, _, _| Some(count(of)) },
    Template { title: "rows by column", make: |of, _, _| rows_by_field(of) },
    COLUMNS,
    Template { title: "insert", make: |of, _, _| insert(of) },
    Template { title: "update by key", make: |of, _, _| update(of) },
    Template { title: "delete by key", make: |of, _, _| Some(delete(of)) },
    DEFINITION,
    Template { title: "new index", make: |of, _, _| Some(index(of)) },
];

/// How many documents there are.
fn count(of: &Object) -> String {
    format!("{} count", escaped(&name(&of.name)))
}

/// The fields of the outermost level: those inside others come with them.
fn fields(of: &Object) -> impl Iterator<Item = &str> {
    of.columns.iter().map(|column| column.name.as_str()).filter(|name| !name.contains('.'))
}

/// Documents with the fields that are known.
fn rows_by_field(of: &Object) -> Option<String> {
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
fn insert(of: &Object) -> Option<String> {
    let places = places(of, 1);
    (!places.is_empty()).then(|| format!("{} insert {{ {} }}", escaped(&name(&of.name)), places.join(", ")))
}

/// The change of one document.
fn update(of: &Object) -> Option<String> {
    let places = places(of, 2);
    let by = unfilled_place(1, "_id");
    let set = places.join(", ");
    (!places.is_empty())
        .then(|| format!("{} update {{ _id: {by} }} {{ \\$set: {{ {set} }} }}", escaped(&name(&of.name))))
}

/// The removal of one document.
fn delete(of: &Object) -> String {
    format!("{} delete {{ _id: {} }}", escaped(&name(&of.name)), unfilled_place(1, "_id"))
}

/// A new index.
fn index(of: &Object) -> String {
    let field = fields(of).find(|field| *field != "_id").unwrap_or("field");
    format!("{} index {{ ${{1:{}}}: 1 }}", escaped(&name(&of.name)), escaped(&key(field)))
}
