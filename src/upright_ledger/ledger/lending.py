"""Entries that somebody is looking at: lent for some minutes, so that two people who review are
shown different ones.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from upright_ledger.ledger.clock import now
from upright_ledger.ledger.db.connection import Connection

_MINUTES = 10


def lend(connection: Connection, entry: int, holder: str) -> bool:
    """Lend an entry to somebody, or for longer; whether nobody else has it."""
    until = (datetime.now(UTC) + timedelta(minutes=_MINUTES)).strftime("%Y-%m-%dT%H:%M:%SZ")
    connection.run(
        "INSERT INTO lent (entry, holder, until) VALUES (:entry, :holder, :until) "
        "ON CONFLICT (entry) DO UPDATE SET holder = excluded.holder, until = excluded.until "
        "WHERE lent.holder = excluded.holder OR lent.until < :now",
        entry=entry,
        holder=holder,
        until=until,
        now=now(),
    )
    found = connection.value("SELECT holder FROM lent WHERE entry = :entry", entry=entry)
    return bool(found == holder)


def lent_to_others(connection: Connection, holder: str) -> frozenset[int]:
    """The entries that others have."""
    query = "SELECT entry FROM lent WHERE holder <> :holder AND until >= :now"
    return frozenset(connection.column(query, holder=holder, now=now()))


def give_back(connection: Connection, holder: str, keep: int = 0) -> None:
    """Take back what somebody has, but one entry, and what was lent for long enough."""
    connection.run(
        "DELETE FROM lent WHERE (holder = :holder AND entry <> :keep) OR until < :now",
        holder=holder,
        keep=keep,
        now=now(),
    )
