"""Fits the weights of upright_ledger.core.matching.choice_model on made-up site moves, and prints
them.

    python benchmarks/fit_matching.py [FIRST_SEED LAST_SEED] [DIR…]

The seeds are others than those that benchmarks/matching.py measures on. DIR: moves that happened,
each with moves.csv (old, title, new) and pages.csv (url, title).
"""

from __future__ import annotations

import sys
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import matching
import numpy as np
from moves.made import make_move
from moves.page_texts import with_texts
from moves.site_move import SiteMove
from moves.told import read_move
from scipy.optimize import minimize

from upright_ledger.core.matching import choice_model, learned_features, scoring
from upright_ledger.core.matching.choice_model import OTHER_ITEM, SAME_ITEM, TWIN, Choice, nested

RISING = {
    "same slug", "slug words", "slug letters", "same title", "title words", "old words found",
    "new words found", "shared information",
    "context", "same number", "same year", "both found", "place moved there", "number carried",
    "slug carried", "number alone", "taken where pages merge", "same name", "name letters",
    "same words", "title alone", "title of a number", "information alone", "name carried",
    "rewritten as others", "same text", "text found", "text shared", "text carried",
}  # fmt: skip
FALLING = {
    "old words missing",
    "new words missing",
    "other number",
    "other year",
    "place moved elsewhere",
    "number not carried",
    "slug not carried",
    "words replaced",
    "old words unmatched",
    "taken by another",
    "opposed",
    "place elsewhere",
    "new place elsewhere",
    "name not carried",
    "other text",
    "text not carried",
}
FIXED = {
    "taken by another": (-0.7, -0.7),
    "taken where pages merge": (0.0, 0.0),
    "its twin ends alike": (TWIN, TWIN),
    "same item": (SAME_ITEM, SAME_ITEM),
    "other item": (OTHER_ITEM, OTHER_ITEM),
}
"""Made-up moves are one to one more strictly than those that happen, on which other old pages say
little of which candidate is right.
"""
SET_BY_HAND = {
    "same item": "SAME_ITEM",
    "other item": "OTHER_ITEM",
    "its twin ends alike": "TWIN",
}
PENALTY = 0.00005
REAL = 0.3

Case = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]


def truth_of(move: SiteMove, old: np.ndarray, new: np.ndarray) -> np.ndarray:
    return np.array(
        [
            move.new[j].name in move.truth[move.old[i].name]
            for i, j in zip(old.tolist(), new.tolist(), strict=True)
        ],
        float,
    )


def fit(
    cases: Sequence[Case],
    names: tuple[str, ...],
    lost: tuple[str, ...] = (),
    *,
    made: int,
) -> Choice:
    """Fit a choice on (old page of each pair, figures, page figures, truth) of several moves, the
    first `made` of them made up. lost: the last of the names, which speak for none.
    """
    shift, olds, figures, pages, right = 0, [], [], [], []
    for old, x, page, y in cases:
        olds.append(old + shift)
        shift += len(page)
        figures.append(x)
        pages.append(page)
        right.append(y)
    old, x, page, y = (
        np.concatenate(olds),
        np.concatenate(figures).astype(float),
        np.concatenate(pages).astype(float),
        np.concatenate(right),
    )
    weight = np.repeat(_weights([len(c[2]) for c in cases], made), [len(c[2]) for c in cases])
    some = np.bincount(old, weights=y, minlength=len(page)) > 0
    width, last = x.shape[1], x[:, x.shape[1] - len(lost) :]

    def loss(w: np.ndarray) -> tuple[float, np.ndarray]:
        of_pairs, of_lost, of_pages = np.split(w, [width, width + len(lost)])
        adds = last @ of_lost
        within, any_one, added = nested(old, x @ of_pairs, page @ of_pages, adds)
        mine = np.bincount(old, weights=within * y, minlength=len(page))
        good = np.maximum(np.where(some, any_one * mine, 1.0 - any_one), 1e-9)
        # d log(good): by what a page's pairs and none are worth, and by each pair's chance.
        pull_none = np.where(some, any_one - 1.0, any_one)
        pull = np.where(some[old], within * y / np.maximum(mine, 1e-9)[old] - within, 0.0)
        pull -= pull_none[old] * within * (1.0 - (adds - added[old]))
        by_chance = np.stack(
            [np.bincount(old, weights=within * c, minlength=len(page)) for c in last.T], axis=1
        ) if lost else np.zeros((len(page), 0))  # fmt: skip
        value = -(weight * np.log(good)).mean() + PENALTY * float(w @ w)
        slopes = (
            x.T @ (pull * weight[old]),
            by_chance.T @ (pull_none * weight),
            page.T @ (pull_none * weight),
        )
        return value, -np.concatenate(slopes) / len(page) + 2 * PENALTY * w

    bounds = [FIXED.get(n, _sign(n)) for n in names]
    bounds += [(None, None)] * (len(lost) + page.shape[1])
    start = np.array([low if low == high and low is not None else 0.0 for low, high in bounds])
    found = minimize(
        loss, start, jac=True, method="L-BFGS-B", bounds=bounds, options={"maxiter": 400}
    )
    print(f"# loss {found.fun:.4f} over {len(page):,} pages")
    of_pairs, of_lost, of_pages = np.split(np.round(found.x, 3), [width, width + len(lost)])
    return Choice(tuple(of_pairs.tolist()), tuple(of_pages.tolist()), tuple(of_lost.tolist()))


