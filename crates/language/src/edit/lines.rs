//! Changes to whole lines, and to what a selection encloses. Each is told as one replacement, so
//! that it can be taken back as one.

use std::ops::Range;

use ropey::Rope;

use crate::dialect::Dialect;
use crate::lexer::{Lexer, TokenKind};

/// A replacement, and what is selected after it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// The bytes that go.
    pub range: Range<usize>,
    /// What comes.
    pub text: String,
    /// What is selected then; the cursor stands at its end.
    pub select: Range<usize>,
}

/// How far a step to the right goes.
const STEP: usize = 4;

/// The lines that a selection touches, as bytes without the last line's end. A selection that ends
/// at the beginning of a line does not touch it.
fn lines(rope: &Rope, selection: &Range<usize>) -> Range<usize> {
    let first = rope.byte_to_line(selection.start);
    let mut last = rope.byte_to_line(selection.end);
    if last > first && rope.line_to_byte(last) == selection.end {
        last -= 1;
    }
    rope.line_to_byte(first)..line_end(rope, last)
}

/// What ends the lines of a text: what ends its first one.
pub fn line_break(rope: &Rope) -> &'static str {
    let first = rope.line(0);
    let end: String = first.slice(first.len_chars().saturating_sub(2)..).chars().collect();
    if end == "\r\n" { "\r\n" } else { "\n" }
}

fn line_end(rope: &Rope, line: usize) -> usize {
    let text: String = rope.line(line).into();
    rope.line_to_byte(line) + text.trim_end_matches(['\n', '\r']).len()
}

/// Changes each line of a selection.
fn each_line(rope: &Rope, selection: &Range<usize>, change: impl Fn(&str) -> String) -> Change {
    let range = lines(rope, selection);
    let before: String = rope.byte_slice(range.clone()).into();
    let text = before.split('\n').map(change).collect::<Vec<_>>().join("\n");
    let one = selection.is_empty();
    // A cursor stays at its place in the line, as far as that is still there.
    let grown = text.len() as isize - before.len() as isize;
    let cursor = selection.end.saturating_add_signed(grown).clamp(range.start, range.start + text.len());
    let select = if one { cursor..cursor } else { range.start..range.start + text.len() };
    Change { range, text, select }
}

/// Makes the lines comments, or, if all of them are, no comments any more.
pub fn comment(rope: &Rope, selection: &Range<usize>, dialect: &Dialect) -> Change {
    let mark = dialect.line_comments.first().copied().unwrap_or("--");
    let range = lines(rope, selection);
    let text: String = rope.byte_slice(range).into();
    let written = |line: &&str| !line.trim().is_empty();
    let all = text.lines().filter(written).all(|line| line.trim_start().starts_with(mark));
    let indent = text.lines().filter(written).map(|line| line.len() - line.trim_start().len()).min().unwrap_or(0);
    each_line(rope, selection, |line| {
        if line.trim().is_empty() {
            return line.to_owned();
        }
        if all && !text.trim().is_empty() {
            let (blank, rest) = line.split_at(line.len() - line.trim_start().len());
            let rest = rest.strip_prefix(mark).unwrap_or(rest);
            return format!("{blank}{}", rest.strip_prefix(' ').unwrap_or(rest));
        }
        let (blank, rest) = line.split_at(indent);
        format!("{blank}{mark} {rest}")
    })
}

/// Moves the lines a step to the right.
pub fn indent(rope: &Rope, selection: &Range<usize>) -> Change {
    each_line(
        rope,
        selection,
        |line| if line.is_empty() { String::new() } else { format!("{}{line}", " ".repeat(STEP)) },
    )
}

/// Moves the lines a step to the left.
pub fn outdent(rope: &Rope, selection: &Range<usize>) -> Change {
    each_line(rope, selection, |line| {
        let blanks = line.bytes().take(STEP).take_while(|b| *b == b' ').count();
        let cut = if line.starts_with('\t') { 1 } else { blanks };
        line.get(cut..).unwrap_or_default().to_owned()
    })
}

/// Writes the selection, or the line, a second time.
pub fn duplicate(rope: &Rope, selection: &Range<usize>) -> Change {
    if selection.is_empty() {
        let range = lines(rope, selection);
        let line: String = rope.byte_slice(range.clone()).into();
        let end = line_break(rope);
        let cursor = selection.end + line.len() + end.len();
        return Change { range: range.end..range.end, text: format!("{end}{line}"), select: cursor..cursor };
    }
    let text: String = rope.byte_slice(selection.clone()).into();
    Change { range: selection.end..selection.end, select: selection.end..selection.end + text.len(), text }
}

/// Exchanges the lines with the one above or below. `None` where there is none.
pub fn shift(rope: &Rope, selection: &Range<usize>, down: bool) -> Option<Change> {
    let block = lines(rope, selection);
    let text: String = rope.byte_slice(block.clone()).into();
    let (first, last) = (rope.byte_to_line(block.start), rope.byte_to_line(block.end));
    if down {
        let below = last + 1;
        if below >= rope.len_lines() || (below + 1 == rope.len_lines() && rope.line(below).len_bytes() == 0) {
            return None;
        }
        let other: String = rope.byte_slice(rope.line_to_byte(below)..line_end(rope, below)).into();
        let by = other.len() + line_break(rope).len();
        let range = block.start..line_end(rope, below);
        return Some(Change {
            range,
            text: format!("{other}{}{text}", line_break(rope)),
            select: selection.start + by..selection.end + by,
        });
    }
    let above = first.checked_sub(1)?;
    let start = rope.line_to_byte(above);
    let other: String = rope.byte_slice(start..line_end(rope, above)).into();
    let by = other.len() + line_break(rope).len();
    Some(Change {
        range: start..block.end,
        text: format!("{text}{}{other}", line_break(rope)),
        select: selection.start.saturating_sub(by)..selection.end.saturating_sub(by),
    })
}

