//! Where a statement ends.
//!
//! **With semicolons** the split is the one the server makes: a statement ends at the first
//! semicolon outside quotes, comments and bodies ([`Body`]), whatever blank lines and comments
//! stand inside it.
//!
//! **Where a semicolon was forgotten**, a statement also ends
//! 1. at the end of the buffer;
//! 2. before a line whose first word can only begin a new statement. Whether it can is read from
//!    the dialect's table of [`Starter`]s: a word that may not be a name begins one unless what
//!    stands before asks for it (`INSERT INTO t`, `UNION`, `AS`, `(`, a `WITH` list); a word that
//!    may be a name begins one only where no alias could stand there, told by the word after it;
//! 3. before a blank line, a title and a word that may be a whole statement by itself (`VACUUM`).
//!
//! Rule 2 never divides what the server would take as one valid statement. Rule 3 would, where
//! nobody writes so: an alias or a type named like a command, below a blank line and a comment.

use ropey::Rope;

pub use statement::{Delimiter, Statement};
pub use trail::Change;
pub(super) use trail::{Mark, Trail};

use super::dialect::{Carrier, Dialect, Kind, Role, Starter};
use super::lexer::{Bytes, Lexer, Token, TokenKind};
use body::BodyState;
use progress::{AwaitsData, Progress};

mod begins;
mod body;
mod progress;
mod statement;
mod trail;

/// Finds the statements of `rope`, in order, beginning at byte `from`, which must be the beginning
/// of the text or lie at the end of a statement.
pub fn statements<'a>(rope: &'a Rope, dialect: &'static Dialect, from: usize) -> Statements<'a> {
    let lexer = Lexer::new(rope, dialect, from);
    let trail = Trail { spacing: usize::MAX, ..Trail::default() };
    let (delimiter, resumed) = (Delimiter::default(), None);
    Statements {
        splitter: Splitter {
            lexer,
            bytes: Bytes::new(rope),
            dialect,
            peeked: None,
            delimiter,
            resumed,
            trail,
            looked_ahead: 0,
        },
    }
}

/// What the first statement of a text does.
pub fn kind(text: &str, dialect: &'static Dialect) -> Option<Kind> {
    let rope = Rope::from_str(text);
    statements(&rope, dialect, 0).next().map(|statement| statement.kind)
}

/// Where finding statements begins.
#[derive(Debug, Clone)]
pub(super) enum From {
    /// Behind a statement, or at the beginning of the text.
    Behind(Option<Statement>),
    /// Inside one.
    Inside(Statement, Mark),
}

/// Finds the statements from a place on, and marks places in long ones.
pub(super) fn statements_from<'a>(
    rope: &'a Rope,
    dialect: &'static Dialect,
    from: From,
    trail: Trail<'a>,
) -> Statements<'a> {
    let (at, delimiter) = match &from {
        From::Behind(last) => last.map_or_else(Default::default, |last| (last.end, last.delimiter)),
        From::Inside(statement, mark) => (mark.at, statement.delimiter),
    };
    let mut found = statements(rope, dialect, at);
    found.splitter.delimiter = delimiter;
    found.splitter.trail = trail;
    if let From::Inside(statement, mark) = from {
        found.splitter.resumed = Some((statement, mark));
    }
    found
}

/// An iterator over statements; see [`statements`].
pub struct Statements<'a> {
    splitter: Splitter<'a>,
}

impl Statements<'_> {
    /// The marks made so far.
    pub(super) fn into_marks(self) -> Vec<Mark> {
        self.splitter.trail.made
    }
}

impl Iterator for Statements<'_> {
    type Item = Statement;

    fn next(&mut self) -> Option<Statement> {
        self.splitter.statement()
    }
}

/// The trivia before a token, as far as it matters.
#[derive(Debug, Clone, Copy, Default)]
struct Gap {
    /// Whether the token is the first on its line.
    first_on_line: bool,
    /// The comment that stands alone on the line directly above.
    title: Option<(usize, usize)>,
    /// Whether a blank line stands above it, or above its title.
    blank_line: bool,
}

struct Splitter<'a> {
    lexer: Lexer<'a>,
    bytes: Bytes<'a>,
    dialect: &'static Dialect,
    peeked: Option<(Gap, Option<Token>)>,
    delimiter: Delimiter,
    /// A statement that is gone on with.
    resumed: Option<(Statement, Mark)>,
    trail: Trail<'a>,
    /// How many tokens to come have been looked at beyond the next one.
    looked_ahead: u8,
}

