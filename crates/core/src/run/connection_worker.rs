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
use crate::slip::Slip;
use jaunty_language::dialect::Kind;
use jaunty_language::lexer::Lexer;
use jaunty_language::outline::StatementId;
use jaunty_seam::catalog::{Catalog, Name, Object};
use jaunty_seam::engine::{Abilities, Effect, Engine, Location, Question, Request, Session, Stop, Switch, SwitchKind};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Guard, Profile, Secret};

use others::Others;
pub use scripting::{ScriptOrder, ScriptText};
pub use sending::Sending;

/// What the thread is asked.
pub enum Order {
    /// Run these one after the other, and stop at the first that fails.
    Run(Vec<Job>),
    /// The same, unless they are taken back before they begin.
    RunUnless(Ticket, Vec<Job>),
    /// Ask the server whether it would take this statement.
    Check(StatementId, String),
    /// Read again what the database holds.
    Catalog,
    /// Read what another database of the server holds, which a statement names.
    Database(String),
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
    /// Run a script while it is read, which a person has said yes to.
    Script(Box<ScriptOrder>),
    /// Send a slip, which a person has seen as SQL and said yes to.
    Send(Box<Slip>),
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
    Connected(Location, Abilities, &'static [SwitchKind], Duration),
    /// It is not.
    NotConnected(EngineError),
    /// It is not, and a secret would help: give one with [`Order::Secret`].
    WantsSecret(EngineError),
    /// The connection is being made, and this has to be answered first: with [`ConnectionWorker::answer`].
    Question(Question),
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
    Moved(Location),
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
    /// A script did not begin, and why.
    ScriptRefused(String),
    /// What became of a slip.
    Sending(Box<Slip>, Sending),
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
    /// The first job stands in program code and changes or removes all rows of its table: the program may add a condition
    /// to it somewhere else.
    MayBePart,
}

/// How often a connection that rests is looked at.
const LOOK_EVERY: Duration = Duration::from_secs(5);

/// An order, and the wish that ends it.
type Asked = (Order, Stop);

/// A connection's thread, as others see it. Dropping it ends the session once nothing runs.
pub struct ConnectionWorker {
    orders: Sender<Asked>,
    answers: Sender<Option<Secret>>,
    current: Arc<Mutex<Current>>,
    asks_first: Arc<AtomicBool>,
}

#[derive(Default)]
struct Current {
    run: Option<Arc<Run>>,
    /// The wishes of all that is done or waits to be done for a person, connecting included.
    stops: Vec<Stop>,
    /// Those of first rows, which nobody may wait for any more.
    samples: Vec<Stop>,
    /// That of a connection that is being made.
    connecting: Option<Stop>,
}

impl Current {
    fn forget(&mut self, done: &Stop) {
        self.stops.retain(|stop| !stop.is(done));
        self.samples.retain(|stop| !stop.is(done));
    }
}

impl ConnectionWorker {
    /// Starts the thread. It connects at once.
    pub fn open(
        engine: &'static dyn Engine,
        profile: Profile,
        secret: Option<Secret>,
        keeping: Keeping,
        tell: impl Fn(Report) + Send + Sync + 'static,
    ) -> std::io::Result<ConnectionWorker> {
        let (orders, inbox) = channel();
        let (answers, answered) = channel();
        let current = Arc::new(Mutex::new(Current::default()));
        let asks_first = Arc::new(AtomicBool::new(profile.guard != Guard::Open));
        let tell: Arc<dyn Fn(Report) + Send + Sync> = Arc::new(tell);
        let worker = Worker {
            engine,
            profile,
            secret,
            keeping,
            tell,
            answered: Mutex::new(answered),
            current: Arc::clone(&current),
            asks_first: Arc::clone(&asks_first),
            session: None,
            wants_secret: false,
            waiting: Vec::new(),
            transaction_lost: false,
            in_transaction: OpenTransaction::default(),
            reading: None,
            stale: true,
            others: Others::default(),
        };
        thread::Builder::new().name("session".into()).spawn(move || worker.work(&inbox))?;
        Ok(ConnectionWorker { orders, answers, current, asks_first })
    }

