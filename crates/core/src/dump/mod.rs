//! A database as a text of statements that make it again: what it holds, and its rows.
//!
//! The order is one that can be run: types and routines, tables, rows, keys and indexes, views, triggers. All rows are of
//! one state of the database.

use std::io::{self, Write};
use std::sync::{Arc, Mutex, PoisonError};

use jaunty_language::dialect::{Copying, Dialect};
use jaunty_seam::catalog::{Catalog, Name, Object, ObjectKind, Rule};
use jaunty_seam::engine::load::Nothing;
use jaunty_seam::engine::{Event, Flow, Request, Session, Sink, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::cell::ColumnReader;

use crate::catalog::{lasting, script, templates};
use crate::export::{ExportError, Exporter, Format, Options};

/// What is written.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// Only these tables and views; all where it says none.
    pub names: Vec<Name>,
    /// Without rows.
    pub only_structure: bool,
    /// Without definitions.
    pub only_rows: bool,
}

/// What was written.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Dumped {
    /// How many objects.
    pub objects: u64,
    /// How many rows.
    pub rows: u64,
    /// What could not be written, and why.
    pub left_out: Vec<String>,
}

/// Why a database could not be written.
#[derive(Debug, thiserror::Error)]
pub enum DumpError {
    /// The server refused.
    #[error("{0}")]
    Server(EngineError),
    /// The text could not be written.
    #[error("the dump cannot be written: {0}")]
    Write(#[from] io::Error),
    /// A row could not be written as a statement.
    #[error("{0}")]
    Rows(#[from] ExportError),
    /// Its statements are not known here.
    #[error("this database cannot be written as statements yet")]
    Unknown,
}

/// Writes a database, or some of its tables, into `out`. `told` hears how many rows were written.
pub fn dump(
    session: &mut dyn Session,
    catalog: &Catalog,
    dialect: &'static Dialect,
    wanted: &Wanted,
    (out, stop): (&mut (dyn Write + Send), &Stop),
    told: &mut (dyn FnMut(u64) + Send),
) -> Result<Dumped, DumpError> {
    let copying = dialect.changing.and_then(|changing| changing.copying).ok_or(DumpError::Unknown)?;
    let mut dumping = Dumping { session, catalog, dialect, copying, out, stop, dumped: Dumped::default(), told };
    dumping.ask(copying.snapshot)?;
    let outcome = dumping.all(wanted);
    // What was only read needs no end of its own, but the session is to be free.
    let end = dumping.ask(dialect.transaction.roll_back);
    outcome?;
    end?;
    Ok(dumping.dumped)
}

struct Dumping<'a> {
    session: &'a mut dyn Session,
    catalog: &'a Catalog,
    dialect: &'static Dialect,
    copying: &'static Copying,
    out: &'a mut (dyn Write + Send),
    stop: &'a Stop,
    dumped: Dumped,
    told: &'a mut (dyn FnMut(u64) + Send),
}

impl<'a> Dumping<'a> {
    fn ask(&mut self, statement: &str) -> Result<(), DumpError> {
        let request = Request::new(statement).until(self.stop);
        self.session.run(&request, Box::new(Nothing)).map_err(DumpError::Server)
    }

    fn all(&mut self, wanted: &Wanted) -> Result<(), DumpError> {
        let objects = self.wanted(wanted);
        let of = |kinds: &[ObjectKind]| -> Vec<&Object> {
            objects.iter().filter(|object| kinds.contains(&object.kind)).copied().collect()
        };
        let [before, after] = self.copying.around;
        before.iter().try_for_each(|statement| self.put(statement))?;
        let tables = of(&[ObjectKind::Table]);
        let views = lasting::in_order(of(&[ObjectKind::View, ObjectKind::MaterialisedView]));
        let virtuals = of(&[ObjectKind::VirtualTable]);
        if !wanted.only_rows {
            if wanted.names.is_empty() {
                self.schemas(&objects)?;
                for object in of(&[ObjectKind::Type]) {
                    self.define(object)?;
                }
                for object in of(&[ObjectKind::Sequence]) {
                    if !lasting::belongs_to_a_column(object, self.catalog) {
                        self.define(object)?;
                    }
                }
                // Where bodies are not looked at, routines may come before what they name.
                if self.copying.keys_after {
                    for object in of(&[ObjectKind::Function, ObjectKind::Procedure]) {
                        self.define(object)?;
                    }
                }
            }
            for object in &tables {
                self.table(object)?;
            }
            for object in &virtuals {
                self.define(object)?;
            }
        }
        if !wanted.only_structure {
            for object in tables.iter().chain(&virtuals) {
                self.rows(object)?;
            }
            for object in of(&[ObjectKind::Sequence]).into_iter().filter(|_| wanted.names.is_empty()) {
                if !lasting::belongs_to_a_column(object, self.catalog) {
                    self.position(object)?;
                }
            }
        }
        if !wanted.only_rows {
            for object in &tables {
                self.keys_and_indexes(object)?;
            }
            for object in &views {
                self.define(object)?;
            }
            if wanted.names.is_empty() && !self.copying.keys_after {
                for object in of(&[ObjectKind::Function, ObjectKind::Procedure]) {
                    self.define(object)?;
                }
            }
            for object in tables.iter().chain(&views) {
                for trigger in object.triggers.iter().filter(|trigger| !trigger.definition.is_empty()) {
                    self.put(&trigger.definition)?;
                }
            }
        }
        after.iter().try_for_each(|statement| self.put(statement))?;
        Ok(self.out.flush()?)
    }

