"""Working out lines of entries: all that sources, spellings and answers say of each, as one row.

Figures of logs add up, line by line, over all days they cover. Of two exports of one unit the
larger counts: they tell of the same people.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from itertools import groupby
from operator import itemgetter
from typing import Any

from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.inventory.evidence import Asker, per_30_days, value
from upright_ledger.core.inventory.sections import Sections
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
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.ledger.db.connection import AT_ONCE, Connection, batches
from upright_ledger.ledger.db.policies import stored_policy
from upright_ledger.ledger.lines.among import SHOWN, SHOWN_OF_ALL
from upright_ledger.ledger.lines.names import plainest
from upright_ledger.ledger.tables.sources import days_of_exports
from upright_ledger.settings.model import Settings

COLUMNS = (
    "entry", "site", "url", "section", "family", "value", "hits", "bots", "visits", "clicks",
    "impressions", "links", "logged", "traffic", "domains", "pages", "shown", "variants", "sources",
    "first_seen", "last_seen", "statuses", "title", "language", "kind", "status", "destination",
    "query", "by", "where",
)  # fmt: skip

_EVIDENCE = (
    "SELECT p.entry, v.source, v.unit, v.agent, v.status_class, v.amount, v.first_day, v.last_day "
    "FROM {touched}spellings p CROSS JOIN evidence v WHERE v.spelling = p.id AND {these} "
    "ORDER BY p.entry, v.source"
)
_SAID = (
    "SELECT p.entry, o.source, o.title, o.language, o.last_seen "
    "FROM {touched}spellings p CROSS JOIN observations o WHERE o.spelling = p.id AND {these} "
    "ORDER BY p.entry, o.source, o.spelling"
)
_SPELLED = (
    "SELECT p.entry, p.variant FROM {touched}spellings p WHERE {these}{more} ORDER BY p.entry"
)
_ENTRIES = (
    'SELECT e.id, e.site, e."key", e.legacy_url, a.kind, a.status, a.destination, a."query", '
    'a."by", a."where" FROM {touched}entries e LEFT JOIN answers a ON a.entry = e.id '
    "WHERE {these} ORDER BY {order}"
)


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
    join = "touched w CROSS JOIN " if touched else ""
    which = "p.entry = w.entry" if touched else "p.entry IS NOT NULL"
    asked = {"touched": join, "these": which}
    gone = connection.value("SELECT 1 FROM sources WHERE withdrawn LIMIT 1")
    shown = SHOWN if touched else SHOWN_OF_ALL
    evidence, said, spelled = (
        _Groups(connection.stream(query.format(**asked, more=shown if gone is not None else "")))
        for query in (_EVIDENCE, _SAID, _SPELLED)
    )
    which, order = ("e.id = w.entry", "w.entry") if touched else ("e.id IS NOT NULL", "e.id")
    entries = connection.stream(_ENTRIES.format(touched=join, these=which, order=order))
    worker = _Worker(connection, settings, log_days, families)
    found = (
        line
        for row in entries
        if (line := worker.line(row, evidence.of(row[0]), said.of(row[0]), spelled.of(row[0])))
    )
    written: set[int] = set()
    for some in batches(found, AT_ONCE):
        connection.load("entry_lines", COLUMNS, some)
        written.update(map(_FIRST, some))
    return written


def packed(parts: Iterable[object]) -> str:
    """Parts in one text, each between two bars: "|1|4|"."""
    joined = "|".join(map(str, parts))
    return f"|{joined}|" if joined else ""


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

    def __init__(
        self,
        connection: Connection,
        settings: Settings,
        log_days: int,
        families: Mapping[int, str],
    ) -> None:
        self._families = families
        self._days = {source: len(days) for source, days in days_of_exports(connection).items()}
        counting = connection.run("SELECT id FROM sources WHERE NOT withdrawn")
        self._counting = {number for (number,) in counting}
        self._index_files = stored_policy(connection)[1].index_set
        self._sections = Sections(settings.sections)
        self._weights, self._log_days = settings.weights, log_days

    def line(
        self,
        row: tuple[Any, ...],
        evidence: list[tuple[Any, ...]],
        said: list[tuple[Any, ...]],
        spelled: list[tuple[Any, ...]],
    ) -> tuple[Any, ...] | None:
        """The line of an entry, in the order of COLUMNS; None for one that does not count."""
        entry, site, key, legacy_url, *answer = row
        counting = self._counting
        evidence = [v for v in evidence if v[1] in counting]
        if not evidence and answer[0] is None:
            return None
        f = self._figures(evidence)
        title, language, last_seen = "", "", f.last_day
        for _, source, its_title, its_language, day in said:
            if source in counting:
                title, language = title or its_title, language or its_language
                last_seen = max(last_seen, day)
        variants = [spelled[0][1]] if len(spelled) == 1 else sorted({p[1] for p in spelled})
        total, rate = f.totals.get, f.rates.get
        domains, pages = total(LINKING_DOMAINS, 0.0), total(LINKING_PAGES, 0.0)
        traffic = max(rate(HITS, 0.0), rate(VISITS, 0.0), rate(CLICKS, 0.0)) if f.rates else 0.0
        if f.logged:
            f.rates[HITS] = max(rate(HITS, 0.0), per_30_days(f.logged, self._log_days))
        return (
            entry,
            site,
            plainest(legacy_url, key, variants, self._index_files),
            self._sections.of(site, key) if self._sections else "",
            self._families.get(entry, ""),
            value(f.rates, self._weights) if f.rates else 0.0,
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
            *(answer if answer[0] is not None else _NO_ANSWER),
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
            if agent == Asker.BOTS:
                f.bots += amount
            else:
                f.logged += amount
            f.codes[code] = f.codes.get(code, 0.0) + amount
            if first_day:
                f.first_day = min(f.first_day or first_day, first_day)
            f.last_day = max(f.last_day, first_day, last_day)
        for (unit, source), amount in exports.items():
            rate = per_30_days(amount, self._days[source]) if unit in PER_PERIOD else amount
            f.totals[unit] = max(f.totals.get(unit, 0.0), amount)
            f.rates[unit] = max(f.rates.get(unit, 0.0), rate)
        return f


_NO_ANSWER = (AnswerKind.OPEN.value, 0, "", QueryPolicy.CARRY_TRACKING.value, "", "")
