"""Reconciling: what became of each URL from one run to another, and pages whose content changed on
the way.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.results import Results
from upright_ledger.app.prove.runs import load_run
from upright_ledger.core.inventory.answer import AnsweredBy
from upright_ledger.core.tracing.comparison import (
    Compared,
    Ended,
    about_something_else,
    common_words,
    compared,
    likeness,
    text_likeness,
)
from upright_ledger.core.tracing.results import Row
from upright_ledger.core.tracing.trace import Page
from upright_ledger.core.url.address import parse_address
from upright_ledger.formats.tables.export import write_table
from upright_ledger.formats.tables.workbooks import Sheet

COLUMNS = (
    "url", "change", "before", "after", "value", "hits", "before_url", "after_url", "old_title",
    "new_title", "likeness",
    "text_likeness",
)  # fmt: skip
REGRESSIONS = (Compared.WORSE, Compared.CONTENT)
CHANGES = (
    Compared.WORSE,
    Compared.CONTENT,
    Compared.ELSEWHERE,
    Compared.MISSING,
    Compared.ADDED,
    Compared.BETTER,
    Compared.SAME,
)


@dataclass(frozen=True, slots=True)
class OutcomeChange:
    """What became of one URL. kind: one of CHANGES; before, after: its verdicts, empty where a run
    did not ask for it.
    """

    url: str
    kind: Compared
    before: str
    after: str
    value: float
    hits: int
    before_url: str = ""
    after_url: str = ""
    old_title: str = ""
    new_title: str = ""
    likeness: float | None = None
    text_likeness: float | None = None

    def cells(self) -> tuple[Any, ...]:
        """The columns of a sheet."""
        shown = [
            "" if share is None else round(share, 2)
            for share in (self.likeness, self.text_likeness)
        ]
        return (
            self.url, self.kind, self.before, self.after, round(self.value, 2), self.hits,
            self.before_url, self.after_url,
            self.old_title, self.new_title, *shown,
        )  # fmt: skip


@dataclass
class Reconciled:
    """Two runs side by side. allowed: kinds and verdicts that are no regression here. judged: pages
    whose content was compared.
    """

    before: Results
    after: Results
    changes: list[OutcomeChange]
    allowed: frozenset[str] = frozenset()
    judged: int = 0

    @property
    def counts(self) -> dict[Compared, int]:
        """Kind → URLs."""
        found = Counter(c.kind for c in self.changes)
        return {kind: found[kind] for kind in CHANGES if found[kind]}

    @property
    def moves(self) -> dict[tuple[str, str], int]:
        """Verdict before and after → URLs, for those whose verdict changed."""
        found = Counter(
            (c.before, c.after)
            for c in self.changes
            if c.before and c.after and c.before != c.after
        )
        return dict(sorted(found.items(), key=lambda item: (-item[1], item[0])))

    @property
    def regressions(self) -> list[OutcomeChange]:
        """What got worse and is not allowed, the most valuable first."""
        return [
            c
            for c in self.changes
            if c.kind in REGRESSIONS and not {c.kind, c.after} & self.allowed
        ]

    def as_dict(self) -> dict[str, Any]:
        return {
            "before": {
                "run": self.before.run,
                "name": self.before.name,
                "urls": len(self.before.rows),
            },
            "after": {"run": self.after.run, "name": self.after.name, "urls": len(self.after.rows)},
            "counts": self.counts,
            "moves": [{"before": b, "after": a, "urls": n} for (b, a), n in self.moves.items()],
            "regressions": len(self.regressions),
            "contents_compared": self.judged,
            "rows": [
                dict(zip(COLUMNS, c.cells(), strict=True))
                for c in self.changes
                if c.kind != Compared.SAME
            ],
        }

    def write(self, path: Path) -> None:
        """Write one row a URL. Raises UsageError."""
        rows = [c.cells() for c in self.changes]
        ranks = {Compared.WORSE: 0, Compared.CONTENT: 0, Compared.ELSEWHERE: 1, Compared.MISSING: 1}
        links = ("url", "after_url")
        write_table(path, Sheet("changes", COLUMNS, rows, links, severity=("change", ranks)))


def reconcile(
    move: MoveState, before: str, after: str, allowed: frozenset[str] = frozenset()
) -> Reconciled:
    """Lay two runs side by side, by number or name."""
    first, second = load_run(move.ledger, before), load_run(move.ledger, after)
    old = {r.trace.url: r for r in first.rows}
    new = {r.trace.url: r for r in second.rows}
    content = _Content(move, first, second)
    changes = [
        _change(url, old.get(url), new.get(url), content) for url in dict.fromkeys((*new, *old))
    ]
    order = {kind: n for n, kind in enumerate(CHANGES)}
    changes.sort(key=lambda c: (order[c.kind], -c.value, -c.hits, c.url))
    return Reconciled(first, second, changes, allowed, content.judged)


class _Content:
    """What is known of old and new pages: titles of the ledger's sources, and what pages said of
    themselves in the runs.
    """

    def __init__(self, move: MoveState, before: Results, after: Results) -> None:
        self.move = move
        self.judged = 0
        self.old = common_words(t for e in move.entries for t in e.titles[:1])
        self.new = common_words(r.trace.page.title for r in after.rows)
        self.old_text = common_words(r.trace.page.words for r in before.rows)
        self.new_text = common_words(r.trace.page.words for r in after.rows)

    def of(self, before: Row | None, after: Row) -> tuple[str, str, float | None, float | None]:
        """Old title, new title, and how alike the titles and the texts are; None where that is not
        known or needs no look.
        """
        entry = self.move.entry_of(parse_address(after.trace.url))
        page = after.trace.page
        was = before.trace.page if before is not None and not before.trace.redirects else Page()
        told = [t for t in (*(entry.titles if entry else ()), was.title, was.heading) if t]
        old_title, new_title = next(iter(told), ""), page.title or page.heading
        moved = after.trace.redirects and 200 <= after.trace.final_status < 300
        if not moved or (entry is not None and entry.by == AnsweredBy.PERSON):
            return old_title, new_title, None, None
        shown = [t for t in (page.title, page.heading) if t]
        titles = likeness(told, shown, self.old, self.new)
        texts = text_likeness(was.words, page.words, self.old_text, self.new_text)
        self.judged += titles is not None or texts is not None
        return old_title, new_title, titles, texts


def _change(url: str, before: Row | None, after: Row | None, content: _Content) -> OutcomeChange:
    kind = compared(_ended(before), _ended(after))
    row = after or before
    old_title, new_title, titles, texts = (
        content.of(before, after) if after is not None else ("", "", None, None)
    )
    if about_something_else(titles, texts) and kind in {
        Compared.SAME,
        Compared.BETTER,
        Compared.ELSEWHERE,
        Compared.ADDED,
    }:
        kind = Compared.CONTENT
    return OutcomeChange(
        url, kind, before.verdict if before else "", after.verdict if after else "",
        row.value if row else 0, row.hits if row else 0,
        before.trace.final_url if before else "", after.trace.final_url if after else "", old_title,
        new_title, titles, texts,
    )  # fmt: skip


def _ended(row: Row | None) -> Ended | None:
    return Ended(row.verdict, row.trace.final_url) if row else None
