//! The demonstration's world as documents: a file of JSON lines for each collection.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufWriter, Write as _};
use std::path::Path;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use rusqlite::functions::FunctionFlags;
use rusqlite::{Connection, OpenFlags};

use super::LayError;

const COLLECTIONS: &str = include_str!("documents.sql");

/// Makes a folder with the documents of a database, under its name only when it is whole.
pub fn make(database: &Path, folder: &Path) -> Result<(), LayError> {
    let beside = folder.with_extension("part");
    if beside.exists() {
        std::fs::remove_dir_all(&beside)?;
    }
    std::fs::create_dir_all(&beside)?;
    let from = Connection::open_with_flags(database, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
    from.create_scalar_function("base64", 1, FunctionFlags::SQLITE_DETERMINISTIC, |context| {
        Ok(STANDARD.encode(context.get_raw(0).as_blob()?))
    })?;
    let mut files: BTreeMap<String, BufWriter<File>> = BTreeMap::new();
    let mut statement = from.prepare(COLLECTIONS)?;
    let mut rows = statement.query([])?;
    while let Some(row) = rows.next()? {
        let (collection, document): (String, String) = (row.get(0)?, row.get(1)?);
        let file = match files.entry(collection) {
            std::collections::btree_map::Entry::Occupied(file) => file.into_mut(),
            std::collections::btree_map::Entry::Vacant(place) => {
                let name = beside.join(format!("{}.jsonl", place.key()));
                place.insert(BufWriter::new(File::create(name)?))
            }
        };
        writeln!(file, "{document}")?;
    }
    for (_, file) in files {
        file.into_inner().map_err(std::io::IntoInnerError::into_error)?.sync_all()?;
    }
    let indexes = "{\"key\": {\"departs_at\": 1}}\n{\"key\": {\"route.from\": 1, \"departs_at\": 1}}\n";
    std::fs::write(beside.join("sailings.indexes.jsonl"), indexes)?;
    std::fs::rename(&beside, folder)?;
    Ok(())
}
