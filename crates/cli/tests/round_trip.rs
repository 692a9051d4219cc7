//! What is exported in any format and loaded again is what it was, for every type of a server.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_testservers::{Mariadb, PASSWORD, Postgres};
use support::Home;

const FORMATS: [&str; 7] = ["csv", "tsv", "jsonl", "json", "parquet", "arrow", "xlsx"];

/// A project with both servers as connections.
fn home(postgres: Option<&Postgres>, mariadb: Option<&Mariadb>) -> Home {
    let mut profiles = String::new();
    for (name, scheme, port) in
        [("quay", "postgresql", postgres.map(|s| s.port)), ("office", "mysql", mariadb.map(|s| s.port))]
    {
        let Some(port) = port else { continue };
        profiles.push_str(&format!(
            "[{name}]\nurl = \"{scheme}://clerk@127.0.0.1:{port}/bookings\"\ntls = \"off\"\nsecret_command = \"echo {PASSWORD}\"\n\n"
        ));
    }
    Home::new().file(".jaunty/connections.toml", &profiles)
}

/// Exports all rows in a format and loads them into the other table.
fn through(home: &Home, connection: &str, format: &str, more: &[&str]) {
    let file = format!("all.{format}");
    home.call(&["run", "-c", connection, "-s", "select * from alltypes order by id", "--format", format, "-o", &file])
        .exits(0);
    let (out, told) = home.call(&[&["load", &file, "-c", connection, "-i", "copied"], more].concat()).exits(0);
    assert!((out.clone() + &told).contains("4 rows loaded into copied"), "{format}: {out}{told}");
}

#[test]
fn every_type_of_postgres_comes_back() {
    let server = Postgres::start();
    server.sql(include_str!("support/types_of_postgres.sql"));
    let home = home(Some(&server), None);
    for format in FORMATS {
        server.sql("truncate copied");
        through(&home, "quay", format, &[]);
        let differs = server.sql(
            "set extra_float_digits = 3; select x.id, k.key, x.a->>k.key, y.a->>k.key from (select id, to_jsonb(z) a from alltypes z) x \
             left join (select id, to_jsonb(z) a from copied z) y using (id), jsonb_object_keys(x.a) k(key) where x.a->>k.key is distinct from y.a->>k.key",
        );
        assert_eq!(differs.trim(), "", "{format}");
    }
    // One value without a form of its own in the quick way leaves those beside it as they are.
    server.sql("create table few(id int, b bytea, f float8); create table few_copied(like few); insert into few values (1, '\\x00ff', 1), (2, '\\x7830', 'NaN'), (3, '', '-infinity')");
    for format in ["parquet", "arrow", "jsonl"] {
        let file = format!("few.{format}");
        home.call(&["run", "-c", "quay", "-s", "table few", "--format", format, "-o", &file]).exits(0);
        home.call(&["load", &file, "-c", "quay", "-i", "few_copied"]).exits(0);
        assert_eq!(
            server.sql("(table few except table few_copied) union all (table few_copied except table few)").trim(),
            "",
            "{format}"
        );
        server.sql("truncate few_copied");
    }
}

/// A table that is made for rows holds any text, whatever the database has as its character set; in one whose own does not,
/// the error names the way out.
#[test]
fn a_new_table_holds_any_text() {
    let server = Mariadb::start();
    server.sql(
        "create database old character set latin1; \
         create table old.narrow (code varchar(9), name varchar(40)); create database new character set utf8mb4 collate utf8mb4_bin",
    );
    let home = home(None, Some(&server)).file("ports.csv", "code,name\nGUL,Гавань Чаек\nSHI,潮村桟橋 🚢\n");
    home.call(&["load", "ports.csv", "-c", "office", "-i", "old.ports", "--create"]).exits(0);
    assert_eq!(server.sql("select hex(name) = hex('潮村桟橋 🚢') from old.ports where code = 'SHI'").trim(), "1");
    // Where the database's own set does, the table has its rules.
    home.call(&["load", "ports.csv", "-c", "office", "-i", "new.ports", "--create"]).exits(0);
    let collation = "select table_collation from information_schema.tables where table_schema = 'new'";
    assert_eq!(server.sql(collation).trim(), "utf8mb4_bin");
    let (_, told) = home.call(&["load", "ports.csv", "-c", "office", "-i", "old.narrow"]).exits(1);
    assert!(told.contains("Incorrect string value") && told.contains("convert to character set utf8mb4"), "{told}");
}

