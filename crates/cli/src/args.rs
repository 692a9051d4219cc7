//! The command line, declared once: the help and the man page come from here.

use std::path::{Path, PathBuf};

use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use clap::{Parser, Subcommand};
use jaunty_core::export::{Format, Options};
use jaunty_language::dialect::Dialect;

use crate::failure::Failure;

const EXIT_CODES: &str = "Exit codes: 0 all went well; 1 the database refused, or could not be reached; 2 a mistake on the command line or in a file; 3 what is compared differs (with --exit-code); 130 stopped by ctrl-c (what was fetched is kept).";

/// Query many databases from a terminal: plain-text connections, statements and results that stay.
#[derive(Debug, Parser)]
#[command(name = "jaunty", version, args_conflicts_with_subcommands = true, after_help = EXIT_CODES)]
pub struct Args {
    #[command(subcommand)]
    pub command: Option<Command>,
    #[command(flatten)]
    pub open: Open,
}

/// What the screen is opened with.
#[derive(Debug, clap::Args)]
pub struct Open {
    /// A buffer to open, by its file or its name (`jaunty buffers`), a database file, or a URL to connect to
    pub file: Option<PathBuf>,
    /// The connection to run statements on, by its name in a connections file
    #[arg(short, long, value_name = "NAME")]
    pub connection: Option<String>,
    /// Without a buffer, beside a text editor that is served by `jaunty lsp`: the rows of what its cursor is on
    #[arg(long, conflicts_with = "file")]
    pub pane: bool,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run statements without a screen, and write their rows
    Run(Run),
    /// Load the rows of a file into a table: CSV, JSON, Parquet, Arrow, workbooks
    Load(Box<Load>),
    /// Write a database as statements that make it again: definitions and rows, for jaunty run
    Dump(Dump),
    /// Compare rows, or structures: what differs, and the statements that make one like the other
    #[command(subcommand)]
    Compare(Compare),
    /// Show how a server carries a statement out: each step with its share, its rows and its index
    Plan(Plan),
    /// Draw tables with their keys and what they reference, as SVG or PDF
    Schema(Schema),
    /// List past runs: when, where, how long, how many rows, the outcome
    Log(Log),
    /// Write the kept rows of a run, without connecting to its database
    Rows(Rows),
    /// Print each statement of a file as a line of JSON
    Statements(Statements),
    /// List the buffers of the project and your own, by the names that other commands take
    Buffers(Buffers),
    /// List, test and change connections; secrets are never shown
    Connections(Connections),
    /// Serve a text editor: the language server protocol on standard input and output (docs/editors.md)
    Lsp {
        /// Taken since some editors give it; standard input and output are what is used
        #[arg(long, hide = true)]
        stdio: bool,
    },
    /// Answer programs on standard input and output: JSON-RPC, one message a line (docs/api.md)
    Serve {
        /// Print the interface as an OpenRPC document instead
        #[arg(long)]
        describe: bool,
        /// Print the Markdown document docs/api.md instead
        #[arg(long, hide = true, conflicts_with = "describe")]
        markdown: bool,
    },
    /// Ask one thing of the interface for programs: of the screen that runs for this project, or of this program
    Call {
        /// The method, such as run or screen.state (docs/api.md)
        method: String,
        /// Its parameters, as a JSON object
        #[arg(value_name = "JSON")]
        params: Option<String>,
    },
    /// Run a statement on the screen that runs for this project
    Send {
        /// The file, and the line that the statement stands at
        #[arg(value_name = "FILE:LINE")]
        place: String,
        /// The connection, by its name in a connections file; without it the one that the screen has
        #[arg(short, long, value_name = "NAME")]
        connection: Option<String>,
    },
    /// List all keys of the screen
    Keys {
        /// Print the Markdown document docs/keys.md
        #[arg(long)]
        markdown: bool,
        /// Print one JSON array
        #[arg(long, conflicts_with = "markdown")]
        json: bool,
    },
    /// Write what a shell needs to complete this program's words, names of connections among them
    Completions {
        /// The shell
        #[arg(value_parser = ["bash", "zsh", "fish"])]
        shell: String,
    },
    /// Write the manual pages, one for each command, into a folder
    Man {
        /// The folder; without one the page of the program itself is printed
        #[arg(value_name = "FOLDER")]
        folder: Option<PathBuf>,
    },
    /// Open the demonstration: an invented ferry company, created in seconds
    Demo(Demo),
}

