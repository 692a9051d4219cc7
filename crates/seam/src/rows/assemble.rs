//! From single values to record batches, for databases that give each value its own type.
//!
//! A column has the type of its values. While it holds only NULLs it has Arrow's null type; when a
//! value of another type than before comes, it becomes a column of [mixed](super::widen) values.
//! Nothing is converted: `1`, `1.0` and `'1'` in one column stay what they are.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::builder::{ArrayBuilder, BinaryBuilder, Float64Builder, Int64Builder, StringBuilder};
use arrow_array::{Array, ArrayRef, BinaryArray, NullArray, RecordBatch, RecordBatchOptions, StringArray};
use arrow_schema::{ArrowError, DataType, Field, Schema, SchemaRef};

use crate::rows::form::TEXT_FORM;
use crate::rows::origin::Origin;
use crate::rows::widen::{MixedBuilder, is_mixed, mixed_type, widen};
use crate::rows::{BATCH_BYTES, BATCH_ROWS, DB_TYPE, OF_DOCUMENTS, TYPED_AS, WHOLE_AS};

/// One value of one row.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Value<'a> {
    /// No value.
    Null,
    /// A whole number.
    Int(i64),
    /// A floating-point number.
    Real(f64),
    /// Text.
    Text(&'a str),
    /// What the database calls text, not yet looked at: what is no UTF-8 among it stays bytes.
    RawText(&'a [u8]),
    /// Bytes.
    Bytes(&'a [u8]),
    /// A value of a type that only the database knows: the name of the type, and the value as text.
    Typed(&'a str, &'a str),
}

impl<'a> Value<'a> {
    /// The value with raw text told apart into text and bytes.
    pub fn settled(self) -> Value<'a> {
        match self {
            Value::RawText(bytes) => std::str::from_utf8(bytes).map_or(Value::Bytes(bytes), Value::Text),
            value => value,
        }
    }
}

enum Builder {
    Nulls(usize),
    Int(Int64Builder),
    Real(Float64Builder),
    /// Its bytes are looked at when the batch is taken: a whole batch at once costs far less than
    /// value by value.
    Text(BinaryBuilder),
    Bytes(BinaryBuilder),
    /// Texts of one type of the database.
    Typed(String, StringBuilder),
    Mixed(Box<MixedBuilder>),
}

impl Builder {
    fn data_type(&self) -> DataType {
        match self {
            Builder::Nulls(_) => DataType::Null,
            Builder::Int(_) => DataType::Int64,
            Builder::Real(_) => DataType::Float64,
            Builder::Text(_) | Builder::Typed(..) => DataType::Utf8,
            Builder::Bytes(_) => DataType::Binary,
            Builder::Mixed(_) => mixed_type(),
        }
    }

    /// The type of the database that all of its texts are of.
    fn typed_as(&self) -> Option<&str> {
        if let Builder::Typed(kind, _) = self { Some(kind) } else { None }
    }

    #[inline]
    fn push(&mut self, value: Value<'_>) -> Result<(), ArrowError> {
        match (&mut *self, value) {
            (Builder::Int(b), Value::Int(v)) => b.append_value(v),
            (Builder::Text(b), Value::RawText(v)) => b.append_value(v),
            (Builder::Text(b), Value::Text(v)) => b.append_value(v),
            (Builder::Real(b), Value::Real(v)) => b.append_value(v),
            (Builder::Bytes(b), Value::Bytes(v)) => b.append_value(v),
            (Builder::Typed(own, b), Value::Typed(kind, v)) if own == kind => b.append_value(v),
            (Builder::Mixed(b), v) => b.push(v.settled()),
            (Builder::Int(b), Value::Null) => b.append_null(),
            (Builder::Text(b), Value::Null) => b.append_null(),
            (Builder::Real(b), Value::Null) => b.append_null(),
            (Builder::Bytes(b), Value::Null) => b.append_null(),
            (Builder::Typed(_, b), Value::Null) => b.append_null(),
            (Builder::Nulls(n), Value::Null) => *n += 1,
            (_, v) => return self.change_for(v),
        }
        Ok(())
    }

    /// Takes on a type in which `value` has a place.
    #[cold]
    fn change_for(&mut self, value: Value<'_>) -> Result<(), ArrowError> {
        let value = value.settled();
        let kind = self.typed_as().map(|kind| (TYPED_AS.to_owned(), kind.to_owned()));
        let before = self.finish()?;
        let mut changed = match (before.data_type(), value) {
            (DataType::Null, Value::Int(_)) => Builder::Int(Int64Builder::new()),
            (DataType::Null, Value::Real(_)) => Builder::Real(Float64Builder::new()),
            (DataType::Null, Value::Text(_)) => Builder::Text(BinaryBuilder::new()),
            (DataType::Null, Value::Bytes(_)) => Builder::Bytes(BinaryBuilder::new()),
            (DataType::Null, Value::Typed(kind, _)) => Builder::Typed(kind.to_owned(), StringBuilder::new()),
            _ => Builder::Mixed(Box::default()),
        };
        match &mut changed {
            Builder::Mixed(mixed) => {
                let field = Field::new("", before.data_type().clone(), true)
                    .with_metadata(kind.into_iter().collect::<HashMap<_, _>>());
                mixed.extend(&widen(&before, &field, &mixed_type())?)?;
            }
            other => (0..before.len()).try_for_each(|_| other.push(Value::Null))?,
        }
        *self = changed;
        self.push(value)
    }

    /// The column so far. The builder begins anew, with room for as much as there was: growing in
    /// steps would copy every value again.
    fn finish(&mut self) -> Result<ArrayRef, ArrowError> {
        Ok(match self {
            Builder::Nulls(n) => Arc::new(NullArray::new(std::mem::take(n))),
            Builder::Int(b) => {
                let full = Int64Builder::with_capacity(b.len());
                Arc::new(std::mem::replace(b, full).finish())
            }
            Builder::Real(b) => {
                let full = Float64Builder::with_capacity(b.len());
                Arc::new(std::mem::replace(b, full).finish())
            }
            Builder::Text(b) => {
                let full = BinaryBuilder::with_capacity(b.len(), b.values_slice().len().min(2 * BATCH_BYTES));
                let bytes = std::mem::replace(b, full).finish();
                match StringArray::try_from_binary(bytes.clone()) {
                    Ok(text) => Arc::new(text),
                    Err(_) => self.mixed_from(&bytes),
                }
            }
            Builder::Bytes(b) => {
                let full = BinaryBuilder::with_capacity(b.len(), b.values_slice().len().min(2 * BATCH_BYTES));
                Arc::new(std::mem::replace(b, full).finish())
            }
            Builder::Typed(_, b) => {
                let full = StringBuilder::with_capacity(b.len(), b.values_slice().len().min(2 * BATCH_BYTES));
                Arc::new(std::mem::replace(b, full).finish())
            }
            Builder::Mixed(b) => b.finish(),
        })
    }

    /// The column of text with bytes among it, which from now on is a mixed one.
    #[cold]
    fn mixed_from(&mut self, bytes: &BinaryArray) -> ArrayRef {
        let mut mixed = Box::<MixedBuilder>::default();
        for value in bytes {
            mixed.push(value.map_or(Value::Null, |bytes| Value::RawText(bytes).settled()));
        }
        let column = mixed.finish();
        *self = Builder::Mixed(mixed);
        column
    }
}

/// Where one value of a row goes. A row whose columns do not all get one is not whole.
pub struct Place<'a> {
    builder: &'a mut Builder,
    /// Bytes of the rows that have not been taken yet.
    bytes: &'a mut usize,
}

