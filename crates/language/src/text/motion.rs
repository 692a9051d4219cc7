//! Where a cursor goes: by character as a person sees it, by word, by line.

use ropey::Rope;
use unicode_segmentation::UnicodeSegmentation;

use crate::text::clean::{TAB, pieces};

/// The text of a line without its end.
pub fn line_text(rope: &Rope, line: usize) -> String {
    let mut text = rope.line(line).to_string();
    while text.ends_with(['\n', '\r']) {
        text.pop();
    }
    text
}

/// The first and the last byte offset at which a cursor can stand on a line.
pub fn line_bounds(rope: &Rope, line: usize) -> (usize, usize) {
    let start = rope.line_to_byte(line);
    (start, start + line_text(rope, line).len())
}

/// The place one character before.
pub fn left(rope: &Rope, at: usize) -> usize {
    let line = rope.byte_to_line(at);
    let start = rope.line_to_byte(line);
    if at == start {
        return if line == 0 { 0 } else { line_bounds(rope, line - 1).1 };
    }
    let text = line_text(rope, line);
    let before = text.get(..at - start).unwrap_or(&text);
    start + before.grapheme_indices(true).next_back().map_or(0, |(i, _)| i)
}

/// The place one character after.
pub fn right(rope: &Rope, at: usize) -> usize {
    let line = rope.byte_to_line(at);
    let (start, end) = line_bounds(rope, line);
    if at >= end {
        return if line + 1 < rope.len_lines() { rope.line_to_byte(line + 1) } else { at };
    }
    let text = line_text(rope, line);
    let after = text.get(at - start..).unwrap_or("");
    at + after.graphemes(true).next().map_or(0, str::len)
}

/// The beginning of the word before.
pub fn word_left(rope: &Rope, at: usize) -> usize {
    let line = rope.byte_to_line(at);
    let start = rope.line_to_byte(line);
    if at == start {
        return left(rope, at);
    }
    let text = line_text(rope, line);
    start + word_before(text.get(..at - start).unwrap_or(&text))
}

/// Where the last word of a text begins. Of names that points join, as `fares.price`, each is one; a number
/// with a point is one.
pub fn word_before(text: &str) -> usize {
    let last = text.split_word_bound_indices().rev().find(|(_, word)| !word.trim().is_empty());
    last.map_or(0, |(at, word)| at + joined(word).and_then(|word| word.rfind('.')).map_or(0, |point| point + 1))
}

/// Where the first word of a text ends, as [`word_before`] has it.
pub fn word_after(text: &str) -> usize {
    let first = text.split_word_bound_indices().find(|(_, word)| !word.trim().is_empty());
    first.map_or(text.len(), |(at, word)| at + joined(word).and_then(|word| word.find('.')).unwrap_or(word.len()))
}

/// A word that is no number and no sign, whose points therefore join names.
fn joined(word: &str) -> Option<&str> {
    Some(word).filter(|word| word.starts_with(|c: char| c.is_alphabetic() || c == '_'))
}

/// The end of the word after.
pub fn word_right(rope: &Rope, at: usize) -> usize {
    let line = rope.byte_to_line(at);
    let (start, end) = line_bounds(rope, line);
    if at >= end {
        return right(rope, at);
    }
    let text = line_text(rope, line);
    at + word_after(text.get(at - start..).unwrap_or(""))
}

/// The first character of a line that is not blank, or its first if the cursor is there already.
pub fn line_home(rope: &Rope, at: usize) -> usize {
    let (start, _) = line_bounds(rope, rope.byte_to_line(at));
    let text = line_text(rope, rope.byte_to_line(at));
    let indent = start + (text.len() - text.trim_start().len());
    if at == indent { start } else { indent }
}

/// The end of a line.
pub fn line_end(rope: &Rope, at: usize) -> usize {
    line_bounds(rope, rope.byte_to_line(at)).1
}

/// The screen column of byte `at` in `text`, tabs spread.
pub fn column_of(text: &str, at: usize) -> usize {
    let mut column = 0;
    for piece in pieces(text).take_while(|piece| piece.at < at) {
        column = advance(column, text, &piece);
    }
    column
}

/// The byte of `text` that is painted at screen column `wanted`, or its end.
pub fn byte_at_column(text: &str, wanted: usize) -> usize {
    let mut column = 0;
    for piece in pieces(text) {
        let next = advance(column, text, &piece);
        if next > wanted {
            return snap(text, piece.at);
        }
        column = next;
    }
    text.len()
}

/// The nearest boundary between characters at or before `at`.
fn snap(text: &str, at: usize) -> usize {
    text.grapheme_indices(true).map(|(i, _)| i).take_while(|i| *i <= at).last().unwrap_or(0)
}

/// The column after `piece` that begins at `column`.
pub fn advance(column: usize, text: &str, piece: &super::clean::Piece<'_>) -> usize {
    if text.as_bytes().get(piece.at) == Some(&b'\t') { (column / TAB + 1) * TAB } else { column + piece.width }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn characters_are_what_a_person_sees() {
        let rope = Rope::from_str("ae\u{301}👩\u{200d}🚀z\nb");
        let mut at = 0;
        let mut stops = vec![0];
        while at < rope.len_bytes() {
            at = right(&rope, at);
            stops.push(at);
        }
        assert_eq!(stops, [0, 1, 4, 15, 16, 17, 18]);
        for pair in stops.windows(2).rev() {
            assert_eq!(left(&rope, pair[1]), pair[0]);
        }
    }

    #[test]
    fn words_and_homes() {
        let rope = Rope::from_str("  select name, id\nfrom t");
        assert_eq!(word_right(&rope, 0), 8);
        assert_eq!(word_right(&rope, 8), 13);
        assert_eq!(word_left(&rope, 13), 9);
        assert_eq!(word_left(&rope, 18), 17);
        assert_eq!(line_home(&rope, 9), 2);
        assert_eq!(line_home(&rope, 2), 0);
        assert_eq!(line_end(&rope, 3), 17);
    }

    #[test]
    fn points_part_names_and_not_numbers() {
        let text = "from east.fares where price > 12.50";
        let before: Vec<usize> = [35, 19, 15, 10, 9].map(|at| word_before(&text[..at])).to_vec();
        assert_eq!(before, [30, 16, 10, 9, 5], "a number, a word, fares, the point, east");
        let after: Vec<usize> = [0, 4, 9, 10, 29].map(|at| at + word_after(&text[at..])).to_vec();
        assert_eq!(after, [4, 9, 10, 15, 35]);
        assert_eq!((word_before(""), word_after(""), word_after("  ")), (0, 0, 2));
    }

    #[test]
    fn columns_count_tabs_and_wide_characters() {
        let text = "a\t名b";
        assert_eq!(column_of(text, text.len()), 7);
        assert_eq!([0, 1, 3, 4, 5, 6, 9].map(|c| byte_at_column(text, c)), [0, 1, 1, 2, 2, 5, 6]);
    }
}
