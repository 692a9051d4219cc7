//! A long line in parts that fit.

use crate::text::clean::pieces;

/// A line, cleaned, in parts of at most `room` cells: divided behind a blank where it can be, and anywhere in a word
/// that is longer than that. Blanks may stand beyond the room, where nobody misses them. Put together the parts are
/// the cleaned line.
pub fn wrapped(line: &str, room: usize) -> Vec<String> {
    let room = room.max(1);
    let mut parts = Vec::new();
    let (mut part, mut width) = (String::new(), 0);
    // Behind the last blank of the part: its bytes and cells up to there.
    let mut behind_blank = (0, 0);
    for piece in pieces(line) {
        let is_blank = piece.shown == " ";
        // A wide character stands alone where there is no room for one.
        while width + piece.width > room && !is_blank && !part.is_empty() {
            let (bytes, cells) = if behind_blank.0 > 0 { behind_blank } else { (part.len(), width) };
            let rest = part.split_off(bytes);
            parts.push(std::mem::replace(&mut part, rest));
            width -= cells;
            behind_blank = (0, 0);
        }
        part.push_str(&piece.shown);
        width += piece.width;
        if is_blank {
            behind_blank = (part.len(), width);
        }
    }
    parts.push(part);
    parts
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::clean::{clean, width};
    use super::*;

    #[test]
    fn lines_are_divided_at_blanks_where_they_can_be() {
        for (line, room, expected) in [
            ("", 5, vec![""]),
            ("short", 5, vec!["short"]),
            ("the harbour master", 8, vec!["the ", "harbour ", "master"]),
            ("the harbour master", 100, vec!["the harbour master"]),
            ("a harbourmaster", 6, vec!["a ", "harbou", "rmaste", "r"]),
            ("abcdefgh", 3, vec!["abc", "def", "gh"]),
            ("名前名前", 5, vec!["名前", "名前"]),
            ("名前", 1, vec!["名", "前"]),
            ("five five", 5, vec!["five ", "five"]),
            ("five     five", 5, vec!["five     ", "five"]),
            ("\u{1b}[2J stays", 6, vec!["␛[2J ", "stays"]),
        ] {
            assert_eq!(wrapped(line, room), expected, "{line} in {room}");
        }
    }

    proptest! {
        #[test]
        fn nothing_is_lost_and_everything_fits(line in "([a-z]{0,12} |名|e\u{301}|\u{1b}| ){0,20}", room in 2..20_usize) {
            let parts = wrapped(&line, room);
            prop_assert_eq!(parts.concat(), clean(&line).into_owned());
            for part in &parts {
                prop_assert!(width(part.trim_end_matches(' ')) <= room, "{:?} in {}", part, room);
            }
        }
    }
}
