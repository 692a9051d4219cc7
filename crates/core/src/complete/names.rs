//! Which names of a statement mean the same: the other names of its sources, its common table expressions, tables and
//! columns.

use std::ops::Range;

use super::context::Surroundings;
use super::scope::{Scope, VisibleSource};
use jaunty_language::dialect::Family;
use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::Written;
use jaunty_language::statement::shape::{Origin, Shape, words};
use jaunty_seam::catalog::Name;

/// What a name means. Two names mean the same thing if these are equal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Means {
    /// Another name of a source: of the one that begins at this token.
    Alias(usize),
    /// A common table expression, by the token that names it.
    Cte(usize),
    /// A table or a view.
    Table(Name),
    /// A column of the source that begins at this token, and of this table, if it is one of a table.
    Column {
        /// The source.
        source: usize,
        /// The table.
        table: Option<Name>,
        /// Its name.
        name: String,
    },
}

/// A name in a statement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Named {
    /// Its bytes.
    pub range: Range<usize>,
    /// What it means.
    pub means: Means,
    /// Whether the thing gets its name here.
    pub defines: bool,
}

/// The names of a statement of SQL, in order, as far as it is known what they mean.
pub fn names(text: &str, around: Surroundings<'_>) -> Vec<Named> {
    if around.dialect.family != Family::Sql {
        return Vec::new();
    }
    let shape = Shape::of(words(text, around.dialect, 0));
    let scope = Scope::new(&shape, around.catalog, around.dialect);
    let finder = Finder { ctes: ctes(&shape), aliases: aliases(&shape), scope };
    let mut found = Vec::new();
    for (at, word) in shape.words.iter().enumerate() {
        if let Some((means, defines)) = finder.at(at) {
            found.push(Named { range: word.range.clone(), means, defines });
        }
    }
    found
}

/// The name at a byte, and all that mean the same.
pub fn alike(text: &str, cursor: usize, around: Surroundings<'_>) -> Option<(Named, Vec<Named>)> {
    let all = names(text, around);
    let holds = |named: &&Named| named.range.start <= cursor && cursor <= named.range.end;
    let here = all.iter().find(holds)?.clone();
    let same = all.into_iter().filter(|named| named.means == here.means).collect();
    Some((here, same))
}

/// Why a name of a statement cannot become another one, or the places that change.
pub fn rename(text: &str, cursor: usize, new: &str, around: Surroundings<'_>) -> Result<Vec<Range<usize>>, String> {
    let Some((here, same)) = alike(text, cursor, around) else {
        return Err("no alias or common table expression here to rename".to_owned());
    };
    match here.means {
        Means::Alias(_) | Means::Cte(_) => {}
        Means::Table(name) => {
            return Err(format!(
                "{} is a table of the database; aliases and common table expressions can be renamed here",
                name.name
            ));
        }
        Means::Column { name, .. } => {
            return Err(format!(
                "{name} is a column of the database; aliases and common table expressions can be renamed here"
            ));
        }
    }
    let dialect = around.dialect;
    let bare = new.chars().all(|c| c.is_alphanumeric() || c == '_' || c == '$')
        && !new.starts_with(|c: char| c.is_ascii_digit());
    if new.is_empty() || !bare {
        return Err(format!("\"{new}\" is not a name"));
    }
    if dialect.is_keyword(new) {
        return Err(format!("\"{new}\" is a word of the language"));
    }
    let taken = words(text, dialect, 0).iter().any(|word| {
        matches!(word.kind, TokenKind::Word)
            && word.text.eq_ignore_ascii_case(new)
            && !same.iter().any(|named| named.range == word.range)
    });
    match taken {
        true => Err(format!("\"{new}\" stands in this statement already")),
        false => Ok(same.into_iter().map(|named| named.range).collect()),
    }
}

struct Finder<'a> {
    scope: Scope<'a>,
    /// The token that names each expression, with its name and the query it belongs to.
    ctes: Vec<(usize, Written, usize)>,
    /// The token that names each source, and the source's first.
    aliases: Vec<(usize, usize)>,
}

