"""Links of the new site that still lead to the old one."""

from __future__ import annotations

from collections.abc import Iterator

from upright_ledger.core.crawl.audits.site_index import AuditFinding, ExpectedSite, SurveyedSite
from upright_ledger.core.severity import Severity

OLD_LINKS = "links to the old site"
_MANY = 0.01  # of the pages


def old_links(site: SurveyedSite, wanted: ExpectedSite) -> Iterator[AuditFinding]:
    """Addresses of old hosts to which pages link: each costs a redirect at best, and the old host
    may go one day.
    """
    rows = sorted((target, page) for target, page in site.on.items() if wanted.is_old(target))
    if rows:
        pages = sum(site.inbound[target] for target, _ in rows)
        yield AuditFinding(
            OLD_LINKS,
            "links-to-old-site",
            Severity.ERROR if pages >= _MANY * site.pages else Severity.WARNING,
            f"addresses of the old site to which pages link: {len(rows):,}, {pages:,} times; put "
            "there where each goes now",
            rows,
            "on",
        )
