"""Confidence: figures of all candidates of a page, and of its having none, as probabilities that add up to 1."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from upright_ledger.core.matching.candidates import Indices
from upright_ledger.core.matching.pages import Floats


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
        5.712,  # same slug
        0.0,  # slug words
        4.729,  # slug letters
        0.0,  # same title
        4.041,  # title words
        -0.97,  # no title
        0.0,  # old words found
        0.0,  # new words found
        0.808,  # shared information
        0.0,  # old words missing
        -0.254,  # new words missing
        0.04,  # context
        4.101,  # same number
        -4.649,  # other number
        0.0,  # same year
        -7.436,  # other year
        3.47,  # both found
        -2.316,  # words replaced
        -2.06,  # old words unmatched
    ),
    none=(
        8.956,  # always
        -2.902,  # words known
        0.0,  # share of its place that is found
    ),
)
"""Of a page by itself: what engine.FIRST names."""

SECOND = Choice(
    weights=(
        2.761,  # same slug
        0.0,  # slug words
        4.497,  # slug letters
        0.0,  # same title
        2.65,  # title words
        -2.002,  # no title
        0.0,  # old words found
        0.584,  # new words found
        0.641,  # shared information
        -0.012,  # old words missing
        -0.314,  # new words missing
        0.0,  # context
        1.393,  # same number
        -1.241,  # other number
        0.0,  # same year
        -2.779,  # other year
        1.961,  # both found
        -2.039,  # words replaced
        -2.287,  # old words unmatched
        2.353,  # place moved there
        -2.367,  # place moved elsewhere
        1.371,  # number carried
        -1.184,  # number not carried
        2.316,  # slug carried
        -3.043,  # slug not carried
        1.007,  # number alone
        -5.25,  # taken by another
        3.628,  # taken where pages merge
    ),
    none=(
        0.218,  # always
        -1.16,  # words known
        3.396,  # share of its place that is found
    ),
)
"""With what the plain cases teach: what engine.SECOND names."""
