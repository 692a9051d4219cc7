//! How quick a text editor is answered: completion on a large catalog, and edits of a long document, through the
//! protocol.
//!
//! `cargo bench -p jaunty-bench --bench serve`

#![allow(clippy::print_stdout)] // It is a report.

use std::error::Error;
use std::io::{BufRead, BufReader, Read, Write};
use std::os::unix::net::UnixStream;
use std::path::Path;
use std::time::{Duration, Instant};

use jaunty_bench::measured::Times;
use jaunty_core::archive::Retention;
use jaunty_core::files::Folders;
use jaunty_core::run::Keeping;
use jaunty_engines::ENGINES;
use jaunty_language::dialect::SQLITE;
use jaunty_language::edit::document::{Document, Motion};
use jaunty_serve::text::uri_of;
use jaunty_serve::{Options, serve};
use serde_json::{Value, json};

type Outcome<T> = Result<T, Box<dyn Error>>;

const TABLES: usize = 10_000;
const COLUMNS: usize = 20;
const LINES: usize = 100_000;

fn main() -> Outcome<()> {
    let folder = tempfile::tempdir()?;
    let project = folder.path().join("project");
    std::fs::create_dir_all(project.join(".jaunty"))?;
    std::fs::write(
        project.join(".jaunty/connections.toml"),
        "[ferry]\nengine = \"sqlite\"\npath = \"../ferry.db\"\nguard = \"open\"\ncheck = false\n",
    )?;
    tables(&project.join("ferry.db"))?;
    let mut editor = Editor::of(folder.path())?;
    completion(&mut editor, &project.join("a.sql"))?;
    edits(&mut editor, &project.join("long.sql"))?;
    edits_of_code(&mut editor, &project.join("long.py"))
}

fn tables(path: &Path) -> Outcome<()> {
    let mut db = rusqlite::Connection::open(path)?;
    let all = db.transaction()?;
    for table in 0..TABLES {
        let columns: Vec<String> = (0..COLUMNS).map(|column| format!("column_{column}_of_{table} integer")).collect();
        all.execute(&format!("create table sailings_{table} ({})", columns.join(", ")), [])?;
    }
    all.commit()?;
    Ok(())
}

/// From a key to the list: the edit and the question after it, until the answer is there.
fn completion(editor: &mut Editor, path: &Path) -> Outcome<()> {
    let begun = Instant::now();
    editor.open(path, "")?;
    let whole = "select sailings_77.column_3_of_77 from sailings_77 join sailings_9001 on column_1";
    editor.change(path, json!([{"text": "select * from sailings_9999"}]))?;
    while !editor.complete(path, 27)?.to_string().contains("\"sailings_9999\"") {
        std::thread::sleep(Duration::from_millis(50));
    }
    println!(
        "a catalog of {TABLES} tables with {} columns, known after {} ms",
        TABLES * COLUMNS,
        begun.elapsed().as_millis()
    );
    let mut times = Times::default();
    for _ in 0..5 {
        editor.change(path, json!([{"text": ""}]))?;
        for (at, key) in whole.char_indices() {
            let range = json!({"start": {"line": 0, "character": at}, "end": {"line": 0, "character": at}});
            let begun = Instant::now();
            editor.change(path, json!([{"range": range, "text": key.to_string()}]))?;
            editor.complete(path, at + 1)?;
            times.push(begun.elapsed());
        }
    }
    println!("  from key to list: {} (wanted: p99 at most 20 ms)", times.summary());
    Ok(())
}

/// An edit of a statement in program code of 100,000 lines until a question after it is answered.
fn edits_of_code(editor: &mut Editor, path: &Path) -> Outcome<()> {
    let method = |n: usize| {
        format!(
            "def fetch_{n}(db, port):\n    # reads 'the rows' of a port\n    rows = db.query(\"select name from ports where id = %s and n = {n}\", port)\n    \
             value = {{\"a\": 1, 'b': \"text\"}}\n    return [row for row in rows if row[\"x\"] > 5]\n\n"
        )
    };
    let text: String = (0..LINES / 6).map(method).collect();
    let begun = Instant::now();
    editor.open(path, &text)?;
    editor.hover(path, 2)?;
    println!("program code of {LINES} lines, open after {} ms", begun.elapsed().as_millis());
    std::thread::sleep(Duration::from_secs(5));
    let (mut words, mut quotes) = (Times::default(), Times::default());
    for n in 0..200 {
        let line = (n * 7919 % (LINES / 6)) * 6 + 2;
        for (put, times) in [("x", &mut words), ("\"", &mut quotes)] {
            let range = json!({"start": {"line": line, "character": 31}, "end": {"line": line, "character": 31}});
            let begun = Instant::now();
            editor.change(path, json!([{"range": range, "text": put}]))?;
            editor.hover(path, line)?;
            times.push(begun.elapsed());
            let back = json!({"start": {"line": line, "character": 31}, "end": {"line": line, "character": 32}});
            editor.change(path, json!([{"range": back, "text": ""}]))?;
            editor.hover(path, line)?;
        }
    }
    println!("  an edit of a word, with a question after it: {} (wanted: 10 ms)", words.summary());
    println!("  of a quote: {}", quotes.summary());
    Ok(())
}

