use super::*;
use crate::complete::tests::{of_a_server, saltmarsh};
use jaunty_language::dialect;
use jaunty_language::statement::made::made_in;

fn found(name: &str, text: &str) -> Vec<String> {
    let catalog = if name == "sqlserver" { of_a_server() } else { saltmarsh() };
    let dialect = dialect::by_name(name).unwrap();
    let around = Surroundings { catalog: &catalog, dialect, snippets: &[], nearby: "" };
    let made = made_in("create temp table scratch (a int); alter table x rename to harbours", dialect);
    let all = problems(text, around, &made);
    let shown = |p: Problem| {
        let near = if p.near.is_empty() { String::new() } else { format!(" ({})", p.near.join(", ")) };
        format!("{}: {}{near}", &text[p.range], p.message)
    };
    all.into_iter().map(shown).collect()
}

#[test]
fn words_of_other_languages_are_told() {
    for (name, text, expected) in [
        ("sqlite", "select name, now() from ports", "now: now isn't supported here; instead: datetime('now')"),
        (
            "sqlite",
            "show tables",
            "show tables: show tables isn't supported here; instead: select name from sqlite_schema where type = 'table'",
        ),
        (
            "postgres",
            "select top 5 name from ports",
            "top: top isn't supported here; instead: limit 9, at the end of the statement",
        ),
    ] {
        assert_eq!(found(name, text), [expected]);
    }
    let found = found("postgres", "select * from ports where country = \"Aldermere\"");
    let expected = "\"Aldermere\": no column Aldermere in the tables of this statement; text stands in single quotes ('Aldermere')";
    assert_eq!(found, [expected]);
    // Somebody's own.
    let mut catalog = saltmarsh();
    catalog.object("public", "now", jaunty_seam::catalog::ObjectKind::Function);
    let around =
        Surroundings { catalog: &catalog, dialect: dialect::by_name("sqlite").unwrap(), snippets: &[], nearby: "" };
    assert!(problems("select now() from ports", around, &Default::default()).is_empty());
}

#[test]
fn what_is_compared_is_a_text_where_no_column_is_near() {
    for (text, expected) in [
        ("select * from ports where country = Aldermere", &["Aldermere ('Aldermere')"][..]),
        ("select * from ports where country in (Aldermere, 'x')", &["Aldermere ('Aldermere')"]),
        ("select * from ports where country = contry", &["contry (country)"]),
        ("select Aldermere from ports", &["Aldermere"]),
        ("select * from ports where country = Aldermere || 'x'", &["Aldermere"]),
    ] {
        let told: Vec<String> = found("postgres", text)
            .into_iter()
            .map(|told| told.replacen(&told[told.find(':').unwrap()..told.find(" (").unwrap_or(told.len())], "", 1))
            .collect();
        assert_eq!(told, expected, "{text}");
    }
}

#[test]
fn what_stands_before_a_point_is_looked_for_where_a_server_refuses() {
    let mut catalog = saltmarsh();
    let kind = jaunty_seam::catalog::ObjectKind::Table;
    let path = catalog.path.first().cloned().unwrap_or_default();
    let extra = jaunty_seam::catalog::Column { name: "extra".into(), db_type: "jsonb".into(), ..Default::default() };
    let id = jaunty_seam::catalog::Column { name: "id".into(), db_type: "int".into(), ..Default::default() };
    catalog.object(&path, "crew", kind).columns = vec![id, extra];
    catalog.complete();
    for (name, text, wanted) in [
        ("postgres", "select a.id from crew b", &["a: b"][..]),
        ("postgres", "select a.id from crew", &["a: crew"]),
        ("postgres", "select b.id, c.id from crew b join ports p on true", &[]),
        ("postgres", "select id from crew where extra.n = 1", &["extra.n: extra->>'n'"]),
        ("mysql", "select id from crew where extra.n = 1", &["extra.n: json_value(extra, '$.n')"]),
        ("postgres", "select id from crew where id.n = 1", &[]),
        ("postgres", "select b.id from crew b where exists (select 1 from ports p where p.id = b.id)", &[]),
    ] {
        let dialect = dialect::by_name(name).unwrap();
        let around = Surroundings { catalog: &catalog, dialect, snippets: &[], nearby: "" };
        let shown = |p: Problem| format!("{}: {}", &text[p.range.clone()], p.near.join(", "));
        let told: Vec<String> = elsewhere(text, around).into_iter().map(shown).collect();
        assert_eq!(told, wanted, "{text}");
    }
}

