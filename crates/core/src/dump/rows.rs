//! The rows of a database on their way into a text, and where the server is with its numbers.

use std::io::{self, Write};
use std::sync::{Arc, Mutex, PoisonError};

use jaunty_seam::catalog::{Column, Object};
use jaunty_seam::engine::{Event, Flow, Request, Session, Sink, Stop};
use jaunty_seam::error::ErrorKind;
use jaunty_seam::rows::cell::ColumnReader;

use super::{DumpError, Dumping};
use crate::catalog::templates::{self, filled};
use crate::export::{ExportError, Exporter, Format, Options};

impl Dumping<'_> {
    pub(super) fn rows(&mut self, object: &Object) -> Result<(), DumpError> {
        let written = |name: &str| self.dialect.name_as_written(name);
        let given: Vec<String> = object.columns.iter().filter(|c| c.is_given()).map(|c| written(&c.name)).collect();
        let exact = |column: &Column| {
            let name = written(&column.name);
            templates::exactly(column, self.dialect).map_or(name.clone(), |exact| format!("{exact} as {name}"))
        };
        let selected: Vec<String> = object.columns.iter().filter(|c| c.is_given()).map(exact).collect();
        // The rows of a table in parts are those of its parts.
        if given.is_empty() || object.clauses.to_ascii_lowercase().starts_with("partition by") {
            return Ok(());
        }
        let numbered = object.columns.iter().filter(|c| c.is_numbered());
        let numbered: Vec<&str> = numbered.map(|column| column.name.as_str()).collect();
        let table = format!("{}.{}", written(&object.schema), written(&object.name));
        let key: Vec<String> = object.primary_key().iter().map(|name| written(name)).collect();
        let order = if key.is_empty() { String::new() } else { format!(" order by {}", key.join(", ")) };
        // Rows of parts are written with those.
        let query = format!("select {} from {}{table}{order}", selected.join(", "), self.copying.only);
        let own_schema = self.copying.schemas_are_databases || templates::reaches(object, &self.catalog);
        let parts =
            if own_schema { vec![object.name.clone()] } else { vec![object.schema.clone(), object.name.clone()] };
        let numbering = match self.dialect.changing.filter(|_| !numbered.is_empty()) {
            Some(changing) => changing.numbering,
            None => ["", "", ""],
        };
        let name: Vec<String> = parts.iter().map(|part| written(part)).collect();
        let name = name.join(".");
        let [before_rows, after_rows] = [0, 1].map(|at| filled(numbering[at], &[("TABLE", &name)]));
        if !before_rows.is_empty() {
            self.put(&before_rows)?;
        }
        let options = Options {
            from: Some(parts.clone()),
            before_values: numbering[2],
            batch_word: self.dialect.batch_word.unwrap_or_default(),
            dialect: self.dialect,
            ..Options::default()
        };
        let (stop, before) = (self.stop, self.dumped.rows);
        let (to, told) = ((&mut *self.out, stop), &mut *self.told);
        let exporter = Format::Insert.exporter(&options);
        self.dumped.rows += write_rows((&mut *self.session, &query), to, exporter, before, told)?;
        if !after_rows.is_empty() {
            self.put(&after_rows)?;
        }
        self.counters(object, &name, &numbered)
    }

    /// Lets the numbers that the server gives go on where they are, and not where the last row that is left ends.
    fn counters(&mut self, object: &Object, name: &str, numbered: &[&str]) -> Result<(), DumpError> {
        let [query, set] = self.copying.goes_on;
        let is_numbered = object.definition.to_ascii_lowercase().contains("autoincrement");
        if query.is_empty() || (numbered.is_empty() && !is_numbered) {
            return Ok(());
        }
        let [text, bare] = [name, &object.name].map(|name| self.dialect.text_as_written(name));
        // Where the definition of the table says it there is one, of no column.
        let columns = if numbered.is_empty() { &[""][..] } else { numbered };
        for column in columns {
            let column = self.dialect.text_as_written(column);
            let names = [("TABLE_TEXT", &*text), ("TABLE_NAME", name), ("BARE_TEXT", &bare), ("COLUMN_TEXT", &column)];
            let found = match self.first(&filled(query, &names)) {
                // The word may stand in a comment only, and then there is nothing to ask.
                Err(DumpError::Server(error)) if numbered.is_empty() && error.kind == ErrorKind::Refused => continue,
                found => found?,
            };
            if let [value, called] = found.as_slice() {
                let values = [&names[..], &[("VALUE", value.as_str()), ("CALLED", called)]].concat();
                self.put(&filled(set, &values))?;
            }
        }
        Ok(())
    }

    /// The first row of a query; nothing where it has none.
    pub(super) fn first(&mut self, query: &str) -> Result<Vec<String>, DumpError> {
        Ok(self.read(query)?.into_iter().next().unwrap_or_default())
    }

    /// The first column of what a query finds; nothing where there is no query.
    pub(super) fn column(&mut self, query: &str) -> Result<Vec<String>, DumpError> {
        Ok(self.read(query)?.into_iter().filter_map(|row| row.into_iter().next()).collect())
    }

    /// The rows of a query; none where it is empty.
    pub(super) fn read(&mut self, query: &str) -> Result<Vec<Vec<String>>, DumpError> {
        if query.is_empty() {
            return Ok(Vec::new());
        }
        let found = Arc::new(Mutex::new(Vec::new()));
        let sink = Box::new(Few(Arc::clone(&found)));
        self.session.run(&Request::new(query).until(self.stop), sink).map_err(DumpError::Server)?;
        Ok(std::mem::take(&mut *found.lock().unwrap_or_else(PoisonError::into_inner)))
    }

    /// Where a sequence is.
    pub(super) fn position(&mut self, object: &Object) -> Result<(), DumpError> {
        let [query, set] = self.copying.sequence;
        if query.is_empty() {
            return Ok(());
        }
        let name = templates::name(object, &self.catalog, self.dialect);
        let text = self.dialect.text_as_written(&name);
        if let [value, called] = self.first(&filled(query, &[("NAME", &name), ("TEXT", &text)]))?.as_slice() {
            self.put(&filled(set, &[("TEXT", &text), ("NAME", &name), ("VALUE", value), ("CALLED", called)]))?;
        }
        Ok(())
    }
}