#[test]
fn every_type_of_mariadb_comes_back() {
    let server = Mariadb::start();
    server.sql(&format!("use bookings; {}", include_str!("support/types_of_mariadb.sql")));
    let home = home(None, Some(&server));
    let columns = [
        "ti",
        "tu",
        "b1",
        "si",
        "mi",
        "bi",
        "bu",
        "zf",
        "f",
        "d",
        "n",
        "n2",
        "hex(bt)",
        "hex(b1t)",
        "cast(dt as char)",
        "cast(tm as char)",
        "cast(dtm as char)",
        "ts",
        "y",
        "hex(c)",
        "hex(vc)",
        "hex(t)",
        "hex(lt)",
        "hex(l1)",
        "hex(ba)",
        "hex(vb)",
        "hex(bl)",
        "e + 0",
        "s + 0",
        "j",
        "hex(g)",
        "hex(p)",
        "u",
        "i4",
        "i6",
    ];
    let list = columns.join(", ");
    // Workbooks count days in numbers of 64 bits: a point in time has milliseconds, and the year 0 is a number.
    for (format, more) in FORMATS[..6]
        .iter()
        .map(|format| (*format, &[][..]))
        .chain([("csv", &["--on-conflict", "replace"][..]), ("jsonl", &["--on-conflict", "replace"])])
    {
        server.sql("truncate bookings.copied");
        through(&home, "office", format, more);
        let differs = server.sql(&format!(
            "use bookings; select * from (select id, {list} from alltypes except select id, {list} from copied) gone union all \
             select * from (select id, {list} from copied except select id, {list} from alltypes) new"
        ));
        assert_eq!(differs.trim(), "", "{format} {more:?}");
    }
}

#[test]
fn points_in_time_keep_their_moment_on_the_way_to_another_server() {
    let (postgres, mariadb) = (Postgres::start(), Mariadb::start());
    postgres.sql("create table tides(id int primary key, at timestamptz); insert into tides values (1, '2031-10-26 02:30:00.25+02'), (2, '2031-10-26 02:30:00.25+01'), (3, null)");
    mariadb
        .sql("set global time_zone = '+03:00'; create table bookings.stamps(id int primary key, at timestamp(3) null)");
    let home = home(Some(&postgres), Some(&mariadb));
    let from = ["load", "--from", "quay", "-s", "select * from tides order by id", "-c", "office"];
    home.call(&[&from[..], &["-i", "tides", "--create"]].concat()).exits(0);
    home.call(&[&from[..], &["-i", "stamps"]].concat()).exits(0);
    home.call(&[&from[..], &["-i", "stamps", "--on-conflict", "replace"]].concat()).exits(0);
    let told =
        |table: &str| mariadb.sql(&format!("set time_zone = '+00:00'; select * from bookings.{table} order by id"));
    assert_eq!(told("stamps").trim(), "1\t2031-10-26 00:30:00.250\n2\t2031-10-26 01:30:00.250\n3\tNULL");
    assert_eq!(told("tides").trim(), "1\t2031-10-26 00:30:00.250000\n2\t2031-10-26 01:30:00.250000\n3\tNULL");
    // Those that say no offset are what the clocks of the session show.
    std::fs::write(home.path("project/shown.csv"), "id,at\n9,2031-03-05 07:30:00\n").unwrap();
    home.call(&["load", "shown.csv", "-c", "office", "-i", "stamps"]).exits(0);
    assert!(told("stamps").contains("9\t2031-03-05 04:30:00.000"), "{}", told("stamps"));
    // Both kinds in one file would be other moments: also where the first thousands say nothing.
    let before = told("stamps");
    let none: String = (100..10_000).map(|id| format!("{id},\n")).collect();
    for rows in
        ["11,2031-03-05 07:30:00\n12,2031-03-05T07:30:00Z\n".to_owned(), none.clone() + "10000,2031-03-05T07:30:00Z\n"]
    {
        std::fs::write(home.path("project/mixed.csv"), format!("id,at\n{rows}")).unwrap();
        let (_, said) = home.call(&["load", "mixed.csv", "-c", "office", "-i", "stamps"]).exits(1);
        assert!(said.contains("some timestamps have an offset from UTC and others do not"), "{said}");
        assert_eq!(told("stamps"), before);
    }
}

