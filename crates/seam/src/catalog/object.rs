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
    /// What else belongs to it, each made by a statement of its own: policies, rules, settings.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub belongings: Vec<Belonging>,
    /// What brings it along, and takes it away again: an extension, or a column that the server numbers. It is not made
    /// by itself. Mostly empty.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub brought_by: String,
    /// How many rows it has (or keys, for a store of keys), as far as the server knows without counting.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rows: Option<u64>,
    /// How many bytes it takes on the server, with its indexes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// What it needs to be made: what a view reads from, what a routine or a type is made of.
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
    /// The settings of the session that it was made under and works with, as `sql_mode = '…'`; mostly empty.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub made_with: String,
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
    /// What the server does by itself at a time.
    Event,
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
            ObjectKind::Event => "event",
            ObjectKind::Synonym => "synonym",
            ObjectKind::Keys => "keys",
        }
    }

    /// Whether it has rows that a query can read.
    pub fn has_rows(self) -> bool {
        use ObjectKind::{ForeignTable, MaterialisedView, Table, View, VirtualTable};
        matches!(self, Table | View | MaterialisedView | ForeignTable | VirtualTable)
    }

    /// Whether it is called with arguments.
    pub fn is_routine(self) -> bool {
        matches!(self, ObjectKind::Function | ObjectKind::Procedure)
    }
}

impl Object {
    /// Whether it is a function whose rows a query can read as those of a table.
    pub fn gives_rows(&self) -> bool {
        let (_, gives) = self.signature.rsplit_once(") returns ").unwrap_or_default();
        let lower = gives.get(..6).unwrap_or_default().to_ascii_lowercase();
        self.kind == ObjectKind::Function && (lower.starts_with("setof ") || lower.starts_with("table"))
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
    /// How its texts are ordered and compared, as it is written, where that is not as usual for the type.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub collation: String,
    /// Whether it may be NULL.
    pub nullable: bool,
    /// Whether it is part of the primary key.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub key: bool,
    /// What it is where nothing is given, as an expression.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub default: Option<String>,
    /// The name of the rule that gives it its default, where somebody chose one; mostly empty.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub default_name: String,
    /// What its definition says beside all that, as it is written, as `sparse`; mostly empty.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub more: String,
    /// The expression that it is computed from; a word as `identity` where the server counts, and [`Column::BY_SERVER`]
    /// where its type says that each row has its own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub generated: Option<String>,
    /// How the server numbers it where that is not as usual, as `start with 10 increment by 5`.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub numbering: String,
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
    /// It, without its name, as the server writes it; empty where the server does not.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub definition: String,
    /// Whether rows that were there before it need not keep it, where its definition does not say so.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub unchecked: bool,
}

impl Constraint {
    /// One that the server does not write.
    pub fn new(name: impl Into<String>, columns: Vec<String>, rule: Rule) -> Constraint {
        Constraint { name: name.into(), columns, rule, definition: String::new(), unchecked: false }
    }
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
    /// No two rows are to each other as these operators say, as `using gist (berth with =, during with &&)`.
    Exclude(String),
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

/// What belongs to an object and is made by a statement of its own, after the object.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Belonging {
    /// What it is.
    pub kind: BelongingKind,
    /// What it is called among those of its kind.
    pub name: String,
    /// The part of the object that it hangs on and goes with, as `index by_name`; empty where it is all of it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub of: String,
    /// The other object that it ties this one to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<Name>,
    /// The statement that makes it.
    pub makes: String,
    /// The statement that takes it away; empty where there is none.
    pub unmakes: String,
}

impl Belonging {
    /// What its statement says beside the name of the object, `object` as it is written there; all of the statement where
    /// it does not name that.
    pub fn shown(&self, object: &str) -> String {
        let text = self.makes.split_whitespace().collect::<Vec<_>>().join(" ");
        let after = |part: &str| text.split_once(part).map(|(before, after)| (before.len(), after));
        let found = match self.kind {
            BelongingKind::Grant => return text.split_once(" on ").map_or(text.clone(), |(what, _)| what.to_owned()),
            BelongingKind::Rule => after(" AS "),
            BelongingKind::Owner => after(" owner to "),
            _ => {
                let named = [format!(".{object} "), format!(" {object} ")];
                named.iter().filter_map(|name| after(name)).min_by_key(|(at, _)| *at)
            }
        };
        let shown = found.map_or(text.as_str(), |(_, after)| after);
        shown.strip_prefix("is ").unwrap_or(shown).to_owned()
    }
}

/// Kinds of [`Belonging`], in the order in which they can be made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub enum BelongingKind {
    /// A setting that the definition does not say: there at once.
    Setting,
    /// What it is a part of or goes with: there when all tables are.
    Parent,
    /// What it says of its indexes.
    Mark,
    /// Statistics over several columns.
    Statistics,
    /// Whether its policies hold, and for whom.
    Security,
    /// A policy: which rows somebody sees and changes.
    Policy,
    /// A rule: what is done instead of a statement, or with it.
    Rule,
    /// Whether a trigger or a rule acts.
    State,
    /// What somebody wrote about a part of it.
    Comment,
    /// Whose it is.
    Owner,
    /// What somebody may do with it.
    Grant,
}

