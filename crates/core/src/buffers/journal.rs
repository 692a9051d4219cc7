//! Unsaved keystrokes, kept so that a crash loses none.
//!
//! A journal is a file of JSON lines in the state folder: first the buffer's path and its text when
//! the journal began, then one line for every edit. Replaying it needs nothing else, not even the
//! buffer's own file. A line that a crash cut short is left out.
//!
//! Each instance of the program holds a lock on the journals it writes. One without a lock was left
//! behind, and [`Recovery::find`] brings its text back.

use std::fs::{File, OpenOptions};
use std::io::{self, BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError, mpsc};
use std::thread;
use std::time::{Duration, SystemTime};

use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};

use jaunty_language::edit::document::Edit;

#[derive(Serialize, Deserialize)]
struct Head {
    /// The version of this format.
    journal: u32,
    path: PathBuf,
    text: String,
}

#[derive(Serialize, Deserialize)]
struct Line {
    at: usize,
    del: usize,
    ins: String,
}

enum Order {
    Edits(Vec<Edit>),
    Begin(String),
    Sync(mpsc::Sender<()>),
}

/// What cannot be written is tried again so often.
const AGAIN: Duration = Duration::from_secs(1);

/// Writes the edits of one buffer as they happen, on a thread of its own. What cannot be written, on a full disk
/// say, is kept and tried again.
#[derive(Debug)]
pub struct Journal {
    orders: mpsc::Sender<Order>,
    trouble: Arc<Trouble>,
}

/// Why unsaved text is not protected, and who wants to know when that changes.
#[derive(Default)]
struct Trouble {
    why: Mutex<Option<String>>,
    tell: Mutex<Option<Box<dyn Fn() + Send>>>,
}

impl std::fmt::Debug for Trouble {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.why.fmt(f)
    }
}

impl Trouble {
    fn set(&self, why: Option<String>) {
        let mut now = self.why.lock().unwrap_or_else(PoisonError::into_inner);
        if *now == why {
            return;
        }
        *now = why;
        drop(now);
        if let Some(tell) = &*self.tell.lock().unwrap_or_else(PoisonError::into_inner) {
            tell();
        }
    }
}

impl Journal {
    /// Journals for the buffer at `path` go into `folder`. Nothing is written before the first edit.
    pub fn new(folder: &Path, path: &Path, text: String) -> Self {
        let (orders, inbox) = mpsc::channel();
        let trouble = Arc::new(Trouble::default());
        let writer = Writer {
            folder: folder.to_owned(),
            path: path.to_owned(),
            base: text,
            file: None,
            pending: Vec::new(),
            trouble: Arc::clone(&trouble),
        };
        if let Err(error) = thread::Builder::new().name("journal".into()).spawn(move || writer.work(&inbox)) {
            trouble.set(Some(error.to_string()));
        }
        Journal { orders, trouble }
    }

