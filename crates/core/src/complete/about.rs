//! What stands at the cursor: help for a keyword or a function, what is known of a table or a
//! column, what another name stands for, and which argument of a call is being written.

use super::columns::{Inserted, inserted};
use super::context::{Context, Surroundings};
use super::documents;
use super::scope::{Scope, Seen, VisibleSource};
use super::{Kind, Proposal};
use crate::catalog::templates;
use jaunty_language::dialect::{Dialect, Family};
use jaunty_language::help;
use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::Written;
use jaunty_language::statement::shape::{Origin, Shape, Word, words};
use jaunty_language::text::numbers;
use jaunty_seam::catalog::{Catalog, Column, Name, Object, ObjectKind, Rule};

/// What is known of something.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct About {
    /// What it is, in a line.
    pub title: String,
    /// More lines.
    pub lines: Vec<String>,
    /// The table that it is, or belongs to.
    pub table: Option<Name>,
    /// The other database that it is in, if so.
    pub elsewhere: Option<String>,
}

/// What a keyword or a function that was proposed does: in our own words, else as the server describes it, which is not cleaned.
pub fn help_for<'a>(proposal: &Proposal, catalog: &'a Catalog, dialect: &'static Dialect) -> Option<&'a str> {
    let help = help::of(dialect);
    let entry = match proposal.kind {
        Kind::Function => help.function(&proposal.label),
        Kind::Keyword => help.keyword(&proposal.label),
        _ => None,
    };
    let lower = proposal.label.to_lowercase();
    let of_server = || match proposal.kind {
        Kind::Function | Kind::Object(ObjectKind::Function) => {
            catalog.routines_named(&lower).map(|routine| routine.comment.as_str()).find(|comment| !comment.is_empty())
        }
        _ => None,
    };
    entry.map(|entry| entry.text.as_str()).or_else(of_server)
}

/// What is known of the word at byte `cursor` of a statement.
pub fn about(text: &str, cursor: usize, around: Surroundings<'_>) -> Option<About> {
    match around.dialect.family {
        Family::Sql => {}
        Family::Commands => return command(text, cursor, around),
        Family::Documents => return documents::about(text, cursor, around),
    }
    let all = words(text, around.dialect, 0);
    let names = |w: &Word| matches!(w.kind, TokenKind::Word | TokenKind::QuotedName);
    let at = all.iter().position(|w| w.range.start <= cursor && cursor < w.range.end && names(w));
    let at = at.or_else(|| all.iter().position(|w| w.range.end == cursor && names(w)))?;
    let word = all.get(at)?;
    if !matches!(word.kind, TokenKind::Word | TokenKind::QuotedName) {
        return None;
    }
    let context = Context::of(text, word.range.end, around);
    let name = name_of(word);
    let called = all.get(at + 1).is_some_and(|next| next.sign(b'('));
    let dotted = at > 0 && all.get(at - 1).is_some_and(|before| before.sign(b'.'));
    if called
        && !dotted
        && let Some(found) = function(&word.text, around)
    {
        return Some(found);
    }
    let own = |name: &Written| meaning(&context, name, at, text);
    let keyword = || (!dotted && word.kind == TokenKind::Word).then(|| keyword(&all, at, around)).flatten();
    // A name that is a keyword too, where a name can be: what is in scope comes first.
    if around.dialect.is_keyword(&word.text) { keyword().or_else(|| own(&name)) } else { own(&name).or_else(keyword) }
}

fn name_of(word: &Word) -> Written {
    match word.kind {
        TokenKind::QuotedName => {
            Written { text: jaunty_language::statement::definition::unquoted(&word.text), quoted: true }
        }
        _ => Written { text: word.text.to_lowercase(), quoted: false },
    }
}

/// Help for the keywords around a word, the longest that is known.
fn keyword(all: &[Word], at: usize, around: Surroundings<'_>) -> Option<About> {
    let help = help::of(around.dialect);
    let mut found: Option<(&help::Entry, usize)> = None;
    for from in at.saturating_sub(2)..=at {
        for to in at..(at + 3).min(all.len()) {
            let words: Vec<&str> = all.get(from..=to)?.iter().map(|w| w.text.as_str()).collect();
            if let Some(entry) = help.keyword(&words.join(" ")) {
                let longer = found.is_none_or(|(_, length)| words.len() > length);
                found = if longer { Some((entry, words.len())) } else { found };
            }
        }
    }
    let (entry, _) = found?;
    Some(About { title: entry.signature.clone(), lines: vec![entry.text.clone()], ..About::default() })
}

