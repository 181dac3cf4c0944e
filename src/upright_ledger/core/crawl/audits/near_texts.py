"""Pages that say most of what another one says: the one measure of contents, as audits ask it."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import numpy.typing as npt

from upright_ledger.core.contents.sketches import Sketch
from upright_ledger.core.contents.texts import Texts, alike_texts, found_by_text

_MUCH = 0.5  # of all that two pages say
_NEARLY_ALL = 0.9
_FAR_LESS = 0.5  # of how much another one is alike


def moved_texts(left: Mapping[str, Sketch], come: Mapping[str, Sketch]) -> dict[str, str]:
    """Address that a page left → the one where most of its text stands now, where no other is
    nearly as much like either.
    """
    olds, news = list(left), list(come)
    before, now = Texts.of(list(left.values())), Texts.of(list(come.values()))
    i, j = found_by_text(before, now)
    alike = alike_texts(before, now, i, j).alike
    clear = (alike >= _MUCH) & _stands_out(i, alike) & _stands_out(j, alike)
    return {olds[a]: news[b] for a, b in zip(i[clear].tolist(), j[clear].tolist(), strict=True)}


def nearly_the_same(texts: Mapping[str, Sketch]) -> list[tuple[str, str]]:
    """Pairs of pages of one site that say nearly the same."""
    urls, site = list(texts), Texts.of(list(texts.values()))
    i, j = found_by_text(site, site)
    i, j = i[i < j], j[i < j]
    near = alike_texts(site, site, i, j).alike >= _NEARLY_ALL
    return [(urls[a], urls[b]) for a, b in zip(i[near].tolist(), j[near].tolist(), strict=True)]


def _stands_out(
    page: npt.NDArray[np.int64], alike: npt.NDArray[np.float64]
) -> npt.NDArray[np.bool_]:
    """Whether each pair is by far the best of its page."""
    out = np.zeros(len(page), bool)
    if len(page):
        order = np.lexsort((-alike, page))
        first = np.r_[True, np.diff(page[order]) != 0]
        second = np.r_[alike[order][1:], 0.0] * np.r_[~first[1:], False]
        out[order] = first & (second <= _FAR_LESS * alike[order])
    return out
