use std::fs::File;
use std::os::unix::fs::FileExt;
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_ipc::reader::FileReader;

use super::*;
use jaunty_seam::rows::assemble::{Announced, Assembler, Value};
use jaunty_seam::rows::cell::column_text;

fn assembler() -> Assembler {
    let column = |name: &str| Announced { name: name.into(), db_type: "INTEGER".into(), ..Announced::default() };
    Assembler::new(vec![column("n"), column("text")])
}

/// Rows `from..to`; the second column of every third is NULL.
fn batch(assembler: &mut Assembler, from: i64, to: i64) -> RecordBatch {
    for n in from..to {
        let text = format!("row {n}");
        let value = |column| match column {
            0 => Value::Int(n),
            _ if n % 3 == 0 => Value::Null,
            _ => Value::Text(&text),
        };
        assembler.push_row(value).unwrap();
    }
    assembler.take().unwrap()
}

fn numbers(page: &Page) -> Vec<i64> {
    page.batches.iter().flat_map(|b| column_text(b.column(0))).map(|n| n.parse().unwrap()).collect()
}

/// Ten batches of a hundred rows.
fn thousand(path: &std::path::Path) -> Writer {
    let mut assembler = assembler();
    let first = batch(&mut assembler, 0, 100);
    let mut writer = Writer::create(path, &first.schema()).unwrap();
    writer.write(&first).unwrap();
    for n in 1..10 {
        writer.write(&batch(&mut assembler, n * 100, n * 100 + 100)).unwrap();
    }
    writer
}

#[test]
fn pages_are_read_while_it_grows() {
    let folder = tempfile::tempdir().unwrap();
    let mut assembler = assembler();
    let first = batch(&mut assembler, 0, 10);
    let mut writer = Writer::create(&folder.path().join("a.arrow"), &first.schema()).unwrap();
    let archive = Arc::clone(writer.archive());
    assert_eq!((archive.rows(), archive.page(0, 5).unwrap().rows()), (0, 0));
    writer.write(&first).unwrap();
    assert_eq!(numbers(&archive.page(8, 5).unwrap()), [8, 9]);
    writer.write(&batch(&mut assembler, 10, 20)).unwrap();
    let page = archive.page(8, 5).unwrap();
    assert_eq!((numbers(&page), page.of), (vec![8, 9, 10, 11, 12], 20));
    assert_eq!(column_text(archive.page(9, 1).unwrap().batches[0].column(1)), ["∅"]);
    assert_eq!(numbers(&archive.page(20, 5).unwrap()), [] as [i64; 0]);
}

#[test]
fn any_page_of_a_finished_archive() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.arrow");
    thousand(&path).finish().unwrap();
    let archive = Archive::open(&path).unwrap();
    assert_eq!(archive.rows(), 1000);
    for (from, count) in [(0, 50), (95, 10), (99, 202), (990, 50), (999, 1)] {
        let expected: Vec<_> = (from..(from + count as i64).min(1000)).collect();
        assert_eq!(numbers(&archive.page(from as u64, count).unwrap()), expected);
    }
    assert_eq!(archive.batches().map(|b| b.unwrap().num_rows()).sum::<usize>(), 1000);
}

#[test]
fn other_programs_read_it() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.arrow");
    thousand(&path).finish().unwrap();
    let reader = FileReader::try_new(File::open(&path).unwrap(), None).unwrap();
    assert_eq!(reader.schema().field(0).metadata()[jaunty_seam::rows::DB_TYPE], "INTEGER");
    assert_eq!(reader.map(|b| b.unwrap().num_rows()).sum::<usize>(), 1000);
}

#[cfg(unix)]
#[test]
fn it_is_its_owners_alone() {
    use std::os::unix::fs::PermissionsExt;
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("deep/a.arrow");
    thousand(&path);
    let mode = |path: &std::path::Path| std::fs::metadata(path).unwrap().permissions().mode() & 0o777;
    assert_eq!((mode(&path), mode(path.parent().unwrap())), (0o600, 0o700));
}

