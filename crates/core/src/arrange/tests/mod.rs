//! Arranging, compared with the plainest way to do it.

mod differing;
mod spans;

use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

use arrow_array::{
    ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int32Array, NullArray, RecordBatch,
    StringArray, TimestampMicrosecondArray,
};
use arrow_schema::{DataType, Field, Schema, TimeUnit};
use proptest::prelude::*;

use super::shortcut::{Ordered, few, in_order};
use super::sort::sorted;

use super::condition::{ConditionError, Test};
use super::facts::{facts, rounded, sums};
use super::pick::Part;
use super::*;
use crate::archive::Writer;
use jaunty_seam::rows::assemble::{Announced, Assembler, Value};
use jaunty_seam::rows::cell::{CellKind, ColumnReader};
use jaunty_seam::rows::form::TEXT_FORM;

/// One row: an integer, a text, a real number and a value of any type.
type ParameterValue = (Option<i32>, Option<String>, Option<f64>, Option<i64>);

fn fields() -> Vec<Field> {
    let number = Field::new("number", DataType::Utf8, true)
        .with_metadata(HashMap::from([(TEXT_FORM.to_owned(), "number".to_owned())]));
    vec![
        Field::new("id", DataType::Int32, true),
        Field::new("name", DataType::Utf8, true),
        Field::new("real", DataType::Float64, true),
        number,
        Field::new("price", DataType::Decimal128(10, 2), true),
        Field::new("late", DataType::Boolean, true),
        Field::new("day", DataType::Date32, true),
        Field::new("at", DataType::Timestamp(TimeUnit::Microsecond, None), true),
    ]
}

fn batch(rows: &[ParameterValue]) -> RecordBatch {
    let number = |row: &ParameterValue| row.3.map(|n| format!("{n}.50"));
    let columns: Vec<ArrayRef> = vec![
        Arc::new(rows.iter().map(|row| row.0).collect::<Int32Array>()),
        Arc::new(rows.iter().map(|row| row.1.clone()).collect::<StringArray>()),
        Arc::new(rows.iter().map(|row| row.2).collect::<Float64Array>()),
        Arc::new(rows.iter().map(number).collect::<StringArray>()),
        Arc::new(
            rows.iter()
                .map(|row| row.0.map(i128::from))
                .collect::<Decimal128Array>()
                .with_precision_and_scale(10, 2)
                .unwrap(),
        ),
        Arc::new(rows.iter().map(|row| row.0.map(|n| n % 2 == 0)).collect::<BooleanArray>()),
        Arc::new(rows.iter().map(|row| row.0).collect::<Date32Array>()),
        Arc::new(rows.iter().map(|row| row.3).collect::<TimestampMicrosecondArray>()),
    ];
    RecordBatch::try_new(Arc::new(Schema::new(fields())), columns).unwrap()
}

/// An archive of these rows in batches of so many.
fn archive(folder: &Path, rows: &[ParameterValue], of: usize) -> Arc<Archive> {
    let mut writer = Writer::create(&folder.join("a.arrow"), &Arc::new(Schema::new(fields()))).unwrap();
    for rows in rows.chunks(of) {
        writer.write(&batch(rows)).unwrap();
    }
    let archive = Arc::clone(writer.archive());
    writer.finish().unwrap();
    archive
}

fn arranged(archive: &Archive, wanted: &Wanted) -> Vec<u32> {
    arrange(archive, wanted, &Progress::default()).unwrap().rows
}

fn by(column: usize, descending: bool) -> Order {
    Order { column, descending }
}

/// The order of two values: NULL last either way.
fn compared<T: PartialOrd>(a: &Option<T>, b: &Option<T>, descending: bool) -> std::cmp::Ordering {
    match (a, b) {
        (Some(a), Some(b)) => {
            let ordering = a.partial_cmp(b).unwrap();
            if descending { ordering.reverse() } else { ordering }
        }
        (a, b) => b.is_some().cmp(&a.is_some()),
    }
}

