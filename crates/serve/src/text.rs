//! Documents that are open in the editor.

use std::collections::HashMap;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Instant;

use jaunty_core::connection::comment;
use jaunty_core::problems::Problem;
use jaunty_language::dialect::{self, Dialect};
use jaunty_language::host::{self, Code, Host};
use jaunty_language::outline::{Change, Outline, StatementId};
use jaunty_language::split::Statement;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_decode_str, utf8_percent_encode};
use ropey::Rope;
use serde_json::Value;

use crate::place::{Encoding, Lines, Position};

/// A document.
#[derive(Debug)]
pub struct Text {
    /// Its name in messages.
    pub uri: String,
    /// Its version, as the editor counts them.
    pub version: i64,
    /// The text; of program code only its statements, with everything else blanked out.
    pub rope: Rope,
    /// The text as it is written, where that is program code, and its language.
    code: Option<Code>,
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
    /// Why it is not connected, although it belongs to a connection.
    pub held: Option<String>,
}

impl Text {
    /// One that was opened.
    pub fn new(uri: &str, version: i64, text: &str, language: Language, encoding: Encoding) -> Text {
        let (dialect, code) = match language {
            Language::Statements(dialect) => (dialect, None),
            Language::Code(host) => (dialect::FALLBACK, Some(Code::new(text, host))),
        };
        let rope = code.as_ref().map_or_else(|| Rope::from_str(text), |code| code.masked().clone());
        Text {
            uri: uri.to_owned(),
            version,
            lines: Lines::of(&rope, encoding),
            outline: Outline::new(&rope, dialect),
            rope,
            code,
            link: None,
            troubles: Troubles { changed: Some(Instant::now()), ..Troubles::default() },
        }
    }

    /// The text as it is written.
    pub fn written(&self) -> &Rope {
        self.code.as_ref().map_or(&self.rope, Code::written)
    }

    /// The program code in which its statements stand, where they do.
    pub fn code(&self) -> Option<&Code> {
        self.code.as_ref()
    }

    /// Whether it is program code, in which statements stand.
    pub fn is_code(&self) -> bool {
        self.code.is_some()
    }

    /// Whether a byte lies where statements are written.
    pub fn is_in_statements(&self, at: usize) -> bool {
        !self.is_code() || self.statement_at(at).is_some()
    }

