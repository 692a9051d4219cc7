//! `jaunty compare`: what two results, or two structures, have that the other has not, and the statements for it.

use std::io::{IsTerminal, Write as _};
use std::sync::{Arc, OnceLock};

use serde_json::{Map, Value, json};

use jaunty_core::archive::Archive;
use jaunty_core::arrange::pick::Part;
use jaunty_core::compare::Difference;
use jaunty_core::compare::alter::make_alike;
use jaunty_core::compare::differences::{self, Differences};
use jaunty_core::compare::draft::{cut_by, drafts};
use jaunty_core::compare::rows::{Columns, CompareError, Comparison, Shown, compare};
use jaunty_core::compare::structure::{Schemas, Structure};
use jaunty_core::import::preview::relation;
use jaunty_core::logbook::Outcome;
use jaunty_core::run::execute::{Tell, execute};
use jaunty_core::run::{Job, Keeping, Run, RunResult};
use jaunty_core::slip::{Datum, Ground, Slip, statements};
use jaunty_core::{settings, words};
use jaunty_language::dialect::{Dialect, Family};
use jaunty_language::statement::acts::{Acts, acts};
use jaunty_language::text::clean::{clean, clean_lines};
use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::{Session, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::origin::Origin;

use super::interrupt::Interrupt;
use super::progress;
use crate::args::{Compare, CompareRows, CompareStructure};
use crate::failure::Failure;
use crate::open::{Named, named};

/// Rows that are read and written at a time.
const AT_ONCE: usize = 512;

/// Compares what the command line asks for.
pub fn run(args: &Compare) -> Result<(), Failure> {
    let (same, exit_code) = match args {
        Compare::Rows(args) => (rows(args)?, args.found.exit_code),
        Compare::Structure(args) => (structures(args)?, args.found.exit_code),
    };
    if exit_code && !same { Err(Failure::Differ) } else { Ok(()) }
}

fn refused(error: EngineError) -> Failure {
    match error.kind {
        ErrorKind::Stopped => Failure::Stopped("cancelled".into()),
        _ => Failure::Database(error.to_string()),
    }
}

fn structures(args: &CompareStructure) -> Result<bool, Failure> {
    let [left_name, right_name] = names(&args.sides, args.left.as_ref(), args.right.as_ref());
    let left_name = left_name.ok_or_else(|| Failure::Usage("name the left side: --left".into()))?;
    let right_name = right_name.unwrap_or(left_name);
    let sides = [named(left_name)?, named(right_name)?];
    let dialects = [sides[0].engine.dialect(), sides[1].engine.dialect()];
    let usual = Schemas::usual(dialects[0], dialects[1]);
    let of = |schema: &Option<String>| schema.clone().map(Schemas::Named);
    let left_schema = of(&args.schema).unwrap_or_else(|| usual.clone());
    let right_schema = of(&args.right_schema).or_else(|| of(&args.schema)).unwrap_or(usual);
    let interrupt = Interrupt::listen();
    let stop = Stop::default();
    let wish = stop.clone();
    let shows = std::io::stderr().is_terminal();
    let read = interrupt.around(
        move || wish.wish(),
        || {
            let mut read = Vec::new();
            for ((side, dialect), schemas) in sides.iter().zip(dialects).zip([left_schema, right_schema]) {
                let mut session = crate::open::session(&side.profile, &stop)?;
                let mut told = |at: usize, of: usize| {
                    if shows && at % 50 == 49 {
                        let of = words::count(of as u64, "definition");
                        eprint!("\r{}: {} of {of}\x1b[K", clean(&side.profile.name), words::number(at as u64));
                    }
                };
                let found = Structure::read(session.as_mut(), dialect, &schemas, &stop, &mut told);
                if shows {
                    progress::clear();
                }
                read.push(found.map_err(refused)?);
            }
            Ok::<_, Failure>(read)
        },
    )?;
    let [left, right] = &read[..] else { return Ok(true) };
    for (side, name) in read.iter().zip([left_name, right_name]) {
        for left_out in &side.left_out {
            eprintln!("{}", clean_lines(&format!("{name}: left out: {left_out}")));
        }
    }
    let found = differences::compare(left, right, args.access);
    let same = found.items.is_empty();
    if args.found.statements {
        let made = make_alike(left, right, &found).map_err(|why| Failure::Usage(why.to_string()))?;
        put(&mut std::io::stdout().lock(), &made.script(left.dialect))?;
        if made.losing() > 0 {
            let many = words::count(made.losing() as u64, "statement");
            eprintln!("{many} of {} delete rows or values", words::number(made.statements.len() as u64));
        }
    } else if args.found.json {
        super::print(&as_json(&found))?;
    } else {
        super::print(&(clean_lines(&in_words(&found)) + "\n"))?;
    }
    Ok(same)
}

/// Writes statements: as they are into a file, and so that nothing in them acts on a terminal.
fn put(out: &mut impl std::io::Write, text: &str) -> Result<(), Failure> {
    let text = if std::io::stdout().is_terminal() { clean_lines(text) + "\n" } else { text.into() };
    out.write_all(text.as_bytes()).map_err(|error| Failure::output(&error, "standard output"))
}

/// The names of both sides, in order or by their options.
fn names<'a>(sides: &'a [String], left: Option<&'a String>, right: Option<&'a String>) -> [Option<&'a String>; 2] {
    [left.or(sides.first()), right.or(sides.get(1))]
}

