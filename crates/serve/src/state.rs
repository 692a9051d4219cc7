//! What the server knows: the documents, the connections, and the way to the editor.

use std::collections::{HashMap, HashSet, VecDeque};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::Sender;

use jaunty_core::complete::snippets::Snippet;
use jaunty_core::complete::{Surroundings, not_read, region};
use jaunty_core::connection::consent;
use jaunty_core::files::Folders;
use jaunty_core::run::{Job, Keeping, Report, Run};
use jaunty_language::text::clean::clean;
use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::Engine;
use jaunty_seam::profile::Profile;
use serde_json::Value;

use crate::client::{Client, Weight};
use crate::link::{Link, connections_for, near, profile_for};
use crate::panes::{Panes, Place};
use crate::place::Position;
use crate::text::Text;
use crate::wire::{Incoming, Refusal};

/// What the server works with.
pub struct Options {
    /// The user's folders.
    pub folders: Folders,
    /// All engines.
    pub engines: &'static [&'static dyn Engine],
    /// Where runs are kept.
    pub keeping: Keeping,
}

/// What reaches the server's thread.
pub(crate) enum Event {
    Incoming(Incoming),
    /// Nothing more comes from the editor.
    End,
    Report(u64, Report),
    /// A sentence for the person, from a thread beside.
    Said(Weight, String),
}

/// How far the editor is with us.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Stage {
    New,
    Open,
    ShutDown,
}

/// Jobs that wait for a yes.
pub(crate) struct Unanswered {
    pub link: u64,
    pub uri: String,
    pub jobs: Vec<Job>,
}

/// The server.
pub struct Server {
    pub(crate) client: Client,
    pub(crate) texts: HashMap<String, Text>,
    pub(crate) links: Vec<Link>,
    pub(crate) options: Options,
    pub(crate) snippets: Vec<Snippet>,
    pub(crate) unanswered: HashMap<u64, Unanswered>,
    /// What was told of documents that have nothing to be told of by now.
    pub(crate) told: HashMap<String, Value>,
    /// The first row of the page that each document shows, and of which statement.
    pub(crate) pages: HashMap<String, Shown>,
    /// Requests about whole documents: they wait until nothing else is there to be answered.
    pub(crate) later: VecDeque<(Value, String, Value)>,
    /// Screens that stand beside the editor.
    pub(crate) panes: Option<Panes>,
    /// Folders with rows that are not to outlast the program.
    pub(crate) passing: HashSet<PathBuf>,
    pub(crate) next: u64,
    pub(crate) stage: Stage,
    pub(crate) events: Sender<Event>,
}

/// What a document of rows shows.
#[derive(Debug, Clone)]
pub(crate) struct Shown {
    pub run: Arc<Run>,
    pub from: u64,
}

