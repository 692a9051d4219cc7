use std::path::Path;

use super::*;
use crate::archive::Retention;
use crate::files::Folders;
use crate::logbook::KeptResult;
use arrow_array::RecordBatch;
use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::{Abilities, CatalogPart, Effect, Event, Flow};
use jaunty_seam::error::EngineError;
use jaunty_seam::rows::assemble::{Announced, Assembler, Value};

/// A session that does what the statement says, in a few words.
struct Script;

fn batch(from: i64, to: i64) -> RecordBatch {
    let mut assembler =
        Assembler::new(vec![Announced { name: "n".into(), db_type: String::new(), ..Announced::default() }]);
    (from..to).for_each(|n| drop(assembler.push_row(|_| Value::Int(n))));
    assembler.take().unwrap()
}

impl Session for Script {
    fn abilities(&self) -> Abilities {
        Abilities::default()
    }
    fn location(&self) -> Location {
        Location::default()
    }
    fn locate(&mut self, _: &Stop) -> Result<Location, EngineError> {
        Ok(Location::default())
    }
    fn effect(&mut self, _: &Request<'_>) -> Result<Effect, EngineError> {
        Ok(Effect::Unknown)
    }
    fn run(&mut self, request: &Request<'_>, mut sink: Box<dyn Sink>) -> Result<(), EngineError> {
        for word in request.text.split_whitespace() {
            let flow = match word {
                "columns" => sink.take(Event::Begins { schema: batch(0, 1).schema(), name: None }),
                "rows" => sink.take(Event::Rows(batch(0, 100))),
                "ends" => sink.take(Event::Ends { affected: None }),
                "affected" => sink.take(Event::Ends { affected: Some(7) }),
                "output" => sink.take(Event::Output(batch(0, 1))),
                "fail" => return Err(EngineError::new(ErrorKind::Refused, "it was refused")),
                "lose" => return Err(EngineError::new(ErrorKind::Lost, "the server is gone")),
                _ => Flow::Continue,
            };
            if flow == Flow::Stop {
                return Err(EngineError::stopped());
            }
        }
        Ok(())
    }
    fn catalog(&mut self, _: &CatalogPart<'_>, _: &mut Catalog) -> Result<bool, EngineError> {
        Ok(false)
    }
}

fn keeping(folder: &Path) -> Keeping {
    Keeping::open(&Folders::below(folder), Retention::default())
}

fn carried_out(statement: &str, keeping: &Keeping, tell: &Tell) -> Arc<Run> {
    let job = Job { statement: statement.into(), ..Job::default() };
    execute(
        &mut Script,
        (&Profile::new("a", "script"), &Location::default()),
        &job,
        keeping,
        None,
        (tell, &Stop::default()),
    )
}

#[test]
fn however_it_ends_the_rows_are_kept_and_the_logbook_knows() {
    let folder = tempfile::tempdir().unwrap();
    let keeping = keeping(folder.path());
    for (statement, outcome, rows, results) in [
        ("columns rows rows", Outcome::Done, 200, 1),
        ("columns rows fail", Outcome::Failed, 100, 1),
        ("columns rows lose", Outcome::CutShort, 100, 1),
        ("affected", Outcome::Done, 0, 1),
        ("columns rows ends columns rows ends affected", Outcome::Done, 200, 3),
        ("columns rows affected", Outcome::Done, 100, 1),
        ("columns rows output rows ends", Outcome::Done, 200, 2),
        ("fail", Outcome::Failed, 0, 0),
    ] {
        let tell: Tell = Arc::new(|_| {});
        let run = carried_out(statement, &keeping, &tell);
        assert_eq!((run.outcome(), run.rows(), run.results().len()), (outcome, rows, results), "{statement}");
        let entry = keeping.logbook().unwrap().entry(run.number.unwrap()).unwrap().unwrap();
        assert_eq!((entry.outcome, entry.ended.rows, entry.results.len()), (outcome, rows, results), "{statement}");
        let kept = entry.results.iter().filter_map(|result| match result {
            KeptResult::Rows(path) => Some(crate::archive::Archive::open(path).unwrap().rows()),
            KeptResult::Affected(_) => None,
        });
        let beside = statement.matches("output").count() as u64;
        assert_eq!(kept.sum::<u64>(), rows + beside, "{statement}");
    }
}

