//! `jaunty run`: statements without a screen, through the same runs, archives and logbook.

use std::collections::HashSet;
use std::io::IsTerminal;
use std::path::Path;
use std::sync::{Arc, Mutex, OnceLock};
use std::thread;
use std::time::Duration;

use jaunty_core::arrange::pick::Part;
use jaunty_core::complete::Surroundings;
use jaunty_core::export::file::{SaveError, save};
use jaunty_core::logbook::Outcome;
use jaunty_core::problems::{Problem, elsewhere, may_be_checked, mistyped, omitted, problems, unquoted};
use jaunty_core::run::execute::{Tell, execute};
use jaunty_core::run::reading::{self, Read};
use jaunty_core::run::transaction::OpenTransaction;
use jaunty_core::run::{Job, Keeping, Run, RunResult};
use jaunty_language::dialect::{Dialect, Family};
use jaunty_language::statement::parameters;
use jaunty_language::text::clean::{clean, clean_lines};
use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::load::Nothing;
use jaunty_seam::engine::{Effect, Location, Request, Session, Sink, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Guard, Profile};

use jaunty_core::settings;
use jaunty_core::words;

use super::changes::Changes;
use super::interrupt::Interrupt;
use super::output::{Output, Shared};
use super::progress;
use super::script::{self, LARGE, large};
use super::tasks::{Task, connection_of, file_and_line, give_values, tasks};
use crate::args;
use crate::failure::Failure;
use crate::open::{Named, named};

/// Runs what the command line asks for: a file, a statement, or what is piped in.
pub fn run(mut args: args::Run) -> Result<(), Failure> {
    match (&args.statement, &args.file) {
        (Some(_), Some(file)) => {
            let hint = match connection(file) {
                true => format!("{0} is a connection: -c {0}", shown(Path::new(file))),
                false => "leave one of them out".to_owned(),
            };
            let what = format!("{} and a statement are given; {hint}", shown(Path::new(file)));
            return Err(Failure::Usage(what));
        }
        (None, None) if !std::io::stdin().is_terminal() => args.file = Some("-".to_owned()),
        _ => {}
    }
    run_what(&args)
}

/// Whether a connection has this name.
fn connection(name: &str) -> bool {
    crate::open::folders().is_ok_and(|folders| crate::open::connections(&folders).find(name).is_some())
}

fn run_what(args: &args::Run) -> Result<(), Failure> {
    let Named { folders, profile, engine, .. } =
        named(&connection_of(args.connection.as_deref(), args.file.as_deref())?)?;
    let alone = args.statement.is_none() && args.parameters.is_empty() && args.encoding.is_none();
    let whole = args.file.as_deref().filter(|_| alone);
    let whole = whole.map(file_and_line).filter(|(_, line)| line.is_none()).map(|(path, _)| path);
    let is_large =
        whole.as_deref().and_then(|path| std::fs::metadata(path).ok()).is_some_and(|data| data.len() >= LARGE);
    if args.single_transaction && engine.dialect().transaction.begin.is_empty() {
        return Err(Failure::Usage(format!("{} has no transactions", engine.title())));
    }
    if let Some(output) = args.written.output() {
        let file = args.file.as_deref().map(|file| file_and_line(file).0);
        super::may_be_replaced(output, &file.as_deref().into_iter().collect::<Vec<_>>())?;
    }
    let read = || -> Result<Vec<Task>, Failure> {
        let mut tasks = tasks(args, engine.dialect())?;
        if let Some(from) = args.from {
            tasks.retain(|task| task.line >= from);
            if tasks.is_empty() {
                return Err(Failure::Usage(format!("no statement begins at line {from} or after it")));
            }
        }
        give_values(&mut tasks, &args.parameters, engine.dialect())?;
        Ok(tasks)
    };
    // What is wrong with a small file is told before anything is connected.
    let tasks = if is_large { None } else { Some(read()?) };
    let options = args.written.options(engine.dialect())?;
    let keeping = Keeping::open(&folders, settings::load(&folders.settings()).retention);
    if let Some(trouble) = keeping.trouble() {
        eprintln!("jaunty: {trouble}");
    }
    let interrupt = Interrupt::listen();
    let stop = Stop::default();
    let mut session = interrupt.around(
        {
            let stop = stop.clone();
            move || stop.wish()
        },
        || crate::open::session(&profile, &stop),
    )?;
    interrupt.around(
        || (),
        || {
            let output = Output::open(args.written.output(), args.written.format(), &options)?;
            let output = Shared(Arc::new(Mutex::new(output)));
            let with = With {
                profile: &profile,
                dialect: engine.dialect(),
                keeping: &keeping,
                output: &output,
                interrupt: &interrupt,
                yes: args.yes,
                quiet: args.quiet,
                keep_going: args.keep_going,
                several: false,
            };
            let large = whole.as_deref().and_then(|path| large(path, &with, args.from, args.single_transaction));
            let outcome = match (large, args.single_transaction) {
                (Some(large), _) => script::run(session.as_mut(), &large, &with),
                (None, single) => {
                    let tasks = tasks.map_or_else(read, Ok)?;
                    let with = With { several: tasks.len() > 1, ..with };
                    match single {
                        true => in_one_transaction(session.as_mut(), &tasks, &with),
                        false => run_all(session.as_mut(), &tasks, &with),
                    }
                }
            };
            keeping.clear_unremembered();
            // What went wrong with the output explains why the statement was cancelled.
            output.lock().close(outcome.is_ok())?;
            outcome
        },
    )
}

