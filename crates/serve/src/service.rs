//! What programs ask, answered without a screen: by the same runs, archives, logbook and catalog.
//!
//! Each program is answered in the order in which it asks; several are answered beside each other. A connection's
//! session is shared by all of them, as one of a person who works in several windows.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use arrow_schema::SchemaRef;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use chrono::Local;
use jaunty_core::archive::Archive;
use jaunty_core::arrange::Progress;
use jaunty_core::arrange::pick::Part;
use jaunty_core::catalog::templates;
use jaunty_core::complete::about::about;
use jaunty_core::complete::rank::fit;
use jaunty_core::complete::snippets::{self, Snippet};
use jaunty_core::complete::{Surroundings, complete};
use jaunty_core::connection::Connections;
use jaunty_core::drawing::layout::layout;
use jaunty_core::drawing::plan::{asked_about, of_rows, scene as plan_scene, text as plan_text};
use jaunty_core::drawing::save::{Paper, save as save_drawing};
use jaunty_core::drawing::{Chosen, paint, tables};
use jaunty_core::export::file::{save, write};
use jaunty_core::export::{Format, Options as Written};

use jaunty_core::logbook::{Entry, KeptResult, Query};
use jaunty_core::problems::problems;
use jaunty_core::reveal::shape::lines;
use jaunty_core::run::connection_worker::Why;
use jaunty_core::run::execute::kept_instead;
use jaunty_core::run::{ConnectionWorker, Job, Order, Report, Run, RunResult};
use jaunty_core::words;
use jaunty_language::dialect::{self, Dialect};
use jaunty_language::edit::format::statement as formatted;
use jaunty_language::edit::snippet::unfilled;
use jaunty_language::outline::Outline;
use jaunty_language::plan::{Step, Unit, asked};
use jaunty_language::statement::acts::{Acts, acts};
use jaunty_language::statement::parameters::{self, ParameterValue};
use jaunty_seam::catalog::{Catalog, Object};
use jaunty_seam::engine::Engine;
use jaunty_seam::error::EngineError;
use jaunty_seam::profile::Profile;
use ropey::Rope;
use serde_json::{Map, Value, json};

use crate::api::{checked, described};
use crate::link::connections_for;
use crate::socket::Tell;
use crate::state::Options;
use crate::wire::Refusal;

/// Rows of a page where nobody says how many.
const PAGE: u64 = 100;

/// The most rows of a page.
const MOST_ROWS: u64 = 10_000;

/// How long a catalog that nobody has read yet is waited for.
const CATALOG: Duration = Duration::from_secs(60);

/// The most objects that are listed.
const MOST_OBJECTS: usize = 5000;

/// Answers `screen.*`, where there is a screen.
pub type Screen = Box<dyn Fn(&str, &Map<String, Value>) -> Result<Value, Refusal> + Send + Sync>;

/// What answers programs.
pub struct Service {
    options: Options,
    screen: Option<Screen>,
    sessions: Mutex<HashMap<Key, Arc<Session>>>,
    snippets: Vec<Snippet>,
}

/// A profile, by its name and its file.
type Key = (String, Option<PathBuf>);

/// A connection of this interface.
struct Session {
    engine: &'static dyn Engine,
    profile: Profile,
    worker: ConnectionWorker,
    /// What it tells; whoever runs something holds it.
    reports: Mutex<Receiver<Report>>,
    catalog: Arc<Mutex<Option<Arc<Catalog>>>>,
}

fn lock<T>(of: &Mutex<T>) -> MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

type Given = Map<String, Value>;
type Outcome = Result<Value, Refusal>;

/// A text parameter.
fn text<'a>(given: &'a Given, name: &str) -> &'a str {
    given.get(name).and_then(Value::as_str).unwrap_or_default()
}

fn number(given: &Given, name: &str) -> Option<u64> {
    given.get(name).and_then(Value::as_u64)
}

fn flag(given: &Given, name: &str) -> bool {
    given.get(name).and_then(Value::as_bool).unwrap_or_default()
}

