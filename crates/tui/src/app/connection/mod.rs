//! Where statements run: the connection in hand, its runs, and what its thread tells.

mod connecting;

use std::collections::{HashMap, HashSet, VecDeque};
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime};

use jaunty_core::catalog::templates;
use jaunty_core::logbook::Outcome;
use jaunty_core::run::connection_worker::ScriptOrder;
use jaunty_core::run::script::statement;
use jaunty_core::run::{ConnectionWorker, Job, Order, Report, Run, Ticket};
use jaunty_language::outline::StatementId;
use jaunty_language::split::Statement;
use jaunty_language::text::clean;
use jaunty_seam::catalog::{Catalog, ObjectKind};
use jaunty_seam::engine::{Location, SwitchKind};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Profile, Secret};

use super::overlay::RELOADING;
use super::{App, CatalogBrowser, Item, List, MessagesView, Overlay, Pick};
use jaunty_core::words;

/// How the connection stands.
#[derive(Debug, Clone, Default)]
pub enum Link {
    /// There is none.
    #[default]
    None,
    /// It is being made.
    Opening,
    /// It is there.
    Open,
    /// It could not be made.
    Failed(EngineError),
    /// It was there; the sentence says what became of it.
    Gone(&'static str),
}

/// A statement of more bytes takes a while to digest.
const LONG: usize = 64 << 10;

/// A connection: the one in hand, or one in the background.
pub struct Connection {
    /// Its profile.
    pub profile: Option<Profile>,
    /// How it stands.
    pub link: Link,
    /// Where the session is.
    pub location: Option<Location>,
    /// What can be switched there.
    pub switches: &'static [SwitchKind],
    /// What the database holds, as far as it is known.
    pub catalog: Option<Arc<Catalog>>,
    /// A person waits for it.
    wants_catalog: bool,
    /// Since when a transaction is open.
    pub transaction_since: Option<SystemTime>,
    worker: Option<ConnectionWorker>,
    /// The secret that a person gave, for another session.
    secret: Option<Secret>,
    /// Which session of its profile it is, from 1.
    pub session: u8,
    /// Tells the reports of one connection from those of others.
    pub(super) number: u64,
    runs: HashMap<StatementId, Arc<Run>>,
    /// The lengths of long statements that have runs, in bytes.
    long: HashSet<usize>,
    /// The statements that were last run together.
    together: Vec<StatementId>,
    /// The run that began last.
    newest: Option<Arc<Run>>,
    /// How many statements were asked for at once, and how many of them have begun.
    batch: Option<Batch>,
    /// The statements that wait, for each time that some were asked for.
    waiting: VecDeque<Waiting>,
    busy: bool,
    /// Since when statements are asked for of which none has begun.
    asked_for: Option<Instant>,
    /// Whether a person waits for what the server has: its catalog, its databases.
    asks: bool,
    /// What it told while it was in the background, and a person has to answer.
    unanswered: Option<Report>,
}

/// Statements that were asked for at once and have not all begun.
#[derive(Debug, Default)]
struct Waiting {
    ids: HashSet<StatementId>,
    /// What they are, where another session may be given them.
    jobs: Option<(Ticket, Vec<Job>)>,
}

/// Several statements that run one after the other.
#[derive(Debug)]
struct Batch {
    of: usize,
    begun: usize,
    /// The run that began last.
    last: Option<Arc<Run>>,
    since: Instant,
}

impl Connection {
    /// How far several statements have come that run one after the other, once they take a while.
    pub fn batch_words(&self) -> Option<String> {
        const AT_ONCE: Duration = Duration::from_millis(300);
        let batch = self.batch.as_ref().filter(|batch| self.busy && batch.since.elapsed() > AT_ONCE)?;
        let run = batch.last.as_ref()?;
        let title = clean::clean(run.title.as_deref().or_else(|| run.statement.lines().next()).unwrap_or_default());
        Some(format!("running {} of {} · {title}", words::number(batch.begun as u64), words::number(batch.of as u64)))
    }