#[test]
fn tables_of_other_schemas_are_meant_where_a_server_refuses() {
    let mut catalog = saltmarsh();
    let kind = jaunty_seam::catalog::ObjectKind::Table;
    catalog.object("ops", "Watches", kind);
    let dialect = dialect::by_name("postgres").unwrap();
    let around = Surroundings { catalog: &catalog, dialect, snippets: &[], nearby: "" };
    let told = |text: &str| -> Vec<String> {
        let shown = |p: Problem| format!("{}: {}", &text[p.range.clone()], p.near.join(", "));
        elsewhere(text, around).into_iter().map(shown).collect()
    };
    for (text, wanted) in [
        ("select * from watches", &["watches: ops.\"Watches\""][..]),
        ("update watches set a = 1", &["watches: ops.\"Watches\""]),
        ("select * from harbour.watches s", &["harbour.watches: ops.\"Watches\""]),
        ("select * from ports p join watches s on true", &["watches: ops.\"Watches\""]),
        ("select * from ops.\"Watches\"", &[]),
        ("with watches as (select 1) select * from ports", &[]),
        ("select * from nothing", &[]),
    ] {
        assert_eq!(told(text), wanted, "{text}");
        // Until a server says so nothing is wrong with it: plain names may reach there when it runs.
        assert!(problems(text, around, &HashSet::from(["nothing".to_owned()])).is_empty(), "{text}");
    }
    let refused = EngineError::new(ErrorKind::Refused, "relation \"watches\" does not exist").at(Some(14));
    let problem = Problem::refused(&refused, "select * from watches", around);
    assert_eq!(problem.sentence(), "relation \"watches\" does not exist · did you mean ops.\"Watches\"?");
    assert_eq!(problem.instead(&problem.near[0], dialect), "ops.\"Watches\"");
    let lost = EngineError::new(ErrorKind::Lost, "the server is gone").at(Some(14));
    assert!(Problem::refused(&lost, "select * from watches", around).near.is_empty());
}

#[test]
fn near_names_are_of_the_schema_and_of_what_a_definition_is_about() {
    let catalog = saltmarsh();
    let around =
        Surroundings { catalog: &catalog, dialect: dialect::by_name("postgres").unwrap(), snippets: &[], nearby: "" };
    let near = |text: &str| {
        let found = problems(text, around, &HashSet::new()).into_iter().chain(elsewhere(text, around));
        let shown = found.map(|problem| format!("{} {}", &text[problem.range.clone()], problem.near.join(" ")));
        shown.collect::<Vec<_>>().join(", ")
    };
    assert_eq!(near("select * from public.vesels"), "vesels vessels");
    assert_eq!(near("truncate table vesels"), "vesels vessels");
    assert_eq!(near("truncate vesels"), "vesels vessels");
    assert_eq!(near("drop table if exists public.vesels cascade"), "vesels vessels");
    assert_eq!(near("alter table only vesels add column a int"), "vesels vessels");
    assert_eq!(near("analyze vesels"), "vesels vessels");
    for right in
        ["drop table vessels", "drop function vesels", "analyze", "alter role vesels login", "drop table public.zebra"]
    {
        assert_eq!(near(right), "", "{right}");
    }
}

#[test]
fn what_is_wrong_is_told_where_it_stands() {
    for (text, expected) in [
        ("select * from port", "port: no table or view named \"port\" (ports)"),
        ("select * from ops.crews", "crews: no table or view named \"crews\""),
        ("select nmae from ports", "nmae: no column nmae in the tables of this statement (name)"),
        ("select p.nmae from ports p", "nmae: p has no column nmae (name)"),
        ("select * from ports where berth > 2", "berth: no column berth in the tables of this statement (berths)"),
        ("select * from ports p join vessels v on p.id = v.port", "port: v has no column port"),
        (
            "select name from ports p, vessels v where p.id = 1",
            "name: ambiguous column name: in p and in v (p.name, v.name)",
        ),
        (
            "update ports set name = 'x' where contry = 'y'",
            "contry: no column contry in the tables of this statement (country)",
        ),
        ("delete from bokings", "bokings: no table or view named \"bokings\" (bookings)"),
        ("with x as (select id from ports) select nme from x", "nme: no column nme in the tables of this statement"),
        (
            "select * from ports where id in (select prt from routes)",
            "prt: no column prt in the tables of this statement",
        ),
        ("select (1 + 2", "(: this parenthesis never closes"),
        ("select 1 + 2)", "): this parenthesis has no opening one"),
        ("select 'open", "'open: this quote never closes"),
        ("select 1 /* open", "/* open: this comment never closes"),
        ("select \"open\nfrom ports", "\"open: this quoted name never closes"),
        ("select * from ports order by nam", "nam: no column nam in the tables of this statement (name)"),
    ] {
        for name in ["sqlite", "postgres"] {
            let found = found(name, text);
            assert!(found.first().is_some_and(|first| first.starts_with(expected)), "{name}: {text}: {found:?}");
        }
    }
}

