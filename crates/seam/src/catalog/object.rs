//! One object of a database, and what belongs to it.

use serde::{Deserialize, Serialize};

use jaunty_language::dialect::Dialect;
use jaunty_language::statement::Written;

/// One object of a database.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Object {
    /// The schema that holds it; empty where there are none.
    pub schema: String,
    /// Its name, not quoted.
    pub name: String,
    /// What it is.
    pub kind: ObjectKind,
    /// What somebody wrote about it; may be empty.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub comment: String,
    /// Its columns, for what has rows; the fields of a composite type.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub columns: Vec<Column>,
    /// Keys, references and checks.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub constraints: Vec<Constraint>,
    /// Its indexes, without those that stand for a key.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub indexes: Vec<Index>,
    /// Its triggers.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub triggers: Vec<Trigger>,
    /// How many rows it has (or keys, for a store of keys), as far as the server knows without counting.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rows: Option<u64>,
    /// How many bytes it takes on the server, with its indexes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// What it reads from: a view's tables.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub uses: Vec<Name>,
    /// What a function or procedure takes and gives, as `(port integer) returns text`.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub signature: String,
    /// The values of an enumerated type.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub values: Vec<String>,
    /// What its definition says behind the list of its columns, as `partition by range (at)`.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub clauses: String,
    /// The statement that makes it, where reading it costs nothing more.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub definition: String,
}

/// The name of an object.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Name {
    /// The schema.
    pub schema: String,
    /// The name in it.
    pub name: String,
}

/// Kinds of objects.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub enum ObjectKind {
    /// A table.
    #[default]
    Table,
    /// A view.
    View,
    /// A materialised view.
    MaterialisedView,
    /// A table whose rows are kept elsewhere.
    ForeignTable,
    /// A table that a module of the server answers for.
    VirtualTable,
    /// A sequence.
    Sequence,
    /// A function.
    Function,
    /// A procedure.
    Procedure,
    /// A type.
    Type,
    /// Another name of an object.
    Synonym,
    /// Keys with a common beginning, in a store of keys.
    Keys,
}

impl ObjectKind {
    /// The trade's word for it.
    pub fn word(self) -> &'static str {
        match self {
            ObjectKind::Table => "table",
            ObjectKind::View => "view",
            ObjectKind::MaterialisedView => "materialised view",
            ObjectKind::ForeignTable => "foreign table",
            ObjectKind::VirtualTable => "virtual table",
            ObjectKind::Sequence => "sequence",
            ObjectKind::Function => "function",
            ObjectKind::Procedure => "procedure",
            ObjectKind::Type => "type",
            ObjectKind::Synonym => "synonym",
            ObjectKind::Keys => "keys",
        }
    }

    /// Whether it has rows that a query can read.
    pub fn has_rows(self) -> bool {
        use ObjectKind::{ForeignTable, MaterialisedView, Table, View, VirtualTable};
        matches!(self, Table | View | MaterialisedView | ForeignTable | VirtualTable)
    }
}

/// One column of an object.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Column {
    /// Its name, not quoted.
    pub name: String,
    /// The database's name of its type.
    pub db_type: String,
    /// Whether it may be NULL.
    pub nullable: bool,
    /// Whether it is part of the primary key.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub key: bool,
    /// What it is where nothing is given, as an expression.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub default: Option<String>,
    /// The expression that it is computed from; a word as `identity` where the server counts.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub generated: Option<String>,
    /// What somebody wrote about it; may be empty.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub comment: String,
    /// The values that it has, as its language writes them, where they are known and few.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub values: Vec<String>,
}

/// A rule that a table's rows keep.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Constraint {
    /// Its name; may be empty.
    pub name: String,
    /// The columns it is about, in its own order.
    pub columns: Vec<String>,
    /// What it demands.
    pub rule: Rule,
}

/// What a constraint demands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Rule {
    /// The columns tell the rows apart, and are never NULL.
    Primary,
    /// No two rows have the same.
    Unique,
    /// There is a row over there with these values.
    Foreign {
        /// The other table.
        to: Name,
        /// Its columns, in the order of ours.
        columns: Vec<String>,
        /// What follows when the other row goes or changes, as `on delete cascade`; may be empty.
        actions: String,
    },
    /// The expression is not false.
    Check(String),
}

/// An index.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Index {
    /// Its name.
    pub name: String,
    /// What it is over: columns or expressions.
    pub over: Vec<String>,
    /// Whether it keeps its values different.
    pub unique: bool,
    /// The statement that makes it, where the server gives one.
    pub definition: String,
    /// More that is known of it, such as how often it was used.
    #[serde(default)]
    pub note: String,
}

/// A trigger.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Trigger {
    /// Its name.
    pub name: String,
    /// When it acts, as `after insert`.
    pub when: String,
    /// The statement that makes it, where the server gives one.
    pub definition: String,
}

impl Column {
    /// Whether the server numbers it where nothing is given.
    pub fn is_numbered(&self) -> bool {
        let generated = self.generated.as_deref().unwrap_or_default().to_ascii_lowercase();
        ["identity", "auto_increment", "autoincrement"].iter().any(|word| generated.contains(word))
    }

    /// Whether a person gives it a value: not where the server computes it.
    pub fn is_given(&self) -> bool {
        self.generated.is_none() || self.is_numbered()
    }
}

impl Object {
    /// Its name.
    pub fn to_name(&self) -> Name {
        Name { schema: self.schema.clone(), name: self.name.clone() }
    }

    /// The column of this name.
    pub fn column(&self, name: &Written, dialect: &Dialect) -> Option<&Column> {
        self.columns.iter().find(|column| name.means(&column.name, dialect))
    }

    /// The columns of its primary key, in the key's order.
    pub fn primary_key(&self) -> Vec<&str> {
        let rule = self.constraints.iter().find(|c| c.rule == Rule::Primary);
        match rule {
            Some(constraint) => constraint.columns.iter().map(String::as_str).collect(),
            None => self.columns.iter().filter(|c| c.key).map(|c| c.name.as_str()).collect(),
        }
    }

    /// Its references: our columns, the other table, its columns.
    pub fn references(&self) -> impl Iterator<Item = (&[String], &Name, &[String])> {
        self.constraints.iter().filter_map(|constraint| match &constraint.rule {
            Rule::Foreign { to, columns, .. } => Some((constraint.columns.as_slice(), to, columns.as_slice())),
            _ => None,
        })
    }
}
