//! From a statement to the command that a server gets.
//!
//! A statement is a command as the server's documentation writes it, or the short form: a collection, a verb, its documents,
//! and stages, one behind each `|`. Each part of the short form is one field or stage of the command, and nothing is added
//! that is not written.

use super::read::{Mistake, Reader, Value};

/// A command: its name is that of the first field.
pub type Command = Vec<(String, Value)>;

/// What a verb of the short form takes, for help and for mistakes.
#[derive(Debug, Clone, Copy)]
pub struct Verb {
    /// The word.
    pub name: &'static str,
    /// How it is written.
    pub signature: &'static str,
    /// What it does.
    pub text: &'static str,
}

/// The verbs, those that read first.
pub const VERBS: &[Verb] = &[
    Verb { name: "find", signature: "find { filter }", text: "Documents that match the filter." },
    Verb { name: "count", signature: "count { filter }", text: "How many documents match the filter." },
    Verb { name: "distinct", signature: "distinct \"path\" { filter }", text: "The distinct values of a path." },
    Verb { name: "aggregate", signature: "aggregate [ stages ]", text: "A pipeline of stages as a list." },
    Verb { name: "indexes", signature: "indexes", text: "The indexes of the collection." },
    Verb { name: "insert", signature: "insert { document } …", text: "Adds documents." },
    Verb {
        name: "update",
        signature: "update [all] { filter } { change } [upsert]",
        text: "Changes the first document that matches the filter, or all.",
    },
    Verb {
        name: "replace",
        signature: "replace { filter } { document } [upsert]",
        text: "Replaces the first document that matches the filter.",
    },
    Verb {
        name: "delete",
        signature: "delete [all] { filter }",
        text: "Removes the first document that matches the filter, or all.",
    },
    Verb { name: "index", signature: "index { keys } [{ options }]", text: "Creates an index." },
    Verb { name: "drop", signature: "drop [index \"name\"]", text: "Drops the collection, or one of its indexes." },
    Verb { name: "create", signature: "create [{ options }]", text: "Creates the collection." },
];

/// The command of a statement.
pub fn command(text: &str) -> Result<Command, Mistake> {
    read_command(text).map_err(|mistake| match habit(text) {
        Some(message) => Mistake { message, ..mistake },
        None => mistake,
    })
}

/// What is meant by what cannot be read and begins as statements of other languages do, or of a client.
fn habit(text: &str) -> Option<String> {
    let mut words = text.split_whitespace();
    let (first, second) = (words.next()?, words.next());
    let third = words.next();
    let is = |word: Option<&str>, one: &str| word.is_some_and(|word| word.eq_ignore_ascii_case(one));
    let is_sql = matches!(first.to_ascii_lowercase().as_str(), "select" | "with")
        || [("insert", "into"), ("delete", "from"), ("create", "table")]
            .iter()
            .any(|(one, other)| is(Some(first), one) && is(second, other))
        || (is(Some(first), "update") && is(third, "set"));
    if is_sql {
        return Some(
            "this is not SQL: it is a collection, a verb and documents, such as ports find { code: \"SMQ\" }".into(),
        );
    }
    match first {
        "show" if ["collections", "tables", "dbs", "databases"].iter().any(|one| is(second, one)) => Some(
            "collections are listed by the action \"Tables\" and by jaunty schema, databases by \"Switch database\""
                .into(),
        ),
        "use" => Some("the action \"Switch database\" goes to another database".into()),
        verb if VERBS.iter().any(|known| known.name == verb) => {
            let collection = second.filter(|second| second.starts_with(char::is_alphabetic))?;
            Some(format!("the collection comes first: {collection} {verb}"))
        }
        called => {
            let path = called.strip_prefix("db.")?.split_once('(')?.0;
            let (collection, verb) = path.rsplit_once('.')?;
            let verb = VERBS.iter().map(|known| known.name).find(|known| verb.starts_with(known))?;
            Some(format!("calls have no parentheses: it is {collection} {verb} {{ … }}"))
        }
    }
}

