//! Writing rows for others to read: one module per format, all fed with batches as they come.

mod change;
mod columnar;
mod csv;
pub mod extended;
pub mod file;
mod html;
mod insert;
mod json;
mod long;
mod picture;
mod table;
pub mod target;
mod xlsx;

use std::io::{self, Write};

use arrow_array::RecordBatch;
use arrow_schema::{ArrowError, Schema};

use jaunty_language::text::clean::clean;

use crate::chart::plot::Texts;
use crate::chart::{self, Spec};

use jaunty_language::dialect::{DIALECTS, Dialect, FALLBACK, Family, by_name};
use jaunty_seam::rows::cell::NULL_TEXT;

/// Formats.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// Columns under their names, for reading.
    Table,
    /// Comma-separated values, RFC 4180.
    Csv,
    /// The same with tabs.
    Tsv,
    /// One JSON array of objects.
    Json,
    /// One JSON object a line.
    JsonLines,
    /// A Markdown table.
    Markdown,
    /// An HTML document.
    Html,
    /// SQL statements that insert the rows.
    Insert,
    /// SQL statements that set the columns of each row, found by its key.
    Update,
    /// SQL statements that delete each row, found by its key.
    Delete,
    /// The values as a list for `IN`.
    List,
    /// A workbook.
    Xlsx,
    /// A Parquet file.
    Parquet,
    /// An Arrow IPC file.
    Arrow,
    /// A chart as SVG.
    Svg,
    /// A chart as PDF.
    Pdf,
}

