//! Opening the screen: which connection, which buffer.

use std::fs::File;
use std::io::{self, IsTerminal, Read};
use std::path::{Path, PathBuf};

use jaunty_core::buffers::Last;
use jaunty_core::connection::url::{self, FromUrl};
use jaunty_core::connection::{self, Connections, connections_files, consent, load, nearby};
use jaunty_core::files::Folders;
use jaunty_core::import::Format;
use jaunty_core::run::Keeping;
use jaunty_core::settings;
use jaunty_engines::ENGINES;
use jaunty_language::text::clean::clean;
use jaunty_seam::engine::{Engine, Prompt, Question, Session, Stop};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_tui::app::Options;
use jaunty_tui::appearance;
use jaunty_tui::theme::Depth;

use crate::args::Open;
use crate::failure::Failure;

/// The user's folders.
pub fn folders() -> Result<Folders, Failure> {
    Folders::of_user().map_err(|error| Failure::Usage(error.to_string()))
}

/// All profiles that count in the working folder.
pub fn connections(folders: &Folders) -> Connections {
    let here = std::env::current_dir().unwrap_or_default();
    load(&connections_files(&here, folders), ENGINES)
}

/// The engine whose database a file is, told by its first bytes.
pub fn engine_of(path: &Path) -> Option<&'static dyn Engine> {
    let mut head = Vec::new();
    File::open(path).ok()?.take(64).read_to_end(&mut head).ok()?;
    // A file of nothing is a database without tables, if it is called one.
    if head.is_empty() && is_called_database(path) {
        return jaunty_engines::by_name("sqlite");
    }
    ENGINES.iter().copied().find(|engine| engine.sniff(&head))
}

/// Whether a file has an ending that databases have.
fn is_called_database(path: &Path) -> bool {
    let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or_default();
    ["db", "db3", "sqlite", "sqlite3"].iter().any(|known| ending.eq_ignore_ascii_case(known))
}

/// Whether files can be in it; of a plain name it is the working folder.
fn is_folder(parent: &Path) -> bool {
    parent.as_os_str().is_empty() || parent.is_dir()
}

/// A database file that is not there yet: it is created where a person at the terminal wants that.
fn new_database(path: &Path, connections: &Connections) -> Result<Option<Profile>, Failure> {
    let is_buffer = crate::headless::buffers::meant(path.to_owned()).exists();
    let engine = jaunty_engines::by_name("sqlite")
        .filter(|_| is_called_database(path) && path.parent().is_some_and(is_folder) && !is_buffer);
    let Some(engine) = engine.filter(|_| io::stdin().is_terminal() && io::stdout().is_terminal()) else {
        return Ok(None);
    };
    let here = std::env::current_dir().unwrap_or_default();
    let near = nearby::beside(connections, &here, ENGINES);
    let (file, name) = (path.display().to_string(), path.file_stem().unwrap_or_default().to_string_lossy());
    let near = connections.nearest(&name).or_else(|| nearby::nearest(&near, &name));
    let near = near.map(|near| format!(" (there is {})", clean(near))).unwrap_or_default();
    let question = format!("{} does not exist{near}. Create an empty database there?", clean(&file));
    if !crate::ask::yes(&question).map_err(|error| Failure::Usage(error.to_string()))? {
        return Err(Failure::Usage(format!("{} was not created", clean(&file))));
    }
    let mut profile = profile_of(path, engine);
    profile.settings.insert("create".into(), Setting::Flag(true));
    Ok(Some(profile))
}

/// A profile for a database file that no connections file names.
fn profile_of(path: &Path, engine: &dyn Engine) -> Profile {
    let name = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    Profile::new(name, engine.name()).with("path", absolute.to_string_lossy())
}

