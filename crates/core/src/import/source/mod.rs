//! A file of rows, opened: what it is, and its rows in blocks of columns.

mod fields;
mod looks;
mod objects;
mod workbook;

use std::fs::File;
use std::io::{self, BufReader, Cursor, Read};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use arrow_array::{ArrayRef, RecordBatch};
use arrow_buffer::BooleanBuffer;
use arrow_schema::{DataType, Field, Schema, SchemaRef};
use encoding_rs::Encoding;
use flate2::read::MultiGzDecoder;
use jaunty_language::dialect::{ColumnType, Dialect};
use jaunty_seam::rows::DB_TYPE;
use jaunty_seam::rows::cell::{CellKind, ColumnReader};

use self::fields::CsvRows;
use self::looks::{after_lines, form_of, looks_like_names, names_of, titles};
use self::objects::JsonRows;
use super::csv::{Form, Reader, Record};
use super::found::{Found, FoundColumn, Seeing};
use super::refused::Bad;
use super::{Dates, ImportError, Numbers};
use crate::files::encoding::{Decoded, named, sniff};

/// Rows in a block.
const ROWS: usize = 8192;

/// So many rows, or bytes of them, are looked at before the first is loaded.
const LOOKED_AT: u64 = 20_000;
const LOOKED_AT_BYTES: usize = 8 << 20;

/// So much of a file is read to see what it is.
const FIRST: usize = 64 << 10;

/// A format that rows are read from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// Fields with a separator between.
    Csv,
    /// One JSON object a line.
    JsonLines,
    /// One JSON array of objects.
    Json,
    /// Parquet.
    Parquet,
    /// An Arrow file.
    Arrow,
    /// A sheet of a workbook.
    Workbook,
    /// Rows of a result, and no file.
    Result,
}

/// The ending of a file in lower case, without that of its compression.
fn ending(path: &Path) -> String {
    let last = |path: &Path| path.extension().and_then(|e| e.to_str()).unwrap_or_default().to_ascii_lowercase();
    match last(path) {
        gz if gz == "gz" => path.file_stem().map(|stem| last(Path::new(stem))).unwrap_or_default(),
        other => other,
    }
}

impl Format {
    /// By its word on a command line, or the ending of a file.
    pub fn of_word(word: &str) -> Option<Format> {
        Some(match word.to_ascii_lowercase().as_str() {
            "csv" | "tsv" | "tab" => Format::Csv,
            "jsonl" | "ndjson" => Format::JsonLines,
            "json" => Format::Json,
            "parquet" => Format::Parquet,
            "arrow" | "feather" | "ipc" => Format::Arrow,
            "xlsx" | "xlsm" | "xlsb" | "ods" => Format::Workbook,
            _ => return None,
        })
    }

    /// By the ending of a file, also of one that is compressed (`ports.csv.gz`).
    pub fn of_file(path: &Path) -> Option<Format> {
        Format::of_word(&ending(path))
    }

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Format::Csv => "csv",
            Format::JsonLines => "jsonl",
            Format::Json => "json",
            Format::Parquet => "parquet",
            Format::Arrow => "arrow",
            Format::Workbook => "xlsx",
            Format::Result => "result",
        }
    }
}

/// What a person says of a file; the rest is found out.
#[derive(Debug, Clone, Default)]
pub struct Choices {
    /// The format.
    pub format: Option<Format>,
    /// What stands between fields.
    pub separator: Option<u8>,
    /// What stands around fields.
    pub quote: Option<u8>,
    /// The encoding.
    pub encoding: Option<&'static Encoding>,
    /// Whether the first row has the names.
    pub header: Option<bool>,
    /// A field that is NULL, beside one that is empty and not in quotes.
    pub null: Option<String>,
    /// The order of days in all columns of days.
    pub dates: Option<Dates>,
    /// How the numbers of all columns are written.
    pub numbers: Option<Numbers>,
    /// The sheet of a workbook; the first that has cells where it says none.
    pub sheet: Option<String>,
    /// So many lines of a file of fields stand above its rows.
    pub skip: u64,
}

impl Choices {
    /// The encoding of a name, by the labels of the WHATWG Encoding Standard; none if it is not known.
    pub fn encoding_of(name: &str) -> Option<&'static Encoding> {
        named(name)
    }
}

