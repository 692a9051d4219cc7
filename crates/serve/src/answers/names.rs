//! Where a name comes from, where else it stands, and another name for it.

use std::ops::Range;

use jaunty_core::buffers;
use jaunty_core::buffers::form::TextForm;
use jaunty_core::catalog::templates;
use jaunty_core::complete::Surroundings;
use jaunty_core::complete::names::{Means, Named, alike, names as named, rename as renamed};
use jaunty_core::reveal::model::object_of;
use jaunty_core::reveal::shape::lines;
use jaunty_language::outline::Outline;
use jaunty_language::text::clean::clean;
use jaunty_seam::catalog::{Catalog, Name, Object};
use ropey::Rope;
use serde_json::{Value, json};

use crate::link::Link;
use crate::place::Lines;
use crate::state::Server;
use crate::text::{Text, uri_of};
use crate::wire::Refusal;

/// The most buffers that are looked through.
const MOST_FILES: usize = 2000;

/// The name at a place and all that mean the same, by their bytes in the document.
fn at_place(server: &Server, text: &Text, at: usize) -> Option<(Named, Vec<Named>)> {
    if !text.is_in_statements(at) {
        return None;
    }
    server.at(text, at, |statement, start, cursor, around| {
        let (mut here, mut same) = alike(statement, cursor, around)?;
        for name in same.iter_mut().chain([&mut here]) {
            name.range = name.range.start + start..name.range.end + start;
        }
        Some((here, same))
    })
}

pub(super) fn definition(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let (text, at) = server.place(params)?;
    let Some((here, same)) = at_place(server, text, at) else {
        // A word of program code may stand for a table.
        let word = text.word_at(at);
        let link = server.link_of(text).filter(|_| !text.is_in_statements(at));
        let found = link.and_then(|link| Some((link, object_of(&word, link.catalog.as_deref()?)?.to_name())));
        let Some((link, name)) = found else { return Ok(Value::Null) };
        return Ok(definition_of(server, link, &name, None)?.unwrap_or_default());
    };
    if let Some(first) = same.iter().find(|name| name.defines) {
        return Ok(json!({"uri": text.uri, "range": text.range(&first.range)}));
    }
    let table = match &here.means {
        Means::Table(name) => Some(name),
        Means::Column { table, .. } => table.as_ref(),
        Means::Alias(_) | Means::Cte(_) => None,
    };
    let column = match &here.means {
        Means::Column { name, .. } => Some(name.as_str()),
        _ => None,
    };
    let Some((link, name)) = server.link_of(text).zip(table) else { return Ok(Value::Null) };
    Ok(definition_of(server, link, name, column)?.unwrap_or_default())
}

/// The place of a table, or of a column in it, in a document of its definition and its shape, which is written now.
pub(super) fn definition_of(
    server: &Server,
    link: &Link,
    name: &Name,
    column: Option<&str>,
) -> Result<Option<Value>, Refusal> {
    let Some(catalog) = link.catalog.as_deref() else { return Ok(None) };
    let Some(object) = catalog.relation(name) else { return Ok(None) };
    let text = described(link, catalog, object);
    let safe = |name: &str| name.replace(['/', '\\', '\0'], "_");
    let file = format!("{}.{}", safe(&object.name), link.engine.dialect().extension);
    let folder = server.shown_folder().join("tables").join(safe(&link.profile.name)).join(safe(&object.schema));
    let path = folder.join(file);
    server.write_document(&path, &text).map_err(Refusal::failed)?;
    let line = column.and_then(|column| {
        text.lines()
            .position(|line| line.split_whitespace().any(|word| word.trim_matches(['"', '`', '[', ']', ',']) == column))
    });
    let place = json!({"line": line.unwrap_or_default(), "character": 0});
    Ok(Some(json!({"uri": uri_of(&path), "range": {"start": place, "end": place}})))
}

fn described(link: &Link, catalog: &Catalog, object: &Object) -> String {
    let dialect = link.engine.dialect();
    let mark = dialect.line_comments.first().copied().unwrap_or("--");
    let head = format!(
        "{mark} {} {} on {}: this file shows it, and changes nothing there\n",
        object.kind_word(),
        clean(&object.name),
        clean(&link.profile.name)
    );
    let definition = templates::definition(object, catalog, dialect)
        .map(|text| format!("{}{}\n", text.trim_end(), dialect.terminator()));
    let mut text = format!("{head}\n{}", definition.unwrap_or_default());
    let mut section = "";
    for line in lines(object, catalog, dialect) {
        if line.section != section {
            section = line.section;
            text.push_str(&format!("\n{mark} {section}\n"));
        }
        // What a database says of itself must not end the comment.
        text.push_str(&format!("{mark}   {}\n", clean(&line.text)));
    }
    text
}

