//! `jaunty load`: files into tables.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::io::Write as _;
use std::process::{Command, Stdio};
use std::thread;
use std::time::Duration;

use rusqlite::Connection;
use support::desktop::Desktop;
use support::{Home, Screen};

const PORTS: &str = "code;name;berths;opened;price\nSMQ;\"Saltmarsh; Quay\";6;05.03.2031;12.50\nGUL;Gullhaven;4;31.12.2030;\nEMB;\"\";2;01.02.2031;3\n";

fn quay() -> Home {
    Home::new()
        .database("quay.db", "create table ports (code text primary key, name text not null, berths integer check (berths < 100), note text default '-')")
        .file(
            ".jaunty/connections.toml",
            "[quay]\nengine = \"sqlite\"\npath = \"../quay.db\"\n
             [guarded]\nengine = \"sqlite\"\npath = \"../quay.db\"\nguard = \"ask\"\n
             [locked]\nengine = \"sqlite\"\npath = \"../quay.db\"\nguard = \"read-only\"\n",
        )
}

/// Loads a file into a connection with more arguments, and gives what it says.
fn load(home: &Home, code: i32, arguments: &[&str]) -> String {
    let (out, told) = home.call(&[&["load"], arguments].concat()).exits(code);
    format!("{out}{told}")
}

fn one(home: &Home, query: &str) -> String {
    let connection = Connection::open(home.path("project/quay.db")).unwrap();
    connection.busy_timeout(Duration::from_secs(20)).unwrap();
    connection.query_row(query, [], |row| row.get::<_, Option<String>>(0)).unwrap().unwrap_or_else(|| "NULL".into())
}

/// A table from a file that writes numbers in its own way, and nothing that is lost on the way.
#[test]
fn numbers_are_read_as_the_file_writes_them_and_no_digit_is_lost() {
    let long = "12345678901234567890.123456789";
    let home = quay().file("a.csv", &format!("amount;code;long\n1.234,50;A;{long}\n7,5;B;1\n"));
    load(&home, 0, &["a.csv", "-c", "quay", "-i", "sums", "--create"]);
    let types = "select group_concat(name || ' ' || lower(type)) from pragma_table_info('sums')";
    assert_eq!(one(&home, types), "amount numeric,code text,long text");
    assert_eq!(
        one(&home, "select group_concat((amount + 0) || code || long) from sums"),
        format!("1234.5A{long},7.5B1")
    );
    let told = load(&home, 0, &["a.csv", "-c", "quay", "-i", "sums", "--preview"]);
    assert!(told.contains("numbers as 1.234,5"), "{told}");
    // What could be read in two ways is what a person says.
    let home = home
        .file("b.csv", "berths;name;code\n1,234;x;A\n")
        .file("c.jsonl", "{\"code\": \"C\", \"amount\": 0.1234567890123456789}\n");
    let told = load(&home, 0, &["b.csv", "-c", "quay", "-i", "ports", "--decimal", "comma"]);
    assert!(told.contains("berths: \"1.234\": it has to be a whole number"), "{told}");
    load(&home, 0, &["b.csv", "-c", "quay", "-i", "ports", "--decimal", "point", "--preview"]);
    let told =
        load(&home, 1, &["b.csv", "-c", "quay", "-i", "ports", "--decimal", "point", "--on-conflict", "replace"]);
    assert!(told.contains("CHECK constraint failed: berths < 100"), "1,234 berths are more than 1.234: {told}");
    // A number that the column would round is told.
    let told = load(&home, 2, &["c.jsonl", "-c", "quay", "-i", "sums"]);
    let expected = "line 1: amount: 0.1234567890123456789 has more digits than a number keeps here";
    assert!(told.contains(expected), "{told}");
}

#[test]
fn a_new_table_has_the_types_of_the_values() {
    let home = quay().file("new.csv", PORTS);
    let told = load(&home, 2, &["new.csv", "-c", "quay", "-i", "harbours"]);
    assert!(
        told.contains("there is no table harbours; --create makes it:\ncreate table harbours (\n  code text,"),
        "{told}"
    );
    assert!(told.contains("Every value of code is different: --key code makes it the key."), "{told}");
    let told = load(&home, 0, &["new.csv", "-c", "quay", "-i", "harbours", "--create", "--key", "code", "--preview"]);
    for part in [
        "new.csv · csv · UTF-8 · separator ; · the first row has the names",
        "opened",
        "dates as dmy",
        "price",
        "numeric",
    ] {
        assert!(told.contains(part), "{part}: {told}");
    }
    let told = load(&home, 0, &["new.csv", "-c", "quay", "-i", "harbours", "--create", "--key", "code"]);
    assert!(told.starts_with("3 rows loaded into harbours"), "{told}");
    assert_eq!(
        one(
            &home,
            "select group_concat(code || '|' || name || '|' || berths || '|' || opened || '|' || ifnull(price, 'NULL') || typeof(price), ' ') from harbours"
        ),
        "SMQ|Saltmarsh; Quay|6|2031-03-05|12.5real GUL|Gullhaven|4|2030-12-31|NULLnull EMB||2|2031-02-01|3integer",
        "an empty text in quotes is one, and nothing without quotes is NULL"
    );
    let (log, _) = home.call(&["log"]).exits(0);
    assert!(log.contains("load new.csv into harbours") && log.contains("3 changed"), "{log}");
}

