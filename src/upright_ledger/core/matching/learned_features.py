"""Learned correspondences: how the places of one site moved to those of the other, from pairs that
are known or plain.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from upright_ledger.core.matching.pages.sides import Floats, Sides
from upright_ledger.core.matching.pair_features import Likeness
from upright_ledger.core.matching.sparse import Indices, Matrix, as_codes, dice, in_common, shared

FEATURES = (
    "place moved there",
    "place moved elsewhere",
    "number carried",
    "number not carried",
    "slug carried",
    "slug not carried",
    "name carried",
    "name not carried",
    "rewritten as others",
    "text carried",
    "text not carried",
    "number alone",
    "words gone elsewhere",
    "taken by another",
    "taken where pages merge",
    "taken by a variant",
)
LOST = FEATURES[-3:]
"""What speaks for no page at all rather than for another one."""
_LIKELY = 0.5
_HALF = 0.5
_ROWS = 200_000  # pairs at a time
_PLAUSIBLE = 0.003
_FEW_CHANGES = 3.0
_LONGEST_CHANGE = 3  # words
_PRIOR = 2.0  # pages that a parent place counts for


class Learned(NamedTuple):
    """figures: one row a pair, one column a name in FEATURES. rate: of each old page the share of
    its place's pages that are among the seeds. moved: of each pair how many pages of the old one's
    place are known to have moved to the new one's, and how many are known to have moved.
    """

    figures: npt.NDArray[np.float32]
    rate: npt.NDArray[np.float32]
    moved: npt.NDArray[np.int32]


def learn(sides: Sides, seen: Likeness, chances: Floats, seeds: npt.NDArray[np.bool_]) -> Learned:
    """What the seeds (a mask of the pairs) teach of every pair. No page teaches of itself."""
    if not len(seen.old):
        return Learned(
            np.zeros((0, len(FEATURES)), np.float32),
            np.zeros(len(sides.old), np.float32),
            np.zeros((0, 2), np.int32),
        )
    old_places, old_codes = _codes([r.place for r in sides.old.readings])
    new_places, new_codes = _codes([r.place for r in sides.new.readings])
    width = len(new_places)
    own = seeds.astype(float)
    place = old_codes[seen.old]
    pair = _Places.of(seen.old, place * width + new_codes[seen.new])
    figures = np.zeros((len(seen.old), len(FEATURES)), np.float32)

    def put(name: str, values: npt.ArrayLike) -> None:
        figures[:, FEATURES.index(name)] = values

    # A page that is a seed itself is left out of the counts, whichever of its pairs is looked at.
    page_seeds = np.bincount(seen.old, weights=own, minlength=len(sides.old))
    count_place = np.bincount(place, weights=own, minlength=len(old_places))
    total = count_place[place] - page_seeds[seen.old]
    same = pair.of_others(own)
    parent_share = _parent_share(
        seen.old, old_places, new_places, place, new_codes[seen.new], own,
        page_seeds[seen.old].astype(float),
    )  # fmt: skip
    moved = (same + _PRIOR * parent_share) / (total + _PRIOR)
    put("place moved there", moved)
    put("place moved elsewhere", np.maximum(total / (total + 2 * _PRIOR) - moved, 0.0))
    numbered = seen["same number"] + seen["other number"]
    carried = pair.rate(own * seen["same number"], own * numbered)
    put("number carried", carried * seen["same number"])
    put("number not carried", carried * seen["other number"])
    slugs = pair.rate(own * seen["same slug"], own)
    put("slug carried", slugs * seen["same slug"])
    put("slug not carried", slugs * (1 - seen["same slug"]))
    same_name = (seen["same name"] > 0).astype(float)
    names = pair.rate(own * same_name, own)
    put("name carried", names * seen["same name"])
    put("name not carried", names * (1 - same_name))
    put("rewritten as others", _rewritten(sides, seen, chances, seeds))
    texts = pair.rate(own * seen["text found"], own * (seen["text found"] + seen["other text"]))
    put("text carried", texts * seen["text found"])
    put("text not carried", texts * seen["other text"])
    put("number alone", _number_alone(seen, pair, old_codes))
    put("words gone elsewhere", _gone_elsewhere(sides, seen, chances, seeds))
    taken, rival = _taken(seen, chances, len(sides.new))
    merging = pair.rate((chances >= _LIKELY) * taken, (chances >= _LIKELY).astype(float))
    put("taken by another", taken)
    put("taken where pages merge", taken * merging)
    put("taken by a variant", taken * _variants(sides, seen, rival))
    pages = np.bincount(old_codes, minlength=len(old_places))
    rate = (count_place[old_codes] - page_seeds + 0.5) / pages[old_codes]
    counts = np.stack([same, total], axis=1).round().astype(np.int32)
    return Learned(figures, rate.astype(np.float32), counts)


def _rewritten(
    sides: Sides, seen: Likeness, chances: Floats, seeds: npt.NDArray[np.bool_]
) -> Floats:
    """How well it is borne out that names change as they do between a pair: the words that another
    takes the place of, that go, or that come in between.
    """
    plausible = (chances >= _PLAUSIBLE) & (seen["same words"] == 0)
    looked_at = np.flatnonzero(plausible & _share_an_end(sides, seen))
    changes = [
        change_of(sides.old.readings[i].spelled, sides.new.readings[j].spelled)
        for i, j in zip(seen.old[looked_at].tolist(), seen.new[looked_at].tolist(), strict=True)
    ]
    taught = seeds[looked_at].tolist()
    known = Counter(c for c, own in zip(changes, taught, strict=True) if c is not None and own)
    times = [
        known[change] - own if change is not None else 0
        for change, own in zip(changes, taught, strict=True)
    ]
    out = np.zeros(len(chances))
    count = np.array(times, float)
    out[looked_at] = count / (count + _FEW_CHANGES)
    return out


def _gone_elsewhere(
    sides: Sides, seen: Likeness, chances: Floats, seeds: npt.NDArray[np.bool_]
) -> Floats:
    """How many of the own words of an old page that a new one lacks went where other pages moved,
    too, such as colours and sizes that the new site tells nowhere; as a logarithm.
    """
    own = sides.old.own_words
    taught = np.flatnonzero(seeds)
    by_page = np.full(len(sides.old), -1)
    by_page[seen.old[taught]] = np.arange(len(taught))
    gone = _left_over(sides, seen, taught)
    times = np.asarray(own[seen.old[taught]].sum(axis=0)).ravel()
    goings = np.asarray(gone.sum(axis=0)).ravel()
    rates = goings / (times + _FEW_GOINGS)
    without_one = 1.0 / (np.maximum(times - 1, 0.0) + _FEW_GOINGS)
    out = np.zeros(len(chances))
    plausible = np.flatnonzero(chances >= _PLAUSIBLE)
    for at in range(0, len(plausible), _ROWS):
        rows = plausible[at : at + _ROWS]
        lacks = _left_over(sides, seen, rows)
        out[rows] = lacks @ rates
        # What a page teaches itself is left out.
        teaches = by_page[seen.old[rows]]
        some = teaches >= 0
        mine = lacks[some].multiply(gone[teaches[some]]) @ without_one
        out[rows[some]] = lacks[some] @ (goings * without_one) - mine
    return np.log1p(np.maximum(out, 0.0))


_FEW_GOINGS = 1.5


def _left_over(sides: Sides, seen: Likeness, rows: Indices) -> Matrix:
    """The own words of the old page that the new page of each of these pairs lacks, 1 each."""
    own, other = sides.old.own_words[seen.old[rows]], sides.new.everything[seen.new[rows]]
    lacks = own - in_common(own, other)
    lacks.eliminate_zeros()
    return lacks.tocsr()


def _share_an_end(sides: Sides, seen: Likeness) -> npt.NDArray[np.bool_]:
    """Whether the names of a pair begin, or end, with the same word."""
    out = np.zeros(len(seen.old), bool)
    for end in (0, -1):
        ours, theirs = as_codes(
            *(
                [r.spelled[end] if r.spelled else "" for r in side.readings]
                for side in (sides.old, sides.new)
            )
        )
        out |= (ours[seen.old] == theirs[seen.new]) & (ours[seen.old] > 0)
    return out


Change = tuple[tuple[str, ...], tuple[str, ...]]


def change_of(old: tuple[str, ...], new: tuple[str, ...]) -> Change | None:
    """The words of a name that others take the place of, and these; None where hardly any stay."""
    shortest = min(len(old), len(new))
    head = 0
    while head < shortest and old[head] == new[head]:
        head += 1
    tail = 0
    while tail < shortest - head and old[-1 - tail] == new[-1 - tail]:
        tail += 1
    gone, come = old[head : len(old) - tail], new[head : len(new) - tail]
    if not head + tail or len(gone) > _LONGEST_CHANGE or len(come) > _LONGEST_CHANGE:
        return None
    return gone, come


def _taken(seen: Likeness, chances: Floats, news: int) -> tuple[Floats, Indices]:
    """The best chance that another old page has of the new page of a pair, and its pair, or -1."""
    order = np.lexsort((-chances, seen.new))
    new = seen.new[order]
    first = np.r_[True, new[1:] != new[:-1]]
    best, second = np.full(news, -1), np.full(news, -1)
    starts = np.flatnonzero(first)
    best[new[starts]] = order[starts]
    follows = starts + 1
    follows = follows[(follows < len(order)) & ~first[np.minimum(follows, len(order) - 1)]]
    second[new[follows]] = order[follows]
    rival = best[seen.new]
    mine = rival == np.arange(len(chances))
    rival = np.where(mine, second[seen.new], rival)
    return np.where(rival >= 0, chances[rival], 0.0), rival


def _variants(sides: Sides, seen: Likeness, rival: Indices) -> Floats:
    """How far the old page of a pair and that of its rival are variants of one, as a red and a blue
    one, or a page and its printed copy: how alike their words are, where all that the new page
    says is said by both.
    """
    out = np.zeros(len(rival))
    back = seen["new words found"]
    some = np.flatnonzero(rival >= 0)
    some = some[(back[some] > _HALF) & (back[rival[some]] > _HALF)]
    words, total = sides.old.words, sides.old.totals["words"]
    for at in range(0, len(some), _ROWS):
        rows = some[at : at + _ROWS]
        i, k = seen.old[rows], seen.old[rival[rows]]
        alike = dice(shared(words, words, i, k), total[i], total[k])
        out[rows] = alike**2 * back[rows] * back[rival[rows]]
    return out


def _codes(places: list[str]) -> tuple[list[str], Indices]:
    names = sorted(set(places))
    number = {name: n for n, name in enumerate(names)}
    return names, np.array([number[p] for p in places], np.int64)


@dataclass(frozen=True, slots=True)
class _Places:
    """Pairs of pages by the two places in which they lie. together: the number of these, from 0 on;
    of_page: likewise, but of one old page alone.
    """

    together: Indices
    of_page: Indices

    @classmethod
    def of(cls, old: Indices, places: Indices) -> _Places:
        """old: the old page of each pair; places: equal for pairs that lie in the same two."""
        _, together = np.unique(places, return_inverse=True)
        _, of_page = np.unique(old * (int(together.max()) + 1) + together, return_inverse=True)
        return cls(together, of_page)

    def of_others(self, weights: Floats) -> Floats:
        """The sum of weights over all pairs in the same two places, but for those of the same old
        page: no page teaches of itself.
        """
        whole = np.bincount(self.together, weights=weights)[self.together]
        return np.asarray(whole - np.bincount(self.of_page, weights=weights)[self.of_page])

    def rate(self, hits: Floats, tries: Floats) -> Floats:
        """The share of hits among others' tries, drawn to 0 where there are few."""
        return self.of_others(hits) / (self.of_others(tries) + 1.5)


def _parent_share(
    pages: Indices,
    old_places: list[str],
    new_places: list[str],
    old: Indices,
    new: Indices,
    own: Floats,
    page_seeds: Floats,
) -> Floats:
    """As "place moved there", for the places above (their first segments)."""
    _, above_old = _codes([p.lstrip("/").partition("/")[0] for p in old_places])
    _, above_new = _codes([p.lstrip("/").partition("/")[0] for p in new_places])
    above = above_old[old]
    pair = _Places.of(pages, above * (int(above_new.max(initial=0)) + 1) + above_new[new])
    total = np.bincount(above, weights=own)[above] - page_seeds
    return np.asarray(pair.of_others(own) / (total + _PRIOR))


def _number_alone(seen: Likeness, places: _Places, old_codes: Indices) -> Floats:
    """For pairs with the same number: the share of the old place's pages whose number the new place
    has just once.
    """
    same = seen["same number"] == 1
    single = same & (np.bincount(places.of_page, weights=same)[places.of_page] == 1)
    pages = np.bincount(old_codes)
    hits = places.of_others(single.astype(float))
    return np.asarray(np.where(single, hits / (pages[old_codes[seen.old]] + 3.0), 0.0))
