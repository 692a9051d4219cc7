//! What two databases are made of, beside each other.
//!
//! A [`Structure`] is read once and knows no connection after that: its objects, each in parts that can be told apart.
//! Between databases of one language definitions are compared word by word; between others what columns hold, keys and
//! references are.

use std::collections::HashMap;

use jaunty_language::dialect::{Dialect, Family};
use jaunty_language::statement::definition::{PartKind, TablePart, moved, parts_of_table, telling};
use jaunty_seam::catalog::{BelongingKind, Catalog, Object, ObjectKind, Rule};
use jaunty_seam::engine::load::Nothing;
use jaunty_seam::engine::{Request, Session, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};

use crate::catalog::{lasting, read_whole, templates};
use crate::slip::Kind;

/// What a part of an object is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum PartOf {
    /// A part of a table's definition.
    Table(PartKind),
    /// An index with a statement of its own.
    Index,
    /// A trigger.
    Trigger,
    /// What else belongs to it.
    Belonging(BelongingKind),
    /// A value of an enumerated type.
    Value,
    /// What the definition says after the list of parts.
    Options,
    /// What somebody wrote about it.
    Comment,
    /// All of the definition.
    Definition,
    /// The order of its columns.
    Order,
    /// The order of its values.
    ValueOrder,
}

impl PartOf {
    /// Whether it is about who may do something.
    pub fn is_access(self) -> bool {
        matches!(self, PartOf::Belonging(kind) if kind.is_access())
    }

    /// The trade's word for it.
    pub fn word(self) -> &'static str {
        match self {
            PartOf::Table(PartKind::Column) => "column",
            PartOf::Table(PartKind::Primary) => "primary key",
            PartOf::Table(PartKind::Unique) => "unique key",
            PartOf::Table(PartKind::Reference) => "foreign key",
            PartOf::Table(PartKind::Check) => "check",
            PartOf::Table(PartKind::Index) | PartOf::Index => "index",
            PartOf::Trigger => "trigger",
            PartOf::Belonging(kind) => kind.word(),
            PartOf::Value => "value",
            PartOf::Options => "options",
            PartOf::Comment => "comment",
            PartOf::Definition => "definition",
            PartOf::Order => "order of columns",
            PartOf::ValueOrder => "order of values",
        }
    }
}

/// A part of an object.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// What it is.
    pub of: PartOf,
    /// Its name; may be empty.
    pub name: String,
    /// It, as it stands in the object's definition or as the statement that makes it.
    pub text: String,
    /// What is shown of it beside its name.
    pub shown: String,
    /// It, as it is compared with one of the same language.
    pub(super) told: String,
}

/// An object of a database.
#[derive(Debug, Clone)]
pub struct Item {
    /// What the catalog knows of it.
    pub object: Object,
    /// What is the same on the other side: its name, with its schema where there are several, and what it takes.
    pub key: String,
    /// The statement that makes it; of a table without its indexes and triggers.
    pub definition: String,
    /// Its parts.
    pub parts: Vec<Part>,
    /// What of it can be compared with one of another language, in words that mean the same in both.
    pub held: Vec<Part>,
}

/// What a database is made of.
#[derive(Debug, Clone)]
pub struct Structure {
    /// Its language.
    pub dialect: &'static Dialect,
    /// The one schema that was read; empty where it is all of them.
    pub schema: String,
    /// Its objects.
    pub items: Vec<Item>,
    /// What could not be read, and why.
    pub left_out: Vec<String>,
    /// The catalog, in which no schema is nearer than others.
    pub(super) catalog: Catalog,
}

/// Which schemas of a database are compared.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Schemas {
    /// All of them, by their names.
    All,
    /// The one that plain names are looked up in.
    Own,
    /// This one.
    Named(String),
}

impl Schemas {
    /// What is compared where nothing is said: everything, if both sides have schemas by name, else the one at hand of
    /// each.
    pub fn usual(one: &Dialect, other: &Dialect) -> Schemas {
        let has = |dialect: &Dialect| {
            dialect.changing.and_then(|changing| changing.copying).is_some_and(|copying| !copying.schemas_are_databases)
        };
        if has(one) && has(other) && one.name == other.name { Schemas::All } else { Schemas::Own }
    }
}

impl Structure {
    /// Reads what a database is made of. `told` hears how many of how many definitions are there.
    pub fn read(
        session: &mut dyn Session,
        dialect: &'static Dialect,
        schemas: &Schemas,
        stop: &Stop,
        told: &mut dyn FnMut(usize, usize),
    ) -> Result<Structure, EngineError> {
        if dialect.family != Family::Sql {
            let what = "what this kind of database holds is not declared: there is no structure to compare";
            return Err(EngineError::new(ErrorKind::Local, what));
        }
        let own = session.location().schema;
        let [whole, back] = dialect.altering.map_or(["", ""], |altering| altering.whole_names);
        let ask = |session: &mut dyn Session, statement: &str| match statement {
            "" => Ok(()),
            text => session.run(&Request::new(text).until(stop), Box::new(Nothing)),
        };
        ask(session, whole)?;
        let structure = read_all(session, dialect, (schemas, &own), stop, told);
        // The session is as it was, also where it was stopped; a lost one has no settings.
        let unstopped = Stop::default();
        if !back.is_empty() && !matches!(&structure, Err(error) if error.kind == ErrorKind::Lost) {
            session.run(&Request::new(back).until(&unstopped), Box::new(Nothing))?;
        }
        structure
    }
}