fn in_words(found: &Differences) -> String {
    let mut text = String::new();
    for item in &found.items {
        text.push_str(&format!("{} {} {}\n", item.what.sign(), item.kind.word(), item.name));
        for part in &item.parts {
            let name = if part.name.is_empty() { String::new() } else { format!(" {}", part.name) };
            let shown: Vec<&str> = part.shown.iter().map(String::as_str).filter(|shown| !shown.is_empty()).collect();
            text.push_str(&format!("    {} {}{name}  {}\n", part.what.sign(), part.of.word(), shown.join("  →  ")));
        }
    }
    let counts: Vec<u64> = Difference::ALL.iter().map(|what| found.counted(*what) as u64).collect();
    text.push_str(&summary("object", &counts, found.same as u64));
    if !found.one_language {
        text.push_str("Two kinds of database: what columns hold, keys, references and indexes were compared.\n");
    }
    text
}

fn as_json(found: &Differences) -> String {
    let line = |item: &differences::ItemDiffers| {
        let parts = item.parts.iter().map(|part| {
            json!({"what": part.what.word(), "part": part.of.word(), "name": part.name, "left": part.shown[0], "right": part.shown[1]})
        });
        let all = json!({"what": item.what.word(), "kind": item.kind.word(), "name": item.name, "parts": parts.collect::<Vec<_>>()});
        format!("{all}\n")
    };
    found.items.iter().map(line).collect()
}

/// How much differs, in a line.
fn summary(what: &str, counts: &[u64], same: u64) -> String {
    let told = Difference::ALL.iter().zip(counts).filter(|(_, count)| **count > 0);
    let told: Vec<String> = told.map(|(what, count)| format!("{} {}", words::number(*count), what.word())).collect();
    match told.is_empty() {
        true => format!("{} the same; nothing differs\n", words::count(same, what)),
        false => format!("{} · {} the same\n", told.join(" · "), words::count(same, what)),
    }
}

/// One side of a comparison of rows: where they come from.
struct Side {
    named: Option<Named>,
    run: Option<String>,
    table: Option<String>,
    statement: Option<String>,
}

/// The rows of a side, and what is known of them.
struct Rows {
    archive: Arc<Archive>,
    /// The statement, and what the server said of where its columns come from.
    statement: String,
    origins: Vec<Option<Origin>>,
    catalog: Option<Catalog>,
    dialect: Option<&'static Dialect>,
    /// How a run ended whose rows are not all there.
    partial: Option<Outcome>,
}

