//! What each engine tells of a real database that holds every kind of object.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_core::catalog::templates;
use jaunty_core::connection::open;
use jaunty_engines::by_name;
use jaunty_language::dialect::Dialect;
use jaunty_seam::catalog::{Catalog, Object, Rule};
use jaunty_seam::engine::{CatalogPart, Request, Session, Stop, Verdict};
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres, Redis};
use support::run;

fn connect(engine: &str, port: u16) -> Box<dyn Session> {
    let mut profile = Profile::new("bookings", engine).with("host", "127.0.0.1").with("tls", "off");
    profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
    let profile = if engine == "redis" { profile } else { profile.with("user", "clerk").with("database", "bookings") };
    open(by_name(engine).unwrap(), &profile, Some(&Secret::new(PASSWORD.into()))).unwrap()
}

fn read(session: &mut dyn Session) -> Catalog {
    let (mut catalog, mut part) = (Catalog::default(), 0);
    while session.catalog(&CatalogPart::number(part), &mut catalog).unwrap() {
        part += 1;
    }
    catalog.complete();
    catalog
}

/// All that is known of an object, in lines.
fn described(object: &Object, catalog: &Catalog, dialect: &Dialect) -> String {
    let mut lines = vec![format!("{} {}.{}{}", object.kind.word(), object.schema, object.name, object.signature)];
    let mut line = |what: &str, text: String| lines.push(format!("    {what} {text}"));
    if !object.comment.is_empty() {
        line("comment", object.comment.clone());
    }
    for column in &object.columns {
        let mut text = format!("{} {}", column.name, column.db_type);
        for (is, words) in [(column.key, " key".to_owned()), (!column.nullable, " not null".to_owned())] {
            text.push_str(if is { &words } else { "" });
        }
        text.push_str(&column.default.as_ref().map(|default| format!(" default {default}")).unwrap_or_default());
        text.push_str(&column.generated.as_ref().map(|from| format!(" from {from}")).unwrap_or_default());
        if !column.comment.is_empty() {
            text.push_str(&format!(" -- {}", column.comment));
        }
        line("column", text);
    }
    for rule in &object.constraints {
        line("rule", templates::constraint(rule, object, catalog, dialect));
    }
    for index in &object.indexes {
        let unique = if index.unique { " unique" } else { "" };
        line("index", format!("{} over {}{unique}", index.name, index.over.join(", ")));
    }
    for trigger in &object.triggers {
        line("trigger", format!("{} {}", trigger.name, trigger.when));
    }
    for name in &object.uses {
        line("reads", format!("{}.{}", name.schema, name.name));
    }
    for other in catalog.pointing_at(&object.to_name()) {
        line("referenced by", other.name.clone());
    }
    if !object.values.is_empty() {
        line("values", object.values.join(", "));
    }
    if let Some(rows) = object.rows {
        line("rows", rows.to_string());
    }
    lines.join("\n")
}

fn all(session: &mut dyn Session, dialect: &Dialect) -> String {
    let catalog = read(session);
    let mut text = format!("path {}\n", catalog.path.join(", "));
    for object in catalog.objects() {
        text.push_str(&format!("\n{}\n", described(object, &catalog, dialect)));
        let own = session.definition(object, &Stop::default()).unwrap();
        let made = own.or_else(|| templates::definition(object, &catalog, dialect)).unwrap_or_default();
        made.lines().for_each(|line| text.push_str(&format!("    | {line}\n")));
    }
    text
}

