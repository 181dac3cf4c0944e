"""What is new among the links to mend, from one survey of a site to the next."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

from upright_ledger.core.crawl.audits.site_index import LinkToMend


class LinkNews(NamedTuple):
    """What changed about the links to one address. links: those that are new, or the ones that were
    there where none is left.
    """

    target: str
    mended: bool
    links: tuple[LinkToMend, ...]

    @property
    def pages(self) -> int:
        """How many pages hold them."""
        return sum(link.pages for link in self.links)


def link_news(
    before: Iterable[LinkToMend],
    now: Iterable[LinkToMend],
    is_looked_at: Callable[[LinkToMend], bool] = lambda _: True,
) -> list[LinkNews]:
    """Addresses to which links lead that are to be mended and were not before, the ones with most
    pages first, then those of which no such link is left. A link of a template is one, on however
    many pages. is_looked_at: whether it was seen now that a former link is none any more, and not
    only that its page failed.
    """
    old, new = _by_target(before), _by_target(now)
    found = []
    for target, links in new.items():
        known = {_place(link) for link in old.get(target, ())}
        fresh = tuple(link for link in links if _place(link) not in known)
        if fresh:
            found.append(LinkNews(target, mended=False, links=fresh))
    gone = [
        LinkNews(target, mended=True, links=tuple(links))
        for target, links in old.items()
        if target not in new and all(map(is_looked_at, links))
    ]
    return [*_ordered(found), *_ordered(gone)]


def _by_target(links: Iterable[LinkToMend]) -> dict[str, list[LinkToMend]]:
    found: dict[str, list[LinkToMend]] = defaultdict(list)
    for link in links:
        found[link.target].append(link)
    return found


def _place(link: LinkToMend) -> str:
    return "" if link.in_template else link.source


def _ordered(found: Sequence[LinkNews]) -> list[LinkNews]:
    return sorted(found, key=lambda n: (-n.pages, n.target))


def asked_again(links: Iterable[LinkToMend]) -> frozenset[str]:
    """The addresses that tell whether links were mended: those to which they lead, and the pages
    that hold them. A link of a template is on too many pages: it is looked at on one.
    """
    return frozenset(url for link in links for url in (link.target, link.source))
