//! Many rows for a table.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use arrow_array::RecordBatch;
use jaunty_language::dialect::Dialect;

use super::{Event, Flow, Request, Session, Sink, Stop};
use crate::catalog::Column;
use crate::error::EngineError;
use crate::rows::cell::{CellKind, ColumnReader};
use crate::rows::shape::digits_as_sent;

/// What to do with a row whose key already exists.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Meeting {
    /// The server refuses it, and with it the whole.
    #[default]
    Refuse,
    /// The row that is there stays.
    Skip,
    /// The row that is there is replaced.
    Replace,
}

/// Where rows go. The caller owns it.
#[derive(Debug, Clone)]
pub struct Load<'a> {
    /// The table, as it stands in a statement.
    pub table: &'a str,
    /// Its columns, in the order of those of the rows.
    pub columns: &'a [Column],
    /// The columns of its key.
    pub key: &'a [String],
    /// What becomes of a row that is there already.
    pub meeting: Meeting,
    /// The language.
    pub dialect: &'static Dialect,
    /// The wish to end it.
    pub stop: Stop,
}

/// Gives the next rows; none at the end.
pub type NextRows<'a> = dyn FnMut() -> Result<Option<RecordBatch>, EngineError> + 'a;

/// So many rows are in one statement; SQL Server takes a thousand.
const ROWS: usize = 500;
/// And about so many bytes.
const BYTES: usize = 512 << 10;

impl Load<'_> {
    /// The names of the columns, as they stand in a statement.
    pub fn names(&self) -> String {
        let names: Vec<_> = self.columns.iter().map(|column| self.dialect.name_as_written(&column.name)).collect();
        names.join(", ")
    }

    /// What stands before the rows of a statement, and after them. None where the language has no such statement.
    pub fn around(&self) -> Option<[String; 2]> {
        let changing = self.dialect.changing?;
        let [verb, end] = match self.meeting {
            Meeting::Refuse => ["insert", ""],
            Meeting::Skip => changing.meeting[0],
            Meeting::Replace => changing.meeting[1],
        };
        let written = |name: &str| self.dialect.name_as_written(name);
        let key: Vec<String> = self.key.iter().map(|name| written(name)).collect();
        let others = self.columns.iter().filter(|column| !self.key.contains(&column.name));
        let sets: Vec<String> = others
            .map(|column| {
                let name = written(&column.name);
                format!("{name} = {}", changing.excluded.replace("COLUMN", &name))
            })
            .collect();
        let end = match sets.is_empty() && end.contains("SET") {
            // Of nothing but a key nothing is replaced.
            true => changing.meeting[0][1].to_owned(),
            false => end.replace("KEY", &key.join(", ")).replace("SET", &sets.join(", ")),
        };
        (!verb.is_empty()).then(|| [format!("{verb} into {} ({})", self.table, self.names()), end])
    }
}

/// Loads rows by statements of many rows each, for an engine that has nothing quicker. Returns how many were sent.
pub fn by_statements(
    session: &mut (impl Session + ?Sized),
    load: &Load<'_>,
    next: &mut NextRows<'_>,
) -> Result<u64, EngineError> {
    let Some([before, after]) = load.around() else {
        let what = "this server has no statement for rows that may be there already";
        return Err(EngineError::new(crate::error::ErrorKind::Refused, what)
            .remedy("Load them into a table of their own, and merge that."));
    };
    let mut sent = 0;
    let mut text = String::new();
    while let Some(batch) = next()? {
        let columns = ColumnReader::all(&batch);
        let mut rows = 0;
        for row in 0..batch.num_rows() {
            text.push_str(if rows == 0 { &before } else { "," });
            text.push_str(if rows == 0 { " values (" } else { "\n(" });
            for (at, column) in columns.iter().enumerate() {
                if at > 0 {
                    text.push(',');
                }
                put_literal(column, row, load.columns.get(at), load.dialect, &mut text);
            }
            text.push(')');
            rows += 1;
            if rows == ROWS || text.len() > BYTES || row + 1 == batch.num_rows() {
                if !after.is_empty() {
                    text.push(' ');
                    text.push_str(&after);
                }
                let counted = Arc::new(AtomicU64::new(0));
                session.run(&Request::new(&text).until(&load.stop), Box::new(Counting(Arc::clone(&counted))))?;
                // Of rows that may be there already only the server knows how many it took; a replaced one counts twice.
                sent += match load.meeting {
                    Meeting::Skip => counted.load(Ordering::Relaxed).min(rows as u64),
                    Meeting::Refuse | Meeting::Replace => rows as u64,
                };
                text.clear();
                rows = 0;
            }
        }
    }
    Ok(sent)
}

