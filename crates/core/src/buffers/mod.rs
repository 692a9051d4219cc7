//! Where buffers lie, what may be their names, how they are searched, and how one is removed without
//! being lost.

pub mod form;
pub mod journal;
pub mod names;

use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};

use crate::files::{Folders, private_folder, replace};
use form::TextForm;
use jaunty_language::text::search::{Pattern, SearchError};

/// The folder for the buffers of a connection, or of none: the project's, if there is one, or the
/// user's.
pub fn folder_of(folders: &Folders, project: Option<&Path>, connection: Option<&str>) -> PathBuf {
    let buffers = project.map_or_else(|| folders.data.join("buffers"), |folder| folder.join("buffers"));
    // A name with a slash must not lead out of the folder.
    let safe = |name: &str| name.replace(['/', '\\', '\0'], "_").trim_start_matches('.').to_owned();
    buffers.join(connection.map_or_else(|| "scratch".into(), safe))
}

/// The connection that a buffer belongs to by the folder that it lies in, as [`folder_of`] gives it.
pub fn connection_of_folder(buffer: &Path) -> Option<&str> {
    let folder = buffer.parent()?;
    folder.parent().and_then(Path::file_name).filter(|name| *name == "buffers")?;
    folder.file_name()?.to_str()
}

/// The folder that files for rows of a buffer are named from: its own. A buffer that lies where the program
/// keeps buffers is meant to be no neighbour of theirs; there it is the folder in which the program was started.
pub fn folder_for_rows(folders: &Folders, buffer: &Path) -> PathBuf {
    let own = |folder: &Path| folder.file_name().is_some_and(|name| name == ".jaunty");
    let kept = buffer.starts_with(&folders.data) || buffer.ancestors().skip(1).any(own);
    let started = || std::env::current_dir().ok();
    let beside = || buffer.parent().map(Path::to_owned).unwrap_or_default();
    kept.then(started).flatten().unwrap_or_else(beside)
}

/// What was in hand when the screen was left, in one folder.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Last {
    /// The folder that it was started in.
    place: PathBuf,
    /// The buffer.
    pub buffer: PathBuf,
    /// The name of the connection, if there was one.
    pub connection: Option<String>,
}

impl Last {
    /// What was in hand when the screen was left that was started in this folder; none if its buffer is gone.
    pub fn of(folders: &Folders, place: &Path) -> Option<Last> {
        let text = std::fs::read(Last::file(folders, place)).ok()?;
        let last: Last = serde_json::from_slice(&text).ok()?;
        (last.place == place && last.buffer.is_file()).then_some(last)
    }

    /// Takes note of what is in hand now.
    pub fn keep(folders: &Folders, place: &Path, buffer: &Path, connection: Option<&str>) -> io::Result<()> {
        let connection = connection.map(str::to_owned);
        let last = Last { place: place.to_owned(), buffer: buffer.to_owned(), connection };
        private_folder(&folders.lasts())?;
        replace(&Last::file(folders, place), &serde_json::to_vec(&last)?)
    }

    fn file(folders: &Folders, place: &Path) -> PathBuf {
        use std::fmt::Write as _;
        let mut name = String::new();
        for byte in Sha256::digest(place.as_os_str().as_encoded_bytes()).iter().take(12) {
            let _ = write!(name, "{byte:02x}");
        }
        folders.lasts().join(name + ".json")
    }
}

/// Why a text cannot be the name of a buffer, if so.
pub fn name_problem(name: &str) -> Option<&'static str> {
    match name {
        "" => Some("a buffer needs a name"),
        "." | ".." => Some("that is a folder's name"),
        name if name.contains(['/', '\\']) => Some("a name cannot contain a slash; a buffer stays in its folder"),
        name if name.chars().any(char::is_control) => Some("a name cannot contain control characters"),
        name if name.len() > 200 => Some("the name is too long"),
        _ => None,
    }
}

/// The files with these endings below folders, each once.
pub fn files(roots: &[PathBuf], endings: &[&str]) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for root in roots {
        walk(root, endings, 4, &mut found);
    }
    found.sort();
    found.dedup();
    found
}