#[test]
fn a_crash_at_any_byte_costs_at_most_one_batch() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.arrow");
    let writer = thousand(&path);
    let ends: Vec<u64> =
        writer.archive().snapshot().places.iter().map(|p| p.offset + u64::from(p.head) + p.body).collect();
    drop(writer);
    let whole = std::fs::read(&path).unwrap();
    let cut = folder.path().join("cut.arrow");
    let edges = ends.iter().flat_map(|end| (end - 1)..=(end + 1)).map(|at| at as usize).filter(|at| *at <= whole.len());
    for length in (0..whole.len()).step_by(97).chain(edges) {
        std::fs::write(&cut, &whole[..length]).unwrap();
        let expected = ends.iter().filter(|end| **end <= length as u64).count() as u64 * 100;
        match Archive::open(&cut) {
            Ok(archive) => {
                assert_eq!(archive.rows(), expected, "cut at {length}");
                let last = archive.page(expected.saturating_sub(1), 9).unwrap();
                assert_eq!(last.rows() as u64, expected.min(1));
            }
            Err(ArchiveError::NotAnArchive { .. }) => assert_eq!(expected, 0),
            Err(error) => panic!("{error}"),
        }
    }
}

#[test]
fn what_is_no_archive_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a");
    for bytes in [&b""[..], b"SQLite format 3\0 and more", b"ARROW1\0\0\xff\xff\xff\xff\xff\xff\xff\xff"] {
        std::fs::write(&path, bytes).unwrap();
        assert!(matches!(Archive::open(&path), Err(ArchiveError::NotAnArchive { .. })));
    }
}

#[test]
fn a_column_that_turns_out_wider_keeps_every_value() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.arrow");
    let mut assembler = assembler();
    assembler.push_row(|_| Value::Null).unwrap();
    let first = assembler.take().unwrap();
    let mut writer = Writer::create(&path, &first.schema()).unwrap();
    let archive = Arc::clone(writer.archive());
    writer.write(&first).unwrap();
    for value in [Value::Int(7), Value::Text("seven"), Value::Real(7.0), Value::Null] {
        assembler.push_row(|_| value).unwrap();
        writer.write(&assembler.take().unwrap()).unwrap();
    }
    let expected = ["∅", "7", "seven", "7.0", "∅"];
    let read = |archive: &Archive| {
        let page = archive.page(0, 10).unwrap();
        page.batches.iter().flat_map(|b| column_text(b.column(0))).collect::<Vec<_>>()
    };
    assert_eq!(read(&archive), expected);
    writer.finish().unwrap();
    assert_eq!(read(&Archive::open(&path).unwrap()), expected);
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
}

/// Rows with these columns: the number of the row in the first, and its name with that number in the others.
fn named(columns: &[&str], rows: std::ops::Range<i64>) -> RecordBatch {
    use arrow_array::{ArrayRef, Int64Array, StringArray};
    let numbers: ArrayRef = Arc::new(Int64Array::from_iter_values(rows.clone()));
    let others = columns.iter().skip(1).map(|name| -> (&str, ArrayRef) {
        (name, Arc::new(StringArray::from_iter_values(rows.clone().map(|row| format!("{name} {row}")))))
    });
    let all = [(columns[0], numbers)].into_iter().chain(others).map(|(name, column)| (name, column, true));
    RecordBatch::try_from_iter_with_nullable(all).unwrap()
}