#[test]
fn a_column_of_nothing_but_null_keeps_its_rows() {
    let folder = tempfile::tempdir().unwrap();
    let schema = Arc::new(Schema::new(vec![Field::new("none", DataType::Null, true)]));
    let mut writer = Writer::create(&folder.path().join("a.arrow"), &schema).unwrap();
    for rows in [2, 3] {
        let nulls: ArrayRef = Arc::new(NullArray::new(rows));
        writer.write(&RecordBatch::try_new(Arc::clone(&schema), vec![nulls]).unwrap()).unwrap();
    }
    let archive = Arc::clone(writer.archive());
    writer.finish().unwrap();
    for descending in [false, true] {
        let wanted = Wanted { order: vec![by(0, descending)], ..Wanted::default() };
        assert_eq!(arranged(&archive, &wanted), [0, 1, 2, 3, 4]);
    }
    let facts = facts(&archive, None, 0, &Progress::default()).unwrap();
    assert_eq!((facts.rows, facts.nulls, facts.distinct), (5, 5, 0));
}

fn rows() -> impl Strategy<Value = Vec<ParameterValue>> {
    let text = "([ab]{0,12}|saltmarsh quay [ab]{0,9}|é名a?)";
    let row = (
        proptest::option::weighted(0.9, -30..30_i32),
        proptest::option::weighted(0.9, text),
        proptest::option::weighted(0.9, prop_oneof![-2.0..2.0, Just(0.0), Just(-0.0), Just(f64::INFINITY)]),
        proptest::option::weighted(0.9, prop_oneof![-12..12_i64, -9_000_000..9_000_000_i64]),
    );
    proptest::collection::vec(row, 0..60)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(120))]

    #[test]
    fn sorting_is_what_a_plain_stable_sort_does(rows in rows(), of in 1..20_usize, down in any::<[bool; 2]>()) {
        let folder = tempfile::tempdir().unwrap();
        let archive = archive(folder.path(), &rows, of);
        let plain = |compare: &dyn Fn(&ParameterValue, &ParameterValue) -> std::cmp::Ordering| {
            let mut sorted: Vec<u32> = (0..rows.len() as u32).collect();
            sorted.sort_by(|a, b| compare(&rows[*a as usize], &rows[*b as usize]));
            sorted
        };
        let [down, too] = down;
        let sorted = |order: &[Order]| arranged(&archive, &Wanted { order: order.to_vec(), ..Wanted::default() });
        prop_assert_eq!(sorted(&[by(0, down)]), plain(&|a, b| compared(&a.0, &b.0, down)));
        prop_assert_eq!(sorted(&[by(1, down)]), plain(&|a, b| compared(&a.1, &b.1, down)));
        prop_assert_eq!(sorted(&[by(2, down)]), plain(&|a, b| compared(&a.2, &b.2, down)));
        // `-3.50` comes before `-2.50`: the whole numbers decide, whatever stands behind the point.
        let value = |n: &Option<i64>| n.map(|n| format!("{n}.50").parse::<f64>().unwrap());
        prop_assert_eq!(sorted(&[by(3, down)]), plain(&|a, b| compared(&value(&a.3), &value(&b.3), down)));
        prop_assert_eq!(sorted(&[by(4, down)]), plain(&|a, b| compared(&a.0, &b.0, down)));
        prop_assert_eq!(sorted(&[by(7, down)]), plain(&|a, b| compared(&a.3, &b.3, down)));
        prop_assert_eq!(
            sorted(&[by(5, down), by(1, too)]),
            plain(&|a, b| {
                let even = |n: &Option<i32>| n.map(|n| n % 2 == 0);
                compared(&even(&a.0), &even(&b.0), down).then_with(|| compared(&a.1, &b.1, too))
            })
        );
        prop_assert_eq!(
            sorted(&[by(1, down), by(2, too)]),
            plain(&|a, b| compared(&a.1, &b.1, down).then_with(|| compared(&a.2, &b.2, too)))
        );
    }

    #[test]
    fn shortcuts_find_what_sorting_finds(rows in rows(), of in 1..20_usize, down in any::<[bool; 2]>()) {
        let folder = tempfile::tempdir().unwrap();
        let plain = archive(folder.path(), &rows, of);
        let (count, progress, [down, other]) = (rows.len() as u64, Progress::default(), down);
        for column in 0..fields().len() {
            let sorted = |archive: &Archive| sorted(archive, count, None, &[by(column, down)], &progress).unwrap();
            let told = |found: Ordered| {
                let mut equal = found.equal;
                equal.sort_unstable_by_key(|tie| tie.start);
                (found.rows, equal, found.nulls)
            };
            let few = few(&plain, count, (column, down), &progress).unwrap().map(told);
            prop_assert_eq!(few, Some(sorted(&plain)), "few values in {}", column);
            // The same rows, as a server would send them in this order, or in the opposite one.
            let order = arranged(&plain, &Wanted { order: vec![by(column, other)], ..Wanted::default() });
            let sent: Vec<ParameterValue> = order.iter().map(|row| rows[*row as usize].clone()).collect();
            let inside = tempfile::tempdir().unwrap();
            let archive = archive(inside.path(), &sent, of);
            let found = in_order(&archive, count, (column, down), &progress).unwrap().map(told);
            prop_assert_eq!(found, Some(sorted(&archive)), "in order of {}", column);
        }
        if let Some(found) = in_order(&plain, count, (1, down), &progress).unwrap() {
            prop_assert_eq!(found.rows, arranged(&plain, &Wanted { order: vec![by(1, down)], ..Wanted::default() }));
        }
    }

    #[test]
    fn a_search_finds_what_the_values_show(rows in rows(), of in 1..20_usize, text in "(a|b|ab|1|-1|AB|quay|é|0.5|-)") {
        let folder = tempfile::tempdir().unwrap();
        let archive = archive(folder.path(), &rows, of);
        let lower = !text.chars().any(char::is_uppercase);
        let has = |shown: &str| if lower { shown.to_lowercase().contains(&text) } else { shown.contains(&text) };
        let expected: Vec<u32> = (0..rows.len() as u32)
            .filter(|row| {
                let batch = batch(&rows[*row as usize..][..1]);
                ColumnReader::all(&batch).iter().any(|c| !c.is_null(0) && has(&c.get(0).text))
            })
            .collect();
        prop_assert_eq!(arranged(&archive, &Wanted { search: text, ..Wanted::default() }), expected);
    }

    #[test]
    fn facts_are_what_counting_gives(rows in rows(), of in 1..20_usize) {
        let folder = tempfile::tempdir().unwrap();
        let archive = archive(folder.path(), &rows, of);
        let told = facts(&archive, None, 1, &Progress::default()).unwrap();
        let mut texts: Vec<_> = rows.iter().filter_map(|row| row.1.clone()).collect();
        texts.sort();
        prop_assert_eq!((told.rows, told.nulls), (rows.len() as u64, (rows.len() - texts.len()) as u64));
        prop_assert_eq!(told.ends, texts.first().cloned().zip(texts.last().cloned()));
        let mut counts: Vec<u64> = texts.chunk_by(|a, b| a == b).map(|same| same.len() as u64).collect();
        prop_assert_eq!(told.distinct, counts.len() as u64);
        counts.retain(|count| *count > 1);
        counts.sort_by_key(|count| std::cmp::Reverse(*count));
        prop_assert_eq!(told.frequent.iter().map(|f| f.1).collect::<Vec<_>>(), &counts[..counts.len().min(10)]);

        let told = facts(&archive, None, 0, &Progress::default()).unwrap();
        let numbers: Vec<i64> = rows.iter().filter_map(|row| row.0.map(i64::from)).collect();
        if let Some(found) = &told.numbers {
            prop_assert_eq!(&found.sum, &numbers.iter().sum::<i64>().to_string());
            prop_assert!((found.mean - numbers.iter().sum::<i64>() as f64 / numbers.len() as f64).abs() < 1e-9);
        }
        prop_assert_eq!(told.numbers.is_some(), !numbers.is_empty());
        if let Some(spread) = told.spread {
            prop_assert_eq!(spread.iter().sum::<u64>(), numbers.len() as u64);
        }
    }

    #[test]
    fn a_part_holds_the_rows_that_are_shown(rows in rows(), of in 1..20_usize, from in 0..40_u64, count in 0..40_u64) {
        let folder = tempfile::tempdir().unwrap();
        let archive = archive(folder.path(), &rows, of);
        let wanted = Wanted { order: vec![by(1, true)], ..Wanted::default() };
        let arrangement = Arc::new(arrange(&archive, &wanted, &Progress::default()).unwrap());
        let expected: Vec<Option<i32>> =
            arrangement.rows(from, count as usize).iter().map(|row| rows[*row as usize].0).collect();
        // The columns in another order than that of the file.
        let columns = Some(vec![1, 0]);
        let part = Part { archive, arrangement: Some(arrangement), rows: from..from + count, columns };
        prop_assert_eq!(part.len(), expected.len() as u64);
        let mut found = Vec::new();
        for batch in part.batches() {
            let batch = batch.unwrap();
            prop_assert_eq!(batch.schema_ref().field(1).name(), "id");
            found.extend(batch.column(1).as_any().downcast_ref::<Int32Array>().unwrap().iter());
        }
        prop_assert_eq!(found, expected);
    }
}

