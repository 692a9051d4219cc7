//! The screen beside a text editor, and what other programs ask of it on its socket.

#![allow(clippy::unwrap_used, clippy::expect_used)] // A test fails by panicking.

mod support;

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};

use serde_json::{Value, json};
use support::{Home, Screen};

const STATEMENTS: &str = "-- names\nselect name from ports order by id;\n\n-- numbers\n\
    with recursive n(i) as (select 1 union all select i + 1 from n where i < 5000) select i * 7 as tide from n;\n";

fn home() -> Home {
    let line = "[ferry]\nengine = \"sqlite\"\npath = \"../ferry.db\"\n";
    Home::ferry().file(".jaunty/connections.toml", line).file("work.sql", STATEMENTS)
}

fn neovim(home: &Home) -> Screen {
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/editors/beside.lua");
    let environment = [("JAUNTY", env!("CARGO_BIN_EXE_jaunty"))];
    Screen::of_program("nvim", home, &["--clean", "-n", "-u", &script.display().to_string(), "work.sql"], &environment)
}

/// Goes to the first statement in the editor once its server is there, which the pane shows.
fn follows(editor: &Screen, pane: &Screen) {
    editor.shows("-- numbers");
    pane.shows("work.sql  1:1");
    editor.press(&["2G"]);
    pane.shows("work.sql  2:1");
}

/// The state of the screen, as `jaunty call` prints it.
fn call(home: &Home, method: &str, params: &str) -> Value {
    serde_json::from_str(&home.call(&["call", method, params]).gives()).unwrap()
}

#[test]
fn the_pane_follows_an_editor() {
    let home = home();
    let pane = home.screen(&["--pane"]);
    pane.shows("ferry");
    let editor = neovim(&home);
    follows(&editor, &pane);
    // A run from the editor, on the pane.
    editor.press(&["F5"]);
    pane.shows("Saltmarsh").shows("of 3");
    editor.press(&["5G"]);
    pane.loses("Saltmarsh");
    editor.press(&["F5"]);
    pane.shows("tide").shows("of 5,000");
    // From statement to statement, the pane follows.
    editor.press(&["2G"]);
    pane.shows("Saltmarsh");
    editor.press(&["5G"]);
    pane.shows("tide").loses("Saltmarsh");
    // And it pages.
    pane.press(&["PageDown"]);
    pane.shows("  350").loses("  7  ");
    assert_eq!(call(&home, "screen.state", "{}")["run"]["rows"], 5000);
    // What is changed in the editor is there with the next rest of the cursor.
    editor.types("ggOselect 41 + 1 as answer;");
    editor.press(&["Escape", "F5"]);
    pane.shows("answer").shows("42");
    assert_eq!(std::fs::read_to_string(home.path("project/work.sql")).unwrap(), STATEMENTS, "nobody saved it");
    // The pane has nothing to save, and what would go into its text goes to the clipboard.
    pane.press(&["C-s"]).shows("the text is the editor's");
    for action in ["remove-buffer", "edit-outside", "save"] {
        call(&home, "screen.act", &json!({"action": action}).to_string());
    }
    assert_eq!(std::fs::read_to_string(home.path("project/work.sql")).unwrap(), STATEMENTS, "it is the editor's file");
    pane.press(&["C-q"]).ends();
    let sockets = std::fs::read_dir(home.path("state/jaunty/run")).unwrap().count();
    assert_eq!(sockets, 0, "its socket goes with it");
}

#[test]
fn the_pane_follows_emacs_with_nothing_configured() {
    let home = home();
    let pane = home.screen(&["--pane"]);
    pane.shows("Follows a text editor");
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/editors/beside.el").display().to_string();
    let environment = [("JAUNTY", env!("CARGO_BIN_EXE_jaunty"))];
    let editor = Screen::of_program("emacs", &home, &["-nw", "-q", "-l", &script, "work.sql"], &environment);
    editor.shows("-- numbers");
    // It asks after a key, once its server is there.
    editor.shows("[eglot:").press(&["Down", "Up"]);
    pane.shows("work.sql  1:1");
    editor.press(&["Down", "Down", "Down", "Down"]);
    pane.shows("work.sql  5:1").press(&["C-g"]).shows("of 5,000");
    editor.press(&["Up", "Up", "Up"]);
    pane.shows("work.sql  2:1").loses("of 5,000");
}

