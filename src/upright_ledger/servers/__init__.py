"""Server dialects: translations of a rule set into what a real server reads.

A dialect is one package behind `Dialect`, and one line of `DIALECTS`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from importlib import import_module

from upright_ledger.errors import UsageError
from upright_ledger.servers.import_list import CSV, JSON_LINES, ListDialect, Profile
from upright_ledger.servers.protocol import Dialect, ServerDialect

DIALECTS = {
    "nginx": "upright_ledger.servers.nginx.dialect",
    "apache": "upright_ledger.servers.apache.dialect",
    "htaccess": "upright_ledger.servers.apache.htaccess",
    "caddy": "upright_ledger.servers.caddy.dialect",
    "haproxy": "upright_ledger.servers.haproxy.dialect",
    "lighttpd": "upright_ledger.servers.lighttpd.dialect",
}


LISTS = {CSV: Profile(CSV), JSON_LINES: Profile(JSON_LINES, JSON_LINES)}
"""Profiles that every ledger has."""


def load_dialect(
    name: str,
    profiles: Sequence[Profile] = (),
    worth: Callable[[], Mapping[tuple[str, str], float]] = dict,
    home: str = "",
) -> Dialect:
    """The dialect of that name, a profile's name included; raises UsageError for an unknown one.
    worth, home: see `ListDialect`; the first is asked for a list alone.
    """
    named = LISTS | {p.name: p for p in profiles}
    if name in named:
        return ListDialect(named[name], worth(), home)
    if name not in DIALECTS:
        raise UsageError(
            f"no server is called {name!r}", f"choose one of: {', '.join([*DIALECTS, *named])}"
        )
    return load_server(name)


def load_server(name: str) -> ServerDialect:
    """The dialect of a server that is known."""
    dialect: ServerDialect = import_module(DIALECTS[name]).DIALECT
    return dialect
