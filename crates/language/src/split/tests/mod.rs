mod dialects;

use proptest::prelude::*;

use crate::dialect::{REDIS, SQLITE};
use crate::split::*;

fn split(text: &str) -> Vec<String> {
    let rope = Rope::from_str(text);
    statements(&rope, &SQLITE, 0).map(|s| rope.byte_slice(s.start..s.end).to_string()).collect()
}

/// Each example is one text; `¦` marks where a new statement must begin.
#[test]
fn a_forgotten_semicolon_is_found() {
    for example in [
        "select 1",
        "select 1\n¦select 2",
        "select * from ports\n\n-- Vessels\n¦select * from vessels",
        "select * from ports\n¦insert into ports(name) values ('Saltmarsh')\n¦select changes()",
        "update fares set price = 1\nwhere id = 2\n¦delete from fares where id = 3",
        "insert into log select * from runs\n¦select 1",
        "create table a (id int)\n¦create table b (id int)\n¦drop table a",
        "select a from t\n¦with x as (select 1) select * from x",
        "select a from t\n¦explain query plan select b from t",
        "select a from t\n¦pragma foreign_keys = on",
        "pragma foreign_keys = on\n¦delete from t",
        "pragma foreign_keys\n¦pragma user_version",
        "select a from t\n\n-- Tidy up\n¦vacuum",
        "select a from t\n\n/* Tidy up */\n¦vacuum;",
        "begin immediate\n¦update t set a = 1\n¦commit",
        "select a from t\n\n-- Tidy up\n¦reindex\n\n-- And look\n¦select a from t",
        "select a from t\n¦begin transaction\n¦rollback transaction",
        "select a from t\n¦replace into t values (1)",
        "create trigger g after insert on t begin select 1; end\n¦select 2",
        "create trigger g after insert on t begin select 1;\n\n-- forgot the END\n¦create table c (a)",
        "create view v as select 1\n¦select * from v",
        "with a as (select 1) select * from a\n¦select 2",
        "alter table t drop column a\n¦alter table t rename to u\n¦drop table t",
        "select 1\n¦values (2)",
    ] {
        let text = example.replace('¦', "");
        assert_eq!(split(&text).len(), example.split('¦').count(), "{example}");
        for (found, marked) in split(&text).iter().zip(example.split('¦')) {
            assert!(marked.starts_with(found.as_str()), "{found:?} where {marked:?} was expected");
        }
    }
}

#[test]
fn what_the_server_takes_as_one_stays_one() {
    for text in [
        "select a\n\n-- only the cheap ones\nfrom fares;",
        "insert into t\n\n-- from here\nselect * from x;",
        "insert into t (a)\n\n-- the rows\nvalues (1);",
        "insert into t default\nvalues;",
        "insert or\nreplace into t values (1);",
        "create view v as\n\n-- what it shows\nselect 1\nunion all\n\n-- and more\nselect 2;",
        "create view v as with a as (select 1)\nselect * from a;",
        "with a as (\n  select 1\n), b as (\nselect 2)\n\n-- main\nselect * from a, b;",
        "with a as (select 1)\ninsert into t\nselect * from a;",
        "with a as (select 1)\nupdate t set x = 1;",
        "with a as (select 1)\ndelete from t;",
        "explain\n\n-- how\nquery plan\nselect 1;",
        "create trigger g\nbefore\nupdate on t\nbegin\n  insert into l values (1);\n\n  -- and\n  update t set a = 1;\nend;",
        "create temp trigger g update of a on t begin select case when 1 then 2 end; end;",
        "create table c (a references t on\ndelete cascade on\nupdate set null);",
        "insert into t values (1) on conflict (a) do\nupdate set a = 2;",
        "alter table t\ndrop column a;",
        "alter table t\ndrop view;",
        "select case when a then b\n\n-- whichever\nend;",
        "select a\nbegin;",
        "select a, b as\nattach from t;",
        "select 2 *\nrelease x from t;",
        "select * from (\nwith a as (select 1)\nselect * from a);",
        "select * from t where a in (\nselect 1 union\nselect 2);",
        "create virtual table f using m(a,\nselect\ncreate b);",
        "select ';', \";\", `;`, [;], x'3b' -- ;\n/* ; */ from t;",
        "release\nsavepoint s;",
        "rollback to\nsavepoint s;",
    ] {
        assert_eq!(split(text), [text], "{text}");
    }
}