impl Server {
    /// A way for a thread beside to tell the person something.
    pub(crate) fn sayer(&self) -> impl Fn(Weight, String) + Send + 'static {
        let events = self.events.clone();
        move |weight, sentence| {
            let _ = events.send(Event::Said(weight, sentence));
        }
    }

    /// A number that nothing else has.
    pub(crate) fn number(&mut self) -> u64 {
        self.next += 1;
        self.next
    }

    /// The profile that a document belongs to, as its file says now.
    pub(crate) fn profile_of(&self, text: &Text) -> Option<Profile> {
        let (path, line) = (text.path(), text.connection_line());
        let known = connections_for(path.as_deref(), &self.options.folders, self.options.engines);
        match &line {
            Some(name) => known.find(name).cloned().or_else(|| {
                let near = near(path.as_deref(), &known, self.options.engines);
                near.into_iter().map(|found| found.profile).find(|profile| profile.name == *name)
            }),
            None => profile_for(path.as_deref(), &known, &self.options.keeping, self.options.engines),
        }
    }

    /// Takes a person's consent to the profile of a document, which they were shown under this name of it
    /// ([`consent::name_of`]), and connects.
    pub(crate) fn allow(&mut self, uri: &str, shown: &str) -> Result<Value, Refusal> {
        let profile = self.texts.get(uri).and_then(|text| self.profile_of(text));
        let profile = profile.ok_or_else(|| Refusal::failed("the document belongs to no connection"))?;
        if consent::name_of(&profile) != shown {
            return Err(Refusal::failed(format!("{} has changed in its file since; look at it again", profile.name)));
        }
        consent::give(&self.options.folders, &profile).map_err(|error| Refusal::failed(error.to_string()))?;
        self.connect(uri);
        Ok(Value::Null)
    }

    /// Finds what a document is connected to, and connects.
    pub(crate) fn connect(&mut self, uri: &str) {
        let Some(text) = self.texts.get(uri) else { return };
        let profile = self.profile_of(text);
        let unwanted = profile.as_ref().filter(|profile| !consent::is_given(&self.options.folders, profile));
        let held = unwanted.map(|profile| {
            let name = clean(&profile.name);
            format!(
                "{name} {}, and its file came with the project: a code action here, or `jaunty connections try {name}`, \
                 allows that",
                clean(&consent::subject(profile))
            )
        });
        let number = profile.filter(|_| held.is_none()).and_then(|profile| {
            if let Some(link) = self.links.iter().find(|link| link.leads_as(&profile)) {
                return Some(link.number);
            }
            // Its file says something else by now; what runs there ends first.
            let before = self.links.iter().find(|link| link.is_of(&profile)).map(|link| link.number);
            self.links.retain(|link| !link.is_of(&profile) || !link.asked.is_empty());
            let engine = self.options.engines.iter().copied().find(|engine| engine.name() == profile.engine)?;
            let number = self.number();
            let events = self.events.clone();
            let tell = move |report| {
                let _ = events.send(Event::Report(number, report));
            };
            let link = Link::open(number, engine, profile, self.options.keeping.clone(), tell);
            let link = link.map_err(|error| tracing::warn!(%error, "a session has no thread")).ok()?;
            self.links.push(link);
            // Other documents of the profile go along.
            for text in self.texts.values_mut().filter(|text| before.is_some() && text.link == before) {
                text.link = Some(number);
            }
            Some(number)
        });
        let dialect = number.and_then(|number| self.link(number)).map(|link| link.engine.dialect());
        let Some(text) = self.texts.get_mut(uri) else { return };
        text.link = number;
        text.troubles.held = held;
        text.troubles.changed = Some(std::time::Instant::now());
        if let Some(dialect) = dialect {
            text.set_dialect(dialect);
        }
    }

    /// A connection by its number.
    pub(crate) fn link(&self, number: u64) -> Option<&Link> {
        self.links.iter().find(|link| link.number == number)
    }

    /// The same, to change it.
    pub(crate) fn link_mut(&mut self, number: u64) -> Option<&mut Link> {
        self.links.iter_mut().find(|link| link.number == number)
    }

    /// What a document is connected to.
    pub(crate) fn link_of(&self, text: &Text) -> Option<&Link> {
        self.link(text.link?)
    }

    /// The document that parameters name.
    pub(crate) fn text(&self, params: &Value) -> Result<&Text, Refusal> {
        let uri = params["textDocument"]["uri"].as_str().or(params["uri"].as_str());
        let uri = uri.ok_or_else(|| Refusal::params("textDocument.uri is missing"))?;
        self.texts.get(uri).ok_or_else(|| Refusal::params(format!("{uri} is not open")))
    }

    /// The document that parameters name, and the byte of the place that they name in it.
    pub(crate) fn place(&self, params: &Value) -> Result<(&Text, usize), Refusal> {
        let text = self.text(params)?;
        let at = Position::of(&params["position"]).ok_or_else(|| Refusal::params("position is missing"))?;
        Ok((text, text.byte(at)))
    }

    /// Asks something about the statement at a byte: of its text, where in the document it begins, where in it the
    /// byte is, and what is known around it.
    pub(crate) fn at<T>(
        &self,
        text: &Text,
        at: usize,
        ask: impl FnOnce(&str, usize, usize, Surroundings<'_>) -> T,
    ) -> T {
        let range = region::around(&text.rope, &text.outline, at);
        let statement: String = text.rope.byte_slice(range.clone()).into();
        let none = Catalog::default();
        let catalog = self.link_of(text).and_then(|link| link.catalog.as_deref()).unwrap_or(&none);
        let nearby = region::nearby(&text.rope, at);
        let around = Surroundings { catalog, dialect: text.dialect(), snippets: &self.snippets, nearby: &nearby };
        if let Some(link) = self.link_of(text) {
            not_read(&statement, around).into_iter().for_each(|database| link.read_database(database));
        }
        ask(&statement, range.start, at - range.start, around)
    }

    /// Tells screens beside the editor what its cursor is on, and whether that is to run there.
    pub(crate) fn tell_panes(&self, text: &Text, at: usize, runs: bool) {
        let (Some(panes), Some(path)) = (&self.panes, text.path()) else { return };
        let connection = self.link_of(text).map(|link| link.profile.name.clone());
        let host = text.code().map(|code| code.host().name);
        let (version, text) = (text.version, text.written().clone());
        panes.tell(Place { path, version, host, text, at, connection, runs });
    }

    /// A folder of ours for documents that editors are shown.
    pub(crate) fn shown_folder(&self) -> PathBuf {
        self.options.folders.state.join("editor")
    }
}
