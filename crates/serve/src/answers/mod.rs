//! What editors ask, a module each: the table of them stands here.
//!
//! To add one: a function from the server and the parameters to the result, a line in [`ANSWERS`], and what announces
//! it in [`abilities`].

mod actions;
mod completion;
mod help;
mod layout;
mod names;
mod notes;
mod symbols;
mod tokens;

use serde_json::{Value, json};

use crate::run::COMMANDS;
use crate::state::Server;
use crate::wire::Refusal;

/// Answers one method.
pub(crate) type Answer = fn(&mut Server, &Value) -> Result<Value, Refusal>;

/// Every method that is answered while the server is open.
pub(crate) const ANSWERS: &[(&str, Answer)] = &[
    ("textDocument/completion", |server, params| completion::complete(server, params)),
    ("completionItem/resolve", |server, params| completion::resolve(server, params)),
    ("textDocument/hover", |server, params| help::hover(server, params)),
    ("textDocument/signatureHelp", |server, params| help::signature(server, params)),
    ("textDocument/definition", |server, params| names::definition(server, params)),
    ("textDocument/implementation", |server, params| names::rows(server, params)),
    ("textDocument/references", |server, params| names::references(server, params)),
    ("textDocument/documentHighlight", |server, params| names::highlight(server, params)),
    ("textDocument/prepareRename", |server, params| names::prepare_rename(server, params)),
    ("textDocument/rename", |server, params| names::rename(server, params)),
    ("textDocument/documentSymbol", |server, params| symbols::of_document(server, params)),
    ("workspace/symbol", |server, params| symbols::of_catalogs(server, params)),
    ("textDocument/formatting", |server, params| layout::format(server, params)),
    ("textDocument/rangeFormatting", |server, params| layout::format_range(server, params)),
    ("textDocument/foldingRange", |server, params| layout::folding(server, params)),
    ("textDocument/selectionRange", |server, params| layout::selection(server, params)),
    ("textDocument/semanticTokens/full", |server, params| tokens::full(server, params)),
    ("textDocument/semanticTokens/range", |server, params| tokens::range(server, params)),
    ("textDocument/inlayHint", |server, params| notes::hints(server, params)),
    ("textDocument/codeLens", |server, params| notes::lenses(server, params)),
    ("textDocument/codeAction", |server, params| actions::actions(server, params)),
    ("workspace/executeCommand", |server, params| server.execute(params)),
];

/// What `initialize` announces
/// (<https://microsoft.github.io/language-server-protocol/specifications/lsp/3.17/specification/#serverCapabilities>).
pub(crate) fn abilities() -> Value {
    let commands: Vec<&str> = COMMANDS.iter().map(|(name, _)| *name).collect();
    json!({
        "textDocumentSync": {"openClose": true, "change": 2, "save": {"includeText": false}},
        "completionProvider": {"triggerCharacters": [".", " ", "(", ",", "'", "\"", "`", "=", "@", "$"], "resolveProvider": true},
        "hoverProvider": true,
        "signatureHelpProvider": {"triggerCharacters": ["(", ","]},
        "definitionProvider": true,
        "implementationProvider": true,
        "referencesProvider": true,
        "documentHighlightProvider": true,
        "renameProvider": {"prepareProvider": true},
        "documentSymbolProvider": true,
        "workspaceSymbolProvider": true,
        "documentFormattingProvider": true,
        "documentRangeFormattingProvider": true,
        "foldingRangeProvider": true,
        "selectionRangeProvider": true,
        "semanticTokensProvider": {
            "legend": {"tokenTypes": tokens::TYPES, "tokenModifiers": []},
            "full": true,
            "range": true,
        },
        "inlayHintProvider": true,
        "codeLensProvider": {"resolveProvider": false},
        "codeActionProvider": {"codeActionKinds": ["quickfix", "refactor.rewrite", "source"]},
        "executeCommandProvider": {"commands": commands},
        "workspace": {"workspaceFolders": {"supported": true}},
    })
}
