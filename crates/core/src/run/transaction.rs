//! What ran inside the open transaction, and what of it is gone when that is rolled back.

use std::sync::Arc;

use ropey::Rope;

use super::state::Run;
use crate::logbook::Outcome;
use jaunty_language::dialect::Dialect;
use jaunty_language::lexer::Lexer;
use jaunty_language::statement::acts::{Acts, acts};
use jaunty_seam::engine::Transaction;

/// What a statement says about the transaction.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Word {
    Begin,
    Commit,
    Rollback,
    Savepoint(String),
    RollbackTo(String),
    Other,
}

/// The runs of an open transaction that may have changed something, in order.
#[derive(Debug, Default)]
pub struct OpenTransaction {
    runs: Vec<Arc<Run>>,
    /// The savepoints, each with the count of runs before it.
    savepoints: Vec<(String, usize)>,
}

impl OpenTransaction {
    /// Takes in a run that has ended; `before` and `after` are how the transaction stood. Returns the runs whose
    /// changes are gone now.
    pub fn take(
        &mut self,
        run: &Arc<Run>,
        (before, after): (Option<Transaction>, Option<Transaction>),
        dialect: &'static Dialect,
    ) -> Vec<Arc<Run>> {
        if before.is_none() && after.is_none() {
            return Vec::new();
        }
        // One that failed changed nothing: neither what is there nor the transaction, but for its end.
        let word = if run.outcome() == Outcome::Done { word(&run.statement, dialect) } else { Word::Other };
        if after.is_none() {
            // A server answers a commit of what has failed by rolling it back.
            let gone = word == Word::Rollback || before == Some(Transaction::Failed);
            return if gone { self.roll_back() } else { self.forget() };
        }
        match word {
            // With `AND CHAIN` another one is open at once.
            Word::Rollback => return self.roll_back(),
            // A second one ends the first, with what is in it.
            Word::Begin | Word::Commit => return self.forget(),
            Word::Savepoint(name) => self.savepoints.push((name, self.runs.len())),
            Word::RollbackTo(name) => {
                let at = self.savepoints.iter().rposition(|(known, _)| *known == name);
                let Some((_, from)) = at.and_then(|at| self.savepoints.get(at)).cloned() else { return Vec::new() };
                self.savepoints.truncate(at.map_or(0, |at| at + 1));
                return self.runs.split_off(from);
            }
            Word::Other => {
                let reads = acts(&run.statement, dialect) == Acts::Reads;
                if run.outcome() == Outcome::Done && !reads {
                    self.runs.push(Arc::clone(run));
                }
            }
        }
        Vec::new()
    }

    /// Takes in a slip that was sent inside the open transaction.
    pub fn note(&mut self, run: &Arc<Run>) {
        self.runs.push(Arc::clone(run));
    }

    /// The transaction is gone, and with it these.
    pub fn roll_back(&mut self) -> Vec<Arc<Run>> {
        self.savepoints.clear();
        std::mem::take(&mut self.runs)
    }

    fn forget(&mut self) -> Vec<Arc<Run>> {
        *self = OpenTransaction::default();
        Vec::new()
    }
}