/// Ten rows whose number and text tell them apart.
fn ten() -> Vec<ParameterValue> {
    let names = ["Saltmarsh", "Quay 7", "", "Old Quay", "50% off", "it's"];
    (0..10_i32)
        .map(|n| {
            let name = names.get(n as usize).map(|name| (*name).to_owned());
            (Some(n * 10), name, Some(f64::from(n) / 2.0), Some(i64::from(n) * 86_400_000_000))
        })
        .collect()
}

#[test]
fn conditions_say_which_rows_stay() {
    let folder = tempfile::tempdir().unwrap();
    let archive = archive(folder.path(), &ten(), 3);
    for (column, text, expected) in [
        (0, "> 70", vec![8, 9]),
        (0, ">= 70", vec![7, 8, 9]),
        (0, "40", vec![4]),
        (0, "!= 40", vec![0, 1, 2, 3, 5, 6, 7, 8, 9]),
        (0, "not > 10", vec![0, 1]),
        (0, "between 20 and 40", vec![2, 3, 4]),
        (0, "in 10, 30, 99", vec![1, 3]),
        (0, "has 0", (0..10).collect()),
        (0, "ends 0", (0..10).collect()),
        (1, "quay", vec![1, 3]),
        (1, "Quay", vec![1, 3]),
        (1, "QUAY", vec![]),
        (1, "= Quay 7", vec![1]),
        (1, "begins salt", vec![0]),
        (1, "ends 7", vec![1]),
        (1, "'null'", vec![]),
        (1, "null", vec![6, 7, 8, 9]),
        (1, "not null", vec![0, 1, 2, 3, 4, 5]),
        (1, "empty", vec![2]),
        (1, "~ ^[A-Z]", vec![0, 1, 3]),
        (1, "not has a", vec![2, 4, 5]),
        (1, "in (it's, Saltmarsh)", vec![0, 5]),
        (1, "= 'it''s'", vec![5]),
        (1, "< 'it''s'", vec![0, 1, 2, 3, 4]),
        (1, "in 'a, b', 'it''s', \"Quay 7\"", vec![1, 5]),
        (1, "between 'it' and 'it''s and more'", vec![5]),
        (2, "< 1", vec![0, 1]),
        (3, ">= 691200000000.50", vec![8, 9]),
        (4, "> 0.75", vec![8, 9]),
        (5, "true", (0..10).collect()),
        (6, "1970-01-11", vec![1]),
        (7, "< 1970-01-03", vec![0, 1]),
        (7, ">= 1970-01-10 00:00:00", vec![9]),
    ] {
        let test = Test::read(text, &fields()[column]).unwrap();
        let wanted = Wanted { conditions: vec![Condition { column, test }], ..Wanted::default() };
        assert_eq!(arranged(&archive, &wanted), expected, "{text}");
    }
}

