"""Sitemaps: every address of them must answer 200, be canonical and indexable, and be in the form
of the site.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from upright_ledger.core.crawl.audits.site_index import (
    AuditFinding,
    ExpectedSite,
    SurveyedSite,
    as_rows,
    severity,
)
from upright_ledger.core.crawl.observation import CrawlOutcome
from upright_ledger.core.severity import Severity

SITEMAP = "sitemap"


def sitemap(site: SurveyedSite, wanted: ExpectedSite) -> Iterator[AuditFinding]:
    """Every address of the sitemaps must answer 200, be canonical and indexable, and be in the
    site's form.
    """
    listed = {url: source for url, source in site.listed.items() if not is_sitemap(site, url)}
    whole = len(listed)
    if not whole:
        if site.pages:
            yield AuditFinding(
                SITEMAP, "no-sitemap", Severity.WARNING, "no sitemap names any page", []
            )
        return
    bad: dict[str, list[tuple[str, str]]] = defaultdict(list)
    for url in listed:
        if wrong := _listed_fault(site, wanted, url):
            bad[wrong[0]].append((url, wrong[1]))
    texts = {
        "sitemap-redirects": "redirect", "sitemap-errors": "do not answer 200",
        "sitemap-not-canonical": "name another address as canonical",
        "sitemap-noindex": "ask search engines to leave them out",
        "sitemap-other-host": "lie on another host or scheme",
        "sitemap-not-asked": "could not be asked for",
    }  # fmt: skip
    for kind, rows in bad.items():
        yield AuditFinding(
            SITEMAP,
            kind,
            severity(len(rows), whole),
            f"addresses of sitemaps that {texts[kind]}: {len(rows):,} of {whole:,}",
            sorted(rows),
            _BESIDE.get(kind, "to"),
        )
    good = [
        url for url, line in site.lines.items()
        if line.is_page
        and not line.noindex
        and site.canonicals.get(url, url) == url
        and url not in listed
    ]  # fmt: skip
    if good:
        yield AuditFinding(
            SITEMAP,
            "missing-from-sitemap",
            severity(len(good), site.pages),
            f"pages that stand in no sitemap: {len(good):,} of {site.pages:,}",
            as_rows(good),
        )
    reached = {site.final(url)[0] for url in site.of(CrawlOutcome.MOVED) if site.inbound[url]}
    alone = [
        url
        for url in listed
        if not site.inbound[url]
        and url not in reached
        and url in site.lines
        and site.lines[url].outcome == CrawlOutcome.ANSWERED
    ]
    if alone:
        yield AuditFinding(
            SITEMAP,
            "linked-nowhere",
            severity(len(alone), whole),
            f"addresses of sitemaps to which no page links: {len(alone):,} of {whole:,}",
            as_rows(alone),
        )


_BESIDE = {
    "sitemap-errors": "answers",
    "sitemap-not-canonical": "names",
    "sitemap-not-asked": "since",
}


def is_sitemap(site: SurveyedSite, url: str) -> bool:
    """Whether an address is a sitemap itself."""
    return (
        url.partition("?")[0].endswith((".xml", ".xml.gz"))
        and url in site.lines
        and not site.lines[url].is_page
    )


def _listed_fault(site: SurveyedSite, wanted: ExpectedSite, url: str) -> tuple[str, str] | None:
    """The kind of fault of an address, and what stands beside it."""
    line = site.lines.get(url)
    if not wanted.has(url) and not wanted.staging:
        return "sitemap-other-host", ""
    if line is None or line.outcome == CrawlOutcome.NOT_ASKED:
        return "sitemap-not-asked", line.reason if line else "another host"
    if line.outcome == CrawlOutcome.MOVED:
        return "sitemap-redirects", site.final(url)[0]
    if line.status != 200:
        return "sitemap-errors", str(line.status or line.reason)
    if line.noindex:
        return "sitemap-noindex", ""
    if site.canonicals.get(url, url) != url:
        return "sitemap-not-canonical", site.canonicals[url]
    return None
