//! A script that is larger than memory should be: its statements, piece by piece, as they are read.
//!
//! A piece ends where a statement surely does: with what ends statements, and not in the last one that was read, which may
//! go on. What is held is one piece, or one statement where that is longer; the rows below a `COPY` are read as they are taken.

mod binary;
pub mod carry_out;
mod noted;
mod source;

use std::collections::VecDeque;
use std::io::Read;
use std::ops::Range;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU64};
use std::sync::{Arc, Mutex, PoisonError};

use jaunty_language::dialect::Dialect;
use jaunty_language::outline::Outline;
use jaunty_language::statement::batch::begins_batch;
use jaunty_language::statement::copy::{Direction, direction};
use jaunty_language::text::rope;
use jaunty_seam::engine::{Rows, Stop};
use ropey::Rope;

use crate::files::encoding::{Decoded, Encoding, marked};

use self::binary::Binary;
pub use self::noted::{Noted, outcome, statement};
use self::source::{Below, Source};
use super::execute::Job;
use super::prepare::{Meant, Unready, prepare};

/// How much is read at a time.
const PIECE: usize = 1 << 20;

/// A statement may not be longer.
const LONGEST: usize = 1 << 30;

/// How far a script is, for whoever looks at it meanwhile.
#[derive(Debug, Default)]
pub struct Meter {
    /// The bytes that were read of it.
    pub read: AtomicU64,
    /// The statements that began.
    pub statements: AtomicU64,
    /// The line that the last of them begins at.
    pub line: AtomicU64,
}

/// A statement of a script.
pub struct Piece {
    /// It.
    pub job: Job,
    /// The line that it begins at, from 1.
    pub line: u64,
    /// The rows that it takes, where they are too many to stand in its text. Those that nobody reads are left out when the
    /// next statement is asked for.
    pub rows: Option<Arc<Rows>>,
    /// Whether those rows, once they are read, ended with the text and not with the line that says so: it may be cut off.
    pub is_unended: Arc<AtomicBool>,
}

/// The text of a script that was read whole: in this encoding, in that of its mark, or in UTF-8; the line at which it is not
/// text otherwise. What stands for bytes in it (`_binary '…'`) becomes digits.
pub fn text_of(
    bytes: Vec<u8>,
    encoding: Option<&'static Encoding>,
    dialect: &'static Dialect,
) -> Result<String, usize> {
    let told = encoding.map(|encoding| (encoding, marked(&bytes).map_or(0, |(_, mark)| mark)));
    if let Some((encoding, mark)) = told.or_else(|| marked(&bytes)) {
        let mut text = String::new();
        let read = Decoded::new(bytes.get(mark..).unwrap_or_default(), encoding).read_to_string(&mut text);
        return match read {
            Ok(_) => Ok(text),
            // So far it is text.
            Err(_) => Err(text.matches('\n').count() + 1),
        };
    }
    let bytes = match Binary::of(dialect) {
        Some(mut binary) if std::str::from_utf8(&bytes).is_err() => {
            let mut out = Vec::with_capacity(bytes.len());
            binary.take(&bytes, &mut out);
            binary.end(&mut out);
            out
        }
        _ => bytes,
    };
    String::from_utf8(bytes).map_err(|error| {
        let valid = error.as_bytes().get(..error.utf8_error().valid_up_to()).unwrap_or_default();
        valid.iter().filter(|byte| **byte == b'\n').count() + 1
    })
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
    /// A person stopped it before the statement that begins at this line or after it.
    #[error("stopped before line {0}")]
    Stopped(u64),
    /// A statement has no end.
    #[error("the statement or batch at line {0} is longer than 1 GiB")]
    TooLong(u64),
}

/// The statements of a script, one after the other. It ends after an error.
pub struct Script {
    source: Arc<Mutex<Source>>,
    dialect: &'static Dialect,
    buffer: Option<PathBuf>,
    /// The line that says what ends statements, where a semicolon does not.
    ends: String,
    /// How much is read at a time.
    at_once: usize,
    ready: VecDeque<Piece>,
    /// The rows of the statement that was given out last.
    below: Option<Arc<Mutex<Below>>>,
    /// The wish to end it, also while it is read.
    stop: Stop,
}