    pub(super) fn none() -> Connection {
        Connection {
            profile: None,
            link: Link::None,
            location: None,
            switches: &[],
            catalog: None,
            wants_catalog: false,
            transaction_since: None,
            worker: None,
            secret: None,
            session: 1,
            number: 0,
            runs: HashMap::new(),
            long: HashSet::new(),
            together: Vec::new(),
            newest: None,
            batch: None,
            waiting: VecDeque::new(),
            busy: false,
            asked_for: None,
            asks: false,
            unanswered: None,
        }
    }

    /// Its name, for sentences.
    pub fn name(&self) -> &str {
        self.profile.as_ref().map_or("no connection", |profile| profile.name.as_str())
    }

    /// The last run of a statement.
    pub fn run_of(&self, id: StatementId) -> Option<&Arc<Run>> {
        self.runs.get(&id)
    }

    /// The statements that ran together with one, in order; none if it ran alone. Of thousands, those near
    /// it: nobody walks along more, and each key and frame asks for them.
    pub(super) fn ran_together(&self, id: StatementId) -> &[StatementId] {
        const NEAR: usize = 100;
        let Some(at) = self.together.iter().position(|other| *other == id) else { return &[] };
        let near = at.saturating_sub(NEAR)..(at + NEAR).min(self.together.len());
        self.together.get(near).unwrap_or_default()
    }

    /// Whether no statement of this length has a run, so that there is no need to digest a long one.
    fn has_none_of(&self, length: usize) -> bool {
        length > LONG && !self.long.contains(&length)
    }

    /// Whether there is a thread that would run something.
    pub(super) fn has_worker(&self) -> bool {
        self.worker.is_some()
    }

    /// Takes note of statements that are run together.
    pub(super) fn run_together(&mut self, ids: Vec<StatementId>) {
        self.together = ids;
    }

    /// The run that is on its way now.
    pub(super) fn running(&self) -> Option<&Arc<Run>> {
        // They run one after the other.
        self.newest.as_ref().filter(|run| run.outcome() == Outcome::Running)
    }

    /// The run that began last.
    pub(super) fn newest_run(&self) -> Option<&Arc<Run>> {
        self.newest.as_ref()
    }

    /// Runs statements, after what runs already.
    pub(super) fn begin(&mut self, jobs: Vec<Job>) {
        // First rows of the catalog view may still be on their way.
        self.end_preview();
        let of = jobs.len();
        self.batch = (of > 1).then(|| Batch { of, begun: 0, last: None, since: Instant::now() });
        let ids: HashSet<StatementId> = match self.together.len() == of {
            true => self.together.iter().copied().collect(),
            false => jobs.iter().map(|job| StatementId::of(&job.statement)).collect(),
        };
        let (order, jobs) = match self.busy {
            true => {
                let ticket = Ticket::default();
                (Order::RunUnless(ticket.clone(), jobs.clone()), Some((ticket, jobs)))
            }
            false => (Order::Run(jobs), None),
        };
        if self.ask(order) {
            self.asked_for.get_or_insert_with(Instant::now);
            self.busy = true;
            self.waiting.push_back(Waiting { ids, jobs });
        }
    }

    /// Runs a script.
    pub(super) fn begin_script(&mut self, order: Box<ScriptOrder>) {
        self.end_preview();
        let id = StatementId::of(&statement(&order.name, order.wanted));
        if self.ask(Order::Script(order)) {
            self.asked_for.get_or_insert_with(Instant::now);
            self.busy = true;
            self.waiting.push_back(Waiting { ids: HashSet::from([id]), jobs: None });
        }
    }

    /// Whether something runs or waits to.
    pub fn is_busy(&self) -> bool {
        self.busy
    }

    /// Whether a statement is looked at before it runs, and has been for a while: counting what it would change may
    /// take long.
    pub fn is_looked_at(&self) -> bool {
        const A_WHILE: Duration = Duration::from_millis(300);
        let open = matches!(self.link, Link::Open);
        open && self.busy && self.running().is_none() && self.asked_for.is_some_and(|since| since.elapsed() > A_WHILE)
    }

