"""What failed, as sources say it: requests by spelling, day, status and sort of visitor; and the
times of answers and builds.
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

from upright_ledger.core.inventory.evidence import PERSONS
from upright_ledger.core.inventory.noise import SCANNERS
from upright_ledger.core.inventory.packed import unpack_days, unpack_referrers
from upright_ledger.core.inventory.units import ASKED, ASKED_BEST, HITS, LINKING_PAGES
from upright_ledger.core.monitoring.failure_account import FAILING, LogCount
from upright_ledger.ledger.db.connection import Connection, numbered
from upright_ledger.ledger.tables.followed_logs import ACCESS_LOG


def failing_entries(connection: Connection, live_day: str = "") -> set[int]:
    """The entries of which a source that counts says that a request failed, or that a page answered
    after a day although their answer leads elsewhere. live_day: since when the first build is live,
    or empty.
    """
    units, asked = numbered(ASKED)
    failing = f"({', '.join(repr(str(code)) for code in FAILING)})"
    query = (
        "SELECT DISTINCT p.entry FROM evidence v JOIN spellings p ON p.id = v.spelling "
        "JOIN sources s ON s.id = v.source {more}"
        f"WHERE NOT s.withdrawn AND p.entry IS NOT NULL AND v.unit IN {units} AND "
    )
    found = set(connection.column(f"{query.format(more='')}v.status_class IN {failing}", **asked))
    if live_day:
        stays = "v.status_class = '2xx' AND v.last_day >= :day AND a.status <> 0"
        answered = query.format(more="JOIN answers a ON a.entry = p.entry ")
        found |= set(connection.column(answered + stays, day=live_day, **asked))
    return found


def told_of(connection: Connection, entries: set[int]) -> dict[int, list[LogCount]]:
    """Entry → what sources that count say of its requests, in logs and in lists of errors, day by
    day (labels, see core.monitoring.deploy_days); a figure without days stands at the end of its
    source's period. Of what a source counts in several units the best one counts: visits before
    views.
    """
    units, asked = numbered(ASKED)
    query = (
        "SELECT p.entry, v.unit, p.spelling, v.status_class, v.agent, v.source, v.amount, v.days, "
        "s.period_end, s.time FROM evidence v JOIN spellings p ON p.id = v.spelling "
        "JOIN sources s ON s.id = v.source WHERE NOT s.withdrawn AND p.entry IS NOT NULL "
        f"AND v.status_class <> '' AND v.unit IN {units}"
    )
    by_unit: dict[tuple[Any, ...], float] = defaultdict(float)
    for entry, *told, amount, days, end, time in connection.run(query, **asked):
        if entry in entries:
            for day, requests in unpack_days(days) or ((end or time[:10], amount),):
                by_unit[entry, day, *told] += requests
    best: dict[tuple[Any, ...], str] = {}
    for _, _, unit, *counted in by_unit:
        known = best.get(tuple(counted))
        if known is None or ASKED_BEST.index(unit) < ASKED_BEST.index(known):
            best[tuple(counted)] = unit
    found: dict[int, list[LogCount]] = defaultdict(list)
    for (entry, day, unit, *counted), requests in by_unit.items():
        if best[tuple(counted)] == unit:
            spelling, status_class, agent, source = counted
            found[entry].append(
                LogCount(spelling, day, status_class, agent in PERSONS, requests, source)
            )
    return found


def requests_by_day(connection: Connection) -> dict[str, dict[str, float]]:
    """Day → class of status → requests by people, in all logs; what looks like a scanner's is
    nobody's.
    """
    scanners, asked = numbered(SCANNERS)
    persons, more = numbered(PERSONS, "person")
    query = (
        "SELECT v.status_class, v.days FROM evidence v JOIN sources s ON s.id = v.source "
        "JOIN spellings p ON p.id = v.spelling WHERE NOT s.withdrawn AND v.unit = :hits "
        f"AND v.agent IN {persons} AND v.days <> '' AND p.aside NOT IN {scanners}"
    )
    found: dict[str, dict[str, float]] = defaultdict(lambda: defaultdict(float))
    for status_class, days in connection.run(query, hits=HITS, **asked, **more):
        for day, requests in unpack_days(days):
            found[day[:10]][status_class] += requests
    return {day: dict(classes) for day, classes in sorted(found.items())}


class Led(NamedTuple):
    """What led to entries. referrers: entry → source → referrer → requests, those without a name
    under an empty one. whole: logs that name whoever is named, so that others came directly.
    """

    referrers: Mapping[int, Mapping[int, Mapping[str, float]]]
    whole: frozenset[int]


def led_to(connection: Connection, entries: set[int]) -> Led:
    """What led to entries, source by source."""
    query = (
        "SELECT p.entry, r.source, s.kind, r.referrers FROM referrers r "
        "JOIN sources s ON s.id = r.source "
        "JOIN spellings p ON p.id = r.spelling WHERE NOT s.withdrawn"
    )
    found: dict[int, dict[int, dict[str, float]]] = defaultdict(lambda: defaultdict(dict))
    whole = set()
    for entry, source, kind, told in connection.run(query):
        if kind == ACCESS_LOG:
            whole.add(source)
        if entry in entries:
            amounts = found[entry][source]
            for address, amount in unpack_referrers(told):
                amounts[address] = amounts.get(address, 0.0) + amount
    return Led(found, frozenset(whole))


class ListedLink(NamedTuple):
    """A page that links to an entry, as one source says."""

    entry: int
    page: str
    source: int


def listed_links(connection: Connection) -> list[ListedLink]:
    """All links that lists name one by one."""
    query = (
        "SELECT p.entry, r.referrers, r.source FROM referrers r "
        "JOIN spellings p ON p.id = r.spelling JOIN sources s ON s.id = r.source "
        "WHERE NOT s.withdrawn AND p.entry IS NOT NULL AND EXISTS (SELECT 1 FROM evidence v "
        "WHERE v.spelling = r.spelling AND v.source = r.source AND v.unit = :pages)"
    )
    return [
        ListedLink(entry, page, source)
        for entry, told, source in connection.rows(query, pages=LINKING_PAGES)
        for page, _ in unpack_referrers(told)
        if page
    ]


class Changed(NamedTuple):
    """When something was last changed: the step, and its time."""

    step: int
    time: str


def answer_times(connection: Connection) -> dict[int, Changed]:
    """Entry → when its answer was last changed."""
    return {json.loads(key)[0]: changed for key, changed in _changed(connection, "answers")}


def newest_template(connection: Connection) -> Changed:
    """When a template answer was last changed; step 0 where there is none."""
    return max(
        (changed for _, changed in _changed(connection, "templates")), default=Changed(0, "")
    )


def _changed(connection: Connection, table: str) -> Iterator[tuple[str, Changed]]:
    query = (
        "SELECT c.row_key, MAX(s.id), MAX(s.time) FROM changes c JOIN steps s ON s.id = c.step "
        "WHERE c.table_name = :table AND s.undone_by IS NULL GROUP BY c.row_key"
    )
    for key, step, time in connection.rows(query, table=table):
        yield str(key), Changed(int(step), str(time))


def aside_totals(connection: Connection) -> list[tuple[str, int, float, float]]:
    """(class, addresses, requests by people, by bots) of what was set aside and failed, the most
    requested first.
    """
    failing, asked = numbered(FAILING)
    persons, more = numbered(PERSONS, "person")
    query = (
        "SELECT p.aside, COUNT(DISTINCT p.id), "
        f"SUM(CASE WHEN v.agent IN {persons} THEN v.amount ELSE 0 END), "
        f"SUM(CASE WHEN v.agent IN {persons} THEN 0 ELSE v.amount END) "
        "FROM evidence v JOIN spellings p ON p.id = v.spelling JOIN sources s ON s.id = v.source "
        "WHERE NOT s.withdrawn AND p.entry IS NULL AND v.unit = :hits "
        f"AND v.status_class IN {failing} GROUP BY p.aside"
    )
    found = connection.rows(query, hits=HITS, **asked, **more)
    rows = [(kind, int(n), float(people), float(bots)) for kind, n, people, bots in found]
    return sorted(rows, key=lambda r: (-r[2] - r[3], r[0]))
