"""What matching proposed."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from upright_ledger.ledger.db.connection import Connection, batches, in_numbers
from upright_ledger.ledger.db.shapes import unpacked

KEPT_VERSIONS = 2
_COLUMNS = ("entry", "rank", "destination", "confidence", "reasons")


class StoredProposal(NamedTuple):
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
    rows = (
        (step, p.entry, p.rank, p.destination, p.confidence, json.dumps(p.reasons))
        for p in proposals
    )
    connection.load("proposals", ("step", *_COLUMNS), rows)
    versions = connection.column("SELECT DISTINCT step FROM proposals ORDER BY step DESC")
    for old in versions[KEPT_VERSIONS:]:
        connection.run("DELETE FROM proposals WHERE step = :step", step=old)


def load_proposals(connection: Connection) -> Mapping[int, list[StoredProposal]]:
    """Entry → its proposals, the best first, of the newest version that was not undone."""
    newest = newest_proposals(connection)
    return _proposals(connection, newest) if newest is not None else {}


def proposals_of(
    connection: Connection, entries: Iterable[int]
) -> Mapping[int, list[StoredProposal]]:
    """As `load_proposals`, of some entries."""
    found: dict[int, list[StoredProposal]] = {}
    if (newest := newest_proposals(connection)) is not None:
        for some in batches(entries, 500):
            found |= _proposals(connection, newest, f" AND entry IN {in_numbers(some)}")
    return found


def newest_proposals(connection: Connection) -> int | None:
    """The step of the newest version that was not undone; None where there is none."""
    query = (
        "SELECT MAX(s.id) FROM steps s WHERE s.undone_by IS NULL "
        "AND EXISTS (SELECT 1 FROM proposals p WHERE p.step = s.id)"
    )
    newest: int | None = connection.value(query)
    return newest


def _proposals(
    connection: Connection, newest: int, which: str = ""
) -> dict[int, list[StoredProposal]]:
    """which: a further condition."""
    columns = ", ".join(_COLUMNS)
    query = f"SELECT {columns} FROM proposals WHERE step = :step{which} ORDER BY entry, rank"
    found: dict[int, list[StoredProposal]] = defaultdict(list)
    for *told, reasons in connection.rows(query, step=newest):
        values = (*told, tuple(unpacked(reasons)))
        found[told[0]].append(StoredProposal(*values))
    return found
