//! A session of a read-only profile. The server refuses writes; what it would let through is refused here, before
//! it is asked: statements that lift the guard, and those that write where no transaction reaches.

use std::path::Path;

use jaunty_language::dialect::Dialect;
use jaunty_language::statement::acts::{Acts, acts};
use jaunty_seam::catalog::{Catalog, Object};
use jaunty_seam::engine::load::{Load, NextRows};
use jaunty_seam::engine::{
    Abilities, CatalogPart, Effect, Location, Reading, Remade, Request, Session, Sink, Statements, Stop, Switch,
    SwitchKind, Verdict,
};
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

    fn location(&self) -> Location {
        self.session.location()
    }

    fn locate(&mut self, stop: &Stop) -> Result<Location, EngineError> {
        self.session.locate(stop)
    }

    /// Whether a person has to be asked: where the words do not show what is carried out. All else the server
    /// refuses, or it is refused here.
    fn effect(&mut self, request: &Request<'_>) -> Result<Effect, EngineError> {
        Ok(if acts(request.text, self.dialect) == Acts::Hidden { Effect::Unknown } else { Effect::Reads })
    }

    fn check(&mut self, request: &Request<'_>) -> Result<Verdict, EngineError> {
        self.session.check(request)
    }

    fn reading(&mut self, request: &Request<'_>, next: usize) -> Reading {
        self.session.reading(request, next)
    }

    fn run(&mut self, request: &Request<'_>, sink: Box<dyn Sink>) -> Result<(), EngineError> {
        self.let_through(request.text)?;
        self.session.run(request, sink)
    }

    fn load(&mut self, _: &Load<'_>, _: &mut NextRows<'_>) -> Result<u64, EngineError> {
        Err(EngineError::new(ErrorKind::Refused, "nothing is loaded on a read-only connection"))
    }

    fn copy_into(&mut self, path: &Path, told: &mut dyn FnMut(u64, u64), stop: &Stop) -> Result<(), EngineError> {
        self.session.copy_into(path, told, stop)
    }

    fn remake(&mut self, pattern: &str, stop: &Stop, take: &mut Statements<'_>) -> Result<Remade, EngineError> {
        self.session.remake(pattern, stop, take)
    }

    fn is_alive(&mut self) -> bool {
        self.session.is_alive()
    }

    fn switches(&self) -> &'static [SwitchKind] {
        self.session.switches()
    }

    fn switch(&mut self, to: &Switch, stop: &Stop) -> Result<bool, EngineError> {
        self.session.switch(to, stop)
    }

    fn choices(&mut self, of: SwitchKind, stop: &Stop) -> Result<Vec<String>, EngineError> {
        self.session.choices(of, stop)
    }

    fn catalog(&mut self, part: &CatalogPart<'_>, catalog: &mut Catalog) -> Result<bool, EngineError> {
        self.session.catalog(part, catalog)
    }

    fn changes_catalog(&self, statement: &str) -> bool {
        self.session.changes_catalog(statement)
    }

    fn first_rows(&mut self, of: &Object, request: &Request<'_>, sink: Box<dyn Sink>) -> Result<(), EngineError> {
        self.let_through(request.text)?;
        self.session.first_rows(of, request, sink)
    }

    fn definition(&mut self, of: &Object, stop: &Stop) -> Result<Option<String>, EngineError> {
        self.session.definition(of, stop)
    }
}
