//! What the tokens of a statement amount to, as far as they were read.

use crate::dialect::{Carrier, Kind, Role, Starter};
use crate::lexer::Token;
use crate::split::body::BodyState;

/// What the tokens of a statement so far amount to.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Progress {
    pub(super) previous: Token,
    /// Nothing but prefixes so far.
    pub(super) only_prefix: bool,
    /// A prefix was there.
    pub(super) prefixed: bool,
    /// The leading word's starter, when there is one.
    pub(super) lead: Option<&'static Starter>,
    /// The starter that says what the whole does: behind prefixes and a leading `WITH` list.
    pub(super) main: Option<&'static Starter>,
    /// The word that says what the leading one is about (`CREATE OR REPLACE RULE`), of those that matter.
    pub(super) second: Option<&'static str>,
    /// That word may still come.
    pub(super) awaits_second: bool,
    /// What the statement does, where that is not told by the statement it carries.
    pub(super) carries: Option<Kind>,
    /// What is read is the body of the statement, which says what may follow but not what the whole does.
    pub(super) in_body: bool,
    /// The last token is a value that was given by `=` or `TO`.
    pub(super) is_value: bool,
    /// A statement that carries another, until that begins.
    pub(super) carrier: Option<&'static Carrier>,
    /// A statement that takes its rows from a query has not had one yet.
    pub(super) wants_query: bool,
    /// A `WITH` list has not been followed by its statement yet.
    pub(super) after_with: bool,
    /// How many parentheses are open.
    pub(super) open: u32,
    pub(super) body: BodyState,
    pub(super) awaits_data: AwaitsData,
    /// It is a condition with a statement behind it, which another one may follow behind `ELSE`.
    pub(super) conditional: bool,
    /// That statement has not begun yet.
    pub(super) wants_statement: bool,
    /// `CASE` expressions that are open where that matters.
    pub(super) cases: u16,
    pub(super) closed: bool,
}

/// Whether rows stand below a statement, `COPY … FROM STDIN`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum AwaitsData {
    No,
    AfterFrom,
    AfterStdin,
    Yes,
}

impl Progress {
    pub(super) fn new(first: Token) -> Self {
        Progress {
            previous: first,
            only_prefix: true,
            prefixed: false,
            lead: None,
            main: None,
            second: None,
            awaits_second: false,
            carries: None,
            in_body: false,
            is_value: false,
            carrier: None,
            wants_query: false,
            after_with: false,
            open: 0,
            body: BodyState::None,
            awaits_data: AwaitsData::No,
            conditional: false,
            wants_statement: false,
            cases: 0,
            closed: true,
        }
    }

    pub(super) fn kind(&self) -> Kind {
        match self.carries {
            Some(kind) => kind,
            None if self.prefixed => Kind::Plan,
            None => self.main.map_or(Kind::Other, |starter| starter.kind),
        }
    }

    /// Whether the statement is one in which a starter goes on.
    pub(super) fn goes_on_with(&self, starter: &Starter) -> bool {
        let is = |words: &str, led: &Starter| match words.split_once(' ') {
            Some((lead, second)) => lead == led.word && self.second == Some(second),
            None => words == led.word,
        };
        let led = [self.lead, self.main];
        led.into_iter().flatten().any(|led| starter.continues_in.iter().any(|words| is(words, led)))
    }

    /// Notes a starter outside parentheses.
    pub(super) fn note(&mut self, starter: &'static Starter) {
        match starter.role {
            Role::With => self.after_with = true,
            // A rule names the statements that it is about before its own.
            Role::Filled if self.second == Some("RULE") => self.wants_query = true,
            Role::Query | Role::Filled | Role::Change if self.after_with => {
                self.after_with = false;
                self.wants_query = starter.role == Role::Filled;
                if !self.in_body && self.main.is_some_and(|main| main.role == Role::With) {
                    self.main = Some(starter);
                }
            }
            Role::Query => self.wants_query = false,
            _ => {}
        }
    }

    /// Whether what stands before asks for a statement with this starter.
    pub(super) fn asks_for(&self, starter: &Starter) -> bool {
        match starter.role {
            Role::Query => self.wants_query || self.after_with,
            Role::With => self.wants_query,
            Role::Filled | Role::Change => self.after_with,
            Role::Plain => false,
        }
    }
}
