//! What is wrong with a statement of SQL: by its quotes and parentheses, and by the tables and columns that the catalog
//! knows. A statement that the server would take must not be marked: where a name could mean something that is not known
//! here, nothing is said.

use std::collections::HashSet;

use jaunty_language::dialect::Dialect;
use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::Written;
use jaunty_language::statement::habits::{Habit, habit_in};
use jaunty_language::statement::shape::{Clause, Origin, Shape, Word, words};
use jaunty_seam::catalog::Catalog;
use ropey::Rope;

use super::Problem;
use super::omitted::is_compared;
use crate::complete::Surroundings;
use crate::complete::context::expects_operand;
use crate::complete::scope::{Scope, VisibleSource};

/// What is wrong with it. `made` are names that the text around makes or could make.
pub fn problems(text: &str, around: Surroundings<'_>, made: &HashSet<String>) -> Vec<Problem> {
    let mut found = Vec::new();
    let all = words(text, around.dialect, 0);
    let whole_statement = |word: &str| all.first().is_some_and(|first| first.is(word));
    lexical(text, around.dialect, &all, &mut found);
    // A function of that name may be somebody's own.
    let is_own = |habit: &Habit| {
        let lower = habit.word.to_lowercase();
        around.catalog.named(&lower).next().or_else(|| around.catalog.routines_named(&lower).next()).is_some()
    };
    let habit = habit_in(text, &all, around.dialect).filter(|habit| found.is_empty() && !is_own(habit));
    found.extend(habit.map(|habit| Problem::new(habit.range.clone(), habit.sentence())));
    // What cannot be read to its end cannot be judged, and definitions have rules of their own.
    let judged = ["SELECT", "WITH", "INSERT", "UPDATE", "DELETE", "REPLACE", "EXPLAIN", "VALUES"];
    if found.is_empty() && judged.iter().any(|word| whole_statement(word)) && !around.catalog.objects().is_empty() {
        let shape = Shape::of(all);
        let scope = Scope::new(&shape, around.catalog, around.dialect);
        let judge = Judge { text, scope, made };
        judge.tables(&mut found);
        if found.is_empty() && around.catalog.missing.is_none() {
            judge.columns(&mut found);
        }
    }
    found.sort_by_key(|problem| problem.range.start);
    found
}

/// Quotes and parentheses.
fn lexical(text: &str, dialect: &'static Dialect, all: &[Word], found: &mut Vec<Problem>) {
    let rope = Rope::from_str(text);
    for token in jaunty_language::lexer::Lexer::new(&rope, dialect, 0).filter(|token| !token.closed) {
        let what = match token.kind {
            TokenKind::Comment => "this comment never closes",
            TokenKind::QuotedName => "this quoted name never closes",
            _ => "this quote never closes",
        };
        let end = text.get(token.start..).and_then(|rest| rest.find('\n')).map_or(token.end, |at| token.start + at);
        found.push(Problem::new(token.start..end.max(token.start + 1), what));
    }
    let mut open = Vec::new();
    for word in all {
        if word.sign(b'(') {
            open.push(word);
        } else if word.sign(b')') && open.pop().is_none() {
            let message = "this parenthesis has no opening one";
            found.push(Problem::new(word.range.clone(), message));
        }
    }
    // In the middle of writing the last ones are still to be closed; one is told, not all.
    if let Some(word) = open.first() {
        let message = "this parenthesis never closes";
        found.push(Problem::new(word.range.clone(), message));
    }
}

/// The tables and views whose names are near to one that is not there: of the schema that it is written with, or of those
/// where plain names reach.
pub(super) fn near_tables(
    name: &Written,
    schema: Option<&Written>,
    catalog: &Catalog,
    dialect: &Dialect,
) -> Vec<String> {
    let is_meant = |of: &str| schema.map_or_else(|| catalog.is_in_path(of), |schema| schema.means(of, dialect));
    let relations = catalog.objects().iter().filter(|o| o.kind.has_rows() && is_meant(&o.schema));
    nearest(&name.text, relations.map(|o| o.name.as_str()))
}

struct Judge<'a> {
    text: &'a str,
    scope: Scope<'a>,
    made: &'a HashSet<String>,
}

