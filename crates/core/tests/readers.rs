//! What other implementations read out of exported files: Python's `csv` and `json`, and readers of
//! workbooks, Parquet and Arrow files that share no code with what writes them.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;

use arrow_array::{
    ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int64Array, RecordBatch, StringArray,
    TimestampMicrosecondArray,
};
use arrow_schema::{DataType, Field, Schema, TimeUnit};
use calamine::{Data, DataType as _, Reader as _};
use jaunty_core::archive::{Archive, Writer};
use jaunty_core::arrange::Progress;
use jaunty_core::arrange::pick::Part;
use jaunty_core::export::file::save;
use jaunty_core::export::{Format, Options};

const ROWS: usize = 10_000;

/// Text of everything that a format could trip over; none for NULL.
fn hostile(n: usize) -> Option<String> {
    const PIECES: [&str; 24] = [
        "\"",
        ",",
        "\n",
        "\r\n",
        "\r",
        "\t",
        ";",
        "'",
        "\\",
        " ",
        "=1+1",
        "@x",
        "<b>&amp;",
        "|",
        "NULL",
        "null",
        "∅",
        "名前",
        "é",
        "e\u{301}",
        "\u{202e}",
        "\u{1f6a2}",
        "0x1F",
        "-",
    ];
    // A row in nine has nothing, one in ten an empty text.
    if n % 9 == 4 {
        return None;
    }
    let mut state = (n as u64 + 1).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    let count = if n % 10 == 3 { 0 } else { n % 7 + 1 };
    let piece = |_| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        PIECES[(state % PIECES.len() as u64) as usize]
    };
    Some((0..count).map(piece).collect())
}

fn number(n: usize) -> Option<i64> {
    (n % 11 != 5).then_some(n as i64 * 1_000_003 - 5_000_000)
}

fn batch(rows: std::ops::Range<usize>) -> RecordBatch {
    let schema = Schema::new(vec![
        Field::new("n", DataType::Int64, true),
        Field::new("te\"xt,", DataType::Utf8, true),
        Field::new("real", DataType::Float64, true),
        Field::new("yes", DataType::Boolean, true),
        Field::new("day", DataType::Date32, true),
        Field::new("at", DataType::Timestamp(TimeUnit::Microsecond, None), true),
        Field::new("price", DataType::Decimal128(12, 2), true),
    ]);
    let each = || rows.clone();
    let prices = each().map(|n| Some(n as i128 * 25)).collect::<Decimal128Array>();
    let columns: Vec<ArrayRef> = vec![
        Arc::new(each().map(number).collect::<Int64Array>()),
        Arc::new(each().map(hostile).collect::<StringArray>()),
        Arc::new(each().map(|n| Some(n as f64 / 7.0)).collect::<Float64Array>()),
        Arc::new(each().map(|n| Some(n % 2 == 0)).collect::<BooleanArray>()),
        Arc::new(each().map(|n| Some(n as i32)).collect::<Date32Array>()),
        Arc::new(each().map(|n| Some(n as i64 * 1_000_000)).collect::<TimestampMicrosecondArray>()),
        Arc::new(prices.with_precision_and_scale(12, 2).unwrap()),
    ];
    RecordBatch::try_new(Arc::new(schema), columns).unwrap()
}

fn archive(folder: &Path) -> Arc<Archive> {
    let mut writer = Writer::create(&folder.join("kept.arrow"), &batch(0..0).schema()).unwrap();
    for from in (0..ROWS).step_by(777) {
        writer.write(&batch(from..(from + 777).min(ROWS))).unwrap();
    }
    let archive = Arc::clone(writer.archive());
    writer.finish().unwrap();
    archive
}

fn exported(folder: &Path, format: Format) -> PathBuf {
    let path = folder.join(format!("rows.{}", format.ending()));
    let part = Part::whole(archive(folder));
    assert_eq!(save(&part, &path, format, &Options::default(), &Progress::default()).unwrap(), ROWS as u64);
    path
}

/// What a Python program makes of a file: one JSON text a row, of the number and the text.
fn python(program: &str, file: &Path) -> Vec<(Option<String>, Option<String>)> {
    let ran = Command::new("python3").args(["-c", program]).arg(file).stderr(Stdio::inherit()).output().unwrap();
    assert!(ran.status.success());
    let read = |value: &serde_json::Value| value.as_str().map(str::to_owned);
    let rows = String::from_utf8(ran.stdout).unwrap();
    rows.lines()
        .map(|line| {
            let row: serde_json::Value = serde_json::from_str(line).unwrap();
            (read(&row[0]), read(&row[1]))
        })
        .collect()
}

#[test]
fn python_reads_csv() {
    let folder = tempfile::tempdir().unwrap();
    let program = r#"
import csv, json, sys
rows = csv.reader(open(sys.argv[1], newline='', encoding='utf-8'))
assert next(rows)[1] == 'te"xt,'
for row in rows:
    assert len(row) == 7, row
    print(json.dumps(row[:2]))
"#;
    let rows = python(program, &exported(folder.path(), Format::Csv));
    assert_eq!(rows.len(), ROWS);
    for (n, (first, second)) in rows.into_iter().enumerate() {
        // To this reader a field that is not there is an empty one.
        assert_eq!(first.unwrap(), number(n).map(|n| n.to_string()).unwrap_or_default());
        assert_eq!(second.unwrap(), hostile(n).unwrap_or_default(), "row {n}");
    }
}

