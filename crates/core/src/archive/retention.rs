//! Keeping the folder of archives within a size.

use std::collections::HashSet;
use std::io;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

/// How much may be kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Retention {
    /// The most bytes that all archives may take together.
    pub bytes: u64,
}

impl Default for Retention {
    fn default() -> Self {
        Retention { bytes: 8 << 30 }
    }
}

/// Removes the oldest archives until the rest is within the limit. Those `in_use` stay. Returns
/// what was removed.
pub fn keep_within(folder: &Path, retention: Retention, in_use: &HashSet<PathBuf>) -> io::Result<Vec<PathBuf>> {
    let mut files: Vec<(SystemTime, u64, PathBuf)> = Vec::new();
    let entries = match std::fs::read_dir(folder) {
        Ok(entries) => entries,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(error),
    };
    for entry in entries {
        let entry = entry?;
        let data = entry.metadata()?;
        if data.is_file() {
            files.push((data.modified()?, data.len(), entry.path()));
        }
    }
    files.sort();
    let mut total: u64 = files.iter().map(|(_, size, _)| size).sum();
    let mut removed = Vec::new();
    for (_, size, path) in files {
        if total <= retention.bytes {
            break;
        }
        if !in_use.contains(&path) {
            std::fs::remove_file(&path)?;
            total -= size;
            removed.push(path);
        }
    }
    Ok(removed)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_oldest_go_first_and_what_is_used_stays() {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(name);
        for (age, name) in [(9, "oldest"), (6, "old"), (3, "new")] {
            let file = std::fs::File::create(path(name)).unwrap();
            file.set_len(1000).unwrap();
            file.set_modified(SystemTime::now() - std::time::Duration::from_secs(age)).unwrap();
        }
        let in_use = HashSet::from([path("oldest")]);
        assert!(keep_within(folder.path(), Retention { bytes: 3000 }, &in_use).unwrap().is_empty());
        assert_eq!(keep_within(folder.path(), Retention { bytes: 2999 }, &in_use).unwrap(), [path("old")]);
        assert_eq!(keep_within(folder.path(), Retention { bytes: 0 }, &in_use).unwrap(), [path("new")]);
        assert!(path("oldest").exists());
    }
}
