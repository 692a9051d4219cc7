//! The text of Arrow types beside the plain ones: nested values as JSON, wide decimals, times to the nanosecond, spans,
//! dictionaries, large text and bytes.

use arrow_array::cast::AsArray;
use arrow_array::types::{
    ArrowDictionaryKeyType, Date64Type, Decimal256Type, DurationMicrosecondType, DurationMillisecondType,
    DurationNanosecondType, DurationSecondType, Int8Type, IntervalDayTimeType, IntervalMonthDayNanoType,
    IntervalYearMonthType, Time32MillisecondType, Time32SecondType, Time64NanosecondType, TimestampMillisecondType,
    TimestampNanosecondType, TimestampSecondType, UInt8Type, UInt16Type,
};
use arrow_array::{Array, ArrayRef, DictionaryArray, downcast_dictionary_array};
use arrow_schema::{DataType, IntervalUnit, TimeUnit};

use super::cell::{CellKind, ColumnReader, put_hex, seconds_east, zone_named};
use super::form;

/// Whether a type is read here.
pub fn is_known(of: &DataType) -> bool {
    use DataType as T;
    match of {
        T::Decimal256(..) | T::Date64 | T::Int8 | T::UInt8 | T::UInt16 => true,
        T::LargeUtf8 | T::Utf8View | T::LargeBinary | T::BinaryView | T::FixedSizeBinary(_) => true,
        T::Timestamp(unit, _) => *unit != TimeUnit::Microsecond,
        T::Time32(_) | T::Time64(TimeUnit::Nanosecond) | T::Duration(_) | T::Interval(_) => true,
        T::Dictionary(..) | T::List(_) | T::LargeList(_) | T::FixedSizeList(..) | T::Struct(_) | T::Map(..) => true,
        _ => false,
    }
}

/// Whether values of a type hold others, and so are written as JSON.
pub fn is_nested(of: &DataType) -> bool {
    use DataType as T;
    matches!(of, T::List(_) | T::LargeList(_) | T::FixedSizeList(..) | T::Struct(_) | T::Map(..))
}

/// Adds the text of a value that is not NULL.
pub fn write(column: &ArrayRef, row: usize, out: &mut String) -> CellKind {
    use DataType as T;
    match column.data_type() {
        T::Int8 => number(column.as_primitive::<Int8Type>().value(row), out),
        T::UInt8 => number(column.as_primitive::<UInt8Type>().value(row), out),
        T::UInt16 => number(column.as_primitive::<UInt16Type>().value(row), out),
        T::Decimal256(..) => number(column.as_primitive::<Decimal256Type>().value_as_string(row), out),
        T::LargeUtf8 => text(column.as_string::<i64>().value(row), out),
        T::Utf8View => text(column.as_string_view().value(row), out),
        T::LargeBinary => bytes(column.as_binary::<i64>().value(row), out),
        T::BinaryView => bytes(column.as_binary_view().value(row), out),
        T::FixedSizeBinary(_) => bytes(column.as_fixed_size_binary().value(row), out),
        T::Date64 => {
            let day = column.as_primitive::<Date64Type>().value(row).div_euclid(86_400_000);
            form::date(i32::try_from(day).unwrap_or(i32::MAX), out);
            CellKind::Text
        }
        T::Time32(TimeUnit::Second) => clock(i64::from(column.as_primitive::<Time32SecondType>().value(row)), 1, out),
        T::Time32(_) => clock(i64::from(column.as_primitive::<Time32MillisecondType>().value(row)), 1000, out),
        T::Time64(_) => clock(column.as_primitive::<Time64NanosecondType>().value(row), NANOS, out),
        T::Timestamp(unit, zone) => {
            let (value, each) = match unit {
                TimeUnit::Second => (column.as_primitive::<TimestampSecondType>().value(row), 1),
                TimeUnit::Millisecond => (column.as_primitive::<TimestampMillisecondType>().value(row), 1000),
                _ => (column.as_primitive::<TimestampNanosecondType>().value(row), NANOS),
            };
            let seconds = value.div_euclid(each);
            let micros = seconds.saturating_mul(1_000_000);
            let offset = zone.as_deref().map(|zone| seconds_east(&zone_named(zone), micros));
            let mut whole = String::new();
            form::timestamp(micros, offset, Some(0), &mut whole);
            // The fraction stands between the seconds and the zone.
            let end = whole
                .char_indices()
                .skip(11)
                .find(|(_, c)| matches!(c, '+' | '-' | 'Z'))
                .map_or(whole.len(), |(at, _)| at);
            let (clock, zone) = whole.split_at(end);
            out.push_str(clock);
            fraction(value.rem_euclid(each), each, out);
            out.push_str(zone);
            CellKind::Text
        }
        T::Duration(unit) => {
            let (value, each) = match unit {
                TimeUnit::Second => (column.as_primitive::<DurationSecondType>().value(row), 1),
                TimeUnit::Millisecond => (column.as_primitive::<DurationMillisecondType>().value(row), 1000),
                TimeUnit::Microsecond => (column.as_primitive::<DurationMicrosecondType>().value(row), 1_000_000),
                TimeUnit::Nanosecond => (column.as_primitive::<DurationNanosecondType>().value(row), NANOS),
            };
            span(value, each, out);
            CellKind::Text
        }
        T::Interval(unit) => {
            interval(column, *unit, row, out);
            CellKind::Text
        }
        T::Dictionary(..) => dictionary(column, row, out),
        _ => {
            json(column, row, out);
            CellKind::Text
        }
    }
}

