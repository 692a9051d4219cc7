//! Before a statement that may lose something, or be refused: a copy of the tables that it is about, and how many rows are
//! in the way of a rule that it makes.

use std::path::PathBuf;

use jaunty_core::connection::open_asking;
use jaunty_core::dump::{Dumped, Wanted, dump, is_possible, unit};
use jaunty_core::files::part_file::PartFile;
use jaunty_core::reveal::depends::{dropped_schemas, endangered};
use jaunty_core::reveal::rules::NewRule;
use jaunty_core::run::{Job, sample};
use jaunty_core::words;
use jaunty_language::text::clean;
use jaunty_seam::catalog::Name;
use jaunty_seam::engine::{NoPrompt, Request, Session, Stop};
use jaunty_seam::profile::Profile;

use super::{App, Question};
use crate::work::{Done, Kind, stopping};

/// What a copy was made for.
#[derive(Debug)]
pub struct Kept {
    /// The statements that run once it is there.
    jobs: Vec<Job>,
    /// The connection that they are for.
    connection: u64,
    /// The file, and what is in it.
    outcome: Result<(PathBuf, Copied), String>,
}

/// What a copy is.
#[derive(Debug)]
enum Copied {
    /// Statements that make it again.
    Statements(Dumped, &'static str),
    /// A file of so many bytes, as the server has them.
    File(u64),
}

/// What stands in a question until it is known how many rows are in the way.
pub(super) const COUNTING: &str = "Asking how many rows do not keep the new rule …";

impl App {
    /// Asks the server how many rows are in the way of rules that a statement makes. False where it cannot be asked.
    pub(super) fn count_in_the_way(&mut self, statement: &str, rules: Vec<NewRule>) -> bool {
        let Some(profile) = self.connection.profile.clone() else { return false };
        let Some(engine) = self.engine_of(&profile).filter(|engine| !engine.is_private(&profile)) else { return false };
        let (secret, statement) = (self.secret_of(&profile), statement.to_owned());
        self.begin_work(Kind::Rules, "counting rows".into(), move |progress| {
            // It takes as long as it takes, and ends when the question does.
            let stop = Stop::default();
            let count = |session: &mut dyn Session, rule: &NewRule| -> Result<String, String> {
                let request = Request::new(&rule.query).until(&stop);
                let sample = sample::take(|| true, |sink| session.run(&request, sink)).map_err(|e| e.to_string())?;
                let number = sample.rows.first().and_then(|row| row.first()).map(|(_, text)| text.clone());
                number.ok_or_else(|| "the server did not say".to_owned())
            };
            let lines =
                stopping(progress, &stop, || match open_asking(engine, &profile, secret.as_ref(), &NoPrompt, &stop) {
                    Err(error) => vec![format!("How many rows are in the way is not known: {error}")],
                    Ok(mut session) => rules
                        .iter()
                        .map(|rule| match count(session.as_mut(), rule).as_deref() {
                            Ok("0") => format!("There are no {}.", rule.what),
                            Ok(rows) => format!("The server will refuse it: {}: {rows}.", rule.what),
                            Err(error) => format!("How many {} there are is not known: {error}", rule.what),
                        })
                        .collect(),
                });
            Done::InTheWay(statement, lines)
        });
        true
    }

    /// Says in the question how many rows are in the way.
    pub(super) fn take_in_the_way(&mut self, statement: &str, lines: Vec<String>) {
        let Some(question) = self.overlaid::<Question>() else { return };
        let same = question.jobs.first().is_some_and(|job| job.statement == statement);
        if let Some(at) = question.about.iter().position(|line| line == COUNTING).filter(|_| same) {
            let lines = lines.iter().map(|line| clean::clean(line).into_owned());
            question.about.splice(at..=at, lines);
        }
    }

