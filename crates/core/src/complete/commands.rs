//! Commands of a server of keys: their names, their arguments, and keys.

use super::{Completion, Found, Kind, Surroundings, escaped, finish};
use jaunty_language::help;
use jaunty_seam::catalog::ObjectKind;

/// What could be written at byte `cursor` of a command.
pub(super) fn complete(text: &str, cursor: usize, around: Surroundings<'_>) -> Completion {
    let head = text.get(..cursor).unwrap_or(text);
    let line = head.rsplit('\n').next().unwrap_or_default();
    let from = line.rfind(char::is_whitespace).map_or(0, |at| at + 1);
    let typed = line.get(from..).unwrap_or_default();
    let start = cursor - typed.len();
    let rest = text.get(cursor..).unwrap_or_default();
    let end = cursor + rest.find(char::is_whitespace).unwrap_or(rest.len());
    let mut found =
        Found { typed: typed.trim_start_matches(['"', '\'']).to_owned(), all: Vec::new(), seen: Default::default() };
    if line.trim_start().starts_with('#') || (line.matches(['"', '\'']).count() % 2 == 1 && typed.is_empty()) {
        return Completion::default();
    }
    let before: Vec<&str> = line.get(..from).unwrap_or_default().split_whitespace().collect();
    let help = help::of(around.dialect);
    let capitals = typed.bytes().any(|b| b.is_ascii_uppercase());
    let cased = |name: &str| if capitals { name.to_uppercase() } else { name.to_lowercase() };
    if before.is_empty() {
        for entry in help.entries() {
            let arguments = entry.signature.get(entry.name.len()..).unwrap_or_default().trim();
            let weight = if around.dialect.usual.contains(&entry.name.as_str()) { 60 } else { 50 };
            found.put(Kind::Keyword, &cased(&entry.name), arguments, cased(&entry.name), weight);
        }
        return finish(start..end, found);
    }
    // The second word of commands with two.
    for entry in help.entries() {
        if let Some((first, second)) = entry.name.split_once(' ')
            && before.len() == 1
            && first.eq_ignore_ascii_case(before.first().unwrap_or(&""))
        {
            let arguments = entry.signature.get(entry.name.len()..).unwrap_or_default().trim();
            let weight = if around.dialect.usual.contains(&entry.name.as_str()) { 80 } else { 70 };
            found.put(Kind::Keyword, &cased(second), arguments, cased(second), weight);
        }
    }
    let two = before.get(..2).map(|two| two.join(" ")).and_then(|name| help.keyword(&name)).map(|entry| (entry, 2));
    let entry = two.or_else(|| before.first().and_then(|name| help.keyword(name)).map(|entry| (entry, 1)));
    let Some((entry, words)) = entry else { return finish(start..end, found) };
    let arguments: Vec<&str> = entry.signature.split_whitespace().skip(words).collect();
    let position = before.len() - words;
    let here = arguments.get(position.min(arguments.len().saturating_sub(1))).copied().unwrap_or_default();
    let lists = arguments.last().is_some_and(|last| last.contains('…'));
    if here.contains("key") && (position < arguments.len() || lists) {
        for object in around.catalog.objects().iter().filter(|o| o.kind == ObjectKind::Keys) {
            // A key of the pattern, which a person changes into the one that is meant.
            let key = if object.definition.is_empty() { &object.name } else { &object.definition };
            let written = if key.contains([' ', '"', '\'']) { format!("{key:?}") } else { key.clone() };
            let detail = format!("{} · {}", object.signature, object.name);
            found.put(Kind::Key, key, detail, escaped(&written), weight(&entry.name, &object.signature));
        }
    }
    // Words in capitals are written as they are.
    for argument in &arguments {
        for word in argument.split(['[', ']', '|', '…', ',']) {
            let capital = word.len() > 1 && word.bytes().all(|b| b.is_ascii_uppercase() || b == b'_');
            if capital && !before.iter().any(|b| b.eq_ignore_ascii_case(word)) {
                found.put(Kind::Keyword, &cased(word), "", cased(word), 30);
            }
        }
    }
    finish(start..end, found)
}

/// A key of the type that a command is for comes first.
fn weight(command: &str, held: &str) -> i32 {
    let of = match command {
        "GET" | "INCR" | "DECR" | "APPEND" | "GETRANGE" | "STRLEN" | "MGET" | "INCRBY" | "GETEX" | "GETDEL" => "string",
        name if name.starts_with('H') => "hash",
        name if name.starts_with('L') || name.starts_with("RP") || name.starts_with("BL") => "list",
        name if name.starts_with('Z') => "zset",
        name if name.starts_with('X') => "stream",
        name if name.starts_with('S') && !name.starts_with("SET") && !name.starts_with("SC") => "set",
        _ => return 50,
    };
    if of == held { 70 } else { 20 }
}
