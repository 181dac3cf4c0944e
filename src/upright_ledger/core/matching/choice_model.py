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
        0.698,  # slug letters
        2.225,  # same title
        1.687,  # title words
        -0.55,  # no title
        0.0,  # old words found
        0.731,  # new words found
        0.0,  # shared information
        -0.683,  # old words missing
        -0.191,  # new words missing
        0.084,  # context
        3.158,  # same number
        -0.588,  # other number
        0.0,  # same year
        -4.272,  # other year
        2.164,  # both found
        -1.243,  # words replaced
        -1.773,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.679,  # same name
        0.995,  # name letters
        0.0,  # same words
        -1.064,  # opposed
        0.909,  # title alone
        0.483,  # title of a number
        1.24,  # name alone
        1.443,  # information alone
        -1.265,  # place elsewhere
        -0.381,  # new place elsewhere
        2.601,  # same text
        4.078,  # text found
        7.038,  # text shared
        -1.707,  # other text
        TWIN,  # its twin ends alike
    ),
    none=(
        4.765,  # always
        -3.074,  # words known
        0.0,  # share of its place that is found
    ),
)
"""Of a page by itself: what scoring.FIRST names."""

SECOND = Choice(
    weights=(
        0.0,  # same slug
        0.0,  # slug words
        1.157,  # slug letters
        3.507,  # same title
        2.035,  # title words
        -1.158,  # no title
        0.0,  # old words found
        1.953,  # new words found
        0.0,  # shared information
        -0.36,  # old words missing
        0.0,  # new words missing
        0.0,  # context
        3.676,  # same number
        -0.566,  # other number
        0.0,  # same year
        -3.94,  # other year
        2.425,  # both found
        -1.77,  # words replaced
        -3.264,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.0,  # same name
        0.506,  # name letters
        0.0,  # same words
        -0.742,  # opposed
        1.035,  # title alone
        0.664,  # title of a number
        0.867,  # name alone
        1.29,  # information alone
        -1.99,  # place elsewhere
        -0.315,  # new place elsewhere
        3.192,  # same text
        4.96,  # text found
        8.617,  # text shared
        -2.244,  # other text
        TWIN,  # its twin ends alike
        2.325,  # place moved there
        0.0,  # place moved elsewhere
        2.429,  # number carried
        -0.321,  # number not carried
        1.077,  # slug carried
        -0.435,  # slug not carried
        4.643,  # name carried
        -1.299,  # name not carried
        6.75,  # rewritten as others
        2.139,  # text carried
        -0.156,  # text not carried
        0.407,  # number alone
        -0.7,  # taken by another
        0.0,  # taken where pages merge
    ),
    none=(
        3.201,  # always
        -3.495,  # words known
        2.381,  # share of its place that is found
    ),
    lost=(
        4.016,  # taken by another
        -5.067,  # taken where pages merge
    ),
)
"""With what the plain cases teach: what scoring.SECOND names."""
