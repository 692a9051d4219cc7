use super::*;
use jaunty_language::dialect::{self, Dialect};
use jaunty_seam::catalog::{Catalog, Column, Constraint, Index, Name, Rule};

/// A small ferry company, as each engine would tell of it.
pub(crate) fn saltmarsh() -> Catalog {
    let mut catalog = Catalog::along(["public".to_owned()]);
    let tables: &[(&str, &str, &str)] = &[
        ("public", "ports", "id integer key, name text, country text, berths integer"),
        ("public", "vessels", "id integer key, name text, capacity integer, mood mood"),
        ("public", "routes", "id integer key, from_port_id integer >ports, to_port_id integer >ports, minutes integer"),
        (
            "public",
            "sailings",
            "id integer key, route_id integer >routes, vessel_id integer >vessels, departs timestamptz, state enum('planned','gone')",
        ),
        (
            "public",
            "bookings",
            "id integer key, sailing_id integer >sailings, passenger text, seats integer, price numeric, paid boolean, Paid_At timestamptz",
        ),
        ("ops", "crew", "id integer key, vessel_id integer, name text, order integer"),
        ("ops", "shifts", "crew_id integer >crew, day date"),
    ];
    for (schema, table, columns) in tables {
        for column in columns.split(", ") {
            let words: Vec<&str> = column.split(' ').collect();
            let to = words.iter().find_map(|word| word.strip_prefix('>'));
            let key = words.contains(&"key");
            let object = catalog.object(schema, table, ObjectKind::Table);
            object.columns.push(Column {
                name: words[0].into(),
                db_type: words[1].into(),
                nullable: !key,
                key,
                ..Column::default()
            });
            if let Some(to) = to {
                let to = Name { schema: (*schema).into(), name: to.into() };
                let rule = Rule::Foreign { to, columns: vec!["id".into()], actions: String::new() };
                object.constraints.push(Constraint::new("", vec![words[0].into()], rule));
            }
        }
    }
    // As SQLite keeps it, and as PostgreSQL writes it.
    let ports = catalog.object("public", "ports", ObjectKind::Table);
    for check in ["country in ('Aldermere', 'Brackenport')", "((country)::text = any ((array['Cape Loam'])::text[]))"] {
        ports.constraints.push(Constraint::new("", vec![], Rule::Check(check.into())));
    }
    let busy = catalog.object("public", "busy_ports", ObjectKind::View);
    busy.columns = vec![Column { name: "name".into(), db_type: "text".into(), ..Column::default() }];
    catalog.object("public", "tide", ObjectKind::Function).signature =
        "(port integer, days integer) returns numeric".into();
    catalog.object("public", "sweep", ObjectKind::Procedure).signature = "(n integer)".into();
    let mood = catalog.object("public", "mood", ObjectKind::Type);
    (mood.signature, mood.values) = ("enum".into(), vec!["calm".into(), "rough".into(), "it's wild".into()]);
    for (pattern, kind, key) in [("port:*", "hash", "port:1"), ("queue", "list", "queue"), ("tide", "string", "tide")] {
        let keys = catalog.object("", pattern, ObjectKind::Keys);
        (keys.signature, keys.definition, keys.rows) = (kind.into(), key.into(), Some(2));
    }
    catalog.complete();
    catalog
}

/// The same company as documents, known by a sample.
pub(crate) fn collections() -> Catalog {
    let mut catalog = Catalog::along([String::new()]);
    for (name, fields) in [
        ("ports", "_id int, name string, place object, place.type string, open bool"),
        ("sailings", "_id objectId, port object, port.code string, delay int, left date, fare decimal, guests array"),
        ("odd days", "_id int"),
    ] {
        let object = catalog.object("", name, ObjectKind::Table);
        let columns = fields.split(", ").filter_map(|field| field.split_once(' '));
        object.columns = columns
            .map(|(name, db_type)| Column {
                name: name.into(),
                db_type: db_type.into(),
                values: match name {
                    "port.code" => ["\"GUL\"", "\"SMQ\"", "\"a \\\"b\\\"\""].map(str::to_owned).to_vec(),
                    _ => Vec::new(),
                },
                ..Column::default()
            })
            .collect();
        object.indexes.push(Index {
            name: "left_1".into(),
            over: vec!["left".into()],
            unique: false,
            definition: String::new(),
            note: String::new(),
        });
    }
    catalog.complete();
    catalog
}

