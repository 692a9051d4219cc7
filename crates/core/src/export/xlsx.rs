//! Workbooks (ECMA-376, Office Open XML), written as rows come. Numbers, dates and truth values are cells
//! of their kind; what a spreadsheet's numbers have no room for is text.
//!
//! The parts that a workbook needs are few, and libraries for them keep whole sheets in memory or end the
//! program when a disk is full. Only the zip container is a library's.

use std::fmt::Write as _;
use std::io::Write;

use arrow_array::cast::AsArray;
use arrow_array::types::{Date32Type, TimestampMicrosecondType};
use arrow_array::{Array, RecordBatch};
use arrow_schema::{DataType, Schema, TimeUnit};
use zip::ZipWriter;
use zip::result::ZipError;
use zip::write::{SimpleFileOptions, StreamWriter};

use super::columnar::Drain;
use super::{ExportError, Exporter};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};

/// The rows of one sheet, its head among them, by the standard's limit.
const ROWS: u32 = 1_048_576;
/// The columns of one sheet.
const COLUMNS: usize = 16_384;
/// The characters of one cell.
const CHARACTERS: usize = 32_767;
/// Days from 1899-12-30, where a spreadsheet's days begin, to 1970.
const BEFORE_1970: f64 = 25_569.0;
/// About how many bytes of a sheet are written at once.
const PIECE: usize = 64 << 10;

const XML: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\" standalone=\"yes\"?>\n";
const MAIN: &str = "http://schemas.openxmlformats.org/spreadsheetml/2006/main";
const RELATIONS: &str = "http://schemas.openxmlformats.org/officeDocument/2006/relationships";
const PACKAGE: &str = "http://schemas.openxmlformats.org/package/2006";
const TYPES: &str = "application/vnd.openxmlformats-officedocument.spreadsheetml";

/// Styles by their number: plain, the head, a day, a point in time.
const STYLES: &str = "<numFmts count=\"2\"><numFmt numFmtId=\"164\" formatCode=\"yyyy\\-mm\\-dd\"/><numFmt numFmtId=\"165\" formatCode=\"yyyy\\-mm\\-dd\\ hh:mm:ss\"/></numFmts>\
<fonts count=\"2\"><font/><font><b/></font></fonts><fills count=\"2\"><fill><patternFill patternType=\"none\"/></fill><fill><patternFill patternType=\"gray125\"/></fill></fills>\
<borders count=\"1\"><border/></borders><cellStyleXfs count=\"1\"><xf/></cellStyleXfs>\
<cellXfs count=\"4\"><xf xfId=\"0\"/><xf fontId=\"1\" applyFont=\"1\" xfId=\"0\"/><xf numFmtId=\"164\" applyNumberFormat=\"1\" xfId=\"0\"/><xf numFmtId=\"165\" applyNumberFormat=\"1\" xfId=\"0\"/></cellXfs>";

pub(super) struct Xlsx {
    zip: ZipWriter<StreamWriter<Drain>>,
    drain: Drain,
    /// The names of the sheets so far.
    sheets: Vec<String>,
    names: Vec<String>,
    /// What of the last sheet is not written yet, and its next row, from 1.
    text: String,
    row: u32,
    results: usize,
    parts: usize,
}

impl Default for Xlsx {
    fn default() -> Self {
        let drain = Drain::default();
        Xlsx {
            zip: ZipWriter::new_stream(drain.clone()),
            drain,
            sheets: Vec::new(),
            names: Vec::new(),
            text: String::new(),
            row: 0,
            results: 0,
            parts: 0,
        }
    }
}

fn zip_error(error: ZipError) -> ExportError {
    match error {
        ZipError::Io(error) => ExportError::Output(error),
        other => ExportError::Format(other.to_string()),
    }
}

/// Text as XML. Characters that XML has no room for are written as the standard has it (ECMA-376,
/// part 1, 22.9.2.19): `_x0007_`.
fn put_escaped(text: &str, out: &mut String) {
    for (at, c) in text.char_indices() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            // Ends of lines would all become one.
            '\r' => out.push_str("&#13;"),
            '\n' | '\t' => out.push(c),
            '\u{0}'..='\u{1f}' | '\u{fffe}' | '\u{ffff}' => {
                let _ = write!(out, "_x{:04X}_", u32::from(c));
            }
            // What looks like such a sign, and is none.
            '_' if text.get(at + 1..at + 7).is_some_and(is_escape) => out.push_str("_x005F_"),
            c => out.push(c),
        }
    }
}

fn is_escape(text: &str) -> bool {
    let digits = text.strip_prefix('x').and_then(|rest| rest.strip_suffix('_'));
    digits.is_some_and(|digits| digits.len() == 4 && digits.bytes().all(|b| b.is_ascii_hexdigit()))
}