impl Script {
    /// The statements of this text, in this language. `buffer` is the file that it is, so that statements can be told of.
    pub fn new(
        source: impl Read + Send + 'static,
        dialect: &'static Dialect,
        buffer: Option<PathBuf>,
        meter: &Arc<Meter>,
    ) -> Script {
        Script::in_pieces(source, dialect, buffer, (meter, PIECE))
    }

    /// The same, read in pieces of so many bytes.
    fn in_pieces(
        source: impl Read + Send + 'static,
        dialect: &'static Dialect,
        buffer: Option<PathBuf>,
        (meter, at_once): (&Arc<Meter>, usize),
    ) -> Script {
        let source = Arc::new(Mutex::new(Source::new(Box::new(source), dialect, at_once, meter)));
        Script {
            source,
            dialect,
            buffer,
            ends: String::new(),
            at_once,
            ready: VecDeque::new(),
            below: None,
            stop: Stop::default(),
        }
    }

    /// Ended by this wish.
    pub fn until(self, stop: &Stop) -> Script {
        Script { stop: stop.clone(), ..self }
    }

    /// Gets the next statements ready; none at the end.
    fn fill(&mut self) -> Result<(), ScriptError> {
        if let Some(below) = self.below.take() {
            below.lock().unwrap_or_else(PoisonError::into_inner).skip(&self.stop)?;
        }
        let source = Arc::clone(&self.source);
        let mut source = source.lock().unwrap_or_else(PoisonError::into_inner);
        let mut at_once = self.at_once;
        while self.ready.is_empty() && !(source.is_over && source.text.is_empty()) {
            while source.text.len() < at_once && !source.is_over {
                if self.stop.is_wished() {
                    return Err(ScriptError::Stopped(source.lines + 1));
                }
                source.more()?;
            }
            self.take(&mut source)?;
            // One statement is longer than that: as much again.
            at_once = source.text.len().saturating_add(self.at_once).max(source.text.len() * 2);
            if source.text.len() > LONGEST {
                return Err(ScriptError::TooLong(source.lines + 1));
            }
        }
        Ok(())
    }

    /// Takes the statements that surely end in what was read.
    fn take(&mut self, source: &mut Source) -> Result<(), ScriptError> {
        let whole = rope(&format!("{}{}", self.ends, source.text));
        let outline = Outline::new(&whole, self.dialect);
        let statements = outline.statements();
        let head = self.ends.len();
        let first = statements.iter().position(|statement| statement.start >= head).unwrap_or(statements.len());
        let last = match source.is_over {
            true => statements.len(),
            false => {
                // Statements of a batch may need each other: it is taken as a whole.
                let ends = |at: &usize| match self.dialect.batch_word {
                    Some(_) => begins_batch(&outline, *at, &whole),
                    // Another one begins on a line of its own.
                    None if self.dialect.ends_with_line => true,
                    None => statements[at - 1].end > statements[at - 1].body_end,
                };
                (first + 1..statements.len()).rev().find(ends).unwrap_or(first)
            }
        };
        if last == first {
            if source.is_over {
                source.text.clear();
            } else if let Some(open) = statements.get(first) {
                self.take_rows_apart(source, &whole, open.start)?;
            }
            return Ok(());
        }
        self.ready = self.pieces(source, &whole, &outline, first..last)?;
        // What ends statements goes on as it was said before the last of these.
        let sign = self.dialect.delimiter_word.zip(statements[last - 1].delimiter.text());
        let end = match (source.is_over, self.dialect.batch_word) {
            (true, _) => source.text.len(),
            // The line that ends a batch has been heard.
            (false, Some(_)) => statements[last].top() - head,
            (false, None) => statements[last - 1].end - head,
        };
        self.ends = sign.map(|(word, sign)| format!("{word} {sign}\n")).unwrap_or_default();
        source.give(end);
        Ok(())
    }

