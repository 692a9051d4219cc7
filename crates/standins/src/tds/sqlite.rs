//! From T-SQL to SQLite's language, and the functions that the one has and the other lacks.

use rusqlite::functions::{Context, FunctionFlags};
use rusqlite::types::{Value, ValueRef};
use rusqlite::{Connection, Error};

use super::dates::{self, Moment};
use super::lex::{Kind, Token};
use super::types::{Type, text_of};

/// A statement as SQLite takes it.
#[derive(Debug, Default)]
pub struct Translated {
    pub text: String,
    /// The types that the columns were cast to, as far as they were.
    pub cast: Vec<Option<Type>>,
}

/// Hints behind a table, which mean nothing here.
const HINTS: &[&str] = &[
    "nolock",
    "holdlock",
    "updlock",
    "readpast",
    "rowlock",
    "tablock",
    "tablockx",
    "paglock",
    "xlock",
    "readuncommitted",
    "index",
    "forceseek",
    "nowait",
    "snapshot",
];

/// Functions whose first argument is the name of a part of a date.
const OF_PARTS: &[&str] = &["dateadd", "datediff", "datediff_big", "datepart", "datename", "datetrunc"];

/// Turns a statement into SQLite's language. `database` is the one in hand.
pub fn translate(tokens: &[Token], database: &str) -> Result<Translated, String> {
    let mut cast = Vec::new();
    let lead = tokens.first().map(|token| token.text.to_ascii_lowercase()).unwrap_or_default();
    let tokens = without_hints(tokens);
    let tokens = without_databases(&tokens, database);
    if lead == "select" {
        cast = casts(&tokens);
    }
    let tokens = match lead.as_str() {
        "truncate" => {
            let mut rest = tokens.iter().skip(2).cloned().collect::<Vec<_>>();
            rest.splice(0..0, [word("delete"), word("from")]);
            rest
        }
        "create" | "alter" => made(&tokens),
        "drop" if tokens.get(1).is_some_and(|kind| kind.is("index")) => {
            // The name of the table says where it is.
            let on = tokens.iter().position(|token| token.is("on")).unwrap_or(tokens.len());
            let mut kept = tokens.get(..on).unwrap_or_default().to_vec();
            let name = kept.len().saturating_sub(1);
            kept.splice(name..name, [word("dbo"), sign(".")]);
            kept
        }
        "insert" | "update" | "delete" => with_output(&tokens)?,
        "select" | "with" => into_table(&tokens),
        "merge" => return Err("MERGE is not a part of this stand-in.".into()),
        _ => tokens,
    };
    let tokens = expressions(&tokens);
    let tokens = limits(&tokens);
    Ok(Translated { text: written(&tokens), cast })
}

/// A part of a table, as SQLite takes it.
pub fn part(tokens: &[Token]) -> Vec<Token> {
    expressions(&column(tokens))
}

/// An expression, as SQLite takes it.
pub fn expression(tokens: &[Token], database: &str) -> String {
    written(&limits(&expressions(&without_databases(tokens, database))))
}

fn word(text: &str) -> Token {
    Token { kind: Kind::Word, text: text.to_owned(), line: 0, at: 0, end: 0 }
}

/// A sign.
pub fn sign(text: &str) -> Token {
    Token { kind: Kind::Sign, ..word(text) }
}

/// Tokens as a text of SQLite.
pub fn written(tokens: &[Token]) -> String {
    let mut text = String::new();
    let mut before: Option<&Token> = None;
    for token in tokens {
        let joined = before.is_none_or(|before| before.is(".") || before.is("(")) || token.is_one(&[".", ",", ")"]);
        let called = token.is("(") && before.is_some_and(|before| before.kind == Kind::Word);
        if !joined && !called {
            text.push(' ');
        }
        match token.kind {
            Kind::Text => text.push_str(&format!("'{}'", token.text.replace('\'', "''"))),
            Kind::Name => text.push_str(&format!("\"{}\"", token.text.replace('"', "\"\""))),
            Kind::Number => match token.text.strip_prefix("0x").or_else(|| token.text.strip_prefix("0X")) {
                Some(digits) => text.push_str(&format!("x'{digits}'")),
                None => text.push_str(&token.text),
            },
            // Those of a session are tables of SQLite's own place for them.
            Kind::Word if token.text.starts_with('#') => text.push_str(&format!("\"{}\"", token.text)),
            _ => text.push_str(&token.text),
        }
        before = Some(token);
    }
    text
}

