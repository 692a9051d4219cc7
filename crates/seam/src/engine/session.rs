//! An open connection.

use std::path::Path;

use super::load::{self, Load, NextRows};
use super::{CatalogPart, Location, Request, Sink, Stop, Switch, SwitchKind};
use crate::catalog::{Catalog, Object};
use crate::error::{EngineError, ErrorKind};

/// An open connection. It does one thing at a time, on the thread that owns it.
///
/// **What holds for every method that takes a [`Stop`]**, by itself or in a request:
/// - When it is wished, the method returns within about a second, whatever the server does, and the server is told
///   to end what it does. The error is [`ErrorKind::Stopped`], or [`ErrorKind::Lost`] where the server did not hear
///   in time and the connection was given up. What was finished before the wish arrived counts as finished.
/// - When the connection breaks, the error is [`ErrorKind::Lost`], and every later call gives the same. The caller
///   drops the session and connects again.
/// - After any other error the session can be used, and is where [`Session::location`] says.
/// - Messages of a server are passed on as they are; the caller cleans them.
pub trait Session: Send {
    /// What it can do. The same for as long as it lives.
    fn abilities(&self) -> Abilities;

    /// Where it is, as far as is known without asking: after connecting, and after every call. Nothing is sent.
    fn location(&self) -> Location;

    /// Asks the server where the session is. For moments in which nothing else is to be done; called where
    /// [`Location::uncertain`] says so, and to measure a round trip. Inside a failed transaction it may give back
    /// what is known.
    fn locate(&mut self, stop: &Stop) -> Result<Location, EngineError>;

