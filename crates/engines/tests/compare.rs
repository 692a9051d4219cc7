//! Two structures are compared, and the statements that make one like the other do so, on each engine.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use jaunty_core::compare::Difference;
use jaunty_core::compare::alter::{Alteration, NoStatements, make_alike};
use jaunty_core::compare::differences::compare;
use jaunty_core::compare::structure::{Schemas, Structure};
use jaunty_core::connection::open;
use jaunty_core::dump::{Wanted, dump};
use jaunty_core::reveal::rules::new_rules;
use jaunty_engines::by_name;
use jaunty_language::dialect::Dialect;
use jaunty_language::outline::Outline;
use jaunty_language::text::rope;
use jaunty_seam::catalog::Catalog;
use jaunty_seam::engine::{CatalogPart, Session, Stop};
use jaunty_seam::profile::{Guard, Profile, Secret, Setting};
use jaunty_testservers::{Mariadb, PASSWORD, Postgres};
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;
use support::harbour::{HARBOUR, OF_POSTGRES};
use support::{office, run};

fn of_server(engine: &'static str, port: u16, database: &str) -> Box<dyn Session> {
    let mut profile = Profile::new("quay", engine).with("host", "127.0.0.1").with("tls", "off").with("user", "clerk");
    profile.settings.insert("port".into(), Setting::Number(i64::from(port)));
    open(by_name(engine).unwrap(), &profile.with("database", database), Some(&Secret::new(PASSWORD.into()))).unwrap()
}

fn in_memory() -> Box<dyn Session> {
    let memory = Profile::new("memory", "sqlite").with("path", ":memory:");
    open(by_name("sqlite").unwrap(), &memory, None).unwrap()
}

fn dialect(engine: &str) -> &'static Dialect {
    by_name(engine).unwrap().dialect()
}

fn structure(session: &mut dyn Session, engine: &str, schemas: &Schemas) -> Structure {
    let read = Structure::read(session, dialect(engine), schemas, &Stop::default(), &mut |_, _| {}).unwrap();
    assert!(read.left_out.is_empty(), "{:?}", read.left_out);
    read
}

/// Runs a text as the program does, statement by statement.
fn carry_out(session: &mut dyn Session, text: &str, dialect: &'static Dialect) {
    let rope = rope(text);
    for statement in Outline::new(&rope, dialect).statements() {
        let statement = statement.text(&rope);
        if !statement.to_ascii_lowercase().starts_with("delimiter") {
            run(session, &statement).unwrap_or_else(|error| panic!("{statement}: {error}\nin\n{text}"));
        }
    }
}

/// What differs, in lines.
fn told(left: &Structure, right: &Structure) -> Vec<String> {
    let mut lines = Vec::new();
    for item in compare(left, right, false).items {
        lines.push(format!("{} {} {}", item.what.sign(), item.kind.word(), item.name));
        lines.extend(item.parts.iter().map(|part| {
            let shown: Vec<_> = part.shown.iter().filter(|shown| !shown.is_empty()).cloned().collect();
            format!("  {} {} {}: {}", part.what.sign(), part.of.word(), part.name, shown.join(" → "))
        }));
    }
    lines
}

/// Makes the left like the right, and looks.
fn made_alike(left: &mut dyn Session, right: &mut dyn Session, engine: &str, schemas: [&Schemas; 2]) -> Alteration {
    let (ours, theirs) = (structure(left, engine, schemas[0]), structure(right, engine, schemas[1]));
    let made = make_alike(&ours, &theirs, &compare(&ours, &theirs, false)).unwrap();
    let script = made.script(dialect(engine));
    carry_out(left, &script, dialect(engine));
    let now = structure(left, engine, schemas[0]);
    let left_over: Vec<String> =
        told(&now, &theirs).into_iter().filter(|line| !line.contains("order of columns")).collect();
    let of_order =
        |line: &String| line.starts_with("≠ table") && made.notes.iter().any(|note| note.contains("the order"));
    assert!(left_over.iter().all(of_order), "{left_over:#?}\nafter\n{script}");
    made
}

const SQLITE: [&[&str]; 2] = [
    &[
        "create table ports(id integer primary key, name text, berths integer, tide real)",
        "create table routes(id integer primary key, \"from\" integer references ports)",
        "create table gone(id integer)",
        "create table added(id integer primary key)",
        "create view busy as select name from ports where berths > 3",
        "create view old as select 1 as one",
        "create index by_name on ports(name)",
        "create trigger noted after insert on ports begin update ports set tide = 0; select 1; end",
        "insert into ports values (1, 'Saltmarsh', 4, 0.5), (2, 'Gull''s Rest', 2, null)",
        "insert into routes values (7, 1)",
    ],
    &[
        "create table ports(id integer primary key, name text not null default 'none', berths integer, open integer generated always as (berths > 0))",
        "create table routes(id integer primary key, \"from\" integer references ports)",
        "create table added(id integer primary key, note text default 'x')",
        "create table \"New one\"(a text collate nocase, b integer, primary key (a, b)) without rowid",
        "create view busy as select name from ports where berths > 5",
        "create view later as select * from busy",
        "create unique index by_name on ports(name, berths)",
        "create trigger noted after insert on ports begin update ports set berths = 1 where id = new.id; end",
    ],
];