/// One case: a text with a cursor mark in it, and what is expected.
/// The ferry company as one of three databases of a server, of which another one was read.
pub(crate) fn of_a_server() -> Catalog {
    let mut archive = Catalog::along(["dbo".to_owned()]);
    archive.database = "archive".into();
    let column = |name: &str, key: bool| Column { name: name.into(), db_type: "int".into(), key, ..Column::default() };
    for (schema, name) in [("dbo", "tickets"), ("dbo", "ports"), ("old", "Lost items")] {
        archive.object(schema, name, ObjectKind::Table).columns = vec![column("id", true), column("fare", false)];
    }
    archive.object("dbo", "purge", ObjectKind::Procedure).signature = "(@before date)".into();
    archive.object("dbo", "age", ObjectKind::Function).signature = "(@id int) returns int".into();
    archive.complete();
    let mut catalog = saltmarsh();
    catalog.database = "ferry".into();
    catalog.databases = ["archive", "ferry", "ledger 2025"].map(str::to_owned).into();
    catalog.others.insert("archive".into(), archive.into());
    catalog
}

struct Case {
    line: usize,
    text: String,
    expected: Vec<String>,
}

fn cases(text: &str) -> Vec<Case> {
    let mut all: Vec<Case> = Vec::new();
    let mut fresh = true;
    for (line, written) in text.lines().enumerate() {
        if written.is_empty() || written.starts_with("==") {
            fresh = true;
        } else if let Some(expected) = written.strip_prefix("    ") {
            all.last_mut().unwrap().expected.push(expected.to_owned());
        } else if fresh {
            all.push(Case { line: line + 1, text: written.to_owned(), expected: Vec::new() });
            fresh = false;
        } else {
            let case = all.last_mut().unwrap();
            case.text.push('\n');
            case.text.push_str(written);
        }
    }
    all
}

/// What a case expects, one line each: `a, b` are the first proposals; `+ a, b` are among them, `- a`
/// is not; `(nothing)`; `! a` is the statement after taking the first one.
fn check(case: &Case, dialect: &'static Dialect, catalog: &Catalog) -> Vec<String> {
    // Where `|` is a sign of the language, the mark is another.
    let mark = if case.text.contains('‸') { '‸' } else { '|' };
    let (before, behind) = case.text.split_once(mark).unwrap_or_else(|| panic!("line {}: no cursor", case.line));
    let (cursor, text) = (before.len(), format!("{before}{behind}"));
    let around = Surroundings {
        catalog,
        dialect,
        snippets: &[],
        nearby: "select 1 from ports where country = 'Aldermere' and berths in (4, 6);",
    };
    let completion = complete(&text, cursor, around);
    let labels: Vec<&str> = completion.proposals.iter().map(|p| p.label.as_str()).collect();
    let mut wrong = Vec::new();
    for expected in &case.expected {
        let fits = if expected == "(nothing)" {
            labels.is_empty()
        } else if let Some(names) = expected.strip_prefix("+ ") {
            names.split(" ~ ").all(|name| labels.contains(&name))
        } else if let Some(names) = expected.strip_prefix("- ") {
            names.split(" ~ ").all(|name| !labels.contains(&name))
        } else if let Some(after) = expected.strip_prefix("! ") {
            let first = completion.proposals.first().map_or(String::new(), |p| p.insert.clone());
            let put = jaunty_language::edit::snippet::Snippet::plain(&first);
            let made = format!("{}{put}{}", &text[..completion.replace.start], &text[completion.replace.end..]);
            made.replace('\n', "⏎") == *after
        } else {
            let names: Vec<&str> = expected.split(" ~ ").collect();
            labels.len() >= names.len() && labels[..names.len()] == names[..]
        };
        if !fits {
            let shown: Vec<_> = completion
                .proposals
                .iter()
                .take(9)
                .map(|p| format!("{} ({} {})", p.label, p.kind.word(), p.rank))
                .collect();
            wrong.push(format!(
                "line {}: {}\n    expected {expected}\n    found    {}",
                case.line,
                case.text,
                shown.join(" ~ ")
            ));
        }
    }
    wrong
}

#[test]
fn what_is_proposed_where() {
    let (catalog, collections, server) = (saltmarsh(), collections(), of_a_server());
    let files = [
        ("sqlite", include_str!("cases/common.txt")),
        ("postgres", include_str!("cases/common.txt")),
        ("mysql", include_str!("cases/common.txt")),
        ("sqlite", include_str!("cases/sqlite.txt")),
        ("postgres", include_str!("cases/postgres.txt")),
        ("mysql", include_str!("cases/mysql.txt")),
        ("sqlserver", include_str!("cases/sqlserver.txt")),
        ("redis", include_str!("cases/redis.txt")),
        ("documents", include_str!("cases/documents.txt")),
    ];
    let (mut wrong, mut different) = (Vec::new(), HashSet::new());
    for (name, text) in files {
        let dialect = dialect::by_name(name).unwrap();
        for case in cases(text) {
            assert!(!case.expected.is_empty(), "{name}, line {}: nothing expected", case.line);
            different.insert(case.text.clone());
            let catalog = match name {
                "documents" => &collections,
                "sqlserver" => &server,
                _ => &catalog,
            };
            wrong.extend(check(&case, dialect, catalog).into_iter().map(|wrong| format!("{name}, {wrong}")));
        }
    }
    assert!(wrong.is_empty(), "{} are wrong:\n{}", wrong.len(), wrong.join("\n"));
    assert!(different.len() >= 200, "there are {} cases", different.len());
}