/// The letters of a column: `A` … `XFD`.
fn letters(column: usize) -> String {
    let mut number = column + 1;
    let mut letters = Vec::new();
    while number > 0 {
        letters.push(char::from(b'A' + ((number - 1) % 26) as u8));
        number = (number - 1) / 26;
    }
    letters.iter().rev().collect()
}

impl Xlsx {
    fn begin_part(&mut self, name: &str) -> Result<(), ExportError> {
        self.zip.start_file(name, SimpleFileOptions::default()).map_err(zip_error)
    }

    fn pour(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        self.zip.write_all(self.text.as_bytes())?;
        self.text.clear();
        Ok(self.drain.pour(out)?)
    }

    fn begin_sheet(&mut self) -> Result<(), ExportError> {
        self.parts += 1;
        self.sheets.push(match (self.results, self.parts) {
            (1, 1) => "rows".to_owned(),
            (result, 1) => format!("rows {result}"),
            (result, part) => format!("rows {result} part {part}"),
        });
        self.begin_part(&format!("xl/worksheets/sheet{}.xml", self.sheets.len()))?;
        let _ = write!(
            self.text,
            "{XML}<worksheet xmlns=\"{MAIN}\"><sheetViews><sheetView workbookViewId=\"0\"><pane ySplit=\"1\" topLeftCell=\"A2\" activePane=\"bottomLeft\" state=\"frozen\"/></sheetView></sheetViews><sheetData><row r=\"1\">"
        );
        for (column, name) in self.names.iter().enumerate() {
            let _ = write!(
                self.text,
                "<c r=\"{}1\" s=\"1\" t=\"inlineStr\"><is><t xml:space=\"preserve\">",
                letters(column)
            );
            put_escaped(name, &mut self.text);
            self.text.push_str("</t></is></c>");
        }
        self.text.push_str("</row>");
        self.row = 2;
        Ok(())
    }

    fn end_sheet(&mut self) -> Result<(), ExportError> {
        self.text.push_str("</sheetData></worksheet>");
        self.zip.write_all(self.text.as_bytes())?;
        self.text.clear();
        Ok(())
    }

    /// What says which sheets there are.
    fn put_index(&mut self) -> Result<(), ExportError> {
        let (mut sheets, mut relations, mut types) = (String::new(), String::new(), String::new());
        for (number, name) in (1..).zip(&self.sheets) {
            let _ = write!(sheets, "<sheet name=\"{name}\" sheetId=\"{number}\" r:id=\"rId{number}\"/>");
            let _ = write!(
                relations,
                "<Relationship Id=\"rId{number}\" Type=\"{RELATIONS}/worksheet\" Target=\"worksheets/sheet{number}.xml\"/>"
            );
            let _ = write!(
                types,
                "<Override PartName=\"/xl/worksheets/sheet{number}.xml\" ContentType=\"{TYPES}.worksheet+xml\"/>"
            );
        }
        let styles = self.sheets.len() + 1;
        let parts = [
            (
                "xl/workbook.xml",
                format!("<workbook xmlns=\"{MAIN}\" xmlns:r=\"{RELATIONS}\"><sheets>{sheets}</sheets></workbook>"),
            ),
            (
                "xl/_rels/workbook.xml.rels",
                format!(
                    "<Relationships xmlns=\"{PACKAGE}/relationships\">{relations}<Relationship Id=\"rId{styles}\" Type=\"{RELATIONS}/styles\" Target=\"styles.xml\"/></Relationships>"
                ),
            ),
            ("xl/styles.xml", format!("<styleSheet xmlns=\"{MAIN}\">{STYLES}</styleSheet>")),
            (
                "_rels/.rels",
                format!(
                    "<Relationships xmlns=\"{PACKAGE}/relationships\"><Relationship Id=\"rId1\" Type=\"{RELATIONS}/officeDocument\" Target=\"xl/workbook.xml\"/></Relationships>"
                ),
            ),
            (
                "[Content_Types].xml",
                format!(
                    "<Types xmlns=\"{PACKAGE}/content-types\"><Default Extension=\"rels\" ContentType=\"application/vnd.openxmlformats-package.relationships+xml\"/><Default Extension=\"xml\" ContentType=\"application/xml\"/><Override PartName=\"/xl/workbook.xml\" ContentType=\"{TYPES}.sheet.main+xml\"/><Override PartName=\"/xl/styles.xml\" ContentType=\"{TYPES}.styles+xml\"/>{types}</Types>"
                ),
            ),
        ];
        for (name, text) in parts {
            self.begin_part(name)?;
            self.zip.write_all(XML.as_bytes())?;
            self.zip.write_all(text.as_bytes())?;
        }
        Ok(())
    }
}

