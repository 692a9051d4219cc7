//! A lossless lexer over a rope: the tokens of a text, put end to end, are the text.
//!
//! It reads bytes. That is sound for UTF-8, since every character that means something to it is
//! ASCII and all other bytes belong to names.

use std::ops::Range;

use ropey::Rope;

use crate::dialect::{Dialect, Quote, QuoteKind};

/// What a token is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TokenKind {
    /// Blanks within a line.
    Space,
    /// One end of line, `\n` or `\r\n`.
    LineEnd,
    /// A comment, without the end of its line.
    Comment,
    /// A keyword or a plain name.
    Word,
    /// A quoted name.
    QuotedName,
    /// A quoted text.
    Text,
    /// Quoted bytes.
    Binary,
    /// A number.
    Number,
    /// A place for a value given later.
    Parameter,
    /// A comment whose content the server carries out.
    Code,
    /// A semicolon.
    Semicolon,
    /// Any other single character.
    Punctuation(u8),
}

impl TokenKind {
    /// Whether the server would skip it.
    pub fn is_trivia(self) -> bool {
        matches!(self, TokenKind::Space | TokenKind::LineEnd | TokenKind::Comment)
    }
}

/// A piece of text: its kind and its byte range.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Token {
    /// What it is.
    pub kind: TokenKind,
    /// Its first byte.
    pub start: usize,
    /// The byte after its last.
    pub end: usize,
    /// False for a quote or comment that the text ends in.
    pub closed: bool,
}

impl Token {
    /// The byte range.
    pub fn range(&self) -> Range<usize> {
        self.start..self.end
    }
}

/// Random access to the bytes of a rope, quick where reads are near each other.
#[derive(Clone)]
pub struct Bytes<'a> {
    rope: &'a Rope,
    chunk: &'a [u8],
    chunk_start: usize,
}

impl<'a> Bytes<'a> {
    /// Reads from `rope`.
    pub fn new(rope: &'a Rope) -> Self {
        Bytes { rope, chunk: &[], chunk_start: 0 }
    }

    /// The rope that is read.
    pub fn rope(&self) -> &'a Rope {
        self.rope
    }

    /// The byte at `at`, or `None` past the end.
    #[inline]
    pub fn at(&mut self, at: usize) -> Option<u8> {
        if let Some(byte) = at.checked_sub(self.chunk_start).and_then(|i| self.chunk.get(i)) {
            return Some(*byte);
        }
        if at >= self.rope.len_bytes() {
            return None;
        }
        let (chunk, start, _, _) = self.rope.chunk_at_byte(at);
        self.chunk = chunk.as_bytes();
        self.chunk_start = start;
        self.chunk.get(at - start).copied()
    }

    /// Whether the bytes from `at` on are `text`.
    pub fn starts_with(&mut self, at: usize, text: &str) -> bool {
        text.bytes().enumerate().all(|(i, b)| self.at(at + i) == Some(b))
    }

    /// Whether the token is exactly this word, in any case.
    pub fn is_word(&mut self, token: &Token, word: &str) -> bool {
        token.kind == TokenKind::Word
            && token.end - token.start == word.len()
            && word
                .bytes()
                .enumerate()
                .all(|(i, b)| self.at(token.start + i).is_some_and(|c| c.eq_ignore_ascii_case(&b)))
    }

    /// The text of a byte range that lies on character boundaries.
    pub fn text(&self, range: Range<usize>) -> std::borrow::Cow<'a, str> {
        self.rope.byte_slice(range).into()
    }
}

/// The mark of a text in Unicode (RFC 3629, section 6).
const BYTE_ORDER_MARK: &str = "\u{feff}";

/// Cuts a rope into tokens from a place outside of quotes and comments.
#[derive(Clone)]
pub struct Lexer<'a> {
    bytes: Bytes<'a>,
    dialect: &'static Dialect,
    at: usize,
}

impl<'a> Lexer<'a> {
    /// Begins at byte `from`, which must not lie inside a token.
    pub fn new(rope: &'a Rope, dialect: &'static Dialect, from: usize) -> Self {
        Lexer { bytes: Bytes::new(rope), dialect, at: from }
    }

