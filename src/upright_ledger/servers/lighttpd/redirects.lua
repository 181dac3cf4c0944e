-- Upright Ledger: the rule model for lighttpd's mod_magnet. The rules themselves are in upright_rules.lua.
local rules = require("upright_rules")
local M = { cache = rules.cache, scheme_from = rules.scheme_from }

local function lower(text)
  if not text:find("[A-Z]") then return text end
  return (text:gsub("[A-Z]", string.lower))
end

-- A target with raw controls, blanks or "#", or whose path holds an escaped slash, backslash or control byte: no answer.
local function blocked(target)
  if target:find("^/[A-Za-z0-9/._~!$&'()*+,;=:@-]*$") then return false end
  if target:sub(1, 1) ~= "/" or target:find("[%c #\127-\255]") then return true end
  local path = target:match("^[^?]*")
  if path:find("\\", 1, true) then return true end
  if not path:find("%", 1, true) then return false end
  for hex in path:gmatch("%%(..?)") do
    local code = tonumber(hex, 16)
    if #hex < 2 or not hex:find("^%x%x$") then return true end
    if code == 0x2f or code == 0x5c or code < 0x20 or code == 0x7f then return true end
  end
  return path:find("%%$") ~= nil
end

local function canonical(path)
  if path:find("%", 1, true) then
    path = path:gsub("%%(%x%x)", function(hex) return string.char(tonumber(hex, 16)) end)
  end
  if path:find("//", 1, true) or path:find("/.", 1, true) then
    local out, last = {}, ""
    for part in path:gmatch("[^/]+") do
      last = part
      if part == ".." then out[#out] = nil elseif part ~= "." then out[#out + 1] = part end
    end
    local open = last == "" or last == "." or last == ".." or path:sub(-1) == "/"
    path = "/" .. table.concat(out, "/")
    if open and #out > 0 then path = path .. "/" end
  end
  return rules.fold and lower(path) or path
end

-- The parameters of these names, or nil where one is given twice; and how many there are.
local function given(query, names)
  local found, count = {}, 0
  for part in query:gmatch("[^&]+") do
    local name, value = part:match("^([^=]*)=?(.*)$")
    if names[name] then
      if found[name] then return nil, 0 end
      found[name], count = value, count + 1
    end
  end
  return found, count
end

local function tracked(query)
  local values = {}
  for part in query:gmatch("[^&]+") do
    local name, value = part:match("^([^=]+)=(.*)$")
    if name and rules.tracked[name] and not values[name] then
      local rest = value:gsub("%%%x%x", "")
      if not rest:find("[^A-Za-z0-9._~!$'()*+,;=:@/?-]") then values[name] = value end
    end
  end
  local out = {}
  for _, name in ipairs(rules.tracking) do
    if values[name] then out[#out + 1] = name .. "=" .. values[name] end
  end
  return table.concat(out, "&")
end

-- A reply is "status mode|own host|body|args|fragment", or an address alone; values: what the captures of a template hold.
local function respond(reply, host, query, values)
  if query == "" and not values and reply:byte() == 104 then return 301, reply end
  if reply:byte() == 104 then reply = "301t||" .. reply .. "||" end
  local code, mode, own, body, args, fragment = reply:match("^(%d+)(%a?)|([^|]*)|([^|]*)|([^|]*)|(.*)$")
  code = tonumber(code)
  if code == 0 or (own ~= "" and own == host) then return nil end
  if code == 410 then return 410, nil end
  if values then
    local function fill(text) return (text:gsub("{(%d)}", function(n) return values[tonumber(n)] end)) end
    body, args, fragment = fill(body), fill(args), fill(fragment)
  end
  local carried = ""
  if query ~= "" then
    if mode == "c" then carried = query elseif mode == "t" then carried = tracked(query) end
  end
  if args ~= "" and carried ~= "" then args = args .. "&" .. carried elseif args == "" then args = carried end
  if args ~= "" then body = body .. "?" .. args end
  if fragment ~= "" then body = body .. "#" .. fragment end
  return code, body
end

local function is_plain(capture, text)
  if capture.wide then text = text:gsub("%%2[Ee]", ".") end
  if capture.rest then
    if text:sub(1, 1) == "/" or text:find("//", 1, true) then return false end
    for part in text:gmatch("[^/]+") do
      if part == "." or part == ".." then return false end
    end
    return true
  end
  if capture.list then return capture.list[capture.exact and text or (rules.fold and lower(text) or text)] ~= nil end
  return text ~= "." and text ~= ".."
end

local function captured(template, path)
  local at = { (rules.fold and lower(path) or path):match(template.pattern) }
  if #at == 0 then return nil end
  local values = {}
  for n, capture in ipairs(template.captures) do
    local text = path:sub(at[2 * n - 1], at[2 * n] - 1)
    if not is_plain(capture, text) then return nil end
    values[n] = text
  end
  return values
end

-- The templates of a site that a path with this first segment may fit, in their order.
local heads = {}
for site, templates in pairs(rules.templates) do
  heads[site] = {}
  for _, template in ipairs(templates) do
    heads[site][rules.fold and lower(template.head) or template.head] = {}
  end
  heads[site][""] = heads[site][""] or {}
  for _, template in ipairs(templates) do
    local own = rules.fold and lower(template.head) or template.head
    for head, list in pairs(heads[site]) do
      if own == "" or own == head then list[#list + 1] = template end
    end
  end
end

local function by_head(site, head)
  local lists = heads[site]
  return lists and (lists[head] or lists[""]) or {}
end

local function by_template(site, path, query, host, beside)
  local head = path:match("^/([^/]*)")
  for _, template in ipairs(by_head(site, rules.fold and lower(head) or head)) do
    local values = captured(template, path)
    if values then
      if beside and not template.wild then
        local _, count = given(query, beside)
        if count > 0 then return nil end
      end
      local found, count = given(query, template.names)
      if not found then return nil end
      for _, rule in ipairs(template.rules) do
        local fits = #rule.params > 0 or count == 0
        for n, capture in ipairs(rule.params) do
          local value = found[capture.name]
          if not value or not value:find(capture.pattern) or not is_plain(capture, value) then fits = false break end
          values[#template.captures + n] = value
        end
        if fits then return respond(rule.reply, host, query, values) end
      end
      return nil
    end
  end
end

local function site_of(host)
  host = lower(host or "")
  if not rules.ports then host = host:gsub(":.*$", "") end
  local name, port = host:match("^([^:]*)(.*)$")
  host = name:gsub("%.+$", "") .. port
  return rules.sites[host], host
end

local function by_rules(site, host, target)
  local at = target:find("?", 1, true)
  local raw, query = target, ""
  if at then raw, query = target:sub(1, at - 1), target:sub(at + 1) end
  local path = raw
  -- Most paths are plain: nothing in them can harm, and only letter case may have to be folded.
  if not at and raw:find("^/[a-z0-9/_~.-]*$") and not raw:find("/[/.]") then
    path = raw
  elseif blocked(target) then
    return nil
  else
    path = canonical(raw)
  end
  local key = site .. path
  local group = rules.groups[key]
  if group then
    local found, count = given(query, group.names)
    if not found then return nil end
    if count > 0 then
      for rank, shape in ipairs(group.shapes) do
        local tail = ""
        for _, parameter in ipairs(shape) do
          local value = found[parameter]
          if not value then tail = nil break end
          tail = tail .. "&" .. parameter .. "=" .. value
        end
        local reply = tail and rules.ranked[rank][key .. "?" .. tail]
        if reply then return respond(reply, host, query) end
      end
      if not rules.wild[key] then
        return by_template(site, raw, query, host, group.names)
      end
      return by_template(site, raw, query, host)
    end
  end
  local reply = rules.plain[key]
  if reply then return respond(reply, host, query) end
  return by_template(site, raw, query, host, group and group.names)
end

-- Where a request goes that no rule answers: to its path in the form of the site.
local function settled(form, host, target, scheme)
  local path, query = target:match("^([^?]*)%??(.*)$")
  if path:gsub("%%%x%x", ""):find("[^A-Za-z0-9._~!$&'()*+,;=:@/-]") then return nil end
  if path == "/robots.txt" or path == "/favicon.ico" or path:sub(1, 13) == "/.well-known/" then return nil end
  for part in path:gmatch("[^/]+") do
    local dots = part:gsub("%%2[eE]", ".")
    if dots == "." or dots == ".." then return nil end
  end
  local wanted = path
  if form.lower and not path:find("%", 1, true) then wanted = lower(path) end
  local last = wanted:match("([^/]*)/*$")
  local escaped = last:find("%%2[eE]") or last:find("%%[3-7]%x")
  if form.slash ~= "" and not escaped and not last:find("%.%w%w?%w?%w?%w?$") then
    if form.slash == "always" and wanted:sub(-1) ~= "/" then wanted = wanted .. "/" end
    if form.slash == "never" and wanted:find("[^/]/+$") then wanted = wanted:match("^(.-)/+$") end
  end
  if wanted == path and host == form.host and (not form.wrong or lower(scheme or "") ~= form.wrong) then return nil end
  if query ~= "" then wanted = wanted .. "?" .. query end
  return 301, form.origin .. wanted
end

-- Status and Location for a request; nil where nothing answers. scheme: "http", "https", or anything else where it is not known.
function M.answer(host, target, scheme)
  local site = rules.sites[host or ""]
  if not site then site, host = site_of(host) end
  if not site then return nil end
  local status, location = by_rules(site, host, target)
  local form = rules.forms[site]
  if status or not form or blocked(target) then return status, location end
  return settled(form, host, target, scheme)
end

return M