/// Words for a flag and bits as they are written are numbers to the server, and what it would cut or refuse is a row that
/// does not fit.
#[test]
fn flags_bits_and_sets_of_a_file_are_what_the_server_has_for_them() {
    let mariadb = Mariadb::start();
    mariadb.sql("create table bookings.gates(id int primary key, kind enum('sea','lake'), signs set('ice','fog'), mask bit(5), one bit(1), is_open boolean, lasts time)");
    let home = home(None, Some(&mariadb)).file(
        "gates.csv",
        "id,kind,signs,mask,one,is_open,lasts\n\
         1,sea,\"ice,fog\",b'101',true,true,12:00\n\
         2,SEA,ICE,21,0,f,-838:59:59\n\
         3,lake,,0b11,,-3,\n\
         4,sea,hail,1,1,1,1:00\n\
         5,river,ice,1,1,1,1:00\n\
         6,sea,ice,32,1,1,1:00\n\
         7,sea,ice,1,2,1,1:00\n\
         8,sea,ice,1,1,perhaps,1:00\n\
         9,sea,ice,1,1,1,900:00:00\n",
    );
    let load = |file: &str, more: &[&str]| home.call(&[&["load", file, "-c", "office", "-i", "gates"], more].concat());
    let (_, told) = load("gates.csv", &["--refused", "bad.csv"]).exits(0);
    assert!(told.contains("3 rows loaded into gates") && told.contains("6 rows refused"), "{told}");
    for line in [
        "line 5: signs: \"hail\" is not one of: ice, fog; commas between several",
        "line 6: kind: \"river\": it has to be one of: sea, lake",
        "line 7: mask: \"32\": it has to be from 0 to 31, or bits as b'101'",
        "line 8: one: \"2\": it has to be 0 or 1",
        "line 9: is_open: \"perhaps\" is not a number",
    ] {
        assert!(told.contains(line), "{line}: {told}");
    }
    let bad = std::fs::read_to_string(home.path("project/bad.csv")).unwrap();
    assert!(bad.contains("10,\"lasts: \"\"900:00:00\"\": write a time as 07:30 or 07:30:05\""), "{bad}");
    let all = "select id, kind, signs, mask + 0, one + 0, is_open, lasts from bookings.gates order by id";
    let loaded =
        "1\tsea\tice,fog\t5\t1\t1\t12:00:00\n2\tsea\tice\t21\t0\t0\t-838:59:59\n3\tlake\tNULL\t3\tNULL\t-3\tNULL";
    assert_eq!(mariadb.sql(all).trim(), loaded);
    // Words of JSON are no text; and what is loaded from there comes back.
    mariadb.sql("delete from bookings.gates");
    let home = home
        .file("gates.jsonl", "{\"id\":1,\"one\":true,\"is_open\":false}\n{\"id\":2,\"one\":false,\"is_open\":true}\n");
    home.call(&["load", "gates.jsonl", "-c", "office", "-i", "gates"]).exits(0);
    let flags = "select id, one + 0, is_open from bookings.gates order by id";
    assert_eq!(mariadb.sql(flags).trim(), "1\t1\t0\n2\t0\t1");
}

/// Shapes become shapes on another server, also in a table that is made for them, where there is a type for them.
#[test]
fn shapes_go_from_one_server_to_another() {
    let (postgres, mariadb) = (Postgres::start(), Mariadb::start());
    mariadb.sql(
        "create table bookings.berths (id int primary key, at point, line geometry); insert into bookings.berths values \
         (1, st_geomfromtext('POINT(-0.25 51.5)', 4326), st_geomfromtext('LINESTRING(0 0, 1 1)')), (2, null, null)",
    );
    let home = home(Some(&postgres), Some(&mariadb));
    let load = |from: &str, of: &str, to: &str, into: &str| {
        let select = format!("select * from {of} order by id");
        home.call(&["load", "--from", from, "-s", &select, "-c", to, "-i", into, "--create"]).exits(0)
    };
    // Where no extension has brought the type there are texts.
    load("office", "berths", "quay", "texts");
    let told = "select st_astext(at), st_srid(at), st_astext(line) from berths order by id";
    let texts = "select data_type from information_schema.columns where table_name = 'texts' and column_name = 'at'";
    assert_eq!(postgres.sql(texts).trim(), "text");
    postgres.sql("create extension postgis");
    load("office", "berths", "quay", "berths");
    assert_eq!(postgres.sql(told).lines().next(), Some("POINT(-0.25 51.5)|4326|LINESTRING(0 0,1 1)"));
    load("quay", "berths", "office", "back");
    let bits = |table: &str| mariadb.sql(&format!("select id, hex(at), hex(line) from bookings.{table} order by id"));
    assert_eq!(bits("back"), bits("berths"));
}

