"""Settings that a team has together: what decides the meaning of addresses and answers stands in
the database, so that two people cannot fold or judge differently. Their files keep what is
personal, and may propose other settings.
"""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Any, NamedTuple

import msgspec

from upright_ledger.core.inventory.normalisation import FoldingPolicy

TABLES = (
    "site",
    "new",
    "sections",
    "waves",
    "value",
    "form",
    "build",
    "items",
    "links",
    "origins",
    "retention",
    "profile",
)
"""Tables of the file, in the order in which the database numbers them. [folding] stands there as
the policy.
"""
_FOLDING = "folding"


class Shared(NamedTuple):
    """What a team has together. tables: name → the table, as TOML has it; None: it is not there."""

    tables: Mapping[str, Any]
    policy: FoldingPolicy

    @property
    def folding(self) -> dict[str, Any]:
        """The policy as a table of the file."""
        return {k: v for k, v in self.policy.as_dict().items() if k != "version"}


def tables_of(document: Mapping[str, Any]) -> dict[str, Any]:
    """The tables of a file that a team has together."""
    return {name: document.get(name) for name in TABLES}


def tables_in(path: Path) -> dict[str, Any]:
    """As `tables_of`, of a file that can be read."""
    return tables_of(_document(path))


def _document(path: Path) -> dict[str, Any]:
    return tomllib.loads(path.read_text(encoding="utf-8-sig"))


def with_shared(document: Mapping[str, Any], shared: Shared) -> dict[str, Any]:
    """A file's tables, with those of the team in their places."""
    found = {k: v for k, v in document.items() if k not in TABLES}
    found |= {name: table for name, table in shared.tables.items() if table is not None}
    return found | {_FOLDING: shared.folding}


def differing(path: Path, shared: Shared, policy: FoldingPolicy) -> list[str]:
    """The tables of a file that say otherwise than the team's. policy: that of the file."""
    mine = tables_in(path)
    found = [n for n in TABLES if _plain(mine[n]) != _plain(shared.tables.get(n))]
    return found + ([_FOLDING] if policy != shared.policy else [])


def _plain(table: Any) -> Any:
    """A table without what says nothing: an empty one is none."""
    return msgspec.json.decode(msgspec.json.encode(table)) or None