/// Some rows.
#[derive(Debug)]
pub struct Block {
    /// The columns: of text where the file has text, else as they are.
    pub rows: RecordBatch,
    /// The line that each row begins at, or its number where there are no lines.
    pub lines: Vec<u64>,
    /// Rows that are not such: they have other columns, or are not text.
    pub bad: Vec<Bad>,
    /// Of JSON, which values of each column are texts there; empty where the file does not tell them from others.
    pub quoted: Vec<BooleanBuffer>,
}

/// An open file.
pub struct Source {
    /// The file, or `-`.
    pub path: PathBuf,
    /// What it is.
    pub format: Format,
    /// How its fields are written, where it has such.
    pub form: Form,
    /// Its encoding.
    pub encoding: &'static str,
    /// Whether the first row has the names.
    pub header: bool,
    /// So many lines look like a title above the rows, and were not passed over.
    pub titles: u64,
    /// The sheet, of a workbook, and of how many.
    pub sheet: Option<String>,
    /// What was found out about its rows.
    pub found: Found,
    /// Its size, where it has one.
    pub size: Option<u64>,
    read: Arc<AtomicU64>,
    rows: Box<dyn Rows>,
    ahead: std::collections::VecDeque<Block>,
}

/// Gives rows.
trait Rows: Send {
    /// The next ones; none at the end.
    fn next(&mut self) -> Result<Option<Block>, ImportError>;

    /// The names of the columns, where they are known without a row.
    fn names(&self) -> Vec<String> {
        Vec::new()
    }

    /// Whether values of a column, by its place, are texts where numbers could have been, too.
    fn are_texts(&self, _column: usize) -> bool {
        false
    }
}

/// What a compressed file begins with (RFC 1952).
const GZIP: &[u8] = &[0x1f, 0x8b];

/// What other compressed files begin with, and what they are.
const PACKED: &[(&[u8], &str)] =
    &[(&[0x28, 0xb5, 0x2f, 0xfd], "Zstandard"), (b"BZh", "bzip2"), (&[0xfd, b'7', b'z', b'X', b'Z', 0], "XZ")];

/// Counts the bytes that are read.
struct Counted<R>(R, Arc<AtomicU64>);

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        let count = self.0.read(out)?;
        self.1.fetch_add(count as u64, Ordering::Relaxed);
        Ok(count)
    }
}