#[test]
fn a_condition_that_makes_no_sense_says_why() {
    let read = |column: usize, text: &str| Test::read(text, &fields()[column]).unwrap_err().to_string();
    assert_eq!(
        read(0, "> many"),
        "\"many\" is not of type int32, which this column holds; \"has many\" looks for it as text"
    );
    assert_eq!(
        read(6, "soon"),
        "\"soon\" is not of type date32, which this column holds; \"has soon\" looks for it as text"
    );
    assert_eq!(read(1, ">"), "> needs a value behind it");
    assert_eq!(read(0, "between 1"), "between … and needs a value behind it");
    assert!(matches!(Test::read("~ (", &fields()[1]), Err(ConditionError::Expression(_))));
}

#[test]
fn values_of_several_types_have_an_order() {
    let folder = tempfile::tempdir().unwrap();
    let mut assembler =
        Assembler::new(vec![Announced { name: "any".into(), db_type: String::new(), ..Announced::default() }]);
    let values = [
        Value::Text("b"),
        Value::Int(10),
        Value::Null,
        Value::Bytes(b"\x00"),
        Value::Real(9.5),
        Value::Text("10"),
        Value::Int(i64::MAX),
        Value::Int(i64::MAX - 1),
    ];
    for value in values {
        assembler.push_row(|_| value).unwrap();
    }
    let batch = assembler.take().unwrap();
    let mut writer = Writer::create(&folder.path().join("m.arrow"), &batch.schema()).unwrap();
    writer.write(&batch).unwrap();
    let archive = Arc::clone(writer.archive());
    let order = |descending| Wanted { order: vec![by(0, descending)], ..Wanted::default() };
    assert_eq!(arranged(&archive, &order(false)), [4, 1, 7, 6, 5, 0, 3, 2]);
    assert_eq!(arranged(&archive, &order(true)), [3, 0, 5, 6, 7, 1, 4, 2]);
    let field = batch.schema_ref().field(0);
    let kept = |text: &str| {
        let test = Test::read(text, field).unwrap();
        arranged(&archive, &Wanted { conditions: vec![Condition { column: 0, test }], ..Wanted::default() })
    };
    assert_eq!(kept("< 100"), [1, 4]);
    assert_eq!(kept("= 10"), [1]);
    assert_eq!(kept("10"), [1, 5]);
    // Its rows can be picked in any order.
    let arrangement = Arc::new(arrange(&archive, &order(false), &Progress::default()).unwrap());
    let part = Part { arrangement: Some(arrangement), ..Part::whole(archive) };
    let shown: Vec<String> = part
        .batches()
        .flat_map(|batch| {
            let batch = batch.unwrap();
            let reader = ColumnReader::of(batch.column(0), batch.schema_ref().field(0));
            (0..batch.num_rows()).map(|row| reader.get(row).text.into_owned()).collect::<Vec<_>>()
        })
        .collect();
    assert_eq!(shown, ["9.5", "10", "9223372036854775806", "9223372036854775807", "10", "b", "00", "∅"]);
}

