"""Whether pages of several languages name each other."""

from __future__ import annotations

from collections.abc import Iterator

from upright_ledger.core.crawl.audits.canonical import broken_heads
from upright_ledger.core.crawl.audits.site_index import (
    AuditFinding,
    ExpectedSite,
    SurveyedSite,
    severity,
)

LANGUAGES = "languages"


def languages(site: SurveyedSite, _: ExpectedSite) -> Iterator[AuditFinding]:
    """Pages of other languages must name each other, and answer."""
    known = {url for url, _ in site.languages}
    lonely = [
        (target, url)
        for url, target in site.languages
        if target != url and target in known and (target, url) not in site.languages
    ]
    if lonely:
        yield AuditFinding(
            LANGUAGES,
            "hreflang-not-returned",
            severity(len(lonely), len(site.languages)),
            f"hreflang links that are not returned: {len(lonely):,}",
            sorted(lonely),
            "on",
        )
    yield from broken_heads(site, site.languages, LANGUAGES, "hreflang-broken", "hreflang links")