/// Words that may stand before the one that says what a statement is about.
const BEFORE_SECOND: &[&str] = &["OR", "REPLACE", "TEMPORARY", "TEMP", "UNLOGGED", "GLOBAL", "LOCAL"];

impl<'a> Splitter<'a> {
    /// The next token the server would see, with the trivia before it.
    fn significant(&mut self, at_line_start: bool) -> (Gap, Option<Token>) {
        if let Some(peeked) = self.peeked.take() {
            return peeked;
        }
        let mut gap = Gap { first_on_line: at_line_start, ..Gap::default() };
        let mut line_is_blank = at_line_start;
        let mut comment_on_line: Option<(usize, usize)> = None;
        loop {
            let Some(token) = self.lexer.next() else { return (gap, None) };
            match token.kind {
                TokenKind::Space => {}
                TokenKind::Comment => {
                    // An out-line belongs to the statement above it.
                    let titles = line_is_blank && !self.is_out_line(&token);
                    comment_on_line = titles.then_some((token.start, token.end));
                    line_is_blank = false;
                }
                TokenKind::LineEnd => {
                    if gap.first_on_line && line_is_blank {
                        gap.blank_line = true;
                        gap.title = None;
                    } else {
                        gap.title = comment_on_line.take();
                    }
                    gap.first_on_line = true;
                    line_is_blank = true;
                }
                _ => {
                    // A comment before the word on its own line is not the line above.
                    return (gap, Some(token));
                }
            }
        }
    }

    fn is_out_line(&mut self, comment: &Token) -> bool {
        // The comment may be long; an out-line says so at once.
        let end = comment.end.min(comment.start + 16);
        let opens = self.bytes.at(comment.start).is_some_and(|b| b == b'-' || b == b'#');
        let start: Vec<u8> = (comment.start..end).filter_map(|at| self.bytes.at(at)).collect();
        opens && crate::run::out_line::behind_mark(&String::from_utf8_lossy(&start), self.dialect).is_some()
    }

    fn peek(&mut self) -> (Gap, Option<Token>) {
        let found = self.significant(false);
        self.peeked = Some(found);
        found
    }

