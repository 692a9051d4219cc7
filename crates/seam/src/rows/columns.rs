//! From typed values to record batches, for databases whose columns have types.
//!
//! An engine announces each column's type and appends values of that type. Now and then a database
//! holds a value that its type has no room for: a number that is none, a date of all zeros. From
//! that value on the column is one of text, in the server's own form ([`Columns::become_text`]);
//! what was sent before widens to it.

use std::ops::Range;
use std::sync::Arc;

use arrow_array::builder::{
    ArrayBuilder, BinaryBuilder, BooleanBuilder, Date32Builder, Decimal128Builder, Float32Builder, Float64Builder,
    Int16Builder, Int32Builder, Int64Builder, StringBuilder, Time64MicrosecondBuilder, Time64NanosecondBuilder,
    TimestampMicrosecondBuilder, TimestampNanosecondBuilder, UInt32Builder, UInt64Builder,
};
use arrow_array::{Array, ArrayRef, BinaryArray, RecordBatch, RecordBatchOptions, StringArray};
use arrow_buffer::{Buffer, OffsetBuffer, ScalarBuffer};
use arrow_schema::{ArrowError, DataType, Field, Schema, SchemaRef, TimeUnit};

use crate::rows::form::{TEXT_FORM, TextForm};
use crate::rows::origin::Origin;
use crate::rows::widen::as_text;
use crate::rows::{BATCH_BYTES, BATCH_ROWS, DB_TYPE};

/// The values of one column that have not been taken yet.
#[derive(Debug)]
pub enum Cells {
    /// True or false.
    Bool(BooleanBuilder),
    /// Whole numbers of 16 bits.
    I16(Int16Builder),
    /// Whole numbers of 32 bits.
    I32(Int32Builder),
    /// Whole numbers of 64 bits.
    I64(Int64Builder),
    /// Whole numbers of 32 bits without a sign.
    U32(UInt32Builder),
    /// Whole numbers of 64 bits without a sign.
    U64(UInt64Builder),
    /// Floating-point numbers of 32 bits.
    F32(Float32Builder),
    /// Floating-point numbers of 64 bits.
    F64(Float64Builder),
    /// Numbers with a fixed count of digits, and of those behind the point.
    Decimal(Decimal128Builder, u8, i8),
    /// Text.
    Text(StringBuilder),
    /// Bytes.
    Bytes(BinaryBuilder),
    /// Days since 1970-01-01.
    Date(Date32Builder),
    /// Microseconds since midnight.
    Time(Time64MicrosecondBuilder),
    /// Nanoseconds since midnight.
    TimeNanos(Time64NanosecondBuilder),
    /// Nanoseconds since 1970: from 1677 to 2262.
    TimestampNanos(TimestampNanosecondBuilder),
    /// Microseconds since 1970, in a time zone where one is named.
    Timestamp(TimestampMicrosecondBuilder, Option<Arc<str>>),
}

impl Cells {
    /// An empty column of text.
    pub fn text() -> Cells {
        Cells::Text(StringBuilder::new())
    }

    /// An empty column of decimals, or of text where they have too many digits.
    pub fn decimal(precision: u8, scale: i8) -> Cells {
        match Decimal128Builder::new().with_precision_and_scale(precision, scale) {
            Ok(builder) => Cells::Decimal(builder, precision, scale),
            Err(_) => Cells::text(),
        }
    }

    /// An empty column of points in time.
    pub fn timestamp(zone: Option<&str>) -> Cells {
        let zone: Option<Arc<str>> = zone.map(Arc::from);
        Cells::Timestamp(TimestampMicrosecondBuilder::new().with_timezone_opt(zone.clone()), zone)
    }

    /// The Arrow type.
    pub fn data_type(&self) -> DataType {
        match self {
            Cells::Bool(_) => DataType::Boolean,
            Cells::I16(_) => DataType::Int16,
            Cells::I32(_) => DataType::Int32,
            Cells::I64(_) => DataType::Int64,
            Cells::U32(_) => DataType::UInt32,
            Cells::U64(_) => DataType::UInt64,
            Cells::F32(_) => DataType::Float32,
            Cells::F64(_) => DataType::Float64,
            Cells::Decimal(_, precision, scale) => DataType::Decimal128(*precision, *scale),
            Cells::Text(_) => DataType::Utf8,
            Cells::Bytes(_) => DataType::Binary,
            Cells::Date(_) => DataType::Date32,
            Cells::Time(_) => DataType::Time64(TimeUnit::Microsecond),
            Cells::TimeNanos(_) => DataType::Time64(TimeUnit::Nanosecond),
            Cells::TimestampNanos(_) => DataType::Timestamp(TimeUnit::Nanosecond, None),
            Cells::Timestamp(_, zone) => DataType::Timestamp(TimeUnit::Microsecond, zone.clone()),
        }
    }

