//! How quick writing stays: completion on a large catalog, and from key to frame in a long buffer.
//!
//! `cargo bench -p jaunty-bench --bench writing`

#![allow(clippy::print_stdout)] // It is a report.

use std::error::Error;
use std::sync::Arc;
use std::time::{Duration, Instant};

use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};
use jaunty_bench::measured::Times;
use jaunty_core::archive::Retention;
use jaunty_core::complete::{Surroundings, complete};
use jaunty_core::connection::Connections;
use jaunty_core::files::Folders;
use jaunty_core::logbook::{Begun, Ended, KeptResult, Outcome as Ran};
use jaunty_core::problems::problems;
use jaunty_core::run::Keeping;
use jaunty_core::settings::Settings;
use jaunty_language::dialect::{MYSQL, POSTGRES, SQLITE};
use jaunty_seam::catalog::{Catalog, Column, Constraint, Name, ObjectKind, Rule};
use jaunty_seam::profile::Profile;
use jaunty_tui::app::{App, Message, Options, Overlay, Post};
use jaunty_tui::appearance;
use jaunty_tui::theme::Depth;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

type Outcome = Result<(), Box<dyn Error>>;

const TABLES: usize = 10_000;
const COLUMNS: usize = 20;

fn main() -> Outcome {
    let begun = Instant::now();
    let catalog = large();
    let columns: usize = catalog.objects().iter().map(|object| object.columns.len()).sum();
    println!("a catalog of {TABLES} tables with {columns} columns, made in {} ms", begun.elapsed().as_millis());
    completion(&catalog);
    joins_by_names();
    keeping(&catalog)?;
    logbook()?;
    typing()
}

/// A logbook of a thousand runs: until it is open, and from each key to the frame that is narrowed.
fn logbook() -> Outcome {
    let folder = tempfile::tempdir()?;
    let file = folder.path().join("a.sql");
    std::fs::write(&file, "select 1;\n")?;
    let folders = Folders::below(folder.path());
    let kept = Keeping::open(&folders, Retention::default());
    if let Some(logbook) = kept.logbook() {
        for n in 0..1000 {
            let statement = format!("select id, name from sailings_{} where id = {n} order by departs_at", n % 50);
            let begun = Begun {
                connection: ["ferry", "harbour", "archive"].get(n % 3).copied().unwrap_or_default(),
                engine: "sqlite",
                database: "saltmarsh.db",
                title: Some("Sailings of a route"),
                statement: &statement,
                started_ms: 1_700_000_000_000 + n as i64 * 100_000,
                ..Begun::default()
            };
            let run = logbook.begin(&begun)?;
            logbook.result(run, 0, &KeptResult::Rows(folder.path().join(format!("{run}-0.arrow"))))?;
            logbook.end(run, Ran::Done, &Ended { duration_ms: 12, rows: 40, ..Ended::default() })?;
        }
    }
    drop(kept);
    let (post, inbox) = std::sync::mpsc::channel();
    let mut app = opened(&folder, &file, Arc::new(move |message| drop(post.send(message))))?;
    let screen = Rect::new(0, 0, 140, 42);
    let mut cells = Buffer::empty(screen);
    app.resize(screen);
    let begun = Instant::now();
    app.open_logbook();
    while !matches!(&app.overlay, Some(Overlay::LogbookView(past)) if past.entries.is_some()) {
        app.update(inbox.recv_timeout(Duration::from_secs(10))?);
    }
    jaunty_tui::view::draw(&app, &mut cells);
    let open = begun.elapsed();
    let mut times = Times::default();
    for _ in 0..20 {
        let word = "sailings_7 harbour";
        let keys = word.chars().map(KeyCode::Char).chain(word.chars().map(|_| KeyCode::Backspace));
        for code in keys {
            let begun = Instant::now();
            app.update(Message::Input(Event::Key(KeyEvent::new(code, KeyModifiers::NONE))));
            jaunty_tui::view::draw(&app, &mut cells);
            times.push(begun.elapsed());
        }
    }
    println!(
        "  a logbook of 1,000 runs: open in {:.1} ms; key to frame: {}",
        open.as_secs_f64() * 1000.0,
        times.summary()
    );
    Ok(())
}