#[test]
fn columns_that_turn_up_late_leave_what_was_kept_as_it_is() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.arrow");
    let first = named(&["n", "quay"], 0..5);
    let mut writer = Writer::create(&path, &first.schema()).unwrap();
    let archive = Arc::clone(writer.archive());
    writer.write(&first).unwrap();
    let kept = std::fs::read(&path).unwrap();
    writer.write(&named(&["n", "quay", "tide"], 5..9)).unwrap();
    writer.write(&named(&["n", "quay", "tide"], 9..12)).unwrap();
    writer.write(&named(&["n", "quay", "tide", "fog", "bell"], 12..15)).unwrap();
    assert!(std::fs::read(&path).unwrap().starts_with(&kept), "nothing is written again");
    let row = |archive: &Archive, at: u64| {
        let page = archive.page(at, 1).unwrap();
        page.batches[0].columns().iter().flat_map(column_text).collect::<Vec<_>>()
    };
    let check = |archive: &Archive| {
        assert_eq!(archive.rows(), 15);
        assert_eq!(row(archive, 4), ["4", "quay 4", "∅", "∅", "∅"]);
        assert_eq!(row(archive, 8), ["8", "quay 8", "tide 8", "∅", "∅"]);
        assert_eq!(row(archive, 14), ["14", "quay 14", "tide 14", "fog 14", "bell 14"]);
        let some: Vec<_> = archive.scan(Some(&[1, 3]), 3..14).map(|batch| batch.unwrap().1).collect();
        let texts = |column: usize| some.iter().flat_map(|b| column_text(b.column(column))).collect::<Vec<_>>();
        assert_eq!(texts(0), (3..14).map(|n| format!("quay {n}")).collect::<Vec<_>>());
        assert_eq!(texts(1)[8..], ["∅", "fog 12", "fog 13"]);
        assert_eq!(column_text(archive.gather(&[13, 2], Some(&[3])).unwrap().column(0)), ["fog 13", "∅"]);
        let gathered = archive.gather(&[14, 0, 7], None).unwrap();
        assert_eq!(column_text(gathered.column(2)), ["tide 14", "∅", "tide 7"]);
        let glimpse = archive.glimpse(0, 15, 3).unwrap();
        assert!(glimpse.batches.iter().all(|batch| batch.schema_ref() == &glimpse.schema));
    };
    check(&archive);
    writer.finish().unwrap();
    check(&Archive::open(&path).unwrap());
    let whole = std::fs::read(&path).unwrap();
    // Other programs refuse it.
    assert!(FileReader::try_new(File::open(&path).unwrap(), None).is_err());
    // Cut at any byte it has the whole batches before, and a flipped bit is found.
    let cut = folder.path().join("cut.arrow");
    let mut seen = std::collections::BTreeSet::new();
    for length in (kept.len()..whole.len()).step_by(13) {
        std::fs::write(&cut, &whole[..length]).unwrap();
        let archive = Archive::open(&cut).unwrap();
        seen.insert((archive.rows(), archive.schema().fields().len()));
        if archive.rows() > 8 {
            assert_eq!(row(&archive, 8)[..3], ["8", "quay 8", "tide 8"]);
        }
    }
    assert_eq!(Vec::from_iter(seen), [(5, 2), (5, 3), (9, 3), (12, 3), (12, 5), (15, 5)]);
    let mut found = 0;
    for at in (0..whole.len()).step_by(29) {
        let mut bytes = whole.clone();
        bytes[at] ^= 0x20;
        std::fs::write(&cut, &bytes).unwrap();
        let read = |archive: &Archive| archive.batches().collect::<Result<Vec<_>, _>>();
        match Archive::open(&cut).and_then(|archive| read(&archive)) {
            Ok(batches) => assert_eq!(batches, read(&Archive::open(&path).unwrap()).unwrap(), "byte {at}"),
            Err(_) => found += 1,
        }
    }
    assert!(found > whole.len() / 40, "{found}");
    // One of them becoming wider makes a file of one schema again.
    let wider = folder.path().join("wider.arrow");
    let mut writer = Writer::create(&wider, &first.schema()).unwrap();
    writer.write(&first).unwrap();
    writer.write(&named(&["n", "quay", "tide"], 5..9)).unwrap();
    let numbers = Arc::new(arrow_array::Int64Array::from(vec![7]));
    let last = named(&["n", "quay"], 9..10);
    let columns = last.columns().iter().cloned().chain([numbers as _]);
    let names = ["n", "quay", "tide"].into_iter().zip(columns).map(|(name, column)| (name, column, true));
    writer.write(&RecordBatch::try_from_iter_with_nullable(names).unwrap()).unwrap();
    writer.finish().unwrap();
    let archive = Archive::open(&wider).unwrap();
    assert_eq!([0, 5, 9].map(|at| row(&archive, at)[2].clone()), ["∅", "tide 5", "7"]);
    assert_eq!(FileReader::try_new(File::open(&wider).unwrap(), None).unwrap().count(), 3);
}

#[test]
fn a_full_disk_leaves_what_was_written() {
    // Writing to this device always fails as a full disk does.
    let full = std::path::Path::new("/dev/full");
    let schema = batch(&mut assembler(), 0, 1).schema();
    match Writer::create(full, &schema) {
        Err(ArchiveError::Rows(error)) => assert!(error.to_string().contains("No space left"), "{error}"),
        Err(ArchiveError::File { source, .. }) => assert_eq!(source.kind(), io::ErrorKind::StorageFull),
        Ok(_) => panic!("a full disk took the schema"),
        Err(other) => panic!("{other}"),
    }
}

