//! Counts false alarms: statements that a server takes, and of which something was said to be wrong before.
//!
//! ```text
//! cargo run -p jaunty-bench --bin alarms -- mariadb [FOLDER]
//! cargo run -p jaunty-bench --bin alarms -- postgres FOLDER-OR-FILE
//! ```
//!
//! A folder holds files of the server's own tests: of MariaDB those of Debian's `mariadb-test-data`, of PostgreSQL
//! `src/test/regress/sql` of its sources. A file holds statements with a NUL between them. Each statement is judged
//! by what the catalog holds at that moment, as the screen does, and then run on a private server; what it refuses
//! does not count. Every alarm is printed.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::print_stdout)] // A measurement fails by panicking.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use jaunty_core::complete::Surroundings;
use jaunty_core::connection::open;
use jaunty_core::problems::problems;
use jaunty_language::dialect::Dialect;
use jaunty_language::split;
use jaunty_language::statement::made::made_in;
use jaunty_language::text::rope;
use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::{CatalogPart, Event, Flow, Request, Session, Sink};
use jaunty_seam::error::ErrorKind;
use jaunty_seam::profile::{Profile, Secret};
use jaunty_testservers::runner::{statements_of, tests_of};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres};

/// A sink that keeps nothing.
struct Nothing;

impl Sink for Nothing {
    fn wanted(&self) -> Flow {
        Flow::Continue
    }
    fn take(&mut self, _: Event) -> Flow {
        Flow::Continue
    }
}

/// The session, and what is known of its database.
struct Judge {
    profile: Profile,
    session: Box<dyn Session>,
    catalog: Catalog,
    /// Whether the catalog may be another by now.
    stale: bool,
    /// How many statements were judged by one that may be another by now.
    since: usize,
    dialect: &'static Dialect,
}

#[derive(Debug, Default)]
struct Count {
    taken: usize,
    judged: usize,
    alarms: usize,
}

impl Judge {
    /// None where the server lets nobody in any more.
    fn connect(profile: Profile) -> Option<Judge> {
        let engine = jaunty_engines::by_name(&profile.engine).unwrap();
        let secret = Secret::new(PASSWORD.to_owned());
        let session = open(engine, &profile, Some(&secret)).ok()?;
        let dialect = engine.dialect();
        let mut judge = Judge { profile, session, catalog: Catalog::default(), stale: true, since: 25, dialect };
        // What waits for another session would wait for ever.
        let patience = match judge.profile.engine.as_str() {
            "postgres" => "set statement_timeout = '5s'",
            _ => "set max_statement_time = 5",
        };
        judge.session.run(&Request::new(patience), Box::new(Nothing)).ok()?;
        Some(judge)
    }

    fn said(&mut self, statement: &str, made: &HashSet<String>) -> Vec<String> {
        let found = self.found(statement, made);
        // Reading it after each definition would take hours; where nothing is said it is read now and then.
        self.since += usize::from(self.stale);
        if !self.stale || (found.is_empty() && self.since < 25) {
            return found;
        }
        self.since = 0;
        let mut catalog = Catalog::default();
        let mut part = 0;
        while matches!(self.session.catalog(&CatalogPart::number(part), &mut catalog), Ok(true)) {
            part += 1;
        }
        (self.catalog, self.stale) = (catalog, false);
        self.found(statement, made)
    }

    fn found(&self, statement: &str, made: &HashSet<String>) -> Vec<String> {
        let around = Surroundings { catalog: &self.catalog, dialect: self.dialect, snippets: &[], nearby: "" };
        let found = problems(statement, around, made);
        found.into_iter().map(|problem| format!("{}: {}", &statement[problem.range], problem.message)).collect()
    }

