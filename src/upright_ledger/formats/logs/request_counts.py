"""Adding up a log: every distinct request once, with its statuses, days, bots and referrers."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise
from typing import Any, NamedTuple, cast

import numpy as np
import numpy.typing as npt

from upright_ledger.core.inventory.agents import asker_of
from upright_ledger.core.inventory.evidence import ASKERS, Asker, Figure, status_class
from upright_ledger.core.inventory.noise import AsideClass, is_sure_probe
from upright_ledger.core.inventory.packed import PackedDays
from upright_ledger.core.inventory.units import HITS
from upright_ledger.formats.logs.columns.block_scanner import Columns, sign_of
from upright_ledger.formats.logs.log_line import (
    NO_REQUEST,
    UNDATED,
    host_name,
    unescape,
    with_escapes,
)
from upright_ledger.formats.logs.numbering import Codes, Counts, NumberedTexts, digests_of
from upright_ledger.formats.logs.request_texts import (
    read_day,
    reject,
    without_query,
    without_signs,
)
from upright_ledger.formats.logs.visitors import UNKNOWN, Visitors, scanners
from upright_ledger.formats.records import Aside, Item, LogLines, Record, Reject

_DAY_BITS, _ASKER_BITS, _STATUS_BITS, _REFERRER_BITS = 16, 3, 10, 24
_WHO = (1 << _ASKER_BITS) - 1
_STATUS_AT = _DAY_BITS + _ASKER_BITS
# distinct requests or referrers, or twice as many counted keys; then what was counted is handed on
MOST_IN_MEMORY = 1_000_000
_AT_ONCE = 100_000  # counted keys made records of at one time
_DAMAGED, _ASIDE = -1, -2
_REFERRERS = (1 << _REFERRER_BITS) - 1
MAX_REFERRERS = 20
_TARGET_BIT = _STATUS_AT + _STATUS_BITS
_MOST_HELD = 2_000_000  # requests of which is told at one time whether a scanner's
_NOBODY = -1
_CLASS_BITS = 6
_GROUP_BITS = _CLASS_BITS + _ASKER_BITS
_DAY_MARK = np.uint64(0x9E3779B97F4A7C15)  # so that a visitor has a number of each day


class _Held(NamedTuple):
    """Requests that are not counted yet: their keys, those of what led to them, or _NOBODY, and who
    asked.
    """

    keys: Codes
    led: Codes
    visitors: Visitors


class Tally:
    """Counts the requests of a log. Feed it with `add`, take `part` where it `is_full`, and read
    `items` at the end.

    A log of more distinct requests than fit into memory comes in several parts; what they say of
    one request adds up. Requests, days and the rest are looked at once for each distinct text.
    with_hosts: every request begins with the host it was sent to and a blank. noise: kinds of
    parameters for which requests hold signs; see `columns.block_scanner`.
    """

    def __init__(self, lines: LogLines, *, with_hosts: bool, noise: Sequence[str] = ()) -> None:
        self.lines = lines
        self._with_hosts = with_hosts
        self._known = {
            day: np.sort(np.concatenate([digests_of(d) for d in parts]))
            for day, parts in lines.known.items()
        }
        self._let_go = {day for day, parts in lines.known.items() if not all(parts)}
        self._found: dict[str, list[npt.NDArray[np.uint64]]] = {}
        self._signs = {sign_of(number): kind for number, kind in enumerate(noise)}
        self.without: Counter[str] = Counter()
        """Kind of noise → requests that were counted without it."""
        self.undated = 0
        """Lines that tell no day."""
        self._begin()

    def _begin(self) -> None:
        self._requests, self._referrers = NumberedTexts(), NumberedTexts()
        self._agents, self._days = NumberedTexts(), NumberedTexts()
        self._noisy: list[int] = []  # of each distinct request: a bit a kind of noise that it holds
        self._meanings: list[
            int
        ] = []  # of each distinct request: its target, _DAMAGED, or _ASIDE and below
        self._targets: dict[tuple[str, str], int] = {}  # (host, target)
        self._first_lines: list[int] = []  # of each target
        self._askers_told: list[int] = []  # of each agent: its place among ASKERS
        self._day_texts: list[str] = []
        self._aside_texts: list[str] = []
        self._asides: Counter[int] = Counter()
        self._counts, self._led = Counts(), Counts()
        self._is_probe: list[bool] = []  # of each target
        self._held: list[_Held] = []
        self._holding = 0
        self._askers: Counter[int] = Counter()  # target → how many people asked for it in vain

    @property
    def is_full(self) -> bool:
        """Whether `part` should be taken before more is added."""
        names = max(
            len(self._requests.numbers),
            len(self._referrers.numbers),
            len(self._led) // 2,
            len(self._counts) // 2,
        )
        return (
            names > MOST_IN_MEMORY
            or len(self._agents.numbers) > MOST_IN_MEMORY
            or len(self._day_texts) >= 1 << _DAY_BITS - 1
        )

    def add(self, columns: Columns) -> Iterator[Reject]:
        """Count the lines of some columns (not the odd ones); yields those that are damaged."""
        if not len(columns.number):
            return
        requests = self._requests.encode(columns.request)
        targets = self._meaning_of(requests, columns.number)
        days = self._days.encode(columns.day)
        self._day_texts += [read_day(text) for text in self._days.since(len(self._day_texts))]
        sound = (targets != _DAMAGED) & np.array(self._day_texts, bool)[days]
        sound &= (columns.status >= 100) & (columns.status < 600)
        for at in np.flatnonzero(~sound).tolist():
            yield reject(columns, at, with_hosts=self._with_hosts)
        sound &= self._is_fresh(days, columns.digest, sound)
        marks, times = np.unique(targets[sound & (targets <= _ASIDE)], return_counts=True)
        for mark, count in zip(marks.tolist(), times.tolist(), strict=True):
            self._asides[mark] += count
        counted = sound & (targets >= 0)
        self._count_noise(requests[counted])
        agents = self._agents.encode(columns.agent)
        self._askers_told += [
            ASKERS.index(Asker.PEOPLE if t is None else asker_of(t))
            for t in self._agents.since(len(self._askers_told))
        ]
        who = np.array(self._askers_told, np.int64)[agents]
        keys = (((targets << _STATUS_BITS) | columns.status) << _ASKER_BITS) | who
        keys = (keys << _DAY_BITS) | days
        referrers = self._referrers.encode(columns.referrer, without_query)
        named = counted & ~np.isin(
            referrers, [self._referrers.numbers.get(n, -1) for n in (None, "", "-")]
        )
        # A campaign says more of where somebody came from than the page that bore it.
        if len(columns.campaign.dictionary):
            campaigns = self._referrers.encode(columns.campaign)
            told = campaigns != self._referrers.numbers.get(None, -1)
            referrers = np.where(told, campaigns, referrers)
            named |= counted & told
        led = np.where(named, (targets << _REFERRER_BITS) | referrers, _NOBODY)
        self._held.append(_Held(keys[counted], led[counted], columns.visitor[counted]))
        self._holding += len(self._held[-1].keys)
        if self._holding > min(_MOST_HELD, 2 * MOST_IN_MEMORY):
            self._settle()

    def _settle(self) -> None:
        """Count what is held: scanners are scanners in all that they asked that day."""
        if not self._held:
            return
        keys, led, visitors = (np.concatenate(parts) for parts in zip(*self._held, strict=True))
        self._held, self._holding = [], 0
        targets = keys >> _TARGET_BIT
        failing = (keys >> _STATUS_AT & ((1 << _STATUS_BITS) - 1)) >= 400
        days = (keys & ((1 << _DAY_BITS) - 1)).astype(np.uint64) * _DAY_MARK
        daily = np.where(visitors == UNKNOWN, UNKNOWN, visitors ^ days)
        by_scanner = scanners(daily, targets, np.array(self._is_probe, bool)[targets], failing)
        scanning = (keys & ~(_WHO << _DAY_BITS)) | ASKERS.index(Asker.SCANNERS) << _DAY_BITS
        keys = np.where(by_scanner, scanning, keys)
        self._counts.add(keys)
        self._led.add(led[led != _NOBODY])
        people = failing & (keys >> _DAY_BITS & _WHO == 0) & (visitors != UNKNOWN)
        pairs = np.unique(np.stack([targets[people].astype(np.uint64), visitors[people]]), axis=1)
        asked, many = np.unique(pairs[0].astype(np.int64), return_counts=True)
        for target, n in zip(asked.tolist(), many.tolist(), strict=True):
            self._askers[target] = max(self._askers[target], n)

    def _count_noise(self, requests: Codes) -> None:
        noisy = np.array(self._noisy, np.int64)[requests]
        for bit, kind in enumerate(self._signs.values()):
            self.without[kind] += int(np.count_nonzero(noisy >> bit & 1))

    def _meaning_of(self, codes: Codes, numbers: Codes) -> Codes:
        before = len(self._meanings)
        fresh = self._requests.since(before)
        if fresh:
            first = np.full(len(fresh), -1, np.int64)
            new = np.flatnonzero(codes >= before)[::-1]
            first[codes[new] - before] = numbers[new]
            self._noisy += [
                sum(1 << bit for bit, sign in enumerate(self._signs) if sign in (text or ""))
                for text in fresh
            ]
            texts = [
                without_signs(text or "") if noisy else text
                for text, noisy in zip(fresh, self._noisy[before:], strict=True)
            ]
            self._meanings += [
                self._read_request(t, n) for t, n in zip(texts, first.tolist(), strict=True)
            ]
        return np.array(self._meanings, np.int64)[codes]

    def _read_request(self, text: str | None, line: int) -> int:
        host, _, request = (text or "").partition(" ") if self._with_hosts else ("", "", text or "")
        parts = request.split(" ")
        if len(parts) != 3 or not parts[2].startswith("HTTP/"):
            return self._aside(request) if request in NO_REQUEST else _DAMAGED
        target = unescape(with_escapes(parts[1]))
        if parts[0] not in {"GET", "HEAD"} or not target.startswith(("/", "http://", "https://")):
            return self._aside(f"{parts[0]} {target.partition('?')[0]}")
        number = self._targets.setdefault((host_name(host), target), len(self._targets))
        if number == len(self._first_lines):
            self._first_lines.append(line)
            self._is_probe.append(is_sure_probe(target))
        return number

    def _aside(self, text: str) -> int:
        self._aside_texts.append(text)
        return _ASIDE - len(self._aside_texts) + 1

    def _is_fresh(
        self, days: Codes, digests: npt.NDArray[np.uint64], sound: npt.NDArray[np.bool_]
    ) -> Any:
        """Which lines no earlier log of the ledger holds; the fresh ones are noted."""
        fresh = np.ones(len(days), bool)
        for code in np.unique(days[sound]).tolist():
            day, here = self._day_texts[code][:10], np.flatnonzero((days == code) & sound)
            if day == UNDATED:  # the same line may well come again another day
                self.undated += len(here)
                continue
            mine = digests[here]
            if day in self._let_go:
                fresh[here] = False
                self.lines.repeated += len(here)
                self.lines.let_go[day] += len(here)
                continue
            if day in self._known:
                known = self._known[day]
                at = np.minimum(np.searchsorted(known, mine), len(known) - 1)
                repeated = known[at] == mine
                fresh[here[repeated]] = False
                self.lines.repeated += int(repeated.sum())
                mine = mine[~repeated]
            if len(mine):
                self._found.setdefault(day, []).append(mine)
        return fresh

    def items(self) -> Iterator[Item]:
        """The last part, and what is known at the end. Fills in `LogLines.found`."""
        self.lines.found = {
            d: np.concatenate(parts).astype("<u8").tobytes() for d, parts in self._found.items()
        }
        if self.lines.repeated:
            yield Aside(0, AsideClass.COUNTED_BEFORE, lines=self.lines.repeated)
        yield from self.part()

    def part(self) -> Iterator[Item]:
        """All that was counted since the last part: a record a target, and what is set aside.
        Forgets it.
        """
        self._settle()
        for mark, count in sorted(self._asides.items(), reverse=True):
            yield Aside(
                0, AsideClass.NOT_A_PAGE_REQUEST, self._aside_texts[_ASIDE - mark], lines=count
            )
        targets, led = list(self._targets), self._referrers_by_target()
        for number, told in self._figures():
            host, target = targets[number]
            yield Record(
                self._first_lines[number],
                target,
                int(sum(f.amount for f in told)),
                sent=True,
                real=any(f.status_class[:1] in {"2", "3"} for f in told),
                host=host,
                figures=told,
                referrers=led(number),
                askers=self._askers[number],
            )
        self._begin()

    @property
    def days(self) -> dict[str, int]:
        """Day → lines that were new."""
        return {day: sum(map(len, parts)) for day, parts in sorted(self._found.items())}

    def _figures(self) -> Iterator[tuple[int, list[Figure]]]:
        """Each target with its figures, one a status class and sort of visitor with the days beside
        it.
        """
        keys, counts = self._counts.total()
        if not len(keys):
            return
        # Statuses of one class count together; days in their own order.
        classes = sorted({status_class(n) for n in range(100, 600)})
        class_of = np.array([classes.index(status_class(max(n, 100))) for n in range(600)])
        days = sorted(set(self._day_texts))
        place = {day: n for n, day in enumerate(days)}
        day_of = np.array([place[d] for d in self._day_texts], np.int64)
        status = (keys >> _STATUS_AT) & ((1 << _STATUS_BITS) - 1)
        head = keys >> _TARGET_BIT
        who = (keys >> _DAY_BITS) & _WHO
        ordered = Counts()
        ordered.put(
            (((head << _CLASS_BITS | class_of[status]) << _ASKER_BITS | who) << _DAY_BITS)
            | day_of[keys & 0xFFFF],
            counts,
        )
        keys, counts = ordered.total()
        number_of = keys >> _DAY_BITS + _GROUP_BITS
        begin = 0
        while begin < len(keys):
            # A target is never cut in two.
            end = int(
                np.searchsorted(number_of, number_of[min(begin + _AT_ONCE, len(keys)) - 1], "right")
            )
            yield from _figures_of(keys[begin:end], counts[begin:end], classes, days)
            begin = end

    def _referrers_by_target(self) -> Callable[[int], dict[str, float]]:
        """A function of a target: its most frequent referrers, the others together under an empty
        name.
        """
        keys, counts = self._led.total()
        names = [unescape(name or "") for name in self._referrers.numbers]
        targets = keys >> _REFERRER_BITS
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
    starts = np.flatnonzero(np.r_[True, keys[1:] >> _DAY_BITS != keys[:-1] >> _DAY_BITS])
    amounts = np.add.reduceat(counts, starts)
    spread = _joined(days, keys & 0xFFFF, counts, starts)
    groups = keys[starts] >> _DAY_BITS
    last, told = -1, list[Figure]()
    for group, amount, text in zip(groups.tolist(), amounts.tolist(), spread, strict=True):
        if group >> _GROUP_BITS != last and told:
            yield last, told
            told = []
        last = group >> _GROUP_BITS
        code = classes[(group >> _ASKER_BITS) & ((1 << _CLASS_BITS) - 1)]
        told.append(Figure(HITS, float(amount), code, ASKERS[group & _WHO], text))
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
