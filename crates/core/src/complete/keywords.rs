//! Keywords by clause, functions and types.

use super::context::{Context, Place};
use super::rank::fit;
use super::snippets::Snippet;
use super::{Found, Kind, definitions, escaped};
use crate::catalog::templates;
use jaunty_language::dialect::Dialect;
use jaunty_language::help;
use jaunty_language::statement::shape::Clause;
use jaunty_seam::catalog::{Object, ObjectKind};

/// Puts those in that the dialect has, in the case of the others.
pub(super) fn put(context: &Context<'_>, found: &mut Found, words: &[&str], weight: i32) {
    for (place, word) in words.iter().enumerate() {
        if !knows(context.around.dialect, word) {
            continue;
        }
        let cased = context.cased(word);
        let weight = weight - i32::try_from(place).unwrap_or(0).min(20);
        found.put(Kind::Keyword, &cased, "", escaped(&cased), weight);
    }
}

/// Puts phrases in whose words need not be keywords, but for those that the language does not have.
pub(super) fn say(context: &Context<'_>, found: &mut Found, words: &[&str], weight: i32) {
    let unsaid = context.around.dialect.phrases.map_or(&[][..], |phrases| phrases.unsaid);
    for (place, word) in words.iter().enumerate().filter(|(_, word)| !unsaid.contains(word)) {
        let cased = context.cased(word);
        let weight = weight - i32::try_from(place).unwrap_or(0).min(20);
        found.put(Kind::Keyword, &cased, "", escaped(&cased), weight);
    }
}

/// Whether the dialect has all of these words, and says them together.
fn knows(dialect: &'static Dialect, words: &str) -> bool {
    if dialect.phrases.is_some_and(|phrases| phrases.unsaid.contains(&words)) {
        return false;
    }
    words.split(' ').all(|word| dialect.is_keyword(word)) || help::of(dialect).keyword(words).is_some()
}

/// Words that begin a statement.
pub(super) fn starts(context: &Context<'_>, found: &mut Found) {
    const USUAL: &[&str] = &[
        "select",
        "insert into",
        "update",
        "delete from",
        "with",
        "create table",
        "create view",
        "create index",
        "alter table",
        "drop table",
        "exec",
        "declare",
        "print",
        "merge into",
        "begin try",
        "explain",
        "begin",
        "commit",
        "rollback",
    ];
    put(context, found, USUAL, 70);
    let language = context.around.dialect.name;
    let is_own = |snippet: &Snippet| snippet.dialect.as_deref() == Some(language);
    let has_own = |name: &str| context.around.snippets.iter().any(|other| other.name == name && is_own(other));
    for snippet in context.around.snippets {
        // One of this language stands before one of the same name for all of them.
        if is_own(snippet) || snippet.dialect.is_none() && !has_own(&snippet.name) {
            let line = jaunty_language::edit::snippet::Snippet::plain(&snippet.text);
            let line = line.split_whitespace().collect::<Vec<_>>().join(" ");
            let line: String = line.chars().take(40).collect();
            found.put(Kind::Snippet, &snippet.name, line, snippet.text.clone(), 45);
        }
    }
    for starter in context.around.dialect.starters {
        let cased = context.cased(starter.word);
        found.put(Kind::Keyword, &cased, "", escaped(&cased), 40);
    }
}

/// Behind a table: joins and the clauses that follow.
pub(super) fn after_source(context: &Context<'_>, found: &mut Found) {
    if context.back(1).is_some_and(|w| w.is_one_of(&["LEFT", "RIGHT", "FULL", "INNER", "CROSS", "NATURAL", "OUTER"])) {
        return put(context, found, &["join", "outer join"], 80);
    }
    let query = context.shape.queries.get(context.query);
    let joins = query.is_some_and(|query| {
        let last = query.sources.iter().rev().find(|source| source.at < context.begins);
        let before = last.and_then(|last| last.at.checked_sub(1)).and_then(|at| context.shape.words.get(at));
        before.is_some_and(|w| w.is("JOIN"))
    });
    if joins {
        let conditions = if knows(context.around.dialect, "join using") { &["on", "using"][..] } else { &["on"] };
        put(context, found, conditions, 78);
    }
    put(
        context,
        found,
        &[
            "where",
            "join",
            "left join",
            "group by",
            "order by",
            "limit",
            "inner join",
            "cross join",
            "right join",
            "full join",
            "natural join",
            "cross apply",
            "outer apply",
        ],
        60,
    );
    if changes_rows(context) {
        put(context, found, &["set", "where", "returning", "output"], 62);
    }
    put(
        context,
        found,
        &[
            "as",
            "having",
            "union",
            "union all",
            "except",
            "intersect",
            "window",
            "offset",
            "for update",
            "option",
            "for json path",
            "for xml path",
            "pivot",
        ],
        30,
    );
}

