//! Which objects a database is made of: those that a statement can make again.

use std::collections::HashMap;

use jaunty_seam::catalog::{Catalog, Name, Object, ObjectKind};

/// The objects of a database, without those that pass with the session and those that come with others. Where a schema
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
    let all = catalog.objects().iter().filter(of_schema).filter(|object| object.brought_by.is_empty());
    all.filter(|object| !(object.kind == ObjectKind::Table && made_of(object))).collect()
}

fn passes(schema: &str) -> bool {
    schema == "temp" || schema.starts_with("pg_temp")
}

/// Objects after those of them that they are made of, else in the order in which they stand.
pub fn in_order(objects: Vec<&Object>) -> Vec<&Object> {
    after_what_they_need(objects, |object| object.uses.iter().collect())
}

/// Tables after those that they are parts of, or take columns from.
pub fn parts_last(tables: Vec<&Object>) -> Vec<&Object> {
    after_what_they_need(tables, |table| table.parents().collect())
}

/// Whether an object needs a table or a view to be made.
pub fn needs_tables(object: &Object, catalog: &Catalog) -> bool {
    object.uses.iter().any(|name| catalog.relation(name).is_some())
}

fn after_what_they_need<'a>(
    objects: Vec<&'a Object>,
    needs_of: impl Fn(&'a Object) -> Vec<&'a Name>,
) -> Vec<&'a Object> {
    let mut places: HashMap<Name, Vec<usize>> = HashMap::new();
    for (at, object) in objects.iter().enumerate() {
        places.entry(object.to_name()).or_default().push(at);
    }
    let needs = objects.iter().map(|object| needs_of(object).into_iter().filter_map(|name| places.get(name)).flatten());
    let needs: Vec<Vec<usize>> = needs.map(|needs| needs.copied().collect()).collect();
    let (mut seen, mut ordered) = (vec![false; objects.len()], Vec::with_capacity(objects.len()));
    for first in 0..objects.len() {
        // One after the other down to what needs nothing that has not come; where they go around in a ring it is cut.
        let mut path = vec![(first, 0)];
        while let Some((at, next)) = path.pop() {
            if next == 0 && std::mem::replace(&mut seen[at], true) {
                continue;
            }
            match needs[at].get(next) {
                Some(need) => path.extend([(at, next + 1), (*need, 0)]),
                None => ordered.push(objects[at]),
            }
        }
    }
    ordered
}
