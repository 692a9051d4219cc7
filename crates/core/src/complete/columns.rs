//! Columns of what is in scope.

use super::context::Context;
use super::rank::fit;
use super::scope::{Seen, VisibleSource};
use super::{Found, Kind, escaped};
use jaunty_language::edit::snippet::unfilled_place;
use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::Written;
use jaunty_language::statement::shape::{Clause, Origin};
use jaunty_seam::catalog::Object;

/// The columns that can be seen, those of the query itself first. One that several tables have is
/// written with the table before it.
pub(super) fn columns(context: &Context<'_>, found: &mut Found) {
    let visible = context.visible();
    if visible.is_empty() {
        return everywhere(context, found);
    }
    for source in &visible {
        for (place, column) in source.columns.iter().enumerate() {
            let shared = visible.iter().filter(|other| other.outer == source.outer && has(other, column)).count() > 1;
            let name = context.written(&column.name);
            let insert = if shared && !source.name.text.is_empty() {
                format!("{}.{name}", context.written(&source.name.text))
            } else {
                name
            };
            let near = 60
                - 15 * i32::try_from(source.outer).unwrap_or(3).min(3)
                - i32::try_from(place / 8).unwrap_or(9).min(9);
            found.put(Kind::Column, &column.name, detail(column, source), escaped(&insert), near);
        }
        if !source.name.text.is_empty() {
            let table = source.table.as_ref().map_or("", |table| table.name.as_str());
            let insert = format!("{}.", escaped(&context.written(&source.name.text)));
            found.put(Kind::Alias, &source.name.text, table, insert, 30);
        }
    }
    // What is selected can be named where rows are put in order or together.
    if matches!(context.clause.0, Clause::OrderBy | Clause::GroupBy | Clause::Having) {
        for column in context.scope().given(context.query, 0).iter().filter(|column| column.from.is_none()) {
            if !column.name.is_empty() {
                found.put(Kind::Column, &column.name, "selected", escaped(&context.written(&column.name)), 65);
            }
        }
    }
}

fn has(source: &VisibleSource, column: &Seen) -> bool {
    source.columns.iter().any(|other| other.name == column.name)
}

fn detail(column: &Seen, source: &VisibleSource) -> String {
    let key = if column.key { " key" } else { "" };
    let of = if source.name.text.is_empty() { String::new() } else { format!(" · {}", source.name.text) };
    format!("{}{key}{of}", column.db_type).trim_start_matches(" · ").to_owned()
}

/// How many columns are proposed where any could be meant, and how many names are looked at for it.
const MOST: usize = 60;
const FURTHEST: usize = 10_000;

/// Before there is a `FROM`: any column of any table, once there is something to choose by.
fn everywhere(context: &Context<'_>, found: &mut Found) {
    // A quote alone says that a name is meant.
    if context.typed.len() < 2 && !context.quoted {
        return;
    }
    let names = context.around.catalog.column_names();
    let mut chosen: Vec<&str> = names.beginning_with(&context.typed).take(MOST).collect();
    if chosen.len() < MOST {
        // Others that fit, as far as there is time to look.
        let others = names.with_letters_of(&context.typed).take(FURTHEST);
        let mut others: Vec<(i32, &str)> = others.filter_map(|name| Some((fit(&context.typed, name)?, name))).collect();
        others.sort_by_key(|(fit, _)| -fit);
        chosen.extend(others.into_iter().take(MOST).map(|(_, name)| name));
    }
    for name in chosen {
        // Whoever begins with a quote may mean one that needs it.
        let needs = context.quoted && context.around.dialect.name_as_written(name) != name;
        found.put(Kind::Column, name, "", escaped(&context.written(name)), if needs { 20 } else { 10 });
    }
}

