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
        0.718,  # slug letters
        3.902,  # same title
        2.844,  # title words
        -0.036,  # no title
        0.0,  # old words found
        1.819,  # new words found
        0.0,  # shared information
        -0.598,  # old words missing
        0.0,  # new words missing
        0.259,  # context
        4.681,  # same number
        -0.924,  # other number
        0.0,  # same year
        -5.99,  # other year
        1.719,  # both found
        -1.261,  # words replaced
        -2.301,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.616,  # same name
        1.515,  # name letters
        0.0,  # same words
        -2.115,  # opposed
        0.657,  # title alone
        0.147,  # title of a number
        2.229,  # name alone
        1.205,  # information alone
        -1.236,  # place elsewhere
        -0.375,  # new place elsewhere
        3.339,  # same text
        5.002,  # text found
        9.869,  # text shared
        -2.24,  # other text
        TWIN,  # its twin ends alike
    ),
    none=(
        7.372,  # always
        -3.521,  # words known
        0.0,  # share of its place that is found
    ),
)
"""Of a page by itself: what scoring.FIRST names."""

SECOND = Choice(
    weights=(
        0.0,  # same slug
        0.0,  # slug words
        1.276,  # slug letters
        4.365,  # same title
        2.047,  # title words
        -0.497,  # no title
        0.0,  # old words found
        2.181,  # new words found
        0.0,  # shared information
        -0.029,  # old words missing
        0.0,  # new words missing
        0.0,  # context
        3.162,  # same number
        -0.418,  # other number
        0.0,  # same year
        -3.745,  # other year
        0.987,  # both found
        -1.078,  # words replaced
        -3.148,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.0,  # same name
        0.0,  # name letters
        0.0,  # same words
        -1.208,  # opposed
        0.271,  # title alone
        0.011,  # title of a number
        0.69,  # name alone
        0.966,  # information alone
        -1.341,  # place elsewhere
        -0.171,  # new place elsewhere
        2.736,  # same text
        4.153,  # text found
        8.521,  # text shared
        -1.972,  # other text
        TWIN,  # its twin ends alike
        1.675,  # place moved there
        0.0,  # place moved elsewhere
        2.876,  # number carried
        -0.182,  # number not carried
        0.0,  # slug carried
        -0.45,  # slug not carried
        4.684,  # name carried
        -0.742,  # name not carried
        4.421,  # rewritten as others
        1.517,  # text carried
        -0.193,  # text not carried
        0.0,  # number alone
        -0.7,  # taken by another
        0.0,  # taken where pages merge
    ),
    none=(
        3.15,  # always
        -2.524,  # words known
        0.987,  # share of its place that is found
    ),
    lost=(
        2.917,  # taken by another
        -4.697,  # taken where pages merge
    ),
)
"""With what the plain cases teach: what scoring.SECOND names."""
