//! What tests of engines share: a sink that keeps what comes.

#![allow(dead_code)] // Each test file uses its part.

pub mod gate;
pub mod harbour;

use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use arrow_array::RecordBatch;
use jaunty_language::statement::parameters::ParameterValue;
use jaunty_seam::engine::{Event, Flow, Request, Session, Sink, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Guard, Profile, Secret, Setting};
use jaunty_seam::rows::cell::ColumnReader;
use jaunty_seam::rows::origin::Origin;
use jaunty_standins::tds;

#[derive(Default)]
pub struct Seen {
    pub names: Vec<String>,
    pub batches: Vec<RecordBatch>,
    pub affected: Vec<Option<u64>>,
    pub messages: Vec<String>,
    /// Whether a result has begun and not ended.
    pub open: bool,
    /// Results with columns.
    pub results: usize,
    pub arrived: Vec<Instant>,
    /// How far the server said it was, from 0 to 1.
    pub progress: Vec<f32>,
}

/// Keeps what comes; stops after so many rows.
#[derive(Clone)]
pub struct Collect {
    pub seen: Arc<Mutex<Seen>>,
    pub most: usize,
}

impl Collect {
    pub fn up_to(most: usize) -> Collect {
        Collect { seen: Arc::default(), most }
    }

    pub fn rows(&self) -> Vec<Vec<String>> {
        let seen = self.seen.lock().unwrap();
        let mut rows = Vec::new();
        for batch in &seen.batches {
            let readers = ColumnReader::all(batch);
            let row = |row| readers.iter().map(|r| r.get(row).text.into_owned()).collect();
            rows.extend((0..batch.num_rows()).map(row));
        }
        rows
    }

    /// How many rows each batch had.
    pub fn batches(&self) -> Vec<usize> {
        self.seen.lock().unwrap().batches.iter().map(RecordBatch::num_rows).collect()
    }

    pub fn count(&self) -> usize {
        self.seen.lock().unwrap().batches.iter().map(RecordBatch::num_rows).sum()
    }
}

impl Sink for Collect {
    fn wanted(&self) -> Flow {
        if self.count() >= self.most { Flow::Stop } else { Flow::Continue }
    }
    fn take(&mut self, event: Event) -> Flow {
        let mut seen = self.seen.lock().unwrap();
        match event {
            Event::Begins { schema, .. } => {
                seen.results += 1;
                seen.open = true;
                seen.names = schema.fields().iter().map(|f| f.name().clone()).collect();
            }
            Event::Rows(batch) => {
                // A statement without an end must not fill the memory.
                assert!(seen.batches.len() < 20_000, "nothing stopped it");
                assert!(seen.open, "rows come after the beginning of their result");
                seen.batches.push(batch);
                seen.arrived.push(Instant::now());
                drop(seen);
                return self.wanted();
            }
            Event::Ends { affected } => {
                if !std::mem::take(&mut seen.open) {
                    seen.affected.push(affected);
                }
            }
            Event::Message(message) => {
                let code = message.code.map(|code| format!(" [{code}]")).unwrap_or_default();
                seen.messages.push(format!("{}: {}{code}", message.severity, message.text));
            }
            Event::Progress(progress) => seen.progress.extend(progress.done),
            Event::Output(_) | Event::QueryId(_) => {}
        }
        Flow::Continue
    }
}

/// Runs a statement and keeps what comes.
pub fn run(session: &mut dyn Session, statement: &str) -> Result<Collect, EngineError> {
    let collect = Collect::up_to(usize::MAX);
    session.run(&Request::new(statement), Box::new(collect.clone())).map(|()| collect)
}

/// Runs a statement with values, written as a person writes them, and gives its rows.
pub fn rows_with(
    session: &mut dyn Session,
    statement: &str,
    values: &[(&str, &str)],
) -> Result<Vec<Vec<String>>, EngineError> {
    let collect = Collect::up_to(usize::MAX);
    let values: Vec<_> = values.iter().map(|(name, text)| ((*name).to_owned(), ParameterValue::read(text))).collect();
    session.run(&Request::new(statement).with(&values), Box::new(collect.clone())).map(|()| collect.rows())
}

/// Runs a statement that is refused.
pub fn refused(session: &mut dyn Session, statement: &str) -> EngineError {
    match run(session, statement) {
        Ok(_) => panic!("it ran: {statement}"),
        Err(error) => error,
    }
}

/// Waits until something is so; false if it does not become so in a minute. To ask takes a while, so nothing
/// rests meanwhile.
pub fn comes_true(mut is: impl FnMut() -> bool) -> bool {
    let since = Instant::now();
    while !is() {
        if since.elapsed() > Duration::from_secs(60) {
            return false;
        }
    }
    true
}

/// Runs a statement that has no end, stops it as soon as the server says that it runs, and tells how long
/// that took.
pub fn stopped(session: &mut dyn Session, statement: &str, runs: impl FnMut() -> bool) -> Duration {
    let stop = Stop::default();
    std::thread::scope(|scope| {
        let worker =
            scope.spawn(|| session.run(&Request::new(statement).until(&stop), Box::new(Collect::up_to(usize::MAX))));
        let began = comes_true(runs);
        let since = Instant::now();
        stop.wish();
        let outcome = worker.join().unwrap();
        assert!(began, "the server did not begin {statement}");
        assert_eq!(outcome.unwrap_err().kind, ErrorKind::Stopped, "{statement}");
        since.elapsed()
    })
}

/// The sentence of a connection that is not made, with its step and the remedy, without what
/// differs from run to run.
pub fn told(error: &EngineError, differs: &[(&str, &str)]) -> String {
    let step = error.step.map_or("none", |step| step.word());
    let mut text = format!("[{step}] {error}\n{}", error.remedy.as_deref().unwrap_or("(no remedy)"));
    for (from, to) in differs {
        text = text.replace(from, to);
    }
    text
}

/// Where the columns of a statement come from, as `schema.table.column`, with `!` where that has no NULL.
pub fn origins(session: &mut dyn Session, statement: &str) -> Vec<String> {
    let found = run(session, statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
    let schema = found.seen.lock().unwrap().batches[0].schema();
    let told = |field: &Arc<arrow_schema::Field>| {
        assert!(field.is_nullable(), "an outer join may have NULL everywhere");
        Origin::of(field).map_or_else(String::new, |origin| {
            let required = if origin.required { "!" } else { "" };
            format!("{}.{}.{}{required}", origin.schema, origin.table, origin.column)
        })
    };
    schema.fields().iter().map(told).collect()
}

/// Numbers that look random and are the same in each run.
pub struct Random(pub u64);

impl Random {
    pub fn below(&mut self, limit: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 % limit as u64) as usize
    }

    pub fn of<'a, T: ?Sized>(&mut self, all: &[&'a T]) -> &'a T {
        all[self.below(all.len())]
    }
}

/// A session on the simulated SQL Server.
pub fn office(server: &tds::Server, guard: Guard) -> Box<dyn Session> {
    let mut profile = Profile::new("office", "sqlserver").with("host", "127.0.0.1").with("user", "clerk");
    profile.settings.insert("port".into(), Setting::Number(server.port().into()));
    let (profile, secret) =
        (profile.guarded(guard).with("database", "ferry"), Secret::new(tds::Options::default().password));
    jaunty_core::connection::open(jaunty_engines::by_name("sqlserver").unwrap(), &profile, Some(&secret)).unwrap()
}
