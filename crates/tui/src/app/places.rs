//! Going elsewhere: to another database, schema or role on the same connection, to another
//! connection, to another buffer.

use std::sync::Arc;

use jaunty_core::connection::Connections;
use jaunty_core::connection::nearby::{self, Found};
use jaunty_core::run::Order;
use jaunty_language::text::clean;
use jaunty_seam::engine::{Switch, SwitchKind};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Guard, Profile};

use super::overlay::prompt::Asked;
use super::{App, Connection, Item, Link, List, Message, Overlay, Pick, Prompt};

impl App {
    /// Lists the connections: those of the files, and what lies near.
    pub fn list_connections(&mut self) {
        self.overlay = Some(Overlay::List(List::new("connections", self.connection_items())));
        let (post, engines, command) = (Arc::clone(&self.post), self.engines, self.profiles_from.clone());
        // Some file systems do not tell of changes.
        self.read_connections();
        // Looking around takes files and the network, so another thread does it.
        let look = move || {
            let here = std::env::current_dir().unwrap_or_default();
            let mut found = nearby::look(&here, std::env::vars(), command.as_deref(), engines);
            for found in &mut found {
                found.answers = Some(nearby::answers(&found.profile, engines));
            }
            post(Message::Nearby(found));
        };
        if let Err(error) = std::thread::Builder::new().name("nearby".into()).spawn(look) {
            tracing::warn!(%error, "nobody looks around");
        }
    }

    /// Finds what lies near by the files of the project, for those who may name it.
    pub(super) fn look_near(&self) {
        let (post, engines) = (Arc::clone(&self.post), self.engines);
        let look = move || {
            let here = std::env::current_dir().unwrap_or_default();
            post(Message::Nearby(nearby::beside(&Connections::default(), &here, engines)));
        };
        if let Err(error) = std::thread::Builder::new().name("nearby".into()).spawn(look) {
            tracing::warn!(%error, "nobody looks around");
        }
    }

    /// Takes in what lies near, into the list too if it is still there.
    pub(super) fn found_nearby(&mut self, found: Vec<Found>) {
        self.nearby = found;
        self.renew_connections();
    }

    pub(super) fn renew_connections(&mut self) {
        let items = self.connection_items();
        if let Some(list) = self.list_of("connections") {
            list.renew(items);
        }
    }

    fn connection_items(&self) -> Vec<Item> {
        let open = |name: &str| {
            [&self.connection]
                .into_iter()
                .chain(&self.background)
                .find(|c| c.profile.as_ref().is_some_and(|p| p.name == name))
        };
        let mut profiles: Vec<&Profile> = self.known.profiles.iter().collect();
        // Those of a group stand together, where the first of them stands.
        let first = |of: &Profile| {
            let same = |other: &Profile| of.group.is_some() && other.group == of.group;
            let at = self.known.profiles.iter().position(|other| same(other) || std::ptr::eq(other, of));
            at.unwrap_or(usize::MAX)
        };
        profiles.sort_by_key(|profile| first(profile));
        let items = profiles.into_iter().map(|profile| {
            let words = [profile.group.as_deref(), profile.label.as_deref(), profile.note.as_deref()];
            let words: Vec<&str> = words.into_iter().flatten().collect();
            Item {
                label: clean::clean(&profile.name).into_owned(),
                key: profile.guard.word().to_owned(),
                help: format!(
                    "{}{}  {}",
                    standing(open(&profile.name)),
                    profile.engine,
                    clean::clean(&words.join(" · "))
                ),
                pick: Pick::Connection(Box::new(profile.clone())),
            }
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
            key: if found.answers == Some(false) { "no answer" } else { "near" }.to_owned(),
            help: {
                let guard = found.profile.guard;
                let guard = if guard == Guard::Open { String::new() } else { format!(" · {}", guard.word()) };
                clean::clean(&format!("{}  from {}{guard}", found.profile.engine, found.from)).into_owned()
            },
            pick: Pick::Connection(Box::new(found.profile.clone())),
        });
        let problems = self.known.problems.iter().map(|problem| Item {
            label: clean::clean(&problem.what).into_owned(),
            key: format!("line {}", problem.line),
            help: clean::clean(&format!("{} {}", problem.remedy, problem.file.display())).into_owned(),
            pick: Pick::Outside(problem.file.clone(), problem.line),
        });
        items.chain([new]).chain(problems).chain(nearby).collect()
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
        // Where there are no databases to choose from it is what there is.
        let only = match self.connection.switches {
            [only] => *only,
            _ => SwitchKind::DATABASE,
        };
        self.ask_for_choices(only);
    }

    /// Asks for the schema that plain names are looked up in.
    pub fn choose_schema(&mut self) {
        self.ask_for_choices(SwitchKind::SCHEMA);
    }

    /// Asks for the role to take on.
    pub fn choose_role(&mut self) {
        self.ask_for_choices(SwitchKind::ROLE);
    }

    /// Asks what is to be switched, of all that can be on this connection.
    pub fn choose_switch(&mut self) {
        let items = self.connection.switches.iter().map(|kind| Item {
            label: kind.word().to_owned(),
            key: String::new(),
            help: String::new(),
            pick: Pick::SwitchKind(*kind),
        });
        let items: Vec<_> = items.collect();
        if items.is_empty() {
            return self.tell("nothing can be switched on this connection");
        }
        self.overlay = Some(Overlay::List(List::new("switch", items)));
    }

    pub(super) fn ask_for_choices(&mut self, kind: SwitchKind) {
        if !self.connection.ask_for_person(Order::Choices(kind)) {
            self.list_connections();
        }
    }

    pub(super) fn list_choices(&mut self, kind: SwitchKind, choices: Result<Vec<String>, EngineError>) {
        let choices = match choices {
            Err(error) if error.kind == ErrorKind::Stopped => return self.tell("cancelled"),
            other => other.unwrap_or_else(|error| {
                tracing::warn!(%error, "choices");
                Vec::new()
            }),
        };
        if choices.is_empty() {
            // The server does not say what there is; a person may know.
            let title = format!("go to {}", kind.word());
            self.overlay = Some(Overlay::Prompt(Prompt::new(title, Asked::Switch(kind))));
            return;
        }
        let place = self.connection.location.clone().unwrap_or_default();
        let here = match kind {
            SwitchKind::DATABASE => place.database,
            SwitchKind::SCHEMA => place.schema,
            SwitchKind::ROLE => place.user,
            SwitchKind::SERVER => place.node,
            _ => String::new(),
        };
        let items = choices.into_iter().map(|name| Item {
            label: clean::clean(&name).into_owned(),
            key: if name == here { "here".to_owned() } else { String::new() },
            help: String::new(),
            pick: Pick::Switch(Switch { kind, to: name }),
        });
        let title = match kind {
            SwitchKind::DATABASE => "databases",
            SwitchKind::SCHEMA => "schemas",
            SwitchKind::ROLE => "roles",
            SwitchKind::SERVER => "servers of the cluster",
            other => other.word(),
        };
        self.overlay = Some(Overlay::List(List::new(title, items.collect())));
    }

    pub(super) fn switch(&mut self, to: Switch) {
        self.connection.ask(Order::Switch(to));
    }
}

fn standing(connection: Option<&Connection>) -> &'static str {
    let Some(connection) = connection else { return "" };
    match connection.link {
        _ if connection.is_busy() => "running · ",
        _ if connection.location.as_ref().is_some_and(|location| location.in_transaction()) => "transaction open · ",
        Link::Open => "connected · ",
        Link::Opening => "connecting · ",
        _ => "",
    }
}