fn failed(error: impl std::fmt::Display) -> Refusal {
    Refusal::failed(error.to_string())
}

impl Service {
    /// One that answers with these, and `screen.*` through a screen.
    pub fn new(options: Options, screen: Option<Screen>) -> Service {
        let (snippets, _) = snippets::all(&[&options.folders.snippets()]);
        Service { options, screen, sessions: Mutex::default(), snippets }
    }

    /// Answers a method.
    pub fn answer(&self, name: &str, params: &Value, tell: &Tell) -> Outcome {
        let (method, given) = checked(name, params)?;
        match method.name {
            "api.describe" => Ok(described()),
            "connections.list" => Ok(self.connections_list()),
            "statements.list" => self.statements_list(&given),
            "statements.format" => {
                let dialect = self.dialect_of(&given)?;
                Ok(json!({"text": formatted(text(&given, "text"), dialect)}))
            }
            "statements.problems" => self.statements_problems(&given),
            "complete" => self.complete(&given),
            "explain" => self.explain(&given),
            "run" => self.run(&given, tell),
            "run.stop" => {
                self.session(text(&given, "connection"))?.worker.stop();
                Ok(Value::Null)
            }
            "plan" => self.plan(&given, tell),
            "rows.page" => self.rows_page(&given),
            "rows.export" => self.rows_export(&given),
            "catalog.objects" => self.catalog_objects(&given),
            "catalog.object" => self.catalog_object(&given),
            "catalog.draw" => self.catalog_draw(&given),
            "logbook.find" => self.logbook_find(&given),
            screen => match &self.screen {
                Some(answer) => answer(screen, &given),
                None => Err(Refusal::failed("the methods of the screen need a running jaunty in this project")),
            },
        }
    }

    fn known(&self) -> Connections {
        connections_for(None, &self.options.folders, self.options.engines)
    }

    fn connections_list(&self) -> Value {
        let one = |profile: &Profile| {
            json!({
                "name": profile.name, "engine": profile.engine, "guard": profile.guard.word(), "group": profile.group,
                "label": profile.label, "note": profile.note, "file": profile.file, "line": profile.line,
            })
        };
        self.known().profiles.iter().map(one).collect()
    }

    /// A connection by the name of its profile; made where it is not there.
    fn session(&self, name: &str) -> Result<Arc<Session>, Refusal> {
        let known = self.known();
        let profile = known.find(name).cloned().ok_or_else(|| {
            let near = known.nearest(name).map(|near| format!("; did you mean \"{near}\"?")).unwrap_or_default();
            Refusal::params(format!("no connection is named \"{name}\"{near}"))
        })?;
        let mut sessions = lock(&self.sessions);
        let key = (profile.name.clone(), profile.file.clone());
        if let Some(session) = sessions.get(&key).filter(|session| session.profile.leads_as(&profile)) {
            return Ok(Arc::clone(session));
        }
        let engine = self.options.engines.iter().copied().find(|engine| engine.name() == profile.engine);
        let engine = engine.ok_or_else(|| Refusal::failed(format!("unknown engine {}", profile.engine)))?;
        let (send, reports) = channel();
        let catalog: Arc<Mutex<Option<Arc<Catalog>>>> = Arc::default();
        let told = teller(send, Arc::clone(&catalog));
        let worker = ConnectionWorker::open(engine, profile.clone(), None, self.options.keeping.clone(), told);
        let worker = worker.map_err(failed)?;
        let session = Arc::new(Session { engine, profile, worker, reports: Mutex::new(reports), catalog });
        sessions.insert(key, Arc::clone(&session));
        Ok(session)
    }

