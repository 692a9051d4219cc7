//! Bytes in a script that is text otherwise: what a server's own program for copies writes of columns of bytes, as they are.
//! They become literals of hexadecimal digits.
//!
//! That of MySQL puts a word before them (`_binary '…'`); that of MariaDB does not, but says before anything else that the
//! text of the script is UTF-8 (`SET NAMES utf8mb4`), so that what is none is bytes. Without either it may be text in
//! another encoding, which nobody can know.

use jaunty_language::dialect::Dialect;

/// Where a byte stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    Plain,
    /// In a text, behind so many bytes of a sign that takes the next one out of its meaning.
    Text(bool),
    /// Behind a quote in a text, which ends it unless another follows.
    Ending,
    /// Between other quotes.
    Quoted(u8, bool),
    /// In a comment to the end of the line.
    Line,
    /// In a longer one, behind a star or not.
    Comment(bool),
}

/// Takes the bytes of a script, piece by piece.
#[derive(Debug)]
pub(super) struct Binary {
    dialect: &'static Dialect,
    /// The word before such a text.
    mark: &'static str,
    /// Whether the script has said that its text is UTF-8.
    is_declared: bool,
    state: State,
    /// The text that is open behind the mark, with its first quote; empty outside of one.
    literal: Vec<u8>,
    /// The last bytes that were given out, as many as the mark and some blanks have.
    last: Vec<u8>,
}

impl Binary {
    /// One for scripts of this language; none where such texts are not written.
    pub(super) fn of(dialect: &'static Dialect) -> Option<Binary> {
        let mark = dialect.binary_texts?;
        Some(Binary { dialect, mark, is_declared: false, state: State::Plain, literal: Vec::new(), last: Vec::new() })
    }

    /// Takes some more.
    pub(super) fn take(&mut self, bytes: &[u8], out: &mut Vec<u8>) {
        let begins = out.len();
        for byte in bytes {
            self.take_one(*byte, out);
        }
        self.remember(&out[begins..]);
    }

    /// Gives out what was open at the end.
    pub(super) fn end(&mut self, out: &mut Vec<u8>) {
        if self.state == State::Ending {
            self.close(out);
        }
        out.append(&mut self.literal);
    }

    fn take_one(&mut self, byte: u8, out: &mut Vec<u8>) {
        if self.state == State::Ending {
            if byte == b'\'' {
                self.state = State::Text(false);
                return self.put(byte, out);
            }
            self.close(out);
            self.state = State::Plain;
        }
        let before = *out.last().or(self.last.last()).unwrap_or(&b' ');
        self.state = match (self.state, byte) {
            (State::Plain, b'\'') => {
                if self.is_declared || self.ends_with(out, self.mark) {
                    self.literal.push(byte);
                    self.state = State::Text(false);
                    return;
                }
                State::Quoted(byte, false)
            }
            (State::Plain, b'"' | b'`') => State::Quoted(byte, false),
            (State::Plain, b'#') => State::Line,
            (State::Plain, b'-') if before == b'-' => State::Line,
            (State::Plain, b'*') if before == b'/' => State::Comment(false),
            (State::Text(true), _) => State::Text(false),
            (State::Text(false), b'\\') => State::Text(true),
            (State::Text(false), b'\'') => State::Ending,
            (State::Quoted(close, true), _) => State::Quoted(close, false),
            (State::Quoted(close, false), b'\\') if close != b'`' => State::Quoted(close, true),
            // One that is doubled opens the next at once.
            (State::Quoted(close, false), byte) if byte == close => State::Plain,
            (State::Line, b'\n') => State::Plain,
            (State::Comment(true), b'/') => State::Plain,
            (State::Comment(_), byte) => State::Comment(byte == b'*'),
            (state, _) => state,
        };
        self.put(byte, out);
        if byte == b'8' && self.literal.is_empty() && self.ends_with(out, DECLARES) {
            self.is_declared = true;
        }
    }

    fn put(&mut self, byte: u8, out: &mut Vec<u8>) {
        if self.literal.is_empty() { out.push(byte) } else { self.literal.push(byte) }
    }

    /// Whether a word stands before what comes now.
    fn ends_with(&self, out: &[u8], word: &str) -> bool {
        let wanted = REMEMBERED;
        let from = out.len().saturating_sub(wanted);
        let mut before = if out.len() < wanted { self.last.clone() } else { Vec::new() };
        before.extend_from_slice(&out[from..]);
        before.trim_ascii_end().to_ascii_lowercase().ends_with(word.as_bytes())
    }

