"""Rules for lighttpd, in Lua."""
