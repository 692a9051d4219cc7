//! The thread that owns a session: it connects, runs what it is asked, and tells what happens.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, TryRecvError, channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use ropey::Rope;

use super::Keeping;
use super::execute::{Job, Tell, execute};
use super::reading::{self, Read};
use super::sample::Sample;
use super::state::Run;
use super::transaction::OpenTransaction;
use crate::catalog::store;
use crate::logbook::Outcome;
use jaunty_language::dialect::Kind;
use jaunty_language::lexer::Lexer;
use jaunty_language::outline::StatementId;
use jaunty_seam::catalog::{Catalog, Name, Object};
use jaunty_seam::engine::{Abilities, Canceller, Effect, Engine, Place, Session, Switch, SwitchKind};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Profile, Secret};

/// What the thread is asked.
pub enum Order {
    /// Run these one after the other, and stop at the first that fails.
    Run(Vec<Job>),
    /// The same, unless they are taken back before they begin.
    RunUnless(Ticket, Vec<Job>),
    /// Ask the server whether it would take this statement.
    Check(StatementId, String),
    /// Read anew what the database holds.
    Catalog,
    /// Read the first rows of an object, by this statement where it takes one, outside of the logbook.
    Sample(Box<Object>, String),
    /// Ask for the statement that makes this object.
    Definition(Box<Object>),
    /// Connect with this secret, which is kept in memory, and do what waited for it.
    Secret(Secret),
    /// Go to another database or schema, or take on a role.
    Switch(Switch),
    /// List where [`Order::Switch`] could go to.
    Choices(SwitchKind),
}

/// Jobs that wait, as whoever asked for them holds them: they begin or are taken back, never both.
#[derive(Debug, Clone, Default)]
pub struct Ticket(Arc<AtomicBool>);

impl Ticket {
    /// Takes the jobs back. False if they have begun.
    pub fn take_back(&self) -> bool {
        !self.0.swap(true, Ordering::SeqCst)
    }
}

/// What the thread tells.
#[derive(Debug, Clone)]
pub enum Report {
    /// The connection is made, in so much time.
    Connected(Place, Abilities, Duration),
    /// It is not.
    NotConnected(EngineError),
    /// It is not, and a secret would help: give one with [`Order::Secret`].
    WantsSecret(EngineError),
    /// The connection went away while nothing ran.
    Lost {
        /// Whether a transaction went with it.
        transaction: bool,
    },
    /// The connection was let go, since nobody used it for the time that its profile states.
    LetGo,
    /// The last runs of earlier, one for every statement.
    Remembered(Vec<Arc<Run>>),
    /// A run has begun, grown or ended.
    Run(Arc<Run>),
    /// The session is somewhere else, or a transaction has begun or ended.
    Moved(Place),
    /// A switch was refused.
    NotMoved(EngineError),
    /// A yes is wanted before these run.
    Asks(Vec<Job>, Why),
    /// The server takes this as one statement, which the text was split into several.
    Joined(String),
    /// What the database holds, as it was kept from earlier or as it was read now.
    Catalog(Arc<Catalog>),
    /// What the database holds could not be read.
    NoCatalog(EngineError),
    /// What the server says of a statement: nothing, if it would take it.
    Checked(StatementId, Option<EngineError>),
    /// The first rows of an object.
    Sample(Name, Result<Sample, EngineError>),
    /// The statement that makes an object, by the server's word; none where it gives none.
    Definition(Box<Object>, Result<Option<String>, EngineError>),
    /// Where a switch could go to.
    Choices(SwitchKind, Result<Vec<String>, EngineError>),
    /// Nothing is left to do. So many jobs were not run, since one before them did not end well.
    Idle {
        /// Jobs that were left out.
        left_out: usize,
    },
}

/// Why a yes is wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Why {
    /// The profile asks before anything that writes, and the first of the jobs does this.
    Writes(Effect),
    /// The connection was lost with a transaction open: what stood in it is gone, and the jobs may
    /// have been meant to go on with it.
    TransactionLost,
    /// Nobody could say whether the first job is one statement or ends where this one does.
    TwoReadings(String),
}

/// How often a connection that rests is looked at.
const LOOK_EVERY: Duration = Duration::from_secs(5);

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
    /// Whether the server is asked something for a person: what a statement would do, what there is.
    asks: bool,
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
        let worker = Worker {
            engine,
            profile,
            secret,
            keeping,
            tell,
            current: Arc::clone(&current),
            session: None,
            wants_secret: false,
            waiting: Vec::new(),
            transaction_lost: false,
            in_transaction: OpenTransaction::default(),
            reading: None,
            stale: true,
        };
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
        }
        if let Some(canceller) = current.canceller.as_ref().filter(|_| current.run.is_some() || current.asks) {
            canceller.cancel();
        }
    }

    /// Lets first rows that nobody waits for any more be.
    pub fn pass_over(&self) {
        self.current.lock().unwrap_or_else(PoisonError::into_inner).stops += 1;
    }
}