/// The place of the parenthesis that closes the one at `open`.
fn closing(tokens: &[Token], open: usize) -> Option<usize> {
    let mut depth = 0_i32;
    tokens.iter().enumerate().skip(open).find_map(|(at, token)| {
        depth += i32::from(token.is("(")) - i32::from(token.is(")"));
        (depth == 0).then_some(at)
    })
}

fn without_hints(tokens: &[Token]) -> Vec<Token> {
    let mut kept: Vec<Token> = Vec::new();
    let mut at = 0;
    while let Some(token) = tokens.get(at) {
        let hints = token.is("with")
            && tokens.get(at + 1).is_some_and(|next| next.is("("))
            && tokens.get(at + 2).is_some_and(|hint| hint.is_one(HINTS));
        let options = token.is("option") && tokens.get(at + 1).is_some_and(|next| next.is("("));
        if hints || options {
            at = closing(tokens, at + 1).map_or(tokens.len(), |end| end + 1);
            continue;
        }
        kept.push(token.clone());
        at += 1;
    }
    kept
}

/// Names without the database that is in hand: `ferry.dbo.ports` and `ferry..ports`.
fn without_databases(tokens: &[Token], database: &str) -> Vec<Token> {
    let mut kept: Vec<Token> = Vec::new();
    let mut at = 0;
    while let Some(token) = tokens.get(at) {
        let is = |ahead: usize, text: &str| tokens.get(at + ahead).is_some_and(|token| token.is(text));
        let named = token.is_name() && token.text.eq_ignore_ascii_case(database);
        if named && is(1, ".") && is(2, ".") {
            kept.extend([word("dbo"), sign(".")]);
            at += 3;
        } else if named && is(1, ".") && is(3, ".") {
            at += 2;
        } else {
            kept.push(token.clone());
            at += 1;
        }
    }
    kept
}

/// The types that the columns of a query are cast to.
fn casts(tokens: &[Token]) -> Vec<Option<Type>> {
    let start = tokens.iter().skip(1).take_while(|token| token.is_one(&["distinct", "all"])).count() + 1;
    let (mut at, mut depth) = (start, 0_i32);
    if tokens.get(at).is_some_and(|token| token.is("top")) {
        at = match tokens.get(at + 1) {
            Some(open) if open.is("(") => closing(tokens, at + 1).map_or(tokens.len(), |end| end + 1),
            _ => at + 2,
        };
    }
    let first = at;
    while let Some(token) = tokens.get(at) {
        if depth == 0 && token.is_one(&["from", "into", "where", "order", "union", "option", "for"]) {
            break;
        }
        depth += i32::from(token.is("(")) - i32::from(token.is(")"));
        at += 1;
    }
    let list = tokens.get(first..at).unwrap_or_default();
    super::parse::parted(list).iter().map(|item| cast_of(item)).collect()
}

fn cast_of(item: &[Token]) -> Option<Type> {
    // `name = expression` names a column too.
    let item = match item {
        [name, equals, rest @ ..] if name.is_name() && equals.is("=") => rest,
        all => all,
    };
    let inside = item.get(2..closing(item, 1)?)?;
    match item.first()?.text.to_ascii_lowercase().as_str() {
        "cast" | "try_cast" => {
            let as_word = inside.iter().rposition(|token| token.is("as"))?;
            Type::of(inside.get(as_word + 1..)?)
        }
        "convert" | "try_convert" => Type::of(super::parse::parted(inside).first()?),
        "newid" => Some(Type::Guid),
        "getdate" | "getutcdate" => Some(Type::DateTime),
        "sysdatetime" | "sysutcdatetime" => Some(Type::DateTime2(7)),
        "sysdatetimeoffset" => Some(Type::DateTimeOffset(7)),
        _ => None,
    }
}

