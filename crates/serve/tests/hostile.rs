//! What an editor or a program must never bring about: that the server ends, or stops answering.

#![allow(clippy::unwrap_used)] // A test fails by panicking.

mod harness;

use harness::{Editor, able};
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use serde_json::{Value, json};

const METHODS: &[&str] = &[
    "initialize",
    "initialized",
    "textDocument/didOpen",
    "textDocument/didChange",
    "textDocument/didClose",
    "textDocument/didSave",
    "workspace/didChangeWatchedFiles",
    "window/workDoneProgress/cancel",
    "$/cancelRequest",
    "textDocument/completion",
    "completionItem/resolve",
    "textDocument/hover",
    "textDocument/signatureHelp",
    "textDocument/definition",
    "textDocument/implementation",
    "textDocument/references",
    "textDocument/documentHighlight",
    "textDocument/prepareRename",
    "textDocument/rename",
    "textDocument/documentSymbol",
    "workspace/symbol",
    "textDocument/formatting",
    "textDocument/rangeFormatting",
    "textDocument/foldingRange",
    "textDocument/selectionRange",
    "textDocument/semanticTokens/full",
    "textDocument/semanticTokens/range",
    "textDocument/inlayHint",
    "textDocument/codeLens",
    "textDocument/codeAction",
    "workspace/executeCommand",
    "nothing/known",
    "",
];

const COMMANDS: &[&str] = &[
    "jaunty.run",
    "jaunty.runToHere",
    "jaunty.runInPane",
    "jaunty.plan",
    "jaunty.stop",
    "jaunty.rows",
    "jaunty.nextRows",
    "jaunty.previousRows",
    "jaunty.csv",
    "jaunty.json",
    "jaunty.readCatalog",
    "x",
];

/// Texts that end in the middle of things, with signs of every width.
fn text() -> impl Strategy<Value = String> {
    prop_oneof![
        "[a-z ('\"\\*.,;:=<>\\n\\r\u{e9}\u{1f6a2}\u{2028}\u{0}-]{0,60}",
        prop::sample::select(vec![
            "select * from sqlite_master where name = :a",
            "-- connection: ferry\nselect 1;\nselect (",
            "$$ select",
            "q = \"select a from b where {",
            "with recursive",
            "insert into t values ('",
            "/* ",
            "select 1;\n--> x.nothing",
            "create trigger t after insert on x begin select 1",
            "\u{feff}select 1",
            "delete from nowhere",
        ])
        .prop_map(str::to_owned),
    ]
}

fn number() -> impl Strategy<Value = Value> {
    prop_oneof![
        (0_u64..12).prop_map(Value::from),
        prop::sample::select(vec![
            json!(-1),
            json!(u64::MAX),
            json!(1e300),
            json!("7"),
            json!(null),
            json!(4_294_967_296_u64)
        ]),
    ]
}

fn place() -> impl Strategy<Value = Value> {
    (number(), number()).prop_map(|(line, character)| json!({"line": line, "character": character}))
}

fn range() -> impl Strategy<Value = Value> {
    (place(), place()).prop_map(|(start, end)| json!({"start": start, "end": end}))
}

/// Parameters that are nearly right, and some that are not at all.
fn params() -> impl Strategy<Value = Value> {
    let uri = prop::sample::select(vec![
        "a.sql",
        "b.py",
        "c.redis",
        "d.documents",
        "untitled:1",
        "",
        "file://\u{0}",
        "file:///%zz",
    ]);
    let near = (uri, place(), range(), text(), prop::sample::select(COMMANDS), number()).prop_map(
        |(uri, position, range, text, command, version)| {
            let uri = if uri.contains('.') { format!("file:///nowhere/{uri}") } else { uri.to_owned() };
            json!({
                "textDocument": {"uri": uri, "version": version, "text": text, "languageId": "sql"},
                "position": position, "range": range, "positions": [position], "newName": text, "query": text,
                "contentChanges": [{"range": range, "text": text}, {"text": text}],
                "command": command, "arguments": [uri, position, {":a": "1"}], "token": version,
                "context": {"diagnostics": [], "only": ["quickfix"], "includeDeclaration": false},
                "options": {"tabSize": version},
            })
        },
    );
    let other = prop::sample::select(vec![
        json!(null),
        json!([]),
        json!(7),
        json!("x"),
        json!({}),
        json!({"textDocument": []}),
    ]);
    prop_oneof![8 => near, 1 => other]
}

#[test]
fn no_message_ends_the_server() {
    // One server for all of it: what one message leaves behind, the next one meets.
    let mut editor = Editor::with(able(), "guard = \"open\"");
    let strategy = prop::collection::vec((prop::sample::select(METHODS), params(), any::<bool>()), 1..8);
    let mut runner = TestRunner::new(Config { cases: 1000, failure_persistence: None, ..Config::default() });
    let project = editor.uri("");
    let editor = std::cell::RefCell::new(&mut editor);
    runner
        .run(&strategy, |messages| {
            let mut editor = editor.borrow_mut();
            for (method, params, asks) in messages {
                // In a project with a connection, so that statements run.
                let params = params.to_string().replace("file:///nowhere/", &project);
                let params: Value = serde_json::from_str(&params).unwrap();
                if asks {
                    editor.answer(method, params);
                } else {
                    editor.tell(method, params);
                }
            }
            // It is still there, and in its right mind.
            let found = editor.answer("workspace/symbol", json!({"query": "x"}));
            prop_assert!(found["result"].is_array(), "{}", found);
            editor.told.clear();
            Ok(())
        })
        .unwrap();
}