    /// The objects that are written.
    fn wanted(&self, wanted: &Wanted) -> Vec<&'a Object> {
        let mut all = lasting::lasting(self.catalog, self.copying.schemas_are_databases);
        all.retain(|object| wanted.names.is_empty() || wanted.names.contains(&object.to_name()));
        // A part of a table comes after the whole.
        all.sort_by_key(|object| object.kind == ObjectKind::Table && object.definition.contains(" partition of "));
        all
    }

    fn schemas(&mut self, objects: &[&Object]) -> Result<(), DumpError> {
        if self.copying.schemas_are_databases {
            return Ok(());
        }
        let mut schemas: Vec<&str> = objects.iter().map(|object| object.schema.as_str()).collect();
        schemas.sort_unstable();
        schemas.dedup();
        for schema in schemas {
            self.put(&format!("create schema if not exists {}", self.dialect.name_as_written(schema)))?;
        }
        Ok(())
    }

    fn put(&mut self, statement: &str) -> Result<(), DumpError> {
        Ok(writeln!(self.out, "{}", script::ended(statement, self.dialect))?)
    }

    /// Writes the statement that makes an object, by the server's word or by what the catalog knows.
    fn define(&mut self, object: &Object) -> Result<(), DumpError> {
        let own = match self.session.definition(object, self.stop) {
            Err(error) if error.kind != ErrorKind::Stopped && error.kind != ErrorKind::Lost => {
                self.dumped.left_out.push(format!("{}: {error}", object.name));
                return Ok(());
            }
            own => own.map_err(DumpError::Server)?,
        };
        let Some(text) = own.or_else(|| templates::definition(object, self.catalog, self.dialect)) else {
            self.dumped.left_out.push(format!(
                "{}: nothing is known of how this {} is made",
                object.name,
                object.kind.word()
            ));
            return Ok(());
        };
        self.dumped.objects += 1;
        self.put(&text)
    }

    /// A table, without what is made after its rows.
    fn table(&mut self, object: &Object) -> Result<(), DumpError> {
        if !self.copying.keys_after || !object.definition.is_empty() {
            return self.define(object);
        }
        let mut bare = object.clone();
        bare.indexes.clear();
        bare.constraints.retain(|rule| !matches!(rule.rule, Rule::Foreign { .. }));
        self.dumped.objects += 1;
        match templates::definition(&bare, self.catalog, self.dialect) {
            Some(text) => self.put(&text),
            None => Ok(()),
        }
    }

    fn keys_and_indexes(&mut self, object: &Object) -> Result<(), DumpError> {
        let name = templates::name(object, self.catalog, self.dialect);
        if self.copying.keys_after {
            for rule in object.constraints.iter().filter(|rule| matches!(rule.rule, Rule::Foreign { .. })) {
                let rule = templates::constraint(rule, object, self.catalog, self.dialect);
                self.put(&format!("alter table {name} add {rule}"))?;
            }
        } else if object.definition.is_empty() {
            // The table's own definition, by the server's word, has them.
            return Ok(());
        }
        for index in object.indexes.iter().filter(|index| !index.definition.is_empty()) {
            self.put(&index.definition)?;
        }
        Ok(())
    }