/// Puts a selection between signs.
pub fn surround(rope: &Rope, selection: &Range<usize>, open: char) -> Option<Change> {
    let close = match open {
        '(' => ')',
        '[' => ']',
        '{' => '}',
        '\'' | '"' | '`' => open,
        _ => return None,
    };
    let inside: String = rope.byte_slice(selection.clone()).into();
    // A quote inside of quotes is doubled.
    let inside = if open == close { inside.replace(open, &format!("{open}{open}")) } else { inside };
    let select = selection.start + 1..selection.start + 1 + inside.len();
    Some(Change { range: selection.clone(), text: format!("{open}{inside}{close}"), select })
}

/// The parenthesis, bracket or brace that belongs to the one at or before the cursor. Those in
/// quotes and comments do not count.
pub fn partner(rope: &Rope, dialect: &'static Dialect, from: usize, cursor: usize) -> Option<usize> {
    let signs: Vec<(usize, u8)> = Lexer::new(rope, dialect, from)
        .take_while(|token| token.start < from + (256 << 10))
        .filter_map(|token| match token.kind {
            TokenKind::Punctuation(sign @ (b'(' | b')' | b'[' | b']' | b'{' | b'}')) => Some((token.start, sign)),
            _ => None,
        })
        .collect();
    let at = signs.iter().position(|(start, _)| *start == cursor);
    let at = at.or_else(|| signs.iter().position(|(start, _)| start + 1 == cursor))?;
    let (_, sign) = *signs.get(at)?;
    let opens = matches!(sign, b'(' | b'[' | b'{');
    let mut depth = 0;
    let rest: Box<dyn Iterator<Item = &(usize, u8)>> =
        if opens { Box::new(signs.iter().skip(at)) } else { Box::new(signs.iter().take(at + 1).rev()) };
    for (start, other) in rest {
        depth += if matches!(other, b'(' | b'[' | b'{') == opens { 1 } else { -1 };
        if depth == 0 {
            return Some(*start);
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::SQLITE;

    /// Carries a change out on a text whose selection stands between marks, and writes it so again.
    fn after(text: &str, change: impl Fn(&Rope, &Range<usize>) -> Option<Change>) -> String {
        let start = text.find('[').unwrap();
        let end = text.find(']').unwrap() - 1;
        let plain = text.replacen(['[', ']'], "", 2);
        let rope = Rope::from_str(&plain);
        let Some(change) = change(&rope, &(start..end)) else { return "none".into() };
        let mut done = plain;
        done.replace_range(change.range, &change.text);
        done.insert(change.select.end, ']');
        done.insert(change.select.start, '[');
        done
    }

    #[test]
    fn lines_change_together() {
        let comment = |rope: &Rope, s: &Range<usize>| Some(comment(rope, s, &SQLITE));
        for (before, expected) in [
            ("a\n[  b\n    c]\nd", "a\n[  -- b\n  --   c]\nd"),
            ("a\n[  -- b\n  --   c]\nd", "a\n[  b\n    c]\nd"),
            ("se[]lect", "-- se[]lect"),
            ("-- se[]lect", "se[]lect"),
            ("[a\n\nb\n]c", "[-- a\n\n-- b]\nc"),
        ] {
            assert_eq!(after(before, comment), expected, "{before}");
        }
        assert_eq!(after("[a\n b]", |r, s| Some(indent(r, s))), "[    a\n     b]");
        assert_eq!(after("[    a\n     b\n c]", |r, s| Some(outdent(r, s))), "[a\n b\nc]");
        assert_eq!(after("ab[]c\nd", |r, s| Some(duplicate(r, s))), "abc\nab[]c\nd");
        assert_eq!(after("ab[]c\r\nd", |r, s| Some(duplicate(r, s))), "abc\r\nab[]c\r\nd");
        assert_eq!(after("a[bc]d", |r, s| Some(duplicate(r, s))), "abc[bc]d");
    }

    #[test]
    fn lines_move_past_each_other() {
        for (before, down, expected) in [
            ("a\n[b]\nc", true, "a\nc\n[b]"),
            ("a\n[b]\nc", false, "[b]\na\nc"),
            ("a\n[b\nc]\nd\n", true, "a\nd\n[b\nc]\n"),
            ("[a]\nb", false, "none"),
            ("a\n[b]\n", true, "none"),
            ("aé\n[]b", false, "[]b\naé"),
            ("a\r\n[b]\r\nc", true, "a\r\nc\r\n[b]"),
            ("a\r\n[b]\r\nc", false, "[b]\r\na\r\nc"),
        ] {
            assert_eq!(after(before, |r, s| shift(r, s, down)), expected, "{before}");
        }
    }

    #[test]
    fn signs_go_around_a_selection() {
        assert_eq!(after("a [b c] d", |r, s| surround(r, s, '(')), "a ([b c]) d");
        assert_eq!(after("a [it's] d", |r, s| surround(r, s, '\'')), "a '[it''s]' d");
        assert_eq!(after("a [b] d", |r, s| surround(r, s, 'x')), "none");
    }

    #[test]
    fn parentheses_know_each_other() {
        let rope = Rope::from_str("f(a, (b), ')', x[1]) -- )\n)");
        let at = |cursor| partner(&rope, &SQLITE, 0, cursor);
        assert_eq!([at(1), at(19), at(5), at(8), at(0), at(25)], [Some(19), Some(1), Some(7), Some(5), None, None]);
    }
}
