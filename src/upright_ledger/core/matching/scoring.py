"""The engine: pages of two sites in, the chance of every plausible pair out."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from upright_ledger.core.matching import choice_model, learned_features, pair_features
from upright_ledger.core.matching.candidates import candidates
from upright_ledger.core.matching.pages.page_words import MatchPage
from upright_ledger.core.matching.pages.sides import Floats, Sides, read_sides
from upright_ledger.core.matching.pair_features import Likeness, look_at
from upright_ledger.core.matching.sparse import Indices
from upright_ledger.core.url.language import OTHER, may_match

SEED_CHANCE = 0.7

PAGE_FIGURES = ("always", "words known", "share of its place that is found")
FIRST, SECOND = pair_features.FEATURES, pair_features.FEATURES + learned_features.FEATURES


@dataclass(slots=True)
class Weighed:
    """All pairs that were looked at, in order of old and new page, with what was said of them and
    their chances. learned, moved: see `learned_features.Learned`.
    """

    sides: Sides
    seen: Likeness
    learned: npt.NDArray[np.float32]
    moved: npt.NDArray[np.int32]
    chances: Floats


def first_look(
    old: Sequence[MatchPage], new: Sequence[MatchPage], taught: dict[int, int]
) -> tuple[Sides, Likeness]:
    """The candidates of each old page and their figures. taught: old page → the new page it is
    known to have moved to.
    """
    sides = read_sides(old, new, taught)
    i, j = candidates(sides)
    if taught:
        width = len(new)
        pairs = np.union1d(i * width + j, [a * width + b for a, b in taught.items()])
        i, j = pairs // width, pairs % width
    kept = _same_language(old, new, i, j)
    return sides, look_at(sides, i[kept], j[kept])


def page_figures(sides: Sides, rate: npt.NDArray[np.float32] | None) -> npt.NDArray[np.float32]:
    """Figures of the old pages, for the chance that they have no successor: one column a name in
    PAGE_FIGURES.
    """
    out = np.zeros((len(sides.old), len(PAGE_FIGURES)), np.float32)
    out[:, 0] = 1.0
    out[:, 1] = np.log1p(sides.old.totals["words"])
    if rate is not None:
        out[:, 2] = rate
    return out


def seeds_of(
    seen: Likeness, chances: Floats, taught: dict[int, int], olds: int, news: int
) -> npt.NDArray[np.bool_]:
    """Pairs that may teach: likely ones that are the best on both sides, and those that are
    known.
    """
    best_old, best_new = np.zeros(olds), np.zeros(news)
    np.maximum.at(best_old, seen.old, chances)
    np.maximum.at(best_new, seen.new, chances)
    seeds = (
        (chances >= SEED_CHANCE) & (chances >= best_old[seen.old]) & (chances >= best_new[seen.new])
    )
    if taught:
        known = np.full(olds, -1)
        known[list(taught)] = list(taught.values())
        seeds &= known[seen.old] < 0
        seeds |= known[seen.old] == seen.new
    return seeds


def weigh(old: Sequence[MatchPage], new: Sequence[MatchPage], taught: dict[int, int]) -> Weighed:
    """Weigh every old page against the new ones: once by itself, then with what the plain cases
    teach.
    """
    sides, seen = first_look(old, new, taught)
    chances = choice_model.FIRST.chances(seen.old, page_figures(sides, None), seen.figures)
    seeds = seeds_of(seen, chances, taught, len(old), len(new))
    learned, rate, moved = learned_features.learn(sides, seen, chances, seeds)
    return Weighed(
        sides,
        seen,
        learned,
        moved,
        choice_model.SECOND.chances(seen.old, page_figures(sides, rate), seen.figures, learned),
    )


def _same_language(
    old: Sequence[MatchPage], new: Sequence[MatchPage], i: Indices, j: Indices
) -> npt.NDArray[np.bool_]:
    """Pairs but those whose languages keep them apart."""
    ours, theirs = [p.language for p in old], [p.language for p in new]
    names = sorted({*ours, *theirs})
    number = {name: n for n, name in enumerate(names)}
    left, right = frozenset(ours) - {"", OTHER}, frozenset(theirs) - {"", OTHER}
    allowed = np.array([[may_match(a, b, left, right) for b in names] for a in names])
    return np.asarray(
        allowed[np.array([number[n] for n in ours])[i], np.array([number[n] for n in theirs])[j]]
    )
