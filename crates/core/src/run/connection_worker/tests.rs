use std::collections::VecDeque;
use std::sync::atomic::AtomicUsize;
use std::time::Duration;

use super::*;
use crate::archive::Retention;
use crate::files::Folders;
use jaunty_language::dialect::{Dialect, SQLITE};
use jaunty_seam::engine::{Attempt, CatalogPart, Event, Flow, Key, Reading, Sink};
use jaunty_seam::error::Step;
use jaunty_seam::profile::Guard;

/// An engine whose sessions do what the statement says. Connecting fails as often as `refusals` says.
struct Pier {
    refusals: Mutex<VecDeque<&'static str>>,
}

impl Engine for Pier {
    fn name(&self) -> &'static str {
        "pier"
    }
    fn dialect(&self) -> &'static Dialect {
        &SQLITE
    }
    fn keys(&self) -> &'static [Key] {
        &[]
    }
    fn connect(&self, _: &Attempt<'_>) -> Result<Box<dyn Session>, EngineError> {
        match self.refusals.lock().unwrap().pop_front() {
            Some(reason) => Err(match reason.strip_prefix("secret: ") {
                Some(reason) => EngineError::connecting(Step::Secret, reason),
                None => EngineError::new(ErrorKind::Connect, reason),
            }),
            None => Ok(Box::new(Moored { transaction: false, stands: true, schema: "", wandered: false })),
        }
    }
}

struct Moored {
    transaction: bool,
    stands: bool,
    schema: &'static str,
    /// Something led elsewhere, which only asking tells.
    wandered: bool,
}

/// How often a session was asked where it is. One test is about it.
static LOCATED: AtomicUsize = AtomicUsize::new(0);

/// Whether a session is being asked what a statement would do. One test is about it.
static ASKED: AtomicBool = AtomicBool::new(false);

/// Whether the guard has changed under a run. One test is about it.
static GUARDED: AtomicBool = AtomicBool::new(false);

impl Session for Moored {
    fn abilities(&self) -> Abilities {
        Abilities { cancel: true, ..Abilities::default() }
    }
    fn location(&self) -> Location {
        Location {
            server: "pier 1".into(),
            transaction: self.transaction.then_some(jaunty_seam::engine::Transaction::Open),
            schema: self.schema.into(),
            uncertain: self.wandered,
            ..Location::default()
        }
    }
    fn locate(&mut self, _: &Stop) -> Result<Location, EngineError> {
        // A server that cannot say it leaves it open.
        if self.schema != "nowhere" {
            (self.wandered, self.schema) = (false, "west");
        }
        LOCATED.fetch_add(1, Ordering::SeqCst);
        Ok(self.location())
    }
    fn effect(&mut self, request: &Request<'_>) -> Result<Effect, EngineError> {
        let statement = request.text;
        if statement == "odd" {
            return Err(EngineError::new(ErrorKind::Refused, "refused"));
        }
        if statement == "write slowly" {
            // Until somebody wants an end.
            ASKED.store(true, Ordering::SeqCst);
            while !request.stop.is_wished() {
                thread::yield_now();
            }
            return Err(EngineError::stopped());
        }
        Ok(if statement.starts_with("write") { Effect::Writes(Default::default()) } else { Effect::Reads })
    }
    fn run(&mut self, request: &Request<'_>, mut sink: Box<dyn Sink>) -> Result<(), EngineError> {
        match request.text {
            "begin" => self.transaction = true,
            "commit" => self.transaction = false,
            "wander" => self.wandered = true,
            "get lost" => (self.wandered, self.schema) = (true, "nowhere"),
            "fade" => self.stands = false,
            "fail" => return Err(EngineError::new(ErrorKind::Refused, "refused")),
            "lose" => return Err(EngineError::new(ErrorKind::Lost, "gone")),
            "until the guard changes" => {
                while !GUARDED.load(Ordering::SeqCst) {
                    thread::yield_now();
                }
                sink.take(Event::Ends { affected: None });
            }
            "forever" => {
                while sink.wanted() == Flow::Continue && !request.stop.is_wished() {
                    thread::yield_now();
                }
                return Err(EngineError::stopped());
            }
            _ => {
                sink.take(Event::Ends { affected: Some(1) });
            }
        }
        Ok(())
    }
    fn reading(&mut self, request: &Request<'_>, next: usize) -> Reading {
        match request.text.get(next..).unwrap_or_default() {
            "and more" => Reading::One,
            "and more\nand on" => Reading::Further,
            "who knows" => Reading::Unknown,
            _ => Reading::Shorter,
        }
    }
    fn is_alive(&mut self) -> bool {
        self.stands
    }
    fn switch(&mut self, to: &Switch, _: &Stop) -> Result<bool, EngineError> {
        match to.kind {
            SwitchKind::ROLE => Err(EngineError::new(ErrorKind::Refused, "no such role")),
            kind => Ok(kind == SwitchKind::SCHEMA),
        }
    }
    fn catalog(&mut self, part: &CatalogPart<'_>, catalog: &mut Catalog) -> Result<bool, EngineError> {
        if part.database == Some("locked") {
            return Err(EngineError::new(ErrorKind::Refused, "not for everybody"));
        }
        let part = part.number;
        catalog.object("main", &format!("ports {part}"), jaunty_seam::catalog::ObjectKind::Table);
        Ok(part == 0)
    }
}

