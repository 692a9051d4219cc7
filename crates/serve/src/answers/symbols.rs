//! Statements of a document by their titles, and tables of the catalogs.

use jaunty_core::complete::rank::fit;
use jaunty_language::split::Statement;
use jaunty_language::text::clean::clean;
use serde_json::{Value, json};

use super::names::definition_of;
use crate::state::Server;
use crate::text::Text;
use crate::wire::Refusal;

/// The most symbols of catalogs that are told.
const MOST: usize = 60;

/// Letters of a statement that stand for one without a title.
const LETTERS: usize = 60;

/// A statement's name: its title, or how it begins.
pub(super) fn name_of(text: &Text, statement: &Statement) -> String {
    statement.title_text(&text.rope, text.dialect()).unwrap_or_else(|| {
        let end = (statement.start + LETTERS * 4).min(statement.body_end);
        let end = text.rope.char_to_byte(text.rope.byte_to_char(end));
        let begin = text.rope.byte_slice(statement.start..end).to_string();
        let line = begin.lines().next().unwrap_or_default().trim_end().to_owned();
        clean(&line).chars().take(LETTERS).collect()
    })
}

pub(super) fn of_document(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let text = server.text(params)?;
    let nested = server.client.can.nested_symbols;
    let one = |statement: &Statement| {
        let name = name_of(text, statement);
        let whole = text.range(&(statement.top()..statement.end));
        let detail = statement.kind.word();
        if nested {
            let line = text.line(text.lines.line_of(statement.start));
            let first = text.range(&(statement.start..line.end.min(statement.end)));
            json!({"name": name, "detail": detail, "kind": 12, "range": whole, "selectionRange": first})
        } else {
            json!({"name": name, "kind": 12, "location": {"uri": text.uri, "range": whole}})
        }
    };
    Ok(text.outline.statements().iter().map(one).collect())
}

pub(super) fn of_catalogs(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let query = params["query"].as_str().unwrap_or_default();
    let mut ranked = Vec::new();
    for link in &server.links {
        let objects = link.catalog.as_deref().into_iter().flat_map(|catalog| catalog.objects());
        for object in objects.filter(|object| object.kind.has_rows()) {
            if let Some(rank) = fit(query, &object.name) {
                ranked.push((rank, link, object));
            }
        }
    }
    ranked.sort_by_key(|(rank, _, object)| (-rank, object.name.clone()));
    let mut found = Vec::new();
    for (_, link, object) in ranked.into_iter().take(MOST) {
        if let Some(location) = definition_of(server, link, &object.to_name(), None)? {
            let container = format!("{} {}", link.profile.name, object.schema);
            found.push(
                json!({"name": clean(&object.name), "kind": 23, "location": location, "containerName": container.trim_end()}),
            );
        }
    }
    for text in server.texts.values() {
        for statement in text.outline.statements().iter().filter(|statement| statement.title.is_some()) {
            let name = name_of(text, statement);
            if found.len() < 2 * MOST && fit(query, &name).is_some() {
                let range = text.range(&(statement.top()..statement.end));
                found.push(json!({"name": name, "kind": 12, "location": {"uri": text.uri, "range": range}}));
            }
        }
    }
    Ok(Value::Array(found))
}