/// The profile that a name on the command line means: one of a connections file, a database file, or
/// a URL.
pub fn profile(name: &str, connections: &Connections) -> Result<Profile, Failure> {
    if name.contains("://") || url::is_url(name, ENGINES) {
        return profile_of_url(name);
    }
    if let Some(profile) = connections.find(name) {
        // It is named by a person.
        if let Err(error) =
            folders().and_then(|folders| consent::give(&folders, profile).map_err(|e| Failure::Usage(e.to_string())))
        {
            tracing::warn!(?error, "consent could not be noted");
        }
        return Ok(profile.clone());
    }
    let path = Path::new(name);
    if let Some(engine) = engine_of(path) {
        return Ok(profile_of(path, engine));
    }
    let here = std::env::current_dir().unwrap_or_default();
    let near = nearby::beside(connections, &here, ENGINES);
    if let Some(found) = near.iter().find(|found| found.profile.name == name) {
        // It is in no file of connections: which one it is has to be seen.
        eprintln!("jaunty: {} is from {}", clean(name), clean(&found.from));
        return Ok(found.profile.clone());
    }
    // What is no name may be settings of a connection, with a password among them, and is not repeated.
    if name.contains(['=', '@']) || (name.contains(':') && !name.contains('/')) {
        return Err(Failure::Usage(
            "that is not the name of a connection, a file or a URL. A URL has the form engine://user@host:port/database.".into(),
        ));
    }
    // What is wrong with its entry is more to the point than that it is not there.
    let of = |profile: Option<&str>| connections.problems.iter().find(|problem| problem.profile.as_deref() == profile);
    if let Some(problem) = of(Some(name)).or_else(|| of(None)) {
        return Err(Failure::Usage(format!("the connection \"{name}\" cannot be used. {problem}")));
    }
    let remedy = match connections.nearest(name).or_else(|| nearby::nearest(&near, name)) {
        Some(near) => format!("Did you mean \"{near}\"?"),
        None if path.is_file() => {
            format!("{name} is a file, but not a database that jaunty recognises by its first bytes.")
        }
        None if path.is_dir() => format!("{name} is a folder."),
        None if is_called_database(path) && path.parent().is_some_and(is_folder) => {
            format!("`sqlite:{name}?create=true` creates an empty database there.")
        }
        None if !near.is_empty() => {
            let near: Vec<_> = near.iter().take(3).map(|found| clean(&found.profile.name)).collect();
            format!("`jaunty connections` lists all; near this folder: {}.", near.join(", "))
        }
        None if connections.profiles.is_empty() && here.join("connections.toml").is_file() => {
            "There is a connections.toml in this folder; it is read as .jaunty/connections.toml.".into()
        }
        None if connections.profiles.is_empty() => {
            "No connections yet: `jaunty connections add NAME URL` saves one, with --project for this folder.".into()
        }
        None => "`jaunty connections` lists all connections.".into(),
    };
    // What looks like a file would have been taken for one.
    let is_path = path.extension().is_some() || path.components().count() > 1;
    let no_file = if is_path && !path.exists() { ", and no such file" } else { "" };
    Err(Failure::Usage(format!("no connection named \"{name}\"{no_file}. {remedy}")))
}

/// Says which parameters of a URL count for nothing.
pub fn tell_left_out(from: &FromUrl) {
    for parameter in &from.left_out {
        let parameter = clean(parameter);
        eprintln!("jaunty: {parameter} of the URL is ignored: not supported here");
    }
}

/// A profile for a URL: its password, if it has one, stays with it in memory.
fn profile_of_url(text: &str) -> Result<Profile, Failure> {
    let from = url::parse(text, ENGINES).map_err(|error| Failure::Usage(error.explain("", 1)))?;
    tell_left_out(&from);
    let mut profile = from.profile;
    let name = ["database", "path", "host"].iter().find_map(|key| profile.text(key)).unwrap_or(&profile.engine);
    profile.name = name.rsplit('/').next().unwrap_or(name).to_owned();
    if let Some(secret) = from.secret {
        profile = profile.with("password", secret.reveal());
    }
    Ok(profile)
}

/// What a command without a screen is about: where things are kept, all profiles, and the one that is meant.
pub struct Named {
    /// The program's folders.
    pub folders: Folders,
    /// All profiles.
    pub connections: Connections,
    /// The one that is meant.
    pub profile: Profile,
    /// Its engine.
    pub engine: &'static dyn Engine,
}

/// Finds a connection by its name, a file or a URL, and begins the log.
pub fn named(connection: &str) -> Result<Named, Failure> {
    let folders = folders()?;
    crate::log::begin(&folders);
    let connections = connections(&folders);
    let profile = profile(connection, &connections)?;
    let engine = engine(&profile)?;
    Ok(Named { folders, connections, profile, engine })
}

/// The engine of a profile.
pub fn engine(profile: &Profile) -> Result<&'static dyn Engine, Failure> {
    jaunty_engines::by_name(&profile.engine).ok_or_else(|| Failure::Usage(format!("unknown engine {}", profile.engine)))
}

