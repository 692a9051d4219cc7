//! Program code in whose literals statements stand.

use std::ops::Range;

use ropey::Rope;

use super::{Exact, Host, exact, masked};
use crate::dialect::Dialect;
use crate::statement::parameters::{self, Value};

/// Program code, as it is written. Places in it are those of its masked text.
#[derive(Debug, Clone)]
pub struct Code {
    /// The text.
    pub written: Rope,
    /// Its language.
    pub host: &'static Host,
}

impl Code {
    /// That of a text.
    pub fn new(text: &str, host: &'static Host) -> Code {
        Code { written: Rope::from_str(text), host }
    }

    /// Its statements, with everything else blanked out.
    pub fn masked(&self) -> Rope {
        Rope::from_str(&masked(&self.written.to_string(), self.host))
    }

    /// Where the quote lies in whose literal a statement begins.
    pub fn quote_before(&self, start: usize) -> usize {
        let before = self.written.byte_slice(..start.min(self.written.len_bytes()));
        let blank = before.chars_at(before.len_chars()).reversed().take_while(|c| c.is_whitespace());
        start.saturating_sub(blank.map(char::len_utf8).sum::<usize>() + 1)
    }

    /// The values that comments give above the line in which the literal of the statement at a byte begins: a line within it
    /// is not one of the code's comments.
    pub fn noted_above(&self, start: usize) -> Vec<Value> {
        let line = self.written.byte_to_line(self.quote_before(start));
        parameters::noted_above(&self.written, line, self.host.line_comments)
    }

    /// The statement in this range of the masked text as the program sends it; see [`exact`].
    pub fn exact(
        &self,
        masked: &Rope,
        statement: Range<usize>,
        dialect: &'static Dialect,
    ) -> Result<Option<Exact>, Range<usize>> {
        exact(&self.written.to_string(), (masked, statement), self.host, dialect)
    }
}
