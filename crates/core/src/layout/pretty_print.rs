//! A long value in lines: JSON indented, with the places where it folds; bytes as hexadecimal with what
//! they say; text as it is.
//!
//! JSON is laid out token by token and never built up, so numbers keep their digits, keys their order,
//! and what comes twice stays twice.

use jaunty_seam::rows::cell::CellKind;

/// A line of a value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Line {
    /// Its text, with indentation.
    pub text: String,
    /// The line that closes what this one opens, so that those between can be folded away.
    pub closes: Option<usize>,
}

fn plain(text: &str) -> Line {
    Line { text: text.to_owned(), closes: None }
}

/// How many bytes a line of hexadecimal shows.
const BYTES: usize = 16;

/// The lines of a value. Text that is a JSON object or array is laid out as such; bytes are counted from `first`.
pub fn lines(kind: CellKind, text: &str, first: u64) -> Vec<Line> {
    match kind {
        CellKind::Binary => hexadecimal(text.trim_start_matches("\\x"), first),
        CellKind::Text => json(text).unwrap_or_else(|| text.lines().map(plain).collect()),
        _ => text.lines().map(plain).collect(),
    }
}

/// Offset, bytes and what they are as ASCII.
fn hexadecimal(digits: &str, first: u64) -> Vec<Line> {
    let pairs: Vec<&str> = (0..digits.len()).step_by(2).filter_map(|at| digits.get(at..at + 2)).collect();
    let line = |(number, pairs): (usize, &[&str])| {
        let (left, right) = pairs.split_at(pairs.len().min(BYTES / 2));
        let bytes = format!("{}  {}", left.join(" "), right.join(" "));
        let shown: String = pairs
            .iter()
            .map(|pair| match u8::from_str_radix(pair, 16) {
                Ok(byte @ 0x20..0x7f) => char::from(byte),
                _ => '·',
            })
            .collect();
        plain(&format!("{:08x}  {bytes:<48}  {shown}", first + (number * BYTES) as u64))
    };
    pairs.chunks(BYTES).enumerate().map(line).collect()
}

/// Lays JSON out; none if it is no object or array, or not well formed in its brackets and quotes.
fn json(text: &str) -> Option<Vec<Line>> {
    let trimmed = text.trim();
    if !trimmed.starts_with(['{', '[']) || serde_json::from_str::<serde::de::IgnoredAny>(trimmed).is_err() {
        return None;
    }
    let mut lines = vec![plain("")];
    let mut open: Vec<usize> = Vec::new();
    let mut chars = trimmed.chars().peekable();
    let put = |lines: &mut Vec<Line>, text: &str| {
        if let Some(line) = lines.last_mut() {
            line.text.push_str(text);
        }
    };
    while let Some(c) = chars.next() {
        match c {
            '"' => {
                let mut string = String::from('"');
                while let Some(c) = chars.next() {
                    string.push(c);
                    match c {
                        '\\' => string.extend(chars.next()),
                        '"' => break,
                        _ => {}
                    }
                }
                put(&mut lines, &string);
            }
            '{' | '[' => {
                put(&mut lines, c.encode_utf8(&mut [0; 4]));
                while chars.next_if(|c| c.is_whitespace()).is_some() {}
                let close = if c == '{' { '}' } else { ']' };
                if chars.next_if_eq(&close).is_some() {
                    put(&mut lines, close.encode_utf8(&mut [0; 4]));
                } else {
                    open.push(lines.len() - 1);
                    lines.push(plain(&"  ".repeat(open.len())));
                }
            }
            '}' | ']' => {
                let opened = open.pop()?;
                lines.push(plain(&"  ".repeat(open.len())));
                let closes = lines.len() - 1;
                put(&mut lines, c.encode_utf8(&mut [0; 4]));
                lines.get_mut(opened)?.closes = Some(closes);
            }
            ',' => {
                put(&mut lines, ",");
                lines.push(plain(&"  ".repeat(open.len())));
            }
            ':' => put(&mut lines, ": "),
            c if c.is_whitespace() => {}
            c => put(&mut lines, c.encode_utf8(&mut [0; 4])),
        }
    }
    Some(lines)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(kind: CellKind, text: &str) -> String {
        lines(kind, text, 0)
            .iter()
            .map(|line| format!("{}{}\n", line.text, line.closes.map_or_else(String::new, |at| format!(" ↓{at}"))))
            .collect()
    }

    #[test]
    fn json_is_laid_out_and_keeps_every_digit() {
        let text = r#"{"b": 12345678901234567890.10, "a":[1,{"x":"q\"{,"}], "a": {}, "n": []}"#;
        assert_eq!(
            shown(CellKind::Text, text),
            "{ ↓9\n  \"b\": 12345678901234567890.10,\n  \"a\": [ ↓6\n    1,\n    { ↓5\n      \"x\": \"q\\\"{,\"\n    }\n  ],\n"
                .replace("↓9", "↓10")
                .replace("[ ↓6", "[ ↓7")
                .replace("{ ↓5", "{ ↓6")
                + "  \"a\": {},\n  \"n\": []\n}\n"
        );
    }

    #[test]
    fn what_is_not_json_stays_as_it_is() {
        for text in ["{not json", "[1, 2", "plain\ntext", "{}}"] {
            assert_eq!(shown(CellKind::Text, text), format!("{text}\n"));
        }
    }

    #[test]
    fn bytes_are_shown_with_what_they_say() {
        assert_eq!(
            shown(CellKind::Binary, "\\x53616c746d617273682031320a00ff7f80"),
            "00000000  53 61 6c 74 6d 61 72 73  68 20 31 32 0a 00 ff 7f  Saltmarsh 12····\n00000010  80                                                ·\n"
        );
    }
}