fn walk(folder: &Path, endings: &[&str], deeper: usize, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        let hidden = entry.file_name().to_string_lossy().starts_with('.');
        if path.is_dir() {
            if deeper > 0 && !hidden {
                walk(&path, endings, deeper - 1, found);
            }
        } else if path.extension().is_some_and(|e| endings.iter().any(|ending| e == *ending)) {
            found.push(path);
        }
    }
}

/// A line that fits what is sought.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hit {
    /// The file.
    pub path: PathBuf,
    /// The first byte that fits.
    pub at: usize,
    /// The line's number, from 1.
    pub line: usize,
    /// The line.
    pub text: String,
}

/// The most lines that a search gives.
const HITS: usize = 2000;

/// Files that are larger are not searched.
const LARGEST: u64 = 16 << 20;

/// Finds lines in files. Those that cannot be read are passed over.
pub fn search<'a>(files: impl IntoIterator<Item = &'a PathBuf>, pattern: &str) -> Result<Vec<Hit>, SearchError> {
    let pattern = Pattern::read(pattern)?;
    let mut hits = Vec::new();
    for path in files {
        if std::fs::metadata(path).is_ok_and(|about| about.len() > LARGEST) {
            continue;
        }
        let Some((text, _)) = std::fs::read(path).ok().and_then(|bytes| TextForm::read(bytes).ok()) else { continue };
        let mut start = 0;
        for (number, line) in text.split_inclusive('\n').enumerate() {
            if let Some(at) = pattern.first_in(line) {
                let shown = line.trim().to_owned();
                hits.push(Hit { path: path.clone(), at: start + at, line: number + 1, text: shown });
                if hits.len() >= HITS {
                    return Ok(hits);
                }
            }
            start += line.len();
        }
    }
    Ok(hits)
}

/// The lines in which two texts differ, those of the first with `-` before them and those of the
/// second with `+`; at most so many, and how many more there are.
pub fn difference(first: &str, second: &str, most: usize) -> Vec<String> {
    let diff = similar::TextDiff::configure().timeout(std::time::Duration::from_millis(200)).diff_lines(first, second);
    let mut all = Vec::new();
    let mut more = 0;
    for change in diff.iter_all_changes() {
        let sign = match change.tag() {
            similar::ChangeTag::Delete => '-',
            similar::ChangeTag::Insert => '+',
            similar::ChangeTag::Equal => continue,
        };
        if all.len() < most {
            all.push(format!("{sign} {}", change.value().trim_end_matches(['\n', '\r'])));
        } else {
            more += 1;
        }
    }
    if more > 0 {
        all.push(format!("  and {more} more"));
    }
    all
}