/// Opens a session of a profile. Where a person is there, a password that is wanted is asked for.
pub fn session(profile: &Profile, stop: &Stop) -> Result<Box<dyn Session>, Failure> {
    let engine = jaunty_engines::by_name(&profile.engine)
        .ok_or_else(|| Failure::Usage(format!("unknown engine {}", profile.engine)))?;
    if let Some(warning) = profile.plain_password_warning() {
        eprintln!("jaunty: {}", clean(&warning));
    }
    let attempt = |secret: Option<&Secret>| connection::open_asking(engine, profile, secret, &Terminal, stop);
    match attempt(None) {
        Err(error) if error.step == Some(Step::Secret) && io::stdin().is_terminal() => {
            let prompt = format!("{}\nPassword for {}: ", error, clean(&profile.name));
            let secret = crate::ask::password(&prompt).map_err(|error| Failure::Usage(error.to_string()))?;
            attempt(Some(&secret)).map_err(|error| refused(&error))
        }
        Err(error) if error.step == Some(Step::Secret) && error.remedy.is_none() => {
            let remedy = "No terminal to ask on: name a source for it in the profile (secret, secret_command).";
            Err(refused(&error.remedy(remedy)))
        }
        opened => opened.map_err(|error| refused(&error)),
    }
}

/// Asks on the terminal, if there is one.
pub struct Terminal;

impl Prompt for Terminal {
    fn ask(&self, question: &Question) -> Option<Secret> {
        if !io::stdin().is_terminal() {
            return None;
        }
        let page = question.page.as_deref().map(|page| format!("Open {}\n", clean(page))).unwrap_or_default();
        crate::ask::password(&format!("{page}{}: ", clean(&question.text))).ok()
    }
}

/// The failure of a connection, with its step. A mistake in the profile is one of ours.
pub fn refused(error: &EngineError) -> Failure {
    let told = format!("{}{}", error.step_words(), error.explain("", 1));
    if error.kind == ErrorKind::Stopped {
        return Failure::Stopped("cancelled before there was a connection".to_owned());
    }
    if error.step == Some(Step::Profile) { Failure::Usage(told) } else { Failure::Database(told) }
}

/// The project's folder of ours, if there is one.
pub fn project_folder() -> Option<PathBuf> {
    let here = std::env::current_dir().unwrap_or_default();
    here.ancestors().map(|folder| folder.join(".jaunty")).find(|folder| folder.is_dir())
}

/// The folder for the buffers of a connection: the project's, if there is one, or the user's.
fn buffers(folders: &Folders, connection: Option<&str>) -> PathBuf {
    jaunty_core::buffers::folder_of(folders, project_folder().as_deref(), connection)
}

/// Whether a file holds rows, by its ending. One document of JSON is a command of a document database and not rows.
fn is_rows(path: &Path) -> bool {
    let begins = || {
        let mut head = Vec::new();
        File::open(path).ok()?.take(4096).read_to_end(&mut head).ok()?;
        // After the mark of its encoding, where it has one.
        head.strip_prefix(b"\xef\xbb\xbf").unwrap_or(&head).iter().find(|byte| !byte.is_ascii_whitespace()).copied()
    };
    match Format::of_file(path).filter(|_| path.is_file()) {
        Some(Format::Json) => begins() == Some(b'['),
        format => format.is_some(),
    }
}

