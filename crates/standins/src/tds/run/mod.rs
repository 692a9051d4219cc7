//! A session: requests, and carrying out what they ask for.

mod altering;
mod bulk;
mod databases;
mod errors;
mod facts;
mod plans;
mod procedures;
mod queries;
mod transactions;

use std::collections::HashMap;
use std::io;
use std::net::TcpStream;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use rusqlite::Connection;
use rusqlite::types::{Value, ValueRef};

use self::facts::add_facts;
use self::queries::assign;
use crate::tds::hello::{self, Guest};
use crate::tds::parse::{self, Does, Statement};
use crate::tds::say::{self, Line};
use crate::tds::sqlite;
use crate::tds::types::{Type, text_of};

use crate::tds::wire::{ATTENTION, BATCH, CALL, ROWS, Wire};
use crate::tds::{Shared, catalog, held};

/// A request of the manager of transactions.
const TRANSACTION: u8 = 14;

/// Statements and procedures within each other, at most.
const DEEPEST: usize = 32;

/// What an end says: more follows, it failed, it is counted, it was stopped.
const MORE: u16 = 1;
const FAILED: u16 = 2;
const COUNTED: u16 = 0x10;
const STOPPED: u16 = 0x20;

/// Why something was not carried out to its end.
enum Fault {
    /// An error, which a handler may catch. Whether it ends the batch.
    Raised(Line, bool),
    /// Somebody wished an end.
    Stopped,
    /// The client is gone.
    Gone(io::Error),
    Break,
    Continue,
    Return(i32),
}

impl From<io::Error> for Fault {
    fn from(error: io::Error) -> Fault {
        Fault::Gone(error)
    }
}

type Outcome<T = ()> = Result<T, Fault>;

/// What functions tell of the session.
type Facts = Arc<Mutex<HashMap<String, Value>>>;

struct Session {
    wire: Arc<Mutex<Wire>>,
    shared: Arc<Shared>,
    guest: Guest,
    db: Connection,
    facts: Facts,
    database: String,
    /// How many transactions are open within each other.
    open: i64,
    transactions: u64,
    count: bool,
    plans: bool,
    measures: bool,
    parses: bool,
    /// Queries only tell their columns.
    describes: bool,
    aborts: bool,
    /// The end that was not sent yet: it says whether more follows.
    pending: Option<(u8, u16, u16, u64)>,
    /// Procedures that are being carried out.
    within: Vec<String>,
    /// The error that is being handled.
    handled: Option<Line>,
    asked: Arc<AtomicU64>,
    /// Rows that were announced and have not come.
    bulk: Option<bulk::Bulk>,
}

/// The variables of a batch or a procedure: values, and their types.
#[derive(Default, Clone)]
struct Scope {
    values: HashMap<String, Value>,
    types: HashMap<String, Option<Type>>,
}

/// Serves a client to its end.
pub fn serve(stream: TcpStream, number: u16, shared: &Arc<Shared>) -> io::Result<()> {
    let mut wire = Wire::new(stream, number);
    let Some(guest) = hello::greet(&mut wire, shared)? else { return Ok(()) };
    let wire = Arc::new(Mutex::new(wire));
    let mut session = Session::begin(wire, shared, guest, number).map_err(io::Error::other)?;
    loop {
        let (kind, message) = {
            let mut wire = held(&session.wire);
            wire.attention = false;
            wire.message()?
        };
        if kind != ATTENTION {
            session.asked.fetch_add(1, Ordering::Relaxed);
        }
        match session.answer(kind, &message) {
            Ok(()) => {}
            Err(Fault::Gone(error)) => return Err(error),
            Err(_) => {}
        }
    }
}

impl Session {
    fn begin(wire: Arc<Mutex<Wire>>, shared: &Arc<Shared>, guest: Guest, number: u16) -> rusqlite::Result<Session> {
        let mut db = Connection::open_in_memory()?;
        databases::attach(&db, shared, &guest.database, "dbo")?;
        db.execute_batch("pragma foreign_keys = on;")?;
        db.busy_timeout(Duration::from_secs(2))?;
        catalog::make(&db)?;
        sqlite::add_functions(&db)?;
        let facts = Facts::default();
        add_facts(&db, &facts)?;
        // While SQLite is busy somebody may wish an end.
        let watched = Arc::clone(&wire);
        db.progress_handler(20_000, Some(move || watched.try_lock().is_ok_and(|mut wire| wire.is_stopped())))?;
        let asked = Arc::new(AtomicU64::new(0));
        held(&shared.asked).insert(number, Arc::clone(&asked));
        let database = guest.database.clone();
        Ok(Session {
            wire,
            shared: Arc::clone(shared),
            guest,
            db,
            facts,
            database,
            open: 0,
            transactions: 0,
            count: true,
            plans: false,
            measures: false,
            parses: false,
            describes: false,
            aborts: false,
            pending: None,
            within: Vec::new(),
            handled: None,
            asked,
            bulk: None,
        })
    }

