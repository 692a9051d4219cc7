//! `jaunty load`: the rows of a file into a table.

use std::io::IsTerminal;
use std::path::Path;
use std::time::{Duration, Instant};

use jaunty_core::catalog::read_whole;
use jaunty_core::connection::Connections;
use jaunty_core::import::preview::{look, near, relation};
use jaunty_core::import::{
    Choices, Dates, Format, ImportError, Loaded, Matching, NewColumns, Numbers, Options, Parts, Refused, Source, load,
};
use jaunty_core::run::Keeping;
use jaunty_core::run::loading::Noted;
use jaunty_core::{settings, words};
use jaunty_language::dialect::{Dialect, Family};
use jaunty_language::text::clean::{clean, clean_lines};
use jaunty_seam::catalog::{Catalog, ObjectKind};
use jaunty_seam::engine::load::Meeting;
use jaunty_seam::engine::{Session, Stop};
use jaunty_seam::error::ErrorKind;
use jaunty_seam::profile::Guard;

use super::handed_on::{of_run, of_statement};
use super::interrupt::Interrupt;
use super::progress;
use crate::args;
use crate::failure::Failure;
use crate::open::{Named, named};

/// What is quicker than this shows no progress.
const QUIET: Duration = Duration::from_millis(300);

/// Loads what the command line asks for.
pub fn run(args: &args::Load) -> Result<(), Failure> {
    let Named { folders, connections, profile, engine } = named(&args.connection)?;
    let dialect = engine.dialect();
    if dialect.types_of_rows().is_none() {
        return Err(Failure::Usage(format!("rows cannot be loaded into {} yet", engine.title())));
    }
    match profile.guard {
        Guard::ReadOnly if !args.preview => {
            return Err(Failure::Usage(format!("{} is read-only: nothing can be loaded there", profile.name)));
        }
        Guard::Ask if !args.yes && !args.preview => {
            let asks = words::asks(profile.guard);
            return Err(Failure::Usage(format!("{} {asks}; add --yes to load, or --preview to look", profile.name)));
        }
        _ => {}
    }
    let choices = choices(args)?;
    let parts = args.batch.map_or(Parts::One, Parts::Of);
    let interrupt = Interrupt::listen();
    let stop = Stop::default();
    let wish = stop.clone();
    let mut source = interrupt.around(move || wish.wish(), || source(args, &choices, &connections, &stop))?;
    let wish = stop.clone();
    let mut session = interrupt.around(move || wish.wish(), || crate::open::session(&profile, &stop))?;
    let wish = stop.clone();
    interrupt.around(
        move || wish.wish(),
        || {
            // Keys are made by their names: what is there need not be known.
            let catalog = match dialect.family {
                Family::Commands => Catalog::default(),
                _ => catalog(session.as_mut(), &stop)?,
            };
            let matching = matching(args, &source, &catalog, dialect)?;
            if args.preview {
                return preview(&mut source, &matching, args, dialect);
            }
            let keeping = Keeping::open(&folders, settings::load(&folders.settings()).retention);
            let location = session.location();
            let said = (whose_rows(args), args.into.as_str());
            let noted = Noted::begin(&keeping, (&profile, &location), (&said.0, said.1), &matching);
            let shows = std::io::stderr().is_terminal() && !args.quiet;
            let (since, size) = (Instant::now(), source.size);
            let mut told = |rows: u64, read: u64| {
                if shows && since.elapsed() > QUIET {
                    let of = size.map(|size| format!(" · {} %", (read.min(size) * 100).checked_div(size).unwrap_or(0)));
                    let each = (rows as f64 / since.elapsed().as_secs_f64()) as u64;
                    let of = of.unwrap_or_default();
                    eprint!("\r{}{of} · {} rows/s\x1b[K", words::count(rows, "row"), words::number(each));
                }
            };
            let names = source.found.columns.iter().map(|column| column.name.clone()).collect();
            let of = args.file.as_deref().unwrap_or(Path::new("-"));
            let refused = args.refused.as_ref().map(|path| Refused::new(path, names, of));
            let refused = refused.transpose().map_err(failure)?;
            let options = Options { parts, meeting: meeting(args), refused, stop: stop.clone(), told: &mut told };
            let outcome = load(source, &matching, session.as_mut(), dialect, options);
            if shows {
                progress::clear();
            }
            noted.end(&keeping, &outcome, since.elapsed());
            let loaded = outcome.map_err(|error| failed(error, args.refused.is_some()))?;
            if !args.quiet {
                say(&loaded, &matching, args, since.elapsed());
            }
            Ok(())
        },
    )
}