#[test]
fn python_reads_json() {
    let folder = tempfile::tempdir().unwrap();
    let program = r#"
import json, sys
text = open(sys.argv[1], newline='\n', encoding='utf-8')
rows = json.load(text) if sys.argv[1].endswith('.json') else [json.loads(line) for line in text]
for row in rows:
    print(json.dumps([None if row['n'] is None else str(row['n']), row['te"xt,']]))
"#;
    for format in [Format::Json, Format::JsonLines] {
        let rows = python(program, &exported(folder.path(), format));
        assert_eq!(rows.len(), ROWS);
        for (n, (first, second)) in rows.into_iter().enumerate() {
            assert_eq!((first, second), (number(n).map(|n| n.to_string()), hostile(n)), "row {n}");
        }
    }
}

#[test]
fn another_reader_reads_the_workbook() {
    let folder = tempfile::tempdir().unwrap();
    let mut workbook: calamine::Xlsx<_> = calamine::open_workbook(exported(folder.path(), Format::Xlsx)).unwrap();
    let sheet = workbook.worksheet_range("rows").unwrap();
    assert_eq!(sheet.get_size(), (ROWS + 1, 7));
    for (n, row) in sheet.rows().skip(1).enumerate() {
        assert_eq!(row[0].get_float().map(|value| value as i64), number(n));
        assert_eq!(row[0].is_empty(), number(n).is_none());
        assert_eq!(row[1].get_string().map(str::to_owned), hostile(n), "row {n}");
        assert_eq!(row[2], Data::Float(n as f64 / 7.0));
        assert_eq!(row[3], Data::Bool(n % 2 == 0));
        let day = row[4].get_datetime().map(|day| day.as_f64()).or(row[4].get_float());
        // Before March of 1900 spreadsheets disagree about days; from 1970 on they do not.
        assert_eq!(day, Some(n as f64 + 25_569.0));
        assert_eq!(row[6], Data::Float(n as f64 / 4.0));
    }
}

/// Compares what a reader of columns found with the source: of all columns, or of all but the real
/// numbers.
fn check_columns(chunks: impl Iterator<Item = Vec<Box<dyn arrow2::array::Array>>>) {
    use arrow2::array::{BooleanArray, PrimitiveArray, Utf8Array};
    let mut n = 0;
    for mut columns in chunks {
        let real = if columns.len() == 7 { Some(columns.remove(2)) } else { None };
        let reals = real.as_ref().map(|real| real.as_any().downcast_ref::<PrimitiveArray<f64>>().unwrap());
        let numbers = columns[0].as_any().downcast_ref::<PrimitiveArray<i64>>().unwrap();
        let texts = columns[1].as_any().downcast_ref::<Utf8Array<i32>>().unwrap();
        let truths = columns[2].as_any().downcast_ref::<BooleanArray>().unwrap();
        let days = columns[3].as_any().downcast_ref::<PrimitiveArray<i32>>().unwrap();
        let times = columns[4].as_any().downcast_ref::<PrimitiveArray<i64>>().unwrap();
        let prices = columns[5].as_any().downcast_ref::<PrimitiveArray<i128>>().unwrap();
        for row in 0..numbers.len() {
            assert_eq!(numbers.get(row), number(n));
            assert_eq!(texts.get(row).map(str::to_owned), hostile(n), "row {n}");
            assert!(reals.is_none_or(|reals| reals.get(row) == Some(n as f64 / 7.0)));
            assert_eq!(truths.get(row), Some(n % 2 == 0));
            assert_eq!((days.get(row), times.get(row)), (Some(n as i32), Some(n as i64 * 1_000_000)));
            assert_eq!(prices.get(row), Some(n as i128 * 25));
            n += 1;
        }
    }
    assert_eq!(n, ROWS);
}

#[test]
fn another_reader_reads_the_arrow_file() {
    let folder = tempfile::tempdir().unwrap();
    let mut file = std::fs::File::open(exported(folder.path(), Format::Arrow)).unwrap();
    let about = arrow2::io::ipc::read::read_file_metadata(&mut file).unwrap();
    assert_eq!(about.schema.fields[1].name, "te\"xt,");
    let chunks = arrow2::io::ipc::read::FileReader::new(file, about, None, None);
    check_columns(chunks.map(|chunk| chunk.unwrap().into_arrays()));
}

#[test]
fn another_reader_reads_the_parquet_file() {
    let folder = tempfile::tempdir().unwrap();
    // This reader refuses files with real numbers, whose order newer files state in a way that it does
    // not know; the reader of the next test does.
    let path = folder.path().join("rows.parquet");
    let part = Part { columns: Some(vec![0, 1, 3, 4, 5, 6]), ..Part::whole(archive(folder.path())) };
    save(&part, &path, Format::Parquet, &Options::default(), &Progress::default()).unwrap();
    let mut file = std::fs::File::open(path).unwrap();
    let about = arrow2::io::parquet::read::read_metadata(&mut file).unwrap();
    let schema = arrow2::io::parquet::read::infer_schema(&about).unwrap();
    assert_eq!(schema.fields[1].name, "te\"xt,");
    let chunks = arrow2::io::parquet::read::FileReader::new(file, about.row_groups, schema, None, None, None);
    check_columns(chunks.map(|chunk| chunk.unwrap().into_arrays()));
}

#[test]
fn the_parquet_file_reads_back_whole() {
    let folder = tempfile::tempdir().unwrap();
    let file = std::fs::File::open(exported(folder.path(), Format::Parquet)).unwrap();
    let batches =
        parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder::try_new(file).unwrap().build().unwrap();
    let mut from = 0;
    for found in batches {
        let found = found.unwrap();
        assert_eq!(found.columns(), batch(from..from + found.num_rows()).columns());
        from += found.num_rows();
    }
    assert_eq!(from, ROWS);
}