impl Rows {
    fn names(&self) -> Vec<String> {
        self.archive.schema().fields().iter().map(|field| field.name().clone()).collect()
    }

    /// The table that the rows are of, if they are of one.
    fn ground(&self, columns: &[String]) -> Result<Ground, String> {
        let names = self.names();
        let known = self.catalog.as_ref().zip(self.dialect);
        let (catalog, dialect) =
            known.ok_or("the connection of the kept rows is not known here: name one, and a table or statement")?;
        let at = columns.first().and_then(|column| names.iter().position(|name| name == column)).unwrap_or(0);
        let of = |at| Ground::find((&self.statement, &names, &self.origins), at, catalog, dialect);
        of(at).or_else(|error| (0..names.len()).find_map(|at| of(at).ok()).ok_or(error)).map_err(|why| why.to_string())
    }
}

fn sides(args: &CompareRows) -> Result<[Side; 2], Failure> {
    let side = |name: Option<&String>, run: &Option<String>, table: &Option<String>, statement: &Option<String>| {
        if let Some(run) = run {
            return Ok(Side { named: None, run: Some(run.clone()), table: None, statement: None });
        }
        let name = name.ok_or_else(|| Failure::Usage("name the left side: --left, or --left-run".into()))?;
        if table.is_none() && statement.is_none() {
            return Err(Failure::Usage("name the rows: --table, --statement, or a run for each side".into()));
        }
        Ok(Side { named: Some(named(name)?), run: None, table: table.clone(), statement: statement.clone() })
    };
    let right_table =
        args.right_table.clone().or_else(|| args.table.clone()).filter(|_| args.right_statement.is_none());
    let right_statement =
        args.right_statement.clone().or_else(|| args.statement.clone()).filter(|_| args.right_table.is_none());
    let [left, right] = names(&args.sides, args.left.as_ref(), args.right.as_ref());
    Ok([
        side(left, &args.left_run, &args.table, &args.statement)?,
        side(right.or(left), &args.right_run, &right_table, &right_statement)?,
    ])
}

fn read(side: &Side, keeping: Option<&Keeping>, interrupt: &Interrupt) -> Result<Rows, Failure> {
    let (named, keeping) = match (&side.named, keeping) {
        (Some(named), Some(keeping)) => (named, keeping),
        _ => {
            let name = side.run.as_deref().unwrap_or("last");
            let (archive, _) = super::rows::kept(name, 1)?;
            let entry = super::rows::entry(name)?;
            let partial = Some(entry.outcome).filter(|outcome| *outcome != Outcome::Done);
            let (archive, statement, origins) = (Arc::new(archive), entry.statement, Vec::new());
            return Ok(Rows { archive, statement, origins, catalog: None, dialect: None, partial });
        }
    };
    let dialect = named.engine.dialect();
    let stop = Stop::default();
    let wish = stop.clone();
    let (mut session, catalog) = interrupt.around(
        move || wish.wish(),
        || {
            let mut session = crate::open::session(&named.profile, &stop)?;
            let catalog = super::load::catalog(session.as_mut(), &stop)?;
            Ok::<_, Failure>((session, catalog))
        },
    )?;
    let statement = match (&side.table, &side.statement) {
        (Some(table), _) => of_table(table, &named.profile.name, &catalog, dialect)?,
        (None, Some(statement)) => statement.trim().trim_end_matches(';').to_owned(),
        (None, None) => String::new(),
    };
    if acts(&statement, dialect) != Acts::Reads {
        return Err(Failure::Usage("only a statement that reads gives rows to compare".into()));
    }
    let run = ran(session.as_mut(), named, &statement, keeping, interrupt)?;
    let kept = run.results().into_iter().find_map(|result| match result {
        RunResult::Rows(rows) => Some(rows),
        _ => None,
    });
    let kept = kept.ok_or_else(|| Failure::Usage(format!("{}: the statement gives no rows", named.profile.name)))?;
    let archive = kept.archive().map_err(|error| Failure::Usage(error.to_string()))?;
    let origins = archive.schema().fields().iter().map(|field| Origin::of(field)).collect();
    Ok(Rows { archive, statement, origins, catalog: Some(catalog), dialect: Some(dialect), partial: None })
}