/// Where the rows come from: a file, a run, or a statement on another connection.
fn source(args: &args::Load, choices: &Choices, known: &Connections, stop: &Stop) -> Result<Source, Failure> {
    if let Some(run) = &args.run {
        return of_run(run);
    }
    let (Some(from), Some(statement)) = (&args.from, &args.statement) else {
        let file = args.file.as_deref().unwrap_or(Path::new("-"));
        return Source::open(file, choices).map_err(failure);
    };
    let profile = crate::open::profile(from, known)?;
    let engine = crate::open::engine(&profile)?;
    let session = crate::open::session(&profile, stop)?;
    of_statement(from, statement, engine.dialect(), session, stop)
}

/// What the rows are of, in words.
fn whose_rows(args: &args::Load) -> String {
    match (&args.file, &args.from, &args.run) {
        (Some(file), ..) if file != Path::new("-") => file.display().to_string(),
        (_, Some(from), _) => format!("a statement on {from}"),
        (.., Some(run)) => format!("run {run}"),
        _ => "standard input".into(),
    }
}

fn choices(args: &args::Load) -> Result<Choices, Failure> {
    let sign = |name: &str, text: &Option<String>| -> Result<Option<u8>, Failure> {
        let Some(text) = text else { return Ok(None) };
        match text.as_str() {
            "tab" | "\\t" => Ok(Some(b'\t')),
            "comma" => Ok(Some(b',')),
            "semicolon" => Ok(Some(b';')),
            "pipe" => Ok(Some(b'|')),
            one if one.len() == 1 => Ok(one.bytes().next()),
            _ => Err(Failure::Usage(format!("--{name} is one character of ASCII, or tab, comma, semicolon, pipe"))),
        }
    };
    let encoding = match &args.encoding {
        Some(name) => Some(Choices::encoding_of(name).ok_or_else(|| super::unknown_encoding(name))?),
        None => None,
    };
    Ok(Choices {
        format: args.format.as_deref().and_then(Format::of_word),
        separator: sign("separator", &args.separator)?,
        quote: sign("quote", &args.quote)?,
        encoding,
        header: args.header.as_deref().map(|word| word == "yes"),
        null: args.null.clone(),
        dates: args.dates.as_deref().and_then(Dates::of_word),
        numbers: args.decimal.as_deref().and_then(Numbers::of_word),
        sheet: args.sheet.clone(),
        skip: args.skip,
    })
}

fn meeting(args: &args::Load) -> Meeting {
    match args.on_conflict.as_str() {
        "skip" => Meeting::Skip,
        "replace" => Meeting::Replace,
        _ => Meeting::Refuse,
    }
}

/// What the database holds, all of it.
pub fn catalog(session: &mut dyn Session, stop: &Stop) -> Result<Catalog, Failure> {
    read_whole(session, stop).map_err(|error| Failure::Database(error.to_string()))
}