    fn dialect_of(&self, given: &Given) -> Result<&'static Dialect, Refusal> {
        let (connection, language) = (text(given, "connection"), text(given, "language"));
        if !connection.is_empty() {
            let known = self.known();
            let engine = known
                .find(connection)
                .and_then(|profile| self.options.engines.iter().find(|engine| engine.name() == profile.engine));
            let unknown = || Refusal::params(format!("no connection is named \"{connection}\""));
            return engine.map(|engine| engine.dialect()).ok_or_else(unknown);
        }
        if language.is_empty() {
            return Ok(dialect::FALLBACK);
        }
        dialect::by_name(language).ok_or_else(|| {
            let all: Vec<&str> = dialect::DIALECTS.iter().map(|dialect| dialect.name).collect();
            Refusal::params(format!("no language is named {language}; there are {}", all.join(", ")))
        })
    }

    fn statements_list(&self, given: &Given) -> Outcome {
        let dialect = self.dialect_of(given)?;
        let rope = Rope::from_str(text(given, "text"));
        let outline = Outline::new(&rope, dialect);
        let one = |statement: &jaunty_language::split::Statement| {
            json!({
                "title": statement.title_text(&rope, dialect), "text": statement.text(&rope),
                "kind": statement.kind.word(), "start": statement.start, "end": statement.end,
            })
        };
        Ok(outline.statements().iter().map(one).collect())
    }

    /// Asks something about a statement, with what is known around it.
    fn about<T>(&self, given: &Given, ask: impl FnOnce(&str, usize, Surroundings<'_>) -> T) -> Result<T, Refusal> {
        let session = self.session(text(given, "connection"))?;
        let catalog = session.catalog(false)?;
        let written = text(given, "text");
        let at = usize::try_from(number(given, "at").unwrap_or_default()).unwrap_or(usize::MAX).min(written.len());
        if !written.is_char_boundary(at) {
            return Err(Refusal::params("at lies within a character"));
        }
        let dialect = session.engine.dialect();
        Ok(ask(written, at, Surroundings { catalog: &catalog, dialect, snippets: &self.snippets, nearby: written }))
    }

    fn statements_problems(&self, given: &Given) -> Outcome {
        let found = self.about(given, |text, _, around| problems(text, around, &Default::default()))?;
        let one = |problem: &jaunty_core::problems::Problem| json!({"message": problem.message, "start": problem.range.start, "end": problem.range.end, "near": problem.near});
        Ok(found.iter().map(one).collect())
    }

    fn complete(&self, given: &Given) -> Outcome {
        let found = self.about(given, complete)?;
        let one = |proposal: &jaunty_core::complete::Proposal| json!({"label": proposal.label, "kind": proposal.kind.word(), "detail": proposal.detail, "insert": proposal.insert});
        let proposals: Value = found.proposals.iter().map(one).collect();
        Ok(json!({"start": found.replace.start, "end": found.replace.end, "proposals": proposals}))
    }

    fn explain(&self, given: &Given) -> Outcome {
        let found = self.about(given, about)?;
        Ok(found.map_or(Value::Null, |found| json!({"title": found.title, "lines": found.lines})))
    }

    fn run(&self, given: &Given, tell: &Tell) -> Outcome {
        let session = self.session(text(given, "connection"))?;
        let mut job = job_of(given, session.engine.dialect())?;
        job.confirmed = flag(given, "confirmed");
        let title = Some(text(given, "title")).filter(|title| !title.is_empty());
        job.title = title.map(str::to_owned).or(job.title);
        Ok(run_json(&*session.run(job, tell)?))
    }

    fn plan(&self, given: &Given, tell: &Tell) -> Outcome {
        let session = self.session(text(given, "connection"))?;
        let dialect = session.engine.dialect();
        let plans = dialect.plans.ok_or_else(|| Refusal::failed("there are no plans in this language"))?;
        let mut job = job_of(given, dialect)?;
        let statement = asked_about(&job.statement, plans).unwrap_or(&job.statement).to_owned();
        let prefix = match (flag(given, "measured"), plans.measured) {
            (false, _) => plans.estimated,
            (true, Some(_)) if acts(&statement, dialect) != Acts::Reads => {
                return Err(Refusal::failed("measuring runs the statement, and it may write; ask for the estimate"));
            }
            (true, Some(prefix)) => prefix,
            (true, None) => return Err(Refusal::failed("this server estimates plans and does not measure them")),
        };
        let path = Some(text(given, "path")).filter(|path| !path.is_empty()).map(Path::new);
        let paper = path.map(paper_of).transpose()?;
        job.statement = asked(prefix, &statement);
        // Asking for an estimate changes nothing, whatever the statement would do.
        job.confirmed = true;
        let run = session.run(job, tell)?;
        if let Some(error) = run.end().and_then(|end| end.error.as_ref()) {
            return Err(refused(error));
        }
        let kept = run.all_rows().last().cloned().ok_or_else(|| Refusal::failed("the server gave no plan"))?;
        let plan = of_rows(&*kept.archive().map_err(failed)?, plans).map_err(Refusal::failed)?;
        if let Some((path, paper)) = path.zip(paper) {
            save_drawing(plan_scene(&plan, &statement, &session.profile.name), path, paper).map_err(failed)?;
        }
        let step = |step: &Step| {
            json!({
                "depth": step.depth, "action": step.action, "target": step.target, "index": step.index,
                "own": step.own, "share": step.share, "estimated": step.estimated, "met": step.met, "loops": step.loops,
                "reads_all": step.reads_all, "spill": step.spill,
            })
        };
        let unit = match plan.unit {
            Unit::None => Value::Null,
            Unit::Cost => json!("cost"),
            Unit::Time => json!("ms"),
        };
        let steps: Value = plan.steps.iter().map(step).collect();
        Ok(json!({"run": run.number, "text": plan_text(&plan), "unit": unit, "total": plan.total, "steps": steps}))
    }

    fn catalog_draw(&self, given: &Given) -> Outcome {
        let session = self.session(text(given, "connection"))?;
        let path = Path::new(text(given, "path"));
        let paper = paper_of(path)?;
        let catalog = session.catalog(false)?;
        let (schema, name) = (text(given, "schema"), text(given, "table"));
        let which = if name.is_empty() {
            let own = catalog.path.iter().find(|schema| catalog.objects().iter().any(|o| o.schema == **schema));
            let first = || catalog.schemas().first().map(|schema| (*schema).to_owned());
            let wanted = Some(schema.to_owned()).filter(|schema| !schema.is_empty());
            Chosen::Schema(wanted.or(own.cloned()).or_else(first).unwrap_or_default())
        } else {
            let depth = usize::try_from(number(given, "depth").unwrap_or(1)).unwrap_or(usize::MAX).min(20);
            Chosen::Around(find_object(&catalog, schema, name)?.to_name(), depth)
        };
        let tables = tables(&catalog, &which);
        if tables.is_empty() {
            return Err(Refusal::failed("there are no tables to draw"));
        }
        save_drawing(paint::scene(&tables, &layout(&tables), &session.profile.name), path, paper).map_err(failed)?;
        Ok(json!({"tables": tables.len()}))
    }

    fn entry(&self, given: &Given) -> Result<Entry, Refusal> {
        let run = number(given, "run").and_then(|run| i64::try_from(run).ok()).unwrap_or_default();
        let logbook = self.options.keeping.logbook().ok_or_else(|| Refusal::failed("there is no logbook"))?;
        let entry = logbook.entry(run).map_err(failed)?;
        entry.ok_or_else(|| Refusal::failed(format!("no run {run} is in the logbook")))
    }

    fn kept(&self, given: &Given) -> Result<(Archive, Entry), Refusal> {
        let entry = self.entry(given)?;
        let with_rows: Vec<PathBuf> = entry
            .results
            .iter()
            .filter_map(|result| match result {
                KeptResult::Rows(path) => Some(path.clone()),
                KeptResult::Affected(_) => None,
            })
            .collect();
        let result = number(given, "result").unwrap_or(1);
        let at = usize::try_from(result).ok().and_then(|result| result.checked_sub(1));
        let path = at.and_then(|at| with_rows.get(at)).ok_or_else(|| {
            let count = words::count(with_rows.len() as u64, "result");
            Refusal::failed(format!("run {} has {count} with rows, and no number {result}", entry.number))
        })?;
        Ok((Archive::open(path).map_err(failed)?, entry))
    }

    fn rows_page(&self, given: &Given) -> Outcome {
        let (archive, _) = self.kept(given)?;
        let of = archive.rows();
        let from = number(given, "from").unwrap_or_default().min(of);
        let count = number(given, "count").unwrap_or(PAGE).min(MOST_ROWS);
        let columns = columns(&archive.schema());
        let part = Part { rows: from..from.saturating_add(count).min(of), ..Part::whole(Arc::new(archive)) };
        let word = given.get("format").and_then(Value::as_str).unwrap_or("json");
        let format = Format::from_word(word).filter(|format| format.is_text() || *format == Format::Arrow);
        let format = format.ok_or_else(|| Refusal::params(format!("{word} is not a format of a page")))?;
        let mut out = Vec::new();
        write(&part, format, &Written::default(), &mut out, &Progress::default()).map_err(failed)?;
        let mut page = json!({"from": from, "of": of, "columns": columns});
        match format {
            Format::Json => page["rows"] = serde_json::from_slice(&out).map_err(failed)?,
            Format::Arrow => page["content"] = json!(STANDARD.encode(&out)),
            _ => page["content"] = json!(String::from_utf8_lossy(&out)),
        }
        Ok(page)
    }

    fn rows_export(&self, given: &Given) -> Outcome {
        let (archive, entry) = self.kept(given)?;
        let path = Path::new(text(given, "path"));
        let ending = || path.extension()?.to_str().and_then(Format::from_ending);
        let format = match given.get("format").and_then(Value::as_str) {
            Some(word) => Format::from_word(word),
            None => ending(),
        };
        let format =
            format.ok_or_else(|| Refusal::params("neither the ending of path nor format says which format"))?;
        let mut options = Written { texts: Run::remembered(entry).texts(), ..Written::default() };
        for (key, value) in given.get("options").and_then(Value::as_object).into_iter().flatten() {
            let word = format!("{key}={}", value.as_str().unwrap_or_default());
            options.take(format, &word).map_err(Refusal::params)?;
        }
        if path.exists() && !flag(given, "replace") {
            return Err(Refusal::failed(format!("{} is there already; replace: true replaces it", path.display())));
        }
        let part = Part::whole(Arc::new(archive));
        let rows = save(&part, path, format, &options, &Progress::default()).map_err(failed)?;
        Ok(json!({"rows": rows}))
    }

    fn catalog_objects(&self, given: &Given) -> Outcome {
        let session = self.session(text(given, "connection"))?;
        let catalog = session.catalog(flag(given, "refresh"))?;
        let (like, schema) = (text(given, "like"), text(given, "schema"));
        let wanted = |object: &&Object| {
            (schema.is_empty() || object.schema == schema) && (like.is_empty() || fit(like, &object.name).is_some())
        };
        let one = |object: &Object| {
            json!({
                "schema": object.schema, "name": object.name, "kind": object.kind.word(), "rows": object.rows,
                "bytes": object.bytes, "comment": object.comment,
            })
        };
        Ok(catalog.objects().iter().filter(wanted).take(MOST_OBJECTS).map(one).collect())
    }

    fn catalog_object(&self, given: &Given) -> Outcome {
        let session = self.session(text(given, "connection"))?;
        let catalog = session.catalog(false)?;
        let object = find_object(&catalog, text(given, "schema"), text(given, "name"))?;
        let dialect = session.engine.dialect();
        let columns: Value = object
            .columns
            .iter()
            .map(|column| json!({"name": column.name, "type": column.db_type, "nullable": column.nullable, "key": column.key}))
            .collect();
        let shape: Value = lines(object, &catalog, dialect)
            .iter()
            .map(|line| json!({"section": line.section, "text": line.text}))
            .collect();
        let definition = templates::definition(object, &catalog, dialect);
        Ok(json!({
            "schema": object.schema, "name": object.name, "kind": object.kind.word(), "columns": columns,
            "shape": shape, "definition": definition,
        }))
    }

    fn logbook_find(&self, given: &Given) -> Outcome {
        let written = text(given, "query");
        if let Some(mistake) = Query::mistake(written) {
            return Err(Refusal::params(mistake));
        }
        let query = Query::read(written, Local::now().date_naive());
        let count = usize::try_from(number(given, "count").unwrap_or(50)).unwrap_or(usize::MAX);
        let logbook = self.options.keeping.logbook().ok_or_else(|| Refusal::failed("there is no logbook"))?;
        let entries = logbook.find(&query, count).map_err(failed)?;
        Ok(entries.iter().map(entry_json).collect())
    }
}

