//! What an editor is answered, over the protocol.

#![allow(clippy::unwrap_used)] // A test fails by panicking.

mod harness;

use harness::{Editor, able};
use jaunty_core::logbook::{Outcome, Query};
use jaunty_serve::Ended;
use serde_json::{Value, json};

const MADE: &str = "create table ports (id integer primary key, name text not null, country text);\n\
    create table berths (id integer primary key, port_id integer references ports (id), depth real);\n\
    insert into ports values (1, 'Saltmarsh Quay', 'Aldermere'), (2, 'Gullhaven', 'Brackenport');\n";

/// An editor whose database has two tables of which the catalog is known.
fn ferry() -> Editor {
    let mut editor = Editor::new();
    make(&mut editor);
    editor
}

fn make(editor: &mut Editor) {
    editor.open("made.sql", MADE);
    let at = editor.at("made.sql", MADE, "insert");
    let answer = editor.command("jaunty.runToHere", &at);
    assert!(answer.get("error").is_none(), "{answer}");
    let end = editor.end_of_run();
    assert!(end.starts_with("2 rows changed"), "{end}");
    editor.open("known.sql", "select * from");
    editor.told.clear();
    // Until the catalog has been read again.
    loop {
        let at = editor.at("known.sql", "select * from ", "from ^");
        editor.tell("textDocument/didChange", json!({"textDocument": {"uri": editor.uri("known.sql"), "version": 2}, "contentChanges": [{"text": "select * from "}]}));
        let found = editor.ask("textDocument/completion", at);
        if labels(&found).contains(&"berths".to_owned()) {
            break;
        }
    }
}

