//! How the program ends when it does not end well: a sentence on standard error and an exit code.

use std::io;
use std::process::ExitCode;

use jaunty_language::text::clean::clean_lines;

use crate::headless::interrupt;

/// What went wrong.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// The database refused, or could not be reached: exit code 1.
    #[error("{0}")]
    Database(String),
    /// A mistake on the command line or in a file: exit code 2.
    #[error("{0}")]
    Usage(String),
    /// A person stopped it: exit code 130.
    #[error("{0}")]
    Stopped(String),
    /// What was compared differs, and that is asked for as an exit code: 3.
    #[error("the two differ")]
    Differ,
    /// Whoever read the output has gone. That is no failure.
    #[error("the output was closed")]
    Closed,
}

impl Failure {
    /// Says it and tells the exit code.
    pub fn report(&self) -> ExitCode {
        let code = match self {
            Failure::Closed => return ExitCode::SUCCESS,
            // What differs was told.
            Failure::Differ => return ExitCode::from(3),
            Failure::Database(_) => 1,
            Failure::Usage(_) => 2,
            Failure::Stopped(_) => interrupt::EXIT_CODE,
        };
        eprintln!("jaunty: {}", clean_lines(&self.to_string()));
        ExitCode::from(code)
    }

    /// The failure of writing output.
    pub fn output(error: &io::Error, name: &str) -> Failure {
        match error.kind() {
            io::ErrorKind::BrokenPipe => Failure::Closed,
            _ => Failure::Usage(format!("{name} cannot be written: {error}")),
        }
    }
}