    /// Appends NULL.
    pub fn null(&mut self) {
        match self {
            Cells::Bool(b) => b.append_null(),
            Cells::I16(b) => b.append_null(),
            Cells::I32(b) => b.append_null(),
            Cells::I64(b) => b.append_null(),
            Cells::U32(b) => b.append_null(),
            Cells::U64(b) => b.append_null(),
            Cells::F32(b) => b.append_null(),
            Cells::F64(b) => b.append_null(),
            Cells::Decimal(b, ..) => b.append_null(),
            Cells::Text(b) => b.append_null(),
            Cells::Bytes(b) => b.append_null(),
            Cells::Date(b) => b.append_null(),
            Cells::Time(b) => b.append_null(),
            Cells::TimeNanos(b) => b.append_null(),
            Cells::TimestampNanos(b) => b.append_null(),
            Cells::Timestamp(b, _) => b.append_null(),
        }
    }

    /// The values so far. The builder begins anew, with room for as much as there was: growing in steps would copy
    /// every value again.
    fn finish(&mut self) -> ArrayRef {
        /// Ends a builder of numbers and leaves an empty one.
        macro_rules! numbers {
            ($builder:ident, $new:ident) => {{
                let full = $new::with_capacity($builder.len());
                Arc::new(std::mem::replace($builder, full).finish())
            }};
            ($builder:ident, $new:ident, typed) => {{
                let full = $new::with_capacity($builder.len());
                let typed = std::mem::take($builder).finish();
                *$builder = full.with_data_type(typed.data_type().clone());
                Arc::new(typed)
            }};
        }
        /// Ends a builder of text or bytes and leaves an empty one.
        macro_rules! bytes {
            ($builder:ident, $new:ident) => {{
                let room = $builder.values_slice().len().min(2 * BATCH_BYTES);
                let full = $new::with_capacity($builder.len(), room);
                Arc::new(std::mem::replace($builder, full).finish())
            }};
        }
        match self {
            Cells::Bool(b) => numbers!(b, BooleanBuilder),
            Cells::I16(b) => numbers!(b, Int16Builder),
            Cells::I32(b) => numbers!(b, Int32Builder),
            Cells::I64(b) => numbers!(b, Int64Builder),
            Cells::U32(b) => numbers!(b, UInt32Builder),
            Cells::U64(b) => numbers!(b, UInt64Builder),
            Cells::F32(b) => numbers!(b, Float32Builder),
            Cells::F64(b) => numbers!(b, Float64Builder),
            Cells::Decimal(b, ..) => numbers!(b, Decimal128Builder, typed),
            Cells::Text(b) => bytes!(b, StringBuilder),
            Cells::Bytes(b) => bytes!(b, BinaryBuilder),
            Cells::Date(b) => numbers!(b, Date32Builder),
            Cells::Time(b) => numbers!(b, Time64MicrosecondBuilder),
            Cells::TimeNanos(b) => numbers!(b, Time64NanosecondBuilder),
            Cells::TimestampNanos(b) => numbers!(b, TimestampNanosecondBuilder),
            Cells::Timestamp(b, _) => numbers!(b, TimestampMicrosecondBuilder, typed),
        }
    }
}

/// A column as the database announces it.
#[derive(Debug)]
pub struct Typed {
    /// Its name.
    pub name: String,
    /// The database's name of its type.
    pub db_type: String,
    /// Where it comes from, if the database tells.
    pub origin: Option<Origin>,
    /// How its values are written.
    pub form: TextForm,
    /// Where its values go.
    pub cells: Cells,
}

/// Builds batches of typed columns, row by row.
#[derive(Debug)]
pub struct Columns {
    columns: Vec<Typed>,
    rows: usize,
    bytes: usize,
    /// Values of the row that is begun which were not copied, by their columns.
    held: Vec<(usize, ArrayRef)>,
}

/// Bytes that values lie in, as they arrived.
pub struct Arrived(Buffer);