#[test]
fn sqlite_is_made_alike() {
    let (mut left, mut right) = (in_memory(), in_memory());
    SQLITE[0].iter().for_each(|statement| drop(run(left.as_mut(), statement).unwrap()));
    SQLITE[1].iter().for_each(|statement| drop(run(right.as_mut(), statement).unwrap()));
    let (ours, theirs) =
        (structure(left.as_mut(), "sqlite", &Schemas::Own), structure(right.as_mut(), "sqlite", &Schemas::Own));
    insta::assert_snapshot!("sqlite", told(&ours, &theirs).join("\n"));
    let made = made_alike(left.as_mut(), right.as_mut(), "sqlite", [&Schemas::Own; 2]);
    insta::assert_snapshot!("sqlite_statements", made.script(dialect("sqlite")));
    // The column of the tide, and the table.
    assert_eq!(made.losing(), 2);
    let rows = run(left.as_mut(), "select id, name, berths, open from ports").unwrap().rows();
    assert_eq!(rows, [["1", "Saltmarsh", "4", "1"], ["2", "Gull's Rest", "2", "1"]]);
    assert_eq!(run(left.as_mut(), "select \"from\" from routes").unwrap().rows(), [["1"]]);
    assert_eq!(run(left.as_mut(), "pragma foreign_keys").unwrap().rows(), [["1"]]);
    let refused = run(left.as_mut(), "insert into routes values (8, 99)");
    assert!(refused.is_err_and(|error| error.message.contains("FOREIGN KEY")), "references hold as before");
    // And back: the other way round is as good.
    let mut again = in_memory();
    SQLITE[0].iter().for_each(|statement| drop(run(again.as_mut(), statement).unwrap()));
    made_alike(left.as_mut(), again.as_mut(), "sqlite", [&Schemas::Own; 2]);
}

const POSTGRES: [&str; 2] = [
    "create schema ops; create type mood as enum ('calm', 'rough'); create sequence tickets increment by 3;
     create table held(id int primary key, x int not null); create table holding(held_id int constraint holds references held);
     create table counted(a int generated always as identity, b int generated by default as identity, c int not null default 3, d int generated always as (1) stored, e int not null);
     insert into counted(e) values (7), (8);
     create table ports(id int generated always as identity primary key, name varchar(20) not null, berths int default 3 constraint roomy check (berths > 0), tide real, state mood);
     create table ops.berths(port int, number int, price numeric(8,2), constraint berths_port foreign key (port) references ports);
     create table gone(id int primary key, other int references gone);
     create view busy as select name from ports where berths > 3; create view over_it as select name from busy;
     create materialized view tides as select tide from ports; create index on tides(tide);
     create function twice(n int) returns int language sql as 'select n * 2'; create function off(n int, m int default 1) returns int language sql as 'select n';
     create index by_name on ports(name);
     create function note() returns trigger language plpgsql as 'begin return new; end';
     create trigger noted before insert on ports for each row execute function note();
     comment on table ports is 'where ships lie';",
    "create schema ops; create table counted(a int generated by default as identity, b int not null, c bigint generated always as identity, d int default 1, e int generated always as (2) stored); create table held(id int not null, x int not null, primary key (id, x), constraint held_id_key unique (id)); create table holding(held_id int constraint holds references held(id));
     create schema fresh; create type mood as enum ('calm', 'breezy', 'rough', 'wild'); create sequence tickets increment by 5; create domain fare as numeric(8,2) check (value >= 0);
     create table ports(id int generated always as identity primary key, name text not null default 'it''s none', berths bigint constraint roomy check (berths > 1), tide real not null, state mood, tag text generated always as (upper(name)) stored);
     create table ops.berths(port int, number int not null, price fare, primary key (port, number), constraint berths_port foreign key (port) references ports on delete cascade);
     create table fresh.pairs(id int primary key, other int references fresh.pairs, port int references ports);
     create view busy as select name, berths from ports where berths > 3; create view over_it as select name from busy;
     create materialized view tides as select tide from ports; create index on tides(tide);
     create function twice(n int) returns int language sql as 'select n + n'; create procedure sail() language sql as 'select 1';
     create unique index by_name on ports using btree (name desc) where berths > 2; create index on fresh.pairs(other);
     create function note() returns trigger language plpgsql as 'begin return new; end';
     create trigger noted after insert on ports for each row execute function note();
     comment on table ports is 'where ships lie; it''s'; comment on column ports.name is 'as it is spelt'; comment on view busy is 'full ones';",
];

/// Other than the harbour in each kind of thing that belongs to a table, a view or a sequence.
const OTHERWISE: &[&str] = &[
    "drop policy own on duty; alter policy keeps on duty with check (port > 1); create policy other on duty using (true); alter table duty no force row level security",
    "alter table ports set (fillfactor = 90, autovacuum_vacuum_threshold = 7), reset (autovacuum_enabled); alter table ports alter name set storage main, alter id reset (n_distinct)",
    "drop rule noted on ports; create rule of_ours as on delete to ports do also nothing; alter table trail enable rule kept",
    "drop trigger a_note on ports; create trigger a_note before update of code on ports for each row execute function note()",
    "alter table ports enable trigger late; comment on trigger late on ports is 'at once'; drop index ports_ident; create unique index ports_ident on ports(name, id)",
    "alter table ports set without cluster; alter table scratch set logged; alter sequence scratch_a_seq owned by none; alter table scratch replica identity default",
    "drop statistics ports_both; create statistics of_ours (ndistinct) on name, code from ports; alter table log detach partition log_rest; alter table ferries no inherit boats",
    "alter table ports drop constraint apart; alter table ports drop constraint ports_name; alter table ports add constraint ports_name unique (name)",
    "alter table duty alter who type name collate \"POSIX\"; alter view named reset (security_barrier); alter view named alter column level set default 'high'; comment on view named is null",
    "drop aggregate a_total(int) cascade; comment on function add_up(text) is 'otherwise'; comment on sequence tickets is null; comment on domain code is 'otherwise'",
    "drop index log_what; create aggregate of_ours(int) (sfunc = add_two, stype = int)",
];

