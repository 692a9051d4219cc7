//! The text of a script, read piece by piece, and the rows below a `COPY` in it.

use std::io::{self, Read};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use super::binary::Binary;
use super::{Meter, ScriptError};
use jaunty_language::dialect::Dialect;
use jaunty_seam::engine::Stop;

/// What was read of a script and not given out.
pub(super) struct Source {
    reader: Box<dyn Read + Send>,
    /// What makes text of bytes in it, where its language has such.
    binary: Option<Binary>,
    /// The text that was read and not given out.
    pub(super) text: String,
    /// The bytes of a character that was read in half.
    half: Vec<u8>,
    /// The lines before that text.
    pub(super) lines: u64,
    /// Told how many bytes were read.
    meter: Arc<Meter>,
    /// Nothing more is to be read.
    pub(super) is_over: bool,
    /// How much is read at a time.
    at_once: usize,
}

impl Source {
    pub(super) fn new(
        reader: Box<dyn Read + Send>,
        dialect: &'static Dialect,
        at_once: usize,
        meter: &Arc<Meter>,
    ) -> Source {
        let (text, half, meter, binary) = (String::new(), Vec::new(), Arc::clone(meter), Binary::of(dialect));
        Source { reader, binary, text, half, lines: 0, meter, is_over: false, at_once: at_once.max(1) }
    }

    /// Reads on.
    pub(super) fn more(&mut self) -> Result<(), ScriptError> {
        let mut bytes = std::mem::take(&mut self.half);
        let before = bytes.len();
        let line = self.lines + self.text.matches('\n').count() as u64 + 1;
        let took = self.reader.by_ref().take(self.at_once as u64).read_to_end(&mut bytes);
        took.map_err(|source| ScriptError::Read { line, source })?;
        self.is_over = bytes.len() == before;
        self.meter.read.fetch_add((bytes.len() - before) as u64, Ordering::Relaxed);
        if let Some(binary) = &mut self.binary {
            let read = bytes.split_off(before);
            binary.take(&read, &mut bytes);
            if self.is_over {
                binary.end(&mut bytes);
            }
        }
        match std::str::from_utf8(&bytes) {
            Ok(text) => self.text.push_str(text),
            // Half a character goes with what comes next.
            Err(error) if error.error_len().is_none() && !self.is_over => {
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
        Ok(())
    }

    /// Takes so many bytes of the text.
    pub(super) fn give(&mut self, bytes: usize) -> String {
        let rest = self.text.split_off(bytes.min(self.text.len()));
        let given = std::mem::replace(&mut self.text, rest);
        self.lines += given.matches('\n').count() as u64;
        given
    }
}

/// The rows below a `COPY`, up to the line that ends them.
pub(super) struct Below {
    source: Arc<Mutex<Source>>,
    /// What was taken of them, and how much of that was given out.
    piece: Vec<u8>,
    given: usize,
    /// A line begins after that.
    at_line: bool,
    is_over: bool,
    /// Set where the text ends, and no line ends them.
    unended: Arc<AtomicBool>,
}

/// The line that ends rows.
const END: &str = "\\.";

impl Below {
    pub(super) fn new(source: Arc<Mutex<Source>>) -> Below {
        Below { source, piece: Vec::new(), given: 0, at_line: true, is_over: false, unended: Arc::default() }
    }

    /// Whether they ended with the text, and not with their line.
    pub(super) fn unended(&self) -> &Arc<AtomicBool> {
        &self.unended
    }

    /// Takes some more of them. Nothing at their end.
    fn take(&mut self) -> Result<(), ScriptError> {
        let mut source = self.source.lock().unwrap_or_else(PoisonError::into_inner);
        // Enough to see whether a line is the one that ends them.
        while source.text.len() < END.len() + 2 && !source.is_over {
            source.more()?;
        }
        let ends = |rest: &str| {
            let line = rest.strip_prefix(END)?;
            (line.is_empty() || line.starts_with(['\n', '\r'])).then_some(END.len())
        };
        if self.at_line
            && let Some(end) = ends(&source.text)
        {
            source.give(end);
            self.is_over = true;
            return Ok(());
        }
        // A further line that may end them is looked at when it is the first.
        let text = &source.text;
        let from = usize::from(self.at_line && text.starts_with(END)) * END.len();
        let next = text.get(from..).and_then(|rest| rest.find("\n\\.")).map(|at| from + at + 1);
        let open = || ["\n\\", "\n"].iter().find(|end| text.ends_with(*end)).map(|end| text.len() + 1 - end.len());
        let end = next.or_else(open).unwrap_or(text.len());
        let given = source.give(end);
        if given.is_empty() {
            self.is_over = true;
            self.unended.store(true, Ordering::Relaxed);
        }
        self.at_line = given.ends_with('\n');
        (self.piece, self.given) = (given.into_bytes(), 0);
        Ok(())
    }

    /// Leaves out those that nobody took.
    pub(super) fn skip(&mut self, stop: &Stop) -> Result<(), ScriptError> {
        while !self.is_over {
            if stop.is_wished() {
                return Err(ScriptError::Stopped(self.source.lock().unwrap_or_else(PoisonError::into_inner).lines + 1));
            }
            self.take()?;
        }
        self.given = self.piece.len();
        Ok(())
    }
}

impl Read for Below {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.given == self.piece.len() && !self.is_over {
            (self.piece, self.given) = (Vec::new(), 0);
            self.take().map_err(io::Error::other)?;
        }
        let rest = self.piece.get(self.given..).unwrap_or_default();
        let length = rest.len().min(buffer.len());
        if let (Some(to), Some(from)) = (buffer.get_mut(..length), rest.get(..length)) {
            to.copy_from_slice(from);
        }
        self.given += length;
        Ok(length)
    }
}
