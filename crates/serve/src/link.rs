//! What documents are connected to: a profile, its session's thread, and what is known from there.

use std::collections::{HashMap, VecDeque};
use std::path::Path;
use std::sync::Arc;

use jaunty_core::buffers::connection_of_folder;
use jaunty_core::connection::consent::is_of_project;
use jaunty_core::connection::nearby::{self, Found};
use jaunty_core::connection::{Connections, connections_files, load};
use jaunty_core::files::Folders;
use jaunty_core::problems::may_be_checked;
use jaunty_core::run::{ConnectionWorker, Job, Keeping, Order, Report, Run};
use jaunty_language::outline::StatementId;
use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::{Engine, Location};
use jaunty_seam::error::EngineError;
use jaunty_seam::profile::Profile;

/// How a connection stands.
#[derive(Debug, Clone)]
pub enum State {
    /// It is being made.
    Opening,
    /// It is there.
    Open,
    /// It could not be made, or was lost.
    Failed(EngineError),
}

/// Statements that were asked for at once.
#[derive(Debug)]
pub struct Asked {
    /// The document that they stand in.
    pub uri: String,
    /// Under which progress is shown.
    pub token: String,
    /// Whether a first page of rows is shown already.
    pub shown: bool,
    /// The run that began last.
    pub last: Option<Arc<Run>>,
    /// Whether its end was told.
    pub ended: bool,
}

/// A connection.
pub struct Link {
    /// Tells what comes from it from what comes from others.
    pub number: u64,
    /// Its profile.
    pub profile: Profile,
    /// How to talk there.
    pub engine: &'static dyn Engine,
    /// How it stands.
    pub state: State,
    /// Where the session is.
    pub location: Option<Location>,
    /// What the database holds, as far as it is known.
    pub catalog: Option<Arc<Catalog>>,
    /// The last run of each statement.
    pub runs: HashMap<StatementId, Arc<Run>>,
    /// What the server said of statements that have not run.
    pub checked: HashMap<StatementId, Option<EngineError>>,
    /// What was asked for and has not ended.
    pub asked: VecDeque<Asked>,
    worker: ConnectionWorker,
}

impl Link {
    /// Begins to connect. What is told comes through `tell`, with the number.
    pub fn open(
        number: u64,
        engine: &'static dyn Engine,
        profile: Profile,
        keeping: Keeping,
        tell: impl Fn(Report) + Send + Sync + 'static,
    ) -> std::io::Result<Link> {
        let worker = ConnectionWorker::open(engine, profile.clone(), None, keeping, tell)?;
        Ok(Link {
            number,
            profile,
            engine,
            state: State::Opening,
            location: None,
            catalog: None,
            runs: HashMap::new(),
            checked: HashMap::new(),
            asked: VecDeque::new(),
            worker,
        })
    }

    /// Whether this is the connection of a profile, as it was or as it is now.
    pub fn is_of(&self, profile: &Profile) -> bool {
        self.profile.name == profile.name && self.profile.file == profile.file
    }

    /// Whether it leads where the profile says now.
    pub fn leads_as(&self, profile: &Profile) -> bool {
        self.is_of(profile) && self.profile.leads_as(profile)
    }

    /// Runs statements, after what runs already.
    pub fn run(&mut self, jobs: Vec<Job>, uri: &str, token: String) {
        let asked = Asked { uri: uri.to_owned(), token, shown: false, last: None, ended: false };
        // One that waits for readers makes room for one that does not.
        if let Some(held) = self.asked.front().and_then(|asked| asked.last.as_ref()).filter(|run| run.is_held()) {
            held.stop();
        }
        self.asked.push_back(asked);
        self.worker.ask(Order::Run(jobs));
    }

    /// Stops what runs, and what waits after it.
    pub fn stop(&self) {
        self.worker.stop();
    }

    /// Gives up what is asked of a person: there is nobody.
    pub fn give_up(&self) {
        self.worker.answer(None);
    }

