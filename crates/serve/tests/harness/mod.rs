//! An editor for tests: it talks to a server that runs in this process, over a pair of sockets.

#![allow(dead_code)] // Each file of tests uses some of it.

use std::collections::VecDeque;
use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::thread::JoinHandle;
use std::time::Duration;

use jaunty_core::files::Folders;
use jaunty_core::run::Keeping;
use jaunty_core::settings;
use jaunty_engines::ENGINES;
use jaunty_serve::text::uri_of;
use jaunty_serve::{Ended, Options, serve};
use serde_json::{Value, json};
use tempfile::TempDir;

/// Longer nobody waits: a server that does not answer is broken.
const PATIENCE: Duration = Duration::from_secs(120);

pub struct Editor {
    pub folder: TempDir,
    input: BufReader<UnixStream>,
    output: UnixStream,
    next: i64,
    /// What was told and has not been asked for.
    pub told: VecDeque<Value>,
    server: Option<JoinHandle<std::io::Result<Ended>>>,
    /// The answer to each question of the server, by its method.
    pub answers: Vec<(String, Value)>,
}

/// What Neovim and others of today announce.
pub fn able() -> Value {
    json!({
        "general": {"positionEncodings": ["utf-16"]},
        "textDocument": {
            "completion": {"completionItem": {"snippetSupport": true}},
            "hover": {"contentFormat": ["markdown", "plaintext"]},
            "documentSymbol": {"hierarchicalDocumentSymbolSupport": true},
            "codeAction": {"codeActionLiteralSupport": {"codeActionKind": {"valueSet": ["quickfix"]}}},
        },
        "window": {"workDoneProgress": true, "showDocument": {"support": true}},
        "workspace": {"applyEdit": true, "workspaceEdit": {"documentChanges": true, "resourceOperations": ["create"]},
            "inlayHint": {"refreshSupport": true}, "codeLens": {"refreshSupport": true}},
    })
}

impl Editor {
    /// An editor in a folder with one connection, to a database of SQLite that has nothing in it.
    pub fn new() -> Editor {
        Editor::with(able(), "guard = \"open\"")
    }

    pub fn with(capabilities: Value, profile: &str) -> Editor {
        let mut editor = Editor::silent(profile);
        editor.initialize(capabilities);
        editor
    }

    /// One that has not said anything.
    pub fn silent(profile: &str) -> Editor {
        let folder = tempfile::tempdir().unwrap();
        let settings_of_project = folder.path().join("ferry/.jaunty");
        std::fs::create_dir_all(&settings_of_project).unwrap();
        let text = format!("[ferry]\nengine = \"sqlite\"\npath = \"../ferry.db\"\n{profile}\n");
        std::fs::write(settings_of_project.join("connections.toml"), text).unwrap();
        std::fs::write(folder.path().join("ferry/ferry.db"), "").unwrap();
        Editor::within(folder)
    }

    fn within(folder: TempDir) -> Editor {
        let folders = Folders::below(&folder.path().join("own"));
        let keeping = Keeping::open(&folders, settings::Settings::default().retention);
        let (ours, theirs) = UnixStream::pair().unwrap();
        let (input, output) = (BufReader::new(theirs.try_clone().unwrap()), theirs);
        let options = Options { folders, engines: ENGINES, keeping };
        let server = std::thread::spawn(move || serve(input, output, options));
        ours.set_read_timeout(Some(PATIENCE)).unwrap();
        Editor {
            folder,
            input: BufReader::new(ours.try_clone().unwrap()),
            output: ours,
            next: 1,
            told: VecDeque::new(),
            server: Some(server),
            answers: vec![("window/showDocument".to_owned(), json!({"success": true}))],
        }
    }

    pub fn initialize(&mut self, capabilities: Value) -> Value {
        let answer = self.ask("initialize", json!({"processId": null, "rootUri": null, "capabilities": capabilities}));
        self.tell("initialized", json!({}));
        answer
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join("ferry").join(name)
    }

    pub fn uri(&self, name: &str) -> String {
        uri_of(&self.path(name))
    }

    pub fn raw(&mut self, bytes: &[u8]) {
        self.output.write_all(bytes).unwrap();
    }

    fn send(&mut self, message: &Value) {
        let body = message.to_string();
        self.raw(format!("Content-Length: {}\r\n\r\n{body}", body.len()).as_bytes());
    }

    pub fn tell(&mut self, method: &str, params: Value) {
        self.send(&json!({"jsonrpc": "2.0", "method": method, "params": params}));
    }

    /// The next message of the server.
    pub fn read(&mut self) -> Value {
        let mut length = 0;
        loop {
            let mut line = String::new();
            assert!(
                self.input.read_line(&mut line).unwrap_or_else(|_| panic!(
                    "nothing more comes; told: {}",
                    self.told.iter().map(Value::to_string).collect::<Vec<_>>().join("\n")
                )) > 0,
                "the server has ended"
            );
            match line.trim_end().split_once(": ") {
                Some(("Content-Length", value)) => length = value.parse().unwrap(),
                _ if line.trim_end().is_empty() => break,
                other => panic!("a head of {other:?}"),
            }
        }
        let mut body = vec![0; length];
        self.input.read_exact(&mut body).unwrap();
        let message: Value = serde_json::from_slice(&body).unwrap();
        assert_eq!(message["jsonrpc"], "2.0");
        message
    }

