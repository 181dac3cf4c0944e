"""Pages with the same text at several addresses, or with the same title."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterator

from upright_ledger.core.crawl.audits.site_index import (
    AuditFinding,
    ExpectedSite,
    SurveyedSite,
    severity,
)
from upright_ledger.core.crawl.observation import CrawlOutcome
from upright_ledger.core.severity import Severity
from upright_ledger.core.url.destination import slash_twin

DOUBLES = "doubles"


_LEAST_TEXT = 120  # letters of texts that are compared
_FEWEST_ALIKE = 2


def doubles(site: SurveyedSite, wanted: ExpectedSite) -> Iterator[AuditFinding]:
    """Two addresses that show the same page: the weaker one should redirect to the stronger. Two
    pages that claim one address.
    """
    by_text: dict[tuple[str, str], list[str]] = defaultdict(list)
    for url, line in site.lines.items():
        if (
            line.is_page
            and line.digest
            and line.letters >= _LEAST_TEXT
            and site.canonicals.get(url, url) == url
        ):
            by_text[line.title, line.digest].append(url)
    found: dict[str, list[tuple[str, str]]] = defaultdict(list)
    for urls in by_text.values():
        strong = max(
            urls,
            key=lambda u: (
                *_strength(u, site, wanted),
                not _is_index(u, wanted),
                u in site.listed,
                -len(u),
                u,
            ),
        )
        for weak in (u for u in urls if u != strong):
            kind = (
                "both-slash-forms" if slash_twin(weak) == strong
                else "index-file-linked" if _is_index(weak,
                    wanted) and weak.rpartition("/")[0] == strong.rstrip("/")
                else "same-content-tie" if _strength(weak, site, wanted) == _strength(strong, site,
                    wanted)
                else "same-content"
            )  # fmt: skip
            found[kind].append((weak, strong))
    for kind, rows in found.items():
        yield AuditFinding(
            DOUBLES,
            kind,
            severity(len(rows), site.pages),
            f"{_TEXTS[kind]}: {len(rows):,}",
            sorted(rows),
            "same as",
        )
    yield from _nearly_the_same(site, {url for urls in by_text.values() for url in urls})
    yield from _claimed_twice(site)


_TEXTS = {
    "both-slash-forms": "pages that answer with and without closing slash",
    "index-file-linked": "index files that are linked to as second addresses of their folders",
    "same-content": (
        "pages that say the same as a stronger one (by links of others, clicks and hits, links of "
        "the site): redirect them there"
    ),
    "same-content-tie": (
        "pages that say the same as another one, and nothing tells which is the stronger: choose "
        "one, and redirect the other"
    ),
}


def _nearly_the_same(site: SurveyedSite, pages: Collection[str]) -> Iterator[AuditFinding]:
    """Pages that say nearly what another one says, in other words here and there."""
    texts = {url: text for url, text in site.texts.items() if url in pages}
    if len(texts) < _FEWEST_ALIKE:
        return
    from upright_ledger.core.crawl.audits.near_texts import nearly_the_same  # loads SciPy

    rows = [
        pair
        for pair in nearly_the_same(texts)
        if site.lines[pair[0]].digest != site.lines[pair[1]].digest
    ]
    if rows:
        yield AuditFinding(
            DOUBLES,
            "nearly-same-content",
            Severity.NOTE,
            f"pages that say nearly what another one says: {len(rows):,}; one may be enough",
            sorted(rows),
            "nearly",
        )


def _strength(url: str, site: SurveyedSite, wanted: ExpectedSite) -> tuple[float, float, float]:
    """What speaks for an address: links of others, clicks and hits, links of the site itself."""
    known = wanted.known(url)
    linked, used = (known.links, known.clicks + known.hits) if known is not None else (0.0, 0.0)
    return linked, used, site.inbound[url]


def _is_index(url: str, wanted: ExpectedSite) -> bool:
    return url.rpartition("/")[2] in wanted.index_files


def _claimed_twice(site: SurveyedSite) -> Iterator[AuditFinding]:
    """Addresses that several pages name as canonical, each of which says something else."""
    claims: dict[str, list[str]] = defaultdict(list)
    for page, target in site.canonicals.items():
        line = site.lines.get(page)
        if (
            page != target
            and line is not None
            and line.outcome == CrawlOutcome.ANSWERED
            and line.title
        ):
            claims[target].append(page)
    rows = []
    for target, pages in claims.items():
        own = site.lines.get(target)
        titles = {site.lines[page].title for page in pages} | (
            {own.title} if own and own.is_page else set()
        )
        texts = {site.lines[page].digest for page in pages}
        if (
            len(pages) > 1
            and len(titles) > len(pages) - (own is None or not own.is_page)
            and len(texts) == len(pages)
        ):
            rows += [(target, page) for page in pages]
    if rows:
        contested = len({target for target, _ in rows})
        yield AuditFinding(
            DOUBLES,
            "contested-address",
            severity(contested, site.pages),
            f"addresses that several different pages claim as canonical: {contested:,}",
            sorted(rows),
            "by",
        )
