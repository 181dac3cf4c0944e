"""The pages of both sites as sparse columns of weighted words, and as what is asked of many."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import chain
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy import sparse

from upright_ledger.core.contents.texts import Texts
from upright_ledger.core.matching.pages.fuzzy_words import near_spellings
from upright_ledger.core.matching.pages.item_numbers import renumber
from upright_ledger.core.matching.pages.page_words import (
    LETTERS,
    SAID,
    MatchPage,
    PageWords,
    document_counts,
    read_site,
    split_joined,
    texts_of,
    without_ids,
)
from upright_ledger.core.matching.pages.word_reader import WordReader
from upright_ledger.core.matching.sparse import Matrix, as_codes
from upright_ledger.core.url.tokens import without_ending

Floats = npt.NDArray[np.float64]


@dataclass(slots=True)
class Side:
    """The pages of one site as columns; all matrices share their words (columns), and hold 1, or
    less for a near spelling.

    words: slug, title and extra together. everything: these and the context. low_names: names in
    small letters, empty without any; opposable: whether a word of one has an opposite. speaking:
    whether a slug holds more than numbers; title_alone, slug_alone:
    whether no other page of its site has its title, or slug.
    known_context: the words of its place that the other site has. numbered, dated: which pages have
    a number, or a year. texts: what its pages say. twinned: whether another page has its path but
    for the ending. codes: slug_texts, title_texts, low_names, and "names" as written, "spelled",
    their words, "endings" of paths, as numbers that both sites share, 0 for none; said: likewise,
    one row a page; said_alone: what no other page of its site says. own_words: 1 for each of the
    words, but for those that most pages of its site, or nearly all of its place, have.
    """

    readings: list[PageWords]
    slug: Matrix
    title: Matrix
    context: Matrix
    words: Matrix
    everything: Matrix
    slug_texts: npt.NDArray[np.object_]
    title_texts: npt.NDArray[np.object_]
    low_names: npt.NDArray[np.object_]
    opposable: npt.NDArray[np.bool_]
    speaking: npt.NDArray[np.bool_]
    title_alone: npt.NDArray[np.bool_]
    slug_alone: npt.NDArray[np.bool_]
    known_context: Matrix
    numbered: npt.NDArray[np.bool_]
    dated: npt.NDArray[np.bool_]
    texts: Texts
    twinned: npt.NDArray[np.bool_]
    totals: dict[str, Floats] = field(default_factory=dict)
    codes: dict[str, npt.NDArray[np.int64]] = field(default_factory=dict)
    said: npt.NDArray[np.int64] = field(default_factory=lambda: np.zeros((0, SAID), np.int64))
    said_alone: npt.NDArray[np.bool_] = field(default_factory=lambda: np.zeros((0, SAID), bool))
    own_words: Matrix = field(default_factory=lambda: sparse.csr_matrix((0, 0)))

    def __len__(self) -> int:
        return len(self.readings)


@dataclass
class Sides:
    """Both sites. weights: of each word, in nats: how much it says that two pages share it.
    vocabulary: word → column. words: what took texts apart. renumbering: how item numbers changed,
    in words, or empty.
    """

    old: Side
    new: Side
    weights: Floats
    vocabulary: dict[str, int]
    words: WordReader
    renumbering: str = ""

    @cached_property
    def weight_of(self) -> dict[str, float]:
        """Word → its weight."""
        return dict(zip(self.vocabulary, self.weights.tolist(), strict=True))


def read_sides(
    old: Sequence[MatchPage], new: Sequence[MatchPage], taught: Mapping[int, int] | None = None
) -> Sides:
    """Read the pages of both sites into common columns. taught: old page → the new page it is known
    to have moved to.
    """
    words = WordReader(text for page in chain(old, new) for text in texts_of(page))
    left, right = read_site(old, words), read_site(new, words)
    words.forget()
    renumbering = renumber(left, right, taught or {})
    split_joined(left, right)
    split_joined(right, left)
    without_ids(left, right)
    without_ids(right, left)
    left_words, right_words = document_counts(left), document_counts(right)
    # Of equal word counts the order must not depend on that of the pages.
    names = sorted({*left_words, *right_words})
    vocabulary = {w: n for n, w in enumerate(names)}
    total = len(left) + len(right)
    weights = np.array(
        [math.log((1 + total) / (1 + left_words[w] + right_words[w])) for w in names]
    )
    weights = np.maximum(weights, 0.02)
    only_left = [w for w in names if w not in right_words]
    only_right = [w for w in names if w not in left_words]
    mend_left = near_spellings(only_left, list(right_words))
    taken = {goal for goal, _ in mend_left.values()}
    free = [w for w in left_words if w not in mend_left]
    mend_right = near_spellings([w for w in only_right if w not in taken], free)
    roots = np.sqrt(weights)
    ours = _side(left, vocabulary, mend_left, roots, right_words, old)
    theirs = _side(right, vocabulary, mend_right, roots, left_words, new)
    both = ours, theirs
    texts = {name: [getattr(side, name).tolist() for side in both] for name in _HELD_TEXTS}
    texts["names"] = [[p.name for p in pages] for pages in (left, right)]
    texts["spelled"] = [[" ".join(p.spelled) for p in pages] for pages in (left, right)]
    texts["endings"] = [[without_ending(p.path)[1] for p in pages] for pages in (old, new)]
    for name, given in texts.items():
        for side, codes in zip(both, as_codes(*given), strict=True):
            side.codes[name] = codes
    coded = as_codes(*([t for page in side.readings for t in _filled(page.said)] for side in both))
    for side, codes in zip(both, coded, strict=True):
        side.said = codes.reshape(-1, SAID)
        side.said_alone = np.bincount(codes)[side.said] == 1
    return Sides(ours, theirs, weights, vocabulary, words, renumbering)


_HELD_TEXTS = "slug_texts", "title_texts", "low_names"


def _filled(said: tuple[str, ...]) -> tuple[str, ...]:
    return said + ("",) * (SAID - len(said))


def _side(
    pages: list[PageWords],
    vocabulary: dict[str, int],
    mends: dict[str, tuple[str, float]],
    roots: Floats,
    others: Collection[str],
    given: Sequence[MatchPage],
) -> Side:
    """others: the words of the other site. given: the pages before they were read."""
    meant, likeness = np.arange(len(vocabulary)), np.ones(len(vocabulary))
    for word, (goal, alike) in mends.items():
        meant[vocabulary[word]], likeness[vocabulary[word]] = vocabulary[goal], alike
    slug, title, context, extra = (
        _words([getattr(p, part) for p in pages], vocabulary)
        for part in ("slug", "title", "context", "extra")
    )
    there = np.fromiter((w in others for w in vocabulary), bool, len(vocabulary))[context.words]
    known = _Words(context.pages[there], context.words[there])

    def matrix(*parts: _Words) -> Matrix:
        """A row a page, 1 a word, or less for a near spelling, times the root of its weight."""
        rows = np.concatenate([part.pages for part in parts])
        words = np.concatenate([part.words for part in parts])
        columns, alike = meant[words], likeness[words]
        order = np.lexsort((-alike, columns, rows))
        rows, columns, alike = rows[order], columns[order], alike[order]
        first = np.r_[True, (np.diff(rows) != 0) | (np.diff(columns) != 0)][: len(rows)]
        rows, columns, alike = rows[first], columns[first], alike[first]
        starts = np.searchsorted(rows, np.arange(len(pages) + 1))
        return sparse.csr_matrix(
            (alike * roots[columns], columns.astype(np.int32), starts),
            shape=(len(pages), len(vocabulary)),
        )

    forms = [(without_ending(p.path), p.params) for p in given]
    times = Counter((stem, params) for (stem, _), params in forms)
    names = ["".join(p.slug) for p in pages]
    titles, slugs = Counter(p.heading for p in pages), Counter(names)
    side = Side(
        pages,
        matrix(slug),
        matrix(title),
        matrix(context),
        matrix(slug, title, extra),
        matrix(slug, title, extra, context),
        np.array(names, object),
        np.array([p.heading for p in pages], object),
        np.array([_in_small_letters(p.name) for p in pages], object),
        np.array([bool(p.opposable) for p in pages], bool),
        np.array([any(not w.isdigit() for w in p.slug) for p in pages], bool),
        np.array([titles[p.heading] == 1 for p in pages], bool),
        np.array([slugs[name] == 1 for name in names], bool),
        matrix(known),
        np.array([bool(p.numbers or p.yearlike) for p in pages], bool),
        np.array([bool(p.years) for p in pages], bool),
        Texts.of([p.text for p in given]),
        np.array([times[stem, params] > 1 for (stem, _), params in forms], bool),
    )
    speaking = np.fromiter((not w.isdigit() for w in vocabulary), bool, len(vocabulary))
    side.own_words = _own(side.words, [p.place for p in pages], speaking)
    for name in ("slug", "title", "context", "words", "everything", "known_context"):
        held = getattr(side, name)
        weights = roots[held.indices] ** 2
        side.totals[name] = np.add.reduceat(np.r_[weights, 0.0], held.indptr[:-1]) * (
            np.diff(held.indptr) > 0
        )
    return side


def _in_small_letters(name: str) -> str:
    """A name in small letters; empty without any."""
    return (name if name.islower() else name.lower()) if LETTERS.search(name) else ""


_COMMON, _FEW = 0.5, 4
_OF_ITS_PLACE = 0.8


def _own(words: Matrix, places: Sequence[str], speaking: npt.NDArray[np.bool_]) -> Matrix:
    """1 for each word but for those of most pages of the site, and of nearly all in a page's place,
    where these are more than a few: they are said of the site, or the section. speaking: which
    words are no numbers; a page of which a number alone would be left, as "stop 29", keeps those
    of its section.
    """
    (place_of,) = as_codes(places)
    page = np.repeat(np.arange(len(places)), np.diff(words.indptr))
    place = place_of[page]
    _, which, together = np.unique(
        place * words.shape[1] + words.indices, return_inverse=True, return_counts=True
    )
    members = np.bincount(place_of)[place]
    told = (members > _FEW) & (together[which] >= _OF_ITS_PLACE * members)
    count = np.bincount(words.indices, minlength=words.shape[1])[words.indices]
    of_site = count > max(_COMMON * words.shape[0], _FEW)
    kept = ~told & ~of_site
    named = np.bincount(page, weights=kept & speaking[words.indices], minlength=len(places)) > 0
    kept |= ~named[page] & ~of_site
    starts = np.r_[0, np.cumsum(kept)][words.indptr]
    return sparse.csr_matrix(
        (np.ones(int(kept.sum()), np.float32), words.indices[kept], starts), shape=words.shape
    )


class _Words(NamedTuple):
    """Words of pages, as numbers: which page, which word."""

    pages: npt.NDArray[np.int64]
    words: npt.NDArray[np.int64]


def _words(texts: Sequence[Sequence[str]], vocabulary: Mapping[str, int]) -> _Words:
    counts = np.fromiter(map(len, texts), np.int64, len(texts))
    flat = map(vocabulary.__getitem__, chain.from_iterable(texts))
    words = np.fromiter(flat, np.int64, int(counts.sum()))
    return _Words(np.repeat(np.arange(len(texts)), counts), words)
