"""Pages that nobody needs, by the evidence of a stated time: without clicks, visits, hits and
links; each with the strongest page of its subject, to be kept, merged or ended.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, NamedTuple

from upright_ledger.app.decide.match_pages import in_languages, old_page
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.matching import MatchPage, propose
from upright_ledger.core.matching.pages.item_numbers import ToldNumbers
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.core.url.address import address_of
from upright_ledger.errors import UsageError
from upright_ledger.formats.tables.export import CSV, write_table
from upright_ledger.formats.tables.workbooks import Sheet
from upright_ledger.ledger.tables.runs.crawl_blocks import load_seen
from upright_ledger.ledger.tables.runs.runs import last_run
from upright_ledger.ledger.tables.sources import links_are_known, list_sources

COLUMNS = (
    "old",
    "new",
    "status",
    "title",
    "why",
    "sibling_title",
    "sibling_value",
    "likeness",
    "letters",
)
THIN = 600
"""Letters of a page's own text, below which it is thin."""
_ALIKE = 0.3
_USE = frozenset(["clicks", "visits", "hits", "impressions"])
_LIVING = frozenset([AnswerKind.OPEN, AnswerKind.KEEP, AnswerKind.WANTED])


class Weak(NamedTuple):
    """An entry that nobody needs. sibling: the strongest page of its subject, or None; likeness:
    how sure it is that both are about one thing, 0 to 1; letters: of its text, -1 where no survey
    saw it.
    """

    entry: Entry
    sibling: Entry | None
    likeness: float
    letters: int

    @property
    def advice(self) -> str:
        """What to do with it: the status of a merger, or of an end."""
        return "301" if self.sibling is not None else "410"

    @property
    def why(self) -> str:
        """Why it is weak, in words."""
        told = ["no clicks, visits, hits or links"]
        if 0 <= self.letters < THIN:
            told.append(f"thin: {self.letters:,} letters")
        if self.sibling is not None:
            told.append("same subject as a stronger page")
        return "; ".join(told)

    def row(self) -> tuple[Any, ...]:
        """The cells of COLUMNS."""
        e, s = self.entry, self.sibling
        return (
            e.legacy_url, s.legacy_url if s else "", self.advice, e.titles[0] if e.titles else "",
            self.why, s.titles[0] if s and s.titles else "",
            round(s.evidence.value, 2) if s else "", self.likeness or "",
            self.letters if self.letters >= 0 else "",
        )  # fmt: skip


@dataclass
class Pruning:
    """Weak entries. of: how many were looked at; sources, first, last: the evidence, and the days
    of which it is, empty where nobody said; links: whether any links were gathered.
    """

    weak: list[Weak]
    of: int
    sources: list[str]
    first: str
    last: str
    links: bool

    @property
    def evidence(self) -> str:
        """By what they are weak, in words: the sources, and of which days these are."""
        when = f" from {self.first} to {self.last}" if self.first else ", of days that nobody said"
        more = " and others" if len(self.sources) > 4 else ""
        return f"by {', '.join(self.sources[:4])}{more}{when}"


def weak_entries(move: MoveState) -> Pruning:
    """The entries that are open or kept, and that nobody needs. Raises UsageError where nothing was
    gathered that would tell of use.
    """
    with move.ledger.reading() as connection:
        telling = [
            s
            for s in list_sources(connection)
            if _USE.intersection(s.mapping or {}) or s.kind == "access-log"
        ]
        links = links_are_known(connection)
        run = last_run(connection, RunKind.SURVEY)
        letters = (
            {
                seen.url: seen.facts.letters
                for seen in load_seen(connection, run.id)
                if seen.status == 200
            }
            if run is not None
            else {}
        )
    if not telling:
        raise UsageError(
            "nothing tells which pages are used: no clicks, visits or hits were gathered",
            "upright gather analytics.csv, or a log",
        )
    living = [e for e in move.entries if e.answer.kind in _LIVING]
    weak = [e for e in living if not _is_used(e)]
    strong = [e for e in living if _is_used(e)]
    siblings = _siblings(weak, strong)
    found = []
    for entry in weak:
        sibling, likeness = siblings.get(entry.legacy_url, (None, 0.0))
        found.append(Weak(entry, sibling, likeness, letters.get(entry.legacy_url, -1)))
    found.sort(key=lambda w: (w.sibling is None, -w.likeness, w.entry.legacy_url))
    days = [d for s in telling for d in (s.period_start, s.period_end) if d]
    names = list(dict.fromkeys(s.name for s in telling))
    return Pruning(found, len(living), names, min(days, default=""), max(days, default=""), links)


def _is_used(entry: Entry) -> bool:
    e = entry.evidence
    return bool(e.hits or e.visits or e.clicks or e.links or e.impressions)


def _siblings(weak: Sequence[Entry], strong: Sequence[Entry]) -> dict[str, tuple[Entry, float]]:
    """Legacy URL → the strongest of the pages that are like it, and how like."""
    by_url = {e.legacy_url: e for e in strong}
    found = {}
    for url, proposals in propose(_pages(weak), _pages(strong)).found.items():
        alike = [p for p in proposals if p.confidence >= _ALIKE]
        if alike:
            best = max(alike, key=lambda p: (by_url[p.name].evidence.value, p.confidence))
            found[url] = (by_url[best.name], best.confidence)
    return found


def _pages(entries: Iterable[Entry]) -> list[MatchPage]:
    """Entries as pages of which only words tell: one item has a page in each language, and a number
    in a query is no subject.
    """
    pages = [(_by_words(e), address_of(e.legacy_url), e.language) for e in entries]
    return in_languages(pages)


def _by_words(entry: Entry) -> MatchPage:
    page = old_page(entry, ToldNumbers())
    return replace(page, items=(), params=(), path="/" if page.params else page.path)


def write_weak(found: Pruning, path: Path) -> None:
    """Write them as a sheet that `decide --from` reads back. Raises UsageError."""
    rows = (w.row() for w in found.weak)
    write_table(path, Sheet("weak", COLUMNS, rows, ("old", "new")), otherwise=CSV)