#[derive(Debug, clap::Args)]
#[command(after_help = EXIT_CODES)]
#[command(group = clap::ArgGroup::new("what").required(true).args(["statement", "file"]))]
pub struct Run {
    /// The connection, by its name in a connections file, or a database file, or a URL
    #[arg(short, long, value_name = "NAME")]
    pub connection: String,
    /// Statements to run; "-" reads them from standard input
    #[arg(short, long, value_name = "TEXT")]
    pub statement: Option<String>,
    /// A file of statements to run, or a buffer by its name, "-" for standard input; with :LINE only the one at that line
    #[arg(value_name = "FILE[:LINE]")]
    pub file: Option<String>,
    #[command(flatten)]
    pub written: Written,
    /// A parameter's value, such as :from=Saltmarsh, '$1=7' or '?1=null'; may be given several times
    #[arg(short, long = "parameter", value_name = "NAME=VALUE")]
    pub parameters: Vec<String>,
    /// Begin with the first statement at or after this line
    #[arg(long, value_name = "LINE")]
    pub from: Option<usize>,
    /// Go on after a statement that fails; the errors are listed as they come, and counted at the end
    #[arg(long)]
    pub keep_going: bool,
    /// Run all of it in one transaction: everything is kept, or nothing
    #[arg(long, conflicts_with = "keep_going")]
    pub single_transaction: bool,
    /// Confirm statements that write, on a connection whose guard is ask
    #[arg(short, long)]
    pub yes: bool,
    /// Do not say on standard error what a statement changed
    #[arg(long, short)]
    pub quiet: bool,
}

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
    #[arg(short, long, value_name = "TEXT", requires = "from")]
    pub statement: Option<String>,
    /// Instead of a file, the kept rows of a run, by its number in the log; "last" is the latest
    #[arg(long, value_name = "RUN")]
    pub run: Option<String>,
    /// The connection, by its name in a connections file, or a database file, or a URL
    #[arg(short, long, value_name = "NAME")]
    pub connection: String,
    /// The table, with its schema where that is needed
    #[arg(short, long, value_name = "TABLE")]
    pub into: String,
    /// Make the table, with the types that the values have
    #[arg(long)]
    pub create: bool,
    /// The key of a table that is made; may be given several times
    #[arg(long, value_name = "COLUMN", requires = "create")]
    pub key: Vec<String>,
    /// Which column of the file goes into which of the table; FILE= leaves one out. May be given several times
    #[arg(long = "column", value_name = "FILE=TABLE")]
    pub columns: Vec<String>,
    /// What becomes of a row whose key is there already
    #[arg(long, value_name = "WHAT", default_value = "stop", value_parser = ["stop", "skip", "replace"])]
    pub on_conflict: String,
    /// Write rows that do not fit to this CSV file, each with the reason, and load the others
    #[arg(long, value_name = "FILE")]
    pub refused: Option<PathBuf>,
    /// Commit after so many rows, instead of all or none
    #[arg(long, value_name = "ROWS", value_parser = clap::value_parser!(u64).range(1..))]
    pub batch: Option<u64>,
    /// Say what was found and what would be loaded, and load nothing
    #[arg(long)]
    pub preview: bool,
    /// The format; without it the ending says, or the first bytes
    #[arg(short, long, value_name = "FORMAT", value_parser = ["csv", "tsv", "jsonl", "json", "parquet", "arrow", "xlsx", "ods"])]
    pub format: Option<String>,
    /// The sheet of a workbook; without it the first that has rows
    #[arg(long, value_name = "NAME")]
    pub sheet: Option<String>,
    /// What stands between fields: a character, or tab, comma, semicolon, pipe
    #[arg(long, value_name = "SIGN")]
    pub separator: Option<String>,
    /// What stands around fields that hold a separator
    #[arg(long, value_name = "SIGN")]
    pub quote: Option<String>,
    /// The encoding, such as utf-8, utf-16le or windows-1252
    #[arg(long, value_name = "NAME")]
    pub encoding: Option<String>,
    /// Whether the first row has the names
    #[arg(long, value_name = "YES", value_parser = ["yes", "no"])]
    pub header: Option<String>,
    /// A field that is NULL, beside one that is empty and has no quotes
    #[arg(long, value_name = "TEXT")]
    pub null: Option<String>,
    /// The order in which days are written
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
    /// The connection, by its name in a connections file, or a database file, or a URL
    #[arg(short, long, value_name = "NAME")]
    pub connection: String,
    /// Only these tables and views, with their schema where that is needed
    pub tables: Vec<String>,
    /// The file; without it standard output
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Without rows
    #[arg(long, conflicts_with = "only_rows")]
    pub only_structure: bool,
    /// Without definitions
    #[arg(long)]
    pub only_rows: bool,
    /// Back up the whole database into a file (SQLite)
    #[arg(long, requires = "output", conflicts_with_all = ["tables", "only_structure", "only_rows"])]
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
    /// The connection of the left side, by its name in a connections file, or a database file, or a URL
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
    #[arg(short, long, value_name = "TEXT", conflicts_with = "table")]
    pub statement: Option<String>,
    /// That of the right side, where it is another one
    #[arg(long, value_name = "TEXT", conflicts_with = "right_table")]
    pub right_statement: Option<String>,
    /// On the left the kept rows of a run, by its number in the log
    #[arg(long, value_name = "RUN", conflicts_with = "left")]
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
    /// The connection of the left side, by its name in a connections file, or a database file, or a URL
    #[arg(short, long, value_name = "NAME")]
    pub left: String,
    /// That of the right side; without it the same
    #[arg(short, long, value_name = "NAME")]
    pub right: Option<String>,
    /// Only this schema; without it all, or the one at hand where the two are of different kinds
    #[arg(short, long, value_name = "SCHEMA")]
    pub schema: Option<String>,
    /// That of the right side, where it has another name
    #[arg(long, value_name = "SCHEMA")]
    pub right_schema: Option<String>,
    #[command(flatten)]
    pub found: Found,
}

