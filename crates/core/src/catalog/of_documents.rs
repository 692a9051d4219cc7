//! Statements of collections, whose fields are known by a sample.

use jaunty_language::dialect::documents::statement::{key, name};
use jaunty_language::edit::snippet::{escaped, unfilled_place};
use jaunty_seam::catalog::{Column, Object};

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
    Template { title: "new index", make: |of, _, _| Some(index(of, &["1"], "")) },
    Template { title: "compound index", make: |of, _, _| Some(index(of, &["1", "-1"], "")) },
    Template { title: "unique index", make: |of, _, _| Some(index(of, &["1"], " { unique: true }")) },
    Template { title: "partial index", make: |of, _, _| Some(index(of, &["1"], &only_some(of))) },
    Template { title: "TTL index", make: |of, _, _| index_of(of, is_date, "1", " { expireAfterSeconds: ${2:86400} }") },
    Template { title: "text index", make: |of, _, _| index_of(of, is_text, "\"text\"", "") },
    Template { title: "geospatial index", make: |of, _, _| index_of(of, is_place, "\"2dsphere\"", "") },
    Template { title: "hashed index", make: |of, _, _| Some(index(of, &["\"hashed\""], "")) },
    Template {
        title: "wildcard index",
        make: |of, _, _| Some(format!("{} index {{ \"\\$**\": 1 }}", escaped(&name(&of.name)))),
    },
    Template { title: "validator", make: |of, _, _| validator(of) },
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

/// An index of the first fields, each in a way.
fn index(of: &Object, ways: &[&str], options: &str) -> String {
    let mut all = fields(of).filter(|field| *field != "_id");
    let key =
        |(at, way): (usize, &&str)| format!("${{{}:{}}}: {way}", at + 1, escaped(&key(all.next().unwrap_or("field"))));
    let keys: Vec<String> = ways.iter().enumerate().map(key).collect();
    format!("{} index {{ {} }}{options}", escaped(&name(&of.name)), keys.join(", "))
}

/// An index of the first field of a kind, if there is one.
fn index_of(of: &Object, is_such: fn(&Object, &Column) -> bool, way: &str, options: &str) -> Option<String> {
    let field = of.columns.iter().find(|column| is_such(of, column))?;
    Some(format!("{} index {{ ${{1:{}}}: {way} }}{options}", escaped(&name(&of.name)), escaped(&key(&field.name))))
}

fn has_type(column: &Column, wanted: &str) -> bool {
    column.db_type.split(" | ").any(|own| own == wanted)
}

fn is_date(_: &Object, column: &Column) -> bool {
    has_type(column, "date")
}

fn is_text(_: &Object, column: &Column) -> bool {
    has_type(column, "string")
}

/// GeoJSON has a type and coordinates.
fn is_place(of: &Object, column: &Column) -> bool {
    let has = |part: &str| of.columns.iter().any(|other| other.name == format!("{}.{part}", column.name));
    has("type") && has("coordinates")
}

/// What leaves out the documents that have no such field.
fn only_some(of: &Object) -> String {
    let field = fields(of).find(|field| *field != "_id").unwrap_or("field");
    format!(" {{ partialFilterExpression: {{ ${{2:{}: {{ \\$exists: true }}}} }} }}", escaped(&key(field)))
}

/// A validator that wants what the sample has: fields that are in every document, and the types that they were of.
fn validator(of: &Object) -> Option<String> {
    let own = || of.columns.iter().filter(|column| !column.name.contains('.') && column.name != "_id");
    let always: Vec<String> = own()
        .filter(|column| !column.comment.starts_with("in ") && !has_type(column, "null"))
        .map(|column| format!("\"{}\"", escaped(&column.name.replace('"', "\\\""))))
        .collect();
    let property = |column: &Column| {
        let types: Vec<String> = column.db_type.split(" | ").map(|own| format!("\"{own}\"")).collect();
        let types = if types.len() == 1 { types.concat() } else { format!("[{}]", types.join(", ")) };
        format!("      {}: {{ bsonType: {types} }}", escaped(&key(&column.name)))
    };
    let properties: Vec<String> = own().map(property).collect();
    (!properties.is_empty()).then(|| {
        format!(
            "{{\n  collMod: {},\n  validator: {{ \\$jsonSchema: {{\n    required: [{}],\n    properties: {{\n{}\n    }}\n  }} }},\n  validationAction: \"${{1:error}}\"\n}}",
            escaped(&format!("\"{}\"", of.name.replace('"', "\\\""))),
            always.join(", "),
            properties.join(",\n")
        )
    })
}
