//! A profile that is being written: fields to fill in, tried before it is saved.

use std::path::PathBuf;
use std::sync::Arc;
use std::time::Instant;

use jaunty_core::connection::{self, Connections, Tried, edit, load, url};
use jaunty_language::text::clean;
use jaunty_seam::engine::{Engine, Stop, Takes};
use jaunty_seam::error::EngineError;
use jaunty_seam::profile::{Guard, Profile, Secret};

use super::list::Item;
use super::prompt::Asked;
use super::{Answered, App, List, Message, Overlay, Pick, Prompt, Question};
use crate::line::Line;

/// One field.
#[derive(Debug, Clone)]
pub struct Field {
    /// The key in the file; `name` for the profile's name, and [`PASSWORD`].
    pub key: &'static str,
    /// What was filled in.
    pub line: Line,
    /// What is taken where nothing is.
    pub usual: &'static str,
    /// A line about it.
    pub help: &'static str,
    /// Its words, where it takes one of several.
    pub words: &'static [&'static str],
    /// Whether it is shown without being asked for.
    pub common: bool,
}

/// The field for a password that is kept in memory only.
pub const PASSWORD: &str = "(password)";

const GUARDS: &[&str] = &["open", "ask", "read-only"];

/// A profile that is being written.
#[derive(Debug)]
pub struct Form {
    /// The engine.
    pub engine: &'static str,
    /// What the engine is called.
    pub title: &'static str,
    /// Its fields.
    pub fields: Vec<Field>,
    /// The field in hand, among those that are shown.
    pub chosen: usize,
    /// Whether the rare fields are shown too.
    pub all: bool,
    /// Since when it is being tried.
    pub trying: Option<Instant>,
    /// How trying it went, in lines, and whether it went well.
    pub told: Option<(bool, Vec<String>)>,
    /// The profile that is being changed.
    original: Option<Profile>,
    number: u64,
}

impl Drop for Form {
    fn drop(&mut self) {
        let secrets = self.fields.iter_mut().filter(|field| matches!(field.key, PASSWORD | "password"));
        secrets.for_each(|field| field.line.wipe());
    }
}

impl Form {
    fn new(engine: &'static dyn Engine, profile: &Profile, original: Option<Profile>, number: u64) -> Form {
        let field = |key, text: String, help, takes, common| {
            let words = if let Takes::Word(words) = takes { words } else { &[] };
            Field { key, line: text.into(), usual: "", help, words, common }
        };
        let mut fields = vec![field("name", profile.name.clone(), "name of this profile", Takes::Text, true)];
        for key in engine.keys() {
            let text = profile.settings.get(key.name).map(ToString::to_string).unwrap_or_default();
            // What is filled in is shown.
            let common = key.common || !text.is_empty();
            fields.push(Field { usual: key.usual, ..field(key.name, text, key.help, key.takes, common) });
        }
        if engine.keys().iter().any(|key| key.name == "secret") {
            let at = fields.iter().position(|f| f.key == "secret").unwrap_or(fields.len());
            let help = "for this session only: kept in memory, never stored";
            fields.insert(at, field(PASSWORD, String::new(), help, Takes::Text, true));
        }
        let guard = profile.guard.word().to_owned();
        let help = "open; ask before anything that writes; read-only, enforced by the server";
        fields.push(field("guard", guard, help, Takes::Word(GUARDS), true));
        fields.push(field("note", profile.note.clone().unwrap_or_default(), "a note", Takes::Text, true));
        for (key, value, help) in [
            ("label", &profile.label, "a word for the first line of the screen, such as production"),
            ("group", &profile.group, "profiles of one group are listed together"),
        ] {
            let text = value.clone().unwrap_or_default();
            let common = !text.is_empty();
            fields.push(field(key, text, help, Takes::Text, common));
        }
        Form {
            engine: engine.name(),
            title: engine.title(),
            fields,
            chosen: 0,
            all: false,
            trying: None,
            told: None,
            original,
            number,
        }
    }

    /// The fields that are shown, by index.
    pub fn shown(&self) -> Vec<usize> {
        (0..self.fields.len()).filter(|at| self.all || self.fields[*at].common).collect()
    }

