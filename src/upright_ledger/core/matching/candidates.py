"""Candidates: for each old page the few new pages that are worth a closer look, whatever makes them
alike.
"""

from __future__ import annotations

from itertools import chain

import numpy as np
import numpy.typing as npt

from upright_ledger.core.contents.texts import found_by_text
from upright_ledger.core.matching.pages.sides import Floats, Side, Sides
from upright_ledger.core.matching.sparse import (
    Indices,
    Matrix,
    as_codes,
    as_pieces,
    best_of_product,
    equal_pairs,
    normed,
)

PER_PAGE = 16
_PER_TEXT = 6
_MOST_PAIRS = 2_000_000  # of one word: old pages that hold it times new ones
_MOST_ALIKE = 12  # new pages under one key
_PIECE = 4  # letters
_LEAST = 0.1  # of a product; whole pages are 1


def candidates(sides: Sides) -> tuple[Indices, Indices]:
    """Pairs (old page, new page) to look at, in order of both; at most some 40 for each old
    page.
    """
    old, new = sides.old, sides.new
    found = [_by_words(sides), *_by_key(old, new), found_by_text(old.texts, new.texts)]
    pairs = _unique(np.concatenate([i * len(new) + j for i, j in found]))
    some = np.bincount(pairs // len(new), minlength=len(old))
    poor = np.flatnonzero(some < _PER_TEXT)
    if len(poor):
        i, j = _by_letters(old, new, poor)
        pairs = _unique(np.concatenate([pairs, i * len(new) + j]))
    return pairs // len(new), pairs % len(new)


def _unique(numbers: Indices) -> Indices:
    """Ascending, each once. (NumPy's own hashes them first, which takes far longer.)"""
    numbers.sort()
    return np.asarray(numbers[np.r_[True, np.diff(numbers) != 0][: len(numbers)]])


def _by_words(sides: Sides) -> tuple[Indices, Indices]:
    """Those that share the most, and the rarest, words."""
    left, right = _mixed(sides.old, sides.weights), _mixed(sides.new, sides.weights)
    width = len(sides.weights)
    counts = np.bincount(left.indices, minlength=width) * np.bincount(
        right.indices, minlength=width
    ).astype(float)
    return best_of_product(
        _without(left, counts > _MOST_PAIRS),
        _without(right, counts > _MOST_PAIRS),
        PER_PAGE,
        _LEAST,
    )


def _mixed(side: Side, weights: Floats) -> Matrix:
    mixed = (side.slug + 0.9 * side.title + 0.25 * side.everything).tocsr()
    mixed.data *= np.sqrt(weights)[mixed.indices]
    return normed(mixed)


def _without(matrix: Matrix, columns: npt.NDArray[np.bool_]) -> Matrix:
    """A matrix without the entries of some columns."""
    kept = matrix.copy()
    kept.data[columns[kept.indices]] = 0.0
    kept.eliminate_zeros()
    return kept


def _by_key(old: Side, new: Side) -> list[tuple[Indices, Indices]]:
    """Those whose names, titles or numbers are the same."""
    both = old, new
    every = [np.arange(len(side)) for side in both]
    keys = [[side.codes[name] for side in both] for name in ("slug_texts", "title_texts")]
    keys.append(as_codes(*(_tails(side) for side in both)))
    found = [
        equal_pairs((every[0], ours), (every[1], theirs), _MOST_ALIKE) for ours, theirs in keys
    ]
    told = [[sorted(page.numbers | page.yearlike) for page in side.readings] for side in both]
    numbers = as_codes(*(list(chain.from_iterable(some)) for some in told))
    pages = [
        np.repeat(each, np.fromiter(map(len, some), np.int64, len(some)))
        for each, some in zip(every, told, strict=True)
    ]
    found.append(equal_pairs((pages[0], numbers[0]), (pages[1], numbers[1]), _MOST_ALIKE))
    return found


def _tails(side: Side) -> list[str]:
    """The slug of each page behind the last word of its place."""
    return [
        f"{page.context[-1] if page.context else ''}/{slug}"
        for page, slug in zip(side.readings, side.slug_texts.tolist(), strict=True)
    ]


def _by_letters(old: Side, new: Side, rows: Indices) -> tuple[Indices, Indices]:
    """For pages that share few words with any: those whose names share the most pieces."""
    right, left = as_pieces(
        _PIECE, [_text(new, j) for j in range(len(new))], [_text(old, i) for i in rows.tolist()]
    )
    width = right.shape[1]
    count = np.bincount(right.indices, minlength=width)
    weights = np.log((1 + len(new)) / (1 + count)).astype(np.float32)
    for matrix in (left, right):
        matrix.data *= np.maximum(weights, 0.0)[matrix.indices]
    common = count > max(50, len(new) // 50)
    i, j = best_of_product(
        normed(_without(left, common)), normed(_without(right, common)), _PER_TEXT, _LEAST
    )
    return rows[i], j


def _text(side: Side, n: int) -> str:
    """What a page is called, in one piece."""
    return str(side.slug_texts[n] or side.title_texts[n].replace(" ", ""))