#[test]
fn all_that_belongs_to_tables_of_postgres_is_made_alike() {
    let server = Postgres::start();
    let brought = "create extension btree_gist; create schema tools; create extension hstore schema tools";
    for (database, sql) in [("whole", HARBOUR), ("otherwise", HARBOUR), ("bare", brought), ("again", brought)] {
        server.sql(&format!("create database {database}"));
        server.sql_in(database, sql);
    }
    for sql in OTHERWISE {
        server.sql_in("otherwise", sql);
    }
    let open = |database: &str| of_server("postgres", server.port, database);
    let (mut whole, all) = (open("whole"), Schemas::All);
    let mut otherwise = open("otherwise");
    let [ours, theirs] = [&mut otherwise, &mut whole].map(|of| structure(of.as_mut(), "postgres", &all));
    insta::assert_snapshot!("postgres_belongings", told(&ours, &theirs).join("\n"));
    let made = made_alike(otherwise.as_mut(), whole.as_mut(), "postgres", [&all; 2]);
    insta::assert_snapshot!("postgres_belongings_statements", made.script(dialect("postgres")));
    // From nothing, and to nothing.
    let mut bare = open("bare");
    made_alike(bare.as_mut(), whole.as_mut(), "postgres", [&all; 2]);
    for query in OF_POSTGRES {
        let told = |of: &mut dyn Session| -> Vec<Vec<String>> { run(of, query).unwrap().rows() };
        let [made, wanted] = [told(bare.as_mut()), told(whole.as_mut())];
        // Where a sequence is, is no matter of the structure.
        let is_last_value = query.contains("last_value");
        let plain = |rows: Vec<Vec<String>>| -> Vec<Vec<String>> {
            rows.into_iter()
                .map(|mut row| {
                    if is_last_value {
                        row.truncate(8);
                        row
                    } else {
                        row
                    }
                })
                .collect()
        };
        assert_eq!(plain(made), plain(wanted), "{query}");
    }
    let mut again = open("again");
    made_alike(bare.as_mut(), again.as_mut(), "postgres", [&all; 2]);
}

#[test]
fn all_that_belongs_to_tables_is_made_in_another_schema() {
    let server = Postgres::start();
    let made = "create table ports(id serial primary key, name text) with (fillfactor = 70); create table boats(like ports including all) inherits (ports);
        create table log(at date, port int references ports) partition by range (at); create table log_rest partition of log default; create index log_at on log(at);
        create view named as select name from ports with check option; create rule kept as on delete to ports do instead insert into boats(id) values (old.id);
        alter table ports enable row level security; create policy own on ports using (name in (select name from boats)); create function note() returns trigger language plpgsql as 'begin return new; end';
        create trigger noted before insert on ports for each row execute function note(); alter table ports disable trigger noted; comment on trigger noted on ports is 'of a schema'; create statistics together on id, name from ports";
    for schema in ["one", "two", "three"] {
        let made = if schema == "three" { "" } else { made };
        server.sql(&format!("create schema {schema}; set search_path = {schema}; {made}"));
    }
    let mut session = of_server("postgres", server.port, "bookings");
    let [one, two, three] = ["one", "two", "three"].map(|name| Schemas::Named(name.into()));
    server.sql("create table three.gone(id int)");
    let [ours, theirs] = [&one, &two].map(|schema| structure(session.as_mut(), "postgres", schema));
    assert_eq!(told(&ours, &theirs), [""; 0]);
    let mut other = of_server("postgres", server.port, "bookings");
    made_alike(session.as_mut(), other.as_mut(), "postgres", [&three, &two]);
    let script = server
        .sql("select string_agg(pg_get_ruledef(oid), '') from pg_rewrite where ev_class = 'three.ports'::regclass");
    assert!(script.contains("three.boats") && !script.contains("two."), "{script}");
}

