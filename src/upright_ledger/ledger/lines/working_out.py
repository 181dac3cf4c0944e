"""Working out lines of entries: all that sources, spellings and answers say of each, as one row.

Figures of logs add up, line by line, over all days they cover. Of two exports of one unit the
larger counts: they tell of the same people.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any, NamedTuple

from sqlalchemy import Connection, text

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
from upright_ledger.ledger.db.bulk import CHUNK, batches, load_rows, stream_rows
from upright_ledger.ledger.db.derived import entry_lines
from upright_ledger.ledger.db.policies import stored_policy
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
    'a."by", a."where" FROM entries e {wanted}LEFT JOIN answers a ON a.entry = e.id ORDER BY e.id'
)
_GONE = "SELECT v.spelling FROM evidence v JOIN sources s ON s.id = v.source WHERE "
_SHOWN = f" AND p.id NOT IN ({_GONE}s.withdrawn EXCEPT {_GONE}NOT s.withdrawn)"


def work_out(connection: Connection, settings: Settings, log_days: int, *, touched: bool) -> None:
    """Write the lines of entries that count: of those in the table `touched`, or of all. log_days:
    how many days all logs cover.
    """
    join = "touched w CROSS JOIN " if touched else ""
    which = "p.entry = w.entry" if touched else "p.entry IS NOT NULL"
    asked = {"touched": join, "these": which}
    some_gone = connection.scalar(text("SELECT 1 FROM sources WHERE withdrawn LIMIT 1")) is not None
    evidence, said, spelled = (
        _Groups(stream_rows(connection, query.format(**asked, more=_SHOWN if some_gone else "")))
        for query in (_EVIDENCE, _SAID, _SPELLED)
    )
    wanted = "JOIN touched w ON w.entry = e.id " if touched else ""
    entries = stream_rows(connection, _ENTRIES.format(wanted=wanted))
    worker = _Worker(connection, settings, log_days)
    found = (
        line
        for row in entries
        if (line := worker.line(row, evidence.of(row[0]), said.of(row[0]), spelled.of(row[0])))
    )
    for some in batches(found, CHUNK):
        load_rows(connection, entry_lines, COLUMNS, some)


def packed(parts: Iterable[object]) -> str:
    """Parts in one text, each between two bars: "|1|4|"."""
    joined = "|".join(map(str, parts))
    return f"|{joined}|" if joined else ""


class _Groups:
    """Rows that come by the number of their entry, given out entry by entry."""

    def __init__(self, rows: Iterator[tuple[Any, ...]]) -> None:
        self._rows = rows
        self._row = next(rows, None)

    def of(self, entry: int) -> list[tuple[Any, ...]]:
        """The rows of an entry; numbers are asked for upwards."""
        found, row, rows = [], self._row, self._rows
        while row is not None and row[0] <= entry:
            if row[0] == entry:
                found.append(row)
            row = next(rows, None)
        self._row = row
        return found


class _Figures(NamedTuple):
    """What sources say of an entry in figures. logged: requests by people in logs. totals, rates:
    unit → the largest figure of an export, as it is and per 30 days.
    """

    logged: float
    bots: float
    codes: Mapping[str, float]
    totals: Mapping[str, float]
    rates: Mapping[str, float]
    first_seen: str
    last_seen: str


class _Worker:
    """Works out one line after the other."""

    def __init__(self, connection: Connection, settings: Settings, log_days: int) -> None:
        self._days = {source: len(days) for source, days in days_of_exports(connection).items()}
        counting = text("SELECT id FROM sources WHERE NOT withdrawn")
        self._counting = set(connection.scalars(counting))
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
        sources = sorted({v[1] for v in evidence})
        f = self._figures(evidence)
        said = [o for o in said if o[1] in counting]
        title = next((o[2] for o in said if o[2]), "")
        language = next((o[3] for o in said if o[3]), "")
        last_seen = max([f.last_seen, *(o[4] for o in said)])
        variants = sorted({p[1] for p in spelled})
        get = f.totals.get
        domains, pages = get(LINKING_DOMAINS, 0.0), get(LINKING_PAGES, 0.0)
        rates = dict(f.rates)
        traffic = max(rates.get(HITS, 0.0), rates.get(VISITS, 0.0), rates.get(CLICKS, 0.0))
        if f.logged or f.bots:
            rates[HITS] = max(rates.get(HITS, 0.0), per_30_days(f.logged, self._log_days))
        kind, status, destination, query, by, where = (
            answer if answer[0] is not None else _NO_ANSWER
        )
        return (
            entry,
            site,
            plainest(legacy_url, key, variants, self._index_files),
            self._sections.of(site, key) if self._sections else "",
            "",
            value(rates, self._weights),
            f.logged or get(HITS, 0.0),
            f.bots,
            get(VISITS, 0.0),
            get(CLICKS, 0.0),
            get(IMPRESSIONS, 0.0),
            domains or pages,
            f.logged,
            traffic,
            domains,
            pages,
            rates.get(IMPRESSIONS, 0.0),
            len(variants),
            packed(sources),
            f.first_seen,
            last_seen,
            packed(f"{code}:{n!r}" for code, n in f.codes.items()),
            title,
            language,
            kind,
            status,
            destination,
            query,
            by,
            where,
        )

    def _figures(self, evidence: Iterable[tuple[Any, ...]]) -> _Figures:
        logged = bots = 0.0
        codes: dict[str, float] = {}
        exports: dict[tuple[str, int], float] = {}
        days: list[str] = []
        for _, source, unit, agent, code, amount, first_day, last_day in evidence:
            if unit == HITS and agent:
                if agent == Asker.BOTS:
                    bots += amount
                else:
                    logged += amount
                codes[code] = codes.get(code, 0.0) + amount
                days += [day for day in (first_day, last_day) if day]
            elif unit != LISTED:
                exports[unit, source] = exports.get((unit, source), 0.0) + amount
        totals: dict[str, float] = {}
        rates: dict[str, float] = {}
        for (unit, source), amount in exports.items():
            rate = per_30_days(amount, self._days[source]) if unit in PER_PERIOD else amount
            totals[unit] = max(totals.get(unit, 0.0), amount)
            rates[unit] = max(rates.get(unit, 0.0), rate)
        first_seen, last_seen = min(days, default=""), max(days, default="")
        return _Figures(
            logged, bots, dict(sorted(codes.items())), totals, rates, first_seen, last_seen
        )


_NO_ANSWER = (AnswerKind.OPEN.value, 0, "", QueryPolicy.CARRY_TRACKING.value, "", "")
