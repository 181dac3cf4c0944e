"""Confidence: figures of all candidates of a page, and of its having none, as probabilities that add up to 1."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from upright_ledger.core.matching.pages import Floats
from upright_ledger.core.matching.products import Indices


@dataclass(frozen=True, slots=True)
class Choice:
    """A conditional logit: the chance of a candidate is exp(weights · figures), relative to all candidates of its page
    and to exp(none · the page's figures), the chance that none is right. Fitted by benchmarks/fit_matching.py.
    """

    weights: tuple[float, ...]
    none: tuple[float, ...]

    def chances(self, old: Indices, figures: npt.NDArray[np.float32], pages: npt.NDArray[np.float32]) -> Floats:
        """The chance of each pair. old: the page of each pair, ascending; pages: the figures of all pages."""
        utility = figures @ np.array(self.weights)
        return soft_max(old, utility, pages @ np.array(self.none))


def soft_max(old: Indices, utility: Floats, none: Floats) -> Floats:
    """Chances of pairs among those of their page, of which one more is that none is right."""
    top = none.copy()
    np.maximum.at(top, old, utility)
    grown = np.exp(utility - top[old])
    total = np.exp(none - top) + np.bincount(old, weights=grown, minlength=len(none))
    return np.asarray(grown / total[old])


FIRST = Choice(
    weights=(
        5.038,  # same slug
        0.0,  # slug words
        5.483,  # slug letters
        0.0,  # same title
        5.343,  # title words
        -0.458,  # no title
        0.0,  # old words found
        0.0,  # new words found
        0.0,  # shared information
        0.0,  # old words missing
        0.0,  # new words missing
        0.113,  # context
        3.249,  # same number
        -4.657,  # other number
        0.0,  # same year
        -7.817,  # other year
        3.956,  # both found
        -2.352,  # words replaced
        -2.04,  # old words unmatched
    ),
    none=(
        9.282,  # always
        -3.117,  # words known
        0.0,  # share of its place that is found
    ),
)
"""Of a page by itself: what engine.FIRST names."""

SECOND = Choice(
    weights=(
        1.918,  # same slug
        0.0,  # slug words
        5.079,  # slug letters
        0.0,  # same title
        4.818,  # title words
        -0.635,  # no title
        0.0,  # old words found
        0.0,  # new words found
        0.0,  # shared information
        0.0,  # old words missing
        -0.038,  # new words missing
        0.0,  # context
        1.182,  # same number
        -1.419,  # other number
        0.0,  # same year
        -2.433,  # other year
        3.049,  # both found
        -2.037,  # words replaced
        -1.989,  # old words unmatched
        2.36,  # place moved there
        -2.182,  # place moved elsewhere
        1.161,  # number carried
        -1.386,  # number not carried
        1.861,  # slug carried
        -3.335,  # slug not carried
        0.877,  # number alone
        -6.055,  # taken by another
        4.855,  # taken where pages merge
    ),
    none=(
        1.591,  # always
        -1.302,  # words known
        3.126,  # share of its place that is found
    ),
)
"""With what the plain cases teach: what engine.SECOND names."""