impl Judge<'_> {
    fn catalog(&self) -> &Catalog {
        self.scope.catalog
    }

    /// Tables that nobody knows.
    fn tables(&self, found: &mut Vec<Problem>) {
        for (number, query) in self.scope.shape.queries.iter().enumerate() {
            for source in &query.sources {
                let Origin::Named(path) = &source.origin else { continue };
                if self.is_known(number, path) {
                    continue;
                }
                let Some(name) = path.last().filter(|name| !name.text.is_empty()) else { continue };
                let Some(word) = self.scope.shape.words.get(source.name_at) else { continue };
                let there = self.holder(path);
                let schema = path.len().checked_sub(2).and_then(|at| path.get(at));
                let schema = schema.filter(|schema| !schema.text.is_empty());
                let near = near_tables(name, schema, there, self.scope.dialect);
                let elsewhere = (there.database != self.catalog().database).then(|| format!(" in {}", there.database));
                let message = format!("no table or view named \"{}\"{}", name.text, elsewhere.unwrap_or_default());
                found.push(Problem { near, ..Problem::new(word.range.clone(), message) });
            }
        }
    }

    fn is_known(&self, query: usize, path: &[Written]) -> bool {
        let dialect = self.scope.dialect;
        if self.scope.relation(path).is_some() {
            return true;
        }
        let Some(name) = path.last() else { return true };
        if dialect.is_own_name(&name.text) {
            return true;
        }
        match path {
            [_, _, _, _, ..] => return true,
            [database, schema, _] => return self.is_known_elsewhere(database, schema, path),
            _ => {}
        }
        if self.catalog().temporary.contains(&name.text.to_lowercase()) {
            return true;
        }
        if let [schema, _] = path {
            // A schema that is not in the catalog may be the server's own.
            let schemas = self.catalog().schemas();
            return dialect.own_schemas.contains(&schema.text.to_lowercase().as_str())
                || !schemas.iter().any(|known| schema.means(known, dialect))
                || self.made.contains(&name.text.to_lowercase());
        }
        let lower = name.text.to_lowercase();
        // What triggers and rules have.
        let given = ["inserted", "deleted", "information_schema"];
        // Other schemas may be on the path by the time it runs.
        let elsewhere = self.catalog().named(&lower).next().is_some();
        let cte = self.scope.ctes(query).iter().any(|cte| name.means(&cte.name.text, dialect));
        // What the server has of its own is not listed, and may be where plain names reach.
        let in_own =
            self.catalog().path.iter().any(|schema| dialect.own_schemas.contains(&schema.to_lowercase().as_str()));
        cte || elsewhere
            || in_own
            || self.made.contains(&lower)
            || given.iter().chain(dialect.own_prefixes).any(|prefix| lower.starts_with(prefix))
            || matches!(
                lower.as_str(),
                "dual"
                    | "new"
                    | "old"
                    | "excluded"
                    | "json_each"
                    | "json_tree"
                    | "generate_series"
                    | "dbstat"
                    | "values"
            )
    }

    /// Whether a table of another database is there, or nothing is known of its schema.
    fn is_known_elsewhere(&self, database: &Written, schema: &Written, path: &[Written]) -> bool {
        let (catalog, dialect) = (self.catalog(), self.scope.dialect);
        let there = self.holder(path);
        if there.missing.is_some() || !database.means(&there.database, dialect) {
            return true;
        }
        let has_schema = there.schemas().iter().any(|known| schema.text.is_empty() || schema.means(known, dialect));
        !has_schema || self.scope.relation(path).is_some() || catalog.relation_elsewhere(path, dialect).is_some()
    }

    /// What is known of the database that a path leads into; of the one in hand if it says none, or an unknown one.
    fn holder(&self, path: &[Written]) -> &Catalog {
        let [database, _, _] = path else { return self.catalog() };
        self.catalog().other(database, self.scope.dialect).unwrap_or(self.catalog())
    }

    /// Columns that no source has, where all that a query can see is known.
    fn columns(&self, found: &mut Vec<Problem>) {
        let shape = self.scope.shape;
        for at in 0..shape.words.len() {
            let Some(word) = shape.words.get(at) else { break };
            if !matches!(word.kind, TokenKind::Word | TokenKind::QuotedName) {
                continue;
            }
            let query = shape.query_at(at);
            let (clause, from) = shape.clause_at(query, at);
            let expression = matches!(
                clause,
                Clause::Select | Clause::Where | Clause::On | Clause::Having | Clause::GroupBy | Clause::OrderBy
            );
            if !expression || at <= from {
                continue;
            }
            let Some(name) = shape.name_at(at) else { continue };
            if let Some(problem) = self.column(query, clause, at, &name) {
                found.push(problem);
            }
        }
    }

    fn column(&self, query: usize, clause: Clause, at: usize, name: &Written) -> Option<Problem> {
        let shape = self.scope.shape;
        let dialect = self.scope.dialect;
        let word = shape.words.get(at)?;
        let back = |by: usize| at.checked_sub(by).and_then(|at| shape.words.get(at));
        let next = shape.words.get(at + 1);
        let calls = next.is_some_and(|w| w.sign(b'(') || w.sign(b'.'));
        // `date '2031-01-01'`, `:name`, `x => 1`, `U&'…'`, `_utf16 0x41`, `timestamp with time zone '…'`.
        let then = shape.words.get(at + 2);
        let adjoin = |a: Option<&Word>, b: Option<&Word>| a.zip(b).is_some_and(|(a, b)| a.range.end == b.range.start);
        let goes_on = next.is_some_and(|w| {
            matches!(w.kind, TokenKind::Text | TokenKind::Binary)
                || w.sign(b':')
                || (w.sign(b'=') && then.is_some_and(|w| w.sign(b'>')) && adjoin(next, then))
                || (w.sign(b'&') && then.is_some_and(|w| w.kind == TokenKind::Text) && adjoin(Some(word), next))
                || (w.kind == TokenKind::Number && word.text.starts_with('_'))
                || (w.is_one_of(&["WITH", "WITHOUT"]) && then.is_some_and(|w| w.is("TIME")))
        });
        if calls
            || goes_on
            || dialect.is_own_name(&word.text)
            || (word.kind == TokenKind::Word && dialect.is_keyword(&word.text))
        {
            return None;
        }
        // What follows a conflict sees the row that was there and the one that was to be written.
        let conflicts = shape
            .queries
            .get(query)
            .is_some_and(|query| query.clauses.iter().any(|(clause, from)| *clause == Clause::Conflict && *from < at));
        let visible = self.scope.visible(query, clause);
        if conflicts || visible.is_empty() || visible.iter().any(|source| source.unknown) || self.is_hidden(&name.text)
        {
            return None;
        }
        if back(1).is_some_and(|w| w.sign(b'.')) {
            let owner = shape.name_at(at.checked_sub(2)?)?;
            if back(3).is_some_and(|w| w.sign(b'.')) {
                return None;
            }
            let source = visible.iter().find(|source| owner.means(&source.name.text, dialect))?;
            // A function of the row may be written like a column.
            let called = dialect.folds_names && self.catalog().named(&name.text.to_lowercase()).next().is_some();
            if called || has(source, name, dialect) {
                return None;
            }
            let near = nearest(&name.text, source.columns.iter().map(|column| column.name.as_str()));
            let message = format!("{} has no column {}", owner.text, name.text);
            return Some(Problem { near, ..Problem::new(word.range.clone(), message) });
        }
        let previous = back(1)?;
        let operand = expects_operand(previous, back(2), dialect);
        // Words of their own rules: names of windows, collations, types, variables, units.
        let own = previous.is_one_of(&["OVER", "COLLATE", "AS", "INTERVAL", "IS", "ESCAPE", "USING"])
            // The bounds of a window's frame.
            || previous.is_one_of(&["ROWS", "RANGE", "GROUPS", "UNBOUNDED", "CURRENT", "TIME", "EXCLUDE"])
            || (word.is_one_of(&["UNBOUNDED", "CURRENT"]) && previous.is_one_of(&["BETWEEN", "AND"]))
            || (previous.is("IN") && back(2).is_some_and(|w| w.is("LOCK")))
            // The window that another one is made from.
            || (previous.sign(b'(') && back(2).is_some_and(|w| w.is("OVER")))
            || previous.sign(b'@')
            || previous.sign(b':')
            || previous.sign(b'>') && back(2).is_some_and(|w| w.sign(b'='));
        if !operand || own || self.in_call_with_words(query, at) {
            return None;
        }
        // SQLite takes a quoted name that means nothing as a text.
        if word.kind == TokenKind::QuotedName && dialect.quoted_names_may_be_text {
            return None;
        }
        if visible.iter().any(|source| has(source, name, dialect) || name.means(&source.name.text, dialect)) {
            // The condition of a join sees the tables before it only.
            let before = |source: &&VisibleSource| clause != Clause::On || source.at < at;
            let own: Vec<&VisibleSource> = visible
                .iter()
                .filter(before)
                .filter(|source| source.outer == 0 && has(source, name, dialect))
                .collect();
            let joined = shape.words.iter().any(|w| w.is_one_of(&["USING", "NATURAL"]));
            let selected = matches!(clause, Clause::OrderBy | Clause::GroupBy | Clause::Having);
            if let ([first, second, ..], false, false) = (own.as_slice(), joined, selected) {
                let owners: Vec<_> = own.iter().map(|source| format!("{}.{}", source.name.text, name.text)).collect();
                let message =
                    format!("ambiguous column {}: in {} and in {}", name.text, first.name.text, second.name.text);
                return Some(Problem { near: owners, ..Problem::new(word.range.clone(), message) });
            }
            return None;
        }
        // Names given by this query count where rows are put together and in order, and elsewhere on some servers.
        let mut given = self.scope.given(query, 0);
        let mut before = shape.queries.get(query).and_then(|query| query.before);
        while let Some(number) = before {
            given.extend(self.scope.given(number, 0));
            before = shape.queries.get(number).and_then(|query| query.before);
        }
        // Some servers see them from inside, too (`having (select a) = 1`).
        let mut around = shape.queries.get(query).and_then(|query| query.around);
        let mut inside = false;
        while let Some(number) = around {
            let seen = self.scope.given(number, 0);
            inside |= seen.iter().any(|column| name.means(&column.name, dialect) && column.name != *"");
            around = shape.queries.get(number).and_then(|query| query.around);
        }
        if inside {
            return None;
        }
        if given.iter().any(|column| name.means(&column.name, dialect) && column.name != *"")
            && clause != Clause::Select
        {
            return None;
        }
        let columns = visible.iter().flat_map(|source| source.columns.iter().map(|column| column.name.as_str()));
        let near = nearest(&name.text, columns);
        // What is compared is mostly meant as a text.
        let compared = previous.sign(b'=') || previous.sign(b'<') || previous.sign(b'>') || previous.is("LIKE");
        let as_text = if compared && word.text.starts_with('"') { "; text stands in single quotes" } else { "" };
        let message = format!("no column {} in the tables of this statement{as_text}", name.text);
        let problem = Problem::new(word.range.clone(), message);
        if near.is_empty() && is_compared(&shape.words, at) {
            // Names may be kept in other letters than those that are written.
            let written = self.text.get(word.range.clone()).filter(|_| word.kind == TokenKind::Word);
            let near = vec![format!("'{}'", written.unwrap_or(&name.text).replace('\'', "''"))];
            return Some(Problem { near, is_written: true, ..problem });
        }
        Some(Problem { near, ..problem })
    }

    /// Whether a name stands in a call whose arguments have words of their own: `extract(day from x)`.
    fn in_call_with_words(&self, query: usize, at: usize) -> bool {
        const CALLS: &[&str] = &[
            "EXTRACT",
            "DATEADD",
            "DATEDIFF",
            "DATEDIFF_BIG",
            "DATENAME",
            "DATEPART",
            "DATETRUNC",
            "DATE_BUCKET",
            "PARSE",
            "TRY_CAST",
            "TRY_CONVERT",
            "TRY_PARSE",
            "TIMESTAMPDIFF",
            "TIMESTAMPADD",
            "TRIM",
            "CONVERT",
            "GET_FORMAT",
            "CAST",
            "OVERLAY",
            "POSITION",
            "SUBSTRING",
            "XMLELEMENT",
            "XMLSERIALIZE",
            "XMLPARSE",
            "XMLPI",
            "XMLROOT",
            "XMLEXISTS",
            "JSON_SERIALIZE",
            "JSON_SCALAR",
            "JSON_ARRAYAGG",
            "JSON_OBJECTAGG",
            "XMLFOREST",
            "JSON_TABLE",
            "JSON_VALUE",
            "JSON_OBJECT",
            "JSON_ARRAY",
            "MATCH",
            "AGAINST",
            "NORMALIZE",
            "COLUMN_GET",
            "COLUMN_CREATE",
            "GROUPING",
            "RAISE",
            "MAKE_INTERVAL",
            "JSON_QUERY",
            "JSON_EXISTS",
            "XMLTABLE",
            "FORMAT",
            "SNIPPET",
            "HIGHLIGHT",
            "BM25",
            "DATE_ADD",
            "DATE_SUB",
            "ADDDATE",
            "SUBDATE",
            "WEIGHT_STRING",
            "CHAR",
        ];
        let shape = self.scope.shape;
        let from = shape.queries.get(query).map_or(0, |query| query.words.start);
        let mut depth = 0;
        for place in (from..at).rev() {
            let Some(word) = shape.words.get(place) else { break };
            if word.sign(b')') {
                depth += 1;
            } else if word.sign(b'(') && depth > 0 {
                depth -= 1;
            } else if word.sign(b'(') {
                let call = place.checked_sub(1).and_then(|before| shape.words.get(before));
                if call.is_some_and(|w| w.is_one_of(CALLS)) {
                    return true;
                }
            }
        }
        false
    }

    /// Columns that every table has, and names that stand for values.
    fn is_hidden(&self, name: &str) -> bool {
        const HIDDEN: &[&str] = &[
            "rowid",
            "oid",
            "_rowid_",
            "ctid",
            "xmin",
            "xmax",
            "cmin",
            "cmax",
            "tableoid",
            "rank",
            "true",
            "false",
            "null",
            "default",
            "current_date",
            "current_time",
            "current_timestamp",
            "current_user",
            "session_user",
            "user",
            "localtime",
            "localtimestamp",
            "current_role",
            "current_catalog",
            "current_schema",
            "new",
            "old",
            "excluded",
            "unknown",
            "level",
            "value",
            "row_number",
            "sql_cache",
            "sql_no_cache",
            "sql_small_result",
            "sql_big_result",
            "sql_buffer_result",
            "sql_calc_found_rows",
            "high_priority",
        ];
        HIDDEN.contains(&name.to_lowercase().as_str())
    }
}

