//! Statements whose end was told without a semicolon: what the server takes as one is one.
//!
//! The splitter never divides what it knows to be one statement, but servers know more. Where another
//! statement follows without a semicolon between, both together are put to the server before anything
//! runs. Where it cannot be asked the longer reading counts, and a person says yes to it first.

use super::execute::Job;
use jaunty_seam::engine::{Reading, Request, Session, Stop};

/// How a job is to be run.
#[derive(Debug)]
pub enum Read {
    /// As it stands.
    AsItStands,
    /// As this longer one, which takes in so many statements after it.
    Longer(Box<Job>, usize),
    /// Nobody knows: a person has to say yes to the longer reading.
    Ask(Box<Job>, usize),
}

/// Asks the server how it reads a job and what follows it.
pub fn read(session: &mut dyn Session, job: &Job, stop: &Stop) -> Read {
    let longer = |taken: usize| {
        let found = job.longer.get(taken).cloned().unwrap_or_default();
        Box::new(Job { values: job.values.clone(), confirmed: job.confirmed, ..found })
    };
    let mut found = Read::AsItStands;
    for (index, more) in job.longer.iter().enumerate() {
        match session.reading(&Request::new(&more.statement).until(stop), job.next_at) {
            Reading::One => found = Read::Longer(longer(index), index + 1),
            Reading::Shorter => break,
            Reading::Further => {}
            Reading::Unknown => return Read::Ask(longer(index), index + 1),
        }
    }
    found
}
