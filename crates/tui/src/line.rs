//! A line of text that is being written: in prompts, in fields of forms, and where a list is narrowed.

use jaunty_language::text::clean;
use jaunty_language::text::motion::{word_after, word_before};
use unicode_segmentation::UnicodeSegmentation;
use zeroize::Zeroize;

/// A line, and the place in it where a person writes.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Line {
    text: String,
    /// In bytes, between two characters.
    at: usize,
    /// Whether it was filled in beforehand and not been touched yet: what is typed takes its place.
    offered: bool,
}

/// A place in a line, as seen from the cursor.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LinePlace {
    /// The character before.
    Left,
    /// The character behind.
    Right,
    /// The beginning of the word.
    WordLeft,
    /// The end of the word.
    WordRight,
    /// The beginning of the line.
    Home,
    /// The end of the line.
    End,
}

/// What can be done in a line beside typing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LineEdit {
    /// Go there.
    Go(LinePlace),
    /// Delete as far as there.
    Delete(LinePlace),
    /// Delete all of it.
    Clear,
}

/// What an edit did to a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Edit {
    /// The cursor moved, or could not.
    Moved,
    /// The text is another.
    Changed,
}

impl From<String> for Line {
    /// A line with the cursor behind it.
    fn from(text: String) -> Line {
        Line { at: text.len(), text, offered: false }
    }
}

impl From<&str> for Line {
    fn from(text: &str) -> Line {
        Line::from(text.to_owned())
    }
}

impl Line {
    /// A line that is filled in beforehand: what is typed takes the place of the text, and the keys that move the
    /// cursor keep it.
    pub fn offered(text: String) -> Line {
        Line { offered: !text.is_empty(), ..Line::from(text) }
    }

    /// Whether what is typed would take the place of the text.
    pub fn is_offered(&self) -> bool {
        self.offered
    }

    /// The text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Whether nothing is written.
    pub fn is_empty(&self) -> bool {
        self.text.is_empty()
    }

    /// Writes at the cursor.
    pub fn insert(&mut self, text: &str) {
        if std::mem::take(&mut self.offered) {
            self.take();
        }
        self.text.insert_str(self.at, text);
        self.at += text.len();
    }

    /// Takes the text out.
    pub fn take(&mut self) -> String {
        (self.at, self.offered) = (0, false);
        std::mem::take(&mut self.text)
    }

    /// Leaves nothing of it in memory.
    pub fn wipe(&mut self) {
        self.at = 0;
        self.text.zeroize();
    }

    /// Edits at the cursor.
    pub fn edit(&mut self, edit: LineEdit) -> Edit {
        use LineEdit::{Clear, Delete, Go};
        if edit == Clear || (self.offered && matches!(edit, Delete(_))) {
            let had = !self.text.is_empty();
            self.take();
            return if had { Edit::Changed } else { Edit::Moved };
        }
        let (before, after) = self.text.split_at(self.at);
        let place = |to: LinePlace| match to {
            LinePlace::Left => before.grapheme_indices(true).next_back().map_or(0, |(at, _)| at),
            LinePlace::Right => self.at + after.graphemes(true).next().map_or(0, str::len),
            LinePlace::WordLeft => word_before(before),
            LinePlace::WordRight => self.at + word_after(after),
            LinePlace::Home => 0,
            LinePlace::End => self.text.len(),
        };
        match edit {
            Go(to) => {
                (self.at, self.offered) = (place(to), false);
                Edit::Moved
            }
            Delete(to) => {
                let to = place(to);
                self.delete(to.min(self.at), to.max(self.at))
            }
            Clear => Edit::Moved,
        }
    }

    fn delete(&mut self, from: usize, to: usize) -> Edit {
        self.text.replace_range(from..to, "");
        self.at = from;
        if from < to { Edit::Changed } else { Edit::Moved }
    }

    /// As many dots as characters, with the cursor where it was.
    pub fn hidden(&self) -> Line {
        let dots = |text: &str| "•".repeat(text.graphemes(true).count());
        let (before, after) = self.text.split_at(self.at);
        let before = dots(before);
        Line { at: before.len(), text: before + &dots(after), offered: self.offered }
    }

