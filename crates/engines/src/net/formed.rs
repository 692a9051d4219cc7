//! Rows on their way to a server that reads some types in its own way only.

use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_array::builder::StringBuilder;
use arrow_schema::{DataType, Field, Schema};
use jaunty_seam::catalog::Column;
use jaunty_seam::engine::load::Load;
use jaunty_seam::error::{EngineError, ErrorKind};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};

/// What a text has to be for the server; none where it is to stay as it is.
pub type Form = fn(&str) -> Option<String>;

/// Rows with each value as the server reads it, by the types of its columns.
pub fn as_read(
    batch: RecordBatch,
    load: &Load<'_>,
    form_of: fn(&Column) -> Option<Form>,
) -> Result<RecordBatch, EngineError> {
    let forms: Vec<_> = load.columns.iter().map(form_of).collect();
    if forms.iter().all(Option::is_none) {
        return Ok(batch);
    }
    let (mut fields, mut columns) = (Vec::new(), Vec::new());
    let schema = batch.schema();
    for ((column, field), form) in batch.columns().iter().zip(schema.fields()).zip(forms) {
        let Some(form) = form else {
            fields.push(Arc::clone(field));
            columns.push(Arc::clone(column));
            continue;
        };
        let (reader, mut scratch, mut texts) = (ColumnReader::of(column, field), String::new(), StringBuilder::new());
        for row in 0..batch.num_rows() {
            scratch.clear();
            match reader.put(row, &mut scratch) {
                CellKind::Null => texts.append_null(),
                _ => texts.append_value(form(&scratch).as_deref().unwrap_or(&scratch)),
            }
        }
        fields.push(Arc::new(Field::new(field.name(), DataType::Utf8, true)));
        columns.push(Arc::new(texts.finish()));
    }
    RecordBatch::try_new(Arc::new(Schema::new(fields)), columns)
        .map_err(|error| EngineError::new(ErrorKind::Local, error.to_string()))
}
