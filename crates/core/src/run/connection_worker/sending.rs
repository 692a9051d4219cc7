//! Sending a slip: one run of the logbook, which knows the slip that takes it back.

use std::sync::{Arc, PoisonError};

use super::{Report, Worker};
use crate::logbook::{Ended, KeptResult, Outcome};
use crate::run::kept::RunResult;
use crate::run::state::Run;
use crate::slip::statements::script;
use crate::slip::{Slip, Unsent, send};
use jaunty_seam::engine::{Location, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::Guard;

/// What became of a slip.
#[derive(Debug, Clone)]
pub enum Sending {
    /// It was sent.
    Sent {
        /// Whether it stands in an open transaction.
        uncommitted: bool,
        /// Whether it can be taken back.
        has_opposite: bool,
    },
    /// It was not, and nothing was changed.
    Unsent(Unsent),
}

impl Worker {
    pub(super) fn send_slip(&mut self, slip: &Slip, stop: &Stop) {
        let sending = self.sending(slip, stop);
        (self.tell)(Report::Sending(Box::new(slip.clone()), sending));
        (self.tell)(Report::Idle { left_out: 0 });
    }

    fn sending(&mut self, slip: &Slip, stop: &Stop) -> Sending {
        let refused = |message: &str, remedy: &str| {
            let error = EngineError::new(ErrorKind::Refused, message).remedy(remedy);
            Sending::Unsent(Unsent::Refused { draft: None, error, rolled_back: true })
        };
        if self.profile.guard == Guard::ReadOnly {
            return refused("this connection is read-only", "Send it on a profile that may write.");
        }
        self.drop_if_lost();
        if std::mem::take(&mut self.transaction_lost) {
            return refused(
                "the connection was lost with a transaction open, and what stood in it is gone",
                "Send the slip again if it was not meant to be a part of that.",
            );
        }
        if !self.connect(stop) {
            return refused("not connected", "Connect first.");
        }
        let Some((_, location)) = self.session.as_ref() else { return refused("not connected", "Connect first.") };
        if location.database != slip.database {
            let message = format!(
                "these rows are of the database {}, and this session is in {}",
                slip.database, location.database
            );
            return refused(&message, "Switch to that database first.");
        }
        let location = location.clone();
        self.carry_out_slip(slip, &location, stop)
    }

    fn carry_out_slip(&mut self, slip: &Slip, location: &Location, stop: &Stop) -> Sending {
        let dialect = self.engine.dialect();
        let statement = script(slip, dialect, location.transaction.is_some());
        let what = if slip.takes_back.is_some() { "taken back" } else { "slip" };
        let title = format!("{what}: {} · {}", slip.counted(), slip.ground.table.name);
        let number = self.keeping.begin((&self.profile, location), &title, &statement);
        let run = Run::begin(statement, Some(title), number).until(stop).at(&self.profile.name, &location.database);
        let run = Arc::new(run);
        self.now_runs(&run);
        let Some((session, _)) = self.session.as_mut() else { return self.lost_before(&run) };
        let outcome = send(slip, dialect, session.as_mut(), stop, |_| {});
        let (ended, error) = match &outcome {
            Ok(_) => (Outcome::Done, None),
            Err(Unsent::Refused { error, .. }) if error.kind == ErrorKind::Stopped => (Outcome::Stopped, None),
            Err(Unsent::Refused { error, .. }) if error.kind == ErrorKind::Lost => {
                (Outcome::CutShort, Some(error.clone()))
            }
            Err(Unsent::Refused { error, .. }) => (Outcome::Failed, Some(error.clone())),
            Err(unsent) => (Outcome::Failed, Some(EngineError::new(ErrorKind::Refused, unsent.to_string()))),
        };
        let opposite = outcome.as_ref().ok().and_then(|sent| sent.opposite(slip, dialect, number));
        if outcome.is_ok() {
            let affected = Some(slip.drafts.len() as u64);
            let position = run.add_result(RunResult::Affected(affected));
            if let Some(number) = number {
                self.keeping.note(|logbook| logbook.result(number, position, &KeptResult::Affected(affected)));
                if let Some(text) = opposite.as_ref().and_then(|slip| serde_json::to_string(slip).ok()) {
                    self.keeping.note(|logbook| logbook.keep_slip(number, &text));
                }
            }
        }
        if let (Ok(_), Some(before)) = (&outcome, slip.takes_back) {
            self.keeping.note(|logbook| logbook.taken_back(before));
        }
        run.set_end(ended, error.clone());
        if let Some(number) = number {
            let told = Ended {
                first_row_ms: None,
                duration_ms: run.duration().as_millis() as i64,
                rows: 0,
                bytes: 0,
                error: error.as_ref().map(ToString::to_string),
            };
            self.keeping.note(|logbook| logbook.end(number, ended, &told));
        }
        self.now_runs(&run);
        if error.is_some_and(|error| error.kind == ErrorKind::Lost) {
            let transaction = self.lose();
            (self.tell)(Report::Lost { transaction });
        } else {
            self.moved();
        }
        match outcome {
            Ok(sent) => {
                if sent.uncommitted {
                    self.in_transaction.note(&run);
                }
                let has_opposite = opposite.is_some() && number.is_some();
                Sending::Sent { uncommitted: sent.uncommitted, has_opposite }
            }
            Err(unsent) => Sending::Unsent(unsent),
        }
    }

    fn lost_before(&self, run: &Arc<Run>) -> Sending {
        let error = EngineError::new(ErrorKind::Lost, "the connection was lost");
        run.set_end(Outcome::CutShort, Some(error.clone()));
        self.now_runs(run);
        Sending::Unsent(Unsent::Refused { draft: None, error, rolled_back: true })
    }

    /// Tells of a run that has begun or ended.
    fn now_runs(&self, run: &Arc<Run>) {
        let running = run.end().is_none().then(|| Arc::clone(run));
        self.current.lock().unwrap_or_else(PoisonError::into_inner).run = running;
        (self.tell)(Report::Run(Arc::clone(run)));
    }
}
