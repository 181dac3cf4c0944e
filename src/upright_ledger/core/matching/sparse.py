"""Sparse products: the rows of one matrix that are most alike to those of another."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import chain
from typing import Any

import numpy as np
import numpy.typing as npt
from scipy import sparse

Indices = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Matrix = Any
"""A scipy CSR matrix."""

_BLOCK = 1000
_STEPS = 1 << 16


def as_codes(*texts: Sequence[str]) -> list[Indices]:
    """Texts as numbers, equal ones of all as the same; 0 for empty ones."""
    known = dict.fromkeys(chain(("",), *texts))
    number = dict(zip(known, range(len(known)), strict=True))
    return [np.fromiter(map(number.__getitem__, some), np.int64, len(some)) for some in texts]


def as_pieces(length: int, *texts: Sequence[str]) -> list[Matrix]:
    """The pieces of so many letters (at most 4) that stand in each text, or a shorter text itself:
    one row a text, a column a piece, each once, and the same ones in all that comes back.
    """
    flat, rows = [], []
    for some in texts:
        filled = [t.ljust(length, "\0") if t else "" for t in some]
        lengths = np.fromiter(map(len, filled), np.int64, len(filled))
        row = np.repeat(np.arange(len(filled)), lengths)
        ends = np.cumsum(lengths)[row]
        flat.append(np.frombuffer("".join(filled).encode("utf-32-le", "surrogatepass"), np.uint32))
        rows.append((row, ends - np.arange(len(row)) >= length))
    _, letters = np.unique(np.concatenate(flat), return_inverse=True)
    # 16 bits a letter; of more different ones than that some would be taken for others.
    letters = np.r_[letters.astype(np.uint64) & np.uint64(0xFFFF), np.zeros(length, np.uint64)]
    pieces = np.zeros(len(letters) - length, np.uint64)
    for n in range(length):
        pieces |= letters[n : n + len(pieces)] << np.uint64(16 * n)
    begins = np.concatenate([begin for _, begin in rows])
    known, column = np.unique(pieces[begins], return_inverse=True)
    ends = np.cumsum([int(begin.sum()) for _, begin in rows])
    return [
        _ones(row[begin], part, (len(some), len(known)))
        for some, (row, begin), part in zip(texts, rows, np.split(column, ends[:-1]), strict=True)
    ]


def _ones(rows: Indices, columns: Indices, shape: tuple[int, int]) -> Matrix:
    """Ones at these places, each once."""
    at = np.unique(rows * max(shape[1], 1) + columns)
    rows, columns = np.divmod(at, max(shape[1], 1))
    starts = np.searchsorted(rows, np.arange(shape[0] + 1))
    data = np.ones(len(at), np.float32)
    return sparse.csr_matrix((data, columns.astype(np.int32), starts), shape=shape)


def equal_pairs(
    ours: tuple[Indices, Indices], theirs: tuple[Indices, Indices], most: int
) -> tuple[Indices, Indices]:
    """Rows of two tables that share a key, but for keys that more than `most` of theirs have. Both:
    rows and their keys, 0 for none.
    """
    rows, keys = ours
    order = np.argsort(theirs[1], kind="stable")
    held = theirs[1][order]
    first = np.searchsorted(held, keys)
    count = np.searchsorted(held, keys, side="right") - first
    count[(count > most) | (keys == 0)] = 0
    place = np.arange(int(count.sum())) - np.repeat(np.cumsum(count) - count, count)
    return np.repeat(rows, count), theirs[0][order[np.repeat(first, count) + place]]


def normed(matrix: Matrix) -> Matrix:
    """The same rows, each of length 1."""
    lengths = np.sqrt(np.asarray(matrix.multiply(matrix).sum(axis=1)).ravel())
    matrix = matrix.copy()
    matrix.data /= np.repeat(np.where(lengths > 0, lengths, 1.0), np.diff(matrix.indptr))
    return matrix.astype(np.float32)


def best_of_product(
    left: Matrix, right: Matrix, count: int, least: float
) -> tuple[Indices, Indices]:
    """The pairs of rows with the largest products (0 to 1), `count` for each row of `left`, none
    under `least`.

    Equal products stand in the order of their columns. Products are rounded: sums of the same
    numbers in another order must not change places.
    """
    turned = right.T.tocsr()
    width = right.shape[0]
    rows, columns = [np.empty(0, np.int64)], [np.empty(0, np.int64)]
    for at in range(0, left.shape[0], _BLOCK):
        product = (left[at : at + _BLOCK] @ turned).tocsr()
        every = np.arange(product.shape[0])
        row = np.repeat(every, np.diff(product.indptr))
        enough = np.flatnonzero(product.data >= least)
        lack = _STEPS - np.minimum(np.rint(product.data[enough] * _STEPS), _STEPS).astype(np.int64)
        # Numbers are sorted far faster than places are found for them.
        ranked = (row[enough] * (_STEPS + 1) + lack) * width + product.indices[enough]
        ranked.sort()
        starts = np.searchsorted(ranked, np.r_[every, len(every)] * ((_STEPS + 1) * width))
        taken = np.minimum(np.diff(starts), count)
        place = np.arange(int(taken.sum())) - np.repeat(np.cumsum(taken) - taken, taken)
        rows.append(np.repeat(every, taken) + at)
        columns.append(ranked[np.repeat(starts[:-1], taken) + place] % width)
    return np.concatenate(rows), np.concatenate(columns)


def shared(left: Matrix, right: Matrix, i: Indices, j: Indices) -> Floats:
    """The weight of what rows have in common, pair by pair."""
    return np.asarray(left[i].multiply(right[j]).sum(axis=1)).ravel()


def in_common(own: Matrix, other: Matrix) -> Matrix:
    """The ones in the rows of `own` where the row of `other` beside it has anything."""
    return own.multiply(other.astype(bool).astype(np.float32))


def share(part: Floats, whole: Floats) -> Floats:
    """Parts of wholes; 0 of nothing."""
    return np.divide(part, whole, out=np.zeros_like(part), where=whole > 0)


def dice(common: Floats, one: Floats, other: Floats) -> Floats:
    """How much of both is common, 0 to 1."""
    return np.minimum(share(2 * common, one + other), 1.0)