#[derive(Debug, clap::Args)]
#[command(after_help = EXIT_CODES)]
#[command(group = clap::ArgGroup::new("what").required(true).args(["statement", "place"]))]
pub struct Plan {
    /// The connection, by its name in a connections file
    #[arg(short, long, value_name = "NAME")]
    pub connection: String,
    /// The statement
    #[arg(short, long, value_name = "TEXT")]
    pub statement: Option<String>,
    /// A file, and the line that the statement stands at
    #[arg(value_name = "FILE:LINE")]
    pub place: Option<String>,
    /// Run it and measure what was estimated; a statement that may write is refused
    #[arg(short, long)]
    pub measured: bool,
    /// Draw it to this file as well, .svg or .pdf
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// A parameter's value, such as :from=Saltmarsh; may be given several times
    #[arg(short, long = "parameter", value_name = "NAME=VALUE")]
    pub parameters: Vec<String>,
    /// One JSON object: the steps with all that is known of them
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, clap::Args)]
#[command(after_help = EXIT_CODES)]
pub struct Schema {
    /// The connection, by its name in a connections file
    #[arg(short, long, value_name = "NAME")]
    pub connection: String,
    /// A table, whose neighbours are drawn too; without it all of the schema
    pub table: Option<String>,
    /// How far neighbours are drawn
    #[arg(short, long, default_value_t = 1)]
    pub depth: usize,
    /// The schema; without it the first that names are looked up in
    #[arg(short, long, value_name = "NAME")]
    pub schema: Option<String>,
    /// The file, .svg or .pdf
    #[arg(short, long, value_name = "FILE")]
    pub output: PathBuf,
}

/// Where rows go, and how they are written.
#[derive(Debug, clap::Args)]
pub struct Written {
    /// The format of the rows
    #[arg(short, long, value_parser = format_words(), value_name = "FORMAT")]
    pub format: Option<Format>,
    /// The file to write to; its ending sets the format unless --format does
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Options of the format: separator, quote, header, ends, null, formulas, nested, table or dialect; of a chart its
    /// kind, x, y, by, … (docs/out-lines.md); may be given several times
    #[arg(short = 'O', long = "option", value_name = "KEY=VALUE")]
    pub options: Vec<String>,
}

fn format_words() -> impl TypedValueParser<Value = Format> {
    let words = Format::ALL.map(|(_, word, _, help)| PossibleValue::new(word).help(help));
    PossibleValuesParser::new(words).map(|word| Format::from_word(&word).unwrap_or(Format::Table))
}

impl Written {
    /// The format: as it is named, or by the file's ending, or a table.
    pub fn format(&self) -> Format {
        let ending = || self.output.as_deref()?.extension()?.to_str().and_then(Format::from_ending);
        self.format.or_else(ending).unwrap_or(Format::Table)
    }

    /// The choices that the format leaves.
    pub fn options(&self, dialect: &'static Dialect) -> Result<Options, Failure> {
        let mut options = Options { dialect, ..Options::default() };
        if let Some(stem) = self.output.as_deref().and_then(Path::file_stem) {
            options.table = Some(stem.to_string_lossy().into_owned());
        }
        for option in &self.options {
            options.take(self.format(), option).map_err(|error| Failure::Usage(format!("--option: {error}")))?;
        }
        Ok(options)
    }
}