/// All rows of a table of a connection.
fn of_table(table: &str, of: &str, catalog: &Catalog, dialect: &'static Dialect) -> Result<String, Failure> {
    let found = relation(table, catalog, dialect)
        .ok_or_else(|| Failure::Usage(format!("{}: there is no table or view {table}", clean(of))))?;
    let name = dialect.name_as_written(&found.name);
    if dialect.family == Family::Documents {
        return Ok(format!("{name} | sort {{ _id: 1 }}"));
    }
    let schema =
        if found.schema.is_empty() { String::new() } else { format!("{}.", dialect.name_as_written(&found.schema)) };
    let key: Vec<String> = found.primary_key().iter().map(|name| dialect.name_as_written(name)).collect();
    let order = if key.is_empty() { String::new() } else { format!(" order by {}", key.join(", ")) };
    Ok(format!("select * from {schema}{name}{order}"))
}

fn ran(
    session: &mut dyn Session,
    named: &Named,
    statement: &str,
    keeping: &Keeping,
    interrupt: &Interrupt,
) -> Result<Arc<Run>, Failure> {
    let shows = std::io::stderr().is_terminal();
    let begun = Arc::new(OnceLock::<Arc<Run>>::new());
    let tell: Tell = {
        let (begun, shown) = (Arc::clone(&begun), progress::of_run(shows));
        Arc::new(move |run| {
            begun.get_or_init(|| Arc::clone(run));
            shown(run);
        })
    };
    let stop = Stop::default();
    let wish = stop.clone();
    let end = move || match begun.get() {
        Some(run) => run.stop(),
        None => wish.wish(),
    };
    let job = Job { statement: statement.to_owned(), title: Some("compare".into()), confirmed: true, ..Job::default() };
    let location = session.location();
    let run =
        interrupt.around(end, || execute(session, (&named.profile, &location), &job, keeping, None, (&tell, &stop)));
    if shows {
        progress::clear();
    }
    match (run.outcome(), run.end().and_then(|end| end.error.as_ref())) {
        (Outcome::Done, _) => Ok(run),
        (_, Some(error)) => Err(Failure::Database(error.explain(statement, 1))),
        (_, None) => Err(Failure::Stopped("cancelled".into())),
    }
}

fn rows(args: &CompareRows) -> Result<bool, Failure> {
    let sides = sides(args)?;
    let folders = crate::open::folders()?;
    let keeping = sides
        .iter()
        .any(|side| side.named.is_some())
        .then(|| Keeping::open(&folders, settings::load(&folders.settings()).retention));
    let interrupt = Interrupt::listen();
    // Kept rows first: what runs here would be the latest run.
    let kept = |side: &Side| side.run.is_some().then(|| read(side, keeping.as_ref(), &interrupt)).transpose();
    let [left, right] = [kept(&sides[0])?, kept(&sides[1])?];
    let running = |kept: Option<Rows>, side: &Side| kept.map_or_else(|| read(side, keeping.as_ref(), &interrupt), Ok);
    let [left, right] = [running(left, &sides[0])?, running(right, &sides[1])?];
    let outcome = of_rows(args, &left, &right, &sides, &interrupt);
    if let Some(keeping) = &keeping {
        keeping.clear_unremembered();
    }
    outcome
}

