//! Comma-separated values, and what is like them ([RFC 4180](https://www.rfc-editor.org/rfc/rfc4180)), read record by
//! record in bounded memory.
//!
//! It differs from a general reader in what it keeps: whether a field stood in quotes, which tells an empty text from
//! nothing, and the line of each record, by which a person finds it.

use std::io::{self, Read};

use memchr::{memchr, memchr2, memchr3};

/// The longest record, in bytes: what has no end must not fill the memory.
pub const LONGEST: usize = 64 << 20;

/// How much is read at once.
const CHUNK: usize = 256 << 10;

/// How a file is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Form {
    /// What stands between fields.
    pub separator: u8,
    /// What stands around a field that holds one of the signs; doubled inside.
    pub quote: u8,
}

impl Default for Form {
    fn default() -> Form {
        Form { separator: b',', quote: b'"' }
    }
}

/// Why a file could not be read on.
#[derive(Debug, thiserror::Error)]
pub enum CsvError {
    /// The disk, the pipe, or what it was decoded from.
    #[error("line {line}: {source}")]
    Read {
        /// The line that was read.
        line: u64,
        /// Why.
        source: io::Error,
    },
    /// A record without an end.
    #[error(
        "line {0}: a row of more than 64 MiB; is a quote opened there that never closes, or is the separator another?"
    )]
    Long(u64),
    /// The file ends inside quotes.
    #[error("line {0}: a quote opens there that never closes")]
    Open(u64),
}

/// One record.
#[derive(Debug, Clone, Default)]
pub struct Record {
    bytes: Vec<u8>,
    /// Where each field ends, and whether it stood in quotes.
    ends: Vec<(usize, bool)>,
    /// The line that it begins at, from 1.
    pub line: u64,
}

impl Record {
    /// How many fields it has.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether it has none.
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    /// A field, and whether it stood in quotes.
    pub fn get(&self, at: usize) -> Option<(&[u8], bool)> {
        let (end, quoted) = *self.ends.get(at)?;
        let start = at.checked_sub(1).and_then(|before| self.ends.get(before)).map_or(0, |(end, _)| *end);
        Some((self.bytes.get(start..end)?, quoted))
    }

    /// All fields.
    pub fn fields(&self) -> impl Iterator<Item = (&[u8], bool)> {
        (0..self.len()).filter_map(|at| self.get(at))
    }

    /// All fields as texts, and whether each stood in quotes; none where one of them is not UTF-8.
    pub fn texts(&self) -> Option<impl Iterator<Item = (&str, bool)>> {
        // What is a character across two fields is none.
        let all = std::str::from_utf8(&self.bytes).ok()?;
        self.ends.iter().all(|(end, _)| all.is_char_boundary(*end)).then(|| {
            let mut start = 0;
            self.ends.iter().filter_map(move |(end, quoted)| {
                let text = all.get(start..*end)?;
                start = *end;
                Some((text, *quoted))
            })
        })
    }

    fn clear(&mut self, line: u64) {
        self.bytes.clear();
        self.ends.clear();
        self.line = line;
    }
}

/// Reads records.
pub struct Reader<R> {
    source: R,
    form: Form,
    buffer: Vec<u8>,
    from: usize,
    to: usize,
    line: u64,
    /// Bytes that were taken so far.
    taken: u64,
    ended: bool,
}

impl<R: Read> Reader<R> {
    /// Reads from `source`, which gives UTF-8 without a mark at its beginning.
    pub fn new(source: R, form: Form) -> Reader<R> {
        Reader { source, form, buffer: vec![0; CHUNK], from: 0, to: 0, line: 1, taken: 0, ended: false }
    }

    /// How many bytes were read.
    pub fn position(&self) -> u64 {
        self.taken
    }

    /// Passes over so many lines, whatever is in them; fewer where the source ends before.
    pub fn pass_over(&mut self, lines: u64) -> Result<(), CsvError> {
        for _ in 0..lines {
            loop {
                let found = memchr(b'\n', &self.buffer[self.from..self.to]);
                self.skip(found.map_or(self.to - self.from, |at| at + 1));
                if found.is_some() {
                    self.line += 1;
                    break;
                }
                if !self.fill()? {
                    return Ok(());
                }
            }
        }
        Ok(())
    }

