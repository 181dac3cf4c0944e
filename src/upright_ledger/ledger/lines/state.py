"""On what the lines of a ledger rest: settings, days of logs, and how they were worked out."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import xxhash

from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.lines.kept import find_kept, keep
from upright_ledger.settings.model import Settings

VERSION = 1
"""How lines are worked out. Ledgers in which they were worked out otherwise work them out anew."""

_NAME = "lines"


def are_of(connection: Connection, settings: Settings) -> bool:
    """Whether the lines were worked out by these settings, and as this program does it."""
    return bool(_kept(connection).get("settings") == _digest(settings))


def days_of_lines(connection: Connection) -> int:
    """How many days the logs covered when the lines were worked out."""
    return int(_kept(connection)["days"])


def keep_state(connection: Connection, settings: Settings, days: int) -> None:
    """Keep on what the lines rest now."""
    value = {"settings": _digest(settings), "days": days}
    keep(connection, _NAME, 0, value)


def _kept(connection: Connection) -> Mapping[str, Any]:
    found = find_kept(connection, _NAME)
    return found.value if found is not None else {}


def _digest(settings: Settings) -> str:
    """Of all settings on which lines rest."""
    sites = settings.sites
    told = repr((VERSION, sites.old, sites.new, settings.weights, settings.sections))
    return xxhash.xxh3_128_hexdigest(told.encode("utf-8", "surrogatepass"))
