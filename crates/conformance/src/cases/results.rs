//! What a statement gives.

use std::thread;

use jaunty_seam::engine::{Event, Request, Session};
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::BATCH_ROWS;

use crate::seen::Watch;
use crate::subject::{Cannot, Subject, Wanted, session};

/// Runs a statement to its end.
pub(super) fn run(session: &mut dyn Session, statement: &str) -> Watch {
    let watch = Watch::all();
    let outcome = session.run(&Request::new(statement), watch.sink());
    outcome.unwrap_or_else(|error| panic!("{statement}: {error}"));
    assert!(watch.is_dropped(), "the session lets go of the sink before it returns");
    watch
}

/// Runs a statement on a thread of its own, and does something once `begun` says so.
pub(super) fn run_and<T>(
    session: &mut dyn Session,
    request: &Request<'_>,
    watch: &Watch,
    begun: impl Fn(&Watch) -> bool,
    act: impl FnOnce() -> T,
) -> (Result<(), EngineError>, T) {
    thread::scope(|scope| {
        let worker = scope.spawn(|| session.run(request, watch.sink()));
        while !begun(watch) && !worker.is_finished() {
            thread::yield_now();
        }
        let done = act();
        (worker.join().expect("the session does not panic"), done)
    })
}

/// Whether the session goes on as if nothing had been.
pub(super) fn goes_on(subject: &dyn Subject, session: &mut dyn Session) -> Result<(), Cannot> {
    let watch = run(session, &subject.statement(Wanted::Rows(3))?);
    assert_eq!(watch.seen().count(), 3, "it goes on");
    Ok(())
}

pub fn rows_come_in_order(subject: &dyn Subject) -> Result<(), Cannot> {
    let watch = run(session(subject).as_mut(), &subject.statement(Wanted::Rows(20_000))?);
    let seen = watch.seen();
    assert_eq!(seen.order(), "bre");
    assert!(seen.batches().all(|batch| (1..=BATCH_ROWS).contains(&batch.num_rows())), "batches have a limit");
    let first: Vec<String> = seen.rows().into_iter().map(|mut row| row.swap_remove(0)).collect();
    assert_eq!(first, (1..=20_000).map(|n| n.to_string()).collect::<Vec<_>>());
    Ok(())
}

pub fn a_result_without_rows_has_columns(subject: &dyn Subject) -> Result<(), Cannot> {
    let watch = run(session(subject).as_mut(), &subject.statement(Wanted::NoRows)?);
    assert_eq!(watch.seen().order(), "be");
    Ok(())
}

pub fn several_results_come_one_after_the_other(subject: &dyn Subject) -> Result<(), Cannot> {
    let statement = subject.statement(Wanted::TwoResults)?;
    let mut session = session(subject);
    assert!(session.abilities().several_results);
    let watch = run(session.as_mut(), &statement);
    let seen = watch.seen();
    let order = seen.order();
    // A procedure may have an end of its own.
    assert!(order.starts_with("brebre"), "{order}");
    let first: Vec<_> = seen.rows().into_iter().map(|row| row[0].clone()).collect();
    assert_eq!(first, ["1", "2"]);
    Ok(())
}

pub fn messages_come_where_the_server_sent_them(subject: &dyn Subject) -> Result<(), Cannot> {
    let statement = subject.statement(Wanted::MessageThenRow)?;
    let watch = run(session(subject).as_mut(), &statement);
    let seen = watch.seen();
    let said = |event: &Event| matches!(event, Event::Message(message) if message.text.contains("fog"));
    let message = seen.events.iter().position(said).expect("it says fog");
    let rows = seen.events.iter().position(|event| matches!(event, Event::Rows(_))).expect("it has a row");
    assert!(message < rows, "{}", seen.order());
    Ok(())
}

pub fn a_mistake_is_refused_and_the_session_goes_on(subject: &dyn Subject) -> Result<(), Cannot> {
    let (statement, mut session) = (subject.statement(Wanted::Mistake)?, session(subject));
    let watch = Watch::all();
    let error = session.run(&Request::new(&statement), watch.sink()).expect_err("it is a mistake");
    assert_eq!(error.kind, ErrorKind::Refused, "{error}");
    assert!(error.at.is_none_or(|at| at <= statement.len()), "its place is in the statement");
    assert!(watch.is_dropped() && session.is_alive());
    goes_on(subject, session.as_mut())
}

pub fn rows_before_a_mistake_stay(subject: &dyn Subject) -> Result<(), Cannot> {
    let (statement, mut session) = (subject.statement(Wanted::RowsThenMistake)?, session(subject));
    let watch = Watch::all();
    let error = session.run(&Request::new(&statement), watch.sink()).expect_err("it ends in a mistake");
    assert_eq!(error.kind, ErrorKind::Refused, "{error}");
    assert!(watch.seen().count() > 0, "what came before the mistake stays");
    goes_on(subject, session.as_mut())
}

pub fn a_huge_value_comes_whole(subject: &dyn Subject) -> Result<(), Cannot> {
    const BYTES: usize = 8 << 20;
    let watch = run(session(subject).as_mut(), &subject.statement(Wanted::Huge(BYTES))?);
    let rows = watch.seen().rows();
    assert_eq!((rows.len(), rows[0][0].len()), (1, BYTES));
    Ok(())
}

pub fn values_of_every_kind_are_exact(subject: &dyn Subject) -> Result<(), Cannot> {
    let (statement, expected) = subject.values()?;
    let watch = run(session(subject).as_mut(), &statement);
    assert_eq!(watch.seen().rows(), [expected]);
    Ok(())
}

pub fn how_many_rows_were_touched_is_told(subject: &dyn Subject) -> Result<(), Cannot> {
    let mut session = session(subject);
    run(session.as_mut(), &subject.statement(Wanted::MakeShelf)?);
    let statement = subject.statement(Wanted::Write)?;
    let watch = run(session.as_mut(), &statement);
    let seen = watch.seen();
    match seen.order().as_str() {
        "e" => assert_eq!(seen.events, [Event::Ends { affected: Some(1) }]),
        // A server that answers a write with a value.
        order => assert_eq!(order, "bre"),
    }
    Ok(())
}

pub fn columns_that_turn_up_late_stand_behind_the_others(subject: &dyn Subject) -> Result<(), Cannot> {
    let watch = run(session(subject).as_mut(), &subject.late_columns()?);
    let seen = watch.seen();
    let mut known: Vec<String> = Vec::new();
    for batch in seen.batches() {
        let schema = batch.schema();
        let names: Vec<String> = schema.fields().iter().map(|field| field.name().clone()).collect();
        assert!(names.starts_with(&known), "{names:?} after {known:?}");
        known = names;
    }
    let widths: Vec<usize> = seen.rows().iter().map(Vec::len).collect();
    let first = widths[0];
    assert_eq!(widths, [first, first, first + 1, first + 1, first + 2]);
    Ok(())
}

pub fn what_comes_beside_rows_has_its_place(subject: &dyn Subject) -> Result<(), Cannot> {
    let statement = subject.everything_beside_rows()?;
    let watch = run(session(subject).as_mut(), &statement);
    assert_eq!(watch.seen().order(), "ipbrpreom");
    Ok(())
}
