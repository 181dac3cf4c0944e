"""All audits of a survey, in the order in which people should read them."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from upright_ledger.core.crawl.audits.canonical import canonicals
from upright_ledger.core.crawl.audits.duplicates import doubles
from upright_ledger.core.crawl.audits.hreflang import languages
from upright_ledger.core.crawl.audits.launch_gate import GATE, gate
from upright_ledger.core.crawl.audits.old_links import old_links
from upright_ledger.core.crawl.audits.server_setup import server
from upright_ledger.core.crawl.audits.site_index import AuditFinding, ExpectedSite, SurveyedSite
from upright_ledger.core.crawl.audits.sitemap import sitemap
from upright_ledger.core.crawl.audits.url_consistency import FormRow, forms
from upright_ledger.core.severity import Severity


def audit(site: SurveyedSite, wanted: ExpectedSite, table: list[FormRow]) -> list[AuditFinding]:
    """All faults, the launch gate first. table: the forms of addresses, by use."""
    parts: tuple[Callable[[SurveyedSite, ExpectedSite], Iterator[AuditFinding]], ...] = (
        gate,
        sitemap,
        canonicals,
        languages,
        server,
        doubles,
        old_links,
    )
    order = {Severity.ERROR: 0, Severity.WARNING: 1, Severity.NOTE: 2}
    found = [*forms(table, wanted), *(fault for part in parts for fault in part(site, wanted))]
    return sorted(found, key=lambda f: (f.audit != GATE, order[f.severity], -len(f.rows), f.kind))