impl BelongingKind {
    /// Whether it is about who may do something, and not about what the database is made of.
    pub fn is_access(self) -> bool {
        matches!(self, BelongingKind::Owner | BelongingKind::Grant)
    }

    /// The trade's word for it.
    pub fn word(self) -> &'static str {
        match self {
            BelongingKind::Setting => "setting",
            BelongingKind::Parent => "part of",
            BelongingKind::Mark => "mark",
            BelongingKind::Statistics => "statistics",
            BelongingKind::Comment => "comment",
            BelongingKind::Owner => "owner",
            BelongingKind::Grant => "grant",
            BelongingKind::Security => "row security",
            BelongingKind::Policy => "policy",
            BelongingKind::Rule => "rule",
            BelongingKind::State => "state",
        }
    }
}

/// A trigger.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Trigger {
    /// Its name.
    pub name: String,
    /// When it acts, as `after insert`.
    pub when: String,
    /// The settings of the session that it was made under and works with; mostly empty.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub made_with: String,
    /// The statement that makes it, where the server gives one.
    pub definition: String,
}

impl Column {
    /// How a column is generated whose values come from the server and of no expression: this is none in any language.
    pub const BY_SERVER: &str = "by the server";

    /// Whether the server numbers it where nothing is given.
    pub fn is_numbered(&self) -> bool {
        let generated = self.generated.as_deref().unwrap_or_default().to_ascii_lowercase();
        ["identity", "auto_increment", "autoincrement"].iter().any(|word| generated.contains(word))
    }

    /// Its type as it stands in a definition, with how its texts are ordered.
    pub fn declared_type(&self) -> String {
        match self.collation.as_str() {
            "" => self.db_type.clone(),
            collation => format!("{} collate {collation}", self.db_type),
        }
    }

    /// Whether a person gives it a value: not where the server computes it.
    pub fn is_given(&self) -> bool {
        self.generated.is_none() || self.is_numbered()
    }
}

/// What the signature of a domain begins with; the type that it is over follows, then its rules.
pub const DOMAIN: &str = "domain over ";

impl Object {
    /// The type that a domain is over, without its rules; none for what is not a domain.
    pub fn domain_of(&self) -> Option<&str> {
        let told = self.signature.strip_prefix(DOMAIN)?;
        let rules = [" collate ", " not null", " default ", " constraint "];
        let end = rules.iter().filter_map(|rule| told.find(rule)).min().unwrap_or(told.len());
        told.get(..end)
    }

    /// What it is a part of, takes its columns from, or goes with.
    pub fn parents(&self) -> impl Iterator<Item = &Name> {
        let parents = self.belongings.iter().filter(|belonging| belonging.kind == BelongingKind::Parent);
        parents.filter_map(|parent| parent.to.as_ref())
    }

    /// Whether it holds a part of the rows of another table, which statements name rather than this one.
    pub fn is_partition(&self) -> bool {
        let attached = |belonging: &Belonging| belonging.makes.contains(" attach partition ");
        self.kind.has_rows() && self.belongings.iter().any(|it| it.kind == BelongingKind::Parent && attached(it))
    }

    /// The trade's word for it; for what a document database has, its own: `collection`, `capped`, `time series`.
    pub fn kind_word(&self) -> &str {
        match self.kind {
            _ if self.is_partition() => "partition",
            ObjectKind::Table | ObjectKind::View if !self.signature.is_empty() => &self.signature,
            kind => kind.word(),
        }
    }

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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_belongs_to_an_object_is_shown_without_its_name() {
        let shown = |kind, makes: &str| {
            let (name, of) = (String::new(), String::new());
            Belonging { kind, name, of, to: None, makes: makes.into(), unmakes: String::new() }.shown("ports")
        };
        for (kind, makes, wanted) in [
            (
                BelongingKind::Policy,
                "create policy ports_own on public.ports for select\n to public",
                "for select to public",
            ),
            (BelongingKind::Setting, "alter table public.ports set (fillfactor = '70')", "set (fillfactor = '70')"),
            (BelongingKind::Comment, "comment on trigger t on public.ports is 'at once'", "'at once'"),
            (BelongingKind::Owner, "alter table public.ports owner to mate", "mate"),
            (BelongingKind::Grant, "grant select, insert on table public.ports to mate", "grant select, insert"),
            (
                BelongingKind::Rule,
                "CREATE RULE r AS\n ON DELETE TO public.ports DO NOTHING",
                "ON DELETE TO public.ports DO NOTHING",
            ),
            (
                BelongingKind::Mark,
                "alter index a.whole attach partition a.part",
                "alter index a.whole attach partition a.part",
            ),
        ] {
            assert_eq!(shown(kind, makes), wanted);
        }
    }
}