    /// What the first of these statements changes or takes away, where a copy of it can be kept.
    pub(super) fn endangered(&self, jobs: &[Job]) -> Option<Wanted> {
        let (job, catalog) = (jobs.first()?, self.connection.catalog.as_ref()?);
        let profile = self.connection.profile.as_ref()?;
        let dialect = self.engine_of(profile).filter(|engine| !engine.is_private(profile))?.dialect();
        let copying = dialect.changing?.copying?;
        let schemas = dropped_schemas(&job.statement, catalog, dialect);
        if !schemas.is_empty() {
            // Of databases the one in hand can be copied, which is all that there is to it.
            let in_hand = schemas.iter().all(|schema| catalog.path.first().is_some_and(|own| own == schema));
            return match copying.schemas_are_databases {
                true => in_hand.then(Wanted::default),
                false => Some(Wanted { schemas, ..Wanted::default() }),
            };
        }
        let tables = endangered(&job.statement, catalog, dialect);
        let names: Vec<Name> = tables.into_iter().map(|object| object.to_name()).collect();
        (!names.is_empty()).then(|| Wanted { names, ..Wanted::default() })
    }

    /// Keeps a copy of what the first of these statements is about, and runs them once it is there.
    pub(super) fn keep_and_run(&mut self, jobs: Vec<Job>) {
        match self.endangered(&jobs) {
            Some(wanted) => self.keep_copy(wanted, jobs),
            None => self.tell_wrong("no table to copy; nothing was run"),
        }
    }

    /// Keeps a copy of the whole database: in the server's own way where it has one, else as statements.
    pub fn keep_database(&mut self) {
        let Some(profile) = self.connection.profile.clone() else { return self.tell_wrong("connect first") };
        let ending = self.engine_of(&profile).and_then(|engine| engine.ending_of_copies());
        match ending {
            Some(ending) => self.back_up(&profile, ending),
            None => self.keep_copy(Wanted::default(), Vec::new()),
        }
    }

    /// Has the server copy the database into a file that has its name and the moment.
    fn back_up(&mut self, profile: &Profile, ending: &str) {
        let Some(engine) = self.engine_of(profile) else { return };
        if engine.is_private(profile) {
            let name = clean::clean(&profile.name).into_owned();
            return self.tell_wrong(format!("{name} is in memory, and another session would see nothing of it"));
        }
        let path = self.path_of_copy(&profile.name, ending);
        let (secret, connection, stop) = (self.secret_of(profile), self.connection.number, Stop::default());
        let (what, profile) = (format!("copying {}", clean::clean(&profile.name)), profile.clone());
        self.begin_work(Kind::Copy, what, move |progress| {
            let keep = || -> Result<(PathBuf, Copied), String> {
                let unwritten = |error: std::io::Error| format!("{} cannot be written: {error}", path.display());
                let opened = open_asking(engine, &profile, secret.as_ref(), &NoPrompt, &stop);
                let mut session = opened.map_err(|error| error.to_string())?;
                let part = PartFile::create(&path).map_err(unwritten)?;
                let mut before = 0;
                let mut told = |done: u64, of: u64| {
                    progress.expect(of);
                    // Where it begins again it has done less than before.
                    let more = done.saturating_sub(before);
                    let _ = progress.advance(usize::try_from(more).unwrap_or_default());
                    before = before.max(done);
                };
                session
                    .copy_into(part.place().map_err(unwritten)?, &mut told, &stop)
                    .map_err(|error| error.to_string())?;
                part.finish().map_err(unwritten)?;
                let size = std::fs::metadata(&path).map_or(0, |data| data.len());
                Ok((path, Copied::File(size)))
            };
            let outcome = stopping(progress, &stop, keep);
            Done::Kept(Box::new(Kept { jobs: Vec::new(), connection, outcome }))
        });
    }

    /// Where a copy of something goes: it has its name and the moment, and a number where a copy of that moment is there.
    fn path_of_copy(&self, name: &str, ending: &str) -> PathBuf {
        let plain: String = name.chars().map(|c| if c.is_alphanumeric() || c == '_' { c } else { '-' }).collect();
        let moment = chrono::Local::now().format("%Y%m%d-%H%M%S");
        let folder = self.folder_for_rows();
        let named = |number: &str| folder.join(format!("copy-of-{plain}-{moment}{number}.{ending}"));
        let numbered = (2..).map(|number| named(&format!("-{number}")));
        let free = std::iter::once(named("")).chain(numbered).find(|path| !path.exists());
        free.unwrap_or_else(|| named(""))
    }