    /// What begins a comment to the end of a line of it.
    pub fn comments(&self) -> &'static [&'static str] {
        self.code.as_ref().map_or(self.dialect().line_comments, |code| code.host().line_comments)
    }

    /// The line that comments about the statement at a byte stand above: in program code that in which its literal begins.
    pub fn line_below_comments(&self, start: usize) -> usize {
        self.lines.line_of(self.code.as_ref().map_or(start, |code| code.quote_before(start)))
    }

    /// The bytes of a line, its end left out.
    pub fn line(&self, line: usize) -> Range<usize> {
        self.lines.line(self.written(), line)
    }

    /// The byte of a place.
    pub fn byte(&self, at: Position) -> usize {
        self.lines.byte(self.written(), at)
    }

    /// The place of a byte.
    pub fn position(&self, at: usize) -> Position {
        self.lines.position(self.written(), at)
    }

    /// The bytes between two places of a message; none where it says none.
    pub fn bytes(&self, range: &Value) -> Option<Range<usize>> {
        self.lines.bytes(self.written(), range)
    }

    /// Two places, for a message.
    pub fn range(&self, bytes: &Range<usize>) -> Value {
        self.lines.range(self.written(), bytes)
    }

    /// The word at a byte.
    pub fn word_at(&self, at: usize) -> String {
        let rope = self.written();
        let at = rope.byte_to_char(at.min(rope.len_bytes()));
        let is_word = |c: &char| c.is_alphanumeric() || *c == '_';
        let before: Vec<char> = rope.chars_at(at).reversed().take_while(is_word).collect();
        before.into_iter().rev().chain(rope.chars_at(at).take_while(is_word)).collect()
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
        let range = match range {
            Some(range) => match self.bytes(range) {
                Some(range) => range,
                None => return,
            },
            None => {
                let language =
                    self.code.as_ref().map_or(Language::Statements(self.dialect()), |code| Language::Code(code.host()));
                let dialect = self.dialect();
                let whole = Text::new(&self.uri, self.version, put, language, encoding);
                (self.rope, self.lines, self.outline, self.code) = (whole.rope, whole.lines, whole.outline, whole.code);
                self.set_dialect(dialect);
                self.touch(0);
                return;
            }
        };
        let (written, change) = match &mut self.code {
            // A quote may change what all that follows is.
            Some(code) => {
                let change = code.edit(range.clone(), put);
                self.rope = code.masked().clone();
                (code.written(), change)
            }
            None => {
                let chars = self.rope.byte_to_char(range.start)..self.rope.byte_to_char(range.end);
                self.rope.remove(chars.clone());
                self.rope.insert(chars.start, put);
                (&self.rope, Change { at: range.start, removed: range.len(), inserted: put.len() })
            }
        };
        self.lines.update(written, range.start, range.len(), put.len());
        self.outline.update(&self.rope, change);
        self.touch(range.start + put.len());
    }

    fn touch(&mut self, at: usize) {
        self.troubles.changed = Some(Instant::now());
        self.troubles.touched = Some(at);
    }

    /// The statement at a byte.
    pub fn statement_at(&self, at: usize) -> Option<(usize, &Statement)> {
        let index = self.outline.at(&self.rope, at)?;
        let statement = self.outline.statements().get(index)?;
        // Between literals there is code, which is of none.
        let inside = !self.is_code() || (statement.start <= at && at <= statement.end);
        inside.then_some((index, statement))
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
        let lines = (0..self.lines.count()).map(|line| self.written().byte_slice(self.line(line)).to_string());
        comment::named(lines, self.comments())
    }

    /// The line that names a connection.
    pub fn line_for(&self, connection: &str) -> String {
        let mark = self.comments().first().copied().unwrap_or("--");
        format!("{mark} connection: {connection}\n")
    }
}

/// What a document is written in.
#[derive(Debug, Clone, Copy)]
pub enum Language {
    /// Statements of this dialect, unless its connection says another.
    Statements(&'static Dialect),
    /// Program code of this language, perhaps with statements in it.
    Code(&'static Host),
}

/// What a document is written in, as far as its file and the editor's word for its language tell.
pub fn language_of(uri: &str, language: &str) -> Language {
    let ending = path_of(uri).and_then(|path| Some(path.extension()?.to_str()?.to_lowercase()));
    let ending = ending.as_deref().unwrap_or_default();
    let language = language.to_lowercase();
    if let Some(host) = host::by_ending(ending).or_else(|| host::by_name(&language)) {
        return Language::Code(host);
    }
    let known = dialect::by_extension(ending).or_else(|| dialect::by_name(&language));
    match (known, language.is_empty() || language.contains("sql")) {
        (Some(dialect), _) => Language::Statements(dialect),
        (None, true) => Language::Statements(dialect::FALLBACK),
        (None, false) => Language::Code(&host::PLAIN),
    }
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
        let language = language_of("file:///x/a.sql", "sql");
        let mut text = Text::new("file:///x/a.sql", 1, "select 1;\n\nselect é;\n", language, Encoding::Utf16);
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
    fn code_is_read_by_its_statements() {
        let language = language_of("file:///x/a.py", "python");
        let mut text = Text::new("file:///x/a.py", 1, "é = 1\nq = 'select a from b'\n", language, Encoding::Utf16);
        assert_eq!(text.statement_at(14).map(|(_, s)| s.text(&text.rope)).as_deref(), Some("select a from b"));
        assert_eq!(text.word_at(1), "é");
        let at = json!({"start": {"line": 0, "character": 1}, "end": {"line": 0, "character": 1}});
        text.change(&json!({"range": at, "text": "ö"}), Encoding::Utf16);
        assert_eq!(text.written().to_string(), "éö = 1\nq = 'select a from b'\n");
        assert_eq!(text.position(4), Position { line: 0, column: 2 });
        assert_eq!(text.outline.statements().len(), 1);
        assert!(matches!(language_of("file:///x/README.md", "markdown"), Language::Code(_)));
        assert!(matches!(language_of("untitled:1", ""), Language::Statements(_)));
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
