//! Whether a literal holds a statement: by its first words and its shape, since "update available" is none, or because
//! somebody marked it.

use std::ops::Range;

use super::literal::Literal;

/// What can be made, changed and removed.
const THINGS: &[&str] = &[
    "table",
    "view",
    "index",
    "unique",
    "schema",
    "database",
    "trigger",
    "function",
    "procedure",
    "sequence",
    "type",
    "role",
    "user",
    "materialized",
    "temporary",
    "temp",
    "or",
    "extension",
    "virtual",
    "global",
    "recursive",
];

/// Whether a text has the shape of a statement.
pub(super) fn looks_like_sql(text: &str) -> bool {
    let text = without_comments(text);
    // As a sentence begins, and hardly a statement: "Select a port from the list".
    let word = text.split(|c: char| !c.is_ascii_alphabetic()).next().unwrap_or_default();
    let mut letters = word.chars();
    if letters.next().is_some_and(|c| c.is_ascii_uppercase()) && letters.all(|c| c.is_ascii_lowercase()) {
        return false;
    }
    let lower = text.to_ascii_lowercase();
    let mut words =
        lower.split(|c: char| c.is_whitespace() || matches!(c, '(' | ')' | ',' | ';')).filter(|w| !w.is_empty());
    let (Some(first), second) = (words.next(), words.next()) else { return false };
    let third = words.next();
    let rest: Vec<&str> = second.into_iter().chain(third).chain(words).collect();
    let has = |word: &str| rest.contains(&word);
    let before_paren = lower.trim_start().split('(').next().unwrap_or_default();
    // `select now()`, `call sweep(1)`: a name with its parenthesis right after it.
    let calls = before_paren.len() < lower.trim_start().len()
        && before_paren.split_whitespace().count() == 2
        && !before_paren.ends_with(char::is_whitespace);
    match first {
        "select" => {
            let value =
                second.is_some_and(|word| word.starts_with(|c: char| c.is_ascii_digit() || "*':$?@".contains(c)));
            (has("from") && rest.len() > 2) || value || calls
        }
        "insert" | "merge" => second == Some("into") && rest.len() > 2,
        "replace" => second == Some("into") && rest.len() > 2,
        "update" => has("set") && lower.contains('='),
        "delete" => second == Some("from") && rest.len() > 1,
        "with" => has("as") && has("select") && lower.contains('('),
        "create" | "alter" | "drop" => second.is_some_and(|word| THINGS.contains(&word)) && rest.len() > 1,
        "truncate" => second == Some("table"),
        "explain" => has("select") || has("update") || has("delete") || has("insert"),
        "call" => calls,
        "values" => lower.trim_start().get(6..).is_some_and(|rest| rest.trim_start().starts_with('(')),
        _ => false,
    }
}

/// The text from its first word on: comments before it say nothing.
fn without_comments(text: &str) -> &str {
    let mut rest = text.trim_start();
    loop {
        let next = if rest.starts_with("--") {
            rest.split_once('\n').map_or("", |(_, rest)| rest)
        } else if let Some(comment) = rest.strip_prefix("/*") {
            comment.split_once("*/").map_or("", |(_, rest)| rest)
        } else {
            return rest;
        };
        rest = next.trim_start();
    }
}

/// Whether somebody says that a literal is SQL: `/* sql */` before it, `--sql` at its beginning, or a tag as in
/// ``sql`…` ``.
pub(super) fn is_marked(text: &str, literal: &Literal, inside: &str) -> bool {
    let before = text.get(..literal.start).unwrap_or_default().trim_end();
    let commented = before.strip_suffix("*/").and_then(|before| before.rsplit_once("/*"));
    if commented.is_some_and(|(_, comment)| comment.trim().eq_ignore_ascii_case("sql")) {
        return true;
    }
    if mark_within(inside).is_some() {
        return true;
    }
    let opening = text.as_bytes().get(literal.inside.start.saturating_sub(1));
    let last = before.as_bytes().get(before.len().saturating_sub(3)..).unwrap_or_default();
    opening == Some(&b'`') && before.len() == literal.start && last.eq_ignore_ascii_case(b"sql")
}

/// The bytes of a mark at the beginning of a literal. It is blanked out: where the end of its line is written as `\n`,
/// the rest of the literal would be a comment.
pub(super) fn mark_within(inside: &str) -> Option<Range<usize>> {
    let start = inside.len() - inside.trim_start().len();
    let begins = inside.get(start..)?.to_ascii_lowercase();
    let mark = ["--sql", "-- sql", "/* sql */", "/*sql*/"].iter().find(|mark| begins.starts_with(**mark))?;
    Some(start..start + mark.len())
}
