//! Documents that are open in the editor.

use std::collections::HashMap;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Instant;

use jaunty_core::problems::Problem;
use jaunty_language::dialect::{self, Dialect};
use jaunty_language::outline::{Change, Outline, StatementId};
use jaunty_language::split::Statement;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_decode_str, utf8_percent_encode};
use ropey::Rope;
use serde_json::Value;

use crate::place::{Encoding, Lines};

/// Lines at the top in which a comment may name the connection.
const LINES_OF_CONNECTION: usize = 5;

/// A document.
#[derive(Debug)]
pub struct Text {
    /// Its name in messages.
    pub uri: String,
    /// Its version, as the editor counts them.
    pub version: i64,
    /// The text.
    pub rope: Rope,
    /// Where its lines begin.
    pub lines: Lines,
    /// Its statements.
    pub outline: Outline,
    /// The number of the link to what it is connected to.
    pub link: Option<u64>,
    /// What is wrong in it.
    pub troubles: Troubles,
}

/// What is known to be wrong with the statements of a document.
#[derive(Debug, Default)]
pub struct Troubles {
    /// By statement; they are looked for again when the catalog is another.
    pub found: HashMap<StatementId, Arc<Vec<Problem>>>,
    /// When the catalog was read that they were looked for by.
    pub by: Option<u64>,
    /// Since when nothing was changed, if it has not been looked at since.
    pub changed: Option<Instant>,
    /// The byte that was changed last, whose statement the server has not been asked about.
    pub touched: Option<usize>,
}

impl Text {
    /// One that was opened.
    pub fn new(uri: &str, version: i64, text: &str, dialect: &'static Dialect, encoding: Encoding) -> Text {
        let rope = Rope::from_str(text);
        Text {
            uri: uri.to_owned(),
            version,
            lines: Lines::of(&rope, encoding),
            outline: Outline::new(&rope, dialect),
            rope,
            link: None,
            troubles: Troubles { changed: Some(Instant::now()), ..Troubles::default() },
        }
    }

    /// Its file, where it has one.
    pub fn path(&self) -> Option<PathBuf> {
        path_of(&self.uri)
    }

    /// The dialect that it is in.
    pub fn dialect(&self) -> &'static Dialect {
        self.outline.dialect()
    }

    /// Reads it in another dialect.
    pub fn set_dialect(&mut self, dialect: &'static Dialect) {
        if !std::ptr::eq(self.dialect(), dialect) {
            self.outline = Outline::new(&self.rope, dialect);
            self.troubles.found.clear();
            self.troubles.changed = Some(Instant::now());
        }
    }

    /// Takes in a change of the editor: of a range, or of all of it.
    pub fn change(&mut self, change: &Value, encoding: Encoding) {
        let Some(put) = change.get("text").and_then(Value::as_str) else { return };
        let range = change.get("range").filter(|range| !range.is_null());
        let Some(range) = range.and_then(|range| self.lines.bytes(&self.rope, range)) else {
            if range.is_none() {
                self.rope = Rope::from_str(put);
                self.lines = Lines::of(&self.rope, encoding);
                self.outline = Outline::new(&self.rope, self.dialect());
                self.touch(0);
            }
            return;
        };
        let (from, to) = (self.rope.byte_to_char(range.start), self.rope.byte_to_char(range.end));
        self.rope.remove(from..to);
        self.rope.insert(from, put);
        self.lines.update(&self.rope, range.start, range.len(), put.len());
        self.outline.update(&self.rope, Change { at: range.start, removed: range.len(), inserted: put.len() });
        self.touch(range.start + put.len());
    }

    fn touch(&mut self, at: usize) {
        self.troubles.changed = Some(Instant::now());
        self.troubles.touched = Some(at);
    }

    /// The statement at a byte.
    pub fn statement_at(&self, at: usize) -> Option<(usize, &Statement)> {
        let index = self.outline.at(&self.rope, at)?;
        Some((index, self.outline.statements().get(index)?))
    }

    /// The identity of a statement.
    pub fn id_of(&self, statement: &Statement) -> StatementId {
        StatementId::of(&statement.text(&self.rope))
    }

    /// The bytes of all of it.
    pub fn whole(&self) -> Range<usize> {
        0..self.rope.len_bytes()
    }

    /// The connection that a comment at the top names: `-- connection: bookings-dev`.
    pub fn connection_line(&self) -> Option<String> {
        let marks = self.dialect().line_comments;
        (0..LINES_OF_CONNECTION.min(self.lines.count())).find_map(|line| {
            let line = self.rope.byte_slice(self.lines.line(&self.rope, line)).to_string();
            let inside = marks.iter().find_map(|mark| line.trim_start().strip_prefix(mark))?;
            let name = inside.trim_start().strip_prefix("connection:")?.trim();
            (!name.is_empty()).then(|| name.to_owned())
        })
    }

    /// The line that names a connection.
    pub fn line_for(&self, connection: &str) -> String {
        let mark = self.dialect().line_comments.first().copied().unwrap_or("--");
        format!("{mark} connection: {connection}\n")
    }
}

