//! `jaunty demo`: the invented world of Saltmarsh Line, a ferry company, and ten statements that
//! lead through it.

mod documents;
mod names;
mod simulated;
mod world;

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use jaunty_core::archive::Retention;
use jaunty_core::connection::{Connections, edit};
use jaunty_core::export::Format;
use jaunty_core::files::{self, Folders};
use jaunty_core::run::Keeping;
use jaunty_language::dialect::SQLITE;
use jaunty_seam::engine::Stop;
use jaunty_seam::profile::Profile;

use crate::args::Demo;
use crate::failure::Failure;
use crate::headless::interrupt::Interrupt;
use crate::headless::output::{Output, Shared};
use crate::headless::run::{With, run_all};
use crate::headless::tasks::tasks_of;

/// The ten statements.
pub const TOUR: &str = include_str!("tour.sql");

/// Statements in T-SQL.
const OFFICE: &str = include_str!("office.sql");

/// Statements of collections.
const LOG: &str = include_str!("log.documents");

/// The demonstration in a folder.
struct Layout {
    folders: Folders,
    tour: PathBuf,
    connections: PathBuf,
}

/// Makes what is missing of the demonstration, and shows or prints it.
pub fn run(args: &Demo) -> Result<(), Failure> {
    let folder = match &args.folder {
        Some(folder) => std::path::absolute(folder).unwrap_or_else(|_| folder.clone()),
        None => crate::open::folders()?.state.join("demo"),
    };
    let laid = lay(&folder).map_err(|error| {
        Failure::Usage(format!("the demonstration cannot be created in {}: {error}", folder.display()))
    })?;
    let connections = jaunty_core::connection::load(std::slice::from_ref(&laid.connections), simulated::engines());
    let Some(profile) = connections.find("ferry").cloned() else {
        let problem = connections.problems.first().map_or_else(String::new, |problem| format!(" {problem}"));
        return Err(Failure::Usage(format!(
            "{} no longer has a connection [ferry].{problem}",
            laid.connections.display()
        )));
    };
    if args.print { print(&laid, &profile) } else { show(laid, connections, profile) }
}

fn show(laid: Layout, connections: Connections, profile: Profile) -> Result<(), Failure> {
    crate::open::show(laid.folders, simulated::engines(), connections, Some(profile), laid.tour)
}

/// The database that lies beside the ferry company's on the simulated server.
const ARCHIVE: &str = "archive.db";

/// Why the demonstration could not be made.
#[derive(Debug, thiserror::Error)]
enum LayError {
    #[error(transparent)]
    File(#[from] std::io::Error),
    #[error(transparent)]
    Database(#[from] rusqlite::Error),
    #[error(transparent)]
    Connections(#[from] edit::EditError),
}

/// Makes the database, the connections file and the buffer, each unless it is there.
fn lay(folder: &Path) -> Result<Layout, LayError> {
    files::private_folder(folder)?;
    let database = folder.join("saltmarsh.db");
    if !database.exists() {
        eprintln!("jaunty: creating the demonstration in {} …", folder.display());
        // Under its own name only when it is whole.
        let beside = folder.join("saltmarsh.db.part");
        let _ = std::fs::remove_file(&beside);
        world::make(&beside)?;
        std::fs::rename(&beside, &database)?;
    }
    let archive = folder.join(ARCHIVE);
    if !archive.exists() {
        let beside = folder.join("archive.db.part");
        let _ = std::fs::remove_file(&beside);
        let made = rusqlite::Connection::open(&beside)?;
        made.execute("attach ?1 as ferry", [database.to_string_lossy()])?;
        made.execute_batch(include_str!("archive.sql"))?;
        made.close().map_err(|(_, error)| error)?;
        std::fs::rename(&beside, &archive)?;
    }
    let collections = folder.join("collections");
    if !collections.exists() {
        documents::make(&database, &collections)?;
    }
    let connections = folder.join("connections.toml");
    if !connections.exists() {
        let text = "# The connections of the demonstration. Each table is one connection; its heading is the name.\n\n";
        std::fs::write(&connections, text)?;
        let mut ferry = Profile::new("ferry", "sqlite").with("path", "saltmarsh.db");
        ferry.note = Some("Saltmarsh Line: everything, free to change".into());
        edit::put(&connections, &ferry)?;
        let mut archive = Profile::new("ferry-archive", "sqlite").with("path", "saltmarsh.db");
        archive = archive.guarded(jaunty_seam::profile::Guard::ReadOnly);
        archive.note = Some("the same file, opened so that SQLite refuses every write".into());
        edit::put(&connections, &archive)?;
        let mut harbour = Profile::new("ferry-harbour", "sqlite").with("path", "saltmarsh.db");
        harbour = harbour.guarded(jaunty_seam::profile::Guard::Ask);
        harbour.note = Some("the same file; shows what is about to be written and asks".into());
        edit::put(&connections, &harbour)?;
        let mut office = Profile::new("ferry-office", "sqlserver").with(simulated::KEY, "saltmarsh.db");
        office.note = Some("the same data as SQL Server has it: a simulated server, started when it is chosen".into());
        edit::put(&connections, &office)?;
        let mut log = Profile::new("ferry-log", "mongodb").with(simulated::KEY, "collections");
        log.note = Some("the same world as documents: a simulated server in memory, started when it is chosen".into());
        edit::put(&connections, &log)?;
    }
    let tour = folder.join("tour.sql");
    for (file, text) in [(&tour, TOUR), (&folder.join("office.sql"), OFFICE), (&folder.join("log.documents"), LOG)] {
        if !file.exists() {
            std::fs::write(file, text)?;
        }
    }
    Ok(Layout { folders: Folders::below(folder), tour, connections })
}

/// Runs the ten statements and prints what they give, as the screen would show it.
fn print(laid: &Layout, profile: &Profile) -> Result<(), Failure> {
    let text = std::fs::read_to_string(&laid.tour)
        .map_err(|error| Failure::Usage(format!("{} cannot be read: {error}", laid.tour.display())))?;
    let tasks = tasks_of(&text, &SQLITE, None, Some(&laid.tour))?;
    let keeping = Keeping::open(&laid.folders, Retention::default());
    let mut session = crate::open::session(profile, &Stop::default())?;
    for task in tasks {
        let title = task.job.title.clone().unwrap_or_default();
        crate::headless::print(&format!("-- {title}\n"))?;
        let output = Shared(Arc::new(Mutex::new(Output::shortened(Format::Table, 12)?)));
        let with = With {
            profile,
            dialect: &SQLITE,
            keeping: &keeping,
            output: &output,
            interrupt: &Interrupt::default(),
            yes: true,
            quiet: true,
            keep_going: false,
            several: false,
        };
        let outcome = run_all(session.as_mut(), &[task], &with);
        output.lock().close(outcome.is_ok())?;
        outcome?;
        crate::headless::print("\n")?;
    }
    Ok(())
}
