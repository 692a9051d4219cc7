//! Databases of the demonstration that are simulated servers of ours: each is started on loopback when its connection is
//! chosen for the first time, and ends with the program.

use std::path::PathBuf;
use std::sync::{LazyLock, Mutex, PoisonError};

use jaunty_engines::ENGINES;
use jaunty_language::dialect::Dialect;
use jaunty_seam::engine::{Attempt, Container, Engine, Key, Session, Takes};
use jaunty_seam::error::{EngineError, Step};
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_standins::{StartError, documents, tds};

/// The key of a profile whose server is one of ours: where its data lies.
pub const KEY: &str = "simulated";

const SIMULATED: Key = Key::rare(KEY, Takes::Path, "", "start a simulated server over this data, and connect to it");

/// What can be simulated.
#[derive(Clone, Copy)]
enum Kind {
    /// SQL Server, over a SQLite file.
    Tds,
    /// A document database, over a folder of collections.
    Documents,
}

/// A server that runs.
enum Running {
    Tds(tds::Server),
    Documents(documents::Server),
}

impl Kind {
    fn of(engine: &str) -> Option<Kind> {
        match engine {
            "sqlserver" => Some(Kind::Tds),
            "mongodb" => Some(Kind::Documents),
            _ => None,
        }
    }

    fn start(self, data: PathBuf) -> Result<Running, StartError> {
        match self {
            Kind::Tds => {
                let archive = data.with_file_name(super::ARCHIVE);
                let others = vec![("archive".to_owned(), archive)].into_iter().filter(|(_, file)| file.exists());
                let options = tds::Options { data: Some(data), others: others.collect(), ..tds::Options::default() };
                tds::Server::start(options).map(Running::Tds)
            }
            Kind::Documents => {
                // A replica set of one, since only that has transactions.
                let replica_set = Some(("saltmarsh".to_owned(), 1));
                let options = documents::Options { data: Some(data), replica_set, ..documents::Options::default() };
                documents::Server::start(options).map(Running::Documents)
            }
        }
    }

    /// How to connect to it: a profile, and a password where it wants one.
    fn adapted(self, profile: Profile) -> (Profile, Option<Secret>) {
        match self {
            Kind::Tds => {
                let options = tds::Options::default();
                let profile = profile.with("user", options.user).with("database", options.database);
                (profile, Some(Secret::new(options.password)))
            }
            Kind::Documents => (profile.with("database", documents::Options::default().database), None),
        }
    }
}

impl Running {
    fn port(&self) -> u16 {
        match self {
            Running::Tds(server) => server.port(),
            Running::Documents(server) => server.port(),
        }
    }
}

/// The engines, those that can be simulated as such.
pub fn engines() -> &'static [&'static dyn Engine] {
    static ALL: LazyLock<Vec<&'static dyn Engine>> = LazyLock::new(|| {
        let simulated = |engine: &&'static dyn Engine| -> &'static dyn Engine {
            let Some(kind) = Kind::of(engine.name()) else { return *engine };
            // As the table of engines, both live as long as the program.
            let keys = Box::leak(engine.keys().iter().copied().chain([SIMULATED]).collect());
            Box::leak(Box::new(Simulated { engine: *engine, kind, keys, server: Mutex::default() }))
        };
        ENGINES.iter().map(simulated).collect()
    });
    &ALL
}

struct Simulated {
    engine: &'static dyn Engine,
    kind: Kind,
    keys: &'static [Key],
    server: Mutex<Option<Running>>,
}

impl Simulated {
    /// The port of the server, which is started if it does not run yet.
    fn port(&self, data: PathBuf) -> Result<u16, EngineError> {
        let mut server = self.server.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(server) = server.as_ref() {
            return Ok(server.port());
        }
        let started = self.kind.start(data).map_err(|error| {
            EngineError::connecting(Step::Reach, format!("the simulated server could not start: {error}"))
        })?;
        let port = started.port();
        *server = Some(started);
        Ok(port)
    }
}

impl Engine for Simulated {
    fn name(&self) -> &'static str {
        self.engine.name()
    }

    fn title(&self) -> &'static str {
        self.engine.title()
    }

    fn dialect(&self) -> &'static Dialect {
        self.engine.dialect()
    }

    fn keys(&self) -> &'static [Key] {
        self.keys
    }

    fn schemes(&self) -> &'static [&'static str] {
        self.engine.schemes()
    }

    fn preview_statement(&self, schema: &str, name: &str, here: &str) -> String {
        self.engine.preview_statement(schema, name, here)
    }

    fn secret_on_file(&self, profile: &Profile) -> Option<Secret> {
        self.engine.secret_on_file(profile)
    }

    fn container(&self) -> Container {
        self.engine.container()
    }

    fn connect(&self, attempt: &Attempt<'_>) -> Result<Box<dyn Session>, EngineError> {
        let Some(data) = attempt.profile.path(KEY) else { return self.engine.connect(attempt) };
        let mut profile = attempt.profile.clone().with("host", "127.0.0.1");
        profile.settings.insert("port".into(), Setting::Number(self.port(data)?.into()));
        profile.settings.remove(KEY);
        let (profile, secret) = self.kind.adapted(profile);
        let (prompt, stop) = (attempt.prompt, attempt.stop.clone());
        self.engine.connect(&Attempt { profile: &profile, secret: secret.as_ref(), prompt, stop })
    }
}
