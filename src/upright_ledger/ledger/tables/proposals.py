"""What matching proposed."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from sqlalchemy import ColumnElement, Connection, delete, exists, func, select, true

from upright_ledger.ledger.db import schema
from upright_ledger.ledger.db.bulk import batches, insert_many

KEPT_VERSIONS = 2


@dataclass(frozen=True, slots=True)
class StoredProposal:
    """One possible destination of an entry. confidence: 1 for the same address, 0 for a fallback,
    between for a guess.
    """

    entry: int
    rank: int
    destination: str
    confidence: float
    reasons: tuple[str, ...]

    @property
    def is_fallback(self) -> bool:
        return self.confidence == 0


def store_proposals(connection: Connection, step: int, proposals: Iterable[StoredProposal]) -> None:
    """Store one version of all proposals, and let go of versions that are too old."""
    rows = [
        {
            "step": step,
            "entry": p.entry,
            "rank": p.rank,
            "destination": p.destination,
            "confidence": p.confidence,
            "reasons": list(p.reasons),
        }
        for p in proposals
    ]
    insert_many(connection, schema.proposals, rows)
    versions = list(
        connection.scalars(
            select(schema.proposals.c.step).distinct().order_by(schema.proposals.c.step.desc())
        )
    )
    for old in versions[KEPT_VERSIONS:]:
        connection.execute(delete(schema.proposals).where(schema.proposals.c.step == old))


def load_proposals(connection: Connection) -> Mapping[int, list[StoredProposal]]:
    """Entry → its proposals, the best first, of the newest version that was not undone."""
    newest = newest_proposals(connection)
    return _proposals(connection, newest, true()) if newest is not None else {}


def proposals_of(
    connection: Connection, entries: Iterable[int]
) -> Mapping[int, list[StoredProposal]]:
    """As `load_proposals`, of some entries."""
    found: dict[int, list[StoredProposal]] = {}
    if (newest := newest_proposals(connection)) is not None:
        for some in batches(entries, 500):
            found |= _proposals(connection, newest, schema.proposals.c.entry.in_(some))
    return found


def newest_proposals(connection: Connection) -> int | None:
    """The step of the newest version that was not undone; None where there is none."""
    p, s = schema.proposals, schema.steps
    proposed = exists().where(p.c.step == s.c.id)
    query = select(func.max(s.c.id)).where(s.c.undone_by.is_(None), proposed)
    newest: int | None = connection.scalar(query)
    return newest


def _proposals(
    connection: Connection, newest: int, wanted: ColumnElement[bool]
) -> dict[int, list[StoredProposal]]:
    p = schema.proposals
    found: dict[int, list[StoredProposal]] = defaultdict(list)
    for row in connection.execute(
        select(p).where(p.c.step == newest, wanted).order_by(p.c.entry, p.c.rank)
    ):
        found[row.entry].append(
            StoredProposal(row.entry, row.rank, row.destination, row.confidence, tuple(row.reasons))
        )
    return found