fn read_command(text: &str) -> Result<Command, Mistake> {
    let mut reader = Reader::new(text);
    if reader.peek()? == Some('{') {
        let fields = reader.object_here()?;
        reader.take(';')?;
        if !reader.is_done()? {
            return Err(reader.unexpected("the end of the command"));
        }
        if fields.is_empty() {
            return Err(Mistake { at: 0, message: "a command has at least one field, its name".into() });
        }
        return Ok(fields);
    }
    let mut ahead = reader.clone();
    if ahead.word()? == Some("explain") && explains(&mut ahead)? {
        let mut verbosity = "queryPlanner";
        let mut behind = ahead.clone();
        if behind.word()? == Some("measured") && explains(&mut behind)? {
            verbosity = "executionStats";
            ahead = behind;
        }
        let inside = if ahead.peek()? == Some('{') { ahead.object_here()? } else { short(&mut ahead)? };
        ahead.take(';')?;
        if !ahead.is_done()? {
            return Err(ahead.unexpected("the end of the command"));
        }
        return Ok(vec![field("explain", Value::Object(inside)), field("verbosity", text_of(verbosity))]);
    }
    short(&mut reader)
}

/// Whether what may be explained comes now: a command, or a statement.
fn explains(ahead: &mut Reader<'_>) -> Result<bool, Mistake> {
    Ok(ahead.peek()? == Some('{') || starts_statement(ahead)?)
}

/// Whether a collection follows, so that the word before was none.
fn starts_statement(reader: &mut Reader<'_>) -> Result<bool, Mistake> {
    let mut ahead = reader.clone();
    Ok(match ahead.peek()? {
        Some('"' | '\'') => true,
        _ => ahead.word()?.is_some_and(|word| !VERBS.iter().any(|verb| verb.name == word)),
    })
}

fn field(name: &str, value: Value) -> (String, Value) {
    (name.to_owned(), value)
}

fn text_of(text: &str) -> Value {
    Value::Text(text.to_owned())
}

fn number(text: &str) -> Value {
    Value::Number(text.to_owned())
}

fn empty() -> Value {
    Value::Object(Vec::new())
}

/// Whether a document follows.
fn has_document(reader: &mut Reader<'_>) -> Result<bool, Mistake> {
    Ok(reader.peek()? == Some('{'))
}

fn document_or_empty(reader: &mut Reader<'_>) -> Result<Value, Mistake> {
    if has_document(reader)? { reader.value() } else { Ok(empty()) }
}

/// Passes over a word, if it is next.
fn takes(reader: &mut Reader<'_>, word: &str) -> Result<bool, Mistake> {
    let mut ahead = reader.clone();
    let is = ahead.word()? == Some(word);
    if is {
        *reader = ahead;
    }
    Ok(is)
}

