//! Putting the rows of a file into a table.

use std::sync::mpsc::sync_channel;
use std::time::{Duration, Instant};

use arrow_array::builder::StringBuilder;
use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, BooleanArray, RecordBatch};
use arrow_schema::{DataType, Field, Schema};
use jaunty_language::dialect::Dialect;
use jaunty_seam::catalog::Column;
use jaunty_seam::engine::load::{Load, Meeting, Nothing};
use jaunty_seam::engine::{Request, Session, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};
use std::sync::Arc;

use super::matching::{Matching, Target};
use super::refused::{Bad, Refused};
use super::source::{Block, Source};
use super::{Dates, ImportError};
use crate::slip::{Kind, Mistake};

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
}

/// How often it is told how far it is.
const TOLD_EVERY: Duration = Duration::from_millis(100);

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
        kept: 0,
        loaded: Loaded::default(),
    };
    let targets = matching.targets.clone();
    let names = source.found.columns.iter().map(|column| column.name.clone()).collect::<Vec<_>>();
    if let Some(definition) = &matching.definition {
        plan.begin()?;
        plan.run(definition)?;
    }
    let outcome = std::thread::scope(|scope| {
        // Reading and checking go on beside the server.
        let (sender, blocks) = sync_channel::<Result<(Fitted, u64), ImportError>>(AHEAD);
        let reading = scope.spawn(move || {
            loop {
                let block = source.next_block();
                let position = source.position();
                let (ends, message) = match block {
                    Ok(Some(block)) => (false, fitted(block, &targets, &names, dialect).map(|block| (block, position))),
                    Ok(None) => return,
                    Err(error) => (true, Err(error)),
                };
                if sender.send(message).is_err() || ends {
                    return;
                }
            }
        });
        let mut blocks = blocks.into_iter();
        let outcome = plan.all(&mut || blocks.next().transpose(), &mut options, matching.definition.is_some());
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

/// A block whose rows fit, and those that do not.
struct Fitted {
    rows: RecordBatch,
    lines: Vec<u64>,
    bad: Vec<Bad>,
}

struct Plan<'a> {
    session: &'a mut dyn Session,
    dialect: &'static Dialect,
    load: Load<'a>,
    stop: Stop,
    /// Rows of parts that were committed.
    kept: u64,
    loaded: Loaded,
}

type Next<'a> = dyn FnMut() -> Result<Option<(Fitted, u64)>, ImportError> + 'a;

impl Plan<'_> {
    fn run(&mut self, statement: &str) -> Result<(), ImportError> {
        let request = Request::new(statement).until(&self.stop);
        let outcome = self.session.run(&request, Box::new(Nothing));
        outcome.map_err(|error| self.failed(error))
    }

    fn failed(&self, error: EngineError) -> ImportError {
        match error.kind {
            ErrorKind::Stopped => ImportError::Stopped { kept: self.kept },
            _ => ImportError::Server { error, kept: self.kept },
        }
    }

    fn begin(&mut self) -> Result<(), ImportError> {
        let begin = self.dialect.changing.map_or("begin", |changing| changing.begin);
        self.run(begin)
    }

    fn commit(&mut self) -> Result<(), ImportError> {
        self.run(self.dialect.transaction.commit)
    }

    /// Goes back to before the transaction, whatever was wished.
    fn roll_back(&mut self) {
        let stop = Stop::default();
        if self.session.location().transaction.is_some() {
            let request = Request::new(self.dialect.transaction.roll_back).until(&stop);
            if let Err(error) = self.session.run(&request, Box::new(Nothing)) {
                tracing::warn!(%error, "a load could not be rolled back; the server does it when the connection ends");
            }
        }
    }

    /// All rows, in the transaction or in parts.
    fn all(&mut self, next: &mut Next<'_>, options: &mut Options<'_>, begun: bool) -> Result<(), ImportError> {
        let outcome = self.each(next, options, begun);
        if outcome.is_err() {
            self.roll_back();
        }
        outcome
    }

    fn each(&mut self, next: &mut Next<'_>, options: &mut Options<'_>, begun: bool) -> Result<(), ImportError> {
        if !begun {
            self.begin()?;
        }
        match (&options.refused, options.parts) {
            // The quickest way: all in one stream.
            (None, Parts::One) => self.stream(next, options)?,
            _ => self.in_blocks(next, options)?,
        }
        self.commit()?;
        self.kept = self.loaded.rows;
        Ok(())
    }

    fn stream(&mut self, next: &mut Next<'_>, options: &mut Options<'_>) -> Result<(), ImportError> {
        let (mut sent, mut told) = (0_u64, Instant::now());
        let mut wrong = None;
        let stop = self.stop.clone();
        let mut rows = || -> Result<Option<RecordBatch>, EngineError> {
            if stop.is_wished() {
                return Err(EngineError::stopped());
            }
            match next() {
                Ok(None) => Ok(None),
                Ok(Some((block, position))) => {
                    if let Some(bad) = block.bad.first() {
                        wrong = Some(ImportError::Row { line: bad.line, reason: bad.reason.clone() });
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
        while let Some((block, position)) = next()? {
            if self.stop.is_wished() {
                return Err(ImportError::Stopped { kept: self.kept });
            }
            match (&mut options.refused, block.bad.first()) {
                (Some(refused), _) => block.bad.iter().try_for_each(|bad| refused.write(bad))?,
                (None, Some(bad)) => return Err(ImportError::Row { line: bad.line, reason: bad.reason.clone() }),
                (None, None) => {}
            }
            let mut from = 0;
            while from < block.rows.num_rows() {
                let room = match options.parts {
                    Parts::One => block.rows.num_rows(),
                    Parts::Of(rows) => usize::try_from(rows.saturating_sub(of_part)).unwrap_or(usize::MAX).max(1),
                };
                let count = room.min(block.rows.num_rows() - from);
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
            return Ok(());
        };
        let words = &self.dialect.transaction;
        let named = |words: &str| words.replace("here", "jaunty_load");
        let (set, back) = (named(words.savepoint), named(words.back_to_savepoint));
        self.run(&set)?;
        let mut once = Some(part.clone());
        match self.session.load(&self.load, &mut || Ok(once.take())) {
            Ok(taken) => {
                self.loaded.rows += taken;
                self.loaded.there += (rows.len() as u64).saturating_sub(taken);
                Ok(())
            }
            Err(error) if matches!(error.kind, ErrorKind::Stopped | ErrorKind::Lost) => Err(self.failed(error)),
            Err(error) => {
                self.run(&back)?;
                if rows.len() == 1 {
                    let fields = ColumnReader::all(&part);
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

/// The rows of a block that fit, with the columns of the table.
fn fitted(block: Block, targets: &[Target], names: &[String], dialect: &Dialect) -> Result<Fitted, ImportError> {
    let Block { rows, lines, mut bad } = block;
    let malformed = |error: arrow_schema::ArrowError| ImportError::Malformed(error.to_string());
    let count = rows.num_rows();
    let mut reasons: Vec<Option<String>> = vec![None; count];
    let (mut fields, mut columns) = (Vec::new(), Vec::new());
    for target in targets {
        let Some(column) = rows.columns().get(target.from) else {
            let column = arrow_array::new_null_array(&DataType::Utf8, count);
            fields.push(Field::new(&target.column.name, DataType::Utf8, true));
            columns.push(column);
            continue;
        };
        let column = match column.data_type() {
            DataType::Utf8 => fit_texts(column, target, dialect, &mut reasons),
            _ => {
                if !target.column.nullable && column.null_count() > 0 {
                    for (row, reason) in reasons.iter_mut().enumerate().filter(|(row, _)| column.is_null(*row)) {
                        let _ = row;
                        reason.get_or_insert_with(|| not_null(target));
                    }
                }
                Arc::clone(column)
            }
        };
        // What a field says of its form goes along.
        let of = rows.schema_ref().field(target.from).clone().with_name(&target.column.name);
        fields.push(of.with_data_type(column.data_type().clone()));
        columns.push(column);
    }
    let schema = Arc::new(Schema::new(fields));
    let options = arrow_array::RecordBatchOptions::new().with_row_count(Some(count));
    let mut fitted = RecordBatch::try_new_with_options(schema, columns, &options).map_err(malformed)?;
    let mut kept = lines;
    if reasons.iter().any(Option::is_some) {
        let readers = ColumnReader::all(&rows);
        for (row, reason) in reasons.iter().enumerate() {
            let Some(reason) = reason else { continue };
            let fields = readers.iter().take(names.len()).map(|column| match column.get(row) {
                cell if cell.kind == CellKind::Null => String::new(),
                cell => cell.text.into_owned(),
            });
            bad.push(Bad { line: kept[row], reason: reason.clone(), fields: fields.collect() });
        }
        let mask = BooleanArray::from_iter(reasons.iter().map(|reason| Some(reason.is_none())));
        fitted = arrow_select::filter::filter_record_batch(&fitted, &mask).map_err(malformed)?;
        kept = kept.into_iter().zip(&reasons).filter(|(_, reason)| reason.is_none()).map(|(line, _)| line).collect();
    }
    bad.sort_by_key(|bad| bad.line);
    Ok(Fitted { rows: fitted, lines: kept, bad })
}

fn not_null(target: &Target) -> String {
    format!("{}: no value, and the column cannot be NULL", target.column.name)
}

/// Checks the texts of a column against the type of the table's, and writes days as servers read them.
fn fit_texts(column: &ArrayRef, target: &Target, dialect: &Dialect, reasons: &mut [Option<String>]) -> ArrayRef {
    let texts = column.as_string::<i32>();
    let is_day = matches!(target.kind, Kind::Date | Kind::Moment);
    let mut rewritten = (is_day && target.dates != Dates::Iso).then(StringBuilder::new);
    let is_required = !target.column.nullable && target.column.default.is_none() && target.column.generated.is_none();
    for (row, reason) in reasons.iter_mut().enumerate() {
        if texts.is_null(row) {
            if is_required && !target.column.key {
                reason.get_or_insert_with(|| not_null(target));
            }
            rewritten.iter_mut().for_each(StringBuilder::append_null);
            continue;
        }
        let text = texts.value(row);
        let mut iso = None;
        if let Some(rewritten) = &mut rewritten {
            iso = target.dates.iso(text);
            match &iso {
                Some(iso) => rewritten.append_value(iso),
                None => {
                    rewritten.append_null();
                    let say = || {
                        format!("{}: \"{text}\" is not a day written as {}", target.column.name, target.dates.word())
                    };
                    reason.get_or_insert_with(say);
                    continue;
                }
            }
        }
        if let Some(what) = misfit(iso.as_deref().unwrap_or(text), &target.kind, dialect) {
            reason.get_or_insert_with(|| format!("{}: {what}", target.column.name));
        }
    }
    match rewritten {
        Some(mut rewritten) => Arc::new(rewritten.finish()),
        None => Arc::clone(column),
    }
}

/// Why a text is not a value; nothing where it is, or where only the server can tell.
fn misfit(text: &str, kind: &Kind, dialect: &Dialect) -> Option<String> {
    if is_plainly(text, kind) {
        return None;
    }
    match kind.read(text, dialect).1 {
        Some(Mistake::Wrong(what)) if what.contains('"') => Some(what),
        Some(Mistake::Wrong(what)) => {
            let shown: String = text.chars().take(40).collect();
            Some(format!("\"{shown}\": {what}"))
        }
        _ => None,
    }
}

/// Whether a text is a value in its usual form, told without much ado: so are most of millions.
fn is_plainly(text: &str, kind: &Kind) -> bool {
    let bytes = text.as_bytes();
    let digits =
        |range: std::ops::Range<usize>| bytes.get(range).is_some_and(|part| part.iter().all(u8::is_ascii_digit));
    let pair = |at: usize, most: u8| digits(at..at + 2) && (bytes[at] - b'0') * 10 + bytes[at + 1] - b'0' <= most;
    // The last days of a month are looked at more closely.
    let is_day = || {
        digits(0..4)
            && bytes[4] == b'-'
            && bytes[7] == b'-'
            && pair(5, 12)
            && pair(8, 28)
            && &bytes[5..7] != b"00"
            && &bytes[8..10] != b"00"
    };
    match kind {
        Kind::Text(None) | Kind::Other | Kind::Any => true,
        Kind::Text(Some(most)) => text.len() <= *most,
        Kind::Integer(least, most) => {
            text.parse::<i64>().is_ok_and(|value| (*least..=*most).contains(&i128::from(value)))
        }
        Kind::Real => text.parse::<f64>().is_ok(),
        Kind::Decimal(limit) => {
            let number = text.strip_prefix('-').unwrap_or(text);
            let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
            let most = limit.map_or((usize::MAX, usize::MAX), |(all, behind)| {
                (all.saturating_sub(behind) as usize, behind as usize)
            });
            !whole.is_empty()
                && whole.bytes().chain(fraction.bytes()).all(|byte| byte.is_ascii_digit())
                && whole.len() <= most.0
                && fraction.len() <= most.1
        }
        Kind::Boolean => matches!(text, "true" | "false" | "t" | "f" | "1" | "0"),
        Kind::Date => bytes.len() == 10 && is_day(),
        Kind::Moment => {
            bytes.len() == 19
                && is_day()
                && matches!(bytes[10], b' ' | b'T')
                && (bytes[13], bytes[16]) == (b':', b':')
                && pair(11, 23)
                && pair(14, 59)
                && pair(17, 59)
        }
        _ => false,
    }
}
