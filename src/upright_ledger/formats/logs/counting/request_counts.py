"""Counting a log: every distinct request once, with its statuses, days, visitors and referrers."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.logs.columns.block_scanner import Columns
from upright_ledger.formats.logs.counting.line_identity import LineIdentity
from upright_ledger.formats.logs.counting.request_lines import (
    DAY_BITS,
    TARGET_AT,
    RequestLines,
    Told,
    joined,
)
from upright_ledger.formats.logs.counting.request_records import items_of
from upright_ledger.formats.logs.counting.request_sums import (
    Summary,
    Sums,
    is_failing,
    pages,
    stretch_of,
    visitors_of_days,
)
from upright_ledger.formats.logs.visitors import scanners
from upright_ledger.formats.records import Aside, Item, LogLines, Reject

# distinct requests or referrers, or twice as many counted keys; then what was counted is handed on
MOST_IN_MEMORY = 1_000_000


class Tally:
    """Counts the requests of a log. Feed it with `add`, take `part` where it `is_full`, and read
    `items` at the end.

    A log of more distinct requests than fit into memory comes in several parts; what they say of
    one request adds up. See `RequestLines` for with_hosts and noise.
    """

    def __init__(self, lines: LogLines, *, with_hosts: bool, noise: Sequence[str] = ()) -> None:
        self.identity = LineIdentity(lines)
        self._with_hosts, self._noise = with_hosts, noise
        self.without: Counter[str] = Counter()
        """Kind of noise → requests that were counted without it."""
        self._begin()

    def _begin(self) -> None:
        self._lines = RequestLines(with_hosts=self._with_hosts, noise=self._noise)
        self._sums = Sums(self._lines)
        self._held: list[Told] = []
        self._stretch = 0

    @property
    def is_full(self) -> bool:
        """Whether `part` should be taken before more is added."""
        return (
            max(self._lines.names, len(self._sums) // 2) > MOST_IN_MEMORY
            or len(self._lines.days) >= 1 << DAY_BITS - 1
        )

    def add(self, columns: Columns) -> Iterator[Reject]:
        """Count the lines of some columns (not the odd ones); yields those that are damaged."""
        if not len(columns.number):
            return
        damaged, told = self._lines.read(columns)
        yield from damaged
        told = told.where(self.identity.fresh(self._lines.days, told.days, told.digests))
        self._sums.add_others(told)
        self._held.append(pages(told))

    def settle_before(self, number: int) -> None:
        """Count the stretches of lines that end before a line, up to which all were added."""
        stretch = stretch_of(number)
        if stretch > self._stretch:
            self._stretch = stretch
            told = joined(self._held)
            whole = stretch_of(told.numbers) < stretch
            self._count(told.where(whole))
            self._held = [told.where(~whole)]

    def _count(self, told: Told) -> None:
        targets = told.keys >> TARGET_AT
        probes = self._lines.probes()[targets]
        visitors = visitors_of_days(told, self._lines.days)
        by_scanner = scanners(visitors, targets, probes, is_failing(told))
        self._sums.add(told, by_scanner)

    def items(self) -> Iterator[Item]:
        """The last part, and what is known at the end. Fills in `LogLines.found`."""
        self.identity.close()
        yield from known_before(self.identity.lines)
        yield from self.part()

    def part(self) -> Iterator[Item]:
        """All that was counted since the last part: a record a target, and what is set aside.
        Forgets it.
        """
        yield from items_of(self._summary())
        self._begin()

    def _summary(self) -> Summary:
        self._count(joined(self._held))
        found = self._sums.summary()
        self.without += found.without
        return found


def known_before(lines: LogLines) -> Iterator[Item]:
    """The lines that count already, as what is set aside."""
    if lines.repeated:
        yield Aside(0, AsideClass.COUNTED_BEFORE, lines=lines.repeated)