/// The short form.
fn short(reader: &mut Reader<'_>) -> Result<Command, Mistake> {
    let Some(collection) = reader.name()? else { return Err(reader.unexpected("a collection, or a command { … }")) };
    let on = |command: &str| field(command, text_of(&collection));
    let at = reader.place()?;
    let verb = if has_document(reader)? { Some("find") } else { reader.word()? };
    let mut command = match verb {
        None | Some("find") => {
            let filter = document_or_empty(reader)?;
            return stages(reader, &collection, filter);
        }
        Some("count") => {
            let mut command = vec![on("count")];
            if has_document(reader)? {
                command.push(field("query", reader.value()?));
            }
            command
        }
        Some("distinct") => {
            let Some(path) = reader.name()? else { return Err(reader.unexpected("a path")) };
            let mut command = vec![on("distinct"), field("key", text_of(&path))];
            if has_document(reader)? {
                command.push(field("query", reader.value()?));
            }
            command
        }
        Some("aggregate") => match reader.value()? {
            stages @ Value::Array(_) => vec![on("aggregate"), field("pipeline", stages), field("cursor", empty())],
            _ => return Err(Mistake { at, message: "aggregate takes a list of stages [ … ]".into() }),
        },
        Some("indexes") => vec![on("listIndexes")],
        Some("insert") => {
            let mut documents = Vec::new();
            while !reader.is_done()? && !matches!(reader.peek()?, Some('|' | ';')) {
                match reader.value()? {
                    document @ Value::Object(_) => documents.push(document),
                    Value::Array(several) => documents.extend(several),
                    _ => return Err(Mistake { at, message: "insert takes documents { … }".into() }),
                }
                reader.take(',')?;
            }
            if documents.is_empty() {
                return Err(reader.unexpected("a document { … }"));
            }
            vec![on("insert"), field("documents", Value::Array(documents))]
        }
        Some("update") => {
            let all = takes(reader, "all")?;
            let filter = Value::Object(reader.object_here()?);
            let change = match reader.peek()? {
                Some('[') => reader.value()?,
                _ => Value::Object(reader.object_here()?),
            };
            let operators = match &change {
                Value::Object(fields) => !fields.is_empty() && fields.iter().all(|(name, _)| name.starts_with('$')),
                _ => true,
            };
            if !operators {
                let message = "update takes operators such as { $set: { … } }; replace takes a document".to_owned();
                return Err(Mistake { at, message });
            }
            vec![on("update"), field("updates", changes(filter, change, all, takes(reader, "upsert")?))]
        }
        Some("replace") => {
            let filter = Value::Object(reader.object_here()?);
            let document = reader.object_here()?;
            if document.iter().any(|(name, _)| name.starts_with('$')) {
                let message = "replace takes a document; update takes operators such as { $set: { … } }".to_owned();
                return Err(Mistake { at, message });
            }
            let upsert = takes(reader, "upsert")?;
            vec![on("update"), field("updates", changes(filter, Value::Object(document), false, upsert))]
        }
        Some("delete") => {
            let all = takes(reader, "all")?;
            let filter = Value::Object(reader.object_here()?);
            let one = vec![field("q", filter), field("limit", number(if all { "0" } else { "1" }))];
            vec![on("delete"), field("deletes", Value::Array(vec![Value::Object(one)]))]
        }
        Some("index") => {
            let keys = reader.object_here()?;
            let mut options = if has_document(reader)? { reader.object_here()? } else { Vec::new() };
            if !options.iter().any(|(name, _)| name == "name") {
                let parts: Vec<_> = keys.iter().map(|(path, kind)| format!("{path}_{}", plain(kind))).collect();
                options.push(field("name", text_of(&parts.join("_"))));
            }
            let mut index = vec![field("key", Value::Object(keys))];
            index.append(&mut options);
            vec![on("createIndexes"), field("indexes", Value::Array(vec![Value::Object(index)]))]
        }
        Some("drop") if takes(reader, "index")? => {
            let Some(name) = reader.name()? else { return Err(reader.unexpected("the name of an index")) };
            vec![on("dropIndexes"), field("index", text_of(&name))]
        }
        Some("drop") => vec![on("drop")],
        Some("create") => {
            let mut command = vec![on("create")];
            if has_document(reader)? {
                command.extend(reader.object_here()?);
            }
            command
        }
        Some(word) => {
            let known: Vec<_> = VERBS.iter().map(|verb| verb.name).collect();
            let message = format!("{word} is not a verb; the verbs are {}", known.join(", "));
            return Err(Mistake { at, message });
        }
    };
    options(reader, &mut command)?;
    Ok(command)
}

/// A value as a part of a name.
fn plain(value: &Value) -> String {
    match value {
        Value::Number(text) | Value::Text(text) => text.clone(),
        _ => "1".to_owned(),
    }
}

fn changes(filter: Value, change: Value, all: bool, upsert: bool) -> Value {
    let mut one = vec![field("q", filter), field("u", change)];
    if all {
        one.push(field("multi", Value::Bool(true)));
    }
    if upsert {
        one.push(field("upsert", Value::Bool(true)));
    }
    Value::Array(vec![Value::Object(one)])
}

