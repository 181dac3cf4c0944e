"""What lines of a log amount to, as records: a target each, with its statuses, days, visitors and
referrers.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise
from typing import cast

import numpy as np

from upright_ledger.core.inventory.evidence import ASKERS, Figure, status_class
from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.core.inventory.packed import PackedDays
from upright_ledger.core.inventory.units import HITS
from upright_ledger.formats.logs.counting.numbering import Codes, Counts
from upright_ledger.formats.logs.counting.request_lines import (
    ASKER_BITS,
    DAY_BITS,
    REFERRER_BITS,
    STATUS_AT,
    STATUS_BITS,
    TARGET_AT,
    WHO,
)
from upright_ledger.formats.logs.counting.request_sums import Summary
from upright_ledger.formats.logs.log_line import UNDATED, unescape
from upright_ledger.formats.records import Aside, Item, Record

_AT_ONCE = 100_000  # counted keys made records of at one time
_REFERRERS = (1 << REFERRER_BITS) - 1
MAX_REFERRERS = 20
_CLASS_BITS = 6
_GROUP_BITS = _CLASS_BITS + ASKER_BITS


def items_of(summary: Summary) -> Iterator[Item]:
    """A record a target, and what is set aside."""
    for text, count in summary.asides.items():
        yield Aside(0, AsideClass.NOT_A_PAGE_REQUEST, text, lines=count)
    led, askers = _referrers_by_target(summary), _askers_by_target(summary)
    for number, told in _figures(summary):
        host, target = summary.targets[number]
        yield Record(
            summary.first_lines[number],
            target,
            int(sum(f.amount for f in told)),
            sent=True,
            real=any(f.status_class[:1] in {"2", "3"} for f in told),
            host=host,
            figures=told,
            referrers=led(number),
            askers=askers.get(number, 0),
        )


def _askers_by_target(summary: Summary) -> dict[int, int]:
    """Target → how many people asked for it in vain, in the stretch in which most did."""
    targets, stretches, _ = summary.askers
    begin = np.flatnonzero(
        np.r_[True, (targets[1:] != targets[:-1]) | (stretches[1:] != stretches[:-1])]
    )
    many = np.diff(np.r_[begin, len(targets)])
    found: dict[int, int] = {}
    if len(targets):
        for target, n in zip(targets[begin].tolist(), many.tolist(), strict=True):
            found[target] = max(found.get(target, 0), n)
    return found


def _figures(summary: Summary) -> Iterator[tuple[int, list[Figure]]]:
    """Each target with its figures, one a status class and sort of visitor with the days beside
    it.
    """
    keys, counts = summary.counts
    if not len(keys):
        return
    # Statuses of one class count together; days in their own order.
    classes = sorted({status_class(n) for n in range(100, 600)})
    class_of = np.array([classes.index(status_class(max(n, 100))) for n in range(600)])
    days = sorted(set(summary.days))
    place = {day: n for n, day in enumerate(days)}
    day_of = np.array([place[d] for d in summary.days], np.int64)
    status = (keys >> STATUS_AT) & ((1 << STATUS_BITS) - 1)
    head = keys >> TARGET_AT
    who = (keys >> DAY_BITS) & WHO
    ordered = Counts()
    ordered.put(
        (((head << _CLASS_BITS | class_of[status]) << ASKER_BITS | who) << DAY_BITS)
        | day_of[keys & 0xFFFF],
        counts,
    )
    keys, counts = ordered.total()
    number_of = keys >> DAY_BITS + _GROUP_BITS
    begin = 0
    while begin < len(keys):
        # A target is never cut in two.
        end = int(
            np.searchsorted(number_of, number_of[min(begin + _AT_ONCE, len(keys)) - 1], "right")
        )
        yield from _figures_of(keys[begin:end], counts[begin:end], classes, days)
        begin = end


def _referrers_by_target(summary: Summary) -> Callable[[int], dict[str, float]]:
    """A function of a target: its most frequent referrers, the others together under an empty
    name.
    """
    keys, counts = summary.led
    names = [unescape(name or "") for name in summary.referrers]
    targets = keys >> REFERRER_BITS
    # Of equally frequent ones the first by name, so that the order of lines does not matter.
    rank = np.empty(len(names), np.int64)
    rank[sorted(range(len(names)), key=names.__getitem__)] = np.arange(len(names))
    order = np.lexsort((rank[keys & _REFERRERS], -counts, targets))
    keys, counts, targets = keys[order], counts[order], targets[order]

    def of(number: int) -> dict[str, float]:
        start, end = np.searchsorted(targets, [number, number + 1]).tolist()
        cut = min(end, start + MAX_REFERRERS)
        found: dict[str, float] = {}
        for code, amount in zip(
            (keys[start:cut] & _REFERRERS).tolist(), counts[start:cut].tolist(), strict=True
        ):
            found[names[code]] = found.get(names[code], 0.0) + amount
        if end > cut:
            found[""] = float(counts[cut:end].sum())
        return found

    return of


def _figures_of(
    keys: Codes, counts: Codes, classes: Sequence[str], days: Sequence[str]
) -> Iterator[tuple[int, list[Figure]]]:
    """Targets with their figures, of some counted keys in order."""
    starts = np.flatnonzero(np.r_[True, keys[1:] >> DAY_BITS != keys[:-1] >> DAY_BITS])
    amounts = np.add.reduceat(counts, starts)
    spread = _joined(days, keys & 0xFFFF, counts, starts)
    groups = keys[starts] >> DAY_BITS
    last, told = -1, list[Figure]()
    for group, amount, text in zip(groups.tolist(), amounts.tolist(), spread, strict=True):
        if group >> _GROUP_BITS != last and told:
            yield last, told
            told = []
        last = group >> _GROUP_BITS
        code = classes[(group >> ASKER_BITS) & ((1 << _CLASS_BITS) - 1)]
        told.append(Figure(HITS, float(amount), code, ASKERS[group & WHO], text))
    yield last, told


def _joined(days: Sequence[str], codes: Codes, counts: Codes, starts: Codes) -> list[PackedDays]:
    """The days of each group, which come in their order, as `pack_days` would have them."""
    texts = [
        f"{days[code]}:{count}" if days[code] != UNDATED else ""
        for code, count in zip(codes.tolist(), counts.tolist(), strict=True)
    ]
    bounds = [*starts.tolist(), len(texts)]
    packed = [texts[a] if b - a == 1 else " ".join(texts[a:b]) for a, b in pairwise(bounds)]
    if UNDATED in days:
        packed = [text.strip() for text in packed]
    return cast("list[PackedDays]", packed)
