//! Profiles: new ones, changes to those of the list of connections, and the files that they stand in.

use std::path::PathBuf;

use jaunty_core::connection::{self, Connections, edit, load, url};
use jaunty_language::text::clean;
use jaunty_seam::engine::Engine;
use jaunty_seam::profile::Profile;

use super::overlay::prompt::Asked;
use super::{Answered, App, Form, Item, List, Overlay, Pick, Prompt, Question};

impl App {
    fn engine(&self, name: &str) -> Option<&'static dyn Engine> {
        self.engines.iter().copied().find(|engine| engine.name() == name)
    }

    /// Asks for a URL, from which most fields can be filled in.
    pub fn ask_for_url(&mut self) {
        let server = self.engines.iter().find(|engine| engine.keys().iter().any(|key| key.name == "host"));
        let scheme = server.and_then(|engine| engine.schemes().first()).unwrap_or(&"scheme");
        let title =
            format!("paste a URL, such as {scheme}://clerk@quay.example/bookings, or press enter to fill in fields");
        self.overlay = Some(Overlay::Prompt(Prompt::new(title, Asked::Url)));
    }

    /// Begins a profile from a URL, or by the choice of an engine.
    pub(in crate::app) fn begin_profile(&mut self, text: &str) {
        if text.trim().is_empty() {
            let items = self.engines.iter().map(|engine| Item {
                label: engine.title().to_owned(),
                key: engine.name().to_owned(),
                help: engine.schemes().first().map(|scheme| format!("{scheme}://…")).unwrap_or_default(),
                pick: Pick::NewWith(engine.name()),
            });
            self.overlay = Some(Overlay::List(List::new("engines", items.collect())));
            return;
        }
        match url::parse(text, self.engines) {
            Ok(mut from) => {
                let engine = self.engine(&from.profile.engine);
                let name = from.profile.text("database").or(from.profile.text("path")).unwrap_or(&from.profile.engine);
                from.profile.name = self.free_name(name.rsplit('/').next().unwrap_or(name));
                if from.secret.is_some() {
                    from.profile = from.profile.with("secret", "ask");
                }
                if let Some(engine) = engine {
                    self.open_form(engine, &from.profile, None);
                }
                if let Some(form) = self.overlaid::<Form>() {
                    let mut told = Vec::new();
                    if let Some(secret) = from.secret
                        && form.fill_in_password(secret.reveal())
                    {
                        told.push("The password is kept in memory only; you will be asked for it next time.".into());
                    }
                    if !from.left_out.is_empty() {
                        told.push(format!("Ignored: {}.", from.left_out.join(", ")));
                    }
                    if !told.is_empty() {
                        form.status = Some((true, told));
                    }
                }
            }
            Err(error) => {
                self.tell_wrong(format!("{error}. {}", error.remedy.as_deref().unwrap_or_default()));
            }
        }
    }

    /// Begins a profile for an engine.
    pub(in crate::app) fn new_profile(&mut self, engine: &str) {
        if let Some(engine) = self.engine(engine) {
            let name = self.free_name(engine.name());
            self.open_form(engine, &Profile::new(name, engine.name()), None);
        }
    }

    /// A name that no profile has yet.
    fn free_name(&self, wanted: &str) -> String {
        let names = std::iter::once(wanted.to_owned()).chain((2..).map(|n| format!("{wanted}-{n}")));
        names.into_iter().find(|name| self.known.find(name).is_none()).unwrap_or_default()
    }

    fn open_form(&mut self, engine: &'static dyn Engine, profile: &Profile, original: Option<Profile>) {
        self.connections += 1;
        self.overlay = Some(Overlay::Form(Box::new(Form::new(engine, profile, original, self.connections))));
    }

    /// What is chosen in the list of connections, with its engine.
    fn chosen_profile(&mut self) -> Option<(&'static dyn Engine, Profile)> {
        let Some(Pick::Connection(profile)) = self.overlaid::<List>()?.picked().cloned() else { return None };
        Some((self.engine(&profile.engine)?, *profile))
    }

    /// The file of the chosen profile. One that was only found has none, which is told.
    fn chosen_in_file(&mut self) -> Option<(Profile, PathBuf)> {
        let (_, profile) = self.chosen_profile()?;
        let file = profile.file.clone();
        if file.is_none() {
            self.tell_wrong(format!("{} is not in a connections file", profile.name));
        }
        Some((profile, file?))
    }

    /// Changes the profile that is chosen in the list of connections.
    pub fn edit_profile(&mut self) {
        let Some((engine, profile)) = self.chosen_profile() else { return };
        match &profile.file {
            Some(_) => self.open_form(engine, &profile, Some(profile.clone())),
            None => self.make_profile_of_found(engine, profile),
        }
    }

    /// Makes a copy of it.
    pub fn copy_profile(&mut self) {
        let Some((engine, profile)) = self.chosen_profile() else { return };
        if profile.file.is_none() {
            return self.make_profile_of_found(engine, profile);
        }
        let copy = Profile { name: self.free_name(&format!("{}-copy", profile.name)), ..profile };
        self.open_form(engine, &copy, None);
    }

    /// The form makes a profile of a database that was found.
    fn make_profile_of_found(&mut self, engine: &'static dyn Engine, mut found: Profile) {
        found.name = self.free_name(&found.name);
        let password = found.settings.remove("password");
        if password.is_some() {
            found = found.with("secret", "ask");
        }
        self.open_form(engine, &found, None);
        if let Some(password) = password
            && let Some(form) = self.overlaid::<Form>()
        {
            form.fill_in_password(&password.to_string());
        }
    }

    /// Asks whether to remove it.
    pub fn ask_to_remove_profile(&mut self) {
        let Some((profile, file)) = self.chosen_in_file() else { return };
        let text = format!("Remove {} from {}?", profile.name, file.display());
        let answers = &[('r', "remove it; its runs stay in the logbook", Answered::Remove)];
        let question = Question { profile: Some(Box::new(profile)), ..Question::new(text, answers) };
        self.overlay = Some(Overlay::Question(question));
    }

    /// Moves it up or down in its file.
    pub fn shift_profile(&mut self, by: isize) {
        let Some((profile, file)) = self.chosen_in_file() else { return };
        let moved = edit::move_by(&file, &profile.name, by);
        self.after_edit(moved);
        self.list_connections();
        if let Some(list) = self.overlaid::<List>() {
            let at = list.items.iter().position(|item| item.label == clean::clean(&profile.name));
            list.chosen = at.unwrap_or(0);
        }
    }

    pub(in crate::app) fn remove_profile(&mut self, profile: &Profile) {
        if let Some(file) = &profile.file {
            let removed = edit::remove(file, &profile.name);
            if self.after_edit(removed) {
                self.tell(format!("{} removed", profile.name));
            }
        }
    }

    /// Reads the files again after a change. Says what went wrong, if it did.
    pub(in crate::app) fn after_edit(&mut self, outcome: Result<(), edit::EditError>) -> bool {
        if let Err(error) = outcome {
            self.tell_wrong(error.to_string());
            return false;
        }
        self.know(load(&self.connections_files(), self.engines));
        true
    }

    /// Takes in what the connections files hold now; profiles that were made on the command line stay.
    pub(in crate::app) fn know(&mut self, known: Connections) {
        let made: Vec<_> = self.known.profiles.iter().filter(|profile| profile.file.is_none()).cloned().collect();
        self.known = known;
        self.known_stamp += 1;
        self.known.profiles.splice(0..0, made);
        // Where it stands in its file, and what is said of it, does not take a new connection.
        for connection in [&mut self.connection].into_iter().chain(&mut self.background) {
            let now = connection
                .profile
                .as_ref()
                .and_then(|profile| self.known.find(&profile.name).filter(|now| now.leads_as(profile)));
            if let Some(now) = now.cloned() {
                connection.profile = Some(now);
            }
        }
    }

    /// Opens the connections file at the profile in hand, in the text editor that the environment names.
    pub fn edit_connections_file(&mut self) {
        let in_hand = self.connection.profile.as_ref().and_then(|p| Some((p.file.clone()?, p.line)));
        let (file, line) = in_hand.unwrap_or_else(|| (self.file_for_new(), 1));
        self.edit_file_outside(&file, line);
    }

    pub(in crate::app) fn connections_files(&self) -> Vec<PathBuf> {
        let mut files = connection::connections_files(&std::env::current_dir().unwrap_or_default(), &self.folders);
        for file in self.known.profiles.iter().filter_map(|profile| profile.file.clone()) {
            if !files.contains(&file) {
                files.push(file);
            }
        }
        files
    }

    /// The file that new profiles go to: that of the project, if there is one, or the user's.
    pub(in crate::app) fn file_for_new(&self) -> PathBuf {
        let first = self.connections_files().into_iter().next();
        first.unwrap_or_else(|| self.folders.config.join("connections.toml"))
    }
}