    /// The text that it reads.
    pub fn rope(&self) -> &'a Rope {
        self.bytes.rope()
    }

    /// Where the next token begins.
    pub fn position(&self) -> usize {
        self.at
    }

    fn skip_while(&mut self, mut at: usize, accept: impl Fn(u8) -> bool) -> usize {
        while self.bytes.at(at).is_some_and(&accept) {
            at += 1;
        }
        at
    }

    fn line_end(&mut self, mut at: usize) -> usize {
        loop {
            match self.bytes.at(at) {
                None | Some(b'\n') => return at,
                Some(b'\r') if self.bytes.at(at + 1) == Some(b'\n') => return at,
                Some(_) => at += 1,
            }
        }
    }

    fn block_comment(&mut self, start: usize) -> Option<(usize, bool)> {
        let comment = self.dialect.block_comment?;
        if !self.bytes.starts_with(start, comment.open) {
            return None;
        }
        let mut depth = 1;
        let mut at = start + comment.open.len();
        while self.bytes.at(at).is_some() {
            if self.bytes.starts_with(at, comment.close) {
                depth -= 1;
                at += comment.close.len();
                if depth == 0 {
                    return Some((at, true));
                }
            } else if comment.nests && self.bytes.starts_with(at, comment.open) {
                depth += 1;
                at += comment.open.len();
            } else {
                at += 1;
            }
        }
        Some((at, false))
    }

    fn quote_at(&mut self, at: usize) -> Option<(Quote, usize)> {
        let first = self.bytes.at(at)?;
        for quote in self.dialect.quotes {
            match quote.prefix {
                None if first == quote.open => return Some((*quote, at + 1)),
                Some(prefix) if first.eq_ignore_ascii_case(&prefix) && self.bytes.at(at + 1) == Some(quote.open) => {
                    return Some((*quote, at + 2));
                }
                _ => {}
            }
        }
        None
    }

    fn quoted(&mut self, quote: Quote, mut at: usize) -> (usize, bool) {
        while let Some(byte) = self.bytes.at(at) {
            at += 1;
            if quote.backslash && byte == b'\\' {
                at += usize::from(self.bytes.at(at).is_some());
            } else if byte == quote.close {
                if quote.doubled && self.bytes.at(at) == Some(quote.close) {
                    at += 1;
                } else {
                    return (at, true);
                }
            }
        }
        (at, false)
    }

    /// A text in dollar quotes, `$tag$ … $tag$`: PostgreSQL's documentation, section 4.1.2.4.
    fn dollar_quote(&mut self, start: usize) -> Option<(usize, bool)> {
        if !self.dialect.dollar_quotes || self.bytes.at(start) != Some(b'$') {
            return None;
        }
        let tag_start = start + 1;
        let tag_end = match self.bytes.at(tag_start) {
            Some(first) if is_word_start(first) => self.skip_while(tag_start, |b| is_word(b) && b != b'$'),
            _ => tag_start,
        };
        if self.bytes.at(tag_end) != Some(b'$') {
            return None;
        }
        let mark = self.bytes.text(start..tag_end + 1).into_owned();
        let mut at = tag_end + 1;
        while let Some(byte) = self.bytes.at(at) {
            if byte == b'$' && self.bytes.starts_with(at, &mark) {
                return Some((at + mark.len(), true));
            }
            at += 1;
        }
        Some((at, false))
    }

    /// A word of a language of command lines: it ends at a blank outside quotes.
    fn argument(&mut self, start: usize) -> (TokenKind, usize, bool) {
        let comment = self.dialect.line_comments.iter().any(|open| self.bytes.starts_with(start, open));
        if comment && self.is_first_on_line(start) {
            return (TokenKind::Comment, self.line_end(start), true);
        }
        let quoted = self.quote_at(start).is_some();
        let (mut at, mut closed) = (start, true);
        while let Some(byte) = self.bytes.at(at) {
            if matches!(byte, b' ' | b'\t' | b'\n' | b'\r' | b'\x0b' | b'\x0c') {
                break;
            }
            match self.quote_at(at) {
                Some((quote, inside)) => (at, closed) = self.quoted(quote, inside),
                None => at += 1,
            }
        }
        let number = !quoted && self.bytes.text(start..at).parse::<f64>().is_ok();
        let kind = match (quoted, number) {
            (true, _) => TokenKind::Text,
            (_, true) => TokenKind::Number,
            _ => TokenKind::Word,
        };
        (kind, at, closed)
    }

    fn is_first_on_line(&mut self, mut at: usize) -> bool {
        while let Some(before) = at.checked_sub(1) {
            match self.bytes.at(before) {
                Some(b'\n') => return true,
                Some(b' ' | b'\t' | b'\r') => at = before,
                _ => return false,
            }
        }
        true
    }

    fn number(&mut self, start: usize) -> usize {
        if self.bytes.at(start) == Some(b'0') && matches!(self.bytes.at(start + 1), Some(b'x' | b'X')) {
            return self.skip_while(start + 2, |b| b.is_ascii_hexdigit() || b == b'_');
        }
        let digits = |b: u8| b.is_ascii_digit() || b == b'_';
        let mut at = self.skip_while(start, digits);
        if self.bytes.at(at) == Some(b'.') {
            at = self.skip_while(at + 1, digits);
        }
        if matches!(self.bytes.at(at), Some(b'e' | b'E')) {
            let sign = usize::from(matches!(self.bytes.at(at + 1), Some(b'+' | b'-')));
            if self.bytes.at(at + 1 + sign).is_some_and(|b| b.is_ascii_digit()) {
                at = self.skip_while(at + 1 + sign, digits);
            }
        }
        at
    }

    fn token(&mut self, first: u8) -> (TokenKind, usize, bool) {
        let start = self.at;
        match first {
            b'\n' => return (TokenKind::LineEnd, start + 1, true),
            b'\r' if self.bytes.at(start + 1) == Some(b'\n') => return (TokenKind::LineEnd, start + 2, true),
            b' ' | b'\t' | b'\r' | b'\x0b' | b'\x0c' => return (TokenKind::Space, self.spaces(start), true),
            b';' if !self.dialect.ends_with_line => return (TokenKind::Semicolon, start + 1, true),
            _ => {}
        }
        if self.dialect.ends_with_line {
            return self.argument(start);
        }
        if self.dialect.line_comments.iter().any(|open| self.bytes.starts_with(start, open)) {
            return (TokenKind::Comment, self.line_end(start), true);
        }
        if let Some((end, closed)) = self.block_comment(start) {
            let code = self.dialect.code_comments.iter().any(|open| self.bytes.starts_with(start, open));
            return (if code { TokenKind::Code } else { TokenKind::Comment }, end, closed);
        }
        if let Some((end, closed)) = self.dollar_quote(start) {
            return (TokenKind::Text, end, closed);
        }
        if let Some((quote, inside)) = self.quote_at(start) {
            let (end, closed) = self.quoted(quote, inside);
            let kind = match quote.kind {
                QuoteKind::Text => TokenKind::Text,
                QuoteKind::Binary => TokenKind::Binary,
                QuoteKind::Name => TokenKind::QuotedName,
            };
            return (kind, end, closed);
        }
        let second_is_digit = self.bytes.at(start + 1).is_some_and(|b| b.is_ascii_digit());
        if first.is_ascii_digit() || (first == b'.' && second_is_digit) {
            return (TokenKind::Number, self.number(start), true);
        }
        let signs = self.dialect.word_signs;
        if is_word_start(first) || signs.contains(&first) {
            return (TokenKind::Word, self.skip_while(start, |b| is_word(b) || signs.contains(&b)), true);
        }
        if self.dialect.parameters.contains(&first) {
            let end = self.skip_while(start + 1, is_word);
            if end > start + 1 || first == b'?' {
                return (TokenKind::Parameter, end, true);
            }
        }
        (TokenKind::Punctuation(first), start + 1, true)
    }

    fn spaces(&mut self, mut at: usize) -> usize {
        loop {
            match self.bytes.at(at) {
                Some(b' ' | b'\t' | b'\x0b' | b'\x0c') => at += 1,
                Some(b'\r') if self.bytes.at(at + 1) != Some(b'\n') => at += 1,
                _ => return at,
            }
        }
    }
}

