"""Caddy's JSON routes in small: handlers, matchers, and a tree that looks a text up.

A vars_regexp tries the value of its key, the bare key, and "<nil>" for what is missing: so every
text to match begins with ":".
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import count, groupby
from typing import Any

from upright_ledger.core.rules.templates.template_syntax import escaped

LEAF = 128  # entries of one map
FAN = 8  # branches of one node

Route = dict[str, Any]
"""Part of Caddy's configuration."""

Entry = tuple[str, dict[str, Any]]
"""The text by which an entry is found in the tree, and its mapping."""


class RouteNames:
    """Names of groups, each used once."""

    def __init__(self) -> None:
        self._count = count(1)

    def __call__(self) -> str:
        return f"upright{next(self._count)}"


def handled(
    *handlers: Route,
    match: Mapping[str, Any] | None = None,
    group: str = "",
    not_: Mapping[str, Any] | None = None,
) -> Route:
    """A route: handlers, and when they run; of routes with one group name only the first that fits
    does.
    """
    route: Route = {"handle": list(handlers)}
    conditions = dict(match or {})
    if not_:
        conditions["not"] = [dict(not_)]
    if conditions:
        route["match"] = [conditions]
    if group:
        route["group"] = group
    return route


def subroute(routes: Sequence[Route]) -> Route:
    """A handler that runs routes of its own."""
    return {"handler": "subroute", "routes": list(routes)}


def put(**values: str) -> Route:
    """A handler that sets variables of ours."""
    return {"handler": "vars"} | {f"upright_{k}": v for k, v in values.items()}


def var(name: str) -> str:
    """The placeholder of a variable of ours."""
    return f"{{http.vars.upright_{name}}}"


def matches(subject: str, pattern: str, name: str = "") -> Route:
    """Matches a text with placeholders from its beginning."""
    anchored = f"^:{pattern.removeprefix('^')}"
    return {
        "vars_regexp": {f":{subject}": ({"name": name} if name else {}) | {"pattern": anchored}}
    }


def equals(subject: str, value: str) -> Route:
    """Matches one text."""
    return matches(subject, f"^{escaped(value)}$")


@dataclass(frozen=True)
class Lookup:
    """A tree of routes that looks up one of our variables and puts what it finds into a
    placeholder.
    """

    variable: str
    target: str
    names: RouteNames

    def tree(self, entries: Sequence[Entry], depth: int = 0) -> list[Route]:
        """The routes. entries: in order of their texts, which share their first `depth`
        characters.
        """
        if len(entries) <= LEAF:
            mappings = [e for _, e in entries]
            where = {"source": var(self.variable), "destinations": [self.target]}
            return [handled({"handler": "map", **where, "mappings": mappings, "defaults": [""]})]
        texts = [t for t, _ in entries]
        # Sorted texts share what the first and the last of them share.
        while len(texts[0]) > depth and texts[-1][depth : depth + 1] == texts[0][depth]:
            depth += 1
        group, routes = self.names(), []
        prefix = escaped(texts[0][:depth])
        if ended := [e for e in entries if len(e[0]) == depth]:
            routes.append(self._branch(f"{prefix}$", ended, depth, group))
        for bucket in _buckets([e for e in entries if len(e[0]) > depth], depth):
            chars = sorted({e[0][depth] for e in bucket})
            spelled = (escaped(c) for c in chars)
            routes.append(self._branch(f"{prefix}(?:{'|'.join(spelled)})", bucket, depth, group))
        return routes

    def _branch(self, pattern: str, entries: Sequence[Entry], depth: int, group: str) -> Route:
        return handled(
            subroute(self.tree(entries, depth)),
            match=matches(var(self.variable), f"^{pattern}"),
            group=group,
        )


def _buckets(entries: Sequence[Entry], depth: int) -> Iterator[list[Entry]]:
    """Entries in a few portions, none of which is cut between texts with the same character at
    `depth`.
    """
    size = max(1, len(entries) // FAN)
    bucket: list[Entry] = []
    for _, same in groupby(entries, key=lambda e: e[0][depth]):
        members = list(same)
        if bucket and len(bucket) + len(members) > size:
            yield bucket
            bucket = []
        bucket += members
    if bucket:
        yield bucket


HOST, URI, QUERY = (
    "{http.request.hostport}",
    "{http.request.orig_uri}",
    "{http.request.uri.query}",
)


def host_pattern(host: str) -> str:
    """A regular expression for a host, with or without a closing dot."""
    name, colon, port = host.partition(":")
    return f"{escaped(name, fold=True)}[.]*{colon}{port}"
