//! What names mean at a place in a statement: tables and their other names, the columns that each
//! gives, also through queries inside of queries.

use jaunty_language::statement::shape::{Clause, Origin, Query, Shape, Source};
use std::cell::RefCell;
use std::collections::HashMap;

use jaunty_language::dialect::Dialect;
use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::Written;
use jaunty_seam::catalog::{Catalog, Name, Object};

/// A column that a place can see.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Seen {
    /// Its name, not quoted.
    pub name: String,
    /// The database's name of its type; empty where it is computed.
    pub db_type: String,
    /// The table's column that it comes from, if it is one.
    pub from: Option<(Name, String)>,
    /// Whether it is part of its table's key.
    pub key: bool,
}

/// Something with columns that a place can see.
#[derive(Debug, Clone)]
pub struct VisibleSource {
    /// Its name in the query: the alias, else the table's name.
    pub name: Written,
    /// The table, if it is one of the catalog.
    pub table: Option<Name>,
    /// Its columns.
    pub columns: Vec<Seen>,
    /// Whether nothing is known of it, so that any column may be there.
    pub unknown: bool,
    /// How many queries further out it stands.
    pub outer: usize,
    /// The token that it begins at.
    pub at: usize,
}

/// What a statement's names mean.
pub struct Scope<'a> {
    /// The statement.
    pub shape: &'a Shape,
    /// What the database holds.
    pub catalog: &'a Catalog,
    /// The dialect.
    pub dialect: &'static Dialect,
    /// What queries give, as far as it was looked at. One that is being looked at gives nothing yet:
    /// it refers to itself.
    known: RefCell<HashMap<usize, Vec<Seen>>>,
    unknown: RefCell<HashMap<usize, bool>>,
}

/// How many queries are followed into each other.
const DEEPEST: usize = 24;

impl<'a> Scope<'a> {
    /// The scope of a statement.
    pub fn new(shape: &'a Shape, catalog: &'a Catalog, dialect: &'static Dialect) -> Scope<'a> {
        Scope { shape, catalog, dialect, known: RefCell::default(), unknown: RefCell::default() }
    }

    /// All that can be seen in a clause of a query, its own sources first.
    pub fn visible(&self, query: usize, clause: Clause) -> Vec<VisibleSource> {
        let mut all = Vec::new();
        let mut at = Some(query);
        let mut outer = 0;
        while let Some(query) = at.and_then(|at| self.shape.queries.get(at)) {
            let number = at.unwrap_or_default();
            // The rows of an INSERT come from elsewhere: its table is seen only by what follows them.
            let inserted = query.target.filter(|target| {
                let source = query.sources.get(*target);
                let before = source.and_then(|source| source.at.checked_sub(1)).and_then(|at| self.shape.words.get(at));
                let merges = query.clauses.iter().any(|(clause, _)| *clause == Clause::On);
                before.is_some_and(|word| word.is("INTO")) && !merges
            });
            let after = matches!(clause, Clause::Returning | Clause::Conflict | Clause::Set | Clause::Target);
            for (place, source) in query.sources.iter().enumerate() {
                if outer > 0 || inserted.is_none_or(|target| (target == place) == after) {
                    all.extend(self.sighted(number, source, outer, 0));
                }
            }
            if let Some(target) = query.target.and_then(|target| query.sources.get(target)) {
                // What an INSERT would have written, where a row was there already.
                if query.clauses.iter().any(|(clause, _)| *clause == Clause::Conflict) {
                    let excluded = self.sighted(number, target, outer, 0);
                    all.extend(excluded.map(|seen| VisibleSource {
                        name: Written::plain("excluded"),
                        outer: 1,
                        ..seen
                    }));
                }
            }
            at = query.around;
            outer += 1;
            if outer > DEEPEST {
                break;
            }
        }
        all
    }

    /// What a source gives.
    fn sighted(&self, query: usize, source: &Source, outer: usize, depth: usize) -> Option<VisibleSource> {
        let (name, table, mut columns, unknown) = match &source.origin {
            Origin::Named(path) => {
                let name = path.last()?.clone();
                match self.cte(query, path) {
                    Some((columns, known)) => (name, None, columns(self, depth + 1), !known),
                    None => match self.relation(path) {
                        Some(object) => (name, Some(object.to_name()), columns_of(object), false),
                        None => match self.columns_elsewhere(path) {
                            Some(columns) => (name, None, columns, false),
                            None => (name, None, Vec::new(), true),
                        },
                    },
                }
            }
            Origin::Query(inner) => {
                (Written::plain(""), None, self.given(*inner, depth + 1), self.gives_unknown(*inner, depth + 1))
            }
            Origin::Function(name) => {
                let name = Written::plain(name);
                let unnamed = Seen { name: name.text.clone(), db_type: String::new(), from: None, key: false };
                (name, None, vec![unnamed], true)
            }
        };
        rename(&mut columns, &source.columns);
        Some(VisibleSource {
            name: source.alias.clone().unwrap_or(name),
            table,
            columns,
            unknown,
            outer,
            at: source.at,
        })
    }

    /// The table of this database that a path means.
    pub fn relation(&self, path: &[Written]) -> Option<&'a Object> {
        self.catalog.relation_at(path, self.dialect)
    }