    fn say(&mut self, bytes: &[u8]) -> Outcome {
        self.end_pending(true)?;
        Ok(held(&self.wire).say(bytes)?)
    }

    fn end_pending(&mut self, more: bool) -> Outcome {
        if let Some((token, status, command, rows)) = self.pending.take() {
            let status = if more { status | MORE } else { status };
            held(&self.wire).say(&say::done(token, status, command, rows))?;
        }
        Ok(())
    }

    fn done(&mut self, status: u16, command: u16, rows: u64) -> Outcome {
        self.end_pending(true)?;
        let token = if self.within.is_empty() { 0xFD } else { 0xFF };
        self.pending = Some((token, status, command, rows));
        Ok(())
    }

    /// Answers a request.
    fn answer(&mut self, kind: u8, message: &[u8]) -> Outcome {
        let outcome = match kind {
            BATCH => {
                let text = text_behind_headers(message);
                self.batch(&text, &mut Scope::default())
            }
            CALL => self.call(message),
            ROWS => self.rows(message),
            TRANSACTION => self.manage(message),
            ATTENTION => Err(Fault::Stopped),
            _ => Err(Fault::Gone(io::ErrorKind::InvalidData.into())),
        };
        self.within.clear();
        self.handled = None;
        match outcome {
            Ok(()) | Err(Fault::Return(_) | Fault::Break | Fault::Continue) => {}
            Err(Fault::Raised(line, _)) => {
                self.say(&say::error(&line))?;
                self.done(FAILED, 0, 0)?;
            }
            Err(Fault::Stopped) => {
                self.end_pending(true)?;
                held(&self.wire).say(&say::done(0xFD, STOPPED, 0, 0))?;
                return Ok(held(&self.wire).end()?);
            }
            Err(gone) => return Err(gone),
        }
        if self.pending.is_none() {
            self.pending = Some((0xFD, 0, 0, 0));
        }
        self.end_pending(false)?;
        let mut wire = held(&self.wire);
        wire.end()?;
        // A wish that came too late to end anything is acknowledged all the same, in a message of its own.
        if std::mem::take(&mut wire.attention) {
            wire.say(&say::done(0xFD, STOPPED, 0, 0))?;
            wire.end()?;
        }
        Ok(())
    }

    fn batch(&mut self, text: &str, scope: &mut Scope) -> Outcome {
        let statements = parse::batch(text).map_err(|(text, line)| Fault::Raised(syntax(text, line), true))?;
        if self.parses && !matches!(statements.as_slice(), [Statement { does: Does::Set(_), .. }]) {
            return Ok(());
        }
        let sets = matches!(statements.as_slice(), [Statement { does: Does::Set(words), .. }] if words.first().is_some_and(|word| word.is("showplan_xml")));
        if self.plans && !sets {
            return self.show_plans(&statements, text, scope);
        }
        self.all(&statements, scope)
    }

    /// Carries statements out; an error that does not end the batch is told, and the next one follows.
    fn all(&mut self, statements: &[Statement], scope: &mut Scope) -> Outcome {
        for statement in statements {
            match self.one(statement, scope) {
                Err(Fault::Raised(line, false)) if self.handled.is_none() && !self.is_tried() => {
                    self.raise(&line)?;
                    if self.aborts {
                        return self.abort();
                    }
                }
                outcome => outcome?,
            }
        }
        Ok(())
    }

    fn is_tried(&self) -> bool {
        self.within.iter().any(|name| name == TRIED)
    }

    fn raise(&mut self, line: &Line) -> Outcome {
        self.fact("@@error", Value::Integer(line.number.into()));
        self.say(&say::error(line))?;
        self.done(FAILED, 0, 0)
    }

    /// Ends the batch, and the transaction with it.
    fn abort(&mut self) -> Outcome {
        if self.open > 0 {
            self.roll_back()?;
        }
        Err(Fault::Return(0))
    }

