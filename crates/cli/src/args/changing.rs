//! What brings rows in and takes them out, and what compares.

use std::path::PathBuf;

use clap::Subcommand;

use super::EXIT_CODES;

#[derive(Debug, clap::Args)]
#[command(after_help = EXIT_CODES)]
#[command(group = clap::ArgGroup::new("what").required(true).args(["file", "from", "run"]))]
pub struct Load {
    /// The file: CSV, TSV, JSON lines, a JSON array, Parquet, Arrow, or a sheet of a workbook (XLSX, ODS); "-" for standard input
    pub file: Option<PathBuf>,
    /// Instead of a file, the rows of a statement on this connection
    #[arg(long, value_name = "NAME", requires = "statement")]
    pub from: Option<String>,
    /// That statement
    #[arg(short, long, value_name = "TEXT", requires = "from", allow_hyphen_values = true)]
    pub statement: Option<String>,
    /// Instead of a file, the kept rows of a run, by its number in the log; "last" is the latest
    #[arg(long, value_name = "RUN")]
    pub run: Option<String>,
    /// The connection, by its name, or a database file, or a URL
    #[arg(short, long, value_name = "NAME")]
    pub connection: String,
    /// The table, with its schema where that is needed; in Redis the keys, such as port:*
    #[arg(short, long, value_name = "TABLE")]
    pub into: String,
    /// Make the table, with the types that the values have
    #[arg(long)]
    pub create: bool,
    /// The key of a table that is made; in Redis what goes in the places of the stars. May be given several times
    #[arg(long, value_name = "COLUMN")]
    pub key: Vec<String>,
    /// Which column of the file goes into which of the table; FILE= leaves one out. May be given several times
    #[arg(long = "column", value_name = "FILE=TABLE")]
    pub columns: Vec<String>,
    /// The type of a column of a table that is made, where it is to be another than its values look like; by the file's name. May be given several times
    #[arg(long = "type", value_name = "COLUMN=TYPE", requires = "create")]
    pub types: Vec<String>,
    /// What to do with a row whose key already exists
    #[arg(long, value_name = "WHAT", default_value = "stop", value_parser = ["stop", "skip", "replace"])]
    pub on_conflict: String,
    /// Write rows that do not fit to this CSV file, each with the reason, and load the others
    #[arg(long, value_name = "FILE")]
    pub refused: Option<PathBuf>,
    /// Commit after so many rows, instead of all or none
    #[arg(long, value_name = "ROWS", value_parser = clap::value_parser!(u64).range(1..))]
    pub batch: Option<u64>,
    /// Show what was found and what would be loaded, and load nothing
    #[arg(long)]
    pub preview: bool,
    /// The format; without it the ending says, or the first bytes
    #[arg(short, long, value_name = "FORMAT", value_parser = ["csv", "tsv", "jsonl", "json", "parquet", "arrow", "xlsx", "ods"])]
    pub format: Option<String>,
    /// The sheet of a workbook; without it the first that has rows
    #[arg(long, value_name = "SHEET")]
    pub sheet: Option<String>,
    /// The separator of fields: a character, or tab, comma, semicolon, pipe
    #[arg(long, value_name = "SIGN")]
    pub separator: Option<String>,
    /// The quote around fields that contain a separator
    #[arg(long, value_name = "SIGN")]
    pub quote: Option<String>,
    /// The encoding, such as utf-8, utf-16le or windows-1252
    #[arg(long, value_name = "ENCODING")]
    pub encoding: Option<String>,
    /// Lines above the rows, such as a title, to pass over
    #[arg(long, value_name = "LINES", default_value_t = 0, hide_default_value = true)]
    pub skip: u64,
    /// Whether the first row has the names
    #[arg(long, value_name = "YES", value_parser = ["yes", "no"])]
    pub header: Option<String>,
    /// A text that means NULL, besides an empty field without quotes
    #[arg(long, value_name = "TEXT")]
    pub null: Option<String>,
    /// The order of day, month and year in dates
    #[arg(long, value_name = "ORDER", value_parser = ["ymd", "dmy", "mdy"])]
    pub dates: Option<String>,
    /// The sign before the fraction of numbers; the other one groups digits: comma (1.234,5) or point (1,234.5)
    #[arg(long, value_name = "SIGN", value_parser = ["comma", "point"])]
    pub decimal: Option<String>,
    /// Confirm it on a connection whose guard is ask
    #[arg(short, long)]
    pub yes: bool,
    /// Say nothing on standard error
    #[arg(short, long)]
    pub quiet: bool,
}

