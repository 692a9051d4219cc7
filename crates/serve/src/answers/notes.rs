//! How statements ran, beside them.

use jaunty_language::split::Statement;
use serde_json::{Value, json};

use crate::run::note;
use crate::state::Server;
use crate::text::Text;
use crate::wire::Refusal;

/// The most statements that have lenses: an editor asks for all of a document at once.
const MOST: usize = 2000;

/// The statements of a range.
fn within<'a>(text: &'a Text, params: &Value) -> &'a [Statement] {
    let range = text.bytes(&params["range"]).unwrap_or(text.whole());
    text.outline.statements().get(text.outline.within(range)).unwrap_or_default()
}

pub(super) fn hints(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let text = server.text(params)?;
    let Some(link) = server.link_of(text).filter(|link| !link.runs.is_empty()) else { return Ok(json!([])) };
    let hint = |statement: &Statement| {
        let run = link.runs.get(&text.id_of(statement))?;
        let line = text.line(text.lines.line_of(statement.end));
        let at = text.position(line.end);
        Some(json!({
            "position": at.to_json(),
            "label": note(run),
            "paddingLeft": true,
        }))
    };
    Ok(within(text, params).iter().filter_map(hint).collect())
}

pub(super) fn lenses(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let text = server.text(params)?;
    let Some(link) = server.link_of(text) else { return Ok(json!([])) };
    let mut found = Vec::new();
    for statement in text.outline.statements().iter().take(MOST) {
        let at = text.position(statement.start).to_json();
        let range = json!({"start": at, "end": at});
        let mut lens = |title: String, command: &str| {
            let command = json!({"title": title, "command": command, "arguments": [text.uri, at]});
            found.push(json!({"range": range, "command": command}));
        };
        lens("run".to_owned(), "jaunty.run");
        if text.dialect().plans.is_some() {
            lens("plan".to_owned(), "jaunty.plan");
        }
        let run = link.runs.get(&text.id_of(statement));
        if let Some(run) = run.filter(|run| run.end().is_none()) {
            lens(format!("stop · {}", note(run)), "jaunty.stop");
        } else if let Some(run) = run.filter(|run| run.kept_rows().is_some()) {
            lens(format!("rows · {}", note(run)), "jaunty.rows");
        }
    }
    Ok(Value::Array(found))
}
