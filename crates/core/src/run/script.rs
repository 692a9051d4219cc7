//! A script that is larger than memory should be: its statements, piece by piece, as they are read.
//!
//! A piece ends where a statement surely does: with what ends statements, and not in the last one that was read, which may
//! go on. What is held is one piece, or one statement where that is longer.

use std::collections::VecDeque;
use std::io::Read;
use std::path::PathBuf;

use jaunty_language::dialect::Dialect;
use jaunty_language::outline::Outline;
use jaunty_language::text::rope;

use super::execute::Job;
use super::prepare::{Unready, prepare};

/// How much is read at a time.
pub const PIECE: usize = 1 << 20;

/// A statement may not be longer.
const LONGEST: usize = 1 << 30;

/// A statement of a script.
#[derive(Debug)]
pub struct Piece {
    /// It.
    pub job: Job,
    /// The line that it begins at, from 1.
    pub line: u64,
}

/// Why a script cannot go on.
#[derive(Debug, thiserror::Error)]
pub enum ScriptError {
    /// It cannot be read.
    #[error("the script cannot be read after line {line}: {source}")]
    Read {
        /// The last line that was read.
        line: u64,
        /// Why.
        source: std::io::Error,
    },
    /// It is not text.
    #[error("the script is not UTF-8 text at line {0}")]
    NotText(u64),
    /// A statement is not ready to run: the line, and why.
    #[error("line {0}: {1}")]
    Unready(u64, String),
    /// A statement has no end.
    #[error("the statement at line {0} is longer than 1 GiB")]
    TooLong(u64),
}

/// The statements of a script, one after the other. It ends after an error.
pub struct Script<R> {
    source: R,
    dialect: &'static Dialect,
    buffer: Option<PathBuf>,
    /// What was read and not given out.
    text: String,
    /// The bytes of a character that was read in half.
    half: Vec<u8>,
    /// The lines before that.
    lines: u64,
    /// The line that says what ends statements, where a semicolon does not.
    ends: String,
    /// How much is read at a time.
    at_once: usize,
    read: u64,
    is_over: bool,
    ready: VecDeque<Piece>,
}

impl<R: Read> Script<R> {
    /// The statements of this text, in this language. `buffer` is the file that it is, so that statements can be told of.
    pub fn new(source: R, dialect: &'static Dialect, buffer: Option<PathBuf>, at_once: usize) -> Script<R> {
        Script {
            source,
            dialect,
            buffer,
            text: String::new(),
            half: Vec::new(),
            lines: 0,
            ends: String::new(),
            at_once,
            read: 0,
            is_over: false,
            ready: VecDeque::new(),
        }
    }

    /// How many bytes were read.
    pub fn read(&self) -> u64 {
        self.read
    }

    /// Reads on. False at the end.
    fn more(&mut self) -> Result<bool, ScriptError> {
        let mut bytes = std::mem::take(&mut self.half);
        let before = bytes.len();
        let line = self.lines + self.text.matches('\n').count() as u64 + 1;
        let took = self.source.by_ref().take(self.at_once as u64).read_to_end(&mut bytes);
        took.map_err(|source| ScriptError::Read { line, source })?;
        let is_over = bytes.len() == before;
        self.read += (bytes.len() - before) as u64;
        match std::str::from_utf8(&bytes) {
            Ok(text) => self.text.push_str(text),
            // Half a character goes with what comes next.
            Err(error) if error.error_len().is_none() && !is_over => {
                let (text, half) = bytes.split_at(error.valid_up_to());
                self.text.push_str(std::str::from_utf8(text).unwrap_or_default());
                self.half = half.to_vec();
            }
            Err(error) => {
                let valid = bytes.get(..error.valid_up_to()).unwrap_or_default();
                let lines = valid.iter().filter(|byte| **byte == b'\n').count() as u64;
                return Err(ScriptError::NotText(line + lines));
            }
        }
        Ok(!is_over)
    }

    /// Gets the next statements ready; none at the end.
    fn fill(&mut self) -> Result<(), ScriptError> {
        let mut at_once = self.at_once;
        while self.ready.is_empty() && !self.is_over {
            while self.text.len() < at_once && !self.is_over {
                self.is_over = !self.more()?;
            }
            self.take()?;
            // One statement is longer than that: as much again.
            at_once = self.text.len().saturating_add(self.at_once).max(self.text.len() * 2);
            if self.text.len() > LONGEST {
                return Err(ScriptError::TooLong(self.lines + 1));
            }
        }
        Ok(())
    }