fn of_rows(
    args: &CompareRows,
    left: &Rows,
    right: &Rows,
    sides: &[Side; 2],
    interrupt: &Interrupt,
) -> Result<bool, Failure> {
    let names = [left.names(), right.names()];
    let key = match args.key.is_empty() {
        false => args.key.clone(),
        true => {
            let of = |rows: &Rows| {
                let ground = rows.ground(&[]).ok()?;
                let key: Vec<String> = ground.key.iter().map(|at| ground.fields[*at].column.name.clone()).collect();
                Some(key).filter(|key| !key.is_empty())
            };
            // A document has its key whatever the pipeline is that it comes from, as long as it comes as it is.
            let of_documents = |rows: &Rows| rows.dialect.is_some_and(|dialect| dialect.family == Family::Documents);
            let of_document = || (of_documents(left) && of_documents(right)).then(|| vec!["_id".to_owned()]);
            let key = of(left).or_else(|| of(right)).or_else(of_document).unwrap_or_default();
            let has =
                |names: &[String], name: &String| names.iter().any(|known| known.to_lowercase() == name.to_lowercase());
            key.into_iter().filter(|name| names.iter().all(|names| has(names, name))).collect()
        }
    };
    let failed = |error: CompareError| match error {
        CompareError::Reading(jaunty_core::arrange::ArrangeError::Stopped) => Failure::Stopped("cancelled".into()),
        error => Failure::Usage(error.to_string()),
    };
    let columns = Columns::matched(&names[0], &names[1], &key).map_err(failed)?;
    let parts = [Part::whole(Arc::clone(&left.archive)), Part::whole(Arc::clone(&right.archive))];
    let shows = std::io::stderr().is_terminal();
    let found = progress::with_cancel(shows, "compared", interrupt, |progress| {
        compare(&parts[0], &parts[1], columns, progress)
    });
    let found = found.map_err(failed)?;
    for (rows, side) in [left, right].into_iter().zip(["left", "right"]) {
        // Of a kept run it is read as the left one, for which the statements are.
        let cut =
            rows.dialect.or(left.dialect).and_then(|dialect| cut_by(&rows.statement, rows.archive.rows(), dialect));
        if let Some(word) = cut.filter(|_| args.found.statements) {
            return Err(Failure::Usage(format!(
                "the statement of the {side} takes only some of the rows ({word}); no statements are made of them"
            )));
        }
        let Some(outcome) = rows.partial else { continue };
        let what = format!("the rows of the {side} run are not all there: {}", outcome.word());
        // A row that is missing would be one to delete.
        if args.found.statements {
            return Err(Failure::Usage(format!("{what}; no statements are made of them")));
        }
        eprintln!("jaunty: {what}");
    }
    if args.found.statements {
        written(&found, left, sides, interrupt)?;
        return Ok(found.is_same());
    }
    let mut out = std::io::BufWriter::new(std::io::stdout());
    let gone = |error: std::io::Error| Failure::output(&error, "standard output");
    for rows in found.rows.chunks(AT_ONCE) {
        for row in found.shown(rows).map_err(failed)? {
            let line = if args.found.json {
                row_as_json(&row, &found)
            } else {
                clean(&row_in_words(&row, &found)).into_owned()
            };
            writeln!(out, "{line}").map_err(gone)?;
        }
    }
    if !args.found.json {
        let mut text = String::new();
        let counts: Vec<u64> = Difference::ALL.iter().map(|what| found.counted(*what)).collect();
        text.push_str(&summary("row", &counts, found.same));
        text.push_str(&match found.columns.key().join(", ") {
            key if key.is_empty() => "compared as whole rows: no key is known (--key names one)\n".to_owned(),
            key => format!("compared by {key}\n"),
        });
        for (only, side) in found.columns.only.iter().zip(["left", "right"]).filter(|(only, _)| !only.is_empty()) {
            text.push_str(&format!("not compared, as only the {side} has them: {}\n", only.join(", ")));
        }
        for (repeated, side) in found.repeated.iter().zip(["left", "right"]).filter(|(repeated, _)| **repeated > 0) {
            if !found.columns.key().is_empty() {
                let rows = words::count(*repeated, "row");
                text.push_str(&format!(
                    "on the {side} {rows} with a key that comes before: they were taken in order\n"
                ));
            }
        }
        writeln!(out, "{}", clean_lines(&text)).map_err(gone)?;
    }
    out.flush().map_err(gone)?;
    Ok(found.is_same())
}

