//! Parts of a statement written another way: what `*` stands for, and columns with their tables before them.

use std::ops::Range;

use super::context::Surroundings;
use super::links::{Find, LOOKED_THROUGH, by_keys, by_names};
use super::names::{Means, names};
use super::scope::{Scope, VisibleSource};
use crate::catalog::templates;
use jaunty_language::dialect::Family;
use jaunty_language::statement::Written;
use jaunty_language::statement::shape::{Clause, Query, Shape, words};
use jaunty_seam::catalog::Object;

/// The `*` at or nearest after a byte of a query, and the columns that it stands for; none where there is none, or where
/// not all of them are known.
pub fn expand_star(text: &str, cursor: usize, around: Surroundings<'_>) -> Option<(Range<usize>, String)> {
    if around.dialect.family != Family::Sql {
        return None;
    }
    let shape = Shape::of(words(text, around.dialect, 0));
    let scope = Scope::new(&shape, around.catalog, around.dialect);
    let written = |name: &str| around.dialect.name_as_written(name);
    let mut best: Option<(usize, Range<usize>, String)> = None;
    for (number, query) in shape.queries.iter().enumerate() {
        for item in &query.items {
            let Some(star) = item.clone().next_back().filter(|at| shape.words.get(*at).is_some_and(|w| w.sign(b'*')))
            else {
                continue;
            };
            let owner = (item.len() > 2).then(|| shape.name_at(star - 2)).flatten();
            if item.len() > 1 && owner.is_none() {
                continue;
            }
            let (clause, _) = shape.clause_at(number, star);
            let sources: Vec<_> =
                scope.visible(number, clause).into_iter().filter(|source| source.outer == 0).collect();
            let wanted = sources
                .iter()
                .filter(|source| owner.as_ref().is_none_or(|o| o.means(&source.name.text, around.dialect)));
            let wanted: Vec<_> = wanted.collect();
            if wanted.is_empty() || wanted.iter().any(|source| source.unknown || source.columns.is_empty()) {
                continue;
            }
            let prefixed = sources.len() > 1 || owner.is_some();
            let columns = wanted.iter().flat_map(|source| {
                source.columns.iter().map(move |column| match prefixed && !source.name.text.is_empty() {
                    true => format!("{}.{}", written(&source.name.text), written(&column.name)),
                    false => written(&column.name),
                })
            });
            let list = columns.collect::<Vec<_>>().join(", ");
            let (Some(first), Some(last)) = (shape.words.get(item.start), shape.words.get(star)) else { continue };
            let range = first.range.start..last.range.end;
            let away =
                if range.contains(&cursor) { 0 } else { range.start.abs_diff(cursor).min(range.end.abs_diff(cursor)) };
            if best.as_ref().is_none_or(|(known, ..)| away < *known) {
                best = Some((away, range, list));
            }
        }
    }
    best.map(|(_, range, list)| (range, list))
}

/// The places of columns that stand without their table, and what is written there with it. None where a query has one
/// source only: nothing is gained.
pub fn qualify(text: &str, around: Surroundings<'_>) -> Vec<(Range<usize>, String)> {
    let shape = Shape::of(words(text, around.dialect, 0));
    let scope = Scope::new(&shape, around.catalog, around.dialect);
    let mut found = Vec::new();
    for name in names(text, around) {
        let Means::Column { source, name: _, .. } = &name.means else { continue };
        let Some(at) = shape.words.iter().position(|word| word.range == name.range) else { continue };
        if at > 0 && shape.words.get(at - 1).is_some_and(|w| w.sign(b'.')) {
            continue;
        }
        let query = shape.query_at(at);
        let visible = scope.visible(query, shape.clause_at(query, at).0);
        if visible.len() < 2 {
            continue;
        }
        // What more than one source has is left: only a person knows which is meant.
        let plain = text.get(name.range.clone()).unwrap_or_default();
        let holds = |s: &&VisibleSource| s.columns.iter().any(|c| c.name.eq_ignore_ascii_case(plain));
        let owner = visible.iter().find(|seen| seen.at == *source).filter(|seen| !seen.name.text.is_empty());
        if let Some(owner) = owner.filter(|_| visible.iter().filter(holds).count() == 1) {
            found.push((
                name.range.start..name.range.start,
                format!("{}.", around.dialect.name_as_written(&owner.name.text)),
            ));
        }
    }
    found
}

