//! Statements that servers take as one are one piece for the splitter, however their lines are broken.
//!
//! The statements are those of MariaDB's own tests, which Debian packages (`mariadb-test-data`), of
//! SQLite's and PostgreSQL's grammar as written down beside the splitter (`core/src/text/split/corpus`), and each is put to the server itself
//! first: only what it takes as one statement counts.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

use std::path::Path;

use jaunty_language::dialect::{Dialect, MYSQL, POSTGRES, SQLITE};
use jaunty_language::lexer::{Lexer, TokenKind};
use jaunty_language::split;
use jaunty_language::text::rope;
use jaunty_testservers::runner::{statements_of, tests_of};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres};
use mysql_async::prelude::Queryable;

/// The statement with a line end for every gap between its tokens; `None` where a quote stays open.
fn a_word_a_line(statement: &str, dialect: &'static Dialect) -> Option<String> {
    let text = rope(statement);
    let mut lines = String::new();
    for token in Lexer::new(&text, dialect, 0) {
        if !token.closed {
            return None;
        }
        match token.kind.is_trivia() {
            true if lines.is_empty() || lines.ends_with('\n') => {}
            true => lines.push('\n'),
            false => lines.push_str(&statement[token.range()]),
        }
    }
    // A statement that is a comment alone is none.
    let says_something = Lexer::new(&text, dialect, 0)
        .any(|token| !token.kind.is_trivia() && !matches!(token.kind, TokenKind::Semicolon | TokenKind::Code));
    says_something.then(|| lines.trim_end().to_owned())
}

/// How many of these were looked at, and those that were cut.
fn cut<'a>(statements: impl Iterator<Item = &'a str>, dialect: &'static Dialect) -> (usize, Vec<String>) {
    let (mut looked_at, mut cut) = (0, Vec::new());
    for statement in statements {
        let Some(lines) = a_word_a_line(statement, dialect) else { continue };
        looked_at += 1;
        for text in [lines.as_str(), statement] {
            let pieces = split::statements(&rope(text), dialect, 0).count();
            if pieces != 1 {
                cut.push(format!("{pieces} pieces: {text}"));
            }
        }
    }
    (looked_at, cut)
}

/// Errors by which MariaDB says that it could not read a statement to its end: a mistake of syntax, an
/// unknown type or variable in the middle, no statement at all, and bytes that are no text.
const UNREAD: &[u16] = &[1064, 1065, 1149, 1193, 1300, 4161];

#[test]
fn mariadbs_own_tests() {
    let files = tests_of(Path::new("/usr/share/mysql/mysql-test"));
    assert!(!files.is_empty(), "please install mariadb-test-data (scripts/test does)");
    let mut all: Vec<String> = files.iter().flat_map(|file| statements_of(file)).collect();
    all.sort();
    all.dedup();
    // All with a body, and every fifth of the others: a minute instead of five.
    let mut number = 0_usize;
    all.retain(|statement| {
        number += 1;
        statement.contains(';') || number.is_multiple_of(5)
    });
    let server = Mariadb::start();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    let taken: Vec<String> = runtime.block_on(async {
        let options = || {
            mysql_async::OptsBuilder::default()
                .ip_or_hostname("127.0.0.1")
                .tcp_port(server.port)
                .user(Some("clerk"))
                .pass(Some(PASSWORD))
                .db_name(Some("bookings"))
        };
        let mut connection = mysql_async::Conn::new(options()).await.unwrap();
        let mut taken = Vec::new();
        for statement in all {
            // The server reads the text as that of one statement, and carries nothing out.
            match connection.prep(statement.as_str()).await.map(drop) {
                Err(mysql_async::Error::Server(error)) if UNREAD.contains(&error.code) => {}
                Ok(()) | Err(mysql_async::Error::Server(_)) => taken.push(statement),
                Err(_) => connection = mysql_async::Conn::new(options()).await.unwrap(),
            }
        }
        taken
    });
    let (looked_at, cut) = cut(taken.iter().map(String::as_str), &MYSQL);
    assert!(looked_at > 30_000, "only {looked_at} statements were found");
    assert!(cut.is_empty(), "{} of {looked_at} are cut:\n{}", cut.len(), cut[..cut.len().min(20)].join("\n\n"));
}

#[test]
fn postgres_grammar() {
    let statements = statements_in(include_str!("../../language/src/split/tests/corpus/postgres.sql"));
    let server = Postgres::start();
    let config = format!("host=127.0.0.1 port={} user=clerk password={PASSWORD} dbname=bookings", server.port);
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let (client, connection) = tokio_postgres::connect(&config, tokio_postgres::NoTls).await.unwrap();
        let driven = tokio::spawn(connection);
        for statement in &statements {
            // All of a message is read before any of it is carried out, so nothing behind the division is.
            let asked = client.simple_query(&format!("select 1/0; {statement}")).await;
            let code = asked.unwrap_err().code().map(|code| code.code().to_owned());
            assert_eq!(code.as_deref(), Some("22012"), "PostgreSQL does not take {statement}");
        }
        drop(client);
        driven.await.unwrap().unwrap();
    });
    let (looked_at, cut) = cut(statements.iter().copied(), &POSTGRES);
    assert_eq!(looked_at, statements.len());
    assert!(cut.is_empty(), "{}", cut.join("\n\n"));
}

#[test]
fn sqlite_grammar() {
    let statements = statements_in(include_str!("../../language/src/split/tests/corpus/sqlite.sql"));
    let db = rusqlite::Connection::open_in_memory().unwrap();
    for statement in &statements {
        // What is not there is found missing only after all was read.
        if let Err(error) = db.prepare(statement) {
            let error = error.to_string();
            assert!(!error.contains("syntax error") && !error.contains("incomplete"), "{error}: {statement}");
        }
    }
    let (looked_at, cut) = cut(statements.iter().copied(), &SQLITE);
    assert_eq!(looked_at, statements.len());
    assert!(cut.is_empty(), "{}", cut.join("\n\n"));
}

/// The statements of a file of ours: one a line.
fn statements_in(file: &'static str) -> Vec<&'static str> {
    file.lines().filter(|line| !line.is_empty() && !line.starts_with("--")).collect()
}
