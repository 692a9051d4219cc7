//! A statement, as it stands in a text.

use ropey::Rope;

use crate::dialect::Dialect;
use crate::split::Kind;

/// One statement's place in a text. All offsets are bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Statement {
    /// The first byte of its first word.
    pub start: usize,
    /// The byte after its last word, before its semicolon.
    pub body_end: usize,
    /// The byte after its semicolon; the same as `body_end` where there is none.
    pub end: usize,
    /// The comment directly above it, marks and all.
    pub title: Option<(usize, usize)>,
    /// What it does.
    pub kind: Kind,
    /// False where a quote or comment inside never closes.
    pub closed: bool,
    /// What ended statements where it stands, if not a semicolon.
    pub delimiter: Delimiter,
}

/// What ends statements instead of a semicolon, as a line `DELIMITER //` sets it; empty for the
/// semicolon. At most eight bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Delimiter([u8; 8]);

impl Delimiter {
    pub(super) fn of(text: &str) -> Delimiter {
        let mut bytes = [0; 8];
        if text != ";" {
            bytes.iter_mut().zip(text.bytes()).for_each(|(to, from)| *to = from);
        }
        Delimiter(bytes)
    }

    /// What ends the statement; none where a semicolon does.
    pub fn text(&self) -> Option<&str> {
        let end = self.0.iter().position(|b| *b == 0).unwrap_or(self.0.len());
        std::str::from_utf8(&self.0[..end]).ok().filter(|text| !text.is_empty())
    }
}

impl Statement {
    /// Whether a semicolon ends statements where it stands, and no other delimiter.
    pub fn ends_by_semicolon(&self) -> bool {
        self.delimiter.text().is_none()
    }

    /// Where it begins with its title.
    pub fn top(&self) -> usize {
        self.title.map_or(self.start, |(start, _)| start)
    }

    /// The title in words, without comment marks.
    pub fn title_text(&self, rope: &Rope, dialect: &Dialect) -> Option<String> {
        let (start, end) = self.title?;
        let title = rope.byte_slice(start..end).to_string();
        if note_in(&title, dialect.line_comments).is_none() {
            return title_words(&title, dialect);
        }
        // Comments that give values stand between the title and the statement.
        let above = (0..rope.byte_to_line(start)).rev().map(|line| rope.line(line).to_string());
        let is_comment = |line: &String| dialect.line_comments.iter().any(|mark| line.trim_start().starts_with(mark));
        let title = above.take_while(is_comment).find(|line| note_in(line, dialect.line_comments).is_none())?;
        title_words(&title, dialect)
    }

    /// The text to send: without the semicolon.
    pub fn text(&self, rope: &Rope) -> String {
        rope.byte_slice(self.start..self.body_end).to_string()
    }
}

/// The name of a parameter and the text of its value, where a comment gives one: `-- :port = Saltmarsh`.
pub fn note_in<'a>(comment: &'a str, marks: &[&str]) -> Option<(&'a str, &'a str)> {
    let comment = comment.trim();
    let inside = marks.iter().find_map(|mark| comment.strip_prefix(mark))?;
    let (name, value) = inside.split_once('=')?;
    let name = name.trim();
    let word = name.strip_prefix([':', '@', '$', '?'])?;
    let is_name = word.chars().all(|c| c.is_alphanumeric() || c == '_');
    is_name.then_some((name, value.trim()))
}

/// The words of a comment: marks, rules and bullets around them are left out.
fn title_words(comment: &str, dialect: &Dialect) -> Option<String> {
    let mut text = comment.trim();
    if let Some(block) = dialect.block_comment
        && let Some(inside) = text.strip_prefix(block.open)
    {
        text = inside.strip_suffix(block.close).unwrap_or(inside);
    }
    let line = text.lines().map(str::trim).find(|line| !line.is_empty())?;
    let bare = dialect.line_comments.iter().find_map(|open| line.strip_prefix(open)).unwrap_or(line);
    let bare = bare.trim_matches(|c: char| c.is_whitespace() || matches!(c, '-' | '=' | '*' | '#' | '/' | '~'));
    (!bare.is_empty()).then(|| bare.to_owned())
}