/// The columns of what stands before the dot.
pub(super) fn qualified(context: &Context<'_>, found: &mut Found) {
    let (catalog, dialect) = (context.around.catalog, context.around.dialect);
    let Some(owner) = context.qualifier.last() else { return };
    let visible = context.visible();
    let named = |source: &&VisibleSource| context.qualifier.len() == 1 && owner.means(&source.name.text, dialect);
    let by_path = |source: &&VisibleSource| {
        let table = source.table.as_ref();
        context.qualifier.len() < 3
            && table.is_some_and(|table| {
                let schema = context.qualifier.len().checked_sub(2).and_then(|at| context.qualifier.get(at));
                owner.means(&table.name, dialect) && schema.is_some_and(|schema| schema.means(&table.schema, dialect))
            })
    };
    let source = visible.iter().find(named).or_else(|| visible.iter().find(by_path));
    match source {
        Some(source) => {
            for column in &source.columns {
                let insert = escaped(&context.written(&column.name));
                found.put(Kind::Column, &column.name, detail(column, source), insert, 60);
            }
            if context.typed.is_empty() && context.clause.0 == Clause::Select {
                found.put(Kind::List, "*", "all columns", "*", 0);
            }
        }
        // A table that the query does not name yet.
        None => {
            let elsewhere = catalog.relation_elsewhere(&context.qualifier, dialect).map(|(_, object)| object);
            if let Some(object) = catalog.relation_at(&context.qualifier, dialect).or(elsewhere) {
                put_all(object, context, found, &[]);
            } else if visible.is_empty() && context.qualifier.len() == 1 && context.clause.0 == Clause::Select {
                of_tables_to_come(owner, context, found);
            }
        }
    }
}

/// Behind `select s.` before there is a `FROM`: the columns of tables that `s` may come to stand for, as it
/// stands for `sailings`.
fn of_tables_to_come(owner: &Written, context: &Context<'_>, found: &mut Found) {
    const TABLES: usize = 5;
    let begins = |name: &str| {
        let name = name.to_lowercase();
        let initials: String = name.split('_').filter_map(|part| part.chars().next()).collect();
        name.starts_with(&owner.text) || initials == owner.text
    };
    let catalog = context.around.catalog;
    let tables = catalog.objects().iter().filter(|o| o.kind.has_rows() && catalog.is_in_path(&o.schema));
    for (place, object) in tables.filter(|object| begins(&object.name)).take(TABLES).enumerate() {
        for column in &object.columns {
            let detail = format!("{} · {}", column.db_type, object.name);
            let insert = escaped(&context.written(&column.name));
            found.put(Kind::Column, &column.name, detail, insert, 50 - i32::try_from(place).unwrap_or(0) * 5);
        }
    }
}

fn put_all(object: &Object, context: &Context<'_>, found: &mut Found, but: &[String]) {
    for column in object.columns.iter().filter(|column| !but.contains(&column.name.to_lowercase())) {
        let key = if column.key { " key" } else { "" };
        let insert = escaped(&context.written(&column.name));
        found.put(Kind::Column, &column.name, format!("{}{key}", column.db_type), insert, 60);
    }
}

/// The columns of the table that is written to, or that a definition is about, without those that
/// stand in the list already.
pub(super) fn of_table(context: &Context<'_>, found: &mut Found) {
    if context.clause.0 == Clause::Using {
        return shared(context, found);
    }
    let named = named_in_list(context);
    let Some(path) = context.table_in_hand() else { return };
    let elsewhere = context.around.catalog.relation_elsewhere(&path, context.around.dialect).map(|(_, object)| object);
    match context.scope().relation(&path).or(elsewhere) {
        Some(object) => put_all(object, context, found, &named),
        // The table that is being made.
        None => own_columns(context, found, &named),
    }
}