#[test]
fn two_panes_and_two_editors_of_a_project() {
    let home = home();
    let panes = [home.screen(&["--pane"]), home.screen(&["--pane"])];
    for pane in &panes {
        pane.shows("Follows a text editor");
    }
    let editor = |pane: &Screen| {
        let editor = neovim(&home);
        follows(&editor, pane);
        editor
    };
    let editors = [editor(&panes[0]), editor(&panes[1])];
    // It runs once; the other pane shows what it has.
    editors[1].press(&["2G", "F5"]);
    let shows = |pane: &Screen| pane.text().contains("Saltmarsh");
    panes[0].until("rows in a pane", |_| panes.iter().any(shows));
    let log = home.call(&["log", "--json"]).gives();
    assert_eq!(log.lines().count(), 1, "{log}");
    // One that is killed leaves a socket that nobody listens at: it is passed over and removed.
    let alive = if panes[0].text().contains("Saltmarsh") { 0 } else { 1 };
    panes[1 - alive].kill();
    editors[0].press(&["5G", "F5"]);
    panes[alive].shows("tide");
    let sockets = || std::fs::read_dir(home.path("state/jaunty/run")).unwrap().count();
    editors[0].press(&["2G"]);
    panes[alive].until("the dead one's socket to go", |_| sockets() == 1);
}

/// Of program code its statements are sent, to the connection that a comment names; one that would remove every row is asked
/// about.
#[test]
fn a_shell_sends_statements_of_program_code() {
    let code = "# connection: tides\nq = 'select at from tides'\nd = 'delete from tides'\nif late:\n    d += ' where at > 1'\n\
                # :at = 06:13\nn = f\"insert into tides values ('{{\\u00e9}}' || {at})\"\n";
    let home = home()
        .file("code.py", code)
        .database("tides.db", "create table tides(at text); insert into tides values ('06:12');");
    let pane = home.screen(&["--pane"]);
    pane.shows("ferry");
    home.call(&["send", "code.py:2"]).gives();
    pane.shows("tides.db").shows("06:12");
    let (_, refused) = home.call(&["send", "code.py:4"]).exits(2);
    assert!(refused.contains("no statement at line 4"), "{refused}");
    home.call(&["send", "code.py:3"]).gives();
    pane.shows("may add a condition").press(&["n"]).loses("may add a condition");
    let rows = rusqlite::Connection::open(home.path("project/tides.db")).unwrap();
    let count = || rows.query_row("select count(*) from tides", [], |row| row.get::<_, i64>(0)).unwrap();
    assert_eq!(count(), 1);
    home.call(&["send", "code.py:3"]).gives();
    pane.shows("may add a condition").press(&["y"]).shows("1 row changed");
    assert_eq!(count(), 0);
    // What the program would send is sent, with the value that the comment gives.
    home.call(&["send", "code.py:7"]).gives();
    pane.until("the row to be there", |_| count() == 1);
    let written: String = rows.query_row("select at from tides", [], |row| row.get(0)).unwrap();
    assert_eq!(written, "{é}06:13");
    pane.press(&["C-q"]).ends();
}

