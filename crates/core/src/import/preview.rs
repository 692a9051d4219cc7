//! What would be loaded: looked at before anything is.

use std::path::Path;

use jaunty_language::dialect::{Dialect, Family};
use jaunty_language::statement::Written;
use jaunty_seam::catalog::{Catalog, Object, ObjectKind};

use super::fit::{Becoming, fitted};
use super::matching::NewColumns;
use super::refused::Bad;
use crate::connection::nearest;

use super::{Choices, ImportError, Matching, Source};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};

/// What a person says of a load, beside what the file is.
#[derive(Debug, Clone, Default)]
pub struct Into {
    /// The table, with its schema where that is needed.
    pub table: String,
    /// Which column of the file goes into which of the table; into none where that is empty.
    pub pairs: Vec<(String, String)>,
    /// The types of columns of the file, where the table is made and they are to be other than what the values look like.
    pub types: Vec<(String, String)>,
    /// The key, where the table is made.
    pub key: Vec<String>,
}

/// Rows that are shown.
const SHOWN: usize = 50;

/// Rows that do not fit, of which the reason is told.
const TOLD: usize = 20;

/// A file, where its rows would go, and whether they fit.
pub struct Preview {
    /// The file. Its rows are not given again.
    pub source: Source,
    /// Where its columns go, or why that is not known.
    pub matching: Result<Matching, ImportError>,
    /// The columns of the table, where it is there already.
    pub columns: Vec<String>,
    /// Its first rows.
    pub looked: Looked,
}

/// The first rows of a file.
#[derive(Debug, Clone, Default)]
pub struct Looked {
    /// As they stand in the file; nothing where a value is not there.
    pub rows: Vec<Vec<Option<String>>>,
    /// How many were looked at, those that are no rows of the file's columns among them.
    pub seen: u64,
    /// How many of those do not fit.
    pub misfits: u64,
    /// The first of them.
    pub bad: Vec<Bad>,
    /// How many values are not what their column's type says, where columns take anything.
    pub unusual: u64,
    /// The first of them: the line and what it is.
    pub first_unusual: Option<(u64, String)>,
    /// What is sent for the first row, where a statement a row is sent.
    pub example: Vec<String>,
}

impl std::fmt::Debug for Preview {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Preview").field("source", &self.source.path).field("misfits", &self.looked.misfits).finish()
    }
}

/// The table of a name, if it is there, and can take rows.
pub fn matching(
    source: &Source,
    into: &Into,
    catalog: &Catalog,
    dialect: &'static Dialect,
) -> Result<Matching, ImportError> {
    if let Some(filling) = dialect.elements.and_then(|elements| elements.filling(&into.table)) {
        if let Some((column, _)) = into.types.first() {
            return Err(ImportError::Mistake(format!("{column}: only a column of a table has a type")));
        }
        let filling = filling.map_err(ImportError::Mistake)?;
        return Matching::into_filling(&source.found, &filling, (&into.key, &into.pairs), dialect);
    }
    if into.table.trim().is_empty() {
        return Err(ImportError::Mistake("name the table".into()));
    }
    let known = relation(&into.table, catalog, dialect);
    if let Some((column, _)) = into.types.first().filter(|_| known.is_some() || dialect.changing.is_none()) {
        let what = format!("{column}: only a table that is made takes types; {} has its own", into.table);
        return Err(ImportError::Mistake(what));
    }
    match known {
        _ if dialect.changing.is_none() => {
            Matching::into_collection(&source.found, &into.table, (&into.key, &into.pairs), dialect)
        }
        Some(table) if table.kind == ObjectKind::Table => {
            Matching::into_table(&source.found, table, &into.pairs, catalog, dialect)
        }
        Some(other) => {
            let what = format!("{} is a {}: rows go into a table", into.table, other.kind.word());
            Err(ImportError::Mistake(what))
        }
        None => {
            let columns = NewColumns { key: &into.key, pairs: &into.pairs, types: &into.types };
            Matching::into_new(&source.found, &into.table, &columns, catalog, dialect)
        }
    }
}

/// The table, view or collection of a name that a person gives, with its schema where that is told: as it stands there first,
/// then as a statement would have it, then in any case where only one is meant. A dot in the name of a collection is a letter
/// like others.
pub fn relation<'a>(name: &str, catalog: &'a Catalog, dialect: &Dialect) -> Option<&'a Object> {
    let is_whole = dialect.family == Family::Documents;
    let parts = if is_whole { vec![name.to_owned()] } else { parts_of(name, dialect) };
    let path =
        |quoted: bool| -> Vec<Written> { parts.iter().map(|part| Written { text: part.clone(), quoted }).collect() };
    let found = catalog.relation_at(&path(true), dialect).or_else(|| catalog.relation_at(&path(false), dialect));
    let (schema, own) = match parts.as_slice() {
        [own] => (None, own),
        [schema, own] => (Some(schema), own),
        _ => return found,
    };
    found.or_else(|| {
        let mut alike = catalog.named(&own.to_lowercase()).filter(|object| {
            let is_there = match schema {
                Some(schema) => object.schema.to_lowercase() == schema.to_lowercase(),
                None => catalog.is_in_path(&object.schema),
            };
            is_there && object.kind.has_rows()
        });
        alike.next().filter(|_| alike.next().is_none())
    })
}