impl Place<'_> {
    /// Puts a whole number.
    #[inline]
    pub fn int(self, value: i64) -> Result<(), ArrowError> {
        match self.builder {
            Builder::Int(builder) => builder.append_value(value),
            other => return other.push(Value::Int(value)),
        }
        Ok(())
    }

    /// Puts a floating-point number.
    #[inline]
    pub fn real(self, value: f64) -> Result<(), ArrowError> {
        match self.builder {
            Builder::Real(builder) => builder.append_value(value),
            other => return other.push(Value::Real(value)),
        }
        Ok(())
    }

    /// Puts what the database calls text, as [`Value::RawText`].
    #[inline]
    pub fn raw_text(self, value: &[u8]) -> Result<(), ArrowError> {
        *self.bytes += value.len();
        match self.builder {
            Builder::Text(builder) => builder.append_value(value),
            other => return other.push(Value::RawText(value)),
        }
        Ok(())
    }

    /// Puts any value.
    #[inline]
    pub fn value(self, value: Value<'_>) -> Result<(), ArrowError> {
        *self.bytes += match value {
            Value::Text(text) | Value::Typed(_, text) => text.len(),
            Value::RawText(bytes) | Value::Bytes(bytes) => bytes.len(),
            Value::Null | Value::Int(_) | Value::Real(_) => 0,
        };
        self.builder.push(value)
    }
}