/// The server is asked something for a person.
struct Asking(Arc<Mutex<Current>>);

impl Drop for Asking {
    fn drop(&mut self) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).asks = false;
    }
}

struct Worker {
    engine: &'static dyn Engine,
    profile: Profile,
    /// What a person gave.
    secret: Option<Secret>,
    keeping: Keeping,
    tell: Arc<dyn Fn(Report) + Send + Sync>,
    current: Arc<Mutex<Current>>,
    session: Option<(Box<dyn Session>, Place)>,
    /// The last connection was not made for want of a secret.
    wants_secret: bool,
    /// What is to be done once there is one.
    waiting: Vec<Asked>,
    /// A transaction went away with its connection, and nobody has been asked about it yet.
    transaction_lost: bool,
    in_transaction: OpenTransaction,
    /// A catalog that is being read, and its next part.
    reading: Option<(Catalog, usize)>,
    /// What the database holds is to be read when there is time.
    stale: bool,
}

impl Worker {
    fn work(mut self, inbox: &Receiver<Asked>) {
        self.remember();
        self.connect();
        let mut used = Instant::now();
        loop {
            let order = if self.has_to_read() {
                match inbox.try_recv() {
                    Err(TryRecvError::Empty) => {
                        self.read_on();
                        continue;
                    }
                    other => other.map_err(|_| RecvTimeoutError::Disconnected),
                }
            } else if self.session.as_ref().is_some_and(|(_, place)| !place.way.is_empty()) {
                inbox.recv_timeout(LOOK_EVERY)
            } else {
                inbox.recv().map_err(|_| RecvTimeoutError::Disconnected)
            };
            match order {
                Ok(asked) => {
                    self.carry_out(asked);
                    used = Instant::now();
                }
                Err(RecvTimeoutError::Timeout) => self.look(used.elapsed()),
                Err(RecvTimeoutError::Disconnected) => {
                    // The server rolls back what is open.
                    self.lose();
                    return;
                }
            }
        }
    }

    fn carry_out(&mut self, (order, stops): Asked) {
        match order {
            Order::Run(jobs) => self.run_all(jobs, stops),
            Order::RunUnless(ticket, jobs) => {
                // Of what is taken back nothing is told.
                if ticket.take_back() {
                    self.run_all(jobs, stops);
                }
            }
            Order::Catalog => {
                let asking = self.asking();
                self.reading = None;
                self.stale = true;
                if self.connect_and_use().is_none() {
                    let error = EngineError::new(ErrorKind::Lost, "not connected");
                    (self.tell)(Report::NoCatalog(error));
                } else if !self.has_to_read() {
                    // A person who asks does not mean after the transaction.
                    self.read_on();
                    while self.reading.is_some() && self.current().stops == stops {
                        self.read_on();
                    }
                    if self.reading.take().is_some() {
                        self.stale = false;
                        (self.tell)(Report::NoCatalog(EngineError::stopped()));
                    }
                }
                drop(asking);
            }
            Order::Check(id, statement) => self.check(id, &statement),
            Order::Sample(object, statement) => self.sample(&object, &statement, stops),
            Order::Definition(object) => {
                if self.connect_and_use().is_none() {
                    return;
                }
                let asking = self.asking();
                let Some((session, _)) = &mut self.session else { return };
                let definition = session.definition(&object);
                drop(asking);
                (self.tell)(Report::Definition(object, definition));
            }
            Order::Secret(secret) => {
                self.secret = Some(secret);
                let waiting = std::mem::take(&mut self.waiting);
                if self.connect() {
                    waiting.into_iter().for_each(|asked| self.carry_out(asked));
                } else {
                    self.waiting = waiting;
                }
            }
            Order::Switch(to) => self.switch(&to),
            Order::Choices(kind) => {
                if self.connect_and_use().is_none() {
                    return;
                }
                let asking = self.asking();
                let Some((session, _)) = &mut self.session else { return };
                let choices = session.choices(kind);
                drop(asking);
                (self.tell)(Report::Choices(kind, choices));
            }
        }
    }

