//! How statements are laid out: formatted, folded, and selected part by part.

use std::ops::Range;

use jaunty_language::edit::format::statement as formatted;
use jaunty_language::split::Statement;
use jaunty_language::statement::shape::{Shape, words};
use serde_json::{Value, json};

use crate::place::Position;
use crate::state::Server;
use crate::text::Text;
use crate::wire::Refusal;

/// Statements that are larger are left as they are.
const LARGEST: usize = 256 << 10;

/// The edits that format statements of a document.
fn edits(text: &Text, statements: &[Statement]) -> Value {
    let dialect = text.dialect();
    // Within a literal a line end is not written as one.
    let may =
        |s: &&Statement| !text.is_code() && s.closed && !dialect.ends_with_line && s.body_end - s.start <= LARGEST;
    let edit = |statement: &Statement| {
        let before = statement.text(&text.rope);
        let after = formatted(&before, dialect);
        let range = statement.start..statement.body_end;
        (after != before).then(|| json!({"range": text.range(&range), "newText": after}))
    };
    statements.iter().filter(may).filter_map(edit).collect()
}

pub(super) fn format(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let text = server.text(params)?;
    Ok(edits(text, text.outline.statements()))
}

pub(super) fn format_range(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let text = server.text(params)?;
    let range = text.bytes(&params["range"]).ok_or_else(|| Refusal::params("range is missing"))?;
    let within = match range.is_empty() {
        true => text.statement_at(range.start).map_or(0..0, |(index, _)| index..index + 1),
        false => text.outline.within(range),
    };
    Ok(edits(text, text.outline.statements().get(within).unwrap_or_default()))
}

pub(super) fn folding(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let text = server.text(params)?;
    let mut found = Vec::new();
    // Of program code its own server knows what folds.
    for statement in text.outline.statements().iter().filter(|_| !text.is_code()) {
        let (first, last) = (text.lines.line_of(statement.start), text.lines.line_of(statement.end));
        if last > first {
            found.push(json!({"startLine": first, "endLine": last}));
        }
        if let Some((start, end)) = statement.title {
            let (first, last) = (text.lines.line_of(start), text.lines.line_of(end));
            if last > first {
                found.push(json!({"startLine": first, "endLine": last, "kind": "comment"}));
            }
        }
    }
    Ok(Value::Array(found))
}

pub(super) fn selection(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let text = server.text(params)?;
    let positions = params["positions"].as_array().ok_or_else(|| Refusal::params("positions is missing"))?;
    let one = |position: &Value| {
        let at = Position::of(position).map_or(0, |position| text.byte(position));
        let mut chosen = json!({"range": text.range(&text.whole())});
        for range in around(text, at).into_iter().rev() {
            chosen = json!({"range": text.range(&range), "parent": chosen});
        }
        chosen
    };
    Ok(positions.iter().map(one).collect())
}

/// What holds a byte, the smallest first: the word, parentheses, the clause, the query, the statement, that with its
/// title.
fn around(text: &Text, at: usize) -> Vec<Range<usize>> {
    let Some((_, statement)) = text.statement_at(at) else { return Vec::new() };
    let mut found =
        vec![statement.start..statement.body_end, statement.start..statement.end, statement.top()..statement.end];
    if statement.body_end - statement.start <= LARGEST {
        let written = statement.text(&text.rope);
        let shape = Shape::of(words(&written, text.dialect(), 0));
        let bytes = |tokens: Range<usize>| {
            let all = shape.words.get(tokens)?;
            Some(statement.start + all.first()?.range.start..statement.start + all.last()?.range.end)
        };
        for (number, word) in shape.words.iter().enumerate() {
            found.extend(bytes(number..number + 1));
            if word.sign(b'(') {
                let close = shape.closing(number, shape.words.len());
                found.extend(bytes(number + 1..close));
                found.extend(bytes(number..(close + 1).min(shape.words.len())));
            }
        }
        for query in &shape.queries {
            found.extend(bytes(query.words.clone()));
            found.extend(query.items.iter().filter_map(|item| bytes(item.clone())));
            for (place, (_, from)) in query.clauses.iter().enumerate() {
                let to = query.clauses.get(place + 1).map_or(query.words.end, |(_, next)| *next);
                found.extend(bytes(*from..to.max(*from)));
            }
        }
    }
    found.retain(|range| range.start <= at && at <= range.end && !range.is_empty());
    found.sort_by_key(|range| range.len());
    // Each has to lie in the next: what only overlaps is left out.
    let mut nested: Vec<Range<usize>> = Vec::new();
    for range in found {
        if nested.last().is_none_or(|last| *last != range && range.start <= last.start && last.end <= range.end) {
            nested.push(range);
        }
    }
    nested
}
