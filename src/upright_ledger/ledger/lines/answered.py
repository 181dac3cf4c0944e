"""Answers that ask for a rule, as lines of entries tell them: for the work on all of them."""

from __future__ import annotations

from collections.abc import Collection

from upright_ledger.core.checks.told_answers import STATUSES, Told
from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.ledger.db.connection import Connection, in_numbers

# Not by the index of answers: it would lead all over the table.
_KIND = "COALESCE(x.kind, '')"
_RULED = f"{_KIND} IN ('{AnswerKind.MOVE}', '{AnswerKind.TEMPORARY}', '{AnswerKind.GONE}')"
_KEPT = f"({_KIND} = '{AnswerKind.KEEP}' AND x.variants > 1)"
_PLAIN = (
    f"{_RULED} AND x.variants <= 1 AND x.status IN {in_numbers(STATUSES)} "
    f'AND x."query" <> \'{QueryPolicy.DROP}\' AND x."by" IN '
    f"('{AnsweredBy.PERSON}', '{AnsweredBy.MATCH}', '{AnsweredBy.IMPORT}') "
    "AND e.\"key\" NOT LIKE '%?%'"
)


def answered(connection: Connection, contested: Collection[int]) -> tuple[Told, list[int]]:
    """The answers that may be plain, and the numbers of all other entries that are answered by a
    rule, or kept under several spellings. contested: entries whose answer is.
    """
    query = (
        f'SELECT {_PLAIN}, x.entry, x.site, e."key", x.url, x.variants, x.status, x.destination, '
        "x.\"query\", COALESCE(a.old, '') FROM entry_lines x JOIN entries e ON e.id = x.entry "
        f"LEFT JOIN answers a ON a.entry = x.entry WHERE {_RULED} OR {_KEPT}"
    )
    rows = connection.run(query).fetchall()
    told = [row for row in rows if row[0] and row[1] not in contested]
    others = {row[1] for row in rows if not row[0]} | set(contested)
    return Told(*list(zip(*told, strict=True))[1:]), sorted(others)


def left_alone(connection: Connection) -> list[str]:
    """The addresses of entries that are kept or ignored, but by a template."""
    kinds = f"'{AnswerKind.KEEP}', '{AnswerKind.IGNORE}'"
    query = f'SELECT url FROM entry_lines WHERE kind IN ({kinds}) AND "by" <> :template'
    return connection.column(query, template=AnsweredBy.TEMPLATE)
