"""Lines of entries: what is worked out of each and kept beside it, so that questions are asked of
the database.

A line is written in the transaction that changes what it rests on: evidence, spellings, answers,
rules, stock, settings.
"""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import nullcontext
from dataclasses import asdict

from upright_ledger.core.inventory.evidence import Weights
from upright_ledger.core.inventory.units import HITS
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.journal import Step
from upright_ledger.ledger.lines.families import families_of, find_families, follow_families
from upright_ledger.ledger.lines.giving import give
from upright_ledger.ledger.lines.lightly import (
    TABLES,
    follow_answers,
    follow_names,
    hold,
    holds_any,
)
from upright_ledger.ledger.lines.state import are_of, days_of_lines, keep_state
from upright_ledger.ledger.lines.totals import keep_pages, keep_totals, kept_totals, totals
from upright_ledger.ledger.lines.working_out import work_out
from upright_ledger.ledger.tables.sources import days_of_exports
from upright_ledger.settings.model import Settings

_MOST_AT_ONCE = 0.3
"""The share of all entries from which on all lines are worked out anew."""

_MANY = 50_000

_TEMPORARY = {
    **TABLES,
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
    elif step.changed_lines:
        _follow(step, settings)
    step.entries, step.answered, step.sources = set(), set(), set()
    step.ruled = step.refolded = False


def _follow(step: Step, settings: Settings) -> None:
    connection = step.connection
    _clear(connection)
    light, heavy = hold(connection, step)
    whole = connection.value("SELECT MAX(id) FROM entries") or 0
    touched = connection.value("SELECT COUNT(*) FROM touched")
    if touched > 1000 and touched > _MOST_AT_ONCE * whole:
        restate(connection, settings, families_of(connection))
        return
    # A log counts once it names an entry, be it by a spelling that became one's only now.
    days = _log_days(connection) if heavy or step.entries else days_of_lines(connection)
    stocked = holds_any(connection, "destinations", heavy)
    if stocked:
        keep_pages(connection)
    everything_open = step.ruled or stocked or holds_any(connection, "imported", heavy)
    changed = connection.value("SELECT COUNT(*) FROM changed")
    everything_changed = changed > _MOST_AT_ONCE * whole
    before = None if everything_changed else totals(connection, "changed")
    families = families_of(connection, "touched")
    connection.run("DELETE FROM entry_lines WHERE entry IN (SELECT entry FROM touched)")
    written = work_out(connection, settings, days, families, touched=True)
    many = everything_changed and changed > _MANY
    with connection.filling("entry_lines") if many else nullcontext():
        follow_names(connection, light)
        left = follow_answers(connection, settings)
        if everything_open:
            # The counts of others change only where any is given something else.
            everything_open = give(connection, settings, fresh=False) > 0
        else:
            give(connection, settings, "touched")
    follow_families(connection, families.keys() | left, written)
    if days != days_of_lines(connection):
        change = f"UPDATE entry_lines SET value = {_VALUE} WHERE logged > 0"
        connection.run(change, **_weights(settings.weights, days))
        keep_state(connection, settings, days)
        everything_open = True
    if everything_open or before is None:
        keep_totals(connection, totals(connection))
    else:
        known = kept_totals(connection)
        known.add(before, -1)
        known.add(totals(connection, "changed"))
        keep_totals(connection, known)


def restate(
    connection: Connection, settings: Settings, families: Mapping[int, str] | None = None
) -> None:
    """Work out all lines anew. families: of entries, where nothing but that they came or went has
    changed any.
    """
    _clear(connection)
    days = _log_days(connection)
    connection.run("DELETE FROM entry_lines")
    known = find_families(connection, families or {})
    filling = connection.filling("entry_lines") if len(known) > _MANY else nullcontext()
    with filling:
        work_out(connection, settings, days, known, touched=False)
    give(connection, settings)
    keep_state(connection, settings, days)
    keep_totals(connection, totals(connection))
    keep_pages(connection)


def shadow(connection: Connection, settings: Settings) -> None:
    """Work out all lines for one connection alone, in tables that hide those of the ledger."""
    like = "(LIKE {0} INCLUDING ALL)" if connection.is_server else "AS SELECT * FROM {0} LIMIT 0"
    for table in ("entry_lines", "kept"):
        connection.run(f"CREATE TEMPORARY TABLE {table} {like.format(table)}")
    restate(connection, settings)


def _clear(connection: Connection) -> None:
    """Empty tables to work in."""
    for name, columns in _TEMPORARY.items():
        connection.run(f"CREATE TEMPORARY TABLE IF NOT EXISTS {name} ({columns})")
        connection.run(f"DELETE FROM {name}")


def _log_days(connection: Connection) -> int:
    """How many days all logs cover that count, and name an entry."""
    query = (
        "SELECT s.id FROM sources s WHERE NOT s.withdrawn AND s.period_end <> '' AND EXISTS "
        "(SELECT 1 FROM evidence v JOIN spellings p ON p.id = v.spelling WHERE v.source = s.id "
        "AND v.unit = :hits AND v.agent <> '' AND p.entry IS NOT NULL)"
    )
    periods = days_of_exports(connection)
    logs = connection.run(query, hits=HITS)
    return len(set().union(*(periods[source] for (source,) in logs)))


def _weights(weights: Weights, days: int) -> dict[str, float]:
    """Values for `_VALUE`; requests over an unknown period are taken as of 30 days."""
    return {**asdict(weights), "days": days or 30}
