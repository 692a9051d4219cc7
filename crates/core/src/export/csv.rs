//! Comma-separated values by RFC 4180, in UTF-8, with a header and `\n` as the line end. A NULL is
//! an empty field and empty text is quoted, so that the two can be told apart.

use std::io::Write;

use arrow_array::RecordBatch;
use arrow_schema::Schema;
use csv::{QuoteStyle, Writer, WriterBuilder};

use super::{ExportError, Exporter};
use crate::rows::cell::{CellKind, ColumnReader};

pub(super) struct Csv;

fn writer(out: &mut dyn Write) -> Writer<&mut dyn Write> {
    WriterBuilder::new().quote_style(QuoteStyle::Never).from_writer(out)
}

impl Exporter for Csv {
    fn columns(&mut self, schema: &Schema, out: &mut dyn Write) -> Result<(), ExportError> {
        let names = schema.fields().iter().map(|field| field.name());
        let mut writer = WriterBuilder::new().from_writer(out);
        writer.write_record(names).map_err(std::io::Error::from)?;
        Ok(writer.flush()?)
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        let columns = ColumnReader::all(batch);
        let mut writer = writer(out);
        let mut field = String::new();
        for row in 0..batch.num_rows() {
            for column in &columns {
                let cell = column.get(row);
                field.clear();
                match cell.kind {
                    CellKind::Null => {}
                    CellKind::Text if needs_quotes(&cell.text) => {
                        field.push('"');
                        field.push_str(&cell.text.replace('"', "\"\""));
                        field.push('"');
                    }
                    _ => field.push_str(&cell.text),
                }
                writer.write_field(&field).map_err(std::io::Error::from)?;
            }
            writer.write_record(None::<&[u8]>).map_err(std::io::Error::from)?;
        }
        Ok(writer.flush()?)
    }

    fn finish(&mut self, _: &mut dyn Write) -> Result<(), ExportError> {
        Ok(())
    }
}

fn needs_quotes(text: &str) -> bool {
    text.is_empty() || text.starts_with(' ') || text.ends_with(' ') || text.contains([',', '"', '\n', '\r'])
}
