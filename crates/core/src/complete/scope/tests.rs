use super::*;
use crate::complete::tests::saltmarsh;
use jaunty_language::dialect::{POSTGRES, SQLITE};
use jaunty_language::statement::shape::words;

/// What the first query of a statement gives: each column with its type and where it comes from.
fn given(text: &str, dialect: &'static Dialect) -> String {
    let catalog = saltmarsh();
    let shape = Shape::of(words(text, dialect, 0));
    let scope = Scope::new(&shape, &catalog, dialect);
    let column = |seen: &Seen| match &seen.from {
        Some((table, column)) => format!("{} {} < {}.{column}", seen.name, seen.db_type, table.name),
        None => seen.name.clone(),
    };
    scope.given(0, 0).iter().map(column).collect::<Vec<_>>().join(", ")
}

#[test]
fn columns_are_followed_to_where_they_come_from() {
    for (text, expected) in [
        ("select id, name as n from ports", "id integer < ports.id, n text < ports.name"),
        (
            "select p.name, upper(p.name) big, p.berths + 1 more, 7 seven from ports p",
            "name text < ports.name, big, more, seven",
        ),
        (
            "select v.* from ports p join vessels v on true",
            "id integer < vessels.id, name text < vessels.name, capacity integer < vessels.capacity, mood mood < vessels.mood",
        ),
        (
            "with x(a) as (select id from ports), y as (select a as b, 1 as one from x) select * from y",
            "b integer < ports.id, one",
        ),
        ("select q.i from (select id as i from (select * from ports) deep) q", "i integer < ports.id"),
        ("select \"Paid_At\" from bookings", "Paid_At timestamptz < bookings.Paid_At"),
        ("select case when id > 1 then 'a' end as c, count(*) from ports", "c, count"),
        ("select id from nowhere", "id"),
        ("select name from ports union select 1", "name text < ports.name"),
        (
            "with recursive up as (select id, 1 as depth from ports union all select id, depth + 1 from up) select * from up",
            "id integer < ports.id, depth",
        ),
    ] {
        assert_eq!(given(text, &POSTGRES), expected, "{text}");
    }
}

#[test]
fn a_query_that_refers_to_itself_for_ever_ends() {
    assert_eq!(given("with a as (select * from a) select * from a", &SQLITE), "");
    assert_eq!(given("with a as (select * from b), b as (select * from a) select * from b", &SQLITE), "");
}

#[test]
fn what_is_seen_from_inside_and_from_the_parts_of_an_insert() {
    let catalog = saltmarsh();
    let names = |text: &str, query: usize, clause: Clause| {
        let shape = Shape::of(words(text, &POSTGRES, 0));
        let scope = Scope::new(&shape, &catalog, &POSTGRES);
        let all = scope.visible(query, clause);
        all.iter().map(|s| format!("{}{}", s.name.text, "+".repeat(s.outer))).collect::<Vec<_>>().join(" ")
    };
    let inner = "select 1 from ports p where exists (select 1 from vessels v, routes)";
    assert_eq!(names(inner, 0, Clause::Where), "p");
    assert_eq!(names(inner, 1, Clause::Where), "v routes p+");
    let insert = "insert into ports select id from vessels on conflict (id) do update set name = 'x' returning id";
    assert_eq!(names(insert, 0, Clause::Select), "vessels excluded+");
    assert_eq!(names(insert, 0, Clause::Set), "ports excluded+");
}
