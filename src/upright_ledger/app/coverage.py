"""Coverage: how much of each section, source or site is well, by URLs and by hits."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any

from upright_ledger.app.book import Book
from upright_ledger.app.entries import source_names
from upright_ledger.app.results import Results
from upright_ledger.core.addresses import parse_address
from upright_ledger.core.families import Sections
from upright_ledger.ledger.entries import Entry


@dataclass
class Covered:
    """One section, source or site. urls, hits: all that were asked; ok, ok_hits: of these, what is well."""

    name: str
    urls: int = 0
    ok: int = 0
    hits: int = 0
    ok_hits: int = 0

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return asdict(self)


def coverage(results: Results, book: Book, by: str) -> list[Covered]:
    """Coverage by section, source or site, the most asked first; what belongs to none stands under an empty name."""
    names = _namer(book, by)
    found: dict[str, Covered] = {}
    for row in results.rows:
        entry = book.entry_of(parse_address(row.trace.url))
        for name in names(entry) if entry is not None else ("",):
            line = found.setdefault(name, Covered(name))
            line.urls += 1
            line.hits += row.hits
            if row.verdict == "ok":
                line.ok += 1
                line.ok_hits += row.hits
    return sorted(found.values(), key=lambda c: (-c.hits, -c.urls, c.name))


def _namer(book: Book, by: str) -> Callable[[Entry], tuple[str, ...]]:
    if by == "section":
        sections = Sections(book.ledger.settings.sections)
        return lambda entry: (sections.of(entry.site, entry.key),)
    if by == "site":
        return lambda entry: (entry.site,)
    called = source_names(book)
    return lambda entry: tuple(called[number] for number in entry.sources) or ("",)
