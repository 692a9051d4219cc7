//! The command line, declared once: the help and the man page come from here.

use std::path::PathBuf;

use clap::{Parser, Subcommand, ValueEnum};
use jaunty_core::export::Format;

const EXIT_CODES: &str = "Exit codes: 0 all went well; 1 the database refused, or could not be reached; 2 a mistake on the command line or in a file.";

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
    /// A buffer to open, a database file to look into, or a URL to connect to
    pub file: Option<PathBuf>,
    /// The connection to run statements on, by its name in a connections file
    #[arg(short, long, value_name = "NAME")]
    pub connection: Option<String>,
}

#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run statements without a screen, and write their rows
    Run(Run),
    /// Print each statement of a file as a line of JSON
    Statements(Statements),
    /// List, try and change connections; secrets are never shown
    Connections(Connections),
    /// List all keys of the screen
    Keys {
        /// As the Markdown document docs/keys.md
        #[arg(long)]
        markdown: bool,
    },
    /// Open the demonstration: an invented ferry company, made in seconds, nothing else needed
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
    /// A file of statements to run, "-" for standard input; with :LINE only the one at that line
    #[arg(value_name = "FILE[:LINE]")]
    pub file: Option<String>,
    /// How rows are written
    #[arg(short, long, value_enum)]
    pub format: Option<FormatArg>,
    /// Where rows are written; the file's ending tells the format unless --format does
    #[arg(short, long, value_name = "FILE")]
    pub output: Option<PathBuf>,
    /// Say yes to statements that write, on a connection that asks
    #[arg(short, long)]
    pub yes: bool,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum FormatArg {
    Table,
    Csv,
    Json,
    Jsonl,
    Markdown,
}

impl From<FormatArg> for Format {
    fn from(format: FormatArg) -> Format {
        match format {
            FormatArg::Table => Format::Table,
            FormatArg::Csv => Format::Csv,
            FormatArg::Json => Format::Json,
            FormatArg::Jsonl => Format::JsonLines,
            FormatArg::Markdown => Format::Markdown,
        }
    }
}

#[derive(Debug, clap::Args)]
#[command(
    after_help = "Each line has: start and end (byte offsets; the end is behind the semicolon), line (from 1), title, kind (query, change, definition, transaction, setting, plan or other)."
)]
pub struct Statements {
    /// The file; "-" for standard input
    pub file: PathBuf,
    /// The dialect it is written in
    #[arg(short, long, default_value = "sqlite")]
    pub dialect: String,
}

#[derive(Debug, clap::Args)]
#[command(after_help = EXIT_CODES)]
pub struct Connections {
    /// As JSON
    #[arg(long, global = true)]
    pub json: bool,
    #[command(subcommand)]
    pub act: Option<ConnectionsAct>,
}

#[derive(Debug, Subcommand)]
pub enum ConnectionsAct {
    /// List them
    List,
    /// Connect, say what was found or which step failed, and hang up
    Try {
        /// The connection, by its name, or a database file, or a URL
        name: String,
    },
    /// Write one into the connections file
    Add {
        /// What it will be called
        name: String,
        /// A URL, as postgresql://clerk@quay.example/bookings
        url: Option<String>,
        #[command(flatten)]
        change: Change,
    },
    /// Change keys of one; its comments stay
    Edit {
        /// Which one
        name: String,
        /// Another name for it
        #[arg(long, value_name = "NAME")]
        rename: Option<String>,
        #[command(flatten)]
        change: Change,
    },
    /// Take one out of the connections file
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
    /// Sets a key; an empty value takes it out. May be given several times
    #[arg(short, long = "set", value_name = "KEY=VALUE")]
    pub settings: Vec<String>,
    /// How the database is protected
    #[arg(short, long, value_name = "GUARD", value_parser = ["open", "ask", "read-only"])]
    pub guard: Option<String>,
    /// A remark for people
    #[arg(short, long, value_name = "TEXT")]
    pub note: Option<String>,
}

#[derive(Debug, clap::Args)]
pub struct Demo {
    /// Run the ten statements without a screen and print their results
    #[arg(long)]
    pub print: bool,
    /// Keep the demonstration in this folder; otherwise it lies in the state folder
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
