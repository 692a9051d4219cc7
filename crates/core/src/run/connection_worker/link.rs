//! The thread's connection: made, looked at, lost, moved elsewhere.

use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use super::{Report, Worker};
use crate::connection::open_asking;
use jaunty_seam::engine::{Location, Prompt, Question, Session, Stop, Switch};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::Secret;

/// After how many minutes without use a connection is let go, unless its profile says otherwise.
const IDLE_MINUTES: i64 = 60;

impl Worker {
    /// Sees whether the connection still stands, and lets go of one that nobody uses.
    pub(super) fn look(&mut self, unused: Duration) {
        self.drop_if_lost();
        let Some((_, location)) = &self.session else { return };
        let limit = self.profile.number("idle_minutes").unwrap_or(IDLE_MINUTES);
        let limit = Duration::from_secs(u64::try_from(limit).unwrap_or(0) * 60);
        if !limit.is_zero() && unused >= limit && !location.in_transaction() {
            self.session = None;
            (self.tell)(Report::LetGo);
        }
    }

    pub(super) fn drop_if_lost(&mut self) {
        if self.session.as_mut().is_some_and(|(session, _)| !session.is_alive()) {
            let transaction = self.lose();
            (self.tell)(Report::Lost { transaction });
        }
    }

    /// Gives the session up. Tells whether a transaction went with it.
    pub(super) fn lose(&mut self) -> bool {
        let transaction = self.session.take().is_some_and(|(_, location)| location.in_transaction());
        self.transaction_lost |= transaction;
        let gone = self.in_transaction.roll_back();
        self.keeping.roll_back(&gone);
        transaction
    }

    /// Makes sure that there is a session; tells why there is none.
    pub(super) fn connect(&mut self, stop: &Stop) -> bool {
        if self.session.is_some() {
            return true;
        }
        let since = Instant::now();
        self.wants_secret = false;
        self.current().connecting = Some(stop.clone());
        let asker = Asker { tell: &*self.tell, answered: &self.answered, stop };
        let opened = open_asking(self.engine, &self.profile, self.secret.as_ref(), &asker, stop);
        self.current().connecting = None;
        match opened {
            Ok(session) => {
                let location = session.location();
                let (abilities, switches) = (session.abilities(), session.switches());
                (self.tell)(Report::Connected(location.clone(), abilities, switches, since.elapsed()));
                (self.reading, self.stale) = (None, true);
                self.session = Some((session, location));
                true
            }
            Err(error) => {
                if error.step == Some(Step::Secret) {
                    // One that was refused is of no use.
                    self.secret = None;
                    self.wants_secret = true;
                    (self.tell)(Report::WantsSecret(error));
                } else {
                    let error = match error.kind {
                        ErrorKind::Stopped => EngineError::new(error.kind, "connection attempt cancelled"),
                        _ => error,
                    };
                    (self.tell)(Report::NotConnected(error));
                }
                false
            }
        }
    }

    pub(super) fn connect_and_use(&mut self, stop: &Stop) -> Option<&mut (Box<dyn Session>, Location)> {
        self.drop_if_lost();
        if self.connect(stop) { self.session.as_mut() } else { None }
    }

    pub(super) fn switch(&mut self, to: &Switch, stop: &Stop) {
        let Some((session, location)) = self.connect_and_use(stop) else { return };
        let open = location.in_transaction();
        match session.switch(to, stop) {
            Ok(true) => {
                let now = session.location();
                *location = now.clone();
                (self.reading, self.stale) = (None, true);
                (self.tell)(Report::Moved(now));
            }
            Ok(false) if open => (self.tell)(Report::NotMoved(
                EngineError::new(ErrorKind::Refused, "switching needs a new connection, and a transaction is open")
                    .remedy("Commit it or roll it back first."),
            )),
            Ok(false) => {
                let before = self.profile.clone();
                self.profile = self.profile.clone().with(to.kind.word(), &to.to);
                self.session = None;
                if !self.connect(stop) {
                    self.profile = before;
                    self.connect(&Stop::default());
                }
            }
            Err(error) => (self.tell)(Report::NotMoved(error)),
        }
    }
}

/// Asks whoever is at the screen, and waits for the answer.
struct Asker<'a> {
    tell: &'a (dyn Fn(Report) + Send + Sync),
    answered: &'a Mutex<Receiver<Option<Secret>>>,
    stop: &'a Stop,
}

impl Prompt for Asker<'_> {
    fn ask(&self, question: &Question) -> Option<Secret> {
        let answered = self.answered.lock().unwrap_or_else(PoisonError::into_inner);
        // An answer that came too late is not one to this.
        while answered.try_recv().is_ok() {}
        (self.tell)(Report::Question(question.clone()));
        while !self.stop.is_wished() {
            match answered.recv_timeout(LOOK_EVERY) {
                Err(RecvTimeoutError::Timeout) => {}
                answer => return answer.ok().flatten(),
            }
        }
        None
    }
}

/// How often is looked, while an answer is awaited, whether anybody still wants the connection.
const LOOK_EVERY: Duration = Duration::from_millis(100);
