//! Columns whose values are of several types.
//!
//! Such a column is an Arrow dense union of whole numbers, floating-point numbers, text, bytes, and texts of other types of
//! the database, each after the name of its type; NULL is an empty whole number. A column becomes *wider* when its type changes from null to
//! anything, or from anything to the union. Wider never loses a value or its type.

use std::sync::{Arc, LazyLock};

use arrow_array::builder::{BinaryBuilder, Float64Builder, Int64Builder, StringBuilder};
use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, RecordBatch, RecordBatchOptions, StringArray, UnionArray, new_null_array};
use arrow_buffer::ScalarBuffer;
use arrow_schema::{ArrowError, DataType, Field, Schema, SchemaRef, UnionFields, UnionMode};

use crate::rows::TYPED_AS;
use crate::rows::assemble::Value;

const INT: i8 = 0;
const REAL: i8 = 1;
const TEXT: i8 = 2;
const BYTES: i8 = 3;
const TYPED: i8 = 4;

/// What stands between the name of a type and the text of a value.
const TYPE_ENDS: char = '\u{1f}';

fn fields() -> UnionFields {
    let all = KINDS.map(|(name, data_type)| Field::new(name, data_type, true));
    UnionFields::from_fields(all)
}

const KINDS: [(&str, DataType); 5] = [
    ("int", DataType::Int64),
    ("real", DataType::Float64),
    ("text", DataType::Utf8),
    ("bytes", DataType::Binary),
    ("typed", DataType::Utf8),
];

/// The type of such columns in archives of before there were typed texts.
fn earlier_type() -> DataType {
    let all = KINDS.into_iter().take(4).map(|(name, data_type)| Field::new(name, data_type, true));
    DataType::Union(UnionFields::from_fields(all), UnionMode::Dense)
}

/// The type of a column of mixed values.
pub fn mixed_type() -> DataType {
    DataType::Union(fields(), UnionMode::Dense)
}

/// Whether a type is that of a column of mixed values.
pub fn is_mixed(data_type: &DataType) -> bool {
    static MIXED: LazyLock<[DataType; 2]> = LazyLock::new(|| [mixed_type(), earlier_type()]);
    matches!(data_type, DataType::Union(..)) && MIXED.contains(data_type)
}

/// Builds a column of mixed values.
#[derive(Default)]
pub struct MixedBuilder {
    types: Vec<i8>,
    offsets: Vec<i32>,
    ints: Int64Builder,
    reals: Float64Builder,
    texts: StringBuilder,
    bytes: BinaryBuilder,
    typed: StringBuilder,
}

impl MixedBuilder {
    /// Adds a value.
    pub fn push(&mut self, value: Value<'_>) {
        let (kind, offset) = match value {
            Value::Null => {
                self.ints.append_null();
                (INT, self.ints.values_slice().len())
            }
            Value::Int(v) => {
                self.ints.append_value(v);
                (INT, self.ints.values_slice().len())
            }
            Value::Real(v) => {
                self.reals.append_value(v);
                (REAL, self.reals.values_slice().len())
            }
            Value::Text(v) => {
                self.texts.append_value(v);
                (TEXT, self.texts.offsets_slice().len() - 1)
            }
            Value::Bytes(v) | Value::RawText(v) => {
                self.bytes.append_value(v);
                (BYTES, self.bytes.offsets_slice().len() - 1)
            }
            Value::Typed(kind, text) => {
                self.typed.append_value(format!("{kind}{TYPE_ENDS}{text}"));
                (TYPED, self.typed.offsets_slice().len() - 1)
            }
        };
        self.types.push(kind);
        // A batch has far fewer rows than 2³¹.
        self.offsets.push(offset as i32 - 1);
    }

    /// Adds the values of a column of mixed values.
    pub fn extend(&mut self, mixed: &ArrayRef) -> Result<(), ArrowError> {
        let union = mixed.as_any().downcast_ref::<UnionArray>();
        let union = union.ok_or_else(|| ArrowError::CastError(format!("{} is not mixed", mixed.data_type())))?;
        (0..union.len()).for_each(|row| self.push(mixed_value(union, row)));
        Ok(())
    }

