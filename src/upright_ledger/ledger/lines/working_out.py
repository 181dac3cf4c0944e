"""Working out lines of entries: all that sources, spellings and answers say of each, as one row.

Figures of logs add up, line by line, over all days they cover. Of two exports of one unit the
larger counts: they tell of the same people.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from itertools import groupby, islice
from operator import itemgetter
from typing import Any

from upright_ledger.core.inventory.evidence import Asker, per_30_days, value
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
from upright_ledger.ledger.db.connection import AT_ONCE, Connection, in_numbers
from upright_ledger.ledger.lines.names import plainest
from upright_ledger.ledger.lines.state import Basis, basis_of
from upright_ledger.ledger.lines.statements import (
    COLUMNS,
    ENTRIES,
    EVIDENCE,
    NO_ANSWER,
    ORDERS,
    SAID,
    SHOWN,
    SHOWN_OF_ALL,
    SPELLED,
    packed,
)
from upright_ledger.settings.model import Settings


def work_out(
    connection: Connection,
    settings: Settings,
    log_days: int,
    families: Mapping[int, str],
    *,
    touched: bool,
) -> set[int]:
    """Write the lines of entries that count: of those in the table `touched`, or of all; returns
    whose lines these are. log_days: how many days all logs cover. families: entry → the one that it
    has as far as is known.
    """
    basis = basis_of(connection, settings, log_days, families)
    bounds = "MIN({0}), MAX({0}), COUNT(*) FROM {1}"
    whole = bounds.format("entry", "touched") if touched else bounds.format("id", "entries")
    ((first, last, many),) = connection.rows(f"SELECT {whole}")
    written: set[int] = set()
    if not many:
        return written
    if many <= FEW:
        found = _line_by_line(connection, basis, _asked(connection, basis, touched=touched))
        _write(connection, found, written)
        return written
    from upright_ledger.ledger.lines.in_columns import lines_in_columns

    step = max(1, (last - first + 1) * PORTION // many)
    for start in range(first, last + 1, step):
        within = f" BETWEEN {start} AND {start + step - 1}"
        asked = _asked(connection, basis, touched=touched, within=within)
        rows = (connection.rows(query) for query in asked)
        _write(connection, lines_in_columns(basis, *rows), written)
    return written


FEW = 2_000
"""Entries up to which lines are worked out one by one, as loading what has columns would take
longer.
"""
PORTION = 50_000
"""Entries that are looked at together."""


def _asked(
    connection: Connection, basis: Basis, *, touched: bool, within: str = ""
) -> tuple[str, str, str, str]:
    """What is asked about entries, evidence, words and spellings. within: numbers of entries."""
    join, entry, number = "", "p.entry", "e.id"
    which, its = "p.entry IS NOT NULL", "e.id IS NOT NULL"
    if touched:
        join, entry, number = "touched w CROSS JOIN ", "w.entry", "w.entry"
        which, its = "p.entry = w.entry", "e.id = w.entry"
    if within:
        which, its = f"{which} AND {entry}{within}", f"{its} AND {number}{within}"
    gone = connection.value("SELECT 1 FROM sources WHERE withdrawn LIMIT 1") is not None
    more = (SHOWN if touched or within else SHOWN_OF_ALL) if gone else ""
    counting = in_numbers(basis.counting)
    asked = {"touched": join, "these": which, "counting": counting, "more": more}
    entries = ENTRIES.format(touched=join, these=its, order=number)
    evidence, said, spelled = (query.format(**asked) for query in (EVIDENCE, SAID, SPELLED))
    return entries, evidence, said, spelled


def _line_by_line(
    connection: Connection, basis: Basis, asked: tuple[str, str, str, str]
) -> Iterator[tuple[Any, ...]]:
    entries, *others = asked
    ordered = (
        connection.stream(query + order) for query, order in zip(others, ORDERS, strict=True)
    )
    evidence, said, spelled = map(_Groups, ordered)
    worker = _Worker(basis)
    for row in connection.stream(entries):
        line = worker.line(row, evidence.of(row[0]), said.of(row[0]), spelled.of(row[0]))
        if line is not None:
            yield line


def _write(connection: Connection, found: Iterator[tuple[Any, ...]], written: set[int]) -> None:
    while some := list(islice(found, AT_ONCE)):
        connection.load("entry_lines", COLUMNS, some)
        written.update(map(_FIRST, some))


class _Groups:
    """Rows that come by the number of their entry, given out entry by entry."""

    def __init__(self, rows: Iterator[tuple[Any, ...]]) -> None:
        self._groups = groupby(rows, key=_FIRST)
        self._next = next(self._groups, None)

    def of(self, entry: int) -> list[tuple[Any, ...]]:
        """The rows of an entry; numbers are asked for upwards."""
        group = self._next
        while group is not None and group[0] < entry:
            group = next(self._groups, None)
        if group is None or group[0] != entry:
            self._next = group
            return []
        found = list(group[1])
        self._next = next(self._groups, None)
        return found


_FIRST = itemgetter(0)


@dataclass(slots=True)
class _Figures:
    """What sources say of an entry in figures. logged: requests by people in logs. totals, rates:
    unit → the largest figure of an export, as it is and per 30 days. first_day, last_day: of logs.
    """

    logged: float = 0.0
    bots: float = 0.0
    codes: dict[str, float] = field(default_factory=dict)
    totals: dict[str, float] = field(default_factory=dict)
    rates: dict[str, float] = field(default_factory=dict)
    first_day: str = ""
    last_day: str = ""


class _Worker:
    """Works out one line after the other."""

    def __init__(self, basis: Basis) -> None:
        self._basis = basis

    def line(
        self,
        row: tuple[Any, ...],
        evidence: list[tuple[Any, ...]],
        said: list[tuple[Any, ...]],
        spelled: list[tuple[Any, ...]],
    ) -> tuple[Any, ...] | None:
        """The line of an entry, in the order of COLUMNS; None for one that does not count."""
        entry, site, key, legacy_url, *answer = row
        basis = self._basis
        if not evidence and answer[0] is None:
            return None
        f = self._figures(evidence)
        title, language, last_seen = "", "", f.last_day
        for *_, its_title, its_language, day in said:
            title, language = title or its_title, language or its_language
            last_seen = max(last_seen, day)
        variants = [spelled[0][1]] if len(spelled) == 1 else sorted({p[1] for p in spelled})
        total, rate = f.totals.get, f.rates.get
        domains, pages = total(LINKING_DOMAINS, 0.0), total(LINKING_PAGES, 0.0)
        traffic = max(rate(HITS, 0.0), rate(VISITS, 0.0), rate(CLICKS, 0.0)) if f.rates else 0.0
        if f.logged:
            f.rates[HITS] = max(rate(HITS, 0.0), per_30_days(f.logged, basis.log_days))
        return (
            entry,
            site,
            plainest(legacy_url, key, variants, basis.index_files),
            basis.sections.of(site, key) if basis.sections else "",
            basis.families.get(entry, ""),
            value(f.rates, basis.weights) if f.rates else 0.0,
            f.logged or total(HITS, 0.0),
            f.bots,
            total(VISITS, 0.0),
            total(CLICKS, 0.0),
            total(IMPRESSIONS, 0.0),
            domains or pages,
            f.logged,
            traffic,
            domains,
            pages,
            rate(IMPRESSIONS, 0.0),
            len(variants),
            packed(sorted({v[1] for v in evidence})),
            f.first_day,
            last_seen,
            packed(f"{code}:{n!r}" for code, n in sorted(f.codes.items())),
            title,
            language,
            *(answer if answer[0] is not None else NO_ANSWER),
        )

    def _figures(self, evidence: Iterable[tuple[Any, ...]]) -> _Figures:
        f = _Figures()
        exports: dict[tuple[str, int], float] = {}
        for _, source, unit, agent, code, amount, first_day, last_day in evidence:
            if unit == LISTED:
                continue
            if unit != HITS or not agent:
                exports[unit, source] = exports.get((unit, source), 0.0) + amount
                continue
            if agent != Asker.PEOPLE:
                f.bots += amount
            else:
                f.logged += amount
            f.codes[code] = f.codes.get(code, 0.0) + amount
            if first_day:
                f.first_day = min(f.first_day or first_day, first_day)
            f.last_day = max(f.last_day, first_day, last_day)
        for (unit, source), amount in exports.items():
            rate = per_30_days(amount, self._basis.days[source]) if unit in PER_PERIOD else amount
            f.totals[unit] = max(f.totals.get(unit, 0.0), amount)
            f.rates[unit] = max(f.rates.get(unit, 0.0), rate)
        return f
