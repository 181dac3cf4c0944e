"""Folding policies, as a ledger keeps them."""

from __future__ import annotations

from sqlalchemy import Connection, select

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.ledger.db import schema


def stored_policy(connection: Connection) -> tuple[int, FoldingPolicy]:
    """The last folding policy, and its number."""
    row = connection.execute(
        select(schema.policies).order_by(schema.policies.c.number.desc()).limit(1)
    ).one()
    return int(row.number), FoldingPolicy.from_dict({"version": 1, **row.settings})
