-- Upright Ledger: called by mod_magnet for each request; see README.md.
local module = package.loaded["upright_redirects"]
if not module then
  local here = debug.getinfo(1, "S").source:match("^@?(.*/)") or "./"
  package.path = here .. "?.lua;" .. package.path
  module = require("upright_redirects")
end
local r = lighty.r
local scheme = r.req_attr["uri.scheme"]
if module.scheme_from then scheme = (r.req_header[module.scheme_from] or ""):match("^[^, \t]*") end
local status, location = module.answer(r.req_header["Host"], r.req_attr["request.orig-uri"], scheme)
if not status then return end
if location then r.resp_header["Location"] = location end
if module.cache ~= "" then r.resp_header["Cache-Control"] = module.cache end
return status
