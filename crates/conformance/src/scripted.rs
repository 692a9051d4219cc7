//! An engine whose sessions do what a statement says: for the suite, and to see on the screen what no server here does
//! yet.
//!
//! A statement is a list of steps with commas between:
//!
//! | step | what it does |
//! | --- | --- |
//! | `result NAME` | begins a result of one number and one text |
//! | `rows N` | so many rows of it; begins one where there is none |
//! | `late NAME` | from now on the rows of the result have one more column, of text |
//! | `forever` | rows without an end |
//! | `wait` | says nothing until somebody wants an end |
//! | `huge N` | a result of one text of so many bytes |
//! | `one N` | a result of one number |
//! | `kinds` | a result with a value of each kind |
//! | `end N` | ends the result; so many rows were touched |
//! | `output NAME` | a value beside the results |
//! | `message TEXT` | something the server says, with a code and a line |
//! | `progress N` | so many percent are done |
//! | `id TEXT` | the server's id of the statement |
//! | `make`, `put`, `count` | the shelf, which all sessions see: makes it anew, adds to it, counts it |
//! | `begin`, `rollback` | a transaction |
//! | `echo` | gives back the value of `:a` |
//! | `fail TEXT` | a mistake |

use std::collections::HashSet;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, LazyLock, Mutex, PoisonError};
use std::thread;
use std::time::Duration;

use arrow_array::builder::{
    Decimal256Builder, FixedSizeBinaryBuilder, ListBuilder, MapBuilder, StringBuilder, StringDictionaryBuilder,
    TimestampNanosecondBuilder,
};
use arrow_array::types::Int32Type;
use arrow_array::{Array, ArrayRef, BooleanArray, Float64Array, Int64Array, RecordBatch, StringArray, StructArray};
use arrow_schema::{DataType, Field, Schema, SchemaRef};
use jaunty_language::dialect::{DOCUMENTS, Dialect};
use jaunty_language::statement::parameters::{ParameterValue, value_of};
use jaunty_seam::catalog::{Catalog, Column, ObjectKind};
use jaunty_seam::engine::{
    Abilities, Attempt, CatalogPart, Effect, Engine, Event, Flow, Key, Location, Message, Progress, Question, Reading,
    Request, Session, Sink, Stop, Switch, SwitchKind, Takes, Touches, Transaction, Verdict,
};
use jaunty_seam::error::{EngineError, ErrorKind, Step};
use jaunty_seam::profile::Guard;

/// The one-time code that a profile with `code = true` wants.
pub const CODE: &str = "tide-417";

/// The engine. All its sessions are at one server, which lives as long as the program.
pub struct Scripted;

#[derive(Default)]
struct Server {
    shelf: Mutex<Vec<u64>>,
    gone: Mutex<HashSet<String>>,
    asked: Mutex<Vec<String>>,
}

static SERVER: LazyLock<Server> = LazyLock::new(Server::default);
static NUMBERS: AtomicU64 = AtomicU64::new(1);

/// What can be switched: one more than the servers here have.
const SWITCHES: &[SwitchKind] = &[SwitchKind::DATABASE, SwitchKind::SCHEMA, SwitchKind("warehouse")];

fn lock<T>(of: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Ends a session from the server's side.
pub fn vanish(session: &str) {
    lock(&SERVER.gone).insert(session.to_owned());
}

/// How many statements a session was asked.
pub fn asked(session: &str) -> u64 {
    lock(&SERVER.asked).iter().filter(|one| *one == session).count() as u64
}

impl Engine for Scripted {
    fn name(&self) -> &'static str {
        "scripted"
    }

    fn dialect(&self) -> &'static Dialect {
        &DOCUMENTS
    }

    fn keys(&self) -> &'static [Key] {
        const KEYS: &[Key] = &[
            Key::common("code", Takes::Flag, "false", "whether a one-time code is wanted"),
            Key::rare("port", Takes::Number(1, 65535), "", "a port where somebody listens, or nobody"),
        ];
        KEYS
    }

    fn preview_statement(&self, _: &str, _: &str, _: &str) -> String {
        "rows 3".to_owned()
    }

    fn connect(&self, attempt: &Attempt<'_>) -> Result<Box<dyn Session>, EngineError> {
        if let Some(port) = attempt.profile.number("port") {
            wait_at(port, &attempt.stop)?;
        }
        if attempt.profile.flag("code") {
            let question = Question { text: "one-time code of the quay".into(), page: None, visible: true };
            let code = attempt.prompt.ask(&question);
            if attempt.stop.is_wished() {
                return Err(EngineError::stopped());
            }
            if code.as_ref().is_none_or(|code| code.reveal() != CODE) {
                return Err(EngineError::connecting(Step::Login, "the one-time code is wrong or missing"));
            }
        }
        let name = format!("berth {}", NUMBERS.fetch_add(1, Ordering::Relaxed));
        let location = Location {
            server: "scripted 1".into(),
            database: "harbour".into(),
            schema: "east.quay".into(),
            user: "purser".into(),
            session: name,
            transport: "script".into(),
            ..Location::default()
        };
        Ok(Box::new(Berth { location, guard: attempt.profile.guard }))
    }
}

