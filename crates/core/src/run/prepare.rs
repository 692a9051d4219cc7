//! Getting statements of a buffer ready to run. Nothing runs if one of them cannot.

use std::ops::Range;
use std::path::Path;

use ropey::Rope;

use super::execute::{Job, job_at};
use super::out_line::out_lines;
use jaunty_language::edit::snippet::unfilled;
use jaunty_language::outline::{Outline, StatementId};
use jaunty_language::split::Statement;
use jaunty_language::statement::parameters;

/// Statements that can run.
#[derive(Debug, Default)]
pub struct Prepared {
    /// The jobs, in order.
    pub jobs: Vec<Job>,
    /// The names of each one's parameters.
    pub names: Vec<Vec<String>>,
    /// The statements' identities.
    pub ids: Vec<StatementId>,
}

/// Why statements cannot run. Places are in bytes of the text.
#[derive(Debug, PartialEq, Eq)]
pub enum Unready {
    /// The quote or comment of the statement that begins here never closes.
    NeverCloses(usize),
    /// Something has to be filled in here first.
    Unfilled(Range<usize>),
    /// An out-line is wrong here, in these words.
    OutLine(usize, String),
    /// A person stopped it.
    Stopped,
}

/// Gets statements of a text ready, which takes as long as reading them: `go_on` is asked after each.
pub fn prepare(
    rope: &Rope,
    outline: &Outline,
    range: Range<usize>,
    buffer: Option<&Path>,
    mut go_on: impl FnMut() -> bool,
) -> Result<Prepared, Unready> {
    let (statements, dialect) = (outline.statements().get(range.clone()).unwrap_or_default(), outline.dialect());
    if let Some(open) = statements.iter().find(|s| !s.closed) {
        return Err(Unready::NeverCloses(open.start));
    }
    let mut prepared = Prepared::default();
    // What has to be filled in comes before what is wrong elsewhere.
    let mut wrong = None;
    for (index, statement) in range.zip(statements) {
        if !go_on() {
            return Err(Unready::Stopped);
        }
        if let Some(place) = unfilled_in(statement, rope, outline) {
            return Err(Unready::Unfilled(place));
        }
        wrong = wrong.or_else(|| out_lines(statement, rope, dialect).into_iter().find_map(|line| line.target.err()));
        if let Some(job) = job_at(outline, index, rope, buffer) {
            prepared.names.push(parameters::names(&job.statement, dialect));
            prepared.ids.push(StatementId::of(&job.statement));
            prepared.jobs.push(job);
        }
    }
    match wrong {
        Some(error) => Err(Unready::OutLine(error.range.start, error.message)),
        None => Ok(prepared),
    }
}

fn unfilled_in(statement: &Statement, rope: &Rope, outline: &Outline) -> Option<Range<usize>> {
    let place = unfilled(&statement.text(rope), outline.dialect())?;
    Some(statement.start + place.start..statement.start + place.end)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::SQLITE;

    fn prepared(text: &str) -> Result<Prepared, Unready> {
        let rope = Rope::from_str(text);
        let outline = Outline::new(&rope, &SQLITE);
        prepare(&rope, &outline, 0..outline.statements().len(), None, || true)
    }

    #[test]
    fn statements_come_with_their_parameters_and_identities() {
        let found = prepared("select 1;\n\nselect :port, :tide, :port;\n").unwrap();
        assert_eq!(
            found.jobs.iter().map(|job| job.statement.as_str()).collect::<Vec<_>>(),
            ["select 1", "select :port, :tide, :port"]
        );
        assert_eq!(found.names, [vec![], vec![":port".to_owned(), ":tide".to_owned()]]);
        assert_eq!(found.ids, ["select 1", "select :port, :tide, :port"].map(StatementId::of));
    }

    #[test]
    fn nothing_is_ready_if_one_is_not() {
        let text = "select 1;\nselect 2 --> wrong wrong wrong;\n;\nselect ‹port›;\n";
        let place = text.find('‹').unwrap();
        assert_eq!(prepared(text).unwrap_err(), Unready::Unfilled(place..place + "‹port›".len()));
        assert_eq!(prepared("select 1;\nselect 'quay").unwrap_err(), Unready::NeverCloses(10));
        let wrong = prepared("select 1;\n--> a.nothing wrong\nselect 2;\n--> b.csv\n").unwrap_err();
        assert!(matches!(wrong, Unready::OutLine(at, _) if at >= 10), "{wrong:?}");
        let rope = Rope::from_str("select 1; select 2");
        let outline = Outline::new(&rope, &SQLITE);
        assert_eq!(prepare(&rope, &outline, 0..2, None, || false).unwrap_err(), Unready::Stopped);
    }
}
