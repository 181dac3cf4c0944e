"""What long work found, kept with the step of the journal at which it was true."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple

from sqlalchemy import Connection, delete, insert, select

from upright_ledger.ledger.db.derived import kept


class Kept(NamedTuple):
    """A result. step: the last one of the journal when it was found; 0 for what each step brings up
    to date.
    """

    step: int
    value: Mapping[str, Any]


def keep(connection: Connection, name: str, step: int, value: Mapping[str, Any]) -> None:
    """Keep a result in place of the one of that name."""
    connection.execute(delete(kept).where(kept.c.name == name))
    connection.execute(insert(kept).values(name=name, step=step, value=dict(value)))


def find_kept(connection: Connection, name: str) -> Kept | None:
    """The result of that name, or None."""
    row = connection.execute(select(kept.c.step, kept.c.value).where(kept.c.name == name)).first()
    return Kept(row.step, row.value) if row is not None else None
