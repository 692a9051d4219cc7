//! Rows as SQL: `INSERT` statements that make them again, and lists for `IN`.

use std::collections::HashSet;
use std::io::Write;

use arrow_array::RecordBatch;
use arrow_schema::{Field, Schema};

use super::{ExportError, Exporter, Options, extended};
use jaunty_language::dialect::commands::arguments::written;
use jaunty_language::dialect::{Dialect, Family, bytes_of};
use jaunty_seam::rows::DB_TYPE;
use jaunty_seam::rows::cell::{CellKind, ColumnReader};
use jaunty_seam::rows::origin::Origin;
use jaunty_seam::rows::shape::digits_as_sent;

/// Rows in one statement.
const ROWS: usize = 100;

pub(super) struct Insert {
    dialect: &'static Dialect,
    options: Options,
    /// What each statement begins with.
    head: String,
    /// Rows in the statement that is open.
    open: usize,
}

impl Insert {
    pub(super) fn new(options: &Options) -> Self {
        Insert { dialect: options.dialect, options: options.clone(), head: String::new(), open: 0 }
    }

    /// What ends a statement.
    fn end(&self) -> String {
        match self.options.batch_word {
            "" => ";\n".to_owned(),
            word => format!(";\n{word}\n"),
        }
    }
}

/// The table that all columns come from whose origin is known, if it is one.
fn table_of(schema: &Schema) -> Option<String> {
    let mut origins = schema.fields().iter().filter_map(|field| Origin::of(field));
    let first = origins.next()?;
    origins.all(|origin| (&origin.schema, &origin.table) == (&first.schema, &first.table)).then_some(first.table)
}

/// The table that is written to, as its name stands in a statement.
pub(super) fn table_as_written(schema: &Schema, options: &Options) -> String {
    let written = |part: &str| options.dialect.name_as_written(part);
    match (&options.table, &options.from, table_of(schema)) {
        (Some(name), ..) => name.split('.').map(written).collect::<Vec<_>>().join("."),
        (None, Some(parts), _) => parts.iter().map(|part| written(part)).collect::<Vec<_>>().join("."),
        (None, None, Some(table)) => written(&table),
        (None, None, None) => "kept".to_owned(),
    }
}

