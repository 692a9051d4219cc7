use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::{ArrayRef, Int64Array};
use arrow_schema::{DataType, Field, Schema};

use super::*;
use jaunty_seam::rows::assemble::{Announced, Assembler, Value};
use jaunty_seam::rows::origin::Origin;

fn sample() -> RecordBatch {
    let names = ["id", "name", "fare", "raw", "any", "name"];
    let announced = names.map(|name| Announced { name: name.into(), db_type: String::new(), ..Announced::default() });
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
    exported_with(format, &Options::default(), batches)
}

fn exported_with(format: Format, options: &Options, batches: &[RecordBatch]) -> String {
    let mut out = Vec::new();
    file::write_batches(&sample().schema(), batches, (format, options), &mut out).unwrap();
    String::from_utf8(out).unwrap()
}

#[test]
fn nothing_is_written_of_a_result_without_columns() {
    let none = Schema::empty();
    for (format, expected) in [(Format::Table, ""), (Format::Markdown, "")] {
        let mut out = Vec::new();
        file::write_batches(&none, &[], (format, &Options::default()), &mut out).unwrap();
        assert_eq!(String::from_utf8(out).unwrap(), expected, "{format:?}");
    }
}

#[test]
fn csv_is_written_as_it_is_asked_for() {
    let mut options = Options::default();
    for (key, value) in [("separator", ";"), ("quote", "'"), ("ends", "crlf"), ("null", "NULL"), ("header", "no")] {
        options.set(key, value).unwrap();
    }
    let text = exported_with(Format::Csv, &options, &[sample()]);
    assert!(text.starts_with("1;Saltmarsh;4.5;00ff;7;NULL\r\n20;名前, \"港\";NULL;'';7;''\r\n"), "{text:?}");
    let tabs = exported(Format::Tsv, &[sample()]);
    assert!(tabs.starts_with("id\tname\tfare\traw\tany\tname\n1\tSaltmarsh\t4.5\t00ff\t7\t\n"), "{tabs}");
    assert!(tabs.contains("\t\"名前, \"\"港\"\"\"\t"), "{tabs}");
    for (key, value, expected) in [
        ("separator", "ab", "separator must be one character, not a letter or digit: \"ab\""),
        ("separator", "\n", "separator must be one character, not a letter or digit: \"\n\""),
        ("dialect", "redis", "dialect is one of sqlite, postgres, mysql, sqlserver; \"redis\" is not"),
        ("quote", ";", "the separator and the quote cannot both be ;"),
        ("ends", "cr", "ends is lf or crlf: how lines end; \"cr\" is not"),
        (
            "colour",
            "red",
            "unknown option \"colour\"; the options are separator, quote, header, ends, null, formulas, nested, table, key, dialect",
        ),
    ] {
        assert_eq!(options.clone().set(key, value).unwrap_err(), expected);
    }
}

#[test]
fn text_that_a_spreadsheet_would_carry_out_is_made_safe() {
    let mut assembler =
        Assembler::new(vec![Announced { name: "a".into(), db_type: String::new(), ..Announced::default() }]);
    for value in [Value::Text("=1+1"), Value::Text("@sum"), Value::Text("plain"), Value::Int(-5), Value::Text("-5,0")] {
        assembler.push_row(|_| value).unwrap();
    }
    let batch = assembler.take().unwrap();
    let options = Options { formula_safe: true, ..Options::default() };
    let mut out = Vec::new();
    file::write_batches(&batch.schema(), &[batch], (Format::Csv, &options), &mut out).unwrap();
    // Of a column of several types a number is a number still.
    assert_eq!(String::from_utf8(out).unwrap(), "a\n'=1+1\n'@sum\nplain\n-5\n\"'-5,0\"\n");
}

