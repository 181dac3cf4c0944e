"""Folding policies, as a ledger keeps them."""

from __future__ import annotations

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.shapes import unpacked


def stored_policy(connection: Connection) -> tuple[int, FoldingPolicy]:
    """The last folding policy, and its number."""
    query = "SELECT number, settings FROM policies ORDER BY number DESC LIMIT 1"
    ((number, settings),) = connection.rows(query)
    return int(number), FoldingPolicy.from_dict({"version": 1, **unpacked(settings)})
