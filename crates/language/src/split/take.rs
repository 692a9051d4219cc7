//! What each token adds to what is known of a statement.

use crate::dialect::{Carrier, Role, Starter, Then};
use crate::lexer::{Lexer, Token, TokenKind};
use crate::split::Splitter;
use crate::split::body::BodyState;
use crate::split::progress::{AwaitsData, Progress};

/// Words that may stand before the one that says what a statement is about.
const BEFORE_SECOND: &[&str] = &["OR", "REPLACE", "TEMPORARY", "TEMP", "UNLOGGED", "GLOBAL", "LOCAL"];

impl Splitter<'_> {
    /// Adds a token to the statement.
    pub(super) fn take(&mut self, progress: &mut Progress, token: Token) {
        if token.kind == TokenKind::Code && token.closed {
            return self.take_code(progress, token);
        }
        // Behind a point stands a name.
        let named = progress.previous.kind == TokenKind::Punctuation(b'.');
        let starter = if named { None } else { self.starter(&token) };
        if let Some(carrier) = progress.carrier {
            self.carry(progress, carrier, &token);
        } else if progress.only_prefix {
            self.lead_or_prefix(progress, starter, &token);
        } else {
            self.follow_second(progress, &token);
            if let (Some(starter), 0) = (starter, progress.open) {
                // `WITH (NOLOCK)` and its like list nothing.
                if starter.then != Then::TableExpression || self.table_expression(&token) {
                    progress.note(starter);
                }
            }
            if !self.follow_condition(progress, &token, starter) {
                self.follow_body(progress, &token, starter);
            }
            progress.awaits_data = match progress.awaits_data {
                AwaitsData::AfterFrom if self.bytes.is_word(&token, "FROM") => AwaitsData::AfterStdin,
                AwaitsData::AfterStdin if self.bytes.is_word(&token, "STDIN") => AwaitsData::Yes,
                AwaitsData::AfterStdin => AwaitsData::No,
                state => state,
            };
        }
        match token.kind {
            TokenKind::Punctuation(b'(') => progress.open += 1,
            TokenKind::Punctuation(b')') => progress.open = progress.open.saturating_sub(1),
            TokenKind::Punctuation(b'{' | b'[') if self.dialect.ends_with_blank => progress.open += 1,
            TokenKind::Punctuation(b'}' | b']') if self.dialect.ends_with_blank => {
                progress.open = progress.open.saturating_sub(1);
            }
            _ => {}
        }
        let gives = progress.previous.kind == TokenKind::Punctuation(b'=') || self.one_of(&progress.previous, &["TO"]);
        progress.is_value = gives && token.kind == TokenKind::Word;
        self.looked_ahead = self.looked_ahead.saturating_sub(1);
        progress.closed &= token.closed;
        progress.previous = token;
    }

    /// Takes a comment whose content the server carries out: word by word, as it does.
    fn take_code(&mut self, progress: &mut Progress, code: Token) {
        let open = self.dialect.code_comments.iter().find(|open| self.bytes.starts_with(code.start, open));
        let mut from = code.start + open.map_or(0, |open| open.len());
        // The version from which on it counts.
        while from < code.end && self.bytes.at(from).is_some_and(|b| b.is_ascii_digit()) {
            from += 1;
        }
        let close = code.end - 2;
        let inside = Lexer::new(self.bytes.rope(), self.dialect, from).take_while(|token| token.end <= close);
        for token in inside.filter(|token| !token.kind.is_trivia() && token.kind != TokenKind::Code) {
            self.take(progress, token);
        }
        progress.previous = code;
    }

    /// Takes a word that may be a prefix, one of its options, or the leading word.
    pub(super) fn lead_or_prefix(&mut self, progress: &mut Progress, starter: Option<&'static Starter>, token: &Token) {
        progress.only_prefix = true;
        if self.is_prefix(token) {
            progress.prefixed |= !progress.in_body;
        } else if !(progress.prefixed && self.is_prefix_option(progress, token)) {
            self.lead(progress, starter, token);
        }
        if progress.in_body && progress.only_prefix {
            progress.body = BodyState::None;
        }
    }

    /// Takes the leading word, behind all prefixes.
    fn lead(&mut self, progress: &mut Progress, starter: Option<&'static Starter>, token: &Token) {
        progress.only_prefix = false;
        progress.lead = starter;
        if !progress.in_body {
            progress.main = starter;
        }
        progress.second = None;
        progress.awaits_second = !self.dialect.seconds.is_empty();
        progress.after_with = starter.is_some_and(|s| s.role == Role::With);
        progress.wants_query = starter.is_some_and(|s| s.role == Role::Filled);
        progress.body = self.begin_body(token);
        progress.conditional = self.one_of(token, self.dialect.conditions);
        progress.wants_statement = progress.conditional;
        let mut carriers = self.dialect.carriers.iter();
        progress.carrier = carriers.find(|carrier| self.bytes.is_word(token, carrier.lead));
        if self.dialect.copy_data && self.bytes.is_word(token, "COPY") {
            progress.awaits_data = AwaitsData::AfterFrom;
        }
    }

    /// Takes a word of a statement that carries another, up to where that begins.
    fn carry(&mut self, progress: &mut Progress, carrier: &'static Carrier, token: &Token) {
        let follows_lead = self.bytes.is_word(&progress.previous, carrier.lead);
        if follows_lead && !carrier.second.is_empty() && !self.bytes.is_word(token, carrier.second) {
            progress.carrier = None;
        } else if progress.open == 0 && !follows_lead && self.bytes.is_word(token, carrier.until) {
            progress.carrier = None;
            progress.only_prefix = true;
            if !progress.in_body {
                progress.carries = progress.carries.or(carrier.kind);
            }
        }
    }

    /// Follows a condition, the statement behind it and the one behind `ELSE`. Whether the token began such a one.
    fn follow_condition(&mut self, progress: &mut Progress, token: &Token, starter: Option<&'static Starter>) -> bool {
        if !progress.conditional || progress.open > 0 || progress.body != BodyState::None {
            return false;
        }
        if self.bytes.is_word(token, "CASE") {
            progress.cases += 1;
        } else if self.bytes.is_word(token, "END") {
            progress.cases = progress.cases.saturating_sub(1);
        } else if progress.cases == 0 && self.bytes.is_word(token, "ELSE") {
            progress.wants_statement = true;
        } else if progress.wants_statement && starter.is_some() {
            progress.wants_statement = self.one_of(token, self.dialect.conditions);
            progress.lead = starter;
            progress.wants_query = starter.is_some_and(|s| s.role == Role::Filled);
            progress.after_with = starter.is_some_and(|s| s.role == Role::With);
            progress.body = self.begin_body(token);
            return true;
        }
        false
    }

    /// Finds the word that says what the leading one is about.
    fn follow_second(&mut self, progress: &mut Progress, token: &Token) {
        if progress.awaits_second && !self.one_of(token, BEFORE_SECOND) {
            progress.awaits_second = false;
            progress.second = self.dialect.seconds.iter().copied().find(|word| self.bytes.is_word(token, word));
            progress.wants_query |= self.dialect.tables_take_queries
                && progress.second == Some("TABLE")
                && progress.lead.is_some_and(|lead| lead.word == "CREATE");
        }
    }

    /// Whether a word may be put before a whole statement. `ANALYZE TABLE t` is one itself.
    fn is_prefix(&mut self, token: &Token) -> bool {
        self.one_of(token, self.dialect.prefixes) && {
            let (_, next) = self.peek();
            !next.is_some_and(|next| self.one_of(&next, self.dialect.no_prefix_before))
        }
    }

    fn is_prefix_option(&mut self, progress: &Progress, token: &Token) -> bool {
        let options = self.dialect.prefix_options;
        let parenthesis = !options.is_empty() && token.kind == TokenKind::Punctuation(b'(');
        // A statement may be in parentheses too.
        let opens_options = parenthesis && self.one_of(&progress.previous, self.dialect.prefixes) && {
            let (_, next) = self.peek();
            next.is_some_and(|next| self.starter(&next).is_none_or(|s| options.contains(&s.word)))
        };
        // A value, `FORMAT = JSON`.
        let assigned =
            token.kind == TokenKind::Punctuation(b'=') || progress.previous.kind == TokenKind::Punctuation(b'=');
        opens_options || progress.open > 0 || assigned || self.one_of(token, options)
    }
}
