//! Where a statement begins although no semicolon stands before it: rules 2 and 3.

use crate::dialect::{Kind, Starter, Then};
use crate::lexer::{Lexer, Token, TokenKind};
use crate::split::body::BodyState;
use crate::split::progress::Progress;
use crate::split::{Gap, Splitter};

/// How many tokens behind a word are looked at, at most.
const LOOKED_AHEAD: u8 = 3;

/// Words that may stand between `WITH` and `AS` or a parenthesis and name no expression.
const OPTIONS_WITH: &[&str] = &["CHECK", "DELIMITER", "FUNCTION", "NULL", "ORDINALITY"];

impl<'a> Splitter<'a> {
    /// Whether `token`, the first on its line, can only begin a new statement.
    pub(super) fn begins_anew(&mut self, progress: &Progress, gap: &Gap, token: &Token) -> bool {
        let Some(word) = self.word(token) else { return false };
        let dialect = self.dialect;
        dialect
            .starters
            .iter()
            .filter(|s| s.word.eq_ignore_ascii_case(&word))
            .any(|s| self.begins(progress, gap, token, s))
    }

    /// Whether a line's first word begins a statement in the way that `starter` tells.
    fn begins(&mut self, progress: &Progress, gap: &Gap, word: &Token, starter: &Starter) -> bool {
        let previous = progress.previous;
        // Nothing has ended inside parentheses, behind a comma, or before a statement that is carried.
        let goes_on = matches!(previous.kind, TokenKind::Punctuation(b',' | b'.'));
        if progress.open > 0 || progress.carrier.is_some() || goes_on || progress.wants_statement {
            return false;
        }
        // The value of a setting may be any word: `PRAGMA foreign_keys = on`.
        let is_value = progress.is_value && progress.lead.is_some_and(|lead| lead.kind == Kind::Setting);
        if progress.only_prefix || (!is_value && self.one_of(&previous, starter.continues_after)) {
            return false;
        }
        if progress.goes_on_with(starter) || progress.asks_for(starter) {
            return false;
        }
        let in_body = match progress.body {
            BodyState::Head(body, _) => {
                body.single_after.is_empty() || self.bytes.is_word(&previous, body.single_after)
            }
            BodyState::Inside(..) => true,
            BodyState::None | BodyState::Possible(_) => false,
        };
        if in_body && !starter.breaks_bodies {
            return false;
        }
        if starter.after_blank && !gap.blank_line {
            return false;
        }
        let (next_gap, next) = self.peek();
        if starter.reserved {
            return self.fits(word, next.as_ref(), &starter.then);
        }
        let titled = gap.blank_line && gap.title.is_some();
        // A type may be made of any names: `ALTER TABLE t ADD COLUMN c release form`.
        let in_type = progress.lead.is_some_and(|lead| lead.ends_in_type) && !self.can_end_type(&previous);
        let whole = is_value || self.can_end(&previous);
        if !whole || (in_type && !titled) {
            return false;
        }
        let stands_alone = next.is_none_or(|next| {
            let begins = next_gap.first_on_line && self.starter(&next).is_some();
            next.kind == TokenKind::Semicolon || begins
        });
        if stands_alone {
            return starter.alone && titled;
        }
        self.fits(word, next.as_ref(), &starter.then)
    }

    /// Whether a common table expression stands behind a `WITH`.
    pub(super) fn table_expression(&mut self, with: &Token) -> bool {
        let mut ahead = self.ahead(with);
        let mut name = ahead.next();
        if name.is_some_and(|name| self.bytes.is_word(&name, "RECURSIVE")) {
            name = ahead.next();
        }
        let an_option = name.is_some_and(|name| self.one_of(&name, OPTIONS_WITH));
        let named = !an_option && name.is_some_and(|name| matches!(name.kind, TokenKind::Word | TokenKind::QuotedName));
        let then = ahead.next();
        named && then.is_some_and(|t| t.kind == TokenKind::Punctuation(b'(') || self.bytes.is_word(&t, "AS"))
    }

    /// The tokens behind one, as far as may be looked at. They must not be left out of what is read again
    /// after a change, so no mark is made before them.
    pub(super) fn ahead(&mut self, token: &Token) -> impl Iterator<Item = Token> + use<'a> {
        self.looked_ahead = LOOKED_AHEAD;
        let lexer = Lexer::new(self.bytes.rope(), self.dialect, token.end);
        lexer.filter(|token| !token.kind.is_trivia()).take(usize::from(LOOKED_AHEAD))
    }

    fn fits(&mut self, word: &Token, next: Option<&Token>, then: &Then) -> bool {
        match (then, next) {
            (Then::TableExpression, _) => self.table_expression(word),
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
