"""The texts of a site, and how alike those of two sites are, pair by pair."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
from scipy import sparse

from upright_ledger.core.contents.sketches import KEPT, Sketch, digests_of

_COMMON_SHARE, _COMMON_LEAST = 0.02, 6  # of a site's pages; what more of them say is boilerplate
_COMMON_SEEN = 3  # pages of which it is seen
_FEWEST = 8  # digests that two texts are judged by
_PER_TEXT = 4
_MOST_HOLDERS = 50  # pages that say the same; commoner runs find nothing
_LEAST = 0.1  # of the digests of a page that another must have to be found by them
_CHUNK, _ROWS = 100_000, 2_000  # pairs, and pages, that are looked at together

Floats = npt.NDArray[np.float64]
Indices = npt.NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Texts:
    """The sketches of a site's pages, without what many of them say.

    rows: page × digest, ones (a CSR matrix; `digests` are what its columns stand for, ascending).
    known: whether a page has a text. last: up to which digest a page's sketch tells all there is.
    digests_by_page: page × KEPT, ascending, those left out as the largest number there is.
    """

    rows: Any
    digests: npt.NDArray[np.uint32]
    known: npt.NDArray[np.bool_]
    last: npt.NDArray[np.uint32]
    digests_by_page: npt.NDArray[np.uint32]

    @classmethod
    def of(cls, sketches: Sequence[Sketch]) -> Texts:
        """The texts of a site, from the sketches of all its pages."""
        most = np.iinfo(np.uint32).max
        none = np.empty(0, np.uint32)
        held = [digests_of(s) if s else none for s in sketches]
        counts = np.array([len(h) for h in held], np.int64)
        flat = np.concatenate([none, *held])
        digests, column, times = np.unique(flat, return_inverse=True, return_counts=True)
        with_text = int((counts > 0).sum())
        last = np.full(len(held), most, np.uint32)
        full = counts == KEPT
        last[full] = flat[np.cumsum(counts) - 1][full] if len(flat) else last[full]
        # A digest that all pages have stands in the sketches of those alone that reach as far.
        reaching = np.maximum(with_text - np.searchsorted(np.sort(last[counts > 0]), digests), 1)
        common = max(_COMMON_LEAST, _COMMON_SHARE * with_text)
        own = ((times < _COMMON_SEEN) | (times * with_text / reaching <= common))[column]
        page = np.repeat(np.arange(len(held)), counts)
        rows = sparse.csr_matrix(
            (np.ones(int(own.sum()), np.float32), (page[own], column[own])),
            shape=(len(held), len(digests)),
        )
        by_page = np.full((len(held), KEPT), most, np.uint32)
        place = np.arange(len(flat)) - np.repeat(np.cumsum(counts) - counts, counts)
        by_page[page[own], place[own]] = flat[own]
        return cls(rows, digests, counts > 0, last, by_page)


class Likeness(NamedTuple):
    """How alike the texts of pairs of pages are. alike: the share of all they say that both say;
    found: of what the first one says; shared: digests that both have, as a logarithm, 1 for all of
    a sketch; told: whether that can be told.
    """

    alike: Floats
    found: Floats
    shared: Floats
    told: npt.NDArray[np.bool_]


def alike_texts(left: Texts, right: Texts, i: Indices, j: Indices) -> Likeness:
    """Lay the texts of pairs of pages side by side."""
    alike, found, shared = np.zeros((3, len(i)))
    told = np.zeros(len(i), bool)
    result = Likeness(alike, found, shared, told)
    if not (left.known.any() and right.known.any()):
        return result
    some = np.flatnonzero(left.known[i] & right.known[j])
    ours, theirs = _in_common(left, right)
    for at in range(0, len(some), _CHUNK):
        part = some[at : at + _CHUNK]
        a, b = i[part], j[part]
        both = np.asarray(ours[a].multiply(theirs[b]).sum(axis=1)).ravel()
        upto = np.minimum(left.last[a], right.last[b])[:, None]
        one = (left.digests_by_page[a] <= upto).sum(axis=1) - _left_out(left, a, upto)
        other = (right.digests_by_page[b] <= upto).sum(axis=1) - _left_out(right, b, upto)
        whole = one + other - both
        # Few digests are left where a long text is laid beside a short one.
        enough = whole >= _FEWEST
        told[part] = enough
        alike[part] = np.where(enough, both / np.maximum(whole, 1), 0.0)
        found[part] = np.where(enough, both / np.maximum(one, 1), 0.0)
        shared[part] = np.where(enough, np.log1p(both) / np.log1p(KEPT), 0.0)
    return result


def _left_out(side: Texts, rows: Indices, upto: npt.NDArray[np.uint32]) -> npt.NDArray[np.int64]:
    """How many of the places counted up to a digest hold none."""
    most = np.iinfo(np.uint32).max
    return np.where(upto[:, 0] == most, (side.digests_by_page[rows] == most).sum(axis=1), 0)


def _in_common(left: Texts, right: Texts) -> tuple[Any, Any]:
    """The rows of both sides over the digests that both have."""
    _, ours, theirs = np.intersect1d(
        left.digests, right.digests, assume_unique=True, return_indices=True
    )
    return left.rows[:, ours].tocsr(), right.rows[:, theirs].tocsr()


def found_by_text(left: Texts, right: Texts) -> tuple[Indices, Indices]:
    """Pairs of pages of which the second says much of what the first says: some few for each."""
    if not (left.known.any() and right.known.any()):
        return np.empty(0, np.int64), np.empty(0, np.int64)
    ours, theirs = _in_common(left, right)
    rare = np.flatnonzero(np.bincount(theirs.indices, minlength=theirs.shape[1]) <= _MOST_HOLDERS)
    ours, theirs = ours[:, rare], theirs[:, rare].T.tocsr()
    least = _LEAST * np.minimum(np.maximum(np.diff(left.rows.indptr), 1), KEPT)
    rows, columns = [np.empty(0, np.int64)], [np.empty(0, np.int64)]
    for at in range(0, ours.shape[0], _ROWS):
        shared = (ours[at : at + _ROWS] @ theirs).tocsr()
        row = np.repeat(np.arange(shared.shape[0]), np.diff(shared.indptr))
        enough = np.flatnonzero(shared.data >= least[at + row])
        row, column = row[enough], shared.indices[enough].astype(np.int64)
        order = np.lexsort((column, -shared.data[enough], row))
        row, column = row[order], column[order]
        first = np.searchsorted(row, np.arange(shared.shape[0]))
        near = np.arange(len(row)) - first[row] < _PER_TEXT
        rows.append(row[near] + at)
        columns.append(column[near])
    return np.concatenate(rows), np.concatenate(columns)