/// Writes what a query gives by way of an exporter; returns how many rows. `told` hears how many there are with those
/// `before`.
pub(super) fn write_rows<'a>(
    (session, query): (&mut dyn Session, &str),
    (out, stop): (&mut (dyn Write + Send + 'a), &Stop),
    exporter: Box<dyn Exporter>,
    before: u64,
    told: &mut (dyn FnMut(u64) + Send + 'a),
) -> Result<u64, DumpError> {
    // The sink lives as long as the statement, and the text longer: it is written when some of it is there.
    let written_rows = Arc::new(Mutex::new(Writing { exporter, text: Vec::new(), rows: 0, failed: None }));
    let (sender, texts) = std::sync::mpsc::sync_channel::<(Vec<u8>, u64)>(4);
    let sink = RowsSink { writing: Arc::clone(&written_rows), sender, stop: stop.clone() };
    let (ran, wrote) = std::thread::scope(|scope| {
        let writer = scope.spawn(move || -> io::Result<()> {
            for (text, rows) in texts {
                out.write_all(&text)?;
                told(before + rows);
            }
            Ok(())
        });
        let ran = session.run(&Request::new(query).until(stop), Box::new(sink));
        let wrote = writer.join().unwrap_or_else(|_| Err(io::Error::other("the thread that writes has ended")));
        (ran, wrote)
    });
    let mut writing = written_rows.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(error) = writing.failed.take() {
        return Err(error.into());
    }
    wrote?;
    ran.map_err(DumpError::Server)?;
    Ok(writing.rows)
}

/// Rows on their way to the text.
struct Writing {
    exporter: Box<dyn Exporter>,
    text: Vec<u8>,
    rows: u64,
    failed: Option<ExportError>,
}

struct RowsSink {
    writing: Arc<Mutex<Writing>>,
    sender: std::sync::mpsc::SyncSender<(Vec<u8>, u64)>,
    stop: Stop,
}

impl Sink for RowsSink {
    fn wanted(&self) -> Flow {
        if self.stop.is_wished() { Flow::Stop } else { Flow::Continue }
    }

    fn take(&mut self, event: Event) -> Flow {
        let mut writing = self.writing.lock().unwrap_or_else(PoisonError::into_inner);
        let Writing { exporter, text, rows, .. } = &mut *writing;
        let outcome = match event {
            Event::Begins { schema, .. } => exporter.columns(&schema, text),
            Event::Rows(batch) => {
                *rows += batch.num_rows() as u64;
                exporter.batch(&batch, text)
            }
            Event::Ends { .. } => exporter.finish(text),
            _ => Ok(()),
        };
        if let Err(error) = outcome {
            writing.failed = Some(error);
            return Flow::Stop;
        }
        let (text, rows) = (std::mem::take(&mut writing.text), writing.rows);
        drop(writing);
        if !text.is_empty() && self.sender.send((text, rows)).is_err() {
            return Flow::Stop;
        }
        self.wanted()
    }
}

/// A few rows, as texts.
struct Few(Arc<Mutex<Vec<Vec<String>>>>);

impl Sink for Few {
    fn wanted(&self) -> Flow {
        Flow::Continue
    }

    fn take(&mut self, event: Event) -> Flow {
        if let Event::Rows(batch) = event {
            let cells = ColumnReader::all(&batch);
            let rows =
                (0..batch.num_rows()).map(|row| cells.iter().map(|column| column.get(row).text.into_owned()).collect());
            self.0.lock().unwrap_or_else(PoisonError::into_inner).extend(rows);
        }
        Flow::Continue
    }
}