/// What statements run with.
pub struct With<'a> {
    /// The connection.
    pub profile: &'a Profile,
    /// Its language.
    pub dialect: &'static Dialect,
    /// Where runs are kept.
    pub keeping: &'a Keeping,
    /// Where rows go.
    pub output: &'a Shared,
    /// Whether a person wants an end.
    pub interrupt: &'a Interrupt,
    /// Whether it runs without being asked what a connection would ask for.
    pub yes: bool,
    /// Whether nothing is said of what statements changed.
    pub quiet: bool,
    /// Whether the others run after one that failed.
    pub keep_going: bool,
    /// Whether there are several statements, so that an error says which one it is about.
    pub several: bool,
}

/// Runs statements in a transaction around all of them. Some servers commit it at a definition: that is told.
fn in_one_transaction(session: &mut dyn Session, tasks: &[Task], with: &With) -> Result<(), Failure> {
    let words = &with.dialect.transaction;
    let around = |text: &'static str| Task {
        job: Job { statement: text.to_owned(), confirmed: true, ..Job::default() },
        line: 0,
        noted: Vec::new(),
    };
    let quiet = With { quiet: true, yes: true, several: false, ..*with };
    let mut transaction = OpenTransaction::default();
    run_each(session, &[around(words.begin)], &quiet, &mut transaction)?;
    let mut outcome = run_each(session, tasks, with, &mut transaction);
    if outcome.is_ok() && !session.location().in_transaction() {
        eprintln!("jaunty: the transaction ended before the last statement: one of them ended it");
        return outcome;
    }
    if outcome.is_ok() {
        outcome = run_each(session, &[around(words.commit)], &quiet, &mut transaction);
    }
    if session.location().in_transaction() {
        with.keeping.roll_back(&transaction.roll_back());
        // Also where a person stopped it.
        let stop = Stop::default();
        let request = Request::new(words.roll_back).until(&stop);
        session.run(&request, Box::new(Nothing)).map_err(|error| Failure::Database(error.to_string()))?;
        eprintln!("jaunty: everything was rolled back");
    }
    outcome
}

/// Runs statements one after the other, up to the first that does not end well.
pub fn run_all(session: &mut dyn Session, tasks: &[Task], with: &With) -> Result<(), Failure> {
    let mut transaction = OpenTransaction::default();
    let outcome = run_each(session, tasks, with, &mut transaction);
    if session.location().in_transaction() {
        with.keeping.roll_back(&transaction.roll_back());
        eprintln!("jaunty: a transaction was open at the end; it was rolled back");
    }
    outcome
}

fn run_each(
    session: &mut dyn Session,
    tasks: &[Task],
    with: &With,
    transaction: &mut OpenTransaction,
) -> Result<(), Failure> {
    let mut location = session.location();
    let (mut taken, mut failed) = (0, 0_u64);
    let mut changes = Changes::of(tasks.len(), with.quiet);
    for task in tasks {
        // A part of the one before.
        if taken > 0 {
            taken -= 1;
            continue;
        }
        if with.interrupt.was_asked() {
            return Err(Failure::Stopped(format!("cancelled before the statement at line {}", task.line)));
        }
        let run = match reading::read(session, &task.job, &Stop::default()) {
            Read::AsItStands => run_one(session, &location, task, with),
            Read::Longer(job, more) => {
                taken = more;
                run_one(session, &location, &Task { job: *job, line: task.line, noted: Vec::new() }, with)
            }
            Read::Ask(longer, _) => {
                return Err(Failure::Usage(format!(
                    "the statement at line {} may end in two places, and the server could not be asked; put a semicolon where it ends:\n{}\nor\n{}",
                    task.line,
                    clean(&task.job.statement),
                    clean(&longer.statement)
                )));
            }
        };
        let run = match run {
            Err(Failure::Database(error)) if with.keep_going => {
                changes.tell();
                eprintln!("jaunty: {}", clean_lines(&error));
                failed += 1;
                location = session.location();
                continue;
            }
            run => run?,
        };
        changes.take(&task.job.statement, task.line, run.affected());
        let now = session.location();
        let gone = transaction.take(&run, (location.transaction, now.transaction), with.dialect);
        with.keeping.roll_back(&gone);
        location = now;
    }
    match failed {
        0 => Ok(()),
        _ => Err(Failure::Database(format!("{failed} of {} failed", words::count(tasks.len() as u64, "statement")))),
    }
}

