//! What can be done at a place.

use std::ops::Range;

use jaunty_core::complete::Surroundings;
use jaunty_core::complete::rewrite::{expand_star, missing_joins, qualify};
use jaunty_core::connection::consent;
use serde_json::{Value, json};

use super::symbols::name_of;
use jaunty_language::text::clean::clean;

use crate::link::{Link, connections_for, near};
use crate::place::Position;
use crate::state::Server;
use crate::text::Text;
use crate::troubles::refused;
use crate::wire::Refusal;

/// The most connections that are offered where a document has none.
const MOST_CONNECTIONS: usize = 20;

/// The most joins that are offered at a place.
const MOST_JOINS: usize = 6;

/// What takes the place of parts of a text.
type Edits = Vec<(Range<usize>, String)>;

/// An edit of a document, as the protocol has it.
pub(super) fn edit_of(server: &Server, text: &Text, edits: Vec<Value>) -> Value {
    if server.client.can.versioned {
        let document = json!({"uri": text.uri, "version": text.version});
        return json!({"documentChanges": [{"textDocument": document, "edits": edits}]});
    }
    json!({"changes": {text.uri.clone(): edits}})
}

pub(super) fn actions(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let text = server.text(params)?;
    let range = text.bytes(&params["range"]).ok_or_else(|| Refusal::params("range is missing"))?;
    let (at, line) = (range.start, Position::of(&params["range"]["start"]));
    let only: Option<Vec<&str>> =
        params["context"]["only"].as_array().map(|kinds| kinds.iter().filter_map(Value::as_str).collect());
    let mut found = Vec::new();
    let mut put = |kind: &str, title: String, rest: Value| {
        let wanted = only
            .as_ref()
            .is_none_or(|only| only.iter().any(|one| kind == *one || kind.starts_with(&format!("{one}."))));
        if wanted {
            let mut action = json!({"title": title, "kind": kind});
            if let (Some(action), Some(rest)) = (action.as_object_mut(), rest.as_object()) {
                action.extend(rest.clone());
            }
            found.push(action);
        }
    };
    let position = line.map(Position::to_json).unwrap_or_default();
    let command = |title: &str, name: &str| json!({"command": {"title": title, "command": name, "arguments": [text.uri, position]}});
    near_names(text, params, server, &mut put);
    if let Some(link) = server.link_of(text) {
        of_statement(server, text, link, at, &mut put, &command);
        put(
            "source",
            format!("Refresh the catalog of {}", link.profile.name),
            command("Refresh the catalog", "jaunty.readCatalog"),
        );
    } else {
        if let Some(profile) = server.profile_of(text).filter(|_| text.troubles.held.is_some()) {
            let title = format!("Allow {} here: it {}", profile.name, consent::subject(&profile));
            let title = clean(&title).into_owned();
            // What is allowed is what was shown.
            let shown = json!([text.uri, position, consent::name_of(&profile)]);
            let command = json!({"title": "Allow it", "command": "jaunty.allow", "arguments": shown});
            put("quickfix", title, json!({"command": command}));
        }
        let known = connections_for(text.path().as_deref(), &server.options.folders, server.options.engines);
        let near = near(text.path().as_deref(), &known, server.options.engines);
        let named = known.profiles.iter().map(|profile| (&profile.name, String::new()));
        let near = near.iter().map(|found| (&found.profile.name, format!(" (from {})", clean(&found.from))));
        for (name, from) in named.chain(near).take(MOST_CONNECTIONS) {
            let start = json!({"line": 0, "character": 0});
            // A line that names none is replaced.
            let end = if text.connection_line().is_some() { json!({"line": 1, "character": 0}) } else { start.clone() };
            let edit = json!({"range": {"start": start, "end": end}, "newText": text.line_for(name)});
            put(
                "quickfix",
                format!("Connect to {}{from}", clean(name)),
                json!({"edit": edit_of(server, text, vec![edit])}),
            );
        }
    }
    if !server.client.can.actions {
        // Editors of old take commands only.
        found = found.into_iter().filter_map(|mut action| action.get_mut("command").map(Value::take)).collect();
    }
    Ok(Value::Array(found))
}

