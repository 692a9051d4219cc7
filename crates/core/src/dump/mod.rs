//! A database as a text of statements that make it again: what it holds, and its rows.
//!
//! The order is one that can be run: types and routines, tables, rows, keys and indexes, views, triggers. All rows are of
//! one state of the database.

mod documents;
mod keys;
mod rows;

use std::io::{self, Write};

use jaunty_language::dialect::{Copying, Dialect, Family};
use jaunty_seam::catalog::{Belonging, BelongingKind, Catalog, Constraint, Name, Object, ObjectKind, Rule};
use jaunty_seam::engine::load::Nothing;
use jaunty_seam::engine::{CatalogPart, Request, Session, Stop, Transaction};
use jaunty_seam::error::{EngineError, ErrorKind};

use crate::catalog::{lasting, script, templates};
use crate::export::ExportError;

/// What is written.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// Only these tables and views; all where it says none.
    pub names: Vec<Name>,
    /// Only what is in these schemas, where schemas are not databases; in all where it names none.
    pub schemas: Vec<String>,
    /// Without rows.
    pub only_structure: bool,
    /// Without definitions.
    pub only_rows: bool,
    /// With whose the objects are, and what others may do with them.
    pub access: bool,
}

impl Wanted {
    /// Whether an object lies where what is written does.
    pub fn is_in_schema(&self, object: &Object) -> bool {
        self.schemas.is_empty() || self.schemas.contains(&object.schema)
    }
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
    /// There are no definitions to write.
    #[error("keys have no definitions: leave --only-structure out")]
    NoStructure,
    /// Its statements are not known here.
    #[error("this database cannot be written as statements yet")]
    Unknown,
}

/// Whether databases of a language can be written as statements.
pub fn is_possible(dialect: &Dialect) -> bool {
    dialect.family != Family::Sql || dialect.changing.is_some_and(|changing| changing.copying.is_some())
}

/// What is counted while it is written.
pub fn unit(dialect: &Dialect) -> &'static str {
    match dialect.family {
        Family::Commands => "key",
        Family::Sql | Family::Documents => "row",
    }
}

/// Writes a database, or some of its tables, into `out`. What it holds is read in the transaction that reads the rows.
/// `told` hears how many rows were written.
pub fn dump(
    session: &mut dyn Session,
    dialect: &'static Dialect,
    wanted: &Wanted,
    (out, stop): (&mut (dyn Write + Send), &Stop),
    told: &mut (dyn FnMut(u64) + Send),
) -> Result<Dumped, DumpError> {
    match dialect.family {
        Family::Documents => return documents::dump(session, dialect, wanted, (out, stop), told),
        Family::Commands => return keys::dump(session, dialect, wanted, (out, stop), told),
        Family::Sql => {}
    }
    let copying = dialect.changing.and_then(|changing| changing.copying).ok_or(DumpError::Unknown)?;
    let catalog = Catalog::default();
    let mut dumping = Dumping { session, catalog, dialect, copying, out, stop, dumped: Dumped::default(), told };
    let outcome = dumping.in_transaction(wanted);
    // What was only read needs no end of its own, but the session is to be free.
    let mut end = dumping.ask(dialect.transaction.roll_back);
    if !copying.afterwards.is_empty() {
        end = end.and(dumping.ask(copying.afterwards));
    }
    outcome?;
    end?;
    Ok(dumping.dumped)
}

struct Dumping<'a> {
    session: &'a mut dyn Session,
    /// What the database holds; where schemas are not databases, none of them is nearer than others: names are whole.
    catalog: Catalog,
    dialect: &'static Dialect,
    copying: &'static Copying,
    out: &'a mut (dyn Write + Send),
    stop: &'a Stop,
    dumped: Dumped,
    told: &'a mut (dyn FnMut(u64) + Send),
}

/// What is written, by when it comes.
struct Chosen {
    sequences: Vec<Object>,
    /// Types, and routines that need no table, in an order that can be made.
    early: Vec<Object>,
    tables: Vec<Object>,
    /// Tables whose rows are kept elsewhere.
    foreign: Vec<Object>,
    virtuals: Vec<Object>,
    /// Views, and routines that need tables or views, in an order that can be made.
    views: Vec<Object>,
    events: Vec<Object>,
}