/// Words that can stand in an expression.
pub(super) fn operands(context: &Context<'_>, found: &mut Found) {
    let previous = |word: &str| context.back(1).is_some_and(|w| w.is(word));
    if context.back(1).is_some_and(|w| w.sign(b'(')) && context.back(2).is_some_and(|w| w.is("OVER")) {
        return put(context, found, &["partition by", "order by"], 80);
    }
    if previous("IS") {
        return put(context, found, &["null", "not null", "true", "false", "distinct from"], 90);
    }
    if previous("NOT") && context.back(2).is_some_and(|w| !w.is_one_of(&["WHERE", "AND", "OR", "ON"])) {
        put(context, found, &["null", "in", "like", "between", "exists"], 80);
    }
    if previous("SELECT") {
        put(context, found, &["distinct", "top"], 25);
    }
    put(
        context,
        found,
        &[
            "case",
            "not",
            "exists",
            "null",
            "true",
            "false",
            "cast",
            "current_date",
            "current_timestamp",
            "interval",
            "select",
        ],
        12,
    );
    if context.clause.0 == Clause::Limit {
        put(context, found, &["all"], 10);
    }
}

/// Behind an expression.
pub(super) fn after_operand(context: &Context<'_>, found: &mut Found) {
    const OPERATORS: &[&str] = &[
        "and",
        "or",
        "is null",
        "is not null",
        "in",
        "like",
        "ilike",
        "between",
        "not in",
        "not like",
        "collate",
        "regexp",
        "glob",
        "match",
        "rlike",
        "similar to",
        "div",
        "xor",
    ];
    if touched_rows(context, found) {
        return;
    }
    let clause = context.clause.0;
    let nested = context.open.is_some_and(|open| open >= context.clause.1);
    let writes = changes_rows(context);
    if writes && !nested && clause == Clause::Where {
        let further = context.around.dialect.phrases.map_or(&[][..], |phrases| phrases.writing[3]);
        say(context, found, further, 45);
    }
    let in_case = cases_open(context);
    if in_case {
        put(context, found, &["when", "then", "else", "end"], 75);
    }
    let next: &[&str] = match clause {
        _ if nested => &[],
        Clause::Select => &["from", "as", "into", "union", "where", "limit", "top"],
        Clause::On | Clause::Using => {
            &["where", "join", "left join", "group by", "order by", "limit", "inner join", "cross join", "set"]
        }
        Clause::Where if writes => &[],
        Clause::Where => &[
            "group by",
            "order by",
            "limit",
            "having",
            "union",
            "union all",
            "for update",
            "window",
            "option",
            "for json path",
        ],
        Clause::GroupBy => &["having", "order by", "limit", "with rollup", "union", "window"],
        Clause::Having => &["order by", "limit", "union", "window"],
        Clause::OrderBy => &[
            "desc",
            "asc",
            "limit",
            "nulls last",
            "nulls first",
            "offset",
            "fetch next",
            "for update",
            "option",
            "for json path",
        ],
        Clause::Limit => &["offset", "union"],
        Clause::Set if !knows(context.around.dialect, "update from") => &["where", "order by", "limit"],
        Clause::Set => &["where", "from", "returning", "output"],
        Clause::Values => &["returning", "on conflict", "on duplicate key update"],
        Clause::Returning => &["as"],
        Clause::Conflict => &["do update set", "do nothing", "where", "returning"],
        _ => &[],
    };
    let conditions = matches!(clause, Clause::Where | Clause::On | Clause::Having | Clause::Select | Clause::Set)
        || nested
        || in_case;
    if clause == Clause::OrderBy || clause == Clause::Select || clause == Clause::Set || clause == Clause::GroupBy {
        put(context, found, next, 60);
        put(context, found, OPERATORS, 20);
    } else if conditions {
        put(context, found, OPERATORS, 60);
        put(context, found, next, 45);
    } else {
        put(context, found, next, 60);
    }
    if context.back(1).is_some_and(|w| w.sign(b')')) {
        put(context, found, &["over", "filter", "within group"], 15);
    }
    if nested {
        put(context, found, &["as", "order by", "partition by", "desc", "asc", "rows between", "separator"], 15);
    }
}

