"""The languages of pages that bear no mark of theirs, by the words that they share with marked
ones.

A shop may serve German under /artikel.php and English under /item.php: nothing in an address says
so, and the new site has both. What lies in one place is taken to be in one language.
"""

from __future__ import annotations

import math
from collections import Counter, defaultdict
from collections.abc import Sequence

from upright_ledger.core.matching.pages.page_words import MatchPage, PageWords, read_page
from upright_ledger.core.url.language import OTHER

_UNMARKED = frozenset(["", OTHER])
_FEWEST = 5  # pages of a place that speak
_SHARE = 0.85  # of them, in one language
_CLEAR = 0.6  # nats between the likeliest language and the next
_KNOWN = 20  # marked pages of a language, from which on its words are known


def by_words(pages: Sequence[MatchPage], others: Sequence[MatchPage]) -> list[str]:
    """The languages of pages of one site: as marked, or by the words of their place, where the
    other site marks several.
    """
    told = [p.language for p in pages]
    sizes = Counter(p.language for p in others if p.language not in _UNMARKED)
    tongues = sorted(t for t, n in sizes.items() if n >= _KNOWN)
    if len(tongues) < 2 or not any(t in _UNMARKED for t in told):
        return told
    words: dict[str, Counter[str]] = {t: Counter() for t in tongues}
    for page in others:
        if page.language in words:
            words[page.language].update(_said(read_page(page)))
    votes: dict[str, Counter[str]] = defaultdict(Counter)
    places: dict[int, str] = {}
    for n, page in enumerate(pages):
        if page.language in _UNMARKED:
            reading = read_page(page)
            places[n] = reading.place
            if spoken := _likeliest(_said(reading), words, sizes):
                votes[reading.place][spoken] += 1
    of_place = {place: found for place, count in votes.items() if (found := _agreed(count))}
    return [of_place.get(places.get(n, "\0"), language) for n, language in enumerate(told)]


def _said(page: PageWords) -> set[str]:
    return {w for w in (*page.title, *page.slug, *page.extra) if not w.isdigit()}


def _likeliest(said: set[str], words: dict[str, Counter[str]], sizes: Counter[str]) -> str:
    """The language to whose pages these words belong; empty where that is not clear."""
    known = [w for w in said if any(w in counts for counts in words.values())]
    ranked = sorted(
        (sum(math.log((counts[w] + 0.5) / (sizes[t] + 1)) for w in known), t)
        for t, counts in words.items()
    )
    return ranked[-1][1] if ranked[-1][0] - ranked[-2][0] >= _CLEAR else ""


def _agreed(votes: Counter[str]) -> str:
    (tongue, count), *_ = votes.most_common(1)
    return tongue if count >= _FEWEST and count >= _SHARE * votes.total() else ""