#[test]
fn owners_and_grants_of_postgres_count_where_that_is_wanted() {
    let server = Postgres::start();
    server.sql("create role mate; create role purser; create role \"Odd Bosun\"");
    let made = "create table ports(id int primary key, name text, berths int); create table boats(id serial, n int generated always as identity); create view named as select name from ports; create sequence tickets;
        create function tide(a int, b int default 1) returns int language sql as 'select a'; create procedure sweep(inout n int) language sql as 'select n'; create function own() returns int language sql as 'select 1';
        create aggregate total(int) (sfunc = tide, stype = int)";
    let wanted = "grant select, insert on ports to purser; grant update on ports to purser with grant option; grant select (name), update (name, berths) on ports to \"Odd Bosun\"; grant select on named to public;
        grant usage on sequence tickets to purser; revoke execute on function tide(int, int) from public; grant execute on function tide(int, int) to mate with grant option;
        alter table ports owner to mate; alter table boats owner to mate; alter view named owner to \"Odd Bosun\"; alter function own() owner to mate; alter procedure sweep owner to mate; alter aggregate total(int) owner to mate; alter sequence tickets owner to mate";
    let otherwise = "grant select, delete on ports to \"Odd Bosun\"; grant execute on function own() to mate; create or replace function own() returns int language sql as 'select 2'; revoke execute on procedure sweep from public";
    for (database, sql) in [("one", otherwise), ("two", wanted), ("three", "")] {
        server.sql(&format!("create database {database}"));
        server.sql_in(database, if sql.is_empty() { "" } else { made });
        server.sql_in(database, sql);
    }
    let [mut one, mut two, mut three] = ["one", "two", "three"].map(|name| of_server("postgres", server.port, name));
    let read = |of: &mut dyn Session| structure(of, "postgres", &Schemas::All);
    let told = |of: &mut dyn Session| -> Vec<Vec<Vec<String>>> {
        // What is granted, whoever granted it, and in whatever order.
        let acl = |acl: &str| {
            format!(
                "(select string_agg(concat_ws(' ', x.grantee::regrole, x.privilege_type, x.is_grantable), ', ' order by x.grantee, x.privilege_type) from aclexplode({acl}) x)"
            )
        };
        let classes = format!(
            "select relname, relowner::regrole::text, {} from pg_class where oid >= 16384 and relkind in ('r', 'v', 'S') order by 1",
            acl("coalesce(relacl, acldefault(case relkind when 'S' then 's' else 'r' end::\"char\", relowner))")
        );
        let columns = format!(
            "select attrelid::regclass::text, attname, {} from pg_attribute where attacl <> '{{}}' order by 1, 2",
            acl("attacl")
        );
        let routines = format!(
            "select proname, proowner::regrole::text, {} from pg_proc where oid >= 16384 order by 1",
            acl("coalesce(proacl, acldefault('f', proowner))")
        );
        [classes, columns, routines].iter().map(|query| run(of, query).unwrap().rows()).collect()
    };
    let (ours, theirs) = (read(one.as_mut()), read(two.as_mut()));
    let without: Vec<String> = compare(&ours, &theirs, false).items.into_iter().map(|item| item.name).collect();
    assert_eq!(without, ["public.own"]);
    let differences = compare(&ours, &theirs, true);
    let script = make_alike(&ours, &theirs, &differences).unwrap().script(dialect("postgres"));
    insta::assert_snapshot!("postgres_access_statements", script);
    carry_out(one.as_mut(), &script, dialect("postgres"));
    assert_eq!(told(one.as_mut()), told(two.as_mut()), "{script}");
    assert_eq!(compare(&read(one.as_mut()), &theirs, true).items, []);
    // From nothing; and nothing of it where it is not wanted.
    let nothing = read(three.as_mut());
    let plain = make_alike(&nothing, &theirs, &compare(&nothing, &theirs, false)).unwrap().script(dialect("postgres"));
    assert!(!plain.contains("grant ") && !plain.contains("owner to"), "{plain}");
    let script = make_alike(&nothing, &theirs, &compare(&nothing, &theirs, true)).unwrap().script(dialect("postgres"));
    carry_out(three.as_mut(), &script, dialect("postgres"));
    assert_eq!(told(three.as_mut()), told(two.as_mut()), "{script}");
    // A dump with them does the same, and for what is not an object.
    server.sql_in(
        "two",
        "create schema tolls authorization mate; create schema \"Odd Quay\"; create type tolls.kind as enum ('a'); create domain price as int; create type \"Odd Quay\".pair as (a int);
         grant usage on schema tolls to purser with grant option; grant create, usage on schema tolls to \"Odd Bosun\"; grant usage on schema \"Odd Quay\" to public; revoke usage on schema public from public; grant create on schema public to mate;
         alter type tolls.kind owner to mate; alter domain price owner to \"Odd Bosun\"; revoke usage on type tolls.kind from public; grant usage on type tolls.kind to purser; grant usage on domain price to mate with grant option;
         alter default privileges in schema tolls grant select, insert on tables to purser; alter default privileges for role mate grant execute on functions to purser; alter default privileges for role mate revoke usage on types from public;
         alter default privileges for role \"Odd Bosun\" in schema \"Odd Quay\" grant usage on sequences to public",
    );
    server.sql("create database four");
    server.sql("create database five");
    let mut four = of_server("postgres", server.port, "four");
    let beside = |of: &mut dyn Session| -> Vec<Vec<Vec<String>>> {
        let acl = |acl: &str| {
            format!(
                "(select string_agg(concat_ws(' ', case x.grantee when 0 then 'public' else x.grantee::regrole::text end, x.privilege_type, x.is_grantable), ', ' order by x.grantee, x.privilege_type) from aclexplode({acl}) x)"
            )
        };
        [
            format!("select nspname, nspowner::regrole::text, {} from pg_namespace where nspname !~ '^pg_' order by 1", acl("nspacl")),
            format!("select typname, typowner::regrole::text, {} from pg_type where typname in ('kind', 'price', 'pair') order by 1", acl("typacl")),
            format!("select defaclrole::regrole::text, coalesce(nspname, ''), defaclobjtype, {} from pg_default_acl left join pg_namespace n on n.oid = defaclnamespace order by 1, 2, 3", acl("defaclacl")),
        ]
        .iter()
        .map(|query| run(of, query).unwrap().rows())
        .collect()
    };
    let (mut text, wanted) = (Vec::new(), Wanted { access: true, ..Wanted::default() });
    dump(two.as_mut(), dialect("postgres"), &wanted, (&mut text, &Stop::default()), &mut |_| {}).unwrap();
    carry_out(four.as_mut(), &String::from_utf8(text).unwrap(), dialect("postgres"));
    assert_eq!(told(four.as_mut()), told(two.as_mut()));
    assert_eq!(beside(four.as_mut()), beside(two.as_mut()));
    // Of one schema, what is said of it alone.
    let mut text = Vec::new();
    let wanted = Wanted { access: true, schemas: vec!["tolls".into()], ..Wanted::default() };
    dump(two.as_mut(), dialect("postgres"), &wanted, (&mut text, &Stop::default()), &mut |_| {}).unwrap();
    let text = String::from_utf8(text).unwrap();
    assert!(text.contains("alter schema tolls owner to mate;"), "{text}");
    assert!(text.contains("alter default privileges for role") && !text.contains("Odd Quay"), "{text}");
    let mut five = of_server("postgres", server.port, "five");
    carry_out(five.as_mut(), &text, dialect("postgres"));
}

