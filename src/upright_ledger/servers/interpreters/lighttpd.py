"""lighttpd: the tables that our Lua logic works on, and that logic in Python, step by step."""

from __future__ import annotations

import re
from collections.abc import Mapping
from collections.abc import Set as AbstractSet
from functools import lru_cache
from typing import Any

from upright_ledger.core.rules.canonical_form import ALWAYS, NEVER
from upright_ledger.core.url.request_target import lower_ascii
from upright_ledger.servers.interpreters import (
    NotUnderstoodError,
    ServerRequest,
    ServerResponse,
    resolved,
    unescaped,
)
from upright_ledger.servers.interpreters.lua_data import Table

_CAPTURE = re.compile(r"\{([1-9])\}")
_REPLY = re.compile(r"(\d+)([A-Za-z]?)\|([^|]*)\|([^|]*)\|([^|]*)\|(.*)", re.DOTALL)
_TRACKED = re.compile(r"(?:[A-Za-z0-9._~!$'()*+,;=:@/?-]|%[0-9A-Fa-f]{2})*")
_UNSAFE_PATH = re.compile(r"\\|%(?![0-9A-Fa-f]{2})|%(?:2[Ff]|5[Cc]|[01][0-9A-Fa-f]|7[Ff])")
_SETTLED_PATH = re.compile(r"(?:[A-Za-z0-9._~!$&'()*+,;=:@/-]|%[0-9A-Fa-f]{2})*")
_NEEDED = {
    "cache", "fold", "ports", "sites", "tracking", "tracked", "forms", "plain", "groups", "wild",
    "ranked", "templates",
}  # fmt: skip