    fn remember(&mut self, given: &[u8]) {
        self.last.extend_from_slice(given);
        let too_many = self.last.len().saturating_sub(REMEMBERED);
        self.last.drain(..too_many);
    }

    /// Ends a text behind the mark. One that is text stays as it is.
    fn close(&mut self, out: &mut Vec<u8>) {
        let literal = std::mem::take(&mut self.literal);
        match std::str::from_utf8(&literal) {
            Ok(_) => out.extend_from_slice(&literal),
            Err(_) => {
                let inside = literal.get(1..literal.len().saturating_sub(1)).unwrap_or_default();
                let digits: String = meant(inside).iter().map(|byte| format!("{byte:02x}")).collect();
                // The word before it does not go into it.
                if !out.last().or(self.last.last()).is_some_and(u8::is_ascii_whitespace) {
                    out.push(b' ');
                }
                out.extend_from_slice(self.dialect.bytes_as_written(&digits).as_bytes());
            }
        }
    }
}

/// So many bytes are looked back for a word, with the blanks after it.
const REMEMBERED: usize = 24;

/// What says that the text of a script is UTF-8, in lower case.
const DECLARES: &str = "set names utf8";

/// The bytes that a text stands for: of MySQL's documentation, "String Literals".
fn meant(inside: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(inside.len());
    let mut bytes = inside.iter().copied();
    while let Some(byte) = bytes.next() {
        match byte {
            b'\\' => match bytes.next() {
                Some(b'0') => out.push(0),
                Some(b'b') => out.push(8),
                Some(b'n') => out.push(b'\n'),
                Some(b'r') => out.push(b'\r'),
                Some(b't') => out.push(b'\t'),
                Some(b'Z') => out.push(26),
                Some(sign @ (b'%' | b'_')) => out.extend([b'\\', sign]),
                Some(other) => out.push(other),
                None => out.push(b'\\'),
            },
            b'\'' => {
                bytes.next();
                out.push(b'\'');
            }
            byte => out.push(byte),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use jaunty_language::dialect::{MYSQL, POSTGRES};

    fn told(script: &[u8], size: usize) -> Vec<u8> {
        let (mut binary, mut out) = (Binary::of(&MYSQL).unwrap(), Vec::new());
        for piece in script.chunks(size.max(1)) {
            let mut given = Vec::new();
            binary.take(piece, &mut given);
            out.append(&mut given);
        }
        binary.end(&mut out);
        out
    }

    #[test]
    fn bytes_behind_the_word_for_them_are_digits() {
        for (script, wanted) in [
            (
                &b"insert into a values (1,_binary '\\0\xff''\\'\\\\\\n\\Z\\%x');"[..],
                &b"insert into a values (1,_binary x'00ff27275c0a1a5c2578');"[..],
            ),
            (
                b"values (_BINARY  '\xff', _binary 'plain \\0', 'it''s')",
                b"values (_BINARY  x'ff', _binary 'plain \\0', 'it''s')",
            ),
            (b"-- it's _binary '\nselect _binary '\xfe'", b"-- it's _binary '\nselect _binary x'fe'"),
            (
                b"/* it's */ # don't\nselect `a'b`, \"c'\\\"\", _binary'\xfe' ",
                b"/* it's */ # don't\nselect `a'b`, \"c'\\\"\", _binary x'fe' ",
            ),
            (b"select '\xff'", b"select '\xff'"),
            (b"select _binary '\xff", b"select _binary '\xff"),
            (b"select 'a''', _binary '\xff\\''", b"select 'a''', _binary x'ff27'"),
            (
                b"/*!40101 SET NAMES utf8mb4 */;\ninsert into a values ('\\0\xff\\'', 'it''s', 'a;b');",
                b"/*!40101 SET NAMES utf8mb4 */;\ninsert into a values ( x'00ff27', 'it''s', 'a;b');",
            ),
            (b"SET NAMES latin1; select '\xe9'", b"SET NAMES latin1; select '\xe9'"),
            ("select 'č _binary ', '…'".as_bytes(), "select 'č _binary ', '…'".as_bytes()),
        ] {
            for size in [1, 2, 3, 7, 1000] {
                let found = told(script, size);
                assert_eq!(String::from_utf8_lossy(&found), String::from_utf8_lossy(wanted), "{size}");
            }
        }
        assert!(Binary::of(&POSTGRES).is_none());
    }

    proptest! {
        #[test]
        fn what_is_text_stays_as_it_is(script in "([a-c _]|set names utf8|_binary '|'|''|\\\\|\"|`|#|\n|-- |/\\*|\\*/|č){0,30}", size in 1..9_usize) {
            prop_assert_eq!(told(script.as_bytes(), size), script.as_bytes());
        }
    }
}
