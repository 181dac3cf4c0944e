"""The pruning desk, page by page: weak entries one after the other, each with the strongest page of
its subject.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from upright_ledger.app.decide.review_queue import Candidate, Card, Queue
from upright_ledger.app.decide.weak_entries import Pruning, Weak
from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, Decision
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.ledger.lines.listing import Filters
from upright_ledger.ledger.store import Ledger


class WeakQueue(Queue):
    """A walk through the weak entries that fit, but for those that a person said to keep."""

    left = "weak and left"

    def __init__(self, ledger: Ledger, filters: Filters, pruning: Pruning) -> None:
        super().__init__(ledger, filters)
        self._evidence = pruning.evidence
        self._weak = {w.entry.id: w for w in pruning.weak if not _is_kept(w)}
        self._open = replace(filters, answer="", numbers=frozenset(self._weak))

    def card(self) -> Card | None:
        card = super().card()
        if card is None:
            return None
        weak = self._weak[card.line.entry.id]
        sibling = [] if weak.sibling is None else [_into(weak.sibling, weak.likeness)]
        others = [c for c in card.candidates if not sibling or c.url != sibling[0].url]
        return replace(card, candidates=[*sibling, *others], advice=f"{weak.why}, {self._evidence}")

    def _take(self, numbers: Sequence[int]) -> None:
        left = self._open.numbers or frozenset()
        self._open = replace(self._open, numbers=left - frozenset(numbers))

    def _give_back(self, numbers: Sequence[int]) -> None:
        left = self._open.numbers or frozenset()
        self._open = replace(self._open, numbers=left | frozenset(numbers))

    def _is_free(self, number: int, taken: Mapping[int, Decision]) -> bool:
        """Whether nobody answered it since it was found to be weak."""
        standing = taken.get(number, Decision(AnswerKind.OPEN))
        return standing == self._weak[number].entry.answer


def _is_kept(weak: Weak) -> bool:
    entry = weak.entry
    return entry.answer.kind == AnswerKind.KEEP and entry.by == AnsweredBy.PERSON


def _into(sibling: Entry, likeness: float) -> Candidate:
    """The page into which a weak one would be merged: where that is, or will be."""
    title = sibling.titles[0] if sibling.titles else ""
    reason = f"the strongest page of its subject, value {sibling.evidence.value:,.0f}"
    url = sibling.answer.destination or sibling.legacy_url
    return Candidate(url, title, likeness, (reason,))