fn is_word_start(byte: u8) -> bool {
    byte.is_ascii_alphabetic() || byte == b'_' || byte >= 0x80
}

fn is_word(byte: u8) -> bool {
    is_word_start(byte) || byte.is_ascii_digit() || byte == b'$'
}

impl Iterator for Lexer<'_> {
    type Item = Token;

    fn next(&mut self) -> Option<Token> {
        let first = self.bytes.at(self.at)?;
        let start = self.at;
        // A mark that some programs begin files with; no server takes it.
        let (kind, end, closed) = match start == 0 && self.bytes.starts_with(0, BYTE_ORDER_MARK) {
            true => (TokenKind::Space, BYTE_ORDER_MARK.len(), true),
            false => self.token(first),
        };
        self.at = end;
        Some(Token { kind, start, end, closed })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::dialect::SQLITE;

    fn kinds(text: &str) -> Vec<(TokenKind, String)> {
        let rope = Rope::from_str(text);
        Lexer::new(&rope, &SQLITE, 0)
            .filter(|t| t.kind != TokenKind::Space)
            .map(|t| (t.kind, rope.byte_slice(t.range()).to_string()))
            .collect()
    }

    #[test]
    fn the_mark_that_a_file_begins_with_is_none_of_its_words() {
        assert_eq!(kinds("\u{feff}a"), [(TokenKind::Word, "a".to_owned())]);
        // Anywhere else it is what somebody wrote.
        assert_eq!(kinds(" \u{feff}a"), [(TokenKind::Word, "\u{feff}a".to_owned())]);
    }

    #[test]
    fn every_quote_form_is_one_token() {
        for (text, kind) in [
            ("'it''s; -- not a comment'", TokenKind::Text),
            ("\"a \"\" b;\"", TokenKind::QuotedName),
            ("`a``b;`", TokenKind::QuotedName),
            ("[a;b]", TokenKind::QuotedName),
            ("x'00ff'", TokenKind::Binary),
            ("X'00FF'", TokenKind::Binary),
            ("'two\nlines'", TokenKind::Text),
            ("-- until the end", TokenKind::Comment),
            ("/* ; 'x' /* */", TokenKind::Comment),
            ("0xFFee", TokenKind::Number),
            ("1_000.5e-3", TokenKind::Number),
            (".5", TokenKind::Number),
            (":when", TokenKind::Parameter),
            ("?12", TokenKind::Parameter),
            ("@a", TokenKind::Parameter),
            ("naïve_名前$", TokenKind::Word),
        ] {
            assert_eq!(kinds(text), [(kind, text.to_owned())], "{text}");
        }
    }

    #[test]
    fn what_never_closes_runs_to_the_end_and_says_so() {
        for text in ["'open; select 1", "\"open", "[open", "/* open"] {
            let rope = Rope::from_str(text);
            let tokens: Vec<_> = Lexer::new(&rope, &SQLITE, 0).collect();
            assert_eq!(tokens.len(), 1, "{text}");
            assert!(!tokens[0].closed && tokens[0].end == text.len());
        }
    }

    #[test]
    fn a_word_before_a_quote_is_not_a_prefix() {
        let found: Vec<_> = kinds("maxx'1'").into_iter().map(|(_, text)| text).collect();
        assert_eq!(found, ["maxx", "'1'"]);
    }

    proptest! {
        #[test]
        fn tokens_put_end_to_end_are_the_text(text in "([a-z;'\"`\\[\\]\n\r\t ./*(){}0-9x$:?-]|é|名|\u{200f}){0,200}") {
            let rope = Rope::from_str(&text);
            let mut at = 0;
            for token in Lexer::new(&rope, &SQLITE, 0) {
                prop_assert_eq!(token.start, at);
                prop_assert!(token.end > token.start);
                prop_assert!(text.is_char_boundary(token.end));
                at = token.end;
            }
            prop_assert_eq!(at, text.len());
        }
    }
}
