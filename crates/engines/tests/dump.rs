//! A database written as statements, and made again of them somewhere else: it holds the same.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_core::compare::structure::{Schemas, Structure, compare};
use jaunty_core::connection::open;
use jaunty_core::dump::{Dumped, Wanted, dump};
use jaunty_engines::by_name;
use jaunty_language::dialect::Dialect;
use jaunty_language::outline::Outline;
use jaunty_language::text::rope;
use jaunty_seam::catalog::{Catalog, Name, Object, ObjectKind};
use jaunty_seam::engine::{CatalogPart, Session, Stop};
use jaunty_seam::profile::{Profile, Secret, Setting};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres};
use support::run;

fn of_server(engine: &'static str, port: u16, database: &str) -> Box<dyn Session> {
    let mut profile = Profile::new("quay", engine).with("host", "127.0.0.1").with("tls", "off").with("user", "clerk");
    profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
    open(by_name(engine).unwrap(), &profile.with("database", database), Some(&Secret::new(PASSWORD.into()))).unwrap()
}

fn catalog(session: &mut dyn Session) -> Catalog {
    let (mut catalog, mut part) = (Catalog::default(), 0);
    while session.catalog(&CatalogPart::number(part), &mut catalog).unwrap() {
        part += 1;
    }
    catalog.complete();
    catalog
}

fn dumped(session: &mut dyn Session, dialect: &'static Dialect, wanted: &Wanted) -> (String, Dumped) {
    let (catalog, mut text) = (catalog(session), Vec::new());
    let dumped = dump(session, &catalog, dialect, wanted, (&mut text, &Stop::default()), &mut |_| {}).unwrap();
    (String::from_utf8(text).unwrap(), dumped)
}

