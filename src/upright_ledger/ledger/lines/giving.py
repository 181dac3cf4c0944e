"""Answers that entries without one of their own are given, kept with their lines."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.policies import stored_policy
from upright_ledger.ledger.lines.statements import lines_among
from upright_ledger.settings.model import Settings


def give(connection: Connection, settings: Settings, among: str = "", *, fresh: bool = True) -> int:
    """Give entries that have no answer of their own that of the rule that fits them, or let them be
    kept where their page lives on; returns to how many something was given or taken from. among:
    the table of those to look at; empty: all. fresh: their lines were just written, and say nothing
    of rules.
    """
    may_be = _may_be_given(connection, settings)
    if fresh and not may_be:
        return 0
    query = (
        "SELECT x.entry, x.site, x.url, x.statuses, x.kind, "
        'a."by", a."where", a."query" '
        f"FROM {lines_among(among, 'LEFT JOIN answers a ON a.entry = x.entry')} "
        f"AND COALESCE(a.kind, '{AnswerKind.OPEN}') = '{AnswerKind.OPEN}'"
    )
    if not may_be:
        query += f" AND x.kind <> '{AnswerKind.OPEN}'"
    rows = connection.rows(query)
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
    return len(found)


def _may_be_given(connection: Connection, settings: Settings) -> bool:
    """Whether any entry can have the answer of a rule, or live on."""
    if any(settings.sites.shared_origins(s.name) for s in settings.sites.old):
        return True
    return any(
        connection.value(f"SELECT 1 FROM {table} LIMIT 1") is not None
        for table in ("templates", "imported")
    )


def _put_given(connection: Connection, rows: Iterable[tuple[Any, ...]]) -> None:
    names = ("kind", "status", "destination", "by", "where", "query")
    connection.load("given", ("entry", *names), rows)
    put = ", ".join(f'"{n}" = g."{n}"' for n in names)
    which = "FROM given g WHERE g.entry = entry_lines.entry"
    connection.run(f"UPDATE entry_lines SET {put} {which}")
