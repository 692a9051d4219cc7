//! Sheets of workbooks (Office Open XML, ECMA-376; OpenDocument, ISO/IEC 26300). A sheet is in memory as a whole while it
//! is read, which the format asks for: a bound says how large it may be.

use std::fs::File;
use std::path::Path;
use std::sync::Arc;

use arrow_array::{ArrayRef, RecordBatch, StringArray};
use arrow_schema::{DataType, Field, Schema};
use calamine::{Data, DataType as _, Range, Reader, Sheets, open_workbook_auto};

use super::ROWS;
use crate::import::ImportError;

/// What a workbook takes at most when it is unpacked, in bytes.
const MOST: u64 = 1 << 30;

/// A sheet: its name, the names of its columns, and its rows as texts in blocks.
pub(super) struct Sheet {
    pub name: String,
    pub others: usize,
    pub header: bool,
    pub batches: Box<dyn Iterator<Item = Result<RecordBatch, String>> + Send>,
}

/// Opens a sheet by its name; without one the first that has cells. `header` says whether its first row has the names.
pub(super) fn open(path: &Path, sheet: Option<&str>, header: Option<bool>) -> Result<Sheet, ImportError> {
    // What reads workbooks was not written for hostile ones.
    let read = std::panic::catch_unwind(|| read(path, sheet, header));
    read.unwrap_or_else(|_| Err(ImportError::Malformed(format!("{}: it is damaged", path.display()))))
}

fn read(path: &Path, sheet: Option<&str>, header: Option<bool>) -> Result<Sheet, ImportError> {
    let broken = |error: String| ImportError::Malformed(format!("{}: {error}", path.display()));
    let size = unpacked(path).map_err(|error| {
        ImportError::Malformed(format!("{} is not a workbook, or it is damaged: {error}", path.display()))
    })?;
    if size > MOST {
        let size = size >> 20;
        return Err(broken(format!(
            "{size} MB when it is unpacked are too many for a workbook: save the sheet as CSV"
        )));
    }
    let mut book: Sheets<_> = open_workbook_auto(path).map_err(|error| broken(error.to_string()))?;
    let names = book.sheet_names();
    if let Some(sheet) = sheet
        && !names.iter().any(|name| name == sheet)
    {
        return Err(ImportError::Mistake(format!("there is no sheet \"{sheet}\"; it has {}", names.join(", "))));
    }
    let wanted: Vec<String> = sheet.map_or_else(|| names.clone(), |sheet| vec![sheet.to_owned()]);
    for name in wanted {
        let cells = book.worksheet_range(&name).map_err(|error| broken(error.to_string()))?;
        if !cells.is_empty() {
            let header = header.unwrap_or_else(|| looks_like_names(&cells));
            let batches = batches(cells, header).map_err(broken)?;
            return Ok(Sheet { name, others: names.len() - 1, header, batches });
        }
    }
    Err(broken("it has no rows".into()))
}

/// How many bytes a workbook has when it is unpacked, by its own word.
fn unpacked(path: &Path) -> Result<u64, String> {
    let file = File::open(path).map_err(|error| error.to_string())?;
    let mut archive = zip::ZipArchive::new(file).map_err(|error| error.to_string())?;
    (0..archive.len()).try_fold(0_u64, |sum, at| {
        let entry = archive.by_index_raw(at).map_err(|error| error.to_string())?;
        Ok(sum.saturating_add(entry.size()))
    })
}

/// Whether all cells of the first row are texts, and different from each other.
fn looks_like_names(cells: &Range<Data>) -> bool {
    let Some(first) = cells.rows().next() else { return false };
    let texts: Vec<&str> = first.iter().filter_map(|cell| cell.get_string()).collect();
    let mut different = texts.clone();
    different.sort_unstable();
    different.dedup();
    !texts.is_empty() && texts.len() == first.len() && different.len() == texts.len()
}

fn batches(
    cells: Range<Data>,
    header: bool,
) -> Result<Box<dyn Iterator<Item = Result<RecordBatch, String>> + Send>, String> {
    let width = cells.width();
    let names: Vec<String> = (0..width)
        .map(|column| {
            let named = cells.get((0, column)).filter(|_| header).and_then(text).filter(|name| !name.is_empty());
            named.unwrap_or_else(|| format!("column{}", column + 1))
        })
        .collect();
    let fields: Vec<Field> = names.iter().map(|name| Field::new(name, DataType::Utf8, true)).collect();
    let schema = Arc::new(Schema::new(fields));
    let (mut from, to) = (usize::from(header), cells.height());
    // A sheet of names has columns, too.
    let mut given = false;
    let next = move || {
        if from >= to && given {
            return None;
        }
        given = true;
        let rows = from..to.min(from + ROWS);
        from = rows.end.max(from);
        let column = |at: usize| -> ArrayRef {
            let values = rows.clone().map(|row| cells.get((row, at)).and_then(text));
            Arc::new(values.collect::<StringArray>())
        };
        let columns: Vec<ArrayRef> = (0..width).map(column).collect();
        Some(RecordBatch::try_new(Arc::clone(&schema), columns).map_err(|error| error.to_string()))
    };
    Ok(Box::new(std::iter::from_fn(next)))
}

/// A cell as text: days and points in time as ISO 8601 writes them, numbers without a point where they have none. An error
/// of a formula is no value.
fn text(cell: &Data) -> Option<String> {
    match cell {
        Data::Empty | Data::Error(_) => None,
        Data::DateTime(_) => {
            let moment = cell.as_datetime()?;
            let day = moment.format("%Y-%m-%d").to_string();
            let clock = moment.format("%H:%M:%S%.f").to_string();
            Some(match clock.as_str() {
                "00:00:00" => day,
                // A time of day alone is a part of the first day there is.
                _ if day == "1899-12-31" || day == "1899-12-30" => clock,
                _ => format!("{day} {clock}"),
            })
        }
        Data::Float(number) if number.fract() == 0.0 && number.abs() < 1e15 => Some(format!("{number:.0}")),
        Data::Float(number) => Some(ryu::Buffer::new().format(*number).to_owned()),
        Data::Bool(value) => Some(value.to_string()),
        other => Some(other.to_string()),
    }
}