#[test]
fn some_columns_are_read_as_they_are_among_all() {
    use arrow_array::{ArrayRef, BooleanArray, Decimal128Array, NullArray, TimestampMicrosecondArray};
    let folder = tempfile::tempdir().unwrap();
    let mut assembler = Assembler::new(vec![Announced { name: "mixed".into(), ..Announced::default() }; 3]);
    for n in 0..50_i64 {
        let text = format!("row {n}");
        let value = |column| match (column, n % 3) {
            (0, 0) => Value::Int(n),
            (0, 1) => Value::Text(&text),
            (1, _) | (0, _) => Value::Null,
            _ => Value::Bytes(text.as_bytes()),
        };
        assembler.push_row(value).unwrap();
    }
    let made = assembler.take().unwrap();
    let [mixed, none, blob] = made.columns() else { panic!("three columns") };
    assert!(jaunty_seam::rows::widen::is_mixed(mixed.data_type()));
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("none", Arc::new(NullArray::new(50))),
        ("mixed", Arc::clone(mixed)),
        ("open", Arc::new(BooleanArray::from_iter((0..50).map(|n| (n % 7 != 0).then_some(n % 2 == 0))))),
        ("void", Arc::clone(none)),
        ("price", Arc::new(Decimal128Array::from_iter((0..50).map(|n| (n % 5 != 0).then_some(n * 100))))),
        ("blob", Arc::clone(blob)),
        ("at", Arc::new(TimestampMicrosecondArray::from_iter_values(0..50))),
    ];
    let all = RecordBatch::try_from_iter_with_nullable(columns.into_iter().map(|(name, a)| (name, a, true))).unwrap();
    let mut writer = Writer::create(&folder.path().join("a.arrow"), &all.schema()).unwrap();
    for _ in 0..3 {
        writer.write(&all).unwrap();
    }
    for some in [&[0][..], &[1], &[2], &[3], &[4], &[5], &[6], &[1, 4, 6], &[0, 5]] {
        for batch in writer.archive().scan(Some(some), 0..150) {
            assert_eq!(batch.unwrap().1, all.project(some).unwrap(), "{some:?}");
        }
    }
}

/// A flipped bit is found, and never shown; nor does it end the program.
#[test]
fn a_damaged_archive_says_so_and_names_itself() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.arrow");
    thousand(&path).finish().unwrap();
    let good = std::fs::read(&path).unwrap();
    let all = |archive: &Archive| -> Result<Vec<String>, ArchiveError> {
        let mut rows = Vec::new();
        for batch in archive.batches() {
            let batch = batch?;
            rows.extend(
                column_text(batch.column(0)).into_iter().zip(column_text(batch.column(1))).map(|(a, b)| a + &b),
            );
        }
        Ok(rows)
    };
    let expected = all(&Archive::open(&path).unwrap()).unwrap();
    let mut found = 0;
    for at in (0..good.len()).step_by(41) {
        for bit in [0x01, 0x80] {
            let mut bytes = good.clone();
            bytes[at] ^= bit;
            std::fs::write(&path, &bytes).unwrap();
            match Archive::open(&path).and_then(|archive| all(&archive)) {
                Ok(rows) => assert_eq!(rows, expected, "byte {at}"),
                Err(error) => {
                    found += 1;
                    assert!(error.to_string().contains("a.arrow"), "byte {at}: {error}");
                }
            }
            // Without a footer there is no checksum: what is not found must not end the program.
            let cut = bytes.len() * 3 / 4;
            std::fs::write(&path, &bytes[..cut]).unwrap();
            if let Ok(archive) = Archive::open(&path) {
                let _ = all(&archive);
                let _ = archive.scan(Some(&[1]), 0..archive.rows()).filter(Result::is_ok).count();
                let _ = archive.gather(&[5, 300, 700], None);
            }
        }
    }
    assert!(found > good.len() / 41, "{found} of {}", good.len());
}

/// Rows of every kind of column with values of these lengths, in one batch that counts as large.
fn long_values(lengths: &[usize]) -> RecordBatch {
    let announced = ["n", "text", "raw", "any"].map(|name| Announced { name: name.into(), ..Announced::default() });
    let mut assembler = Assembler::new(announced.to_vec());
    for (n, length) in lengths.iter().enumerate() {
        let text: String = "quay äö名 ".chars().cycle().take(*length).collect();
        let raw: Vec<u8> = (0..*length).map(|at| at as u8).collect();
        assembler
            .push_row(|column| match column {
                0 => Value::Int(n as i64),
                1 => Value::Text(&text),
                2 if n == 1 => Value::Null,
                2 => Value::Bytes(&raw),
                _ if n % 2 == 0 => Value::Bytes(&raw),
                _ => Value::Text(&text),
            })
            .unwrap();
    }
    assembler.take().unwrap()
}

