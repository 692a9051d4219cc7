//! What stands at a place: help, and how a statement ran last.

use jaunty_core::complete::about::{about, call, table_about};
use jaunty_core::reveal::model::object_of;
use jaunty_language::text::clean::clean;
use serde_json::{Value, json};

use crate::rows::few_rows;
use crate::run::note;
use crate::state::Server;
use crate::text::Text;
use crate::wire::Refusal;

/// A title and lines, as Markdown where the editor reads that.
pub(super) fn markup(server: &Server, title: &str, lines: &[String]) -> Value {
    let cleaned: Vec<String> = lines.iter().map(|line| clean(line).into_owned()).collect();
    let title = clean(title);
    if !server.client.can.markdown {
        return json!({"kind": "plaintext", "value": format!("{title}\n\n{}", cleaned.join("\n"))});
    }
    // What stands in a fence cannot end it.
    let fenced = |text: &str| format!("```sql\n{}\n```", text.replace("```", "'''"));
    let sentences = cleaned.len() == 1 && cleaned[0].contains(' ') && !cleaned[0].contains("  ");
    let body = match (cleaned.is_empty(), sentences) {
        (true, _) => String::new(),
        (false, true) => escaped(&cleaned[0]),
        (false, false) => format!("```text\n{}\n```", cleaned.join("\n").replace("```", "'''")),
    };
    json!({"kind": "markdown", "value": format!("{}\n\n{body}", fenced(&title))})
}

/// A sentence in which no sign means anything to Markdown.
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if matches!(c, '\\' | '`' | '*' | '_' | '<' | '>' | '[' | ']' | '#' | '|' | '&') {
            out.push('\\');
        }
        out.push(c);
    }
    out
}

pub(super) fn hover(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let (text, at) = server.place(params)?;
    if !text.is_in_statements(at) {
        return Ok(revealed(server, text, at));
    }
    let found = server.at(text, at, |statement, _, cursor, around| about(statement, cursor, around));
    let here = text.statement_at(at).map(|(_, statement)| *statement);
    // On its title and its first word a statement tells how it ran; elsewhere names come first.
    let first = here.is_some_and(|statement| {
        let word =
            text.rope.byte_slice(statement.start..statement.body_end).chars().take_while(|c| c.is_alphanumeric());
        (statement.top()..statement.start + word.count()).contains(&at)
    });
    let run = server.run_at(text, at).filter(|_| first || found.is_none());
    if let Some(run) = run {
        let told = note(&run);
        let rows = few_rows(&run).unwrap_or_default();
        let lines: Vec<String> = rows.lines().map(str::to_owned).collect();
        let title = run.title.clone().unwrap_or_else(|| "last run".to_owned());
        return Ok(json!({"contents": markup(server, &format!("{title} · {told}"), &lines)}));
    }
    Ok(found.map_or(Value::Null, |found| json!({"contents": markup(server, &found.title, &found.lines)})))
}

/// The table that a word of program code stands for, and that it is taken for it.
fn revealed(server: &Server, text: &Text, at: usize) -> Value {
    let word = text.word_at(at);
    let catalog = server.link_of(text).and_then(|link| link.catalog.as_deref());
    let found = catalog.and_then(|catalog| Some((catalog, object_of(&word, catalog)?)));
    let Some((catalog, object)) = found else { return Value::Null };
    let found = table_about(object, catalog, text.dialect());
    let title = match object.name == word {
        true => found.title,
        false => format!("{} (taken for {word})", found.title),
    };
    json!({"contents": markup(server, &title, &found.lines)})
}

pub(super) fn signature(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let (text, at) = server.place(params)?;
    if !text.is_in_statements(at) {
        return Ok(Value::Null);
    }
    let found = server.at(text, at, |statement, _, cursor, around| call(statement, cursor, around));
    let Some(found) = found else { return Ok(Value::Null) };
    // Columns of a label count what positions do.
    let column = |byte: usize| server.client.can.encoding.length_of(found.signature.get(..byte).unwrap_or_default());
    let argument = json!([column(found.argument.start), column(found.argument.end)]);
    Ok(json!({
        "signatures": [{"label": found.signature, "parameters": [{"label": argument}]}],
        "activeSignature": 0,
        "activeParameter": 0,
    }))
}
