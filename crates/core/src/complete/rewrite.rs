//! A statement written anew in part: what `*` stands for, and columns with their tables before them.

use std::ops::Range;

use super::context::Surroundings;
use super::names::{Means, names};
use super::scope::Scope;
use jaunty_language::dialect::Family;
use jaunty_language::statement::shape::{Shape, words};

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
        let holds = |s: &&super::scope::VisibleSource| s.columns.iter().any(|c| c.name.eq_ignore_ascii_case(plain));
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
}