/// Waits for the first word of whoever listens at this port, who has none.
fn wait_at(port: i64, stop: &Stop) -> Result<(), EngineError> {
    use std::io::Read;
    let port = u16::try_from(port).unwrap_or_default();
    let failed = |what: String| EngineError::connecting(Step::Reach, what);
    let mut stream = std::net::TcpStream::connect(("127.0.0.1", port))
        .map_err(|error| failed(format!("could not connect to 127.0.0.1:{port}: {error}")))?;
    let _ = stream.set_read_timeout(Some(Duration::from_millis(20)));
    loop {
        match stream.read(&mut [0; 1]) {
            Ok(_) => return Err(failed(format!("127.0.0.1:{port} closed the connection"))),
            Err(_) if stop.is_wished() => return Err(EngineError::stopped()),
            Err(error) if matches!(error.kind(), std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut) => {}
            Err(error) => return Err(failed(error.to_string())),
        }
    }
}

/// A session.
struct Berth {
    location: Location,
    guard: Guard,
}

/// A statement on its way.
struct Work<'a> {
    session: &'a str,
    stop: &'a Stop,
    sink: Box<dyn Sink>,
    /// The number of the next row, and whether a result is open.
    next: i64,
    open: bool,
    /// Columns that turned up after the result had begun.
    late: Vec<String>,
}

impl Work<'_> {
    /// Fails where the statement has to end.
    fn look(&self) -> Result<(), EngineError> {
        if lock(&SERVER.gone).contains(self.session) {
            return Err(lost());
        }
        if self.stop.is_wished() || self.sink.wanted() == Flow::Stop { Err(EngineError::stopped()) } else { Ok(()) }
    }

    fn send(&mut self, event: Event) -> Result<(), EngineError> {
        let mut flow = self.sink.take(event);
        while flow == Flow::Hold {
            // Here an engine whose server forgets held cursors would say that it is still there.
            flow = self.sink.wait(Duration::from_millis(1));
            self.look()?;
        }
        match flow {
            Flow::Stop => Err(EngineError::stopped()),
            _ => self.look(),
        }
    }

    fn begin(&mut self, name: Option<String>, schema: SchemaRef) -> Result<(), EngineError> {
        self.end(None)?;
        (self.open, self.next) = (true, 1);
        self.late.clear();
        self.send(Event::Begins { schema, name })
    }

    fn end(&mut self, affected: Option<u64>) -> Result<(), EngineError> {
        if std::mem::take(&mut self.open) { self.send(Event::Ends { affected }) } else { Ok(()) }
    }

    fn rows(&mut self, count: i64) -> Result<(), EngineError> {
        if !self.open {
            self.begin(None, pairs(1, 0).schema())?;
        }
        let last = self.next.saturating_add(count);
        while self.next < last {
            let some = (last - self.next).min(1000);
            let batch = with_late(&pairs(self.next, some), &self.late, self.next);
            self.next += some;
            self.send(Event::Rows(batch))?;
        }
        Ok(())
    }

    fn whole(&mut self, batch: RecordBatch) -> Result<(), EngineError> {
        self.begin(None, batch.schema())?;
        self.send(Event::Rows(batch))?;
        self.end(None)
    }
}

fn lost() -> EngineError {
    EngineError::new(ErrorKind::Lost, "the harbour is gone")
}

fn field(name: &str, of: &dyn Array) -> Field {
    Field::new(name, of.data_type().clone(), true)
}

fn batch(columns: Vec<(&str, ArrayRef)>) -> RecordBatch {
    let fields: Vec<Field> = columns.iter().map(|(name, array)| field(name, array)).collect();
    let arrays = columns.into_iter().map(|(_, array)| array).collect();
    RecordBatch::try_new(Arc::new(Schema::new(fields)), arrays).expect("columns of one length")
}

/// So many rows from a number on.
fn pairs(from: i64, count: i64) -> RecordBatch {
    let numbers = Int64Array::from_iter_values(from..from + count);
    let texts = StringArray::from_iter_values((from..from + count).map(|n| format!("tide {n}")));
    batch(vec![("n", Arc::new(numbers)), ("note", Arc::new(texts))])
}