/// What differs within expressions.
fn expressions(tokens: &[Token]) -> Vec<Token> {
    let mut kept: Vec<Token> = Vec::new();
    let mut at = 0;
    while let Some(token) = tokens.get(at) {
        let next = tokens.get(at + 1);
        let calls = next.is_some_and(|next| next.is("(")) && token.kind == Kind::Word;
        let lower = token.text.to_ascii_lowercase();
        match lower.as_str() {
            _ if token.kind == Kind::Sign && lower == "+" => {
                // Beside a text it puts texts together.
                let is_text = |token: Option<&Token>| token.is_some_and(|token| token.kind == Kind::Text);
                let called = |name: &str| tokens.get(at + 1).is_some_and(|token| token.is(name));
                let texts = is_text(kept.last())
                    || is_text(next)
                    || called("cast")
                    || called("convert")
                    || called("quotename")
                    || ends_text_call(&kept);
                kept.push(if texts { sign("||") } else { token.clone() });
                at += 1;
            }
            _ if token.kind != Kind::Word => {
                kept.push(token.clone());
                at += 1;
            }
            "cast" | "try_cast" if calls => {
                let Some(end) = closing(tokens, at + 1) else { return tokens.to_vec() };
                let inside = tokens.get(at + 2..end).unwrap_or_default();
                let Some(as_word) = inside.iter().rposition(|token| token.is("as")) else { return tokens.to_vec() };
                let (value, of) = inside.split_at(as_word);
                cast(value, of.get(1..).unwrap_or_default(), &mut kept);
                at = end + 1;
            }
            "convert" | "try_convert" if calls => {
                let Some(end) = closing(tokens, at + 1) else { return tokens.to_vec() };
                let parts = super::parse::parted(tokens.get(at + 2..end).unwrap_or_default());
                cast(parts.get(1).map_or(&[], Vec::as_slice), parts.first().map_or(&[], Vec::as_slice), &mut kept);
                at = end + 1;
            }
            _ if calls && OF_PARTS.contains(&lower.as_str()) => {
                kept.extend([word(&lower), sign("(")]);
                if let Some(part) = tokens.get(at + 2) {
                    kept.push(Token { kind: Kind::Text, ..part.clone() });
                }
                at += 3;
            }
            "left" | "right" if calls => {
                kept.push(word(if lower == "left" { "left_of" } else { "right_of" }));
                at += 1;
            }
            "replace" | "like" => {
                kept.push(token.clone());
                at += 1;
            }
            "current_timestamp" => {
                kept.extend([word("getdate"), sign("("), sign(")")]);
                at += 1;
            }
            _ if calls => {
                let renamed = match lower.as_str() {
                    "isnull" => "ifnull",
                    "len" => "length",
                    "substring" => "substr",
                    "ceiling" => "ceil",
                    "string_agg" => "group_concat",
                    "count_big" => "count",
                    "stdev" | "stdevp" | "var" | "varp" => "avg",
                    "datalength" => "octet_length",
                    _ => token.text.as_str(),
                };
                kept.push(Token { text: renamed.to_owned(), ..token.clone() });
                at += 1;
            }
            _ if lower.starts_with("@@") => {
                kept.extend([
                    word("server_variable"),
                    sign("("),
                    Token { kind: Kind::Text, ..word(&lower) },
                    sign(")"),
                ]);
                at += 1;
            }
            "collate" => at += 2,
            _ => {
                kept.push(token.clone());
                at += 1;
            }
        }
    }
    kept
}