/// Stages behind a filter. Without any it is a plain search.
fn stages(reader: &mut Reader<'_>, collection: &str, filter: Value) -> Result<Command, Mistake> {
    let (mut stages, mut more) = (Vec::new(), Vec::new());
    while reader.take('|')? {
        let at = reader.place()?;
        let Some(name) = reader.word()? else { return Err(reader.unexpected("a stage")) };
        if name == "option" {
            more.extend(reader.object_here()?);
            continue;
        }
        if matches!(reader.peek()?, None | Some('|' | ';')) {
            return Err(Mistake { at, message: format!("the stage {name} needs a value") });
        }
        // One that counts is both.
        if name != "count" && VERBS.iter().any(|verb| verb.name == name) {
            let message = format!("{name} is a verb, which stands right after the collection: {collection} {name} …");
            return Err(Mistake { at, message });
        }
        let name = name.strip_prefix('$').unwrap_or(name);
        stages.push(Value::Object(vec![(format!("${name}"), reader.value()?)]));
    }
    finish(reader)?;
    let collection = text_of(collection);
    let is_empty = filter == empty();
    let mut command = if stages.is_empty() {
        let mut command = vec![field("find", collection)];
        if !is_empty {
            command.push(field("filter", filter));
        }
        command
    } else {
        if !is_empty {
            stages.insert(0, Value::Object(vec![field("$match", filter)]));
        }
        vec![field("aggregate", collection), field("pipeline", Value::Array(stages)), field("cursor", empty())]
    };
    command.append(&mut more);
    Ok(command)
}

/// Options behind a verb, and the end.
fn options(reader: &mut Reader<'_>, command: &mut Command) -> Result<(), Mistake> {
    while reader.take('|')? {
        match reader.word()? {
            Some("option") => command.extend(reader.object_here()?),
            _ => return Err(reader.mistake("after this verb only | option { … } can follow")),
        }
    }
    finish(reader)
}

fn finish(reader: &mut Reader<'_>) -> Result<(), Mistake> {
    reader.take(';')?;
    match reader.peek()? {
        None => Ok(()),
        Some('(') => Err(reader.mistake("calls have no parentheses: it is collection verb { … }")),
        Some(_) => Err(reader.unexpected("a stage | … or the end")),
    }
}

/// Whether a command, by its name and its stages, is known to read: the server's documentation of each command.
pub fn reads(command: &[(String, Value)]) -> bool {
    const READS: &[&str] = &[
        "find",
        "aggregate",
        "count",
        "distinct",
        "explain",
        "getmore",
        "listcollections",
        "listdatabases",
        "listindexes",
        "collstats",
        "dbstats",
        "hello",
        "ismaster",
        "ping",
        "buildinfo",
        "serverstatus",
        "connectionstatus",
        "currentop",
        "getparameter",
        "getlog",
        "hostinfo",
        "listcommands",
        "datasize",
        "top",
        "whatsmyuri",
        "usersinfo",
        "rolesinfo",
        "replsetgetstatus",
        "killcursors",
        "dbhash",
    ];
    let Some((name, value)) = command.first() else { return true };
    let name = name.to_ascii_lowercase();
    if name == "explain" {
        return match value {
            // Measuring carries it out.
            Value::Object(inside) => {
                reads(inside)
                    || !command.iter().any(|(key, value)| key == "verbosity" && *value != text_of("queryPlanner"))
            }
            _ => true,
        };
    }
    let writes = |stage: &Value| matches!(stage, Value::Object(fields) if fields.iter().any(|(name, _)| name == "$out" || name == "$merge"));
    // A name may stand twice, and servers differ in which one they take.
    let mut pipelines = command.iter().filter(|(key, _)| key == "pipeline").map(|(_, stages)| stages);
    let stages_read = pipelines.all(|stages| matches!(stages, Value::Array(stages) if !stages.iter().any(writes)));
    READS.contains(&name.as_str()) && stages_read
}

/// A name as a statement has it: of a collection, or a path.
pub fn name(name: &str) -> String {
    if matches!(Reader::new(name).word(), Ok(Some(word)) if word == name) { name.to_owned() } else { quoted(name) }
}

/// A name as the key of a field.
pub fn key(name: &str) -> String {
    let word = |c: char| c.is_alphanumeric() || matches!(c, '_' | '$');
    let plain = name.chars().all(word) && !name.starts_with(|c: char| c.is_ascii_digit()) && !name.is_empty();
    if plain { name.to_owned() } else { quoted(name) }
}

fn quoted(text: &str) -> String {
    serde_json::Value::String(text.to_owned()).to_string()
}

