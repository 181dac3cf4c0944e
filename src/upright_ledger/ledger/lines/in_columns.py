"""Lines of many entries at once: figures as columns. They are the very ones that `working_out`
gives line by line; a property test holds both equal.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import compress, repeat
from operator import itemgetter
from typing import Any

import numpy as np
from numpy.typing import NDArray

from upright_ledger.core.inventory.evidence import Asker
from upright_ledger.core.inventory.units import (
    CLICKS,
    HITS,
    IMPRESSIONS,
    LINKING_DOMAINS,
    LINKING_PAGES,
    LISTED,
    PER_PERIOD,
    VISITS,
)
from upright_ledger.ledger.lines.names import plainest
from upright_ledger.ledger.lines.state import Basis
from upright_ledger.ledger.lines.statements import NO_ANSWER, packed

Rows = Sequence[tuple[Any, ...]]
_EXPORTED = (HITS, VISITS, CLICKS, IMPRESSIONS, LINKING_DOMAINS, LINKING_PAGES)
_LAST = "\U0010ffff"  # no day comes after it


def lines_in_columns(
    basis: Basis, entries: Rows, evidence: Rows, said: Rows, spelled: Rows
) -> Iterator[tuple[Any, ...]]:
    """The lines of the entries that count, in their order. The rows are those of the statements
    ENTRIES, EVIDENCE, SAID and SPELLED, of the same entries; those of the first in order.
    """
    if not entries:
        return iter(())
    numbers, sites, keys, urls, *answers = zip(*entries, strict=True)
    ids = np.array(numbers, dtype=np.int64)
    figures = _Figures(basis, ids, evidence)
    sources = figures.sources()
    title, language, last_seen = _words(ids, said, figures.last_days())
    variants = _variants(ids, spelled)
    counts = [
        bool(text) or kind is not None for text, kind in zip(sources, answers[0], strict=True)
    ]
    answer = [
        [usual if kind is None else value for kind, value in zip(answers[0], column, strict=True)]
        for column, usual in zip(answers, NO_ANSWER, strict=True)
    ]
    named = zip(urls, keys, variants, strict=True)
    columns = (
        numbers,
        sites,
        [plainest(url, key, its, basis.index_files) for url, key, its in named],
        map(basis.sections.of, sites, keys) if basis.sections else repeat(""),
        [basis.families.get(number, "") for number in numbers],
        *(column.tolist() for column in figures.columns()),
        map(len, variants),
        sources,
        figures.first_days(),
        last_seen,
        figures.statuses(),
        title,
        language,
        *answer,
    )
    return compress(zip(*columns, strict=False), counts)


class _Figures:
    """What counting sources say of entries in figures."""

    def __init__(self, basis: Basis, ids: NDArray[np.int64], evidence: Rows) -> None:
        self._basis, self._many = basis, len(ids)
        told: Sequence[tuple[Any, ...]] = tuple(zip(*evidence, strict=True)) or ((),) * 8
        entry, source, units_told, agents_told, code, amount, self._first, self._last = told
        # Where each stands among the entries, and by which source it is, in their order.
        at = np.searchsorted(ids, np.array(entry, dtype=np.int64))
        order = np.lexsort((np.array(source, dtype=np.int64), at))
        self._at, self._order = at[order], order
        self._source = np.array(source, dtype=np.int64)[order]
        self._amount = np.array(amount, dtype=np.float64)[order]
        units, agents = (
            np.array(units_told, dtype=object)[order],
            np.array(agents_told, dtype=object)[order],
        )
        self._code = np.array(code, dtype=object)[order]
        self._logged = (units == HITS) & (agents != "")
        bots = self._logged & (agents != Asker.PEOPLE)
        self.logged = self._sum(self._logged & ~bots)
        self.bots = self._sum(bots)
        self._units = units
        exported = ~self._logged & (units != LISTED)
        self._totals = {unit: np.zeros(self._many) for unit in _EXPORTED}
        self._rates = {unit: np.zeros(self._many) for unit in _EXPORTED}
        for unit in _EXPORTED:
            self._export(unit, exported & (units == unit))

    def _sum(self, which: NDArray[np.bool_]) -> NDArray[np.float64]:
        weights = self._amount[which]
        return np.bincount(self._at[which], weights, self._many).astype(np.float64)

    def _export(self, unit: str, which: NDArray[np.bool_]) -> None:
        """Add up what each source says in a unit; of several the largest counts."""
        if not which.any():
            return
        at, source = self._at[which], self._source[which]
        # They come by entry and source.
        begins = np.concatenate(([True], (at[1:] != at[:-1]) | (source[1:] != source[:-1])))
        group = np.cumsum(begins) - 1
        sums = np.bincount(group, self._amount[which])
        owners, told = at[begins], source[begins]
        rates = sums
        if unit in PER_PERIOD:
            days = np.array([self._basis.days[s] for s in told.tolist()], dtype=np.float64)
            known = np.where(days > 0, days, 30.0)
            rates = np.where(days > 0, sums * 30.0 / known, sums)
        np.maximum.at(self._totals[unit], owners, sums)
        np.maximum.at(self._rates[unit], owners, rates)

    def columns(self) -> tuple[NDArray[np.float64], ...]:
        """value, hits, bots, visits, clicks, impressions, links, logged, traffic, domains, pages,
        shown.
        """
        weights, days = self._basis.weights, self._basis.log_days
        total, rate, logged = self._totals, self._rates, self.logged
        domains, pages = total[LINKING_DOMAINS], total[LINKING_PAGES]
        traffic = np.maximum(np.maximum(rate[HITS], rate[VISITS]), rate[CLICKS])
        a_month = logged * 30.0 / days if days > 0 else logged
        hits = np.where(logged > 0, np.maximum(rate[HITS], a_month), rate[HITS])
        people = np.maximum(np.maximum(hits, rate[VISITS]), rate[CLICKS])
        linked = np.where(
            domains != 0, weights.linking_domains * domains, weights.linking_pages * pages
        )
        value = weights.traffic * people + linked + weights.impressions * rate[IMPRESSIONS]
        return (
            value,
            np.where(logged != 0, logged, total[HITS]),
            self.bots,
            total[VISITS],
            total[CLICKS],
            total[IMPRESSIONS],
            np.where(domains != 0, domains, pages),
            logged,
            traffic,
            domains,
            pages,
            rate[IMPRESSIONS],
        )

    def sources(self) -> list[str]:
        """The sources that name each entry, packed."""
        found = [""] * self._many
        if not len(self._at):
            return found
        begins = np.concatenate(
            ([True], (self._at[1:] != self._at[:-1]) | (self._source[1:] != self._source[:-1]))
        )
        for at, source in zip(
            self._at[begins].tolist(), self._source[begins].tolist(), strict=True
        ):
            found[at] += f"{source}|" if found[at] else f"|{source}|"
        return found

    def statuses(self) -> list[str]:
        """The requests in logs by class of status, packed."""
        found = [""] * self._many
        sums: dict[int, dict[str, float]] = {}
        which = self._logged
        for at, code, amount in zip(
            self._at[which].tolist(),
            self._code[which].tolist(),
            self._amount[which].tolist(),
            strict=True,
        ):
            codes = sums.setdefault(at, {})
            codes[code] = codes.get(code, 0.0) + amount
        for at, codes in sums.items():
            found[at] = packed(f"{code}:{n!r}" for code, n in sorted(codes.items()))
        return found

    def first_days(self) -> list[str]:
        """The first day on which a log saw each entry, or empty."""
        found = [""] * self._many
        for at, day in self._days(self._first):
            if day:
                found[at] = min(found[at] or day, day)
        return found

    def last_days(self) -> list[str]:
        """The last day on which a log saw each entry, or empty."""
        found = [""] * self._many
        for days in (self._first, self._last):
            for at, day in self._days(days):
                found[at] = max(found[at], day)
        return found

    def _days(self, days: Sequence[str]) -> Iterator[tuple[int, str]]:
        """Of each row of a log: where its entry stands, and the day."""
        rows = np.flatnonzero(self._logged)
        told = self._order[rows].tolist()
        return ((at, days[n]) for at, n in zip(self._at[rows].tolist(), told, strict=True))


def _words(
    ids: NDArray[np.int64], said: Rows, last_seen: list[str]
) -> tuple[list[str], list[str], list[str]]:
    """The title and the language of each entry, by the first source that tells one, and when it was
    seen last. last_seen: in logs.
    """
    title, language = [""] * len(ids), [""] * len(ids)
    entries = [row[0] for row in said]
    if len(set(entries)) < len(entries):
        said = sorted(said, key=itemgetter(0, 1, 2))
        entries = [row[0] for row in said]
    places = np.searchsorted(ids, np.array(entries, dtype=np.int64)).tolist()
    for at, (*_, its_title, its_language, day) in zip(places, said, strict=True):
        title[at] = title[at] or its_title
        language[at] = language[at] or its_language
        last_seen[at] = max(last_seen[at], day)
    return title, language, last_seen


def _variants(ids: NDArray[np.int64], spelled: Rows) -> list[Sequence[str]]:
    """The variants of each entry, in order."""
    found: list[Sequence[str]] = [()] * len(ids)
    several: dict[int, set[str]] = {}
    places = np.searchsorted(ids, np.array([row[0] for row in spelled], dtype=np.int64)).tolist()
    for at, (_, variant) in zip(places, spelled, strict=True):
        known = found[at]
        if not known:
            found[at] = (variant,)
        elif at in several:
            several[at].add(variant)
        else:
            several[at] = {known[0], variant}
    for at, variants in several.items():
        found[at] = sorted(variants)
    return found