    fn rows(&mut self, object: &Object) -> Result<(), DumpError> {
        let written = |name: &str| self.dialect.name_as_written(name);
        let given: Vec<String> = object.columns.iter().filter(|c| c.is_given()).map(|c| written(&c.name)).collect();
        // The rows of a table in parts are those of its parts.
        if given.is_empty() || object.clauses.to_ascii_lowercase().starts_with("partition by") {
            return Ok(());
        }
        let numbered = object.columns.iter().filter(|c| c.is_numbered());
        let numbered: Vec<&str> = numbered.map(|column| column.name.as_str()).collect();
        let table = format!("{}.{}", written(&object.schema), written(&object.name));
        let key: Vec<String> = object.primary_key().iter().map(|name| written(name)).collect();
        let order = if key.is_empty() { String::new() } else { format!(" order by {}", key.join(", ")) };
        let query = format!("select {} from {table}{order}", given.join(", "));
        let own_schema = self.copying.schemas_are_databases || templates::reaches(object, self.catalog);
        let parts =
            if own_schema { vec![object.name.clone()] } else { vec![object.schema.clone(), object.name.clone()] };
        let numbering = self.dialect.changing.map_or("", |changing| changing.numbering[2]);
        let options = Options {
            from: Some(parts.clone()),
            before_values: if numbered.is_empty() { "" } else { numbering },
            dialect: self.dialect,
            ..Options::default()
        };
        let (stop, before) = (self.stop.clone(), self.dumped.rows);
        // The sink lives as long as the statement, and the text longer: it is written when some of it is there.
        let written_rows = Arc::new(Mutex::new(Writing {
            exporter: Format::Insert.exporter(&options),
            text: Vec::new(),
            rows: 0,
            failed: None,
        }));
        let (sender, texts) = std::sync::mpsc::sync_channel::<(Vec<u8>, u64)>(4);
        let sink = RowsSink { writing: Arc::clone(&written_rows), sender, stop: stop.clone() };
        let (session, out, told) = (&mut *self.session, &mut *self.out, &mut *self.told);
        let outcome = std::thread::scope(|scope| {
            let writer = scope.spawn(move || -> io::Result<()> {
                for (text, rows) in texts {
                    out.write_all(&text)?;
                    told(before + rows);
                }
                Ok(())
            });
            let ran = session.run(&Request::new(&query).until(&stop), Box::new(sink));
            let wrote = writer.join().unwrap_or_else(|_| Err(io::Error::other("the thread that writes has ended")));
            (ran, wrote)
        });
        let mut writing = written_rows.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(error) = writing.failed.take() {
            return Err(error.into());
        }
        outcome.1?;
        outcome.0.map_err(DumpError::Server)?;
        self.dumped.rows += writing.rows;
        drop(writing);
        self.counters(object, &parts, &numbered)
    }

    /// Lets the numbers that the server gives go on where they are, and not where the last row that is left ends.
    fn counters(&mut self, object: &Object, parts: &[String], numbered: &[&str]) -> Result<(), DumpError> {
        let [query, set] = self.copying.goes_on;
        let is_numbered = object.definition.to_ascii_lowercase().contains("autoincrement");
        if query.is_empty() || (numbered.is_empty() && !is_numbered) {
            return Ok(());
        }
        let name: Vec<String> = parts.iter().map(|part| self.dialect.name_as_written(part)).collect();
        let [name, bare] = [name.join("."), object.name.clone()].map(|name| self.dialect.text_as_written(&name));
        // Where the definition of the table says it there is one, of no column.
        let columns = if numbered.is_empty() { &[""][..] } else { numbered };
        for column in columns {
            let column = self.dialect.text_as_written(column);
            let names = [("TABLE_TEXT", name.as_str()), ("BARE_TEXT", &bare), ("COLUMN_TEXT", &column)];
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
    fn first(&mut self, query: &str) -> Result<Vec<String>, DumpError> {
        let found = Arc::new(Mutex::new(Vec::<String>::new()));
        let sink = Box::new(First(Arc::clone(&found)));
        self.session.run(&Request::new(query).until(self.stop), sink).map_err(DumpError::Server)?;
        Ok(std::mem::take(&mut *found.lock().unwrap_or_else(PoisonError::into_inner)))
    }

    /// Where a sequence is.
    fn position(&mut self, object: &Object) -> Result<(), DumpError> {
        let [query, set] = self.copying.sequence;
        if query.is_empty() {
            return Ok(());
        }
        let name = templates::name(object, self.catalog, self.dialect);
        if let [value, called] = self.first(&filled(query, &[("NAME", &name)]))?.as_slice() {
            let text = self.dialect.text_as_written(&name);
            self.put(&filled(set, &[("TEXT", &text), ("NAME", &name), ("VALUE", value), ("CALLED", called)]))?;
        }
        Ok(())
    }
}

/// A text with its places filled in; what is filled in has no places, whatever it is called.
fn filled(template: &str, values: &[(&str, &str)]) -> String {
    let (mut text, mut rest) = (String::new(), template);
    let found = |rest: &str| {
        let places = values.iter().filter_map(|(key, value)| Some((rest.find(key)?, *key, *value)));
        places.min_by_key(|(at, ..)| *at)
    };
    while let Some((at, key, value)) = found(rest) {
        text.push_str(&rest[..at]);
        text.push_str(value);
        rest = &rest[at + key.len()..];
    }
    text + rest
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

/// The first row, as texts.
struct First(Arc<Mutex<Vec<String>>>);

impl Sink for First {
    fn wanted(&self) -> Flow {
        Flow::Continue
    }

    fn take(&mut self, event: Event) -> Flow {
        if let Event::Rows(batch) = event
            && batch.num_rows() > 0
        {
            let cells = ColumnReader::all(&batch);
            *self.0.lock().unwrap_or_else(PoisonError::into_inner) =
                cells.iter().map(|column| column.get(0).text.into_owned()).collect();
        }
        Flow::Continue
    }
}
