//! `jaunty lsp`: what a text editor talks to.

use std::io::{self, BufReader};

use jaunty_core::run::Keeping;
use jaunty_core::settings;
use jaunty_engines::ENGINES;
use jaunty_serve::{Ended, Options};

use crate::failure::Failure;

/// Serves an editor on standard input and output until it ends.
pub fn serve() -> Result<(), Failure> {
    let folders = crate::open::folders()?;
    crate::log::begin(&folders);
    let settings = settings::load(&folders.settings());
    let keeping = Keeping::open(&folders, settings.retention).ahead(settings.ahead);
    let options = Options { folders, engines: ENGINES, keeping };
    let ended = jaunty_serve::serve(BufReader::new(io::stdin()), io::stdout(), options)
        .map_err(|error| Failure::Usage(format!("the editor cannot be served: {error}")))?;
    match ended {
        Ended::WhenAsked => Ok(()),
        // The protocol asks for exit code 1.
        Ended::Alone => {
            Err(Failure::Database("the editor closed the connection without an exit notification".to_owned()))
        }
    }
}
