//! The seam between the program and databases.
//!
//! Everything above it (runs, archives, the screen) talks to [`Engine`] and [`Session`] and knows
//! no database by name. Everything below is one module per engine in `jaunty-engines`.
//!
//! **Threads.** A session is synchronous and belongs to one thread, which [`jaunty_core::run`] makes for
//! it; a driver that is asynchronous keeps a runtime of its own behind this trait. Only
//! [`Canceller`] is called from elsewhere. Rows are *pushed* into a [`Sink`]: a sink that does not
//! return holds the server back, so nothing piles up in memory, and a held cursor is simply a sink
//! that has not returned yet.
//!
//! **Rows** are Arrow record batches. What Arrow has no type for travels as text or JSON, and
//! every field tells the database's own type name in its metadata ([`DB_TYPE`]).

use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;

use crate::catalog::{Catalog, Object};
use crate::error::{EngineError, ErrorKind};
use crate::profile::{Profile, Secret};
use jaunty_language::dialect::Dialect;
use jaunty_language::statement::parameters::Value;

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

    /// A statement that shows what an object holds. `schema` and `name` are as in [`Object`];
    /// `here` is the schema that plain names are looked up in.
    fn look_at(&self, schema: &str, name: &str, here: &str) -> String {
        let dialect = self.dialect();
        let name = dialect.name_as_written(name);
        if schema == here || schema.is_empty() {
            return format!("select * from {name}");
        }
        format!("select * from {}.{name}", dialect.name_as_written(schema))
    }

    /// The secret that the files of the server's own clients have for this profile.
    fn secret_on_file(&self, _profile: &Profile) -> Option<Secret> {
        None
    }

    /// Whether a file looks like one of its databases, told by its first bytes.
    fn recognises(&self, _head: &[u8]) -> bool {
        false
    }

    /// Profiles that the files of the server's own clients describe, and where they stand.
    fn profiles_on_file(&self) -> Vec<(Profile, String)> {
        Vec::new()
    }

    /// Opens a session.
    ///
    /// Promises that the database answers: a file is one of its databases, a server has let the
    /// user in. An error says at which step it failed, and what to do. A profile with the
    /// `read-only` guard gets a session whose *server* refuses writes.
    fn connect(&self, profile: &Profile, secret: Option<&Secret>) -> Result<Box<dyn Session>, EngineError>;
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

/// An open connection.
pub trait Session: Send {
    /// What it can do.
    fn abilities(&self) -> Abilities;

    /// Where it is: asked after connecting and after every run, so it must be cheap.
    fn place(&mut self) -> Result<Place, EngineError>;

    /// What a statement would do, by the server's own word and without running it.
    ///
    /// A statement that the server refuses gives the error that running it would give. An engine
    /// that cannot ask answers [`Effect::Unknown`].
    fn effect(&mut self, statement: &str, values: &[Value]) -> Result<Effect, EngineError>;

    /// Whether the server would take a statement, asked without running it. One that cannot be asked
    /// about is taken. It is not called while a transaction is open.
    fn check(&mut self, _statement: &str) -> Result<(), EngineError> {
        Ok(())
    }

    /// How the server reads a text in which a second statement may begin at byte `next`: asked before a
    /// statement runs whose end was told without a semicolon. Nothing is carried out, and an open transaction
    /// stays as it is.
    fn reading(&mut self, _text: &str, _next: usize) -> Reading {
        Reading::Unknown
    }

    /// Runs one statement and pushes what comes into `sink`, in order: any number of results, each
    /// either [`Sink::columns`] and then batches, or one [`Sink::affected`]; notices at any time.
    ///
    /// - Rows are pushed as they arrive: the first without waiting for more, then in batches of at
    ///   most [`BATCH_ROWS`] rows and about [`BATCH_BYTES`] bytes, and none is held back for more
    ///   than [`BATCH_DELAY`] while the server is working on the next.
    /// - A batch may carry a schema in which columns have become wider than announced
    ///   ([`crate::rows::widen`]); names and order never change.
    /// - When the sink answers [`Flow::Stop`], or the session is cancelled, the statement is ended
    ///   on the server and the error is [`ErrorKind::Stopped`]. Rows pushed before stay valid.
    /// - After an error the session can be used again, unless the error is [`ErrorKind::Lost`].
    fn run(&mut self, statement: &str, sink: Box<dyn Sink>) -> Result<(), EngineError>;

    /// [`Session::run`] with values for the statement's parameters ([`jaunty_language::statement::parameters`]). They
    /// are sent beside the text. A parameter without a value is refused.
    fn run_with(&mut self, statement: &str, values: &[Value], sink: Box<dyn Sink>) -> Result<(), EngineError> {
        if values.is_empty() {
            return self.run(statement, sink);
        }
        let message = "this database does not support parameters";
        Err(EngineError::new(ErrorKind::Refused, message).remedy("Write the values into the statement."))
    }

    /// Whether the connection still stands, as far as can be told without asking the server: a
    /// connection that the other side has closed is found here, not in the middle of the next run.
    fn stands(&mut self) -> bool {
        true
    }

    /// Goes to another database or schema, or takes on a role. `Ok(false)` means that this takes a
    /// new connection.
    fn switch(&mut self, _to: &Switch) -> Result<bool, EngineError> {
        Ok(false)
    }

    /// The names that [`Session::switch`] could go to.
    fn choices(&mut self, _of: SwitchKind) -> Result<Vec<String>, EngineError> {
        Ok(Vec::new())
    }