/// A value as JSON in one line.
pub fn written(value: &Value) -> String {
    match value {
        Value::Null => "null".into(),
        Value::Bool(value) => value.to_string(),
        Value::Number(text) | Value::Parameter(text) => text.clone(),
        Value::Text(text) => quoted(text),
        Value::Array(values) => format!("[{}]", values.iter().map(written).collect::<Vec<_>>().join(", ")),
        Value::Object(fields) if fields.is_empty() => "{}".into(),
        Value::Object(fields) => {
            let fields: Vec<_> =
                fields.iter().map(|(name, value)| format!("{}: {}", key(name), written(value))).collect();
            format!("{{ {} }}", fields.join(", "))
        }
    }
}

/// A value as JSON over several lines: each field and each element that has fields itself on a line of its own.
pub fn laid_out(value: &Value) -> String {
    let mut text = String::new();
    lay_out(value, "", &mut text);
    text
}

fn lay_out(value: &Value, indent: &str, text: &mut String) {
    let deeper = format!("{indent}  ");
    let is_long = |value: &Value| matches!(value, Value::Object(fields) if !fields.is_empty() && !is_typed(fields));
    let (open, close, count) = match value {
        Value::Object(fields) if is_long(value) => ('{', '}', fields.len()),
        Value::Array(values) if values.iter().any(is_long) => ('[', ']', values.len()),
        value => return text.push_str(&written(value)),
    };
    text.push(open);
    for at in 0..count {
        text.push('\n');
        text.push_str(&deeper);
        match value {
            Value::Object(fields) => {
                text.push_str(&format!("{}: ", key(&fields[at].0)));
                lay_out(&fields[at].1, &deeper, text);
            }
            Value::Array(values) => lay_out(&values[at], &deeper, text),
            _ => {}
        }
        text.push_str(if at + 1 < count { "," } else { "" });
    }
    text.push_str(&format!("\n{indent}{close}"));
}

