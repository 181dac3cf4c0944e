"""Requests read from files: URL lists, sheets and logs, each distinct request once with its weight.

Large files are read in a process of its own, while this one gets the ledger ready.
"""

from __future__ import annotations

import heapq
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cached_property
from itertools import compress
from typing import TYPE_CHECKING, NamedTuple

from upright_ledger.app.collect.reading.inputs import inputs
from upright_ledger.app.collect.reading.reading_options import base_origin, options_for
from upright_ledger.app.collect.reading.request_rows import as_read
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.request_list import Requests
from upright_ledger.app.worker_process import Put, WorkerProcess
from upright_ledger.core.inventory.evidence import PERSONS, Figure
from upright_ledger.core.inventory.noise import asset_class, set_aside_class
from upright_ledger.core.inventory.packed import NO_DAYS, join_days
from upright_ledger.core.inventory.placing.classification import Classifier
from upright_ledger.core.inventory.units import ASKED
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.errors import InputError
from upright_ledger.formats.detection import recognise_surely
from upright_ledger.formats.records import (
    FEW,
    Aside,
    Item,
    ReadOptions,
    Record,
    RecordBlock,
    Reject,
    without_small,
)
from upright_ledger.formats.registry import check_kind, read_urls
from upright_ledger.ledger.tables.entries import entry_keys

if TYPE_CHECKING:
    from upright_ledger.core.inventory.placing.plain_places import PlainPlaces

_AT_ONCE = 20_000  # requests
_LARGE = 8 << 20  # bytes


_Job = tuple[Classifier, list[str], ReadOptions]


class _Batch(NamedTuple):
    """New requests: their URLs, sites and keys."""

    urls: list[str]
    sites: list[str]
    keys: list[str]


class _Rest(NamedTuple):
    """What is known when all is read. told: all but the requests themselves; said: the numbers of
    those of which files tell hits.
    """

    told: Requests
    said: frozenset[int]


def read_requests(
    move: MoveState,
    paths: list[str],
    options: ReadOptions | None = None,
) -> Requests:
    """Read all files; see `coming_requests`."""
    found = Requests()
    for _ in coming_requests(found, move, paths, options):
        pass
    return found


def coming_requests(
    found: Requests,
    move: MoveState,
    paths: list[str],
    options: ReadOptions | None = None,
) -> Iterator[int]:
    """Read all files into `found`, some requests at a time; yields how many there are so far: 0 as
    soon as reading has begun, so that all else can get ready meanwhile.

    A request's hits, known when all is read, are what the files say (people only). Where they say
    nothing, the first spelling of an entry stands for all the hits the ledger knows of it.
    """
    options = options or ReadOptions()
    check_kind(options.kind)
    placer = Classifier(move.sites, move.policy, base_origin(move.sites, options.host))
    with _reading(paths) as parts:
        placer.kept = _kept(move)
        job = (placer, paths, options_for(options, move.sites, move.policy))
        coming = parts(job)
        yield 0
        for part in coming:
            if isinstance(part, _Batch):
                found.urls += part.urls
                found.sites += part.sites
                found.keys += part.keys
                yield len(found)
            else:
                told = part.told
                found.hits, found.days, found.left_out, found.without = (
                    told.hits,
                    told.days,
                    told.left_out,
                    told.without,
                )
                if not found:
                    raise InputError(
                        f"no request for this ledger's old sites is in {', '.join(paths)}",
                        "check the files",
                    )
                _fill_in(found, move, part.said)


def _kept(move: MoveState) -> frozenset[tuple[str, str]]:
    """What looks like no page and is an entry all the same: sites and keys."""
    with move.ledger.reading() as connection:
        keys = entry_keys(connection)
    if len(keys) > FEW:
        from upright_ledger.core.inventory.placing.text_columns import may_be_no_pages

        keys = list(compress(keys, may_be_no_pages([key for _, key in keys])))
    return frozenset(
        (site, key)
        for site, key in keys
        if asset_class(key.partition("?")[0]) or set_aside_class(key)
    )


def _fill_in(found: Requests, move: MoveState, said: frozenset[int]) -> None:
    """The hits of entries of which no file says any."""
    told: set[int] = set()
    entries = found.entries(move)
    for n in compress(range(len(entries)), entries):
        entry = entries[n]
        if entry is not None and n not in said and entry.id not in told:
            told.add(entry.id)
            found.hits[n] = int(entry.evidence.hits)


