//! Going elsewhere: to another database, schema or role on the same connection, to another
//! connection, to another buffer.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use jaunty_core::connection::Profile;
use jaunty_core::connection::nearby::{self, Found};
use jaunty_core::engine::{EngineError, Switch, SwitchKind};
use jaunty_core::run::Order;
use jaunty_core::text::clean;

use super::summoned::{Asked, Item};
use super::{App, Buffer, Connection, Link, List, Message, Pick, Prompt, Summoned};

impl App {
    /// Lists the connections: those of the files, and what lies near.
    pub fn list_connections(&mut self) {
        self.summoned = Some(Summoned::List(List::new("connections", self.connection_items())));
        let (post, engines, command) = (Arc::clone(&self.post), self.engines, self.profiles_from.clone());
        // Looking around takes files and the network, so another thread does it.
        let look = move || {
            let here = std::env::current_dir().unwrap_or_default();
            let mut found = nearby::look(&here, std::env::vars(), command.as_deref(), engines);
            for found in &mut found {
                found.answers = nearby::answers(&found.profile, engines);
            }
            post(Message::Nearby(found));
        };
        if let Err(error) = std::thread::Builder::new().name("nearby".into()).spawn(look) {
            tracing::warn!(%error, "nobody looks around");
        }
    }

    /// Takes in what lies near, into the list too if it is still there.
    pub(super) fn found_nearby(&mut self, found: Vec<Found>) {
        self.nearby = found;
        let items = self.connection_items();
        if let Some(Summoned::List(list)) =
            self.summoned.as_mut().filter(|s| matches!(s, Summoned::List(list) if list.title == "connections"))
        {
            list.renew(items);
        }
    }

    fn connection_items(&self) -> Vec<Item> {
        let open = |name: &str| {
            [&self.connection]
                .into_iter()
                .chain(&self.parked)
                .find(|c| c.profile.as_ref().is_some_and(|p| p.name == name))
        };
        let items = self.known.profiles.iter().map(|profile| Item {
            label: clean::clean(&profile.name).into_owned(),
            key: profile.guard.word().to_owned(),
            help: format!(
                "{}{}  {}",
                standing(open(&profile.name)),
                profile.engine,
                clean::clean(profile.note.as_deref().unwrap_or_default())
            ),
            pick: Pick::Connection(Box::new(profile.clone())),
        });
        let new = Item {
            label: "new connection".to_owned(),
            key: "+".to_owned(),
            help: "from a URL, or field by field".to_owned(),
            pick: Pick::NewConnection,
        };
        let unknown = self.nearby.iter().filter(|found| {
            let same = |profile: &Profile| {
                profile.engine == found.profile.engine && self.leads_to_same(profile, &found.profile)
            };
            !self.known.profiles.iter().any(same)
        });
        let nearby = unknown.map(|found| Item {
            label: clean::clean(&found.profile.name).into_owned(),
            key: if found.answers { "near" } else { "no answer" }.to_owned(),
            help: clean::clean(&format!("{}  from {}", found.profile.engine, found.from)).into_owned(),
            pick: Pick::Connection(Box::new(found.profile.clone())),
        });
        items.chain([new]).chain(nearby).collect()
    }

    /// Whether two profiles lead to the same database.
    fn leads_to_same(&self, a: &Profile, b: &Profile) -> bool {
        match (a.path("path"), b.path("path")) {
            (Some(a), Some(b)) => a == b || std::fs::canonicalize(a).ok() == std::fs::canonicalize(b).ok(),
            _ => {
                let key = |profile: &Profile, key: &str| profile.settings.get(key).map(ToString::to_string);
                ["host", "port", "database", "service"].iter().all(|name| key(a, name) == key(b, name))
            }
        }
    }

    /// Asks where to go on the connection in hand.
    pub fn choose_database(&mut self) {
        self.ask_for_choices(SwitchKind::Database);
    }

    /// Asks for the schema that plain names are looked up in.
    pub fn choose_schema(&mut self) {
        self.ask_for_choices(SwitchKind::Schema);
    }

    /// Asks for the role to take on.
    pub fn choose_role(&mut self) {
        self.ask_for_choices(SwitchKind::Role);
    }

    fn ask_for_choices(&mut self, kind: SwitchKind) {
        if !self.connection.ask(Order::Choices(kind)) {
            self.list_connections();
        }
    }

