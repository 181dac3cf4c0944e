"""Priority: the fewest decisions that answer most of what is lost."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

FAMILY, ENTRY = "family", "entry"
_MOST_OF_IT = 0.9


class NextDecision(NamedTuple):
    """One answer that would be given at once: of an entry, or of a family by a template. lost:
    requests by people in the period; value: of the entries; proposal, confidence: what is proposed,
    or empty and 0; for a family a page to which all its entries would go, or the template by which
    they move. differ: the proposals for a family do not agree, so that its entries are to be
    reviewed.
    """

    kind: str
    name: str
    entries: tuple[int, ...]
    lost: float
    value: float
    proposal: str = ""
    confidence: float = 0.0
    reason: str = ""
    differ: bool = False


def rank(decisions: Sequence[NextDecision]) -> list[NextDecision]:
    """The decisions by what they save, the easiest first where they save as much."""
    return sorted(decisions, key=lambda d: (-d.lost, -d.value, -d.confidence, d.name))


def enough(ranked: Sequence[NextDecision], share: float = _MOST_OF_IT) -> int:
    """How many of the first decisions cover a share of all that is lost; 0 where nothing is."""
    whole = sum(d.lost for d in ranked)
    covered = 0.0
    for number, decision in enumerate(ranked, 1):
        covered += decision.lost
        if whole and covered >= share * whole:
            return number
    return 0
