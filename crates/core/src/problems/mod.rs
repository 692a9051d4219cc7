//! What is wrong with a statement, told without running it: by its quotes and parentheses, and by
//! what the catalog knows. What the server itself says, where it was asked, stands above both.
//!
//! A statement that the server would take must not be marked: where a name could mean something
//! that is not known here, nothing is said.

mod commands;
mod documents;
mod mistyped;
mod omitted;
mod refused;
mod sql;

pub use mistyped::mistyped;
pub use omitted::{omitted, unquoted};

use std::collections::HashSet;
use std::ops::Range;

use ropey::Rope;

use crate::complete::Surroundings;
use crate::complete::region;
use jaunty_language::dialect::{Dialect, Family};
use jaunty_language::statement::made::made_in;
use jaunty_language::text::clean;
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::profile::{Guard, Profile, Setting};

/// Something that is wrong.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// The bytes in the statement that it is about.
    pub range: Range<usize>,
    /// What is wrong, as a sentence.
    pub message: String,
    /// Names that could have been meant.
    pub near: Vec<String>,
    /// Whether those are as they stand in statements: with their schema, in quotes where they need them.
    pub is_written: bool,
    /// The server takes it all the same: a doubt, which what it says does not lift.
    pub taken: bool,
}

impl Problem {
    /// Something that the server would not take.
    pub fn new(range: Range<usize>, message: impl Into<String>) -> Problem {
        Problem { range, message: message.into(), near: Vec::new(), is_written: false, taken: false }
    }

    /// What is wrong, with the names that could have been meant.
    pub fn sentence(&self) -> String {
        match self.near.as_slice() {
            [] => self.message.clone(),
            [one] if !self.is_written => format!("{} · did you mean \"{one}\"?", self.message),
            all => format!("{} · did you mean {}?", self.message, all.join(" or ")),
        }
    }

    /// One of the near names as it stands in a statement.
    pub fn instead(&self, near: &str, dialect: &Dialect) -> String {
        if self.is_written { near.to_owned() } else { dialect.name_as_written(near) }
    }

    /// What a server says of a statement that it refuses, with what the catalog knows of the names in it.
    pub fn refused(error: &EngineError, text: &str, around: Surroundings<'_>) -> Problem {
        let said = Problem::of_server(error);
        if error.kind != ErrorKind::Refused {
            return said;
        }
        let found = elsewhere(text, around).into_iter().find(|problem| problem.is_meant_by(error));
        let dialect = around.dialect;
        let found = found.or_else(|| mistyped(error, text, dialect)).or_else(|| omitted(error, text, dialect));
        match found.or_else(|| unquoted(error, text, dialect).filter(|_| around.catalog.objects().is_empty())) {
            Some(found) => Problem { message: said.message, ..found },
            None => said,
        }
    }

    /// Whether a server that points somewhere points at what this is about.
    pub fn is_meant_by(&self, error: &EngineError) -> bool {
        error.at.is_none_or(|at| (self.range.start..=self.range.end).contains(&at))
    }

    /// What a server says of a statement. Without a place nothing is marked: the sentence is told.
    pub fn of_server(error: &EngineError) -> Problem {
        let message = clean::clean(&error.message).replace('\n', " ");
        Problem::new(error.at.map_or(0..0, |at| at..at + 1), message)
    }

    /// Its bytes in a text in which the statement begins at `start` and ends at `end`: to the end of the word there.
    pub fn bytes_in(&self, rope: &Rope, start: usize, end: usize) -> Range<usize> {
        let from = start + self.range.start;
        if self.range.is_empty() {
            return from..from;
        }
        let mut word = from;
        while rope.get_byte(word).is_some_and(|b| b.is_ascii_alphanumeric() || b == b'_' || b >= 0x80) {
            word += 1;
        }
        from..word.max(start + self.range.end).min(end.max(from + 1))
    }
}