fn has(source: &VisibleSource, name: &Written, dialect: &Dialect) -> bool {
    source.columns.iter().any(|column| name.means(&column.name, dialect))
}

/// How often letters are in a name, without their case: enough to tell quickly that two names are not alike.
struct Letters {
    counts: [u8; 32],
    all: u32,
}

impl Letters {
    fn of(name: &str) -> Letters {
        let mut counts = [0_u8; 32];
        // What is not ASCII may have another length in another case: it counts as one kind, by its first byte.
        let letters = name.bytes().filter(|byte| byte.is_ascii() || *byte >= 0xc0);
        let mut all = 0;
        for byte in letters {
            all += 1;
            let kind = if byte.is_ascii() { byte & 31 } else { 31 };
            let count = &mut counts[usize::from(kind)];
            *count = count.saturating_add(1);
        }
        Letters { counts, all }
    }

    /// Whether the similarity of Jaro and Winkler may be more than 0.8: letters that both have would all have to fit, in order,
    /// and the first four be the same.
    fn may_be_like(&self, other: &Letters) -> bool {
        let both = self.counts.iter().zip(&other.counts).map(|(one, other)| u32::from(*one.min(other))).sum::<u32>();
        let [both, ours, theirs] = [both, self.all, other.all].map(f64::from);
        let jaro = (both / ours.max(1.0) + both / theirs.max(1.0) + 1.0) / 3.0;
        both > 0.0 && jaro + 0.4 * (1.0 - jaro) > 0.8
    }
}