/// Adds a value as a literal: a number as such only where its column holds numbers.
fn put_literal(column: &ColumnReader<'_>, row: usize, of: Option<&Column>, dialect: &Dialect, out: &mut String) {
    let from = out.len();
    let kind = column.put(row, out);
    let is_bits = of.is_some_and(|column| column.db_type.to_ascii_lowercase().starts_with("bit"));
    let is_bytes = of.is_some_and(|column| holds_bytes(&column.db_type, dialect));
    match kind {
        CellKind::Null => out.push_str("null"),
        CellKind::Boolean if dialect.is_keyword("TRUE") => {}
        // Where there are no such words: a bit, or the word as a text.
        CellKind::Boolean => {
            let text = out.split_off(from);
            match (is_bits, text.as_str()) {
                (true, "true") => out.push('1'),
                (true, _) => out.push('0'),
                (false, text) => out.push_str(&dialect.text_as_written(text)),
            }
        }
        CellKind::Number if out[from..].bytes().all(|b| b.is_ascii_digit() || b"+-.eE".contains(&b)) => {}
        CellKind::Binary => {
            let digits = out.split_off(from);
            out.push_str(&dialect.bytes_as_written(digits.trim_start_matches("\\x")));
        }
        // A text would be bits itself.
        CellKind::Text if is_bits && !out[from..].is_empty() && out[from..].bytes().all(|b| b.is_ascii_digit()) => {}
        CellKind::Text if is_bytes => {
            let text = out.split_off(from);
            let shape = of.and_then(|column| digits_as_sent(&text, &column.db_type, dialect));
            let digits = shape.as_deref().unwrap_or(&text).trim_start_matches("\\x").trim_start_matches("0x");
            out.push_str(&dialect.bytes_as_written(digits));
        }
        CellKind::Number | CellKind::Text => {
            let text = out.split_off(from);
            out.push_str(&dialect.text_as_written(&text));
        }
    }
}

/// Whether a type is one of bytes, which come as hexadecimal digits in a text.
pub fn holds_bytes(db_type: &str, dialect: &Dialect) -> bool {
    let lower = db_type.to_ascii_lowercase();
    let word = lower.split(|c: char| !c.is_ascii_alphanumeric()).next().unwrap_or_default();
    ["bytea", "blob", "binary", "image"].iter().any(|word| lower.contains(word))
        || dialect.changing.is_some_and(|changing| changing.types_of_bytes.contains(&word))
}

/// Takes how many rows a statement touched.
struct Counting(Arc<AtomicU64>);

impl Sink for Counting {
    fn wanted(&self) -> Flow {
        Flow::Continue
    }

    fn take(&mut self, event: Event) -> Flow {
        if let Event::Ends { affected: Some(rows) } = event {
            self.0.fetch_add(rows, Ordering::Relaxed);
        }
        Flow::Continue
    }
}

/// Takes what a statement gives, and keeps nothing.
pub struct Nothing;

impl Sink for Nothing {
    fn wanted(&self) -> Flow {
        Flow::Continue
    }

    fn take(&mut self, _: Event) -> Flow {
        Flow::Continue
    }
}
