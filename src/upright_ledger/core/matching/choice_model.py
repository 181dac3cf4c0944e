"""Confidence: figures of all candidates of a page, and of its having none, as probabilities that
add up to 1.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from upright_ledger.core.matching.page_vectors import Floats
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
        self, old: Indices, figures: npt.NDArray[np.float32], pages: npt.NDArray[np.float32]
    ) -> Floats:
        """The chance of each pair. old: the page of each pair, ascending; pages: the figures of all
        pages.
        """
        found = nested(
            old,
            figures @ np.array(self.weights),
            pages @ np.array(self.none),
            figures[:, figures.shape[1] - len(self.lost) :] @ np.array(self.lost),
        )
        return found.some[old] * found.within


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
        0.632,  # slug letters
        3.813,  # same title
        3.105,  # title words
        -0.131,  # no title
        0.0,  # old words found
        2.919,  # new words found
        0.0,  # shared information
        -0.667,  # old words missing
        0.0,  # new words missing
        0.288,  # context
        2.916,  # same number
        -1.037,  # other number
        0.0,  # same year
        -6.101,  # other year
        0.658,  # both found
        -1.216,  # words replaced
        -2.727,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.497,  # same name
        1.721,  # name letters
        0.0,  # same words
        -2.124,  # opposed
        0.701,  # title alone
        0.0,  # title of a number
        2.276,  # name alone
        1.218,  # information alone
        -1.168,  # place elsewhere
        -0.484,  # new place elsewhere
        3.969,  # same text
        5.596,  # text found
        -2.063,  # other text
        TWIN,  # its twin ends alike
    ),
    none=(
        7.574,  # always
        -3.655,  # words known
        0.0,  # share of its place that is found
    ),
)
"""Of a page by itself: what scoring.FIRST names."""

SECOND = Choice(
    weights=(
        0.0,  # same slug
        0.0,  # slug words
        1.345,  # slug letters
        4.488,  # same title
        2.452,  # title words
        -0.528,  # no title
        0.0,  # old words found
        2.98,  # new words found
        0.0,  # shared information
        0.0,  # old words missing
        0.0,  # new words missing
        0.0,  # context
        2.1,  # same number
        -0.415,  # other number
        0.0,  # same year
        -3.861,  # other year
        0.098,  # both found
        -1.094,  # words replaced
        -3.736,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.0,  # same name
        0.0,  # name letters
        0.0,  # same words
        -1.162,  # opposed
        0.187,  # title alone
        0.0,  # title of a number
        0.765,  # name alone
        0.949,  # information alone
        -1.357,  # place elsewhere
        -0.3,  # new place elsewhere
        3.321,  # same text
        4.845,  # text found
        -1.742,  # other text
        TWIN,  # its twin ends alike
        1.695,  # place moved there
        0.0,  # place moved elsewhere
        1.017,  # number carried
        -0.092,  # number not carried
        0.166,  # slug carried
        -0.32,  # slug not carried
        4.53,  # name carried
        -0.709,  # name not carried
        4.132,  # rewritten as others
        1.331,  # text carried
        -0.446,  # text not carried
        0.777,  # number alone
        -0.7,  # taken by another
        0.0,  # taken where pages merge
    ),
    none=(
        3.672,  # always
        -2.743,  # words known
        1.626,  # share of its place that is found
    ),
    lost=(
        2.771,  # taken by another
        -4.735,  # taken where pages merge
    ),
)
"""With what the plain cases teach: what scoring.SECOND names."""