class LighttpdInterpreter:
    """rules: the table that the module of the rules returns."""

    def __init__(self, rules: Table) -> None:
        self._rules = rules
        _check_fields(rules, _NEEDED, {"scheme_from"})
        if set(_list(rules["tracking"])) != rules["tracked"].keys():
            raise NotUnderstoodError("what is carried is not what is looked for")
        for form in rules["forms"].values():
            _check_fields(form, {"origin", "host", "slash", "lower"}, {"wrong"})
        for templates in rules["templates"].values():
            for template in _list(templates):
                _check_template(template)

    def answer(self, request: ServerRequest) -> ServerResponse | None:
        rules = self._rules
        host = request.host if request.host in rules["sites"] else self._known(request.host)
        site = rules["sites"].get(host)
        if site is None or _blocked(request.raw):
            return None
        found = self._by_rules(site, host, request.raw)
        if found is None and site in rules["forms"]:
            header = rules.get("scheme_from", "")
            scheme = (
                _first_of(request.headers.get(header.lower(), "")) if header else request.scheme
            )
            found = _settled(rules["forms"][site], host, request.raw, scheme)
        return found and found._replace(cache=rules["cache"])

    def _known(self, host: str) -> str:
        name, colon, port = lower_ascii(host).partition(":")
        return name.rstrip(".") + (colon + port if self._rules["ports"] else "")

    def _by_rules(self, site: str, host: str, target: str) -> ServerResponse | None:
        rules = self._rules
        raw, _, query = target.partition("?")
        path = resolved(unescaped(raw), above_root=True)
        key = site + (lower_ascii(path) if rules["fold"] else path)
        group = rules["groups"].get(key)
        beside = None
        if group is not None:
            found = _given(query, group["names"])
            if found is None:
                return None
            if found:
                for rank, shape in enumerate(map(_list, _list(group["shapes"])), 1):
                    if all(name in found for name in shape):
                        tail = "".join(f"&{name}={found[name]}" for name in shape)
                        if reply := rules["ranked"][rank].get(f"{key}?{tail}"):
                            return self._respond(reply, host, query)
                return self._by_template(
                    site, raw, query, host, None if key in rules["wild"] else group["names"]
                )
            beside = group["names"]
        if reply := rules["plain"].get(key):
            return self._respond(reply, host, query)
        return self._by_template(site, raw, query, host, beside)

    def _by_template(
        self, site: str, path: str, query: str, host: str, beside: Table | None
    ) -> ServerResponse | None:
        fold = lower_ascii if self._rules["fold"] else str
        head = fold(path[1:].partition("/")[0])
        for template in _list(self._rules["templates"].get(site, {})):
            own = fold(template["head"])
            values = self._captured(template, path) if own in {"", head} else None
            if values is None:
                continue
            if beside and not template["wild"] and _given(query, beside) != {}:
                return None
            found = _given(query, template["names"])
            if found is None:
                return None
            for rule in _list(template["rules"]):
                params = _list(rule["params"])
                told = [found.get(capture["name"], "") for capture in params]
                fits = bool(params) or not found
                if fits and all(
                    _pattern(c["pattern"]).search(v) and self._is_plain(c, v)
                    for c, v in zip(params, told, strict=True)
                ):
                    return self._respond(rule["reply"], host, query, [*values, *told])
            return None
        return None

    def _captured(self, template: Table, path: str) -> list[str] | None:
        match = _pattern(template["pattern"]).match(
            lower_ascii(path) if self._rules["fold"] else path
        )
        if match is None:
            return None
        values = [path[slice(*match.span(n))] for n in range(1, match.re.groups + 1)]
        captures = _list(template["captures"])
        plain = all(self._is_plain(c, v) for c, v in zip(captures, values, strict=True))
        return values if plain else None

    def _is_plain(self, capture: Table, text: str) -> bool:
        if capture.get("wide"):
            text = re.sub("%2[Ee]", ".", text)
        if capture.get("rest"):
            return (
                not text.startswith("/")
                and "//" not in text
                and not {".", ".."} & set(text.split("/"))
            )
        if "list" in capture:
            folded = text if capture.get("exact") or not self._rules["fold"] else lower_ascii(text)
            return folded in capture["list"]
        return text not in {".", ".."}

    def _respond(
        self, reply: str, host: str, query: str, values: list[str] | None = None
    ) -> ServerResponse | None:
        match = _REPLY.fullmatch(reply if not reply.startswith("h") else f"301t||{reply}||")
        if match is None:
            raise NotUnderstoodError(f"no reply: {reply[:200]}")
        status, mode, own = int(match[1]), match[2], match[3]
        if status == 0 or (own and own == host):
            return None
        if status == 410:
            return ServerResponse(410)
        parts = [match[n] for n in (4, 5, 6)]
        if values is not None:
            named = [int(n) for part in parts for n in _CAPTURE.findall(part)]
            if any(n > len(values) for n in named):
                raise NotUnderstoodError(f"it names a capture that is not there: {reply[:200]}")
            parts = [_CAPTURE.sub(lambda m: values[int(m[1]) - 1], part) for part in parts]
        body, args, fragment = parts
        carried = {"c": query, "t": self._tracked(query)}.get(mode, "")
        args = "&".join(filter(None, (args, carried)))
        return ServerResponse(
            status, body + (f"?{args}" if args else "") + (f"#{fragment}" if fragment else "")
        )

    def _tracked(self, query: str) -> str:
        values: dict[str, str] = {}
        for part in query.split("&"):
            name, equals, value = part.partition("=")
            if (
                equals
                and name in self._rules["tracked"]
                and name not in values
                and _TRACKED.fullmatch(value)
            ):
                values[name] = value
        return "&".join(f"{n}={values[n]}" for n in _list(self._rules["tracking"]) if n in values)


def _check_fields(table: Table, needed: set[str], allowed: AbstractSet[str] = frozenset()) -> None:
    if not needed <= table.keys() <= needed | allowed:
        raise NotUnderstoodError(
            f"its fields are {', '.join(map(str, table))} instead of {', '.join(sorted(needed))}"
        )


