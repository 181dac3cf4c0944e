"""One legacy URL with all that is known of it."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Literal

from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, Decision
from upright_ledger.core.inventory.evidence import (
    EntryEvidence,
)
from upright_ledger.core.url.address import address_of
from upright_ledger.core.url.query import QueryPolicy


@dataclass(slots=True)
class Entry:
    """One legacy URL with all that is known of it.

    variants: canonical paths as observed. titles, anchors (texts of links to it), items (numbers in
    a shop or a catalogue): in the order of sources. by: what gave the answer (a person, match,
    ...), and author: who. confidence, reasons, runner_up: how it was found, where it is a proposal.
    sources: the numbers of those that name it. statuses: class → requests that logs hold.
    first_seen, last_seen: days, or empty.
    """

    id: int
    site: str
    key: str
    legacy_url: str
    answer: Decision = field(default_factory=lambda: Decision(AnswerKind.OPEN))
    by: AnsweredBy | Literal[""] = ""
    query: QueryPolicy = QueryPolicy.CARRY_TRACKING
    old: str = ""
    host_given: bool = True
    where: str = ""
    note: str = ""
    author: str = ""
    confidence: float | None = None
    reasons: str = ""
    runner_up: str = ""
    evidence: EntryEvidence = field(default_factory=EntryEvidence)
    variants: tuple[str, ...] = ()
    titles: tuple[str, ...] = ()
    anchors: tuple[str, ...] = ()
    items: tuple[str, ...] = ()
    language: str = ""
    sources: tuple[int, ...] = ()
    statuses: Mapping[str, float] = field(default_factory=dict)
    first_seen: str = ""
    last_seen: str = ""

    @property
    def requests(self) -> Iterator[tuple[str, str]]:
        """Host and target of every spelling in which it was seen."""
        host = address_of(self.legacy_url).authority
        _, mark, query = self.key.partition("?")
        return ((host, f"{variant}{mark}{query}") for variant in self.variants)