    /// Keeps a copy of tables, of a schema, or of all that the database holds, with the rows, in a file that has the name of
    /// the first and the moment.
    pub(in crate::app) fn keep_copy(&mut self, wanted: Wanted, jobs: Vec<Job>) {
        let (Some(profile), Some(catalog)) = (self.connection.profile.clone(), self.connection.catalog.clone()) else {
            return self.tell_wrong("not connected");
        };
        let Some(engine) = self.engine_of(&profile) else { return };
        if engine.is_private(&profile) {
            let name = clean::clean(&profile.name).into_owned();
            return self.tell_wrong(format!("{name} is in memory, and another session would see nothing of it"));
        }
        if !is_possible(engine.dialect()) {
            return self.tell_wrong(format!("{} cannot be written as statements yet", engine.title()));
        }
        let table = wanted.names.first().map(|name| &name.name);
        let of = table.or(wanted.schemas.first()).unwrap_or(&profile.name).clone();
        let path = self.path_of_copy(&of, engine.dialect().extension);
        let (secret, connection, stop) = (self.secret_of(&profile), self.connection.number, Stop::default());
        let what = format!("keeping a copy of {}", clean::clean(&of));
        self.begin_work(Kind::Copy, what, move |progress| {
            let rows = catalog_rows(&catalog, &wanted);
            progress.expect(rows);
            let whole = wanted.names.is_empty();
            let keep = || -> Result<(PathBuf, Copied), String> {
                let unwritten = |error: std::io::Error| format!("{} cannot be written: {error}", path.display());
                let opened = open_asking(engine, &profile, secret.as_ref(), &NoPrompt, &stop);
                let mut session = opened.map_err(|error| error.to_string())?;
                let mut part = PartFile::create(&path).map_err(unwritten)?;
                let mut before = 0;
                let mut told = |rows: u64| {
                    // Stopping is the token's matter.
                    let _ = progress.advance(usize::try_from(rows - before).unwrap_or_default());
                    before = rows;
                };
                let ends = (&mut part as &mut (dyn std::io::Write + Send), &stop);
                let dumped = dump(session.as_mut(), engine.dialect(), &wanted, ends, &mut told);
                let dumped = dumped.map_err(|error| error.to_string())?;
                if let Some(left_out) = dumped.left_out.first().filter(|_| !whole) {
                    return Err(left_out.clone());
                }
                part.finish().map_err(unwritten)?;
                Ok((path, Copied::Statements(dumped, unit(engine.dialect()))))
            };
            let outcome = stopping(progress, &stop, keep);
            Done::Kept(Box::new(Kept { jobs, connection, outcome }))
        });
    }

    pub(super) fn take_kept(&mut self, kept: Kept) {
        let Kept { jobs, connection, outcome } = kept;
        let (path, copied) = match outcome {
            Ok(kept) => kept,
            Err(error) => {
                let nothing = if jobs.is_empty() { "" } else { "; nothing was run" };
                return self.tell_wrong(clean::clean(&format!("no copy was kept: {error}{nothing}")).into_owned());
            }
        };
        let said = match copied {
            Copied::File(size) => format!("{} copied into {}", words::bytes(size), path.display()),
            Copied::Statements(dumped, unit) => {
                let rows = words::count(dumped.rows, unit);
                let left_out = match dumped.left_out.as_slice() {
                    [] => String::new(),
                    [one] => format!(" · left out: {one}"),
                    [first, others @ ..] => format!(" · left out: {first}, and {} more", others.len()),
                };
                format!("{rows} kept in {}; jaunty run brings them back{left_out}", path.display())
            }
        };
        let said = clean::clean(&said).into_owned();
        if jobs.is_empty() {
            return self.tell(said);
        }
        // They were meant for that server.
        if connection != self.connection.number {
            return self.tell_wrong("the connection changed; a copy was kept, and nothing was run");
        }
        self.run_confirmed(jobs);
        self.tell(said);
    }
}

/// About how many rows tables have, as far as the catalog knows.
fn catalog_rows(catalog: &jaunty_seam::catalog::Catalog, wanted: &Wanted) -> u64 {
    if wanted.names.is_empty() {
        let within = catalog.objects().iter().filter(|object| wanted.is_in_schema(object));
        return within.filter_map(|object| object.rows).sum();
    }
    wanted.names.iter().filter_map(|name| catalog.relation(name)?.rows).sum()
}