    /// The column so far; the builder is empty again.
    pub fn finish(&mut self) -> ArrayRef {
        let types = ScalarBuffer::from(std::mem::take(&mut self.types));
        let offsets = ScalarBuffer::from(std::mem::take(&mut self.offsets));
        let children: Vec<ArrayRef> = vec![
            Arc::new(self.ints.finish()),
            Arc::new(self.reals.finish()),
            Arc::new(self.texts.finish()),
            Arc::new(self.bytes.finish()),
            Arc::new(self.typed.finish()),
        ];
        match UnionArray::try_new(fields(), types, Some(offsets), children) {
            Ok(union) => Arc::new(union),
            // The offsets were counted from the children themselves.
            Err(error) => unreachable!("{error}"),
        }
    }
}

/// A value of a column of mixed values.
pub fn mixed_value(union: &UnionArray, row: usize) -> Value<'_> {
    let child = union.child(union.type_id(row));
    let at = union.value_offset(row);
    if child.is_null(at) {
        return Value::Null;
    }
    match union.type_id(row) {
        INT => Value::Int(child.as_primitive::<arrow_array::types::Int64Type>().value(at)),
        REAL => Value::Real(child.as_primitive::<arrow_array::types::Float64Type>().value(at)),
        TEXT => Value::Text(child.as_string::<i32>().value(at)),
        TYPED => {
            let (kind, text) = child.as_string::<i32>().value(at).split_once(TYPE_ENDS).unwrap_or_default();
            Value::Typed(kind, text)
        }
        _ => Value::Bytes(child.as_binary::<i32>().value(at)),
    }
}

/// The type in which values of both types have a place, or `None` if there is none.
fn common(a: &DataType, b: &DataType) -> Option<DataType> {
    let single = |t: &DataType| {
        matches!(t, DataType::Int64 | DataType::Float64 | DataType::Utf8 | DataType::Binary) || is_mixed(t)
    };
    match (a, b) {
        _ if a == b => Some(a.clone()),
        (DataType::Null, other) | (other, DataType::Null) => Some(other.clone()),
        _ if single(a) && single(b) => Some(mixed_type()),
        // A type without room for one of its database's values: all of them are text.
        (typed, DataType::Utf8) | (DataType::Utf8, typed) if is_typed(typed) => Some(DataType::Utf8),
        _ => None,
    }
}

/// The schema that holds rows of both, `b` being that of later ones, which may have further columns behind those of
/// `a`. `None` where the two are of different results.
pub fn common_schema(a: &Schema, b: &Schema) -> Option<Schema> {
    let late = b.fields().get(a.fields().len()..)?;
    let fields = a.fields().iter().zip(b.fields()).map(|(a, b)| {
        let wide = match common(a.data_type(), b.data_type())? {
            // Texts of two types of the database.
            DataType::Utf8
                if typed_as(a) != typed_as(b)
                    && *b.data_type() == DataType::Utf8
                    && *a.data_type() == DataType::Utf8 =>
            {
                mixed_type()
            }
            wide => wide,
        };
        // How values are written is said by the one whose type stays.
        let said = if *b.data_type() == wide { b } else { a };
        (a.name() == b.name()).then(|| said.as_ref().clone().with_data_type(wide))
    });
    let mut fields = fields.collect::<Option<Vec<_>>>()?;
    // The rows before have none of them.
    fields.extend(late.iter().map(|field| field.as_ref().clone().with_nullable(true)));
    Some(Schema::new_with_metadata(fields, a.metadata().clone()))
}

fn is_typed(data_type: &DataType) -> bool {
    use DataType::{Boolean, Date32, Decimal128, Float32, Int16, Int32, Time64, Timestamp, UInt32, UInt64};
    matches!(
        data_type,
        Boolean | Int16 | Int32 | UInt32 | UInt64 | Float32 | Decimal128(..) | Date32 | Time64(_) | Timestamp(..)
    )
}

/// The type of the database that the texts of a column are of, if they are [`Value::Typed`].
pub fn typed_as(field: &Field) -> Option<&str> {
    field.metadata().get(TYPED_AS).map(String::as_str)
}

/// The values of a column in the text form that its field states.
pub fn as_text(column: &ArrayRef, field: &Field) -> StringArray {
    let reader = super::cell::ColumnReader::of(column, field);
    (0..column.len()).map(|row| (!column.is_null(row)).then(|| reader.get(row).text)).collect()
}

