//! The two traits behind which databases are talked to: [`Engine`] (a kind of database) and [`Session`] (one open
//! connection).
//!
//! Everything above (runs, archives, the screen) talks to these and knows no database by name. Everything below is
//! one module per engine in `jaunty-engines`.
//!
//! **Threads.** A session is synchronous and belongs to one thread, which its caller makes for it; a driver that is
//! asynchronous keeps a runtime of its own behind the trait. Only a [`Stop`] reaches into it from another thread.
//!
//! **Rows are pushed** into a [`Sink`], as [`Event`]s in the order in which the server sent them. A sink that does
//! not return holds the server back, so nothing piles up in memory, and a held cursor is a sink that has not returned
//! yet.
//!
//! **To add an engine**: write its module in `jaunty-engines`, a line in the table there, and a line in the
//! conformance suite (`crates/engines/tests/conformance.rs`), which holds it to every contract below.

pub mod load;
mod location;
mod prompt;
mod request;
mod session;
mod sink;
mod stop;
mod strings;

use jaunty_language::dialect::Dialect;

use crate::error::EngineError;
use crate::profile::{Profile, Secret};

pub use location::{Location, Switch, SwitchKind, Transaction};
pub use prompt::{NoPrompt, Prompt, Question};
pub use request::{Attempt, CatalogPart, Request, Rows};
pub use session::{Abilities, Effect, Reading, Remade, Session, Statements, Touches, Verdict, refuse_values};
pub use sink::{Event, Flow, Message, Progress, Sink};
pub use stop::{Armed, Stop};
pub use strings::{Says, Strings};

/// A way of talking to a kind of database. There is one value of it for the whole program.
pub trait Engine: Send + Sync {
    /// The name that profiles use.
    fn name(&self) -> &'static str;

    /// The dialect of its databases, unless the profile names another.
    fn dialect(&self) -> &'static Dialect;

    /// What a person reads where engines are offered, as `PostgreSQL`.
    fn title(&self) -> &'static str {
        self.name()
    }

    /// The keys that a profile of this engine may have beside the general ones, in the order in
    /// which a form asks for them.
    fn keys(&self) -> &'static [Key];

    /// What URLs of its databases begin with, as `postgresql`. The first is the usual one.
    fn schemes(&self) -> &'static [&'static str] {
        &[]
    }

    /// What its drivers call the keys of a profile in connection strings that are no URLs.
    fn strings(&self) -> Option<&'static Strings> {
        None
    }

    /// A statement that shows what an object holds. `schema` and `name` are as in [`crate::catalog::Object`];
    /// `here` is the schema that plain names are looked up in.
    fn preview_statement(&self, schema: &str, name: &str, here: &str) -> String {
        let dialect = self.dialect();
        let name = dialect.name_as_written(name);
        if schema == here || schema.is_empty() {
            return format!("select * from {name}");
        }
        // A schema may lie in something else: its name has as many parts as there are levels.
        let schema: Vec<_> = schema.split('.').map(|part| dialect.name_as_written(part)).collect();
        format!("select * from {}.{name}", schema.join("."))
    }

    /// The secret that the files of the server's own clients have for this profile.
    fn secret_on_file(&self, _profile: &Profile) -> Option<Secret> {
        None
    }

    /// Whether a file looks like one of its databases, told by its first bytes.
    fn sniff(&self, _head: &[u8]) -> bool {
        false
    }

    /// Whether what a session of this profile sees is seen by no other, as with a database in memory: work in a session of
    /// its own would be about nothing.
    fn is_private(&self, _profile: &Profile) -> bool {
        false
    }

    /// The ending of a file that holds a copy of a whole database, where a session makes one ([`Session::copy_into`]).
    fn ending_of_copies(&self) -> Option<&'static str> {
        None
    }

    /// Profiles that the files of the server's own clients describe, and where they stand.
    fn profiles_on_file(&self) -> Vec<(Profile, String)> {
        Vec::new()
    }

    /// How container images of it are set up.
    fn container(&self) -> Container {
        Container { variables: &[], usual: &[] }
    }

    /// Opens a session.
    ///
    /// - Promises that the database answers: a file is one of its databases, a server has let the user in, and
    ///   [`Session::location`] is known. A profile with the `read-only` guard gets a session whose *server* refuses
    ///   writes.
    /// - May ask for more than the secret of the attempt (a one-time code, a page to be opened) through its prompt,
    ///   any number of times; an answer of `None` gives the attempt up.
    /// - An error says at which step it failed, and what to do. [`crate::error::Step::Secret`] means that the
    ///   secret is missing or wrong, and that a person may be asked for another.
    /// - When the attempt is stopped the error is [`crate::error::ErrorKind::Stopped`], within a second, whatever
    ///   the network does; nothing is left open.
    fn connect(&self, attempt: &Attempt<'_>) -> Result<Box<dyn Session>, EngineError>;
}

/// How container images of an engine are set up.
#[derive(Debug, Clone, Copy)]
pub struct Container {
    /// Variables of the environment, each with the key of a profile that it fills. Of several for one key the first
    /// that is there counts.
    pub variables: &'static [(&'static str, &'static str)],
    /// Keys with what the image takes where nothing is said.
    pub usual: &'static [(&'static str, &'static str)],
}

/// A key of a profile that one engine understands.
#[derive(Debug, Clone, Copy)]
pub struct Key {
    /// Its name in the file.
    pub name: &'static str,
    /// Whether the engine cannot do without it.
    pub required: bool,
    /// One line of help.
    pub help: &'static str,
    /// What is taken where it is not given, as a person would write it.
    pub usual: &'static str,
    /// What may stand there.
    pub takes: Takes,
    /// Whether a form shows it at once; the others come on request.
    pub common: bool,
}

impl Key {
    /// A key that a form shows at once.
    pub const fn common(name: &'static str, takes: Takes, usual: &'static str, help: &'static str) -> Key {
        Key { name, required: false, help, usual, takes, common: true }
    }

    /// A key without which there is nothing.
    pub const fn needed(name: &'static str, takes: Takes, help: &'static str) -> Key {
        Key { required: true, ..Key::common(name, takes, "", help) }
    }

    /// A key for those who need it.
    pub const fn rare(name: &'static str, takes: Takes, usual: &'static str, help: &'static str) -> Key {
        Key { common: false, ..Key::common(name, takes, usual, help) }
    }
}

/// What may stand under a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Takes {
    /// Any text.
    Text,
    /// A whole number in this range.
    Number(i64, i64),
    /// True or false.
    Flag,
    /// The path of a file or folder.
    Path,
    /// One of these words.
    Word(&'static [&'static str]),
}