/// A column as the database announces it.
#[derive(Debug, Clone, Default)]
pub struct Announced {
    /// Its name.
    pub name: String,
    /// The declared type; empty for an expression.
    pub db_type: String,
    /// Where it comes from, if the database tells.
    pub origin: Option<Origin>,
    /// It is a field of documents.
    pub of_documents: bool,
}

/// The types whose texts are numbers.
const NUMBERS: [&str; 3] = ["decimal", "int", "long"];

/// Builds batches row by row.
pub struct Assembler {
    announced: Vec<Announced>,
    builders: Vec<Builder>,
    rows: usize,
    bytes: usize,
}

impl Assembler {
    /// For a result with these columns.
    pub fn new(announced: Vec<Announced>) -> Self {
        let builders = announced.iter().map(|_| Builder::Nulls(0)).collect();
        Assembler { announced, builders, rows: 0, bytes: 0 }
    }

    /// Adds a column behind the others: in the rows that were not taken yet it is NULL.
    pub fn add_column(&mut self, announced: Announced) {
        self.announced.push(announced);
        self.builders.push(Builder::Nulls(self.rows));
    }

    /// Adds one row, its values in the order of the columns. Returns whether the batch is full.
    #[inline]
    pub fn push_row<'v>(&mut self, mut value: impl FnMut(usize) -> Value<'v>) -> Result<bool, ArrowError> {
        self.push_row_by(|column, place| place.value(value(column)))
    }

    /// Adds one row, each value put where it belongs as soon as its type is known: what an engine has told apart is not
    /// told apart again. Returns whether the batch is full.
    #[inline]
    pub fn push_row_by(
        &mut self,
        mut put: impl FnMut(usize, Place<'_>) -> Result<(), ArrowError>,
    ) -> Result<bool, ArrowError> {
        let bytes = &mut self.bytes;
        for (column, builder) in self.builders.iter_mut().enumerate() {
            put(column, Place { builder, bytes })?;
        }
        self.rows += 1;
        Ok(self.rows >= BATCH_ROWS || self.bytes >= BATCH_BYTES)
    }

    /// Rows that have not been taken yet.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// The schema as known so far.
    pub fn schema(&self) -> SchemaRef {
        self.schema_of(self.builders.iter().map(Builder::data_type))
    }

    fn schema_of(&self, types: impl Iterator<Item = DataType>) -> SchemaRef {
        let fields = self.announced.iter().zip(&self.builders).zip(types).map(|((announced, builder), data_type)| {
            let field = Field::new(&announced.name, data_type, true);
            let db_type = (DB_TYPE.to_owned(), announced.db_type.clone());
            let origin = announced.origin.iter().flat_map(Origin::metadata);
            let mut metadata: HashMap<_, _> = std::iter::once(db_type).chain(origin).collect();
            if announced.of_documents {
                metadata.insert(OF_DOCUMENTS.to_owned(), String::new());
            }
            if let Some(kind) = builder.typed_as() {
                metadata.insert(TYPED_AS.to_owned(), kind.to_owned());
                metadata.insert(DB_TYPE.to_owned(), kind.to_owned());
                if NUMBERS.contains(&kind) {
                    metadata.insert(TEXT_FORM.to_owned(), "number".to_owned());
                }
            } else if announced.of_documents && is_mixed(field.data_type()) {
                metadata.insert(DB_TYPE.to_owned(), "mixed".to_owned());
                if announced.db_type == "long" {
                    metadata.insert(WHOLE_AS.to_owned(), announced.db_type.clone());
                }
            }
            field.with_metadata(metadata)
        });
        Arc::new(Schema::new(fields.collect::<Vec<_>>()))
    }

    /// Takes the rows so far as a batch.
    pub fn take(&mut self) -> Result<RecordBatch, ArrowError> {
        let columns = self.builders.iter_mut().map(Builder::finish).collect::<Result<Vec<_>, _>>()?;
        let schema = self.schema_of(columns.iter().map(|column| column.data_type().clone()));
        let options = RecordBatchOptions::new().with_row_count(Some(std::mem::take(&mut self.rows)));
        self.bytes = 0;
        RecordBatch::try_new_with_options(schema, columns, &options)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rows::cell::column_text;

    fn assembled(values: &[Value<'_>]) -> RecordBatch {
        let mut assembler =
            Assembler::new(vec![Announced { name: "a".into(), db_type: String::new(), ..Announced::default() }]);
        for value in values {
            assembler.push_row(|_| *value).unwrap();
        }
        assembler.take().unwrap()
    }

    #[test]
    fn a_column_has_the_type_of_its_values() {
        use Value::*;
        for (values, expected) in [
            (vec![], DataType::Null),
            (vec![Null, Null], DataType::Null),
            (vec![Null, Int(1), Null], DataType::Int64),
            (vec![Real(1.5), Null], DataType::Float64),
            (vec![Null, Text("a")], DataType::Utf8),
            (vec![Bytes(&[1])], DataType::Binary),
            (vec![Int(1), Real(1.5)], mixed_type()),
            (vec![RawText(b"a"), Null], DataType::Utf8),
            (vec![Null, Typed("date", "2031-03-05")], DataType::Utf8),
            (vec![Typed("date", "2031-03-05"), Text("a")], mixed_type()),
            (vec![Typed("date", "2031-03-05"), Typed("objectId", "65")], mixed_type()),
            (vec![RawText(b"a"), RawText(b"\xff")], mixed_type()),
        ] {
            let batch = assembled(&values);
            assert_eq!(batch.schema().field(0).data_type(), &expected, "{values:?}");
            assert_eq!(batch.num_rows(), values.len());
        }
    }

    #[test]
    fn mixed_values_stay_what_they_are() {
        use Value::*;
        let batch = assembled(&[Null, Int(1), Null, Text("1"), Real(1.0), Bytes(&[255]), Int(2), RawText(b"\xfe")]);
        assert_eq!(column_text(batch.column(0)), ["∅", "1", "∅", "1", "1.0", "ff", "2", "fe"]);
        let batch = assembled(&[RawText("é".as_bytes()), Null, RawText(b"\xc3"), RawText(b"\xa9")]);
        assert_eq!(column_text(batch.column(0)), ["é", "∅", "c3", "a9"], "halves of a character are not text");
    }

    #[test]
    fn a_batch_is_full_by_rows_and_by_bytes() {
        let announced = || vec![Announced { name: "a".into(), db_type: String::new(), ..Announced::default() }];
        let mut assembler = Assembler::new(announced());
        let rows = (1..).find(|_| assembler.push_row(|_| Value::Int(1)).unwrap());
        assert_eq!(rows, Some(BATCH_ROWS));
        let long = "x".repeat(1 << 20);
        let mut assembler = Assembler::new(announced());
        let rows = (1..).find(|_| assembler.push_row(|_| Value::Text(&long)).unwrap());
        assert_eq!(rows, Some(4));
    }
}
