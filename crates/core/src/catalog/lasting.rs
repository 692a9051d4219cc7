//! Which objects a database is made of: those that a statement can make again.

use jaunty_seam::catalog::{Catalog, Object, ObjectKind};

/// The objects of a database, without those that pass with the session and those that others are made of. Where a schema
/// is a database of its own, only those of the one at hand.
pub fn lasting(catalog: &Catalog, schemas_are_databases: bool) -> Vec<&Object> {
    let first = catalog.path.iter().find(|schema| !passes(schema)).map(String::as_str).unwrap_or_default();
    let makers: Vec<&Object> =
        catalog.objects().iter().filter(|object| object.kind == ObjectKind::VirtualTable).collect();
    let made_of = |object: &Object| {
        makers.iter().any(|maker| {
            maker.schema == object.schema
                && object.name.starts_with(&format!("{}_", maker.name))
                && maker.name != object.name
        })
    };
    let of_schema = |object: &&Object| !passes(&object.schema) && (!schemas_are_databases || object.schema == first);
    let all = catalog.objects().iter().filter(of_schema);
    all.filter(|object| !(object.kind == ObjectKind::Table && made_of(object))).collect()
}

fn passes(schema: &str) -> bool {
    schema == "temp" || schema.starts_with("pg_temp")
}

/// Views after those that they read.
pub fn in_order(mut left: Vec<&Object>) -> Vec<&Object> {
    let mut ordered = Vec::with_capacity(left.len());
    while !left.is_empty() {
        let is_free = |view: &&Object| {
            !left.iter().any(|other| view.uses.contains(&other.to_name()) && other.to_name() != view.to_name())
        };
        let next = left.iter().position(is_free).unwrap_or(0);
        ordered.push(left.remove(next));
    }
    ordered
}

/// Whether a sequence is that of a column that the server numbers, whose definition makes it.
pub fn belongs_to_a_column(sequence: &Object, catalog: &Catalog) -> bool {
    let tables = catalog.objects().iter().filter(|o| o.kind == ObjectKind::Table && o.schema == sequence.schema);
    let mut columns = tables.flat_map(|table| table.columns.iter().map(move |column| (table, column)));
    columns
        .any(|(table, column)| column.is_numbered() && sequence.name == format!("{}_{}_seq", table.name, column.name))
}