    /// The field in hand.
    pub fn field(&self) -> Option<&Field> {
        self.shown().get(self.chosen).map(|at| &self.fields[*at])
    }

    fn field_mut(&mut self) -> Option<&mut Field> {
        let at = *self.shown().get(self.chosen)?;
        self.fields.get_mut(at)
    }

    /// Whether it is about a profile that stands in a file.
    pub fn changes_one(&self) -> bool {
        self.original.is_some()
    }

    /// Where a person writes; none in a field that takes one of several words.
    pub(super) fn line(&mut self) -> Option<&mut Line> {
        self.field_mut().filter(|field| field.words.is_empty()).map(|field| &mut field.line)
    }

    /// Writes into the field in hand; of words it takes the one that begins so, or the next one.
    pub(super) fn type_text(&mut self, text: &str) {
        let Some(field) = self.field_mut() else { return };
        if field.words.is_empty() {
            field.line.insert(text);
        } else if let Some(word) = field.words.iter().find(|word| word.starts_with(text)) {
            field.line = Line::from(*word);
        } else {
            self.turn(1);
        }
    }

    pub(super) fn move_by(&mut self, by: isize) {
        self.chosen = self.chosen.saturating_add_signed(by).min(self.shown().len().saturating_sub(1));
    }

    /// Takes the next of a field's words.
    fn turn(&mut self, by: isize) {
        let Some(field) = self.field_mut().filter(|field| !field.words.is_empty()) else { return };
        let at = field.words.iter().position(|word| *word == field.line.text()).unwrap_or(0);
        let next = (at as isize + by).rem_euclid(field.words.len() as isize) as usize;
        field.line = Line::from(field.words[next]);
    }

    fn take_word_back(&mut self) {
        if let Some(field) = self.field_mut() {
            field.line.take();
        }
    }

    fn text(&self, key: &str) -> &str {
        self.fields.iter().find(|field| field.key == key).map_or("", |field| field.line.text().trim())
    }

    fn secret(&self) -> Option<Secret> {
        let text = self.fields.iter().find(|field| field.key == PASSWORD).map_or("", |field| field.line.text());
        (!text.is_empty()).then(|| Secret::new(text.to_owned()))
    }

    /// The profile as filled in, or the field that has a mistake and what it is.
    fn profile(&self, engine: &dyn Engine) -> Result<Profile, (usize, String)> {
        let mut profile = Profile::new(self.text("name"), self.engine);
        profile.guard = Guard::from_word(self.text("guard")).unwrap_or_default();
        let filled = |key| Some(self.text(key).to_owned()).filter(|text| !text.is_empty());
        (profile.note, profile.label, profile.group) = (filled("note"), filled("label"), filled("group"));
        profile.file = self.original.as_ref().and_then(|original| original.file.clone());
        for (at, field) in self.fields.iter().enumerate() {
            let Some(key) = engine.keys().iter().find(|key| key.name == field.key) else { continue };
            let text = field.line.text().trim();
            if text.is_empty() {
                if key.required {
                    return Err((at, format!("{} is required: {}", key.name, key.help)));
                }
                continue;
            }
            profile.settings.insert(key.name.to_owned(), url::setting(key, text).map_err(|what| (at, what))?);
        }
        Ok(profile)
    }

    fn go_to(&mut self, at: usize) {
        self.all |= !self.fields[at].common;
        self.chosen = self.shown().iter().position(|shown| *shown == at).unwrap_or(0);
    }