    /// Why what is typed would not survive a crash now; `None` where it would.
    pub fn trouble(&self) -> Option<String> {
        self.trouble.why.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Calls this whenever [`Journal::trouble`] changes, on another thread.
    pub fn on_trouble(&self, tell: impl Fn() + Send + 'static) {
        *self.trouble.tell.lock().unwrap_or_else(PoisonError::into_inner) = Some(Box::new(tell));
    }

    /// Takes note of edits.
    pub fn record(&self, edits: Vec<Edit>) {
        if !edits.is_empty() {
            // A journal whose thread is gone has already said so.
            let _ = self.orders.send(Order::Edits(edits));
        }
    }

    /// Begins again from a text that is saved; what was recorded is not needed any more.
    pub fn begin(&self, text: String) {
        let _ = self.orders.send(Order::Begin(text));
    }

    /// Waits until everything recorded so far is in the file, or could not be written.
    pub fn sync(&self) {
        let (done, wait) = mpsc::channel();
        if self.orders.send(Order::Sync(done)).is_ok() {
            let _ = wait.recv();
        }
    }
}

struct Writer {
    folder: PathBuf,
    path: PathBuf,
    /// The text that the edits begin from; empty once it is in the file.
    base: String,
    file: Option<Open>,
    /// What is not in the file yet.
    pending: Vec<Edit>,
    trouble: Arc<Trouble>,
}

/// A journal that is written.
struct Open {
    file: File,
    path: PathBuf,
    /// How much of it is whole.
    length: u64,
}

impl Writer {
    fn work(mut self, inbox: &mpsc::Receiver<Order>) {
        loop {
            let order = match self.pending.is_empty() {
                true => inbox.recv().map_err(|_| mpsc::RecvTimeoutError::Disconnected),
                false => inbox.recv_timeout(AGAIN),
            };
            let mut done = None;
            match order {
                Ok(Order::Edits(edits)) => self.pending.extend(edits),
                Ok(Order::Begin(text)) => self.begin(text),
                Ok(Order::Sync(tell)) => done = Some(tell),
                Err(mpsc::RecvTimeoutError::Timeout) => {}
                Err(mpsc::RecvTimeoutError::Disconnected) => return,
            }
            let why = self.write().err();
            if let Some(error) = &why {
                tracing::warn!(%error, path = %self.path.display(), "journal");
            }
            self.trouble.set(why.map(|error| error.to_string()));
            if let Some(tell) = done {
                let _ = tell.send(());
            }
        }
    }

    fn begin(&mut self, text: String) {
        self.base = text;
        self.pending.clear();
        if let Some(Open { path, .. }) = self.file.take()
            && let Err(error) = std::fs::remove_file(path)
        {
            tracing::warn!(%error, path = %self.path.display(), "a journal that is not needed could not be removed");
        }
    }

    /// Writes what is not written. Where that fails the file is what it was before.
    fn write(&mut self) -> io::Result<()> {
        if self.pending.is_empty() {
            return Ok(());
        }
        if self.file.is_none() {
            self.file = Some(self.create()?);
            self.base = String::new();
        }
        let Some(Open { file, length, .. }) = &mut self.file else { return Ok(()) };
        let mut lines = Vec::new();
        for edit in &self.pending {
            let line = Line { at: edit.at, del: edit.removed.len(), ins: edit.inserted.clone() };
            serde_json::to_writer(&mut lines, &line)?;
            lines.push(b'\n');
        }
        if let Err(error) = file.write_all(&lines) {
            // Half a line would hide all that comes after it.
            file.set_len(*length)?;
            return Err(error);
        }
        *length += lines.len() as u64;
        self.pending.clear();
        Ok(())
    }

