//! What an engine gives the suite.

use jaunty_seam::engine::{Attempt, Engine, NoPrompt, Session, Stop};
use jaunty_seam::error::EngineError;
use jaunty_seam::profile::{Guard, Profile, Secret};

/// Why a server cannot show a contract.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cannot(pub &'static str);

/// A statement that a case needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wanted {
    /// So many rows whose first column counts from 1.
    Rows(u64),
    /// A result without rows.
    NoRows,
    /// Rows without an end.
    Endless,
    /// It keeps the server busy without an end and without a row.
    Silent,
    /// Two results with columns, of one row each: 1, and 2.
    TwoResults,
    /// A message that says `fog`, and then a result.
    MessageThenRow,
    /// It cannot be read, or names what is not there.
    Mistake,
    /// Some rows, and then an error.
    RowsThenMistake,
    /// One row with a text of so many bytes.
    Huge(usize),
    /// Makes the thing that [`Wanted::Write`] writes to, anew.
    MakeShelf,
    /// Adds something to it.
    Write,
    /// Counts what is in it, as one row with one number.
    CountShelf,
    /// A change of it whose effect takes without an end to find out.
    EndlessEffect,
    /// Begins a transaction.
    Begin,
    /// Rolls it back.
    RollBack,
    /// A query with the parameter `:a`, which gives it back.
    WithValue,
    /// Two lines: a query, and what the server reads as a part of it.
    GoesOn,
    /// Two lines: a query, and another.
    TwoStatements,
}

/// An engine, a server of its own, and the statements of its language.
pub trait Subject: Send + Sync {
    /// Its name.
    fn name(&self) -> &'static str;

    /// The engine.
    fn engine(&self) -> &'static dyn Engine;

    /// A profile of a database that one may write to.
    fn profile(&self) -> Profile;

    /// Its secret.
    fn secret(&self) -> Option<Secret>;

    /// The same profile for a server at another port of this machine.
    fn at_port(&self, port: u16) -> Result<Profile, Cannot>;

    /// The statement for what a case needs.
    fn statement(&self, wanted: Wanted) -> Result<String, Cannot>;

    /// Values of every kind: a query of one row, and what its columns read as.
    fn values(&self) -> Result<(String, Vec<String>), Cannot>;

    /// Whether sessions can be ended from the server's side.
    fn vanishes(&self) -> Result<(), Cannot> {
        Ok(())
    }

    /// Ends a session from the server's side. `session` is what [`jaunty_seam::engine::Location::session`] says.
    fn vanish(&self, session: &str) -> Result<(), Cannot>;

    /// How many statements of this session the server has been asked, where it tells.
    fn asked(&self, session: &str) -> Result<u64, Cannot>;

    /// Whether the server itself has an answer to what a statement would do.
    fn effects(&self) -> Result<(), Cannot> {
        Ok(())
    }

    /// A profile whose server wants a one-time code, and that code.
    fn one_time_code(&self) -> Result<(Profile, &'static str), Cannot> {
        Err(Cannot("this server wants no one-time code"))
    }

    /// A statement of five rows, of which those after the second have another column, and the last one two more.
    fn late_columns(&self) -> Result<String, Cannot> {
        Err(Cannot("this server knows all columns of a result before its first row"))
    }

    /// A statement that tells progress, an id and output values.
    fn everything_beside_rows(&self) -> Result<String, Cannot> {
        Err(Cannot("this server tells neither progress nor ids, and has no output values"))
    }
}

/// Opens a session with this guard.
pub(crate) fn session_guarded(subject: &dyn Subject, guard: Guard) -> Box<dyn Session> {
    let profile = subject.profile().guarded(guard);
    connect(subject, &profile, &Stop::default()).unwrap_or_else(|error| panic!("{}: {error}", subject.name()))
}

/// Opens a session.
pub(crate) fn session(subject: &dyn Subject) -> Box<dyn Session> {
    session_guarded(subject, Guard::Open)
}

/// Tries to open one.
pub(crate) fn connect(subject: &dyn Subject, profile: &Profile, stop: &Stop) -> Result<Box<dyn Session>, EngineError> {
    let secret = subject.secret();
    let attempt = Attempt { profile, secret: secret.as_ref(), prompt: &NoPrompt, stop: stop.clone() };
    subject.engine().connect(&attempt)
}
