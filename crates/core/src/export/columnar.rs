//! Arrow IPC files and Parquet files: types are kept as they are.

use std::io::{self, Write};
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{ArrayRef, RecordBatch, StringArray, new_null_array};
use arrow_ipc::writer::FileWriter;
use arrow_schema::{DataType, Field, Schema, SchemaRef};
use parquet::arrow::ArrowWriter;
use parquet::basic::Compression;
use parquet::errors::ParquetError;
use parquet::file::properties::{EnabledStatistics, WriterProperties};

use super::{ExportError, Exporter};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};
use jaunty_seam::rows::widen::{common_schema, is_mixed, widen_batch};

/// Rows in one group of a Parquet file.
const GROUP: usize = 128 << 10;

/// What a writer that keeps its output has written so far.
#[derive(Clone, Default)]
pub(super) struct Drain(Arc<Mutex<Vec<u8>>>);

impl Write for Drain {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Drain {
    /// Passes it on.
    pub(super) fn pour(&self, out: &mut dyn Write) -> io::Result<()> {
        let bytes = std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner));
        out.write_all(&bytes)
    }
}

/// A batch in the schema that the file began with. Rows that came later may have wider columns; a
/// file that has its schema already can only take them as text, or not at all.
fn fitted(batch: &RecordBatch, schema: &SchemaRef) -> Result<RecordBatch, ExportError> {
    if batch.schema_ref().fields() == schema.fields() {
        return Ok(batch.clone());
    }
    match common_schema(schema, &batch.schema()) {
        Some(common) if common.fields() == schema.fields() => Ok(widen_batch(batch, schema)?),
        _ => Err(ExportError::Format(
            "columns became wider or turned up after the file was begun; export the result again from its kept rows"
                .into(),
        )),
    }
}

#[derive(Default)]
pub(super) struct Arrow {
    writer: Option<(FileWriter<Drain>, SchemaRef)>,
    drain: Drain,
}

impl Exporter for Arrow {
    fn columns(&mut self, schema: &Schema, out: &mut dyn Write) -> Result<(), ExportError> {
        if self.writer.is_some() {
            return Err(ExportError::Format("an Arrow file holds one result".into()));
        }
        let schema = Arc::new(schema.clone());
        self.writer = Some((FileWriter::try_new(self.drain.clone(), &schema)?, schema));
        Ok(self.drain.pour(out)?)
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        if let Some((writer, schema)) = &mut self.writer {
            writer.write(&fitted(batch, schema)?)?;
        }
        Ok(self.drain.pour(out)?)
    }

    fn finish(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        if let Some((writer, _)) = &mut self.writer {
            writer.finish()?;
        }
        Ok(self.drain.pour(out)?)
    }
}

#[derive(Default)]
pub(super) struct Parquet {
    writer: Option<ArrowWriter<Drain>>,
    begun: bool,
    /// The schema of the rows, and of the file.
    schemas: Option<(SchemaRef, SchemaRef)>,
    drain: Drain,
}

fn parquet_error(error: ParquetError) -> ExportError {
    ExportError::Format(error.to_string())
}

/// Parquet has no columns of several types, and other readers none without a type: those are text.
/// Names are told apart, since readers find columns by them.
fn parquet_schema(schema: &Schema) -> Schema {
    let names = super::json::unique_names(schema.fields());
    let field = |(field, name): (&Arc<Field>, String)| {
        let text = is_mixed(field.data_type()) || *field.data_type() == DataType::Null;
        let kind = if text { DataType::Utf8 } else { field.data_type().clone() };
        Field::new(name, kind, true)
    };
    Schema::new(schema.fields().iter().zip(names).map(field).collect::<Vec<_>>())
}

fn parquet_column(column: &ArrayRef, rows: usize) -> ArrayRef {
    if *column.data_type() == DataType::Null {
        return new_null_array(&DataType::Utf8, rows);
    }
    if !is_mixed(column.data_type()) {
        return Arc::clone(column);
    }
    let reader = ColumnReader::new(column);
    let text = |row| Some(reader.get(row)).filter(|cell| cell.kind != CellKind::Null).map(|cell| cell.text);
    Arc::new((0..rows).map(text).collect::<StringArray>())
}

impl Exporter for Parquet {
    fn columns(&mut self, schema: &Schema, out: &mut dyn Write) -> Result<(), ExportError> {
        if std::mem::replace(&mut self.begun, true) {
            return Err(ExportError::Format("a Parquet file holds one result".into()));
        }
        let written = Arc::new(parquet_schema(schema));
        let properties = WriterProperties::builder()
            .set_compression(Compression::SNAPPY)
            .set_max_row_group_row_count(Some(GROUP))
            // Older readers do not know page indexes.
            .set_statistics_enabled(EnabledStatistics::Chunk)
            .set_offset_index_disabled(true)
            .build();
        let writer = ArrowWriter::try_new(self.drain.clone(), Arc::clone(&written), Some(properties));
        self.writer = Some(writer.map_err(parquet_error)?);
        self.schemas = Some((Arc::new(schema.clone()), written));
        Ok(self.drain.pour(out)?)
    }

    fn batch(&mut self, batch: &RecordBatch, out: &mut dyn Write) -> Result<(), ExportError> {
        if let (Some(writer), Some((read, written))) = (&mut self.writer, &self.schemas) {
            let batch = fitted(batch, read)?;
            let columns = batch.columns().iter().map(|column| parquet_column(column, batch.num_rows())).collect();
            let batch = RecordBatch::try_new(Arc::clone(written), columns)?;
            writer.write(&batch).map_err(parquet_error)?;
        }
        Ok(self.drain.pour(out)?)
    }

    fn finish(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        if let Some(writer) = self.writer.take() {
            writer.close().map_err(parquet_error)?;
        }
        Ok(self.drain.pour(out)?)
    }
}
