"""Confidence: figures of all candidates of a page, and of its having none, as probabilities that
add up to 1.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from upright_ledger.core.matching.page_vectors import Floats
from upright_ledger.core.matching.sparse import Indices


@dataclass(frozen=True, slots=True)
class Choice:
    """A conditional logit: the chance of a candidate is exp(weights · figures), relative to all
    candidates of its page and to exp(none · the page's figures), the chance that none is right.
    Fitted by benchmarks/fit_matching.py.
    """

    weights: tuple[float, ...]
    none: tuple[float, ...]

    def chances(
        self, old: Indices, figures: npt.NDArray[np.float32], pages: npt.NDArray[np.float32]
    ) -> Floats:
        """The chance of each pair. old: the page of each pair, ascending; pages: the figures of all
        pages.
        """
        utility = figures @ np.array(self.weights)
        return soft_max(old, utility, pages @ np.array(self.none))


def soft_max(old: Indices, utility: Floats, none: Floats) -> Floats:
    """Chances of pairs among those of their page, of which one more is that none is right."""
    top = none.copy()
    np.maximum.at(top, old, utility)
    grown = np.exp(utility - top[old])
    total = np.exp(none - top) + np.bincount(old, weights=grown, minlength=len(none))
    return np.asarray(grown / total[old])


SAME_ITEM, OTHER_ITEM = 7.0, -4.0
"""Set by hand: the moves that the others are fitted on tell no item numbers. An export's column of
them seldom errs.
"""

FIRST = Choice(
    weights=(
        4.502,  # same slug
        0.0,  # slug words
        4.996,  # slug letters
        0.0,  # same title
        4.814,  # title words
        0.099,  # no title
        0.0,  # old words found
        0.0,  # new words found
        0.0,  # shared information
        0.0,  # old words missing
        0.0,  # new words missing
        0.929,  # context
        5.684,  # same number
        -5.04,  # other number
        0.0,  # same year
        -7.083,  # other year
        4.355,  # both found
        -1.952,  # words replaced
        -2.42,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
    ),
    none=(
        9.672,  # always
        -3.147,  # words known
        0.0,  # share of its place that is found
    ),
)
"""Of a page by itself: what scoring.FIRST names."""

SECOND = Choice(
    weights=(
        2.252,  # same slug
        0.0,  # slug words
        5.391,  # slug letters
        0.0,  # same title
        4.149,  # title words
        -0.612,  # no title
        0.0,  # old words found
        0.0,  # new words found
        0.0,  # shared information
        0.0,  # old words missing
        0.0,  # new words missing
        0.026,  # context
        2.742,  # same number
        -2.168,  # other number
        0.0,  # same year
        -4.214,  # other year
        3.657,  # both found
        -1.788,  # words replaced
        -3.023,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        1.451,  # place moved there
        -2.152,  # place moved elsewhere
        2.707,  # number carried
        -2.126,  # number not carried
        1.405,  # slug carried
        -2.704,  # slug not carried
        0.329,  # number alone
        -3.394,  # taken by another
        1.991,  # taken where pages merge
    ),
    none=(
        3.073,  # always
        -2.244,  # words known
        3.166,  # share of its place that is found
    ),
)
"""With what the plain cases teach: what scoring.SECOND names."""