    /// Reads a part of what the database holds into `catalog`. Parts are numbered from 0, and
    /// `Ok(true)` means that there is another. They are asked for in idle moments, in order: a
    /// statement that is to run waits for one part at the most.
    fn catalog(&mut self, part: usize, catalog: &mut Catalog) -> Result<bool, EngineError>;

    /// Whether a statement that ran may have changed what the catalog tells, other than by a definition.
    fn changes_catalog(&self, _statement: &str) -> bool {
        false
    }

    /// Pushes the first rows of an object, to be looked at; `statement` gives them where the language has one.
    fn first_rows(&mut self, _of: &Object, statement: &str, sink: Box<dyn Sink>) -> Result<(), EngineError> {
        self.run(statement, sink)
    }

    /// The statement that makes an object, by the server's own word. `Ok(None)` means that this
    /// server gives none, and that [`jaunty_core::catalog::templates`] has to make one from what is known.
    fn definition(&mut self, _of: &Object) -> Result<Option<String>, EngineError> {
        Ok(None)
    }

    /// A handle by which another thread ends what runs.
    fn canceller(&self) -> Arc<dyn Canceller>;
}

/// Ends a running statement from another thread.
pub trait Canceller: Send + Sync {
    /// Asks the server to end what runs. Returns at once; does nothing when nothing runs.
    fn cancel(&self);
}

/// What receives the results of a statement.
pub trait Sink: Send {
    /// Whether anything is still wanted. An engine that can asks while the server keeps it waiting,
    /// so that a statement stops even when no row comes.
    fn wanted(&self) -> Flow;
    /// A result with columns begins.
    fn columns(&mut self, schema: SchemaRef) -> Flow;
    /// Rows of the result that began last.
    fn batch(&mut self, batch: RecordBatch) -> Flow;
    /// A result without columns: how many rows were touched, where the server tells.
    fn affected(&mut self, rows: Option<u64>) -> Flow;
    /// Something the server says beside its results.
    fn notice(&mut self, notice: Notice);
}

/// Whether to go on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Flow {
    /// More, please.
    GoOn,
    /// End the statement.
    Stop,
}

/// A message from the server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Notice {
    /// How grave the server says it is, in its own word.
    pub severity: String,
    /// What it says.
    pub text: String,
}

/// What a session can do.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Abilities {
    /// A running statement can be ended without losing the session.
    pub cancel: bool,
    /// There are transactions.
    pub transactions: bool,
    /// The server itself refuses writes when told to.
    pub read_only: bool,
    /// [`Session::effect`] knows the answer.
    pub effect: bool,
    /// One statement may give several results.
    pub several_results: bool,
}

/// What a statement does to the database.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Effect {
    /// It only reads.
    Reads,
    /// It writes.
    Writes(Touches),
    /// The server cannot be asked.
    Unknown,
}

/// How a server reads a text that may be one statement or several without a semicolon between them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reading {
    /// As one statement.
    One,
    /// It stops where the first ends, or before: what comes after is another.
    Shorter,
    /// It reads on past the first, but not to the end of the text.
    Further,
    /// It cannot be asked.
    Unknown,
}

impl Reading {
    /// What a mistake of syntax says of a text whose second statement would begin at byte `next`. Where the
    /// server does not tell the place, it may have read on.
    pub fn stopped_at(place: Option<usize>, next: usize) -> Reading {
        if place.is_some_and(|place| place <= next) { Reading::Shorter } else { Reading::Further }
    }
}

/// How much a statement that writes would touch.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Touches {
    /// How many rows.
    pub rows: Option<u64>,
    /// Whether the rows were counted, and not estimated by the server.
    pub counted: bool,
    /// Whether it is an `UPDATE` or `DELETE` without a condition.
    pub everything: bool,
}

/// Somewhere else on the same server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Switch {
    /// What is changed.
    pub kind: SwitchKind,
    /// The name of the new one.
    pub to: String,
}

/// What can be changed while connected.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SwitchKind {
    /// The database.
    Database,
    /// The schema that plain names are looked up in.
    Schema,
    /// The role, whose rights count.
    Role,
}

impl SwitchKind {
    /// The trade's word for it.
    pub fn word(self) -> &'static str {
        match self {
            SwitchKind::Database => "database",
            SwitchKind::Schema => "schema",
            SwitchKind::Role => "role",
        }
    }
}

/// Where a session is. What an engine does not have stays empty.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Place {
    /// The server's name and version, as `sqlite 3.51.1`.
    pub server: String,
    /// The database: a name, or a file's name.
    pub database: String,
    /// The schema that plain names are looked up in.
    pub schema: String,
    /// Who is connected, or the role that was taken on.
    pub user: String,
    /// The server's own number of this session, as `process 4711`: what its log and its list of sessions call
    /// it. Empty inside this process.
    pub session: String,
    /// The way to the server, as `TLSv1.3, verified`; empty inside this process.
    pub way: String,
    /// The open transaction, if there is one.
    pub transaction: Option<Transaction>,
    /// Whether a read-only session has been told to let writes through, and could not be told otherwise again.
    pub guard_lifted: bool,
}

impl Place {
    /// Whether a transaction is open.
    pub fn in_transaction(&self) -> bool {
        self.transaction.is_some()
    }
}

/// An open transaction.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Transaction {
    /// It can go on.
    Open,
    /// Something in it failed, and the server refuses all but its end.
    Failed,
}
