//! How a connection is made, or not.

use std::net::TcpListener;
use std::sync::Mutex;
use std::thread;

use jaunty_seam::engine::{Attempt, Prompt, Question, Stop};
use jaunty_seam::error::{ErrorKind, Step};
use jaunty_seam::profile::Secret;

use super::results::goes_on;
use crate::subject::{Cannot, Subject, connect};

pub fn connecting_stops(subject: &dyn Subject) -> Result<(), Cannot> {
    // Somebody listens and never says a word.
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let profile = subject.at_port(listener.local_addr().expect("its address").port())?;
    let stop = Stop::default();
    let outcome = thread::scope(|scope| {
        let worker = scope.spawn(|| connect(subject, &profile, &stop).map(drop));
        let (_connection, _) = listener.accept().expect("it comes");
        stop.wish();
        worker.join().expect("the engine does not panic")
    });
    assert_eq!(outcome.expect_err("nobody answers").kind, ErrorKind::Stopped);
    Ok(())
}

pub fn nobody_listens(subject: &dyn Subject) -> Result<(), Cannot> {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("its address").port();
    let profile = subject.at_port(port)?;
    drop(listener);
    let error = connect(subject, &profile, &Stop::default()).map(drop).expect_err("nobody listens");
    assert_eq!((error.kind, error.step), (ErrorKind::Connect, Some(Step::Reach)), "{error}");
    assert!(error.message.contains(&port.to_string()), "it says where: {error}");
    Ok(())
}

pub fn the_server_vanishes_while_connecting(subject: &dyn Subject) -> Result<(), Cannot> {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let profile = subject.at_port(listener.local_addr().expect("its address").port())?;
    thread::scope(|scope| {
        let worker = scope.spawn(|| connect(subject, &profile, &Stop::default()).map(drop));
        // However often it tries.
        listener.set_nonblocking(true).expect("it need not wait");
        while !worker.is_finished() {
            drop(listener.accept());
            thread::yield_now();
        }
        let error = worker.join().expect("the engine does not panic").expect_err("the server is gone");
        assert_eq!(error.kind, ErrorKind::Connect, "{error}");
        assert!(error.step.is_some(), "it says at which step: {error}");
    });
    Ok(())
}

/// Answers every question with this, and keeps the questions.
struct Answers(Option<&'static str>, Mutex<Vec<String>>);

impl Prompt for Answers {
    fn ask(&self, question: &Question) -> Option<Secret> {
        self.1.lock().expect("no panic before").push(question.text.clone());
        self.0.map(|text| Secret::new(text.to_owned()))
    }
}

pub fn a_one_time_code_is_asked_for(subject: &dyn Subject) -> Result<(), Cannot> {
    let (profile, code) = subject.one_time_code()?;
    let (secret, answers) = (subject.secret(), Answers(Some(code), Mutex::default()));
    let attempt = Attempt { profile: &profile, secret: secret.as_ref(), prompt: &answers, stop: Stop::default() };
    let mut session = subject.engine().connect(&attempt).unwrap_or_else(|error| panic!("{error}"));
    assert_eq!(answers.1.lock().expect("no panic before").len(), 1);
    goes_on(subject, session.as_mut())
}

pub fn a_prompt_without_an_answer_gives_up(subject: &dyn Subject) -> Result<(), Cannot> {
    let (profile, _) = subject.one_time_code()?;
    let (secret, answers) = (subject.secret(), Answers(None, Mutex::default()));
    let attempt = Attempt { profile: &profile, secret: secret.as_ref(), prompt: &answers, stop: Stop::default() };
    let error = subject.engine().connect(&attempt).map(drop).expect_err("nobody answers");
    assert_eq!(error.kind, ErrorKind::Connect, "{error}");
    Ok(())
}
