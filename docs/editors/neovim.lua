-- Neovim 0.7 and newer: put this into ~/.config/nvim/init.lua, or load it with :luafile.
-- TOML files of a site, or with a [device] table, get the language server; other TOML files do not.
-- vim.diagnostic.config({ update_in_insert = true }) -- findings while typing, and not only after it

local function root_of(path)
  local folder = vim.fn.fnamemodify(path, ":p:h")
  local found = vim.fn.findfile("site.toml", folder .. ";")
  return found ~= "" and vim.fn.fnamemodify(found, ":p:h") or folder
end

local function is_ours(buffer)
  local path = vim.api.nvim_buf_get_name(buffer)
  if vim.fn.filereadable(root_of(path) .. "/site.toml") == 1 then return true end
  local head = table.concat(vim.api.nvim_buf_get_lines(buffer, 0, 40, false), "\n")
  return head:find("zapato%s*=") ~= nil or head:find("%[device%]") ~= nil
end

local clients = {}

vim.api.nvim_create_autocmd("FileType", {
  pattern = "toml",
  callback = function(event)
    if not is_ours(event.buf) then return end
    local root = root_of(vim.api.nvim_buf_get_name(event.buf))
    clients[root] = clients[root] or vim.lsp.start_client({ name = "zapato", cmd = { "zapato", "editor" }, root_dir = root })
    vim.lsp.buf_attach_client(event.buf, clients[root])
    vim.bo[event.buf].omnifunc = "v:lua.vim.lsp.omnifunc" -- Ctrl-X Ctrl-O completes
    local keys = {
      K = vim.lsp.buf.hover, -- what there is to say about the pin, key or name
      gd = vim.lsp.buf.definition, -- where a name is at home
      gr = vim.lsp.buf.references, -- every place that names the part
      ["<Space>r"] = vim.lsp.buf.rename, -- in all files of the site
      ["<Space>a"] = vim.lsp.buf.code_action, -- ways out
      ["<Space>l"] = vim.lsp.codelens.run,
      ["<Space>f"] = vim.lsp.buf.format or vim.lsp.buf.formatting, -- an even layout; 0.7 has the second name
    }
    for key, call in pairs(keys) do vim.keymap.set("n", key, call, { buffer = event.buf }) end
    local function lenses() -- not before the server has said that it has them
      local client = vim.lsp.get_client_by_id(clients[root])
      if client and (client.server_capabilities or {}).codeLensProvider then vim.lsp.codelens.refresh() end
    end
    vim.api.nvim_create_autocmd({ "BufEnter", "BufWritePost" }, { buffer = event.buf, callback = lenses })
  end,
})