/// A join that a statement lacks: what to call it, where it goes, and what is written there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MissingJoin {
    /// The table.
    pub table: String,
    /// The byte that it goes to.
    pub at: usize,
    /// The join with its condition.
    pub text: String,
}

/// The joins that would bring in what the name at a byte is of: a table that is named before a dot and is none of the
/// sources, or those that have a column of that name, each where a foreign key leads to it or from it.
pub fn missing_joins(text: &str, cursor: usize, around: Surroundings<'_>) -> Vec<MissingJoin> {
    if around.dialect.family != Family::Sql {
        return Vec::new();
    }
    let (dialect, catalog) = (around.dialect, around.catalog);
    let shape = Shape::of(words(text, dialect, 0));
    let scope = Scope::new(&shape, catalog, dialect);
    let here = shape.words.iter().position(|word| word.range.start <= cursor && cursor <= word.range.end);
    let Some((at, name)) = here.and_then(|at| Some((at, shape.name_at(at)?))) else { return Vec::new() };
    let dot = |at: Option<usize>| at.and_then(|at| shape.words.get(at)).is_some_and(|word| word.sign(b'.'));
    let owner = match (dot(at.checked_sub(1)), dot(Some(at + 1))) {
        (true, _) => at.checked_sub(2).and_then(|at| shape.name_at(at)),
        (false, true) => Some(name.clone()),
        (false, false) => None,
    };
    let query = shape.query_at(at);
    let visible = scope.visible(query, shape.clause_at(query, at).0);
    let is_seen = |owner: &Written| visible.iter().any(|source| owner.means(&source.name.text, dialect));
    let has = |source: &VisibleSource| source.columns.iter().any(|column| name.means(&column.name, dialect));
    let known = match &owner {
        Some(owner) => is_seen(owner),
        None => dialect.is_keyword(&name.text) || visible.iter().any(|source| source.unknown || has(source)),
    };
    let Some(place) = shape.queries.get(query).and_then(|query| end_of_sources(&shape, query)).filter(|_| !known)
    else {
        return Vec::new();
    };
    let wanted = catalog.objects().iter().filter(|object| match &owner {
        Some(owner) => object.kind.has_rows() && owner.means(&object.name, dialect),
        None => object.columns.iter().any(|column| name.means(&column.name, dialect)),
    });
    let wanted: Vec<&Object> = wanted.collect();
    // Names are asked only where no foreign key leads there, and where that takes no time.
    let ways = if wanted.len() <= LOOKED_THROUGH { &[by_keys as Find, by_names][..] } else { &[by_keys as Find][..] };
    for links in ways {
        let mut found: Vec<MissingJoin> = Vec::new();
        for object in &wanted {
            let there = templates::name(object, catalog, dialect);
            let other = dialect.name_as_written(&object.name);
            for source in visible.iter().filter(|source| source.outer == 0) {
                let Some(from) = source.table.as_ref().and_then(|table| catalog.relation(table)) else { continue };
                let own = dialect.name_as_written(&source.name.text);
                for link in links(from, object) {
                    let condition = link.condition(&own, &other, " and ", |column| dialect.name_as_written(column));
                    let text = format!(" join {there} on {condition}");
                    let join = MissingJoin { table: object.name.clone(), at: place, text };
                    if !found.contains(&join) {
                        found.push(join);
                    }
                }
            }
        }
        if !found.is_empty() {
            return found;
        }
    }
    Vec::new()
}