#[test]
fn a_shell_sends_statements_to_the_screen() {
    let home = home();
    let (_, refused) = home.call(&["send", "work.sql:2"]).exits(2);
    assert!(refused.contains("no jaunty is running for this project"), "{refused}");
    let pane = home.screen(&["--pane"]);
    pane.shows("ferry");
    home.call(&["send", "work.sql:2"]).gives();
    pane.shows("Saltmarsh");
    home.call(&["send", "work.sql:5", "--connection", "ferry"]).gives();
    pane.shows("tide");
    let (_, refused) = home.call(&["send", "work.sql:2", "-c", "fery"]).exits(1);
    assert!(refused.contains("no connection named"), "{refused}");
    // While it runs, quitting asks first.
    pane.until("the run's end", |_| call(&home, "screen.state", "{}")["run"]["outcome"] == "done");
    // A screen with a text of its own shows what ran there, and keeps its text.
    pane.press(&["C-q"]).ends();
    let screen = home.screen(&["work.sql"]);
    screen.shows("-- names").press(&["C-g"]).shows("Saltmarsh");
    let at = STATEMENTS.find("select name").unwrap();
    let place = json!({"path": home.path("project/other.sql"), "version": 1, "at": at, "text": STATEMENTS});
    let state = call(&home, "screen.follow", &place.to_string());
    assert_eq!((&state["guest"], &state["run"]["rows"]), (&json!(false), &json!(3)));
    let state = call(&home, "screen.act", r#"{"action": "logbook"}"#);
    assert_eq!(state["connection"], "ferry");
    screen.shows("logbook");
    let (_, refused) = home.call(&["call", "screen.act", r#"{"action": "logbok"}"#]).exits(1);
    assert!(refused.contains("no action is named logbok"), "{refused}");
}

/// A call that each method takes, and what its answer has to hold.
fn calls(home: &Home) -> BTreeMap<&'static str, (Value, &'static str)> {
    let out = home.path("project/out.csv");
    let place = json!({"path": home.path("project/work.sql"), "version": 1, "at": 12, "text": STATEMENTS, "connection": "ferry"});
    BTreeMap::from([
        ("api.describe", (json!({}), "openrpc")),
        ("connections.list", (json!({}), "\"name\":\"ferry\"")),
        ("statements.list", (json!({"text": STATEMENTS, "connection": "ferry"}), "\"title\":\"names\"")),
        ("statements.format", (json!({"text": "select   1"}), "select 1")),
        (
            "statements.problems",
            (json!({"connection": "ferry", "text": "select nmae from ports"}), "\"near\":[\"name\"]"),
        ),
        ("complete", (json!({"connection": "ferry", "text": "select p. from ports p", "at": 9}), "berths")),
        ("explain", (json!({"connection": "ferry", "text": "select name from ports", "at": 8}), "TEXT")),
        (
            "run",
            (
                json!({"connection": "ferry", "statement": "select :a as a", "values": {":a": "7"}}),
                "\"outcome\":\"done\"",
            ),
        ),
        ("run.stop", (json!({"connection": "ferry"}), "null")),
        ("plan", (json!({"connection": "ferry", "statement": "select * from ports where id = 1"}), "ports")),
        ("catalog.draw", (json!({"connection": "ferry", "path": home.path("project/tables.svg")}), "\"tables\":1")),
        ("rows.page", (json!({"run": 1, "from": 0, "count": 5}), "\"of\":1")),
        ("rows.export", (json!({"run": 1, "path": out}), "\"rows\":1")),
        ("catalog.objects", (json!({"connection": "ferry", "like": "port"}), "\"name\":\"ports\"")),
        ("catalog.object", (json!({"connection": "ferry", "name": "ports"}), "create table")),
        ("logbook.find", (json!({"query": "connection=ferry"}), "\"run\":1")),
        ("screen.state", (json!({}), "\"guest\":true")),
        ("screen.watch", (json!({}), "\"guest\":true")),
        ("screen.actions", (json!({}), "run-statement")),
        ("screen.act", (json!({"action": "theme"}), "\"guest\":true")),
        ("screen.follow", (place.clone(), "select name")),
        ("screen.run", (place, "select name")),
    ])
}

/// The socket of the one screen that there is.
fn socket(home: &Home) -> PathBuf {
    std::fs::read_dir(home.path("state/jaunty/run")).unwrap().next().unwrap().unwrap().path()
}

/// Watches the screen: how things stand, and what tells when that changes.
fn watched(home: &Home) -> (String, BufReader<UnixStream>) {
    let mut stream = UnixStream::connect(socket(home)).unwrap();
    stream.set_read_timeout(Some(std::time::Duration::from_secs(60))).unwrap();
    stream.write_all(b"{\"jsonrpc\":\"2.0\",\"id\":1,\"method\":\"screen.watch\"}\n").unwrap();
    let mut stream = BufReader::new(stream);
    let mut first = String::new();
    while !first.contains("\"id\":1") {
        first.clear();
        assert!(stream.read_line(&mut first).unwrap() > 0);
    }
    (first, stream)
}

#[test]
fn what_changes_on_the_screen_is_told_to_programs() {
    let home = home();
    let screen = home.screen(&["work.sql", "-c", "ferry"]);
    screen.shows("work.sql  1:1").shows("ferry.db");
    let (_, mut told) = watched(&home);
    let mut until = |what: &str, is: &dyn Fn(&Value) -> bool| loop {
        let mut line = String::new();
        assert!(told.read_line(&mut line).unwrap() > 0, "it ended before {what}");
        let message: Value = serde_json::from_str(&line).unwrap();
        assert_eq!(message["method"], "screen.changed");
        if is(&message["params"]) {
            return;
        }
    };
    screen.press(&["C-n", "C-g"]);
    until("the rows of the second statement", &|state| {
        state["run"]["rows"] == 5000
            && state["run"]["outcome"] == "done"
            && state["statement"].as_str().is_some_and(|text| text.contains("as tide"))
    });
    // From a shell, one state a line; it ends with the screen.
    let shell = home.call(&["call", "screen.watch"]).begins().until_it_writes();
    // Whoever does not read keeps nobody waiting.
    let silent: Vec<_> = (0..3).map(|_| watched(&home).1).collect();
    screen.press(&["C-p", "C-g"]);
    until("the rows of the first", &|state| state["run"]["rows"] == 3);
    // Nobody takes all threads by asking again and again.
    let mut greedy = UnixStream::connect(socket(&home)).unwrap();
    greedy.write_all(b"{\"jsonrpc\":\"2.0\",\"id\":1,\"method\":\"screen.watch\"}\n".repeat(80).as_slice()).unwrap();
    let refused = |line: &String| line.contains("watch this screen already");
    assert!(BufReader::new(greedy).lines().map_while(Result::ok).any(|line| refused(&line)));
    for _ in 0..200 {
        screen.press(&["C-n", "C-p"]);
    }
    screen.shows("Gullhaven").press(&["C-q"]).ends();
    drop(silent);
    let (states, _) = shell.exits(0);
    assert!(
        states
            .lines()
            .all(|line| serde_json::from_str::<Value>(&format!("{{{}", line.trim_start_matches('{'))).is_ok())
    );
    assert!(states.contains("\"rows\":3"), "{states}");
}

#[test]
fn every_method_of_the_interface_answers() {
    let home = home();
    let pane = home.screen(&["--pane"]);
    pane.shows("ferry");
    let described: Value = serde_json::from_str(&home.call(&["serve", "--describe"]).gives()).unwrap();
    let methods = described["methods"].as_array().unwrap();
    let calls = calls(&home);
    let names: Vec<&str> = methods.iter().map(|method| method["name"].as_str().unwrap()).collect();
    let mut known: Vec<&str> = calls.keys().copied().collect();
    let mut sorted = names.clone();
    sorted.sort_unstable();
    known.sort_unstable();
    assert_eq!(sorted, known, "each method has a call here");
    // A run comes first: others read it. By the socket of the screen, and without one.
    let order = ["run"].into_iter().chain(names.iter().copied().filter(|name| *name != "run"));
    for name in order {
        let (params, expected) = &calls[name];
        let answer = match name {
            // What is called from a shell goes on until the screen ends.
            "screen.watch" => watched(&home).0,
            _ => home.call(&["call", name, &params.to_string()]).gives(),
        };
        assert!(answer.to_lowercase().contains(&expected.to_lowercase()), "{name}: {answer}");
        let (_, refused) = home.call(&["call", name, r#"{"tide": 1}"#]).exits(2);
        assert!(refused.contains("has no parameter tide"), "{name}: {refused}");
    }
    pane.press(&["C-q"]).ends();
    std::fs::remove_file(home.path("project/out.csv")).unwrap();
    let lines: Vec<String> = names
        .iter()
        .enumerate()
        .map(|(id, name)| {
            json!({"jsonrpc": "2.0", "id": id, "method": name, "params": calls[name].0}).to_string() + "\n"
        })
        .collect();
    let answers = home.call(&["serve"]).input(&lines.concat()).gives();
    let answers: Vec<Value> = answers.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let (answers, told): (Vec<_>, Vec<_>) = answers.into_iter().partition(|one| one.get("id").is_some());
    assert!(!told.is_empty() && told.iter().all(|one| one["method"] == "run.progress"), "{told:?}");
    for (name, answer) in names.iter().zip(&answers) {
        let expected = calls[name].1;
        match name.starts_with("screen.") {
            true => assert!(
                answer["error"]["message"].as_str().unwrap().contains("need a running jaunty"),
                "{name}: {answer}"
            ),
            false => assert!(
                answer["result"].to_string().to_lowercase().contains(&expected.to_lowercase()),
                "{name}: {answer}"
            ),
        }
    }
    // The reference is that of the table.
    let reference = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/api.md");
    let printed = home.call(&["serve", "--markdown"]).gives();
    assert_eq!(std::fs::read_to_string(reference).unwrap(), printed, "jaunty serve --markdown > docs/api.md");
}

#[test]
fn what_programs_say_wrongly_is_answered() {
    let home = Home::ferry();
    let lines = [
        json!({"jsonrpc": "2.0", "id": 1, "method": "run", "params": {"connection": "careful", "statement": "delete from ports"}}),
        json!({"jsonrpc": "2.0", "id": 2, "method": "run", "params": {"connection": "fery", "statement": "select 1"}}),
        json!({"jsonrpc": "2.0", "id": 3, "method": "run", "params": {"connection": "ferry", "statement": "select 1; select 2"}}),
        json!({"jsonrpc": "2.0", "id": 4, "method": "run", "params": {"connection": "ferry", "statement": "select :a"}}),
        json!({"jsonrpc": "2.0", "id": 5, "method": "run", "params": {"connection": "ferry", "statement": "select nothing"}}),
        json!({"jsonrpc": "2.0", "id": 6, "method": "rows.page", "params": {"run": 99}}),
        json!({"jsonrpc": "2.0", "id": 7, "method": "rows.export", "params": {"run": 1, "path": "x.nothing"}}),
        json!({"jsonrpc": "2.0", "id": 8, "method": "complete", "params": {"connection": "ferry", "text": "é", "at": 1}}),
        json!({"jsonrpc": "2.0", "id": 9, "method": "logbook.find", "params": {"query": "outcom=failed"}}),
        json!({"jsonrpc": "2.0", "id": 10, "method": "statements.list", "params": {"text": "", "language": "tide"}}),
        json!({"jsonrpc": "2.0", "id": 12, "method": "plan", "params": {"connection": "careful", "statement": "delete from ports"}}),
        json!({"jsonrpc": "2.0", "id": 13, "method": "plan", "params": {"connection": "careful", "statement": "delete from ports", "confirmed": true}}),
        json!({"jsonrpc": "2.0", "id": 14, "method": "run.stop", "params": {"connection": "nobody"}}),
        json!({"jsonrpc": "2.0", "id": 11, "method": "run", "params": {"connection": "careful", "statement": "delete from ports", "confirmed": true}}),
    ];
    let input: String = lines.iter().map(|line| format!("{line}\n")).collect();
    let answers = home.call(&["serve"]).input(&format!("\u{0}\n{{\n{input}")).gives();
    let told = |id: u64| {
        let answers = answers.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
        let answer = answers.into_iter().find(|one| one["id"] == id).unwrap();
        answer["error"]["message"].as_str().map_or_else(|| answer["result"].to_string(), str::to_owned)
    };
    for (id, expected) in [
        (1, "confirmed: true runs it"),
        (2, "did you mean \"ferry\"?"),
        (3, "is 2"),
        (4, ":a has no value"),
        (5, "\"outcome\":\"failed\""),
        (6, "no run 99"),
        (7, "no number 1"),
        (8, "within a character"),
        (9, "outcome"),
        (10, "there are"),
        (12, "confirmed: true runs it"),
        (13, "steps"),
        (14, "null"),
        (11, "\"changed\":3"),
    ] {
        assert!(told(id).contains(expected), "{id}: {}", told(id));
    }
}

#[test]
fn nothing_that_programs_send_ends_a_screen() {
    let home = home();
    let pane = home.screen(&["--pane"]);
    pane.shows("ferry");
    let socket = socket(&home);
    let described: Value = serde_json::from_str(&home.call(&["serve", "--describe"]).gives()).unwrap();
    let values = [
        json!(null),
        json!(-1),
        json!(u64::MAX),
        json!("\u{0}\u{1b}[2J"),
        json!([]),
        json!({"a": {}}),
        json!(true),
        json!(1e300),
    ];
    let mut lines: Vec<Vec<u8>> = vec![
        vec![b'['; 100_000],
        vec![0xff, 0xfe, b'{'],
        vec![b'x'; 2_000_000],
        b"{\"jsonrpc\":\"2.0\",\"id\":".to_vec(),
    ];
    for method in described["methods"].as_array().unwrap() {
        let params = method["params"].as_array().unwrap();
        for value in &values {
            // Every parameter with the same value, which fits some of them; and one that nobody knows.
            let all: serde_json::Map<String, Value> =
                params.iter().map(|param| (param["name"].as_str().unwrap().to_owned(), value.clone())).collect();
            for params in [Value::Object(all), json!({"nothing": value}), json!([value, value]), value.clone()] {
                lines.push(
                    json!({"jsonrpc": "2.0", "id": 1, "method": method["name"], "params": params})
                        .to_string()
                        .into_bytes(),
                );
            }
        }
    }
    let mut answered = 0;
    for line in &lines {
        let mut stream = UnixStream::connect(&socket).unwrap();
        stream.write_all(line).unwrap();
        stream.write_all(b"\n").unwrap();
        stream.shutdown(std::net::Shutdown::Write).unwrap();
        let mut answer = String::new();
        stream.read_to_string(&mut answer).unwrap();
        answered += usize::from(answer.lines().any(|line| line.contains("\"id\"")));
    }
    assert_eq!(answered, lines.len(), "each is answered");
    // Many at once that say nothing, and some that go away in the middle of a word.
    let silent: Vec<UnixStream> = (0..200).filter_map(|_| UnixStream::connect(&socket).ok()).collect();
    for mut stream in silent {
        let _ = stream.write_all(b"{\"jsonrpc\"");
    }
    pane.until("the screen to answer", |_| {
        let state = home.call(&["call", "screen.state"]).output();
        state.status.success() && String::from_utf8_lossy(&state.stdout).contains("\"guest\":true")
    });
    pane.press(&["C-q"]).ends();
}

#[test]
fn only_its_owner_reaches_a_screen() {
    let home = home();
    let pane = home.screen(&["--pane"]);
    pane.shows("ferry");
    let socket = socket(&home);
    let python = "import socket, sys\ns = socket.socket(socket.AF_UNIX)\ns.connect(sys.argv[1])\n\
        s.sendall(b'{\"jsonrpc\":\"2.0\",\"id\":1,\"method\":\"screen.state\"}\\n')\nprint(len(s.recv(9)))\n";
    let ask = |through: &[&str]| {
        let mut words = through.to_vec();
        words.extend(["python3", "-c", python]);
        let mut command = std::process::Command::new(words[0]);
        command.args(&words[1..]).arg(&socket).output().unwrap()
    };
    assert_eq!(String::from_utf8_lossy(&ask(&["env"]).stdout).trim(), "9");
    let own = std::process::Command::new("id").arg("-u").output().unwrap();
    if String::from_utf8_lossy(&own.stdout).trim() != "0" {
        // Only root can be another user for a moment; the check of the system's word has a test of its own.
        return;
    }
    let nobody = ["setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups"];
    assert!(!ask(&nobody).status.success(), "the folder is its owner's alone");
    // Even with every permission open the other side is asked whose it is.
    for folder in socket.ancestors().take_while(|folder| folder.starts_with(home.path(""))) {
        let status = std::process::Command::new("chmod").arg("o+rwx").arg(folder).status().unwrap();
        assert!(status.success());
    }
    let refused = ask(&nobody);
    assert_ne!(String::from_utf8_lossy(&refused.stdout).trim(), "9", "{refused:?}");
    pane.press(&["C-q"]).ends();
}
