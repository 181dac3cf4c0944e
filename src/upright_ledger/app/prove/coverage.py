"""Coverage: how much of each section, source, site or day is well, by URLs and by hits."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from upright_ledger.app.decide.entries import source_names
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.results import Results
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.packed import NO_DAYS, PackedDays, unpack_days
from upright_ledger.core.inventory.sections import Sections
from upright_ledger.core.tracing.verdicts import Verdict


@dataclass
class Covered:
    """One section, source, site or day. urls, hits: all that were asked; ok, ok_hits: of these,
    what is well.
    """

    name: str
    urls: int = 0
    ok: int = 0
    hits: int = 0
    ok_hits: int = 0

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return asdict(self)


def coverage(results: Results, move: MoveState, by: str) -> list[Covered]:
    """Coverage by section, source or site, the most asked first, or by day; what belongs to none
    stands under an empty name.

    results: of requests that were read for them.
    """
    found: dict[str, Covered] = {}
    entries, names = results.asked.entries(move), _namer(move, by)
    rows = results.rows
    for n, (entry, outcome, hits) in enumerate(zip(entries, rows.outcomes, rows.hits, strict=True)):
        ok = outcome.verdicts[0] == Verdict.OK
        days = _by_day(results.asked.days.get(rows.urls[n], NO_DAYS)) if by == "day" else {}
        for name, weight in (days or dict.fromkeys(names(entry), hits)).items():
            line = found.setdefault(name, Covered(name))
            line.urls += 1
            line.hits += weight
            line.ok += ok
            line.ok_hits += weight * ok
    if by == "day":
        return sorted(found.values(), key=lambda c: c.name)
    return sorted(found.values(), key=lambda c: (-c.hits, -c.urls, c.name))


def _namer(move: MoveState, by: str) -> Callable[[Entry | None], Sequence[str]]:
    if by == "day":
        return lambda _: ("",)
    if by == "section":
        sections = Sections(move.ledger.settings.sections)
        return lambda entry: (sections.of(entry.site, entry.key) if entry else "",)
    if by == "site":
        return lambda entry: (entry.site if entry else "",)
    called = source_names(move.ledger)
    return lambda entry: [called[n] for n in entry.sources] if entry and entry.sources else ("",)


def _by_day(packed: PackedDays) -> dict[str, int]:
    """Each day once, with its hits."""
    found: dict[str, int] = {}
    for day, amount in unpack_days(packed):
        found[day] = found.get(day, 0) + int(amount)
    return found