impl Chosen {
    fn all(&self) -> impl Iterator<Item = &Object> {
        let lists = [&self.sequences, &self.early, &self.tables, &self.foreign, &self.virtuals];
        lists.into_iter().chain([&self.views, &self.events]).flatten()
    }
}

impl Dumping<'_> {
    fn ask(&mut self, statement: &str) -> Result<(), DumpError> {
        let request = Request::new(statement).until(self.stop);
        self.session.run(&request, Box::new(Nothing)).map_err(DumpError::Server)
    }

    fn in_transaction(&mut self, wanted: &Wanted) -> Result<(), DumpError> {
        let whole_names = self.dialect.altering.map_or("", |altering| altering.whole_names[0]);
        for statement in self.column(self.copying.asked_first)? {
            self.ask(&statement)?;
        }
        let first = self.copying.snapshot.iter().chain([&whole_names]).filter(|statement| !statement.is_empty());
        first.into_iter().try_for_each(|statement| self.ask(statement))?;
        let mut number = 0;
        let mut more = true;
        while more {
            let part = CatalogPart { number, stop: self.stop.clone(), ..CatalogPart::default() };
            more = self.session.catalog(&part, &mut self.catalog).map_err(DumpError::Server)?;
            number += 1;
        }
        if !self.copying.schemas_are_databases {
            self.catalog.path.clear();
        }
        self.catalog.complete();
        self.all(wanted)
    }

    fn all(&mut self, wanted: &Wanted) -> Result<(), DumpError> {
        let chosen = self.chosen(wanted);
        let whole = wanted.names.is_empty();
        let [before, after] = self.copying.around;
        before.iter().try_for_each(|statement| self.put(statement))?;
        if !wanted.only_rows {
            if whole {
                self.schemas(&chosen, &wanted.schemas)?;
            }
            let first = [&chosen.sequences, &chosen.early];
            first.into_iter().flatten().try_for_each(|object| self.define(object))?;
            chosen.tables.iter().try_for_each(|object| self.table(object))?;
            chosen.foreign.iter().chain(&chosen.virtuals).try_for_each(|object| self.define(object))?;
            self.belongings(&chosen, |kind| kind == BelongingKind::Parent)?;
        }
        if !wanted.only_structure {
            chosen.tables.iter().chain(&chosen.virtuals).try_for_each(|object| self.rows(object))?;
            chosen.sequences.iter().try_for_each(|object| self.position(object))?;
        }
        if !wanted.only_rows {
            chosen.tables.iter().try_for_each(|object| self.indexes(object))?;
            // A reference may be to what only an index keeps different.
            chosen.tables.iter().try_for_each(|object| self.rules_after_rows(object))?;
            for object in &chosen.views {
                self.define(object)?;
                self.indexes(object)?;
            }
            for trigger in chosen.all().flat_map(|object| &object.triggers).filter(|t| !t.definition.is_empty()) {
                self.put_made(&trigger.definition, &trigger.made_with)?;
            }
            self.belongings(&chosen, |kind| kind > BelongingKind::Parent && !kind.is_access())?;
            if wanted.access {
                self.belongings(&chosen, BelongingKind::is_access)?;
                if whole {
                    self.access(&wanted.schemas)?;
                }
            }
            chosen.events.iter().try_for_each(|object| self.define(object))?;
        }
        after.iter().try_for_each(|statement| self.put(statement))?;
        Ok(self.out.flush()?)
    }

    /// The objects that are written.
    fn chosen(&self, wanted: &Wanted) -> Chosen {
        use ObjectKind::{Event, ForeignTable, Function, MaterialisedView, Procedure, Sequence, Table, Type};
        use ObjectKind::{Synonym, View, VirtualTable};
        let mut all = lasting::lasting(&self.catalog, self.copying.schemas_are_databases);
        all.retain(|object| wanted.is_in_schema(object));
        if !wanted.names.is_empty() {
            // Routines and types may have the name of a table.
            all.retain(|object| object.kind.has_rows() || object.kind == Sequence);
            let names = with_parts(&wanted.names, &all);
            all.retain(|object| names.contains(&object.to_name()));
        }
        let of = |kinds: &[ObjectKind]| -> Vec<&Object> {
            all.iter().filter(|object| kinds.contains(&object.kind)).copied().collect()
        };
        let owned = |objects: Vec<&Object>| -> Vec<Object> { objects.into_iter().cloned().collect() };
        // Bodies are not looked at yet; but a row of a table in its arguments needs the table.
        let is_early = |object: &&Object| self.copying.keys_after && !lasting::needs_tables(object, &self.catalog);
        let (early, late): (Vec<&Object>, Vec<&Object>) = of(&[Function, Procedure]).into_iter().partition(is_early);
        let views = [late, of(&[View, MaterialisedView])].concat();
        Chosen {
            sequences: owned(of(&[Sequence])),
            early: owned(lasting::in_order([of(&[Type, Synonym]), early].concat())),
            tables: owned(of(&[Table])),
            foreign: owned(of(&[ForeignTable])),
            virtuals: owned(of(&[VirtualTable])),
            views: owned(lasting::in_order(views)),
            events: owned(of(&[Event])),
        }
    }

    /// Writes the schemas that the objects lie in and those that are `wanted`, and all extensions: any object may need them.
    fn schemas(&mut self, chosen: &Chosen, wanted: &[String]) -> Result<(), DumpError> {
        if !self.copying.schemas_are_databases {
            let of_objects = chosen.all().map(|object| object.schema.as_str());
            let mut schemas: Vec<&str> = of_objects.chain(wanted.iter().map(String::as_str)).collect();
            schemas.sort_unstable();
            schemas.dedup();
            for schema in schemas {
                let made = templates::new_schema(schema, self.dialect);
                made.into_iter().try_for_each(|statement| self.put(&statement))?;
            }
        }
        let [extensions, unwritten] = self.copying.beside;
        for statement in self.column(extensions)? {
            self.put(&statement)?;
        }
        match self.column(unwritten) {
            // An older server, or a login that may not see it.
            Err(DumpError::Server(error)) if error.kind == ErrorKind::Refused && !self.in_failed_transaction() => {
                self.dumped.left_out.push(format!("what is not written could not be asked: {error}"));
            }
            left_out => self.dumped.left_out.extend(left_out?),
        }
        Ok(())
    }

    /// Writes who may do what with the schemas that are wanted; with the whole database where all of it is.
    fn access(&mut self, schemas: &[String]) -> Result<(), DumpError> {
        for row in self.read(self.copying.access)? {
            if let [schema, statement] = row.as_slice()
                && (schemas.is_empty() || schemas.contains(schema))
            {
                self.put(statement)?;
            }
        }
        Ok(())
    }

    /// Whether an error has ended the transaction that all is read in.
    fn in_failed_transaction(&self) -> bool {
        self.session.location().transaction != Some(Transaction::Open)
    }

    /// Writes what belongs to objects, of some kinds, in the order of those.
    fn belongings(&mut self, chosen: &Chosen, is_due: fn(BelongingKind) -> bool) -> Result<(), DumpError> {
        let all = chosen.all().flat_map(|object| &object.belongings);
        let mut all: Vec<&Belonging> = all.filter(|belonging| is_due(belonging.kind)).collect();
        all.sort_by_key(|belonging| belonging.kind);
        all.into_iter().try_for_each(|belonging| self.put(&belonging.makes))
    }

    /// Writes the settings of an object that was just made.
    fn settings(&mut self, object: &Object) -> Result<(), DumpError> {
        let settings = object.belongings.iter().filter(|belonging| belonging.kind == BelongingKind::Setting);
        settings.into_iter().try_for_each(|setting| self.put(&setting.makes))
    }

    fn put(&mut self, statement: &str) -> Result<(), DumpError> {
        Ok(writeln!(self.out, "{}", script::ended(statement, self.dialect))?)
    }

    /// Writes a statement that is to be run under some settings of the session.
    fn put_made(&mut self, statement: &str, made_with: &str) -> Result<(), DumpError> {
        let [with, before] = self.copying.made_with;
        if made_with.is_empty() || with.is_empty() {
            return self.put(statement);
        }
        self.put(&templates::filled(with, &[("SETTINGS", made_with)]))?;
        self.put(statement)?;
        self.put(before)
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
        // What the catalog makes of a table has all that belongs to it.
        let bare = Object { belongings: Vec::new(), ..object.clone() };
        let (text, own) = match own {
            Some(text) => (Some(text), true),
            None => {
                let has_comments = matches!(object.kind, ObjectKind::Table | ObjectKind::ForeignTable);
                (templates::definition(&bare, &self.catalog, self.dialect), !has_comments)
            }
        };
        let Some(text) = text else {
            self.dumped.left_out.push(format!(
                "{}: the definition of this {} is not available",
                object.name,
                object.kind.word()
            ));
            return Ok(());
        };
        self.dumped.objects += 1;
        self.put_made(&text, &object.made_with)?;
        if own {
            // The server's word says nothing of comments.
            let comment = Some(&object.comment).filter(|comment| !comment.is_empty());
            let of_columns = object.columns.iter().filter(|column| !column.comment.is_empty());
            let all = comment.map(|comment| ("", comment)).into_iter();
            for (column, comment) in all.chain(of_columns.map(|column| (column.name.as_str(), &column.comment))) {
                let told = templates::comment_on(object, column, comment, &self.catalog, self.dialect);
                told.into_iter().try_for_each(|statement| self.put(&statement))?;
            }
        }
        self.settings(object)
    }

    /// A table, without what is made after its rows.
    fn table(&mut self, object: &Object) -> Result<(), DumpError> {
        if !self.copying.keys_after || !object.definition.is_empty() {
            return self.define(object);
        }
        let mut bare = object.clone();
        bare.indexes.clear();
        bare.belongings.clear();
        bare.constraints.retain(|rule| !comes_after_rows(rule));
        self.dumped.objects += 1;
        if let Some(text) = templates::definition(&bare, &self.catalog, self.dialect) {
            self.put(&text)?;
        }
        self.settings(object)
    }

    fn rules_after_rows(&mut self, object: &Object) -> Result<(), DumpError> {
        // Where keys are in the definition they are all there.
        let rules = object.constraints.iter().filter(|rule| self.copying.keys_after && comes_after_rows(rule));
        let name = templates::name(object, &self.catalog, self.dialect);
        let unchecked = |rule: &Constraint| if rule.unchecked { self.copying.unchecked } else { "" };
        let add = |rule| templates::constraint(rule, object, &self.catalog, self.dialect);
        let all = rules.map(|rule| format!("alter table {name} {}add {}", unchecked(rule), add(rule)));
        let all: Vec<String> = all.collect();
        all.iter().try_for_each(|statement| self.put(statement))
    }

    fn indexes(&mut self, object: &Object) -> Result<(), DumpError> {
        // The definition of a table by the server's word, asked for one by one, has them.
        if !self.copying.keys_after && object.definition.is_empty() {
            return Ok(());
        }
        let indexes = object.indexes.iter().filter(|index| !index.definition.is_empty());
        indexes.into_iter().try_for_each(|index| self.put(&index.definition))
    }
}

/// Whether a rule is made when the rows are there: one about other tables, and one that they need not keep.
fn comes_after_rows(rule: &Constraint) -> bool {
    matches!(rule.rule, Rule::Foreign { .. })
        || rule.unchecked
        || rule.definition.to_ascii_uppercase().ends_with("NOT VALID")
}

/// Names with the tables that are parts of theirs, and the sequences that go with their columns.
fn with_parts(names: &[Name], all: &[&Object]) -> Vec<Name> {
    let mut names = names.to_vec();
    loop {
        let is_part = |object: &&&Object| {
            !names.contains(&object.to_name()) && object.parents().any(|parent| names.contains(parent))
        };
        let found: Vec<Name> = all.iter().filter(is_part).map(|object| object.to_name()).collect();
        if found.is_empty() {
            return names;
        }
        names.extend(found);
    }
}
