"""Requests read from files: URL lists, sheets and logs, each distinct request once with its weight.

Large files are read in a process of its own, while this one gets the ledger ready.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from typing import NamedTuple

from upright_ledger.app.collect.inputs import inputs
from upright_ledger.app.collect.reading_options import base_origin, options_for
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.request_list import Requests
from upright_ledger.app.worker_process import Put, WorkerProcess
from upright_ledger.core.inventory.evidence import Asker
from upright_ledger.core.inventory.noise import asset_class
from upright_ledger.core.inventory.packed import NO_DAYS, join_days
from upright_ledger.core.inventory.placing.classification import Classifier
from upright_ledger.core.inventory.units import ASKED
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.errors import InputError
from upright_ledger.formats.records import Aside, ReadOptions, Record, Reject, one_by_one
from upright_ledger.formats.registry import check_kind, read_urls

_AT_ONCE = 20_000  # requests
_LARGE = 8 << 20  # bytes


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
    """Read all files into `found`, some requests at a time; yields how many there are so far.

    A request's hits, known when all is read, are what the files say (people only). Where they say
    nothing, the first spelling of an entry stands for all the hits the ledger knows of it.
    """
    options = options or ReadOptions()
    check_kind(options.kind)
    placer = Classifier(move.sites, move.policy, base_origin(move.sites, options.host))
    placer.assets_kept = frozenset(
        (e.site, e.key) for e in move.entries if asset_class(e.key.partition("?")[0])
    )
    job = (placer, paths, options_for(options, move.sites, move.policy))
    for part in _parts(paths, job):
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


def _fill_in(found: Requests, move: MoveState, said: frozenset[int]) -> None:
    """The hits of entries of which no file says any."""
    told: set[int] = set()
    for n, entry in enumerate(found.entries(move)):
        if entry is not None and n not in said and entry.id not in told:
            told.add(entry.id)
            found.hits[n] = int(entry.evidence.hits)


def _parts(
    paths: list[str], job: tuple[Classifier, list[str], ReadOptions]
) -> Iterator[_Batch | _Rest]:
    if (
        (os.cpu_count() or 1) < 2
        or not all(map(os.path.isfile, paths))
        or sum(map(os.path.getsize, paths)) < _LARGE
    ):
        parts: list[_Batch | _Rest] = []
        _read(parts.append, *job)
        yield from parts
        return
    with WorkerProcess[_Batch | _Rest](_read) as reading:
        reading.begin([job])
        while not reading.ended:
            if (part := reading.next(1.0)) is not None:
                yield part


def _read(put: Put, placer: Classifier, paths: list[str], options: ReadOptions) -> None:
    """Read the distinct requests of all files, and hand them over some at a time."""
    found = Requests()
    numbers: dict[str, int] = {}
    said: set[int] = set()
    handed = 0
    with inputs(paths) as files:
        for file in files:
            reading = read_urls(file.path, options.kind, options)[1]
            for item in one_by_one(reading.items):
                if isinstance(item, Reject):
                    found.left_out["could not be read"] += 1
                elif isinstance(item, Aside):
                    found.left_out[item.kind] += item.lines
                else:
                    _add(found, numbers, said, item, placer)
                    if len(found) >= handed + _AT_ONCE:
                        put(_Batch(found.urls[handed:], found.sites[handed:], found.keys[handed:]))
                        handed = len(found)
            found.without += reading.folded
    put(_Batch(found.urls[handed:], found.sites[handed:], found.keys[handed:]))
    told = Requests(
        hits=found.hits, days=found.days, left_out=found.left_out, without=found.without
    )
    put(_Rest(told, frozenset(said)))


def _add(
    found: Requests, numbers: dict[str, int], said: set[int], record: Record, placer: Classifier
) -> None:
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
    number = numbers.get(text)
    if number is None:
        site, key, aside = placer.owner(address, sent=record.sent)
        if aside:
            found.left_out[aside] += record.lines
            return
        number = numbers[text] = len(found)
        found.add(text, site, key)
    if record.figures:
        _count(found, said, number, text, record)


def _count(found: Requests, said: set[int], number: int, url: str, record: Record) -> None:
    """Add up what a record says of how often people asked."""
    told = [f for f in record.figures if f.unit in ASKED]
    if not told:
        return
    said.add(number)
    people = [f for f in told if f.agent != Asker.BOTS]
    found.hits[number] += int(max(sum(f.amount for f in people if f.unit == u) for u in ASKED))
    days = join_days(f.days for f in people)
    if days:
        found.days[url] = join_days((found.days.get(url, NO_DAYS), days))
