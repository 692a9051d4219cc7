//! Where statements run: the connection in hand, its runs, and what its thread tells.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::SystemTime;

use jaunty_core::catalog::{Catalog, ObjectKind, templates};
use jaunty_core::connection::{Profile, Secret};
use jaunty_core::engine::{EngineError, Place};
use jaunty_core::logbook::Outcome;
use jaunty_core::run::desk::{Why, jobs};
use jaunty_core::run::out_line::out_lines;
use jaunty_core::run::{Desk, Job, Order, Report, Run};
use jaunty_core::text::clean;
use jaunty_core::text::document::Motion;
use jaunty_core::text::outline::StatementId;
use jaunty_core::text::split::Statement;

use super::summoned::{Asked, Item};
use super::{Answered, App, List, Message, Pick, Prompt, Question, Summoned};
use crate::words;

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

/// A connection: the one in hand, or one that is parked.
pub struct Connection {
    /// Its profile.
    pub profile: Option<Profile>,
    /// How it stands.
    pub link: Link,
    /// Where the session is.
    pub place: Option<Place>,
    /// What the database holds, as far as it is known.
    pub catalog: Option<Arc<Catalog>>,
    /// A person waits for it.
    wants_catalog: bool,
    /// Since when a transaction is open.
    pub transaction_since: Option<SystemTime>,
    desk: Option<Desk>,
    /// Tells the reports of one connection from those of others.
    number: u64,
    runs: HashMap<StatementId, Arc<Run>>,
    /// The lengths of long statements that have runs, in bytes.
    long: HashSet<usize>,
    /// The statements that were last run together.
    together: Vec<StatementId>,
    busy: bool,
    /// What it told while it was parked, and a person has to answer.
    unanswered: Option<Report>,
}