/// The one statement that is given, ready to run, with its values.
fn job_of(given: &Given, dialect: &'static Dialect) -> Result<Job, Refusal> {
    let rope = Rope::from_str(text(given, "statement"));
    let outline = Outline::new(&rope, dialect);
    let [statement] = outline.statements() else {
        let count = outline.statements().len();
        return Err(Refusal::params(format!("statement has to be one statement, and is {count}")));
    };
    if !statement.closed {
        return Err(Refusal::params("the statement has a quote or comment that never closes"));
    }
    let mut job = Job::of(statement, &rope, dialect, None);
    job.kept = kept_instead(&job.statement, dialect);
    if let Some(place) = unfilled(&job.statement, dialect) {
        let name = job.statement.get(place).unwrap_or_default();
        return Err(Refusal::params(format!("{name} was not filled in; nothing was run")));
    }
    let values = given.get("values").and_then(Value::as_object).cloned().unwrap_or_default();
    let names = parameters::names(&job.sent(), dialect);
    for name in &names {
        let value = values.get(name).and_then(Value::as_str);
        let value = value.ok_or_else(|| Refusal::params(format!("{name} has no value; give it in values")))?;
        job.values.push((name.clone(), ParameterValue::read(value)));
    }
    match values.keys().find(|name| !names.contains(name)) {
        Some(extra) => Err(Refusal::params(format!("the statement has no parameter {extra}"))),
        None => Ok(job),
    }
}