NEARLY = 1.015


def settled(alone: Choice, taught: Choice, moves: Sequence[SiteMove]) -> Choice:
    """The taught choice, with none as much less likely as makes confidence tell what is right (by
    its logarithmic loss) on moves that it was not fitted on. The fit alone says too little. Of
    what is nearly the best the most modest: errors of a site come in groups.
    """
    losses: dict[float, float] = {}
    for less in np.arange(0.0, 1.05, 0.1).round(1).tolist():
        none = (round(taught.none[0] - less, 3), *taught.none[1:])
        choice_model.FIRST, choice_model.SECOND = alone, replace(taught, none=none)
        told = [pair for move in moves for pair in matching.measure(move)[1]]
        said, right = (np.array(x, float) for x in zip(*told, strict=True))
        said = np.clip(said, 1e-6, 1 - 1e-6)
        losses[less] = -float((right * np.log(said) + (1 - right) * np.log(1 - said)).mean())
    best = next(n for n, loss in losses.items() if loss <= NEARLY * min(losses.values()))
    print(f"# loss {losses[0.0]:.5f}; with none less likely by {best}: {losses[best]:.5f}")
    return replace(taught, none=(round(taught.none[0] - best, 3), *taught.none[1:]))


def _sign(name: str) -> tuple[float | None, float | None]:
    return (0, None) if name in RISING else (None, 0) if name in FALLING else (None, None)


def _weights(pages: list[int], made: int) -> np.ndarray:
    """What a page of each move counts for: those of moves that happened have REAL of the whole,
    each move as much as the root of its pages.
    """
    many = np.array(pages, float)
    each = np.ones(len(many))
    if made < len(many):
        roots = np.sqrt(many[made:])
        each[made:] = REAL * roots / roots.sum() / many[made:]
        each[:made] = (1 - REAL) / many[:made].sum()
        each *= many.sum()
    return each


def main() -> None:
    first, last = (int(a) for a in sys.argv[1:3]) if len(sys.argv) > 2 else (1000, 1060)
    moves = [make_move(seed, _size(seed)) for seed in range(first, last)]
    moves += [
        with_texts(make_move(s, _size(s)), s) for s in range(last, last + (last - first) // 3)
    ]
    made = len(moves)
    moves += [read_move(Path(folder)) for folder in sys.argv[3:]]
    looks = [scoring.first_look(m.old, m.new, {}) for m in moves]
    truths = [truth_of(m, seen.old, seen.new) for m, (_, seen) in zip(moves, looks, strict=True)]
    alone = fit(
        [
            (seen.old, seen.figures, scoring.page_figures(sides, None), y)
            for (sides, seen), y in zip(looks, truths, strict=True)
        ],
        scoring.FIRST,
        made=made,
    )
    cases = []
    for (sides, seen), y in zip(looks, truths, strict=True):
        chances = alone.chances(seen.old, scoring.page_figures(sides, None), seen.figures)
        learned, rate = learned_features.learn(
            sides,
            seen,
            chances,
            scoring.seeds_of(seen, chances, {}, len(sides.old), len(sides.new)),
        )
        cases.append(
            (seen.old, np.hstack([seen.figures, learned]), scoring.page_figures(sides, rate), y)
        )
    taught = fit(cases, scoring.SECOND, learned_features.LOST, made=made)
    after = last + (last - first) // 3
    taught = settled(alone, taught, [make_move(s, _size(s)) for s in range(after, after + 20)])
    for name, choice, names in (
        ("FIRST", alone, scoring.FIRST),
        ("SECOND", taught, scoring.SECOND),
    ):
        print(f"{name} = Choice(\n    weights=(")
        for value, figure in zip(choice.weights, names, strict=True):
            print(f"        {SET_BY_HAND.get(figure, value)},  # {figure}")
        print("    ),\n    none=(")
        for value, figure in zip(choice.none, scoring.PAGE_FIGURES, strict=True):
            print(f"        {value},  # {figure}")
        print("    ),")
        if choice.lost:
            print("    lost=(")
            for value, figure in zip(choice.lost, learned_features.LOST, strict=True):
                print(f"        {value},  # {figure}")
            print("    ),")
        print(")")


def _size(seed: int) -> int:
    return 300 + 131 * (seed % 11)


if __name__ == "__main__":
    main()