/// A report in few words, made when it comes: a run goes on while others read of it.
fn in_words(report: &Report) -> String {
    match report {
        Report::Connected(place, ..) => format!("connected to {}", place.server),
        Report::NotConnected(error) => format!("not connected: {error}"),
        Report::Remembered(runs) => format!("remembers {}", runs.len()),
        Report::Run(run) => format!("{} {}", run.statement, run.outcome().word()),
        Report::Moved(place) => format!("moved, transaction {}", place.in_transaction()),
        Report::WantsSecret(error) => format!("wants a secret: {error}"),
        Report::Question(question) => format!("asks for {}", question.text),
        Report::Lost { transaction } => format!("lost, transaction {transaction}"),
        Report::LetGo => "let go".to_owned(),
        Report::NotMoved(error) => format!("not moved: {error}"),
        Report::Choices(kind, choices) => format!("{} {choices:?}", kind.word()),
        Report::Asks(jobs, Why::Writes(_)) => format!("asks about {}", jobs[0].statement),
        Report::Asks(jobs, Why::TwoReadings(shorter)) => {
            format!("asks whether {} ends at {shorter}", jobs[0].statement)
        }
        Report::Asks(jobs, Why::MayBePart) => format!("asks whether {} is all of it", jobs[0].statement),
        Report::Joined(text) => format!("{text} is one"),
        Report::Asks(jobs, Why::TransactionLost) => {
            format!("asks about {} after a lost transaction", jobs[0].statement)
        }
        Report::Catalog(catalog) => {
            let other = |(name, there): (&String, &Arc<Catalog>)| match &there.missing {
                None => format!(", {name} of {}", there.objects().len()),
                Some(why) => format!(", {name} {why}"),
            };
            let others: String = catalog.others.iter().map(other).collect();
            format!("catalog of {}{others}", catalog.objects().len())
        }
        Report::NoCatalog(error) => format!("no catalog: {error}"),
        Report::Definition(..) => "definition".into(),
        Report::Checked(_, error) => format!("checked, wrong {}", error.is_some()),
        Report::Sample(name, _) => format!("sample of {}", name.name),
        Report::Idle { left_out } => format!("idle, {left_out} left out"),
        Report::Sending(slip, _) => format!("slip of {}", slip.ground.table.name),
        Report::ScriptRefused(why) => format!("script refused: {why}"),
    }
}

/// A thread at work, and what it tells, in few words.
struct Watch {
    worker: ConnectionWorker,
    told: Receiver<String>,
    _folder: tempfile::TempDir,
}

