//! Columns as numbers, points in time and names.

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Decimal128Type, Decimal256Type, Float32Type, Float64Type, Int8Type, Int16Type, Int32Type, Int64Type,
    TimestampMicrosecondType, TimestampMillisecondType, TimestampNanosecondType, TimestampSecondType, UInt8Type,
    UInt16Type, UInt32Type, UInt64Type,
};
use arrow_array::{Array, ArrayRef, ArrowPrimitiveType, PrimitiveArray};
use arrow_schema::{DataType, Field, TimeUnit};
use jaunty_seam::rows::assemble::Value;
use jaunty_seam::rows::cell::ColumnReader;
use jaunty_seam::rows::form::TextForm;
use jaunty_seam::rows::moment;
use jaunty_seam::rows::widen::{is_mixed, mixed_value};

/// What the values of a column are to a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Nature {
    /// Numbers.
    Number,
    /// Points in time, in seconds since 1970.
    Time,
    /// Words: each is told apart from the others, and no more.
    Name,
}

/// So many values are looked at to tell what text is.
const LOOKED_AT: usize = 200;

/// The nature of a column, by its type, and by the first values where that is text.
pub fn nature(field: &Field, column: &ArrayRef) -> Nature {
    let first = |is: &dyn Fn(&str) -> bool| {
        let reader = ColumnReader::of(column, field);
        let filled = (0..column.len()).filter(|row| !reader.is_null(*row)).take(LOOKED_AT);
        let mut any = false;
        let all = filled.map(|row| reader.get(row)).all(|cell| {
            any = true;
            is(&cell.text)
        });
        any && all
    };
    match column.data_type() {
        kind if kind.is_integer() || kind.is_floating() => Nature::Number,
        DataType::Decimal128(..) | DataType::Decimal256(..) => Nature::Number,
        DataType::Date32 | DataType::Timestamp(..) => Nature::Time,
        DataType::Utf8 if TextForm::of(field) == TextForm::Number => Nature::Number,
        DataType::Utf8 if first(&|text| moment::instant(text, None).is_some()) => Nature::Time,
        kind if is_mixed(kind) && first(&|text| text.parse::<f64>().is_ok()) => Nature::Number,
        _ => Nature::Name,
    }
}

fn primitives<T>(array: &PrimitiveArray<T>, out: &mut Vec<f64>, to: impl Fn(T::Native) -> f64)
where
    T: ArrowPrimitiveType,
{
    out.extend(array.values().iter().map(|value| to(*value)));
    if let Some(nulls) = array.nulls().filter(|nulls| nulls.null_count() > 0) {
        for (row, value) in out.iter_mut().enumerate() {
            if nulls.is_null(row) {
                *value = f64::NAN;
            }
        }
    }
}

/// The values of a column of doubles without NULL, as they are: NaN and endless ones are among them.
pub fn doubles(column: &ArrayRef) -> Option<&[f64]> {
    let doubles = column.as_primitive_opt::<Float64Type>()?;
    (doubles.null_count() == 0).then(|| &doubles.values()[..])
}