/// A column in a wider type. `field` is the one it has.
pub fn widen(column: &ArrayRef, field: &Field, to: &DataType) -> Result<ArrayRef, ArrowError> {
    if column.data_type() == to {
        return Ok(Arc::clone(column));
    }
    if *column.data_type() == DataType::Null {
        if *to != mixed_type() {
            return Ok(new_null_array(to, column.len()));
        }
        let mut builder = MixedBuilder::default();
        (0..column.len()).for_each(|_| builder.push(Value::Null));
        return Ok(builder.finish());
    }
    if *to == DataType::Utf8 && is_typed(column.data_type()) {
        return Ok(Arc::new(as_text(column, field)));
    }
    if common(column.data_type(), to).as_ref() != Some(to) && !(is_mixed(column.data_type()) && *to == mixed_type()) {
        return Err(ArrowError::CastError(format!("{to} is not wider than {}", column.data_type())));
    }
    let mut builder = MixedBuilder::default();
    for row in 0..column.len() {
        builder.push(match column.data_type() {
            _ if column.is_null(row) => Value::Null,
            DataType::Int64 => Value::Int(column.as_primitive::<arrow_array::types::Int64Type>().value(row)),
            DataType::Float64 => Value::Real(column.as_primitive::<arrow_array::types::Float64Type>().value(row)),
            DataType::Utf8 => {
                let text = column.as_string::<i32>().value(row);
                typed_as(field).map_or(Value::Text(text), |kind| Value::Typed(kind, text))
            }
            kind if is_mixed(kind) => mixed_value(column.as_union(), row),
            _ => Value::Bytes(column.as_binary::<i32>().value(row)),
        });
    }
    Ok(builder.finish())
}

/// A batch in a wider schema. Columns that it has not are NULL.
pub fn widen_batch(batch: &RecordBatch, schema: &SchemaRef) -> Result<RecordBatch, ArrowError> {
    let before = batch.schema();
    let columns = batch.columns().iter().zip(before.fields()).zip(schema.fields());
    let columns = columns.map(|((column, from), to)| widen(column, from, to.data_type()));
    let late = schema.fields().iter().skip(batch.num_columns());
    let columns = columns.chain(late.map(|field| Ok(new_null_array(field.data_type(), batch.num_rows()))));
    let options = RecordBatchOptions::new().with_row_count(Some(batch.num_rows()));
    RecordBatch::try_new_with_options(Arc::clone(schema), columns.collect::<Result<_, _>>()?, &options)
}

#[cfg(test)]
mod tests {
    use arrow_array::{BinaryArray, BooleanArray, Float64Array, Int64Array, NullArray};

    use super::*;
    use crate::rows::cell::column_text;

    fn widened(column: &ArrayRef, to: &DataType) -> Result<ArrayRef, ArrowError> {
        widen(column, &Field::new("a", column.data_type().clone(), true), to)
    }

    fn columns() -> Vec<ArrayRef> {
        vec![
            Arc::new(NullArray::new(2)),
            Arc::new(Int64Array::from(vec![Some(7), None])),
            Arc::new(Float64Array::from(vec![Some(7.5), None])),
            Arc::new(StringArray::from(vec![Some("seven"), None])),
            Arc::new(BinaryArray::from(vec![Some(&b"\x07"[..]), None])),
        ]
    }

    #[test]
    fn every_column_widens_to_a_mixed_one_without_a_loss() {
        for column in columns() {
            let wide = widened(&column, &mixed_type()).unwrap();
            assert_eq!(column_text(&wide), column_text(&column));
            assert_eq!(wide.data_type(), &mixed_type());
            let again = widened(&wide, &mixed_type()).unwrap();
            assert_eq!(column_text(&again), column_text(&column), "wide is wide enough");
        }
    }

    #[test]
    fn nothing_but_null_widens_to_anything() {
        let nulls = &columns()[0];
        for other in columns() {
            let wide = widened(nulls, other.data_type()).unwrap();
            assert_eq!((wide.data_type(), column_text(&wide)), (other.data_type(), vec!["∅".to_owned(); 2]));
        }
    }

    #[test]
    fn a_column_never_becomes_narrower() {
        let text = &columns()[3];
        assert!(widened(text, &DataType::Int64).is_err());
        assert!(widened(&widened(text, &mixed_type()).unwrap(), &DataType::Utf8).is_err());
    }