#[test]
fn postgres_is_made_alike() {
    let server = Postgres::start();
    let open = |database: &str| of_server("postgres", server.port, database);
    server.sql("create database one; ");
    server.sql("create database two; ");
    let (mut left, mut right) = (open("one"), open("two"));
    carry_out(left.as_mut(), POSTGRES[0], dialect("postgres"));
    carry_out(right.as_mut(), POSTGRES[1], dialect("postgres"));
    run(left.as_mut(), "insert into ports(name, berths, tide) values ('Saltmarsh', 4, 0.5)").unwrap();
    let all = Schemas::All;
    let (ours, theirs) = (structure(left.as_mut(), "postgres", &all), structure(right.as_mut(), "postgres", &all));
    insta::assert_snapshot!("postgres", told(&ours, &theirs).join("\n"));
    let made = made_alike(left.as_mut(), right.as_mut(), "postgres", [&all; 2]);
    insta::assert_snapshot!("postgres_statements", made.script(dialect("postgres")));
    let rows = run(left.as_mut(), "select id, name, berths, tag from ports").unwrap().rows();
    assert_eq!(rows, [["1", "Saltmarsh", "4", "SALTMARSH"]]);
    // The numbers that were there stay.
    assert_eq!(run(left.as_mut(), "select a, b from counted").unwrap().rows(), [["1", "1"], ["2", "2"]]);
    assert_eq!(run(left.as_mut(), "show search_path").unwrap().rows(), [["\"$user\", public"]], "as it was");
    // A schema like another one of the same database.
    run(left.as_mut(), "create schema spare").unwrap();
    run(left.as_mut(), "create table spare.other(id int)").unwrap();
    let (ours, theirs) = (Schemas::Named("spare".into()), Schemas::Named("public".into()));
    let made = {
        let left_too: &mut dyn Session = &mut *open("one");
        made_alike(left.as_mut(), left_too, "postgres", [&ours, &theirs])
    };
    assert!(made.script(dialect("postgres")).contains("create table spare.ports"));
}

/// A type whose values stand in another order sorts otherwise, and no statement makes it like the other.
#[test]
fn the_order_of_values_counts() {
    let server = Postgres::start();
    let open = |database: &str, values: &str| {
        server.sql(&format!("create database {database}"));
        let mut session = of_server("postgres", server.port, database);
        run(session.as_mut(), &format!("create type mood as enum ({values})")).unwrap();
        session
    };
    let all = Schemas::All;
    let one = structure(open("one", "'calm', 'rough', 'wild'").as_mut(), "postgres", &all);
    let turned = structure(open("two", "'rough', 'breezy', 'calm', 'wild'").as_mut(), "postgres", &all);
    let same = structure(open("three", "'calm', 'rough', 'wild'").as_mut(), "postgres", &all);
    assert_eq!(compare(&one, &same, false).items, []);
    let told = told(&one, &turned).join("\n");
    assert!(
        told.contains("order of values") && told.contains("calm, rough, wild") && told.contains("rough, calm, wild"),
        "{told}"
    );
    let made = make_alike(&one, &turned, &compare(&one, &turned, false)).unwrap();
    assert!(
        made.script(dialect("postgres")).contains("type public.mood: no statement can change this"),
        "{}",
        made.script(dialect("postgres"))
    );
}

const MARIADB: [&str; 2] = [
    "create table ports(id int auto_increment primary key, name varchar(20) not null, berths int default 3, tide float, key by_berths (berths));
     create table routes(id int primary key, start int, constraint begins foreign key (start) references ports(id));
     create table gone(id int primary key);
     create table held(id int primary key, x int not null); create table holding(held_id int, constraint holds foreign key (held_id) references held(id));
     create view busy as select name from ports where berths > 3;
     create function twice(n int) returns int deterministic return n * 2;
     create trigger noted before insert on ports for each row set new.tide = 0;
     create event nightly on schedule every 1 day starts '2031-01-01' disable do delete from gone; create event once on schedule at '2037-01-01' disable do delete from gone;",
    "create table ports(id int auto_increment primary key, code char(3) not null default '', name varchar(40) character set latin1 not null comment 'it''s spelt so', berths bigint, open int as (berths > 0) stored, unique key by_name (name(10), berths), fulltext key words (name), constraint roomy check (berths >= 0)) comment 'where ships lie';
     create table routes(id int, start int, number int auto_increment unique, constraint begins foreign key (start) references ports(id) on delete cascade);
     create table pairs(id int primary key, other int, key (other), foreign key (other) references pairs(id));
     create table held(id int, x int not null, primary key (id, x), unique key only_id (id)); create table holding(held_id int, constraint holds foreign key (held_id) references held(id));
     create view busy as select name, berths from ports where berths > 5; create view later as select * from busy;
     create function twice(n int) returns int deterministic return n + n; create procedure sail() select 1;
     create trigger noted before insert on ports for each row set new.berths = 1;
     create event nightly on schedule every 2 hour starts '2031-01-01' on completion preserve disable comment 'at night' do delete from pairs;
     create event later on schedule at '2037-01-01' disable do delete from pairs;",
];