#[test]
fn sqlite() {
    let profile = Profile::new("memory", "sqlite").with("path", ":memory:");
    let mut session = open(by_name("sqlite").unwrap(), &profile, None).unwrap();
    for statement in [
        "create table \"odd \"\" name\"(id integer primary key, note text not null default 'x', twice as (id * 2), check (id > 0))",
        "create table berths(port integer, number integer, length real constraint long check (length < 400), \
         primary key (port, number), unique (number, length), foreign key (port) references \"odd \"\" name\" on delete cascade) strict, without rowid",
        "create view v as select id from \"odd \"\" name\"",
        "create view broken as select * from gone",
        "create index i on \"odd \"\" name\"(note, lower(note))",
        "create unique index u on berths(length) where length > 1",
        "create trigger g after insert on \"odd \"\" name\" begin select 1; end",
        "create virtual table words using fts5(text)",
        "insert into \"odd \"\" name\"(note) values ('a'), ('b')",
        "create temp table scratch(a)",
    ] {
        run(session.as_mut(), statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
    }
    insta::assert_snapshot!(all(session.as_mut(), by_name("sqlite").unwrap().dialect()));
}

#[test]
fn postgres() {
    let server = Postgres::start();
    server.sql(
        "create schema ops; create type mood as enum ('calm', 'rough'); create domain fare as numeric(8,2) check (value >= 0);
         create type span as (first date, last date); create sequence tickets;
         create table ports(id int generated always as identity primary key, name text not null unique, state mood default 'calm',
            tag text generated always as (upper(name)) stored, berths int constraint roomy check (berths > 0));
         comment on table ports is 'where ships lie'; comment on column ports.name is 'as it is spelt';
         create table ops.berths(port int references ports on delete cascade on update set null, number int, price fare, primary key (port, number));
         create index berths_price on ops.berths using btree (price desc, (number + 1)) where number > 1;
         create table log(at date, what text) partition by range (at); create table log_2031 partition of log for values from ('2031-01-01') to ('2032-01-01');
         create index log_late on log using brin (at) with (pages_per_range = 9); insert into log select date '2031-01-01' + n % 365, 'calm' from generate_series(1, 900) n; analyze log;
         create view busy as select p.name, b.number from ports p join ops.berths b on b.port = p.id;
         create materialized view prices as select price from ops.berths;
         create function tide(port int, days numeric default 2) returns numeric language sql as 'select days';
         create procedure sweep(inout n int) language sql as 'select n';
         create function note() returns trigger language plpgsql as 'begin return new; end';
         create trigger noted before insert or update on ports for each row execute function note();
         insert into ports(name) values ('Saltmarsh'), ('Gullhaven'); analyze ports",
    );
    let mut session = connect("postgres", server.port);
    insta::assert_snapshot!(all(session.as_mut(), by_name("postgres").unwrap().dialect()));
    let catalog = read(session.as_mut());
    assert!(catalog.databases.contains(&"bookings".to_owned()));
    // A partitioned table holds nothing itself: its parts say how much there is.
    let [log, part] = ["log", "log_2031"].map(|name| catalog.objects().iter().find(|it| it.name == name).unwrap());
    assert!(part.is_partition() && !log.is_partition());
    assert!(part.bytes > Some(0) && log.bytes == part.bytes, "{:?} {:?}", log.bytes, part.bytes);
    assert_eq!((log.rows, part.rows), (Some(900), Some(900)));
}

/// What a statement may name of the server and its extensions stands beside the rest, without what operators, indexes and types
/// are made of.
#[test]
fn functions_and_types_that_postgres_brings() {
    let server = Postgres::start();
    server.sql("create schema tools; create extension hstore schema tools; create extension pg_trgm");
    let catalog = read(connect("postgres", server.port).as_mut());
    assert!(catalog.objects().is_empty(), "nobody made anything: {:?}", catalog.objects());
    let found = |name: &str| catalog.brought.iter().find(|object| object.name == name);
    let told = |name: &str| {
        let object = found(name).unwrap_or_else(|| panic!("{name} is not there"));
        format!("{} {}{} {}", object.schema, object.kind.word(), object.signature, object.brought_by)
    };
    assert_eq!(told("similarity"), "public function(text, text) returns real extension pg_trgm");
    assert_eq!(told("akeys"), "tools function(tools.hstore) returns text[] extension hstore");
    assert_eq!(told("hstore"), "tools typeextension hstore extension hstore");
    assert_eq!(told("has_table_privilege"), " function(name, oid, text) returns boolean the server");
    // What it gives is no argument.
    assert_eq!(told("pg_timezone_names"), " function() returns SETOF record the server");
    assert_eq!(found("cbrt").unwrap().comment, "cube root");
    for helper in
        ["hstore_in", "hs_contains", "similarity_op", "gtrgm", "ghstore", "textcat", "int4_sum", "btint4cmp", "_hstore"]
    {
        assert!(found(helper).is_none(), "{helper} is only there for others");
    }
    assert!(
        found("pg_ls_dir").is_some_and(|object| object.gives_rows())
            && found("similarity").is_some_and(|o| !o.gives_rows())
    );
}

#[test]
fn mariadb() {
    let server = Mariadb::start();
    server.sql(
        "create table ports(id int unsigned auto_increment primary key, name varchar(40) not null default 'x' comment 'as it is spelt', \
            state enum('calm','rough'), tag varchar(40) as (upper(name)) stored, berths int, constraint roomy check (berths > 0), unique key named (name)) comment 'where ships lie';
         create database ops;
         create table ops.berths(port int unsigned, number int, price decimal(8,2), primary key (port, number), key dear (price, number), \
            constraint at foreign key (port) references bookings.ports(id) on delete cascade);
         create view busy as select p.name, b.number from ports p join ops.berths b on b.port = p.id;
         create sequence tickets;
         create function tide(port int, days decimal(3,1)) returns int deterministic return days;
         create procedure sweep(inout n int) select n;
         create trigger noted before insert on ports for each row set new.berths = 1",
    );
    let mut session = connect("mysql", server.port);
    // Names and numbers of the server's version are not ours.
    insta::assert_snapshot!(all(session.as_mut(), by_name("mysql").unwrap().dialect()));
}

#[test]
fn redis() {
    let server = Redis::start();
    for command in [
        &["mset", "port:1", "Saltmarsh", "port:2", "Gullhaven", "tide", "high"][..],
        &["hset", "sailing:7", "from", "1"],
        &["rpush", "queue", "a", "b"],
        &["setex", "session:9f", "1000000", "x"],
    ] {
        server.command(command);
    }
    let mut session = connect("redis", server.port);
    let text = all(session.as_mut(), by_name("redis").unwrap().dialect());
    let mut blocks: Vec<_> = text.split("\n\n").skip(1).map(str::trim_end).collect();
    blocks.sort_unstable();
    insta::assert_snapshot!(blocks.join("\n").replace("1000000 s", "SECONDS s").replace("999999 s", "SECONDS s"));
}

#[test]
fn a_table_is_known_by_what_points_at_it() {
    let profile = Profile::new("memory", "sqlite").with("path", ":memory:");
    let mut session = open(by_name("sqlite").unwrap(), &profile, None).unwrap();
    for statement in [
        "create table ports(id integer primary key)",
        "create table berths(a, b, port references ports, foreign key (a, b) references berths(b, a))",
    ] {
        run(session.as_mut(), statement).unwrap();
    }
    let catalog = read(session.as_mut());
    let berths = catalog.objects().iter().find(|o| o.name == "berths").unwrap();
    let references: Vec<_> =
        berths.references().map(|(ours, to, theirs)| (ours.join(","), to.name.as_str(), theirs.join(","))).collect();
    assert_eq!(references, [("port".into(), "ports", "id".into()), ("a,b".into(), "berths", "b,a".into())]);
    assert!(berths.constraints.iter().all(|rule| !matches!(rule.rule, Rule::Primary)));
}

/// What the server says of statements that are not run.
#[test]
fn servers_are_asked_without_running() {
    let (postgres, mariadb) = (Postgres::start(), Mariadb::start());
    let memory = Profile::new("memory", "sqlite").with("path", ":memory:");
    let sessions = [
        open(by_name("sqlite").unwrap(), &memory, None).unwrap(),
        connect("postgres", postgres.port),
        connect("mysql", mariadb.port),
    ];
    for mut session in sessions {
        let session = session.as_mut();
        run(session, "create table ports(id int primary key, name varchar(40))").unwrap();
        for taken in [
            "select name from ports where id = 1",
            "insert into ports(id) values (1)",
            "update ports set name = 'x'",
            "delete from ports",
        ] {
            assert_eq!(session.check(&Request::new(taken)), Ok(Verdict::Accepted), "{taken}");
        }
        // Nobody is asked about these: preparing them may do something, or says nothing.
        for unasked in ["create table other(a int)", "begin"] {
            assert_eq!(session.check(&Request::new(unasked)), Ok(Verdict::Unknown), "{unasked}");
        }
        assert_eq!(run(session, "select count(*) from ports").unwrap().rows(), [["0"]], "nothing was run");
        for refused in ["select nmae from ports", "select * from nowhere", "update ports set nmae = 1"] {
            let error = session.check(&Request::new(refused)).unwrap_err();
            let word = if refused.contains("nmae") { "nmae" } else { "nowhere" };
            assert!(error.message.contains(word), "{refused}: {error}");
        }
        assert_eq!(run(session, "select count(*) from ports").unwrap().rows(), [["0"]], "and it goes on");
    }
    // A pragma that acts when it is prepared is not asked about.
    let mut session = open(by_name("sqlite").unwrap(), &memory, None).unwrap();
    session.check(&Request::new("pragma user_version = 7")).unwrap();
    assert_eq!(run(session.as_mut(), "pragma user_version").unwrap().rows(), [["0"]]);
}
