//! What a backslash makes of the signs after it, in literals of program code.

use std::ops::Range;

/// What backslashes do in a kind of literal.
#[derive(Debug, Clone, Copy)]
pub struct Escapes {
    /// Signs that stand for themselves.
    signs: &'static [u8],
    /// Letters that have a meaning, which is the same wherever they have one: `n`, `t`, `r`, `a`, `b`, `f`, `v`, `e` and `s`
    /// stand for one character, `0` begins an octal number, `x`, `u` and `U` a hexadecimal one of two, four and eight digits,
    /// and `{` says that one in braces may stand after `u`.
    letters: &'static [u8],
    /// What it is before all others.
    others: Others,
    /// What it does before the end of a line.
    line_end: LineEnd,
}

/// What a backslash is before a sign that it has no meaning with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Others {
    /// A backslash, which stays.
    Stays,
    /// Nothing: the sign stands for itself.
    Goes,
    /// A mistake.
    Mistake,
}

/// What a backslash does before the end of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum LineEnd {
    /// As before other signs.
    Nothing,
    /// Both go.
    Goes,
    /// Both go, and the blanks that the next line begins with.
    GoesWithBlanks,
}

impl Escapes {
    const fn new(signs: &'static [u8], letters: &'static [u8], others: Others, line_end: LineEnd) -> Escapes {
        Escapes { signs, letters, others, line_end }
    }
}

/// Of the backslash and the quote alone.
pub const ONE: &Escapes = &Escapes::new(b"\\'", b"", Others::Stays, LineEnd::Nothing);
/// As Rust has them.
pub const RUST: &Escapes = &Escapes::new(b"\\'\"", b"ntr0x{", Others::Mistake, LineEnd::GoesWithBlanks);
/// As Python has them; a name in braces, of a character, is not read.
pub const PYTHON: &Escapes = &Escapes::new(b"\\'\"", b"ntrabfv0xuUN", Others::Stays, LineEnd::Goes);
/// As JavaScript and TypeScript have them.
pub const SCRIPT: &Escapes = &Escapes::new(b"\\'\"`", b"ntrbfv0xu{", Others::Goes, LineEnd::Goes);
/// As Go has them.
pub const GO: &Escapes = &Escapes::new(b"\\'\"", b"ntrabfv0xuU", Others::Mistake, LineEnd::Nothing);
/// As Java has them.
pub const JAVA: &Escapes = &Escapes::new(b"\\'\"", b"ntrbfs0u", Others::Mistake, LineEnd::Goes);
/// As Kotlin has them.
pub const KOTLIN: &Escapes = &Escapes::new(b"\\'\"$", b"ntrbu", Others::Mistake, LineEnd::Nothing);
/// As C# has them.
pub const CSHARP: &Escapes = &Escapes::new(b"\\'\"", b"ntrabfve0uU", Others::Mistake, LineEnd::Nothing);
/// As PHP has them in double quotes.
pub const PHP: &Escapes = &Escapes::new(b"\\\"$", b"ntrvef0x{", Others::Stays, LineEnd::Nothing);
/// As Ruby has them in double quotes.
pub const RUBY: &Escapes = &Escapes::new(b"\\'\"#", b"ntrabfves0xu{", Others::Goes, LineEnd::Goes);
/// As Swift has them.
pub const SWIFT: &Escapes = &Escapes::new(b"\\'\"", b"ntr0{", Others::Mistake, LineEnd::Goes);
/// As shells have them in double quotes.
pub const SHELL: &Escapes = &Escapes::new(b"\\\"$`", b"", Others::Stays, LineEnd::Goes);

/// What signs of a literal stand for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Meaning {
    /// A character.
    Character(char),
    /// Nothing.
    Nothing,
    /// It is not known.
    Unknown,
}