#[test]
fn mariadb_is_made_alike() {
    let server = Mariadb::start();
    for statement in ["create database one", "create database two", "grant all on *.* to clerk@localhost"] {
        server.sql(statement);
    }
    let open = |database: &str| of_server("mysql", server.port, database);
    let (mut left, mut right) = (open("one"), open("two"));
    carry_out(left.as_mut(), MARIADB[0], dialect("mysql"));
    carry_out(right.as_mut(), MARIADB[1], dialect("mysql"));
    run(left.as_mut(), "insert into ports(name, berths) values ('Saltmarsh', 4)").unwrap();
    let own = Schemas::Own;
    let (ours, theirs) = (structure(left.as_mut(), "mysql", &own), structure(right.as_mut(), "mysql", &own));
    insta::assert_snapshot!("mariadb", told(&ours, &theirs).join("\n"));
    let made = made_alike(left.as_mut(), right.as_mut(), "mysql", [&own; 2]);
    insta::assert_snapshot!("mariadb_statements", made.script(dialect("mysql")));
    let rows = run(left.as_mut(), "select id, code, name, berths, open from ports").unwrap().rows();
    assert_eq!(rows, [["1", "", "Saltmarsh", "4", "1"]]);
}

/// Grants to users and roles, with every word, on columns, with the right to grant them, and on routines.
#[test]
fn grants_of_mariadb_are_made_alike() {
    let server = Mariadb::start();
    server.sql(
        "create user mate@'127.0.0.1', `o'bosun`@'10.%'; create role purser;
         create database one; create database two; create database three; create database four",
    );
    let make = "create table ports(id int primary key, name varchar(20), berths int); create table boats(id int); \
                create view named as select name from ports; create sequence tickets; \
                create function tide(n int) returns int deterministic return n * 2; create procedure sweep() delete from boats";
    let open = |database: &str| of_server("mysql", server.port, database);
    let (mut one, mut two, mut three) = (open("one"), open("two"), open("three"));
    let mysql = dialect("mysql");
    carry_out(one.as_mut(), make, mysql);
    carry_out(two.as_mut(), make, mysql);
    carry_out(
        one.as_mut(),
        "grant select, delete on ports to `o'bosun`@'10.%'; grant execute on function tide to purser; \
         grant update (berths), select on ports to mate@'127.0.0.1' with grant option",
        mysql,
    );
    carry_out(
        two.as_mut(),
        "grant insert, select (name), update (name, id) on ports to mate@'127.0.0.1'; grant all on boats to purser; \
         grant select, show view on named to `o'bosun`@'10.%' with grant option; grant select, insert on tickets to purser; \
         grant execute, alter routine on procedure sweep to mate@'127.0.0.1' with grant option; grant usage on boats to mate@'127.0.0.1' with grant option",
        mysql,
    );
    let read = |of: &mut dyn Session| structure(of, "mysql", &Schemas::Own);
    let told = |database: &str| {
        let of = |table: &str, columns: &str| {
            server.sql(&format!("select {columns} from mysql.{table} where db = '{database}' order by {columns}"))
        };
        [
            of("tables_priv", "table_name, user, host, table_priv, column_priv"),
            of("columns_priv", "table_name, user, host, column_name, column_priv"),
            of("procs_priv", "routine_name, user, host, proc_priv"),
        ]
    };
    let (ours, theirs) = (read(one.as_mut()), read(two.as_mut()));
    assert_eq!(compare(&ours, &theirs, false).items, []);
    let script = make_alike(&ours, &theirs, &compare(&ours, &theirs, true)).unwrap().script(mysql);
    insta::assert_snapshot!("mariadb_access_statements", script);
    carry_out(one.as_mut(), &script, mysql);
    assert_eq!(told("one"), told("two"), "{script}");
    assert_eq!(compare(&read(one.as_mut()), &theirs, true).items, []);
    // From nothing; and nothing of it where it is not wanted.
    let nothing = read(three.as_mut());
    let plain = make_alike(&nothing, &theirs, &compare(&nothing, &theirs, false)).unwrap().script(mysql);
    assert!(!plain.contains("grant "), "{plain}");
    let script = make_alike(&nothing, &theirs, &compare(&nothing, &theirs, true)).unwrap().script(mysql);
    carry_out(three.as_mut(), &script, mysql);
    assert_eq!(told("three"), told("two"), "{script}");
    // A dump with them does the same, and for all of the database.
    server.sql(
        "grant select, insert on two.* to mate@'127.0.0.1' with grant option; grant execute, create temporary tables on two.* to purser; grant show view on two.* to `o'bosun`@'10.%'; grant select on `tw%`.* to purser",
    );
    let of_database = |database: &str| {
        let granted = server.sql(&format!(
            "select grantee, privilege_type, is_grantable from information_schema.schema_privileges where table_schema = '{database}' order by 1, 2"
        ));
        granted.lines().map(str::to_owned).collect::<Vec<_>>()
    };
    let mut four = open("four");
    let (mut text, wanted) = (Vec::new(), Wanted { access: true, ..Wanted::default() });
    dump(two.as_mut(), mysql, &wanted, (&mut text, &Stop::default()), &mut |_| {}).unwrap();
    carry_out(four.as_mut(), &String::from_utf8(text).unwrap(), mysql);
    assert_eq!(told("four"), told("two"));
    assert_eq!(of_database("four"), of_database("two"));
    assert_eq!(of_database("four").len(), 5);
}

