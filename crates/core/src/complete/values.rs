//! Values that a column is compared with: of its enumerated type, and those written before.

use super::columns::compared;
use super::context::Context;
use super::scope::Seen;
use super::{Found, Kind, escaped};
use crate::catalog::checks;
use jaunty_language::lexer::TokenKind;
use jaunty_language::statement::shape::words;
use jaunty_seam::catalog::ObjectKind;

/// Where a value stands to be written.
pub(super) fn values(context: &Context<'_>, found: &mut Found) {
    let Some((name, seen)) = compared(context) else { return };
    let checked = seen.as_ref().map(|seen| of_check(context, seen)).unwrap_or_default();
    for value in checked {
        found.put(Kind::Value, &value, "by its check", escaped(&value), 88);
    }
    let db_type = seen.map(|seen| seen.db_type).unwrap_or_default();
    for value in of_type(context, &db_type) {
        let quoted = format!("'{}'", value.replace('\'', "''"));
        found.put(Kind::Value, &quoted, db_type.clone(), escaped(&quoted), 88);
    }
    if matches!(db_type.to_lowercase().as_str(), "boolean" | "bool") {
        for value in ["true", "false"] {
            found.put(Kind::Value, value, "boolean", context.cased(value), 88);
        }
    }
    for value in written_before(context, &name) {
        found.put(Kind::Value, &value, "used before", escaped(&value), 75);
    }
}

/// Variables that the text declares or uses, those nearest first.
pub(super) fn variables(context: &Context<'_>, found: &mut Found) {
    let dialect = context.around.dialect;
    if !dialect.word_signs.contains(&b'@') {
        return;
    }
    // What is typed is one too, and is not proposed for itself.
    let own = context.shape.words.iter().filter(|word| word.range != context.replace).map(|word| word.text.clone());
    let around = words(context.around.nearby, dialect, 0);
    let around: Vec<String> = around.iter().rev().map(|word| word.text.clone()).collect();
    for name in own.chain(around).filter(|name| name.starts_with('@') && !name.starts_with("@@")) {
        let name = name.to_lowercase();
        if !name.eq_ignore_ascii_case(&context.typed) {
            found.put(Kind::Word, &name, "variable", escaped(&name), 30);
        }
    }
    for entry in jaunty_language::help::of(dialect).entries().iter().filter(|entry| entry.name.starts_with("@@")) {
        found.put(Kind::Keyword, &entry.name.to_lowercase(), "of the session", entry.name.to_lowercase(), 8);
    }
}

/// The same inside of quotes that are open.
pub(super) fn within_quotes(context: &Context<'_>, found: &mut Found) {
    let Some((name, seen)) = compared(context) else { return };
    let checked = seen.as_ref().map(|seen| of_check(context, seen)).unwrap_or_default();
    let checked = checked.into_iter().map(|value| (value, "by its check"));
    let db_type = seen.map(|seen| seen.db_type).unwrap_or_default();
    let enumerated =
        of_type(context, &db_type).into_iter().map(|value| (format!("'{}'", value.replace('\'', "''")), "value"));
    let before = written_before(context, &name).into_iter().map(|value| (value, "used before"));
    for (value, detail) in checked.chain(enumerated).chain(before) {
        let Some(inside) = value.strip_prefix('\'').and_then(|rest| rest.strip_suffix('\'')) else { continue };
        if let Some(fit) = super::rank::fit(&found.typed, inside) {
            let insert = escaped(&value);
            found.take(super::Proposal { label: value, kind: Kind::Value, detail: detail.into(), insert, rank: fit });
        }
    }
}

/// The texts that a check allows a column.
fn of_check(context: &Context<'_>, seen: &Seen) -> Vec<String> {
    let Some((table, column)) = &seen.from else { return Vec::new() };
    let Some(object) = context.around.catalog.relation(table) else { return Vec::new() };
    checks::allowed(object, column, context.around.dialect)
}

/// The values of an enumerated type: those of the catalog's type, or those in the type's own text.
fn of_type(context: &Context<'_>, db_type: &str) -> Vec<String> {
    if db_type.to_lowercase().starts_with("enum(") || db_type.to_lowercase().starts_with("set(") {
        let texts = words(db_type, context.around.dialect, 0);
        let texts = texts.iter().filter(|w| w.kind == TokenKind::Text);
        return texts.map(|w| w.text.trim_matches('\'').replace("''", "'")).collect();
    }
    let name = db_type.rsplit('.').next().unwrap_or_default().trim_matches('"');
    let types = context.around.catalog.named(&name.to_lowercase()).filter(|o| o.kind == ObjectKind::Type);
    types.flat_map(|o| o.values.iter().cloned()).collect()
}

/// What a column of this name was compared with or set to in the text around, the latest first.
fn written_before(context: &Context<'_>, column: &str) -> Vec<String> {
    let nearby = words(context.around.nearby, context.around.dialect, 0);
    let mut all: Vec<String> = Vec::new();
    for (at, word) in nearby.iter().enumerate().rev() {
        let names = word.kind == TokenKind::Word && word.text.eq_ignore_ascii_case(column);
        if !names {
            continue;
        }
        let mut next = at + 1;
        let mut compares = false;
        while let Some(word) = nearby.get(next) {
            let sign = word.sign(b'=') || word.sign(b'<') || word.sign(b'>') || word.sign(b'!') || word.sign(b'(');
            let operator = word.is_one_of(&["NOT", "IN", "LIKE", "ILIKE"]);
            if !(sign || operator) {
                break;
            }
            compares = true;
            next += 1;
        }
        while let Some(value) = nearby.get(next).filter(|_| compares) {
            if matches!(value.kind, TokenKind::Text | TokenKind::Number)
                && value.closed
                && value.text.len() < 60
                && !all.contains(&value.text)
            {
                all.push(value.text.clone());
            }
            let more = nearby.get(next + 1).is_some_and(|w| w.sign(b','));
            if !more || all.len() > 20 {
                break;
            }
            next += 2;
        }
    }
    all
}
