//! How single rows are changed: what the slip (`jaunty_core::slip`) makes its statements with.

/// How a language changes rows one by one, where languages differ.
#[derive(Debug)]
pub struct Changing {
    /// Begins a transaction that is going to write, and waits for its turn to.
    pub begin: &'static str,
    /// What keeps others from changing a row that is read: after the table's name, and at the end of the query.
    pub lock: [&'static str; 2],
    /// What has an `INSERT` give back the row that it made; none where it cannot.
    pub inserted: Option<Inserted>,
    /// The number that the server gave the row inserted last, as an expression; empty where [`Changing::inserted`] tells.
    pub last_number: &'static str,
    /// What gives a column that the server numbers a value of one's own: a statement before the `INSERT` and one after
    /// it, in which `TABLE` is the table, and words before its `VALUES`.
    pub numbering: [&'static str; 3],
    /// An `INSERT` without any value: what stands after the table's name.
    pub defaults_only: &'static str,
    /// Whether a column takes values of any type, whatever type it has.
    pub loose_types: bool,
    /// Types whose values are bytes to a client, beside those that every language has.
    pub types_of_bytes: &'static [&'static str],
    /// Whether a day may have a zero for a month or a day that is not known.
    pub days_have_zeros: bool,
    /// Whether decimals can be NaN and infinite.
    pub decimals_have_nan: bool,
    /// Whether what is called a decimal is stored as a floating-point number, but for whole ones of 64 bits.
    pub decimals_are_doubles: bool,
    /// Whether a key of one column of the type `integer` is numbered by the server.
    pub numbers_integer_keys: bool,
    /// How a database is written as statements; none where it is not yet.
    pub copying: Option<&'static Copying>,
    /// The types of columns of a new table, by what their values are ([`ColumnType`]).
    pub types: [&'static str; 13],
    /// An `INSERT` of rows of which some may be there already: what stands in the place of `insert` to leave those as
    /// they are, and to replace them; and what stands at its end. `KEY` is the key's columns, `SET` the others, each set to
    /// the new one. Empty where there is none.
    pub meeting: [[&'static str; 2]; 2],
    /// A value of the row that is being inserted: `COLUMN` is its column.
    pub excluded: &'static str,
    /// Whether the server counts only rows whose values are different afterwards.
    pub counts_different: bool,
    /// Makes the schema `NAME` where there is none of that name; `TEXT` is its name as a text.
    pub new_schema: &'static str,
}

/// How a database is written as statements that make it again.
#[derive(Debug)]
pub struct Copying {
    /// A query of one column for statements that are run before all others; empty where there are none.
    pub asked_first: &'static str,
    /// Begins a transaction that sees one state of the database, and all of it or none.
    pub snapshot: &'static [&'static str],
    /// Sets the session as it was before, when the transaction has ended; empty where that does it.
    pub afterwards: &'static str,
    /// Statements at the beginning of the text, and at its end.
    pub around: [&'static [&'static str]; 2],
    /// Types whose values are not read exactly as they are: the type's first word, and an expression that has all of it.
    pub exactly: &'static [(&'static str, &'static str)],
    /// What stands before a table's name where only its own rows are meant, and not those of its parts.
    pub only: &'static str,
    /// Queries, each of one column: for the statements that bring along what others made and the objects need
    /// (extensions), and for the names of what is there and is not written. Empty where there is none.
    pub beside: [&'static str; 2],
    /// Whether foreign keys are made after the rows; else they are not looked at meanwhile.
    pub keys_after: bool,
    /// Whether what a schema is called is a database of its own: only one of them is written.
    pub schemas_are_databases: bool,
    /// The query for where the server is with the numbers of a column, and the statement that lets them go on there:
    /// `TABLE_TEXT` is the table's name as it is written, `BARE_TEXT` as it is, `COLUMN_TEXT` the column's, each as a text,
    /// `TABLE_NAME` the name itself, `VALUE` and `CALLED` what the query gave. Empty where the definition says it.
    pub goes_on: [&'static str; 2],
    /// The query for where the sequence `NAME` is, and the statement that sets it there (`TEXT` is the name as a text,
    /// `VALUE` and `CALLED` what the query gave). Empty where there are none.
    pub sequence: [&'static str; 2],
    /// What stands between `alter table NAME` and `add` where the rows that are there need not keep a new rule; empty where
    /// the rule itself says so.
    pub unchecked: &'static str,
    /// The settings `SETTINGS` that what follows is made under, and those of before; empty where nothing depends on them.
    pub made_with: [&'static str; 2],
}

/// What has an `INSERT` give back its row: before `VALUES` or after them.
#[derive(Debug, Clone, Copy)]
pub struct Inserted {
    /// The word, before the names of columns.
    pub word: &'static str,
    /// What stands before each of these names.
    pub prefix: &'static str,
    /// Whether it stands before `VALUES`.
    pub before_values: bool,
}

const RETURNING: Inserted = Inserted { word: "returning", prefix: "", before_values: false };

/// What the values of a column of a new table are; the place in [`Changing::types`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ColumnType {
    /// Whole numbers of 32 bits.
    Integer,
    /// Whole numbers of 64 bits.
    Long,
    /// Numbers with digits after a point; `SCALE` is how many.
    Decimal,
    /// Floating-point numbers.
    Real,
    /// True or false.
    Boolean,
    /// Days.
    Date,
    /// Times of day.
    Time,
    /// Points in time, on the clocks of one place.
    Moment,
    /// Points in time with an offset.
    Instant,
    /// Identifiers of 16 bytes.
    Uuid,
    /// JSON.
    Json,
    /// Text.
    Text,
    /// Bytes.
    Bytes,
}

impl Changing {
    /// The type of a column of a new table, with so many digits after the point where it has them.
    pub fn type_of(&self, of: ColumnType, scale: u32) -> String {
        self.types[of as usize].replace("SCALE", &scale.to_string())
    }
}

/// As most do; for tables to be written as a difference from it.
pub(super) const USUAL: Changing = Changing {
    begin: "begin",
    lock: ["", " for update"],
    inserted: Some(RETURNING),
    last_number: "",
    numbering: ["", "", ""],
    defaults_only: "default values",
    loose_types: false,
    decimals_have_nan: false,
    days_have_zeros: false,
    types_of_bytes: &[],
    decimals_are_doubles: false,
    copying: None,
    numbers_integer_keys: false,
    types: [
        "integer",
        "bigint",
        "numeric",
        "double precision",
        "boolean",
        "date",
        "time",
        "timestamp",
        "timestamptz",
        "uuid",
        "jsonb",
        "text",
        "bytea",
    ],
    meeting: [["insert", "on conflict do nothing"], ["insert", "on conflict (KEY) do update set SET"]],
    excluded: "excluded.COLUMN",
    counts_different: false,
    new_schema: "create schema if not exists NAME",
};