#[test]
fn what_is_wanted_has_words() {
    let condition =
        |column: usize, text: &str| Condition { column, test: Test::read(text, &fields()[column]).unwrap() };
    let wanted = Wanted {
        order: vec![by(4, true), by(1, false)],
        conditions: vec![
            condition(0, "> 5"),
            condition(1, "not begins it's"),
            condition(1, "not null"),
            condition(6, "in 2026-01-01, 2026-01-02"),
            condition(3, "!= 1.5"),
        ],
        search: "quay".into(),
    };
    let names: Vec<String> = fields().iter().map(|field| field.name().clone()).collect();
    assert_eq!(
        wanted.words(&names),
        "with \"quay\" · id > 5 · name not begins it's · name not null · day in 2026-01-01, 2026-01-02 · number != 1.5 · by price down, name"
    );
}

#[test]
fn a_time_without_a_zone_is_in_that_of_its_column() {
    let column =
        |zone: Option<&str>| Field::new("at", DataType::Timestamp(TimeUnit::Microsecond, zone.map(Arc::from)), true);
    let micros =
        |clock: &str| chrono::NaiveDateTime::parse_from_str(clock, "%F %T").unwrap().and_utc().timestamp_micros();
    for (zone, text, greenwich) in [
        (None, "2031-03-05 07:30", "2031-03-05 07:30:00"),
        (Some("+02:30"), "2031-03-05 07:30", "2031-03-05 05:00:00"),
        (Some("+02:30"), "2031-03-05 07:30:00+00:00", "2031-03-05 07:30:00"),
        (Some("+02:30"), "2031-03-05T07:30:00Z", "2031-03-05 07:30:00"),
        (Some("+02:30"), "2031-03-05", "2031-03-04 21:30:00"),
        (Some("America/St_Johns"), "2031-01-05 07:30", "2031-01-05 11:00:00"),
        (Some("America/St_Johns"), "2031-07-05 07:30", "2031-07-05 10:00:00"),
        // The clocks go from two to three, and back from two to one.
        (Some("America/St_Johns"), "2031-03-09 02:30", "2031-03-09 06:00:00"),
        (Some("America/St_Johns"), "2031-11-02 01:30", "2031-11-02 04:00:00"),
    ] {
        let folder = tempfile::tempdir().unwrap();
        let field = column(zone);
        let schema = Arc::new(Schema::new(vec![field.clone()]));
        let mut writer = Writer::create(&folder.path().join("a.arrow"), &schema).unwrap();
        let values: TimestampMicrosecondArray = [-1, 0, 1].map(|by| Some(micros(greenwich) + by)).into_iter().collect();
        let values = values.with_timezone_opt(zone);
        writer.write(&RecordBatch::try_new(schema, vec![Arc::new(values)]).unwrap()).unwrap();
        let test = Test::read(&format!("= {text}"), &field).unwrap();
        let wanted = Wanted { conditions: vec![Condition { column: 0, test }], ..Wanted::default() };
        assert_eq!(arranged(writer.archive(), &wanted), [1], "{text} in {zone:?}");
    }
}

