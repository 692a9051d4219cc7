//! A load: the file is looked at, and its rows go into the table in a session of their own.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use jaunty_core::catalog::naming::snake_case;
use jaunty_core::connection::open_asking;
use jaunty_core::files::parts::Held;
use jaunty_core::import::preview::{Preview, matching, preview};
use jaunty_core::import::{ImportError, Loaded, Options, Refused, Source, load};
use jaunty_core::run::Order;
use jaunty_core::run::loading::Noted;
use jaunty_core::words;
use jaunty_language::dialect::Family;
use jaunty_language::text::clean;
use jaunty_seam::engine::load::Meeting;
use jaunty_seam::engine::{NoPrompt, Stop};
use jaunty_seam::profile::{Guard, Profile};

use super::{ImportView, Loading, Wanted};
use crate::app::App;
use crate::app::connection::Link;
use crate::app::overlay::Overlay;
use crate::line::Line;
use crate::work::{Done, Kind, stopping};

impl ImportView {
    /// Has the file looked at again where something else is said of it.
    pub(super) fn look_again(&mut self, app: &mut App) {
        let now = self.snapshot();
        if self.loading.is_some() || now == self.made_of {
            return;
        }
        // Once it is there.
        let Some(catalog) = app.connection.catalog.clone() else { return };
        self.made_of = now;
        match self.wanted(&app.folder_for_rows()) {
            Err(error) => (self.preview, self.reading) = (Some(Err(error)), false),
            Ok(wanted) => {
                let Some(dialect) = app.engine_of(&self.profile).map(jaunty_seam::engine::Engine::dialect) else {
                    return;
                };
                self.reading = true;
                let pasted = self.pasted.clone();
                app.begin_work(Kind::Import, "looking at the file".into(), move |_| {
                    let found = preview(&wanted.path, &wanted.choices, &wanted.into, &catalog, dialect);
                    drop(pasted);
                    Done::Previewed(found.map(Box::new).map_err(|error| error.to_string()))
                });
            }
        }
    }
}

impl App {
    /// Asks for a file whose rows go into a table of the connection in hand.
    pub fn load_file(&mut self) {
        self.load_rows_of(None);
    }

    /// Says what is missing where the program was started with a file of rows.
    pub(in crate::app) fn tell_of_rows_to_load(&mut self) {
        if let Some(file) = self.to_load.as_deref().filter(|_| self.connection.profile.is_none()) {
            let name = file.file_name().unwrap_or_default().to_string_lossy();
            let connections = self.key_of("connections").unwrap_or_default();
            self.tell(format!("choose a connection ({connections}) to load {} into", clean::clean(&name)));
        }
    }

    /// Asks about the file of rows that the program was started with, as soon as there is a connection.
    pub(in crate::app) fn load_what_was_named(&mut self) {
        let is_there = self.overlay.is_none() && matches!(self.connection.link, Link::Open);
        if let Some(file) = self.to_load.take_if(|_| is_there) {
            self.load_rows_of(Some(&file));
        }
    }

    fn load_rows_of(&mut self, file: Option<&Path>) {
        let Some(profile) = self.connection.profile.clone() else { return self.tell_wrong("connect first") };
        let Some(engine) = self.engine_of(&profile) else { return };
        let name = clean::clean(&profile.name).into_owned();
        if engine.dialect().types_of_rows().is_none() {
            return self.tell_wrong(format!("rows cannot be loaded into {} yet", engine.title()));
        }
        if profile.guard == Guard::ReadOnly {
            return self.tell_wrong(format!("{name} is read-only: nothing can be loaded there"));
        }
        if engine.is_private(&profile) {
            return self.tell_wrong(format!("{name} is in memory, and another session would see nothing of it"));
        }
        let path = file.map(|file| file.display().to_string()).unwrap_or_default();
        // A table is mostly called as the file is.
        let table = file.and_then(Path::file_stem).map(|stem| snake_case(&stem.to_string_lossy())).unwrap_or_default();
        let family = engine.dialect().family;
        let table = if family == Family::Commands { String::new() } else { table };
        self.overlay = Some(Overlay::Import(Box::new(ImportView::new(profile, family, &path, &table))));
    }

    /// Looks at what is to be loaded, where that is open and is not what was looked at.
    pub(in crate::app) fn follow_import(&mut self) {
        if matches!(self.overlay, Some(Overlay::Import(_))) {
            self.on(|view: &mut ImportView, app| view.look_again(app));
        }
    }

    pub(in crate::app) fn take_preview(&mut self, found: Result<Box<Preview>, String>) {
        let Some(view) = self.overlaid::<ImportView>() else { return };
        view.reading = false;
        if let Ok(preview) = &found {
            let names: Vec<String> = preview.source.found.columns.iter().map(|column| column.name.clone()).collect();
            let same = view.columns.iter().map(|(name, _)| name).eq(names.iter());
            if !same {
                view.touched = vec![false; names.len()];
                view.columns = names.into_iter().map(|name| (name, Line::default())).collect();
            }
            if let Ok(matching) = &preview.matching {
                for (at, ((_, line), touched)) in view.columns.iter_mut().zip(&view.touched).enumerate() {
                    let to = matching.targets.iter().find(|target| target.from == at);
                    if !touched {
                        *line = Line::offered(to.map(|target| target.column.name.clone()).unwrap_or_default());
                    }
                }
            }
            view.made_of = view.snapshot();
        }
        view.preview = Some(found);
        view.chosen = view.chosen.min(view.count().saturating_sub(1));
        if std::mem::take(&mut view.goes_on) {
            self.on(|view: &mut ImportView, app| view.load(app));
        }
    }