    /// Makes the file, with the text that the edits begin from.
    fn create(&self) -> io::Result<Open> {
        let mut head = serde_json::to_vec(&Head { journal: 1, path: self.path.clone(), text: self.base.clone() })?;
        head.push(b'\n');
        let (mut file, path) = create(&self.folder, &self.path)?;
        match file.write_all(&head) {
            Ok(()) => Ok(Open { file, path, length: head.len() as u64 }),
            Err(error) => {
                let _ = std::fs::remove_file(path);
                Err(error)
            }
        }
    }
}

/// The part of a journal's name that says whose it is.
fn stem(path: &Path) -> String {
    let digest = Sha256::digest(path.as_os_str().as_encoded_bytes());
    digest[..8].iter().map(|b| format!("{b:02x}")).collect()
}

fn create(folder: &Path, path: &Path) -> io::Result<(File, PathBuf)> {
    crate::files::private_folder(folder)?;
    let mut number = 0_u32;
    loop {
        let name = folder.join(format!("{}-{}-{number}.journal", stem(path), std::process::id()));
        match crate::files::private(OpenOptions::new().append(true).create_new(true)).open(&name) {
            Ok(file) => {
                file.lock()?;
                return Ok((file, name));
            }
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => number += 1,
            Err(error) => return Err(error),
        }
    }
}

/// Text that a crash left in a journal.
#[derive(Debug)]
pub struct Recovery {
    /// The text with every edit that was written.
    pub text: String,
    /// The text that the edits were made in: what the buffer's file held then.
    pub base: String,
    /// How many edits that were.
    pub edits: usize,
    /// How many other journals of the buffer a crash has left. They come up one after the other, at each start.
    pub others: usize,
    /// The journal it was read from. It is kept until [`Recovery::discard`].
    file: PathBuf,
}

impl Recovery {
    /// Looks for journals of the buffer at `path` that no running instance writes. Where a crash
    /// left several, the newest is brought back; the others stay.
    pub fn find(folder: &Path, path: &Path) -> io::Result<Option<Recovery>> {
        let entries = match std::fs::read_dir(folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error),
        };
        let prefix = format!("{}-", stem(path));
        let mut left: Vec<(SystemTime, PathBuf)> = Vec::new();
        for entry in entries.flatten() {
            if !entry.file_name().to_string_lossy().starts_with(&prefix) {
                continue;
            }
            let found = || -> io::Result<Option<SystemTime>> {
                let free = File::open(entry.path())?.try_lock().is_ok();
                Ok(if free { Some(entry.metadata()?.modified()?) } else { None })
            };
            match found() {
                Ok(changed) => left.extend(changed.map(|changed| (changed, entry.path()))),
                Err(error) => tracing::warn!(%error, path = %entry.path().display(), "a journal cannot be read"),
            }
        }
        left.sort();
        while let Some((_, newest)) = left.pop() {
            if let Some(found) = replay(&newest)? {
                // One without edits has nothing to bring back.
                let others = left.iter().filter(|(_, path)| replay(path).is_ok_and(|found| found.is_some())).count();
                return Ok(Some(Recovery { others, ..found }));
            }
        }
        Ok(None)
    }

    /// Removes the journal, once its text is journalled or saved again.
    pub fn discard(self) -> io::Result<()> {
        std::fs::remove_file(self.file)
    }
}