impl Source {
    /// Opens a file, or standard input for `-`, and looks at its first rows.
    pub fn open(path: &Path, choices: &Choices) -> Result<Source, ImportError> {
        let failed = |source| ImportError::File { path: path.to_owned(), act: "read", source };
        let read = Arc::new(AtomicU64::new(0));
        let ending = ending(path);
        let by_name = choices.format.or_else(|| Format::of_word(&ending));
        if let Some(format @ (Format::Parquet | Format::Arrow)) = by_name {
            return Source::of_columns(path, format, read);
        }
        if by_name == Some(Format::Workbook) {
            return Source::of_workbook(path, choices);
        }
        let (mut raw, size): (Box<dyn Read + Send>, _) = match path == Path::new("-") {
            true => (Box::new(io::stdin()), None),
            false => {
                let file = File::open(path).map_err(failed)?;
                let size = file.metadata().ok().filter(std::fs::Metadata::is_file).map(|data| data.len());
                (Box::new(file), size)
            }
        };
        raw = Box::new(Counted(raw, Arc::clone(&read)));
        let look = |raw: &mut Box<dyn Read + Send>| -> Result<Vec<u8>, ImportError> {
            let mut first = Vec::with_capacity(FIRST);
            raw.by_ref().take(FIRST as u64).read_to_end(&mut first).map_err(failed)?;
            Ok(first)
        };
        let mut first = look(&mut raw)?;
        if first.starts_with(GZIP) {
            raw = Box::new(MultiGzDecoder::new(Cursor::new(first).chain(raw)));
            first = look(&mut raw)?;
        }
        if let Some((_, what)) = PACKED.iter().find(|(mark, _)| first.starts_with(mark)) {
            return Err(ImportError::Malformed(format!("this is a {what} file: unpack it first")));
        }
        if first.starts_with(b"PAR1") || first.starts_with(b"ARROW1") {
            let what = if first[0] == b'P' { "parquet" } else { "arrow" };
            return Err(ImportError::Mistake(format!(
                "this is a {what} file; --format {what} reads it from a file by its name"
            )));
        }
        if first.starts_with(b"PK\x03\x04") {
            let what = "this is a workbook or an archive: --format xlsx reads a workbook from a file by its name";
            return Err(ImportError::Malformed(what.into()));
        }
        let (sniffed, mark) = sniff(&first);
        let encoding = choices.encoding.unwrap_or(sniffed);
        let mark = if choices.encoding.is_none_or(|chosen| chosen == sniffed) { mark } else { 0 };
        let decoded_first = decoded(&first[mark..], encoding);
        let format = by_name.unwrap_or_else(|| match decoded_first.trim_start().chars().next() {
            Some('[') => Format::Json,
            Some('{') => Format::JsonLines,
            _ => Format::Csv,
        });
        let mut whole: Box<dyn Read + Send> = Box::new(Cursor::new(first).chain(raw));
        whole.by_ref().take(mark as u64).read_to_end(&mut Vec::new()).map_err(failed)?;
        // UTF-8 is checked field by field, so that one that is not such is a bad row and not the end.
        let text: Box<dyn Read + Send> = match encoding == encoding_rs::UTF_8 {
            true => whole,
            false => Box::new(Decoded::new(whole, encoding)),
        };
        let mut titled = 0;
        let (rows, form, header): (Box<dyn Rows>, _, _) = match format {
            Format::Csv => {
                let below = after_lines(&decoded_first, choices.skip);
                let form = form_of(below, &ending, choices);
                titled = titles(below, form);
                let mut reader = Reader::new(text, form);
                reader.pass_over(choices.skip).map_err(|error| ImportError::Malformed(error.to_string()))?;
                let (mut record, mut second) = (Record::default(), Record::default());
                let mut next = |record: &mut Record| {
                    reader.read(record).map_err(|error| ImportError::Malformed(error.to_string()))
                };
                if !next(&mut record)? {
                    return Err(ImportError::Malformed(format!("{} has no rows", path.display())));
                }
                let second = next(&mut second)?.then_some(second);
                let header = choices.header.unwrap_or_else(|| looks_like_names(&record, second.as_ref()));
                let names = names_of(&record, header);
                let null = choices.null.clone();
                let pending = (!header).then_some(record).into_iter().chain(second);
                (Box::new(CsvRows::new(reader, names, null, pending.collect())), form, header)
            }
            Format::JsonLines => (Box::new(JsonRows::lines(text)), Form::default(), true),
            _ => (Box::new(JsonRows::array(text)?), Form::default(), true),
        };
        let source = Source {
            path: path.to_owned(),
            format,
            form,
            encoding: encoding.name(),
            header,
            titles: titled + if titled > 0 { choices.skip } else { 0 },
            sheet: None,
            found: Found::default(),
            size,
            read,
            rows,
            ahead: std::collections::VecDeque::new(),
        };
        source.looked_at(choices)
    }

    /// Rows that are there in columns: of a result, live or kept. `name` is what they are called where they are told of, and
    /// `language` that of their database, if it is known.
    pub fn of_batches(
        name: &str,
        language: Option<&'static Dialect>,
        batches: Box<dyn Iterator<Item = Result<RecordBatch, String>> + Send>,
    ) -> Result<Source, ImportError> {
        let path = PathBuf::from(name);
        let rows = Box::new(ColumnRows { typed: true, texts: Vec::new(), batches, rows: 0, path: path.clone() });
        let mut source = Source::new(path, Format::Result, rows, None, Arc::default()).looked_at(&Choices::default())?;
        source.found.language = language;
        Ok(source)
    }

    fn new(path: PathBuf, format: Format, rows: Box<dyn Rows>, size: Option<u64>, read: Arc<AtomicU64>) -> Source {
        Source {
            path,
            format,
            form: Form::default(),
            encoding: "binary",
            header: true,
            titles: 0,
            sheet: None,
            found: Found::default(),
            size,
            read,
            rows,
            ahead: std::collections::VecDeque::new(),
        }
    }

