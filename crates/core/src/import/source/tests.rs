use std::io::Write;

use super::*;

/// What is read of a file with these bytes: the names of its columns, its rows, and why others are none.
struct Read {
    names: Vec<String>,
    rows: Vec<Vec<Option<String>>>,
    bad: Vec<String>,
}

fn read(name: &str, bytes: &[u8]) -> Result<Read, String> {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join(name);
    std::fs::write(&path, bytes).unwrap();
    let mut source = Source::open(&path, &Choices::default()).map_err(|error| error.to_string())?;
    let names = source.found.columns.iter().map(|column| column.name.clone()).collect();
    let (mut rows, mut bad) = (Vec::new(), Vec::new());
    while let Some(block) = source.next_block().map_err(|error| error.to_string())? {
        let readers = ColumnReader::all(&block.rows);
        for row in 0..block.rows.num_rows() {
            let cell = |reader: &ColumnReader<'_>| {
                let cell = reader.get(row);
                (cell.kind != CellKind::Null).then(|| cell.text.into_owned())
            };
            rows.push(readers.iter().map(cell).collect());
        }
        bad.extend(block.bad.into_iter().map(|bad| bad.reason));
    }
    Ok(Read { names, rows, bad })
}

fn texts(row: &[&str]) -> Vec<Option<String>> {
    row.iter().map(|text| Some((*text).to_owned())).collect()
}

