"""Caddy: JSON routes with the handlers and matchers of its standard modules (modules/caddyhttp).
Texts are Unicode here.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any
from urllib.parse import quote

from upright_ledger.servers.interpreters import (
    NotUnderstoodError,
    ServerRequest,
    ServerResponse,
    compiled,
    in_bytes,
    unescaped,
)

_PLACEHOLDER = re.compile(r"\{([a-z][^{}\s]*)\}")
_PATH_SAFE = "$&+,/:;=@!'()*[]~"


@dataclass
class _State:
    """One request under way. path: decoded; raw_path: as it is spelled, or empty where that is the
    usual way.
    """

    request: ServerRequest
    path: str
    raw_path: str
    query: str
    variables: dict[str, str] = field(default_factory=dict)
    captured: dict[str, str] = field(default_factory=dict)
    maps: list[Mapping[str, Any]] = field(default_factory=list)
    headers: dict[str, str] = field(default_factory=dict)

    @property
    def escaped_path(self) -> str:
        if self.raw_path and re.fullmatch(
            r"(?:[A-Za-z0-9\-._~$&+,/:;=@!'()*\[\]]|%[0-9A-Fa-f]{2})*", self.raw_path
        ):
            return self.raw_path
        return quote(self.path.encode("utf-8", "surrogateescape"), safe=_PATH_SAFE)


class CaddyInterpreter:
    """routes: what stands in the file, as JSON gives it."""

    def __init__(self, routes: Any) -> None:
        _check_routes(routes)
        self._routes = routes

    def answer(self, request: ServerRequest) -> ServerResponse | None:
        path, _, query = request.target.partition("?")
        decoded = _decoded(path)
        if decoded is None:
            return None  # Go refuses the request before any route sees it
        state = _State(request, decoded, path, query)
        found = _run(self._routes, state)
        if (
            found is None
            and state.escaped_path != _State(request, decoded, path, query).escaped_path
        ):
            raise NotUnderstoodError(f"the request goes on as {state.escaped_path!r}")
        return found


def _decoded(path: str) -> str | None:
    if re.search("%(?![0-9A-Fa-f]{2})", path):
        return None
    return unescaped(in_bytes(path)).encode("latin-1").decode("utf-8", "surrogateescape")


def _check_routes(routes: Any) -> None:
    """Raises NotUnderstoodError for anything that is none of the routes, handlers and matchers
    known here.
    """
    if not isinstance(routes, list):
        raise NotUnderstoodError("routes are a list")
    for route in routes:
        if (
            not isinstance(route, dict)
            or not route.keys() <= {"handle", "match", "group"}
            or "handle" not in route
        ):
            raise NotUnderstoodError(f"no route: {str(route)[:200]}")
        for matchers in route.get("match", []):
            if not matchers.keys() <= _MATCHERS.keys():
                raise NotUnderstoodError(f"no matcher: {', '.join(matchers)}")
            for pattern in _patterns(matchers):
                _regex(pattern)
        for handler in route["handle"]:
            if handler.get("handler") not in _HANDLERS:
                raise NotUnderstoodError(f"no handler: {str(handler)[:200]}")
            if handler["handler"] == "subroute":
                _check_routes(handler["routes"])


def _patterns(matchers: Mapping[str, Any]) -> Iterable[str]:
    for told in matchers.get("vars_regexp", {}).values():
        yield told["pattern"]
    if "path_regexp" in matchers:
        yield matchers["path_regexp"]["pattern"]


@lru_cache(maxsize=1 << 14)
def _regex(pattern: str) -> re.Pattern[str]:
    return compiled(pattern)


def _run(routes: list[dict[str, Any]], state: _State) -> ServerResponse | None:
    """What the routes answer; of those with one group only the first that matches runs."""
    done: set[str] = set()
    for route in routes:
        group = route.get("group", "")
        if group in done:
            continue
        alternatives = route.get("match", [])
        if alternatives and not any(
            all(_MATCHERS[k](v, state) for k, v in m.items()) for m in alternatives
        ):
            continue
        if group:
            done.add(group)
        for handler in route["handle"]:
            if found := _HANDLERS[handler["handler"]](handler, state):
                return found
    return None


def _expand(text: str, state: _State) -> str:
    return _PLACEHOLDER.sub(lambda m: _value(m[1], state), text)


def _value(name: str, state: _State) -> str:
    for table in state.maps:
        if f"{{{name}}}" in table["destinations"]:
            at = table["destinations"].index(f"{{{name}}}")
            asked = _expand(table["source"], state)
            for mapping in table["mappings"]:
                if mapping["input"] == asked:
                    return _expand(mapping["outputs"][at], state)
            return str(table["defaults"][at])
    if name.startswith("http.vars."):
        return state.variables.get(name[10:], "")
    if name.startswith("http.regexp."):
        return state.captured.get(name[12:], "")
    if name.startswith("http.request.header."):
        return state.request.headers.get(name[20:].lower(), "")
    match name:
        case "http.request.hostport":
            return state.request.host
        case "http.request.orig_uri":
            return state.request.target
        case "http.request.uri.query":
            return state.query
        case "http.request.uri.path":
            return state.path
        case "http.request.scheme":
            return state.request.scheme
        case _ if name.startswith("upright_"):
            return ""  # no map of that name was asked
    raise NotUnderstoodError(f"there is no placeholder {{{name}}}")


def _matches(told: Mapping[str, str], text: str, state: _State) -> bool:
    match = _regex(told["pattern"]).search(text)
    if match is None:
        return False
    head = f"{told['name']}." if told.get("name") else ""
    state.captured |= {
        f"{head}{n}": part or "" for n, part in enumerate((match[0], *match.groups()))
    }
    return True


def _vars_regexp(told: Mapping[str, Any], state: _State) -> bool:
    """The variable that the key names is no variable of ours, so it is "<nil>"; then the key itself
    counts.
    """
    return any(
        _matches(r, "<nil>", state) or _matches(r, _expand(key, state), state)
        for key, r in told.items()
    )


def _path_regexp(told: Mapping[str, str], state: _State) -> bool:
    path = posixpath.normpath(f"/{state.path}".replace("//", "/", 1))
    path = f"/{path.lstrip('/')}"
    return _matches(told, path + ("/" if state.path.endswith("/") and path != "/" else ""), state)


_MATCHERS: Mapping[str, Callable[[Any, _State], bool]] = {
    "vars_regexp": _vars_regexp,
    "path_regexp": _path_regexp,
}


def _vars(handler: Mapping[str, str], state: _State) -> None:
    state.variables |= {k: _expand(v, state) for k, v in handler.items() if k != "handler"}


def _map(handler: Mapping[str, Any], state: _State) -> None:
    state.maps.append(handler)


def _rewrite(handler: Mapping[str, Any], state: _State) -> None:
    if "uri" in handler:
        path, _, query = _expand(handler["uri"], state).partition("?")
        state.path, state.raw_path, state.query = _decoded(path) or path, path, query
    for told in handler.get("path_regexp", []):
        changed = _regex(told["find"]).sub(re.escape(told["replace"]), state.escaped_path)
        state.path, state.raw_path = _decoded(changed) or changed, changed


def _respond(handler: Mapping[str, Any], state: _State) -> ServerResponse:
    headers = {k.lower(): _expand(v[0], state) for k, v in handler.get("headers", {}).items()}
    headers = state.headers | headers
    status = _expand(str(handler["status_code"]), state)
    return ServerResponse(
        int(status), headers.get("location", ""), headers.get("cache-control", "")
    )


def _put_headers(handler: Mapping[str, Any], state: _State) -> None:
    state.headers |= {
        k.lower(): _expand(v[0], state) for k, v in handler["response"]["set"].items()
    }


def _subroute(handler: Mapping[str, Any], state: _State) -> ServerResponse | None:
    return _run(handler["routes"], state)


def _fail(handler: Mapping[str, Any], state: _State) -> ServerResponse:
    return ServerResponse(handler["status_code"], "", state.headers.get("cache-control", ""))


_HANDLERS: Mapping[str, Callable[[Any, _State], ServerResponse | None]] = {
    "vars": _vars,
    "map": _map,
    "rewrite": _rewrite,
    "headers": _put_headers,
    "subroute": _subroute,
    "static_response": _respond,
    "error": _fail,
}
