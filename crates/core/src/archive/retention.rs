//! Keeping the folder of archives within a size.

use std::collections::HashSet;
use std::fmt;
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

/// How the names of files end that hold the rows of an opened column: they can be made again.
pub const PARTS: &str = "parts";

/// After so long such a file belongs to nobody.
const LEFT_BEHIND: Duration = Duration::from_secs(24 * 60 * 60);

/// How much may be kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Retention {
    /// The most bytes that all archives may take together.
    pub bytes: u64,
}

impl fmt::Display for Retention {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.bytes {
            bytes if bytes >= 1 << 30 => write!(f, "{} GiB", bytes >> 30),
            bytes => write!(f, "{} MiB", bytes >> 20),
        }
    }
}

/// What was removed, and what is left.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Swept {
    /// The archives that are gone.
    pub removed: Vec<PathBuf>,
    /// The bytes of those that are left.
    pub left: u64,
}

impl Default for Retention {
    fn default() -> Self {
        Retention { bytes: 8 << 30 }
    }
}

/// Removes the oldest archives until the rest is within the limit. Those `in_use` stay, also where that is
/// more.
pub fn keep_within(folder: &Path, retention: Retention, in_use: &HashSet<PathBuf>) -> io::Result<Swept> {
    let mut files: Vec<(SystemTime, u64, PathBuf)> = Vec::new();
    let entries = match std::fs::read_dir(folder) {
        Ok(entries) => entries,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Swept::default()),
        Err(error) => return Err(error),
    };
    for entry in entries {
        let entry = entry?;
        let data = entry.metadata()?;
        if !data.is_file() {
            continue;
        }
        let (path, modified) = (entry.path(), data.modified()?);
        // Whoever opened a column removes what came of it; one that was killed did not.
        let is_left_behind = path.extension().is_some_and(|ending| ending == PARTS)
            && modified.elapsed().is_ok_and(|age| age > LEFT_BEHIND);
        match is_left_behind {
            true => drop(std::fs::remove_file(&path)),
            false => files.push((modified, data.len(), path)),
        }
    }
    files.sort();
    let mut swept = Swept { removed: Vec::new(), left: files.iter().map(|(_, size, _)| size).sum() };
    for (_, size, path) in files {
        if swept.left <= retention.bytes {
            break;
        }
        if !in_use.contains(&path) {
            match std::fs::remove_file(&path) {
                // Another instance was quicker.
                Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
                _ => {}
            }
            swept.left -= size;
            swept.removed.push(path);
        }
    }
    Ok(swept)
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
            file.set_modified(SystemTime::now() - Duration::from_secs(age)).unwrap();
        }
        let in_use = HashSet::from([path("oldest")]);
        let swept = |bytes| keep_within(folder.path(), Retention { bytes }, &in_use).unwrap();
        assert_eq!(swept(3000), Swept { removed: vec![], left: 3000 });
        assert_eq!(swept(2999), Swept { removed: vec![path("old")], left: 2000 });
        assert_eq!(swept(0), Swept { removed: vec![path("new")], left: 1000 });
        assert!(path("oldest").exists());
    }

    #[test]
    fn opened_columns_of_yesterday_are_removed() {
        let folder = tempfile::tempdir().unwrap();
        let path = |name: &str| folder.path().join(name);
        for (hours, name) in [(1, "new.parts"), (30, "old.parts"), (30, "old.arrow")] {
            let file = std::fs::File::create(path(name)).unwrap();
            file.set_modified(SystemTime::now() - Duration::from_secs(hours * 3600)).unwrap();
        }
        keep_within(folder.path(), Retention::default(), &HashSet::new()).unwrap();
        let left = |name: &str| path(name).exists();
        assert_eq!((left("new.parts"), left("old.parts"), left("old.arrow")), (true, false, true));
    }
}