/// The columns of a table in the middle of its definition: the first word of each line of the list.
fn own_columns(context: &Context<'_>, found: &mut Found, but: &[String]) {
    let shape = &context.shape;
    let Some(open) = (0..shape.words.len()).find(|at| shape.words.get(*at).is_some_and(|w| w.sign(b'('))) else {
        return;
    };
    let mut depth = 0;
    for at in open..shape.words.len() {
        let Some(word) = shape.words.get(at) else { break };
        if word.sign(b'(') {
            depth += 1;
        } else if word.sign(b')') {
            depth -= 1;
        }
        let begins = (word.sign(b'(') || word.sign(b',')) && depth == 1;
        let Some(name) = shape.name_at(at + 1).filter(|name| begins && !name.text.is_empty()) else { continue };
        let rule = shape.words.get(at + 1).is_some_and(|w| {
            w.is_one_of(&["PRIMARY", "FOREIGN", "UNIQUE", "CHECK", "CONSTRAINT", "KEY", "INDEX", "EXCLUDE", "LIKE"])
        });
        if !rule && !but.contains(&name.text) {
            found.put(Kind::Column, &name.text, "", escaped(&context.written(&name.text)), 60);
        }
    }
}

/// The names in the list around the cursor.
fn named_in_list(context: &Context<'_>) -> Vec<String> {
    let from = context.open.unwrap_or(context.clause.1);
    let end = context.shape.closing(from, context.shape.words.len());
    let end = if context.open.is_some() { end } else { context.begins };
    let name = |at: usize| {
        // In SET the column stands before the sign.
        let sets = context.clause.0 != Clause::Set || context.shape.words.get(at + 1).is_some_and(|w| w.sign(b'='));
        context.shape.name_at(at).filter(|name| sets && !name.text.is_empty()).map(|name| name.text.to_lowercase())
    };
    (from + 1..end).filter(|at| *at != context.at).filter_map(name).collect()
}

/// The columns that both sides of a join have.
fn shared(context: &Context<'_>, found: &mut Found) {
    let visible: Vec<_> = context.visible().into_iter().filter(|source| source.outer == 0).collect();
    let Some((last, before)) = visible.split_last() else { return };
    for column in &last.columns {
        if before.iter().any(|source| has(source, column)) {
            found.put(Kind::Column, &column.name, detail(column, last), escaped(&context.written(&column.name)), 60);
        }
    }
}

/// Behind `GROUP BY`: all that is selected and not put together, at once. Behind `SELECT`: the
/// columns one by one instead of a star.
pub(super) fn whole_list(context: &Context<'_>, found: &mut Found) {
    let Some(previous) = context.back(1) else { return };
    if previous.is("BY")
        && context.clause.0 == Clause::GroupBy
        && let Some(list) = ungrouped(context)
    {
        found.put(Kind::List, &list, "what is selected", escaped(&list), 90);
    }
    if previous.sign(b'(') && context.back(2).is_some_and(|w| w.is("COUNT")) {
        found.put(Kind::List, "*", "all rows", "*", 62);
    }
    if !previous.is_one_of(&["SELECT", "DISTINCT"]) || context.clause.0 != Clause::Select {
        return;
    }
    found.put(Kind::List, "*", "all columns", "*", 20);
    let visible: Vec<_> = context.visible().into_iter().filter(|source| source.outer == 0).collect();
    if let ([source], true) = (visible.as_slice(), context.typed.is_empty()) {
        let names: Vec<_> = source.columns.iter().map(|column| context.written(&column.name)).collect();
        if names.len() > 1 && !source.unknown {
            let list = names.join(", ");
            found.put(Kind::List, &list, "every column", escaped(&list), 0);
        }
    }
}

/// The selected expressions without those that hold an aggregate, as they are written.
fn ungrouped(context: &Context<'_>) -> Option<String> {
    let query = context.shape.queries.get(context.query)?;
    let mut all = Vec::new();
    for item in &query.items {
        let words = context.shape.words.get(item.clone())?;
        let aggregates = words.windows(2).any(|pair| {
            let [name, open] = pair else { return false };
            open.sign(b'(') && is_aggregate(&name.text)
        });
        if aggregates {
            continue;
        }
        // Without its other name.
        let mut end = words.len();
        if words.len() > 2 && words.get(end - 2).is_some_and(|w| w.is("AS")) {
            end -= 2;
        } else if words.len() > 1
            && matches!(words.get(end - 1).map(|w| w.kind), Some(TokenKind::Word | TokenKind::QuotedName))
            && words.get(end - 2).is_some_and(|w| {
                w.sign(b')') || (w.kind == TokenKind::Word && !w.sign(b'.')) || w.kind == TokenKind::QuotedName
            })
        {
            end -= 1;
        }
        all.push(as_written(words.get(..end)?));
    }
    (!all.is_empty() && all.iter().all(|item| item != "*" && !item.is_empty())).then(|| all.join(", "))
}