#[test]
fn objects_of_json_keep_their_order_and_every_digit() {
    let lines = r#"{"zeta": 1.10, "alpha": 12345678901234567890123, "deck": {"z": 0.12345678901234567890, "a": [1,  2]}}
        {"zeta": "a \"b\" é", "alpha": null, "deck": {"z": 1, "z": 2}}"#;
    let array = format!("[{}]", lines.replace("}}\n", "}},\n"));
    for (name, text) in [("a.jsonl", lines), ("a.json", array.as_str())] {
        let Read { names, rows, bad } = read(name, text.as_bytes()).unwrap();
        assert_eq!((names, bad), (["zeta", "alpha", "deck"].map(str::to_owned).to_vec(), Vec::new()), "{name}");
        let deck = r#"{"z": 0.12345678901234567890, "a": [1,  2]}"#;
        assert_eq!(rows[0], texts(&["1.10", "12345678901234567890123", deck]), "{name}");
        assert_eq!(rows[1][..2], [Some("a \"b\" é".to_owned()), None], "{name}");
        assert_eq!(rows[1][2].as_deref(), Some(r#"{"z": 1, "z": 2}"#), "{name}: what lies in a field stays as it is");
    }
}

#[test]
fn what_is_not_an_object_is_told() {
    let lines = "{\"a\": 1}\n{\"a\": 1, \"a\": 2}\n{\"a\": \"x\\ud800y\"}\n[1]\n7\n\"quay\"\nnull\n{\"a\": 2\n{a: 1}\n{\"a\": 3}\n";
    let Read { rows, bad, .. } = read("a.jsonl", lines.as_bytes()).unwrap();
    assert_eq!(rows, [texts(&["1"]), texts(&["3"])]);
    let expected = [
        "the field \"a\" stands there twice",
        "the field \"a\" is not a text: unexpected end of hex escape",
        "a list, and not an object of JSON",
        "a number, and not an object of JSON",
        "a text, and not an object of JSON",
        "null, and not an object of JSON",
        "the object of JSON ends too early",
        "not JSON from character 2 on: key must be a string",
    ];
    assert_eq!(bad, expected);
}

#[test]
fn days_that_are_clear_stay_so_whatever_is_said_of_others() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.csv");
    std::fs::write(&path, "made,due\n2031-03-05,03/04/2031\n2031-03-06,05/06/2031\n").unwrap();
    let choices = Choices { dates: Some(Dates::DayFirst), ..Choices::default() };
    let source = Source::open(&path, &choices).unwrap();
    let found: Vec<_> = source.found.columns.iter().map(|column| (column.shape.of, column.dates)).collect();
    assert_eq!(found, [(ColumnType::Date, Dates::Iso), (ColumnType::Date, Dates::DayFirst)]);
}

#[test]
fn a_first_row_of_names_is_told_by_what_stands_below_it() {
    let names = |text: &str| read("a.csv", text.as_bytes()).unwrap().names;
    assert_eq!(names(",code,depth\n0,W1,2.5\n"), ["c1", "code", "depth"], "the first column has no name");
    assert_eq!(names("code,depth,depth\nW1,2,3\n"), ["code", "depth", "depth_"]);
    assert_eq!(names("code,name\nW1,North\n"), ["code", "name"]);
    assert_eq!(names("W1,,North\nW2,,South\n"), ["c1", "c2", "c3"]);
    assert_eq!(names("W1,2031-03-05\nW2,2031-03-06\n"), ["c1", "c2"]);
    assert_eq!(names("co\u{0}de,na\u{1b}me\nW1,1\n"), ["co_de", "na_me"]);
    // The row that was looked at is one of the rows.
    assert_eq!(read("a.csv", b"a,b\n1,2\n3,4\n").unwrap().rows, [texts(&["1", "2"]), texts(&["3", "4"])]);
    assert_eq!(read("a.csv", b"1,2\n3,4\n").unwrap().rows, [texts(&["1", "2"]), texts(&["3", "4"])]);
}

#[test]
fn a_compressed_file_is_read_as_what_is_in_it() {
    let packed = |text: &[u8]| {
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
        packed.write_all(text).unwrap();
        packed.finish().unwrap()
    };
    let rows = [texts(&["1", "2"])];
    for name in ["a.csv.gz", "a.CSV.GZ", "a.gz", "a"] {
        assert_eq!(read(name, &packed(b"a,b\n1,2\n")).unwrap().rows, rows, "{name}");
    }
    assert_eq!(read("a.tsv.gz", &packed(b"a\tb\n1\t2\n")).unwrap().rows, rows);
    assert_eq!(read("a.jsonl.gz", &packed(b"{\"a\": 1, \"b\": 2}\n")).unwrap().rows, rows);
    // Two that stand one after the other are one.
    assert_eq!(read("a.csv.gz", &[packed(b"a,b\n"), packed(b"1,2\n")].concat()).unwrap().rows, rows);
    let cut = packed(&b"a,b\n1,2\n".repeat(10_000));
    let error = read("a.csv.gz", &cut[..cut.len() / 2]).map(|read| read.rows.len()).unwrap_err();
    assert!(error.contains("a.csv.gz"), "{error}");
    for (mark, what) in [(&b"\x28\xb5\x2f\xfd"[..], "Zstandard"), (b"BZh9", "bzip2")] {
        let error = read("a.csv", mark).map(|read| read.rows.len()).unwrap_err();
        assert!(error.contains(what) && error.contains("unpack it first"), "{error}");
    }
    for (name, what) in [("a.parquet", "parquet"), ("a.arrow", "arrow"), ("a.xlsx", "workbook")] {
        let error = read(name, b"PK\x03\x04 and no more").map(|read| read.rows.len()).unwrap_err();
        assert!(error.contains(what) && error.contains("or it is damaged"), "{error}");
    }
}

#[test]
fn lines_above_the_rows_are_told_and_passed_over() {
    let text = "Sailings of the week, as planned\n\nid;name;note\n1;\"Ann\n & Co\";\n2;Bo;x\n3;\n";
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.csv");
    std::fs::write(&path, text).unwrap();
    let open = |skip: u64| Source::open(&path, &Choices { skip, ..Choices::default() }).unwrap();
    assert_eq!(open(0).titles, 0, "one of the rows has another count of fields");
    std::fs::write(&path, text.replace("3;\n", "3;;\n")).unwrap();
    assert_eq!((open(0).titles, open(1).titles, open(2).titles), (2, 0, 0));
    let mut source = open(2);
    let names: Vec<&str> = source.found.columns.iter().map(|column| column.name.as_str()).collect();
    assert_eq!((names, source.form.separator), (vec!["id", "name", "note"], b';'));
    let block = source.next_block().unwrap().unwrap();
    assert_eq!((block.rows.num_rows(), block.lines), (3, vec![4, 6, 7]), "lines are those of the file");
    // More than there are.
    assert!(Source::open(&path, &Choices { skip: 99, ..Choices::default() }).is_err());
    // Without a title none is seen.
    for text in ["a,b\n1,2\n3,4\n", "a\n1\n2\n", "a,b\n1\n2\n", "a\n1,2\n"] {
        std::fs::write(&path, text).unwrap();
        assert_eq!(open(0).titles, 0, "{text}");
    }
}

#[test]
fn a_separator_after_the_last_field_is_not_one_more() {
    let Read { names, rows, bad } = read("a.csv", b"id,name\n1,Ann,\n2,Bo\n3,Cy,x\n4,Di,\"\"\n5,,,\n").unwrap();
    assert_eq!(names, ["id", "name"]);
    assert_eq!(rows, [texts(&["1", "Ann"]), texts(&["2", "Bo"])]);
    assert_eq!(
        bad,
        [
            "3 fields where there are 2 columns",
            "3 fields where there are 2 columns",
            "4 fields where there are 2 columns"
        ]
    );
}
