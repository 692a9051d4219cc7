//! Where runs are kept: the logbook, the folder of archives, and the room that there is.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Instant, UNIX_EPOCH};

use super::execute::keeps;
use super::gate::Ahead;
use super::state::Run;
use crate::archive::{ArchiveError, Retention, keep_within};
use crate::files::Folders;
use crate::logbook::{Begun, Logbook};
use jaunty_seam::engine::Location;
use jaunty_seam::profile::Profile;

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
    /// When the room is looked at next before a run.
    next_look: Arc<Mutex<Option<Instant>>>,
}

impl Keeping {
    /// Opens the logbook. If it cannot be used, rows go to the folder for temporary files, and
    /// [`Keeping::trouble`] says why.
    pub fn open(folders: &Folders, retention: Retention) -> Keeping {
        let (logbook, archives, trouble) = match Logbook::open(&folders.logbook(), &folders.archives()) {
            Ok(logbook) => (Some(Arc::new(Mutex::new(logbook))), folders.archives(), None),
            Err(error) => {
                let archives = std::env::temp_dir().join(format!("jaunty-{}", std::process::id()));
                (None, archives, Some(format!("runs are not recorded: {error}")))
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
            next_look: Arc::default(),
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

    /// The same before a run, but not so often that it takes long: of a hundred thousand archives each has to be
    /// looked at.
    pub(super) fn make_room_now_and_then(&self) {
        const TIMES: u32 = 50;
        let mut next = self.next_look.lock().unwrap_or_else(PoisonError::into_inner);
        let began = Instant::now();
        if next.is_some_and(|next| began < next) {
            return;
        }
        let _ = self.make_room(&[]);
        *next = Some(Instant::now() + began.elapsed() * TIMES);
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
    pub fn note<T>(&self, act: impl FnOnce(&Logbook) -> Result<T, crate::logbook::LogbookError>) -> Option<T> {
        act(&*self.logbook()?).inspect_err(|error| tracing::warn!(%error, "a run could not be noted")).ok()
    }

    /// Notes that something has begun that is no statement of a buffer: a load, a slip, a script. None where the connection
    /// keeps no runs.
    pub fn begin(&self, (profile, location): (&Profile, &Location), title: &str, statement: &str) -> Option<i64> {
        let started = std::time::SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        let begun = Begun {
            connection: &profile.name,
            engine: &profile.engine,
            database: &location.database,
            buffer: None,
            title: Some(title),
            statement,
            values: &[],
            session: &location.session,
            started_ms: i64::try_from(started.as_millis()).unwrap_or(i64::MAX),
        };
        if keeps(profile) { self.note(|logbook| logbook.begin(&begun)) } else { None }
    }

    /// Notes that what these runs changed is gone.
    pub fn roll_back(&self, runs: &[Arc<Run>]) {
        for run in runs {
            run.set_rolled_back();
            if let Some(number) = run.number {
                self.note(|logbook| logbook.roll_back(number));
            }
        }
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

#[cfg(test)]
mod tests {
    use super::*;

    fn files(folder: &Path) -> Vec<String> {
        let all = std::fs::read_dir(folder).into_iter().flatten().flatten();
        let mut names: Vec<String> = all.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
        names.sort();
        names
    }

    #[test]
    fn rows_that_nobody_remembers_go_with_the_program() {
        let folder = tempfile::tempdir().unwrap();
        let folders = Folders::below(folder.path());
        let archives = folders.archives();
        let keeping = Keeping::open(&folders, Retention::default());
        std::fs::create_dir_all(&archives).unwrap();
        let passing = [keeping.archive_path(None, 0), keeping.archive_path(None, 0)];
        assert_ne!(passing[0], passing[1]);
        let kept = keeping.archive_path(Some(7), 1);
        passing.iter().chain([&kept]).for_each(|path| std::fs::write(path, "rows").unwrap());
        keeping.clear_unremembered();
        assert_eq!(files(&archives), ["7-1.arrow"]);
    }

    #[test]
    fn what_a_program_that_is_gone_left_behind_is_removed() {
        let folder = tempfile::tempdir().unwrap();
        let folders = Folders::below(folder.path());
        let archives = folders.archives();
        std::fs::create_dir_all(&archives).unwrap();
        // No process has the first number; the second is this one.
        let mine = format!("{PASSING}{}-0.arrow", std::process::id());
        for name in [&format!("{PASSING}4294967295-0.arrow"), &mine, "7-0.arrow"] {
            std::fs::write(archives.join(name), "rows").unwrap();
        }
        drop(Keeping::open(&folders, Retention::default()));
        assert_eq!(files(&archives), ["7-0.arrow".to_owned(), mine]);
    }

    #[test]
    fn without_a_logbook_rows_are_kept_elsewhere_and_it_is_told() {
        let folder = tempfile::tempdir().unwrap();
        let folders = Folders::below(folder.path());
        std::fs::create_dir_all(folders.logbook().parent().unwrap()).unwrap();
        std::fs::write(folders.logbook(), "no database, but text that is long enough to be looked at".repeat(9))
            .unwrap();
        let keeping = Keeping::open(&folders, Retention::default());
        assert!(keeping.logbook().is_none());
        assert!(
            keeping.trouble().unwrap().starts_with("runs are not recorded: the logbook "),
            "{:?}",
            keeping.trouble()
        );
        let path = keeping.archive_path(Some(1), 0);
        assert!(path.starts_with(std::env::temp_dir()) && !path.starts_with(folder.path()), "{}", path.display());
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, "rows").unwrap();
        keeping.clear_unremembered();
        assert!(!path.parent().unwrap().exists());
    }

    #[test]
    fn it_looks_for_room_as_often_as_the_limit_is_small() {
        let folder = tempfile::tempdir().unwrap();
        let every = |bytes: u64| {
            let folders = Folders::below(&folder.path().join(bytes.to_string()));
            Keeping::open(&folders, Retention { bytes }).looks_every()
        };
        assert_eq!((every(6400), every(8 << 30)), (100, 64 << 20));
    }
}