/// Whether the cursor stands in a CASE that has not ended.
fn cases_open(context: &Context<'_>) -> bool {
    let words = context.shape.words.get(context.clause.1..context.begins).unwrap_or_default();
    let count = |word: &str| words.iter().filter(|w| w.is(word)).count();
    count("CASE") > count("END")
}

/// Whether the query at the cursor is an `UPDATE` or a `DELETE`: what an `INSERT` takes its rows from is one that reads.
fn changes_rows(context: &Context<'_>) -> bool {
    let query = context.shape.queries.get(context.query);
    let target = query.and_then(|query| query.sources.get(query.target?));
    let before = target.and_then(|target| context.shape.words.get(target.at.checked_sub(1)?));
    before.is_some_and(|word| !word.is("INTO"))
}

/// Behind `OUTPUT`: the rows as they are, and as they were.
fn touched_rows(context: &Context<'_>, found: &mut Found) -> bool {
    let outputs = context.back(1).is_some_and(|w| w.is("OUTPUT"));
    for name in ["inserted", "deleted"].into_iter().filter(|_| outputs) {
        found.put(Kind::Alias, name, "rows that were touched", format!("{name}."), 70);
    }
    outputs
}

/// Behind the table that is written to, and behind a common table expression.
pub(super) fn after_target(context: &Context<'_>, found: &mut Found) {
    if context.clause.0 == Clause::With {
        if context.back(1).is_some_and(|w| w.is("AS")) {
            found.put(Kind::Keyword, "(", "its query", "(\n  $0\n)", 60);
            return put(context, found, &["materialized", "not materialized"], 20);
        }
        return put(context, found, &["select", "insert into", "update", "delete from"], 70);
    }
    if touched_rows(context, found) {
        return;
    }
    let first = |word: &str| {
        let from = context.shape.queries.get(context.query).map_or(0, |query| query.words.start);
        (from..context.begins).any(|at| context.shape.words.get(at).is_some_and(|w| w.is(word)))
    };
    let writing = context.around.dialect.phrases.map(|phrases| phrases.writing);
    match writing {
        // Of what merges the sources come first.
        _ if first("MERGE") => say(context, found, &["using", "as"], 60),
        Some([insert, ..]) if first("INTO") => say(context, found, insert, 60),
        Some([_, delete, ..]) if first("DELETE") => say(context, found, delete, 60),
        Some([.., update, _]) => say(context, found, update, 60),
        None => {}
    }
}

/// Functions of the catalog and of the server.
pub(super) fn functions(context: &Context<'_>, found: &mut Found) {
    put_functions(context, found, |_| true, |_| true);
}

/// Those that give rows, as what a query reads from.
pub(super) fn functions_of_rows(context: &Context<'_>, found: &mut Found) {
    // A list of tables is not made longer by them before a letter is typed.
    if context.clause.0 != Clause::From || !context.qualifier.is_empty() || context.typed.is_empty() {
        return;
    }
    let gives_rows = |signature: &str| signature.ends_with("-> rows") || signature.ends_with("-> table");
    put_functions(context, found, Object::gives_rows, gives_rows);
}