fn function(name: &str, around: Surroundings<'_>) -> Option<About> {
    let lower = name.to_lowercase();
    let mut own: Vec<_> = around.catalog.routines_named(&lower).collect();
    let entry = help::of(around.dialect).function(name);
    // Of what the server has our own words come first.
    own.retain(|object| entry.is_none() || object.brought_by.is_empty());
    if let Some(first) = own.first() {
        let signatures = own.iter().skip(1).map(|o| format!("{}{}", o.name, o.signature));
        let comment = [first.comment.clone()].into_iter().filter(|comment| !comment.is_empty());
        let of = if first.brought_by.is_empty() { &first.schema } else { &first.brought_by };
        let lines = comment.chain(signatures).chain([format!("{} of {of}", first.kind.word())]);
        return Some(About {
            title: format!("{}{}", first.name, first.signature),
            lines: lines.collect(),
            ..About::default()
        });
    }
    let entry = entry?;
    Some(About { title: entry.signature.clone(), lines: vec![entry.text.clone()], ..About::default() })
}

/// What a name means: a column, another name of a table, a table, a schema.
fn meaning(context: &Context<'_>, name: &Written, at: usize, text: &str) -> Option<About> {
    let dialect = context.around.dialect;
    let catalog = context.around.catalog;
    // The statement with the word in it: as one of its sources it is gone from the context.
    let whole = Shape::of(words(text, dialect, 0));
    let scope = Scope::new(&whole, catalog, dialect);
    let query = whole.query_at(at);
    let visible = scope.visible(query, whole.clause_at(query, at).0);
    let (mut path, _) = whole.path_before(at);
    path.push(name.clone());
    if let Some(owner) = path.len().checked_sub(2).and_then(|before| path.get(before)) {
        let source = visible.iter().find(|source| owner.means(&source.name.text, dialect));
        if let Some(source) = source {
            let column = source.columns.iter().find(|column| name.means(&column.name, dialect))?;
            return Some(column_about(column, source, catalog));
        }
        return about_path(&path, catalog, dialect);
    }
    let source_here = whole.queries.iter().flat_map(|query| &query.sources).find(|source| source.at == at);
    if let Some(Origin::Named(path)) = source_here.map(|source| &source.origin)
        && let Some(found) = about_path(path, catalog, dialect)
    {
        return Some(found);
    }
    if let Some(source) = visible.iter().find(|source| name.means(&source.name.text, dialect)) {
        let table = source.table.as_ref().and_then(|table| catalog.relation(table));
        let origin = whole.queries.iter().flat_map(|query| &query.sources).find(|of| of.at == source.at);
        let elsewhere = origin.and_then(|of| match &of.origin {
            Origin::Named(path) if path.len() > 1 => about_path(path, catalog, dialect),
            _ => None,
        });
        return Some(match table {
            None if elsewhere.is_some() => {
                let mut found = elsewhere.unwrap_or_default();
                found.title = format!("{} is an alias of {}", name.text, found.title);
                found
            }
            Some(object) => {
                let mut found = table_about(object, catalog, dialect);
                if !name.means(&object.name, dialect) {
                    found.title = format!("{} is an alias of {}", name.text, found.title);
                }
                found
            }
            None => About {
                title: format!("{} is defined in this statement", name.text),
                lines: source.columns.iter().map(|column| format!("{} {}", column.name, column.db_type)).collect(),
                ..About::default()
            },
        });
    }
    for source in &visible {
        if let Some(column) = source.columns.iter().find(|column| name.means(&column.name, dialect)) {
            return Some(column_about(column, source, catalog));
        }
    }
    let object = catalog.find(None, name, dialect).into_iter().next()?;
    if object.kind.has_rows() {
        return Some(table_about(object, catalog, dialect));
    }
    let mut lines = vec![format!("{} of {}", object.kind.word(), object.schema)];
    lines.extend(object.values.iter().map(|value| format!("'{value}'")));
    Some(About { title: format!("{} {}", object.name, object.signature), lines, ..About::default() })
}

