"""What all lines amount to, by answer and by source: kept, so that nobody adds them up to look."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

from upright_ledger.core.inventory.answer import ANSWERS
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.lines.kept import find_kept, keep
from upright_ledger.ledger.lines.statements import lines_among
from upright_ledger.ledger.tables.stock import count_stock

_NAME = "totals"
_STOCK = "stock"
_PARTS = 1_000_000
"""Sums are kept in millionths: whole numbers add up alike in any order."""
_MUCH = 1_000_000
"""Millions are added up apart from the rest: the sum of many large ones fits in no 64 bits."""


@dataclass
class Totals:
    """entries, hits, value: by answer; named: by source, the entries that it names; alone: those
    that nothing else names. Hits and value in millionths.
    """

    entries: Counter[str] = field(default_factory=Counter)
    hits: Counter[str] = field(default_factory=Counter)
    value: Counter[str] = field(default_factory=Counter)
    named: Counter[str] = field(default_factory=Counter)
    alone: Counter[str] = field(default_factory=Counter)

    def by_answer(self) -> list[tuple[str, int, float, float]]:
        """Answer, entries, hits, value."""
        return [
            (answer, n, self.hits[answer] / _PARTS, self.value[answer] / _PARTS)
            for answer, n in self.entries.items()
        ]

    def add(self, other: Totals, sign: int = 1) -> None:
        """Add other totals, or with -1 take them away."""
        for name, counts in vars(other).items():
            mine: Counter[str] = getattr(self, name)
            for key, n in counts.items():
                mine[key] += sign * n
                if not mine[key]:
                    del mine[key]


def totals(connection: Connection, among: str = "") -> Totals:
    """What lines amount to. among: the table of their entries; empty: all."""
    found = Totals()
    lines = lines_among(among)
    # By cases and not by groups, which would be sorted.
    sums = [
        f"COALESCE(SUM(CASE WHEN x.kind = '{answer}' THEN {what} ELSE 0 END), 0)"
        for answer in ANSWERS
        for what in ("1", *_parts_of("hits"), *_parts_of("value"))
    ]
    (told,) = connection.rows(f"SELECT {', '.join(sums)} FROM {lines}")
    for n, answer in enumerate(ANSWERS):
        found.entries[answer], *parts = map(int, told[5 * n : 5 * n + 5])
        found.hits[answer] = parts[0] * _MUCH * _PARTS + parts[1]
        found.value[answer] = parts[2] * _MUCH * _PARTS + parts[3]
    named = Counter(sources for (sources,) in connection.stream(f"SELECT x.sources FROM {lines}"))
    for sources, n in named.items():
        numbers: list[str] = sources.strip("|").split("|") if sources else []
        for number in numbers:
            found.named[number] += n
        if len(numbers) == 1:
            found.alone[numbers[0]] += n
    return Totals(*(Counter({k: n for k, n in c.items() if n}) for c in vars(found).values()))


def _parts_of(figure: str) -> tuple[str, str]:
    """The millions of a figure, and its rest in millionths."""
    millions = f"ROUND(x.{figure} / {_MUCH})"
    rest = f"ROUND((x.{figure} - {millions} * {_MUCH}) * {_PARTS})"
    return f"CAST({millions} AS BIGINT)", f"CAST({rest} AS BIGINT)"


def keep_pages(connection: Connection) -> None:
    """Count the pages in stock, and keep that."""
    keep(connection, _STOCK, 0, {"pages": count_stock(connection)})


def kept_pages(connection: Connection) -> int:
    """How many pages are in stock."""
    found = find_kept(connection, _STOCK)
    return int(found.value["pages"]) if found is not None else 0


def keep_totals(connection: Connection, found: Totals) -> None:
    """Keep what all lines amount to."""
    keep(
        connection,
        _NAME,
        0,
        {n: dict(sorted(c.items())) for n, c in vars(found).items()},
    )


def kept_totals(connection: Connection) -> Totals:
    """What all lines amount to."""
    found = find_kept(connection, _NAME)
    return Totals(*(Counter(c) for c in found.value.values())) if found is not None else Totals()
