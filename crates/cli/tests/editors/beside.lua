-- Neovim beside `jaunty --pane`: one autocommand asks what is highlighted at each rest of the cursor, which is all that
-- the pane needs to follow; F5 runs there.
local function attached(_, buffer)
  vim.api.nvim_create_autocmd("CursorMoved", { buffer = buffer, callback = vim.lsp.buf.document_highlight })
  vim.keymap.set("n", "<F5>", function()
    local place = vim.lsp.util.make_position_params()
    vim.lsp.buf.execute_command({ command = "jaunty.runInPane", arguments = { place.textDocument.uri, place.position } })
  end, { buffer = buffer })
  vim.lsp.buf.document_highlight()
end
vim.api.nvim_create_autocmd("FileType", {
  pattern = "sql",
  callback = function(event)
    local server = { vim.env.JAUNTY, "lsp" }
    local client = vim.lsp.start_client({ name = "jaunty", cmd = server, root_dir = vim.fn.getcwd(), on_attach = attached })
    vim.lsp.buf_attach_client(event.buf, client)
  end,
})
