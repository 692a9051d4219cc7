//! What could be written at a place.

use jaunty_core::complete::about::{help_for, table_about};
use jaunty_core::complete::{Kind, Proposal, complete as completed};
use jaunty_language::edit::snippet::Snippet;
use jaunty_language::text::clean::clean;
use jaunty_seam::catalog::{Catalog, Name, ObjectKind};
use serde_json::{Value, json};

use super::help::markup;
use crate::state::Server;
use crate::wire::Refusal;

/// The protocol's number for what a proposal is
/// (<https://microsoft.github.io/language-server-protocol/specifications/lsp/3.17/specification/#completionItemKind>).
fn number(kind: Kind) -> u8 {
    match kind {
        Kind::Object(ObjectKind::Function | ObjectKind::Procedure) | Kind::Function => 3,
        Kind::Object(kind) if kind.has_rows() => 22,
        Kind::Object(_) => 7,
        Kind::Schema => 9,
        Kind::Column | Kind::Key => 5,
        Kind::Alias | Kind::Cte => 6,
        Kind::Keyword => 14,
        Kind::Join | Kind::List | Kind::Snippet => 15,
        Kind::Value => 12,
        Kind::Type => 25,
        Kind::Word => 1,
    }
}

pub(super) fn complete(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let (text, at) = server.place(params)?;
    if !text.is_in_statements(at) {
        return Ok(json!({"isIncomplete": false, "items": []}));
    }
    let (completion, start) =
        server.at(text, at, |statement, start, cursor, around| (completed(statement, cursor, around), start));
    // After a sign or a blank that was typed, a list comes only where what can stand there is one of a few.
    let typed = params["context"]["triggerCharacter"].as_str();
    if typed.is_some_and(|typed| typed != ".") && !completion.eager {
        return Ok(json!({"isIncomplete": true, "items": []}));
    }
    let bytes = completion.replace.start + start..completion.replace.end + start;
    let range = text.range(&bytes);
    let written = text.rope.byte_slice(bytes).to_string();
    let nothing = Catalog::default();
    let catalog = server.link_of(text).and_then(|link| link.catalog.as_deref()).unwrap_or(&nothing);
    let uri = &text.uri;
    let item = |(place, proposal): (usize, &Proposal)| {
        let snippets = server.client.can.snippets;
        let insert = if snippets { proposal.insert.clone() } else { Snippet::plain(&proposal.insert) };
        // The editor would leave out what does not begin as what is written does: ours is sorted by a better measure.
        let fits = proposal.label.to_lowercase().starts_with(&written.to_lowercase());
        let mut item = json!({
            "label": clean(&proposal.label),
            "kind": number(proposal.kind),
            "detail": clean(&proposal.detail),
            "sortText": format!("{place:04}"),
            "filterText": if fits { proposal.label.as_str() } else { written.as_str() },
            "insertTextFormat": if snippets { 2 } else { 1 },
            "textEdit": {"range": range, "newText": insert},
        });
        if matches!(proposal.kind, Kind::Object(_)) {
            item["data"] = json!({"uri": uri, "name": proposal.label, "detail": proposal.detail});
        }
        if let Some(help) = help_for(proposal, catalog, text.dialect()) {
            item["documentation"] = json!(clean(help));
        }
        item
    };
    let items: Vec<Value> = completion.proposals.iter().enumerate().map(item).collect();
    Ok(json!({"isIncomplete": true, "items": items}))
}

/// Help for a table that was proposed.
pub(super) fn resolve(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let mut item = params.clone();
    let data = &params["data"];
    let text = data["uri"].as_str().and_then(|uri| server.texts.get(uri));
    let catalog = text.and_then(|text| server.link_of(text)?.catalog.as_deref()).zip(text);
    if let Some((catalog, text)) = catalog {
        let label = data["name"].as_str().unwrap_or_default();
        let (schema, name) = label.rsplit_once('.').unwrap_or(("", label));
        let named = catalog.relation(&Name { schema: schema.to_owned(), name: name.to_owned() });
        let object = named.or_else(|| catalog.named(&name.to_lowercase()).find(|object| object.kind.has_rows()));
        if let Some(object) = object {
            let about = table_about(object, catalog, text.dialect());
            item["documentation"] = markup(server, &about.title, &about.lines);
        }
    }
    Ok(item)
}
