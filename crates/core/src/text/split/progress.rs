//! What the tokens of a statement amount to, as far as they were read.

use super::body::BodyState;
use crate::text::dialect::{Kind, Role, Starter};
use crate::text::lexer::{Token, TokenKind};

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
    /// A statement that takes its rows from a query has not had one yet.
    pub(super) wants_query: bool,
    /// A `WITH` list has not been followed by its statement yet.
    pub(super) after_with: bool,
    /// What stands in parentheses is not the language's own.
    pub(super) verbatim: bool,
    /// For each open parenthesis, whether it began with `WITH`.
    pub(super) open: Vec<bool>,
    pub(super) body: BodyState,
    pub(super) awaits_data: AwaitsData,
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
            wants_query: false,
            after_with: false,
            verbatim: false,
            open: Vec::new(),
            body: BodyState::None,
            awaits_data: AwaitsData::No,
            closed: true,
        }
    }

    pub(super) fn kind(&self) -> Kind {
        if self.prefixed { Kind::Plan } else { self.main.map_or(Kind::Other, |starter| starter.kind) }
    }

    /// Notes a starter outside parentheses.
    pub(super) fn note(&mut self, starter: &'static Starter) {
        match starter.role {
            Role::With => self.after_with = true,
            Role::Query | Role::Filled | Role::Change if self.after_with => {
                self.after_with = false;
                self.wants_query = starter.role == Role::Filled;
                if self.main.is_some_and(|main| main.role == Role::With) {
                    self.main = Some(starter);
                }
            }
            Role::Query => self.wants_query = false,
            _ => {}
        }
    }

    /// Whether what stands before asks for a statement with this starter.
    pub(super) fn asks_for(&self, starter: &Starter) -> bool {
        match self.open.last() {
            None => match starter.role {
                Role::Query => self.wants_query || self.after_with,
                Role::With => self.wants_query,
                Role::Filled | Role::Change => self.after_with,
                Role::Plain => false,
            },
            Some(with) => {
                let opened = self.previous.kind == TokenKind::Punctuation(b'(');
                let listed = *with && self.previous.kind == TokenKind::Punctuation(b')');
                matches!(starter.role, Role::Query | Role::With) && (opened || listed)
            }
        }
    }
}
