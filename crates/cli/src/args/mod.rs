//! The command line, declared once: the help and the man page come from here.

mod changing;
mod connecting;
mod running;

use std::path::PathBuf;

use clap::{Parser, Subcommand};

pub use changing::{Compare, CompareRows, CompareStructure, Dump, Load};
pub use connecting::{Change, Connections, ConnectionsAct};
pub use running::{Buffers, Log, Plan, Rows, Run, Schema, Statements, file_of};

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
    /// A buffer to open, by its file or its name (`jaunty buffers`); a database file, a URL or the name of a connection
    /// to connect to; or a file of rows to load, such as ports.csv
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
    /// List what a database holds, describe a table, or draw tables with what they reference, as SVG or PDF
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
        /// Only those of actions with these words, or of a key such as ctrl-g
        #[arg(value_name = "WORD", conflicts_with_all = ["markdown", "json"])]
        words: Vec<String>,
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
