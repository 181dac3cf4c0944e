"""What failed, as sources say it: requests by spelling, day, status and sort of visitor; and the
times of answers and builds.
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

from sqlalchemy import Connection, func, select

from upright_ledger.core.inventory.evidence import Asker
from upright_ledger.core.inventory.noise import SCANNERS
from upright_ledger.core.inventory.packed import unpack_days, unpack_referrers
from upright_ledger.core.inventory.units import ASKED, HITS
from upright_ledger.core.monitoring.failure_account import FAILING, LogCount
from upright_ledger.ledger.db import schema


def failing_entries(connection: Connection, live_day: str = "") -> set[int]:
    """The entries of which a source that counts says that a request failed, or that a page answered
    after a day although their answer leads elsewhere. live_day: since when the first build is live,
    or empty.
    """
    p, v, s, a = schema.spellings, schema.evidence, schema.sources, schema.answers
    query = (
        select(p.c.entry).distinct().join(v, v.c.spelling == p.c.id).join(s, s.c.id == v.c.source)
    )
    query = query.where(s.c.withdrawn.is_(False), p.c.entry.is_not(None), v.c.unit.in_(ASKED))
    found = set(connection.scalars(query.where(v.c.status_class.in_(FAILING))))
    if live_day:
        stays = (v.c.status_class == "2xx") & (v.c.last_day >= live_day) & (a.c.status != 0)
        found |= set(connection.scalars(query.join(a, a.c.entry == p.c.entry).where(stays)))
    return found


def told_of(connection: Connection, entries: set[int]) -> dict[int, list[LogCount]]:
    """Entry → what sources that count say of its requests, in logs and in lists of errors, day by
    day (labels, see core.monitoring.deploy_days); a figure without days stands at the end of its
    source's period.
    """
    p, v, s = schema.spellings, schema.evidence, schema.sources
    query = (
        select(
            p.c.entry,
            p.c.spelling,
            v.c.status_class,
            v.c.agent,
            v.c.amount,
            v.c.days,
            s.c.period_end,
            s.c.time,
        )
        .join(v, v.c.spelling == p.c.id)
        .join(s, s.c.id == v.c.source)
        .where(
            s.c.withdrawn.is_(False),
            p.c.entry.is_not(None),
            v.c.unit.in_(ASKED),
            v.c.status_class != "",
        )
    )
    found: dict[int, list[LogCount]] = defaultdict(list)
    for entry, spelling, status_class, agent, amount, days, end, time in connection.execute(query):
        if entry in entries:
            people = agent != Asker.BOTS
            for day, requests in unpack_days(days) or ((end or time[:10], amount),):
                found[entry].append(LogCount(spelling, day, status_class, people, requests))
    return found


def requests_by_day(connection: Connection) -> dict[str, dict[str, float]]:
    """Day → class of status → requests by people, in all logs; what looks like a scanner's is
    nobody's.
    """
    v, s, p = schema.evidence, schema.sources, schema.spellings
    query = (
        select(v.c.status_class, v.c.days)
        .join(s, s.c.id == v.c.source)
        .join(p, p.c.id == v.c.spelling)
    )
    query = query.where(
        s.c.withdrawn.is_(False),
        v.c.unit == HITS,
        v.c.agent != Asker.BOTS,
        v.c.days != "",
        p.c.aside.not_in(SCANNERS),
    )
    found: dict[str, dict[str, float]] = defaultdict(lambda: defaultdict(float))
    for status_class, days in connection.execute(query):
        for day, requests in unpack_days(days):
            found[day[:10]][status_class] += requests
    return {day: dict(classes) for day, classes in sorted(found.items())}


def referrers_by_entry(connection: Connection, entries: set[int]) -> Mapping[int, dict[str, float]]:
    """Entry → referrer → requests; those without a name stand under an empty one."""
    r, s, p = schema.referrers, schema.sources, schema.spellings
    query = (
        select(p.c.entry, r.c.referrers)
        .join(s, s.c.id == r.c.source)
        .join(p, p.c.id == r.c.spelling)
    )
    found: dict[int, dict[str, float]] = defaultdict(dict)
    for entry, told in connection.execute(
        query.where(s.c.withdrawn.is_(False), p.c.entry.is_not(None))
    ):
        if entry in entries:
            for address, amount in unpack_referrers(told):
                found[entry][address] = found[entry].get(address, 0.0) + amount
    return found


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
    c, s = schema.changes, schema.steps
    query = select(c.c.row_key, func.max(s.c.id), func.max(s.c.time)).join(s, s.c.id == c.c.step)
    query = query.where(c.c.table_name == table, s.c.undone_by.is_(None)).group_by(c.c.row_key)
    for key, step, time in connection.execute(query):
        yield str(key), Changed(int(step), str(time))


def aside_totals(connection: Connection) -> list[tuple[str, int, float, float]]:
    """(class, addresses, requests by people, by bots) of what was set aside and failed, the most
    requested first.
    """
    v, s, p = schema.evidence, schema.sources, schema.spellings
    people = func.sum(v.c.amount).filter(v.c.agent != Asker.BOTS)
    bots = func.sum(v.c.amount).filter(v.c.agent == Asker.BOTS)
    query: Any = select(p.c.aside, func.count(func.distinct(p.c.id)), people, bots).join(
        v, v.c.spelling == p.c.id
    )
    query = query.join(s, s.c.id == v.c.source).where(
        s.c.withdrawn.is_(False),
        p.c.entry.is_(None),
        v.c.unit == HITS,
        v.c.status_class.in_(FAILING),
    )
    rows = [
        (k, int(n), float(a or 0), float(b or 0))
        for k, n, a, b in connection.execute(query.group_by(p.c.aside))
    ]
    return sorted(rows, key=lambda r: (-r[2] - r[3], r[0]))
