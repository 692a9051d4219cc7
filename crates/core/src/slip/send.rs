//! Sending a slip: in one transaction, in which each row is read again before it is changed.

use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::RecordBatch;
use jaunty_language::dialect::{Changing, Dialect};
use jaunty_language::statement::parameters::Value;
use jaunty_seam::engine::{Event, Flow, Request, Session, Sink, Stop, Transaction};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};

use super::statements::{Step, exact, reading, reading_exactly, reading_last, savepoint, steps};
use super::{Datum, Draft, Ground, Row, Slip, What, elements};

/// What was sent, as the server has it.
#[derive(Debug, Clone, PartialEq)]
pub struct Sent {
    /// What became of each draft, by its place.
    pub rows: Vec<SentRow>,
    /// Whether it stands in a transaction that was open before, and is not committed yet.
    pub uncommitted: bool,
}

/// A row, before and after.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct SentRow {
    /// As it was; none if it was added.
    pub before: Option<Row>,
    /// As it is; none if it was deleted, or where the server does not tell it apart.
    pub after: Option<Row>,
}

/// A row that is not what was read.
#[derive(Debug, Clone, PartialEq)]
pub struct Conflict {
    /// The draft.
    pub draft: usize,
    /// The row as it is now; none if it is gone.
    pub theirs: Option<Row>,
}

/// Why nothing was sent.
#[derive(Debug, Clone, thiserror::Error)]
pub enum Unsent {
    /// Somebody changed a row meanwhile.
    #[error("a row was changed by somebody else since it was read: nothing was sent")]
    Conflict(Conflict),
    /// What was read does not tell one row apart.
    #[error("{rows} rows have these values of {columns}: nothing was sent; change them by a statement")]
    NotOne {
        /// The draft.
        draft: usize,
        /// How many rows there are.
        rows: u64,
        /// The columns that were compared.
        columns: String,
    },
    /// The server changed another number of rows, as a trigger or a rule may make it.
    #[error("the server changed {rows} rows where one was meant: everything was rolled back")]
    Counted {
        /// The draft.
        draft: usize,
        /// How many.
        rows: u64,
    },
    /// Something stands in the way of a change.
    #[error("{what}: nothing was sent")]
    Hindered {
        /// The draft.
        draft: usize,
        /// What it is.
        what: String,
    },
    /// A transaction is open in which statements are only noted down, so that nothing can be read again.
    #[error("a transaction is open that only queues commands: end it first")]
    Noting,
    /// A transaction is open that only takes its end.
    #[error("the open transaction has failed: roll it back first")]
    FailedTransaction,
    /// The server refused something.
    #[error("{error}")]
    Refused {
        /// The draft, where it is about one.
        draft: Option<usize>,
        /// What it says.
        error: EngineError,
        /// Whether everything was rolled back: not known where the connection was lost while it was committed.
        rolled_back: bool,
    },
}

/// Sends a slip. Either all of it is done, or nothing: `told` hears how many drafts are through.
///
/// Where a transaction is open it stays open, and a savepoint is gone back to instead of rolling it back.
pub fn send(
    slip: &Slip,
    dialect: &'static Dialect,
    session: &mut dyn Session,
    stop: &Stop,
    mut told: impl FnMut(usize),
) -> Result<Sent, Unsent> {
    if let (Some(of), Some(place)) = (dialect.elements, &slip.ground.place) {
        return elements::send(slip, (of, place), &mut Line { session, stop }, told);
    }
    let refused = |draft, error, rolled_back| Unsent::Refused { draft, error, rolled_back };
    let Some(changing) = dialect.changing else {
        let error = EngineError::new(ErrorKind::Refused, "rows of this database are not changed by statements");
        return Err(refused(None, error, true));
    };
    let (begin, end, back) = match session.location().transaction {
        Some(Transaction::Failed) => return Err(Unsent::FailedTransaction),
        Some(_) => {
            let words = &dialect.transaction;
            (savepoint(words.savepoint), None, savepoint(words.back_to_savepoint))
        }
        None => {
            let words = &dialect.transaction;
            (changing.begin.to_owned(), Some(words.commit), words.roll_back.to_owned())
        }
    };
    let mut line = Line { session, stop };
    line.run(&begin, &[]).map_err(|error| refused(None, error, true))?;
    let mut rows = vec![SentRow::default(); slip.drafts.len()];
    let mut failed = None;
    for (done, step) in steps(slip, dialect).iter().enumerate() {
        if stop.is_wished() {
            failed = Some(refused(Some(step.draft), EngineError::stopped(), true));
            break;
        }
        match carry_out(slip, step, changing, dialect, &mut line) {
            Ok(row) => rows[step.draft] = row,
            Err(unsent) => {
                failed = Some(unsent);
                break;
            }
        }
        told(done + 1);
    }
    if failed.is_none()
        && let Some(commit) = end
    {
        // It is not stopped: whether it was done before the wish arrived, nobody could say.
        let still = Stop::default();
        let committed = Line { session: &mut *line.session, stop: &still }.run(commit, &[]);
        if let Err(error) = committed {
            let known = error.kind != ErrorKind::Lost;
            failed = Some(refused(None, error, known));
        }
    }
    match failed {
        None => Ok(Sent { rows, uncommitted: end.is_none() }),
        Some(unsent) => {
            // The wish to end it is not one to leave it half done.
            let (still, stop) = (line.session, Stop::default());
            let lost = matches!(&unsent, Unsent::Refused { error, .. } if error.kind == ErrorKind::Lost);
            if !lost && still.location().transaction.is_some() {
                let mut line = Line { session: still, stop: &stop };
                line.run(&back, &[]).map_err(|error| refused(None, error, false))?;
            }
            Err(unsent)
        }
    }
}

