"""What a triage amounts to: failing entries, what leads to them, and what to decide first."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, NamedTuple

from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.monitoring.damaged_urls import MeantPage
from upright_ledger.core.monitoring.failure_account import (
    STATES,
    FailureAccount,
    FailureState,
    Fix,
)
from upright_ledger.core.monitoring.priority import NextDecision
from upright_ledger.core.monitoring.traffic_origin import Origin, TrafficSource
from upright_ledger.ledger.tables.proposals import StoredProposal


@dataclass(slots=True)
class Failing:
    """One entry that fails, or failed until it was mended.

    came: where its requests come from. why: the likely reason, where it fails again. meant: the
    page that a damaged address was meant to be. proposal: the best one, if there is any. soft: the
    last replay saw it end on a page that is none. share: what is lost, of all requests by people (0
    to 1); trend: requests of the last seven days less those of the seven before.
    """

    entry: Entry
    account: FailureAccount
    fix: Fix
    came: list[TrafficSource]
    family: str = ""
    why: str = ""
    meant: MeantPage | None = None
    proposal: StoredProposal | None = None
    soft: bool = False
    share: float = 0.0
    trend: float = 0.0

    @property
    def likely_page(self) -> str:
        """The page to which it leads, was meant to lead, or is proposed to; empty where none is."""
        if self.entry.answer.destination:
            return self.entry.answer.destination
        if self.meant is not None:
            return self.meant.page
        return self.proposal.destination if self.proposal else ""

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        a, e = self.account, self.entry
        return {
            "legacy_url": e.legacy_url, "site": e.site, "state": a.state, "why": self.why,
            "lost": a.lost, "failed": a.failed, "bots": a.bots,
            "since": a.since, "first": a.first, "last": a.last, "share": round(self.share, 6),
            "trend": self.trend, "soft": self.soft, "value": round(e.evidence.value, 2),
            "links": e.evidence.links,
            "statuses": a.statuses, "family": self.family, "answer": e.answer.kind,
            "destination": e.answer.destination,
            "answered": self.fix.answered, "live": self.fix.live,
            "came": [c._asdict() for c in self.came],
            "meant": self.meant._asdict() if self.meant else None,
            "proposal": self.proposal.destination if self.proposal else "",
            "confidence": self.proposal.confidence if self.proposal else 0.0,
        }  # fmt: skip


class LostCampaign(NamedTuple):
    """A campaign whose visitors find nothing. requests: that are lost; addresses: each with what is
    lost there, and the page that it leads or may be meant to lead to, or empty.
    """

    name: str
    requests: float
    addresses: tuple[tuple[str, float, str], ...]


@dataclass
class Triaged:
    """What a triage amounts to. days: day → class of status → requests by people. noise: (class,
    addresses, requests by people, by bots) of what was set aside and failed. strays: days far from
    all others, which a wrong clock wrote → requests. rows: those that ask for something first, by
    what is lost. decisions: ranked; enough: how many cover most of it.
    """

    rows: list[Failing]
    days: Mapping[str, Mapping[str, float]]
    noise: list[tuple[str, int, float, float]]
    strays: Mapping[str, float] = field(default_factory=dict)
    decisions: list[NextDecision] = field(default_factory=list)
    enough: int = 0
    live: list[tuple[str, str]] = field(default_factory=list)

    @property
    def states(self) -> dict[FailureState, int]:
        """State → entries."""
        counts = Counter(r.account.state for r in self.rows)
        return {state: counts[state] for state in STATES if counts[state]}

    @property
    def lost(self) -> dict[FailureState, float]:
        """State → requests that are lost by it."""
        found = dict.fromkeys(STATES, 0.0)
        for row in self.rows:
            found[row.account.state] += row.account.lost
        return found

    def by_reason(self) -> list[tuple[str, list[Failing]]]:
        """What fails after its fix, by the likely reason, that of most requests first."""
        reasons: dict[str, list[Failing]] = defaultdict(list)
        for row in (r for r in self.rows if r.account.state == FailureState.RECURRING):
            reasons[row.why].append(row)
        return sorted(reasons.items(), key=lambda item: -sum(r.account.since for r in item[1]))

    @property
    def faults(self) -> bool:
        """Whether something asks for an answer, or fails after one."""
        return any(
            r.account.state in {FailureState.NEW, FailureState.RECURRING}
            and (r.account.lost or r.account.since or r.account.named)
            for r in self.rows
        )

    @cached_property
    def origins(self) -> list[tuple[str, float, int]]:
        """(origin, requests, entries) of all failing entries, the most frequent first."""
        requests: dict[str, float] = defaultdict(float)
        entries: dict[str, set[int]] = defaultdict(set)
        for row in self.rows:
            for came in row.came:
                requests[came.origin] += came.requests
                entries[came.origin].add(row.entry.id)
        return sorted(((o, n, len(entries[o])) for o, n in requests.items()), key=lambda x: -x[1])

    @cached_property
    def campaigns(self) -> list[LostCampaign]:
        """The campaigns, newsletters and printed codes that lead to failing addresses: what their
        owners should know, that with the most lost first.
        """
        found: dict[str, dict[str, tuple[float, str]]] = defaultdict(dict)
        for row in self.rows:
            for came in row.came:
                if came.origin in {Origin.CAMPAIGN, Origin.MAIL} and came.whence:
                    address = (came.requests, row.likely_page)
                    found[came.whence][row.entry.legacy_url] = address
        return sorted(
            (
                LostCampaign(
                    name,
                    sum(n for n, _ in addresses.values()),
                    tuple(
                        (url, n, page)
                        for url, (n, page) in sorted(
                            addresses.items(), key=lambda item: (-item[1][0], item[0])
                        )
                    ),
                )
                for name, addresses in found.items()
            ),
            key=lambda c: (-c.requests, c.name),
        )

    @cached_property
    def own_pages(self) -> list[tuple[str, str, float]]:
        """(page of the site, failing address to which it links, requests): links to mend, the most
        used first.
        """
        found = [
            (c.whence, r.entry.legacy_url, c.requests)
            for r in self.rows
            for c in r.came
            if c.origin == Origin.INTERNAL
        ]
        return sorted(found, key=lambda x: (-x[2], x[0], x[1]))

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return {
            "states": self.states,
            "entries": [r.as_dict() for r in self.rows],
            "noise": [
                dict(zip(("class", "addresses", "people", "bots"), n, strict=True))
                for n in self.noise
            ],
            "origins": [
                dict(zip(("origin", "requests", "entries"), o, strict=True)) for o in self.origins
            ],
            "campaigns": [
                {
                    "name": c.name,
                    "requests": c.requests,
                    "addresses": [
                        dict(zip(("legacy_url", "requests", "page"), a, strict=True))
                        for a in c.addresses
                    ],
                }
                for c in self.campaigns
            ],
            "decisions": [d._asdict() | {"entries": len(d.entries)} for d in self.decisions],
            "enough": self.enough,
            "days": {day: dict(classes) for day, classes in self.days.items()},
            "days_of_wrong_clocks": dict(self.strays),
        }