/// A day or a point in time as a spreadsheet counts them, and its style; none before 1900-03-01, where
/// spreadsheets disagree.
fn serial(batch: &RecordBatch, column: usize, row: usize) -> Option<(f64, u8)> {
    let values = batch.column(column);
    let (days, style) = match values.data_type() {
        DataType::Date32 => (f64::from(values.as_primitive::<Date32Type>().value(row)), 2),
        DataType::Timestamp(TimeUnit::Microsecond, None) => {
            (values.as_primitive::<TimestampMicrosecondType>().value(row) as f64 / 86_400e6, 3)
        }
        _ => return None,
    };
    let days = days + BEFORE_1970;
    (61.0..2_958_466.0).contains(&days).then_some((days, style))
}

impl Exporter for Xlsx {
    fn columns(&mut self, schema: &Schema, _: &mut dyn Write) -> Result<(), ExportError> {
        if schema.fields().len() > COLUMNS {
            return Err(ExportError::Format("a sheet has 16,384 columns at most".into()));
        }
        self.names = schema.fields().iter().map(|field| field.name().chars().take(CHARACTERS).collect()).collect();
        self.results += 1;
        self.parts = 0;
        self.begin_sheet()
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        let columns = ColumnReader::all(batch);
        let letters: Vec<String> = (0..columns.len()).map(letters).collect();
        let mut value = String::new();
        for row in 0..batch.num_rows() {
            if self.row > ROWS {
                self.end_sheet()?;
                self.begin_sheet()?;
            }
            let at = self.row;
            let _ = write!(self.text, "<row r=\"{at}\">");
            for (index, (column, letters)) in columns.iter().zip(&letters).enumerate() {
                value.clear();
                let kind = column.put(row, &mut value);
                let serial = serial(batch, index, row).filter(|_| kind != CellKind::Null);
                let number = if kind == CellKind::Number { exact_number(&value) } else { None };
                let _ = match (kind, serial, number) {
                    (CellKind::Null, ..) => Ok(()),
                    (_, Some((days, style)), _) => {
                        write!(self.text, "<c r=\"{letters}{at}\" s=\"{style}\"><v>{days}</v></c>")
                    }
                    (CellKind::Boolean, ..) => {
                        write!(self.text, "<c r=\"{letters}{at}\" t=\"b\"><v>{}</v></c>", u8::from(value == "true"))
                    }
                    (_, _, Some(_)) => write!(self.text, "<c r=\"{letters}{at}\"><v>{value}</v></c>"),
                    _ => {
                        if value.chars().nth(CHARACTERS).is_some() {
                            let name = batch.schema_ref().field(index).name();
                            return Err(ExportError::Format(format!(
                                "{name} has a value of more than 32,767 characters, the limit of a sheet; use CSV or Parquet"
                            )));
                        }
                        let head =
                            write!(self.text, "<c r=\"{letters}{at}\" t=\"inlineStr\"><is><t xml:space=\"preserve\">");
                        put_escaped(&value, &mut self.text);
                        self.text.push_str("</t></is></c>");
                        head
                    }
                };
            }
            self.text.push_str("</row>");
            self.row += 1;
            if self.text.len() >= PIECE {
                self.pour(out)?;
            }
        }
        self.pour(out)
    }

    fn finish(&mut self, _: &mut dyn Write) -> Result<(), ExportError> {
        self.end_sheet()
    }

    fn close(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        if self.sheets.is_empty() {
            // A workbook has a sheet at least.
            self.results = 1;
            self.begin_sheet()?;
            self.end_sheet()?;
        }
        self.put_index()?;
        let zip = std::mem::replace(&mut self.zip, ZipWriter::new_stream(Drain::default()));
        zip.finish().map_err(zip_error)?;
        Ok(self.drain.pour(out)?)
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_have_letters() {
        assert_eq!([0, 25, 26, 701, 702, 16_383].map(letters), ["A", "Z", "AA", "ZZ", "AAA", "XFD"]);
    }

    #[test]
    fn what_xml_has_no_room_for_is_written_as_the_standard_has_it() {
        let mut out = String::new();
        put_escaped("a<b>&\"\u{7}_x0007_ _x12_\r\n名", &mut out);
        assert_eq!(out, "a&lt;b&gt;&amp;&quot;_x0007__x005F_x0007_ _x12_&#13;\n名");
    }

    #[test]
    fn numbers_that_would_change_stay_text() {
        assert_eq!(exact_number("0.1"), Some(0.1));
        assert_eq!(exact_number("0.14285714285714285"), Some(1.0 / 7.0));
        assert_eq!((exact_number("12345678901234567891"), exact_number("NaN")), (None, None));
        assert_eq!(exact_number("9007199254740993"), None, "2⁵³ + 1");
    }
}
