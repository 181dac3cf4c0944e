"""Proposals: the best new pages for each old one, with confidence and reasons in plain words."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from urllib.parse import unquote

import numpy as np

from upright_ledger.core.matching import learned_features, scoring
from upright_ledger.core.matching.pages.page_tongues import by_words
from upright_ledger.core.matching.pages.page_words import MatchPage, PageWords
from upright_ledger.core.matching.scoring import Weighed, weigh
from upright_ledger.core.url.tokens import as_written

MOST = 3
"""Proposals a page."""

FLOOR = 0.05
"""A first proposal with less confidence is no plausible page; a further one may have a tenth of
that.
"""

SUREST = 0.999
"""No guess is certain, however plain."""

SPLIT = "holds one part of it: another page has the rest"

_MOST_WORDS = 3
_FEWEST_MOVED = 3
_HALVES = 0.8  # of the words, by weight
_SAME_TEXT, _MUCH_TEXT, _LITTLE_TEXT = 0.9, 0.2, 0.02
_TELLING = 1.0  # nats: words on more than a third of all pages tell nothing


@dataclass(frozen=True, slots=True)
class Proposal:
    """A possible destination. confidence: the chance that it is right, 0 to 1. reasons: short plain
    sentences.
    """

    name: str
    confidence: float
    reasons: tuple[str, ...]


@dataclass(slots=True)
class Proposals:
    """What matching found. found: old page → its proposals, the best first; those without a
    plausible one are left out.

    split: old pages whose words two new pages share out between them: it may have been split.
    fallbacks: old page without proposal → the page of the section to which its neighbours moved.
    renumbering: how item numbers changed, in words, or empty. known: old page whose answer is known
    → the confidence of its best proposal, and whether that is its answer; it taught nothing of
    itself.
    """

    found: dict[str, list[Proposal]] = field(default_factory=dict)
    fallbacks: dict[str, str] = field(default_factory=dict)
    split: set[str] = field(default_factory=set)
    renumbering: str = ""
    known: dict[str, tuple[float, bool]] = field(default_factory=dict)


def propose(
    old: Sequence[MatchPage], new: Sequence[MatchPage], taught: Mapping[str, str] | None = None
) -> Proposals:
    """Propose new pages for old ones. taught: old page → new page, for those of `old` whose answer
    is known; they teach how places moved, and get no proposals.

    The caller leaves home pages out of `new`: they are no answer for an inner page.
    """
    # In one order, whatever the caller's: sums of floats depend on it.
    old, new = sorted(old, key=lambda p: p.name), sorted(new, key=lambda p: p.name)
    if not old or not new:
        return Proposals()
    spoken = by_words(old, new), by_words(new, old)
    old, new = (
        [
            p if p.language == code else replace(p, language=code)
            for p, code in zip(pages, codes, strict=True)
        ]
        for pages, codes in zip((old, new), spoken, strict=True)
    )
    number = {p.name: n for n, p in enumerate(new)}
    known = {
        n: number[taught[p.name]]
        for n, p in enumerate(old)
        if taught and taught.get(p.name) in number
    }
    weighed = weigh(old, new, known)
    result = Proposals(renumbering=weighed.sides.renumbering)
    for i, best in _ranked(weighed).items():
        if i in known:
            right = bool(weighed.seen.new[best[0]] == known[i])
            result.known[old[i].name] = _confidence(weighed, best[0]), right
        if i in known or weighed.chances[best[0]] < FLOOR:
            continue
        other = _other_half(weighed, best)
        if other is not None:
            result.split.add(old[i].name)
        result.found[old[i].name] = [
            Proposal(
                new[weighed.seen.new[k]].name,
                _confidence(weighed, k),
                _reasons(weighed, new, k, best)
                + ((SPLIT,) if k in (best[0], other) and other is not None else ()),
            )
            for k in best
            if k == best[0] or weighed.chances[k] >= FLOOR / 10
        ]
    open_ones = [i for i, p in enumerate(old) if i not in known and p.name not in result.found]
    result.fallbacks = _fallbacks(weighed, old, new, open_ones, result)
    return result


def _confidence(weighed: Weighed, pair: int) -> float:
    return min(round(float(weighed.chances[pair]), 3), SUREST)


def _ranked(weighed: Weighed) -> dict[int, list[int]]:
    """Old page → the numbers of its best pairs."""
    seen = weighed.seen
    order = np.lexsort((seen.new, -np.round(weighed.chances, 6), seen.old))
    old = seen.old[order]
    order = order[np.arange(len(old)) - np.searchsorted(old, old) < MOST]
    ranked: dict[int, list[int]] = defaultdict(list)
    for i, k in zip(seen.old[order].tolist(), order.tolist(), strict=True):
        ranked[i].append(k)
    return ranked


def _other_half(weighed: Weighed, best: list[int]) -> int | None:
    """The pair whose new page has what the best one lacks of the old page, where both are about
    that alone.
    """
    sides, seen = weighed.sides, weighed.seen
    old = sides.old.readings[int(seen.old[best[0]])]
    whole = {*old.slug, *old.title}
    first = whole & _about(sides.new.readings[int(seen.new[best[0]])])
    most = _HALVES * _weight(weighed, whole)
    if not first or _weight(weighed, first) >= most:
        return None  # it has none of them, or nearly all, as most have
    halves = [whole & _about(sides.new.readings[int(seen.new[k])]) for k in best]
    for k, half in zip(best[1:], halves[1:], strict=True):
        if halves[0] <= half or half <= halves[0]:
            continue
        told = _weight(weighed, halves[0] | half) >= most
        if (
            told
            and _weight(weighed, half) < most
            and all(
                _weight(weighed, part)
                >= _HALVES * _weight(weighed, _about(sides.new.readings[int(seen.new[n])]))
                for n, part in ((best[0], halves[0]), (k, half))
            )
        ):
            return k
    return None


def _about(page: PageWords) -> set[str]:
    return {*page.slug, *page.title}


def _weight(weighed: Weighed, words: set[str]) -> float:
    weight_of = weighed.sides.weight_of
    return sum(weight_of[w] for w in words)


_TOLD = (
    "same text", "text found", "other text", "same title", "title words", "same slug", "same item",
    "same number", "slug letters", "other number", "other year", "context",
)  # fmt: skip
_LEARNED = ("place moved there", "taken by another", "taken where pages merge")
_TOLD_AT = [scoring.FIRST.index(name) for name in _TOLD]
_LEARNED_AT = [learned_features.FEATURES.index(name) for name in _LEARNED]


def _reasons(
    weighed: Weighed, pages: Sequence[MatchPage], k: int, best: list[int]
) -> tuple[str, ...]:
    figures = dict(zip(_TOLD, weighed.seen.figures[k, _TOLD_AT].tolist(), strict=True))
    learned = dict(zip(_LEARNED, weighed.learned[k, _LEARNED_AT].tolist(), strict=True))
    old = weighed.sides.old.readings[int(weighed.seen.old[k])]
    page, new = (
        pages[int(weighed.seen.new[k])],
        weighed.sides.new.readings[int(weighed.seen.new[k])],
    )
    said = []
    if figures["same text"] >= _SAME_TEXT:
        said.append("says the same")
    elif figures["text found"] >= _MUCH_TEXT:
        said.append(f"has {figures['text found']:.0%} of its text")
    if figures["same title"]:
        said.append("has the same title")
    elif figures["title words"] > 0.6:
        said.append("has a similar title")
    if figures["same slug"] and not figures["same number"]:
        said.append("has the same words in its address")
    elif figures["same item"]:
        said.append(f"is the same item {page.items[0] if page.items else max(old.items)}")
        if weighed.sides.renumbering:
            said.append(weighed.sides.renumbering)
    elif figures["same number"]:
        said.append(f"carries the same number {min(old.same_numbers(new))}")
    elif figures["slug letters"] > 0.85:
        said.append("is spelt nearly alike in its address")
    if not said and (numbers := sorted({w for w in old.slug if w.isdigit()} & set(new.slug))):
        said.append(f"shares the number {numbers[0]}")
    if (
        not figures["same slug"]
        and not figures["same title"]
        and (words := _common_words(weighed, old, new, page))
    ):
        said.append(f"shares {words}")
    if not said and figures["slug letters"] > 0.5:
        said.append("is spelt a little alike in its address")
    if figures["other text"] > 1 - _LITTLE_TEXT:
        said.append("its text is another")
    if figures["other number"]:
        said.append("carries another number")
    if figures["other year"]:
        said.append("names another year")
    if learned["place moved there"] > 0.5:
        said.append("pages beside it moved there, too")
    elif figures["context"] > 0.5:
        said.append("lies in a section of the same name")
    if learned["taken by another"] > 0.5 and learned["taken where pages merge"] < 0.3:
        said.append("another old page fits it as well or better")
    if k == best[0] and len(best) > 1 and weighed.chances[best[1]] > 0.4 * weighed.chances[k]:
        said.append("another page fits nearly as well")
    return tuple(said or ["little speaks for it"])


def _common_words(weighed: Weighed, old: PageWords, new: PageWords, page: MatchPage) -> str:
    """The rarest words that both pages have, quoted."""
    weight_of = weighed.sides.weight_of
    common = {*old.slug, *old.title, *old.extra} & {*new.slug, *new.title, *new.extra, *new.context}
    telling = [w for w in common if not w.isdigit() and weight_of[w] >= _TELLING]
    if not telling:
        return ""
    words = sorted(telling, key=lambda w: (-weight_of[w], w))
    written = _written(" ".join((unquote(page.path), *page.params, *page.words, page.title)))
    quoted = [f"“{written.get(w, w)}”" for w in words[:_MOST_WORDS]]
    return f"the word {quoted[0]}" if len(quoted) == 1 else f"the words {', '.join(quoted)}"


_written = lru_cache(maxsize=1 << 16)(as_written)  # a page is proposed for several


def _fallbacks(
    weighed: Weighed,
    old: Sequence[MatchPage],
    new: Sequence[MatchPage],
    rows: list[int],
    result: Proposals,
) -> dict[str, str]:
    """For pages without a proposal: the page of the folder to which most of its neighbours
    moved.
    """
    went: dict[str, Counter[str]] = defaultdict(Counter)
    place_of = {p.name: r.place for p, r in zip(new, weighed.sides.new.readings, strict=True)}
    for page, reading in zip(old, weighed.sides.old.readings, strict=True):
        if choices := result.found.get(page.name):
            went[reading.place][place_of[choices[0].name]] += 1
    folders = {p.path.strip("/").lower(): p.name for p in new if not p.params and p.path.strip("/")}
    found = {}
    for i in rows:
        goals = went.get(weighed.sides.old.readings[i].place)
        if not goals:
            continue
        (place, count) = min(goals.items(), key=lambda item: (-item[1], item[0]))
        if count < _FEWEST_MOVED or 2 * count < sum(goals.values()):
            continue
        while place and place not in folders:
            place = place.rpartition("/")[0]
        if place:
            found[old[i].name] = folders[place]
    return found