/// An object by its name: in this schema, or in the one that names are looked up in first.
fn find_object<'a>(catalog: &'a Catalog, schema: &str, name: &str) -> Result<&'a Object, Refusal> {
    let named = catalog.objects().iter().filter(|object| object.name == name);
    let wanted = named.filter(|object| schema.is_empty() || object.schema == schema);
    let nearest = wanted.min_by_key(|object| catalog.distance(&object.schema));
    nearest.ok_or_else(|| Refusal::failed(format!("nothing is named {name}")))
}

/// What a drawing is written as.
fn paper_of(path: &Path) -> Result<Paper, Refusal> {
    Paper::of(path).ok_or_else(|| Refusal::params("path has to end in .svg or .pdf"))
}

/// What a connection's thread tells goes on, and its catalog is kept.
fn teller(send: Sender<Report>, catalog: Arc<Mutex<Option<Arc<Catalog>>>>) -> impl Fn(Report) + Send + Sync {
    move |report| {
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
    /// What the database holds; waits for it where nobody has read it yet.
    fn catalog(&self, anew: bool) -> Result<Arc<Catalog>, Refusal> {
        if let Some(known) = lock(&self.catalog).as_ref().filter(|_| !anew) {
            return Ok(Arc::clone(known));
        }
        let reports = lock(&self.reports);
        let before = lock(&self.catalog).as_ref().map_or(0, |known| known.read_ms);
        if anew {
            while reports.try_recv().is_ok() {}
            self.worker.ask(Order::Catalog);
        }
        loop {
            if let Some(known) = lock(&self.catalog).as_ref().filter(|known| !anew || known.read_ms > before) {
                return Ok(Arc::clone(known));
            }
            match reports.recv_timeout(CATALOG) {
                Ok(Report::NotConnected(error) | Report::WantsSecret(error) | Report::NoCatalog(error)) => {
                    return Err(refused(&error));
                }
                Ok(Report::Question(question)) => {
                    self.worker.answer(None);
                    return Err(Refusal::failed(format!("{} asks \"{}\"", self.profile.name, question.text)));
                }
                Ok(_) => {}
                Err(_) => return Err(Refusal::failed("the catalog was not read in time")),
            }
        }
    }

    /// Runs a statement and waits for its end.
    fn run(&self, job: Job, tell: &Tell) -> Result<Arc<Run>, Refusal> {
        let reports = lock(&self.reports);
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
                Ok(Report::NotConnected(error) | Report::WantsSecret(error)) => return Err(refused(&error)),
                Ok(Report::Question(question)) => {
                    self.worker.answer(None);
                    return Err(Refusal::failed(format!("{} asks \"{}\"", self.profile.name, question.text)));
                }
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
            (None, None) => Err(Refusal::failed("stopped before it began")),
        }
    }
}