#[derive(Debug, clap::Args)]
#[command(after_help = EXIT_CODES)]
pub struct Log {
    /// Search statements, titles and errors; connection=…, database=…, outcome=…,
    /// day=2026-11, since=…, before=…
    pub query: Vec<String>,
    /// Only runs on this connection
    #[arg(short, long, value_name = "NAME")]
    pub connection: Option<String>,
    /// Only runs with this outcome
    #[arg(long, value_name = "OUTCOME", value_parser = ["running", "done", "failed", "stopped", "cut short"])]
    pub outcome: Option<String>,
    /// Only runs of this day: a date such as 2026-11-23, today or yesterday
    #[arg(short, long, value_name = "DAY")]
    pub day: Option<String>,
    /// At most this many, newest first
    #[arg(short = 'n', long, default_value_t = 50)]
    pub count: usize,
    /// One JSON object per line
    #[arg(long)]
    pub json: bool,
    /// Remove the listed runs and their rows instead of listing them
    #[arg(long)]
    pub remove: bool,
}

#[derive(Debug, clap::Args)]
#[command(after_help = EXIT_CODES)]
pub struct Rows {
    /// The run, by its number in the log; "last" is the latest
    pub run: String,
    /// The first row to write, from 1
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub from: u64,
    /// At most this many rows
    #[arg(long, value_name = "N")]
    pub count: Option<u64>,
    /// Which result, from 1, if there are several
    #[arg(long, value_name = "N", default_value_t = 1)]
    pub result: usize,
    #[command(flatten)]
    pub written: Written,
}

#[derive(Debug, clap::Args)]
#[command(
    after_help = "Each line has: start and end (byte offsets; the end is after the semicolon), line (from 1), title, kind (query, change, definition, transaction, setting, plan or other)."
)]
pub struct Statements {
    /// The file; "-" for standard input
    pub file: PathBuf,
    /// The dialect it is written in
    #[arg(short, long, default_value = "sqlite")]
    pub dialect: String,
}

#[derive(Debug, clap::Args)]
pub struct Buffers {
    /// Only their names, one a line
    #[arg(long, conflicts_with = "json")]
    pub names: bool,
    /// Print a line of JSON for each
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, clap::Args)]
#[command(after_help = EXIT_CODES)]
pub struct Connections {
    /// Print JSON
    #[arg(long, global = true)]
    pub json: bool,
    #[command(subcommand)]
    pub act: Option<ConnectionsAct>,
}

#[derive(Debug, Subcommand)]
pub enum ConnectionsAct {
    /// List all connections
    List {
        /// Only their names, one a line
        #[arg(long)]
        names: bool,
    },
    /// Connect, report what was found or which step failed, and disconnect
    Try {
        /// The connection, by its name, or a database file, or a URL
        name: String,
    },
    /// Add one to the connections file
    Add {
        /// Its name
        name: String,
        /// A URL, such as postgresql://clerk@quay.example/bookings
        url: Option<String>,
        #[command(flatten)]
        change: Change,
    },
    /// Change keys of a connection; comments in the file stay
    Edit {
        /// Which one
        name: String,
        /// A new name
        #[arg(long, value_name = "NAME")]
        rename: Option<String>,
        #[command(flatten)]
        change: Change,
    },
    /// Remove a connection from the file
    Remove {
        /// Which one
        name: String,
    },
}

#[derive(Debug, clap::Args)]
pub struct Change {
    /// The engine
    #[arg(short, long, value_name = "NAME")]
    pub engine: Option<String>,
    /// Sets a key; an empty value removes it. May be given several times
    #[arg(short, long = "set", value_name = "KEY=VALUE")]
    pub settings: Vec<String>,
    /// How the database is protected
    #[arg(short, long, value_name = "GUARD", value_parser = ["open", "ask", "read-only"])]
    pub guard: Option<String>,
    /// A note
    #[arg(short, long, value_name = "TEXT")]
    pub note: Option<String>,
    /// A word for the first line of the screen, such as production
    #[arg(long, value_name = "TEXT")]
    pub label: Option<String>,
    /// A group; profiles of one group are listed together
    #[arg(long, value_name = "TEXT")]
    pub group: Option<String>,
}

#[derive(Debug, clap::Args)]
pub struct Demo {
    /// Run the ten statements without a screen and print their results
    #[arg(long)]
    pub print: bool,
    /// Create the demonstration in this folder; by default in the state folder
    #[arg(long, value_name = "FOLDER")]
    pub folder: Option<PathBuf>,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    #[test]
    fn the_declaration_is_sound() {
        super::Args::command().debug_assert();
    }
}
