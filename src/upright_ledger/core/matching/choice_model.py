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
        0.465,  # slug letters
        1.369,  # same title
        3.906,  # title words
        0.514,  # no title
        0.0,  # old words found
        0.373,  # new words found
        0.0,  # shared information
        -0.32,  # old words missing
        -0.258,  # new words missing
        0.119,  # context
        2.849,  # same number
        -0.873,  # other number
        0.0,  # same year
        -3.743,  # other year
        2.584,  # both found
        -1.428,  # words replaced
        -2.351,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.863,  # same name
        0.89,  # name letters
        0.0,  # same words
        -0.964,  # opposed
        0.338,  # title alone
        0.286,  # title of a number
        1.088,  # name alone
        1.515,  # information alone
        -1.093,  # place elsewhere
        -0.371,  # new place elsewhere
        2.558,  # same text
        3.993,  # text found
        6.595,  # text shared
        -1.52,  # other text
        TWIN,  # its twin ends alike
        2.412,  # says the same
        0.784,  # says the same alone
    ),
    none=(
        5.202,  # always
        -2.93,  # words known
        0.0,  # share of its place that is found
    ),
)
"""Of a page by itself: what scoring.FIRST names."""

SECOND = Choice(
    weights=(
        0.0,  # same slug
        0.0,  # slug words
        0.661,  # slug letters
        1.432,  # same title
        3.722,  # title words
        0.142,  # no title
        0.0,  # old words found
        0.985,  # new words found
        0.0,  # shared information
        0.0,  # old words missing
        0.0,  # new words missing
        0.0,  # context
        2.374,  # same number
        -0.535,  # other number
        0.0,  # same year
        -2.421,  # other year
        1.97,  # both found
        -1.624,  # words replaced
        -2.293,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.0,  # same name
        0.423,  # name letters
        0.0,  # same words
        -0.455,  # opposed
        0.158,  # title alone
        0.15,  # title of a number
        0.486,  # name alone
        0.832,  # information alone
        -1.22,  # place elsewhere
        -0.244,  # new place elsewhere
        2.152,  # same text
        3.313,  # text found
        5.44,  # text shared
        -1.308,  # other text
        TWIN,  # its twin ends alike
        2.676,  # says the same
        0.473,  # says the same alone
        1.305,  # place moved there
        0.0,  # place moved elsewhere
        1.379,  # number carried
        -0.095,  # number not carried
        0.96,  # slug carried
        -0.043,  # slug not carried
        3.002,  # name carried
        -0.792,  # name not carried
        4.5,  # rewritten as others
        1.476,  # text carried
        0.0,  # text not carried
        0.39,  # number alone
        -0.7,  # taken by another
        0.0,  # taken where pages merge
        0.0,  # taken by a variant
    ),
    none=(
        2.481,  # always
        -2.316,  # words known
        1.735,  # share of its place that is found
    ),
    lost=(
        2.709,  # taken by another
        -2.569,  # taken where pages merge
        -0.467,  # taken by a variant
    ),
    sharper=2.0,
)
"""With what the plain cases teach: what scoring.SECOND names."""
