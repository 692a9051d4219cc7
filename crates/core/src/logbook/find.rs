//! Finding runs again, and forgetting them.

use std::path::PathBuf;

use rusqlite::types::Value;
use rusqlite::{params, params_from_iter};

use super::{ENTRY, Entry, KeptResult, Logbook, LogbookError, Outcome};

/// Which runs are looked for. What is empty is not asked for.
#[derive(Debug, Clone, Default)]
pub struct Filter {
    /// A text in the statement, the title or the error, in any case.
    pub text: String,
    /// The connection.
    pub connection: Option<String>,
    /// How it ended.
    pub outcome: Option<Outcome>,
    /// When it began, in milliseconds since 1970: from the first, before the second.
    pub began_ms: Option<(i64, i64)>,
    /// The identity of the statement, in hexadecimal digits.
    pub statement_id: Option<String>,
}

impl Logbook {
    /// Runs that fit, the latest first, at most so many.
    pub fn find(&self, filter: &Filter, most: usize) -> Result<Vec<Entry>, LogbookError> {
        let mut conditions = vec!["true"];
        let mut values: Vec<Value> = Vec::new();
        let mut ask = |condition: &'static str, given: Vec<Value>| {
            conditions.push(condition);
            values.extend(given);
        };
        if !filter.text.is_empty() {
            let text = Value::from(filter.text.to_lowercase());
            ask(
                "(instr(lower(statement), ?) or instr(lower(title), ?) or instr(lower(error), ?))",
                vec![text.clone(), text.clone(), text],
            );
        }
        if let Some(connection) = &filter.connection {
            ask("connection = ?", vec![connection.clone().into()]);
        }
        if let Some(outcome) = filter.outcome {
            ask("outcome = ?", vec![outcome.word().to_owned().into()]);
        }
        if let Some((from, before)) = filter.began_ms {
            ask("started_ms >= ? and started_ms < ?", vec![from.into(), before.into()]);
        }
        if let Some(id) = &filter.statement_id {
            ask("statement_id = ?", vec![id.clone().into()]);
        }
        values.push(i64::try_from(most).unwrap_or(i64::MAX).into());
        let select =
            format!("select {ENTRY} from runs where {} order by number desc limit ?", conditions.join(" and "));
        self.entries(&select, params_from_iter(values))
    }

    /// The latest run.
    pub fn last(&self) -> Result<Option<Entry>, LogbookError> {
        Ok(self.find(&Filter::default(), 1)?.pop())
    }

    /// Keeps the rows of a run however old they get, or no longer.
    pub fn pin(&self, run: i64, pinned: bool) -> Result<(), LogbookError> {
        let update = "update runs set pinned = ?2 where number = ?1";
        self.connection.execute(update, params![run, pinned]).map_err(|e| self.error(e))?;
        Ok(())
    }

    /// The archives of runs that are pinned.
    pub fn pinned(&self) -> Result<Vec<PathBuf>, LogbookError> {
        let entries = self.entries(&format!("select {ENTRY} from runs where pinned"), [])?;
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
    use crate::logbook::{Begun, Ended};

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
    fn runs_are_found_by_what_is_known_of_them() {
        let folder = tempfile::tempdir().unwrap();
        let logbook = logbook(folder.path());
        let found = |filter: Filter| -> Vec<i64> {
            logbook.find(&filter, 10).unwrap().iter().map(|entry| entry.number).collect()
        };
        let all = Filter::default;
        assert_eq!(found(all()), [4, 3, 2, 1]);
        assert_eq!(found(Filter { text: "PORTS".into(), ..all() }), [2]);
        assert_eq!(found(Filter { text: "one".into(), ..all() }), [3]);
        assert_eq!(found(Filter { text: "no such".into(), ..all() }), [2]);
        assert_eq!(found(Filter { text: "%".into(), ..all() }), [] as [i64; 0]);
        assert_eq!(found(Filter { connection: Some("ferry".into()), ..all() }), [2, 1]);
        assert_eq!(found(Filter { outcome: Some(Outcome::Done), ..all() }), [3, 1]);
        assert_eq!(found(Filter { began_ms: Some((1000, 3000)), ..all() }), [3, 2]);
        let id = crate::text::outline::StatementId::of("select 1;").hex();
        assert_eq!(found(Filter { statement_id: Some(id), ..all() }), [3, 1]);
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
        assert_eq!(logbook.pinned().unwrap(), [folder.path().join("archives/2-0.arrow")]);
        logbook.pin(2, false).unwrap();
        assert!(logbook.pinned().unwrap().is_empty());
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
        assert_eq!((entry.number, entry.ended.rows, entry.ended.bytes), (7, 3, 0));
    }
}
