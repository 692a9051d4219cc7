//! Putting the rows of a file into a table.

use std::sync::mpsc::sync_channel;
use std::time::{Duration, Instant};

use arrow_array::RecordBatch;
use jaunty_language::dialect::Dialect;
use jaunty_seam::catalog::Column;
use jaunty_seam::engine::load::{Load, Meeting, Nothing};
use jaunty_seam::engine::{Request, Session, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};

use super::ImportError;
use super::fit::{Fitted, Unusual, fitted};
use super::matching::Matching;
use super::refused::{Bad, Refused};
use super::source::Source;

/// How the rows are loaded.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Parts {
    /// All of them, or none.
    #[default]
    One,
    /// So many at a time: what is committed stays.
    Of(u64),
}

/// What a person says of a load.
pub struct Options<'a> {
    /// In one transaction, or in parts.
    pub parts: Parts,
    /// What becomes of rows that are there already.
    pub meeting: Meeting,
    /// Where rows go that do not fit; without it the first of them ends it.
    pub refused: Option<Refused>,
    /// The wish to end it.
    pub stop: Stop,
    /// Hears how many rows were sent, now and then.
    pub told: &'a mut dyn FnMut(u64, u64),
}

/// What was loaded.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Loaded {
    /// Rows that the table took.
    pub rows: u64,
    /// Rows that were sent and were there already.
    pub there: u64,
    /// Rows that did not fit.
    pub refused: u64,
    /// The first of them: the line and why.
    pub reasons: Vec<(u64, String)>,
    /// Values that the table took and that are not what their column's type says, where columns take anything.
    pub unusual: u64,
    /// The first of them: the line and what it is.
    pub first_unusual: Option<(u64, String)>,
}

/// How often it is told how far it is.
const TOLD_EVERY: Duration = Duration::from_millis(100);

/// So many rows are sent at once where each of them is a statement of its own: of keys that are watched, each more costs as
/// many steps of the server as there are.
const STATEMENTS: usize = 128;

/// Blocks that are read ahead, on a thread of their own.
const AHEAD: usize = 4;

/// Loads all rows of a file. The transaction is ours: nothing may be open before.
pub fn load(
    mut source: Source,
    matching: &Matching,
    session: &mut dyn Session,
    dialect: &'static Dialect,
    mut options: Options<'_>,
) -> Result<Loaded, ImportError> {
    let filling = dialect.elements.and_then(|elements| elements.filling(&matching.table)).and_then(Result::ok);
    if let Some(filling) = filling.as_ref().filter(|filling| !filling.meets && options.meeting != Meeting::Refuse) {
        let what = format!("each {} is new: there is none that could be skipped or replaced", filling.element);
        return Err(ImportError::Mistake(what));
    }
    let columns: Vec<Column> = matching.targets.iter().map(|target| target.column.clone()).collect();
    let mut plan = Plan {
        session,
        dialect,
        load: Load {
            table: &matching.table,
            columns: &columns,
            key: &matching.key,
            meeting: options.meeting,
            dialect,
            stop: options.stop.clone(),
        },
        stop: options.stop.clone(),
        at_once: if filling.is_some() { STATEMENTS } else { usize::MAX },
        kept: 0,
        loaded: Loaded::default(),
    };
    let matched = matching.clone();
    let names = source.found.columns.iter().map(|column| column.name.clone()).collect::<Vec<_>>();
    let outcome = std::thread::scope(|scope| {
        // Reading and checking go on beside the server.
        let (sender, blocks) = sync_channel::<Result<Option<(Fitted, u64)>, ImportError>>(AHEAD);
        let reading = scope.spawn(move || {
            loop {
                let block = source.next_block();
                let position = source.position();
                let (ends, message) = match block {
                    Ok(Some(block)) => {
                        (false, fitted(block, &matched, &names, dialect).map(|block| Some((block, position))))
                    }
                    Ok(None) => (true, Ok(None)),
                    Err(error) => (true, Err(error)),
                };
                if sender.send(message).is_err() || ends {
                    return;
                }
            }
        });
        // The end is told: a thread that is gone is not one, and what came so far is not all.
        let ended = |_| ImportError::Malformed("the thread that reads the file has ended early".into());
        let mut next = || blocks.recv().map_err(ended)?;
        let outcome = plan.all(&mut next, &mut options, matching.definition.as_deref());
        drop(blocks);
        let _ = reading.join();
        outcome
    });
    if let Some(refused) = &mut options.refused {
        refused.finish()?;
        (plan.loaded.refused, plan.loaded.reasons) = (refused.rows, refused.first.clone());
    }
    outcome.map(|()| plan.loaded)
}