#[test]
fn of_long_values_a_part_is_read_and_the_rest_is_not() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.arrow");
    let lengths = [3, 2_000_000, 0, 70_000, 1_500_001, 64, 12];
    let batch = long_values(&lengths);
    let mut writer = Writer::create(&path, &batch.schema()).unwrap();
    writer.write(&batch).unwrap();
    writer.write(&long_values(&[5, 5])).unwrap();
    writer.finish().unwrap();
    let archive = Archive::open(&path).unwrap();
    let whole = archive.page(0, 9).unwrap();
    let texts = |batch: &RecordBatch| batch.columns().iter().map(column_text).collect::<Vec<_>>();
    assert_eq!(texts(&whole.batches[0]), texts(&batch));
    // What is looked at begins as the values do, and ends with a whole character.
    let most = 1001;
    let glimpse = archive.glimpse(0, 9, most).unwrap();
    assert_eq!((glimpse.rows(), glimpse.of, glimpse.schema), (9, 9, whole.schema.clone()));
    let small = &glimpse.batches[0];
    assert!(small.get_array_memory_size() < 100_000, "{}", small.get_array_memory_size());
    for (seen, all) in texts(small).iter().flatten().zip(texts(&batch).iter().flatten()) {
        assert!(all.starts_with(seen.as_str()));
        let (least, is_text) = (most as usize - 3, all.contains(' '));
        assert!(if is_text { seen.len() >= all.len().min(least) } else { seen.len() >= all.len().min(2 * least) });
    }
    let gathered = archive.gather_glimpse(&[6, 1, 3], most).unwrap();
    let row =
        |batch: &RecordBatch, row: usize| texts(batch).iter().map(|column| column[row].clone()).collect::<Vec<_>>();
    let rows = |batch: &RecordBatch, all: [usize; 3]| all.map(|at| row(batch, at));
    assert_eq!(rows(&gathered, [0, 1, 2]), rows(small, [6, 1, 3]));
    // Gone through by parts, a value is what it was, and says how long it is.
    for (at, column) in [(0, 1), (1, 1), (3, 2), (4, 2), (3, 3), (4, 3), (2, 3)] {
        let all = row(&batch, at)[column].clone();
        let each = if all.contains(' ') { 1 } else { 2 };
        let (mut from, mut together) = (0, String::new());
        loop {
            let window = Window { from: (column, from), most: 50_001 };
            let (part, cuts) = archive.row_through(at as u64, window).unwrap().unwrap();
            assert_eq!(row(&part, 0)[0], at.to_string());
            let text = row(&part, 0)[column].clone();
            together.push_str(&text);
            let Some(cut) = cuts.iter().find(|cut| cut.column == column) else { break };
            assert_eq!((cut.row, cut.from, cut.length), (0, from, (all.len() / each) as u64));
            from = cut.from + (text.len() / each) as u64;
            if from == cut.length {
                break;
            }
        }
        assert!(together == all, "{at} {column}: {} of {}", together.len(), all.len());
    }
    assert!(archive.row_through(9, Window::first(9)).unwrap().is_none());
}

#[test]
fn damaged_offsets_of_long_values_are_an_error() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.arrow");
    let batch = long_values(&[9, 3_000_000, 9]);
    let mut writer = Writer::create(&path, &batch.schema()).unwrap();
    writer.write(&batch).unwrap();
    let place = writer.archive().snapshot().places[0];
    writer.finish().unwrap();
    // Everything before the first long value, byte by byte: changed, and nothing.
    let file = File::options().read(true).write(true).open(&path).unwrap();
    let mut refused = 0;
    for at in place.offset..place.offset + u64::from(place.head) + 600 {
        let mut byte = [0];
        file.read_exact_at(&mut byte, at).unwrap();
        for other in [byte[0] ^ 0xd5, 0] {
            file.write_all_at(&[other], at).unwrap();
            match Archive::open(&path).and_then(|archive| archive.glimpse(0, 9, 100)) {
                Ok(page) => assert!(page.rows() <= 3),
                Err(ArchiveError::Damaged { path: told, .. } | ArchiveError::NotAnArchive { path: told, .. }) => {
                    assert_eq!(told, path);
                    refused += 1;
                }
                Err(error) => panic!("{error}"),
            }
        }
        file.write_all_at(&byte, at).unwrap();
    }
    assert!(refused > 20, "{refused}");
}
