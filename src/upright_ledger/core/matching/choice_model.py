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
        0.765,  # slug letters
        1.216,  # same title
        2.867,  # title words
        1.664,  # no title
        0.0,  # old words found
        0.078,  # new words found
        0.0,  # shared information
        -0.159,  # old words missing
        -0.231,  # new words missing
        0.042,  # context
        2.824,  # same number
        -1.049,  # other number
        0.0,  # same year
        -3.453,  # other year
        2.805,  # both found
        -1.402,  # words replaced
        -1.625,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.716,  # same name
        1.163,  # name letters
        0.0,  # same words
        -1.024,  # opposed
        0.338,  # title alone
        0.257,  # title of a number
        1.013,  # name alone
        1.501,  # information alone
        -1.146,  # place elsewhere
        -0.502,  # new place elsewhere
        2.568,  # same text
        3.964,  # text found
        6.494,  # text shared
        -1.407,  # other text
        TWIN,  # its twin ends alike
        1.95,  # says the same
        0.645,  # says the same alone
        0.0,  # own words alike
        1.933,  # no own word missing
    ),
    none=(
        5.301,  # always
        -1.869,  # words known
        0.0,  # share of its place that is found
    ),
)
"""Of a page by itself: what scoring.FIRST names."""

SECOND = Choice(
    weights=(
        0.0,  # same slug
        0.0,  # slug words
        0.666,  # slug letters
        1.325,  # same title
        2.806,  # title words
        1.526,  # no title
        0.0,  # old words found
        0.76,  # new words found
        0.0,  # shared information
        0.0,  # old words missing
        -0.014,  # new words missing
        0.0,  # context
        2.181,  # same number
        -0.69,  # other number
        0.0,  # same year
        -2.284,  # other year
        1.947,  # both found
        -1.453,  # words replaced
        -2.007,  # old words unmatched
        SAME_ITEM,  # same item
        OTHER_ITEM,  # other item
        0.0,  # same name
        0.632,  # name letters
        0.0,  # same words
        -0.521,  # opposed
        0.161,  # title alone
        0.131,  # title of a number
        0.472,  # name alone
        0.827,  # information alone
        -1.182,  # place elsewhere
        -0.374,  # new place elsewhere
        2.138,  # same text
        3.249,  # text found
        5.274,  # text shared
        -1.241,  # other text
        TWIN,  # its twin ends alike
        2.168,  # says the same
        0.385,  # says the same alone
        0.0,  # own words alike
        1.464,  # no own word missing
        1.311,  # place moved there
        0.0,  # place moved elsewhere
        1.553,  # number carried
        -0.006,  # number not carried
        0.712,  # slug carried
        -0.211,  # slug not carried
        3.193,  # name carried
        -0.293,  # name not carried
        4.5,  # rewritten as others
        1.509,  # text carried
        0.0,  # text not carried
        0.361,  # number alone
        -0.7,  # taken by another
        0.0,  # taken where pages merge
        0.0,  # taken by a variant
    ),
    none=(
        2.919,  # always
        -1.612,  # words known
        1.534,  # share of its place that is found
    ),
    lost=(
        2.766,  # taken by another
        -2.556,  # taken where pages merge
        -0.679,  # taken by a variant
    ),
    sharper=1.75,
)
"""With what the plain cases teach: what scoring.SECOND names."""
