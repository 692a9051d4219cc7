//! Which connection a buffer belongs to: the one that its first lines name, the one that its statements ran on last, or
//! that of its folder, and what its parameters were given. What the logbook remembers is read beside the screen's thread
//! as soon as a buffer is in hand, since others may be writing it.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use jaunty_core::buffers::connection_of_folder;
use jaunty_core::connection::nearby::{self, Found};
use jaunty_core::connection::{Connections, consent};
use jaunty_core::logbook::{Logbook, LogbookError};
use jaunty_language::text::clean;
use jaunty_seam::profile::Profile;

use super::overlay::prompt::Asked;
use super::{App, Prompt};
use crate::work::{Done, Kind};

/// What is known of a buffer from earlier sessions.
#[derive(Debug, Default)]
pub struct Recalled {
    /// The name of the connection that its first lines name, or, where it never ran, its folder does.
    written: Option<String>,
    /// The name of the connection that it ran on last.
    connection: Option<String>,
    /// The values of its parameters, as a person wrote them.
    values: HashMap<String, String>,
    /// What lies near the project, where no file has that connection, or any.
    nearby: Vec<Found>,
}

impl Recalled {
    fn read(logbook: &Logbook, buffer: &Path) -> Result<Recalled, LogbookError> {
        let values = logbook.last_values(buffer)?;
        Ok(Recalled {
            written: None,
            connection: logbook.last_connection(buffer)?,
            values: values.into_iter().map(|(name, value)| (name, value.written())).collect(),
            nearby: Vec::new(),
        })
    }
}

impl App {
    /// Connects a buffer that was just taken up as it was before. Until it is known where its statements ran
    /// it has no connection, lest they run elsewhere; `here` is what it is given if nobody knows.
    pub(super) fn go_where_it_ran(&mut self, here: Option<Profile>) {
        match self.buffer.connection.clone() {
            Some(name) => self.connect_by_name(Some(name), here),
            None => {
                self.leave_connection();
                self.recall(here);
            }
        }
    }

    /// The same for a connection that the text itself names: never another one, which nobody asked for.
    fn connect_as_written(&mut self, name: &str) {
        let profile = self.profile_named(name).cloned();
        let why = match &profile {
            None => "is not known",
            Some(profile) if !consent::is_given(&self.folders, profile) => {
                "takes a secret by a command or a variable that the project names"
            }
            Some(profile) => return self.connect(profile.clone()),
        };
        self.list_connections();
        let (file, name) = (self.buffer.name(), clean::clean(name));
        self.tell_wrong(format!("{file} belongs to the connection {name}, which {why}; choose one here"));
    }

    fn connect_by_name(&mut self, name: Option<String>, here: Option<Profile>) {
        match name.and_then(|name| self.profile_named(&name).cloned()).or(here) {
            Some(profile) => self.connect(profile),
            None if self.known.profiles.is_empty() => {}
            None => self.list_connections(),
        }
    }

    /// The profile of a name: of the files, or of what lies near.
    pub(super) fn profile_named(&self, name: &str) -> Option<&Profile> {
        let near = || self.nearby.iter().map(|found| &found.profile).find(|profile| profile.name == name);
        self.known.find(name).or_else(near)
    }

    /// Asks the logbook about the buffer in hand.
    pub(super) fn recall(&mut self, here: Option<Profile>) {
        let (keeping, buffer, engines) = (self.keeping.clone(), self.buffer.path.clone(), self.engines);
        let written = self.buffer.connection_line();
        let known: Vec<String> = self.known.profiles.iter().map(|profile| profile.name.clone()).collect();
        self.begin_work(Kind::Recall, "loading this buffer's history".into(), move |_| {
            let read = keeping.logbook().map(|logbook| Recalled::read(&logbook, &buffer));
            let recalled = read.transpose().unwrap_or_else(|error| {
                tracing::warn!(%error, "the logbook could not be asked about a buffer");
                None
            });
            let mut recalled = recalled.unwrap_or_default();
            let of_folder = || connection_of_folder(&buffer).filter(|name| known.iter().any(|known| known == name));
            let of_folder = || of_folder().filter(|_| recalled.connection.is_none()).map(str::to_owned);
            recalled.written = written.or_else(of_folder);
            let wanted = recalled.written.as_ref().or(recalled.connection.as_ref());
            let is_unknown = wanted.is_some_and(|name| !known.contains(name));
            if is_unknown || known.is_empty() {
                let project = std::env::current_dir().unwrap_or_default();
                recalled.nearby = nearby::beside(&Connections::default(), &project, engines);
            }
            Done::Recalled(buffer, recalled, here)
        });
    }

    /// Takes in what is known of a buffer.
    pub(super) fn take_recalled(&mut self, buffer: PathBuf, recalled: Recalled, here: Option<Profile>) {
        if self.nearby.is_empty() {
            self.nearby = recalled.nearby;
        }
        // Somebody may have gone on meanwhile: to another buffer, or with a connection.
        if self.buffer.path == buffer && self.buffer.connection.is_none() {
            // What it ran on may have become another one since.
            let is_wanted =
                |name: &String| self.profile_named(name).is_none_or(|p| consent::is_given(&self.folders, p));
            let changed = recalled.connection.clone().filter(|name| !is_wanted(name));
            match recalled.written.or(changed) {
                Some(name) => self.connect_as_written(&name),
                None => self.connect_by_name(recalled.connection, here),
            }
        }
        let known = self.values.entry(buffer).or_default();
        for (name, value) in recalled.values {
            known.entry(name).or_insert(value);
        }
        // Somebody may be asked for one already, and has not begun to answer.
        if self.overlaid::<Prompt>().is_some_and(|prompt| prompt.asked == Asked::Value && prompt.line.is_empty()) {
            self.ask_for_value();
        }
    }

    /// Waits no longer for what the logbook says.
    pub(super) fn give_recall_up(&mut self) {
        self.stop_works(|work| work.kind == Kind::Recall);
        self.tell("still loading this buffer's history; f3 lists the connections");
    }
}
