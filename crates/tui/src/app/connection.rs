//! Where statements run: the connection in hand, its runs, and what its thread tells.

use std::collections::HashMap;
use std::sync::Arc;

use jaunty_core::connection::{Connections, Profile};
use jaunty_core::engine::{EngineError, Object, ObjectKind, Place};
use jaunty_core::logbook::Outcome;
use jaunty_core::run::desk::jobs;
use jaunty_core::run::{Desk, Job, Order, Report, Run};
use jaunty_core::text::clean;
use jaunty_core::text::document::Motion;
use jaunty_core::text::outline::StatementId;

use super::summoned::Item;
use super::{Answered, App, List, Message, Pick, Question, Summoned};
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
}

/// The connection in hand.
pub struct Connection {
    /// All profiles.
    pub known: Connections,
    /// The one in hand.
    pub profile: Option<Profile>,
    /// How it stands.
    pub link: Link,
    /// Where the session is.
    pub place: Option<Place>,
    desk: Option<Desk>,
    /// Tells the reports of this connection from those of one that was left.
    number: u64,
    runs: HashMap<StatementId, Arc<Run>>,
    busy: bool,
}

impl Connection {
    pub(super) fn none(known: Connections) -> Connection {
        Connection {
            known,
            profile: None,
            link: Link::None,
            place: None,
            desk: None,
            number: 0,
            runs: HashMap::new(),
            busy: false,
        }
    }

    /// The last run of a statement.
    pub fn run_of(&self, id: StatementId) -> Option<&Arc<Run>> {
        self.runs.get(&id)
    }

    /// Whether something runs or waits to.
    pub fn is_busy(&self) -> bool {
        self.busy
    }

    /// Stops what runs.
    pub fn stop(&self) {
        if let Some(desk) = self.desk.as_ref().filter(|_| self.busy) {
            desk.stop();
        }
    }

    fn remember(&mut self, run: Arc<Run>) {
        self.runs.insert(run.id, run);
    }
}

impl App {
    /// Opens a connection and leaves the one in hand.
    pub fn connect(&mut self, profile: Profile) {
        self.connection.stop();
        let Some(engine) = self.engines.iter().copied().find(|engine| engine.name() == profile.engine) else {
            return self.tell_wrong(format!("there is no engine {}", profile.engine));
        };
        let number = self.connection.number + 1;
        let post = Arc::clone(&self.post);
        let tell = move |report| post(Message::Report(number, report));
        match Desk::open(engine, profile.clone(), None, self.keeping.clone(), tell) {
            Ok(desk) => {
                let known = std::mem::take(&mut self.connection.known);
                self.connection = Connection {
                    profile: Some(profile),
                    link: Link::Opening,
                    desk: Some(desk),
                    number,
                    ..Connection::none(known)
                };
                self.rows.forget();
            }
            Err(error) => self.tell_wrong(format!("no thread for the connection: {error}")),
        }
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
        let whole = document.current().and_then(|at| document.outline().statements().get(at));
        let title = whole.and_then(|s| s.title_text(document.rope(), document.outline().dialect()));
        if statement.is_empty() {
            return self.tell("there is no statement in the selection");
        }
        self.order(vec![Job { statement, title, buffer: Some(self.buffer.path.clone()), confirmed: false }]);
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
        let jobs = jobs(&self.buffer.document, range, Some(&self.buffer.path));
        self.order(jobs);
    }

    pub(super) fn order(&mut self, jobs: Vec<Job>) {
        match &self.connection.desk {
            Some(desk) => {
                if let Some(run) = self.connection.runs.values().find(|run| run.outcome() == Outcome::Running) {
                    let after = run.title.clone().unwrap_or_else(|| "the statement that runs".into());
                    self.told = None;
                    desk.ask(Order::Run(jobs));
                    return self.tell(format!("runs after {after}"));
                }
                self.connection.busy = true;
                self.told = None;
                desk.ask(Order::Run(jobs));
            }
            None if self.connection.known.profiles.is_empty() => {
                let remedy = "Write one into .jaunty/connections.toml, or start jaunty with a database file.";
                self.tell_wrong(format!("there is no connection to run it on. {remedy}"));
            }
            None => self.list_connections(),
        }
    }