/// Tables whose names and columns differ, as those of a grown company do.
fn large() -> Catalog {
    let mut catalog = Catalog::along(["public".to_owned()]);
    let words = ["port", "vessel", "route", "sailing", "booking", "fare", "crew", "incident", "berth", "tide"];
    let word = |n: usize| words.get(n % words.len()).copied().unwrap_or_default();
    for table in 0..TABLES {
        let schema = if table % 4 == 0 { "public".to_owned() } else { format!("area_{}", table % 40) };
        let name = format!("{}_{}_{table}", word(table), word(table / 10));
        let object = catalog.object(&schema, &name, ObjectKind::Table);
        for column in 0..COLUMNS {
            let name = match column {
                0 => "id".to_owned(),
                1 => format!("{}_id", word(table + 1)),
                _ => format!("{}_{}_{}", word(column), word(table + column), table * COLUMNS + column),
            };
            object.columns.push(Column {
                name,
                db_type: "integer".into(),
                nullable: column > 0,
                key: column == 0,
                ..Column::default()
            });
        }
        if table > 4 {
            let there = table - 4;
            let to = Name { schema, name: format!("{}_{}_{there}", word(there), word(there / 10)) };
            let rule = Rule::Foreign { to, columns: vec!["id".into()], actions: String::new() };
            object.constraints.push(Constraint::new("", vec![format!("{}_id", word(table + 1))], rule));
        }
    }
    catalog.complete();
    catalog
}

fn completion(catalog: &Catalog) {
    let statements = [
        "select |",
        "select po|",
        "select b_i_2| ",
        "select * from |",
        "select * from p|",
        "select * from port_ro_21|",
        "select * from port_port_0 a join |",
        "select * from port_port_0 a join vessel_vessel_2001 b on |",
        "select a.| from port_port_0 a join port_port_4 b on b.port_id = a.id where a.id = 1",
        "with x as (select * from port_port_0) select id, ve| from x join port_port_4 y on y.id = x.id",
        "select * from port_port_0 where id = 1 and |",
        "select area_1.|",
        "select * from area_1.|",
        "insert into port_port_0 (|",
        "update port_port_0 set |",
        "select count(*) from port_port_0 group by |",
        "",
        "sel|",
    ];
    for dialect in [&SQLITE, &POSTGRES, &MYSQL] {
        let mut times = Times::default();
        let mut slowest = (Duration::ZERO, "");
        for _ in 0..30 {
            for statement in statements {
                let cursor = statement.find('|').unwrap_or(0);
                let text = statement.replacen('|', "", 1);
                let around = Surroundings { catalog, dialect, snippets: &[], nearby: statement };
                let begun = Instant::now();
                let completion = complete(&text, cursor, around);
                let took = begun.elapsed();
                std::hint::black_box(completion);
                times.push(took);
                slowest = slowest.max((took, statement));
            }
        }
        println!(
            "  completion, {}: {} (wanted: p99 at most 5 ms); slowest: {}",
            dialect.name,
            times.summary(),
            slowest.1
        );
    }
    let mut times = Times::default();
    for _ in 0..500 {
        let around = Surroundings { catalog, dialect: &POSTGRES, snippets: &[], nearby: "" };
        let begun = Instant::now();
        let found = problems(
            "select a.id, nmae from port_port_0 a join port_port_4 b on b.port_id = a.id where b.idd = 1",
            around,
            &Default::default(),
        );
        times.push(begun.elapsed());
        std::hint::black_box(found);
    }
    println!("  problems of a statement: {}", times.summary());
}

/// After `join` in a database that declares no foreign keys: as many tables as names are looked through for, with forty
/// columns each, half of which end as keys do.
fn joins_by_names() {
    let mut catalog = Catalog::along(["public".to_owned()]);
    for table in 0..500 {
        let object = catalog.object("public", &format!("area_{table}_ports"), ObjectKind::Table);
        for column in 0..40 {
            let name = match column {
                0 => "id".to_owned(),
                1 => format!("area_{}_port_id", (table + 1) % 500),
                odd if odd % 2 == 1 => format!("area_{}_{column}_id", table + odd),
                even => format!("depth_{even}_in_metres"),
            };
            object.columns.push(Column { name, db_type: "integer".into(), key: column == 0, ..Column::default() });
        }
    }
    catalog.complete();
    let mut times = Times::default();
    let text = "select * from area_7_ports a join ";
    for _ in 0..300 {
        let around = Surroundings { catalog: &catalog, dialect: &POSTGRES, snippets: &[], nearby: "" };
        let begun = Instant::now();
        let completion = complete(text, text.len(), around);
        times.push(begun.elapsed());
        let found = completion.proposals.iter().filter(|proposal| proposal.detail == "by name").count();
        assert_eq!(found, 2, "to the one and from the other");
    }
    println!("  after join, 500 tables without foreign keys: {} (wanted: p99 at most 8 ms)", times.summary());
}