#[test]
fn names_of_other_databases_are_judged_by_what_was_read_there() {
    for (text, expected) in [
        ("select * from archive.dbo.ticket", &["ticket: no table or view named \"ticket\" in archive (tickets)"][..]),
        ("select * from archive..routes", &["routes: no table or view named \"routes\" in archive"]),
        ("select t.country from archive.dbo.ports t", &["country: t has no column country"]),
        ("select fares from archive.dbo.tickets", &["fares: no column fares in the tables of this statement (fare)"]),
        ("select * from ferry.ops.crews", &["crews: no table or view named \"crews\""]),
        ("select fare from archive.dbo.tickets t join ferry.public.ports p on p.id = t.id", &[]),
        // Nothing was read of these.
        ("select x from [ledger 2025].dbo.entries", &[]),
        ("select x from elsewhere.dbo.ports", &[]),
        ("select x from far.archive.dbo.ports", &[]),
        ("select x from archive.sys.objects", &[]),
    ] {
        let found = found("sqlserver", text);
        assert_eq!(found.len(), expected.len(), "{text}: {found:?}");
        for (found, expected) in found.iter().zip(expected) {
            assert!(found.starts_with(expected), "{text}: {found}");
        }
    }
}

/// Statements that a server takes: none may be marked.
#[test]
fn nothing_is_said_about_what_could_be_meant() {
    for text in [
        "select 1",
        "select * from ports",
        "select p.*, upper(name) as big from ports p where p.id > 1 order by big",
        "select name n from ports group by n having count(*) > 1 order by n",
        "select country, count(*) c from ports group by country order by c desc",
        "with x as (select id, name from ports) select x.name from x where id = 1",
        "with recursive up(n) as (select 1 union all select n + 1 from up where n < 9) select n from up",
        "select * from (select id as a from ports) q where q.a = 1",
        "select s.id from sailings s where exists (select 1 from bookings b where b.sailing_id = s.id and seats > 1)",
        "select id from ports union select id from vessels order by id",
        "with recursive up(n) as (select 1 union all select n + 1 from up) search depth first by n set seq select * from up order by seq",
        "with recursive up as (select 0 as n union all select n + 1 from up where not looped) cycle n set looped using way, other as (select way from up) select looped, n from up, other",
        "select * from ports p, lateral (select p.id, s.id as other from sailings s limit 1) a, lateral (select a.* from vessels v) b where b.other = 1",
        "select * from scratch",
        "select * from harbours",
        "select * from unknown_schema.things",
        "select rowid, * from ports",
        "select current_date, current_timestamp from ports",
        "select case when berths > 2 then 'many' else country end as size from ports",
        "select sum(seats) over (partition by sailing_id order by id) from bookings",
        "select row_number() over w from bookings window w as (order by id)",
        "select * from ports natural join vessels where name = 'x'",
        "select name from ports join vessels using (name)",
        "insert into ports (id, name) values (1, 'x')",
        "insert into ports (id, name) select id, name from vessels",
        "update ports set name = upper(name) where id = 1",
        "select ports from ports",
        "select count(distinct country) from ports",
        "select name from ports where name like 'a%' escape '!'",
        "select date '2031-01-01', name from ports",
        "select * from ports where name = :name and id = ?",
        "select Name, COUNTRY from Ports",
        "select * from ops.crew c where c.name = 'x'",
        "select * from crew",
        "explain select name from ports",
        "select (select max(departs) from sailings where vessel_id = v.id) as latest from vessels v",
        "select id, tide(id, 2) t from ports where tide(id, 2) > 1",
        "values (1, 2), (3, 4)",
        "select * from ports limit 10 offset 2",
        "select p.name, v.name, r.id from ports p join vessels v on v.id = p.id, routes r where r.id = 1",
        "select country from ports p join vessels v on v.id = p.id, (select 1 as one) x where x.one = 1",
        "select sum(seats) over (order by id rows between unbounded preceding and current row) from bookings",
        "select sum(seats) over (w range between 1 preceding and 2 following) from bookings window w as (order by id)",
        "select id from ports where id in ((select id from vessels) union select id from routes)",
        "select id from ports where id in (((select id from vessels)))",
        "select * from (ports p join vessels v on v.id = p.id) as both",
        "insert into ports (id) with s as (select id as n from vessels) select n from s where n > 1",
        "insert into ports with s(n) as (select id from vessels) select n, n, n from s where n > 1",
    ] {
        for name in ["sqlite", "postgres", "mysql"] {
            assert_eq!(found(name, text), Vec::<String>::new(), "{name}: {text}");
        }
    }
    for (name, text) in [
        ("sqlite", "select \"a text\" from ports"),
        ("sqlite", "select * from sqlite_master"),
        ("sqlite", "select value from json_each('[1]')"),
        ("sqlite", "select j.value from ports, json_each(ports.name) j"),
        ("mysql", "select 1 as best from (select 1) as one having (select best) = 1"),
        ("mysql", "select straight_join sql_no_cache v.name from ports p, vessels v where p.id = v.id group by v.name"),
        ("mysql", "select name from ports ignore index for join (primary, by_name)"),
        (
            "mysql",
            "select name from ports use index for group by (by_name) use index for order by (by_name) group by name",
        ),
        ("postgres", "select extract(day from departs) from sailings"),
        ("postgres", "select name::text, cast(id as bigint) from ports"),
        ("postgres", "select n from generate_series(1, 3) n"),
        ("postgres", "select * from pg_stat_activity where state = 'active'"),
        ("postgres", "select departs at time zone 'UTC' from sailings"),
        ("postgres", "select departs + interval '1 day' from sailings"),
        ("postgres", "insert into ports (id) values (1) on conflict (id) do update set name = excluded.name"),
        ("postgres", "select distinct on (country) country, name from ports order by country, id"),
        ("postgres", "select array_agg(name order by name) filter (where berths > 1) from ports"),
        ("postgres", "select * from ports p cross join lateral (select p.id + 1 as n) x where x.n > 1"),
        ("postgres", "select make_interval(days => 3), name from ports"),
        ("postgres", "select country, count(*) from ports group by country order by count"),
        ("postgres", "select x.count from (select count(*) from ports) x where x.count > 1"),
        ("postgres", "select x.n, x.max from (select max(id), 1 as n from ports) x where x.max > 1"),
        ("postgres", "select x.int4 from (select 7::int4 from ports) x where int4 > 1"),
        ("postgres", "select U&'d\\0061t' as t, name from ports"),
        ("postgres", "select timestamp with time zone '2031-03-01 12:00+02', name from ports"),
        ("postgres", "select make_date(year => 2031, month => 3, day => 1), name from ports"),
        (
            "postgres",
            "select * from rows from (generate_series(1, 2), generate_series(1, 3)) as both(a, b) where a > 1",
        ),
        (
            "postgres",
            "insert into ports (id) values (1) on conflict (id) where berths > 1 do update set name = 'x' where ports.id > 1",
        ),
        (
            "postgres",
            "insert into ports select id from vessels v on conflict (id) do update set name = excluded.name where ports.berths > 1",
        ),
        ("postgres", "select xmlserialize(content name as text) from ports"),
        ("postgres", "select p.id from ports p join routes r on name = 'x' join vessels v on v.id = p.id"),
        ("mysql", "select sql_cache id, name from ports"),
        ("mysql", "select id, name from ports partition (p1, p2) where id > 1 order by id"),
        ("mysql", "select id from ports p order by id lock in share mode skip locked"),
        ("mysql", "select _utf16 0x41, name from ports"),
        ("mysql", "select _latin1'a', name from ports"),
        ("mysql", "select timestampdiff(day, departs, now()) from sailings"),
        ("mysql", "select date_add(departs, interval 1 day) from sailings"),
        ("mysql", "select @x := 1, name from ports"),
        ("mysql", "select * from seq_1_to_10"),
        ("mysql", "select group_concat(name order by id separator ', ') from ports"),
        ("mysql", "select 1 from dual"),
    ] {
        assert_eq!(found(name, text), Vec::<String>::new(), "{name}: {text}");
    }
}