/// A format, the word for it, the endings of its files, and a line about it.
pub type Described = (Format, &'static str, &'static [&'static str], &'static str);

impl Format {
    /// All formats. The first ending is the usual one.
    pub const ALL: [Described; 16] = [
        (Format::Table, "table", &["txt"], "aligned columns with a header"),
        (Format::Csv, "csv", &["csv"], "comma-separated values"),
        (Format::Tsv, "tsv", &["tsv", "tab"], "tab-separated values"),
        (Format::Json, "json", &["json"], "one array of objects"),
        (Format::JsonLines, "jsonl", &["jsonl", "ndjson"], "one object a line"),
        (Format::Markdown, "markdown", &["md"], "a Markdown table"),
        (Format::Html, "html", &["html", "htm"], "an HTML table"),
        (Format::Insert, "insert", &["sql"], "INSERT statements"),
        (Format::Update, "update", &[], "UPDATE statements, by key"),
        (Format::Delete, "delete", &[], "DELETE statements, by key"),
        (Format::List, "in", &[], "a list for IN (…)"),
        (Format::Xlsx, "xlsx", &["xlsx"], "a workbook"),
        (Format::Parquet, "parquet", &["parquet"], "a Parquet file"),
        (Format::Arrow, "arrow", &["arrow", "ipc"], "an Arrow IPC file"),
        (Format::Svg, "svg", &["svg"], "a chart as SVG"),
        (Format::Pdf, "pdf", &["pdf"], "a chart as PDF"),
    ];

    fn described(self) -> &'static Described {
        static ALL: [Described; 16] = Format::ALL;
        ALL.iter().find(|(format, ..)| *format == self).unwrap_or(&ALL[0])
    }

    /// The format with this word.
    pub fn from_word(word: &str) -> Option<Format> {
        let word = word.to_ascii_lowercase();
        Format::ALL.iter().find(|(_, name, ..)| *name == word).map(|(format, ..)| *format)
    }

    /// The format of files with this ending.
    pub fn from_ending(ending: &str) -> Option<Format> {
        let ending = ending.to_ascii_lowercase();
        Format::ALL.iter().find(|(_, _, endings, _)| endings.contains(&ending.as_str())).map(|(format, ..)| *format)
    }

    /// The word for it.
    pub fn word(self) -> &'static str {
        self.described().1
    }

    /// The usual ending of its files.
    pub fn ending(self) -> &'static str {
        self.described().2.first().copied().unwrap_or("txt")
    }

    /// Whether rows of a language can be written so: statements that make or change them only where there are such.
    pub fn is_for(self, family: Family) -> bool {
        match self {
            Format::Insert => family != Family::Commands,
            Format::Update => family == Family::Sql,
            Format::Delete => family != Family::Documents,
            _ => true,
        }
    }

    /// The line about it, as it is for a language.
    pub fn help(self, family: Family) -> &'static str {
        match (self, family) {
            (Format::Insert, Family::Documents) => "insert statements",
            (Format::Delete, Family::Commands) => "UNLINK of the keys of these names",
            (Format::List, Family::Documents) => "a list for $in, [ … ]",
            (Format::List, Family::Commands) => "arguments of a command, with blanks between them",
            (format, _) => format.described().3,
        }
    }

    /// Whether it is text, which a terminal or a clipboard can take.
    pub fn is_text(self) -> bool {
        !matches!(self, Format::Xlsx | Format::Parquet | Format::Arrow | Format::Svg | Format::Pdf)
    }

    /// Whether it is a picture of the rows.
    pub fn is_picture(self) -> bool {
        matches!(self, Format::Svg | Format::Pdf)
    }

    /// Whether a file of it holds one result, so that each of several has a file of its own.
    pub fn holds_one(self) -> bool {
        use Format::{Arrow, Csv, Json, JsonLines, Parquet, Pdf, Svg, Tsv};
        matches!(self, Csv | Tsv | Json | JsonLines | Parquet | Arrow | Svg | Pdf)
    }

    /// Whether the types of the columns have to be known before the first row is written.
    pub fn needs_types(self) -> bool {
        matches!(self, Format::Parquet | Format::Arrow | Format::Svg | Format::Pdf)
    }

    /// A writer of this format.
    pub fn exporter(self, options: &Options) -> Box<dyn Exporter> {
        let exporter: Box<dyn Exporter> = match self {
            Format::Table => Box::new(table::Table::plain(options.null_shown())),
            Format::Markdown => Box::new(table::Table::markdown(options.null_shown())),
            Format::Csv => Box::new(csv::Csv::new(options, options.separator)),
            Format::Tsv => Box::new(csv::Csv::new(options, b'\t')),
            Format::Json => return Box::new(json::Json::array(options)),
            Format::JsonLines => return Box::new(json::Json::lines(options)),
            Format::Html => Box::new(html::Html::new(options.null_shown())),
            Format::Insert if options.dialect.family == Family::Documents => Box::new(insert::Documents::new(options)),
            Format::Insert => Box::new(insert::Insert::new(options)),
            Format::Update => Box::new(change::ByKey::new(change::Change::Update, options)),
            Format::Delete if options.dialect.family == Family::Commands => Box::new(insert::Unlink::default()),
            Format::Delete => Box::new(change::ByKey::new(change::Change::Delete, options)),
            Format::List => Box::new(insert::List::new(options)),
            Format::Xlsx => Box::new(xlsx::Xlsx::default()),
            Format::Parquet => Box::new(columnar::Parquet::default()),
            Format::Arrow => Box::new(columnar::Arrow::default()),
            Format::Svg | Format::Pdf => Box::new(picture::Picture::new(self, options)),
        };
        Box::new(Headed { exporter, columns: 0 })
    }
}

