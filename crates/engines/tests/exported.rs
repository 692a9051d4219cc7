//! Rows that are exported as statements, and the servers that carry those out: they hold the same rows then.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_core::connection::open;
use jaunty_core::export::file::write_batches;
use jaunty_core::export::{Format, Options};
use jaunty_engines::by_name;
use jaunty_language::dialect::{Dialect, MYSQL, POSTGRES, SQLITE};
use jaunty_language::split;
use jaunty_seam::engine::{Request, Session};
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres};
use proptest::test_runner::{Config, TestRunner};
use support::{Collect, run};

/// Text that statements could be broken with.
const HOSTILE: &[&str] = &[
    "",
    " ",
    "'",
    "''",
    "it's; drop table kept; --",
    "\\",
    "\\'",
    "\\n",
    "a\nb\r\nc\td",
    "\u{1b}[2J\u{7}",
    "$1 :name ? @x",
    "$$ $tag$",
    "/* */ -- #",
    "null",
    "x'00'",
    "\"`[]",
    "é名\u{202e}🛳",
    "100% _sure_",
];

fn connect(engine: &str, port: Option<u16>) -> Box<dyn Session> {
    let profile = match port {
        None => Profile::new("ferry", engine).with("path", ":memory:"),
        Some(port) => {
            let mut profile = Profile::new("bookings", engine).with("host", "127.0.0.1").with("user", "clerk");
            profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
            profile.with("database", "bookings")
        }
    };
    let secret = port.map(|_| Secret::new(PASSWORD.into()));
    open(by_name(engine).unwrap(), &profile, secret.as_ref()).unwrap()
}

/// All rows of a query in a text format.
fn exported(session: &mut dyn Session, query: &str, format: Format, options: &Options) -> String {
    let found = run(session, query).unwrap_or_else(|error| panic!("{query}: {error}"));
    let batches = found.seen.lock().unwrap().batches.clone();
    let mut text = Vec::new();
    write_batches(&batches[0].schema(), &batches, (format, options), &mut text).unwrap();
    String::from_utf8(text).unwrap()
}

/// Copies `from` to `to` by its `INSERT` statements, and compares.
fn made_again(session: &mut dyn Session, (from, to): (&str, &str), dialect: &'static Dialect) {
    let query = format!("select * from {from} order by id");
    let options = Options { dialect, table: Some(to.into()), ..Options::default() };
    let script = exported(session, &query, Format::Insert, &options);
    let rope = jaunty_language::text::rope(&script);
    let statements: Vec<String> = split::statements(&rope, dialect, 0).map(|s| s.text(&rope)).collect();
    let rows = |session: &mut dyn Session, table: &str| -> Vec<Vec<String>> {
        run(session, &format!("select * from {table} order by id")).unwrap().rows()
    };
    let before = rows(session, from);
    assert_eq!(statements.len(), before.len().div_ceil(100), "a hundred rows a statement:\n{script}");
    for statement in statements {
        run(session, &statement).unwrap_or_else(|error| panic!("{statement}\n{error}"));
    }
    assert_eq!(rows(session, to), before, "{script}");
}

/// A table with a row for each hostile text, and as many as it takes for several statements; and one like it.
fn filled(session: &mut dyn Session, dialect: &'static Dialect, columns: &str, values: &[&str]) {
    for table in ["kept", "again"] {
        run(
            session,
            &format!("create table {table}(id int primary key, \"Odd Name\" {columns})")
                .replace('"', &dialect.name_quotes[0].to_string()),
        )
        .unwrap();
    }
    let count = values.len() + 230;
    for id in 0..count {
        let text = HOSTILE.get(id).map_or_else(|| "null".to_owned(), |text| dialect.text_as_written(text));
        let rest = values.get(id).unwrap_or(&values[0]);
        let insert = format!("insert into kept values ({id}, {text}, {rest})");
        run(session, &insert).unwrap_or_else(|error| panic!("{insert}\n{error}"));
    }
}

#[test]
fn sqlite_takes_back_what_is_exported() {
    let mut session = connect("sqlite", None);
    let session = session.as_mut();
    let values = [
        "null, null",
        "x'', 1",
        "x'00ff', -1.5",
        "x'27', '27'",
        "null, 9223372036854775807",
        "null, 1e300",
        "null, x'00'",
        "null, 0.1",
    ];
    filled(session, &SQLITE, "text, pennant blob, anything", &values);
    made_again(session, ("kept", "again"), &SQLITE);
}

