//! The names by which buffers are found from outside of the screen: their connection and their file, as
//! `harbour/fares.sql`.

use std::path::{Path, PathBuf};

use super::files;
use crate::files::Folders;

/// A buffer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamedBuffer {
    /// Its name.
    pub name: String,
    /// Its file.
    pub path: PathBuf,
}

/// The folders that buffers lie in: the project's, where there is one, and the user's.
pub fn roots(folders: &Folders, project: Option<&Path>) -> Vec<PathBuf> {
    project.into_iter().chain([folders.data.as_path()]).map(|folder| folder.join("buffers")).collect()
}

/// All buffers with these endings below folders. One of an earlier folder hides one of the same name.
pub fn all(roots: &[PathBuf], endings: &[&str]) -> Vec<NamedBuffer> {
    let mut found: Vec<NamedBuffer> = Vec::new();
    for root in roots {
        for path in files(std::slice::from_ref(root), endings) {
            // A name that is not text could not be typed either.
            let Some(name) = path.strip_prefix(root).ok().and_then(Path::to_str).map(str::to_owned) else { continue };
            if !found.iter().any(|buffer| buffer.name == name) {
                found.push(NamedBuffer { name, path });
            }
        }
    }
    found.sort_by(|a, b| a.name.cmp(&b.name));
    found
}

/// The buffer of a name; its ending may be left out where only one is meant.
pub fn find(roots: &[PathBuf], endings: &[&str], name: &str) -> Option<PathBuf> {
    let mut all = all(roots, endings);
    if let Some(at) = all.iter().position(|buffer| buffer.name == name) {
        return Some(all.swap_remove(at).path);
    }
    let stem =
        |buffer: &NamedBuffer| Path::new(&buffer.name).with_extension("").to_str().is_some_and(|stem| stem == name);
    let mut meant = all.into_iter().filter(stem);
    meant.next().filter(|_| meant.next().is_none()).map(|buffer| buffer.path)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_buffer_is_found_by_its_connection_and_its_file() {
        let folder = tempfile::tempdir().unwrap();
        let roots = [folder.path().join("project"), folder.path().join("own"), folder.path().join("gone")];
        for file in ["project/ferry/fares.sql", "own/ferry/fares.sql", "own/ferry/tides.sql", "own/ferry/tides.redis"] {
            let path = folder.path().join(file);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, "").unwrap();
        }
        std::fs::write(folder.path().join("own/ferry/notes.txt"), "").unwrap();
        let endings = ["sql", "redis"];
        let names: Vec<_> = all(&roots, &endings).into_iter().map(|buffer| buffer.name).collect();
        assert_eq!(names, ["ferry/fares.sql", "ferry/tides.redis", "ferry/tides.sql"]);
        let found = |name: &str| {
            let path = find(&roots, &endings, name)?;
            Some(path.strip_prefix(folder.path()).unwrap().display().to_string())
        };
        assert_eq!(found("ferry/fares").as_deref(), Some("project/ferry/fares.sql"));
        assert_eq!(found("ferry/tides.sql").as_deref(), Some("own/ferry/tides.sql"));
        assert_eq!(found("ferry/tides"), None, "two are meant");
        assert_eq!(found("fares"), None);
        assert_eq!(found("ferry/notes.txt"), None);
    }
}
