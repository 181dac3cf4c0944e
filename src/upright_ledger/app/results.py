"""Results of rehearse and replay: verdicts by count and by hits, and one row a URL."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from upright_ledger.core.answers import Expected
from upright_ledger.core.verdicts import ORDER, Trace
from upright_ledger.formats.writing import csv_bytes, write_whole

COLUMNS = (
    "url",
    "hits",
    "verdict",
    "status",
    "location",
    "hops",
    "final_url",
    "final_status",
    "expected",
    "verdicts",
    "detail",
)


@dataclass(frozen=True, slots=True)
class Row:
    """One traced URL: its hits, its verdicts (worst first), and what was expected of it."""

    trace: Trace
    hits: int
    verdicts: tuple[str, ...]
    expected: Expected

    @property
    def verdict(self) -> str:
        return self.verdicts[0]

    @property
    def expected_text(self) -> str:
        """The address it should end at, or the status that was due."""
        return self.expected.final or (",".join(str(s) for s in sorted(self.expected.statuses)))

    @property
    def detail(self) -> str:
        """The way of a trace that is not a single clean answer, in words."""
        if self.trace.hops and self.trace.hops[-1].error:
            return self.trace.hops[-1].error
        if self.trace.redirects < 2 and "slash-mismatch" not in self.verdicts:
            return ""
        return ", then ".join(
            f"{hop.status} changes {' and '.join(hop.changed) or 'nothing'}" for hop in self.trace.hops if hop.resolved
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
            self.expected_text,
            " ".join(self.verdicts),
            self.detail,
        )


@dataclass
class Results:
    """All rows of one run, and what was left out by reason (lines)."""

    kind: str
    rows: list[Row]
    left_out: Counter[str] = field(default_factory=Counter)

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

    @property
    def faults(self) -> list[Row]:
        """Rows that are not ok, the worst and most asked first."""
        rank = {v: n for n, v in enumerate(ORDER)}
        return sorted(
            (r for r in self.rows if r.verdict != "ok"), key=lambda r: (rank[r.verdict], -r.hits, r.trace.url)
        )

    def as_dict(self) -> dict[str, Any]:
        return {
            "urls": len(self.rows),
            "hits": sum(r.hits for r in self.rows),
            "counts": self.counts,
            "counts_by_hits": self.hits,
            "left_out": dict(self.left_out),
            "rows": [dict(zip(COLUMNS, r.cells(), strict=True)) for r in self.faults],
        }

    def write_csv(self, path: Path) -> None:
        """Write one row a URL, in the order they were asked."""
        write_whole(path, csv_bytes(COLUMNS, (r.cells() for r in self.rows)))