/// Whether what was kept ends in a call that gives a text.
fn ends_text_call(kept: &[Token]) -> bool {
    if !kept.last().is_some_and(|token| token.is(")")) {
        return false;
    }
    let mut depth = 0_i32;
    let open = kept.iter().rposition(|token| {
        depth += i32::from(token.is(")")) - i32::from(token.is("("));
        depth == 0
    });
    let name = open.and_then(|open| open.checked_sub(1)).and_then(|at| kept.get(at));
    name.is_some_and(|name| name.is_one(&["quotename", "upper", "lower", "left_of", "right_of", "db_name", "as_text"]))
}

/// A value as another type: as numbers SQLite has them, and as text what it has no type for.
fn cast(value: &[Token], of: &[Token], kept: &mut Vec<Token>) {
    let value = expressions(value);
    let name = match Type::of(of) {
        Some(Type::Int(_) | Type::Bit) => "integer",
        Some(Type::Float(_)) => "real",
        Some(Type::VarBinary(_) | Type::Binary(_) | Type::RowVersion | Type::Image | Type::Class(_)) => {
            kept.extend([word("as_bytes"), sign("(")]);
            kept.extend(value);
            kept.push(sign(")"));
            return;
        }
        Some(Type::Variant) => {
            kept.push(sign("("));
            kept.extend(value);
            kept.push(sign(")"));
            return;
        }
        _ => "text",
    };
    kept.extend([word("cast"), sign("(")]);
    kept.extend(value);
    kept.extend([word("as"), word(name), sign(")")]);
}

/// `TOP` and `OFFSET … FETCH`, as `LIMIT` at the end of their query.
fn limits(tokens: &[Token]) -> Vec<Token> {
    let mut kept: Vec<Token> = Vec::new();
    // A query a level: its limit, which is written where it ends.
    let mut limit: Vec<Option<Vec<Token>>> = vec![None];
    let mut at = 0;
    let end = |limit: &mut Option<Vec<Token>>, kept: &mut Vec<Token>| {
        if let Some(count) = limit.take() {
            kept.push(word("limit"));
            kept.extend(count);
        }
    };
    while let Some(token) = tokens.get(at) {
        let is = |ahead: usize, text: &str| tokens.get(at + ahead).is_some_and(|token| token.is(text));
        if token.is("(") {
            limit.push(None);
        } else if token.is(")") {
            if let Some(mut ended) = limit.pop() {
                end(&mut ended, &mut kept);
            }
        } else if token.is_one(&["union", "except", "intersect"]) {
            if let Some(own) = limit.last_mut() {
                end(own, &mut kept);
            }
        } else if token.is("top") && kept.last().is_some_and(|before| before.is_one(&["select", "distinct", "all"])) {
            let (count, next) = match tokens.get(at + 1) {
                Some(open) if open.is("(") => match closing(tokens, at + 1) {
                    Some(close) => (tokens.get(at + 1..=close).unwrap_or_default().to_vec(), close + 1),
                    None => (Vec::new(), at + 1),
                },
                Some(count) => (vec![count.clone()], at + 2),
                None => (Vec::new(), at + 1),
            };
            if let Some(own) = limit.last_mut() {
                *own = Some(count);
            }
            at = next;
            continue;
        } else if token.is("offset") && limit.last().is_some_and(Option::is_none) {
            let rows = (at + 1..tokens.len()).find(|at| tokens.get(*at).is_some_and(|t| t.is_one(&["rows", "row"])));
            if let Some(rows) = rows {
                let skipped = tokens.get(at + 1..rows).unwrap_or_default().to_vec();
                let fetch = tokens.get(rows + 1).is_some_and(|token| token.is("fetch"));
                let only =
                    (rows..tokens.len()).find(|at| tokens.get(*at).is_some_and(|t| t.is("only"))).filter(|_| fetch);
                let count = match only {
                    Some(only) => tokens.get(rows + 3..only - 1).unwrap_or_default().to_vec(),
                    None => vec![sign("-"), Token { kind: Kind::Number, ..word("1") }],
                };
                kept.push(word("limit"));
                kept.extend(count);
                kept.push(word("offset"));
                kept.extend(skipped);
                at = only.unwrap_or(rows) + 1;
                continue;
            }
        } else if token.is("for") && (is(1, "xml") || is(1, "json") || is(1, "browse")) {
            break;
        }
        kept.push(token.clone());
        at += 1;
    }
    while let Some(mut ended) = limit.pop() {
        end(&mut ended, &mut kept);
    }
    kept
}