impl Arrived {
    /// Takes the bytes over, or shares them with who has them too.
    pub fn of(bytes: impl Into<Buffer>) -> Arrived {
        Arrived(bytes.into())
    }

    /// The bytes.
    pub fn bytes(&self) -> &[u8] {
        &self.0
    }

    /// Where a part of them lies.
    fn place(&self, part: &[u8]) -> Option<Range<usize>> {
        let start = (part.as_ptr() as usize).checked_sub(self.0.as_ptr() as usize)?;
        let end = start.checked_add(part.len())?;
        (end <= self.0.len()).then_some(start..end)
    }
}

impl Columns {
    /// For a result with these columns.
    pub fn new(columns: Vec<Typed>) -> Columns {
        Columns { columns, rows: 0, bytes: 0, held: Vec::new() }
    }

    /// The schema as known so far.
    pub fn schema(&self) -> SchemaRef {
        Arc::new(Schema::new(self.columns.iter().map(field).collect::<Vec<_>>()))
    }

    /// How many columns there are.
    pub fn len(&self) -> usize {
        self.columns.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.columns.is_empty()
    }

    /// Where the next value of a column goes. Each column gets one value a row.
    #[inline]
    pub fn cells(&mut self, column: usize) -> &mut Cells {
        &mut self.columns[column].cells
    }

    /// Makes a column one of text.
    #[cold]
    pub fn become_text(&mut self, column: usize) -> Result<&mut StringBuilder, ArrowError> {
        let column = &mut self.columns[column];
        if !matches!(column.cells, Cells::Text(_)) {
            let (before, was) = (column.cells.finish(), field(column));
            let mut text = StringBuilder::new();
            as_text(&before, &was).iter().for_each(|value: Option<&str>| text.append_option(value));
            let number = matches!(column.cells, Cells::Decimal(..) | Cells::F32(_) | Cells::F64(_));
            column.cells = Cells::Text(text);
            column.form = if number { TextForm::Number } else { TextForm::Plain };
        }
        match &mut column.cells {
            Cells::Text(text) => Ok(text),
            other => Err(ArrowError::CastError(format!("{} is not text", other.data_type()))),
        }
    }

    /// Ends a row that took so many bytes. Returns whether the batch is full.
    #[inline]
    pub fn end_row(&mut self, bytes: usize) -> bool {
        self.rows += 1;
        self.bytes += bytes;
        self.rows >= BATCH_ROWS || self.bytes >= BATCH_BYTES
    }

    /// Rows that have not been taken yet.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// Has a value of the row that is begun without copying it: it lies in what arrived. That row has to be alone in its
    /// batch. `false` where the column is not one of text or bytes, the bytes are not text, or lie elsewhere: the value
    /// has to be appended then.
    pub fn hold(&mut self, column: usize, arrived: &Arrived, value: &[u8]) -> bool {
        let Some(typed) = self.columns.get(column).filter(|_| self.rows == 0) else { return false };
        let Some(at) = arrived.place(value) else { return false };
        let Ok(length) = i32::try_from(at.len()) else { return false };
        let offsets = OffsetBuffer::new(ScalarBuffer::from(vec![0, length]));
        let value = arrived.0.slice_with_length(at.start, at.len());
        let array: Option<ArrayRef> = match &typed.cells {
            Cells::Text(_) => StringArray::try_new(offsets, value, None).ok().map(|array| Arc::new(array) as ArrayRef),
            Cells::Bytes(_) => BinaryArray::try_new(offsets, value, None).ok().map(|array| Arc::new(array) as ArrayRef),
            _ => None,
        };
        let is_held = array.is_some();
        self.held.extend(array.map(|array| (column, array)));
        is_held
    }

    /// Takes the rows so far as a batch.
    pub fn take(&mut self) -> Result<RecordBatch, ArrowError> {
        let schema = self.schema();
        let rows = std::mem::take(&mut self.rows);
        // A row that was begun and could not be ended is left out.
        let whole = |all: ArrayRef| if all.len() == rows + 1 { all.slice(0, rows) } else { all };
        let mut columns: Vec<ArrayRef> = self.columns.iter_mut().map(|column| whole(column.cells.finish())).collect();
        for (column, array) in self.held.drain(..) {
            if let Some(place) = columns.get_mut(column) {
                *place = array;
            }
        }
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        self.bytes = 0;
        RecordBatch::try_new_with_options(schema, columns, &options)
    }
}

