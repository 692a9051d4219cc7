//! Speed and memory, each beside a floor measured in the same run. Ratios and percentiles say
//! something about the program; seconds would only say something about the machine.
//!
//! `cargo bench -p jaunty-bench` measures all; `cargo bench -p jaunty-bench -- keys memory` some.

#![allow(clippy::print_stdout)] // It is a report.

use std::error::Error;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use jaunty_bench::measured::Times;
use jaunty_bench::program::{Program, build};
use jaunty_core::archive::Retention;
use jaunty_core::connection;
use jaunty_core::files::Folders;
use jaunty_core::run::execute::{Tell, execute};
use jaunty_core::run::{Job, Keeping, Run};
use jaunty_engines::Sqlite;
use jaunty_seam::engine::{Event, Flow, Request, Sink, Stop};
use jaunty_seam::profile::Profile;
use rusqlite::Connection;
use rusqlite::types::ValueRef;

type Outcome = Result<(), Box<dyn Error>>;

/// A name for the command line, what it measures, and how.
type Measure = (&'static str, &'static str, fn(&Path) -> Outcome);

const MEASURES: &[Measure] = &[
    ("archive", "(a) rows a second from SQLite into the archive ÷ a bare loop that touches each value", archive),
    ("pages", "(b) pages of 40 rows at random places of a 5,000,000-row archive, ready for the screen", pages),
    ("keys", "(c) from a key to its frame while 5,000,000 rows stream in", keys),
    ("start", "(d) start to first frame, beyond the process's own start", start),
    ("memory", "(e) peak memory at 1, 5 and 20 million rows", memory),
];

fn main() -> Outcome {
    let wanted: Vec<String> = std::env::args().skip(1).filter(|argument| !argument.starts_with('-')).collect();
    for (name, title, measure) in MEASURES {
        if wanted.is_empty() || wanted.iter().any(|w| w == name) {
            println!("\n{title}");
            let folder = tempfile::tempdir()?;
            measure(folder.path())?;
        }
    }
    Ok(())
}

const TABLE: &str = "create table readings(id integer primary key, name text, amount real, at text, ok integer);
    insert into readings with recursive n(i) as (select 1 union all select i + 1 from n where i < 3000000)
    select i, 'row-' || printf('%016d', i), i % 1000000 / 100.0, '2031-03-01 00:00:00', i % 3 = 0 from n";

fn readings(folder: &Path) -> Result<PathBuf, Box<dyn Error>> {
    let path = folder.join("readings.db");
    let db = Connection::open(&path)?;
    db.query_row("pragma journal_mode = off", [], |_| Ok(()))?;
    db.execute_batch(TABLE)?;
    Ok(path)
}

/// The least that reading all values costs.
fn bare_loop(path: &Path) -> Result<(u64, u64), rusqlite::Error> {
    let db = Connection::open(path)?;
    let mut statement = db.prepare("select * from readings")?;
    let mut rows = statement.query([])?;
    let (mut count, mut touched) = (0, 0_u64);
    while let Some(row) = rows.next()? {
        for column in 0..5 {
            touched = touched.wrapping_add(match row.get_ref(column)? {
                ValueRef::Null => 0,
                ValueRef::Integer(v) => v as u64,
                ValueRef::Real(v) => v.to_bits(),
                ValueRef::Text(v) | ValueRef::Blob(v) => v.len() as u64 + u64::from(v.last().copied().unwrap_or(0)),
            });
        }
        count += 1;
    }
    Ok((count, touched))
}

/// Runs a statement as the program does, with archive and logbook.
fn run(path: &str, statement: &str, state: &Path) -> Result<Arc<Run>, Box<dyn Error>> {
    let profile = Profile::new("bench", "sqlite").with("path", path);
    let mut session = connection::open(&Sqlite, &profile, None)?;
    let location = session.location();
    let keeping = Keeping::open(&Folders::below(state), Retention::default());
    let tell: Tell = Arc::new(|_| {});
    let job = Job { statement: statement.into(), ..Job::default() };
    Ok(execute(session.as_mut(), (&profile, &location), &job, &keeping, None, (&tell, &Stop::default())))
}

