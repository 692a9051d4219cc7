//! The thread that owns a session: it connects, runs what it is asked, and tells what happens.

use std::path::Path;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread;

use super::execute::{Job, Keeping, Tell, execute};
use super::state::Run;
use crate::connection::{Profile, Secret};
use crate::engine::{Abilities, Canceller, Effect, Engine, EngineError, ErrorKind, Flow, Object, Place, Session};
use crate::logbook::Outcome;

/// What the thread is asked.
pub enum Order {
    /// Run these one after the other, and stop at the first that fails.
    Run(Vec<Job>),
    /// List what the database holds.
    Catalog,
}

/// What the thread tells.
#[derive(Debug, Clone)]
pub enum Report {
    /// The connection is made.
    Connected(Place, Abilities),
    /// It is not.
    NotConnected(EngineError),
    /// The last runs of earlier, one for every statement.
    Remembered(Vec<Arc<Run>>),
    /// A run has begun, grown or ended.
    Run(Arc<Run>),
    /// The session is somewhere else, or a transaction has begun or ended.
    Moved(Place),
    /// The profile wants a yes before these run: the first of them writes.
    Asks(Vec<Job>),
    /// What the database holds.
    Catalog(Result<Vec<Object>, EngineError>),
    /// Nothing is left to do. So many jobs were not run, since one before them did not end well.
    Idle {
        /// Jobs that were left out.
        left_out: usize,
    },
}

/// An order, and how many wishes to stop there had been when it was given.
type Asked = (Order, u64);

/// A connection's thread, as others see it. Dropping it ends the session once nothing runs.
pub struct Desk {
    orders: Sender<Asked>,
    current: Arc<Mutex<Current>>,
}

#[derive(Default)]
struct Current {
    run: Option<Arc<Run>>,
    canceller: Option<Arc<dyn Canceller>>,
    /// Grows with every wish to stop, so that jobs still waiting are left out too.
    stops: u64,
}

impl Desk {
    /// Starts the thread. It connects at once.
    pub fn open(
        engine: &'static dyn Engine,
        profile: Profile,
        secret: Option<Secret>,
        keeping: Keeping,
        tell: impl Fn(Report) + Send + Sync + 'static,
    ) -> std::io::Result<Desk> {
        let (orders, inbox) = channel();
        let current = Arc::new(Mutex::new(Current::default()));
        let tell: Arc<dyn Fn(Report) + Send + Sync> = Arc::new(tell);
        let worker = Worker { engine, profile, secret, keeping, tell, current: Arc::clone(&current), session: None };
        thread::Builder::new().name("session".into()).spawn(move || worker.work(&inbox))?;
        Ok(Desk { orders, current })
    }

    /// Asks for something. It is done after what was asked before.
    pub fn ask(&self, order: Order) {
        // The thread ends only with this side of the channel.
        let stops = self.current.lock().unwrap_or_else(PoisonError::into_inner).stops;
        let _ = self.orders.send((order, stops));
    }

    /// Stops what runs, and what waits behind it. Rows that were fetched stay.
    pub fn stop(&self) {
        let mut current = self.current.lock().unwrap_or_else(PoisonError::into_inner);
        current.stops += 1;
        if let Some(run) = &current.run {
            run.stop();
            if let Some(canceller) = &current.canceller {
                canceller.cancel();
            }
        }
    }
}

struct Worker {
    engine: &'static dyn Engine,
    profile: Profile,
    secret: Option<Secret>,
    keeping: Keeping,
    tell: Arc<dyn Fn(Report) + Send + Sync>,
    current: Arc<Mutex<Current>>,
    session: Option<(Box<dyn Session>, Place)>,
}

impl Worker {
    fn work(mut self, inbox: &Receiver<Asked>) {
        self.remember();
        self.connect();
        while let Ok((order, stops)) = inbox.recv() {
            match order {
                Order::Run(jobs) => self.run_all(jobs, stops),
                Order::Catalog => {
                    let objects = self.catalog();
                    (self.tell)(Report::Catalog(objects));
                }
            }
        }
    }