/// What a statement says about the transaction, by its words: those of the SQL standard, and what servers take
/// beside them.
fn word(statement: &str, dialect: &'static Dialect) -> Word {
    let rope = Rope::from_str(statement);
    let tokens = Lexer::new(&rope, dialect, 0).filter(|token| !token.kind.is_trivia());
    let words: Vec<String> = tokens.take(6).map(|token| rope.byte_slice(token.range()).to_string()).collect();
    let upper: Vec<String> = words.iter().map(|word| word.to_uppercase()).collect();
    let upper: Vec<&str> = upper.iter().map(String::as_str).collect();
    // A quoted name means what it says; one without quotes is folded.
    let name = |word: &str| match word.chars().next() {
        Some('"' | '`' | '[') => word.trim_matches(['"', '`', '[', ']']).to_owned(),
        _ => word.to_lowercase(),
    };
    match upper.as_slice() {
        ["BEGIN", ..] | ["START", "TRANSACTION", ..] => Word::Begin,
        ["COMMIT" | "END", ..] | ["PREPARE", "TRANSACTION", ..] => Word::Commit,
        ["SAVEPOINT", _, ..] => Word::Savepoint(name(&words[1])),
        ["ROLLBACK" | "ABORT", ..] => {
            let to = upper.iter().position(|word| *word == "TO");
            let at = to.map(|to| if upper.get(to + 1) == Some(&"SAVEPOINT") { to + 2 } else { to + 1 });
            match at.and_then(|at| words.get(at)) {
                Some(word) => Word::RollbackTo(name(word)),
                None => Word::Rollback,
            }
        }
        _ => Word::Other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::{MYSQL, POSTGRES};

    const OPEN: Option<Transaction> = Some(Transaction::Open);
    const FAILED: Option<Transaction> = Some(Transaction::Failed);

    /// Takes in statements, each with how the transaction stands after it; `!` marks those that fail. Returns
    /// what is gone after each.
    fn gone(dialect: &'static Dialect, all: &[(&str, Option<Transaction>)]) -> Vec<String> {
        let (mut open, mut before) = (OpenTransaction::default(), None);
        let each = all.iter().map(|(statement, after)| {
            let failed = statement.starts_with('!');
            let run = Run::begin(statement.trim_start_matches('!').to_owned(), None, None);
            run.set_end(if failed { Outcome::Failed } else { Outcome::Done }, None);
            let gone = open.take(&Arc::new(run), (before, *after), dialect);
            before = *after;
            gone.iter().map(|run| run.statement.clone()).collect::<Vec<_>>().join("|")
        });
        each.collect()
    }

    #[test]
    fn a_rollback_takes_what_was_written_since_the_beginning() {
        let all = [
            ("begin", OPEN),
            ("update a set b = 1", OPEN),
            ("select * from a", OPEN),
            ("!update nothing", OPEN),
            ("delete from a", OPEN),
            ("rollback", None),
            ("begin", OPEN),
            ("delete from c", OPEN),
            ("commit", None),
            ("rollback", None),
        ];
        let expected = ["", "", "", "", "", "update a set b = 1|delete from a", "", "", "", ""];
        assert_eq!(gone(&MYSQL, &all), expected);
    }

    #[test]
    fn a_savepoint_divides_it() {
        let all = [
            ("begin", OPEN),
            ("delete from a", OPEN),
            ("savepoint \"Pier\"", OPEN),
            ("delete from b", OPEN),
            ("savepoint PIER", OPEN),
            ("delete from c", OPEN),
            ("!selct", FAILED),
            ("rollback to pier", OPEN),
            ("delete from d", OPEN),
            ("rollback work to savepoint \"Pier\"", OPEN),
            ("delete from e", OPEN),
            ("rollback and chain", OPEN),
            ("delete from f", OPEN),
            ("commit and chain", OPEN),
            ("abort", None),
        ];
        let gone = gone(&POSTGRES, &all);
        assert_eq!(gone[7], "delete from c");
        assert_eq!(gone[9], "delete from b|delete from d");
        assert_eq!(gone[11], "delete from a|delete from e");
        assert_eq!(gone[14], "", "what is committed stays");
    }

    #[test]
    fn a_commit_of_what_failed_is_a_rollback_and_a_definition_may_be_a_commit() {
        let failed = [("begin", OPEN), ("delete from a", OPEN), ("!selct", FAILED), ("commit", None)];
        assert_eq!(gone(&POSTGRES, &failed)[3], "delete from a");
        let defined = [("begin", OPEN), ("delete from a", OPEN), ("create table t (a int)", None)];
        assert_eq!(gone(&MYSQL, &defined)[2], "");
        // Where nothing is committed by itself, the first statement opens the transaction.
        assert_eq!(gone(&MYSQL, &[("delete from a", OPEN), ("rollback", None)])[1], "delete from a");
    }
}