fn quoted(value: Option<&Datum>) -> String {
    match value {
        None => "(none)".into(),
        Some(Datum::Text(text)) => format!("'{text}'"),
        Some(value) => value.shown().to_owned(),
    }
}

fn row_in_words(row: &Shown, found: &Comparison) -> String {
    let pairs = || found.columns.pairs.iter().zip(&row.cells).zip(&row.differs);
    let all_key = found.columns.key().is_empty();
    let side = usize::from(row.what == Difference::OnlyRight);
    let key = pairs().filter(|((pair, _), _)| pair.key && !all_key);
    let key: Vec<String> =
        key.map(|((pair, cells), _)| format!("{} {}", pair.name, quoted(cells[side].as_ref()))).collect();
    let others = pairs().filter(|((pair, _), differs)| (!pair.key || all_key) && **differs);
    let others: Vec<String> = others
        .map(|((pair, [left, right]), _)| match row.what {
            Difference::Changed => format!("{}: {} → {}", pair.name, quoted(left.as_ref()), quoted(right.as_ref())),
            Difference::OnlyLeft => format!("{} {}", pair.name, quoted(left.as_ref())),
            Difference::OnlyRight => format!("{} {}", pair.name, quoted(right.as_ref())),
        })
        .collect();
    let both: Vec<String> = [key.join(", "), others.join(" · ")].into_iter().filter(|text| !text.is_empty()).collect();
    format!("{} {}", row.what.sign(), both.join("  "))
}

fn row_as_json(row: &Shown, found: &Comparison) -> String {
    let value = |value: &Datum| match value {
        Datum::Null | Datum::Default => Value::Null,
        Datum::Bool(value) => json!(value),
        Datum::Number(text) => serde_json::from_str(text).ok().filter(Value::is_number).unwrap_or_else(|| json!(text)),
        value => json!(value.text()),
    };
    let side = |side: usize| -> Value {
        let cells = found.columns.pairs.iter().zip(&row.cells);
        let cells = cells.filter_map(|(pair, cells)| Some((pair.name.clone(), value(cells[side].as_ref()?))));
        let all: Map<String, Value> = cells.collect();
        if all.is_empty() { Value::Null } else { Value::Object(all) }
    };
    let differs = found.columns.pairs.iter().zip(&row.differs).filter(|(_, differs)| **differs);
    let differs: Vec<&str> = differs.map(|(pair, _)| pair.name.as_str()).collect();
    let differs = if row.what == Difference::Changed { json!(differs) } else { Value::Null };
    json!({"what": row.what.word(), "columns": differs, "left": side(0), "right": side(1)}).to_string()
}

/// Writes the statements that make the left like the right.
fn written(found: &Comparison, left: &Rows, sides: &[Side; 2], interrupt: &Interrupt) -> Result<(), Failure> {
    let keys: Vec<String> = found.columns.key().into_iter().map(str::to_owned).collect();
    let ground = left.ground(&keys).map_err(Failure::Usage)?;
    let dialect = left.dialect.ok_or_else(|| Failure::Usage("the left side has no connection".into()))?;
    let made = progress::with_cancel(false, "written", interrupt, |progress| drafts(found, &ground, progress));
    let made = made.map_err(|why| Failure::Usage(why.to_string()))?;
    let connection = sides[0].named.as_ref().map(|named| named.profile.name.clone()).unwrap_or_default();
    let slip = Slip { connection, ground, drafts: made, ..Slip::default() };
    if slip.is_empty() {
        eprintln!("nothing differs that a statement could change");
        return Ok(());
    }
    let mut out = std::io::BufWriter::new(std::io::stdout());
    put(&mut out, &statements::alone(&slip, dialect))?;
    out.flush().map_err(|error| Failure::output(&error, "standard output"))
}
