//! Bodies: statements that hold others, each with its own semicolon.

use crate::dialect::{Body, Starter};
use crate::lexer::{Token, TokenKind};
use crate::split::Splitter;
use crate::split::progress::Progress;

#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum BodyState {
    /// Not (yet) known to have one.
    None,
    /// After the word that the object word may follow.
    Possible(&'static Body),
    /// Between the object word and the body; whether the object word was the last token.
    Head(&'static Body, bool),
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
    /// `CASE` expressions that are open within a statement.
    pub(super) cases: u16,
    /// The statement declares a handler, whose own statement follows.
    pub(super) handler: bool,
}

/// Where a body begins.
const BEGUN: Place = Place { fresh: true, depth: 1, cases: 0, handler: false };

impl Splitter<'_> {
    /// The state behind the leading word of a statement.
    pub(super) fn begin_body(&mut self, lead: &Token) -> BodyState {
        let bodies = self.dialect.bodies;
        // A block that stands for itself: `WHILE … DO … END WHILE`.
        if let Some(body) = bodies.iter().find(|body| body.after.is_empty() && self.bytes.is_word(lead, body.open)) {
            return if body.by_words && self.is_no_block(lead) {
                BodyState::None
            } else {
                BodyState::Inside(body, BEGUN)
            };
        }
        bodies.iter().find(|body| self.bytes.is_word(lead, body.after)).map_or(BodyState::None, BodyState::Possible)
    }

    pub(super) fn follow_body(&mut self, progress: &mut Progress, token: &Token, starter: Option<&'static Starter>) {
        progress.body = match progress.body {
            BodyState::Possible(body) => {
                let bodies = self.dialect.bodies.iter();
                let named = bodies.filter(|b| b.after == body.after).find(|b| self.bytes.is_word(token, b.object));
                match named {
                    Some(body) if body.open.is_empty() => BodyState::Inside(body, BEGUN),
                    Some(body) => BodyState::Head(body, true),
                    None if self.one_of(token, body.between) || self.is_name(body, token) => BodyState::Possible(body),
                    None => BodyState::None,
                }
            }
            BodyState::Head(body, directly) => self.in_head(progress, body, directly, token, starter),
            BodyState::Inside(body, place) if body.blocks.is_empty() => {
                if place.fresh && self.bytes.is_word(token, body.close) {
                    BodyState::None
                } else {
                    BodyState::Inside(body, Place { fresh: token.kind == TokenKind::Semicolon, ..place })
                }
            }
            BodyState::Inside(body, place) if body.by_words => self.in_words(body, place, token),
            BodyState::Inside(body, place) => self.in_blocks(body, place, token, &progress.previous),
            BodyState::None => BodyState::None,
        };
    }

    /// Looks for the body: a block, or a single statement, which then says what may follow.
    fn in_head(
        &mut self,
        progress: &mut Progress,
        body: &'static Body,
        directly: bool,
        token: &Token,
        starter: Option<&'static Starter>,
    ) -> BodyState {
        let head = BodyState::Head(body, false);
        if progress.open > 0 {
            return head;
        }
        if self.bytes.is_word(token, body.open) {
            return BodyState::Inside(body, BEGUN);
        }
        if !body.single {
            return head;
        }
        // `PROCEDURE IF NOT EXISTS p`, `FOR EACH ROW`.
        if !directly && self.one_of(token, body.blocks) {
            let (_, next) = self.peek();
            if !next.is_some_and(|next| self.bytes.is_word(&next, "EACH")) {
                return BodyState::Inside(body, BEGUN);
            }
        }
        let awaited = body.single_after.is_empty() || self.bytes.is_word(&progress.previous, body.single_after);
        let in_head =
            directly || self.is_label(token) || !awaited || self.one_of(&progress.previous, BEFORE_WORDS_OF_HEADS);
        if in_head || starter.is_none() {
            return head;
        }
        // It is read like any other, but the whole stays what it is.
        progress.in_body = true;
        self.lead_or_prefix(progress, starter, token);
        progress.body
    }

    /// Whether a token before the object word can stand there, `DEFINER = purser@quay PROCEDURE`.
    fn is_name(&mut self, body: &Body, token: &Token) -> bool {
        let keyword = self.word(token).is_some_and(|word| self.dialect.is_keyword(&word));
        body.names_between && token.kind != TokenKind::Semicolon && !keyword
    }

    /// Follows blocks within blocks.
    fn in_blocks(&mut self, body: &'static Body, place: Place, token: &Token, previous: &Token) -> BodyState {
        let Place { fresh, mut depth, mut cases, mut handler } = place;
        // `END IF` closes one block and opens none.
        let behind_close = self.bytes.is_word(previous, body.close);
        let may_open = (fresh || handler) && !behind_close;
        // `HANDLER FOR SQLEXCEPTION …` is about what is handled.
        let opens = may_open && self.one_of(token, body.blocks) && !self.bytes.is_word(previous, "HANDLER");
        if opens {
            depth += 1;
            handler = false;
        } else if self.bytes.is_word(token, "CASE") && !behind_close {
            cases += 1;
        } else if self.bytes.is_word(token, body.close) {
            // `UNTIL done END REPEAT` has no semicolon before it.
            let closes = fresh || {
                let (_, next) = self.peek();
                next.is_some_and(|next| self.one_of(&next, body.blocks))
            };
            match cases {
                0 => depth -= u16::from(closes),
                _ => cases -= 1,
            }
        } else if self.bytes.is_word(token, "HANDLER") {
            handler = true;
        }
        if depth == 0 {
            return BodyState::None;
        }
        let ends = token.kind == TokenKind::Semicolon;
        if ends {
            (cases, handler) = (0, false);
        }
        let fresh = ends
            || (fresh && matches!(token.kind, TokenKind::Word | TokenKind::QuotedName) && self.is_label(token))
            || (fresh && token.kind == TokenKind::Punctuation(b':'))
            || (opens && self.one_of(token, &["BEGIN", "LOOP", "REPEAT"]))
            || self.bytes.is_word(token, "ATOMIC")
            || (cases == 0 && self.one_of(token, &["THEN", "ELSE", "DO"]));
        BodyState::Inside(body, Place { fresh, depth, cases, handler })
    }

    /// Follows blocks whose statements nothing ends: each word that opens one has one that closes it.
    fn in_words(&mut self, body: &'static Body, place: Place, token: &Token) -> BodyState {
        let opens = self.one_of(token, body.blocks) && !self.is_no_block(token);
        let depth = match place.depth {
            // Between `END` and the word of the block, and between that and the block that handles its errors.
            0 if self.bytes.is_word(token, "TRY") => 0,
            0 if opens => 1,
            0 => return BodyState::None,
            depth if opens || self.bytes.is_word(token, "CASE") => depth + 1,
            depth if self.bytes.is_word(token, body.close) && !self.follows(token, &["CONVERSATION"]) => depth - 1,
            depth => depth,
        };
        if depth == 0 && place.depth > 0 && !self.follows(token, &["TRY"]) {
            return BodyState::None;
        }
        BodyState::Inside(body, Place { depth, ..place })
    }

    /// Whether what begins here is a transaction or a conversation, and no block.
    fn is_no_block(&mut self, begin: &Token) -> bool {
        self.follows(begin, &["TRAN", "TRANSACTION", "DISTRIBUTED", "DIALOG", "CONVERSATION"])
    }

    fn follows(&mut self, token: &Token, words: &[&str]) -> bool {
        let next = self.ahead(token).next();
        next.is_some_and(|next| self.one_of(&next, words))
    }

    /// Whether a word is followed by a colon, `outer_loop: LOOP`.
    fn is_label(&mut self, word: &Token) -> bool {
        let next = self.ahead(word).next();
        next.is_some_and(|t| t.kind == TokenKind::Punctuation(b':') && self.bytes.at(t.end) != Some(b'='))
    }
}

/// Words of the head of a statement with a body, behind which the first word of a statement is none.
const BEFORE_WORDS_OF_HEADS: &[&str] = &["BEFORE", "AFTER", "OR", "CHARACTER", "RETURNS", "DEFINER", "OF"];
