"""On what the lines of a ledger rest: settings, days of logs, and how they were worked out."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

import xxhash

from upright_ledger.core.inventory.evidence import Weights
from upright_ledger.core.inventory.sections import Sections
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.policies import stored_policy
from upright_ledger.ledger.lines.kept import find_kept, keep
from upright_ledger.ledger.tables.sources import days_of_exports
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


class Basis(NamedTuple):
    """What all lines rest on besides facts. days: source → how many its period has; counting:
    sources that count; log_days: how many days all logs cover; families: entry → its own.
    """

    days: Mapping[int, int]
    counting: frozenset[int]
    index_files: frozenset[str]
    sections: Sections
    weights: Weights
    log_days: int
    families: Mapping[int, str]


def basis_of(
    connection: Connection, settings: Settings, log_days: int, families: Mapping[int, str]
) -> Basis:
    """What all lines rest on now."""
    return Basis(
        {source: len(days) for source, days in days_of_exports(connection).items()},
        frozenset(connection.column("SELECT id FROM sources WHERE NOT withdrawn")),
        stored_policy(connection)[1].index_set,
        Sections(settings.sections),
        settings.weights,
        log_days,
        families,
    )