fn replay(path: &Path) -> io::Result<Option<Recovery>> {
    let mut lines = BufReader::new(File::open(path)?).split(b'\n');
    let Some(Ok(head)) = lines.next().transpose()?.map(|line| serde_json::from_slice::<Head>(&line)) else {
        return Ok(None);
    };
    let (base, mut text) = (head.text.clone(), head.text);
    let mut edits = 0;
    for line in lines {
        let Ok(Line { at, del, ins }) = serde_json::from_slice::<Line>(&line?) else { break };
        if text.get(at..at + del).is_none() {
            break;
        }
        text.replace_range(at..at + del, &ins);
        edits += 1;
    }
    Ok((edits > 0).then(|| Recovery { text, base, edits, others: 0, file: path.to_owned() }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::SQLITE;
    use jaunty_language::edit::document::Document;

    /// Writes a journal and lets go of its lock, as a crash does.
    fn crashed(folder: &Path, buffer: &Path, typed: &str) {
        let journal = Journal::new(folder, buffer, "select 1;\n".into());
        let mut document = Document::new("select 1;\n", &SQLITE);
        for c in typed.chars() {
            document.type_text(&c.to_string());
        }
        document.undo();
        journal.record(document.take_edits());
        journal.sync();
        let orders = journal.orders;
        drop(orders);
        // The thread ends once its inbox is closed; its lock goes with it.
        let deadline = std::time::Instant::now() + Duration::from_secs(10);
        while Recovery::find(folder, buffer).is_ok_and(|found| found.is_none()) {
            assert!(std::time::Instant::now() < deadline, "the journal was never let go");
            thread::yield_now();
        }
    }

    #[test]
    fn a_crash_loses_no_keystroke() {
        let folder = tempfile::tempdir().unwrap();
        let buffer = Path::new("/harbour/a.sql");
        crashed(folder.path(), buffer, "-- été\nselect 2; x");
        let found = Recovery::find(folder.path(), buffer).unwrap().unwrap();
        assert_eq!(found.text, "-- été\nselect 2;select 1;\n");
        assert!(Recovery::find(folder.path(), Path::new("/harbour/b.sql")).unwrap().is_none());
        found.discard().unwrap();
        assert!(Recovery::find(folder.path(), buffer).unwrap().is_none());
    }

    #[test]
    fn a_line_cut_short_costs_only_itself() {
        let folder = tempfile::tempdir().unwrap();
        let buffer = Path::new("/harbour/a.sql");
        crashed(folder.path(), buffer, "abc def");
        let path = std::fs::read_dir(folder.path()).unwrap().next().unwrap().unwrap().path();
        let whole = std::fs::read(&path).unwrap();
        for length in 0..whole.len() {
            std::fs::write(&path, &whole[..length]).unwrap();
            if let Some(found) = replay(&path).unwrap() {
                assert!("abc defselect 1;\n".starts_with(found.text.trim_end_matches("select 1;\n")), "{}", found.text);
            }
        }
    }

    #[test]
    fn what_cannot_be_written_is_told_and_written_later() {
        let folder = tempfile::tempdir().unwrap();
        // A file where the folder should be: as good as a disk that is full.
        let journals = folder.path().join("journals");
        std::fs::write(&journals, "").unwrap();
        let buffer = Path::new("/harbour/a.sql");
        let journal = Journal::new(&journals, buffer, "base".into());
        let (tell, told) = mpsc::channel();
        journal.on_trouble(move || {
            let _ = tell.send(());
        });
        let typed = |text: &str| vec![Edit { at: 0, removed: String::new(), inserted: text.into() }];
        journal.record(typed("a"));
        journal.record(typed("b"));
        journal.sync();
        assert!(journal.trouble().is_some());
        told.recv_timeout(Duration::from_secs(60)).unwrap();
        std::fs::remove_file(&journals).unwrap();
        // Without another key, and with all that was typed since.
        told.recv_timeout(Duration::from_secs(60)).unwrap();
        assert_eq!(journal.trouble(), None);
        let path = std::fs::read_dir(&journals).unwrap().next().unwrap().unwrap().path();
        let found = replay(&path).unwrap().unwrap();
        assert_eq!((found.base.as_str(), found.text.as_str(), found.edits), ("base", "babase", 2));
    }

    #[test]
    fn several_crashes_come_up_one_after_the_other() {
        let folder = tempfile::tempdir().unwrap();
        let buffer = Path::new("/harbour/a.sql");
        let mut alive = Vec::new();
        for typed in ["-- one ", "-- two "] {
            let journal = Journal::new(folder.path(), buffer, "select 1;\n".into());
            journal.record(vec![Edit { at: 0, removed: String::new(), inserted: typed.into() }]);
            journal.sync();
            // A copy has no lock on it, as after a crash.
            let mine = |path: &PathBuf| std::fs::read_to_string(path).is_ok_and(|text| text.contains(typed));
            let all = std::fs::read_dir(folder.path()).unwrap().flatten().map(|entry| entry.path());
            let path = all.into_iter().find(mine).unwrap();
            std::fs::copy(&path, path.with_extension("crashed")).unwrap();
            alive.push(journal);
        }
        let first = Recovery::find(folder.path(), buffer).unwrap().unwrap();
        assert_eq!(first.base, "select 1;\n");
        assert_eq!((first.text.as_str(), first.others), ("-- two select 1;\n", 1));
        first.discard().unwrap();
        assert_eq!(Recovery::find(folder.path(), buffer).unwrap().unwrap().text, "-- one select 1;\n");
    }

    #[test]
    fn a_running_instance_keeps_its_own() {
        let folder = tempfile::tempdir().unwrap();
        let buffer = Path::new("/harbour/a.sql");
        let journal = Journal::new(folder.path(), buffer, String::new());
        journal.record(vec![Edit { at: 0, removed: String::new(), inserted: "a".into() }]);
        journal.sync();
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
        assert!(Recovery::find(folder.path(), buffer).unwrap().is_none(), "it is locked");
        journal.begin("a".into());
        journal.sync();
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0, "saved text needs no journal");
    }
}