impl Finder<'_> {
    fn at(&self, at: usize) -> Option<(Means, bool)> {
        let shape = self.scope.shape;
        let name = shape.name_at(at)?;
        if self.ctes.iter().any(|(token, ..)| *token == at) {
            return Some((Means::Cte(at), true));
        }
        if let Some((_, source)) = self.aliases.iter().find(|(token, _)| *token == at) {
            return Some((Means::Alias(*source), true));
        }
        for (query, source) in shape.queries.iter().enumerate().flat_map(|(n, q)| q.sources.iter().map(move |s| (n, s)))
        {
            if let Origin::Named(path) = &source.origin
                && source.name_at == at
            {
                return Some((self.of_path(query, path)?, false));
            }
        }
        let word = shape.words.get(at)?;
        let sign = |at: Option<usize>, sign| at.and_then(|at| shape.words.get(at)).is_some_and(|w| w.sign(sign));
        let dotted = sign(at.checked_sub(1), b'.');
        let owns = sign(Some(at + 1), b'.');
        let is_word = word.kind == TokenKind::Word && self.scope.dialect.is_keyword(&word.text);
        if is_word && !dotted && !owns || sign(Some(at + 1), b'(') {
            return None;
        }
        let query = shape.query_at(at);
        let visible = self.scope.visible(query, shape.clause_at(query, at).0);
        if dotted {
            let owner = shape.name_at(at.checked_sub(2)?)?;
            let source = visible.iter().find(|source| owner.means(&source.name.text, self.scope.dialect))?;
            return self.column(&name, source).map(|means| (means, false));
        }
        if owns {
            let source = visible.iter().find(|source| name.means(&source.name.text, self.scope.dialect))?;
            return Some((self.of_source(source)?, false));
        }
        let column = visible.iter().find_map(|source| self.column(&name, source));
        column.map(|means| (means, false))
    }

    fn of_path(&self, query: usize, path: &[Written]) -> Option<Means> {
        if let [name] = path
            && let Some(cte) =
                self.scope.ctes(query).into_iter().find(|cte| name.means(&cte.name.text, self.scope.dialect))
        {
            let of = |(_, known, _): &&(usize, Written, usize)| known.text == cte.name.text;
            return self.ctes.iter().find(of).map(|(token, ..)| Means::Cte(*token));
        }
        self.scope.relation(path).map(|object| Means::Table(object.to_name()))
    }

    /// What the name of a source means where it stands before a dot.
    fn of_source(&self, source: &VisibleSource) -> Option<Means> {
        if self.aliases.iter().any(|(_, begins)| *begins == source.at) {
            return Some(Means::Alias(source.at));
        }
        let with_query = self.scope.shape.queries.iter().enumerate();
        let (query, origin) = with_query
            .flat_map(|(n, q)| q.sources.iter().map(move |s| (n, s)))
            .find(|(_, s)| s.at == source.at)
            .map(|(query, source)| (query, &source.origin))?;
        match origin {
            Origin::Named(path) => self.of_path(query, path),
            _ => None,
        }
    }

    fn column(&self, name: &Written, source: &VisibleSource) -> Option<Means> {
        let column = source.columns.iter().find(|column| name.means(&column.name, self.scope.dialect))?;
        let table = column.from.as_ref().map(|(table, _)| table.clone());
        Some(Means::Column { source: source.at, table, name: column.name.clone() })
    }
}

/// The tokens that name common table expressions.
fn ctes(shape: &Shape) -> Vec<(usize, Written, usize)> {
    let mut found = Vec::new();
    for (number, query) in shape.queries.iter().enumerate() {
        for cte in &query.ctes {
            // Backwards from its query: the parenthesis, perhaps MATERIALIZED, AS, perhaps columns, the name.
            let Some(inner) = cte.query.and_then(|inner| shape.queries.get(inner)) else { continue };
            let before =
                (0..inner.words.start).rev().skip_while(|at| !shape.words.get(*at).is_some_and(|w| w.is("AS")));
            let named = before.skip(1).find(|at| shape.name_at(*at).is_some_and(|name| name.text == cte.name.text));
            found.extend(named.map(|at| (at, cte.name.clone(), number)));
        }
    }
    found
}