/// How a format is written, where it leaves a choice.
#[derive(Debug, Clone)]
pub struct Options {
    /// What stands between fields of CSV.
    pub separator: u8,
    /// What stands around fields of CSV and TSV that need it.
    pub quote: u8,
    /// Whether CSV and TSV begin with the names of the columns.
    pub header: bool,
    /// Whether lines of CSV and TSV end as RFC 4180 has it, and not with a line feed alone.
    pub crlf: bool,
    /// What stands for NULL in CSV and TSV, and in tables for reading where it is not empty.
    pub null: String,
    /// Whether text that a spreadsheet would take for a formula gets an apostrophe before it.
    pub formula_safe: bool,
    /// Whether JSON and arrays are parts of what is written as JSON, and not text in it.
    pub nested: bool,
    /// The table of statements; that which the rows come from where none is named.
    pub table: Option<String>,
    /// The table that the rows come from, by schema and name, as far as it is known; for where none is named.
    pub from: Option<Vec<String>>,
    /// The columns by which `UPDATE` and `DELETE` find a row, as the table names them.
    pub key: Vec<String>,
    /// The columns that those statements are about: each name in the result with that in the table. All, under
    /// their own names, where this is not known.
    pub columns: Option<Vec<(String, String)>>,
    /// What stands before the values of an `INSERT`, so that numbers of the server can be given.
    pub before_values: &'static str,
    /// What stands alone on a line after each `INSERT`, so that it is sent by itself; empty where that is not needed.
    pub batch_word: &'static str,
    /// The dialect of statements.
    pub dialect: &'static Dialect,
    /// What a picture shows.
    pub chart: Spec,
    /// What stands above and below a picture.
    pub texts: Texts,
}

impl Default for Options {
    fn default() -> Self {
        Options {
            separator: b',',
            quote: b'"',
            header: true,
            crlf: false,
            null: String::new(),
            formula_safe: false,
            nested: true,
            table: None,
            from: None,
            key: Vec::new(),
            before_values: "",
            batch_word: "",
            columns: None,
            dialect: FALLBACK,
            chart: Spec::default(),
            texts: Texts::default(),
        }
    }
}

/// The keys of [`Options::set`], each with a line of help.
pub const OPTIONS: [(&str, &str); 10] = [
    ("separator", "the separator of CSV fields: one character, or tab"),
    ("quote", "the quote around fields that need it: one character"),
    ("header", "yes or no: whether the first line has the column names"),
    ("ends", "lf or crlf: how lines end"),
    ("null", "the text for NULL"),
    ("formulas", "safe or plain: safe puts an apostrophe before text that begins like a formula"),
    ("nested", "yes or no: whether JSON and arrays are nested in the JSON, not text in it"),
    ("table", "the table of INSERT, UPDATE and DELETE statements"),
    ("key", "the columns that find a row for UPDATE and DELETE, with commas between"),
    ("dialect", "the language of statements and lists: the name of a dialect of SQL"),
];

impl Options {
    /// What stands for NULL where people read.
    fn null_shown(&self) -> &str {
        if self.null.is_empty() { NULL_TEXT } else { &self.null }
    }

    /// Takes one word as a person writes it for a format: an option, or for a picture its kind.
    pub fn take(&mut self, format: Format, word: &str) -> Result<(), String> {
        match (word.split_once('='), format.is_picture()) {
            (None, true) => self.chart.take_word(word),
            (None, false) => {
                Err(format!("\"{word}\" is not an option; write options as key=value, such as separator=;"))
            }
            // It needs no key, and may have one.
            (Some(("kind", kind)), true) => self.chart.take_word(kind),
            (Some((key, value)), true) => self.chart.set(key, value).unwrap_or_else(|| {
                let names: Vec<_> = chart::spec::OPTIONS.iter().map(|(name, _)| *name).collect();
                Err(format!("unknown option \"{key}\"; those of a chart are {}", names.join(", ")))
            }),
            (Some((key, value)), false) => self.set(key, value),
        }
    }

