"""Logs whose format the user gives, as the server's configuration has it: the format strings of
Apache (mod_log_config) and of nginx (ngx_http_log_module).
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any

import re2

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.errors import UsageError
from upright_ledger.formats.logs.log_line import Likeness, LogFormat, LogLine, NotALineError
from upright_ledger.formats.logs.meanings.log_roles import Places, line_of, parts_of, places_of

_APACHE = re.compile(r"%(?:[!<>]|\d{3},?)*(?:\{([^}]*)\})?(\^?[A-Za-z]{1,2}|%)")
_NGINX = re.compile(r"\$(?:\{(\w+)\}|(\w+))")
_LETTERS = {
    "h": "remote_addr", "a": "remote_addr", "r": "request", "s": "status", "t": "time_local",
    "m": "request_method", "U": "request_path", "q": "query_string", "v": "server_name",
    "V": "http_host",
}  # fmt: skip
"""Apache's directives that tell something here → the name that logs give it elsewhere."""
_HEADERS = {"host": "http_host", "referer": "http_referer", "user-agent": "http_user_agent"}
_ESCAPES = {'\\"': '"', "\\t": "\t", "\\\\": "\\"}
_TIMES = frozenset(["time_local", "time_iso8601", "msec"])
_PARTS = {
    "status": r"\d{3}|-",
    "request_method": r"[A-Z_-]*",
    "request_path": r'(?:/|https?://|\*|-)[^?\s"]*',
    "query_string": r'(?:\?[^\s"]*)?',
    "request": r"[A-Z_-]+ \S+(?: HTTP/[\d.]+)?|\S*",
}
"""What parts of a line look like that no quotes protect; Apache tells a query with its question
mark.
"""
_NEEDED = {
    "request": ("request", "%r, or %m and %U", "$request, or $request_method and $request_uri"),
    "status": ("status", "%>s", "$status"),
    "time": ("time", "%t", "$time_local"),
}


def given_format(text: str) -> LogFormat:
    """A format by its string. Raises UsageError for one that tells no requests."""
    pattern, places = _read(text)
    return LogFormat(lambda _: Likeness.SURE, lambda _sample, _hosts: _Parser(pattern, places))


class _Parser:
    """Reads lines of one format."""

    def __init__(self, pattern: Any, places: Places) -> None:
        self._pattern, self._places = pattern, places

    def __call__(self, line: str) -> LogLine | str:
        if not line.strip():
            return AsideClass.BLANK
        match = self._pattern.fullmatch(line.encode("utf-8", "replace").decode())
        if match is None:
            raise NotALineError("it does not fit the --log-format")
        return line_of(self._places, ["" if v == "-" else v for v in match.groups("")])


@lru_cache(maxsize=8)
def _read(text: str) -> tuple[Any, Places]:
    """The expression that takes a line apart, and what its parts mean."""
    text = re.sub(r'\\["t\\]', lambda m: _ESCAPES[m[0]], text.strip().strip("'"))
    is_apache = "%" in text and not _NGINX.search(text)
    names: list[str] = []
    pattern, at = "", 0
    for match in (_APACHE if is_apache else _NGINX).finditer(text):
        before, after = text[at : match.start()], text[match.end() : match.end() + 1]
        pattern += re2.escape(before)
        at = match.end()
        if match[0] == "%%":
            pattern += "%"
            continue
        name = _apache_name(match, len(names)) if is_apache else str(match[1] or match[2])
        names.append(name)
        brackets = is_apache and not match[1]
        pattern += f"({_value(name, before, after, brackets=brackets)})"
    pattern += re2.escape(text[at:]) + r"\s*"
    places = places_of([parts_of(name) for name in names])
    told = {
        "request": bool(places.request or places.target),
        "status": bool(places.status),
        "time": bool(places.time),
    }
    for what, (name, apache, nginx) in _NEEDED.items():
        if not told[what]:
            raise UsageError(
                f"the --log-format names no {name}",
                f"give it as the server's configuration has it, with {apache} or {nginx}",
            )
    return re2.compile(f"(?s){pattern}"), places


def _apache_name(match: re.Match[str], number: int) -> str:
    argument, letter = match[1] or "", match[2]
    if letter == "i":
        low = argument.lower()
        return _HEADERS.get(low, f"x_{low}")
    if letter in {"t", "h", "a"} or not argument:
        return _LETTERS.get(letter, f"directive_{number}")
    return f"directive_{number}"


def _value(name: str, before: str, after: str, *, brackets: bool) -> str:
    """The expression of one value, by what stands around it."""
    if before.endswith('"') and after == '"':
        return r'(?:[^"\\]|\\.)*'
    if name in _TIMES:
        if before.endswith("[") and after == "]":
            return r"[^\]]*"
        return r"\[[^\]]*\]|\S+" if brackets else r".*?"
    if name in _PARTS and not (name == "request" and after not in {"", " ", "\t"}):
        return _PARTS[name]
    if not after:
        return r".*"
    return r"\S*" if after in " \t" and not name.startswith("http_") else r".*?"
