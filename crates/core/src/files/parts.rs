//! Files under temporary names, which a program that dies leaves behind: remembered while they are written, and
//! removed by the next one that starts.
//!
//! Each is remembered by a file of its own in the state folder, which holds its path and is locked for as long as
//! it is written. One without a lock is of a program that is gone.

use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

static FOLDER: OnceLock<PathBuf> = OnceLock::new();

/// From now on files under temporary names are remembered in this folder; those of programs that are gone are
/// removed. Files that cannot be removed stay remembered.
pub fn remember_in(folder: &Path) {
    sweep(folder);
    let _ = FOLDER.set(folder.to_owned());
}

/// Removes what programs that are gone left behind. Returns how many files that were.
pub fn sweep(folder: &Path) -> usize {
    let mut removed = 0;
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let note = entry.path();
        let left = File::open(&note).and_then(|file| {
            // The lock is let go with the file, after what it is about is gone.
            Ok(file.try_lock().is_ok().then_some((std::fs::read_to_string(&note)?, file)))
        });
        let Ok(Some((path, _lock))) = left else { continue };
        let path = PathBuf::from(path);
        // Only what has a name that we give: the note may be damaged.
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let ours = name.starts_with('.') && (name.ends_with(".part") || name.ends_with(".new"));
        let ours = ours || name.starts_with(HELD);
        let gone = if ours { std::fs::remove_file(&path) } else { Err(io::ErrorKind::NotFound.into()) };
        match gone {
            Ok(()) => removed += 1,
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Err(error) => {
                tracing::warn!(%error, path = %path.display(), "a file that was left behind could not be removed");
                continue;
            }
        }
        let _ = std::fs::remove_file(note);
    }
    removed
}

/// What the names of files begin with that hold something for a while.
const HELD: &str = "jaunty-held-";

/// A file among the system's temporary ones that holds something for as long as this lives. Only the user can read it.
#[derive(Debug)]
pub struct Held {
    file: tempfile::NamedTempFile,
    _remembered: Remembered,
}

impl Held {
    /// Where it is.
    pub fn path(&self) -> &Path {
        self.file.path()
    }
}

/// Holds a text in a file whose name has this ending.
pub fn hold(text: &str, ending: &str) -> io::Result<Held> {
    let mut file = tempfile::Builder::new().prefix(HELD).suffix(ending).tempfile()?;
    let remembered = remember(file.path());
    file.write_all(text.as_bytes())?;
    Ok(Held { file, _remembered: remembered })
}

/// Something under a temporary name that is being written. Dropping it forgets it.
#[derive(Debug)]
pub struct Remembered(Option<(File, PathBuf)>);

/// Remembers a file that is about to be made. Where that cannot be noted it is written all the same.
pub fn remember(path: &Path) -> Remembered {
    static NUMBER: AtomicU64 = AtomicU64::new(0);
    let Some(folder) = FOLDER.get() else { return Remembered(None) };
    let number = NUMBER.fetch_add(1, Ordering::Relaxed);
    let note = folder.join(format!("{}-{number}", std::process::id()));
    let write = || {
        super::private_folder(folder)?;
        let path = std::path::absolute(path)?;
        let mut file = super::private(OpenOptions::new().write(true).create(true).truncate(true)).open(&note)?;
        file.lock()?;
        file.write_all(path.as_os_str().as_encoded_bytes())?;
        Ok(file)
    };
    Remembered(
        write()
            .map(|file| (file, note.clone()))
            .inspect_err(|error: &io::Error| {
                tracing::warn!(%error, "a file under a temporary name is not remembered");
            })
            .ok(),
    )
}

impl Drop for Remembered {
    fn drop(&mut self) {
        if let Some((_, note)) = self.0.take() {
            let _ = std::fs::remove_file(note);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_dead_program_left_is_removed_and_nothing_else() {
        let folder = tempfile::tempdir().unwrap();
        let notes = folder.path().join("parts");
        std::fs::create_dir(&notes).unwrap();
        let file = |name: &str| {
            let path = folder.path().join(name);
            std::fs::write(&path, "half").unwrap();
            path
        };
        let (part, new, text) = (file(".late.csv.7-0.part"), file(".connections.toml.7.new"), file("notes.txt"));
        let (alive, pasted) = (file(".alive.csv.8-0.part"), file("jaunty-held-7.tsv"));
        for (note, path) in [("7-0", &part), ("7-1", &new), ("7-2", &text), ("7-3", &pasted), ("8-0", &alive)] {
            std::fs::write(notes.join(note), path.as_os_str().as_encoded_bytes()).unwrap();
        }
        let held = File::open(notes.join("8-0")).unwrap();
        held.lock().unwrap();
        assert_eq!(sweep(&notes), 3);
        assert!(!part.exists() && !new.exists() && !pasted.exists() && text.exists() && alive.exists());
        assert_eq!(std::fs::read_dir(&notes).unwrap().count(), 1);
    }
}