/// A table by its path, in whatever database.
fn about_path(path: &[Written], catalog: &Catalog, dialect: &'static Dialect) -> Option<About> {
    if let Some(object) = catalog.relation_at(path, dialect) {
        return Some(table_about(object, catalog, dialect));
    }
    let (there, object) = catalog.relation_elsewhere(path, dialect)?;
    let mut found = table_about(object, there, dialect);
    found.lines.insert(0, format!("in the database {}", there.database));
    // The name means another table here, if it means one.
    found.table = None;
    found.elsewhere = Some(there.database.clone());
    Some(found)
}

/// A table in lines: how large it is, its columns, what its keys lead to.
pub fn table_about(object: &Object, catalog: &Catalog, dialect: &'static Dialect) -> About {
    let mut lines = Vec::new();
    if !object.comment.is_empty() {
        lines.push(object.comment.clone());
    }
    lines.extend(object.columns.iter().map(|column| column_line(column, object, catalog)));
    for other in catalog.pointing_at(&object.to_name()) {
        lines.push(format!("referenced by {}", templates::name(other, catalog, dialect)));
    }
    let rows = object.rows.map(|rows| format!(" · {} (estimate)", numbers::count(rows, "row"))).unwrap_or_default();
    let bytes = object.bytes.map(|bytes| format!(" · {}", numbers::bytes(bytes))).unwrap_or_default();
    let title = format!("{} {}{rows}{bytes}", object.kind_word(), templates::name(object, catalog, dialect));
    About { title, lines, table: Some(object.to_name()), elsewhere: None }
}

/// A column in a line: its type, its part in keys, its default, what it points at.
pub fn column_line(column: &Column, of: &Object, catalog: &Catalog) -> String {
    let mut line = format!("{}  {}", column.name, column.db_type);
    if column.key {
        line.push_str(" · key");
    }
    if !column.nullable && !column.key {
        line.push_str(" · not null");
    }
    let only = |rule: &&jaunty_seam::catalog::Constraint| rule.columns.contains(&column.name);
    for rule in of.constraints.iter().filter(only) {
        match &rule.rule {
            Rule::Foreign { to, columns, .. } => {
                let at = rule.columns.iter().position(|name| *name == column.name).unwrap_or(0);
                let there = columns.get(at).map_or("", String::as_str);
                let name =
                    if catalog.is_in_path(&to.schema) { to.name.clone() } else { format!("{}.{}", to.schema, to.name) };
                line.push_str(&format!(" → {name}.{there}"));
            }
            Rule::Unique => line.push_str(" · unique"),
            _ => {}
        }
    }
    if let Some(default) = &column.default {
        line.push_str(&format!(" · default {default}"));
    }
    match column.generated.as_deref() {
        Some(Column::BY_SERVER) => line.push_str(&format!(" · {}", Column::BY_SERVER)),
        Some(from) => line.push_str(&format!(" · from {from}")),
        None => {}
    }
    if !column.comment.is_empty() {
        line.push_str(&format!(" · {}", column.comment));
    }
    line
}

fn column_about(column: &Seen, source: &VisibleSource, catalog: &Catalog) -> About {
    let table = column.from.as_ref().map(|(table, _)| table.clone());
    let known = column.from.as_ref().and_then(|(table, name)| {
        let object = catalog.relation(table)?;
        Some((object, object.columns.iter().find(|column| column.name == *name)?))
    });
    match known {
        Some((object, full)) => {
            let mut lines = vec![format!("column of {} {}", object.kind_word(), object.name)];
            let indexes =
                object.indexes.iter().filter(|index| index.over.first().is_some_and(|over| *over == full.name));
            lines.extend(indexes.map(|index| format!("first in index {}", index.name)));
            About { title: column_line(full, object, catalog), lines, table, ..About::default() }
        }
        // Of a table of another database.
        None if !column.db_type.is_empty() => About {
            title: format!("{}  {}", column.name, column.db_type),
            lines: vec![format!("column of {}", source.name.text)],
            table,
            ..About::default()
        },
        None => About {
            title: column.name.clone(),
            lines: vec![format!(
                "assigned by {}",
                if source.name.text.is_empty() { "a query" } else { &source.name.text }
            )],
            table,
            ..About::default()
        },
    }
}

