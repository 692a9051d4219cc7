//! Slips on disk: each is written with every draft, so that none is lost.

use std::path::{Path, PathBuf};
use std::{fs, io};

use sha2::{Digest, Sha256};

use super::Slip;

/// The folder of slips.
#[derive(Debug, Clone)]
pub struct Store {
    folder: PathBuf,
}

/// A slip that was found on disk.
#[derive(Debug)]
pub struct Kept {
    /// Its file.
    pub path: PathBuf,
    /// It, or why it cannot be read.
    pub slip: Result<Slip, String>,
}

impl Store {
    /// Slips in this folder, which need not exist.
    pub fn new(folder: PathBuf) -> Store {
        Store { folder }
    }

    /// The file of a slip: one for each table of a result.
    pub fn path_of(&self, slip: &Slip) -> PathBuf {
        let mut digest = Sha256::new();
        let table = format!("{}.{}", slip.ground.table.schema, slip.ground.table.name);
        let back = slip.takes_back.map(|number| number.to_string()).unwrap_or_default();
        let archive = slip.archive.to_string_lossy();
        for part in [&slip.connection, &slip.database, &*archive, &table, &back] {
            digest.update((part.len() as u64).to_le_bytes());
            digest.update(part.as_bytes());
        }
        let digits: String = digest.finalize().iter().take(12).map(|byte| format!("{byte:02x}")).collect();
        self.folder.join(format!("{digits}.json"))
    }

    /// Writes a slip, whole or not at all; one without drafts is removed.
    pub fn save(&self, slip: &Slip) -> io::Result<()> {
        if slip.is_empty() {
            return self.remove(slip);
        }
        crate::files::private_folder(&self.folder)?;
        let text = serde_json::to_vec_pretty(slip).map_err(io::Error::other)?;
        crate::files::replace(&self.path_of(slip), &text)
    }

    /// Removes a slip.
    pub fn remove(&self, slip: &Slip) -> io::Result<()> {
        match fs::remove_file(self.path_of(slip)) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }

    /// All slips, the latest first. One that cannot be read stays where it is, and is told.
    pub fn all(&self) -> Vec<Kept> {
        let files = fs::read_dir(&self.folder).into_iter().flatten().flatten().map(|entry| entry.path());
        let mut found: Vec<_> = files.filter(|path| path.extension().is_some_and(|ending| ending == "json")).collect();
        let age = |path: &PathBuf| fs::metadata(path).and_then(|data| data.modified()).ok();
        found.sort_by_key(|path| std::cmp::Reverse(age(path)));
        found.into_iter().map(|path| Kept { slip: read(&path), path }).collect()
    }
}

fn read(path: &Path) -> Result<Slip, String> {
    let text = fs::read(path).map_err(|error| error.to_string())?;
    let slip: Slip = serde_json::from_slice(&text).map_err(|error| error.to_string())?;
    let fields = slip.ground.fields.len();
    let fits = |at: &usize| *at < fields;
    let whole = slip.ground.place.as_ref().is_none_or(|place| place.parts.len() == fields)
        && slip.ground.key.iter().all(fits)
        && slip.ground.unique.iter().flatten().all(fits)
        && slip.drafts.iter().all(|d| d.new.keys().all(fits) && (d.old.is_empty() || d.old.len() == fields));
    if whole { Ok(slip) } else { Err("it names columns that it does not have".into()) }
}
