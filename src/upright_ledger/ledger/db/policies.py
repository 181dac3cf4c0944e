"""Folding policies, and the settings that a team has together, as a ledger keeps them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.journal import Step
from upright_ledger.ledger.db.shapes import unpacked
from upright_ledger.settings.shared import TABLES, Shared


def stored_policy(connection: Connection) -> tuple[int, FoldingPolicy]:
    """The last folding policy, and its number."""
    query = "SELECT number, settings FROM policies ORDER BY number DESC LIMIT 1"
    ((number, settings),) = connection.rows(query)
    return int(number), FoldingPolicy.from_dict({"version": 1, **unpacked(settings)})


def shared_settings(connection: Connection) -> Shared | None:
    """The settings that a team has together; None where each file holds for itself."""
    rows = connection.rows("SELECT number, value FROM shared")
    if not rows:
        return None
    tables = {TABLES[number]: unpacked(value) for number, value in rows if number < len(TABLES)}
    return Shared(tables, stored_policy(connection)[1])


def share(step: Step, tables: Mapping[str, Any]) -> None:
    """Let settings be those of the team. tables: see `Shared`."""
    rows = [{"number": n, "value": tables.get(name)} for n, name in enumerate(TABLES)]
    step.put_many("shared", rows)