    fn wrong(&mut self, line: String) {
        self.told = Some((false, vec![line]));
    }
}

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
    pub(super) fn begin_profile(&mut self, text: &str) {
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
                if let Some(Overlay::Form(form)) = &mut self.overlay {
                    if let (Some(secret), Some(field)) =
                        (from.secret, form.fields.iter_mut().find(|field| field.key == PASSWORD))
                    {
                        field.line = Line::from(secret.reveal());
                        form.told = Some((
                            true,
                            vec![
                                "The password in the URL is kept in memory only; you will be asked for it next time."
                                    .into(),
                            ],
                        ));
                    }
                    if !from.left_out.is_empty() {
                        form.told = Some((true, vec![format!("Ignored in the URL: {}.", from.left_out.join(", "))]));
                    }
                }
            }
            Err(error) => {
                self.tell_wrong(format!("{error}. {}", error.remedy.as_deref().unwrap_or_default()));
            }
        }
    }

    /// Begins a profile for an engine.
    pub(super) fn new_profile(&mut self, engine: &str) {
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

    /// What a key does to the profile that is chosen in the list. False if nothing.
    pub(super) fn key_to_profile(&mut self, key: &str, profile: &Profile) -> bool {
        let Some(engine) = self.engine(&profile.engine) else { return false };
        match (key, &profile.file) {
            // One that was found: the form makes a profile of it.
            ("ctrl-e" | "ctrl-y", None) => {
                let mut found = profile.clone();
                found.name = self.free_name(&profile.name);
                let password = found.settings.remove("password");
                if password.is_some() {
                    found = found.with("secret", "ask");
                }
                self.open_form(engine, &found, None);
                if let (Some(password), Some(Overlay::Form(form))) = (password, &mut self.overlay)
                    && let Some(field) = form.fields.iter_mut().find(|field| field.key == PASSWORD)
                {
                    field.line = Line::from(password.to_string());
                }
            }
            ("ctrl-x" | "alt-up" | "alt-down", None) => {
                self.tell_wrong(format!("{} is not in a connections file", profile.name));
            }
            ("ctrl-e", _) => self.open_form(engine, profile, Some(profile.clone())),
            ("ctrl-y", _) => {
                let copy = Profile { name: self.free_name(&format!("{}-copy", profile.name)), ..profile.clone() };
                self.open_form(engine, &copy, None);
            }
            ("ctrl-x", Some(file)) => {
                let text = format!("Remove {} from {}?", profile.name, file.display());
                let answers = &[('r', "remove it; its runs stay in the logbook", Answered::Remove)];
                let question = Question { profile: Some(Box::new(profile.clone())), ..Question::new(text, answers) };
                self.overlay = Some(Overlay::Question(question));
            }
            ("alt-up" | "alt-down", Some(file)) => {
                let by = if key == "alt-up" { -1 } else { 1 };
                let moved = edit::move_by(file, &profile.name, by);
                self.after_edit(moved);
                self.list_connections();
                if let Some(Overlay::List(list)) = &mut self.overlay {
                    let at = list.items.iter().position(|item| item.label == clean::clean(&profile.name));
                    list.chosen = at.unwrap_or(0);
                }
            }
            _ => return false,
        }
        true
    }

    pub(super) fn remove_profile(&mut self, profile: &Profile) {
        if let Some(file) = &profile.file {
            let removed = edit::remove(file, &profile.name);
            if self.after_edit(removed) {
                self.tell(format!("{} removed", profile.name));
            }
        }
    }

    /// Reads the files again after a change. Says what went wrong, if it did.
    fn after_edit(&mut self, outcome: Result<(), edit::EditError>) -> bool {
        if let Err(error) = outcome {
            self.tell_wrong(error.to_string());
            return false;
        }
        self.know(load(&self.connections_files(), self.engines));
        true
    }

    /// Takes in what the connections files hold now; profiles that were made on the command line stay.
    pub(super) fn know(&mut self, known: Connections) {
        let made: Vec<_> = self.known.profiles.iter().filter(|profile| profile.file.is_none()).cloned().collect();
        self.known = known;
        self.known_stamp += 1;
        self.known.profiles.splice(0..0, made);
        // Where it stands in its file, and what is said of it, does not take a new connection.
        for connection in [&mut self.connection].into_iter().chain(&mut self.parked) {
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

    pub(super) fn connections_files(&self) -> Vec<PathBuf> {
        let mut files = connection::connections_files(&std::env::current_dir().unwrap_or_default(), &self.folders);
        for file in self.known.profiles.iter().filter_map(|profile| profile.file.clone()) {
            if !files.contains(&file) {
                files.push(file);
            }
        }
        files
    }

    /// The file that new profiles go to: that of the project, if there is one, or the user's.
    fn file_for_new(&self) -> PathBuf {
        let first = self.connections_files().into_iter().next();
        first.unwrap_or_else(|| self.folders.config.join("connections.toml"))
    }

    /// What a key does to the form. False if it is one that every overlay thing knows.
    pub(super) fn key_to_form(&mut self, key: &str) -> bool {
        let Some(Overlay::Form(form)) = &mut self.overlay else { return false };
        match key {
            "enter" | "tab" => form.move_by(1),
            "shift-tab" | "backtab" => form.move_by(-1),
            "left" if form.line().is_none() => form.turn(-1),
            "right" if form.line().is_none() => form.turn(1),
            "backspace" if form.line().is_none() => form.take_word_back(),
            "ctrl-t" => form.all = !form.all,
            "ctrl-g" => self.try_form(),
            "ctrl-s" => self.save_form(),
            _ => return false,
        }
        true
    }

    /// Connects as the form says, and hangs up again.
    fn try_form(&mut self) {
        // A path in it counts from the file that it will stand in.
        let file = self.file_for_new();
        let Some(Overlay::Form(form)) = &mut self.overlay else { return };
        let Some(engine) = self.engines.iter().copied().find(|engine| engine.name() == form.engine) else { return };
        let mut profile = match form.profile(engine) {
            Ok(profile) => profile,
            Err((at, what)) => {
                form.go_to(at);
                return form.wrong(what);
            }
        };
        profile.file.get_or_insert(file);
        let (number, secret, post) = (form.number, form.secret(), Arc::clone(&self.post));
        form.trying = Some(Instant::now());
        form.told = None;
        let attempt = move || {
            let since = Instant::now();
            let outcome = connection::open(engine, &profile, secret.as_ref()).and_then(|mut session| {
                let connecting = since.elapsed();
                let since = Instant::now();
                let location = session.locate(&Stop::default())?;
                Ok(Tried { location, connecting, round_trip: since.elapsed() })
            });
            post(Message::Tried(number, outcome));
        };
        if let Err(error) = std::thread::Builder::new().name("try".into()).spawn(attempt) {
            form.trying = None;
            form.wrong(format!("it could not be started: {error}"));
        }
    }

    pub(super) fn tried(&mut self, number: u64, outcome: Result<Tried, EngineError>) {
        let Some(Overlay::Form(form)) = &mut self.overlay else { return };
        if form.number != number || form.trying.take().is_none() {
            return;
        }
        form.told = Some(match outcome {
            Ok(found) => (true, jaunty_core::words::tried(&found)),
            Err(error) => {
                let wants_password = error.step == Some(jaunty_seam::error::Step::Secret);
                if let (true, Some(at)) = (wants_password, form.fields.iter().position(|f| f.key == PASSWORD)) {
                    form.go_to(at);
                }
                let remedy = error.remedy.as_deref().map(clean::clean_lines);
                (false, [format!("{}{error}", error.step_words())].into_iter().chain(remedy).collect())
            }
        });
    }

    /// Writes the profile into its file and connects.
    fn save_form(&mut self) {
        let Some(Overlay::Form(form)) = &mut self.overlay else { return };
        let Some(engine) = self.engines.iter().copied().find(|engine| engine.name() == form.engine) else { return };
        let profile = match form.profile(engine) {
            Ok(profile) => profile,
            Err((at, what)) => {
                form.go_to(at);
                return form.wrong(what);
            }
        };
        let before = form.original.clone();
        let taken = self.known.find(&profile.name).filter(|found| before.as_ref().is_none_or(|b| b.name != found.name));
        if profile.name.is_empty() || taken.is_some() {
            form.go_to(0);
            return form.wrong(match taken {
                Some(_) => format!("a connection named \"{}\" already exists; choose another name", profile.name),
                None => "a name is required".to_owned(),
            });
        }
        let secret = form.secret();
        let file = before.as_ref().and_then(|b| b.file.clone()).unwrap_or_else(|| self.file_for_new());
        let renamed = match &before {
            Some(before) if before.name != profile.name => edit::rename(&file, &before.name, &profile.name),
            _ => Ok(()),
        };
        let saved = renamed.and_then(|()| edit::put(&file, &profile));
        if self.after_edit(saved) {
            self.overlay = None;
            // As the file has it, with the line it stands at.
            let profile = self.known.find(&profile.name).cloned().unwrap_or(profile);
            self.connect_with(profile, secret);
            self.tell(format!("saved in {}", file.display()));
        }
    }
}
