//! Comparing, held to the plainest way to do it.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use arrow_array::{ArrayRef, BooleanArray, Int32Array, Int64Array, RecordBatch, StringArray};
use proptest::prelude::*;

use super::Difference;
use super::draft::{Undrawn, cut_by, drafts};
use super::rows::{Columns, CompareError, Comparison, Shown, compare, same};
use crate::archive::{Archive, Writer};
use crate::arrange::pick::Part;
use crate::arrange::{Order, Progress, Wanted, arrange};
use crate::complete::tests::saltmarsh;
use crate::slip::{Datum, Ground, What};
use jaunty_language::dialect::POSTGRES;

type Columned = Vec<(&'static str, ArrayRef)>;

fn archive(folder: &Path, columns: Columned, at_once: usize) -> Arc<Archive> {
    let batch = RecordBatch::try_from_iter(columns).unwrap();
    let mut writer = Writer::create(&folder.join("rows.arrow"), &batch.schema()).unwrap();
    for from in (0..batch.num_rows()).step_by(at_once) {
        writer.write(&batch.slice(from, at_once.min(batch.num_rows() - from))).unwrap();
    }
    let archive = Arc::clone(writer.archive());
    writer.finish().unwrap();
    archive
}

fn compared(left: Columned, right: Columned, key: &[&str], at_once: usize) -> Result<Comparison, CompareError> {
    let names = |columns: &Columned| columns.iter().map(|(name, _)| (*name).to_owned()).collect::<Vec<_>>();
    let key: Vec<String> = key.iter().map(|name| (*name).to_owned()).collect();
    let columns = Columns::matched(&names(&left), &names(&right), &key)?;
    let folders = [(); 2].map(|()| tempfile::tempdir().unwrap());
    let [left, right] = [archive(folders[0].path(), left, at_once), archive(folders[1].path(), right, at_once)];
    compare(&Part::whole(left), &Part::whole(right), columns, &Progress::default())
}

type Table = BTreeMap<i32, Option<String>>;

fn columns(rows: &[(i32, Option<String>)]) -> Columned {
    vec![
        ("id", Arc::new(rows.iter().map(|row| row.0).collect::<Int32Array>())),
        ("name", Arc::new(rows.iter().map(|row| row.1.clone()).collect::<StringArray>())),
    ]
}

fn text(value: Option<&Datum>) -> Option<Option<String>> {
    value.map(|value| (*value != Datum::Null).then(|| value.text().to_owned()))
}

fn table() -> impl Strategy<Value = Table> {
    proptest::collection::btree_map(0..40_i32, proptest::option::of("[ab]{0,2}"), 0..40)
}

proptest! {
    #[test]
    fn rows_are_told_apart_as_a_map_tells_them(
        left in table(), right in table(), seed in any::<u64>(), at_once in 1..20_usize,
    ) {
        let shuffled = |table: &Table, by: u64| {
            let mut rows: Vec<_> = table.clone().into_iter().collect();
            rows.sort_by_key(|(id, _)| (u64::from(*id as u32) * 2_654_435_761) ^ by);
            rows
        };
        let rows = [shuffled(&left, seed), shuffled(&right, seed >> 7)];
        let found = compared(columns(&rows[0]), columns(&rows[1]), &["id"], at_once).unwrap();
        let same = left.iter().filter(|(id, name)| right.get(id) == Some(*name)).count();
        prop_assert_eq!(found.same, same as u64);
        // What is told makes the one into the other.
        let mut model = left.clone();
        let mut order = Vec::new();
        for Shown { what, cells, differs } in found.shown(&found.rows).unwrap() {
            let id = |side: usize| cells[0][side].as_ref().unwrap().text().parse::<i32>().unwrap();
            match what {
                Difference::OnlyLeft => drop(model.remove(&id(0))),
                _ => {
                    prop_assert_eq!(differs[1], true);
                    model.insert(id(1), text(cells[1][1].as_ref()).unwrap());
                }
            }
            if what != Difference::OnlyRight {
                order.push(rows[0].iter().position(|row| row.0 == id(0)).unwrap());
            }
        }
        prop_assert_eq!(&model, &right);
        prop_assert!(order.is_sorted(), "the left keeps its order");
    }
}

#[test]
fn a_row_that_is_new_stands_before_the_one_that_follows_it() {
    let rows = |ids: &[i32]| columns(&ids.iter().map(|id| (*id, None)).collect::<Vec<_>>());
    let found = compared(rows(&[1, 2, 9, 3]), rows(&[7, 1, 2, 5, 6, 3, 8]), &["id"], 3).unwrap();
    let ids = found.shown(&found.rows).unwrap();
    let ids = ids.iter().map(|row| {
        let id = row.cells[0].iter().flatten().next().unwrap().text();
        format!("{}{id}", row.what.sign())
    });
    assert_eq!(ids.collect::<Vec<_>>(), ["▸7", "◂9", "▸5", "▸6", "▸8"]);
    assert!(found.is_same() == found.rows.is_empty() && found.same == 3);
}

#[test]
fn the_order_on_the_screen_is_that_of_the_rows_that_are_told() {
    let folders = [(); 2].map(|()| tempfile::tempdir().unwrap());
    let rows = |ids: &[i32]| columns(&ids.iter().map(|id| (*id, Some("a".to_owned()))).collect::<Vec<_>>());
    let left = archive(folders[0].path(), rows(&[3, 1, 2]), 2);
    let right = archive(folders[1].path(), rows(&[4]), 2);
    let wanted = Wanted { order: vec![Order { column: 0, descending: true }], ..Wanted::default() };
    let arrangement = Arc::new(arrange(&left, &wanted, &Progress::default()).unwrap());
    let part = Part { arrangement: Some(arrangement), rows: 0..2, ..Part::whole(left) };
    let names = ["id".to_owned(), "name".to_owned()];
    let columns = Columns::matched(&names, &names, &names[..1]).unwrap();
    let found = compare(&part, &Part::whole(right), columns, &Progress::default()).unwrap();
    let ids: Vec<_> = found.shown(&found.rows).unwrap().iter().map(|row| row.cells[0].clone()).collect();
    let id = |text: &str| Some(Datum::Number(text.into()));
    assert_eq!(ids, [[id("3"), None], [id("2"), None], [None, id("4")]]);
}

#[test]
fn the_same_value_of_two_databases_is_the_same() {
    let left: Columned = vec![
        ("ID", Arc::new(Int64Array::from(vec![1, 2]))),
        ("open", Arc::new(BooleanArray::from(vec![true, false]))),
        ("note", Arc::new(StringArray::from(vec![Some("1.50"), None]))),
        ("here", Arc::new(Int64Array::from(vec![1, 2]))),
    ];
    let right: Columned = vec![
        ("there", Arc::new(Int64Array::from(vec![1, 2]))),
        ("id", Arc::new(Int32Array::from(vec![2, 1]))),
        ("note", Arc::new(StringArray::from(vec![Some(""), Some("1.5")]))),
        ("open", Arc::new(Int32Array::from(vec![0, 1]))),
    ];
    let found = compared(left, right, &["id"], 10).unwrap();
    assert_eq!(found.columns.only, [vec!["here".to_owned()], vec!["there".to_owned()]]);
    let shown = found.shown(&found.rows).unwrap();
    // Texts are texts, and NULL is not an empty one.
    assert_eq!(shown.iter().map(|row| row.differs.clone()).collect::<Vec<_>>(), [[false, false, true]; 2]);
}

#[test]
fn forms_of_a_value_that_mean_the_same_are_the_same() {
    let number = |text: &str| Datum::Number(text.into());
    let bytes = |digits: &str| Datum::Bytes(digits.into());
    for (left, right, expected) in [
        (number("1.50"), number("1.5"), true),
        (number("100"), number("1"), false),
        (number("1e+300"), number("1e300"), true),
        (number("1E-7"), number("1e-7"), true),
        (number("-0"), number("0"), false),
        (number("NaN"), number("NaN"), true),
        (bytes("\\x00ff"), bytes("00ff"), true),
        (bytes("00ff"), Datum::Text("00ff".into()), false),
        (Datum::Bool(true), number("1"), true),
        (Datum::Null, Datum::Text(String::new()), false),
    ] {
        assert_eq!(same(&left, &right), expected, "{left:?} {right:?}");
    }
}

#[test]
fn what_cannot_be_compared_says_why() {
    let one = |name: &'static str| -> Columned { vec![(name, Arc::new(Int64Array::from(vec![1])))] };
    let told = |left, right, key: &[&str]| compared(left, right, key, 1).unwrap_err().to_string();
    assert_eq!(told(one("a"), one("b"), &[]), "the two have no column of the same name");
    let two: Columned = [one("a"), one("b")].concat();
    assert_eq!(told(two, one("a"), &["b"]), "the right one has no column \"b\": it cannot be part of the key");
}

#[test]
fn rows_without_a_key_are_the_same_as_a_whole() {
    let rows = |ids: &[i32]| columns(&ids.iter().map(|id| (*id, None)).collect::<Vec<_>>());
    let found = compared(rows(&[1, 1, 2]), rows(&[2, 1, 3]), &[], 2).unwrap();
    assert_eq!((found.columns.key(), found.same, found.repeated), (Vec::new(), 2, [1, 0]));
    assert_eq!((found.counted(Difference::OnlyLeft), found.counted(Difference::OnlyRight)), (1, 1));
}

#[test]
fn what_differs_becomes_drafts() {
    let sailings = |rows: &[(i32, &str)]| -> Columned {
        vec![
            ("id", Arc::new(rows.iter().map(|row| row.0).collect::<Int32Array>())),
            ("state", Arc::new(rows.iter().map(|row| Some(row.1)).collect::<StringArray>())),
        ]
    };
    let names = ["id".to_owned(), "state".to_owned()];
    let ground = Ground::find(("select id, state from sailings", &names, &[]), 1, &saltmarsh(), &POSTGRES).unwrap();
    let (left, right) =
        (sailings(&[(1, "due"), (2, "due"), (3, "due")]), sailings(&[(2, "gone"), (3, "due"), (4, "due")]));
    let found = compared(left.clone(), right.clone(), &["id"], 10).unwrap();
    let made = drafts(&found, &ground, &Progress::default()).unwrap();
    let text = |text: &str| Datum::Text(text.into());
    let place = |name: &str| ground.fields.iter().position(|field| field.column.name == name).unwrap();
    let told: Vec<_> = made.iter().map(|draft| (draft.what, draft.new.clone())).collect();
    let number = |text: &str| Datum::Number(text.into());
    assert_eq!(
        told,
        [
            (What::Delete, BTreeMap::new()),
            (What::Change, BTreeMap::from([(place("state"), text("gone"))])),
            (What::Add, BTreeMap::from([(place("id"), number("4")), (place("state"), text("due"))])),
        ]
    );
    let by_state = compared(left.clone(), right, &["state"], 10).unwrap();
    let why = drafts(&by_state, &ground, &Progress::default()).unwrap_err();
    assert_eq!(why.to_string(), "sailings is told apart by id: compare by that, and the statements are known");
    let twice = compared(left, sailings(&[(1, "due"), (1, "gone")]), &["id"], 10).unwrap();
    assert!(matches!(drafts(&twice, &ground, &Progress::default()), Err(Undrawn::Repeated(1))));
}

#[test]
fn a_result_that_was_cut_is_known_by_its_statement() {
    for (statement, rows, expected) in [
        ("select * from ports", 100, None),
        ("select * from ports limit 100", 100, Some("limit")),
        ("select * from ports limit 100", 12, None),
        ("select * from ports limit 100 offset 5", 12, Some("limit")),
        ("select * from ports limit 5, 100", 12, Some("limit")),
        ("select * from ports limit :most", 12, Some("limit")),
        ("select * from (select * from ports limit 3) p limit 100", 3, Some("limit")),
        ("select * from ports offset 5", 12, Some("offset")),
        ("select * from ports fetch first 3 rows only", 3, Some("fetch")),
        ("select 'limit 3' as \"limit\" from ports", 3, None),
    ] {
        assert_eq!(cut_by(statement, rows, &POSTGRES), expected, "{statement}");
    }
}

#[test]
fn it_ends_when_it_is_asked_to() {
    let folders = [(); 2].map(|()| tempfile::tempdir().unwrap());
    let rows = columns(&(0..100).map(|id| (id, None)).collect::<Vec<_>>());
    let parts = folders.each_ref().map(|folder| Part::whole(archive(folder.path(), rows.clone(), 10)));
    let names = ["id".to_owned(), "name".to_owned()];
    let progress = Progress::default();
    progress.stop();
    let outcome = compare(&parts[0], &parts[1], Columns::matched(&names, &names, &[]).unwrap(), &progress);
    assert!(matches!(outcome, Err(CompareError::Reading(crate::arrange::ArrangeError::Stopped))));
}