/// The rows of the statement at a place, as the document that shows them.
pub(super) fn rows(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let (text, at) = server.place(params)?;
    let Some(run) = server.run_at(text, at) else { return Ok(Value::Null) };
    let uri = text.uri.clone();
    server.show_rows(&uri, &run, 0);
    let path = server.shown_path(&uri, "rows.txt");
    let place = json!({"line": 0, "character": 0});
    Ok(json!({"uri": uri_of(&path), "range": {"start": place, "end": place}}))
}

pub(super) fn highlight(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let (text, at) = server.place(params)?;
    let Some((_, same)) = at_place(server, text, at) else { return Ok(Value::Null) };
    let one = |name: &Named| json!({"range": text.range(&name.range), "kind": if name.defines { 3 } else { 2 }});
    Ok(same.iter().map(one).collect())
}

pub(super) fn references(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let (text, at) = server.place(params)?;
    let Some((here, same)) = at_place(server, text, at) else { return Ok(Value::Null) };
    let wanted = match &here.means {
        Means::Table(name) => name.clone(),
        // What belongs to a statement stands in it alone.
        _ => {
            let all = params["context"]["includeDeclaration"] != json!(false);
            let one = |name: &&Named| all || !name.defines;
            let place = |name: &Named| json!({"uri": text.uri, "range": text.range(&name.range)});
            return Ok(same.iter().filter(one).map(place).collect());
        }
    };
    let mut found = Vec::new();
    let link = text.link;
    for other in server.texts.values().filter(|other| other.link == link) {
        let catalog = server.link_of(other).and_then(|link| link.catalog.as_deref());
        let ranges = standing_in(&other.rope, &other.outline, catalog, &wanted);
        found.extend(ranges.iter().map(|range| json!({"uri": other.uri, "range": other.range(range)})));
    }
    // Buffers that are not open, of the project and of this person.
    let dialect = text.dialect();
    let project =
        text.path().and_then(|path| path.ancestors().map(|f| f.join(".jaunty").join("buffers")).find(|f| f.is_dir()));
    let roots: Vec<_> = project.into_iter().chain([server.options.folders.data.join("buffers")]).collect();
    let catalog = server.link_of(text).and_then(|link| link.catalog.as_deref());
    for path in buffers::files(&roots, &[dialect.extension]).into_iter().take(MOST_FILES) {
        let uri = uri_of(&path);
        let read = std::fs::read(&path).ok().and_then(|bytes| TextForm::read(bytes).ok());
        let Some((content, _)) = read else { continue };
        if server.texts.contains_key(&uri) || !content.to_lowercase().contains(&wanted.name.to_lowercase()) {
            continue;
        }
        let rope = Rope::from_str(&content);
        let places = Lines::of(&rope, server.client.can.encoding);
        let ranges = standing_in(&rope, &Outline::new(&rope, dialect), catalog, &wanted);
        found.extend(ranges.iter().map(|range| json!({"uri": uri, "range": places.range(&rope, range)})));
    }
    Ok(Value::Array(found))
}

/// Where a table stands in a text.
fn standing_in(rope: &Rope, outline: &Outline, catalog: Option<&Catalog>, wanted: &Name) -> Vec<Range<usize>> {
    let Some(catalog) = catalog else { return Vec::new() };
    let around = Surroundings { catalog, dialect: outline.dialect(), snippets: &[], nearby: "" };
    let lower = wanted.name.to_lowercase();
    let mut found = Vec::new();
    for statement in outline.statements() {
        let text = statement.text(rope);
        if !text.to_lowercase().contains(&lower) {
            continue;
        }
        let here = named(&text, around).into_iter().filter(|name| name.means == Means::Table(wanted.clone()));
        found.extend(here.map(|name| statement.start + name.range.start..statement.start + name.range.end));
    }
    found
}

pub(super) fn prepare_rename(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let (text, at) = server.place(params)?;
    let Some((here, _)) = at_place(server, text, at) else { return Ok(Value::Null) };
    match here.means {
        Means::Alias(_) | Means::Cte(_) => Ok(json!({
            "range": text.range(&here.range),
            "placeholder": text.rope.byte_slice(here.range.clone()).to_string(),
        })),
        _ => Ok(Value::Null),
    }
}

pub(super) fn rename(server: &mut Server, params: &Value) -> Result<Value, Refusal> {
    let (text, at) = server.place(params)?;
    let new = params["newName"].as_str().ok_or_else(|| Refusal::params("newName is missing"))?;
    let places = server.at(text, at, |statement, start, cursor, around| {
        let places = renamed(statement, cursor, new, around)?;
        Ok(places.into_iter().map(|range| range.start + start..range.end + start).collect::<Vec<_>>())
    });
    let places = places.map_err(|why: String| Refusal::failed(why))?;
    let edits: Vec<Value> = places.iter().map(|range| json!({"range": text.range(range), "newText": new})).collect();
    Ok(super::actions::edit_of(server, text, edits))
}