    /// Asks for something that a person waits for. False if there is nobody to be asked.
    pub(super) fn ask_for_person(&mut self, order: Order) -> bool {
        self.asks = self.ask(order);
        self.asks
    }

    /// Whether a person waits for what the server has.
    pub fn asks(&self) -> bool {
        self.asks
    }

    /// Whether anything waits for what runs.
    pub fn has_waiting(&self) -> bool {
        self.waiting.iter().any(|waiting| !waiting.ids.is_empty())
    }

    /// Whether a statement waits for another to end.
    pub fn is_waiting(&self, id: StatementId) -> bool {
        // Between two of several none runs for a moment.
        let behind = self.running().map_or(self.batch.is_some(), |run| run.id != id);
        self.busy && behind && self.waiting.iter().any(|waiting| waiting.ids.contains(&id))
    }

    /// Takes back what waits and has not begun, for another session. What was asked for inside a transaction belongs
    /// to it.
    fn take_waiting(&mut self) -> Vec<Vec<Job>> {
        if self.location.as_ref().is_some_and(Location::in_transaction) {
            return Vec::new();
        }
        let mut taken = Vec::new();
        self.waiting.retain_mut(|waiting| match waiting.jobs.take_if(|(ticket, _)| ticket.take_back()) {
            Some((_, jobs)) => {
                taken.push(jobs);
                false
            }
            None => true,
        });
        taken
    }

    /// What those that wait are waiting for, in words.
    pub fn awaited(&self) -> String {
        let title = self.running().map(|run| {
            let title = run.title.as_deref().or_else(|| run.statement.lines().next()).unwrap_or_default();
            clean::fit(&clean::clean(title), 40).text
        });
        format!("waits for {}", title.as_deref().unwrap_or("the statement that runs"))
    }

    /// Whether a statement is running now, and not only its end being noted down.
    pub fn is_running(&self) -> bool {
        self.busy && self.running().is_some()
    }

    /// Whether what runs only waits until more rows are wanted.
    pub fn is_held(&self) -> bool {
        self.busy && self.newest.as_ref().is_some_and(|run| run.is_held())
    }

    /// Stops what runs.
    pub fn stop(&self) {
        if let Some(worker) = self.worker.as_ref().filter(|_| self.busy || self.asks) {
            worker.stop();
        }
    }

    /// Ends the reading of first rows, which nobody waits for any more.
    pub(super) fn end_preview(&self) {
        if let Some(worker) = self.worker.as_ref().filter(|_| !self.busy) {
            worker.drain();
        }
    }

    /// Has it ask before what writes, from now on.
    pub(super) fn ask_first(&self) {
        self.worker.iter().for_each(ConnectionWorker::ask_first);
    }

    pub(super) fn ask(&self, order: Order) -> bool {
        match &self.worker {
            Some(worker) => {
                worker.ask(order);
                true
            }
            None => false,
        }
    }

    /// Shows the runs of another session of the same profile too.
    fn know_runs_of(&mut self, other: &Connection) {
        for run in other.runs.values() {
            self.know(Arc::clone(run));
        }
    }

    /// Takes note of a run, unless a later one of the statement is known.
    fn know(&mut self, run: Arc<Run>) {
        if self.runs.get(&run.id).is_some_and(|known| known.started > run.started) {
            return;
        }
        if run.statement.len() > LONG {
            self.long.insert(StatementId::essence(&run.statement).len());
        }
        self.runs.insert(run.id, run);
    }

    fn remember(&mut self, run: Arc<Run>) {
        if self.newest.as_ref().is_none_or(|newest| newest.started <= run.started) {
            self.newest = Some(Arc::clone(&run));
        }
        self.know(run);
    }

    /// Takes in where the session is.
    fn moved(&mut self, location: Location) {
        match (location.in_transaction(), self.transaction_since) {
            (true, None) => self.transaction_since = Some(SystemTime::now()),
            (false, _) => self.transaction_since = None,
            _ => {}
        }
        self.location = Some(location);
    }

