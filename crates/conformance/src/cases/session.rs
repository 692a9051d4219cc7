//! What a session knows and does beside running statements.

use jaunty_language::statement::parameters::ParameterValue;
use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::{CatalogPart, Effect, Reading, Request, Session, Stop, SwitchKind, Transaction, Verdict};
use jaunty_seam::error::ErrorKind;
use jaunty_seam::profile::Guard;

use super::results::{goes_on, run};
use crate::seen::Watch;
use crate::subject::{Cannot, Subject, Wanted, session, session_guarded};

/// What is on the shelf.
fn count(subject: &dyn Subject, session: &mut dyn Session) -> Result<String, Cannot> {
    let watch = run(session, &subject.statement(Wanted::CountShelf)?);
    let rows = watch.seen().rows();
    Ok(rows[0][0].clone())
}

pub fn transactions_are_known_without_asking(subject: &dyn Subject) -> Result<(), Cannot> {
    let (begin, back) = (subject.statement(Wanted::Begin)?, subject.statement(Wanted::RollBack)?);
    let mut session = session(subject);
    assert!(session.abilities().transactions);
    assert_eq!(session.location().transaction, None);
    run(session.as_mut(), &begin);
    assert_eq!(session.location().transaction, Some(Transaction::Open));
    let mistake = subject.statement(Wanted::Mistake)?;
    let _ = session.run(&Request::new(&mistake), Watch::all().sink());
    assert!(session.location().in_transaction(), "a mistake does not end it");
    run(session.as_mut(), &back);
    assert_eq!(session.location().transaction, None);
    // What is known is what the server says.
    let known = session.location();
    let asked = session.locate(&Stop::default()).unwrap_or_else(|error| panic!("{error}"));
    assert_eq!(
        (known.transaction, &known.database, &known.schema),
        (asked.transaction, &asked.database, &asked.schema)
    );
    Ok(())
}

pub fn nothing_is_sent_but_the_statement(subject: &dyn Subject) -> Result<(), Cannot> {
    let mut session = session(subject);
    let own = session.location().session;
    run(session.as_mut(), &subject.statement(Wanted::MakeShelf)?);
    // What has to be known of what is read may be asked once.
    count(subject, session.as_mut())?;
    let before = subject.asked(&own)?;
    run(session.as_mut(), &subject.statement(Wanted::Write)?);
    count(subject, session.as_mut())?;
    assert_eq!(subject.asked(&own)? - before, 2, "two statements are two questions");
    Ok(())
}

pub fn a_read_only_session_writes_nothing(subject: &dyn Subject) -> Result<(), Cannot> {
    let mut open = session(subject);
    run(open.as_mut(), &subject.statement(Wanted::MakeShelf)?);
    let before = count(subject, open.as_mut())?;
    let mut guarded = session_guarded(subject, Guard::ReadOnly);
    // Where the server cannot be told so, the session itself refuses.
    let write = subject.statement(Wanted::Write)?;
    let error = guarded.run(&Request::new(&write), Watch::all().sink()).expect_err("it is read-only");
    assert_eq!(error.kind, ErrorKind::Refused, "{error}");
    assert_eq!(count(subject, open.as_mut())?, before);
    assert!(!guarded.location().guard_lifted);
    goes_on(subject, guarded.as_mut())
}

pub fn an_effect_changes_nothing(subject: &dyn Subject) -> Result<(), Cannot> {
    subject.effects()?;
    let mut session = session(subject);
    run(session.as_mut(), &subject.statement(Wanted::MakeShelf)?);
    let before = count(subject, session.as_mut())?;
    let (write, read) = (subject.statement(Wanted::Write)?, subject.statement(Wanted::CountShelf)?);
    let effect = session.effect(&Request::new(&write)).unwrap_or_else(|error| panic!("{error}"));
    assert!(matches!(effect, Effect::Writes(_) | Effect::Unknown), "{effect:?}");
    assert_eq!(session.effect(&Request::new(&read)), Ok(Effect::Reads));
    assert_eq!(count(subject, session.as_mut())?, before);
    assert!(!session.location().in_transaction());
    Ok(())
}