#[test]
fn titles_kinds_and_empty_statements() {
    let text = "-- not this\n\n--- Ports ---\nselect 1; -- nor this\nselect 2;;\n/* Fares\n   of the day */\nwith a as (select 1) delete from t;\n-- x\n\ncreate table t(a);\nexplain select 1;";
    let rope = Rope::from_str(text);
    let found: Vec<_> =
        statements(&rope, &SQLITE, 0).map(|s| (s.title_text(&rope, &SQLITE), s.kind, s.text(&rope))).collect();
    assert_eq!(
        found,
        [
            (Some("Ports".into()), Kind::Query, "select 1".into()),
            (None, Kind::Query, "select 2".into()),
            (Some("Fares".into()), Kind::Change, "with a as (select 1) delete from t".into()),
            (None, Kind::Definition, "create table t(a)".into()),
            (None, Kind::Plan, "explain select 1".into()),
        ]
    );
}

#[test]
fn a_comment_that_names_the_connection_is_no_title() {
    let titles = |text: &str, dialect: &'static Dialect| -> String {
        let rope = Rope::from_str(text);
        let all = statements(&rope, dialect, 0).map(|s| s.title_text(&rope, dialect).unwrap_or_else(|| "-".to_owned()));
        all.collect::<Vec<_>>().join(" ")
    };
    assert_eq!(titles("-- connection: ferry\nselect 1;", &SQLITE), "-");
    assert_eq!(titles("-- Ports\n-- connection: ferry\nselect 1;", &SQLITE), "Ports");
    assert_eq!(titles("-- connection: ferry\n-- Ports\nselect 1;\n", &SQLITE), "Ports");
    assert_eq!(titles("-- Ports\n\n--connection:ferry\nselect 1;", &SQLITE), "-");
    let keys = "# Ports\n#  connection: cache\nget a\n# connections\nget b\n";
    assert_eq!(titles(keys, &REDIS), "Ports connections");
}

#[test]
fn a_quote_that_never_closes_is_marked() {
    let rope = Rope::from_str("select 1; select 'open; select 2");
    let found: Vec<_> = statements(&rope, &SQLITE, 0).map(|s| s.closed).collect();
    assert_eq!(found, [true, false]);
}

proptest! {
    /// Blank lines and comments put anywhere between tokens change nothing where semicolons stand.
    #[test]
    fn gaps_do_not_split(order in proptest::collection::vec(0..PIECES.len(), 1..6), gaps in proptest::collection::vec(0..4_usize, 200)) {
        let mut text = String::new();
        let mut expected = 0;
        let mut gap = gaps.iter().cycle();
        for piece in order {
            for word in PIECES[piece].split(' ') {
                text.push_str(word);
                text.push_str(match gap.next() { Some(0) => "\n\n-- a title\n", Some(1) => "\n", Some(2) => " /* ; */\n\n", _ => " " });
            }
            text.push_str(";\n");
            expected += 1;
        }
        prop_assert_eq!(split(&text).len(), expected, "{}", text);
    }

    /// Whatever the text, statements come in order, do not overlap, and leave only trivia out.
    #[test]
    fn statements_cover_everything_but_trivia(text in "(select|insert|create|trigger|begin|end|with|as|vacuum|--|/\\*|\\*/|[a-c;'\"()\n ,]){0,60}") {
        let rope = Rope::from_str(&text);
        let mut at = 0;
        let mut left_out = Vec::new();
        for s in statements(&rope, &SQLITE, 0) {
            prop_assert!(at <= s.start && s.start < s.body_end && s.body_end <= s.end);
            left_out.push((at, s.start));
            at = s.end;
        }
        left_out.push((at, text.len()));
        for (start, end) in left_out {
            for token in Lexer::new(&rope, &SQLITE, start).take_while(|t| t.start < end) {
                prop_assert!(token.kind.is_trivia() || token.kind == TokenKind::Semicolon, "{:?} in {}", token, text);
            }
        }
    }
}

const PIECES: &[&str] = &[
    "select a , b from t where c in ( select d from u ) order by a",
    "insert into t ( a , b ) select a , b from u union all select 1 , 2",
    "insert or replace into t values ( 1 ) on conflict ( a ) do update set a = 2",
    "with x as ( select 1 ) , y as ( values ( 2 ) ) delete from t where a in ( select * from x )",
    "create trigger g after update of a on t begin insert into l values ( 1 ) ; delete from l ; end",
    "create view v as with x as ( select 1 ) select case when a then b else c end from x",
    "create table c ( a int references t ( a ) on delete cascade on update set null , b text )",
    "alter table t drop column a",
    "explain query plan select 1",
    "begin immediate",
    "rollback to savepoint s",
    "pragma foreign_keys = on",
    "vacuum",
];