/// The dialect that a document is in, as far as its file and the editor's word for its language tell.
pub fn dialect_of(uri: &str, language: &str) -> &'static Dialect {
    let ending = path_of(uri).and_then(|path| Some(path.extension()?.to_str()?.to_owned()));
    let by_ending = ending.and_then(|ending| dialect::by_extension(&ending));
    by_ending.or_else(|| dialect::by_name(language)).unwrap_or(dialect::FALLBACK)
}

/// What is not written as it is in the path of a URI.
const IN_PATH: &AsciiSet = &NON_ALPHANUMERIC.remove(b'/').remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// The file that a URI names.
pub fn path_of(uri: &str) -> Option<PathBuf> {
    let rest = uri.strip_prefix("file://")?;
    let path = rest.strip_prefix("localhost").unwrap_or(rest);
    let path = percent_decode_str(path).decode_utf8().ok()?;
    path.starts_with('/').then(|| PathBuf::from(path.as_ref()))
}

/// The URI of a file.
pub fn uri_of(path: &Path) -> String {
    format!("file://{}", utf8_percent_encode(&path.to_string_lossy(), IN_PATH))
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn changes_are_taken_in_where_they_are() {
        let dialect = dialect_of("file:///x/a.sql", "sql");
        let mut text = Text::new("file:///x/a.sql", 1, "select 1;\n\nselect é;\n", dialect, Encoding::Utf16);
        let range = |a: (u32, u32), b: (u32, u32)| json!({"start": {"line": a.0, "character": a.1}, "end": {"line": b.0, "character": b.1}});
        text.change(&json!({"range": range((2, 7), (2, 8)), "text": "port"}), Encoding::Utf16);
        assert_eq!(text.rope.to_string(), "select 1;\n\nselect port;\n");
        text.change(&json!({"range": range((0, 99), (1, 0)), "text": "\nselect 2;"}), Encoding::Utf16);
        assert_eq!(text.rope.to_string(), "select 1;\nselect 2;\nselect port;\n");
        assert_eq!(text.outline.statements().len(), 3);
        // What is no change, and what lies nowhere, does no harm.
        text.change(&json!({"range": range((9, 0), (5, 0)), "text": ""}), Encoding::Utf16);
        text.change(&json!({"range": {"start": 7}, "text": "lost"}), Encoding::Utf16);
        text.change(&json!({"range": range((0, 0), (0, 1))}), Encoding::Utf16);
        assert_eq!(text.rope.to_string(), "select 1;\nselect 2;\nselect port;\n");
        text.change(&json!({"text": "-- connection: ferry\nselect 7"}), Encoding::Utf16);
        assert_eq!(text.connection_line().as_deref(), Some("ferry"));
    }

    #[test]
    fn files_have_uris() {
        for path in ["/x/a b.sql", "/x/é%20+#?.sql"] {
            assert_eq!(path_of(&uri_of(Path::new(path))).as_deref(), Some(Path::new(path)));
        }
        assert_eq!(path_of("untitled:1"), None);
        assert_eq!(path_of("file://other/x"), None);
    }
}
