//! A session: requests, and carrying out what they ask for.

use std::collections::HashMap;
use std::io;
use std::net::TcpStream;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use rusqlite::functions::FunctionFlags;
use rusqlite::types::{Value, ValueRef};
use rusqlite::{Connection, ErrorCode};

use super::hello::{self, Guest, MASTER};
use super::lex::{Kind, Token};
use super::parse::{self, Does, Execution, Module, Statement, Variable};
use super::plan::{self, Planned};
use super::say::{self, Line};
use super::sqlite::{self, Translated};
use super::types::{Reader, Type, text_of};
use super::wire::{ATTENTION, BATCH, CALL, Wire};
use super::{Shared, catalog, held};

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
    aborts: bool,
    /// The end that was not sent yet: it says whether more follows.
    pending: Option<(u8, u16, u16, u64)>,
    /// Procedures that are being carried out.
    within: Vec<String>,
    /// The error that is being handled.
    handled: Option<Line>,
    asked: Arc<AtomicU64>,
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
        db.execute("attach ?1 as dbo", [shared.data.to_string_lossy()])?;
        db.execute_batch("pragma dbo.journal_mode = wal; pragma foreign_keys = on;")?;
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
            aborts: false,
            pending: None,
            within: Vec::new(),
            handled: None,
            asked,
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

    fn fact(&self, name: &str, value: Value) {
        held(&self.facts).insert(name.to_owned(), value);
    }

    fn tell_facts(&self) {
        let text = |text: &str| Value::Text(text.to_owned());
        let session = held(&self.wire).session;
        let error = self.handled.clone();
        let mut facts = held(&self.facts);
        let mut put = |name: &str, value: Value| {
            facts.insert(name.to_owned(), value);
        };
        put("@@spid", Value::Integer(session.into()));
        put("@@trancount", Value::Integer(self.open));
        put("@@version", text("SQL Server, a stand-in over SQLite"));
        put("@@servername", text(say::NAME));
        put("db_name", text(&self.database));
        put("schema_name", text("dbo"));
        put("suser_sname", text(&self.guest.user));
        put("original_login", text(&self.guest.user));
        put("user_name", text("dbo"));
        put("app_name", text(&self.guest.program));
        put("host_name", text(&self.guest.machine));
        put("xact_state", Value::Integer(i64::from(self.open > 0)));
        let number = |number: Option<i64>| number.map_or(Value::Null, Value::Integer);
        put("error_number", number(error.as_ref().map(|line| line.number.into())));
        put("error_line", number(error.as_ref().map(|line| line.line.into())));
        put("error_severity", number(error.as_ref().map(|line| line.class.into())));
        put("error_state", number(error.as_ref().map(|line| line.state.into())));
        put("error_message", error.as_ref().map_or(Value::Null, |line| text(&line.text)));
        put(
            "error_procedure",
            error.as_ref().filter(|line| !line.procedure.is_empty()).map_or(Value::Null, |line| text(&line.procedure)),
        );
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

    fn commit(&mut self, line: u32) -> Outcome {
        match self.open {
            0 => {
                return Err(self.plain(
                    3902,
                    "The COMMIT TRANSACTION request has no corresponding BEGIN TRANSACTION.",
                    line,
                ));
            }
            1 => {
                self.db.execute_batch("commit").map_err(|error| self.fault(&error, &[], line))?;
                let number = self.transactions;
                self.open = 0;
                self.say(&say::transaction(9, number))?;
            }
            _ => self.open -= 1,
        }
        self.done(0, 0xD5, 0)
    }

    fn roll_back(&mut self) -> Outcome {
        // SQLite may have done so by itself.
        if !self.db.is_autocommit() {
            let _ = self.db.execute_batch("rollback");
        }
        self.open = 0;
        let number = self.transactions;
        self.say(&say::transaction(10, number))
    }

    fn go_to(&mut self, name: &str, line: u32) -> Outcome {
        let known = [self.shared.options.database.clone(), MASTER.to_owned()];
        let Some(name) = known.into_iter().find(|known| known.eq_ignore_ascii_case(name)) else {
            let text = format!("Database '{name}' does not exist. Make sure that the name is entered correctly.");
            return Err(self.plain(911, &text, line));
        };
        let before = std::mem::replace(&mut self.database, name.clone());
        self.say(&say::environment(1, &name, &before))?;
        let text = format!("Changed database context to '{name}'.");
        self.say(&say::info(&Line { number: 5701, state: 2, class: 0, text, line, procedure: String::new() }))?;
        self.done(0, 0, 0)
    }

    fn set(&mut self, words: &[Token], line: u32) -> Outcome {
        let on = words.last().is_some_and(|word| word.is("on"));
        let first = words.first().map(|word| word.text.to_ascii_lowercase()).unwrap_or_default();
        match first.as_str() {
            "nocount" => self.count = !on,
            "showplan_xml" => self.plans = on,
            "parseonly" | "noexec" => self.parses = on,
            "xact_abort" => self.aborts = on,
            "statistics" if words.get(1).is_some_and(|word| word.is("xml")) => self.measures = on,
            "" => return Err(Fault::Raised(syntax("Incorrect syntax near 'set'.".into(), line), true)),
            _ => {}
        }
        self.done(0, 0xF9, 0)
    }

    fn declare(&mut self, all: &[Variable], line: u32, scope: &mut Scope) -> Outcome {
        for variable in all {
            let name = variable.name.to_lowercase();
            if scope.values.contains_key(&name) {
                let text = format!(
                    "The variable name '{}' has already been declared. Variable names must be unique within a query batch or stored procedure.",
                    variable.name
                );
                return Err(Fault::Raised(Line { number: 134, ..syntax(text, line) }, true));
            }
            if variable.of.first().is_some_and(|token| token.is("table")) {
                // A table of the session under the variable's name, anew for each batch.
                let mut made: Vec<Token> = vec![variable.of[0].clone()];
                made[0].text = "create".into();
                made.push(Token { text: "table".into(), ..variable.of[0].clone() });
                made.push(Token { text: format!("#{name}"), ..variable.of[0].clone() });
                made.extend(variable.of.iter().skip(1).cloned());
                let _ = self.db.execute_batch(&format!("drop table if exists temp.\"#{name}\""));
                let made = sqlite::translate(&made, &self.database).map_err(|text| self.plain(40515, &text, line))?;
                self.db.execute_batch(&made.text).map_err(|error| self.fault(&error, &variable.of, line))?;
                continue;
            }
            let value = if variable.value.is_empty() { Value::Null } else { self.value(&variable.value, line, scope)? };
            scope.types.insert(name.clone(), Type::of(&variable.of));
            scope.values.insert(name.clone(), Value::Null);
            assign(scope, &name, value, line)?;
        }
        Ok(())
    }

    /// What an expression gives.
    fn value(&mut self, tokens: &[Token], line: u32, scope: &Scope) -> Outcome<Value> {
        let text = format!("select {}", sqlite::expression(&with_tables(tokens, scope), &self.database));
        self.tell_facts();
        self.fill_catalog(tokens);
        let mut prepared = self.db.prepare(&text).map_err(|error| self.fault(&error, tokens, line))?;
        bind(&mut prepared, scope, line)?;
        let mut rows = prepared.raw_query();
        let first = rows.next().map_err(|error| self.fault(&error, tokens, line))?;
        first.map_or(Ok(Value::Null), |row| row.get(0)).map_err(|error| self.fault(&error, tokens, line))
    }

    fn is_true(&mut self, condition: &[Token], line: u32, scope: &Scope) -> Outcome<bool> {
        Ok(match self.value(condition, line, scope)? {
            Value::Integer(number) => number != 0,
            Value::Real(number) => number != 0.0,
            _ => false,
        })
    }

    fn raise_error(&mut self, arguments: &[Vec<Token>], at_once: bool, line: u32, scope: &mut Scope) -> Outcome {
        let mut values = Vec::new();
        for argument in arguments {
            values.push(self.value(argument, line, scope)?);
        }
        let mut text = values.first().map(|value| text_of(ValueRef::from(value))).unwrap_or_default();
        for value in values.iter().skip(3) {
            let value = text_of(ValueRef::from(value));
            if let Some(at) = text.find("%s").or_else(|| text.find("%d")) {
                text.replace_range(at..at + 2, &value);
            }
        }
        let number = |at: usize| match values.get(at) {
            Some(Value::Integer(number)) => u8::try_from(*number).unwrap_or(16),
            _ => 16,
        };
        let told = Line { number: 50000, state: number(2), class: number(1), text, line, procedure: self.procedure() };
        if told.class > 10 {
            return Err(Fault::Raised(told, false));
        }
        self.say(&say::info(&told))?;
        if at_once {
            held(&self.wire).flush()?;
        }
        Ok(())
    }

    fn throw(&mut self, arguments: &[Vec<Token>], line: u32, scope: &mut Scope) -> Outcome {
        if arguments.is_empty() {
            return match self.handled.take() {
                Some(handled) => Err(Fault::Raised(handled, true)),
                None => Err(self.plain(
                    10704,
                    "To rethrow an error, a THROW statement must be used inside a CATCH block.",
                    line,
                )),
            };
        }
        let mut values = Vec::new();
        for argument in arguments {
            values.push(text_of(ValueRef::from(&self.value(argument, line, scope)?)));
        }
        let number = values.first().and_then(|number| number.parse().ok()).unwrap_or(50000);
        let text = values.get(1).cloned().unwrap_or_default();
        let state = values.get(2).and_then(|state| state.parse().ok()).unwrap_or(1);
        Err(Fault::Raised(Line { number, state, class: 16, text, line, procedure: self.procedure() }, true))
    }

    fn try_and_handle(&mut self, inside: &[Statement], handler: &[Statement], scope: &mut Scope) -> Outcome {
        self.within.push(TRIED.to_owned());
        let outcome = self.all(inside, scope);
        while self.within.pop().is_some_and(|name| name != TRIED) {}
        let Err(Fault::Raised(line, _)) = outcome else { return outcome };
        let before = self.handled.replace(line);
        let outcome = self.all(handler, scope);
        self.handled = before;
        outcome
    }

    /// A module is made, or made anew.
    fn make(&mut self, module: &Module, line: u32) -> Outcome {
        let name = module.name.to_lowercase();
        if !module.replaces && held(&self.shared.modules).contains_key(&name) {
            let text = format!("There is already an object named '{}' in the database.", module.name);
            return Err(self.plain(2714, &text, line));
        }
        if module.kind == "view" {
            let query =
                sqlite::translate(&module.body, &self.database).map_err(|text| self.plain(40515, &text, line))?;
            // A view of SQLite names no place, since a file may be opened under another name.
            let query = query.text.replace("dbo.", "");
            let made = format!("drop view if exists dbo.\"{0}\"; create view dbo.\"{0}\" as {query}", module.name);
            self.db.execute_batch(&made).map_err(|error| self.fault(&error, &module.body, line))?;
        } else {
            parse::statements(&module.body)
                .map_err(|(text, line)| Fault::Raised(syntax(text, line), true))
                .map(drop)
                .or_else(|fault| if module.kind == "procedure" { Err(fault) } else { Ok(()) })?;
        }
        held(&self.shared.modules).insert(name, module.clone());
        self.done(0, 0xDE, 0)
    }

    fn execute(&mut self, execution: &Execution, line: u32, scope: &mut Scope) -> Outcome {
        if self.within.len() >= DEEPEST {
            return Err(self.plain(
                217,
                "Maximum stored procedure, function, trigger, or view nesting level exceeded (limit 32).",
                line,
            ));
        }
        let mut values = Vec::new();
        for (name, tokens, output) in &execution.arguments {
            // A bare word is a text there.
            let value = match tokens.as_slice() {
                [token] if token.kind == Kind::Word && token.is("default") => Value::Null,
                [token] if token.kind == Kind::Word && !token.text.starts_with('@') && !token.is("null") => {
                    Value::Text(token.text.clone())
                }
                tokens => self.value(tokens, line, scope)?,
            };
            let back = tokens.first().map(|token| token.text.clone()).filter(|_| *output);
            values.push((name.clone(), value, back));
        }
        let text_at =
            |at: usize| values.get(at).map(|(_, value, _)| text_of(ValueRef::from(value))).unwrap_or_default();
        match execution.name.to_lowercase().as_str() {
            "" => return self.inside("", |session| session.batch(&text_at(0), &mut Scope::default())),
            "sp_executesql" => {
                let mut own = Scope::default();
                let declared = format!("declare {}", text_at(1));
                if let (Some(_), Ok(statements)) = (values.get(1), parse::batch(&declared)) {
                    self.all(&statements, &mut own)?;
                    let names: Vec<String> = match statements.first().map(|statement| &statement.does) {
                        Some(Does::Declare(all)) => all.iter().map(|variable| variable.name.to_lowercase()).collect(),
                        _ => Vec::new(),
                    };
                    for (at, (name, value, _)) in values.iter().skip(2).enumerate() {
                        let name = name.clone().map(|name| name.to_lowercase()).or_else(|| names.get(at).cloned());
                        own.values.insert(name.unwrap_or_default(), value.clone());
                    }
                }
                return self.inside("", |session| session.batch(&text_at(0), &mut own));
            }
            "sp_describe_first_result_set" => {
                let statements =
                    parse::batch(&text_at(0)).map_err(|(text, line)| Fault::Raised(syntax(text, line), true))?;
                // The types of its parameters may be any: they are NULL.
                let mut own = Scope::default();
                for part in text_at(1).split(',') {
                    let name = part.split_whitespace().next().unwrap_or_default();
                    own.values.insert(name.to_lowercase(), Value::Null);
                }
                for statement in &statements {
                    self.plan_of(statement, "", &mut own)?;
                }
                return Ok(());
            }
            "sp_reset_connection" | "sp_set_session_context" => return Ok(()),
            _ => {}
        }
        let module = held(&self.shared.modules).get(&execution.name.to_lowercase()).cloned();
        let Some(module) = module.filter(|module| module.kind == "procedure") else {
            let text = format!("Could not find stored procedure '{}'.", execution.name);
            return Err(self.plain(2812, &text, line));
        };
        let mut own = Scope::default();
        for (at, parameter) in module.parameters.iter().enumerate() {
            let named = values
                .iter()
                .find(|(name, ..)| name.as_deref().is_some_and(|name| name.eq_ignore_ascii_case(&parameter.name)));
            let given = named.or_else(|| values.get(at).filter(|(name, ..)| name.is_none()));
            let value = match given {
                Some((_, value, _)) => value.clone(),
                None if !parameter.value.is_empty() => self.value(&parameter.value, line, scope)?,
                None => {
                    let text = format!(
                        "Procedure or function '{}' expects parameter '{}', which was not supplied.",
                        module.name, parameter.name
                    );
                    return Err(self.plain(201, &text, line));
                }
            };
            own.types.insert(parameter.name.to_lowercase(), Type::of(&parameter.of));
            own.values.insert(parameter.name.to_lowercase(), value);
        }
        let statements =
            parse::statements(&module.body).map_err(|(text, line)| Fault::Raised(syntax(text, line), true))?;
        let mut returned = 0;
        self.inside(&module.name, |session| match session.all(&statements, &mut own) {
            Err(Fault::Return(status)) => {
                returned = status;
                Ok(())
            }
            outcome => outcome,
        })?;
        for (at, parameter) in module.parameters.iter().enumerate() {
            let named = values
                .iter()
                .find(|(name, ..)| name.as_deref().is_some_and(|name| name.eq_ignore_ascii_case(&parameter.name)));
            let given = named.or_else(|| values.get(at).filter(|(name, ..)| name.is_none()));
            if let Some((_, _, Some(back))) = given
                && let Some(value) = own.values.get(&parameter.name.to_lowercase())
            {
                assign(scope, back, value.clone(), line)?;
            }
        }
        if let Some(variable) = &execution.returned {
            assign(scope, variable, Value::Integer(returned.into()), line)?;
        }
        self.say(&say::status(returned))?;
        self.end_pending(true)?;
        self.pending = Some((0xFE, 0, 0xE0, 0));
        Ok(())
    }

    /// Does something as a procedure of this name.
    fn inside(&mut self, name: &str, work: impl FnOnce(&mut Session) -> Outcome) -> Outcome {
        let depth = self.within.len();
        self.within.push(name.to_owned());
        let outcome = work(self);
        self.within.truncate(depth);
        outcome
    }

    fn fill_catalog(&self, tokens: &[Token]) {
        let reads =
            tokens.windows(3).any(|three| three[0].is("sys") && three[1].is(".") && catalog::is_table(&three[2].text));
        if reads && let Err(error) = catalog::fill(&self.db, &self.shared) {
            eprintln!("the catalog of the stand-in: {error}");
        }
    }

    /// Carries out what SQLite can.
    fn sql(&mut self, tokens: &[Token], line: u32, scope: &mut Scope) -> Outcome {
        let lead = tokens.first().map(|token| token.text.to_ascii_lowercase()).unwrap_or_default();
        if matches!(lead.as_str(), "grant" | "deny" | "revoke" | "dbcc" | "checkpoint") {
            return self.done(0, 0, 0);
        }
        if lead == "kill" {
            let number = tokens.get(1).and_then(|token| token.text.parse::<u16>().ok()).unwrap_or_default();
            if let Some(stream) = held(&self.shared.sessions).remove(&number) {
                let _ = stream.shutdown(std::net::Shutdown::Both);
            }
            return self.done(0, 0, 0);
        }
        if let Some(made) = self.dropped(tokens) {
            return made;
        }
        // A word of other languages, which is read as another name of the table before it.
        let limit = tokens.windows(2).find(|two| two[0].is("limit") && matches!(two[1].kind, Kind::Number));
        if let Some([_, number]) = limit {
            return Err(Fault::Raised(syntax(format!("Incorrect syntax near '{}'.", number.text), number.line), true));
        }
        if let Some(assigned) = assignments(tokens) {
            return self.assign_all(tokens, &assigned, line, scope);
        }
        let tokens = with_tables(tokens, scope);
        let translated = sqlite::translate(&tokens, &self.database).map_err(|text| self.plain(40515, &text, line))?;
        self.tell_facts();
        self.fill_catalog(&tokens);
        let command = command(&lead);
        let rows = self.carry_out(&translated, &tokens, line, scope, command)?;
        self.fact("@@rowcount", Value::Integer(rows as i64));
        self.fact("@@error", Value::Integer(0));
        if lead == "insert" {
            let last = self.db.last_insert_rowid();
            self.fact("@@identity", Value::Integer(last));
            self.fact("scope_identity", Value::Integer(last));
        }
        if self.measures && matches!(lead.as_str(), "select" | "insert" | "update" | "delete" | "with") {
            let planned = Planned {
                kind: plan::kind(&tokens),
                text: sqlite::written(&tokens),
                rows,
                met: Some(rows),
                steps: plan::steps(&self.db, &translated.text),
            };
            self.show(&plan::document(&[planned]))?;
        }
        Ok(())
    }

    /// A result of one text.
    fn show(&mut self, text: &str) -> Outcome {
        self.say(&described(&["plan".to_owned()], &[Type::NVarChar(None)]))?;
        let mut row = vec![0xD1];
        Type::NVarChar(None).put(ValueRef::Text(text.as_bytes()), &mut row);
        self.say(&row)?;
        self.done(COUNTED, 0xC1, 1)
    }

    /// `DROP` of a module: SQLite knows no procedures.
    fn dropped(&mut self, tokens: &[Token]) -> Option<Outcome> {
        let [drop, kind, rest @ ..] = tokens else { return None };
        if !drop.is("drop") || !kind.is_one(&["procedure", "proc", "function", "trigger", "view"]) {
            return None;
        }
        let lenient = rest.first().is_some_and(|token| token.is("if"));
        let name = rest.last().map(|token| token.text.clone()).unwrap_or_default();
        let known = held(&self.shared.modules).remove(&name.to_lowercase()).is_some();
        if kind.is("view") {
            let words = if lenient { "if exists " } else { "" };
            let made = self.db.execute_batch(&format!("drop view {words}dbo.\"{name}\""));
            return Some(made.map_err(|error| self.fault(&error, tokens, kind.line)).and_then(|()| self.done(0, 0, 0)));
        }
        if !known && !lenient {
            let text =
                format!("Cannot drop the procedure '{name}', because it does not exist or you do not have permission.");
            return Some(Err(self.plain(3701, &text, kind.line)));
        }
        Some(self.done(0, 0, 0))
    }

    /// `SELECT @a = …`: gives variables values, and nothing else.
    fn assign_all(&mut self, tokens: &[Token], names: &[String], line: u32, scope: &mut Scope) -> Outcome {
        // Without the names and their signs it is a query.
        let mut query = Vec::new();
        let (mut depth, mut at, mut item) = (0_i32, 0, true);
        while let Some(token) = tokens.get(at) {
            if item && depth == 0 && token.text.starts_with('@') && tokens.get(at + 1).is_some_and(|next| next.is("="))
            {
                at += 2;
                item = false;
                continue;
            }
            depth += i32::from(token.is("(")) - i32::from(token.is(")"));
            item = at == 0 || (depth == 0 && token.is(","));
            query.push(token.clone());
            at += 1;
        }
        let query = with_tables(&query, scope);
        let translated = sqlite::translate(&query, &self.database).map_err(|text| self.plain(40515, &text, line))?;
        self.tell_facts();
        self.fill_catalog(&query);
        let mut found: Option<Vec<Value>> = None;
        let mut count = 0;
        {
            let mut prepared = self.db.prepare(&translated.text).map_err(|error| self.fault(&error, &query, line))?;
            bind(&mut prepared, scope, line)?;
            let mut rows = prepared.raw_query();
            while let Some(row) = rows.next().map_err(|error| self.fault(&error, &query, line))? {
                let values: Result<Vec<Value>, _> = (0..names.len()).map(|at| row.get(at)).collect();
                found = Some(values.map_err(|error| self.fault(&error, &query, line))?);
                count += 1;
            }
        }
        for (name, value) in names.iter().zip(found.unwrap_or_default()) {
            assign(scope, name, value, line)?;
        }
        self.fact("@@rowcount", Value::Integer(count));
        Ok(())
    }

    /// Carries a statement of SQLite out, and sends what it gives. How many rows that were.
    fn carry_out(
        &mut self,
        translated: &Translated,
        tokens: &[Token],
        line: u32,
        scope: &Scope,
        command: u16,
    ) -> Outcome<u64> {
        self.end_pending(true)?;
        let (wire, count) = (Arc::clone(&self.wire), self.count);
        let fault = |error: &rusqlite::Error| self.fault(error, tokens, line);
        let mut prepared = self.db.prepare(&translated.text).map_err(|error| fault(&error))?;
        let columns: Vec<(String, Option<Type>)> = prepared
            .columns()
            .map(|column| (column.name().to_owned(), column.decl_type().and_then(Type::declared)))
            .collect();
        bind(&mut prepared, scope, line)?;
        if columns.is_empty() {
            let changed = prepared.raw_execute().map_err(|error| fault(&error))? as u64;
            drop(prepared);
            let counted = command != 0 && count;
            self.done(if counted { COUNTED } else { 0 }, command, if counted { changed } else { 0 })?;
            return Ok(changed);
        }
        let mut rows = prepared.raw_query();
        let mut next = rows.next().map_err(|error| fault(&error))?;
        // What has no type yet has that of its first value.
        let types: Vec<Type> = columns
            .iter()
            .enumerate()
            .map(|(at, (_, declared))| {
                let first = next.as_ref().and_then(|row| row.get_ref(at).ok());
                let cast = translated.cast.get(at).copied().flatten();
                cast.or(*declared).or_else(|| first.map(Type::for_value)).unwrap_or(Type::Int(4))
            })
            .collect();
        let names: Vec<String> = columns
            .into_iter()
            .zip(&translated.cast_names(tokens))
            .map(|((name, _), own)| own.clone().unwrap_or(name))
            .collect();
        held(&wire).say(&described(&names, &types))?;
        let (mut given, mut bytes) = (0_u64, Vec::new());
        let mut failed = None;
        while let Some(row) = next {
            bytes.push(0xD1);
            for (at, of) in types.iter().enumerate() {
                of.put(row.get_ref(at).unwrap_or(ValueRef::Null), &mut bytes);
            }
            given += 1;
            if bytes.len() > 1 << 14 || given < 64 {
                let mut wire = held(&wire);
                wire.say(&bytes)?;
                // The first rows are not kept back.
                if given < 64 && given.is_power_of_two() {
                    wire.flush()?;
                }
                bytes.clear();
            }
            if given.is_multiple_of(512) && held(&wire).is_stopped() {
                return Err(Fault::Stopped);
            }
            match rows.next() {
                Ok(row) => next = row,
                Err(error) => {
                    failed = Some(fault(&error));
                    break;
                }
            }
        }
        drop(rows);
        drop(prepared);
        held(&wire).say(&bytes)?;
        if let Some(fault) = failed {
            return Err(fault);
        }
        self.done(if self.count { COUNTED } else { 0 }, command, if self.count { given } else { 0 })?;
        Ok(given)
    }

    /// An error of SQLite, as the server tells it.
    fn fault(&self, error: &rusqlite::Error, tokens: &[Token], line: u32) -> Fault {
        let text = match error {
            rusqlite::Error::SqliteFailure(_, Some(text)) => text.clone(),
            rusqlite::Error::SqlInputError { msg, .. } => msg.clone(),
            rusqlite::Error::UserFunctionError(inside) => inside.to_string(),
            other => other.to_string(),
        };
        if error.sqlite_error_code() == Some(ErrorCode::OperationInterrupted) {
            return Fault::Stopped;
        }
        let behind =
            |start: &str| text.strip_prefix(start).map(|rest| rest.split(" in ").next().unwrap_or(rest).to_owned());
        // Where the word stands that it is about.
        let line_of = |name: &str| {
            let last = name.rsplit('.').next().unwrap_or(name);
            tokens.iter().find(|token| token.text.eq_ignore_ascii_case(last)).map_or(line, |token| token.line)
        };
        let quoted = text.split('"').nth(1).unwrap_or_default().to_owned();
        let (number, class, told, line, ends) = if let Some(name) = behind("no such table: ") {
            let shown = name.trim_start_matches("main.").to_owned();
            (208, 16, format!("Invalid object name '{shown}'."), line_of(&shown), true)
        } else if let Some(name) = behind("no such column: ") {
            let last = name.rsplit('.').next().unwrap_or(&name).trim_matches('"').to_owned();
            (207, 16, format!("Invalid column name '{last}'."), line_of(&last), true)
        } else if let Some(name) = behind("no such function: ") {
            (195, 15, format!("'{name}' is not a recognized built-in function name."), line_of(&name), true)
        } else if text.contains("syntax error") {
            (102, 15, format!("Incorrect syntax near '{quoted}'."), line_of(&quoted), true)
        } else if text.contains("incomplete input") {
            (102, 15, "Incorrect syntax near the end of the statement.".to_owned(), line, true)
        } else if text.contains("UNIQUE constraint failed") {
            (
                2627,
                14,
                format!("Violation of UNIQUE KEY constraint. Cannot insert duplicate key in object ({text})."),
                line,
                false,
            )
        } else if text.contains("constraint failed") {
            (547, 16, format!("The statement conflicted with a constraint ({text})."), line, false)
        } else if text.contains("integer overflow") {
            (8115, 16, "Arithmetic overflow error converting expression to data type bigint.".to_owned(), line, false)
        } else if matches!(error.sqlite_error_code(), Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked)) {
            (1222, 16, "Lock request time out period exceeded.".to_owned(), line, false)
        } else {
            (50001, 16, text.clone(), line, false)
        };
        Fault::Raised(Line { number, state: 1, class, text: told, line, procedure: self.procedure() }, ends)
    }

    /// The plans of a batch.
    fn show_plans(&mut self, statements: &[Statement], text: &str, scope: &mut Scope) -> Outcome {
        let mut planned = Vec::new();
        for statement in statements {
            planned.extend(self.plan_of(statement, text, scope)?);
        }
        self.show(&plan::document(&planned))
    }

    fn plan_of(&mut self, statement: &Statement, text: &str, scope: &mut Scope) -> Outcome<Vec<Planned>> {
        let line = statement.line;
        let simple =
            |kind: &'static str| Planned { kind, text: text.to_owned(), rows: 1, met: None, steps: Vec::new() };
        Ok(match &statement.does {
            Does::Sql(tokens) => {
                let kind = plan::kind(tokens);
                if assignments(tokens).is_some() {
                    return Ok(vec![simple("ASSIGN WITH QUERY")]);
                }
                if !matches!(kind, "SELECT" | "SELECT WITHOUT QUERY" | "INSERT" | "UPDATE" | "DELETE") {
                    return Ok(vec![simple(kind)]);
                }
                let tokens = with_tables(tokens, scope);
                let translated =
                    sqlite::translate(&tokens, &self.database).map_err(|text| self.plain(40515, &text, line))?;
                self.tell_facts();
                self.fill_catalog(&tokens);
                let prepared = self.db.prepare(&translated.text).map_err(|error| self.fault(&error, &tokens, line))?;
                for at in 1..=prepared.parameter_count() {
                    let name = prepared.parameter_name(at).unwrap_or_default();
                    if !scope.values.contains_key(&name.to_lowercase()) {
                        return Err(undeclared(name, line));
                    }
                }
                drop(prepared);
                let rows = self.estimated(&tokens, scope);
                let steps = plan::steps(&self.db, &translated.text);
                vec![Planned { kind, text: sqlite::written(&tokens), rows, met: None, steps }]
            }
            Does::Declare(all) => {
                for variable in all {
                    scope.values.insert(variable.name.to_lowercase(), Value::Null);
                }
                Vec::new()
            }
            Does::Assign(..) => vec![simple("ASSIGN")],
            Does::Set(_) => vec![simple("SET ON/OFF")],
            Does::Print(_) => vec![simple("PRINT")],
            Does::Raise(..) => vec![simple("RAISERROR")],
            Does::Throw(_) => vec![simple("THROW")],
            Does::Wait(_) => vec![simple("WAITFOR")],
            Does::Begin => vec![simple("BEGIN TRANSACTION")],
            Does::Commit => vec![simple("COMMIT TRANSACTION")],
            Does::RollBack(_) => vec![simple("ROLLBACK TRANSACTION")],
            Does::Save(_) => vec![simple("SAVE TRANSACTION")],
            Does::Use(_) => vec![simple("USE DATABASE")],
            Does::Return(_) => vec![simple("RETURN")],
            Does::Break | Does::Continue => vec![simple("GOTO")],
            Does::Make(module) => vec![simple(if module.kind == "view" { "CREATE VIEW" } else { "CREATE PROC" })],
            Does::If(_, then, otherwise) => {
                let mut all = vec![simple("COND")];
                all.extend(self.plan_of(then, text, scope)?);
                if let Some(otherwise) = otherwise {
                    all.extend(self.plan_of(otherwise, text, scope)?);
                }
                all
            }
            Does::While(_, body) => {
                let mut all = vec![simple("COND")];
                all.extend(self.plan_of(body, text, scope)?);
                all
            }
            Does::Block(inside) => self.plans_of(inside, text, scope)?,
            Does::Try(inside, handler) => {
                let mut all = self.plans_of(inside, text, scope)?;
                all.extend(self.plans_of(handler, text, scope)?);
                all
            }
            Does::Execute(execution)
                if execution.name.is_empty() || execution.name.eq_ignore_ascii_case("sp_executesql") =>
            {
                vec![simple("EXECUTE STRING")]
            }
            Does::Execute(execution) => {
                let module = held(&self.shared.modules).get(&execution.name.to_lowercase()).cloned();
                let mut all = vec![simple("EXECUTE PROC")];
                if let Some(module) = module {
                    let mut own = Scope::default();
                    for parameter in &module.parameters {
                        own.values.insert(parameter.name.to_lowercase(), Value::Null);
                    }
                    let inside = parse::statements(&module.body)
                        .map_err(|(text, line)| Fault::Raised(syntax(text, line), true))?;
                    all.extend(self.plans_of(&inside, text, &mut own)?);
                }
                all
            }
        })
    }

    fn plans_of(&mut self, all: &[Statement], text: &str, scope: &mut Scope) -> Outcome<Vec<Planned>> {
        let mut planned = Vec::new();
        for statement in all {
            planned.extend(self.plan_of(statement, text, scope)?);
        }
        Ok(planned)
    }

    /// How many rows a statement would touch: counted, which is more than the server would know.
    fn estimated(&self, tokens: &[Token], scope: &Scope) -> u64 {
        let lead = tokens.first().map(|token| token.text.to_ascii_lowercase()).unwrap_or_default();
        let table = match lead.as_str() {
            "delete" => tokens
                .iter()
                .skip(1)
                .skip_while(|token| token.is("from"))
                .take_while(|token| token.is_name() || token.is("."))
                .filter(|token| !token.is("where"))
                .cloned()
                .collect::<Vec<_>>(),
            "update" => tokens.iter().skip(1).take_while(|token| !token.is("set")).cloned().collect(),
            _ => return 1,
        };
        let condition =
            tokens.iter().position(|token| token.is("where")).map(|at| tokens.get(at..).unwrap_or_default());
        let condition = condition.map(|tokens| sqlite::expression(tokens, &self.database)).unwrap_or_default();
        let query = format!("select count(*) from {} {condition}", sqlite::expression(&table, &self.database));
        let Ok(mut prepared) = self.db.prepare(&query) else { return 1 };
        if bind(&mut prepared, scope, 0).is_err() {
            return 1;
        }
        let mut rows = prepared.raw_query();
        rows.next().ok().flatten().and_then(|row| row.get::<_, i64>(0).ok()).map_or(1, |count| count as u64)
    }

    /// A call of a procedure by its number or name ([MS-TDS] 2.2.6.6).
    fn call(&mut self, message: &[u8]) -> Outcome {
        let broken = || Fault::Raised(syntax("The call could not be read.".into(), 1), true);
        let headers = u32::from_le_bytes(message.get(..4).and_then(|b| b.try_into().ok()).unwrap_or_default()) as usize;
        let mut from = Reader { bytes: message, at: headers };
        let length = from.u16().ok_or_else(broken)?;
        let name = match length {
            0xFFFF => match from.u16().ok_or_else(broken)? {
                10 => "sp_executesql".to_owned(),
                number => {
                    let text = format!("The procedure with the number {number} is not a part of this stand-in.");
                    return Err(Fault::Raised(syntax(text, 1), true));
                }
            },
            length => from.text(length.into()).ok_or_else(broken)?,
        };
        from.u16();
        let mut values: Vec<(String, bool, Value)> = Vec::new();
        while from.at < message.len() && message.get(from.at) != Some(&0x80) {
            let length = from.u8().ok_or_else(broken)?;
            let own = from.text(length.into()).ok_or_else(broken)?;
            let status = from.u8().ok_or_else(broken)?;
            values.push((own, status & 1 != 0, from.value().ok_or_else(broken)?));
        }
        let mut scope = Scope::default();
        if name.eq_ignore_ascii_case("sp_executesql") {
            let text =
                |at: usize| values.get(at).map(|(_, _, value)| text_of(ValueRef::from(value))).unwrap_or_default();
            let declared = text(1);
            let names: Vec<(String, Option<Type>)> = match parse::batch(&format!("declare {declared}")) {
                Ok(all) => match all.first().map(|statement| &statement.does) {
                    Some(Does::Declare(all)) => all.iter().map(|v| (v.name.to_lowercase(), Type::of(&v.of))).collect(),
                    _ => Vec::new(),
                },
                Err(_) => Vec::new(),
            };
            for (at, (own, _, value)) in values.iter().skip(2).enumerate() {
                let known = names.get(at).cloned();
                let name = if own.is_empty() {
                    known.as_ref().map(|(name, _)| name.clone()).unwrap_or_default()
                } else {
                    own.to_lowercase()
                };
                scope.types.insert(name.clone(), known.and_then(|(_, of)| of));
                scope.values.insert(name, value.clone());
            }
            let statement = text(0);
            let done = self.inside("", |session| session.batch(&statement, &mut scope));
            match done {
                Err(Fault::Raised(line, _)) => self.raise(&line)?,
                Err(Fault::Return(_)) => {}
                done => done?,
            }
        } else {
            // By name: as if it had been written.
            let arguments = values.iter().map(|(own, _, value)| {
                let name = Some(own.clone()).filter(|own| !own.is_empty());
                let text = text_of(ValueRef::from(value));
                let token = |kind, text: &str| Token { kind, text: text.to_owned(), line: 1, at: 0, end: 0 };
                let tokens = match value {
                    Value::Null => vec![token(Kind::Word, "null")],
                    Value::Integer(_) | Value::Real(_) => vec![token(Kind::Number, &text)],
                    _ => vec![token(Kind::Text, &text)],
                };
                (name, tokens, false)
            });
            let name = name.rsplit('.').next().unwrap_or(&name).trim_matches(['[', ']']).to_owned();
            let execution = Execution { returned: None, name, arguments: arguments.collect() };
            return self.execute(&execution, 1, &mut scope);
        }
        self.say(&say::status(0))?;
        for (at, (own, out, _)) in values.iter().enumerate().skip(2) {
            if *out {
                let value = scope.values.get(&own.to_lowercase()).cloned().unwrap_or(Value::Null);
                let of = scope.types.get(&own.to_lowercase()).copied().flatten().unwrap_or(Type::NVarChar(Some(4000)));
                let mut bytes = vec![0xAC];
                bytes.extend((at as u16).to_le_bytes());
                bytes.extend(say::short(own));
                bytes.extend([1, 0, 0, 0, 0, 1, 0]);
                bytes.extend(of.described());
                of.put(ValueRef::from(&value), &mut bytes);
                self.say(&bytes)?;
            }
        }
        self.end_pending(true)?;
        self.pending = Some((0xFE, 0, 0xE0, 0));
        Ok(())
    }

    /// A request of the manager of transactions: begin, commit, roll back.
    fn manage(&mut self, message: &[u8]) -> Outcome {
        let headers = u32::from_le_bytes(message.get(..4).and_then(|b| b.try_into().ok()).unwrap_or_default()) as usize;
        let does = match message.get(headers) {
            Some(5) => Does::Begin,
            Some(7) => Does::Commit,
            Some(8) => Does::RollBack(None),
            _ => return Err(Fault::Raised(syntax("This request is not a part of the stand-in.".into(), 1), true)),
        };
        self.one(&Statement { line: 1, does }, &mut Scope::default())
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

fn assign(scope: &mut Scope, name: &str, value: Value, line: u32) -> Outcome {
    let key = name.to_lowercase();
    let Some(known) = scope.values.get_mut(&key) else { return Err(undeclared(name, line)) };
    // Numbers that are kept as such.
    let of = scope.types.get(&key).copied().flatten();
    *known = match (of, value) {
        (Some(Type::Int(_)), Value::Real(number)) => Value::Integer(number as i64),
        (Some(Type::Int(_)), Value::Text(text)) => text.trim().parse().map(Value::Integer).unwrap_or(Value::Null),
        (Some(Type::NVarChar(_) | Type::VarChar(_)), value @ (Value::Integer(_) | Value::Real(_))) => {
            Value::Text(text_of(ValueRef::from(&value)))
        }
        (_, value) => value,
    };
    Ok(())
}

/// The variables that a `SELECT @a = …` gives values to; none where it is a query.
fn assignments(tokens: &[Token]) -> Option<Vec<String>> {
    if !tokens.first()?.is("select") {
        return None;
    }
    let (mut names, mut depth, mut item) = (Vec::new(), 0_i32, true);
    for (at, token) in tokens.iter().enumerate().skip(1) {
        if depth == 0 && token.is_one(&["from", "where", "order"]) {
            break;
        }
        if item && token.text.starts_with('@') && tokens.get(at + 1).is_some_and(|next| next.is("=")) {
            names.push(token.text.clone());
        }
        depth += i32::from(token.is("(")) - i32::from(token.is(")"));
        item = depth == 0 && token.is(",");
    }
    (!names.is_empty()).then_some(names)
}

/// Variables that are tables, under the names that they have in SQLite.
fn with_tables(tokens: &[Token], scope: &Scope) -> Vec<Token> {
    let table = |at: usize, token: &Token| {
        let before = at.checked_sub(1).and_then(|at| tokens.get(at));
        token.text.starts_with('@')
            && !scope.values.contains_key(&token.text.to_lowercase())
            && before.is_some_and(|before| before.is_one(&["from", "join", "into", "update", "insert"]))
    };
    let renamed = |(at, token): (usize, &Token)| match table(at, token) {
        true => Token { text: format!("#{}", token.text.to_lowercase()), ..token.clone() },
        false => token.clone(),
    };
    tokens.iter().enumerate().map(renamed).collect()
}

fn bind(prepared: &mut rusqlite::Statement<'_>, scope: &Scope, line: u32) -> Outcome {
    for at in 1..=prepared.parameter_count() {
        let name = prepared.parameter_name(at).unwrap_or_default().to_owned();
        let Some(value) = scope.values.get(&name.to_lowercase()) else { return Err(undeclared(&name, line)) };
        let bound = prepared.raw_bind_parameter(at, value);
        bound.map_err(|error| Fault::Raised(syntax(error.to_string(), line), true))?;
    }
    Ok(())
}

/// The server's number of what a statement does, where rows are counted.
fn command(lead: &str) -> u16 {
    match lead {
        "select" | "with" => 0xC1,
        "insert" => 0xC3,
        "delete" | "truncate" => 0xC4,
        "update" => 0xC5,
        _ => 0,
    }
}

/// The description of columns.
fn described(names: &[String], types: &[Type]) -> Vec<u8> {
    let mut bytes = vec![0x81];
    bytes.extend((types.len() as u16).to_le_bytes());
    for (name, of) in names.iter().zip(types) {
        let user_type = if *of == Type::RowVersion { 80_u32 } else { 0 };
        bytes.extend(user_type.to_le_bytes());
        // It may be NULL.
        bytes.extend([1, 0]);
        bytes.extend(of.described());
        if of.is_old() {
            bytes.push(1);
            bytes.extend(say::long("t"));
        }
        bytes.extend(say::short(name));
    }
    bytes
}

fn text_behind_headers(message: &[u8]) -> String {
    let headers = u32::from_le_bytes(message.get(..4).and_then(|b| b.try_into().ok()).unwrap_or_default()) as usize;
    let text = message.get(headers..).unwrap_or_default();
    let units: Vec<u16> = text.chunks_exact(2).map(|unit| u16::from_le_bytes([unit[0], unit[1]])).collect();
    String::from_utf16_lossy(&units)
}

impl Translated {
    /// The names of columns that a query names itself by `name = expression`, or that have none; SQLite takes the text of
    /// an expression for its name, and the server has none.
    fn cast_names(&self, tokens: &[Token]) -> Vec<Option<String>> {
        let lead = tokens.first().is_some_and(|token| token.is("select"));
        if !lead {
            return vec![None; 4096];
        }
        let (mut depth, mut at) = (0_i32, 1);
        while tokens.get(at).is_some_and(|token| token.is_one(&["distinct", "all"])) {
            at += 1;
        }
        if tokens.get(at).is_some_and(|token| token.is("top")) {
            at += if tokens.get(at + 1).is_some_and(|token| token.is("(")) { 4 } else { 2 };
        }
        let start = at;
        while let Some(token) = tokens.get(at) {
            if depth == 0
                && token.is_one(&["from", "into", "where", "order", "union", "except", "intersect", "option", "for"])
            {
                break;
            }
            depth += i32::from(token.is("(")) - i32::from(token.is(")"));
            at += 1;
        }
        let items = parse::parted(tokens.get(start..at).unwrap_or_default());
        if items.iter().any(|item| item.last().is_some_and(|token| token.is("*"))) {
            return vec![None; 4096];
        }
        let name = |item: &Vec<Token>| match item.as_slice() {
            [one] if one.is_name() && !one.text.starts_with('@') => None,
            [.., point, _] if point.is(".") => None,
            [.., before, last] if last.is_name() && !before.is_one(&["+", "-", "*", "/", "%", "||", "end", "("]) => {
                Some(last.text.clone())
            }
            _ => Some(String::new()),
        };
        let mut names: Vec<_> = items.iter().map(name).collect();
        names.resize(4096, None);
        names
    }
}

/// Functions that tell what the session knows.
fn add_facts(db: &Connection, facts: &Facts) -> rusqlite::Result<()> {
    let plain = FunctionFlags::SQLITE_UTF8;
    let names = [
        "db_name",
        "schema_name",
        "suser_sname",
        "original_login",
        "user_name",
        "app_name",
        "host_name",
        "xact_state",
        "scope_identity",
        "error_number",
        "error_line",
        "error_severity",
        "error_state",
        "error_message",
        "error_procedure",
    ];
    for name in names {
        let facts = Arc::clone(facts);
        db.create_scalar_function(name, -1, plain, move |_| {
            Ok(held(&facts).get(name).cloned().unwrap_or(Value::Null))
        })?;
    }
    let known = Arc::clone(facts);
    db.create_scalar_function("server_variable", 1, plain, move |context| {
        let name: String = context.get(0)?;
        Ok(held(&known).get(&name).cloned().unwrap_or(Value::Integer(0)))
    })?;
    db.create_scalar_function("serverproperty", 1, plain, |context| {
        let name: String = context.get(0)?;
        Ok(match name.to_ascii_lowercase().as_str() {
            "productversion" => Value::Text("16.0.4100.0".into()),
            "edition" => Value::Text("Stand-in".into()),
            "collation" => Value::Text("Latin1_General_CI_AS".into()),
            _ => Value::Null,
        })
    })
}