fn matching(
    args: &args::Load,
    source: &Source,
    catalog: &Catalog,
    dialect: &'static Dialect,
) -> Result<Matching, Failure> {
    let pairs = args.columns.iter().map(|pair| {
        let (file, table) = pair.split_once('=').ok_or_else(|| {
            Failure::Usage(format!(
                "--column {pair}: it is FILE=TABLE, such as --column port=code; FILE= leaves one out"
            ))
        })?;
        Ok((file.to_owned(), table.to_owned()))
    });
    let pairs = pairs.collect::<Result<Vec<_>, Failure>>()?;
    let types = args.types.iter().map(|pair| {
        let (file, of) = pair
            .split_once('=')
            .ok_or_else(|| Failure::Usage(format!("--type {pair}: it is COLUMN=TYPE, such as --type code=char(5)")))?;
        Ok((file.to_owned(), of.to_owned()))
    });
    let types = types.collect::<Result<Vec<_>, Failure>>()?;
    if let Some(filling) = dialect.elements.and_then(|elements| elements.filling(&args.into)) {
        if !types.is_empty() {
            return Err(Failure::Usage("--type: only a column of a table has a type".into()));
        }
        let filling = filling.map_err(|what| Failure::Usage(format!("--into: {what}")))?;
        return Matching::into_filling(&source.found, &filling, (&args.key, &pairs), dialect).map_err(failure);
    }
    if args.into.trim().is_empty() {
        return Err(Failure::Usage("--into: name the table".into()));
    }
    let table = relation(&args.into, catalog, dialect);
    if !args.create && !args.key.is_empty() && dialect.changing.is_some() {
        return Err(Failure::Usage("--key: only a table that is made takes a key; --create makes it".into()));
    }
    if dialect.changing.is_none() && !types.is_empty() {
        return Err(Failure::Usage("--type: fields of documents have the types of their values".into()));
    }
    let columns = NewColumns { key: &args.key, pairs: &pairs, types: &types };
    match (table, args.create) {
        // A collection takes any fields; whether it is there only guards against a mistyped name.
        (Some(_), false) | (None, true) if dialect.changing.is_none() => {
            let matching = Matching::into_collection(&source.found, &args.into, (&args.key, &pairs), dialect);
            let matching = matching.map_err(failure)?;
            if args.on_conflict == "replace" && matching.key.is_empty() {
                return Err(Failure::Usage(
                    "documents are replaced by their _id: --column FILE=_id says which column that is".into(),
                ));
            }
            Ok(matching)
        }
        (None, false) if dialect.changing.is_none() => {
            Err(Failure::Usage(format!("there is no collection {}; --create makes it", args.into)))
        }
        (Some(table), false) if table.kind == ObjectKind::Table => {
            let matching = Matching::into_table(&source.found, table, &pairs, catalog, dialect).map_err(failure)?;
            if args.on_conflict == "replace" && matching.key.is_empty() {
                let what = format!("{} has no key: nothing tells which rows are there already", args.into);
                return Err(Failure::Usage(what));
            }
            Ok(matching)
        }
        (Some(table), false) => {
            Err(Failure::Usage(format!("{} is a {}: rows go into a table", args.into, table.kind.word())))
        }
        (Some(_), true) => {
            Err(Failure::Usage(format!("{} is there already; leave --create out to load into it", args.into)))
        }
        (None, true) => Matching::into_new(&source.found, &args.into, &columns, catalog, dialect).map_err(failure),
        (None, false) => {
            let new = Matching::into_new(&source.found, &args.into, &columns, catalog, dialect).map_err(failure)?;
            let key = match Matching::proposed_key(&source.found).filter(|_| args.key.is_empty()) {
                Some(key) => format!("\nEvery value of {key} is different: --key {key} makes it the key."),
                None => String::new(),
            };
            let near = near(&args.into, catalog).map(|near| format!(" · did you mean {near}?")).unwrap_or_default();
            Err(Failure::Usage(format!(
                "there is no table {}{near}; --create makes it:\n{}{}",
                args.into,
                new.definition.unwrap_or_default(),
                clean_lines(&key)
            )))
        }
    }
}

/// Says what was found, and what would be loaded, without loading it.
fn preview(
    source: &mut Source,
    matching: &Matching,
    args: &args::Load,
    dialect: &'static Dialect,
) -> Result<(), Failure> {
    let first_rows = look(source, Some(matching), dialect).map_err(failure)?;
    let found = &source.found;
    let mut text = format!("{} · {}", source.path.display(), source.format.word());
    if let Some(sheet) = &source.sheet {
        text.push_str(&format!(" · sheet {sheet}"));
    }
    if source.format == Format::Csv {
        let separator =
            if source.form.separator == b'\t' { "tab".into() } else { char::from(source.form.separator).to_string() };
        let header = if source.header { "the first row has the names" } else { "no names in the first row" };
        text.push_str(&format!(" · {} · separator {separator} · {header}", source.encoding));
    }
    let looked = if found.all { "all of them" } else { "the first ones" };
    text.push_str(&format!("\n{} ({looked} were looked at)\n\n", words::count(first_rows.seen, "row")));
    let widest = found.columns.iter().map(|column| column.name.chars().count()).max().unwrap_or(0).min(32);
    for (at, column) in found.columns.iter().enumerate() {
        let to = matching.targets.iter().find(|target| target.from == at);
        let to =
            to.map_or("(nowhere)".to_owned(), |target| format!("→ {} {}", target.column.name, target.column.db_type));
        let mut about = Vec::new();
        if column.dates != Dates::Iso {
            about.push(format!("dates as {}", column.dates.word()));
        }
        if column.numbers != Numbers::Plain {
            about.push(format!("numbers as {}", column.numbers.example()));
        }
        if column.nulls > 0 {
            about.push(format!("{} NULL", words::number(column.nulls)));
        }
        if column.distinct {
            about.push("all different".into());
        }
        about.extend(
            matching.targets.iter().filter(|target| target.from == at).filter_map(|t| t.loses.map(str::to_owned)),
        );
        // A value may have lines.
        about.push(format!("such as {}", clean(&column.examples.join(", "))));
        text.push_str(&format!("{:widest$}  {to}  {}\n", column.name, about.join(" · ")));
    }
    if let Some(definition) = &matching.definition {
        text.push_str(&format!("\n{definition}\n"));
    }
    if let Some((line, what)) = &first_rows.first_unusual {
        let values = words::count(first_rows.unusual, "value");
        text.push_str(&format!("\n{values} not of the type of the column, such as line {line}: {what}\n"));
    }
    if !first_rows.example.is_empty() {
        text.push_str(&format!("\nthe first row: {}\n", first_rows.example.join("; ")));
    }
    if first_rows.misfits > 0 {
        text.push_str(&format!("\n{} of those do not fit:\n", words::count(first_rows.misfits, "row")));
        for bad in &first_rows.bad {
            text.push_str(&format!("  line {}: {}\n", bad.line, bad.reason));
        }
    }
    if source.titles > 0 {
        let lines = words::count(source.titles, "line");
        let look = if source.titles == 1 { "looks" } else { "look" };
        text.push_str(&format!(
            "\nThe first {lines} {look} like a title above the rows: --skip {} passes over them.\n",
            source.titles
        ));
    }
    let proposed = Matching::proposed_key(found).filter(|_| dialect.changing.is_some());
    if let Some(key) = proposed.filter(|_| args.create && args.key.is_empty()) {
        text.push_str(&format!("\nEvery value of {key} is different: --key {key} makes it the key.\n"));
    }
    super::print(&(clean_lines(&text) + "\n"))
}