    /// Takes a `COPY` whose rows go on after what was read: they are given out as they are read.
    fn take_rows_apart(&mut self, source: &mut Source, whole: &Rope, start: usize) -> Result<(), ScriptError> {
        let head = self.ends.len();
        let open = whole.byte_slice(start..);
        let Some(Direction::In(Some(below))) = direction(&Rope::from(open), self.dialect) else { return Ok(()) };
        // Its first line may not be there yet.
        let end = start + below;
        if whole.byte_slice(..end).bytes().last() != Some(b'\n') {
            return Ok(());
        }
        let above = Rope::from(whole.byte_slice(..end));
        let outline = Outline::new(&above, self.dialect);
        let all = outline.statements().len();
        self.ready = self.pieces(source, &above, &outline, all.saturating_sub(1)..all)?;
        source.give(end - head);
        let below = Arc::new(Mutex::new(Below::new(Arc::clone(&self.source))));
        if let Some(piece) = self.ready.back_mut() {
            piece.job.statement.truncate(piece.job.statement.trim_end().len());
            piece.is_unended = Arc::clone(below.lock().unwrap_or_else(PoisonError::into_inner).unended());
            piece.rows = Some(Arc::clone(&below) as Arc<Rows>);
        }
        self.below = Some(below);
        Ok(())
    }

    /// Statements of what was read, ready to run.
    fn pieces(
        &self,
        source: &Source,
        whole: &Rope,
        outline: &Outline,
        range: Range<usize>,
    ) -> Result<VecDeque<Piece>, ScriptError> {
        let heads = self.ends.matches('\n').count() as u64;
        let line_of = |at: usize| source.lines + whole.byte_to_line(at) as u64 + 1 - heads;
        let prepared = prepare((whole, None), outline, Meant::All(range), self.buffer.as_deref(), || true);
        let prepared = prepared.map_err(|unready| {
            let (at, why) = said(&unready);
            ScriptError::Unready(line_of(at), why)
        })?;
        let pieces = prepared.jobs.into_iter().zip(prepared.starts);
        Ok(pieces
            .map(|(job, start)| Piece { job, line: line_of(start), rows: None, is_unended: Arc::default() })
            .collect())
    }
}