#[test]
fn a_block_of_cells_adds_up() {
    let folder = tempfile::tempdir().unwrap();
    let archive = archive(folder.path(), &ten(), 4);
    let part = |rows, columns| Part { rows, columns: Some(columns), ..Part::whole(Arc::clone(&archive)) };
    let told = sums(&part(2..5, vec![0, 1]), &Progress::default()).unwrap();
    assert_eq!((told.cells, told.nulls), (6, 0));
    let numbers = told.numbers.unwrap();
    assert_eq!((numbers.count, numbers.sum.as_str(), numbers.mean), (3, "90", 30.0));
    let told = sums(&part(0..10, vec![4]), &Progress::default()).unwrap();
    assert_eq!(told.numbers.unwrap().sum, "4.50");
    // A whole number, one with two digits behind the point, and one that rounds.
    let told = sums(&part(2..5, vec![0, 4]), &Progress::default()).unwrap();
    assert_eq!(told.numbers.unwrap().sum, "90.90");
    let told = sums(&part(2..5, vec![4, 2]), &Progress::default()).unwrap();
    assert_eq!(told.numbers.unwrap().sum, "5.4");
    let told = sums(&part(6..10, vec![1]), &Progress::default()).unwrap();
    assert_eq!((told.nulls, told.numbers), (4, None));
}

