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
    /// Types whose values are shapes that are read as well-known text.
    pub types_of_shapes: &'static [&'static str],
    /// Whether the server takes a shape as bytes alone, and not its text.
    pub shapes_are_bytes: bool,
    /// Types that a column of a new table can have as the server's results name them, in lower case; one that ends in a
    /// parenthesis only with its length. Those are left out whose names say less in a result than in a table.
    pub kept_types: &'static [&'static str],
    /// Whether a day may have a zero for a month or a day that is not known.
    pub days_have_zeros: bool,
    /// Whether a time is a span of hours, up to 838 of them and below zero too, and no time of day.
    pub times_are_spans: bool,
    /// Whether the type `bit` is a number to a client: of so many bits, or one. Else it is a text of the digits 0 and 1.
    pub bits_are_numbers: bool,
    /// Whether values that are listed are usually taken in any case.
    pub choices_fold: bool,
    /// The least and the greatest number of the type `tinyint`.
    pub tiny: [i16; 2],
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
    /// A query for the statements that say who may do what with what is not an object (schemas, the database, what is made
    /// later): the schema that each is of, empty where it is of the whole database, and the statement. Empty where there are
    /// none.
    pub access: &'static str,
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
    /// Whether a new table can have a column of this type of another table of such a server, as its results name it. What a
    /// server calls a type stands in a statement then, and is looked at closely.
    pub fn keeps(&self, named: &str) -> bool {
        let lower = named.to_ascii_lowercase();
        // A list of them.
        let one = lower.trim_end_matches("[]");
        let (name, length) = one.split_once('(').map_or((one, None), |(name, length)| (name.trim_end(), Some(length)));
        let is_length = |length: &str| {
            let inside = length.strip_suffix(')');
            inside.is_some_and(|i| i == "max" || i.chars().all(|c| c.is_ascii_digit() || matches!(c, ',' | ' ')))
        };
        if !length.is_none_or(is_length) {
            return false;
        }
        if self.loose_types {
            // What a rule of a column begins with is no part of its type.
            const RULES: [&str; 10] = [
                "as",
                "check",
                "collate",
                "constraint",
                "default",
                "generated",
                "not",
                "primary",
                "references",
                "unique",
            ];
            let is_plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, ' ' | '_');
            let has_rule = name.split(' ').any(|word| RULES.contains(&word));
            return name.starts_with(|c: char| c.is_ascii_alphabetic()) && name.chars().all(is_plain) && !has_rule;
        }
        self.kept_types.iter().any(|kept| match kept.strip_suffix('(') {
            Some(kept) => kept == name && length.is_some(),
            None => *kept == name,
        })
    }

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
    times_are_spans: false,
    bits_are_numbers: false,
    choices_fold: false,
    tiny: [i8::MIN as i16, i8::MAX as i16],
    types_of_bytes: &[],
    types_of_shapes: &[],
    shapes_are_bytes: false,
    kept_types: &[],
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

#[cfg(test)]
mod tests {
    use super::super::{MYSQL, POSTGRES, SQLITE, SQLSERVER};

    #[test]
    fn types_stay_as_they_stand_and_nothing_else_does() {
        let kept = |dialect: &super::super::Dialect, all: &[&str]| -> Vec<bool> {
            all.iter().map(|named| dialect.changing.unwrap().keeps(named)).collect()
        };
        assert_eq!(
            kept(&POSTGRES, &["numeric(30,10)", "int4[]", "text[][]", "JSONB", "char(5)", "interval"]),
            [true; 6]
        );
        // A type of the database's own may not be there, and a length that is not told would be 1.
        assert_eq!(
            kept(&POSTGRES, &["mood", "char", "bit", "", "text); drop table ports; --", "numeric(1); x"]),
            [false; 6]
        );
        assert_eq!(kept(&MYSQL, &["int unsigned", "decimal(20,4)", "year", "bit(3)"]), [true; 4]);
        assert_eq!(kept(&MYSQL, &["enum", "varchar", "datetime", "text", "decimal"]), [false; 5]);
        assert_eq!(kept(&SQLSERVER, &["nvarchar(max)", "datetime2(7)", "money", "nvarchar(40)"]), [true; 4]);
        assert_eq!(kept(&SQLSERVER, &["sql_variant", "hierarchyid", "nvarchar", "nvarchar(maximum)"]), [false; 4]);
        // Any name is a type there.
        assert_eq!(kept(&SQLITE, &["INTEGER", "VARCHAR(40)", "unsigned big int", "DECIMAL(10, 2)"]), [true; 4]);
        assert_eq!(kept(&SQLITE, &["", "int check (1)", "a, b", "1", "int; x", "a(b)"]), [false; 6]);
    }
}
