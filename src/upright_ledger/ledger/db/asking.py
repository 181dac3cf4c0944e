"""Statements as both databases read them, given to the driver itself: for what is asked so often
that putting each together would take longer than the answer.
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any

from sqlalchemy import Connection


class Asking:
    """A connection that takes SQL as text, with values as in ":name", within its transaction."""

    def __init__(self, connection: Connection) -> None:
        self._driver: Any = connection.connection.driver_connection
        self._form = _percent if connection.dialect.name == "postgresql" else str

    def run(self, statement: str, **values: Any) -> Any:
        """Execute a statement; returns its cursor, which gives its rows as tuples."""
        return self._driver.execute(self._form(statement), values)

    def rows(self, statement: str, **values: Any) -> list[tuple[Any, ...]]:
        """The rows of a query."""
        found: list[tuple[Any, ...]] = self.run(statement, **values).fetchall()
        return found

    def value(self, statement: str, **values: Any) -> Any:
        """The first value of the first row of a query; None where there is none."""
        row = self.run(statement, **values).fetchone()
        return row[0] if row is not None else None


@lru_cache(maxsize=500)
def _percent(statement: str) -> str:
    """A statement with its values as PostgreSQL's driver wants them."""
    return re.sub(r"(?<![:\w]):(\w+)", r"%(\1)s", statement.replace("%", "%%"))
