//! What is only told of names where a server refuses a statement of SQL: plain names may reach further when it runs than the
//! catalog tells.

use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::shape::{Clause, Origin, Shape, words};

use super::Problem;
use super::sql::near_tables;
use crate::complete::Surroundings;
use crate::complete::scope::Scope;

/// See [`super::elsewhere`].
pub fn elsewhere(text: &str, around: Surroundings<'_>) -> Vec<Problem> {
    let dialect = around.dialect;
    let shape = Shape::of(words(text, dialect, 0));
    let scope = Scope::new(&shape, around.catalog, dialect);
    let mut found: Vec<Problem> = in_definition(&shape, &scope).into_iter().collect();
    found.extend(owners(&shape, &scope));
    for source in shape.queries.iter().flat_map(|query| &query.sources) {
        let Origin::Named(path) = &source.origin else { continue };
        let (name, before) = match path.as_slice() {
            [name] => (name, 0),
            // A schema that the catalog has not.
            [schema, name] if !around.catalog.schemas().iter().any(|known| schema.means(known, dialect)) => (name, 2),
            _ => continue,
        };
        let first = source.name_at.checked_sub(before).and_then(|at| shape.words.get(at));
        let (Some(first), Some(word)) = (first, shape.words.get(source.name_at)) else { continue };
        if scope.relation(path).is_some_and(|object| around.catalog.is_in_path(&object.schema)) {
            continue;
        }
        let there = around.catalog.named(&name.text.to_lowercase()).filter(|object| object.kind.has_rows());
        let write = |part: &str| dialect.name_as_written(part);
        let near: Vec<_> = there.take(3).map(|o| format!("{}.{}", write(&o.schema), write(&o.name))).collect();
        if !near.is_empty() {
            let message = format!("{} is in another schema", name.text);
            let range = first.range.start..word.range.end;
            found.push(Problem { near, is_written: true, ..Problem::new(range, message) });
        }
    }
    found
}

/// Names before a point that no table of their query has: a column of JSON whose parts are reached another way, or the one
/// table there is, under the name that it has here.
fn owners(shape: &Shape, scope: &Scope<'_>) -> Vec<Problem> {
    let dialect = scope.dialect;
    let names =
        |at: usize| shape.words.get(at).filter(|word| matches!(word.kind, TokenKind::Word | TokenKind::QuotedName));
    let point = |at: usize| shape.words.get(at).is_some_and(|word| word.sign(b'.'));
    let is_wrong = |at: usize| -> Option<Problem> {
        let (owner, part) = (names(at)?, names(at + 2)?);
        let is_alone = point(at + 1) && !point(at + 3) && !at.checked_sub(1).is_some_and(point);
        let query = shape.query_at(at);
        let (clause, from) = shape.clause_at(query, at);
        if !is_alone || at <= from || matches!(clause, Clause::From) {
            return None;
        }
        let name = shape.name_at(at)?;
        let visible = scope.visible(query, clause);
        if visible.iter().any(|source| source.unknown || name.means(&source.name.text, dialect)) {
            return None;
        }
        let of = visible.iter().flat_map(|source| &source.columns).find(|column| name.means(&column.name, dialect));
        if let Some(column) = of {
            let is_json = column.db_type.to_lowercase().contains("json");
            let way = dialect.part_of_json.filter(|_| is_json)?;
            let key = shape.name_at(at + 2)?.text;
            let near = vec![way.replace("{column}", &dialect.name_as_written(&name.text)).replace("{key}", &key)];
            let problem = Problem::new(owner.range.start..part.range.end, format!("{} is a column", name.text));
            return Some(Problem { near, is_written: true, ..problem });
        }
        let [one] = visible.as_slice() else { return None };
        let message = format!("{} is not a table of this statement", name.text);
        Some(Problem { near: vec![one.name.text.clone()], ..Problem::new(owner.range.clone(), message) })
    };
    (0..shape.words.len()).filter_map(is_wrong).collect()
}

/// The table that a definition is about, where none is called so.
fn in_definition(shape: &Shape, scope: &Scope<'_>) -> Option<Problem> {
    let words = &shape.words;
    words
        .first()
        .filter(|word| word.is_one_of(&["DROP", "ALTER", "TRUNCATE", "ANALYZE", "LOCK", "OPTIMIZE", "REINDEX"]))?;
    let of = ["TABLE", "VIEW", "MATERIALIZED", "TABLES", "IF", "EXISTS", "ONLY"];
    let at = (1..words.len()).find(|at| words.get(*at).is_some_and(|word| !word.is_one_of(&of)))?;
    // Of other kinds of objects the catalog does not know all.
    let of_table = words.get(at - 1).is_some_and(|before| before.is_one_of(&of) || at == 1);
    let (path, next) = shape.path_from(at);
    let name = path.last().filter(|name| of_table && !name.text.is_empty())?;
    if scope.relation(&path).is_some() {
        return None;
    }
    let schema = path.len().checked_sub(2).and_then(|at| path.get(at));
    let near = near_tables(name, schema, scope.catalog, scope.dialect);
    let last = words.get(next.checked_sub(1)?)?;
    let message = format!("no table or view named \"{}\"", name.text);
    (!near.is_empty()).then(|| Problem { near, ..Problem::new(last.range.clone(), message) })
}