impl Connection {
    pub(super) fn none() -> Connection {
        Connection {
            profile: None,
            link: Link::None,
            place: None,
            catalog: None,
            wants_catalog: false,
            transaction_since: None,
            desk: None,
            number: 0,
            runs: HashMap::new(),
            long: HashSet::new(),
            together: Vec::new(),
            busy: false,
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
    pub(super) fn has_desk(&self) -> bool {
        self.desk.is_some()
    }

    /// Whether something runs or waits to.
    pub fn is_busy(&self) -> bool {
        self.busy
    }

    /// Whether a statement is running now, and not only its end being noted down.
    pub fn is_running(&self) -> bool {
        self.busy && self.runs.values().any(|run| run.outcome() == Outcome::Running)
    }

    /// Whether what runs only waits until more rows are wanted.
    pub fn is_held(&self) -> bool {
        self.busy && self.runs.values().any(|run| run.is_held())
    }

    /// Stops what runs.
    pub fn stop(&self) {
        if let Some(desk) = self.desk.as_ref().filter(|_| self.busy) {
            desk.stop();
        }
    }

    /// Ends the reading of first rows, which nobody waits for any more.
    pub(super) fn end_tasting(&self) {
        if let Some(desk) = self.desk.as_ref().filter(|_| !self.busy) {
            desk.stop();
        }
    }

    pub(super) fn ask(&self, order: Order) -> bool {
        match &self.desk {
            Some(desk) => {
                desk.ask(order);
                true
            }
            None => false,
        }
    }

    fn remember(&mut self, run: Arc<Run>) {
        if run.statement.len() > LONG {
            self.long.insert(StatementId::essence(&run.statement).len());
        }
        self.runs.insert(run.id, run);
    }

    /// Takes in where the session is.
    fn moved(&mut self, place: Place) {
        match (place.in_transaction(), self.transaction_since) {
            (true, None) => self.transaction_since = Some(SystemTime::now()),
            (false, _) => self.transaction_since = None,
            _ => {}
        }
        self.place = Some(place);
    }

    /// Takes in what is told, as far as it changes the connection itself.
    fn take_in(&mut self, report: &Report) {
        match report {
            Report::Connected(place, ..) => {
                self.link = Link::Open;
                self.moved(place.clone());
            }
            Report::NotConnected(error) | Report::WantsSecret(error) => {
                self.busy = false;
                self.place = None;
                self.transaction_since = None;
                self.link = Link::Failed(error.clone());
            }
            Report::Lost { .. } => {
                self.link = Link::Gone("the connection was lost; the next run connects again");
                self.place = None;
                self.transaction_since = None;
            }
            Report::LetGo => {
                self.link = Link::Gone("let go, since it was not used; the next run connects again");
                self.place = None;
            }
            Report::Remembered(runs) => runs.iter().for_each(|run| self.remember(Arc::clone(run))),
            Report::Run(run) => {
                self.busy |= run.end().is_none();
                self.remember(Arc::clone(run));
            }
            Report::Moved(place) => self.moved(place.clone()),
            Report::Idle { .. } => self.busy = false,
            // One that was kept on disk may come after one that was just read.
            Report::Catalog(catalog) if self.catalog.as_ref().is_none_or(|known| known.read_ms <= catalog.read_ms) => {
                self.catalog = Some(Arc::clone(catalog));
            }
            Report::Catalog(_) | Report::NoCatalog(_) | Report::Definition(..) => {}
            Report::Sample(..) | Report::Checked(..) => {}
            Report::NotMoved(_) | Report::Asks(..) | Report::Choices(..) => {}
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

    /// Runs the buffer in hand on this connection from now on. One that is open already is taken
    /// up again; the one in hand stays open.
    pub fn connect(&mut self, profile: Profile) {
        self.connect_with(profile, None);
    }

    /// [`App::connect`], with a secret that a person gave.
    pub(super) fn connect_with(&mut self, profile: Profile, secret: Option<Secret>) {
        let Some(engine) = self.engines.iter().copied().find(|engine| engine.name() == profile.engine) else {
            return self.tell_wrong(format!("there is no engine {}", profile.engine));
        };
        self.buffer.connection = Some(profile.name.clone());
        self.buffer.document.set_dialect(engine.dialect());
        let same = |connection: &Connection| connection.profile.as_ref() == Some(&profile);
        if same(&self.connection) && !matches!(self.connection.link, Link::Failed(_)) {
            return;
        }
        let open = self.parked.iter().position(same).filter(|_| secret.is_none());
        let next = match open {
            Some(at) => self.parked.remove(at),
            None => {
                self.connections += 1;
                let (number, post) = (self.connections, Arc::clone(&self.post));
                let tell = move |report| post(Message::Report(number, report));
                match Desk::open(engine, profile.clone(), secret, self.keeping.clone(), tell) {
                    Ok(desk) => Connection {
                        profile: Some(profile),
                        link: Link::Opening,
                        desk: Some(desk),
                        number,
                        ..Connection::none()
                    },
                    Err(error) => return self.tell_wrong(format!("no thread for the connection: {error}")),
                }
            }
        };
        let before = std::mem::replace(&mut self.connection, next);
        if before.busy || matches!(before.link, Link::Open | Link::Gone(_)) {
            self.parked.push(before);
        }
        self.rows.forget();
        let warning = self.connection.profile.as_ref().and_then(Profile::plain_password_warning);
        if let Some(warning) = warning.filter(|warning| self.warned.insert(warning.clone())) {
            self.tell_wrong(warning);
        }
        if let Some(report) = self.connection.unanswered.take() {
            self.report(self.connection.number, report);
        }
    }

    /// Connects the buffer in hand as its statements ran last. False if that is not known.
    pub(super) fn connect_as_last_time(&mut self) -> bool {
        let named = self.buffer.connection.clone().or_else(|| {
            let last = self.keeping.logbook().map(|logbook| logbook.last_connection(&self.buffer.path));
            last.and_then(Result::ok).flatten()
        });
        let profile = named.and_then(|name| self.known.find(&name).cloned());
        profile.map(|profile| self.connect(profile)).is_some()
    }

    /// Waits no longer for a connection that is being made.
    pub(super) fn give_connecting_up(&mut self) {
        self.connection.desk = None;
        self.connection.number = 0;
        self.connection.link = Link::None;
        self.tell("gave connecting up; choose the connection again to try once more");
    }

    /// Ends the connection in hand.
    pub fn let_go(&mut self) {
        if self.connection.place.as_ref().is_some_and(|place| place.in_transaction()) {
            return self.tell_wrong("a transaction is open; commit it or roll it back first");
        }
        if self.connection.desk.is_none() {
            return self.tell("there is no connection");
        }
        let name = self.connection.name().to_owned();
        self.connection.stop();
        self.connection = Connection::none();
        self.buffer.connection = None;
        self.rows.forget();
        self.tell(format!("{name} is closed"));
    }

    /// Runs the statement at the cursor, or those that are selected.
    pub fn run_statement(&mut self) {
        let document = &self.buffer.document;
        let range = match document.selection() {
            Some(selection) => {
                let within = document.outline().within(selection.clone());
                // A part of one statement is run as it is selected.
                if within.len() == 1 {
                    return self.run_selected(selection);
                }
                within
            }
            None => document.current().map_or(0..0, |at| at..at + 1),
        };
        self.run_range(range);
    }

    fn run_selected(&mut self, selection: std::ops::Range<usize>) {
        let document = &self.buffer.document;
        let text = document.rope().byte_slice(selection).to_string();
        let statement = text.trim().trim_end_matches(';').trim_end().to_owned();
        let whole = document.statement();
        let title = whole.and_then(|s| s.title_text(document.rope(), document.outline().dialect()));
        if statement.is_empty() {
            return self.tell("there is no statement in the selection");
        }
        self.ask_for_values(vec![Job { statement, title, buffer: Some(self.buffer.path.clone()), ..Job::default() }]);
    }

    /// Runs every statement of the buffer.
    pub fn run_all(&mut self) {
        self.run_range(0..self.buffer.document.outline().statements().len());
    }

    fn run_range(&mut self, range: std::ops::Range<usize>) {
        let statements = self.buffer.document.outline().statements().get(range.clone()).unwrap_or_default();
        if statements.is_empty() {
            return self.tell("there is no statement here");
        }
        if let Some(open) = statements.iter().find(|s| !s.closed) {
            let line = self.buffer.document.rope().byte_to_line(open.start) + 1;
            return self.tell_wrong(format!(
                "the statement at line {line} has a quote or comment that never closes; close it and run it again"
            ));
        }
        let (rope, dialect) = (self.buffer.document.rope(), self.buffer.document.outline().dialect());
        let wrong = statements.iter().flat_map(|s| out_lines(s, rope, dialect)).find_map(|line| line.target.err());
        if let Some(error) = wrong {
            let line = rope.byte_to_line(error.range.start) + 1;
            self.go(Motion::To(error.range.start), false);
            return self.tell_wrong(format!("line {line}: {}; nothing was run", error.message));
        }
        if let [_, _, ..] = statements {
            self.connection.together = statements.iter().map(|s| self.buffer.id_of(s)).collect();
        }
        let jobs = jobs(&self.buffer.document, range, Some(&self.buffer.path));
        self.ask_for_values(jobs);
    }

    pub(super) fn order(&mut self, jobs: Vec<Job>) {
        match &self.connection.desk {
            Some(desk) => {
                if let Some(run) = self.connection.runs.values().find(|run| run.outcome() == Outcome::Running) {
                    // One that waits for readers makes room for one that does not.
                    if run.is_held() {
                        run.stop();
                    }
                    let after = run.title.clone().unwrap_or_else(|| "the statement that runs".into());
                    self.told = None;
                    desk.ask(Order::Run(jobs));
                    return self.tell(format!("runs after {after}"));
                }
                // First rows of the catalog view may still be on their way.
                self.connection.end_tasting();
                self.connection.busy = true;
                self.told = None;
                desk.ask(Order::Run(jobs));
            }
            None => self.list_connections(),
        }
    }

    pub(super) fn report(&mut self, number: u64, report: Report) {
        if let Report::Run(run) = &report
            && run.end().is_some()
        {
            self.send_out(run);
        }
        if number != self.connection.number {
            if let Some(parked) = self.parked.iter_mut().find(|connection| connection.number == number) {
                parked.take_in(&report);
                if matches!(report, Report::Asks(..) | Report::WantsSecret(_)) {
                    parked.unanswered = Some(report);
                }
            }
            return;
        }
        let again = matches!(self.connection.link, Link::Open | Link::Failed(_) | Link::Gone(_));
        self.connection.take_in(&report);
        match report {
            Report::Connected(..) if again => self.tell("connected again"),
            Report::WantsSecret(error) => self.ask_for_secret(&error),
            Report::Lost { transaction: true } => self.tell_wrong(
                "the connection was lost, and the open transaction with it: nothing of it was kept by the server",
            ),
            Report::Lost { transaction: false } => {
                self.tell_wrong("the connection was lost; the next run connects again")
            }
            Report::LetGo => self.tell("the connection was let go, since it was not used; the next run connects again"),
            Report::Run(run) => {
                for notice in run.notices().iter().filter(|_| run.end().is_some()) {
                    self.tell(format!("{}: {}", notice.severity, clean::clean(&notice.text)));
                }
            }
            Report::NotMoved(error) => {
                let remedy = error.remedy.as_deref().map(|remedy| format!(" · {remedy}")).unwrap_or_default();
                self.tell_wrong(format!("{error}{remedy}"));
            }
            Report::Asks(jobs, why) => self.ask_first(jobs, why),
            Report::Catalog(_) => {
                self.renew_offer();
                self.catalog_has_come();
            }
            Report::NoCatalog(error) => self.no_catalog(&error),
            Report::Definition(object, definition) => self.defined(&object, definition),
            Report::Sample(name, sample) => self.tasted(name, sample),
            Report::Checked(id, error) => self.checked(id, error),
            Report::Choices(kind, choices) => self.list_choices(kind, choices),
            Report::Idle { left_out } => self.after_runs(left_out),
            Report::Connected(..) | Report::NotConnected(_) | Report::Remembered(_) | Report::Moved(_) => {}
        }
    }

    fn ask_for_secret(&mut self, error: &EngineError) {
        let title = format!("{} · password for {}", clean::clean(&error.message), self.connection.name());
        self.summoned = Some(Summoned::Prompt(Prompt::hidden(title, Asked::Secret)));
    }

    pub(super) fn give_secret(&mut self, text: String) {
        self.connection.link = Link::Opening;
        self.connection.ask(Order::Secret(Secret::new(text)));
    }

    /// After several statements: says where it ended if it did not get to the end.
    fn after_runs(&mut self, left_out: usize) {
        if left_out == 0 {
            return;
        }
        let newest = self.connection.runs.values().max_by_key(|run| run.started);
        let Some(run) = newest.filter(|run| run.outcome() != Outcome::Done).cloned() else { return };
        let document = &self.buffer.document;
        let at = document.outline().statements().iter().find(|s| StatementId::of(&s.text(document.rope())) == run.id);
        let line = at.map(|s| (s.start, document.rope().byte_to_line(s.start) + 1));
        if let Some((start, line)) = line {
            self.go(Motion::To(start), false);
            let left = words::count(left_out as u64, "statement");
            self.tell_wrong(format!("{} at line {line}; {left} after it not run", run.outcome().word()));
        }
    }

    fn ask_first(&mut self, jobs: Vec<Job>, why: Why) {
        let Some(job) = jobs.first() else { return };
        let name = self.connection.name();
        let (text, mut about) = match why {
            Why::TransactionLost => (
                format!("The connection of {name} was lost with a transaction open: nothing of it was kept."),
                vec!["What runs now runs on a new connection, outside that transaction.".to_owned()],
            ),
            Why::Writes(effect) => (format!("{name} asks before anything that writes"), words::effect(effect)),
        };
        about.extend(job.statement.lines().take(4).map(|line| format!("  {}", clean::clean(line))));
        if job.statement.lines().count() > 4 {
            about.push("  …".to_owned());
        }
        let answers = &[('y', "yes, run it", Answered::Run), ('n', "no", Answered::Nothing)];
        self.summoned = Some(Summoned::Question(Question { jobs, about, ..Question::new(text, answers) }));
    }

    /// Lists what the database holds.
    pub fn list_objects(&mut self) {
        match self.connection.catalog.clone() {
            Some(catalog) => self.list_found_objects(&catalog),
            None if self.connection.ask(Order::Catalog) => {
                self.connection.wants_catalog = true;
                self.tell("reading the catalog");
            }
            None => self.list_connections(),
        }
    }

    fn catalog_has_come(&mut self) {
        if std::mem::take(&mut self.connection.wants_catalog) {
            self.walk_catalog();
        }
    }

    fn no_catalog(&mut self, error: &EngineError) {
        if std::mem::take(&mut self.connection.wants_catalog) {
            self.tell_wrong(format!("the tables cannot be listed: {error}"));
        }
    }

    fn list_found_objects(&mut self, catalog: &Catalog) {
        let dialect = self.buffer.document.outline().dialect();
        let shown = catalog.objects().iter().filter(|o| o.kind.has_rows() || o.kind == ObjectKind::Keys);
        let items = shown.map(|object| Item {
            label: clean::clean(&templates::name(object, catalog, dialect)).into_owned(),
            key: object.kind.word().to_owned(),
            help: object.columns.iter().map(|c| clean::clean(&c.name).into_owned()).collect::<Vec<_>>().join(", "),
            pick: Pick::Object { schema: object.schema.clone(), name: object.name.clone() },
        });
        let items: Vec<_> = items.collect();
        if items.is_empty() {
            return self.tell("the database holds nothing with rows");
        }
        self.summoned = Some(Summoned::List(List::new("tables", items)));
    }

    /// Puts a statement that shows an object's rows at the end of the buffer, and runs it. One that
    /// stands there already is used again.
    pub(super) fn look_at_object(&mut self, schema: &str, name: &str) {
        let profile = self.connection.profile.as_ref();
        let engine = profile.and_then(|p| self.engines.iter().find(|engine| engine.name() == p.engine));
        let Some(engine) = engine else { return };
        let here = self.connection.place.as_ref().map_or("", |place| place.schema.as_str());
        let statement = engine.look_at(schema, name, here);
        self.put_and_run(&statement);
    }

    /// Puts a statement at the end of the buffer, and runs it. One that stands there already is used
    /// again.
    pub(super) fn put_and_run(&mut self, statement: &str) {
        self.put_statement(statement);
        self.run_statement();
    }

    /// Puts a statement at the end of the buffer, or goes to it where it stands already.
    pub(super) fn put_statement(&mut self, statement: &str) {
        let end = if self.buffer.document.outline().dialect().lines { "" } else { ";" };
        let id = StatementId::of(statement);
        let document = &mut self.buffer.document;
        let there = document.outline().statements().iter().find(|s| StatementId::of(&s.text(document.rope())) == id);
        match there.map(|s| s.start) {
            Some(start) => document.go(Motion::To(start), false),
            None => {
                self.begin_statement_at_end();
                let document = &mut self.buffer.document;
                document.insert(&format!("{statement}{end}\n"));
                document.go(Motion::PreviousStatement, false);
            }
        }
    }
}
