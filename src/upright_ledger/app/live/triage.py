"""Triage: what fails after the launch, grouped, attributed, and told apart from what was mended
since.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from upright_ledger.app.live.fix_times import load_fixes
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind
from upright_ledger.core.inventory.declared_paths import declared_paths
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.normalisation import fold
from upright_ledger.core.inventory.url_patterns import templates
from upright_ledger.core.matching.pattern_moves import moves_alike
from upright_ledger.core.monitoring.damaged_urls import Damage, MeantPage
from upright_ledger.core.monitoring.deploy_days import is_after, span_of
from upright_ledger.core.monitoring.failure_account import (
    STATES,
    DeploymentContext,
    FailureAccount,
    FailureState,
    Fix,
    LogCount,
    RecurrenceReason,
    account,
    recurrence_reason,
)
from upright_ledger.core.monitoring.priority import ENTRY, FAMILY, NextDecision, enough, rank
from upright_ledger.core.monitoring.traffic_origin import (
    KnownHosts,
    Origin,
    TrafficSource,
    came_from,
)
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.core.tracing.verdicts import Verdict
from upright_ledger.core.url.address import address_of, parse_address, split_text
from upright_ledger.core.url.request_target import canonical_path
from upright_ledger.ledger.clock import now
from upright_ledger.ledger.tables.failures import (
    aside_totals,
    failing_entries,
    referrers_by_entry,
    requests_by_day,
    told_of,
)
from upright_ledger.ledger.tables.proposals import StoredProposal, load_proposals
from upright_ledger.ledger.tables.runs.runs import last_run
from upright_ledger.ledger.tables.runs.trace_blocks import load_traces
from upright_ledger.ledger.tables.stock import StockState

_FEWEST_OF_FAMILY = 3


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
            "decisions": [d._asdict() | {"entries": len(d.entries)} for d in self.decisions],
            "enough": self.enough,
            "days": {day: dict(classes) for day, classes in self.days.items()},
            "days_of_wrong_clocks": dict(self.strays),
        }


def triage(move: MoveState) -> Triaged:
    """Look at all that fails in what was gathered."""
    fixes = load_fixes(move.ledger)
    with move.ledger.reading() as connection:
        numbers = failing_entries(connection, fixes.live[0].live_from[:10] if fixes.live else "")
        soft = _soft(move, connection)
        numbers |= soft
        told = told_of(connection, numbers)
        led = referrers_by_entry(connection, numbers)
        days, noise = requests_by_day(connection), aside_totals(connection)
        proposals = load_proposals(connection)
    known = KnownHosts(
        move.sites.hosts,
        {origin: frozenset(hosts) for origin, hosts in move.ledger.settings.origins.items()},
    )
    damage = Damage(
        (parse_address(d.url).path, d.url)
        for d in move.stock.values()
        if d.state == StockState.LIVE
    )
    family = templates([e.key for e in move.entries if e.id in numbers])
    people = sum(sum(classes.values()) for classes in days.values())
    span = span_of({day: sum(classes.values()) for day, classes in days.items()}, now()[:10])
    newest = span.last
    rows = []
    for entry in (e for e in move.entries if e.id in numbers):
        fix = fixes.of(entry)
        found = account(told[entry.id], fix, soft=entry.id in soft)
        if not (found.failed or found.bots or found.named):
            continue  # what looked like a failure is what its answer says
        # Referrers are told of all requests of an entry: their share in what fails is taken to be
        # the same.
        share = found.failed / (sum(t.requests for t in told[entry.id] if t.people) or 1.0)
        referrers = ((address, share * n) for address, n in led.get(entry.id, {}).items())
        row = Failing(entry, found, fix, came_from(referrers, found.failed, known))
        row.family, row.soft = family.get(entry.key, ""), entry.id in soft
        row.share, row.trend = (
            found.lost / people if people else 0.0,
            found.trend(newest) if newest else 0.0,
        )
        if entry.answer.kind in {AnswerKind.OPEN, AnswerKind.WANTED}:
            row.meant = damage.meant(address_of(entry.legacy_url).path)
            row.proposal = next((p for p in proposals.get(entry.id, ()) if not p.is_fallback), None)
        rows.append(row)
    _explain(move, rows, told)
    order = {state: n for n, state in enumerate(STATES)}
    rows.sort(
        key=lambda r: (
            order[r.account.state],
            -r.account.lost,
            -r.entry.evidence.value,
            r.entry.legacy_url,
        )
    )
    within = {day: classes for day, classes in days.items() if day not in span.strays}
    result = Triaged(
        rows, within, noise, span.strays, live=[(b.live_from, b.dialect) for b in fixes.live]
    )
    result.decisions = rank(list(_decisions(rows)))
    result.enough = enough(result.decisions)
    return result


def _soft(move: MoveState, connection: Any) -> set[int]:
    """The entries that the last replay saw end on a page that is none."""
    last = last_run(connection, RunKind.REPLAY)
    if last is None:
        return set()
    rows = load_traces(connection, last.id)
    urls = [
        url
        for url, outcome in zip(rows.urls, rows.outcomes, strict=True)
        if outcome.verdicts[0] in _SOFT
    ]
    entries = (move.entry_of(address_of(url)) for url in urls)
    return {e.id for e in entries if e is not None}


_SOFT = frozenset([Verdict.SOFT_404, Verdict.HOME_FALLBACK])


def _explain(move: MoveState, rows: Iterable[Failing], told: Mapping[int, list[LogCount]]) -> None:
    """Find the likely reason of what fails again."""
    works = {r.fix.live for r in rows if r.account.right}
    for row in (r for r in rows if r.account.state == FailureState.RECURRING):
        said, live = told[row.entry.id], row.fix.live
        if row.soft:
            row.why = RecurrenceReason.SOFT
            continue
        covered = (
            _covered(move, row.entry, said, live) if row.entry.by != AnsweredBy.TEMPLATE else {}
        )
        elsewhere = frozenset(
            s for s in row.account.spellings if not move.sites.site_of(address_of(s))
        )
        row.why = recurrence_reason(
            row.account,
            said,
            row.fix,
            DeploymentContext(covered, elsewhere, not works or live in works),
        )


def _covered(move: MoveState, entry: Entry, told: Iterable[LogCount], live: str) -> dict[str, bool]:
    """Spelling → whether the rule that went live answers its path: it knew those that had been seen
    by then.
    """
    told = list(told)
    paths = {t.spelling: canonical_path(address_of(t.spelling).path) for t in told}
    seen_before = {t.spelling for t in told if not is_after(t.day, live)}
    folded = fold(address_of(entry.legacy_url), move.policy)
    variants = {folded.variant, *(paths[s] for s in seen_before)}
    answered = set(declared_paths(folded.path, frozenset(variants), move.policy))
    return {s: move.compiled.rules.fold_request_path(path) in answered for s, path in paths.items()}


def _decisions(rows: Iterable[Failing]) -> Iterable[NextDecision]:
    """What could be decided at once: families of open entries, and single ones."""
    waiting = [
        r
        for r in rows
        if r.account.state == FailureState.NEW and (r.account.lost or r.account.named)
    ]
    families: dict[tuple[str, str], list[Failing]] = defaultdict(list)
    for row in waiting:
        if row.family:
            families[row.entry.site, row.family].append(row)
    for (_, name), members in families.items():
        if len(members) >= _FEWEST_OF_FAMILY:
            best = max(members, key=lambda r: r.account.lost)
            yield _decision(FAMILY, name, members, best)
    for row in waiting:
        if len(families.get((row.entry.site, row.family), ())) < _FEWEST_OF_FAMILY:
            yield _decision(ENTRY, row.entry.legacy_url, [row], row)


def _decision(kind: str, name: str, members: list[Failing], best: Failing) -> NextDecision:
    proposal, confidence, reason, differ = "", 0.0, "", False
    if kind == FAMILY:
        proposal, confidence, reason, differ = _of_family(members)
    elif best.meant is not None:
        proposal, confidence, reason = best.meant.page, 0.95, best.meant.damage
    elif best.proposal is not None:
        proposal, confidence = best.proposal.destination, best.proposal.confidence
        reason = "; ".join(best.proposal.reasons[:2])
    return NextDecision(
        kind, name, tuple(r.entry.id for r in members), sum(r.account.lost for r in members),
        sum(r.entry.evidence.value for r in members),
        proposal, confidence, reason, differ,
    )  # fmt: skip


def _of_family(members: list[Failing]) -> tuple[str, float, str, bool]:
    """What is proposed for a family as a whole: a page, or the template by which its entries move;
    how sure that is, and why; and whether their proposals differ.
    """
    found = [r.proposal for r in members if r.proposal is not None]
    if not found:
        return "", 0.0, "", False
    least = min(p.confidence for p in found)
    pages = {p.destination for p in found}
    if len(found) == len(members):
        if len(pages) == 1:
            return pages.pop(), least, "all of them are proposed this page", False
        origins = {parse_address(page).origin for page in pages}
        pairs = [
            (split_text(r.entry.legacy_url)[2], split_text(p.destination)[2])
            for r, p in zip(members, found, strict=True)
        ]
        if len(origins) == 1 and (template := moves_alike(pairs)):
            return f"{origins.pop()}{template}", least, "they move alike", False
    return "", 0.0, "", True