#[test]
fn without_a_catalog_the_text_itself_is_what_is_known() {
    let catalog = Catalog::default();
    let nearby = "select skipper from tenders where skipper = 'x'; select ";
    let around = Surroundings { catalog: &catalog, dialect: &dialect::SQLITE, snippets: &[], nearby };
    let labels = |text: &str| {
        let all = complete(text, text.len(), around).proposals;
        all.into_iter().map(|p| p.label).take(2).collect::<Vec<_>>()
    };
    assert_eq!(labels("select * from ten"), ["tenders"]);
    assert_eq!(labels("select sk")[..1], ["skipper"]);
}

#[test]
fn snippets_are_proposed_where_a_statement_begins() {
    let (catalog, snippets) = (saltmarsh(), snippets::shipped());
    let around = Surroundings { catalog: &catalog, dialect: &dialect::POSTGRES, snippets: &snippets, nearby: "" };
    let top = complete("top", 3, around).proposals;
    assert_eq!((top[0].label.as_str(), top[0].kind), ("top", Kind::Snippet));
    assert!(top[0].insert.starts_with("select ${1:*}\nfrom ${2:‹table›}"));
    let upserts = complete("upse", 4, around).proposals;
    assert_eq!(upserts.iter().filter(|p| p.kind == Kind::Snippet).count(), 1, "one for this dialect");
    // What a language has no word for is in none that it is offered.
    let around = Surroundings { dialect: &dialect::SQLSERVER, ..around };
    let offered = complete("", 0, around).proposals.into_iter().filter(|p| p.kind == Kind::Snippet);
    let offered: Vec<_> = offered.map(|p| (p.label, p.insert)).collect();
    let count = |name: &str| offered.iter().filter(|(label, _)| label == name).count();
    for name in ["top", "upsert", "sessions", "locks", "sizes", "groups", "latest"] {
        assert_eq!(count(name), 1, "{name}");
    }
    assert!(offered.iter().any(|(name, text)| name == "top" && text.starts_with("select top (${1:10})")));
    assert!(offered.iter().all(|(_, text)| !text.contains("limit")), "{offered:?}");
}