@contextmanager
def _reading(paths: list[str]) -> Iterator[Callable[[_Job], Iterator[_Batch | _Rest]]]:
    """What reads files: here, or in a process of its own, which gets ready meanwhile."""
    if (
        (os.cpu_count() or 1) < 2
        or not all(map(os.path.isfile, paths))
        or sum(map(os.path.getsize, paths)) < _LARGE
    ):
        yield _read_here
        return
    with WorkerProcess[_Batch | _Rest](_read) as reading:

        def read_there(job: _Job) -> Iterator[_Batch | _Rest]:
            reading.begin([job])
            return _coming(reading)

        yield read_there


def _coming(reading: WorkerProcess[_Batch | _Rest]) -> Iterator[_Batch | _Rest]:
    while not reading.ended:
        if (part := reading.next(1.0)) is not None:
            yield part


def _read_here(job: _Job) -> Iterator[_Batch | _Rest]:
    parts: list[_Batch | _Rest] = []
    _read(parts.append, *job)
    yield from parts


def _read(put: Put, placer: Classifier, paths: list[str], options: ReadOptions) -> None:
    """Read the distinct requests of all files, and hand them over some at a time."""
    reader = _Reader(placer)
    found, handed = reader.found, 0
    with inputs(paths) as files:
        for file in files:
            its = options.kind or recognise_surely(file.path)
            with as_read(file, its, options) as (lines, kind):
                reading = read_urls(lines.path, kind, options)[1]
                for item in without_small(reading.items):
                    if isinstance(item, RecordBlock):
                        reader.add_block(item)
                    else:
                        reader.add(item)
                    if len(found) >= handed + _AT_ONCE:
                        put(_Batch(found.urls[handed:], found.sites[handed:], found.keys[handed:]))
                        handed = len(found)
            found.without += reading.folded
    put(_Batch(found.urls[handed:], found.sites[handed:], found.keys[handed:]))
    told = Requests(
        hits=found.hits, days=found.days, left_out=found.left_out, without=found.without
    )
    put(_Rest(told, frozenset(reader.said)))


class _Reader:
    """Takes up what files ask for, each distinct request once."""

    def __init__(self, placer: Classifier) -> None:
        self.found = Requests()
        self.said: set[int] = set()
        self._numbers: dict[str, int] = {}
        self._placer = placer

    @cached_property
    def _plain(self) -> PlainPlaces:
        from upright_ledger.core.inventory.placing.plain_places import PlainPlaces

        return PlainPlaces(self._placer.sites, self._placer.policy)

    def add_block(self, block: RecordBlock) -> None:
        """Take up many rows at a time: those whose addresses are plain as columns."""
        placed = self._plain.place(block.urls)
        amounts = [block.figures[unit] for unit in ASKED if unit in block.figures]
        plain = zip(placed.at, placed.sites, placed.keys, strict=True)
        others = sorted(set(range(len(block.lines))).difference(placed.at))
        for row, site, key in (
            heapq.merge(plain, ((n, "", "") for n in others)) if others else plain
        ):
            if not site:
                self.add(block.item(row))
                continue
            number = self._number(block.urls[row], site, key)
            if amounts and any(column[row] for column in amounts):
                self.said.add(number)
                self.found.hits[number] += int(max(0.0, *(column[row] for column in amounts)))

    def add(self, item: Item) -> None:
        """Take up one item."""
        if isinstance(item, Reject):
            self.found.left_out["could not be read"] += 1
        elif isinstance(item, Aside):
            self.found.left_out[item.kind] += item.lines
        else:
            self._add(item)

    def _number(self, url: str, site: str, key: str) -> int:
        number = self._numbers.get(url)
        if number is None:
            number = self._numbers[url] = len(self.found.urls)
            self.found.add(url, site, key)
        return number

    def _add(self, record: Record) -> None:
        found, placer = self.found, self._placer
        try:
            address = (
                placer.sent_address(record.url, record.host)
                if record.sent
                else parse_address(record.url, placer.base)
            )
        except NotAnAddressError:
            found.left_out["could not be read"] += record.lines
            return
        text = address.without_fragment
        number = self._numbers.get(text)
        if number is None:
            site, key, aside = placer.owner(address, sent=record.sent)
            if aside:
                found.left_out[aside] += record.lines
                return
            number = self._number(text, site, key)
        told = [f for f in record.figures if f.unit in ASKED]
        if told:
            self._count(number, text, told)

    def _count(self, number: int, url: str, told: list[Figure]) -> None:
        """Add up what is said of how often people asked."""
        self.said.add(number)
        people = [f for f in told if f.agent in PERSONS]
        amounts = [sum(f.amount for f in people if f.unit == u) for u in ASKED]
        self.found.hits[number] += int(max(amounts))
        days = join_days(f.days for f in people)
        if days:
            self.found.days[url] = join_days((self.found.days.get(url, NO_DAYS), days))