/// `SELECT … INTO t` makes a table.
fn into_table(tokens: &[Token]) -> Vec<Token> {
    let mut depth = 0_i32;
    let into = tokens.iter().enumerate().position(|(at, token)| {
        depth += i32::from(token.is("(")) - i32::from(token.is(")"));
        let inserts = at > 0 && tokens.get(at - 1).is_some_and(|before| before.is("insert"));
        depth == 0 && token.is("into") && !inserts
    });
    let Some(into) = into else { return tokens.to_vec() };
    let from =
        (into..tokens.len()).find(|at| tokens.get(*at).is_some_and(|token| token.is("from"))).unwrap_or(tokens.len());
    let mut made = vec![word("create")];
    made.extend(place(tokens.get(into + 1..from).unwrap_or_default(), "table"));
    made.push(word("as"));
    made.extend(tokens.get(..into).unwrap_or_default().iter().cloned());
    made.extend(tokens.get(from..).unwrap_or_default().iter().cloned());
    made
}

/// A table's name with the place that it is made in.
fn place(name: &[Token], kind: &str) -> Vec<Token> {
    let temporary = name.first().is_some_and(|token| token.text.starts_with('#'));
    let mut all = Vec::new();
    if temporary {
        all.push(word("temp"));
    }
    all.push(word(kind));
    if !temporary && name.len() == 1 {
        all.extend([word("dbo"), sign(".")]);
    }
    all.extend(name.iter().cloned());
    all
}

/// `CREATE TABLE` and its kin, with the words for columns that SQLite knows.
fn made(tokens: &[Token]) -> Vec<Token> {
    let is = |at: usize, word: &str| tokens.get(at).is_some_and(|token: &Token| token.is(word));
    if is(1, "table") && is(0, "create") {
        let open = tokens.iter().position(|token| token.is("(")).unwrap_or(tokens.len());
        let mut all = vec![word("create")];
        all.extend(place(tokens.get(2..open).unwrap_or_default(), "table"));
        all.push(sign("("));
        let close = closing(tokens, open).unwrap_or(tokens.len());
        let inside = super::parse::parted(tokens.get(open + 1..close).unwrap_or_default());
        for (count, item) in inside.iter().enumerate() {
            if count > 0 {
                all.push(sign(","));
            }
            all.extend(column(item));
        }
        all.push(sign(")"));
        return all;
    }
    let index = tokens.iter().take(5).position(|token| token.is("index"));
    if let Some(index) = index.filter(|_| is(0, "create")) {
        let mut all = vec![word("create")];
        if is(1, "unique") {
            all.push(word("unique"));
        }
        all.push(word("index"));
        let on = tokens.iter().position(|token| token.is("on")).unwrap_or(tokens.len());
        all.extend([word("dbo"), sign(".")]);
        all.extend(tokens.get(index + 1..=on).unwrap_or_default().iter().cloned());
        // The table lies in the same place.
        let open = (on..tokens.len()).find(|at| is(*at, "(")).unwrap_or(tokens.len());
        all.extend(tokens.get(open.saturating_sub(1)..open).unwrap_or_default().iter().cloned());
        let close = closing(tokens, open).unwrap_or(tokens.len());
        all.extend(tokens.get(open..=close.min(tokens.len().saturating_sub(1))).unwrap_or_default().iter().cloned());
        return all;
    }
    if is(0, "alter") && is(1, "table") {
        // `ADD c int` has no word for the column, and SQLite takes one.
        return tokens.iter().filter(|token| !token.is_one(&["clustered", "nonclustered"])).cloned().collect();
    }
    tokens.to_vec()
}

