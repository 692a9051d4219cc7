//! The interface for programs: every method with its parameters, declared once. What is asked is checked against this
//! table, and the reference (`docs/api.md`) and the OpenRPC document come from it.
//!
//! To add a method: an entry here, and a function of that name in `service` (or, for `screen.*`, in the screen).

use serde_json::{Map, Value, json};

use crate::wire::{METHOD_NOT_FOUND, Refusal};

/// The version of the interface: the second number grows with what is added, the first with what is changed.
pub const VERSION: &str = "1.0";

/// What a parameter is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Text.
    Text,
    /// A whole number from 0.
    Number,
    /// True or false.
    Flag,
    /// An object whose members are texts.
    Texts,
}

impl Kind {
    /// Its schema.
    fn schema(self) -> Value {
        match self {
            Kind::Text => json!({"type": "string"}),
            Kind::Number => json!({"type": "integer", "minimum": 0}),
            Kind::Flag => json!({"type": "boolean"}),
            Kind::Texts => json!({"type": "object", "additionalProperties": {"type": "string"}}),
        }
    }

    fn word(self) -> &'static str {
        match self {
            Kind::Text => "text",
            Kind::Number => "whole number",
            Kind::Flag => "true or false",
            Kind::Texts => "object of texts",
        }
    }

    fn takes(self, value: &Value) -> bool {
        match self {
            Kind::Text => value.is_string(),
            Kind::Number => value.is_u64(),
            Kind::Flag => value.is_boolean(),
            Kind::Texts => value.as_object().is_some_and(|all| all.values().all(Value::is_string)),
        }
    }
}

/// A parameter of a method.
#[derive(Debug, Clone, Copy)]
pub struct Param {
    /// Its name.
    pub name: &'static str,
    /// What it is.
    pub kind: Kind,
    /// Whether it has to be given.
    pub required: bool,
    /// What it says, in a line.
    pub help: &'static str,
}

/// A method.
#[derive(Debug, Clone, Copy)]
pub struct Method {
    /// Its name.
    pub name: &'static str,
    /// What it does, in a line.
    pub help: &'static str,
    /// Its parameters.
    pub params: &'static [Param],
    /// What it gives, in a line.
    pub gives: &'static str,
}

const fn must(name: &'static str, kind: Kind, help: &'static str) -> Param {
    Param { name, kind, required: true, help }
}

const fn may(name: &'static str, kind: Kind, help: &'static str) -> Param {
    Param { name, kind, required: false, help }
}

const CONNECTION: Param = must("connection", Kind::Text, "The name of a profile");
const RUN: Param = must("run", Kind::Number, "The number of a run in the logbook");
const RESULT: Param = may("result", Kind::Number, "Which of its results with rows, from 1; the first by default");
const REFRESH: Param = may("refresh", Kind::Flag, "Read the catalog again first, instead of using the one read last");
const TEXT: Param = must("text", Kind::Text, "One or several statements");
const PLACE: &[Param] = &[
    must("path", Kind::Text, "The file of the text"),
    must("at", Kind::Number, "The position of the cursor, in bytes"),
    must("version", Kind::Number, "The version of the text, as the editor counts them"),
    may("text", Kind::Text, "The text; may be left out if this version was sent before"),
    may("host", Kind::Text, "The programming language that it is in, where statements stand in its literals"),
    may("connection", Kind::Text, "The name of the profile that it runs on"),
];

