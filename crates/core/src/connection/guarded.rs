//! A session of a read-only profile. The server refuses writes; what it would let through is refused here, before
//! it is asked: statements that lift the guard, and those that write where no transaction reaches.

use std::sync::Arc;

use jaunty_language::dialect::Dialect;
use jaunty_language::statement::acts::{Acts, acts};
use jaunty_language::statement::parameters::Value;
use jaunty_seam::catalog::{Catalog, Object};
use jaunty_seam::engine::{Abilities, Canceller, Effect, Place, Reading, Session, Sink, Switch, SwitchKind};
use jaunty_seam::error::{EngineError, ErrorKind};

/// The session, and the language that its statements are in.
pub(super) struct Guarded {
    pub(super) session: Box<dyn Session>,
    pub(super) dialect: &'static Dialect,
}

impl Guarded {
    fn let_through(&self, statement: &str) -> Result<(), EngineError> {
        let Acts::Outside(what) = acts(statement, self.dialect) else { return Ok(()) };
        let message = format!("{what} is not run on a read-only connection: the server would not refuse it");
        Err(EngineError::new(ErrorKind::Refused, message)
            .remedy("To run it, open a profile of this database whose guard is ask or open."))
    }
}

impl Session for Guarded {
    fn abilities(&self) -> Abilities {
        self.session.abilities()
    }

    fn place(&mut self) -> Result<Place, EngineError> {
        self.session.place()
    }

    /// Whether a person has to be asked: where the words do not show what is carried out. All else the server
    /// refuses, or it is refused here.
    fn effect(&mut self, statement: &str, _: &[Value]) -> Result<Effect, EngineError> {
        Ok(if acts(statement, self.dialect) == Acts::Hidden { Effect::Unknown } else { Effect::Reads })
    }

    fn check(&mut self, statement: &str) -> Result<(), EngineError> {
        self.session.check(statement)
    }

    fn reading(&mut self, text: &str, next: usize) -> Reading {
        self.session.reading(text, next)
    }

    fn run(&mut self, statement: &str, sink: Box<dyn Sink>) -> Result<(), EngineError> {
        self.let_through(statement)?;
        self.session.run(statement, sink)
    }

    fn run_with(&mut self, statement: &str, values: &[Value], sink: Box<dyn Sink>) -> Result<(), EngineError> {
        self.let_through(statement)?;
        self.session.run_with(statement, values, sink)
    }

    fn stands(&mut self) -> bool {
        self.session.stands()
    }

    fn switch(&mut self, to: &Switch) -> Result<bool, EngineError> {
        self.session.switch(to)
    }

    fn choices(&mut self, of: SwitchKind) -> Result<Vec<String>, EngineError> {
        self.session.choices(of)
    }

    fn catalog(&mut self, part: usize, catalog: &mut Catalog) -> Result<bool, EngineError> {
        self.session.catalog(part, catalog)
    }

    fn changes_catalog(&self, statement: &str) -> bool {
        self.session.changes_catalog(statement)
    }

    fn first_rows(&mut self, of: &Object, statement: &str, sink: Box<dyn Sink>) -> Result<(), EngineError> {
        self.let_through(statement)?;
        self.session.first_rows(of, statement, sink)
    }

    fn definition(&mut self, of: &Object) -> Result<Option<String>, EngineError> {
        self.session.definition(of)
    }

    fn canceller(&self) -> Arc<dyn Canceller> {
        self.session.canceller()
    }
}
