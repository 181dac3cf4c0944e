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
        0.0,  # same slug
        0.0,  # slug words
        1.3,  # slug letters
        3.305,  # same title
        3.105,  # title words
        -0.404,  # no title
        0.0,  # old words found
        2.574,  # new words found
        0.0,  # shared information
        -0.435,  # old words missing
        0.0,  # new words missing
        0.511,  # context
        3.266,  # same number
        -2.226,  # other number
        0.0,  # same year
        -6.617,  # other year
        0.951,  # both found
        -1.351,  # words replaced
        -3.272,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.056,  # same name
        1.386,  # name letters
        0.0,  # same words
        -1.98,  # opposed
        0.714,  # title alone
        0.322,  # title of a number
        1.851,  # name alone
        1.698,  # information alone
        -1.109,  # place elsewhere
        -0.397,  # new place elsewhere
    ),
    none=(
        8.529,  # always
        -4.061,  # words known
        0.0,  # share of its place that is found
    ),
)
"""Of a page by itself: what scoring.FIRST names."""

SECOND = Choice(
    weights=(
        0.0,  # same slug
        0.0,  # slug words
        1.602,  # slug letters
        4.504,  # same title
        2.153,  # title words
        -1.129,  # no title
        0.0,  # old words found
        2.42,  # new words found
        0.0,  # shared information
        0.0,  # old words missing
        0.0,  # new words missing
        0.0,  # context
        2.173,  # same number
        -0.598,  # other number
        0.0,  # same year
        -3.702,  # other year
        0.095,  # both found
        -1.268,  # words replaced
        -4.061,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.0,  # same name
        0.0,  # name letters
        0.0,  # same words
        -0.859,  # opposed
        0.372,  # title alone
        0.167,  # title of a number
        0.937,  # name alone
        1.221,  # information alone
        -1.336,  # place elsewhere
        -0.312,  # new place elsewhere
        1.994,  # place moved there
        0.0,  # place moved elsewhere
        1.14,  # number carried
        -0.366,  # number not carried
        0.135,  # slug carried
        -0.218,  # slug not carried
        4.325,  # name carried
        -0.909,  # name not carried
        4.145,  # rewritten as others
        0.631,  # number alone
        -3.83,  # taken by another
        5.048,  # taken where pages merge
    ),
    none=(
        4.02,  # always
        -3.284,  # words known
        2.269,  # share of its place that is found
    ),
)
"""With what the plain cases teach: what scoring.SECOND names."""
