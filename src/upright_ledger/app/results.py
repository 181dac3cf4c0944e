"""Results of rehearse and replay: verdicts by count and by hits, one row a URL, and one row a hop."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Any
from xml.sax.saxutils import quoteattr

from upright_ledger.core.causes import HopCause, hop_causes, mend_of
from upright_ledger.core.verdicts import ORDER, Trace
from upright_ledger.errors import UsageError
from upright_ledger.formats.workbooks import Sheet, workbook_bytes
from upright_ledger.formats.writing import csv_bytes, write_whole
from upright_ledger.ledger.runs import StoredTrace

COLUMNS = (
    "url", "hits", "verdict", "status", "location", "hops", "final_url", "final_status", "expected", "verdicts", "detail", "value", "mend",
)  # fmt: skip
HOP_COLUMNS = ("trace", "hop", "url", "status", "location", "changed", "how", "rule", "cache", "seconds", "error")


@dataclass(frozen=True, slots=True)
class Row:
    """One traced URL: its hits, its verdicts (worst first), the address or status that was due, and its value."""

    trace: Trace
    hits: int
    verdicts: tuple[str, ...]
    expected: str
    value: float = 0.0

    @classmethod
    def of(cls, stored: StoredTrace) -> Row:
        """A row as a run keeps it."""
        return cls(stored.trace, int(stored.hits), stored.verdicts, stored.expected, stored.value)

    def stored(self, number: int) -> StoredTrace:
        """The inverse of `of`."""
        return StoredTrace(number, self.trace, self.hits, self.verdicts, self.expected, self.value)

    @property
    def verdict(self) -> str:
        return self.verdicts[0]

    @property
    def detail(self) -> str:
        """The way of a trace that is not a single clean answer, in words."""
        if self.trace.hops and self.trace.hops[-1].error:
            return self.trace.hops[-1].error
        if self.trace.redirects < 2 and "slash-mismatch" not in self.verdicts:
            return ""
        return ", then ".join(
            f"{'a refresh' if hop.how == 'refresh' else hop.status} changes {' and '.join(hop.changed) or 'nothing'}"
            + _by(hop.rule)
            for hop in self.trace.hops
            if hop.resolved
        )

    def cells(self) -> tuple[Any, ...]:
        t = self.trace
        return (
            t.url,
            self.hits,
            self.verdict,
            t.first_status or "",
            t.first_location,
            t.redirects,
            t.final_url,
            t.final_status or "",
            self.expected,
            " ".join(self.verdicts),
            self.detail,
            round(self.value, 2),
            mend_of(t, self.verdicts, self.expected),
        )


@dataclass
class Results:
    """All rows of one run, and what was left out by reason (lines). run: its number; name: what it is called; at: where it was asked."""

    kind: str
    rows: list[Row]
    left_out: Counter[str] = field(default_factory=Counter)
    run: int = 0
    name: str = ""
    at: str = ""

    @property
    def counts(self) -> dict[str, int]:
        """Verdict → URLs, the worst first."""
        found = Counter(r.verdict for r in self.rows)
        return {v: found[v] for v in ORDER if found[v]}

    @property
    def hits(self) -> dict[str, int]:
        """Verdict → hits."""
        found: Counter[str] = Counter()
        for r in self.rows:
            found[r.verdict] += r.hits
        return {v: found[v] for v in self.counts}

    @cached_property
    def faults(self) -> list[Row]:
        """Rows that are not ok, the worst first, and of these the most valuable and most asked."""
        rank = {v: n for n, v in enumerate(ORDER)}
        return sorted(
            (r for r in self.rows if r.verdict != "ok"), key=lambda r: (rank[r.verdict], -r.value, -r.hits, r.trace.url)
        )

    @cached_property
    def causes(self) -> list[HopCause]:
        """What makes hops that are too many."""
        return hop_causes((r.trace, r.hits, r.verdicts, r.expected) for r in self.rows)

    def as_dict(self) -> dict[str, Any]:
        return {
            "run": self.run,
            "name": self.name,
            "at": self.at,
            "urls": len(self.rows),
            "hits": sum(r.hits for r in self.rows),
            "counts": self.counts,
            "counts_by_hits": self.hits,
            "left_out": dict(self.left_out),
            "causes": [
                {"text": c.text, "urls": c.urls, "hits": int(c.hits), "example": c.example} for c in self.causes
            ],
            "rows": [dict(zip(COLUMNS, r.cells(), strict=True)) for r in self.faults],
        }

    def hop_rows(self) -> Iterator[tuple[Any, ...]]:
        """One row a hop: the trace's address, the hop's number, and what came back."""
        for row in self.rows:
            for number, hop in enumerate(row.trace.hops, 1):
                yield (
                    row.trace.url, number, hop.url, hop.status or "", hop.resolved or hop.location, " ".join(hop.changed), hop.how,
                    hop.rule, hop.cache, round(hop.seconds, 4), hop.error,
                )  # fmt: skip

    def write(self, path: Path) -> None:
        """Write one row a URL, in the order in which they were asked: .csv, .jsonl, .xml (JUnit), or .xlsx with the hops beside it."""
        kind = path.suffix.lower()
        if kind == ".xlsx":
            ranks = {v: 2 if v == "ok" else int(n >= ORDER.index("wrong-status")) for n, v in enumerate(ORDER)}
            rows = (r.cells() for r in (*self.faults, *(r for r in self.rows if r.verdict == "ok")))
            traces = Sheet("traces", COLUMNS, rows, ("url", "final_url"), severity=("verdict", ranks))
            write_whole(path, workbook_bytes(traces, Sheet("hops", HOP_COLUMNS, self.hop_rows())))
        elif kind == ".jsonl":
            lines = (
                json.dumps(dict(zip(COLUMNS, r.cells(), strict=True)), ensure_ascii=False) + "\n" for r in self.rows
            )
            write_whole(path, "".join(lines).encode("utf-8", "backslashreplace"))
        elif kind == ".xml":
            write_whole(path, self._junit().encode("utf-8", "backslashreplace"))
        elif kind in {".csv", ""}:
            write_whole(path, csv_bytes(COLUMNS, (r.cells() for r in self.rows)))
        else:
            raise UsageError(f"{path} has no ending that is known", "give it .csv, .xlsx, .jsonl, or .xml for JUnit")

    def write_hops(self, path: Path) -> None:
        """Write one row a hop as CSV."""
        write_whole(path, csv_bytes(HOP_COLUMNS, self.hop_rows()))

    def _junit(self) -> str:
        """The JUnit form of XML that build servers read: one test case a URL."""
        cases = []
        for row in self.rows:
            seconds = sum(h.seconds for h in row.trace.hops)
            head = f'<testcase classname={_attribute(self.kind)} name={_attribute(row.trace.url)} time="{seconds:.3f}"'
            if row.verdict == "ok":
                cases.append(f"{head}/>")
            else:
                told = f"{row.trace.first_status or 'no answer'}, ends at {row.trace.final_url}; {row.detail}"
                cases.append(f"{head}><failure type={_attribute(row.verdict)} message={_attribute(told)}/></testcase>")
        faults = len(self.faults)
        return (
            f'<?xml version="1.0" encoding="UTF-8"?>\n<testsuite name="upright {self.kind}" tests="{len(self.rows)}" failures="{faults}">\n'
            + "\n".join(cases)
            + "\n</testsuite>\n"
        )


def _by(rule: str) -> str:
    """Whose hop it is, in words; a rule by the path of its address."""
    if not rule:
        return ""
    return f", by the rule of /{rule.partition('://')[2].partition('/')[2]}" if "://" in rule else f", by {rule}"


def _attribute(text: str) -> str:
    """A text as an XML attribute; what XML cannot hold is shown as an escape."""
    return quoteattr("".join(c if c.isprintable() else f"\\x{ord(c):02x}" for c in text))