fn run_one(session: &mut dyn Session, location: &Location, task: &Task, with: &With) -> Result<Arc<Run>, Failure> {
    let With { profile, keeping, output, interrupt, yes, .. } = *with;
    let (statement, sent) = (&task.job.statement, task.job.sent());
    let stop = Stop::default();
    if task.job.may_be_part() && !yes {
        return Err(Failure::Usage(format!("{}; add --yes to run it as it stands", words::MAY_BE_PART)));
    }
    if profile.guard != Guard::Open && !yes {
        let request = Request::new(&sent).with(&task.job.values).until(&stop);
        let wish = stop.clone();
        let effect = interrupt.around(move || wish.wish(), || session.effect(&request));
        let reads = match &effect {
            Ok(effect) => *effect == Effect::Reads,
            // What the server refuses does nothing, and running it shows the error; but with values a question may be
            // refused where the statement is not.
            Err(_) => task.job.values.is_empty(),
        };
        if !reads {
            let line = statement.lines().next().unwrap_or_default();
            let effect = effect.map(words::effect).unwrap_or_default().join(" ");
            return Err(Failure::Usage(format!(
                "{} {}; add --yes to run: {line}\n{effect}",
                profile.name,
                words::asks(profile.guard)
            )));
        }
    }
    let streams = output.lock().takes_rows_as_they_come();
    let shows = output.lock().shows_progress();
    let tap: Option<Box<dyn Sink>> = if streams { Some(Box::new(output.clone())) } else { None };
    let begun = Arc::new(OnceLock::<Arc<Run>>::new());
    let tell: Tell = {
        let (begun, shown) = (Arc::clone(&begun), progress::of_run(shows));
        Arc::new(move |run| {
            begun.get_or_init(|| Arc::clone(run));
            shown(run);
        })
    };
    let wish = stop.clone();
    let end = move || match begun.get() {
        Some(run) => run.stop(),
        None => wish.wish(),
    };
    let run = interrupt.around(end, || execute(session, (profile, location), &task.job, keeping, tap, (&tell, &stop)));
    if shows {
        progress::clear();
    }
    if !streams && run.outcome() == Outcome::Done {
        for result in run.results() {
            if let RunResult::Rows(rows) = result {
                let archive = rows.archive().map_err(|error| Failure::Usage(error.to_string()))?;
                output.lock().about(run.texts());
                output.lock().write(&Part::whole(archive), interrupt)?;
            }
        }
    }
    if run.outcome() == Outcome::Done {
        send_out(&run, interrupt)?;
    }
    match (run.outcome(), run.end().and_then(|end| end.error.as_ref())) {
        (Outcome::Done, _) => {
            let found = match with.dialect.family {
                // A document database takes names that nothing has, and gives nothing.
                Family::Documents if run.rows() == 0 && run.affected().is_none() && !with.quiet => {
                    found_by_names(session, statement, with).unwrap_or_default()
                }
                Family::Commands if !with.quiet => {
                    let (catalog, dialect) = (Catalog::default(), with.dialect);
                    let around = Surroundings { catalog: &catalog, dialect, snippets: &[], nearby: "" };
                    problems(statement, around, &HashSet::new())
                }
                _ => Vec::new(),
            };
            let doubts = found.iter().filter(|problem| problem.taken);
            doubts.for_each(|doubt| eprintln!("note: {}", clean(&doubt.sentence())));
            Ok(run)
        }
        (_, Some(error)) => {
            let missing = without_values(&task.job, error, with.dialect);
            let more = missing.or_else(|| near_names(session, statement, error, with));
            let more = more.map(|more| format!("\n{more}")).unwrap_or_default();
            let explained = error.explain(statement, task.line) + &more;
            // One that has no place in the statement does not show its line either.
            Err(Failure::Database(match error.at {
                None if with.several => format!("line {}: {explained}", task.line),
                _ => explained,
            }))
        }
        (_, None) if interrupt.was_asked() => Err(Failure::Stopped(stopped(&run))),
        (_, None) => Err(Failure::Closed),
    }
}

