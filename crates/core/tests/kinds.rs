//! Values of all kinds that servers may have, from the batch to the page, sorted, searched and exported.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_select::concat::concat_batches;
use jaunty_conformance::scripted::kinds;
use jaunty_core::archive::{Archive, Writer};
use jaunty_core::arrange::{Order, Progress, Wanted, arrange};
use jaunty_core::export::file::write_batches;
use jaunty_core::export::{Format, Options};
use jaunty_seam::rows::cell::{ColumnReader, NULL_TEXT};

/// The values, and a row of NULL in each.
fn batch() -> RecordBatch {
    let one = kinds();
    let nulls = one.columns().iter().map(|column| arrow_array::new_null_array(column.data_type(), 1)).collect();
    let none = RecordBatch::try_new(one.schema(), nulls).unwrap();
    concat_batches(&one.schema(), &[none, one]).unwrap()
}

fn texts(batch: &RecordBatch, row: usize) -> Vec<String> {
    ColumnReader::all(batch).iter().map(|reader| reader.get(row).text.into_owned()).collect()
}

/// An archive of them.
fn kept(folder: &std::path::Path) -> Arc<Archive> {
    let batch = batch();
    let path = folder.join("kinds.arrow");
    let mut writer = Writer::create(&path, &batch.schema()).unwrap();
    writer.write(&batch).unwrap();
    writer.write(&batch).unwrap();
    writer.finish().unwrap();
    Arc::new(Archive::open(&path).unwrap())
}

#[test]
fn values_of_all_kinds_are_kept_and_read_back() {
    let folder = tempfile::tempdir().unwrap();
    let archive = kept(folder.path());
    let page = archive.page(0, 10).unwrap();
    assert_eq!(page.rows(), 4);
    let (before, after) = (batch(), &page.batches[1]);
    for row in 0..2 {
        assert_eq!(texts(after, row), texts(&before, row));
    }
    assert!(texts(after, 0).iter().all(|text| text == NULL_TEXT), "{:?}", texts(after, 0));
    // Single columns, too: what is nested has buffers of its own.
    for column in 0..before.num_columns() {
        let alone = archive.gather(&[3], Some(&[column])).unwrap();
        assert_eq!(texts(&alone, 0), [texts(&before, 1)[column].clone()]);
    }
}

#[test]
fn an_independent_reader_reads_them() {
    let folder = tempfile::tempdir().unwrap();
    let archive = kept(folder.path());
    // arrow2 has no 256-bit decimals of 76 digits in the same shape; all else it reads by itself.
    let mut file = std::fs::File::open(archive.path()).unwrap();
    let metadata = arrow2::io::ipc::read::read_file_metadata(&mut file).unwrap();
    let names: Vec<_> = metadata.schema.fields.iter().map(|field| field.name.clone()).collect();
    assert_eq!(names, ["wide", "nanos", "word", "list", "map", "nested", "fixed", "yes"]);
    let chunks: Vec<_> = arrow2::io::ipc::read::FileReader::new(file, metadata, None, None).collect();
    assert_eq!(chunks.len(), 2);
    let chunk = chunks.into_iter().next().unwrap().unwrap();
    let word = chunk.arrays()[2].as_any().downcast_ref::<arrow2::array::Utf8Array<i32>>().unwrap();
    assert_eq!((word.get(0), word.get(1)), (None, Some("high")));
}

#[test]
fn they_are_sorted_and_searched() {
    let folder = tempfile::tempdir().unwrap();
    let archive = kept(folder.path());
    for column in 0..archive.schema().fields().len() {
        let wanted = Wanted { order: vec![Order { column, descending: false }], ..Wanted::default() };
        let arranged = arrange(&archive, &wanted, &Progress::default()).unwrap();
        // NULL comes last.
        let rows = arranged.rows(0, 4);
        assert!(rows[2..].iter().all(|row| row % 2 == 0), "{column}: {rows:?}");
    }
    for text in ["90", "456789", "high", "null]", "value", "1.5", "cafe", "true"] {
        let wanted = Wanted { search: text.to_owned(), ..Wanted::default() };
        let found = arrange(&archive, &wanted, &Progress::default()).unwrap();
        assert_eq!(found.rows(0, 4), [1, 3], "{text}");
    }
}

#[test]
fn every_format_writes_them() {
    let batch = kinds();
    let options = Options { key: vec!["word".to_owned()], table: Some("shelf".to_owned()), ..Options::default() };
    for (format, ..) in Format::ALL {
        let mut out = Vec::new();
        write_batches(&batch.schema(), std::slice::from_ref(&batch), (format, &options), &mut out)
            .unwrap_or_else(|error| panic!("{format:?}: {error}"));
        assert!(!out.is_empty(), "{format:?}");
    }
    let mut out = Vec::new();
    write_batches(&batch.schema(), std::slice::from_ref(&batch), (Format::Json, &Options::default()), &mut out)
        .unwrap();
    let rows: serde_json::Value = serde_json::from_slice(&out).unwrap();
    assert_eq!(rows[0]["list"], serde_json::json!(["a", null]), "what is nested is nested in JSON");
    assert_eq!(rows[0]["nested"]["at"], 1.5);
}