pub fn a_check_runs_nothing(subject: &dyn Subject) -> Result<(), Cannot> {
    let mut session = session(subject);
    run(session.as_mut(), &subject.statement(Wanted::MakeShelf)?);
    let before = count(subject, session.as_mut())?;
    let write = subject.statement(Wanted::Write)?;
    let verdict = session.check(&Request::new(&write)).unwrap_or_else(|error| panic!("{error}"));
    assert_eq!(count(subject, session.as_mut())?, before);
    if verdict == Verdict::Unknown {
        return Err(Cannot("the server is not asked about statements"));
    }
    let error = session.check(&Request::new(&subject.statement(Wanted::Mistake)?)).expect_err("it is a mistake");
    assert_eq!(error.kind, ErrorKind::Refused, "{error}");
    goes_on(subject, session.as_mut())
}

pub fn values_go_beside_the_statement(subject: &dyn Subject) -> Result<(), Cannot> {
    let (statement, mut session) = (subject.statement(Wanted::WithValue)?, session(subject));
    for text in ["quay", "it's; -- '", "é\n\"\\"] {
        let values = [(":a".to_owned(), ParameterValue::Text(text.to_owned()))];
        let watch = Watch::all();
        session.run(&Request::new(&statement).with(&values), watch.sink()).unwrap_or_else(|error| panic!("{error}"));
        assert_eq!(watch.seen().rows(), [[text]]);
    }
    Ok(())
}

pub fn a_value_that_is_missing_is_refused(subject: &dyn Subject) -> Result<(), Cannot> {
    let (statement, mut session) = (subject.statement(Wanted::WithValue)?, session(subject));
    let error = session.run(&Request::new(&statement), Watch::all().sink()).expect_err("it misses a value");
    assert_eq!(error.kind, ErrorKind::Refused, "{error}");
    goes_on(subject, session.as_mut())
}

pub fn what_goes_on_is_one_statement(subject: &dyn Subject) -> Result<(), Cannot> {
    let (one, two) = (subject.statement(Wanted::GoesOn)?, subject.statement(Wanted::TwoStatements)?);
    let mut session = session(subject);
    let next = |text: &str| text.find('\n').expect("two lines") + 1;
    assert_eq!(session.reading(&Request::new(&one), next(&one)), Reading::One);
    assert_eq!(session.reading(&Request::new(&two), next(&two)), Reading::Shorter);
    goes_on(subject, session.as_mut())
}

pub fn what_is_there_can_be_chosen(subject: &dyn Subject) -> Result<(), Cannot> {
    let mut session = session(subject);
    let kinds = session.switches();
    if kinds.is_empty() {
        return Err(Cannot("there is nowhere else to go"));
    }
    let location = session.location();
    for kind in kinds {
        let choices = session.choices(*kind, &Stop::default()).unwrap_or_else(|error| panic!("{error}"));
        let here = match *kind {
            SwitchKind::DATABASE => &location.database,
            SwitchKind::SCHEMA if !location.schema.is_empty() => &location.schema,
            _ => continue,
        };
        assert!(choices.contains(here), "{here} is one of the {}s: {choices:?}", kind.word());
    }
    Ok(())
}

/// All parts of a catalog.
fn catalog_of(session: &mut dyn Session) -> Catalog {
    let (mut catalog, mut part) = (Catalog::along([session.location().schema]), 0);
    while session.catalog(&CatalogPart::number(part), &mut catalog).unwrap_or_else(|error| panic!("{error}")) {
        part += 1;
        assert!(part < 1000, "a catalog has an end");
    }
    catalog.complete();
    catalog
}

pub fn the_catalog_has_an_end_and_what_was_made(subject: &dyn Subject) -> Result<(), Cannot> {
    let mut session = session(subject);
    run(session.as_mut(), &subject.statement(Wanted::MakeShelf)?);
    run(session.as_mut(), &subject.statement(Wanted::Write)?);
    let catalog = catalog_of(session.as_mut());
    assert!(catalog.objects().iter().any(|object| object.name.contains("shelf")), "the shelf is in the catalog");
    Ok(())
}

pub fn an_object_can_be_looked_at(subject: &dyn Subject) -> Result<(), Cannot> {
    let mut session = session(subject);
    run(session.as_mut(), &subject.statement(Wanted::MakeShelf)?);
    run(session.as_mut(), &subject.statement(Wanted::Write)?);
    let catalog = catalog_of(session.as_mut());
    let shelf = catalog.objects().iter().find(|object| object.name.contains("shelf")).expect("it is there").clone();
    let here = session.location().schema;
    let statement = subject.engine().preview_statement(&shelf.schema, &shelf.name, &here);
    let watch = Watch::all();
    let outcome = session.first_rows(&shelf, &Request::new(&statement), watch.sink());
    outcome.unwrap_or_else(|error| panic!("{statement}: {error}"));
    assert_eq!(watch.seen().order(), "bre");
    Ok(())
}
