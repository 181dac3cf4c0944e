"""What touches little of a line: its answer, and that one more sheet of addresses names it. All
else of the line stays, and need not be worked out.
"""

from __future__ import annotations

from collections.abc import Iterable

from upright_ledger.core.inventory.units import LISTED
from upright_ledger.ledger.db.connection import Connection, in_numbers
from upright_ledger.ledger.db.journal import Step
from upright_ledger.ledger.lines.giving import give
from upright_ledger.ledger.lines.statements import ANSWER, NO_ANSWER
from upright_ledger.settings.model import Settings

TABLES = dict.fromkeys(("touched", "answered", "named", "changed"), "entry INTEGER PRIMARY KEY")
"""Tables of one connection: entries whose lines are to be worked out; others that were answered
otherwise; others that a sheet names, or names no longer; and all of these.
"""

_NAMED = "FROM evidence v JOIN spellings p ON p.id = v.spelling WHERE p.entry IS NOT NULL AND "
_ALONE = (
    "NOT EXISTS (SELECT 1 FROM evidence o JOIN sources s ON s.id = o.source "
    "WHERE o.spelling = v.spelling AND o.source <> v.source AND NOT s.withdrawn)"
)
"""Whether a sheet is the only one to name a spelling: its entry may be called otherwise now."""
_NO_LINE = "NOT EXISTS (SELECT 1 FROM entry_lines x WHERE x.entry = {0}.entry)"
_REST = "NOT IN (SELECT entry FROM touched)"


def hold(connection: Connection, step: Step) -> tuple[set[int], set[int]]:
    """Note in TABLES whose lines a step changes. Returns the sources that are sheets which name
    addresses and say nothing else, and all others that began or ceased to count.
    """
    connection.load("touched", ("entry",), ((e,) for e in sorted(step.entries)))
    light = {source for source in step.sources if _is_light(connection, source)}
    heavy = step.sources - light
    for sources, more in ((heavy, ""), (light, f" AND ({_ALONE} OR {_NO_LINE.format('p')})")):
        which = f"{_NAMED}v.source IN {in_numbers(sources)}{more} AND p.entry {_REST}"
        connection.run(f"INSERT INTO touched SELECT DISTINCT p.entry {which}")
    connection.load("answered", ("entry",), ((e,) for e in sorted(step.answered)))
    without_line = f"SELECT w.entry FROM answered w WHERE {_NO_LINE.format('w')}"
    connection.run(f"INSERT INTO touched {without_line} AND w.entry {_REST}")
    connection.run("DELETE FROM answered WHERE entry IN (SELECT entry FROM touched)")
    which = f"{_NAMED}v.source IN {in_numbers(light)} AND p.entry {_REST}"
    connection.run(f"INSERT INTO named SELECT DISTINCT p.entry {which}")
    three = " UNION ".join(f"SELECT entry FROM {t}" for t in ("touched", "answered", "named"))
    connection.run(f"INSERT INTO changed {three}")
    return light, heavy


def _is_light(connection: Connection, source: int) -> bool:
    """Whether a source says of addresses that they are there, and nothing else. Their numbers stand
    in order, so that one that comes back may belong between others: it is none.
    """
    newest = connection.value("SELECT MAX(id) FROM sources")
    if source != newest and not _is_withdrawn(connection, source):
        return False
    says_more = "SELECT 1 FROM evidence WHERE source = :source AND unit <> :listed LIMIT 1"
    if connection.value(says_more, source=source, listed=LISTED) is not None:
        return False
    others = ("observations", "destinations", "imported")
    return not any(holds_any(connection, table, [source]) for table in others)


def _is_withdrawn(connection: Connection, source: int) -> bool:
    return bool(connection.value("SELECT withdrawn FROM sources WHERE id = :id", id=source))


def holds_any(connection: Connection, table: str, sources: Iterable[int]) -> bool:
    """Whether a table has rows of any of these sources."""
    held = f"SELECT 1 FROM {table} WHERE source IN {in_numbers(sources)} LIMIT 1"
    return connection.value(held) is not None


def follow_names(connection: Connection, sources: Iterable[int]) -> None:
    """Say in the lines of entries that sheets name them, or do so no longer."""
    its = (
        f"entry IN (SELECT p.entry {_NAMED}v.source = :source) "
        "AND entry IN (SELECT entry FROM named)"
    )
    for source in sorted(sources):
        if _is_withdrawn(connection, source):
            put = f"REPLACE(sources, '|{source}|', '|')"
        else:
            put = f"(CASE sources WHEN '' THEN '|' ELSE sources END) || '{source}|'"
        connection.run(f"UPDATE entry_lines SET sources = {put} WHERE {its}", source=source)


def follow_answers(connection: Connection, settings: Settings) -> set[int]:
    """Put the answers of entries into their lines; returns the entries that nothing names any
    more.
    """
    usual = dict(zip(ANSWER, NO_ANSWER, strict=True))
    put = ", ".join(f'"{name}" = COALESCE(a."{name}", :{name})' for name in ANSWER)
    # Told twice whose lines these are, so that those of all others are not gone through.
    these = "entry IN (SELECT entry FROM answered)"
    connection.run(
        f"UPDATE entry_lines SET {put} FROM answered w LEFT JOIN answers a ON a.entry = w.entry "
        f"WHERE entry_lines.entry = w.entry AND entry_lines.{these}",
        **usual,
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
