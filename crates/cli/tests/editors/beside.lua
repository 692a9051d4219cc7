-- Neovim beside `jaunty --pane`: one autocommand asks what is highlighted at each rest of the cursor, which is all that
-- the pane needs to follow; F5 runs there.
local function attach(event)
  local client = vim.lsp.start_client({ name = "jaunty", cmd = { vim.env.JAUNTY, "lsp" }, root_dir = vim.fn.getcwd() })
  vim.lsp.buf_attach_client(event.buf, client)
  local here = { buffer = event.buf }
  vim.api.nvim_create_autocmd("CursorMoved", { buffer = event.buf, callback = vim.lsp.buf.document_highlight })
  vim.keymap.set("n", "<F5>", function()
    local place = vim.lsp.util.make_position_params()
    vim.lsp.buf.execute_command({ command = "jaunty.runInPane", arguments = { place.textDocument.uri, place.position } })
  end, here)
end
vim.api.nvim_create_autocmd("FileType", { pattern = "sql", callback = attach })