/// An edit of a document of 100,000 lines until a question after it is answered, beside the same in a buffer of ours.
fn edits(editor: &mut Editor, path: &Path) -> Outcome<()> {
    let mut text = String::new();
    while text.lines().count() < LINES {
        for n in 0..1000 {
            text.push_str(&format!(
                "-- sailing {n}\nselect column_1_of_{n}, 'tide'\nfrom sailings_{n}\nwhere column_2_of_{n} > {n};\n\n"
            ));
        }
    }
    editor.open(path, &text)?;
    // What is looked over after opening is not what is measured.
    editor.hover(path, 0)?;
    std::thread::sleep(Duration::from_secs(5));
    let mut document = Document::new(&text, &SQLITE);
    let starts: Vec<usize> = std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect();
    let (mut ours, mut theirs) = (Times::default(), Times::default());
    for n in 0..200 {
        let line = (n * 7919 % (LINES / 5)) * 5 + 1;
        let range = json!({"start": {"line": line, "character": 6}, "end": {"line": line, "character": 6}});
        let begun = Instant::now();
        editor.change(path, json!([{"range": range, "text": "x"}]))?;
        editor.hover(path, line)?;
        theirs.push(begun.elapsed());
        let back = json!({"start": {"line": line, "character": 6}, "end": {"line": line, "character": 7}});
        editor.change(path, json!([{"range": back, "text": ""}]))?;
        editor.hover(path, line)?;
        let at = starts.get(line).copied().unwrap_or_default() + 6;
        let begun = Instant::now();
        document.go(Motion::To(at), false);
        document.insert("x");
        ours.push(begun.elapsed());
        document.undo();
    }
    println!("an edit of {LINES} lines, with a question after it: {} (wanted: 10 ms)", theirs.summary());
    println!("  the edit alone in a buffer of ours: {}", ours.summary());
    let document = json!({"uri": uri_of(path)});
    let whole = json!({"start": {"line": 0, "character": 0}, "end": {"line": LINES, "character": 0}});
    for method in
        ["documentSymbol", "foldingRange", "semanticTokens/full", "semanticTokens/range", "codeLens", "inlayHint"]
    {
        let range = match method {
            "semanticTokens/range" => {
                json!({"start": {"line": 50_000, "character": 0}, "end": {"line": 50_060, "character": 0}})
            }
            _ => whole.clone(),
        };
        let mut times = Times::default();
        for _ in 0..5 {
            let begun = Instant::now();
            editor.ask(&format!("textDocument/{method}"), json!({"textDocument": document, "range": range}))?;
            times.push(begun.elapsed());
        }
        println!("  {method}: {}", times.summary());
    }
    Ok(())
}

/// The other side of the protocol.
struct Editor {
    input: BufReader<UnixStream>,
    output: UnixStream,
    next: u64,
    version: u64,
}

impl Editor {
    fn of(folder: &Path) -> Outcome<Editor> {
        let folders = Folders::below(&folder.join("own"));
        let keeping = Keeping::open(&folders, Retention::default());
        let (ours, theirs) = UnixStream::pair()?;
        let (input, output) = (BufReader::new(theirs.try_clone()?), theirs);
        std::thread::spawn(move || serve(input, output, Options { folders, engines: ENGINES, keeping }));
        let mut editor = Editor { input: BufReader::new(ours.try_clone()?), output: ours, next: 0, version: 1 };
        editor.ask("initialize", json!({"capabilities": {}}))?;
        Ok(editor)
    }

    fn send(&mut self, message: &Value) -> Outcome<()> {
        let body = message.to_string();
        Ok(self.output.write_all(format!("Content-Length: {}\r\n\r\n{body}", body.len()).as_bytes())?)
    }

    fn read(&mut self) -> Outcome<Value> {
        let mut length = 0;
        loop {
            let mut line = String::new();
            if self.input.read_line(&mut line)? == 0 {
                return Err("the server has ended".into());
            }
            match line.trim_end().split_once(": ") {
                Some(("Content-Length", value)) => length = value.parse()?,
                _ if line.trim_end().is_empty() => break,
                _ => {}
            }
        }
        let mut body = vec![0; length];
        self.input.read_exact(&mut body)?;
        Ok(serde_json::from_slice(&body)?)
    }

    fn ask(&mut self, method: &str, params: Value) -> Outcome<Value> {
        self.next += 1;
        let id = self.next;
        self.send(&json!({"jsonrpc": "2.0", "id": id, "method": method, "params": params}))?;
        loop {
            let mut message = self.read()?;
            if message.get("method").is_none() && message["id"] == id {
                return Ok(message["result"].take());
            }
        }
    }

    fn open(&mut self, path: &Path, text: &str) -> Outcome<()> {
        let document = json!({"uri": uri_of(path), "languageId": "sql", "version": 1, "text": text});
        self.send(&json!({"jsonrpc": "2.0", "method": "textDocument/didOpen", "params": {"textDocument": document}}))
    }

    fn change(&mut self, path: &Path, changes: Value) -> Outcome<()> {
        self.version += 1;
        let document = json!({"uri": uri_of(path), "version": self.version});
        let params = json!({"textDocument": document, "contentChanges": changes});
        self.send(&json!({"jsonrpc": "2.0", "method": "textDocument/didChange", "params": params}))
    }

    fn complete(&mut self, path: &Path, column: usize) -> Outcome<Value> {
        let position = json!({"line": 0, "character": column});
        self.ask("textDocument/completion", json!({"textDocument": {"uri": uri_of(path)}, "position": position}))
    }

    fn hover(&mut self, path: &Path, line: usize) -> Outcome<Value> {
        let position = json!({"line": line, "character": 8});
        self.ask("textDocument/hover", json!({"textDocument": {"uri": uri_of(path)}, "position": position}))
    }
}
