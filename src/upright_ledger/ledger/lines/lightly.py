"""What touches little of a line: its answer, and that one more sheet of addresses names it. All
else of the line stays, and need not be worked out.
"""

from __future__ import annotations

from collections.abc import Iterable

from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.inventory.units import LISTED
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.ledger.db.connection import Connection, in_numbers
from upright_ledger.ledger.lines.giving import give
from upright_ledger.settings.model import Settings

TABLES = {"answered": "entry INTEGER PRIMARY KEY", "named": "entry INTEGER PRIMARY KEY"}
"""Tables of one connection: entries that were answered otherwise, and those that a sheet names, or
names no longer. None of them is in "touched".
"""

_ALONE = (
    "NOT EXISTS (SELECT 1 FROM evidence o JOIN sources s ON s.id = o.source "
    "WHERE o.spelling = v.spelling AND o.source <> v.source AND NOT s.withdrawn)"
)
"""Whether a sheet is the only one to name a spelling: its entry may be called otherwise now."""
_NO_LINE = "NOT EXISTS (SELECT 1 FROM entry_lines x WHERE x.entry = {0}.entry)"


def hold_answered(connection: Connection, entries: Iterable[int]) -> None:
    """Note whose answer changed. Those that are touched otherwise, or have no line yet, are worked
    out.
    """
    connection.load("answered", ("entry",), ((e,) for e in sorted(entries)))
    without = f"SELECT w.entry FROM answered w WHERE {_NO_LINE.format('w')}"
    connection.run(f"INSERT INTO touched {without} AND w.entry NOT IN (SELECT entry FROM touched)")
    connection.run("DELETE FROM answered WHERE entry IN (SELECT entry FROM touched)")


def hold_named(connection: Connection, sources: Iterable[int]) -> tuple[set[int], set[int]]:
    """Note whom sheets name that began or ceased to count; of these, what they alone say is to be
    worked out ("touched"). Returns the sources that are such sheets, and all others.
    """
    light, heavy = set[int](), set[int]()
    newest = connection.value("SELECT MAX(id) FROM sources")
    for source in sources:
        # Their numbers stand in order, so that one that comes back may belong between others.
        fits = source == newest or _is_withdrawn(connection, source)
        (light if fits and _lists_alone(connection, source) else heavy).add(source)
    if light:
        among = (
            "FROM evidence v JOIN spellings p ON p.id = v.spelling "
            f"WHERE p.entry IS NOT NULL AND v.source IN {in_numbers(light)}"
        )
        connection.run(
            f"INSERT INTO touched SELECT DISTINCT p.entry {among} "
            f"AND ({_ALONE} OR {_NO_LINE.format('p')}) "
            "AND p.entry NOT IN (SELECT entry FROM touched)"
        )
        connection.run(
            f"INSERT INTO named SELECT DISTINCT p.entry {among} "
            "AND p.entry NOT IN (SELECT entry FROM touched)"
        )
    return light, heavy


def _is_withdrawn(connection: Connection, source: int) -> bool:
    return bool(connection.value("SELECT withdrawn FROM sources WHERE id = :id", id=source))


def _lists_alone(connection: Connection, source: int) -> bool:
    """Whether a source says of addresses that they are there, and nothing else."""
    asked = (
        "SELECT 1 FROM evidence WHERE source = :source AND unit <> :listed LIMIT 1",
        "SELECT 1 FROM observations WHERE source = :source LIMIT 1",
        "SELECT 1 FROM destinations WHERE source = :source AND :listed <> '' LIMIT 1",
        "SELECT 1 FROM imported WHERE source = :source AND :listed <> '' LIMIT 1",
    )
    return all(connection.value(query, source=source, listed=LISTED) is None for query in asked)


def follow_names(connection: Connection, sources: Iterable[int]) -> None:
    """Say in the lines of entries that sheets name them, or do so no longer."""
    its = (
        "entry IN (SELECT p.entry FROM evidence v JOIN spellings p ON p.id = v.spelling "
        "WHERE v.source = :source) AND entry IN (SELECT entry FROM named)"
    )
    for source in sorted(sources):
        if _is_withdrawn(connection, source):
            put = f"REPLACE(sources, '|{source}|', '|')"
        else:
            put = f"(CASE sources WHEN '' THEN '|' ELSE sources END) || '{source}|'"
        connection.run(f"UPDATE entry_lines SET sources = {put} WHERE {its}", source=source)


_NO_ANSWER = {
    "kind": f"'{AnswerKind.OPEN}'",
    "status": "0",
    "destination": "''",
    "query": f"'{QueryPolicy.CARRY_TRACKING}'",
    "by": "''",
    "where": "''",
}


def follow_answers(connection: Connection, settings: Settings) -> set[int]:
    """Put the answers of entries into their lines; returns the entries that nothing names any
    more.
    """
    put = ", ".join(
        f'"{name}" = COALESCE(a."{name}", {usual})' for name, usual in _NO_ANSWER.items()
    )
    # Told twice whose lines these are, so that those of all others are not gone through.
    these = "entry IN (SELECT entry FROM answered)"
    connection.run(
        f"UPDATE entry_lines SET {put} FROM answered w LEFT JOIN answers a ON a.entry = w.entry "
        f"WHERE entry_lines.entry = w.entry AND entry_lines.{these}"
    )
    gone = (
        f"SELECT x.entry FROM entry_lines x WHERE x.{these} AND x.sources = '' "
        "AND NOT EXISTS (SELECT 1 FROM answers a WHERE a.entry = x.entry)"
    )
    left = set(connection.column(gone))
    if left:
        connection.run(f"DELETE FROM entry_lines WHERE entry IN ({gone})")
    give(connection, settings, "answered")
    return left
