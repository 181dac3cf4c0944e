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
    best one. Fitted by benchmarks/fit_matching.py.
    """

    weights: tuple[float, ...]
    none: tuple[float, ...]
    lost: tuple[float, ...] = ()

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
        return found.some[old] * found.within


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
        0.719,  # slug letters
        3.905,  # same title
        2.843,  # title words
        -0.036,  # no title
        0.0,  # old words found
        1.82,  # new words found
        0.0,  # shared information
        -0.597,  # old words missing
        0.0,  # new words missing
        0.26,  # context
        4.685,  # same number
        -0.925,  # other number
        0.0,  # same year
        -5.995,  # other year
        1.717,  # both found
        -1.261,  # words replaced
        -2.303,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.618,  # same name
        1.513,  # name letters
        0.0,  # same words
        -2.111,  # opposed
        0.658,  # title alone
        0.146,  # title of a number
        2.221,  # name alone
        1.21,  # information alone
        -1.236,  # place elsewhere
        -0.375,  # new place elsewhere
        3.327,  # same text
        4.995,  # text found
        9.883,  # text shared
        -2.239,  # other text
        TWIN,  # its twin ends alike
    ),
    none=(
        7.374,  # always
        -3.522,  # words known
        0.0,  # share of its place that is found
    ),
)
"""Of a page by itself: what scoring.FIRST names."""

SECOND = Choice(
    weights=(
        0.0,  # same slug
        0.0,  # slug words
        1.286,  # slug letters
        4.357,  # same title
        2.033,  # title words
        -0.511,  # no title
        0.0,  # old words found
        2.167,  # new words found
        0.0,  # shared information
        -0.019,  # old words missing
        0.0,  # new words missing
        0.0,  # context
        3.158,  # same number
        -0.416,  # other number
        0.0,  # same year
        -3.75,  # other year
        1.034,  # both found
        -1.078,  # words replaced
        -3.166,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.0,  # same name
        0.0,  # name letters
        0.0,  # same words
        -1.203,  # opposed
        0.269,  # title alone
        0.026,  # title of a number
        0.697,  # name alone
        0.962,  # information alone
        -1.334,  # place elsewhere
        -0.178,  # new place elsewhere
        2.737,  # same text
        4.156,  # text found
        8.539,  # text shared
        -1.97,  # other text
        TWIN,  # its twin ends alike
        1.607,  # place moved there
        0.0,  # place moved elsewhere
        2.864,  # number carried
        -0.168,  # number not carried
        0.0,  # slug carried
        -0.42,  # slug not carried
        4.602,  # name carried
        -0.753,  # name not carried
        4.419,  # rewritten as others
        1.503,  # text carried
        -0.178,  # text not carried
        0.0,  # number alone
        -0.7,  # taken by another
        0.0,  # taken where pages merge
    ),
    none=(
        3.662,  # always
        -2.545,  # words known
        0.988,  # share of its place that is found
    ),
    lost=(
        2.918,  # taken by another
        -4.702,  # taken where pages merge
    ),
)
"""With what the plain cases teach: what scoring.SECOND names."""