/// All methods, in the order in which they are described.
pub const METHODS: &[Method] = &[
    Method {
        name: "api.describe",
        help: "Describes this interface as an OpenRPC document",
        params: &[],
        gives: "the document",
    },
    Method {
        name: "connections.list",
        help: "Lists the connections of the project and your own, and databases found nearby; secrets are never shown",
        params: &[],
        gives: "profiles: name, engine, guard, group, label, note, file and line; of databases found nearby also from, the file or container that names them",
    },
    Method {
        name: "statements.list",
        help: "Finds the statements of a text",
        params: &[
            TEXT,
            may("connection", Kind::Text, "The profile whose dialect to use"),
            may("language", Kind::Text, "The dialect, if no connection is given"),
        ],
        gives: "statements: title, text, kind, and their ranges in bytes",
    },
    Method {
        name: "statements.format",
        help: "Formats a statement",
        params: &[
            TEXT,
            may("connection", Kind::Text, "The profile whose dialect to use"),
            may("language", Kind::Text, "The dialect, if no connection is given"),
        ],
        gives: "text: the formatted statement",
    },
    Method {
        name: "statements.problems",
        help: "Checks a statement without running it",
        params: &[CONNECTION, TEXT],
        gives: "problems: message, its range in bytes, and near names",
    },
    Method {
        name: "complete",
        help: "Completes a statement at a position",
        params: &[CONNECTION, TEXT, must("at", Kind::Number, "The position of the cursor, in bytes")],
        gives: "the range in bytes that a completion replaces, and the completions, the best first",
    },
    Method {
        name: "explain",
        help: "Explains the word at a position of a statement: a keyword, a function, a table, a column",
        params: &[CONNECTION, TEXT, must("at", Kind::Number, "The position of the cursor, in bytes")],
        gives: "title and lines; null if there is no help for it",
    },
    Method {
        name: "run",
        help: "Runs a statement and waits for its end; run.progress is notified meanwhile",
        params: &[
            CONNECTION,
            must("statement", Kind::Text, "One statement"),
            may("title", Kind::Text, "Its title in the logbook"),
            may("values", Kind::Texts, "Values of its parameters by name, written as on the screen"),
            may("confirmed", Kind::Flag, "Run it even if the connection's guard asks"),
        ],
        gives: "the run: its number, outcome, rows, rows changed, duration, error, messages, and its results with their columns",
    },
    Method {
        name: "run.stop",
        help: "Stops what runs on a connection of this interface; rows that were fetched stay",
        params: &[CONNECTION],
        gives: "null",
    },
    Method {
        name: "plan",
        help: "Gets the execution plan of a statement; one that writes is only estimated",
        params: &[
            CONNECTION,
            must("statement", Kind::Text, "One statement"),
            may("values", Kind::Texts, "Values of its parameters by name, written as on the screen"),
            may("measured", Kind::Flag, "Run the statement and measure its steps"),
            may("confirmed", Kind::Flag, "Do it even if the connection's guard asks"),
            may("path", Kind::Text, "A file to draw the plan to, .svg or .pdf"),
        ],
        gives: "the plan as text, its total time or cost, and its steps",
    },
    Method {
        name: "rows.page",
        help: "Reads kept rows of a run, without asking its server",
        params: &[
            RUN,
            RESULT,
            may("from", Kind::Number, "The first row, from 0"),
            may("count", Kind::Number, "How many; 100 by default, at most 10,000"),
            may(
                "format",
                Kind::Text,
                "json (objects, the default), a text format of exports, or arrow (an IPC file in base64)",
            ),
        ],
        gives: "the first row, the total, the columns, and rows (json) or content (other formats)",
    },
    Method {
        name: "rows.export",
        help: "Writes kept rows of a run to a file",
        params: &[
            RUN,
            RESULT,
            must("path", Kind::Text, "The file; its ending sets the format"),
            may("format", Kind::Text, "The format, if the ending does not set it"),
            may("options", Kind::Texts, "Options of the format, as for an out-line"),
            may("replace", Kind::Flag, "Replace a file that already exists"),
        ],
        gives: "rows: how many were written",
    },
    Method {
        name: "catalog.objects",
        help: "Lists what a database holds",
        params: &[
            CONNECTION,
            may("like", Kind::Text, "Letters of the name, in this order"),
            may("schema", Kind::Text, "Only those of this schema"),
            REFRESH,
        ],
        gives: "objects: schema, name, kind, rows and bytes as estimated, comment",
    },
    Method {
        name: "catalog.object",
        help: "Describes one object",
        params: &[
            CONNECTION,
            must("name", Kind::Text, "Its name"),
            may("schema", Kind::Text, "Its schema; by default the first of the search path"),
            REFRESH,
        ],
        gives: "its columns, its keys and references in lines, and its definition",
    },
    Method {
        name: "catalog.draw",
        help: "Draws tables with their keys and what they reference",
        params: &[
            CONNECTION,
            must("path", Kind::Text, "The file, .svg or .pdf"),
            may("table", Kind::Text, "A table; without it, all of the schema"),
            may("depth", Kind::Number, "How many keys away neighbours are drawn; 1 by default"),
            may("schema", Kind::Text, "The schema; by default the first of the search path"),
            REFRESH,
        ],
        gives: "tables: how many are drawn",
    },
    Method {
        name: "logbook.find",
        help: "Searches the runs of all connections, newest first",
        params: &[
            may("query", Kind::Text, "As in the logbook: words, connection=…, outcome=…, day=…"),
            may("count", Kind::Number, "How many; 50 by default"),
        ],
        gives: "runs, as `jaunty log --json` prints them",
    },
    Method {
        name: "screen.state",
        help: "Returns the state of the screen",
        params: &[],
        gives: "connection, database, file, statement, the run that is shown, and the message in the last line",
    },
    Method {
        name: "screen.watch",
        help: "Returns the state of the screen, and notifies screen.changed whenever it changes",
        params: &[],
        gives: "the state, as screen.state",
    },
    Method {
        name: "screen.actions",
        help: "Lists all actions of the screen",
        params: &[],
        gives: "actions: name, title, help, keys and where they apply",
    },
    Method {
        name: "screen.act",
        help: "Runs an action of the screen",
        params: &[must("action", Kind::Text, "Its name")],
        gives: "the state after it",
    },
    Method {
        name: "screen.follow",
        help: "Shows what an editor's cursor is on",
        params: PLACE,
        gives: "the state after it",
    },
    Method {
        name: "screen.run",
        help: "Runs the statement that an editor's cursor is on, on the screen",
        params: PLACE,
        gives: "the state after it",
    },
];