    /// From now on asks before what writes, if the profile did not say so when the connection was made: before the next
    /// statement of what runs, too.
    pub fn ask_first(&self) {
        self.asks_first.store(true, Ordering::SeqCst);
    }

    /// Asks for something. It is done after what was asked before.
    pub fn ask(&self, order: Order) {
        let stop = Stop::default();
        let mut current = self.lock();
        match &order {
            Order::Sample(..) => current.samples.push(stop.clone()),
            _ => current.stops.push(stop.clone()),
        }
        // The thread ends only with this side of the channel.
        let _ = self.orders.send((order, stop));
    }

    /// Answers a [`Report::Question`]; `None` gives the connection up.
    pub fn answer(&self, answer: Option<Secret>) {
        let _ = self.answers.send(answer);
    }

    /// Stops what runs, and what waits after it. Rows that were fetched stay.
    pub fn stop(&self) {
        let current = self.lock();
        if let Some(run) = &current.run {
            run.stop();
        }
        current.stops.iter().chain(&current.samples).chain(&current.connecting).for_each(Stop::wish);
    }

    /// Lets first rows that nobody waits for any more be.
    pub fn drain(&self) {
        self.lock().samples.iter().for_each(Stop::wish);
    }

    fn lock(&self) -> MutexGuard<'_, Current> {
        self.current.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for ConnectionWorker {
    /// Nobody waits for a connection that is being made.
    fn drop(&mut self) {
        self.lock().connecting.iter().for_each(Stop::wish);
    }
}

struct Worker {
    engine: &'static dyn Engine,
    profile: Profile,
    /// What a person gave.
    secret: Option<Secret>,
    keeping: Keeping,
    tell: Arc<dyn Fn(Report) + Send + Sync>,
    answered: Mutex<Receiver<Option<Secret>>>,
    current: Arc<Mutex<Current>>,
    /// Whether a yes is wanted before what writes.
    asks_first: Arc<AtomicBool>,
    session: Option<(Box<dyn Session>, Location)>,
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
    others: Others,
}

impl Worker {
    fn work(mut self, inbox: &Receiver<Asked>) {
        self.remember();
        self.connect(&Stop::default());
        let mut used = Instant::now();
        loop {
            let order = if self.has_to_locate() || self.has_to_read() {
                match inbox.try_recv() {
                    Err(TryRecvError::Empty) => {
                        if self.has_to_locate() {
                            self.locate();
                        } else {
                            self.read_on(&Stop::default());
                        }
                        continue;
                    }
                    other => other.map_err(|_| RecvTimeoutError::Disconnected),
                }
            } else if self.session.as_ref().is_some_and(|(_, location)| !location.transport.is_empty()) {
                inbox.recv_timeout(LOOK_EVERY)
            } else {
                inbox.recv().map_err(|_| RecvTimeoutError::Disconnected)
            };
            match order {
                Ok((order, stop)) => {
                    self.carry_out((order, stop.clone()));
                    self.current().forget(&stop);
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

    fn carry_out(&mut self, (order, stop): Asked) {
        match order {
            Order::Run(jobs) => self.run_all(jobs, &stop),
            Order::RunUnless(ticket, jobs) => {
                // Of what is taken back nothing is told.
                if ticket.take_back() {
                    self.run_all(jobs, &stop);
                }
            }
            Order::Database(name) => self.others.want(name),
            Order::Catalog => {
                self.others.forget();
                self.reading = None;
                self.stale = true;
                if self.connect_and_use(&stop).is_none() {
                    let error = EngineError::new(ErrorKind::Lost, "not connected");
                    (self.tell)(Report::NoCatalog(error));
                } else if !self.has_to_read() {
                    // A person who asks does not mean after the transaction.
                    self.read_on(&stop);
                    while self.reading.is_some() && !stop.is_wished() {
                        self.read_on(&stop);
                    }
                    if self.reading.take().is_some() {
                        self.stale = false;
                        (self.tell)(Report::NoCatalog(EngineError::stopped()));
                    }
                }
            }
            Order::Check(id, statement) => self.check(id, &statement, &stop),
            Order::Sample(object, statement) => self.sample(&object, &statement, &stop),
            Order::Definition(object) => {
                let Some((session, _)) = self.connect_and_use(&stop) else { return };
                let definition = session.definition(&object, &stop);
                (self.tell)(Report::Definition(object, definition));
            }
            Order::Secret(secret) => {
                self.secret = Some(secret);
                let waiting = std::mem::take(&mut self.waiting);
                if self.connect(&stop) {
                    waiting.into_iter().for_each(|asked| self.carry_out(asked));
                } else {
                    self.waiting = waiting;
                }
            }
            Order::Switch(to) => self.switch(&to, &stop),
            Order::Script(script) => self.run_script(*script, &stop),
            Order::Send(slip) => self.send_slip(&slip, &stop),
            Order::Choices(kind) => {
                let Some((session, _)) = self.connect_and_use(&stop) else { return };
                let choices = session.choices(kind, &stop);
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

    fn run_all(&mut self, jobs: Vec<Job>, stop: &Stop) {
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
            if stop.is_wished() {
                break;
            }
            if !self.connect(stop) {
                if self.wants_secret {
                    self.waiting = vec![(Order::Run(jobs[index..].to_vec()), stop.clone())];
                }
                break;
            }
            let mut whole = None;
            match self.session.as_mut().map(|(session, _)| reading::read(session.as_mut(), job, stop)) {
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
            let effect = self.needs_yes(job, stop);
            // The question may have been what was stopped.
            if stop.is_wished() {
                break;
            }
            if let Some(effect) = effect {
                let rest = jobs.iter().skip(index + 1 + taken).cloned();
                (self.tell)(Report::Asks([job.clone()].into_iter().chain(rest).collect(), Why::Writes(effect)));
                left = 0;
                break;
            }
            if !job.confirmed && job.may_be_part() {
                let rest = jobs.iter().skip(index + 1 + taken).cloned();
                (self.tell)(Report::Asks([job.clone()].into_iter().chain(rest).collect(), Why::MayBePart));
                left = 0;
                break;
            }
            left -= 1;
            if self.run(job, stop).is_none_or(|run| run.outcome() != Outcome::Done) {
                break;
            }
        }
        (self.tell)(Report::Idle { left_out: left });
    }

    /// What the statement does, if the guard asks for a yes to that and has not had one.
    fn needs_yes(&mut self, job: &Job, stop: &Stop) -> Option<Effect> {
        if job.confirmed || !self.asks_first.load(Ordering::SeqCst) {
            return None;
        }
        let sent = job.sent();
        let request = Request::new(&sent).with(&job.values).until(stop);
        let outcome = self.session.as_mut()?.0.effect(&request);
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

    fn run(&mut self, job: &Job, stop: &Stop) -> Option<Arc<Run>> {
        let (session, location) = self.session.as_mut()?;
        let (current, tell) = (Arc::clone(&self.current), Arc::clone(&self.tell));
        let tell: Tell = Arc::new(move |run: &Arc<Run>| {
            let running = run.end().is_none().then(|| Arc::clone(run));
            current.lock().unwrap_or_else(PoisonError::into_inner).run = running;
            tell(Report::Run(Arc::clone(run)));
        });
        let run = execute(session.as_mut(), (&self.profile, location), job, &self.keeping, None, (&tell, stop));
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
        let before = self.session.as_ref().and_then(|(_, location)| location.transaction);
        self.moved();
        let after = self.session.as_ref().and_then(|(_, location)| location.transaction);
        let gone = self.in_transaction.take(&run, (before, after), self.engine.dialect());
        self.keeping.roll_back(&gone);
        Some(run)
    }

    /// Takes in where the session is now, and tells if that is somewhere else.
    fn moved(&mut self) {
        let Some((session, location)) = &mut self.session else { return };
        let now = session.location();
        let told = Location { uncertain: location.uncertain, ..now.clone() };
        if told != *location {
            let elsewhere = (&now.database, &now.schema) != (&location.database, &location.schema);
            (self.reading, self.stale) = (self.reading.take().filter(|_| !elsewhere), self.stale || elsewhere);
            (self.tell)(Report::Moved(now.clone()));
        }
        *location = now;
    }
}

mod idle;
mod link;
mod others;
mod scripting;
mod sending;
#[cfg(test)]
mod tests;