/// The parts of a name with dots between them; in quotes a dot is a letter like others.
pub fn parts_of(name: &str, dialect: &Dialect) -> Vec<String> {
    let [open, close] = dialect.name_quotes;
    let (mut parts, mut within) = (vec![String::new()], false);
    for c in name.chars() {
        match c {
            '.' if !within => parts.push(String::new()),
            c if c == '"' || c == if within { close } else { open } => within = !within,
            c => parts.last_mut().into_iter().for_each(|part| part.push(c)),
        }
    }
    parts
}

/// The table whose name is nearest to one that is not there, if it is near enough to be meant.
pub fn near<'a>(name: &str, catalog: &'a Catalog) -> Option<&'a str> {
    let tables = catalog.objects().iter().filter(|object| object.kind == ObjectKind::Table);
    nearest(name, tables.map(|object| object.name.as_str()))
}

/// Looks at a file, and at what would become of its first rows.
pub fn preview(
    path: &Path,
    choices: &Choices,
    into: &Into,
    catalog: &Catalog,
    dialect: &'static Dialect,
) -> Result<Preview, ImportError> {
    let mut source = Source::open(path, choices)?;
    let matching = matching(&source, into, catalog, dialect);
    let known = relation(&into.table, catalog, dialect);
    let columns = known.map_or_else(Vec::new, |table| table.columns.iter().map(|c| c.name.clone()).collect());
    let looked = look(&mut source, matching.as_ref().ok(), dialect)?;
    Ok(Preview { source, matching, columns, looked })
}

/// Looks at as many rows as were looked at to find out what they are, and says which do not fit.
pub fn look(
    source: &mut Source,
    matching: Option<&Matching>,
    dialect: &'static Dialect,
) -> Result<Looked, ImportError> {
    let names: Vec<String> = source.found.columns.iter().map(|column| column.name.clone()).collect();
    let (mut looked, mut all) = (Looked::default(), 0);
    // Those that are not rows at all are looked at, too, where there is nothing else.
    while all < source.found.rows || source.has_looked_ahead() {
        let Some(block) = source.next_block()? else { break };
        all += block.rows.num_rows() as u64;
        looked.seen += (block.rows.num_rows() + block.bad.len()) as u64;
        let readers = ColumnReader::all(&block.rows);
        for row in 0..block.rows.num_rows().min(SHOWN - looked.rows.len()) {
            let cell = |reader: &ColumnReader<'_>| {
                let cell = reader.get(row);
                (cell.kind != CellKind::Null).then(|| cell.text.into_owned())
            };
            looked.rows.push(readers.iter().map(cell).collect());
        }
        drop(readers);
        let bad = match matching {
            Some(matching) => {
                let fitted = fitted(block, matching, &names, dialect)?;
                if looked.example.is_empty() && fitted.rows.num_rows() > 0 {
                    let becoming = Becoming::of(matching, &fitted.rows, dialect);
                    looked.example = becoming.and_then(|becoming| becoming.statements(0).ok()).unwrap_or_default();
                }
                looked.unusual += fitted.unusual.0;
                looked.first_unusual = looked.first_unusual.or(fitted.unusual.1);
                fitted.bad
            }
            None => block.bad,
        };
        looked.misfits += bad.len() as u64;
        let room = TOLD - looked.bad.len();
        looked.bad.extend(bad.into_iter().take(room));
    }
    Ok(looked)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::{POSTGRES, SQLSERVER};

    #[test]
    fn a_table_is_found_as_people_give_its_name() {
        let mut catalog = Catalog::default();
        catalog.path = vec!["public".into()];
        for (schema, name) in
            [("public", "ports"), ("ops", "Vessels"), ("public", "Fares"), ("public", "fares"), ("ops", "a.b")]
        {
            catalog.object(schema, name, ObjectKind::Table);
        }
        catalog.complete();
        let found =
            |name: &str| relation(name, &catalog, &POSTGRES).map(|object| format!("{}/{}", object.schema, object.name));
        for (name, wanted) in [
            ("ports", Some("public/ports")),
            ("PORTS", Some("public/ports")),
            ("ops.vessels", Some("ops/Vessels")),
            ("ops.\"Vessels\"", Some("ops/Vessels")),
            ("Fares", Some("public/Fares")),
            ("fares", Some("public/fares")),
            ("FARES", Some("public/fares")),
            ("ops.\"a.b\"", Some("ops/a.b")),
            ("vessels", None),
            ("ops.ports", None),
            ("", None),
        ] {
            assert_eq!(found(name).as_deref(), wanted, "{name}");
        }
        assert_eq!(parts_of("[a b].\"c.d\".e", &SQLSERVER), ["a b", "c.d", "e"]);
    }
}