fn field(column: &Typed) -> Field {
    let mut metadata = vec![(DB_TYPE.to_owned(), column.db_type.clone())];
    metadata.extend(column.origin.iter().flat_map(Origin::metadata));
    if column.form != TextForm::Plain {
        metadata.push((TEXT_FORM.to_owned(), column.form.word()));
    }
    Field::new(&column.name, column.cells.data_type(), true)
        .with_metadata(metadata.into_iter().collect::<std::collections::HashMap<_, _>>())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rows::cell::{CellKind, ColumnReader};
    use crate::rows::widen::{common_schema, widen_batch};

    #[test]
    fn a_long_value_is_not_copied() {
        let typed = |name: &str, cells| Typed {
            name: name.into(),
            db_type: String::new(),
            origin: None,
            form: TextForm::Plain,
            cells,
        };
        let bytes = Cells::Bytes(Default::default());
        let numbers = Cells::I16(Default::default());
        let mut columns = Columns::new(vec![typed("n", numbers), typed("log", Cells::text()), typed("raw", bytes)]);
        let arrived = Arrived::of(b"..tide and fog\xFF".to_vec());
        let place = arrived.bytes().as_ptr();
        columns.cells(0).null();
        let part = |range| &arrived.bytes()[range];
        assert!(!columns.hold(0, &arrived, part(0..2)), "numbers");
        assert!(!columns.hold(1, &arrived, part(9..15)), "bytes that are not text");
        assert!(!columns.hold(1, &arrived, b"tide"), "what lies elsewhere");
        assert!(columns.hold(1, &arrived, part(2..6)) && columns.hold(2, &arrived, part(14..15)));
        columns.end_row(15);
        let batch = columns.take().unwrap();
        let readers = ColumnReader::all(&batch);
        assert_eq!([1, 2].map(|column: usize| readers[column].get(0).text.into_owned()), ["tide", "ff"]);
        let text = batch.column(1).as_any().downcast_ref::<StringArray>().unwrap();
        assert_eq!(text.value(0).as_ptr(), place.wrapping_add(2));
        // The row after it is as any other.
        [0, 1, 2].into_iter().for_each(|column| columns.cells(column).null());
        columns.end_row(0);
        assert_eq!(columns.take().unwrap().num_rows(), 1);
    }

    #[test]
    fn a_row_that_was_begun_and_not_ended_is_left_out() {
        let typed = |name: &str| Typed {
            name: name.into(),
            db_type: String::new(),
            origin: None,
            form: TextForm::Plain,
            cells: Cells::text(),
        };
        let mut columns = Columns::new(vec![typed("port"), typed("name")]);
        for column in [0, 1] {
            columns.cells(column).null();
        }
        columns.end_row(2);
        columns.cells(0).null();
        let batch = columns.take().unwrap();
        assert_eq!((batch.num_rows(), batch.num_columns()), (1, 2));
    }

    #[test]
    fn a_value_without_room_makes_the_column_text_and_what_came_before_widens() {
        let cells = || Cells::decimal(9, 2);
        let typed = Typed {
            name: "price".into(),
            db_type: "numeric(9,2)".into(),
            origin: None,
            form: TextForm::Plain,
            cells: cells(),
        };
        let mut columns = Columns::new(vec![typed]);
        let append = |columns: &mut Columns, value| match columns.cells(0) {
            Cells::Decimal(b, ..) => b.append_value(value),
            other => panic!("{other:?}"),
        };
        append(&mut columns, 1250);
        columns.end_row(8);
        let before = columns.take().unwrap();
        append(&mut columns, -5);
        columns.end_row(8);
        columns.become_text(0).unwrap().append_value("NaN");
        columns.end_row(8);
        let after = columns.take().unwrap();
        let wide = Arc::new(common_schema(&before.schema(), &after.schema()).unwrap());
        let texts: Vec<_> = [before, after]
            .iter()
            .flat_map(|batch| {
                let batch = widen_batch(batch, &wide).unwrap();
                let reader = ColumnReader::of(batch.column(0), &wide.fields()[0]);
                (0..batch.num_rows())
                    .map(|row| reader.get(row))
                    .map(|c| (c.text.into_owned(), c.kind))
                    .collect::<Vec<_>>()
            })
            .collect();
        let number = |text: &str| (text.to_owned(), CellKind::Number);
        assert_eq!(texts, [number("12.50"), number("-0.05"), number("NaN")]);
    }
}
