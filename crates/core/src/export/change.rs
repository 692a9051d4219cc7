//! Rows as the statements that change or delete them, each found by the key of its table.

use std::io::Write;

use arrow_array::RecordBatch;
use arrow_schema::Schema;

use super::insert::{put_value, table_as_written};
use super::{ExportError, Exporter, Options};
use jaunty_language::dialect::Dialect;
use jaunty_seam::rows::cell::ColumnReader;

/// What becomes of each row.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Change {
    Update,
    Delete,
}

pub(super) struct ByKey {
    change: Change,
    options: Options,
    /// What each statement begins with.
    head: String,
    /// The places and written names of the columns that are set, and of those of the key.
    set: Vec<(usize, String)>,
    key: Vec<(usize, String)>,
}

impl ByKey {
    pub(super) fn new(change: Change, options: &Options) -> Self {
        ByKey { change, options: options.clone(), head: String::new(), set: Vec::new(), key: Vec::new() }
    }

    fn put_key(&self, columns: &[ColumnReader<'_>], schema: &Schema, row: usize, out: &mut String) {
        for (index, (at, name)) in self.key.iter().enumerate() {
            out.push_str(if index == 0 { " where " } else { " and " });
            out.push_str(name);
            out.push_str(" = ");
            if let Some(column) = columns.get(*at) {
                put_value((column, schema.field(*at)), row, self.options.dialect, out);
            }
        }
    }
}

/// The columns of a result that stand for columns of the table: their places, with the names there.
fn of_table(schema: &Schema, options: &Options) -> Vec<(usize, String)> {
    let name = |field: &str| match &options.columns {
        Some(columns) => columns.iter().find(|(shown, _)| shown == field).map(|(_, name)| name.clone()),
        None => Some(field.to_owned()),
    };
    schema.fields().iter().enumerate().filter_map(|(at, field)| Some((at, name(field.name())?))).collect()
}

impl Exporter for ByKey {
    fn columns(&mut self, schema: &Schema, _: &mut dyn Write) -> Result<(), ExportError> {
        let dialect: &Dialect = self.options.dialect;
        let word = match self.change {
            Change::Update => "UPDATE",
            Change::Delete => "DELETE",
        };
        if self.options.key.is_empty() {
            let message = "the key of these rows is not known; name its columns, as key=id or key=route,day";
            return Err(ExportError::Format(format!("no {word} statements: {message}")));
        }
        let all = of_table(schema, &self.options);
        let place = |key: &String| {
            let found = all.iter().find(|(_, name)| name == key).cloned();
            let missing = || {
                let message = format!("no {word} statements: {key} is part of the key and not among the columns");
                ExportError::Format(message)
            };
            found.map(|(at, name)| (at, dialect.name_as_written(&name))).ok_or_else(missing)
        };
        self.key = self.options.key.iter().map(place).collect::<Result<_, _>>()?;
        let others = all.iter().filter(|(_, name)| !self.options.key.contains(name));
        self.set = others.map(|(at, name)| (*at, dialect.name_as_written(name))).collect();
        if self.change == Change::Update && self.set.is_empty() {
            return Err(ExportError::Format("no UPDATE statements: no column beside the key to set".to_owned()));
        }
        let table = table_as_written(schema, &self.options);
        self.head = match self.change {
            Change::Update => format!("update {table} set "),
            Change::Delete => format!("delete from {table}"),
        };
        Ok(())
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        let (columns, schema) = (ColumnReader::all(batch), batch.schema());
        let mut text = String::new();
        for row in 0..batch.num_rows() {
            // An outer join has NULL where there is no row of the table.
            if self.key.iter().any(|(at, _)| columns.get(*at).is_none_or(|column| column.is_null(row))) {
                out.write_all(b"-- left out: a row without a key\n")?;
                continue;
            }
            text.clear();
            text.push_str(&self.head);
            if self.change == Change::Update {
                for (index, (at, name)) in self.set.iter().enumerate() {
                    let Some(column) = columns.get(*at) else { continue };
                    text.push_str(if index == 0 { "" } else { ", " });
                    text.push_str(name);
                    text.push_str(" = ");
                    put_value((column, schema.field(*at)), row, self.options.dialect, &mut text);
                }
            }
            self.put_key(&columns, &schema, row, &mut text);
            text.push_str(";\n");
            out.write_all(text.as_bytes())?;
        }
        Ok(())
    }

    fn finish(&mut self, _: &mut dyn Write) -> Result<(), ExportError> {
        Ok(())
    }
}
