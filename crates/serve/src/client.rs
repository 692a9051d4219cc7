//! The editor: what it can do, and what is asked of it and told to it.
//!
//! What it can do is what it announces, never what it answers: some answer `null` to what they do not know.

use std::collections::HashMap;

use serde_json::{Value, json};

use crate::place::Encoding;

/// What an editor announces, as far as it changes what it is told
/// (<https://microsoft.github.io/language-server-protocol/specifications/lsp/3.17/specification/#clientCapabilities>).
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Abilities {
    /// What columns count.
    pub encoding: Encoding,
    /// Text with places can be completed.
    pub snippets: bool,
    /// Help may be Markdown.
    pub markdown: bool,
    /// Symbols may lie in others.
    pub nested_symbols: bool,
    /// Code actions may be more than commands.
    pub actions: bool,
    /// Progress can be shown.
    pub progress: bool,
    /// A document can be opened beside the text.
    pub shows_documents: bool,
    /// Edits of other documents are carried out.
    pub edits: bool,
    /// Documents can be made by an edit.
    pub creates: bool,
    /// Edits may name the version that they are of.
    pub versioned: bool,
    /// Notes after statements can be asked for again.
    pub refreshes_hints: bool,
    /// The same of lenses.
    pub refreshes_lenses: bool,
}

impl Abilities {
    /// What stands in the parameters of `initialize`.
    pub fn of(params: &Value) -> Abilities {
        let all = &params["capabilities"];
        let flag = |path: &str| all.pointer(path).and_then(Value::as_bool).unwrap_or_default();
        let holds = |path: &str, word: &str| {
            all.pointer(path).and_then(Value::as_array).is_some_and(|all| all.iter().any(|one| one == word))
        };
        Abilities {
            encoding: Encoding::agreed(&all["general"]["positionEncodings"]),
            snippets: flag("/textDocument/completion/completionItem/snippetSupport"),
            markdown: holds("/textDocument/hover/contentFormat", "markdown"),
            nested_symbols: flag("/textDocument/documentSymbol/hierarchicalDocumentSymbolSupport"),
            actions: all.pointer("/textDocument/codeAction/codeActionLiteralSupport").is_some(),
            progress: flag("/window/workDoneProgress"),
            shows_documents: flag("/window/showDocument/support"),
            edits: flag("/workspace/applyEdit"),
            creates: holds("/workspace/workspaceEdit/resourceOperations", "create"),
            versioned: flag("/workspace/workspaceEdit/documentChanges"),
            refreshes_hints: flag("/workspace/inlayHint/refreshSupport"),
            refreshes_lenses: flag("/workspace/codeLens/refreshSupport"),
        }
    }
}

/// How much a message to a person matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Weight {
    /// Something went wrong.
    Error = 1,
    /// Something may.
    Warning = 2,
    /// Nothing did.
    Info = 3,
}

/// What an answer of the editor is to.
#[derive(Debug, Clone, PartialEq)]
pub enum Asked {
    /// Nothing hangs on it.
    Nothing,
    /// Whether the run of this number, of those that wait, may begin: the answer is one of the titles.
    MayRun(u64),
    /// Whether a document could be shown; where not, this is said instead.
    Shown(String),
}

/// The way to the editor.
pub struct Client {
    /// What it can do.
    pub can: Abilities,
    send: Box<dyn Fn(Value) + Send>,
    asked: HashMap<u64, Asked>,
    next: u64,
}

impl Client {
    /// One that messages go to by this way.
    pub fn new(send: impl Fn(Value) + Send + 'static) -> Client {
        Client { can: Abilities::default(), send: Box::new(send), asked: HashMap::new(), next: 1 }
    }

    /// Sends a message as it is.
    pub fn send(&self, message: Value) {
        (self.send)(message);
    }

    /// Tells something.
    pub fn notify(&self, method: &str, params: Value) {
        self.send(json!({"jsonrpc": "2.0", "method": method, "params": params}));
    }

    /// Asks something.
    pub fn ask(&mut self, method: &str, params: Value, asked: Asked) {
        let id = self.next;
        self.next += 1;
        self.asked.insert(id, asked);
        let mut message = json!({"jsonrpc": "2.0", "id": id, "method": method});
        if !params.is_null() {
            message["params"] = params;
        }
        self.send(message);
    }

    /// What an answer is to; none where nothing was asked by that number.
    pub fn answered(&mut self, id: &Value) -> Option<Asked> {
        self.asked.remove(&id.as_u64()?)
    }

    /// Shows a sentence.
    pub fn tell(&self, weight: Weight, message: &str) {
        self.notify("window/showMessage", json!({"type": weight as u8, "message": message}));
    }

    /// Notes and lenses are to be asked for again.
    pub fn refresh(&mut self) {
        if self.can.refreshes_hints {
            self.ask("workspace/inlayHint/refresh", Value::Null, Asked::Nothing);
        }
        if self.can.refreshes_lenses {
            self.ask("workspace/codeLens/refresh", Value::Null, Asked::Nothing);
        }
    }

    /// Begins to show progress under a token.
    pub fn begin_progress(&mut self, token: &str, title: &str) {
        if !self.can.progress {
            return;
        }
        self.ask("window/workDoneProgress/create", json!({"token": token}), Asked::Nothing);
        self.progress(token, json!({"kind": "begin", "title": title, "cancellable": true}));
    }

    /// Goes on with it, or ends it.
    pub fn progress(&self, token: &str, value: Value) {
        // What has ended has no token any more.
        if self.can.progress && !token.is_empty() {
            self.notify("$/progress", json!({"token": token, "value": value}));
        }
    }
}