    /// Reads again what the database holds.
    pub fn read_catalog(&self) {
        self.worker.ask(Order::Catalog);
    }

    /// Reads what another database of the server holds.
    pub fn read_database(&self, name: &str) {
        self.worker.ask(Order::Database(name.to_owned()));
    }

    /// Asks the server whether it would take a statement, where that is allowed and nothing runs.
    pub fn check(&self, id: StatementId, statement: String) {
        let is_open = matches!(self.state, State::Open);
        if may_be_checked(&self.profile) && is_open && self.asked.is_empty() && !self.checked.contains_key(&id) {
            self.worker.ask(Order::Check(id, statement));
        }
    }

    /// Takes in what is told, as far as it changes what is known.
    pub fn take_in(&mut self, report: &Report) {
        match report {
            Report::Connected(location, ..) => {
                self.state = State::Open;
                self.location = Some(location.clone());
            }
            Report::NotConnected(error) | Report::WantsSecret(error) => {
                self.state = State::Failed(error.clone());
                self.location = None;
            }
            Report::Lost { .. } | Report::LetGo => self.location = None,
            Report::Moved(location) => self.location = Some(location.clone()),
            Report::Remembered(runs) => runs.iter().for_each(|run| self.know(run)),
            Report::Run(run) => self.know(run),
            Report::Checked(id, error) => {
                self.checked.insert(*id, error.clone());
            }
            // One that was kept on disk may come after one that was just read.
            Report::Catalog(catalog) if self.catalog.as_ref().is_none_or(|known| known.read_ms <= catalog.read_ms) => {
                self.catalog = Some(Arc::clone(catalog));
                self.checked.clear();
            }
            _ => {}
        }
    }

    fn know(&mut self, run: &Arc<Run>) {
        if self.runs.get(&run.id).is_none_or(|known| known.started <= run.started) {
            self.runs.insert(run.id, Arc::clone(run));
        }
    }
}

/// The profiles that count for a file.
pub fn connections_for(path: Option<&Path>, folders: &Folders, engines: &[&dyn Engine]) -> Connections {
    let here = || std::env::current_dir().unwrap_or_default();
    let folder = path.and_then(Path::parent).map_or_else(here, Path::to_owned);
    load(&connections_files(&folder, folders), engines)
}

/// What lies near a file, under names that no connections file has. It is connected to where it is named, and only there.
pub fn near(path: Option<&Path>, known: &Connections, engines: &[&dyn Engine]) -> Vec<Found> {
    let here = || std::env::current_dir().unwrap_or_default();
    nearby::beside(known, &path.and_then(Path::parent).map_or_else(here, Path::to_owned), engines)
}

/// The profile of a file that no line names one in: where it ran last, the folder that it lies in, or the only one of
/// its project.
pub fn profile_for(
    path: Option<&Path>,
    known: &Connections,
    keeping: &Keeping,
    engines: &[&dyn Engine],
) -> Option<Profile> {
    let ran = path.and_then(|path| keeping.logbook()?.last_connection(path).ok()?);
    if let Some(name) = ran {
        let lies_near = || near(path, known, engines).into_iter().map(|found| found.profile).find(|p| p.name == name);
        if let Some(profile) = known.find(&name).cloned().or_else(lies_near) {
            return Some(profile);
        }
    }
    if let Some(profile) = path.and_then(connection_of_folder).and_then(|name| known.find(name).cloned()) {
        return Some(profile);
    }
    let folder = path.and_then(Path::parent);
    let project = folder.and_then(|folder| {
        let of = |profile: &&Profile| {
            let project = profile.file.as_ref()?.parent()?.parent()?;
            Some(project.file_name().is_some() && folder.starts_with(project) && is_of_project(profile))
        };
        let mut all = known.profiles.iter().filter(|profile| of(profile).unwrap_or_default());
        all.next().filter(|_| all.next().is_none())
    });
    project.or(known.profiles.first().filter(|_| known.profiles.len() == 1)).cloned()
}
