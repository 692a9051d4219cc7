"""Drives `jaunty lsp` with a client that is generated from the protocol's published model (lsprotocol): a message that
does not fit the model is an error. The first run prints the lines that the test looks for; then the server is started
once for each file of what real editors announce."""

import ast
import asyncio
import os
import pathlib
import sys
from urllib.parse import unquote, urlparse

import lsprotocol.types as lsp
import pytest_lsp
from pygls.lsp.client import LanguageClient

BUFFER = pathlib.Path("statements.sql").absolute()
URI = BUFFER.as_uri()


class Client(LanguageClient):
    """Keeps what is told; a message that the model does not take fails the test."""

    def __init__(self):
        super().__init__("ferry", "1")
        self.wrong, self.diagnostics, self.progress, self.documents, self.edits, self.said = [], [], [], [], [], []

        @self.feature(lsp.TEXT_DOCUMENT_PUBLISH_DIAGNOSTICS)
        def _(params: lsp.PublishDiagnosticsParams):
            if params.uri == URI:
                self.diagnostics = list(params.diagnostics)

        @self.feature(lsp.PROGRESS)
        def _(params: lsp.ProgressParams):
            self.progress.append(params)

        @self.feature(lsp.WINDOW_WORK_DONE_PROGRESS_CREATE)
        def _(params: lsp.WorkDoneProgressCreateParams):
            return None

        @self.feature(lsp.WINDOW_SHOW_DOCUMENT)
        def _(params: lsp.ShowDocumentParams):
            self.documents.append(params.uri)
            return lsp.ShowDocumentResult(success=True)

        @self.feature(lsp.WORKSPACE_APPLY_EDIT)
        def _(params: lsp.ApplyWorkspaceEditParams):
            self.edits.append(params.edit)
            return lsp.ApplyWorkspaceEditResult(applied=True)

        @self.feature(lsp.WINDOW_SHOW_MESSAGE)
        def _(params: lsp.ShowMessageParams):
            self.said.append(params.message)

        for refresh in (lsp.WORKSPACE_INLAY_HINT_REFRESH, lsp.WORKSPACE_CODE_LENS_REFRESH):
            self.feature(refresh)(lambda *_: None)

    def report_server_error(self, error, source):
        self.wrong.append(f"{source}: {error!r}")


async def until(what, is_true):
    for _ in range(1200):
        found = is_true()
        if asyncio.iscoroutine(found):
            found = await found
        if found:
            return found
        await asyncio.sleep(0.05)
    raise SystemExit(f"waited in vain for {what}")


def say(what, text):
    print(f"{what}: {str(text).replace(chr(10), ' / ')}", flush=True)


class Document:
    def __init__(self, client, text):
        self.client, self.text, self.version = client, text, 1
        item = lsp.TextDocumentItem(uri=URI, language_id="sql", version=1, text=text)
        client.text_document_did_open(lsp.DidOpenTextDocumentParams(text_document=item))
        self.name = lsp.TextDocumentIdentifier(uri=URI)

    def at(self, mark, after=0):
        before = self.text[: self.text.index(mark) + after]
        return lsp.Position(line=before.count("\n"), character=len(before.rsplit("\n", 1)[-1]))

    def span(self, mark):
        return lsp.Range(start=self.at(mark), end=self.at(mark))

    def apply(self, edit):
        changes = edit.changes[URI] if edit.changes else edit.document_changes[0].edits
        lines = self.text.splitlines(keepends=True)
        offset = lambda p: sum(len(line) for line in lines[: p.line]) + p.character
        for change in sorted(changes, key=lambda c: offset(c.range.start), reverse=True):
            start, end = offset(change.range.start), offset(change.range.end)
            self.text = self.text[:start] + change.new_text + self.text[end:]
        self.version += 1
        identifier = lsp.VersionedTextDocumentIdentifier(uri=URI, version=self.version)
        whole = [lsp.TextDocumentContentChangeWholeDocument(text=self.text)]
        self.client.text_document_did_change(
            lsp.DidChangeTextDocumentParams(text_document=identifier, content_changes=whole)
        )

    async def action(self, mark, title):
        params = lsp.CodeActionParams(
            text_document=self.name, range=self.span(mark), context=lsp.CodeActionContext(diagnostics=[])
        )
        offered = await self.client.text_document_code_action_async(params)
        chosen = [one for one in offered if title in one.title]
        if not chosen:
            raise SystemExit(f"no action {title} in {[one.title for one in offered]}")
        one = chosen[0]
        edit = getattr(one, "edit", None)
        if edit:
            self.apply(edit)
        command = one.command
        if command:
            # The library takes an action that has a command for a command, and writes that out as text.
            if isinstance(command, str):
                command = lsp.Command(**ast.literal_eval(command))
            call = lsp.ExecuteCommandParams(command=command.command, arguments=command.arguments)
            await self.client.workspace_execute_command_async(call)

    async def hover(self, mark, after=0):
        params = lsp.HoverParams(text_document=self.name, position=self.at(mark, after))
        found = await self.client.text_document_hover_async(params)
        return found.contents.value if found else ""