    pub(super) fn report(&mut self, number: u64, report: Report) {
        if number != self.connection.number {
            return;
        }
        match report {
            Report::Connected(place, _) => {
                let again = matches!(self.connection.link, Link::Open | Link::Failed(_));
                self.connection.link = Link::Open;
                self.connection.place = Some(place);
                if again {
                    self.tell("connected again");
                }
            }
            Report::NotConnected(error) => {
                self.connection.busy = false;
                self.connection.place = None;
                self.connection.link = Link::Failed(error);
            }
            Report::Remembered(runs) => runs.into_iter().for_each(|run| self.connection.remember(run)),
            Report::Run(run) => {
                if run.end().is_none() {
                    self.connection.busy = true;
                }
                for notice in run.notices().iter().filter(|_| run.end().is_some()) {
                    self.tell(format!("{}: {}", notice.severity, clean::clean(&notice.text)));
                }
                self.connection.remember(run);
            }
            Report::Moved(place) => self.connection.place = Some(place),
            Report::Asks(jobs) => self.ask_before_writing(jobs),
            Report::Catalog(objects) => self.list_found_objects(objects),
            Report::Idle { left_out } => {
                self.connection.busy = false;
                self.after_runs(left_out);
            }
        }
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

    fn ask_before_writing(&mut self, jobs: Vec<Job>) {
        let Some(job) = jobs.first() else { return };
        let name = self.connection.profile.as_ref().map_or("", |p| p.name.as_str());
        let line = job.statement.lines().next().unwrap_or_default();
        let text = format!("{name} asks before anything that writes: {}", clean::fit(line, 60).text);
        let answers = &[('y', "yes, run it", Answered::Run), ('n', "no", Answered::Nothing)];
        self.summoned = Some(Summoned::Question(Question { jobs, ..Question::new(text, answers) }));
    }

    /// Lists the profiles.
    pub fn list_connections(&mut self) {
        let profiles = &self.connection.known.profiles;
        let items = profiles.iter().enumerate().map(|(index, profile)| Item {
            label: clean::clean(&profile.name).into_owned(),
            key: profile.guard.word().to_owned(),
            help: format!("{}  {}", profile.engine, clean::clean(profile.note.as_deref().unwrap_or_default())),
            pick: Pick::Connection(index),
        });
        let items: Vec<_> = items.collect();
        if items.is_empty() {
            return self.tell("no connections file names a connection");
        }
        self.summoned = Some(Summoned::List(List::new("connections", items)));
    }

    /// Asks for what the database holds.
    pub fn list_objects(&mut self) {
        match &self.connection.desk {
            Some(desk) => desk.ask(Order::Catalog),
            None => self.list_connections(),
        }
    }

    fn list_found_objects(&mut self, objects: Result<Vec<Object>, EngineError>) {
        let objects = match objects {
            Ok(objects) => objects,
            Err(error) => return self.tell_wrong(format!("the tables cannot be listed: {error}")),
        };
        let shown = objects.into_iter().filter(|o| matches!(o.kind, ObjectKind::Table | ObjectKind::View));
        let items = shown.map(|object| Item {
            label: clean::clean(&object.name).into_owned(),
            key: object.kind.word().to_owned(),
            help: object.columns.iter().map(|c| clean::clean(&c.name).into_owned()).collect::<Vec<_>>().join(", "),
            pick: Pick::Object { schema: object.schema, name: object.name },
        });
        let items: Vec<_> = items.collect();
        if items.is_empty() {
            return self.tell("the database holds no tables and no views");
        }
        self.summoned = Some(Summoned::List(List::new("tables", items)));
    }

    /// Puts a statement that shows an object's rows at the end of the buffer, and runs it. One that
    /// stands there already is used again.
    pub(super) fn look_at_object(&mut self, schema: &str, name: &str) {
        let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
        let plain = !name.is_empty()
            && name.bytes().all(|b| b.is_ascii_lowercase() || b == b'_' || b.is_ascii_digit())
            && !name.starts_with(|c: char| c.is_ascii_digit())
            && !self.buffer.document.outline().dialect().is_keyword(name);
        let table = if plain { name.to_owned() } else { quoted(name) };
        let table = if schema == "main" { table } else { format!("{}.{table}", quoted(schema)) };
        let statement = format!("select * from {table}");
        let id = StatementId::of(&statement);
        let document = &mut self.buffer.document;
        let there = document.outline().statements().iter().find(|s| StatementId::of(&s.text(document.rope())) == id);
        match there.map(|s| s.start) {
            Some(start) => document.go(Motion::To(start), false),
            None => {
                document.go(Motion::Bottom, false);
                let text = document.rope().to_string();
                let gap = match text.trim_end() {
                    "" => "",
                    trimmed if trimmed.len() + 2 <= text.len() => "",
                    trimmed if trimmed.len() < text.len() => "\n",
                    _ => "\n\n",
                };
                let semicolon = document.outline().statements().last().is_some_and(|s| s.end == s.body_end);
                if semicolon {
                    // The one before was the last and needed none.
                    let end = document.outline().statements().last().map_or(0, |s| s.body_end);
                    document.go(Motion::To(end), false);
                    document.insert(";");
                    document.go(Motion::Bottom, false);
                }
                document.insert(&format!("{gap}{statement};\n"));
                document.go(Motion::PreviousStatement, false);
            }
        }
        self.run_statement();
    }
}