fn keeping(catalog: &Catalog) -> Outcome {
    let folder = tempfile::tempdir()?;
    let profile = Profile::new("large", "postgres");
    let begun = Instant::now();
    jaunty_core::catalog::store::keep(folder.path(), &profile, catalog)?;
    let kept = begun.elapsed();
    let begun = Instant::now();
    let again = jaunty_core::catalog::store::kept(folder.path(), &profile).ok_or("it was kept")?;
    assert_eq!(again.objects().len(), TABLES);
    println!(
        "  kept on disk in {} ms, read back in {} ms, beside everything else",
        kept.as_millis(),
        begun.elapsed().as_millis()
    );
    Ok(())
}

/// From a key to the frame that shows it, in a buffer of 100,000 lines: at its beginning, in its
/// middle and at its end, and inside one statement of 100,000 lines.
fn typing() -> Outcome {
    let many: String = (0..25_000)
        .map(|n| format!("-- Statement {n}\nselect id, name, 'text {n}' as t\nfrom ports p join vessels v on v.id = p.id\nwhere p.id > {n};\n"))
        .collect();
    let rows: Vec<String> = (0..100_000).map(|n| format!("({n}, 'row {n}')")).collect();
    let one = format!("insert into ports (id, name) values\n{};\n", rows.join(",\n"));
    for (what, text) in [("25,000 statements", many), ("one statement", one)] {
        let folder = tempfile::tempdir()?;
        let file = folder.path().join("long.sql");
        std::fs::write(&file, text)?;
        let (post, inbox) = std::sync::mpsc::channel();
        let mut app = opened(&folder, &file, Arc::new(move |message| drop(post.send(message))))?;
        let screen = Rect::new(0, 0, 140, 42);
        app.resize(screen);
        println!("  a buffer of {} lines, {what}:", app.buffer.document.rope().len_lines());
        if app.buffer.document.awaits_outline() {
            let times = typed_at(&mut app, screen, 50_000);
            println!("    while its statements are being found: {} (wanted: p99 at most 8 ms)", times.summary());
        }
        while app.buffer.document.awaits_outline() {
            app.update(inbox.recv()?);
        }
        for (place, line) in [("at its beginning", 2), ("in its middle", 50_000), ("at its end", 99_990)] {
            let times = typed_at(&mut app, screen, line);
            println!("    {place}: {} (wanted: p99 at most 8 ms)", times.summary());
        }
    }
    Ok(())
}

/// From a key to its frame, at a line.
fn typed_at(app: &mut App, screen: Rect, line: usize) -> Times {
    let byte = app.buffer.document.rope().line_to_byte(line);
    app.go(jaunty_language::edit::document::Motion::To(byte), false);
    let mut times = Times::default();
    let mut cells = Buffer::empty(screen);
    for round in 0..300 {
        let code = match round % 6 {
            5 => KeyCode::Backspace,
            4 => KeyCode::Char(' '),
            n => KeyCode::Char(char::from(b'a' + n as u8)),
        };
        let begun = Instant::now();
        app.update(Message::Input(Event::Key(KeyEvent::new(code, KeyModifiers::NONE))));
        jaunty_tui::view::draw(app, &mut cells);
        times.push(begun.elapsed());
    }
    times
}

fn opened(folder: &tempfile::TempDir, file: &std::path::Path, post: Post) -> Result<App, Box<dyn Error>> {
    let folders = Folders::below(folder.path());
    let keeping = Keeping::open(&folders, Retention::default());
    let options = Options {
        folders,
        engines: jaunty_engines::ENGINES,
        connections: Connections::default(),
        profile: None,
        buffer: file.to_owned(),
        rows: None,
        keeping,
        appearance: appearance::understood(&mut Settings::default()),
        settings: Settings::default(),
        depth: Depth::Full,
        guest: false,
        outside: None,
    };
    Ok(App::open(options, None, post)?)
}
