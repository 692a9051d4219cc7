//! A connection of the interface, and how its thread is waited for.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use jaunty_core::run::connection_worker::Why;
use jaunty_core::run::{ConnectionWorker, Job, Keeping, Order, Report, Run};
use jaunty_core::words;
use jaunty_seam::catalog::{Catalog, Object};
use jaunty_seam::engine::{Engine, Prompt, Question};
use jaunty_seam::error::EngineError;
use jaunty_seam::profile::Profile;
use serde_json::json;

use super::given::failed;
use crate::socket::Tell;
use crate::wire::Refusal;

/// How long a catalog that nobody has read yet is waited for.
const CATALOG: Duration = Duration::from_secs(60);

/// How long another database's is: it is not read while a transaction is open.
const ANOTHER: Duration = Duration::from_secs(5);

/// A connection of this interface.
pub(super) struct Session {
    pub(super) engine: &'static dyn Engine,
    pub(super) profile: Profile,
    pub(super) worker: ConnectionWorker,
    prompt: Arc<dyn Prompt>,
    /// Nothing is known yet of the first connection.
    opening: Arc<AtomicBool>,
    /// What it tells; whoever runs something holds it.
    reports: Mutex<Receiver<Report>>,
    catalog: Arc<Mutex<Option<Arc<Catalog>>>>,
}

pub(super) fn lock<T>(of: &Mutex<T>) -> MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

/// What a connection's thread tells goes on; its catalog is kept, and that the first connection was made or was not.
fn teller(
    send: Sender<Report>,
    catalog: Arc<Mutex<Option<Arc<Catalog>>>>,
    opening: Arc<AtomicBool>,
) -> impl Fn(Report) + Send + Sync {
    move |report| {
        if matches!(report, Report::Connected(..) | Report::NotConnected(_)) {
            opening.store(false, Ordering::Release);
        }
        if let Report::Catalog(read) = &report {
            let mut known = lock(&catalog);
            if known.as_ref().is_none_or(|known| known.read_ms <= read.read_ms) {
                *known = Some(Arc::clone(read));
            }
        }
        let _ = send.send(report);
    }
}

impl Session {
    /// Begins to connect; what only a person knows is asked for by `prompt`.
    pub(super) fn open(
        engine: &'static dyn Engine,
        profile: Profile,
        keeping: Keeping,
        prompt: Arc<dyn Prompt>,
    ) -> Result<Session, Refusal> {
        let (send, reports) = channel();
        let catalog: Arc<Mutex<Option<Arc<Catalog>>>> = Arc::default();
        let opening = Arc::new(AtomicBool::new(true));
        let told = teller(send, Arc::clone(&catalog), Arc::clone(&opening));
        let worker = ConnectionWorker::open(engine, profile.clone(), None, keeping, told).map_err(failed)?;
        Ok(Session { engine, profile, worker, prompt, opening, reports: Mutex::new(reports), catalog })
    }

    /// Waits for the first connection. Whoever is to be asked for a secret is asked once: not for this, and again for what
    /// is wanted of it.
    fn opened(&self, reports: &Receiver<Report>) -> Result<(), Refusal> {
        while self.opening.load(Ordering::Acquire) {
            match reports.recv() {
                Ok(Report::WantsSecret(error)) => self.asked_for_secret(&error)?,
                Ok(Report::Question(question)) => self.asked(&question)?,
                Ok(Report::NotConnected(error)) => return Err(refused(&error)),
                Ok(_) => {}
                Err(_) => break,
            }
        }
        Ok(())
    }

    /// Has a person asked for the secret that is missing; the connection's thread goes on with what waited for it.
    fn asked_for_secret(&self, error: &EngineError) -> Result<(), Refusal> {
        let text = format!("{error} · password for {}", self.profile.name);
        let Some(secret) = self.prompt.ask(&Question { text, page: None, visible: false }) else {
            self.opening.store(false, Ordering::Release);
            return Err(refused(error));
        };
        self.worker.ask(Order::Secret(secret));
        Ok(())
    }

    /// Has a person asked what the server wants to know.
    fn asked(&self, question: &Question) -> Result<(), Refusal> {
        let answer = self.prompt.ask(question);
        let is_answered = answer.is_some();
        self.worker.answer(answer);
        let unanswered = || Refusal::failed(format!("{} asks \"{}\"", self.profile.name, question.text));
        if is_answered { Ok(()) } else { Err(unanswered()) }
    }

