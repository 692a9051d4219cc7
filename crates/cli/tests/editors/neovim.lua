-- Drives `jaunty lsp` from Neovim's own client: nvim --headless --clean -l / -c "luafile neovim.lua".
-- Each line that it prints is one that the test looks for; a failure ends it with an error.

local function wait(what, is)
  if not vim.wait(60000, is, 20) then error("waited in vain for " .. what) end
end

local function say(what, text)
  io.stdout:write(what .. ": " .. tostring(text):gsub("\n", " / ") .. "\n")
end

local function lines(buffer) return table.concat(vim.api.nvim_buf_get_lines(buffer, 0, -1, false), "\n") end

-- The cursor goes to a text, from 1 and 0 as Neovim counts.
local function go(text)
  for number, line in ipairs(vim.api.nvim_buf_get_lines(0, 0, -1, false)) do
    local at = line:find(text, 1, true)
    if at then return vim.api.nvim_win_set_cursor(0, { number, at - 1 }) end
  end
  error("no " .. text)
end

-- An action of the cursor's place, chosen as a person would.
local function act(title)
  local done, offered = false, {}
  vim.ui.select = function(items, options, chosen)
    for _, item in ipairs(items) do
      local shown = options.format_item and options.format_item(item) or item
      table.insert(offered, shown)
      if not done and shown:find(title, 1, true) then
        done = true
        chosen(item)
      end
    end
  end
  vim.lsp.buf.code_action()
  wait("the action " .. title, function() return #offered > 0 end)
  if not done then error("no action " .. title .. " in " .. table.concat(offered, ", ")) end
end

local function hover()
  local said
  vim.lsp.buf_request(0, "textDocument/hover", vim.lsp.util.make_position_params(), function(_, result)
    said = result and result.contents and result.contents.value or ""
  end)
  wait("help", function() return said ~= nil end)
  return said
end

vim.cmd("edit statements.sql")
local text = vim.api.nvim_get_current_buf()
local client = vim.lsp.start_client({ name = "jaunty", cmd = { vim.env.JAUNTY, "lsp" }, root_dir = vim.fn.getcwd() })
vim.lsp.buf_attach_client(text, client)
wait("the server", function() return vim.lsp.buf_get_clients(text)[client] ~= nil end)

-- Completion, once the catalog is there.
local labels = ""
wait("completion", function()
  go("p.name")
  local at = vim.api.nvim_win_get_cursor(0)
  local params = vim.lsp.util.make_position_params()
  params.position.character = at[2] + 2
  local answers = vim.lsp.buf_request_sync(text, "textDocument/completion", params, 60000)
  local found = {}
  for _, item in ipairs(answers[client].result.items) do table.insert(found, item.label) end
  labels = table.concat(found, " ")
  return labels:find("berths", 1, true)
end)
say("completion", labels)

go("p.name")
vim.api.nvim_win_set_cursor(0, { vim.api.nvim_win_get_cursor(0)[1], vim.api.nvim_win_get_cursor(0)[2] + 3 })
say("hover", hover())

-- A diagnostic that comes and goes.
wait("a diagnostic", function() return #vim.diagnostic.get(text) > 0 end)
say("diagnostic", vim.diagnostic.get(text)[1].message)
go("nmae")
act("Change to name")
wait("no diagnostic", function() return #vim.diagnostic.get(text) == 0 end)
say("changed", lines(text):find("select name from ports where", 1, true) ~= nil)

-- A statement runs, and its rows are found where its implementation is.
go("select p.name")
act("Run on ferry")
wait("a run", function() return hover():find("3 rows", 1, true) end)
vim.lsp.buf.implementation()
wait("rows", function() return vim.api.nvim_get_current_buf() ~= text and lines(0):find("Gullhaven", 1, true) end)
say("rows", lines(0))
vim.api.nvim_set_current_buf(text)

-- A slow one is stopped.
go("with recursive")
act("Run on ferry")
wait("a slow run", function() return hover():find("running", 1, true) end)
act("Stop what runs")
wait("an end", function() return hover():find("stopped", 1, true) end)
say("stopped", hover():match("stopped"))

go("p.name")
vim.lsp.buf.rename("quay")
wait("another name", function() return lines(text):find("quay.name from ports quay", 1, true) end)
say("renamed", lines(text):match("select quay[^\n]*"))
vim.lsp.stop_client(client)