    /// Takes the statements that surely end in what was read.
    fn take(&mut self) -> Result<(), ScriptError> {
        let whole = rope(&format!("{}{}", self.ends, self.text));
        let outline = Outline::new(&whole, self.dialect);
        let statements = outline.statements();
        let head = self.ends.len();
        let first = statements.iter().position(|statement| statement.start >= head).unwrap_or(statements.len());
        let last = match self.is_over {
            true => statements.len(),
            false => {
                let ends = |at: &usize| statements[at - 1].end > statements[at - 1].body_end;
                (first + 1..statements.len()).rev().find(ends).unwrap_or(first)
            }
        };
        if last == first {
            if self.is_over {
                self.text.clear();
            }
            return Ok(());
        }
        let heads = self.ends.matches('\n').count() as u64;
        let line_of = |at: usize| self.lines + whole.byte_to_line(at) as u64 + 1 - heads;
        let prepared = prepare(&whole, &outline, first..last, self.buffer.as_deref(), || true);
        let prepared = prepared.map_err(|unready| {
            let (at, why) = said(&unready);
            ScriptError::Unready(line_of(at), why)
        })?;
        let pieces = prepared.jobs.into_iter().zip(prepared.starts);
        self.ready = pieces.map(|(job, start)| Piece { job, line: line_of(start) }).collect();
        // What ends statements goes on as it was said before the last of these.
        let sign = self.dialect.delimiter_word.zip(statements[last - 1].delimiter.text());
        self.ends = sign.map(|(word, sign)| format!("{word} {sign}\n")).unwrap_or_default();
        let end = match self.is_over {
            true => self.text.len(),
            false => statements[last - 1].end - head,
        };
        let given = self.text.get(..end).unwrap_or_default();
        self.lines += given.matches('\n').count() as u64;
        self.text.drain(..end);
        Ok(())
    }
}

impl<R: Read> Iterator for Script<R> {
    type Item = Result<Piece, ScriptError>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.ready.is_empty()
            && let Err(error) = self.fill()
        {
            (self.is_over, self.text) = (true, String::new());
            return Some(Err(error));
        }
        self.ready.pop_front().map(Ok)
    }
}

/// Where a statement is not ready, and why.
fn said(unready: &Unready) -> (usize, String) {
    match unready {
        Unready::NeverCloses(at) => (*at, "a quote or comment of the statement never closes".to_owned()),
        Unready::Unfilled(place) => (place.start, "a place was not filled in".to_owned()),
        Unready::OutLine(at, message) => (*at, message.clone()),
        Unready::NeedsBatch(at, _, why) => (*at, format!("it needs more of its batch, and {why}")),
        Unready::Stopped => (0, "stopped".to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;

    use super::*;
    use jaunty_language::dialect::{MYSQL, POSTGRES, SQLITE};
    use proptest::prelude::*;

    /// All statements of a text as it is read at once, with their lines.
    fn at_once(text: &str, dialect: &'static Dialect) -> Vec<(String, u64)> {
        let whole = rope(text);
        let outline = Outline::new(&whole, dialect);
        let prepared = prepare(&whole, &outline, 0..outline.statements().len(), None, || true).unwrap();
        let jobs = prepared.jobs.into_iter().zip(prepared.starts);
        jobs.map(|(job, start)| (job.statement, whole.byte_to_line(start) as u64 + 1)).collect()
    }

    fn in_pieces(text: &str, dialect: &'static Dialect, size: usize) -> Result<Vec<(String, u64)>, ScriptError> {
        let pieces = Script::new(Cursor::new(text.as_bytes().to_vec()), dialect, None, size);
        pieces.map(|piece| piece.map(|piece| (piece.job.statement, piece.line))).collect()
    }

    const PARTS: &[&str] = &[
        "insert into ports values (1, 'Saltmarsh; quay', 'it''s');\n",
        "\n\n-- a comment; with a sign\n",
        "select 'čaj 🛳';",
        "/* over\nlines; */ select 2;\n",
        "create trigger t after insert on ports begin update a set b = 1; select 2; end;\n",
        "update ports\nset name = 'x'\nwhere id = 3;\n\n",
        "select $$ body; of it $$;\n",
        "-- Title\nselect 4;\n",
    ];

    const OF_MYSQL: &[&str] = &[
        "insert into ports values (1, 'a;b');\n",
        "delimiter //\ncreate procedure p() begin select 1; select 2; end //\ndelimiter ;\n",
        "DELIMITER $$\ncreate trigger t before insert on a for each row begin set @x = 1; end$$\nselect 3$$\nDELIMITER ;\n",
        "# a comment;\nselect 5;\n",
    ];

    proptest! {
        #[test]
        fn pieces_are_what_the_whole_is(
            picked in proptest::collection::vec(0..PARTS.len(), 0..24), size in 1..200_usize, mysql in any::<bool>(),
        ) {
            let (parts, dialect) = if mysql { (OF_MYSQL, &MYSQL) } else { (PARTS, &POSTGRES) };
            let text: String = picked.iter().map(|at| parts[at % parts.len()]).collect();
            prop_assert_eq!(in_pieces(&text, dialect, size).unwrap(), at_once(&text, dialect), "{}", text);
        }
    }

    #[test]
    fn what_is_not_a_script_ends_in_a_sentence() {
        let told = |text: &[u8]| {
            let found: Result<Vec<_>, _> = Script::new(Cursor::new(text.to_vec()), &SQLITE, None, 8).collect();
            found.map(|all| all.len()).map_err(|error| error.to_string())
        };
        assert_eq!(told(b"select 1;\nselect 2;\nsel\xffect 3"), Err("the script is not UTF-8 text at line 3".into()));
        assert_eq!(
            told("select 'č".as_bytes().split_last().unwrap().1),
            Err("the script is not UTF-8 text at line 1".into())
        );
        let open = told(b"select 1;\nselect 'open;\n");
        assert_eq!(open, Err("line 2: a quote or comment of the statement never closes".into()));
        assert_eq!(told(b"  \n-- nothing\n"), Ok(0));
        assert_eq!(told(b""), Ok(0));
        // The last one needs no semicolon.
        assert_eq!(told(b"select 1;\nselect 2"), Ok(2));
    }
}