/// Runs a text as the program does, statement by statement.
fn restore(session: &mut dyn Session, text: &str, dialect: &'static Dialect) {
    let rope = rope(text);
    for statement in Outline::new(&rope, dialect).statements() {
        let statement = statement.text(&rope);
        if !statement.to_ascii_lowercase().starts_with("delimiter") {
            run(session, &statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
        }
    }
}

/// Objects without what changes by itself.
fn objects(catalog: &Catalog) -> Vec<Object> {
    let plain = |object: &Object| Object { rows: None, bytes: None, ..object.clone() };
    catalog.objects().iter().map(plain).collect()
}

fn rows(session: &mut dyn Session, catalog: &Catalog, dialect: &Dialect) -> Vec<String> {
    let tables = catalog
        .objects()
        .iter()
        .filter(|object| matches!(object.kind, ObjectKind::Table | ObjectKind::MaterialisedView));
    let tables: Vec<String> = tables
        .map(|table| format!("{}.{}", dialect.name_as_written(&table.schema), dialect.name_as_written(&table.name)))
        .collect();
    tables
        .iter()
        .map(|table| {
            let mut rows = run(session, &format!("select * from {table}")).unwrap().rows();
            rows.sort();
            format!("{table}: {rows:?}")
        })
        .collect()
}

/// The second database is what the first one is, by the catalog, by all rows, and by what it is written as.
fn same(from: &mut dyn Session, to: &mut dyn Session, dialect: &'static Dialect) -> String {
    let (text, told) = dumped(from, dialect, &Wanted::default());
    assert!(told.left_out.is_empty(), "{:?}", told.left_out);
    restore(to, &text, dialect);
    let (before, after) = (catalog(from), catalog(to));
    for (ours, theirs) in objects(&before).iter().zip(&objects(&after)) {
        assert_eq!(ours, theirs);
    }
    assert_eq!(before.objects().len(), after.objects().len());
    assert_eq!(rows(from, &before, dialect), rows(to, &after, dialect));
    assert_eq!(dumped(to, dialect, &Wanted::default()).0, text);
    // Our own comparison says so too.
    let read =
        |of: &mut dyn Session| Structure::read(of, dialect, &Schemas::Own, &Stop::default(), &mut |_, _| {}).unwrap();
    let differences = compare(&read(from), &read(to));
    assert!(differences.items.is_empty() && differences.same > 0, "{differences:#?}");
    text
}

#[test]
fn sqlite_is_made_again() {
    let memory = Profile::new("memory", "sqlite").with("path", ":memory:");
    let open = || open(by_name("sqlite").unwrap(), &memory, None).unwrap();
    let (mut from, mut to) = (open(), open());
    for statement in [
        "create table \"odd \"\" name\"(id integer primary key, note text not null default 'x', twice as (id * 2), check (id > 0) -- a comment, no autoincrement\n)",
        "create table berths(port integer, number integer, length real, any_name, primary key (port, number), \
         foreign key (port) references \"odd \"\" name\" on delete cascade) without rowid",
        "create table first(id integer primary key, second integer references second)",
        "create table second(id integer primary key, first integer references first)",
        "create view later as select * from earlier",
        "create view earlier as select id -- of ports\n from \"odd \"\" name\"",
        "create index i on \"odd \"\" name\"(note, lower(note))",
        "create unique index u on berths(length) where length > 1",
        "create trigger g after insert on \"odd \"\" name\" begin insert into first(id) values (new.id + 100); select 1; end",
        "create virtual table words using fts5(text)",
        "insert into \"odd \"\" name\"(note) values ('it''s; a ''quoted'' \n line'), ('é🛳')",
        "insert into \"odd \"\" name\"(note) values (cast(x'006161002700' as text))",
        "insert into berths values (1, 1, 0.1, x'00ff'), (1, 2, 9e999, '007'), (2, 1, null, 1.0), (2, 2, 1e-300, '')",
        "insert into second values (7, 101)",
        "update first set second = 7",
        "insert into words values ('tide tables'), ('it''s')",
        "create table \"VALUE BARE_TEXT's\"(id integer primary key autoincrement, a)",
        "insert into \"VALUE BARE_TEXT's\"(a) values (1), (2), (3)",
        "delete from \"VALUE BARE_TEXT's\" where id > 1",
        "create temp table scratch(a)",
    ] {
        run(from.as_mut(), statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
    }
    run(from.as_mut(), "drop table scratch").unwrap();
    same(from.as_mut(), to.as_mut(), by_name("sqlite").unwrap().dialect());
    for check in ["pragma integrity_check", "pragma foreign_key_check"] {
        let found = run(to.as_mut(), check).unwrap().rows().concat().join(" ");
        assert!(matches!(found.as_str(), "ok" | ""), "{check}: {found}");
    }
    assert_eq!(run(to.as_mut(), "select count(*) from words where words match 'tide'").unwrap().rows(), [["1"]]);
    // A number that was given is not given again.
    run(to.as_mut(), "insert into \"VALUE BARE_TEXT's\"(a) values (4)").unwrap();
    let last = run(to.as_mut(), "select max(id) from \"VALUE BARE_TEXT's\"").unwrap().rows();
    assert_eq!(last, [["4"]]);
    // One table, with or without its rows.
    let one = Wanted { names: vec![Name { schema: "main".into(), name: "second".into() }], ..Wanted::default() };
    let text = dumped(from.as_mut(), by_name("sqlite").unwrap().dialect(), &one).0;
    assert!(text.contains("CREATE TABLE second") && text.contains("(7, 101)") && !text.contains("berths"), "{text}");
    let text = dumped(from.as_mut(), by_name("sqlite").unwrap().dialect(), &Wanted { only_rows: true, ..one }).0;
    assert!(!text.contains("CREATE") && text.contains("(7, 101)"), "{text}");
}

#[test]
fn postgres_is_made_again() {
    let server = Postgres::start();
    server.sql(
        "create schema ops; create schema \"Odd Harbour\"; create type mood as enum ('calm', 'rough'); create domain fare as numeric(8,2) check (value >= 0);
         create type span as (first date, last date); create sequence tickets start with 5 increment by 3;
         create table ports(id int generated always as identity primary key, name text not null unique, state mood default 'calm',
            tag text generated always as (upper(name)) stored, berths int constraint roomy check (berths > 0));
         comment on table ports is 'where ships lie; it''s'; comment on column ports.name is 'as it is spelt';
         create table ops.berths(port int references ports on delete cascade on update set null, number int, price fare, raw bytea, at timestamptz,
            tags text[], extra jsonb, primary key (port, number));
         create index berths_price on ops.berths using btree (price desc, (number + 1)) where number > 1;
         create table \"Odd Harbour\".\"select\"(\"Key\" int primary key, other int);
         create table pair(id int primary key, other int references pair);
         alter table \"Odd Harbour\".\"select\" add constraint back foreign key (other) references pair(id);
         alter table pair add constraint forth foreign key (other) references \"Odd Harbour\".\"select\"(\"Key\");
         create table log(at date, what text) partition by range (at); create table log_2031 partition of log for values from ('2031-01-01') to ('2032-01-01');
         create view later_one as select name from ports;
         create view a_first as select * from later_one;
         create materialized view prices as select price from ops.berths;
         create function tide(port int, days numeric default 2) returns numeric language sql as 'select days; select days + 1';
         create procedure sweep(inout n int) language sql as 'select n';
         create function note() returns trigger language plpgsql as $$ begin new.berths := coalesce(new.berths, 1); return new; end; $$;
         create trigger noted before insert or update on ports for each row execute function note();
         insert into ports(name, state) values ('Saltmarsh; \"Quay\"', 'rough'), ('it''s', null), ('gone', null); delete from ports where name = 'gone';
         create table \"Odd Harbour\".\"VALUE's\"(\"CALLED\" serial, a int); insert into \"Odd Harbour\".\"VALUE's\"(a) values (1), (2); delete from \"Odd Harbour\".\"VALUE's\" where a = 2;
         insert into ops.berths values (1, 1, 12.50, '\\x00ff27', '2031-03-05 07:30:00.5+00', '{a,\"b c\",NULL}', '{\"a\": [1, null]}'), (2, 1, null, '', 'infinity', '{}', 'null');
         insert into \"Odd Harbour\".\"select\" values (1, null); insert into pair values (1, null); update pair set other = 1; update \"Odd Harbour\".\"select\" set other = 1;
         insert into log values ('2031-05-05', 'calm'); select nextval('tickets'); refresh materialized view prices",
    );
    server.sql("create database copied");
    let (mut from, mut to) =
        (of_server("postgres", server.port, "bookings"), of_server("postgres", server.port, "copied"));
    let dialect = by_name("postgres").unwrap().dialect();
    let text = same(from.as_mut(), to.as_mut(), dialect);
    assert!(text.contains("overriding system value values"), "{text}");
    // Numbers go on where they were, and what is checked is checked.
    run(to.as_mut(), "insert into ports(name) values ('Gullhaven')").unwrap();
    assert_eq!(
        run(to.as_mut(), "select id, tag, berths from ports where name = 'Gullhaven'").unwrap().rows(),
        [["4", "GULLHAVEN", "1"]]
    );
    let next = "insert into \"Odd Harbour\".\"VALUE's\"(a) values (3) returning \"CALLED\"";
    assert_eq!(run(to.as_mut(), next).unwrap().rows(), [["3"]]);
    assert_eq!(run(to.as_mut(), "select nextval('tickets')").unwrap().rows(), [["8"]]);
    assert!(run(to.as_mut(), "insert into pair values (9, 99)").is_err());
}

#[test]
fn mariadb_is_made_again() {
    let (one, other) = (Mariadb::start(), Mariadb::start());
    one.sql(
        "use bookings;
         create table ports(id int unsigned auto_increment primary key, name varchar(40) not null default 'x' comment 'as it is spelt; it''s', \
            state enum('calm','rough'), tag varchar(40) as (upper(name)) stored, berths int, raw blob, constraint roomy check (berths > 0), unique key named (name)) \
            comment 'where ships lie' default character set utf8mb4;
         create table berths(port int unsigned, number int, price decimal(8,2), at datetime(3), primary key (port, number), key dear (price, number), \
            constraint at foreign key (port) references ports(id) on delete cascade);
         create table pair(id int primary key, other int); create table riap(id int primary key, other int, foreign key (other) references pair(id));
         alter table pair add foreign key (other) references riap(id);
         create view later_one as select p.name, b.number from ports p join berths b on b.port = p.id;
         create view a_first as select name from later_one;
         insert into ports(name, state, raw) values ('Saltmarsh; \"Quay\"', 'rough', x'00ff27'), (concat('a', char(0), 'b'), null, null), ('it''s \\\\ é', null, '');
         insert into berths values (1, 1, 12.5, '2031-03-05 07:30:00.5'), (2, 7, null, null);
         set foreign_key_checks = 0; insert into pair values (1, 1); insert into riap values (1, 1)",
    );
    let (mut from, mut to) = (of_server("mysql", one.port, "bookings"), of_server("mysql", other.port, "bookings"));
    for statement in [
        "create function tide(port int, days decimal(3,1)) returns int deterministic begin declare n int; set n = 1; return days + n; end",
        "create procedure sweep(inout n int) begin select n; select n + 1; end",
        "create trigger noted before insert on ports for each row begin set new.berths = 1; set new.name = upper(new.name); end",
    ] {
        run(from.as_mut(), statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
    }
    same(from.as_mut(), to.as_mut(), by_name("mysql").unwrap().dialect());
    assert_eq!(run(to.as_mut(), "select tide(1, 2)").unwrap().rows(), [["3"]]);
}