    /// Reads the next record into `record`; false at the end. Empty lines are passed over.
    pub fn read(&mut self, record: &mut Record) -> Result<bool, CsvError> {
        record.clear(self.line);
        // Empty lines between records.
        loop {
            match self.peek()? {
                None => return Ok(false),
                Some(b'\n') => {
                    self.skip(1);
                    self.line += 1;
                }
                Some(b'\r') => self.skip(1),
                Some(_) => break,
            }
        }
        record.line = self.line;
        loop {
            let more = match self.peek()? == Some(self.form.quote) {
                true => self.quoted(record)?,
                false => self.plain(record, false)?,
            };
            if record.bytes.len() > LONGEST {
                return Err(CsvError::Long(record.line));
            }
            if !more {
                return Ok(true);
            }
        }
    }

    /// Reads a field without quotes, or what stands after those of one; true if another follows.
    fn plain(&mut self, record: &mut Record, quoted: bool) -> Result<bool, CsvError> {
        loop {
            let rest = &self.buffer[self.from..self.to];
            let found = memchr3(self.form.separator, b'\n', b'\r', rest);
            let length = found.unwrap_or(rest.len());
            record.bytes.extend_from_slice(&rest[..length]);
            self.skip(length);
            if record.bytes.len() > LONGEST {
                return Err(CsvError::Long(record.line));
            }
            if found.is_none() {
                if !self.fill()? {
                    record.ends.push((record.bytes.len(), quoted));
                    return Ok(false);
                }
                continue;
            }
            record.ends.push((record.bytes.len(), quoted));
            return self.after_field();
        }
    }

    /// Passes over what ends a field; true if another follows.
    fn after_field(&mut self) -> Result<bool, CsvError> {
        let sign = self.buffer[self.from];
        self.skip(1);
        if sign == self.form.separator {
            // A separator at the end of the file has an empty field after it, which reading one gives.
            return Ok(true);
        }
        self.line += 1;
        if sign == b'\r' && self.peek()? == Some(b'\n') {
            self.skip(1);
        }
        Ok(false)
    }

    /// Reads a field in quotes; true if another follows.
    fn quoted(&mut self, record: &mut Record) -> Result<bool, CsvError> {
        let (opened, quote) = (self.line, self.form.quote);
        self.skip(1);
        loop {
            let rest = &self.buffer[self.from..self.to];
            let found = memchr(quote, rest);
            let length = found.unwrap_or(rest.len());
            let part = &rest[..length];
            let mut lines = part;
            while let Some(at) = memchr2(b'\n', b'\n', lines) {
                self.line += 1;
                lines = &lines[at + 1..];
            }
            record.bytes.extend_from_slice(part);
            self.skip(length);
            if record.bytes.len() > LONGEST {
                return Err(CsvError::Long(record.line));
            }
            if found.is_none() {
                if !self.fill()? {
                    return Err(CsvError::Open(opened));
                }
                continue;
            }
            self.skip(1);
            match self.peek()? {
                Some(next) if next == quote => {
                    record.bytes.push(quote);
                    self.skip(1);
                }
                Some(next) if next == self.form.separator || next == b'\n' || next == b'\r' => {
                    record.ends.push((record.bytes.len(), true));
                    return self.after_field();
                }
                // What follows the quotes is a part of the field, as others take it too.
                Some(_) => return self.plain(record, true),
                None => {
                    record.ends.push((record.bytes.len(), true));
                    return Ok(false);
                }
            }
        }
    }

    fn skip(&mut self, count: usize) {
        self.from += count;
        self.taken += count as u64;
    }

    fn peek(&mut self) -> Result<Option<u8>, CsvError> {
        if self.from == self.to && !self.fill()? {
            return Ok(None);
        }
        Ok(Some(self.buffer[self.from]))
    }

