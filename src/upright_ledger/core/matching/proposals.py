"""Proposals: the best new pages for each old one, with confidence and reasons in plain words."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from upright_ledger.core.matching.pages.page_tongues import by_words
from upright_ledger.core.matching.pages.page_words import MatchPage, PageWords
from upright_ledger.core.matching.reasons import reasons
from upright_ledger.core.matching.scoring import Weighed, weigh

MOST = 3
"""Proposals a page."""

FLOOR = 0.02
"""A first proposal with less confidence is no plausible page; a further one may have a quarter of
that.
"""

SUREST = 0.999
"""No guess is certain, however plain."""

SPLIT = "holds one part of it: another page has the rest"

_FEWEST_MOVED = 3
_HALVES = 0.8  # of the words, by weight


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
    ranked: dict[int, list[int]] = {}
    for i, best in _ranked(weighed).items():
        if i in known:
            right = bool(weighed.seen.new[best[0]] == known[i])
            result.known[old[i].name] = _confidence(weighed, best[0]), right
        elif weighed.chances[best[0]] >= FLOOR:
            ranked[i] = [k for k in best if k == best[0] or weighed.chances[k] >= FLOOR / 4]
    told = reasons(weighed, new, ranked.values())
    for (i, best), why in zip(ranked.items(), told, strict=True):
        other = _other_half(weighed, best)
        if other is not None:
            result.split.add(old[i].name)
        result.found[old[i].name] = [
            Proposal(
                new[weighed.seen.new[k]].name,
                _confidence(weighed, k),
                said + ((SPLIT,) if k in (best[0], other) and other is not None else ()),
            )
            for k, said in zip(best, why, strict=True)
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
    if len(first) == len(whole):
        return None
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