/// The names that are most like one, at most three.
fn nearest<'a>(name: &str, all: impl Iterator<Item = &'a str>) -> Vec<String> {
    let lower = name.to_lowercase();
    let ours = Letters::of(name);
    let mut scored: Vec<(f64, &str)> = all
        .filter(|other| Letters::of(other).may_be_like(&ours))
        .map(|other| (strsim::jaro_winkler(&lower, &other.to_lowercase()), other))
        .filter(|(like, _)| *like > 0.8)
        .collect();
    scored.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(b.1)));
    scored.dedup_by_key(|(_, name)| *name);
    scored.into_iter().take(3).map(|(_, name)| name.to_owned()).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::Letters;

    proptest! {
        #[test]
        fn names_that_are_alike_are_never_passed_over(
            one in "[a-eA-E_0-3é🚢]{1,12}",
            other in "[a-eA-E_0-3é🚢]{1,12}",
            at in 0_usize..12,
        ) {
            let cut: String = one.chars().take(at).chain(other.chars().take(2)).chain(one.chars().skip(at)).collect();
            for other in [other, cut] {
                let like = strsim::jaro_winkler(&one.to_lowercase(), &other.to_lowercase());
                prop_assert!(like <= 0.8 || Letters::of(&other).may_be_like(&Letters::of(&one)), "{one} {other} {like}");
            }
        }
    }
}