/// A column of a table that is made.
fn column(item: &[Token]) -> Vec<Token> {
    let identity = item.iter().position(|token| token.is("identity"));
    let mut kept: Vec<Token> = Vec::new();
    let mut at = 0;
    while let Some(token) = item.get(at) {
        if token.is("identity") {
            at = match item.get(at + 1) {
                Some(open) if open.is("(") => closing(item, at + 1).map_or(item.len(), |end| end + 1),
                _ => at + 1,
            };
            continue;
        }
        if token.is_one(&["clustered", "nonclustered", "sparse", "rowguidcol"]) {
            at += 1;
            continue;
        }
        if token.is("persisted") {
            kept.push(word("stored"));
            at += 1;
            continue;
        }
        // What a table references lies in the same place.
        if token.is("dbo") && kept.last().is_some_and(|before| before.is("references")) {
            at += 2;
            continue;
        }
        let max = token.is("(") && item.get(at + 1).is_some_and(|next| next.is("max"));
        if max {
            // SQLite takes numbers there.
            kept.extend([sign("("), Token { kind: Kind::Number, ..word("65535") }, sign(")")]);
            at += 3;
            continue;
        }
        if token.is("default") {
            // An expression needs its parentheses.
            let value = item.get(at + 1).cloned();
            kept.push(token.clone());
            let calls = item.get(at + 2).is_some_and(|next| next.is("("));
            if let Some(now) = value.as_ref().filter(|value| value.is("current_timestamp")) {
                kept.extend([sign("("), now.clone(), sign(")")]);
                at += 2;
                continue;
            }
            if let (Some(name), true) = (value, calls) {
                kept.extend([sign("("), name, sign("("), sign(")"), sign(")")]);
                at = closing(item, at + 2).map_or(item.len(), |end| end + 1);
                continue;
            }
            at += 1;
            continue;
        }
        // The name stands first, and then the type: one that the server numbers has SQLite's own.
        kept.push(if identity.is_some() && at == 1 { word("integer") } else { token.clone() });
        at += 1;
    }
    kept
}

/// `OUTPUT inserted.a`, as what SQLite gives back.
fn with_output(tokens: &[Token]) -> Result<Vec<Token>, String> {
    let mut depth = 0_i32;
    let output = tokens.iter().position(|token| {
        depth += i32::from(token.is("(")) - i32::from(token.is(")"));
        depth == 0 && token.is("output")
    });
    let mut all = tokens.to_vec();
    // `UPDATE TOP (n)`, `DELETE t`: what is usual here is enough.
    if all.first().is_some_and(|token| token.is("delete")) && !all.get(1).is_some_and(|token| token.is("from")) {
        all.insert(1, word("from"));
        return with_output(&all);
    }
    if all.first().is_some_and(|token| token.is("insert")) && !all.get(1).is_some_and(|token| token.is("into")) {
        all.insert(1, word("into"));
        return with_output(&all);
    }
    let Some(start) = output else { return Ok(all) };
    let end = (start..all.len())
        .find(|at| {
            all.get(*at).is_some_and(|token| token.is_one(&["values", "select", "where", "from", "exec", "default"]))
        })
        .unwrap_or(all.len());
    let part: Vec<Token> = all.splice(start..end, []).collect();
    if part.iter().any(|token| token.is("into")) {
        return Err("OUTPUT INTO is not a part of this stand-in.".into());
    }
    all.push(word("returning"));
    let mut rest = part.iter().skip(1).peekable();
    while let Some(token) = rest.next() {
        if token.is_one(&["inserted", "deleted"]) && rest.peek().is_some_and(|next| next.is(".")) {
            rest.next();
            continue;
        }
        all.push(token.clone());
    }
    Ok(all)
}

