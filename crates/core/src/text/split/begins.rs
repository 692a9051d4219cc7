//! Where a statement begins although no semicolon stands before it: rules 2 and 3.

use super::body::BodyState;
use super::progress::Progress;
use super::{Gap, Splitter};
use crate::text::dialect::{Kind, Starter, Then};
use crate::text::lexer::{Token, TokenKind};

impl Splitter<'_> {
    /// Whether `token`, the first on its line, can only begin a new statement.
    pub(super) fn begins_anew(&mut self, progress: &Progress, gap: &Gap, token: &Token) -> bool {
        let Some(word) = self.word(token) else { return false };
        let dialect = self.dialect;
        dialect.starters.iter().filter(|s| s.word.eq_ignore_ascii_case(&word)).any(|s| self.begins(progress, gap, s))
    }

    /// Whether a line's first word begins a statement in the way that `starter` tells.
    fn begins(&mut self, progress: &Progress, gap: &Gap, starter: &Starter) -> bool {
        let previous = progress.previous;
        // The value of a setting may be any word: `PRAGMA foreign_keys = on`.
        let is_value = previous.kind == TokenKind::Word && progress.lead.is_some_and(|lead| lead.kind == Kind::Setting);
        if progress.only_prefix || (!is_value && self.one_of(&previous, starter.continues_after)) {
            return false;
        }
        if progress.lead.is_some_and(|lead| starter.continues_in.contains(&lead.word)) {
            return false;
        }
        if matches!(progress.body, BodyState::Head(_) | BodyState::Inside(..)) && !starter.breaks_bodies {
            return false;
        }
        if progress.asks_for(starter) || (progress.verbatim && !progress.open.is_empty()) {
            return false;
        }
        if starter.after_blank && !gap.blank_line {
            return false;
        }
        let (next_gap, next) = self.peek();
        if starter.reserved {
            return self.fits(next.as_ref(), &starter.then);
        }
        let titled = gap.blank_line && gap.title.is_some();
        // A type may be made of any names: `ALTER TABLE t ADD COLUMN c release form`.
        let in_type = progress.lead.is_some_and(|lead| lead.ends_in_type) && !self.can_end_type(&previous);
        let whole = is_value || self.can_end(&previous);
        if !whole || !progress.open.is_empty() || (in_type && !titled) {
            return false;
        }
        let stands_alone = next.is_none_or(|next| {
            let begins = next_gap.first_on_line && self.starter(&next).is_some();
            next.kind == TokenKind::Semicolon || begins
        });
        if stands_alone {
            return starter.alone && titled;
        }
        self.fits(next.as_ref(), &starter.then)
    }

    fn fits(&mut self, next: Option<&Token>, then: &Then) -> bool {
        match (then, next) {
            (Then::Anything, _) => true,
            (_, None) => false,
            (Then::Words(words), Some(next)) => self.one_of(next, words),
            (Then::Name(words), Some(next)) => match next.kind {
                TokenKind::Text | TokenKind::QuotedName => true,
                TokenKind::Word => {
                    self.one_of(next, words) || !self.word(next).is_some_and(|word| self.dialect.is_keyword(&word))
                }
                _ => false,
            },
        }
    }

    /// Whether a statement could end in `token`, so that a name after it would be an alias.
    fn can_end(&mut self, token: &Token) -> bool {
        match token.kind {
            TokenKind::Punctuation(byte) => byte == b')',
            TokenKind::Word => {
                self.one_of(token, self.dialect.can_end)
                    || !self.word(token).is_some_and(|word| self.dialect.is_keyword(&word))
            }
            _ => true,
        }
    }

    /// Whether what ends in `token` cannot go on as a type.
    fn can_end_type(&mut self, token: &Token) -> bool {
        token.kind == TokenKind::Punctuation(b')') || self.one_of(token, self.dialect.can_end)
    }
}