/// What is wrong with a statement that begins at `start` in a text. What the text around makes is only looked at where
/// something seems to be missing.
pub fn problems_at(rope: &Rope, start: usize, text: &str, around: Surroundings<'_>) -> Vec<Problem> {
    let mut found = problems(text, around, &HashSet::new());
    if found.is_empty() {
        return found;
    }
    if around.dialect.family == Family::Documents {
        let nearby = region::nearby(rope, start);
        found.retain(|problem| !text.get(problem.range.clone()).is_some_and(|name| documents::is_made(name, &nearby)));
        return found;
    }
    let made = made_in(&region::nearby(rope, start), around.dialect);
    if made.is_empty() { found } else { problems(text, around, &made) }
}

/// What counts of what was found and of what the server said, if it was asked: what it takes is right, whatever the
/// catalog says, but for doubts; of what it refuses ours comes first, since it says more and where.
pub fn that_count(found: &[Problem], said: Option<Option<Problem>>) -> Vec<Problem> {
    match said {
        Some(Some(problem)) if found.iter().all(|problem| problem.taken) => {
            let mut all = vec![problem];
            all.extend_from_slice(found);
            all
        }
        Some(None) => {
            let stays = |problem: &&Problem| problem.taken || problem.message.contains("never closes");
            found.iter().filter(stays).cloned().collect()
        }
        _ => found.to_vec(),
    }
}

/// Whether a profile lets its server be asked about statements that are not run.
pub fn may_be_checked(profile: &Profile) -> bool {
    match profile.settings.get("check") {
        Some(Setting::Flag(wanted)) => *wanted,
        _ => profile.guard == Guard::Open,
    }
}

/// The longest statement that is looked at.
const LONGEST: usize = 64 << 10;

/// What is wrong with a statement. `made` are names that the text around makes or could make, in
/// lower case: see [`jaunty_language::statement::made::made_in`].
pub fn problems(text: &str, around: Surroundings<'_>, made: &HashSet<String>) -> Vec<Problem> {
    if text.len() > LONGEST {
        return Vec::new();
    }
    match around.dialect.family {
        Family::Sql => sql::problems(text, around, made),
        Family::Documents => documents::problems(text, around),
        Family::Commands => commands::problems(text, around),
    }
}

/// Tables that a statement names without their schema, and that only stand in schemas where plain names do not reach. It may
/// be that they do when it runs, so this is only told where the server refuses it.
pub fn elsewhere(text: &str, around: Surroundings<'_>) -> Vec<Problem> {
    match around.dialect.family {
        Family::Sql if text.len() <= LONGEST => refused::elsewhere(text, around),
        _ => Vec::new(),
    }
}

/// How many letters of a name are others, where so few are that it may be a slip: not in short names, and not where only
/// digits differ, as in another one of a row of them.
fn letters_off(name: &str, other: &str) -> Option<usize> {
    let only = |name: &str, wanted: fn(&char) -> bool| name.chars().filter(wanted).collect::<String>().to_lowercase();
    let letters = |name: &str| only(name, |c| !c.is_ascii_digit());
    let digits = |name: &str| only(name, char::is_ascii_digit);
    if letters(name).chars().count() < 4 || (letters(name) == letters(other) && digits(name) != digits(other)) {
        return None;
    }
    let far = strsim::damerau_levenshtein(&name.to_lowercase(), &other.to_lowercase());
    (far <= 1 + name.chars().count() / 5).then_some(far)
}

/// Names that could have been meant by one: a few letters are others, and not only its digits; or it is the last part of a
/// path.
fn few_letters_off<'a>(name: &str, all: impl Iterator<Item = &'a str>) -> Vec<String> {
    let far = |other: &str| match (name.rsplit_once('.'), other.rsplit_once('.')) {
        (_, Some((_, last))) if last == name => Some(0),
        (Some((before, own)), Some((theirs, last))) if before == theirs => letters_off(own, last),
        // What lies deeper is another thing.
        _ if name.matches('.').count() != other.matches('.').count() => None,
        _ => letters_off(name, other),
    };
    let mut near: Vec<(usize, &str)> = all.filter_map(|other| far(other).map(|far| (far, other))).collect();
    near.sort_unstable();
    near.dedup();
    let nearest = near.first().map(|(far, _)| *far);
    near.into_iter().filter(|(far, _)| Some(*far) == nearest).take(3).map(|(_, name)| name.to_owned()).collect()
}

#[cfg(test)]
mod tests;
