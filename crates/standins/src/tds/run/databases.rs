//! Several databases: each is a file of SQLite. The one in hand is attached as `dbo`, those that a statement names under
//! their own names.

use std::sync::Arc;

use rusqlite::Connection;

use super::{Fault, Outcome, Session};

use crate::tds::Shared;
use crate::tds::catalog;
use crate::tds::lex::Token;
use crate::tds::sqlite;

/// Attaches the file of a database under a name.
pub fn attach(db: &Connection, shared: &Arc<Shared>, database: &str, name: &str) -> rusqlite::Result<()> {
    let place = quoted(name);
    db.execute(&format!("attach ?1 as {place}"), [shared.file_of(database).to_string_lossy()])?;
    db.execute_batch(&format!("pragma {place}.journal_mode = wal;"))
}

fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

impl Session {
    /// Makes another database the one in hand.
    pub(super) fn attach_in_hand(&mut self, name: &str, line: u32) -> Outcome {
        if self.shared.file_of(name) == self.shared.file_of(&self.database) {
            return Ok(());
        }
        if !self.db.is_autocommit() {
            return Err(self.plain(226, "A transaction keeps its database in this stand-in.", line));
        }
        let gone = self.db.execute_batch(&format!("detach dbo; {}", self.detached(name)));
        let moved = gone.and_then(|()| attach(&self.db, &self.shared, name, "dbo"));
        moved.map_err(|error| self.fault(&error, &[], line))
    }

    fn detached(&self, name: &str) -> String {
        match self.is_attached(name) {
            true => format!("detach {};", quoted(name)),
            false => String::new(),
        }
    }

    fn is_attached(&self, name: &str) -> bool {
        let find = "select count(*) from pragma_database_list where name = ?1";
        self.db.query_row(find, [name], |row| row.get::<_, i64>(0)).is_ok_and(|count| count > 0)
    }

    /// A statement whose names of three parts are those of SQLite's two, and the database whose views of the
    /// catalog it reads, if it is another one. The databases that it names are attached.
    pub(super) fn reached(&mut self, tokens: &[Token]) -> (Vec<Token>, Option<String>) {
        let (mut kept, mut of_views, mut at): (Vec<Token>, Option<String>, usize) = (Vec::new(), None, 0);
        while let Some(token) = tokens.get(at) {
            let is = |ahead: usize, text: &str| tokens.get(at + ahead).is_some_and(|token| token.is(text));
            let begins = token.is_name() && is(1, ".") && !kept.last().is_some_and(|before| before.is("."));
            let known = self.shared.database(&token.text).filter(|_| begins);
            let Some(name) = known.filter(|name| self.shared.file_of(name) != self.shared.file_of(&self.database))
            else {
                kept.push(token.clone());
                at += 1;
                continue;
            };
            let of_catalog = tokens.get(at + 2).is_some_and(|token| catalog::is_schema(&token.text));
            match (is(2, "."), of_catalog && is(3, "."), is(3, ".")) {
                (_, true, _) => {
                    of_views = Some(name.clone());
                    at += 2;
                }
                (true, ..) | (.., true) => {
                    kept.extend([Token { text: name.clone(), ..token.clone() }, sqlite::sign(".")]);
                    at += if is(2, ".") { 3 } else { 4 };
                }
                _ => {
                    kept.push(token.clone());
                    at += 1;
                    continue;
                }
            }
            if !self.is_attached(&name) && self.db.is_autocommit() {
                // What cannot be attached is not found when the statement is prepared.
                let _ = attach(&self.db, &self.shared, &name, &name);
            }
        }
        (kept, of_views)
    }

    /// `CREATE DATABASE` and `DROP DATABASE`.
    pub(super) fn made_database(&mut self, tokens: &[Token], line: u32) -> Option<Outcome> {
        let [verb, database, rest @ ..] = tokens else { return None };
        if !verb.is_one(&["create", "drop"]) || !database.is("database") {
            return None;
        }
        let lenient = rest.first().is_some_and(|token| token.is("if"));
        let name = rest.iter().find(|token| !token.is_one(&["if", "exists"]))?.text.clone();
        let (shared, known) = (Arc::clone(&self.shared), self.shared.database(&name));
        let wrong = match (verb.is("create"), known) {
            (true, Some(_)) => (1801, format!("Database '{name}' already exists. Choose a different database name.")),
            (true, None) => {
                shared.make_database(&name);
                return Some(self.done(0, 0, 0));
            }
            (false, None) if lenient => return Some(self.done(0, 0, 0)),
            (false, None) => (
                3701,
                format!("Cannot drop the database '{name}', because it does not exist or you do not have permission."),
            ),
            (false, Some(known)) if shared.file_of(&known) == shared.data || known == self.database => {
                (3702, format!("Cannot drop database \"{name}\" because it is currently in use."))
            }
            (false, Some(known)) => {
                let gone = self.db.execute_batch(&self.detached(&known));
                shared.drop_database(&known);
                return Some(gone.map_err(|error| self.fault(&error, &[], line)).and_then(|()| self.done(0, 0, 0)));
            }
        };
        Some(Err::<(), Fault>(self.plain(wrong.0, &wrong.1, line)))
    }
}
