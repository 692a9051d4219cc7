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
use std::sync::mpsc;
use std::thread;

use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};

use super::document::Edit;

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

/// Writes the edits of one buffer as they happen, on a thread of its own.
#[derive(Debug)]
pub struct Journal {
    orders: mpsc::Sender<Order>,
}

impl Journal {
    /// Journals for the buffer at `path` go into `folder`. Nothing is written before the first edit.
    pub fn new(folder: &Path, path: &Path, text: String) -> Self {
        let (orders, inbox) = mpsc::channel();
        let writer = Writer { folder: folder.to_owned(), path: path.to_owned(), base: text, file: None };
        thread::Builder::new().name("journal".into()).spawn(move || writer.work(&inbox)).map_or_else(
            |error| tracing::warn!(%error, "no thread for the journal: unsaved text will not survive a crash"),
            drop,
        );
        Journal { orders }
    }

    /// Takes note of edits.
    pub fn record(&self, edits: Vec<Edit>) {
        if !edits.is_empty() {
            // A journal whose thread is gone has already said so in the log.
            let _ = self.orders.send(Order::Edits(edits));
        }
    }

    /// Begins anew from a text that is saved; what was recorded is not needed any more.
    pub fn begin(&self, text: String) {
        let _ = self.orders.send(Order::Begin(text));
    }

    /// Waits until everything recorded so far is in the file.
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
    base: String,
    file: Option<(File, PathBuf)>,
}

impl Writer {
    fn work(mut self, inbox: &mpsc::Receiver<Order>) {
        while let Ok(order) = inbox.recv() {
            let outcome = match order {
                Order::Edits(edits) => self.write(&edits),
                Order::Begin(text) => {
                    self.base = text;
                    self.close()
                }
                Order::Sync(done) => {
                    let _ = done.send(());
                    Ok(())
                }
            };
            if let Err(error) = outcome {
                tracing::warn!(%error, path = %self.path.display(), "journal");
            }
        }
    }

    fn close(&mut self) -> io::Result<()> {
        match self.file.take() {
            Some((_, path)) => std::fs::remove_file(path),
            None => Ok(()),
        }
    }

    fn write(&mut self, edits: &[Edit]) -> io::Result<()> {
        let mut lines = Vec::new();
        if self.file.is_none() {
            let head = Head { journal: 1, path: self.path.clone(), text: std::mem::take(&mut self.base) };
            serde_json::to_writer(&mut lines, &head)?;
            lines.push(b'\n');
            self.file = Some(create(&self.folder, &self.path)?);
        }
        for edit in edits {
            let line = Line { at: edit.at, del: edit.removed.len(), ins: edit.inserted.clone() };
            serde_json::to_writer(&mut lines, &line)?;
            lines.push(b'\n');
        }
        match &mut self.file {
            Some((file, _)) => file.write_all(&lines),
            None => Ok(()),
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
    /// How many edits that were.
    pub edits: usize,
    /// The journals it was read from. They are kept until [`Recovery::discard`].
    files: Vec<PathBuf>,
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
        let mut newest: Option<(std::time::SystemTime, PathBuf)> = None;
        for entry in entries.flatten() {
            if !entry.file_name().to_string_lossy().starts_with(&prefix) {
                continue;
            }
            let file = File::open(entry.path())?;
            if file.try_lock().is_err() {
                continue;
            }
            let changed = entry.metadata()?.modified()?;
            if newest.as_ref().is_none_or(|(time, _)| *time < changed) {
                newest = Some((changed, entry.path()));
            }
        }
        newest.map_or(Ok(None), |(_, file)| replay(&file))
    }

    /// Removes the journals, once their text is journalled or saved again.
    pub fn discard(self) -> io::Result<()> {
        self.files.iter().try_for_each(std::fs::remove_file)
    }
}

fn replay(path: &Path) -> io::Result<Option<Recovery>> {
    let mut lines = BufReader::new(File::open(path)?).split(b'\n');
    let Some(Ok(head)) = lines.next().transpose()?.map(|line| serde_json::from_slice::<Head>(&line)) else {
        return Ok(None);
    };
    let mut text = head.text;
    let mut edits = 0;
    for line in lines {
        let Ok(Line { at, del, ins }) = serde_json::from_slice::<Line>(&line?) else { break };
        if text.get(at..at + del).is_none() {
            break;
        }
        text.replace_range(at..at + del, &ins);
        edits += 1;
    }
    Ok((edits > 0).then(|| Recovery { text, edits, files: vec![path.to_owned()] }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::dialect::SQLITE;
    use crate::text::document::Document;

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
        let deadline = std::time::Instant::now() + std::time::Duration::from_secs(10);
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
