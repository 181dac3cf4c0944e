"""Outcomes: traced requests with their verdicts, in columns, since most of a million requests end
alike.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import overload

from upright_ledger.core.tracing.trace import REDIRECTS, Hop, Trace
from upright_ledger.core.tracing.verdicts import Verdict
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.conventions import INDEX_FILES
from upright_ledger.core.url.difference import changed_between


@dataclass(frozen=True, slots=True)
class Row:
    """One traced URL: its hits, its verdicts (worst first), the address or status that was due, and
    its value.
    """

    trace: Trace
    hits: int
    verdicts: tuple[Verdict, ...]
    expected: str
    value: float = 0.0

    @property
    def verdict(self) -> Verdict:
        return self.verdicts[0]

    @property
    def detail(self) -> str:
        """The way of a trace that is not a single clean answer, in words."""
        if self.trace.hops and self.trace.hops[-1].error:
            return self.trace.hops[-1].error
        if self.trace.redirects < 2 and Verdict.SLASH_MISMATCH not in self.verdicts:
            return ""
        return ", then ".join(
            f"{'a refresh' if hop.how == 'refresh' else hop.status} changes "
            f"{' and '.join(hop.changed) or 'nothing'}" + whose(hop.rule)
            for hop in self.trace.hops
            if hop.resolved
        )


@dataclass(slots=True)
class Outcome:
    """What requests that end alike have in common.

    Where `trace` is None, a request got `status`, a redirect (to the location kept beside it) or
    not, and what followed was one page of `final_status`, 0 where nothing is known of it. rule:
    whose answer it was, where that was asked.
    """

    status: int
    final_status: int
    verdicts: tuple[Verdict, ...]
    expected: str = ""
    value: float = 0.0
    rule: str = ""
    trace: Trace | None = None


@dataclass
class TraceTable(Sequence[Row]):
    """Rows in columns: URLs, hits, locations (of the first redirect; empty where there was none)
    and outcomes.
    """

    urls: list[str] = field(default_factory=list)
    hits: list[int] = field(default_factory=list)
    locations: list[str] = field(default_factory=list)
    outcomes: list[Outcome] = field(default_factory=list)

    def append(self, row: Row) -> None:
        """Take up one row with a trace of its own."""
        t = row.trace
        self.urls.append(t.url)
        self.hits.append(row.hits)
        self.locations.append("")
        self.outcomes.append(
            Outcome(t.first_status, t.final_status, row.verdicts, row.expected, row.value, trace=t)
        )

    def extend(self, more: TraceTable) -> None:
        """Take up more rows."""
        self.urls += more.urls
        self.hits += more.hits
        self.locations += more.locations
        self.outcomes += more.outcomes

    def in_order(self, urls: Iterable[str]) -> TraceTable:
        """The rows in the order of these URLs; those of others come last."""
        place = {url: n for n, url in enumerate(urls)}
        order = sorted(range(len(self)), key=lambda n: place.get(self.urls[n], len(place)))
        return TraceTable(
            [self.urls[n] for n in order],
            [self.hits[n] for n in order],
            [self.locations[n] for n in order],
            [self.outcomes[n] for n in order],
        )

    def __len__(self) -> int:
        return len(self.urls)

    @overload
    def __getitem__(self, at: int) -> Row: ...
    @overload
    def __getitem__(self, at: slice) -> TraceTable: ...
    def __getitem__(self, at: int | slice) -> Row | TraceTable:
        if isinstance(at, slice):
            return TraceTable(self.urls[at], self.hits[at], self.locations[at], self.outcomes[at])
        outcome = self.outcomes[at]
        trace = outcome.trace or plain_trace(self.urls[at], self.locations[at], outcome)
        return Row(trace, self.hits[at], outcome.verdicts, outcome.expected, outcome.value)

    def __iter__(self) -> Iterator[Row]:
        return map(self.__getitem__, range(len(self)))


_USUAL_INDEX_FILES = frozenset(INDEX_FILES)
"""A trace that was read under other settings is no plain one, and is kept whole."""


def plain_trace(url: str, location: str, outcome: Outcome) -> Trace:
    """The trace of a request with at most one redirect, from what is kept of it."""
    if not location:
        return Trace(url, (Hop(url, outcome.status),), url, outcome.final_status)
    goal = parse_address(location)
    changed = changed_between(parse_address(url), goal, _USUAL_INDEX_FILES)
    hops = [Hop(url, outcome.status, location, goal.text, changed, rule=outcome.rule)]
    if outcome.final_status:
        hops.append(Hop(goal.without_fragment, outcome.final_status))
    return Trace(url, tuple(hops), goal.text, outcome.final_status)


def outcome_of(
    trace: Trace, verdicts: tuple[Verdict, ...], expected: str, value: float
) -> tuple[str, Outcome]:
    """Location and outcome of a trace; it is kept whole where it holds more than an answer and a
    page.
    """
    first = trace.hops[0]
    location = first.location if first.status in REDIRECTS else ""
    plain = Outcome(first.status, trace.final_status, verdicts, expected, value, first.rule)
    if len(trace.hops) < 3 and not trace.loops and plain_trace(trace.url, location, plain) == trace:
        return location, plain
    return "", Outcome(first.status, trace.final_status, verdicts, expected, value, trace=trace)


def whose(rule: str) -> str:
    """Whose answer a hop is, in words (", by …"), or nothing; a rule by the path of its address."""
    if not rule:
        return ""
    return (
        f", by the rule of /{rule.partition('://')[2].partition('/')[2]}"
        if "://" in rule
        else f", by {rule}"
    )
