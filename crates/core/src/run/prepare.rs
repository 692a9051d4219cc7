//! Getting statements of a buffer ready to run. Nothing runs if one of them cannot.

use std::ops::Range;
use std::path::Path;

use ropey::Rope;

use super::execute::{Job, job_at};
use super::out_line::{file_of, in_the_way, out_lines};
use crate::export::target::TargetError;
use jaunty_language::dialect::Dialect;
use jaunty_language::edit::snippet::unfilled;
use jaunty_language::host::Code;
use jaunty_language::outline::{Outline, StatementId};
use jaunty_language::split::Statement;
use jaunty_language::statement::parameters::Value;
use jaunty_language::statement::{batch, parameters};

/// Statements that can run.
#[derive(Debug, Default)]
pub struct Prepared {
    /// The jobs, in order.
    pub jobs: Vec<Job>,
    /// The names of each one's parameters.
    pub names: Vec<Vec<String>>,
    /// The values that comments directly above each statement give for them.
    pub noted: Vec<Vec<Value>>,
    /// The statements' identities.
    pub ids: Vec<StatementId>,
    /// Where the statements begin, in bytes.
    pub starts: Vec<usize>,
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
    /// The statement that begins here cannot be sent without its batch, since of one above it: where that begins, and
    /// why.
    NeedsBatch(usize, usize, &'static str),
    /// An escape of program code within a quoted text is not understood.
    Escaped(Range<usize>),
    /// A person stopped it.
    Stopped,
}

/// Which statements of a text are meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Meant {
    /// This one, whatever its batch says of how often it is to be carried out.
    One(usize),
    /// These, as they stand there.
    All(Range<usize>),
}

impl Meant {
    /// The statements.
    pub fn range(&self) -> Range<usize> {
        match self {
            Meant::One(at) => *at..at + 1,
            Meant::All(range) => range.clone(),
        }
    }
}

/// Gets statements of a text ready, which takes as long as reading them: `go_on` is asked after each. Of program code the text
/// is what is masked of it.
pub fn prepare(
    (rope, code): (&Rope, Option<&Code>),
    outline: &Outline,
    meant: Meant,
    buffer: Option<&Path>,
    mut go_on: impl FnMut() -> bool,
) -> Result<Prepared, Unready> {
    let range = meant.range();
    let (statements, dialect) = (outline.statements().get(range.clone()).unwrap_or_default(), outline.dialect());
    if let Some(open) = statements.iter().find(|s| !s.closed) {
        return Err(Unready::NeverCloses(open.start));
    }
    let mut prepared = Prepared::default();
    let mut batches = Batches::default();
    // What has to be filled in comes before what is wrong elsewhere.
    let mut wrong = None;
    for (index, statement) in range.clone().zip(statements) {
        if !go_on() {
            return Err(Unready::Stopped);
        }
        if let Some(place) = unfilled_in(statement, rope, outline) {
            return Err(Unready::Unfilled(place));
        }
        wrong = wrong.or_else(|| out_lines(statement, rope, dialect).into_iter().find_map(|line| line.target.err()));
        let whole = batches.of(outline, index, rope, &meant);
        if whole.is_some_and(|whole| index + 1 < whole.end) {
            // It goes with the last one of its batch.
            continue;
        }
        if let Some(mut job) = job_at(outline, index, rope, buffer) {
            if wrong.is_none() && !job.out.is_empty() {
                wrong = replaced(statement, rope, &job);
            }
            match whole {
                Some(whole) => {
                    let start = outline.statements().get(whole.start).map_or(statement.start, |first| first.start);
                    job.before = rope.byte_slice(start..statement.start).to_string().trim_end().to_owned();
                    job.times = whole.times;
                }
                None => {
                    let needs = batch::needs(outline, index, rope);
                    if let Some((above, why)) = needs.once {
                        let at = outline.statements().get(above).map_or(0, |above| above.start);
                        return Err(Unready::NeedsBatch(statement.start, at, why));
                    }
                }
            }
            if let Some(code) = code {
                let bytes = statement.start..statement.start + job.statement.len();
                job.exact = code.exact(bytes, dialect).map_err(Unready::Escaped)?;
            }
            let names = parameters::names(&job.sent(), dialect);
            prepared.noted.push(noted(&names, (rope, code), statement.start, dialect));
            prepared.names.push(names);
            prepared.ids.push(StatementId::of(&job.statement));
            prepared.starts.push(statement.start);
            prepared.jobs.push(job);
        }
    }
    match wrong {
        Some(error) => Err(Unready::OutLine(error.range.start, error.message)),
        None => Ok(prepared),
    }
}

/// The values of these parameters that comments above a statement give.
pub fn noted(names: &[String], (rope, code): (&Rope, Option<&Code>), start: usize, dialect: &Dialect) -> Vec<Value> {
    if names.is_empty() {
        return Vec::new();
    }
    let above = match code {
        Some(code) => code.noted_above(start),
        None => parameters::noted_above(rope, rope.byte_to_line(start), dialect.line_comments),
    };
    // In code the sign is the driver's, and not always ours: `@port` for what is `:port` here.
    let is_it = |noted: &str, name: &str| noted == name || code.is_some() && parameters::is_alike(noted, name);
    let of = |name: &String| {
        let (_, value) = above.iter().find(|(noted, _)| is_it(noted, name))?;
        Some((name.clone(), value.clone()))
    };
    names.iter().filter_map(of).collect()
}

