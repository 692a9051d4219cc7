//! Where runs are kept: the logbook, the folder of archives, and the room that there is.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::state::Ahead;
use crate::archive::{ArchiveError, Retention, keep_within};
use crate::files::Folders;
use crate::logbook::Logbook;

/// Where runs are kept. Clones share the logbook.
#[derive(Clone)]
pub struct Keeping {
    logbook: Option<Arc<Mutex<Logbook>>>,
    archives: PathBuf,
    catalogs: PathBuf,
    retention: Retention,
    ahead: Ahead,
    /// Archives of runs that have no number.
    unnumbered: Arc<AtomicU64>,
    /// Those that are removed when the program ends.
    passing: Arc<Mutex<Vec<PathBuf>>>,
    trouble: Option<String>,
}

impl Keeping {
    /// Opens the logbook. If it cannot be used, rows go to the folder for temporary files, and
    /// [`Keeping::trouble`] says why.
    pub fn open(folders: &Folders, retention: Retention) -> Keeping {
        let (logbook, archives, trouble) = match Logbook::open(&folders.logbook(), &folders.archives()) {
            Ok(logbook) => (Some(Arc::new(Mutex::new(logbook))), folders.archives(), None),
            Err(error) => {
                let archives = std::env::temp_dir().join(format!("jaunty-{}", std::process::id()));
                (None, archives, Some(format!("runs are not remembered: {error}")))
            }
        };
        clear_passing(&archives);
        let catalogs = folders.catalogs();
        Keeping {
            logbook,
            archives,
            catalogs,
            retention,
            ahead: Ahead::ALL,
            passing: Arc::default(),
            unnumbered: Arc::default(),
            trouble,
        }
    }

    /// With a limit to how far runs fetch ahead of whoever reads.
    pub fn ahead(self, ahead: Ahead) -> Keeping {
        Keeping { ahead, ..self }
    }

    /// Where catalogs are kept.
    pub fn catalogs(&self) -> &Path {
        &self.catalogs
    }

    /// Why nothing is remembered, if so.
    pub fn trouble(&self) -> Option<&str> {
        self.trouble.as_deref()
    }

    /// The logbook, if it can be used.
    pub fn logbook(&self) -> Option<MutexGuard<'_, Logbook>> {
        self.logbook.as_ref().map(|logbook| logbook.lock().unwrap_or_else(PoisonError::into_inner))
    }

    pub(super) fn archive_path(&self, number: Option<i64>, position: usize) -> PathBuf {
        let name = match number {
            Some(number) => format!("{number}-{position}.arrow"),
            None => {
                let count = self.unnumbered.fetch_add(1, Ordering::Relaxed);
                let path = self.archives.join(format!("{PASSING}{}-{count}.arrow", std::process::id()));
                self.passing.lock().unwrap_or_else(PoisonError::into_inner).push(path.clone());
                return path;
            }
        };
        self.archives.join(name)
    }

    /// Removes the oldest archives until all are within the limit, but none that is pinned, that a run is
    /// writing, or that is one of `own`. An error if that is not enough.
    pub(super) fn make_room(&self, own: &[PathBuf]) -> Result<(), ArchiveError> {
        let mut in_use: HashSet<PathBuf> = own.iter().cloned().collect();
        in_use.extend(self.note(|logbook| logbook.in_use()).unwrap_or_default());
        match keep_within(&self.archives, self.retention, &in_use) {
            Ok(swept) if swept.left > self.retention.bytes => Err(ArchiveError::Full(self.retention)),
            Ok(_) => Ok(()),
            Err(error) => {
                tracing::warn!(%error, "old archives could not be removed");
                Ok(())
            }
        }
    }

    /// After so many bytes of rows a run looks for room anew.
    pub(super) fn looks_every(&self) -> u64 {
        (self.retention.bytes / 64).min(64 << 20)
    }

    /// How far runs fetch ahead of whoever reads.
    pub(super) fn reads_ahead(&self) -> Ahead {
        self.ahead
    }

    /// Writes to the logbook. A logbook that fails does not keep a statement from running.
    pub(super) fn note<T>(&self, act: impl FnOnce(&Logbook) -> Result<T, crate::logbook::LogbookError>) -> Option<T> {
        act(&*self.logbook()?).inspect_err(|error| tracing::warn!(%error, "a run could not be noted")).ok()
    }

    /// Removes archives that nobody could find again. For the end of the program.
    pub fn clear_unremembered(&self) {
        for path in self.passing.lock().unwrap_or_else(PoisonError::into_inner).drain(..) {
            let _ = std::fs::remove_file(path);
        }
        if self.logbook.is_none() {
            let _ = std::fs::remove_dir_all(&self.archives);
        }
    }
}

/// What the names of archives begin with that last no longer than the program, with its process number.
const PASSING: &str = "passing-";

/// Removes what programs that are gone left behind.
fn clear_passing(archives: &Path) {
    for entry in std::fs::read_dir(archives).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let process = name.strip_prefix(PASSING).and_then(|rest| rest.split('-').next());
        if process.is_some_and(|process| !Path::new("/proc").join(process).exists()) {
            let _ = std::fs::remove_file(entry.path());
        }
    }
}
