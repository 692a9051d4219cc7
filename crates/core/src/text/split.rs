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

pub use trail::Change;
pub(super) use trail::{Mark, Trail};

use super::dialect::{Body, Dialect, Kind, Role, Starter, Then};
use super::lexer::{Bytes, Lexer, Token, TokenKind};

mod trail;

/// One statement's place in a text. All offsets are bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Statement {
    /// The first byte of its first word.
    pub start: usize,
    /// The byte after its last word, before its semicolon.
    pub body_end: usize,
    /// The byte after its semicolon; the same as `body_end` where there is none.
    pub end: usize,
    /// The comment directly above it, marks and all.
    pub title: Option<(usize, usize)>,
    /// What it does.
    pub kind: Kind,
    /// False where a quote or comment inside never closes.
    pub closed: bool,
    /// What ended statements where it stands, if not a semicolon.
    pub delimiter: Delimiter,
}

/// What ends statements instead of a semicolon, as a line `DELIMITER //` sets it; empty for the
/// semicolon. At most eight bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Delimiter([u8; 8]);

impl Delimiter {
    fn of(text: &str) -> Delimiter {
        let mut bytes = [0; 8];
        if text != ";" {
            bytes.iter_mut().zip(text.bytes()).for_each(|(to, from)| *to = from);
        }
        Delimiter(bytes)
    }

    fn text(&self) -> Option<&str> {
        let end = self.0.iter().position(|b| *b == 0).unwrap_or(self.0.len());
        std::str::from_utf8(&self.0[..end]).ok().filter(|text| !text.is_empty())
    }
}

impl Statement {
    /// Where it begins with its title.
    pub fn top(&self) -> usize {
        self.title.map_or(self.start, |(start, _)| start)
    }

    /// The title in words, without comment marks.
    pub fn title_text(&self, rope: &Rope, dialect: &Dialect) -> Option<String> {
        let (start, end) = self.title?;
        title_words(&rope.byte_slice(start..end).to_string(), dialect)
    }

    /// The text to send: without the semicolon.
    pub fn text(&self, rope: &Rope) -> String {
        rope.byte_slice(self.start..self.body_end).to_string()
    }
}

/// The words of a comment: marks, rules and bullets around them are left out.
fn title_words(comment: &str, dialect: &Dialect) -> Option<String> {
    let mut text = comment.trim();
    if let Some(block) = dialect.block_comment
        && let Some(inside) = text.strip_prefix(block.open)
    {
        text = inside.strip_suffix(block.close).unwrap_or(inside);
    }
    let line = text.lines().map(str::trim).find(|line| !line.is_empty())?;
    let bare = dialect.line_comments.iter().find_map(|open| line.strip_prefix(open)).unwrap_or(line);
    let bare = bare.trim_matches(|c: char| c.is_whitespace() || matches!(c, '-' | '=' | '*' | '#' | '/' | '~'));
    (!bare.is_empty()).then(|| bare.to_owned())
}

/// Finds the statements of `rope`, in order, beginning at byte `from`, which must be the beginning
/// of the text or lie at the end of a statement.
pub fn statements<'a>(rope: &'a Rope, dialect: &'static Dialect, from: usize) -> Statements<'a> {
    let lexer = Lexer::new(rope, dialect, from);
    let trail = Trail { spacing: usize::MAX, ..Trail::default() };
    let (delimiter, resumed) = (Delimiter::default(), None);
    Statements {
        splitter: Splitter { lexer, bytes: Bytes::new(rope), dialect, peeked: None, delimiter, resumed, trail },
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
}

/// What the tokens of a statement so far amount to.
#[derive(Debug, Clone, PartialEq)]
struct Progress {
    previous: Token,
    /// Nothing but prefixes so far.
    only_prefix: bool,
    /// A prefix was there.
    prefixed: bool,
    /// The leading word's starter, when there is one.
    lead: Option<&'static Starter>,
    /// The starter that says what the whole does: behind prefixes and a leading `WITH` list.
    main: Option<&'static Starter>,
    /// A statement that takes its rows from a query has not had one yet.
    wants_query: bool,
    /// A `WITH` list has not been followed by its statement yet.
    after_with: bool,
    /// What stands in parentheses is not the language's own.
    verbatim: bool,
    /// For each open parenthesis, whether it began with `WITH`.
    open: Vec<bool>,
    body: BodyState,
    awaits_data: AwaitsData,
    closed: bool,
}

/// Whether rows stand below a statement, `COPY … FROM STDIN`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum AwaitsData {
    No,
    AfterFrom,
    AfterStdin,
    Yes,
}