    /// False if the server lets nobody in any more.
    fn go_through(&mut self, statements: &[String], count: &mut Count) -> bool {
        let made = made_in(&statements.join(";\n"), self.dialect);
        for statement in statements {
            let word = statement.split_whitespace().next().unwrap_or_default().to_uppercase();
            if matches!(word.as_str(), "SHUTDOWN" | "KILL") {
                continue;
            }
            let said = self.said(statement, &made);
            let outcome = self.session.run(&Request::new(statement), Box::new(Nothing));
            let rows_only = ["SELECT", "VALUES", "EXPLAIN", "INSERT", "UPDATE", "DELETE", "REPLACE"];
            self.stale |= !rows_only.contains(&word.as_str());
            match outcome {
                Ok(()) => {
                    count.taken += 1;
                    count.judged += usize::from(rows_only.contains(&word.as_str()) || word == "WITH");
                    if !said.is_empty() {
                        count.alarms += 1;
                        println!("{}\n    {}\n", said.join("\n"), statement.replace('\n', "\n    "));
                    }
                }
                Err(error) if error.kind == ErrorKind::Lost || !self.session.is_alive() => {
                    match Judge::connect(self.profile.clone()) {
                        Some(judge) => *self = judge,
                        None => return false,
                    }
                }
                Err(_) => {}
            }
        }
        true
    }
}

fn main() {
    let mut args = std::env::args().skip(1);
    let engine = args.next().unwrap_or_default();
    let place = args.next().map(PathBuf::from);
    let mut count = Count::default();
    match engine.as_str() {
        "mysql" | "mariadb" => {
            let mut server = Mariadb::start();
            let place = place.unwrap_or_else(|| PathBuf::from("/usr/share/mysql/mysql-test"));
            let files: Vec<Vec<String>> = match place.is_dir() {
                true => tests_of(&place).iter().map(|file| statements_of(file)).collect(),
                false => vec![separated(&place)],
            };
            let mut judge = Judge::connect(profile("mysql", server.port)).unwrap();
            for (number, statements) in files.iter().enumerate() {
                eprintln!("{number} of {} files: {count:?}", files.len());
                // Some of them change who may come in, or end the server.
                if !judge.go_through(statements, &mut count) {
                    server = Mariadb::start();
                    judge = Judge::connect(profile("mysql", server.port)).unwrap();
                }
            }
        }
        "postgres" => {
            let server = Postgres::start();
            let place = place.expect("name the folder or file with PostgreSQL's own statements");
            let mut judge = Judge::connect(profile("postgres", server.port)).unwrap();
            for statements in scripts(&place, judge.dialect) {
                assert!(judge.go_through(&statements, &mut count), "the server lets nobody in any more");
            }
        }
        other => panic!("\"{other}\" is not postgres or mariadb"),
    }
    let Count { taken, judged, alarms } = count;
    println!("{alarms} false alarms in {judged} statements that are judged, of {taken} that the server took");
}

fn profile(engine: &str, port: u16) -> Profile {
    let profile = Profile::new("alarms", engine).with("host", "127.0.0.1").with("user", "clerk");
    let mut profile = profile.with("database", "bookings").with("tls", "off");
    profile.settings.insert("port".into(), jaunty_seam::profile::Setting::Number(i64::from(port)));
    profile
}

/// The statements of a file with a NUL between them.
fn separated(file: &Path) -> Vec<String> {
    let text = std::fs::read_to_string(file).unwrap();
    text.split('\0').filter(|statement| !statement.trim().is_empty()).map(str::to_owned).collect()
}

/// The statements of scripts: each file of a folder by itself, in the order of their names, or of one file.
fn scripts(place: &Path, dialect: &'static Dialect) -> Vec<Vec<String>> {
    if !place.is_dir() {
        return vec![separated(place)];
    }
    let files = std::fs::read_dir(place).unwrap().flatten().map(|entry| entry.path());
    let mut files: Vec<PathBuf> = files.filter(|path| path.extension().is_some_and(|e| e == "sql")).collect();
    // The tables that all others use are made first.
    files.sort_by_key(|path| (!path.ends_with("test_setup.sql"), path.clone()));
    let read = |path: &PathBuf| {
        let text = rope(&String::from_utf8_lossy(&std::fs::read(path).unwrap()));
        let all = split::statements(&text, dialect, 0).map(|statement| statement.text(&text));
        all.filter(|statement| !statement.starts_with('\\')).collect()
    };
    files.iter().map(read).collect()
}
