use super::*;
use crate::rows::assemble::{Announced, Assembler, Value};

fn sample() -> RecordBatch {
    let names = ["id", "name", "fare", "raw", "any", "name"];
    let announced = names.map(|name| Announced { name: name.into(), db_type: String::new() });
    let mut assembler = Assembler::new(announced.to_vec());
    let rows = [
        [
            Value::Int(1),
            Value::Text("Saltmarsh"),
            Value::Real(4.5),
            Value::Bytes(&[0, 255]),
            Value::Int(7),
            Value::Null,
        ],
        [
            Value::Int(20),
            Value::Text("名前, \"港\""),
            Value::Null,
            Value::Bytes(&[]),
            Value::Text("7"),
            Value::Text(""),
        ],
        [
            Value::Null,
            Value::Text("esc\x1b[0m\ntwo | lines"),
            Value::Real(f64::INFINITY),
            Value::Null,
            Value::Real(7.0),
            Value::Null,
        ],
    ];
    for row in rows {
        assembler.push_row(|column| row[column]).unwrap();
    }
    assembler.take().unwrap()
}

fn exported(format: Format, batches: &[RecordBatch]) -> String {
    let mut out = Vec::new();
    let mut exporter = format.exporter();
    exporter.columns(&sample().schema(), &mut out).unwrap();
    for batch in batches {
        exporter.batch(batch, &mut out).unwrap();
    }
    exporter.finish(&mut out).unwrap();
    String::from_utf8(out).unwrap()
}

#[test]
fn a_table_is_aligned_and_clean() {
    insta::assert_snapshot!(exported(Format::Table, &[sample()]), @r#"
    id  name                 fare  raw   any  name
    ──  ───────────────────  ────  ────  ───  ────
     1  Saltmarsh             4.5  00ff    7  ∅
    20  名前, "港"              ∅          7  
     ∅  esc␛[0m␊two | lines   inf  ∅     7.0  ∅
    "#);
}

#[test]
fn markdown_escapes_its_own_marks() {
    insta::assert_snapshot!(exported(Format::Markdown, &[sample()]), @r#"
    |  id | name                 | fare | raw  | any | name |
    | --: | -------------------- | ---: | ---- | --: | ---- |
    |   1 | Saltmarsh            |  4.5 | 00ff |   7 | ∅    |
    |  20 | 名前, "港"           |    ∅ |      |   7 |      |
    |   ∅ | esc␛[0m␊two \| lines |  inf | ∅    | 7.0 | ∅    |
    "#);
}

#[test]
fn csv_reads_back() {
    let text = exported(Format::Csv, &[sample(), sample()]);
    assert!(
        text.starts_with("id,name,fare,raw,any,name\n1,Saltmarsh,4.5,00ff,7,\n20,\"名前, \"\"港\"\"\",,,7,\"\"\n"),
        "{text}"
    );
    let mut reader = ::csv::Reader::from_reader(text.as_bytes());
    let rows: Vec<_> = reader.records().map(|r| r.unwrap()).collect();
    assert_eq!(rows.len(), 6);
    assert_eq!(&rows[2][1], "esc\x1b[0m\ntwo | lines");
}

#[test]
fn json_reads_back() {
    let array: serde_json::Value = serde_json::from_str(&exported(Format::Json, &[sample(), sample()])).unwrap();
    assert_eq!(array.as_array().map(Vec::len), Some(6));
    assert_eq!(
        array[0],
        serde_json::json!({"id": 1, "name": "Saltmarsh", "fare": 4.5, "raw": "00ff", "any": 7, "name_2": null})
    );
    assert_eq!(array[1]["any"], "7");
    assert_eq!(array[2]["fare"], "inf");
    assert_eq!(exported(Format::Json, &[]), "[]\n");
    let lines = exported(Format::JsonLines, &[sample()]);
    assert_eq!(
        lines.lines().map(|l| serde_json::from_str::<serde_json::Value>(l).unwrap()["id"].clone()).collect::<Vec<_>>(),
        [serde_json::json!(1), 20.into(), serde_json::Value::Null]
    );
}

#[test]
fn a_terminal_gets_nothing_that_acts_on_it() {
    let mut out = Cleaned(Vec::new());
    write!(out, "a\x1b[2Jb\r\nc\u{202e}").unwrap();
    assert_eq!(String::from_utf8(out.0).unwrap(), "a␛[2Jb\nc�");
}

#[test]
fn formats_are_found_by_word_and_ending() {
    for (format, word) in Format::ALL {
        assert_eq!(Format::from_word(word), Some(format));
    }
    assert_eq!(Format::from_word("md"), Some(Format::Markdown));
    assert_eq!(Format::from_word("xml"), None);
}

/// Any text, number, bytes or nothing.
fn any_value() -> impl proptest::strategy::Strategy<Value = Option<String>> {
    proptest::option::of("(\"|,|\n|\r|;| |'|\\\\|é|名|\u{202e}|\x1b|[a-z0-9]|null){0,12}")
}

proptest::proptest! {
    /// What another reader makes of the file is what was in the rows; NULL is told from empty text.
    #[test]
    fn csv_and_json_lose_nothing(values in proptest::collection::vec((any_value(), any_value()), 1..30)) {
        use proptest::prelude::prop_assert_eq;
        let column = |name: &str| Announced { name: name.into(), db_type: String::new() };
        let mut assembler = Assembler::new(vec![column("a"), column("b,\"")]);
        for (a, b) in &values {
            let row = [a.as_deref(), b.as_deref()];
            assembler.push_row(|i| row[i].map_or(Value::Null, Value::Text)).unwrap();
        }
        let batch = assembler.take().unwrap();
        let written = |format: Format| {
            let mut out = Vec::new();
            let mut exporter = format.exporter();
            exporter.columns(&batch.schema(), &mut out).unwrap();
            exporter.batch(&batch, &mut out).unwrap();
            exporter.finish(&mut out).unwrap();
            String::from_utf8(out).unwrap()
        };
        let csv = written(Format::Csv);
        let mut reader = ::csv::Reader::from_reader(csv.as_bytes());
        prop_assert_eq!(reader.headers().unwrap().iter().collect::<Vec<_>>(), ["a", "b,\""]);
        let read: Vec<_> = reader.records().map(|r| r.unwrap()).collect();
        prop_assert_eq!(read.len(), values.len(), "{:?}", csv);
        for (record, (a, b)) in read.iter().zip(&values) {
            prop_assert_eq!(&record[0], a.as_deref().unwrap_or(""));
            prop_assert_eq!(&record[1], b.as_deref().unwrap_or(""));
        }
        let json: Vec<serde_json::Value> = serde_json::from_str(&written(Format::Json)).unwrap();
        for (object, (a, b)) in json.iter().zip(&values) {
            prop_assert_eq!(object["a"].as_str(), a.as_deref());
            prop_assert_eq!(object["b,\""].as_str(), b.as_deref());
        }
        let lines = written(Format::JsonLines);
        prop_assert_eq!(lines.lines().count(), values.len());
    }
}
