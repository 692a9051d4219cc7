//! A document database as statements of its language: each collection with its options, its documents whole and in
//! their own order of fields, its indexes; views last. Each collection is as it was when it was read: there is no state of
//! all of them.

use std::io::Write;

use arrow_array::RecordBatch;
use arrow_schema::Schema;
use jaunty_language::dialect::Dialect;
use jaunty_seam::catalog::{Object, ObjectKind};
use jaunty_seam::engine::{Session, Stop};
use jaunty_seam::rows::cell::ColumnReader;

use super::rows::write_rows;
use super::{DumpError, Dumped, Wanted};
use crate::catalog::{read_whole, script, templates};
use crate::export::{ExportError, Exporter};

/// So many documents are in a statement, or so many bytes.
const DOCUMENTS: usize = 500;
const BYTES: usize = 1 << 20;

/// Writes a database, or some of its collections, into `out`.
pub(super) fn dump(
    session: &mut dyn Session,
    dialect: &'static Dialect,
    wanted: &Wanted,
    (out, stop): (&mut (dyn Write + Send), &Stop),
    told: &mut (dyn FnMut(u64) + Send),
) -> Result<Dumped, DumpError> {
    let catalog = read_whole(session, stop).map_err(DumpError::Server)?;
    let mut dumped = Dumped::default();
    let chosen = |object: &&Object| wanted.names.is_empty() || wanted.names.contains(&object.to_name());
    let (views, collections): (Vec<&Object>, Vec<&Object>) =
        catalog.objects().iter().filter(chosen).partition(|object| object.kind == ObjectKind::View);
    for object in collections.into_iter().chain(views) {
        let name = templates::name(object, &catalog, dialect);
        let definition = session.definition(object, stop).map_err(DumpError::Server)?.unwrap_or_default();
        // What makes it stands first, and then its indexes, which are made of what is there.
        let mut statements = definition.split("\n\n");
        let mut put = |statement: &str| writeln!(out, "{}", script::ended(statement, dialect));
        if !wanted.only_rows {
            statements.by_ref().take(1).try_for_each(&mut put)?;
            dumped.objects += 1;
        }
        if !wanted.only_structure && object.kind != ObjectKind::View {
            let query = format!("{name} | replaceRoot {{ newRoot: {{ document: \"$$ROOT\" }} }}");
            let inserts = Box::new(Inserts { collection: name, documents: 0, bytes: 0 });
            dumped.rows += write_rows((session, &query), (out, stop), inserts, dumped.rows, told)?;
        }
        if !wanted.only_rows {
            statements.try_for_each(|statement| writeln!(out, "{}", script::ended(statement, dialect)))?;
        }
    }
    Ok(dumped)
}

/// Writes rows of one document each as statements that insert them.
struct Inserts {
    collection: String,
    /// In the statement that is being written.
    documents: usize,
    bytes: usize,
}

impl Exporter for Inserts {
    fn columns(&mut self, _: &Schema, _: &mut dyn Write) -> Result<(), ExportError> {
        Ok(())
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        let columns = ColumnReader::all(batch);
        let Some(documents) = columns.first() else { return Ok(()) };
        for row in 0..batch.num_rows() {
            let text = documents.get(row).text;
            match self.documents {
                0 => write!(out, "{} insert [\n{text}", self.collection)?,
                _ => write!(out, ",\n{text}")?,
            }
            self.documents += 1;
            self.bytes += text.len();
            if self.documents == DOCUMENTS || self.bytes >= BYTES {
                self.finish(out)?;
            }
        }
        Ok(())
    }

    fn finish(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        if std::mem::take(&mut self.documents) > 0 {
            out.write_all(b"\n];\n")?;
        }
        self.bytes = 0;
        Ok(())
    }
}