    /// What the database holds; waits for it where nobody has read it yet.
    pub(super) fn catalog(&self, again: bool) -> Result<Arc<Catalog>, Refusal> {
        if let Some(known) = lock(&self.catalog).as_ref().filter(|_| !again) {
            return Ok(Arc::clone(known));
        }
        let reports = lock(&self.reports);
        // The one of the last time, which is there first, is not it.
        let asked = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_millis() as u64;
        // A connection that has just been made reads it by itself.
        let is_new = self.opening.load(Ordering::Acquire);
        if again {
            self.opened(&reports)?;
        }
        if again && !is_new {
            while reports.try_recv().is_ok() {}
            self.worker.ask(Order::Catalog);
        }
        loop {
            if let Some(known) = lock(&self.catalog).as_ref().filter(|known| !again || known.read_ms >= asked) {
                return Ok(Arc::clone(known));
            }
            match reports.recv_timeout(CATALOG) {
                Ok(Report::NotConnected(error) | Report::NoCatalog(error)) => return Err(refused(&error)),
                Ok(Report::WantsSecret(error)) => self.asked_for_secret(&error)?,
                Ok(Report::Question(question)) => self.asked(&question)?,
                Ok(_) => {}
                Err(_) => return Err(Refusal::failed("the catalog was not read in time")),
            }
        }
    }

    /// What the database holds, with that of others of the server; a while later without them.
    pub(super) fn catalog_with(&self, others: &[String]) -> Result<Arc<Catalog>, Refusal> {
        others.iter().for_each(|name| self.worker.ask(Order::Database(name.clone())));
        let (since, reports) = (Instant::now(), lock(&self.reports));
        loop {
            let known = lock(&self.catalog).as_ref().map(Arc::clone);
            if let Some(known) = known.filter(|known| others.iter().all(|name| known.others.contains_key(name))) {
                return Ok(known);
            }
            if reports.recv_timeout(ANOTHER.saturating_sub(since.elapsed())).is_err() {
                drop(reports);
                return self.catalog(false);
            }
        }
    }

    /// The statement that makes an object, by the server's own word; none where it gives none, or not in time.
    pub(super) fn definition(&self, object: &Object) -> Option<String> {
        let (since, reports) = (Instant::now(), lock(&self.reports));
        while reports.try_recv().is_ok() {}
        self.worker.ask(Order::Definition(Box::new(object.clone())));
        while let Ok(report) = reports.recv_timeout(ANOTHER.saturating_sub(since.elapsed())) {
            match report {
                Report::Definition(of, told) if of.to_name() == object.to_name() => return told.ok().flatten(),
                Report::NotConnected(_) | Report::WantsSecret(_) => return None,
                _ => {}
            }
        }
        None
    }

    /// Runs a statement and waits for its end.
    pub(super) fn run(&self, job: Job, tell: &Tell) -> Result<Arc<Run>, Refusal> {
        let reports = lock(&self.reports);
        self.opened(&reports)?;
        // What was told before belongs to nobody any more.
        while reports.try_recv().is_ok() {}
        self.worker.ask(Order::Run(vec![job]));
        let mut run: Option<Arc<Run>> = None;
        let mut asked = None;
        loop {
            match reports.recv() {
                Ok(Report::Run(told)) => {
                    let rows = told.rows();
                    let note = words::note(&told, SystemTime::now());
                    let params = json!({"run": told.number, "rows": rows, "note": note});
                    // Nobody is there any more to be given the rows.
                    if !tell(json!({"jsonrpc": "2.0", "method": "run.progress", "params": params})) {
                        self.worker.stop();
                    }
                    // Nobody looks at rows as they come: all of them are wanted.
                    if told.is_held() {
                        told.fetch_rest();
                    }
                    run = Some(told);
                }
                Ok(Report::Asks(_, why)) => asked = Some(why),
                Ok(Report::Idle { .. }) => break,
                Ok(Report::NotConnected(error)) => return Err(refused(&error)),
                Ok(Report::WantsSecret(error)) => self.asked_for_secret(&error)?,
                Ok(Report::Question(question)) => self.asked(&question)?,
                Ok(_) => {}
                Err(_) => return Err(Refusal::failed("the connection's thread has ended")),
            }
        }
        match (run, asked) {
            (Some(run), _) => Ok(run),
            (None, Some(Why::Writes(effect))) => {
                let (name, asks) = (&self.profile.name, words::asks(self.profile.guard));
                let effect = words::effect(effect).join(" ");
                Err(Refusal::failed(format!("{name} {asks}; confirmed: true runs it. {effect}").trim_end().to_owned()))
            }
            (None, Some(Why::TransactionLost)) => Err(Refusal::failed(
                "the connection was lost with a transaction open, which was rolled back; run it again if it was not part of that",
            )),
            (None, Some(Why::TwoReadings(_))) => {
                Err(Refusal::failed("this may be one statement or two; put a semicolon where the first ends"))
            }
            (None, Some(Why::MayBePart)) => {
                Err(Refusal::failed(format!("{}; confirmed: true runs it", words::MAY_BE_PART)))
            }
            (None, None) => Err(Refusal::failed("stopped before it began")),
        }
    }
}

pub(super) fn refused(error: &EngineError) -> Refusal {
    Refusal::failed(format!("{}{}", error.step_words(), error.explain("", 1)))
}
