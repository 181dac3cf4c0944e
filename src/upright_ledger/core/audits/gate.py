"""The launch gate: what must not stand on launch night."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from upright_ledger.core.addresses import parse_address, split_text
from upright_ledger.core.audits.site import ERROR, NOTE, Fault, Site, Wanted, as_rows, severity
from upright_ledger.core.surveying import REFUSED, ROBOTS

GATE = "launch gate"
_STAGING_LABELS = frozenset(
    ["staging", "stage", "stg", "dev", "test", "testing", "preview", "preprod", "uat", "beta", "localhost", "local"]
)
_SITEWIDE = 0.5


def gate(site: Site, wanted: Wanted) -> Iterator[Fault]:
    """What must not stand on launch night, once a site."""
    pages = [url for url, line in site.lines.items() if line.is_page]
    hidden = [url for url in pages if site.lines[url].noindex]
    if pages and len(hidden) >= _SITEWIDE * len(pages):
        how_grave = NOTE if wanted.staging else ERROR
        yield Fault(
            GATE,
            "noindex-everywhere",
            how_grave,
            f"pages that ask search engines to leave them out: {len(hidden):,} of {len(pages):,}",
            as_rows(hidden[:20]),
        )
    elif hidden:
        yield Fault(
            GATE,
            "noindex",
            severity(len(hidden), len(pages)),
            f"pages that ask search engines to leave them out: {len(hidden):,} of {len(pages):,}",
            as_rows(hidden),
        )
    barred = [url for url, line in site.lines.items() if line.reason == ROBOTS]
    if barred:
        whole = len(site.lines)
        grave = severity(len(barred), whole) if len(barred) < _SITEWIDE * whole else NOTE if wanted.staging else ERROR
        yield Fault(
            GATE,
            "robots-blocks",
            grave,
            f"addresses that robots.txt keeps from crawlers: {len(barred):,} of {whole:,}",
            as_rows(barred),
        )
    closed = [url for url, line in site.lines.items() if line.outcome == REFUSED]
    if closed:
        share = severity(len(closed), len(site.lines))
        yield Fault(
            GATE,
            "closed",
            NOTE if wanted.staging else share,
            f"addresses that ask for a login, or refuse: {len(closed):,}",
            as_rows(closed),
        )
    strange = _staging_addresses(site, wanted)
    for use, rows in strange.items():
        yield Fault(
            GATE, f"staging-in-{use}", ERROR, f"{_USES[use]} that name a staging host: {len(rows):,}", rows, "on"
        )


_USES = {
    "canonical": "canonical addresses",
    "links": "links",
    "hreflang": "hreflang addresses",
    "sitemap": "addresses of sitemaps",
}


def _staging_addresses(site: Site, wanted: Wanted) -> dict[str, list[tuple[str, str]]]:
    own = parse_address(wanted.origin).host
    uses: dict[str, Iterable[tuple[str, str]]] = {
        "canonical": ((target, url) for url, target in site.canonicals.items()),
        "hreflang": ((target, url) for url, target in site.languages),
        "sitemap": site.listed.items(),
        "links": ((target, "") for target in site.inbound),
    }
    found: dict[str, list[tuple[str, str]]] = {}
    for use, addresses in uses.items():
        rows = [
            (target, source) for target, source in addresses if is_staging(split_text(target)[1].partition(":")[0], own)
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