/// A sink that keeps nothing.
struct Forgets;

impl Sink for Forgets {
    fn wanted(&self) -> Flow {
        Flow::Continue
    }
    fn take(&mut self, event: Event) -> Flow {
        let Event::Rows(batch) = event else { return Flow::Continue };
        std::hint::black_box(batch);
        Flow::Continue
    }
}

fn archive(folder: &Path) -> Outcome {
    let path = readings(folder)?;
    let (mut kept, mut forgotten) = (Vec::new(), Vec::new());
    for round in 0..7 {
        let floor = || -> Result<_, Box<dyn Error>> {
            let begun = Instant::now();
            let (rows, touched) = bare_loop(&path)?;
            std::hint::black_box(touched);
            Ok((rows, begun.elapsed()))
        };
        // Each is measured between two floors, since a machine is not always equally fast.
        let (rows, before) = floor()?;
        let begun = Instant::now();
        let run = run(&path.to_string_lossy(), "select * from readings", &folder.join(round.to_string()))?;
        let ours = begun.elapsed();
        assert_eq!(run.rows(), rows);
        std::fs::remove_dir_all(folder.join(round.to_string()))?;
        let (_, between) = floor()?;
        let begun = Instant::now();
        let profile = Profile::new("bench", "sqlite").with("path", path.to_string_lossy());
        connection::open(&Sqlite, &profile, None)?.run(&Request::new("select * from readings"), Box::new(Forgets))?;
        let batches = begun.elapsed();
        let (_, after) = floor()?;
        kept.push((before + between).as_secs_f64() / 2.0 / ours.as_secs_f64());
        forgotten.push((between + after).as_secs_f64() / 2.0 / batches.as_secs_f64());
    }
    for (what, ratios) in [("ratio", &mut kept), ("into batches alone, which nobody keeps", &mut forgotten)] {
        ratios.sort_by(f64::total_cmp);
        let wanted = if what == "ratio" { " (wanted: at least 0.85)" } else { "" };
        println!(
            "  {what}: median {:.2}, least {:.2}, most {:.2} of {}{wanted}",
            ratios[ratios.len() / 2],
            ratios[0],
            ratios[ratios.len() - 1],
            ratios.len()
        );
    }
    Ok(())
}

fn numbers(rows: u64) -> String {
    format!(
        "with recursive n(i) as (select 1 union all select i + 1 from n where i < {rows}) select i, 'row ' || i as name, i / 7.0 as amount from n"
    )
}

fn pages(folder: &Path) -> Outcome {
    let run = run(":memory:", &numbers(5_000_000), folder)?;
    let kept = run.kept_rows().ok_or("no rows")?;
    let mut times = Times::default();
    let mut place = 88_172_645_463_325_252_u64;
    for _ in 0..5000 {
        // xorshift: any sequence without a pattern will do.
        place ^= place << 13;
        place ^= place >> 7;
        place ^= place << 17;
        let begun = Instant::now();
        let page = jaunty_tui::pager::page(&kept, None, place % 5_000_000, 40)?;
        times.push(begun.elapsed());
        std::hint::black_box(page);
    }
    println!("  {} (wanted: p99 at most 16 ms)", times.summary());
    Ok(())
}

/// Opens the program on a buffer with one statement.
fn open(program: &Path, folder: &Path, statement: &str) -> Result<Program, Box<dyn Error>> {
    Connection::open(folder.join("a.db"))?.execute_batch("create table if not exists t(a)")?;
    std::fs::create_dir_all(folder.join(".jaunty"))?;
    std::fs::write(folder.join(".jaunty/connections.toml"), "[ferry]\nengine = \"sqlite\"\npath = \"../a.db\"\n")?;
    std::fs::write(folder.join("a.sql"), format!("{statement};\n\n"))?;
    let mut opened = Program::start(program, folder, &["a.sql", "-c", "ferry"])?;
    opened.shows("a.db")?;
    Ok(opened)
}