    /// Tells what is known from earlier.
    fn remember(&self) {
        let (folder, profile) = (self.keeping.catalogs().to_owned(), self.profile.clone());
        let tell = Arc::clone(&self.tell);
        let read = move || {
            if let Some(catalog) = store::kept(&folder, &profile) {
                tell(Report::Catalog(Arc::new(catalog)));
            }
        };
        // Beside everything else: a large one takes a while. One that is written later is not of
        // the last time.
        if store::is_kept(self.keeping.catalogs(), &self.profile) {
            let _ = thread::Builder::new().name("catalog".into()).spawn(read);
        }
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

    fn current(&self) -> MutexGuard<'_, Current> {
        self.current.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn run_all(&mut self, jobs: Vec<Job>, stops: u64) {
        let mut left = jobs.len();
        self.drop_if_lost();
        if self.transaction_lost {
            // Never silently begun anew.
            self.transaction_lost = false;
            (self.tell)(Report::Asks(jobs, Why::TransactionLost));
            return (self.tell)(Report::Idle { left_out: 0 });
        }
        let mut taken = 0;
        for (index, job) in jobs.iter().enumerate() {
            // A part of the one before.
            if taken > 0 {
                (taken, left) = (taken - 1, left - 1);
                continue;
            }
            if self.current().stops != stops {
                break;
            }
            if !self.connect() {
                if self.wants_secret {
                    self.waiting = vec![(Order::Run(jobs[index..].to_vec()), stops)];
                }
                break;
            }
            let mut whole = None;
            match self.session.as_mut().map(|(session, _)| reading::read(session.as_mut(), job)) {
                Some(Read::Longer(longer, more)) => {
                    (self.tell)(Report::Joined(longer.statement.clone()));
                    taken = more.min(jobs.len() - index - 1);
                    whole = Some(longer);
                }
                Some(Read::Ask(longer, more)) => {
                    let rest = jobs.iter().skip(index + 1 + more).cloned();
                    let shorter = job.statement.clone();
                    (self.tell)(Report::Asks([*longer].into_iter().chain(rest).collect(), Why::TwoReadings(shorter)));
                    left = 0;
                    break;
                }
                Some(Read::AsItStands) | None => {}
            }
            let job = whole.as_deref().unwrap_or(job);
            let effect = self.needs_yes(job);
            // The question may have been what was stopped.
            if self.current().stops != stops {
                break;
            }
            if let Some(effect) = effect {
                let rest = jobs.iter().skip(index + 1 + taken).cloned();
                (self.tell)(Report::Asks([job.clone()].into_iter().chain(rest).collect(), Why::Writes(effect)));
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

    /// While this lives, a wish to stop ends what the server is asked.
    fn asking(&self) -> Asking {
        self.current().asks = true;
        Asking(Arc::clone(&self.current))
    }

    /// What the statement does, if the guard asks for a yes to that and has not had one.
    fn needs_yes(&mut self, job: &Job) -> Option<Effect> {
        if job.confirmed || self.profile.guard == jaunty_seam::profile::Guard::Open {
            return None;
        }
        let asking = self.asking();
        let outcome = self.session.as_mut()?.0.effect(&job.statement, &job.values);
        drop(asking);
        let effect = match outcome {
            Ok(effect) => effect,
            // Nobody knows what it would do. With values a question may be refused where the statement is not.
            Err(error) if error.kind == ErrorKind::Stopped || !job.values.is_empty() => Effect::Unknown,
            // What the server refuses does nothing; running it shows the error.
            Err(_) => return None,
        };
        (effect != Effect::Reads).then_some(effect)
    }

    /// Whether a statement changes what the catalog tells.
    fn defines(&self, job: &Job) -> bool {
        let (dialect, rope) = (self.engine.dialect(), Rope::from_str(&job.statement));
        let first = Lexer::new(&rope, dialect, 0).find(|token| !token.kind.is_trivia());
        let word = first.map(|token| rope.byte_slice(token.range()).to_string());
        word.and_then(|word| dialect.starter(&word)).is_some_and(|starter| starter.kind == Kind::Definition)
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
            let transaction = self.lose();
            (self.tell)(Report::Lost { transaction });
            return Some(run);
        }
        if self.session.as_ref().is_some_and(|(session, _)| session.changes_catalog(&job.statement))
            || self.defines(job) && run.outcome() == Outcome::Done
        {
            (self.reading, self.stale) = (None, true);
        }
        let Some((session, place)) = &mut self.session else { return Some(run) };
        let before = place.transaction;
        match session.place() {
            Ok(now) if now != *place => {
                let elsewhere = (&now.database, &now.schema) != (&place.database, &place.schema);
                (self.reading, self.stale) = (self.reading.take().filter(|_| !elsewhere), self.stale || elsewhere);
                (self.tell)(Report::Moved(now.clone()));
                *place = now;
            }
            Ok(_) => {}
            Err(error) => tracing::warn!(%error, "where the session is"),
        }
        let after = place.transaction;
        let gone = self.in_transaction.take(&run, (before, after), self.engine.dialect());
        self.keeping.roll_back(&gone);
        Some(run)
    }
}

mod idle;
mod link;
#[cfg(test)]
mod tests;
