//! Loading rows of a file: one run of the logbook, like a statement.

use std::time::Duration;

use super::Keeping;
use crate::import::{ImportError, Loaded, Matching};
use crate::logbook::{Ended, KeptResult, Outcome};
use jaunty_seam::engine::Location;
use jaunty_seam::profile::Profile;

/// A load that stands in the logbook; none where its connection keeps no runs.
#[derive(Debug)]
pub struct Noted(Option<i64>);

impl Noted {
    /// Notes that it has begun. `whose` is what the rows are of, `into` the table as a person named it.
    pub fn begin(
        keeping: &Keeping,
        (profile, location): (&Profile, &Location),
        (whose, into): (&str, &str),
        matching: &Matching,
    ) -> Noted {
        let names: Vec<_> = matching.targets.iter().map(|target| target.column.name.as_str()).collect();
        let statement = match &matching.definition {
            Some(definition) => format!("{definition};\n-- rows of {whose}: {}", names.join(", ")),
            None => format!("-- rows of {whose} into {}: {}", matching.table, names.join(", ")),
        };
        let title = format!("load {whose} into {into}");
        Noted(keeping.begin((profile, location), &title, &statement))
    }

    /// Notes how it ended.
    pub fn end(&self, keeping: &Keeping, outcome: &Result<Loaded, ImportError>, took: Duration) {
        let Some(number) = self.0 else { return };
        let (how, error) = match outcome {
            Ok(loaded) => {
                let affected = KeptResult::Affected(Some(loaded.rows));
                keeping.note(|logbook| logbook.result(number, 0, &affected));
                (Outcome::Done, None)
            }
            Err(ImportError::Stopped { .. }) => (Outcome::Stopped, None),
            Err(error) => (Outcome::Failed, Some(error.to_string())),
        };
        let ended = Ended { first_row_ms: None, duration_ms: took.as_millis() as i64, rows: 0, bytes: 0, error };
        keeping.note(|logbook| logbook.end(number, how, &ended));
    }
}