    fn remember(&self) {
        let latest = self.keeping.logbook().map(|logbook| logbook.latest(&self.profile.name));
        match latest {
            Some(Ok(entries)) => {
                let runs = entries.into_iter().map(|entry| Arc::new(Run::remembered(entry))).collect();
                (self.tell)(Report::Remembered(runs));
            }
            Some(Err(error)) => tracing::warn!(%error, "earlier runs"),
            None => {}
        }
    }

    /// Makes sure that there is a session; tells why there is none.
    fn connect(&mut self) -> bool {
        if self.session.is_some() {
            return true;
        }
        let connected = self.engine.connect(&self.profile, self.secret.as_ref()).and_then(|mut session| {
            let place = session.place()?;
            Ok((session, place))
        });
        match connected {
            Ok((session, place)) => {
                self.current().canceller = Some(session.canceller());
                (self.tell)(Report::Connected(place.clone(), session.abilities()));
                self.session = Some((session, place));
                true
            }
            Err(error) => {
                (self.tell)(Report::NotConnected(error));
                false
            }
        }
    }

    fn current(&self) -> MutexGuard<'_, Current> {
        self.current.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn run_all(&mut self, jobs: Vec<Job>, stops: u64) {
        let mut left = jobs.len();
        for (index, job) in jobs.iter().enumerate() {
            if self.current().stops != stops || !self.connect() {
                break;
            }
            if self.needs_yes(job) {
                (self.tell)(Report::Asks(jobs[index..].to_vec()));
                left = 0;
                break;
            }
            left -= 1;
            if self.run(job).is_none_or(|run| run.outcome() != Outcome::Done) {
                break;
            }
        }
        (self.tell)(Report::Idle { left_out: left });
    }

    /// Whether the guard asks for a yes and has not had one.
    fn needs_yes(&mut self, job: &Job) -> bool {
        if job.confirmed || self.profile.guard != crate::connection::Guard::Ask {
            return false;
        }
        // What the server refuses does nothing; running it shows the error.
        let effect = self.session.as_mut().map(|(session, _)| session.effect(&job.statement));
        matches!(effect, Some(Ok(Effect::Writes | Effect::Unknown)))
    }

    fn run(&mut self, job: &Job) -> Option<Arc<Run>> {
        let (session, place) = self.session.as_mut()?;
        let (current, tell) = (Arc::clone(&self.current), Arc::clone(&self.tell));
        let tell: Tell = Arc::new(move |run: &Arc<Run>| {
            let running = run.end().is_none().then(|| Arc::clone(run));
            current.lock().unwrap_or_else(PoisonError::into_inner).run = running;
            tell(Report::Run(Arc::clone(run)));
        });
        let run = execute(session.as_mut(), (&self.profile, place), job, &self.keeping, None, &tell);
        let lost = run.end().and_then(|end| end.error.as_ref()).is_some_and(|error| error.kind == ErrorKind::Lost);
        if lost {
            self.session = None;
        } else if let Ok(now) = session.place()
            && now != *place
        {
            (self.tell)(Report::Moved(now.clone()));
            *place = now;
        }
        Some(run)
    }

    fn catalog(&mut self) -> Result<Vec<Object>, EngineError> {
        if !self.connect() {
            return Err(EngineError::new(ErrorKind::Lost, "there is no connection"));
        }
        let mut objects = Vec::new();
        if let Some((session, _)) = &mut self.session {
            session.catalog(&mut |object| {
                objects.push(object);
                Flow::GoOn
            })?;
        }
        Ok(objects)
    }
}

/// The jobs for statements of a text: those of `range` in its outline.
pub fn jobs(
    document: &crate::text::document::Document,
    range: std::ops::Range<usize>,
    buffer: Option<&Path>,
) -> Vec<Job> {
    let (rope, outline) = (document.rope(), document.outline());
    let statements = outline.statements().get(range).unwrap_or_default();
    statements.iter().map(|s| Job::of(s, rope, outline.dialect(), buffer)).collect()
}

#[cfg(test)]
mod tests;
