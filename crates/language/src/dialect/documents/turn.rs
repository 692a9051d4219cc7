//! A statement in its other form: the short one as the command that is sent, and a command as the short form where there
//! is one.

use super::read::Value;
use super::statement::{Command, command, key, name, written};

/// The other form of a statement. An error is a sentence that says why there is none.
pub fn turned(text: &str) -> Result<String, String> {
    let own = command(text).map_err(|mistake| mistake.message)?;
    if !text.trim_start().starts_with('{') {
        return Ok(in_lines(&own));
    }
    let short = short_of(&own).ok_or("this command has no short form")?;
    // What it is sent as has to be the same: what is left out or means something else shows here.
    match command(&short) {
        Ok(again) if alike(&again) == alike(&own) => Ok(short),
        _ => Err("this command has no short form that means the same".into()),
    }
}

/// A command with one field, or one stage, a line.
fn in_lines(command: &[(String, Value)]) -> String {
    let stage = |stage: &Value| format!("    {}", written(stage));
    let line = |(name, value): &(String, Value)| match value {
        Value::Array(stages) if name == "pipeline" && !stages.is_empty() => {
            format!("  {name}: [\n{}\n  ]", stages.iter().map(stage).collect::<Vec<_>>().join(",\n"))
        }
        value => format!("  {}: {}", key(name), written(value)),
    };
    match command {
        [(name, value)] => format!("{{ {}: {} }}", key(name), written(value)),
        fields => format!("{{\n{}\n}}", fields.iter().map(line).collect::<Vec<_>>().join(",\n")),
    }
}

/// The fields by their names, without those that say what would hold without them.
fn alike(command: &[(String, Value)]) -> Vec<(String, String)> {
    let empty = |(name, value): &&(String, Value)| {
        matches!(name.as_str(), "filter" | "query" | "cursor") && *value == Value::Object(Vec::new())
    };
    let inside = |value: &Value| match value {
        Value::Object(inside) => format!("{:?}", alike(inside)),
        value => written(value),
    };
    let explained = command.first().is_some_and(|(name, _)| name == "explain");
    let mut all: Vec<_> = command
        .iter()
        .filter(|field| !empty(field))
        .map(|(name, value)| (name.clone(), if explained { inside(value) } else { written(value) }))
        .collect();
    if let Some(rest) = all.get_mut(1..) {
        rest.sort();
    }
    all
}

fn part<'a>(fields: &'a [(String, Value)], wanted: &str) -> Option<&'a Value> {
    fields.iter().find(|(name, _)| name == wanted).map(|(_, value)| value)
}

/// The one statement of a write.
fn only<'a>(command: &'a Command, list: &str) -> Option<&'a [(String, Value)]> {
    match part(command, list)? {
        Value::Array(all) => match all.as_slice() {
            [Value::Object(one)] => Some(one),
            _ => None,
        },
        _ => None,
    }
}