impl Progress {
    fn new(first: Token) -> Self {
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

    fn kind(&self) -> Kind {
        if self.prefixed { Kind::Plan } else { self.main.map_or(Kind::Other, |starter| starter.kind) }
    }

    /// Notes a starter outside parentheses.
    fn note(&mut self, starter: &'static Starter) {
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
    fn asks_for(&self, starter: &Starter) -> bool {
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

#[derive(Debug, Clone, Copy, PartialEq)]
enum BodyState {
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
struct Place {
    /// Whether a statement may begin here; in a flat body, directly after a semicolon.
    fresh: bool,
    /// Blocks that are open, the body itself among them.
    depth: u16,
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
            if token.kind == TokenKind::Semicolon && !matches!(progress.body, BodyState::Inside(..)) {
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
        let starter = self.starter(&token);
        if progress.only_prefix && self.one_of(&token, self.dialect.prefixes) {
            progress.prefixed = true;
        } else if progress.only_prefix && progress.prefixed && self.is_prefix_option(progress, &token) {
            // Still before the statement that is explained.
        } else if progress.only_prefix {
            progress.only_prefix = false;
            progress.lead = starter;
            progress.main = starter;
            progress.after_with = starter.is_some_and(|s| s.role == Role::With);
            progress.wants_query = starter.is_some_and(|s| s.role == Role::Filled);
            let body = self.dialect.bodies.iter().find(|body| self.bytes.is_word(&token, body.after));
            progress.body = body.map_or(BodyState::None, BodyState::Possible);
            if self.dialect.copy_data && self.bytes.is_word(&token, "COPY") {
                progress.awaits_data = AwaitsData::AfterFrom;
            }
        } else {
            if let (Some(starter), true) = (starter, progress.open.is_empty()) {
                progress.note(starter);
            }
            let follows_lead = progress.lead.is_some_and(|lead| self.bytes.is_word(&progress.previous, lead.word));
            progress.verbatim |= follows_lead && self.one_of(&token, self.dialect.verbatim);
            self.follow_body(progress, &token);
            progress.awaits_data = match progress.awaits_data {
                AwaitsData::AfterFrom if self.bytes.is_word(&token, "FROM") => AwaitsData::AfterStdin,
                AwaitsData::AfterStdin if self.bytes.is_word(&token, "STDIN") => AwaitsData::Yes,
                AwaitsData::AfterStdin => AwaitsData::No,
                state => state,
            };
        }
        match token.kind {
            TokenKind::Punctuation(b'(') => {
                let (_, next) = self.peek();
                let with = next.and_then(|next| self.starter(&next)).is_some_and(|s| s.role == Role::With);
                progress.open.push(with);
            }
            TokenKind::Punctuation(b')') => {
                progress.open.pop();
            }
            _ => {}
        }
        progress.closed &= token.closed;
        progress.previous = token;
    }

    fn is_prefix_option(&mut self, progress: &Progress, token: &Token) -> bool {
        let options = self.dialect.prefix_options;
        let parenthesis = !options.is_empty() && token.kind == TokenKind::Punctuation(b'(');
        // A statement may be in parentheses too.
        let opens_options = parenthesis && self.one_of(&progress.previous, self.dialect.prefixes) && {
            let (_, next) = self.peek();
            next.is_some_and(|next| self.starter(&next).is_none_or(|s| options.contains(&s.word)))
        };
        opens_options || !progress.open.is_empty() || self.one_of(token, options)
    }

    fn follow_body(&mut self, progress: &mut Progress, token: &Token) {
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

    /// Whether `token`, the first on its line, can only begin a new statement.
    fn begins_anew(&mut self, progress: &Progress, gap: &Gap, token: &Token) -> bool {
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

#[cfg(test)]
mod dialects;
#[cfg(test)]
mod tests;
