"""A triage as a list: one row a failing entry."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from upright_ledger.app.live.triaged import Triaged
from upright_ledger.core.monitoring.failure_account import FailureState
from upright_ledger.formats.tables.export import write_table
from upright_ledger.formats.tables.workbooks import Sheet

COLUMNS = (
    "site", "legacy_url", "state", "lost", "share", "trend", "value", "links", "bots", "first",
    "last", "statuses", "comes_from", "family", "answer", "destination", "proposal",
    "confidence", "reason", "answered", "live",
)  # fmt: skip
CAMPAIGN_COLUMNS = ("campaign", "lost", "legacy_url", "lost_there", "page")
_RANKS = {
    FailureState.RECURRING: 0,
    FailureState.NEW: 1,
    FailureState.ANSWERED: 2,
    FailureState.DEPLOYED: 2,
    FailureState.PROVEN: 2,
    FailureState.LINK_MENDED: 2,
    FailureState.IGNORED: 2,
}


def write_triage(result: Triaged, path: Path) -> None:
    """Write the failing entries; in a workbook the campaigns that lead to them beside. Raises
    UsageError.
    """
    links = ("legacy_url", "destination")
    failing = Sheet("failing", COLUMNS, _rows(result), links, severity=("state", _RANKS))
    campaigns = Sheet(
        "campaigns",
        CAMPAIGN_COLUMNS,
        [
            (c.name, round(c.requests, 2), *address)
            for c in result.campaigns
            for address in c.addresses
        ],
        ("legacy_url", "page"),
    )
    write_table(path, failing, (failing, campaigns) if result.campaigns else ())


def _rows(result: Triaged) -> Iterator[tuple[object, ...]]:
    for r in result.rows:
        a, e = r.account, r.entry
        proposal = "" if e.answer.destination else r.likely_page
        reason = r.why or (r.meant.damage if r.meant else "")
        yield (
            e.site, e.legacy_url, a.state, a.lost, round(r.share, 6), r.trend,
            round(e.evidence.value, 2), e.evidence.links, a.bots, a.first, a.last,
            " ".join(f"{c}:{n:.0f}" for c, n in sorted(a.statuses.items())),
            "; ".join(f"{c.origin} {c.requests:.0f}" for c in r.came[:4]), r.family,
            e.answer.kind, e.answer.destination, proposal,
            r.proposal.confidence if r.proposal else "", reason, r.fix.answered, r.fix.live,
        )  # fmt: skip