    /// The columns of a table of another database, if that was read. They are columns of no table of this one.
    pub fn columns_elsewhere(&self, path: &[Written]) -> Option<Vec<Seen>> {
        let (_, object) = self.catalog.relation_elsewhere(path, self.dialect)?;
        Some(columns_of(object).into_iter().map(|seen| Seen { from: None, ..seen }).collect())
    }

    /// The columns of a table by its path, in whatever database.
    pub fn columns_at(&self, path: &[Written]) -> Vec<Seen> {
        let here = self.relation(path).map(columns_of);
        here.or_else(|| self.columns_elsewhere(path)).unwrap_or_default()
    }

    /// The common table expression that a path means at a query: a way to its columns, and whether
    /// all of them are known.
    #[allow(clippy::type_complexity)]
    fn cte(&self, query: usize, path: &[Written]) -> Option<(impl Fn(&Scope<'_>, usize) -> Vec<Seen>, bool)> {
        let [name] = path else { return None };
        let cte = self.ctes(query).into_iter().find(|cte| name.means(&cte.name.text, self.dialect))?;
        let (inner, names) = (cte.query, cte.columns.clone());
        let known = !cte.adds && (!names.is_empty() || inner.is_some_and(|inner| !self.gives_unknown(inner, 1)));
        let columns = move |scope: &Scope<'_>, depth: usize| {
            let mut columns = inner.map(|inner| scope.given(inner, depth)).unwrap_or_default();
            rename(&mut columns, &names);
            columns
        };
        Some((columns, known))
    }

    /// The common table expressions that a query sees, the nearest first.
    pub fn ctes(&self, query: usize) -> Vec<&jaunty_language::statement::shape::Cte> {
        let mut all = Vec::new();
        let mut at = Some(query);
        for _ in 0..DEEPEST {
            let Some(here) = at.and_then(|at| self.shape.queries.get(at)) else { break };
            all.extend(here.ctes.iter().rev());
            let mut before = here.before;
            while let Some(query) = before.and_then(|before| self.shape.queries.get(before)) {
                all.extend(query.ctes.iter().rev());
                before = query.before;
            }
            at = here.around;
        }
        all
    }

    /// Whether a query selects from something that is not known.
    fn gives_unknown(&self, query: usize, depth: usize) -> bool {
        if depth > DEEPEST {
            return true;
        }
        if let Some(known) = self.unknown.borrow().get(&query) {
            return *known;
        }
        self.unknown.borrow_mut().insert(query, true);
        let found = self.looks_unknown(query, depth);
        self.unknown.borrow_mut().insert(query, found);
        found
    }

    fn looks_unknown(&self, query: usize, depth: usize) -> bool {
        let Some(inner) = self.shape.queries.get(query) else { return true };
        let star = |item: &std::ops::Range<usize>| {
            item.clone().next_back().is_some_and(|at| self.shape.words.get(at).is_some_and(|w| w.sign(b'*')))
        };
        // What the server calls a cast or a CASE is not looked into.
        if inner.items.iter().any(|item| !star(item) && self.is_unnamed(item)) {
            return true;
        }
        if !inner.items.iter().any(star) {
            return inner.items.is_empty();
        }
        let own: Vec<_> = inner.sources.iter().map(|source| self.sighted(query, source, 0, depth)).collect();
        // `outer.*` in a lateral query is of a source beside it.
        let elsewhere = |item: &std::ops::Range<usize>| {
            let dotted = item.len() > 2 && self.shape.words.get(item.end - 2).is_some_and(|w| w.sign(b'.'));
            let owner = dotted.then(|| self.shape.name_at(item.end - 3)).flatten();
            owner.is_some_and(|owner| !own.iter().flatten().any(|seen| owner.means(&seen.name.text, self.dialect)))
        };
        inner.items.iter().any(|item| star(item) && elsewhere(item))
            || own.iter().any(|seen| seen.as_ref().is_none_or(|seen| seen.unknown))
    }

