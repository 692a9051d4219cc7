use std::collections::BTreeMap;

use super::*;
use crate::complete::tests::saltmarsh;
use jaunty_language::dialect::{MYSQL, POSTGRES, SQLITE, SQLSERVER};
use jaunty_seam::catalog::{Column, Name};
use proptest::prelude::*;

fn number(value: i64) -> Datum {
    Datum::Number(value.to_string())
}

fn text(value: &str) -> Datum {
    Datum::Text(value.into())
}

/// A table of berths: a number that the server gives, a unique code, the berth beside it, a note.
fn berths() -> Slip {
    let table = Name { schema: "quay".into(), name: "berths".into() };
    let column = |name: &str, key, nullable| Column { name: name.into(), key, nullable, ..Column::default() };
    let field = |at, column| Field { column, at: Some(at), ..Field::default() };
    let mut fields = vec![
        Field {
            numbered: true,
            ..field(0, Column { generated: Some("by default as identity".into()), ..column("id", true, false) })
        },
        field(1, column("code", false, false)),
        Field { references: Some((table.clone(), "id".into())), ..field(2, column("beside", false, true)) },
        field(3, column("note", false, true)),
    ];
    fields[1].kind = Kind::Text(Some(8));
    let ground = Ground {
        table,
        written: "quay.berths".into(),
        fields,
        key: vec![0],
        unique: vec![vec![0], vec![1]],
        place: None,
    };
    Slip { connection: "harbour".into(), ground, ..Slip::default() }
}

fn row(id: i64, code: &str, beside: Option<i64>, note: &str) -> (u64, Row) {
    let beside = beside.map_or(Datum::Null, number);
    (id as u64, vec![Some(number(id)), Some(text(code)), Some(beside), Some(text(note))])
}

fn shown(slip: &Slip) -> Vec<String> {
    statements::steps(slip, &POSTGRES).into_iter().map(|step| step.shown).collect()
}