    fn word(&self, token: &Token) -> Option<std::borrow::Cow<'a, str>> {
        (token.kind == TokenKind::Word && token.end - token.start <= 24).then(|| self.bytes.text(token.range()))
    }

    fn one_of(&mut self, token: &Token, words: &[&str]) -> bool {
        words.iter().any(|word| self.bytes.is_word(token, word))
    }

    fn starter(&self, token: &Token) -> Option<&'static Starter> {
        self.dialect.starter(&self.word(token)?)
    }

    fn statement(&mut self) -> Option<Statement> {
        if let Some((begun, mark)) = self.resumed.take() {
            self.trail.last = mark.at;
            return Some(self.go_on(begun.start, begun.title, mark.progress));
        }
        // Empty statements are none.
        let (gap, first) = loop {
            let at_start = self.peeked.is_none() && self.lexer.position() == 0;
            let (gap, token) = self.significant(at_start);
            let token = token?;
            let empty = token.kind == TokenKind::Semicolon || self.is_delimiter(token.start);
            if empty {
                self.skip_to(token.start + self.delimiter.text().map_or(1, str::len));
            } else if self.dialect.delimiter_word.is_some_and(|word| self.bytes.is_word(&token, word)) {
                self.set_delimiter(&token);
            } else {
                break (gap, token);
            }
        };
        let client_line = self.dialect.client_lines && first.kind == TokenKind::Punctuation(b'\\');
        if self.dialect.lines || client_line {
            return Some(self.line(&gap, first));
        }
        let first = self.cut_at_delimiter(first);
        let mut progress = Progress::new(first);
        self.take(&mut progress, first);
        self.trail.last = first.start;
        Some(self.go_on(first.start, gap.title, progress))
    }

    /// Finds the end of a statement that has begun.
    fn go_on(&mut self, start: usize, title: Option<(usize, usize)>, mut progress: Progress) -> Statement {
        let mut end = None;
        loop {
            let (gap, token) = self.significant(false);
            let Some(token) = token else {
                self.peeked = Some((gap, None));
                break;
            };
            if let Some(length) = self.delimiter.text().map(str::len) {
                if self.is_delimiter(token.start) {
                    let behind = token.start + length;
                    self.skip_to(behind);
                    end = Some(behind);
                    break;
                }
                let token = self.cut_at_delimiter(token);
                self.take(&mut progress, token);
                continue;
            }
            let in_rule = progress.open > 0 && progress.second == Some("RULE");
            if token.kind == TokenKind::Semicolon && !matches!(progress.body, BodyState::Inside(..)) && !in_rule {
                end = Some(token.end);
                break;
            }
            if gap.first_on_line && self.begins_anew(&progress, &gap, &token) {
                self.peeked_before(gap, token);
                break;
            }
            self.take(&mut progress, token);
            // What was looked at ahead is not part of the state.
            if self.peeked.is_none()
                && self.looked_ahead == 0
                && let Some(known) = self.trail.pass(&progress, token.end)
            {
                self.skip_to(known.end);
                return Statement { start, title, ..known };
            }
        }
        let mut body_end = progress.previous.end;
        if let (Some(semicolon), true) = (end, progress.awaits_data == AwaitsData::Yes) {
            // The rows belong to the statement, which is sent with them.
            body_end = self.data_end(semicolon);
            end = Some(body_end);
            self.skip_to(body_end);
        }
        Statement {
            start,
            body_end,
            end: end.unwrap_or(body_end),
            title,
            kind: progress.kind(),
            closed: progress.closed,
            delimiter: self.delimiter,
        }
    }

    /// A statement that ends with its line.
    fn line(&mut self, gap: &Gap, first: Token) -> Statement {
        let (mut end, mut closed) = (first.end, first.closed);
        loop {
            match self.lexer.next() {
                Some(token) if token.kind != TokenKind::LineEnd => {
                    closed &= token.closed;
                    if !token.kind.is_trivia() {
                        end = token.end;
                    }
                }
                ended => {
                    // The end of the line belongs to what comes.
                    if let Some(token) = ended {
                        self.skip_to(token.start);
                    }
                    break;
                }
            }
        }
        let delimiter = self.delimiter;
        Statement { start: first.start, body_end: end, end, title: gap.title, kind: Kind::Other, closed, delimiter }
    }

    /// Begins to read again at this byte.
    fn skip_to(&mut self, at: usize) {
        self.lexer = Lexer::new(self.bytes.rope(), self.dialect, at);
        self.peeked = None;
    }

    fn is_delimiter(&mut self, at: usize) -> bool {
        let delimiter = self.delimiter;
        delimiter.text().is_some_and(|text| self.bytes.starts_with(at, text))
    }

    /// Takes on what the line behind `DELIMITER` names.
    fn set_delimiter(&mut self, word: &Token) {
        let rope = self.bytes.rope();
        let line_end = rope.byte_to_line(word.end) + 1;
        let line_end = rope.try_line_to_byte(line_end).unwrap_or(rope.len_bytes());
        let rest = self.bytes.text(word.end..line_end);
        if let Some(text) = rest.split_whitespace().next() {
            self.delimiter = Delimiter::of(text);
        }
        let blanks = rest.len() - rest.trim_end_matches(['\n', '\r']).len();
        self.skip_to(line_end - blanks);
    }

    /// A word may hold the delimiter, `END$$`: it ends before that.
    fn cut_at_delimiter(&mut self, token: Token) -> Token {
        let delimiter = self.delimiter;
        let (Some(text), TokenKind::Word) = (delimiter.text(), token.kind) else { return token };
        match (token.start + 1..token.end).find(|at| self.bytes.starts_with(*at, text)) {
            Some(end) => {
                self.skip_to(end);
                Token { end, ..token }
            }
            None => token,
        }
    }

    /// The end of the rows that stand below a statement: the line `\.`, or the end of the text.
    fn data_end(&mut self, from: usize) -> usize {
        let rope = self.bytes.rope();
        let first = rope.byte_to_line(from) + 1;
        for line in first..rope.len_lines() {
            let start = rope.line_to_byte(line);
            if self.bytes.starts_with(start, "\\.") && matches!(self.bytes.at(start + 2), None | Some(b'\n' | b'\r')) {
                return start + 2;
            }
        }
        rope.len_bytes()
    }

    /// Puts a token back that opened the next statement. The token after it may have been looked at
    /// already, so the lexer begins again behind it.
    fn peeked_before(&mut self, gap: Gap, token: Token) {
        self.lexer = Lexer::new(self.bytes.rope(), self.dialect, token.end);
        self.peeked = Some((gap, Some(token)));
    }

    /// Adds a token to the statement.
    fn take(&mut self, progress: &mut Progress, token: Token) {
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
                progress.note(starter);
            }
            self.follow_body(progress, &token, starter);
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
    fn lead_or_prefix(&mut self, progress: &mut Progress, starter: Option<&'static Starter>, token: &Token) {
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

#[cfg(test)]
mod dialects;
#[cfg(test)]
mod tests;