async def opened(capabilities):
    client = Client()
    await client.start_io(os.environ["JAUNTY"], "lsp")
    params = lsp.InitializeParams(capabilities=capabilities, process_id=os.getpid(), root_uri=BUFFER.parent.as_uri())
    await client.initialize_async(params)
    client.initialized(lsp.InitializedParams())
    return client, Document(client, BUFFER.read_text())


async def completion(client, document):
    params = lsp.CompletionParams(text_document=document.name, position=document.at("p.name", 2))
    found = await client.text_document_completion_async(params)
    labels = [item.label for item in found.items]
    return "berths" in labels and found.items


async def ended(client):
    await client.shutdown_async(None)
    client.exit(None)
    if client.wrong:
        raise SystemExit("\n".join(client.wrong))


async def whole():
    """What a day with statements asks."""
    capabilities = lsp.ClientCapabilities(
        general=lsp.GeneralClientCapabilities(position_encodings=[lsp.PositionEncodingKind.Utf16]),
        window=lsp.WindowClientCapabilities(
            work_done_progress=True, show_document=lsp.ShowDocumentClientCapabilities(support=True)
        ),
        workspace=lsp.WorkspaceClientCapabilities(
            apply_edit=True,
            workspace_edit=lsp.WorkspaceEditClientCapabilities(document_changes=True),
            inlay_hint=lsp.InlayHintWorkspaceClientCapabilities(refresh_support=True),
            code_lens=lsp.CodeLensWorkspaceClientCapabilities(refresh_support=True),
        ),
        text_document=lsp.TextDocumentClientCapabilities(
            hover=lsp.HoverClientCapabilities(content_format=[lsp.MarkupKind.Markdown]),
            code_action=lsp.CodeActionClientCapabilities(
                code_action_literal_support=lsp.ClientCodeActionLiteralOptions(
                    code_action_kind=lsp.ClientCodeActionKindOptions(value_set=[])
                )
            ),
        ),
    )
    client, document = await opened(capabilities)
    items = await until("completion", lambda: completion(client, document))
    say("completion", " ".join(item.label for item in items))
    await client.completion_item_resolve_async(items[0])
    say("hover", await document.hover("p.name", 3))

    await until("a diagnostic", lambda: client.diagnostics)
    say("diagnostic", client.diagnostics[0].message)
    await document.action("nmae", "Change to name")
    await until("no diagnostic", lambda: not client.diagnostics)
    say("changed", "select name from ports where" in document.text)

    await document.action("select p.name", "Run on ferry")
    rows = lambda: [one for one in client.documents if "3 of 3" in pathlib.Path(unquote(urlparse(one).path)).read_text()]
    shown = await until("rows", rows)
    say("rows", pathlib.Path(unquote(urlparse(shown[-1]).path)).read_text())

    await document.action("with recursive", "Run on ferry")
    begun = lambda: [one for one in client.progress if "with recursive" in str(one.value)]
    token = (await until("a slow run", begun))[0].token
    running = lambda: any(one.token == token and "running" in str(one.value) for one in client.progress)
    await until("a slow run", running)
    client.window_work_done_progress_cancel(lsp.WorkDoneProgressCancelParams(token=token))
    stopped = lambda: any(one.value["kind"] == "end" and "stopped" in str(one.value) for one in client.progress)
    await until("an end", stopped)
    say("stopped", "stopped")

    # Everything else that is announced is asked once, so that each answer is held to the model.
    name, at, span = document.name, document.at("p.name"), document.span("p.name")
    place = dict(text_document=name, position=at)
    everything = lsp.Range(start=lsp.Position(0, 0), end=lsp.Position(99, 0))
    options = lsp.FormattingOptions(tab_size=4, insert_spaces=True)
    answers = [
        await client.text_document_signature_help_async(lsp.SignatureHelpParams(**place)),
        await client.text_document_definition_async(lsp.DefinitionParams(**place)),
        await client.text_document_implementation_async(lsp.ImplementationParams(**place)),
        await client.text_document_references_async(
            lsp.ReferenceParams(context=lsp.ReferenceContext(include_declaration=True), **place)
        ),
        await client.text_document_document_highlight_async(lsp.DocumentHighlightParams(**place)),
        await client.text_document_prepare_rename_async(lsp.PrepareRenameParams(**place)),
        await client.text_document_document_symbol_async(lsp.DocumentSymbolParams(text_document=name)),
        await client.workspace_symbol_async(lsp.WorkspaceSymbolParams(query="port")),
        await client.text_document_formatting_async(lsp.DocumentFormattingParams(options=options, text_document=name)),
        await client.text_document_range_formatting_async(
            lsp.DocumentRangeFormattingParams(text_document=name, range=span, options=options)
        ),
        await client.text_document_folding_range_async(lsp.FoldingRangeParams(text_document=name)),
        await client.text_document_selection_range_async(lsp.SelectionRangeParams(text_document=name, positions=[at])),
        await client.text_document_semantic_tokens_full_async(lsp.SemanticTokensParams(text_document=name)),
        await client.text_document_semantic_tokens_range_async(
            lsp.SemanticTokensRangeParams(text_document=name, range=everything)
        ),
        await client.text_document_inlay_hint_async(lsp.InlayHintParams(text_document=name, range=everything)),
        await client.text_document_code_lens_async(lsp.CodeLensParams(text_document=name)),
    ]
    nothing = [number for number, answer in enumerate(answers) if answer is None]
    # Only the call's help has nothing to say here.
    if nothing != [0]:
        raise SystemExit(f"no answer to {nothing}")

    params = lsp.RenameParams(new_name="quay", **place)
    document.apply(await client.text_document_rename_async(params))
    say("renamed", document.text[document.text.index("select quay") :].split("\n")[0])
    await ended(client)


async def announcing(name):
    """A run as an editor sees it that announces what stands in a file of a real one."""
    client, document = await opened(pytest_lsp.client_capabilities(name))
    await until("completion", lambda: completion(client, document))
    await document.action("select p.name", "Run on ferry")

    def rows():
        if client.documents:
            return "showDocument"
        if any("Gullhaven" in str(edit) for edit in client.edits):
            return "applyEdit"
        return "showMessage" if any("Gullhaven" in one for one in client.said) else None

    say(name, await until(f"rows as {name} takes them", rows))
    await ended(client)


async def main():
    await whole()
    folder = pathlib.Path(pytest_lsp.__file__).parent / "clients"
    for file in sorted(folder.glob("*.json")):
        await announcing(file.stem.replace("_v", "@"))


asyncio.run(main())
sys.stdout.flush()
