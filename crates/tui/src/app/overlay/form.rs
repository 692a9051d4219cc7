//! A profile that is being written: fields to fill in, tried before it is saved.

use std::sync::Arc;
use std::time::Instant;

use jaunty_core::connection::{self, Tried, edit, url};
use jaunty_language::text::clean;
use jaunty_seam::engine::{Engine, Stop, Takes};
use jaunty_seam::error::EngineError;
use jaunty_seam::profile::{Guard, Profile, Secret};

use super::{After, Layer};
use crate::action::Scope;
use crate::app::{App, Message};
use crate::line::{Line, LineEdit, LinePlace};

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
    pub status: Option<(bool, Vec<String>)>,
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
    pub(in crate::app) fn new(
        engine: &'static dyn Engine,
        profile: &Profile,
        original: Option<Profile>,
        number: u64,
    ) -> Form {
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
            status: None,
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

    /// Fills a password in. False where there is no field for one.
    pub(in crate::app) fn fill_in_password(&mut self, password: &str) -> bool {
        let field = self.fields.iter_mut().find(|field| field.key == PASSWORD);
        field.map(|field| field.line = Line::from(password)).is_some()
    }

    fn field_mut(&mut self) -> Option<&mut Field> {
        let at = *self.shown().get(self.chosen)?;
        self.fields.get_mut(at)
    }

    /// Whether it is about a profile that stands in a file.
    pub fn changes_one(&self) -> bool {
        self.original.is_some()
    }

    /// Takes the next of a field's words.
    fn turn(&mut self, by: isize) {
        let Some(field) = self.field_mut().filter(|field| !field.words.is_empty()) else { return };
        let at = field.words.iter().position(|word| *word == field.line.text()).unwrap_or(0);
        let next = (at as isize + by).rem_euclid(field.words.len() as isize) as usize;
        field.line = Line::from(field.words[next]);
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
        self.status = Some((false, vec![line]));
    }

    /// Goes to the next field, or to the one before.
    pub(crate) fn other_field(&mut self, by: isize) {
        self.move_by(by);
    }

    /// Shows the rare fields too, or no longer.
    pub(crate) fn show_more(&mut self) {
        self.all = !self.all;
    }

    /// Connects as the form says, and hangs up again.
    pub(crate) fn test(&mut self, app: &mut App) {
        // A path in it counts from the file that it will stand in.
        let file = app.file_for_new();
        let Some(engine) = app.engines.iter().copied().find(|engine| engine.name() == self.engine) else { return };
        let mut profile = match self.profile(engine) {
            Ok(profile) => profile,
            Err((at, what)) => {
                self.go_to(at);
                return self.wrong(what);
            }
        };
        profile.file.get_or_insert(file);
        let (number, secret, post) = (self.number, self.secret(), Arc::clone(&app.post));
        self.trying = Some(Instant::now());
        self.status = None;
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
            self.trying = None;
            self.wrong(format!("it could not be started: {error}"));
        }
    }

    /// Writes the profile into its file and connects.
    pub(crate) fn save(&mut self, app: &mut App) -> After {
        let Some(engine) = app.engines.iter().copied().find(|engine| engine.name() == self.engine) else {
            return After::Stay;
        };
        let profile = match self.profile(engine) {
            Ok(profile) => profile,
            Err((at, what)) => {
                self.go_to(at);
                self.wrong(what);
                return After::Stay;
            }
        };
        let before = self.original.clone();
        let taken = app.known.find(&profile.name).filter(|found| before.as_ref().is_none_or(|b| b.name != found.name));
        if profile.name.is_empty() || taken.is_some() {
            self.go_to(0);
            self.wrong(match taken {
                Some(_) => format!("a connection named \"{}\" already exists; choose another name", profile.name),
                None => "a name is required".to_owned(),
            });
            return After::Stay;
        }
        let secret = self.secret();
        let file = before.as_ref().and_then(|b| b.file.clone()).unwrap_or_else(|| app.file_for_new());
        let renamed = match &before {
            Some(before) if before.name != profile.name => edit::rename(&file, &before.name, &profile.name),
            _ => Ok(()),
        };
        let saved = renamed.and_then(|()| edit::put(&file, &profile));
        if app.after_edit(saved) {
            // As the file has it, with the line it stands at.
            let profile = app.known.find(&profile.name).cloned().unwrap_or(profile);
            app.connect_with(profile, secret);
            app.tell(format!("saved in {}", file.display()));
            return After::Close;
        }
        After::Stay
    }
}

impl Layer for Form {
    fn scope(&self) -> Option<Scope> {
        Some(Scope::Form)
    }

    fn takes_text(&self) -> bool {
        true
    }

    /// None in a field that takes one of several words.
    fn line(&mut self) -> Option<&mut Line> {
        self.field_mut().filter(|field| field.words.is_empty()).map(|field| &mut field.line)
    }

    /// Writes into the field in hand; of words it takes the one that begins so, or the next one.
    fn type_text(&mut self, text: &str) {
        let Some(field) = self.field_mut() else { return };
        if field.words.is_empty() {
            field.line.insert(text);
        } else if let Some(word) = field.words.iter().find(|word| word.starts_with(text)) {
            field.line = Line::from(*word);
        } else {
            self.turn(1);
        }
    }

    fn edit(&mut self, edit: LineEdit) {
        match (self.line(), edit) {
            (Some(line), _) => drop(line.edit(edit)),
            (None, LineEdit::Go(LinePlace::Left)) => self.turn(-1),
            (None, LineEdit::Go(LinePlace::Right)) => self.turn(1),
            (None, LineEdit::Delete(LinePlace::Left)) => {
                self.field_mut().into_iter().for_each(|field| drop(field.line.take()));
            }
            (None, _) => {}
        }
    }

    fn move_by(&mut self, by: isize) {
        self.chosen = self.chosen.saturating_add_signed(by).min(self.shown().len().saturating_sub(1));
    }
}

impl App {
    pub(in crate::app) fn tried(&mut self, number: u64, outcome: Result<Tried, EngineError>) {
        let Some(form) = self.overlaid::<Form>() else { return };
        if form.number != number || form.trying.take().is_none() {
            return;
        }
        form.status = Some(match outcome {
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
}