/// The same rows with further columns, which count from this number on.
fn with_late(rows: &RecordBatch, late: &[String], from: i64) -> RecordBatch {
    let schema = rows.schema();
    let kept = schema.fields().iter().zip(rows.columns()).map(|(field, array)| (field.name().as_str(), array.clone()));
    let numbers = from..from + rows.num_rows() as i64;
    let late = late.iter().map(|name| -> (&str, ArrayRef) {
        (name, Arc::new(StringArray::from_iter_values(numbers.clone().map(|n| format!("{name} {n}")))))
    });
    batch(kept.chain(late).collect())
}

fn text(name: &str, text: &str) -> RecordBatch {
    batch(vec![(name, Arc::new(StringArray::from(vec![text])))])
}

/// A value of each kind that the servers to come have.
pub fn kinds() -> RecordBatch {
    let mut wide = Decimal256Builder::new().with_precision_and_scale(76, 2).expect("within the limit");
    wide.append_value("12345678901234567890123456789012345678901234567890".parse().expect("a number"));
    let mut nanos = TimestampNanosecondBuilder::new();
    nanos.append_value(1_930_000_000_123_456_789);
    let mut words = StringDictionaryBuilder::<Int32Type>::new();
    words.append_value("high");
    let mut list = ListBuilder::new(StringBuilder::new());
    list.values().append_value("a");
    list.values().append_null();
    list.append(true);
    let mut map = MapBuilder::new(None, StringBuilder::new(), StringBuilder::new());
    map.keys().append_value("key");
    map.values().append_value("value");
    map.append(true).expect("a key and a value");
    let mut fixed = FixedSizeBinaryBuilder::new(2);
    fixed.append_value([0xca, 0xfe]).expect("two bytes");
    let at = Arc::new(Field::new("at", DataType::Float64, true));
    let nested = StructArray::from(vec![(at, Arc::new(Float64Array::from(vec![1.5])) as ArrayRef)]);
    batch(vec![
        ("wide", Arc::new(wide.finish())),
        ("nanos", Arc::new(nanos.finish())),
        ("word", Arc::new(words.finish())),
        ("list", Arc::new(list.finish())),
        ("map", Arc::new(map.finish())),
        ("nested", Arc::new(nested)),
        ("fixed", Arc::new(fixed.finish())),
        ("yes", Arc::new(BooleanArray::from(vec![true]))),
    ])
}

impl Berth {
    fn is_gone(&self) -> bool {
        lock(&SERVER.gone).contains(&self.location.session)
    }

    fn stand(&self, stop: &Stop) -> Result<(), EngineError> {
        match () {
            () if self.is_gone() => Err(lost()),
            () if stop.is_wished() => Err(EngineError::stopped()),
            () => Ok(()),
        }
    }

    fn step(&mut self, step: &str, request: &Request<'_>, work: &mut Work<'_>) -> Result<(), EngineError> {
        let (word, rest) = step.split_once(' ').unwrap_or((step, ""));
        let number = || rest.trim().parse::<i64>().unwrap_or_default();
        match word {
            "result" => work.begin(Some(rest.to_owned()).filter(|name| !name.is_empty()), pairs(1, 0).schema()),
            "rows" => work.rows(number()),
            "late" => {
                work.late.push(rest.to_owned());
                Ok(())
            }
            "forever" => work.rows(i64::MAX),
            "wait" => loop {
                work.look()?;
                thread::yield_now();
            },
            "huge" => work.whole(text("text", &"x".repeat(usize::try_from(number()).unwrap_or_default()))),
            "one" => work.whole(batch(vec![("n", Arc::new(Int64Array::from(vec![number()])))])),
            "kinds" => work.whole(kinds()),
            "end" => work.end(rest.trim().parse().ok()),
            "output" => work.send(Event::Output(text(rest, "7"))),
            "message" => work.send(Event::Message(Message {
                code: Some("W-12".into()),
                line: Some(1),
                ..Message::new("warning", rest)
            })),
            "progress" => {
                let done = Some(f32::from(i16::try_from(number()).unwrap_or_default()) / 100.0);
                work.send(Event::Progress(Progress { done, ..Progress::default() }))
            }
            "id" => work.send(Event::QueryId(rest.to_owned())),
            "make" | "put" if self.guard == Guard::ReadOnly => {
                Err(EngineError::new(ErrorKind::Refused, "the harbour is read-only"))
            }
            "make" => {
                lock(&SERVER.shelf).clear();
                work.send(Event::Ends { affected: None })
            }
            "put" => {
                lock(&SERVER.shelf).push(1);
                work.send(Event::Ends { affected: Some(1) })
            }
            "count" => {
                let count = lock(&SERVER.shelf).len() as i64;
                work.whole(batch(vec![("count", Arc::new(Int64Array::from(vec![count])))]))
            }
            "begin" => {
                self.location.transaction = Some(Transaction::Open);
                work.send(Event::Ends { affected: None })
            }
            "rollback" => {
                self.location.transaction = None;
                work.send(Event::Ends { affected: None })
            }
            "echo" => match value_of(request.values, ":a") {
                ParameterValue::Null => Err(EngineError::new(ErrorKind::Refused, "no value for the parameter :a")),
                value => work.whole(text("a", &value.text().unwrap_or_default())),
            },
            "fail" => Err(EngineError::new(ErrorKind::Refused, rest).at(request.text.find(step))),
            _ => {
                let what = format!("\"{word}\" is not a step");
                Err(EngineError::new(ErrorKind::Refused, what).at(request.text.find(step)))
            }
        }
    }
}

