//! The desk's connection: made, looked at, lost, moved elsewhere.

use std::time::{Duration, Instant};

use super::{Report, Worker};
use jaunty_seam::engine::{Place, Session, Switch};
use jaunty_seam::error::{EngineError, ErrorKind, Step};

/// After how many minutes without use a connection is let go, unless its profile says otherwise.
const IDLE_MINUTES: i64 = 60;

impl Worker {
    /// Sees whether the connection still stands, and lets go of one that nobody uses.
    pub(super) fn look(&mut self, unused: Duration) {
        self.drop_if_lost();
        let Some((_, place)) = &self.session else { return };
        let limit = self.profile.number("idle_minutes").unwrap_or(IDLE_MINUTES);
        let limit = Duration::from_secs(u64::try_from(limit).unwrap_or(0) * 60);
        if !limit.is_zero() && unused >= limit && !place.in_transaction() {
            self.session = None;
            (self.tell)(Report::LetGo);
        }
    }

    pub(super) fn drop_if_lost(&mut self) {
        if self.session.as_mut().is_some_and(|(session, _)| !session.stands()) {
            let transaction = self.lose();
            (self.tell)(Report::Lost { transaction });
        }
    }

    /// Gives the session up. Tells whether a transaction went with it.
    pub(super) fn lose(&mut self) -> bool {
        let transaction = self.session.take().is_some_and(|(_, place)| place.in_transaction());
        self.transaction_lost |= transaction;
        let gone = self.in_transaction.roll_back();
        self.keeping.roll_back(&gone);
        transaction
    }

    /// Makes sure that there is a session; tells why there is none.
    pub(super) fn connect(&mut self) -> bool {
        if self.session.is_some() {
            return true;
        }
        let since = Instant::now();
        self.wants_secret = false;
        match crate::connection::open(self.engine, &self.profile, self.secret.as_ref()) {
            Ok((session, place)) => {
                self.current().canceller = Some(session.canceller());
                (self.tell)(Report::Connected(place.clone(), session.abilities(), since.elapsed()));
                (self.reading, self.stale) = (None, true);
                self.session = Some((session, place));
                true
            }
            Err(error) => {
                if error.step == Some(Step::Secret) {
                    // One that was refused is of no use.
                    self.secret = None;
                    self.wants_secret = true;
                    (self.tell)(Report::WantsSecret(error));
                } else {
                    (self.tell)(Report::NotConnected(error));
                }
                false
            }
        }
    }

    pub(super) fn connect_and_use(&mut self) -> Option<&mut (Box<dyn Session>, Place)> {
        self.drop_if_lost();
        if self.connect() { self.session.as_mut() } else { None }
    }

    pub(super) fn switch(&mut self, to: &Switch) {
        let Some((session, place)) = self.connect_and_use() else { return };
        let open = place.in_transaction();
        match session.switch(to).and_then(|here| Ok(here.then_some(session.place()?))) {
            Ok(Some(now)) => {
                *place = now.clone();
                (self.reading, self.stale) = (None, true);
                (self.tell)(Report::Moved(now));
            }
            Ok(None) if open => (self.tell)(Report::NotMoved(
                EngineError::new(ErrorKind::Refused, "switching needs a new connection, and a transaction is open")
                    .remedy("Commit it or roll it back first."),
            )),
            Ok(None) => {
                let before = self.profile.clone();
                self.profile = self.profile.clone().with(to.kind.word(), &to.to);
                self.session = None;
                if !self.connect() {
                    self.profile = before;
                    self.connect();
                }
            }
            Err(error) => (self.tell)(Report::NotMoved(error)),
        }
    }
}