impl Iterator for Script {
    type Item = Result<Piece, ScriptError>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.ready.is_empty()
            && let Err(error) = self.fill()
        {
            let mut source = self.source.lock().unwrap_or_else(PoisonError::into_inner);
            (source.is_over, source.text) = (true, String::new());
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
        // Scripts are not program code.
        Unready::Escaped(place) => (place.start, "an escape in it is not understood".to_owned()),
        Unready::Stopped => (0, "stopped".to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use std::io::Cursor;
    use std::sync::atomic::Ordering;

    use super::*;
    use jaunty_language::dialect::{MYSQL, POSTGRES, REDIS, SQLITE, SQLSERVER};
    use proptest::prelude::*;

    /// All statements of a text as it is read at once, with their lines.
    fn at_once(text: &str, dialect: &'static Dialect) -> Vec<(String, u64)> {
        let whole = rope(text);
        let outline = Outline::new(&whole, dialect);
        let prepared =
            prepare((&whole, None), &outline, Meant::All(0..outline.statements().len()), None, || true).unwrap();
        let jobs = prepared.jobs.into_iter().zip(prepared.starts);
        jobs.map(|(job, start)| (job.sent().into_owned(), whole.byte_to_line(start) as u64 + 1)).collect()
    }

    /// Its statements with their lines; rows that are read apart stand below theirs again.
    fn in_pieces(text: &str, dialect: &'static Dialect, size: usize) -> Result<Vec<(String, u64)>, ScriptError> {
        let source = Cursor::new(text.as_bytes().to_vec());
        let script = Script::in_pieces(source, dialect, None, (&Arc::default(), size));
        let statement = |piece: Piece| {
            let mut statement = piece.job.sent().into_owned();
            if let Some(rows) = piece.rows {
                statement.push('\n');
                rows.lock().unwrap().read_to_string(&mut statement).unwrap();
                statement.push_str("\\.");
            }
            (statement, piece.line)
        };
        script.map(|piece| piece.map(statement)).collect()
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
        "copy ports (id, name) from stdin;\n1\tSaltmarsh; quay\n2\t'it\n\\.x\n\\N\t\\.\n\\.\n",
        "-- Ports\ncopy ports from stdin with (delimiter ';', null 'a\nb');\nčaj;🛳\n\n\\\\.\n\\.\n",
        "copy ports from stdin;\n\\.\n",
    ];

    const OF_SQLSERVER: &[&str] = &[
        "insert into ports values (1, N'a;b\nGO\nc');\nGO\n",
        "declare @n int = 3;\nselect @n;\nselect 1;\n go -- done\n",
        "create procedure p as begin select 1; select 2; end;\nGO\n",
        "insert into tides values (1)\nGO 5\n",
        "-- Title\nselect 4\nselect 5\n\ngo\n\n",
    ];

    const OF_MYSQL: &[&str] = &[
        "insert into ports values (1, 'a;b');\n",
        "delimiter //\ncreate procedure p() begin select 1; select 2; end //\ndelimiter ;\n",
        "DELIMITER $$\ncreate trigger t before insert on a for each row begin set @x = 1; end$$\nselect 3$$\nDELIMITER ;\n",
        "# a comment;\nselect 5;\n",
    ];

    const OF_REDIS: &[&str] = &[
        "set port:SMQ \"Saltmarsh; quay\"\n",
        "rpush waiting 'over\nlines' \"and\nmore\" \"\\\"\"\n",
        "\n\n# a comment \"with a quote\n",
        "restore packed 0 \"\\x00\\xff #\" replace\n",
    ];

    proptest! {
        #[test]
        fn pieces_are_what_the_whole_is(
            picked in proptest::collection::vec(0..PARTS.len(), 0..24), size in 1..200_usize, language in 0..4_usize,
        ) {
            let languages = [(OF_MYSQL, &MYSQL), (OF_SQLSERVER, &SQLSERVER), (OF_REDIS, &REDIS), (PARTS, &POSTGRES)];
            let (parts, dialect) = languages[language];
            let text: String = picked.iter().map(|at| parts[at % parts.len()]).collect();
            prop_assert_eq!(in_pieces(&text, dialect, size).unwrap(), at_once(&text, dialect), "{}", text);
        }
    }

    #[test]
    fn what_is_not_a_script_ends_in_a_sentence() {
        let told = |text: &[u8]| {
            let source = Cursor::new(text.to_vec());
            let script = Script::in_pieces(source, &SQLITE, None, (&Arc::default(), 8));
            let found: Result<Vec<_>, _> = script.collect();
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

    #[test]
    fn rows_that_nobody_takes_are_left_out() {
        let rows: String = (0..100).map(|n| format!("{n}\tport {n}\n")).collect();
        let text = format!("select 1;\ncopy ports from stdin;\n{rows}\\.\nselect 2;\ncopy ports from stdin;\n{rows}");
        let source = Cursor::new(text.into_bytes());
        let script = Script::in_pieces(source, &POSTGRES, None, (&Arc::default(), 64));
        let (mut found, mut unended) = (Vec::new(), Vec::new());
        for piece in script {
            let piece = piece.unwrap();
            let mut some = [0; 7];
            let taken = piece.rows.map(|rows| rows.lock().unwrap().read(&mut some).unwrap());
            unended.push(piece.is_unended);
            found.push((piece.job.statement.trim_end_matches(';').to_owned(), piece.line, taken));
        }
        let copy = "copy ports from stdin".to_owned();
        let selects = [("select 1".to_owned(), 1, None), ("select 2".to_owned(), 104, None)];
        let [first, second] = selects;
        assert_eq!(found, [first, (copy.clone(), 2, Some(7)), second, (copy, 105, Some(7))]);
        let unended: Vec<bool> = unended.iter().map(|flag| flag.load(Ordering::Relaxed)).collect();
        assert_eq!(unended, [false, false, false, true], "the last rows end with the text");
    }

    #[test]
    fn a_wish_to_stop_ends_the_reading_too() {
        let rows = "1\tport\n".repeat(100);
        let stop = Stop::default();
        let text = format!("copy ports from stdin;\n{rows}\\.\nselect 2;\n");
        let script = Script::in_pieces(Cursor::new(text.into_bytes()), &POSTGRES, None, (&Arc::default(), 64));
        let mut script = script.until(&stop);
        assert!(script.next().unwrap().unwrap().rows.is_some());
        stop.wish();
        // It is never taken for the end of the script.
        assert!(matches!(script.next(), Some(Err(ScriptError::Stopped(2..)))));
        assert!(script.next().is_none());
    }
}