const RUN: &str = "\x07";
const RUB_OUT: &str = "\x7f";
const END_OF_BUFFER: &str = "\x1b[1;5F";

fn keys(folder: &Path) -> Outcome {
    let program = build()?;
    // More than five million, so that rows still stream when the last key is pressed.
    let mut opened = open(&program, folder, &numbers(40_000_000))?;
    opened.types(RUN)?;
    opened.shows("so far")?;
    opened.types(END_OF_BUFFER)?;
    let letters: Vec<char> = ('à'..='ö').chain('ø'..='ÿ').chain('а'..='я').collect();
    let mut times = Times::default();
    for letter in letters.iter().cycle().take(600) {
        let pressed = opened.types(&letter.to_string())?;
        times.push(opened.shows(&letter.to_string())?.saturating_duration_since(pressed));
        opened.types(RUB_OUT)?;
        opened.loses(&letter.to_string())?;
    }
    println!("  typing: {} (wanted: p99 at most 16 ms)", times.summary());
    drop(opened);
    let jumps = folder.join("jumps");
    std::fs::create_dir_all(&jumps)?;
    let mut opened = open(&program, &jumps, &numbers(5_000_000))?;
    let pressed = opened.types(RUN)?;
    let first = opened.shows("row 37")?.saturating_duration_since(pressed);
    println!("  first page after the run key: {:.1} ms", first.as_secs_f64() * 1000.0);
    opened.shows("of 5,000,000")?;
    opened.loses("so far")?;
    opened.types("\x14")?;
    let mut times = Times::default();
    for _ in 0..100 {
        for (key, row) in [(">", "row 5000000"), ("<", "row 37")] {
            let pressed = opened.types(key)?;
            times.push(opened.shows(row)?.saturating_duration_since(pressed));
        }
    }
    println!("  to the last page and back: {} (wanted: within a frame)", times.summary());
    opened.types("<")?;
    std::thread::sleep(Duration::from_secs(2));
    let before = opened.processor_ticks()?;
    std::thread::sleep(Duration::from_secs(5));
    println!("  idle: {} ticks of processor time in 5 s (wanted: 0)", opened.processor_ticks()? - before);
    Ok(())
}

fn start(folder: &Path) -> Outcome {
    let program = build()?;
    drop(open(&program, folder, "select 1")?);
    let (mut floor, mut ours) = (Times::default(), Times::default());
    for _ in 0..30 {
        let mut version = Program::start(&program, folder, &["--version"])?;
        floor.push(version.shows("jaunty 0")?.saturating_duration_since(version.started));
        let mut opened = Program::start(&program, folder, &["a.sql", "-c", "ferry"])?;
        ours.push(opened.shows("select")?.saturating_duration_since(opened.started));
    }
    println!("  process alone: {}", floor.summary());
    let beyond = ours.percentile(99).saturating_sub(floor.percentile(50));
    println!("  first frame:   {}", ours.summary());
    println!("  beyond: {:.1} ms at p99 (wanted: at most 100 ms)", beyond.as_secs_f64() * 1000.0);
    Ok(())
}

fn memory(folder: &Path) -> Outcome {
    let program = build()?;
    for (rows, shown) in [(1_000_000, "of 1,000,000"), (5_000_000, "of 5,000,000"), (20_000_000, "of 20,000,000")] {
        let folder = folder.join(rows.to_string());
        std::fs::create_dir_all(&folder)?;
        let mut opened = open(&program, &folder, &numbers(rows))?;
        opened.types(RUN)?;
        opened.shows(shown)?;
        opened.loses("so far")?;
        opened.types("\x14")?;
        for jump in 1..=200_u64 {
            let row = (jump * 7_919_993) % rows + 1;
            opened.types(&format!("\x1bj{row}\r"))?;
            opened.shows(&format!("row {row}"))?;
        }
        println!("  {rows} rows and 200 jumps among them: {:.1} MB (wanted: below 150)", opened.peak_memory()?);
        drop(opened);
        std::fs::remove_dir_all(&folder)?;
    }
    Ok(())
}
