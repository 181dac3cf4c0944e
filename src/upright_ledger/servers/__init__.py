"""Server dialects: translations of a rule set into what a real server reads.

A dialect is one module behind `Dialect`, and one line of `DIALECTS`.
"""

from __future__ import annotations

from importlib import import_module

from upright_ledger.errors import UsageError
from upright_ledger.servers.protocol import Dialect

DIALECTS = {
    "nginx": "upright_ledger.servers.nginx",
    "apache": "upright_ledger.servers.apache",
    "caddy": "upright_ledger.servers.caddy",
    "haproxy": "upright_ledger.servers.haproxy",
    "lighttpd": "upright_ledger.servers.lighttpd",
}


def load_dialect(name: str) -> Dialect:
    """The dialect of that name; raises UsageError for an unknown one."""
    if name not in DIALECTS:
        raise UsageError(f"no server is called {name!r}", f"choose one of: {', '.join(DIALECTS)}")
    dialect: Dialect = import_module(DIALECTS[name]).DIALECT
    return dialect