/// The short form of a command, if it has one; what it means is not looked at.
fn short_of(command: &Command) -> Option<String> {
    let (verb, value) = command.first()?;
    if let ("explain", Value::Object(inside)) = (verb.as_str(), value) {
        let measured = match part(command, "verbosity") {
            Some(Value::Text(how)) if how == "queryPlanner" => "",
            Some(Value::Text(how)) if how == "executionStats" => "measured ",
            _ => return None,
        };
        return Some(format!("explain {measured}{}", short_of(inside)?));
    }
    let Value::Text(collection) = value else { return None };
    let on = name(collection);
    let document = |wanted: &str| match part(command, wanted) {
        Some(value) if *value != Value::Object(Vec::new()) => format!(" {}", written(value)),
        _ => String::new(),
    };
    // Fields that no part of the short form stands for.
    let mut said = vec![verb.as_str()];
    let mut short = match verb.as_str() {
        "find" => {
            said.push("filter");
            let filter = document("filter");
            let rest = command.iter().any(|(name, _)| !matches!(name.as_str(), "find" | "filter"));
            let verb = if rest || filter.is_empty() { " find" } else { "" };
            let filter = if filter.is_empty() { " {}".to_owned() } else { filter };
            format!("{on}{verb}{filter}")
        }
        "aggregate" => {
            said.extend(["pipeline", "cursor"]);
            let Some(Value::Array(stages)) = part(command, "pipeline") else { return None };
            let line = |stage: &Value| match stage {
                Value::Object(stage) => match stage.as_slice() {
                    [(name, argument)] if name.starts_with('$') => {
                        Some(format!("\n| {} {}", &name[1..], written(argument)))
                    }
                    _ => None,
                },
                _ => None,
            };
            let lines: Option<String> = stages.iter().map(line).collect();
            match lines? {
                lines if lines.is_empty() => format!("{on} aggregate []"),
                lines => format!("{on}{lines}"),
            }
        }
        "count" => {
            said.push("query");
            format!("{on} count{}", document("query"))
        }
        "distinct" => {
            said.extend(["key", "query"]);
            let Some(Value::Text(path)) = part(command, "key") else { return None };
            format!("{on} distinct {}{}", name(path), document("query"))
        }
        "listIndexes" => format!("{on} indexes"),
        "insert" => {
            said.push("documents");
            let Some(Value::Array(all)) = part(command, "documents") else { return None };
            let all: String = all.iter().map(|one| format!("\n{}", written(one))).collect();
            format!("{on} insert{all}")
        }
        "update" => {
            said.push("updates");
            let one = only(command, "updates")?;
            let (filter, change) = (written(part(one, "q")?), part(one, "u")?);
            let flag = |wanted: &str| part(one, wanted) == Some(&Value::Bool(true));
            let operators = match change {
                Value::Object(fields) => fields.iter().any(|(name, _)| name.starts_with('$')),
                _ => true,
            };
            let verb = if operators { "update" } else { "replace" };
            let (all, upsert) = (if flag("multi") { " all" } else { "" }, if flag("upsert") { " upsert" } else { "" });
            format!("{on} {verb}{all} {filter} {}{upsert}", written(change))
        }
        "delete" => {
            said.push("deletes");
            let one = only(command, "deletes")?;
            let all = if part(one, "limit") == Some(&Value::Number("0".into())) { " all" } else { "" };
            format!("{on} delete{all} {}", written(part(one, "q")?))
        }
        "createIndexes" => {
            said.push("indexes");
            let one = only(command, "indexes")?;
            let options: Vec<_> = one.iter().filter(|(name, _)| name != "key").cloned().collect();
            let options =
                if options.is_empty() { String::new() } else { format!(" {}", written(&Value::Object(options))) };
            format!("{on} index {}{options}", written(part(one, "key")?))
        }
        "dropIndexes" => {
            said.push("index");
            let Some(Value::Text(index)) = part(command, "index") else { return None };
            format!("{on} drop index {}", name(index))
        }
        "drop" => format!("{on} drop"),
        "create" => {
            let options: Vec<_> = command.iter().skip(1).cloned().collect();
            said.extend(options.iter().map(|(name, _)| name.as_str()));
            let options = if options.is_empty() {
                String::new()
            } else {
                format!(" {}", written(&Value::Object(options.clone())))
            };
            return Some(format!("{on} create{options}"));
        }
        _ => return None,
    };
    let others: Vec<_> = command.iter().filter(|(name, _)| !said.contains(&name.as_str())).cloned().collect();
    if !others.is_empty() {
        short.push_str(&format!("\n| option {}", written(&Value::Object(others))));
    }
    Some(short)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_form_turns_into_the_other() {
        for (short, expected) in [
            ("sailings { delay: 1 }", "{\n  find: \"sailings\",\n  filter: { delay: 1 }\n}"),
            ("sailings find {}", "{ find: \"sailings\" }"),
            (
                "sailings find { a: 1 }\n| option { sort: { a: 1 }, limit: 5 }",
                "{\n  find: \"sailings\",\n  filter: { a: 1 },\n  sort: { a: 1 },\n  limit: 5\n}",
            ),
            (
                "sailings\n| match { a: { $gt: 1 } }\n| limit 5\n| option { allowDiskUse: true }",
                "{\n  aggregate: \"sailings\",\n  pipeline: [\n    { $match: { a: { $gt: 1 } } },\n    { $limit: 5 }\n  ],\n  cursor: {},\n  allowDiskUse: true\n}",
            ),
            ("sailings count { a: 1 }", "{\n  count: \"sailings\",\n  query: { a: 1 }\n}"),
            (
                "sailings distinct port.code { a: 1 }",
                "{\n  distinct: \"sailings\",\n  key: \"port.code\",\n  query: { a: 1 }\n}",
            ),
            ("sailings indexes", "{ listIndexes: \"sailings\" }"),
            ("sailings insert\n{ a: 1 }\n{ a: 2 }", "{\n  insert: \"sailings\",\n  documents: [{ a: 1 }, { a: 2 }]\n}"),
            (
                "sailings update all {} { $set: { b: 2 } } upsert",
                "{\n  update: \"sailings\",\n  updates: [{ q: {}, u: { $set: { b: 2 } }, multi: true, upsert: true }]\n}",
            ),
            (
                "sailings replace { _id: 1 } { b: 2 }",
                "{\n  update: \"sailings\",\n  updates: [{ q: { _id: 1 }, u: { b: 2 } }]\n}",
            ),
            ("sailings delete all { a: 1 }", "{\n  delete: \"sailings\",\n  deletes: [{ q: { a: 1 }, limit: 0 }]\n}"),
            (
                "ports index { code: 1 } { unique: true, name: \"own\" }",
                "{\n  createIndexes: \"ports\",\n  indexes: [{ key: { code: 1 }, unique: true, name: \"own\" }]\n}",
            ),
            ("ports drop index code_1", "{\n  dropIndexes: \"ports\",\n  index: \"code_1\"\n}"),
            ("ports drop", "{ drop: \"ports\" }"),
            ("ports create { capped: true, size: 4096 }", "{\n  create: \"ports\",\n  capped: true,\n  size: 4096\n}"),
            (
                "explain measured sailings\n| limit 5",
                "{\n  explain: { aggregate: \"sailings\", pipeline: [{ $limit: 5 }], cursor: {} },\n  verbosity: \"executionStats\"\n}",
            ),
            ("\"odd days\" count", "{ count: \"odd days\" }"),
        ] {
            assert_eq!(turned(short).as_deref(), Ok(expected));
            assert_eq!(turned(expected).as_deref(), Ok(short), "and back");
        }
    }

    #[test]
    fn what_has_no_short_form_stays() {
        for text in [
            "{ ping: 1 }",
            "{ aggregate: 1, pipeline: [{ $currentOp: {} }], cursor: {} }",
            "{ update: 'a', updates: [{ q: {}, u: { b: 1 } }, { q: {}, u: { b: 2 } }] }",
            "{ delete: 'a', deletes: [{ q: {}, limit: 1, hint: 'x' }] }",
            "{ aggregate: 'a', pipeline: [], cursor: { batchSize: 5 } }",
            "{ createIndexes: 'a', indexes: [{ key: { b: 1 } }] }",
        ] {
            assert!(turned(text).is_err(), "{text}: {:?}", turned(text));
        }
        assert!(turned("sailings { a: ").is_err());
    }
}