#[test]
fn of_long_values_the_difference_is_shown() {
    let words = "the tide tables for the eastern quays are printed";
    for (old, new, shown) in [
        ("N7", "N8", ("N7", "N8")),
        (
            r#"{ name: "MLH–LNT", from: "MLH", to: "LNT", distance_nm: 69 }"#,
            r#"{ name: "MLH–LNT", from: "MLH", to: "LNT", distance_nm: 70 }"#,
            ("… distance_nm: 69 }", "… distance_nm: 70 }"),
        ),
        (
            r#"{ name: "MLH", from: "MLH", to: "LNT", distance_nm: 69 }"#,
            r#"{ name: "MLH–LNT", from: "MLH", to: "LNT", distance_nm: 69 }"#,
            (r#"{ name: "MLH" …"#, r#"{ name: "MLH–LNT" …"#),
        ),
        (&format!("{words} twice a year"), &format!("{words} once a year"), ("… twice a year", "… once a year")),
        (words, &format!("{words} anew"), ("… printed", "… printed anew")),
        (
            "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa",
            "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa",
            ("aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa", "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"),
        ),
        ("", "ü", ("", "ü")),
        ("north quay, berth 7,\t", "north quay, berth 7,", ("… \t", "… ")),
    ] {
        let (one, other) = where_they_differ(old, new);
        assert_eq!((one.as_str(), other.as_str()), shown, "{old} {new}");
    }
}

proptest::proptest! {
    #[test]
    fn where_two_values_differ_is_cut_nowhere_inside_a_character(head in "[aü, {]{0,60}", one in ".{0,9}", other in ".{0,9}", tail in "[bß, }]{0,60}") {
        let (one, other) = (format!("{head}{one}{tail}"), format!("{head}{other}{tail}"));
        let shown = where_they_differ(&one, &other);
        proptest::prop_assert_eq!(shown.0 == shown.1, one == other);
    }
}

#[test]
fn a_value_as_it_was_takes_its_draft_back() {
    let mut slip = berths();
    slip.change(row(7, "N7", None, ""), 3, text("deep")).unwrap();
    slip.change(row(7, "N7", None, ""), 1, text("N8")).unwrap();
    assert_eq!(slip.line(0), "id 7: code: N7 → N8, note: '' → deep");
    slip.change(row(7, "N7", None, ""), 3, text("")).unwrap();
    assert_eq!(slip.line(0), "id 7: code: N7 → N8");
    slip.change(row(7, "N7", None, ""), 1, text("N7")).unwrap();
    assert!(slip.is_empty());
    // NULL and an empty text are different, also to the eye.
    slip.change(row(7, "N7", None, ""), 3, Datum::Null).unwrap();
    assert_eq!((slip.line(0).as_str(), slip.counted().as_str()), ("id 7: note: '' → NULL", "1 changed"));
}

#[test]
fn what_cannot_be_is_not_drafted() {
    let mut slip = berths();
    let mistake = slip.change(row(7, "N7", None, ""), 1, Datum::Null).unwrap_err();
    assert_eq!(mistake.to_string(), "\"code\" cannot be NULL");
    assert_eq!(slip.allows(1, &Datum::Default).unwrap_err().to_string(), "\"code\" has no default");
    slip.ground.fields[3].column.generated = Some("code || '!'".into());
    assert_eq!(slip.allows(3, &text("x")), Err(Undrafted::Computed("note".into())));
    let outer = vec![Some(Datum::Null), Some(Datum::Null), None, None];
    let nobody = slip.change((9, outer), 1, text("N9")).unwrap_err();
    assert_eq!(nobody.to_string(), "there is no row of berths here: its key is NULL");
    assert!(slip.delete(row(7, "N7", None, "")).unwrap());
    assert_eq!(slip.change(row(7, "N7", None, ""), 1, text("N8")), Err(Undrafted::Deleted));
    assert!(!slip.delete(row(7, "N7", None, "")).unwrap(), "the second time takes it back");
    assert!(slip.is_empty());
}

#[test]
fn statements_come_in_the_order_that_keys_need() {
    let mut slip = berths();
    // Each takes a code that another one frees: the last is free.
    slip.change(row(1, "N1", None, ""), 1, text("N2")).unwrap();
    slip.change(row(2, "N2", None, ""), 1, text("N3")).unwrap();
    slip.change(row(3, "N3", None, ""), 1, text("N4")).unwrap();
    let order = |slip: &Slip| statements::steps(slip, &POSTGRES).iter().map(|step| step.draft).collect::<Vec<_>>();
    assert_eq!(order(&slip), [2, 1, 0]);
    // A row that references another goes first; one that references a new one comes after it.
    let mut slip = berths();
    slip.delete(row(1, "N1", None, "")).unwrap();
    slip.delete(row(2, "N2", Some(1), "")).unwrap();
    slip.add(BTreeMap::from([(1, text("N9")), (2, number(20))]));
    slip.add(BTreeMap::from([(0, number(20)), (1, text("N1"))]));
    assert_eq!(order(&slip), [1, 0, 3, 2]);
    // A circle is left to the server, and nothing is left out.
    let mut slip = berths();
    slip.change(row(1, "N1", None, ""), 1, text("N2")).unwrap();
    slip.change(row(2, "N2", None, ""), 1, text("N1")).unwrap();
    assert_eq!(order(&slip).len(), 2);
}

#[test]
fn each_language_has_its_own_statements() {
    let mut slip = berths();
    slip.change(row(7, "N'7", None, "x"), 3, Datum::Null).unwrap();
    slip.add(BTreeMap::from([(0, number(8)), (1, text("N8"))]));
    slip.add(BTreeMap::new());
    let scripts = [&POSTGRES, &SQLITE, &MYSQL, &SQLSERVER]
        .map(|dialect| format!("-- {}\n{}", dialect.name, statements::script(&slip, dialect, false)));
    insta::assert_snapshot!(scripts.concat());
    let sent = &statements::steps(&slip, &POSTGRES)[1];
    assert!(sent.text.contains("values (:v1, :v2)") && sent.values.len() == 2, "{}", sent.text);
}

#[test]
fn without_a_key_all_that_was_read_tells_rows_apart() {
    let mut slip = berths();
    slip.ground.key.clear();
    slip.ground.fields[3].kind = Kind::Json;
    slip.change(row(7, "N7", None, "{}"), 1, text("N8")).unwrap();
    assert_eq!(
        shown(&slip),
        [
            "update quay.berths set code = 'N8' where id::text = '7' and code = 'N7' and beside is null and note::text = '{}'"
        ]
    );
}

#[test]
fn a_conflict_is_settled_three_ways() {
    let drafted = || {
        let mut slip = berths();
        slip.change(row(7, "N7", None, "deep"), 1, text("N8")).unwrap();
        slip
    };
    let theirs = row(7, "N7", None, "shallow").1;
    let conflict = Conflict { draft: 0, theirs: Some(theirs) };
    for (keep, expected) in [
        (Keep::Theirs, &[][..]),
        (Keep::Both, &["update quay.berths set code = 'N8' where id = 7"]),
        (Keep::Ours, &["update quay.berths set code = 'N8', note = 'deep' where id = 7"]),
    ] {
        let mut slip = drafted();
        slip.settle(&conflict, keep);
        let shown: Vec<_> = shown(&slip).iter().map(|text| text.replace(", id = 7", "")).collect();
        assert_eq!(shown, expected, "{keep:?}");
    }
    let mut slip = drafted();
    slip.settle(&Conflict { draft: 0, theirs: None }, Keep::Ours);
    assert_eq!(slip.line(0), "id 7, code N8, beside NULL, note deep");
    assert_eq!(slip.drafts[0].what, What::Add);
}

#[test]
fn a_slip_is_on_disk_with_every_draft() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::new(folder.path().join("slips"));
    assert!(store.all().is_empty());
    let mut slip = berths();
    slip.change(row(7, "N7", None, ""), 3, text("\u{1b}[2J")).unwrap();
    store.save(&slip).unwrap();
    let mut other = Slip { archive: "other.arrow".into(), ..slip.clone() };
    other.add(BTreeMap::new());
    store.save(&other).unwrap();
    let found = store.all();
    assert_eq!(found.len(), 2);
    assert!(found.iter().any(|kept| kept.slip.as_ref().is_ok_and(|found| *found == slip)));
    slip.drafts.clear();
    store.save(&slip).unwrap();
    assert_eq!(store.all().len(), 1, "one without drafts is none");
    // One that was damaged is told of, and stays.
    std::fs::write(store.path_of(&other), "{\"connection\":").unwrap();
    assert!(store.all()[0].slip.is_err());
}