    fn of_columns(path: &Path, format: Format, read: Arc<AtomicU64>) -> Result<Source, ImportError> {
        let failed = |source| ImportError::File { path: path.to_owned(), act: "read", source };
        let file = File::open(path).map_err(failed)?;
        let size = file.metadata().ok().map(|data| data.len());
        let broken = |error: String| {
            let (path, what) = (path.display(), format.word());
            ImportError::Malformed(format!("{path} is not a {what} file, or it is damaged: {error}"))
        };
        let batches: Box<dyn Iterator<Item = Result<RecordBatch, String>> + Send> = match format {
            Format::Parquet => {
                let builder = parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder::try_new(file);
                let reader = builder.and_then(|builder| builder.with_batch_size(ROWS).build());
                Box::new(reader.map_err(|e| broken(e.to_string()))?.map(|batch| batch.map_err(|e| e.to_string())))
            }
            _ => {
                let reader = arrow_ipc::reader::FileReader::try_new(BufReader::new(file), None);
                Box::new(reader.map_err(|e| broken(e.to_string()))?.map(|batch| batch.map_err(|e| e.to_string())))
            }
        };
        let rows = Box::new(ColumnRows { typed: true, texts: Vec::new(), batches, rows: 0, path: path.to_owned() });
        let source = Source::new(path.to_owned(), format, rows, size, read);
        source.looked_at(&Choices::default())
    }

    fn of_workbook(path: &Path, choices: &Choices) -> Result<Source, ImportError> {
        let sheet = workbook::open(path, choices.sheet.as_deref(), choices.header)?;
        let size = std::fs::metadata(path).ok().map(|data| data.len());
        let rows = Box::new(ColumnRows {
            typed: false,
            texts: Vec::new(),
            batches: sheet.batches,
            rows: 0,
            path: path.to_owned(),
        });
        let source = Source::new(path.to_owned(), Format::Workbook, rows, size, Arc::default());
        let more = if sheet.others > 0 { format!(" of {}", sheet.others + 1) } else { String::new() };
        let sheet_name = Some(format!("{}{more}", sheet.name));
        Source { header: sheet.header, sheet: sheet_name, ..source }.looked_at(choices)
    }

    /// Looks at the first rows, which are given later all the same.
    fn looked_at(mut self, choices: &Choices) -> Result<Source, ImportError> {
        let mut seeing: Vec<(String, Seeing)> = Vec::new();
        let (mut rows, mut bytes, mut all) = (0, 0, false);
        while rows < LOOKED_AT && bytes < LOOKED_AT_BYTES {
            let Some(block) = self.rows.next()? else {
                all = true;
                break;
            };
            for (at, field) in block.rows.schema().fields().iter().enumerate() {
                if seeing.len() <= at {
                    let mut new = Seeing::default();
                    new.nulls = rows;
                    seeing.push((field.name().clone(), new));
                }
            }
            for ((_, seeing), column) in seeing.iter_mut().zip(ColumnReader::all(&block.rows)) {
                let mut scratch = String::new();
                for row in 0..block.rows.num_rows() {
                    scratch.clear();
                    let kind = column.put(row, &mut scratch);
                    seeing.see((kind != CellKind::Null).then_some(scratch.as_str()));
                }
            }
            rows += block.rows.num_rows() as u64;
            // What is set aside for more does not count.
            let size = |column: &ArrayRef| column.to_data().get_slice_memory_size().unwrap_or_default();
            bytes += block.rows.columns().iter().map(size).sum::<usize>();
            self.ahead.push_back(block);
        }
        // A file of nothing but names has columns too.
        for name in self.rows.names().into_iter().skip(seeing.len()) {
            seeing.push((name, Seeing::default()));
        }
        if seeing.is_empty() {
            let bad = self.ahead.iter().find_map(|block| block.bad.first());
            let why = bad.map(|bad| format!(": line {}: {}", bad.line, bad.reason)).unwrap_or_default();
            return Err(ImportError::Malformed(format!("{} has no rows{why}", self.path.display())));
        }
        let schema = self.ahead.back().map(|block| block.rows.schema());
        let column = |(at, (name, seeing)): (usize, (String, Seeing))| {
            let (mut shape, found, numbers) = seeing.shape(choices.dates, choices.numbers);
            let field = schema.as_ref().and_then(|schema| schema.fields().get(at));
            if let Some(of) = field.and_then(|field| typed(field.data_type())) {
                (shape.of, shape.scale) = of;
                shape.typed = true;
            }
            shape.texts = self.rows.are_texts(at);
            let declared = field.and_then(|field| field.metadata().get(DB_TYPE)).cloned().unwrap_or_default();
            // One that is written as all servers read it is not meant.
            let dates = if seeing.is_iso() { Dates::Iso } else { choices.dates.unwrap_or(found) };
            FoundColumn {
                name,
                declared,
                shape,
                dates,
                numbers,
                fraction: seeing.fraction,
                nulls: seeing.nulls,
                distinct: seeing.is_distinct(),
                examples: seeing.examples,
            }
        };
        self.found = Found { columns: seeing.into_iter().enumerate().map(column).collect(), rows, all, language: None };
        Ok(self)
    }

