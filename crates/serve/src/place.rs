//! Places in a text, as the protocol counts them: lines from 0, which end with `\n`, `\r\n` or `\r` and nothing else,
//! and columns in the units that were agreed on
//! (<https://microsoft.github.io/language-server-protocol/specifications/lsp/3.17/specification/#textDocuments>).

use std::ops::Range;

use ropey::Rope;
use serde_json::{Value, json};

/// What columns count.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Encoding {
    /// Bytes.
    Utf8,
    /// Code units of two bytes: what is meant where nothing was agreed on.
    #[default]
    Utf16,
    /// Characters of Unicode.
    Utf32,
}

impl Encoding {
    /// The first of ours that a client names, bytes before others: they need no counting.
    pub fn agreed(offered: &Value) -> Encoding {
        let names: Vec<&str> = offered.as_array().into_iter().flatten().filter_map(Value::as_str).collect();
        let known = [("utf-8", Encoding::Utf8), ("utf-16", Encoding::Utf16), ("utf-32", Encoding::Utf32)];
        known.into_iter().find(|(name, _)| names.contains(name)).map_or(Encoding::Utf16, |(_, encoding)| encoding)
    }

    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Encoding::Utf8 => "utf-8",
            Encoding::Utf16 => "utf-16",
            Encoding::Utf32 => "utf-32",
        }
    }

    fn length(self, c: char) -> usize {
        match self {
            Encoding::Utf8 => c.len_utf8(),
            Encoding::Utf16 => c.len_utf16(),
            Encoding::Utf32 => 1,
        }
    }

    /// How long a text is.
    pub fn length_of(self, text: &str) -> usize {
        match self {
            Encoding::Utf8 => text.len(),
            _ => text.chars().map(|c| self.length(c)).sum(),
        }
    }
}

/// A line and a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Position {
    /// The line, from 0.
    pub line: usize,
    /// The column, in units of the encoding.
    pub column: usize,
}

impl Position {
    /// What a message says; `None` where it says none.
    pub fn of(value: &Value) -> Option<Position> {
        let number = |name: &str| value.get(name)?.as_u64().map(|n| usize::try_from(n).unwrap_or(usize::MAX));
        Some(Position { line: number("line")?, column: number("character")? })
    }

    /// For a message.
    pub fn to_json(self) -> Value {
        json!({"line": self.line, "character": self.column})
    }
}

/// Where the lines of a text begin, in bytes.
#[derive(Debug, Clone)]
pub struct Lines {
    starts: Vec<usize>,
    encoding: Encoding,
}

impl Lines {
    /// Those of a text.
    pub fn of(rope: &Rope, encoding: Encoding) -> Lines {
        let mut starts = vec![0];
        starts.extend(ends_in(rope, 0..rope.len_bytes()));
        Lines { starts, encoding }
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        self.starts.len()
    }

    /// Follows a change; `rope` is the text after it. What follows is moved, not read again.
    pub fn update(&mut self, rope: &Rope, at: usize, removed: usize, inserted: usize) {
        // An end of two bytes may come together, or apart, at either side of the change.
        let from = at.saturating_sub(1);
        let to = (at + inserted + 1).min(rope.len_bytes());
        let first = self.starts.partition_point(|start| *start <= from);
        let last = self.starts.partition_point(|start| *start <= at + removed + 1).max(first);
        for start in &mut self.starts[last..] {
            *start = *start + inserted - removed;
        }
        let found: Vec<usize> = ends_in(rope, from..to).filter(|start| *start > from && *start <= to).collect();
        self.starts.splice(first..last, found);
    }

    /// The bytes of a line, its end left out.
    pub fn line(&self, rope: &Rope, line: usize) -> Range<usize> {
        let Some(start) = self.starts.get(line).copied() else { return rope.len_bytes()..rope.len_bytes() };
        let mut end = self.starts.get(line + 1).copied().unwrap_or(rope.len_bytes());
        while end > start && matches!(rope.get_byte(end - 1), Some(b'\n' | b'\r')) {
            end -= 1;
        }
        start..end
    }

    /// The line that a byte lies in.
    pub fn line_of(&self, at: usize) -> usize {
        self.starts.partition_point(|start| *start <= at).saturating_sub(1)
    }

    /// The byte of a place. What lies beyond the end of a line is its end; beyond the last line the end of the text.
    pub fn byte(&self, rope: &Rope, at: Position) -> usize {
        let line = self.line(rope, at.line);
        let mut left = at.column;
        let mut byte = line.start;
        if self.encoding == Encoding::Utf8 {
            // A place within a character is where that begins.
            let byte = (line.start.saturating_add(at.column)).min(line.end);
            return rope.char_to_byte(rope.byte_to_char(byte));
        }
        for c in rope.byte_slice(line).chars() {
            let length = self.encoding.length(c);
            if length > left {
                break;
            }
            left -= length;
            byte += c.len_utf8();
        }
        byte
    }