/// The bytes of the escape that these begin with, and what it stands for; none where the backslash is one.
pub(super) fn read(rest: &[u8], escapes: &Escapes) -> Option<(usize, Meaning)> {
    let character = |length: usize, c: char| Some((length, Meaning::Character(c)));
    let Some(sign) = rest.get(1).copied() else { return Some((1, Meaning::Unknown)) };
    if matches!(sign, b'\n' | b'\r') && escapes.line_end != LineEnd::Nothing {
        let mut length = if rest.get(1..3) == Some(b"\r\n") { 3 } else { 2 };
        if escapes.line_end == LineEnd::GoesWithBlanks {
            let after = rest.get(length..).unwrap_or_default();
            length += after.iter().take_while(|byte| byte.is_ascii_whitespace()).count();
        }
        return Some((length, Meaning::Nothing));
    }
    if escapes.signs.contains(&sign) {
        return character(2, char::from(sign));
    }
    let knows = |letter: u8| escapes.letters.contains(&letter);
    let single = match sign {
        b'n' => Some('\n'),
        b't' => Some('\t'),
        b'r' => Some('\r'),
        b'a' => Some('\u{7}'),
        b'b' => Some('\u{8}'),
        b'f' => Some('\u{c}'),
        b'v' => Some('\u{b}'),
        b'e' => Some('\u{1b}'),
        b's' => Some(' '),
        _ => None,
    };
    if let Some(c) = single.filter(|_| knows(sign)) {
        return character(2, c);
    }
    match sign {
        b'0'..=b'7' if knows(b'0') => Some(number(rest, 1..4, 8)),
        // More than ASCII is a character in some languages and a byte in others.
        b'x' if knows(b'x') => Some(match number(rest, 2..4, 16) {
            (4, Meaning::Character(c)) if c.is_ascii() => (4, Meaning::Character(c)),
            (length, _) => (length, Meaning::Unknown),
        }),
        b'u' if knows(b'{') && rest.get(2) == Some(&b'{') => {
            let (length, meaning) = number(rest, 3..11, 16);
            let closes = length > 3 && rest.get(length) == Some(&b'}');
            Some(if closes { (length + 1, meaning) } else { (length, Meaning::Unknown) })
        }
        b'u' if knows(b'u') => Some(digits(rest, 6)),
        b'U' if knows(b'U') => Some(digits(rest, 10)),
        b'N' if knows(b'N') => Some((2, Meaning::Unknown)),
        _ => match escapes.others {
            Others::Stays => None,
            Others::Goes => {
                let all = std::str::from_utf8(rest.get(1..).unwrap_or_default());
                let text = all.unwrap_or_else(|error| {
                    std::str::from_utf8(rest.get(1..1 + error.valid_up_to()).unwrap_or_default()).unwrap_or_default()
                });
                let c = text.chars().next()?;
                character(1 + c.len_utf8(), c)
            }
            Others::Mistake => Some((if sign.is_ascii() { 2 } else { 1 }, Meaning::Unknown)),
        },
    }
}

/// A number that ends at this byte.
fn digits(rest: &[u8], end: usize) -> (usize, Meaning) {
    match number(rest, 2..end, 16) {
        (length, meaning) if length == end => (length, meaning),
        (length, _) => (length, Meaning::Unknown),
    }
}

/// The character whose number stands in these bytes, as far as there are digits.
fn number(rest: &[u8], range: Range<usize>, base: u32) -> (usize, Meaning) {
    let digits = rest.get(range.start..range.end.min(rest.len())).unwrap_or_default();
    let values = digits.iter().map_while(|digit| char::from(*digit).to_digit(base));
    let (count, value) = values.fold((0, 0_u32), |(count, value), digit| (count + 1, value * base + digit));
    // Octal numbers may be of bytes, too.
    let character = char::from_u32(value).filter(|c| base > 8 || c.is_ascii());
    (range.start + count, character.filter(|_| count > 0).map_or(Meaning::Unknown, Meaning::Character))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn escapes_stand_for_what_their_language_says() {
        let character = |length: usize, c: char| Some((length, Meaning::Character(c)));
        for (text, escapes, expected) in [
            (r"\n", PYTHON, character(2, '\n')),
            (r"\d+", PYTHON, None),
            (r"\d+", SCRIPT, character(2, 'd')),
            (r"\d+", JAVA, Some((2, Meaning::Unknown))),
            (r"\é", SCRIPT, character(3, 'é')),
            (r"\é", GO, Some((1, Meaning::Unknown))),
            (r"\n", ONE, None),
            (r"\'", ONE, character(2, '\'')),
            (r"\\n", ONE, character(2, '\\')),
            (r"\$x", PHP, character(2, '$')),
            (r"\u00e9", PHP, None),
            (r"\u00e9", JAVA, character(6, 'é')),
            (r"\u00e", JAVA, Some((5, Meaning::Unknown))),
            (r"\ud83d", JAVA, Some((6, Meaning::Unknown))),
            (r"\u{1f6a2}!", RUST, character(9, '🚢')),
            (r"\u{1f6a2", RUST, Some((8, Meaning::Unknown))),
            (r"\u{}", RUST, Some((3, Meaning::Unknown))),
            (r"\U0001f6a2", PYTHON, character(10, '🚢')),
            (r"\N{SHIP}", PYTHON, Some((2, Meaning::Unknown))),
            (r"\x41B", GO, character(4, 'A')),
            (r"\xe9", GO, Some((4, Meaning::Unknown))),
            (r"\x", GO, Some((2, Meaning::Unknown))),
            (r"\0", SCRIPT, character(2, '\0')),
            (r"\101b", PYTHON, character(4, 'A')),
            (r"\s", JAVA, character(2, ' ')),
            ("\\\n  x", RUST, Some((4, Meaning::Nothing))),
            ("\\\r\nx", PYTHON, Some((3, Meaning::Nothing))),
            ("\\\n  x", GO, Some((2, Meaning::Unknown))),
            (r"\e", SHELL, None),
            ("\\", PYTHON, Some((1, Meaning::Unknown))),
        ] {
            assert_eq!(read(text.as_bytes(), escapes), expected, "{text}");
        }
    }
}