/// The methods that share a word with a name that is none.
fn near(name: &str) -> Vec<&'static str> {
    let name = name.to_lowercase();
    let parts = || name.split(['.', '_', '/']).filter(|part| part.len() > 2);
    let shares = |method: &&Method| method.name.split('.').any(|own| parts().any(|part| own.starts_with(part)));
    METHODS.iter().filter(shares).map(|method| method.name).collect()
}

/// Finds a method, and holds what is given to its parameters: each has to be known, and of its kind.
pub fn checked(name: &str, params: &Value) -> Result<(&'static Method, Map<String, Value>), Refusal> {
    let Some(method) = METHODS.iter().find(|method| method.name == name) else {
        let near = match near(name).as_slice() {
            [] => String::new(),
            near => format!("; like it: {}", near.join(", ")),
        };
        let message = format!("no method is named {name}{near}; api.describe lists them");
        return Err(Refusal { code: METHOD_NOT_FOUND, message });
    };
    let given = match params {
        Value::Null => Map::new(),
        Value::Object(given) => given.clone(),
        // By place, as JSON-RPC allows it.
        Value::Array(values) if values.len() <= method.params.len() => {
            method.params.iter().zip(values).map(|(param, value)| (param.name.to_owned(), value.clone())).collect()
        }
        _ => return Err(Refusal::params(format!("{name} takes an object with its parameters by their names"))),
    };
    for (key, value) in &given {
        let Some(param) = method.params.iter().find(|param| param.name == key) else {
            let known: Vec<&str> = method.params.iter().map(|param| param.name).collect();
            let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
            return Err(Refusal::params(format!("{name} has no parameter {key}; it takes {known}")));
        };
        if !param.kind.takes(value) {
            return Err(Refusal::params(format!("{key} has to be a {}", param.kind.word())));
        }
    }
    match method.params.iter().find(|param| param.required && !given.contains_key(param.name)) {
        Some(missing) => Err(Refusal::params(format!("{} is missing: {}", missing.name, missing.help))),
        None => Ok((method, given)),
    }
}

