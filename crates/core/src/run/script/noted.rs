//! A script in the logbook: one run for all of it.

use std::time::Duration;

use super::carry_out::{Done, Unfinished, Wanted};
use crate::logbook::{Ended, KeptResult, Outcome};
use crate::run::Keeping;
use jaunty_seam::engine::Location;
use jaunty_seam::profile::Profile;

/// A script that stands in the logbook; none where its connection keeps no runs.
#[derive(Debug)]
pub struct Noted(Option<i64>);

/// What stands in the logbook for the statements of a script.
pub fn statement(name: &str, wanted: Wanted) -> String {
    // The comment ends with its line.
    let name: String = name.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    match wanted.from {
        1 => format!("-- the statements of {name}"),
        line => format!("-- the statements of {name} from line {line} on"),
    }
}

/// How a script ended, and in which words if not well.
pub fn outcome(unfinished: Option<&Unfinished>) -> (Outcome, Option<String>) {
    match unfinished {
        None => (Outcome::Done, None),
        Some(Unfinished::Stopped { .. }) => (Outcome::Stopped, None),
        Some(error) => (Outcome::Failed, Some(error.to_string())),
    }
}

impl Noted {
    /// Notes that it has begun.
    pub fn begin(keeping: &Keeping, (profile, location): (&Profile, &Location), name: &str, wanted: Wanted) -> Noted {
        Noted(keeping.begin((profile, location), &format!("run {name}"), &statement(name, wanted)))
    }

    /// The run's number in the logbook.
    pub fn number(&self) -> Option<i64> {
        self.0
    }

    /// Notes how it ended.
    pub fn end(&self, keeping: &Keeping, done: Done, unfinished: Option<&Unfinished>, took: Duration) {
        let Some(number) = self.0 else { return };
        let affected = KeptResult::Affected(Some(done.affected));
        keeping.note(|logbook| logbook.result(number, 0, &affected));
        let (how, error) = outcome(unfinished);
        let duration_ms = i64::try_from(took.as_millis()).unwrap_or(i64::MAX);
        let ended = Ended { first_row_ms: None, duration_ms, rows: 0, bytes: 0, error };
        keeping.note(|logbook| logbook.end(number, how, &ended));
    }
}