/// The values of a column as numbers, times as seconds since 1970. NULL and what is no number is NaN.
pub fn numbers(column: &ArrayRef, field: &Field, nature: Nature, out: &mut Vec<f64>) {
    out.clear();
    match column.data_type() {
        DataType::Int8 => primitives(column.as_primitive::<Int8Type>(), out, f64::from),
        DataType::Int16 => primitives(column.as_primitive::<Int16Type>(), out, f64::from),
        DataType::Int32 => primitives(column.as_primitive::<Int32Type>(), out, f64::from),
        DataType::Int64 => primitives(column.as_primitive::<Int64Type>(), out, |v| v as f64),
        DataType::UInt8 => primitives(column.as_primitive::<UInt8Type>(), out, f64::from),
        DataType::UInt16 => primitives(column.as_primitive::<UInt16Type>(), out, f64::from),
        DataType::UInt32 => primitives(column.as_primitive::<UInt32Type>(), out, f64::from),
        DataType::UInt64 => primitives(column.as_primitive::<UInt64Type>(), out, |v| v as f64),
        DataType::Float32 => primitives(column.as_primitive::<Float32Type>(), out, f64::from),
        DataType::Float64 => primitives(column.as_primitive::<Float64Type>(), out, |v| v),
        DataType::Decimal128(_, scale) => {
            let by = 10_f64.powi(-i32::from(*scale));
            primitives(column.as_primitive::<Decimal128Type>(), out, |v| v as f64 * by);
        }
        DataType::Decimal256(_, scale) => {
            let by = 10_f64.powi(-i32::from(*scale));
            primitives(column.as_primitive::<Decimal256Type>(), out, |v| {
                v.to_string().parse::<f64>().unwrap_or(f64::NAN) * by
            });
        }
        DataType::Date32 => primitives(column.as_primitive::<Date32Type>(), out, |v| f64::from(v) * 86_400.0),
        DataType::Timestamp(unit, _) => match unit {
            TimeUnit::Second => primitives(column.as_primitive::<TimestampSecondType>(), out, |v| v as f64),
            TimeUnit::Millisecond => {
                primitives(column.as_primitive::<TimestampMillisecondType>(), out, |v| v as f64 / 1e3)
            }
            TimeUnit::Microsecond => {
                primitives(column.as_primitive::<TimestampMicrosecondType>(), out, |v| v as f64 / 1e6)
            }
            TimeUnit::Nanosecond => {
                primitives(column.as_primitive::<TimestampNanosecondType>(), out, |v| v as f64 / 1e9)
            }
        },
        kind if is_mixed(kind) => {
            let union = column.as_union();
            out.extend((0..union.len()).map(|row| match mixed_value(union, row) {
                Value::Int(value) => value as f64,
                Value::Real(value) => value,
                Value::Typed("decimal" | "int" | "long", text) => text.parse().unwrap_or(f64::NAN),
                _ => f64::NAN,
            }));
        }
        DataType::Utf8 => {
            let texts = column.as_string::<i32>();
            out.extend((0..texts.len()).map(|row| match (texts.is_null(row), nature) {
                (true, _) => f64::NAN,
                (false, Nature::Time) => {
                    moment::instant(texts.value(row), None).map_or(f64::NAN, |micros| micros as f64 / 1e6)
                }
                (false, _) => texts.value(row).parse().unwrap_or(f64::NAN),
            }));
        }
        _ => out.resize(column.len(), f64::NAN),
    }
    // What is endless has no place.
    if column.data_type().is_floating() || is_mixed(column.data_type()) {
        out.iter_mut().filter(|value| value.is_infinite()).for_each(|value| *value = f64::NAN);
    }
    debug_assert_eq!(out.len(), column.len(), "{}", field.name());
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::{Date32Array, Decimal128Array, Float64Array, Int64Array, StringArray, TimestampMicrosecondArray};

    use super::*;

    fn read(column: ArrayRef) -> (Nature, Vec<f64>) {
        let field = Field::new("a", column.data_type().clone(), true);
        let nature = nature(&field, &column);
        let mut out = Vec::new();
        numbers(&column, &field, nature, &mut out);
        (nature, out)
    }

    #[test]
    fn columns_are_what_their_values_are() {
        let shown = |(nature, values): (Nature, Vec<f64>)| (nature, format!("{values:?}"));
        for (column, expected) in [
            (Arc::new(Int64Array::from(vec![Some(7), None])) as ArrayRef, (Nature::Number, "[7.0, NaN]")),
            (Arc::new(Float64Array::from(vec![1.5, f64::INFINITY])), (Nature::Number, "[1.5, NaN]")),
            (
                Arc::new(Decimal128Array::from(vec![1250]).with_precision_and_scale(9, 2).unwrap()),
                (Nature::Number, "[12.5]"),
            ),
            (Arc::new(Date32Array::from(vec![1])), (Nature::Time, "[86400.0]")),
            (Arc::new(TimestampMicrosecondArray::from(vec![1_500_000])), (Nature::Time, "[1.5]")),
            (
                Arc::new(StringArray::from(vec![Some("1970-01-02"), None, Some("1970-01-01 00:01")])),
                (Nature::Time, "[86400.0, NaN, 60.0]"),
            ),
            (Arc::new(StringArray::from(vec!["1970-01-02", "quay"])), (Nature::Name, "[NaN, NaN]")),
            (Arc::new(StringArray::from(vec![None::<&str>])), (Nature::Name, "[NaN]")),
            (Arc::new(StringArray::from(vec!["01234"])), (Nature::Name, "[1234.0]")),
        ] {
            let (nature, text) = shown(read(column));
            assert_eq!((nature, text.as_str()), expected);
        }
    }
}