struct Plan<'a> {
    session: &'a mut dyn Session,
    dialect: &'static Dialect,
    load: Load<'a>,
    stop: Stop,
    /// The most rows that are sent at once, if they are sent a block at a time.
    at_once: usize,
    /// Rows of parts that were committed.
    kept: u64,
    loaded: Loaded,
}

type Next<'a> = dyn FnMut() -> Result<Option<(Fitted, u64)>, ImportError> + 'a;

impl Plan<'_> {
    fn run(&mut self, statement: &str) -> Result<(), ImportError> {
        let request = Request::new(statement).until(&self.stop);
        let outcome = self.session.run(&request, Box::new(Nothing));
        outcome.map_err(|error| match self.failed(error) {
            ImportError::Server { error, kept, .. } => ImportError::Server { error, kept, of_rows: false },
            other => other,
        })
    }

    fn failed(&self, error: EngineError) -> ImportError {
        match error.kind {
            ErrorKind::Stopped => ImportError::Stopped { kept: self.kept },
            _ => ImportError::Server { error, kept: self.kept, of_rows: true },
        }
    }

    /// Whether everything is held together by a transaction. Where it is not, each block is whole by itself, and stays.
    fn is_together(&self) -> bool {
        self.dialect.changing.is_some()
    }

    fn begin(&mut self) -> Result<(), ImportError> {
        if !self.is_together() {
            return Ok(());
        }
        let begin = self.dialect.changing.map_or("begin", |changing| changing.begin);
        self.run(begin)
    }

    fn commit(&mut self) -> Result<(), ImportError> {
        if !self.is_together() {
            return Ok(());
        }
        self.run(self.dialect.transaction.commit)
    }

    /// Goes back to before the transaction, whatever was wished.
    fn roll_back(&mut self) {
        if self.session.location().transaction.is_some() {
            self.undo(self.dialect.transaction.roll_back);
        }
    }

    fn undo(&mut self, statement: &str) {
        let stop = Stop::default();
        if let Err(error) = self.session.run(&Request::new(statement).until(&stop), Box::new(Nothing)) {
            tracing::warn!(%error, statement, "a load could not be undone; the server rolls back when the connection ends");
        }
    }

    /// All rows, in the transaction or in parts.
    fn all(&mut self, next: &mut Next<'_>, options: &mut Options<'_>, new: Option<&str>) -> Result<(), ImportError> {
        let mut made = false;
        let outcome = self.each(next, options, new, &mut made);
        if outcome.is_err() {
            self.roll_back();
            // A server that commits definitions at once has the table still: without rows it was not there before.
            if made && self.dialect.definitions_commit && self.kept == 0 {
                self.undo(&format!("drop table {}", self.load.table));
            }
        }
        match outcome {
            Err(ImportError::Malformed(what)) if self.kept > 0 => {
                Err(ImportError::Malformed(format!("{what}; {} rows before it stay", self.kept)))
            }
            outcome => outcome,
        }
    }

    fn each(
        &mut self,
        next: &mut Next<'_>,
        options: &mut Options<'_>,
        new: Option<&str>,
        made: &mut bool,
    ) -> Result<(), ImportError> {
        self.begin()?;
        if let Some(definition) = new {
            self.run(definition)?;
            *made = true;
            if self.dialect.definitions_commit {
                self.begin()?;
            }
        }
        match (&options.refused, options.parts) {
            // The quickest way: all in one stream.
            (None, Parts::One) if self.is_together() => self.stream(next, options)?,
            _ => self.in_blocks(next, options)?,
        }
        self.commit()?;
        self.kept = self.loaded.rows;
        Ok(())
    }

    fn stream(&mut self, next: &mut Next<'_>, options: &mut Options<'_>) -> Result<(), ImportError> {
        let (mut sent, mut told) = (0_u64, Instant::now());
        let (mut wrong, mut unusual) = (None, Unusual::default());
        let stop = self.stop.clone();
        let mut rows = || -> Result<Option<RecordBatch>, EngineError> {
            if stop.is_wished() {
                return Err(EngineError::stopped());
            }
            match next() {
                Ok(None) => Ok(None),
                Ok(Some((block, position))) => {
                    unusual.add(block.unusual);
                    if let Some(bad) = block.bad.first() {
                        wrong = Some(ImportError::Row { line: bad.line, reason: bad.reason.clone(), kept: 0 });
                        return Err(EngineError::new(ErrorKind::Refused, "a row does not fit"));
                    }
                    sent += block.rows.num_rows() as u64;
                    if told.elapsed() >= TOLD_EVERY {
                        told = Instant::now();
                        (options.told)(sent, position);
                    }
                    Ok(Some(block.rows))
                }
                Err(error) => {
                    wrong = Some(error);
                    Err(EngineError::new(ErrorKind::Refused, "the file cannot be read on"))
                }
            }
        };
        let taken = self.session.load(&self.load, &mut rows);
        (self.loaded.unusual, self.loaded.first_unusual) = (unusual.0, unusual.1);
        match (wrong, taken) {
            (Some(error), _) => Err(error),
            (None, Ok(taken)) => {
                self.loaded.rows = taken.min(sent);
                self.loaded.there = sent.saturating_sub(taken);
                Ok(())
            }
            (None, Err(error)) => Err(self.failed(error)),
        }
    }

    fn in_blocks(&mut self, next: &mut Next<'_>, options: &mut Options<'_>) -> Result<(), ImportError> {
        let (mut told, mut of_part) = (Instant::now(), 0);
        while let Some((mut block, position)) = next()? {
            let mut unusual = Unusual(self.loaded.unusual, self.loaded.first_unusual.take());
            unusual.add(std::mem::take(&mut block.unusual));
            (self.loaded.unusual, self.loaded.first_unusual) = (unusual.0, unusual.1);
            if self.stop.is_wished() {
                return Err(ImportError::Stopped { kept: self.kept });
            }
            match (&mut options.refused, block.bad.first()) {
                (Some(refused), _) => block.bad.iter().try_for_each(|bad| refused.write(bad))?,
                (None, Some(bad)) => {
                    return Err(ImportError::Row { line: bad.line, reason: bad.reason.clone(), kept: self.kept });
                }
                (None, None) => {}
            }
            let mut from = 0;
            while from < block.rows.num_rows() {
                let room = match options.parts {
                    Parts::One => block.rows.num_rows(),
                    Parts::Of(rows) => usize::try_from(rows.saturating_sub(of_part)).unwrap_or(usize::MAX).max(1),
                };
                let count = room.min(block.rows.num_rows() - from).min(self.at_once);
                self.some(&block, from..from + count, options)?;
                from += count;
                of_part += count as u64;
                if matches!(options.parts, Parts::Of(rows) if of_part >= rows) {
                    self.commit()?;
                    self.kept = self.loaded.rows;
                    of_part = 0;
                    self.begin()?;
                }
            }
            if told.elapsed() >= TOLD_EVERY {
                told = Instant::now();
                (options.told)(self.loaded.rows, position);
            }
        }
        Ok(())
    }

    /// Some rows of a block. Where the server refuses one it is looked for by halves, so that the others are loaded.
    fn some(
        &mut self,
        block: &Fitted,
        rows: std::ops::Range<usize>,
        options: &mut Options<'_>,
    ) -> Result<(), ImportError> {
        let part = block.rows.slice(rows.start, rows.len());
        let Some(refused) = &mut options.refused else {
            let mut once = Some(part);
            let taken = self.session.load(&self.load, &mut || Ok(once.take())).map_err(|error| self.failed(error))?;
            self.loaded.rows += taken;
            self.loaded.there += (rows.len() as u64).saturating_sub(taken);
            if !self.is_together() {
                self.kept = self.loaded.rows;
            }
            return Ok(());
        };
        let words = &self.dialect.transaction;
        let named = |words: &str| words.replace("here", "jaunty_load");
        let (set, back) = (named(words.savepoint), named(words.back_to_savepoint));
        if self.is_together() {
            self.run(&set)?;
        }
        let mut once = Some(part.clone());
        match self.session.load(&self.load, &mut || Ok(once.take())) {
            Ok(taken) => {
                self.loaded.rows += taken;
                self.loaded.there += (rows.len() as u64).saturating_sub(taken);
                if !self.is_together() {
                    self.kept = self.loaded.rows;
                }
                Ok(())
            }
            Err(error) if matches!(error.kind, ErrorKind::Stopped | ErrorKind::Lost) => Err(self.failed(error)),
            Err(error) => {
                if self.is_together() {
                    self.run(&back)?;
                }
                if rows.len() == 1 {
                    let of_file = block.of_file.slice(rows.start, 1);
                    let fields = ColumnReader::all(&of_file);
                    let fields = fields.iter().map(|column| match column.get(0) {
                        cell if cell.kind == CellKind::Null => String::new(),
                        cell => cell.text.into_owned(),
                    });
                    let line = block.lines.get(rows.start).copied().unwrap_or(0);
                    return refused.write(&Bad { line, reason: error.message, fields: fields.collect() });
                }
                let middle = rows.start + rows.len() / 2;
                self.some(block, rows.start..middle, options)?;
                self.some(block, middle..rows.end, options)
            }
        }
    }
}
