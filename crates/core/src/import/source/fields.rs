//! Rows of fields with a separator between.

use std::collections::VecDeque;
use std::io::Read;
use std::sync::Arc;

use arrow_array::ArrayRef;
use arrow_array::builder::StringBuilder;
use arrow_schema::SchemaRef;

use super::{Block, ROWS, Rows, batch, text_schema};
use crate::import::ImportError;
use crate::import::csv::{Reader, Record};
use crate::import::refused::Bad;

/// Reads them.
pub(super) struct CsvRows {
    reader: Reader<Box<dyn Read + Send>>,
    schema: SchemaRef,
    null: Option<String>,
    record: Record,
    /// The records that were looked at and are rows.
    pending: VecDeque<Record>,
    failed: Option<ImportError>,
}

impl CsvRows {
    pub fn new(
        reader: Reader<Box<dyn Read + Send>>,
        names: Vec<String>,
        null: Option<String>,
        pending: VecDeque<Record>,
    ) -> CsvRows {
        CsvRows { reader, schema: text_schema(&names), null, record: Record::default(), pending, failed: None }
    }
}

impl Rows for CsvRows {
    fn names(&self) -> Vec<String> {
        self.schema.fields().iter().map(|field| field.name().clone()).collect()
    }

    fn next(&mut self) -> Result<Option<Block>, ImportError> {
        if let Some(error) = self.failed.take() {
            return Err(error);
        }
        let count = self.schema.fields().len();
        let mut columns: Vec<StringBuilder> =
            (0..count).map(|_| StringBuilder::with_capacity(ROWS, ROWS * 12)).collect();
        let (mut lines, mut bad, mut bytes) = (Vec::with_capacity(ROWS), Vec::new(), 0_usize);
        while lines.len() + bad.len() < ROWS && bytes < 16 << 20 {
            if let Some(record) = self.pending.pop_front() {
                self.record = record;
            } else {
                match self.reader.read(&mut self.record) {
                    Ok(true) => {}
                    Ok(false) => break,
                    // What came before it is loaded, or refused, all the same.
                    Err(error) => {
                        self.failed = Some(ImportError::Malformed(error.to_string()));
                        break;
                    }
                }
            }
            let record = &self.record;
            // A separator after the last field is not one more.
            let is_ended =
                record.len() == count + 1 && record.get(count).is_some_and(|(last, quoted)| last.is_empty() && !quoted);
            let is_whole = record.len() == count || is_ended;
            let texts = record.texts().filter(|_| is_whole);
            let Some(texts) = texts else {
                let reason = match is_whole {
                    true => "a field is not UTF-8 text".to_owned(),
                    false => {
                        let fields = if record.len() == 1 { "field" } else { "fields" };
                        format!("{} {fields} where there are {count} columns", record.len())
                    }
                };
                let fields = record.fields().map(|(field, _)| String::from_utf8_lossy(field).into_owned()).collect();
                bad.push(Bad { line: record.line, reason, fields });
                continue;
            };
            for ((text, quoted), column) in texts.zip(&mut columns) {
                let is_null = !quoted && (text.is_empty() || self.null.as_deref().is_some_and(|null| null == text));
                column.append_option((!is_null).then_some(text));
                bytes += text.len();
            }
            lines.push(record.line);
        }
        if lines.is_empty() && bad.is_empty() {
            return self.failed.take().map_or(Ok(None), Err);
        }
        let arrays: Vec<ArrayRef> = columns.iter_mut().map(|column| Arc::new(column.finish()) as ArrayRef).collect();
        let rows = batch(Arc::clone(&self.schema), arrays, lines.len())?;
        Ok(Some(Block { rows, lines, bad, quoted: Vec::new() }))
    }
}
