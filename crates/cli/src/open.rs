//! Opening the screen: which connection, which buffer.

use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};

use jaunty_core::connection::{Connections, Profile, connections_files, load};
use jaunty_core::engine::Engine;
use jaunty_core::files::Folders;
use jaunty_core::run::Keeping;
use jaunty_engines::ENGINES;
use jaunty_tui::app::Options;
use jaunty_tui::settings;
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
fn engine_of(path: &Path) -> Option<&'static dyn Engine> {
    let mut head = Vec::new();
    File::open(path).ok()?.take(64).read_to_end(&mut head).ok()?;
    ENGINES.iter().copied().find(|engine| engine.recognises(&head))
}

/// A profile for a database file that no connections file names.
fn profile_of(path: &Path, engine: &dyn Engine) -> Profile {
    let name = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let absolute = std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
    Profile::new(name, engine.name()).with("path", absolute.to_string_lossy())
}

/// The profile that a name on the command line means: one of a connections file, or a database file.
pub fn profile(name: &str, connections: &Connections) -> Result<Profile, Failure> {
    if let Some(profile) = connections.find(name) {
        return Ok(profile.clone());
    }
    let path = Path::new(name);
    if let Some(engine) = engine_of(path) {
        return Ok(profile_of(path, engine));
    }
    // What is wrong with its entry is more to the point than that it is not there.
    let about = |problem: &&jaunty_core::connection::Problem| problem.what.contains(&format!("[{name}]"));
    if let Some(problem) = connections.problems.iter().find(about).or(connections.problems.first()) {
        return Err(Failure::Usage(format!("there is no connection \"{name}\" that can be used. {problem}")));
    }
    let remedy = match connections.nearest(name) {
        Some(near) => format!("Did you mean \"{near}\"?"),
        None if path.is_file() => format!("{name} is a file, but no database that jaunty knows by its first bytes."),
        None if connections.profiles.is_empty() => {
            "No connections file was found; write one at .jaunty/connections.toml of this folder.".into()
        }
        None => "`jaunty connections` lists those there are.".into(),
    };
    Err(Failure::Usage(format!("there is no connection \"{name}\". {remedy}")))
}

/// The folder for the buffers of a connection: the project's, if there is one, or the user's.
fn buffers(folders: &Folders, connection: Option<&str>) -> PathBuf {
    let here = std::env::current_dir().unwrap_or_default();
    let project = here.ancestors().map(|folder| folder.join(".jaunty")).find(|folder| folder.is_dir());
    let buffers = project.map_or_else(|| folders.data.join("buffers"), |folder| folder.join("buffers"));
    // A name with a slash must not lead out of the folder.
    let safe = |name: &str| name.replace(['/', '\\', '\0'], "_").trim_start_matches('.').to_owned();
    buffers.join(connection.map_or_else(|| "scratch".into(), safe))
}

/// Opens the screen.
pub fn open(args: &Open) -> Result<(), Failure> {
    let folders = folders()?;
    let mut connections = connections(&folders);
    let mut buffer = args.file.clone();
    let mut chosen = args.connection.as_deref().map(|name| profile(name, &connections)).transpose()?;
    if let Some((path, engine)) = args.file.as_deref().and_then(|path| Some((path, engine_of(path)?))) {
        if chosen.is_some() {
            let what = format!("{} is a database; name it or a connection, not both", path.display());
            return Err(Failure::Usage(what));
        }
        chosen = Some(profile_of(path, engine));
        buffer = None;
    }
    if let Some(path) = buffer.as_deref().filter(|path| path.is_dir()) {
        return Err(Failure::Usage(format!("{} is a folder; name a file in it", path.display())));
    }
    if chosen.is_none() && connections.profiles.len() == 1 {
        chosen = connections.profiles.first().cloned();
    }
    if let Some(profile) = chosen.as_ref().filter(|profile| profile.file.is_none()) {
        connections.profiles.insert(0, profile.clone());
    }
    let name = chosen.as_ref().map(|profile| profile.name.as_str());
    let buffer = buffer.unwrap_or_else(|| buffers(&folders, name).join("statements.sql"));
    show(folders, connections, chosen, buffer)
}

/// Shows the screen until a person leaves.
pub fn show(
    folders: Folders,
    connections: Connections,
    profile: Option<Profile>,
    buffer: PathBuf,
) -> Result<(), Failure> {
    use std::io::IsTerminal;
    if !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
        let remedy = "`jaunty run` runs statements without one; `jaunty demo --print` shows the demonstration.";
        return Err(Failure::Usage(format!("the screen needs a terminal. {remedy}")));
    }
    crate::log::begin(&folders);
    let settings = settings::load(&folders.settings());
    let keeping = Keeping::open(&folders, settings.retention);
    let depth = Depth::of_environment(|name| std::env::var(name).ok());
    let options = Options { folders, engines: ENGINES, connections, profile, buffer, keeping, settings, depth };
    jaunty_tui::run(options).map_err(|error| Failure::Usage(error.to_string()))
}