proptest::proptest! {
    #[test]
    fn nothing_that_is_written_is_too_broken(text in "(select|from|where|join|on|with|as|insert|into|values|update|set|\\(|\\)|,|\\.|'|\"|;| |a|p|ports|=|\\*|1|--|é|group by|union|create|table|\\{|\\}|:|\\||\\$a|\\[|\n){0,40}", at in 0_usize..60) {
        let catalog = saltmarsh();
        let at = (0..=at.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
        for dialect in dialect::DIALECTS.iter() {
            let completion = complete(&text, at, Surroundings { catalog: &catalog, dialect, snippets: &[], nearby: &text });
            proptest::prop_assert!(text.get(completion.replace).is_some());
        }
    }
}

/// Of a table with very many partitions it is the table that is proposed, and its partitions after all others.
#[test]
fn partitions_come_after_tables() {
    use jaunty_seam::catalog::{Belonging, BelongingKind, Name, ObjectKind};
    let mut catalog = saltmarsh();
    for year in 1000..2000 {
        let log = Name { schema: "public".into(), name: "a_log".into() };
        let object = catalog.object("public", &format!("a_log_{year}"), ObjectKind::Table);
        object.belongings.push(Belonging {
            kind: BelongingKind::Parent,
            name: "a_log".into(),
            of: String::new(),
            to: Some(log),
            makes: format!("alter table public.a_log attach partition public.a_log_{year} FOR VALUES IN ({year})"),
            unmakes: String::new(),
        });
    }
    catalog.object("public", "a_log", ObjectKind::Table);
    catalog.object("public", "zeppelins", ObjectKind::Table);
    catalog.complete();
    let proposed = |text: &str| {
        let around = Surroundings { catalog: &catalog, dialect: &dialect::POSTGRES, snippets: &[], nearby: "" };
        let proposals = complete(text, text.len(), around).proposals;
        proposals.into_iter().map(|proposal| (proposal.label, proposal.detail)).collect::<Vec<_>>()
    };
    for text in ["select * from ", "select * from public."] {
        let all = proposed(text);
        let at = |name: &str| all.iter().position(|(label, _)| label == name).unwrap_or(usize::MAX);
        let first = all.iter().position(|(_, detail)| detail == "partition").unwrap();
        assert!(at("a_log") < first && at("zeppelins") < first && at("ports") < first, "{text}: {:?}", &all[..first]);
    }
    assert_eq!(proposed("select * from a_lo")[0].0, "a_log");
    let named = proposed("select * from a_log_199");
    assert!(named[..10].iter().all(|(label, _)| label.starts_with("a_log_199")), "by its name one is found: {named:?}");
}

/// What extensions and the server bring is proposed and explained as what somebody made is, after it and once for each name.
#[test]
fn functions_and_types_that_extensions_bring_are_known() {
    let mut catalog = saltmarsh();
    let brought =
        |schema: &str, name: &str, kind: ObjectKind, signature: &str, by: &str| jaunty_seam::catalog::Object {
            schema: schema.into(),
            name: name.into(),
            kind,
            signature: signature.into(),
            comment: "how near they are".into(),
            brought_by: by.into(),
            ..Default::default()
        };
    let function = ObjectKind::Function;
    catalog.brought = vec![
        brought("public", "alikeness", function, "(a text, b text) returns real", "extension alike"),
        brought("public", "alikeness", function, "(a text, b text, least real) returns real", "extension alike"),
        brought("tools", "alike_rows", function, "(text) returns SETOF text", "extension alike"),
        brought("", "tide_of_now", function, "() returns integer", "the server"),
        brought("", "upper", function, "(text) returns text", "the server"),
        brought("public", "shape", ObjectKind::Type, "extension shapes", "extension shapes"),
    ];
    let around = Surroundings { catalog: &catalog, dialect: &dialect::POSTGRES, snippets: &[], nearby: "" };
    let proposed = |text: &str| -> Vec<(String, String, String)> {
        let all = complete(text, text.len(), around).proposals;
        all.into_iter().map(|p| (p.label, p.detail, p.insert)).collect()
    };
    let alike = &proposed("select alik")[..2];
    assert_eq!(alike[0], ("alikeness".into(), "(a text, b text) -> real".into(), "alikeness($1)$0".into()));
    assert_eq!(alike[1].2, "tools.alike_rows($1)$0");
    // One's own comes first, and what takes nothing has no place to fill.
    let tides = proposed("select tide");
    assert_eq!(
        tides[..2].iter().map(|(.., insert)| insert.as_str()).collect::<Vec<_>>(),
        ["tide($1)$0", "tide_of_now()"]
    );
    let uppers: Vec<_> = proposed("select uppe").into_iter().filter(|(label, ..)| label == "upper").collect();
    assert_eq!(uppers.len(), 1, "our own words for what the server has: {uppers:?}");
    let quoted = proposed("select \"up");
    assert!(!quoted.iter().any(|(label, ..)| label == "upper"), "none is called by a name in quotes: {quoted:?}");
    // Where rows are read, those that give rows; a list of tables is not made longer by them.
    let of_rows = |text: &str| proposed(text).iter().any(|(label, ..)| label == "alike_rows");
    assert!(of_rows("select * from alike") && of_rows("select * from tools.") && !of_rows("select * from "));
    assert!(!proposed("select * from alik").iter().any(|(label, ..)| label == "alikeness"));
    assert!(!of_rows("drop table alike"));
    assert_eq!(proposed("create table berths_of (id sha")[0].0, "shape");
    let explained = about::about("select alikeness(name, 'x') from ports", 10, around).unwrap();
    assert_eq!(explained.title, "alikeness(a text, b text) returns real");
    assert_eq!(explained.lines[0], "how near they are");
    assert_eq!(explained.lines.last().unwrap(), "function of extension alike");
    let help_of = |text: &str| -> String {
        let all = complete(text, text.len(), around).proposals;
        about::help_for(&all[0], &catalog, &dialect::POSTGRES).unwrap_or_default().to_owned()
    };
    assert_eq!(help_of("select alikenes"), "how near they are");
    assert_ne!(help_of("select upper"), "how near they are", "our own words for what the server has");
    // Of those of one name the call is the one that takes so many.
    let text = "select alikeness(name, 'x', ";
    let call = about::call(text, text.len(), around).unwrap();
    assert_eq!(&call.signature[call.argument], "least real");
}
