"""Lines of entries: what is worked out of each and kept beside it, so that questions are asked of
the database.

A line is written in the transaction that changes what it rests on: evidence, spellings, answers,
rules, stock, settings.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import asdict
from typing import Any

import xxhash
from sqlalchemy import Connection, delete, select, text

from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.inventory.evidence import Weights
from upright_ledger.core.inventory.units import (
    HITS,
)
from upright_ledger.core.inventory.url_patterns import templates
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.ledger.db import schema
from upright_ledger.ledger.db.bulk import load_rows
from upright_ledger.ledger.db.derived import entry_lines, entry_sources, kept
from upright_ledger.ledger.db.journal import Step, last_step
from upright_ledger.ledger.db.policies import stored_policy
from upright_ledger.ledger.db.schema import staging
from upright_ledger.ledger.lines.kept import find_kept, keep
from upright_ledger.ledger.lines.working_out import work_out
from upright_ledger.ledger.tables.sources import days_of_exports
from upright_ledger.settings.model import Settings

VERSION = 1
"""How lines are worked out. Ledgers in which they were worked out otherwise work them out anew."""

_NAME = "lines"
_MOST_AT_ONCE = 0.3
"""The share of all entries from which on all lines are worked out anew."""

_TEMPORARY = {
    "touched": "entry INTEGER PRIMARY KEY",
    "was": "entry INTEGER PRIMARY KEY, site TEXT, family TEXT",
    "families": "entry INTEGER PRIMARY KEY, family TEXT",
    "given": "entry INTEGER PRIMARY KEY, kind TEXT, status INTEGER, destination TEXT, "
    '"by" TEXT, "where" TEXT, "query" TEXT',
}
"""Tables of one connection in which lines come together."""

_VALUE = (
    "CAST(:traffic AS FLOAT) * CASE WHEN traffic >= logged * 30.0 / :days THEN traffic "
    "ELSE logged * 30.0 / :days END + CASE WHEN domains > 0 "
    "THEN CAST(:linking_domains AS FLOAT) * domains ELSE CAST(:linking_pages AS FLOAT) * pages END "
    "+ CAST(:impressions AS FLOAT) * shown"
)
"""As `core.inventory.evidence.value` has it."""


def follow(step: Step, settings: Settings) -> None:
    """Bring the lines of all that a step touched up to date, within it."""
    if step.refolded or not are_of(step.connection, settings):
        restate(step.connection, settings)
    elif step.entries or step.sources or step.ruled:
        _follow(step, settings)
    step.entries, step.sources, step.ruled, step.refolded = set(), set(), False, False


def _follow(step: Step, settings: Settings) -> None:
    connection = step.connection
    _clear(connection)
    load_rows(connection, staging("touched"), ("entry",), ((e,) for e in sorted(step.entries)))
    if step.sources:
        connection.execute(text(_BY_SOURCES.format(sources=_listed(step.sources))))
    touched = connection.scalar(text("SELECT COUNT(*) FROM touched")) or 0
    whole = connection.scalar(text("SELECT COUNT(*) FROM entries")) or 0
    if touched > 1000 and touched > _MOST_AT_ONCE * whole:
        restate(connection, settings)
        return
    days = _log_days(connection) if step.sources else int(_kept(connection)["days"])
    everything_open = step.ruled or _rules_or_stock(connection, step.sources)
    _keep_families(connection)
    for table in (entry_lines, entry_sources):
        old = f"DELETE FROM {table.name} WHERE entry IN (SELECT entry FROM touched)"  # noqa: S608
        connection.execute(text(old))
    work_out(connection, settings, days, touched=True)
    if everything_open:
        _give(connection, settings, fresh=False)
    else:
        _give(connection, settings, "touched")
    _restore_families(connection)
    if days != _kept(connection)["days"]:
        statement = f"UPDATE entry_lines SET value = {_VALUE} WHERE logged > 0"  # noqa: S608
        connection.execute(text(statement), _weights(settings.weights, days))
        _keep(connection, settings, days)


def restate(connection: Connection, settings: Settings) -> None:
    """Work out all lines anew."""
    _clear(connection)
    days = _log_days(connection)
    connection.execute(delete(entry_lines))
    connection.execute(delete(entry_sources))
    work_out(connection, settings, days, touched=False)
    _give(connection, settings)
    for (site,) in connection.execute(select(entry_lines.c.site).distinct()).all():
        _find_families(connection, site)
    _keep(connection, settings, days)


def shadow(connection: Connection, settings: Settings) -> None:
    """Work out all lines for one connection alone, in tables that hide those of the ledger."""
    like = (
        "(LIKE {0} INCLUDING ALL)"
        if connection.dialect.name == "postgresql"
        else "AS SELECT * FROM {0} LIMIT 0"
    )
    for table in (entry_lines, entry_sources, kept):
        name = table.name
        connection.execute(text(f"CREATE TEMPORARY TABLE {name} {like.format(name)}"))
    restate(connection, settings)


def are_of(connection: Connection, settings: Settings) -> bool:
    """Whether the lines were worked out by these settings, and as this program does it."""
    return bool(_kept(connection).get("settings") == _digest(settings))


_BY_SOURCES = (
    "INSERT INTO touched SELECT DISTINCT p.entry FROM evidence v JOIN spellings p "
    "ON p.id = v.spelling WHERE v.source IN ({sources}) AND p.entry IS NOT NULL "
    "AND p.entry NOT IN (SELECT entry FROM touched)"
)


def _listed(numbers: Iterable[int]) -> str:
    return ", ".join(str(int(n)) for n in sorted(numbers))


def _clear(connection: Connection) -> None:
    """Empty tables to work in."""
    for name, columns in _TEMPORARY.items():
        connection.execute(text(f"CREATE TEMPORARY TABLE IF NOT EXISTS {name} ({columns})"))
        connection.execute(text(f"DELETE FROM {name}"))  # noqa: S608 - names of our own


def _rules_or_stock(connection: Connection, sources: Iterable[int]) -> bool:
    """Whether any of these sources holds rules, or pages of the new site."""
    i, d, some = schema.imported, schema.destinations, sorted(sources)
    return any(
        connection.scalar(select(t.c.source).where(t.c.source.in_(some)).limit(1)) is not None
        for t in (i, d)
    )


def _log_days(connection: Connection) -> int:
    """How many days all logs cover that count, and name an entry."""
    query = (
        "SELECT s.id FROM sources s WHERE NOT s.withdrawn AND s.period_end <> '' AND EXISTS "
        "(SELECT 1 FROM evidence v JOIN spellings p ON p.id = v.spelling WHERE v.source = s.id "
        "AND v.unit = :hits AND v.agent <> '' AND p.entry IS NOT NULL)"
    )
    periods = days_of_exports(connection)
    logs = connection.scalars(text(query), {"hits": HITS})
    return len(set().union(*(periods[source] for source in logs)))


def _weights(weights: Weights, days: int) -> dict[str, float]:
    """Values for `_VALUE`; requests over an unknown period are taken as of 30 days."""
    return {**asdict(weights), "days": days or 30}


def _give(
    connection: Connection, settings: Settings, among: str = "", *, fresh: bool = True
) -> None:
    """Give entries that have no answer of their own that of the rule that fits them, or let them be
    kept where their page lives on. among: the table of those to look at; empty: all. fresh: their
    lines were just written, and say nothing of rules.
    """
    may_be = _may_be_given(connection, settings)
    if fresh and not may_be:
        return
    wanted = f"JOIN {among} w ON w.entry = x.entry " if among else ""
    own = f"LEFT JOIN answers a ON a.entry = x.entry WHERE COALESCE(a.kind, '{AnswerKind.OPEN}')"
    query = (
        "SELECT x.entry, x.site, x.url, x.statuses, x.kind, "  # noqa: S608
        f'a."by", a."where", a."query" FROM entry_lines x {wanted}{own} = \'{AnswerKind.OPEN}\''
    )
    if not may_be:
        query += " AND x.kind <> :open"
    rows = connection.execute(text(query), {} if may_be else {"open": AnswerKind.OPEN}).fetchall()
    found: dict[int, tuple[Any, ...]] = {}
    if may_be and rows:
        from upright_ledger.ledger.lines.given_answers import GivenAnswers, Unanswered

        answers = GivenAnswers(connection, settings.sites, stored_policy(connection)[1])
        waiting = [Unanswered(r[0], r[1], r[2], "|2xx:" in r[3]) for r in rows]
        for g in answers.of(waiting):
            a = g.answer
            given = (g.entry, a.kind, a.status, a.destination, g.by, g.where, g.query)
            found[g.entry] = given
    for r in rows:
        if r[4] != AnswerKind.OPEN and r[0] not in found:  # it is given none any more
            own_query = r[7] or QueryPolicy.CARRY_TRACKING
            found[r[0]] = (r[0], AnswerKind.OPEN, 0, "", r[5] or "", r[6] or "", own_query)
    if found:
        _put_given(connection, found.values())


def _may_be_given(connection: Connection, settings: Settings) -> bool:
    """Whether any entry can have the answer of a rule, or live on."""
    if any(settings.sites.shared_origins(s.name) for s in settings.sites.old):
        return True
    rules = (schema.templates.c.id, schema.imported.c.source)
    return any(connection.scalar(select(c).limit(1)) is not None for c in rules)


def _put_given(connection: Connection, rows: Iterable[tuple[Any, ...]]) -> None:
    names = ("kind", "status", "destination", "by", "where", "query")
    load_rows(connection, staging("given"), ("entry", *names), rows)
    put = ", ".join(f'"{n}" = g."{n}"' for n in names)
    change = f"UPDATE entry_lines SET {put} FROM given g WHERE entry_lines.entry = g.entry"  # noqa: S608
    connection.execute(text(change))


def _keep_families(connection: Connection) -> None:
    connection.execute(
        text(
            "INSERT INTO was SELECT x.entry, x.site, x.family FROM touched w JOIN entry_lines x "
            "ON x.entry = w.entry"
        )
    )


def _restore_families(connection: Connection) -> None:
    """Give lines that were there before their family, and find those of a site anew in which
    entries came or went.
    """
    connection.execute(
        text(
            "UPDATE entry_lines SET family = was.family FROM was "
            "WHERE was.entry = entry_lines.entry AND was.family <> ''"
        )
    )
    came = (
        "SELECT DISTINCT x.site FROM touched w JOIN entry_lines x ON x.entry = w.entry "
        "WHERE w.entry NOT IN (SELECT entry FROM was)"
    )
    went = (
        "SELECT DISTINCT was.site FROM was WHERE was.entry NOT IN (SELECT entry FROM entry_lines)"
    )
    for site in set(connection.scalars(text(f"{came} UNION {went}"))):
        _find_families(connection, site)


def _find_families(connection: Connection, site: str) -> None:
    """Find the families of a site's entries, and change what is said otherwise."""
    e, x = schema.entries, entry_lines
    rows = connection.execute(
        select(e.c.id, e.c.key, x.c.family).join(x, x.c.entry == e.c.id).where(x.c.site == site)
    ).fetchall()
    found = templates([row[1] for row in rows])
    changed = (
        (number, family) for number, key, before in rows if (family := found.get(key, "")) != before
    )
    connection.execute(text("DELETE FROM families"))
    load_rows(connection, staging("families"), ("entry", "family"), changed)
    connection.execute(
        text(
            "UPDATE entry_lines SET family = f.family FROM families f "
            "WHERE f.entry = entry_lines.entry"
        )
    )


def _digest(settings: Settings) -> str:
    """Of all settings on which lines rest."""
    told = repr(
        (VERSION, settings.sites.old, settings.sites.new, settings.weights, settings.sections)
    )
    return xxhash.xxh3_128_hexdigest(told.encode("utf-8", "surrogatepass"))


def _kept(connection: Connection) -> Mapping[str, Any]:
    found = find_kept(connection, _NAME)
    return found.value if found is not None else {}


def _keep(connection: Connection, settings: Settings, days: int) -> None:
    value = {"settings": _digest(settings), "days": days}
    keep(connection, _NAME, last_step(connection), value)
