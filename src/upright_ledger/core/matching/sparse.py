"""Sparse products: the rows of one matrix that are most alike to those of another."""

from __future__ import annotations

from collections.abc import Iterable
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


def as_rows(sets: Iterable[Iterable[str]], known: dict[str, int]) -> Matrix:
    """Sets of texts as rows of ones, a column a text. known: text → column, to which new ones are
    added.
    """
    indices: list[int] = []
    ends = [0]
    for texts in sets:
        indices += [known.setdefault(t, len(known)) for t in sorted(texts)]
        ends.append(len(indices))
    data = np.ones(len(indices), np.float32)
    return sparse.csr_matrix(
        (data, np.array(indices, np.int32), np.array(ends)), shape=(len(ends) - 1, len(known))
    )


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
        row = np.repeat(np.arange(product.shape[0]), np.diff(product.indptr))
        enough = np.flatnonzero(product.data >= least)
        row, column = row[enough], product.indices[enough].astype(np.int64)
        lack = _STEPS - np.minimum(np.rint(product.data[enough] * _STEPS), _STEPS).astype(np.int64)
        order = np.argsort((row * (_STEPS + 1) + lack) * width + column)
        row, column = row[order], column[order]
        place = np.arange(len(row)) - np.searchsorted(row, np.arange(product.shape[0]))[row]
        rows.append(row[place < count] + at)
        columns.append(column[place < count])
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
