"""Forms of addresses: scheme, host, closing slash and letter case, as each use writes them."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from upright_ledger.core.crawl.audits.site_index import (
    AuditFinding,
    ExpectedSite,
    SurveyedSite,
    severity,
)
from upright_ledger.core.crawl.audits.sitemap import is_sitemap
from upright_ledger.core.crawl.observation import CrawlOutcome
from upright_ledger.core.url.address import parse_address, split_text
from upright_ledger.core.url.request_target import names_file

FORMS = "forms"
PARTS = ("scheme", "host", "closing slash", "letter case")
PAGES = "pages that answer"
_OWN_SHARE = 0.05  # of the pages: a host that shows as many is one of the site's own


_ESCAPE = re.compile(r"%[0-9A-Fa-f]{2}")


@dataclass
class FormRow:
    """In which forms one use writes addresses of pages: part → form → addresses. others: part →
    (address, where it stands) of those in a form that most pages do not have.
    """

    use: str
    counts: dict[str, Counter[str]] = field(default_factory=lambda: defaultdict(Counter))
    others: dict[str, list[tuple[str, str]]] = field(default_factory=lambda: defaultdict(list))


def form_table(site: SurveyedSite, wanted: ExpectedSite) -> list[FormRow]:
    """The forms that sitemaps, canonical addresses, links, hreflang and redirects use, for
    addresses of the site's own hosts; first what pages have that answer.
    """
    own = {
        parse_address(url).host
        for url, line in site.lines.items()
        if line.outcome == CrawlOutcome.ANSWERED
    } | {parse_address(wanted.origin).host}
    lines = site.lines
    uses: dict[str, Iterable[tuple[str, str]]] = {
        "sitemap": ((u, on) for u, on in site.listed.items() if not is_sitemap(site, u)),
        "canonical": ((target, url) for url, target in site.canonicals.items()),
        "links": ((u, on) for u, on in site.on.items() if _may_be_page(site, u)),
        "hreflang": ((target, url) for url, target in site.languages),
        "redirects lead to": (
            (n.location, u)
            for u, n in lines.items()
            if n.outcome == CrawlOutcome.MOVED and n.location
        ),
    }
    answering = FormRow(PAGES)
    for url, line in lines.items():
        if line.is_page:
            for part, form in _forms_of(url, own):
                answering.counts[part][form] += 1
    right = _right(answering, wanted)
    rows = [answering]
    for use, addresses in uses.items():
        row = FormRow(use)
        for url, on in dict(addresses).items():
            for part, form in _forms_of(url, own):
                row.counts[part][form] += 1
                if part in right and form not in right[part]:
                    row.others[part].append((url, on))
        rows.append(row)
    return [row for row in rows if row.counts]


def _may_be_page(site: SurveyedSite, url: str) -> bool:
    line = site.lines.get(url)
    return (
        line is None or line.is_page or line.outcome in {CrawlOutcome.MOVED, CrawlOutcome.FAILING}
    )


def _forms_of(url: str, own: set[str]) -> Iterator[tuple[str, str]]:
    """Part and form of an address on a host of the site's own."""
    scheme, authority, target = split_text(url)
    if authority.partition(":")[0] not in own:
        return
    path = target.partition("?")[0]
    yield "scheme", scheme
    yield "host", authority
    if path != "/" and not names_file(path):
        yield "closing slash", "slash" if path.endswith("/") else "none"
    letters = _ESCAPE.sub("", path)  # the digits of escapes are no letters: "%C3" stays as it is
    yield "letter case", "capitals" if letters != letters.lower() else "small"


def _right(answering: FormRow, wanted: ExpectedSite) -> dict[str, set[str]]:
    """Part → the forms that are right: what most pages have, or the settings say."""
    found = {part: {counts.most_common(1)[0][0]} for part, counts in answering.counts.items()}
    if hosts := answering.counts.get("host"):
        found["host"] = {
            host for host, n in hosts.items() if n >= _OWN_SHARE * hosts.total()
        } | found["host"]
    if found and wanted.slash in {"always", "never"}:
        found["closing slash"] = {"slash" if wanted.slash == "always" else "none"}
    if found and not wanted.staging and wanted.origin.startswith("https:"):
        found["scheme"] = {"https"}
    return found


def forms(table: list[FormRow], wanted: ExpectedSite) -> Iterator[AuditFinding]:
    """Where uses disagree about the form of addresses, and which of them to change."""
    answering, *rows = table or [FormRow(PAGES)]
    right = _right(answering, wanted)
    for row in rows:
        for part, others in row.others.items():
            whole = row.counts[part].total()
            goal = " or ".join(_WORDS.get(form, form) for form in sorted(right[part]))
            yield AuditFinding(
                FORMS,
                f"{part.replace(' ', '-')}-of-{row.use.split()[0]}",
                severity(len(others), whole),
                f"{row.use}: {len(others):,} of {whole:,} differ in {part}; change them to {goal}",
                sorted(others),
                "on" if row.use != "redirects lead to" else "from",
            )


_WORDS = {
    "slash": "a closing slash",
    "none": "no closing slash",
    "small": "small letters",
    "capitals": "capitals as they are",
}