    pub(super) fn begin_load(
        &mut self,
        profile: &Profile,
        wanted: Wanted,
        pasted: Option<Arc<Held>>,
    ) -> Option<Loading> {
        let engine = self.engine_of(profile)?;
        let (secret, catalog) = (self.secret_of(profile), self.connection.catalog.clone()?);
        let (keeping, profile, stop) = (self.keeping.clone(), profile.clone(), Stop::default());
        let size = std::fs::metadata(&wanted.path).ok().map(|data| data.len());
        let loading =
            Loading { since: Instant::now(), rows: Arc::default(), read: Arc::default(), size, stop: stop.clone() };
        let (rows, read) = (Arc::clone(&loading.rows), Arc::clone(&loading.read));
        let whose = match &pasted {
            Some(_) => "pasted rows".to_owned(),
            None => wanted.path.display().to_string(),
        };
        self.begin_work(Kind::Load, "loading rows".into(), move |progress| {
            let dialect = engine.dialect();
            let failed = |error: ImportError| said(&error);
            let loaded = || -> Result<(Loaded, String, Duration), String> {
                let source = Source::open(&wanted.path, &wanted.choices).map_err(failed)?;
                let matching = matching(&source, &wanted.into, &catalog, dialect).map_err(failed)?;
                if wanted.meeting == Meeting::Replace && matching.key.is_empty() {
                    return Err(format!(
                        "{} has no key: nothing tells which rows are there already",
                        wanted.into.table
                    ));
                }
                let opened = open_asking(engine, &profile, secret.as_ref(), &NoPrompt, &stop);
                let mut session = opened.map_err(|error| error.to_string())?;
                let location = session.location();
                let names = source.found.columns.iter().map(|column| column.name.clone()).collect();
                let refused = wanted.refused.as_ref().map(|path| Refused::new(path, names, &wanted.path));
                let refused = refused.transpose().map_err(failed)?;
                let since = Instant::now();
                progress.expect(size.unwrap_or_default());
                let mut told = |sent: u64, at: u64| {
                    rows.store(sent, Ordering::Relaxed);
                    let before = read.swap(at, Ordering::Relaxed);
                    // Stopping is the token's matter.
                    let _ = progress.advance(usize::try_from(at.saturating_sub(before)).unwrap_or_default());
                };
                let noted = Noted::begin(&keeping, (&profile, &location), (&whose, &wanted.into.table), &matching);
                let options = Options {
                    parts: wanted.parts,
                    meeting: wanted.meeting,
                    refused,
                    stop: stop.clone(),
                    told: &mut told,
                };
                let outcome = load(source, &matching, session.as_mut(), dialect, options);
                noted.end(&keeping, &outcome, since.elapsed());
                Ok((outcome.map_err(failed)?, wanted.into.table.clone(), since.elapsed()))
            };
            let loaded = stopping(progress, &stop, loaded);
            drop(pasted);
            Done::Loaded(loaded.map(|(loaded, table, took)| in_words(&loaded, &table, wanted.refused.as_deref(), took)))
        });
        Some(loading)
    }

    pub(in crate::app) fn take_loaded(&mut self, loaded: Result<String, String>) {
        if loaded.is_ok() {
            // A table may be new, and statistics are others.
            self.connection.ask(Order::Catalog);
        }
        match self.overlaid::<ImportView>() {
            Some(view) => (view.loading, view.ended) = (None, Some(loaded)),
            None => match loaded {
                Ok(said) => self.tell(said),
                Err(error) => self.tell_wrong(clean::clean(&error).into_owned()),
            },
        }
    }
}

fn in_words(loaded: &Loaded, table: &str, refused: Option<&Path>, took: Duration) -> String {
    let mut text = format!("{} loaded into {table} in {}", words::count(loaded.rows, "row"), words::duration(took));
    if loaded.there > 0 {
        text.push_str(&format!(" · {} there already", words::number(loaded.there)));
    }
    if loaded.unusual > 0 {
        text.push_str(&format!(" · {} not of their column's type", words::count(loaded.unusual, "value")));
    }
    if let (Some(file), true) = (refused, loaded.refused > 0) {
        text.push_str(&format!(
            " · {} refused, with the reasons in {}",
            words::count(loaded.refused, "row"),
            file.display()
        ));
    }
    text
}

/// Why it was not loaded, and what stays.
fn said(error: &ImportError) -> String {
    let stays = |kept: u64| match kept {
        0 => "nothing was loaded".to_owned(),
        rows => format!("{} before it stay", words::count(rows, "row")),
    };
    match error {
        ImportError::Stopped { kept } => format!("cancelled; {}", stays(*kept)),
        ImportError::Server { error, kept, .. } => format!("{error}; {}", stays(*kept)),
        ImportError::Row { kept, .. } => {
            format!("{error}; {}. A file for refused rows lets the others be loaded", stays(*kept))
        }
        error => error.to_string(),
    }
}