    fn one(&mut self, statement: &Statement, scope: &mut Scope) -> Outcome {
        if held(&self.wire).is_stopped() {
            return Err(Fault::Stopped);
        }
        let line = statement.line;
        match &statement.does {
            Does::Sql(tokens) => self.sql(tokens, line, scope),
            Does::Declare(all) => self.declare(all, line, scope),
            Does::Assign(name, value) => {
                let value = self.value(value, line, scope)?;
                assign(scope, name, value, line)
            }
            Does::Set(words) => self.set(words, line),
            Does::Print(value) => {
                let value = self.value(value, line, scope)?;
                let text = text_of(ValueRef::from(&value));
                self.say(&say::info(&Line { number: 0, state: 1, class: 0, text, line, procedure: self.procedure() }))
            }
            Does::Raise(arguments, at_once) => self.raise_error(arguments, *at_once, line, scope),
            Does::Throw(arguments) => self.throw(arguments, line, scope),
            Does::If(condition, then, otherwise) => {
                if self.is_true(condition, line, scope)? {
                    self.one(then, scope)
                } else {
                    otherwise.as_ref().map_or(Ok(()), |otherwise| self.one(otherwise, scope))
                }
            }
            Does::While(condition, body) => {
                while self.is_true(condition, line, scope)? {
                    match self.one(body, scope) {
                        Err(Fault::Break) => break,
                        Err(Fault::Continue) => {}
                        outcome => outcome?,
                    }
                }
                Ok(())
            }
            Does::Block(inside) => self.all(inside, scope),
            Does::Try(inside, handler) => self.try_and_handle(inside, handler, scope),
            Does::Begin => {
                if self.open == 0 {
                    self.db.execute_batch("begin").map_err(|error| self.fault(&error, &[], line))?;
                    self.transactions += 1;
                    let number = self.transactions;
                    self.say(&say::transaction(8, number))?;
                }
                self.open += 1;
                self.done(0, 0xD4, 0)
            }
            Does::Commit => self.commit(line),
            Does::RollBack(None) => {
                if self.open == 0 {
                    return Err(self.plain(
                        3903,
                        "The ROLLBACK TRANSACTION request has no corresponding BEGIN TRANSACTION.",
                        line,
                    ));
                }
                self.roll_back()?;
                self.done(0, 0xD2, 0)
            }
            Does::RollBack(Some(name)) => {
                let back = self.db.execute_batch(&format!("rollback to \"{name}\""));
                back.map_err(|error| self.fault(&error, &[], line))?;
                self.done(0, 0xD2, 0)
            }
            Does::Save(name) => {
                self.db
                    .execute_batch(&format!("savepoint \"{name}\""))
                    .map_err(|error| self.fault(&error, &[], line))?;
                self.done(0, 0xD6, 0)
            }
            Does::Use(name) => self.go_to(name, line),
            Does::Execute(execution) => self.execute(execution, line, scope),
            Does::Wait(delay) => {
                let delay = self.value(delay, line, scope)?;
                let delay = super::dates::read(&text_of(ValueRef::from(&delay))).map_or(0, |moment| moment.ticks);
                let until = Instant::now() + Duration::from_nanos(delay.unsigned_abs() * 100);
                self.end_pending(true)?;
                held(&self.wire).flush()?;
                while Instant::now() < until {
                    if held(&self.wire).is_stopped() {
                        return Err(Fault::Stopped);
                    }
                    std::thread::sleep(Duration::from_millis(2));
                }
                Ok(())
            }
            Does::Return(value) if value.is_empty() => Err(Fault::Return(0)),
            Does::Return(value) => match self.value(value, line, scope)? {
                Value::Integer(number) => Err(Fault::Return(number as i32)),
                _ => Err(Fault::Return(0)),
            },
            Does::Break => Err(Fault::Break),
            Does::Continue => Err(Fault::Continue),
            Does::Make(module) => self.make(module, line),
        }
    }

    fn procedure(&self) -> String {
        self.within.iter().rev().find(|name| *name != TRIED).cloned().unwrap_or_default()
    }

    fn plain(&self, number: i32, text: &str, line: u32) -> Fault {
        let line = Line { number, state: 1, class: 16, text: text.to_owned(), line, procedure: self.procedure() };
        Fault::Raised(line, false)
    }
}

/// Stands among the procedures where errors are caught.
const TRIED: &str = "\u{0}try";

fn syntax(text: String, line: u32) -> Line {
    Line { number: 102, state: 1, class: 15, text, line, procedure: String::new() }
}

fn undeclared(name: &str, line: u32) -> Fault {
    Fault::Raised(Line { number: 137, ..syntax(format!("Must declare the scalar variable \"{name}\"."), line) }, true)
}

fn text_behind_headers(message: &[u8]) -> String {
    let headers = u32::from_le_bytes(message.get(..4).and_then(|b| b.try_into().ok()).unwrap_or_default()) as usize;
    let text = message.get(headers..).unwrap_or_default();
    let units: Vec<u16> = text.chunks_exact(2).map(|unit| u16::from_le_bytes([unit[0], unit[1]])).collect();
    String::from_utf16_lossy(&units)
}
