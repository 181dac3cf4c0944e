"""Logs as they are read, and what the records say in all."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

import pytest

from upright_ledger.core.inventory.packed import unpack_days
from upright_ledger.formats.logs import line_blocks
from upright_ledger.formats.logs.access_log import read_access_log
from upright_ledger.formats.logs.counting import (
    numbering,
    request_counts,
    request_records,
    request_sums,
)
from upright_ledger.formats.records import Item, LogLines, ReadOptions, Record

Told = Counter[tuple[str, str, str, str, str]]
"""Host, target, day, class of status, visitor → requests."""


@contextmanager
def small(block: int, most: int = 1_000_000) -> Iterator[None]:
    """Blocks of so many bytes, and so much in memory."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(line_blocks, "BLOCK", block)
        patch.setattr(request_counts, "MOST_IN_MEMORY", most)
        patch.setattr(request_records, "_AT_ONCE", most)
        patch.setattr(request_sums, "LINES_TOGETHER", 10 * most)
        patch.setattr(numbering, "_COMPACT_AT", most)
        yield


def read(path: Path, **options: object) -> tuple[list[Item], LogLines]:
    reading = read_access_log(path, ReadOptions(**options))
    items = list(reading.items)
    assert reading.lines is not None
    return items, reading.lines


def told(items: Sequence[Item]) -> Told:
    """What records say, day by day; a record is as much as its figures."""
    found: Told = Counter()
    for item in items:
        if isinstance(item, Record):
            for f in item.figures:
                days = unpack_days(f.days)
                assert sum(n for _, n in days) == f.amount
                for day, n in days:
                    found[item.host, item.url, day, f.status_class, f.agent] += int(n)
            assert item.lines == sum(int(f.amount) for f in item.figures)
            assert item.sent
    return found


def led(records: Sequence[Record]) -> Counter[tuple[str, str, str]]:
    """What records say of where people came from."""
    found: Counter[tuple[str, str, str]] = Counter()
    for r in records:
        found.update({(r.host, r.url, who): int(n) for who, n in r.referrers.items()})
    return found