fn watch(guard: Guard, refusals: &[&'static str]) -> Watch {
    let folder = tempfile::tempdir().unwrap();
    watch_in(folder, guard, refusals)
}

fn watch_in(folder: tempfile::TempDir, guard: Guard, refusals: &[&'static str]) -> Watch {
    let engine = Box::leak(Box::new(Pier { refusals: Mutex::new(refusals.iter().copied().collect()) }));
    let keeping = Keeping::open(&Folders::below(folder.path()), Retention::default());
    let (tell, told) = channel();
    let profile = Profile::new("pier", "pier").guarded(guard);
    let worker =
        ConnectionWorker::open(engine, profile, None, keeping, move |report| drop(tell.send(in_words(&report))))
            .unwrap();
    Watch { worker, told, _folder: folder }
}

fn jobs_of(statements: &[&str]) -> Vec<Job> {
    statements.iter().map(|s| Job { statement: (*s).to_owned(), ..Job::default() }).collect()
}

impl Watch {
    fn asks(&self, statements: &[&str]) -> &Watch {
        self.worker.ask(Order::Run(jobs_of(statements)));
        self
    }

    /// The next report that is not about the catalog, which is told whenever there was time to read it.
    fn next(&self) -> String {
        loop {
            let told = self.told.recv_timeout(Duration::from_secs(60)).expect("the worker tells something");
            if !told.starts_with("catalog of") {
                return told;
            }
        }
    }

    /// Waits for a catalog; tells what was reported before it.
    fn catalog(&self) -> Vec<String> {
        let mut before = Vec::new();
        loop {
            let told = self.told.recv_timeout(Duration::from_secs(60)).expect("the worker tells something");
            if told.starts_with("catalog of") {
                return before;
            }
            before.push(told);
        }
    }

    /// Expects these reports, and nothing between them.
    fn tells(&self, expected: &[&str]) -> &Watch {
        for expected in expected {
            assert_eq!(self.next(), *expected);
        }
        self
    }
}

#[test]
fn statements_run_one_after_the_other_up_to_the_first_that_fails() {
    let watch = watch(Guard::Open, &[]);
    watch.tells(&["remembers 0", "connected to pier 1"]);
    watch.asks(&["a", "b"]).tells(&["a running", "a done", "b running", "b done", "idle, 0 left out"]);
    watch.asks(&["a", "fail", "b", "c"]);
    watch.tells(&["a running", "a done", "fail running", "fail failed", "idle, 2 left out"]);
}

#[test]
fn a_stop_ends_what_runs_and_what_waits_behind_it() {
    let watch = watch(Guard::Open, &[]);
    watch.tells(&["remembers 0", "connected to pier 1"]);
    watch.asks(&["forever", "b"]).tells(&["forever running"]);
    watch.worker.stop();
    watch.tells(&["forever stopped", "idle, 1 left out"]);
    // Also what was asked for on its own.
    watch.asks(&["forever"]).tells(&["forever running"]).asks(&["b"]);
    watch.worker.stop();
    watch.tells(&["forever stopped", "idle, 0 left out", "idle, 1 left out"]);
    watch.worker.stop();
    watch.asks(&["a"]).tells(&["a running", "a done", "idle, 0 left out"]);
}

#[test]
fn a_guard_that_asks_wants_a_yes_for_each_statement_that_writes() {
    let watch = watch(Guard::Ask, &[]);
    watch.tells(&["remembers 0", "connected to pier 1"]);
    watch.asks(&["read", "write this", "read that"]);
    watch.tells(&["read running", "read done", "asks about write this", "idle, 0 left out"]);
    let mut jobs = jobs_of(&["write this", "write more"]);
    jobs[0].confirmed = true;
    watch.worker.ask(Order::Run(jobs));
    watch.tells(&["write this running", "write this done", "asks about write more", "idle, 0 left out"]);
}

/// Whoever makes a guard stricter does not mean the day after, nor when all that waits has run.
#[test]
fn a_guard_that_asks_from_now_on_asks_before_the_next_statement() {
    let watch = watch(Guard::Open, &[]);
    watch.tells(&["remembers 0", "connected to pier 1"]);
    watch.asks(&["write this", "until the guard changes", "read", "write that", "write more"]);
    watch.tells(&["write this running", "write this done", "until the guard changes running"]);
    watch.worker.ask_first();
    GUARDED.store(true, Ordering::SeqCst);
    watch.tells(&[
        "until the guard changes done",
        "read running",
        "read done",
        "asks about write that",
        "idle, 0 left out",
    ]);
}

/// A job whose end was told without a semicolon, and what follows it.
fn unended(statement: &str, after: &[&str]) -> Job {
    let job = |text: String| Job { statement: text, ..Job::default() };
    let longer = (1..=after.len()).map(|n| job(format!("{statement}\n{}", after[..n].join("\n")))).collect();
    Job { longer, next_at: statement.len() + 1, ..job(statement.to_owned()) }
}

#[test]
fn what_the_server_takes_as_one_statement_is_one() {
    let watch = watch(Guard::Open, &[]);
    watch.tells(&["remembers 0", "connected to pier 1"]);
    let plain = |text: &str| Job { statement: text.to_owned(), ..Job::default() };
    watch.worker.ask(Order::Run(vec![unended("a", &["and more", "and on"]), plain("and more"), plain("b")]));
    watch.tells(&[
        "a\nand more is one",
        "a\nand more running",
        "a\nand more done",
        "b running",
        "b done",
        "idle, 0 left out",
    ]);
    // The one at the cursor alone.
    watch.worker.ask(Order::Run(vec![unended("a", &["and more"])]));
    watch.tells(&["a\nand more is one", "a\nand more running", "a\nand more done", "idle, 0 left out"]);
    watch.worker.ask(Order::Run(vec![unended("a", &["c"]), plain("c")]));
    watch.tells(&["a running", "a done", "c running", "c done", "idle, 0 left out"]);
    watch.worker.ask(Order::Run(vec![unended("a", &["who knows"]), plain("who knows"), plain("b")]));
    watch.tells(&["asks whether a\nwho knows ends at a", "idle, 0 left out"]);
}

#[test]
fn what_could_not_connect_tries_again_with_the_next_statement() {
    let watch = watch(Guard::Open, &["nobody listens", "the gate is shut"]);
    watch.tells(&["remembers 0", "not connected: nobody listens"]);
    watch.asks(&["a"]).tells(&["not connected: the gate is shut", "idle, 1 left out"]);
    watch.asks(&["a"]).tells(&["connected to pier 1", "a running", "a done", "idle, 0 left out"]);
}

#[test]
fn a_lost_connection_is_made_anew_and_said() {
    let watch = watch(Guard::Open, &[]);
    watch.tells(&["remembers 0", "connected to pier 1"]);
    watch.asks(&["begin"]).tells(&["begin running", "begin done", "moved, transaction true", "idle, 0 left out"]);
    watch.asks(&["lose", "a"]).tells(&["lose running", "lose cut short", "lost, transaction true", "idle, 1 left out"]);
    watch.asks(&["a"]).tells(&["asks about a after a lost transaction", "idle, 0 left out"]);
    watch.asks(&["a"]).tells(&["connected to pier 1", "a running", "a done", "idle, 0 left out"]);
}

#[test]
fn a_connection_that_went_away_at_rest_is_made_anew_before_the_next_run() {
    let watch = watch(Guard::Open, &[]);
    watch.tells(&["remembers 0", "connected to pier 1"]);
    watch.asks(&["fade"]).tells(&["fade running", "fade done", "idle, 0 left out"]);
    watch.asks(&["a"]).tells(&[
        "lost, transaction false",
        "connected to pier 1",
        "a running",
        "a done",
        "idle, 0 left out",
    ]);
}

#[test]
fn what_waits_for_a_secret_runs_when_it_is_given() {
    let watch = watch(Guard::Open, &["secret: who is there", "secret: who is there", "secret: that is wrong"]);
    watch.tells(&["remembers 0", "wants a secret: who is there"]);
    watch.asks(&["a", "b"]).tells(&["wants a secret: who is there", "idle, 2 left out"]);
    watch.worker.ask(Order::Secret(Secret::new("tide-8".into())));
    watch.tells(&["wants a secret: that is wrong"]);
    watch.worker.ask(Order::Secret(Secret::new("tide-9".into())));
    watch.tells(&["connected to pier 1", "a running", "a done", "b running", "b done", "idle, 0 left out"]);
}

#[test]
fn switching_stays_on_the_connection_or_makes_a_new_one() {
    let watch = watch(Guard::Open, &[]);
    watch.tells(&["remembers 0", "connected to pier 1"]);
    let to = |kind, to: &str| Order::Switch(Switch { kind, to: to.into() });
    watch.worker.ask(to(SwitchKind::SCHEMA, "east"));
    watch.tells(&["moved, transaction false"]);
    watch.worker.ask(to(SwitchKind::DATABASE, "west"));
    watch.tells(&["connected to pier 1"]);
    watch.worker.ask(to(SwitchKind::ROLE, "purser"));
    watch.tells(&["not moved: no such role"]);
    watch.asks(&["begin"]).tells(&["begin running", "begin done", "moved, transaction true", "idle, 0 left out"]);
    watch.worker.ask(to(SwitchKind::DATABASE, "east"));
    watch.tells(&["not moved: switching needs a new connection, and a transaction is open"]);
}

/// Where a session is may have to be asked: at rest, once, and not inside a transaction.
#[test]
fn where_it_is_is_asked_when_there_is_time() {
    let watch = watch(Guard::Open, &[]);
    watch.tells(&["remembers 0", "connected to pier 1"]);
    watch.asks(&["begin", "wander"]);
    watch.tells(&["begin running", "begin done", "moved, transaction true", "wander running", "wander done"]);
    watch.tells(&["idle, 0 left out"]);
    assert_eq!(LOCATED.load(Ordering::SeqCst), 0, "it would fix what the transaction sees");
    watch.asks(&["commit"]).tells(&["commit running", "commit done", "moved, transaction false", "idle, 0 left out"]);
    // The answer is that it is elsewhere.
    watch.tells(&["moved, transaction false"]);
    assert_eq!(LOCATED.load(Ordering::SeqCst), 1);
    watch.asks(&["get lost"]).tells(&[
        "get lost running",
        "get lost done",
        "moved, transaction false",
        "idle, 0 left out",
    ]);
    watch.asks(&["a"]).tells(&["a running", "a done", "idle, 0 left out"]);
    watch.asks(&["b"]).tells(&["b running", "b done", "idle, 0 left out"]);
    assert!(LOCATED.load(Ordering::SeqCst) <= 4, "not again and again");
}

#[test]
fn runs_of_earlier_are_remembered_before_there_is_a_connection() {
    let first = watch(Guard::Open, &[]);
    first.tells(&["remembers 0", "connected to pier 1"]);
    first.asks(&["a", "b", "a"]);
    while first.next() != "idle, 0 left out" {}
    let Watch { worker, told, _folder } = first;
    drop((worker, told));
    let second = watch_in(_folder, Guard::Open, &["nobody listens"]);
    second.tells(&["remembers 2", "not connected: nobody listens"]);
}

#[test]
fn the_catalog_is_told_or_why_not() {
    let watch = watch(Guard::Open, &["nobody listens", "nobody listens"]);
    watch.tells(&["remembers 0", "not connected: nobody listens"]);
    watch.worker.ask(Order::Catalog);
    watch.tells(&["not connected: nobody listens", "no catalog: not connected"]);
    watch.worker.ask(Order::Catalog);
    assert_eq!(watch.catalog(), ["connected to pier 1"]);
}

#[test]
fn what_a_definition_changes_is_read_again_but_not_inside_a_transaction() {
    let watch = watch(Guard::Open, &[]);
    assert_eq!(watch.catalog(), ["remembers 0", "connected to pier 1"]);
    watch.asks(&["-- a port\n create table a(b)"]);
    assert!(watch.catalog().contains(&"idle, 0 left out".to_owned()));
    // Anything else does not.
    watch.asks(&["select 1", "begin", "create table b(c)", "select 2"]);
    while watch.told.recv_timeout(Duration::from_secs(60)).unwrap() != "idle, 0 left out" {}
    let told = watch.told.recv_timeout(Duration::from_millis(100));
    assert!(told.is_err(), "nothing is read while it is open: {told:?}");
    watch.asks(&["commit"]);
    assert!(watch.catalog().contains(&"moved, transaction false".to_owned()));
    // A person who asks gets it at once.
    watch.asks(&["begin"]).tells(&["begin running", "begin done", "moved, transaction true", "idle, 0 left out"]);
    watch.worker.ask(Order::Catalog);
    assert_eq!(watch.catalog(), Vec::<String>::new());
}

#[test]
fn other_databases_are_read_when_somebody_names_them() {
    const ALL: &str = "catalog of 2, archive of 2, locked not for everybody";
    let watch = watch(Guard::Open, &[]);
    let next = || loop {
        let told = watch.told.recv_timeout(Duration::from_secs(60)).expect("the worker tells something");
        if told.starts_with("catalog of") {
            return told;
        }
    };
    let ask = |names: &[&str]| names.iter().for_each(|name| watch.worker.ask(Order::Database((*name).to_owned())));
    assert_eq!(next(), "catalog of 2");
    // Each is read once, however often it is named.
    ask(&["archive", "archive", "locked"]);
    let (one, both) = (next(), next());
    assert!(one.starts_with("catalog of 2, ") && one.len() < ALL.len(), "{one}");
    assert_eq!(both, ALL);
    ask(&["archive", "locked"]);
    // A definition has what is in hand read again; the others stay.
    watch.asks(&["create table x (a)"]);
    assert_eq!(next(), ALL);
    // A person who asks wants all of them as they are now.
    watch.worker.ask(Order::Catalog);
    assert_eq!(next(), "catalog of 2");
    next();
    assert_eq!(next(), ALL);
    // While a transaction is open nothing is asked.
    watch.asks(&["begin"]);
    ask(&["further"]);
    watch.asks(&["select 1"]);
    while watch.told.recv_timeout(Duration::from_secs(60)).unwrap() != "select 1 done" {}
    watch.asks(&["commit"]);
    assert!(next().contains(", further of 2"));
}

#[test]
fn the_catalog_of_the_last_time_is_there_without_a_connection() {
    let first = watch(Guard::Open, &[]);
    first.catalog();
    let Watch { worker, told, _folder } = first;
    let kept = || {
        std::fs::read_dir(Folders::below(_folder.path()).catalogs()).is_ok_and(|mut all| {
            all.any(|entry| entry.is_ok_and(|entry| entry.path().extension().is_some_and(|e| e == "json")))
        })
    };
    while !kept() {
        thread::yield_now();
    }
    drop((worker, told));
    let second = watch_in(_folder, Guard::Open, &["nobody listens"]);
    second.catalog();
}

#[test]
fn first_rows_that_nobody_waits_for_hold_nothing_up() {
    let watch = watch(Guard::Open, &[]);
    watch.tells(&["remembers 0", "connected to pier 1"]);
    let object = |name: &str| Box::new(Object { schema: "main".into(), name: name.into(), ..Object::default() });
    watch.worker.ask(Order::Sample(object("ports"), "quick".into()));
    watch.tells(&["sample of ports"]);
    watch.worker.ask(Order::Sample(object("slow"), "forever".into()));
    watch.worker.ask(Order::Sample(object("slower"), "forever".into()));
    watch.worker.stop();
    // Neither is told: a part of it would look like all there is.
    watch.asks(&["a"]).tells(&["a running", "a done", "idle, 0 left out"]);
    // Inside a transaction nothing is asked that nobody asked for.
    watch.asks(&["begin"]).tells(&["begin running", "begin done", "moved, transaction true", "idle, 0 left out"]);
    watch.worker.ask(Order::Sample(object("ports"), "quick".into()));
    watch.worker.ask(Order::Check(StatementId::of("x"), "x".into()));
    watch.asks(&["commit"]).tells(&["commit running", "commit done", "moved, transaction false", "idle, 0 left out"]);
    watch.worker.ask(Order::Check(StatementId::of("x"), "x".into()));
    watch.tells(&["checked, wrong false"]);
}

#[test]
fn what_waits_can_be_taken_back_and_then_never_begins() {
    let watch = watch(Guard::Open, &[]);
    watch.tells(&["remembers 0", "connected to pier 1"]);
    watch.asks(&["forever"]).tells(&["forever running"]);
    let (back, stays) = (Ticket::default(), Ticket::default());
    watch.worker.ask(Order::RunUnless(back.clone(), jobs_of(&["a"])));
    watch.worker.ask(Order::RunUnless(stays.clone(), jobs_of(&["b"])));
    assert!(back.take_back());
    watch.worker.stop();
    watch.tells(&["forever stopped", "idle, 0 left out", "idle, 1 left out"]);
    assert!(!stays.take_back(), "it was at its turn, and was stopped with the others");
    watch.asks(&["c"]).tells(&["c running", "c done", "idle, 0 left out"]);
}

/// What a statement would do may take long to find out; whoever stops that is not asked, and nothing runs.
#[test]
fn the_question_before_a_run_can_be_stopped() {
    let watch = watch(Guard::Ask, &[]);
    watch.tells(&["remembers 0", "connected to pier 1"]);
    watch.asks(&["write slowly", "a"]);
    while !ASKED.load(Ordering::SeqCst) {
        thread::yield_now();
    }
    watch.worker.stop();
    watch.tells(&["idle, 2 left out"]);
    watch.asks(&["a"]).tells(&["a running", "a done", "idle, 0 left out"]);
}

/// With values a question may be refused where the statement is not: it is asked about all the same.
#[test]
fn a_question_that_is_refused_is_no_permission_where_there_are_values() {
    let watch = watch(Guard::Ask, &[]);
    watch.tells(&["remembers 0", "connected to pier 1"]);
    let values = vec![(":a".to_owned(), jaunty_language::statement::parameters::ParameterValue::Int(1))];
    let job = Job { statement: "odd".into(), values, ..Job::default() };
    watch.worker.ask(Order::Run(vec![job]));
    watch.tells(&["asks about odd", "idle, 0 left out"]);
}
