"""Triage: what fails after the launch, grouped, attributed, and told apart from what was mended
since.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from upright_ledger.app.live.fix_times import load_fixes
from upright_ledger.app.live.triaged import Failing, Triaged
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import UNANSWERED, AnsweredBy
from upright_ledger.core.inventory.declared_paths import declared_paths
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.normalisation import fold
from upright_ledger.core.inventory.url_patterns import templates
from upright_ledger.core.matching.pattern_moves import moves_alike
from upright_ledger.core.monitoring.damaged_urls import Damage
from upright_ledger.core.monitoring.deploy_days import is_after, span_of
from upright_ledger.core.monitoring.failure_account import (
    STATES,
    DeploymentContext,
    FailureAccount,
    FailureState,
    LogCount,
    RecurrenceReason,
    account,
    recurrence_reason,
)
from upright_ledger.core.monitoring.priority import ENTRY, FAMILY, NextDecision, enough, rank
from upright_ledger.core.monitoring.traffic_origin import (
    KnownHosts,
    LostRequests,
    came_from,
)
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.core.tracing.verdicts import Verdict
from upright_ledger.core.url.address import address_of, parse_address, split_text
from upright_ledger.core.url.request_target import canonical_path
from upright_ledger.ledger.clock import now
from upright_ledger.ledger.tables.failures import (
    Led,
    aside_totals,
    failing_entries,
    led_to,
    requests_by_day,
    told_of,
)
from upright_ledger.ledger.tables.proposals import load_proposals
from upright_ledger.ledger.tables.runs.runs import last_run
from upright_ledger.ledger.tables.runs.trace_blocks import load_traces
from upright_ledger.ledger.tables.stock import StockState

_FEWEST_OF_FAMILY = 3


def triage(move: MoveState) -> Triaged:
    """Look at all that fails in what was gathered."""
    fixes = load_fixes(move.ledger)
    with move.ledger.reading() as connection:
        numbers = failing_entries(connection, fixes.live[0].live_from[:10] if fixes.live else "")
        soft = _soft(move, connection)
        numbers |= soft
        told = told_of(connection, numbers)
        led = led_to(connection, numbers)
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
        came = came_from(_lost(found, told[entry.id], led, entry.id), known)
        row = Failing(entry, found, fix, came)
        row.family, row.soft = family.get(entry.key, ""), entry.id in soft
        row.share, row.trend = (
            found.lost / people if people else 0.0,
            found.trend(newest) if newest else 0.0,
        )
        if entry.answer.kind in UNANSWERED:
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


def _lost(
    found: FailureAccount, told: Iterable[LogCount], led: Led, entry: int
) -> Iterator[LostRequests]:
    """What is lost of an entry, source by source. Referrers are told of all its requests: their
    share in what is lost is taken to be the same.
    """
    if not found.lost:
        return
    asked: dict[int, float] = defaultdict(float)
    for t in told:
        if t.people:
            asked[t.source] += t.requests
    for source, lost in found.sources.items():
        share = lost / (asked[source] or 1.0)
        referrers = led.referrers.get(entry, {}).get(source, {})
        shares = [(address, share * n) for address, n in referrers.items()]
        yield LostRequests(lost, shares, source in led.whole)


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