    /// Sets one by its key, as a person writes it. The error says what may stand there.
    pub fn set(&mut self, key: &str, value: &str) -> Result<(), String> {
        let one = |value: &str| match value.as_bytes() {
            [byte] if byte.is_ascii_punctuation() || b" \t".contains(byte) => Ok(*byte),
            _ if value == "tab" => Ok(b'\t'),
            _ => Err(format!("{key} must be one character, not a letter or digit: \"{value}\"")),
        };
        match (key, value) {
            ("dialect", value) if let Some(dialect) = with_literals(value) => self.dialect = dialect,
            ("separator", value) => self.separator = one(value)?,
            ("quote", value) => self.quote = one(value)?,
            ("header", "yes" | "no") => self.header = value == "yes",
            ("ends", "lf" | "crlf") => self.crlf = value == "crlf",
            ("null", value) => self.null = value.to_owned(),
            ("formulas", "safe" | "plain") => self.formula_safe = value == "safe",
            ("nested", "yes" | "no") => self.nested = value == "yes",
            ("key", value) if !value.is_empty() => {
                self.key = value.split(',').map(|name| name.trim().to_owned()).collect();
            }
            ("table", value) if !value.is_empty() => self.table = Some(value.to_owned()),
            _ => {
                return Err(match OPTIONS.iter().find(|(name, _)| *name == key) {
                    Some(("dialect", _)) => {
                        let names: Vec<_> = DIALECTS.iter().filter(|d| d.writes_rows()).map(|d| d.name).collect();
                        format!("dialect is one of {}; \"{value}\" is not", names.join(", "))
                    }
                    Some((name, help)) => format!("{name} is {help}; \"{value}\" is not"),
                    None => {
                        let names: Vec<_> = OPTIONS.iter().map(|(name, _)| *name).collect();
                        format!("unknown option \"{key}\"; the options are {}", names.join(", "))
                    }
                });
            }
        }
        if self.separator == self.quote {
            return Err(format!("the separator and the quote cannot both be {}", char::from(self.quote)));
        }
        Ok(())
    }
}

/// The dialect with this name, if it has literals that rows can be written with.
fn with_literals(name: &str) -> Option<&'static Dialect> {
    by_name(name).filter(|dialect| dialect.writes_rows())
}

/// Writes one result after another. Each begins with [`Exporter::columns`].
pub trait Exporter: Send {
    /// A result begins.
    fn columns(&mut self, schema: &Schema, out: &mut dyn Write) -> Result<(), ExportError>;
    /// Rows of it.
    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError>;
    /// It ends.
    fn finish(&mut self, out: &mut dyn Write) -> Result<(), ExportError>;
    /// No other result follows.
    fn close(&mut self, _out: &mut dyn Write) -> Result<(), ExportError> {
        Ok(())
    }
}

/// A format that says once which columns there are. Columns that turn up later have no place in it.
struct Headed {
    exporter: Box<dyn Exporter>,
    columns: usize,
}

impl Exporter for Headed {
    fn columns(&mut self, schema: &Schema, out: &mut dyn Write) -> Result<(), ExportError> {
        self.columns = schema.fields().len();
        self.exporter.columns(schema, out)
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        let schema = batch.schema_ref();
        let late: Vec<&str> = schema.fields().iter().skip(self.columns).map(|field| field.name().as_str()).collect();
        if !late.is_empty() {
            let late = clean(&late.join(", ")).into_owned();
            return Err(ExportError::Format(format!(
                "columns turned up after the header was written: {late}; write JSON, or export the kept rows, which have all columns"
            )));
        }
        self.exporter.batch(batch, out)
    }

    fn finish(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        self.exporter.finish(out)
    }

    fn close(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        self.exporter.close(out)
    }
}

/// Why rows could not be written.
#[derive(Debug, thiserror::Error)]
pub enum ExportError {
    /// The output refused.
    #[error("{0}")]
    Output(#[from] io::Error),
    /// The rows could not be read.
    #[error("{0}")]
    Rows(#[from] ArrowError),
    /// The format has no room for them.
    #[error("{0}")]
    Format(String),
}

/// Lets text through to a terminal, but nothing that would act on it.
pub struct Cleaned<W>(pub W);

impl<W: Write> Write for Cleaned<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        // Exporters write whole pieces of text; what is not UTF-8 is shown as such.
        let text = String::from_utf8_lossy(bytes);
        let mut shown = String::with_capacity(text.len());
        for line in text.split_inclusive('\n') {
            let bare = line.strip_suffix('\n').unwrap_or(line);
            shown.push_str(&clean(bare.strip_suffix('\r').unwrap_or(bare)));
            shown.push_str(&line[bare.len()..]);
        }
        self.0.write_all(shown.as_bytes())?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

#[cfg(test)]
mod tests;
