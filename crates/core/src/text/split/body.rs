//! Bodies: statements that hold others, each with its own semicolon.

use super::Splitter;
use super::progress::Progress;
use crate::text::dialect::Body;
use crate::text::lexer::{Token, TokenKind};

#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum BodyState {
    /// Not (yet) known to have one.
    None,
    /// After the word that the object word may follow.
    Possible(&'static Body),
    /// Between the object word and the body.
    Head(&'static Body),
    /// In the body.
    Inside(&'static Body, Place),
}

/// A place in a body.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Place {
    /// Whether a statement may begin here; in a flat body, directly after a semicolon.
    pub(super) fresh: bool,
    /// Blocks that are open, the body itself among them.
    pub(super) depth: u16,
}

impl Splitter<'_> {
    pub(super) fn follow_body(&mut self, progress: &mut Progress, token: &Token) {
        const BEGUN: Place = Place { fresh: true, depth: 1 };
        progress.body = match progress.body {
            BodyState::Possible(body) => {
                let bodies = self.dialect.bodies.iter();
                let named = bodies.filter(|b| b.after == body.after).find(|b| self.bytes.is_word(token, b.object));
                match named {
                    Some(body) if body.open.is_empty() => BodyState::Inside(body, BEGUN),
                    Some(body) => BodyState::Head(body),
                    None if self.one_of(token, body.between) || self.is_name(body, token) => BodyState::Possible(body),
                    None => BodyState::None,
                }
            }
            BodyState::Head(body) if self.bytes.is_word(token, body.open) => {
                BodyState::Inside(body, Place { fresh: !body.blocks.is_empty(), ..BEGUN })
            }
            BodyState::Inside(body, place) if body.blocks.is_empty() => {
                if place.fresh && self.bytes.is_word(token, body.close) {
                    BodyState::None
                } else {
                    BodyState::Inside(body, Place { fresh: token.kind == TokenKind::Semicolon, ..place })
                }
            }
            BodyState::Inside(body, place) => self.in_blocks(body, place, token, &progress.previous),
            state => state,
        };
    }

    /// Whether a token before the object word can stand there, `DEFINER = purser@quay PROCEDURE`.
    fn is_name(&mut self, body: &Body, token: &Token) -> bool {
        let keyword = self.word(token).is_some_and(|word| self.dialect.is_keyword(&word));
        body.names_between && token.kind != TokenKind::Semicolon && !keyword
    }

    /// Follows blocks within blocks.
    fn in_blocks(&mut self, body: &'static Body, place: Place, token: &Token, previous: &Token) -> BodyState {
        let closes = self.bytes.is_word(token, body.close);
        // `END IF` closes one block and opens none.
        let behind_close = self.bytes.is_word(previous, body.close);
        let opens =
            !behind_close && (self.bytes.is_word(token, "CASE") || (place.fresh && self.one_of(token, body.blocks)));
        let depth = place.depth + u16::from(opens) - u16::from(closes);
        if depth == 0 {
            return BodyState::None;
        }
        let fresh = token.kind == TokenKind::Semicolon
            || token.kind == TokenKind::Punctuation(b':')
            || (opens && self.one_of(token, &["BEGIN", "LOOP", "REPEAT"]))
            || self.one_of(token, &["THEN", "ELSE", "DO"]);
        BodyState::Inside(body, Place { fresh, depth })
    }
}