    /// Reads on once all is taken; false at the end.
    fn fill(&mut self) -> Result<bool, CsvError> {
        if self.from < self.to {
            return Ok(true);
        }
        if self.ended {
            return Ok(false);
        }
        loop {
            match self.source.read(&mut self.buffer) {
                Ok(count) => {
                    (self.from, self.to, self.ended) = (0, count, count == 0);
                    return Ok(count > 0);
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(source) => return Err(CsvError::Read { line: self.line, source }),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Gives what it has in parts of so many bytes.
    struct Parts<'a>(&'a [u8], usize);

    impl Read for Parts<'_> {
        fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
            let count = self.1.min(self.0.len()).min(out.len());
            out[..count].copy_from_slice(&self.0[..count]);
            self.0 = &self.0[count..];
            Ok(count)
        }
    }

    fn read(text: &[u8], parts: usize) -> Result<Vec<(u64, Vec<String>)>, CsvError> {
        let mut reader = Reader::new(Parts(text, parts), Form::default());
        let (mut all, mut record) = (Vec::new(), Record::default());
        while reader.read(&mut record)? {
            let field = |(bytes, quoted): (&[u8], bool)| {
                format!("{}{}", String::from_utf8_lossy(bytes), if quoted { "\"" } else { "" })
            };
            all.push((record.line, record.fields().map(field).collect()));
        }
        Ok(all)
    }

    #[test]
    fn records_are_read_with_their_lines() {
        for (text, expected) in [
            ("a,b\n1,2\n", &[(1, &["a", "b"][..]), (2, &["1", "2"])][..]),
            ("a,b\r\n1,\r\n", &[(1, &["a", "b"]), (2, &["1", ""])]),
            ("\"x\"\"y\",\"\"\n\"two\nlines\",z", &[(1, &["x\"y\"", "\""]), (2, &["two\nlines\"", "z"])]),
            ("\n\na\n\n\nb\n", &[(3, &["a"]), (6, &["b"])]),
            ("a,", &[(1, &["a", ""])]),
            ("\"a\"b,c\n", &[(1, &["ab\"", "c"])]),
            ("a\"b,\"c\"", &[(1, &["a\"b", "c\""])]),
            ("a\0b,c", &[(1, &["a\0b", "c"])]),
            ("a\rb", &[(1, &["a"]), (2, &["b"])]),
        ] {
            for parts in [1, 2, 3, 1000] {
                let expected: Vec<(u64, Vec<String>)> = expected
                    .iter()
                    .map(|(line, fields)| (*line, fields.iter().map(|field| (*field).to_owned()).collect()))
                    .collect();
                assert_eq!(read(text.as_bytes(), parts).unwrap(), expected, "{text:?} by {parts}");
            }
        }
        assert!(read(b"", 1).unwrap().is_empty());
    }

    #[test]
    fn what_has_no_end_is_told() {
        assert_eq!(read(b"a\n\"b\nc", 3).unwrap_err().to_string(), "line 2: a quote opens there that never closes");
        struct Endless;
        impl Read for Endless {
            fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
                out.fill(b'x');
                Ok(out.len())
            }
        }
        let mut reader = Reader::new(Endless, Form::default());
        let mut record = Record::default();
        assert!(matches!(reader.read(&mut record), Err(CsvError::Long(1))));
        assert!(record.bytes.capacity() < 4 * LONGEST);
    }

    proptest! {
        #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn what_a_writer_of_others_writes_is_read(
            rows in proptest::collection::vec(proptest::collection::vec("[a,\"\n\r é]{0,5}", 3), 1..8),
            parts in 1_usize..9,
        ) {
            let mut writer = ::csv::WriterBuilder::new().quote_style(::csv::QuoteStyle::Always).from_writer(Vec::new());
            for row in &rows {
                writer.write_record(row).unwrap();
            }
            let text = writer.into_inner().unwrap();
            let found = read(&text, parts).unwrap();
            let plain: Vec<Vec<String>> = found
                .into_iter()
                .map(|(_, fields)| fields.into_iter().map(|field| field[..field.len() - 1].to_owned()).collect())
                .collect();
            prop_assert_eq!(plain, rows);
        }
    }
}
