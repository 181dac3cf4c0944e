"""Retiring: how each rule is used, and which ones nobody needs any more."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from upright_ledger.app.book import Book
from upright_ledger.app.fixes import load_fixes
from upright_ledger.core.answers import IGNORE, usual
from upright_ledger.core.triage.accounting import Told
from upright_ledger.core.triage.days import span_of
from upright_ledger.core.triage.retiring import Use, why_kept, window
from upright_ledger.errors import UsageError
from upright_ledger.ledger.answers import TEMPLATE, of_person, post_answers
from upright_ledger.ledger.entries import Entry
from upright_ledger.ledger.failing import requests_by_day, told_of
from upright_ledger.ledger.store import now


@dataclass(frozen=True, slots=True)
class RuleUse:
    """One rule with its use. kept: why it stays, or empty where it may be retired."""

    entry: Entry
    use: Use
    kept: str

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return {
            "legacy_url": self.entry.legacy_url,
            "status": self.entry.answer.status,
            "destination": self.entry.answer.destination,
            **self.use._asdict(),
            "kept": self.kept,
        }


@dataclass
class Retiring:
    """All exact rules of a ledger. first, last: the time looked at; covered: the share of its days of which there are logs; retired: how many were."""

    first: str
    last: str
    covered: float
    rules: list[RuleUse]
    retired: int = 0

    @property
    def proposed(self) -> list[RuleUse]:
        """Those that may be retired, the least asked for first."""
        return [r for r in self.rules if not r.kept]

    @property
    def kept(self) -> Counter[str]:
        """Why the others stay → how many."""
        return Counter(r.kept for r in self.rules if r.kept)

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return {
            "first": self.first, "last": self.last, "covered": round(self.covered, 3), "proposed": [r.as_dict() for r in self.proposed],
            "kept": dict(self.kept), "bots": sum(r.use.bots for r in self.proposed), "retired": self.retired,
            "rules": [r.as_dict() for r in self.rules],
        }  # fmt: skip


def retire(book: Book, days: int, *, accept: bool = False) -> Retiring:
    """Look at how rules were used within some days up to the newest one in the logs. accept: retire those that nobody uses, as one undoable step: their entries
    are ignored from then on, and keep what they were answered with in their note.

    Raises UsageError where no log was gathered.
    """
    entries = [e for e in book.entries if e.answer.has_rule and e.by != TEMPLATE]
    fixes = load_fixes(book.ledger)
    with book.ledger.reading() as connection:
        logged = requests_by_day(connection)
        told = told_of(connection, {e.id for e in entries})
    if not logged:
        raise UsageError("no log was gathered, so nobody knows which rules are used", "upright triage access.log")
    span = span_of({day: sum(classes.values()) for day, classes in logged.items()}, now()[:10])
    first, last = window(span.last, days)
    covered = sum(1 for day in logged if first <= day <= last) / days
    found = [_look(e, told.get(e.id, ()), fixes.of(e).live[:10], first, covered) for e in entries]
    found.sort(key=lambda r: (bool(r.kept), r.use.bots, r.use.last, r.entry.legacy_url))
    result = Retiring(first, last, covered, found)
    if accept and result.proposed:
        with book.ledger.step("retire", f"unused for {days} days up to {last}") as step:
            post_answers(step, [of_person(r.entry, usual(IGNORE), note=_note(r.entry)) for r in result.proposed])
            result.retired = len(result.proposed)
            step.summary = f"{result.retired:,} rules retired"
    return result


def _look(entry: Entry, told: Iterable[Told], live: str, first: str, covered: float) -> RuleUse:
    people = bots = 0.0
    last = ""
    for t in told:
        if t.people:
            last = max(last, t.day[:10])
        if t.day[:10] >= first:
            people, bots = people + t.requests * t.people, bots + t.requests * (not t.people)
    e = entry.evidence
    use = Use(people, bots, last, e.links, e.clicks, e.impressions, live)
    return RuleUse(entry, use, why_kept(use, first, covered))


def _note(entry: Entry) -> str:
    goal = f" to {entry.answer.destination}" if entry.answer.destination else ""
    return f"retired {now()[:10]}: was {entry.answer.status}{goal}"