/// A table that is made for rows of another one of the same kind of server has its types, and of another kind what comes
/// nearest.
#[test]
fn a_table_that_is_made_has_the_types_of_the_one_the_rows_come_from() {
    let (postgres, mariadb) = (Postgres::start(), Mariadb::start());
    postgres.sql(
        "create type mood as enum('calm', 'rough');
         create table tides(id int primary key, height numeric(30,10), span interval, gauge inet, marks int[], facts jsonb, code char(5), berth uuid, mood mood, flags bit(5));
         insert into tides values (1, 12345678901234567890.0123456789, '1 year 2 days 04:05:06.7', '10.0.0.1/24', '{1,null,3}', '\"s\"', 'ab', '00000000-0000-4000-8000-000000000001', 'calm', '10101'), (2, null, null, null, null, null, null, null, null, null), (3, 0, '-1 day', '::1', '{}', 'null', '', 'ffffffff-ffff-4fff-bfff-ffffffffffff', 'rough', '00000')",
    );
    let home = home(Some(&postgres), Some(&mariadb));
    let load = |more: &[&str]| {
        let from = ["load", "--from", "quay", "-s", "select * from tides order by id", "--create"];
        home.call(&[&from[..], more].concat()).exits(0)
    };
    let (told, _) = load(&["-c", "quay", "-i", "same", "--preview"]);
    for line in [
        "height numeric(30,10)",
        "span interval",
        "gauge inet",
        "marks int4[]",
        "facts jsonb",
        "code char(5)",
        "mood text",
    ] {
        assert!(told.contains(&format!("\n  {line},")), "{line}: {told}");
    }
    load(&["-c", "quay", "-i", "same"]);
    let all = "id, height, span, gauge, marks, facts, code, berth, mood::text, flags::text";
    let differs = format!("select {all} from tides except select {all} from same");
    assert_eq!(postgres.sql(&differs).trim(), "");
    // Kept rows know their connection, and with it their types.
    home.call(&["run", "-c", "quay", "-s", "select * from tides"]).exits(0);
    let (told, _) = home.call(&["load", "--run", "last", "-c", "quay", "-i", "kept", "--create", "--preview"]).exits(0);
    assert!(told.contains("\n  marks int4[],"), "{told}");
    // Another server's types: JSON is JSON, also where its values are none of those that look like it.
    load(&["-c", "office", "-i", "other"]);
    let made =
        mariadb.sql("select column_name, column_type from information_schema.columns where table_name = 'other'");
    for line in ["id\tint(11)", "height\tdecimal(38,10)", "facts\tlongtext", "berth\tchar(36)", "span\tlongtext"] {
        assert!(made.contains(line), "{line}: {made}");
    }
    let checked =
        mariadb.sql("select check_clause from information_schema.check_constraints where table_name = 'other'");
    assert!(checked.contains("json_valid(`facts`)"), "{checked}");
}

#[test]
fn numbers_of_32_bits_keep_their_digits_on_the_way_to_another_server() {
    let (postgres, mariadb) = (Postgres::start(), Mariadb::start());
    mariadb.sql("create table bookings.depths(id int primary key, f float, d double); insert into bookings.depths values (1, 16777215, 0.1e0 + 0.2e0), (2, 0.1234567, -1e300), (3, null, null)");
    let home = home(Some(&postgres), Some(&mariadb));
    home.call(&[
        "load",
        "--from",
        "office",
        "-s",
        "select * from depths order by id",
        "-c",
        "quay",
        "-i",
        "depths",
        "--create",
    ])
    .exits(0);
    assert_eq!(
        postgres.sql("set extra_float_digits = 3; select id, f::float4, d from depths order by id").trim(),
        "1|1.6777215e+07|0.30000000000000004\n2|0.1234567|-1e+300\n3||"
    );
    // What cannot be prepared goes the usual way.
    let (_, told) = home
        .call(&["load", "--from", "office", "-s", "show create table depths", "-c", "quay", "-i", "made", "--create"])
        .exits(0);
    assert!(!told.contains("1295"), "{told}");
}

#[test]
fn numbers_without_an_end_stay_numbers_in_sqlite() {
    let home = Home::new()
        .database("quay.db", "create table tides(id integer primary key, height real); insert into tides values (1, 9e999), (2, -9e999), (3, 0.5); create table copied(id integer primary key, height real)")
        .file(".jaunty/connections.toml", "[quay]\nengine = \"sqlite\"\npath = \"../quay.db\"\n");
    for format in FORMATS {
        let file = format!("all.{format}");
        home.call(&["run", "-c", "quay", "-s", "select * from tides", "--format", format, "-o", &file]).exits(0);
        home.call(&["load", &file, "-c", "quay", "-i", "copied"]).exits(0);
        let told = "select group_concat(typeof(height) || height, ' ') as told from copied";
        let (out, _) = home.call(&["run", "-c", "quay", "-s", told, "--format", "csv"]).exits(0);
        assert_eq!(out.lines().last().unwrap(), "realInf real-Inf real0.5", "{format}");
        home.call(&["run", "-c", "quay", "-s", "delete from copied"]).exits(0);
    }
}