def _check_template(template: Table) -> None:
    _check_fields(template, {"pattern", "captures", "head", "names", "wild", "rules"})
    captures = _list(template["captures"])
    if _pattern(template["pattern"]).groups != len(captures):
        raise NotUnderstoodError(
            f"its captures are not those of its pattern: {template['pattern']}"
        )
    for rule in _list(template["rules"]):
        _check_fields(rule, {"reply", "params"})
        captures += _list(rule["params"])
        if any(capture["name"] not in template["names"] for capture in _list(rule["params"])):
            raise NotUnderstoodError("a rule asks for a parameter that its template does not name")
    for capture in captures:
        _check_fields(capture, {"name", "pattern"}, {"rest", "list", "exact", "wide"})
        _pattern(capture["pattern"])


def _list(table: Table) -> list[Any]:
    """The values of a table that counts from 1. Raises NotUnderstoodError."""
    if list(table) != list(range(1, len(table) + 1)):
        raise NotUnderstoodError(f"no list: {str(table)[:200]}")
    return list(table.values())


def _blocked(target: str) -> bool:
    path = target.partition("?")[0]
    return not target.startswith("/") or bool(
        re.search(r"[\x00-\x20#\x7f-\xff]", target) or _UNSAFE_PATH.search(path)
    )


def _given(query: str, names: Mapping[str, Any]) -> dict[str, str] | None:
    found: dict[str, str] = {}
    for part in query.split("&"):
        name, _, value = part.partition("=")
        if part and name in names:
            if name in found:
                return None
            found[name] = value
    return found


@lru_cache(maxsize=1 << 12)
def _pattern(text: str) -> re.Pattern[str]:
    """A Lua pattern of literals, classes that repeat, and pairs of "()" around them."""
    out, at, is_open = [], 0, False
    while at < len(text):
        char = text[at]
        if text.startswith("()", at):
            out.append(")" if is_open else "(")
            is_open, at = not is_open, at + 2
        elif char == "[":
            end = text.index("]", at)
            out.append(re.sub("%(.)", r"\\\1", text[at : end + 1]))
            at = end + 1
        elif char == "%" and at + 1 < len(text) and not text[at + 1].isalnum():
            out.append(re.escape(text[at + 1]))
            at += 2
        elif char in "+?" or (char == "^" and at == 0) or (char == "$" and at == len(text) - 1):
            out.append(r"\Z" if char == "$" else char)
            at += 1
        elif char in "^$()%.[]*+-?":
            raise NotUnderstoodError(f"no pattern: {text[:200]}")
        else:
            out.append(re.escape(char))
            at += 1
    return re.compile("".join(out))


def _first_of(header: str) -> str:
    """The first value of a header, as the script that is called for each request takes it."""
    return re.split("[, \t]", header, maxsplit=1)[0]


def _settled(form: Table, host: str, target: str, scheme: str) -> ServerResponse | None:
    """Where a request goes that no rule answers."""
    path, _, query = target.partition("?")
    if not _SETTLED_PATH.fullmatch(path):
        return None
    if path in {"/robots.txt", "/favicon.ico"} or path.startswith("/.well-known/"):
        return None
    if any(re.sub("%2[eE]", ".", part) in {".", ".."} for part in path.split("/")):
        return None
    wanted = lower_ascii(path) if form["lower"] and "%" not in path else path
    last = wanted.rstrip("/").rpartition("/")[2]
    if form["slash"] and not re.search(r"%2[eE]|%[3-7][0-9A-Fa-f]|\.[A-Za-z0-9]{1,5}\Z", last):
        if form["slash"] == ALWAYS and not wanted.endswith("/"):
            wanted = f"{wanted}/"
        if form["slash"] == NEVER and wanted.rstrip("/"):
            wanted = wanted.rstrip("/")
    wrong = form.get("wrong", "")
    if wanted == path and host == form["host"] and not (wrong and lower_ascii(scheme) == wrong):
        return None
    return ServerResponse(301, form["origin"] + wanted + (f"?{query}" if query else ""))
