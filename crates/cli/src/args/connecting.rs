//! Connections.

use clap::Subcommand;

use super::EXIT_CODES;

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
    /// Add one to the project's connections file, or to your own where the project has none
    Add {
        /// Its name
        #[arg(value_name = "NEW")]
        name: String,
        /// A URL, such as postgresql://clerk@quay.example/bookings, or a database file
        url: Option<String>,
        /// Into the project's file, .jaunty/connections.toml, which is made in this folder if there is none above it
        #[arg(long)]
        project: bool,
        #[command(flatten)]
        change: Change,
    },
    /// Change keys of a connection; comments in the file stay
    Edit {
        /// Which one
        name: String,
        /// A new name
        #[arg(long, value_name = "NEW")]
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
    #[arg(short, long, value_name = "ENGINE")]
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
