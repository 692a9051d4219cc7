//! A line of text that is being written: in prompts, in fields of forms, and where a list is narrowed.

use jaunty_language::text::clean;
use jaunty_language::text::motion::{word_after, word_before};
use unicode_segmentation::UnicodeSegmentation;
use zeroize::Zeroize;

use crate::keys::Key;

/// A line, and the place in it where a person writes.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Line {
    text: String,
    /// In bytes, between two characters.
    at: usize,
    /// Whether it was filled in beforehand and not been touched yet: what is typed takes its place.
    offered: bool,
}

/// What a key did to a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Edit {
    /// It is none that edits.
    Not,
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

    /// Does what a key means in a line.
    pub fn key(&mut self, key: Key) -> Edit {
        let name = key.to_string();
        let deletes = matches!(
            name.as_str(),
            "backspace" | "ctrl-h" | "delete" | "alt-backspace" | "ctrl-delete" | "alt-d" | "ctrl-u"
        );
        if name == "ctrl-u" || (self.offered && deletes) {
            let had = !self.text.is_empty();
            self.take();
            return if had { Edit::Changed } else { Edit::Moved };
        }
        let (before, after) = self.text.split_at(self.at);
        let to = match name.as_str() {
            "left" => before.grapheme_indices(true).next_back().map_or(0, |(at, _)| at),
            "right" => self.at + after.graphemes(true).next().map_or(0, str::len),
            "ctrl-left" | "alt-left" => word_before(before),
            "ctrl-right" | "alt-right" => self.at + word_after(after),
            "home" => 0,
            "end" => self.text.len(),
            "backspace" | "ctrl-h" => {
                return self.delete(before.grapheme_indices(true).next_back().map_or(0, |(at, _)| at), self.at);
            }
            "delete" => return self.delete(self.at, self.at + after.graphemes(true).next().map_or(0, str::len)),
            "alt-backspace" => return self.delete(word_before(before), self.at),
            "ctrl-delete" | "alt-d" => return self.delete(self.at, self.at + word_after(after)),
            _ => {
                let Some(c) = key.typed() else { return Edit::Not };
                self.insert(c.encode_utf8(&mut [0; 4]));
                return Edit::Changed;
            }
        };
        (self.at, self.offered) = (to, false);
        Edit::Moved
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

    fn pressed(text: &str, keys: &str) -> (String, usize) {
        let mut line = Line::from(text);
        for name in keys.split(' ') {
            assert_ne!(line.key(Key::parse(name).unwrap()), Edit::Not, "{name}");
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
            ("two words", "ctrl-left x", "two xwords", 5),
            ("two words", "home alt-right x", "twox words", 4),
            ("two words ", "alt-backspace", "two ", 4),
            ("two words", "home ctrl-delete", " words", 0),
            ("old-fares.sql", "alt-backspace x", "old-fares.x", 11),
            ("> 1000", "alt-left alt-d 5 0", "> 50", 4),
            // One character of several code points is one.
            ("cafe\u{301}s", "left left backspace", "cae\u{301}s", 2),
            ("名前", "left backspace", "前", 0),
        ] {
            assert_eq!(pressed(text, keys), (expected.to_owned(), at), "{text} {keys}");
        }
        let mut line = Line::from("quay");
        assert_eq!(["f5", "enter", "ctrl-g"].map(|name| line.key(Key::parse(name).unwrap())), [Edit::Not; 3]);
        assert_eq!(
            ["home", "backspace", "delete"].map(|name| line.key(Key::parse(name).unwrap())),
            [Edit::Moved, Edit::Moved, Edit::Changed]
        );
    }

    #[test]
    fn what_is_typed_takes_the_place_of_what_was_offered() {
        for (keys, expected) in [
            ("x y", "xy"),
            ("left x", "takings.csxv"),
            ("end x", "takings.csvx"),
            ("home x", "xtakings.csv"),
            ("backspace x", "x"),
            ("alt-backspace x y", "xy"),
            ("ctrl-u x", "x"),
            ("left left ctrl-u x", "x"),
            ("left backspace", "takings.cv"),
        ] {
            let mut line = Line::offered("takings.csv".into());
            assert!(line.is_offered());
            for name in keys.split(' ') {
                line.key(Key::parse(name).unwrap());
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
            line.key(Key::parse("left").unwrap());
        }
        assert_eq!(line.seen(8), ("0123456789", 5), "all before it, and two of those behind");
        assert_eq!(line.seen(5), ("123456789", 4));
        line.key(Key::parse("home").unwrap());
        assert_eq!(line.seen(8), ("0123456789", 0));
        assert_eq!(Line::from("名前").seen(4), ("前", 2), "a wide character is seen whole or not");
        assert_eq!(Line::default().seen(0), ("", 0));
    }

    #[test]
    fn what_is_hidden_keeps_its_cursor_and_no_character() {
        let mut line = Line::from("pa\u{df}e\u{301}");
        line.key(Key::parse("left").unwrap());
        let dots = line.hidden();
        assert_eq!((dots.text(), dots.seen(9).1), ("••••", 3));
        line.wipe();
        assert!(line.is_empty());
        line.insert("x");
        assert_eq!(line.take(), "x");
    }
}
