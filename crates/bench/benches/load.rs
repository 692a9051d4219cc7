//! Rows of a CSV file into a table, beside the server's own reading of the same file in the same run; for SQLite beside
//! the least loop that inserts them, and for SQL Server, which is simulated here, beside the same rows in statements of
//! many rows each.
//!
//! `cargo bench -p jaunty-bench --bench load` measures all; a name after `--`, some: `sqlite`, `postgres`, `mariadb`, `sqlserver`.
//! `ROWS=200000` makes the file smaller than 1,000,000 rows.

#![allow(clippy::print_stdout)] // It is a report.

use std::error::Error;
use std::fmt::Write as _;
use std::path::Path;
use std::time::{Duration, Instant};

use jaunty_bench::measured::Times;
use jaunty_core::connection::open;
use jaunty_core::import::{Choices, Matching, Options, Parts, Source, load};
use jaunty_engines::by_name;
use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::load::{Meeting, Nothing};
use jaunty_seam::engine::{CatalogPart, Request, Session, Stop};
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_standins::tds::{Options as Simulated, Server};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres};

type Outcome<T = ()> = Result<T, Box<dyn Error>>;

const ROUNDS: usize = 5;

fn main() -> Outcome {
    let wanted: Vec<String> = std::env::args().skip(1).filter(|argument| !argument.starts_with('-')).collect();
    let rows: u64 = std::env::var("ROWS").ok().and_then(|rows| rows.parse().ok()).unwrap_or(1_000_000);
    let is_wanted = |name: &str| wanted.is_empty() || wanted.iter().any(|w| w == name);
    let folder = tempfile::tempdir_in("/tmp")?;
    // Servers that run as another user read it too.
    std::process::Command::new("chmod").args(["755", &folder.path().display().to_string()]).status()?;
    let file = folder.path().join("readings.csv");
    std::fs::write(&file, csv(rows))?;
    println!("{rows} rows, {} MB", std::fs::metadata(&file)?.len() >> 20);
    if is_wanted("sqlite") {
        sqlite(folder.path(), &file, rows)?;
    }
    if is_wanted("postgres") {
        postgres(&file, rows)?;
    }
    if is_wanted("mariadb") {
        mariadb(&file, rows)?;
    }
    if is_wanted("sqlserver") {
        sqlserver(folder.path(), rows / 5)?;
    }
    Ok(())
}

fn csv(rows: u64) -> String {
    let mut text = String::from("id,vessel,note,depth,share,taken_at,day,open\n");
    for n in 0..rows {
        let (hour, minute, day) = (n % 24, n % 60, 1 + n % 28);
        let _ = writeln!(
            text,
            "{n},vessel {},\"a reading, number {n}\",{}.{:02},{},2031-03-{day:02} {hour:02}:{minute:02}:00,2031-03-{day:02},{}",
            n % 97,
            n % 1000,
            n % 100,
            (n % 1013) as f64 / 7.0,
            n % 2 == 0
        );
    }
    text
}

fn ours(session: &mut dyn Session, file: &Path, engine: &str, rows: u64) -> Outcome<Duration> {
    into_table(session, file, engine, "readings", rows)
}

fn into_table(session: &mut dyn Session, file: &Path, engine: &str, table: &str, rows: u64) -> Outcome<Duration> {
    let dialect = by_name(engine).ok_or("no such engine")?.dialect();
    let since = Instant::now();
    let source = Source::open(file, &Choices::default())?;
    let (mut catalog, mut part) = (Catalog::default(), 0);
    while session.catalog(&CatalogPart::number(part), &mut catalog)? {
        part += 1;
    }
    catalog.complete();
    let table = catalog.objects().iter().find(|object| object.name == table).ok_or("no table")?;
    let matching = Matching::into_table(&source.found, table, &[], &catalog, dialect)?;
    let options = Options {
        parts: Parts::One,
        meeting: Meeting::Refuse,
        refused: None,
        stop: Stop::default(),
        told: &mut |_, _| {},
    };
    let loaded = load(source, &matching, session, dialect, options)?;
    assert_eq!(loaded.rows, rows);
    Ok(since.elapsed())
}

fn profile(engine: &str, port: u16) -> Profile {
    let mut profile =
        Profile::new("bench", engine).with("user", "clerk").with("database", "bookings").with("tls", "off");
    profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
    profile
}

fn told(what: &str, ours: &mut Times, theirs: &mut Times, wanted: f64) {
    let ratio = theirs.percentile(50).as_secs_f64() / ours.percentile(50).as_secs_f64();
    println!(
        "{what}: {:.2} of it (aim {wanted}); ours {:?}, theirs {:?}",
        ratio,
        ours.percentile(50),
        theirs.percentile(50)
    );
}

const SQLITE: &str = "create table readings (id integer, vessel text, note text, depth numeric, share real, taken_at text, day text, open boolean)";

