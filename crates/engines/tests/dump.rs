//! A database written as statements, and made again of them somewhere else: it holds the same.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_core::compare::differences::compare;
use jaunty_core::compare::structure::{Schemas, Structure};
use jaunty_core::connection::open;
use jaunty_core::dump::{Dumped, Wanted, dump};
use jaunty_engines::by_name;
use jaunty_language::dialect::Dialect;
use jaunty_language::outline::Outline;
use jaunty_language::text::rope;
use jaunty_seam::catalog::{Catalog, Name, Object, ObjectKind};
use jaunty_seam::engine::{CatalogPart, Session, Stop};
use jaunty_seam::profile::{Guard, Profile, Secret, Setting};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres};
use support::harbour::{HARBOUR, OF_POSTGRES};
use support::{office, run};

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
    let mut text = Vec::new();
    let dumped = dump(session, dialect, wanted, (&mut text, &Stop::default()), &mut |_| {}).unwrap();
    (String::from_utf8(text).unwrap(), dumped)
}

/// A connection whose guard is this gives the same text.
fn with_guard(guard: Guard, engine: &'static str, port: u16, text: &str) {
    let mut profile = Profile::new("quay", engine).with("host", "127.0.0.1").with("tls", "off").with("user", "clerk");
    profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
    profile.guard = guard;
    let profile = profile.with("database", "bookings");
    let engine = by_name(engine).unwrap();
    let mut session = open(engine, &profile, Some(&Secret::new(PASSWORD.into()))).unwrap();
    assert_eq!(dumped(session.as_mut(), engine.dialect(), &Wanted::default()).0, text, "{guard:?}");
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

/// A schema alone, made again where there is none: it has what it had, and nothing of others is written.
#[test]
fn a_schema_alone_is_written() {
    let server = Postgres::start();
    server.sql(
        "create schema tolls; create type tolls.kind as enum ('car', 'cart'); create table ports (id int primary key);
         create table tolls.rates (id int generated always as identity primary key, kind tolls.kind, pence int check (pence > 0));
         insert into tolls.rates (kind, pence) values ('car', 250), ('cart', 120); create index on tolls.rates (pence);
         create view tolls.dear as select * from tolls.rates where pence > 200; insert into ports values (1);
         create function tolls.next() returns int language sql return 1",
    );
    let mut here = of_server("postgres", server.port, "bookings");
    let dialect = by_name("postgres").unwrap().dialect();
    let wanted = Wanted { schemas: vec!["tolls".into()], ..Wanted::default() };
    let (text, told) = dumped(here.as_mut(), dialect, &wanted);
    assert_eq!((told.objects, told.rows), (4, 2), "{text}");
    assert!(!text.contains("ports"), "{text}");
    server.sql("create database other");
    let mut there = of_server("postgres", server.port, "other");
    restore(there.as_mut(), &text, dialect);
    let of_schema = |session: &mut dyn Session| -> Vec<Object> {
        objects(&catalog(session)).into_iter().filter(|object| object.schema == "tolls").collect()
    };
    assert_eq!(of_schema(there.as_mut()), of_schema(here.as_mut()));
    assert_eq!(dumped(there.as_mut(), dialect, &wanted).0, text, "the same text again");
    // An empty one is made, too.
    server.sql("create schema bare");
    let (text, _) = dumped(here.as_mut(), dialect, &Wanted { schemas: vec!["bare".into()], ..Wanted::default() });
    assert!(text.contains("create schema if not exists bare"), "{text}");
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
    let differences = compare(&read(from), &read(to), false);
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
        "pragma user_version = 7",
        "pragma application_id = -12",
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
    let numbers = "select user_version, application_id from pragma_user_version, pragma_application_id";
    assert_eq!(run(to.as_mut(), numbers).unwrap().rows(), [["7", "-12"]]);
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
    [Guard::ReadOnly, Guard::Ask].into_iter().for_each(|guard| with_guard(guard, "postgres", server.port, &text));
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
fn everything_that_a_schema_of_postgres_holds_is_made_again() {
    let server = Postgres::start();
    server.sql(HARBOUR);
    server.sql("alter table ports add constraint named check (name <> 'old') not valid");
    server.sql("create database copied");
    let (mut from, mut to) =
        (of_server("postgres", server.port, "bookings"), of_server("postgres", server.port, "copied"));
    let dialect = by_name("postgres").unwrap().dialect();
    same(from.as_mut(), to.as_mut(), dialect);
    for query in OF_POSTGRES {
        let [ours, theirs] = [&mut from, &mut to].map(|of| run(of.as_mut(), query).unwrap().rows());
        assert!(!ours.is_empty(), "{query}");
        if let Some(row) = ours.iter().find(|row| !theirs.contains(row)) {
            let near = theirs.iter().find(|other| other.first() == row.first());
            panic!("{row:?} is not there: {near:?}\n{query}");
        }
        assert_eq!(ours, theirs, "{query}");
    }
}

#[test]
fn what_postgres_keeps_elsewhere_is_made_again_and_what_is_not_written_is_told() {
    let server = Postgres::start();
    server.sql("create database copied");
    let server_of_files = "create extension file_fdw; create server \"Files\" foreign data wrapper file_fdw";
    for database in ["bookings", "copied"] {
        server.sql_in(database, server_of_files);
    }
    server.sql(
        "create foreign table manifest(line text options (force_not_null 'true'), n int) server \"Files\" options (filename '/nowhere/it''s=here', format 'csv');
         comment on foreign table manifest is 'who sailed'; create publication ferries for all tables; create collation reversed (locale = 'C')",
    );
    let (mut from, mut to) =
        (of_server("postgres", server.port, "bookings"), of_server("postgres", server.port, "copied"));
    let dialect = by_name("postgres").unwrap().dialect();
    let (text, told) = dumped(from.as_mut(), dialect, &Wanted::default());
    let left_out = ["collations (1)", "foreign servers (1)", "publications (1)"]
        .map(|what| format!("{what} cannot be written yet"));
    assert_eq!(told.left_out, left_out);
    restore(to.as_mut(), &text, dialect);
    assert_eq!(objects(&catalog(from.as_mut())), objects(&catalog(to.as_mut())));
    for query in [
        "select ftrelid::regclass::text, ftoptions::text, s.srvname from pg_foreign_table join pg_foreign_server s on s.oid = ftserver",
        "select attname, attfdwoptions::text from pg_attribute where attrelid = 'manifest'::regclass and attnum > 0 order by 1",
        "select obj_description('manifest'::regclass)",
    ] {
        let [ours, theirs] = [&mut from, &mut to].map(|of| run(of.as_mut(), query).unwrap().rows());
        assert!(!ours.is_empty());
        assert_eq!(ours, theirs, "{query}");
    }
}

#[test]
fn a_copy_of_a_table_has_its_parts_and_the_sequences_of_its_columns() {
    let server = Postgres::start();
    server.sql(
        "create table log(id serial, at date, what text) partition by range (at); create table log_31 partition of log for values from ('2031-01-01') to ('2032-01-01');
         create table log_rest partition of log default; insert into log(at, what) values ('2031-05-05', 'calm'), ('2040-01-01', 'rough');
         create table boats(id bigserial primary key, name text); create table ferries(decks int) inherits (boats);
         insert into boats(name) values ('Heron'); insert into ferries(name, decks) values ('Tern', 3);
         create table duty(who name); alter table duty enable row level security; alter table duty force row level security;
         create policy own on duty using (who = current_user); insert into duty values ('clerk'), ('mate');
         create function log() returns int language sql as 'select 1';
         create role mate login password 'saltmarsh'; grant select on duty to mate",
    );
    let mut session = of_server("postgres", server.port, "bookings");
    let dialect = by_name("postgres").unwrap().dialect();
    for (table, others) in [("log", "log_31, log_rest"), ("boats", "ferries")] {
        let name = Name { schema: "public".into(), name: table.into() };
        let text = dumped(session.as_mut(), dialect, &Wanted { names: vec![name], ..Wanted::default() }).0;
        assert!(!text.to_lowercase().contains("function public"), "{text}");
        let tables = others.split(", ").chain([table]);
        let queries: Vec<String> = tables.map(|table| format!("select * from only {table} order by 1")).collect();
        let mut rows =
            || -> Vec<_> { queries.iter().map(|query| run(session.as_mut(), query).unwrap().rows()).collect() };
        let before = rows();
        assert_eq!(before.concat().len(), 2);
        run(session.as_mut(), &format!("drop table {table} cascade")).unwrap();
        restore(session.as_mut(), &text, dialect);
        let mut rows =
            || -> Vec<_> { queries.iter().map(|query| run(session.as_mut(), query).unwrap().rows()).collect() };
        assert_eq!(rows(), before, "{text}");
        // The numbers go on.
        let given = format!(
            "insert into {table}{} returning id",
            if table == "log" { "(at) values ('2031-01-02')" } else { "(name) values ('Gull')" }
        );
        assert_eq!(run(session.as_mut(), &given).unwrap().rows(), [["3"]]);
    }
    // Rows that a policy hides are not left out without a word.
    let profile = Profile::new("quay", "postgres").with("host", "127.0.0.1").with("tls", "off").with("user", "mate");
    let mut profile = profile.with("database", "bookings");
    profile.settings.insert("port".into(), Setting::Number(i64::from(server.port)));
    let mut other = open(by_name("postgres").unwrap(), &profile, Some(&Secret::new("saltmarsh".into()))).unwrap();
    let duty = Wanted { names: vec![Name { schema: "public".into(), name: "duty".into() }], ..Wanted::default() };
    let refused = dump(other.as_mut(), dialect, &duty, (&mut Vec::new(), &Stop::default()), &mut |_| {}).unwrap_err();
    assert!(refused.to_string().contains("row-level security"), "{refused}");
    assert_eq!(run(other.as_mut(), "show row_security").unwrap().rows(), [["on"]]);
}

#[test]
fn values_are_the_same_wherever_they_are_read_again() {
    let server = Postgres::start();
    server.sql(
        "create table moments(id int primary key, d date, t timestamp, z timestamptz, w timetz, i interval, f float8, r real, b bytea, m money, x xml);
         insert into moments values
          (1, '2031-02-03', '2031-02-03 04:05:06.789012', '2031-10-26 00:30:00+00', '04:05:06.7+05:45', '1 year 2 mons -3 days 04:05:06.007', 0.1::float8 + 0.2, 1.17549435e-38, '\\x00ff5c27', '-1234.56', '<a>é</a>'),
          (2, 'infinity', '0044-03-15 BC', '-infinity', '23:59:60+00', '-00:00:01', 'NaN', '-0', '', '0', null),
          (3, '0044-03-15 BC', '294276-12-31 23:59:59', '2031-10-26 01:30:00+00', '00:00:00-12', '178000000 years', '-infinity', 3.4e38, 'a\\\\b', '92233720368547758.07', '<b/>')",
    );
    server.sql("create database copied");
    for setting in [
        "datestyle = 'German'",
        "intervalstyle = 'sql_standard'",
        "bytea_output = 'escape'",
        "extra_float_digits = -3",
        "timezone = 'Europe/Berlin'",
        "standard_conforming_strings = off",
        "backslash_quote = off",
        "lc_monetary = 'C'",
        "quote_all_identifiers = on",
    ] {
        server.sql(&format!("alter database bookings set {setting}"));
    }
    for setting in [
        "datestyle = 'SQL, MDY'",
        "intervalstyle = 'iso_8601'",
        "timezone = 'Asia/Kolkata'",
        "standard_conforming_strings = off",
    ] {
        server.sql(&format!("alter database copied set {setting}"));
    }
    let (mut from, mut to) =
        (of_server("postgres", server.port, "bookings"), of_server("postgres", server.port, "copied"));
    let dialect = by_name("postgres").unwrap().dialect();
    let (text, _) = dumped(from.as_mut(), dialect, &Wanted::default());
    restore(to.as_mut(), &text, dialect);
    let exact = "select id, encode(date_send(d), 'hex'), encode(timestamp_send(t), 'hex'), extract(epoch from z), extract(epoch from w), \
        extract(timezone from w), extract(epoch from i), extract(month from i), extract(day from i), float8send(f), float4send(r), encode(b, 'hex'), m::numeric, x::text \
        from moments order by id";
    let [ours, theirs] = [&mut from, &mut to].map(|of| {
        run(of.as_mut(), "reset all").unwrap();
        for plain in ["set datestyle = 'ISO'", "set bytea_output = 'hex'", "set extra_float_digits = 1"] {
            run(of.as_mut(), plain).unwrap();
        }
        run(of.as_mut(), exact).unwrap().rows()
    });
    assert_eq!(ours.len(), 3);
    assert_eq!(ours, theirs, "{text}");
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
        "set @mode = @@sql_mode, sql_mode = 'ansi_quotes,pipes_as_concat', time_zone = '+03:00'",
        "create function joined(a varchar(9)) returns varchar(20) deterministic return a || 'x'",
        "create trigger of_mode after insert on riap for each row set @said = 'a' || 'b'",
        "create event of_zone on schedule every 1 day starts '2031-01-01 06:00:00' disable do delete from riap where id = 97",
        "create table moments(id int primary key, at timestamp(3) null)",
        "insert into moments values (1, '2031-03-05 07:30:00.5')",
        "create table exact(id int primary key, f float, d double, n decimal(65,30), z date, t time(6), y year, b bit(10), s set('a','b c'), g point, v varbinary(9), u uuid, i inet6, c char(3) character set latin1, m mediumint unsigned zerofill, j json)",
        "insert into exact values (1, 16777216, 0.1e0 + 0.2e0, '12345678901234567890123456789012345.123456789012345678901234567890', '0000-00-00', '-838:59:59.999999', 2031, b'1100000001', 'a,b c', point(1.5, -0.1), x'00ff27', \
            '11111111-2222-3333-4444-555555555555', '::1', 'é', 7, '{\"a\": [1, null]}'), (2, 0.1234567, -1.7976931348623157e308, 0, '2031-00-00', '00:00:00', 0, 0, '', null, '', null, null, '', 0, null)",
        "set sql_mode = @mode, time_zone = 'SYSTEM'",
        "create view tidal as select tide(id, 1) as tide from ports",
        "create event nightly on schedule every 1 day starts '2031-01-01' on completion preserve disable comment 'at night; it''s late' do begin delete from riap where id = 99; select 1; end",
        "create event once on schedule at '2037-01-01' disable do delete from riap where id = 98",
        "create trigger noted before insert on ports for each row begin set new.berths = 1; set new.name = upper(new.name); end",
    ] {
        run(from.as_mut(), statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
    }
    let text = same(from.as_mut(), to.as_mut(), by_name("mysql").unwrap().dialect());
    [Guard::ReadOnly, Guard::Ask].into_iter().for_each(|guard| with_guard(guard, "mysql", one.port, &text));
    assert_eq!(run(to.as_mut(), "select tide(1, 2)").unwrap().rows(), [["3"]]);
    assert_eq!(
        run(to.as_mut(), "select joined('a'), @@time_zone, @@foreign_key_checks").unwrap().rows(),
        [["ax", "SYSTEM", "1"]]
    );
    for at in [from.as_mut(), to.as_mut()] {
        assert!(!run(at, "select @@sql_mode").unwrap().rows()[0][0].contains("NO_AUTO_VALUE"));
        run(at, "set time_zone = '+05:00'").unwrap();
    }
    let exact = "select id, cast(f as double), hex(cast(d as char)), d - 0.3, n, cast(z as char), cast(t as char), y, hex(b), s + 0, hex(g), hex(v), u, i, hex(c), m, j from exact order by id";
    let [ours, theirs] = [&mut from, &mut to].map(|of| run(of.as_mut(), exact).unwrap().rows());
    assert_eq!(ours.len(), 2);
    assert_eq!(ours, theirs);
    for at in [from.as_mut(), to.as_mut()] {
        assert_eq!(run(at, "select at from moments").unwrap().rows(), [["2031-03-05 09:30:00.500"]]);
    }
    for query in [
        "select event_name, event_definition, time_zone, sql_mode, interval_value, interval_field, execute_at, starts, status, on_completion, event_comment from information_schema.events order by 1",
        "select table_name, view_definition, check_option, security_type from information_schema.views where table_schema = 'bookings' order by 1",
        "select trigger_name, sql_mode, event_manipulation, action_timing, action_order, action_statement from information_schema.triggers where trigger_schema = 'bookings' order by 1",
        "select routine_name, routine_definition, is_deterministic, sql_data_access, security_type, sql_mode from information_schema.routines where routine_schema = 'bookings' order by 1",
        "select table_name, column_name, column_type, collation_name, column_default, extra, generation_expression, column_comment from information_schema.columns where table_schema = 'bookings' order by 1, ordinal_position",
        "select table_name, index_name, seq_in_index, column_name, non_unique, sub_part, index_type from information_schema.statistics where table_schema = 'bookings' order by 1, 2, 3",
    ] {
        let [ours, theirs] = [&mut from, &mut to].map(|of| run(of.as_mut(), query).unwrap().rows());
        assert!(!ours.is_empty(), "{query}");
        assert_eq!(ours, theirs, "{query}");
    }
}

/// What the stand-in of SQL Server can hold: tables with keys of several columns and names that need quotes, numbers of the
/// server, computed columns, defaults, checks, references in a ring, views of views, procedures.
const OF_SQLSERVER: &[&str] = &[
    "create table dbo.ports (id int identity(1,1) not null, name nvarchar(60) not null, [no. of berths] int null \
     constraint few default 4, region int null, constraint PK_ports primary key clustered (id), \
     constraint [enough berths] check ([no. of berths] > 0))",
    "create table dbo.[Sailing Plan] (port int not null, [order] int not null, fare decimal(9,2) not null, note nvarchar(max) null, \
     seal varbinary(16) null, sailed datetime2(7) null, share float null, day date not null default getdate(), \
     twice as (fare * 2) persisted, constraint PK_plan primary key (port, [order]), \
     constraint to_port foreign key (port) references dbo.ports (id) on delete cascade)",
    "create table dbo.regions (id int not null, capital int null, constraint PK_regions primary key (id), \
     constraint capital foreign key (capital) references dbo.ports (id))",
    "create index by_fare on dbo.[Sailing Plan] (fare desc, [order])",
    "create unique index one_note on dbo.[Sailing Plan] (note)",
    "create view dbo.busy as select name, [no. of berths] as berths from dbo.ports where [no. of berths] > 3",
    "create view dbo.busiest as select name from dbo.busy where berths > 5",
    "create procedure dbo.count_of @port int as begin select count(*) as n from dbo.[Sailing Plan] where port = @port; print 'counted'; end",
    "exec sp_addextendedproperty 'MS_Description', N'where ferries ''berth''', 'schema', 'dbo', 'table', 'ports'",
    "exec sp_addextendedproperty 'MS_Description', N'at high tide', 'schema', 'dbo', 'table', 'ports', 'column', 'name'",
    "set identity_insert dbo.ports on",
    "insert into dbo.ports (id, name, [no. of berths], region) values (1, N'Gull''s Haven', 6, 1), (3, N'Saltmarsh\nGO\nquay', null, 2), (7, N'Ärmelø 鷗 \u{1f6a2}', 9, null)",
    "set identity_insert dbo.ports off",
    "insert into dbo.[Sailing Plan] (port, [order], fare, note, seal, sailed, share, day) values \
     (1, 1, 12.50, N'first; of three', 0x00FF10, '2026-03-01 07:05:00.1234567', 0.1, '2026-03-01'), \
     (1, 2, -0.01, null, null, null, 1e300, '0001-01-01'), (7, 1, 9999999.99, N'--', 0x, '0001-01-01', -2.5e-7, '9999-12-31')",
    "insert into dbo.regions (id, capital) values (1, 1), (2, 7)",
    "alter table dbo.ports with nocheck add constraint in_region foreign key (region) references dbo.regions (id)",
    "alter table dbo.ports with nocheck add constraint [never off] check (region < 2)",
    "alter table dbo.ports nocheck constraint [never off]",
];

#[test]
fn sqlserver_is_made_again_on_its_stand_in() {
    use jaunty_standins::tds::{Options, Server};
    let servers = [0, 1].map(|_| Server::start(Options::default()).unwrap());
    let opened = |at: usize, guard: Guard| office(&servers[at], guard);
    let dialect = by_name("sqlserver").unwrap().dialect();
    let (mut from, mut to) = (opened(0, Guard::Open), opened(1, Guard::Open));
    for statement in OF_SQLSERVER {
        run(from.as_mut(), statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
    }
    let (text, told) = dumped(from.as_mut(), dialect, &Wanted::default());
    insta::assert_snapshot!("sqlserver", text);
    assert_eq!((told.objects, told.rows, told.left_out), (6, 8, Vec::new()));
    assert_eq!(same(from.as_mut(), to.as_mut(), dialect), text);
    // One that only reads gives the same, and leaves the server as it was.
    assert_eq!(dumped(opened(0, Guard::ReadOnly).as_mut(), dialect, &Wanted::default()).0, text);
    assert!(from.location().transaction.is_none());
    // Some tables alone.
    let names = vec![Name { schema: "dbo".into(), name: "regions".into() }];
    let (text, told) = dumped(from.as_mut(), dialect, &Wanted { names, ..Wanted::default() });
    assert_eq!((told.objects, told.rows), (1, 2), "{text}");
}