/// The parameters of a statement that has got none of its values: most servers take the sign before a name for a mistake.
fn without_values(job: &Job, error: &EngineError, dialect: &'static Dialect) -> Option<String> {
    if error.kind != ErrorKind::Refused || !job.values.is_empty() || error.message.starts_with("no value for") {
        return None;
    }
    let names = parameters::names(&job.sent(), dialect);
    let first = names.first()?;
    let have = if names.len() == 1 { "has" } else { "have" };
    Some(format!("{} {have} no value; give it with --parameter '{first}=…'", names.join(", ")))
}

/// How long the catalog may take that names are looked for in.
const NAMES: Duration = Duration::from_secs(3);

/// What is wrong with the names of a statement, by what the database holds. It is read once the statement has failed, or
/// has given nothing, where the server may be asked for more than what a person wrote.
fn found_by_names(session: &mut dyn Session, statement: &str, with: &With) -> Option<Vec<Problem>> {
    if with.keep_going || !may_be_checked(with.profile) {
        return None;
    }
    let stop = Stop::default();
    let wish = stop.clone();
    thread::spawn(move || {
        thread::sleep(NAMES);
        wish.wish();
    });
    let wish = stop.clone();
    let catalog = with.interrupt.around(move || wish.wish(), || super::load::catalog(session, &stop)).ok()?;
    let around = Surroundings { catalog: &catalog, dialect: with.dialect, snippets: &[], nearby: "" };
    let mut found = problems(statement, around, &HashSet::new());
    // What is only told where the server refuses the statement.
    found.extend(elsewhere(statement, around));
    Some(found)
}

/// The names that were meant by those that the server does not know.
fn near_names(session: &mut dyn Session, statement: &str, error: &EngineError, with: &With) -> Option<String> {
    if error.kind != ErrorKind::Refused {
        return None;
    }
    let meant = |found: Problem| format!("Did you mean {}?", found.near.join(" or "));
    let word = mistyped(error, statement, with.dialect).or_else(|| omitted(error, statement, with.dialect));
    if let Some(found) = word {
        return Some(meant(found));
    }
    let Some(found) = found_by_names(session, statement, with) else {
        return unquoted(error, statement, with.dialect).map(meant);
    };
    // A server points at the name, or at the one before it: `p` of `p.nme`.
    let is_path = |text: &str| text.chars().all(|c| c.is_alphanumeric() || "_.\"`[]".contains(c));
    let from = |problem: &Problem, at: usize| statement.get(at..problem.range.start).is_some_and(is_path);
    let there = |problem: &&Problem| error.at.is_none_or(|at| problem.range.contains(&at) || from(problem, at));
    if let Some(problem) = found.iter().filter(there).find(|problem| !problem.near.is_empty()) {
        return Some(format!("Did you mean {}?", problem.near.join(" or ")));
    }
    // Of a command the server only says that it is not one; of what cannot be read all is said.
    let of_commands = with.dialect.family == Family::Commands;
    let found = found.first().filter(|problem| of_commands && problem.message != error.message);
    found.map(|problem| {
        let mut letters = problem.message.chars();
        let first = letters.next().into_iter().flat_map(char::to_uppercase);
        first.chain(letters).chain(['.']).collect()
    })
}

/// What became of a run that a person stopped.
fn stopped(run: &Run) -> String {
    let rows = words::count(run.rows(), "row");
    match run.number {
        Some(number) => format!("cancelled after {rows}; they are kept as run {number} (jaunty rows {number})"),
        None => format!("cancelled after {rows}"),
    }
}

/// A path that a file of statements names, so that nothing of it acts on a terminal.
fn shown(path: &Path) -> String {
    clean(&path.display().to_string()).into_owned()
}

/// Writes the rows of a run where its out-lines send them.
fn send_out(run: &Run, interrupt: &Interrupt) -> Result<(), Failure> {
    let targets = run.take_out();
    if let Some((path, _)) = targets.first().filter(|_| run.all_rows().is_empty()) {
        eprintln!("{} is unchanged: the statement returned no rows", shown(path));
    }
    for (path, target, kept) in run.files_of(targets) {
        let archive = kept.archive().map_err(|error| Failure::Usage(error.to_string()))?;
        let part = Part::whole(archive);
        let shows = std::io::stderr().is_terminal();
        let what = shown(Path::new(path.file_name().unwrap_or_default()));
        let saved = progress::with_cancel(shows, &what, interrupt, |progress| {
            save(&part, &path, target.format, &target.options, progress)
        });
        let rows = saved.map_err(|error| match error {
            SaveError::Stopped(_) => Failure::Stopped(error.to_string()),
            other => Failure::Usage(other.to_string()),
        })?;
        if shows {
            eprintln!("{} in {}", words::count(rows, "row"), shown(&path));
        }
    }
    Ok(())
}
