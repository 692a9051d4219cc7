//! What a wish to stop does.

use std::thread;

use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::{CatalogPart, Flow, Request, Session, Stop};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::Setting;

use super::results::{goes_on, run, run_and};
use crate::seen::Watch;
use crate::subject::{Cannot, Subject, Wanted, connect, session};

/// After a stop the session goes on, or says that it was given up and then is.
fn stopped(subject: &dyn Subject, session: &mut dyn Session, outcome: Result<(), EngineError>) -> Result<(), Cannot> {
    let error = outcome.expect_err("it has no end");
    assert!(matches!(error.kind, ErrorKind::Stopped | ErrorKind::Lost), "{:?} {error}", error.kind);
    if session.is_alive() {
        goes_on(subject, session)?;
    }
    Ok(())
}

/// Runs a statement and wishes an end once `begun` says so.
fn wished_while(
    subject: &dyn Subject,
    statement: &str,
    watch: &Watch,
    begun: impl Fn(&Watch) -> bool,
) -> Result<(), Cannot> {
    let mut session = session(subject);
    let stop = Stop::default();
    let request = Request::new(statement).until(&stop);
    let (outcome, ()) = run_and(session.as_mut(), &request, watch, begun, || stop.wish());
    assert!(watch.is_dropped());
    stopped(subject, session.as_mut(), outcome)
}

pub fn a_wish_that_is_there_already_stops_at_once(subject: &dyn Subject) -> Result<(), Cannot> {
    let (statement, mut session) = (subject.statement(Wanted::Endless)?, session(subject));
    let stop = Stop::default();
    stop.wish();
    let outcome = session.run(&Request::new(&statement).until(&stop), Watch::all().sink());
    stopped(subject, session.as_mut(), outcome)
}

pub fn a_silent_statement_stops(subject: &dyn Subject) -> Result<(), Cannot> {
    wished_while(subject, &subject.statement(Wanted::Silent)?, &Watch::all(), |_| true)
}

pub fn a_flood_of_rows_stops(subject: &dyn Subject) -> Result<(), Cannot> {
    let watch = Watch::all();
    wished_while(subject, &subject.statement(Wanted::Endless)?, &watch, |watch| watch.seen().count() > 0)?;
    assert!(watch.seen().count() > 0, "rows that came stay");
    Ok(())
}

pub fn it_stops_when_the_sink_wants_no_more(subject: &dyn Subject) -> Result<(), Cannot> {
    let statement = subject.statement(Wanted::Endless)?;
    // However busy the machine is: a session is given up where the server does not hear in time.
    let mut profile = subject.profile();
    profile.settings.insert("stop_seconds".into(), Setting::Number(600));
    let mut session = connect(subject, &profile, &Stop::default()).expect("it connects");
    let watch = Watch::stops_after(1);
    let outcome = session.run(&Request::new(&statement), watch.sink());
    assert_eq!(outcome.as_ref().map_err(|error| error.kind), Err(ErrorKind::Stopped));
    assert!(watch.seen().count() > 0);
    stopped(subject, session.as_mut(), outcome)
}

pub fn it_stops_while_it_is_held(subject: &dyn Subject) -> Result<(), Cannot> {
    let (statement, mut session) = (subject.statement(Wanted::Endless)?, session(subject));
    let outcome = session.run(&Request::new(&statement), Watch::holds(3, Flow::Stop).sink());
    stopped(subject, session.as_mut(), outcome)
}

pub fn what_is_held_goes_on(subject: &dyn Subject) -> Result<(), Cannot> {
    let statement = subject.statement(Wanted::Rows(20_000))?;
    let watch = Watch::holds(3, Flow::Continue);
    session(subject).run(&Request::new(&statement), watch.sink()).expect("it goes on");
    let seen = watch.seen();
    assert_eq!((seen.count(), seen.waits), (20_000, 3), "no row is lost");
    Ok(())
}

pub fn finding_out_an_effect_stops(subject: &dyn Subject) -> Result<(), Cannot> {
    subject.effects()?;
    let (statement, mut session) = (subject.statement(Wanted::EndlessEffect)?, session(subject));
    run(session.as_mut(), &subject.statement(Wanted::MakeShelf)?);
    run(session.as_mut(), &subject.statement(Wanted::Write)?);
    let stop = Stop::default();
    let outcome = thread::scope(|scope| {
        let worker = scope.spawn(|| session.effect(&Request::new(&statement).until(&stop)));
        stop.wish();
        worker.join().expect("the session does not panic")
    });
    // What was known before the wish arrived is known.
    if let Err(error) = outcome {
        assert!(matches!(error.kind, ErrorKind::Stopped | ErrorKind::Lost), "{:?} {error}", error.kind);
    }
    if session.is_alive() { goes_on(subject, session.as_mut()) } else { Ok(()) }
}

pub fn reading_the_catalog_stops(subject: &dyn Subject) -> Result<(), Cannot> {
    let mut session = session(subject);
    let stop = Stop::default();
    stop.wish();
    let mut catalog = Catalog::default();
    let part = CatalogPart { stop, ..CatalogPart::default() };
    if let Err(error) = session.catalog(&part, &mut catalog) {
        assert!(matches!(error.kind, ErrorKind::Stopped | ErrorKind::Lost), "{:?} {error}", error.kind);
    }
    if session.is_alive() { goes_on(subject, session.as_mut()) } else { Ok(()) }
}

pub fn checking_stops(subject: &dyn Subject) -> Result<(), Cannot> {
    let (statement, mut session) = (subject.statement(Wanted::Rows(3))?, session(subject));
    let stop = Stop::default();
    stop.wish();
    if let Err(error) = session.check(&Request::new(&statement).until(&stop)) {
        assert!(matches!(error.kind, ErrorKind::Stopped | ErrorKind::Lost), "{:?} {error}", error.kind);
    }
    if session.is_alive() { goes_on(subject, session.as_mut()) } else { Ok(()) }
}
