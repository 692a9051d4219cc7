//! Finding runs again, and forgetting them.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use jaunty_language::outline::StatementId;
use jaunty_language::statement::parameters::ParameterValue;
use rusqlite::{OptionalExtension, params};

use super::{ENTRY, Entry, KeptResult, Logbook, LogbookError, Query, Searchable, read, read_entry};

impl Logbook {
    /// Runs that fit, the latest first, at most so many.
    pub fn find(&self, query: &Query, most: usize) -> Result<Vec<Entry>, LogbookError> {
        let select = format!("select {ENTRY} from runs order by number desc");
        let read = || -> rusqlite::Result<Vec<Entry>> {
            let mut statement = self.connection.prepare_cached(&select)?;
            let all = statement.query_map([], read_entry)?;
            let fits = |entry: &rusqlite::Result<Entry>| {
                query.is_empty() || entry.as_ref().map_or(true, |entry| query.fits(&Searchable::of(entry)))
            };
            let mut entries = all.filter(fits).take(most).collect::<rusqlite::Result<Vec<_>>>()?;
            self.add_results(&mut entries)?;
            Ok(entries)
        };
        read().map_err(|error| self.error(error))
    }

    /// The latest run.
    pub fn last(&self) -> Result<Option<Entry>, LogbookError> {
        Ok(self.find(&Query::default(), 1)?.pop())
    }

    /// The last run of every statement on a connection that has ended.
    pub fn latest(&self, connection: &str) -> Result<Vec<Entry>, LogbookError> {
        let select = format!(
            "select {ENTRY} from runs where number in
               (select max(number) from runs where connection = ?1 and outcome <> 'running' group by statement_id)"
        );
        let mut entries = self.entries(&select, params![connection])?;
        self.add_messages(&mut entries).map_err(|e| self.error(e))?;
        Ok(entries)
    }

    /// The last run of a statement on a connection before this one that was done; none if there is none.
    pub fn earlier(
        &self,
        connection: &str,
        statement: &StatementId,
        number: i64,
    ) -> Result<Option<Entry>, LogbookError> {
        let select = format!(
            "select {ENTRY} from runs where number =
               (select max(number) from runs
                where connection = ?1 and statement_id = ?2 and number < ?3 and outcome = 'done')"
        );
        Ok(self.entries(&select, params![connection, statement.hex(), number])?.pop())
    }

    /// The connection that a buffer's statements ran on last.
    pub fn last_connection(&self, buffer: &Path) -> Result<Option<String>, LogbookError> {
        let select = "select connection from runs where buffer = ?1 order by number desc limit 1";
        let found = self
            .connection
            .prepare_cached(select)
            .and_then(|mut statement| statement.query_row([buffer.to_string_lossy()], |row| row.get(0)).optional());
        found.map_err(|e| self.error(e))
    }

    /// The values that a buffer's parameters were given last, by their names.
    pub fn last_values(&self, buffer: &Path) -> Result<HashMap<String, ParameterValue>, LogbookError> {
        let select =
            "select parameters from runs where buffer = ?1 and parameters is not null order by number desc limit 500";
        let read_all = || -> rusqlite::Result<Vec<Option<String>>> {
            let mut statement = self.connection.prepare_cached(select)?;
            statement.query_map([buffer.to_string_lossy()], |row| row.get(0))?.collect()
        };
        // The latest come first, and later ones are not put in their place.
        let mut values = HashMap::new();
        for (name, value) in read_all().map_err(|e| self.error(e))?.into_iter().flat_map(read) {
            values.entry(name).or_insert(value);
        }
        Ok(values)
    }

    /// One run by its number.
    pub fn entry(&self, number: i64) -> Result<Option<Entry>, LogbookError> {
        let select = format!("select {ENTRY} from runs where number = ?1");
        let mut entries = self.entries(&select, params![number])?;
        self.add_messages(&mut entries).map_err(|e| self.error(e))?;
        Ok(entries.pop())
    }

    /// Keeps the rows of a run however old they get, or no longer.
    pub fn pin(&self, run: i64, pinned: bool) -> Result<(), LogbookError> {
        let update = "update runs set pinned = ?2 where number = ?1";
        self.connection.execute(update, params![run, pinned]).map_err(|e| self.error(e))?;
        Ok(())
    }

    /// Notes that what a run changed is gone.
    pub fn roll_back(&self, run: i64) -> Result<(), LogbookError> {
        let update = "update runs set rolled_back = 1 where number = ?1";
        self.connection.prepare_cached(update).and_then(|mut s| s.execute([run])).map_err(|e| self.error(e))?;
        Ok(())
    }

    /// The archives of runs that are pinned, or not over.
    pub fn in_use(&self) -> Result<Vec<PathBuf>, LogbookError> {
        let entries = self.entries(&format!("select {ENTRY} from runs where pinned or outcome = 'running'"), [])?;
        Ok(entries.iter().flat_map(archives_of).collect())
    }

    /// Forgets a run and removes its rows. One that is running stays.
    pub fn remove(&self, entry: &Entry) -> Result<(), LogbookError> {
        let delete = "delete from runs where number = ?1 and outcome <> 'running'";
        let gone = self.connection.execute(delete, [entry.number]).map_err(|e| self.error(e))?;
        for path in archives_of(entry).filter(|_| gone > 0) {
            match std::fs::remove_file(&path) {
                Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                    tracing::warn!(%error, path = %path.display(), "rows could not be removed");
                }
                _ => {}
            }
        }
        Ok(())
    }
}

