//! Drawings of schemas: tables as boxes with their columns, foreign keys as lines from column to column. [`layout`] places
//! them, [`paint`] makes a scene or the cells of a terminal of it. [`plan`] draws the plans of statements.

pub mod layout;
pub mod paint;
pub mod plan;
pub mod save;

use std::collections::{HashMap, VecDeque};

use jaunty_language::text::clean::clean;
use jaunty_seam::catalog::{Catalog, Name, Object, ObjectKind, Rule};

/// The most columns of a table that are shown; those of keys always are.
const MOST_ROWS: usize = 16;

/// A column of a box.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// Its name.
    pub name: String,
    /// Its type.
    pub type_name: String,
    /// Whether it belongs to the primary key.
    pub key: bool,
    /// Whether it references another table.
    pub references: bool,
}

/// A foreign key, from a row of one box to a row of another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Edge {
    /// The row that references.
    pub from: usize,
    /// The box that is referenced.
    pub to: usize,
    /// Its row.
    pub to_row: usize,
    /// Whether several rows may reference the same one.
    pub many: bool,
    /// Whether a row may reference none.
    pub optional: bool,
}

/// A table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Table {
    /// Its name in the catalog.
    pub name: Name,
    /// What it is called in the drawing.
    pub title: String,
    /// Its columns.
    pub rows: Vec<Row>,
    /// Its foreign keys to tables of the drawing.
    pub edges: Vec<Edge>,
}

/// Which tables are drawn.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Chosen {
    /// All of a schema.
    Schema(String),
    /// One, and those that it is connected with by at most so many keys.
    Around(Name, usize),
}

/// The objects that are drawn, by their places in the catalog.
fn chosen<'a>(catalog: &'a Catalog, which: &Chosen) -> Vec<&'a Object> {
    let is_table = |object: &&Object| matches!(object.kind, ObjectKind::Table | ObjectKind::ForeignTable);
    match which {
        Chosen::Schema(schema) => {
            let mut all: Vec<&Object> =
                catalog.objects().iter().filter(is_table).filter(|o| o.schema == *schema).collect();
            all.sort_by(|a, b| a.name.cmp(&b.name));
            all
        }
        Chosen::Around(name, depth) => {
            let mut found: Vec<&Object> = Vec::new();
            let mut next: VecDeque<(&Object, usize)> =
                catalog.relation(name).into_iter().map(|object| (object, 0)).collect();
            while let Some((object, far)) = next.pop_front() {
                if found.iter().any(|known| known.schema == object.schema && known.name == object.name) {
                    continue;
                }
                found.push(object);
                if far < *depth {
                    let to = object.references().filter_map(|(_, to, _)| catalog.relation(to));
                    next.extend(to.chain(catalog.pointing_at(&object.to_name())).map(|object| (object, far + 1)));
                }
            }
            found
        }
    }
}

/// The tables of a drawing, with the keys between them.
pub fn tables(catalog: &Catalog, which: &Chosen) -> Vec<Table> {
    let objects = chosen(catalog, which);
    let at: HashMap<Name, usize> = objects.iter().enumerate().map(|(at, object)| (object.to_name(), at)).collect();
    let several =
        objects.iter().any(|object| object.schema != objects.first().map_or("", |first| first.schema.as_str()));
    let mut tables: Vec<Table> = objects
        .iter()
        .map(|object| {
            let referencing =
                |column: &str| object.references().any(|(ours, ..)| ours.iter().any(|name| name == column));
            let referenced = |column: &str| {
                let name = object.to_name();
                objects.iter().any(|other| {
                    other.references().any(|(_, to, theirs)| *to == name && theirs.iter().any(|name| name == column))
                })
            };
            let mut rows: Vec<Row> = object
                .columns
                .iter()
                .map(|column| Row {
                    name: clean(&column.name).into_owned(),
                    type_name: clean(&column.db_type).into_owned(),
                    key: column.key || object.primary_key().contains(&column.name.as_str()),
                    references: referencing(&column.name),
                })
                .collect();
            if rows.len() > MOST_ROWS {
                let shown = rows.len();
                let mut left = MOST_ROWS;
                rows.retain(|row| {
                    let keep = row.key || row.references || referenced(&row.name) || left > 0;
                    left = left.saturating_sub(usize::from(keep));
                    keep
                });
                if shown > rows.len() {
                    let name = format!("… {} more", shown - rows.len());
                    rows.push(Row { name, type_name: String::new(), key: false, references: false });
                }
            }
            let title = if several { format!("{}.{}", object.schema, object.name) } else { object.name.clone() };
            Table { name: object.to_name(), title: clean(&title).into_owned(), rows, edges: Vec::new() }
        })
        .collect();
    for (from, object) in objects.iter().enumerate() {
        for (ours, to, theirs) in object.references() {
            let Some(to) = at.get(to).copied() else { continue };
            let row = |table: usize, name: Option<&String>| {
                let name = name.map(|name| clean(name).into_owned()).unwrap_or_default();
                tables.get(table).and_then(|table: &Table| table.rows.iter().position(|row| row.name == name))
            };
            let target = theirs.first().cloned();
            let target = target.or_else(|| objects[to].primary_key().first().map(|name| (*name).to_owned()));
            let (Some(own), Some(other)) = (row(from, ours.first()), row(to, target.as_ref())) else { continue };
            let unique = object.constraints.iter().any(|constraint| {
                matches!(constraint.rule, Rule::Primary | Rule::Unique) && constraint.columns.as_slice() == ours
            });
            let optional = object.columns.iter().any(|column| ours.contains(&column.name) && column.nullable);
            tables[from].edges.push(Edge { from: own, to, to_row: other, many: !unique, optional });
        }
    }
    tables
}

#[cfg(test)]
mod tests;