fn steps(text: &str) -> impl Iterator<Item = &str> {
    text.split(',').map(str::trim).filter(|step| !step.is_empty())
}

impl Session for Berth {
    fn abilities(&self) -> Abilities {
        Abilities { cancel: true, transactions: true, read_only: true, effect: true, several_results: true }
    }

    fn location(&self) -> Location {
        self.location.clone()
    }

    fn locate(&mut self, stop: &Stop) -> Result<Location, EngineError> {
        self.stand(stop)?;
        Ok(self.location())
    }

    fn effect(&mut self, request: &Request<'_>) -> Result<Effect, EngineError> {
        while steps(request.text).any(|step| step == "ponder") {
            self.stand(&request.stop)?;
            thread::yield_now();
        }
        self.stand(&request.stop)?;
        let writes = steps(request.text).any(|step| ["make", "put"].contains(&step));
        Ok(if writes {
            Effect::Writes(Touches { rows: Some(1), counted: true, everything: false })
        } else {
            Effect::Reads
        })
    }

    fn check(&mut self, request: &Request<'_>) -> Result<Verdict, EngineError> {
        self.stand(&request.stop)?;
        match steps(request.text).find(|step| step.starts_with("fail")) {
            Some(step) => Err(EngineError::new(ErrorKind::Refused, step).at(request.text.find(step))),
            None => Ok(Verdict::Accepted),
        }
    }

    fn reading(&mut self, request: &Request<'_>, next: usize) -> Reading {
        // A statement goes on after a comma.
        let first = request.text.get(..next).unwrap_or_default();
        if first.trim_end().ends_with(',') { Reading::One } else { Reading::Shorter }
    }

    fn run(&mut self, request: &Request<'_>, sink: Box<dyn Sink>) -> Result<(), EngineError> {
        self.stand(&request.stop)?;
        lock(&SERVER.asked).push(self.location.session.clone());
        let session = self.location.session.clone();
        let mut work = Work { session: &session, stop: &request.stop, sink, next: 1, open: false, late: Vec::new() };
        for step in steps(request.text) {
            self.step(step, request, &mut work)?;
        }
        work.end(None)
    }

    fn is_alive(&mut self) -> bool {
        !self.is_gone()
    }

    fn switches(&self) -> &'static [SwitchKind] {
        SWITCHES
    }

    fn switch(&mut self, to: &Switch, stop: &Stop) -> Result<bool, EngineError> {
        self.stand(stop)?;
        match to.kind {
            SwitchKind::DATABASE => self.location.database = to.to.clone(),
            SwitchKind::SCHEMA => self.location.schema = to.to.clone(),
            _ => self.location.user = format!("purser in {}", to.to),
        }
        Ok(true)
    }

    fn choices(&mut self, of: SwitchKind, stop: &Stop) -> Result<Vec<String>, EngineError> {
        self.stand(stop)?;
        let names: &[&str] = match of {
            SwitchKind::DATABASE => &["harbour", "archive"],
            SwitchKind::SCHEMA => &["east.quay", "west.quay"],
            _ => &["small", "large"],
        };
        Ok(names.iter().map(|name| (*name).to_owned()).collect())
    }

    /// One schema a part: names of three levels. Where one schema is looked at the others are only named.
    fn catalog(&mut self, part: &CatalogPart<'_>, catalog: &mut Catalog) -> Result<bool, EngineError> {
        self.stand(&part.stop)?;
        let schemas = ["east.quay", "west.quay"];
        let Some(schema) = schemas.get(part.number) else { return Ok(false) };
        let shelf = catalog.object(schema, "shelf", ObjectKind::Table);
        if part.schema.is_none_or(|wanted| wanted == *schema) {
            shelf.columns =
                vec![Column { name: "n".into(), db_type: "number".into(), nullable: true, ..Column::default() }];
        }
        Ok(part.number + 1 < schemas.len())
    }
}