fn carry_out(
    slip: &Slip,
    step: &Step,
    changing: &Changing,
    dialect: &'static Dialect,
    line: &mut Line<'_>,
) -> Result<SentRow, Unsent> {
    let (ground, draft) = (&slip.ground, &slip.drafts[step.draft]);
    let refused = |error| Unsent::Refused { draft: Some(step.draft), error, rolled_back: true };
    let mut before = match &step.reads {
        Some(query) => {
            let found = line.run(query, &[]).map_err(refused)?;
            Some(as_read(ground, draft, step.draft, found, dialect)?)
        }
        None => None,
    };
    let [first, last] = step.around.clone().unwrap_or_default();
    if !first.is_empty() {
        line.run(&first, &[]).map_err(refused)?;
    }
    let done = line.run(&step.text, &step.values).map_err(refused)?;
    if !last.is_empty() {
        line.run(&last, &[]).map_err(refused)?;
    }
    let counted = done.affected.unwrap_or(done.rows);
    let unchanged_is_none = changing.counts_different && draft.what == What::Change && counted == 0;
    if counted != 1 && !unchanged_is_none {
        return Err(Unsent::Counted { draft: step.draft, rows: counted });
    }
    let one = |found: Found| (found.rows == 1).then(|| found.first()).flatten();
    let after = match draft.what {
        What::Delete => None,
        What::Add if changing.inserted.is_some() => one(done),
        What::Add => {
            let given: Row = (0..ground.fields.len()).map(|field| draft.new.get(&field).cloned()).collect();
            let known = |at: &usize| given[*at].as_ref().is_some_and(|value| !value.is_word());
            let by_key = !ground.key.is_empty() && ground.key.iter().all(known);
            let query = match by_key || ground.key.is_empty() {
                true => Some(reading(ground, &given, changing, dialect)),
                false => reading_last(ground, changing, dialect),
            };
            match query {
                Some(query) => one(line.run(&query, &[]).map_err(refused)?),
                None => None,
            }
        }
        What::Change => {
            let mut wanted = draft.old.clone();
            for (field, value) in &draft.new {
                wanted[*field] = Some(value.clone()).filter(|value| *value != Datum::Default);
            }
            let query = reading_exactly(ground, &wanted, changing, dialect);
            let mut after = one(line.run(&query, &[]).map_err(refused)?);
            if let (Some(before), Some(after)) = (&mut before, &mut after) {
                as_it_stayed(before, after, ground, dialect);
            }
            after
        }
    };
    Ok(SentRow { before, after })
}

/// Has what was not changed the same text before and after, where text does not have all of a value: exactly it is the
/// same. What has them exactly goes from the row as it is afterwards.
fn as_it_stayed(before: &mut Row, after: &mut Row, ground: &Ground, dialect: &Dialect) {
    let exact_values = after.split_off(ground.fields.len().min(after.len()));
    for ((field, _), value) in exact(ground, dialect).zip(exact_values) {
        if before[field] == value {
            before[field].clone_from(&after[field]);
        }
    }
}

/// The row as it is now, exactly, if it still is what was read.
fn as_read(ground: &Ground, draft: &Draft, at: usize, found: Found, dialect: &Dialect) -> Result<Row, Unsent> {
    let mut theirs = match (found.rows, found.first()) {
        (0, _) | (_, None) => return Err(Unsent::Conflict(Conflict { draft: at, theirs: None })),
        (1, Some(row)) => row,
        (rows, _) => {
            let columns = ground.names(&ground.identity());
            return Err(Unsent::NotOne { draft: at, rows, columns });
        }
    };
    let exact_values = theirs.split_off(ground.fields.len().min(theirs.len()));
    let same = draft.old.iter().zip(&theirs).all(|(old, now)| old.is_none() || old == now);
    match same {
        true => {
            for ((field, _), value) in exact(ground, dialect).zip(exact_values) {
                theirs[field] = value;
            }
            Ok(theirs)
        }
        false => Err(Unsent::Conflict(Conflict { draft: at, theirs: Some(theirs) })),
    }
}