/// The byte after the sources of a query and their conditions.
fn end_of_sources(shape: &Shape, query: &Query) -> Option<usize> {
    let last = query.sources.iter().map(|source| source.end).max()?;
    let goes_on = [Clause::From, Clause::On, Clause::Using];
    let next = query.clauses.iter().find(|(clause, at)| *at >= last && !goes_on.contains(clause));
    let mut end = next.map_or(query.words.end, |(_, at)| *at);
    // What ends the statement is none of it.
    while end > 0 && shape.words.get(end - 1).is_some_and(|word| word.sign(b';')) {
        end -= 1;
    }
    shape.words.get(end.checked_sub(1)?).map(|word| word.range.end)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::complete::tests::saltmarsh;
    use jaunty_language::dialect::SQLITE;

    fn changed(text: &str, edits: Vec<(Range<usize>, String)>) -> String {
        let mut text = text.to_owned();
        for (range, new) in edits.into_iter().rev() {
            text.replace_range(range, &new);
        }
        text
    }

    #[test]
    fn stars_are_written_out() {
        let catalog = saltmarsh();
        let around = Surroundings { catalog: &catalog, dialect: &SQLITE, snippets: &[], nearby: "" };
        for (text, expected) in [
            ("select * from ports", "select id, name, country, berths from ports"),
            (
                "select v.* from vessels v join ports p",
                "select v.id, v.name, v.capacity, v.mood from vessels v join ports p",
            ),
            (
                "select * from ops.shifts s, busy_ports b",
                "select s.crew_id, s.day, b.name from ops.shifts s, busy_ports b",
            ),
            ("select count(*) from ports", "select count(*) from ports"),
            ("select * from nowhere", "select * from nowhere"),
            ("select 2 * 3 from ports", "select 2 * 3 from ports"),
        ] {
            let edits = expand_star(text, 8, around).into_iter().collect();
            assert_eq!(changed(text, edits), expected);
        }
    }

    #[test]
    fn columns_get_their_tables() {
        let catalog = saltmarsh();
        let around = Surroundings { catalog: &catalog, dialect: &SQLITE, snippets: &[], nearby: "" };
        for (text, expected) in [
            (
                "select capacity, country, name from vessels v join ports on berths = v.id",
                "select v.capacity, ports.country, name from vessels v join ports on ports.berths = v.id",
            ),
            ("select name from ports", "select name from ports"),
        ] {
            assert_eq!(changed(text, qualify(text, around)), expected);
        }
    }

    #[test]
    fn joins_that_are_missing_are_found() {
        let catalog = saltmarsh();
        let around = Surroundings { catalog: &catalog, dialect: &SQLITE, snippets: &[], nearby: "" };
        let joined = |text: &str| -> Vec<String> {
            let cursor = text.find('|').unwrap();
            let text = text.replacen('|', "", 1);
            let found = missing_joins(&text, cursor, around);
            found.into_iter().map(|join| changed(&text, vec![(join.at..join.at, join.text)])).collect()
        };
        for (text, expected) in [
            (
                "select vessels.na|me from sailings s where s.id = 1",
                &["select vessels.name from sailings s join vessels on vessels.id = s.vessel_id where s.id = 1"][..],
            ),
            (
                "select capa|city from sailings join routes on routes.id = route_id order by 1",
                &[
                    "select capacity from sailings join routes on routes.id = route_id join vessels on vessels.id = sailings.vessel_id order by 1",
                ],
            ),
            // By either of two keys.
            (
                "select country| from routes r",
                &[
                    "select country from routes r join ports on ports.id = r.from_port_id",
                    "select country from routes r join ports on ports.id = r.to_port_id",
                ],
            ),
            (
                "select seats| from sailings",
                &["select seats from sailings join bookings on bookings.sailing_id = sailings.id"],
            ),
            // No foreign key leads there, and a name does.
            (
                "select vessels.mood|, c.name from ops.crew c",
                &["select vessels.mood, c.name from ops.crew c join vessels on vessels.id = c.vessel_id"],
            ),
            ("select na|me from ports", &[]),
            ("select nothing| from ports", &[]),
            ("select capacity| from nowhere", &[]),
            ("sel|ect 1", &[]),
        ] {
            assert_eq!(joined(text), expected, "{text}");
        }
    }
}