fn read_all(
    session: &mut dyn Session,
    dialect: &'static Dialect,
    (schemas, own): (&Schemas, &str),
    stop: &Stop,
    told: &mut dyn FnMut(usize, usize),
) -> Result<Structure, EngineError> {
    let mut catalog = read_whole(session, stop)?;
    let first = || catalog.path.first().cloned().unwrap_or_default();
    let schema = match schemas {
        Schemas::All => String::new(),
        Schemas::Own if own.is_empty() => first(),
        Schemas::Own => own.to_owned(),
        Schemas::Named(name) => name.clone(),
    };
    if let Schemas::Named(name) = schemas
        && !catalog.objects().iter().any(|object| object.schema == *name)
    {
        return Err(EngineError::new(ErrorKind::Local, format!("there is no schema {name}, or nothing in it")));
    }
    // From here on no schema is nearer than another: names are whole.
    let path = std::mem::take(&mut catalog.path);
    let of_databases = dialect.changing.and_then(|c| c.copying).is_none_or(|copying| copying.schemas_are_databases);
    if of_databases {
        catalog.path = path;
    }
    let objects: Vec<Object> = lasting::lasting(&catalog, false)
        .into_iter()
        .filter(|object| schema.is_empty() || object.schema == schema)
        .filter(|object| object.kind != ObjectKind::Keys)
        .cloned()
        .collect();
    let (mut items, mut left_out) = (Vec::with_capacity(objects.len()), Vec::new());
    for (at, object) in objects.iter().enumerate() {
        told(at, objects.len());
        if stop.is_wished() {
            return Err(EngineError::new(ErrorKind::Stopped, "stopped"));
        }
        let mut bare = object.clone();
        bare.indexes.clear();
        bare.belongings.clear();
        bare.comment.clear();
        bare.columns.iter_mut().for_each(|column| column.comment.clear());
        let own = match session.definition(object, stop) {
            Err(error) if error.kind == ErrorKind::Lost || error.kind == ErrorKind::Stopped => return Err(error),
            Err(error) => {
                left_out.push(format!("{}: {error}", object.name));
                continue;
            }
            Ok(own) => own,
        };
        let definition = own.or_else(|| templates::definition(&bare, &catalog, dialect)).unwrap_or_default();
        items.push(item(object, definition, &schema, &catalog, dialect));
    }
    // Names of one kind that come several times are told apart by what they take.
    let mut times: HashMap<(ObjectKind, String), usize> = HashMap::new();
    for item in &items {
        *times.entry((item.object.kind, item.key.clone())).or_default() += 1;
    }
    for item in &mut items {
        if times.get(&(item.object.kind, item.key.clone())).is_some_and(|times| *times > 1) {
            item.key.push_str(&item.object.signature);
        }
    }
    Ok(Structure { dialect, schema, items, left_out, catalog })
}

fn item(object: &Object, definition: String, schema: &str, catalog: &Catalog, dialect: &'static Dialect) -> Item {
    let key = match schema.is_empty() {
        true if !object.schema.is_empty() => format!("{}.{}", object.schema, object.name),
        _ => object.name.clone(),
    };
    let part = |of: PartOf, name: &str, text: &str| {
        let shown = text.split_whitespace().collect::<Vec<_>>().join(" ");
        let told = telling(text, dialect, &object.schema);
        Part { of, name: name.to_owned(), text: text.to_owned(), shown, told }
    };
    let mut parts = Vec::new();
    let is_table = matches!(object.kind, ObjectKind::Table | ObjectKind::ForeignTable);
    let of_table = is_table.then(|| parts_of_table(&definition, dialect)).flatten();
    match of_table {
        Some((table, _, tail)) => {
            parts.extend(table.iter().map(|of| of_definition(of, object, dialect)));
            let tail = without_numbers(&tail);
            if !tail.is_empty() {
                parts.push(part(PartOf::Options, "", &tail));
            }
        }
        None if object.kind == ObjectKind::Type && !object.values.is_empty() => {
            parts.extend(object.values.iter().map(|value| part(PartOf::Value, value, &dialect.text_as_written(value))));
        }
        None if !definition.is_empty() => parts.push(part(PartOf::Definition, "", &definition)),
        None => {}
    }
    if !object.made_with.is_empty() && object.kind != ObjectKind::Event {
        parts.push(part(PartOf::Options, "", &object.made_with));
    }
    for index in object.indexes.iter().filter(|index| !index.definition.is_empty()) {
        parts.push(part(PartOf::Index, &index.name, &index.definition));
    }
    for trigger in object.triggers.iter().filter(|trigger| !trigger.definition.is_empty()) {
        parts.push(part(PartOf::Trigger, &trigger.name, &trigger.definition));
    }
    for belonging in &object.belongings {
        let of = PartOf::Belonging(belonging.kind);
        let shown = belonging.shown(&dialect.name_as_written(&object.name));
        parts.push(Part { shown, ..part(of, &belonging.name, &belonging.makes) });
    }
    let plain = |of, name: &str, text: &str| Part { told: text.to_owned(), ..part(of, name, text) };
    // Where the definition has them they are told with it.
    if dialect.comments.iter().any(|template| !template.is_empty()) {
        if !object.comment.is_empty() {
            parts.push(plain(PartOf::Comment, "", &object.comment));
        }
        let told = object.columns.iter().filter(|column| !column.comment.is_empty());
        parts.extend(told.map(|column| plain(PartOf::Comment, &column.name, &column.comment)));
    }
    Item { object: object.clone(), key, definition, parts, held: held(object, catalog, dialect) }
}

