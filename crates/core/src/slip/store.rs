//! Slips on disk: each is written with every draft, so that none is lost.
//!
//! Several programs may draft for one result. Each writes its drafts into what the others wrote since it looked last; of
//! what two of them changed, the value of the one that writes last counts.

use std::collections::HashMap;
use std::fs::{File, Metadata, TryLockError};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use std::{fs, io};

use sha2::{Digest, Sha256};

use super::{Draft, Slip, What};

/// The folder of slips.
#[derive(Debug, Clone)]
pub struct Store {
    folder: PathBuf,
    /// What this program knows to be in files.
    known: Arc<Mutex<HashMap<PathBuf, Known>>>,
}

/// What was in a file when it was read or written last.
#[derive(Debug)]
struct Known {
    stamp: Option<Stamp>,
    drafts: Vec<Draft>,
}

/// What tells one writing of a file from another: each makes a file of its own.
type Stamp = (u64, u64, i64, i64);

fn stamp(path: &Path) -> Option<Stamp> {
    let of = |data: Metadata| (data.ino(), data.len(), data.mtime(), data.mtime_nsec());
    fs::metadata(path).ok().map(of)
}

/// So long another program may take to write a slip: the screen waits for it.
const PATIENCE: Duration = Duration::from_secs(1);

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
        Store { folder, known: Arc::default() }
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

    fn known(&self) -> MutexGuard<'_, HashMap<PathBuf, Known>> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Keeps other programs from writing slips, as long as it is held.
    fn alone(&self) -> io::Result<File> {
        crate::files::private_folder(&self.folder)?;
        let lock = crate::files::private(File::options().create(true).write(true)).open(self.folder.join(".lock"))?;
        let since = Instant::now();
        while let Err(error) = lock.try_lock() {
            match error {
                TryLockError::WouldBlock if since.elapsed() < PATIENCE => std::thread::sleep(Duration::from_millis(2)),
                TryLockError::WouldBlock => {
                    return Err(io::Error::other("another jaunty is writing slips and does not end"));
                }
                TryLockError::Error(error) => return Err(error),
            }
        }
        Ok(lock)
    }

    /// Writes a slip, whole or not at all; one without drafts is removed. Where another program changed it meanwhile, both
    /// are put together, and given back as they are written.
    pub fn save(&self, slip: &Slip) -> io::Result<Option<Slip>> {
        let _alone = self.alone()?;
        let path = self.path_of(slip);
        let Some((base, theirs)) = self.changed(&path)? else {
            self.write(&path, slip)?;
            return Ok(None);
        };
        let drafts = merged(&base, theirs.drafts, &slip.drafts);
        let merged = Slip { drafts, ..slip.clone() };
        self.write(&path, &merged)?;
        Ok((merged.drafts != slip.drafts).then_some(merged))
    }

    /// Takes the drafts of a slip out of its file, which another program may have drafted into meanwhile.
    pub fn remove(&self, slip: &Slip) -> io::Result<()> {
        let _alone = self.alone()?;
        let path = self.path_of(slip);
        let left = self.changed(&path)?.map(|(_, theirs)| theirs.drafts).unwrap_or_default();
        let drafts = left.into_iter().filter(|draft| !slip.drafts.contains(draft)).collect();
        self.write(&path, &Slip { drafts, sending: false, ..slip.clone() })
    }

    /// What this program knew of a file, and what is in it, where another has written it since. What cannot be read is put
    /// aside.
    fn changed(&self, path: &Path) -> io::Result<Option<(Vec<Draft>, Slip)>> {
        let (now, known) = (stamp(path), self.known());
        let known = known.get(path);
        if now == known.and_then(|known| known.stamp) {
            return Ok(None);
        }
        let base = known.map(|known| known.drafts.clone()).unwrap_or_default();
        match read(path) {
            // It was sent, or dropped.
            _ if now.is_none() => Ok(Some((base, Slip::default()))),
            Ok(theirs) => Ok(Some((base, theirs))),
            Err(_) => {
                fs::rename(path, path.with_extension("unread"))?;
                Ok(None)
            }
        }
    }

    fn write(&self, path: &Path, slip: &Slip) -> io::Result<()> {
        if slip.is_empty() {
            match fs::remove_file(path) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
                _ => {}
            }
            self.known().remove(path);
            return Ok(());
        }
        let text = serde_json::to_vec_pretty(slip).map_err(io::Error::other)?;
        crate::files::replace(path, &text)?;
        let known = Known { stamp: stamp(path), drafts: slip.drafts.clone() };
        self.known().insert(path.to_owned(), known);
        Ok(())
    }

    /// All slips, the latest first. One that cannot be read stays where it is, and is told.
    pub fn all(&self) -> Vec<Kept> {
        let files = fs::read_dir(&self.folder).into_iter().flatten().flatten().map(|entry| entry.path());
        let mut found: Vec<_> = files.filter(|path| path.extension().is_some_and(|ending| ending == "json")).collect();
        let age = |path: &PathBuf| fs::metadata(path).and_then(|data| data.modified()).ok();
        found.sort_by_key(|path| std::cmp::Reverse(age(path)));
        let one = |path: PathBuf| {
            let (stamp, slip) = (stamp(&path), read(&path));
            if let Ok(slip) = &slip {
                self.known().insert(path.clone(), Known { stamp, drafts: slip.drafts.clone() });
            }
            Kept { path, slip }
        };
        found.into_iter().map(one).collect()
    }
}

/// Drafts of two programs put together: `base` is what both began with.
fn merged(base: &[Draft], mut theirs: Vec<Draft>, ours: &[Draft]) -> Vec<Draft> {
    let of_row = |drafts: &[Draft], draft: &Draft| match draft.row {
        Some(_) => drafts.iter().position(|other| other.row == draft.row),
        // One that is added has nothing that tells it from others but itself.
        None => drafts.iter().position(|other| other == draft),
    };
    let mut drafts = Vec::with_capacity(ours.len());
    for draft in ours {
        let before = of_row(base, draft).and_then(|at| base.get(at));
        match of_row(&theirs, draft).map(|at| theirs.remove(at)) {
            Some(other) => drafts.push(put_together(before, other, draft)),
            // It was sent there, or dropped.
            None if before == Some(draft) => {}
            None => drafts.push(draft.clone()),
        }
    }
    // What is dropped here is dropped, unless it was changed there.
    theirs.retain(|draft| of_row(base, draft).and_then(|at| base.get(at)) != Some(draft));
    drafts.append(&mut theirs);
    drafts
}

/// Two drafts of one row.
fn put_together(before: Option<&Draft>, theirs: Draft, ours: &Draft) -> Draft {
    match before {
        Some(before) if before == ours => theirs,
        _ if ours.what != What::Change || theirs.what != What::Change => ours.clone(),
        before => {
            let was = |field: &usize| before.and_then(|before| before.new.get(field));
            let mut new = theirs.new;
            new.retain(|field, _| ours.new.contains_key(field) || was(field).is_none());
            let changed = ours.new.iter().filter(|(field, value)| was(field) != Some(*value));
            new.extend(changed.map(|(field, value)| (*field, value.clone())));
            Draft { new, ..ours.clone() }
        }
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