/// What a column of JSON was exported as comes back as the same: a text of JSON is not what it spells.
#[test]
fn values_of_json_go_into_a_column_of_json_as_they_are() {
    let values =
        [r#"{"a": 1}"#, r#""plain""#, "5", "null", r#""{\"b\": 2}""#, "[1, 2]", "true", r#""5""#, r#""""#, r#""[x""#];
    let lines: Vec<String> =
        values.iter().enumerate().map(|(id, value)| format!("{{\"id\": {id}, \"v\": {value}}}\n")).collect();
    let home = quay().file("a.jsonl", &lines.concat());
    home.call(&["run", "-c", "quay", "-s", "create table facts (id int, v json check (v is null or json_valid(v)))"])
        .exits(0);
    let told = load(&home, 0, &["a.jsonl", "-c", "quay", "-i", "facts"]);
    assert!(told.starts_with("10 rows loaded into facts"), "{told}");
    let kinds = "select group_concat(ifnull(json_type(v), '-'), ' ') from facts order by id";
    assert_eq!(one(&home, kinds), "object text integer - object array true text text text");
    let all =
        home.call(&["run", "-c", "quay", "-s", "select v from facts where id in (1, 7, 8, 9)", "-f", "csv"]).gives();
    assert_eq!(all, "v\n\"\"\"plain\"\"\"\n\"\"\"5\"\"\"\n\"\"\"\"\"\"\n\"\"\"[x\"\"\"\n");
}

#[test]
fn columns_are_matched_by_name_and_by_hand() {
    let home = quay().file("a.csv", "CODE,title,berths,extra\nSMQ,Saltmarsh,6,x\n");
    let told = load(&home, 2, &["a.csv", "-c", "quay", "-i", "ports"]);
    assert!(told.contains("ports needs a value for name, which the file does not have"), "{told}");
    let told = load(&home, 2, &["a.csv", "-c", "quay", "-i", "ports", "--column", "titel=name"]);
    assert!(told.contains("the file has no column \"titel\"; it has CODE, title, berths, extra"), "{told}");
    let told = load(&home, 0, &["a.csv", "-c", "quay", "-i", "ports", "--column", "title=name", "--column", "berths="]);
    assert!(told.contains("not loaded: berths (not wanted), extra (no such column in the table)"), "{told}");
    let told = load(&home, 2, &["a.csv", "-c", "quay", "-i", "prots"]);
    assert!(told.contains("there is no table prots · did you mean ports?; --create makes it"), "{told}");
    assert!(load(&home, 2, &["a.csv", "-c", "quay", "-i", "", "--create"]).contains("name the table"));
    let told = load(&home, 1, &["a.csv", "-c", "quay", "-i", "nowhere.ports", "--create"]);
    assert!(told.contains("unknown database nowhere") && !told.contains("--refused"), "{told}");
    assert_eq!(one(&home, "select code || name || ifnull(berths, 'NULL') || note from ports"), "SMQSaltmarshNULL-");
}

#[test]
fn what_the_server_refuses_is_written_as_the_file_has_it() {
    let home = quay()
        .database(
            "other.db",
            "create table sails (id integer primary key, day date check (day > '2031-02'), twice integer generated always as (id * 2))",
        )
        .file("a.csv", "twice,crew,day,id\n2,Ann,05.03.2031,1\n4,Bo,31.01.2031,2\n");
    let arguments = ["a.csv", "-c", "other.db", "-i", "sails"];
    let told = load(&home, 1, &arguments);
    assert!(told.contains("CHECK constraint failed") && told.contains("--refused FILE finds such rows"), "{told}");
    let told = load(&home, 0, &[&arguments[..], &["--refused", "bad.csv"]].concat());
    let expected = "not loaded: twice (computed by the server), crew (no such column in the table)";
    assert!(told.starts_with("1 row loaded") && told.contains(expected), "{told}");
    // With the columns that went nowhere, and the day as it was written.
    let bad = std::fs::read_to_string(home.path("project/bad.csv")).unwrap();
    assert!(bad.starts_with("line,reason,twice,crew,day,id\n3,"), "{bad}");
    assert!(bad.ends_with(",4,Bo,31.01.2031,2\n"), "{bad}");
    let told = load(&home, 2, &[&arguments[..], &["--column", "crew=twice"]].concat());
    assert!(told.contains("twice: the server computes it, so nothing goes there"), "{told}");
    // What is loaded is never written over, nor is a file that is something else.
    let told = load(&home, 2, &["bad.csv", "-c", "other.db", "-i", "sails", "--refused", "./bad.csv"]);
    assert!(told.contains("./bad.csv is the file that is loaded"), "{told}");
    let told = load(&home, 2, &[&arguments[..], &["--refused", "other.db"]].concat());
    assert!(told.contains("other.db is there already, and is not a file of refused rows"), "{told}");
    assert_eq!(std::fs::read_to_string(home.path("project/bad.csv")).unwrap(), bad);
}

#[test]
fn rows_that_do_not_fit_end_it_or_are_written_with_the_reason() {
    let home = quay().file(
        "a.csv",
        "code,name,berths\nA1,one,1\nA2,two,200\nA3,,3\nA4,four\nA1,again,5\n\"A\n5\",five,5\nA6,six,6\n",
    );
    let told = load(&home, 2, &["a.csv", "-c", "quay", "-i", "ports"]);
    assert!(told.contains("line 4: name: no value, and the column cannot be NULL; nothing was loaded"), "{told}");
    assert_eq!(one(&home, "select cast(count(*) as text) from ports"), "0");
    let told = load(&home, 0, &["a.csv", "-c", "quay", "-i", "ports", "--refused", "bad.csv"]);
    assert!(
        told.contains("3 rows loaded into ports") && told.contains("4 rows refused, with the reasons in bad.csv"),
        "{told}"
    );
    let bad = std::fs::read_to_string(home.path("project/bad.csv")).unwrap();
    for line in [
        "line,reason,code,name,berths",
        "3,CHECK constraint failed: berths < 100,A2,two,200",
        "4,\"name: no value, and the column cannot be NULL\",A3,,3",
        "5,2 fields where there are 3 columns,A4,four",
        "6,UNIQUE constraint failed: ports.code,A1,again,5",
    ] {
        assert!(bad.contains(line), "{line}: {bad}");
    }
    assert_eq!(
        one(
            &home,
            "select group_concat(replace(code, char(10), '/'), ' ') from (select code from ports order by berths)"
        ),
        "A1 A/5 A6"
    );
    // What is there already stays, or is replaced.
    let home = home.file("b.csv", "code,name,berths\nA1,new,9\nB1,other,1\n");
    let told = load(&home, 1, &["b.csv", "-c", "quay", "-i", "ports"]);
    assert!(told.contains("UNIQUE constraint failed") && told.contains("nothing was loaded"), "{told}");
    let told = load(&home, 0, &["b.csv", "-c", "quay", "-i", "ports", "--on-conflict", "skip"]);
    assert!(told.contains("1 row loaded") && told.contains("1 were there already"), "{told}");
    load(&home, 0, &["b.csv", "-c", "quay", "-i", "ports", "--on-conflict", "replace"]);
    assert_eq!(one(&home, "select name || berths || note from ports where code = 'A1'"), "new9-", "other columns stay");
}

#[test]
fn what_a_column_takes_and_should_not_is_told() {
    let home = quay().file("a.csv", "n,day\n6,2031-03-05\nsix,soon\n7.5,2031-03-06\n");
    home.call(&["run", "-q", "-c", "quay", "-s", "create table loose (n integer, day date)"]).exits(0);
    let told = load(&home, 0, &["a.csv", "-c", "quay", "-i", "loose"]);
    let expected =
        "3 values not of the type of the column, and stored all the same, such as line 3: n: \"six\" is not a number";
    assert!(told.starts_with("3 rows loaded into loose") && told.contains(expected), "{told}");
    assert_eq!(one(&home, "select group_concat(n || day, ' ') from loose"), "62031-03-05 sixsoon 7.52031-03-06");
}

#[test]
fn what_stays_of_parts_is_told() {
    let rows: String = (0..250).map(|n| format!("k{n},n{n},1\n")).collect();
    let home = quay().file("a.csv", &format!("code,name,berths\n{rows}last,,1\n"));
    let told = load(&home, 2, &["a.csv", "-c", "quay", "-i", "ports", "--batch", "100"]);
    assert!(told.contains("line 252: name: no value") && told.contains("nothing was loaded"), "{told}");
    let many: String = (0..9000).map(|n| format!("k{n},n{n},1\n")).collect();
    let home = home.file("b.csv", &format!("code,name,berths\n{many}last,,1\n"));
    let told = load(&home, 2, &["b.csv", "-c", "quay", "-i", "ports", "--batch", "1000"]);
    assert!(told.contains("line 9002") && told.contains("8,000 rows before it stay"), "{told}");
    assert_eq!(one(&home, "select cast(count(*) as text) from ports"), "8000");
}

#[test]
fn guards_count() {
    let home = quay().file("a.csv", "code,name\nA,a\n");
    let told = load(&home, 2, &["a.csv", "-c", "locked", "-i", "ports"]);
    assert!(told.contains("locked is read-only: nothing can be loaded there"), "{told}");
    let told = load(&home, 2, &["a.csv", "-c", "guarded", "-i", "ports"]);
    assert!(told.contains("add --yes to load, or --preview to look"), "{told}");
    load(&home, 0, &["a.csv", "-c", "guarded", "-i", "ports", "--preview"]);
    assert_eq!(one(&home, "select cast(count(*) as text) from ports"), "0");
    load(&home, 0, &["a.csv", "-c", "guarded", "-i", "ports", "--yes"]);
    assert_eq!(one(&home, "select cast(count(*) as text) from ports"), "1");
}

#[test]
fn what_was_written_in_any_format_is_read_back() {
    let home = quay();
    Connection::open(home.path("project/quay.db"))
        .unwrap()
        .execute_batch(
            "create table all_kinds (id integer, price real, note text, at text);
             insert into all_kinds values (1, 0.5, 'it''s, \"quoted\"', '2031-03-05 07:30:00'), (2, null, '', null),
                 (3, -2.25, char(10) || 'é🛳' || char(9), '2031-12-31 00:00:00'), (9000000000, 1e300, null, '2031-01-01 23:59:59');",
        )
        .unwrap();
    let rows = "select group_concat(quote(id) || quote(price) || quote(note) || quote(at), ';') from ";
    let expected = one(&home, &format!("{rows} all_kinds"));
    for (number, ending) in ["csv", "tsv", "json", "jsonl", "parquet", "arrow"].iter().enumerate() {
        let (file, table) = (format!("all.{ending}"), format!("back_{number}"));
        home.call(&["run", "-c", "quay", "-s", "select * from all_kinds", "-o", &file]).exits(0);
        load(&home, 0, &[&file, "-c", "quay", "-i", &table, "--create"]);
        assert_eq!(one(&home, &format!("{rows} {table}")), expected, "{ending}");
    }
    // The same through a pipe, and as spreadsheets write it.
    let csv = std::fs::read_to_string(home.path("project/all.csv")).unwrap();
    let told = home.call(&["load", "-", "-c", "quay", "-i", "piped", "--create"]).input(&csv).exits(0).1;
    assert!(told.contains("4 rows loaded"), "{told}");
    assert_eq!(one(&home, &format!("{rows} piped")), expected);
    let utf16: Vec<u8> = [0xFF, 0xFE].into_iter().chain(csv.encode_utf16().flat_map(u16::to_le_bytes)).collect();
    std::fs::write(home.path("project/sheet.csv"), utf16).unwrap();
    load(&home, 0, &["sheet.csv", "-c", "quay", "-i", "sheet", "--create"]);
    assert_eq!(one(&home, &format!("{rows} sheet")), expected);
}

#[test]
fn rows_go_from_one_connection_to_another() {
    let home = quay().database(
        "other.db",
        "create table kinds (id integer primary key, price real, note text, raw blob, at text);
         insert into kinds values (1, 1.0, 'it''s', x'00ff', '2031-03-05'), (2, null, '', x'', null);
         with recursive n(i) as (select 3 union all select i + 1 from n where i < 40000)
         insert into kinds select i, i / 4.0, 'row ' || i, null, '2031-03-05' from n;",
    );
    let from = ["--from", "other.db", "-s", "select * from kinds order by id"];
    let into = ["-c", "quay", "-i", "kinds", "--create", "--key", "id"];
    let told = load(&home, 0, &[&from[..], &into, &["--preview"]].concat());
    assert!(told.contains("raw    → raw blob") && told.contains("price  → price real"), "{told}");
    let told = load(&home, 0, &[&from[..], &into].concat());
    assert!(told.starts_with("40,000 rows loaded into kinds"), "{told}");
    let sums =
        "select group_concat(quote(id) || quote(price) || quote(note) || quote(raw) || quote(at), ';') from kinds";
    let other = Connection::open(home.path("project/other.db")).unwrap();
    let expected: String = other.query_row(sums, [], |row| row.get(0)).unwrap();
    assert_eq!(one(&home, sums), expected);
    // A column that takes any value is not one of JSON for the name of its type.
    Connection::open(home.path("project/other.db"))
        .unwrap()
        .execute_batch(
            "create table notes (id integer, note json, mark uuid); insert into notes values (1, 'quay', 'x')",
        )
        .unwrap();
    let notes = ["--from", "other.db", "-s", "select * from notes", "-i", "notes", "--create", "--preview", "-c"];
    assert!(load(&home, 0, &[&notes[..], &["quay"]].concat()).contains("note json,\n  mark uuid"));
    let server = jaunty_testservers::Postgres::start();
    let url = format!("postgresql://clerk:{}@127.0.0.1:{}/bookings", jaunty_testservers::PASSWORD, server.port);
    assert!(load(&home, 0, &[&notes[..], &[&url]].concat()).contains("note text,\n  mark text"));
    // Few rows are all looked at before any is loaded, and end once.
    let few =
        ["--from", "other.db", "-s", "select id, note from kinds where id < 4 order by id", "-c", "quay", "-i", "few"];
    for more in [&["--create"][..], &[], &["--batch", "2"], &["--refused", "bad.csv"]] {
        let told = load(&home, 0, &[&few[..], more].concat());
        assert!(told.starts_with("3 rows loaded into few"), "{told}");
    }
    assert_eq!(one(&home, "select cast(count(*) as text) from few"), "12");
    // Kept rows need no server; a statement that writes gives none.
    home.call(&["run", "-c", "quay", "-s", "select id, note from kinds where id < 3"]).exits(0);
    load(&home, 0, &["--run", "last", "-c", "quay", "-i", "kept_rows", "--create"]);
    assert_eq!(one(&home, "select group_concat(id || note) from kept_rows"), "1it's,2");
    let told = load(
        &home,
        2,
        &["--from", "other.db", "-s", "delete from kinds returning *", "-c", "quay", "-i", "x", "--create"],
    );
    assert!(told.contains("only one that reads"), "{told}");
    let told =
        load(&home, 1, &["--from", "other.db", "-s", "select * from nowhere", "-c", "quay", "-i", "x", "--create"]);
    assert!(told.contains("no such table: nowhere"), "{told}");
}

#[test]
fn what_is_text_where_it_comes_from_stays_text() {
    let of_json = r#"[{"phone": "5551234", "n": 7, "day": "2031-03-05", "is": "true", "l": [1]}]"#;
    let home = quay().file("a.json", of_json).file("a.csv", "phone,is\n5551234,true\n");
    let types = |told: &str| -> Vec<String> {
        let lines = told.lines().filter_map(|line| line.split_once("→ "));
        lines.map(|(_, to)| to.split_whitespace().take(2).collect::<Vec<_>>().join(" ")).collect()
    };
    let preview = |from: &[&str], into: &str| {
        let told = load(&home, 0, &[from, &["-c", into, "-i", "kinds", "--create", "--preview"]].concat());
        types(&told)
    };
    // Of JSON what stands in quotation marks; days have no other form there.
    assert_eq!(preview(&["a.json"], "quay"), ["phone text", "n integer", "day date", "is text", "l text"]);
    // Of a file of nothing but text what all of the values are.
    assert_eq!(preview(&["a.csv"], "quay"), ["phone integer", "is boolean"]);
    // Of a database what a text column holds.
    let of_quay = "select '5551234' as phone, 7 as n, '2031-03-05' as day, 'true' as is_open";
    let other = preview(&["--from", "quay", "-s", of_quay], "quay");
    assert_eq!(other, ["phone text", "n integer", "day date", "is_open text"]);
    // Of a server what it says, whatever the values look like; its lists are lists of JSON elsewhere.
    let server = jaunty_testservers::Postgres::start();
    let url = format!("postgresql://clerk:{}@127.0.0.1:{}/bookings", jaunty_testservers::PASSWORD, server.port);
    let of_server = "select '7'::varchar(9) as a, '2031-03-05'::text as b, B'10101' as c, '7'::name as d, 1.50::numeric as e, \
                     '{q,\"x, y\",null}'::text[] as f, '{1,2}'::int[] as g, '{\"a\": 1}'::jsonb as h, '12:30'::time as i";
    let told = preview(&["--from", &url, "-s", of_server], "quay");
    assert_eq!(told, ["a text", "b text", "c text", "d text", "e numeric", "f text", "g text", "h text", "i time"]);
    load(&home, 0, &["--from", &url, "-s", of_server, "-c", "quay", "-i", "kinds", "--create"]);
    assert_eq!(
        one(&home, "select a || b || c || d || f || g from kinds"),
        "72031-03-05101017[\"q\",\"x, y\",null][1,2]"
    );
    // The same of kept rows, whose connection no file names.
    home.call(&["run", "-c", &url, "-s", of_server]).exits(0);
    let told = preview(&["--run", "last"], &url);
    assert_eq!(told[..2], ["a varchar(9)", "b text"]);
    assert_eq!(told[5..7], ["f text[]", "g int4[]"]);
}

/// A file that is broken ends in rows or in a sentence, and never in half of either.
#[test]
fn hostile_files_end_in_rows_or_a_sentence() {
    let wide = |columns: usize| {
        let names: Vec<_> = (0..columns).map(|at| format!("c{at}")).collect();
        format!("{}\n{}\n", names.join(","), vec!["1"; columns].join(","))
    };
    for (name, bytes, expected) in [
        ("empty", vec![], "has no rows"),
        ("names only", b"a,b\n".to_vec(), "0 rows loaded"),
        ("no end of a line", b"a,b\n1,2".to_vec(), "1 row loaded"),
        ("only signs", b",,,\n,,,\n".to_vec(), "rows loaded"),
        ("nul", b"a,b\nx\0y,2\n".to_vec(), "1 row loaded"),
        ("open quote", b"a,b\n1,\"2\n3,4\n".to_vec(), "line 2: a quote opens there that never closes"),
        ("ragged", b"a,b\n1,2\n3\n4,5,6\n".to_vec(), "line 3: 1 field where there are 2 columns"),
        ("not utf-8", b"a,b\n1,\xff\xfe\n".to_vec(), "1 row loaded"),
        ("half utf-16", b"\xFF\xFEa\0,\0b\0\n\x001\0".to_vec(), ""),
        ("escape signs", b"a\x1b[2J,b\n\x1b]0;x\x07,2\n".to_vec(), "1 row loaded"),
        ("wide", wide(1500).into_bytes(), "1 row loaded"),
        ("too wide", wide(5000).into_bytes(), "too many columns"),
        ("same names", b"a,a,\n1,2,3\n".to_vec(), ""),
        ("a workbook", b"PK\x03\x04....".to_vec(), "--format xlsx reads a workbook from a file by its name"),
        ("half a JSON", b"[{\"a\": 1}, {\"a\"".to_vec(), "ends in the middle of a row"),
        ("JSON of others", b"[1, 2]".to_vec(), "not an object of JSON"),
        (
            "deep JSON",
            format!("[{{\"a\": {}1{}}}]", "[".repeat(100_000), "]".repeat(100_000)).into_bytes(),
            "1 row loaded",
        ),
    ] {
        let home = quay();
        std::fs::write(home.path("project/file.txt"), &bytes).unwrap();
        let output = home.call(&["load", "file.txt", "-c", "quay", "-i", "t", "--create"]).output();
        let told = String::from_utf8(output.stderr).unwrap();
        assert!(told.contains(expected), "{name}: {told}");
        assert!(!told.contains('\u{1b}') && !told.contains("panicked"), "{name}: {told}");
        if !output.status.success() {
            let tables = one(&home, "select group_concat(name) from sqlite_schema where type = 'table'");
            assert_eq!(tables, "ports", "{name}: nothing stays of what failed");
        }
    }
}

/// A line of hundreds of megabytes through a pipe, in memory that does not grow with it.
#[test]
fn a_line_without_an_end_is_a_sentence() {
    let home = quay();
    let mut child = Command::new(env!("CARGO_BIN_EXE_jaunty"))
        .args(["load", "-", "-f", "csv", "-c", "quay", "-i", "t", "--create"])
        .current_dir(home.path("project"))
        .envs(home.environment())
        .stdin(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut input = child.stdin.take().unwrap();
    let status = format!("/proc/{}/status", child.id());
    let piece = vec![b'x'; 1 << 20];
    let (mut sent, mut peak) = (0, 0_u64);
    input.write_all(b"a,b\n1,\"").unwrap();
    while sent < 1024 && input.write_all(&piece).is_ok() {
        sent += 1;
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let high =
            text.lines().find_map(|line| line.strip_prefix("VmHWM:")).map(|line| line.trim().trim_end_matches(" kB"));
        peak = peak.max(high.and_then(|kb| kb.parse().ok()).unwrap_or(0));
    }
    drop(input);
    let output = child.wait_with_output().unwrap();
    let told = String::from_utf8(output.stderr).unwrap();
    assert!(told.contains("line 2: a row of more than 64 MiB"), "{told}");
    assert!(sent < 200, "it ends when it is clear, after {sent} MiB");
    assert!(peak < 400 << 10, "{peak} kB");
}

#[test]
fn a_kill_or_an_interrupt_leaves_all_or_nothing() {
    let rows: String = (0..60_000).map(|n| format!("k{n},name {n},{}\n", n % 90)).collect();
    let home = quay().file("many.csv", &format!("code,name,berths\n{rows}"));
    let mut ends = [0; 2];
    for round in 0..10_u64 {
        Connection::open(home.path("project/quay.db")).unwrap().execute_batch("delete from ports").unwrap();
        let mut child = Command::new(env!("CARGO_BIN_EXE_jaunty"))
            .args(["load", "many.csv", "-c", "quay", "-i", "ports"])
            .current_dir(home.path("project"))
            .envs(home.environment())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        thread::sleep(Duration::from_millis(round * 40));
        let signal = if round % 2 == 0 { "-KILL" } else { "-INT" };
        let _ = Command::new("kill").args([signal, &child.id().to_string()]).status();
        child.wait().unwrap();
        let count = one(&home, "select cast(count(*) as text) from ports");
        assert!(count == "0" || count == "60000", "round {round}: {count}");
        ends[usize::from(count == "60000")] += 1;
    }
    assert_eq!(ends.iter().sum::<i32>(), 10);
    // In parts what was committed stays, and it is said.
    let told = load(&home, 0, &["many.csv", "-c", "quay", "-i", "ports", "--on-conflict", "skip", "--batch", "1000"]);
    assert!(told.contains("loaded into ports"), "{told}");
    assert_eq!(one(&home, "select cast(count(*) as text) from ports"), "60000");
}

#[test]
fn a_dump_makes_the_database_again() {
    let home = quay()
        .database("copy.db", "create table gone (n); drop table gone")
        .file("a.csv", "code,name,berths\nSMQ,it's; a \"quay\",6\n");
    load(&home, 0, &["a.csv", "-c", "quay", "-i", "ports"]);
    let (_, told) = home.call(&["dump", "-c", "quay", "-o", "quay.sql"]).exits(0);
    assert!(told.contains("1 object and 1 row in quay.sql"), "{told}");
    home.call(&["run", "-q", "-c", "copy.db", "quay.sql"]).exits(0);
    let (again, _) = home.call(&["dump", "-c", "copy.db"]).exits(0);
    assert_eq!(again, std::fs::read_to_string(home.path("project/quay.sql")).unwrap());
    let (only, _) = home.call(&["dump", "-c", "quay", "ports", "--only-structure"]).exits(0);
    assert!(only.contains("CREATE TABLE ports") && !only.contains("insert"), "{only}");
    // A guarded connection can be read, and a file is whole or not there.
    home.call(&["dump", "-c", "locked", "-o", "locked.sql"]).exits(0);
    let (_, told) = home.call(&["dump", "-c", "quay", "nowhere", "-o", "no.sql"]).exits(2);
    assert!(told.contains("there is no table or view nowhere"), "{told}");
    assert!(!home.path("project/no.sql").exists());
}

const NEW: &str = "code;name;berths;opened\nSMQ;\"Saltmarsh; Quay\";6;05.03.2031\nGUL;Gullhaven;x;31.12.2030\n";

#[test]
fn a_file_is_looked_at_and_loaded_on_the_screen() {
    let home = quay().file("new.csv", NEW).file("a.sql", "select 1;\n");
    let screen = home.screen(&["a.sql", "-c", "quay"]);
    screen.shows("quay.db · main").press(&["M-i"]).shows("load a file · quay").types("new.csv");
    screen.shows("name the table").press(&["Enter"]).types("ports").shows("2 rows looked at: all of them fit");
    screen.shows("1 value not of the type of the column, and stored all the same, such as line 3: berths: ");
    screen.shows("opened → (nowhere)").shows("separator   ;");
    // Another column for what has none, and one that is left out.
    screen.press(&["Up", "Up"]).press(&["Down"; 18]).types("note").shows("opened → note");
    screen.press(&["Up", "C-u"]).shows("berths → (nowhere)").press(&["C-g"]).shows("2 rows loaded into ports in");
    assert_eq!(
        one(&home, "select group_concat(code || name || coalesce(berths, 'NULL') || note, ';') from ports"),
        "SMQSaltmarsh; QuayNULL05.03.2031;GULGullhavenNULL31.12.2030"
    );
    // Once more they are there already: all or nothing.
    screen.press(&["C-g"]).shows("these rows are loaded; change something here to load again");
    screen.types("x").shows("ports has no column \"x\"").press(&["C-u"]).loses("ports has no column").press(&["C-g"]);
    screen.shows("nothing was loaded").press(&["Escape"]).loses("load a file").press(&["M-l"]);
    screen.shows("new.csv into ports");
}

#[test]
fn lines_of_a_title_are_passed_over() {
    let text = "Sailings of the week, as planned\n\nid;name;berths\n1;Ann;4\n2;Bo;7;\n3;Cy;2\n";
    let home = quay().file("week.csv", text).file("a.sql", "select 1;\n");
    let shown = load(&home, 0, &["week.csv", "-c", "quay", "-i", "week", "--create", "--preview"]);
    assert!(shown.contains("4 rows (all of them were looked at)"), "{shown}");
    assert!(shown.contains("4 rows of those do not fit:\n  line 3: 1 field where there are 2 columns"), "{shown}");
    let screen = home.screen(&["a.sql", "-c", "quay"]);
    screen.shows("quay.db · main").press(&["M-i"]).shows("load a file · quay").types("week.csv").press(&["Enter"]);
    screen.types("week").shows("4 rows looked at: 4 of them do not fit").press(&["Down"; 4]).types("2");
    screen.shows("3 rows looked at: all of them fit").press(&["C-g"]).shows("3 rows loaded into week in");
    assert_eq!(one(&home, "select group_concat(id || name || berths, ';') from week"), "1Ann4;2Bo7;3Cy2");
    let told = load(&home, 0, &["week.csv", "-c", "quay", "-i", "week", "--skip", "2"]);
    assert!(told.contains("3 rows loaded into week"), "{told}");
}

#[test]
fn a_sheet_of_a_workbook_is_loaded() {
    let home = quay();
    let query = "select 'SMQ' as code, 'Saltmarsh' as name, 6 as berths, '2031-03-05' as opened, 12.5 as price, null as note \
                 union all select '007', '', null, '2030-12-31', -3, 'it''s'";
    home.call(&["run", "-s", query, "-c", "quay", "-o", "ports.xlsx"]).exits(0);
    let told = load(&home, 0, &["ports.xlsx", "-c", "quay", "-i", "sheet", "--create", "--preview"]);
    assert!(told.contains("ports.xlsx · xlsx · sheet ") && told.contains("berths"), "{told}");
    let told = load(&home, 0, &["ports.xlsx", "-c", "quay", "-i", "sheet", "--create"]);
    assert!(told.contains("2 rows loaded into sheet"), "{told}");
    assert_eq!(
        one(
            &home,
            "select group_concat(code || ',' || coalesce(berths, 'NULL') || ',' || opened || ',' || price || ',' || coalesce(note, 'NULL'), ';') from sheet"
        ),
        "SMQ,6,2031-03-05,12.5,NULL;007,NULL,2030-12-31,-3,it's"
    );
    let told = load(&home, 2, &["ports.xlsx", "-c", "quay", "-i", "sheet", "--sheet", "odd"]);
    assert!(told.contains("there is no sheet \"odd\"; it has "), "{told}");
    for (name, bytes) in [("short.xlsx", b"PK\x03\x04....".to_vec()), ("text.ods", b"a,b\n1,2\n".to_vec())] {
        std::fs::write(home.path(&format!("project/{name}")), bytes).unwrap();
        let told = load(&home, 2, &[name, "-c", "quay", "-i", "odd", "--create"]);
        assert!(
            told.starts_with(&format!("jaunty: {name} is not a workbook, or it is damaged: "))
                && !told.contains("panicked"),
            "{told}"
        );
    }
}

#[test]
fn a_key_that_comes_before_the_file_was_looked_at_counts() {
    let rows: String = (0..200_000).map(|n| format!("{n},berth {n}\n")).collect();
    let home = quay().file("many.csv", &format!("id,name\n{rows}")).file("a.sql", "select 1;\n");
    let screen = home.screen(&["a.sql", "-c", "quay"]);
    screen.shows("quay.db · main").press(&["M-i", "C-g"]).shows("name a file, or paste rows here");
    screen
        .types("many.csv")
        .press(&["Enter"])
        .types("fresh")
        .press(&["C-g"])
        .shows("200,000 rows loaded into fresh in");
    assert_eq!(one(&home, "select count(*) || '' from fresh"), "200000");
}

#[test]
fn pasted_rows_make_a_table() {
    let home = quay().file("a.sql", "select 1;\n");
    let screen = home.screen(&["a.sql", "-c", "quay"]);
    screen.shows("quay.db · main").press(&["M-i"]).shows("load a file · quay");
    screen.pastes("id\tname\n1\tTern Sound\n2\tEbb Gate\n").shows("(pasted rows)").types("tides");
    screen.shows("The table is new: create table tides ( id integer, name text )").shows("none; every id is different");
    screen.press(&["Down"; 10]).types("id").shows("id integer not null, name text, primary key (id)");
    screen.press(&["C-g"]).shows("2 rows loaded into tides in").loses("The table is new");
    // Pressed once more it loads nothing twice.
    screen.press(&["C-g"]).shows("these rows are loaded; change something here to load again");
    assert_eq!(one(&home, "select group_concat(id || name, ';') from tides"), "1Tern Sound;2Ebb Gate");
    // Its catalog knows the table at once.
    screen.press(&["Escape"]).loses("load a file").press(&["C-o"]).shows("catalog of").types("tides").shows("tides");
}

#[test]
fn a_column_of_a_new_table_gets_the_type_that_is_wanted() {
    let home = quay().file("zones.csv", "code,price\n90210,1.50\n10115,2\n").file("a.sql", "select 1;\n");
    let into = ["zones.csv", "-c", "quay", "-i", "zones", "--create"];
    let told = load(&home, 2, &[&into[..], &["--type", "cod=text"]].concat());
    assert!(told.contains("the file has no column \"cod\" to be given a type"), "{told}");
    for (wrong, why) in [
        ("code", "it is COLUMN=TYPE"),
        ("code=", "\"\" is not a type"),
        ("code=text, other int", "is not a type"),
        ("code=text); drop table ports; --", "is not a type"),
        ("code=char(5", "is not a type"),
    ] {
        let told = load(&home, 2, &[&into[..], &["--type", wrong]].concat());
        assert!(told.contains(why), "{wrong}: {told}");
    }
    load(&home, 0, &[&into[..], &["--type", "code=text", "--type", "price=decimal(8, 2)"]].concat());
    assert_eq!(
        one(
            &home,
            "select group_concat(typeof(code) || code) || (select lower(group_concat(type)) from pragma_table_info('zones')) from zones"
        ),
        "text90210,text10115text,decimal(8, 2)"
    );
    // Of one that is there they are its own.
    let told = load(&home, 2, &["zones.csv", "-c", "quay", "-i", "zones", "--type", "code=text"]);
    assert!(told.contains("--create"), "{told}");
    let screen = home.screen(&["a.sql", "-c", "quay"]);
    screen
        .shows("quay.db · main")
        .press(&["M-i"])
        .shows("load a file")
        .types("zones.csv")
        .press(&["Enter"])
        .types("fresh");
    screen.shows("create table fresh ( code integer, price numeric )").press(&["Down"; 14]);
    screen
        .shows("A new table takes")
        .types("code: char(5)")
        .shows("create table fresh ( code char(5), price numeric )");
    screen
        .press(&["Up"; 14])
        .press(&["C-u"])
        .types("zones")
        .shows("only a table that is made takes types; zones has its own");
    screen.press(&["C-u"]).types("fresh").shows("code char(5)").press(&["C-g"]).shows("2 rows loaded into fresh in");
    assert_eq!(one(&home, "select group_concat(typeof(code) || code) from fresh"), "text90210,text10115");
    screen.press(&["Escape", "C-q"]).ends();
}

#[test]
fn rows_are_loaded_from_the_clipboard_of_the_desktop() {
    let desktop = Desktop::start();
    let home = quay().file("a.sql", "select 1;\n");
    let screen = Screen::start(&home, (120, 30), &["a.sql", "-c", "quay"], &[("DISPLAY", &desktop.display)]);
    screen.shows("quay.db · main").press(&["M-i"]).shows("load a file · quay").shows("ctrl-v takes the clipboard");
    screen.press(&["C-v"]).shows("there is no text in the clipboard");
    desktop.copy("id\tname\n1\tTern \u{2693} Sound\n2\t\"two\nlines\"\n");
    screen.press(&["C-v"]).shows("(pasted rows)").types("tides").shows("create table tides ( id integer, name text )");
    // One line is a row as well; what was taken before is not loaded.
    desktop.copy("id;name\n3;\u{1b}[31mEbb\n");
    screen.press(&["C-v"]).shows("[31mEbb").loses("Tern");
    desktop.copy("id\tname\n1\tTern \u{2693} Sound\n2\t\"two\nlines\"\n");
    screen.press(&["C-v"]).shows("Tern").press(&["C-g"]).shows("2 rows loaded into tides in");
    assert_eq!(one(&home, "select group_concat(id || name, ';') from tides"), "1Tern \u{2693} Sound;2two\nlines");
    screen.press(&["Escape", "C-q"]).ends();
    // Where there is no desktop it says what to do.
    let screen = Screen::start(&home, (120, 30), &["a.sql", "-c", "quay"], &[("DISPLAY", "")]);
    screen.shows("quay.db · main").press(&["M-i"]).shows("load a file").press(&["C-v"]);
    screen.shows("there is no desktop here whose clipboard could be read; paste the rows into this form");
    screen.press(&["Escape", "C-q"]).ends();
}

#[test]
fn a_guard_counts_for_loading_on_the_screen() {
    let home = quay().file("new.csv", &NEW.replace(";x;", ";4;")).file("a.sql", "select 1;\n");
    let screen = home.screen(&["a.sql", "-c", "locked"]);
    screen.shows("quay.db · main").press(&["M-i"]).shows("locked is read-only: nothing can be loaded there");
    screen.press(&["F3"]).shows("connections").types("guarded").press(&["Enter"]).shows("ASKS FIRST");
    screen.press(&["M-i"]).shows("load a file · guarded").types("nowhere.csv").shows("nowhere.csv cannot be read");
    screen.press(&["C-u"]).types("new.csv").press(&["Enter"]).types("ports").shows("2 rows looked at");
    screen.press(&["C-g"]).shows("guarded asks before anything that writes");
    assert_eq!(one(&home, "select count(*) || '' from ports"), "0");
    screen.press(&["C-g"]).shows("2 rows loaded into ports in");
}

#[test]
fn a_whole_database_is_kept() {
    let home = quay();
    home.call(&["run", "-q", "-c", "quay", "-s", "insert into ports (code, name, berths) values ('A1', 'one', 1)"])
        .exits(0);
    let (_, told) = home.call(&["dump", "-c", "quay", "--backup", "-o", "whole.db"]).exits(0);
    assert!(told.contains("whole.db"), "{told}");
    // A connection that cannot write can be copied.
    let (_, told) = home.call(&["dump", "-c", "locked", "--backup", "-o", "locked.db"]).exits(0);
    assert!(told.contains("locked.db"), "{told}");
    let copy = Connection::open(home.path("project/whole.db")).unwrap();
    let rows = |db: &Connection| {
        db.query_row("select group_concat(code || name) from ports", [], |row| row.get::<_, String>(0)).unwrap()
    };
    assert_eq!(rows(&copy), "A1one");
    for (arguments, expected) in [
        (&["--backup"][..], "--output"),
        (&["--backup", "-o", "x.db", "ports"], "copies the whole database, not ports alone"),
        (&["--backup", "-o", "no/such/folder/x.db"], "cannot be written"),
        (&["--backup", "-o", "whole.db"], "is a database and would be overwritten"),
        (&["-o", "quay.db"], "is a database and would be overwritten"),
    ] {
        let (_, told) = home.call(&[&["dump", "-c", "quay"], arguments].concat()).exits(2);
        assert!(told.contains(expected), "{told}");
    }
    // From the screen, by its name in the list of actions.
    let home = home.file("a.sql", "select 1;\n");
    let screen = home.screen(&["a.sql", "-c", "quay"]);
    screen.shows("quay.db · main").press(&["C-l"]).types("backup").shows("Copy database").press(&["Enter"]);
    screen.shows("copied into").shows("copy-of-quay-");
    let files = std::fs::read_dir(home.path("project")).unwrap().flatten().map(|entry| entry.path());
    let kept: Vec<_> = files.filter(|path| path.to_string_lossy().contains("copy-of-quay-")).collect();
    let [kept] = kept.as_slice() else { panic!("one copy: {kept:?}") };
    assert_eq!(rows(&Connection::open(kept).unwrap()), "A1one");
}