/// What of an object can be compared with one of another language: columns by what they hold, keys, references, and
/// indexes over plain columns.
fn held(object: &Object, catalog: &Catalog, dialect: &'static Dialect) -> Vec<Part> {
    if !matches!(object.kind, ObjectKind::Table | ObjectKind::ForeignTable) {
        return Vec::new();
    }
    let part = |of: PartOf, name: &str, text: String| Part {
        of,
        name: name.to_owned(),
        text: text.clone(),
        shown: text.clone(),
        told: text.to_lowercase(),
    };
    let mut all: Vec<Part> = Vec::new();
    for column in &object.columns {
        let null = if column.nullable && !column.key { "" } else { " not null" };
        let text = format!("{}{null}", held_by(&Kind::of(column, catalog, dialect)));
        all.push(part(PartOf::Table(PartKind::Column), &column.name, text));
    }
    let key = object.primary_key();
    if !key.is_empty() {
        all.push(part(PartOf::Table(PartKind::Primary), "", key.join(", ")));
    }
    for rule in &object.constraints {
        let columns = rule.columns.join(", ");
        match &rule.rule {
            Rule::Unique => all.push(part(PartOf::Table(PartKind::Unique), "", columns)),
            Rule::Foreign { to, columns: theirs, .. } => {
                let text = format!("{columns} → {}({})", to.name, theirs.join(", "));
                all.push(part(PartOf::Table(PartKind::Reference), "", text));
            }
            Rule::Primary | Rule::Check(_) | Rule::Exclude(_) => {}
        }
    }
    let is_plain = |over: &String| object.columns.iter().any(|column| column.name == *over);
    for index in object.indexes.iter().filter(|index| index.over.iter().all(is_plain)) {
        let of = if index.unique { PartOf::Table(PartKind::Unique) } else { PartOf::Index };
        all.push(part(of, "", index.over.join(", ")));
    }
    all
}

/// The options of a table, without the number that goes on by itself.
fn without_numbers(tail: &str) -> String {
    let all = tail.split_whitespace().filter(|word| !word.to_ascii_uppercase().starts_with("AUTO_INCREMENT="));
    all.collect::<Vec<_>>().join(" ")
}

fn of_definition(of: &TablePart, object: &Object, dialect: &'static Dialect) -> Part {
    let after = of.text.get(of.after_name..).unwrap_or_default();
    let told = match of.kind {
        // The name of an index is how it is found again.
        PartKind::Index => &of.text,
        _ => after,
    };
    // Where the definition does not say it.
    let is_unchecked = object.constraints.iter().any(|rule| rule.unchecked && rule.name == of.name);
    let unchecked = if is_unchecked && !of.name.is_empty() { " · rows may not keep it" } else { "" };
    Part {
        of: PartOf::Table(of.kind),
        name: of.name.clone(),
        shown: after.split_whitespace().collect::<Vec<_>>().join(" ") + unchecked,
        told: telling(told, dialect, &object.schema) + unchecked,
        text: of.text.clone(),
    }
}

/// What a column holds, in words that mean the same in every language.
fn held_by(kind: &Kind) -> &'static str {
    match kind {
        Kind::Integer(..) => "integers",
        Kind::Decimal(_) => "decimals",
        Kind::Real => "floating-point numbers",
        Kind::Boolean => "booleans",
        Kind::Date => "dates",
        Kind::Time => "times",
        Kind::Moment => "timestamps",
        Kind::Uuid => "UUIDs",
        Kind::Json => "JSON",
        Kind::Bytes => "bytes",
        Kind::Shape => "shapes",
        Kind::Choice(_) => "enumerated values",
        Kind::Several(_) => "sets of values",
        Kind::Bits(1) | Kind::Flag => "booleans",
        Kind::Bits(_) => "bits",
        Kind::Text(_) => "text",
        Kind::Any | Kind::Value(_) => "anything",
        Kind::Array => "lists",
        Kind::Other => "its own type",
    }
}

impl Structure {
    /// A text of this structure as it has to stand in a database whose schema is another.
    pub(super) fn text_for(&self, text: &str, schema: &str) -> String {
        moved(text, self.dialect, &self.schema, schema)
    }
}
