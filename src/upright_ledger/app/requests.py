"""Requests to be traced: URL lists, sheets and logs, each distinct request once with its weight."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

from upright_ledger.app.book import Book
from upright_ledger.app.gather import Folder, base_origin
from upright_ledger.core import traffic
from upright_ledger.core.addresses import Address, NotAnAddressError, parse_address
from upright_ledger.core.evidence import CLICKS, HITS, VISITS
from upright_ledger.core.folding import unanswerable
from upright_ledger.errors import InputError
from upright_ledger.formats.records import Aside, ReadOptions, Record, Reject
from upright_ledger.formats.registry import read_urls


@dataclass
class Requests:
    """Distinct requests with their hits, and what was left out by reason (lines)."""

    addresses: dict[str, Address] = field(default_factory=dict)
    hits: Counter[str] = field(default_factory=Counter)
    left_out: Counter[str] = field(default_factory=Counter)


def read_requests(
    book: Book, paths: list[Path], options: ReadOptions | None = None, kind: str = "", host: str = ""
) -> Requests:
    """Read all files. A request's hits are what the files say (people only).

    Where they say nothing, the first spelling of an entry stands for all the hits the ledger knows of it.
    """
    found = Requests()
    said: set[str] = set()
    folder = Folder(base_origin(book.sites, host), book.sites, book.policy)
    for path in paths:
        for item in read_urls(path, kind, options or ReadOptions())[1]:
            if isinstance(item, Reject):
                found.left_out["could not be read"] += 1
            elif isinstance(item, Aside):
                found.left_out[item.kind] += 1
            else:
                _add(found, said, item, folder)
    if not found.addresses:
        raise InputError(
            f"no request for this ledger's old sites is in {', '.join(str(p) for p in paths)}", "check the files"
        )
    told: set[int] = set()
    for text, address in found.addresses.items():
        entry = book.entry_of(address) if text not in said else None
        if entry is not None and entry.id not in told:
            told.add(entry.id)
            found.hits[text] = int(entry.evidence.hits)
    return found


def _add(found: Requests, said: set[str], record: Record, folder: Folder) -> None:
    try:
        address = folder.sent_address(record) if record.sent else parse_address(record.url, folder.base)
    except NotAnAddressError:
        found.left_out["could not be read"] += 1
        return
    if not folder.sites.site_of(address):
        found.left_out[traffic.OFF_SITE] += 1
        return
    if unanswerable(address):
        found.left_out[traffic.UNANSWERABLE] += 1
        return
    if aside := traffic.set_aside_class(address.target):
        found.left_out[aside] += 1
        return
    text = address.without_fragment
    found.addresses.setdefault(text, address)
    weight = max((record.amounts.get(unit, 0.0) for unit in (HITS, VISITS, CLICKS)), default=0.0)
    if weight:
        said.add(text)
        found.hits[text] += 0 if record.bot else int(weight)