/// Gives a connection the functions that the server has.
pub fn add_functions(db: &Connection) -> rusqlite::Result<()> {
    let pure = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC;
    let plain = FunctionFlags::SQLITE_UTF8;
    let text = |context: &Context<'_>, at: usize| text_of(context.get_raw(at));
    let whole = |context: &Context<'_>, at: usize| context.get::<Option<i64>>(at).map(Option::unwrap_or_default);
    let moment = |context: &Context<'_>, at: usize| match context.get_raw(at) {
        ValueRef::Null => Ok(None),
        value => dates::read(&text_of(value))
            .map(Some)
            .ok_or_else(|| failed("Conversion failed when converting date and/or time from character string.")),
    };
    db.create_scalar_function("getdate", 0, plain, |_| Ok(now(3)))?;
    db.create_scalar_function("getutcdate", 0, plain, |_| Ok(now(3)))?;
    db.create_scalar_function("sysdatetime", 0, plain, |_| Ok(now(7)))?;
    db.create_scalar_function("sysutcdatetime", 0, plain, |_| Ok(now(7)))?;
    db.create_scalar_function("sysdatetimeoffset", 0, plain, |_| Ok(format!("{} +00:00", now(7))))?;
    db.create_scalar_function("newid", 0, plain, |_| Ok(identifier()))?;
    db.create_scalar_function("dateadd", 3, pure, move |context| {
        let Some(to) = moment(context, 2)? else { return Ok(None) };
        let added = dates::add(&text(context, 0), whole(context, 1)?, to);
        let written = |moment: Moment| dates::written(moment.day, moment.ticks, 3);
        added.map(|moment| Some(written(moment))).ok_or_else(|| failed("'dateadd' does not know this part."))
    })?;
    for name in ["datediff", "datediff_big"] {
        db.create_scalar_function(name, 3, pure, move |context| {
            let (Some(from), Some(to)) = (moment(context, 1)?, moment(context, 2)?) else { return Ok(None) };
            dates::between(&text(context, 0), from, to)
                .map(Some)
                .ok_or_else(|| failed("'datediff' does not know this part."))
        })?;
    }
    db.create_scalar_function("datepart", 2, pure, move |context| {
        let Some(of) = moment(context, 1)? else { return Ok(None) };
        dates::part(&text(context, 0), of).map(Some).ok_or_else(|| failed("'datepart' does not know this part."))
    })?;
    for name in ["year", "month", "day"] {
        db.create_scalar_function(name, 1, pure, move |context| {
            Ok(moment(context, 0)?.and_then(|moment| dates::part(name, moment)))
        })?;
    }
    db.create_scalar_function("left_of", 2, pure, move |context| {
        let count = whole(context, 1)?.max(0) as usize;
        Ok(text(context, 0).chars().take(count).collect::<String>())
    })?;
    db.create_scalar_function("right_of", 2, pure, move |context| {
        let (all, count) = (text(context, 0), whole(context, 1)?.max(0) as usize);
        let skipped = all.chars().count().saturating_sub(count);
        Ok(all.chars().skip(skipped).collect::<String>())
    })?;
    db.create_scalar_function("charindex", 2, pure, move |context| {
        let (part, all) = (text(context, 0).to_lowercase(), text(context, 1).to_lowercase());
        Ok(all.find(&part).map_or(0, |at| all[..at].chars().count() as i64 + 1))
    })?;
    db.create_scalar_function("replicate", 2, pure, move |context| {
        let count = whole(context, 1)?.clamp(0, 1 << 30) as usize;
        Ok(text(context, 0).repeat(count))
    })?;
    db.create_scalar_function("reverse", 1, pure, move |context| {
        Ok(text(context, 0).chars().rev().collect::<String>())
    })?;
    db.create_scalar_function("space", 1, pure, move |context| {
        Ok(" ".repeat(whole(context, 0)?.clamp(0, 8000) as usize))
    })?;
    db.create_scalar_function("quotename", 1, pure, move |context| {
        Ok(format!("[{}]", text(context, 0).replace(']', "]]")))
    })?;
    // There is one.
    db.create_scalar_function("schema_id", 1, pure, move |context| {
        Ok(text(context, 0).eq_ignore_ascii_case("dbo").then_some(1))
    })?;
    db.create_scalar_function("power", 2, pure, |context| Ok(context.get::<f64>(0)?.powf(context.get::<f64>(1)?)))?;
    db.create_scalar_function("as_bytes", 1, pure, |context| {
        Ok(match context.get_raw(0) {
            ValueRef::Null => Value::Null,
            ValueRef::Blob(bytes) => Value::Blob(bytes.to_vec()),
            ValueRef::Text(text) => Value::Blob(text.to_vec()),
            ValueRef::Integer(number) => Value::Blob((number as i32).to_be_bytes().to_vec()),
            ValueRef::Real(number) => Value::Blob(number.to_be_bytes().to_vec()),
        })
    })?;
    Ok(())
}

