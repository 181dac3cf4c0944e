"""Requests read from files: URL lists, sheets and logs, each distinct request once with its weight."""

from __future__ import annotations

from upright_ledger.app.book import Book
from upright_ledger.app.gather import base_origin, options_for
from upright_ledger.app.inputs import inputs
from upright_ledger.app.requests import Requests
from upright_ledger.core.addresses import NotAnAddressError, parse_address
from upright_ledger.core.evidence import BOTS, CLICKS, HITS, VISITS
from upright_ledger.core.placing import Placer
from upright_ledger.errors import InputError
from upright_ledger.formats.records import Aside, ReadOptions, Record, Reject
from upright_ledger.formats.registry import check_kind, read_urls

_ASKED = (HITS, VISITS, CLICKS)


def read_requests(
    book: Book, paths: list[str], options: ReadOptions | None = None, kind: str = "", host: str = ""
) -> Requests:
    """Read all files. A request's hits are what the files say (people only).

    Where they say nothing, the first spelling of an entry stands for all the hits the ledger knows of it.
    """
    placer = Placer(book.sites, book.policy, base_origin(book.sites, host))
    chosen = options_for(options or ReadOptions(), book.sites, book.policy)
    found, said = read_files(placer, paths, chosen, kind)
    if not found:
        raise InputError(f"no request for this ledger's old sites is in {', '.join(paths)}", "check the files")
    told: set[int] = set()
    for n, entry in enumerate(found.entries(book)):
        if entry is not None and n not in said and entry.id not in told:
            told.add(entry.id)
            found.hits[n] = int(entry.evidence.hits)
    return found


def read_files(placer: Placer, paths: list[str], options: ReadOptions, kind: str) -> tuple[Requests, set[int]]:
    """The distinct requests of all files, and the numbers of those of which the files tell hits."""
    check_kind(kind)
    found = Requests()
    numbers: dict[str, int] = {}
    said: set[int] = set()
    with inputs(paths) as files:
        for file in files:
            reading = read_urls(file.path, kind, options)[1]
            for item in reading.items:
                if isinstance(item, Reject):
                    found.left_out["could not be read"] += 1
                elif isinstance(item, Aside):
                    found.left_out[item.kind] += item.lines
                else:
                    _add(found, numbers, said, item, placer)
            found.without += reading.folded
    return found, said


def _add(found: Requests, numbers: dict[str, int], said: set[int], record: Record, placer: Placer) -> None:
    try:
        address = (
            placer.sent_address(record.url, record.host) if record.sent else parse_address(record.url, placer.base)
        )
    except NotAnAddressError:
        found.left_out["could not be read"] += record.lines
        return
    text = address.without_fragment
    number = numbers.get(text)
    if number is None:
        site, key, aside = placer.owner(address)
        if aside:
            found.left_out[aside] += record.lines
            return
        number = numbers[text] = len(found)
        found.add(text, site, key)
    if record.figures:
        _count(found, said, number, text, record)


def _count(found: Requests, said: set[int], number: int, url: str, record: Record) -> None:
    """Add up what a record says of how often people asked."""
    told = [f for f in record.figures if f.unit in _ASKED]
    if not told:
        return
    said.add(number)
    people = [f for f in told if f.agent != BOTS]
    found.hits[number] += int(max(sum(f.amount for f in people if f.unit == u) for u in _ASKED))
    days = " ".join(f.days for f in people if f.days)
    if days:
        found.days[url] = f"{found.days[url]} {days}" if url in found.days else days
