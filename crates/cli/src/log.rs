//! The program's own log: a file in the state folder, never the screen. `JAUNTY_LOG` sets how much
//! (error, warn, info, debug, trace).

use std::fs::OpenOptions;
use std::sync::Mutex;

use jaunty_core::files::{self, Folders};
use tracing_subscriber::filter::LevelFilter;

/// Begins to log. A log that cannot be written is done without. Files that a program which died left under
/// temporary names are removed.
pub fn begin(folders: &Folders) {
    let level = std::env::var("JAUNTY_LOG").ok().and_then(|level| level.parse().ok()).unwrap_or(LevelFilter::WARN);
    let open = || {
        files::private_folder(&folders.state)?;
        files::private(OpenOptions::new().create(true).append(true)).open(folders.log())
    };
    if let Ok(file) = open() {
        let log = tracing_subscriber::fmt()
            .with_ansi(false)
            .with_max_level(level)
            .log_internal_errors(false)
            .with_writer(Mutex::new(file));
        // Only the first of a process counts.
        let _ = log.try_init();
    }
    files::parts::remember_in(&folders.parts());
}