/// Tokens as a person would write them in a line.
fn as_written(words: &[jaunty_language::statement::shape::Word]) -> String {
    let mut text = String::new();
    for (at, word) in words.iter().enumerate() {
        let before = at.checked_sub(1).and_then(|at| words.get(at));
        let tight = word.sign(b'.')
            || word.sign(b',')
            || word.sign(b')')
            || word.sign(b'(')
            || word.sign(b':')
            || before.is_none_or(|b| b.sign(b'.') || b.sign(b'(') || b.sign(b':'));
        if !tight {
            text.push(' ');
        }
        let plain = word.kind == TokenKind::Word;
        text.push_str(&if plain { word.text.to_lowercase() } else { word.text.clone() });
    }
    text
}

/// Whether a function puts rows together, as the standard names them and the servers add.
pub(super) fn is_aggregate(name: &str) -> bool {
    const ALL: &[&str] = &[
        "COUNT",
        "SUM",
        "AVG",
        "MIN",
        "MAX",
        "TOTAL",
        "GROUP_CONCAT",
        "STRING_AGG",
        "ARRAY_AGG",
        "JSON_AGG",
        "JSONB_AGG",
        "JSON_OBJECT_AGG",
        "JSONB_OBJECT_AGG",
        "BOOL_AND",
        "BOOL_OR",
        "EVERY",
        "BIT_AND",
        "BIT_OR",
        "BIT_XOR",
        "STDDEV",
        "STDDEV_POP",
        "STDDEV_SAMP",
        "VARIANCE",
        "VAR_POP",
        "VAR_SAMP",
        "PERCENTILE_CONT",
        "PERCENTILE_DISC",
        "MODE",
        "CORR",
        "JSON_GROUP_ARRAY",
        "JSON_GROUP_OBJECT",
        "JSON_ARRAYAGG",
        "JSON_OBJECTAGG",
        "ANY_VALUE",
        "STD",
    ];
    ALL.contains(&name)
}

/// Behind the table of an `INSERT`: all its columns with places for their values.
pub(super) fn insert(context: &Context<'_>, found: &mut Found) {
    let Some(query) = context.shape.queries.get(context.query) else { return };
    let Some(source) = query.target.and_then(|target| query.sources.get(target)) else { return };
    let inserts = (query.words.start..source.at).any(|at| context.shape.words.get(at).is_some_and(|w| w.is("INTO")));
    let Origin::Named(path) = &source.origin else { return };
    let merges = context.shape.words.first().is_some_and(|word| word.is("MERGE"));
    if merges || !inserts || source.end != context.begins {
        return;
    }
    let elsewhere =
        || context.around.catalog.relation_elsewhere(path, context.around.dialect).map(|(_, object)| object);
    let Some(object) = context.scope().relation(path).or_else(elsewhere) else { return };
    let given: Vec<_> = object.columns.iter().filter(|column| column.generated.is_none()).collect();
    let names: Vec<_> = given.iter().map(|column| context.written(&column.name)).collect();
    let places: Vec<_> = given.iter().zip(1..).map(|(column, number)| unfilled_place(number, &column.name)).collect();
    let list = names.join(", ");
    let values = context.cased("values");
    let insert = format!("({}) {values} ({})", escaped(&list), places.join(", "));
    found.put(Kind::List, &format!("({list}) {values} (…)"), "every column", insert, 80);
    found.put(Kind::List, "(", "some columns", "($1)$0", 70);
}