    #[test]
    fn what_is_common_to_two_schemas() {
        let schema = |name: &str, data_type: DataType| Schema::new(vec![Field::new(name, data_type, true)]);
        let common = |a: DataType, b: DataType| {
            common_schema(&schema("a", a), &schema("a", b)).map(|s| s.field(0).data_type().clone())
        };
        assert_eq!(common(DataType::Int64, DataType::Int64), Some(DataType::Int64));
        assert_eq!(common(DataType::Null, DataType::Utf8), Some(DataType::Utf8));
        assert_eq!(common(DataType::Int64, DataType::Float64), Some(mixed_type()));
        assert_eq!(common(mixed_type(), DataType::Binary), Some(mixed_type()));
        assert_eq!(common(DataType::Boolean, DataType::Int64), None, "that is another result");
        assert_eq!(common_schema(&schema("a", DataType::Int64), &schema("b", DataType::Int64)), None);
        assert_eq!(common_schema(&schema("a", DataType::Int64), &Schema::empty()), None, "none goes away");
    }

    #[test]
    fn columns_may_turn_up_late() {
        let field = |name: &str, data_type| Field::new(name, data_type, true);
        let few = Schema::new(vec![field("a", DataType::Null)]);
        let more = Schema::new(vec![field("a", DataType::Int64), field("b", DataType::Utf8)]);
        let both = Arc::new(common_schema(&few, &more).unwrap());
        assert_eq!(
            both.fields().iter().map(|f| f.data_type().clone()).collect::<Vec<_>>(),
            [DataType::Int64, DataType::Utf8]
        );
        let batch = RecordBatch::try_from_iter([("a", Arc::new(NullArray::new(2)) as ArrayRef)]).unwrap();
        let wide = widen_batch(&batch, &both).unwrap();
        assert_eq!(column_text(wide.column(1)), ["∅", "∅"]);
        assert_eq!(common_schema(&more, &few), None);
    }

    #[test]
    fn texts_of_other_types_keep_their_type() {
        let field = |kind: Option<&str>| {
            let named = kind.map(|kind| (TYPED_AS.to_owned(), kind.to_owned()));
            Field::new("a", DataType::Utf8, true)
                .with_metadata(named.into_iter().collect::<std::collections::HashMap<_, _>>())
        };
        let schema = |kind| Schema::new(vec![field(kind)]);
        let wide = |a, b| common_schema(&schema(a), &schema(b)).unwrap().field(0).data_type().clone();
        assert_eq!(wide(Some("date"), Some("date")), DataType::Utf8);
        assert_eq!((wide(Some("date"), None), wide(Some("date"), Some("objectId"))), (mixed_type(), mixed_type()));
        let column: ArrayRef = Arc::new(StringArray::from(vec![Some("2031-03-05"), None]));
        let mixed = widen(&column, &field(Some("date")), &mixed_type()).unwrap();
        assert_eq!(mixed_value(mixed.as_union(), 0), Value::Typed("date", "2031-03-05"));
        assert_eq!(column_text(&mixed), ["2031-03-05", "∅"]);
    }

    #[test]
    fn columns_of_before_are_read() {
        let DataType::Union(fields, _) = earlier_type() else { panic!() };
        let children: Vec<ArrayRef> = vec![
            Arc::new(Int64Array::from(vec![7])),
            Arc::new(Float64Array::from(Vec::<f64>::new())),
            Arc::new(StringArray::from(vec!["seven"])),
            Arc::new(BinaryArray::from(Vec::<&[u8]>::new())),
        ];
        let union = UnionArray::try_new(fields, vec![TEXT, INT].into(), Some(vec![0, 0].into()), children).unwrap();
        let column: ArrayRef = Arc::new(union);
        assert!(is_mixed(column.data_type()));
        assert_eq!(column_text(&column), ["seven", "7"]);
        let wide = widened(&column, &mixed_type()).unwrap();
        assert_eq!((wide.data_type(), column_text(&wide)), (&mixed_type(), column_text(&column)));
    }

    #[test]
    fn types_that_have_no_place_are_refused() {
        let flags: ArrayRef = Arc::new(BooleanArray::from(vec![true]));
        assert!(widened(&flags, &mixed_type()).is_err());
        assert!(MixedBuilder::default().extend(&flags).is_err());
    }
}
