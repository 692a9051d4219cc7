//! What other programs change: the buffer's file, and the connections files.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jaunty_core::connection::{Connections, load};
use jaunty_language::text::clean;
use jaunty_seam::profile::Guard;
use notify::Watcher;

use super::{App, Connection, Message};

/// Folders whose changes the system tells of, and how they came to be those.
pub(super) struct Watched {
    /// The buffer's folder then.
    buffer: PathBuf,
    folders: BTreeSet<PathBuf>,
    _watcher: notify::RecommendedWatcher,
}

impl App {
    /// Lets the system tell of changes in the folders of the buffer and of the connections files, if the buffer is
    /// not in the folder that it was in.
    pub(super) fn watch_folder(&mut self) {
        let folder = self.buffer.path.parent().unwrap_or(Path::new("."));
        if self.with_cancel.as_ref().is_none_or(|with_cancel| with_cancel.buffer != folder) {
            let folder = folder.to_owned();
            self.watch(folder);
        }
    }

    fn watch(&mut self, buffer: PathBuf) {
        let here = std::env::current_dir().unwrap_or_default();
        let mut folders: BTreeSet<PathBuf> =
            [buffer.clone(), here.clone(), here.join(".jaunty"), self.folders.config.clone()].into();
        folders.extend(self.connections_files().iter().filter_map(|file| file.parent()).map(Path::to_owned));
        folders.retain(|folder| folder.is_dir());
        if self
            .with_cancel
            .as_ref()
            .is_some_and(|with_cancel| with_cancel.buffer == buffer && with_cancel.folders == folders)
        {
            return;
        }
        let (post, of_buffer) = (Arc::clone(&self.post), buffer.clone());
        let watcher = notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
            let Some(event) = event.ok().filter(|event| !event.kind.is_access()) else { return };
            let of_connections = |path: &PathBuf| path.ends_with("connections.toml") || path.ends_with(".jaunty");
            if event.paths.iter().any(of_connections) {
                post(Message::ConnectionsChanged);
            }
            // One folder may have two names.
            let same =
                |folder: &Path| folder == of_buffer || folder.canonicalize().ok() == of_buffer.canonicalize().ok();
            if event.paths.iter().filter_map(|path| path.parent()).any(same) {
                post(Message::FilesChanged);
            }
        });
        let watcher = watcher.and_then(|mut watcher| {
            for folder in &folders {
                watcher.watch(folder, notify::RecursiveMode::NonRecursive)?;
            }
            Ok(watcher)
        });
        match watcher {
            Ok(watcher) => self.with_cancel = Some(Watched { buffer, folders, _watcher: watcher }),
            // Some file systems tell nothing; saving still looks.
            Err(error) => tracing::warn!(%error, "changes of files are not told"),
        }
    }

    /// Takes in what another program wrote, where nothing of ours is unsaved.
    pub fn take_in_changes(&mut self) {
        let ours = self.buffer.version().is_none();
        if ours && !self.buffer.document.is_unsaved() && self.buffer.take_from_disk() {
            self.tell(format!("{} was changed by another program and reloaded", self.buffer.name()));
        }
    }

    /// Reads the connections files again, on another thread.
    pub(super) fn read_connections(&mut self) {
        // A folder may have come into being.
        if let Some(buffer) = self.with_cancel.as_ref().map(|with_cancel| with_cancel.buffer.clone()) {
            self.watch(buffer);
        }
        let (files, stamp) = (self.connections_files(), self.known_stamp);
        let (post, engines) = (Arc::clone(&self.post), self.engines);
        let read = move || post(Message::Known(stamp, load(&files, engines)));
        if let Err(error) = std::thread::Builder::new().name("connections".into()).spawn(read) {
            tracing::warn!(%error, "the connections files are not read again");
        }
    }

    /// Connections that are open, and whose file has a stricter guard by now, ask first from now on; what else a guard is
    /// wants a new connection. Tells whether the one in hand does.
    fn ask_as_files_say(&mut self) -> bool {
        let known = &self.known;
        let stricter = |connection: &mut Connection| {
            let Some(profile) = &mut connection.profile else { return false };
            let now = known.find(&profile.name).filter(|now| now.file == profile.file && now.guard > profile.guard);
            let asks = now.is_some() && profile.guard == Guard::Open;
            if asks {
                profile.guard = Guard::Ask;
                connection.ask_first();
            }
            asks
        };
        for parked in &mut self.background {
            stricter(parked);
        }
        stricter(&mut self.connection)
    }

    /// Takes in what the connections files held a moment ago, unless they were read or changed here since.
    pub(super) fn known_again(&mut self, stamp: u64, known: Connections) {
        if stamp != self.known_stamp {
            return;
        }
        let of_files = |all: &Connections| {
            all.profiles.iter().filter(|profile| profile.file.is_some()).cloned().collect::<Vec<_>>()
        };
        let changed = of_files(&self.known) != of_files(&known);
        let wrong = known.problems.iter().find(|problem| !self.known.problems.contains(problem)).cloned();
        let mended = known.problems.is_empty() && !self.known.problems.is_empty();
        self.know(known);
        self.renew_connections();
        let asks_now = self.ask_as_files_say();
        let in_hand = self.connection.profile.as_ref();
        let other = in_hand.and_then(|profile| {
            let now = self.known.find(&profile.name)?;
            (!now.leads_as(profile)).then(|| clean::clean(&profile.name).into_owned())
        });
        match (wrong, other) {
            (Some(problem), _) => self.tell_wrong(clean::clean(&problem.to_string()).into_owned()),
            (None, Some(name)) if changed => {
                let key = self.key_of("connections").unwrap_or_default();
                let asks = if asks_now { "asks before it writes from now on: it " } else { "" };
                self.tell(format!(
                    "{name} {asks}has changed in its file; choose it again ({key}) to reconnect as it says now"
                ));
            }
            (None, None) if asks_now => {
                let name = clean::clean(self.connection.name()).into_owned();
                self.tell(format!("{name} asks before it writes from now on, as its file says"));
            }
            (None, _) if changed || mended => self.tell("connections reloaded"),
            (None, _) => {}
        }
    }
}