#[test]
fn postgres_takes_back_what_is_exported() {
    let server = Postgres::start();
    let mut session = connect("postgres", Some(server.port));
    let session = session.as_mut();
    let columns = "text, pennant bytea, fare numeric(9,2), draught float8, small real, day date, at timestamptz, open boolean, notes jsonb, tags text[]";
    let values = [
        "null, null, null, null, null, null, null, null, null",
        r"'\x', 0.00, 0.1, 0.1, '2031-03-05', '2031-03-05 07:30:00.123456+02', true, '{}', '{}'",
        r"'\x00ff27', -0.05, 'NaN', 'Infinity', 'infinity', '-infinity', false, '[1, null]', array['a''b', 'c\d', null]",
        r#"'\x5c', 1234567.89, '-Infinity', '1e-30', '0044-03-15 BC', '1850-12-01 12:00:00+00', null, '{"a": "it''s"}', null"#,
    ];
    filled(session, &POSTGRES, columns, &values);
    made_again(session, ("kept", "again"), &POSTGRES);
}

#[test]
fn mariadb_takes_back_what_is_exported() {
    let server = Mariadb::start();
    let mut session = connect("mysql", Some(server.port));
    let session = session.as_mut();
    let columns = "varchar(60) character set utf8mb4, pennant varbinary(9), fare decimal(9,2), draught double, day date, at datetime(6), wait time, open boolean, status enum('late', 'it''s')";
    let values = [
        "null, null, null, null, null, null, null, null",
        "x'', 0, 0.1, '2031-03-05', '2031-03-05 07:30:00.123456', '07:30:00', true, 'late'",
        "x'00ff275c', -0.05, 1e300, '9999-12-31', '1000-01-01 00:00:00', '-838:59:59', false, 'it''s'",
    ];
    filled(session, &MYSQL, columns, &values);
    made_again(session, ("kept", "again"), &MYSQL);
}

/// Rows of one server go into another's table, if it is told whose language is meant.
#[test]
fn rows_move_from_one_server_to_another() {
    let (postgres, mariadb) = (Postgres::start(), Mariadb::start());
    let mut servers = [
        (connect("sqlite", None), &SQLITE, "text, draught real, pennant blob"),
        (connect("postgres", Some(postgres.port)), &POSTGRES, "text, draught float8, pennant bytea"),
        (
            connect("mysql", Some(mariadb.port)),
            &MYSQL,
            "varchar(60) character set utf8mb4, draught double, pennant varbinary(9)",
        ),
    ];
    let values = |dialect: &Dialect| {
        let bytes =
            |digits: &str| if dialect.name == "postgres" { format!(r"'\x{digits}'") } else { format!("x'{digits}'") };
        [format!("-0.25, {}", bytes("00ff5c27")), format!("null, {}", bytes("")), "1.5, null".to_owned()]
    };
    for (session, dialect, columns) in &mut servers {
        let values = values(dialect);
        filled(session.as_mut(), dialect, columns, &values.iter().map(String::as_str).collect::<Vec<_>>());
    }
    let rows = |session: &mut dyn Session, table: &str| -> Vec<Vec<String>> {
        let query = format!("select * from {table} order by id");
        let rows = run(session, &query).unwrap().rows();
        rows.into_iter()
            .map(|row| row.iter().map(|value| value.trim_start_matches("\\x").to_owned()).collect())
            .collect()
    };
    for from in 0..servers.len() {
        for to in 0..servers.len() {
            let mut options = Options { table: Some("again".into()), ..Options::default() };
            options.set("dialect", servers[to].1.name).unwrap();
            let session = servers[from].0.as_mut();
            let before = rows(session, "kept");
            let script = exported(session, "select * from kept order by id", Format::Insert, &options);
            let rope = jaunty_language::text::rope(&script);
            let session = servers[to].0.as_mut();
            run(session, "delete from again").unwrap();
            for statement in split::statements(&rope, options.dialect, 0) {
                let statement = statement.text(&rope);
                run(session, &statement).unwrap_or_else(|error| panic!("{statement}\n{error}"));
            }
            assert_eq!(rows(session, "again"), before, "{script}");
        }
    }
}

