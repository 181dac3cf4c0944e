"""Pages beside each other: those of other languages, and those that say the same."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator

from upright_ledger.core.audits.site import Fault, Site, Wanted, severity
from upright_ledger.core.destinations import slash_twin
from upright_ledger.core.surveying import FAILING, MOVED

LANGUAGES, DOUBLES = "languages", "doubles"
_LEAST_TEXT = 120  # letters of texts that are compared


def languages(site: Site, _: Wanted) -> Iterator[Fault]:
    """Pages of other languages must name each other, and answer."""
    known = {url for url, _ in site.languages}
    lonely = [
        (target, url)
        for url, target in site.languages
        if target != url and target in known and (target, url) not in site.languages
    ]
    if lonely:
        yield Fault(
            LANGUAGES,
            "hreflang-not-returned",
            severity(len(lonely), len(site.languages)),
            f"hreflang links that are not returned: {len(lonely):,}",
            sorted(lonely),
            "on",
        )
    dead = [
        (target, url)
        for url, target in site.languages
        if (line := site.lines.get(target)) and line.outcome in {MOVED, FAILING}
    ]
    if dead:
        yield Fault(
            LANGUAGES,
            "hreflang-broken",
            severity(len(dead), len(site.languages)),
            f"hreflang links that lead to redirects or errors: {len(dead):,}",
            sorted(dead),
            "on",
        )


def doubles(site: Site, _: Wanted) -> Iterator[Fault]:
    """Two addresses that show the same page: the weaker one should redirect to the stronger."""
    by_text: dict[tuple[str, str], list[str]] = defaultdict(list)
    for url, line in site.lines.items():
        if line.is_page and line.digest and line.letters >= _LEAST_TEXT and site.canonicals.get(url, url) == url:
            by_text[line.title, line.digest].append(url)
    twins: list[tuple[str, str]] = []
    pairs: list[tuple[str, str]] = []
    for urls in by_text.values():
        strong = max(urls, key=lambda u: (site.inbound[u], u in site.listed, -len(u), u))
        for weak in (u for u in urls if u != strong):
            (twins if slash_twin(weak) == strong else pairs).append((weak, strong))
    if twins:
        yield Fault(
            DOUBLES,
            "both-slash-forms",
            severity(len(twins), site.pages),
            f"pages that answer with and without closing slash: {len(twins):,}",
            sorted(twins),
            "as",
        )
    if pairs:
        yield Fault(
            DOUBLES,
            "same-content",
            severity(len(pairs), site.pages),
            f"pages that say the same as another one, which is linked more often: {len(pairs):,}",
            sorted(pairs),
            "as",
        )