    /// Takes in what is told, as far as it changes the connection itself.
    fn take_in(&mut self, report: &Report) {
        self.asks &= !matches!(
            report,
            Report::Catalog(_)
                | Report::NoCatalog(_)
                | Report::Choices(..)
                | Report::Lost { .. }
                | Report::NotConnected(_)
        );
        match report {
            Report::Connected(location, _, switches, _) => {
                self.link = Link::Open;
                self.switches = switches;
                self.moved(location.clone());
            }
            Report::NotConnected(error) | Report::WantsSecret(error) => {
                self.busy = false;
                self.location = None;
                self.transaction_since = None;
                self.link = Link::Failed(error.clone());
            }
            Report::Lost { .. } => {
                self.link = Link::Gone("the connection was lost; the next run reconnects");
                self.location = None;
                self.transaction_since = None;
            }
            Report::LetGo => {
                self.link = Link::Gone("closed after a time without use; the next run reconnects");
                self.location = None;
            }
            Report::Remembered(runs) => runs.iter().for_each(|run| self.remember(Arc::clone(run))),
            Report::Run(run) => {
                self.busy |= run.end().is_none();
                self.asked_for = None;
                if let Some(waiting) = self.waiting.front_mut() {
                    waiting.ids.remove(&run.id);
                }
                if let Some(batch) = &mut self.batch
                    && batch.last.as_ref().is_none_or(|last| !Arc::ptr_eq(last, run))
                {
                    batch.last = Some(Arc::clone(run));
                    batch.begun += 1;
                }
                self.remember(Arc::clone(run));
            }
            Report::Moved(location) => self.moved(location.clone()),
            Report::Idle { .. } => {
                self.waiting.pop_front();
                self.busy = !self.waiting.is_empty();
                self.asked_for = self.busy.then(Instant::now);
                self.batch = self.batch.take().filter(|_| self.busy);
            }
            // One that was kept on disk may come after one that was just read.
            Report::Catalog(catalog) if self.catalog.as_ref().is_none_or(|known| known.read_ms <= catalog.read_ms) => {
                self.catalog = Some(Arc::clone(catalog));
            }
            Report::Catalog(_) | Report::NoCatalog(_) | Report::Definition(..) => {}
            Report::Sample(..) | Report::Checked(..) | Report::Sending(..) | Report::ScriptRefused(_) => {}
            Report::Question(_) | Report::NotMoved(_) | Report::Asks(..) | Report::Joined(_) | Report::Choices(..) => {}
        }
    }
}

impl App {
    /// The last run of a statement of the buffer.
    pub fn run_of(&self, statement: &Statement) -> Option<&Arc<Run>> {
        let length = statement.body_end - statement.start;
        // Where something else than a semicolon ends it, it may end in one, which does not count.
        let whole = self.buffer.document.rope().byte(statement.body_end - 1) != b';';
        if whole && self.connection.has_none_of(length) {
            return None;
        }
        self.connection.run_of(self.buffer.id_of(statement))
    }