fn labels(found: &Value) -> Vec<String> {
    let items = found["items"].as_array().into_iter().flatten();
    items.map(|item| item["label"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn what_could_be_written_is_proposed() {
    let mut editor = ferry();
    let text = "select p. from ports p";
    editor.open("a.sql", text);
    let found = editor.ask("textDocument/completion", editor.at("a.sql", text, "p.^"));
    assert_eq!(labels(&found)[..3], ["id", "name", "country"]);
    let id = &found["items"][0];
    assert_eq!(id["kind"], 5);
    assert_eq!(
        id["textEdit"],
        json!({"newText": "id", "range": {"start": {"line": 0, "character": 9}, "end": {"line": 0, "character": 9}}})
    );
    // A table is proposed with help that is asked for when it is chosen.
    let text = "select * from por";
    editor.open("b.sql", text);
    let found = editor.ask("textDocument/completion", editor.at("b.sql", text, "por^"));
    let ports = found["items"].as_array().unwrap().iter().find(|item| item["label"] == "ports").unwrap().clone();
    let resolved = editor.ask("completionItem/resolve", ports);
    assert!(resolved["documentation"]["value"].as_str().unwrap().contains("name  TEXT"), "{resolved}");
    // Where anything could stand, a blank that was typed opens no list.
    let text = "select ";
    editor.open("c.sql", text);
    let mut at = editor.at("c.sql", text, " ^");
    at["context"] = json!({"triggerKind": 2, "triggerCharacter": " "});
    assert_eq!(labels(&editor.ask("textDocument/completion", at)), Vec::<String>::new());
    assert_eq!(editor.leave(), Ended::WhenAsked);
}

#[test]
fn words_are_explained() {
    let mut editor = ferry();
    let text = "-- all ports\nselect count(*), lower(p.name) from ports p;\n";
    editor.open("a.sql", text);
    let said = |editor: &mut Editor, mark: &str| {
        let hover = editor.ask("textDocument/hover", editor.at("a.sql", text, mark));
        hover["contents"]["value"].as_str().unwrap_or_default().to_owned()
    };
    assert!(said(&mut editor, "ports p").contains("table ports"));
    assert!(said(&mut editor, "name)").contains("TEXT"));
    assert!(said(&mut editor, "count").contains("count("));
    let called = editor.ask("textDocument/signatureHelp", editor.at("a.sql", text, "lower(^"));
    assert!(called["signatures"][0]["label"].as_str().unwrap().starts_with("lower("), "{called}");
    // Once it ran, a statement's title and first word tell how.
    let at = editor.at("a.sql", text, "select");
    assert!(editor.run(&at).starts_with("2 rows") || editor.rows().contains("1 row"));
    assert!(said(&mut editor, "all ports").contains("all ports · 1 row"));
}

#[test]
fn what_is_wrong_is_told_and_goes() {
    let mut editor = ferry();
    let text = "select nmae from ports;\n\nselect id from ports;\n";
    editor.open("a.sql", text);
    let told = editor.troubles(|told| told.contains("nmae"));
    assert!(told.starts_with("0: ") && told.contains("did you mean \"name\"?"), "{told}");
    // Its way out is an action.
    let document = json!({"uri": editor.uri("a.sql")});
    let range = json!({"start": {"line": 0, "character": 8}, "end": {"line": 0, "character": 8}});
    let actions = editor.ask(
        "textDocument/codeAction",
        json!({"textDocument": document, "range": range, "context": {"diagnostics": []}}),
    );
    let fix = actions.as_array().unwrap().iter().find(|action| action["title"] == "Change to name").unwrap();
    let edit = &fix["edit"]["documentChanges"][0]["edits"][0];
    assert_eq!(edit["newText"], "name");
    editor.tell(
        "textDocument/didChange",
        json!({"textDocument": {"uri": editor.uri("a.sql"), "version": 2},
        "contentChanges": [{"range": edit["range"], "text": "name"}]}),
    );
    assert_eq!(editor.troubles(str::is_empty), "");
    // What the server refuses is told where it says.
    let text = "select id from ports whre id = 1;\n";
    editor.open("b.sql", text);
    editor.tell("textDocument/didChange", json!({"textDocument": {"uri": editor.uri("b.sql"), "version": 2},
        "contentChanges": [{"range": {"start": {"line": 1, "character": 0}, "end": {"line": 1, "character": 0}}, "text": "\n"}]}));
    let told = editor.troubles(|told| told.contains("syntax error"));
    assert!(told.starts_with("0: ") && told.contains("did you mean where?"), "{told}");
    // And the keyword that was meant is put there by an action.
    let document = json!({"uri": editor.uri("b.sql")});
    let range = json!({"start": {"line": 0, "character": 22}, "end": {"line": 0, "character": 22}});
    let actions = editor.ask(
        "textDocument/codeAction",
        json!({"textDocument": document, "range": range, "context": {"diagnostics": []}}),
    );
    let fix = actions.as_array().unwrap().iter().find(|action| action["title"] == "Change to where").unwrap();
    let edit = &fix["edit"]["documentChanges"][0]["edits"][0];
    assert_eq!((&edit["newText"], &edit["range"]["start"]["character"]), (&json!("where"), &json!(21)));
}

#[test]
fn a_statement_runs_and_its_rows_are_shown() {
    let mut editor = ferry();
    let text = "-- ports by name\nselect name, country from ports order by name;\n\nselect nothing from nowhere;\n";
    editor.open("a.sql", text);
    let at = editor.at("a.sql", text, "name, country");
    let end = editor.run(&at);
    assert!(end.starts_with("2 rows · "), "{end}");
    let rows = editor.rows_that(|rows| rows.starts_with("ports by name"));
    assert!(rows.contains("ports by name · ferry"), "{rows}");
    assert!(rows.contains("Gullhaven") && rows.contains("rows 1 to 2 of 2"), "{rows}");
    // Beside it stands how it ran.
    let document = json!({"textDocument": {"uri": editor.uri("a.sql")}, "range": {"start": {"line": 0, "character": 0}, "end": {"line": 9, "character": 0}}});
    let hints = editor.ask("textDocument/inlayHint", document.clone());
    assert!(hints[0]["label"].as_str().unwrap().starts_with("2 rows · "), "{hints}");
    assert_eq!(hints[0]["position"]["line"], 1);
    let lenses = editor.ask("textDocument/codeLens", document);
    let titles: Vec<&str> =
        lenses.as_array().unwrap().iter().map(|lens| lens["command"]["title"].as_str().unwrap()).collect();
    assert!(
        titles[..2] == ["run", "plan"] && titles[2].starts_with("rows · 2 rows") && titles[3] == "run",
        "{titles:?}"
    );
    let answer = editor.command("jaunty.plan", &at);
    assert!(answer.get("error").is_none(), "{answer}");
    editor.end_of_run();
    assert!(editor.rows_that(|rows| rows.contains("ports · reads every row")).contains("steps"));
    // All rows in another form.
    let answer = editor.command("jaunty.json", &at);
    assert!(answer.get("error").is_none(), "{answer}");
    assert_eq!(
        editor.rows_that(|rows| rows.starts_with('{')),
        "{\"name\":\"Gullhaven\",\"country\":\"Brackenport\"}\n{\"name\":\"Saltmarsh Quay\",\"country\":\"Aldermere\"}\n"
    );
    // One that fails says why, at its place.
    let at = editor.at("a.sql", text, "nothing");
    assert!(editor.run(&at).starts_with("failed · "));
    assert!(editor.troubles(|told| told.contains("nowhere")).starts_with("3: "));
    // The rows are where an editor without documents beside the text looks for them.
    let place = editor.ask("textDocument/implementation", editor.at("a.sql", text, "select name"));
    assert!(place["uri"].as_str().unwrap().ends_with("/a.rows.txt"), "{place}");
}

#[test]
fn a_slow_statement_stops_when_its_progress_is_cancelled() {
    let mut editor = ferry();
    let text = "with recursive n(i) as (select 1 union all select i + 1 from n) select count(*) from n;\n";
    editor.open("a.sql", text);
    let at = editor.at("a.sql", text, "with");
    editor.command("jaunty.run", &at);
    let begun = editor.until(|m| m["method"] == "$/progress" && m["params"]["value"]["kind"] == "begin");
    assert_eq!(begun["params"]["value"]["cancellable"], true);
    // Meanwhile everything else is answered.
    assert!(editor.ask("textDocument/hover", editor.at("a.sql", text, "count")).is_object());
    editor.until(|m| m["method"] == "$/progress" && m["params"]["value"]["kind"] == "report");
    editor.tell("window/workDoneProgress/cancel", json!({"token": begun["params"]["token"]}));
    assert!(editor.end_of_run().starts_with("stopped"));
}

#[test]
fn statements_are_written_anew_in_part() {
    let mut editor = ferry();
    let text = "select *, country from berths b where depth > 1;\n";
    editor.open("a.sql", text);
    let mut offered = |mark: &str| -> Vec<(String, Value)> {
        let place = editor.at("a.sql", text, mark)["position"].clone();
        let wanted = json!({"textDocument": {"uri": editor.uri("a.sql")}, "range": {"start": place, "end": place}, "context": {"diagnostics": []}});
        let actions = editor.ask("textDocument/codeAction", wanted);
        let edit = |one: &Value| one["edit"]["documentChanges"][0]["edits"][0].clone();
        actions.as_array().unwrap().iter().map(|one| (one["title"].as_str().unwrap().to_owned(), edit(one))).collect()
    };
    let all = offered("country");
    let (_, join) = all.iter().find(|(title, _)| title == "Join ports on ports.id = b.port_id").unwrap();
    assert_eq!(
        (&join["newText"], &join["range"]["start"]["character"]),
        (&json!(" join ports on ports.id = b.port_id"), &json!(31))
    );
    let (_, star) = all.iter().find(|(title, _)| title == "Expand * to its columns").unwrap();
    assert_eq!(star["newText"], "id, port_id, depth");
    assert!(!offered("depth").iter().any(|(title, _)| title.starts_with("Join")));
}

#[test]
fn what_runs_ends_with_the_editor() {
    let mut editor = ferry();
    let text = "with recursive n(i) as (select 1 union all select i + 1 from n) select count(*) from n;\n";
    editor.open("a.sql", text);
    let at = editor.at("a.sql", text, "with");
    editor.command("jaunty.run", &at);
    editor.until(|m| m["method"] == "$/progress" && m.to_string().contains("running"));
    let logbook = editor.logbook();
    assert_eq!(editor.vanish(), Ended::Alone);
    let entries = logbook.logbook().unwrap().find(&Query::default(), 1).unwrap();
    assert_eq!(entries[0].outcome, Outcome::Stopped);
}

#[test]
fn rows_of_what_keeps_nothing_go_with_the_editor() {
    for (profile, stays) in [("keep = false", false), ("keep = true", true)] {
        let mut editor = Editor::with(able(), profile);
        let text = "select 'tide' as a;\n";
        editor.open("a.sql", text);
        let at = editor.at("a.sql", text, "select");
        editor.run(&at);
        let asked = editor.until(|m| m["method"] == "window/showDocument");
        let path = jaunty_serve::text::path_of(asked["params"]["uri"].as_str().unwrap()).unwrap();
        assert!(std::fs::read_to_string(&path).unwrap().contains("tide"));
        let folder = editor.leave_open();
        assert_eq!(path.exists(), stays, "{profile}");
        drop(folder);
    }
}

#[test]
fn a_profile_that_changes_leads_elsewhere() {
    let mut editor = ferry();
    let file = editor.path(".jaunty/connections.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    std::fs::write(editor.path("other.db"), "").unwrap();
    std::fs::write(&file, text.replace("../ferry.db", "../other.db")).unwrap();
    let text = "select name from ports;\n";
    editor.open("a.sql", text);
    let at = editor.at("a.sql", text, "select");
    let end = editor.run(&at);
    assert!(end.contains("no such table"), "{end}");
}

#[test]
fn what_is_asked_about_a_place_goes_before_whole_documents() {
    let mut editor = ferry();
    let text = "select 1;\n\n".repeat(4_000);
    editor.open("long.sql", &text);
    let document = json!({"textDocument": {"uri": editor.uri("long.sql")}});
    editor.ask("textDocument/hover", editor.at("long.sql", &text, "select"));
    let mut params = editor.at("long.sql", &text, "select");
    params["range"] = document["range"].clone();
    // Of many that wait, the one that is asked about a place overtakes some, and the last is cancelled in time.
    for id in 901..=910 {
        editor.request(id, "textDocument/documentSymbol", params.clone());
    }
    editor.request(911, "textDocument/hover", params);
    editor.tell("$/cancelRequest", json!({"id": 910}));
    let answered = |m: &Value| m.get("method").is_none() && m["id"].as_i64().is_some_and(|id| id > 900);
    let answers: Vec<Value> = (0..11).map(|_| editor.until(answered)).collect();
    let place = |id: i64| answers.iter().position(|answer| answer["id"] == id).unwrap();
    assert_eq!(answers[place(910)]["error"]["code"], -32800);
    assert!(answers[place(909)]["result"].is_array() && place(911) < place(909));
}

#[test]
fn a_guard_asks_through_the_editor() {
    let mut editor = Editor::with(able(), "guard = \"ask\"");
    let text = "create table quays (id integer);\n";
    editor.open("a.sql", text);
    let at = editor.at("a.sql", text, "create");
    editor.answers.push(("window/showMessageRequest".to_owned(), json!({"title": "Do not run it"})));
    editor.command("jaunty.run", &at);
    let asked = editor.until(|m| m["method"] == "window/showMessageRequest");
    let message = asked["params"]["message"].as_str().unwrap();
    assert!(message.contains("create table quays"), "{message}");
    editor.end_of_run();
    editor.answers.retain(|(name, _)| name != "window/showMessageRequest");
    editor.answers.push(("window/showMessageRequest".to_owned(), json!({"title": "Run it"})));
    editor.command("jaunty.run", &at);
    // The question ends what was asked for; a yes begins it anew.
    editor.end_of_run();
    assert!(editor.end_of_run().starts_with("done"));
    // What the server refuses does nothing: the error is shown without a question.
    assert!(editor.run(&at).contains("already exists"));
    let said = editor.told.iter().filter(|m| m["method"] == "window/showMessage").count();
    assert_eq!(said, 1);
}

/// A program may put a statement together: what removes every row without its condition is asked about, whatever the guard.
#[test]
fn a_change_of_all_rows_in_program_code_is_asked_about() {
    let mut editor = ferry();
    let text = "# connection: ferry\nsql = \"delete from ports\"\nif one:\n    sql += \" where id = 1\"\n";
    editor.open("remove.py", text);
    let at = editor.at("remove.py", text, "delete");
    editor.answers.push(("window/showMessageRequest".to_owned(), json!({"title": "Do not run it"})));
    editor.command("jaunty.run", &at);
    let asked = editor.until(|m| m["method"] == "window/showMessageRequest");
    let message = asked["params"]["message"].as_str().unwrap();
    assert!(message.contains("may add a condition") && message.contains("delete from ports"), "{message}");
    editor.end_of_run();
    let count = "# connection: ferry\nsql = \"select count(*) from ports\"\n";
    editor.open("count.py", count);
    let at_count = editor.at("count.py", count, "select");
    editor.run(&at_count);
    let rows = editor.rows_that(|rows| rows.contains("count(*)"));
    assert!(rows.contains("\n       2") || rows.contains("\n2"), "{rows}");
    // A yes runs it, and one that says which rows is not asked about.
    let text = text.replace("\"\nif one:\n    sql += \" where", " where");
    editor.open("one.py", &text);
    let at = editor.at("one.py", &text, "delete");
    assert!(editor.run(&at).starts_with("1 row changed"));
    editor.answers.retain(|(name, _)| name != "window/showMessageRequest");
    editor.answers.push(("window/showMessageRequest".to_owned(), json!({"title": "Run it"})));
    let at = editor.at("remove.py", "# connection: ferry\nsql = \"delete from ports\"\n", "delete");
    editor.command("jaunty.run", &at);
    editor.end_of_run();
    assert!(editor.end_of_run().starts_with("1 row changed"));
}

/// What the program would send runs, and its errors stand where they are in the code.
#[test]
fn escapes_within_quoted_texts_of_program_code_are_read() {
    let mut editor = ferry();
    let text = "# connection: ferry\nsql = f\"update ports set name = '{{}}\\t' where id = 1\"\nall = \"select\\n* from ports\"\n\
                odd = \"select '\\N{SHIP}'\"\nwrong = \"select 'a\\\\b\\\\c', nowhere from ports\"\n";
    editor.open("braces.py", text);
    let at = editor.at("braces.py", text, "update");
    assert!(editor.run(&at).contains("1 row changed"));
    let at = editor.at("braces.py", text, "select");
    assert!(editor.run(&at).contains("2 rows"), "an escape between words is a blank");
    let rows = editor.rows_that(|rows| rows.contains("2 rows"));
    assert!(rows.contains("{}␉"), "{rows}");
    let at = editor.at("braces.py", text, "select '\\N");
    let refused = editor.command("jaunty.run", &at);
    let message = refused["error"]["message"].as_str().unwrap_or_default();
    assert!(message.starts_with("line 4: \\N within a quoted text is not understood"), "{refused}");
    let at = editor.at("braces.py", text, "select 'a");
    editor.run(&at);
    let here = json!({"line": 4, "character": 27});
    editor.until(|m| {
        m["params"]["diagnostics"].as_array().is_some_and(|all| all.iter().any(|d| d["range"]["start"] == here))
    });
}

#[test]
fn names_are_followed_and_changed() {
    let mut editor = ferry();
    let text = "with late as (select 1 as n) select p.name from ports p join late on p.id = late.n;\n\nselect id from ports;\n";
    editor.open("a.sql", text);
    let uri = editor.uri("a.sql");
    let lines = |found: &Value| -> Vec<String> {
        let place = |one: &Value| format!("{}:{}", one["range"]["start"]["line"], one["range"]["start"]["character"]);
        found.as_array().unwrap().iter().map(place).collect()
    };
    let alias = editor.at("a.sql", text, "p.name");
    assert_eq!(lines(&editor.ask("textDocument/documentHighlight", alias.clone())), ["0:36", "0:54", "0:69"]);
    let defined = editor.ask("textDocument/definition", editor.at("a.sql", text, "late.n"));
    assert_eq!((&defined["uri"], &defined["range"]["start"]["character"]), (&json!(uri), &json!(5)));
    let mut wanted = alias.clone();
    wanted["newName"] = json!("port");
    let renamed = editor.ask("textDocument/rename", wanted.clone());
    assert_eq!(lines(&renamed["documentChanges"][0]["edits"]), ["0:36", "0:54", "0:69"]);
    wanted["newName"] = json!("late");
    let refused = editor.answer("textDocument/rename", wanted);
    assert!(refused["error"]["message"].as_str().unwrap().contains("already"), "{refused}");
    assert_eq!(editor.ask("textDocument/prepareRename", editor.at("a.sql", text, "ports p")), Value::Null);
    // A table leads to what it is.
    let table = editor.at("a.sql", text, "ports p");
    let place = editor.ask("textDocument/definition", table.clone());
    let path = jaunty_serve::text::path_of(place["uri"].as_str().unwrap()).unwrap();
    let described = std::fs::read_to_string(path).unwrap();
    assert!(described.to_lowercase().contains("create table") && described.contains("country"), "{described}");
    let found = editor.ask("textDocument/references", table);
    let here = found.as_array().unwrap().iter().filter(|one| one["uri"] == uri.as_str()).count();
    assert_eq!(here, 2);
    assert!(found.as_array().unwrap().iter().any(|one| one["uri"] == editor.uri("made.sql").as_str()), "{found}");
    let symbols = editor.ask("workspace/symbol", json!({"query": "bert"}));
    assert_eq!(symbols[0]["name"], "berths");
}

#[test]
fn statements_have_a_shape() {
    let mut editor = ferry();
    let text = "-- first\nselect id,\n  name from ports where id in (1, 2);\n\nselect   1;\n";
    editor.open("a.sql", text);
    let document = json!({"textDocument": {"uri": editor.uri("a.sql")}});
    let symbols = editor.ask("textDocument/documentSymbol", document.clone());
    let names: Vec<&str> = symbols.as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["first", "select   1"]);
    let folds = editor.ask("textDocument/foldingRange", document.clone());
    assert_eq!(folds, json!([{"startLine": 1, "endLine": 2}]));
    let mut wanted = document.clone();
    wanted["positions"] = json!([editor.at("a.sql", text, "2)")["position"]]);
    let mut chosen = &editor.ask("textDocument/selectionRange", wanted)[0];
    let mut widths = Vec::new();
    while chosen.is_object() {
        let (start, end) = (&chosen["range"]["start"], &chosen["range"]["end"]);
        widths.push(format!("{}:{}-{}:{}", start["line"], start["character"], end["line"], end["character"]));
        chosen = &chosen["parent"];
    }
    assert_eq!(
        widths,
        ["2:34-2:35", "2:31-2:35", "2:30-2:36", "2:18-2:36", "1:0-2:36", "1:0-2:37", "0:0-2:37", "0:0-5:0"]
    );
    let mut wanted = document.clone();
    wanted["options"] = json!({"tabSize": 4, "insertSpaces": true});
    let edits = editor.ask("textDocument/formatting", wanted);
    assert_eq!(edits[0]["newText"], "select id, name\nfrom ports\nwhere id in (1, 2)");
    assert_eq!(edits[1]["newText"], "select 1");
    let tokens = editor.ask("textDocument/semanticTokens/full", document);
    assert_eq!(tokens["data"].as_array().unwrap()[..10], [0, 0, 8, 4, 0, 1, 0, 6, 0, 0].map(|n| json!(n)));
}

#[test]
fn parameters_have_their_values_from_what_stands_above() {
    let mut editor = ferry();
    let text = "-- ports of a country\n-- :country = Aldermere\nselect name from ports where country = :country;\n\nselect :tide;\n";
    editor.open("a.sql", text);
    let at = editor.at("a.sql", text, "select name");
    assert!(editor.run(&at).starts_with("1 row"));
    let at = editor.at("a.sql", text, "select :tide");
    let answer = editor.command("jaunty.run", &at);
    let message = answer["error"]["message"].as_str().unwrap();
    assert_eq!(message, ":tide has no value; give it in a comment above the statement at line 5: -- :tide = …");
}

#[test]
fn rows_go_where_the_editor_can_take_them() {
    let text = "select name from ports order by id;\n";
    // By an edit of a document that is made for them.
    let mut capabilities = able();
    capabilities["window"]["showDocument"]["support"] = json!(false);
    let mut editor = Editor::with(capabilities.clone(), "guard = \"open\"");
    make(&mut editor);
    editor.open("a.sql", text);
    let at = editor.at("a.sql", text, "select");
    editor.run(&at);
    let edit = editor.until(|m| m["method"] == "workspace/applyEdit" && m.to_string().contains("Saltmarsh"));
    let changes = &edit["params"]["edit"]["documentChanges"];
    assert_eq!(changes[0]["kind"], "create");
    let path = jaunty_serve::text::path_of(changes[0]["uri"].as_str().unwrap()).unwrap();
    assert!(!path.exists(), "what an editor is sent as an edit is not written too");
    // By a message, where it can do nothing else.
    capabilities["workspace"] = json!({});
    let mut editor = Editor::with(capabilities, "guard = \"open\"");
    make(&mut editor);
    editor.open("a.sql", text);
    let at = editor.at("a.sql", text, "select");
    editor.run(&at);
    let said = editor.until(|m| m["method"] == "window/showMessage" && m.to_string().contains("Saltmarsh"));
    assert_eq!(said["params"]["type"], 3);
}

#[test]
fn a_document_without_a_connection_is_offered_some() {
    let mut editor = Editor::new();
    let line = "[quay]\nengine = \"sqlite\"\npath = \"quay.db\"\n";
    let file = editor.path(".jaunty/connections.toml");
    std::fs::write(&file, std::fs::read_to_string(&file).unwrap() + line).unwrap();
    // A database of its own, from this moment on.
    std::fs::copy(ferry().path("ferry.db"), editor.path("tides.db")).unwrap();
    let text = "select 1;\n";
    editor.open("a.sql", text);
    let range = json!({"start": {"line": 0, "character": 0}, "end": {"line": 0, "character": 0}});
    let wanted = json!({"textDocument": {"uri": editor.uri("a.sql")}, "range": range, "context": {"diagnostics": []}});
    let actions = editor.ask("textDocument/codeAction", wanted);
    let titles: Vec<&str> = actions.as_array().unwrap().iter().map(|one| one["title"].as_str().unwrap()).collect();
    assert_eq!(titles, ["Connect to ferry", "Connect to quay", "Connect to tides (from tides.db)"]);
    assert_eq!(actions[0]["edit"]["documentChanges"][0]["edits"][0]["newText"], "-- connection: ferry\n");
    let at = editor.at("a.sql", text, "select");
    let refused = editor.command("jaunty.run", &at);
    assert!(refused["error"]["message"].as_str().unwrap().contains("no connection"), "{refused}");
    editor.open("b.sql", "-- connection: fery\nselect 1;\n");
    assert!(editor.troubles(|told| told.contains("fery")).starts_with("0: no connection is named fery"));
    // What came with the project runs no command because a text says so.
    let mark = editor.path("ran");
    let file = editor.path(".jaunty/connections.toml");
    let shy =
        format!("[shy]\nengine = \"redis\"\nport = 9\nsecret_command = \"touch '{}'; echo fog\"\n", mark.display());
    std::fs::write(&file, std::fs::read_to_string(&file).unwrap() + &shy).unwrap();
    editor.open("shy.sql", "-- connection: shy\nselect 1;\n");
    let told = editor.troubles(|told| told.contains("shy"));
    assert!(told.starts_with("0: shy runs its secret_command, and its file came with the project"), "{told}");
    let at = editor.at("shy.sql", "-- connection: shy\nselect 1;\n", "select");
    let refused = editor.command("jaunty.run", &at);
    assert!(refused["error"]["message"].as_str().unwrap().contains("jaunty connections try shy"), "{refused}");
    assert!(!mark.exists());
    // A person allows it, as it was shown to them.
    let at = json!({"start": {"line": 0, "character": 0}, "end": {"line": 0, "character": 0}});
    let allowing = |editor: &mut Editor| {
        let wanted =
            json!({"textDocument": {"uri": editor.uri("shy.sql")}, "range": at, "context": {"diagnostics": []}});
        let action = editor.ask("textDocument/codeAction", wanted)[0].clone();
        assert_eq!(action["title"], "Allow shy here: it runs its secret_command");
        action["command"]["arguments"].clone()
    };
    let shown = allowing(&mut editor);
    let connections = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, connections.replace("echo fog", "echo mist")).unwrap();
    let answer = editor.answer("workspace/executeCommand", json!({"command": "jaunty.allow", "arguments": shown}));
    assert!(answer["error"]["message"].as_str().unwrap().contains("has changed in its file since"), "{answer}");
    let shown = allowing(&mut editor);
    assert!(!mark.exists());
    let answer = editor.answer("workspace/executeCommand", json!({"command": "jaunty.allow", "arguments": shown}));
    assert_eq!(answer["result"], Value::Null);
    let since = std::time::Instant::now();
    while !mark.exists() && since.elapsed() < std::time::Duration::from_secs(60) {
        std::thread::yield_now();
    }
    assert!(mark.exists());
    std::fs::write(&file, connections.replace(&shy, "")).unwrap();
    // What lies near is connected to where it is named.
    let near = "-- connection: tides\nselect name from ports limit 1;\n";
    editor.open("near.sql", near);
    let at = editor.at("near.sql", near, "select");
    assert!(editor.run(&at).starts_with("1 row"));
}

#[test]
fn nothing_that_comes_ends_the_server() {
    let mut editor = Editor::silent("guard = \"open\"");
    let early = editor.answer("textDocument/hover", json!({}));
    assert_eq!(early["error"]["code"], -32002);
    editor.initialize(able());
    editor.raw(b"Content-Length: nonsense\r\n\r\nContent-Length: 3\r\n\r\n{]}");
    assert_eq!(editor.read()["error"]["code"], -32700);
    editor.raw(b"Content-Length: 2\r\n\r\n[]");
    assert_eq!(editor.read()["error"]["code"], -32600);
    let unknown = editor.answer("textDocument/prepareCallHierarchy", json!({}));
    assert_eq!(unknown["error"]["code"], -32601);
    editor.open("a.sql", "select é, '\u{1f6a2}' from ports;\n");
    let values = [
        json!(null),
        json!(7),
        json!([]),
        json!({}),
        json!({"textDocument": 7}),
        json!({"textDocument": {"uri": "file:///nowhere"}}),
        json!({"textDocument": {"uri": editor.uri("a.sql")}}),
        json!({"textDocument": {"uri": editor.uri("a.sql")}, "position": {"line": -1, "character": 1e99}}),
        json!({"textDocument": {"uri": editor.uri("a.sql")}, "position": {"line": 4_000_000_000_u64, "character": 9}, "range": {"start": {"line": 5, "character": 2}, "end": {"line": 0, "character": 0}}, "positions": [7, {}], "newName": "\u{0}", "context": {"only": 7}}),
        json!({"textDocument": {"uri": editor.uri("a.sql")}, "position": {"line": 0, "character": 13}, "range": {"start": {"line": 0, "character": 13}, "end": {"line": 9, "character": 0}}, "positions": [{"line": 0, "character": 12}], "command": "jaunty.run", "arguments": 7}),
    ];
    let methods = [
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
    ];
    for method in methods {
        for value in &values {
            let answer = editor.answer(method, value.clone());
            assert!(answer.get("result").is_some() || answer["error"]["code"].is_i64(), "{method}: {answer}");
        }
    }
    for method in [
        "textDocument/didOpen",
        "textDocument/didChange",
        "textDocument/didClose",
        "textDocument/didSave",
        "window/workDoneProgress/cancel",
        "$/setTrace",
    ] {
        values.iter().for_each(|value| editor.tell(method, value.clone()));
    }
    let uri = editor.uri("c.sql");
    editor.open("c.sql", "a\r\né\r");
    for change in [
        json!({"range": {"start": {"line": 9, "character": 9}, "end": {"line": 1, "character": 1}}, "text": "x"}),
        json!(7),
        json!({"text": 7}),
        json!({"range": 7, "text": "y"}),
    ] {
        editor.tell(
            "textDocument/didChange",
            json!({"textDocument": {"uri": uri, "version": "x"}, "contentChanges": [change]}),
        );
    }
    assert!(editor.ask("textDocument/documentSymbol", json!({"textDocument": {"uri": uri}})).is_array());
    assert_eq!(editor.vanish(), Ended::Alone);
}

#[test]
fn statements_are_found_in_program_code() {
    let mut editor = ferry();
    let text = "# connection: ferry\nclass Port(Model):  # \u{1f6a2}\n    def of(country):\n        # :country = Aldermere\n        \
        q = f\"select nmae, id from ports where country = '{country}'\"; r = \"update available\"\n        return q\n";
    editor.open("ports.py", text);
    let told = editor.troubles(|told| told.contains("nmae"));
    assert!(told.starts_with("4: ") && told.lines().count() == 1, "{told}");
    let place = json!({"line": 4, "character": 24});
    let wanted = json!({"textDocument": {"uri": editor.uri("ports.py")}, "context": {"diagnostics": []},
        "range": {"start": place, "end": place}});
    let actions = editor.ask("textDocument/codeAction", wanted);
    let fix = actions.as_array().unwrap().iter().find(|one| one["title"] == "Change to name").unwrap();
    let edit = &fix["edit"]["documentChanges"][0]["edits"][0];
    let change = json!({"range": edit["range"], "text": edit["newText"]});
    let document = json!({"uri": editor.uri("ports.py"), "version": 2});
    editor.tell("textDocument/didChange", json!({"textDocument": document, "contentChanges": [change]}));
    assert_eq!(editor.troubles(str::is_empty), "");
    // What a program puts together is not judged by its halves.
    let half =
        "q = \"select name from ports where id in (\" + ids + \")\"\nr = \"select name from nowhere where id = %s\"\n";
    editor.open("half.py", half);
    editor.open("wrong.py", "q = 'select nmae from ports'\n");
    editor.troubles(|told| told.contains("nmae"));
    assert!(!editor.told.iter().any(|m| m["params"]["uri"] == editor.uri("half.py").as_str()), "nothing is told of it");
    let text = text.replace("nmae", "name");
    // What runs has the program's values as parameters.
    let at = editor.at("ports.py", &text, "select name");
    assert!(editor.run(&at).starts_with("1 row"));
    assert!(editor.rows_that(|rows| rows.contains("Saltmarsh Quay")).contains("rows 1 to 1 of 1"));
    let found = editor.ask("textDocument/completion", editor.at("ports.py", &text, "where ^"));
    assert!(labels(&found).contains(&"country".to_owned()));
    // A line of a literal is no comment: values stand above the one in which it begins.
    let long = "# connection: ferry\n# :port_id = 2\nq = f\"\"\"\n    select name from ports\n    where id = {port_id}\n\"\"\"\n";
    editor.open("long.py", long);
    let at = editor.at("long.py", long, "where id");
    assert!(editor.run(&at).starts_with("1 row"));
    let bare = long.replace("# :port_id = 2\n", "");
    editor.open("bare.py", &bare);
    let at = editor.at("bare.py", &bare, "where id");
    let refused = editor.command("jaunty.run", &at)["error"]["message"].to_string();
    assert!(refused.contains("in a comment above line 2: # :port_id = …"), "{refused}");
    // Code around it is nobody's statement, but its words may be tables.
    let found = editor.ask("textDocument/completion", editor.at("ports.py", &text, "return ^"));
    assert_eq!(labels(&found), Vec::<String>::new());
    let hover = editor.ask("textDocument/hover", editor.at("ports.py", &text, "Port("));
    let said = hover["contents"]["value"].as_str().unwrap();
    assert!(said.contains("table ports") && said.contains("(taken for Port)"), "{hover}");
    let place = editor.ask("textDocument/definition", editor.at("ports.py", &text, "Port("));
    assert!(place["uri"].as_str().unwrap().ends_with("/ports.sql"), "{place}");
    let document = json!({"textDocument": {"uri": editor.uri("ports.py")}, "options": {}});
    let symbols = editor.ask("textDocument/documentSymbol", document.clone());
    assert_eq!(symbols.as_array().unwrap().len(), 1);
    assert_eq!(editor.ask("textDocument/formatting", document), json!([]));
}
