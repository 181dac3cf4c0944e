"""Results of rehearse and replay: verdicts by count and by hits, one row a URL, and one row a
hop.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any
from xml.sax.saxutils import quoteattr

from upright_ledger.app.prove.remedy_words import in_words
from upright_ledger.app.request_list import Requests
from upright_ledger.core.tracing.results import Outcome, Row, TraceTable
from upright_ledger.core.tracing.root_causes import LONG, HopCause, hop_causes, remedy_of
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.core.tracing.verdicts import MEANINGS, ORDER, Verdict
from upright_ledger.formats.tables.export import CSV, write_table
from upright_ledger.formats.tables.workbooks import Sheet

COLUMNS = (
    "url", "hits", "verdict", "status", "location", "hops", "final_url", "final_status", "expected",
    "verdicts", "detail", "value", "mend", "statuses",
)  # fmt: skip
HOP_COLUMNS = (
    "trace",
    "hop",
    "url",
    "status",
    "location",
    "changed",
    "how",
    "rule",
    "cache",
    "seconds",
    "error",
)


def cells(row: Row) -> tuple[Any, ...]:
    """One URL in the order of COLUMNS."""
    t = row.trace
    return (
        t.url,
        row.hits,
        row.verdict,
        t.first_status or "",
        t.first_location,
        t.redirects,
        t.final_url,
        t.final_status or "",
        row.expected,
        " ".join(row.verdicts),
        row.detail,
        round(row.value, 2),
        in_words(remedy_of(t, row.verdicts, row.expected), t, row.expected),
        " ".join(str(hop.status or "-") for hop in t.hops),
    )


@dataclass
class Results:
    """All rows of one run. run: its number; name: what it is called; at: where it was asked.

    asked: the requests in the order of the rows; empty for a run that was loaded.
    """

    kind: RunKind
    rows: TraceTable
    run: int = 0
    name: str = ""
    at: str = ""
    asked: Requests = field(default_factory=Requests)

    @cached_property
    def _alike(self) -> dict[int, Outcome]:
        """The outcomes that there are, by their identity: most rows share a few of them."""
        outcomes = self.rows.outcomes
        return dict(zip(map(id, outcomes), outcomes, strict=True))

    @cached_property
    def counts(self) -> dict[str, int]:
        """Verdict → URLs, the worst first."""
        found: Counter[str] = Counter()
        for one, urls in Counter(map(id, self.rows.outcomes)).items():
            found[self._alike[one].verdicts[0]] += urls
        return {v: found[v] for v in ORDER if found[v]}

    @cached_property
    def hits(self) -> dict[str, int]:
        """Verdict → hits."""
        found: Counter[str] = Counter()
        if any(self.rows.hits):
            for outcome, hits in zip(self.rows.outcomes, self.rows.hits, strict=True):
                found[outcome.verdicts[0]] += hits
        return {v: found[v] for v in self.counts}

    @cached_property
    def ranked(self) -> dict[str, list[int]]:
        """Verdict, the worst first → the numbers of its rows, the most valuable and most asked
        first; without what is ok.
        """
        rows = self.rows
        found: dict[str, list[int]] = {v: [] for v in self.counts if v != Verdict.OK}
        verdict_of = {one: o.verdicts[0] for one, o in self._alike.items()}
        for number, one in enumerate(map(id, rows.outcomes)):
            if (verdict := verdict_of[one]) != Verdict.OK:
                found[verdict].append(number)
        values = [o.value for o in rows.outcomes]
        for numbers in found.values():  # sorting keeps the order of what is equal
            numbers.sort(key=rows.urls.__getitem__)
            numbers.sort(key=rows.hits.__getitem__, reverse=True)
            numbers.sort(key=values.__getitem__, reverse=True)
        return found

    @property
    def faults(self) -> int:
        """How many rows are not ok."""
        return len(self.rows) - self.counts.get(Verdict.OK, 0)

    def worst(self, each: int = 0) -> list[Row]:
        """The rows that are not ok, the worst first, and of these the most valuable; of each
        verdict as many as wanted (0: all).
        """
        return [self.rows[n] for numbers in self.ranked.values() for n in numbers[: each or None]]

    @cached_property
    def causes(self) -> list[HopCause]:
        """What makes hops that are too many."""
        long = (self.rows[n] for n, o in enumerate(self.rows.outcomes) if LONG & set(o.verdicts))
        return hop_causes((r.trace, r.hits, r.verdicts, r.expected) for r in long)

    def as_dict(self) -> dict[str, Any]:
        return {
            "run": self.run,
            "name": self.name,
            "at": self.at,
            "urls": len(self.rows),
            "hits": sum(self.rows.hits),
            "counts": self.counts,
            "counts_by_hits": self.hits,
            "left_out": dict(self.asked.left_out),
            "counted_without": dict(self.asked.without),
            "causes": [
                {"text": c.text, "urls": c.urls, "hits": int(c.hits), "example": c.example}
                for c in self.causes
            ],
            "rows": [dict(zip(COLUMNS, cells(r), strict=True)) for r in self.worst()],
        }

    def hop_rows(self) -> Iterator[tuple[Any, ...]]:
        """One row a hop: the trace's address, the hop's number, and what came back."""
        for row in self.rows:
            for number, hop in enumerate(row.trace.hops, 1):
                yield (
                    row.trace.url, number, hop.url, hop.status or "", hop.resolved or hop.location,
                    " ".join(hop.changed), hop.how,
                    hop.rule, hop.cache, round(hop.seconds, 4), hop.error,
                )  # fmt: skip

    def write(self, path: Path) -> None:
        """Write one row a URL, in the order in which they were asked, also as .xml (JUnit); in a
        workbook the worst first, with the hops beside it. Raises UsageError.
        """
        ranks = {verdict: meaning.rank for verdict, meaning in MEANINGS.items()}
        asked = Sheet("traces", COLUMNS, map(cells, self.rows))
        worst = Sheet(
            "traces",
            COLUMNS,
            map(cells, self._worst_first()),
            ("url", "final_url"),
            severity=("verdict", ranks),
        )
        hops = Sheet("hops", HOP_COLUMNS, self.hop_rows())
        write_table(path, asked, (worst, hops), others={".xml": self._junit_bytes})

    def _worst_first(self) -> Iterator[Row]:
        yield from self.worst()
        for number, outcome in enumerate(self.rows.outcomes):
            if outcome.verdicts[0] == Verdict.OK:
                yield self.rows[number]

    def write_hops(self, path: Path) -> None:
        """Write one row a hop."""
        write_table(path, Sheet("hops", HOP_COLUMNS, self.hop_rows()), otherwise=CSV)

    def _junit_bytes(self) -> bytes:
        return self._junit().encode("utf-8", "backslashreplace")

    def _junit(self) -> str:
        """The JUnit form of XML that build servers read: one test case a URL."""
        cases = []
        for row in self.rows:
            seconds = sum(h.seconds for h in row.trace.hops)
            head = (
                f"<testcase classname={_attribute(self.kind)} name={_attribute(row.trace.url)} "
                f'time="{seconds:.3f}"'
            )
            if row.verdict == Verdict.OK:
                cases.append(f"{head}/>")
            else:
                told = (
                    f"{row.trace.first_status or 'no answer'}, ends at {row.trace.final_url}; "
                    f"{row.detail}"
                )
                cases.append(
                    f"{head}><failure type={_attribute(row.verdict)} "
                    f"message={_attribute(told)}/></testcase>"
                )
        return (
            f'<?xml version="1.0" encoding="UTF-8"?>\n<testsuite name="upright {self.kind}" '
            f'tests="{len(self.rows)}" failures="{self.faults}">\n'
            + "\n".join(cases)
            + "\n</testsuite>\n"
        )


def _attribute(text: str) -> str:
    """A text as an XML attribute; what XML cannot hold is shown as an escape."""
    return quoteattr("".join(c if c.isprintable() else f"\\x{ord(c):02x}" for c in text))
