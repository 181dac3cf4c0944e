"""The launch gate: what must not stand on launch night, once a site and not once an address."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

from upright_ledger.core.crawl.audits.site_index import (
    AuditFinding,
    ExpectedSite,
    PageRecord,
    SurveyedSite,
    as_rows,
    by_host,
    severity,
)
from upright_ledger.core.crawl.frontier import NotAsked
from upright_ledger.core.crawl.observation import CrawlOutcome
from upright_ledger.core.severity import Severity
from upright_ledger.core.url.address import parse_address, split_text

GATE = "launch gate"
_STAGING_LABELS = frozenset(
    [
        "staging",
        "stage",
        "stg",
        "dev",
        "test",
        "testing",
        "preview",
        "preprod",
        "uat",
        "beta",
        "localhost",
        "local",
    ]
)
_SITEWIDE = 0.5
_EXAMPLES = 20  # addresses that stand for a whole site


def gate(site: SurveyedSite, wanted: ExpectedSite) -> Iterator[AuditFinding]:
    """What must not stand on launch night."""
    whole = by_host(site.lines)
    pages = {host: [u for u in urls if site.lines[u].is_page] for host, urls in whole.items()}
    closing: tuple[tuple[str, str, dict[str, list[str]], Callable[[PageRecord], bool]], ...] = (
        ("noindex", "pages that ask search engines to leave them out", pages, lambda n: n.noindex),
        (
            "robots-blocks",
            "addresses that robots.txt keeps from crawlers",
            whole,
            lambda n: n.barred or n.reason == NotAsked.ROBOTS,
        ),
        (
            "closed",
            "addresses that ask for a login, or refuse",
            whole,
            lambda n: n.outcome == CrawlOutcome.REFUSED,
        ),
    )
    for kind, text, groups, applies in closing:
        few: list[str] = []
        for host, urls in groups.items():
            found = [u for u in urls if applies(site.lines[u])]
            if found and len(found) >= _SITEWIDE * len(urls):
                told = f"{text}: {len(found):,} of {len(urls):,}, so the whole of {host}"
                grave = Severity.NOTE if wanted.staging else Severity.ERROR
                yield AuditFinding(
                    GATE, f"{kind}-everywhere", grave, told, as_rows(sorted(found)[:_EXAMPLES])
                )
            else:
                few += found
        if few:
            of = sum(map(len, groups.values()))
            grave = Severity.NOTE if wanted.staging and kind == "closed" else severity(len(few), of)
            yield AuditFinding(GATE, kind, grave, f"{text}: {len(few):,} of {of:,}", as_rows(few))
    unread = by_host(url for url, line in site.lines.items() if line.reason == NotAsked.UNREAD)
    for host, urls in unread.items():
        told = f"the robots.txt of {host} cannot be read: crawlers ask for nothing there"
        yield AuditFinding(
            GATE, "robots-unread", Severity.ERROR, told, as_rows(sorted(urls)[:_EXAMPLES])
        )
    if site.staged:
        told = f"addresses in pages that name the staging server: {len(site.staged):,}"
        rows = sorted(site.staged.items())
        yield AuditFinding(GATE, "staging-named", Severity.NOTE, told, rows, "on")
    for use, rows in _staging_addresses(site, wanted).items():
        yield AuditFinding(
            GATE,
            f"staging-in-{use}",
            Severity.ERROR,
            f"{_USES[use]} that name a staging host: {len(rows):,}",
            rows,
            "on",
        )


_USES = {
    "canonical": "canonical addresses",
    "links": "links",
    "hreflang": "hreflang addresses",
    "sitemap": "addresses of sitemaps",
}


def _staging_addresses(
    site: SurveyedSite, wanted: ExpectedSite
) -> dict[str, list[tuple[str, str]]]:
    own = parse_address(wanted.origin).host
    uses: dict[str, Iterable[tuple[str, str]]] = {
        "canonical": ((target, url) for url, target in site.canonicals.items()),
        "hreflang": ((target, url) for url, target in site.languages),
        "sitemap": site.listed.items(),
        "links": site.on.items(),
    }
    found: dict[str, list[tuple[str, str]]] = {}
    for use, addresses in uses.items():
        rows = [
            (target, source)
            for target, source in addresses
            if is_staging(split_text(target)[1].partition(":")[0], own)
        ]
        if rows:
            found[use] = sorted(set(rows))
    return found


def is_staging(host: str, own: str) -> bool:
    """Whether a host looks like one that is not for the public; the site's own host never does."""
    if host == own:
        return False
    labels = set(host.replace("-", ".").split("."))
    return bool(labels & _STAGING_LABELS) or host.replace(".", "").isdigit()