#[test]
fn statements_make_the_rows_again() {
    let options = Options { table: Some("kept.Ports".into()), ..Options::default() };
    insta::assert_snapshot!(exported_with(Format::Insert, &options, &[sample().slice(0, 2)]), @r#"
    insert into kept."Ports" (id, name, fare, raw, any, name) values
      (1, 'Saltmarsh', 4.5, x'00ff', 7, null),
      (20, '名前, "港"', null, x'', '7', '');
    "#);
    let mut elsewhere = options.clone();
    elsewhere.set("dialect", "postgres").unwrap();
    insta::assert_snapshot!(exported_with(Format::Insert, &elsewhere, &[sample().slice(0, 1)]), @r#"
    insert into kept."Ports" (id, name, fare, raw, "any", name) values
      (1, 'Saltmarsh', 4.5, '\x00ff', 7, null);
    "#);
    let last = exported_with(Format::Insert, &options, &[sample().slice(2, 1)]);
    assert!(last.ends_with("\n  (null, 'esc\x1b[0m\ntwo | lines', 9e999, null, 7.0, null);\n"), "{last:?}");
    assert_eq!(
        exported(Format::List, &[sample().project(&[0, 4]).unwrap(), sample().project(&[0, 4]).unwrap()]),
        "(1, 7, 20, '7', 7.0)\n"
    );
}

#[test]
fn rows_of_commands_and_of_documents_are_written_in_their_languages() {
    let in_language = |name: &str| Options { dialect: by_name(name).unwrap(), ..Options::default() };
    let keys = {
        let announced = ["value", "type"].map(|name| Announced { name: name.into(), ..Announced::default() });
        let mut assembler = Assembler::new(announced.to_vec());
        for value in [Value::Text("vessel:1"), Value::Text("a \"b\""), Value::Bytes(&[0, 255]), Value::Text("vessel:1")]
        {
            assembler.push_row(|column| if column == 0 { value } else { Value::Text("string") }).unwrap();
        }
        assembler.take().unwrap()
    };
    let written = |format: Format, options: &Options, rows: &RecordBatch| {
        let mut out = Vec::new();
        file::write_batches(&rows.schema(), std::slice::from_ref(rows), (format, options), &mut out).unwrap();
        String::from_utf8(out).unwrap()
    };
    let redis = in_language("redis");
    assert_eq!(written(Format::List, &redis, &keys), "vessel:1 \"a \\\"b\\\"\" \"\\x00\\xff\"\n");
    let removed = "unlink vessel:1 \"a \\\"b\\\"\" \"\\x00\\xff\" vessel:1\n";
    assert_eq!(written(Format::Delete, &redis, &keys), removed);
    let announced = ["key", "value", "type"].map(|name| Announced { name: name.into(), ..Announced::default() });
    let fields = Assembler::new(announced.to_vec()).take().unwrap();
    let refused = file::write_batches(&fields.schema(), &[fields], (Format::Delete, &redis), &mut Vec::new());
    assert!(refused.unwrap_err().to_string().contains("fields within a key"));
    let many = arrow_select::concat::concat_batches(&keys.schema(), &vec![keys.clone(); 30]).unwrap();
    let lines = written(Format::Delete, &redis, &many);
    assert!(lines.lines().count() == 2 && lines.lines().all(|line| line.starts_with("unlink vessel:1 ")), "{lines}");
    let documents = {
        let field = |name: &str| Announced { name: name.into(), of_documents: true, ..Announced::default() };
        let mut assembler = Assembler::new(["_id", "n"].map(field).to_vec());
        for row in [[Value::Typed("objectId", "65f0"), Value::Int(1)], [Value::Text("x"), Value::Null]] {
            assembler.push_row(|column| row[column]).unwrap();
        }
        assembler.take().unwrap()
    };
    let options = Options { from: Some(vec!["vessels".into()]), ..in_language("documents") };
    assert_eq!(
        written(Format::Insert, &options, &documents),
        "vessels insert {\"_id\":{\"$oid\":\"65f0\"},\"n\":1}\nvessels insert {\"_id\":\"x\"}\n"
    );
    let list = documents.project(&[0]).unwrap();
    assert_eq!(written(Format::List, &options, &list), "[{\"$oid\":\"65f0\"}, \"x\"]\n");
    let offered = |family: Family| Format::ALL.iter().filter(|(format, ..)| format.is_for(family)).count();
    assert_eq!([Family::Sql, Family::Commands, Family::Documents].map(offered), [16, 14, 14]);
}

#[test]
fn rows_are_changed_and_deleted_by_their_key() {
    let mut options = Options { from: Some(vec!["ops".into(), "Berth.Plan".into()]), ..Options::default() };
    let rows = || [sample()];
    let write = |format: Format, options: &Options| {
        let schema = sample().schema();
        let mut out = Vec::new();
        file::write_batches(&schema, &rows(), (format, options), &mut out)
            .map(|_| String::from_utf8(out).unwrap())
            .map_err(|error| error.to_string())
    };
    assert!(write(Format::Update, &options).unwrap_err().contains("key=id"), "nothing is found by nothing");
    options.set("key", "id, route").unwrap();
    assert!(write(Format::Delete, &options).unwrap_err().contains("route is part of the key"));
    options.set("key", "id").unwrap();
    let named = |shown: &str, name: &str| (shown.to_owned(), name.to_owned());
    options.columns = Some(vec![named("id", "id"), named("fare", "Fare")]);
    insta::assert_snapshot!(write(Format::Update, &options).unwrap(), @r#"
    update ops."Berth.Plan" set "Fare" = 4.5 where id = 1;
    update ops."Berth.Plan" set "Fare" = null where id = 20;
    -- left out: a row without a key
    "#);
    insta::assert_snapshot!(write(Format::Delete, &options).unwrap(), @r#"
    delete from ops."Berth.Plan" where id = 1;
    delete from ops."Berth.Plan" where id = 20;
    -- left out: a row without a key
    "#);
    options.columns = Some(vec![named("id", "id")]);
    assert!(write(Format::Update, &options).unwrap_err().contains("no column beside the key"));
}

#[test]
fn rows_go_back_to_the_table_that_they_came_from() {
    let schema = |tables: &[Option<&str>]| {
        let fields = tables.iter().map(|table| {
            let origin = table.map(|table| Origin { table: table.into(), column: "a".into(), ..Origin::default() });
            let told = origin.iter().flat_map(Origin::metadata).collect::<HashMap<_, _>>();
            Field::new("a", DataType::Int64, true).with_metadata(told)
        });
        Arc::new(Schema::new(fields.collect::<Vec<_>>()))
    };
    let into = |tables: &[Option<&str>], table: Option<&str>| {
        let options = Options { table: table.map(str::to_owned), ..Options::default() };
        let columns = tables.iter().map(|_| Arc::new(Int64Array::from(vec![1])) as ArrayRef).collect();
        let (schema, mut text) = (schema(tables), Vec::new());
        let batch = RecordBatch::try_new(Arc::clone(&schema), columns).unwrap();
        file::write_batches(&schema, &[batch], (Format::Insert, &options), &mut text).unwrap();
        let text = String::from_utf8(text).unwrap();
        text.strip_prefix("insert into ").unwrap().split_once(" (").unwrap().0.to_owned()
    };
    assert_eq!(into(&[Some("ports"), None], None), "ports", "what is computed comes from nowhere");
    assert_eq!(into(&[Some("Odd.Name")], None), "\"Odd.Name\"");
    assert_eq!(into(&[Some("ports"), Some("routes")], None), "kept");
    assert_eq!(into(&[None], None), "kept");
    assert_eq!(into(&[Some("ports")], Some("east.ports")), "east.ports");
}

#[test]
fn a_file_that_holds_one_result_takes_no_other() {
    for format in [Format::Parquet, Format::Arrow] {
        let mut exporter = format.exporter(&Options::default());
        let mut out = Vec::new();
        let batch = sample().project(&[0]).unwrap();
        exporter.columns(&batch.schema(), &mut out).unwrap();
        exporter.batch(&batch, &mut out).unwrap();
        exporter.finish(&mut out).unwrap();
        let error = exporter.columns(&batch.schema(), &mut out).unwrap_err();
        assert!(error.to_string().ends_with("file holds one result"), "{error}");
        assert!(format.holds_one());
    }
    let file = |path: &str, result: usize| file::of_result(std::path::Path::new(path), result).display().to_string();
    assert_eq!(
        [0, 1, 9].map(|result| file("out/late.csv", result)),
        ["out/late.csv", "out/late-2.csv", "out/late-10.csv"]
    );
    assert_eq!(file("late", 1), "late-2");
}

#[test]
fn what_was_stopped_while_it_waited_writes_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let writer = crate::archive::Writer::create(&folder.path().join("a.arrow"), &sample().schema()).unwrap();
    let part = crate::arrange::pick::Part::whole(Arc::clone(writer.archive()));
    let progress = crate::arrange::Progress::default();
    progress.stop();
    let path = folder.path().join("a.csv");
    let error = file::save(&part, &path, Format::Csv, &Options::default(), &progress).unwrap_err();
    assert!(matches!(error, file::SaveError::Stopped(_)), "{error}");
    assert!(!path.exists());
}

#[test]
fn html_shows_marks_as_they_are() {
    let text = exported(Format::Html, &[sample()]);
    assert!(text.starts_with("<!DOCTYPE html>") && text.ends_with("</tbody>\n</table>\n"));
    assert!(text.contains("<td class=\"number\">1</td><td>Saltmarsh</td>"), "{text}");
    assert!(text.contains("<td>名前, &quot;港&quot;</td><td class=\"null\">∅</td>"), "{text}");
    assert!(text.contains("<td>esc\u{fffd}[0m\ntwo | lines</td>"), "{text}");
}

#[test]
fn what_stands_for_null_can_be_chosen_where_people_read() {
    let mut options = Options::default();
    options.set("null", "<none>").unwrap();
    assert!(exported_with(Format::Html, &options, &[sample()]).contains("<td class=\"null\">&lt;none&gt;</td>"));
    for format in [Format::Table, Format::Markdown] {
        let text = exported_with(format, &options, &[sample()]);
        assert!(text.contains("<none>") && !text.contains('∅'), "{text}");
    }
}

#[test]
fn the_kind_of_a_chart_may_have_its_key() {
    let mut options = Options::default();
    options.take(Format::Svg, "kind=bar").unwrap();
    assert_eq!(options.chart.kind, Some(chart::Kind::Bar));
    assert!(options.take(Format::Svg, "kind=bars").unwrap_err().contains("did you mean \"bar\"?"));
}

#[test]
fn a_file_stands_under_its_name_only_when_it_is_whole() {
    let folder = tempfile::tempdir().unwrap();
    let mut writer = crate::archive::Writer::create(&folder.path().join("a.arrow"), &sample().schema()).unwrap();
    writer.write(&sample()).unwrap();
    let part = crate::arrange::pick::Part::whole(Arc::clone(writer.archive()));
    let path = folder.path().join("rows.csv");
    let progress = crate::arrange::Progress::default();
    let save = |path: &std::path::Path, format| file::save(&part, path, format, &Options::default(), &progress);
    assert_eq!(save(&path, Format::Csv).unwrap(), 3);
    let whole = std::fs::read_to_string(&path).unwrap();
    assert_eq!(progress.so_far(), (3, 3));
    progress.stop();
    let stopped = save(&path, Format::Json).unwrap_err();
    assert!(stopped.to_string().starts_with("cancelled; nothing was written to "), "{stopped}");
    assert_eq!(std::fs::read_to_string(&path).unwrap(), whole, "what stood there stays");
    let nowhere = save(&folder.path().join("none/rows.csv"), Format::Csv).unwrap_err().to_string();
    assert!(nowhere.ends_with("The folder does not exist: create it first, or name another."), "{nowhere}");
    let names: Vec<_> = std::fs::read_dir(folder.path()).unwrap().map(|e| e.unwrap().file_name()).collect();
    assert_eq!(names.len(), 2, "{names:?}");
    // A disk that is full says so at any write.
    let full = file::write(&part, Format::Csv, &Options::default(), &mut Full, &crate::arrange::Progress::default());
    assert!(matches!(full, Err(file::WriteError::Output(ExportError::Output(_)))));
}

/// A disk without room.
struct Full;

impl Write for Full {
    fn write(&mut self, _: &[u8]) -> io::Result<usize> {
        Err(io::ErrorKind::StorageFull.into())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
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
        text.starts_with("id,name,fare,raw,any,name\n1,Saltmarsh,4.5,00ff,7,\n20,\"名前, \"\"港\"\"\",,\"\",7,\"\"\n"),
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
    for (format, word, endings, _) in Format::ALL {
        assert_eq!(Format::from_word(word), Some(format));
        assert!(endings.iter().all(|ending| Format::from_ending(ending) == Some(format)));
    }
    assert_eq!(Format::from_ending("MD"), Some(Format::Markdown));
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
        let column = |name: &str| Announced { name: name.into(), db_type: String::new(), ..Announced::default() };
        let mut assembler = Assembler::new(vec![column("a"), column("b,\"")]);
        for (a, b) in &values {
            let row = [a.as_deref(), b.as_deref()];
            assembler.push_row(|i| row[i].map_or(Value::Null, Value::Text)).unwrap();
        }
        let batch = assembler.take().unwrap();
        let written = |format: Format| {
            let mut out = Vec::new();
            let mut exporter = format.exporter(&Options::default());
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

/// Values that are written piece by piece read back as they were.
#[test]
fn long_values_are_written_whole() {
    let announced = ["text", "raw", "plain", "n"].map(|name| Announced { name: name.into(), ..Announced::default() });
    let mut assembler = Assembler::new(announced.to_vec());
    let text = "the \"quay\", at 名\r\n=\u{1}\\ ".repeat(60_000);
    let (raw, plain) = ((0..=255).cycle().take(1_500_001).collect::<Vec<u8>>(), "x".repeat(1 << 20));
    let row = [Value::Text(&text), Value::Bytes(&raw), Value::Text(&plain), Value::Int(7)];
    for _ in 0..2 {
        assembler.push_row(|column| row[column]).unwrap();
    }
    let batch = assembler.take().unwrap();
    let written = |format| {
        let mut out = Vec::new();
        file::write_batches(&batch.schema(), std::slice::from_ref(&batch), (format, &Options::default()), &mut out)
            .unwrap();
        String::from_utf8(out).unwrap()
    };
    let digits = jaunty_seam::rows::cell::hex(&raw);
    let quoted = format!("\"{}\",{digits},{plain},7\n", text.replace('"', "\"\""));
    assert!(written(Format::Csv) == format!("text,raw,plain,n\n{quoted}{quoted}"));
    let object = serde_json::json!({"text": text, "raw": digits, "plain": plain, "n": 7});
    let lines: Vec<serde_json::Value> =
        written(Format::JsonLines).lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert!(lines == [object.clone(), object.clone()]);
    let array: serde_json::Value = serde_json::from_str(&written(Format::Json)).unwrap();
    assert!(array == serde_json::json!([object, object]));
}
