//! Everything that needs no screen.

pub mod buffers;
mod changes;
pub mod compare;
pub mod connections;
pub mod drawings;
pub mod dump;
mod handed_on;
pub mod interrupt;
pub mod keys;
pub mod load;
pub mod log;
pub mod lsp;
pub mod output;
mod progress;
pub mod rows;
pub mod run;
mod script;
pub mod serve;
pub mod shell;
pub mod statements;
pub mod tasks;

use std::io::{self, Read, Write};
use std::path::Path;

use jaunty_core::connection::connections_files;
use jaunty_core::files::encoding::Encoding;
use jaunty_core::run::script::text_of;
use jaunty_language::dialect::Dialect;
use jaunty_language::text::clean;

use crate::failure::Failure;

/// Reads a file, or standard input for `-`.
fn read(path: &Path) -> Result<String, Failure> {
    String::from_utf8(read_bytes(path)?).map_err(|_| Failure::Usage(format!("{} is not UTF-8 text", path.display())))
}

/// The same of statements to be run, in which bytes may stand where their language has a word for it.
fn read_statements(
    path: &Path,
    encoding: Option<&'static Encoding>,
    dialect: &'static Dialect,
) -> Result<String, Failure> {
    let not_text = |line| {
        let (name, hint) = match encoding {
            Some(encoding) => (encoding.name(), ""),
            None => ("UTF-8", "; --encoding windows-1252, say, tells what it is"),
        };
        Failure::Usage(format!("{} is not {name} text at line {line}{hint}", path.display()))
    };
    text_of(read_bytes(path)?, encoding, dialect).map_err(not_text)
}

fn unknown_encoding(name: &str) -> Failure {
    Failure::Usage(format!("--encoding: \"{name}\" is not known; utf-8, utf-16le, windows-1252 and others are"))
}

fn read_bytes(path: &Path) -> Result<Vec<u8>, Failure> {
    let bytes = if path == Path::new("-") {
        let mut bytes = Vec::new();
        io::stdin().lock().read_to_end(&mut bytes).map(|_| bytes)
    } else {
        std::fs::read(path)
    };
    bytes.map_err(|error| {
        // A statement is easily given where a file is meant.
        let is_word = path.extension().is_none() && path.components().count() == 1;
        let is_text = is_word || path.to_string_lossy().trim().contains(' ');
        let is_text = is_text && error.kind() == io::ErrorKind::NotFound;
        let hint = if is_text { ". A statement is given with --statement, or piped in" } else { "" };
        Failure::Usage(format!("{} cannot be read: {error}{hint}", path.display()))
    })
}

/// Refuses to put rows, or a copy, in the place of what nobody gets back: a database, a file of connections, or one of
/// `others`, which are read.
fn may_be_replaced(path: &Path, others: &[&Path]) -> Result<(), Failure> {
    // A pipe would be waited for.
    if !path.is_file() {
        return Ok(());
    }
    let whole = |path: &Path| path.canonicalize().ok();
    let refused = |what: &str| {
        Err(Failure::Usage(format!("{} {what} and would be overwritten; choose another file", path.display())))
    };
    let folders = crate::open::folders()?;
    let here = std::env::current_dir().unwrap_or_default();
    match path {
        path if crate::open::engine_of(path).is_some() => refused("is a database"),
        path if others.iter().any(|other| whole(other) == whole(path)) => refused("is the file that is run"),
        path if connections_files(&here, &folders).iter().any(|file| whole(file) == whole(path)) => {
            refused("is a file of connections")
        }
        _ => Ok(()),
    }
}

/// Writes to standard output. What would act on a terminal is escaped: in JSON, which is what most of it is, that
/// means the same.
pub fn print(text: &str) -> Result<(), Failure> {
    let text = clean::escaped(text);
    let mut out = io::stdout().lock();
    out.write_all(text.as_bytes()).and_then(|()| out.flush()).map_err(|e| Failure::output(&e, "standard output"))
}

/// Rows of cells, those of a column below each other.
fn aligned<const COLUMNS: usize>(rows: &[[String; COLUMNS]]) -> String {
    let rows: Vec<_> = rows.iter().map(|row| row.each_ref().map(|cell| clean::clean(cell))).collect();
    let wide = |column: usize| rows.iter().map(|row| clean::width(&row[column])).max().unwrap_or(0);
    let widths: Vec<_> = (0..COLUMNS).map(wide).collect();
    let mut text = String::new();
    for row in &rows {
        let cells =
            row.iter().zip(&widths).map(|(cell, wide)| format!("{cell}{}", " ".repeat(wide - clean::width(cell))));
        text.push_str(cells.collect::<Vec<_>>().join("  ").trim_end());
        text.push('\n');
    }
    text
}

/// Writes text of ours, which is for a shell or a reader of manuals, as it is.
fn print_as_it_is(text: &str) -> Result<(), Failure> {
    let mut out = io::stdout().lock();
    out.write_all(text.as_bytes()).and_then(|()| out.flush()).map_err(|e| Failure::output(&e, "standard output"))
}
