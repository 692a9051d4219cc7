//! How a structure is changed: what the comparison of two of them (`jaunty_core::compare`) writes its statements with.
//!
//! In all templates `TABLE` is a table's name with its schema, `NAME` the name of what is changed, with its schema where it
//! is an object of its own, and `TEXT` a part of a table's definition.

/// How a language changes structures.
#[derive(Debug)]
pub struct Altering {
    /// Statements that have a session write all names of objects with their schemas, and as before.
    pub whole_names: [&'static str; 2],
    /// Statements at the beginning of all, and at the end.
    pub around: [&'static [&'static str]; 2],
    /// How tables are changed.
    pub tables: Tables,
    /// Whether references are made when all tables are there, and taken away before tables go; else nothing looks at them
    /// meanwhile.
    pub references_apart: bool,
    /// Takes an index away: `NAME` is its name with its schema, `INDEX` its name alone, `TABLE` the table's.
    pub drop_index: &'static str,
    /// Takes a trigger away: `NAME` is its name, `SCHEMA` its schema, `TABLE` the table's name.
    pub drop_trigger: &'static str,
    /// Takes what was written about an object away, and about one of its columns, before something else is: the words are
    /// those of [`super::Dialect::comments`]. Empty where that takes its place.
    pub drop_comment: [&'static str; 2],
    /// Adds a value to an enumerated type; empty where there are none.
    pub add_value: &'static str,
    /// Whether a view keeps what it reads from being changed: it is taken away before, and made again.
    pub views_hold: bool,
    /// Whether functions of one name differ in what they take, which is said where one is taken away.
    pub overloads: bool,
    /// What the server does to a table meanwhile, by its documentation, in a sentence: where the type of a column changes, where
    /// rows have to keep a new rule, where a column is taken away, and otherwise. Empty where it takes a moment.
    pub meanwhile: [&'static str; 4],
    /// Makes the database (or schema) `NAME` the one that plain names in definitions are looked up in; empty where
    /// definitions have whole names, or there is only one.
    pub goes_to: &'static str,
}

/// How tables are changed.
#[derive(Debug)]
pub enum Tables {
    /// By clauses of `ALTER TABLE` for each part.
    Altered(&'static Clauses),
    /// By a new one that takes the rows over, since there is no statement for most changes: with statements before the
    /// first of all, and after the last, where a table is made so.
    Remade([&'static [&'static str]; 2]),
}

/// Clauses of `ALTER TABLE`, each after the table's name.
#[derive(Debug)]
pub struct Clauses {
    /// Adds a column.
    pub add_column: &'static str,
    /// What stands after that where it comes first, and where it comes after the column `NAME`; empty where it always
    /// comes last.
    pub place: [&'static str; 2],
    /// Takes one away.
    pub drop_column: &'static str,
    /// Changes one.
    pub change: Change,
    /// Adds a key, a reference or a check; an index too, where the definition of a table has those.
    pub add_rule: &'static str,
    /// Takes one away: the primary key, a unique one, a reference, a check, an index.
    pub drop_rule: [&'static str; 5],
}

/// How a column is changed.
#[derive(Debug)]
pub enum Change {
    /// As a whole, by its definition.
    Whole(&'static str),
    /// Bit by bit. `TYPE` is the type, `VALUE` the default, `WORD` how the server numbers it, as `always as identity`.
    Bits {
        /// Its type, no default, a default, not null, null.
        plain: [&'static str; 5],
        /// Numbered in another way, not numbered any more, numbered from now on.
        numbered: [&'static str; 3],
    },
    /// By statements one after the other: `NULLNESS` is `not null` or `null`, and a default is a rule with a name.
    Apart {
        /// Its type and whether it may be NULL.
        whole: &'static str,
        /// A statement that takes the default of the column `COLUMN_TEXT` of `TABLE_TEXT` away, whatever that is called.
        no_default: &'static str,
        /// Gives it the default `VALUE`; `NAMED` is the name that is wanted for that.
        default: &'static str,
    },
}
