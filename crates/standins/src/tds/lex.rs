//! The tokens of T-SQL.

/// What a token is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A word or a plain name; `@variable` and `#temporary` too.
    Word,
    /// A name in brackets or double quotes.
    Name,
    /// A text in quotes.
    Text,
    /// A number, or bytes as `0x…`.
    Number,
    /// Any other sign.
    Sign,
}

/// A token.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Token {
    pub kind: Kind,
    /// A word as it is written; a name or a text without its quotes.
    pub text: String,
    /// Its line, from 1.
    pub line: u32,
    /// Its first byte.
    pub at: usize,
    /// The byte behind it.
    pub end: usize,
}

impl Token {
    pub fn is(&self, word: &str) -> bool {
        matches!(self.kind, Kind::Word | Kind::Sign) && self.text.eq_ignore_ascii_case(word)
    }

    pub fn is_one(&self, words: &[&str]) -> bool {
        words.iter().any(|word| self.is(word))
    }

    pub fn is_name(&self) -> bool {
        matches!(self.kind, Kind::Word | Kind::Name)
    }
}

/// What could not be read: what, and in which line.
pub type Mistake = (String, u32);

/// The tokens of a text, without blanks and comments.
pub fn tokens(text: &str) -> Result<Vec<Token>, Mistake> {
    let bytes = text.as_bytes();
    let (mut found, mut at, mut line) = (Vec::new(), 0, 1_u32);
    while let Some(byte) = bytes.get(at).copied() {
        let start = at;
        let began = line;
        let next = bytes.get(at + 1).copied();
        match byte {
            b'\n' => {
                line += 1;
                at += 1;
                continue;
            }
            _ if byte.is_ascii_whitespace() => {
                at += 1;
                continue;
            }
            b'-' if next == Some(b'-') => {
                while bytes.get(at).is_some_and(|b| *b != b'\n') {
                    at += 1;
                }
                continue;
            }
            b'/' if next == Some(b'*') => {
                let mut depth = 0_u32;
                loop {
                    match (bytes.get(at), bytes.get(at + 1)) {
                        (Some(b'/'), Some(b'*')) => (depth, at) = (depth + 1, at + 2),
                        (Some(b'*'), Some(b'/')) => {
                            (depth, at) = (depth - 1, at + 2);
                            if depth == 0 {
                                break;
                            }
                        }
                        (Some(b), _) => {
                            line += u32::from(*b == b'\n');
                            at += 1;
                        }
                        (None, _) => return Err(("Missing end comment mark '*/'.".into(), began)),
                    }
                }
                continue;
            }
            b'\'' | b'"' | b'[' => {
                let (inside, end) = quoted(text, at, byte, &mut line, began)?;
                let kind = if byte == b'\'' { Kind::Text } else { Kind::Name };
                found.push(Token { kind, text: inside, line: began, at: start, end });
                at = end;
                continue;
            }
            b'n' | b'N' if next == Some(b'\'') => {
                let (inside, end) = quoted(text, at + 1, b'\'', &mut line, began)?;
                found.push(Token { kind: Kind::Text, text: inside, line: began, at: start, end });
                at = end;
                continue;
            }
            _ if byte.is_ascii_digit() || (byte == b'.' && next.is_some_and(|b| b.is_ascii_digit())) => {
                let hex = byte == b'0' && matches!(next, Some(b'x' | b'X'));
                at += if hex { 2 } else { 1 };
                while let Some(b) = bytes.get(at) {
                    let exponent = !hex && matches!(b, b'+' | b'-') && matches!(bytes.get(at - 1), Some(b'e' | b'E'));
                    let digit =
                        if hex { b.is_ascii_hexdigit() } else { b.is_ascii_digit() || matches!(b, b'.' | b'e' | b'E') };
                    if !digit && !exponent {
                        break;
                    }
                    at += 1;
                }
                found.push(token(Kind::Number, text, start, at, began));
                continue;
            }
            _ if is_word(byte) => {
                while bytes.get(at).is_some_and(|b| is_word(*b) || b.is_ascii_digit()) {
                    at += 1;
                }
                found.push(token(Kind::Word, text, start, at, began));
                continue;
            }
            _ => {}
        }
        // Signs of two characters.
        let two = matches!(
            (byte, next),
            (b'<', Some(b'=' | b'>')) | (b'>' | b'!' | b'+' | b'-' | b'*' | b'/' | b'%', Some(b'='))
        );
        at += if two { 2 } else { 1 };
        found.push(token(Kind::Sign, text, start, at, began));
    }
    Ok(found)
}

fn is_word(byte: u8) -> bool {
    byte.is_ascii_alphabetic() || matches!(byte, b'_' | b'@' | b'#' | b'$') || byte >= 0x80
}

fn token(kind: Kind, text: &str, at: usize, end: usize, line: u32) -> Token {
    Token { kind, text: text.get(at..end).unwrap_or_default().to_owned(), line, at, end }
}

/// What stands between quotes, a doubled closing one for itself; and the byte behind.
fn quoted(text: &str, open: usize, quote: u8, line: &mut u32, began: u32) -> Result<(String, usize), Mistake> {
    let close = if quote == b'[' { ']' } else { char::from(quote) };
    let mut inside = String::new();
    let mut rest = text.get(open + 1..).unwrap_or_default().char_indices().peekable();
    while let Some((at, c)) = rest.next() {
        if c == close {
            if rest.peek().is_some_and(|(_, next)| *next == close) {
                rest.next();
            } else {
                return Ok((inside, open + 1 + at + c.len_utf8()));
            }
        }
        *line += u32::from(c == '\n');
        inside.push(c);
    }
    Err((format!("Unclosed quotation mark after the character string '{inside}'."), began))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_is_taken_apart() {
        let found = tokens("select N'it''s', [a]]b], @x += 1.5e-3, 0xCAFE -- no\n/* a /* b */ */ >= \"c\"").unwrap();
        let texts: Vec<_> = found.iter().map(|token| token.text.as_str()).collect();
        assert_eq!(texts, ["select", "it's", ",", "a]b", ",", "@x", "+=", "1.5e-3", ",", "0xCAFE", ">=", "c"]);
        assert_eq!(found.last().map(|token| token.line), Some(2));
        assert_eq!(tokens("a\n'b").unwrap_err().1, 2);
    }
}
