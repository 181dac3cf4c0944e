"""Broken inbound pages: addresses that fail although other sites link there, or people ask for
them.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from upright_ledger.core.crawl.audits.site_index import SurveyedSite
from upright_ledger.core.crawl.observation import CrawlOutcome
from upright_ledger.core.inventory.evidence import EntryEvidence


class InboundRow(NamedTuple):
    """A dead address with what leads there. status: where it ends, 0 without an answer; ends: where
    that is, or empty; linking_domains, hits, clicks: of all sources, each in its own unit.
    """

    url: str
    status: int
    ends: str
    linking_domains: float
    hits: float
    clicks: float


def broken_inbound(
    site: SurveyedSite, known: Callable[[str], EntryEvidence | None]
) -> list[InboundRow]:
    """Dead addresses with evidence, by linking domains, then hits, then clicks. known: what the
    ledger knows of an address.
    """
    found = []
    for url, line in site.lines.items():
        final, status = (url, line.status)
        if line.outcome == CrawlOutcome.MOVED:
            final, status = site.final(url)
            end = site.lines.get(final)
            if end is None or end.outcome not in {CrawlOutcome.FAILING, CrawlOutcome.UNREACHABLE}:
                continue
        elif line.outcome not in {CrawlOutcome.FAILING, CrawlOutcome.UNREACHABLE}:
            continue
        evidence = known(url)
        if evidence is not None and (evidence.links or evidence.hits or evidence.clicks):
            ends = final if final != url else ""
            found.append(
                InboundRow(url, status, ends, evidence.links, evidence.hits, evidence.clicks)
            )
    return sorted(found, key=lambda r: (-r.linking_domains, -r.hits, -r.clicks, r.url))