/// Opens the screen.
pub fn open(args: &Open) -> Result<(), Failure> {
    let folders = folders()?;
    let mut connections = connections(&folders);
    let mut buffer = args.file.clone();
    let mut chosen = args.connection.as_deref().map(|name| profile(name, &connections)).transpose()?;
    if let Some(text) = args.file.as_deref().and_then(Path::to_str).filter(|text| url::is_url(text, ENGINES)) {
        chosen = Some(profile_of_url(text)?);
        buffer = None;
    }
    if let Some((path, engine)) = args.file.as_deref().and_then(|path| Some((path, engine_of(path)?))) {
        if chosen.is_some() {
            let what = format!("{} is a database; name it or a connection, not both", path.display());
            return Err(Failure::Usage(what));
        }
        chosen = Some(profile_of(path, engine));
        buffer = None;
    }
    let unknown = buffer.as_deref().filter(|path| chosen.is_none() && !path.exists());
    let unknown = unknown.filter(|path| path.to_str().is_none_or(|name| connections.find(name).is_none()));
    if let Some(created) = unknown.map(|path| new_database(path, &connections)).transpose()?.flatten() {
        (chosen, buffer) = (Some(created), None);
    }
    buffer = buffer.map(crate::headless::buffers::meant);
    // Rows are no statements: they are loaded, on the connection that was used last.
    let rows = buffer.take_if(|path| is_rows(path));
    // The name of a connection, where nothing else is called so.
    let named = buffer.as_deref().filter(|path| !path.exists()).and_then(Path::to_str);
    if let Some(named) = named.filter(|name| chosen.is_none() && connections.find(name).is_some()) {
        (chosen, buffer) = (Some(profile(named, &connections)?), None);
    }
    if let Some(path) = buffer.as_deref().filter(|path| path.is_dir()) {
        return Err(Failure::Usage(format!("{} is a folder; name a file in it", path.display())));
    }
    if (args.file.is_none() || rows.is_some()) && args.connection.is_none() && !args.pane {
        let last = std::env::current_dir().ok().and_then(|here| Last::of(&folders, &here));
        chosen = last.as_ref().and_then(|last| connections.find(last.connection.as_deref()?).cloned());
        chosen = chosen.filter(|profile| consent::is_given(&folders, profile));
        buffer = last.map(|last| last.buffer);
    }
    if chosen.is_none() && buffer.is_none() && connections.profiles.len() == 1 {
        chosen = connections.profiles.first().filter(|profile| consent::is_given(&folders, profile)).cloned();
    }
    if let Some(profile) = chosen.as_ref().filter(|profile| profile.file.is_none()) {
        connections.profiles.insert(0, profile.clone());
    }
    let name = chosen.as_ref().map(|profile| profile.name.as_str());
    let ending =
        chosen.as_ref().and_then(|p| jaunty_engines::by_name(&p.engine)).map_or("sql", |e| e.dialect().extension);
    let buffer = buffer.unwrap_or_else(|| buffers(&folders, name).join(format!("statements.{ending}")));
    let here = std::env::current_dir().unwrap_or_default();
    let project = jaunty_serve::socket::project_of(&here);
    let rows = rows.map(|path| std::path::absolute(&path).unwrap_or(path));
    show_as(folders, ENGINES, (connections, chosen), (buffer, rows), Some((project, args.pane)))
}

/// Shows the screen until a person leaves.
pub fn show(
    folders: Folders,
    engines: &'static [&'static dyn Engine],
    connections: Connections,
    profile: Option<Profile>,
    buffer: PathBuf,
) -> Result<(), Failure> {
    show_as(folders, engines, (connections, profile), (buffer, None), None)
}

/// The same, where other programs of a project find it: perhaps as the guest of an editor.
fn show_as(
    folders: Folders,
    engines: &'static [&'static dyn Engine],
    (connections, profile): (Connections, Option<Profile>),
    (buffer, rows): (PathBuf, Option<PathBuf>),
    found_in: Option<(PathBuf, bool)>,
) -> Result<(), Failure> {
    if !io::stdout().is_terminal() || !io::stdin().is_terminal() {
        let remedy = "Without one, use `jaunty run` for statements and `jaunty demo --print` for the demonstration.";
        return Err(Failure::Usage(format!("the screen needs a terminal. {remedy}")));
    }
    crate::log::begin(&folders);
    let mut settings = settings::load(&folders.settings());
    let keeping = Keeping::open(&folders, settings.retention).ahead(settings.ahead);
    let appearance = appearance::understood(&mut settings);
    let depth = Depth::of_environment(|name| std::env::var(name).ok());
    let guest = found_in.as_ref().is_some_and(|(_, guest)| *guest);
    let listening = crate::screen::Listener::default();
    let outside = found_in.map(|(project, _)| {
        let service = jaunty_serve::Options { folders: folders.clone(), engines, keeping: keeping.clone() };
        listening.clone().begin(service, project)
    });
    let options = Options {
        folders,
        engines,
        connections,
        profile,
        buffer,
        rows,
        keeping,
        settings,
        appearance,
        depth,
        guest,
        outside,
    };
    let shown = jaunty_tui::run(options).map_err(|error| Failure::Usage(error.to_string()));
    listening.end();
    shown
}