fn say(loaded: &Loaded, matching: &Matching, args: &args::Load, took: Duration) {
    let mut text =
        format!("{} loaded into {} in {}", words::count(loaded.rows, "row"), args.into, words::duration(took));
    if loaded.there > 0 {
        let what =
            if args.on_conflict == "replace" { "were replaced" } else { "were there already and stay as they are" };
        text.push_str(&format!("\n{} {what}", words::number(loaded.there)));
    }
    if !matching.left_out.is_empty() {
        let left_out: Vec<_> = matching.left_out.iter().map(|(name, why)| format!("{name} ({why})")).collect();
        text.push_str(&format!("\nnot loaded: {}", left_out.join(", ")));
    }
    for target in &matching.targets {
        if let Some(what) = target.loses {
            text.push_str(&format!("\n{}: {what}", target.column.name));
        }
    }
    if let Some((line, what)) = &loaded.first_unusual {
        let values = words::count(loaded.unusual, "value");
        text.push_str(&format!(
            "\n{values} not of the type of the column, and stored all the same, such as line {line}: {what}"
        ));
    }
    if loaded.refused > 0 {
        let file = args.refused.as_ref().map(|path| path.display().to_string()).unwrap_or_default();
        text.push_str(&format!("\n{} refused, with the reasons in {file}:", words::count(loaded.refused, "row")));
        for (line, reason) in &loaded.reasons {
            text.push_str(&format!("\n  line {line}: {reason}"));
        }
    }
    eprintln!("{}", clean_lines(&text));
}

fn failure(error: ImportError) -> Failure {
    failed(error, true)
}

/// What went wrong; `refuses`, if rows that a server does not take are told to go into a file.
fn failed(error: ImportError, refuses: bool) -> Failure {
    let kept = |kept: u64| match kept {
        0 => "nothing was loaded".to_owned(),
        rows => format!("{} before it stay", words::count(rows, "row")),
    };
    match error {
        ImportError::Stopped { kept: rows } => Failure::Stopped(format!("cancelled; {}", kept(rows))),
        ImportError::Server { error, kept: rows, of_rows } => {
            let remedy = error.remedy.as_ref().map(|remedy| format!("\n{remedy}")).unwrap_or_default();
            let finds = match error.kind {
                ErrorKind::Refused if of_rows && !refuses => {
                    ". --refused FILE finds such rows, and loads the others; --on-conflict says what to do with those that already exist"
                }
                _ => "",
            };
            Failure::Database(format!("{error}; {}{finds}{remedy}", kept(rows)))
        }
        ImportError::Row { kept: rows, .. } => Failure::Usage(format!(
            "{error}; {}. --refused FILE writes such rows to a file and loads the others",
            kept(rows)
        )),
        error => Failure::Usage(error.to_string()),
    }
}
