//! Workbooks (Office Open XML). Numbers, dates and truth values are cells of their kind; what a
//! spreadsheet's numbers have no room for is text.

use std::io::{Seek, SeekFrom, Write};

use arrow_array::cast::AsArray;
use arrow_array::types::{Date32Type, TimestampMicrosecondType};
use arrow_array::{Array, RecordBatch};
use arrow_schema::{DataType, Schema, TimeUnit};
use rust_xlsxwriter::{Format, Workbook, Worksheet, XlsxError};

use super::{ExportError, Exporter};
use crate::rows::cell::{CellKind, ColumnReader};

/// The rows of one sheet, its head among them, by the standard's limit.
const ROWS: u32 = 1_048_576;
/// The characters of one cell, by the same.
const CHARACTERS: usize = 32_767;
/// Days from 1899-12-30, where a spreadsheet's days begin, to 1970.
const BEFORE_1970: f64 = 25_569.0;

#[derive(Default)]
pub(super) struct Xlsx {
    workbook: Option<Workbook>,
    names: Vec<String>,
    /// The next row of the last sheet.
    row: u32,
    results: usize,
    parts: usize,
    formats: Formats,
}

struct Formats {
    head: Format,
    day: Format,
    time: Format,
}

impl Default for Formats {
    fn default() -> Self {
        Formats {
            head: Format::new().set_bold(),
            day: Format::new().set_num_format("yyyy-mm-dd"),
            time: Format::new().set_num_format("yyyy-mm-dd hh:mm:ss"),
        }
    }
}

fn xlsx_error(error: XlsxError) -> ExportError {
    match error {
        XlsxError::IoError(error) => ExportError::Output(error),
        other => ExportError::Format(other.to_string()),
    }
}

impl Xlsx {
    fn begin_sheet(&mut self) -> Result<(), XlsxError> {
        self.parts += 1;
        let name = match (self.results, self.parts) {
            (1, 1) => "rows".to_owned(),
            (result, 1) => format!("rows {result}"),
            (result, part) => format!("rows {result} part {part}"),
        };
        let workbook = self.workbook.get_or_insert_with(Workbook::new);
        let sheet = workbook.add_worksheet_with_constant_memory()?;
        sheet.set_name(name)?;
        sheet.set_freeze_panes(1, 0)?;
        for (column, name) in (0..).zip(&self.names) {
            sheet.write_string_with_format(0, column, name, &self.formats.head)?;
        }
        self.row = 1;
        Ok(())
    }

    fn sheet(&mut self) -> Result<(&mut Worksheet, &Formats), XlsxError> {
        let last = self.workbook.as_mut().and_then(|workbook| workbook.worksheets_mut().last_mut());
        last.map(|sheet| (sheet, &self.formats)).ok_or(XlsxError::UnknownWorksheetNameOrIndex(String::new()))
    }
}

/// A day or a point in time as a spreadsheet counts them; none before 1900-03-01, where spreadsheets
/// disagree.
fn serial(batch: &RecordBatch, column: usize, row: usize) -> Option<(f64, bool)> {
    let values = batch.column(column);
    let (days, is_day) = match values.data_type() {
        DataType::Date32 => (f64::from(values.as_primitive::<Date32Type>().value(row)), true),
        DataType::Timestamp(TimeUnit::Microsecond, None) => {
            (values.as_primitive::<TimestampMicrosecondType>().value(row) as f64 / 86_400e6, false)
        }
        _ => return None,
    };
    let days = days + BEFORE_1970;
    (61.0..2_958_466.0).contains(&days).then_some((days, is_day))
}

impl Exporter for Xlsx {
    fn columns(&mut self, schema: &Schema, _: &mut dyn Write) -> Result<(), ExportError> {
        if schema.fields().len() > 16_384 {
            return Err(ExportError::Format("a sheet has 16,384 columns at most".into()));
        }
        self.names = schema.fields().iter().map(|field| field.name().chars().take(CHARACTERS).collect()).collect();
        self.results += 1;
        self.parts = 0;
        self.begin_sheet().map_err(xlsx_error)
    }

    fn batch(&mut self, batch: &RecordBatch, _: &mut dyn Write) -> Result<(), ExportError> {
        let columns = ColumnReader::all(batch);
        let mut text = String::new();
        for row in 0..batch.num_rows() {
            if self.row == ROWS {
                self.begin_sheet().map_err(xlsx_error)?;
            }
            let at = self.row;
            let (sheet, formats) = self.sheet().map_err(xlsx_error)?;
            for (index, column) in columns.iter().enumerate() {
                let to = index as u16;
                text.clear();
                let kind = column.put(row, &mut text);
                let number = if kind == CellKind::Number { exact_number(&text) } else { None };
                let serial = serial(batch, index, row).filter(|_| kind != CellKind::Null);
                let written = match (kind, serial, number) {
                    (CellKind::Null, ..) => continue,
                    (_, Some((days, true)), _) => sheet.write_number_with_format(at, to, days, &formats.day),
                    (_, Some((days, false)), _) => sheet.write_number_with_format(at, to, days, &formats.time),
                    (CellKind::Boolean, ..) => sheet.write_boolean(at, to, text == "true"),
                    (_, _, Some(number)) => sheet.write_number(at, to, number),
                    _ => {
                        if text.chars().nth(CHARACTERS).is_some() {
                            let name = batch.schema_ref().field(index).name();
                            return Err(ExportError::Format(format!(
                                "{name} has a value of more than 32,767 characters, which no sheet has room for; CSV or Parquet has"
                            )));
                        }
                        sheet.write_string(at, to, text.as_str())
                    }
                };
                written.map_err(xlsx_error)?;
            }
            self.row += 1;
        }
        Ok(())
    }

    fn finish(&mut self, _: &mut dyn Write) -> Result<(), ExportError> {
        Ok(())
    }

    fn close(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        if let Some(mut workbook) = self.workbook.take() {
            // The parts of a workbook are put together in a file of their own.
            let mut file = tempfile::tempfile()?;
            workbook.save_to_writer(&mut file).map_err(xlsx_error)?;
            file.seek(SeekFrom::Start(0))?;
            std::io::copy(&mut file, out)?;
        }
        Ok(())
    }
}

/// The number that a spreadsheet would hold, if it is the same: it has fifteen digits, or is the
/// shortest form of a floating-point number.
fn exact_number(text: &str) -> Option<f64> {
    let value = text.parse::<f64>().ok().filter(|value| value.is_finite())?;
    let digits = text.split(['e', 'E']).next().unwrap_or_default().trim_start_matches(['-', '0', '.']);
    let few = digits.bytes().filter(u8::is_ascii_digit).count() <= 15;
    (few || ryu::Buffer::new().format(value) == text || value.to_string() == text).then_some(value)
}