#[test]
fn databases_of_different_kinds_are_compared_by_what_they_hold() {
    let server = Postgres::start();
    server.sql(
        "create table ports(id int primary key, name text not null, berths int, open boolean);
         create table routes(id int primary key, start int references ports, at timestamptz);
         create index by_name on ports(name); create view busy as select 1 as one;",
    );
    let mut left = of_server("postgres", server.port, "bookings");
    let mut right = in_memory();
    for statement in [
        "create table Ports(ID integer primary key, name varchar(10) not null, berths real, open boolean)",
        "create table routes(id integer primary key, start integer, at timestamp)",
        "create index other_name on ports(name)",
        "create view busy as select 2 as two",
    ] {
        run(right.as_mut(), statement).unwrap();
    }
    let schemas = Schemas::usual(dialect("postgres"), dialect("sqlite"));
    let (ours, theirs) =
        (structure(left.as_mut(), "postgres", &schemas), structure(right.as_mut(), "sqlite", &schemas));
    assert_eq!(
        told(&ours, &theirs),
        [
            "≠ table ports",
            "  ≠ column berths: integers → floating-point numbers",
            "≠ table routes",
            "  ◂ foreign key : start → ports(id)",
        ]
    );
    let differences = compare(&ours, &theirs, false);
    assert_eq!(differences.counted(Difference::Changed), 2);
    assert_eq!(make_alike(&ours, &theirs, &differences), Err(NoStatements::Languages));
}

/// A table that anybody could have made: names of columns with what they are.
type Made = Vec<(usize, Vec<(u8, u8, bool, bool)>, bool)>;

fn made() -> impl Strategy<Value = Made> {
    let column = (0..5_u8, 0..4_u8, any::<bool>(), any::<bool>());
    proptest::collection::vec((0..4_usize, proptest::collection::vec(column, 1..5), any::<bool>()), 0..4)
}

/// The statements for it. Rows are in each table, so that what is changed has something to lose.
fn statements(made: &Made, engine: &str) -> Vec<String> {
    let types = match engine {
        "postgres" => ["integer", "bigint", "text", "numeric(8,2)"],
        "mysql" => ["int", "bigint", "varchar(40)", "decimal(8,2)"],
        _ => ["integer", "real", "text", "numeric"],
    };
    let (mut all, mut seen) = (Vec::new(), Vec::new());
    for (table, columns, with_index) in made {
        if seen.contains(table) {
            continue;
        }
        seen.push(*table);
        let (mut names, mut parts) = (Vec::new(), vec!["id int not null".to_owned(), "primary key (id)".to_owned()]);
        for (name, kind, not_null, default) in columns {
            if names.contains(name) {
                continue;
            }
            names.push(*name);
            let kind = types[usize::from(*kind)];
            let null = if *not_null { " not null" } else { "" };
            let default = if *default || *not_null { " default '7'" } else { "" };
            parts.insert(parts.len() - 1, format!("c{name} {kind}{default}{null}"));
        }
        all.push(format!("create table t{table}({})", parts.join(", ")));
        all.push(format!("insert into t{table}(id) values (1), (2)"));
        if *with_index {
            all.push(format!("create index i{table} on t{table}(c{})", names[0]));
            all.push(format!("create view v{table} as select id, c{} from t{table}", names[0]));
        }
    }
    all
}