    /// The part that is seen in so many columns, and the column of the cursor in it.
    pub fn seen(&self, room: usize) -> (&str, usize) {
        let (before, after) = self.text.split_at(self.at);
        // Where not all of it has room, some of what follows stays in sight, and the cursor has its own place.
        let behind = clean::width(after).clamp(1, (room / 4).max(1));
        let (mut from, mut column) = (self.at, 0);
        for (at, part) in before.grapheme_indices(true).rev() {
            let width = clean::width(part);
            if column + width + behind > room {
                break;
            }
            (from, column) = (at, column + width);
        }
        (&self.text[from..], column)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Does what a word says; a character is typed.
    fn press(line: &mut Line, word: &str) -> Edit {
        use LineEdit::{Clear, Delete, Go};
        use LinePlace::{End, Home, Left, Right, WordLeft, WordRight};
        line.edit(match word {
            "left" => Go(Left),
            "right" => Go(Right),
            "home" => Go(Home),
            "end" => Go(End),
            "word-left" => Go(WordLeft),
            "word-right" => Go(WordRight),
            "backspace" => Delete(Left),
            "delete" => Delete(Right),
            "delete-word-left" => Delete(WordLeft),
            "delete-word-right" => Delete(WordRight),
            "clear" => Clear,
            text => {
                line.insert(text);
                return Edit::Changed;
            }
        })
    }

    fn pressed(text: &str, words: &str) -> (String, usize) {
        let mut line = Line::from(text);
        for word in words.split(' ') {
            press(&mut line, word);
        }
        (line.text.clone(), line.at)
    }

    #[test]
    fn keys_move_and_delete_by_characters_and_words() {
        for (text, keys, expected, at) in [
            ("port", "left left x", "poxrt", 3),
            ("port", "home y end z", "yportz", 6),
            ("port", "home left backspace delete", "ort", 0),
            ("port", "right delete", "port", 4),
            ("two words", "word-left x", "two xwords", 5),
            ("two words", "home word-right x", "twox words", 4),
            ("two words ", "delete-word-left", "two ", 4),
            ("two words", "home delete-word-right", " words", 0),
            ("old-fares.sql", "delete-word-left x", "old-fares.x", 11),
            ("> 1000", "word-left delete-word-right 5 0", "> 50", 4),
            // One character of several code points is one.
            ("cafe\u{301}s", "left left backspace", "cae\u{301}s", 2),
            ("名前", "left backspace", "前", 0),
        ] {
            assert_eq!(pressed(text, keys), (expected.to_owned(), at), "{text} {keys}");
        }
        let mut line = Line::from("quay");
        let edits = ["home", "backspace", "delete"].map(|word| press(&mut line, word));
        assert_eq!(edits, [Edit::Moved, Edit::Moved, Edit::Changed]);
    }

    #[test]
    fn what_is_typed_takes_the_place_of_what_was_offered() {
        for (keys, expected) in [
            ("x y", "xy"),
            ("left x", "takings.csxv"),
            ("end x", "takings.csvx"),
            ("home x", "xtakings.csv"),
            ("backspace x", "x"),
            ("delete-word-left x y", "xy"),
            ("clear x", "x"),
            ("left left clear x", "x"),
            ("left backspace", "takings.cv"),
        ] {
            let mut line = Line::offered("takings.csv".into());
            assert!(line.is_offered());
            for word in keys.split(' ') {
                press(&mut line, word);
            }
            assert_eq!((line.text(), line.is_offered()), (expected, false), "{keys}");
        }
        let mut line = Line::offered("takings.csv".into());
        line.insert("/tmp/pasted.csv");
        assert_eq!(line.text(), "/tmp/pasted.csv");
        assert!(!Line::offered(String::new()).is_offered());
    }

    #[test]
    fn the_cursor_stays_in_sight() {
        let mut line = Line::from("0123456789");
        assert_eq!(line.seen(20), ("0123456789", 10));
        assert_eq!(line.seen(11), ("0123456789", 10));
        assert_eq!(line.seen(8), ("3456789", 7), "the last place is the cursor's");
        for _ in 0..5 {
            press(&mut line, "left");
        }
        assert_eq!(line.seen(8), ("0123456789", 5), "all before it, and two of those behind");
        assert_eq!(line.seen(5), ("123456789", 4));
        press(&mut line, "home");
        assert_eq!(line.seen(8), ("0123456789", 0));
        assert_eq!(Line::from("名前").seen(4), ("前", 2), "a wide character is seen whole or not");
        assert_eq!(Line::default().seen(0), ("", 0));
    }

    #[test]
    fn what_is_hidden_keeps_its_cursor_and_no_character() {
        let mut line = Line::from("pa\u{df}e\u{301}");
        press(&mut line, "left");
        let dots = line.hidden();
        assert_eq!((dots.text(), dots.seen(9).1), ("••••", 3));
        line.wipe();
        assert!(line.is_empty());
        line.insert("x");
        assert_eq!(line.take(), "x");
    }
}