    pub(super) fn list_choices(&mut self, kind: SwitchKind, choices: Result<Vec<String>, EngineError>) {
        let choices = choices.unwrap_or_else(|error| {
            tracing::warn!(%error, "choices");
            Vec::new()
        });
        if choices.is_empty() {
            // The server does not say what there is; a person may know.
            let title = format!("go to {}", kind.word());
            self.summoned = Some(Summoned::Prompt(Prompt::new(title, Asked::Switch(kind))));
            return;
        }
        let place = self.connection.place.clone().unwrap_or_default();
        let here = match kind {
            SwitchKind::Database => place.database,
            SwitchKind::Schema => place.schema,
            SwitchKind::Role => place.user,
        };
        let items = choices.into_iter().map(|name| Item {
            label: clean::clean(&name).into_owned(),
            key: if name == here { "here".to_owned() } else { String::new() },
            help: String::new(),
            pick: Pick::Switch(Switch { kind, to: name }),
        });
        let title = match kind {
            SwitchKind::Database => "databases",
            SwitchKind::Schema => "schemas",
            SwitchKind::Role => "roles",
        };
        self.summoned = Some(Summoned::List(List::new(title, items.collect())));
    }

    pub(super) fn switch(&mut self, to: Switch) {
        self.connection.ask(Order::Switch(to));
    }

    /// Lists the buffers: those that are open, and the files beside the one in hand.
    pub fn list_buffers(&mut self) {
        let folder = self.buffer.path.parent().map(Path::to_owned).unwrap_or_default();
        let open = [&self.buffer].into_iter().chain(&self.shelved);
        let mut items: Vec<Item> =
            open.map(|buffer| item(&buffer.path, state(buffer), buffer.connection.as_deref())).collect();
        let known = |path: &Path| path == self.buffer.path || self.shelved.iter().any(|buffer| buffer.path == path);
        let files = std::fs::read_dir(&folder).into_iter().flatten().flatten().map(|entry| entry.path());
        let endings = self.engines.iter().map(|engine| engine.dialect().extension).collect::<Vec<_>>();
        let is_buffer = |path: &PathBuf| path.extension().is_some_and(|e| endings.iter().any(|ending| e == *ending));
        let mut files: Vec<_> = files.filter(|path| is_buffer(path) && !known(path)).collect();
        files.sort();
        items.extend(files.iter().map(|path| item(path, "", None)));
        self.summoned = Some(Summoned::List(List::new("buffers", items)));
    }

    /// Takes up a buffer, on the connection that its statements ran on last. The one in hand stays
    /// open.
    pub(super) fn take_up_buffer(&mut self, path: &Path) {
        if self.buffer.path == path {
            return;
        }
        let next = match self.shelved.iter().position(|buffer| buffer.path == path) {
            Some(at) => self.shelved.remove(at),
            None => match Buffer::open(path, &self.folders.journals()) {
                Ok(buffer) => buffer,
                Err(error) => return self.tell_wrong(error.to_string()),
            },
        };
        let before = std::mem::replace(&mut self.buffer, next);
        let here = self.connection.profile.clone();
        self.shelved.push(before);
        if let Some(recovered) = self.buffer.recovered.take() {
            self.tell(recovered);
        }
        if !self.connect_as_last_time()
            && let Some(profile) = here
        {
            self.connect(profile);
        }
    }
}

fn item(path: &Path, state: &str, connection: Option<&str>) -> Item {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let folder = path.parent().map(|folder| folder.display().to_string()).unwrap_or_default();
    Item {
        label: clean::clean(&name).into_owned(),
        key: state.to_owned(),
        help: format!("{}{}", connection.map(|name| format!("on {name}  ")).unwrap_or_default(), clean::clean(&folder)),
        pick: Pick::Buffer(path.to_owned()),
    }
}

fn state(buffer: &Buffer) -> &'static str {
    if buffer.document.is_unsaved() { "unsaved" } else { "open" }
}

fn standing(connection: Option<&Connection>) -> &'static str {
    let Some(connection) = connection else { return "" };
    match connection.link {
        _ if connection.is_busy() => "running · ",
        _ if connection.place.as_ref().is_some_and(|place| place.in_transaction()) => "transaction open · ",
        Link::Open => "connected · ",
        Link::Opening => "connecting · ",
        _ => "",
    }
}
