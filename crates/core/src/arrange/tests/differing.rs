//! What differs between two results, compared with looking at each value.

use super::*;
use crate::arrange::differ::{Difference, first};

/// The first row and column in which two lists of rows differ as they are shown.
fn plainly(left: &RecordBatch, right: &RecordBatch) -> Option<Difference> {
    let rows = left.num_rows().min(right.num_rows());
    let [here, there] = [left, right].map(ColumnReader::all);
    let shown = |readers: &[ColumnReader], row: usize| -> Vec<_> {
        readers.iter().map(|reader| (reader.get(row).kind, reader.get(row).text.into_owned())).collect()
    };
    for row in 0..rows {
        let (left, right) = (shown(&here, row), shown(&there, row));
        if let Some(column) = left.iter().zip(&right).position(|(left, right)| left != right) {
            return Some(Difference { row: row as u64, column: Some(column) });
        }
    }
    (left.num_rows() != right.num_rows()).then_some(Difference { row: rows as u64, column: None })
}

/// A change of one value: in which row, and of which kind.
fn changed(mut rows: Vec<ParameterValue>, at: usize, what: u8) -> Vec<ParameterValue> {
    let at = at.checked_rem(rows.len()).unwrap_or(0);
    if let Some(row) = rows.get_mut(at) {
        match what {
            0 => row.0 = row.0.map_or(Some(1), |n| n.checked_add(1)),
            1 => row.1 = row.1.as_ref().map_or(Some(String::new()), |text| Some(format!("{text} "))),
            2 => row.2 = None,
            3 => row.3 = row.3.map_or(Some(7), |_| None),
            4 => drop(rows.remove(at)),
            _ => {}
        }
    }
    rows
}

proptest! {
    #[test]
    fn the_first_difference_is_that_of_a_plain_look(
        rows in rows(), of in [1..20_usize, 1..20], at in any::<usize>(), what in 0..6_u8,
    ) {
        let folders = [(); 2].map(|()| tempfile::tempdir().unwrap());
        let other = changed(rows.clone(), at, what);
        let expected = plainly(&batch(&rows), &batch(&other));
        let parts = [
            Part::whole(archive(folders[0].path(), &rows, of[0])),
            Part::whole(archive(folders[1].path(), &other, of[1])),
        ];
        let progress = Progress::default();
        prop_assert_eq!(first(&parts[0], &parts[1], &progress).unwrap(), expected);
        prop_assert_eq!(first(&parts[1], &parts[0], &progress).unwrap(), expected, "the other way round");
    }
}

#[test]
fn rows_are_compared_in_the_order_in_which_they_are_shown() {
    let folders = [(); 2].map(|()| tempfile::tempdir().unwrap());
    let mut turned = ten();
    turned.reverse();
    turned[3].1 = Some("Gullhaven".into());
    let [plain, turned] = [archive(folders[0].path(), &ten(), 3), archive(folders[1].path(), &turned, 4)];
    let up = Wanted { order: vec![by(0, false)], ..Wanted::default() };
    let arrangement = Arc::new(arrange(&turned, &up, &Progress::default()).unwrap());
    let sorted = Part { arrangement: Some(arrangement), ..Part::whole(turned) };
    let plain = Part::whole(plain);
    let found = |left: &Part, right: &Part| first(left, right, &Progress::default()).unwrap();
    assert_eq!(found(&plain, &sorted), Some(Difference { row: 6, column: Some(1) }));
    // From further on, and other columns only.
    let from = |part: &Part, row: u64| Part { rows: row..part.len(), ..part.clone() };
    assert_eq!(found(&from(&plain, 5), &from(&sorted, 5)), Some(Difference { row: 1, column: Some(1) }));
    assert_eq!(found(&from(&plain, 7), &from(&sorted, 7)), None);
    assert_eq!(found(&from(&plain, 8), &from(&sorted, 7)).map(|found| found.row), Some(0), "one row apart");
    let of = |part: &Part| Part { columns: Some(vec![2, 0]), ..part.clone() };
    assert_eq!(found(&of(&plain), &of(&sorted)), None);
    // Where one ends before the other.
    let short = Part { rows: 0..4, ..plain.clone() };
    assert_eq!(found(&short, &sorted), Some(Difference { row: 4, column: None }));
}

#[test]
fn values_of_different_types_are_compared_as_they_are_shown() {
    let written = |values: &[Value], folder: &Path| {
        let mut assembler =
            Assembler::new(vec![Announced { name: "any".into(), db_type: String::new(), ..Announced::default() }]);
        for value in values {
            assembler.push_row(|_| *value).unwrap();
        }
        let batch = assembler.take().unwrap();
        let mut writer = Writer::create(&folder.join("a.arrow"), &batch.schema()).unwrap();
        writer.write(&batch).unwrap();
        let archive = Arc::clone(writer.archive());
        writer.finish().unwrap();
        Part::whole(archive)
    };
    let folders = [(); 4].map(|()| tempfile::tempdir().unwrap());
    let numbers = written(&[Value::Int(1), Value::Int(2), Value::Null, Value::Int(4)], folders[0].path());
    let mixed = written(&[Value::Int(1), Value::Int(2), Value::Null, Value::Text("4")], folders[1].path());
    let same = written(&[Value::Int(1), Value::Int(2), Value::Null, Value::Text("4")], folders[2].path());
    let other = written(&[Value::Int(1), Value::Text("2"), Value::Null, Value::Int(4)], folders[3].path());
    let row = |left: &Part, right: &Part| first(left, right, &Progress::default()).unwrap().map(|found| found.row);
    assert_eq!(row(&numbers, &mixed), Some(3), "a text is no number");
    assert_eq!(row(&mixed, &same), None);
    assert_eq!(row(&mixed, &other), Some(1));
    assert_eq!(row(&numbers, &other), Some(1));
    let progress = Progress::default();
    progress.stop();
    assert!(matches!(first(&mixed, &same, &progress), Err(ArrangeError::Stopped)));
}
