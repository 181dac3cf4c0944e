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
        6.032,  # same slug
        0.0,  # slug words
        4.214,  # slug letters
        0.0,  # same title
        3.81,  # title words
        -0.488,  # no title
        0.0,  # old words found
        0.053,  # new words found
        0.015,  # shared information
        0.0,  # old words missing
        -0.052,  # new words missing
        0.896,  # context
        5.383,  # same number
        -5.648,  # other number
        0.0,  # same year
        -8.512,  # other year
        4.29,  # both found
        -2.099,  # words replaced
        -2.728,  # old words unmatched
    ),
    none=(
        8.671,  # always
        -3.364,  # words known
        0.0,  # share of its place that is found
    ),
)
"""Of a page by itself: what engine.FIRST names."""

SECOND = Choice(
    weights=(
        2.265,  # same slug
        0.0,  # slug words
        5.349,  # slug letters
        0.0,  # same title
        4.173,  # title words
        -0.568,  # no title
        0.0,  # old words found
        0.0,  # new words found
        0.0,  # shared information
        0.0,  # old words missing
        0.0,  # new words missing
        0.004,  # context
        1.791,  # same number
        -2.068,  # other number
        0.0,  # same year
        -4.198,  # other year
        3.645,  # both found
        -1.8,  # words replaced
        -3.024,  # old words unmatched
        1.43,  # place moved there
        -2.184,  # place moved elsewhere
        1.775,  # number carried
        -2.046,  # number not carried
        1.419,  # slug carried
        -2.724,  # slug not carried
        1.477,  # number alone
        -3.381,  # taken by another
        2.003,  # taken where pages merge
    ),
    none=(
        3.122,  # always
        -2.261,  # words known
        3.113,  # share of its place that is found
    ),
)
"""With what the plain cases teach: what engine.SECOND names."""
