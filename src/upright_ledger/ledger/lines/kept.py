"""What long work found, kept with the step of the journal at which it was true."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any, NamedTuple

from upright_ledger.ledger.db.connection import Connection


class Kept(NamedTuple):
    """A result. step: the last one of the journal when it was found; 0 for what each step brings up
    to date.
    """

    step: int
    value: Mapping[str, Any]


def keep(connection: Connection, name: str, step: int, value: Mapping[str, Any]) -> None:
    """Keep a result in place of the one of that name."""
    connection.run("DELETE FROM kept WHERE name = :name", name=name)
    told = json.dumps(value)
    connection.run(
        "INSERT INTO kept VALUES (:name, :step, :value)", name=name, step=step, value=told
    )


def find_kept(connection: Connection, name: str) -> Kept | None:
    """The result of that name, or None."""
    rows = connection.rows("SELECT step, value FROM kept WHERE name = :name", name=name)
    for step, value in rows:
        return Kept(step, json.loads(value) if isinstance(value, str) else value)
    return None