fn command(text: &str, cursor: usize, around: Surroundings<'_>) -> Option<About> {
    let line = text.get(..cursor)?.rsplit('\n').next()?.len();
    let line = text.get(cursor - line..)?.lines().next()?;
    let mut names = line.split_whitespace();
    let (first, second) = (names.next()?, names.next().unwrap_or_default());
    let help = help::of(around.dialect);
    let entry = help.keyword(&format!("{first} {second}")).or_else(|| help.keyword(first))?;
    Some(About { title: entry.signature.clone(), lines: vec![entry.text.clone()], ..About::default() })
}

/// The call that the cursor stands in: its signature, and the bytes of the argument in that which is
/// being written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Call {
    /// The signature.
    pub signature: String,
    /// The argument in it.
    pub argument: std::ops::Range<usize>,
}

/// The call around byte `cursor` of a statement.
pub fn call(text: &str, cursor: usize, around: Surroundings<'_>) -> Option<Call> {
    if around.dialect.family != Family::Sql {
        return None;
    }
    let head = words(text.get(..cursor)?, around.dialect, 0);
    let mut open: Vec<(usize, usize)> = Vec::new();
    for (at, word) in head.iter().enumerate() {
        if word.sign(b'(') {
            open.push((at, 0));
        } else if word.sign(b')') {
            open.pop();
        } else if word.sign(b',')
            && let Some((_, commas)) = open.last_mut()
        {
            *commas += 1;
        }
    }
    let (at, commas) = *open.last()?;
    let before = head.get(at.checked_sub(1)?)?;
    if before.sign(b',') || before.is_one_of(&["VALUES", "VALUE"]) {
        return row(text, cursor, around);
    }
    let name = head.get(at.checked_sub(1)?).filter(|w| matches!(w.kind, TokenKind::Word | TokenKind::QuotedName))?;
    let lower = name_of(name).text.to_lowercase();
    let signature_of = |object: &Object| format!("{}{}", object.name, object.signature);
    let (brought, own): (Vec<_>, Vec<_>) =
        around.catalog.routines_named(&lower).partition(|object| !object.brought_by.is_empty());
    let of_help = || help::of(around.dialect).function(&name.text).map(|entry| entry.signature.clone());
    // Of those of one name, the first that takes so many.
    let fitting = |all: Vec<&Object>| {
        let all: Vec<String> = all.into_iter().map(signature_of).collect();
        all.iter().find(|signature| argument(signature, commas).is_some()).or(all.first()).cloned()
    };
    let signature = fitting(own).or_else(of_help).or_else(|| fitting(brought))?;
    let argument = argument(&signature, commas)?;
    Some(Call { signature, argument })
}

/// The row of an `INSERT` that the cursor stands in, as a call: the column is the argument.
fn row(text: &str, cursor: usize, around: Surroundings<'_>) -> Option<Call> {
    let context = Context::of(text, cursor, around);
    let Inserted { table, columns, at } = inserted(&context)?;
    let path: Vec<&str> = table.iter().map(|part| part.text.as_str()).collect();
    let mut signature = format!("insert into {} (", path.join("."));
    let mut argument = None;
    for (index, name) in columns.iter().enumerate() {
        let from = signature.len() + if index == 0 { 0 } else { 2 };
        signature.push_str(if index == 0 { "" } else { ", " });
        signature.push_str(name);
        if index == at {
            argument = Some(from..signature.len());
        }
    }
    signature.push(')');
    Some(Call { signature, argument: argument? })
}