/// Whether an object stands for a value of another type.
fn is_typed(fields: &[(String, Value)]) -> bool {
    matches!(fields, [(name, _)] if name.starts_with('$'))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn made(text: &str) -> String {
        match command(text) {
            Ok(fields) => written(&Value::Object(fields)),
            Err(mistake) => format!("{}: {}", mistake.at, mistake.message),
        }
    }

    #[test]
    fn each_form_has_its_command() {
        for (text, expected) in [
            ("{ ping: 1 }", "{ ping: 1 }"),
            ("sailings", r#"{ find: "sailings" }"#),
            ("sailings { delay: 1 }", r#"{ find: "sailings", filter: { delay: 1 } }"#),
            ("'odd name' find {}", r#"{ find: "odd name" }"#),
            (
                "sailings\n| match { delay: { $gt: 60 } }\n| group { _id: \"$vessel\", n: { $sum: 1 } } // late\n| limit 5",
                r#"{ aggregate: "sailings", pipeline: [{ $match: { delay: { $gt: 60 } } }, { $group: { _id: "$vessel", n: { $sum: 1 } } }, { $limit: 5 }], cursor: {} }"#,
            ),
            (
                "sailings { a: 1 } | $sort { a: -1 } | option { allowDiskUse: true }",
                r#"{ aggregate: "sailings", pipeline: [{ $match: { a: 1 } }, { $sort: { a: -1 } }], cursor: {}, allowDiskUse: true }"#,
            ),
            ("sailings find {} | option { batchSize: 5 }", r#"{ find: "sailings", batchSize: 5 }"#),
            ("sailings count { a: 1 };", r#"{ count: "sailings", query: { a: 1 } }"#),
            ("sailings distinct port.code { a: 1 }", r#"{ distinct: "sailings", key: "port.code", query: { a: 1 } }"#),
            ("sailings insert { a: 1 }, { a: 2 }", r#"{ insert: "sailings", documents: [{ a: 1 }, { a: 2 }] }"#),
            ("sailings insert [{ a: 1 }]", r#"{ insert: "sailings", documents: [{ a: 1 }] }"#),
            (
                "sailings update { a: 1 } { $set: { b: 2 } } upsert",
                r#"{ update: "sailings", updates: [{ q: { a: 1 }, u: { $set: { b: 2 } }, upsert: true }] }"#,
            ),
            (
                "sailings update all {} [{ $set: { b: 2 } }]",
                r#"{ update: "sailings", updates: [{ q: {}, u: [{ $set: { b: 2 } }], multi: true }] }"#,
            ),
            (
                "sailings replace { _id: 1 } { b: 2 }",
                r#"{ update: "sailings", updates: [{ q: { _id: 1 }, u: { b: 2 } }] }"#,
            ),
            ("sailings delete { a: 1 }", r#"{ delete: "sailings", deletes: [{ q: { a: 1 }, limit: 1 }] }"#),
            ("sailings delete all { a: 1 }", r#"{ delete: "sailings", deletes: [{ q: { a: 1 }, limit: 0 }] }"#),
            (
                "ports index { place: '2dsphere' }",
                r#"{ createIndexes: "ports", indexes: [{ key: { place: "2dsphere" }, name: "place_2dsphere" }] }"#,
            ),
            (
                "ports index { code: 1 } { unique: true }",
                r#"{ createIndexes: "ports", indexes: [{ key: { code: 1 }, unique: true, name: "code_1" }] }"#,
            ),
            ("ports drop index code_1", r#"{ dropIndexes: "ports", index: "code_1" }"#),
            ("ports drop", r#"{ drop: "ports" }"#),
            ("ports create { capped: true, size: 4096 }", r#"{ create: "ports", capped: true, size: 4096 }"#),
            (
                "explain sailings { a: 1 }",
                r#"{ explain: { find: "sailings", filter: { a: 1 } }, verbosity: "queryPlanner" }"#,
            ),
            ("explain { count: 'sailings' }", r#"{ explain: { count: "sailings" }, verbosity: "queryPlanner" }"#),
            ("explain measured sailings", r#"{ explain: { find: "sailings" }, verbosity: "executionStats" }"#),
            ("explain find {}", r#"{ find: "explain" }"#),
        ] {
            assert_eq!(made(text), expected, "{text}");
        }
    }

    #[test]
    fn mistakes_say_what_there_is() {
        for (text, expected) in [
            (
                "sailings fnd {}",
                "9: fnd is not a verb; the verbs are find, count, distinct, aggregate, indexes, insert, update, replace, delete, index, drop, create",
            ),
            ("sailings delete", "15: a document { … } is missing at the end"),
            (
                "sailings update {} { a: 1 }",
                "9: update takes operators such as { $set: { … } }; replace takes a document",
            ),
            (
                "sailings replace {} { $set: {} }",
                "9: replace takes a document; update takes operators such as { $set: { … } }",
            ),
            ("sailings | limit", "11: the stage limit needs a value"),
            ("sailings insert {} | limit 5", "26: after this verb only | option { … } can follow"),
            ("sailings {} x", "12: a stage | … or the end is expected here, and not x"),
            (
                "sailings | find { a: 1 }",
                "11: find is a verb, which stands right after the collection: sailings find …",
            ),
            ("find sailings { a: 1 }", "5: the collection comes first: sailings find"),
            ("db.sailings.findOne({ a: 1 })", "19: calls have no parentheses: it is sailings find { … }"),
            (
                "select * from sailings",
                "7: this is not SQL: it is a collection, a verb and documents, such as ports find { code: \"SMQ\" }",
            ),
            (
                "show tables",
                "5: collections are listed by the action \"Tables\" and by jaunty schema, databases by \"Switch database\"",
            ),
            ("{ }", "0: a command has at least one field, its name"),
        ] {
            assert_eq!(made(text), expected, "{text}");
        }
    }

    #[test]
    fn what_writes_is_told_from_what_reads() {
        for text in [
            "sailings",
            "sailings | limit 5",
            "sailings count {}",
            "{ listCollections: 1 }",
            "explain sailings delete {}",
            "explain measured sailings",
        ] {
            assert!(reads(&command(text).unwrap()), "{text}");
        }
        for text in [
            "sailings insert {}",
            "sailings update {} { $set: { a: 1 } }",
            "sailings delete all {}",
            "sailings drop",
            "ports index { a: 1 }",
            "sailings | out 'x'",
            "sailings | merge { into: 'x' }",
            "sailings aggregate [{ $out: 'x' }]",
            "{ findAndModify: 'x' }",
            "{ unheardOf: 1 }",
            "explain measured sailings delete {}",
            "ports create",
            "ports drop index a",
        ] {
            assert!(!reads(&command(text).unwrap()), "{text}");
        }
    }
}