    /// The columns that a query gives.
    pub fn given(&self, number: usize, depth: usize) -> Vec<Seen> {
        let Some(query) = self.shape.queries.get(number).filter(|_| depth <= DEEPEST) else { return Vec::new() };
        if let Some(known) = self.known.borrow().get(&number) {
            return known.clone();
        }
        self.known.borrow_mut().insert(number, Vec::new());
        let mut all = Vec::new();
        for item in &query.items {
            self.selected(number, query, item.clone(), depth, &mut all);
        }
        self.known.borrow_mut().insert(number, all.clone());
        all
    }

    /// The columns of one selected expression.
    fn selected(&self, number: usize, query: &Query, item: std::ops::Range<usize>, depth: usize, all: &mut Vec<Seen>) {
        let words = self.shape.words.get(item.clone()).unwrap_or_default();
        let sources = || query.sources.iter().filter_map(|source| self.sighted(number, source, 0, depth + 1));
        match words {
            [star] if star.sign(b'*') => sources().for_each(|source| all.extend(source.columns)),
            [.., dot, star] if star.sign(b'*') && dot.sign(b'.') => {
                let Some(name) = item.end.checked_sub(3).and_then(|at| self.shape.name_at(at)) else { return };
                let named = |source: &VisibleSource| name.means(&source.name.text, self.dialect);
                sources().filter(named).for_each(|source| all.extend(source.columns));
            }
            _ => {
                let named = self.named(item.clone()).or_else(|| self.named_by_call(item.clone()));
                let Some((name, ends)) = named else { return };
                let column = self.column_at(item.start..ends, &sources().collect::<Vec<_>>());
                all.push(match column {
                    Some(column) => Seen { name, ..column },
                    None => Seen { name, db_type: String::new(), from: None, key: false },
                });
            }
        }
    }

    /// What a selected expression is called, and where it ends.
    fn named(&self, item: std::ops::Range<usize>) -> Option<(String, usize)> {
        let last = item.end.checked_sub(1).filter(|last| *last >= item.start)?;
        let name = self.shape.name_at(last)?.text;
        let before = last.checked_sub(1).filter(|at| *at >= item.start).and_then(|at| self.shape.words.get(at));
        match before {
            None => Some((name, item.end)),
            Some(word) if word.sign(b'.') => Some((name, item.end)),
            Some(word) if word.is("AS") => Some((name, last - 1)),
            // An alias without AS stands behind something whole.
            Some(word)
                if word.sign(b')')
                    || matches!(word.kind, TokenKind::QuotedName | TokenKind::Number | TokenKind::Text) =>
            {
                Some((name, last))
            }
            Some(word) if word.kind == TokenKind::Word => {
                let keyword = self.dialect.is_keyword(&word.text) && !word.is("END");
                (!keyword && !self.dialect.is_keyword(&name)).then_some((name, last))
            }
            _ => None,
        }
    }

    /// What a call without a name of its own is called where the server names it by the function, and the end.
    fn named_by_call(&self, item: std::ops::Range<usize>) -> Option<(String, usize)> {
        let words = self.shape.words.get(item.clone())?;
        let open = words.iter().position(|word| word.sign(b'('))?;
        let name = self.shape.name_at(item.start + open.checked_sub(1)?)?.text;
        Some((name, item.end)).filter(|_| self.dialect.folds_names)
    }

    /// Whether what a selected expression is called cannot be told.
    fn is_unnamed(&self, item: &std::ops::Range<usize>) -> bool {
        self.dialect.folds_names && self.named(item.clone()).is_none() && self.named_by_call(item.clone()).is_none()
    }

    /// The column that tokens name, if they do nothing else.
    fn column_at(&self, range: std::ops::Range<usize>, sources: &[VisibleSource]) -> Option<Seen> {
        let last = self.shape.name_at(range.end.checked_sub(1)?)?;
        let mut within = sources.iter();
        match range.len() {
            1 => within.flat_map(|source| &source.columns).find(|c| last.means(&c.name, self.dialect)).cloned(),
            3 => {
                let owner = self.shape.name_at(range.start)?;
                let source = within.find(|source| owner.means(&source.name.text, self.dialect))?;
                source.columns.iter().find(|c| last.means(&c.name, self.dialect)).cloned()
            }
            _ => None,
        }
    }
}

fn rename(columns: &mut Vec<Seen>, names: &[String]) {
    for (at, name) in names.iter().enumerate() {
        match columns.get_mut(at) {
            Some(column) => column.name.clone_from(name),
            None => columns.push(Seen { name: name.clone(), db_type: String::new(), from: None, key: false }),
        }
    }
}

/// The columns of a table.
pub fn columns_of(object: &Object) -> Vec<Seen> {
    let seen = |column: &jaunty_seam::catalog::Column| Seen {
        name: column.name.clone(),
        db_type: column.db_type.clone(),
        from: Some((object.to_name(), column.name.clone())),
        key: column.key,
    };
    object.columns.iter().map(seen).collect()
}

#[cfg(test)]
mod tests;
