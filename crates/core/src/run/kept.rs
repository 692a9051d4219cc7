//! What a run gave, which may lie on disk.

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use crate::archive::{Archive, ArchiveError};

/// One result of a run.
#[derive(Debug, Clone)]
pub enum RunResult {
    /// Rows.
    Rows(Arc<KeptRows>),
    /// A number of rows touched, where the server tells it.
    Affected(Option<u64>),
}

/// The key of an archive's metadata under which the name of its result stands.
pub(super) const RESULT_NAME: &str = "result_name";

/// Rows in an archive that may not have been opened yet.
#[derive(Debug)]
pub struct KeptRows {
    path: PathBuf,
    archive: Mutex<Option<Arc<Archive>>>,
}

impl KeptRows {
    /// Rows of an archive that is open.
    pub fn open(archive: Arc<Archive>) -> Self {
        KeptRows { path: archive.path().to_owned(), archive: Mutex::new(Some(archive)) }
    }

    /// Rows of an archive on disk.
    pub fn closed(path: PathBuf) -> Self {
        KeptRows { path, archive: Mutex::new(None) }
    }

    /// The name that the server gives the result, where the archive is open. From the server: cleaned where it is
    /// shown.
    pub fn name(&self) -> Option<String> {
        let archive = self.archive.lock().unwrap_or_else(PoisonError::into_inner);
        archive.as_ref()?.schema().metadata().get(RESULT_NAME).cloned()
    }

    /// The archive's file.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// How many rows there are, if the archive is open.
    pub fn rows(&self) -> Option<u64> {
        let archive = self.archive.lock().unwrap_or_else(PoisonError::into_inner);
        archive.as_ref().map(|archive| archive.rows())
    }

    /// The archive, opened now if it was not. This reads the disk: not for the interface thread.
    pub fn archive(&self) -> Result<Arc<Archive>, ArchiveError> {
        let mut archive = self.archive.lock().unwrap_or_else(PoisonError::into_inner);
        match &*archive {
            Some(archive) => Ok(Arc::clone(archive)),
            None => Ok(Arc::clone(archive.insert(Arc::new(Archive::open(&self.path)?)))),
        }
    }
}
