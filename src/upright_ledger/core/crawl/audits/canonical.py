"""Whether the addresses that pages name in their head are pages."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from upright_ledger.core.crawl.audits.site_index import (
    AuditFinding,
    ExpectedSite,
    SurveyedSite,
    severity,
)
from upright_ledger.core.crawl.observation import CrawlOutcome

CANONICALS = "canonical addresses"


def canonicals(site: SurveyedSite, _: ExpectedSite) -> Iterator[AuditFinding]:
    """The address that a page names as canonical must answer."""
    yield from broken_heads(
        site, site.canonicals.items(), CANONICALS, "canonical-broken", "canonical addresses"
    )


def broken_heads(
    site: SurveyedSite, named: Collection[tuple[str, str]], audit: str, kind: str, what: str
) -> Iterator[AuditFinding]:
    """Addresses that pages name in their head, and that redirect or fail. named: (page,
    address).
    """
    dead = [
        (target, url)
        for url, target in named
        if (line := site.lines.get(target))
        and line.outcome in {CrawlOutcome.MOVED, CrawlOutcome.FAILING}
    ]
    if dead:
        text = f"{what} that lead to redirects or errors: {len(dead):,} of {len(named):,}"
        yield AuditFinding(audit, kind, severity(len(dead), len(named)), text, sorted(dead), "on")