/// Moves a file to the trash of the program, and tells where it lies then.
pub fn remove(folders: &Folders, path: &Path) -> io::Result<PathBuf> {
    let trash = folders.state.join("trash");
    private_folder(&trash)?;
    let name = path.file_name().ok_or(io::ErrorKind::InvalidInput)?.to_string_lossy().into_owned();
    let free = (1..10_000).map(|number| trash.join(format!("{number}-{name}"))).find(|there| !there.exists());
    let there = free.ok_or(io::ErrorKind::AlreadyExists)?;
    // Another file system cannot be moved to: what was copied is complete before the old one goes.
    if std::fs::rename(path, &there).is_err() {
        std::fs::copy(path, &there)?;
        std::fs::remove_file(path)?;
    }
    Ok(there)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_removed_buffer_lies_in_the_trash_each_under_its_own_name() {
        let folder = tempfile::tempdir().unwrap();
        let folders = Folders::below(folder.path());
        let file = folder.path().join("a.sql");
        let mut places = Vec::new();
        for text in ["one", "two"] {
            std::fs::write(&file, text).unwrap();
            places.push(remove(&folders, &file).unwrap());
            assert!(!file.exists());
        }
        let texts: Vec<_> = places.iter().map(|place| std::fs::read_to_string(place).unwrap()).collect();
        assert_eq!(texts, ["one", "two"]);
        assert!(remove(&folders, &file).is_err(), "what is not there cannot be removed");
    }

    #[test]
    fn rows_do_not_go_where_the_program_keeps_buffers() {
        let folders = Folders::below(Path::new("/clerk"));
        let here = std::env::current_dir().unwrap();
        let of = |path: &str| folder_for_rows(&folders, Path::new(path));
        assert_eq!(of("/reports/a.sql"), Path::new("/reports"));
        assert_eq!(of("/reports/.jaunty/buffers/ferry/a.sql"), here);
        assert_eq!(folder_for_rows(&folders, &folder_of(&folders, None, Some("ferry")).join("a.sql")), here);
    }

    #[test]
    fn the_folder_of_a_buffer_names_its_connection() {
        let of = |path: &str| connection_of_folder(Path::new(path)).map(str::to_owned);
        let folder = folder_of(&Folders::below(Path::new("/clerk")), None, Some("ferry"));
        assert_eq!(of(folder.join("a.sql").to_str().unwrap()).as_deref(), Some("ferry"));
        assert_eq!(of("/reports/.jaunty/buffers/ferry/a.sql").as_deref(), Some("ferry"));
        assert_eq!(of("/reports/ferry/a.sql"), None);
        assert_eq!(of("a.sql"), None);
    }

    #[test]
    fn the_lines_that_differ_are_told() {
        let told = difference("a\nb\nc\n", "a\nx\nc\nd\n", 2);
        assert_eq!(told, ["- b", "+ x", "  and 1 more"]);
        assert!(difference("a\n", "a\n", 9).is_empty());
    }

    #[test]
    fn names_that_lead_elsewhere_are_refused() {
        for wrong in ["", "..", "a/b", "a\\b", "a\u{1b}b"] {
            assert!(name_problem(wrong).is_some(), "{wrong:?}");
        }
        assert_eq!(name_problem("fares of 2031.sql"), None);
        let folders = Folders::below(Path::new("/x"));
        assert_eq!(folder_of(&folders, None, Some("../a/b")), Path::new("/x/data/buffers/_a_b"));
    }

    #[test]
    fn lines_are_found_in_all_files() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("ferry")).unwrap();
        std::fs::write(folder.path().join("a.sql"), "select 1;\nselect * from ports;\n").unwrap();
        std::fs::write(folder.path().join("ferry/b.sql"), "-- Ports\n").unwrap();
        std::fs::write(folder.path().join("c.txt"), "ports").unwrap();
        std::fs::write(folder.path().join("d.sql"), b"\xff ports \0").unwrap();
        let all = files(&[folder.path().to_owned(), folder.path().join("ferry")], &["sql"]);
        assert_eq!(all.len(), 3);
        let hits = search(&all, "ports").unwrap();
        let shown: Vec<_> = hits.iter().map(|hit| (hit.line, hit.at, hit.text.as_str())).collect();
        assert_eq!(shown, [(2, 24, "select * from ports;"), (1, 3, "-- Ports")]);
        assert!(search(&all, "(").is_err());
    }

    #[test]
    fn what_was_in_hand_is_there_again_in_its_folder() {
        let folder = tempfile::tempdir().unwrap();
        let folders = Folders::below(folder.path());
        let (here, there) = (folder.path().join("here"), folder.path().join("there"));
        let buffer = folder.path().join("tides.sql");
        assert_eq!(Last::of(&folders, &here), None);
        Last::keep(&folders, &here, &buffer, Some("ferry")).unwrap();
        assert_eq!(Last::of(&folders, &here), None, "the buffer is not there");
        std::fs::write(&buffer, "select 1;").unwrap();
        let last = Last::of(&folders, &here).unwrap();
        assert_eq!((last.buffer, last.connection.as_deref()), (buffer.clone(), Some("ferry")));
        assert_eq!(Last::of(&folders, &there), None);
        Last::keep(&folders, &here, &buffer, None).unwrap();
        assert_eq!(Last::of(&folders, &here).unwrap().connection, None);
    }
}