fn put_functions(
    context: &Context<'_>,
    found: &mut Found,
    is_meant: impl Fn(&Object) -> bool,
    is_of_help: impl Fn(&str) -> bool,
) {
    let (catalog, dialect) = (context.around.catalog, context.around.dialect);
    let help = help::of(dialect);
    // There are hundreds: they leave room for the columns, of which less is known without what is read from.
    let nothing_typed = context.typed.is_empty();
    let of_server = if nothing_typed { 5 } else { 14 };
    // They are called with a parenthesis that is there already.
    let called = context.next().is_some_and(|w| w.sign(b'('));
    let insert = |name: &str, signature: &str| match (called, signature) {
        (true, _) => name.to_owned(),
        (false, signature) if signature.starts_with("()") => format!("{name}()"),
        _ => format!("{name}($1)$0"),
    };
    // Of what the server has our own words come first. Only what fits is written out: there may be thousands.
    let is_wanted = |object: &&Object| {
        let is_brought = || !nothing_typed && !context.quoted && help.function(&object.name).is_none();
        is_meant(object)
            && fit(&context.typed, &object.name).is_some()
            && (object.brought_by.is_empty() || is_brought())
    };
    for object in catalog.usable(ObjectKind::Function).filter(is_wanted) {
        let is_own = object.brought_by.is_empty();
        let name = escaped(&templates::function_name(object, catalog, dialect));
        let kind = if is_own { Kind::Object(ObjectKind::Function) } else { Kind::Function };
        let insert = insert(&name, if is_own { "" } else { &object.signature });
        let detail = object.signature.replacen(") returns ", ") -> ", 1);
        found.put(kind, &object.name, detail, insert, if is_own { 24 } else { of_server - 4 });
    }
    // None of them is called by a name in quotes.
    for entry in help
        .entries()
        .iter()
        .filter(|_| !context.quoted)
        .filter(|entry| entry.kind == help::Kind::Function && is_of_help(&entry.signature))
    {
        let (_, signature) = entry.signature.split_at(entry.name.len().min(entry.signature.len()));
        let insert = match signature.starts_with('(') {
            true => insert(&entry.name, signature),
            false => entry.name.clone(),
        };
        found.put(Kind::Function, &entry.name, signature, insert, of_server);
    }
}

/// Types: the dialect's, and those of the catalog.
pub(super) fn types(context: &Context<'_>, found: &mut Found) {
    for (place, name) in context.around.dialect.types.iter().enumerate() {
        let weight = 50 - i32::try_from(place / 4).unwrap_or(0).min(20);
        found.put(Kind::Type, name, "type", escaped(name), weight);
    }
    for object in context.around.catalog.usable(ObjectKind::Type) {
        let name = templates::name(object, context.around.catalog, context.around.dialect);
        found.put(Kind::Type, &object.name, object.signature.clone(), escaped(&name), 45);
    }
}

/// Words of a definition, by the words before.
pub(super) fn definition(context: &Context<'_>, found: &mut Found) {
    if definitions::complete(context, found) {
        return;
    }
    let first = context.shape.words.first().map(|w| w.text.clone()).unwrap_or_default();
    let previous = context.back(1).map(|w| w.text.clone()).unwrap_or_default();
    let words: &[&str] = match (first.as_str(), previous.as_str()) {
        (_, "VIRTUAL") => &["table"],
        ("SET", "SET") => &[
            "nocount",
            "xact_abort",
            "transaction isolation level",
            "identity_insert",
            "statistics xml",
            "showplan_xml",
            "statistics io",
            "statistics time",
        ],
        ("COMMIT" | "SAVE", "COMMIT" | "SAVE") => &["transaction", "tran", "work"],
        ("ROLLBACK", "ROLLBACK") => &["transaction", "to", "to savepoint", "tran", "work"],
        ("BEGIN", "BEGIN") => &["transaction", "tran", "try"],
        ("REFRESH", "REFRESH") => &["materialized view"],
        ("REFRESH", "MATERIALIZED") => &["view"],
        ("PRAGMA", _) => &[],
        ("EXPLAIN", _) => &["analyze", "query plan", "select", "insert into", "update", "delete from", "with"],
        ("BEGIN", _) => &["transaction", "immediate", "exclusive", "isolation level", "read only"],
        ("COMMENT", _) => &["on table", "on column", "is"],
        ("SHOW", _) => {
            &["tables", "databases", "columns", "create table", "index", "processlist", "variables", "warnings"]
        }
        ("COPY", _) => &["from stdin", "to stdout"],
        (
            "TRUNCATE" | "LOCK" | "ANALYZE" | "OPTIMIZE" | "REINDEX",
            "TRUNCATE" | "LOCK" | "ANALYZE" | "OPTIMIZE" | "REINDEX",
        ) => &["table"],
        ("SAVEPOINT" | "RELEASE" | "ATTACH" | "DETACH" | "USE" | "KILL" | "SIGNAL" | "IF" | "WHILE", _) => &[],
        _ => &["from", "to", "on"],
    };
    put(context, found, words, 60);
    if context.place == Place::Definition && first == "PRAGMA" && context.begins == 1 {
        for entry in help::of(context.around.dialect).entries().iter().filter(|e| e.name.starts_with("PRAGMA ")) {
            let name = entry.name.trim_start_matches("PRAGMA ").to_lowercase();
            found.put(Kind::Keyword, &name, "", name.clone(), 60);
        }
    }
}