#[test]
fn two_programs_draft_for_the_same_rows() {
    let folder = tempfile::tempdir().unwrap();
    let open = || Store::new(folder.path().join("slips"));
    let (one, other) = (open(), open());
    let (mut ours, mut theirs) = (berths(), berths());
    ours.change(row(7, "N7", None, ""), 3, text("ours")).unwrap();
    assert_eq!(one.save(&ours).unwrap(), None);
    // Another begins beside it, with another row and another field of the same one.
    theirs.change(row(8, "N8", None, ""), 3, text("theirs")).unwrap();
    theirs.change(row(7, "N7", None, ""), 1, text("N77")).unwrap();
    let merged = other.save(&theirs).unwrap().unwrap();
    let lines = |slip: &Slip| (0..slip.drafts.len()).map(|at| slip.line(at)).collect::<Vec<_>>();
    let both = ["id 8: note: '' → theirs", "id 7: code: N7 → N77, note: '' → ours"];
    assert_eq!(lines(&merged), both);
    // The first learns of it with its next draft, and drops what it dropped.
    ours.drafts.clear();
    ours.add(BTreeMap::from([(1, text("N9"))]));
    let merged = one.save(&ours).unwrap().unwrap();
    assert_eq!(lines(&merged), ["code N9", both[0], both[1]]);
    // What one sends goes, and what the other drafted meanwhile stays.
    let sent = merged.clone();
    let mut theirs = other.all().remove(0).slip.unwrap();
    theirs.add(BTreeMap::from([(1, text("N10"))]));
    assert_eq!(other.save(&theirs).unwrap(), None);
    one.remove(&sent).unwrap();
    assert_eq!(lines(one.all()[0].slip.as_ref().unwrap()), ["code N10"]);
    theirs.change(row(9, "N9", None, ""), 3, text("after")).unwrap();
    assert_eq!(lines(&other.save(&theirs).unwrap().unwrap()), ["code N10", "id 9: note: '' → after"]);
    // A file that nobody can read is not written over.
    std::fs::write(one.path_of(&ours), "{\"connection\":").unwrap();
    assert_eq!(one.save(&ours).unwrap(), None);
    let aside = one.path_of(&ours).with_extension("unread");
    assert_eq!(std::fs::read_to_string(aside).unwrap(), "{\"connection\":");
}

fn note_of(draft: &Draft) -> String {
    match &draft.new[&3] {
        Datum::Text(note) => note.clone(),
        other => panic!("{other:?}"),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// Whatever the order in which several programs draft for rows of their own, all of it is on disk at the end.
    #[test]
    fn drafts_of_several_programs_are_all_kept(order in proptest::collection::vec((0..3_usize, 0..4_u64, "[a-c]?"), 1..40)) {
        let folder = tempfile::tempdir().unwrap();
        let mut programs: Vec<(Store, Slip)> =
            (0..3).map(|_| (Store::new(folder.path().join("slips")), berths())).collect();
        let mut model = BTreeMap::new();
        for (program, row_of_it, note) in order {
            let id = program as u64 * 10 + row_of_it;
            let (store, slip) = &mut programs[program];
            // A value as it was takes the draft back.
            slip.change(row(id as i64, "N", None, ""), 3, text(&note)).unwrap();
            match note.is_empty() {
                true => model.remove(&id),
                false => model.insert(id, note),
            };
            if let Some(merged) = store.save(slip).unwrap() {
                *slip = merged;
            }
        }
        let kept = Store::new(folder.path().join("slips")).all();
        let drafts = kept.iter().flat_map(|kept| &kept.slip.as_ref().unwrap().drafts);
        let found: BTreeMap<u64, String> =
            drafts.map(|draft| (draft.row.unwrap(), note_of(draft))).collect();
        prop_assert_eq!(found, model);
    }
}

#[test]
fn a_copy_of_a_row_leaves_out_what_the_server_numbers() {
    let slip = berths();
    let (_, old) = row(7, "N7", None, "deep");
    let new = slip.copied(&old);
    assert_eq!(new.into_keys().collect::<Vec<_>>(), [1, 2, 3]);
    let ground = Ground::find(
        ("select * from sailings", &["id", "route_id", "vessel_id", "departs", "state"].map(str::to_owned), &[]),
        1,
        &saltmarsh(),
        &POSTGRES,
    );
    assert_eq!(ground.unwrap().field_at(4), Some(4));
}