#[test]
fn a_stop_ends_it_and_the_rows_stay() {
    let folder = tempfile::tempdir().unwrap();
    let tell: Tell = Arc::new(|run: &Arc<Run>| run.stop());
    let run = carried_out("columns rows rows rows", &keeping(folder.path()), &tell);
    assert_eq!((run.outcome(), run.rows()), (Outcome::Stopped, 100));
}

#[test]
fn rows_that_cannot_be_kept_fail_the_run_and_say_why() {
    let folder = tempfile::tempdir().unwrap();
    let keeping = keeping(folder.path());
    std::fs::write(folder.path().join("state/archives"), "in the way").unwrap();
    let tell: Tell = Arc::new(|_| {});
    let run = carried_out("columns rows", &keeping, &tell);
    let error = run.end().unwrap().error.clone().unwrap();
    assert_eq!((run.outcome(), error.kind), (Outcome::Failed, ErrorKind::Local));
    assert!(error.message.starts_with("the rows cannot be stored: the archive "), "{error}");
    assert!(error.remedy.unwrap().contains("kept"));
}

/// A statement of so many batches.
fn batches(count: usize) -> String {
    format!("columns {}", "rows ".repeat(count))
}

#[test]
fn the_limit_holds_while_rows_come() {
    let tell: Tell = Arc::new(|_| {});
    let elsewhere = tempfile::tempdir().unwrap();
    let each = carried_out(&batches(25), &keeping(elsewhere.path()), &tell).bytes() / 25;
    let folder = tempfile::tempdir().unwrap();
    let retention = Retention { bytes: 100 * each };
    let keeping = Keeping::open(&Folders::below(folder.path()), retention);
    let before: Vec<_> = (0..3).map(|_| carried_out(&batches(25), &keeping, &tell)).collect();
    let number = |run: &Arc<Run>| run.number.unwrap();
    let is_there = |run: &Arc<Run>| run.kept_rows().unwrap().path().exists();
    assert!(before.iter().all(is_there), "there is room for all of them");
    keeping.logbook().unwrap().pin(number(&before[1]), true).unwrap();
    // The next one is done only if others make room while its rows come.
    let run = carried_out(&batches(60), &keeping, &tell);
    assert_eq!((run.outcome(), run.rows()), (Outcome::Done, 6000));
    assert_eq!(before.iter().map(is_there).collect::<Vec<_>>(), [false, true, false], "the pinned one stays");
    let size = || {
        std::fs::read_dir(folder.path().join("state/archives"))
            .unwrap()
            .map(|e| e.unwrap().metadata().unwrap().len())
            .sum::<u64>()
    };
    assert!(size() <= retention.bytes + keeping.looks_every() + each, "{} of {}", size(), retention.bytes);
    // One that does not fit beside what is pinned ends, says why, and keeps what it has.
    let run = carried_out(&batches(200), &keeping, &tell);
    let error = run.end().unwrap().error.clone().unwrap();
    assert_eq!((run.outcome(), error.kind), (Outcome::Failed, ErrorKind::Local));
    assert_eq!(
        error.message,
        "the rows cannot be stored: the archives have reached their limit of 0 MiB, and the others are pinned or being written"
    );
    assert!(error.remedy.unwrap().contains("limit_gib"));
    assert!(is_there(&before[1]) && run.rows() > 2000, "{} rows", run.rows());
    let archive = run.kept_rows().unwrap().archive().unwrap();
    assert_eq!(archive.rows(), run.rows());
    assert!(size() <= retention.bytes + keeping.looks_every() + 5 * each, "{} of {}", size(), retention.bytes);
}

#[test]
fn a_word_that_a_server_quotes_is_the_one_after_what_it_does_not_know() {
    let statement = "select top 3 * from ports limit 3";
    let job =
        Job { statement: statement.into(), language: Some(&jaunty_language::dialect::SQLSERVER), ..Job::default() };
    let refused = |at: usize| EngineError::new(ErrorKind::Refused, "Incorrect syntax near '3'").at(Some(at));
    let at = |at: usize| job.with_habit(refused(at)).at;
    assert_eq!(at(statement.find('3').unwrap()), statement.rfind('3'));
    // A place that it tells stays.
    assert_eq!(at(statement.find("top").unwrap()), statement.find("top"));
    assert_eq!(at(statement.rfind('3').unwrap()), statement.rfind('3'));
}
