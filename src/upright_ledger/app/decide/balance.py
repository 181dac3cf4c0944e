"""The balance: what is answered and what is open, by entries, by hits and by value."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from upright_ledger.core.inventory.answer import ANSWERS, AnswerKind
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.ledger.lines.listing import (
    find_open,
    find_waiting,
)
from upright_ledger.ledger.lines.totals import kept_totals
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import DatedAnswer, dated_answers
from upright_ledger.ledger.tables.entries import load_entries
from upright_ledger.ledger.tables.sources import list_sources
from upright_ledger.ledger.tables.stock import PURPOSES

SHOWN_OPEN = 10


@dataclass(slots=True)
class BalanceLine:
    """One answer's share of the book."""

    answer: str
    entries: int = 0
    hits: float = 0.0
    value: float = 0.0


@dataclass(slots=True)
class SourceLine:
    """What one source brought: the entries it names, and those that nothing else names. period: its
    days, or empty.
    """

    name: str
    kind: str
    lines: int
    period: tuple[str, str]
    entries: int = 0
    alone: int = 0


@dataclass
class Balance:
    """All lines, the open entries that are worth most, and where the entries came from. waiting:
    entries whose page has to be written (wanted) or published (planned) first, the most valuable
    first. dated: answers that are to be looked at again, the earliest day first.
    """

    lines: list[BalanceLine]
    top_open: list[Entry] = field(default_factory=list)
    sources: list[SourceLine] = field(default_factory=list)
    waiting: list[Entry] = field(default_factory=list)
    dated: list[DatedAnswer] = field(default_factory=list)

    @property
    def entries(self) -> int:
        return sum(line.entries for line in self.lines)

    @property
    def answered(self) -> int:
        return sum(line.entries for line in self.lines if line.answer != AnswerKind.OPEN)

    @property
    def open(self) -> int:
        return self.entries - self.answered

    def as_dict(self) -> dict[str, Any]:
        return {
            "entries": self.entries,
            "answered": self.answered,
            "open": self.open,
            "hits": sum(line.hits for line in self.lines),
            "answered_hits": sum(
                line.hits for line in self.lines if line.answer != AnswerKind.OPEN
            ),
            "lines": [
                {
                    "answer": x.answer,
                    "entries": x.entries,
                    "hits": x.hits,
                    "value": round(x.value, 2),
                }
                for x in self.lines
            ],
            "top_open": [
                {
                    "legacy_url": e.legacy_url,
                    "hits": e.evidence.hits,
                    "value": round(e.evidence.value, 2),
                }
                for e in self.top_open
            ],
            "waiting": [
                {
                    "legacy_url": e.legacy_url,
                    "answer": e.answer.kind,
                    "destination": e.answer.destination,
                    "value": round(e.evidence.value, 2),
                }
                for e in self.waiting
            ],
            "until": [
                {
                    "legacy_url": d.legacy_url,
                    "answer": d.answer.kind,
                    "destination": d.answer.destination,
                    "day": d.day,
                    "due": d.is_due,
                }
                for d in self.dated
            ],
            "sources": [
                {
                    "name": s.name,
                    "kind": s.kind,
                    "lines": s.lines,
                    "period": list(s.period) if any(s.period) else [],
                    "entries": s.entries,
                    "alone": s.alone,
                }
                for s in self.sources
            ],
        }


def balance(ledger: Ledger) -> Balance:
    """Draw up the balance of a book; every answer has a line, open last."""
    lines = {answer: BalanceLine(answer) for answer in ANSWERS}
    with ledger.reading() as connection:
        totals = kept_totals(connection)
        for answer, entries, hits, value in totals.by_answer():
            lines[AnswerKind(answer)] = BalanceLine(answer, entries, hits, value)
        opened = find_open(connection, SHOWN_OPEN)
        top_open = load_entries(connection, opened)
        waiting = load_entries(connection, find_waiting(connection))
        dated = dated_answers(connection)
    return Balance(list(lines.values()), top_open, _sources(ledger), waiting, dated)


def _sources(ledger: Ledger) -> list[SourceLine]:
    with ledger.reading() as connection:
        totals, sources = kept_totals(connection), list_sources(connection)
    return [
        SourceLine(
            s.name,
            s.kind,
            s.lines,
            (s.period_start, s.period_end),
            totals.named[str(s.id)],
            totals.alone[str(s.id)],
        )
        for s in sources
        if s.purpose not in PURPOSES.values()
    ]