/// Random structures, made alike one after the other: the one that was made is the left of the next.
fn walk(engine: &str, mut left: Box<dyn Session>, fresh: &mut dyn FnMut() -> Box<dyn Session>) {
    let mut runner = TestRunner::deterministic();
    for _ in 0..12 {
        let made = made().new_tree(&mut runner).unwrap().current();
        let mut right = fresh();
        for statement in statements(&made, engine) {
            run(right.as_mut(), &statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
        }
        made_alike(left.as_mut(), right.as_mut(), engine, [&Schemas::Own; 2]);
        // Something for the next one to keep.
        for (table, ..) in &made {
            let _ = run(left.as_mut(), &format!("insert into t{table}(id) values (1), (2)"));
        }
    }
}

#[test]
fn any_structure_is_made_like_any_other() {
    walk("sqlite", in_memory(), &mut in_memory);
    let (postgres, mariadb) = (Postgres::start(), Mariadb::start());
    mariadb.sql("grant all on *.* to clerk@localhost");
    let mut number = 0;
    let mut name = || {
        number += 1;
        format!("walk{number}")
    };
    for engine in ["postgres", "mysql"] {
        let mut open = || {
            let name = name();
            match engine {
                "postgres" => postgres.sql(&format!("create database {name}")),
                _ => mariadb.sql(&format!("create database {name}")),
            };
            of_server(engine, if engine == "postgres" { postgres.port } else { mariadb.port }, &name)
        };
        let left = open();
        walk(engine, left, &mut open);
    }
}

/// What is counted before a rule is made is what the server refuses.
#[test]
fn rows_in_the_way_are_those_that_the_server_refuses() {
    let (postgres, mariadb) = (Postgres::start(), Mariadb::start());
    mariadb.sql("create database rules");
    mariadb.sql("grant all on *.* to clerk@localhost");
    for (engine, mut session) in [
        ("postgres", of_server("postgres", postgres.port, "bookings")),
        ("mysql", of_server("mysql", mariadb.port, "rules")),
        ("sqlite", in_memory()),
    ] {
        for statement in [
            "create table ports(id int primary key, name varchar(20))",
            "create table routes(id int primary key, start int, code varchar(9), minutes int)",
            "insert into ports values (1, 'a')",
            "insert into routes values (1, 1, 'x', 5), (2, 7, 'x', null), (3, null, null, -1)",
        ] {
            run(session.as_mut(), statement).unwrap();
        }
        let not_null = |column: &str| match engine {
            "postgres" => format!("alter table routes alter column {column} set not null"),
            _ => format!("alter table routes modify {column} int not null"),
        };
        let mut statements = vec![
            ("create unique index u on routes(code)".to_owned(), 1),
            ("create unique index w on routes(minutes)".to_owned(), 0),
        ];
        if engine != "sqlite" {
            statements.extend([
                (not_null("minutes"), 1),
                (not_null("id"), 0),
                ("alter table routes add constraint c check (minutes > 0)".to_owned(), 1),
                ("alter table routes add check (id > 0)".to_owned(), 0),
                ("alter table routes add constraint n unique (code, start)".to_owned(), 0),
                ("alter table routes add constraint f foreign key (start) references ports (id)".to_owned(), 1),
                ("alter table ports add constraint p foreign key (id) references routes (id)".to_owned(), 0),
            ]);
        }
        for (statement, expected) in statements {
            let mut catalog = Catalog::default();
            let mut part = 0;
            while session.catalog(&CatalogPart::number(part), &mut catalog).unwrap() {
                part += 1;
            }
            catalog.complete();
            let rules = new_rules(&statement, &catalog, dialect(engine));
            let count = |query: &str, session: &mut dyn Session| {
                run(session, query).unwrap().rows()[0][0].parse::<u64>().unwrap()
            };
            let found: u64 = rules.iter().map(|rule| count(&rule.query, session.as_mut())).sum();
            assert_eq!(found, expected, "{engine}: {statement}: {rules:?}");
            // What is not nullable anyhow makes no rule.
            assert!(!rules.is_empty() || statement.contains(" id "), "{statement}");
            let refused = run(session.as_mut(), &statement).is_err();
            assert_eq!(refused, expected > 0, "{engine}: {statement}");
        }
    }
}

/// Two databases of SQL Server: columns that change their type, their default or whether they may be NULL, come and go;
/// keys and references that others hold; views, indexes, procedures, comments.
const SQLSERVER: [&[&str]; 2] = [
    &[
        "create table dbo.ports (id int not null, code nvarchar(10) not null, name nvarchar(40) null, berths int not null \
         constraint some_berths default 2, gone float null constraint gone_too default 0.5, tide int null, constraint PK_ports primary key (id), \
         constraint one_code unique (code), constraint enough check (berths > 0))",
        "create table dbo.routes (id int not null, port int null, constraint PK_routes primary key (id), \
         constraint to_port foreign key (port) references dbo.ports (id))",
        "create table dbo.gone (id int not null, port int null, constraint PK_gone primary key (id), \
         constraint gone_to_port foreign key (port) references dbo.ports (id))",
        "create index by_name on dbo.ports (name)",
        "create view dbo.busy as select name from dbo.ports where berths > 3",
        "create view dbo.old as select 1 as one",
        "create procedure dbo.tell as select 1",
        "exec sp_addextendedproperty 'MS_Description', N'where ferries berth', 'schema', 'dbo', 'table', 'ports'",
        "exec sp_addextendedproperty 'MS_Description', N'goes', 'schema', 'dbo', 'table', 'ports', 'column', 'code'",
        "exec sp_addextendedproperty 'MS_Description', N'with its column', 'schema', 'dbo', 'table', 'ports', 'column', 'gone'",
        "insert into dbo.ports (id, code, name, tide) values (1, N'SMQ', N'Saltmarsh', 3), (2, N'GUL', N'Gull''s Rest', null)",
        "insert into dbo.routes values (7, 1)",
    ],
    &[
        "create table dbo.ports (id int not null, code nvarchar(20) not null, name nvarchar(40) not null, berths bigint not null \
         default 4, tide int null constraint low default 0, [opened on] date null, constraint PK_ports primary key (id), \
         constraint enough check (berths > 1))",
        "create table dbo.routes (id int not null, port int null, constraint PK_routes primary key (id), \
         constraint to_port foreign key (port) references dbo.ports (id) on delete cascade)",
        "create table dbo.ferries (id int not null, route int null, constraint PK_ferries primary key (id), \
         constraint to_route foreign key (route) references dbo.routes (id))",
        "alter table dbo.routes with nocheck add constraint seldom check (port > 9)",
        "alter table dbo.ferries nocheck constraint to_route",
        "create index by_name on dbo.ports (name, berths desc)",
        "create view dbo.busy as select name from dbo.ports where berths > 5",
        "create view dbo.busier as select name from dbo.busy",
        "create procedure dbo.tell as begin select 1; print 'told'; end",
        "exec sp_addextendedproperty 'MS_Description', N'quays and piers', 'schema', 'dbo', 'table', 'ports'",
        "exec sp_addextendedproperty 'MS_Description', N'new', 'schema', 'dbo', 'table', 'ports', 'column', 'name'",
    ],
];

#[test]
fn sqlserver_is_made_alike_on_its_stand_in() {
    use jaunty_standins::tds::{Options, Server};
    let servers = [0, 1].map(|_| Server::start(Options::default()).unwrap());
    let mut sessions = [0, 1].map(|at: usize| {
        let mut session = office(&servers[at], Guard::Open);
        for statement in SQLSERVER[at] {
            run(session.as_mut(), statement).unwrap_or_else(|error| panic!("{statement}: {error}"));
        }
        session
    });
    let [left, right] = &mut sessions;
    let own = Schemas::Own;
    let (ours, theirs) = (structure(left.as_mut(), "sqlserver", &own), structure(right.as_mut(), "sqlserver", &own));
    insta::assert_snapshot!("sqlserver", told(&ours, &theirs).join("\n"));
    let made = make_alike(&ours, &theirs, &compare(&ours, &theirs, false)).unwrap();
    insta::assert_snapshot!("sqlserver_statements", made.script(dialect("sqlserver")));
    made_alike(left.as_mut(), right.as_mut(), "sqlserver", [&own; 2]);
    let rows = run(left.as_mut(), "select id, code, name, berths, tide, [opened on] from dbo.ports").unwrap().rows();
    assert_eq!(rows, [["1", "SMQ", "Saltmarsh", "2", "3", "∅"], ["2", "GUL", "Gull's Rest", "2", "∅", "∅"]]);
    assert!(left.location().transaction.is_none());
}