#[test]
fn a_mean_has_no_digits_that_are_only_noise() {
    let told = [0.0, 12.5, 1.0 / 3.0, 1e-9, -2e-7, 70_970_070.6, 1e300, -4.25e17, f64::INFINITY].map(rounded);
    assert_eq!(told, ["0", "12.5", "0.333333", "1.000e-9", "-2.000e-7", "70970070.6", "1e300", "-4.25e17", "inf"]);
}

#[test]
fn text_that_is_time_is_spread() {
    let told = |texts: &[Option<&str>]| {
        let folder = tempfile::tempdir().unwrap();
        let schema = Arc::new(Schema::new(vec![Field::new("at", DataType::Utf8, true)]));
        let mut writer = Writer::create(&folder.path().join("a.arrow"), &schema).unwrap();
        let values: ArrayRef = Arc::new(texts.iter().copied().collect::<StringArray>());
        writer.write(&RecordBatch::try_new(schema, vec![values]).unwrap()).unwrap();
        facts(writer.archive(), None, 0, &Progress::default()).unwrap()
    };
    let times = told(&[Some("2031-03-01 00:00:00"), None, Some("2031-03-25 00:00:00"), Some("2031-03-02 12:00:00")]);
    let spread = times.spread.unwrap();
    // Twenty-four parts of a day each.
    assert_eq!((spread[0], spread[1], spread[23], spread.iter().sum::<u64>()), (1, 1, 1, 3));
    assert_eq!(times.numbers, None, "times do not add up");
    assert_eq!(told(&[Some("2031-03-01"), Some("2031-03-02"), Some("2031-03-01 soon")]).spread, None);
    assert_eq!(told(&[Some("2031-03-01"), Some("2031-03-01")]).spread, None, "all at one place");
    assert_eq!(told(&[Some("12"), Some("quay")]).spread, None);
}

#[test]
fn what_is_not_wanted_any_more_ends() {
    let folder = tempfile::tempdir().unwrap();
    let archive = archive(folder.path(), &ten(), 1);
    let progress = Progress::default();
    progress.stop();
    let wanted = Wanted { search: "quay".into(), ..Wanted::default() };
    assert!(matches!(arrange(&archive, &wanted, &progress), Err(ArrangeError::Stopped)));
}

#[test]
fn a_value_in_hand_is_a_condition() {
    let field = &fields()[1];
    let not = Test::equal((CellKind::Text, "not null"), field, true).unwrap();
    assert_eq!(not.to_string(), "!= not null");
    assert_eq!(Test::equal((CellKind::Null, "∅"), field, false).unwrap().to_string(), "null");
}

/// Sums are what the server would say: exact for decimals of any form, and nothing that is a number where one
/// value is none.
#[test]
fn sums_are_exact_and_not_a_number_is_none() {
    let folder = tempfile::tempdir().unwrap();
    let number = HashMap::from([(TEXT_FORM.to_owned(), "number".to_owned())]);
    let fields = vec![
        Field::new("price", DataType::Utf8, true).with_metadata(number),
        Field::new("depth", DataType::Float64, true),
    ];
    let prices = ["0.10", "-3", "12345678901234567890123456.789"];
    let columns: Vec<ArrayRef> =
        vec![Arc::new(StringArray::from(prices.to_vec())), Arc::new(Float64Array::from(vec![1.5, f64::NAN, 2.0]))];
    let schema = Arc::new(Schema::new(fields));
    let mut writer = Writer::create(&folder.path().join("a.arrow"), &schema).unwrap();
    writer.write(&RecordBatch::try_new(schema, columns).unwrap()).unwrap();
    let archive = Arc::clone(writer.archive());
    writer.finish().unwrap();
    let of = |column| facts(&archive, None, column, &Progress::default()).unwrap().numbers.unwrap();
    assert_eq!((of(0).count, of(0).sum.as_str()), (3, "12345678901234567890123453.889"));
    assert_eq!((of(1).count, of(1).sum.as_str(), of(1).mean().as_str()), (3, "NaN", "NaN"));
}