/// The bytes of an argument in a signature. One with an ellipsis stands for all that follow.
fn argument(signature: &str, number: usize) -> Option<std::ops::Range<usize>> {
    let from = signature.find('(')? + 1;
    let arguments = templates::arguments(signature.get(from - 1..)?);
    let mut at = from;
    let mut ranges = Vec::new();
    for argument in &arguments {
        let start = at + signature.get(at..)?.find(argument.as_str())?;
        at = start + argument.len();
        ranges.push(start..at);
    }
    let last = arguments.last().is_some_and(|last| last.contains('…'));
    ranges.get(number).cloned().or_else(|| ranges.pop().filter(|_| last))
}

/// The one table that a statement is about, if it names no other.
pub fn only_table(text: &str, catalog: &Catalog, dialect: &'static Dialect) -> Option<Name> {
    let shape = Shape::of(words(text, dialect, 0));
    let scope = Scope::new(&shape, catalog, dialect);
    let sources = shape.queries.iter().flat_map(|query| &query.sources);
    let mut tables = sources.filter_map(|source| match &source.origin {
        Origin::Named(path) => scope.relation(path).map(|object| object.to_name()),
        _ => None,
    });
    let first = tables.next()?;
    tables.all(|table| table == first).then_some(first)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::complete::tests::{of_a_server, saltmarsh};
    use jaunty_language::dialect::{self, POSTGRES};

    /// What is said at the mark in a text: the title, then the first line.
    fn said(name: &str, text: &str) -> String {
        let catalog = if name == "sqlserver" { of_a_server() } else { saltmarsh() };
        let cursor = text.find('|').unwrap();
        let around =
            Surroundings { catalog: &catalog, dialect: dialect::by_name(name).unwrap(), snippets: &[], nearby: "" };
        match about(&text.replacen('|', "", 1), cursor, around) {
            Some(about) => {
                [about.title].into_iter().chain(about.lines.into_iter().next()).collect::<Vec<_>>().join(" / ")
            }
            None => "nothing".into(),
        }
    }

    #[test]
    fn whatever_stands_at_the_cursor_is_explained() {
        for (dialect, text, expected) in [
            ("sqlite", "sel|ect 1", "SELECT [DISTINCT] expression [AS name], … FROM … / Reads rows."),
            (
                "sqlite",
                "select 1 from ports gr|oup by name",
                "GROUP BY expression, … / Combines rows with equal values",
            ),
            ("sqlite", "select 1 from ports group b|y name", "GROUP BY"),
            ("sqlite", "select 1 from a left join| b on 1", "LEFT JOIN table ON condition / Like JOIN"),
            ("sqlite", "select 1 where a is not |null", "IS NOT NULL / True if the value is not NULL."),
            ("sqlite", "select cou|nt(*) from ports", "count(expression | *) -> integer / How many"),
            ("postgres", "select ti|de(1, 2)", "tide(port integer, days integer) returns numeric / function of public"),
            ("postgres", "select * from po|rts", "table ports / id  integer · key"),
            ("postgres", "select * from |ports where id = 1", "table ports / id"),
            ("postgres", "select * from ops.cr|ew", "table ops.crew / id"),
            ("postgres", "select p|.name from ports p", "p is an alias of table ports / id"),
            ("postgres", "select p.name from ports p|", "p is an alias of table ports / id"),
            ("postgres", "select p.na|me from ports p", "name  text / column of table ports"),
            ("postgres", "select na|me from ports", "name  text / column of table ports"),
            (
                "postgres",
                "select s.route|_id from sailings s",
                "route_id  integer → routes.id / column of table sailings",
            ),
            ("postgres", "with x as (select 1 as n) select * from x|", "x is defined in this statement / n "),
            ("postgres", "with x as (select 1 as n) select n| from x", "n / assigned by x"),
            ("postgres", "select null::mo|od", "mood enum / type of public"),
            ("postgres", "select 'ports|'", "nothing"),
            ("postgres", "select 1 -- ports|", "nothing"),
            ("postgres", "select unkno|wn", "nothing"),
            ("postgres", "select \"na|me\" from ports", "name  text / column of table ports"),
            ("mysql", "select date_for|mat(a, b)", "date_format(date, format) -> text / A date and time in a format"),
            ("sqlserver", "select * from archive.dbo.po|rts", "table ports / in the database archive"),
            ("sqlserver", "select * from archive..ti|ckets t", "table tickets / in the database archive"),
            ("sqlserver", "select t|.id from archive..tickets t", "t is an alias of table tickets / in the database"),
            ("sqlserver", "select t.fa|re from archive..tickets t", "fare  int / column of t"),
            ("sqlserver", "select * from elsewhere.dbo.po|rts", "nothing"),
            ("redis", "hge|t key field", "HGET key field / The value of a field"),
            ("redis", "client lis|t", "CLIENT LIST / Lists the clients"),
            ("redis", "get ke|y", "GET key / The string"),
        ] {
            let found = said(dialect, text);
            assert!(found.starts_with(expected), "{text}\n  expected {expected}\n  found    {found}");
        }
    }

    #[test]
    fn words_of_documents_are_explained() {
        let catalog = crate::complete::tests::collections();
        let around = Surroundings { catalog: &catalog, dialect: &dialect::DOCUMENTS, snippets: &[], nearby: "" };
        for (text, expected) in [
            ("sail‸ings { delay: 1 }", "table sailings / _id"),
            (
                "sailings coun‸t { delay: 1 }",
                "count { filter } / How many documents match the filter. / sent as { count: \"sailings\", query: { delay: 1 } }",
            ),
            ("sailings { del‸ay: 1 }", "delay  int · not null / column of sailings"),
            ("sailings { \"port.co‸de\": 1 }", "port.code  string"),
            ("sailings { delay: { $g‸t: 1 } }", "$gt / greater"),
            ("sailings | gro‸up { _id: 1 }", "group { _id: null, n: { $sum: 1 } } / groups by _id"),
            ("sailings | group { _id: '$port.c‸ode' }", "port.code  string"),
            ("sailings update { } { $in‸c: { delay: 1 } }", "$inc: {  } / increments a number"),
            ("{ fi‸nd: 'sailings' }", "find: \"collection\", filter: {  } / documents"),
            ("sailings { name: 'Quay‸' }", "nothing"),
            ("sailings // del‸ay", "nothing"),
        ] {
            let cursor = text.find('‸').unwrap();
            let found = about(&text.replacen('‸', "", 1), cursor, around);
            let found = found.map_or("nothing".to_owned(), |about| {
                [about.title].into_iter().chain(about.lines).collect::<Vec<_>>().join(" / ")
            });
            assert!(found.starts_with(expected), "{text}\n  expected {expected}\n  found    {found}");
        }
    }

    #[test]
    fn the_argument_that_is_being_written_is_told() {
        let catalog = saltmarsh();
        for (text, expected) in [
            ("select round(|", "[number]"),
            ("select round(1, |", "[digits?]"),
            ("select round(abs(1, 2), |", "[digits?]"),
            ("select coalesce(1, 2, 3, |", "[…]"),
            ("select tide(1, |", "[days integer]"),
            ("select round(1, 2)|", "none"),
            ("select (|", "none"),
            ("select round('a, b', |", "[digits?]"),
            ("insert into ports values (1, |", "[name]"),
            ("insert into ports (name, berths) values ('a', 1), (round(1, 2), |)", "[berths]"),
            ("insert into ports (name, berths) values ('a', 1, |", "none"),
            ("insert into nowhere values (1, |", "none"),
        ] {
            let cursor = text.find('|').unwrap();
            let around = Surroundings { catalog: &catalog, dialect: &POSTGRES, snippets: &[], nearby: "" };
            let found = call(&text.replacen('|', "", 1), cursor, around);
            let found = found.map_or("none".to_owned(), |call| format!("[{}]", &call.signature[call.argument]));
            assert_eq!(found, expected, "{text}");
        }
    }

    #[test]
    fn a_statement_about_one_table_is_about_it_anywhere() {
        let catalog = saltmarsh();
        let only = |text: &str| only_table(text, &catalog, &POSTGRES).map(|table| table.name);
        assert_eq!(only("select * from ports where id = 1").as_deref(), Some("ports"));
        assert_eq!(only("update ports set name = 'x' where id in (select id from ports)").as_deref(), Some("ports"));
        assert_eq!(only("select * from ports p join routes r on true"), None);
        assert_eq!(only("select * from nowhere"), None);
    }
}
