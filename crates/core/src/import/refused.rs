//! The file of rows that do not fit, each with the reason.

use std::fs::File;
use std::io::{BufWriter, Read};
use std::path::{Path, PathBuf};

use super::ImportError;

/// A row that does not fit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bad {
    /// The line that it begins at, or its number.
    pub line: u64,
    /// Why.
    pub reason: String,
    /// Its values.
    pub fields: Vec<String>,
}

/// A CSV file with the line, the reason, and the row's own fields; made with the first row.
pub struct Refused {
    path: PathBuf,
    names: Vec<String>,
    file: Option<csv::Writer<BufWriter<File>>>,
    /// How many rows.
    pub rows: u64,
    /// The first of them.
    pub first: Vec<(u64, String)>,
}

/// What such a file begins with.
const BEGINS: &str = "line,reason";

/// So many of them are told.
const TOLD: usize = 5;

impl Refused {
    /// Writes to this file, for rows of another one with these columns. One that is there already is only replaced if it
    /// is of refused rows, and never while it is read.
    pub fn new(path: &Path, names: Vec<String>, of: &Path) -> Result<Refused, ImportError> {
        let whole = |path: &Path| path.canonicalize().ok();
        let mistake = |what: &str| Err(ImportError::Mistake(format!("{} {what}", path.display())));
        if whole(path).is_some_and(|path| Some(path) == whole(of)) {
            return mistake("is the file that is loaded: name another one for rows that do not fit");
        }
        let mut first = [0; BEGINS.len()];
        // Reading what is no file may wait for ever.
        let is_file = path.metadata().is_ok_and(|data| data.is_file());
        let read = if is_file { File::open(path).and_then(|mut file| file.read(&mut first)) } else { Ok(0) };
        if read.is_ok_and(|count| count > 0 && first != *BEGINS.as_bytes()) {
            return mistake("is there already, and is not a file of refused rows: name another one");
        }
        Ok(Refused { path: path.to_owned(), names, file: None, rows: 0, first: Vec::new() })
    }

    /// Writes a row.
    pub fn write(&mut self, bad: &Bad) -> Result<(), ImportError> {
        let failed = |source: std::io::Error| ImportError::File { path: self.path.clone(), act: "written", source };
        if self.file.is_none() {
            let file = File::create(&self.path).map_err(failed)?;
            let mut writer = csv::WriterBuilder::new().flexible(true).from_writer(BufWriter::new(file));
            let head = ["line", "reason"].into_iter().chain(self.names.iter().map(String::as_str));
            writer.write_record(head).map_err(|error| failed(error.into()))?;
            self.file = Some(writer);
        }
        if let Some(writer) = &mut self.file {
            let line = bad.line.to_string();
            let fields = [line.as_str(), bad.reason.as_str()].into_iter().chain(bad.fields.iter().map(String::as_str));
            writer.write_record(fields).map_err(|error| failed(error.into()))?;
        }
        self.rows += 1;
        if self.first.len() < TOLD {
            self.first.push((bad.line, bad.reason.clone()));
        }
        Ok(())
    }

    /// Makes sure that all of it is on disk.
    pub fn finish(&mut self) -> Result<(), ImportError> {
        let failed = |source| ImportError::File { path: self.path.clone(), act: "written", source };
        match &mut self.file {
            Some(writer) => writer.flush().map_err(failed),
            None => Ok(()),
        }
    }
}