/// The interface as an OpenRPC document (<https://spec.open-rpc.org/>).
pub fn described() -> Value {
    let method = |method: &Method| {
        let param = |param: &Param| json!({"name": param.name, "description": param.help, "required": param.required, "schema": param.kind.schema()});
        json!({
            "name": method.name,
            "summary": method.help,
            "paramStructure": "either",
            "params": method.params.iter().map(param).collect::<Value>(),
            "result": {"name": "result", "description": method.gives, "schema": {}},
        })
    };
    json!({
        "openrpc": "1.3.2",
        "info": {"title": "Jaunty Quill", "version": VERSION},
        "methods": METHODS.iter().map(method).collect::<Value>(),
    })
}

/// The reference, as Markdown.
pub fn markdown() -> String {
    let mut text = format!(
        "# The interface for programs\n\n\
        Version {VERSION}. [JSON-RPC 2.0](https://www.jsonrpc.org/specification), one message a line: on standard input \
        and output with `jaunty serve`, and on the socket of each screen that runs (`jaunty call METHOD '{{…}}'` finds the \
        one of the project, or answers itself where none runs). Parameters go by name or by place; one that is not known \
        is an error. `screen.*` needs a screen. While a statement runs `run.progress` is told: `{{\"run\", \"rows\", \
        \"note\"}}`. A program that reads slowly misses states of the screen in between, never the last; \
        `jaunty call screen.watch` prints one a line until it is ended.\n\n\
        This page comes from the table in `crates/serve/src/api.rs`; `jaunty serve --describe` prints it as an OpenRPC \
        document.\n"
    );
    for method in METHODS {
        text.push_str(&format!("\n## `{}`\n\n{}. Gives {}.\n", method.name, method.help, method.gives));
        if !method.params.is_empty() {
            text.push_str("\n| parameter | | |\n| --- | --- | --- |\n");
        }
        for param in method.params {
            let must = if param.required { ", required" } else { "" };
            text.push_str(&format!("| `{}` | {}{must} | {} |\n", param.name, param.kind.word(), param.help));
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_given_is_held_to_the_table() {
        let refused = |name: &str, params: Value| checked(name, &params).map(drop).unwrap_err().message;
        assert_eq!(refused("rnu", json!({})), "no method is named rnu; api.describe lists them");
        for (name, near) in [
            ("connections", "connections.list"),
            ("statement.run", "statements.list, statements.format, statements.problems, run, run.stop, screen.run"),
            ("rows", "rows.page, rows.export"),
        ] {
            let message = format!("no method is named {name}; like it: {near}; api.describe lists them");
            assert_eq!(refused(name, json!({})), message);
        }
        assert_eq!(refused("run.stop", json!({})), "connection is missing: The name of a profile");
        assert_eq!(refused("run.stop", json!({"connection": 7})), "connection has to be a text");
        assert_eq!(
            refused("run.stop", json!({"conection": "x"})),
            "run.stop has no parameter conection; it takes connection"
        );
        assert_eq!(
            refused("api.describe", json!([1])),
            "api.describe takes an object with its parameters by their names"
        );
        assert_eq!(refused("rows.page", json!({"run": -1})), "run has to be a whole number");
        let (_, given) = checked("run.stop", &json!(["ferry"])).unwrap();
        assert_eq!(given["connection"], "ferry");
        assert!(checked("connections.list", &Value::Null).is_ok());
    }
}
