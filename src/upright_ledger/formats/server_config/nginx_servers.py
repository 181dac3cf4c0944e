"""Which server of an nginx file a request meets."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from upright_ledger.core.rules.imported.rule import (
    HOST,
    Condition,
    PatternNotUnderstoodError,
    alternatives,
    compiled,
)
from upright_ledger.formats.server_config.nginx import NginxPlace
from upright_ledger.formats.server_config.nginx_config import (
    MapTable,
    Statement,
    all_of,
    read_tree,
    tables_of,
)
from upright_ledger.formats.server_config.nginx_expressions import pattern_of
from upright_ledger.formats.server_config.nginx_places import ServerReader
from upright_ledger.formats.server_config.rules_read import (
    HTTP_AND_HTTPS,
    NOTHING_SAID,
    SCHEME_OF_PORT,
    RulesRead,
    ServerSetup,
    only_by,
)

_NOT_KEYS = {
    "add_header", "access_log", "error_log", "expires", "index", "root", "listen", "include",
    "default_type", "charset", "log_not_found", "default",
}  # fmt: skip


@dataclass
class _Server:
    """names: those it is for, in lower case. schemes: by which it is asked. defaults: by which for
    all other hosts, too. doubt: why it is not understood, if so.
    """

    statement: Statement
    names: tuple[str, ...]
    schemes: tuple[str, ...]
    defaults: tuple[str, ...]
    doubt: str = ""


def read_nginx(text: str, name: str, given: ServerSetup | None = None) -> RulesRead:
    """Read a configuration, a part of one, or the inside of a map. Raises NotUnderstoodError where
    its brackets do not close.
    """
    statements = read_tree(text)
    tables = tables_of(statements)
    tops = [
        s for top in (statements, *(s.inner for s in statements if s.name == "http")) for s in top
    ]
    sections = [s for s in tops if s.name == "server" and s.block is not None]
    around = [s for s in tops if s.block is None]
    reader = ServerReader(name, tables, given or NOTHING_SAID, around)
    if not sections:
        if _is_bare_map(statements):
            _read_bare_map(reader, statements)
        elif statements and all(s.name == "map" for s in statements):
            for table in filter(
                _leads_on, tables.values()
            ):  # the rule that asks it stands elsewhere
                reader.map(table)
        else:
            names = _names(statements)
            reader.server(
                statements,
                NginxPlace(name, tuple(_host_conditions(names)), server=_first(names)),
                0,
            )
        return reader.out
    only = {p for s in sections for p in _ports(s)}
    servers = [_server(s, len(only) == 1) for s in sections]
    turns = _in_turn(servers)
    for server, conditions, doubt in turns:
        place = NginxPlace(name, conditions, server=_first(server.names))
        if doubt:
            for s in (server.statement, *all_of(server.statement.inner)):
                if s.name in {"server", "return", "rewrite"}:
                    reader.miss(s, doubt)
        reader.server([] if doubt else server.statement.inner, place, server.statement.line)
    asked = {id(server) for server, _, _ in turns}
    for server in servers:
        if id(server) not in asked:
            for s in all_of(server.statement.inner):
                if s.name in {"return", "rewrite"}:
                    reader.miss(s, "its server has no name, and is not the first of its port")
    return reader.out


def _server(s: Statement, alone: bool) -> _Server:
    """alone: whether no server of the file has another port."""
    names, schemes = _names(s.inner), _schemes(s, alone)
    doubt = "" if schemes else "it is not known whether the port of its server speaks HTTP or HTTPS"
    for name in names:
        try:
            compiled(pattern_of(name[1:]) if name.startswith("~") else "", nocase=True)
        except PatternNotUnderstoodError as error:  # it may be for any host
            return _Server(
                s, (), schemes, (), f"the name {name[:60]} of its server is not understood: {error}"
            )
    return _Server(s, names, schemes, _defaults(s, schemes), doubt)


def _names(statements: Sequence[Statement]) -> tuple[str, ...]:
    return tuple(
        w if w.startswith("~") else w.lower()
        for s in statements
        if s.name == "server_name"
        for w in s.words[1:]
        if w not in {"_", ""}
    )


def _first(names: Sequence[str]) -> str:
    return (
        names[0]
        if names and not re.match(r"[~.*]", names[0]) and not names[0].endswith("*")
        else ""
    )


def _ports(s: Statement) -> list[str]:
    words = [
        x.words[1]
        for x in s.inner
        if x.name == "listen" and len(x.words) > 1 and not x.words[1].startswith("unix:")
    ]
    return [m[1] if (m := re.search(r"(?:^|:)(\d+)$", w)) else "80" for w in words] or ["80"]


def _schemes(s: Statement, alone: bool) -> tuple[str, ...]:
    """By which schemes a server is asked; none where its ports do not tell. What has one port alone
    is for both.
    """
    ports = _ports(s)
    secure = {
        p
        for p, x in zip(ports, (x for x in s.inner if x.name == "listen"), strict=False)
        if "ssl" in x.words[2:]
    }
    if alone and not secure:
        return HTTP_AND_HTTPS
    known = {"https" if p in secure else SCHEME_OF_PORT.get(p, "") for p in ports}
    return () if "" in known else tuple(x for x in HTTP_AND_HTTPS if x in known)


def _defaults(s: Statement, schemes: Sequence[str]) -> tuple[str, ...]:
    """The schemes for which a server is said to answer all other hosts."""
    listens = [
        x.words
        for x in s.inner
        if x.name == "listen" and len(x.words) > 1 and not x.words[1].startswith("unix:")
    ]
    chosen = {
        p
        for p, words in zip(_ports(s), listens, strict=False)
        if {"default_server", "default"} & set(words[2:])
    }
    if chosen == set(_ports(s)):
        return tuple(schemes)
    return tuple(x for x in schemes if x in {SCHEME_OF_PORT.get(p) for p in chosen})


def _in_turn(servers: Sequence[_Server]) -> list[tuple[_Server, tuple[Condition, ...], str]]:
    """Servers with the conditions of their requests and why they are not understood there, if so:
    by name, and at last what is for all others.
    """
    named, others = [], []
    head = {x: next((s for s in servers if x in s.schemes), None) for x in HTTP_AND_HTTPS}
    chosen = {x for s in servers for x in s.defaults}
    names = _Names(servers)
    for number, server in enumerate(servers):
        first = [x for x in server.schemes if head[x] is server and x not in chosen]
        rest = server.defaults or (() if server.names else tuple(first))
        elsewhere = tuple(names.better(number))
        if server.names and (not rest or set(rest) != set(server.schemes)):
            named.append(
                (
                    server,
                    (*only_by(server.schemes), *_host_conditions(server.names), *elsewhere),
                    server.doubt,
                )
            )
            if rest:
                others.append(
                    (server, only_by(rest), "it is the default of one of its ports alone")
                )
        elif rest or server.doubt:
            others.append((server, (*only_by(rest), *elsewhere), server.doubt))
    return [*named, *others]


class _Names:
    """The names of all servers, by what they end with, to find those that may be for a host of
    another one, too.
    """

    def __init__(self, servers: Sequence[_Server]) -> None:
        self._ends: dict[str, list[tuple[str, int]]] = defaultdict(list)
        self._all = [
            (name, number) for number, server in enumerate(servers) for name in server.names
        ]
        self._servers = servers
        for name, number in self._all:
            parts = name.lstrip("*.").split(".") if _rank(name)[0] < 2 else []
            for at in range(len(parts)):
                self._ends[".".join(parts[at:])].append((name, number))

    def _alike(self, name: str) -> Iterable[tuple[str, int]]:
        """Names that may be for one of the hosts of a name, without wildcards behind and patterns
        where those are no better.
        """
        return self._ends[name.lstrip("*.")] if _rank(name)[0] < 2 else self._all

    def better(self, number: int) -> list[Condition]:
        """Conditions that no other server has a name for the host that comes before those of this
        one that fit it.
        """
        server = self._servers[number]
        worst = max((_rank(own) for own in server.names), default=(9, 0))
        found = {}
        for own in server.names:
            for name, other in self._alike(own):
                shared = other != number and set(self._servers[other].schemes) & set(server.schemes)
                if shared and (_rank(name) < worst or (name == own and other < number)):
                    found[name] = replace(_host_conditions([name])[0], negate=True)
        return list(found.values())


def _rank(name: str) -> tuple[int, int]:
    """Exact names come first, then wildcards before and behind, the longest first, and patterns."""
    kind = (
        3
        if name.startswith("~")
        else 2
        if name.endswith("*")
        else 1
        if name[:1] in {"*", "."}
        else 0
    )
    return kind, -len(name) if kind in {1, 2} else 0


def _host_conditions(names: Sequence[str]) -> list[Condition]:
    found = []
    for name in names:
        if name.startswith("~"):
            pattern = pattern_of(name[1:])
        elif name.startswith("."):
            pattern = rf"^(?:.+\.)?{re.escape(name[1:])}$"
        elif "*" in name:
            pattern = "^" + re.escape(name).replace(r"\*", ".+") + "$"
        else:
            found.append(Condition(HOST, name, literal=True, nocase=True))
            continue
        found.append(Condition(HOST, pattern, nocase=True))
    return alternatives(found)


def _is_bare_map(statements: Sequence[Statement]) -> bool:
    """Whether a file is what a map includes: keys and values, and nothing else that could be a
    rule.
    """
    plain = [s for s in statements if s.name not in _NOT_KEYS]
    return bool(plain) and all(
        s.block is None
        and len(s.words) == 2
        and s.name not in {"return", "server_name", "set", "break"}
        for s in plain
    )


def _leads_on(table: MapTable) -> bool:
    """Whether most entries of a map are places to go to."""
    places = sum(value.startswith(("/", "http://", "https://")) for _, _, value in table.entries)
    return places * 2 > len(table.entries)


def _read_bare_map(reader: ServerReader, statements: Sequence[Statement]) -> None:
    entries = [
        (s.line, s.words[0], s.words[1])
        for s in statements
        if len(s.words) == 2 and s.name not in _NOT_KEYS
    ]
    reader.map(MapTable(0, "$uri", entries))
