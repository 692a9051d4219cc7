//! What happens when the server is gone.

use std::thread;

use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::{CatalogPart, Flow, Request, Session};
use jaunty_seam::error::ErrorKind;

use super::results::{run, run_and};
use crate::seen::Watch;
use crate::subject::{Cannot, Subject, Wanted, session};

/// A session that is gone says so, again and again.
fn is_gone(subject: &dyn Subject, session: &mut dyn Session) -> Result<(), Cannot> {
    assert!(!session.is_alive());
    for _ in 0..2 {
        let error = session.run(&Request::new(&subject.statement(Wanted::Rows(3))?), Watch::all().sink());
        assert_eq!(error.map_err(|error| error.kind), Err(ErrorKind::Lost));
    }
    Ok(())
}

/// Runs a statement, and lets the server vanish once `begun` says so.
fn vanishes_while(
    subject: &dyn Subject,
    statement: &str,
    watch: &Watch,
    begun: impl Fn(&Watch) -> bool,
) -> Result<(), Cannot> {
    let mut session = session(subject);
    let own = session.location().session;
    let request = Request::new(statement);
    let (outcome, vanished) = run_and(session.as_mut(), &request, watch, begun, || subject.vanish(&own));
    vanished?;
    let error = outcome.expect_err("the server is gone");
    assert_eq!(error.kind, ErrorKind::Lost, "{error}");
    assert!(watch.is_dropped());
    is_gone(subject, session.as_mut())
}

pub fn a_connection_that_went_away_at_rest_is_found(subject: &dyn Subject) -> Result<(), Cannot> {
    subject.vanishes()?;
    let mut session = session(subject);
    assert!(session.is_alive());
    subject.vanish(&session.location().session)?;
    // The news may take a moment.
    while session.is_alive() {
        thread::yield_now();
    }
    is_gone(subject, session.as_mut())
}

pub fn it_vanishes_while_silent(subject: &dyn Subject) -> Result<(), Cannot> {
    subject.vanishes()?;
    vanishes_while(subject, &subject.statement(Wanted::Silent)?, &Watch::all(), |_| true)
}

pub fn it_vanishes_while_rows_come(subject: &dyn Subject) -> Result<(), Cannot> {
    subject.vanishes()?;
    let watch = Watch::all();
    vanishes_while(subject, &subject.statement(Wanted::Endless)?, &watch, |watch| watch.seen().count() > 0)?;
    assert!(watch.seen().count() > 0, "rows that came stay");
    Ok(())
}

pub fn it_vanishes_while_it_is_held(subject: &dyn Subject) -> Result<(), Cannot> {
    subject.vanishes()?;
    let watch = Watch::holds(1000, Flow::Continue);
    vanishes_while(subject, &subject.statement(Wanted::Endless)?, &watch, |watch| watch.seen().waits > 0)
}

pub fn it_vanishes_inside_a_transaction(subject: &dyn Subject) -> Result<(), Cannot> {
    subject.vanishes()?;
    let mut session = session(subject);
    run(session.as_mut(), &subject.statement(Wanted::Begin)?);
    assert!(session.location().in_transaction());
    subject.vanish(&session.location().session)?;
    let error = session.run(&Request::new(&subject.statement(Wanted::Rows(3))?), Watch::all().sink());
    assert_eq!(error.map_err(|error| error.kind), Err(ErrorKind::Lost), "it is never silently begun again");
    Ok(())
}

pub fn it_vanishes_before_an_effect_is_known(subject: &dyn Subject) -> Result<(), Cannot> {
    subject.vanishes()?;
    subject.effects()?;
    let (statement, mut session) = (subject.statement(Wanted::Write)?, session(subject));
    run(session.as_mut(), &subject.statement(Wanted::MakeShelf)?);
    subject.vanish(&session.location().session)?;
    let effect = session.effect(&Request::new(&statement));
    // Some know it by the words alone.
    if let Err(error) = effect {
        assert_eq!(error.kind, ErrorKind::Lost, "{error}");
    }
    is_gone(subject, session.as_mut())
}

pub fn it_vanishes_before_the_catalog_is_read(subject: &dyn Subject) -> Result<(), Cannot> {
    subject.vanishes()?;
    let mut session = session(subject);
    subject.vanish(&session.location().session)?;
    let error = session.catalog(&CatalogPart::number(0), &mut Catalog::default()).expect_err("the server is gone");
    assert_eq!(error.kind, ErrorKind::Lost, "{error}");
    is_gone(subject, session.as_mut())
}