/// A session, and the wish that ends what it does.
pub(super) struct Line<'a> {
    pub(super) session: &'a mut dyn Session,
    pub(super) stop: &'a Stop,
}

impl Line<'_> {
    pub(super) fn run(&mut self, text: &str, values: &[Value]) -> Result<Found, EngineError> {
        let found = Arc::new(Mutex::new(Found::default()));
        let request = Request::new(text).with(values).until(self.stop);
        self.session.run(&request, Box::new(Finding(Arc::clone(&found))))?;
        let mut found = found.lock().unwrap_or_else(PoisonError::into_inner);
        Ok(std::mem::take(&mut found))
    }
}

/// So many rows of what a statement gave are kept: what a transaction noted down has a row for each.
const KEPT: usize = 100_000;

/// What a statement gave.
#[derive(Debug, Default)]
pub(super) struct Found {
    /// The first rows.
    pub(super) kept: Vec<Row>,
    /// How many rows.
    pub(super) rows: u64,
    /// How many rows it touched, where the server tells.
    pub(super) affected: Option<u64>,
}

impl Found {
    /// The first row.
    pub(super) fn first(self) -> Option<Row> {
        self.kept.into_iter().next()
    }
}

struct Finding(Arc<Mutex<Found>>);

impl Sink for Finding {
    fn wanted(&self) -> Flow {
        Flow::Continue
    }

    fn take(&mut self, event: Event) -> Flow {
        let mut found = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match event {
            Event::Rows(batch) => {
                let room = KEPT.saturating_sub(found.kept.len());
                found.kept.extend((0..batch.num_rows().min(room)).map(|at| row(&batch, at)));
                found.rows += batch.num_rows() as u64;
            }
            Event::Ends { affected: Some(rows) } => found.affected = Some(rows),
            _ => {}
        }
        Flow::Continue
    }
}

/// A row of a batch.
fn row(batch: &RecordBatch, at: usize) -> Row {
    let cell = |column: &ColumnReader<'_>| {
        let cell = column.get(at);
        Some(datum(cell.kind, &cell.text))
    };
    ColumnReader::all(batch).iter().map(cell).collect()
}

/// A value that was read.
pub fn datum(kind: CellKind, text: &str) -> Datum {
    match kind {
        CellKind::Null => Datum::Null,
        CellKind::Number => Datum::Number(text.to_owned()),
        CellKind::Text => Datum::Text(text.to_owned()),
        CellKind::Binary => Datum::Bytes(text.trim_start_matches("\\x").to_owned()),
        CellKind::Boolean => Datum::Bool(text == "true"),
    }
}

/// The values of a row by the fields of a table; `batch` has the columns of the result.
pub fn row_of(ground: &Ground, batch: &RecordBatch, at: usize) -> Row {
    let columns = ColumnReader::all(batch);
    let value = |place: usize| {
        let cell = columns.get(place)?.get(at);
        Some(datum(cell.kind, &cell.text))
    };
    ground.fields.iter().map(|field| field.at.and_then(value)).collect()
}

impl Sent {
    /// The slip that takes this back: the table is what it was, unless somebody changes it meanwhile.
    ///
    /// None where the server did not say what became of a row.
    pub fn opposite(&self, slip: &Slip, dialect: &'static Dialect, number: Option<i64>) -> Option<Slip> {
        if let (Some(of), Some(place)) = (dialect.elements, &slip.ground.place) {
            let drafts = elements::opposite(slip, &self.rows, (of, place))?;
            return Some(Slip { drafts, takes_back: number, sending: false, ..slip.clone() });
        }
        let mut drafts = Vec::new();
        for (draft, row) in slip.drafts.iter().zip(&self.rows) {
            let given = |field: usize| slip.ground.fields.get(field).is_some_and(super::Field::is_given);
            let values = |row: &Row| {
                let known = row.iter().enumerate().filter_map(|(field, value)| Some((field, value.clone()?)));
                known.filter(|(field, _)| given(*field)).collect::<Vec<_>>()
            };
            drafts.push(match (draft.what, &row.before, &row.after) {
                (What::Delete, Some(before), _) => {
                    Draft { what: What::Add, row: None, old: Vec::new(), new: values(before).into_iter().collect() }
                }
                (What::Add, _, Some(after)) => {
                    Draft { what: What::Delete, row: None, old: after.clone(), new: Default::default() }
                }
                (What::Change, Some(before), Some(after)) => {
                    let differs = |(field, value): &(usize, Datum)| after[*field].as_ref() != Some(value);
                    let new = values(before).into_iter().filter(differs).collect();
                    Draft { what: What::Change, row: None, old: after.clone(), new }
                }
                _ => return None,
            });
        }
        drafts.retain(|draft: &Draft| draft.what != What::Change || !draft.new.is_empty());
        drafts.reverse();
        Some(Slip { drafts, takes_back: number, sending: false, ..slip.clone() })
    }
}