/// Names that could have been meant, for what is wrong at the place.
fn near_names(text: &Text, params: &Value, server: &Server, put: &mut impl FnMut(&str, String, Value)) {
    let Some(wanted) = text.bytes(&params["range"]) else { return };
    let Some((_, statement)) = text.statement_at(wanted.start) else { return };
    let id = text.id_of(statement);
    let mut found = text.troubles.found.get(&id).map(|found| found.to_vec()).unwrap_or_default();
    let written = statement.text(&text.rope);
    let said = server.link_of(text).and_then(|link| refused(text, id, &written, link));
    found.extend(said.filter(|said| found.iter().all(|known| known.range != said.range)));
    for problem in &found {
        let bytes = problem.bytes_in(&text.rope, statement.start, statement.body_end);
        if bytes.start > wanted.end || bytes.end < wanted.start {
            continue;
        }
        for near in &problem.near {
            let edit = json!({"range": text.range(&bytes), "newText": problem.instead(near, text.dialect())});
            put("quickfix", format!("Change to {near}"), json!({"edit": edit_of(server, text, vec![edit])}));
        }
    }
}

/// What can be done with the statement at a byte.
fn of_statement(
    server: &Server,
    text: &Text,
    link: &Link,
    at: usize,
    put: &mut impl FnMut(&str, String, Value),
    command: &impl Fn(&str, &str) -> Value,
) {
    let Some((index, statement)) = text.statement_at(at) else { return };
    let name = name_of(text, statement);
    put("source", format!("Run on {}: {name}", link.profile.name), command("Run", "jaunty.run"));
    if text.dialect().plans.is_some() {
        put("source", format!("Show its plan on {}", link.profile.name), command("Plan", "jaunty.plan"));
    }
    if server.panes.as_ref().is_some_and(|panes| panes.there() > 0) {
        put("source", "Run it in the pane".to_owned(), command("Run in the pane", "jaunty.runInPane"));
    }
    if index > 0 {
        put(
            "source",
            format!("Run everything to here on {}", link.profile.name),
            command("Run to here", "jaunty.runToHere"),
        );
    }
    if !link.asked.is_empty() {
        put("source", "Stop what runs".to_owned(), command("Stop", "jaunty.stop"));
    }
    let run = link.runs.get(&text.id_of(statement));
    if run.is_some_and(|run| run.kept_rows().is_some()) {
        put("source", "Show its rows".to_owned(), command("Rows", "jaunty.rows"));
        if server.pages.get(&text.uri).is_some_and(|shown| run.is_some_and(|run| shown.run.id == run.id)) {
            put("source", "Next page of rows".to_owned(), command("Next rows", "jaunty.nextRows"));
            put("source", "Previous page of rows".to_owned(), command("Previous rows", "jaunty.previousRows"));
        }
        put("source", "All its rows as CSV".to_owned(), command("CSV", "jaunty.csv"));
        put("source", "All its rows as JSON, one object a line".to_owned(), command("JSON", "jaunty.json"));
    }
    if run.is_some_and(|run| run.kept_rows().is_some()) && !text.is_code() {
        let mark = text.comments().first().copied().unwrap_or("--");
        let arrow = if mark == "--" { "-->".to_owned() } else { format!("{mark} -->") };
        let line = text.line(text.lines.line_of(statement.end));
        let stem = jaunty_core::export::target::name_of(&name);
        let edit = json!({"range": text.range(&(line.end..line.end)), "newText": format!("\n{arrow} {stem}.csv")});
        put(
            "source",
            "Write its rows to a file on every run (out-line)".to_owned(),
            json!({"edit": edit_of(server, text, vec![edit])}),
        );
    }
    let rewritten = |ask: &dyn Fn(&str, usize, Surroundings<'_>) -> Edits| {
        server.at(text, at, |written, start, cursor, around| {
            let edits = ask(written, cursor, around).into_iter();
            edits.map(|(range, new)| (range.start + start..range.end + start, new)).collect::<Edits>()
        })
    };
    let as_edit = |edits: Edits| {
        let one = |(range, new)| json!({"range": text.range(&range), "newText": new});
        json!({"edit": edit_of(server, text, edits.into_iter().map(one).collect())})
    };
    let joins = server.at(text, at, |written, start, cursor, around| {
        let joins = missing_joins(written, cursor, around);
        joins.into_iter().map(|join| (join.table, join.at + start, join.text)).collect::<Vec<_>>()
    });
    for (table, at, join) in joins.into_iter().take(MOST_JOINS) {
        let condition = join.split_once(" on ").map_or("", |(_, condition)| condition);
        let title = format!("Join {table} on {condition}");
        put("quickfix", title, as_edit(vec![(at..at, join)]));
    }
    let star = rewritten(&|written, cursor, around| expand_star(written, cursor, around).into_iter().collect());
    if !star.is_empty() {
        put("refactor.rewrite", "Expand * to its columns".to_owned(), as_edit(star));
    }
    let qualified = rewritten(&|written, _, around| qualify(written, around));
    if !qualified.is_empty() {
        put("refactor.rewrite", "Qualify column names".to_owned(), as_edit(qualified));
    }
}