fn sqlite(folder: &Path, file: &Path, rows: u64) -> Outcome {
    let (mut own, mut least) = (Times::default(), Times::default());
    for round in 0..ROUNDS {
        let path = folder.join(format!("ours-{round}.db"));
        rusqlite::Connection::open(&path)?.execute_batch(SQLITE)?;
        let profile = Profile::new("bench", "sqlite").with("path", &*path.to_string_lossy());
        let mut session = open(by_name("sqlite").ok_or("no such engine")?, &profile, None)?;
        own.push(ours(session.as_mut(), file, "sqlite", rows)?);
        std::fs::remove_file(&path)?;
        let path = folder.join(format!("least-{round}.db"));
        let since = Instant::now();
        let mut connection = rusqlite::Connection::open(&path)?;
        connection.execute_batch(SQLITE)?;
        let transaction = connection.transaction()?;
        {
            let mut insert = transaction.prepare("insert into readings values (?,?,?,?,?,?,?,?)")?;
            let mut reader = csv::Reader::from_path(file)?;
            let mut record = csv::StringRecord::new();
            while reader.read_record(&mut record)? {
                for (at, field) in record.iter().enumerate() {
                    insert.raw_bind_parameter(at + 1, field)?;
                }
                insert.raw_execute()?;
            }
        }
        transaction.commit()?;
        least.push(since.elapsed());
        std::fs::remove_file(&path)?;
    }
    told("SQLite, the least loop that inserts", &mut own, &mut least, 0.65);
    Ok(())
}

fn postgres(file: &Path, rows: u64) -> Outcome {
    let server = Postgres::start();
    let table = "create table readings (id bigint, vessel text, note text, depth numeric(10,2), share double precision, taken_at timestamp, day date, open boolean)";
    server.sql_in("bookings", &format!("{table}; grant all on readings to clerk"));
    let engine = by_name("postgres").ok_or("no such engine")?;
    let mut session = open(engine, &profile("postgres", server.port), Some(&Secret::new(PASSWORD.into())))?;
    let (mut own, mut theirs) = (Times::default(), Times::default());
    for _ in 0..ROUNDS {
        server.sql_in("bookings", "truncate readings");
        own.push(ours(session.as_mut(), file, "postgres", rows)?);
        server.sql_in("bookings", "truncate readings");
        let since = Instant::now();
        server.sql_in("bookings", &format!("copy readings from '{}' with (format csv, header)", file.display()));
        theirs.push(since.elapsed());
    }
    told("PostgreSQL, its own reading of the file", &mut own, &mut theirs, 1.5);
    Ok(())
}

fn mariadb(file: &Path, rows: u64) -> Outcome {
    let server = Mariadb::start();
    let table = "create table bookings.readings (id bigint, vessel varchar(40), note varchar(80), depth decimal(10,2), share double, taken_at datetime, day date, open varchar(5))";
    server.sql(table);
    let engine = by_name("mysql").ok_or("no such engine")?;
    let mut session = open(engine, &profile("mysql", server.port), Some(&Secret::new(PASSWORD.into())))?;
    let (mut own, mut theirs) = (Times::default(), Times::default());
    for _ in 0..ROUNDS {
        server.sql("truncate bookings.readings");
        own.push(ours(session.as_mut(), file, "mysql", rows)?);
        server.sql("truncate bookings.readings");
        let since = Instant::now();
        server.sql(&format!(
            "load data infile '{}' into table bookings.readings fields terminated by ',' optionally enclosed by '\"' ignore 1 lines",
            file.display()
        ));
        theirs.push(since.elapsed());
    }
    told("MariaDB, its own reading of the file", &mut own, &mut theirs, 0.8);
    Ok(())
}

fn sqlserver(folder: &Path, rows: u64) -> Outcome {
    let file = folder.join("fewer.csv");
    std::fs::write(&file, csv(rows))?;
    let server = Server::start(Simulated::default())?;
    let engine = by_name("sqlserver").ok_or("no such engine")?;
    let secret = Secret::new(Simulated::default().password);
    let profile = profile("sqlserver", server.port()).with("database", "ferry");
    let mut session = open(engine, &profile, Some(&secret))?;
    let (mut own, mut statements) = (Times::default(), Times::default());
    for _ in 0..ROUNDS {
        // What is of a type that is not sent in bulk goes in statements.
        for (table, note, times) in [("readings", "nvarchar(80)", &mut own), ("written", "xml", &mut statements)] {
            for statement in [
                format!("drop table if exists {table}"),
                format!(
                    "create table {table} (id bigint, vessel nvarchar(40), note {note}, depth decimal(10,2), share float, taken_at datetime2, day date, [open] nvarchar(5))"
                ),
            ] {
                session.run(&Request::new(&statement), Box::new(Nothing))?;
            }
            times.push(into_table(session.as_mut(), &file, "sqlserver", table, rows)?);
        }
    }
    told(&format!("SQL Server (simulated), {rows} rows by statements"), &mut own, &mut statements, 2.5);
    Ok(())
}
