"""Adding up lines that are numbers, and putting together what several pieces of a log amount to."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, TypeVar

import numpy as np
import numpy.typing as npt
from xxhash import xxh3_64_intdigest

from upright_ledger.core.inventory.evidence import ASKERS, Asker
from upright_ledger.formats.logs.counting.numbering import Codes, Counts
from upright_ledger.formats.logs.counting.request_lines import (
    DAY_BITS,
    NOBODY,
    REFERRER_BITS,
    STATUS_AT,
    STATUS_BITS,
    TARGET_AT,
    WHO,
    RequestLines,
    Told,
)
from upright_ledger.formats.logs.visitors import UNKNOWN, Visitors, each_once

T = TypeVar("T")
LINES_TOGETHER = 2_000_000
"""Lines of a log, from its first on, of which is told at one time whether a scanner's."""
_STRETCH_MARK = np.uint64(0xC2B2AE3D27D4EB4F)
_SCANNING = ASKERS.index(Asker.SCANNERS) << DAY_BITS
_REFERRERS = (1 << REFERRER_BITS) - 1
_DAYS = (1 << DAY_BITS) - 1


Askers = npt.NDArray[np.uint64]
"""Rows: target, stretch of lines, visitor; each triple once."""


def _nobody() -> Askers:
    return np.empty((3, 0), np.uint64)


@dataclass
class Summary:
    """What lines amount to: keys (see `request_lines`) and led, each with its count, whose numbers
    are places in these lists.

    targets: (host, target); first_lines: of each. asides: what lines ask for that ask for no page →
    lines. without: kind of noise → requests that were counted without it. askers: who asked for
    targets in vain.
    """

    targets: list[tuple[str, str]] = field(default_factory=list)
    first_lines: list[int] = field(default_factory=list)
    referrers: list[str | None] = field(default_factory=list)
    days: list[str] = field(default_factory=list)
    counts: tuple[Codes, Codes] = field(default_factory=lambda: Counts().total())
    led: tuple[Codes, Codes] = field(default_factory=lambda: Counts().total())
    asides: Counter[str] = field(default_factory=Counter)
    without: Counter[str] = field(default_factory=Counter)
    askers: Askers = field(default_factory=_nobody)


def pages(told: Told) -> Told:
    """The lines that ask for a page."""
    return told.where(told.keys >= 0)


def visitors_of_days(told: Told, days: Sequence[str]) -> Visitors:
    """The visitors, of a day and a stretch of lines each. days: their names."""
    marks = np.fromiter((xxh3_64_intdigest(day.encode()) for day in days), np.uint64, len(days))
    marks = marks[told.days] ^ (_stretches(told) * _STRETCH_MARK)
    return np.where(told.visitors == UNKNOWN, UNKNOWN, told.visitors ^ marks)


def _stretches(told: Told) -> npt.NDArray[np.uint64]:
    found: npt.NDArray[np.uint64] = stretch_of(told.numbers).astype(np.uint64)
    return found


def stretch_of(numbers: Any) -> Any:
    """In which stretches of lines that are told at one time lines are, by their numbers."""
    return numbers // LINES_TOGETHER


def is_failing(told: Told) -> npt.NDArray[np.bool_]:
    """Which lines tell of requests that failed."""
    found: npt.NDArray[np.bool_] = (told.keys >> STATUS_AT & ((1 << STATUS_BITS) - 1)) >= 400
    return found


class Sums:
    """Adds up lines of one `RequestLines`."""

    def __init__(self, lines: RequestLines) -> None:
        self._lines = lines
        self._counts, self._led = Counts(), Counts()
        self._asides: Counter[int] = Counter()
        self._without: Counter[str] = Counter()
        self._askers: list[Askers] = []

    def __len__(self) -> int:
        """Distinct keys, or a few more."""
        return max(len(self._counts), len(self._led))

    def add_others(self, told: Told) -> None:
        """Count the noise of pages, and lines that ask for none."""
        noisy = told.noisy[told.keys >= 0]
        for bit, kind in enumerate(self._lines.noise):
            self._without[kind] += int(np.count_nonzero(noisy >> bit & 1))
        marks, times = np.unique(told.keys[told.keys < 0], return_counts=True)
        for mark, count in zip(marks.tolist(), times.tolist(), strict=True):
            self._asides[mark] += count

    def add(self, told: Told, by_scanner: npt.NDArray[np.bool_]) -> None:
        """Count lines that ask for pages: scanners are scanners in all that they asked that day."""
        keys = np.where(by_scanner, (told.keys & ~(WHO << DAY_BITS)) | _SCANNING, told.keys)
        self._counts.add(keys)
        self._led.add(told.led[told.led != NOBODY])
        people = is_failing(told) & (keys >> DAY_BITS & WHO == 0) & (told.visitors != UNKNOWN)
        if people.any():
            asked = (told.keys >> TARGET_AT).astype(np.uint64)
            rows = np.stack([asked, _stretches(told), told.visitors])[:, people]
            self._askers.append(each_once(rows))

    def summary(self) -> Summary:
        """What all of it amounts to."""
        lines = self._lines
        asides: Counter[str] = Counter()
        for mark, n in sorted(self._asides.items(), reverse=True):
            asides[lines.text_of(mark)] += n
        return Summary(
            list(lines.targets),
            list(lines.first_lines),
            list(lines.referrers.numbers),
            list(lines.days),
            self._counts.total(),
            self._led.total(),
            asides,
            self._without,
            _once(self._askers),
        )


def _once(parts: Sequence[Askers]) -> Askers:
    return each_once(np.concatenate(parts, axis=1)) if parts else _nobody()


def merged(parts: Sequence[Summary]) -> Summary:
    """What the pieces of a log amount to, in their order, together."""
    found = Summary()
    targets: dict[tuple[str, str], int] = {}
    referrers: dict[str | None, int] = {}
    days: dict[str, int] = {}
    counts, led, askers = Counts(), Counts(), list[Askers]()
    for part in parts:
        target_of = _renumbered(part.targets, targets)
        fresh = len(targets) - len(found.first_lines)
        found.first_lines += [0] * fresh
        for number, line in zip(target_of.tolist(), part.first_lines, strict=True):
            found.first_lines[number] = found.first_lines[number] or line
        day_of = _renumbered(part.days, days)
        referrer_of = _renumbered(part.referrers, referrers)
        keys, amounts = part.counts
        inner = keys & ((1 << TARGET_AT) - 1) & ~_DAYS
        counts.put(
            target_of[keys >> TARGET_AT] << TARGET_AT | inner | day_of[keys & _DAYS], amounts
        )
        keys, amounts = part.led
        led.put(
            target_of[keys >> REFERRER_BITS] << REFERRER_BITS | referrer_of[keys & _REFERRERS],
            amounts,
        )
        found.asides += part.asides
        found.without += part.without
        rows = part.askers.copy()
        rows[0] = target_of[rows[0].astype(np.int64)]
        askers.append(rows)
    found.targets, found.referrers, found.days = list(targets), list(referrers), list(days)
    found.counts, found.led, found.askers = counts.total(), led.total(), _once(askers)
    return found


def _renumbered(names: Sequence[T], known: dict[T, int]) -> Codes:
    """The numbers of names among those known; new ones are added."""
    return np.fromiter((known.setdefault(n, len(known)) for n in names), np.int64, len(names))