    pub(super) fn report(&mut self, number: u64, report: Report) {
        if let Report::Run(run) = &report
            && run.end().is_some()
        {
            self.send_out(run);
            self.show_plan_of(run);
            self.mark_failed(run);
        }
        if number != self.connection.number {
            if let Some(background) = self.background.iter_mut().find(|connection| connection.number == number) {
                background.take_in(&report);
                // What runs on the other session of a profile is in sight from this one.
                if let Report::Run(run) = &report
                    && background.profile == self.connection.profile
                {
                    self.connection.know(Arc::clone(run));
                }
                if matches!(report, Report::Asks(..) | Report::WantsSecret(_) | Report::Question(_)) {
                    background.unanswered = Some(report);
                }
            }
            return;
        }
        let again = matches!(self.connection.link, Link::Open | Link::Failed(_) | Link::Gone(_));
        let several = self.connection.batch.is_some();
        self.connection.take_in(&report);
        match report {
            Report::Connected(..) if again => self.tell("reconnected"),
            Report::WantsSecret(error) => self.ask_for_secret(&error),
            Report::Question(question) => self.ask_while_connecting(&question),
            Report::Lost { transaction: true } => {
                self.tell_wrong("the connection was lost; the server rolled the open transaction back")
            }
            Report::Lost { transaction: false } => self.tell_wrong("the connection was lost; the next run reconnects"),
            Report::LetGo => self.tell("the connection was closed after a time without use; the next run reconnects"),
            Report::Run(run) => {
                self.show_aside(&run);
                if let Some(view) = self.overlaid::<MessagesView>() {
                    view.renew();
                }
                if let Some(said) = words::said(&run).filter(|_| run.end().is_some()) {
                    self.tell(said);
                }
            }
            Report::NotMoved(error) => {
                let remedy = error.remedy.as_deref().map(|remedy| format!(" · {remedy}")).unwrap_or_default();
                self.tell_wrong(format!("{error}{remedy}"));
            }
            Report::Asks(jobs, why) => self.ask_first(jobs, why),
            Report::Joined(text) => self.buffer.document.join(&text),
            Report::Catalog(_) => {
                self.renew_offer();
                self.catalog_has_come();
            }
            Report::NoCatalog(error) => self.no_catalog(&error),
            Report::Definition(object, definition) => self.defined(&object, definition),
            Report::Sending(slip, sending) => self.take_sending(&slip, sending),
            Report::Sample(name, Ok(sample)) if self.take_looked_up(&name, &sample) => {}
            Report::Sample(name, sample) => self.previewed(name, sample),
            Report::Checked(id, error) => self.checked(id, error),
            Report::Choices(kind, choices) => self.list_choices(kind, choices),
            Report::ScriptRefused(why) => self.tell_wrong(clean::clean(&why).into_owned()),
            Report::Idle { left_out } => self.after_runs(left_out, several),
            Report::Connected(..) | Report::NotConnected(_) | Report::Remembered(_) | Report::Moved(_) => {}
        }
    }

    /// Lists what the database holds.
    pub fn list_objects(&mut self) {
        match self.connection.catalog.clone() {
            Some(catalog) => self.list_found_objects(&catalog),
            None if self.connection.ask_for_person(Order::Catalog) => {
                self.connection.wants_catalog = true;
                self.tell("reading the catalog");
            }
            None => self.list_connections(),
        }
    }

    fn catalog_has_come(&mut self) {
        let wanted = std::mem::take(&mut self.connection.wants_catalog);
        let catalog = self.connection.catalog.clone();
        let told = self.status.as_ref().is_some_and(|told| told.text.starts_with(RELOADING));
        match (self.overlaid::<CatalogBrowser>(), catalog) {
            (Some(walk), Some(catalog)) => {
                let objects = catalog.objects().len() as u64;
                walk.renew(catalog);
                if told {
                    self.tell(format!("the catalog was read again: {}", words::count(objects, "object")));
                }
            }
            _ if wanted => self.walk_catalog(),
            _ => {}
        }
    }

    fn no_catalog(&mut self, error: &EngineError) {
        if error.kind == ErrorKind::Stopped {
            self.connection.wants_catalog = false;
            self.tell("reading the catalog was cancelled");
        } else if std::mem::take(&mut self.connection.wants_catalog) {
            self.tell_wrong(format!("the tables cannot be listed: {error}"));
        }
    }

    fn list_found_objects(&mut self, catalog: &Catalog) {
        let dialect = self.buffer.document.outline().dialect();
        let shown = catalog.objects().iter().filter(|o| o.kind.has_rows() || o.kind == ObjectKind::Keys);
        let items = shown.map(|object| Item {
            label: clean::clean(&templates::name(object, catalog, dialect)).into_owned(),
            key: object.kind_word().to_owned(),
            help: object.columns.iter().map(|c| clean::clean(&c.name).into_owned()).collect::<Vec<_>>().join(", "),
            pick: Pick::Object { schema: object.schema.clone(), name: object.name.clone() },
        });
        let items: Vec<_> = items.collect();
        if items.is_empty() {
            return self.tell("the database has no tables or views");
        }
        self.overlay = Some(Overlay::List(List::new("tables", items)));
    }
}
