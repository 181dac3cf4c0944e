"""The rows of a ledger's tables as any program reads them."""

from __future__ import annotations

from typing import Any

from sqlalchemy import create_engine, text
from sqlalchemy.pool import NullPool

from slow_lines import kept_lines, lines_of

_TABLES = (
    "sources", "spellings", "evidence", "observations", "answers", "entry_lines", "entry_sources",
)  # fmt: skip
WEIGHTS = {"traffic": 1.0, "linking_domains": 5.0, "linking_pages": 1.0, "impressions": 0.01}


def tables_of(url: str) -> dict[str, list[dict[str, Any]]]:
    """Table → its rows by column, of a database with this address."""
    engine = create_engine(url, poolclass=NullPool)
    with engine.connect() as connection:
        return {
            name: [dict(r) for r in connection.execute(text(f"SELECT * FROM {name}")).mappings()]
            for name in _TABLES
        }


def lines_stand(url: str) -> None:
    """The lines that a ledger keeps are those that its facts amount to."""
    tables = tables_of(url)
    assert kept_lines(tables) == lines_of(tables, WEIGHTS)
