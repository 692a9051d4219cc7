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

pub use statement::{Delimiter, Statement, note_in};
pub use trail::Change;
pub(super) use trail::{Mark, Trail};

use crate::dialect::{Dialect, Kind, Starter};
use crate::lexer::{Bytes, Lexer, Token, TokenKind};
use body::BodyState;
use progress::{AwaitsData, Progress};

mod begins;
mod body;
pub mod out_mark;
mod progress;
mod statement;
mod take;
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

/// What a comment begins with that names the connection of a text.
pub const CONNECTION: &str = "connection:";

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
                    comment_on_line = match titles && self.names_connection(&token) {
                        // What stands above it is the title still.
                        true => gap.title,
                        false => titles.then_some((token.start, token.end)),
                    };
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
        opens && out_mark::behind_mark(&String::from_utf8_lossy(&start), self.dialect).is_some()
    }

    /// Whether a comment says on which connection the text runs, and not what a statement is about.
    fn names_connection(&mut self, comment: &Token) -> bool {
        let end = comment.end.min(comment.start + 64);
        let start: Vec<u8> = (comment.start..end).filter_map(|at| self.bytes.at(at)).collect();
        let start = String::from_utf8_lossy(&start);
        let inside = self.dialect.line_comments.iter().find_map(|mark| start.strip_prefix(mark));
        inside.is_some_and(|inside| inside.trim_start().starts_with(CONNECTION))
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
            if gap.first_on_line && self.ends_batch(&token) {
                self.skip_to(self.line_end(token.end));
            } else if empty {
                self.skip_to(token.start + self.delimiter.text().map_or(1, str::len));
            } else if self.dialect.delimiter_word.is_some_and(|word| self.bytes.is_word(&token, word)) {
                self.set_delimiter(&token);
            } else {
                break (gap, token);
            }
        };
        let client_line = self.dialect.client_lines && first.kind == TokenKind::Punctuation(b'\\');
        if self.dialect.ends_with_line || client_line {
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
            if gap.first_on_line && self.ends_batch(&token) {
                self.peeked_before(gap, token);
                break;
            }
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
                if progress.conditional && self.otherwise_follows() {
                    self.take(&mut progress, token);
                    continue;
                }
                end = Some(token.end);
                break;
            }
            let parted = self.dialect.ends_with_blank && gap.blank_line && progress.open == 0;
            if parted || (gap.first_on_line && self.begins_anew(&progress, &gap, &token)) {
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

    /// Whether the first word of a line ends all statements above it.
    fn ends_batch(&mut self, word: &Token) -> bool {
        self.dialect.batch_word.is_some_and(|known| {
            self.bytes.is_word(word, known) && {
                let rest = self.bytes.text(word.end..self.line_end(word.end));
                let rest = rest.split("--").next().unwrap_or_default().trim();
                rest.is_empty() || rest.bytes().all(|b| b.is_ascii_digit())
            }
        })
    }

    /// Where the line ends that holds this byte.
    fn line_end(&self, at: usize) -> usize {
        let rope = self.bytes.rope();
        let next = rope.byte_to_line(at) + 1;
        let end = rope.try_line_to_byte(next).unwrap_or(rope.len_bytes());
        let line = self.bytes.text(at..end);
        end - (line.len() - line.trim_end_matches(['\n', '\r']).len())
    }

    /// Whether the other branch of a condition comes next.
    fn otherwise_follows(&mut self) -> bool {
        let (_, next) = self.peek();
        next.is_some_and(|next| self.bytes.is_word(&next, "ELSE"))
    }

    fn is_delimiter(&mut self, at: usize) -> bool {
        let delimiter = self.delimiter;
        delimiter.text().is_some_and(|text| self.bytes.starts_with(at, text))
    }

    /// Takes on what the line behind `DELIMITER` names.
    fn set_delimiter(&mut self, word: &Token) {
        let line_end = self.line_end(word.end);
        let rest = self.bytes.text(word.end..line_end);
        if let Some(text) = rest.split_whitespace().next() {
            self.delimiter = Delimiter::of(text);
        }
        self.skip_to(line_end);
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
}

#[cfg(test)]
mod tests;
