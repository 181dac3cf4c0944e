"""Confidence: figures of all candidates of a page, and of its having none, as probabilities that
add up to 1.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from upright_ledger.core.matching.pages.sides import Floats
from upright_ledger.core.matching.sparse import Indices


@dataclass(frozen=True, slots=True)
class Choice:
    """A nested logit: which of its candidates is the right one of a page, and whether any is.

    Of candidates the chances go as exp(weights · figures). That none is right goes as exp(none ·
    the page's figures + lost · the last figures of its candidates, each by its chance): what says
    that a page's candidates are those of other pages makes none of them more, rather than the next
    best one. sharper: what is likelier than not is by so much likelier (a factor of the logarithm
    of its odds) than weights that a penalty drew to 0 say. Fitted by benchmarks/fit_matching.py.
    """

    weights: tuple[float, ...]
    none: tuple[float, ...]
    lost: tuple[float, ...] = ()
    sharper: float = 1.0

    def chances(
        self, old: Indices, pages: npt.NDArray[np.float32], *figures: npt.NDArray[np.float32]
    ) -> Floats:
        """The chance of each pair. old: the page of each pair, ascending; pages: the figures of all
        pages; figures: those of pairs, side by side.
        """
        found = nested(
            old,
            _worth(figures, self.weights),
            pages @ np.array(self.none),
            figures[-1][:, figures[-1].shape[1] - len(self.lost) :] @ np.array(self.lost),
        )
        return _sharpened(old, found.some[old] * found.within, len(pages), self.sharper)


def _sharpened(old: Indices, chances: Floats, count: int, sharper: float) -> Floats:
    """Chances of which the best of a page is further from one half where it is above that; what is
    left to the others is shared out among them as before.
    """
    best = np.zeros(count)
    np.maximum.at(best, old, chances)
    best = np.minimum(best, 1.0 - _LEAST)
    odds = np.maximum(best / (1.0 - best), 1.0) ** (sharper - 1.0)  # 1 where it is not above
    left = 1.0 / (1.0 - best + best * odds)
    return np.asarray(
        np.where(chances >= best[old], chances * odds[old] * left[old], chances * left[old])
    )


_LEAST = 1e-9
_ROWS = 100_000


def _worth(figures: Sequence[npt.NDArray[np.float32]], weights: Sequence[float]) -> Floats:
    """The weighted sum of each row, some rows at a time: as doubles they take twice the room."""
    each = np.split(np.array(weights), np.cumsum([part.shape[1] for part in figures])[:-1])
    out = np.zeros(len(figures[0]))
    for at in range(0, len(out), _ROWS):
        for part, own in zip(figures, each, strict=True):
            out[at : at + _ROWS] += part[at : at + _ROWS].astype(float) @ own
    return out


class Nested(NamedTuple):
    """within: the chance of each pair among those of its page; some: that of each page that one of
    them is right; lost: what its pairs add, by their chances, to that of none.
    """

    within: Floats
    some: Floats
    lost: Floats


def nested(old: Indices, utility: Floats, none: Floats, lost: Floats) -> Nested:
    """The chances of pairs (old page, utility, what it adds to none), and of pages."""
    count = len(none)
    top = np.full(count, -np.inf)
    np.maximum.at(top, old, utility)
    grown = np.exp(utility - top[old])
    total = np.bincount(old, weights=grown, minlength=count)
    within = grown / total[old]
    added = np.bincount(old, weights=within * lost, minlength=count).astype(float)
    with np.errstate(divide="ignore"):
        apart = none + added - (top + np.log(total))  # without candidates: infinite
    return Nested(within, 1.0 / (1.0 + np.exp(np.minimum(apart, _FAR))), added)


_FAR = 700.0  # exp of more is no number


SAME_ITEM, OTHER_ITEM = 7.0, -4.0
"""Set by hand: the moves that the others are fitted on tell no item numbers. An export's column of
them seldom errs.
"""

TWIN = -1.0
"""Set by hand, too: of two new pages that differ in their ending alone, the one that ends as the
old page did is a little likelier.
"""

FIRST = Choice(
    weights=(
        0.0,  # same slug
        0.0,  # slug words
        0.784,  # slug letters
        1.173,  # same title
        2.787,  # title words
        1.585,  # no title
        0.0,  # old words found
        0.199,  # new words found
        0.0,  # shared information
        -0.191,  # old words missing
        -0.222,  # new words missing
        0.07,  # context
        2.247,  # same number
        -0.337,  # other number
        0.0,  # same year
        -3.457,  # other year
        2.708,  # both found
        -1.432,  # words replaced
        -1.668,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.708,  # same name
        1.188,  # name letters
        0.0,  # same words
        -2.0,  # opposed
        0.347,  # title alone
        0.267,  # title of a number
        1.026,  # name alone
        1.494,  # information alone
        -1.115,  # place elsewhere
        -0.53,  # new place elsewhere
        2.604,  # same text
        4.044,  # text found
        6.671,  # text shared
        -1.416,  # other text
        TWIN,  # its twin ends alike
        1.959,  # says the same
        0.673,  # says the same alone
        0.0,  # own words alike
        1.893,  # no own word missing
        0.0,  # no own word found
    ),
    none=(
        5.442,  # always
        -1.951,  # words known
        0.0,  # share of its place that is found
    ),
)
"""Of a page by itself: what scoring.FIRST names."""

SECOND = Choice(
    weights=(
        0.0,  # same slug
        0.0,  # slug words
        0.53,  # slug letters
        1.28,  # same title
        2.597,  # title words
        1.398,  # no title
        0.0,  # old words found
        0.992,  # new words found
        0.0,  # shared information
        0.0,  # old words missing
        -0.05,  # new words missing
        0.094,  # context
        1.919,  # same number
        -0.061,  # other number
        0.0,  # same year
        -2.292,  # other year
        1.523,  # both found
        -1.366,  # words replaced
        -2.681,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.0,  # same name
        0.633,  # name letters
        0.0,  # same words
        -2.0,  # opposed
        0.178,  # title alone
        0.147,  # title of a number
        0.507,  # name alone
        0.756,  # information alone
        -1.144,  # place elsewhere
        -0.387,  # new place elsewhere
        2.013,  # same text
        3.047,  # text found
        4.665,  # text shared
        -1.379,  # other text
        TWIN,  # its twin ends alike
        2.115,  # says the same
        0.428,  # says the same alone
        0.0,  # own words alike
        1.324,  # no own word missing
        0.0,  # no own word found
        1.19,  # place moved there
        0.0,  # place moved elsewhere
        1.122,  # number carried
        0.0,  # number not carried
        0.856,  # slug carried
        0.0,  # slug not carried
        3.205,  # name carried
        -0.253,  # name not carried
        4.5,  # rewritten as others
        1.386,  # text carried
        -0.136,  # text not carried
        0.505,  # number alone
        2.343,  # words gone elsewhere
        -0.7,  # taken by another
        0.0,  # taken where pages merge
        0.0,  # taken by a variant
    ),
    none=(
        2.537,  # always
        -1.663,  # words known
        1.491,  # share of its place that is found
    ),
    lost=(
        2.71,  # taken by another
        -2.578,  # taken where pages merge
        -0.518,  # taken by a variant
    ),
    sharper=1.75,
)
"""With what the plain cases teach: what scoring.SECOND names."""
