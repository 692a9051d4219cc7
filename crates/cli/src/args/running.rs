//! What runs statements, and what looks at what ran.

use std::path::{Path, PathBuf};

use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use jaunty_core::export::{Format, Options};
use jaunty_language::dialect::Dialect;
use jaunty_language::text::clean::clean;

use super::EXIT_CODES;
use crate::failure::Failure;

#[derive(Debug, clap::Args)]
#[command(after_help = EXIT_CODES)]
pub struct Run {
    /// The connection, by its name, or a database file, or a URL; without it, the one that a comment at the top of the file names
    #[arg(short, long, value_name = "NAME")]
    pub connection: Option<String>,
    /// Statements to run; "-" reads them from standard input
    #[arg(short, long, value_name = "TEXT", allow_hyphen_values = true)]
    pub statement: Option<String>,
    /// A file of statements to run, or a buffer by its name, "-" for standard input, which is read without it, too; with :LINE only the one at that line, of program code too
    #[arg(value_name = "FILE[:LINE]")]
    pub file: Option<String>,
    #[command(flatten)]
    pub written: Written,
    /// The encoding of the file, such as windows-1252; without it that of its mark, or UTF-8
    #[arg(long, value_name = "ENCODING", conflicts_with = "statement")]
    pub encoding: Option<String>,
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
    /// Do not report on standard error what a statement changed
    #[arg(long, short)]
    pub quiet: bool,
}

#[derive(Debug, clap::Args)]
#[command(after_help = EXIT_CODES)]
#[command(group = clap::ArgGroup::new("what").required(true).args(["statement", "place"]))]
pub struct Plan {
    /// The connection, by its name, or a database file, or a URL; without it, the one that a comment at the top of the file names
    #[arg(short, long, value_name = "NAME")]
    pub connection: Option<String>,
    /// The statement
    #[arg(short, long, value_name = "TEXT", allow_hyphen_values = true)]
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
    /// One JSON object: the steps with all their details
    #[arg(long)]
    pub json: bool,
}

#[derive(Debug, clap::Args)]
#[command(after_help = EXIT_CODES)]
pub struct Schema {
    /// The connection, by its name, or a database file, or a URL; it may also stand first
    #[arg(short, long, value_name = "NAME")]
    pub connection: Option<String>,
    /// The connection, unless --connection names it; then a table, a schema, or another object; without one all of them
    #[arg(value_names = ["NAME", "TABLE"], num_args = 0..=2)]
    pub words: Vec<String>,
    /// How far neighbours of a table are drawn
    #[arg(short, long, default_value_t = 1)]
    pub depth: usize,
    /// The schema; by default the first of the search path
    #[arg(short, long, value_name = "SCHEMA")]
    pub schema: Option<String>,
    /// Draw it to this file, .svg or .pdf
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Print JSON
    #[arg(long, conflicts_with = "output")]
    pub json: bool,
}

/// Where rows go, and how they are written.
#[derive(Debug, clap::Args)]
pub struct Written {
    /// The format of the rows
    #[arg(short, long, value_parser = format_words(), value_name = "FORMAT")]
    format: Option<Format>,
    /// The rows as a JSON array: --format json
    #[arg(long, conflicts_with = "format")]
    json: bool,
    /// The file to write to, "-" for standard output; its ending sets the format unless --format does
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// Options of the format: separator, quote, header, ends, null, formulas, nested, table or dialect; of a chart its
    /// kind, x, y, by, … (docs/out-lines.md); may be given several times
    #[arg(short = 'O', long = "option", value_name = "KEY=VALUE")]
    pub options: Vec<String>,
}

/// A file that is written to; none for standard output, which may be written as `-`.
pub fn file_of(path: Option<&Path>) -> Option<&Path> {
    path.filter(|path| *path != Path::new("-"))
}

fn format_words() -> impl TypedValueParser<Value = Format> {
    let words = Format::ALL.map(|(_, word, _, help)| PossibleValue::new(word).help(help));
    PossibleValuesParser::new(words).map(|word| Format::from_word(&word).unwrap_or(Format::Table))
}

impl Written {
    /// The format: as it is named, or by the file's ending, or a table.
    pub fn format(&self) -> Format {
        let ending = || self.output()?.extension()?.to_str().and_then(Format::from_ending);
        let told = self.json.then_some(Format::Json).or(self.format);
        told.or_else(ending).unwrap_or(Format::Table)
    }

    /// The file that rows go to; none for standard output.
    pub fn output(&self) -> Option<&Path> {
        file_of(self.output.as_deref())
    }

    /// The choices that the format leaves. A file with an ending that no format has needs the format's name: a slip such as
    /// `rows.cvs` would be a table.
    pub fn options(&self, dialect: &'static Dialect) -> Result<Options, Failure> {
        let ending = self.output().and_then(Path::extension).map(|ending| ending.to_string_lossy());
        if let Some(ending) = ending.filter(|ending| Format::from_ending(ending).is_none())
            && self.format.is_none()
            && !self.json
        {
            let known: Vec<_> = Format::ALL.iter().filter_map(|(_, _, endings, _)| endings.first().copied()).collect();
            let what = format!(
                "\"{}\" is not an ending of a known format; --format names one, or use .{}",
                clean(&ending),
                known.join(", .")
            );
            return Err(Failure::Usage(what));
        }
        let mut options = Options { dialect, ..Options::default() };
        if let Some(stem) = self.output().and_then(Path::file_stem) {
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
    #[arg(default_value = "last")]
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
