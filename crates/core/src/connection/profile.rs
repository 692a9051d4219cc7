//! One connection's entry in a connections file: everything but the secret.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::Guard;

/// A profile.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Profile {
    /// Its name: the table's key in the file.
    pub name: String,
    /// The engine's name.
    pub engine: String,
    /// How it protects its database.
    pub guard: Guard,
    /// A remark for people.
    pub note: Option<String>,
    /// The file that it stands in; none for one that was made on the command line.
    pub file: Option<PathBuf>,
    /// The line of its heading in that file.
    pub line: usize,
    /// All other keys.
    pub settings: BTreeMap<String, Setting>,
}

/// A value of a key in a profile.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Setting {
    /// Text.
    Text(String),
    /// A whole number.
    Number(i64),
    /// Yes or no.
    Flag(bool),
}

impl Profile {
    /// A profile that stands in no file.
    pub fn new(name: impl Into<String>, engine: impl Into<String>) -> Self {
        Profile {
            name: name.into(),
            engine: engine.into(),
            guard: Guard::Open,
            note: None,
            file: None,
            line: 0,
            settings: BTreeMap::new(),
        }
    }

    /// The same with a text set.
    pub fn with(mut self, key: &str, value: impl Into<String>) -> Self {
        self.settings.insert(key.to_owned(), Setting::Text(value.into()));
        self
    }

    /// The same with a guard.
    pub fn guarded(mut self, guard: Guard) -> Self {
        self.guard = guard;
        self
    }

    /// A text by its key.
    pub fn text(&self, key: &str) -> Option<&str> {
        match self.settings.get(key) {
            Some(Setting::Text(text)) => Some(text),
            _ => None,
        }
    }

    /// A yes or no by its key; no when it is not there.
    pub fn flag(&self, key: &str) -> bool {
        self.settings.get(key) == Some(&Setting::Flag(true))
    }

    /// A path by its key: `~/` is the home folder, and what is relative is relative to the folder
    /// of the profile's file.
    pub fn path(&self, key: &str) -> Option<PathBuf> {
        let text = self.text(key)?;
        if let Some(rest) = text.strip_prefix("~/")
            && let Ok(home) = etcetera::home_dir()
        {
            return Some(home.join(rest));
        }
        let base = self.file.as_deref().and_then(Path::parent);
        Some(base.map_or_else(|| PathBuf::from(text), |base| base.join(text)))
    }
}