fn now(digits: usize) -> String {
    let now = dates::now();
    dates::written(now.day, now.ticks, digits)
}

fn failed(text: &str) -> Error {
    Error::UserFunctionError(text.to_owned().into())
}

/// A new identifier: the clock and a counter, mixed.
fn identifier() -> String {
    use std::hash::{BuildHasher, RandomState};
    let mixed = [RandomState::new().hash_one(1), RandomState::new().hash_one(2)];
    let hex = format!("{:016X}{:016X}", mixed[0], mixed[1]);
    format!("{}-{}-4{}-8{}-{}", &hex[..8], &hex[8..12], &hex[13..16], &hex[17..20], &hex[20..])
}

#[cfg(test)]
mod tests {
    use super::super::lex::tokens;
    use super::*;

    fn translated(text: &str) -> String {
        translate(&tokens(text).unwrap(), "ferry").unwrap().text.trim().to_owned()
    }

    #[test]
    fn statements_become_those_of_sqlite() {
        for (text, expected) in [
            (
                "with c as (select 1 as i) insert into t select i from c",
                "with c as(select 1 as i) insert into t select i from c",
            ),
            ("select top 5 [name] from dbo.ports order by id", "select \"name\" from dbo.ports order by id limit 5"),
            ("select top (2) a from (select top 1 a from t) x", "select a from(select a from t limit 1) x limit(2)"),
            (
                "select a from t order by a offset 2 rows fetch next 3 rows only",
                "select a from t order by a limit 3 offset 2",
            ),
            ("select isnull(a, N'x') + 'y' from ferry..t with (nolock)", "select ifnull(a, 'x') || 'y' from dbo.t"),
            ("select a into #t from ferry.dbo.s", "create temp table \"#t\" as select a from dbo.s"),
            ("insert t (a) output inserted.id values (1)", "insert into t(a) values(1) returning id"),
            (
                "create table t (id int identity(1,1) primary key, n nvarchar(max))",
                "create table dbo.t(id integer primary key, n nvarchar(65535))",
            ),
            (
                "select dateadd(day, 1, a), @@spid, 0xCAFE from t",
                "select dateadd('day', 1, a), server_variable('@@spid'), x'CAFE' from t",
            ),
            ("truncate table t", "delete from t"),
        ] {
            assert_eq!(translated(text), expected, "{text}");
        }
        let cast = translate(&tokens("select cast(a as decimal(10, 2)), b, convert(date, c) from t").unwrap(), "ferry")
            .unwrap()
            .cast;
        assert_eq!(cast, [Some(Type::Decimal(10, 2)), None, Some(Type::Date)]);
    }
}
