"""Likeness: what can be said of a pair of pages, as figures, many pairs at a time."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from rapidfuzz import fuzz, process

from upright_ledger.core.contents.texts import alike_texts
from upright_ledger.core.matching.pages.opposites import are_opposed
from upright_ledger.core.matching.pages.page_words import SAID, PageWords
from upright_ledger.core.matching.pages.sides import Floats, Side, Sides
from upright_ledger.core.matching.sparse import Indices, Matrix, dice, in_common, share, shared

_CHUNK = 200_000  # pairs
_INNER = 0.5

FEATURES = (
    "same slug",
    "slug words",
    "slug letters",
    "same title",
    "title words",
    "no title",
    "old words found",
    "new words found",
    "shared information",
    "old words missing",
    "new words missing",
    "context",
    "same number",
    "other number",
    "same year",
    "other year",
    "both found",
    "words replaced",
    "old words unmatched",
    "same item",
    "other item",
    "same name",
    "name letters",
    "same words",
    "opposed",
    "title alone",
    "title of a number",
    "name alone",
    "information alone",
    "place elsewhere",
    "new place elsewhere",
    "same text",
    "text found",
    "text shared",
    "other text",
    "its twin ends alike",
    "says the same",
    "says the same alone",
    "own words alike",
    "no own word missing",
    "no own word found",
)
"""Names of the columns of `Likeness.figures`. Shares are 0 to 1; information is in nats, as its
logarithm.
"""


@dataclass(slots=True)
class Likeness:
    """Pairs (old, new) and their figures: one row a pair, one column a name in FEATURES."""

    old: Indices
    new: Indices
    figures: npt.NDArray[np.float32]

    def __getitem__(self, name: str) -> npt.NDArray[np.float32]:
        return self.figures[:, FEATURES.index(name)]


def look_at(sides: Sides, old: Indices, new: Indices) -> Likeness:
    """Work out the figures of pairs."""
    parts = [
        _figures(sides, old[at : at + _CHUNK], new[at : at + _CHUNK])
        for at in range(0, max(len(old), 1), _CHUNK)
    ]
    return Likeness(old, new, np.concatenate(parts))


def _figures(sides: Sides, i: Indices, j: Indices) -> npt.NDArray[np.float32]:
    left, right = sides.old, sides.new
    out = np.zeros((len(i), len(FEATURES)), np.float32, order="F")

    def put(name: str, values: npt.ArrayLike) -> None:
        out[:, FEATURES.index(name)] = values

    slug = shared(left.slug, right.slug, i, j)
    put("slug words", dice(slug, left.totals["slug"][i], right.totals["slug"][j]))
    put("same slug", _same(left, right, i, j, "slug_texts"))
    put("slug letters", _letters(left, right, i, j, "slug_texts"))
    titled = (left.totals["title"][i] > 0) & (right.totals["title"][j] > 0)
    title = shared(left.title, right.title, i, j)
    put("title words", dice(title, left.totals["title"][i], right.totals["title"][j]))
    same_title = titled & _same(left, right, i, j, "title_texts")
    put("same title", same_title)
    put("no title", ~titled)
    words = shared(left.words, right.everything, i, j)
    found = share(words, left.totals["words"][i])
    put("old words found", found)
    back = shared(left.everything, right.words, i, j)
    found_back = share(back, right.totals["words"][j])
    put("new words found", found_back)
    put("both found", found * found_back)
    put("shared information", np.log1p(words))
    put("old words missing", np.log1p(np.maximum(left.totals["words"][i] - words, 0.0)))
    put("new words missing", np.log1p(np.maximum(right.totals["words"][j] - back, 0.0)))
    unmatched, unmatched_back = (
        _unmatched(left.own_words, right.everything, i, j),
        _unmatched(right.own_words, left.everything, j, i),
    )
    put("words replaced", np.minimum(np.minimum(unmatched, unmatched_back), 3.0))
    put("old words unmatched", np.log1p(unmatched))
    own, own_back = np.diff(left.own_words.indptr)[i], np.diff(right.own_words.indptr)[j]
    put("own words alike", share(own - unmatched + own_back - unmatched_back, own + own_back))
    put("no own word missing", (unmatched == 0) & (own > 1))
    put("no own word found", (unmatched == own) & (own > 0))
    context = shared(left.context, right.context, i, j)
    put("context", dice(context, left.totals["context"][i], right.totals["context"][j]))
    kinds = {"number": _numbers, "year": _years, "item": _items}
    for kind, compared in ((kind, compare(left, right, i, j)) for kind, compare in kinds.items()):
        put(f"same {kind}", compared[0])
        put(f"other {kind}", compared[1])
    exact = np.where(_same(left, right, i, j, "names"), 1.0, _INNER)
    put("same name", _same(left, right, i, j, "low_names") * exact)
    put("name letters", _letters(left, right, i, j, "low_names"))
    same_words = _same(left, right, i, j, "spelled")
    put("same words", same_words)
    apart = np.flatnonzero(~same_words)
    opposed = np.zeros(len(i))
    apart = apart[left.opposable[i[apart]] & right.opposable[j[apart]]]
    opposed[apart] = [
        are_opposed(left.readings[a].opposable, right.readings[b].opposable)
        for a, b in zip(i[apart].tolist(), j[apart].tolist(), strict=True)
    ]
    put("opposed", opposed)
    alone = same_title & left.title_alone[i] & right.title_alone[j]
    put("title alone", alone)
    put("title of a number", alone & ~(left.speaking[i] & right.speaking[j]))
    name_alone = (
        (out[:, FEATURES.index("same slug")] > 0) & left.slug_alone[i] & right.slug_alone[j]
    )
    put("name alone", name_alone)
    put("information alone", np.log1p(left.totals["slug"][i]) * name_alone)
    put("place elsewhere", _elsewhere(left, right, i, j))
    put("new place elsewhere", _elsewhere(right, left, j, i))
    texts = alike_texts(left.texts, right.texts, i, j)
    put("same text", texts.alike)
    put("text found", texts.found)
    put("text shared", texts.shared)
    put("other text", texts.told * (1.0 - texts.found))
    put(
        "its twin ends alike",
        right.twinned[j] & (left.codes["endings"][i] != right.codes["endings"][j]),
    )
    said, said_alone = _said(left, right, i, j)
    put("says the same", said)
    put("says the same alone", said_alone)
    return out


def _said(
    left: Side, right: Side, i: Indices, j: Indices
) -> tuple[npt.NDArray[np.bool_], npt.NDArray[np.bool_]]:
    """Whether a title or another text of both pages has the same words, in whatever order, and
    whether no other page of either site has them.
    """
    same, alone = np.zeros(len(i), bool), np.zeros(len(i), bool)
    for one in range(SAID):
        ours, ours_alone = left.said[i, one], left.said_alone[i, one]
        for another in range(SAID):
            equal = (ours == right.said[j, another]) & (ours > 0)
            same |= equal
            alone |= equal & ours_alone & right.said_alone[j, another]
    return same, alone


def _elsewhere(left: Side, right: Side, i: Indices, j: Indices) -> Floats:
    """Words of the place of a page that the other site has, but not the page beside it: it may well
    have its successor there.
    """
    here = shared(left.known_context, right.everything, i, j)
    return np.log1p(np.maximum(left.totals["known_context"][i] - here, 0.0))


def _unmatched(own: Matrix, other: Matrix, i: Indices, j: Indices) -> Floats:
    """How many of its own words a page has that the other one lacks, whatever they weigh."""
    common = in_common(own[i], other[j]).sum(axis=1)
    return np.asarray(np.diff(own.indptr)[i] - np.asarray(common).ravel())


def _same(left: Side, right: Side, i: Indices, j: Indices, name: str) -> npt.NDArray[np.bool_]:
    """Whether both pages have one text, and any."""
    ours = left.codes[name][i]
    return np.asarray((ours == right.codes[name][j]) & (ours > 0))


def _letters(left: Side, right: Side, i: Indices, j: Indices, name: str) -> Floats:
    """How alike two texts are, letter by letter; 0 where one of them is empty."""
    out = np.zeros(len(i))
    some = np.flatnonzero((left.codes[name][i] > 0) & (right.codes[name][j] > 0))
    if len(some):
        ours, theirs = getattr(left, name)[i[some]], getattr(right, name)[j[some]]
        out[some] = process.cpdist(ours.tolist(), theirs.tolist(), scorer=fuzz.ratio, workers=-1)
    return out / 100.0


def _numbers(left: Side, right: Side, i: Indices, j: Indices) -> tuple[Floats, Floats]:
    """Whether both name numbers and share one, and whether both do and share none."""
    same, other = np.zeros(len(i)), np.zeros(len(i))
    for at in np.flatnonzero(left.numbered[i] & right.numbered[j]).tolist():
        one, another = left.readings[i[at]], right.readings[j[at]]
        if shared := one.same_numbers(another):
            # What names a page stands at an end of its name; a number in the midst may be anything.
            same[at] = 1.0 if shared & one.ends & another.ends else _INNER
        elif one.numbers and another.numbers and not (_has(one, another) or _has(another, one)):
            other[at] = 1.0
    return same, other


def _has(page: PageWords, other: PageWords) -> bool:
    """Whether a title has the numbers of the other page: those in its own address are those by
    which its shop or its database knows it, and say nothing here.
    """
    return other.numbers.issubset(page.title)


def _years(left: Side, right: Side, i: Indices, j: Indices) -> tuple[Floats, Floats]:
    """As `_numbers`, for years: whatever else their titles say."""
    same, other = np.zeros(len(i)), np.zeros(len(i))
    for at in np.flatnonzero(left.dated[i] & right.dated[j]).tolist():
        shared = left.readings[i[at]].years & right.readings[j[at]].years
        (same if shared else other)[at] = 1.0
    return same, other


def _items(left: Side, right: Side, i: Indices, j: Indices) -> tuple[Floats, Floats]:
    """As `_numbers`, for item numbers that at least one side tells beside its address."""
    same, other = np.zeros(len(i)), np.zeros(len(i))
    told = [np.array([bool(r.items) for r in side.readings], bool) for side in (left, right)]
    for at in np.flatnonzero(told[0][i] | told[1][j]).tolist():
        one, another = left.readings[i[at]], right.readings[j[at]]
        same[at] = one.same_item(another)
        other[at] = not same[at] and bool(one.items and another.items)
    return same, other
