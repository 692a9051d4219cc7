//! What programs ask, answered without a screen: by the same runs, archives, logbook and catalog.
//!
//! Each program is answered in the order in which it asks; several are answered beside each other. A connection's
//! session is shared by all of them, as one of a person who works in several windows.

mod catalog;
mod given;
mod rows;
mod session;
mod statements;
mod told;

use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};

use jaunty_core::complete::snippets::{self, Snippet};
use jaunty_core::connection::Connections;
use jaunty_language::edit::format::statement as formatted;
use jaunty_seam::engine::{NoPrompt, Prompt};
use jaunty_seam::profile::Profile;
use serde_json::{Map, Value, json};

use given::text;
use session::{Session, lock};

pub use told::entry_json;

use crate::api::{checked, described};
use crate::link::{connections_for, near};
use crate::socket::Tell;
use crate::state::Options;
use crate::wire::Refusal;

/// Answers `screen.*`, where there is a screen; what it tells later goes by the third.
pub type Screen = Box<dyn Fn(&str, &Map<String, Value>, &Tell) -> Result<Value, Refusal> + Send + Sync>;

/// What answers programs.
pub struct Service {
    options: Options,
    screen: Option<Screen>,
    /// A profile that stands in no file.
    given: Option<Profile>,
    prompt: Arc<dyn Prompt>,
    sessions: Mutex<HashMap<Key, Arc<Session>>>,
    snippets: Vec<Snippet>,
}

/// A profile, by its name and its file.
type Key = (String, Option<PathBuf>);

type Outcome = Result<Value, Refusal>;

impl Service {
    /// One that answers with these, and `screen.*` through a screen.
    pub fn new(options: Options, screen: Option<Screen>) -> Service {
        let (snippets, _) = snippets::all(&[&options.folders.snippets()]);
        let prompt = Arc::new(NoPrompt);
        Service { options, screen, given: None, prompt, sessions: Mutex::default(), snippets }
    }

    /// The same, which knows this profile too, wherever it comes from.
    pub fn knowing(mut self, profile: Profile) -> Service {
        self.given = Some(profile);
        self
    }

    /// The same, which asks a person for secrets and whatever else a server wants to know. Without this nobody is asked.
    pub fn asking(mut self, prompt: Arc<dyn Prompt>) -> Service {
        self.prompt = prompt;
        self
    }

    /// Answers a method.
    pub fn answer(&self, name: &str, params: &Value, tell: &Tell) -> Outcome {
        let (method, given) = checked(name, params)?;
        match method.name {
            "api.describe" => Ok(described()),
            "connections.list" => Ok(self.connections_list()),
            "statements.list" => self.statements_list(&given),
            "statements.format" => {
                let dialect = self.dialect_of(&given)?;
                Ok(json!({"text": formatted(text(&given, "text"), dialect)}))
            }
            "statements.problems" => self.statements_problems(&given),
            "complete" => self.complete(&given),
            "explain" => self.explain(&given),
            "run" => self.run(&given, tell),
            "run.stop" => {
                // Of those that are there: to stop nothing, none is made.
                let name = text(&given, "connection");
                lock(&self.sessions).values().filter(|one| one.profile.name == name).for_each(|one| one.worker.stop());
                Ok(Value::Null)
            }
            "plan" => self.plan(&given, tell),
            "rows.page" => self.rows_page(&given),
            "rows.export" => self.rows_export(&given),
            "catalog.objects" => self.catalog_objects(&given),
            "catalog.object" => self.catalog_object(&given),
            "catalog.draw" => self.catalog_draw(&given),
            "logbook.find" => self.logbook_find(&given),
            screen => match &self.screen {
                Some(answer) => answer(screen, &given, tell),
                None => Err(Refusal::failed("the methods of the screen need a running jaunty in this project")),
            },
        }
    }

    fn known(&self) -> Connections {
        let mut known = connections_for(None, &self.options.folders, self.options.engines);
        known.profiles.splice(..0, self.given.clone());
        known
    }

    fn connections_list(&self) -> Value {
        let one = |profile: &Profile| {
            json!({
                "name": profile.name, "engine": profile.engine, "guard": profile.guard.word(), "group": profile.group,
                "label": profile.label, "note": profile.note, "file": profile.file, "line": profile.line,
            })
        };
        let known = self.known();
        let near = near(None, &known, self.options.engines).into_iter().map(|found| {
            let mut told = one(&found.profile);
            told["from"] = json!(found.from);
            told
        });
        known.profiles.iter().map(one).chain(near).collect()
    }

    /// A connection by the name of its profile; made where it is not there.
    fn session(&self, name: &str) -> Result<Arc<Session>, Refusal> {
        let known = self.known();
        let near = || near(None, &known, self.options.engines).into_iter().map(|found| found.profile);
        let named = known.find(name).cloned().or_else(|| near().find(|profile| profile.name == name));
        let profile = named.ok_or_else(|| {
            let near = known.nearest(name).map(|near| format!("; did you mean \"{near}\"?")).unwrap_or_default();
            Refusal::params(format!("no connection is named \"{name}\"{near}"))
        })?;
        let mut sessions = lock(&self.sessions);
        let key = (profile.name.clone(), profile.file.clone());
        if let Some(session) = sessions.get(&key).filter(|session| session.profile.leads_as(&profile)) {
            return Ok(Arc::clone(session));
        }
        let engine = self.options.engines.iter().copied().find(|engine| engine.name() == profile.engine);
        let engine = engine.ok_or_else(|| Refusal::failed(format!("unknown engine {}", profile.engine)))?;
        let session = Arc::new(Session::open(engine, profile, self.options.keeping.clone(), Arc::clone(&self.prompt))?);
        sessions.insert(key, Arc::clone(&session));
        Ok(session)
    }
}

impl Drop for Service {
    /// Rows that are not to outlast the program go with it.
    fn drop(&mut self) {
        self.options.keeping.clear_unremembered();
    }
}