/// The column that a value at the cursor is compared with or set for: its name, and what is known
/// of it.
pub(super) fn compared(context: &Context<'_>) -> Option<(String, Option<Seen>)> {
    let mut at = context.begins;
    let previous = context.back(1)?;
    let word = |at: usize| context.shape.words.get(at);
    if previous.is_one_of(&["LIKE", "ILIKE", "GLOB", "REGEXP", "RLIKE"]) {
        at -= 1;
    } else if previous.sign(b'=') || previous.sign(b'>') || previous.sign(b'<') {
        at -= 1;
        while at > 0 && word(at - 1).is_some_and(|w| w.sign(b'<') || w.sign(b'>') || w.sign(b'!') || w.sign(b'=')) {
            at -= 1;
        }
    } else if let Some(Inserted { columns, at, table }) = inserted(context) {
        let name = columns.get(at)?.clone();
        let seen = at_path(context, &table).into_iter().find(|column| column.name.eq_ignore_ascii_case(&name));
        return (previous.sign(b'(') || previous.sign(b',')).then_some((name, seen));
    } else if (previous.sign(b'(') || previous.sign(b',')) && context.open.is_some() {
        // A list behind IN.
        let open = context.open?;
        if !word(open.checked_sub(1)?)?.is("IN") {
            return None;
        }
        at = open - 1;
    } else {
        return None;
    }
    while at > 0 && word(at - 1).is_some_and(|w| w.is("NOT")) {
        at -= 1;
    }
    let name = context.shape.name_at(at.checked_sub(1)?)?;
    let dialect = context.around.dialect;
    let owner = at.checked_sub(3).filter(|_| at >= 2 && word(at - 2).is_some_and(|w| w.sign(b'.')));
    let owner: Option<Written> = owner.and_then(|at| context.shape.name_at(at));
    let visible = context.visible();
    let sources = visible.iter().filter(|s| owner.as_ref().is_none_or(|owner| owner.means(&s.name.text, dialect)));
    let seen = sources.flat_map(|source| &source.columns).find(|column| name.means(&column.name, dialect)).cloned();
    Some((name.text, seen))
}

/// The row of an `INSERT` that the cursor stands in.
pub(super) struct Inserted {
    /// The table.
    pub(super) table: Vec<Written>,
    /// The columns that values are given for, in order.
    pub(super) columns: Vec<String>,
    /// Which of them the cursor is at.
    pub(super) at: usize,
}

/// The row of an `INSERT` that the cursor stands in: behind `VALUES (`, or in a further row.
pub(super) fn inserted(context: &Context<'_>) -> Option<Inserted> {
    let word = |at: usize| context.shape.words.get(at);
    let open = context.open.filter(|_| context.clause.0 == Clause::Values)?;
    let before = word(open.checked_sub(1)?)?;
    let further = before.sign(b',') && open >= 2 && word(open - 2).is_some_and(|w| w.sign(b')'));
    if !(before.is_one_of(&["VALUES", "VALUE"]) || further) {
        return None;
    }
    let query = context.shape.queries.get(context.query)?;
    let source = query.target.and_then(|target| query.sources.get(target))?;
    let Origin::Named(table) = &source.origin else { return None };
    let columns = if word(source.end).is_some_and(|w| w.sign(b'(')) {
        let close = context.shape.closing(source.end, context.shape.words.len());
        (source.end + 1..close).filter_map(|at| context.shape.name_at(at)).map(|name| name.text).collect()
    } else {
        context.scope().columns_at(table).into_iter().map(|column| column.name).collect()
    };
    let mut depth = 0;
    let mut at = 0;
    for word in context.shape.words.get(open + 1..context.begins)? {
        match word.kind {
            TokenKind::Punctuation(b'(') => depth += 1,
            TokenKind::Punctuation(b')') => depth -= 1,
            TokenKind::Punctuation(b',') if depth == 0 => at += 1,
            _ => {}
        }
    }
    Some(Inserted { table: table.clone(), columns, at })
}

/// The columns of a table by its path.
pub(super) fn at_path(context: &Context<'_>, path: &[Written]) -> Vec<Seen> {
    context.scope().columns_at(path)
}
