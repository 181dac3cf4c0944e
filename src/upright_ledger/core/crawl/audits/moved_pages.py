"""Two surveys, or two lists of pages, of one site: what vanished, what appeared, what is the same
page under another address.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping
from typing import NamedTuple

from upright_ledger.core.contents.sketches import Sketch
from upright_ledger.core.crawl.audits.site_index import SurveyedSite
from upright_ledger.core.crawl.observation import CrawlOutcome
from upright_ledger.core.word import Word

_LEAST_TEXT = 120  # letters; shorter texts tell no pages apart


class Fate(Word):
    """What became of the old address of a page that was renamed: it fails, it redirects to the
    new one, or to another page.
    """

    GONE = "gone"
    LED = "led there"
    ASTRAY = "led elsewhere"


class Sameness(Word):
    """What two addresses have in common, and no other page that vanished or appeared."""

    BY_ITEM = "item number"
    BY_TEXT = "title and text"
    BY_BODY = "text"
    BY_MOST = "most of its text"
    BY_TITLE = "title"


CONFIDENCE = {
    Sameness.BY_ITEM: 0.99,
    Sameness.BY_TEXT: 0.99,
    Sameness.BY_BODY: 0.97,
    Sameness.BY_MOST: 0.95,
    Sameness.BY_TITLE: 0.9,
}


class KnownPage(NamedTuple):
    """What a page is known by. text: of its body, or a digest of it; empty where it is too short to
    tell pages apart. sketch: what it says, in short.
    """

    title: str = ""
    text: str = ""
    item: str = ""
    sketch: Sketch = ""


_Pages = Mapping[str, KnownPage]
_Same = Callable[[list[str], list[str], _Pages, _Pages], dict[str, str]]


class Renaming(NamedTuple):
    """A page that has another address now. by: what both have in common. state: what became of the
    old address; inbound: pages that linked to it.
    """

    old: str
    new: str
    title: str
    by: Sameness
    state: Fate = Fate.GONE
    inbound: int = 0


class Contested(NamedTuple):
    """An address that two pages claim: the one that was there, and is at `now` these days, and the
    one that took its place.
    """

    address: str
    before: str
    after: str
    now: str


class Renamed(NamedTuple):
    """What changed. vanished, appeared: addresses of pages without a counterpart."""

    renamings: list[Renaming]
    contested: list[Contested]
    vanished: list[str]
    appeared: list[str]


def compare(old: Mapping[str, KnownPage], new: Mapping[str, KnownPage]) -> Renamed:
    """Lay two lists of pages side by side: address → page. What stays where it was, whatever became
    of its text, is no renaming.
    """
    replaced = [url for url in old if url in new and _is_another(old[url], new[url])]
    vanished, appeared = ([u for u in a if u not in b] for a, b in ((old, new), (new, old)))
    left, come = [*vanished, *replaced], [*appeared, *replaced]
    renamings: list[Renaming] = []
    contested: list[Contested] = []
    for by, same in _SAME.items():
        found = same(left, come, old, new)
        for a, b in found.items():
            title = new[b].title
            if a in new:
                contested.append(Contested(a, old[a].title, new[a].title, b))
            else:
                renamings.append(Renaming(a, b, title, by))
        taken = set(found.values())
        left, come = [u for u in left if u not in found], [u for u in come if u not in taken]
    return Renamed(
        renamings,
        sorted(contested),
        sorted(u for u in left if u not in new),
        sorted(u for u in come if u not in old),
    )


def _is_another(before: KnownPage, after: KnownPage) -> bool:
    """Whether an address shows another page than it did: nothing of what it is known by stayed."""
    if before.item and before.item == after.item:
        return False
    changed = not before.text or before.text != after.text
    return bool(before.title and after.title) and before.title != after.title and changed


def _matched(
    left: list[str],
    come: list[str],
    old: Mapping[str, KnownPage],
    new: Mapping[str, KnownPage],
    mark: Callable[[KnownPage], str],
) -> dict[str, str]:
    """Address that a page left → the one it came to, where each is the only one of its kind that
    has its mark.
    """
    before: dict[str, list[str]] = defaultdict(list)
    now: dict[str, list[str]] = defaultdict(list)
    for url in left:
        before[mark(old[url])].append(url)
    for url in come:
        now[mark(new[url])].append(url)
    return {
        urls[0]: now[text][0]
        for text, urls in before.items()
        if text and len(urls) == 1 == len(now.get(text, ()))
    }


def _by(mark: Callable[[KnownPage], str]) -> _Same:
    return lambda left, come, old, new: _matched(left, come, old, new, mark)


def _saying_most(left: list[str], come: list[str], old: _Pages, new: _Pages) -> dict[str, str]:
    before, now = (
        {u: sketch for u in urls if (sketch := pages[u].sketch)}
        for urls, pages in ((left, old), (come, new))
    )
    if not before or not now:
        return {}
    from upright_ledger.core.crawl.audits.near_texts import moved_texts  # loads SciPy

    return moved_texts(before, now)


_SAME: dict[Sameness, _Same] = {
    Sameness.BY_ITEM: _by(lambda p: p.item),
    Sameness.BY_TEXT: _by(lambda p: f"{p.title}\n{p.text}" if p.text else ""),
    Sameness.BY_BODY: _by(lambda p: p.text),
    Sameness.BY_MOST: _saying_most,
    Sameness.BY_TITLE: _by(lambda p: p.title),
}
"""What pages may have in common, the surest first: addresses left and come, and what is known of
their pages → how they belong together.
"""


def compare_surveys(before: SurveyedSite, after: SurveyedSite) -> Renamed:
    """As `compare`, for two surveys: the later one also tells what became of the old addresses."""
    found = compare(_pages(before), _pages(after))
    renamings = [
        r._replace(state=_state(r.old, r.new, after), inbound=before.inbound[r.old])
        for r in found.renamings
    ]
    order = {Fate.GONE: 0, Fate.ASTRAY: 1, Fate.LED: 2}
    renamings.sort(key=lambda r: (order[r.state], -r.inbound, r.old))
    return found._replace(renamings=renamings)


def _pages(site: SurveyedSite) -> dict[str, KnownPage]:
    return {
        url: KnownPage(
            line.title,
            line.digest if line.letters >= _LEAST_TEXT else "",
            sketch=site.texts.get(url, ""),
        )
        for url, line in site.lines.items()
        if line.is_page and line.outcome == CrawlOutcome.ANSWERED
    }


def _state(old: str, new: str, after: SurveyedSite) -> Fate:
    line = after.lines.get(old)
    if line is None or line.outcome == CrawlOutcome.FAILING:
        return Fate.GONE
    return (
        Fate.LED
        if line.outcome == CrawlOutcome.MOVED and after.final(old)[0] == new
        else Fate.ASTRAY
    )
