use proptest::prelude::*;

use crate::dialect::{DIALECTS, SQLITE};
use crate::statement::shape::*;

/// The queries of a statement: their sources, selected expressions and clauses, one line each.
fn shown(text: &str) -> String {
    let shape = Shape::of(words(text, &SQLITE, 0));
    let name = |path: &[Written]| path.iter().map(|name| name.text.as_str()).collect::<Vec<_>>().join(".");
    let mut lines = Vec::new();
    for (number, query) in shape.queries.iter().enumerate() {
        let sources = query.sources.iter().map(|source| {
            let origin = match &source.origin {
                Origin::Named(path) => name(path),
                Origin::Query(number) => format!("#{number}"),
                Origin::Function(name) => format!("{name}()"),
            };
            let alias = source.alias.as_ref().map(|alias| format!(" {}", alias.text)).unwrap_or_default();
            let columns =
                if source.columns.is_empty() { String::new() } else { format!("({})", source.columns.join(" ")) };
            format!("{origin}{alias}{columns}")
        });
        let ctes = query.ctes.iter().map(|cte| format!("{}=#{}", cte.name.text, cte.query.map_or(-1, |n| n as i64)));
        let clauses = query.clauses.iter().map(|(clause, _)| format!("{clause:?}"));
        let join = |all: Vec<String>| all.join(", ");
        lines.push(format!(
            "#{number} in {} | with {} | from {} | {} selected | {}",
            query.around.map_or("none".into(), |n| format!("#{n}")),
            join(ctes.collect()),
            join(sources.collect()),
            query.items.len(),
            join(clauses.collect())
        ));
    }
    lines.join("\n")
}

#[test]
fn statements_are_taken_apart() {
    let mut all = String::new();
    for text in [
        "select a, f(b, c) as d from t as x, s.u y where a in (select b from v) group by a having 1 order by a limit 1",
        "with recursive a(n, m) as (select 1 union all select n from a), b as not materialized (select 2) select * from a join b on a.n = b.n",
        "select * from (t1 join t2 on t1.a = t2.a) left join (select 1 as one) q using (a), lateral f(1) as g(x, y)",
        "insert into t (a, b) select a, b from u on conflict (a) do update set b = excluded.b returning a, b",
        "update t x set a = 1, b = (select max(c) from u) from v where x.a = v.a",
        "delete from t using u where t.a = u.a returning *",
        "select distinct x from a union select y from b except select z from c",
        "explain query plan select 1 from t",
        "create view v as with a as (select 1) select * from a",
        "replace into t values (1), (2)",
        "select count(*) filter (where a > 1) over (partition by b order by c) from t",
        "select case when exists (select 1 from u) then 1 else 2 end from t",
        "select 1 from a..b x join c.d.e on 1 = 1, f..g, h.. i",
        // Not finished, or broken.
        "select a, from t where",
        "select * from t join",
        "select (a, (b from t",
        "from t select",
        "with a as (select 1",
        "",
    ] {
        all.push_str(&format!("{text}\n{}\n\n", shown(text)));
    }
    insta::assert_snapshot!(all);
}

#[test]
fn the_innermost_query_and_its_clause_are_found() {
    let text = "select a from t where b in (select c from u where d = 1) order by e";
    let shape = Shape::of(words(text, &SQLITE, 0));
    let at = |part: &str| {
        let byte = text.find(part).unwrap();
        let token = shape.words.iter().position(|w| w.range.start >= byte).unwrap();
        let query = shape.query_at(token);
        (query, shape.clause_at(query, token).0)
    };
    assert_eq!(at("a from"), (0, Clause::Select));
    assert_eq!(at("t where"), (0, Clause::From));
    assert_eq!(at("c from"), (1, Clause::Select));
    assert_eq!(at("d = 1"), (1, Clause::Where));
    assert_eq!(at("e"), (0, Clause::Select), "the first e is in select");
    assert_eq!(at("by e"), (0, Clause::OrderBy));
}

#[test]
fn deep_nesting_does_not_use_up_the_stack() {
    for open in ["(", "(select ", "select * from (", "with a as ("] {
        let shape = Shape::of(words(&open.repeat(20_000), &SQLITE, 0));
        assert!(!shape.queries.is_empty(), "{open}");
    }
}

proptest! {
    /// Whatever is written: ranges lie within the statement, and queries within those around them.
    #[test]
    fn what_is_found_lies_within_the_statement(text in "(select|from|where|join|left join|on|with|as|insert into|values|update|set|delete from|union all|group by|order by|lateral|\\(|\\)|,|\\.|a|b|t1|=|\\*|1|'x'| |\n){0,50}") {
        for dialect in DIALECTS.iter() {
            let shape = Shape::of(words(&text, dialect, 0));
            let end = shape.words.len();
            for query in &shape.queries {
                prop_assert!(query.words.end <= end && query.words.start <= query.words.end);
                prop_assert!(query.around.is_none_or(|n| n < shape.queries.len()));
                prop_assert!(query.target.is_none_or(|n| n < query.sources.len()));
                for source in &query.sources {
                    prop_assert!(source.at <= source.end && source.end <= end);
                }
                for item in &query.items {
                    prop_assert!(item.start <= item.end && item.end <= end);
                }
                for pair in query.clauses.windows(2) {
                    prop_assert!(pair[0].1 < pair[1].1);
                }
            }
            for at in 0..=end {
                let query = shape.query_at(at);
                prop_assert!(query < shape.queries.len());
                shape.clause_at(query, at);
            }
        }
    }
}