fn refused(error: &EngineError) -> Refusal {
    Refusal::failed(format!("{}{}", error.step_words(), error.explain("", 1)))
}

/// The columns of a result.
fn columns(schema: &SchemaRef) -> Value {
    let one = |field: &Arc<arrow_schema::Field>| {
        let db_type = field.metadata().get(jaunty_seam::rows::DB_TYPE).cloned().unwrap_or_default();
        json!({"name": field.name(), "type": db_type, "nullable": field.is_nullable()})
    };
    schema.fields().iter().map(one).collect()
}

/// A run that has ended, for programs.
fn run_json(run: &Run) -> Value {
    let results: Value = run
        .results()
        .iter()
        .map(|result| match result {
            RunResult::Rows(kept) => match kept.archive() {
                Ok(archive) => json!({"rows": archive.rows(), "columns": columns(&archive.schema())}),
                Err(error) => json!({"error": error.to_string()}),
            },
            RunResult::Affected(rows) => json!({"changed": rows}),
        })
        .collect();
    let error = run.end().and_then(|end| end.error.as_ref());
    let error = error
        .map(|error| json!({"message": error.message, "code": error.code, "at": error.at, "remedy": error.remedy}));
    json!({
        "run": run.number,
        "outcome": run.outcome().word(),
        "rows": run.rows(),
        "changed": run.affected(),
        "started_ms": run.started.duration_since(UNIX_EPOCH).map_or(0, |since| since.as_millis() as u64),
        "duration_ms": run.duration().as_millis() as u64,
        "error": error,
        "messages": run.messages().iter().map(words::message).collect::<Vec<_>>(),
        "results": results,
    })
}

/// A run of the logbook, for programs.
pub fn entry_json(entry: &Entry) -> Value {
    let results: Vec<_> = entry
        .results
        .iter()
        .map(|result| match result {
            KeptResult::Rows(path) => json!({ "rows": path }),
            KeptResult::Affected(rows) => json!({ "changed": rows }),
        })
        .collect();
    json!({
        "run": entry.number,
        "connection": entry.connection,
        "database": entry.database,
        "title": entry.title,
        "statement": entry.statement,
        "parameters": entry.values.iter().map(|(name, value)| (name.clone(), value.written().into())).collect::<Map<_, _>>(),
        "session": entry.session,
        "started_ms": entry.started_ms,
        "first_row_ms": entry.ended.first_row_ms,
        "duration_ms": entry.ended.duration_ms,
        "rows": entry.ended.rows,
        "bytes": entry.ended.bytes,
        "outcome": entry.outcome.word(),
        "error": entry.ended.error,
        "pinned": entry.pinned,
        "rolled_back": entry.rolled_back,
        "results": results,
    })
}