    /// How many bytes of the file were read.
    pub fn position(&self) -> u64 {
        self.read.load(Ordering::Relaxed)
    }

    /// Whether there are rows that were looked at and not given yet.
    pub fn has_looked_ahead(&self) -> bool {
        !self.ahead.is_empty()
    }

    /// The next rows; none at the end.
    pub fn next_block(&mut self) -> Result<Option<Block>, ImportError> {
        match self.ahead.pop_front() {
            Some(block) => Ok(Some(block)),
            None => self.rows.next(),
        }
    }
}

/// What a column that has a type holds, and the digits after its point; nothing for text, which may hold anything.
fn typed(of: &DataType) -> Option<(ColumnType, u32)> {
    let plain = |of| Some((of, 0));
    match of {
        DataType::Int8 | DataType::Int16 | DataType::Int32 | DataType::UInt8 | DataType::UInt16 => {
            plain(ColumnType::Integer)
        }
        DataType::Int64 | DataType::UInt32 => plain(ColumnType::Long),
        DataType::UInt64 => plain(ColumnType::Decimal),
        DataType::Float16 | DataType::Float32 | DataType::Float64 => plain(ColumnType::Real),
        DataType::Decimal128(_, scale) | DataType::Decimal256(_, scale) => {
            Some((ColumnType::Decimal, u32::try_from(*scale).unwrap_or(0)))
        }
        DataType::Boolean => plain(ColumnType::Boolean),
        DataType::Date32 | DataType::Date64 => plain(ColumnType::Date),
        DataType::Time32(_) | DataType::Time64(_) => plain(ColumnType::Time),
        DataType::Timestamp(_, None) => plain(ColumnType::Moment),
        DataType::Timestamp(_, Some(_)) => plain(ColumnType::Instant),
        DataType::Binary | DataType::LargeBinary | DataType::FixedSizeBinary(_) => plain(ColumnType::Bytes),
        _ => None,
    }
}

fn decoded(first: &[u8], encoding: &'static Encoding) -> String {
    encoding.decode_without_bom_handling(first).0.into_owned()
}

fn text_schema(names: &[String]) -> SchemaRef {
    Arc::new(Schema::new(names.iter().map(|name| Field::new(name, DataType::Utf8, true)).collect::<Vec<_>>()))
}

fn batch(schema: SchemaRef, arrays: Vec<ArrayRef>, rows: usize) -> Result<RecordBatch, ImportError> {
    let options = arrow_array::RecordBatchOptions::new().with_row_count(Some(rows));
    RecordBatch::try_new_with_options(schema, arrays, &options)
        .map_err(|error| ImportError::Malformed(error.to_string()))
}

struct ColumnRows {
    /// Whether each column has a type.
    typed: bool,
    /// The columns of text, by their places.
    texts: Vec<usize>,
    batches: Box<dyn Iterator<Item = Result<RecordBatch, String>> + Send>,
    rows: u64,
    path: PathBuf,
}

impl Rows for ColumnRows {
    fn next(&mut self) -> Result<Option<Block>, ImportError> {
        let broken = |error: String| ImportError::Malformed(format!("{}: {error}", self.path.display()));
        let Some(rows) = self.batches.next().transpose().map_err(broken)? else { return Ok(None) };
        let is_text =
            |field: &Field| matches!(field.data_type(), DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View);
        let fields = rows.schema_ref().fields().iter().enumerate();
        self.texts = fields.filter(|(_, field)| self.typed && is_text(field)).map(|(at, _)| at).collect();
        let lines = (self.rows + 1..).take(rows.num_rows()).collect();
        self.rows += rows.num_rows() as u64;
        Ok(Some(Block { rows, lines, bad: Vec::new(), quoted: Vec::new() }))
    }

    fn are_texts(&self, column: usize) -> bool {
        self.texts.contains(&column)
    }
}

#[cfg(test)]
mod tests;