/// The tokens that give sources another name.
fn aliases(shape: &Shape) -> Vec<(usize, usize)> {
    let sources = shape.queries.iter().flat_map(|query| &query.sources);
    let named = sources.filter_map(|source| {
        let alias = source.alias.as_ref()?;
        // Its columns may be named after it: the last token with that name, outside of what it is made of.
        let first = match &source.origin {
            Origin::Named(_) => source.name_at + 1,
            Origin::Query(_) | Origin::Function(_) => {
                let open = (source.at..source.end).find(|at| shape.words.get(*at).is_some_and(|w| w.sign(b'(')))?;
                shape.closing(open, source.end) + 1
            }
        };
        let at = (first..source.end).find(|at| shape.name_at(*at).is_some_and(|name| name == *alias))?;
        Some((at, source.at))
    });
    named.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::complete::tests::saltmarsh;
    use jaunty_language::dialect::SQLITE;

    /// A statement with the cursor at `|`: the names that mean the same, in `[…]`.
    fn marked(text: &str) -> String {
        let cursor = text.find('|').unwrap();
        let text = text.replacen('|', "", 1);
        let catalog = saltmarsh();
        let around = Surroundings { catalog: &catalog, dialect: &SQLITE, snippets: &[], nearby: "" };
        let mut shown = text.clone();
        for named in alike(&text, cursor, around).map(|(_, same)| same).unwrap_or_default().iter().rev() {
            shown.insert(named.range.end, ']');
            shown.insert(named.range.start, '[');
        }
        shown
    }

    #[test]
    fn names_that_mean_the_same_are_found() {
        for (text, expected) in [
            ("select p|.name from ports p where p.id = 1", "select [p].name from ports [p] where [p].id = 1"),
            (
                "with late as (select 1 as n) select n from l|ate join late as b",
                "with [late] as (select 1 as n) select n from [late] join [late] as b",
            ),
            ("select x.n from (select 1 as n) |x", "select [x].n from (select 1 as n) [x]"),
            ("select na|me from ports where ports.name = 'x'", "select [name] from ports where ports.[name] = 'x'"),
            ("select ports.id from p|orts", "select [ports].id from [ports]"),
            (
                "select 1 from ports p where exists (select 1 from vessels v where v.id = p|.id)",
                "select 1 from ports [p] where exists (select 1 from vessels v where v.id = [p].id)",
            ),
            (
                "select p.id from ports p union select p|.id from vessels p",
                "select p.id from ports p union select [p].id from vessels [p]",
            ),
            ("select 'n|ame'", "select 'name'"),
            ("se|lect 1", "select 1"),
        ] {
            assert_eq!(marked(text), expected);
        }
    }

    #[test]
    fn only_names_of_the_statement_can_be_others() {
        let catalog = saltmarsh();
        let around = Surroundings { catalog: &catalog, dialect: &SQLITE, snippets: &[], nearby: "" };
        let text = "select p.id, q.id from ports p join vessels q";
        let renamed = |cursor, new| rename(text, cursor, new, around).map(|places| places.len());
        assert_eq!(renamed(7, "quay"), Ok(2));
        for (cursor, new, why) in [
            (23, "quay", "a table"),
            (9, "quay", "a column"),
            (7, "q", "already"),
            (7, "select", "a word of the language"),
            (7, "a b", "not a name"),
            (7, "", "not a name"),
            (1, "quay", "no alias or common"),
        ] {
            let refused = renamed(cursor, new).unwrap_err();
            assert!(refused.contains(why), "{refused}");
        }
    }
}