/// What is wrong with an out-line of a statement whose file is to stay as it is.
fn replaced(statement: &Statement, rope: &Rope, job: &Job) -> Option<TargetError> {
    out_lines(statement, rope, job.language?).into_iter().find_map(|line| {
        let message =
            in_the_way(&file_of(&line.target.ok()?, job.name(), job.buffer.as_deref()), job.buffer.as_deref())?;
        Some(TargetError { range: line.range, message })
    })
}

/// Batches that are sent as a whole: those whose statements share variables, or that are carried out several times.
#[derive(Debug, Default)]
struct Batches {
    /// The last one that was looked at.
    last: Range<usize>,
    whole: Option<Whole>,
}

/// The statements of a batch that are sent together.
#[derive(Debug, Clone, Copy)]
struct Whole {
    start: usize,
    end: usize,
    times: u32,
}

impl Batches {
    /// The batch that a statement is sent with, of those that are meant.
    fn of(&mut self, outline: &Outline, index: usize, rope: &Rope, meant: &Meant) -> Option<Whole> {
        outline.dialect().batch_word?;
        let range = meant.range();
        if !self.last.contains(&index) {
            let batch = batch::all_of_batch(outline, index, rope);
            let inside = batch.start.max(range.start)..batch.end.min(range.end);
            let times = if inside.end == batch.end && inside.start == batch.start {
                batch::times(outline, batch.end.saturating_sub(1), rope)
            } else {
                1
            };
            self.whole = match times > 1 && matches!(meant, Meant::All(_)) {
                true => Some(Whole { start: inside.start, end: inside.end, times }),
                false => sharing(outline, &inside, rope),
            };
            self.last = inside;
        }
        self.whole.filter(|whole| (whole.start..whole.end).contains(&index))
    }
}

/// From the first statement of a batch that others need to the last that needs one; from the beginning where one of
/// them depends on what ran before it.
fn sharing(outline: &Outline, inside: &Range<usize>, rope: &Rope) -> Option<Whole> {
    let mut found: Option<Whole> = None;
    for at in inside.clone() {
        let needs = batch::needs(outline, at, rope);
        let Some(first) = needs.statements.iter().copied().filter(|above| inside.contains(above)).min() else {
            continue;
        };
        let first = if needs.once.is_some() { inside.start } else { first };
        let start = found.map_or(first, |found| found.start.min(first));
        found = Some(Whole { start, end: at + 1, times: 1 });
    }
    found
}

fn unfilled_in(statement: &Statement, rope: &Rope, outline: &Outline) -> Option<Range<usize>> {
    let place = unfilled(&statement.text(rope), outline.dialect())?;
    Some(statement.start + place.start..statement.start + place.end)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jaunty_language::dialect::{SQLITE, SQLSERVER};

    fn prepared(text: &str) -> Result<Prepared, Unready> {
        let rope = Rope::from_str(text);
        let outline = Outline::new(&rope, &SQLITE);
        prepare((&rope, None), &outline, Meant::All(0..outline.statements().len()), None, || true)
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
    fn what_shares_variables_is_sent_together() {
        let text = "select 0\ndeclare @a int = 1\nselect @a\nselect 1\ngo\nselect 2\nselect 3\ngo\ninsert into t values (1)\ngo 5\n\
                    insert into t values (2)\ndeclare @id int\nset @id = scope_identity()\nselect @id\n";
        let rope = Rope::from_str(text);
        let outline = Outline::new(&rope, &SQLSERVER);
        let of = |range: Range<usize>| {
            let meant = if range.len() == 1 { Meant::One(range.start) } else { Meant::All(range) };
            let found = prepare((&rope, None), &outline, meant, None, || true);
            found.map(|found| found.jobs.iter().map(|job| job.sent().into_owned()).collect::<Vec<_>>())
        };
        assert_eq!(
            of(0..11).unwrap(),
            [
                "select 0",
                "declare @a int = 1\nselect @a",
                "select 1",
                "select 2",
                "select 3",
                "insert into t values (1)\ngo 5",
                "insert into t values (2)\ndeclare @id int\nset @id = scope_identity()\nselect @id",
            ]
        );
        assert_eq!(of(2..3).unwrap(), ["declare @a int = 1\nselect @a"]);
        assert_eq!(of(6..7).unwrap(), ["insert into t values (1)"]);
        let all = prepare((&rope, None), &outline, Meant::All(6..7), None, || true).unwrap();
        assert_eq!(all.jobs[0].sent(), "insert into t values (1)\ngo 5");
        let place = |text_of: &str| text.find(text_of).unwrap();
        let why = "it depends on what ran before it";
        assert_eq!(of(10..11).unwrap_err(), Unready::NeedsBatch(place("select @id"), place("set @id"), why));
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
        assert_eq!(prepare((&rope, None), &outline, Meant::All(0..2), None, || false).unwrap_err(), Unready::Stopped);
    }
}
