//! `jaunty dump`: a database, or some of its tables, as statements that make it again.

use std::io::{BufWriter, IsTerminal, Write};
use std::path::Path;
use std::time::{Duration, Instant};

use jaunty_core::dump::{DumpError, Dumped, Wanted, dump, is_possible, unit};
use jaunty_core::files::part_file::PartFile;
use jaunty_core::import::preview::relation;
use jaunty_core::words;
use jaunty_language::dialect::Family;
use jaunty_language::text::clean::{clean, clean_lines};
use jaunty_seam::catalog::{Catalog, Name};
use jaunty_seam::engine::Stop;
use jaunty_seam::error::ErrorKind;
use jaunty_seam::profile::Profile;

use super::interrupt::Interrupt;
use super::load::catalog;
use super::tasks::connection_and;
use super::{may_be_replaced, progress};
use crate::args::{self, file_of};
use crate::failure::Failure;
use crate::open::{Named, named};

/// What is quicker than this shows no progress.
const QUIET: Duration = Duration::from_millis(300);

/// So many schemas are named where the one that is wanted is not there.
const SOME: usize = 12;

/// Writes what the command line asks for.
pub fn run(args: &args::Dump) -> Result<(), Failure> {
    let (connection, tables) = connection_and(args.connection.as_deref(), &args.words)?;
    let tables = [tables, &args.tables].concat();
    let Named { profile, engine, .. } = named(connection)?;
    let dialect = engine.dialect();
    let output = file_of(args.output.as_deref());
    if let Some(path) = output {
        may_be_replaced(path, &[])?;
    }
    if args.backup {
        if let Some(table) = tables.first() {
            return Err(Failure::Usage(format!("--backup copies the whole database, not {} alone", clean(table))));
        }
        if engine.ending_of_copies().is_none() {
            let what = format!("{} has no backup of its own; leave --backup out to write statements", engine.title());
            return Err(Failure::Usage(what));
        }
        let path = output.unwrap_or(Path::new("copy.db"));
        return back_up(&profile, path);
    }
    if let (Some(schema), Some(table)) = (args.schemas.first(), tables.first()) {
        let what = format!("--schema {} writes all that is in it; leave {} out", clean(schema), clean(table));
        return Err(Failure::Usage(what));
    }
    let copying = dialect.changing.and_then(|changing| changing.copying);
    if !args.schemas.is_empty() && copying.is_none_or(|copying| copying.schemas_are_databases) {
        let what = format!("{} has no schemas within a database; leave --schema out", engine.title());
        return Err(Failure::Usage(what));
    }
    if !is_possible(dialect) {
        return Err(Failure::Usage(format!("{} cannot be written as statements yet", engine.title())));
    }
    let interrupt = Interrupt::listen();
    let stop = Stop::default();
    let wish = stop.clone();
    interrupt.around(
        move || wish.wish(),
        || {
            let mut session = crate::open::session(&profile, &stop)?;
            // What is written is read again with the rows; here it is only asked what the names mean.
            let of_keys = dialect.family == Family::Commands;
            let catalog = match tables.is_empty() && args.schemas.is_empty() || of_keys {
                true => Catalog::default(),
                false => catalog(session.as_mut(), &stop)?,
            };
            let mut wanted = Wanted {
                only_structure: args.only_structure,
                only_rows: args.only_rows,
                access: args.access,
                ..Wanted::default()
            };
            let all = catalog.schemas();
            for schema in &args.schemas {
                if !all.contains(&schema.as_str()) {
                    let some: Vec<&str> = all.iter().copied().take(SOME).collect();
                    let what = format!("there is no schema {schema}; there are {}", some.join(", "));
                    return Err(Failure::Usage(clean(&what).into_owned()));
                }
                wanted.schemas.push(schema.clone());
            }
            for name in tables {
                if of_keys {
                    wanted.names.push(Name { schema: String::new(), name: name.clone() });
                    continue;
                }
                let found = relation(&name, &catalog, dialect)
                    .ok_or_else(|| Failure::Usage(format!("there is no table or view {name}")))?;
                wanted.names.push(found.to_name());
            }
            let (since, shows) = (Instant::now(), std::io::stderr().is_terminal() && output.is_some());
            let mut told = |rows: u64| {
                if shows && since.elapsed() > QUIET {
                    eprint!("\r{} · {}\x1b[K", words::count(rows, unit(dialect)), words::clock(since.elapsed()));
                }
            };
            let dumped = match output {
                None => {
                    let mut out = BufWriter::new(std::io::stdout());
                    dump(session.as_mut(), dialect, &wanted, (&mut out, &stop), &mut told)
                }
                Some(path) => {
                    let unwritten =
                        |e: std::io::Error| Failure::Usage(format!("{} cannot be written: {e}", path.display()));
                    let part = PartFile::create(path).map_err(unwritten)?;
                    let mut part = part;
                    let dumped = dump(session.as_mut(), dialect, &wanted, (&mut part, &stop), &mut told);
                    // It gets its name when it is whole.
                    if dumped.is_ok() {
                        part.finish().map_err(unwritten)?;
                    }
                    dumped
                }
            };
            if shows {
                progress::clear();
            }
            said(&dumped.map_err(failure)?, args, of_keys)
        },
    )
}

/// Copies a whole database into a file, in the server's own way.
fn back_up(profile: &Profile, path: &Path) -> Result<(), Failure> {
    let interrupt = Interrupt::listen();
    let stop = Stop::default();
    let wish = stop.clone();
    let unwritten = |error: std::io::Error| Failure::Usage(format!("{} cannot be written: {error}", path.display()));
    let (since, shows) = (Instant::now(), std::io::stderr().is_terminal());
    interrupt.around(
        move || wish.wish(),
        || {
            let mut session = crate::open::session(profile, &stop)?;
            let part = PartFile::create(path).map_err(unwritten)?;
            let mut told = |done: u64, of: u64| {
                if shows && since.elapsed() > QUIET {
                    eprint!(
                        "\r{} % · {}\x1b[K",
                        (done * 100).checked_div(of).unwrap_or(0),
                        words::clock(since.elapsed())
                    );
                }
            };
            let copied = session.copy_into(part.place().map_err(unwritten)?, &mut told, &stop);
            if shows {
                progress::clear();
            }
            copied.map_err(|error| failure(DumpError::Server(error)))?;
            part.finish().map_err(unwritten)?;
            let size = std::fs::metadata(path).map_or(0, |data| data.len());
            eprintln!("{}", clean_lines(&format!("{} in {}", words::bytes(size), path.display())));
            Ok(())
        },
    )
}

fn said(dumped: &Dumped, args: &args::Dump, of_keys: bool) -> Result<(), Failure> {
    if let Some(path) = file_of(args.output.as_deref()) {
        let what = match of_keys {
            true => words::count(dumped.rows, "key"),
            false => format!("{} and {}", words::count(dumped.objects, "object"), words::count(dumped.rows, "row")),
        };
        eprintln!("{}", clean_lines(&format!("{what} in {}", path.display())));
    }
    for left_out in &dumped.left_out {
        eprintln!("{}", clean_lines(&format!("left out: {left_out}")));
    }
    std::io::stdout().flush().map_err(|error| Failure::output(&error, "standard output"))
}

fn failure(error: DumpError) -> Failure {
    match error {
        DumpError::Server(error) if error.kind == ErrorKind::Stopped => Failure::Stopped("cancelled".into()),
        DumpError::Server(error) => Failure::Database(error.to_string()),
        DumpError::Write(error) => Failure::output(&error, "the dump"),
        error => Failure::Usage(error.to_string()),
    }
}