fn archives_of(entry: &Entry) -> impl Iterator<Item = PathBuf> {
    entry.results.iter().filter_map(|result| match result {
        KeptResult::Rows(path) => Some(path.clone()),
        KeptResult::Affected(_) => None,
    })
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;
    use crate::logbook::{Begun, Ended, Outcome};

    fn logbook(folder: &Path) -> Logbook {
        let logbook = Logbook::open(&folder.join("logbook.db"), &folder.join("archives")).unwrap();
        std::fs::create_dir_all(folder.join("archives")).unwrap();
        for (n, (statement, connection, outcome)) in [
            ("select 1", "ferry", Outcome::Done),
            ("select * from Ports", "ferry", Outcome::Failed),
            ("select 1", "harbour", Outcome::Done),
            ("vacuum", "harbour", Outcome::Running),
        ]
        .into_iter()
        .enumerate()
        {
            let begun = Begun {
                connection,
                engine: "sqlite",
                database: "saltmarsh.db",
                title: (n == 2).then_some("One"),
                statement,
                started_ms: n as i64 * 1000,
                ..Begun::default()
            };
            let run = logbook.begin(&begun).unwrap();
            let path = folder.join("archives").join(format!("{run}-0.arrow"));
            std::fs::write(&path, "rows").unwrap();
            logbook.result(run, 0, &KeptResult::Rows(path)).unwrap();
            logbook.result(run, 1, &KeptResult::Affected(Some(n as u64))).unwrap();
            if outcome != Outcome::Running {
                let error = (outcome == Outcome::Failed).then(|| "no such table: PORTS".to_owned());
                logbook.end(run, outcome, &Ended { error, ..Ended::default() }).unwrap();
            }
        }
        logbook
    }

    #[test]
    fn runs_are_found_the_latest_first() {
        let folder = tempfile::tempdir().unwrap();
        let logbook = logbook(folder.path());
        let found = |text: &str, most: usize| -> Vec<i64> {
            let query = Query::read(text, chrono::NaiveDate::default());
            logbook.find(&query, most).unwrap().iter().map(|entry| entry.number).collect()
        };
        assert_eq!(found("", 10), [4, 3, 2, 1]);
        assert_eq!(found("", 3), [4, 3, 2]);
        assert_eq!(found("outcome=done", 1), [3], "those that do not fit do not count");
        assert_eq!(found("connection=ferry", 10), [2, 1]);
        assert_eq!(found("no such", 10), [2]);
        let last = logbook.last().unwrap().unwrap();
        assert_eq!(last.results.len(), 2);
        assert_eq!(last.results[1], KeptResult::Affected(Some(3)));
    }

    #[test]
    fn what_is_removed_is_gone_with_its_rows() {
        let folder = tempfile::tempdir().unwrap();
        let logbook = logbook(folder.path());
        for number in [1, 4] {
            logbook.remove(&logbook.entry(number).unwrap().unwrap()).unwrap();
        }
        assert!(logbook.entry(1).unwrap().is_none());
        assert!(!folder.path().join("archives/1-0.arrow").exists());
        assert!(logbook.entry(4).unwrap().is_some(), "it is running");
        assert!(folder.path().join("archives/4-0.arrow").exists());
        logbook.pin(2, true).unwrap();
        let archive = |number: i64| folder.path().join(format!("archives/{number}-0.arrow"));
        assert_eq!(logbook.in_use().unwrap(), [archive(2), archive(4)], "one is pinned, and one is running");
        logbook.pin(2, false).unwrap();
        assert_eq!(logbook.in_use().unwrap(), [archive(4)]);
    }

    #[test]
    fn the_run_before_is_found_by_its_statement() {
        let folder = tempfile::tempdir().unwrap();
        let logbook = logbook(folder.path());
        let earlier = |connection, statement: &str, number| {
            logbook.earlier(connection, &StatementId::of(statement), number).unwrap().map(|entry| entry.number)
        };
        assert_eq!(earlier("ferry", "select 1;", 3), Some(1));
        assert_eq!(earlier("ferry", "select 1", 1), None, "not itself");
        assert_eq!(earlier("harbour", "select 1", 3), None, "another connection has other data");
        assert_eq!(earlier("ferry", "select * from Ports", 9), None, "it failed");
    }

    #[test]
    fn a_logbook_of_the_first_format_is_taken_on() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("logbook.db");
        let old = rusqlite::Connection::open(&path).unwrap();
        old.execute_batch(
            "create table runs (number integer primary key, instance text not null, connection text not null,
               engine text not null, database text not null, buffer text, title text, statement text not null,
               statement_id text not null, started_ms integer not null, first_row_ms integer, duration_ms integer,
               row_count integer, outcome text not null, error text) strict;
             create table results (run integer not null references runs on delete cascade, position integer not null,
               archive text, affected integer, primary key (run, position)) strict, without rowid;
             insert into runs values (7, 'x', 'ferry', 'sqlite', 'saltmarsh.db', null, null, 'select 1', '00', 5, 1, 2, 3, 'done', null);
             pragma user_version = 1;",
        )
        .unwrap();
        drop(old);
        let logbook = Logbook::open(&path, folder.path()).unwrap();
        let entry = logbook.last().unwrap().unwrap();
        assert_eq!((entry.number, entry.ended.rows, entry.ended.bytes, entry.rolled_back), (7, 3, 0, false));
        logbook.roll_back(7).unwrap();
        assert!(logbook.last().unwrap().unwrap().rolled_back);
    }
}
