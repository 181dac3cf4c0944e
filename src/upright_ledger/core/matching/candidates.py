"""Candidates: for each old page the few new pages that are worth a closer look, whatever makes them
alike.
"""

from __future__ import annotations

from collections import defaultdict

import numpy as np
import numpy.typing as npt

from upright_ledger.core.contents.texts import found_by_text
from upright_ledger.core.matching.pages.sides import Floats, Side, Sides
from upright_ledger.core.matching.sparse import Indices, Matrix, as_rows, best_of_product, normed

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

    def slug(side: Side, n: int) -> list[str]:
        return [side.slug_texts[n]]

    def tail(side: Side, n: int) -> list[str]:
        page = side.readings[n]
        return ["".join(page.context[-1:]) + "/" + side.slug_texts[n]]

    def title(side: Side, n: int) -> list[str]:
        return [side.title_texts[n]]

    def numbers(side: Side, n: int) -> list[str]:
        return sorted(side.readings[n].numbers | side.readings[n].yearlike)

    found = []
    for key in (slug, tail, title, numbers):
        by_key: dict[str, list[int]] = defaultdict(list)
        for j in range(len(new)):
            for text in key(new, j):
                if text:
                    by_key[text].append(j)
        pairs = [
            (i, j)
            for i in range(len(old))
            for text in key(old, i)
            if len(by_key.get(text, ())) <= _MOST_ALIKE
            for j in by_key.get(text, ())
        ]
        array = np.array(pairs, np.int64).reshape(-1, 2)
        found.append((array[:, 0], array[:, 1]))
    return found


def _by_letters(old: Side, new: Side, rows: Indices) -> tuple[Indices, Indices]:
    """For pages that share few words with any: those whose names share the most pieces."""
    known: dict[str, int] = {}
    right = as_rows((_pieces(_text(new, j)) for j in range(len(new))), known)
    left = as_rows((_pieces(_text(old, i)) for i in rows.tolist()), known)
    width = len(known)
    right.resize((len(new), width))
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


def _pieces(text: str) -> set[str]:
    return {text[k : k + _PIECE] for k in range(max(1, len(text) - _PIECE + 1))} if text else set()
