//! What a person does with a large result, in the real program with a real server: 5,000,000 of 20,000,000
//! rows are selected; they are read, fetched to the last, sorted by each column and searched, and keys
//! are answered meanwhile. Beside it the bare driver's first rows, and Arrow's kernels with the same
//! rows in memory.
//!
//! `cargo bench -p jaunty-bench --bench whole`; `ROWS=2000000` makes the table smaller.

#![allow(clippy::print_stdout)] // It is a report.

use std::error::Error;
use std::path::Path;
use std::time::{Duration, Instant};

use arrow_array::RecordBatch;
use jaunty_bench::kernels::{searched, sorted};
use jaunty_bench::measured::Times;
use jaunty_bench::postgres::{bare, table};
use jaunty_bench::program::{Program, build};
use jaunty_core::archive::Archive;
use jaunty_testservers::PASSWORD;

type Outcome<T = ()> = Result<T, Box<dyn Error>>;

const RUN: &str = "\x07";
const OTHER_PANE: &str = "\x14";
const RIGHT: &str = "\x1b[C";
const COLUMNS: [&str; 5] = ["id", "name", "amount", "ts", "ok"];
/// Some rows have it, most of them in more than one column.
const SOUGHT: &str = "999";

fn main() -> Outcome {
    let of: u64 = std::env::var("ROWS").ok().and_then(|rows| rows.parse().ok()).unwrap_or(20_000_000);
    let rows = of / 4;
    let server = table(of);
    let program = build()?;
    let folder = tempfile::tempdir()?;
    let statement = format!("select * from t where id <= {rows}");
    let mut floor = Times::default();
    for _ in 0..15 {
        floor.push(bare(server.port, &statement, 100)?.1);
    }
    println!("{rows} of {of} rows of PostgreSQL, in the program; the bare driver's first 100: {}", floor.summary());

    let mut opened = open(&program, folder.path(), server.port, &statement)?;
    let pressed = opened.types(RUN)?;
    let took = opened.shows("1–37 of")?.saturating_duration_since(pressed);
    println!("  first page after the run key: {:.1} ms", ms(took));
    opened.shows("held")?;
    opened.types(OTHER_PANE)?;
    opened.shows("›")?;
    println!("  paging while the rest is held: {}", paged(&mut opened, 200, "held")?.0.summary());

    // The rest comes, while somebody reads.
    let all = words(rows);
    let pressed = opened.types(">")?;
    opened.shows("so far")?;
    opened.types("<")?;
    opened.shows("1–37 of")?;
    let (keys, _) = paged(&mut opened, 2000, "so far")?;
    println!("  paging while it streams: {}", keys.summary());
    opened.types(">")?;
    let last = opened.shows(&format!("{} of {all}", words(rows)))?.saturating_duration_since(pressed);
    opened.loses("so far")?;
    println!("  the last page, after the key that asks for it: {:.1} s", last.as_secs_f64());
    opened.types("<")?;
    opened.shows("1–37 of")?;

    let mut ours: Vec<(String, Duration)> = Vec::new();
    let mut keys = Times::default();
    for (at, name) in COLUMNS.iter().enumerate() {
        if at > 0 {
            opened.types(RIGHT)?;
        }
        for sign in ["↑", "↓"] {
            let begun = opened.types("s")?;
            opened.shows("sorting")?;
            let (paged, ended) = paged(&mut opened, 2000, "sorting")?;
            ours.push((format!("sort by {name} {sign}"), ended.saturating_duration_since(begun)));
            keys.extend(paged);
        }
        // As they came.
        opened.types("s")?;
        opened.loses("↓")?;
    }
    println!("  paging while rows are sorted: {}", keys.summary());
    opened.types("/")?;
    opened.shows("in any column")?;
    opened.types(SOUGHT)?;
    let begun = opened.types("\r")?;
    opened.shows("searching the rows")?;
    let (keys, ended) = paged(&mut opened, 2000, "searching the rows")?;
    ours.push((format!("search {SOUGHT:?}"), ended.saturating_duration_since(begun)));
    println!("  paging while they are searched: {}", keys.summary());
    println!("  peak memory of the program: {:.1} MB (wanted: under 400)", opened.peak_memory()?);
    drop(opened);
    drop(server);

    let whole = in_memory(folder.path())?;
    let mut floors = Vec::new();
    for column in whole.columns() {
        for descending in [false, true] {
            floors.push(sorted(column, descending)?);
        }
    }
    floors.push(searched(&whole, SOUGHT)?);
    println!("ours, from the key to the rows ÷ the bare kernel (wanted: at most 3)");
    for ((what, took), floor) in ours.iter().zip(&floors) {
        println!(
            "  {what}: {:.2} ({:.0} ms ÷ {:.0} ms)",
            took.as_secs_f64() / floor.as_secs_f64(),
            ms(*took),
            ms(*floor)
        );
    }
    Ok(())
}

fn ms(time: Duration) -> f64 {
    time.as_secs_f64() * 1000.0
}

/// A number as the program writes it.
fn words(number: u64) -> String {
    jaunty_core::words::number(number)
}

fn open(program: &Path, folder: &Path, port: u16, statement: &str) -> Outcome<Program> {
    let profile = format!(
        "[bench]\nengine = \"postgres\"\nhost = \"127.0.0.1\"\nport = {port}\nuser = \"clerk\"\ndatabase = \"bookings\"\nsecret_command = \"echo {PASSWORD}\"\ntls = \"off\"\n"
    );
    std::fs::create_dir_all(folder.join(".jaunty"))?;
    std::fs::write(folder.join(".jaunty/connections.toml"), profile)?;
    std::fs::write(folder.join("a.sql"), format!("{statement};\n"))?;
    let mut opened = Program::start_with(program, folder, "", &["a.sql", "-c", "bench"])?;
    opened.shows("bookings")?;
    Ok(opened)
}

/// Pages on and back as long as the screen shows something, at most so many times: from each key to its
/// frame, and when it was shown no more.
fn paged(opened: &mut Program, most: usize, shown: &str) -> Outcome<(Times, Instant)> {
    let mut times = Times::default();
    let mut ended = Instant::now();
    for _ in 0..most {
        for (key, rows) in [(" ", "38–74 of"), ("b", "1–37 of")] {
            let pressed = opened.types(key)?;
            if let Some(came) = opened.shows_while(rows, shown)? {
                times.push(came.saturating_duration_since(pressed));
            }
        }
        ended = Instant::now();
        if !opened.is_showing(shown) {
            break;
        }
        // As quick as a held key, not more.
        std::thread::sleep(Duration::from_millis(10));
    }
    opened.types("<")?;
    opened.shows("1–37 of")?;
    Ok((times, ended))
}

/// The rows that the program has kept, in memory.
fn in_memory(folder: &Path) -> Outcome<RecordBatch> {
    let kept = std::fs::read_dir(folder.join("state/jaunty/archives"))?;
    let paths: Vec<_> = kept.map(|entry| entry.map(|entry| entry.path())).collect::<Result<_, _>>()?;
    let [path] = paths.as_slice() else { return Err(format!("one archive was expected: {paths:?}").into()) };
    let archive = Archive::open(path)?;
    let batches: Vec<RecordBatch> = archive.batches().collect::<Result<_, _>>()?;
    Ok(arrow_select::concat::concat_batches(&archive.schema(), &batches)?)
}