#[derive(Debug, clap::Args)]
#[command(after_help = EXIT_CODES)]
pub struct Dump {
    /// The connection, by its name, or a database file, or a URL; it may also stand first
    #[arg(short, long, value_name = "NAME")]
    pub connection: Option<String>,
    /// The connection, unless --connection names it; then only these tables and views, with their schema where that is needed; in Redis keys and patterns of keys
    #[arg(value_names = ["NAME", "TABLE"], num_args = 0..)]
    pub words: Vec<String>,
    /// Only this table or view, as after the name of the connection. May be given several times
    #[arg(short, long = "table", value_name = "TABLE")]
    pub tables: Vec<String>,
    /// The file; without it, or with "-", standard output
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Only what is in this schema (PostgreSQL, SQL Server). May be given several times
    #[arg(long = "schema", value_name = "SCHEMA", conflicts_with = "backup")]
    pub schemas: Vec<String>,
    /// Without rows
    #[arg(long, conflicts_with = "only_rows")]
    pub only_structure: bool,
    /// Without definitions
    #[arg(long)]
    pub only_rows: bool,
    /// With owners and grants (PostgreSQL, MySQL, MariaDB), whose users have to be there where it is run
    #[arg(long, conflicts_with = "only_rows")]
    pub access: bool,
    /// Back up the whole database into a file (SQLite)
    #[arg(long, requires = "output", conflicts_with_all = ["only_structure", "only_rows", "access"])]
    pub backup: bool,
}

/// What is compared.
#[derive(Debug, Subcommand)]
pub enum Compare {
    /// Two tables or results by a key: which rows only one has, and which values differ
    Rows(Box<CompareRows>),
    /// Two databases or schemas: tables with their parts, views, routines, triggers, types
    Structure(CompareStructure),
}

/// What becomes of what was found.
#[derive(Debug, clap::Args)]
pub struct Found {
    /// Write the statements that make the left like the right, and run none of them
    #[arg(long)]
    pub statements: bool,
    /// A line of JSON for each row or object that differs
    #[arg(long, conflicts_with = "statements")]
    pub json: bool,
    /// End with exit code 3 where something differs
    #[arg(long)]
    pub exit_code: bool,
}

#[derive(Debug, clap::Args)]
#[command(after_help = EXIT_CODES)]
pub struct CompareRows {
    /// The connections of the two sides, as --left and --right
    #[arg(value_name = "NAME", num_args = 1..=2, conflicts_with_all = ["left", "right"])]
    pub sides: Vec<String>,
    /// The connection of the left side, by its name, or a database file, or a URL
    #[arg(short, long, value_name = "NAME")]
    pub left: Option<String>,
    /// That of the right side; without it the same
    #[arg(short, long, value_name = "NAME")]
    pub right: Option<String>,
    /// The table or view, with its schema where that is needed
    #[arg(short, long, value_name = "TABLE")]
    pub table: Option<String>,
    /// That of the right side, where it has another name
    #[arg(long, value_name = "TABLE")]
    pub right_table: Option<String>,
    /// Instead of a table, a statement that reads
    #[arg(short, long, value_name = "TEXT", conflicts_with = "table", allow_hyphen_values = true)]
    pub statement: Option<String>,
    /// That of the right side, where it is another one
    #[arg(long, value_name = "TEXT", conflicts_with = "right_table", allow_hyphen_values = true)]
    pub right_statement: Option<String>,
    /// On the left the kept rows of a run, by its number in the log
    #[arg(long, value_name = "RUN", conflicts_with_all = ["left", "sides"])]
    pub left_run: Option<String>,
    /// On the right the kept rows of a run
    #[arg(long, value_name = "RUN", conflicts_with = "right")]
    pub right_run: Option<String>,
    /// A column that tells rows apart; may be given several times. Without it the table's key
    #[arg(short, long, value_name = "COLUMN", value_delimiter = ',')]
    pub key: Vec<String>,
    #[command(flatten)]
    pub found: Found,
}

#[derive(Debug, clap::Args)]
#[command(after_help = EXIT_CODES)]
pub struct CompareStructure {
    /// The connections of the two sides, as --left and --right
    #[arg(value_name = "NAME", num_args = 1..=2, conflicts_with_all = ["left", "right"])]
    pub sides: Vec<String>,
    /// The connection of the left side, by its name, or a database file, or a URL
    #[arg(short, long, value_name = "NAME", required_unless_present = "sides")]
    pub left: Option<String>,
    /// That of the right side; without it the same
    #[arg(short, long, value_name = "NAME")]
    pub right: Option<String>,
    /// Only this schema; without it all, or the one at hand where the two are of different kinds
    #[arg(short, long, value_name = "SCHEMA")]
    pub schema: Option<String>,
    /// That of the right side, where it has another name
    #[arg(long, value_name = "SCHEMA")]
    pub right_schema: Option<String>,
    /// Owners and grants count, too (PostgreSQL, MySQL, MariaDB)
    #[arg(long)]
    pub access: bool,
    #[command(flatten)]
    pub found: Found,
}