    /// Takes a message in; a question of the server is answered as this editor answers it.
    fn take_in(&mut self, message: Value) {
        if let (Some(id), Some(method)) = (message.get("id"), message["method"].as_str()) {
            let known = self.answers.iter().find(|(name, _)| name == method);
            let answer = known.map_or(Value::Null, |(_, answer)| answer.clone());
            self.send(&json!({"jsonrpc": "2.0", "id": id, "result": answer}));
        }
        self.told.push_back(message);
    }

    /// Asks, and goes on: the answer is told like everything else.
    pub fn request(&mut self, id: i64, method: &str, params: Value) {
        self.send(&json!({"jsonrpc": "2.0", "id": id, "method": method, "params": params}));
    }

    /// Asks, and waits for the answer: a result or an error, as the whole message.
    pub fn answer(&mut self, method: &str, params: Value) -> Value {
        let id = self.next;
        self.next += 1;
        self.send(&json!({"jsonrpc": "2.0", "id": id, "method": method, "params": params}));
        loop {
            let message = self.read();
            if message.get("method").is_none() && message["id"] == id {
                return message;
            }
            self.take_in(message);
        }
    }

    /// Asks for a result.
    pub fn ask(&mut self, method: &str, params: Value) -> Value {
        let message = self.answer(method, params);
        assert!(message.get("error").is_none(), "{method}: {message}");
        message["result"].clone()
    }

    /// Waits until something is told for which this holds.
    pub fn until(&mut self, wanted: impl Fn(&Value) -> bool) -> Value {
        loop {
            if let Some(at) = self.told.iter().position(&wanted) {
                return self.told.remove(at).unwrap();
            }
            let message = self.read();
            self.take_in(message);
        }
    }

    /// Opens a document with a text.
    pub fn open(&mut self, name: &str, text: &str) {
        let document = json!({"uri": self.uri(name), "languageId": "sql", "version": 1, "text": text});
        self.tell("textDocument/didOpen", json!({"textDocument": document}));
    }

    /// A document and the place of `mark` in a text; of the cursor after it with `^` as its last sign.
    pub fn at(&self, name: &str, text: &str, mark: &str) -> Value {
        let (mark, behind) = mark.strip_suffix('^').map_or((mark, false), |mark| (mark, true));
        let byte = text.find(mark).unwrap_or_else(|| panic!("{mark} in {text}")) + if behind { mark.len() } else { 0 };
        let before = &text[..byte];
        let line = before.matches('\n').count();
        let column = before.rsplit('\n').next().unwrap().encode_utf16().count();
        json!({"textDocument": {"uri": self.uri(name)}, "position": {"line": line, "character": column}})
    }

    /// Runs a command at a place.
    pub fn command(&mut self, command: &str, at: &Value) -> Value {
        let arguments = json!([at["textDocument"]["uri"], at["position"]]);
        self.answer("workspace/executeCommand", json!({"command": command, "arguments": arguments}))
    }

    /// Runs the statement at a place and waits for its end: the last words of its progress.
    pub fn run(&mut self, at: &Value) -> String {
        let answer = self.command("jaunty.run", at);
        assert!(answer.get("error").is_none(), "{answer}");
        self.end_of_run()
    }

    pub fn end_of_run(&mut self) -> String {
        let end = self.until(|m| m["method"] == "$/progress" && m["params"]["value"]["kind"] == "end");
        end["params"]["value"]["message"].as_str().unwrap_or_default().to_owned()
    }

    /// What is wrong in a document, once this is told of it.
    pub fn troubles(&mut self, wanted: impl Fn(&str) -> bool) -> String {
        let shown = |m: &Value| {
            let all = m["params"]["diagnostics"].as_array().cloned().unwrap_or_default();
            all.iter()
                .map(|d| format!("{}: {}", d["range"]["start"]["line"], d["message"].as_str().unwrap_or_default()))
                .collect::<Vec<_>>()
                .join("\n")
        };
        let told = self.until(|m| m["method"] == "textDocument/publishDiagnostics" && wanted(&shown(m)));
        shown(&told)
    }

    /// The text of the document of rows.
    pub fn rows(&mut self) -> String {
        let asked = self.until(|m| m["method"] == "window/showDocument");
        let uri = asked["params"]["uri"].as_str().unwrap();
        std::fs::read_to_string(jaunty_serve::text::path_of(uri).unwrap()).unwrap()
    }

    /// The text of the document of rows, once it is one.
    pub fn rows_that(&mut self, wanted: impl Fn(&str) -> bool) -> String {
        loop {
            let rows = self.rows();
            if wanted(&rows) {
                return rows;
            }
        }
    }

    /// What is kept of runs.
    pub fn logbook(&self) -> Keeping {
        let folders = Folders::below(&self.folder.path().join("own"));
        Keeping::open(&folders, settings::Settings::default().retention)
    }

    /// Ends as the protocol has it.
    pub fn leave(mut self) -> Ended {
        self.ask("shutdown", Value::Null);
        self.tell("exit", Value::Null);
        self.server.take().unwrap().join().unwrap().unwrap()
    }

    /// Ends, and leaves its folder to be looked at.
    pub fn leave_open(mut self) -> TempDir {
        self.ask("shutdown", Value::Null);
        self.tell("exit", Value::Null);
        self.server.take().unwrap().join().unwrap().unwrap();
        self.folder
    }

    /// Goes away without a word.
    pub fn vanish(mut self) -> Ended {
        self.output.shutdown(std::net::Shutdown::Both).unwrap();
        self.server.take().unwrap().join().unwrap().unwrap()
    }
}