    /// The place of a byte.
    pub fn position(&self, rope: &Rope, at: usize) -> Position {
        let at = at.min(rope.len_bytes());
        let line = self.line_of(at);
        let start = self.starts.get(line).copied().unwrap_or(0);
        let column = match self.encoding {
            Encoding::Utf8 => at - start,
            encoding => rope.byte_slice(start..at).chars().map(|c| encoding.length(c)).sum(),
        };
        Position { line, column }
    }

    /// The bytes between two places; none where it says none.
    pub fn bytes(&self, rope: &Rope, range: &Value) -> Option<Range<usize>> {
        let (start, end) = (Position::of(range.get("start")?)?, Position::of(range.get("end")?)?);
        let (start, end) = (self.byte(rope, start), self.byte(rope, end));
        Some(start..end.max(start))
    }

    /// Two places, for a message.
    pub fn range(&self, rope: &Rope, bytes: &Range<usize>) -> Value {
        json!({
            "start": self.position(rope, bytes.start).to_json(),
            "end": self.position(rope, bytes.end.max(bytes.start)).to_json(),
        })
    }
}

/// The bytes after the ends of lines in a part of a text.
fn ends_in(rope: &Rope, range: Range<usize>) -> impl Iterator<Item = usize> {
    // The part may begin or end within a character; none of its bytes ends a line.
    let whole = |at: usize| rope.char_to_byte(rope.byte_to_char(at.min(rope.len_bytes())));
    let (from, to) = (whole(range.start), whole(range.end));
    let (mut at, mut after_return) = (from, from > 0 && rope.get_byte(from - 1) == Some(b'\r'));
    let mut found = Vec::new();
    for chunk in rope.byte_slice(from..to.max(from)).chunks() {
        for byte in chunk.bytes() {
            if after_return && byte != b'\n' {
                found.push(at);
            }
            after_return = byte == b'\r';
            at += 1;
            if byte == b'\n' {
                found.push(at);
            }
        }
    }
    if after_return && rope.get_byte(at) != Some(b'\n') {
        found.push(at);
    }
    found.into_iter()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn at(line: usize, column: usize) -> Position {
        Position { line, column }
    }

    #[test]
    fn columns_count_what_was_agreed_on() {
        let rope = Rope::from_str("a\r\né🚢x\n\u{2028}y");
        for (encoding, columns) in
            [(Encoding::Utf8, [0, 2, 6]), (Encoding::Utf16, [0, 1, 3]), (Encoding::Utf32, [0, 1, 2])]
        {
            let lines = Lines::of(&rope, encoding);
            assert_eq!(lines.count(), 3);
            for (byte, column) in [3, 5, 9].into_iter().zip(columns) {
                assert_eq!(lines.position(&rope, byte), at(1, column), "{encoding:?}");
                assert_eq!(lines.byte(&rope, at(1, column)), byte, "{encoding:?}");
            }
            assert_eq!(lines.byte(&rope, at(1, 99)), 10);
            assert_eq!(lines.byte(&rope, at(0, 99)), 1);
            assert_eq!(lines.byte(&rope, at(99, 0)), rope.len_bytes());
        }
        // Within a character is where it begins.
        assert_eq!(Lines::of(&rope, Encoding::Utf16).byte(&rope, at(1, 2)), 5);
        assert_eq!(Lines::of(&rope, Encoding::Utf8).byte(&rope, at(1, 3)), 5);
    }

    proptest! {
        /// Lines that follow changes are those of the text.
        #[test]
        fn lines_follow_changes(
            text in "[ab\r\né]{0,40}",
            changes in proptest::collection::vec((0usize..50, 0usize..6, "[x\r\né]{0,5}"), 1..12),
        ) {
            let mut rope = Rope::from_str(&text);
            let mut lines = Lines::of(&rope, Encoding::Utf16);
            for (from, count, put) in changes {
                let from = from.min(rope.len_chars());
                let to = (from + count).min(rope.len_chars());
                let (at, end) = (rope.char_to_byte(from), rope.char_to_byte(to));
                rope.remove(from..to);
                rope.insert(from, &put);
                lines.update(&rope, at, end - at, put.len());
                prop_assert_eq!(&lines.starts, &Lines::of(&rope, Encoding::Utf16).starts, "{:?}", rope.to_string());
            }
        }
    }
}