/// A list for `IN` finds what it was made of.
#[test]
fn a_list_finds_what_it_was_made_of() {
    let mut session = connect("sqlite", None);
    let session = session.as_mut();
    filled(session, &SQLITE, "text, fare real", &["1.5", "-2", "0.1"]);
    let options = Options { dialect: &SQLITE, ..Options::default() };
    for (column, expected) in [("\"Odd Name\"", HOSTILE.len()), ("fare", 3), ("id", 233)] {
        let list = exported(session, &format!("select {column} from kept"), Format::List, &options);
        let found = run(
            session,
            &format!("select count(distinct {column}), count({column}) from kept where {column} in {list}"),
        )
        .unwrap()
        .rows();
        let all = run(session, &format!("select count(distinct {column}), count({column}) from kept")).unwrap().rows();
        assert_eq!(found, all, "{list}");
        assert_eq!(found[0][0], expected.to_string(), "{list}");
    }
}

/// Whatever text there is, a statement holds it as one literal.
#[test]
fn any_text_is_one_literal() {
    let mut session = connect("sqlite", None);
    run(session.as_mut(), "create table kept(id integer primary key, note text)").unwrap();
    run(session.as_mut(), "create table again(id integer primary key, note text)").unwrap();
    let mut runner = TestRunner::new(Config { failure_persistence: None, ..Config::with_cases(200) });
    let session = std::cell::RefCell::new(session);
    runner
        .run(&"([^\\x00]|['\"\\\\;-]|\r\n){0,20}", |text| {
            let mut session = session.borrow_mut();
            for table in ["kept", "again"] {
                run(session.as_mut(), &format!("delete from {table}")).unwrap();
            }
            let given = [(":note".to_owned(), jaunty_language::statement::parameters::ParameterValue::Text(text))];
            session
                .run(&Request::new("insert into kept values (1, :note)").with(&given), Box::new(Collect::up_to(9)))
                .unwrap();
            made_again(session.as_mut(), ("kept", "again"), &SQLITE);
            Ok(())
        })
        .unwrap();
}

#[test]
fn json_and_arrays_are_what_the_server_itself_makes_of_them() {
    let server = Postgres::start();
    let session = &mut *connect("postgres", Some(server.port));
    run(session, "create type state as enum ('open', 'held')").unwrap();
    run(
        session,
        "create table kept(id int, texts text[], numbers int[][], reals float8[], digits numeric[], yes bool[],
            states state[], parts jsonb[], plain json, packed jsonb, loose varchar(9)[], draught float8, fare numeric)",
    )
    .unwrap();
    let texts: Vec<String> = HOSTILE.iter().map(|text| POSTGRES.text_as_written(text)).collect();
    let texts = texts.join(", ");
    for values in [
        &format!(
            "1, array[{texts}], '{{{{1,-2}},{{3,null}}}}', '{{1.5,-1e+30}}', '{{1.50,null}}', '{{t,f,null}}', '{{held,open}}',
             array[to_jsonb(array[{texts}]), 'null', '{{\"a\": {{\"b\": [1, 2.50]}}}}'], to_json(array[{texts}]), to_jsonb(array[{texts}]), '{{a,\"b c\"}}', 'Infinity', 12.50"
        ),
        "2, '{}', '[0:1][5:5]={{1},{2}}', '{}', '{}', '{}', '{}', '{}', E'{\\n  \"a\" : [ 1,\\t2 ],\\n  \"b\" : \"c\\\\n d\" }', '7', '{}', 'NaN', 'NaN'",
        "3, null, null, null, null, null, null, null, null, null, null, -1e-300, null",
    ] {
        let insert = format!("insert into kept values ({values})");
        run(session, &insert).unwrap_or_else(|error| panic!("{insert}\n{error}"));
    }
    let query = "select * from kept order by id";
    let theirs = run(session, "select json_agg(k order by id) from kept k").unwrap().rows();
    let theirs: serde_json::Value = serde_json::from_str(&theirs[0][0]).unwrap();
    let whole = exported(session, query, Format::Json, &Options::default());
    assert_eq!(serde_json::from_str::<serde_json::Value>(&whole).unwrap(), theirs, "{whole}");
    let lines = exported(session, query, Format::JsonLines, &Options::default());
    let lines: Vec<serde_json::Value> = lines.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(serde_json::Value::from(lines), theirs);
    // Or letter by letter.
    let text = exported(session, query, Format::Json, &Options { nested: false, ..Options::default() });
    let text: serde_json::Value = serde_json::from_str(&text).unwrap();
    assert_eq!((&text[0]["numbers"], &text[1]["packed"]), (&"{{1,-2},{3,NULL}}".into(), &"7".into()));
    assert!(text[1]["plain"].as_str().unwrap().starts_with("{\n  \"a\" : [ 1,\t2 ]"), "{text}");
}