    /// What a statement would do, by the server's own word and without running it, with the values of the request.
    ///
    /// - Nothing is changed, and an open transaction stays as it is.
    /// - A statement that the server refuses gives the error that running it would give.
    /// - An engine that cannot ask answers [`Effect::Unknown`], and never [`Effect::Reads`] where it does not know.
    fn effect(&mut self, request: &Request<'_>) -> Result<Effect, EngineError>;

    /// Whether the server would take a statement, asked without running it. It is called in idle moments, never while
    /// a transaction is open.
    ///
    /// An error is what the server says is wrong; a server that takes long, or cannot be asked about this statement,
    /// is [`Verdict::Unknown`].
    fn check(&mut self, _request: &Request<'_>) -> Result<Verdict, EngineError> {
        Ok(Verdict::Unknown)
    }

    /// How the server reads a text in which a second statement may begin at byte `next`: asked before a
    /// statement runs whose end was told without a semicolon. Nothing is carried out, and an open transaction
    /// stays as it is.
    fn reading(&mut self, _request: &Request<'_>, _next: usize) -> Reading {
        Reading::Unknown
    }

    /// Runs one statement and pushes what comes into `sink`, in order.
    ///
    /// - Rows are pushed as they arrive: the first without waiting for more, then in batches of at
    ///   most [`crate::rows::BATCH_ROWS`] rows and about [`crate::rows::BATCH_BYTES`] bytes, and none is held back
    ///   for more than [`crate::rows::BATCH_DELAY`] while the server is working on the next.
    /// - Nothing is sent but the statement; what belongs to its own result may be asked (its warnings, and once a table
    ///   where its columns come from), and whether a read-only session still is one.
    /// - When the sink answers [`super::Flow::Stop`] the statement is ended as by a wish. Rows pushed before stay valid.
    /// - When it answers [`super::Flow::Hold`] the cursor is held and the connection kept alive for as long as that takes.
    /// - A parameter without a value is refused; so are values where the server takes none.
    fn run(&mut self, request: &Request<'_>, sink: Box<dyn Sink>) -> Result<(), EngineError>;

    /// Puts many rows into a table, in the quickest way that the server has; returns how many it took.
    ///
    /// - The caller begins and ends the transaction: after an error some rows may be there, and are rolled back by it.
    /// - A value of a column is its text as the server reads it, whatever the type of the rows; of bytes, hexadecimal
    ///   digits. A server that would change a value instead of refusing it has to be found out, and is an error.
    /// - `next` is called on this thread, and may wait. An error that it gives is returned as it is.
    fn load(&mut self, load: &Load<'_>, next: &mut NextRows<'_>) -> Result<u64, EngineError> {
        load::by_statements(self, load, next)
    }

    /// Copies the whole database into a file, in the server's own way: as it is at one moment, while others go on.
    ///
    /// - The file is there, and empty. After an error it is of no use; the caller removes it.
    /// - `told` hears how much is done, and of how much, in a unit of the server's.
    /// - Only an engine that has an [`super::Engine::ending_of_copies`] is asked.
    fn copy_into(&mut self, _path: &Path, _told: &mut dyn FnMut(u64, u64), _stop: &Stop) -> Result<(), EngineError> {
        Err(EngineError::new(ErrorKind::Refused, "this server has no backup of its own"))
    }

    /// Gives the statements that make again what is kept under names of a pattern (all, where it is empty), each of them
    /// whole and on one line, for an engine whose language has no tables.
    ///
    /// - Run where nothing or something else is, they make what was there when it was read: what has the same name is replaced.
    /// - Each name is as it was at one moment; there is no moment of all of them.
    /// - `take` is called on this thread, with each statement and how many names are done. An error that it gives is returned
    ///   as it is.
    fn remake(&mut self, _pattern: &str, _stop: &Stop, _take: &mut Statements<'_>) -> Result<Remade, EngineError> {
        Err(EngineError::new(ErrorKind::Refused, "what is kept here cannot be written as statements"))
    }

    /// Whether the connection is alive, as far as can be told without asking the server: a
    /// connection that the other side has closed is found here, not in the middle of the next run.
    fn is_alive(&mut self) -> bool {
        true
    }

    /// What can be switched, in the order in which it is offered.
    fn switches(&self) -> &'static [SwitchKind] {
        &[]
    }

    /// Goes somewhere else. `Ok(false)` means that this takes a new connection, whose profile has the new name under
    /// the key of the kind.
    fn switch(&mut self, _to: &Switch, _stop: &Stop) -> Result<bool, EngineError> {
        Ok(false)
    }

    /// The names that [`Session::switch`] could go to.
    fn choices(&mut self, _of: SwitchKind, _stop: &Stop) -> Result<Vec<String>, EngineError> {
        Ok(Vec::new())
    }

    /// Reads a part of what the database holds into `catalog`. `Ok(true)` means that there is another part. They are
    /// asked for in idle moments, in order: a statement that is to run waits for one part at the most.
    fn catalog(&mut self, part: &CatalogPart<'_>, catalog: &mut Catalog) -> Result<bool, EngineError>;

    /// Whether a statement that ran may have changed what the catalog tells, other than by a definition.
    fn changes_catalog(&self, _statement: &str) -> bool {
        false
    }

    /// Pushes the first rows of an object, to be looked at; the request gives them where the language has statements.
    fn first_rows(&mut self, _of: &Object, request: &Request<'_>, sink: Box<dyn Sink>) -> Result<(), EngineError> {
        self.run(request, sink)
    }

    /// The statement that makes an object, by the server's own word. `Ok(None)` means that this
    /// server gives none, and that one is to be made from what the catalog says.
    fn definition(&mut self, _of: &Object, _stop: &Stop) -> Result<Option<String>, EngineError> {
        Ok(None)
    }
}

/// Takes statements, one after the other, and how many names are done.
pub type Statements<'a> = dyn FnMut(&str, u64) -> Result<(), EngineError> + 'a;

/// What [`Session::remake`] wrote.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Remade {
    /// How many names.
    pub elements: u64,
    /// What could not be written, and why.
    pub left_out: Vec<String>,
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

/// What a server says of a statement that it did not run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// It would take it.
    Accepted,
    /// It cannot be asked about this one.
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

/// Refuses values, for an engine whose statements have no parameters.
pub fn refuse_values(request: &Request<'_>) -> Result<(), EngineError> {
    if request.values.is_empty() {
        return Ok(());
    }
    let message = "this database does not support parameters";
    Err(EngineError::new(ErrorKind::Refused, message).remedy("Write the values into the statement."))
}