/// A value as it stands in a statement.
pub(super) fn put_value((column, field): (&ColumnReader<'_>, &Field), row: usize, dialect: &Dialect, out: &mut String) {
    let from = out.len();
    match column.put(row, out) {
        CellKind::Null => out.push_str("null"),
        CellKind::Boolean => {}
        CellKind::Number if dialect.infinity.is_some() && matches!(&out[from..], "inf" | "-inf") => {
            let sign = if out[from..].starts_with('-') { "-" } else { "" };
            out.truncate(from);
            out.push_str(&format!("{sign}{}", dialect.infinity.unwrap_or_default()));
        }
        // A whole zero has no sign; read from text it keeps it, and so do `NaN` and `Infinity`.
        CellKind::Number
            if &out[from..] != "-0" && out[from..].bytes().all(|b| b.is_ascii_digit() || b"+-.eE".contains(&b)) => {}
        CellKind::Binary => {
            let shown = out.split_off(from);
            let [open, close] = dialect.comparing.map_or(["x'", "'"], |comparing| comparing.bytes);
            out.push_str(&format!("{open}{}{close}", shown.trim_start_matches("\\x")));
        }
        CellKind::Number | CellKind::Text => {
            let text = out.split_off(from);
            let db_type = field.metadata().get(DB_TYPE).map_or("", String::as_str);
            match digits_as_sent(&text, db_type, dialect) {
                Some(digits) => out.push_str(&dialect.bytes_as_written(&digits)),
                None => out.push_str(&dialect.text_as_written(&text)),
            }
        }
    }
}

impl Exporter for Insert {
    fn columns(&mut self, schema: &Schema, _: &mut dyn Write) -> Result<(), ExportError> {
        let table = table_as_written(schema, &self.options);
        let names: Vec<String> = schema.fields().iter().map(|f| self.dialect.name_as_written(f.name())).collect();
        self.head = format!("insert into {table} ({}){} values\n", names.join(", "), self.options.before_values);
        self.open = 0;
        Ok(())
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        let (columns, schema) = (ColumnReader::all(batch), batch.schema());
        let mut text = String::new();
        for row in 0..batch.num_rows() {
            text.push_str(match self.open {
                0 => &self.head,
                _ => ",\n",
            });
            for (index, (column, field)) in columns.iter().zip(schema.fields()).enumerate() {
                text.push_str(if index == 0 { "  (" } else { ", " });
                put_value((column, field), row, self.dialect, &mut text);
            }
            text.push(')');
            self.open += 1;
            if self.open == ROWS {
                text.push_str(&self.end());
                self.open = 0;
            }
        }
        Ok(out.write_all(text.as_bytes())?)
    }

    fn finish(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        if std::mem::take(&mut self.open) > 0 {
            out.write_all(self.end().as_bytes())?;
        }
        Ok(())
    }
}

/// Documents as statements that insert them, one each.
pub(super) struct Documents {
    options: Options,
    head: String,
}

impl Documents {
    pub(super) fn new(options: &Options) -> Self {
        Documents { options: options.clone(), head: String::new() }
    }
}

impl Exporter for Documents {
    fn columns(&mut self, schema: &Schema, _: &mut dyn Write) -> Result<(), ExportError> {
        self.head = format!("{} insert ", table_as_written(schema, &self.options));
        Ok(())
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        for row in 0..batch.num_rows() {
            writeln!(out, "{}{}", self.head, extended::document(batch, row, false)?)?;
        }
        Ok(())
    }

    fn finish(&mut self, _: &mut dyn Write) -> Result<(), ExportError> {
        Ok(())
    }
}

/// Names of keys as commands that remove those, [`ROWS`] in each.
#[derive(Default)]
pub(super) struct Unlink {
    open: usize,
}

impl Exporter for Unlink {
    fn columns(&mut self, schema: &Schema, _: &mut dyn Write) -> Result<(), ExportError> {
        self.open = 0;
        let has = |name: &str| schema.fields().iter().any(|field| field.name() == name);
        // What is called a key beside a value is a field of one key; the catalog's list of keys says how long they last.
        match schema.fields().first().is_some_and(|first| first.name() == "key") && !has("seconds left") {
            true => {
                Err(ExportError::Format("no UNLINK: these are fields within a key, and not names of keys".to_owned()))
            }
            false => Ok(()),
        }
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        // The first column that there is: their names, whatever stands beside them.
        let columns = ColumnReader::all(batch);
        let Some(names) = columns.first() else { return Ok(()) };
        for row in (0..batch.num_rows()).filter(|row| !names.is_null(*row)) {
            let head = match self.open {
                0 => "unlink",
                ROWS => "\nunlink",
                _ => "",
            };
            self.open = self.open % ROWS + 1;
            write!(out, "{head} {}", argument(names, row))?;
        }
        Ok(())
    }

    fn finish(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        if self.open > 0 {
            out.write_all(b"\n")?;
        }
        Ok(())
    }
}

/// A value as an argument of a command.
fn argument(column: &ColumnReader<'_>, row: usize) -> String {
    let mut text = String::new();
    match column.put(row, &mut text) {
        CellKind::Binary => written(&bytes_of(text.trim_start_matches("\\x"))),
        _ => written(text.as_bytes()),
    }
}

/// The values of all columns, each once and without NULL, as `('a', 'b')`; of documents as a list of theirs, and of commands
/// as arguments.
pub(super) struct List {
    dialect: &'static Dialect,
    seen: HashSet<String>,
}

impl List {
    pub(super) fn new(options: &Options) -> Self {
        List { dialect: options.dialect, seen: HashSet::new() }
    }

    /// What stands before all values, between them, and behind them.
    fn signs(&self) -> [&'static str; 3] {
        match self.dialect.family {
            Family::Sql => ["(", ", ", ")"],
            Family::Documents => ["[", ", ", "]"],
            Family::Commands => ["", " ", ""],
        }
    }

    fn value(&self, (column, field): (&ColumnReader<'_>, &Field), row: usize) -> String {
        let mut value = String::new();
        match self.dialect.family {
            Family::Sql => put_value((column, field), row, self.dialect, &mut value),
            Family::Commands => return argument(column, row),
            Family::Documents => {
                let (mut text, mut out) = (String::new(), Vec::new());
                let kind = extended::kind_of(field).unwrap_or_else(|| "string".to_owned());
                extended::put(column, row, &kind, &mut text, &mut out);
                value = String::from_utf8_lossy(&out).into_owned();
            }
        }
        value
    }
}

impl Exporter for List {
    fn columns(&mut self, _: &Schema, out: &mut dyn Write) -> Result<(), ExportError> {
        self.seen.clear();
        Ok(out.write_all(self.signs()[0].as_bytes())?)
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        let (columns, schema) = (ColumnReader::all(batch), batch.schema());
        for row in 0..batch.num_rows() {
            // What is beside a value of a reply, its type in the protocol, is no argument.
            let of_protocol =
                |field: &Field| self.dialect.family == Family::Commands && columns.len() > 1 && field.name() == "type";
            let values = columns.iter().zip(schema.fields());
            for column in values.filter(|(column, field)| !column.is_null(row) && !of_protocol(field)) {
                let value = self.value((column.0, column.1), row);
                let first = self.seen.is_empty();
                if self.seen.insert(value.clone()) {
                    out.write_all(if first { "" } else { self.signs()[1] }.as_bytes())?;
                    out.write_all(value.as_bytes())?;
                }
            }
        }
        Ok(())
    }

    fn finish(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        Ok(writeln!(out, "{}", self.signs()[2])?)
    }
}