const NANOS: i64 = 1_000_000_000;

fn number(value: impl std::fmt::Display, out: &mut String) -> CellKind {
    out.push_str(&value.to_string());
    CellKind::Number
}

fn text(value: &str, out: &mut String) -> CellKind {
    out.push_str(value);
    CellKind::Text
}

fn bytes(value: &[u8], out: &mut String) -> CellKind {
    put_hex(value, out);
    CellKind::Binary
}

/// A fraction of a second in units of which `each` are one, without the zeros at its end.
fn fraction(value: i64, each: i64, out: &mut String) {
    if value != 0 {
        let digits = format!("{value:0width$}", width = each.ilog10() as usize);
        out.push('.');
        out.push_str(digits.trim_end_matches('0'));
    }
}

/// A time of day in units of which `each` are one second.
fn clock(value: i64, each: i64, out: &mut String) -> CellKind {
    let seconds = value.div_euclid(each);
    out.push_str(&format!("{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60));
    fraction(value.rem_euclid(each), each, out);
    CellKind::Text
}

/// A span as hours, minutes and seconds, in units of which `each` are one second.
fn span(value: i64, each: i64, out: &mut String) {
    let sign = if value < 0 { "-" } else { "" };
    let (seconds, rest) = (value.unsigned_abs() / each.unsigned_abs(), value.unsigned_abs() % each.unsigned_abs());
    out.push_str(&format!("{sign}{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60));
    fraction(i64::try_from(rest).unwrap_or_default(), each, out);
}

/// An interval of months, days and a time, each with its sign: `1 year 2 months -3 days 04:05:06`.
fn interval(column: &ArrayRef, unit: IntervalUnit, row: usize, out: &mut String) {
    let (months, days, nanos) = match unit {
        IntervalUnit::YearMonth => (column.as_primitive::<IntervalYearMonthType>().value(row), 0, 0),
        IntervalUnit::DayTime => {
            let value = column.as_primitive::<IntervalDayTimeType>().value(row);
            (0, value.days, i64::from(value.milliseconds) * 1_000_000)
        }
        IntervalUnit::MonthDayNano => {
            let value = column.as_primitive::<IntervalMonthDayNanoType>().value(row);
            (value.months, value.days, value.nanoseconds)
        }
    };
    let counted = |count: i32, unit: &str| {
        (count != 0).then(|| format!("{count} {unit}{}", if count.abs() == 1 { "" } else { "s" }))
    };
    let parts = [counted(months / 12, "year"), counted(months % 12, "month"), counted(days, "day")];
    let mut parts: Vec<String> = parts.into_iter().flatten().collect();
    if nanos != 0 || parts.is_empty() {
        let mut time = String::new();
        span(nanos, NANOS, &mut time);
        parts.push(time);
    }
    out.push_str(&parts.join(" "));
}

fn dictionary(column: &ArrayRef, row: usize, out: &mut String) -> CellKind {
    fn value_of<K: ArrowDictionaryKeyType>(column: &DictionaryArray<K>, row: usize, out: &mut String) -> CellKind {
        let Some(key) = column.key(row) else { return CellKind::Null };
        ColumnReader::new(column.values()).put(key, out)
    }
    let column = column.as_ref();
    downcast_dictionary_array!(
        column => value_of(column, row, out),
        _ => CellKind::Null
    )
}

/// A value as JSON: what holds others as an array or object, numbers and truth values as such, all else as text.
fn json(column: &ArrayRef, row: usize, out: &mut String) {
    use DataType as T;
    if column.is_null(row) {
        return out.push_str("null");
    }
    match column.data_type() {
        T::List(_) => list(&column.as_list::<i32>().value(row), out),
        T::LargeList(_) => list(&column.as_list::<i64>().value(row), out),
        T::FixedSizeList(..) => list(&column.as_fixed_size_list().value(row), out),
        T::Struct(fields) => {
            let values = column.as_struct();
            let names = fields.iter().map(|field| field.name().clone());
            object(names.zip(values.columns()).map(|(name, column)| (name, column, row)), out);
        }
        T::Map(..) => {
            let entries = column.as_map().value(row);
            let (keys, values) = (entries.column(0), entries.column(1));
            let names = ColumnReader::new(keys);
            object((0..entries.len()).map(|at| (names.get(at).text.into_owned(), values, at)), out);
        }
        _ => {
            let mut written = String::new();
            match ColumnReader::new(column).put(row, &mut written) {
                CellKind::Null => out.push_str("null"),
                // JSON has no word for these.
                CellKind::Number if written.parse::<f64>().is_ok_and(f64::is_finite) => out.push_str(&written),
                CellKind::Boolean => out.push_str(&written),
                _ => quoted(&written, out),
            }
        }
    }
}

fn list(values: &ArrayRef, out: &mut String) {
    out.push('[');
    for at in 0..values.len() {
        if at > 0 {
            out.push_str(", ");
        }
        json(values, at, out);
    }
    out.push(']');
}

fn object<'a>(members: impl Iterator<Item = (String, &'a ArrayRef, usize)>, out: &mut String) {
    out.push('{');
    for (at, (name, column, row)) in members.enumerate() {
        if at > 0 {
            out.push_str(", ");
        }
        quoted(&name, out);
        out.push_str(": ");
        json(column, row, out);
    }
    out.push('}');
}

fn quoted(text: &str, out: &mut String) {
    out.push_str(&serde_json::Value::from(text).to_string());
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::builder::{ListBuilder, MapBuilder, StringBuilder, StructBuilder};
    use arrow_array::types::{Int64Type, IntervalMonthDayNano};
    use arrow_array::{
        DurationMillisecondArray, FixedSizeBinaryArray, IntervalMonthDayNanoArray, LargeStringArray, ListArray,
        StringArray, Time32SecondArray, Time64NanosecondArray, TimestampNanosecondArray, TimestampSecondArray,
    };
    use arrow_schema::{Field, Fields};

    use super::*;

    /// A list of objects with a list each, the second of which has none.
    fn deep() -> ArrayRef {
        let fields = Fields::from(vec![
            Field::new("name", DataType::Utf8, true),
            Field::new("tides", DataType::List(Arc::new(Field::new_list_field(DataType::Utf8, true))), true),
        ]);
        let mut all = ListBuilder::new(StructBuilder::from_fields(fields, 2));
        for (name, tides) in [("quay \"7\"", Some(["high", "low"])), ("pier", None)] {
            let one = all.values();
            one.field_builder::<StringBuilder>(0).unwrap().append_value(name);
            let list = one.field_builder::<ListBuilder<Box<dyn arrow_array::builder::ArrayBuilder>>>(1).unwrap();
            let texts = list.values().as_any_mut().downcast_mut::<StringBuilder>().unwrap();
            tides.iter().flatten().for_each(|tide| texts.append_value(tide));
            list.append(tides.is_some());
            one.append(true);
        }
        all.append(true);
        Arc::new(all.finish())
    }

    #[test]
    fn every_type_has_a_text() {
        let mut map = MapBuilder::new(None, StringBuilder::new(), StringBuilder::new());
        map.keys().append_value("a");
        map.values().append_null();
        map.append(true).unwrap();
        let words: DictionaryArray<Int8Type> = vec![Some("high")].into_iter().collect();
        let months = IntervalMonthDayNano::new(14, -3, 1_500_000_000);
        let columns: Vec<(ArrayRef, &str, CellKind)> = vec![
            (
                Arc::new(ListArray::from_iter_primitive::<Int64Type, _, _>([Some([Some(1), None])])),
                "[1, null]",
                CellKind::Text,
            ),
            (
                deep(),
                r#"[{"name": "quay \"7\"", "tides": ["high", "low"]}, {"name": "pier", "tides": null}]"#,
                CellKind::Text,
            ),
            (Arc::new(map.finish()), r#"{"a": null}"#, CellKind::Text),
            (Arc::new(words), "high", CellKind::Text),
            (Arc::new(LargeStringArray::from(vec!["long"])), "long", CellKind::Text),
            (
                Arc::new(FixedSizeBinaryArray::try_from_iter([[0xca_u8, 0xfe]].into_iter()).unwrap()),
                "cafe",
                CellKind::Binary,
            ),
            (Arc::new(TimestampNanosecondArray::from(vec![-1])), "1969-12-31 23:59:59.999999999", CellKind::Text),
            (
                Arc::new(TimestampSecondArray::from(vec![0]).with_timezone("+02:00")),
                "1970-01-01 02:00:00+02",
                CellKind::Text,
            ),
            (Arc::new(Time64NanosecondArray::from(vec![1_000_000_100])), "00:00:01.0000001", CellKind::Text),
            (Arc::new(Time32SecondArray::from(vec![86_399])), "23:59:59", CellKind::Text),
            (Arc::new(DurationMillisecondArray::from(vec![-90_061_500])), "-25:01:01.5", CellKind::Text),
            (
                Arc::new(IntervalMonthDayNanoArray::from(vec![months])),
                "1 year 2 months -3 days 00:00:01.5",
                CellKind::Text,
            ),
            (Arc::new(arrow_array::Int8Array::from(vec![-7])), "-7", CellKind::Number),
        ];
        for (column, text, kind) in columns {
            assert!(is_known(column.data_type()), "{}", column.data_type());
            let cell = ColumnReader::new(&column).get(0);
            assert_eq!((cell.text.as_ref(), cell.kind), (text, kind), "{}", column.data_type());
        }
    }

    #[test]
    fn null_is_null_at_any_depth() {
        let list: ArrayRef = Arc::new(ListArray::from_iter_primitive::<Int64Type, Vec<Option<i64>>, _>([None]));
        assert_eq!(ColumnReader::new(&list).get(0).kind, CellKind::Null);
        let values: ArrayRef = Arc::new(StringArray::from(vec![None::<&str>]));
        let keys = arrow_array::Int8Array::from(vec![0]);
        let words: ArrayRef = Arc::new(DictionaryArray::new(keys, values));
        assert_eq!(ColumnReader::new(&words).get(0).kind, CellKind::Null);
    }
}
